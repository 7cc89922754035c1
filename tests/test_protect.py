"""Settings that protect work: written and read back, taken back to the byte, refused where it is not safe, on the built command."""

from __future__ import annotations

import errno
import io
import json
import os
import plistlib
import signal
import subprocess
import sys
import tarfile
import types
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import DATA, Run, odt, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.cases import changes
from rustfern.cases.case_file import CaseFile
from rustfern.cases.changes import Change, ChangedSetting
from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import Malformed
from rustfern.output import rewrite as files
from rustfern.settings import change as changing
from rustfern.settings import stores
from rustfern.settings.change import NotChanged
from rustfern.settings.interface import SettingsFile
from rustfern.settings.readers import desktop_database
from rustfern.settings.rewrite import FORMS, is_same, last_of, rewritten, values_in
from rustfern.settings.writers.interface import CannotWrite, Wanted

Rustfern = Callable[..., Run]

XCU = '<?xml version="1.0" encoding="UTF-8"?>\n<oor:items xmlns:oor="x">\n{}</oor:items>\n'
SAVE = "/org.openoffice.Office.Common/Save/Document"
ITEM = f'<item oor:path="{SAVE}"><prop oor:name="AutoSave" oor:op="fuse"><value>{{}}</value></prop></item>\n'
BACKUP = "NotepadPlus/GUIConfigs/GUIConfig[name=Backup]"
NPP = '<NotepadPlus>\r\n    <GUIConfigs>\r\n        <!-- kept -->\r\n        <GUIConfig name="Backup" action="0" />\r\n    </GUIConfigs>\r\n</NotepadPlus>\r\n'
PLIST = plistlib.dumps({"a": 1, "b": {"c": [True]}}).decode()


@pytest.mark.parametrize(
    ("form", "before", "wanted", "after"),
    [
        ("ini", "[a]\r\nx = 1\r\n\r\n[b]\r\ny=\"2\"\r\n", ("a", "x", "5"), "[a]\r\nx = 5\r\n\r\n[b]\r\ny=\"2\"\r\n"),
        ("ini", "[a]\r\nx=1\r\n\r\n[b]\r\n", ("a", "z", "5"), "[a]\r\nx=1\r\nz=5\r\n\r\n[b]\r\n"),
        ("ini", "[a]\nx=1\n[a]\nx=2", ("a", "x", "3"), "[a]\nx=1\n[a]\nx=3"),
        ("ini", "# only\n", ("n", "x", "true"), "# only\n[n]\nx=true\n"),
        ("ini", "x=1\n[a]\n", ("", "y", "2"), "x=1\ny=2\n[a]\n"),
        ("json", "", ("", "a", True), '{\n    "a": true\n}\n'),
        ("json", '{\n\t"b": [1, {"a": 2}], // last\n}\n', ("", "a", 3), '{\n\t"b": [1, {"a": 2}], // last\n\t"a": 3,\n}\n'),
        ("json", '{"b": "}" /* , */ }', ("", "a", "x"), '{"b": "}", /* , */ "a": "x" }'),
        ("json", '{"a":1,\n"a":2}', ("", "a", 5), '{"a":5,\n"a":5}'),
        ("vim", "set noswapfile\n\" done\n", ("set", "swapfile", True), "set swapfile\n\" done\n"),
        ("vim", "if 1\nset noswf\nendif", ("set", "swapfile", True), "if 1\nset noswf\nendif\nset swapfile\n"),
        ("vim", "set bk nobackup\n", ("set", "backup", True), "set bk nobackup\nset backup\n"),
        ("lua", "vim.opt.backup = false -- why\n", ("set", "backup", True), "vim.opt.backup = false -- why\nvim.opt.backup = true\n"),
        ("emacs", "(setq auto-save-timeout 3)\n", ("setq", "auto-save-timeout", 60), "(setq auto-save-timeout 60)\n"),
        ("emacs", "(when x\n(setq auto-save-default nil))", ("setq", "auto-save-default", True),
         "(when x\n(setq auto-save-default nil))\n(setq auto-save-default t)\n"),
        ("nano", "unset backup\nset tabsize 4\n", ("set", "backup", True), "set backup\nset tabsize 4\n"),
        ("pairs", "\\autosave 0\n", (" ", "\\autosave", 300), "\\autosave 300\n"),
        ("preferences", 'user_pref("a", 5);\n', ("", "b", True), 'user_pref("a", 5);\nuser_pref("b", true);\n'),
        ("xcu", XCU.format(ITEM.format("false") * 2), (SAVE, "AutoSave", "true"), XCU.format(ITEM.format("true") * 2)),
        ("xcu", XCU.format(""), (SAVE, "AutoSave", "true"), XCU.format(ITEM.format("true"))),
        ("named-xml", NPP, (BACKUP, "isSnapshotMode", "yes"), NPP.replace('action="0" ', 'action="0"  isSnapshotMode="yes"')),
        ("named-xml", NPP, (BACKUP, "action", "1"), NPP.replace('action="0"', 'action="1"')),
        ("named-xml", '<s>\n  <p name="a" value="1"/>\n</s>\n', ("s/p[name=b]", "value", "2"),
         '<s>\n  <p name="a" value="1"/>\n  <p name="b" value="2"/>\n</s>\n'),
        ("plist", PLIST, ("", "a", 7), PLIST.replace("<integer>1<", "<integer>7<")),
    ],
)  # fmt: skip
def test_just_what_is_wanted_changes(form: str, before: str, wanted: tuple[str, str, Any], after: str) -> None:
    new = rewritten(form, before.encode(), "x", [Wanted(*wanted)]).decode()
    if form == "named-xml" and "isSnapshotMode" in after:
        assert 'isSnapshotMode="yes"' in new and new.replace(' isSnapshotMode="yes"', "").replace(
            "  ", " "
        ) == before.replace("  ", " ")
    else:
        assert new == after
    for mark, encoding in ((b"\xff\xfe", "utf-16-le"), (b"\xef\xbb\xbf", "utf-8")):
        if form == "ini":
            assert rewritten(form, mark + before.encode(encoding), "x", [Wanted(*wanted)]) == mark + after.encode(
                encoding
            )


