"""PDF documents, AI illustrations that are PDF inside among them: every revision's cross references, every reachable object,
every stream inflated.

Source: ISO 32000-1: 7.2 (lexical), 7.3 (objects), 7.5 (file structure, 7.5.4 table, 7.5.8 streams, 7.5.6 updates), 7.6
(encryption), 7.7.3 (page tree), 12.7 (forms).
"""

from __future__ import annotations

import base64
import re
import zlib
from array import array
from collections import OrderedDict
from collections.abc import Callable, Iterator
from itertools import islice
from typing import Any, BinaryIO

import msgspec
from msgspec.structs import replace

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.format_table import extension_of
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.paged_bytes import Data, load_or_page, matched, searched
from rustfern.formats.pages.pdf_filters import all_up, by_the_left, check_picture, follow_codes, row_by_row
from rustfern.formats.pages.pdf_rights import Rights, text_of, without_password
from rustfern.formats.text_sink import TextSink

_MAX = 1 << 30
_MAX_OBJECTS = 2_000_000
_MAX_NUMBER = 8_388_607
_LARGEST = (1 << 63) - 1
_AT, _PACKED, _FREE = 1, 2, 3
_FLUSHED, _LAST = b"\0\0\xff\xff", 8
"""What ends a packed stream that was flushed and never closed, as form fillers write them (RFC 1951, 3.2.4: an empty stored block)."""
_PIECE, _SUM = 1 << 20, 4
"""The bytes that are taken at a time; those of the sum behind packed data (RFC 1950, 2.2)."""
_MAX_UNPACKED = 2 << 30
_MAX_PACKED_BYTES = 48 << 20
_MAX_LETTERS_BYTES = 24 << 20
_MAX_PICTURE = 64 << 20
_WITH_ARRAYS_BYTES = 1 << 20
_MAX_DEPTH = 100
_TAIL = 2048
_BEHIND = 1 << 20
_HEX = b"0123456789abcdefABCDEF \t\r\n\f\0"
# ISO 32000-1, table 6, and the short names of table 94.
_FILTERS = frozenset(
    {"ASCIIHexDecode", "ASCII85Decode", "LZWDecode", "FlateDecode", "RunLengthDecode", "CCITTFaxDecode", "JBIG2Decode", "DCTDecode",
     "JPXDecode", "Crypt", "AHx", "A85", "LZW", "Fl", "RL", "CCF", "DCT"}
)  # fmt: skip
_SECTION = re.compile(rb"(\d{1,10})[ \t]+(\d{1,10})[\s]+")
_DRAWN_BY = frozenset({"AIMetaData", "AIPrivateData1", "AIPDFPrivateData1"})
_SPACE = b"\0\t\n\f\r "
_WHITE = re.compile(rb"(?:[\0\t\n\f\r ]+|%[^\r\n]*)*")
_NUMBER = re.compile(rb"[+-]?(?:\d+\.?\d*|\.\d+)(?=[\0\t\n\f\r ()<>\[\]{}/%]|$)")
_REFERENCE = re.compile(rb"(\d{1,10})[\0\t\n\f\r ]+(\d{1,5})[\0\t\n\f\r ]+R(?![A-Za-z0-9])")
_NAME = re.compile(rb"/([^\0\t\n\f\r ()<>\[\]{}/%]*)")
_WORD = re.compile(rb"(true|false|null)(?![A-Za-z])")
_OBJECT = re.compile(rb"(\d{1,10})[\0\t\n\f\r ]+(\d{1,5})[\0\t\n\f\r ]+obj")
_LITERAL = re.compile(rb"[()\\]")
_PAIR = re.compile(rb"(\d{1,10})\s+(\d{1,18})(?!\d)")
_ROW = re.compile(rb"(\d{10})[ ](\d{5})[ ]([nf])")


class Ref(msgspec.Struct, frozen=True):
    """A reference to an object by its number."""

    number: int


class Name(str):
    """A name of the document's own language."""


