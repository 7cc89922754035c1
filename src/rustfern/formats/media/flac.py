"""FLAC recordings: every frame by its header and both of its sums, and all samples counted.

Source: RFC 9639, 8.2 (streaminfo), 9.1 (frame header, CRC-8 with polynomial 0x07), 9.3 (frame footer, CRC-16 with polynomial 0x8005).
Frames say where they begin, not where they end: the next one is found by its sync code, its number and its own sum. The sums of
many frames are taken side by side.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cache
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_WINDOW = 8 << 20
_HEAD = 16
_MAX_FRAME = 4 << 20
_TOGETHER, _BYTES_TOGETHER = 256, 8 << 20
_PIECE = 512
"""Frames, and bytes of them, whose sums are taken together; bytes of a piece of one."""


class Frame(msgspec.Struct, frozen=True):
    """What the header of a frame says: its number, or that of its first sample; how many samples it has of each channel; how long the header is."""

    number: int
    samples: int
    length: int


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits, *, begin: int = 0) -> Reading:
    """Follow a recording, which may `begin` behind a tag, to its last frame. Raises `Malformed`."""
    at, streaminfo = _description(stream, size, begin)
    total = int.from_bytes(streaminfo[13:18], "big") & 0xFFFFFFFFF
    rate = int.from_bytes(streaminfo[10:13], "big") >> 4
    end = size
    stream.seek(max(size - 128, 0))
    if stream.read(3) == b"TAG":
        end = size - 128  # a tag of the older kind, hung on by a player
    samples = frames = held = 0
    waiting: list[tuple[int, bytes]] = []
    for start, body, frame in _frames(stream, at, end):
        waiting.append((start, body))
        samples += frame.samples
        frames += 1
        held += len(body)
        if len(waiting) >= _TOGETHER or held >= _BYTES_TOGETHER:
            _compare(waiting)
            waiting.clear()
            held = 0
    _compare(waiting)
    if total and samples != total:
        raise Malformed(f"the recording stops after {samples} of {total} samples", end)
    reason = f"read to the end: the sums of all {frames} frames fit"
    amounts = {"samples": samples, "seconds": samples // rate if rate else 0}
    return Reading(Glance(format="flac"), State.INTACT, reason, amounts, has_text=False)


def _description(stream: BinaryIO, size: int, begin: int) -> tuple[int, bytes]:
    """Where the sound begins, and the block that describes it."""
    read = ByteReader(stream, size, "the recording stops inside {}")
    at, last = begin + 4, False
    first = b""
    while not last:
        head = read.exactly(at, 4, "its description")
        last, kind, length = bool(head[0] & 0x80), head[0] & 0x7F, int.from_bytes(head[1:], "big")
        if at + 4 + length > size or (not first and (kind or length != 34)):
            raise Malformed("the description of the recording is damaged", at)
        first = first or read.upto(at + 4, 34)
        at += 4 + length
    return at, first


def _frames(stream: BinaryIO, at: int, end: int) -> Iterator[tuple[int, bytes, Frame]]:
    """(offset, bytes, header) of each frame."""
    stream.seek(at)
    data, base = stream.read(min(_WINDOW, end - at)), at
    frame = frame_header(data, 0)
    if frame is None:
        raise Malformed("no sound follows the description", at)
    here = 0
    while True:
        sync = data[here : here + 2]
        wanted = frame.number + (frame.samples if sync[1] & 1 else 1)
        search = here + frame.length
        next_step: Frame | None = None
        while next_step is None:
            search = data.find(sync, search)
            if search < 0 or search + _HEAD > len(data):
                if base + len(data) >= end:
                    if search < 0 or (found := frame_header(data, search)) is None or found.number != wanted:
                        yield base + here, data[here:], frame
                        return
                    next_step = found
                    break
                # Go on with a window that begins at this frame.
                stream.seek(base + here)
                base, here = base + here, 0
                data = stream.read(min(max(_WINDOW, 2 * _MAX_FRAME), end - base))
                search = frame.length
                continue
            found = frame_header(data, search)
            if found is not None and found.number == wanted:
                next_step = found
            elif search - here > _MAX_FRAME:
                raise Malformed("a frame of sound has no end", base + here)
            else:
                search += 1
        yield base + here, data[here:search], frame
        here, frame = search, next_step


def frame_header(data: bytes, at: int) -> Frame | None:
    """The header of a frame at a position, None if there is none."""
    if len(data) < at + 6 or data[at] != 0xFF or data[at + 1] & 0xFE != 0xF8 or data[at + 3] & 1:
        return None
    lead = data[at + 4]
    extra = 0 if lead < 0x80 else 7 - (lead ^ 0xFF).bit_length()
    if extra < 0 or 0x80 <= lead < 0xC0:
        return None
    number = lead if not extra else lead & ((1 << max(6 - extra, 0)) - 1)
    place = at + 5
    for byte in data[place : place + extra]:
        if byte & 0xC0 != 0x80:
            return None
        number = number << 6 | byte & 0x3F
    place += extra
    code, rate = data[at + 2] >> 4, data[at + 2] & 15
    if code == 0 or rate == 15 or data[at + 3] >> 4 > 10:
        return None
    if code in (6, 7):
        samples = int.from_bytes(data[place : place + code - 5], "big") + 1
        place += code - 5
    else:
        samples = 192 if code == 1 else 576 << code - 2 if code < 6 else 256 << code - 8
    place += {12: 1, 13: 2, 14: 2}.get(rate, 0)
    if place >= len(data) or crc8(data[at:place]) != data[place]:
        return None
    return Frame(number, samples, place + 1 - at)


@cache
def _table8() -> bytes:
    out = bytearray()
    for value in range(256):
        for _ in range(8):
            value = value << 1 ^ (0x107 if value & 0x80 else 0)
        out.append(value)
    return bytes(out)


def crc8(data: bytes) -> int:
    """The sum of the head of a frame (9.1)."""
    table, value = _table8(), 0
    for byte in data:
        value = table[value ^ byte]
    return value


@cache
def _table16() -> NDArray[np.uint16]:
    """The sum of each pair of bytes: two bytes are taken in one step."""
    import numpy as np

    value: NDArray[np.uint32] = np.arange(65536, dtype=np.uint32)
    for _ in range(16):
        value = (value << np.uint32(1)) ^ np.where(value & 0x8000, np.uint32(0x18005), np.uint32(0))
    return (value & 0xFFFF).astype(np.uint16)


def frame_ends(data: bytes) -> list[int]:
    """How long the frame may be that these bytes begin with: where its sum fits."""
    table, value = _byte_sums(), 0
    found = []
    for at, byte in enumerate(data):
        value = (value << 8 & 0xFFFF) ^ table[value >> 8 ^ byte]
        if not value and at >= _HEAD // 2:
            found.append(at + 1)
    return found


def crc16(data: bytes, value: int = 0) -> int:
    """The sum of a frame (9.3), where that of what stands before is `value`; 0 of one with its sum."""
    table = _byte_sums()
    for byte in data:
        value = (value << 8 & 0xFFFF) ^ table[value >> 8 ^ byte]
    return value


@cache
def _byte_sums() -> list[int]:
    """The sum of each byte."""
    found = []
    for value in range(256):
        value <<= 8
        for _ in range(8):
            value = (value << 1 ^ (0x18005 if value & 0x8000 else 0)) & 0xFFFF
        found.append(value)
    return found


def _compare(frames: list[tuple[int, bytes]]) -> None:
    bad = [start for (start, _), left in zip(frames, sums_of([body for _, body in frames]), strict=True) if left]
    if bad:
        raise Malformed("the sum of a frame of sound does not fit", min(bad))


def sums_of(bodies: Sequence[bytes]) -> list[int]:
    """As `crc16` of many at once: pieces of all of them side by side. Zeros in front of a frame do not change its sum, so that each can be whole pieces."""
    if not bodies:
        return []
    import numpy as np

    table, on = _table16(), _moved_by_a_piece()
    counts = np.array([-(-len(body) // _PIECE) for body in bodies])
    joined = b"".join(body.rjust(int(count) * _PIECE, b"\0") for body, count in zip(bodies, counts, strict=True))
    pairs = np.ascontiguousarray(np.frombuffer(joined, ">u2").astype(np.uint16).reshape(-1, _PIECE // 2).T)
    pieces = np.zeros(pairs.shape[1], np.uint16)
    for column in pairs:
        pieces = table.take(pieces ^ column)
    # Those of one frame, one behind the other; frames with fewer wait.
    first, value = np.cumsum(counts) - counts, np.zeros(len(bodies), np.uint16)
    for n in range(int(counts.max())):
        mine = np.flatnonzero(counts > n)
        value[mine] = on[value[mine]] ^ pieces[first[mine] + n]
    return [int(each) for each in value]


@cache
def _moved_by_a_piece() -> NDArray[np.uint16]:
    """Each sum behind as many zeros as a piece has bytes."""
    import numpy as np

    found, values = np.zeros(65536, np.uint16), np.arange(65536)
    for bit in range(16):
        found[values >> bit & 1 == 1] ^= np.uint16(moved_on(1 << bit, _PIECE))
    return found


def moved_on(value: int, count: int) -> int:
    """The sum `value` behind so many zeros: times x to the power of eight times their number."""
    power = _SQUARES
    while count:
        if count & 1:
            value = _times(value, power[0])
        count, power = count >> 1, power[1:]
    return value


def _times(one: int, other: int) -> int:
    """The product of two rests by the polynomial of the sum."""
    value = 0
    for bit in range(15, -1, -1):
        value = value << 1 ^ (0x18005 if value & 0x8000 else 0)
        if one >> bit & 1:
            value ^= other
    return value & 0xFFFF


def _squares() -> list[int]:
    found = [0x100]
    for _ in range(40):
        found.append(_times(found[-1], found[-1]))
    return found


_SQUARES = _squares()
"""x to the power of 8, 16, 32 and so on."""
