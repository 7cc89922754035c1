"""The main stream of binary word-processor documents: header and piece table.

Source: [MS-DOC] 2.5.1 (Fib), 2.5.4 (FibRgLw97: character counts), 2.8.35 and 2.9.177 (Clx, PlcPcd, Pcd).
"""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING

from rustfern.core.errors import Malformed
from rustfern.formats.office import doc_before_97
from rustfern.formats.office.compound_file import Compound
from rustfern.formats.office.doc_story import END, OTHER, ZEROS, without_fields
from rustfern.formats.text_sink import TextSink

if TYPE_CHECKING:
    from rustfern.formats.office.doc_layout import Layout

_PARAGRAPHS, _PIECES = 13, 33
_FORMATTED = (12, 13)
"""Lists of pages with the properties of characters and of paragraphs."""
_PAGE = 512


def read(compound: Compound, data: bytes, sink: TextSink, amounts: dict[str, int]) -> bool:
    """Hand the text to the sink. True if the document is encrypted. Raises `Malformed` where the structure breaks."""
    if len(data) < 512:
        raise Malformed("the stream WordDocument is too short for its header")
    ident, version = struct.unpack_from("<HH", data, 0)
    if ident in doc_before_97.IDENTS:
        return doc_before_97.read(data, sink, amounts)
    if ident != 0xA5EC:
        raise Malformed("the header of the stream WordDocument is damaged", 0)
    if struct.unpack_from("<H", data, 10)[0] & 0x0100:
        return True
    flags = struct.unpack_from("<H", data, 10)[0]
    if version < 0x00C0:
        raise Malformed("the version in the header of the stream WordDocument is impossible", 2)
    table = compound.read("1Table" if flags & 0x0200 else "0Table")
    if table is None:
        raise Malformed("the table stream is missing")
    try:
        counts, (clx_at, clx_size) = _header(data)
    except struct.error as error:
        raise Malformed("the header of the stream WordDocument claims more than it holds", 32) from error
    main, footnotes, headers, _macros, notes, endnotes, _boxes = counts
    if any(count < 0 for count in counts):
        raise Malformed("the header counts fewer than no characters", 32)
    text, pieces = _pieces(data, table, clx_at, clx_size)
    total = sum(counts)
    if len(text) < total:
        raise Malformed(f"the piece table gives {len(text)} of {total} characters")
    for index in _FORMATTED:
        _formatted(data, table, *_pair(data, index))
    after = main + footnotes + headers + counts[3] + notes
    paragraphs = 0
    layout = None
    if sink.keeps:
        from rustfern.formats.office.doc_layout import Layout

        layout = Layout(data, table, *_pair(data, _PARAGRAPHS), pieces)
    for start, length in ((0, main), (main, footnotes), (after, endnotes)):
        story = text[start : start + length]
        told = _Told(sink, layout, story, start)
        for paragraph in END.split(without_fields(story)):
            clean = OTHER.sub("", paragraph.replace("\x0b", " ").replace("\t", " ")).replace("\x1e", "-")
            told.add(clean)
            paragraphs += bool(clean.strip())
    if paragraphs:
        amounts["paragraphs"] = paragraphs
    return False


class _Told:
    """Hands paragraphs on; where a layout is known, with their levels as headings and their cells of tables."""

    def __init__(self, sink: TextSink, layout: Layout | None, story: str, start: int) -> None:
        self._sink, self._layout = sink, layout
        # Field codes hold no ends of paragraphs: the ends of the raw story are those of the readable one.
        self._ends = [start + found.start() for found in END.finditer(story)] if layout else []
        self._marks = END.findall(story) if layout else []
        self._number = self._table = self._row = self._column = 0

    def add(self, text: str) -> None:
        """The next paragraph."""
        if self._layout is None or self._number >= len(self._ends):
            self._sink.add(text)
            return
        end = self._ends[self._number]
        found = self._layout.of(end)
        self._number += 1
        if not found.in_table:
            self._row = 0
            self._sink.add(text, "heading" if found.level else "text", found.level)
            return
        if not self._row:
            self._table, self._row, self._column = self._table + 1, 1, 1
        self._sink.add(text, "cell", spot=(self._table, self._row, self._column))
        if found.row_end:
            self._row, self._column = self._row + 1, 1
        elif self._marks[self._number - 1] == "\x07":
            self._column += 1


def _pair(data: bytes, index: int) -> tuple[int, int]:
    """A place in the table stream that the header gives."""
    longs_at = 34 + 2 * struct.unpack_from("<H", data, 32)[0] + 2
    pairs_at = longs_at + 4 * struct.unpack_from("<H", data, longs_at - 2)[0] + 2
    at, size = struct.unpack_from("<II", data, pairs_at + index * 8)
    return at, size


def _header(data: bytes) -> tuple[tuple[int, ...], tuple[int, int]]:
    """The counts of characters, story by story, and the place of the piece table in the table stream."""
    longs_at = 34 + 2 * struct.unpack_from("<H", data, 32)[0] + 2
    counts = struct.unpack_from("<7i", data, longs_at + 12)
    return counts, _pair(data, _PIECES)


def _formatted(data: bytes, table: bytes, at: int, size: int) -> None:
    """Pages of properties (2.8.5, 2.8.6, 2.9.33, 2.9.174), none of which is without runs. Raises `Malformed` where one is plain zeros."""
    count = (size - 4) // 8
    if count < 1 or at + size > len(table):
        return
    for number in struct.unpack_from(f"<{count}I", table, at + 4 * (count + 1)):
        begin = (number & 0x3FFFFF) * _PAGE
        page = data[begin : begin + _PAGE]
        if not page.strip(b"\0"):
            raise Malformed("zeros where the formatting of the text should be", begin)


def _pieces(data: bytes, table: bytes, at: int, size: int) -> tuple[str, list[tuple[int, int, int]]]:
    """The text, and of each piece its first character, where it begins in the stream and bytes a character."""
    end = at + size
    if size < 5 or end > len(table):
        raise Malformed("the piece table lies outside its stream", at)
    while at < end and table[at] == 1:
        at += 3 + int.from_bytes(table[at + 1 : at + 3], "little", signed=True)
    if at + 5 > end or table[at] != 2:
        raise Malformed("the piece table is damaged", at)
    length = int.from_bytes(table[at + 1 : at + 5], "little")
    if length < 16 or at + 5 + length > end or (length - 4) % 12:
        raise Malformed("the piece table has a wrong length", at)
    count = (length - 4) // 12
    limits = struct.unpack_from(f"<{count + 1}I", table, at + 5)
    out = []
    places: list[tuple[int, int, int]] = []
    for i in range(count):
        start, stop = limits[i], limits[i + 1]
        if stop <= start:
            raise Malformed("the pieces of the text are out of order", at)
        place = struct.unpack_from("<I", table, at + 5 + 4 * (count + 1) + 8 * i + 2)[0]
        narrow, place = bool(place & 0x40000000), place & 0x3FFFFFFF
        chars = stop - start
        begin = place // 2 if narrow else place
        width = 1 if narrow else 2
        raw = data[begin : begin + chars * width]
        if len(raw) < chars * width:
            raise Malformed("a piece of the text lies beyond its stream", begin)
        piece = raw.decode("cp1252" if narrow else "utf-16-le", "replace")
        if ZEROS in piece:
            raise Malformed("zeros where text should be", begin + piece.index(ZEROS) * width)
        out.append(piece)
        places.append((start, begin, width))
    return "".join(out), places