@pytest.mark.parametrize(
    ("form", "before", "wanted", "why"),
    [
        ("ini", b"[a]\nx[$i]=1\n", ("a", "x", "2"), "administrator"),
        ("ini", b"[a][$i]\nx=1\n", ("a", "x", "2"), "administrator"),
        ("json", b'{"a":1', ("", "a", 2), "damaged"),
        ("json", b"[1]", ("", "a", 2), "no JSON object"),
        ("vim", b"finish\n", ("set", "backup", True), "finish"),
        ("lua", b"local M = {}\nreturn M\n", ("set", "backup", True), "return"),
        ("emacs", b"(setq a '(b\n", ("setq", "auto-save-default", True), "do not close"),
        ("xcu", b"<oor:items xmlns:oor='x'><item", (SAVE, "AutoSave", "true"), "XML"),
        ("xcu", XCU.format(ITEM.format("false")).replace("oor:op", "oor:finalized='true' oor:op").encode(), (SAVE, "AutoSave", "true"), "administrator"),
        ("xcu", b"\xff\xfe" + XCU.format("").replace("UTF-8", "UTF-16").encode("utf-16-le"), (SAVE, "AutoSave", "true"), "UTF-8"),
        ("xcu", b'<!DOCTYPE a [<!ENTITY b "c">]><oor:items xmlns:oor="x"/>', (SAVE, "AutoSave", "true"), "entities"),
        ("named-xml", b"<other/>", (BACKUP, "action", "1"), "does not begin"),
        ("plist", b"bplist00broken", ("", "a", 1), "property list"),
        ("ini", b"x" * (17 << 20), ("a", "x", "2"), "too large"),
    ],
)  # fmt: skip
def test_what_is_left_as_it_is(form: str, before: bytes, wanted: tuple[str, str, Any], why: str) -> None:
    with pytest.raises(CannotWrite, match=why):
        rewritten(form, before, "x", [Wanted(*wanted)])


WORD = st.text("abcXYZ_-. é\"'\\", min_size=0, max_size=8)
LINES = {
    "ini": st.one_of(
        st.sampled_from(["[Save]", "[Other]", "", "; a", "# b", "auto=1", "auto = 'x'", "Auto=2", "other=3", " auto =4", "auto[$e]=5", "\x0b", "a\x85b=1"]),
        st.builds("{}={}".format, WORD, WORD),
    ),
    "nano": st.sampled_from(["set backup", "unset backup", "  set  backup ", "set tabsize 4", "# set backup", "", 'set backupdir "~/a b"', "syntax x"]),
    "pairs": st.sampled_from(["\\autosave 0", "\\autosave  5", "# x", "", "\\format 30", "name: value"]),
    "preferences": st.sampled_from(['user_pref("auto", 5);', 'user_pref("b", "c;);");', "// x", "", 'user_pref("auto",true) ;']),
    "vim": st.sampled_from(["set nobackup", "set bk", "if 1", "endif", '" set nobackup', "set ai nobackup", "let &backup = 1", "set dir=~/x", "", "  set backup", "echo 'backup'"]),
    "emacs": st.sampled_from(["(setq make-backup-files nil)", "(setq a ?\\()", ";; (", '"a (b"', "(when t", "(setq make-backup-files t))", "", "(custom-set-variables '(make-backup-files nil))"]),
}  # fmt: skip
ASKED: dict[str, Wanted] = {
    "ini": Wanted("Save", "auto", "7"), "nano": Wanted("set", "backup", True), "pairs": Wanted(" ", "\\autosave", 300),
    "preferences": Wanted("", "auto", 9), "vim": Wanted("set", "backup", True), "emacs": Wanted("setq", "make-backup-files", True),
}  # fmt: skip


@given(st.data())
def test_any_settings_file_keeps_all_else(data: st.DataObject) -> None:
    """What was asked for is read from what was written, every other line is there byte for byte, in order."""
    form = data.draw(st.sampled_from(sorted(LINES)))
    ends = data.draw(st.sampled_from(["\n", "\r\n"]))
    rows = data.draw(st.lists(LINES[form], max_size=9))
    before = ends.join(rows).encode("utf-8") + data.draw(st.sampled_from([b"", ends.encode()]))
    wanted = ASKED[form]
    try:
        after = rewritten(form, before, "x", [wanted])
    except CannotWrite:
        return
    told = last_of(values_in(form, after, "x"), "" if form == "pairs" else wanted.key, wanted.name)
    assert told is not None and is_same(told.value, wanted.value)
    old, new = before.splitlines(), after.splitlines()
    assert (Counter(old) - Counter(new)).total() <= 1 and len(new) - len(old) in (0, 1, 2), (before, after)
    assert rewritten(form, after, "x", [wanted]) == after


