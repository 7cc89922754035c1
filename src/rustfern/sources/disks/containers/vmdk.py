"""VMDK images: flat extents with a descriptor, sparse ones, split ones, and stream-optimised ones.

Source: Virtual Disk Format 5.0 (technical note: the descriptor file; hosted sparse extents; stream-optimised compressed sparse extents).
"""

from __future__ import annotations

import os
import re
import struct
import zlib
from array import array
from collections.abc import Callable
from functools import lru_cache

import numpy as np

from rustfern.core.errors import Malformed, Refused
from rustfern.sources.disks.containers.blocks import BlockDisk, followed, kept
from rustfern.sources.disks.interface import DiskBytes, Extent, Window, read_exactly

SIGNATURE = b"KDMV"
DESCRIPTOR = b"# Disk DescriptorFile"
_COMPRESSED = 1 << 16
_AT_END = 0xFFFFFFFFFFFFFFFF
_MAX_GRAINS_EACH, _MAX_TABLES = 1 << 16, 16 << 20
_HELD, _TABLES_HELD = 256, 4_096
_EXTENT = re.compile(r'^(RW|RDONLY|NOACCESS)\s+(\d+)\s+([A-Z]+)(?:\s+"([^"]*)"(?:\s+(\d+))?)?', re.MULTILINE)
_PARENT = re.compile(r'^parentCID\s*=\s*"?([0-9a-fA-F]+)', re.MULTILINE)


class _Zeros:
    """An extent that was never written."""

    sector = 512

    def __init__(self, size: int) -> None:
        self.size = size

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        return bytes(max(min(length, self.size - offset), 0))

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        return True


class _Row:
    """Extents one behind the other."""

    sector = 512

    def __init__(self, extents: list[DiskBytes]) -> None:
        self._extents = extents
        self.size = sum(extent.size for extent in extents)

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        pieces, start = [], 0
        for extent in self._extents:
            if length <= 0:
                break
            if offset < start + extent.size:
                piece = extent.read_at(offset - start, length)
                pieces.append(piece)
                offset, length = offset + len(piece), length - len(piece)
            start += extent.size
        return b"".join(pieces)

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        start = 0
        for extent in self._extents:
            if offset >= start and offset + length <= start + extent.size:
                return extent.is_hole(offset - start, length)
            start += extent.size
        return False


def open_vmdk(disk: DiskBytes, path: str, open_beside: Callable[[str], DiskBytes]) -> DiskBytes:
    """The disk in a VMDK; `open_beside` opens another file of its folder by name. Raises `Malformed`, `Refused` and `SourceError`."""
    head = disk.read_at(0, 512)
    if head.startswith(SIGNATURE):
        text = _own_descriptor(disk, head)
        if text:
            _no_parent(text)
            named = _EXTENT.findall(text)
            # The first of several extents may hold the descriptor of all.
            if len(named) > 1:
                return _described(text, path, open_beside, {os.path.basename(path): disk})
        return _sparse(disk)
    text = disk.read_at(0, 1 << 20).decode("utf-8", "replace")
    return _described(text, path, open_beside, {})


def _no_parent(text: str) -> None:
    found = _PARENT.search(text)
    if found and found[1].lower() not in ("ffffffff", "00000000"):
        raise Refused("it holds only what changed against another image, its parent")


def _own_descriptor(disk: DiskBytes, head: bytes) -> str:
    at, count = struct.unpack_from("<QQ", head, 28)
    return disk.read_at(at * 512, min(count, 2048) * 512).rstrip(b"\0").decode("utf-8", "replace") if at else ""


def _described(text: str, path: str, open_beside: Callable[[str], DiskBytes], known: dict[str, DiskBytes]) -> DiskBytes:
    _no_parent(text)
    extents: list[DiskBytes] = []
    for access, sectors, kind, name, offset in _EXTENT.findall(text):
        size = int(sectors) * 512
        if kind == "ZERO" or access == "NOACCESS":
            extents.append(_Zeros(size))
            continue
        if os.path.basename(name.replace("\\", "/")) != name:
            raise Refused(f"it names a file outside of its folder ({name[:60]!r})")
        beside = known.get(name) or open_beside(name)
        if kind in ("FLAT", "VMFS"):
            extents.append(Window(beside, int(offset or 0) * 512, size))
        elif kind == "SPARSE" and beside.read_at(0, 4) == SIGNATURE:
            extents.append(Window(_sparse(beside), 0, size))
        else:
            raise Refused(f"its part {name} has a form ({kind.lower()}) that is not read")
        if extents[-1].size < size:
            raise Malformed(f"its part {name} is shorter than said: {extents[-1].size} of {size} bytes")
    if not extents:
        raise Malformed("its descriptor names no parts")
    return extents[0] if len(extents) == 1 else _Row(extents)


def _sparse(disk: DiskBytes) -> DiskBytes:
    head = read_exactly(disk, 0, 512)
    if struct.unpack_from("<Q", head, 56)[0] == _AT_END:
        # Written as a stream: the header with the true places is the footer, before the marker of the end.
        head = read_exactly(disk, disk.size - 1024, 512)
        if not head.startswith(SIGNATURE):
            raise Malformed("it was written as a stream, and its end is missing", disk.size - 1024)
    flags, capacity, grain, _, _, each, _, directory = struct.unpack_from("<IQQQQIQQ", head, 8)
    packed = bool(flags & _COMPRESSED)
    tables = -(-capacity // (grain * each)) if grain and each else 0
    if not 0 < grain <= 1 << 16 or not 0 < each <= _MAX_GRAINS_EACH or not 0 < tables <= _MAX_TABLES:
        raise Malformed("its header is damaged", 0)
    raw = read_exactly(disk, directory * 512, 4 * tables)
    places = struct.unpack(f"<{tables}I", raw)

    known: dict[int, tuple[array[int], array[int]]] = {}

    def table(number: int) -> tuple[array[int], array[int]]:
        """The grains of a table, in sectors, and for each how many from it on follow each other."""
        if number not in known:
            if len(known) >= _TABLES_HELD:
                known.clear()
            at = places[number]
            raw = read_exactly(disk, at * 512, 4 * each) if at else bytes(4 * each)
            grains = np.frombuffer(raw, "<u4").astype(np.int64)
            known[number] = kept(grains), followed(np.where(grains < 2, 0, grains), grain)
        return known[number]

    def together(number: int) -> int:
        return table(number // each)[1][number % each] if number // each < tables else 1

    @lru_cache(_HELD)
    def unpacked(at: int) -> bytes:
        length = struct.unpack("<8xI", read_exactly(disk, at * 512, 12))[0]
        if length > 2 * grain * 512 + 4096:
            raise Malformed("a packed piece has a length that cannot be", at * 512)
        try:
            return zlib.decompressobj().decompress(read_exactly(disk, at * 512 + 12, length), grain * 512)
        except zlib.error as error:
            raise Malformed(f"a packed piece is damaged ({error})", at * 512) from error

    def find(number: int) -> int | bytes | None:
        at = table(number // each)[0][number % each] if number // each < tables else 0
        if at < 2:  # 1: zeros, though written
            return None
        return unpacked(at) if packed else at * 512

    return BlockDisk(capacity * 512, grain * 512, find, disk.read_at, None if packed else together)
