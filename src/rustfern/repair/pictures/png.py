"""PNG pictures that are cut off, have holes, flipped bits or changed line ends: all rows that can be had, packed again.

Source: W3C PNG, 5 (chunks), 7 and 8 (rows and passes), 9 (filters).
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator, Sequence
from typing import BinaryIO

import msgspec

from rustfern.formats.holes import lost_sector
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

_MARK = b"\x89PNG\r\n\x1a\n"
_KNOWN = frozenset(
    {b"IHDR", b"PLTE", b"IDAT", b"IEND", b"tRNS", b"cHRM", b"gAMA", b"iCCP", b"sBIT", b"sRGB", b"tEXt", b"zTXt", b"iTXt", b"bKGD", b"hIST", b"pHYs",
     b"sPLT", b"tIME", b"eXIf", b"cICP"}
)  # fmt: skip
_CHANNELS = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}
_DEPTHS = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
_PASSES = ((0, 0, 8, 8), (4, 0, 8, 8), (0, 4, 4, 8), (2, 0, 4, 4), (0, 2, 2, 4), (1, 0, 2, 2), (0, 1, 1, 2))
"""(first column, first row, columns from one to the next, rows) of each pass (8.2)."""
_BLOCKS = ((8, 8), (4, 8), (4, 4), (2, 4), (2, 2), (1, 2), (1, 1))
"""(columns, rows) that a pixel of each pass stands for until others come."""
_POLYNOMIAL = 0xEDB88320
_MOST_FLIPPED = 4 << 20
"""Bytes of a chunk of which a flipped bit is sought."""
_MOST_PIXELS = 1 << 28
_WIDEST_GAP = 4096


class Header(msgspec.Struct, frozen=True):
    """The size, and how pixels are coded."""

    width: int
    height: int
    depth: int
    colours: int
    is_interlaced: bool

    @property
    def bits(self) -> int:
        """Of a pixel."""
        return self.depth * _CHANNELS[self.colours]

    def row(self, width: int) -> int:
        """Bytes of a row of so many pixels, without the byte for its filter."""
        return (width * self.bits + 7) // 8

    def passes(self) -> list[tuple[int, int]]:
        """(pixels of a row, rows) of each pass that has any."""
        if not self.is_interlaced:
            return [(self.width, self.height)]
        sizes = [(-(-(self.width - x) // across), -(-(self.height - y) // down)) for x, y, across, down in _PASSES]
        return [(max(width, 0), max(rows, 0)) for width, rows in sizes]

    def size(self) -> int:
        """Bytes of all rows."""
        return sum(rows * (1 + self.row(width)) for width, rows in self.passes() if width)

    def packed(self) -> bytes:
        """As the chunk has it."""
        return struct.pack(">IIBBBBB", self.width, self.height, self.depth, self.colours, 0, 0, self.is_interlaced)


def header_of(body: bytes) -> Header | None:
    """The size and coding that a first chunk tells; None where they cannot be."""
    if len(body) != 13:
        return None
    width, height, depth, colours, packing, filters, interlaced = struct.unpack(">IIBBBBB", body)
    good = colours in _DEPTHS and depth in _DEPTHS[colours] and packing == filters == 0 and interlaced < 2
    if not good or not (0 < width < 1 << 24 and 0 < height < 1 << 24) or width * height > _MOST_PIXELS:
        return None
    return Header(width, height, depth, colours, bool(interlaced))


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a picture. Raises `NothingLeft`."""
    data = job.data(96 << 20)
    steps: list[Step] = []
    changed = _with_line_ends(data)
    if changed is not None:
        data = changed
        steps.append(Step.TEXT_MODE)
    chunks, is_mended = _chunks(data, job.budget.spend)
    if is_mended:
        steps.append(Step.BIT)
    packed, is_whole = _packed(chunks)
    if not packed:
        raise NothingLeft("none of its rows is left")
    lost: list[Loss] = []
    rows = _unpacked(packed)
    header = next(
        (found for kind, body, _ in chunks if kind == b"IHDR" and (found := header_of(body)) is not None), None
    )
    sample = next((each.data for each in job.others if each.is_sample and each.data[:8] == _MARK), None)
    if header is None:
        header = _told_by_rows(rows, sample)
        if header is None:
            raise NothingLeft(
                "its size is gone, and its rows do not tell it: name a healthy one of the same kind with --like"
            )
        lost.append(Loss(LossKind.SIZE))
    rows = _to_first_bad(rows[: header.size()], header)
    share = len(rows) / header.size()
    if not rows:
        raise NothingLeft("none of its rows can be read")
    kept = [(kind, body) for kind, body, is_good in chunks if is_good and kind not in (b"IHDR", b"IDAT", b"IEND")]
    if header.colours == 3 and not any(kind == b"PLTE" for kind, _ in kept):
        _take_colours(kept, header, sample, lost)
    if share < 1 and header.is_interlaced and header.depth == 8:
        rows, header = _without_passes(rows, header)
    if is_whole and share == 1:
        steps.append(Step.SUMS)
    else:
        steps.append(Step.ROWS_KEPT)
        lost.append(Loss(LossKind.AREA, "", max(round(100 * (1 - share)), 1))) if share < 1 else None
    _write(out, header, kept, rows)
    return Outcome("png", tuple(steps), tuple(lost), data if changed is not None else None)


