"""How further codings are told in the bytes: AV1, pictures that are all of one size, sound whose frames carry sums or lengths.

Source: AV1 specification 5.3 and 7.5 (units, temporal units), RFC 9639 9 (FLAC), ETSI TS 102 366 5.3 and E.1.2 (AC-3 and its enhanced kind),
3GPP TS 26.101 annex A and TS 26.201 annex A (AMR, with one byte in front of each frame, RFC 4867 5.3).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from rustfern.formats.media import av1
from rustfern.formats.media.coded_video import NoUnit, Shape
from rustfern.formats.media.flac import crc16, frame_ends, frame_header
from rustfern.repair.recordings.ways import Intra, Sample, Way, found_in
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import entry_of_av1

_LARGEST, _HEAD = 16 << 20, 16
_HOLE = bytes(512)
_MOST_HIDDEN = 32
_OPENING = (av1.DELIMITER, av1.SEQUENCE, av1.FRAME_HEAD, av1.FRAME)
_COPY = 8
"""Bytes of a head, at most, that has a picture shown that came before."""
_LEAST_SHOWN, _LEAST_ALIKE, _LEAST_SIZE = 3, 4, 512


class Obus:
    """Pictures in AV1, each with all that is not shown before it. So short a head may stand anywhere: something that is known must follow."""

    def __init__(self, largest: int = 0) -> None:
        self._largest = min(max(largest * 4, 1 << 20), _LARGEST) if largest else _LARGEST
        self.sequence: av1.Sequence | None = None
        self._header = b""

    @property
    def shape(self) -> Shape | None:
        """What the pictures tell of themselves."""
        return self.sequence.shape if self.sequence is not None else None

    @property
    def entry(self) -> bytes | None:
        """A description of samples; None where no header of a sequence was found."""
        return (
            entry_of_av1(self.sequence.shape, self.sequence.config + self._header)
            if self.sequence is not None
            else None
        )

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        place, key, shown, frames, last = at, False, False, 0, 0
        header: tuple[av1.Sequence, bytes] | None = None
        while (unit := self._unit_at(window, place, end)) is not None and not (shown and unit.kind != av1.TILES):
            opens = unit.kind in (av1.FRAME, av1.FRAME_HEAD)
            first = window.at(place + unit.head, 1)[0] if unit.body else 0
            if place == at and unit.kind not in _OPENING:
                return None
            if (unit.kind == av1.TILES) != (last in (av1.FRAME_HEAD, av1.TILES)) and (
                last == av1.FRAME_HEAD or unit.kind == av1.TILES
            ):
                return None  # the parts of a frame stand behind its head, and nowhere else
            if unit.kind == av1.SEQUENCE and (header := self._header_in(window, place, unit)) is None:
                return None
            if (unit.kind in (av1.SEQUENCE, av1.DELIMITER) and frames) or (
                opens and not self._may_be_frame(window, place, unit, first)
            ):
                return None
            last = unit.kind
            if opens:
                shown, is_key = av1.frame_told(first)
                key, frames = key or (is_key and shown), frames + 1
                last = 0 if first & 0x80 else last
            place += unit.head + unit.body
            if shown and last in (0, av1.FRAME):
                break
            if frames > _MOST_HIDDEN:
                return None
        if not shown or last == av1.FRAME_HEAD:
            return None
        if header is not None and self.sequence is None:
            self.sequence, self._header = header
        return Sample(place - at, key)

    def is_there(self, window: Window, start: int, stop: int) -> bool:
        """Whether a picture with the header of a sequence, which chance hardly makes, stands somewhere."""
        for place in found_in(_SEQUENCE, window, start, stop, 3):
            if self.sample_at(window, place, window.size) is not None and self.sequence is not None:
                return True
        return False

    def _unit_at(self, window: Window, place: int, end: int) -> av1.Unit | None:
        unit = av1.unit_at(window.at(place, _HEAD)) if place < end else None
        return (
            unit if unit is not None and unit.body <= self._largest and place + unit.head + unit.body <= end else None
        )

    @staticmethod
    def _header_in(window: Window, place: int, unit: av1.Unit) -> tuple[av1.Sequence, bytes] | None:
        raw = window.at(place, unit.head + unit.body)
        try:
            return av1.sequence_in(raw[unit.head :]), raw
        except NoUnit:
            return None

    @staticmethod
    def _may_be_frame(window: Window, place: int, unit: av1.Unit, first: int) -> bool:
        """Whether a unit may be a frame: one that has a picture shown which came before is short, and a head alone."""
        if not unit.body or (first & 0x80 and (unit.kind == av1.FRAME or unit.body > _COPY)):
            return False
        return _HOLE not in window.at(place + unit.head, unit.body)

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(_UNIT, window, at, end, 3)


_SEQUENCE = re.compile(rb"\x0a[\x05-\x7f][\0-\x5f]")
_UNIT = re.compile(
    rb"\x0a[\x05-\x7f][\0-\x5f]|\x12\0[\x0a\x32\x1a]|\x32[\0-\xff]{2}|\x1a\x01[\x80-\xff]|\x1a[\x02-\xff][\0-\x7f]"
)


class Alike:
    """Pictures that are all of one size and begin alike, as those of cameras for editing do."""

    def __init__(self, size: int, beginning: bytes) -> None:
        self.size, self.beginning = size, beginning

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        if at + self.size > end or window.at(at, len(self.beginning)) != self.beginning:
            return None
        return Sample(self.size)

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(re.compile(re.escape(self.beginning)), window, at, end, len(self.beginning))


def way_of_beginnings(beginnings: Sequence[tuple[int, bytes]], is_one_size: bool) -> Way | None:
    """A way that the beginnings of some pictures of a sample show, each with its size: all of one size and alike, or each with its own length in front."""
    if len(beginnings) < _LEAST_SHOWN or min(size for size, _ in beginnings) < _LEAST_SIZE:
        return None
    common = _common([each for _, each in beginnings])
    if is_one_size and len(common) >= _LEAST_ALIKE and any(common):
        return Alike(beginnings[0][0], common)
    after = _common([each[4:8] for _, each in beginnings])
    if len(after) == 4 and any(after) and all(int.from_bytes(each[:4], "big") == size for size, each in beginnings):
        return Intra(after)
    return None


def _common(some: Sequence[bytes]) -> bytes:
    """What all of them begin with."""
    low, high = min(some), max(some)
    return low[: next((n for n, (a, b) in enumerate(zip(low, high, strict=False)) if a != b), len(low))]


class FlacFrames:
    """Sound in FLAC: a head with a sum, and a sum at the end, which something must follow."""

    def __init__(self, largest: int) -> None:
        self._largest = max(2 * largest, 1 << 15)
        self.beside: Way | None = None

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        head = window.at(at, _HEAD)
        if head[:1] != b"\xff" or frame_header(head, 0) is None:
            return None
        for length in frame_ends(window.at(at, min(self._largest, end - at))):
            after = at + length
            if after == end or frame_header(window.at(after, _HEAD), 0) is not None:
                return Sample(length)
            if self.beside is not None and self.beside.sample_at(window, after, end) is not None:
                return Sample(length)
        return None

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(re.compile(rb"\xff[\xf8\xf9]"), window, at, end, 2)

    @staticmethod
    def entry_for(entry: bytes, head: bytes) -> bytes:
        """A sample's description with the channels and bits of this sound's frames, as their heads tell them; how many there are is left open."""
        at = entry.find(b"dfLa") + 12  # behind version and flags, and the head of the block
        bits = (0, 8, 12, 0, 16, 20, 24, 32)[head[3] >> 1 & 7]
        if at < 12 or len(entry) < at + 34 or not bits:
            return entry
        channels = min((head[3] >> 4) + 1, 8) if head[3] >> 4 < 8 else 2
        told = int.from_bytes(entry[at + 10 : at + 18], "big") >> 44 << 44 | (channels - 1) << 41 | (bits - 1) << 36
        block = entry[at : at + 4] + bytes(6) + told.to_bytes(8, "big") + bytes(16)
        sized = entry[:24] + channels.to_bytes(2, "big") + entry[26:at]
        return sized + block + entry[at + 34 :]


class Ac3:
    """Sound in AC-3 and its enhanced kind: frames that tell their length, and whose sum fits."""

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        size = ac3_frame_length(window.at(at, 6))
        if not size or at + size > end or crc16(window.at(at + 2, size - 2)):
            return None
        return Sample(size)

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(re.compile(rb"\x0b\x77"), window, at, end, 2)


_KILOBITS = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640)


def ac3_frame_length(head: bytes) -> int:
    """Bytes of a frame by its first six; 0 where none begins."""
    if len(head) < 6 or head[:2] != b"\x0b\x77":
        return 0
    kind = head[5] >> 3
    if 11 <= kind <= 16:
        return 2 * ((head[2] & 7) << 8 | head[3]) + 2
    rate, code = head[4] >> 6, head[4] & 63
    if kind > 10 or rate == 3 or code >= 2 * len(_KILOBITS):
        return 0
    kilobits = _KILOBITS[code // 2]
    words = (kilobits * 2, kilobits * 320 // 147 + (code & 1), kilobits * 3)[rate]
    return 2 * words


_NOTHING = 0x7C
"""A frame in which nobody speaks, and nothing is sent."""


class Amr:
    """Speech in AMR: a byte tells the kind of each frame, and by it its length. `together` frames are one sample."""

    _NARROW = (12, 13, 15, 17, 19, 20, 26, 31, 5)
    _WIDE = (17, 23, 32, 36, 40, 46, 50, 58, 60, 5)

    def __init__(self, *, is_wide: bool, together: int) -> None:
        self._sizes = self._WIDE if is_wide else self._NARROW
        self._together = max(together, 1)

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        place = at
        for _ in range(self._together):
            head = window.at(place, 1)
            kind = head[0] >> 3 if head else 16
            if not head or head[0] & 0x83 or not (kind < len(self._sizes) or head[0] == _NOTHING):
                return None
            place += 1 + (self._sizes[kind] if kind < len(self._sizes) else 0)
            if place > end:
                return None
            if place == end:
                break  # the last sample may have fewer
        return Sample(place - at)

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(re.compile(rb"[\x04\x0c\x14\x1c\x24\x2c\x34\x3c\x44\x7c]"), window, at, end, 1)
