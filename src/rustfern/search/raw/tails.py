"""Documents whose beginning is gone: told by their end, which says where they began.

Source: APPNOTE 6.3.10, 4.3.12 and 4.3.16 (the end record gives the size and place of the directory); ISO 32000-1, 7.5.5 (`startxref`).
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from rustfern.core.errors import SourceError
from rustfern.core.model import Content, Glance, State
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free
from rustfern.search.raw.join_office import Member, directory_of
from rustfern.sources.disks.interface import DiskBytes

_WINDOW, _BEFORE, _MOST = 4 << 20, 1 << 20, 256 << 20
_STARTED = re.compile(rb"startxref\s+(\d{1,10})\s+%%EOF\r?\n?")
_LEAST = 512
_KINDS = ((b"word/", "docx"), (b"xl/", "xlsx"), (b"ppt/", "pptx"), (b"META-INF/manifest.xml", "odt"))


def tails(disk: DiskBytes, free: Free, position: int) -> Iterator[RawFind | int]:
    """What is left of packages and pages in free space whose ends lie at `position` or behind it; now and then the place that comes next."""
    for start, length in list(free.onward(0, disk.size)):
        for at in range(max(start, position), start + length, _WINDOW):
            begin = max(at - _BEFORE, start)
            end = min(at + _WINDOW, start + length)
            try:
                data = disk.read_at(begin, end - begin)
            except SourceError:
                continue
            yield from _packages(disk, data, begin, at, start)
            yield from _pages(data, begin, at, start)
            yield end


def _packages(disk: DiskBytes, data: bytes, begin: int, at: int, lowest: int) -> Iterator[RawFind]:
    place = data.find(b"PK\x05\x06", at - begin)
    while place >= 0:
        row = data[place : place + 22]
        length, offset = (int.from_bytes(row[a : a + 4], "little") for a in (12, 16))
        directory = data[max(place - length, 0) : place]
        first = begin + place - length - offset
        if len(row) == 22 and 46 <= length == len(directory) and directory[:4] == b"PK\x01\x02" and offset < _MOST:
            kind = next((kind for mark, kind in _KINDS if mark in directory), "zip")
            members = directory_of(directory)
            there = [each for each in members if first + each.at >= lowest and _is_member(disk, first + each.at, each)]
            if kind != "zip" and there and there[0] is not members[0]:
                start, end = first + there[0].at, begin + place + 22
                said = f"its beginning is gone: {len(there)} of its {len(members)} parts are there, with its end"
                content = Content(Glance(format=kind), State.DAMAGED, said, end - start)
                yield RawFind(start, ((start, end - start),), f"find.{kind}", content, said)
        place = data.find(b"PK\x05\x06", place + 4)


def _is_member(disk: DiskBytes, at: int, member: Member) -> bool:
    try:
        head = disk.read_at(at, 30 + len(member.name))
    except SourceError:
        return False
    return head[:4] == b"PK\x03\x04" and head[30:] == member.name


def _pages(data: bytes, begin: int, at: int, lowest: int) -> Iterator[RawFind]:
    for found in _STARTED.finditer(data, at - begin):
        table = data.rfind(b"xref", 0, found.start())
        first = begin + table - int(found[1])
        if table >= 0 and int(found[1]) < _MOST and (data[table - 5 : table] != b"start"):
            yield from _left(first, begin + found.end(), lowest, "pdf")


def _left(first: int, end: int, lowest: int, kind: str) -> Iterator[RawFind]:
    """What of a document from `first` to `end` lies in free space."""
    start = max(first, lowest)
    start += -start % 512
    size, whole = end - start, end - first
    if size < _LEAST or whole <= 0 or first < 0:
        return
    said = f"its beginning is gone: at most {size} of its {whole} bytes are there, with its end"
    content = Content(Glance(format=kind), State.DAMAGED, said, size)
    yield RawFind(start, ((start, size),), f"find.{kind}", content, said)