def _to_first_bad(rows: bytes, header: Header) -> bytes:
    """Rows up to the first that begins with no filter there is: what it was unpacked from is foreign."""
    at = 0
    for width, count in header.passes():
        step = header.row(width) + 1
        for place in range(at, min(at + step * count if width else at, len(rows)), step):
            if rows[place] > 4:
                return rows[:place]
        at += step * count if width else 0
    return rows


def _with_line_ends(data: bytes) -> bytes | None:
    """The bytes before a transfer as text put a return before each line end; None where there was none."""
    if data[:8] == _MARK or data[:4] != b"\x89PNG" or data[4:8] != b"\r\r\n\x1a":
        return None
    return data.replace(b"\r\n", b"\n")


def _chunks(data: bytes, pause: Callable[[], None]) -> tuple[list[tuple[bytes, bytes, bool]], bool]:
    """((kind, content, whether its sum fits) of each chunk, as far as they go and behind what is damaged; whether a flipped bit was set right)."""
    found: list[tuple[bytes, bytes, bool]] = []
    at, is_mended = 8, False
    while at + 8 <= len(data):
        length, kind = int.from_bytes(data[at : at + 4], "big"), data[at + 4 : at + 8]
        if kind not in _KNOWN and not (kind.isalpha() and length < len(data)):
            following = _next_chunk(data, at + 1)
            if following < 0:
                break
            at = following
            continue
        end = at + 12 + length
        body = data[at + 8 : min(at + 8 + length, len(data))]
        if end > len(data):
            following = _next_chunk(data, at + 8)
            if following > 0:
                body, end = data[at + 8 : following - 4], following
            found.append((kind, body, False))
            if following < 0:
                break
            at = end
            continue
        told = int.from_bytes(data[end - 4 : end], "big")
        is_good = zlib.crc32(kind + body) == told
        if not is_good and len(body) <= _MOST_FLIPPED:
            mended = _flipped(kind + body, told, pause)
            if mended is not None:
                kind, body, is_good, is_mended = mended[:4], mended[4:], True, True
        if not is_good and _next_header(data, end) is None:
            following = _next_chunk(data, at + 8)
            if 0 < following < end or (following > 0 and kind == b"IDAT"):
                body, end = data[at + 8 : following - 4], following
        found.append((kind, body, is_good))
        if kind == b"IEND":
            break
        at = end
    return found, is_mended


def _next_header(data: bytes, at: int) -> bytes | None:
    """The kind of the chunk that begins at a place; None where none does."""
    kind = data[at + 4 : at + 8]
    return kind if kind in _KNOWN else None


