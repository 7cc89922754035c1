"""Restoring as a technician does it: all at once, again after an interruption, under names and folders, never over anything."""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from conftest import Run, docx, odt, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.cases.case_file import StoredCopy
from rustfern.operations.restore_names import layout, named, safe_name
from rustfern.output.temporary import fresh_name

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
HARD = [
    "",
    ".",
    "..",
    "a/b",
    "con",
    "CON.txt",
    "x. ",
    "a:b",
    "\u202egpj.exe",
    "é" * 200,
    "\udcff\udcfe",
    "a\nb",
    "[red]x",
    "\x1b[2J",
    "com¹.doc",
]


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    top = tmp_path / "disk/home/ines"
    write(top / ".config/x", "")
    write(top / "Documents/Yard/plan.txt", "crane booked", T0)
    write(top / "Documents/Yard/plan.txt~", "crane booked for the fourteenth, two slings", T0 - 60)
    write(top / "Documents/survey.odt", odt("Kittiwake", "planking fair"), T0)
    write(
        top / ".config/libreoffice/4/user/backup/survey.odt_0.odt",
        odt("Kittiwake", "planking fair", "garboard seam weeping"),
        T0 + 90,
    )
    write(top / "Documents/.~lock.survey.odt#", ",Ines,pc,21.09.2026 14:18,file:///x;", T0 + 30)
    write(top / ".local/share/Trash/files/dues.txt", "mooring dues", T0 - 99)
    record = "[Trash Info]\nPath=/home/ines/Documents/dues.txt\nDeletionDate=2026-09-21T14:18:00\n"
    write(top / ".local/share/Trash/info/dues.txt.trashinfo", record)
    return tmp_path / "disk"


def files_in(folder: Path) -> dict[str, str]:
    found = [path for path in folder.rglob("*") if path.is_file() and path.name != "restored.jsonl"]
    return {str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest() for path in found}


