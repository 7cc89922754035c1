"""How plain texts of some formats are laid out when they are shown: cells of tables, headings, lines as they stand.

Only for showing: words are counted and compared alike whatever the layout. Sources: RFC 4180 (comma-separated values), CommonMark 0.31
(4.2 and 4.3: headings), HTML Living Standard 4.3.6 (h1 to h6), RFC 5322 (2.2: header fields).
"""

from __future__ import annotations

import csv
import html
import re
from collections.abc import Callable
from datetime import datetime, timedelta

from rustfern.formats.text_sink import CellAddress, TextSink

_MARKED = frozenset({"md", "rst", "org", "adoc"})
_HEADING = re.compile(r" {0,3}(#{1,6})[ \t]+(.+)$|={1,5} .+$|(\*{1,6}) .+$")
_BLOCK = re.compile(r"(?i)(?=<(?:h[1-6]|p|div|li|tr|td|th|/?table|br|dt|dd|pre|title|section|article)\b)")
_NAME = re.compile(r"(?i)<(h(?=[1-6])|[a-z]+)([1-6])?")
_TAG = re.compile(r"<[^<>]*>")
_HIDDEN = {"!--": re.compile("-->")} | {
    tag: re.compile(rf"(?i)</{tag}\s*>") for tag in ("script", "style", "head", "template")
}
_HIDES = re.compile(r"(?i)<(!--|(?:script|style|head|template)\b)")
_DAY_ZERO = datetime(1899, 12, 30)
_CELL_ENDS = frozenset({"table", "tr", "td", "th"})
_HELD = 4 << 20
_SIGNS = ",;\t|"


def layout_of(kind: str, sink: TextSink) -> Layout:
    """What takes the lines of a plain text of a format and hands them to the sink as they are to be shown."""
    return _Table(sink) if kind in ("csv", "tsv") else _Page(sink) if kind == "html" else Layout(sink, kind in _MARKED)


def day(value: str) -> str:
    """A cell's number as the date and time that it stands for, counted from 1899-12-30."""
    try:
        when = _DAY_ZERO + timedelta(seconds=round(float(value) * 86_400))
    except (ValueError, OverflowError):
        return value
    if float(value) < 1:
        return f"{when:%H:%M}" if not when.second else f"{when:%H:%M:%S}"
    return f"{when:%Y-%m-%d}" if float(value) == int(float(value)) else f"{when:%Y-%m-%d %H:%M}"


def figure(value: str) -> str:
    """A number as sheets show it, with at most 15 digits; other text as it is."""
    try:
        return format(float(value), ".15g")
    except (ValueError, OverflowError):
        return value


def truth(value: str) -> str:
    """A truth value as sheets show it."""
    return {"1": "TRUE", "0": "FALSE"}.get(value, value)


class Grid:
    """Which cell of which table is being read, where tables lie inside one another."""

    def __init__(self) -> None:
        self._tables = 0
        self._open: list[list[int]] = []

    def table(self) -> None:
        """A table begins."""
        self._tables += 1
        self._open.append([self._tables, 0, 0])

    def row(self) -> None:
        """A row begins."""
        if self._open:
            self._open[-1][1] += 1
            self._open[-1][2] = 0

    def cell(self, count: int = 1) -> None:
        """A cell begins (or `count` cells pass)."""
        if self._open:
            self._open[-1][2] += count

    def close(self) -> None:
        """The innermost table ends."""
        if self._open:
            self._open.pop()

    @property
    def spot(self) -> CellAddress | None:
        """The innermost cell, None outside of tables."""
        table, row, column = self._open[-1] if self._open else (0, 0, 0)
        return (table, row, column) if row and column else None


def emit(sink: TextSink, text: str, level: int, spot: CellAddress | None) -> None:
    """A paragraph: the cell of a table, a heading of a level, or plain text."""
    if spot is None and level:
        sink.add(text, "heading", level)
    else:
        sink.add(text, "cell" if spot else "text", spot=spot)


class Layout:
    """Lines as they stand; in texts with marks, headings are told apart."""

    def __init__(self, sink: TextSink, marked: bool = False) -> None:
        self._sink, self._marked = sink, marked

    def line(self, line: str) -> None:
        """Take one line."""
        found = _HEADING.match(line) if self._marked else None
        if found is None:
            self._sink.add(line, "line")
        else:
            marks = found[1] or found[3] or line.partition(" ")[0]
            self._sink.add(line, "heading", len(marks))

    def done(self) -> None:
        """There are no more lines."""


class _Table(Layout):
    """Rows of cells; a cell may reach over several lines."""

    def __init__(self, sink: TextSink) -> None:
        super().__init__(sink)
        self._row = 0
        self._sign = ""
        self._open = ""

    def line(self, line: str) -> None:
        if not self._sign:
            self._sign = max(_SIGNS, key=line.count)
        self._sink.count(line)
        line = self._open + line.rstrip("\r")
        if line.count('"') % 2 and len(line) < _HELD:
            self._open = line + "\n"
        else:
            self._open = ""
            self._cells(line)

    def _cells(self, line: str) -> None:
        self._row += 1
        try:
            cells = next(csv.reader(line.split("\n"), delimiter=self._sign), [])
        except csv.Error:
            cells = [line]
        for column, cell in enumerate(cells, 1):
            self._sink.show(cell, "cell", spot=(0, self._row, column))

    def done(self) -> None:
        if self._open:
            self._cells(self._open)


class _Page(Layout):
    """A web page: what a reader of it sees. Nothing is fetched or run."""

    def __init__(self, sink: TextSink) -> None:
        super().__init__(sink)
        self._lines: list[str] = []
        self._length = 0

    def line(self, line: str) -> None:
        self._sink.count(line)
        if self._length < _HELD:
            self._lines.append(line)
            self._length += len(line)

    def done(self) -> None:
        of_html("\n".join(self._lines), self._sink.show)


def _visible(text: str) -> str:
    """A page without what is never shown. What is opened and not closed hides nothing; it is sought once."""
    parts, at, endless = [], 0, set[str]()
    for found in _HIDES.finditer(text):
        kind = found[1].lower()
        if found.start() < at or kind in endless:
            continue
        if (end := _HIDDEN[kind].search(text, found.end())) is None:
            endless.add(kind)
            continue
        parts.append(text[at : found.start()])
        at = end.end()
    return " ".join([*parts, text[at:]])


def of_html(text: str, put: Callable[..., None]) -> None:
    """Hand on the readable text of a page: headings, paragraphs and cells."""
    table = row = column = 0
    cell: list[str] = []
    for block in [*_BLOCK.split(_visible(text)), "</table>"]:
        found = _NAME.match(block)
        tag = found[1].lower() if found else ""
        plain = html.unescape(_TAG.sub(" ", block))
        if cell and tag not in _CELL_ENDS and not block.startswith("</"):
            cell.append(plain)
            continue
        if cell:
            put("".join(cell), "cell", spot=(table, row, column))
            cell = []
        if tag == "table":
            table, row = table + 1, 0
        elif tag == "tr":
            row, column = row + 1, 0
        if tag in ("td", "th") and row:
            column += 1
            cell = [plain]
        elif found and tag == "h":
            put(plain, "heading", int(found[2] or 1))
        else:
            put(plain)
