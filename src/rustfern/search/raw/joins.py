"""What each format needs next where a document breaks off, and where in free space that stands.

Source: the specifications that the measures of these formats cite: APPNOTE 4.3.12 and 4.3.16 (the directory gives the place, name and sum of each
member), [MS-CFB] 2.2 and 2.6, ISO 32000-1 7.5.4, W3C PNG 5.3, ITU T.81 B.1.1.2 (`FF` in coded rows), RFC 3533 6, RFC 9639 9.1.
"""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rustfern.search.raw.fragments import Trial

Cuts = tuple[list[tuple[int, int]], int]
_MAX_MEMBERS, _MAX_STEPS, _FIRST_TAG = 20_000, 4_000, 254


# --- packages ---------------------------------------------------------------------------------------------------------


class _Member:
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
        if len(directory) < length or directory[:4] != b"PK\x01\x02" or shift % trial.cluster:
            continue
        members = _directory(directory)
        if not members or members[0].at or members[0].name != name:
            continue
        yield from _laid(trial, members, shift, size, offset)
        if trial.is_over:
            return


def _directory(data: bytes) -> list[_Member]:
    at, found = 0, list[_Member]()
    while data[at : at + 4] == b"PK\x01\x02" and len(found) < _MAX_MEMBERS:
        name, extra, comment = struct.unpack_from("<3H", data, at + 28)
        found.append(_Member(data[at : at + 46], data[at + 46 : at + 46 + name]))
        at += 46 + name + extra + comment
    return sorted(found, key=lambda each: each.at)


def _laid(trial: Trial, members: list[_Member], last: int, size: int, directory: int) -> Iterator[Cuts]:
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


def _is_at(trial: Trial, member: _Member, shift: int) -> bool:
    head = trial.shifted(member.at, 30 + len(member.name), shift)
    return head[:4] == b"PK\x03\x04" and head[30:] == member.name


def _sought(trial: Trial, member: _Member) -> int | None:
    """The shift with which the header of a member is found."""
    for place in trial.near.found(b"PK\x03\x04"):
        shift = place - trial.start - member.at
        if trial.fits(shift) and trial.near.at(place + 30, len(member.name)) == member.name:
            return shift
    return None


def _broken_at(trial: Trial, member: _Member, end: int, before: int, after: int) -> int | None:
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


