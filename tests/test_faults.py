"""Disks that return errors, files that shrink, change and vanish, a target without space: said clearly, nothing half-done under a final name."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import shutil
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import psutil
import pytest
from conftest import Run, docx, odt, packed, write

from rustfern.cases.case_file import CaseFile, roots_of
from rustfern.core.errors import Malformed
from rustfern.core.model import Hints, State
from rustfern.core.remarks import About
from rustfern.formats import registry as formats
from rustfern.formats.drawings.svg_render import draw
from rustfern.formats.interface import Limits
from rustfern.operations import restore, scan
from rustfern.operations.session import Session
from rustfern.output.folder import Folder
from rustfern.settings.interface import SettingsFile
from rustfern.settings.readers import files
from rustfern.sources import disk_health
from rustfern.sources import folder as folder_source
from rustfern.sources.disk_health import DiskAccess
from rustfern.sources.registry import Sources
from rustfern.traces import joe_dead, kept_lists, recovery_list

Rustfern = Callable[..., Run]
T0 = 1_790_000_000


@pytest.fixture
def disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    top = tmp_path / "disk/home/ines"
    write(top / ".config/x", "")
    for number in range(6):
        write(top / f"Documents/plan {number}.odt", odt(f"plan {number}", "crane booked"), T0)
        write(
            top / f"Documents/plan {number}.odt~",
            odt(f"plan {number}", "crane booked for the fourteenth, two slings"),
            T0 - 60,
        )
    yield tmp_path / "disk"


class Failing(disk_health.Watched):
    """Reads that fail with an error of the system from the n-th on, for some files."""

    bad: str = ""
    first: int = 1
    error: int = errno.EIO
    reads: int = 0

    def _watch(self, read: Callable[[], object]) -> object:  # type: ignore[override]
        def failing() -> object:
            Failing.reads += 1
            if Failing.bad in self._path and Failing.reads >= Failing.first:
                raise OSError(Failing.error, os.strerror(Failing.error), self._path)
            return read()

        return super()._watch(failing)


@pytest.fixture
def failing() -> type[Failing]:
    Failing.bad, Failing.first, Failing.error, Failing.reads = "", 1, errno.EIO, 0
    return Failing


def reading(reader: type[disk_health.Watched]) -> Session:
    """A session whose disks are read by this."""
    return Session(Sources(DiskAccess(reader=reader)))


def gently(reader: type[disk_health.Watched]) -> Session:
    """The same, each byte asked for once."""
    session = reading(reader)
    session.sources.gentle.begin()
    return session


def test_one_bad_file_never_stops_a_search(disk: Path, failing: type[Failing]) -> None:
    failing.bad = "plan 3.odt~"
    answer = scan.scan([str(disk)], session=reading(failing))
    assert len(answer.documents) == 6 and sum(d.verdict.situation == "overwritten" for d in answer.documents) == 5
    states = {os.path.basename(c.path): c.content.state for d in answer.documents for c in d.copies}
    assert states["plan 3.odt~"] is State.UNREADABLE and states["plan 2.odt~"] is State.INTACT
    assert any("plan 3.odt~" in problem.path for problem in answer.problems)
    assert not any(notice.kind is About.DISK_FAILING for notice in answer.notices)


@pytest.mark.parametrize("error", [errno.EIO, errno.ENODEV])
def test_a_failing_disk_is_read_no_further(disk: Path, failing: type[Failing], error: int) -> None:
    failing.bad, failing.error = "Documents", error
    session = reading(failing)
    answer = scan.scan([str(disk)], session=session)
    assert sum(session.sources.health.troubles.values()) == 3
    assert answer.notices[0].kind is About.DISK_FAILING and "image of this disk first" in answer.notices[0].text
    reads = failing.reads
    with pytest.raises(Exception, match="several errors"):
        source = session.sources.open(str(disk))
        source.open(source.entry(str(disk / "home/ines/Documents/plan 1.odt")))
    assert failing.reads == reads


def test_stalls_count_as_errors(disk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(disk_health, "STALL_SECONDS", -1.0)
    answer = scan.scan([str(disk)])
    assert answer.notices[0].kind is About.DISK_FAILING


def test_gently_each_byte_is_read_once(disk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    seen: dict[str, int] = {}

    class Counting(disk_health.Watched):
        def readinto(self, buffer: bytearray | memoryview) -> int | None:  # type: ignore[override]
            count = super().readinto(buffer)
            seen[self._path] = seen.get(self._path, 0) + (count or 0)
            return count

        def readall(self) -> bytes:
            data = super().readall()
            seen[self._path] = seen.get(self._path, 0) + len(data)
            return data

    monkeypatch.setattr("rustfern.formats.registry._IN_MEMORY", 100)  # as large files are read
    plain = scan.scan([str(disk)], session=reading(Counting))
    assert any(count > os.path.getsize(path) for path, count in seen.items())
    seen.clear()
    answer = scan.scan([str(disk)], session=gently(Counting))
    assert seen and all(count <= os.path.getsize(path) for path, count in seen.items())
    assert [d.verdict for d in answer.documents] == [d.verdict for d in plain.documents]


def test_gently_a_bad_file_is_asked_for_once_and_stops_no_other(disk: Path, failing: type[Failing]) -> None:
    failing.bad = "plan 0.odt~"
    session = gently(failing)
    answer = scan.scan([str(disk)], session=session)
    states = {os.path.basename(c.path): c.content.state for d in answer.documents for c in d.copies}
    assert (
        states.pop("plan 0.odt~") is State.UNREADABLE and set(states.values()) == {State.INTACT} and len(states) == 11
    )
    assert sum(session.sources.health.troubles.values()) == 1


@pytest.mark.parametrize("asked", ["plan 0", "plan 5", "pla 3"])
def test_gently_what_is_wanted_most_is_read_first(disk: Path, failing: type[Failing], asked: str) -> None:
    failing.bad, failing.first = "Documents", 7  # the disk dies after a few reads
    answer = scan.scan([str(disk)], Hints(document=asked), session=gently(failing))
    assert answer.notices[0].kind is About.DISK_FAILING
    first = answer.documents[0]
    assert first.name.startswith("plan " + asked[-1]) and first.verdict.situation == "overwritten"
    assert first.verdict.best is not None and first.copies[first.verdict.best].content.state is State.INTACT


def test_gentle_on_the_built_command(disk: Path, rustfern: Rustfern) -> None:
    run = rustfern("scan", disk, "--gentle", "--json")
    assert run.status == 0 and len(run.json["documents"]) == 6


@pytest.mark.parametrize(
    ("how", "said"),
    [("shrink", "changed since the scan"), ("grow", "changed since the scan"), ("same size", "changed since the scan"), ("vanish", "could not be looked at"), ("folder", "not"), ("link", "a link now")],
)  # fmt: skip
def test_a_copy_that_is_not_what_it_was(disk: Path, tmp_path: Path, rustfern: Rustfern, how: str, said: str) -> None:
    document = rustfern("scan", disk, "--json").json["documents"][0]
    best = Path(next(c["path"] for c in document["copies"] if c["id"] == document["best"]))
    data = best.read_bytes()
    best.unlink()
    if how == "folder":
        best.mkdir()
    elif how == "link":
        best.symlink_to("/etc/passwd")
    elif how != "vanish":
        best.write_bytes({"shrink": data[:-9], "grow": data + b"x", "same size": data[:-1] + b"x"}[how])
    run = rustfern("restore", document["id"], "--to", tmp_path / "out", "--json")
    assert run.status == 3 and said in run.json["refused"][0]["message"] and not run.json["restored"]
    assert list((tmp_path / "out").iterdir()) == []


@pytest.mark.parametrize("error", [errno.ENOSPC, getattr(errno, "EDQUOT", errno.ENOSPC), errno.EIO, errno.EACCES])
@pytest.mark.parametrize("nth", [1, 2])
def test_writes_that_fail(disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, error: int, nth: int) -> None:
    case = CaseFile.open(str(scan.scan([str(disk)], case=str(tmp_path / "c.fern")).case))
    copies = [next(c for c in case.copies(number) if c.id == c.document.best) for number in (1, 2, 3)]
    written = 0
    real = restore.make_new

    class Full(io.BufferedWriter):
        def write(self, data: object) -> int:  # type: ignore[override]
            nonlocal written
            written += 1
            if written == nth:
                raise OSError(error, os.strerror(error))
            return super().write(data)  # type: ignore[arg-type]

    monkeypatch.setattr(restore, "make_new", lambda folder, name: Full(real(folder, name).detach()))
    done, refused = restore.restore(copies, str(tmp_path / "out"), case, roots_of(case))
    assert (
        len(done) == 2
        and len(refused) == 1
        and os.strerror(error).lower() in refused[0].message.lower() + " no space left on device disk quota exceeded"
    )
    names = {path.name for path in (tmp_path / "out").iterdir()}
    assert names == {os.path.basename(each.target) for each in done} | {"restored.jsonl"}
    case.close()


def test_a_target_that_goes_in_the_middle(disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    case = CaseFile.open(str(scan.scan([str(disk)], case=str(tmp_path / "c.fern")).case))
    copies = [next(c for c in case.copies(number) if c.id == c.document.best) for number in (1, 2)]
    real = restore.make_new

    def vanish(folder: Folder, name: str) -> io.BufferedWriter:
        shutil.rmtree(tmp_path / "out", ignore_errors=True)
        return real(folder, name)

    monkeypatch.setattr(restore, "make_new", vanish)
    done, refused = restore.restore(copies, str(tmp_path / "out"), case, roots_of(case))
    assert not done and len(refused) == 2 and all("target cannot be written" in each.message for each in refused)
    case.close()


def test_a_full_temporary_folder_and_a_clock_that_jumps(
    disk: Path, tmp_path: Path, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch
) -> None:
    shut = tmp_path / "shut"
    shut.mkdir(mode=0o500)
    write(disk / "home/ines/Documents/a.docx~", docx("x"))
    assert rustfern("scan", disk, TMPDIR=str(shut)).status in (0, 3)
    # Back by years between two searches of one case: nothing is lost, ids stay.
    case = tmp_path / "c.fern"
    first = rustfern("scan", disk, "--case", case, "--json").json
    os.utime(case, (1, 1))
    again = rustfern("scan", disk, "--case", case, "--json").json
    assert [d["id"] for d in first["documents"]] == [d["id"] for d in again["documents"]]


FUZZED = packed("fuzzed.tar.xz")
"""Inputs that tools/fuzz.py found to break a parser, or to keep it busy for a minute."""


@pytest.mark.parametrize(
    ("name", "parse"),
    [
        ("joe_dead.bin", joe_dead.parse),
        ("rows.xls", lambda data: formats.check(io.BytesIO(data), "rows.xls")),
        ("encoding.xml", lambda data: list(files.xml_values(SettingsFile(io.BytesIO(data), len(data), "x", ("*",))))),
        ("case.xlsx", lambda data: formats.read_text(io.BytesIO(data), "case.xlsx", 2_000, Limits())),
        ("frame.xml", lambda data: formats.check(io.BytesIO(data), "frame.xml")),
        ("itself.plist", lambda data: list(files.plist_values(SettingsFile(io.BytesIO(data), len(data), "x", ("*",))))),
        ("encoding.xml", kept_lists.notepadpp_session),
        ("encoding.xml", lambda data: recovery_list.parse(io.BytesIO(data))),
    ],
)
def test_what_fuzzing_found_stays_mended(name: str, parse: Callable[[bytes], object]) -> None:
    import time

    began = time.process_time()
    with contextlib.suppress(Malformed):
        parse(FUZZED[name])
    assert time.process_time() - began < 20


@pytest.mark.parametrize(
    ("name", "text"),
    [("x.html", "<script "), ("x.html", "<style>"), ("x.html", "<!-- "), ("x.html", "<"), ("x.md", "#"), ("x.md", "# # "), ("x.csv", '"'), ("x.json", "["), ("x.svg", "@import "), ("x.svg", "url(")],
)  # fmt: skip
def test_texts_made_to_take_long_do_not(name: str, text: str) -> None:
    import time

    began = time.process_time()
    data = (("<html>" if name.endswith("html") else "# ") + text * (1_500_000 // len(text)) + "x").encode()
    formats.check(io.BytesIO(data), name)
    formats.read_text(io.BytesIO(data), name, 4 << 20, Limits())
    assert draw(b"<svg xmlns='http://www.w3.org/2000/svg'>" + data) is None
    assert time.process_time() - began < 20


NAMES = [
    b"..", b"-rf ~", b"con.txt", b"x. ", b"a:b.txt", b"\x1b[2J\x1b]0;pwned\x07.txt", "\u202etxt.exe".encode(), b"a\nb.txt", b"[red]bold[.txt",
    b"n" * 250 + b".txt", b"\xff\xfe broken.txt", "\u2028line.txt".encode(), b"$(touch pwned).txt", b"%2e%2e%2fup.txt",
]  # fmt: skip
RECORDED = [
    "/etc/passwd",
    "../../../../tmp/pwned",
    "C:\\Windows\\System32\\x",
    "\\\\share\\x",
    "/home/ines/../../root/x",
    "",
    "%00",
    "/" + "d/" * 900 + "x",
]


def test_a_hostile_disk_gets_nothing_out_of_us(tmp_path: Path, rustfern: Rustfern) -> None:
    top = tmp_path / "disk/home/ines"
    write(top / ".config/x", "")
    papers, trash = top / "Documents", top / ".local/share/Trash"
    papers.mkdir()
    for name in NAMES[1:]:
        for ending, text in ((b"", b"saved over"), (b"~", b"what was there before, and more of it")):
            with open(os.path.join(os.fsencode(papers), name[: 255 - len(ending)] + ending), "wb") as out:  # noqa: PTH123
                out.write(text)
    for number, place in enumerate(RECORDED):
        write(trash / f"files/dues {number}.txt", f"mooring dues {number}")
        write(
            trash / f"info/dues {number}.txt.trashinfo",
            f"[Trash Info]\nPath={place}\nDeletionDate=2026-09-21T14:18:00\n",
        )
    os.mkfifo(papers / "pipe.txt~")
    os.symlink("/etc/passwd", papers / "passwd.txt~")
    os.symlink("loop.txt~", papers / "loop.txt~")
    os.symlink("..", papers / "up")
    os.link(papers / "con.txt", papers / "hard.txt~")
    with contextlib.closing(socket.socket(socket.AF_UNIX)) as made, contextlib.suppress(OSError):
        made.bind(str(papers / "s.txt~"))
    with contextlib.suppress(OSError):
        os.mknod(papers / "zero.txt~", 0o600 | 0o020000, os.makedev(1, 5))
    before = sorted(os.listdir(tmp_path))
    for rights in (False, True):
        out = tmp_path / f"out {rights}"
        state = {"XDG_STATE_HOME": str(tmp_path / f"state {rights}")}
        os.chmod(tmp_path, 0o777)
        found = rustfern("scan", tmp_path / "disk", "--everything", without_rights=rights, **state)
        assert (
            found.status in (0, 3)
            and "\x1b]0" not in found.out
            and "\u202e" not in found.out
            and "root:x:0" not in found.out
        )
        run = rustfern("restore", "--all-best", "--keep-layout", "--to", out, "--json", without_rights=rights, **state)
        rows = run.json["restored"]
        assert len(rows) >= len(NAMES) and all(os.path.realpath(row["to"]).startswith(str(out)) for row in rows)
        for row in rows:
            name = os.path.basename(row["to"])
            assert name.isprintable() and not Path(row["to"]).is_symlink() and len(os.fsencode(name)) <= 255
            assert b"root:x:0" not in Path(row["to"]).read_bytes()
        assert rustfern(
            "keep", tmp_path / "disk", "--to", tmp_path / f"kept {rights}", without_rights=rights, **state
        ).status in (0, 3)
        assert (
            rustfern(
                "report", "--for", "record", "--to", tmp_path / f"r {rights}.html", without_rights=rights, **state
            ).status
            == 0
        )
        assert "<script" not in (tmp_path / f"r {rights}.html").read_text()
    ours = {
        f"{what} {rights}{end}"
        for what, end in (("out", ""), ("state", ""), ("kept", ""), ("r", ".html"))
        for rights in (False, True)
    }
    assert set(os.listdir(tmp_path)) - ours == set(before) and not Path("/tmp/pwned").exists()


def test_a_kept_folder_whose_list_lies(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    kept = tmp_path / "kept"
    assert rustfern("keep", disk, "--to", kept).status == 0
    manifest = kept / "rustfern-kept.jsonl"
    head, *rows = manifest.read_text().splitlines()
    for old, new in (
        ('"path": "', '"path": "../../../../etc/'),
        ('"sha256": "', '"sha256": "00'),
        ('"size": ', '"size": 9999999999'),
    ):
        manifest.write_text("\n".join([head, *(row.replace(old, new) for row in rows)]) + "\n")
        assert rustfern("scan", kept).status in (0, 1, 3)
        assert rustfern("keep", disk, "--to", kept).status in (0, 2, 3)
    manifest.write_text(head.replace('"path": "', '"path": "/../../../') + "\n")
    run = rustfern("scan", kept)
    assert run.status in (0, 1, 2, 3) and "/etc/passwd" not in run.out
    manifest.write_text("[" * 100_000)
    run = rustfern("scan", kept)
    assert run.status == 0 and "this list of kept files was not believed" in " ".join(run.out.split())


def test_folders_that_vanish_are_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    home = tmp_path / "disk/home/ines"
    write(home / "Documents/plan.txt~", "six boats")
    for number in range(3):
        write(home / f"Documents/work {number}/a.txt", "x")
    listed = folder_source._list

    def gone(folder: str, *found: list[str]) -> None:
        if "work" in folder:
            shutil.rmtree(folder)
        listed(folder, *found)

    monkeypatch.setattr(folder_source, "_list", gone)
    answer = scan.scan([str(tmp_path / "disk")])
    assert [document.name for document in answer.documents] == ["plan.txt"] and not answer.problems
    assert not list((home / "Documents").glob("work*"))


@pytest.mark.skipif(os.name != "posix", reason="ends a process from outside")
def test_no_worker_outlives_a_check_that_was_killed(tmp_path: Path) -> None:
    for number in range(3_000):
        (tmp_path / f"{number}.txt").write_text("two slings, high water at six\n" * 40)
    command = [sys.executable, "-m", "rustfern", "check", "--json", "--recursive", str(tmp_path)]
    run = psutil.Popen(command, stdout=subprocess.DEVNULL)
    workers: list[psutil.Process] = []
    while not workers and run.poll() is None:
        workers = run.children()
    run.kill()
    run.wait()
    assert workers and not psutil.wait_procs(workers, timeout=20)[1]
