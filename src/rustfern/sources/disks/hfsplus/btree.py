"""The B-trees of HFS+: their leaf nodes, and what remains in parts of them that are not in use.

Source: Apple Technical Note TN1150, "HFS Plus Volume Format" (B-trees, catalog file, extents overflow file).
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from itertools import pairwise

import msgspec

from rustfern.core.errors import Malformed

FOLDER, FILE, FOLDER_THREAD, FILE_THREAD = 1, 2, 3, 4
_LEAF, _HEADER = -1, 1
_MAX_NODES = 16 << 20
_FOLDER_BYTES, _FILE_BYTES = 88, 248
_EPOCH = 2_082_844_800
"""Seconds from 1904 to 1970."""


class Fork(msgspec.Struct, frozen=True):
    """One fork of a file: its size in bytes, and its first eight extents (first block, count)."""

    size: int
    blocks: int
    extents: tuple[tuple[int, int], ...]


class CatalogRecord(msgspec.Struct, frozen=True):
    """A file or folder: the folder that it lies in and its name are its key. Times in ns since 1970. `link` is the number that a hard link names."""

    parent: int
    name: str
    is_folder: bool
    ident: int
    created: int | None
    modified: int | None
    changed: int | None
    mode: int
    fork: Fork
    packed: bool
    link: int | None
    symlink: bool
    deleted: bool = False


class Header(msgspec.Struct, frozen=True):
    """What the first node of a tree says."""

    node_size: int
    first_leaf: int
    total: int


def header_of(data: bytes) -> Header:
    """The header of a tree, from its first bytes. Raises `Malformed`."""
    if len(data) < 120 or struct.unpack_from(">b", data, 8)[0] != _HEADER:
        raise Malformed("the header of a tree is damaged")
    first, _, size, _, total = struct.unpack_from(">IIHHI", data, 24)
    if size < 512 or size & (size - 1) or not 0 < total <= _MAX_NODES:
        raise Malformed("the header of a tree gives sizes that cannot be")
    return Header(size, first, total)


def time_ns(value: int) -> int | None:
    """A time of HFS+ in ns since 1970; None for none."""
    return (value - _EPOCH) * 1_000_000_000 if value else None


def fork_of(data: bytes, at: int) -> Fork:
    """A fork, from 80 bytes."""
    size, _, blocks = struct.unpack_from(">QII", data, at)
    told = struct.unpack_from(">16I", data, at + 16)
    return Fork(size, blocks, tuple((told[n], told[n + 1]) for n in range(0, 16, 2) if told[n + 1]))


def leaves(read: Callable[[int], bytes], header: Header) -> Iterator[bytes]:
    """The leaf nodes of a tree in order; `read` gives a node by its number. A chain that goes round ends."""
    at, seen = header.first_leaf, set[int]()
    while at and at not in seen:
        seen.add(at)
        node = read(at)
        if len(node) < 14 or struct.unpack_from(">b", node, 8)[0] != _LEAF:
            return
        yield node
        at = struct.unpack_from(">I", node)[0]


def is_leaf(node: bytes) -> bool:
    """Whether bytes begin like a leaf node."""
    return len(node) >= 14 and node[8] == 0xFF and node[9] == 1 and node[12:14] == b"\0\0"


def records(node: bytes) -> Iterator[tuple[int, int]]:
    """(start, end) of each record of a node."""
    count = struct.unpack_from(">H", node, 10)[0]
    size = len(node)
    if 14 + 2 * (count + 1) > size:
        return
    offsets = struct.unpack_from(f">{count + 1}H", node, size - 2 * (count + 1))[::-1]
    for start, end in pairwise(offsets):
        if 14 <= start < end <= size:
            yield start, end


def free_space(node: bytes) -> tuple[int, int]:
    """(start, end) of the part of a node that no record has."""
    count = struct.unpack_from(">H", node, 10)[0]
    end = len(node) - 2 * (count + 1)
    if end < 14:
        return 0, 0
    return struct.unpack_from(">H", node, end)[0], end


def catalog_record(data: bytes, *, deleted: bool = False) -> CatalogRecord | None:
    """A file or folder of the catalog; None for threads and what is none."""
    if len(data) < 12:
        return None
    key, parent, length = struct.unpack_from(">HIH", data)
    at = 2 + key + (key & 1)
    if length > 255 or key != 6 + 2 * length or at + 2 > len(data):
        return None
    kind = struct.unpack_from(">H", data, at)[0]
    if kind not in (FOLDER, FILE) or at + (_FILE_BYTES if kind == FILE else _FOLDER_BYTES) > len(data):
        return None
    name = data[8 : 8 + 2 * length].decode("utf-16-be", "surrogatepass")
    ident, created, modified, changed = struct.unpack_from(">IIII", data, at + 8)
    owner_flags, mode, special = data[at + 41], *struct.unpack_from(">HI", data, at + 42)
    fork, packed, link, symlink = Fork(0, 0, ()), False, None, False
    if kind == FILE:
        fork = fork_of(data, at + 88)
        packed = bool(owner_flags & 0x20)
        info = data[at + 48 : at + 56]
        link = special if info == b"hlnkhfs+" else None
        symlink = info == b"slnkrhap" or mode & 0xF000 == 0xA000
    return CatalogRecord(
        parent, name, kind == FOLDER, ident, time_ns(created), time_ns(modified), time_ns(changed), mode & 0o777, fork,
        packed, link, symlink, deleted,
    )  # fmt: skip


def remains(data: bytes, start: int, end: int) -> Iterator[CatalogRecord]:
    """Files that still stand in a part of a node that is not in use."""
    at = start + (start & 1)
    while at + 2 + 6 + 2 + _FILE_BYTES <= end:
        key, parent, length = struct.unpack_from(">HIH", data, at)
        found = None
        if 0 < length <= 255 and key == 6 + 2 * length and parent:
            found = catalog_record(data[at : min(at + 2 + key + _FILE_BYTES, end)], deleted=True)
        if found is not None and found.ident >= 16 and found.name.isprintable():
            yield found
            at += 2 + key + (_FOLDER_BYTES if found.is_folder else _FILE_BYTES)
        else:
            at += 2
