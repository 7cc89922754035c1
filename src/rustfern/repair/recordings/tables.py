"""What the tables of a recording say of its tracks, also where they are cut off: how each is coded, how it is timed, where its samples lie.

Source: ISO/IEC 14496-12, 8.3 (tracks), 8.4 (media), 8.5 to 8.7 (sample tables).
"""

from __future__ import annotations

import struct
from array import array
from collections import Counter
from collections.abc import Iterator

import msgspec

from rustfern.formats.media.aac import RATES

_PARENTS = frozenset({b"moov", b"trak", b"mdia", b"minf", b"stbl", b"edts"})
_MOST_SAMPLES, _USUAL, _MOSTLY = 20_000_000, 4, 0.9
_PLAIN = {
    b"sowt": 2,
    b"twos": 2,
    b"lpcm": 2,
    b"raw ": 1,
    b"NONE": 1,
    b"in24": 3,
    b"in32": 4,
    b"fl32": 4,
    b"fl64": 8,
    b"ulaw": 1,
    b"alaw": 1,
}
"""Uncoded sound, and the bytes of a value of it."""
USUAL_MATRIX = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)


class Track(msgspec.Struct):
    """One track. `entry` describes its samples, as it stands in the tables; `scale` are its ticks a second, `step` those of a usual sample;
    `largest` bytes of a sample; `chunk` bytes of the longest usual run of samples, `chunks` those of the usual ones, where nearly all are alike, `together` samples of a usual one.
    """

    kind: bytes = b""
    entry: bytes = b""
    scale: int = 0
    step: int = 0
    largest: int = 0
    chunk: int = 0
    chunks: tuple[int, ...] = ()
    matrix: bytes = USUAL_MATRIX
    language: int = 0x55C4
    same_size: int = 0
    together: int = 0
    sizes: array[int] = msgspec.field(default_factory=lambda: array("I"))
    places: array[int] = msgspec.field(default_factory=lambda: array("Q"))
    lasting: array[int] = msgspec.field(default_factory=lambda: array("I"))
    shifts: array[int] = msgspec.field(default_factory=lambda: array("q"))
    keys: frozenset[int] | None = None
    first_shown: int = 0
    number: int = 0
    begins: int = 0
    is_whole: bool = False
    is_guessed: bool = False
    """`number` by which fragments name it; `begins`: ticks before its first sample comes; `is_whole`: every table that places its samples is there to its end; `is_guessed`: no table tells of it."""

    @property
    def coding(self) -> bytes:
        """The four letters of its coding."""
        return self.entry[4:8]

    @property
    def frame(self) -> int:
        """Bytes of one moment of uncoded sound; 0 for all else."""
        if self.coding not in _PLAIN or len(self.entry) < 36:
            return 0
        channels, bits = struct.unpack_from(">HH", self.entry, 24)
        if self.coding == b"lpcm" and len(self.entry) >= 56:
            return int(struct.unpack_from(">I", self.entry, 48)[0]) or channels * 2
        width = _PLAIN[self.coding]
        if self.coding in (b"sowt", b"twos", b"NONE", b"raw ") and bits in (8, 16, 24, 32):
            width = bits // 8
        return max(int(channels), 1) * width

    @property
    def aac(self) -> tuple[int, int] | None:
        """(index of the rate, channels) of AAC; None for all else. Source: 14496-1 7.2.6, 14496-3 1.6.2.1."""
        at = self.entry.find(b"esds")
        if self.coding != b"mp4a" or at < 0 or self.is_mp3:
            return None
        config = decoder_settings(self.entry[at + 8 :])
        if len(config) < 2 or config[0] >> 3 not in (2, 5, 29):
            return None
        rate = (config[0] & 7) << 1 | config[1] >> 7
        return (rate, config[1] >> 3 & 15) if rate < len(RATES) else None

    @property
    def is_mp3(self) -> bool:
        """Whether this is MPEG layer 3. Source: 14496-1 7.2.6.6, kinds 0x69 and 0x6B."""
        at = self.entry.find(b"esds")
        return self.coding == b".mp3" or (at > 0 and decoder_kind(self.entry[at + 8 :]) in (0x69, 0x6B))


def decoder_settings(body: bytes) -> bytes:
    """The settings of a decoder (tag 5) in the descriptors of an esds box."""
    return _descriptor(body, 5)


def decoder_kind(body: bytes) -> int:
    """What kind of decoder the descriptors of an esds box name (tag 4)."""
    found = _descriptor(body, 4)
    return found[0] if found else 0


def _descriptor(body: bytes, wanted: int) -> bytes:
    at = 0
    while at + 2 < len(body):
        tag, length, at = body[at], 0, at + 1
        while at < len(body):
            length = length << 7 | body[at] & 127
            at += 1
            if not body[at - 1] & 128:
                break
        if tag == wanted:
            return body[at : at + length]
        if tag == 3:
            at += 3
        elif tag == 4:
            at += 13
        else:
            at += length
    return b""


def boxes(body: bytes) -> Iterator[tuple[bytes, bytes, bool]]:
    """(kind, content, whether it is all there) of boxes one behind the other, as far as they go."""
    at = 0
    while at + 8 <= len(body):
        length, kind = struct.unpack_from(">I4s", body, at)
        start = at + 8
        if length == 1 and at + 16 <= len(body):
            length, start = struct.unpack_from(">Q", body, at + 8)[0], at + 16
        if length < start - at or not all(32 <= each < 127 or each == 0xA9 for each in kind):
            return
        yield kind, body[start : at + length], at + length <= len(body)
        at += length


