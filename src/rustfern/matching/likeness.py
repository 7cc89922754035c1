"""Which documents a copy is worth comparing with: by bytes, by the ids they carry, by sketches of their text. Opens no file.

MinHash with bands (Broder 1997; Leskovec, Rajaraman and Ullman, Mining of Massive Datasets, 3.3 and 3.4): each text is sketched by the
least values of many hash functions over its features; texts that agree in a band of them are worth comparing. Nothing
is compared with everything.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from typing import TYPE_CHECKING

from rustfern.matching.content import features
from rustfern.model import Content

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_HASHES, _ROWS = 96, 2
_FEW = 40
"""So few documents are all worth comparing; more are told apart by their sketches."""
_CROWD = 200
"""A band that so many documents share is the text of a template: it tells nothing."""
_SEED = 20_260_312
_LEAST = 4


def sketch(found: frozenset[int]) -> NDArray[np.uint64]:
    """The least value of each of the hash functions over a set of features: shape (96,), 64 bits."""
    import numpy as np

    factors, shifts = _functions()
    values = np.fromiter(found, dtype=np.uint64, count=len(found))
    hashed = values[:, None] * factors[None, :] + shifts[None, :]
    # The low bits of a product are poorly mixed: the high ones decide.
    least: NDArray[np.uint64] = np.min(hashed ^ (hashed >> np.uint64(29)), axis=0)
    return least


def _functions() -> tuple[NDArray[np.uint64], NDArray[np.uint64]]:
    import numpy as np

    if not _made:
        rng = np.random.default_rng(_SEED)
        odd = rng.integers(0, 2**63, _HASHES, dtype=np.uint64) * np.uint64(2) + np.uint64(1)
        _made.extend((odd, rng.integers(0, 2**63, _HASHES, dtype=np.uint64)))
    return _made[0], _made[1]


_made: list[NDArray[np.uint64]] = []


def _bands(found: frozenset[int]) -> list[int]:
    """One key for each band of a sketch."""
    import numpy as np

    rows = sketch(found).reshape(-1, _ROWS)
    numbers = np.arange(len(rows)).astype(np.uint64)
    keys: list[int] = np.bitwise_xor(rows[:, 0] * np.uint64(0x9E3779B97F4A7C15), rows[:, 1] + numbers).tolist()
    return keys


class Likeness:
    """An index of known documents by what they hold. Keys are the caller's: one for each document, with one content or more."""

    def __init__(self) -> None:
        self._keys: dict[str, None] = {}
        self._by_sum: dict[str, list[str]] = defaultdict(list)
        self._by_mark: dict[tuple[str, str], set[str]] = defaultdict(set)
        self._waiting: list[tuple[str, Content]] = []
        self._buckets: dict[int, list[str]] = {}

    def __len__(self) -> int:
        return len(self._keys)

    def add(self, key: str, content: Content) -> None:
        """Take in a version of a document."""
        self._keys[key] = None
        if content.sha256 is not None:
            self._by_sum[content.sha256].append(key)
        for mark in content.glance.identity:
            self._by_mark[mark].add(key)
        if content.tokens:
            self._waiting.append((key, content))

    def carriers(self, mark: tuple[str, str]) -> int:
        """How many of the known documents carry an id."""
        return len(self._by_mark.get(mark, ()))

    def near(self, content: Content, limit: int = _FEW) -> list[str]:
        """The documents worth comparing with a copy, the likeliest first: all, if there are few."""
        if len(self._keys) <= limit:
            return list(self._keys)
        found: Counter[str] = Counter()
        for key in self._by_sum.get(content.sha256 or "", ()):
            found[key] += 1_000
        for mark in content.glance.identity:
            carriers = self._by_mark.get(mark, ())
            if len(carriers) <= _CROWD:
                for key in carriers:
                    found[key] += 4
        mine = features(content)
        if len(mine) >= _LEAST:
            self._sketch_waiting()
            for band in _bands(mine):
                keys = self._buckets.get(band, ())
                if len(keys) <= _CROWD:
                    for key in keys:
                        found[key] += 1
        return [key for key, _ in found.most_common(limit)]

    def _sketch_waiting(self) -> None:
        for key, content in self._waiting:
            mine = features(content)
            if len(mine) < _LEAST:
                continue
            for band in _bands(mine):
                keys = self._buckets.setdefault(band, [])
                if len(keys) <= _CROWD and key not in keys[-1:]:
                    keys.append(key)
        self._waiting.clear()
