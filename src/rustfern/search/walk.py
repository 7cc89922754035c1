"""Lists the folders of a tree and sorts their names: what is a leftover, what may be a document, what says nothing.

A large tree is listed by a second process, so that this one can look at what was found in the meantime. Only one of the two walks the
tree: a disk with a moving head is not made to jump.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import sys
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, BinaryIO, NamedTuple

import msgspec

from rustfern.catalogue.loader import Catalogue, catalogue
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, class_of, extension_of, format_of_extension
from rustfern.search import neighbours
from rustfern.search.program_folders import is_of_programs, is_worth_it
from rustfern.sources.interface import OnProblem
from rustfern.sources.registry import Sources

if TYPE_CHECKING:
    import queue
    import subprocess
    import threading

SEVERAL, MANY = 30_000, 100_000
"""Files from which on another process is made ready, and from which on it lists the rest."""
SHADOW = "._"
"""Begins the names of files that macOS writes beside others on foreign disks: attributes, no content."""
_DECOYS = (os.sep + "@eaDir", os.sep + ".AppleDouble", os.sep + "__MACOSX")
_NO_COPIES = frozenset(
    {".git", ".hg", ".svn", ".bzr", ".cache", ".venv", ".tox", ".Trash", ".Trashes", ".Spotlight-V100", ".fseventsd"}
)
"""Hidden folders beside documents that hold no copies of them, or are looked into by their own rules."""
_OF_PROGRAMS = frozenset({"code", "database"})
"""Classes of what programs keep for themselves in their folders: settings, state, indexes."""
_MAX_OF_ONE = 300
"""Files that carry one document's name with an addition, in one folder."""
_MAX_ENDINGS = 20_000
_DOCUMENT, _LEFTOVER, _BARE = 1, 2, 4
_AT_ONCE, _MAX_WAITING = 2_000, 400


Leftover = tuple[str, str, dict[str, str]]
"""A name that a place of the catalogue explains: (name, id of the place, named parts of the name)."""


class Listed(NamedTuple):
    """One folder: how many files it has, its leftovers, the names that may be documents, in order, and all names where they are asked for."""

    folder: str
    files: int
    leftovers: list[Leftover]
    documents: list[str]
    names: list[str]


def _any_in(text: str, parts: Iterable[str]) -> bool:
    return any(map(text.__contains__, parts))


def _of_people(documents: Iterable[str]) -> list[str]:
    """Without what programs keep for themselves in their folders."""
    return [name for name in documents if class_of(format_of_extension(extension_of(name))) not in _OF_PROGRAMS]


