"""The pictures of a Matroska recording with holes: which of them are hurt, and what stands in for lost ones.

Source: RFC 9559, 5.1.4.1 (tracks), 10.2 (blocks), 12 (codings).
"""

from __future__ import annotations

from array import array
from bisect import bisect_left
from collections.abc import Iterator
from itertools import pairwise

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.media.audio import element
from rustfern.formats.media.coded_video import settings_of
from rustfern.repair.interface import Budget, Loss
from rustfern.repair.recordings.holes import SWEPT, Film, mended
from rustfern.repair.recordings.remarks import say_lost, say_wrong
from rustfern.repair.recordings.stand_ins import Lost
from rustfern.repair.recordings.ways import Units
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import entry_with_settings

_ENTRY, _NUMBER, _CODING, _SETTINGS, _PACKED, _VIDEO, _WIDTH, _HEIGHT = (
    0xAE,
    0xD7,
    0x86,
    0x63A2,
    0x6D80,
    0xE0,
    0xB0,
    0xBA,
)
_SCALE, _MILLISECOND = 0x2AD7B1, 1_000_000
_SIMPLE, _BLOCK, _REFERENCE = 0xA3, 0xA1, 0xFB
_CODINGS = {b"V_MPEG4/ISO/AVC": (b"avc1", b"avcC"), b"V_MPEGH/ISO/HEVC": (b"hvc1", b"hvcC")}
_LACED, _KEY, _LONGEST = 0x06, 0x80, 32_767
_MOST_HURT, _NEAR, _NEXT = 0.05, 60, 20
"""Share of pictures that can be hurt: where more seem so, what is known of them is wrong. Pictures around a hole whose times tell those of lost ones, and those of them next to
it."""


class Edits(msgspec.Struct):
    """What changes among the blocks: the places of those that are left out, and what comes before the one at a place: (time, picture)."""

    out: set[int] = msgspec.field(default_factory=set)
    before: dict[int, list[tuple[int, bytes]]] = msgspec.field(default_factory=dict)


