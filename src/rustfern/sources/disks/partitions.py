"""Tables of volumes: MBR with logical partitions, GPT, none; where the table is damaged, volumes by their own marks.

Sources: UEFI specification 2.10, 5.2 (MBR) and 5.3 (GPT); extended partitions as chained boot records (same layout).
"""

from __future__ import annotations

import struct
import uuid
import zlib

import msgspec
from msgspec.structs import replace

from rustfern.core.errors import SourceError
from rustfern.sources.disks.interface import DiskBytes, Window
from rustfern.sources.disks.marks import volumes_by_marks
from rustfern.sources.disks.recognise import recognise

_BEFORE = "a mark of {kind}, which may once have had the whole disk, stands before the first partition; the table was followed"
_MARK = b"\x55\xaa"
_EXTENDED = frozenset({0x05, 0x0F, 0x85})
_PROTECTIVE = 0xEE
LVM_TYPES = frozenset({"8e", "e6d6d379-f507-44c2-a23c-238f2a3df928"})
_MAX_LOGICAL, _MAX_ENTRIES = 128, 1024


class Partition(msgspec.Struct, frozen=True):
    """One volume's place on a disk: `offset` and `size` in bytes, `kind` as the table has it (hexadecimal byte, or GUID), `ident`
    what systems know it by: the disk's signature and the offset, or the partition's GUID.
    """

    name: str
    offset: int
    size: int
    kind: str = ""
    ident: bytes = b""


class Layout(msgspec.Struct, frozen=True):
    """How a disk is laid out: `table` is `gpt`, `mbr` or `none`; `remarks` say what is wrong with it."""

    table: str
    partitions: tuple[Partition, ...]
    remarks: tuple[str, ...] = ()


def _sane(found: list[Partition], disk: DiskBytes) -> list[Partition]:
    return [part for part in found if 0 < part.offset < disk.size and part.size > 0]


def _signed(found: list[Partition], record: bytes) -> list[Partition]:
    """Partitions with the signature of their disk, which stands in its boot record."""
    return [replace(part, ident=record[440:444] + struct.pack("<Q", part.offset)) for part in found]


def _gpt_at(disk: DiskBytes, at: int, sector: int) -> list[Partition] | None:
    """The partitions of one header whose sums fit, else None."""
    head = disk.read_at(at, sector)
    if not head.startswith(b"EFI PART") or len(head) < 92:
        return None
    length, stored = struct.unpack_from("<II", head, 12)
    first, count, size, stored_table = struct.unpack_from("<QIII", head, 72)
    if not 92 <= length <= sector or zlib.crc32(head[:16] + bytes(4) + head[20:length]) != stored:
        return None
    if size < 128 or size > 4096 or not 0 < count <= _MAX_ENTRIES:
        return None
    table = disk.read_at(first * sector, count * size)
    if len(table) < count * size or zlib.crc32(table) != stored_table:
        return None
    found = []
    for number in range(count):
        entry = table[number * size : (number + 1) * size]
        kind, start, end = entry[:16], *struct.unpack_from("<QQ", entry, 32)
        if any(kind) and start <= end:
            guid = str(uuid.UUID(bytes_le=kind))
            own = b"DMIO:ID:" + entry[16:32]
            found.append(Partition(f"p{number + 1}", start * sector, (end - start + 1) * sector, guid, own))
    return found


