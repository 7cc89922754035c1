"""HEIF and AVIF pictures: every item where the tables say, coded pictures that fill their extents, references that lead to items.

Source: ISO/IEC 23008-12 (6 and 9), ISO/IEC 14496-12 (8.11: `meta`, `iloc`, `iinf`, `iref`, `pitm`), 14496-15 (length-prefixed units), the AV1
bitstream specification (5.3: units with sizes).
"""

from __future__ import annotations

import struct
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.media.mp4 import box, inside
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

_MAX_META, _MAX_ITEMS, _MAX_PICTURE = 64 << 20, 100_000, 256 << 20
_HOLE = bytes(2048)
_DERIVED = (b"grid", b"iden", b"iovl", b"tmap")


class _Item(msgspec.Struct):
    kind: bytes = b""
    within: bool = False  # in the table's own data, not in the file
    extents: list[tuple[int, int]] = msgspec.field(default_factory=list)


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Read all boxes and items. Raises `Malformed`."""
    read = ByteReader(stream, size)
    meta: bytes | None = None
    at, brand, recording = 0, b"", False
    while at < size:
        kind, start, end = box(read, at)
        if kind == b"ftyp":
            brand = read.upto(start, 4)
        elif kind == b"meta":
            if end - start > _MAX_META:
                raise Refused("the tables of the picture are too large: refused", at)
            meta = read.upto(start + 4, end - start - 4)
        recording = recording or kind == b"moov"
        at = end
    if meta is None and recording:
        from rustfern.formats.media import mp4

        stream.seek(0)
        return mp4.check(stream, size, name, sink, limits)
    if meta is None:
        raise Malformed("the table of the pictures is missing", size)
    boxes = dict(inside(meta, 0))
    if b"iloc" not in boxes or b"iinf" not in boxes:
        raise Malformed("the table that tells where the pictures lie is missing")
    items = _located(boxes[b"iloc"])
    _named(boxes[b"iinf"], items)
    first = _number(boxes.get(b"pitm", b""), 4)
    if first is not None and first not in items:
        raise Malformed(f"the first picture ({first}) is not in the tables")
    for source, target in _references(boxes.get(b"iref", b"")):
        if source not in items or target not in items:
            raise Malformed(f"picture {source} is made of {target}, which is not there")
    prefix = _prefix(boxes.get(b"iprp", b""))
    held = boxes.get(b"idat", b"")
    pictures = 0
    for number, item in sorted(items.items()):
        end = len(held) if item.within else size
        if any(offset + length > end for offset, length in item.extents):
            raise Malformed(f"part {number} of the picture lies behind the end of the file", size)
        if item.within or item.kind in _DERIVED or not item.extents:
            continue
        total = sum(length for _, length in item.extents)
        if total > _MAX_PICTURE:
            raise Refused("a picture in it is too large: refused")
        data = b"".join(read.upto(offset, length) for offset, length in item.extents)
        if item.kind in (b"hvc1", b"hev1", b"av01", b"jpeg") and _HOLE in data:
            raise Malformed(f"zeros inside part {number} of the picture", item.extents[0][0])
        if item.kind in (b"hvc1", b"hev1"):
            _units(data, prefix, number)
        elif item.kind == b"av01":
            _sized_units(data, number)
        pictures += item.kind in (b"hvc1", b"hev1", b"av01", b"jpeg")
    if not pictures:
        raise Malformed("it holds no picture")
    packed = "AV1" if brand in (b"avif", b"avis") else "HEVC"
    reason = f"read to the end: {pictures} coded pictures fill their places, all {len(items)} items are where the tables say; the coded pixels carry no sum"
    needs = f"its pictures are packed as {packed}, for which some programs lack the decoder"
    return Reading(Glance(format="heif", needs=needs), State.INTACT, reason, {"pictures": pictures}, has_text=False)


def _number(body: bytes, at: int) -> int | None:
    """A number of two bytes behind version and flags, of four from version 1 on."""
    if len(body) < at + 2:
        return None
    return int.from_bytes(body[at : at + (4 if body[0] else 2)], "big")


def _located(body: bytes) -> dict[int, _Item]:
    """Item → where its bytes lie (`iloc`, versions 0 to 2)."""
    try:
        version, (sizes, more) = body[0], struct.unpack_from(">BB", body, 4)
        of_offset, of_length, of_base, of_index = sizes >> 4, sizes & 15, more >> 4, more & 15 if version else 0
        wide = ">I" if version == 2 else ">H"
        at = 6
        (count,) = struct.unpack_from(wide, body, at)
        at += 4 if version == 2 else 2
        if count > _MAX_ITEMS:
            raise Refused("the picture claims more items than any has: refused")
        items: dict[int, _Item] = {}
        for _ in range(count):
            (number,) = struct.unpack_from(wide, body, at)
            at += 4 if version == 2 else 2
            item = _Item()
            if version:
                item.within = struct.unpack_from(">H", body, at)[0] & 15 == 1
                at += 2
            base = int.from_bytes(body[at + 2 : at + 2 + of_base], "big")
            at += 2 + of_base
            (extents,) = struct.unpack_from(">H", body, at)
            at += 2
            for _ in range(extents):
                at += of_index
                offset = base + int.from_bytes(body[at : at + of_offset], "big")
                length = int.from_bytes(body[at + of_offset : at + of_offset + of_length], "big")
                at += of_offset + of_length
                item.extents.append((offset, length))
            if at > len(body):
                raise Malformed("the table that tells where the pictures lie stops before its end")
            items[number] = item
    except (struct.error, IndexError) as error:
        raise Malformed("the table that tells where the pictures lie is damaged") from error
    return items


def _named(body: bytes, items: dict[int, _Item]) -> None:
    """Give items their kinds (`iinf` with `infe`, versions 2 and 3)."""
    for kind, entry in inside(body[6 if body[:1] == b"\0" else 8 :], 0):
        if kind != b"infe" or len(entry) < 12:
            continue
        wide = entry[0] >= 3
        number = int.from_bytes(entry[4 : 8 if wide else 6], "big")
        at = 10 if wide else 8
        items.setdefault(number, _Item()).kind = entry[at : at + 4]


def _references(body: bytes) -> list[tuple[int, int]]:
    """(an item that is made of others, one of them), from `iref`."""
    found: list[tuple[int, int]] = []
    step = 4 if body[:1] == b"\1" else 2
    for kind, entry in inside(body[4:], 0) if body else ():
        if kind != b"dimg" or len(entry) < step + 2:
            continue
        source = int.from_bytes(entry[:step], "big")
        count = int.from_bytes(entry[step : step + 2], "big")
        for place in range(count):
            at = step + 2 + step * place
            found.append((source, int.from_bytes(entry[at : at + step], "big")))
    return found


def _prefix(body: bytes) -> int:
    """How many bytes tell the length of a coded unit (`hvcC`); four where nothing does."""
    for kind, inner in inside(body, 0) if body else ():
        if kind == b"ipco":
            for name, value in inside(inner, 0):
                if name == b"hvcC" and len(value) > 21:
                    return (value[21] & 3) + 1
    return 4


def _units(data: bytes, prefix: int, number: int) -> None:
    at = 0
    while at < len(data):
        at += prefix + int.from_bytes(data[at : at + prefix], "big")
    if at != len(data):
        raise Malformed(f"the coded units of part {number} do not fill it")


def _sized_units(data: bytes, number: int) -> None:
    at = 0
    while at < len(data):
        head = data[at]
        at += 2 if head & 4 else 1
        if head & 0x80:
            raise Malformed(f"a coded unit of part {number} begins wrong")
        if not head & 2:
            return  # the last one goes to the end
        length = shift = 0
        while at < len(data) and shift < 56:
            length |= (data[at] & 0x7F) << shift
            shift += 7
            at += 1
            if not data[at - 1] & 0x80:
                break
        at += length
    if at != len(data):
        raise Malformed(f"the coded units of part {number} do not fill it")
