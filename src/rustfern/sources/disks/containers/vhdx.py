"""VHDX images; a log that was not replayed is replayed in memory.

Source: [MS-VHDX] (2.2 header section, 2.3 log, 2.5 block allocation table, 2.6 metadata region).
"""

from __future__ import annotations

import struct
import uuid
from collections.abc import Iterator

import msgspec
import numpy as np

from rustfern.core.errors import Malformed, Refused
from rustfern.sources.disks.containers.blocks import BlockDisk
from rustfern.sources.disks.interface import DiskBytes, Extent, read_exactly

SIGNATURE = b"vhdxfile"
_TABLE_OF_BLOCKS = uuid.UUID("2dc27766-f623-4200-9d64-115e9bfd4a08")
_METADATA = uuid.UUID("8b7ca206-4790-4b9a-b8fe-575f050f886e")
_PARAMETERS = uuid.UUID("caa16737-fa36-4d43-b3b6-33f0aa44e76b")
_SIZE = uuid.UUID("2fa54224-cd1b-4876-b211-5dbed83bf4b8")
_SECTOR = uuid.UUID("8141bf1d-a96f-4709-ba47-f233a8faab5f")
_PRESENT, _IN_PART = 6, 7
_LOG_SECTOR = 4096
_MAX_LOG = 64 << 20
_MAX_BLOCKS = 64 << 20


class _Entry(msgspec.Struct, frozen=True):
    """One entry of the log: its number, how long it is, where the oldest one that matters stands, what it writes."""

    number: int
    length: int
    tail: int
    writes: list[tuple[int, bytes]]


class _Patched:
    """A file with what its log says laid over it."""

    sector = 512

    def __init__(self, disk: DiskBytes, writes: dict[int, bytes]) -> None:
        self._disk, self._writes = disk, writes
        self.size = max([disk.size, *(at + _LOG_SECTOR for at in writes)])

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        first, last = offset // _LOG_SECTOR, (offset + length - 1) // _LOG_SECTOR
        data = self._disk.read_at(offset, length)
        if last - first > len(self._writes):
            touched = [at for at in self._writes if offset - _LOG_SECTOR < at < offset + length]
        else:
            touched = [n * _LOG_SECTOR for n in range(first, last + 1) if n * _LOG_SECTOR in self._writes]
        if not touched:
            return data
        held = bytearray(data.ljust(length, b"\0"))
        for at in touched:
            start, end = max(at, offset), min(at + _LOG_SECTOR, offset + length)
            held[start - offset : end - offset] = self._writes[at][start - at : end - at]
        return bytes(held)

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        return False


def _crc32c(data: bytes) -> int:
    """CRC-32C (Castagnoli), as the structures of this form are summed."""
    table = _crc_table()
    crc = 0xFFFFFFFF
    for byte in data:
        crc = (crc >> 8) ^ table[(crc ^ byte) & 0xFF]
    return crc ^ 0xFFFFFFFF


def _crc_table() -> list[int]:
    if not _TABLE:
        for n in range(256):
            for _ in range(8):
                n = (n >> 1) ^ (0x82F63B78 if n & 1 else 0)
            _TABLE.append(n)
    return _TABLE


_TABLE: list[int] = []


def _sums(data: bytes, at: int = 4) -> bool:
    stored = struct.unpack_from("<I", data, at)[0]
    return bool(_crc32c(data[:at] + bytes(4) + data[at + 4 :]) == stored)


def _header(disk: DiskBytes) -> bytes:
    """The current one of the two headers: the one of the higher number whose sum fits."""
    found = []
    for at in (64 << 10, 128 << 10):
        data = disk.read_at(at, 4096)
        if data.startswith(b"head") and len(data) == 4096 and _sums(data):
            found.append((struct.unpack_from("<Q", data, 8)[0], data))
    if not found:
        raise Malformed("both of its headers are damaged")
    return bytes(max(found)[1])


def _regions(disk: DiskBytes) -> dict[uuid.UUID, tuple[int, int]]:
    for at in (192 << 10, 256 << 10):
        data = disk.read_at(at, 64 << 10)
        if data.startswith(b"regi") and len(data) == 64 << 10 and _sums(data):
            count = min(struct.unpack_from("<I", data, 8)[0], 2047)
            return {
                uuid.UUID(bytes_le=data[pos : pos + 16]): struct.unpack_from("<QI", data, pos + 16)
                for pos in range(16, 16 + 32 * count, 32)
            }
    raise Malformed("both of its region tables are damaged")


