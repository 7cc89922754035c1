"""How samples of one coding are told in the bytes: where one that begins at a place ends, and where the next one may begin."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Protocol

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.extents.pictures import jpeg
from rustfern.formats.media import alac
from rustfern.formats.media.aac import frame_length
from rustfern.formats.media.audio import mp3_frame_length
from rustfern.formats.media.coded_video import Avc, Hevc, NoUnit
from rustfern.repair.recordings.window import Window

_LARGEST_UNIT, _LARGEST_SETTINGS = 16 << 20, 512
_HEAD = 112
_A_TITLE = 256
_FILL, _MOST_BANDS = 6, 51
_LAST = bytes(n for n in range(1, 256) if n in (0x80, 0xC0) or n // (n & -n) & 7 == 7)
_BETWEEN = {
    1: re.compile(
        b"[" + re.escape(_LAST) + rb"](?=[\0\1][" + re.escape(bytes(range(0, 256, 2))) + rb"]|[\xde\xdf])", re.DOTALL
    ),
    2: re.compile(b"[" + re.escape(_LAST) + rb"](?=\x21[\0-\x7f]|\x20.[\0-\x7f]|[\xde\xdf])", re.DOTALL),
    0: re.compile(b"[" + re.escape(_LAST) + rb"](?=[\x00\x01\x20\x21\x60\x61\xde\xdf])"),
}
"""Channels (0: more) → the last byte of a frame of AAC, before the first ones of another, whose window begins with a zero."""
_LOOKS = frozenset((b"styl", b"hlit", b"hclr", b"krok", b"dlay", b"href", b"tbox", b"blnk", b"twrp", b"encd"))
"""Boxes that tell how the text before them looks."""
_SHORTEST, _LONGEST = 0.6, 1.6
"""How much shorter and longer than usual a frame of sound is that only the next one shows."""
_LOST, _HOLE, _WIDE_HOLE = bytes(64), bytes(512), bytes(2048)
_AVC_NEXT = re.compile(rb"\0[\0-\xff]{3}[\x01\x06\x09\x21\x25\x27\x28\x41\x45\x61\x65\x67\x68]")
_HEVC_NEXT = re.compile(
    rb"\0[\0-\xff]{3}[\x00\x02\x04\x06\x08\x0a\x0c\x0e\x10\x12\x20\x22\x24\x26\x28\x2a\x40\x42\x44\x46\x4e][\x01-\x07]"
)
_ZEROS, _NO_UNIT = re.compile(rb"\0\0"), re.compile(rb"\0\0[\0-\2]")
"""What never stands inside of a unit (H.264 7.4.1), and its beginning, which is found faster."""


class Sample(msgspec.Struct, frozen=True):
    """One picture, or one frame of sound: bytes; whether it needs no other one; the low bits of its place in the order of showing (-1: not told);
    whether a part of it is missing.
    """

    size: int
    is_key: bool = True
    order: int = -1
    is_hurt: bool = False


class Way(Protocol):
    """One coding."""

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """The sample that begins at a place and ends before `end`; None where none does."""

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """Places where one may begin, in order."""


class Units:
    """Pictures of units behind their lengths: H.264 and H.265."""

    def __init__(self, coding: Avc | Hevc, width: int, largest: int = 0) -> None:
        self.coding, self.width = coding, width
        self._learns = coding.shape is None
        """Only where no table tells of settings: what is foreign could look like some."""
        self.largest = min(max(largest * 4, 1 << 20), _LARGEST_UNIT) if largest else _LARGEST_UNIT
        self._mark = _AVC_NEXT if isinstance(coding, Avc) else _HEVC_NEXT

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        place, width, coding = at, self.width, self.coding
        seen = key = hurt = False
        order, known = -1, None
        while place + width < end:
            held, inner = window.hold(place, min(width + _HEAD, window.size - place))
            first = inner + width
            length = int.from_bytes(held[inner:first], "big")
            if not 1 <= length <= self.largest or place + width + length > end:
                hurt = seen and self._goes_on(held[inner : first + _HEAD], length)
                break
            try:
                told = coding.head(held[first : first + min(length, _HEAD)])
            except (NoUnit, IndexError):
                break
            if (seen and (told.opens or told.begins)) or (told.is_slice and not seen and not told.begins):
                break
            held, inner = window.hold(place + width, length)
            last = inner + length - 1
            if last >= len(held) or not held[last] or _is_no_unit(held, inner, last):
                hurt = seen and told.is_slice
                break
            if not told.is_slice:
                if self._learns and length <= _LARGEST_SETTINGS:
                    known = known or coding.known()
                    coding.learn(held[inner : inner + length])
            elif not seen:
                seen, key, order = True, told.is_key, told.order
            place += width + length
        if seen:
            return Sample(place - at, key, order, hurt)
        if known is not None:
            coding.forget(known)  # no picture follows: what looked like settings was something else
        return None

    def _goes_on(self, head: bytes, length: int) -> bool:
        """Whether a further part of the picture begins here that is not all there."""
        if not 1 <= length <= self.largest:
            return False
        try:
            told = self.coding.head(head[self.width :])
        except (NoUnit, IndexError):
            return False
        return told.is_slice and not told.begins

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(self._mark, window, at, end, 6)


def _is_no_unit(data: bytes, start: int, end: int) -> bool:
    """Whether there is something between two places that never stands inside of a unit."""
    zeros = _ZEROS.search(data, start, end)
    return zeros is not None and _NO_UNIT.search(data, zeros.start(), end) is not None


class Jpegs:
    """Pictures each of which is a JPEG."""

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        if window.at(at, 3) != b"\xff\xd8\xff":
            return None
        most = min(end - at, _LARGEST_UNIT)
        data = window.at(at, min(most, 1 << 20))
        try:
            reach = jpeg(data)
            if reach is not None and not reach.is_complete and most > len(data):
                data = window.at(at, most)
                reach = jpeg(data)
        except (Malformed, ValueError, LookupError):
            return None
        if reach is None or not reach.is_complete:
            return None
        return None if _HOLE in data[: reach.end].rstrip(b"\0") else Sample(reach.end)

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(re.compile(rb"\xff\xd8\xff[\xc0\xc4\xdb\xdd-\xef\xfe]"), window, at, end, 4)


class Intra:
    """Pictures that begin with their bytes and four letters."""

    def __init__(self, letters: bytes) -> None:
        self.letters = letters

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        head = window.at(at, 8)
        size = int.from_bytes(head[:4], "big")
        if head[4:] != self.letters or not 32 <= size <= end - at:
            return None
        return None if _WIDE_HOLE in window.at(at, size) else Sample(size)

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(re.compile(rb"[\0-\xff]{4}" + re.escape(self.letters)), window, at, end, 8)


class Aac:
    """Sound in AAC."""

    def __init__(self, rate: int, channels: int) -> None:
        self.rate, self.channels = rate, channels
        self._between = _BETWEEN.get(channels, _BETWEEN[0])

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Aac) and (self.rate, self.channels) == (other.rate, other.channels)

    def __hash__(self) -> int:
        return hash((self.rate, self.channels))

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        length = frame_length(window.at(at, min(8192, end - at)), 0, self.rate, self.channels)
        return Sample(length) if length > 3 else None

    def begins(self, data: bytes, at: int) -> bool:
        """Whether a frame may begin at a place of some bytes: the kind of its sound, number 0, and a window that has no predictor. Source: ISO 14496-3,
        tables 4.3 (elements), 4.4, 4.5 and 4.6 (windows), 4.11 (filling).
        """
        head = int.from_bytes(data[at : at + 5].ljust(5, b"\0"), "big")
        kind, number = head >> 37, head >> 33 & 15
        if kind == _FILL and number == 15:
            # What fills it up may stand in front.
            behind = at + 15 + (head >> 25 & 255)
            first = int.from_bytes(data[behind : behind + 2], "big") >> 2 & 127
            return behind + 2 <= len(data) and self._is_ours(first >> 4) and not first & 15
        if number or not self._is_ours(kind):
            return False
        start = 15 if kind != 1 else 8 if head >> 32 & 1 else 16
        window = head >> (29 - start) & 0x7FF
        is_short = window >> 8 & 3 == 2
        return not window >> 10 and (is_short or (not window & 1 and window >> 1 & 63 <= _MOST_BANDS))

    def _is_ours(self, kind: int) -> bool:
        return kind == self.channels - 1 if self.channels in (1, 2) else kind in (0, 1, 3)

    def inner(self, data: bytes) -> list[int]:
        """Places inside of some bytes at which a frame may end and another begin."""
        return [
            found.end()
            for found in self._between.finditer(data, 1, len(data) - 1)
            if self.ends(data, found.end()) and self.begins(data, found.end())
        ]

    @staticmethod
    def ends(data: bytes, at: int) -> bool:
        """Whether a frame may end before a place of some bytes: its last three bits are ones, and zeros fill up its last byte."""
        last = int.from_bytes(data[max(at - 2, 0) : at], "big")
        low = last & -last
        return 0 < low < 1 << 8 and last // low & 7 == 7

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """None: nothing marks where a frame begins."""
        return iter(())


class Alac:
    """Sound in ALAC. Frames are walked through where nothing shows their length; mostly the head of the next one does."""

    def __init__(self, settings: alac.Settings) -> None:
        self.settings = settings
        self._largest = settings.samples * settings.channels * settings.bits // 8 + _HEAD
        # Element, number, and twelve bits that are none: then whether it is short, shifted, plain.
        self._mark = re.compile(rb"\x20\0[\0-\x1f]" if settings.channels > 1 else rb"\0\0[\0-\x1f]")
        self._usual = 0.0
        self.is_alone = False
        """Whether nothing else lies between its frames."""

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Alac) and self.settings == other.settings

    def __hash__(self) -> int:
        return hash(self.settings)

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        data = window.at(at, min(self._largest, end - at))
        if self._mark.match(data) is None:
            return None
        if (length := self._to_next(data)) == 0:
            length = alac.frame_length(data, self.settings)
            self._usual = 0.8 * self._usual + 0.2 * length if self._usual else float(length)
        return Sample(length) if length > 3 else None

    def _to_next(self, data: bytes) -> int:
        """Where the next frame begins, if that is as far as frames reach here; 0 if nothing shows that."""
        if not self.is_alone or self.settings.channels == 1:
            return 0  # that of one channel is hardly more than zeros
        least, most = int(self._usual * _SHORTEST), int(self._usual * _LONGEST)
        found = self._mark.search(data, least) if least else None
        while found is not None and found.start() <= most:
            # Three ones and zeros to the end of the byte end a frame (ALAC: ID_END).
            before = int.from_bytes(data[found.start() - 2 : found.start()], "big")
            if before and (before // (before & -before)) & 7 == 7 and (before & -before) < 1 << 8:
                return 0 if _LOST in data[: found.start()] else found.start()
            found = self._mark.search(data, found.start() + 1)
        return 0

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(self._mark, window, at, end, 3)


class Texts:
    """Text beside pictures, as titles and positions are written. Source: 3GPP TS 26.245, 5.17 (a length, letters, boxes of looks)."""

    def __init__(self, largest: int) -> None:
        self._largest = max(largest * 2, _A_TITLE)

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        data = window.at(at, min(self._largest + 2, end - at))
        length = int.from_bytes(data[:2], "big")
        letters = data[2 : 2 + length]
        if len(data) < 2 or len(letters) < length or (not length and not any(data[2:10])):
            return None  # an empty one is two zeros: in a row of them nothing is told
        try:
            text = letters.decode("utf-16" if letters[:2] in (b"\xfe\xff", b"\xff\xfe") else "utf-8")
        except UnicodeDecodeError:
            return None
        if any(not sign.isprintable() and sign not in "\r\n\t" for sign in text):
            return None
        place = 2 + length
        while data[place + 4 : place + 8] in _LOOKS:
            size = int.from_bytes(data[place : place + 4], "big")
            if not 8 <= size <= len(data) - place:
                break
            place += size
        return Sample(place)

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """None: nothing marks where a text begins."""
        return iter(())


class Mp3:
    """Sound in MPEG layer 3. Source: ISO/IEC 11172-3 2.4.1."""

    def sample_at(self, window: Window, at: int, end: int) -> Sample | None:
        """As `Way.sample_at`."""
        head = window.at(at, 4)
        size = mp3_frame_length(head) if len(head) == 4 else 0
        return Sample(size) if 0 < size <= end - at else None

    def next_from(self, window: Window, at: int, end: int) -> Iterator[int]:
        """As `Way.next_from`."""
        yield from found_in(re.compile(rb"\xff[\xe2-\xff]"), window, at, end, 2)


def found_in(mark: re.Pattern[bytes], window: Window, at: int, end: int, width: int) -> Iterator[int]:
    """Where a mark stands."""
    while at < end:
        piece = window.from_(at, end - at)
        if len(piece) < width:
            piece = window.at(at, min(end - at, 1 << 20))
            if len(piece) < width:
                return
        place = 0
        while (match := mark.search(piece, place)) is not None:
            yield at + match.start()
            place = match.start() + 1
        at += len(piece) - width + 1
