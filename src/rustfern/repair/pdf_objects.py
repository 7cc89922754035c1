"""Objects of a damaged PDF, found without its tables; and PDF written from objects.

Source: ISO 32000-1: 7.2 (lexical), 7.3 (objects, 7.3.8 streams), 7.5.4 (table), 7.5.7 (streams of objects).
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator
from typing import Any, BinaryIO

import msgspec

from rustfern.repair.deflate_resume import inflate_zlib
from rustfern.repair.interface import Budget

_SPACE = re.compile(rb"(?:[\0\t\n\f\r ]+|%[^\r\n]*)*")
_ATOM = re.compile(rb"[+-]?(?:\d+\.?\d*|\.\d+)|true|false|null|/[^\0\t\n\f\r ()<>\[\]{}/%]*|<[0-9A-Fa-f\0\t\n\f\r ]*>")
_REFERENCE = re.compile(rb"(\d{1,10})[\0\t\n\f\r ]+(\d{1,5})[\0\t\n\f\r ]+R(?![A-Za-z0-9])")
_OBJECT = re.compile(rb"(?<![0-9])(\d{1,8})[\0\t\n\f\r ]{1,8}(\d{1,5})[\0\t\n\f\r ]{1,8}obj(?![A-Za-z])")
_STRING = re.compile(rb"[()\\]")
_MAX_DEPTH = 60
_MAX_OBJECTS = 1_000_000
_MAX_STREAM = 64 << 20
_CUT_ENDS = re.compile(rb"\r?\n?endstream|\r?\n?endobj")


class Ref(msgspec.Struct, frozen=True):
    """A reference to an object."""

    number: int
    generation: int = 0


class Raw(bytes):
    """A number, name, string or keyword as it is written."""


class Broken(Exception):
    """A value that stops before its end."""


class Found(msgspec.Struct):
    """One object: its value; where its stream's bytes are and whether all of them are there (None: it has no stream), or new bytes for it."""

    number: int
    value: Any
    at: int
    start: int = -1
    length: int = 0
    whole: bool = True
    made: bytes | None = None

    @property
    def facts(self) -> dict[str, Any]:
        """Its dictionary, empty if it has none."""
        return self.value if isinstance(self.value, dict) else {}

    @property
    def is_stream(self) -> bool:
        return self.start >= 0 or self.made is not None


def _skip(data: bytes, at: int) -> int:
    found = _SPACE.match(data, at)
    return found.end() if found else at


def value(data: bytes, at: int, depth: int = 0) -> tuple[Any, int]:
    """The value at a place, and where it ends. Raises `Broken`."""
    at = _skip(data, at)
    if depth > _MAX_DEPTH:
        raise Broken
    head = data[at : at + 2]
    if head == b"<<":
        return _dictionary(data, at + 2, depth)
    if head[:1] == b"[":
        out: list[Any] = []
        at = _skip(data, at + 1)
        while data[at : at + 1] != b"]":
            item, at = value(data, at, depth + 1)
            out.append(item)
            at = _skip(data, at)
        return out, at + 1
    if head[:1] == b"(":
        end = _string_end(data, at)
        return Raw(data[at:end]), end
    reference = _REFERENCE.match(data, at)
    if reference is not None:
        return Ref(int(reference[1]), int(reference[2])), reference.end()
    found = _ATOM.match(data, at)
    if found is None:
        raise Broken
    return Raw(found[0]), found.end()


def _dictionary(data: bytes, at: int, depth: int) -> tuple[dict[str, Any], int]:
    out: dict[str, Any] = {}
    at = _skip(data, at)
    while data[at : at + 2] != b">>":
        key, at = value(data, at, depth + 1)
        if not isinstance(key, Raw) or key[:1] != b"/":
            raise Broken
        out[key[1:].decode("latin-1")], at = value(data, at, depth + 1)
        at = _skip(data, at)
    return out, at + 2


def _string_end(data: bytes, at: int) -> int:
    depth, position = 0, at
    while (found := _STRING.search(data, position)) is not None:
        position = found.end()
        if found[0] == b"(":
            depth += 1
        elif found[0] == b")":
            depth -= 1
            if not depth:
                return position
        else:
            position += 1
    raise Broken