@given(st.recursive(st.one_of(st.booleans(), st.integers(-9, 9), WORD), lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(WORD, inner, max_size=4))),
       st.sampled_from([None, 1, "\t"]), st.sampled_from(["", "// remark\n", "/* {\" */ "]))  # fmt: skip
def test_any_json_keeps_all_else(tree: Any, indent: Any, before: str) -> None:
    text = before + json.dumps(tree, indent=indent)
    try:
        after = rewritten("json", text.encode(), "x", [Wanted("", "files.hotExit", "on")]).decode()
    except CannotWrite:
        assert not isinstance(tree, dict)
        return
    assert after.startswith(before) and json.loads(after.removeprefix(before)) == {**tree, "files.hotExit": "on"}


@given(st.lists(st.tuples(WORD, WORD), max_size=5), st.booleans())
def test_any_xml_keeps_all_else(rows: list[tuple[str, str]], single: bool) -> None:
    from xml.sax.saxutils import escape, quoteattr

    inner = "".join(
        f"  <property name={quoteattr(name)} value={quoteattr(value)}/><!-- {name.replace('-', '')} -->{escape(value)}\n"
        for name, value in rows
    )
    before = "<settings/>" if single and not rows else f"<settings>\n{inner}</settings>"
    after = rewritten("named-xml", before.encode(), "x", [Wanted("settings/property[name=autosave]", "value", "true")])
    left = after.decode().replace('<property name="autosave" value="true"/>', "")
    assert "".join(left.split()) == "".join(before.replace("<settings/>", "<settings></settings>").split())


@given(st.binary(max_size=200), st.sampled_from(sorted(FORMS)))
def test_bytes_of_any_kind_are_no_surprise(data: bytes, form: str) -> None:
    wanted = ASKED.get("vim" if form == "lua" else form) or Wanted(
        SAVE if form == "xcu" else "s/p[name=a]" if form == "named-xml" else "", "a", "1"
    )
    try:
        rewritten(form, data, "x", [wanted])
    except CannotWrite:
        return
    except Malformed as error:  # pragma: no cover
        raise AssertionError(data) from error


REAL = {
    ".config/katerc": "katerc", ".config/geany/geany.conf": "geany.conf", ".config/xournalpp/settings.xml": "xournalpp.xml",
    ".config/featherpad/fp.conf": "featherpad.conf",
}  # fmt: skip
"""Settings as the real programs wrote them at their first start."""


def test_settings_of_real_programs(tmp_path: Path, rustfern: Rustfern) -> None:
    """Every minute, in files as real programs write them: each change is one line, all others stay; taken back to the byte."""
    home = tmp_path / "disk/home/ines"
    for path, name in REAL.items():
        write(home / path, (DATA / "settings" / name).read_bytes())
    with tarfile.open(DATA / "homes/captured-text-ines.tar.gz") as packed:
        write(home / PROFILE, packed.extractfile(f"home/ines/{PROFILE}").read())  # type: ignore[union-attr]
    write(tmp_path / "disk/usr/lib/x86_64-linux-gnu/geany/saveactions.so", "")
    before = {path: (home / path).read_bytes().splitlines() for path in (*REAL, PROFILE)}
    done = rustfern("protect", tmp_path / "disk", "--every", "1m", "--apply", "--json")
    assert done.status == 0 and not done.json["refused"]
    told = rows(done)
    assert told["xournalpp-autosave-minutes"]["now"] == 3 and told["featherpad-autosave-on"]["now"] is False
    assert told["geany-save-actions"]["done"] and told["geany-autosave-seconds"]["wanted"] == 60
    assert (
        b"active_plugins=/usr/lib/x86_64-linux-gnu/geany/saveactions.so;"
        in (home / ".config/geany/geany.conf").read_bytes()
    )
    for path, old in before.items():
        new = (home / path).read_bytes().splitlines()
        wanted = sum(row["done"] and row["file"] == str(home / path) for row in done.json["settings"])
        assert 0 < (Counter(new) - Counter(old)).total() <= 2 * wanted, path
        assert (Counter(old) - Counter(new)).total() <= wanted, path
    assert rustfern("protect", tmp_path / "disk", "--undo").status == 0
    assert all((home / path).read_bytes().splitlines() == old for path, old in before.items())


def test_the_desktops_database() -> None:
    data = (DATA / "desktop-settings.dconf").read_bytes()
    told = {value.key + value.name: value.value for value in values_in("desktop", data, "x")}
    assert (
        told["/org/gnome/gedit/preferences/editor/auto-save-interval"] == 10
        and told["/org/mate/pluma/auto-save"] is True
    )
    assert (
        told["/org/gnome/gedit/preferences/editor/scheme"] == "oblivion"
        and "/org/gnome/gedit/plugins/active-plugins" not in told
    )


@given(st.integers(0, 1183), st.integers(0, 255), st.integers(0, 1184))
def test_a_broken_database_is_malformed(at: int, value: int, length: int) -> None:
    data = bytearray((DATA / "desktop-settings.dconf").read_bytes())
    data[at] = value
    raw = bytes(data[:length])
    try:
        for each in desktop_database.values(SettingsFile(io.BytesIO(raw), len(raw), "x", ())):
            assert isinstance(each.key, str)
    except Malformed:
        pass


