"""Lists the folders of a tree and sorts their names: what is a leftover, what may be a document, what says nothing."""

from __future__ import annotations

import errno
import os
import re
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import lru_cache
from hashlib import blake2b
from typing import NamedTuple

import msgspec

from rustfern.catalogue.loader import Catalogue
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, class_of, extension_of, format_of_extension
from rustfern.search import neighbours
from rustfern.search.program_folders import is_of_programs, is_worth_it
from rustfern.sources.interface import OnProblem
from rustfern.sources.registry import Sources

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
_ENDINGS = re.compile(r"\.[^./]*(?=/)")
_HASHED = re.compile(r"(?:/[0-9a-f]{6,}+(?:\.[^./]*+)?+)++/")
"""Names, between `/`, of which only the endings can say anything."""
_DOCUMENT, _LEFTOVER, _BARE = 1, 2, 4


Leftover = tuple[str, str, dict[str, str]]
"""A name that a place of the catalogue explains: (name, id of the place, named parts of the name)."""


class Listed(NamedTuple):
    """One folder: how many files it has, its leftovers, the names that may be documents, in order, all names where they are asked for, and a sum of
    all that lies in it where that is.
    """

    folder: str
    files: int
    leftovers: list[Leftover]
    documents: list[str]
    names: list[str]
    sum: int = 0


def _any_in(text: str, parts: Iterable[str]) -> bool:
    return any(map(text.__contains__, parts))


@lru_cache(2_000)
def _is_of_people(extension: str) -> bool:
    """Whether it is not of what programs keep for themselves in their folders."""
    return class_of(format_of_extension(extension.lower())) not in _OF_PROGRAMS


def _of_people(documents: Iterable[str]) -> list[str]:
    return [name for name in documents if _is_of_people(extension_of(name))]