def _next_chunk(data: bytes, at: int) -> int:
    """Where the next chunk of rows, or the end, begins; -1 if nowhere."""
    places = [place - 4 for mark in (b"IDAT", b"IEND", b"IHDR") if (place := data.find(mark, at + 4)) >= 0]
    return min(places, default=-1)


def _flipped(data: bytes, told: int, pause: Callable[[], None]) -> bytes | None:
    """The bytes with the one bit set right that makes their sum fit; None where it is none, or the sum itself."""
    wanted = zlib.crc32(data) ^ told
    sign = _POLYNOMIAL  # the change of the sum by the very last bit
    for bit in range(len(data) * 8):
        if sign == wanted:
            place = len(data) - 1 - bit // 8
            made = bytearray(data)
            made[place] ^= 0x80 >> (bit % 8)
            if zlib.crc32(bytes(made)) == told:
                return bytes(made)
            return None
        sign = sign >> 1 ^ (_POLYNOMIAL if sign & 1 else 0)
        if not bit % (1 << 16):
            pause()
    return None


def _packed(chunks: Sequence[tuple[bytes, bytes, bool]]) -> tuple[bytes, bool]:
    """(the packed rows up to where they are damaged for certain, whether they are all there)."""
    out = bytearray()
    for kind, body, is_good in chunks:
        if kind != b"IDAT":
            continue
        if not is_good:
            hole = lost_sector(b"\1" + body) if bytes(512) in body else None
            place = body.find(bytes(512)) if hole is not None or bytes(2048) in body else -1
            out += body[:place] if place >= 0 else body
            return bytes(out), False
        out += body
    return bytes(out), any(kind == b"IEND" for kind, _, _ in chunks)


def _unpacked(packed: bytes) -> bytes:
    """Rows as far as they unpack."""
    out = bytearray()
    inflate = zlib.decompressobj()
    try:
        for at in range(0, len(packed), 1024):
            out += inflate.decompress(packed[at : at + 1024], _MOST_PIXELS * 8 - len(out))
            if inflate.eof or len(out) >= _MOST_PIXELS * 8:
                break
    except zlib.error:
        # Of the last piece byte by byte.
        inflate = zlib.decompressobj()
        out = bytearray()
        try:
            out += inflate.decompress(packed[:at])
            for one in packed[at : at + 1024]:
                out += inflate.decompress(bytes((one,)))
        except zlib.error:
            pass
    return bytes(out)


