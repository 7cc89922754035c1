"""The name index of a search: every document-like name on a disk, in few bytes each, looked up by stem, folder or extension.

The names themselves lie in the case file, one row for each folder (a name holds no `/`, so that it parts them). Of many names only
hashes of stems and extensions are in memory, with the place of each: 20 bytes for one. Names are compared whole before they count, so that
hashes which are alike by chance do no harm.
"""

from __future__ import annotations

import os
import re
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import islice
from typing import TYPE_CHECKING

from rustfern.core.paths import fold_name, stem_of

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Hashes = NDArray[np.uint64]
    Numbers = NDArray[np.int32]
    Batch = tuple[Hashes, Numbers, Numbers, Numbers]
    """Of many names: hashed stems, hashed endings, the numbers of their folders, their places there."""

TABLE = "CREATE TABLE listed (id INTEGER PRIMARY KEY, path BLOB NOT NULL, names BLOB NOT NULL)"
_BASE = 0x9E37_79B9_7F4A_7C15
_AT_ONCE = 1 << 16
_STEMS_KEPT = 1_024
_MAX_PLAIN_NAMES = 5_000
"""Names that are looked up without hashes: loading what hashes them takes longer."""
_MAX_HELD_NAMES = 200_000
"""Names of folders looked at that are kept at hand."""


Place = tuple[int, int]
"""A name: the number of its folder, and its place among the names there."""


class PlainIndex:
    """The names of a small search, by stem and extension; `rank` orders folders by their paths."""

    def __init__(self, folders: Iterable[tuple[int, Sequence[str]]], rank: Sequence[int]) -> None:
        self._stems: dict[str, list[Place]] = {}
        self._endings: dict[str, list[int]] = {}
        for ident, names in sorted(folders, key=lambda row: rank[row[0]]):
            for place, name in enumerate(names):
                stem = stem_of(name)
                self._stems.setdefault(stem, []).append((ident, place))
                there = self._endings.setdefault(name[len(stem) + 1 :], [])
                if there[-1:] != [ident]:
                    there.append(ident)

    def of_stem(self, stem: str) -> list[Place]:
        """The names that have this folded stem, in the order of paths."""
        return self._stems.get(stem, [])

    def of_extension(self, extension: str) -> list[int]:
        """The folders that have names of this extension, in the order of paths."""
        return self._endings.get(extension, [])


class HashedIndex:
    """The same for a large search, by hashes: what is found may also be another name, of the same hash by chance."""

    def __init__(self, batches: list[Batch], rank: Sequence[int]) -> None:
        import numpy as np

        stems, self._endings, self._folders, self._places = (
            np.concatenate(each) for each in zip(*batches, strict=True)
        )
        self._rank = np.asarray(rank, np.int32)
        self._order = np.lexsort((self._places, self._rank[self._folders], stems)).astype(np.int32)
        self._stems = stems[self._order]

    def of_stem(self, stem: str) -> list[Place]:
        """As `_Few.of_stem`."""
        import numpy as np

        sought = np.uint64(_hash(stem))  # of the same type: else all hashes are made other numbers for each look-up
        low = int(self._stems.searchsorted(sought, "left"))
        high = low + int(self._stems[low:].searchsorted(sought, "right"))
        found = self._order[low:high]
        return list(zip(self._folders[found].tolist(), self._places[found].tolist(), strict=True))

    def of_extension(self, extension: str) -> list[int]:
        """As `_Few.of_extension`."""
        import numpy as np

        idents = np.unique(self._folders[self._endings == _hash(extension) >> 33])
        ordered: list[int] = idents[np.argsort(self._rank[idents])].tolist()
        return ordered


@lru_cache(4)
def _powers(bits: int) -> tuple[Hashes, Hashes]:
    """Powers of the base and of its inverse, from the zeroth on, modulo 2^64, as many as 2^bits."""
    import numpy as np

    def of(base: int) -> Hashes:
        factors = np.full(1 << bits, base, np.uint64)
        factors[0] = 1
        return np.cumprod(factors)

    return of(_BASE), of(pow(_BASE, -1, 1 << 64))


def _hash(text: str) -> int:
    """The hash of one folded text, as `_hashes` makes it: the sum of (byte + 1) * base^place, modulo 2^64."""
    value = 0
    for byte in reversed(text.encode()):
        value = (value * _BASE + byte + 1) & 0xFFFF_FFFF_FFFF_FFFF
    return value


def _hashes(whole: bytes) -> tuple[Hashes, Numbers]:
    """Hashed stems and endings of names parted by `/`, for all of them at once."""
    import numpy as np

    stems, endings = [], []
    at = 0
    while at <= len(whole):
        stop = whole.find(b"/", at + _AT_ONCE)
        part = np.frombuffer(whole[at : stop if stop >= 0 else len(whole)], np.uint8)
        at = stop + 1 if stop >= 0 else len(whole) + 1
        up, down = _powers(max(len(part).bit_length(), 17))
        sums = np.zeros(len(part) + 1, np.uint64)
        np.cumsum((part.astype(np.uint64) + np.uint64(1)) * up[: len(part)], out=sums[1:])
        signs = np.flatnonzero(part == ord("/"))
        starts, ends = np.append(0, signs + 1), np.append(signs, len(part))
        dots = np.append(-1, np.flatnonzero(part == ord(".")))
        last = dots[np.searchsorted(dots, ends) - 1]
        dotted = last > starts
        stops = np.where(dotted, last, ends)
        behind = np.where(dotted, last + 1, ends)
        stems.append((sums[stops] - sums[starts]) * down[starts])
        endings.append(((sums[ends] - sums[behind]) * down[behind] >> np.uint64(33)).astype(np.int32))
    return np.concatenate(stems), np.concatenate(endings)


