"""Which deleted files say that they lie where: two can claim the same clusters, and only the later one can be right."""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.interface import HOLE, Extent

if TYPE_CHECKING:
    from rustfern.sources.disks.disk import FileSystem

_MAX_FILES = 1_000_000


class Other(msgspec.Struct, frozen=True):
    """Another deleted file that claims `bytes` of the same places, and whether it was written later."""

    name: str
    bytes: int
    later: bool


class Claims:
    """The places of all deleted files of a volume, sorted."""

    def __init__(self, system: FileSystem) -> None:
        tree = system.tree
        self._names = tree.names
        starts: list[int] = []
        ends: list[int] = []
        nodes: list[int] = []
        self._written: dict[int, int] = {}
        self._first: dict[int, tuple[int, int]] = {}
        self._guessed: set[int] = set()
        cluster = system.cluster
        for node in tree.deleted_nodes().tolist()[:_MAX_FILES]:
            if tree.is_folder(node):
                continue
            try:
                stored = system.stored(int(tree.keys[node]))
            except (Malformed, SourceError, struct.error, IndexError, ValueError):
                continue
            if not stored.extents:
                continue
            self._written[node] = max(stored.modified or 0, stored.created or 0, stored.changed or 0)
            if stored.guessed:
                self._guessed.add(node)
            left = stored.size
            for at, length in stored.extents:
                length = min(length, -(-left // cluster) * cluster)
                left -= length
                if at != HOLE and length > 0:
                    starts.append(at)
                    ends.append(at + length)
                    nodes.append(node)
                    self._first.setdefault(node, (at, stored.size))
        order = np.argsort(np.array(starts, np.int64), kind="stable")
        self._starts = np.array(starts, np.int64)[order]
        self._ends = np.array(ends, np.int64)[order]
        self._nodes = np.array(nodes, np.int64)[order]
        self._longest = int((self._ends - self._starts).max()) if len(starts) else 0

    def others(self, node: int, places: list[Extent], settle: Callable[[int], Sequence[Extent]]) -> list[Other]:
        """The other deleted files that claim a part of these places; one that begins there with the same size is the same file. `settle`
        says where one lies of which only the beginning is recorded.
        """
        if node not in self._written:
            return []
        found: dict[int, int] = {}
        for at, length in places:
            first = int(np.searchsorted(self._starts, at - self._longest, "left"))
            last = int(np.searchsorted(self._starts, at + length, "left"))
            for n in (np.flatnonzero(self._ends[first:last] > at) + first).tolist():
                other = int(self._nodes[n])
                if other != node and self._first[other] != self._first.get(node):
                    found[other] = found.get(other, 0) + _shared(
                        (at, length), (int(self._starts[n]), int(self._ends[n]))
                    )
        for other in self._guessed.intersection(found):
            settled = settle(other)
            found[other] = sum(_shared(mine, (at, at + size)) for mine in places for at, size in settled if at != HOLE)
        mine = self._written[node]
        return sorted(
            (Other(self._names[other], count, self._written[other] > mine) for other, count in found.items() if count),
            key=lambda each: (not each.later, -each.bytes),
        )


def _shared(mine: Extent, theirs: tuple[int, int]) -> int:
    """How many bytes of (offset, length) lie between (start, end)."""
    return max(min(mine[0] + mine[1], theirs[1]) - max(mine[0], theirs[0]), 0)
