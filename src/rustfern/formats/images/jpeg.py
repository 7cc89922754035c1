"""JPEG pictures: markers, tables, and a walk through every coded block of every scan, baseline and progressive.

Source: ITU T.81: B (markers and segments), F.1.2 and F.2.2 (sequential coding), G.1.2 (progressive coding), E.1.4 (restart).
The walk decodes no pixel: it proves that the codes exist, that no block runs over its 64 coefficients, and that each scan has
exactly the blocks that the picture's size asks for. It costs some fifty times what decoding costs. A larger picture is therefore decoded
first, by a decoder that stops at the first fault; only one that it refuses is walked through, which finds the place and has the last word.
What the decoder takes for whole although the walk does not: mostly blocks that run over their end in the refinements of a progressive
picture, 1 in 100 of the damages that the walk finds. So small pictures, and scans in which zeros or letters stand, are walked through always.
"""

from __future__ import annotations

import re
import struct
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.holes import lost_sector
from rustfern.formats.images.jpeg_blocks import Blocks, Part
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_MAX = 512 << 20
_MAX_BLOCKS = 64 << 20
_WALKED = 48 << 10
_WALKED_PROGRESSIVE = 160 << 10
"""Bytes up to which a picture is walked through in any case."""
_DECODED = 3 << 19
"""Most blocks of a progressive picture that is decoded: 128 bytes of each are held at once."""
_LETTER = bytes(value > 127 for value in range(256))
_NO_CODES = bytes(32)
"""So many bytes below 128 in a row are hardly codes (once in a thousand photos), but zeros, or text of another file."""
_TEXT = re.compile(rb"[\t\n\r -~]{96,}")
_LETTERS = 16
"""So many different ones no pattern of a plain area has, whose codes come again and again."""


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Walk the whole picture. Raises `Malformed`."""
    if size > _MAX:
        raise Refused("a picture of this size is refused")
    return read(stream.read(size))


def read(data: bytes, *, alone: bool = True) -> Reading:
    """The verdict on a whole picture. One of the many of a document, not `alone`, is decoded even if it is small. Raises `Malformed`."""
    if len(data) > _WALKED or not alone:
        try:
            quick = Walk(data, marks_only=True)
            reading = quick.run()
            if quick.decodes(alone=alone):
                return reading
        except Malformed:
            pass
    return Walk(data).run()


def _up(value: int, by: int) -> int:
    """Divide, rounding up."""
    return -(-value // by)


class Walk:
    """Through the whole picture; with `marks_only` through its markers, headers and restarts, not through its blocks."""

    def __init__(self, data: bytes, *, marks_only: bool = False) -> None:
        self.data, self.at, self.marks_only = data, 0, marks_only
        self.parts: dict[int, Part] = {}
        self.tables: dict[tuple[int, int], list[int]] = {}
        self.quantisers: dict[int, int] = {}
        self.width = self.height = self.interval = self.scans = 0
        self.progressive = self.hole = False
        self.covered: set[int] = set()
        self.order: list[tuple[Part, int, int]] = []
        self.band = 0, 63, 0, 0
        self.total = self.across = self.mcus_across = self.mcus_down = 0

    def run(self) -> Reading:
        while (found := self._next()) is not None:
            marker, body = found
            if marker in (0xC3, 0xC5, 0xC6, 0xC7, *range(0xC9, 0xCC), *range(0xCD, 0xD0)):
                reason = "a picture of a rare kind (lossless or arithmetic), whose inside is not verified"
                return Reading(Glance(format="jpg"), State.UNREADABLE, reason, has_text=False)
            if marker == 0xDA:
                self._scan(body)
            else:
                self._told(marker, body)
        if not self.scans or self.covered != set(self.parts):
            raise Malformed("the picture ends before all of it was there", self.at)
        rest = len(self.data) - self.at
        more = f"; {rest} bytes follow behind its end" if rest else ""
        kind = f"{self.scans} scans" if self.progressive else "every block"
        reason = f"read to the end: {kind} of {self.width} by {self.height} pixels decoded{more}"
        amounts = {"width": self.width, "height": self.height}
        return Reading(Glance(format="jpg"), State.INTACT, reason, amounts, has_text=False)

    def next_scan(self) -> bytes | None:
        """Go on to behind the head of the next scan; the numbers of its components, None at the end of the picture. Raises `Malformed`."""
        while (found := self._next()) is not None:
            marker, body = found
            if marker == 0xDA:
                return self._scan_head(body)
            self._told(marker, body)
        return None

    def _next(self) -> tuple[int, bytes] | None:
        """(marker, content) of the next segment; None at the end of the picture."""
        if not self.at:
            if self.data[:2] != b"\xff\xd8":
                raise Malformed("the start of the picture is damaged", 0)
            self.at = 2
        while True:
            marker = self._marker()
            if marker == 0xD9:
                return None
            if marker not in (0x01, *range(0xD0, 0xD8)):
                return marker, self._segment(marker)

    def _told(self, marker: int, body: bytes) -> None:
        """Take what a segment says."""
        if marker in (0xC0, 0xC1, 0xC2):
            self._frame(body, marker)
        elif marker == 0xC4:
            self._huffman(body)
        elif marker == 0xDB:
            self._quantisers(body)
        elif marker == 0xDD:
            self.interval = struct.unpack(">H", body[:2].ljust(2, b"\0"))[0]

    def decodes(self, *, alone: bool) -> bool:
        """Whether a decoder takes every block for whole, and the picture is one of which that can be believed."""
        blocks = sum(part.wide * part.tall for part in self.parts.values())
        small = alone and len(self.data) <= _WALKED_PROGRESSIVE
        if self.hole or (self.progressive and (small or blocks > _DECODED)):
            return False
        import simplejpeg

        try:
            # The smallest size, in grey where there is one: every code is read all the same.
            colours = "CMYK" if len(self.parts) == 4 else "GRAY"
            simplejpeg.decode_jpeg(self.data, colours, min_height=1, min_width=1, min_factor=8, strict=True)
        except (ValueError, MemoryError):
            return False
        return True

    def _marker(self) -> int:
        data, start = self.data, self.at
        if self.at >= len(data):
            raise Malformed("the picture stops without its end marker", len(data))
        if data[self.at] != 0xFF:
            raise Malformed("something else stands where a marker should be", start)
        while self.at < len(data) and data[self.at] == 0xFF:
            self.at += 1
        if self.at >= len(data):
            raise Malformed("the picture stops without its end marker", len(data))
        self.at += 1
        if not data[self.at - 1]:
            raise Malformed("something else stands where a marker should be", start)
        return data[self.at - 1]

    def _segment(self, marker: int) -> bytes:
        length = int.from_bytes(self.data[self.at : self.at + 2], "big")
        if length < 2 or self.at + length > len(self.data):
            raise Malformed(f"the segment {marker:02X} reaches beyond the end of the file", self.at)
        body = self.data[self.at + 2 : self.at + length]
        self.at += length
        return body

    def _frame(self, body: bytes, marker: int) -> None:
        if len(body) < 6 or len(body) < 6 + 3 * body[5] or self.parts:
            raise Malformed("the picture's header is damaged", self.at)
        _, self.height, self.width, count = struct.unpack_from(">BHHB", body)
        if not (self.width and self.height and 1 <= count <= 4):
            raise Malformed("the picture's header holds impossible values", self.at)
        self.progressive = marker == 0xC2
        for at in range(6, 6 + 3 * count, 3):
            h, v = body[at + 1] >> 4, body[at + 1] & 15
            if not (1 <= h <= 4 and 1 <= v <= 4) or body[at] in self.parts:
                raise Malformed("the picture's header holds impossible sampling factors", self.at)
            self.parts[body[at]] = Part(h, v, body[at + 2])
        most_h, most_v = max(p.h for p in self.parts.values()), max(p.v for p in self.parts.values())
        self.mcus_across = -(-self.width // (8 * most_h))
        self.mcus_down = -(-self.height // (8 * most_v))
        for part in self.parts.values():
            part.across = _up(_up(self.width * part.h, most_h), 8)
            part.down = _up(_up(self.height * part.v, most_v), 8)
            part.wide, part.tall = self.mcus_across * part.h, self.mcus_down * part.v
        if sum(part.wide * part.tall for part in self.parts.values()) > _MAX_BLOCKS:
            raise Refused(f"a picture of {self.width} by {self.height} is refused")

    def _huffman(self, body: bytes) -> None:
        """Tables as 65,536 entries: code length, 0 where there is no code, and the symbol above it."""
        at = 0
        while at + 17 <= len(body):
            ident, counts = body[at], body[at + 1 : at + 17]
            symbols = body[at + 17 : at + 17 + sum(counts)]
            if len(symbols) < sum(counts) or ident >> 4 > 1 or ident & 15 > 3:
                raise Malformed("a code table is damaged", self.at)
            table = [0] * 65536
            code = used = 0
            for length, count in enumerate(counts, 1):
                for symbol in symbols[used : used + count]:
                    low, high = code << (16 - length), (code + 1) << (16 - length)
                    if high > 65536:
                        raise Malformed("a code table holds more codes than there can be", self.at)
                    table[low:high] = [symbol << 5 | length] * (high - low)
                    code += 1
                used += count
                code <<= 1
            self.tables[ident >> 4, ident & 15] = table
            at += 17 + len(symbols)
        if at != len(body):
            raise Malformed("a code table is damaged", self.at)

    def _quantisers(self, body: bytes) -> None:
        at = 0
        while at < len(body):
            wide, ident = body[at] >> 4, body[at] & 15
            length = 128 if wide else 64
            values = body[at + 1 : at + 1 + length]
            if len(values) < length or wide > 1:
                raise Malformed("a table of quantisers is damaged", self.at)
            self.quantisers[ident] = int.from_bytes(values[:2], "big") if wide else values[0]
            at += 1 + length

    def _scan_head(self, body: bytes) -> bytes:
        """What a scan is of; the numbers of its components."""
        if not self.parts or not body or len(body) < 4 + 2 * body[0] or not 1 <= body[0] <= 4:
            raise Malformed("the header of a scan is damaged", self.at)
        idents = body[1 : 1 + 2 * body[0] : 2]
        if any(ident not in self.parts for ident in idents):
            raise Malformed("a scan is for a component that the picture does not have", self.at)
        parts = [self.parts[ident] for ident in idents]
        for part, choice in zip(parts, body[2 : 2 + 2 * body[0] : 2], strict=True):
            part.dc, part.ac = choice >> 4, choice & 15
        first, last, approximation = body[1 + 2 * body[0] : 4 + 2 * body[0]]
        if not self.progressive:
            first, last, approximation = 0, 63, 0
        high, low = approximation >> 4, approximation & 15
        steps_wrong = self.progressive and (low > 13 or (high and low != high - 1))
        if first > last or last > 63 or (first and len(parts) > 1) or steps_wrong:
            raise Malformed("the header of a scan holds impossible values", self.at)
        self.band = first, last, high, low
        if len(parts) == 1:
            part = parts[0]
            self.order = [(part, 1, 1)]
            self.total, self.across = part.across * part.down, part.across
        else:
            self.order = [(part, part.h, part.v) for part in parts]
            self.total, self.across = self.mcus_across * self.mcus_down, self.mcus_across
        return idents

    def _scan(self, body: bytes) -> None:
        idents = self._scan_head(body)
        first, last, high, _ = self.band
        order, total, across = self.order, self.total, self.across
        segments = self.segments()
        hole = lost_sector(self.data, segments[0][0], self.at)
        if hole is not None:
            raise Malformed("zeros of whole sectors inside a scan", hole)
        self._strangers(segments)
        if self.marks_only:
            if len(segments) != (_up(total, self.interval) if self.interval else 1):
                raise Malformed("the restarts of a scan are not those that its size asks for", self.at)
        else:
            coder = Blocks(
                order,
                across,
                (first, last, high),
                self.tables,
                self.quantisers,
                progressive=self.progressive,
            )
            self.blocks(coder, segments, total)
        self.scans += 1
        if not first:
            self.covered.update(idents)

    def _strangers(self, segments: list[tuple[int, bytes]]) -> None:
        """What stands in a scan that may be no codes, or cannot be."""
        for start, data in segments:
            if _NO_CODES not in data.translate(_LETTER):
                continue
            self.hole = True
            for found in _TEXT.finditer(data):
                if len(set(found.group())) >= _LETTERS:
                    raise Malformed("text of another file stands inside a scan", start + found.start())

    def blocks(self, coder: Blocks, segments: list[tuple[int, bytes]], total: int) -> None:
        """Walk through the blocks of a scan of `total` units."""
        done = 0
        for number, (start, data) in enumerate(segments):
            count = min(self.interval or total, total - done)
            if count <= 0:
                raise Malformed("a scan is longer than the picture", start)
            coder.run(data, done, count, start)
            done += count
            if done < total and not self.interval and number + 1 < len(segments):
                raise Malformed("a restart stands where there is none", start)
        if done < total:
            raise Malformed(f"the picture stops after {100 * done // total} % of a scan", self.at)

    def segments(self) -> list[tuple[int, bytes]]:
        """The coded data up to the next marker, parted at restarts, without stuffed zeros."""
        data, found, start, restart = self.data, [], self.at, 0
        at = start
        while True:
            at = data.find(b"\xff", at)
            if at < 0 or at + 1 >= len(data):
                raise Malformed("the picture stops inside a scan", len(data))
            next_step = data[at + 1]
            if next_step == 0:
                at += 2
            elif next_step == 0xFF:
                at += 1
            elif 0xD0 <= next_step <= 0xD7:
                if next_step - 0xD0 != restart:
                    raise Malformed("the restarts of the picture are out of order", at)
                found.append((start, data[start:at].replace(b"\xff\x00", b"\xff")))
                restart = (restart + 1) % 8
                at += 2
                start = at
            else:
                # Fill bytes may stand in front of a marker.
                found.append((start, data[start:at].rstrip(b"\xff").replace(b"\xff\x00", b"\xff")))
                self.at = at
                return found