class NameIndex:
    """The names that `add` took, in the table `listed` of an open database. Whatever is looked up comes in the order of paths."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db
        self._count = self._waiting_names = 0
        self._waiting: list[tuple[int, str, int]] = []
        self._batches: list[Batch] = []
        self._settled: PlainIndex | HashedIndex | None = None
        # What is asked for is often asked again: the copies of one folder, the names that many homes share.
        self._at_hand: dict[int, tuple[str, list[str]]] = {}
        self._held = 0
        self._of_stem = lru_cache(_STEMS_KEPT)(lambda stem: self._lookup().of_stem(stem))

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
            folded = whole.lower() if whole.isascii() else "/".join(map(fold_name, names))
            self._waiting.append((self._count, folded, len(names)))
            self._waiting_names += len(names)
        self._db.executemany("INSERT INTO listed VALUES (?, ?, ?)", lines)
        if self._batches or self._waiting_names > _MAX_PLAIN_NAMES:
            self._hash_waiting()
        self._settled = None
        self._of_stem.cache_clear()

    def _hash_waiting(self) -> None:
        if not self._waiting:
            return
        import numpy as np

        idents, texts, counts = zip(*self._waiting, strict=True)
        stems, endings = _hashes("/".join(texts).encode("utf-8", "surrogatepass"))
        folders = np.repeat(np.array(idents, dtype=np.int32), counts)
        starts = np.cumsum(counts) - counts
        places = (np.arange(len(folders)) - np.repeat(starts, counts)).astype(np.int32)
        self._batches.append((stems, endings, folders, places))
        self._waiting.clear()
        self._waiting_names = 0

    def settle(self) -> None:
        """Make look-ups fast; called when all names are in (else the first look-up does it)."""
        self._lookup()

    def _lookup(self) -> PlainIndex | HashedIndex:
        if self._settled is None:
            if self._count:
                self._db.execute("CREATE INDEX IF NOT EXISTS listed_path ON listed (path)")
            rank = [0] * (self._count + 1)
            for place, (ident,) in enumerate(self._db.execute("SELECT id FROM listed ORDER BY path")):
                rank[ident] = place
            if self._batches:
                self._settled = HashedIndex(self._batches, rank)
            else:
                self._settled = PlainIndex([(ident, folded.split("/")) for ident, folded, _ in self._waiting], rank)
        return self._settled

    def _row(self, ident: int) -> tuple[str, list[str]]:
        """The path of a folder and its names; none if an interrupt took them back."""
        found = self._at_hand.get(ident)
        if found is None:
            row = self._db.execute("SELECT path, names FROM listed WHERE id = ?", (ident,)).fetchone()
            found = (os.fsdecode(row[0]), os.fsdecode(row[1]).split("/")) if row else ("", [])
            self._held += len(found[1])
            if self._held > _MAX_HELD_NAMES:
                self._at_hand.clear()
                self._held = len(found[1])
            self._at_hand[ident] = found
        return found

    def _fitting(self, stem: str, fits: Callable[[str], bool], only: int | None = None) -> Iterator[str]:
        for ident, place in self._of_stem(stem):
            if only is None or ident == only:
                folder, names = self._row(ident)
                if place < len(names) and fits(fold_name(names[place])):
                    yield os.path.join(folder, names[place])

    def _ident(self, folder: str) -> int | None:
        self._lookup()
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

    def folders(self) -> Iterator[tuple[str, list[str]]]:
        """(folder, names in it) of all that was taken, in the order of paths."""
        for path, names in self._db.execute("SELECT path, names FROM listed ORDER BY path"):
            yield os.fsdecode(path), os.fsdecode(names).split("/")

    def with_extension(self, extension: str, limit: int = 5_000) -> list[str]:
        """Paths of files that end in this extension (small letters, no dot)."""
        ending = f".{extension}"
        rows = map(self._row, self._lookup().of_extension(extension))
        found = (
            os.path.join(folder, name)
            for folder, names in rows
            for name in names
            if name.lower().endswith(ending) and len(name) > len(ending)
        )
        return list(islice(found, limit))

    def shaped(self, pattern: str, limit: int = 20_000) -> list[str]:
        """Paths of files whose whole name fits a regular expression that can match no `/`."""
        whole = re.compile(f"(?<![^/])(?:{pattern})(?![^/])")
        rows = self._db.execute("SELECT path, names FROM listed ORDER BY path")
        decoded = ((os.fsdecode(path), os.fsdecode(names)) for path, names in rows)
        found = (os.path.join(folder, each[0]) for folder, names in decoded for each in whole.finditer(names))
        return list(islice(found, limit))
