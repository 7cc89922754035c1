"""What a technician may rely on: nothing searched is changed whatever is run, nothing of the disk is executed, no name is given twice, two
processes list what one does, full disks and jumping clocks are said.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import lzma
import os
import shutil
import sqlite3
import stat
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from conftest import BUILT, DATA, Run, by_name, odt, write

from rustfern.cases import case_file, manage
from rustfern.catalogue.loader import catalogue
from rustfern.core.model import State
from rustfern.core.remarks import About, Caution
from rustfern.operations import keep, keeper, restore, scan
from rustfern.operations.session import Session
from rustfern.output import atomic, temporary
from rustfern.search import lister, walk
from rustfern.sources import disk_health
from rustfern.sources.disk_health import DiskAccess
from rustfern.sources.registry import Sources

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
SVG = '<svg xmlns="http://www.w3.org/2000/svg" width="40" height="40"><rect width="40" height="40" fill="teal"/></svg>'


FOLDERS = ("XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_RUNTIME_DIR")
WATCH = """
import os, sys
_log = os.open({log!r}, os.O_CREAT | os.O_APPEND | os.O_WRONLY, 0o600)
_changing = ("os.mkdir", "os.remove", "os.rmdir", "os.symlink", "os.truncate", "os.chmod", "os.chown", "os.utime", "os.setxattr")
def _watch(event, args):
    paths = ()
    if event == "open" and isinstance(args[2], int) and args[2] & (os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC):
        paths = args[:1]
    elif event in _changing:
        paths = args[:1]
    elif event in ("os.rename", "os.link"):
        paths = args[:2]
    elif event == "sqlite3.connect" and "mode=ro" not in str(args[0]) and args[0] != ":memory:":
        paths = (str(args[0]).removeprefix("file://").partition("?")[0],)
    for path in paths:
        if isinstance(path, (str, bytes)):
            os.write(_log, os.path.abspath(os.fsencode(path)) + b"\\n")
