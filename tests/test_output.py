"""Where files of ours come to lie: never inside what is searched whatever it is called there, never through a link, private, one run at a time."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import stat
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest
from conftest import BUILT, Run, write
from test_safety import everything

from rustfern.cases.case_file import CaseFile
from rustfern.core.errors import CaseError
from rustfern.output.folder import Folder
from rustfern.output.inside import Mount, Roots, _on_disk
from rustfern.output.temporary import fresh_name

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
ROOT = pytest.mark.skipif(sys.platform != "linux" or os.geteuid() != 0, reason="mounts need rights")


def make(folder: Path) -> Path:
    """A disk with a text that was saved over, and its longer earlier version."""
    write(folder / "Documents/notes.txt", "garboard seam raked out", T0)
    write(folder / "Documents/notes.txt~", "garboard seam raked out and payed with red lead, twice over", T0 - 60)
    return folder


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    return make(tmp_path / "up/disk")


# --- inside of what is searched ---------------------------------------------------------------------------------------


def test_a_layout_that_leads_into_what_is_searched_from_above(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    before = everything(disk)
    for target, layout in ((disk.parent / "disk", False), (disk, True), (disk / "Documents/new", True)):
        run = rustfern("restore", "1", "--to", target, *(["--keep-layout"] if layout else []))
        assert run.status == 2 and "inside what was searched" in run.err
    # The folders of an original of another search, below the parent of the disk, are those of the disk itself.
    make(tmp_path / "other/disk")
    assert rustfern("scan", tmp_path / "other").status == 0
    run = rustfern("restore", "1", "--keep-layout", "--to", disk.parent)
    assert run.status == 2 and "into what was searched" in run.err
    assert everything(disk) == before


@ROOT
@pytest.mark.parametrize("what", ["disk", "disk/Documents"])
def test_other_names_of_the_same_folder(what: str, disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    other = tmp_path / "other name"
    other.mkdir()
    if subprocess.run(["mount", "--bind", disk.parent / what, other], capture_output=True).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        rustfern("scan", disk)
        before = everything(disk)
        assert rustfern("restore", "1", "--to", other / "back").status == 2
        assert rustfern("keep", disk, "--to", other / "kept").status == 2
        assert rustfern("report", "--to", other / "page.html").status == 2
        assert rustfern("look", "1", "--figure", other / "life.png").status == 2
        assert rustfern("scan", disk, "--case", other / "x.fern").status == 2
        assert everything(disk) == before
    finally:
        subprocess.run(["umount", other], check=True)


def test_the_mount_table_tells_where_a_part_lies() -> None:
    table = [
        Mount("8:1", "/", "/"),
        Mount("8:2", "/", "/media/disk"),
        Mount("8:2", "/home/ines", "/mnt/a b"),
        Mount("0:9", "/@home", "/home"),
    ]
    assert _on_disk("/mnt/a b/Documents", table) == ("8:2", "/home/ines/Documents")
    assert _on_disk("/media/disk", table) == ("8:2", "/") and _on_disk("/home/x", table) == ("0:9", "/@home/x")
    assert _on_disk("/homes/x", table) == ("8:1", "/homes/x")
    assert not Roots([]).hold("/") and Roots(["/"]).hold("/tmp/x/y")


# --- cases --------------------------------------------------------------------------------------------------------------


def _foreign(path: Path) -> sqlite3.Connection:
    """Somebody else's database, with what it has not merged yet beside it."""
    db = sqlite3.connect(path)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("CREATE TABLE dues (boat TEXT)")
    db.execute("INSERT INTO dues VALUES ('Kittiwake')")
    db.commit()
    return db