class Sorting(msgspec.Struct, dict=True):
    """Tells what the names of a folder may be, most of them by their ending alone."""

    catalogue: Catalogue
    _known: dict[str, int] = msgspec.field(default_factory=dict)

    left_out = 0
    """How many names the last call of `sort` left out."""

    def __post_init__(self) -> None:
        self._first = {start[0] for start in self.catalogue.starts}
        self._last = {end[-1] for end in self.catalogue.ends if "." not in end}
        self._ends = tuple(self.catalogue.ends)
        self._parts_of_ends = {end[at:] for end in self._ends for at in range(len(end))}
        signs = (*(f"/{first}" for first in sorted(self._first)), *self.catalogue.holds)
        self._signs = tuple(sign for sign in signs if "_" not in sign)
        self._signs_with_line = tuple(sign for sign in signs if "_" in sign)

    def _sort(self, ending: str) -> int:
        """What a name may be by its ending: from its last dot on, or its last letter where it has no dot."""
        if not ending.startswith("."):
            found = _LEFTOVER * (ending in self._last) + _BARE * bool(self.catalogue.bare_lengths)
        else:
            leftover = ending.endswith(self._ends) or ending in self._parts_of_ends
            found = _DOCUMENT * (ending[1:].lower() in DOCUMENT_EXTENSIONS) + _LEFTOVER * leftover
        if len(self._known) > _MAX_ENDINGS:
            self._known.clear()
        self._known[ending] = found
        return found

    @staticmethod
    def _by_ending(names: Sequence[str], whole: str) -> Iterable[tuple[str, Sequence[str]]]:
        """The names of a folder by their ending; `whole` are all of them between `/`."""
        first = names[0][names[0].rfind(".") :]
        if first.startswith(".") and whole.count(first + "/") == len(names):
            return [(first, names)]
        groups: dict[str, list[str]] = {}
        for name in names:
            ending = name[name.rfind(".") :]
            if ending in groups:
                groups[ending].append(name)
            else:
                groups[ending] = [name]
        return groups.items()

    def sort(
        self,
        names: Sequence[str],
        *,
        of_programs: bool = False,
        outer: Sequence[str] = (),
        for_copies: bool = False,
    ) -> tuple[list[Leftover], list[str]]:
        """(leftovers, names that may be documents, in order) of one folder; in those of programs, their settings are no documents.
        `outer` are the documents around a hidden folder, or one whose name says that it is `for_copies`.
        """
        if not names:
            return [], []
        # Whole folders at a time: what is done for each name alone is what a search of a large disk takes its time with.
        whole = "/" + "/".join(names) + "/"
        likely: list[str] = []
        suspects: list[str] = []
        for ending, alike in self._by_ending(names, whole):
            sort = self._known.get(ending)
            if sort is None:
                sort = self._sort(ending)
            if sort & _DOCUMENT:
                likely += alike
            if sort & _LEFTOVER:
                suspects += alike
            elif sort & _BARE:
                lengths = self.catalogue.bare_lengths
                suspects += [name for name in alike if len(name) in lengths]
        if _any_in(whole, self._signs) or ("_" in whole and _any_in(whole, self._signs_with_line)):
            first, holds = self._first, [part for part in self.catalogue.holds if part in whole]
            suspects += [name for name in names if name[0] in first]
            if holds:
                held = re.compile("|".join(map(re.escape, holds))).search
                suspects += [name for name in names if held(name)]
            suspects = [name for name in dict.fromkeys(suspects) if not name.startswith(SHADOW)]
            # A name that only begins with a dot has no ending.
            likely = [name for name in likely if name.rfind(".") > 0 and not name.startswith(SHADOW)]
        likely.sort()
        leftovers, unsure = self._listed_ones(suspects, names)
        taken = {name for name, _, _ in leftovers}
        if outer:
            leftovers += self.of_outer(names, outer, taken, gone=for_copies and of_programs)
            taken |= {name for name, _, _ in leftovers}
        documents = set(likely) - taken
        if of_programs:
            documents = set(_of_people(documents))
        endings = {name[name.rfind(".") :] for name in documents}
        others = [name for name in neighbours.suspects(names, whole, endings) if name not in taken]
        found: set[str] = set()
        counts: dict[str, int] = {}
        if len(others) > _MAX_OF_ONE:
            others.sort(key=neighbours.by_number, reverse=True)  # the newest have the highest counters and stamps
        self.left_out = max(len(others) - neighbours.MAX_SUSPECTS, 0)
        for each in neighbours.named_after(others[: neighbours.MAX_SUSPECTS], documents, gone=not of_programs):
            counts[each.document] = count = counts.get(each.document, 0) + 1
            if count > _MAX_OF_ONE:
                self.left_out += 1
                continue
            fields = {"name": each.document, "addition": each.addition} | ({"unsure": "1"} if each.unsure else {})
            leftovers.append((each.name, each.place, fields))
            found.add(each.name)
        return leftovers + [each for each in unsure if each[0] not in found], likely

    def of_outer(
        self, names: Sequence[str], documents: Sequence[str], taken: Collection[str], *, gone: bool
    ) -> list[Leftover]:
        """What lies in a folder for copies, of the documents around it: under their names, or with an addition; with `gone` also what is of
        their kind, but not there any more.
        """
        around = set(documents)
        free = [name for name in names if name not in taken]
        whole = "/" + "/".join(free) + "/"
        others = [name for name in free if name not in around]
        endings = {name[name.rfind(".") :] for name in around}
        alike = {name for name in others if gone and name[name.rfind(".") :] in endings}
        found = [
            neighbours.Named(name, neighbours.BACKUP, name, "")
            for name in free
            if (name in around and not neighbours.is_everywhere(name)) or name in alike
        ]
        others = [name for name in others if name not in alike]
        suspects = neighbours.suspects(others, whole, endings)[: neighbours.MAX_SUSPECTS]
        found += neighbours.named_after(suspects, around, gone=False)
        return [(e.name, e.place, {"name": e.document, "addition": e.addition, "up": "1"}) for e in found]

    def _listed_ones(self, suspects: Sequence[str], names: Sequence[str]) -> tuple[list[Leftover], list[Leftover]]:
        """What the catalogue explains: (what is certain, what another rule may explain better as its own original is not there)."""
        certain: list[Leftover] = []
        unsure: list[Leftover] = []
        there: set[str] | None = None
        for name in suspects:
            if (found := self.catalogue.match_beside(name)) is not None:
                place, fields = found
                held = fields.get("name", "")
                if held and place.is_copy and (place.needs_original or not held[0].isalnum()):
                    there = there or set(names)
                    (certain if held in there else unsure).append((name, place.id, fields))
                else:
                    certain.append((name, place.id, fields))
        return certain, unsure


