"""The layout of an ext volume: superblock or a copy of it, group descriptors, where inodes lie.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms" (super block, block group descriptors, meta block groups).
"""

from __future__ import annotations

import struct

import msgspec

from rustfern.core.errors import Malformed
from rustfern.sources.disks.interface import DiskBytes
from rustfern.sources.disks.recognise import ext_of

_META_GROUPS, _64BIT, _RECOVER, _TYPED = 0x10, 0x80, 0x4, 0x2
_HAS_JOURNAL, _SPARSE, _BIG_ALLOC = 0x4, 0x1, 0x200
_MAX_GROUPS = 1 << 22


class Group(msgspec.Struct, frozen=True):
    """Where a group's maps and inodes lie, in blocks; how many inodes at its end were never used."""

    block_map: int
    inode_map: int
    inodes: int
    flags: int
    unused: int


class Geometry(msgspec.Struct):
    """How an ext volume is laid out."""

    type: str
    block: int
    blocks: int
    first: int
    per_group: int
    inodes_per_group: int
    inodes: int
    inode_size: int
    typed: bool
    needs_replay: bool
    journal: int
    last_orphan: int
    label: str
    groups: list[Group]
    cluster: int
    remark: str = ""


def _backups(volume: DiskBytes) -> list[tuple[int, bytes]]:
    found = []
    for place in (1024, 8193 * 1024, 16384 * 2048, 32768 * 4096, 24577 * 1024, 3 * 32768 * 4096):
        data = volume.read_at(place, 1024)
        if len(data) == 1024 and ext_of(data) is not None:
            found.append((place, data))
    return found


def geometry_of(volume: DiskBytes) -> Geometry:
    """The layout of a volume. Raises `Malformed` and `SourceError`."""
    copies = _backups(volume)
    if not copies:
        raise Malformed("its superblock and the copies of it are damaged")
    for place, data in copies:
        try:
            made = _parsed(volume, data)
        except (Malformed, struct.error):
            continue
        if place != 1024:
            made.remark = "its superblock is damaged; a copy of it was used"
        return made
    raise Malformed("its group descriptors are damaged")


def _parsed(volume: DiskBytes, sb: bytes) -> Geometry:
    known = ext_of(sb)
    assert known is not None
    inodes, blocks = struct.unpack_from("<II", sb, 0)
    first, shift, cluster_shift, per_group, _, inodes_per_group = struct.unpack_from("<IIIIII", sb, 20)
    revision = struct.unpack_from("<I", sb, 76)[0]
    inode_size = struct.unpack_from("<H", sb, 88)[0] if revision else 128
    compatible, incompatible, read_only = struct.unpack_from("<III", sb, 92)
    if incompatible & _64BIT:
        blocks |= struct.unpack_from("<I", sb, 0x150)[0] << 32
    block = 1024 << shift
    size = max(struct.unpack_from("<H", sb, 254)[0], 32) if incompatible & _64BIT else 32
    if inode_size < 128 or inode_size > block or inode_size & (inode_size - 1) or not inodes_per_group or size > 1024:
        raise Malformed("its superblock gives sizes that cannot be")
    count = -(-(blocks - first) // per_group)
    if (
        not 0 < count <= _MAX_GROUPS
        or inodes > count * inodes_per_group
        or blocks * block > 4 * volume.size + (1 << 30)
    ):
        raise Malformed("its superblock gives numbers that cannot be")
    made = Geometry(
        known.type, block, blocks, first, per_group, inodes_per_group, inodes, inode_size, bool(incompatible & _TYPED),
        bool(incompatible & _RECOVER), struct.unpack_from("<I", sb, 0xE0)[0] if compatible & _HAS_JOURNAL else 0,
        struct.unpack_from("<I", sb, 0xE8)[0], sb[120:136].split(b"\0")[0].decode("utf-8", "replace"), [],
        block << (cluster_shift - shift if read_only & _BIG_ALLOC else 0),
    )  # fmt: skip
    each = block // size
    old = struct.unpack_from("<I", sb, 0x104)[0] if incompatible & _META_GROUPS else count
    sparse = bool(read_only & _SPARSE)
    for number in range(0, count, each):
        if number // each < old:
            at = first + 1 + number // each
        else:
            at = first + number * per_group + (1 if _has_super(number, sparse=sparse) else 0)
        data = volume.read_at(at * block, block)
        made.groups += [_group(data[n * size : (n + 1) * size], size) for n in range(min(each, count - number))]
    wrong = sum(not 0 < group.inodes < blocks for group in made.groups)
    if wrong > len(made.groups) // 8:
        _from_backup(volume, made, size, wrong)
    return made


def _from_backup(volume: DiskBytes, made: Geometry, size: int, wrong: int) -> None:
    """Group descriptors from the copy in the second group."""
    at = (made.first + made.per_group + 1) * made.block
    data = volume.read_at(at, len(made.groups) * size)
    groups = [_group(data[n * size : (n + 1) * size], size) for n in range(len(data) // size)]
    if len(groups) < len(made.groups) or sum(not 0 < group.inodes < made.blocks for group in groups) >= wrong:
        raise Malformed("its group descriptors are damaged")
    made.groups = groups
    made.remark = "its group descriptors are damaged; a copy of them was used"


def _has_super(group: int, *, sparse: bool) -> bool:
    if not sparse or group < 2:
        return True
    for base in (3, 5, 7):
        power = base
        while power < group:
            power *= base
        if power == group:
            return True
    return False


def _group(data: bytes, size: int) -> Group:
    if len(data) < 32:
        return Group(0, 0, 0, 0, 0)
    block_map, inode_map, inodes, _, _, _, flags, unused = struct.unpack_from("<IIIHHHH8xH", data)[:8]
    unused = struct.unpack_from("<H", data, 28)[0]
    if size >= 64 and len(data) >= 64:
        highs = struct.unpack_from("<III", data, 32)
        block_map, inode_map, inodes = (
            low | high << 32 for low, high in zip((block_map, inode_map, inodes), highs, strict=True)
        )
        unused |= struct.unpack_from("<H", data, 50)[0] << 16
    return Group(block_map, inode_map, inodes, flags, unused)
