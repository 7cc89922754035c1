"""Binary workbook parts: records, shared strings, cells.

Source: [MS-XLSB] 2.1.4 (records: variable-length type and size), 2.5.122 (RkNumber), 2.5.168 (XLWideString).
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.text_layout import figure, truth
from rustfern.formats.text_sink import Texts, TextSink, number

_ROW, _RK, _ERROR, _BOOL, _REAL, _STRING, _SHARED = 0, 2, 3, 4, 5, 6, 7
_FORMULA_STRING, _FORMULA_NUMBER, _FORMULA_BOOL = 8, 9, 10
_SST_ITEM, _BUNDLE_SHEET = 19, 156
_HEAD_BYTES, _MAX_BODY_BYTES = 6, 32 << 20


def records(chunks: Iterable[bytes], part: str) -> Iterator[tuple[int, bytes]]:
    """Yield (type, body) of each record of a part that comes in chunks. Raises `Malformed` where a record reaches beyond the part."""
    source = iter(chunks)
    data, position, before = b"", 0, 0
    while True:
        while len(data) - position < _HEAD_BYTES and (more := next(source, None)) is not None:
            before += position
            data, position = data[position:] + more, 0
        end = len(data)
        if position >= end:
            return
        start = before + position
        kind = data[position]
        position += 1
        if kind & 0x80:
            if position >= end:
                raise Malformed(f"part {part} ends inside a record", start)
            kind = (kind & 0x7F) | ((data[position] & 0x7F) << 7)
            position += 1
        length = 0
        for shift in (0, 7, 14, 21):
            if position >= end:
                raise Malformed(f"part {part} ends inside a record", start)
            byte = data[position]
            position += 1
            length |= (byte & 0x7F) << shift
            if not byte & 0x80:
                break
        if length > _MAX_BODY_BYTES:
            raise Refused(f"a record of part {part} is larger than any program writes: refused", start)
        if position + length > end:
            pieces, there = [data[position:]], end - position
            while there < length and (more := next(source, None)) is not None:
                pieces.append(more)
                there += len(more)
            if there < length:
                raise Malformed(f"part {part} ends inside a record", start)
            before += position
            data, position = b"".join(pieces), 0
        yield kind, data[position : position + length]
        position += length


def _wide(body: bytes, at: int) -> str:
    count = int.from_bytes(body[at : at + 4], "little")
    if at + 4 + 2 * count > len(body):
        raise Malformed("a text of the workbook is longer than its record")
    return body[at + 4 : at + 4 + 2 * count].decode("utf-16-le", "replace")


def rk(value: int) -> float:
    """An RK number: 30 bits of an integer or of a double, perhaps times 100 ([MS-XLS] 2.5.217)."""
    if value & 2:
        result = float((value >> 2) - (1 << 30) if value & 0x80000000 else value >> 2)
    else:
        result = float(struct.unpack("<d", struct.pack("<Q", (value & 0xFFFFFFFC) << 32))[0])
    return result / 100 if value & 1 else result


def shared_strings(chunks: Iterable[bytes]) -> Texts:
    """The texts of `sharedStrings.bin`, in order."""
    found = Texts()
    for kind, body in records(chunks, "sharedStrings.bin"):
        if kind == _SST_ITEM:
            found.append(_wide(body, 1))
    return found


def sheets(data: bytes) -> list[tuple[str, str]]:
    """(name, relationship id) of each sheet of `workbook.bin`, in order ([MS-XLSB] 2.4.313, BrtBundleSh)."""
    found = []
    for kind, body in records([data], "workbook.bin"):
        if kind == _BUNDLE_SHEET and len(body) >= 12:
            ident = _wide(body, 8)
            found.append((_wide(body, 12 + 2 * len(ident)), ident))
    return found


def cells(chunks: Iterable[bytes], strings: Texts, sink: TextSink, amounts: dict[str, int], part: str) -> None:
    """Hand the cells of one sheet to the sink. Raises `Malformed` for a shared text that does not exist."""
    count = row = 0
    for kind, body in records(chunks, part):
        value = full = ""
        if kind == _ROW and len(body) >= 4:
            row = int.from_bytes(body[:4], "little") + 1
        if kind == _SHARED and len(body) >= 12:
            index = int.from_bytes(body[8:12], "little")
            if index >= len(strings):
                raise Malformed(f"a cell of part {part} needs shared text {index}, which does not exist")
            value = strings[index]
        elif kind in (_STRING, _FORMULA_STRING) and len(body) >= 12:
            value = _wide(body, 8)
        elif kind in (_REAL, _FORMULA_NUMBER) and len(body) >= 16:
            full = repr(struct.unpack_from("<d", body, 8)[0])
            value = number(full)
        elif kind == _RK and len(body) >= 12:
            full = repr(rk(int.from_bytes(body[8:12], "little")))
            value = number(full)
        elif kind in (_BOOL, _FORMULA_BOOL) and len(body) >= 9:
            value = str(body[8])
        if value.strip():
            sink.count(value)
            shown = truth(value) if kind in (_BOOL, _FORMULA_BOOL) else figure(full) if full else value
            sink.show(shown, "cell", spot=(0, row, int.from_bytes(body[:4], "little") + 1))
            count += 1
    if count:
        amounts["cells"] = amounts.get("cells", 0) + count
