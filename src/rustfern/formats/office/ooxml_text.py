"""What OOXML parts say: stories of paragraphs, pages of diagrams, shared texts, cells.

Source: ECMA-376 part 1: WordprocessingML 17.3.1.26 (w:pStyle), 17.3.1.20 (w:outlineLvl), 17.3.3 (w:t), 17.4 (tables); SpreadsheetML 18.3.1.4 (cells);
PresentationML 19.3.1.36 (p:ph); DrawingML 21.1.2 (a:t) and 21.1.3 (tables).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from rustfern.core.errors import Malformed
from rustfern.formats.office import sheet_rows, xml_parts
from rustfern.formats.text_layout import Grid, day, emit, figure, truth
from rustfern.formats.text_sink import LONG_CHARACTERS, CellAddress, Gathered, Piece, Texts, TextSink, number

_CELL = re.compile(rb"<c( [^>]*[^/>])>(.*?)</c>", re.DOTALL)
_KIND = re.compile(rb" t=[\"'](\w+)[\"']")
_VALUE = re.compile(rb"<[vt](?: [^>]*)?>([^<]*)</")
_HEADING_NAME = re.compile(r"(?:heading ([1-9])|title)")
_LITERAL = re.compile(r'"[^"]{0,255}"|\\.|\[[^\]]{0,255}\]|_.')
_ADDRESS = re.compile(r"\$?([A-Z]{1,3})\$?([0-9]{1,7})")

_LONG_TEXT, _MAX_REPEATED = 1_000, 32 << 20
"""Characters of a shared text that comes again and again, when so many were taken of such texts."""

_SHORTS = 200_000
"""Shared texts that are held at hand, if they have no more characters than `_SHORT`."""
_SHORT = 100
_EXACT, _ZERO = 10, ord("0")
"""Whole numbers of so many digits look the same in every form."""

DRAWN = frozenset({"drawing", "pict", "object", "oMath", "sdt", "fldSimple", "instrText"})


class Story(xml_parts.Handler):
    """Paragraphs made of text runs: WordprocessingML and DrawingML alike."""

    wanted = DRAWN | {"Fallback", "p", "t", "tab", "br", "cr", "noBreakHyphen"}
    looked_at = frozenset()

    def __init__(self, sink: TextSink, amounts: dict[str, int]) -> None:
        self._sink, self._amounts = sink, amounts
        self._paragraphs: list[Gathered] = []
        self._in_text = False
        self._skipping = 0
        self.skims = not sink.counted

    def enough(self) -> bool:
        return self.skims and self._sink.pieces > 0

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        if tag in DRAWN:
            self._amounts["drawings"] = self._amounts.get("drawings", 0) + 1
        if tag == "Fallback":
            self._skipping += 1
        elif self._skipping:
            return
        elif tag == "p":
            self._paragraphs.append(Gathered(self.put))
        elif tag == "t":
            self._in_text = True
        elif tag in ("tab", "br", "cr") and self._paragraphs:
            self._paragraphs[-1].add(" ")
        elif tag == "noBreakHyphen" and self._paragraphs:
            self._paragraphs[-1].add("-")

    def text(self, text: str) -> None:
        if self._in_text and not self._skipping and self._paragraphs:
            self._paragraphs[-1].add(text)

    def end(self, tag: str) -> None:
        if tag == "Fallback":
            self._skipping -= 1
        elif self._skipping:
            return
        elif tag == "t":
            self._in_text = False
        elif tag == "p" and self._paragraphs:
            text = self._paragraphs.pop().rest()
            if text.strip():
                self.put(text)
                self._amounts["paragraphs"] = self._amounts.get("paragraphs", 0) + 1

    def put(self, text: str) -> None:
        """A paragraph has ended."""
        self._sink.add(text)


class ShownStory(Story):
    """The same, with headings and the cells of tables told apart. `levels` are those of the styles that are headings."""

    wanted = Story.wanted | {"tbl", "tr", "tc", "pStyle", "outlineLvl", "ph", "sp", "pPr"}
    looked_at = frozenset({"pStyle", "outlineLvl", "ph"})

    def __init__(self, sink: TextSink, amounts: dict[str, int], levels: Mapping[str, int]) -> None:
        super().__init__(sink, amounts)
        self._levels, self._level, self._title = levels, 0, False
        self._grid = Grid()

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        super().start(tag, attributes)
        if self._skipping:
            return
        if tag == "p":
            self._level = 1 if self._title else 0
        elif tag == "pStyle":
            self._level = self._levels.get(attributes.get("val", ""), 0)
        elif tag == "outlineLvl" and attributes.get("val", "") in "012345678":
            self._level = int(attributes["val"] or 0) + 1
        elif tag == "sp":
            self._title = False
        elif tag == "ph":
            self._title = attributes.get("type") in ("title", "ctrTitle")
        elif tag in ("tbl", "tr", "tc"):
            {"tbl": self._grid.table, "tr": self._grid.row, "tc": self._grid.cell}[tag]()

    def end(self, tag: str) -> None:
        super().end(tag)
        if tag == "tbl" and not self._skipping:
            self._grid.close()
        elif tag == "sp":
            self._title = False

    def put(self, text: str) -> None:
        emit(self._sink, text, self._level, self._grid.spot)


class Styles(xml_parts.Handler):
    """The heading styles of a text (style → level, from 1), and which formats of a workbook's cells show dates."""

    wanted = frozenset({"style", "name", "outlineLvl", "numFmt", "cellXfs", "xf"})

    def __init__(self) -> None:
        self.levels: dict[str, int] = {}
        self.dates: list[bool] = []
        self._style = ""
        self._formats: dict[str, str] = {}
        self._inside = False

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        value = attributes.get("val", "")
        if tag == "style":
            self._style = attributes.get("styleId", "")
        elif tag == "name" and (found := _HEADING_NAME.fullmatch(value.casefold())):
            self.levels[self._style] = int(found[1] or 1)
        elif tag == "outlineLvl" and value.isdigit() and int(value) < 9:
            self.levels.setdefault(self._style, int(value) + 1)
        elif tag == "numFmt":
            self._formats[attributes.get("numFmtId", "")] = attributes.get("formatCode", "")
        elif tag == "cellXfs":
            self._inside = True
        elif tag == "xf" and self._inside:
            ident = attributes.get("numFmtId", "0")
            self.dates.append(is_date(self._formats.get(ident, ""), int(ident) if ident.isdigit() else 0))

    def end(self, tag: str) -> None:
        if tag == "cellXfs":
            self._inside = False


