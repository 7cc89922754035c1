"""Property tests of what reading disks rests on: streams, blocks, tables, folders, times."""

from __future__ import annotations

import struct
import uuid
import zlib
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import given
from hypothesis import strategies as some

from rustfern.core.errors import SourceError
from rustfern.sources.disks.containers.blocks import BlockDisk, followed
from rustfern.sources.disks.fat import directory
from rustfern.sources.disks.interface import HOLE, ExtentStream, on_disk, windows
from rustfern.sources.disks.ntfs.packed import PackedStream, unpack
from rustfern.sources.disks.partitions import layout_of
from rustfern.sources.disks.recognise import recognise
from rustfern.sources.disks.source import wall_time


class Bytes:
    """A disk in memory; `holes` and `bad` are stretches of it that were never written, and that cannot be read."""

    sector = 512

    def __init__(self, data: bytes, holes: tuple[tuple[int, int], ...] = (), bad: tuple[int, ...] = ()) -> None:
        self.data, self.size, self._holes, self._bad = data, len(data), holes, bad

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        if any(offset <= at < offset + length for at in self._bad):
            raise SourceError("it cannot be read")
        return self.data[offset : offset + length] if offset >= 0 else b""

    def locate(self, offset: int, length: int) -> list[tuple[int, int]]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        return any(at <= offset and offset + length <= at + count for at, count in self._holes)


DISK = bytes(np.random.default_rng(4).integers(1, 256, 8192, np.uint8))
extents = some.lists(some.tuples(some.sampled_from([HOLE, *range(0, 4096, 64)]), some.integers(1, 700)), max_size=8)
seeks = some.lists(some.tuples(some.integers(0, 6000), some.integers(0, 900)), max_size=12)


@given(extents, some.integers(0, 6000), some.integers(0, 6000), seeks)
def test_a_file_in_pieces_reads_as_one(
    places: list[tuple[int, int]], size: int, valid: int, reads: list[tuple[int, int]]
) -> None:
    there = b"".join(bytes(n) if at == HOLE else DISK[at : at + n] for at, n in places)
    valid = min(valid, size)
    model = there[:valid] if len(there) < valid else there[:valid] + bytes(size - valid)
    with ExtentStream(Bytes(DISK), places, size, valid) as stream:
        assert stream.read() == model
        # Where places are missing in the middle, the file ends there.
        for at, length in reads if len(there) >= valid else []:
            stream.seek(at)
            got = b""
            while len(got) < length and (piece := stream.read(length - len(got))):
                got += piece
            assert got == model[at : at + length]
    told = on_disk(Bytes(DISK), places, size)
    if told is not None:
        assert sum(n for _, n in told) == min(size, len(there))
        assert b"".join(DISK[at : at + n] for at, n in told) == there[:size]


@given(
    some.integers(0, 9000),
    some.integers(0, 9000),
    some.integers(1, 3000),
    some.sets(some.integers(0, 8191), max_size=3),
)
def test_windows_leave_out_holes_and_what_cannot_be_read(start: int, end: int, step: int, bad: set[int]) -> None:
    disk = Bytes(DISK, holes=((1024, 2048),), bad=tuple(bad))
    seen = set[int]()
    for at, raw in windows(disk, start, end, step):
        assert raw == DISK[at : at + len(raw)] and at >= start and at + len(raw) <= end
        assert not any(at <= place < at + len(raw) for place in bad)
        seen.update(range(at, at + len(raw)))
    for first in range(start, min(end, 8192), step):
        last = min(first + step, end)
        if not disk.is_hole(first, last - first) and not any(first <= place < last for place in bad):
            assert seen.issuperset(range(first, min(last, 8192)))


