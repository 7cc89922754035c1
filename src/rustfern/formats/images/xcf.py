"""XCF pictures: header, layers, channels, every tile unpacked to its size.

Source: the published XCF file format (properties, layers, channels, hierarchy, levels, tiles of 64 by 64; versions from 11 on have wide
pointers; tiles packed by run lengths or zlib).
"""

from __future__ import annotations

import struct
import zlib
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

_TILE = 64
_MAX_SIDE = 524_288
_MAX_ITEMS = 100_000
_COMPRESSION = 17


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Follow every layer and channel to its last tile. Raises `Malformed`."""
    return _Picture(stream, size, limits).check()


class _Picture:
    def __init__(self, stream: BinaryIO, size: int, limits: Limits) -> None:
        self.size, self.limits = size, limits
        self._bytes = ByteReader(stream, size, "the picture stops inside {}", "big")
        self.wide, self.packing, self.unpacked = False, 0, 0

    def check(self) -> Reading:
        head = self._bytes.exactly(0, 26, "its header")
        version = head[9:13]
        if version == b"file":
            number = 0
        elif version[:1] == b"v" and version[1:].isdigit():
            number = int(version[1:])
        else:
            raise Malformed("the version of the picture is damaged", 9)
        self.wide = number >= 11
        width, height = struct.unpack_from(">II", head, 14)
        if not (0 < width <= _MAX_SIDE and 0 < height <= _MAX_SIDE):
            raise Malformed("the size of the picture is impossible", 14)
        at = self._properties(26 + (4 if number >= 4 else 0))
        layers, at = self._pointers(at)
        channels, _ = self._pointers(at)
        for place in layers:
            self._item(place, layer=True)
        for place in channels:
            self._item(place, layer=False)
        reason = f"read to the end: {len(layers)} layers, every tile unpacks to its size"
        amounts = {"width": width, "height": height, "layers": len(layers)}
        return Reading(Glance(format="xcf"), State.INTACT, reason, amounts, has_text=False)

    def _properties(self, at: int) -> int:
        for _ in range(_MAX_ITEMS):
            kind, length = self._bytes.unpack(">II", at, "a property")
            at += 8
            if kind == 0:
                return at
            if kind == _COMPRESSION and length == 1:
                self.packing = self._bytes.exactly(at, 1, "a property")[0]
            if kind > 1000 or at + length > self.size:
                raise Malformed("a property of the picture is damaged", at - 8)
            at += length
        raise Malformed("more properties than any picture has", at)

    def _pointer(self, at: int) -> int:
        value = self._bytes.number(at, 8 if self.wide else 4, "its list of layers")
        if value >= self.size:
            raise Malformed("the picture points beyond its end: it is cut off", at)
        return value

    def _pointers(self, at: int) -> tuple[list[int], int]:
        step = 8 if self.wide else 4
        found: list[int] = []
        while value := self._pointer(at):
            found.append(value)
            at += step
            if len(found) > _MAX_ITEMS:
                raise Malformed("more layers than any picture has", at)
        return found, at + step

    def _item(self, at: int, *, layer: bool) -> None:
        """A layer or a channel: its size and name, its properties, its tiles; the mask of a layer is a channel."""
        width, height = self._bytes.unpack(">II", at, "a layer")
        at += 12 if layer else 8
        length = self._bytes.number(at, 4, "a layer")
        at = self._properties(at + 4 + length)
        self._hierarchy(self._pointer(at), width, height)
        if layer and (mask := self._pointer(at + (8 if self.wide else 4))):
            self._item(mask, layer=False)

    def _hierarchy(self, at: int, width: int, height: int) -> None:
        w, h, depth = self._bytes.unpack(">III", at, "a layer")
        if (w, h) != (width, height) or not 0 < depth <= 32 or not (0 < w <= _MAX_SIDE and 0 < h <= _MAX_SIDE):
            raise Malformed("the picture's layer disagrees with its own size", at)
        level = self._pointer(at + 12)
        if self._bytes.unpack(">II", level, "a layer") != (w, h):
            raise Malformed("the picture's layer disagrees with its own size", level)
        tiles, _ = self._pointers(level + 8)
        across, down = -(-w // _TILE), -(-h // _TILE)
        if len(tiles) != across * down:
            raise Malformed(f"a layer has {len(tiles)} of its {across * down} tiles", level)
        for number, place in enumerate(tiles):
            row, column = divmod(number, across)
            pixels = min(_TILE, w - column * _TILE) * min(_TILE, h - row * _TILE)
            self._tile(place, pixels, depth)

    def _tile(self, at: int, pixels: int, depth: int) -> None:
        wanted = pixels * depth
        self.unpacked += wanted
        if self.unpacked > self.limits.unpacked:
            raise Refused("it would unpack to more than can be a picture: refused")
        if self.packing == 0:
            self._bytes.exactly(at, wanted, "a tile")
            return
        data = self._bytes.upto(at, wanted * 3 // 2 + 64)
        if self.packing == 2:
            inflate = zlib.decompressobj()
            try:
                got = len(inflate.decompress(data, wanted + 1))
            except zlib.error as error:
                raise Malformed("a tile of the picture cannot be unpacked", at) from error
            if got != wanted or not inflate.eof:
                raise Malformed(f"a tile of the picture has {got} of {wanted} bytes", at)
        elif self.packing == 1:
            place = 0
            for _ in range(depth):
                place = _runs(data, place, pixels, at)
        else:
            raise Refused(f"tiles packed by way {self.packing}, which is not known: refused")


def _runs(data: bytes, place: int, pixels: int, at: int) -> int:
    """Step over the runs of one channel of a tile."""
    got = 0
    while got < pixels:
        if place + 3 > len(data) and place + 1 >= len(data):
            raise Malformed("the picture stops inside a tile", at + place)
        code = data[place]
        place += 1
        if code in (127, 128):
            length = int.from_bytes(data[place : place + 2], "big")
            place += 2 + (1 if code == 127 else length)
        elif code < 127:
            length = code + 1
            place += 1
        else:
            length = 256 - code
            place += length
        got += length
    if got != pixels or place > len(data):
        raise Malformed("a tile of the picture does not unpack to its size", at)
    return place