def test_what_is_no_case_is_never_opened_as_one(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    there = tmp_path / "there"
    there.mkdir()
    with closing(_foreign(there / "made.sqlite")):
        for name in ("made.sqlite", "made.sqlite-wal"):
            shutil.copy(there / name, there / name.replace("made", "dues"))
    with closing(sqlite3.connect(there / "hot.sqlite")) as made:
        made.execute("CREATE TABLE a (b)")
    write(there / "hot.sqlite-journal", b"\xd9\xd5\x05\xf9\x20\xa1\x63\xd7" + bytes(504))
    write(there / "empty.fern", "")
    write(there / "short.fern", b"SQLite format 3\0")
    os.mkfifo(there / "pipe.fern")
    (there / "link.fern").symlink_to(there / "dues.sqlite")
    own = CaseFile.create(str(tmp_path / "own.fern"))
    own.close()
    os.link(tmp_path / "own.fern", there / "second name.fern")
    before = everything(there)
    for name in ("dues.sqlite", "hot.sqlite", "empty.fern", "short.fern", "pipe.fern", "link.fern", "second name.fern"):
        for words in (["look", "1"], ["scan", disk], ["restore", "1", "--to", tmp_path / "to"], ["report", "--csv"]):
            run = rustfern(*words, "--case", there / name)
            assert run.status == 2 and "not a case file" in run.err, (name, words, run.err)
    assert everything(there) == before


def test_a_case_in_what_was_searched_is_not_written_to(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    assert rustfern("scan", disk, "--case", tmp_path / "a.fern").status == 0
    inside = disk / "a.fern"
    shutil.move(tmp_path / "a.fern", inside)
    rustfern("scan", disk)
    before = everything(disk)
    for words in (
        ["look", "1"],
        ["cases", str(inside), "--note", "x"],
        ["cases", str(inside), "--continue"],
        ["scan", tmp_path],
    ):
        run = rustfern(*words, *(["--case", inside] if words[0] != "cases" else []))
        assert run.status == 2, (words, run.out)
    assert everything(disk) == before


def test_one_search_at_a_time_in_one_case(tmp_path: Path, disk: Path, rustfern: Rustfern) -> None:
    first = CaseFile.create(str(tmp_path / "c.fern"))
    first.begin_work()
    run = rustfern("scan", disk, "--case", tmp_path / "c.fern")
    assert run.status == 2 and f"another search works in this case (process {os.getpid()}" in run.err and not run.out
    first.close()
    assert rustfern("scan", disk, "--case", tmp_path / "c.fern").status == 0
    # One that was killed is at work no more.
    killed = CaseFile.create(str(tmp_path / "c.fern"))
    killed.connection.execute("INSERT INTO busy VALUES (?, '1', ?, 'then')", (2**22 - 1, os.uname().nodename))
    assert rustfern("scan", disk, "--case", tmp_path / "c.fern").status == 0
    killed.close()
    with pytest.raises(CaseError, match="no such case"):
        CaseFile.open(str(tmp_path / "none"))


# --- whose case -----------------------------------------------------------------------------------------------------------


def test_no_other_case_is_ever_taken_instead(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    other = make(tmp_path / "other")
    assert rustfern("scan", other).status == 0
    looked = rustfern("look", "1")
    assert looked.status == 0 and f"searched {other}" in looked.err.splitlines()[0]
    # A search in another terminal changes nothing here, nor is this case taken there.
    second = {"capture_output": True, "text": True, "start_new_session": True}
    env = {**os.environ, "XDG_STATE_HOME": str(tmp_path / "state")}
    subprocess.run([BUILT, "scan", disk], env=env, **second)
    assert f"searched {other}" in rustfern("look", "1").err.splitlines()[0]
    elsewhere = subprocess.run([BUILT, "look", "1"], env=env, **second)
    assert (
        elsewhere.returncode == 2 and "no case is in use in this terminal" in elsewhere.stderr and not elsewhere.stdout
    )
    named = rustfern("look", "1", RUSTFERN_CASE=str(tmp_path / "nothing.fern"))
    assert named.status == 2 and "no such case file" in named.err


def test_a_case_in_memory_is_said_to_be_gone(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    from rustfern.cases import location

    make(tmp_path / "other")
    rustfern("scan", tmp_path / "other")
    location_env = {"XDG_STATE_HOME": str(tmp_path / "state")}
    code = f"from rustfern.cases.location import remember; remember(None, [{str(disk)!r}])"
    subprocess.run([sys.executable, "-c", code], check=True, env={**os.environ, **location_env})
    for words in (["look", "1"], ["restore", "1", "--to", tmp_path / "to"], ["report", "--csv"], ["cases", "--log"]):
        run = rustfern(*words)
        assert run.status == 2 and "in memory only" in run.err and not run.out
    assert location.VARIABLE == "RUSTFERN_CASE"


def test_the_guide_restores_only_what_was_asked_for(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    run = rustfern("guide", disk, "--document", "mooring plan", "--to", tmp_path / "to", "--yes")
    assert run.status == 1 and "no lost document is called mooring plan" in run.err and "1  notes.txt" in run.err
    assert not (tmp_path / "to/restored").exists()


# --- what lies in the target ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("trap", ["link", "hard link", "pipe", "folder"])
def test_what_lies_in_the_target_is_not_trusted(trap: str, disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    away = write(tmp_path / "away/precious.txt", "not ours")
    for name in ("back/restored.jsonl", "kept/rustfern-kept.jsonl", "kept/files"):
        place = tmp_path / name
        place.parent.mkdir(exist_ok=True)
        if trap == "link":
            place.symlink_to(away.parent if name.endswith("files") else away)
        elif trap == "hard link" and not name.endswith("files"):
            os.link(away, place)
        elif trap == "pipe":
            os.mkfifo(place)
        elif trap == "folder" and not name.endswith("files"):
            place.mkdir()
    run = rustfern("restore", "1", "--to", tmp_path / "back", "--json")
    assert run.status == 0 and "not in the list" in run.json["restored"][0]["notes"][-1]
    kept = rustfern("keep", disk, "--to", tmp_path / "kept")
    assert kept.status == 2 and kept.err.count("rustfern:") >= 1
    assert away.read_text() == "not ours" and os.listdir(away.parent) == ["precious.txt"]


def test_files_of_a_kept_folder_that_became_a_link(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    kept = tmp_path / "kept"
    assert rustfern("keep", disk, "--to", kept).status == 0
    (tmp_path / "away").mkdir()
    shutil.move(kept / "files", tmp_path / "elsewhere")
    (kept / "files").symlink_to(tmp_path / "away")
    write(disk / "Documents/more.txt~", "a copy of its own", T0)
    run = rustfern("keep", disk, "--to", kept, "--json")
    assert run.status == 2 or run.json["taken"] == 0
    assert not os.listdir(tmp_path / "away")
    # A search does not follow it either, nor does a list on a disk hide the rest of that disk.
    shutil.copytree(disk, kept / "more")
    found = rustfern("scan", kept, "--json").json
    assert found["documents"] and all("more" in copy["path"] for d in found["documents"] for copy in d["copies"])
    assert any("not believed" in problem["message"] for problem in found["problems"])


def test_a_folder_that_is_swapped_for_a_link_gets_nothing(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    for number in range(60):
        write(disk / f"Documents/plan {number}.txt", f"crane {number}", T0)
        write(
            disk / f"Documents/plan {number}.txt~",
            f"crane {number} for the fourteenth, two slings and a cradle",
            T0 - 60,
        )
    rustfern("scan", disk)
    target, away = tmp_path / "target", tmp_path / "away"
    away.mkdir()
    over = threading.Event()

    def swap() -> None:
        while not over.is_set():
            for inner in (target / "Documents", target):
                try:
                    os.rename(inner, tmp_path / f"moved {time.monotonic_ns()}")
                    os.symlink(away, inner)
                    time.sleep(0.002)
                    os.unlink(inner)
                except OSError:
                    pass
            time.sleep(0.003)

    swapper = threading.Thread(target=swap)
    swapper.start()
    for _ in range(3):
        rustfern("restore", "--all-best", "--keep-layout", "--to", target)
        rustfern("keep", disk, "--to", target)
    over.set()
    swapper.join()
    assert not [path for path in away.rglob("*") if path.is_file()]


def test_a_tree_of_a_thousand_levels_is_removed_and_links_are_not_followed(tmp_path: Path) -> None:
    precious = write(tmp_path / "precious/x", "stays")
    with Folder(str(tmp_path)) as top:
        deep = top.below(["scratch", *["d"] * 1_200])
        deep.make_link("out", str(precious.parent))
        os.close(deep.make("file"))
        deep.close()
        top.remove("scratch")
        assert top.names() == ["precious"] and precious.exists() and top.is_where_it_was()


# --- privacy -----------------------------------------------------------------------------------------------------------------


@pytest.fixture
def _umask() -> Iterator[None]:
    before = os.umask(0o027)
    yield
    os.umask(before)


def mode(path: Path) -> int:
    return stat.S_IMODE(path.lstat().st_mode)


@pytest.mark.parametrize(("theirs", "wanted"), [(0o600, 0o600), (0o666, 0o640), (0o777, 0o750), (0o440, 0o640)])
def test_modes_are_those_of_the_source_within_the_umask(
    theirs: int, wanted: int, disk: Path, tmp_path: Path, rustfern: Rustfern, _umask: None
) -> None:
    for path in disk.rglob("*.txt*"):
        path.chmod(theirs)
    rustfern("scan", disk)
    assert rustfern("restore", "1", "--to", tmp_path / "to").status == 0
    assert rustfern("keep", disk, "--to", tmp_path / "kept").status == 0
    restored = next((tmp_path / "to").glob("notes*"))
    assert mode(restored) == wanted
    assert {mode(path) for path in (tmp_path / "kept/files").rglob("*.txt*")} == {wanted}
    assert rustfern("report", "--to", tmp_path / "page.html").status == 0
    assert rustfern("look", "1", "--figure", tmp_path / "life.png").status == 0
    for name in ("to/restored.jsonl", "kept/rustfern-kept.jsonl", "page.html", "life.png"):
        assert mode(tmp_path / name) == 0o600, name
    assert all(not mode(path) & 0o077 for path in (tmp_path / "kept").rglob("*") if path.is_dir())


def test_a_case_is_private_and_goes_with_what_remembers_it(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    path = tmp_path / "c.fern"
    rustfern("scan", disk, "--case", path)
    # What a run that was killed left there: its process is gone, and its number was never so high.
    here = fresh_name().split("-")[1]
    write(tmp_path / "state/rustfern/terminals" / f".rustfern-{here}-999999999-{'ab' * 8}", "half a file")
    path.chmod(0o644)
    rustfern("scan", disk, "--case", path, "--words", "red lead")
    assert mode(path) == 0o600
    rustfern("look", "1", "--words", "slipway secret", "--case", path)
    assert b"slipway secret" in path.read_bytes()
    assert rustfern("cases", path, "--purge-text").status == 0
    for words in (b"slipway secret", b"red lead, twice"):
        assert words not in path.read_bytes()
    log = rustfern("cases", path, "--log", "--json").json["log"]
    assert [each["says"] for each in log if "--words" in each["says"]][-1][-3:] == ["(forgotten)", "--case", str(path)]
    with closing(sqlite3.connect(path)) as db, pytest.raises(sqlite3.IntegrityError):
        db.execute("DELETE FROM log")
    remembered = list((tmp_path / "state/rustfern/terminals").iterdir())
    assert len(remembered) == 1 and remembered[0].suffix == ".json" and mode(remembered[0]) == 0o600
    assert rustfern("cases", path, "--remove", "--yes").status == 0
    assert not list((tmp_path / "state/rustfern/terminals").iterdir()) and not path.exists()


# --- at once -----------------------------------------------------------------------------------------------------------------


def test_several_restores_into_one_folder_write_nothing_twice(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    for number in range(6):
        write(disk / f"Documents/plan {number}.txt", f"crane {number}", T0)
        write(disk / f"Documents/plan {number}.txt~", f"crane {number} for the fourteenth, two slings", T0 - 60)
    rustfern("scan", disk)
    env = {**os.environ, "XDG_STATE_HOME": str(tmp_path / "state")}
    command = [BUILT, "restore", "--all-best", "--to", str(tmp_path / "to"), "--json"]
    runs = [subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=env) for _ in range(4)]
    answers = [json.loads(run.communicate(timeout=100)[0]) for run in runs]
    assert all(len(answer["restored"]) == 7 and not answer["refused"] for answer in answers)
    files = {path.name for path in (tmp_path / "to").iterdir()}
    assert len(files) == 8 and "restored.jsonl" in files
    assert len((tmp_path / "to/restored.jsonl").read_text().splitlines()) == 7


def test_two_keep_in_one_folder_one_after_the_other(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    import fcntl

    assert rustfern("keep", disk, "--to", tmp_path / "kept").status == 0
    with (tmp_path / "kept/rustfern-kept.jsonl").open("r+") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        run = rustfern("keep", disk, "--to", tmp_path / "kept")
    assert run.status == 2 and "another command keeps files in this folder" in run.err
