"""PNG pictures: every chunk's sum, image data that inflates to the very size of the picture, the end chunk.

Source: W3C PNG (third edition) 5.3 (chunks and CRC), 8 (interlacing), 9 (filter types 0 to 4), 10 (zlib data), 11.2.
"""

from __future__ import annotations

import struct
import zlib
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_SIGN = b"\x89PNG\r\n\x1a\n"
_SAMPLES = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}
_DEPTHS = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
_PASSES = ((0, 0, 8, 8), (4, 0, 8, 8), (0, 4, 4, 8), (2, 0, 4, 4), (0, 2, 2, 4), (1, 0, 2, 2), (0, 1, 1, 2))
_MORE = 1 << 20
"""Bytes behind the last row that are no damage: some encoders leave them (libpng says so, and goes on)."""
_STEP = 1 << 18
_MORE = 1 << 20
"""Bytes behind the last row, which some encoders leave: readers say so, and show the picture."""


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Read all chunks. Raises `Malformed`."""
    if stream.read(8) != _SIGN:
        raise Malformed("the signature of the picture is damaged", 0)
    at, width, height, bits, interlaced = 8, 0, 0, 0, 0
    inflate = zlib.decompressobj()
    got = expected = row = 0
    ended = False
    while not ended:
        head = stream.read(8)
        if len(head) < 8:
            raise Malformed("the picture stops before its end chunk", at + len(head))
        length, kind = struct.unpack(">I4s", head)
        if at + 12 + length > size:
            raise Malformed(f"the chunk {_shown(kind)} reaches beyond the end of the file", at)
        if not kind.isalpha():
            raise Malformed("the name of a chunk is damaged", at + 4)
        sum_, left = zlib.crc32(kind), length
        first = b""
        while left:
            data = stream.read(min(left, _STEP))
            if not data:
                raise Malformed("the picture stops inside a chunk", at + 8 + length - left)
            left -= len(data)
            sum_ = zlib.crc32(data, sum_)
            first = first or data
            if kind == b"IDAT":
                got = _inflate(inflate, data, got, expected, row, at)
        if struct.unpack(">I", stream.read(4).ljust(4, b"\0"))[0] != sum_:
            raise Malformed(f"the sum of the chunk {_shown(kind)} does not fit", at)
        if kind == b"IHDR":
            width, height, bits, interlaced = _header(first, at)
            row = (width * bits + 7) // 8 + 1 if not interlaced else 0
            expected = _expected(width, height, bits, interlaced)
            if expected > limits.unpacked:
                raise Refused(f"a picture of {width} by {height} would unpack to too much: refused")
        elif at == 8:
            raise Malformed("the first chunk is not the picture's header", at)
        at += 12 + length
        ended = kind == b"IEND"
    if got < expected:
        raise Malformed(f"the image data unpacks to {got} of {expected} bytes", at)
    if not inflate.eof:
        raise Malformed("the image data stops before its own end", at)
    more = f"; {got - expected} bytes more than its rows need" if got > expected else ""
    more += f"; {size - at} bytes follow behind its end" if size > at else ""
    reason = f"read to the end: all sums fit, {width} by {height} pixels{more}"
    return Reading(Glance(format="png"), State.INTACT, reason, {"width": width, "height": height}, has_text=False)


def _header(data: bytes, at: int) -> tuple[int, int, int, int]:
    if len(data) != 13:
        raise Malformed("the picture's header has a wrong length", at)
    width, height, depth, colour, packing, filters, interlaced = struct.unpack(">IIBBBBB", data)
    right = colour in _SAMPLES and depth in _DEPTHS[colour] and not packing and not filters and interlaced < 2
    if not (width and height and right):
        raise Malformed("the picture's header holds impossible values", at + 8)
    return width, height, depth * _SAMPLES[colour], interlaced


def _expected(width: int, height: int, bits: int, interlaced: int) -> int:
    if not interlaced:
        return ((width * bits + 7) // 8 + 1) * height
    total = 0
    for x, y, across, down in _PASSES:
        columns, rows = -(-(width - x) // across), -(-(height - y) // down)
        if columns > 0 and rows > 0:
            total += ((columns * bits + 7) // 8 + 1) * rows
    return total


def _inflate(inflate: zlib._Decompress, data: bytes, got: int, expected: int, row: int, at: int) -> int:
    while data and not inflate.eof:
        try:
            piece = inflate.decompress(data, _STEP)
        except zlib.error as error:
            raise Malformed("the image data is damaged", at) from error
        if row and got < expected:
            # Each row begins with its filter type; anything else shows data of another place.
            for value in piece[-got % row : expected - got : row]:
                if value > 4:
                    raise Malformed("a row of the picture has an impossible filter", at)
        got += len(piece)
        if got > expected + _MORE:
            raise Malformed("the image data is longer than the picture", at)
        data = inflate.unconsumed_tail
    return got


def _shown(kind: bytes) -> str:
    return kind.decode("latin-1")
