"""Backups as they come: folders, archives and images that carry a date, of which one or several are what is searched."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable

from rustfern.catalogue.loader import Catalogue, Place

_DATE = re.compile(r"((?:19|20)\d\d)[-_.]?(0[1-9]|1[0-2])[-_.]?([0-2]\d|3[01])")
_ARCHIVE = "dated-archive"
"""The place of archives and images that carry a date."""


class DatedRoots:
    """Which of the roots of a search are dated backups, and which of these is what is searched: the newest, where nothing newer was named."""

    def __init__(self, catalogue: Catalogue, roots: Iterable[str]) -> None:
        self._catalogue = catalogue
        told = [catalogue.tree_of(root.replace(os.sep, "/") + "/x/x") for root in roots]
        self._loose = [each[1].get("loose", "") if each is not None else "" for each in told]

    def hold_versions(self, place: Place, loose: str) -> bool:
        """Whether what lies in a dated tree (its folder or archive is `loose`) are versions of what is searched."""
        if place.id == _ARCHIVE and len(self._loose) < 2:
            return False
        if loose not in self._loose or not all(self._loose):
            return True
        return loose != max(self._loose, key=_date_in)

    def is_of_versions(self, path: str) -> bool:
        """Whether a folder lies in a tree of older versions, and is no part of what is searched."""
        tree = self._catalogue.tree_of(path.replace(os.sep, "/") + "/x/x")
        if tree is None or tree[0].id == "old-system":
            return False  # an old system holds what the new one never took over
        return "loose" not in tree[1] or self.hold_versions(tree[0], tree[1]["loose"])


def _date_in(path: str) -> str:
    """The last date in a path, as text that orders: year, month, day, and what follows of its name."""
    found = list(_DATE.finditer(path))
    return "".join(found[-1].groups()) + path[found[-1].end() :] if found else ""