def written(told: Any) -> bytes:
    """A value as PDF writes it."""
    if isinstance(told, dict):
        return (
            b"<<" + b"".join(b"/" + key.encode("latin-1") + b" " + written(item) for key, item in told.items()) + b">>"
        )
    if isinstance(told, list):
        return b"[" + b" ".join(written(item) for item in told) + b"]"
    if isinstance(told, Ref):
        return b"%d %d R" % (told.number, told.generation)
    return bytes(told)


def name_of(told: Any) -> str:
    """A name without its stroke, empty for anything else."""
    return told[1:].decode("latin-1") if isinstance(told, Raw) and told[:1] == b"/" else ""


def number_of(told: Any, otherwise: int = 0) -> int:
    """A whole number."""
    return int(told) if isinstance(told, Raw) and told.lstrip(b"+-").isdigit() else otherwise


def find_objects(data: bytes, budget: Budget) -> dict[int, Found]:
    """The latest whole version of each object, streams of objects opened; of one that is damaged what there is of it."""
    found: dict[int, Found] = {}
    packs: list[Found] = []
    for match in _OBJECT.finditer(data):
        budget.spend()
        if len(found) > _MAX_OBJECTS:
            break
        number = int(match[1])
        try:
            told, end = value(data, match.end())
        except (Broken, RecursionError):
            continue
        each = Found(number, told, match.start())
        if isinstance(told, dict):
            _find_stream(data, each, end)
        known = found.get(number)
        if known is None or each.whole or not known.whole:
            found[number] = each
        if name_of(each.facts.get("Type")) == "ObjStm" and each.is_stream:
            packs.append(each)
    for pack in packs:
        for each in _unpacked(data, pack):
            known = found.get(each.number)
            # What stands alone behind a pack is newer than what is in it.
            if known is None or known.at < pack.at:
                found[each.number] = each
    _lengths(data, found)
    return found


def _find_stream(data: bytes, each: Found, end: int) -> None:
    at = _skip(data, end)
    if data[at : at + 6] != b"stream":
        return
    at += 6
    at += 2 if data[at : at + 2] == b"\r\n" else 1 if data[at : at + 1] in (b"\n", b"\r") else 0
    each.start = at
    length = number_of(each.facts.get("Length"), -1)
    if length >= 0 and _ends_at(data, at + length):
        each.length = length
        return
    stop = _CUT_ENDS.search(data, at)
    after = _OBJECT.search(data, at)
    if stop is not None and (after is None or stop.start() < after.start()):
        each.length = stop.start() - at
        if length > each.length and _ends_at(data, at + length):
            each.length = length
        return
    each.length = (after.start() if after is not None else len(data)) - at
    each.whole = False


def _ends_at(data: bytes, at: int) -> bool:
    return at <= len(data) and re.match(rb"[\r\n ]{0,3}endstream", data[at : at + 16]) is not None


def _lengths(data: bytes, found: dict[int, Found]) -> None:
    """Lengths that stand in objects of their own, where they fit: a stream may hold the word that ends one."""
    for each in found.values():
        told = each.facts.get("Length")
        if each.start >= 0 and isinstance(told, Ref) and told.number in found:
            length = number_of(found[told.number].value, -1)
            if length >= 0 and length != each.length and _ends_at(data, each.start + length):
                each.length, each.whole = length, True


