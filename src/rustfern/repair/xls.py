"""Binary workbooks put together again record by record: sheets that end, a list of sheets that fits, texts for every cell that asks for one.

Source: [MS-XLS] 2.1.4 (records), 2.4.21 (BOF), 2.4.28 (BoundSheet8), 2.4.148 (Label), 2.4.149 (LabelSst), 2.4.265 (SST), 2.5.293 and 2.5.294
(strings), 2.4.58 (Continue).
"""

from __future__ import annotations

import io
import re
import struct
from collections.abc import Iterator

import msgspec

from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.repair.compound_salvage import CompoundSalvage
from rustfern.repair.compound_writer import compound
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.xml_mend import mark_of

_BOF, _EOF, _PASS, _SHEET, _SST, _CONTINUE, _EXTSST = 0x0809, 0x000A, 0x002F, 0x0085, 0x00FC, 0x003C, 0x00FF
_INDEX, _DBCELL, _LABEL, _LABELSST, _DIMENSIONS, _WINDOW2 = 0x020B, 0x00D7, 0x0204, 0x00FD, 0x0200, 0x023E
_XF, _FONT, _FORMAT, _CODEPAGE, _STYLE, _WINDOW1, _DATES = 0x00E0, 0x0031, 0x041E, 0x0042, 0x0293, 0x003D, 0x0022
_DRAWN = frozenset({0x00EC, 0x005D, 0x01B6, 0x001C, 0x00EB, 0x00ED})
_POINTERS = frozenset({_INDEX, _DBCELL, _EXTSST})
_FIXED = {0x0203: 14, _LABELSST: 10, 0x027E: 10, 0x0201: 6, 0x0205: 8, 0x0208: 16, _EOF: 0, 0x0055: 2}
_CELLS = frozenset(
    {0x0203, _LABELSST, 0x027E, 0x0201, 0x0205, 0x0208, 0x00BD, 0x00BE, 0x0006, 0x0207, _LABEL, 0x04BC, 0x0221, 0x00D6}
)
_MOST_IN_RECORD = 8224
_MAX_RECORD = 8228
_MAX_TEXTS = 2_000_000
_IMPOSSIBLE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\uf8ff\ufff0-\uffff]")
_BOOKS = (b"\x09\x08\x10\x00\x00\x06\x05\x00", b"\x09\x08\x08\x00\x00\x05\x05\x00", b"\x09\x08\x10\x00\x00\x05\x05\x00")


class Record(msgspec.Struct, frozen=True):
    """One record: kind, content, place in the stream; whether something is missing in front of it."""

    kind: int
    body: bytes
    at: int
    after_gap: bool = False

    def packed(self) -> bytes:
        """The record as it is written."""
        return struct.pack("<HH", self.kind, len(self.body)) + self.body


def records(data: bytes) -> Iterator[Record]:
    """The records that read; behind a fault the next place at which several of them follow each other."""
    at, gap, zeros = 0, False, 0
    while at + 4 <= len(data):
        kind, length = struct.unpack_from("<HH", data, at)
        zeros = zeros + 1 if not kind and not length else 0
        fits = (
            length <= _MAX_RECORD and at + 4 + length <= len(data) and zeros < 4 and _FIXED.get(kind, length) == length
        )
        if not fits:
            following = _resume(data, at + 1)
            if following is None:
                return
            at, gap, zeros = following, True, 0
            continue
        if kind or length:
            yield Record(kind, data[at + 4 : at + 4 + length], at, gap)
            gap = False
        at += 4 + length


