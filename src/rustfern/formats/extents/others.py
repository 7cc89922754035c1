"""Databases, packed files and archives: by the sizes, streams and headers of each.

Source: SQLite file format, 1.3 (page size, size in pages); RFC 1952, 2.2 (members); the .xz format, 2.1; bzip2's blocks; the 7z signature header;
POSIX pax, ustar interchange format (header block, end of archive); the header of drawings with a DOS binary preview.
"""

from __future__ import annotations

import bz2
import lzma
import zlib
from typing import Protocol

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole, within

_PIECE, _MOST_OUT, _FREELY, _RATIO = 1 << 16, 4 << 30, 64 << 20, 1100
_MAX_MEMBERS, _FEW_GROUPS = 1_000_000, 8


def sqlite(data: Bytes) -> Reach | None:
    """Pages in all, times their size."""
    head = data[0:100]
    if len(head) < 100:
        return None
    page = int.from_bytes(head[16:18], "big")
    page = 65536 if page == 1 else page
    pages = int.from_bytes(head[28:32], "big")
    if page < 512 or page & (page - 1) or head[18] not in (1, 2) or head[21:24] != b"\x40\x20\x20":
        return None
    if not pages or head[24:28] != head[92:96]:
        return broken(page, "an older version wrote it: its size stands nowhere", page)
    return within(data, page * pages, page)


class _Unpacker(Protocol):
    @property
    def eof(self) -> bool: ...
    @property
    def unused_data(self) -> bytes: ...


def _unpacked(
    data: Bytes, at: int, machine: zlib._Decompress | bz2.BZ2Decompressor | lzma.LZMADecompressor
) -> int | None:
    """Where a packed stream ends; None where it breaks, or is out of all proportion."""
    start, out = at, 0
    try:
        while not machine.eof:
            piece = data[at : at + _PIECE]
            if not piece:
                return None
            at += len(piece)
            if isinstance(machine, bz2.BZ2Decompressor | lzma.LZMADecompressor):
                out += len(machine.decompress(piece, 1 << 20))
                while not machine.eof and not machine.needs_input:
                    out += len(machine.decompress(b"", 1 << 20))
                    if out > _FREELY and out > _RATIO * (at - start):
                        return None
            else:
                out += len(machine.decompress(piece, 1 << 20))
                while machine.unconsumed_tail and not machine.eof:
                    out += len(machine.decompress(machine.unconsumed_tail, 1 << 20))
                    if out > _FREELY and out > _RATIO * (at - start):
                        return None
            if out > _MOST_OUT:
                return None
    except (zlib.error, lzma.LZMAError, OSError, EOFError):
        return None
    return at - len(machine.unused_data)


def gzip(data: Bytes) -> Reach | None:
    """Members one behind the other."""
    at = members = 0
    while data[at : at + 3] == b"\x1f\x8b\x08" and (flags := data[at + 3 : at + 4]) and not flags[0] & 0xE0:
        found = _unpacked(data, at, zlib.decompressobj(31))
        if found is None:
            break
        at, members = found, members + 1
        if members > _MAX_MEMBERS:
            break
    return whole(at) if members else None


def xz(data: Bytes) -> Reach | None:
    """Streams one behind the other, with blanks of four bytes between them."""
    at = 0
    while data[at : at + 6] == b"\xfd7zXZ\0":
        found = _unpacked(data, at, lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=256 << 20))
        if found is None:
            break
        at = found
    return whole(at) if at else None


def bzip2(data: Bytes) -> Reach | None:
    """Streams one behind the other."""
    at = 0
    while data[at : at + 3] == b"BZh" and data[at + 4 : at + 10] == b"1AY&SY":
        found = _unpacked(data, at, bz2.BZ2Decompressor())
        if found is None:
            break
        at = found
    return whole(at) if at else None


def sevenzip(data: Bytes) -> Reach | None:
    """To the end of its list, whose place the first header gives, with a sum."""
    head = data[0:32]
    if len(head) < 32 or zlib.crc32(head[12:32]) != int.from_bytes(head[8:12], "little"):
        return None
    offset, size = int.from_bytes(head[12:20], "little"), int.from_bytes(head[20:28], "little")
    end = 32 + offset + size
    found = within(data, end, 32)
    if (
        found.is_complete
        and size < 64 << 20
        and zlib.crc32(data[end - size : end]) != int.from_bytes(head[28:32], "little")
    ):
        return broken(end, "the sum of its list does not fit", 32, end)
    return found


def tar(data: Bytes) -> Reach | None:
    """Member by member, to two blocks of zeros."""
    at = members = 0
    while members < _MAX_MEMBERS:
        head = data[at : at + 512]
        if len(head) < 512:
            break
        if not head.strip(b"\0"):
            if data[at + 512 : at + 1024].strip(b"\0") or not members:
                break
            end = at + 1024
            # Most writers fill a record of twenty blocks.
            filled = -(-end // 10240) * 10240
            rest = data[end:filled]
            return whole(filled if len(rest) == filled - end and not rest.strip(b"\0") else end)
        told = head[148:156].strip(b" \0")
        if (
            not told
            or not all(byte in b"01234567" for byte in told)
            or int(told, 8) != sum(head) - sum(head[148:156]) + 256
        ):
            break
        raw = head[124:136]
        try:
            size = int.from_bytes(raw[1:], "big") if raw[0] & 0x80 else int(raw.strip(b" \0") or b"0", 8)
        except ValueError:
            break
        at += 512 + -(-size // 512) * 512
        members += 1
    return broken(min(at, len(data)), "a member is followed by what is none", at) if members else None


def eps_with_preview(data: Bytes) -> Reach | None:
    """The furthest of its sections."""
    head = data[0:30]
    if len(head) < 30:
        return None
    end = 0
    for at in (4, 12, 20):
        place, size = int.from_bytes(head[at : at + 4], "little"), int.from_bytes(head[at + 4 : at + 8], "little")
        end = max(end, place + size if size else 0)
    return within(data, end, 30) if end > 30 else None


_FIXED = (
    (10, 59, 8), (60, 79, 2), (90, 99, 4), (110, 149, 8), (160, 169, 8), (170, 179, 2), (210, 239, 8), (270, 289, 2), (290, 299, 1), (370, 389, 2),
    (400, 409, 2), (420, 429, 4), (440, 459, 4), (460, 469, 8), (1010, 1059, 8), (1060, 1070, 2), (1071, 1071, 4),
)  # fmt: skip
"""Group codes of binary drawings, first and last, and how many bytes their values have; of others a text that a zero ends."""
_SIZES = {code: size for first, last, size in _FIXED for code in range(first, last + 1)}
_LONGEST_TEXT = 1 << 16


def binary_drawing(data: Bytes) -> Reach | None:
    """Group by group to the one that says `EOF`. Source: the DXF reference, binary DXF files (codes of two bytes, chunks of up to 127)."""
    at, groups = 22, 0
    while groups < _MAX_MEMBERS * 10:
        head = data[at : at + 258]
        if len(head) < 6:
            break
        code = int.from_bytes(head[:2], "little")
        groups += 1
        if size := _SIZES.get(code):
            at += 2 + size
        elif 310 <= code <= 319 or code == 1004:
            at += 3 + head[2]
        else:
            end = data.find(b"\0", at + 2, at + _LONGEST_TEXT)
            if end < 0 or code > 1071 or (code == 0 and end == at + 2):
                break
            if code == 0 and head[2:6] == b"EOF\0":
                return whole(at + 6)
            at = end + 1
    return broken(min(at, len(data)), "a group is followed by what is none", at) if groups > _FEW_GROUPS else None