sys.addaudithook(_watch)
"""
"""Writes down every path that a process opens for writing, makes, moves or changes (relative to a handle: from where it stands)."""


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    top = tmp_path / "disk/home/ines"
    write(top / ".config/libreoffice/4/user/backup/survey.odt_0.odt", odt("planking fair", "seam weeping"), T0 + 90)
    write(top / "Documents/survey.odt", odt("planking fair"), T0)
    write(top / "Documents/.~lock.survey.odt#", ",Ines,pc,21.09.2026 14:18,file:///x;", T0 + 30)
    for number in range(3):
        write(top / f"Documents/plan {number}.txt", f"crane {number}", T0)
        write(top / f"Documents/plan {number}.txt~", f"crane {number} for the fourteenth, two slings", T0 - 60)
    write(top / ".local/share/Trash/files/dues.txt", "mooring dues", T0 - 99)
    record = "[Trash Info]\nPath=/home/ines/Documents/dues.txt\nDeletionDate=2026-09-21T14:18:00\n"
    write(top / ".local/share/Trash/info/dues.txt.trashinfo", record)
    write(top / "Documents/flag.svg", SVG, T0)
    return tmp_path / "disk"


def everything(root: Path) -> dict[str, object]:
    """All that could be changed of each thing below a folder; access times only of files."""
    out: dict[str, object] = {}
    for path in [root, *sorted(root.rglob("*"))]:
        facts = path.lstat()
        regular = stat.S_ISREG(facts.st_mode)
        times = (facts.st_mtime_ns, facts.st_ctime_ns, facts.st_atime_ns if regular else 0)
        if regular:
            handle = os.open(path, os.O_RDONLY | getattr(os, "O_NOATIME", 0))
            with os.fdopen(handle, "rb") as stream:
                body = hashlib.file_digest(stream, "sha256").hexdigest()
        else:
            body = os.readlink(path) if path.is_symlink() else ""
        extra = os.listxattr(path, follow_symlinks=False) if hasattr(os, "listxattr") else []
        out[str(path)] = (facts.st_mode, facts.st_uid, facts.st_nlink, times, body, tuple(extra))
    return out


@pytest.mark.parametrize("how", ["own", "without rights", "all folders inside"])
def test_no_command_changes_what_is_searched(how: str, disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    papers = disk / "home/ines/Documents"
    with contextlib.closing(sqlite3.connect(papers / "dues.sqlite")) as made:
        made.execute("PRAGMA journal_mode = WAL")
        made.execute("CREATE TABLE dues (boat TEXT)")
        made.commit()
        shutil.copytree(papers, disk / "home/tobias/Documents")  # with its journals, as a crash leaves them
    write(disk / "Users/petra/NTUSER.DAT", lzma.decompress((DATA / "NTUSER.DAT.xz").read_bytes()))
    (disk / "tmp").mkdir()
    for path in sorted(disk.rglob("*"), reverse=True):
        os.utime(path, ns=(1_000_000_000_000_000_000, path.stat().st_mtime_ns))
        if how == "without rights":
            path.chmod(0o555 if path.is_dir() else 0o444)
    before = everything(disk)
    write(tmp_path / "watch/sitecustomize.py", WATCH.format(log=str(tmp_path / "written.txt")))
    trace = {"PYTHONPATH": str(tmp_path / "watch")}
    out = tmp_path / "out"
    env = {}
    if how == "all folders inside":
        env = {name: str(disk / "tmp") for name in (*FOLDERS, "TMPDIR")} | {"HOME": str(disk / "home/ines")}
        (tmp_path / "out").mkdir()
        env["RUSTFERN_CASE"] = str(tmp_path / "out/case.fern")
    for words in (
        ["ready", disk], ["places", disk], ["scan", disk, "--gentle"], ["scan", disk, "--thorough", "--everything"], ["scan", disk, "--words", "crane"],
        ["keep", disk, "--to", out / "kept"], ["check", "--recursive", disk], ["look", "1"], ["look", "1", "--text"], ["look", papers / "flag.svg"],
        ["restore", "--all-best", "--keep-layout", "--to", out / "restored"], ["report", "--for", "record", "--to", out / "r.html"],
        ["look", "1", "--figure", out / "life.png"], ["look", papers / "dues.sqlite"], ["check", papers / "dues.sqlite"],
        ["cases", "--log"], ["guide", disk, "--to", out / "guide", "--yes"], ["scan", disk / "home/ines"], *([["ready"]] if env else []),
    ):  # fmt: skip
        run = rustfern(*words, without_rights=how == "without rights", **env, **trace)
        assert run.status in (0, 1, 3), (words, run.err)
    after = everything(disk)
    assert [path for path in before.keys() | after.keys() if before.get(path) != after.get(path)] == []
    written = {os.path.realpath(path) for path in (tmp_path / "written.txt").read_text().splitlines()}
    assert written and [path for path in written if path.startswith(f"{disk}/")] == []


def test_nothing_of_the_folder_that_it_is_started_in_is_executed(disk: Path, tmp_path: Path) -> None:
    bait = tmp_path / "bait"
    for name in ("rustfern/__init__", "pickle", "resvg_py", "json", "platform"):
        write(bait / f"{name}.py", f"open({str(tmp_path / 'executed')!r}, 'w')")
    env = {**os.environ, "XDG_STATE_HOME": str(tmp_path / "state")}
    code = "import os, sys; sys.path.remove(''); from rustfern.search import lister; lister.SEVERAL = lister.MANY = 0; "
    code += "from rustfern import scan; from rustfern.formats.drawings.svg_render import draw; scan([sys.argv[1]]); "
    code += f"assert draw({SVG.encode()!r})"
    subprocess.run([sys.executable, "-c", code, str(disk)], cwd=bait, env=env, check=True)
    assert subprocess.run([BUILT, "scan", str(disk)], cwd=bait, env=env, capture_output=True).returncode == 0
    assert not (tmp_path / "executed").exists()


def test_private_copies_of_a_killed_run_are_removed_by_the_next(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    folder = tmp_path / "tmp"
    dead = temporary.fresh_name().replace(f"-{os.getpid()}-", f"-{_dead()}-")
    write(folder / dead / "hive", "private")
    alive = write(folder / temporary.fresh_name() / "hive", "somebody works on this")
    there = {alive.parent}
    if os.geteuid() == 0:
        trap = folder / dead.replace(dead[-4:], "beef")
        write(trap / "hive", "somebody else's")
        os.chown(trap, 12_345, 12_345)
        there.add(trap)
    assert rustfern("scan", disk, TMPDIR=str(folder)).status == 0
    assert set(folder.iterdir()) == there


def _dead() -> int:
    """The number of a process that has ended."""
    run = subprocess.Popen([sys.executable, "-c", ""])
    run.wait()
    return run.pid


@pytest.mark.parametrize("state", [errno.EIO, errno.EACCES])
def test_a_copy_that_cannot_be_read_is_never_passed_over(
    disk: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, state: int
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))

    class Failing(disk_health.Watched):
        def _watch(self, read: Callable[[], object]) -> object:  # type: ignore[override]
            if self._path.endswith(("survey.odt_0.odt", "plan 1.txt~", "plan 0.txt")):
                raise OSError(state, os.strerror(state))
            return read()

    answer = scan.scan([str(disk)], session=Session(Sources(DiskAccess(reader=Failing))))
    told = {document.name: document.verdict for document in answer.documents}
    assert told["survey.odt"].situation == "crashed"  # it was open, and what its autosave holds is unknown
    assert told["plan 1.txt"].situation == "nothing-lost"
    for name in ("survey.odt", "plan 1.txt"):
        assert Caution.COPY_UNVERIFIED in {warning.kind for warning in told[name].warnings}, told[name]
    assert told["plan 0.txt"].situation == "wont-open" and told["plan 0.txt"].best is not None
    assert Caution.SAVED_UNREADABLE in {warning.kind for warning in told["plan 0.txt"].warnings}
    assert all(warning.is_certain for warning in told["plan 2.txt"].warnings)


# --- names ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["file", "folder"])
@pytest.mark.parametrize("without", ["", "the step", "links too"])
def test_a_name_is_never_given_twice(kind: str, without: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(*_: object, **__: object) -> None:
        raise OSError(errno.EPERM, "no links here")

    if without:
        monkeypatch.setattr(atomic, "_move_alone", lambda made, path, folder: False)
    if without == "links too":
        monkeypatch.setattr(os, "link", refused)
    for name in ("taken", "free"):
        made = tmp_path / f"made {name}"
        write(made / "inner" if kind == "folder" else made, "new")
    write(tmp_path / "taken" / "inner" if kind == "folder" else tmp_path / "taken", "old")
    with pytest.raises(FileExistsError):
        atomic.rename_exclusive(str(tmp_path / "made taken"), str(tmp_path / "taken"))
    atomic.rename_exclusive(str(tmp_path / "made free"), str(tmp_path / "free"))
    texts = {
        name: (tmp_path / name / "inner" if kind == "folder" else tmp_path / name).read_text()
        for name in ("taken", "free")
    }
    assert texts == {"taken": "old", "free": "new"} and (tmp_path / "made taken").exists()
    with pytest.raises(OSError):
        atomic.rename_exclusive(str(tmp_path / "made taken"), str(tmp_path / "not there" / "x"))


def test_what_was_kept_stays_when_it_is_kept_again(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    autosave = disk / "home/ines/.config/libreoffice/4/user/backup/survey.odt_0.odt"
    first = autosave.read_bytes()
    assert rustfern("keep", disk, "--to", tmp_path / "kept").status == 0
    write(autosave, odt("planking fair", "overwritten by the next autosave"), T0 + 900)
    again = rustfern("keep", disk, "--to", tmp_path / "kept")
    assert again.status == 0 and "1 file had changed since it was kept" in again.out
    earlier = [path for path in (tmp_path / "kept/earlier").rglob("*") if path.is_file()]
    assert [path.read_bytes() for path in earlier] == [first] and earlier[0].name == autosave.name
    kept = next(path for path in (tmp_path / "kept/files").rglob(autosave.name))
    assert kept.read_bytes() == autosave.read_bytes()
    assert rustfern("keep", disk, "--to", tmp_path / "kept", "--json").json["earlier"] == []
    assert by_name(rustfern("scan", tmp_path / "kept", "--json").json, "survey.odt")["situation"] == "crashed"


def test_keeping_goes_on_past_bad_files_and_says_whose_fault_it_was(
    disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sums = keeper._sync_and_sum

    class Failing(disk_health.Watched):
        def _watch(self, read: Callable[[], object]) -> object:  # type: ignore[override]
            if self._path.endswith("plan 1.txt~"):
                raise OSError(errno.EIO, os.strerror(errno.EIO))
            return read()

    def wrong(handle: int) -> str:
        data = os.pread(handle, 1 << 20, 0)
        if b"crane 0 for" in data:
            return "0" * 64
        if b"crane 2 for" in data:
            raise OSError(errno.EDQUOT, os.strerror(errno.EDQUOT))
        return sums(handle)

    monkeypatch.setattr(keeper, "_sync_and_sum", wrong)
    done = keep.keep([str(disk)], str(tmp_path / "kept"), session=Session(Sources(DiskAccess(reader=Failing))))
    told = {os.path.basename(problem.path): problem.message for problem in done.problems}
    assert "reading failed" in told["plan 1.txt~"] and "the target disk is at fault" in told["plan 0.txt~"]
    assert "could not be written" in told["plan 2.txt~"] and any(path.endswith("plan 2.txt~") for path in done.left)
    kept = {path.name for path in (tmp_path / "kept/files").rglob("*") if path.is_file()}
    assert not kept & set(told) and "survey.odt_0.odt" in kept
    assert not [path for path in (tmp_path / "kept").rglob("*") if temporary.is_ours(path.name)]


def test_keeping_stops_on_a_failing_disk(disk: Path, tmp_path: Path) -> None:
    class Failing(disk_health.Watched):
        def _watch(self, read: Callable[[], object]) -> object:  # type: ignore[override]
            def bad() -> object:
                raise OSError(errno.EIO, os.strerror(errno.EIO))

            return super()._watch(bad if "Documents" in self._path else read)

    session = Session(Sources(DiskAccess(reader=Failing)))
    done = keep.keep([str(disk)], str(tmp_path / "kept"), session=session)
    assert done.warnings[0].kind is About.DISK_FAILING and "image of this disk first" in done.warnings[0].text
    assert sum(session.sources.health.troubles.values()) == 3 and done.taken


# --- listing with two processes -------------------------------------------------------------------------------------


def listed(root: Path, how: str, monkeypatch: pytest.MonkeyPatch) -> tuple[list[walk.Listed], list[str]]:
    problems: list[str] = []
    listing = lister.Lister(
        Sources(), walk.Sorting(catalogue()), lambda path, message: problems.append(path), aside=how != "alone"
    )
    task = walk.Task(str(root), [str(root)], whole=True)
    started: list[lister.ListingProcess] = []
    begin = lister.ListingProcess.begin

    def noted(process: lister.ListingProcess, task: walk.Task, sorting: walk.Sorting) -> None:
        begin(process, task, sorting)
        started.append(process)

    with monkeypatch.context() as patch:
        patch.setattr(lister.ListingProcess, "begin", noted)
        patch.setattr(lister, "_may_copy", lambda: how.startswith("copied"))
        patch.setattr(lister, "SEVERAL", 1)
        patch.setattr(lister, "MANY", 2)
        if how == "no process":
            patch.setattr(sys, "executable", "/not/there")
        if how == "ends at once":
            patch.setattr(sys, "executable", "/bin/false")
        if how.endswith("ahead"):
            listing.begin(task)
        found = []
        for each in listing.listings(task):
            found.append(each)
            if how.endswith("killed") and len(found) == 4:
                assert started[0]._run is not None
                started[0]._run.kill()
    listing.end()
    return sorted(found), sorted(problems)


@pytest.mark.parametrize(
    "how", ["aside", "ahead", "killed", "no process", "ends at once", "copied", "copied ahead", "copied, killed"]
)
def test_two_processes_list_what_one_does(how: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in range(60):
        for name in ("a.odt", "a.odt~", "x", ".~lock.a.odt#", "ü [b].txt", "deadbeef"):
            write(tmp_path / f"d{number % 7}/e{number}" / name, "x")
        with open(os.fsencode(tmp_path) + b"/d%d/\xff%d.txt~" % (number % 7, number), "w"):  # noqa: PTH123
            pass
    (tmp_path / "link").symlink_to(tmp_path / "d1")
    alone = listed(tmp_path, "alone", monkeypatch)
    assert len(alone[0]) == 68 and sum(len(each.leftovers) for each in alone[0]) >= 180
    assert listed(tmp_path, how, monkeypatch) == alone


def deep(top: Path, levels: int, every: int) -> None:
    """Folders in folders, with a file at each so many levels, deeper than a path can be written."""
    here = os.open(top, os.O_RDONLY)
    for level in range(1, levels + 1):
        os.mkdir("dd", dir_fd=here)
        inner = os.open("dd", os.O_RDONLY, dir_fd=here)
        os.close(here)
        here = inner
        if level % every == 0:
            with os.fdopen(os.open("plan.txt~", os.O_CREAT | os.O_WRONLY, dir_fd=here), "w") as out:
                out.write(f"crane booked {level}")
    os.close(here)


def test_trees_as_deep_as_paths_go(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    trash = disk / "home/ines/.local/share/Trash"
    write(trash / "info/yard.trashinfo", "[Trash Info]\nPath=/home/ines/yard\nDeletionDate=2026-09-21T14:18:00\n")
    (trash / "files/yard").mkdir()
    deep(trash / "files/yard", 1_200, 400)
    (disk / "deeper").mkdir()
    deep(disk / "deeper", 2_000, 500)
    try:
        run = rustfern("scan", disk, "--json")
        names = [document["name"] for document in run.json["documents"]]
        assert run.status == 0 and "yard" in names and names.count("plan.txt") >= 2
        assert any("too long" in problem["message"] for problem in run.json["problems"])
        number = by_name(run.json, "yard")["id"]
        for _ in range(2):
            restored = rustfern("restore", number, "--to", tmp_path / "out", "--json").json["restored"]
            files = subprocess.run(["find", restored[0]["to"], "-type", "f"], capture_output=True, check=True).stdout
            assert len(files.splitlines()) == 3
        for command in (["check", "--recursive", disk], ["keep", disk, "--to", tmp_path / "kept"]):
            assert rustfern(*command, "--json").status in (0, 1, 3)
    finally:
        subprocess.run(["rm", "-rf", str(disk), str(tmp_path / "out"), str(tmp_path / "kept")], check=True)


# --- reads, volumes and clocks --------------------------------------------------------------------------------------


def test_short_reads_change_nothing(disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    plain = scan.scan([str(disk)])

    class Short(disk_health.Watched):
        def readinto(self, buffer: bytearray | memoryview) -> int | None:  # type: ignore[override]
            return super().readinto(memoryview(buffer)[:7])

    session = Session(Sources(DiskAccess(reader=Short)))
    answer = scan.scan([str(disk)], case=str(tmp_path / "c.fern"), session=session)
    assert [(d.name, d.verdict) for d in answer.documents] == [(d.name, d.verdict) for d in plain.documents]
    case = case_file.CaseFile.open(str(tmp_path / "c.fern"))
    copies = [
        next(c for c in case.copies(d.number) if c.id == c.document.best)
        for d in answer.documents
        if d.verdict.best is not None
    ]
    done, refused = restore.restore(copies, str(tmp_path / "out"), case, [str(disk)], session=session)
    assert len(done) == len(copies) and not refused
    case.close()


@pytest.mark.parametrize("nth", [1, 2, 3, 5, 8, 13, 21, 34])
def test_an_error_at_the_nth_read_never_makes_a_broken_copy_whole(
    disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, nth: int
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    whole = {copy.path: copy.content.sha256 for d in scan.scan([str(disk)]).documents for copy in d.copies}
    reads = 0

    class Failing(disk_health.Watched):
        def _watch(self, read: Callable[[], object]) -> object:  # type: ignore[override]
            nonlocal reads
            reads += 1
            if reads == nth:
                raise OSError(errno.EIO, os.strerror(errno.EIO))
            return read()

    session = Session(Sources(DiskAccess(reader=Failing)))
    for document in scan.scan([str(disk)], session=session).documents:
        for copy in document.copies:
            assert copy.content.state is not State.INTACT or copy.content.sha256 == whole[copy.path]


@pytest.fixture
def tiny(tmp_path: Path) -> Iterator[Callable[[int], Path]]:
    """Volumes of so many kilobytes; where this machine mounts none, the test is left out."""
    made: list[Path] = []

    def mount(kilobytes: int) -> Path:
        path = tmp_path / f"volume {len(made)}"
        path.mkdir()
        words = ["mount", "-t", "tmpfs", "-o", f"size={kilobytes}k", "tmpfs", str(path)]
        if not sys.platform.startswith("linux") or subprocess.run(words, capture_output=True).returncode:
            pytest.skip("no volumes can be mounted here")
        made.append(path)
        return path

    yield mount
    for path in made:
        subprocess.run(["umount", "-l", str(path)], check=False)


def test_full_volumes_are_said_and_leave_nothing_half_done(
    disk: Path, tmp_path: Path, rustfern: Rustfern, tiny: Callable[[int], Path]
) -> None:
    top = disk / "home/ines"
    text = "\n".join(
        f"{number} garboard seam weeping {hashlib.sha256(bytes([number % 250])).hexdigest()}" for number in range(2_000)
    )
    for number in range(4):
        write(top / f"Documents/log {number}.txt", "saved over", T0)
        write(top / f"Documents/log {number}.txt~", f"{number}\n{text}", T0 - 60)
    assert rustfern("scan", disk).status == 0
    small = tiny(300)
    refused = rustfern("restore", "--all-best", "--to", small)
    assert refused.status == 2 and "not enough space" in refused.err and list(small.iterdir()) == []
    kept = rustfern("keep", disk, "--to", small / "kept", "--json")
    files = [path for path in (small / "kept/files").rglob("*") if path.is_file()]
    assert kept.status == 3 and kept.json["left"] and files
    sums = {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in files}
    assert all(
        sums[path.name] == hashlib.sha256(path.read_bytes()).hexdigest()
        for path in disk.rglob("*")
        if path.name in sums
    )
    full = tiny(8)
    with contextlib.suppress(OSError):
        (full / "filled").write_bytes(bytes(8192))
    for words, status in (
        (["scan", disk, "--case", full / "c.fern"], 2),
        (["report", "--to", full / "r.html"], 2),
        (["look", "1", "--figure", full / "f.png"], 2),
    ):
        run = rustfern(*words)
        assert run.status == status and run.err.startswith("rustfern: ") and ". " in run.err, run.err
    assert {path.name for path in full.iterdir()} <= {"filled", "c.fern"}
    write(disk / "Users/petra/NTUSER.DAT", lzma.decompress((DATA / "NTUSER.DAT.xz").read_bytes()))
    run = rustfern("scan", disk, "--json", TMPDIR=str(full))
    assert len(run.json["documents"]) >= 5
    assert any("private copy" in problem["message"] for problem in run.json["problems"])
    assert "no space left" in rustfern("scan", disk, "--gentle", "--json", TMPDIR=str(full)).out


def test_an_answer_that_cannot_be_written_is_said(disk: Path) -> None:
    with open("/dev/full", "w") as full:  # noqa: PTH123
        run = subprocess.run([BUILT, "scan", str(disk), "--json"], stdout=full, stderr=subprocess.PIPE, text=True)
    assert (
        run.returncode == 3
        and run.stderr.startswith("rustfern: the answer could not be given")
        and "Traceback" not in run.stderr
    )


def test_a_clock_that_jumps_changes_no_choice(disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    plain = scan.scan([str(disk)], case=str(tmp_path / "plain.fern"))
    turns = iter(range(10_000))

    class Jumping(datetime):
        @classmethod
        def now(cls, tz: object = None) -> datetime:  # type: ignore[override]
            return datetime.now(UTC) + timedelta(days=4_000 * (-1) ** next(turns))

    ticks = iter(range(10_000))
    for module in (scan, restore, case_file, manage):
        monkeypatch.setattr(module, "datetime", Jumping)
    monkeypatch.setattr(time, "time", lambda: 4e9 * (next(ticks) % 2))
    answer = scan.scan([str(disk)], case=str(tmp_path / "c.fern"))
    assert [(d.name, d.verdict) for d in answer.documents] == [(d.name, d.verdict) for d in plain.documents]
    case = case_file.CaseFile.open(str(tmp_path / "c.fern"))
    copy = next(c for c in case.copies(1) if c.id == c.document.best)
    for again in (False, True):
        done, refused = restore.restore([copy], str(tmp_path / "out"), case, [str(disk)])
        assert not refused and done[0].again is again
    assert os.stat(done[0].target).st_mtime == pytest.approx(os.stat(copy.path).st_mtime, abs=0.001)
    manage.add(str(tmp_path / "c.fern"), ["restore", "1"], 0, Jumping.now(UTC))
    assert len(manage.log(case)) == 1
    case.close()
