"""What of a disk could not be read when its image was made: the list beside the image."""

from __future__ import annotations

import json
from bisect import bisect_right
from collections.abc import Iterable, Iterator

from rustfern.sources.disks.interface import Extent

SCHEMA = "rustfern/image-1"
LIST_ENDING = ".unread.json"
_MAX_BYTES = 256 << 20


class Ranges:
    """Stretches of a disk in order, (offset, length) in bytes; `size` and `source` are those of the disk that they are of."""

    def __init__(self, ranges: Iterable[Extent], size: int = 0, source: str = "") -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        self.size, self.source = size, source
        for start, length in sorted(ranges):
            if length > 0:
                self._starts.append(start)
                self._ends.append(start + length)

    @classmethod
    def read(cls, path: str) -> Ranges | None:
        """The list in a file; None if there is none, or it is none."""
        try:
            with open(path, "rb") as stream:  # noqa: PTH123
                told = json.loads(stream.read(_MAX_BYTES))
            if told["schema"] != SCHEMA:
                return None
            return cls([(int(at), int(count)) for at, count in told["unread"]], int(told["size"]), str(told["source"]))
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def __iter__(self) -> Iterator[Extent]:
        return ((start, end - start) for start, end in zip(self._starts, self._ends, strict=True))

    def total(self) -> int:
        """Bytes in all."""
        return sum(self._ends) - sum(self._starts)

    def take(self, at: int, count: int) -> None:
        """Take a stretch out that lies in one of them."""
        number = bisect_right(self._starts, at) - 1
        if number < 0 or self._ends[number] < at + count:
            return
        start, end = self._starts[number], self._ends[number]
        if at == start:
            if at + count == end:
                del self._starts[number], self._ends[number]
            else:
                self._starts[number] = at + count
        elif at + count == end:
            self._ends[number] = at
        else:
            self._ends[number] = at
            self._starts.insert(number + 1, at + count)
            self._ends.insert(number + 1, end)

    def within(self, extents: Iterable[Extent]) -> int:
        """How many bytes of these places are among them."""
        found = 0
        for at, length in extents:
            number = max(bisect_right(self._starts, at) - 1, 0)
            while number < len(self._starts) and self._starts[number] < at + length:
                found += max(min(self._ends[number], at + length) - max(self._starts[number], at), 0)
                number += 1
        return found
