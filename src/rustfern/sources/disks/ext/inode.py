"""Inodes and folder entries of ext2, ext3 and ext4.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms" (index nodes, extent tree, inline data, directory entries).
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

import msgspec

from rustfern.core.errors import Malformed
from rustfern.sources.disks.interface import HOLE, Extent

FOLDER, FILE, LINK = 0x4000, 0x8000, 0xA000
_KIND = 0xF000
_EXTENTS, _INLINE, _ENCRYPTED = 0x80000, 0x10000000, 0x800
_EXTENT_MAGIC = 0xF30A
_MAX_DEPTH = 5
_MAX_EXTENTS = 1 << 20
_MOST_WRITTEN = 32768
_XATTR_MAGIC = 0xEA020000
_SYSTEM, _INLINE_NAME = 7, b"data"

ReadBlock = Callable[[int], bytes]
Accept = Callable[[bytes], bool]


class Inode(msgspec.Struct, frozen=True):
    """What an inode says; times in ns since 1970 (0: none), `raw` are its bytes."""

    mode: int
    size: int
    links: int
    flags: int
    generation: int
    modified: int
    changed: int
    created: int
    deleted: int
    raw: bytes

    @property
    def kind(self) -> int:
        """`FOLDER`, `FILE`, `LINK`, or something else."""
        return self.mode & _KIND

    @property
    def is_inline(self) -> bool:
        """Whether its content lies in itself."""
        return bool(self.flags & _INLINE)

    @property
    def is_encrypted(self) -> bool:
        """Whether its content is encrypted."""
        return bool(self.flags & _ENCRYPTED)

    @property
    def has_places(self) -> bool:
        """Whether it still says where its content lies."""
        if self.flags & _EXTENTS:
            magic, count = struct.unpack_from("<HH", self.raw, 40)
            return bool(magic == _EXTENT_MAGIC and count)
        return self.is_inline or any(self.raw[40:100])


def parse(raw: bytes) -> Inode:
    """An inode from its 128 bytes or more. Raises `Malformed`."""
    if len(raw) < 128:
        raise Malformed("an inode is cut")
    mode, _, low, _, changed, modified, deleted, _, links, _, flags = struct.unpack_from("<HHIIIIIHHII", raw)
    generation, high = struct.unpack_from("<I4xI", raw, 100)
    size = low | (high << 32 if mode & _KIND != LINK else 0)
    created = 0
    nanos = [0, 0]
    extra = struct.unpack_from("<H", raw, 128)[0] if len(raw) >= 132 else 0
    if extra >= 12 and len(raw) >= 140:
        nanos = list(struct.unpack_from("<II", raw, 132))
    if extra >= 24 and len(raw) >= 152:
        made, made_more = struct.unpack_from("<II", raw, 144)
        created = _ns(made, made_more)
    return Inode(
        mode, size, links, flags, generation, _ns(modified, nanos[1]), _ns(changed, nanos[0]), created, deleted, raw
    )  # fmt: skip


def _ns(seconds: int, more: int) -> int:
    signed = seconds - (1 << 32) if seconds >= 1 << 31 else seconds
    return (signed + ((more & 3) << 32)) * 1_000_000_000 + min(more >> 2, 999_999_999)


def inline_data(inode: Inode) -> bytes:
    """The content of a small file that lies in its inode, and in its extended attributes."""
    raw, data = inode.raw, inode.raw[40:100]
    start = 128 + struct.unpack_from("<H", raw, 128)[0] if len(raw) >= 132 else len(raw)
    if start + 4 <= len(raw) and struct.unpack_from("<I", raw, start)[0] == _XATTR_MAGIC:
        first = at = start + 4
        while at + 16 <= len(raw) and raw[at : at + 4] != bytes(4):
            name_size, index, offset, _, size = struct.unpack_from("<BBHII", raw, at)
            if index == _SYSTEM and raw[at + 16 : at + 16 + name_size] == _INLINE_NAME:
                data += raw[first + offset : first + offset + size]
                break
            at += 16 + -(-name_size // 4) * 4
    return data[: inode.size]


def places(inode: Inode, block: int, read: ReadBlock, *, blocks: int) -> list[Extent]:
    """Where the content lies: extents in bytes, holes too. `read` gives one block; `blocks` are those of the volume. Raises `Malformed`."""
    needed = -(-inode.size // block)
    if inode.flags & _EXTENTS:
        found: list[tuple[int, int, int]] = []
        _extents(inode.raw[40:100], read, 0, found, blocks)
        found.sort()
        runs: list[tuple[int, int]] = []
        at = 0
        for first, place, count in found:
            if first > at:
                runs.append((HOLE, first - at))
            elif first < at:
                continue
            runs.append((place, count))
            at = first + count
    else:
        runs = list(_mapped(inode.raw[40:100], block, read, needed, blocks))
        at = sum(count for _, count in runs)
    if at < needed:
        runs.append((HOLE, needed - at))
    return [(HOLE if place == HOLE else place * block, count * block) for place, count in runs]


def _extents(node: bytes, read: ReadBlock, depth: int, found: list[tuple[int, int, int]], blocks: int) -> None:
    magic, count, _, levels = struct.unpack_from("<HHHH", node)
    if magic != _EXTENT_MAGIC or 12 + 12 * count > len(node) or levels > _MAX_DEPTH or depth > _MAX_DEPTH:
        raise Malformed("its extents are damaged")
    for at in range(12, 12 + 12 * count, 12):
        if levels:
            _, low, high = struct.unpack_from("<IIH", node, at)
            inner = read(low | high << 32)
            if struct.unpack_from("<H", inner + b"\0\0", 6)[0] != levels - 1 and inner:
                raise Malformed("its extents are damaged")
            _extents(inner, read, depth + 1, found, blocks)
        else:
            first, length, high, low = struct.unpack_from("<IHHI", node, at)
            place = low | high << 32
            if length > _MOST_WRITTEN:
                found.append((first, HOLE, length - _MOST_WRITTEN))
                continue
            if place + length > blocks or not place or not length:
                raise Malformed("an extent leads out of the volume")
            found.append((first, place, length))
        if len(found) > _MAX_EXTENTS:
            raise Malformed("it has too many extents")


def _mapped(pointers: bytes, block: int, read: ReadBlock, needed: int, blocks: int) -> Iterator[tuple[int, int]]:
    """Runs of blocks by direct and indirect pointers."""
    told = struct.unpack("<15I", pointers)
    run: tuple[int, int] | None = None
    done = 0

    def pieces() -> Iterator[tuple[int, int]]:
        for place in told[:12]:
            yield place, 1
        for depth in (1, 2, 3):
            yield from below(told[11 + depth], depth)

    def below(place: int, depth: int) -> Iterator[tuple[int, int]]:
        each = (block // 4) ** depth
        if not place:
            yield 0, each
            return
        if place >= blocks:
            raise Malformed("a pointer leads out of the volume")
        data = read(place)
        if len(data) < block:
            raise Malformed("a block of pointers cannot be read")
        for inner in struct.unpack(f"<{block // 4}I", data[: block // 4 * 4]):
            if depth == 1:
                yield inner, 1
            else:
                yield from below(inner, depth - 1)

    for place, count in pieces():
        if done >= needed:
            break
        count = min(count, needed - done)
        if place >= blocks:
            raise Malformed("a pointer leads out of the volume")
        done += count
        if not place:
            place = HOLE
        if run is not None and ((place == HOLE and run[0] == HOLE) or (run[0] != HOLE and place == run[0] + run[1])):
            run = run[0], run[1] + count
        else:
            if run is not None:
                yield run
            run = place, count
    if run is not None:
        yield run


class Name(msgspec.Struct, frozen=True):
    """One entry of a folder: `deleted` if it remains only in what others do not use."""

    inode: int
    name: bytes
    kind: int
    deleted: bool


def names(data: bytes, most: int, *, typed: bool) -> Iterator[Name]:
    """The entries of one block of a folder, and those that remain in its slack. `most` is the highest inode; `typed` says that entries
    tell the kind of file.
    """
    at, end = 0, len(data)
    while at + 8 <= end:
        inode, length, size, kind = struct.unpack_from("<IHBB", data, at)
        length = length or 65536
        if length < 8 or length % 4 or at + length > end:
            yield from _in_slack(data, at, end, most, typed=typed)
            return
        used = 8
        if size > 0 and 8 + size <= length:
            used = 8 + -(-size // 4) * 4
            name = data[at + 8 : at + 8 + size]
            if 0 < inode <= most and b"/" not in name and b"\0" not in name:
                yield Name(inode, name, kind if typed else 0, False)
            elif not inode and size and _is_name(name):
                pass  # the inode of the first entry of a block is cleared when it is deleted: nothing leads to its file
        if inode == 0:
            used = 8 + -(-size // 4) * 4 if size else 8
            if size == 0 and length >= 24:
                used = 8
        if length - used >= 12:
            yield from _in_slack(data, at + used, at + length, most, typed=typed)
        at += length


def _in_slack(data: bytes, at: int, end: int, most: int, *, typed: bool) -> Iterator[Name]:
    while at + 12 <= end:
        inode, length, size, kind = struct.unpack_from("<IHBB", data, at)
        fits = 0 < inode <= most and size > 0 and at + 8 + size <= end and length >= 8 + size and length % 4 == 0
        name = data[at + 8 : at + 8 + size] if fits else b""
        if fits and (kind <= 7 if typed else True) and _is_name(name):
            yield Name(inode, name, kind if typed else 0, True)
            at += 8 + -(-size // 4) * 4
        else:
            at += 4


def _is_name(name: bytes) -> bool:
    return bool(name) and b"/" not in name and all(byte >= 0x20 for byte in name) and b"\x7f" not in name


def is_folder_start(data: bytes) -> tuple[int, int] | None:
    """(own inode, that of the folder above) of the first block of a folder; None if it is none."""
    if len(data) < 24 or data[6] != 1 or data[8:9] != b"." or data[4:6] != b"\x0c\0":
        return None
    if data[18] != 2 or data[20:22] != b"..":
        return None
    return struct.unpack_from("<I", data, 0)[0], struct.unpack_from("<I", data, 12)[0]
