"""`restore`, `look`, `demo` and the case file on the built command: verified, never replacing, never inside what was searched."""

from __future__ import annotations

import hashlib
import os
import sqlite3
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, best_of, by_name, odt, write
from hypothesis import given
from hypothesis import strategies as st

import rustfern as package
from rustfern.cases.case_file import CaseFile, letters
from rustfern.cases.lookup import find_copy
from rustfern.core.errors import CaseError, NotFound
from rustfern.core.paths import fold_name
from rustfern.operations.restore import safe_name

Rustfern = Callable[..., Run]
NEEDS_ROOT = pytest.mark.skipif(os.name != "posix" or os.geteuid() != 0, reason="mounts a small volume")


def sha256(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def test_restored_under_the_right_name_verified_and_never_replacing(
    home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path
) -> None:
    root, out = home("office-calc-xlsx-crash"), tmp_path / "out"
    best = best_of(by_name(rustfern("scan", root, "--json").json, "mooring-dues-2026.xlsx"))
    first, second = (f"mooring-dues-2026 (autosave 2026-11-23 06.56){mark}.ods" for mark in ("", " 2"))
    for name in (first, first, second):
        if name == second:
            write(out / first, "written by somebody else")
        run = rustfern("restore", "1", "--to", out, "--json")
        row = run.json["restored"][0]
        assert run.status == 0 and run.json["schema"] == "rustfern/restore-1" and run.json["refused"] == []
        assert row["to"] == str(out / name) and row["id"] == best["id"] and row["document"] == "mooring-dues-2026.xlsx"
        assert sha256(out / name) == row["sha256"] == best["sha256"] and row["state"] == "intact"
        assert int((out / name).stat().st_mtime) == int(Path(best["path"]).stat().st_mtime)
    assert sorted(p.name for p in out.iterdir()) == [second, first, "restored.jsonl"]
    assert (out / first).read_text() == "written by somebody else"
    screen = rustfern("restore", "1b", "--to", out)
    assert "the document was OOXML workbook (.xlsx), this copy is ODF spreadsheet: it opens as .ods" in " ".join(
        screen.out.split()
    )
    assert "1 of 1 restored and verified" in screen.out


def test_in_one_go_by_name(home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path) -> None:
    root = home("office-same-name-two-folders")
    run = rustfern("restore", "mooring-plan", "--in", root, "--to", tmp_path / "out")
    assert run.status == 1 and "2 documents fit" in run.err and "West basin" in run.err and "East basin" in run.err
    run = rustfern("restore", "mooring-plan west", "--in", root, "--to", tmp_path / "out", "--json")
    assert run.status == 0 and run.json["restored"][0]["from"].endswith("mooring-plan.odt_0.odt")
    run = rustfern("restore", "no such thing", "--in", root, "--to", tmp_path / "out")
    assert run.status == 1 and "Lost documents found: mooring-plan.odt" in run.err
    assert {p.name for p in (tmp_path / "out").iterdir()} == {
        "mooring-plan (autosave 2026-11-23 06.58).odt",
        "restored.jsonl",
    }


@pytest.mark.parametrize("where", ["", "home/ines/Documents", "new/deeper"])
def test_never_inside_what_was_searched(
    where: str, home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path
) -> None:
    root = home("gedit-overwritten")
    rustfern("scan", root)
    for target in (root / where, tmp_path / "link" / where):
        if not (tmp_path / "link").exists():
            (tmp_path / "link").symlink_to(root)
        run = rustfern("restore", "1", "--to", target)
        assert run.status == 2 and "inside what was searched" in run.err
    run = rustfern("restore", "rigging quote", "--in", root, "--to", root / "out")
    assert run.status == 2 and not (root / "out").exists() and not (root / "new").exists()
    other = write(tmp_path / "other" / "a.txt~", "larch").parent
    rustfern("scan", other)
    assert rustfern("restore", "1", "--to", root / "out").status == 2, "searched by the case before"


def test_a_copy_that_changed_or_vanished_since_the_scan(
    home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path
) -> None:
    root = home("trash-home")
    answer = rustfern("scan", root, "--json").json
    plan, report = by_name(answer, "mooring plan.txt"), by_name(answer, "Report 2026 Kittiwake (final).txt")
    Path(best_of(plan)["path"]).unlink()
    write(Path(best_of(report)["path"]), "other words")
    run = rustfern(
        "restore",
        plan["id"],
        report["id"],
        by_name(answer, "100% oak #3.csv")["id"],
        "--to",
        tmp_path / "out",
        "--json",
    )
    assert run.status == 3 and len(run.json["restored"]) == 1
    messages = {r["id"]: r["message"] for r in run.json["refused"]}
    assert "could not be looked at" in messages[plan["best"]] and "changed since the scan" in messages[report["best"]]
    assert {p.name for p in (tmp_path / "out").iterdir()} == {
        "100% oak #3 (trash 2026-11-23 06.17).csv",
        "restored.jsonl",
    }
    look = rustfern("look", plan["id"])
    assert look.status == 3 and "scan again" in look.out


def test_a_deleted_folder_comes_back_whole(home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path) -> None:
    document = by_name(rustfern("scan", home("trash-home"), "--json").json, "Winter lay-up")
    best = best_of(document)
    assert best["members"] == ["list.txt", "photos/readme.txt"] and best["format"] is None
    lines = "".join(f"{sha256(Path(best['path']) / m)} {m}\n" for m in best["members"])
    assert best["sha256"] == hashlib.sha256(lines.encode()).hexdigest()
    for count in range(3):
        row = rustfern("restore", document["id"], "--to", tmp_path / "out", "--json").json["restored"][0]
        assert row["sha256"] == best["sha256"]
        if count == 1:
            (Path(row["to"]) / "list.txt").write_text("changed since")
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == [
        "Winter lay-up (trash 2026-11-23 06.17)",
        "Winter lay-up (trash 2026-11-23 06.17) 2",
        "restored.jsonl",
    ]
    assert (Path(row["to"]) / "photos" / "readme.txt").is_file()


def test_members_whose_names_become_one_when_made_safe_all_come_back(tmp_path: Path, rustfern: Rustfern) -> None:
    trash = tmp_path / "d" / ".Trash-1000"
    for name, text in (("a:b.txt", "first"), ("a?b.txt", "second"), ("a_b.txt", "third")):
        write(trash / "files" / "Slips" / name, text)
    write(trash / "info" / "Slips.trashinfo", "[Trash Info]\nPath=Slips\n")
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "Slips")
    row = rustfern("restore", document["best"], "--to", tmp_path / "out", "--json").json["restored"][0]
    assert {p.read_text() for p in Path(row["to"]).iterdir()} == {"first", "second", "third"}
    assert row["sha256"] == best_of(document)["sha256"]


