"""`scan` on the built command: the contract, the people, the numbers, bad input, the screen."""

from __future__ import annotations

import hashlib
import json
import os
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import BUILT, Run, best_of, by_name, docx, odt, windows_list, windows_record, write

Rustfern = Callable[..., Run]
NEEDS_ROOT = pytest.mark.skipif(os.name != "posix" or os.geteuid() != 0, reason="drops rights that only root has")

TOP = {"schema", "case", "homes", "searched", "documents", "unmatched", "problems", "totals"}
DOCUMENT = {
    "id", "name", "class", "situation", "best", "why", "warnings", "original", "original_exists", "original_recorded", "copies",
    "locks", "records",
}  # fmt: skip
COPY = {
    "id", "path", "part", "kind", "place", "format", "extension_right", "state", "reason", "size", "modified", "written",
    "written_from", "clocks", "sha256", "words", "amounts", "same_as", "needs", "members", "confidence", "evidence",
}  # fmt: skip
LOCK = {"path", "owner", "host", "opened", "live", "confidence", "evidence"}


def test_the_contract(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    root = home("office-calc-xlsx-crash")
    run = rustfern("scan", root, "--json")
    answer = run.json
    assert run.status == 0 and run.err == "" and answer["schema"] == "rustfern/scan-1"
    assert set(answer) >= TOP
    assert [(h["person"], h["layout"]) for h in answer["homes"]] == [("tobias", "linux")]
    document = by_name(answer, "mooring-dues-2026.xlsx")
    assert set(document) >= DOCUMENT and document["class"] == "sheet" and document["situation"] == "crashed"
    assert document["original"].endswith("/Documents/Moorings/mooring-dues-2026.xlsx") and document["original_exists"]
    assert document["original_recorded"] == "file:///home/tobias/Documents/Moorings/mooring-dues-2026.xlsx"
    for copy in [*document["copies"], *(u for u in answer["unmatched"] if "state" in u)]:
        assert set(copy) >= COPY
    best = best_of(document)
    assert (best["kind"], best["place"], best["format"], best["extension_right"]) == (
        "autosave",
        "odf-suite-autosave",
        "ods",
        True,
    )
    assert best["sha256"] == hashlib.sha256(Path(best["path"]).read_bytes()).hexdigest()
    assert best["size"] == Path(best["path"]).stat().st_size and best["confidence"] >= 0.95
    assert best["evidence"][0]["kind"] == "recovery-list" and best["evidence"][0]["weight"] > 0
    assert (
        best["written"].endswith("Z")
        and best["written_from"] == "content"
        and set(best["clocks"]) == {"content", "file"}
    )
    assert [copy["id"] for copy in document["copies"]] == ["1a", "1b"]
    assert {lock["owner"] for lock in document["locks"]} == {"Tobias Okoro"}
    assert all(set(lock) >= LOCK for lock in document["locks"])
    assert document["records"][0]["type"] == "recovery-list"
    totals = answer["totals"]
    assert totals["files"] > totals["dismissed_by_name"] > 0 and totals["bytes_read"] > 0 and totals["directories"] > 5
    statuses = {s["status"] for s in answer["searched"]}
    assert statuses <= {
        "found",
        "absent",
        "denied",
        "offline",
        "locked",
        "encrypted",
        "online-only",
        "not-mounted",
        "outside",
    }


def test_numbers_and_ids_stay_within_a_case(home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path) -> None:
    root, case = home("office-same-name-two-folders"), tmp_path / "kept.fern"
    first = rustfern("scan", root, "--case", case, "--json").json
    write(root / "home" / "ines" / "Documents" / "AAA.txt~", "a newcomer that would rank among the first, by its name")
    autosave = next(root.rglob("mooring-plan.odt_0.odt"))
    write(autosave.with_name("mooring-plan.odt_9.odt"), autosave.read_bytes())
    second = rustfern("scan", root, "--case", case, "--document", "AAA", "--json").json
    kept = {d["original"]: (d["id"], {c["path"]: c["id"] for c in d["copies"]}) for d in second["documents"]}
    for document in first["documents"]:
        number, ids = kept[document["original"]]
        assert number == document["id"]
        for copy in document["copies"]:
            assert ids[copy["path"]] == copy["id"]
    assert second["documents"][0]["name"] == "AAA.txt" and second["documents"][0]["id"] == len(first["documents"]) + 1


def test_person_narrows_to_one_home(tmp_path: Path, rustfern: Rustfern) -> None:
    for person in ("ines", "petra"):
        write(tmp_path / "d" / "home" / person / "Documents" / f"{person}.txt~", "larch and oak")
        (tmp_path / "d" / "home" / person / ".config").mkdir()
    answer = rustfern("scan", tmp_path / "d", "--person", "Petra", "--json").json
    assert [h["person"] for h in answer["homes"]] == ["petra"]
    assert [d["name"] for d in answer["documents"]] == ["petra.txt"]
    run = rustfern("scan", tmp_path / "d", "--person", "tobias")
    assert run.status == 2 and "ines, petra" in run.err


def test_another_persons_working_copies_are_not_claimed(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    root = home("office-writer-odt-crash")
    write(root / "home" / "petra" / "Documents" / "dues.txt~", "larch and oak")
    (root / "home" / "petra" / ".config").mkdir()
    answer = rustfern("scan", root, "--person", "petra", "--json").json
    assert [d["name"] for d in answer["documents"]] == ["dues.txt"]
    shared = [u for u in answer["unmatched"] if "/tmp/lu" in u["path"]]
    assert len(shared) == 2 and all("somebody else" in u["notes"][-1] for u in shared)


def test_document_ranks_but_removes_nothing(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    root = home("trash-home")
    plain = rustfern("scan", root, "--json").json
    asked = rustfern("scan", root, "--document", "reprot kittiwake", "--json").json
    assert asked["documents"][0]["name"] == "Report 2026 Kittiwake (final).txt"
    assert len(asked["documents"]) == len(plain["documents"])


def test_without_a_root_the_own_home_is_searched(tmp_path: Path, rustfern: Rustfern) -> None:
    mine = tmp_path / "me"
    write(mine / "Documents" / "plan.txt", "berth one")
    write(mine / "Documents" / "plan.txt~", "berth one, two, three and four")
    run = rustfern("scan", "--json", HOME=str(mine), TMPDIR=str(tmp_path / "me"))
    assert any(d["original"] == str(mine / "Documents" / "plan.txt") for d in run.json["documents"])
    assert run.json["homes"][0]["path"] == str(mine)


def test_a_document_that_a_program_holds_open_is_said_first(tmp_path: Path, rustfern: Rustfern) -> None:
    mine = tmp_path / "me"
    plan = write(mine / "Documents" / "plan.txt", "berth one")
    write(mine / "Documents" / "plan.txt~", "berth one, two, three and four")
    with subprocess.Popen(["tail", "-f", str(plan)], stdout=subprocess.DEVNULL) as holder:
        time.sleep(0.3)
        run = rustfern("scan", HOME=str(mine), TMPDIR=str(mine))
        holder.kill()
    assert "still open on this machine: plan.txt in tail" in run.out.splitlines()[0]


def test_the_case_never_lies_inside_what_is_searched(tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "d" / "a.txt~", "oak")
    run = rustfern("scan", tmp_path / "d", "--case", tmp_path / "d" / "c.fern")
    assert run.status == 2 and "inside what is searched" in run.err
    kept = rustfern("scan", tmp_path / "d", "--json", XDG_STATE_HOME=str(tmp_path / "d" / "state"))
    assert kept.json["case"].startswith(os.environ["XDG_RUNTIME_DIR"]) and not (tmp_path / "d" / "state").exists()
    nowhere = {name: str(tmp_path / "d" / "state") for name in ("XDG_STATE_HOME", "XDG_RUNTIME_DIR")}
    assert rustfern("scan", tmp_path / "d", "--json", **nowhere).json["case"] is None
    shown = rustfern("scan", tmp_path / "d", **nowhere)
    assert "--case FILE" in shown.out and " --in " in shown.out


def tree_digest(root: Path) -> str:
    """Bytes, names, modes and times of everything below a folder."""
    lines = []
    for path in sorted(root.rglob("*")):
        facts = path.lstat()
        body = hashlib.sha256(path.read_bytes()).hexdigest() if path.is_file() and not path.is_symlink() else ""
        lines.append(f"{os.fsencode(path)!r} {facts.st_mode} {facts.st_mtime_ns} {body}")
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()


@pytest.mark.parametrize("case", ["office-writer-odt-crash", "win-text-powercut-cfb", "trash-home"])
def test_nothing_searched_is_changed(
    case: str, home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path
) -> None:
    root = home(case)
    before = tree_digest(root)
    for path in root.rglob("*"):
        if path.is_file():
            os.utime(path, ns=(1_000_000_000_000_000_000, path.stat().st_mtime_ns))
    rustfern("scan", root)
    rustfern("look", "1")
    rustfern("restore", "1", "--to", tmp_path / "out")
    times = {path.stat().st_atime_ns for path in root.rglob("*") if path.is_file()}
    assert times == {1_000_000_000_000_000_000}, "access times changed"
    assert tree_digest(root) == before


# --- bad input ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("make", "status", "said"),
    [
        (lambda p: p / "missing", 2, "there is nothing at this path"),
        (lambda p: write(p / "file.txt", "x"), 2, "this is a file"),
        (lambda p: (p / "empty").mkdir() or p / "empty", 1, ""),
        (lambda p: Path("/proc/self/mem"), 2, "this is a file"),
    ],
)
def test_bad_roots(make: Callable[[Path], Path], status: int, said: str, tmp_path: Path, rustfern: Rustfern) -> None:
    root = make(tmp_path)
    for extra in ((), ("--json",)):
        run = rustfern("scan", root, *extra)
        assert run.status == status and said in run.err
        assert run.err.count("\n") <= 1


@NEEDS_ROOT
def test_folders_that_cannot_be_read(tmp_path: Path, rustfern: Rustfern) -> None:
    ines = tmp_path / "d" / "home" / "ines"
    write(ines / "Documents" / "plan.txt~", "larch")
    shut = ines / ".config" / "libreoffice" / "4" / "user" / "backup"
    for folder in (shut, tmp_path / "d" / "home" / "petra", ines / "Private"):
        folder.mkdir(parents=True)
        folder.chmod(0)
    run = rustfern("scan", tmp_path / "d", "--json", without_rights=True)
    assert run.status == 3
    problems = {p["path"] for p in run.json["problems"]}
    assert {str(shut), str(tmp_path / "d" / "home" / "petra"), str(ines / "Private")} <= problems
    assert {"path": str(shut), "status": "denied", "place": "odf-suite-autosave", "copies": 0, "by": None} in run.json[
        "searched"
    ]
    assert by_name(run.json, "plan.txt")["best"]
    screen = rustfern("scan", tmp_path / "d", without_rights=True)
    assert "a person's home, denied" in screen.out and "folder of copies, denied" in screen.out
    alone = rustfern("scan", tmp_path / "d" / "home" / "petra", without_rights=True)
    assert alone.status == 3 and "cannot be listed" in alone.err


def test_names_of_every_kind(tmp_path: Path, rustfern: Rustfern) -> None:
    root = os.fsencode(tmp_path) + b"/d/home/ines/"
    os.makedirs(root + b".config")
    names = [
        b"caf\xe9 [bold]x[b].txt",
        b"new\nline.txt",
        b"esc\x1b[31mred.txt",
        "rtl\u202egpj.txt".encode(),
        b"long" * 60 + b".txt",
    ]
    for name in names:
        with open(root + name + b"~", "wb") as out:  # noqa: PTH123
            out.write(b"larch and oak planks")
    time.sleep(3.1)  # what was read of files that keep still is known to the next search
    for later in (None, b"plan.txt", None):
        if later is not None:
            with open(root + later + b"~", "wb") as out:  # noqa: PTH123
                out.write(b"mooring plan")
            names.append(later)
        run = rustfern("scan", tmp_path / "d", "--json")
        assert run.out.isascii()
        found = {os.fsencode(d["original"]) for d in run.json["documents"]}
        assert found == {root + name for name in names}
    screen = rustfern("scan", tmp_path / "d", "--everything").out
    assert "\x1b" not in screen and "\u202e" not in screen and "[bold]" in screen and "new\\nline.txt" in screen
    number = next(
        d["id"] for d in run.json["documents"] if d["original"].startswith(str(tmp_path)) and "\udce9" in d["original"]
    )
    restored = rustfern("restore", number, "--to", tmp_path / "out", "--json").json["restored"][0]
    assert Path(restored["to"]).read_bytes() == b"larch and oak planks" and restored["from"].endswith("[b].txt~")


def test_damaged_traces_and_packages_stop_nothing(tmp_path: Path, rustfern: Rustfern) -> None:
    ines = tmp_path / "d" / "home" / "ines"
    papers, profile, trash = (
        ines / "Documents",
        ines / ".config" / "libreoffice" / "4" / "user",
        ines / ".local" / "share" / "Trash",
    )
    for name in (".~lock.empty.odt#", "~$ro.docx", "~$bage.docx", "empty.odt", "zero.docx"):
        write(papers / name, b"")
    write(papers / ".~lock.garbage.odt#", os.urandom(300))
    write(papers / "~$garbage.docx", os.urandom(162))
    write(papers / "garbage.docx", os.urandom(4000))
    write(papers / "garbage.odt", odt("plank")[:200])
    write(profile / "registrymodifications.xcu", b"\0\1garbage")
    write(profile / "backup" / "garbage.odt_0.odt", odt("plank by plank, a whole one"))
    write(profile / "backup" / "old.doc_0.odt", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(600))
    write(trash / "info" / "a.txt.trashinfo", b"[Trash Info]\nPath=/../../etc/passwd\n")
    write(trash / "info" / "b.txt.trashinfo", b"garbage")
    write(trash / "files" / "a.txt", "first")
    write(trash / "files" / "b.txt", "second")
    os.mkfifo(papers / "pipe.txt~")
    os.symlink("/etc/passwd", papers / "link.txt~")
    run = rustfern("scan", tmp_path / "d", "--json")
    assert run.status == 0
    wont_open = by_name(run.json, "garbage.odt")
    assert wont_open["situation"] == "wont-open" and best_of(wont_open)["kind"] == "autosave"
    problems = " ".join(p["message"] for p in run.json["problems"])
    for part in ("recovery list", "trash info", "lock is damaged inside", "but is none"):
        assert part in problems, part
    names = [d["name"] for d in run.json["documents"]]
    assert "pipe.txt" not in names and "link.txt" not in names
    assert all(d["original"] is None or d["original"].startswith(str(tmp_path)) for d in run.json["documents"])
    rustfern("scan", tmp_path / "d", "--everything")


def test_a_lock_whose_original_is_gone(tmp_path: Path, rustfern: Rustfern) -> None:
    ines = tmp_path / "d" / "home" / "ines"
    write(ines / "Documents" / ".~lock.plan.odt#", "Ines Varga,ines,pc,23.11.2026 06:51,file:///p;")
    write(ines / "Documents" / "~$ll survey.docx", b"\x05Petra" + bytes(156))
    write(ines / "Moved" / "plan.odt", odt("plank"))
    answer = rustfern("scan", tmp_path / "d", "--json").json
    document = by_name(answer, "plan.odt")
    assert (
        document["best"] is None and not document["original_exists"] and document["locks"][0]["owner"] == "Ines Varga"
    )
    assert [said["kind"] for said in document["cautions"]] == ["same-name-elsewhere"] and "Moved" in document[
        "warnings"
    ][0]
    assert [Path(u["path"]).name for u in answer["unmatched"]] == ["~$ll survey.docx"]


def test_trash_of_a_stick_records_relative_paths(tmp_path: Path, rustfern: Rustfern) -> None:
    stick = tmp_path / "stick"
    write(stick / ".Trash-1000" / "files" / "plan.2.txt", "berth one")
    write(
        stick / ".Trash-1000" / "info" / "plan.2.txt.trashinfo",
        "[Trash Info]\nPath=Moorings/plan.txt\nDeletionDate=2026-11-23T06:17:58\n",
    )
    document = by_name(rustfern("scan", stick, "--json").json, "plan.txt")
    assert document["situation"] == "deleted" and document["original"] == str(stick / "Moorings" / "plan.txt")
    assert best_of(document)["kind"] == "trash" and document["class"] == "text"


def test_windows_trash_of_both_ages(tmp_path: Path, rustfern: Rustfern) -> None:
    new, old = tmp_path / "d" / "$RECYCLE.BIN" / "S-1-5-21-1", tmp_path / "d" / "Recycler" / "S-1-5-21-2"
    (tmp_path / "d" / "Users" / "ivarga" / "AppData").mkdir(parents=True)
    write(new / "$R7K2QPX.docx", docx("the later draft"))
    write(new / "$I7K2QPX.docx", windows_record(2, "C:\\USERS\\ivarga\\Plan.docx", 133_900_000_000_000_000))
    write(new / "$RA03FZM.docx", docx("the earlier draft"))
    write(new / "$IA03FZM.docx", windows_record(1, "C:\\Users\\IVARGA\\plan.docx", 133_800_000_000_000_000))
    write(new / "$RHH31MV" / "Float" / "Budget.txt", "ropes 120")
    write(new / "$IHH31MV", windows_record(2, "C:\\Users\\ivarga\\Open day"))
    write(new / "$R4NN0WD.docx", docx("an orphan"))
    write(new / "$IQQ55AB.docx", windows_record(2, "C:\\Users\\ivarga\\gone.docx"))
    write(new / "$IBAD000.docx", b"garbage")
    write(old / "Dc1.txt", "an old letter")
    write(old / "INFO2", windows_list("C:\\Documents and Settings\\p\\letter.txt"))
    answer = rustfern("scan", tmp_path / "d", "--json").json
    home = tmp_path / "d" / "Users" / "ivarga"
    plan = next(
        d for d in answer["documents"] if d["original"] and d["original"].lower() == str(home / "plan.docx").lower()
    )
    assert (
        best_of(plan)["path"].endswith("$R7K2QPX.docx") and len(plan["copies"]) == 2 and plan["situation"] == "deleted"
    )
    assert by_name(answer, "Open day")["original"] == str(home / "Open day")
    assert by_name(answer, "Budget.txt")["original"] == str(home / "Open day" / "Float" / "Budget.txt")
    assert by_name(answer, "gone.docx")["best"] is None and by_name(answer, "$R4NN0WD.docx")["original"] is None
    assert best_of(by_name(answer, "letter.txt"))["path"].endswith("Dc1.txt")
    (tmp_path / "d" / "Users" / "plund" / "AppData").mkdir(parents=True)
    hers = {d["name"] for d in rustfern("scan", tmp_path / "d", "--person", "plund", "--json").json["documents"]}
    assert not hers & {"Plan.docx", "plan.docx", "Open day", "Budget.txt", "gone.docx", "$R4NN0WD.docx"}
    assert any("trash windows record is damaged" in p["message"] for p in answer["problems"])


@pytest.mark.parametrize(
    "arguments",
    [
        ["scan", "--happened", "sometimes"], ["scan", "--older-than", "33:40"], ["scan", "--lost-at", "05/06/2026"], ["scan", "--zzz"],
        ["scan", "--class", "brand"], ["restore", "1"], ["nothing"],
    ],
)  # fmt: skip
def test_wrong_usage(arguments: list[str], rustfern: Rustfern) -> None:
    run = rustfern(*arguments)
    assert run.status == 2 and run.out == "" and "Error" in run.err


def test_an_interrupt_ends_with_130_and_a_message(tmp_path: Path) -> None:
    for folder in range(300):
        for number in range(60):
            write(tmp_path / "d" / str(folder) / f"{number}.odt~", docx(f"plank {folder} {number}"))
    process = subprocess.Popen(
        [str(BUILT), "scan", str(tmp_path / "d")], stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        env={**os.environ, "XDG_STATE_HOME": str(tmp_path / "s")},
    )  # fmt: skip
    err = b""
    for _ in range(5):
        # As a person does: once, and again if nothing comes of it.
        time.sleep(1.2)
        process.send_signal(signal.SIGINT)
        try:
            err = process.communicate(timeout=8)[1]
            break
        except subprocess.TimeoutExpired:
            continue
    assert process.returncode == 130 and b"interrupted" in err and b"Traceback" not in err


def test_a_search_that_is_stopped_tells_what_it_found(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from rustfern.cases.case_file import CaseFile
    from rustfern.cases.name_index import NameIndex
    from rustfern.core.remarks import About
    from rustfern.matching.copies import Copies
    from rustfern.matching.versions import Versions
    from rustfern.operations import scan
    from rustfern.search.search import Search

    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "s"))
    top = tmp_path / "d/home/ines"
    write(top / ".config/libreoffice/4/user/backup/plan.odt_0.odt", odt("crane booked", "two slings"))
    write(top / "Documents/plan.odt", odt("crane booked"), 1_790_000_000)
    write(top / "Documents/dues.txt~", "mooring dues")

    def stop(*_: object, **__: object) -> None:
        raise KeyboardInterrupt

    for number, (owner, step) in enumerate(
        ((Search, "rest"), (Copies, "take_unnamed"), (Versions, "take_mail"), (NameIndex, "settle"))
    ):
        with monkeypatch.context() as patched:
            patched.setattr(owner, step, stop)
            answer = scan.scan([str(tmp_path / "d")], case=str(tmp_path / f"{number}.fern"), partial=True)
            with pytest.raises(KeyboardInterrupt):  # what acts on an answer never acts on a part of one
                if step != "take_unnamed":
                    scan.scan([str(tmp_path / "d")])
                stop()
        if step == "take_unnamed" and not answer.stopped:
            continue
        assert answer.stopped and scan.exit_status(answer) == 130 and answer.notices[0].kind is About.STOPPED
        case = CaseFile.open(str(tmp_path / f"{number}.fern"))
        assert case.about("roots") and len(case.documents()) == len(answer.documents)
        assert any("plan.odt_0" in copy.path for document in answer.documents for copy in document.copies)
        case.close()


# --- the screen -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("columns", [60, 80, 120])
def test_the_screen_fits_and_says_it_in_order(columns: int, home: Callable[[str], Path], rustfern: Rustfern) -> None:
    root = home("office-writer-odt-crash")
    run = rustfern("scan", root, COLUMNS=str(columns))
    lines = run.out.splitlines()
    assert "\x1b" not in run.out and run.status == 0
    assert columns < 80 or max(map(len, lines)) <= columns
    order = [
        "Safe:",
        "Searched",
        "People    ines (linux)",
        "Times",
        "ENDED WITHOUT SAVING",
        "Ines Varga had it open on slipway-pc2",
        "BEST",
        "Next",
        "rustfern look 1c",
    ]
    places = [next(i for i, line in enumerate(lines) if part in line) for part in order]
    assert places == sorted(places)
    best = next(line for line in lines if "BEST" in line)
    assert best.strip().startswith("▶ 1c") and "+41 words" in best
    assert "sure" in (best if columns >= 88 else lines[lines.index(best) + 1])


def test_colour_only_where_it_is_wanted(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    root = home("gedit-overwritten")
    assert "\x1b[" in rustfern("scan", root, NO_COLOR="", FORCE_COLOR="1", TERM="xterm-256color").out
    assert "\x1b[" not in rustfern("scan", root, NO_COLOR="1", FORCE_COLOR="1", TERM="xterm-256color").out.replace("\x1b[1m", "").replace("\x1b[0m", "").replace("\x1b[7m", "").replace("\x1b[1;7m", "")  # fmt: skip


def test_nothing_lost_is_folded_away(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    root = home("win-nothing-lost")
    run = rustfern("scan", root)
    assert (
        run.status == 1
        and "No lost document was found." in run.out
        and "lost nothing (--everything shows them)" in run.out
    )
    assert "Reply to the ferry company.docx" in rustfern("scan", root, "--everything").out


def test_places_shows_each_folder_as_it_is_there(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    root = home("office-writer-odt-crash")
    run = rustfern("places", root, "--all", "--json")
    rows = {(row["place"], row["person"]): row for row in run.json["places"]}
    assert run.status == 0 and run.json["schema"] == "rustfern/places-1"
    autosaves = rows["odf-suite-autosave", "ines"]
    assert (autosaves["status"], autosaves["copies"]) == ("found", 1) and autosaves["path"].endswith(
        "/libreoffice/4/user/backup"
    )
    assert rows["trash-freedesktop", "ines"]["status"] == "absent" and rows["odf-suite-temporary", None]["copies"] > 0
    text = rustfern("places", root).out
    assert (
        "autosaves of the ODF office suite" in text
        and "more known folders are there" in text
        and "rustfern scan" in text
    )
    sheets = {row["place"] for row in rustfern("places", root, "--class", "image", "--all", "--json").json["places"]}
    assert "odf-suite-autosave" not in sheets and "trash-freedesktop" in sheets
    assert rustfern("places", root.parent / "nowhere").status == 2
    assert rustfern("places", root / "home" / "ines" / "Documents").status == 1


def test_the_page_of_places_is_what_the_catalogue_says(rustfern: Rustfern) -> None:
    page = Path(__file__).parent.parent / "docs" / "places.md"
    assert rustfern("places", "--markdown").out == page.read_text("utf-8")


def test_help_speaks_of_the_commands_in_order(rustfern: Rustfern) -> None:
    text = rustfern("--help").out
    assert text.index("  scan") < text.index("  restore") < text.index("  look") < text.index("  demo  ")
    assert rustfern("--version").out.startswith("rustfern 0.")
    for command in ("scan", "restore", "look", "report", "places", "demo"):
        assert "Examples" in rustfern(command, "--help").out


def test_json_answers_only_on_stdout(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    run = rustfern("scan", home("gedit-overwritten"), "--json")
    value: Any = json.loads(run.out)
    assert value["documents"] and run.err == ""