def _entry(log: bytes, at: int, guid: bytes) -> _Entry | None:
    """The entry at an offset of the log, which is a ring; None if there is none that is whole."""
    head = log[at : at + 64]
    if not head.startswith(b"loge") or len(head) < 64:
        return None
    _, length, tail, number, count = struct.unpack_from("<IIIQI", head, 4)
    if head[32:48] != guid or length % _LOG_SECTOR or not 0 < length <= len(log) or tail >= len(log):
        return None
    data = (log + log[:at])[at : at + length]
    if not _sums(data) or 64 + 32 * count > length:
        return None
    blocks = -(-(64 + 32 * count) // _LOG_SECTOR) * _LOG_SECTOR
    writes: list[tuple[int, bytes]] = []
    for pos in range(64, 64 + 32 * count, 32):
        sign = data[pos : pos + 4]
        if sign == b"zero":
            size, offset, own = struct.unpack_from("<QQQ", data, pos + 8)
            if size > _MAX_LOG:
                return None
            writes += [(offset + n, bytes(_LOG_SECTOR)) for n in range(0, size, _LOG_SECTOR)]
        elif sign == b"desc":
            trailing, leading, offset, own = struct.unpack_from("<4s8sQQ", data, pos + 4)
            block = data[blocks : blocks + _LOG_SECTOR]
            if block[:4] != b"data" or len(block) < _LOG_SECTOR:
                return None
            high, low = struct.unpack_from("<I", block, 4)[0], struct.unpack_from("<I", block, 4092)[0]
            if (high << 32 | low) != number:
                return None
            writes.append((offset, leading + block[8:4092] + trailing))
            blocks += _LOG_SECTOR
        else:
            return None
        if own != number:
            return None
    return _Entry(number, length, tail, writes)


def _sequences(log: bytes, guid: bytes) -> Iterator[list[_Entry]]:
    """Runs of whole entries that follow each other, and begin where the last of them says."""
    entries = {at: found for at in range(0, len(log), _LOG_SECTOR) if (found := _entry(log, at, guid)) is not None}
    for first in entries:
        run: list[_Entry] = []
        at, seen = first, set[int]()
        while (entry := entries.get(at)) is not None and at not in seen:
            if run and entry.number != run[-1].number + 1:
                break
            seen.add(at)
            run.append(entry)
            at = (at + entry.length) % len(log)
        while run and run[-1].tail != first:
            run.pop()  # the last one that this run can serve
        if run:
            yield run


def _replayed(disk: DiskBytes, header: bytes) -> DiskBytes:
    guid = header[48:64]
    if guid == bytes(16):
        return disk
    length, at = struct.unpack_from("<IQ", header, 68)
    if not 0 < length <= _MAX_LOG:
        raise Malformed("its log has a length that cannot be", 68)
    run = max(_sequences(read_exactly(disk, at, length), guid), key=lambda run: run[-1].number, default=None)
    if run is None:
        raise Malformed("its log was not replayed, and is damaged")
    writes: dict[int, bytes] = {}
    for entry in run:
        writes.update(entry.writes)
    return _Patched(disk, writes)


def open_vhdx(disk: DiskBytes) -> DiskBytes:
    """The disk in a VHDX. Raises `Malformed`, and `Refused` for one that holds only differences to another."""
    disk = _replayed(disk, _header(disk))
    regions = _regions(disk)
    if _TABLE_OF_BLOCKS not in regions or _METADATA not in regions:
        raise Malformed("its region table names no map of blocks")
    start = regions[_METADATA][0]
    table = read_exactly(disk, start, 64 << 10)
    if not table.startswith(b"metadata"):
        raise Malformed("its metadata are damaged", start)
    items: dict[uuid.UUID, bytes] = {}
    for pos in range(32, 32 + 32 * min(struct.unpack_from("<H", table, 10)[0], 2047), 32):
        offset, length = struct.unpack_from("<II", table, pos + 16)
        if length <= 64:
            items[uuid.UUID(bytes_le=table[pos : pos + 16])] = disk.read_at(start + offset, length)
    try:
        block, flags = struct.unpack("<II", items[_PARAMETERS])
        size = struct.unpack("<Q", items[_SIZE])[0]
        sector = struct.unpack("<I", items[_SECTOR])[0]
    except (KeyError, struct.error) as error:
        raise Malformed("its metadata lack its size") from error
    if block < 1 << 20 or block & (block - 1) or sector not in (512, 4096):
        raise Malformed("its metadata give sizes that cannot be")
    if flags & 2:
        raise Refused("it holds only what changed against another image, its parent")
    ratio = (sector << 23) // block
    blocks = -(-size // block)
    count = blocks + (blocks - 1) // ratio if blocks else 0
    if count > _MAX_BLOCKS:
        raise Malformed("its map of blocks has a length that cannot be")
    at, length = regions[_TABLE_OF_BLOCKS]
    raw = b"".join(disk.read_at(at + n, min(1 << 20, 8 * count - n)) for n in range(0, 8 * count, 1 << 20))
    places = np.frombuffer(raw[: len(raw) // 8 * 8], dtype="<u8")

    def find(number: int) -> int | None:
        number += number // ratio  # a place for a bitmap stands between
        entry = int(places[number]) if number < len(places) else 0
        return entry >> 20 << 20 if entry & 7 in (_PRESENT, _IN_PART) else None

    made = BlockDisk(size, block, find, disk.read_at)
    made.sector = sector
    return made
