"""Backups as they come: folders, archives and images that carry a date, of which one or several are what is searched."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from contextlib import suppress

from rustfern.catalogue.loader import Catalogue, Place
from rustfern.core.errors import SourceError
from rustfern.core.paths import inside
from rustfern.sources.interface import Source

_DATE = re.compile(r"((?:19|20)\d\d)[-_.]?(0[1-9]|1[0-2])[-_.]?([0-2]\d|3[01])")
_ARCHIVE = "dated-archive"
"""The place of archives and images that carry a date."""
_PEOPLE = frozenset({"home", "users", "documents and settings"})
_NOBODY = frozenset({"public", "default", "default user", "all users", "shared", "lost+found"})
_HOME = frozenset({".config", "appdata", "library", "documents"})


class DatedRoots:
    """Which of the roots of a search are dated backups, and which of these hold versions of another root.

    Two machines may be searched together, and the image of one may carry a date: only what belongs together, by the people or the folders in it,
    is taken for versions.
    """

    def __init__(self, catalogue: Catalogue, sources: Sequence[Source]) -> None:
        self._catalogue, self._sources = catalogue, sources
        told = [catalogue.tree_of(source.root.replace(os.sep, "/") + "/x/x") for source in sources]
        self._loose = [each[1].get("loose", "") if each is not None else "" for each in told]
        self._held: dict[int, frozenset[str]] = {}

    def hold_versions(self, place: Place, loose: str) -> bool:
        """Whether what lies in a dated tree (its folder or archive is `loose`) are versions of what is searched."""
        if loose not in self._loose:
            return place.id != _ARCHIVE  # else a folder, unpacked from what carried a date for its version
        mine = self._loose.index(loose)
        others = [number for number, each in enumerate(self._loose) if each != loose]
        if place.id != _ARCHIVE and not self._is_packed(mine) and not all(self._loose):
            return True
        return any(self._is_newer(other, mine) for other in others)

    def _is_newer(self, other: int, mine: int) -> bool:
        """Whether another root is a newer state of the same."""
        if self._loose[other]:
            same_series = _DATE.sub("", self._loose[other]) == _DATE.sub("", self._loose[mine])
            return (
                same_series
                and _date_in(self._loose[other]) > _date_in(self._loose[mine])
                and self._together(other, mine)
            )
        # An undated image may be of any machine; a living folder is known by what it holds.
        return not self._is_packed(other) and self._together(other, mine)

    def _is_packed(self, number: int) -> bool:
        root = self._sources[number].root.replace(os.sep, "/")
        dated = f"/2000-01-01-{os.path.basename(root)}/x/x"
        return re.fullmatch(self._catalogue.places[_ARCHIVE].mirror, dated, re.DOTALL) is not None

    def _together(self, one: int, other: int) -> bool:
        mine, theirs = self._marks(one), self._marks(other)
        both = len(mine & theirs)
        return both > 0 and both * 2 >= min(len(mine), len(theirs))

    def _marks(self, number: int) -> frozenset[str]:
        """The people of a root, else the name of the home that it is, else the names directly in it."""
        if number not in self._held:
            source, found = self._sources[number], set[str]()
            with suppress(SourceError):
                folders, files = source.names(source.root)
                for folder in folders:
                    if folder.casefold() in _PEOPLE:
                        people = {name.casefold() for name in source.names(os.path.join(source.root, folder))[0]}
                        found |= people - _NOBODY
                if not found and _HOME & {name.casefold() for name in folders}:
                    found = {os.path.basename(source.root).casefold()}
                found = found or {name.casefold() for name in (*folders, *files)}
            self._held[number] = frozenset(found)
        return self._held[number]

    def is_of_versions(self, path: str) -> bool:
        """Whether a folder lies in a tree of older versions, and is no part of what is searched."""
        tree = self._catalogue.tree_of(path.replace(os.sep, "/") + "/x/x")
        if tree is None or tree[0].id == "old-system":
            return False  # an old system holds what the new one never took over
        if "top" in tree[1]:
            return self.reach(tree[1]["top"] or "/")
        return self.hold_versions(tree[0], tree[1]["loose"])

    def reach(self, folder: str) -> bool:
        """Whether a folder (with `/`) is searched itself: what repeats one that is not is searched like any other."""
        return any(inside(folder.replace("/", os.sep), source.root) for source in self._sources)


def _date_in(path: str) -> str:
    """The last date in a path, as text that orders: year, month, day, and what follows of its name."""
    found = list(_DATE.finditer(path))
    return "".join(found[-1].groups()) + path[found[-1].end() :] if found else ""