def _resume(data: bytes, start: int) -> int | None:
    """Where three records of cells, or the beginning of a sheet, follow each other."""
    for found in re.finditer(
        rb"[\x03\xfd\x7e\x01\x05\x08\xbd\xbe\x06\x09\x0a][\x00\x02\x08].\x00", data[start:], re.DOTALL
    ):
        at = start + found.start()
        place, good = at, 0
        while good < 3 and place + 4 <= len(data):
            kind, length = struct.unpack_from("<HH", data, place)
            known = (
                kind in _CELLS
                or (kind == _BOF and length in (8, 16))
                or (kind == _EOF and good > 0)
                or (good > 1 and kind)
            )
            if (
                not known
                or length > _MAX_RECORD
                or _FIXED.get(kind, length) != length
                or place + 4 + length > len(data)
            ):
                break
            good += 1
            place += 4 + length
        if good == 3 or (good and place == len(data)):
            return at
    return None


def repair(job: Job, found: CompoundSalvage) -> tuple[bytes, Outcome]:
    """A whole workbook. Raises `NothingLeft`."""
    name = "Book" if found.find("Workbook") is None and found.find("Book") is not None else "Workbook"
    main = found.find(name) or found.by_first_bytes(*_BOOKS)
    if main is None:
        raise NothingLeft("the stream of the workbook is lost")
    if main.whole:
        streams = {path: told.data for path, told in found.streams.items() if told.whole and told.data}
        streams = {path: told for path, told in streams.items() if path.rpartition("/")[2] != name} | {name: main.data}
        if (made := _held(streams, job)) is not None:
            lost_parts = tuple(Loss(LossKind.PARTS, path, 1) for path, told in found.streams.items() if not told.whole)
            return made, Outcome("xls", (Step.CHAINS, Step.CONTAINER), lost_parts)
    book = _Book(main.data, job)
    others = {
        path: told.data for path, told in found.streams.items()
        if told.whole and told.data and path.rpartition("/")[2] not in ("Workbook", "Book") and path.startswith(("\x05", "\x01"))
    }  # fmt: skip
    for plain in (False, True):
        if (made := _held({name: book.write(plain=plain), **others}, job)) is not None:
            steps = (Step.CHAINS, Step.RECORDS, Step.CONTAINER)
            return made, Outcome("xls", steps, tuple(dict.fromkeys(book.lost)))
    raise NothingLeft("what is left of its records does not make a workbook again")


def _held(streams: dict[str, bytes], job: Job) -> bytes | None:
    """A compound file of these streams, if a workbook in it can be read."""
    made = compound(streams, _CLASS)
    state = formats.check(io.BytesIO(made), job.name, digest=False, counted=False).state
    return made if state is State.INTACT else None


_CLASS = bytes.fromhex("2008020000000000c000000000000046")


