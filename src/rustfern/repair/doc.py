"""Binary word-processor texts put together again: the same streams in a new file where they hold, else the text as OOXML.

Source: [MS-DOC] 2.5.1 (Fib), 2.8.35 and 2.9.177 (pieces), 2.9.33 and 2.9.174 (pages of properties), 2.4.1 (how the text is found).
"""

from __future__ import annotations

import io
import re
import struct

import msgspec

from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.repair import ooxml_skeletons as made
from rustfern.repair.compound_salvage import CompoundSalvage
from rustfern.repair.compound_writer import compound
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.ooxml_grammar import R, word_mark
from rustfern.repair.xml_mend import escaped, mark_of
from rustfern.repair.zip_writer import ZipWriter

_IDENT = b"\xec\xa5"
_PAGE = 512
_FORMATTED = (12, 13)
_PIECES = 33
_HOLE = re.compile(rb"\0{16,}")
_ENDS = re.compile(r"[\r\x07\x0c]")
_FIELD = re.compile(r"\x13[^\x13\x14\x15]*(?:\x14|(?=\x15))")
_OTHER = re.compile(r"[\x00-\x08\x0e-\x1f\ufffe\uffff\ud800-\udfff]")
_CLASS = bytes.fromhex("0609020000000000c000000000000046")
_MIN_RUN = 24
_WIDE = re.compile(rb"(?:[\x09\x0b\x0d\x13-\x15\x20-\x7e\xa0-\xff]\x00|[\x00-\xff][\x01-\x06\x20]){%d,}" % _MIN_RUN)
_NARROW = re.compile(rb"[\x09\x0b\x0d\x13-\x15\x20-\x7e\x91-\x97\xa0-\xff]{%d,}" % (2 * _MIN_RUN))


