"""Places: the catalogue and its mistakes, homes and layouts, recorded paths, the walk."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.catalogue.loader import catalogue, parse
from rustfern.core.errors import CatalogueError
from rustfern.core.model import Home, Layout, Totals
from rustfern.core.paths import inside
from rustfern.search.homes import find_homes
from rustfern.search.recorded_paths import RecordedPaths, take_apart
from rustfern.search.search import Search
from rustfern.sources.folder import FolderSource
from rustfern.sources.registry import Sources

PLACES = catalogue().places


@pytest.mark.parametrize("ident", sorted(PLACES))
def test_examples_fit_their_place(ident: str) -> None:
    place = PLACES[ident]
    assert place.examples
    for example in place.examples:
        assert catalogue().match(place, example) is not None, example
        if place.where == "beside":
            found = catalogue().match_beside(example)
            assert found is not None and found[0].kind == place.kind


@pytest.mark.parametrize(
    ("name", "ident", "fields"),
    [
        (".~lock.Våren & co.odp#", "odf-suite-lock", {"name": "Våren & co.odp"}),
        ("~$ll survey.docx", "ooxml-suite-lock", {"tail": "ll survey.docx"}),
        ("~$.txt", None, None),
        ("~$Slip 7.DOCX", "ooxml-suite-lock", {"tail": "Slip 7.DOCX"}),
        ("rigging quote.txt~", "beside-tilde", {"name": "rigging quote.txt"}),
        ("timber.csv.bak", "beside-bak", {"name": "timber.csv"}),
        ("mooring plan.bak", "beside-bak", {"stem": "mooring plan"}),
        ("Sicherungskopie von Rechnung.wbk", "ooxml-text-backup", {"prefixed": "Sicherungskopie von Rechnung"}),
        ("~WRA0002.wbk", "ooxml-text-auto-backup", {}),
        ("5A3F1B20", "ooxml-sheet-save", {}),
        ("deadbeef", None, None),
        ("readme01", None, None),
        ("report.docx", None, None),
    ],
)
def test_names_beside_documents(name: str, ident: str | None, fields: dict[str, str] | None) -> None:
    found = catalogue().match_beside(name)
    assert (found and found[0].id, found and found[1]) == (ident, fields)


GOOD = """
[[place]]
id = "first"
what = "a"
program = "b"
kind = "backup"
where = "beside"
names = ['(?P<name>.+)~']
ends = ["~"]
lifetime = "c"
confidence = "observed"
examples = ["a~"]
"""


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (GOOD + GOOD.replace('"first"', '"second"').replace('"backup"', '"backpu"'), ["second", "kind"]),
        (GOOD.replace("lifetime", "lifetimes"), ["first", "lifetime"]),
        (GOOD.replace("(?P<name>.+)~", "(?P<name>.+~"), ["first", "names"]),
        (GOOD.replace('ends = ["~"]', ""), ["first", "starts, ends"]),
        (
            GOOD.replace('confidence = "observed"', 'confidence = "observed"\nformats = ["zzz"]'),
            ["first", "formats", "zzz"],
        ),
        (GOOD.replace('"backup"', '"lock"'), ["first", "reader"]),
        (GOOD.replace('"beside"', '"home"'), ["first", "folders"]),
        ("[[place]\n", ["not TOML"]),
    ],
)
def test_a_mistake_says_which_entry_and_key(text: str, said: list[str]) -> None:
    with pytest.raises(CatalogueError) as caught:
        parse(text, "family.toml")
    for word in [*said, "family.toml"]:
        assert word in str(caught.value)


TREES = {
    "a home": (["ines/.config/", "ines/Documents/"], "ines", [("ines", "linux")]),
    "a folder of homes": (["home/ines/.config/", "home/petra/Documents/"], "home", [("ines", "linux"), ("petra", "linux")]),
    "a Linux disk": (["d/home/ines/.config/", "d/etc/", "d/root/"], "d", [("ines", "linux"), ("root", "linux")]),
    "a Windows disk": (
        ["d/Users/ivarga/AppData/", "d/Users/Public/", "d/Users/Default/", "d/Windows/"], "d", [("ivarga", "windows")],
    ),
    "an old Windows disk": (["d/Documents and Settings/plund/Application Data/"], "d", [("plund", "windows")]),
    "a Mac disk": (["d/Users/plund/Library/", "d/Users/plund/Documents/", "d/Users/Shared/", "d/private/"], "d", [("plund", "macos")]),
    "lower case": (["d/users/ivarga/appdata/"], "d", [("ivarga", "windows")]),
    "several disks": (["d/pc/Users/a/AppData/", "d/box/home/b/.config/"], "d", [("a", "windows"), ("b", "linux")]),
    "deep": (["d/x/y/z/home/b/.config/"], "d", [("b", "linux")]),
    "any folder": (["d/Letters/", "d/Timber/"], "d", []),
    "an empty folder": (["d/"], "d", []),
}  # fmt: skip


@pytest.mark.parametrize("tree", sorted(TREES))
def test_homes(tree: str, tmp_path: Path) -> None:
    folders, root, expected = TREES[tree]
    for folder in folders:
        (tmp_path / folder).mkdir(parents=True)
    homes = find_homes(FolderSource(str(tmp_path / root)), lambda *_: None)
    assert sorted((home.person, str(home.layout)) for home in homes) == expected


@pytest.mark.parametrize(
    ("recorded", "parts", "drive", "share"),
    [
        ("C:\\Users\\ines\\Hull survey.docx", ("Users", "ines", "Hull survey.docx"), "C", False),
        ("file:///C:/Users/a%20b/x.odt", ("Users", "a b", "x.odt"), "C", False),
        ("file:///home/ines/V%C3%A5ren%20&%20co.odp", ("home", "ines", "Våren & co.odp"), "", False),
        ("file://localhost/home/x.txt", ("home", "x.txt"), "", False),
        ("file://server/share/x.txt", ("share", "x.txt"), "server", True),
        ("\\\\server\\share\\x.docx", ("share", "x.docx"), "server", True),
        ("/home/ines/x.txt", ("home", "ines", "x.txt"), "", False),
        ("file:///home/caf%E9", ("home", "caf\udce9"), "", False),
    ],
)
def test_recorded_paths(recorded: str, parts: tuple[str, ...], drive: str, share: bool) -> None:
    found = take_apart(recorded)
    assert found is not None and (found.parts, found.drive, found.share) == (parts, drive, share)


@pytest.mark.parametrize(
    "recorded", ["", "x.txt", "/a/../../etc/passwd", "file:///a/%2e%2e/b", "C:\\a\\..\\b", "file:///a%00b"]
)
def test_paths_that_climb_or_say_nothing(recorded: str) -> None:
    assert take_apart(recorded) is None


@given(st.text(max_size=60))
def test_no_recorded_path_leads_outside(recorded: str) -> None:
    home = Home("/disk/home/ines", Layout.LINUX, "ines", "/disk", "/disk")
    found = RecordedPaths(Sources(), [home], ["/disk"]).translate(recorded, home)
    assert found is None or inside(found, "/disk")


def test_translation_into_what_is_searched(tmp_path: Path) -> None:
    disk = str(tmp_path)
    write(tmp_path / "Users" / "IVarga" / "documents" / "Hull Survey.docx", "x")
    home = Home(f"{disk}/Users/IVarga", Layout.WINDOWS, "IVarga", disk, disk)
    wanted = f"{disk}/Users/IVarga/documents/Hull Survey.docx"
    assert (
        RecordedPaths(Sources(), [home], [disk]).translate("C:\\USERS\\ivarga\\Documents\\hull survey.DOCX", home)
        == wanted
    )
    assert (
        RecordedPaths(Sources(), [home], [disk]).translate("C:\\Users\\ivarga\\DOCUME~1\\HULLSU~1.DOC", home) == wanted
    )
    assert (
        RecordedPaths(Sources(), [home], [disk]).translate("C:\\Users\\ivarga\\DOCUME~1\\RIGSU~1.DOC", home)
        == f"{disk}/Users/IVarga/documents/RIGSU~1.DOC"
    )
    assert (
        RecordedPaths(Sources(), [home], [disk]).translate("C:\\Users\\ivarga\\New\\a.docx", home)
        == f"{disk}/Users/IVarga/New/a.docx"
    )
    for outside in ("D:\\a.docx", "\\\\server\\a.docx", "https://host/a.docx"):
        assert RecordedPaths(Sources(), [home], [disk]).translate(outside, home) is None
    alone = Home(f"{disk}/Users/IVarga", Layout.WINDOWS, "IVarga", None, disk)
    assert (
        RecordedPaths(Sources(), [alone], [disk]).translate("C:\\Users\\old.name\\Documents\\Hull Survey.docx", alone)
        == wanted
    )


def search(root: Path) -> tuple[Search, list[tuple[str, list[str]]], list[str]]:
    problems: list[str] = []
    source = FolderSource(str(root))
    homes = find_homes(source, lambda path, message: problems.append(path))
    work = Search(Sources(), [source], homes, catalogue(), lambda path, message: problems.append(path), Totals())
    documents: list[tuple[str, list[str]]] = []
    work.known_places()
    work.rest(lambda folder, names: documents.append((folder, names)), lambda count: None)
    return work, documents, problems


def test_the_walk_dismisses_by_name_and_keeps_out_of_places_for_copies(tmp_path: Path) -> None:
    home = tmp_path / "home" / "ines"
    write(home / "Documents" / "a.odt", "x")
    write(home / "Documents" / "a.odt~", "x")
    write(home / "Documents" / "noise.bin", "x")
    write(home / ".config" / "libreoffice" / "4" / "user" / "backup" / "a.odt_0.odt", "x")
    write(home / ".local" / "share" / "Trash" / "files" / "b.odt", "x")
    os.symlink("/etc", home / "Documents" / "etc")
    os.symlink("a.odt", home / "Documents" / "link.odt~")
    work, documents, problems = search(tmp_path)
    assert sorted(find.place for find in work.finds) == ["beside-tilde", "odf-suite-autosave", "trash-freedesktop"]
    assert documents == [(str(home / "Documents"), ["a.odt"])] and not problems
    assert work.totals.dismissed_by_name >= 1
    assert {s.status for s in work.searched} == {"found", "absent"}


def test_pseudo_folders_of_a_system_disk_are_skipped(tmp_path: Path) -> None:
    for name in ("etc", "usr", "proc", "sys", "dev", "home/ines/dev"):
        write(tmp_path / name / "a.odt", "x")
    _, documents, _ = search(tmp_path)
    assert sorted(folder.removeprefix(str(tmp_path)) for folder, _ in documents) == ["/etc", "/home/ines/dev", "/usr"]


def test_windows_folders_match_whatever_their_case(tmp_path: Path) -> None:
    write(
        tmp_path / "Users" / "ivarga" / "APPDATA" / "Roaming" / "MICROSOFT" / "word" / "AutoRecovery save of A.asd", "x"
    )
    work, _, _ = search(tmp_path)
    assert [find.place for find in work.finds] == ["ooxml-text-autosave"]


def test_a_folder_2000_deep(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    here = os.getcwd()
    try:
        os.chdir(tmp_path)
        os.mkdir("top")
        os.chdir("top")
        for _ in range(1200):
            os.mkdir("deeper")
            os.chdir("deeper")
        os.chdir(here)
        run = rustfern("scan", tmp_path / "top", "--json")
        assert run.status == 1 and run.json["totals"]["directories"] >= 300
        assert "could not be listed" in run.json["problems"][0]["message"], "deeper than a path can be long"
    finally:
        os.chdir(here)
        subprocess.run(["rm", "-rf", str(tmp_path / "top")], check=True)
