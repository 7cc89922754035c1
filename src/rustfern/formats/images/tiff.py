"""TIFF and BigTIFF pictures: every directory, every strip and tile within the file and unpacking to its size.

Source: TIFF 6.0, sections 2 (structure), 9 (PackBits), 13 (LZW), 15 (tiles); TIFF Technical Note 2 (Deflate); the BigTIFF design.
"""

from __future__ import annotations

import struct
import zlib
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.images import lzw
from rustfern.formats.images.raster import refused
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

_MORE = 1 << 20
_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4, 16: 8, 17: 8, 18: 8}
_MAX_DIRECTORIES = 10_000
_MAX_VALUES = 4_000_000
_DECODED = 64 << 20
_TOGETHER = 8 << 20
"""Bytes that strips unpack to which are decoded at once."""
Tags = dict[int, tuple[int, ...]]


class _Tiff:
    def __init__(self, stream: BinaryIO, size: int, limits: Limits) -> None:
        self.size, self.limits = size, limits
        head = stream.read(16)
        self.order = {b"II": "<", b"MM": ">"}.get(head[:2], "")
        version = struct.unpack_from(f"{self.order or '<'}H", head.ljust(16, b"\0"), 2)[0]
        if not self.order or version not in (42, 43):
            raise Malformed("the start of the picture is damaged", 0)
        self.big = version == 43
        self.bytes = ByteReader(
            stream, size, "{} lies beyond the end of the file", "little" if self.order == "<" else "big"
        )
        self.first = struct.unpack_from(
            f"{self.order}{'Q' if self.big else 'I'}", head.ljust(16, b"\0"), 8 if self.big else 4
        )[0]

    def directories(self) -> list[Tags]:
        found: list[Tags] = []
        at, seen = self.first, set[int]()
        while at:
            if at in seen or len(found) >= _MAX_DIRECTORIES:
                raise Malformed("the directories of the picture loop", at)
            seen.add(at)
            tags, at = self._directory(at)
            found.append(tags)
        if not found:
            raise Malformed("the picture has no directory", 4)
        return found

    def _directory(self, at: int) -> tuple[Tags, int]:
        wide = 8 if self.big else 2
        count = self.bytes.number(at, wide, "a directory")
        entry, room = (20, 8) if self.big else (12, 4)
        if not 0 < count <= 4096:
            raise Malformed(f"a directory claims {count} entries", at)
        body = self.bytes.exactly(at + wide, count * entry + room, "a directory")
        tags: Tags = {}
        for number in range(count):
            where = number * entry
            tag, kind = struct.unpack_from(f"{self.order}HH", body, where)
            amount = struct.unpack_from(f"{self.order}{'Q' if self.big else 'I'}", body, where + 4)[0]
            if not kind:
                raise Malformed("an entry of a directory is zeros", at + wide + where)
            width = _SIZES.get(kind)
            if width is None:
                continue  # kinds of later versions are passed over (TIFF 6.0, section 2)
            if amount > _MAX_VALUES and width * amount > self.size:
                raise Malformed(f"the entry {tag} claims more than the file holds", at)
            value_at = where + entry - room
            data = body[value_at : value_at + room]
            if width * amount > room:
                offset = struct.unpack_from(f"{self.order}{'Q' if self.big else 'I'}", data)[0]
                data = self.bytes.exactly(offset, width * amount, f"the entry {tag}")
            letter = {1: "B", 2: "H", 4: "I", 8: "Q"}.get(width, "B") if kind not in (2, 5, 7, 10, 11, 12) else ""
            if letter and 0 < amount <= _MAX_VALUES:
                tags[tag] = struct.unpack_from(f"{self.order}{amount}{letter}", data)
        return tags, struct.unpack_from(f"{self.order}{'Q' if self.big else 'I'}", body, count * entry)[0]


