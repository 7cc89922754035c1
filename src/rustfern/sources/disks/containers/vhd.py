"""VHD images, fixed and dynamic.

Source: Virtual Hard Disk Image Format Specification, version 1.0 (Hard Disk Footer Format, Dynamic Disk Header Format, Block Allocation Table).
"""

from __future__ import annotations

import struct

import numpy as np

from rustfern.core.errors import Malformed, Refused
from rustfern.sources.disks.containers.blocks import BlockDisk
from rustfern.sources.disks.interface import DiskBytes, Window, read_exactly

_COOKIE, _HEADER = b"conectix", b"cxsparse"
_FIXED, _DYNAMIC, _DIFFERENCING = 2, 3, 4
_UNUSED = 0xFFFFFFFF
_MAX_BLOCKS = 16 << 20


def footer_of(disk: DiskBytes) -> bytes | None:
    """The footer (512 bytes) at the end, or its copy at the start; None if this is no VHD."""
    last = disk.read_at(max(disk.size - 512, 0), 512)
    for footer in (last, last[1:] + b"\0", disk.read_at(0, 512)):  # old writers left out the last byte
        if footer.startswith(_COOKIE) and len(footer) == 512:
            return footer
    return None


def open_vhd(disk: DiskBytes) -> DiskBytes:
    """The disk in a VHD. Raises `Malformed`, and `Refused` for one that holds only differences to another."""
    footer = footer_of(disk)
    if footer is None:
        raise Malformed("there is no footer")
    at, size, kind = struct.unpack_from(">Q24xQ4xI", footer, 16)
    if kind == _FIXED:
        return Window(disk, 0, size)
    if kind == _DIFFERENCING:
        raise Refused("it holds only what changed against another image, its parent")
    if kind != _DYNAMIC:
        raise Malformed(f"its kind is {kind}")
    header = read_exactly(disk, at, 1024)
    table, count, block = struct.unpack_from(">QxxxxII", header, 16)
    if header[:8] != _HEADER or block < 512 or block & (block - 1) or not 0 < count <= _MAX_BLOCKS:
        raise Malformed("its header is damaged", at)
    places = np.frombuffer(read_exactly(disk, table, 4 * count), dtype=">u4").astype(np.int64)
    bitmap = -(-block // 512 // 8 // 512) * 512

    def find(number: int) -> int | None:
        """A block that is there is taken whole: sectors that were never written are zeros in it."""
        place = int(places[number]) if number < count else _UNUSED
        return None if place == _UNUSED else place * 512 + bitmap

    return BlockDisk(size, block, find, disk.read_at)