def is_date(code: str, ident: int) -> bool:
    """Whether a number format shows dates or times (ECMA-376 part 1, 18.8.30)."""
    if not code:
        return 14 <= ident <= 22 or 45 <= ident <= 47
    plain = _LITERAL.sub("", code).lower()
    return any(sign in plain for sign in ("y", "d", "h", "ss")) and "general" not in plain


def spot_of(address: str) -> CellAddress | None:
    """Row and column of an address such as `BC12`; None for what is none."""
    found = _ADDRESS.fullmatch(address)
    if found is None:
        return None
    column = 0
    for letter in found[1]:
        column = column * 26 + ord(letter) - 64
    return 0, int(found[2]), column


class PlainText(xml_parts.Handler):
    """Every `Text` element of a diagram's page."""

    wanted = frozenset({"Text"})
    looked_at = frozenset()

    def __init__(self, sink: TextSink) -> None:
        self._sink, self._text = sink, Gathered(sink.add)
        self._inside = False

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        if tag == "Text":
            self._inside, self._text = True, Gathered(self._sink.add)

    def text(self, text: str) -> None:
        if self._inside:
            self._text.add(text)

    def end(self, tag: str) -> None:
        if tag == "Text":
            self._inside = False
            self._sink.add(self._text.rest())


class Strings(xml_parts.Handler):
    """The shared strings of a workbook; phonetic runs are left out."""

    wanted = frozenset({"si", "rPh", "t"})
    looked_at = frozenset()

    def __init__(self) -> None:
        self.strings = Texts()
        self._parts: list[str] | None = None
        self._length = 0
        self._in_text = False
        self._phonetic = 0

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        if tag == "si":
            self._parts, self._length = [], 0
        elif tag == "rPh":
            self._phonetic += 1
        elif tag == "t":
            self._in_text = not self._phonetic

    def text(self, text: str) -> None:
        if self._in_text and self._parts is not None and self._length < LONG_CHARACTERS:
            self._parts.append(text)
            self._length += len(text)

    def end(self, tag: str) -> None:
        if tag == "t":
            self._in_text = False
        elif tag == "rPh":
            self._phonetic -= 1
        elif tag == "si" and self._parts is not None:
            self.strings.append("".join(self._parts))
            self._parts = None