def _unpacked(data: bytes, pack: Found) -> Iterator[Found]:
    """The objects of a stream of them, as far as it unpacks."""
    plain, _ = decoded(data, pack)
    count, first = number_of(pack.facts.get("N")), number_of(pack.facts.get("First"))
    numbers = plain[:first].split()
    for n in range(min(count, len(numbers) // 2)):
        try:
            number, offset = int(numbers[2 * n]), int(numbers[2 * n + 1])
            told, _ = value(plain, first + offset)
        except (Broken, ValueError, RecursionError):
            continue
        yield Found(number, told, pack.at)


def filters(each: Found) -> list[str]:
    """The names of a stream's filters, in order."""
    told = each.facts.get("Filter")
    return [name_of(item) for item in (told if isinstance(told, list) else [told]) if name_of(item)]


def unpacked(data: bytes, each: Found) -> tuple[bytes, bool]:
    """(what a stream unpacks to, by Flate and by digits of base 16 or 85 alone, predictors not undone; whether all of it does)."""
    raw = stream_bytes(data, each)
    whole = each.whole
    for name in filters(each):
        if name in ("FlateDecode", "Fl"):
            raw, ended = inflate_zlib(raw, _MAX_STREAM)
            whole = whole and ended
        elif name in ("ASCII85Decode", "A85"):
            raw, good = _base85(raw)
            whole = whole and good
        elif name in ("ASCIIHexDecode", "AHx"):
            digits = re.sub(rb"[^0-9A-Fa-f]", b"", raw.partition(b">")[0])
            raw = bytes.fromhex((digits + b"0")[: len(digits) + len(digits) % 2].decode())
        else:
            break
    return raw, whole


def decoded(data: bytes, each: Found) -> tuple[bytes, bool]:
    """The same with predictors of rows undone."""
    raw, whole = unpacked(data, each)
    parms = each.facts.get("DecodeParms")
    told = parms[-1] if isinstance(parms, list) and parms else parms
    if isinstance(told, dict) and number_of(told.get("Predictor"), 1) >= 10:
        bits = (
            number_of(told.get("Columns"), 1)
            * max(number_of(told.get("Colors"), 1), 1)
            * number_of(told.get("BitsPerComponent"), 8)
        )
        raw = _rows(raw, max((bits + 7) // 8, 1))
    return raw, whole


def _rows(raw: bytes, width: int) -> bytes:
    from rustfern.formats.pages.pdf_filters import row_by_row

    full = len(raw) // (width + 1) * (width + 1)
    return row_by_row(raw[:full], width)


def _base85(raw: bytes) -> tuple[bytes, bool]:
    import base64

    body = re.sub(rb"[\s\0]", b"", raw)
    end = body.find(b"~>")
    good = end >= 0
    body = body[: end if good else len(body)]
    while body:
        try:
            return base64.a85decode(body), good
        except ValueError:
            body, good = body[: len(body) - max(len(body) % 5, 1)], False
            if len(body) < 5:
                break
    return b"", False


def stream_bytes(data: bytes, each: Found) -> bytes:
    """The bytes of a stream as they are packed."""
    return each.made if each.made is not None else data[each.start : each.start + min(each.length, _MAX_STREAM)]


def write(out: BinaryIO, data: bytes, objects: dict[int, Found], root: int, info: int | None, ident: Any) -> None:
    """Write a document: its objects, a table of them, the trailer."""
    out.write(b"%PDF-1.7\n%\xe2\xe3\xcf\xd3\n")
    places: dict[int, int] = {}
    for number in sorted(objects):
        each = objects[number]
        places[number] = out.tell()
        out.write(b"%d 0 obj\n" % number)
        if each.is_stream:
            raw = stream_bytes(data, each)
            out.write(
                written({**each.facts, "Length": Raw(b"%d" % len(raw))})
                + b"\nstream\n"
                + raw
                + b"\nendstream\nendobj\n"
            )
        else:
            out.write(written(each.value) + b"\nendobj\n")
    table = out.tell()
    size = max(objects) + 1
    numbers = sorted(objects)
    out.write(b"xref\n0 1\n0000000000 65535 f \n")
    start = 0
    while start < len(numbers):
        end = start
        while end + 1 < len(numbers) and numbers[end + 1] == numbers[end] + 1:
            end += 1
        out.write(b"%d %d\n" % (numbers[start], end - start + 1))
        out.writelines(b"%010d 00000 n \n" % places[number] for number in numbers[start : end + 1])
        start = end + 1
    trailer: dict[str, Any] = {"Size": Raw(b"%d" % size), "Root": Ref(root)}
    if info is not None:
        trailer["Info"] = Ref(info)
    if ident is not None:
        trailer["ID"] = ident
    out.write(b"trailer\n" + written(trailer) + b"\nstartxref\n%d\n%%%%EOF\n" % table)


def packed(plain: bytes) -> bytes:
    """Bytes as Flate packs them."""
    return zlib.compress(plain, 6)
