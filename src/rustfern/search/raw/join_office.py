"""What packages, compound files and pages need next where one breaks off.

Source: APPNOTE 4.3.12 and 4.3.16 (the directory gives the place, name and sum of each member), [MS-CFB] 2.2, 2.3 and 2.6, ISO 32000-1, 7.5.4 and 7.5.5.
"""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

from rustfern.search.raw.join_ways import MAX_MEMBERS, MAX_STEPS, Cuts

if TYPE_CHECKING:
    from rustfern.search.raw.fragments import Trial

# --- packages ---------------------------------------------------------------------------------------------------------


class Member:
    """A member as the directory tells of it."""

    __slots__ = ("at", "crc", "method", "name", "packed", "size")

    def __init__(self, row: bytes, name: bytes) -> None:
        self.method = int.from_bytes(row[10:12], "little")
        self.crc, self.packed, self.size = struct.unpack_from("<III", row, 16)
        self.at = int.from_bytes(row[42:46], "little")
        self.name = name


def package(trial: Trial) -> Iterator[Cuts]:
    """By a directory near by whose first member is this one: each member's place, name and sum are told."""
    near = trial.near
    head = trial.own(0, 30)
    name = trial.own(30, int.from_bytes(head[26:28], "little"))
    for end in near.found(b"PK\x05\x06"):
        row = near.at(end, 22)
        if len(row) < 22:
            continue
        length, offset = struct.unpack_from("<II", row, 12)
        size = offset + length + 22 + int.from_bytes(row[20:22], "little")
        directory = near.at(end - length, length)
        shift = end - length - offset - trial.start
        if shift % trial.cluster:
            continue
        if trial.own(offset, 4) == b"PK\x01\x02" and trial.fits(shift):
            # It breaks in its directory.
            yield from (([(place, shift)], size) for place in trial.boundaries(offset, offset + length + 22))
        if len(directory) < length or directory[:4] != b"PK\x01\x02":
            continue
        members = directory_of(directory)
        if not members or members[0].at or members[0].name != name:
            continue
        yield from _laid(trial, members, shift, size, offset)
        if trial.is_over:
            return


def directory_of(data: bytes) -> list[Member]:
    at, found = 0, list[Member]()
    while data[at : at + 4] == b"PK\x01\x02" and len(found) < MAX_MEMBERS:
        name, extra, comment = struct.unpack_from("<3H", data, at + 28)
        found.append(Member(data[at : at + 46], data[at + 46 : at + 46 + name]))
        at += 46 + name + extra + comment
    return sorted(found, key=lambda each: each.at)


def _laid(trial: Trial, members: list[Member], last: int, size: int, directory: int) -> Iterator[Cuts]:
    """Follow the members: where one is not where it should be, another shift begins inside of the one before it."""
    cuts: list[tuple[int, int]] = []
    shift = 0
    for number, member in enumerate([*members, None]):
        at = member.at if member else directory
        if member is not None and _is_at(trial, member, shift):
            continue
        if member is None and shift == last:
            break
        following = last if member is None or _is_at(trial, member, last) else _sought(trial, member)
        if following is None:
            return
        before = members[number - 1]
        place = _broken_at(trial, before, at, shift, following)
        if place is None:
            return
        cuts.append((place, following))
        shift = following
    if shift != last:
        return
    yield cuts, size


def _is_at(trial: Trial, member: Member, shift: int) -> bool:
    head = trial.shifted(member.at, 30 + len(member.name), shift)
    return head[:4] == b"PK\x03\x04" and head[30:] == member.name


def _sought(trial: Trial, member: Member) -> int | None:
    """The shift with which the header of a member is found."""
    for place in trial.near.found(b"PK\x03\x04"):
        shift = place - trial.start - member.at
        if trial.fits(shift) and trial.near.at(place + 30, len(member.name)) == member.name:
            return shift
    return None


def _broken_at(trial: Trial, member: Member, end: int, before: int, after: int) -> int | None:
    """At which cluster's end a member goes over from one shift to another, told by its sum."""
    head = trial.shifted(member.at, 30, before)
    if len(head) < 30:
        return None
    body = member.at + 30 + int.from_bytes(head[26:28], "little") + int.from_bytes(head[28:30], "little")
    places = trial.boundaries(member.at, end)
    if len(places) == 1:
        return places[0]
    for place in places:
        if place <= body or place >= body + member.packed:
            # It breaks in a header, or behind the member: the sum is that of one shift alone.
            shift = after if place <= body else before
            data = trial.shifted(body, member.packed, shift)
        else:
            data = trial.shifted(body, place - body, before) + trial.shifted(place, body + member.packed - place, after)
        if _sums(member, data):
            return place
        if trial.is_over:
            return None
    return None


