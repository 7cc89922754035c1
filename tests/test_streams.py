"""What is typed and where answers go: hostile names in messages, closed and full streams, odd zones, pipes, sheets and pages."""

from __future__ import annotations

import csv
import io
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import BUILT, Run, packed, write

from rustfern.reports.report import cell

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
NASTY = "a\x1b[31mred\u202e.txt"


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    write(tmp_path / "disk/Documents/notes.txt", "garboard seam raked out", T0)
    write(
        tmp_path / "disk/Documents/notes.txt~", "garboard seam raked out and payed with red lead, twice over", T0 - 60
    )
    return tmp_path / "disk"


@pytest.mark.parametrize(
    "words",
    [["report", NASTY, NASTY], ["check"], ["cases", "1", NASTY], ["scan", "--happened", NASTY], [NASTY], ["look", NASTY, NASTY, NASTY], ["demo", NASTY, NASTY],
     ["scan", f"--{NASTY}"], ["restore", "1", "--to"], ["keep", NASTY], ["places", NASTY], ["check", NASTY]],
)  # fmt: skip
def test_no_message_carries_a_raw_sign_of_a_name(words: list[str], rustfern: Rustfern) -> None:
    run = rustfern(*words)
    assert run.status in (1, 2, 3) and "\x1b" not in run.err + run.out and "\u202e" not in run.err + run.out


@pytest.mark.parametrize(
    ("words", "status", "path"),
    [(["scan", "nowhere"], 2, True), (["look", "1"], 2, False), (["scan", "--happened", "so"], 2, False), (["restore", "1", "--to", "x", "--case", "none"], 2, True)],
)  # fmt: skip
def test_an_error_is_an_answer_too(words: list[str], status: int, path: bool, rustfern: Rustfern) -> None:
    run = rustfern(*words, "--json")
    assert run.status == status and run.json["schema"] == "rustfern/error-1" and run.json["message"] and run.err
    assert (run.json["path"] is not None) is path and set(run.json) == {"schema", "message", "path", "next"}


def _piped(words: list[object], redirect: str, tmp_path: Path) -> int:
    command = f'"$0" "$@" {redirect}'
    env = {**os.environ, "XDG_STATE_HOME": str(tmp_path / "state"), "NO_COLOR": "1"}
    run = subprocess.run(["sh", "-c", command, str(BUILT), *map(str, words)], env=env, capture_output=True, timeout=60)
    return run.returncode


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="needs a full device")
def test_the_exit_status_tells_what_was_done(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    quiet = "2>&- >/dev/null", "2>/dev/full >/dev/null"
    lost = ">&-", ">/dev/full", ">&- 2>&-", "</dev/null >&- 2>/dev/full"
    for number, redirect in enumerate(quiet + lost):
        wanted = 0 if redirect in quiet else 3
        assert _piped(["scan", disk], redirect, tmp_path) == wanted, redirect
        to = tmp_path / f"to {number}"
        assert _piped(["restore", "1", "--to", to], redirect, tmp_path) == wanted, redirect
        assert [path.read_text() for path in to.glob("notes*")] == [
            "garboard seam raked out and payed with red lead, twice over"
        ]
        assert _piped(["scan", disk / "nowhere"], redirect, tmp_path) == 2, redirect
    assert _piped(["scan", disk, "--everything"], "| head -c 1", tmp_path) == 0
    script = f'set -o pipefail; "{BUILT}" check -h | true'
    assert subprocess.run(["bash", "-c", script], capture_output=True).returncode in (0, 141)


@pytest.mark.parametrize("zone", ["A+99", ":/etc/passwd", "Bogus/Zone", "<\x1b[31m>5", "", "x" * 5_000])
def test_odd_zones(zone: str, disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    for words in (
        ["scan", disk],
        ["look", "1"],
        ["restore", "1", "--to", tmp_path / "to"],
        ["report", "--for", "record", "--to", tmp_path / "r.html"],
    ):
        run = rustfern(*words, TZ=zone)
        assert run.status == 0 and "\x1b" not in run.out, run.err


def test_modules_of_the_folder_it_is_started_in_are_not_taken(tmp_path: Path) -> None:
    for name in ("click", "rich", "json", "msgspec", "sqlite3"):
        write(tmp_path / f"{name}.py", "raise SystemExit('taken')")
    run = subprocess.run(
        [sys.executable, "-m", "rustfern", "places", "--help"], cwd=tmp_path, capture_output=True, text=True
    )
    assert run.returncode == 0 and "Usage" in run.stdout


@pytest.mark.parametrize("text", ["=1+1", "  =1+1", "\uff1d1", "\t=1", "\uff0b1", "@x", "-1", "\u00a0=1", "\r=1", "%0"])
def test_cells_are_no_formulas(text: str) -> None:
    out = io.StringIO()
    csv.writer(out).writerow([cell(text)])
    assert next(csv.reader([out.getvalue()]))[0].startswith("'")
    assert cell("plain 1=1") == "plain 1=1"


def test_pages_load_nothing(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    for form in ("customer", "record"):
        assert rustfern("report", "--for", form, "--to", tmp_path / f"{form}.html").status == 0
        page = (tmp_path / f"{form}.html").read_text()
        assert (
            "Content-Security-Policy\" content=\"default-src 'none'" in page
            and "<script" not in page
            and "http:" not in page.split("</head>")[0]
        )


def test_decoders_print_nothing(tmp_path: Path, rustfern: Rustfern) -> None:
    for name, data in packed("media.tar.xz").items():
        if name.endswith((".tif", ".tiff", ".jpg", ".png")):
            path = write(tmp_path / os.path.basename(name), data[: len(data) // 2] + b"\0" * 40)
            run = rustfern("look", path, "--json")
            assert not run.err or run.err.startswith("rustfern:"), run.err


def test_a_folder_with_a_pipe_is_restored_without_it(tmp_path: Path, rustfern: Rustfern) -> None:
    trash = tmp_path / "disk/home/ines/.local/share/Trash"
    write(trash / "files/plans/berth.txt", "berth one")
    os.mkfifo(trash / "files/plans/pipe")
    write(
        trash / "info/plans.trashinfo",
        "[Trash Info]\nPath=/home/ines/Documents/plans\nDeletionDate=2026-09-21T14:18:00\n",
    )
    answer = rustfern("scan", tmp_path / "disk", "--json").json
    folder = next(document for document in answer["documents"] if document["name"] == "plans")
    copy = folder["copies"][0]
    assert copy["state"] == "damaged" and "pipe" in copy["reason"] and copy["members"] == ["berth.txt"]
    run = rustfern("restore", copy["id"], "--to", tmp_path / "to", "--json")
    assert (
        run.status == 0
        and run.json["restored"][0]["state"] == "damaged"
        and "pipe" in run.json["restored"][0]["notes"][0]
    )
    assert [path.name for path in (tmp_path / "to").rglob("*") if path.suffix == ".txt"] == ["berth.txt"]