class Task(msgspec.Struct):
    """What is to be listed: the folders still to be done of the tree below `top`. In `own` folders nothing counts; `whole` asks for all
    names, else only those in the folders of programs of these `homes` are told.
    """

    top: str
    folders: list[str]
    own: Collection[str] = ()
    whole: bool = False
    homes: tuple[str, ...] = ()


class Lister:
    """Lists trees. `aside` allows for another process, which sorts by the catalogue that ships."""

    def __init__(self, door: Sources, sorting: Sorting, on_problem: OnProblem, *, aside: bool = True) -> None:
        self._door, self._sorting, self._on_problem, self._aside = door, sorting, on_problem, aside
        self._ahead: dict[str, ListingProcess] = {}

    def begin(self, task: Task) -> None:
        """Have another process list a tree from now on; it is asked for later."""
        if self._aside and (other := ListingProcess.start()) is not None:
            other.begin(task)
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
                    other.begin(task)
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

    def _told(self, other: ListingProcess, task: Task) -> Iterator[Listed]:
        """What the other process lists. Where it ends too early, the rest is listed here."""
        done: set[str] = set()
        ended = False
        try:
            for rows, problems, errors, ended in other.answers():
                for folder, message in problems:
                    self._on_problem(folder, message)
                for code, text, folder in errors:
                    self._door.health.note_error(OSError(code, text), folder)
                if self._door.health.failing() and not ended:
                    self._on_problem(task.top, "listed no further, as its disk returned several read errors")
                    return
                for folder, files, leftovers, documents, names in rows:
                    done.add(folder)
                    yield Listed(folder, files, leftovers, _split(documents), _split(names))
        finally:
            other.end()
        if not ended:
            yield from (
                listed
                for listed in here(self._door, task, self._sorting, self._on_problem)
                if listed.folder not in done
            )


def here(
    door: Sources,
    task: Task,
    sorting: Sorting,
    on_problem: OnProblem,
    on_error: Callable[[OSError, str], None] | None = None,
) -> Iterator[Listed]:
    """List in this process; `task.folders` are those still to be done, also when this is left in the middle."""
    stack = task.folders
    sep = os.sep
    source = door.around(os.path.join(task.top, "x"))

    vanished: set[str] = set()

    def failed(error: OSError, folder: str) -> None:
        if error.errno == errno.ENOENT:
            vanished.add(folder)
        (on_error or door.health.note_error)(error, folder)

    def missed(folder: str, message: str) -> None:
        # Temporary folders come and go on a machine in use.
        if folder == task.top or folder not in vanished:
            on_problem(folder, message)

    outer: dict[str, list[str]] = {}  # folder for copies → the documents around it
    while stack:
        folder = stack.pop()
        found = source.list_folder(folder, folder == task.top, missed, failed)
        if found is None:
            if door.health.failing():
                stack.clear()
            continue
        folders, files = found
        if folder in task.own or folder.endswith(_DECOYS):
            yield Listed(folder, len(files), [], [], [])
            continue
        prefix = folder if folder.endswith(sep) else folder + sep
        stack += [prefix + name for name in folders]
        of_programs = is_of_programs(folder, task.homes)
        leftovers, documents = sorting.sort(
            files,
            of_programs=of_programs,
            outer=outer.pop(folder, ()),
            for_copies=neighbours.tells_of_copies(os.path.basename(folder)),
        )
        if sorting.left_out:
            what = f"{sorting.left_out:,} further files carry one document's name with an addition: those with the lowest numbers were not looked at"
            on_problem(folder, f"{what}; search their folder alone, or name one of them")
        if around := _of_people(documents) if of_programs else documents:
            for name in folders:
                if name not in _NO_COPIES and (name.startswith(".") or neighbours.tells_of_copies(name)):
                    outer[prefix + name] = around
        whole = task.whole or (of_programs and is_worth_it(folder, files))
        yield Listed(folder, len(files), leftovers, documents, files if whole else [])