class Sorting(msgspec.Struct, dict=True):
    """Tells what the names of a folder may be, most of them by their ending alone."""

    catalogue: Catalogue
    _known: dict[str, int] = msgspec.field(default_factory=dict)

    left_out = 0
    """How many names the last call of `sort` left out."""

    def __post_init__(self) -> None:
        self._last = {end[-1] for end in self.catalogue.ends if "." not in end}
        self._ends = tuple(self.catalogue.ends)
        self._parts_of_ends = {end[at:] for end in self._ends for at in range(len(end))}
        self._signed = re.compile(f"/(?:{'|'.join(map(re.escape, self.catalogue.starts)) or '(?!)'})")
        self._holds = tuple(part for part in self.catalogue.holds if "_" not in part)
        self._holds_line = tuple(part for part in self.catalogue.holds if "_" in part)

    def _sort(self, ending: str) -> int:
        """What a name may be by its ending: from its last dot on, or its last letter where it has no dot."""
        if not ending.startswith("."):
            found = _LEFTOVER if ending in self._last else _BARE * bool(self.catalogue.bare_lengths)
        else:
            leftover = ending.endswith(self._ends) or ending in self._parts_of_ends
            found = _DOCUMENT * (ending[1:].lower() in DOCUMENT_EXTENSIONS) + _LEFTOVER * leftover
        if len(self._known) > _MAX_ENDINGS:
            self._known.clear()
        self._known[ending] = found
        return found

    def _by_ending(
        self, names: Sequence[str], whole: str
    ) -> tuple[list[str], list[str], Collection[str], Collection[str]]:
        """The names of a folder that may be (documents, leftovers) by their endings, all endings, those of documents; `whole` are the names
        between `/`.
        """
        found = _ENDINGS.findall(whole)
        if len(found) != len(names):  # some have no dot
            found = [name[name.rfind(".") :] for name in names]
        endings = set(found)
        known = self._known
        may_be = {
            ending: sort for ending in endings if (sort := known[ending] if ending in known else self._sort(ending))
        }
        if not may_be:
            return [], [], endings, ()
        if len(endings) == 1:
            sort = next(iter(may_be.values()))
            likely, suspects, bare = (list(names) if sort & kind else [] for kind in (_DOCUMENT, _LEFTOVER, _BARE))
        else:
            likely, suspects, bare = [], [], []
            for name, ending in zip(names, found, strict=True):
                if ending in may_be:
                    sort = may_be[ending]
                    if sort & _DOCUMENT:
                        likely.append(name)
                    if sort & _LEFTOVER:
                        suspects.append(name)
                    elif sort & _BARE:
                        bare.append(name)
        suspects += [name for name in bare if len(name) in self.catalogue.bare_lengths]
        return likely, suspects, endings, {ending for ending, sort in may_be.items() if sort & _DOCUMENT}

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
        likely, suspects, endings, of_documents = self._by_ending(names, whole)
        if _HASHED.fullmatch(whole):
            whole = "/" + "".join(f"x{ending}/" for ending in endings)
        if (
            self._signed.search(whole)
            or _any_in(whole, self._holds)
            or ("_" in whole and _any_in(whole, self._holds_line))
        ):
            holds = [part for part in self.catalogue.holds if part in whole]
            suspects += [name for name in names if name.startswith(self.catalogue.starts)]
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
            of_documents = {ending for ending in of_documents if _is_of_people(ending[1:])}
            documents = {name for name in documents if name.endswith(tuple(of_documents))} if of_documents else set()
        others = [name for name in neighbours.suspects(names, whole, of_documents) if name not in taken]
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
    names, else only those in the folders of programs of these `homes` are told; `summed` for a sum of each folder.
    """

    top: str
    folders: list[str]
    own: Collection[str] = ()
    whole: bool = False
    homes: tuple[str, ...] = ()
    summed: bool = False


def sum_of_tree(door: Sources, task: Task) -> int:
    """The sum of the sums of all folders that `here` lists."""
    source = door.around(os.path.join(task.top, "x"))
    total, stack = 0, [task.top]
    while stack:
        folder = stack.pop()
        found = source.list_folder(folder, folder == task.top, lambda _folder, _message: None)
        if found is not None:
            total += _sum_of(folder, *found)
            if not _is_left_out(folder, task):
                prefix = folder if folder.endswith(os.sep) else folder + os.sep
                stack += [prefix + name for name in found[0]]
    return total


def _sum_of(folder: str, folders: Sequence[str], files: Sequence[str]) -> int:
    told = os.fsencode("\0".join((folder, *sorted(folders), "", *sorted(files))))
    return int.from_bytes(blake2b(told, digest_size=8).digest(), "big")


def _is_left_out(folder: str, task: Task) -> bool:
    return folder in task.own or folder.endswith(_DECOYS)


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
        told = _sum_of(folder, folders, files) if task.summed else 0
        if _is_left_out(folder, task):
            yield Listed(folder, len(files), [], [], [], told)
            continue
        prefix = folder if folder.endswith(sep) else folder + sep
        stack += [prefix + name for name in folders]
        of_programs = is_of_programs(folder, task.homes)
        around: Sequence[str] = outer.pop(folder, ())
        for_copies = bool(around) and neighbours.tells_of_copies(os.path.basename(folder))
        leftovers, documents = sorting.sort(files, of_programs=of_programs, outer=around, for_copies=for_copies)
        if sorting.left_out:
            what = f"{sorting.left_out:,} further files carry one document's name with an addition: those with the lowest numbers were not looked at"
            on_problem(folder, f"{what}; search their folder alone, or name one of them")
        if around := _of_people(documents) if of_programs else documents:
            for name in folders:
                if name not in _NO_COPIES and (name.startswith(".") or neighbours.tells_of_copies(name)):
                    outer[prefix + name] = around
        whole = task.whole or (of_programs and is_worth_it(folder, files))
        yield Listed(folder, len(files), leftovers, documents, files if whole else [], told)
