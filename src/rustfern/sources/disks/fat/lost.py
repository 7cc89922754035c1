"""Folders of a FAT volume that nothing leads to: found by their own first entries, also where the volume was formatted again.

Source: FAT32 File System Specification 1.03: the first two entries of each folder but the root are `.` and `..`, with their first clusters.
"""

from __future__ import annotations

from collections import Counter

import msgspec
import numpy as np
from numpy.typing import NDArray

from rustfern.core.errors import SourceError
from rustfern.sources.disks.fat.directory import SIZE, dot_entries, is_plausible
from rustfern.sources.disks.interface import DiskBytes

_DOT = np.frombuffer(b".       ", "<u8")[0]
_WINDOW = 4 << 20
_MAX_OLD_CLUSTERS = 1_024
_MAX_SOUGHT = 4 << 30
"""Bytes of free space that are looked through for folders, at most."""
_SECTOR = 512


class OldFolders(msgspec.Struct, frozen=True):
    """Folders of an earlier format: where its clusters began, their size, and (first cluster, that of the folder above) of each."""

    data: int
    cluster: int
    folders: tuple[tuple[int, int], ...]


def find(
    volume: DiskBytes, data: int, cluster: int, chains: NDArray[np.uint32], known: dict[int, int]
) -> list[tuple[int, int]]:
    """(first cluster, that of the folder above) of folders in clusters that no file has and nothing leads to."""
    found: list[tuple[int, int]] = []
    free = np.flatnonzero(chains[2:] == 0) + 2
    step = max(_WINDOW // cluster, 1)
    at = 0
    sought = 0
    while at < len(free) and sought < _MAX_SOUGHT:
        first = int(free[at])
        last = min(first + step, len(chains))
        inside = free[at : int(np.searchsorted(free, last))]
        at += len(inside)
        sought += len(inside) * min(cluster, 4096)
        if cluster > 8 * 4096:
            heads = [(int(each), _read(volume, data + (int(each) - 2) * cluster, 64)) for each in inside]
        else:
            raw = _read(volume, data + (first - 2) * cluster, (int(inside[-1]) - first) * cluster + 64)
            marks = np.frombuffer(raw[: len(raw) // 8 * 8], "<u8")[:: cluster // 8]
            hits = np.flatnonzero(marks[: len(raw) // cluster + 1] == _DOT)
            allowed = set(inside.tolist())
            heads = [
                (first + int(n), raw[int(n) * cluster : int(n) * cluster + 64])
                for n in hits
                if first + int(n) in allowed
            ]
        for number, head in heads:
            told = dot_entries(head)
            if told is not None and told[0] in (number, number & 0xFFFF) and number not in known:
                found.append((number, told[1]))
    return found


def find_old(volume: DiskBytes, data: int, cluster: int) -> OldFolders | None:
    """Folders of an earlier format of the volume, by what their own entries say of where they lie."""
    seen: list[tuple[int, int, int]] = []
    for start in range(0, min(volume.size, _MAX_SOUGHT), _WINDOW):
        raw = _read(volume, start, _WINDOW)
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
