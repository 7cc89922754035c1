"""The file records of an NTFS volume: its table by its own runs, one record after the other, with those that go on for it.

Source: the NTFS documentation of the Linux-NTFS project ($MFT, $MFTMirr, attribute lists).
"""

from __future__ import annotations

import io
import struct
from collections import OrderedDict

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.interface import HOLE, DiskBytes, Extent, ExtentStream
from rustfern.sources.disks.ntfs.attributes import DATA, LIST, REFERENCE, Attribute, attributes, fixed
from rustfern.sources.disks.ntfs.earlier import EARLIER

_MAX_RECORDS = 1 << 28
_MAX_LIST = 1 << 20
_HELD = 512


class Records:
    """The table of a volume: `size` bytes a record, `count` of them, at `runs` (in bytes). `extensions` are the records that go on for others,
    by what they say themselves.
    """

    def __init__(self, volume: DiskBytes, cluster: int, size: int, table_at: int, mirror_at: int) -> None:
        """Places in clusters. Raises `Malformed` and `SourceError`."""
        self.volume, self.cluster, self.size = volume, cluster, size
        self.remark = ""
        self.extensions: dict[int, list[int]] = {}
        self._held: OrderedDict[int, bytes | None] = OrderedDict()
        self.runs = self._own_runs(table_at, mirror_at)
        self.count = min(sum(length for _, length in self.runs) // self.size, _MAX_RECORDS)

    def _own_runs(self, table_at: int, mirror_at: int) -> tuple[Extent, ...]:
        """Where the table lies, by its own first record or the copy of it; in bytes."""
        for place in (table_at, mirror_at):
            record = fixed(self.volume.read_at(place * self.cluster, self.size), b"FILE")
            if record is None:
                continue
            found = [each for each in attributes(record) if each.kind == DATA and not each.name and each.runs]
            if found:
                runs = self.in_bytes(found[0].runs)
                self.runs = runs
                self.count = sum(length for _, length in runs) // self.size
                more = self._pieces(0, record, found[0])
                size = found[0].size
                return cut(self.in_bytes(tuple(run for each in more for run in each.runs)), size)
            self.remark = self.remark or "the first record of its table is damaged; the mirror was used"
        raise Malformed("the first record of its table, and the mirror of it, are damaged")

    def in_bytes(self, runs: tuple[Extent, ...]) -> tuple[Extent, ...]:
        cluster = self.cluster
        return tuple((HOLE if place == HOLE else place * cluster, count * cluster) for place, count in runs)

    def read(self, first: int, count: int) -> bytes:
        """The bytes of records, fewer where the table or the disk ends."""
        stream = ExtentStream(self.volume, self.runs, self.count * self.size)
        stream.seek(first * self.size)
        wanted, pieces = count * self.size, []
        while wanted > 0:
            try:
                piece = stream.read_here(wanted)
            except SourceError:
                if wanted <= self.size:
                    raise
                piece = bytes(min(self.size, wanted))  # that one cannot be read; the others may be
            if not piece:
                break
            stream.seek(len(piece), io.SEEK_CUR)
            pieces.append(piece)
            wanted -= len(piece)
        return b"".join(pieces)

    def one(self, number: int) -> bytes | None:
        """One record, put right; None for one that is damaged or not there."""
        if number in self._held:
            self._held.move_to_end(number)
            return self._held[number]
        if number >= EARLIER:
            return fixed(self.volume.read_at(number - EARLIER, self.size), b"FILE")
        if not 0 <= number < self.count:
            return None
        record = fixed(self.read(number, 1), b"FILE")
        self._held[number] = record
        while len(self._held) > _HELD:
            self._held.popitem(last=False)
        return record

    def attributes_of(self, number: int) -> list[Attribute]:
        """The attributes of a record and of those that go on for it."""
        record = self.one(number)
        if record is None:
            return []
        found = list(attributes(record))
        sequence = struct.unpack_from("<H", record, 16)[0]
        others = self._listed(found, number) | set(self.extensions.get(number, ()))
        for other in sorted(others):
            more = self.one(other)
            if more is None:
                continue
            base = struct.unpack_from("<Q", more, 32)[0]
            if base & REFERENCE == number and same_use(base >> 48, sequence):
                found += attributes(more)
        return found

    def _listed(self, found: list[Attribute], number: int) -> set[int]:
        """The records that an attribute list names besides its own."""
        named: set[int] = set()
        for each in found:
            if each.kind != LIST:
                continue
            data = each.value
            if data is None:
                stream = ExtentStream(self.volume, self.in_bytes(each.runs), min(each.size, _MAX_LIST))
                data = all_of(stream, min(each.size, _MAX_LIST))
            at = 0
            while at + 26 <= len(data):
                length = struct.unpack_from("<H", data, at + 4)[0]
                if length < 26:
                    break
                named.add(struct.unpack_from("<Q", data, at + 16)[0] & REFERENCE)
                at += length
        return named - {number}

    def _pieces(self, number: int, record: bytes, first: Attribute) -> list[Attribute]:
        """All pieces of the unnamed stream, in order."""
        found = [e for e in self.attributes_of(number) if e.kind == DATA and not e.name and e.value is None]
        return sorted(found, key=lambda each: each.first) or [first]


def same_use(told: int, now: int) -> bool:
    """Whether a reference means this use of a record, or the one that ended last."""
    return told in (now, (now - 1) & 0xFFFF)


def cut(extents: tuple[Extent, ...], size: int) -> tuple[Extent, ...]:
    """Extents as far as `size` bytes."""
    found, left = [], size
    for offset, length in extents:
        if left <= 0:
            break
        found.append((offset, min(length, left)))
        left -= length
    return tuple(found)


def all_of(stream: ExtentStream, size: int) -> bytes:
    """The bytes of a stream from its start, as many as there are up to `size`."""
    data = b""
    while len(data) < size and (piece := stream.read_here(size - len(data))):
        data += piece
        stream.seek(len(data))
    return data
