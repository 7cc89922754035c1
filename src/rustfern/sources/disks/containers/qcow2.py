"""QCOW2 images, versions 2 and 3, with packed clusters and backing files.

Source: the QCOW2 specification in QEMU's documentation (docs/interop/qcow2.txt: header, L1 and L2 tables, extended L2 entries, compressed clusters).
"""

from __future__ import annotations

import os
import struct
import zlib
from array import array
from collections.abc import Callable
from datetime import UTC, datetime
from functools import lru_cache
from typing import TypeAlias

import msgspec
import numpy as np
from numpy.typing import NDArray

from rustfern.core.errors import Malformed, Refused
from rustfern.sources.disks.containers.blocks import BlockDisk, followed, kept
from rustfern.sources.disks.interface import DiskBytes, read_exactly

SIGNATURE = b"QFI\xfb"
_OFFSET = 0x00FFFFFFFFFFFE00
_PACKED = 1 << 62
_ZERO = 1
_DATA_FILE, _OTHER_PACKING, _EXTENDED = 1 << 2, 1 << 3, 1 << 4
_KNOWN = 1 | 2 | _DATA_FILE | _OTHER_PACKING | _EXTENDED
_BACKING_FORMAT = 0xE2792ACA
_MAX_L1 = 4 << 20
_HELD, _MOST_SNAPSHOTS = 128, 65_536
_HELD_BYTES = 16 << 20


Table: TypeAlias = "tuple[array[int], array[int]]"
"""The entries of one table, and for each how many from it on follow each other in the file."""


def _with_runs(entries: NDArray[np.uint64], cluster: int) -> Table:
    plain = (entries & np.uint64(_PACKED | _ZERO)) == 0
    places = np.where(plain, entries & np.uint64(_OFFSET), np.uint64(0)).astype(np.int64)
    return kept(entries), followed(places, cluster)


class Snapshot(msgspec.Struct, frozen=True):
    """A state of the disk that the image keeps beside the current one: when it was made, where its own table is, the size of the disk then."""

    taken: datetime
    l1_at: int
    entries: int
    size: int