def _gpt(disk: DiskBytes) -> tuple[list[Partition], list[str]] | None:
    for sector in dict.fromkeys((disk.sector, 512, 4096)):
        found = _gpt_at(disk, sector, sector)
        if found is not None:
            return found, []
    for sector in dict.fromkeys((disk.sector, 512, 4096)):
        found = _gpt_at(disk, disk.size // sector * sector - sector, sector)
        if found is not None:
            return found, ["the table of this disk is damaged; its copy at the end was used"]
    return None


def _mbr_entries(sector: bytes) -> list[tuple[int, int, int]]:
    """(kind, start, count) of the four entries of a boot record, in sectors."""
    return [
        (sector[at + 4], *struct.unpack_from("<II", sector, at + 8)) for at in range(446, 510, 16)
    ]  # fmt: skip


def _logical(disk: DiskBytes, start: int, sector: int, remarks: list[str]) -> list[Partition]:
    """The chain of an extended partition: each record names one volume, and the next record."""
    found: list[Partition] = []
    at, seen = start, set[int]()
    while at not in seen and len(found) < _MAX_LOGICAL:
        seen.add(at)
        record = disk.read_at(at * sector, 512)
        if record[510:] != _MARK:
            remarks.append(f"the chain of logical partitions breaks at byte {at * sector}")
            break
        following = 0
        for kind, first, count in _mbr_entries(record)[:2]:
            if kind in _EXTENDED:
                following = following or start + first
            elif kind and count:
                name = f"p{5 + len(found)}"
                found.append(Partition(name, (at + first) * sector, count * sector, f"{kind:02x}"))
        if not following:
            break
        at = following
    return found


def _mbr(disk: DiskBytes) -> tuple[list[Partition], list[str]] | None:
    record = disk.read_at(0, 512)
    if record[510:512] != _MARK:
        return None
    entries = _mbr_entries(record)
    if any(record[at] not in (0, 0x80) for at in range(446, 510, 16)) or not any(kind for kind, _, _ in entries):
        return None
    if any(kind and (not first or not count or first * 512 >= disk.size) for kind, first, count in entries):
        return None
    best: tuple[int, list[Partition], list[str]] = (-1, [], [])
    for sector in dict.fromkeys((disk.sector, 512, 4096)):
        remarks: list[str] = []
        found: list[Partition] = []
        for number, (kind, first, count) in enumerate(entries, 1):
            if kind in _EXTENDED:
                found += _logical(disk, first, sector, remarks)
            elif kind and kind != _PROTECTIVE:
                found.append(Partition(f"p{number}", first * sector, count * sector, f"{kind:02x}"))
        known = sum(recognise(Window(disk, part.offset, part.size)) is not None for part in found)
        if known > best[0]:
            best = known, found, remarks
    return _signed(best[1], record), best[2]


def has_table(disk: DiskBytes) -> bool:
    """Whether a disk has a table of volumes that fits it."""
    if _gpt_at(disk, disk.sector, disk.sector) is not None:
        return True
    found = _mbr(disk)
    return found is not None and bool(_sane(found[0], disk))


def _leads_to_volumes(table: list[Partition], disk: DiskBytes) -> bool:
    """Whether something is known to lie where a table says. It then counts more than the mark of a volume that once had the whole disk, which
    can outlast in the gap before the first partition.
    """
    for part in _sane(table, disk):
        try:
            if part.offset and recognise(Window(disk, part.offset, part.size)) is not None:
                return True
        except SourceError:
            continue
    return False


def layout_of(disk: DiskBytes) -> Layout:
    """How a disk is laid out. Raises `SourceError` for what cannot be read."""
    whole = recognise(Window(disk, 0, disk.size))
    gpt = _gpt(disk)
    before = [] if whole is None or whole.backup else [_BEFORE.format(kind=whole.type)]
    # What takes the whole disk writes over the first table, but not over its copy at the end.
    if gpt is not None and whole is not None and whole.sure:
        gpt = (gpt[0], before) if not gpt[1] and _leads_to_volumes(gpt[0], disk) else None
    if gpt is not None:
        return Layout("gpt", tuple(_sane(gpt[0], disk)), tuple(gpt[1]))
    mbr = _mbr(disk)
    if mbr is not None and _sane(mbr[0], disk) and (whole is None or _leads_to_volumes(mbr[0], disk)):
        return Layout("mbr", tuple(_sane(mbr[0], disk)), (*mbr[1], *before))
    if whole is not None:
        return Layout("none", (Partition("p1", 0, disk.size),))
    found = [Partition(f"p{number}", at, size) for number, (at, size) in enumerate(volumes_by_marks(disk), 1)]
    if found:
        what = "the table of this disk is missing or damaged; volumes were found by their own marks"
        return Layout("none", tuple(found), (what,))
    return Layout("none", (Partition("p1", 0, disk.size),))