def _sums(member: _Member, data: bytes) -> bool:
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
    for shift in _shifts(trial, directory, _is_directory):
        size = _size_of(trial, tables, sector, shift)
        yield from (([(place, shift)], size) for place in trial.boundaries(512, directory) if size)
    place_of_table = (tables[0] + 1) * sector

    def is_table(data: bytes) -> bool:
        entry = data[4 * (tables[0] % (sector // 4)) :][:4]
        return entry == b"\xfd\xff\xff\xff" and _is_table(data, 1 << 20)

    for shift in _shifts(trial, place_of_table, is_table, sector):
        size = _size_of(trial, tables, sector, shift)
        for place in trial.boundaries(512, max(place_of_table, directory)):
            if size:
                yield [(place, shift)], size


def _shifts(trial: Trial, at: int, fits: Callable[[bytes], bool], length: int = 128) -> Iterator[int]:
    """The shifts with which what must stand at a place of the document stands there."""
    for place, inner, data in trial.near.clusters(trial.cluster, trial.start % trial.cluster, at % trial.cluster):
        shift = place - trial.start - at
        if trial.fits(shift) and fits(data[inner : inner + length]):
            yield shift
        if trial.is_over:
            return


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
    for _ in range(_MAX_STEPS):
        at = max(data.rfind(b"xref", 0, at), data.rfind(b" obj", 0, at))
        if at < 0:
            return
        here = at if data[at : at + 4] == b"xref" else data.rfind(b"\n", 0, at) + 1
        shift = begin + here - trial.start - table
        if (begin + here) % trial.cluster == rest and trial.fits(shift):
            yield shift


# --- pictures ---------------------------------------------------------------------------------------------------------


def png(trial: Trial) -> Iterator[Cuts]:
    """By the sum of the chunk that breaks: it fits with one place to break and one shift only."""
    from rustfern.search.raw.fragments import varied

    at = trial.begun.reach.proven
    head = trial.own(at, 8)
    length = int.from_bytes(head[:4], "big")
    if len(head) < 8 or not head[4:].isalpha() or length > 8 << 20:
        return
    end = at + 12 + length
    places = trial.boundaries(at + 8, end - 1)
    sums = [(place, zlib.crc32(trial.own(at + 4, place - at - 4))) for place in places]
    for start, inner, data in trial.near.clusters(trial.cluster, trial.start % trial.cluster):
        if inner + 512 > len(data) or not varied(data[inner : inner + 512]):
            continue
        for place, found in sums:
            shift = start - trial.start - place
            rest = data[inner : inner + end - place]
            if not trial.fits(shift) or len(rest) < end - place:
                continue
            if (
                end - place <= 4
                and zlib.crc32(trial.own(at + 4, length + 4)).to_bytes(4, "big")[end - place - 4 :] == rest[:4]
            ) or (end - place > 4 and zlib.crc32(rest[:-4], found).to_bytes(4, "big") == rest[-4:]):
                finish = _png_end(trial, end, shift)
                if finish:
                    yield [(place, shift)], finish
        if trial.is_over:
            return


def _png_end(trial: Trial, at: int, shift: int) -> int:
    """Where the last chunk ends, if all that follow fit."""
    for _ in range(_MAX_MEMBERS):
        head = trial.shifted(at, 8, shift)
        if len(head) < 8 or not head[4:].isalpha():
            return 0
        at += 12 + int.from_bytes(head[:4], "big")
        if head[4:] == b"IEND":
            return at
    return 0


_STRANGE = re.compile(rb"\xff[^\x00\xff\xd0-\xd9]", re.DOTALL)
_CODED = re.compile(rb"\xff[\x00\xd0-\xd7]", re.DOTALL)
_BYTE = re.compile(r"byte (\d+)")


def jpeg(trial: Trial) -> Iterator[Cuts]:
    """By the rows themselves: coded rows have marks of their own only, and other rows do not decode where these break."""
    from rustfern.search.raw.fragments import varied

    reach = trial.begun.reach
    told = _BYTE.search(reach.reason)
    stop = int(told[1]) if told else reach.end
    places = trial.boundaries(
        max(reach.proven if reach.proven < stop else 0, stop - 16 * trial.cluster, 64), stop + trial.cluster
    )
    for start, inner, data in trial.near.clusters(trial.cluster, trial.start % trial.cluster):
        block = data[inner : inner + trial.cluster]
        ending = block.find(b"\xff\xd9")
        coded = block[:ending] if ending >= 0 else block
        if _STRANGE.search(coded) or (len(coded) > 64 and not varied(coded[:512]) and not _CODED.search(coded)):
            continue
        if len(coded) >= 2048 and len(_CODED.findall(coded)) < 2:
            continue
        finish = data.find(b"\xff\xd9", inner)
        if finish < 0:
            continue
        for place in places:
            shift = start - trial.start - place
            if trial.fits(shift):
                yield [(place, shift)], finish + 2 - inner + place
        if trial.is_over:
            return


def tiff(trial: Trial) -> Iterator[Cuts]:
    """By the first directory, whose place the header gives: its tags stand in order."""
    order = "<" if trial.begun.head[:2] == b"II" else ">"
    at = struct.unpack_from(f"{order}I", trial.begun.head, 4)[0]

    def fits(data: bytes) -> bool:
        (count,) = struct.unpack_from(f"{order}H", data)
        if not 4 <= count <= 60:
            return False
        rows = [struct.unpack_from(f"{order}HH", data, 2 + 12 * n) for n in range(min(count, 8))]
        return (
            all(0 < kind < 14 for _, kind in rows)
            and [tag for tag, _ in rows] == sorted(tag for tag, _ in rows)
            and rows[0][0] >= 254
        )

    for shift in _shifts(trial, at, fits):
        rest = trial.free.end_from(trial.start + at + shift) - trial.start - shift
        yield from (([(place, shift)], rest) for place in trial.boundaries(8, at))


def sevenzip(trial: Trial) -> Iterator[Cuts]:
    """By the list at its end, whose place and sum the first header gives."""
    offset, size, wanted = struct.unpack_from("<QQI", trial.begun.head, 12)
    at = 32 + offset
    if not 0 < size <= 1 << 20 or at > 256 << 20:
        return
    for shift in _shifts(trial, at, lambda data: len(data) == size and zlib.crc32(data) == wanted, size):
        yield from (([(place, shift)], at + size) for place in trial.boundaries(32, at))


# --- sound ------------------------------------------------------------------------------------------------------------


def ogg(trial: Trial) -> Iterator[Cuts]:
    """By the number of the next page of this stream."""
    pages = _pages(trial)
    if not pages:
        return
    at, end, serial, number = pages[-1]
    for place in trial.near.found(b"OggS\0"):
        head = trial.near.at(place, 27)
        shift = place - trial.start - end
        if (
            len(head) < 27
            or head[14:18] != serial
            or int.from_bytes(head[18:22], "little") != number + 1
            or not trial.fits(shift)
        ):
            continue
        finish = _ogg_end(trial, end, shift)
        yield from (([(cut, shift)], finish) for cut in trial.boundaries(at, end))


def _pages(trial: Trial) -> list[tuple[int, int, bytes, int]]:
    """(place, end, stream, number) of the pages that follow each other as they lie."""
    at, found = 0, list[tuple[int, int, bytes, int]]()
    while (head := trial.own(at, 27)) and len(head) == 27 and head[:5] == b"OggS\0" and len(found) < _MAX_MEMBERS:
        end = at + 27 + head[26] + sum(trial.own(at + 27, head[26]))
        found.append((at, end, head[14:18], int.from_bytes(head[18:22], "little")))
        at = end
    return found


def _ogg_end(trial: Trial, at: int, shift: int) -> int:
    while (head := trial.shifted(at, 27, shift)) and len(head) == 27 and head[:5] == b"OggS\0":
        at += 27 + head[26] + sum(trial.shifted(at + 27, head[26], shift))
    return at


def flac(trial: Trial) -> Iterator[Cuts]:
    """By the number of the next frame, whose header has a sum of its own."""
    from rustfern.formats.media.flac import frame_header

    at = trial.begun.reach.proven
    head = trial.own(at, 16)
    frame = frame_header(head, 0) if len(head) == 16 else None
    if frame is None:
        return
    wanted = frame.number + (frame.samples if head[1] & 1 else 1)
    for place in trial.near.found(head[:2]):
        following = frame_header(trial.near.at(place, 16), 0)
        if following is None or following.number != wanted:
            continue
        for cut in trial.boundaries(at, at + (64 << 10)):
            # The frame that breaks has no length: each shift that makes it a likely one is tried.
            for step in range(0, 64 << 10, trial.cluster):
                begin = (place - trial.first) // trial.cluster * trial.cluster + trial.first - step
                shift = begin - trial.start - cut
                if trial.fits(shift) and trial.free.holds(begin):
                    rest = trial.free.end_from(begin) - begin
                    yield [(cut, shift)], cut + rest
        if trial.is_over:
            return


# --- texts ------------------------------------------------------------------------------------------------------------

_ROOT = re.compile(rb"<([A-Za-z_][\w.:-]*)")
_NOT_TEXT = re.compile(rb"[\x00-\x08\x0b\x0e-\x1a\x1c-\x1f\x7f]")


def structured(trial: Trial) -> Iterator[Cuts]:
    """Text goes on in text: a structure that closes where it should, and reads as well-formed, is one."""
    if not trial.begun.head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith((b"<", b"{", b"[")):
        return
    stop = trial.begun.reach.end
    places = trial.boundaries(max(stop - 2 * trial.cluster, 1), stop)
    root = _ROOT.search(trial.begun.head)
    close = b"</" + root[1] if root else b"}" if trial.begun.head.lstrip()[:1] == b"{" else b"]"
    for start, inner, data in trial.near.clusters(trial.cluster, trial.start % trial.cluster):
        if data[inner : inner + 1] in (b"\0", b"") or _NOT_TEXT.search(data, inner, inner + 64):
            continue
        found = _NOT_TEXT.search(data, inner)
        length = (found.start() if found else len(data)) - inner
        if data.find(close, inner, inner + length) < 0:
            continue
        for place in places:
            shift = start - trial.start - place
            if trial.fits(shift):
                yield [(place, shift)], place + length
        if trial.is_over:
            return


WAYS: dict[str, Callable[[Trial], Iterator[Cuts]]] = {
    "zip_packages.measure": package, "compound.measure": compound, "pdf.measure": pages, "pictures.png": png, "pictures.jpeg": jpeg,
    "pictures.tiff": tiff, "others.sevenzip": sevenzip, "media.ogg": ogg, "media.flac": flac, "texts.text": structured,
}  # fmt: skip
"""Family → the ways in which one that breaks may go on."""