class _Book:
    """The records of a workbook, sheet by sheet."""

    def __init__(self, data: bytes, job: Job) -> None:
        self.job = job
        self.lost: list[Loss] = []
        self.globals: list[Record] = []
        self.sheets: list[list[Record]] = []
        self.cut: set[int] = set()
        self.names: list[str] = []
        self.wide = data[4:6] != b"\x00\x05"
        every = list(records(data))
        if any(record.kind == _PASS for record in every):
            raise NothingLeft("it is protected by a password: it can be repaired only when it was opened with it")
        self._part(every, len(data))
        if not self.sheets and not self.globals:
            raise NothingLeft("no record of the workbook can be read")

    def _part(self, every: list[Record], size: int) -> None:
        depth, now = 0, None
        for record in every:
            if record.kind == _BOF and len(record.body) >= 4:
                what = int.from_bytes(record.body[2:4], "little")
                if what == 5 and not self.globals and not self.sheets:
                    now = self.globals
                elif what == 0x20 and now is not None and now is not self.globals:
                    depth += 1  # a chart in a sheet
                elif what in (0x10, 0x20, 0x40, 0x06):
                    now, depth = [], 0
                    self.sheets.append(now)
                if depth == 0:
                    if now is not None:
                        now.append(record)
                    continue
            if record.after_gap:
                depth = 0
                if now is self.globals and record.kind in _CELLS and self.sheets == []:
                    now = [self._sheet_bof()]
                    self.sheets.append(now)
                self.cut.add(len(self.sheets) - 1)
            if now is None:
                if record.kind in _CELLS:
                    now = [self._sheet_bof(), record]
                    self.sheets.append(now)
                    self.cut.add(0)
                continue
            if record.kind == _EOF:
                if depth:
                    depth -= 1
                    continue
                now.append(record)
                now = None
                continue
            if depth == 0:
                now.append(record)
        if now is not None and now is not self.globals:
            self.cut.add(len(self.sheets) - 1)

    def _sheet_bof(self) -> Record:
        version = 0x0600 if self.wide else 0x0500
        body = struct.pack("<HHHH", version, 0x10, 0x0DBB, 0x07CC) + (struct.pack("<II", 0, 6) if self.wide else b"")
        return Record(_BOF, body, -1)

    # -- texts

    def _texts(self) -> tuple[list[str], bool]:
        """The shared texts, and whether all of them are there."""
        start = next((n for n, record in enumerate(self.globals) if record.kind == _SST), None)
        if start is None:
            return [], False
        parts = [self.globals[start].body]
        for record in self.globals[start + 1 :]:
            if record.kind != _CONTINUE or record.after_gap:
                break
            parts.append(record.body)
        if len(parts[0]) < 8:
            return [], False
        count = int.from_bytes(parts[0][4:8], "little")
        parts[0] = parts[0][8:]
        out: list[str] = []
        reader = _Parts(parts)
        try:
            while len(out) < min(count, _MAX_TEXTS):
                text = reader.text()
                if _IMPOSSIBLE.search(text):
                    return out, False  # from here on the lengths are those of something else
                out.append(text)
        except IndexError:
            if reader.partial.strip():
                out.append(reader.partial)
            return out, False
        return out, True

    # -- what is written

    def write(self, *, plain: bool = False) -> bytes:
        """The stream of the workbook; `plain`: its cells alone, without formulas and looks."""
        self.lost = []
        texts, whole = self._texts() if self.wide else ([], True)
        used = [int.from_bytes(r.body[6:10], "little") for sheet in self.sheets for r in sheet if r.kind == _LABELSST]
        most = max((each for each in used if each < _MAX_TEXTS), default=-1)
        if most + 1 > len(texts):
            filler = "[this text is missing]" if self.job.marks else ""
            self.lost.append(Loss(LossKind.CELL_TEXTS, "", sum(each >= len(texts) for each in used)))
            texts += [filler] * (most + 1 - len(texts))
            whole = False
        listed = [record for record in self.globals if record.kind == _SHEET]
        rows_lost = bool(self.cut) or len(listed) > len(self.sheets)
        names = self.names = self._names(listed)
        make = self._plain_sheet if plain else self._sheet
        sheets = [(names[number], make(number, rows_lost=rows_lost)) for number in range(len(self.sheets))]
        sheets = self._with_missing(listed, sheets)
        if rows_lost and self.wide and (stray := sorted(set(range(len(texts))) - set(used))):
            sheets.append(("Texts without cells", self._stray(stray)))
        if plain:
            self.globals = [record for record in self.globals if record.kind in (_DATES, _SHEET)]
        return self._joined(sheets, texts, rebuilt=not whole or rows_lost)

    def _names(self, listed: list[Record]) -> list[str]:
        """The names of the sheets that are there: by their places, the others by their order if there are as many."""
        by_place = {int.from_bytes(record.body[:4], "little"): self._title(record) for record in listed}
        places = [sheet[0].at for sheet in self.sheets]
        free = [name for place, name in by_place.items() if place not in places]
        unknown = [number for number, place in enumerate(places) if place not in by_place]
        names = [by_place.get(place, f"Sheet{number + 1}") for number, place in enumerate(places)]
        if unknown and len(unknown) <= len(free):
            for number, name in zip(unknown, free, strict=False):
                names[number] = name
        if unknown and len(unknown) != len(free):
            self.lost.append(Loss(LossKind.NAMES, "", len(unknown)))
        return names

    def _title(self, record: Record) -> str:
        raw = record.body[6:]
        if not raw:
            return "Sheet"
        if not self.wide:
            return raw[1 : 1 + raw[0]].decode("cp1252", "replace")
        width = 2 if raw[1:2] == b"\x01" else 1
        return raw[2 : 2 + raw[0] * width].decode("utf-16-le" if width == 2 else "latin-1", "replace")

    def _with_missing(self, listed: list[Record], sheets: list[tuple[str, bytes]]) -> list[tuple[str, bytes]]:
        """Sheets that the list names and that are not there: empty ones that say so, in their places."""
        there = {name for name, _ in sheets}
        out: list[tuple[str, bytes]] = []
        for record in listed:
            name = self._title(record)
            known = next((sheet for sheet in sheets if sheet[0] == name), None)
            if known is not None:
                out.append(known)
            elif name not in there:
                self.lost.append(Loss(LossKind.SHEETS, name, 1))
                body = self._label(0, "[this sheet is missing]") if self.job.marks else b""
                out.append((name, self._whole_sheet(body)))
        out += [sheet for sheet in sheets if sheet not in out]
        if not out:
            out.append(
                ("Sheet1", self._whole_sheet(self._label(0, "[the sheets are missing]") if self.job.marks else b""))
            )
        return out

    def _whole_sheet(self, cells: bytes) -> bytes:
        window = Record(
            _WINDOW2,
            struct.pack("<HHHHHHII", 0x06B6, 0, 0, 64, 0, 0, 0, 0)
            if self.wide
            else struct.pack("<HHHI", 0x06B6, 0, 0, 0),
            -1,
        )
        return self._sheet_bof().packed() + cells + window.packed() + Record(_EOF, b"", -1).packed()

    def _label(self, row: int, text: str) -> bytes:
        cells = struct.pack("<HHH", row, 0, self._plain_format())
        if self.wide:
            return Record(_LABEL, cells + struct.pack("<HB", len(text), 1) + text.encode("utf-16-le"), -1).packed()
        raw = text.encode("cp1252", "replace")
        return Record(_LABEL, cells + struct.pack("<H", len(raw)) + raw, -1).packed()

    def _plain_format(self) -> int:
        count = sum(record.kind == _XF for record in self.globals)
        return 15 if count > 15 or not count else 0

    def _sheet(self, number: int, *, rows_lost: bool) -> bytes:
        """One sheet: its records, ended; drawings only where nothing of the workbook is lost."""
        out, skipping, last_row = bytearray(), False, -1
        is_cut = number in self.cut
        for record in self.sheets[number]:
            skipping = record.kind in _DRAWN or (skipping and record.kind == _CONTINUE)
            if record.kind in _POINTERS or (skipping and rows_lost) or record.kind == _EOF:
                continue
            if record.kind in _CELLS and len(record.body) >= 2 and record.kind not in (0x0207, 0x04BC, 0x0221):
                last_row = max(last_row, int.from_bytes(record.body[:2], "little"))
            out += record.packed()
        if is_cut:
            self.lost.append(Loss(LossKind.ROWS, self.names[number], text=f"{last_row + 1:,}"))
            if self.job.marks and last_row < 65_000:
                out += self._label(last_row + 1, mark_of(0, "rows"))
        if not any(record.kind == _WINDOW2 for record in self.sheets[number]):
            out += self._whole_sheet(b"")[len(self._sheet_bof().packed()) : -4]
        return bytes(out) + Record(_EOF, b"", -1).packed()

    def _plain_sheet(self, number: int, *, rows_lost: bool) -> bytes:
        """The cells of a sheet alone, formulas as the numbers that they gave."""
        cells: dict[tuple[int, int], bytes] = {}
        for record in self.sheets[number]:
            body = record.body
            if record.kind == 0x0006 and len(body) >= 14 and body[12:14] != b"\xff\xff":
                record, body = Record(0x0203, body[:14], -1), body[:14]
            if record.kind not in (0x0203, 0x027E, _LABELSST, 0x0205, 0x00BD, _LABEL) or len(body) < 8:
                continue
            row, column = struct.unpack_from("<HH", body)
            if column < 256 and (record.kind != 0x00BD or (len(body) - 6) % 6 == 0):
                cells[row, column] = record.packed()
        if number in self.cut:
            last = max((row for row, _ in cells), default=-1)
            self.lost.append(Loss(LossKind.ROWS, self.names[number], text=f"{last + 1:,}"))
            if self.job.marks and last < 65_000:
                cells[last + 1, 0] = self._label(last + 1, mark_of(0, "rows"))
        return self._whole_sheet(b"".join(cells[place] for place in sorted(cells)))

    def _stray(self, stray: list[int]) -> bytes:
        first = self._label(0, "[texts whose cells are lost]") if self.job.marks else b""
        form = self._plain_format()
        cells = b"".join(
            Record(_LABELSST, struct.pack("<HHHI", row, 0, form, number), -1).packed()
            for row, number in enumerate(stray[:65_000], 1)
        )
        return self._whole_sheet(first + cells)

    def _joined(self, sheets: list[tuple[str, bytes]], texts: list[str], *, rebuilt: bool) -> bytes:
        head = self._head_records(texts, rebuilt=rebuilt)
        boxes = [self._box(name, 0) for name, _ in sheets]
        before = next((n for n, record in enumerate(head) if record.kind in (_SST, 0x008C)), len(head) - 1)
        size = sum(4 + len(record.body) for record in head) + sum(4 + len(box) for box in boxes)
        placed, at = [], size
        for (name, body), _ in zip(sheets, boxes, strict=True):
            placed.append(Record(_SHEET, self._box(name, at), -1))
            at += len(body)
        head[before:before] = placed
        return b"".join(record.packed() for record in head) + b"".join(body for _, body in sheets)

    def _box(self, name: str, at: int) -> bytes:
        name = re.sub(r"[\[\]:*?/\\]", "_", name)[:31] or "Sheet"
        if self.wide:
            return struct.pack("<IHBB", at, 0, len(name), 1) + name.encode("utf-16-le")
        raw = name.encode("cp1252", "replace")
        return struct.pack("<IHB", at, 0, len(raw)) + raw

    def _head_records(self, texts: list[str], *, rebuilt: bool) -> list[Record]:
        """The first part of the workbook, without its list of sheets; made anew where it is lost."""
        out, skipping = [], False
        has_formats = any(record.kind == _XF for record in self.globals)
        if not has_formats:
            self.lost.append(Loss(LossKind.STYLES))
            out = _plain_globals(self.sheets, wide=self.wide)
            dates = next((record for record in self.globals if record.kind == _DATES), None)
            out[1:1] = [dates] if dates is not None else []
        else:
            for record in self.globals:
                skipping = record.kind in ((_SST, *_DRAWN) if rebuilt else ()) or (
                    skipping and record.kind == _CONTINUE
                )
                if skipping or record.kind in (_SHEET, _EXTSST, _EOF):
                    continue
                out.append(record)
        if self.wide and texts and (rebuilt or not has_formats):
            out += _shared(texts)
        return [*out, Record(_EOF, b"", -1)]


