"""Lists trees, large ones by a second process, so that this one can look at what was found in the meantime.

Only one of the two walks the tree: a disk with a moving head is not made to jump.
"""

from __future__ import annotations

import contextlib
import errno
import gc
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, BinaryIO

from rustfern.catalogue.loader import catalogue
from rustfern.engine.local import uninterrupted
from rustfern.search.walk import Leftover, Listed, Sorting, Task, here
from rustfern.sources.interface import OnProblem
from rustfern.sources.registry import Sources

if TYPE_CHECKING:
    import queue
    import subprocess

SEVERAL, MANY = 30_000, 100_000
"""Files from which on another process is made ready, and from which on it lists the rest."""
_AT_ONCE, _MAX_WAITING = 2_000, 400


class Lister:
    """Lists trees. `aside` allows for another process, which sorts by the catalogue that ships."""

    def __init__(self, door: Sources, sorting: Sorting, on_problem: OnProblem, *, aside: bool = True) -> None:
        self._door, self._sorting, self._on_problem, self._aside = door, sorting, on_problem, aside
        self._ahead: dict[str, ListingProcess] = {}
        self.meanwhile: list[Callable[[], bool]] = []
        """What can be done while the other process is waited for, a piece with each call; they tell whether there was one."""

    def begin(self, task: Task) -> None:
        """Have another process list a tree from now on; it is asked for later."""
        if self._aside and (other := ListingProcess.start()) is not None:
            other.begin(task, self._sorting)
            self._ahead[task.top] = other

    def listings(self, task: Task) -> Iterator[Listed]:
        """Every folder of a tree, in no promised order, but a folder before those in it; a large tree by another process."""
        other = self._ahead.pop(task.top, None)
        if other is not None:
            yield from self._told(other, task)
            return
        seen = 0
        try:
            for listed in here(self._door, task, self._sorting, self._on_problem):
                yield listed
                seen += listed.files
                if self._aside and other is None and seen > SEVERAL:
                    other = ListingProcess.start()  # it takes a moment to get ready
                if other is not None and seen > MANY and task.folders:
                    other.begin(task, self._sorting)
                    yield from self._told(other, task)
                    return
        finally:
            if other is not None:
                other.end()

    def end(self) -> None:
        """Nothing more is asked for."""
        for other in self._ahead.values():
            other.end()
        self._ahead.clear()

    def _do_a_piece(self) -> bool:
        return any(piece() for piece in self.meanwhile)

    def _told(self, other: ListingProcess, task: Task) -> Iterator[Listed]:
        """What the other process lists. Where it ends too early, the rest is listed here."""
        done: set[str] = set()
        ended = False
        try:
            for rows, problems, errors, ended in other.answers(self._do_a_piece):
                for folder, message in problems:
                    self._on_problem(folder, message)
                for code, text, folder in errors:
                    self._door.health.note_error(OSError(code, text), folder)
                if self._door.health.failing() and not ended:
                    self._on_problem(task.top, "listed no further, as its disk returned several read errors")
                    return
                for folder, files, leftovers, documents, names, told in rows:
                    done.add(folder)
                    yield Listed(folder, files, leftovers, _split(documents), _split(names), told)
        finally:
            other.end()
        if not ended:
            yield from (
                listed
                for listed in here(self._door, task, self._sorting, self._on_problem)
                if listed.folder not in done
            )


class _Copied:
    """A copy of this process that lists one tree: it need not start, nor read the catalogue."""

    stdin = None
    stdout: BinaryIO
    _id = 0
    _ended = False

    def __init__(self, task: Task, sorting: Sorting) -> None:
        """Raises `OSError` where no process can be had."""
        if sys.platform == "win32":
            raise OSError(errno.ENOTSUP, "processes are not copied here")
        told, tell = os.pipe()
        with uninterrupted():
            try:
                self._id = os.fork()
            except OSError:
                os.close(told)
                os.close(tell)
                raise
            if self._id == 0:
                try:
                    _let_go_of(told)
                    with os.fdopen(tell, "wb") as stream:
                        _list_for(task, sorting, stream)
                finally:
                    os._exit(0)  # nothing that was copied is written, closed or tidied twice
        os.close(tell)
        self.stdout = os.fdopen(told, "rb")

    def kill(self) -> None:
        if sys.platform != "win32" and not self._ended:
            os.kill(self._id, signal.SIGKILL)

    def wait(self) -> None:
        if not self._ended:
            os.waitpid(self._id, 0)
            self._ended = True


def _let_go_of(told: int) -> None:
    """Hold nothing of the process that this one was copied from: its streams, its signals, its terminal."""
    if sys.platform != "win32":
        os.setsid()
        gc.disable()
        for each in (signal.SIGINT, signal.SIGTERM, signal.SIGPIPE):
            signal.signal(each, signal.SIG_DFL)
        os.close(told)
        nothing = os.open(os.devnull, os.O_RDWR)
        for stream in range(3):
            os.dup2(nothing, stream)


