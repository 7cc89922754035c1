"""Pictures in layers: the layers of an XCF picture that are whole, the sections of a PSD picture; and of anything the largest picture in it.

Source: the published layouts of XCF (header, properties, layer list, hierarchies, tiles) and of PSD (header, resources, layers, merged picture);
ISO/IEC 15948 and ITU T.81 for the pictures that are found in other files.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Iterator
from typing import BinaryIO

from rustfern.core.errors import Malformed
from rustfern.formats import registry as formats
from rustfern.formats.office.embedded import check_picture
from rustfern.repair.interface import MAX_HELD_BYTES, Job, Loss, LossKind, NothingLeft, Outcome, Step

_MAX_PICTURES = 400
_LEAST_PICTURE = 400
_MAX_LAYERS = 10_000
_PNG, _PNG_END = b"\x89PNG\r\n\x1a\n", b"IEND\xaeB`\x82"
_JPEG, _JPEG_END = b"\xff\xd8\xff", b"\xff\xd9"


def repair_xcf(job: Job, out: BinaryIO) -> Outcome:
    """Write a picture of its whole layers. Raises `NothingLeft`."""
    data = job.data(MAX_HELD_BYTES)
    if data[:9] != b"gimp xcf " or len(data) < 60:
        raise NothingLeft("it does not begin like a picture in layers")
    number = int(data[10:13]) if data[9:10] == b"v" and data[10:13].isdigit() else 0
    wide = 8 if number >= 11 else 4
    at = 26 + (4 if number >= 4 else 0)
    while at + 8 <= len(data):
        kind, length = struct.unpack_from(">II", data, at)
        at += 8 + (length if kind else 0)
        if kind == 0:
            break
        if kind > 1000 or length > len(data):
            raise NothingLeft("the properties of the picture are damaged")
    lists: list[list[int]] = []
    places = at
    for _ in range(2):
        found: list[int] = []
        while places + wide <= len(data) and len(found) < _MAX_LAYERS:
            value = int.from_bytes(data[places : places + wide], "big")
            places += wide
            if not value:
                break
            found.append(value)
        lists.append(found)
    layers, channels = lists
    sound = [place for place in layers if _layer_sound(data, at, wide, [place], [])]
    good_channels = [place for place in channels if _layer_sound(data, at, wide, sound[:1], [place])]
    if not sound:
        raise NothingLeft("no layer of the picture is whole")
    made = _with_lists(data, at, wide, sound, good_channels, len(layers) + len(channels) + 2)
    out.write(made)
    lost = Loss(LossKind.LAYERS, "", len(layers) - len(sound))
    return Outcome("xcf", (Step.LAYERS,), (lost,))


def _with_lists(data: bytes, at: int, wide: int, layers: list[int], channels: list[int], room: int) -> bytes:
    raw = b"".join(value.to_bytes(wide, "big") for value in (*layers, 0, *channels, 0))
    return data[:at] + raw.ljust(room * wide, b"\0") + data[at + room * wide :]


def _layer_sound(data: bytes, at: int, wide: int, layers: list[int], channels: list[int]) -> bool:
    """Whether a picture of these layers alone would be whole."""
    made = _with_lists(data, at, wide, layers, channels, len(layers) + len(channels) + 2)
    return str(formats.check(io.BytesIO(made), "x.xcf", digest=False, counted=False).state) == "intact"


def repair_psd(job: Job, out: BinaryIO) -> Outcome:
    """Write a picture of its sections: layers where they are whole, rows of the merged picture as far as they go. Raises `NothingLeft`."""
    data = job.data(MAX_HELD_BYTES)
    if data[:4] != b"8BPS" or len(data) < 40:
        raise NothingLeft("it does not begin like a picture in layers")
    version, channels, height, width, depth = struct.unpack_from(">H6xHIIH", data, 4)
    if not (0 < channels <= 56 and 0 < height <= 300_000 and 0 < width <= 300_000 and depth in (1, 8, 16, 32)):
        raise NothingLeft("the header of the picture is damaged")
    made, lost, at = bytearray(data[:26]), [], 26
    has_layers = False
    for section, size in (("colours", 4), ("resources", 4), ("layers", 8 if version == 2 else 4)):
        length = int.from_bytes(data[at : at + size], "big")
        if at + size + length <= len(data) and at + size <= len(data):
            made += data[at : at + size + length]
            has_layers |= section == "layers" and length > 0
        else:
            made += bytes(size)
            lost.append(Loss(LossKind.LAYERS if section == "layers" else LossKind.PARTS, section))
        at += size + length
    row = (width * depth + 7) // 8
    rows, there = _merged_rows(data, at, version, height * channels, row) if at + 2 <= len(data) else ([], 0)
    if not there and not has_layers:
        raise NothingLeft("neither a layer nor a row of the picture is whole")
    white = b"\xff" * row
    rows += [white] * (height * channels - len(rows))
    made += b"\0\0" + b"".join(rows)
    if there < height * channels:
        lost.append(Loss(LossKind.ROWS, "merged picture", (height * channels - there) // max(channels, 1)))
    out.write(made)
    return Outcome("psd", (Step.LAYERS,), tuple(lost))


def _merged_rows(data: bytes, at: int, version: int, count: int, row: int) -> tuple[list[bytes], int]:
    """(the rows of the merged picture, how many of them are there)."""
    packing = int.from_bytes(data[at : at + 2], "big")
    at += 2
    if packing == 0:
        rows = [data[at + n * row : at + (n + 1) * row] for n in range(min(count, (len(data) - at) // row))]
        return rows, len(rows)
    if packing != 1:
        return [], 0
    wide = 4 if version == 2 else 2
    table = data[at : at + wide * count]
    place = at + wide * count
    rows = []
    for n in range(len(table) // wide):
        length = int.from_bytes(table[n * wide : (n + 1) * wide], "big")
        raw = data[place : place + length]
        if len(raw) < length:
            break
        plain = _unpack_bits(raw, row)
        rows.append(plain if plain is not None else b"\xff" * row)
        place += length
    return rows, len(rows)


def _unpack_bits(raw: bytes, row: int) -> bytes | None:
    out, at = bytearray(), 0
    while at < len(raw) and len(out) < row:
        code = raw[at]
        at += 1
        if code < 128:
            out += raw[at : at + code + 1]
            at += code + 1
        elif code > 128 and at < len(raw):
            out += raw[at : at + 1] * (257 - code)
            at += 1
    return bytes(out) if len(out) == row else None


def repair_by_preview(job: Job, out: BinaryIO) -> Outcome:
    """Write the largest whole picture that lies in a file whose format cannot be put together again. Raises `NothingLeft`."""
    best, kind = _largest_within(job)
    out.write(best)
    return Outcome(kind, (Step.PREVIEW,), (Loss(LossKind.FORMAT, f"a picture ({kind})"), Loss(LossKind.LAYERS)))


def repair_by_small_picture(job: Job, out: BinaryIO) -> Outcome:
    """Write the small picture in the head of one of which nothing else can be had. Raises `NothingLeft`."""
    best, kind = _largest_within(job)
    out.write(best)
    return Outcome(kind, (Step.PREVIEW,), (Loss(LossKind.LARGE),))


def _largest_within(job: Job) -> tuple[bytes, str]:
    best, kind = b"", ""
    for data in _sources(job):
        at, count = 0, 0
        while count < _MAX_PICTURES:
            png, jpeg = data.find(_PNG, at), data.find(_JPEG, at)
            starts = [place for place in (png, jpeg) if place >= 0]
            if not starts:
                break
            at = min(starts)
            count += 1
            is_png = at == png
            picture = _whole_picture(data, at, is_png=is_png)
            if len(picture) > max(len(best), _LEAST_PICTURE):
                best, kind = picture, "png" if is_png else "jpg"
            at += max(len(picture), 3)
    if not best:
        raise NothingLeft("nothing of it can be put together again, and no whole picture lies in it")
    return best, kind


def _sources(job: Job) -> Iterator[bytes]:
    """The bytes of a file, and of the members of a package."""
    data = job.data(MAX_HELD_BYTES, in_part=True)
    yield data
    if data[:2] == b"PK":
        from rustfern.repair.zip_salvage import content, find_members

        for member in find_members(data):
            if member.method and member.name.casefold().endswith((".png", ".jpg", ".jpeg")):
                yield content(data, member, job.budget).data


def _whole_picture(data: bytes, at: int, *, is_png: bool) -> bytes:
    """The picture that begins at a place, if it is whole; of a JPEG within a JPEG the outer one."""
    ends, place = (_PNG_END if is_png else _JPEG_END), at
    for _ in range(6):
        place = data.find(ends, place + 2)
        if place < 0:
            return b""
        picture = data[at : place + len(ends)]
        try:
            check_picture(picture)
        except Malformed:
            if is_png:
                return b""
            continue
        return picture
    return b""