def _plain_globals(sheets: list[list[Record]], *, wide: bool) -> list[Record]:
    """The start of a workbook, with as many plain formats as cells name."""
    version = 0x0600 if wide else 0x0500
    out = [
        Record(_BOF, struct.pack("<HHHH", version, 5, 0x0DBB, 0x07CC) + (struct.pack("<II", 0, 6) if wide else b""), -1)
    ]
    out.append(Record(_CODEPAGE, struct.pack("<H", 1200 if wide else 1252), -1))
    out.append(Record(_WINDOW1, struct.pack("<9H", 0, 0, 15000, 9000, 0x38, 0, 0, 1, 600), -1))
    name = b"Arial"
    font = struct.pack("<HHHHHBBBBB", 200, 0, 0x7FFF, 400, 0, 0, 0, 0, 0, len(name)) + (b"\0" if wide else b"") + name
    out += [Record(_FONT, font, -1)] * 4
    most = 15
    for sheet in sheets:
        for record in sheet:
            if record.kind in (0x0203, _LABELSST, 0x027E, 0x0201, 0x0205, 0x0006, _LABEL) and len(record.body) >= 6:
                most = max(most, min(int.from_bytes(record.body[4:6], "little"), 4000))
    for number in range(most + 1):
        flags = 0xFFF5 if number < 15 else 0x0001
        body = (
            struct.pack("<HHHBBHIIH", 0, 0, flags, 0x20, 0, 0, 0, 0, 0x20C0)
            if wide
            else struct.pack("<HHHHHHHH", 0, 0, flags, 0x20, 0x20C0, 0, 0, 0)
        )
        out.append(Record(_XF, body, -1))
    out.append(Record(_STYLE, b"\x00\x80\x00\xff", -1))
    return out


