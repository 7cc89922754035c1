"""The saved documents of a search, to be found by their size or by the time when they were written."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

from rustfern.core.paths import inside

SavedRow = tuple[str, int, datetime | None]
"""Path, size in bytes, and when it was written."""


class SavedDocuments:
    """Documents in an order of sizes and in one of times, so that what is like a copy is found without looking at all of them."""

    def __init__(self, rows: Sequence[SavedRow]) -> None:
        self.rows = rows
        self._sizes: dict[int, list[str]] = {}
        for path, size, _ in rows:
            self._sizes.setdefault(size, []).append(path)
        self._timed = sorted((when, path, size) for path, size, when in rows if when is not None)
        self._times = [when for when, _, _ in self._timed]

    def __len__(self) -> int:
        return len(self.rows)

    def of_size(self, size: int) -> Sequence[str]:
        """Those of exactly this size."""
        return self._sizes.get(size, ())

    def about(self, when: datetime, within: timedelta, but_size: int, most: int, base: str) -> list[str]:
        """At most so many inside `base` that were written about a time, the nearest first; none of one size."""
        found: list[tuple[timedelta, str]] = []
        for apart, path, size in self._outwards(when):
            if apart > within or (len(found) >= most and apart > found[-1][0]):
                break
            if size != but_size and inside(path, base):
                found.append((apart, path))
        return [path for _, path in sorted(found)[:most]]

    def _outwards(self, when: datetime) -> Iterator[tuple[timedelta, str, int]]:
        """All that have a time, by how far it is from another."""
        high = bisect_left(self._times, when)
        low = high - 1
        while low >= 0 or high < len(self._timed):
            before = when - self._times[low] if low >= 0 else timedelta.max
            behind = self._times[high] - when if high < len(self._timed) else timedelta.max
            if before <= behind:
                yield before, *self._timed[low][1:]
                low -= 1
            else:
                yield behind, *self._timed[high][1:]
                high += 1