def _may_copy() -> bool:
    """Whether this process may be copied: not where another thread could just hold a lock."""
    return sys.platform == "linux" and threading.active_count() == 1


class ListingProcess:
    """A second process that waits for a task; a thread takes what it tells, so that it need not wait for us."""

    def __init__(self, run: subprocess.Popen[bytes] | _Copied | None) -> None:
        import queue

        self._run = run
        self._told: queue.Queue[Listing | None] = queue.Queue(_MAX_WAITING)
        self._stopped = False
        self._taking: threading.Thread | None = None

    @classmethod
    def start(cls) -> ListingProcess | None:
        """None where no process can be had."""
        if _may_copy():
            return cls(None)  # when it has its task
        import subprocess

        command = [sys.executable, "-P", "-m", "rustfern.search.lister"]
        try:
            return cls(
                subprocess.Popen(
                    command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                    start_new_session=os.name == "posix",
                )
            )  # fmt: skip
        except OSError:
            return None

    def begin(self, task: Task, sorting: Sorting) -> None:
        """Give it its task, and if it is a copy of this process how to sort."""
        import pickle

        with contextlib.suppress(OSError):  # it could not be had, or ended at once: nothing will be told
            if self._run is None:
                self._run = _Copied(task, sorting)
            elif self._run.stdin is not None:
                pickle.dump(task, self._run.stdin)
                self._run.stdin.close()
        self._taking = threading.Thread(target=self._take, daemon=True)
        self._taking.start()

    def _take(self) -> None:
        import pickle

        try:
            with contextlib.suppress(OSError, EOFError, ValueError, pickle.UnpicklingError):
                while self._run is not None and self._run.stdout is not None and not self._stopped:
                    self._told.put(pickle.load(self._run.stdout))
        finally:
            self._told.put(None)  # whatever happened: somebody waits for the end

    def answers(self, meanwhile: Callable[[], bool]) -> Iterator[Listing]:
        """What it tells, batch by batch, up to its end; `meanwhile` is called while nothing is told, as long as it has something to do."""
        told: Listing | None = ([], [], [], False)
        while told is not None:
            yield told
            while self._told.empty() and meanwhile():
                pass
            told = self._told.get()

    def end(self) -> None:
        """End it, whatever it does."""
        import queue

        self._stopped = True
        if self._run is None:
            return
        self._run.kill()
        while True:  # the thread may wait for room
            try:
                self._told.get_nowait()
            except queue.Empty:
                break
        self._run.wait()
        if self._taking is not None:
            self._taking.join()
        for stream in (self._run.stdin, self._run.stdout):
            with contextlib.suppress(OSError):
                if stream is not None:
                    stream.close()


def _split(names: str) -> list[str]:
    return names.split("/") if names else []


Listing = tuple[
    list[tuple[str, int, list[Leftover], str, str, int]], list[tuple[str, str]], list[tuple[int, str, str]], bool
]
"""What the second process tells: folders (names joined by `/`, a sum), problems, errors of the system, whether that was all."""


def _tell(stream: BinaryIO, told: Listing) -> None:
    import pickle

    pickle.dump(told, stream, pickle.HIGHEST_PROTOCOL)
    stream.flush()


def _list_for(task: Task, sorting: Sorting, told: BinaryIO) -> None:
    """List for another process, and tell it batch by batch."""
    door = Sources()
    rows: list[tuple[str, int, list[Leftover], str, str, int]] = []
    problems: list[tuple[str, str]] = []
    errors: list[tuple[int, str, str]] = []
    held = 0

    def on_error(error: OSError, folder: str) -> None:
        door.health.note_error(error, folder)
        errors.append((error.errno or 0, error.strerror or "", folder))

    for listed in here(door, task, sorting, lambda folder, message: problems.append((folder, message)), on_error):
        documents, names = "/".join(listed.documents), "/".join(listed.names)
        rows.append((listed.folder, listed.files, listed.leftovers, documents, names, listed.sum))
        held += len(listed.documents) + len(listed.names) + 20
        if held > _AT_ONCE:
            held = 0
            _tell(told, (rows, problems, errors, False))
            for each in (rows, problems, errors):
                each.clear()
    _tell(told, (rows, problems, errors, True))


if __name__ == "__main__":
    if hasattr(signal, "SIGPIPE"):
        signal.signal(signal.SIGPIPE, signal.SIG_DFL)
    import pickle

    _list_for(pickle.load(sys.stdin.buffer), Sorting(catalogue()), sys.stdout.buffer)
