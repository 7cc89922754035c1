"""Folders of a FAT volume that nothing leads to: found by their own first entries, also where the volume was formatted again.

Source: FAT32 File System Specification 1.03: the first two entries of each folder but the root are `.` and `..`, with their first clusters.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import msgspec
import numpy as np

from rustfern.core.errors import SourceError
from rustfern.sources.disks.fat.directory import SIZE, dot_entries, is_plausible
from rustfern.sources.disks.interface import DiskBytes, windows
from rustfern.sources.disks.space import ClusterMap

_DOTS = b".       "
_DOT = np.frombuffer(b".       ", "<u8")[0]
_WINDOW = 4 << 20
_READ_WHOLE, _PAGE = 32 << 10, 4 << 10
"""Clusters up to this size are read together; of larger ones a page each."""
FIRST = 2
"""The number of the first cluster."""
_MAX_OLD_CLUSTERS = 1_024
_MAX_SOUGHT = 4 << 30
"""Bytes of free space that are looked through for folders, at most."""
_SECTOR = 512


class OldFolders(msgspec.Struct, frozen=True):
    """Folders of an earlier format: where its clusters began, their size, and (first cluster, that of the folder above) of each."""

    data: int
    cluster: int
    folders: tuple[tuple[int, int], ...]


def heads(volume: DiskBytes, at: int, cluster: int, used: ClusterMap) -> Iterator[tuple[int, bytes]]:
    """(number, first 64 bytes) of the clusters that no file has, as far as they are looked at; the first cluster lies at `at`."""
    sought = 0
    for first, count in used.free_runs():
        step = max(_WINDOW // cluster, 1) if cluster <= _READ_WHOLE else 1
        for start in range(first, first + count, step):
            length = min(step, first + count - start)
            if volume.is_hole(at + start * cluster, length * cluster):
                continue
            sought += length * min(cluster, _PAGE)
            if sought > _MAX_SOUGHT:
                return
            raw = _read(volume, at + start * cluster, (length - 1) * cluster + 64)
            yield from ((FIRST + start + n, raw[n * cluster : n * cluster + 64]) for n in range(length))


def find(volume: DiskBytes, at: int, cluster: int, used: ClusterMap, known: dict[int, int]) -> list[tuple[int, int]]:
    """(first cluster, that of the folder above) of folders in clusters that no file has and nothing leads to."""
    found: list[tuple[int, int]] = []
    for number, head in heads(volume, at, cluster, used):
        told = dot_entries(head) if head.startswith(_DOTS) else None
        if told is not None and told[0] in (number, number & 0xFFFF) and number not in known:
            found.append((number, told[1]))
    return found


def find_old(volume: DiskBytes, data: int, cluster: int) -> OldFolders | None:
    """Folders of an earlier format of the volume, by what their own entries say of where they lie."""
    seen: list[tuple[int, int, int]] = []
    for start, raw in windows(volume, 0, _MAX_SOUGHT, _WINDOW):
        marks = np.frombuffer(raw[: len(raw) // 8 * 8], "<u8")[:: _SECTOR // 8]
        for hit in np.flatnonzero(marks == _DOT).tolist():
            told = dot_entries(raw[hit * _SECTOR : hit * _SECTOR + 64])
            if told is not None and told[0] >= 2:
                seen.append((start + hit * _SECTOR, *told))
    votes: Counter[tuple[int, int]] = Counter()
    for place, own, _ in seen:
        for shift in range(8):
            size = _SECTOR << shift
            begin = place - (own - 2) * size
            if begin > 0:
                votes[begin, size] += 1
    if not votes:
        return None
    (begin, size), count = votes.most_common(1)[0]
    if count < 2 or (begin, size) == (data, cluster):
        return None
    folders = tuple((own, above) for place, own, above in seen if place == begin + (own - 2) * size)
    return OldFolders(begin, size, folders)


def old_bytes(volume: DiskBytes, old: OldFolders, first: int) -> bytes:
    """The entries of a folder of an earlier format, as far as its clusters follow each other."""
    data = b""
    for number in range(_MAX_OLD_CLUSTERS):
        piece = _read(volume, old.data + (first - 2 + number) * old.cluster, old.cluster)
        if len(piece) < old.cluster or (data and (dot_entries(piece) is not None or not _goes_on(piece))):
            break
        data += piece
        if any(not piece[at] for at in range(0, len(piece), SIZE)):
            break
    return data


def _goes_on(piece: bytes) -> bool:
    """Whether a cluster can be the next one of a folder."""
    first = [piece[at : at + SIZE] for at in range(0, min(len(piece), 8 * SIZE), SIZE)]
    return bool(first[0][0]) and all(is_plausible(b"_" + entry[1:]) for entry in first if entry[0])


def _read(volume: DiskBytes, offset: int, length: int) -> bytes:
    try:
        return volume.read_at(offset, length)
    except SourceError:
        return b""