def repair(job: Job, found: CompoundSalvage) -> tuple[bytes, Outcome]:
    """A whole document. Raises `NothingLeft`."""
    main = found.find("WordDocument") or found.by_first_bytes(_IDENT)
    data = main.data if main is not None else b""
    head = _Head.read(data)
    table = _table(found, head) if head is not None else None
    if head is not None and table is not None and not _has_more_elsewhere(found, data, head, table, job):
        for made_bytes, outcome in _same_format(job, found, data, head, table):
            if formats.check(io.BytesIO(made_bytes), job.name, digest=False, counted=False).state is State.INTACT:
                return made_bytes, outcome
    text = _by_pieces(data, head, table, job) if head is not None and table is not None else None
    steps = [Step.CHAINS]
    if text is None or _letters(text) * 2 < (head.characters if head is not None else 0):
        runs = max((_by_runs(data, head, job), _by_runs(found.data, None, job)), key=_letters)
        text = runs if text is None or _letters(runs) > 2 * _letters(text) else text
        steps.append(Step.RUNS)
    paragraphs = _paragraphs(text)
    if not paragraphs:
        raise NothingLeft("no text is left in it")
    lost = [Loss(LossKind.FORMAT, "OOXML text (docx)"), Loss(LossKind.STYLES)]
    total = head.characters if head is not None else 0
    there = sum(map(len, paragraphs)) + len(paragraphs)
    if total > there + 40 or main is None or not main.whole:
        each = max(there // len(paragraphs), 1)
        lost.insert(0, Loss(LossKind.PARAGRAPHS, "", max((total - there) // each, 0) if total > there else 0))
    return _as_docx(paragraphs, job, marked=lost[0].kind is LossKind.PARAGRAPHS, count=lost[0].count), Outcome(
        "docx", tuple(steps), tuple(lost)
    )


def _has_more_elsewhere(found: CompoundSalvage, data: bytes, head: _Head, table: tuple[str, bytes], job: Job) -> bool:
    """Whether most of the text is not where the tables say, but is in the file."""
    pieces = _clx(table[1], head, data) or []
    there = sum(
        _letters(_with_marks(data[begin : begin + (stop - start) * width], width, job))
        for start, stop, begin, width in pieces
    )
    if there * 2 > head.characters:
        return False
    return _letters(_by_runs(found.data, None, job)) > max(2 * there, 200)


class _Head(msgspec.Struct):
    """What the header tells: flags, the place of the text, how many characters, places in the table stream."""

    flags: int
    first: int
    last: int
    characters: int
    main: int
    pairs_at: int

    @classmethod
    def read(cls, data: bytes) -> _Head | None:
        """The header; None if these bytes have none."""
        if len(data) < 512 or data[:2] != _IDENT:
            return None
        try:
            longs_at = 34 + 2 * struct.unpack_from("<H", data, 32)[0] + 2
            pairs_at = longs_at + 4 * struct.unpack_from("<H", data, longs_at - 2)[0] + 2
            counts = struct.unpack_from("<7i", data, longs_at + 12)
            struct.unpack_from("<II", data, pairs_at + _PIECES * 8)
        except struct.error:
            return None
        flags = struct.unpack_from("<H", data, 10)[0]
        first, last = struct.unpack_from("<II", data, 24)
        if flags & 0x0100:
            raise NothingLeft("it is protected by a password: it can be repaired only when it was opened with it")
        return cls(flags, first, last, sum(max(count, 0) for count in counts), max(counts[0], 0), pairs_at)

    def pair(self, data: bytes, index: int) -> tuple[int, int]:
        """A place in the table stream."""
        at, size = struct.unpack_from("<II", data, self.pairs_at + 8 * index)
        return at, size


def _table(found: CompoundSalvage, head: _Head) -> tuple[str, bytes] | None:
    """The table stream, which holds the piece table where the header says."""
    name = "1Table" if head.flags & 0x0200 else "0Table"
    stream = found.find(name)
    main = found.find("WordDocument") or found.by_first_bytes(_IDENT)
    data = main.data if main is not None else b""
    if stream is not None and _clx(stream.data, head, data) is not None:
        return name, stream.data
    for number in found.heads():
        each = found.chain(number)
        if _clx(each.data, head, data) is not None:
            return name, each.data
    return None


def _clx(table: bytes, head: _Head, data: bytes) -> list[tuple[int, int, int, int]] | None:
    """The pieces (first and last character, where it begins, bytes a character); None if they are not there."""
    at, size = head.pair(data, _PIECES)
    end = at + size
    if size < 5 or end > len(table):
        return None
    while at < end and table[at] == 1:
        at += 3 + int.from_bytes(table[at + 1 : at + 3], "little")
    if at + 5 > end or table[at] != 2:
        return None
    length = int.from_bytes(table[at + 1 : at + 5], "little")
    if length < 16 or at + 5 + length > end or (length - 4) % 12:
        return None
    count = (length - 4) // 12
    limits = struct.unpack_from(f"<{count + 1}I", table, at + 5)
    out = []
    for n in range(count):
        place = struct.unpack_from("<I", table, at + 5 + 4 * (count + 1) + 8 * n + 2)[0]
        narrow, begin = bool(place & 0x40000000), place & 0x3FFFFFFF
        if limits[n + 1] < limits[n]:
            return None
        out.append((limits[n], limits[n + 1], begin // 2 if narrow else begin, 1 if narrow else 2))
    return out


def _same_format(
    job: Job, found: CompoundSalvage, data: bytes, head: _Head, table: tuple[str, bytes]
) -> list[tuple[bytes, Outcome]]:
    """The document in a new file: as its streams are, then with what is missing in the main stream filled."""
    name, tables = table
    streams = {path: stream.data for path, stream in found.streams.items() if stream.whole and stream.data}
    streams = {
        path: told
        for path, told in streams.items()
        if path.rpartition("/")[2] not in ("WordDocument", "0Table", "1Table")
    }
    lost = [
        Loss(LossKind.PARTS, path.strip("\x01\x05"), 1)
        for path, stream in found.streams.items()
        if not stream.whole and path not in ("WordDocument", name)
    ]
    if "Data" in streams and not _data_sound(streams["Data"]):
        del streams["Data"]
        lost.append(Loss(LossKind.PICTURES))
    out = [
        (
            compound({"WordDocument": data, name: tables, **streams}, _CLASS),
            Outcome("doc", (Step.CHAINS, Step.CONTAINER), tuple(lost)),
        )
    ]
    pieces = _clx(tables, head, data)
    if pieces is not None:
        filled, gone = _filled(data, head, tables, pieces, job)
        where = Loss(LossKind.PARAGRAPHS, "", max(gone // 300, 1)) if gone else None
        steps = (Step.CHAINS, Step.CONTAINER, *((Step.ZEROS,) if gone else ()))
        out.append(
            (
                compound({"WordDocument": filled, name: tables, **streams}, _CLASS),
                Outcome("doc", steps, (*((where,) if where else ()), *lost)),
            )
        )
        plain = {path: told for path, told in streams.items() if path != "Data"}
        if "Data" in streams:
            more = (*((where,) if where else ()), *lost, Loss(LossKind.PICTURES))
            out.append((compound({"WordDocument": filled, name: tables, **plain}, _CLASS), Outcome("doc", steps, more)))
    return out


def _data_sound(data: bytes) -> bool:
    from rustfern.core.errors import Malformed
    from rustfern.formats.office import art_pictures

    try:
        art_pictures.check_inline(data)
    except Malformed:
        return False
    return True


def _filled(
    data: bytes, head: _Head, table: bytes, pieces: list[tuple[int, int, int, int]], job: Job
) -> tuple[bytes, int]:
    """The main stream with text that is missing filled by a mark and blanks, its paragraph kept one, and pages of properties that are missing
    made plain; and how many characters are gone."""
    made_up = bytearray(data)
    gone = 0
    for start, stop, begin, width in pieces:
        end = begin + (stop - start) * width
        if end > len(made_up):
            made_up += bytes(end - len(made_up))
        for hole in list(_HOLE.finditer(made_up, begin, end)):
            first = hole.start() + (hole.start() - begin) % width
            count = (hole.end() - first) // width
            text = (f" [about {count:,} signs are missing here] " if job.marks else " ")[:count].ljust(count)
            text = text[:-1] + "\r" if count > 60 else text
            made_up[first : first + count * width] = text.encode("cp1252" if width == 1 else "utf-16-le")
            gone += count
    for index in _FORMATTED:
        at, size = head.pair(data, index)
        count = (size - 4) // 8
        if count < 1 or at + size > len(table):
            continue
        limits = struct.unpack_from(f"<{count + 1}I", table, at)
        for n, number in enumerate(struct.unpack_from(f"<{count}I", table, at + 4 * (count + 1))):
            begin = (number & 0x3FFFFF) * _PAGE
            if begin + _PAGE > len(made_up):
                made_up += bytes(begin + _PAGE - len(made_up))
            if not made_up[begin : begin + _PAGE].strip(b"\0"):
                # One run without properties over all that the page tells of.
                page = struct.pack("<II", limits[n], limits[n + 1]).ljust(_PAGE - 1, b"\0") + b"\x01"
                made_up[begin : begin + _PAGE] = page
    return bytes(made_up), gone


def _by_pieces(data: bytes, head: _Head, table: tuple[str, bytes] | None, job: Job) -> str | None:
    """The text by its piece table, as far as the main stream goes."""
    pieces = _clx(table[1], head, data) if table is not None else None
    if pieces is None:
        return None
    out = []
    for start, stop, begin, width in pieces:
        raw = data[begin : begin + (stop - start) * width]
        out.append(_with_marks(raw, width, job))
    return "".join(out)


def _with_marks(raw: bytes, width: int, job: Job) -> str:
    encoding = "cp1252" if width == 1 else "utf-16-le"
    out, position = [], 0
    for hole in _HOLE.finditer(raw):
        first = hole.start() + hole.start() % width
        out.append(raw[position:first].decode(encoding, "ignore"))
        if job.marks:
            out.append(f"\r[about {(hole.end() - first) // width:,} signs are missing here]\r")
        position = hole.end() - hole.end() % width
    out.append(raw[position:].decode(encoding, "ignore"))
    return "".join(out)


def _by_runs(data: bytes, head: _Head | None, job: Job) -> str:
    """Text without the tables that point at it: where the header says that it is, else every long run of it."""
    if head is not None and 512 <= head.first < head.last and head.first < len(data):
        raw = data[head.first : min(head.last, len(data))]
        is_wide = raw[1::2].count(0) * 3 > len(raw[1::2])
        if _reads(text := _with_marks(raw, 2 if is_wide else 1, job)):
            return text
    wide = [found[0].decode("utf-16-le") for found in _WIDE.finditer(data)]
    narrow = [found[0].decode("cp1252", "ignore") for found in _NARROW.finditer(data)]
    told = [[run for run in each if _reads(run)] for each in (wide, narrow)]
    return "\r".join(max(told, key=lambda each: sum(map(_letters, each))))


def _reads(run: str) -> bool:
    """Whether a run of signs is text: mostly letters, in words, of which no sign is most."""
    often = max((run.count(sign) for sign in set(run[:200])), default=0)
    plain = sum(sign.isascii() for sign in run)
    return _letters(run) * 4 > len(run) * 3 and often * 3 < len(run) and plain * 2 > len(run) and " " in run


def _letters(text: str) -> int:
    return sum(sign.isalpha() or sign == " " for sign in text)


def _paragraphs(text: str) -> list[str]:
    for _ in range(8):
        shorter = _FIELD.sub("", text)
        if shorter == text:
            break
        text = shorter
    text = text.replace("\x15", "").replace("\x0b", "\n").replace("\x1e", "-").replace("\x1f", "")
    return [clean for each in _ENDS.split(text) if (clean := _OTHER.sub("", each)).strip()]


def _as_docx(paragraphs: list[str], job: Job, *, marked: bool, count: int) -> bytes:
    body = bytearray()
    for each in paragraphs:
        lines = "<w:br/>".join(
            f'<w:t xml:space="preserve">{escaped(line)}</w:t>' for line in each.replace("\t", "    ").split("\n")
        )
        body += f"<w:p><w:r>{lines}</w:r></w:p>".encode()
    if marked and job.marks:
        body += word_mark(mark_of(count, "paragraphs"))
    return docx_of(bytes(body))


def docx_of(body: bytes) -> bytes:
    """A package that holds a text of these blocks."""
    out = io.BytesIO()
    writer = ZipWriter(out)
    types = {"word/document.xml": made.MAIN_TYPES["docx"]}
    writer.add("[Content_Types].xml", made.content_types(["word/document.xml", "_rels/.rels"], types, {}))
    writer.add("_rels/.rels", made.relationships([("rf1", f"{R}/officeDocument", "word/document.xml", False)]))
    writer.add("word/document.xml", made.text_document(body))
    writer.close()
    return out.getvalue()