def _told_by_rows(rows: bytes, sample: bytes | None) -> Header | None:
    """The size and coding by the rows: each begins with the number of its filter."""
    if sample is not None:
        told = header_of(sample[16:29])
        if told is not None and not told.is_interlaced:
            step = told.row(told.width) + 1
            if _is_step(rows, step):
                return Header(told.width, -(-len(rows) // step), told.depth, told.colours, False)
    step = next((each for each in range(8, min(len(rows) // 4, 1 << 18)) if _is_step(rows, each)), 0)
    if not step:
        return None
    fits = [colours for colours in (2, 6, 0) if not (step - 1) % _CHANNELS[colours]]
    best = min(fits, key=lambda colours: _jumps(rows, step, _CHANNELS[colours]), default=None)
    if best is None:
        return None
    return Header((step - 1) // _CHANNELS[best], -(-len(rows) // step), 8, best, False)


def _is_step(rows: bytes, step: int) -> bool:
    marks = rows[::step]
    return len(marks) >= 8 and max(marks) <= 4 and (len(rows) % step == 0 or len(marks) > 32)


def _jumps(rows: bytes, step: int, channels: int) -> float:
    """How much bytes differ from those one pixel before, on the average."""
    import numpy as np

    count = len(rows) // step
    values = np.frombuffer(rows[: count * step], np.uint8).reshape(count, step)[:, 1:].astype(int)
    plain = values[np.frombuffer(rows[: count * step : step], np.uint8) == 0]
    told = plain if len(plain) else values
    return float(np.abs(told[:, channels:] - told[:, :-channels]).mean())


def _take_colours(kept: list[tuple[bytes, bytes]], header: Header, sample: bytes | None, lost: list[Loss]) -> None:
    """The palette of a sample, else shades of grey."""
    at = sample.find(b"PLTE") if sample is not None else -1
    if sample is not None and at > 0:
        kept.insert(0, (b"PLTE", sample[at + 4 : at + 4 + int.from_bytes(sample[at - 4 : at], "big")]))
    else:
        count = 1 << header.depth
        kept.insert(0, (b"PLTE", b"".join(bytes([n * 255 // max(count - 1, 1)] * 3) for n in range(count))))
    lost.append(Loss(LossKind.COLOURS))


def _unfiltered(rows: bytes, width: int, count: int, pixel: int) -> Iterator[bytes]:
    """Rows without their filters, as many as are there (9.2)."""
    before = bytearray(width)
    for number in range(count):
        row = bytearray(rows[number * (width + 1) + 1 : (number + 1) * (width + 1)])
        if len(row) < width:
            return
        kind = rows[number * (width + 1)]
        for n in range(width):
            left = row[n - pixel] if n >= pixel else 0
            above = before[n]
            if kind == 1:
                row[n] = (row[n] + left) & 255
            elif kind == 2:
                row[n] = (row[n] + above) & 255
            elif kind == 3:
                row[n] = (row[n] + (left + above) // 2) & 255
            elif kind == 4:
                corner = before[n - pixel] if n >= pixel else 0
                guess = left + above - corner
                a, b, c = abs(guess - left), abs(guess - above), abs(guess - corner)
                row[n] = (row[n] + (left if a <= b and a <= c else above if b <= c else corner)) & 255
        yield bytes(row)
        before = row


def _without_passes(rows: bytes, header: Header) -> tuple[bytes, Header]:
    """Rows one below the other, of those that came in passes; what the last passes lack is as in the pixels about it."""
    import numpy as np

    channels = _CHANNELS[header.colours]
    shown = np.zeros((header.height, header.width, channels), np.uint8)
    at = 0
    for (x, y, across, down), block, (width, count) in zip(_PASSES, _BLOCKS, header.passes(), strict=True):
        size = width * channels
        if not width or not count:
            continue
        for number, row in enumerate(_unfiltered(rows[at : at + count * (size + 1)], size, count, channels)):
            top = y + number * down
            pixels = np.frombuffer(row, np.uint8).reshape(width, channels)
            # A pixel stands for those about it until they come.
            for n in range(min(block[1], header.height - top)):
                for m in range(block[0]):
                    place = shown[top + n, x + m :: across]
                    place[:] = pixels[: len(place)]
        at += count * (size + 1)
    plain = Header(header.width, header.height, 8, header.colours, False)
    return b"".join(b"\0" + row.tobytes() for row in shown), plain


def _write(out: BinaryIO, header: Header, kept: Sequence[tuple[bytes, bytes]], rows: bytes) -> None:
    def chunk(kind: bytes, body: bytes) -> None:
        out.write(struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body)))

    out.write(_MARK)
    chunk(b"IHDR", header.packed())
    for kind, body in kept:
        chunk(kind, body)
    grey = 0x80 if header.colours in (0, 2) and header.depth == 8 and not header.is_interlaced else 0
    row = header.row(header.width) + 1
    whole = bytearray(rows + bytes((grey,)) * (header.size() - len(rows)))
    if grey:
        first = -(-len(rows) // row) * row
        whole[first::row] = bytes(len(range(first, len(whole), row)))  # no filter
    packed = zlib.compress(bytes(whole), 6)
    for at in range(0, len(packed), 1 << 20):
        chunk(b"IDAT", packed[at : at + (1 << 20)])
    chunk(b"IEND", b"")