def _sums(member: Member, data: bytes) -> bool:
    if len(data) < member.packed:
        return False
    if member.method == 0:
        return zlib.crc32(data) == int(member.crc)
    if member.method != 8:
        return False
    inflate = zlib.decompressobj(-15)
    found: int = 0
    try:
        out = inflate.decompress(data, 1 << 20)
        while out:
            found = zlib.crc32(out, found)
            out = inflate.decompress(inflate.unconsumed_tail, 1 << 20)
    except zlib.error:
        return False
    return bool(inflate.eof and found == member.crc)


# --- compound files ---------------------------------------------------------------------------------------------------


def compound(trial: Trial) -> Iterator[Cuts]:
    """By the table of sectors, or the directory: their places are told, and what they look like."""
    head = trial.own(0, 512)
    sector = 1 << int.from_bytes(head[30:32], "little")
    tables = [n for n in struct.unpack_from("<109I", head, 76) if n < 0xFFFFFFFC][
        : int.from_bytes(head[44:48], "little")
    ]
    directory = (int.from_bytes(head[48:52], "little") + 1) * sector
    if not tables:
        return
    for shift in trial.shifts(directory, _is_directory):
        size = _size_of(trial, tables, sector, shift)
        yield from (([(place, shift)], size) for place in trial.boundaries(512, directory) if size)
    place_of_table = (tables[0] + 1) * sector

    def is_table(data: bytes) -> bool:
        entry = data[4 * (tables[0] % (sector // 4)) :][:4]
        return entry == b"\xfd\xff\xff\xff" and _is_table(data, 1 << 20)

    for shift in trial.shifts(place_of_table, is_table, sector):
        size = _size_of(trial, tables, sector, shift)
        for place in trial.boundaries(512, max(place_of_table, directory)):
            if size:
                yield [(place, shift)], size


def _is_directory(data: bytes) -> bool:
    return data[:8] == b"R\0o\0o\0t\0" and data[66:67] == b"\x05"


def _is_table(data: bytes, most: int) -> bool:
    return all(number < most or number >= 0xFFFFFFFC for number in struct.unpack(f"<{len(data) // 4}I", data))


def _size_of(trial: Trial, tables: list[int], sector: int, shift: int) -> int:
    """The size that the table gives, wherever its sectors are found; 0 if they are not."""
    last = 0
    for n, number in enumerate(tables):
        at = (number + 1) * sector
        data = trial.own(at, sector)
        mark = 4 * (number % (sector // 4)) if number // (sector // 4) == n else None
        if (
            len(data) < sector
            or (mark is not None and data[mark : mark + 4] != b"\xfd\xff\xff\xff")
            or not _is_table(data, 1 << 24)
        ):
            data = trial.shifted(at, sector, shift)
        if len(data) < sector:
            return 0
        used = [i for i, value in enumerate(struct.unpack(f"<{sector // 4}I", data)) if value != 0xFFFFFFFF]
        last = max(last, n * (sector // 4) + used[-1]) if used else last
    return (last + 2) * sector


# --- pages ------------------------------------------------------------------------------------------------------------

_STARTED = re.compile(rb"startxref\s+(\d{1,12})\s+%%EOF")
_ENTRY = re.compile(rb"(\d{10}) (\d{5}) n")
_OBJECT = re.compile(rb"\s*\d+\s+\d+\s+obj\b")


def pages(trial: Trial) -> Iterator[Cuts]:
    """By an end near by: it tells where the table of objects begins, and the table where each object does."""
    for place in trial.near.found(b"startxref"):
        told = _STARTED.match(trial.near.at(place, 64))
        if told is None or int(told[1]) == 0:
            continue
        table = int(told[1])
        rest = (trial.start + table) % trial.cluster
        for shift in _table_shifts(trial, table, place, rest):
            size = place + told.end() - trial.start - shift
            size += _line_end(trial.near.at(place + told.end(), 2))
            objects = [int(entry[1]) for entry in _ENTRY.finditer(trial.shifted(table, size - table, shift))]
            low = max((at for at in objects if _OBJECT.match(trial.own(at, 32))), default=0)
            later = [at for at in objects if at > low and _OBJECT.match(trial.shifted(at, 32, shift))]
            yield from (([(cut, shift)], size) for cut in trial.boundaries(low, min(later, default=table)))
            if trial.is_over:
                return


def _line_end(data: bytes) -> int:
    return 2 if data == b"\r\n" else 1 if data[:1] in (b"\r", b"\n") and data else 0


def _table_shifts(trial: Trial, table: int, end: int, rest: int) -> Iterator[int]:
    begin = max(end - (1 << 20), 0)
    data = trial.near.at(begin, end - begin)
    if len(data) < end - begin:
        start = next((at for at, part in trial.near.parts if at <= end < at + len(part)), end)
        begin, data = start, trial.near.at(start, end - start)
    at = len(data)
    for _ in range(MAX_STEPS):
        at = max(data.rfind(b"xref", 0, at), data.rfind(b" obj", 0, at))
        if at < 0:
            return
        here = at if data[at : at + 4] == b"xref" else data.rfind(b"\n", 0, at) + 1
        shift = begin + here - trial.start - table
        if (begin + here) % trial.cluster == rest and trial.fits(shift):
            yield shift