class ListingProcess:
    """A second process that waits for a task; a thread takes what it tells, so that it need not wait for us."""

    def __init__(self, run: subprocess.Popen[bytes]) -> None:
        import queue

        self._run = run
        self._told: queue.Queue[Listing | None] = queue.Queue(_MAX_WAITING)
        self._stopped = False
        self._taking: threading.Thread | None = None

    @classmethod
    def start(cls) -> ListingProcess | None:
        """None where no process can be had."""
        import subprocess

        command = [sys.executable, "-P", "-m", "rustfern.search.walk"]
        try:
            return cls(
                subprocess.Popen(
                    command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                    start_new_session=os.name == "posix",
                )
            )  # fmt: skip
        except OSError:
            return None

    def begin(self, task: Task) -> None:
        """Give it its task."""
        import pickle
        import threading

        assert self._run.stdin is not None
        with contextlib.suppress(OSError):  # it ended at once: nothing will be told
            pickle.dump(task, self._run.stdin)
            self._run.stdin.close()
        self._taking = threading.Thread(target=self._take, daemon=True)
        self._taking.start()

    def _take(self) -> None:
        import pickle

        assert self._run.stdout is not None
        try:
            with contextlib.suppress(OSError, EOFError, ValueError, pickle.UnpicklingError):
                while not self._stopped:
                    self._told.put(pickle.load(self._run.stdout))
        finally:
            self._told.put(None)  # whatever happened: somebody waits for the end

    def answers(self) -> Iterator[Listing]:
        """What it tells, batch by batch, up to its end."""
        while (told := self._told.get()) is not None:
            yield told

    def end(self) -> None:
        """End it, whatever it does."""
        import queue

        self._stopped = True
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
    list[tuple[str, int, list[Leftover], str, str]], list[tuple[str, str]], list[tuple[int, str, str]], bool
]
"""What the second process tells: folders (names joined by `/`), problems, errors of the system, whether that was all."""


def _tell(stream: BinaryIO, told: Listing) -> None:
    import pickle

    pickle.dump(told, stream, pickle.HIGHEST_PROTOCOL)
    stream.flush()


def serve(asked: BinaryIO, told: BinaryIO) -> None:
    """List what is asked for on one stream and tell of it on the other, batch by batch."""
    import pickle

    task: Task = pickle.load(asked)
    door = Sources()
    rows: list[tuple[str, int, list[Leftover], str, str]] = []
    problems: list[tuple[str, str]] = []
    errors: list[tuple[int, str, str]] = []
    held = 0

    def on_error(error: OSError, folder: str) -> None:
        door.health.note_error(error, folder)
        errors.append((error.errno or 0, error.strerror or "", folder))

    sorting = Sorting(catalogue())
    for listed in here(door, task, sorting, lambda folder, message: problems.append((folder, message)), on_error):
        rows.append((listed.folder, listed.files, listed.leftovers, "/".join(listed.documents), "/".join(listed.names)))
        held += len(listed.documents) + len(listed.names) + 20
        if held > _AT_ONCE:
            held = 0
            _tell(told, (rows, problems, errors, False))
            for each in (rows, problems, errors):
                each.clear()
    _tell(told, (rows, problems, errors, True))


if __name__ == "__main__":
    import signal

    if hasattr(signal, "SIGPIPE"):
        signal.signal(signal.SIGPIPE, signal.SIG_DFL)
    serve(sys.stdin.buffer, sys.stdout.buffer)