def test_all_best_with_layout_listed_and_taken_up_again(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    to = tmp_path / "out"
    dry = rustfern("restore", "--all-best", "--keep-layout", "--dry-run", "--to", to)
    assert dry.status == 0 and "nothing was written" in dry.out and not to.exists()
    run = rustfern("restore", "--all-best", "--keep-layout", "--to", to)
    made = files_in(to)
    assert run.status == 0 and len(made) == 3, run.out
    assert {os.path.dirname(name) for name in made} == {"home/ines/Documents", "home/ines/Documents/Yard"}
    rows = [json.loads(line) for line in (to / "restored.jsonl").read_text().splitlines()]
    assert {row["to"]: row["sha256"] for row in rows} == made and all(row["evidence"] and row["from"] for row in rows)
    assert "its own place is free" in run.out and "Documents/dues.txt" in run.out
    again = rustfern("restore", "--all-best", "--keep-layout", "--to", to)
    assert again.status == 0 and again.out.count("was there already, read again") == 3 and files_in(to) == made
    (to / "restored.jsonl").unlink()  # as if killed before anything was listed
    assert rustfern("restore", "--all-best", "--keep-layout", "--to", to).out.count("was there already") == 3
    assert len((to / "restored.jsonl").read_text().splitlines()) == 3
    # A file that was changed since is left alone, and its copy written beside it.
    hurt = to / sorted(made)[0]
    hurt.write_bytes(b"opened and changed")
    assert rustfern("restore", "--all-best", "--keep-layout", "--to", to).status == 0
    assert len(files_in(to)) == 4 and hurt.read_bytes() == b"opened and changed"
    (to / "restored.jsonl").write_text('{"to": "../../etc/passwd", "from": "x", "sha256": "y", "wanted": "z"}\n{"cut')
    assert rustfern("restore", "1", "--to", to).status == 0


def test_names_of_ones_own(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    number = next(d["id"] for d in rustfern("scan", disk, "--json").json["documents"] if d["name"] == "survey.odt")
    for wanted, made in (
        ("for the insurer", "for the insurer.odt"),
        ("x.odt", "x.odt"),
        ("x.docx", "x.docx.odt"),
    ):
        run = rustfern("restore", number, "--as", wanted, "--to", tmp_path / "out", "--json")
        assert os.path.basename(run.json["restored"][0]["to"]) == made
    for refused in ("", " ", "..", "../up", "a/b", "a:b", "CON", "nul.txt", "-x", "x" * 250, "a\x07b", "x."):
        run = rustfern("restore", number, "--as", refused, "--to", tmp_path / "none")
        assert run.status == 2 and "cannot be the name" in run.err and not (tmp_path / "none").exists()
    assert rustfern("restore", "1", "2", "--as", "x", "--to", tmp_path / "out").status == 2
    assert rustfern("restore", "--to", tmp_path / "out").status == 2


def test_the_readable_text_of_any_copy(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "disk" / "home" / "ines" / "Documents"
    whole = docx("The garboard seam was payed with glue", "Order larch, 32 mm")
    write(home / "hull survey.docx", whole[:-40])
    write(home / "old" / "hull survey.docx", whole)
    rustfern("scan", tmp_path / "disk", "--document", "hull survey", "--happened", "wont-open")
    for again in (False, True):
        run = rustfern("restore", "1a", "--as-text", "--to", tmp_path / "out")
        assert run.status == 0 and "1 of 1" in run.out and "Read it with the person" in run.out
        assert ("was there already" in run.out) is again
    made = [path for path in (tmp_path / "out").iterdir() if path.suffix == ".txt"]
    assert [path.read_text() for path in made] == ["The garboard seam was payed with glue\n\nOrder larch, 32 mm\n"]
    none = rustfern("restore", "1a", "--to", tmp_path / "bare")
    assert "0 of 1" in none.out and "Open each there" not in none.out and "--as-text" in none.out


def test_ranges_lists_and_all(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    for what, count in ((["1-2"], 2), (["1,2"], 2), (["1", "2-3"], 3), (["all"], 3), (["ALL"], 3)):
        run = rustfern("restore", *what, "--to", tmp_path / f"out {what[0]}", "--json")
        assert len(run.json["restored"]) == count, run.err
    assert rustfern("restore", "3-1", "--to", tmp_path / "x").status == 2


def test_only_outside_of_what_was_searched(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    refused = rustfern("restore", "1", "--to", disk / "out")
    assert refused.status == 2 and not (disk / "out").exists()
    assert "on the same disk" in rustfern("restore", "1", "--to", tmp_path / "near").err
    assert rustfern("restore", "1", "--to", disk / "out", "--allow-inside").status == 0
    assert len(files_in(disk / "out")) == 1


def test_space_is_looked_at_first(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    from rustfern.core.errors import WrongUsage
    from rustfern.operations.restore import check_space

    with pytest.raises(WrongUsage, match="not enough space"):
        check_space(str(tmp_path / "not/yet/there"), 1 << 62)
    check_space(str(tmp_path), 1)


def test_what_a_killed_run_left_is_cleaned(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    dead = (
        subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"], capture_output=True, check=True)
        .stdout.decode()
        .strip()
    )
    to = tmp_path / "out"
    here = fresh_name().split("-")[1]
    write(to / f".rustfern-{here}-{dead}-{'ab' * 8}", "half a file")
    write(to / f".rustfern-{here}-{dead}-{'cd' * 8}/inner.txt", "half a folder")
    alive = write(to / f".rustfern-{here}-{os.getpid()}-{'ef' * 8}", "somebody works on this")
    far = write(to / f".rustfern-00000000-{dead}-{'ef' * 8}", "another machine works on this")
    mine = write(to / ".rustfern-notes", "not ours")
    assert rustfern("restore", "1", "--to", to).status == 0
    assert sorted(p.name for p in to.glob(".rustfern-*")) == sorted([alive.name, far.name, mine.name])


def test_a_list_that_cannot_be_written_refuses_no_restored_file(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    to = tmp_path / "out"
    to.mkdir()
    (to / "restored.jsonl").symlink_to(tmp_path / "away")
    run = rustfern("restore", "1", "--to", to, "--json")
    assert run.status == 0 and Path(run.json["restored"][0]["to"]).is_file() and not (tmp_path / "away").exists()
    assert any("not in the list" in note for note in run.json["restored"][0]["notes"])
    (to / "restored.jsonl").unlink()
    write(to / "restored.jsonl", '{"cut off')
    assert rustfern("restore", "2", "--to", to).status == 0
    assert json.loads((to / "restored.jsonl").read_text().splitlines()[1])["id"].startswith("2")


def test_a_link_in_the_way_of_a_layout_is_refused(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    away = tmp_path / "away"
    away.mkdir()
    (tmp_path / "out").mkdir()
    (tmp_path / "out/home").symlink_to(away)
    run = rustfern("restore", "--all-best", "--keep-layout", "--to", tmp_path / "out")
    assert run.status == 3 and "something else there" in run.out and not list(away.iterdir())


@given(st.sampled_from(HARD) | st.text(max_size=60), st.text(max_size=120))
def test_no_name_leaves_the_target(name: str, original: str) -> None:
    facts: Any = SimpleNamespace(members=[], format="odt")
    document: Any = SimpleNamespace(name=name, original=f"/r/{original}", person="../ines")
    copy = StoredCopy("1a", 1, "/r/x", "/r", facts, document)
    wanted, _ = named(copy, name)
    parts = [*layout(copy), wanted, safe_name(name)]
    for part in parts:
        assert part not in ("", ".", "..") and "/" not in part and "\0" not in part and len(part.encode()) <= 255
        assert part.isprintable() or "\u200d" in part or "\xa0" in part or "\u3000" in part
    assert wanted.endswith(".odt")