@given(
    some.lists(
        some.one_of(some.none(), some.integers(0, 60), some.binary(min_size=64, max_size=64)), min_size=1, max_size=40
    ),
    some.integers(0, 2600),
    some.integers(0, 2600),
    some.booleans(),
)
def test_blocks_wherever_they_lie_are_one_disk(
    blocks: list[int | bytes | None], at: int, length: int, told: bool
) -> None:
    """The bytes are the same whether or not the container tells which blocks follow each other."""
    places = np.array([(n + 1) * 64 if isinstance(n, int) else 0 for n in blocks], np.int64)
    runs = followed(places, 64)
    for n, count in enumerate(runs):
        assert count >= 1
        assert all(places[n + k] == places[n] + 64 * k for k in range(count)) or count == 1

    def find(number: int) -> int | bytes | None:
        block = blocks[number]
        return (block + 1) * 64 if isinstance(block, int) else block

    model = b"".join(
        bytes(64) if block is None else block if isinstance(block, bytes) else DISK[(block + 1) * 64 : (block + 2) * 64]
        for block in blocks
    )
    size = 64 * len(blocks) - 7
    disk = BlockDisk(size, 64, find, Bytes(DISK).read_at, (lambda number: runs[number]) if told else None)
    assert disk.read_at(at, length) == model[:size][at : at + length]
    if length > 0 and at + length <= size and disk.is_hole(at, length):
        assert not any(model[at : at + length])


def packed_unit(data: bytes) -> bytes:
    """LZNT1 by its simplest form: each 4 KiB as flagged literals ([MS-XCA] 2.5)."""
    out = b""
    for start in range(0, len(data), 4096):
        chunk = data[start : start + 4096]
        body = b"".join(b"\0" + chunk[at : at + 8] for at in range(0, len(chunk), 8))
        out += struct.pack("<H", 0xB000 | len(body) - 1) + body
    return out


