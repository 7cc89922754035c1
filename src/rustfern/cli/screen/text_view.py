"""The text of a copy on the terminal: headings, paragraphs, tables with their addresses, slides and pages, lines as they stand.

Lines are made one after another, so that a long text can be paged while it is still being laid out.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import groupby

from rich.cells import cell_len, set_cell_size
from rich.console import Console
from rich.text import Text

from rustfern.cli.screen.console import PALE, SLATE
from rustfern.core.paths import show_name
from rustfern.formats.text_sink import Piece, column_name

_ROWS_AT_ONCE = 400
"""Rows of a table laid out together."""
_WIDEST, _NARROWEST = 32, 4
_TALL = 12
_LABEL = 24
_HARMLESS = dict.fromkeys(map(ord, "\u00ad\u200b\u200c\u200e\u200f\u2060\ufeff"))
"""Signs without a look of their own that texts are full of; all others that could play tricks are escaped."""


def plain(text: str) -> str:
    """Text from a file, safe to show."""
    return text if text.isascii() and text.isprintable() else show_name(text.translate(_HARMLESS))


def address(piece: Piece) -> str:
    """Where a piece stands, for people: sheet and cell, slide, page, the field's name."""
    cell = f"{column_name(piece.spot[2])}{piece.spot[1]}" if piece.spot and not piece.spot[0] else ""
    return plain("!".join(part for part in (piece.section, cell) if part) or piece.label)


def sections(pieces: Iterable[Piece]) -> list[str]:
    """The sheets, slides or pages, in order."""
    return list(dict.fromkeys(piece.section for piece in pieces if piece.section))


def lines(console: Console, pieces: Iterable[Piece], indent: int = 3) -> Iterator[Text]:
    """The lines of a text, wrapped to the terminal."""
    for line in _blocks(console, pieces, max(min(console.width, 120) - indent, 24)):
        yield Text(" " * indent).append_text(line)


def _blocks(console: Console, pieces: Iterable[Piece], width: int) -> Iterator[Text]:
    section, first = "", True
    for (where, table), group in groupby(pieces, key=lambda piece: (piece.section, piece.spot and piece.spot[0])):
        if where != section:
            section = where
            if where:
                title = f" {plain(where)} "
                if not first:
                    yield Text()
                yield Text(f"──{title}{'─' * max(min(width, 60) - len(title) - 2, 4)}", style=SLATE)
                first = True
        if table is not None:
            yield from _table(group, width, addressed=table == 0)
            first = False
            continue
        for piece in group:
            if piece.kind == "heading":
                if not first:
                    yield Text()
                yield from Text(plain(piece.text), style="bold" if piece.level > 1 else "bold underline").wrap(
                    console, width
                )
            elif piece.kind == "field":
                name = plain(piece.label)
                line = Text(f"{name}: ".ljust(_LABEL), style=PALE).append(plain(piece.text), style="default")
                yield from line.wrap(console, width)
            elif piece.kind == "line":
                yield from Text(plain(piece.text)).wrap(console, width, overflow="fold", no_wrap=False) or [Text()]
            else:
                yield from Text(plain(piece.text)).wrap(console, width)
            first = False


def _table(cells: Iterable[Piece], width: int, *, addressed: bool) -> Iterator[Text]:
    """Rows and columns, some hundred rows at a time; a table wider than the terminal is shown in parts, one below the other."""
    rows: dict[int, dict[int, str]] = {}
    widths: dict[int, int] = {}
    for piece in cells:
        assert piece.spot is not None
        if len(rows) >= _ROWS_AT_ONCE and piece.spot[1] not in rows:
            yield from _rows(rows, widths, width, addressed=addressed)
            rows = {}
        row = rows.setdefault(piece.spot[1], {})
        text = plain(piece.text)
        row[piece.spot[2]] = f"{row[piece.spot[2]]} {text}" if piece.spot[2] in row else text
    yield from _rows(rows, widths, width, addressed=addressed)


def _rows(rows: dict[int, dict[int, str]], widths: dict[int, int], width: int, *, addressed: bool) -> Iterator[Text]:
    """Some rows; `widths` are those of the columns before, and grow where longer cells come."""
    margin = len(str(max(rows, default=0))) + 1 if addressed else 0
    for row in rows.values():
        for column, text in row.items():
            widths[column] = max(widths.get(column, _NARROWEST), min(cell_len(text), _WIDEST))
    columns = sorted(widths)
    for some in _fitting(columns, widths, width - margin):
        if addressed:
            names = "  ".join(column_name(column).ljust(widths[column]) for column in some)
            yield Text(" " * (margin + 1) + names.rstrip(), style=PALE)
        for number, row in sorted(rows.items()):
            yield from _row(number if addressed else None, margin, [(row.get(c, ""), widths[c]) for c in some])
        if not addressed and len(columns) > len(some):
            yield Text()


def _fitting(columns: Sequence[int], widths: dict[int, int], width: int) -> Iterator[list[int]]:
    """Columns in groups that fit beside one another."""
    some: list[int] = []
    used = 0
    for column in columns:
        if some and used + widths[column] + 2 > width:
            yield some
            some, used = [], 0
        some.append(column)
        used += widths[column] + 2
    if some:
        yield some


def _row(number: int | None, margin: int, cells: Sequence[tuple[str, int]]) -> Iterator[Text]:
    wrapped = [_cut(text, width) for text, width in cells]
    for at in range(max(map(len, wrapped), default=1)):
        line = Text()
        if number is not None:
            line.append(f"{number if at == 0 else '':>{margin}} ", style=PALE)
        parts = (
            set_cell_size(part[at] if at < len(part) else "", width)
            for part, (_, width) in zip(wrapped, cells, strict=True)
        )
        yield line.append("  ".join(parts).rstrip())


def _cut(text: str, width: int) -> list[str]:
    """The lines of a cell, broken between words where that is possible."""
    if cell_len(text) <= width:
        return [text]
    out, line = [], ""
    for word in text.split():
        while cell_len(word) > width:
            head = word
            while cell_len(head) > width:
                head = head[: max(len(head) * width // cell_len(head), 1)] if len(head) > 1 else ""
            if line:
                out.append(line)
                line = ""
            out.append(head or word[:1])
            word = word[len(head or word[:1]) :]
        if cell_len(line) + cell_len(word) + bool(line) > width:
            out.append(line)
            line = word
        else:
            line = f"{line} {word}" if line else word
    out.append(line)
    return [*out[: _TALL - 1], out[_TALL - 1] + " …"] if len(out) > _TALL else out