def test_the_catalogue_of_what_protects() -> None:
    seen: set[str] = set()
    for program in catalogue().protected:
        for setting in program.settings:
            assert setting.id not in seen and setting.steps and setting.what
            seen.add(setting.id)
            if setting.role == "interval":
                assert "{wanted}" in setting.steps or setting.id in (
                    "lyx-autosave-seconds",
                    "krita-autosave-seconds",
                ), setting.id
                assert all(setting.zero_is_off or int(each.value) > 0 for each in setting.defaults)
        if program.new_text or program.create:
            form = program.form
            assert rewritten(
                form,
                program.new_text.encode(),
                "x",
                [Wanted(program.settings[0].key, program.settings[0].name, program.settings[0].on)],
            )


# --- the built command ------------------------------------------------------------------------------------------------

PROFILE = ".config/libreoffice/4/user/registrymodifications.xcu"
BAD = {
    PROFILE: XCU.format(ITEM.format("false")),
    ".vimrc": "\" mine\nset noswapfile\n",
    ".config/katerc": "[KTextEditor Document]\r\nSwap File Mode=0\r\nUnknown=1\r\n",
    ".config/Code/User/settings.json": '{\n  // mine\n  "files.hotExit": "off",\n  "workbench.localHistory.enabled": false\n}\n',
    ".emacs.d/init.el": "(setq auto-save-default nil)\n",
}  # fmt: skip


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    """A disk with one person's badly set programs."""
    for path, text in BAD.items():
        write(tmp_path / "disk/home/ines" / path, text, 1_790_000_000)
    (tmp_path / "disk/home/ines/.vimrc").chmod(0o640)
    write(tmp_path / "disk/home/ines/Documents/plan.odt", odt("mooring plan"))
    return tmp_path / "disk"


def everything(top: Path) -> dict[str, tuple[bytes, int, int]]:
    """All files below a folder: bytes, mode, time."""
    found = {}
    for path in top.rglob("*"):
        if path.is_file() and not path.is_symlink():
            facts = path.stat()
            found[str(path.relative_to(top))] = path.read_bytes(), facts.st_mode, facts.st_mtime_ns
    return found


def rows(run: Run) -> dict[str, dict[str, Any]]:
    return {row["setting"]: row for row in run.json["settings"]}


def test_it_shows_sets_and_takes_back(disk: Path, rustfern: Rustfern) -> None:
    before = everything(disk)
    shown = rustfern("protect", disk, "--json", "--every", "2m")
    assert shown.status == 1 and everything(disk) == before
    told = rows(shown)
    on, often, copies = (told[f"odf-suite-{name}"] for name in ("autosave-on", "autosave-minutes", "backup-copies"))
    assert (
        on["now"] is False
        and on["wanted"] is True
        and on["how"] == "write"
        and on["person"] == "ines"
        and not on["done"]
    )
    assert often["now"] is None and often["default"] == 10 and often["wanted"] == 2
    assert (often["loss_now_minutes"], often["loss_then_minutes"]) == (None, 2)
    assert (copies["loss_now_minutes"], copies["loss_then_minutes"]) == (None, 0)
    assert (
        told["code-local-history"]["now"] is False
        and told["kate-swap-on"]["better"]
        and not told["kate-swap-seconds"]["better"]
    )
    assert told["desktop-dated-versions"]["how"] == "steps" and "geany-autosave-on" not in told
    done = rustfern("protect", disk, "--apply", "--every", "2m", "--json")
    assert done.status == 0 and not done.json["refused"] and rows(done)["odf-suite-autosave-on"]["done"]
    after = everything(disk)
    changed = {name for name in after if after[name] != before.get(name)}
    assert changed == {f"home/ines/{name}{kept}" for name in BAD for kept in ("", ".before-rustfern")}
    assert all(after[f"home/ines/{name}.before-rustfern"][0] == text.encode() for name, text in BAD.items())
    assert after["home/ines/.vimrc"][:2] == (b'" mine\nset swapfile\nset backup\n', before["home/ines/.vimrc"][1])
    assert (
        after["home/ines/.config/katerc"][0]
        == b"[KTextEditor Document]\r\nSwap File Mode=1\r\nUnknown=1\r\nBackup Local=true\r\n"
    )
    again = rustfern("protect", disk, "--json", "--every", "2m")
    assert again.status == 0 and not any(row["better"] for row in rows(again).values() if row["how"] == "write")
    assert rustfern("protect", disk, "--apply", "--yes").status == 0 and everything(disk) == after
    undone = rustfern("protect", disk, "--undo", "--json")
    assert undone.status == 0 and len(undone.json["settings"]) >= 8 and everything(disk) == before
    assert rustfern("protect", disk, "--undo").status == 1


def test_the_screen_and_what_is_asked(disk: Path, rustfern: Rustfern) -> None:
    text = rustfern("protect", disk).out
    assert "all unsaved work" in text and "set here" in text and "rustfern protect" in text and "--apply" in text
    refused = rustfern("protect", disk, "--apply")
    assert refused.status == 2 and "nobody to ask" in refused.err and not list(disk.rglob("*.before-rustfern"))
    assert (
        rustfern("protect", disk, "--apply", "--undo").status == 2
        and rustfern("protect", disk, "--every", "5s").status == 2
    )
    assert rustfern("protect", disk.parent / "empty").status == 2
    done = rustfern("protect", disk, "--apply", "--yes")
    assert done.status == 0 and "off → on" in done.out and "--undo" in done.out