class MatroskaFilm:
    """The pictures of the first track whose coding is known, as they are found: `number` is that of the track, `scale` nanoseconds a tick."""

    def __init__(self, number: int, entry: bytes, size: tuple[int, int], scale: int) -> None:
        self.number, self._entry, self._size, self._scale = number, entry, size, scale
        coding, width = settings_of(entry)
        self._way = Units(coding, width) if coding is not None else None
        self._blocks, self._places, self._sizes = array("Q"), array("Q"), array("I")
        self._times, self._keys = array("q"), array("b")
        self._hurt: list[int] = []
        self._lost: dict[int, int] = {}

    def missed(self, count: int) -> None:
        """So many bytes were left out."""
        if count:
            self._lost[len(self._places)] = self._lost.get(len(self._places), 0) + count

    def note(self, window: Window, ident: int, whole: bytes, at: int, time: int) -> None:
        """A block of some track, with the time of its cluster."""
        found = frame_in(ident, whole)
        if found is None or found[0] != self.number or self._way is None:
            return
        _, late, is_key, start, size = found
        sample = self._way.sample_at(window, at + start, at + start + size)
        if sample is None or sample.size != size or sample.is_hurt:
            self._hurt.append(len(self._places))
        self._blocks.append(at)
        self._places.append(at + start)
        self._sizes.append(size)
        self._times.append(time + late)
        self._keys.append(is_key)

    def edits(self, window: Window, budget: Budget, lost: list[Loss], *, strict: bool) -> Edits | None:
        """What is to be changed among them; None where nothing is."""
        count = len(self._places)
        if self._way is None or not count or len(self._hurt) > _MOST_HURT * count:
            return None
        if count > SWEPT and not self._hurt and not self._lost.keys() - {0, count}:
            return None
        hurt = {*self._hurt}
        kept = array("I", (n for n in range(count) if n not in hurt))
        # Before which of those that stay something is missing.
        behind = {kept[place] for n in (*hurt, *self._lost) if (place := bisect_left(kept, n)) < len(kept)}
        holes: dict[int, Lost] = {}
        for n in behind:
            place = bisect_left(kept, n)
            if place:
                before = kept[place - 1]
                since = next((n - each for each in range(n - 1, before, -1) if self._keys[each]), 0)
                about = max(len(self._missing(before, n)), n - before - 1)
                holes[place] = Lost(about, is_sure=since > 0, since_key=since)
        film = Film(
            window, self._entry, *self._size, array("Q", (self._places[n] for n in kept)), array("I", (self._sizes[n] for n in kept)),
            array("b", (self._keys[n] for n in kept)),
        )  # fmt: skip
        mend = mended(film, holes, strict=strict, budget=budget)
        found = Edits({self._blocks[n] for n in hurt} | {self._blocks[kept[n]] for n in mend.out})
        gone, when = 0, list[float]()
        for place in sorted({*holes, *mend.made, *(place + 1 for place in mend.out)} - mend.out):
            before_it = next((each for each in range(place - 1, -1, -1) if each not in mend.out), -1)
            if before_it < 0 or place >= len(kept):
                continue
            times = self._missing(kept[before_it], kept[place])
            made = mend.made.get(place, [])
            count = len(made) or max(len(times), kept[place] - kept[before_it] - 1)
            if count:
                gone += count
                when.append(self._seconds(kept[place]))
            if made:
                found.before[self._blocks[kept[place]]] = [
                    (time, window.at(each.place, each.size))
                    for time, each in zip(_as_many(times, len(made), self._times[kept[place]]), made, strict=True)
                ]
        say_wrong(lost, [self._seconds(kept[n]) for n in sorted(mend.wrong)])
        if gone:
            say_lost(lost, b"vide", gone, when)
        return found if found.out or found.before else None

    def _seconds(self, number: int) -> float:
        return self._times[number] * self._scale / 1e9

    def _missing(self, before: int, after: int) -> list[int]:
        """The times, in ticks, at which pictures are lost between two: those that nothing takes, at the usual pace."""
        around = sorted({*self._times[max(before - _NEAR, 0) : before + 1], *self._times[after : after + _NEAR]})
        if len(around) < 3:
            return []
        steps = sorted(b - a for a, b in pairwise(around))
        step = max(steps[len(steps) // 2], 1)
        # At the ends of what is looked at, some that are shown among these come before and behind it.
        first, last = min(self._times[max(before - _NEXT, 0) : before + 1]), max(self._times[after : after + _NEXT])
        return [
            a + round((b - a) * n / round((b - a) / step))
            for a, b in pairwise(around)
            if a >= first and b <= last
            for n in range(1, round((b - a) / step))
        ]


def _as_many(times: list[int], count: int, last: int) -> list[int]:
    """Times for so many pictures."""
    if len(times) >= count:
        return times[len(times) - count :]
    return times + [last] * (count - len(times))


def written(number: int, time: int, cluster: int, picture: bytes) -> bytes:
    """A picture that stands in, as a block of a cluster that begins at some time; nothing where it lies too far from it."""
    late = time - cluster
    if not -_LONGEST <= late <= _LONGEST or number > 126:
        return b""
    body = bytes([0x80 | number]) + late.to_bytes(2, "big", signed=True) + b"\0" + picture
    return b"\xa3" + (len(body) | 1 << 56).to_bytes(8, "big") + body


def film_in(tracks: bytes, info: bytes) -> MatroskaFilm | None:
    """The pictures of a recording by what describes its tracks; None where their coding is another, or they are packed."""
    scale = next((int.from_bytes(body, "big") for ident, body in _inner(_body(info)) if ident == _SCALE), _MILLISECOND)
    for ident, entry in _inner(_body(tracks)):
        if ident != _ENTRY:
            continue
        told = dict(_inner(entry))
        known = _CODINGS.get(told.get(_CODING, b"").rstrip(b"\0"))
        if known is None or _SETTINGS not in told or _PACKED in told:
            continue
        shown = dict(_inner(told.get(_VIDEO, b"")))
        size = tuple(int.from_bytes(shown.get(each, b""), "big") for each in (_WIDTH, _HEIGHT))
        entry = entry_with_settings(*known, size[0], size[1], told[_SETTINGS])
        return MatroskaFilm(
            int.from_bytes(told.get(_NUMBER, b"\1"), "big"), entry, (size[0], size[1]), scale or _MILLISECOND
        )
    return None


def _body(whole: bytes) -> bytes:
    try:
        return whole[element(lambda at, count: whole[at : at + count], 0)[2] :] if whole else b""
    except Malformed:
        return b""


def _inner(body: bytes) -> Iterator[tuple[int, bytes]]:
    """(identity, content) of elements one behind the other, as far as they go."""
    at = 0
    while at < len(body):
        try:
            ident, length, start = element(lambda at, count: body[at : at + count], at)
        except Malformed:
            return
        if length is None:
            return
        yield ident, body[start : start + length]
        at = start + length


def frame_in(ident: int, whole: bytes) -> tuple[int, int, bool, int, int] | None:
    """(track, ticks behind its cluster, whether it needs no other, where its only frame begins in the element, bytes of it) of a block; None for one
    that holds several.
    """
    try:
        _, _, start = element(lambda at, count: whole[at : at + count], 0)
        is_key, end = True, len(whole)
        if ident != _SIMPLE:
            at, inside = start, None
            while at < len(whole):
                each, length, begin = element(lambda at, count: whole[at : at + count], at)
                if length is None:
                    return None
                is_key &= each != _REFERENCE
                inside = (begin, begin + length) if each == _BLOCK else inside
                at = begin + length
            if inside is None:
                return None
            start, end = inside
    except Malformed:
        return None
    if end - start < 5 or not whole[start] & 0x80 or whole[start + 3] & _LACED:
        return None
    late = int.from_bytes(whole[start + 1 : start + 3], "big", signed=True)
    if ident == _SIMPLE:
        is_key = bool(whole[start + 3] & _KEY)
    return whole[start] & 0x7F, late, is_key, start + 4, end - start - 4