_PLAIN_ITEM = re.compile(rb"<si><t(?: xml:space=\"preserve\")?>([^<&]*)</t></si>\s*")
_LIST = re.compile(rb"(?:\s*<\?[^>]*\?>)?\s*<sst [^>]*>\s*")


class PlainStrings:
    """The shared strings of a part in which each is one plain text, as programs write them by the million: taken many at a time from what
    passes through. Not `plain`: some are not, and the part must be read again, element by element.
    """

    def __init__(self) -> None:
        self.strings = Texts()
        self.plain = True
        self._held = b""
        self._begun = False

    def watch(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """Hand a part on while its texts are taken."""
        for chunk in chunks:
            if self.plain:
                self._take(self._held + chunk)
            yield chunk
        self.plain = self.plain and self._held.strip() == b"</sst>"

    def _take(self, data: bytes) -> None:
        at = 0
        if not self._begun:
            begun = _LIST.match(data)
            at, self._begun = (begun.end(), True) if begun else (0, False)
        end = data.rfind(b"</si>") + 5
        if self._begun and end > at + 4:
            found = _PLAIN_ITEM.findall(data, at, end)
            self.plain = (
                len(found) == data.count(b"<si", at, end)
                and b"\r" not in data
                and len(_PLAIN_ITEM.sub(b"", data[at:end])) == 0
            )
            for text in found if self.plain else ():
                self.strings.add(text)
            at = end
        self._held = data[at:]
        self.plain = self.plain and len(self._held) < LONG_CHARACTERS


_SHARED = re.compile(rb't="s"[^<>]{0,400}><v>([0-9]+)</v></c>')
_TAIL = 512


class SharedNumbers:
    """The shared texts that the cells of a sheet name, taken from what passes through. Not `plain`: the sheet writes its cells in another way
    than programs do, and must be read cell by cell.
    """

    def __init__(self) -> None:
        self.plain = True
        self._begun = False
        self._numbers: set[bytes] = set()

    def watch(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """Hand a sheet on while the numbers are taken."""
        before = b""
        for chunk in chunks:
            data = before + chunk
            end = data.rfind(b"</c>") + 4
            if end < 4:
                end = max(len(data) - _TAIL, 0)
            self._take(data[:end])
            before = data[end:]
            yield chunk
        self._take(before)

    def _take(self, data: bytes) -> None:
        if not self.plain:
            return
        found = _SHARED.findall(data)
        self._numbers.update(found)
        # A writer is the same from the first cell to the last.
        strange = not self._begun and any(sign in data for sign in (b"t='", b"t =", b"t= ", b":c ", b"<!"))
        self._begun = True
        self.plain = len(found) == data.count(b't="s"') and not strange

    def require(self, strings: Texts | None, part: str) -> None:
        """Raises `Malformed` for a shared text that does not exist."""
        if not self._numbers:
            return
        if strings is None:
            raise Malformed("the part sharedStrings.xml, which cells need, is missing")
        highest = max(map(int, self._numbers))
        if highest >= len(strings):
            raise Malformed(f"a cell of part {part} needs shared text {highest}, which does not exist")


class Cells(xml_parts.Handler):
    """The cells of one sheet. A shared string that does not exist is damage."""

    wanted = frozenset({"c", "v", "t"})
    looked_at = frozenset({"c"})
    item_end = b"</c>"

    def __init__(
        self,
        sink: TextSink,
        strings: Texts | None,
        amounts: dict[str, int],
        part: str,
        dates: Sequence[bool] = (),
        *,
        skims: bool = False,
    ) -> None:
        self._sink, self._strings, self._amounts, self._part = sink, strings, amounts, part
        self._dates, self._style, self._spot = dates, "", ""
        self._kind = ""
        self._text: Gathered | None = None
        self._value: list[str] = []
        self._long: set[int] = set()
        self._repeated = 0
        self._shorts: dict[bytes, str] = {}
        self.skims = skims
        self.piece_end = b"" if skims or not sink.counted else sheet_rows.ROW_END

    def enough(self) -> bool:
        return self.skims and self._sink.pieces > 0

    def whole(self, data: bytes) -> bool:
        if (cells := self.understood(data, first=True)) is not None:
            self.take(cells)
            return True
        if (
            self._sink.keeps
            or b"<c " not in data
            or b"<c>" in data
            or b":c " in data
            or b"&" in data
            or b"<rPh" in data
            or b"<!" in data
            or b"\r" in data
        ):
            return False
        for attributes, inner in _CELL.findall(data):
            found = _KIND.search(attributes)
            texts = _VALUE.findall(inner)
            if texts:
                self._take(found[1].decode() if found else "n", b"".join(texts).decode("utf-8"))
        return True

    def understood(self, data: bytes, *, first: bool) -> list[sheet_rows.Cell] | None:
        return sheet_rows.cells_of(data, first=first)

    def take(self, found: list[sheet_rows.Cell]) -> None:
        """Cells as `understood` gives them. As `_take` does with each, but what all of them share is done once."""
        sink, shown = self._sink, self._sink.asks
        counted: list[str] = []
        cells: list[Piece] = []
        columns: dict[bytes, int] = {}
        section, last, line = sink.section, b"", 0
        try:
            for letters, row, style, kind, other, value, own in found:
                if not value and not own:
                    continue
                is_number = not kind or kind == b"n"
                if value.isdigit() and len(value) <= _EXACT and (value[0] != _ZERO or len(value) == 1) and is_number:
                    text = plain = value.decode()
                elif kind == b"s":
                    text = plain = self._shorts.get(value + own) or self._named_by(value + own)
                else:
                    full = sheet_rows.text_of(value or own)
                    text = " ".join((number(full) if is_number else full).split())
                    plain = text
                    if shown and (is_number or kind == b"b"):
                        plain = " ".join((figure(full) if is_number else truth(full)).split())
                if not text:
                    continue
                counted.append(text)
                if shown:
                    at = style or other
                    if is_number and at and int(at) < len(self._dates) and self._dates[int(at)]:
                        plain = " ".join(day(sheet_rows.text_of(value or own)).split())
                    column = columns.get(letters)
                    if column is None:
                        column = columns[letters] = sheet_rows.column_of(letters)
                    if row != last:
                        last, line = row, int(row)
                    cells.append(Piece(plain, "cell", 0, section, (0, line, column)))
        finally:
            sink.count_folded(counted)
            if counted:
                self._amounts["cells"] = self._amounts.get("cells", 0) + len(counted)
            if shown:
                sink.show_cells(cells)

    def _named_by(self, value: bytes) -> str:
        """The shared text of a number, its white space folded. Raises `Malformed` where there is none."""
        text = " ".join(self._shared_text(value.decode("utf-8", "replace")).split())
        if len(text) <= _SHORT and len(self._shorts) < _SHORTS:
            self._shorts[value] = text
        return text

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        if tag == "c":
            self._kind, self._value = attributes.get("t", "n"), []
            self._style, self._spot = attributes.get("s", ""), attributes.get("r", "")
        elif tag in ("v", "t"):
            self._text = Gathered(self._sink.count)

    def text(self, text: str) -> None:
        if self._text is not None:
            self._text.add(text)

    def end(self, tag: str) -> None:
        if tag in ("v", "t") and self._text is not None:
            self._value.append(self._text.rest())
            self._text = None
        elif tag == "c" and self._value:
            self._take(self._kind, "".join(self._value))

    def _shared(self, number: int) -> str:
        """A shared text. Long ones that come again and again are cut to their beginnings: a small file may name one a million times."""
        assert self._strings is not None
        if number in self._long and self._repeated > _MAX_REPEATED:
            return self._strings.beginning(number, _LONG_TEXT)
        text = self._strings[number]
        if len(text) > _LONG_TEXT:
            self._repeated += len(text) if number in self._long else 0
            self._long.add(number)
        return text

    def _shared_text(self, value: str) -> str:
        if self._strings is None:
            raise Malformed("the part sharedStrings.xml, which cells need, is missing")
        if not value.strip().isdigit() or int(value) >= len(self._strings):
            raise Malformed(f"a cell of part {self._part} needs shared text {value}, which does not exist")
        return self._shared(int(value))

    def _take(self, kind: str, value: str) -> None:
        full = value
        if kind == "s":
            value = self._shared_text(value)
        elif kind == "n":
            value = number(value)
        if value.strip():
            self._sink.count(value)
            if self._sink.keeps:
                dated = kind == "n" and self._style.isdigit() and int(self._style) < len(self._dates)
                plain = figure(full) if kind == "n" else value
                shown = day(full) if dated and self._dates[int(self._style)] else plain
                self._sink.show(truth(shown) if kind == "b" else shown, "cell", spot=spot_of(self._spot))
            self._amounts["cells"] = self._amounts.get("cells", 0) + 1