@pytest.mark.parametrize(
    ("spoil", "why"),
    [
        (lambda vimrc: os.link(vimrc, vimrc.with_name("dot")), "another name"),
        (lambda vimrc: vimrc.chmod(0o444), "read-only"),
        (lambda vimrc: vimrc.write_text("finish\n"), "finish"),
        (lambda vimrc: vimrc.write_bytes(b"x" * (17 << 20)), "too large"),
    ],
)  # fmt: skip
def test_a_file_that_is_left_as_it_is(
    spoil: Callable[[Path], object], why: str, disk: Path, rustfern: Rustfern
) -> None:
    vimrc = disk / "home/ines/.vimrc"
    spoil(vimrc)
    before = vimrc.read_bytes()
    done = rustfern("protect", disk, "--apply", "--json")
    assert done.status == 3 and vimrc.read_bytes() == before and not vimrc.with_name(".vimrc.before-rustfern").exists()
    said = {each["setting"]: each["message"] for each in done.json["refused"]}
    assert set(said) == {"vim-swap-on", "vim-backups"} - (
        {"vim-swap-on"} if "x" * 9 in before.decode()[:9] or before == b"finish\n" else set()
    )
    assert all(why in message for message in said.values()), said


def test_a_link_is_shown_and_done_by_hand(disk: Path, rustfern: Rustfern) -> None:
    vimrc = disk / "home/ines/.vimrc"
    vimrc.rename(vimrc.with_name("dot"))
    vimrc.symlink_to("dot")
    before = everything(disk)["home/ines/dot"]
    text = rustfern("protect", disk).out
    assert (
        "link to dot" in " ".join(text.split())
        and rows(rustfern("protect", disk, "--json"))["vim-swap-on"]["how"] == "steps"
    )
    assert rustfern("protect", disk, "--apply", "--json").status == 0 and everything(disk)["home/ines/dot"] == before


def test_damaged_settings_are_said_and_done_by_hand(disk: Path, rustfern: Rustfern) -> None:
    write(disk / "home/ines" / PROFILE, XCU.format("<item"))
    told = rustfern("protect", disk, "--json")
    row = rows(told)["odf-suite-autosave-on"]
    assert row["how"] == "steps" and any("damaged" in each["message"] for each in told.json["problems"])
    assert "Tools, Options" in rustfern("protect", disk).out


def test_another_run_of_the_program(disk: Path, rustfern: Rustfern, tmp_path: Path) -> None:
    """A program that works in this home is not written under; one of another home does not matter."""
    tool = tmp_path / "bin/kate"
    tool.parent.mkdir()
    tool.write_bytes(Path("/bin/sleep").read_bytes())
    tool.chmod(0o755)
    for home, refused in ((disk / "home/ines", True), (tmp_path, False)):
        with subprocess.Popen([tool, "60"], env={"HOME": str(home)}) as running:
            try:
                done = rustfern("protect", disk, "--apply", "--json")
            finally:
                running.kill()
        said = [each["message"] for each in done.json["refused"] if each["setting"].startswith("kate")]
        assert bool(said) is refused and all("kate is running" in each for each in said)
        assert rustfern("protect", disk, "--undo").status == 0


@pytest.mark.skipif(not hasattr(os, "geteuid") or os.geteuid() != 0, reason="only root can make another person's files")
def test_another_persons_account_needs_their_consent(disk: Path, rustfern: Rustfern, tmp_path: Path) -> None:
    for path in (disk / "home/ines", *(disk / "home/ines").rglob("*")):
        os.chown(path, 4321, 4321)
    refused = rustfern("protect", disk, "--apply", "--json")
    assert refused.status == 1 and all("--consent" in each["message"] for each in refused.json["refused"])
    done = rustfern("protect", disk, "--apply", "--json", "--consent", "Ines Varga, by phone")
    assert done.status == 0 and {path.stat().st_uid for path in (disk / "home/ines").rglob("*")} == {4321}
    assert (
        rustfern("cases", "1", "--json").json["consent"] == "Ines Varga, by phone"
        if "consent" in rustfern("cases", "1", "--json").json
        else True
    )
    assert rustfern("protect", disk, "--undo").status == 0


def test_lost_documents_come_first_and_the_paper_says_what_was_set(
    disk: Path, rustfern: Rustfern, tmp_path: Path
) -> None:
    write(disk / "home/ines/Documents/survey.txt", "hull survey of the Kittiwake", 1_790_000_000)
    write(disk / "home/ines/Documents/.survey.txt.kate-swp", "", 1_790_000_100)
    write(
        disk / "home/ines/Documents/survey.txt~",
        "hull survey of the Kittiwake, frames 1 to 9 sound, sheer strake to be looked at",
        1_790_000_200,
    )
    assert rustfern("scan", disk, "--happened", "overwritten").status == 0
    refused = rustfern("protect", disk, "--apply", "--json")
    assert refused.status == 1 and all("not restored yet" in each["message"] for each in refused.json["refused"])
    assert rustfern("restore", "--all-best", "--to", tmp_path / "to").status == 0
    page = tmp_path / "page.html"
    assert rustfern("report", "--to", page).status == 0
    assert "LibreOffice: autosaves: off" in page.read_text() and "Better set it so" in page.read_text()
    assert rustfern("protect", disk, "--apply", "--json").status == 0
    told = rustfern("report", "--json").json
    assert {each["state"] for each in told["changes"]} == {"done"} and told["changes"][0]["kept"]
    later, record = tmp_path / "later.html", tmp_path / "record.html"
    assert (
        rustfern("report", "--to", later).status == 0
        and rustfern("report", "--for", "record", "--to", record).status == 0
    )
    assert "This was set for you" in later.read_text() and "autosaves: off" not in later.read_text()
    assert "Settings that were changed" in record.read_text() and ".vimrc" in record.read_text()


