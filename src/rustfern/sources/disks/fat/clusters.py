"""What FAT and exFAT share: clusters, chains of them, and where a deleted file may lie whose chain was cleared.

Sources: FAT32 File System Specification 1.03, section 4; exFAT File System Specification, section 4.1.
"""

from __future__ import annotations

import io
from abc import abstractmethod
from array import array
from collections.abc import Iterator
from functools import cached_property
from typing import BinaryIO, cast

import numpy as np
from numpy.typing import NDArray

from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.sources.disks.fat.lost import FIRST
from rustfern.sources.disks.interface import DiskBytes, Extent, ExtentStream, PlainFiles, Stored
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import Tree

Runs = list[tuple[int, int]]
"""Clusters: (first, count)."""
_STEP = 1 << 16
_MAX_LAID_AROUND = 20_000
"""Files up to which one in pieces is sought around all other deleted ones too."""


class Clusters(PlainFiles):
    """The clusters of a volume and the entries that name them. `firsts` and `sizes` are those of all entries, by their keys; `data` is where in
    the volume the first cluster begins, `last` the number behind the last one.
    """

    case_matters = False
    cluster: int
    tree: Tree

    def __init__(self, volume: DiskBytes) -> None:
        self._volume = volume
        self._table: NDArray[np.uint32] = np.zeros(FIRST, np.uint32)
        self._map = ClusterMap.blank(0)
        self._firsts, self._sizes = array("q"), array("q")
        self.clusters_at = self._last = 0

    @abstractmethod
    def _is_deleted(self, key: int) -> bool: ...

    @cached_property
    def _nodes(self) -> NDArray[np.int64]:
        """For each key, its node in the finished tree; folders that were found by a scan have no key."""
        found = np.full(len(self._firsts), -1, np.int64)
        held = np.flatnonzero(self.tree.keys >= 0)
        found[self.tree.keys[held]] = held
        return found

    def _node_of(self, key: int) -> int:
        return int(self._nodes[key])

    def _chain(self, first: int, most: int) -> Runs:
        """A chain, at most `most` clusters of it; what is broken, or goes round, ends it."""
        runs: Runs = []
        at, left = first, min(most, self._last)
        while FIRST <= at < self._last and left > 0:
            stop = min(at + min(left, _STEP), self._last)
            follow = self._table[at:stop]
            steps = np.flatnonzero(follow != np.arange(at + 1, stop + 1, dtype=np.uint32))
            count = int(steps[0]) + 1 if len(steps) else len(follow)
            if runs and sum(runs[-1]) == at:
                runs[-1] = runs[-1][0], runs[-1][1] + count
            else:
                runs.append((at, count))
            left -= count
            at = int(self._table[at + count - 1])
        return runs

    @cached_property
    def _followed(self) -> NDArray[np.bool_]:
        """For each cluster, whether another one leads to it."""
        found = np.zeros(len(self._table), bool)
        found[self._table[(self._table >= FIRST) & (self._table < len(found))]] = True
        return found

    def _is_inside_a_chain(self, first: int) -> bool:
        """Whether a cluster is in the middle of another file."""
        return first < len(self._followed) and bool(self._followed[first])

    def _in_bytes(self, runs: Runs) -> tuple[Extent, ...]:
        return tuple((self.clusters_at + (first - FIRST) * self.cluster, count * self.cluster) for first, count in runs)

    def _bytes(self, runs: Runs) -> bytes:
        return b"".join(self._volume.read_at(*extent) for extent in self._in_bytes(runs))

    def _straight(self, first: int, needed: int) -> Runs:
        """Clusters in one piece."""
        return [(first, min(needed, self._last - first))] if FIRST <= first < self._last else []

    def _around(self, start: int, needed: int) -> list[Runs]:
        """Clusters from `start` on that no living file has, and those of them that no deleted file has either that lies in one piece."""
        used = [self._map]
        if len(self._firsts) <= _MAX_LAID_AROUND:
            # Other documents stayed, as a rule; what has another name may have come and gone before.
            for named, whole in ((False, True), (True, True), (True, False)):
                used.append(self._map.with_runs(self._of_others(start, named=named, whole=whole)))
        return [[(first + FIRST, count) for first, count in each.some_free(start - FIRST, needed)] for each in used]

    def _of_others(self, start: int, *, named: bool, whole: bool) -> Iterator[tuple[int, int]]:
        """Runs of deleted files and folders, but the one at `start`, as if each lay in one piece: only documents (`named`), only where nothing
        that lives is among them (`whole`).
        """
        for key, (first, size) in enumerate(zip(self._firsts, self._sizes, strict=True)):
            count = max(-(-size // self.cluster), 1)
            if first in (0, start) or not self._is_deleted(key):
                continue
            if whole and self._map.used(first - FIRST, count).any():
                continue
            if not (named and size and format_of_extension(extension_of(self.tree.names[self._node_of(key)])) is None):
                yield first - FIRST, count

    def _hide_former_names(self) -> None:
        """Take out deleted names of something living: what begins at the same place and is as long was renamed or moved, and is not gone."""
        tree, firsts, sizes = self.tree, self._firsts, self._sizes
        nodes = [(node, key) for node in range(2, len(tree)) if (key := tree.key_of(node)) >= 0 and firsts[key]]
        living = {(firsts[key], sizes[key]) for node, key in nodes if not tree.is_deleted(node)}
        for node, key in nodes:
            if tree.is_deleted(node) and (firsts[key], sizes[key]) in living:
                tree.hide(node)

    def open(self, key: int, way: Stored | None = None) -> BinaryIO:
        """The bytes of a file, laid as said. Raises `Malformed`."""
        stored = way or self.stored(key)
        raw = ExtentStream(self._volume, stored.extents or (), stored.size, stored.valid)
        return cast(BinaryIO, io.BufferedReader(raw, 1 << 16))

    def used(self) -> ClusterMap:
        """Which clusters living files have."""
        return self._map
