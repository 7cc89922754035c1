"""The name index of a search: every document-like name on a disk, in few bytes each, looked up by stem, folder or extension.

The names themselves lie in the case file, one row for each folder (a name holds no `/`, so that it parts them). In memory is only a
sorted array of hashed stems with the place of each name: 16 bytes for one.
"""

from __future__ import annotations

import os
import re
import sqlite3
from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import islice
from typing import TYPE_CHECKING

from rustfern.model import fold_name

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

TABLE = "CREATE TABLE listed (id INTEGER PRIMARY KEY, path BLOB NOT NULL, names BLOB NOT NULL)"
_STEMS_KEPT = 1_024
_MAX_HELD = 200_000
"""So many names of folders that were looked at are kept at hand."""


def stem_of(name: str) -> str:
    """A file name without its extension."""
    stem, dot, _ = name.rpartition(".")
    return stem if dot and stem else name


class NameIndex:
    """The names that `add` took, in the table `listed` of an open database. Whatever is looked up comes in the order of paths."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db
        self._count = 0
        self._stems, self._folders, self._places = array("q"), array("i"), array("i")
        self._with: dict[str, array[int]] = {}
        self._sorted: tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]] | None = None
        # What is asked for is often asked again: the copies of one folder, the names that many homes share.
        self._at_hand: dict[int, tuple[str, list[str]]] = {}
        self._held = 0
        self._of_stem = lru_cache(_STEMS_KEPT)(self._find_stem)

    @classmethod
    def anew(cls, db: sqlite3.Connection) -> NameIndex:
        """An index without names, in a database that may hold an older one."""
        db.execute("DROP TABLE IF EXISTS listed")
        db.execute(TABLE)
        return cls(db)

    def add(self, rows: Iterable[tuple[str, Sequence[str]]]) -> None:
        """Take (folder, document-like names in it). Raises `sqlite3.Error`."""
        lines: list[tuple[int, bytes, bytes]] = []
        for folder, unordered in rows:
            self._count += 1
            names = sorted(unordered)
            whole = "/".join(names)
            lines.append((self._count, os.fsencode(folder), os.fsencode(whole)))
            folded = whole.lower().split("/") if whole.isascii() else [fold_name(name) for name in names]
            apart = [name.rpartition(".") for name in folded]
            # The stems last: an interrupt may leave more places than stems, never less.
            self._folders.extend([self._count] * len(folded))
            self._places.extend(range(len(folded)))
            self._stems.extend([hash(part[0] or name) for part, name in zip(apart, folded, strict=True)])
            for ending in {last for _, dot, last in apart if dot}:
                self._with.setdefault(ending, array("i")).append(self._count)
        self._db.executemany("INSERT INTO listed VALUES (?, ?, ?)", lines)
        self._sorted = None
        self._of_stem.cache_clear()

    def settle(self) -> None:
        """Make look-ups fast; called when all names are in (else the first look-up does it)."""
        self._by_hash()

    def _by_hash(self) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """(hashed stems in order, the name each belongs to, the rank of each folder's path)."""
        import numpy as np

        if self._sorted is None:
            self._db.execute("CREATE INDEX IF NOT EXISTS listed_path ON listed (path)")
            hashes = np.array(self._stems, dtype=np.int64)
            order = np.argsort(hashes, kind="stable")
            rank = np.zeros(self._count + 1, dtype=np.int64)
            by_path = [row[0] for row in self._db.execute("SELECT id FROM listed ORDER BY path")]
            rank[by_path] = np.arange(len(by_path))
            self._sorted = hashes[order], order, rank
        return self._sorted

    def _row(self, ident: int) -> tuple[str, list[str]]:
        """The path of a folder and its names; none if an interrupt took them back."""
        found = self._at_hand.get(ident)
        if found is None:
            row = self._db.execute("SELECT path, names FROM listed WHERE id = ?", (ident,)).fetchone()
            found = (os.fsdecode(row[0]), os.fsdecode(row[1]).split("/")) if row else ("", [])
            self._held += len(found[1])
            if self._held > _MAX_HELD:
                self._at_hand.clear()
                self._held = len(found[1])
            self._at_hand[ident] = found
        return found

    def _find_stem(self, stem: str) -> list[tuple[int, int]]:
        """(folder, place in it) of the names that may have this folded stem."""
        import numpy as np

        hashes, order, rank = self._by_hash()
        sought = hash(stem)
        low, high = np.searchsorted(hashes, sought, "left"), np.searchsorted(hashes, sought, "right")
        found = [(self._folders[at], self._places[at]) for at in order[low:high].tolist()]
        return sorted(found, key=lambda pair: (int(rank[pair[0]]), pair[1]))

    def _fitting(self, stem: str, fits: Callable[[str], bool], only: int | None = None) -> Iterator[str]:
        for ident, place in self._of_stem(stem):
            if only is None or ident == only:
                folder, names = self._row(ident)
                if place < len(names) and fits(fold_name(names[place])):
                    yield os.path.join(folder, names[place])

    def _ident(self, folder: str) -> int | None:
        self._by_hash()
        row = self._db.execute("SELECT id FROM listed WHERE path = ?", (os.fsencode(folder),)).fetchone()
        return int(row[0]) if row else None

    def by_name(self, name: str, limit: int = 200) -> list[str]:
        """Paths of files of this name, whatever its case and Unicode form."""
        folded = fold_name(name)
        return list(islice(self._fitting(stem_of(folded), lambda other: other == folded), limit))

    def by_stem(self, stem: str, limit: int = 200) -> list[str]:
        """Paths of files whose name without extension is this."""
        folded = fold_name(stem)
        return list(islice(self._fitting(folded, lambda other: stem_of(other) == folded), limit))

    def in_folder(self, folder: str, limit: int = 2_000) -> list[str]:
        """Paths of files directly in a folder."""
        ident = self._ident(folder)
        return [os.path.join(folder, name) for name in self._row(ident)[1][:limit]] if ident is not None else []

    def beside(self, folder: str, stem: str) -> list[str]:
        """Paths of files directly in a folder whose name without extension is this."""
        ident, folded = self._ident(folder), fold_name(stem)
        return list(self._fitting(folded, lambda other: stem_of(other) == folded, ident)) if ident is not None else []

    def with_extension(self, extension: str, limit: int = 5_000) -> list[str]:
        """Paths of files that end in this extension (small letters, no dot)."""
        ending, rank = f".{extension}", self._by_hash()[2]
        idents = sorted(self._with.get(extension, ()), key=lambda ident: int(rank[ident]))
        rows = map(self._row, idents)
        found = (os.path.join(folder, n) for folder, names in rows for n in names if n.lower().endswith(ending))
        return list(islice(found, limit))

    def shaped(self, pattern: str, limit: int = 20_000) -> list[str]:
        """Paths of files whose whole name fits a regular expression that can match no `/`."""
        whole = re.compile(f"(?<![^/])(?:{pattern})(?![^/])")
        rows = self._db.execute("SELECT path, names FROM listed ORDER BY path")
        decoded = ((os.fsdecode(path), os.fsdecode(names)) for path, names in rows)
        found = (os.path.join(folder, each[0]) for folder, names in decoded for each in whole.finditer(names))
        return list(islice(found, limit))
