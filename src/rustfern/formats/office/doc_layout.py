"""Headings and tables of binary word-processor documents, for showing them: properties of paragraphs.

Source: [MS-DOC] 2.8.26 (PlcBtePapx), 2.9.174 (PapxFkp), 2.9.23 (BxPap), 2.9.175 (PapxInFkp), 2.6.2 (paragraph properties), 2.2.5.1 (Sprm);
2.9.260 (STD: the styles 1 to 9 are headings). Never judges: what cannot be followed is shown without layout.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Sequence

import msgspec

_PAGE, _BX = 512, 13
_IN_TABLE, _ROW_END, _LEVEL = 0x2416, 0x2417, 0x2640
_MAX_PAGES = 100_000
# Operand sizes by the top three bits of a property's number; 6 is of variable size.
_SIZES = (1, 1, 2, 4, 2, 2, 0, 3)


class Paragraph(msgspec.Struct, frozen=True):
    """What is known of one paragraph: its level as a heading (0: none), whether it is in a table, whether it ends a row."""

    level: int = 0
    in_table: bool = False
    row_end: bool = False


_PLAIN = Paragraph()


class Layout:
    """The properties of the paragraphs of a document. `pieces` are (first character, byte of it in the stream, bytes a character)."""

    def __init__(self, data: bytes, table: bytes, at: int, size: int, pieces: Sequence[tuple[int, int, int]]) -> None:
        self._pieces = pieces
        self._starts: list[int] = []
        self._found: list[Paragraph] = []
        try:
            self._read(data, table, at, size)
        except (struct.error, IndexError):
            self._starts, self._found = [], []

    def _read(self, data: bytes, table: bytes, at: int, size: int) -> None:
        count = min((size - 4) // 8, _MAX_PAGES)
        if count < 1 or at + size > len(table):
            return
        runs: list[tuple[int, Paragraph]] = []
        for number in struct.unpack_from(f"<{count}I", table, at + 4 * (count + 1)):
            page = data[(number & 0x3FFFFF) * _PAGE :][:_PAGE]
            many = page[_PAGE - 1]
            starts = struct.unpack_from(f"<{many + 1}I", page, 0)
            for index in range(many):
                offset = page[4 * (many + 1) + _BX * index] * 2
                runs.append((starts[index], _properties(page, offset) if offset else _PLAIN))
        runs.sort(key=lambda run: run[0])
        self._starts = [start for start, _ in runs]
        self._found = [found for _, found in runs]

    def of(self, character: int) -> Paragraph:
        """The paragraph that a character, counted from the start of the text, belongs to."""
        at = bisect_right(self._pieces, character, key=lambda piece: piece[0]) - 1
        if at < 0 or not self._starts:
            return _PLAIN
        first, begin, width = self._pieces[at]
        found = bisect_right(self._starts, begin + (character - first) * width) - 1
        return self._found[found] if found >= 0 else _PLAIN


def _properties(page: bytes, offset: int) -> Paragraph:
    size = page[offset]
    start, length = (offset + 1, 2 * size - 1) if size else (offset + 2, 2 * page[offset + 1])
    body = page[start : start + length]
    style = int.from_bytes(body[:2], "little")
    level, in_table, row_end = (style if 1 <= style <= 9 else 0), False, False
    at = 2
    while at + 3 <= len(body):
        number = int.from_bytes(body[at : at + 2], "little")
        value, width = body[at + 2], _SIZES[number >> 13]
        if number == _IN_TABLE:
            in_table = bool(value)
        elif number == _ROW_END:
            row_end = bool(value)
        elif number == _LEVEL and value < 9:
            level = value + 1
        at += 2 + (width or value + 1)
    return Paragraph(level, in_table, row_end)
