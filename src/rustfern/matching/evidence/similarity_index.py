"""Which documents a copy is worth comparing with: by bytes, by the ids they carry, by sketches of their text. Opens no file.

MinHash with bands (Broder 1997; Leskovec, Rajaraman and Ullman, Mining of Massive Datasets, 3.3 and 3.4): each text is sketched by the
least values of many hash functions over its features; texts that agree in a band of them are worth comparing. Nothing
is compared with everything.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from functools import cache
from typing import TYPE_CHECKING

from rustfern.core.model import Content
from rustfern.matching.evidence.by_content import run_hashes

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_HASHES, _ROWS = 64, 2
_MAX_COMPARED_PLAINLY = 40
"""Documents up to which all are worth comparing; more are told apart by their sketches."""
_MAX_IN_BAND = 200
"""A band that so many documents share is the text of a template: it tells nothing."""
_SEED = 20_260_312
_MIN_FEATURES = 4
_SKETCHED_AT_ONCE = 256
"""Texts sketched at a time."""
_FOLD, _AT_ONCE = 21, 1 << 17


@cache
def _functions() -> tuple[NDArray[np.uint32], NDArray[np.uint64]]:
    """The factors of the hash functions (odd), shape (64, 1), and what tells the bands apart, shape (32,)."""
    import numpy as np

    rng = np.random.default_rng(_SEED)
    odd = rng.integers(0, 2**31, (_HASHES, 1), dtype=np.uint32) * np.uint32(2) + np.uint32(1)
    return odd, rng.integers(0, 2**63, _HASHES // _ROWS, dtype=np.uint64)


def sketches(contents: Sequence[Content]) -> tuple[list[int], NDArray[np.uint32]]:
    """The least value of each of the hash functions over each text's features: which contents have enough of them (by place), and their
    sketches, shape (of those, 64), 32 bits.
    """
    import numpy as np

    words = np.array([len(each.tokens) // 4 for each in contents], np.int64)
    lines = np.array([len(each.lines) // 4 for each in contents], np.int64)
    runs = run_hashes(b"".join(each.tokens for each in contents))
    counts = np.maximum(words - 2, 0)
    # A run that reaches from one text into the next is none.
    ends = np.cumsum(words)
    inside = np.ones(max(int(ends[-1]), 2) if len(ends) else 2, np.bool_)
    inside[ends[words > 0] - 1] = False
    inside[np.maximum(ends[words > 1] - 2, 0)] = False
    runs = runs[inside[: len(runs)]]
    folded = (runs ^ (runs >> np.uint64(_FOLD))).astype(np.uint32)
    told = np.frombuffer(b"".join(each.lines for each in contents), np.uint32)
    least = np.minimum(_least(folded, counts), _least(told, lines))
    enough = np.flatnonzero(counts + lines >= _MIN_FEATURES)
    return enough.tolist(), least[enough]


def _least(values: NDArray[np.uint32], counts: NDArray[np.int64]) -> NDArray[np.uint32]:
    """The least value of each function over each group of so many values; shape (groups, 64). Where a group is empty, the greatest."""
    import numpy as np

    out = np.full((_HASHES, len(counts)), np.iinfo(np.uint32).max, np.uint32)
    there = np.flatnonzero(counts)
    if not len(there):
        return out.T
    starts = np.cumsum(counts[there]) - counts[there]
    # A bijection of 32 bits for each factor; the second step lets high bits of the value reach the low ones of the hash.
    mixed = values ^ (values >> np.uint32(15))
    # As many functions at once as keep what is worked on in the processor's cache.
    step = max(1, min(_HASHES, _AT_ONCE // len(mixed)))
    for first in range(0, _HASHES, step):
        some = mixed[None, :] * _functions()[0][first : first + step]
        out[first : first + step, there] = np.minimum.reduceat(some, starts, axis=1)
    return out.T


def _bands(contents: Sequence[Content]) -> dict[int, list[int]]:
    """One key for each band of a sketch, by the content's place; none where there is too little text."""
    import numpy as np

    places, found = sketches(contents)
    rows = found.astype(np.uint64).reshape(len(places), _HASHES // _ROWS, _ROWS)
    keys = ((rows[:, :, 0] << np.uint64(32)) | rows[:, :, 1]) ^ _functions()[1]
    return dict(zip(places, keys.tolist(), strict=True))


class Likeness:
    """An index of known documents by what they hold. Keys are the caller's: one for each document, with one content or more."""

    def __init__(self) -> None:
        self._keys: dict[str, int] = {}  # key → its number
        self._names: list[str] = []
        self._by_sum: dict[str, list[str]] = defaultdict(list)
        self._by_mark: dict[tuple[str, str], set[str]] = defaultdict(set)
        self._waiting: list[tuple[str, Content]] = []
        self._first: dict[int, int] = {}  # band → the number of the first document in it
        self._others: dict[int, list[int]] = {}  # … and those of the others, which few bands have

    def __len__(self) -> int:
        return len(self._keys)

    def add(self, key: str, content: Content) -> None:
        """Take in a version of a document."""
        if key not in self._keys:
            self._keys[key] = len(self._names)
            self._names.append(key)
        if content.sha256 is not None:
            self._by_sum[content.sha256].append(key)
        for mark in content.glance.identity:
            self._by_mark[mark].add(key)
        if content.tokens:
            self._waiting.append((key, content))

    def carriers(self, mark: tuple[str, str]) -> int:
        """How many of the known documents carry an id."""
        return len(self._by_mark.get(mark, ()))

    def near(self, content: Content, limit: int = _MAX_COMPARED_PLAINLY) -> list[str]:
        """The documents worth comparing with a copy, the likeliest first: all, if there are few."""
        if len(self._keys) <= limit:
            return list(self._keys)
        found: Counter[str] = Counter()
        for key in self._by_sum.get(content.sha256 or "", ()):
            found[key] += 1_000
        for mark in content.glance.identity:
            carriers = self._by_mark.get(mark, ())
            if len(carriers) <= _MAX_IN_BAND:
                for key in carriers:
                    found[key] += 4
        if content.tokens:
            self._sketch_waiting()
            for band in _bands([content]).get(0, ()):
                if band in self._first and len(others := self._others.get(band, ())) < _MAX_IN_BAND:
                    for number in (self._first[band], *others):
                        found[self._names[number]] += 1
        return [key for key, _ in found.most_common(limit)]

    def _sketch_waiting(self) -> None:
        for start in range(0, len(self._waiting), _SKETCHED_AT_ONCE):
            some = self._waiting[start : start + _SKETCHED_AT_ONCE]
            bands = _bands([content for _, content in some])
            for place, found in bands.items():
                self._enter(self._keys[some[place][0]], found)
        self._waiting.clear()

    def _enter(self, number: int, bands: Sequence[int]) -> None:
        """Put a document into its bands."""
        for band in bands:
            first = self._first.setdefault(band, number)
            if first != number:
                others = self._others.setdefault(band, [])
                if len(others) < _MAX_IN_BAND and number not in others[-1:]:
                    others.append(number)