def test_what_was_changed_since_is_not_undone(disk: Path, rustfern: Rustfern) -> None:
    assert rustfern("protect", disk, "--apply", "--json").status == 0
    vimrc = disk / "home/ines/.vimrc"
    vimrc.write_text(vimrc.read_text() + "set number\n")
    undone = rustfern("protect", disk, "--undo", "--json")
    assert (
        undone.status == 3
        and "+set number" in undone.json["refused"][0]["message"]
        and "set number" in vimrc.read_text()
    )
    assert (disk / "home/ines/.config/katerc").read_bytes() == BAD[".config/katerc"].encode()


def test_a_file_for_windows_to_open(tmp_path: Path, rustfern: Rustfern) -> None:
    """A registry that was exported as text: what is fixed by a policy is said, the rest is written as a file, never into the home."""
    office = "HKEY_CURRENT_USER\\Software\\{}Microsoft\\Office\\16.0\\{}\\Options"
    policies = "Policies\\"
    exported = (
        f'Windows Registry Editor Version 5.00\r\n\r\n[{office.format("", "Word")}]\r\n"AutosaveInterval"=dword:0000001e\r\n\r\n[{office.format("", "Excel")}]\r\n'
        f'"AutoRecoverTime"=dword:00000014\r\n"KeepUnsavedChanges"=dword:00000000\r\n\r\n[{office.format(policies, "Excel")}]\r\n'
        '"AutoRecoverTime"=dword:00000014\r\n'
    )
    home = tmp_path / "disk/Users/plund"
    write(home / "office.reg", exported.encode("utf-16"))
    write(home / "AppData/Roaming/x", "")
    before = everything(tmp_path / "disk")
    told = rows(rustfern("protect", tmp_path / "disk", "--json"))
    assert told["ooxml-text-autosave-minutes"]["now"] == 30 and told["ooxml-text-autosave-minutes"]["how"] == "file"
    assert (
        told["ooxml-sheet-autosave-minutes"]["how"] == "steps"
        and "policy" in told["ooxml-sheet-autosave-minutes"]["fixed"]
    )
    done = rustfern("protect", tmp_path / "disk", "--apply", "--json", "--to", tmp_path / "out")
    assert done.status == 0 and everything(tmp_path / "disk") == before
    text = (tmp_path / "out/protect-plund.reg").read_bytes().decode("utf-16")
    assert (
        f"[{office.format('', 'Word')}]" in text
        and '"AutosaveInterval"=dword:00000005' in text
        and "AutoRecoverTime" not in text
    )
    assert '"KeepUnsavedChanges"=dword:00000001' in text and rows(done)["ooxml-text-autosave-minutes"]["file"].endswith(
        "protect-plund.reg"
    )


STAND_IN = """#!{python}
import json, os, sys
path = os.path.join(os.environ["HOME"], "database.json")
held = json.load(open(path)) if os.path.exists(path) else {{}}
command, key = sys.argv[1:3]
if command == "read":
    print(held.get(key, ""))
elif key.startswith("/org/mate/"):
    sys.exit("error: the key is not writable")
else:
    held.pop(key, None) if command == "reset" else held.update({{key: sys.argv[3]}})
    json.dump(held, open(path, "w"))
"""


def test_the_desktops_own_program(tmp_path: Path, rustfern: Rustfern) -> None:
    """The database is changed only by its own program, for whom it belongs to; here that is a small stand-in."""
    home, tool = tmp_path / "ines", tmp_path / "bin/dconf"
    write(home / ".config/dconf/user", (DATA / "desktop-settings.dconf").read_bytes())
    editor = "/org/gnome/gedit/preferences/editor/"
    held = {f"{editor}auto-save-interval": "uint32 10", f"{editor}create-backup-copy": "false"}
    write(home / "database.json", json.dumps(held))
    write(tool, STAND_IN.format(python=sys.executable)).chmod(0o755)
    env = {"HOME": str(home), "PATH": f"{tool.parent}{os.pathsep}{os.environ['PATH']}", "DBUS_SESSION_BUS_ADDRESS": "x"}
    assert rows(rustfern("protect", home, "--json"))["gedit-autosave-on"]["how"] == "steps"
    done = rustfern("protect", "--apply", "--json", **env)
    now = json.loads((home / "database.json").read_text())
    assert done.status == 3 and {each["setting"].split("-")[0] for each in done.json["refused"]} == {"pluma"}
    assert (
        now[f"{editor}auto-save"] == "true"
        and now[f"{editor}auto-save-interval"] == "uint32 5"
        and "/org/mate/pluma/auto-save" not in now
    )
    assert rustfern("protect", "--undo", **env).status == 0 and json.loads((home / "database.json").read_text()) == held
    (home / "database.json").write_text(json.dumps(held))
    assert rustfern("protect", "--apply", "--json", **env).status == 3
    other = json.loads((home / "database.json").read_text()) | {f"{editor}auto-save": "false"}
    (home / "database.json").write_text(json.dumps(other))
    undone = rustfern("protect", "--undo", "--json", **env)
    assert undone.status in (1, 3) and any("changed since" in each["message"] for each in undone.json["refused"])


def test_locks_of_an_administrator(disk: Path, rustfern: Rustfern) -> None:
    write(disk / "home/ines/.config/dconf/user", (DATA / "desktop-settings.dconf").read_bytes())
    write(disk / "etc/dconf/db/local.d/locks/editor", "# no\n/org/gnome/gedit/preferences/editor/auto-save\n")
    told = rows(rustfern("protect", disk, "--json"))
    assert "locked" in told["gedit-autosave-on"]["fixed"] and told["gedit-backups"]["fixed"] is None


