"""Binary workbooks put together again: parts of records closed, sheets and lists made anew.

Source: [MS-XLSB] 2.1.4 (records), 2.1.7.38, 2.1.7.61 and 2.1.7.62 (parts), 2.4 (records by number), 2.5.168 (XLWideString).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator

from rustfern.core.errors import Malformed
from rustfern.formats.office import xlsb
from rustfern.repair.interface import LossKind, NothingLeft, Step
from rustfern.repair.ooxml_work import Work
from rustfern.repair.package import natural
from rustfern.repair.xml_mend import mark_of

_ROW, _TEXT_CELL, _SHARED, _ITEM = 0, 6, 7, 19
_BOOK, _BOOK_END, _SHEET, _SHEET_END, _LIST, _LIST_END, _DATA, _DATA_END, _BUNDLE = (
    131,
    132,
    129,
    130,
    143,
    144,
    145,
    146,
    156,
)
_STRINGS, _STRINGS_END = 159, 160
_MOST_STRINGS = 2_000_000
_MAX_RECORD = 1 << 20
_STRAY = "xl/worksheets/made1.bin"
"""The sheet of texts whose cells are lost."""


def _wide(text: str) -> bytes:
    return struct.pack("<I", len(text.encode("utf-16-le")) // 2) + text.encode("utf-16-le")


def record(kind: int, body: bytes = b"") -> bytes:
    """One record as it is written."""
    head = bytes((kind,)) if kind < 128 else bytes((kind & 0x7F | 0x80, kind >> 7))
    length, size = len(body), b""
    while True:
        size += bytes((length & 0x7F | (0x80 if length > 0x7F else 0),))
        length >>= 7
        if not length:
            return head + size + body


def whole_records(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The records in front of the first that does not read."""
    try:
        for kind, body in xlsb.records([data], "it"):
            if len(body) > _MAX_RECORD or (not kind and not body):
                return
            yield kind, body
    except Malformed:
        return