_DECODED_PACKINGS = frozenset({1, 2, 3, 4, 5, 6, 7, 8, 32773, 32809, 32946, 34925, 50000})
"""Kinds of packing that the common decoder knows, however it was built."""


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Follow all directories and unpack what can be. Raises `Malformed`."""
    picture = _Tiff(stream, size, limits)
    directories = picture.directories()
    verified = strips = 0
    for tags in directories:
        done, all_ = _image(picture, tags)
        verified += done
        strips += all_
    if not strips:
        raise Malformed("the picture holds no image data")
    if verified < strips and size <= _DECODED:
        stream.seek(0)
        if refusal := refused(stream.read(size)):
            strange = {tags.get(259, (1,))[0] for tags in directories} - _DECODED_PACKINGS
            if strange:
                raise Refused(f"its pixels are packed in a way ({min(strange)}) that is not unpacked here")
            raise Malformed(f"a strip of the picture is damaged ({refusal})")
    width, height = directories[0].get(256, (0,))[0], directories[0].get(257, (0,))[0]
    extent = (
        "all of them unpacked to their size" if verified == strips else f"{verified} of them unpacked to their size"
    )
    reason = f"read to the end: {len(directories)} pictures, {strips} strips and tiles, {extent}"
    return Reading(
        Glance(format="tiff", needs="BigTIFF, which many programs do not read" if picture.big else None),
        State.INTACT,
        reason,
        {"width": width, "height": height, "pages": len(directories)},
        has_text=False,
    )


_COLOURS = {
    0: 1,
    1: 1,
    2: 3,
    3: 1,
    4: 1,
    5: 4,
    6: 3,
    8: 3,
    9: 3,
    10: 3,
    32803: 1,
    32844: 1,
    32845: 1,
    34892: 1,
    51177: 1,
    52527: 1,
}
"""Photometric interpretation → values a pixel at least (TIFF 6.0, section 8; TIFF/EP and DNG for raw pictures)."""


def _image(picture: _Tiff, tags: Tags) -> tuple[int, int]:
    """(strips and tiles that were unpacked to their size, all of them) of one picture."""
    width, height = tags.get(256, (0,))[0], tags.get(257, (0,))[0]
    tiled = 324 in tags
    offsets, counts = tags.get(324 if tiled else 273, ()), tags.get(325 if tiled else 279, ())
    if not width or not height:
        raise Malformed("a directory has no width and height")
    if not offsets and 330 in tags:
        return 0, 0
    samples, planar = tags.get(277, (1,))[0], tags.get(284, (1,))[0]
    meaning = tags.get(262, (0,))[0]
    if (
        meaning not in _COLOURS
        or samples < (1 if planar == 2 else _COLOURS[meaning])
        or (meaning == 3 and 320 not in tags)
    ):
        raise Malformed(f"its {samples} values a pixel do not fit their meaning ({meaning})")
    depths = tags.get(258, (1,))
    bits = depths[0] if planar == 2 else sum(depths) if len(depths) > 1 else depths[0] * samples
    if tiled:
        across, down = tags.get(322, (0,))[0], tags.get(323, (0,))[0]
        if not across or not down:
            raise Malformed("a picture of tiles has no size of a tile")
        wanted = -(-width // across) * -(-height // down) * (samples if planar == 2 else 1)
        rows, columns = [down] * wanted, across
    else:
        each = min(tags.get(278, (height,))[0] or height, height)
        per_plane = -(-height // each)
        wanted = per_plane * (samples if planar == 2 else 1)
        rows = [min(each, height - (n % per_plane) * each) for n in range(min(wanted, len(offsets)))]
        columns = width
    if len(offsets) < wanted or (counts and len(counts) < wanted):
        raise Malformed(f"only {len(offsets)} of {wanted} strips or tiles have a place")
    packing = tags.get(259, (1,))[0]
    subsampled = tags.get(262, (0,))[0] == 6 and packing not in (6, 7)
    row_bytes = (columns * bits + 7) // 8
    done, waiting = 0, _Waiting(row_bytes)
    if row_bytes * sum(rows[:wanted]) > picture.limits.unpacked:
        raise Refused(f"a picture of {width} by {height} would unpack to too much: refused")
    for number in range(wanted):
        length = counts[number] if counts else row_bytes * rows[number]
        if not length and not offsets[number]:
            continue  # a hole that is allowed: nothing was drawn there
        data = picture.bytes.exactly(offsets[number], length, "a strip of the picture")
        size = row_bytes * rows[number]
        if packing == 5 and data[:2] != b"\0\1" and not subsampled and size <= _TOGETHER:
            waiting.add(data, rows[number], offsets[number])
            done += 1
            continue
        got = _unpacked(data, packing, size, offsets[number]) if not subsampled else None
        if got is None:
            continue
        if got < size:
            raise Malformed(f"a strip unpacks to {got} of {size} bytes", offsets[number])
        done += 1
    waiting.decide()
    return done, wanted


class _Waiting:
    """LZW strips that are decoded together, as the rows of one grey picture: a decoder is asked once for many of them. What it refuses is
    followed code by code, which finds the place and has the last word.
    """

    def __init__(self, row_bytes: int) -> None:
        self._row_bytes = row_bytes
        self._strips: list[tuple[bytes, int, int]] = []
        self._rows = 0

    def add(self, data: bytes, rows: int, at: int) -> None:
        """One strip of so many rows, and its place in the file. Raises `Malformed` for one before it."""
        if self._strips and (rows != self._strips[0][1] or (self._rows + rows) * self._row_bytes > _TOGETHER):
            self.decide()
        self._strips.append((data, rows, at))
        self._rows += rows

    def decide(self) -> None:
        """Judge all that wait. Raises `Malformed`."""
        strips, rows, wide = self._strips, self._rows, self._row_bytes
        self._strips, self._rows = [], 0
        if not strips or refused(_grey([data for data, _, _ in strips], strips[0][1], rows, wide)) is None:
            return
        for data, high, at in strips:
            if (got := _codes(data, wide * high, at)) < wide * high:
                raise Malformed(f"a strip unpacks to {got} of {wide * high} bytes", at)


def _grey(strips: list[bytes], each: int, rows: int, wide: int) -> bytes:
    """A picture of one byte a pixel made of LZW strips of `each` rows."""
    count = len(strips)
    numbers = struct.Struct(f"<{count}I")
    places = [8]
    for data in strips:
        places.append(places[-1] + len(data))
    tables = places.pop()
    apart = count > 1  # one number stands in the directory itself
    tags = [(256, 1, wide), (257, 1, rows), (258, 1, 8), (259, 1, 5), (262, 1, 1), (273, count, tables if apart else places[0]),
        (277, 1, 1), (278, 1, each), (279, count, tables + numbers.size if apart else len(strips[0]))]  # fmt: skip
    directory = struct.pack("<H", len(tags)) + b"".join(
        struct.pack("<HHII", tag, 4, many, value) for tag, many, value in tags
    )
    lists = numbers.pack(*places) + numbers.pack(*map(len, strips))
    start = struct.pack("<2sHI", b"II", 42, tables + len(lists))
    return b"".join([start, *strips, lists, directory, bytes(4)])


def _unpacked(data: bytes, packing: int, size: int, at: int) -> int | None:
    """How many bytes a strip unpacks to (at most `size`); None for a packing that is not verified."""
    if packing == 1:
        return len(data)
    if packing in (8, 32946):
        try:
            inflate = zlib.decompressobj()
            got = len(inflate.decompress(data, size + 1))
            if got > size:  # more than its rows: the sum at its end tells whether that was meant
                inflate.decompress(inflate.unconsumed_tail, size + _MORE)
        except zlib.error as error:
            raise Malformed("a strip of the picture is damaged", at) from error
        return min(got, size)
    if packing == 32773:
        return _pack_bits(data, size)
    if packing == 5 and data[:2] != b"\0\1":
        return _codes(data, size, at)
    return None


def _pack_bits(data: bytes, size: int) -> int:
    at = got = 0
    while at < len(data) and got < size:
        head = data[at]
        if head < 128:
            at += head + 2
            got += head + 1 if at <= len(data) else len(data) - at + head + 1
        else:
            at += 1 if head == 128 else 2
            got += 0 if head == 128 else 257 - head
    return got


def _codes(data: bytes, size: int, at: int) -> int:
    """How many bytes the codes of a strip stand for (at most `size`)."""
    try:
        return min(lzw.measure(data, most=size), size)
    except Malformed as error:
        raise Malformed(f"in a strip {error.reason}", at + (error.offset or 0)) from error