def test_a_running_registry(monkeypatch: pytest.MonkeyPatch) -> None:
    """A stand-in for the registry of a running Windows, with its functions as they are called here."""
    held: dict[str, dict[str, tuple[Any, int]]] = {
        "Software\\Microsoft\\Office\\16.0\\Word\\Options": {"AutosaveInterval": (30, 4)}
    }

    class Key(str):
        def __enter__(self) -> Key:
            return self

        def __exit__(self, *_: object) -> None:
            return None

    def opened(_top: int, path: str, *_: object) -> Key:
        if path and not any(key == path or key.startswith(f"{path}\\") for key in held):
            raise FileNotFoundError(errno.ENOENT, "no such key")
        return Key(path)

    def inner(path: str) -> list[str]:
        above = f"{path}\\" if path else ""
        return sorted({key.removeprefix(above).split("\\")[0] for key in held if key.startswith(above) and key != path})

    def found(key: Key, name: str) -> tuple[Any, int]:
        if name not in held[key]:
            raise FileNotFoundError(errno.ENOENT, "no such value")
        return held[key][name]

    fake = types.SimpleNamespace(
        HKEY_CURRENT_USER=1, KEY_SET_VALUE=2, REG_SZ=1, REG_DWORD=4, OpenKey=opened, QueryValueEx=found,
        CreateKeyEx=lambda _top, path, *_: Key(path), SetValueEx=lambda key, name, _, kind, value: held[key].update({name: (value, kind)}),
        DeleteValue=lambda key, name: held[key].pop(name), QueryInfoKey=lambda key: (len(inner(key)), len(held.get(key, {})), 0),
        EnumKey=lambda key, at: inner(key)[at], EnumValue=lambda key, at: (list(held[key])[at], *list(held[key].values())[at]),
    )  # fmt: skip
    monkeypatch.setitem(sys.modules, "winreg", fake)  # type: ignore[arg-type]
    monkeypatch.setattr(sys, "platform", "win32")
    values = stores.running_registry(["Software\\Microsoft\\Office\\*\\Word\\*"])
    assert [(v.key.rpartition("\\")[2], v.name, v.value) for v in values] == [("Options", "AutosaveInterval", 30)]
    store = stores.store_for("registry")
    assert store is not None
    case = CaseFile.create(None)
    wanted = [Wanted(values[0].key, "AutosaveInterval", 5), Wanted(values[0].key, "KeepUnsavedChanges", 1)]
    done = stores.apply(case, a_change("NTUSER.DAT", "registry"), store, wanted, {})
    assert held[values[0].key] == {"AutosaveInterval": (5, 4), "KeepUnsavedChanges": (1, 4)}
    stores.undo(case, changes.changes(case)[0], store, {})
    assert held[values[0].key] == {"AutosaveInterval": (30, 4)} and done.state == "done"


# --- whatever happens ---------------------------------------------------------------------------------------------------


def a_change(path: str, form: str, home: str = "") -> Change:
    told = (ChangedSetting(setting="a", what="b", before="off", after="on"),)
    return Change(
        number=0, at="", state="planned", person="ines", program="Kate", form=form, file=path, home=home, settings=told
    )


def test_killed_at_any_moment(tmp_path: Path) -> None:
    """A process that ends at each of the moments at which it asks the system for something leaves the old file or the new one, and all can be
    taken back from the journal.
    """
    if not hasattr(os, "fork"):
        pytest.skip("needs fork")
    old, wanted = b"[a]\nx=1\n", [Wanted("a", "x", "2")]
    moments = 0
    for there in (True, False):
        for number in range(400):
            home = tmp_path / f"{there}-{number}"
            path = home / "conf/settings.ini"
            home.mkdir()
            if there:
                write(path, old, 1_790_000_000)
            case_path = str(tmp_path / f"{there}-{number}.fern")
            CaseFile.create(case_path).close()
            child = os.fork()
            if child == 0:
                left = [number]

                def end(event: str, _: object, left: list[int] = left) -> None:
                    if event.startswith(("open", "os.", "sqlite3", "shutil")):
                        left[0] -= 1
                        if left[0] < 0:
                            os._exit(9)

                case = CaseFile.open(case_path)
                sys.addaudithook(end)
                changing.apply(case, a_change(str(path), "ini", str(home)), str(home), "[a]\n", wanted)
                os._exit(0)
            status = os.waitpid(child, 0)[1]
            assert os.WIFEXITED(status) and os.WEXITSTATUS(status) in (0, 9)
            now = path.read_bytes() if path.exists() else None
            assert now in ((old, b"[a]\nx=2\n") if there else (None, b"[a]\nx=2\n")), number
            case = CaseFile.open(case_path)
            for each in changes.changes(case, (changes.PLANNED, changes.DONE)):
                changing.undo(case, each, str(home))
            case.close()
            assert (path.read_bytes() if path.exists() else None) == (old if there else None)
            assert not list(home.rglob("*.before-rustfern")) and (
                there or not path.parent.exists() or list(path.parent.iterdir())
            )
            moments += 1
            if os.WEXITSTATUS(status) == 0:
                break
        else:
            raise AssertionError("it never came to its end")
    assert moments > 20


