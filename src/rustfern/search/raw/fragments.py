"""Documents in pieces: where one cannot be followed, its format says what it needs next; what fits is sought in free space, nearest first, and is
taken only where a sum, a code or a chain proves it.

Pieces begin where clusters do. Each guess at where the next piece lies is a shift: how far a byte of the document lies from where it would lie in one
piece.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from itertools import pairwise

import numpy as np
from msgspec.structs import replace

from rustfern.core.errors import SourceError
from rustfern.core.model import State
from rustfern.formats.extents.proof import proves
from rustfern.formats.extents.registry import measurer
from rustfern.formats.paged_bytes import Paged
from rustfern.search.raw import joins
from rustfern.search.raw.examine import BROKEN, Begun, Looker, stream_of
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free, cut
from rustfern.sources.disks.interface import DiskBytes, Extent

REACH = 16 << 20
"""How far from the first piece the next one is sought, in bytes of free space on either side."""
_SECONDS, _MAX_PIECES, _LONGEST = 6.0, 24, 256 << 20


_UNSURE_CUTS = frozenset({"compound.measure", "pictures.tiff"})
"""Families whose check may find nothing wrong with another cut."""
_UNSURE = "it lies in pieces, and nothing shows where exactly the first one ends"


class Near:
    """The free space around a place, held in memory: behind it first."""

    def __init__(self, disk: DiskBytes, free: Free, offset: int) -> None:
        self.parts: list[tuple[int, bytes]] = []
        for start, length in (*free.onward(offset, REACH), *free.backward(offset, REACH)):
            try:
                self.parts.append((start, disk.read_at(start, length)))
            except SourceError:
                continue

    def at(self, offset: int, length: int) -> bytes:
        """Bytes at a place of the disk, as many as lie in one stretch; nothing where it is not free."""
        for start, data in self.parts:
            if start <= offset < start + len(data):
                return data[offset - start : offset - start + length]
        return b""

    def found(self, what: bytes) -> Iterator[int]:
        """Where some bytes stand."""
        for start, data in self.parts:
            at = data.find(what)
            while at >= 0:
                yield start + at
                at = data.find(what, at + 1)

    def clusters(self, cluster: int, first: int, place: int = 0) -> Iterator[tuple[int, int, bytes]]:
        """(place on the disk, place in its stretch, the stretch) of what lies `place` bytes behind the beginnings of clusters."""
        for start, data in self.parts:
            for at in range((first + place - start) % cluster, len(data), cluster):
                yield start + at, at, data


class Trial:
    """One document that is put together: what is known of it, and what tries share."""

    def __init__(self, looker: Looker, free: Free, begun: Begun, grain: tuple[int, int]) -> None:
        self.looker, self.free, self.begun = looker, free, begun
        self.cluster, self.first = grain
        self.start = begun.offset
        self.until = time.monotonic() + _SECONDS
        own = cut(list(free.onward(begun.offset, _LONGEST)), _LONGEST)
        self.run = own[0][1] if own else 0
        self.near = Near(looker.disk, free, begun.offset)

    @property
    def is_over(self) -> bool:
        """Whether it has taken long enough."""
        return time.monotonic() > self.until

    def own(self, at: int, length: int) -> bytes:
        """Bytes of the document as they would lie in one piece."""
        return self.near.at(self.start + at, length) if at >= 0 else b""

    def shifted(self, at: int, length: int, shift: int) -> bytes:
        """Bytes of the document as they lie with a shift."""
        return self.near.at(self.start + at + shift, length) if at >= 0 else b""

    def boundaries(self, low: int, high: int) -> list[int]:
        """Places of the document between two at which a cluster ends, the last first."""
        rest = (self.start - self.first) % self.cluster
        begin = -(-(max(low, 1) + rest) // self.cluster) * self.cluster - rest
        return list(range(begin, high + 1, self.cluster))[::-1]

    def fits(self, shift: int) -> bool:
        """Whether a shift can be: whole clusters, and not none."""
        return shift != 0 and shift % self.cluster == 0

    def shifts(self, at: int, stands: Callable[[bytes], bool], length: int = 128) -> Iterator[int]:
        """The shifts with which what must stand at a place of the document stands there, told by its first `length` bytes."""
        for place, inner, data in self.near.clusters(self.cluster, self.start % self.cluster, at % self.cluster):
            shift = place - self.start - at
            if self.fits(shift) and stands(data[inner : inner + length]):
                yield shift
            if self.is_over:
                return

    def find(self, pieces: list[Extent], size: int) -> RawFind | None:
        """The document in these pieces, if its structure, its check and what binds its pieces bear it out."""
        if any(not self.free.holds(at) or self.free.end_from(at) < at + length for at, length in pieces):
            return None
        data = Paged(stream_of(self.looker.disk, pieces, size), size)
        reach = measurer(self.begun.beginning.measure)(data)
        if reach is None or not reach.is_complete or reach.end > size:
            return None
        pieces = cut(pieces, reach.end)
        content, first = self.looker.read(pieces, reach.end, self.begun.beginning.name)
        if content.state is not State.INTACT:
            return None
        missing = ""
        if not proves(self.begun.beginning.measure, data, [length for _, length in pieces]):
            missing = f"it lies in {len(pieces)} pieces, and nothing in its format shows that they belong together"
            content = replace(content, state=State.DAMAGED, reason=missing)
        return RawFind(self.start, tuple(pieces), self.begun.beginning.name, content, missing, first=first)

    def pieces(self, cuts: list[tuple[int, int]], size: int) -> list[Extent]:
        """Extents of a document of `size` bytes: `cuts` are (place of the document, the shift from there on), in order."""
        out: list[Extent] = []
        edges = [(0, 0), *cuts, (size, 0)]
        for (at, shift), (end, _) in pairwise(edges):
            if end > at:
                out.append((self.start + at + shift, end - at))
        return cut(out, size)


def varied(data: bytes) -> bool:
    """Whether bytes look packed or coded: hardly any value is missing, none stands out."""
    counts = np.bincount(np.frombuffer(data, np.uint8), minlength=256)
    return bool((counts > 0).sum() > min(len(data) // 8, 200) and counts.max() < len(data) // 8)


Joining = Callable[[Trial], Iterator[tuple[list[tuple[int, int]], int]]]
"""Gives (cuts, size) of ways in which a document may lie, the likeliest first."""


class Joiner:
    """Puts documents in pieces together."""

    def __init__(self, looker: Looker, free: Free, grain: Callable[[int], tuple[int, int]]) -> None:
        self.looker, self.free, self.grain = looker, free, grain

    def join(self, offset: int, head: bytes, *, is_text: bool) -> RawFind | None:
        """The document that begins at a place, whole; None if no way proves itself in the time that each may take."""
        begun = self.looker.look(self.free, offset, head, is_text=is_text)
        if isinstance(begun, RawFind):
            return begun
        if begun is None or (ways := joins.WAYS.get(begun.beginning.measure)) is None:
            return None
        try:
            return self._first_that_fits(Trial(self.looker, self.free, begun, self.grain(offset)), ways)
        except BROKEN:
            return None  # of a hostile file

    @staticmethod
    def _first_that_fits(trial: Trial, ways: Joining) -> RawFind | None:
        tried: set[tuple[tuple[int, int], ...]] = set()
        first: RawFind | None = None
        for cuts, size in ways(trial):
            key = tuple(cuts)
            if key not in tried and len(cuts) <= _MAX_PIECES and 0 < size <= _LONGEST:
                tried.add(key)
                found = trial.find(trial.pieces(cuts, size), size)
                if found is not None and first is None and trial.begun.beginning.measure in _UNSURE_CUTS:
                    first = found
                    continue
                if found is not None and first is not None:
                    # It reads as well with another cut.
                    content = replace(first.content, state=State.DAMAGED, reason=_UNSURE)
                    return replace(first, content=content, missing=_UNSURE)
                if found is not None:
                    return found
            if trial.is_over:
                break
        return first
