"""The way in and the paper trail: cases and their log, the guide in a terminal, completion, the manual page."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from conftest import Run, write

from rustfern.cases import manage
from rustfern.core.errors import CaseError
from rustfern.core.times import Clock

Rustfern = Callable[..., Run]
T0 = 1_790_000_000


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    for person in ("ines", "tobias"):
        top = tmp_path / "disk/home" / person
        write(top / ".config/x", "")
        write(top / f"Documents/{person} notes.txt", "garboard seam raked out", T0)
        write(top / f"Documents/{person} notes.txt~", "garboard seam raked out and payed with red lead, twice", T0 - 60)
    return tmp_path / "disk"


def test_cases_are_listed_annotated_chosen_and_removed(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    assert rustfern("cases").status == 1
    rustfern("scan", disk, "--person", "ines")
    rustfern("scan", disk)
    first, second = rustfern("cases", "--json").json["cases"]
    assert (first["lost"], second["lost"], first["used"], second["used"]) == (2, 1, True, False)
    assert rustfern("cases", "2", "--ticket", "4711", "--technician", "T. Okoro", "--note", "called Ines").status == 0
    assert rustfern("cases", "4711", "--continue").status == 0
    shown = rustfern("cases").out
    assert "ticket 4711" in shown and " ▶   2 " in shown
    assert rustfern("restore", "1", "--to", tmp_path / "out").status == 0
    rustfern("look", "9")
    log = rustfern("cases", "--json", "--log").json["log"]
    assert [each["says"][0] for each in log] == ["scan", "called Ines", "restore", "look"]
    assert [each["status"] for each in log] == [0, None, 0, 1] and all(each["began"] <= each["ended"] for each in log)
    assert "called Ines" in rustfern("cases", "--log").out
    assert rustfern("report", "--for", "record", "--to", tmp_path / "r.html").status == 0
    page = (tmp_path / "r.html").read_text()
    assert "called Ines" in page and "rustfern restore 1 --to" in page and "4711" in page and "T. Okoro" in page
    refused = rustfern("cases", "2", "--remove")
    assert refused.status == 2 and "--yes" in refused.err
    assert rustfern("cases", "2", "--remove", "--yes").status == 0 and not Path(second["path"]).exists()
    assert rustfern("cases", "nothing").status == 1
    gone = rustfern("look", "1")
    assert gone.status == 2 and "no case is in use in this terminal" in gone.err  # the other one is never taken instead
    assert rustfern("cases", "1", "--continue").status == 0 and rustfern("look", "1").status == 0
    rustfern("scan", disk)
    assert rustfern("cases", "--json").json["cases"][0]["used"]


def test_a_second_search_reads_only_what_has_changed(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    """Another case of the same disk will do; a file that was changed, or put in the place of another, is read again whatever its time."""
    for number in range(20):
        write(disk / f"home/ines/Documents/survey{number}.txt", "Larch on oak, carvel built, topsides fair", T0)
        write(disk / f"home/ines/Documents/survey{number}.txt~", "Larch on oak, carvel built", T0 - 60)
    time.sleep(2.1)  # what was changed just now may change again unseen, and is not relied on

    def scan(*more: object) -> dict[str, object]:
        answer: dict[str, object] = rustfern("scan", disk, "--json", *more).json
        return answer

    def answers(found: dict[str, object]) -> list[dict[str, object]]:
        told = found["documents"]
        assert isinstance(told, list)
        return told

    def read(found: dict[str, object]) -> int:
        totals = found["totals"]
        assert isinstance(totals, dict)
        return int(totals["bytes_read"])

    case = ("--case", tmp_path / "one.fern")
    first, second = scan(*case), scan(*case)
    assert read(first) > 0 and read(second) == 0 and answers(second) == answers(first)
    rustfern("cases", tmp_path / "one.fern", "--purge-text")
    assert read(scan(*case)) == read(first)
    assert [read(scan()), read(scan())] == [read(first), 0]  # the newest other case of this disk knows them
    path = disk / "home/ines/Documents/survey3.txt~"
    facts = path.stat()
    path.write_bytes(b"\0" * facts.st_size)
    os.utime(path, ns=(facts.st_atime_ns, facts.st_mtime_ns))
    fifth = scan()
    assert read(fifth) == facts.st_size
    states = {copy["path"]: copy["state"] for document in answers(fifth) for copy in document["copies"]}  # type: ignore[attr-defined]
    assert states[str(path)] == "damaged"


def test_numbers_are_not_tickets_and_old_cases_go_together(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    for person in ("ines", "tobias", "ines"):
        rustfern("scan", disk, "--person", person)
    assert rustfern("cases", "3", "--ticket", "2").status == 0
    both = rustfern("cases", "2", "--note", "which")
    assert both.status == 2 and "number 2 is" in both.err and "ticket 2 is" in both.err
    assert (
        rustfern("cases", "3", "--ticket", "3").status == 0
        and rustfern("cases", "3", "--note", "one and the same").status == 0
    )
    assert rustfern("cases", "--older-than", "1d").status == 1
    for each in rustfern("cases", "--json").json["cases"][1:]:
        with sqlite3.connect(each["path"]) as file:
            file.execute("UPDATE about SET value = '2025-01-01T10:00:00+00:00' WHERE key = 'made'")
    assert len(rustfern("cases", "--older-than", "30d", "--json").json["cases"]) == 2
    assert rustfern("cases", "--older-than", "30d", "--remove").status == 2
    assert rustfern("cases", "--older-than", "30d", "--remove", "--yes").status == 0
    assert [each["used"] for each in rustfern("cases", "--json").json["cases"]] == [True]
    assert (
        rustfern("cases", "1", "--older-than", "30d").status == 2
        and rustfern("cases", "--older-than", "soon").status == 2
    )


def test_the_list_of_the_case_again(disk: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    again = rustfern("look")
    assert again.status == 0 and "ines notes.txt" in again.out and "restore --all-best" in again.out
    listed = rustfern("look", "--json").json
    assert listed["schema"] == "rustfern/list-1" and [d["id"] for d in listed["documents"]] == [1, 2]
    assert rustfern("restore", "tobas", "--to", disk.parent / "out").status == 0  # as `scan --document` forgives


def test_the_log_is_only_added_to(disk: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    path = rustfern("cases", "--json").json["cases"][0]["path"]
    with sqlite3.connect(path) as db:
        for statement in ("DELETE FROM log", "UPDATE log SET says = '[]'"):
            with pytest.raises(sqlite3.IntegrityError, match="only added to"):
                db.execute(statement)
    with pytest.raises(CaseError):
        manage.add(path + "x", ["look"], 0, datetime.now(UTC))


def test_texts_are_forgotten_to_the_last_byte(disk: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk, "--person", "ines", "--words", "red lead")
    row = rustfern("cases", "--json").json["cases"][0]
    assert row["texts"] and b"payed with red lead" in Path(row["path"]).read_bytes()
    assert "texts in it are forgotten" in rustfern("cases", "--purge-text").out
    assert b"payed with" not in Path(row["path"]).read_bytes()
    assert not rustfern("cases", "--json").json["cases"][0]["texts"]
    assert "no texts" in rustfern("cases", "--purge-text").out


@pytest.mark.skipif(sys.platform == "win32", reason="needs a pseudo-terminal")
@pytest.mark.parametrize("language", ["en", "de"])
def test_the_guide_asks_and_leads(language: str, disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    import pty

    # person (by name), what happened (first none of them), open, since, name, time (first wrong, then none), kind, target, go on twice,
    # the copy (first one that is not there, then the list), the page
    said = [
        "tobias", "9", "overwritten", "y", "2", "tobias notes", "some day", "", "7", str(tmp_path / "saved"), "", "", "44", "?", "tobias", "",
    ]  # fmt: skip
    words = ["is none of them", "do not close it"]
    if language == "de":
        said[2:4] = ["darübergespeichert", "j"]
        words = ["ist nichts davon", "nicht schließen", "Wem gehört das Dokument?", "Was ist geschehen?"]
    leader, follower = pty.openpty()
    env = {
        **os.environ,
        "XDG_STATE_HOME": str(tmp_path / "state"),
        "COLUMNS": "100",
        "TERM": "dumb",
        "LANGUAGE": language,
    }
    command = [sys.executable, "-m", "rustfern", "guide", str(disk)]
    with subprocess.Popen(command, stdin=follower, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, env=env) as run:
        for answer in said:
            os.write(leader, f"{answer}\n".encode())
            time.sleep(0.05)
        out = run.communicate(timeout=120)[0].decode()
    os.close(leader)
    os.close(follower)
    steps = [line.split()[2] for line in out.splitlines() if line.startswith("$ rustfern")]
    assert steps == ["ready", "keep", "scan", "look", "restore", "look", "restore", "report"] and run.returncode == 0, (
        out
    )
    assert all(each in out for each in words) and "there is no document 44" in out, out
    assert "could mean several times" in out and f'lang="{language}"' in (tmp_path / "saved/report.html").read_text(
        "utf-8"
    )
    restored = [path.name for path in (tmp_path / "saved/restored").glob("*.txt")]
    assert len(restored) == 1 and restored[0].startswith("tobias notes (backup")


def test_the_guide_by_options_and_without_anybody(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    alone = rustfern("guide", disk)
    assert alone.status == 2 and "nobody to ask" in alone.err and "--yes" in alone.err
    run = rustfern("guide", disk, "--person", "ines", "--happened", "overwritten", "--to", tmp_path / "to", "--yes")
    assert run.status == 0 and len(list((tmp_path / "to/restored").glob("*.txt"))) == 1
    assert [
        each["says"][0] for each in rustfern("cases", "--json", "--log").json["log"] if each["status"] is not None
    ] == [
        "scan",
        "look",
        "restore",
    ]
    empty = tmp_path / "empty"
    empty.mkdir()
    assert rustfern("guide", empty, "--to", tmp_path / "to2", "--yes").status == 1


def test_the_guide_never_goes_on_in_an_older_case(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    inside = {"XDG_STATE_HOME": str(disk / "home/ines/.local/state")}
    other = tmp_path / "other/home/petra"
    write(other / ".config/x", "")
    write(other / "Documents/secret.txt", "garboard seam raked out", T0)
    write(other / "Documents/secret.txt~", "garboard seam raked out and payed with red lead, twice", T0 - 60)
    assert rustfern("scan", tmp_path / "other", **inside).status == 0
    run = rustfern("guide", disk, "--to", tmp_path / "to", "--yes", **inside)
    restored = [path.name for path in (tmp_path / "to/restored").glob("*.txt")]
    assert run.status == 0 and len(restored) == 1 and "secret" not in restored[0]
    assert len(list((tmp_path / "to").glob("case-*.fern"))) == 1
    # Nothing new was written into the folder of cases that lies in what is searched.
    assert len(list((disk / "home/ines/.local/state/rustfern").glob("case-*.fern"))) == 1


@pytest.mark.parametrize(
    ("shell", "words", "wanted"),
    [
        ("bash", "look 1", ["plain,1", "plain,1a", "plain,1b"]),
        ("bash", "restore ines", ["plain,ines notes.txt"]),
        ("bash", "sc", ["plain,scan"]),
    ],
)
def test_completion(disk: Path, rustfern: Rustfern, shell: str, words: str, wanted: list[str]) -> None:
    rustfern("scan", disk, "--person", "ines")
    found = rustfern(
        _RUSTFERN_COMPLETE=f"{shell}_complete", COMP_WORDS=f"rustfern {words}", COMP_CWORD=str(len(words.split()))
    )
    assert found.out.split("\n")[:-1] == wanted
    power = rustfern(
        _RUSTFERN_COMPLETE="powershell_complete", COMP_LINE=f"rustfern {words}", COMP_WORD=words.split()[-1]
    )
    values = [line.partition("\t")[0].strip("'") for line in power.out.splitlines()]
    assert values == [each.removeprefix("plain,") for each in wanted]
    for each in ("bash", "zsh", "fish", "powershell"):
        assert "rustfern" in rustfern("completion", each).out


def test_days_are_called_as_people_do() -> None:
    clock = Clock.of_zone("Europe/London")
    now = datetime(2026, 7, 16, 10, 0, tzinfo=UTC)
    said = [clock.near(now - timedelta(days=days), now) for days in (0, 1, 2, 6, 7, -1)]
    assert said == ["today", "yesterday", "Tuesday", "Friday", "", ""]
    assert clock.near(datetime(2026, 7, 15, 23, 30, tzinfo=UTC), now) == "today"


def test_each_command_explains_itself(rustfern: Rustfern) -> None:
    from rustfern.cli import COMMANDS

    for name in COMMANDS:
        run = rustfern(name, "--help")
        assert run.status == 0 and "Examples" in run.out and max(map(len, run.out.splitlines())) <= 120, name
    manual = (Path(__file__).parents[1] / "docs/rustfern.1").read_text()
    assert all(f"rustfern {name} " in manual for name in COMMANDS)


def test_odd_text_in_notes(disk: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    assert rustfern("cases", "--note", "line\none \x1b[31m red").status == 0
    out = rustfern("cases", "--log").out
    assert "\x1b[31m" not in out and "\\u001b[31m red" in out
