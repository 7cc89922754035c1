"""Space that nothing is known to have: what is found is taken out of it, and what goes on behind a gap goes on in it."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence

from rustfern.sources.disks.interface import DiskBytes, Extent, FileStream


class Free:
    """Stretches of a disk in order, in bytes."""

    def __init__(self, stretches: Iterable[Extent]) -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        for start, length in stretches:
            self._starts.append(start)
            self._ends.append(start + length)

    def copy(self) -> Free:
        """The same, to take things out of for a trial."""
        other = Free(())
        other._starts, other._ends = self._starts.copy(), self._ends.copy()
        return other

    def holds(self, offset: int) -> bool:
        """Whether a byte is free."""
        number = bisect_right(self._starts, offset) - 1
        return number >= 0 and offset < self._ends[number]

    def is_taken(self, start: int, length: int) -> bool:
        """Whether none of some bytes is free."""
        number = bisect_right(self._ends, start)
        return number >= len(self._starts) or self._starts[number] >= start + length

    def end_from(self, offset: int) -> int:
        """Where the stretch ends that a free byte lies in."""
        return self._ends[bisect_right(self._starts, offset) - 1]

    def take(self, extents: Iterable[Extent]) -> None:
        """Take places out."""
        for start, length in extents:
            end = start + length
            first = bisect_right(self._ends, start)
            last = bisect_left(self._starts, end)
            if first >= last:
                continue
            starts, ends = [], []
            if self._starts[first] < start:
                starts.append(self._starts[first])
                ends.append(start)
            if self._ends[last - 1] > end:
                starts.append(end)
                ends.append(self._ends[last - 1])
            self._starts[first:last] = starts
            self._ends[first:last] = ends

    def give(self, extents: Iterable[Extent]) -> None:
        """Put places back that were taken out."""
        for start, length in extents:
            end = start + length
            first = bisect_left(self._ends, start)
            last = bisect_right(self._starts, end)
            if first < last:
                start, end = min(start, self._starts[first]), max(end, self._ends[last - 1])
            self._starts[first:last] = [start]
            self._ends[first:last] = [end]

    def onward(self, offset: int, most: int) -> Iterator[Extent]:
        """Free places from one on, `most` bytes in all."""
        number = max(bisect_right(self._starts, offset) - 1, 0)
        while most > 0 and number < len(self._starts):
            start = max(self._starts[number], offset)
            length = min(self._ends[number] - start, most)
            if length > 0:
                yield start, length
                most -= length
            number += 1

    def backward(self, offset: int, most: int) -> Iterator[Extent]:
        """Free places before one, the nearest first, `most` bytes in all."""
        number = bisect_left(self._starts, offset) - 1
        while most > 0 and number >= 0:
            end = min(self._ends[number], offset)
            length = min(end - self._starts[number], most)
            if length > 0:
                yield end - length, length
                most -= length
            number -= 1

    def total(self) -> int:
        """Bytes in all."""
        return sum(self._ends) - sum(self._starts)


class Onward(FileStream):
    """The bytes that follow a place in free space, as far as anything asks for them."""

    def __init__(self, disk: DiskBytes, free: Free, offset: int, most: int) -> None:
        super().__init__(0)
        self._disk, self._coming = disk, free.onward(offset, most)
        self._places: list[Extent] = []
        self._starts: list[int] = []
        self._known = 0
        self._size = most
        self.far = offset
        """Nothing behind this place of the disk was asked for; -1 where all that is free was."""

    def _reach(self, at: int) -> bool:
        """Learn where the bytes lie up to a place of the stream; False where free space ends before."""
        while self._known <= at:
            following = next(self._coming, None)
            if following is None:
                self._size, self.far = self._known, -1
                return False
            self._places.append(following)
            self._starts.append(self._known)
            self._known += following[1]
        return True

    def size(self, least: int) -> int:
        """How many bytes there are, `least` of which need to be known for certain."""
        self._reach(least)
        return self._size

    def read_here(self, length: int) -> bytes:
        """As `FileStream.read_here`."""
        at = self._at
        if length <= 0 or not self._reach(at):
            return b""
        number = bisect_right(self._starts, at) - 1
        offset, size = self._places[number]
        inner = at - self._starts[number]
        length = min(length, size - inner)
        self._came_to(offset + inner + length)
        return self._disk.read_at(offset + inner, length)

    def _came_to(self, place: int) -> None:
        if self.far >= 0:
            self.far = max(self.far, place)

    def extents(self, size: int) -> list[Extent]:
        """Where the first `size` bytes lie, joined where they touch."""
        self._reach(size - 1)
        found = cut(self._places, size)
        self._came_to(max((sum(each) for each in found), default=0))
        return found


def cut(places: Sequence[Extent], size: int) -> list[Extent]:
    """The first `size` bytes of some places, joined where they touch."""
    found: list[Extent] = []
    for offset, length in places:
        length = min(length, size)
        if length <= 0:
            break
        if found and sum(found[-1]) == offset:
            found[-1] = found[-1][0], found[-1][1] + length
        else:
            found.append((offset, length))
        size -= length
    return found
