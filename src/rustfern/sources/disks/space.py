"""Which parts of a volume living files have, as the file system's own map says."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

_STEP = 1 << 20
"""Bytes of a map that are looked at together: eight times as many clusters."""


class ClusterMap:
    """A bit for each of `count` clusters, the lowest first: set where a living file, or the file system itself, has it."""

    def __init__(self, bits: NDArray[np.uint8], count: int) -> None:
        self._bits = bits
        self.count = min(count, 8 * len(bits))

    @classmethod
    def of(cls, used: NDArray[np.bool_]) -> ClusterMap:
        """A map from a truth value for each cluster."""
        return cls(np.packbits(used, bitorder="little"), len(used))

    @classmethod
    def blank(cls, count: int) -> ClusterMap:
        """A map in which nothing is in use."""
        return cls(np.zeros(-(-count // 8), np.uint8), count)

    def used(self, first: int, count: int) -> NDArray[np.bool_]:
        """For each of some clusters, whether it is in use; ones outside of the map are."""
        inner, last = max(first, 0), min(first + count, self.count)
        found = np.ones(max(count, 0), bool)
        if inner < last:
            bits = np.unpackbits(self._bits[inner // 8 : -(-last // 8)], bitorder="little")
            found[inner - first : last - first] = bits[inner % 8 : inner % 8 + last - inner]
        return found

    def is_used(self, cluster: int) -> bool:
        """Whether a cluster is in use; one outside of the map is."""
        return not 0 <= cluster < self.count or bool(self._bits[cluster // 8] >> cluster % 8 & 1)

    def free_runs(self) -> Iterator[tuple[int, int]]:
        """(first, count) of clusters that are free, in order; long runs come in pieces."""
        for at in range(0, self.count, 8 * _STEP):
            free = ~self.used(at, min(8 * _STEP, self.count - at))
            edges = np.flatnonzero(np.diff(np.concatenate(([False], free, [False]))))
            yield from zip((edges[::2] + at).tolist(), (edges[1::2] - edges[::2]).tolist(), strict=True)

    def with_runs(self, runs: Iterable[tuple[int, int]]) -> ClusterMap:
        """A map in which these runs are in use too."""
        used = self.used(0, self.count)
        for first, count in runs:
            used[max(first, 0) : max(first + count, 0)] = True
        return ClusterMap.of(used)

    def free(self) -> int:
        """How many clusters are free."""
        return sum(count for _, count in self.free_runs())

    def some_free(self, first: int, count: int) -> list[tuple[int, int]]:
        """Runs of free clusters from `first` on, `count` in all, or as many as there are."""
        runs: list[tuple[int, int]] = []
        at = first
        while count > 0 and at < self.count:
            step = min(max(4 * count, 4096), self.count - at)
            free = ~self.used(at, step)
            edges = np.flatnonzero(np.diff(np.concatenate(([False], free, [False]))))
            for start, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
                taken = min(end - start, count)
                if runs and sum(runs[-1]) == at + start:
                    runs[-1] = runs[-1][0], runs[-1][1] + taken
                elif taken:
                    runs.append((at + start, taken))
                count -= taken
            at += step
        return runs