def snapshots_of(disk: DiskBytes) -> list[Snapshot]:
    """The earlier states that an image keeps, the oldest first. Raises `Malformed` and `SourceError`. Source: the specification, snapshot table."""
    head = read_exactly(disk, 0, 72)
    count, at = struct.unpack_from(">IQ", head, 60)
    (size,) = struct.unpack_from(">Q", head, 24)
    if count > _MOST_SNAPSHOTS:
        raise Malformed("its table of snapshots is damaged", at)
    found = []
    for _ in range(count):
        l1_at, entries, ident, name, seconds, _, _, _, extra = struct.unpack(">QIHHIIQII", read_exactly(disk, at, 40))
        own = struct.unpack(">QQ", read_exactly(disk, at + 40, 16))[1] if extra >= 16 else size
        found.append(Snapshot(datetime.fromtimestamp(seconds, UTC), l1_at, entries, own))
        at += -(-(40 + extra + ident + name) // 8) * 8
    return sorted(found, key=lambda each: each.taken)


def open_qcow2(
    disk: DiskBytes, open_beside: Callable[[str, bool], DiskBytes], snapshot: Snapshot | None = None
) -> DiskBytes:
    """The disk in a QCOW2, or an earlier state of it; `open_beside` opens the file that it builds on, by name (raw or not). Raises `Malformed`,
    `Refused`, `SourceError`.
    """
    head = read_exactly(disk, 0, 104)
    version, name_at, name_size, bits, size, crypt, entries, l1_at = struct.unpack_from(">IQIIQIIQ", head, 4)
    if version not in (2, 3):
        raise Refused(f"it has version {version}, which is not read")
    if crypt:
        raise Refused("it is encrypted")
    if snapshot is not None:
        size, entries, l1_at = snapshot.size, snapshot.entries, snapshot.l1_at
    features = struct.unpack_from(">Q", head, 72)[0] if version == 3 else 0
    if features & ~_KNOWN:
        raise Refused("it uses features that are not read")
    if features & _DATA_FILE:
        raise Refused("its contents lie in another file, which is not read")
    if not 9 <= bits <= 21 or entries > _MAX_L1:
        raise Malformed("its header is damaged", 0)
    header_size = struct.unpack_from(">I", head, 100)[0] if version == 3 else 72
    zstd = bool(features & _OTHER_PACKING) and header_size > 104 and disk.read_at(104, 1) == b"\1"
    extended = bool(features & _EXTENDED)
    cluster = 1 << bits
    below = _backing(disk, name_at, name_size, header_size, open_beside)
    each = cluster // (16 if extended else 8)
    l1 = struct.unpack(f">{entries}Q", read_exactly(disk, l1_at, 8 * entries))

    known: dict[int, Table | None] = {}
    most = max(_HELD, _HELD_BYTES // cluster)

    def table(number: int) -> Table | None:
        if number not in known:
            if len(known) >= most:
                known.clear()
            at = l1[number] & _OFFSET if number < entries else 0
            found = np.frombuffer(read_exactly(disk, at, cluster), ">u8").astype(np.uint64) if at else None
            known[number] = None if found is None else _with_runs(found, cluster)
        return known[number]

    def together(number: int) -> int:
        found = table(number // each)
        return found[1][number % each] if found is not None else 1

    @lru_cache(_HELD)
    def unpacked(entry: int) -> bytes:
        shift = 62 - (bits - 8)
        at = entry & ((1 << shift) - 1)
        sectors = ((entry >> shift) & ((1 << (bits - 8)) - 1)) + 1
        data = disk.read_at(at, sectors * 512 - (at & 511))
        try:
            if zstd:
                from rustfern.formats.archives.zstd import unpacked as unpacked_zstd

                return unpacked_zstd(data, cluster)
            return zlib.decompressobj(-15).decompress(data, cluster)
        except (zlib.error, ValueError) as error:
            raise Malformed(f"a packed cluster is damaged ({error})", at) from error
        except Exception as error:  # the library's own error has no other base
            if type(error).__name__ == "ZstdError":
                raise Malformed(f"a packed cluster is damaged ({error})", at) from error
            raise

    def beneath(number: int) -> bytes | None:
        if below is None or number * cluster >= below.size:
            return None
        return below.read_at(number * cluster, cluster)

    def in_parts(entry: int, bitmap: int, number: int) -> bytes:
        """A cluster of 32 parts, each there, all zeros, or as in the file below."""
        at, part = entry & _OFFSET, cluster // 32
        under = beneath(number)
        own = disk.read_at(at, cluster) if at else b""
        pieces = []
        for n in range(32):
            if bitmap >> n & 1:
                pieces.append(own[n * part : (n + 1) * part])
            elif bitmap >> (32 + n) & 1 or under is None:
                pieces.append(bytes(part))
            else:
                pieces.append(under[n * part : (n + 1) * part].ljust(part, b"\0"))
        return b"".join(pieces)

    def find(number: int) -> int | bytes | None:
        found = table(number // each)
        if found is None:
            return beneath(number)
        index = number % each
        entry = found[0][2 * index if extended else index]
        if entry & _PACKED:
            return unpacked(entry)
        if extended:
            bitmap = found[0][2 * index + 1]
            return (
                (entry & _OFFSET)
                if bitmap == 0xFFFFFFFF
                else in_parts(entry, bitmap, number)
                if bitmap
                else beneath(number)
            )
        if entry & _ZERO and version == 3:
            return None
        return (entry & _OFFSET) or beneath(number)

    return BlockDisk(size, cluster, find, disk.read_at, None if extended else together)


def _backing(
    disk: DiskBytes, at: int, length: int, header_size: int, open_beside: Callable[[str, bool], DiskBytes]
) -> DiskBytes | None:
    if not at or not length:
        return None
    if length > 1023:
        raise Malformed("the name of the file that it builds on is too long", at)
    name = os.fsdecode(read_exactly(disk, at, length))
    raw = False
    pos = header_size
    while pos + 8 <= at:
        kind, size = struct.unpack(">II", read_exactly(disk, pos, 8))
        if kind == 0:
            break
        if kind == _BACKING_FORMAT:
            raw = disk.read_at(pos + 8, min(size, 16)) == b"raw"
        pos += 8 + -(-size // 8) * 8
    return open_beside(name, raw)