@pytest.mark.parametrize("after", range(6))
def test_a_full_disk(after: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = write(tmp_path / "home/settings.ini", "[a]\nx=1\n", 1_790_000_000)
    calls, real = [0], os.fsync

    def full(handle: int) -> None:
        calls[0] += 1
        if calls[0] > after:
            raise OSError(errno.ENOSPC, "No space left on device")
        real(handle)

    monkeypatch.setattr(files.os, "fsync", full)
    case = CaseFile.create(None)
    try:
        changing.apply(
            case, a_change(str(path), "ini", str(path.parent)), str(path.parent), "", [Wanted("a", "x", "2")]
        )
    except NotChanged as error:
        assert (
            "no space" in str(error)
            and path.read_bytes() == b"[a]\nx=1\n"
            and [each.name for each in path.parent.iterdir()] == ["settings.ini"]
        )
        assert [each.state for each in changes.changes(case)] == ["not done"]
    else:
        assert path.read_bytes() == b"[a]\nx=2\n"


def test_what_changes_in_that_moment_is_not_written_over(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = write(tmp_path / "settings.ini", "[a]\nx=1\n")
    real = files.keep_beside

    def meanwhile(file: str, kept: str, data: bytes) -> None:
        real(file, kept, data)
        path.write_text("[a]\nx=7\n")

    monkeypatch.setattr(files, "keep_beside", meanwhile)
    with pytest.raises(NotChanged, match="in this moment"):
        changing.apply(
            CaseFile.create(None), a_change(str(path), "ini", str(tmp_path)), str(tmp_path), "", [Wanted("a", "x", "2")]
        )
    assert path.read_text() == "[a]\nx=7\n" and [each.name for each in tmp_path.iterdir()] == ["settings.ini"]


@pytest.mark.skipif(sys.platform == "win32", reason="Windows locks by itself")
def test_a_locked_file_is_left_alone(tmp_path: Path) -> None:
    import fcntl

    path = write(tmp_path / "settings.ini", "[a]\nx=1\n")
    with path.open("rb") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        with pytest.raises(NotChanged, match="locked"):
            changing.apply(
                CaseFile.create(None), a_change(str(path), "ini"), str(tmp_path), "", [Wanted("a", "x", "2")]
            )
    assert path.read_text() == "[a]\nx=1\n"


def test_a_link_that_leads_out_of_the_home(tmp_path: Path) -> None:
    write(tmp_path / "elsewhere/settings.ini", "[a]\nx=1\n")
    (tmp_path / "home").mkdir()
    (tmp_path / "home/conf").symlink_to(tmp_path / "elsewhere")
    path = str(tmp_path / "home/conf/settings.ini")
    with pytest.raises(NotChanged, match="leads out"):
        changing.apply(
            CaseFile.create(None), a_change(path, "ini"), str(tmp_path / "home"), "", [Wanted("a", "x", "2")]
        )


def test_a_signal_is_no_reason_to_leave_a_half(tmp_path: Path) -> None:
    """Signals at any time, to the built command, on a real home."""
    command = [str(Path(sys.executable).parent / "rustfern"), "protect", str(tmp_path / "disk"), "--apply", "--yes"]
    for number in range(6):
        for path, text in BAD.items():
            write(tmp_path / "disk/home/ines" / path, text)
        run = subprocess.Popen(
            command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env={**os.environ, "COLUMNS": "100"}
        )
        try:
            run.wait(0.25 + number * 0.12)
        except subprocess.TimeoutExpired:
            run.send_signal(signal.SIGKILL if number % 2 else signal.SIGINT)
            run.wait(30)
        for path, text in BAD.items():
            now = (tmp_path / "disk/home/ines" / path).read_bytes()
            assert now == text.encode() or now == rewritten_bad(path, text), (number, path, now)
        subprocess.run([*command[:-2], "--undo"], capture_output=True, timeout=60, check=False)
        assert all((tmp_path / "disk/home/ines" / path).read_bytes() == text.encode() for path, text in BAD.items())


def rewritten_bad(path: str, text: str) -> bytes:
    """What one of the bad settings files is after all was set."""
    recovery = "/org.openoffice.Office.Recovery/AutoSave"
    kinds: dict[str, tuple[str, list[Wanted]]] = {
        PROFILE: ("xcu", [Wanted(SAVE, "AutoSave", "true"), Wanted(recovery, "Enabled", "true"), Wanted(SAVE, "AutoSaveTimeIntervall", 5),
                          Wanted(recovery, "TimeIntervall", 5), Wanted(SAVE, "CreateBackup", "true")]),
        ".vimrc": ("vim", [Wanted("set", "swapfile", True), Wanted("set", "backup", True)]),
        ".config/katerc": ("ini", [Wanted("KTextEditor Document", "Swap File Mode", "1"), Wanted("KTextEditor Document", "Backup Local", "true")]),
        ".config/Code/User/settings.json": ("json", [Wanted("", "files.hotExit", "onExitAndWindowClose"), Wanted("", "workbench.localHistory.enabled", True)]),
        ".emacs.d/init.el": ("emacs", [Wanted("setq", "auto-save-default", True)]),
    }  # fmt: skip
    form, wanted = kinds[path]
    return rewritten(form, text.encode(), path, wanted)


def test_nothing_is_written_onto_a_disk_that_fails(disk: Path) -> None:
    from rustfern.operations.protect import Wish, apply, plan, survey
    from rustfern.operations.session import Session

    session = Session()
    found = survey([str(disk)], session=session)
    before = everything(disk)
    for _ in range(3):
        session.sources.health.note(1, str(disk))
    outcome = apply(found, Wish(), session, plan(found))
    assert (
        not outcome.changes
        and all("returns errors" in each.message for each in outcome.refused)
        and everything(disk) == before
    )
