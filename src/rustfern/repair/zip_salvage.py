"""The members of a damaged ZIP package: found by their own headers and by what is left of the directory, each unpacked as far as it goes.

Source: PKWARE APPNOTE 6.3.10, sections 4.3.7 (local header), 4.3.9 (data descriptor), 4.3.12 (central directory).
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator

import msgspec
from msgspec.structs import replace

from rustfern.formats.paged_bytes import Data, unpack
from rustfern.repair.deflate_block import continued
from rustfern.repair.deflate_resume import WINDOW, hole_length, inflate_prefix, reads_as_text, resume, shifted
from rustfern.repair.interface import MAX_HELD_BYTES, Budget, NothingLeft

Held = Data
_LOCAL, _CENTRAL, _DESCRIPTOR, _END = b"PK\x03\x04", b"PK\x01\x02", b"PK\x07\x08", b"PK\x05\x06"
_METHODS = frozenset({0, 8})
_LONGEST_NAME = 512
_LEAST_STRETCH, _LAST_BYTES = 600, 300
_MAX_MEMBERS = 100_000
_DAMAGED_HEADS = 40
_HOLE = re.compile(rb"\0{48,}")
"""Packed bytes hold no such run of zeros by themselves."""
_LIKELY_MARKUP = (".xml", ".rels", ".opf", ".xhtml", ".html", ".ncx", ".svg", ".txt", ".csv")


class Salvaged(msgspec.Struct, frozen=True):
    """One member: where its packed bytes begin and how many there are, what its headers say of it (None: they say nothing), and what came of
    unpacking: how many bytes, whether it ended, whether a sum proves it. `other_name`: what its other header calls it, if that is something else.
    """

    name: str
    start: int
    length: int
    method: int
    sums: tuple[int, ...] = ()
    size: int | None = None
    date: int = 0x21
    time: int = 0
    got: int = 0
    ended: bool = False
    proven: bool = False
    crc: int = 0
    other_name: str = ""

    @property
    def is_markup(self) -> bool:
        return self.name.casefold().endswith(_LIKELY_MARKUP) or self.name == "mimetype"


class Content(msgspec.Struct, frozen=True):
    """What a member unpacks to: stretches, between which something is missing; and how many bytes are missing at the end, if that is known.
    In a stretch behind a gap, zero bytes stand for what is not known.
    """

    stretches: tuple[bytes, ...]
    complete: bool
    missing: int | None = None

    @property
    def data(self) -> bytes:
        return self.stretches[0] if self.stretches else b""


def find_members(data: Held) -> list[Salvaged]:
    """Every member that can be told, in the order of their places; of several under one name the best. Members of packages that lie in
    others are not among them.
    """
    local = {each.start: each for each in _by_local_headers(data)}
    found: dict[int, Salvaged] = {}
    listed = list(_by_directory(data, local))
    heads = {each[0]: each for each in listed}
    for start, mine in local.items():
        head = heads.get(start)
        found[start] = _joined(mine, head[1]) if head else mine
    taken = sorted(found)
    for start, theirs in listed:
        if start not in found and 0 <= start < len(data) and not _inside(start, taken, found):
            found[start] = theirs
    out: list[Salvaged] = []
    reach = 0
    ordered = [found[start] for start in sorted(found)]
    for number, each in enumerate(ordered):
        if each.start < reach:
            continue  # it lies in a member that proves whole
        following = next((other.start for other in ordered[number + 1 :] if other.start > each.start), len(data))
        member = _measured(data, each, following)
        if member.proven:
            reach = member.start + member.length
        out.append(member)
    return _best_of_each_name(out)


def _inside(start: int, taken: list[int], found: dict[int, Salvaged]) -> bool:
    import bisect

    at = bisect.bisect_right(taken, start) - 1
    return at >= 0 and abs(taken[at] - start) < _DAMAGED_HEADS and found[taken[at]].length == 0


class _Head(msgspec.Struct):
    """What a header says: the name, and the fields that both kinds have in the same order; `extra` is the length of what follows the name."""

    name: str
    method: int
    time: int
    date: int
    crc: int
    packed: int
    size: int
    raw_length: int
    extra: int
    later: bool


def _heads(data: Held, mark: bytes, fields_at: int, name_at: int) -> Iterator[tuple[int, _Head]]:
    """(place, what it says) of each header with a mark that one of a member can be."""
    at, count = data.find(mark), 0
    while at >= 0 and count < _MAX_MEMBERS:
        if at + name_at <= len(data):
            flags, method, time, date, crc, packed, size, n, extra = unpack("<HHHHIIIHH", data, at + fields_at)
            raw = data[at + name_at : at + name_at + n]
            if (
                method in _METHODS
                and 0 < n <= _LONGEST_NAME
                and len(raw) == n
                and not flags & 1
                and (name := _name(raw))
            ):
                count += 1
                yield at, _Head(name, method, time, date, crc, packed, size, n, extra, bool(flags & 8))
        at = data.find(mark, at + 4)


def _by_local_headers(data: Held) -> Iterator[Salvaged]:
    for at, head in _heads(data, _LOCAL, 6, 30):
        later = head.later and not head.crc
        start = at + 30 + head.raw_length + head.extra
        size = None if later or head.size == 0xFFFFFFFF else head.size
        sums = () if later else (head.crc,)
        yield Salvaged(head.name, start, 0 if later else head.packed, head.method, sums, size, head.date, head.time)


def _by_directory(data: Held, local: dict[int, Salvaged]) -> Iterator[tuple[int, Salvaged]]:
    """(where packed bytes begin, what the directory says) for each entry of a directory that is left, in front of which may lie other bytes."""
    for at, head in _heads(data, _CENTRAL, 8, 46):
        offset = unpack("<I", data, at + 42)[0]
        start = _packed_start(data, offset, head.raw_length, local, head.method)
        yield start, Salvaged(head.name, start, head.packed, head.method, (head.crc,), head.size, head.date, head.time)


def _packed_start(data: Held, offset: int, n: int, local: dict[int, Salvaged], method: int) -> int:
    """Where the packed bytes of a member begin whose header may be damaged: behind its header, else where its name ends and deflate begins."""
    if data[offset : offset + 4] == _LOCAL and offset + 30 <= len(data):
        written, more = unpack("<HH", data, offset + 26)
        if written == n and offset + 30 + n + more in local:
            return int(offset + 30 + n + more)
    usual = offset + 30 + n
    extra = int.from_bytes(data[offset + 28 : offset + 30], "little")
    for more in (extra, 0, 28, 9, 4, 36):
        if usual + more <= len(data) and (usual + more in local or (method == 8 and _deflates(data, usual + more))):
            return usual + more
    return usual + (extra if extra < 64 else 0)


def _deflates(data: Held, at: int) -> bool:
    try:
        return bool(zlib.decompressobj(-15).decompress(data[at : at + 4096]))
    except zlib.error:
        return False


def _name(raw: bytes) -> str:
    """A name, empty if these bytes can be none."""
    if any(byte < 32 for byte in raw):
        return ""
    try:
        return raw.decode()
    except UnicodeDecodeError:
        return raw.decode("cp437")


def _joined(mine: Salvaged, theirs: Salvaged) -> Salvaged:
    """What both headers say of one member: either may be damaged."""
    name = mine.name if mine.is_markup and not theirs.is_markup else theirs.name
    sums = tuple(dict.fromkeys((*mine.sums, *theirs.sums)))
    other = theirs.name if name == mine.name else mine.name
    return replace(
        theirs, name=name, other_name=other if other != name else "", start=mine.start, sums=sums, method=mine.method
    )


def _measured(data: Held, member: Salvaged, following: int) -> Salvaged:
    """The member with what came of unpacking it; nothing of it is kept."""
    if member.method == 0:
        room = max(following - 30 - member.start, 0) if following < len(data) else len(data) - member.start
        lengths = [member.size, member.length, room] if member.size else [member.length, room]
        for length in dict.fromkeys(each for each in lengths if each is not None):
            if length and member.start + length <= len(data) and _sum(data, member.start, length) in member.sums:
                return replace(
                    member, length=length, got=length, ended=True, proven=True, crc=_sum(data, member.start, length)
                )
        length = min(
            member.size or member.length or _before_header(data, member.start), max(len(data) - member.start, 0)
        )
        crc = _sum(data, member.start, length)
        proven = crc in _later_sums(data, member.start + length) or (length == 0 and member.size == 0)
        ended = proven or (member.size is not None and length == member.size)
        return replace(member, length=length, got=length, ended=ended, proven=proven, crc=crc)
    unpack = zlib.decompressobj(-15)
    crc = got = 0
    at = member.start
    try:
        while at < len(data) and not unpack.eof:
            piece = unpack.decompress(data[at : at + (1 << 16)])
            got += len(piece)
            crc = zlib.crc32(piece, crc)
            at += 1 << 16
            if got > 4 << 30:
                raise NothingLeft("it unpacks to more than any document holds")
    except zlib.error:
        return replace(member, length=max(following - member.start, 0), got=got)
    used = min(at, len(data)) - member.start - len(unpack.unused_data)
    if not unpack.eof:
        return replace(member, length=len(data) - member.start, got=got)
    sums = (*member.sums, *_later_sums(data, member.start + used))
    fits = member.size is None or member.size in (0, got)
    return replace(
        member, length=used, got=got, ended=True, proven=crc in sums and (fits or got > 0), crc=crc, sums=sums
    )


def _sum(data: Held, start: int, length: int) -> int:
    crc = 0
    for at in range(start, start + length, 1 << 20):
        crc = zlib.crc32(data[at : min(at + (1 << 20), start + length)], crc)
    return crc


def _later_sums(data: Held, at: int) -> tuple[int, ...]:
    """The sum in a data descriptor behind packed bytes, if there is one."""
    body = data[at + 4 : at + 8] if data[at : at + 4] == _DESCRIPTOR else data[at : at + 4]
    return (int.from_bytes(body, "little"),) if len(body) == 4 else ()


def _before_header(data: Held, start: int) -> int:
    ends = [end for mark in (_LOCAL, _CENTRAL, _DESCRIPTOR) if (end := data.find(mark, start)) >= 0]
    return min(ends, default=len(data)) - start


def _best_of_each_name(members: list[Salvaged]) -> list[Salvaged]:
    best: dict[str, Salvaged] = {}
    for each in members:
        known = best.get(each.name)
        if known is None or (each.proven, each.ended, each.got) > (known.proven, known.ended, known.got):
            best[each.name] = each
    return sorted(best.values(), key=lambda member: member.start)


def packed(data: Held, member: Salvaged) -> Iterator[bytes]:
    """The packed bytes of a member, piece by piece."""
    end = member.start + member.length
    for at in range(member.start, end, 1 << 20):
        yield data[at : min(at + (1 << 20), end)]


def content(data: Held, member: Salvaged, budget: Budget) -> Content:
    """What a member unpacks to. One that breaks is taken up again behind the hole, if it is markup or text."""
    raw = data[member.start : member.start + min(member.length, MAX_HELD_BYTES)]
    hole = None if member.proven else _HOLE.search(raw)
    if member.method == 0:
        whole = member.ended and len(raw) == member.length and (hole is None or not member.is_markup)
        missing = member.size - len(raw) if member.size and member.size > len(raw) else None
        parts = [raw] if whole or not member.is_markup else [each for each in _HOLE.split(raw) if each]
        return Content(tuple(parts) or (b"",), whole, missing)
    # Zeros unpack to something, but not to what was there.
    out, used, ended = inflate_prefix(raw if hole is None else raw[: hole.start()], most=MAX_HELD_BYTES)
    if ended:
        return Content((out,), True)
    broke, used = used, used if hole is None else hole.end()
    stretches = [out]
    end = member.size if member.size and member.size >= len(out) else None
    if member.is_markup and used < len(raw):
        stretches += _behind(raw, used, out, end, budget, broke)
    missing = end - sum(map(len, stretches)) if end is not None else None
    return Content(tuple(stretches), False, missing if missing is None or missing > 0 else None)


def content_from(data: Held, member: Salvaged, fault: int, budget: Budget) -> Content:
    """What a member unpacks to whose content is wrong from a place on, though it ends: what stands in front of it, and what follows from the
    next block on.
    """
    raw = data[member.start : member.start + min(member.length, MAX_HELD_BYTES)]
    if member.method == 0:
        return Content((raw[:fault],), False)
    used = _packed_place(raw, fault)
    prefix = inflate_prefix(raw, most=fault)[0][:fault]
    behind = _behind(raw, used, prefix, member.size, budget, used)
    size = member.size
    missing = size - len(prefix) - sum(map(len, behind)) if size else None
    return Content((prefix, *behind), False, missing if missing is None or missing > 0 else None)


def _packed_place(raw: bytes, fault: int) -> int:
    """How many packed bytes, about, stand for the first `fault` bytes."""
    low, high = 0, len(raw)
    while high - low > 256:
        middle = (low + high) // 2
        if len(inflate_prefix(raw[:middle], most=fault + 1)[0]) < fault:
            low = middle
        else:
            high = middle
    return low


def _expected(prefix: bytes, broke: int, bit: int) -> int:
    """About how many bytes unpacked lie between a break and a bit, by how well what stands before it is packed."""
    return round((bit // 8 - broke) * len(prefix) / max(broke, 1))


def _behind(raw: bytes, used: int, prefix: bytes, size: int | None, budget: Budget, broke: int) -> list[bytes]:
    """The stretches behind a break: from within the block in which it lies, else from the next one on. What they refer to in front of it is
    filled in where the length of the hole is known: from the size of the whole, if the last stretch reaches the end, else as the length with
    which the most words read right.
    """
    out: list[bytes] = []
    for bit, packed_rest, stretch, ended in _stretches(raw, used, prefix, budget, broke):
        if not out:
            length = size - len(stretch) - len(prefix) if ended and size is not None else None
            if length is None or not 0 <= length < WINDOW:
                expected = _expected(prefix, broke, bit)
                length = hole_length(prefix, packed_rest, expected, budget.part(6)) if length is None else None
            if length is not None:
                known = (prefix + bytes(length))[-WINDOW:].rjust(WINDOW, b"\0")
                stretch = inflate_prefix(packed_rest, known, most=len(stretch))[0][: len(stretch)]
        out.append(stretch)
    return out


def _stretches(
    raw: bytes, used: int, prefix: bytes, budget: Budget, broke: int
) -> Iterator[tuple[int, bytes, bytes, bool]]:
    """(the bit where it begins, packed bytes from there on, what they unpack to with zeros for what is not known, whether it is the end)."""
    if used > broke and (found := continued(raw, prefix, broke, used, budget.part(4))) is not None:
        packed_rest, bit = found
        stretch, taken, ended = inflate_prefix(packed_rest, bytes(WINDOW))
        # The codes of another block also give letters; but hardly one that ends where the next one begins, up to the end of all.
        goes_through = ended or taken >= len(packed_rest) - 4
        if goes_through and len(stretch) >= _LEAST_STRETCH and reads_as_text(stretch):
            yield bit, packed_rest, stretch if ended else stretch[:-_LAST_BYTES], ended
            return
    for bit, stretch, ended in resume(raw, used, budget.part(20)):
        yield bit, shifted(raw, bit), stretch, ended