def _shared(texts: list[str]) -> list[Record]:
    """Shared texts in as many records as they need."""
    parts, now = [], bytearray(struct.pack("<II", len(texts), len(texts)))
    for text in texts:
        raw = text[:32_767].encode("utf-16-le", "replace")
        if len(now) + 5 > _MOST_IN_RECORD:
            parts.append(bytes(now))
            now = bytearray()
        now += struct.pack("<HB", len(raw) // 2, 1)
        while raw:
            room = (_MOST_IN_RECORD - len(now)) // 2 * 2
            now += raw[:room]
            raw = raw[room:]
            if raw:
                parts.append(bytes(now))
                now = bytearray(b"\x01")
    parts.append(bytes(now))
    return [Record(_SST if n == 0 else _CONTINUE, part, -1) for n, part in enumerate(parts)]


class _Parts:
    """Strings over several records: where the letters of one go on in the next record, a byte says anew how wide they are."""

    def __init__(self, parts: list[bytes]) -> None:
        self._parts, self._number, self._at = parts, 0, 0
        self.partial = ""

    def _more(self) -> bool:
        """Whether bytes are left in this record; else the next one begins. Raises `IndexError` at the end."""
        if self._at < len(self._parts[self._number]):
            return True
        self._number, self._at = self._number + 1, 0
        self._parts[self._number]
        return False

    def _take(self, count: int) -> bytes:
        self._more()
        part = self._parts[self._number]
        if self._at + count > len(part):
            raise IndexError
        self._at += count
        return part[self._at - count : self._at]

    def _skip(self, count: int) -> None:
        while count > 0:
            self._more()
            step = min(count, len(self._parts[self._number]) - self._at)
            self._at += step
            count -= step

    def text(self) -> str:
        """The next string. Raises `IndexError` where it stops; what was there of it is `partial`."""
        self.partial = ""
        count, flags = struct.unpack("<HB", self._take(3))
        runs = int.from_bytes(self._take(2), "little") if flags & 8 else 0
        extra = int.from_bytes(self._take(4), "little") if flags & 4 else 0
        wide, out = flags & 1, []
        while count:
            if not self._more():
                wide = self._take(1)[0] & 1
            part = self._parts[self._number]
            width = 2 if wide else 1
            step = min(count, (len(part) - self._at) // width)
            if not step:
                raise IndexError
            out.append(part[self._at : self._at + step * width].decode("utf-16-le" if wide else "latin-1", "replace"))
            self.partial = "".join(out)
            self._at += step * width
            count -= step
        self._skip(4 * runs)
        self._skip(extra)
        return "".join(out)
