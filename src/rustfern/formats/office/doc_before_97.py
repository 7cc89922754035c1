"""Texts by word processors of before 1997: header, text in one run or in pieces; those of DOS, and their kin for Windows, in pages of 128 bytes.

Source: the file formats as they were published with those versions: the file information block and the piece table of the first to the seventh
version for Windows; the header, the text and the pages of paragraph and character properties of the versions for DOS.
"""

from __future__ import annotations

import struct
from itertools import pairwise
from typing import NamedTuple

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.office.doc_story import END, OTHER, ZEROS, without_fields
from rustfern.formats.text_sink import TextSink


class _Version(NamedTuple):
    """Where a version keeps the place of its pieces, how many bytes their length has, and how many stories of text it counts."""

    pieces_at: int
    size: str
    length: str
    stories: int


_FIRST, _SECOND = 0xA59B, 0xA5DB
_LATER = _Version(0x160, "<I", "<I", 8)
_VERSIONS = {_FIRST: _Version(0x112, "<H", "<H", 5), _SECOND: _Version(0x11E, "<H", "<H", 5), 0xA5DC: _LATER}
_DOUBLE = {0xA697: ("cp932",), 0xA698: ("cp949",), 0xA699: ("gbk", "cp950")}
"""Versions for the Far East, and the code pages of their characters of two bytes."""
IDENTS = frozenset({*_VERSIONS, *_DOUBLE})
_WIDE, _PIECES, _ENCRYPTED = 0x1000, 0x0004, 0x0100
_FONTS_AT = 0xD0
_CHARACTER_SETS = {
    77: "mac_roman", 128: "cp932", 129: "cp949", 134: "gbk", 136: "cp950", 161: "cp1253", 162: "cp1254", 177: "cp1255", 178: "cp1256", 186: "cp1257",
    204: "cp1251", 222: "cp874", 238: "cp1250", 256: "mac_roman",
}  # fmt: skip
_LANGUAGES = {
    **dict.fromkeys((0x02, 0x19, 0x22, 0x23, 0x2F), "cp1251"), **dict.fromkeys((0x05, 0x0E, 0x15, 0x18, 0x1A, 0x1B, 0x24), "cp1250"),
    **dict.fromkeys((0x25, 0x26, 0x27), "cp1257"), 0x01: "cp1256", 0x08: "cp1253", 0x0D: "cp1255", 0x1E: "cp874", 0x1F: "cp1254",
}  # fmt: skip
"""Code pages by the number of a language without its country."""
_DOS_PAGE = 128
_DOS_CODES = frozenset({437, 737, 775, 850, 852, 855, 857, 860, 861, 862, 863, 864, 865, 866, 869})
_QUICK, _PICTURE = 0x02, 0x10


def read(data: bytes, sink: TextSink, amounts: dict[str, int], alone: bool = False) -> bool:
    """Hand the text of a version for Windows to the sink. True if it is encrypted. `alone`: `data` is the whole file, not a stream in a
    compound file, whose chains would tell that it was cut. Raises `Malformed` where the structure breaks.
    """
    ident = int.from_bytes(data[:2], "little")
    version = _VERSIONS.get(ident, _LATER)
    if len(data) < version.pieces_at + 8:
        raise Malformed("the file ends inside the header of the text", len(data))
    language, _next, flags = struct.unpack_from("<3H", data, 6)
    if flags & _ENCRYPTED:
        return True
    script, _tables, start, end, whole = struct.unpack_from("<HHIII", data, 20)
    if alone and len(data) < whole:
        raise Malformed(f"the file has {len(data)} of the {whole} bytes that its header tells", len(data))
    counts = struct.unpack_from(f"<{version.stories}i", data, 52)
    if not 32 <= start <= end <= len(data) or min(counts) < 0:
        raise Malformed("the text lies beyond the end of the stream WordDocument", 24)
    width = 2 if flags & _WIDE and ident in _DOUBLE else 1
    total = sum(counts)
    if flags & _PIECES:
        raw = _in_pieces(data, version, width, total)
    else:
        raw = data[start : min(end, start + total * width)]
        if len(raw) < total * width:
            raise Malformed(f"the text has {(end - start) // width} of {total} characters", start)
    if (at := raw.find(bytes(len(ZEROS) * width + width - 1))) >= 0:
        raise Malformed("zeros where text should be", start + at)
    codes = _codes_of(data, ident, script, language)
    main, notes = counts[:2]
    after = sum(counts[:5])
    for begin, length in ((0, main), (main, notes), (after, counts[5] if len(counts) > 5 else 0)):
        story = raw[begin * width : (begin + length) * width]
        _hand_on(_decoded(story, width, codes), sink, amounts)
    return False