def tracks_of(moov: bytes) -> list[Track]:
    """The tracks whose samples the tables describe, cut off or not."""
    return [track for kind, body, _ in boxes(moov) if kind == b"trak" if (track := _track(body)).entry and track.kind]


def _track(body: bytes) -> Track:
    track, seen, stack = Track(), set[bytes](), [body]
    chunks: array[int] = array("Q")
    groups: list[tuple[int, int]] = []
    while stack:
        for kind, inner, is_there in boxes(stack.pop()):
            if kind in _PARENTS:
                stack.append(inner)
                continue
            try:
                if kind == b"stsc":
                    groups = [(a, b) for a, b, _ in struct.iter_unpack(">III", _rows(inner, 12))]
                elif kind in (b"stco", b"co64"):
                    chunks = _numbers(inner[8:], "I" if kind == b"stco" else "Q", _count(inner))
                else:
                    _table(track, kind, inner)
            except (struct.error, IndexError):
                continue
            if is_there:
                seen.add(kind)
    _place(track, chunks, groups)
    track.is_whole = seen >= {b"stsd", b"stsz", b"stsc"} and bool(seen & {b"stco", b"co64"}) and bool(track.places)
    if track.lasting:
        track.step = Counter(track.lasting[:5000]).most_common(1)[0][0]
    if track.sizes:
        track.largest = max(track.sizes)
    return track


def _table(track: Track, kind: bytes, inner: bytes) -> None:
    if kind == b"tkhd":
        at = 52 if inner[0] else 40
        (track.number,) = struct.unpack_from(">I", inner, at - 32 if inner[0] else at - 28)
        if len(inner) >= at + 36:
            track.matrix = inner[at : at + 36]
    elif kind == b"hdlr" and not track.kind:
        track.kind = inner[8:12]
    elif kind == b"mdhd":
        at = 20 if inner[0] else 12
        track.scale = struct.unpack_from(">I", inner, at)[0]
        track.language = struct.unpack_from(">H", inner, at + (12 if inner[0] else 8))[0]
    elif kind == b"stsd":
        (length,) = struct.unpack_from(">I", inner, 8)
        if 16 <= length <= len(inner) - 8:
            track.entry = inner[8 : 8 + length]
    elif kind == b"stsz":
        same, count = struct.unpack_from(">II", inner, 4)
        track.same_size = same
        track.sizes = array("I", [same]) * min(count, _MOST_SAMPLES) if same > 1 else _numbers(inner[12:], "I", count)
    elif kind == b"stts":
        for count, step in struct.iter_unpack(">II", _rows(inner, 8)):
            track.lasting.extend(array("I", [step]) * min(count, _MOST_SAMPLES - len(track.lasting)))
    elif kind == b"ctts":
        for count, shift in struct.iter_unpack(">Ii", _rows(inner, 8)):
            track.shifts.extend(array("q", [shift]) * min(count, _MOST_SAMPLES - len(track.shifts)))
    elif kind == b"stss":
        track.keys = frozenset(_numbers(inner[8:], "I", _count(inner)))
    elif kind == b"elst" and inner[0] == 0:
        for _, start, _ in struct.iter_unpack(">Iii", _rows(inner, 12)):
            if start > 0:
                track.first_shown = start


def _count(inner: bytes) -> int:
    return int(struct.unpack_from(">I", inner, 4)[0])


def _rows(inner: bytes, size: int) -> bytes:
    """The rows of a table behind its count, as many as are there."""
    there = min(_count(inner), (len(inner) - 8) // size)
    return inner[8 : 8 + there * size]


def _numbers(data: bytes, code: str, count: int) -> array[int]:
    found = array(code)
    found.frombytes(data[: min(count, len(data) // found.itemsize, _MOST_SAMPLES) * found.itemsize])
    found.byteswap()
    return found


def _place(track: Track, chunks: array[int], groups: list[tuple[int, int]]) -> None:
    """Where each sample lies, and how large a usual chunk is; of uncoded sound each chunk counts as one sample."""
    frame = track.frame
    number = group = 0
    lengths: Counter[int] = Counter()
    counts: Counter[int] = Counter()
    sizes: array[int] = array("I")
    for chunk, start in enumerate(chunks, 1):
        while group + 1 < len(groups) and groups[group + 1][0] <= chunk:
            group += 1
        count = groups[group][1] if groups else 0
        if frame:
            length = count * frame
            track.places.append(start)
            sizes.append(length)
        else:
            length = 0
            for size in track.sizes[number : number + count]:
                track.places.append(start + length)
                length += size
            number += count
        lengths[length] += 1
        counts[count] += 1
    if frame:
        track.sizes = sizes
        track.lasting = array("I", [size // frame for size in sizes])
    track.together = counts.most_common(1)[0][0] if counts else 0
    usual = [(length, count) for length, count in lengths.most_common(_USUAL) if length]
    if sum(count for _, count in usual) >= _MOSTLY * len(chunks):
        track.chunks = tuple(length for length, _ in usual)
    track.chunk = max((length for length, count in lengths.items() if count > 1), default=0)