@given(some.binary(min_size=1, max_size=9000), some.lists(some.integers(0, 9000), max_size=6))
def test_packed_bytes_come_back_from_any_place(data: bytes, places: list[int]) -> None:
    # Chunks that literals make larger than they are cannot be written packed: three quarters of a chunk's room at most.
    data = data[:3500]
    raw = packed_unit(data)
    assert unpack(raw, len(data)) == data
    held = raw.ljust(-(-len(raw) // 512) * 512, b"\0")
    unit = 65_536
    with PackedStream(Bytes(held), ((0, len(held)), (HOLE, unit - len(held))), len(data), len(data), unit) as stream:
        for at in places:
            stream.seek(at)
            assert stream.read() == data[at:]


names = some.text(
    some.characters(codec="utf-16-le", exclude_characters='\0"*/:<>?\\|\uffff', exclude_categories=("Cs", "Cc")),
    min_size=1, max_size=120,
).filter(lambda name: len(name.encode("utf-16-le")) <= 510)  # fmt: skip


@given(names, some.integers(2, 1 << 27), some.integers(0, 1 << 31), some.booleans())
def test_entries_of_a_fat_folder_come_back(name: str, first: int, size: int, deleted: bool) -> None:
    short = b"BERTH~1 TXT"
    units = name.encode("utf-16-le")
    room = -(-len(units) // 26) * 26
    units = (units if len(units) == room else units + b"\0\0").ljust(room, b"\xff")
    mark = directory.checksum(short)
    slots = []
    for number in range(room // 26):
        piece = units[26 * number : 26 * number + 26]
        order = number + 1 | (0x40 if number == room // 26 - 1 else 0)
        slots.append(bytes([order]) + piece[:10] + b"\x0f\0" + bytes([mark]) + piece[10:22] + b"\0\0" + piece[22:])
    date = (2026 - 1980) << 9 | 11 << 5 | 29
    own = short + struct.pack(
        "<BBBHHHHHHHI", 0x20, 0, 0, 0, date, date, first >> 16, 8 << 11, date, first & 0xFFFF, size
    )
    data = b"".join([*reversed(slots), own])
    if deleted:
        data = b"".join(b"\xe5" + data[at + 1 : at + 32] for at in range(0, len(data), 32))
    found = list(directory.entries(data + bytes(32)))
    assert len(found) == 1
    entry = found[0]
    assert (entry.name, entry.size, entry.deleted) == (name, size, deleted)
    assert entry.high << 16 | entry.first & 0xFFFF == first
    assert entry.modified == round(datetime(2026, 11, 29, 8, tzinfo=UTC).timestamp()) * 1_000_000_000


def guid_table(parts: list[tuple[int, int]], sectors: int, *, copy: bool) -> tuple[bytes, bytes]:
    """(header, entries) of a GUID partition table of 128 entries (UEFI specification, section 5.3)."""
    entries = b"".join(
        uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4").bytes_le
        + bytes([n]) * 16
        + struct.pack("<QQ", start, end)
        + bytes(80)
        for n, (start, end) in enumerate(parts)
    ).ljust(128 * 128, b"\0")
    own, other = (sectors - 1, 1) if copy else (1, sectors - 1)
    at = sectors - 33 if copy else 2
    tail = struct.pack("<QQQQ16sQIII", own, other, 34, sectors - 34, bytes(16), at, 128, 128, zlib.crc32(entries))
    head = b"EFI PART" + struct.pack("<II", 0x10000, 92)
    check = zlib.crc32(head + bytes(4) + bytes(4) + tail)
    return (head + struct.pack("<II", check, 0) + tail).ljust(512, b"\0"), entries


@given(
    some.lists(some.integers(40, 900), min_size=2, max_size=12, unique=True),
    some.sampled_from(["none", "first", "copy"]),
)
def test_a_guid_table_or_its_copy_tells_the_volumes(cuts: list[int], damage: str) -> None:
    cuts.sort()
    parts = [(a, b - 1) for a, b in zip(cuts[::2], cuts[1::2], strict=False)]
    disk = bytearray(1024 * 512)
    for copy in (False, True):
        head, entries = guid_table(parts, 1024, copy=copy)
        at = 1023 * 512 if copy else 512
        disk[at : at + 512] = head
        at = 991 * 512 if copy else 1024
        disk[at : at + len(entries)] = entries
    if damage != "none":
        disk[512 if damage == "first" else 1023 * 512] ^= 1
    found = layout_of(Bytes(bytes(disk)))
    assert found.table == "gpt"
    assert [(part.offset, part.size) for part in found.partitions] == [(a * 512, (b - a + 1) * 512) for a, b in parts]
    assert bool(found.remarks) == (damage == "first")


@given(
    some.binary(max_size=3000),
    some.sampled_from([0, 510, 1024, 4096]),
    some.sampled_from([b"", b"\x55\xaa", b"NTFS    ", b"H+\0\4"]),
)
def test_any_bytes_are_recognised_or_not(data: bytes, at: int, mark: bytes) -> None:
    disk = bytearray(70_000)
    disk[: len(data)] = data
    disk[at : at + len(mark)] = mark
    found = recognise(Bytes(bytes(disk)))
    assert found is None or found.size >= 0
    assert layout_of(Bytes(bytes(disk))).table in ("none", "mbr")


@given(
    some.datetimes(datetime(1980, 1, 1), datetime(2107, 1, 1)),
    some.sampled_from(["UTC", "Asia/Kolkata", "Europe/Lisbon", "America/Lima"]),
)
def test_times_of_the_wall_are_of_the_zone_of_the_disk(told: datetime, zone: str) -> None:
    there = ZoneInfo(zone)
    stamp = round(told.replace(tzinfo=UTC, microsecond=0).timestamp()) * 1_000_000_000
    found = wall_time(stamp, there, local=True)
    assert found is not None and wall_time(stamp, there, local=False) == stamp
    assert datetime.fromtimestamp(found // 1_000_000_000, there).utcoffset() == there.utcoffset(
        datetime.fromtimestamp(found // 1_000_000_000, there).replace(tzinfo=None)
    )
    shown = datetime.fromtimestamp(found // 1_000_000_000, there).replace(tzinfo=None)
    # An hour that the clock skips in spring does not exist there.
    assert abs((shown - told.replace(microsecond=0)).total_seconds()) in (0, 3600)