def _in_pieces(data: bytes, version: _Version, width: int, total: int) -> bytes:
    """The text as its pieces, which lie in the order in which they were written, put it together."""
    at = struct.unpack_from("<I", data, version.pieces_at)[0]
    end = at + struct.unpack_from(version.size, data, version.pieces_at + 4)[0]
    if not 0 < at < end <= len(data):
        raise Malformed("the piece table lies outside the text's stream", version.pieces_at)
    while at + 3 <= end and data[at] != 2:  # changes that pieces share, and what later versions may add
        at += 3 + struct.unpack_from("<H", data, at + 1)[0]
    begin = at + 1 + struct.calcsize(version.length)
    if begin > end:
        raise Malformed("the piece table is damaged", at)
    length = struct.unpack_from(version.length, data, at + 1)[0]
    if length < 16 or (length - 4) % 12 or begin + length > end:
        raise Malformed("the piece table has a wrong length", at)
    count = (length - 4) // 12
    limits = struct.unpack_from(f"<{count + 1}I", data, begin)
    out = bytearray()
    for number, (first, last) in enumerate(pairwise(limits)):
        place = struct.unpack_from("<I", data, begin + 4 * (count + 1) + 8 * number + 2)[0]
        if last < first or place + (last - first) * width > len(data):
            raise Malformed("a piece of the text lies beyond its stream", begin + 4 * number)
        out += data[place : place + (last - first) * width]
        if len(out) > 2 * len(data):
            raise Malformed("the pieces of the text lie over one another", begin)
    if len(out) < total * width:
        raise Malformed(f"the piece table gives {len(out) // width} of {total} characters", begin)
    return bytes(out)


def _codes_of(data: bytes, ident: int, script: int, language: int) -> tuple[str, ...]:
    """The code pages that the text may be in: by its own character set, its language, or, in the Far East, what its fonts are for."""
    codes = _DOUBLE.get(ident)
    if codes is None:
        return (_CHARACTER_SETS.get(script) or _LANGUAGES.get(language & 0x3FF, "cp1252"),)
    if len(codes) == 1:
        return codes
    at, length = struct.unpack_from("<II", data, _FONTS_AT)
    fonts = data[at + 2 : at + length] if 0 < length < len(data) else b""
    found, position = [0, 0], 0
    while position + 5 <= len(fonts):  # each: bytes that follow, kind, weight (2), character set, …
        name = _CHARACTER_SETS.get(fonts[position + 4])
        if name in codes:
            found[codes.index(name)] += 1
        position += 1 + fonts[position]
    return codes if found[0] >= found[1] else codes[::-1]


class _Characters(dict[int, str]):
    """Characters of two bytes each by their number: the bytes of a code page, the first of two in the upper byte; one of the west where the upper
    byte begins no such pair.
    """

    def __init__(self, code: str) -> None:
        super().__init__()
        self._code = code

    def __missing__(self, unit: int) -> str:
        if unit < 0x100:
            told = bytes((unit,)).decode(self._code, "replace")
        elif unit < 0x8000:
            told = bytes((unit & 0xFF,)).decode("cp1252", "replace")
        else:
            told = unit.to_bytes(2, "big").decode(self._code, "replace")
        self[unit] = told
        return told