class Stream(msgspec.Struct):
    """An object with a stream: where its bytes begin."""

    facts: dict[str, Any]
    start: int
    number: int = 0
    generation: int = 0


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Read the whole document. Raises `Malformed`."""
    if size > _MAX:
        raise Refused("a document of this size is refused")
    if sink.keeps:
        from rustfern.formats.pages.pdf_text import show

        show(stream, sink)
    found = _Document(load_or_page(stream, size)).run()
    if found.glance.format == "ai" and extension_of(name) == "pdf":
        return replace(found, glance=replace(found.glance, format="pdf"))  # a drawing that was saved as PDF is one
    return found


class _Places:
    """Where each object is: millions of them take a few bytes each."""

    def __init__(self) -> None:
        self._kinds = bytearray()  # 0: nowhere, 1: at an offset, 2: in a stream of objects, 3: free
        self._first, self._second = array("Q"), array("I")

    def __len__(self) -> int:
        return len(self._kinds)

    def add(self, number: int, kind: int, first: int, second: int = 0) -> None:
        """Note the place of an object, unless a later table told it. Raises `Malformed` for a number that no document has (ISO 32000-1, C.2)."""
        if number > _MAX_NUMBER:
            raise Refused(f"an object has the number {number}, which no document reaches: refused")
        more = number + 1 - len(self._kinds)
        if more > 0:
            more += len(self._kinds) // 4
            self._kinds += bytes(more)
            self._first.frombytes(bytes(8 * more))
            self._second.frombytes(bytes(self._second.itemsize * more))
        if not self._kinds[number]:
            self._kinds[number], self._first[number], self._second[number] = kind, first & _LARGEST, second & 0xFFFFFFFF

    def of(self, number: int) -> tuple[int, int, int]:
        """(kind, offset, 0) or (kind, stream of objects, index) of an object."""
        if number >= len(self._kinds):
            return 0, 0, 0
        return self._kinds[number], self._first[number], self._second[number]


def _unpacked(inflate: zlib._Decompress, piece: bytes) -> Iterator[bytes]:
    """What a piece of packed data unpacks to, at most `_PIECE` bytes at a time. Raises `zlib.error`."""
    while piece and not inflate.eof:
        yield inflate.decompress(piece, _PIECE)
        piece = inflate.unconsumed_tail


def _lacks_sum(inflate: zlib._Decompress, pieces: Callable[[], Iterator[bytes]], last: bytes, total: int) -> bool:
    """Whether data that stops too early is whole but for the sum behind it, or a part of that: some producers leave it away. After damage in the
    middle data may seem to end anywhere, so what stands there of the sum must be right; where nothing does, zeros alone follow the last code in its byte.
    """
    there = _SUM
    try:
        while there and not inflate.eof:
            there -= 1
            inflate.decompress(b"\0")
    except zlib.error as error:
        if "incorrect data check" not in str(error):
            return False
    else:
        if not inflate.eof:
            return False
    if not there:
        return _padded_by_zeros(pieces(), total)
    return last.endswith(total.to_bytes(_SUM, "big")[:there]) or not last[-there:].strip(b"\r\n")


def _padded_by_zeros(pieces: Iterator[bytes], total: int) -> bool:
    """Whether no bit is set behind the last code of packed data without a sum: such a bit could be cleared, and the data unpacks to the same."""

    def cleared() -> Iterator[bytes]:
        held = b""
        for piece in pieces:
            yield held
            held = piece
        highest = 1 << held[-1].bit_length() >> 1
        yield held[:-1] + bytes((held[-1] & ~highest,)) if highest else b""

    inflate, other, there = zlib.decompressobj(), 1, _SUM
    try:
        for piece in cleared():
            for out in _unpacked(inflate, piece):
                other = zlib.adler32(out, other)
        while there and not inflate.eof:
            there -= 1
            other = zlib.adler32(inflate.decompress(b"\0"), other)
    except zlib.error as error:
        return "incorrect data check" not in str(error) or there > 0 or other != total
    return True


class _Document:
    def __init__(self, data: Data) -> None:
        self.data = data
        self.places = _Places()
        self.trailer: dict[str, Any] = {}
        self.packed: OrderedDict[int, tuple[bytes, array[int], array[int]]] = OrderedDict()
        self.verified: set[int] = set()
        self.rights: Rights | None = None
        self.base = 0
        self.unpacked = 0

    def run(self) -> Reading:
        data = self.data
        head = data[:1024].find(b"%PDF-")
        if head < 0:
            raise Malformed("the start of the document is damaged", 0)
        self.base = head
        end = data.rfind(b"%%EOF")
        behind = len(data) - end - 5
        if end < 0 or (behind > _TAIL and data[end + 5 : end + 5 + _BEHIND].strip(_SPACE)):
            raise Malformed("the document stops before its end mark: it is cut off", len(data))
        if behind > _TAIL:
            raise Malformed(f"{behind} zeros follow behind its end", end + 5)
        found = re.findall(rb"startxref\s+(\d{1,12})", data[max(0, end - 1024) : end + 5])
        if not found:
            raise Malformed("the document does not say where its table of objects is", end)
        revisions = self._tables(int(found[-1]))
        if "Encrypt" in self.trailer:
            self.rights = self._rights()
            if self.rights is None:
                reason = "protected by a password or by rights: its structure is whole, its content was not verified"
                return Reading(Glance(format="pdf"), State.ENCRYPTED, reason, has_text=False)
        pages, fields, objects, illustration = self._walk()
        if not pages:
            raise Malformed("no page can be reached")
        amounts = {"pages": pages, "objects": objects} | ({"fields": fields} if fields else {})
        many = f" in {revisions} revisions" if revisions > 1 else ""
        many += "; encrypted, but it opens without a password" if self.rights else ""
        reason = f"read to the end: {pages} pages, all {objects} objects that they need{many}"
        newer = data[head + 5 : head + 6] == b"2"
        ids = self._plain(self.trailer.get("ID"))
        first = ids[0].hex() if isinstance(ids, list) and ids and isinstance(ids[0], bytes) and ids[0] else ""
        glance = Glance(
            format="ai" if illustration else "pdf",
            needs="PDF 2.0, which older viewers refuse" if newer else None,
            identity=(("file-id", first),) if first else (),
        )
        return Reading(glance, State.INTACT, reason, amounts, has_text=False)

    def _rights(self) -> Rights | None:
        """What opens an encrypted document by an empty password, which restricts only what may be done with it."""

        def resolved(value: Any, depth: int = 0) -> Any:
            value = self._plain(value)
            if isinstance(value, dict) and depth < 4:
                return {key: resolved(item, depth + 1) for key, item in value.items()}
            return value

        facts = resolved(self.trailer["Encrypt"])
        ids = self._plain(self.trailer.get("ID"))
        ident = text_of(ids[0]) if isinstance(ids, list) and ids else b""
        return without_password(facts, ident) if isinstance(facts, dict) else None

    # --- the tables of objects ------------------------------------------------------------------------------------

    def _tables(self, start: int) -> int:
        seen: set[int] = set()
        waiting = [start]
        revisions = 0
        while waiting:
            at = waiting.pop(0)
            if at in seen:
                continue
            seen.add(at)
            position = self._skip(at + self.base)
            if position >= len(self.data):
                raise Malformed("a table of objects lies beyond the end of the file", len(self.data))
            if self.data.startswith(b"xref", position):
                trailer = self._table(position + 4)
                if isinstance(trailer.get("XRefStm"), int):
                    waiting.insert(0, trailer["XRefStm"])
            else:
                trailer = self._table_stream(position)
            revisions += 1
            for key, value in trailer.items():
                self.trailer.setdefault(key, value)
            if isinstance(trailer.get("Prev"), (int, float)):
                waiting.append(int(trailer["Prev"]))
            if revisions > 10_000:
                raise Refused("the document has too many revisions: refused")
        if not isinstance(self.trailer.get("Root"), Ref):
            raise Malformed("the document does not name its root")
        return revisions

    def _table(self, at: int) -> dict[str, Any]:
        data = self.data
        while True:
            at = self._skip(at)
            if data.startswith(b"trailer", at):
                value, _ = self._value(self._skip(at + 7), 0)
                if not isinstance(value, dict):
                    raise Malformed("the trailer is damaged", at)
                return value
            head = matched(_SECTION, data, at)
            if not head:
                raise Malformed("the table of objects is damaged", at)
            first, count = int(head[1]), int(head[2])
            at = head.end()
            if count * 18 > len(data):
                raise Malformed("the table of objects claims more than the file holds", at)
            for number in range(first, first + count):
                row = matched(_ROW, data, at)
                if not row:
                    raise Malformed("a row of the table of objects is damaged", at)
                self.places.add(number, _AT if row[3] == b"n" else _FREE, int(row[1]))
                at = self._skip(row.end())

    def _table_stream(self, at: int) -> dict[str, Any]:
        found = matched(_OBJECT, self.data, at)
        value = self._value(self._skip(found.end()), 0)[0] if found else None
        if not isinstance(value, Stream) or value.facts.get("Type") != "XRef":
            raise Malformed("where the table of objects should be is none", at)
        widths = value.facts.get("W")
        size = value.facts.get("Size", 0)
        index = value.facts.get("Index", [0, size])
        numbers = (
            isinstance(widths, list)
            and isinstance(index, list)
            and all(isinstance(n, int) and 0 <= n < 1 << 40 for n in [*widths, *index])
        )
        if not numbers or not isinstance(widths, list) or len(widths) < 3 or sum(widths) > 32:
            raise Malformed("the stream of the table of objects is damaged", at)
        a, b, c = widths[:3]
        row = a + b + c
        count_all = sum(index[1::2])
        if count_all > _MAX_NUMBER + 1:
            raise Refused("the table of objects claims more objects than any document has: refused", at)
        body = self._inflated(value, at, count_all * (row + 1) + row)
        if body is None:
            raise Malformed("the stream of the table of objects is damaged", at)
        where = 0
        for first, count in zip(index[::2], index[1::2], strict=False):
            if where + count * row > len(body) or not row:
                raise Malformed("the stream of the table of objects is too short", at)
            for number in range(first, first + count):
                kind = int.from_bytes(body[where : where + a], "big") if a else 1
                one = int.from_bytes(body[where + a : where + a + b], "big")
                two = int.from_bytes(body[where + a + b : where + row], "big")
                where += row
                self.places.add(number, kind if kind in (_AT, _PACKED) else _FREE, one, two)
        return value.facts

    # --- objects --------------------------------------------------------------------------------------------------

    def _skip(self, at: int) -> int:
        found = matched(_WHITE, self.data, at)
        return found.end() if found else at

    def _value(self, at: int, depth: int, data: Data | None = None) -> tuple[Any, int]:
        """One value and where it ends. Streams only in the document itself."""
        whole = data is None
        data = self.data if data is None else data
        if depth > _MAX_DEPTH:
            raise Refused("objects are nested too deep: refused", at)
        first = data[at : at + 1]
        if first == b"/":
            found = matched(_NAME, data, at)
            assert found is not None
            return Name(found[1].decode("latin-1")), found.end()
        if first == b"<":
            if data[at + 1 : at + 2] == b"<":
                return self._dictionary(at, depth, data, whole=whole)
            end = data.find(b">", at)
            if end < 0:
                raise Malformed("a text in the document is cut off", at)
            if data[at + 1 : end].translate(None, _HEX):
                raise Malformed("a text in hexadecimal holds other signs", at)
            return data[at + 1 : end], end + 1
        if first == b"(":
            return self._literal(at, data)
        if first == b"[":
            items: list[Any] = []
            at = self._skip_in(data, at + 1)
            while data[at : at + 1] != b"]":
                item, at = self._value(at, depth + 1, None if whole else data)
                items.append(item)
                at = self._skip_in(data, at)
            return items, at + 1
        if found := matched(_REFERENCE, data, at):
            return Ref(int(found[1])), found.end()
        if found := matched(_NUMBER, data, at):
            text = found[0]
            return (float(text) if b"." in text else int(text)), found.end()
        if found := matched(_WORD, data, at):
            return {b"true": True, b"false": False, b"null": None}[found[1]], found.end()
        raise Malformed("something that is no object stands where one should be", at)

    @staticmethod
    def _skip_in(data: Data, at: int) -> int:
        found = matched(_WHITE, data, at)
        return found.end() if found else at

    def _dictionary(self, at: int, depth: int, data: Data, *, whole: bool) -> tuple[Any, int]:
        facts: dict[str, Any] = {}
        at = self._skip_in(data, at + 2)
        while not data.startswith(b">>", at):
            name = matched(_NAME, data, at)
            if not name:
                raise Malformed("a dictionary in the document is damaged", at)
            value, at = self._value(self._skip_in(data, name.end()), depth + 1, None if whole else data)
            facts[name[1].decode("latin-1")] = value
            at = self._skip_in(data, at)
        at += 2
        if whole and depth == 0:
            after = self._skip_in(data, at)
            if data.startswith(b"stream", after):
                start = after + 6
                start += (
                    2 if data[start : start + 2] == b"\r\n" else 1 if data[start : start + 1] in (b"\n", b"\r") else 0
                )
                return Stream(facts, start), start
        return facts, at

    @staticmethod
    def _literal(at: int, data: Data) -> tuple[bytes, int]:
        start, depth = at, 0
        while found := searched(_LITERAL, data, at):
            at = found.end()
            if found[0] == b"(":
                depth += 1
            elif found[0] == b")":
                depth -= 1
                if not depth:
                    return data[start + 1 : at - 1], at
            else:
                at += 1
        raise Malformed("a text in the document is cut off", start)

    def _begins_next(self, at: int) -> bool:
        """Whether the object that the table has here begins: some producers leave out the end mark of the one before."""
        found = matched(_OBJECT, self.data, at)
        return found is not None and self.places.of(int(found[1]))[:2] == (_AT, at - self.base)

    def _object(self, number: int) -> Any:
        kind, holder, index = self.places.of(number)
        if kind not in (_AT, _PACKED):
            return None  # a reference to no object is null (7.3.10)
        if kind == _AT:
            at = self._skip(holder + self.base)
            found = matched(_OBJECT, self.data, at)
            if not found or int(found[1]) != number:
                raise Malformed(f"object {number} is not where the table says", min(at, len(self.data)))
            value, end = self._value(self._skip(found.end()), 0)
            if isinstance(value, Stream):
                value.number, value.generation = number, int(found[2])
            elif not self.data.startswith(b"endobj", after := self._skip(end)) and not self._begins_next(after):
                raise Malformed(f"object {number} does not end", end)
            return value
        body, starts, numbers = self._unpack(holder)
        if (index >= len(starts) or numbers[index] != number) and number in numbers:
            index = numbers.index(number)  # the stream's own list counts (7.5.7)
        if index >= len(starts):
            raise Malformed(f"object {number} is not in the stream of objects {holder}")
        return self._value(self._skip_in(body, starts[index]), 1, body)[0]

    def _unpack(self, holder: int) -> tuple[bytes, array[int], array[int]]:
        """A stream of objects, where each of them begins in it, and their numbers; the last few are held."""
        if (found := self.packed.get(holder)) is not None:
            self.packed.move_to_end(holder)
            return found
        value = self._object(holder) if self.places.of(holder)[0] == _AT else None
        if not isinstance(value, Stream):
            raise Malformed(f"the stream of objects {holder} is missing")
        body = self._inflated(value, value.start, _MAX_PACKED_BYTES)
        first, count = self._plain(value.facts.get("First")), self._plain(value.facts.get("N"))
        if body is None or not isinstance(first, int) or not isinstance(count, int) or not 0 <= count <= _MAX_OBJECTS:
            raise Malformed(f"the stream of objects {holder} is damaged", value.start)
        starts, numbers = array("Q"), array("Q")
        for pair in islice(_PAIR.finditer(body[:first]), count):
            numbers.append(min(int(pair[1]), _LARGEST))
            starts.append(min(first + int(pair[2]), _LARGEST))
        if len(starts) < count:
            raise Malformed(f"the stream of objects {holder} is damaged", value.start)
        if holder not in self.verified:
            for start in starts:
                self._value(self._skip_in(body, start), 1, body)
            self.verified.add(holder)
        self.packed[holder] = body, starts, numbers
        while len(self.packed) > 1 and sum(len(each) for each, _, _ in self.packed.values()) > _MAX_PACKED_BYTES:
            self.packed.popitem(last=False)
        return body, starts, numbers

    def _plain(self, value: Any) -> Any:
        return self._object(value.number) if isinstance(value, Ref) else value

    def _inflated(self, stream: Stream, at: int, most: int = 0) -> bytes | None:
        """Check the bytes of a stream to its end mark. Gives them, up to `most` bytes, where they are needed; None if a filter is not undone
        here. Raises `Malformed`, also where more are needed than `most`.
        """
        length = self._plain(stream.facts.get("Length"))
        data = self.data
        if not isinstance(length, int) or length < 0 or stream.start + length > len(data):
            raise Malformed("a stream has no length, or reaches beyond the end of the file", stream.start)
        behind = stream.start + length
        end = self._skip(behind) if length else self._skip(stream.start)
        if not data.startswith(b"endstream", end) and not data[behind : behind + 64].lstrip(_SPACE).startswith(
            b"endstream"
        ):
            raise Malformed("a stream does not end where its length says", behind)
        filters = self._plain(stream.facts.get("Filter"))
        names = (
            [filters]
            if isinstance(filters, str)
            else [self._plain(f) for f in filters]
            if isinstance(filters, list)
            else []
        )
        if strange := next((filter_ for filter_ in names if filter_ not in _FILTERS), None):
            raise Malformed(f"a stream is packed by {strange}, which no PDF knows", stream.start)
        raw: bytes | None = None
        if names[:1] == ["Crypt"]:
            names = names[1:]  # by a filter of its own: nearly always none
        elif self.rights and stream.number and stream.facts.get("Type") not in ("XRef", self.rights.not_of):
            raw = self.rights.open(data[stream.start : behind], stream.number, stream.generation, stream.start)
        if names and names[0] in ("ASCII85Decode", "A85"):
            if length > _MAX_LETTERS_BYTES:
                return None
            try:
                letters = (data[stream.start : behind] if raw is None else raw).partition(b"~>")[0].removeprefix(b"<~")
                raw = base64.a85decode(letters, ignorechars=_SPACE)
            except ValueError as error:
                raise Malformed("a stream of letters is damaged", stream.start) from error
            names = names[1:]
        if not names:
            if most and raw is None and length > most:
                raise Refused("a table or a stream of objects is larger than any: refused", stream.start)
            return (raw if raw is not None else data[stream.start : behind]) if most else None
        if names[0] in ("DCTDecode", "DCT"):
            if length <= _MAX_PICTURE:
                check_picture(data[stream.start : behind] if raw is None else raw, stream.start)
            return None
        if names[0] in ("LZWDecode", "LZW") and length <= _MAX_LETTERS_BYTES:
            follow_codes(raw if raw is not None else data[stream.start : behind], self._early(stream), stream.start)
        if names[0] not in ("FlateDecode", "Fl"):
            return None

        def pieces() -> Iterator[bytes]:
            if raw is not None:
                return iter([raw])
            return (data[n : min(n + _PIECE, behind)] for n in range(stream.start, behind, _PIECE))

        if len(names) > 1:
            most = 0
        body = self._flate(pieces, stream.start, most)
        return self._predicted(body, stream) if most else None

    def _early(self, stream: Stream) -> bool:
        """Whether the codes of an LZW stream grow one code early, as they do if nothing else is said (ISO 32000-1, table 8)."""
        how = self._plain(stream.facts.get("DecodeParms"))
        if isinstance(how, list):
            how = next((part for part in map(self._plain, how) if isinstance(part, dict)), None)
        return not isinstance(how, dict) or self._plain(how.get("EarlyChange", 1)) != 0

    def _flate(self, pieces: Callable[[], Iterator[bytes]], at: int, most: int) -> bytes:
        """Inflate a stream to its end, piece by piece; at most `most` bytes of it are kept. Raises `Malformed`."""
        inflate = zlib.decompressobj()
        kept = bytearray()
        white, last, total = True, b"", 1
        try:
            for piece in pieces():
                last = (last + piece[-_LAST:])[-_LAST:]
                white = white and not piece.strip(_SPACE)
                for out in _unpacked(inflate, piece):
                    self.unpacked += len(out)
                    total = zlib.adler32(out, total)
                    if self.unpacked > _MAX_UNPACKED:
                        raise Refused("the document would unpack to too much: refused", at)
                    if most:
                        kept += out
                        if len(kept) > most:
                            raise Refused("a table or a stream of objects is larger than any: refused", at)
            if not inflate.eof and not white and not last.rstrip(b"\r\n").endswith(_FLUSHED):
                # What was limited in length may wait for more.
                out = inflate.decompress(b"")
                kept += out if most else b""
                if not inflate.eof and not _lacks_sum(inflate, pieces, last, zlib.adler32(out, total)):
                    raise Malformed("a packed stream stops before its end", at)
        except zlib.error as error:
            raise Malformed("a packed stream is damaged", at) from error
        return bytes(kept)

    def _predicted(self, body: bytes, stream: Stream) -> bytes:
        """Undo the filters of packed tables and of streams of objects (7.4.4.4: TIFF and PNG predictors)."""
        facts = self._plain(stream.facts.get("DecodeParms"))
        facts = facts[0] if isinstance(facts, list) and facts else facts
        if not isinstance(facts, dict):
            return body
        values = (
            facts.get("Predictor", 1),
            facts.get("Columns", 1),
            facts.get("Colors", 1),
            facts.get("BitsPerComponent", 8),
        )
        predictor, columns, colours, bits = (value if isinstance(value, int) else 0 for value in values)
        if predictor < 2 or (2 < predictor < 10):
            return body
        if not (0 < columns < 1000 and 0 < colours <= 32 and bits == 8):
            raise Malformed("a stream of the table of objects is damaged", stream.start)
        if predictor == 2:
            return by_the_left(body, columns * colours, colours)
        if colours == 1 and len(body) > _WITH_ARRAYS_BYTES and (quick := all_up(body, columns)) is not None:
            return quick
        return row_by_row(body, columns * colours, colours)

    # --- from the root --------------------------------------------------------------------------------------------

    def _walk(self) -> tuple[int, int, int, bool]:
        """(pages, filled form fields, objects reached, whether it is an AI illustration)."""
        seen = bytearray(len(self.places))
        objects = 0
        stack: list[Any] = [self.trailer.get("Root"), self.trailer.get("Info")]
        pages = fields = 0
        illustration = False
        while stack:
            value = stack.pop()
            if isinstance(value, Ref):
                if value.number >= len(seen) or seen[value.number]:
                    continue
                seen[value.number] = 1
                objects += 1
                value = self._object(value.number)
            facts: dict[str, Any] | None = None
            if isinstance(value, Stream):
                self._inflated(value, value.start)
                facts = value.facts
            elif isinstance(value, dict):
                facts = value
            elif isinstance(value, list):
                stack += value
            if facts is not None:
                kind = facts.get("Type")
                pages += kind == "Page"
                fields += "FT" in facts and facts.get("V") not in (None, b"", Name("Off"))
                if kind == "Pages":
                    self._kids(facts)
                illustration = illustration or not _DRAWN_BY.isdisjoint(facts)
                stack += facts.values()
        return pages, fields, objects, illustration

    def _kids(self, facts: dict[str, Any]) -> None:
        kids = self._plain(facts.get("Kids"))
        for kid in kids if isinstance(kids, list) else ():
            if isinstance(kid, Ref) and not isinstance(self._object(kid.number), dict):
                raise Malformed(f"a page is missing (object {kid.number})")