def test_a_case_file_that_cannot_take_the_note_refuses_no_restored_file(
    home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path
) -> None:
    case = tmp_path / "c.fern"
    rustfern("scan", home("gedit-overwritten"), "--case", case)
    with sqlite3.connect(case) as db:
        db.execute("DROP TABLE restored")
    db.close()
    run = rustfern("restore", "1", "--to", tmp_path / "out", "--case", case, "--json")
    assert run.status == 0 and Path(run.json["restored"][0]["to"]).is_file()


def test_a_damaged_copy_is_restored_only_when_asked_for_and_said_to_be(tmp_path: Path, rustfern: Rustfern) -> None:
    data = odt(*[f"plank {n} of larch" for n in range(500)])
    write(tmp_path / "d" / "plan.odt", data[: len(data) // 2])
    answer = rustfern("scan", tmp_path / "d", "--everything", "--json").json
    assert answer["documents"] == []
    write(tmp_path / "d" / "plan.odt~", data[: len(data) // 3])
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "plan.odt")
    assert document["best"] is None and "damaged-shows" in [said["kind"] for said in document["reasons"]]
    run = rustfern("restore", document["id"], "--to", tmp_path / "out")
    assert run.status == 1 and "Take one by its id: 1b (damaged), 1a (damaged)" in run.err.replace(
        "1a (damaged), 1b (damaged)", "1b (damaged), 1a (damaged)"
    )
    row = rustfern("restore", "1a", "--to", tmp_path / "out", "--json").json["restored"][0]
    assert row["state"] == "damaged" and any("damaged" in note for note in row["notes"])


@NEEDS_ROOT
def test_no_space_and_no_right_at_the_target(home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path) -> None:
    small, shut = tmp_path / "small", tmp_path / "shut"
    small.mkdir()
    shut.mkdir(mode=0o500)
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=12k", "tmpfs", str(small)], capture_output=True).returncode:
        pytest.skip("no small volume can be mounted here")
    try:
        rustfern("scan", home("office-writer-odt-crash"))
        run = rustfern("restore", "1", "--to", small)
        assert run.status == 2 and "not enough space" in run.err
        assert list(small.iterdir()) == []
    finally:
        subprocess.run(["umount", str(small)], check=True)
    for target in (shut, shut / "sub", write(tmp_path / "file", "x")):
        run = rustfern("restore", "1", "--to", target, without_rights=True)
        assert run.status == 2 and "--to DIR" in run.err


@pytest.mark.parametrize(
    ("what", "said"),
    [("99", "no document 99"), ("1z", "no copy 1z"), ("zzz", "no document is called zzz"), ("99a", "no document 99")],
)
def test_what_is_not_there(
    what: str, said: str, home: Callable[[str], Path], rustfern: Rustfern, tmp_path: Path
) -> None:
    rustfern("scan", home("gedit-overwritten"))
    for command in (["look", what], ["restore", what, "--to", tmp_path / "out"]):
        run = rustfern(*command)
        assert run.status == 1 and said in run.err
    run = rustfern("restore", what, "--to", tmp_path / "out", "--json")
    assert run.status == 1 and said in run.json["refused"][0]["message"]


def test_look_says_what_why_and_the_first_lines(home: Callable[[str], Path], rustfern: Rustfern) -> None:
    rustfern("scan", home("win-text-powercut-cfb"), "--document", "hull survey saltmarsh")
    life = rustfern("look", "1").out
    assert "Its life" in life and "lock opened" in life and "rustfern look 1a 1d" in life
    text = rustfern("look", "1d").out
    for part in (
        "autosave copy, binary word-processor text",
        "Ines Varga",
        "its name holds the name",
        "First lines",
        "Hull survey Saltmarsh Lass",
        "rustfern restore",
    ):
        assert part in text, part
    assert "The best copy is" in rustfern("look", "1a").out
    facts = rustfern("look", "1a", "--json").json
    assert facts["copy"]["id"] == "1a" and facts["lines"]


# --- the case file --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("make", "said"),
    [
        (lambda p: p / "missing.fern", "there is no such case file"),
        (lambda p: write(p / "noise.fern", os.urandom(3000)), "this is not a case file"),
        (lambda p: write(p / "text.fern", "Dear Sir"), "this is not a case file"),
        (lambda p: _database(p / "other.fern", 0, 1), "this is not a case file of Rust Fern"),
        (lambda p: _database(p / "newer.fern", 0x52464331, 99), "from a newer version"),
    ],
)
def test_files_that_are_no_case(make: Callable[[Path], Path], said: str, rustfern: Rustfern, tmp_path: Path) -> None:
    path = make(tmp_path)
    before = path.read_bytes() if path.exists() else None
    for command in (["look", "1"], ["restore", "1", "--to", tmp_path / "out"]):
        run = rustfern(*command, "--case", path)
        assert run.status == 2 and said in run.err and "--case FILE" in run.err
    if before is not None:
        write(tmp_path / "d" / "a.txt~", "oak")
        assert rustfern("scan", tmp_path / "d", "--case", path).status == 2
        assert path.read_bytes() == before


def _database(path: Path, ident: int, version: int) -> Path:
    with sqlite3.connect(path) as db:
        db.execute("CREATE TABLE a (b)")
        db.execute(f"PRAGMA application_id = {ident}")
        db.execute(f"PRAGMA user_version = {version}")
    db.close()
    return path


def test_without_any_scan_there_is_no_case(rustfern: Rustfern, tmp_path: Path) -> None:
    run = rustfern("look", "1")
    assert run.status == 2 and "Scan first" in run.err


def test_the_case_file_is_private_and_the_latest_is_used(
    home: Callable[[str], Path], rustfern: Rustfern, state: Path
) -> None:
    rustfern("scan", home("gedit-overwritten"))
    rustfern("scan", home("office-calc-xlsx-crash"))
    rustfern("scan", "/nowhere")
    cases = sorted((state / "rustfern").glob("*.fern"))
    assert len(cases) == 2 and all(case.stat().st_mode & 0o077 == 0 for case in cases)
    assert "mooring-dues-2026.xlsx" in rustfern("look", "1").out
    assert "rigging quote" in rustfern("look", "1", "--case", cases[0]).out


def test_the_name_index(tmp_path: Path) -> None:
    case = CaseFile.create(str(tmp_path / "c.fern"))
    case.add_names(
        [("/d/a", ["Hull Survey.ODT", "caf\udce9.txt"]), ("/d/b", ["hull survey.docx", "U\u0308bergabe.txt"])]
    )
    names = case.names
    assert names.by_name("hull survey.odt") == ["/d/a/Hull Survey.ODT"]
    assert names.by_stem("HULL SURVEY") == ["/d/a/Hull Survey.ODT", "/d/b/hull survey.docx"]
    assert names.by_name("\u00dcbergabe.txt") == ["/d/b/U\u0308bergabe.txt"]
    assert names.in_folder("/d/a") == ["/d/a/Hull Survey.ODT", "/d/a/caf\udce9.txt"] and not names.in_folder("/d")
    assert names.beside("/d/b", "hull survey") == ["/d/b/hull survey.docx"] and not names.beside("/d", "hull survey")
    assert names.with_extension("docx") == ["/d/b/hull survey.docx"]
    case.add_names([("/c", ["a-b.md", "Hull Survey.md", "a b.md"])])
    assert names.shaped("[^/]*-[^/]*") == ["/c/a-b.md"]
    assert names.by_stem("hull survey", limit=1) == ["/c/Hull Survey.md"]
    assert not CaseFile.create(str(tmp_path / "c.fern")).names.by_stem("hull survey")
    with pytest.raises(NotFound):
        find_copy(case, "1")
    with pytest.raises(CaseError):
        CaseFile.create("/proc/nothing/c.fern")


@pytest.mark.parametrize(("number", "ident"), [(0, "a"), (25, "z"), (26, "aa"), (27, "ab"), (701, "zz"), (702, "aaa")])
def test_letters(number: int, ident: str) -> None:
    assert letters(number) == ident


@given(st.text(max_size=80))
def test_folded_names_can_be_kept(name: str) -> None:
    assert isinstance(fold_name(name).encode(), bytes) and fold_name(fold_name(name)) == fold_name(name)


# --- names ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "safe"),
    [
        ("Hull survey.odt", "Hull survey.odt"), ("../../etc/passwd", ".._.._etc_passwd"), ("a\nb\x1b.txt", "a_b_.txt"), ("con", "_con"),
        ("LPT1.txt", "_LPT1.txt"), ("a.txt. . ", "a.txt"), ("...", "document"), ("", "document"), ("x\u202egpj.txt", "xgpj.txt"),
        ('a:b|c?"<>*.odt', "a_b_c_____.odt"), ("caf\udce9.txt", "caf_.txt"), ("x" * 300 + ".odt", "x" * 251 + ".odt"),
    ],
)  # fmt: skip
def test_safe_names(name: str, safe: str) -> None:
    assert safe_name(name) == safe


@given(st.text(max_size=400))
def test_any_name_becomes_safe(name: str) -> None:
    safe = safe_name(name)
    assert safe and len(safe.encode()) <= 255 and "/" not in safe and "\\" not in safe and safe not in (".", "..")
    assert safe_name(safe) == safe or safe.startswith("_")


# --- the demo and the Python calls ----------------------------------------------------------------------------------


def test_the_demo_finds_restores_and_can_be_run_again(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "yard" / "disk"
    first = rustfern("demo", "--to", disk)
    assert first.status == 0 and "1 of 1 restored and verified" in first.out and "Next" in first.out
    assert "moments ago" not in first.out  # what was just laid into a trash is not being written
    digest = {p.relative_to(disk): (sha256(p), p.stat().st_mtime) for p in disk.rglob("*") if p.is_file()}
    assert len(digest) > 300
    second = rustfern("demo", "--to", disk)
    assert second.status == 0
    assert {p.relative_to(disk): (sha256(p), p.stat().st_mtime) for p in disk.rglob("*") if p.is_file()} == digest
    answer = rustfern("scan", disk, "--json").json
    lost = [d for d in answer["documents"] if d["situation"] != "nothing-lost" and d["best"]]
    assert {d["situation"] for d in lost} >= {
        "crashed",
        "overwritten",
        "deleted",
        "wont-open",
        "never-saved",
        "diverged",
    }
    assert (
        len(lost) >= 6 and {h["layout"] for h in answer["homes"]} == {"windows", "linux"} and len(answer["homes"]) == 5
    )
    run = rustfern("restore", "price list", "--in", disk, "--person", "petra", "--to", tmp_path / "out", "--json")
    assert run.json["restored"][0]["from"].endswith("price-list-spring.bak")


def test_the_demo_refuses_a_folder_with_other_things(tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "mine" / "thesis.odt", "x")
    run = rustfern("demo", "--to", tmp_path / "mine")
    assert run.status == 2 and "not empty" in run.err and len(list((tmp_path / "mine").iterdir())) == 1


def test_the_python_calls(home: Callable[[str], Path], tmp_path: Path) -> None:
    root = home("gedit-overwritten")
    answer = package.scan([str(root)], package.Hints(document="rigging quote"), case=str(tmp_path / "c.fern"))
    assert answer.documents[0].name == "rigging quote.txt"
    done, refused = package.restore(["1"], str(tmp_path / "out"), case=answer.case)
    assert not refused and "eleven terminals" in Path(done[0].target).read_text()
    content = package.check(done[0].target)
    assert content.state == "intact" and content.words == 25
    with pytest.raises(package.RustFernError):
        package.check(str(tmp_path / "missing"))
    with pytest.raises(AttributeError):
        package.nothing  # noqa: B018
