"""Lists the folders of a tree and sorts their names: what may be a leftover, what may be a document, what says nothing.

A large tree is listed by a second process, so that this one can look at what was found in the meantime. Only one of the two lists: a
disk with a moving head is not made to jump.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import signal
import subprocess
import sys
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import BinaryIO, NamedTuple

from rustfern.formats.table import DOCUMENT_EXTENSIONS
from rustfern.sources import steady
from rustfern.sources.folder import FolderSource
from rustfern.sources.interface import OnProblem

MANY = 100_000
"""From so many files on, another process lists the rest."""
SHADOW = "._"
"""Begins the names of files that macOS writes beside others on foreign disks: attributes, no content."""
_DECOYS = (os.sep + "@eaDir", os.sep + ".AppleDouble", os.sep + "__MACOSX")
_MAX_ENDINGS = 20_000
_DOCUMENT, _LEFTOVER, _BARE = 1, 2, 4
_AT_ONCE = 2_000


class Listed(NamedTuple):
    """One folder: how many files it has, the names that may be leftovers, those that may be documents, and all where they are asked for."""

    folder: str
    files: int
    suspects: list[str]
    documents: list[str]
    names: list[str]


@dataclass
class Sorting:
    """Tells what the names of a folder may be, most of them by their ending alone. `starts`, `ends`, `holds` and `bare_lengths` are
    those of leftovers in the catalogue.
    """

    starts: Sequence[str]
    ends: Sequence[str]
    holds: Sequence[str]
    bare_lengths: Collection[int]
    _known: dict[str, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._first = {start[0] for start in self.starts}
        self._last = {end[-1] for end in self.ends if "." not in end}
        self._signs = (*(f"/{first}" for first in sorted(self._first)), *self.holds)

    def _sort(self, ending: str) -> int:
        """What a name may be by its ending: from its last dot on, or its last letter where it has no dot."""
        if not ending.startswith("."):
            found = _LEFTOVER * (ending in self._last) + _BARE * bool(self.bare_lengths)
        else:
            leftover = any(ending.endswith(end) or end.endswith(ending) for end in self.ends)
            found = _DOCUMENT * (ending[1:].lower() in DOCUMENT_EXTENSIONS) + _LEFTOVER * leftover
        self._known[ending] = found
        return found

    def sort(self, names: Sequence[str]) -> tuple[list[str], list[str]]:
        """(names that may be leftovers, names that may be documents) of one folder."""
        if not names:
            return [], []
        # Whole folders at a time: what is done for each name alone is what a search of a large disk takes its time with.
        endings = [name[name.rfind(".") :] for name in names]
        known = self._known
        if len(known) > _MAX_ENDINGS:
            known.clear()
        sorts = {ending: known[ending] if ending in known else self._sort(ending) for ending in set(endings)}
        documents = {ending for ending, sort in sorts.items() if sort & _DOCUMENT}
        leftovers = {ending for ending, sort in sorts.items() if sort & _LEFTOVER}
        bare = {ending for ending, sort in sorts.items() if sort & _BARE}
        pairs = list(zip(names, endings, strict=True))
        likely = [name for name, ending in pairs if ending in documents] if documents else []
        suspects = [name for name, ending in pairs if ending in leftovers] if leftovers else []
        if bare:
            suspects += [name for name, ending in pairs if ending in bare and len(name) in self.bare_lengths]
        whole = "/" + "/".join(names)
        if any(sign in whole for sign in self._signs):
            first, holds = self._first, [part for part in self.holds if part in whole]
            suspects += [name for name in names if name[0] in first or any(part in name for part in holds)]
            suspects = [name for name in dict.fromkeys(suspects) if not name.startswith(SHADOW)]
            # A name that only begins with a dot has no ending.
            likely = [name for name in likely if name.rfind(".") > 0 and not name.startswith(SHADOW)]
        return suspects, likely


@dataclass
class Task:
    """What is to be listed: the folders still to be done of the tree below `top`. In `own` folders nothing counts, below `closed` ones
    nothing is looked for; `whole` asks for all names.
    """

    top: str
    folders: list[str]
    sorting: Sorting
    own: Collection[str] = ()
    closed: Collection[str] = ()
    whole: bool = False


def listings(task: Task, on_problem: OnProblem, *, aside: bool = True) -> Iterator[Listed]:
    """Every folder of a tree, in no promised order; with `aside`, a large one by another process."""
    seen = 0
    for listed in _here(task, on_problem):
        yield listed
        seen += listed.files
        if aside and seen > MANY and task.folders:
            yield from _aside(task, on_problem)
            return


def _here(
    task: Task, on_problem: OnProblem, on_error: Callable[[OSError, str], None] = steady.note
) -> Iterator[Listed]:
    """List in this process; `task.folders` are those still to be done, also when this is left in the middle."""
    stack = task.folders
    sep = os.sep
    while stack:
        folder = stack.pop()
        found = FolderSource.list_folder(folder, folder == task.top, on_problem, on_error)
        if found is None:
            if steady.health.failing():
                stack.clear()
            continue
        folders, files = found
        if folder in task.own or folder.endswith(_DECOYS):
            yield Listed(folder, len(files), [], [], [])
            continue
        if folder not in task.closed:
            prefix = folder if folder.endswith(sep) else folder + sep
            stack += [prefix + name for name in folders]
        yield Listed(folder, len(files), *task.sorting.sort(files), files if task.whole else [])


def _aside(task: Task, on_problem: OnProblem) -> Iterator[Listed]:
    """List with a second process. Where none can be had, or it ends too early, the rest is listed here."""
    try:
        run = subprocess.Popen(
            [sys.executable, "-P", "-m", "rustfern.places.listing"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, start_new_session=os.name == "posix",
        )  # fmt: skip
    except OSError:
        yield from _here(task, on_problem)
        return
    assert run.stdin is not None
    assert run.stdout is not None
    done: set[str] = set()
    ended = False
    try:
        with contextlib.suppress(OSError):  # it ended at once
            pickle.dump(task, run.stdin)
            run.stdin.close()
        while not ended:
            try:
                rows, problems, errors, ended = pickle.load(run.stdout)
            except (OSError, EOFError, pickle.UnpicklingError):
                break
            for folder, message in problems:
                on_problem(folder, message)
            for code, text, folder in errors:
                steady.note(OSError(code, text), folder)
            for folder, files, suspects, documents, names in rows:
                done.add(folder)
                yield Listed(folder, files, _split(suspects), _split(documents), _split(names))
    finally:
        run.kill()
        run.stdout.close()
        run.wait()
    if not ended:
        yield from (listed for listed in _here(task, on_problem) if listed.folder not in done)


def _split(names: str) -> list[str]:
    return names.split("/") if names else []


Told = tuple[list[tuple[str, int, str, str, str]], list[tuple[str, str]], list[tuple[int, str, str]], bool]
"""What the second process tells: folders (names joined by `/`), problems, errors of the system, whether that was all."""


def _tell(stream: BinaryIO, told: Told) -> None:
    pickle.dump(told, stream, pickle.HIGHEST_PROTOCOL)
    stream.flush()


def serve(asked: BinaryIO, told: BinaryIO) -> None:
    """List what is asked for on one stream and tell of it on the other, batch by batch."""
    task: Task = pickle.load(asked)
    rows: list[tuple[str, int, str, str, str]] = []
    problems: list[tuple[str, str]] = []
    errors: list[tuple[int, str, str]] = []
    held = 0

    def on_error(error: OSError, folder: str) -> None:
        steady.note(error, folder)
        errors.append((error.errno or 0, error.strerror or "", folder))

    for listed in _here(task, lambda folder, message: problems.append((folder, message)), on_error):
        suspects, documents, names = map("/".join, listed[2:])
        rows.append((listed.folder, listed.files, suspects, documents, names))
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
    serve(sys.stdin.buffer, sys.stdout.buffer)