class BinaryWorkbook(Work):
    """A binary workbook while it is worked on."""

    def usual_main(self) -> str:
        """The workbook's own part."""
        return "xl/workbook.bin"

    def assemble(self) -> None:
        """A workbook whose sheets end, with a list of them and a text for every cell that asks for one."""
        package = self.package
        for name in sorted(package.found, key=natural):
            if re.fullmatch(r"xl/worksheets/[^/]+\.bin", name) and not self._is_whole(name, _SHEET_END):
                package.parts.pop(name, None)
                self._mend_sheet(name)
        sheets = [
            name for name in sorted(package.parts, key=natural) if re.fullmatch(r"xl/worksheets/[^/]+\.bin", name)
        ]
        package.lost[:] = [
            loss for loss in package.lost if loss.where not in package.parts or loss.kind is not LossKind.PARTS
        ]
        self._mend_strings(sheets)
        sheets += self._stray_texts(sheets)
        if not sheets:
            raise NothingLeft("neither a sheet nor a text of the binary workbook is left")
        self._mend_list(sheets)
        self.add_implied_links()

    def _is_whole(self, name: str, last: int) -> bool:
        """Whether a part was kept, and its records read up to the one that ends it."""
        data = self.package.read(name)
        kinds = [kind for kind, _ in whole_records(data)] if data else []
        return bool(kinds) and kinds[-1] == last

    def _mend_sheet(self, name: str) -> None:
        told = self.package.content(name)
        kept = list(whole_records(told.data))
        if not any(kind in (_ROW, _DATA) for kind, _ in kept):
            return
        body = b"".join(record(kind, each) for kind, each in kept if kind not in (_DATA_END, _SHEET_END))
        rows = [int.from_bytes(each[:4], "little") for kind, each in kept if kind == _ROW and len(each) >= 4]
        last = max(rows, default=-1) + 1
        if self.job.marks:
            body += _row_of(last, mark_of(0, "rows"))
        self.package.parts[name] = body + record(_DATA_END) + record(_SHEET_END)
        self.package.did(Step.RECORDS)
        self.package.loses(LossKind.ROWS, name)

    def _mend_strings(self, sheets: list[str]) -> None:
        package = self.package
        name = next(
            (each for each in package.found if re.fullmatch(r"xl/sharedStrings\d*\.bin", each)), "xl/sharedStrings.bin"
        )
        if self._is_whole(name, _STRINGS_END):
            return
        most = -1
        for sheet in sheets:
            for kind, body in whole_records(package.read(sheet)):
                if kind == _SHARED and len(body) >= 12:
                    most = max(most, int.from_bytes(body[8:12], "little"))
        if not 0 <= most < _MOST_STRINGS:
            return
        data = package.content(name).data if name in package.found else b""
        items = [body for kind, body in whole_records(data) if kind == _ITEM]
        short = max(most + 1 - len(items), 0)
        items += [b"\0" + _wide("[this text is missing]" if self.job.marks else "")] * short
        head = record(_STRINGS, struct.pack("<II", len(items), len(items)))
        package.parts[name] = head + b"".join(record(_ITEM, body) for body in items) + record(_STRINGS_END)
        package.did(Step.SKELETON)
        package.lost[:] = [loss for loss in package.lost if loss.where != name]
        package.loses(LossKind.CELL_TEXTS, name, short)
        self.set_links(self.main, [link for link in self.links_of(self.main) if link.target != name])
        self.add_link(self.main, name)

    def _stray_texts(self, sheets: list[str]) -> list[str]:
        """A sheet of the texts whose cells are lost, if sheets or rows are."""
        package = self.package
        name = next((each for each in package.parts if re.fullmatch(r"xl/sharedStrings\d*\.bin", each)), None)
        if name is None or (sheets and not any(loss.kind is LossKind.ROWS for loss in package.lost)):
            return []
        items = [body for kind, body in whole_records(package.read(name)) if kind == _ITEM]
        used = {
            int.from_bytes(body[8:12], "little")
            for sheet in sheets
            for kind, body in whole_records(package.read(sheet))
            if kind == _SHARED and len(body) >= 12
        }
        stray = [number for number, body in enumerate(items) if number not in used and len(body) > 5]
        if not stray:
            return []
        rows = _row_of(0, "[texts whose cells are lost]") if self.job.marks else b""
        for row, number in enumerate(stray, 1):
            rows += _row_head(row) + record(_SHARED, struct.pack("<III", 0, 0, number))
        package.parts[_STRAY] = record(_SHEET) + record(_DATA) + rows + record(_DATA_END) + record(_SHEET_END)
        return [_STRAY]

    def _mend_list(self, sheets: list[str]) -> None:
        """The list of sheets anew, if it is lost or names sheets that are."""
        package = self.package
        data = package.read(self.main)
        listed = xlsb.sheets(data) if data else []
        targets = {link.ident: link.target for link in self.links_of(self.main)}
        lost = [name for name, ident in listed if targets.get(ident) not in package.parts]
        if listed and not lost and {targets.get(ident) for _, ident in listed} >= set(sheets):
            return
        for name in lost:
            package.loses(LossKind.SHEETS, name, 1)
        names = {targets.get(ident): name for name, ident in listed}
        names.setdefault(_STRAY, "Texts without cells")
        if nameless := sum(sheet not in names for sheet in sheets):
            package.loses(LossKind.NAMES, "", nameless)
        rows = b""
        for number, sheet in enumerate(sheets, 1):
            ident = self.add_link(self.main, sheet)
            rows += record(
                _BUNDLE, struct.pack("<II", 0, number) + _wide(ident) + _wide(names.get(sheet) or f"Sheet{number}")
            )
        package.parts[self.main] = record(_BOOK) + record(_LIST) + rows + record(_LIST_END) + record(_BOOK_END)
        package.did(Step.SKELETON)


def _row_head(number: int) -> bytes:
    return record(_ROW, struct.pack("<IIHBBB", number, 0, 300, 0, 0, 0) + struct.pack("<III", 1, 0, 0))


def _row_of(number: int, text: str) -> bytes:
    """A row with one cell of text."""
    return _row_head(number) + record(_TEXT_CELL, struct.pack("<II", 0, 0) + _wide(text))
