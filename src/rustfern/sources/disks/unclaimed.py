"""What no living file of a disk claims: free clusters, the ends of last clusters, what lies outside of volumes."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from rustfern.core.errors import SourceError
from rustfern.sources.disks.disk import FileSystem, Volume
from rustfern.sources.disks.interface import HOLE, Extent
from rustfern.sources.disks.open_disk import BROKEN, OpenDisk

SECTOR = 512
_MAX_ENDS = 500_000
"""Living files whose last clusters are looked at behind their ends."""


class Unclaimed(msgspec.Struct, frozen=True):
    """Stretches of a disk in order, (offset, length) in bytes, none of which touches another; `left_out` names the volumes that are only searched
    if asked for, with why; `volumes` tells the volume at a place: (start, end, name, bytes of a cluster, where the first begins).
    """

    stretches: tuple[Extent, ...]
    left_out: tuple[tuple[str, str], ...] = ()
    volumes: tuple[tuple[int, int, str, int, int], ...] = ()

    def total(self) -> int:
        """Bytes in all."""
        return sum(length for _, length in self.stretches)

    def within(self, start: int, size: int) -> int:
        """Bytes of them between two places."""
        return sum(max(min(at + length, start + size) - max(at, start), 0) for at, length in self.stretches)

    def volume_at(self, offset: int) -> tuple[str, int, int]:
        """(name, bytes of a cluster, where the first cluster begins) of the volume at a place; no name outside of all, 0 bytes where nothing tells."""
        for start, end, name, cluster, first in self.volumes:
            if start <= offset < end:
                return name, cluster, first
        return "", 0, 0


def unclaimed(held: OpenDisk, only: str, *, everything: bool) -> Unclaimed:
    """What is to be searched byte by byte of a disk, or of its volume `only`; with `everything` also volumes that are encrypted or of a kind
    that is not read. Raises `SourceError`.
    """
    disk = held.disk
    found: list[Extent] = []
    left_out: list[tuple[str, str]] = []
    volumes: list[tuple[int, int, str, int, int]] = []
    covered: list[Extent] = []
    for volume in disk.volumes.values():
        system = disk.system(volume.name)
        whole = volume.window.locate(0, volume.size)
        covered += whole
        cluster, first = 0, volume.offset
        if system is not None:
            cluster, first = system.cluster, volume.window.locate(system.clusters_at, 1)[0][0]
        volumes += [(at, at + length, volume.name, cluster, first) for at, length in whole]
        if only and volume.name != only:
            continue
        if system is not None:
            for at, length in (*_free(held, volume, system), *_ends(volume, system)):
                found += volume.window.locate(at, length)
        elif volume.status == "damaged" or volume.known is None or everything:
            if volume.known is None or volume.known.type != "lvm":
                found += whole
        elif volume.known.type != "lvm":
            left_out.append((volume.name, volume.message or "its kind is not read"))
    if not only:
        found += _outside(covered, disk.bytes.size)
    return Unclaimed(tuple(_joined(found)), tuple(left_out), tuple(volumes))


def _free(held: OpenDisk, volume: Volume, system: FileSystem) -> Iterator[Extent]:
    """The clusters that nothing has, and what is left behind the last one."""
    used = held.used(volume, system)
    for first, count in used.free_runs():
        yield system.clusters_at + first * system.cluster, count * system.cluster
    behind = system.clusters_at + used.count * system.cluster
    if volume.size - behind > 0:
        yield behind, volume.size - behind


def _ends(volume: Volume, system: FileSystem) -> Iterator[Extent]:
    """The sectors of last clusters that lie behind the ends of living files."""
    tree = system.tree
    if system.cluster <= SECTOR:
        return
    for node in range(2, min(len(tree), _MAX_ENDS)):
        if tree.is_deleted(node) or tree.is_folder(node):
            continue
        try:
            stored = system.stored(int(tree.keys[node]))
        except (*BROKEN, SourceError):
            continue
        if not stored.extents or stored.data is not None:
            continue
        at, length = stored.extents[-1]
        used = stored.size - sum(size for _, size in stored.extents[:-1])
        if at == HOLE or not 0 < used <= length:
            continue
        end = at + -(-used // SECTOR) * SECTOR
        last = at + -(-used // system.cluster) * system.cluster
        if end < last <= volume.size:
            yield end, last - end


def _outside(covered: list[Extent], size: int) -> Iterator[Extent]:
    """What lies between volumes, without the first sectors that tables have."""
    at = SECTOR
    for start, length in sorted(covered):
        if start - at >= SECTOR:
            yield at, start - at
        at = max(at, start + length)
    if size - at >= SECTOR:
        yield at, size - at


def _joined(found: list[Extent]) -> Iterator[Extent]:
    """In order, joined where they touch or overlap, from whole sectors on."""
    begin = end = -1
    for start, length in sorted(found):
        if start > end:
            if end > begin:
                yield begin, end - begin
            begin = start
        end = max(end, start + length)
    if end > begin:
        yield begin, end - begin
