"""The attributes of one NTFS file record, and the runs that say where bytes lie.

Source: the NTFS documentation of the Linux-NTFS project and [MS-FSCC] 2.1.2 (reparse tags), 2.6 (file attributes).
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

import msgspec
import numpy as np

from rustfern.core.errors import Malformed
from rustfern.sources.disks.interface import HOLE, Extent

STANDARD, LIST, FILE_NAME, DATA, INDEX_ROOT, INDEX_BLOCKS, REPARSE = 0x10, 0x20, 0x30, 0x80, 0x90, 0xA0, 0xC0
COMPRESSED, ENCRYPTED = 0x0001, 0x4000
DOS_NAME = 2
REFERENCE = (1 << 48) - 1
"""The part of a file reference that is the number of the record; the rest counts how often it was used."""
MAX_RUNS = 1 << 20
_EPOCH = 116_444_736_000_000_000
"""100 ns steps from 1601 to 1970."""


class Attribute(msgspec.Struct, frozen=True):
    """One attribute, or a piece of it: `value` where it lies in the record, else `runs` in clusters from `first` on; sizes in bytes."""

    kind: int
    name: str
    flags: int
    value: bytes | None
    first: int = 0
    runs: tuple[Extent, ...] = ()
    allocated: int = 0
    size: int = 0
    valid: int = 0
    unit: int = 0


class FileName(msgspec.Struct, frozen=True):
    """A name as an NTFS record or index gives it; `parent` is the whole reference of its folder, times in ns since 1970."""

    parent: int
    name: str
    space: int
    size: int
    modified: int | None


def time_ns(value: int) -> int | None:
    """A time of NTFS in ns since 1970; None for one that is not set or cannot be."""
    return (value - _EPOCH) * 100 if 0 < value < 1 << 62 else None


def fixed(record: bytes, mark: bytes) -> bytes | None:
    """A record or index block with its sectors' last two bytes put back; None if it is none or is torn."""
    if record[:4] != mark or len(record) < 48:
        return None
    at, count = struct.unpack_from("<HH", record, 4)
    if count < 2 or at + 2 * count > len(record) or (count - 1) * 512 > len(record):
        return None
    number = record[at : at + 2]
    held = bytearray(record)
    for sector in range(1, count):
        end = sector * 512
        if held[end - 2 : end] != number:
            return None
        held[end - 2 : end] = record[at + 2 * sector : at + 2 * sector + 2]
    return bytes(held)


def attributes(record: bytes) -> Iterator[Attribute]:
    """The attributes of a record that was put right, as far as they go."""
    at = struct.unpack_from("<H", record, 20)[0]
    while at + 24 <= len(record):
        kind, length = struct.unpack_from("<II", record, at)
        if kind == 0xFFFFFFFF or length < 24 or at + length > len(record):
            return
        try:
            yield _attribute(record[at : at + length], kind)
        except (struct.error, Malformed):
            return
        at += length


def _attribute(data: bytes, kind: int) -> Attribute:
    outside, name_size, name_at, flags = data[8], data[9], *struct.unpack_from("<HH", data, 10)
    name = data[name_at : name_at + 2 * name_size].decode("utf-16-le", "replace")
    if not outside:
        size, at = struct.unpack_from("<IH", data, 16)
        if at + size > len(data):
            raise Malformed("a value longer than its attribute")
        return Attribute(kind, name, flags, data[at : at + size], size=size, valid=size)
    first, _, runs_at, unit = struct.unpack_from("<QQHH", data, 16)
    allocated, size, valid = struct.unpack_from("<QQQ", data, 40) if len(data) >= 64 else (0, 0, 0)
    return Attribute(kind, name, flags, None, first, tuple(parse_runs(data[runs_at:])), allocated, size, valid, unit)


def parse_runs(data: bytes) -> list[Extent]:
    """Runs of clusters: (first cluster or `HOLE`, count). Raises `Malformed`."""
    runs: list[Extent] = []
    at = place = 0
    while at < len(data) and data[at]:
        sizes = data[at]
        count_size, place_size = sizes & 15, sizes >> 4
        end = at + 1 + count_size + place_size
        if not 0 < count_size <= 8 or place_size > 8 or end > len(data):
            raise Malformed("a run that cannot be", at)
        count = int.from_bytes(data[at + 1 : at + 1 + count_size], "little")
        if count <= 0 or count >= 1 << 48:
            raise Malformed("a run of a length that cannot be", at)
        if place_size:
            place += int.from_bytes(data[at + 1 + count_size : end], "little", signed=True)
            if not 0 <= place < 1 << 48:
                raise Malformed("a run at a place that cannot be", at)
            runs.append((place, count))
        else:
            runs.append((HOLE, count))
        if len(runs) > MAX_RUNS:
            raise Malformed("too many runs")
        at = end
    return runs


def file_name(value: bytes) -> FileName | None:
    """A name, from the value of its attribute or an index entry; None for what is none."""
    if len(value) < 66:
        return None
    parent, _, modified = struct.unpack_from("<QQQ", value, 0)
    size = struct.unpack_from("<Q", value, 48)[0]
    length, space = value[64], value[65]
    raw = value[66 : 66 + 2 * length]
    if not length or len(raw) < 2 * length or space > 3:
        return None
    return FileName(parent, raw.decode("utf-16-le", "surrogatepass"), space, size, time_ns(modified))


def names_in_slack(block: bytes, start: int, wanted: Callable[[int], bool] = bool) -> Iterator[tuple[int, FileName]]:
    """(reference of the record, name) of entries that remain in the unused part of an index, from `start` on; `wanted` tells by its reference
    which are looked at.
    """
    start = -(-start // 8) * 8
    count = (len(block) - start - 16 - 66) // 8
    if count <= 0:
        return
    words = np.frombuffer(block, "<u2", (len(block) - start) // 2, start)
    lengths, keys = words[4 : 4 * count + 4 : 4], words[5 : 4 * count + 5 : 4]
    letters = np.frombuffer(block, np.uint8, 8 * count, start + 16 + 64)[::8].astype(np.int64)
    likely = (letters > 0) & (2 * letters + 66 == keys) & (lengths >= keys + 16)
    for at in (np.flatnonzero(likely) * 8 + start).tolist():
        reference, _, key = struct.unpack_from("<QHH", block, at)
        found = _plausible(block[at + 16 : at + 16 + 66 + 512], key) if wanted(reference) else None
        if found is not None:
            yield reference, found


def _plausible(value: bytes, key: int) -> FileName | None:
    if value[64] * 2 + 66 != key or value[65] > 3:
        return None
    try:
        found = file_name(value)
    except UnicodeDecodeError:
        return None
    if found is None or found.modified is None or not found.name.isprintable():
        return None
    return found
