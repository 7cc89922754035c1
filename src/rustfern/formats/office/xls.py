"""The main stream of binary workbooks: records from BOF to EOF; cells through xlrd.

Source: [MS-XLS] 2.1.4 (records), 2.4.21 (BOF), 2.4.103 (EOF), 2.4.117 (FilePass), 2.4.28 (BoundSheet8),
2.4.127, 2.4.148, 2.4.149, 2.4.175, 2.4.180, 2.4.220 (cells).
"""

from __future__ import annotations

import gc
import io
import struct
from typing import TYPE_CHECKING, Literal

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.text_layout import day, figure, truth
from rustfern.formats.text_sink import Enough, TextSink, number

if TYPE_CHECKING:
    from xlrd.book import Book

_BOF, _EOF, _FILEPASS, _BOUNDSHEET = 0x0809, 0x000A, 0x002F, 0x0085
_OLDER_BOFS = (0x0009, 0x0209, 0x0409)
"""The first records of the second to the fourth version (those files are no compound files)."""
_TOO_MANY_ZEROS = 16
_MAX_RECORD = 8228
_MAX_CELLS, _MAX_IN_SHEET = 1_500_000, 600_000
"""Cells that are read; the library holds a sheet whole."""
_CELLS = frozenset({0x0006, 0x00FD, 0x0203, 0x0204, 0x0205, 0x027E})
"""Formula, LabelSst, Number, Label, BoolErr, RK."""
_SEVERAL = 0x00BD
_WRITEACCESS, _INTERFACE_END = 0x005C, 0x00E2
_LARGE = 20_000

Outcome = Literal["read", "encrypted", "untold"]
"""What became of a workbook; `untold`: every record is whole, but its cells are too many to be told."""


def read(data: bytes, sink: TextSink, amounts: dict[str, int]) -> Outcome:
    """Hand the cells to the sink. Raises `Malformed` where records break."""
    position, depth, substreams = 0, 0, 0
    total = cells = most = 0
    sheets: list[int] = []
    starts: set[int] = set()
    first, zeros = int.from_bytes(data[:2], "little"), 0
    begins = first if first in _OLDER_BOFS else _BOF
    while position + 4 <= len(data):
        kind, length = struct.unpack_from("<HH", data, position)
        if kind == 0 and length == 0 and depth == 0:
            break  # padding behind the last sheet
        zeros = zeros + 1 if kind == 0 and length == 0 else 0
        if zeros > _TOO_MANY_ZEROS:
            raise Malformed("zeros where records of the workbook should be", position - 4 * _TOO_MANY_ZEROS)
        if length > _MAX_RECORD or position + 4 + length > len(data):
            raise Malformed("a record of the workbook reaches beyond its stream", position)
        if position == 0 and kind != begins:
            raise Malformed("the workbook does not begin with its first record", 0)
        if kind == begins:
            depth += 1
            starts.add(position)
            substreams += 1
            cells = 0
        elif kind == _EOF:
            depth -= 1
            if depth < 0:
                raise Malformed("the workbook ends more often than it begins", position)
        elif kind == _FILEPASS:
            return "encrypted"
        elif kind in _CELLS:
            total, cells = total + 1, cells + 1
            most = max(most, cells)
        elif kind == _SEVERAL:
            total, cells = total + (length - 6) // 6, cells + (length - 6) // 6
            most = max(most, cells)
        elif kind == _BOUNDSHEET and length >= 4 and begins == _BOF:  # before, it holds a name alone
            sheets.append(int.from_bytes(data[position + 4 : position + 8], "little"))
        position += 4 + length
    if depth or not substreams:
        raise Malformed("the workbook stops before its last record", position)
    for sheet in sheets:
        if sheet not in starts:
            raise Malformed("a sheet of the workbook is not where the list of sheets says", sheet)
    if total > _MAX_CELLS or most > _MAX_IN_SHEET:
        amounts["cells"] = total
        return "untold"
    _cells(data, sink, amounts)
    return "read"


def _opened(data: bytes) -> Book:
    import xlrd

    return xlrd.open_workbook(file_contents=data, logfile=io.StringIO(), on_demand=True, ragged_rows=True)


def _without_user(data: bytes) -> bytes:
    """The records without the name of who saved them, which some programs write in their own way and which the library insists on."""
    kept, position = [], 0
    while position + 4 <= len(data):
        kind, length = struct.unpack_from("<HH", data, position)
        record = data[position : position + 4 + length]
        # The length stays: sheets are found by their places.
        kept.append(struct.pack("<HH", _INTERFACE_END, length) + bytes(length) if kind == _WRITEACCESS else record)
        position += 4 + length
    return b"".join(kept) + data[position:]


def _cells(data: bytes, sink: TextSink, amounts: dict[str, int]) -> None:
    import xlrd
    import xlrd.formula

    try:
        try:
            book = _opened(data)
        except UnicodeDecodeError:
            book = _opened(_without_user(data))
        count = 0
        for index in range(book.nsheets):
            sheet = book.sheet_by_index(index)
            sink.section = sheet.name
            for row in range(sheet.nrows):
                for column, cell in enumerate(sheet.row(row), 1):
                    value = ""
                    if cell.ctype == xlrd.XL_CELL_TEXT:
                        value = str(cell.value)
                    elif cell.ctype in (xlrd.XL_CELL_NUMBER, xlrd.XL_CELL_DATE):
                        value = number(repr(cell.value))
                    elif cell.ctype == xlrd.XL_CELL_BOOLEAN:
                        value = str(int(cell.value))
                    if value.strip():
                        sink.count(value)
                        shown = figure(repr(cell.value)) if cell.ctype == xlrd.XL_CELL_NUMBER else value
                        shown = day(value) if cell.ctype == xlrd.XL_CELL_DATE and not book.datemode else shown
                        shown = truth(value) if cell.ctype == xlrd.XL_CELL_BOOLEAN else shown
                        sink.show(shown, "cell", spot=(0, row + 1, column))
                        count += 1
            # Not two of them at once: a sheet and its book hold each other, and the next is read while this name still holds the last.
            large = sheet.nrows > _LARGE
            del sheet
            book.unload_sheet(index)
            if large:
                gc.collect()
        if count:
            amounts["cells"] = count
    except (Malformed, Enough):
        raise
    except (xlrd.formula.FormulaError, AssertionError, NotImplementedError) as error:
        # What the library does not know is no damage.
        raise Refused("a workbook whose records are whole, but whose cells cannot be read here") from error
    except Exception as error:  # xlrd raises whatever its code runs into on damaged records
        raise Malformed(f"the cells of the workbook cannot be read ({type(error).__name__})") from error
