"""Volumes of a disk whose table is gone: by their boot sectors and superblocks, also the copies that file systems keep of them.

Sources: those of `recognise`: NTFS keeps its copy in the last sector, FAT32 six and exFAT twelve sectors behind the first, ext in
further groups (each says its own number), HFS+ before the last sector.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from rustfern.core.errors import SourceError
from rustfern.sources.disks.interface import DiskBytes, windows
from rustfern.sources.disks.recognise import exfat_of, ext_of, fat_of, hfs_of, ntfs_of

_SECTOR = 512
_WINDOW = 8 << 20
_SEARCHED_BYTES = 16 << 30
"""How far a disk is searched for marks."""


def volumes_by_marks(disk: DiskBytes) -> list[tuple[int, int]]:
    """(offset, size) of volumes, in order; of those that overlap, the one with more marks, then the first."""
    votes: dict[tuple[int, int], int] = {}
    for place, sector in _marked(disk):
        for start, size in _volumes_of(disk, place, sector):
            if 0 <= start < disk.size and size > 0:
                votes[start, size] = votes.get((start, size), 0) + 1
    taken: list[tuple[int, int]] = []
    for start, size in sorted(votes, key=lambda each: (-votes[each], each)):
        if all(start + size <= other or start >= other + length for other, length in taken):
            taken.append((start, size))
    return sorted((start, min(size, disk.size - start)) for start, size in taken)


def _marked(disk: DiskBytes) -> Iterator[tuple[int, bytes]]:
    """(offset, bytes) of sectors that may be a boot sector, a superblock or a volume header."""
    for at, raw in windows(disk, 0, _SEARCHED_BYTES, _WINDOW):
        rows = np.frombuffer(raw[: len(raw) // _SECTOR * _SECTOR], np.uint8).reshape(-1, _SECTOR)
        boots = (rows[:, 510] == 0x55) & (rows[:, 511] == 0xAA) & np.isin(rows[:, 0], (0xEB, 0xE9))
        blocks = (rows[:, 56] == 0x53) & (rows[:, 57] == 0xEF)
        headers = (rows[:, 0] == ord("H")) & np.isin(rows[:, 1], (ord("+"), ord("X"))) & (rows[:, 2] == 0)
        for number in np.flatnonzero(boots | blocks | headers).tolist():
            place = at + number * _SECTOR
            # A superblock takes two sectors.
            yield place, raw[number * _SECTOR : (number + 2) * _SECTOR]


def _volumes_of(disk: DiskBytes, place: int, sector: bytes) -> Iterator[tuple[int, int]]:
    """Where a volume may begin whose mark stands at `place`, and how large it is."""
    if (ntfs := ntfs_of(sector[:_SECTOR])) is not None:
        per_cluster = sector[13] if sector[13] <= 0x80 else 1 << (256 - sector[13])
        table = struct.unpack_from("<Q", sector, 48)[0] * per_cluster * struct.unpack_from("<H", sector, 11)[0]
        for start in (place, place + _SECTOR - ntfs.size):
            if start >= 0 and _begins(disk, start + table, b"FILE"):
                yield start, ntfs.size
                return
    elif (exfat := exfat_of(sector[:_SECTOR])) is not None:
        # The first one and its copy are alike: each has a vote for both.
        yield place, exfat.size
        yield place - (12 << sector[108]), exfat.size
    elif (ext := ext_of(sector)) is not None:
        shift, per_group = struct.unpack_from("<I", sector, 24)[0], struct.unpack_from("<I", sector, 32)[0]
        group = struct.unpack_from("<H", sector, 90)[0]
        block = 1024 << shift
        yield place - group * per_group * block - (1024 if group == 0 or block == 1024 else 0), ext.size
    elif (hfs := hfs_of(sector[:_SECTOR])) is not None:
        yield place - 1024, hfs.size
        yield place + 1024 - hfs.size, hfs.size
    elif (fat := fat_of(sector[:_SECTOR])) is not None:
        yield place, fat.size
        if fat.type == "fat32":
            yield place - 6 * _SECTOR, fat.size


def _begins(disk: DiskBytes, at: int, mark: bytes) -> bool:
    try:
        return at >= 0 and disk.read_at(at, len(mark)) == mark
    except SourceError:
        return False