def _decoded(raw: bytes, width: int, codes: tuple[str, ...]) -> str:
    """The text by the code page that reads most of it, the likelier one first."""
    if width == 1:
        told = [raw.decode(code, "replace") for code in codes]
    else:
        units = struct.unpack(f"<{len(raw) // 2}H", raw)
        told = ["".join(map(_Characters(code).__getitem__, units)) for code in codes]
    return min(told, key=lambda text: text.count("\ufffd"))


def _hand_on(story: str, sink: TextSink, amounts: dict[str, int]) -> None:
    for paragraph in END.split(without_fields(story)):
        clean = OTHER.sub("", paragraph.replace("\x0b", " ").replace("\t", " ").replace("\x1e", "-")).strip("\n")
        if clean.strip():
            sink.add(clean)
            amounts["paragraphs"] = amounts.get("paragraphs", 0) + 1


def is_of_windows(data: bytes) -> bool:
    """Whether a text in pages of 128 bytes is by the small word processor of Windows, which alone counts its pages here."""
    return data[0x60:0x62] != b"\0\0"


def read_paged(data: bytes, sink: TextSink, amounts: dict[str, int]) -> None:
    """Hand on the text of a version for DOS, or of the small word processor of Windows, all of whose properties lie in pages of 128 bytes behind
    the text. Raises `Malformed` where text or pages do not come one after another, `Refused` for one that was saved in pieces.
    """
    if len(data) < _DOS_PAGE:
        raise Malformed("the file ends inside the header of the text", len(data))
    windows = is_of_windows(data)
    end, paragraphs, notes, sections = struct.unpack_from("<I3H", data, 14)
    pages = struct.unpack_from("<H", data, 0x60 if windows else 0x6A)[0]
    if max(end, pages * _DOS_PAGE, sections * _DOS_PAGE) > len(data):
        raise Malformed(
            f"the file has {len(data)} of the {max(end, pages * _DOS_PAGE)} bytes that its header tells", len(data)
        )
    if not windows and data[0x75] & _QUICK:
        raise Refused("a text of a version for DOS that was saved in pieces: reading it was refused")
    first = -(-end // _DOS_PAGE)
    if not end >= _DOS_PAGE or not first <= paragraphs <= notes <= sections:
        raise Malformed("the pages behind the text are out of order", 14)
    pictures: list[tuple[int, int]] = []
    for begin, stop in ((first, paragraphs), (paragraphs, notes)):
        reached = _DOS_PAGE
        for page in range(begin, stop):
            reached = _properties(data, page, reached, pictures if windows and begin == paragraphs else None)
        if begin < stop and reached < end:
            raise Malformed(f"the properties of the text end {end - reached} bytes before it", stop * _DOS_PAGE)
    text, last = bytearray(), _DOS_PAGE
    for start, limit in (*pictures, (end, end)):
        run = data[last:start]
        if (at := run.find(bytes(len(ZEROS)))) >= 0:
            raise Malformed("zeros where text should be", last + at)
        text += run
        last = limit
    code = struct.unpack_from("<H", data, 0x7E)[0]
    _hand_on(text.decode("cp1252" if windows else f"cp{code if code in _DOS_CODES else 437}", "replace"), sink, amounts)


def _properties(data: bytes, page: int, reached: int, pictures: list[tuple[int, int]] | None) -> int:
    """Follow one page of properties from the byte of the text that was reached; those of paragraphs that hold a picture are noted."""
    at = page * _DOS_PAGE
    body = data[at : at + _DOS_PAGE]
    if len(body) < _DOS_PAGE:
        raise Malformed("the file ends inside the pages behind the text", len(data))
    count = body[-1]
    if struct.unpack_from("<I", body)[0] != reached or not count or 4 + 6 * count > _DOS_PAGE - 1:
        raise Malformed("the properties of the text do not follow one another", at)
    for number in range(count):
        limit, offset = struct.unpack_from("<IH", body, 4 + 6 * number)
        if limit <= reached:
            raise Malformed("the properties of the text are out of order", at + 4 + 6 * number)
        offset += 4
        if pictures is not None and offset + 18 < _DOS_PAGE and body[offset] >= 17 and body[offset + 17] & _PICTURE:
            pictures.append((reached, min(limit, len(data))))
        reached = limit
    return reached
