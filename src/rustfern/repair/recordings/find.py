"""The pictures and sounds of a recording, found one behind the other in its bytes, past what is damaged."""

from __future__ import annotations

from array import array
from collections import Counter, deque
from collections.abc import Callable, Iterator, Sequence

import msgspec

from rustfern.repair.recordings.filling import Filling, Plain
from rustfern.repair.recordings.more_ways import Obus
from rustfern.repair.recordings.ways import Aac, Sample, Texts, Way
from rustfern.repair.recordings.window import Window

_AROUND = 256 << 10
"""Bytes of a hole in which frames of sound are sought, from its end backwards."""
_SURE, _EMPTY = 3, 2
_TRIES, _NEAR, _LITTLE = 8, 16 << 20, 256 << 10
_MOST_PLAIN = 4 << 20
_FRAMES, _SHORTER, _LONGER, _NEARLY, _TWO, _NOT_THREE = 8, 0.8, 1.25, 0.9, 1.7, 2.6
"""Frames of sound whose lengths tell how long the next one is, how much shorter and longer it may be, alone and as one of two; how long two of them
are at least, and three are not (times the shortest).
"""
_STRANGE = 2
"""Samples of tracks that are not read, which may lie in a row."""
_BEGINNINGS = frozenset((0, 1, 0x20, 0x21, 0x60, 0x61, *range(0x80, 0xA0), *range(0xC0, 0xE0)))
"""What a frame of AAC begins with: its first element is the first of its kind (ISO 14496-3, table 4.85), or what fills it up."""
_ZEROS, _FILLING = bytes(16), bytes(256)
_HOLE = bytes(2048)
_MOST_SAMPLES = 20_000_000
_KNOWN, _LOOKED_AT, _FAR_LARGER = 8, 250, 3
"""Pictures by which it is told how large they are: at least, at most; how much larger one is that is looked into."""


class Found(msgspec.Struct):
    """The samples of one track, in order. `keys` tells which need no other one; `gaps` are (number of the sample before which something is missing,
    bytes that are).
    """

    places: array[int] = msgspec.field(default_factory=lambda: array("Q"))
    sizes: array[int] = msgspec.field(default_factory=lambda: array("I"))
    orders: array[int] = msgspec.field(default_factory=lambda: array("i"))
    keys: array[int] = msgspec.field(default_factory=lambda: array("b"))
    gaps: list[tuple[int, int]] = msgspec.field(default_factory=list)
    hurt: int = 0

    def add(self, at: int, sample: Sample) -> None:
        """One more."""
        self.places.append(at)
        self.sizes.append(sample.size)
        self.orders.append(sample.order)
        self.keys.append(sample.is_key)
        self.hurt += sample.is_hurt

    @property
    def size(self) -> int:
        """Bytes in all."""
        return sum(self.sizes)


class Finder:
    """Walks through the data of a recording. `picture` is the way of its pictures, `sounds` those of its sound; `pause` is called now and then.
    `strange`: the most bytes of what lies between them and is not read.
    """

    def __init__(
        self,
        window: Window,
        picture: Way | None,
        sounds: list[Way | Plain],
        pause: Callable[[], None],
        *,
        strict: bool = False,
        strange: int = 0,
    ) -> None:
        self._window, self._picture, self._sounds, self._pause, self._strict = window, picture, sounds, pause, strict
        self.strange = strange
        self.pictures = Found()
        self.heard = [Found() for _ in sounds]
        self.missing = 0
        """Bytes, but for zeros, that are nothing that is known."""
        self._shown: dict[int, Sample | None] = {}
        self._told: dict[int, Sample | None] = {}
        self._sounded: dict[tuple[int, int], Sample | None] = {}
        """What begins at places: pictures, frames told by the next picture, frames of each sound."""
        self._chunks: Counter[int] = Counter()
        self._lengths: deque[int] = deque(maxlen=_FRAMES)
        self._last = -1
        """Which sound came last; -1 a picture or nothing."""
        self._done = [0] * len(sounds)
        self._is_mixed = len(sounds) > 1 and any(isinstance(way, Plain) for way in sounds)

    @property
    def way(self) -> Way | None:
        """The way of its pictures."""
        return self._picture

    @property
    def ways(self) -> list[Way | Plain]:
        """The ways of its sounds."""
        return self._sounds

    def picture_near(self, at: int, end: int) -> int | None:
        """Where a picture begins behind a place, and others follow it; None where none does."""
        with self._window.reading(_LITTLE):
            return self._near(at, end)

    def _near(self, at: int, end: int) -> int | None:
        for _ in range(_TRIES):
            place = self._next_picture(at, min(at + _NEAR, end), end)
            if place is None:
                return None
            here = place
            for _ in range(_SURE):
                sample = self._picture_at(here, end)
                if sample is None or not self._follows(here + sample.size, end):
                    break
                here += sample.size
                if self._picture_at(here, end) is None:
                    return place
            else:
                return place
            at = place + 1
        return None

    def ends_at(self, place: int) -> bool:
        """Whether what was found last ends just at a place."""
        return self.last_place(place) == place

    def last_place(self, start: int) -> int:
        """Where what was found last ends; `start` where nothing was."""
        ends = [found.places[-1] + found.sizes[-1] for found in (self.pictures, *self.heard) if found.places]
        return max(ends, default=start)

    def join(self, pictures: Found, heard: Sequence[Found], missing: int) -> None:
        """Take what was found behind it, out of there."""
        for mine, theirs in zip((self.pictures, *self.heard), (pictures, *heard), strict=True):
            mine.gaps += [(number + len(mine.places), size) for number, size in theirs.gaps]
            for name in ("places", "sizes", "orders", "keys"):
                getattr(mine, name).extend(theirs_of := getattr(theirs, name))
                del theirs_of[:]
            mine.hurt += theirs.hurt
        self.missing += missing
        self._last = -1

    def walk(self, start: int, end: int) -> None:
        """Take what lies between two places."""
        at = start
        count = 0
        while at < end and count < _MOST_SAMPLES:
            count += 1
            if not count % 256:
                self._pause()
                self._shown.clear()
                self._told.clear()
                self._sounded.clear()
            after = self._one(at, end)
            if after <= at:
                after = self._over(at, end)
                if after - at > self.strange * _STRANGE or after == end:
                    self._note_gap(at, after - at)
            at = after

    def _one(self, at: int, end: int) -> int:
        """Where the sample that begins at a place ends; the place itself where none does."""
        shown = self._picture_at(at, end)
        if shown is not None:
            if self._strict and shown.is_hurt:
                return at
            self.pictures.add(at, shown)
            self._last = -1
            return at + shown.size
        if self._is_mixed:
            return self._filled(at, end)
        for number, way in enumerate(self._sounds):
            if isinstance(way, Plain):
                if (after := self._plain(number, way, at, end)) > at:
                    return after
            elif (sample := self._up_to_picture(way, at, end) or self._sure(number, way, at, end)) is not None:
                self.heard[number].add(at, sample)
                self._lengths.append(sample.size)
                self._last = number
                return at + sample.size
        return at

    def _filled(self, at: int, end: int) -> int:
        """Where sounds of several kinds end that fill all up to the next picture, uncoded ones among them; the place itself where none do."""
        stop = self._next_picture(at + 1, min(end, at + _MOST_PLAIN), end) if self._picture is not None else None
        if stop is None and end - at > _MOST_PLAIN:
            return at
        filling = Filling(
            self._sounds, self._done, lambda number, way, place: self._sample_at(number, way, place, stop or end)
        )
        for number, size in filling.parts(at, stop or end, is_open=stop is None):
            self.heard[number].add(at, Sample(size))
            self._done[number] += size if isinstance(self._sounds[number], Plain) else 1
            self._last = number
            at += size
        return at

    def _up_to_picture(self, way: Way, at: int, end: int) -> Sample | None:
        """As `_told_by_picture`, each place looked at once."""
        if at not in self._told:
            self._told[at] = self._told_by_picture(way, at, end)
        return self._told[at]

    def _told_by_picture(self, way: Way, at: int, end: int) -> Sample | None:
        """The frame at a place, told by the next picture: if the bytes up to it begin and end as frames do, are as long as one or two of those before
        it, and there is no place, or one, inside where one can end and another begin. Then the codes need not be walked through.
        """
        if (
            self._picture is None
            or isinstance(self._picture, Obus)
            or not isinstance(way, Aac)
            or len(self._sounds) > 1
            or len(self._lengths) < _FRAMES
        ):
            return None
        shortest, longest = min(self._lengths), max(self._lengths)
        least, most = int(shortest * _SHORTER), int(longest * _LONGER)
        if most >= _TWO * shortest:
            return None
        place = self._next_picture(at + 1, min(at + int(_NOT_THREE * shortest), end), end)
        if place is None or place - at < least:
            return None
        data = self._window.at(at, place - at)
        length = len(data)
        picture = self._picture_at(place, end)
        behind = place + picture.size if picture is not None else end
        if _FILLING in data or not way.begins(data, 0) or not way.ends(data, length):
            return None
        if behind < end and self._picture_at(behind, end) is None and not way.begins(self._window.at(behind, 300), 0):
            return None  # what looks like a picture may be sound
        inner = way.inner(data)
        if length <= most:
            return None if inner else Sample(length)
        # One that is much longer than all before it must not be taken for two.
        least, most = int(shortest * _NEARLY), int(longest / _NEARLY)
        if (
            len(inner) != 1
            or length < 2 * least
            or not (least <= inner[0] <= most and least <= length - inner[0] <= most)
        ):
            return None
        # There is no place inside of the second one, as there was one in both.
        self._told[at + inner[0]] = Sample(length - inner[0])
        return Sample(inner[0])

    def _picture_at(self, at: int, end: int) -> Sample | None:
        if self._picture is None:
            return None
        if at not in self._shown:
            self._shown[at] = self._picture.sample_at(self._window, at, end)
        return self._shown[at]

    def _sample_at(self, number: int, way: Way, at: int, end: int) -> Sample | None:
        if (at, number) not in self._sounded:
            self._sounded[at, number] = way.sample_at(self._window, at, end)
        return self._sounded[at, number]

    def _sure(self, number: int, way: Way, at: int, end: int) -> Sample | None:
        """A frame of sound that is borne out by what follows it, or goes on from the one before."""
        sample = self._sample_at(number, way, at, end)
        if sample is None:
            return None
        after = at + sample.size
        if after >= end or self._picture_at(after, end) is not None:
            return sample
        self._lengths.append(sample.size)
        following = self._up_to_picture(way, after, end)
        self._lengths.pop()
        if following is not None:
            return sample
        for other, each in enumerate(self._sounds):
            if isinstance(each, Plain) or (further := self._sample_at(other, each, after, end)) is None:
                continue
            if further.size > _EMPTY or not isinstance(each, Texts):
                return sample
        if isinstance(way, Texts):
            return None  # too little of it proves it
        if self.strange and self._next_picture(after, min(after + self.strange * _STRANGE, end), end) is not None:
            return sample
        return sample if self._last == number and _ZEROS not in self._window.at(at, sample.size) else None

    def _plain(self, number: int, way: Plain, at: int, end: int) -> int:
        """Where a run of uncoded sound ends: at the next picture, and of the usual length."""
        usual = self._usual() or way.chunk
        if usual and (at + usual >= end or self._picture_at(at + usual, end) is not None) and self._last < 0:
            return self._add_plain(number, at, min(at + usual, end - (end - at) % way.frame))
        if self._picture is None:
            return self._add_plain(number, at, end - (end - at) % way.frame)
        following = self._next_picture(at + way.frame, min(end, at + _MOST_PLAIN), end)
        stop = following if following is not None else end
        if following is None and stop - at > max(2 * usual, 1 << 16):
            return at
        length = stop - at
        if self._last >= 0 and (following is not None or _HOLE in self._window.at(at, length)):
            return at  # sound follows sound only at the end
        if following is not None and usual and length % usual and length > max(way.chunk, self._longest()) * 3 // 2:
            return at  # a picture is damaged here: what sound there is, is found from the next one backwards
        if length % way.frame and following is not None:
            return at
        return self._add_plain(number, at, stop - length % way.frame)

    def _usual(self) -> int:
        length, count = self._chunks.most_common(1)[0] if self._chunks else (0, 0)
        return length if count >= _SURE else 0

    def _longest(self) -> int:
        """Bytes of the longest run of uncoded sound that came more than once."""
        return max((length for length, count in self._chunks.items() if count > 1), default=0)

    def _add_plain(self, number: int, at: int, stop: int) -> int:
        if stop > at:
            self.heard[number].add(at, Sample(stop - at))
            self._chunks[stop - at] += 1
            self._last = number
        return stop

    def _next_picture(self, at: int, most: int, end: int) -> int | None:
        if self._picture is None:
            return None
        for tried, place in enumerate(self._picture.next_from(self._window, at, most)):
            if not tried % 256:
                self._pause()
            sample = self._picture_at(place, end)
            if sample is None:
                continue
            if (sample.size <= 64 or isinstance(self._picture, Obus)) and not self._follows(place + sample.size, end):
                continue  # what is told by so little must be borne out
            if not self._swallows(place, sample.size):
                return place
        return None

    def _swallows(self, at: int, size: int) -> bool:
        """Whether what looks like a picture is far larger than all before it, and several pictures lie in it: then it is sound that looks like one."""
        known = self.pictures.sizes
        if self._picture is None or len(known) < _KNOWN or size <= _FAR_LARGER * known[-1]:
            return False  # the largest is no smaller than the last
        if size <= _FAR_LARGER * max(known[-_LOOKED_AT:]):
            return False
        inner, behind = 0, at + 1
        for place in self._picture.next_from(self._window, at + 1, at + size):
            if place < behind:
                continue
            sample = self._picture_at(place, at + size)
            if sample is not None and sample.size > 64:
                inner, behind = inner + 1, place + sample.size
                if inner > 1:
                    return True
        return False

    def _follows(self, at: int, end: int) -> bool:
        """Whether something that is known begins at a place."""
        if at >= end or self._picture_at(at, end) is not None:
            return True
        if self.strange and self._picture is not None:
            near = self._picture.next_from(self._window, at, min(at + self.strange * _STRANGE, end))
            if any(self._picture_at(place, end) is not None for place in near):
                return True
        return any(
            isinstance(way, Plain) or self._sample_at(number, way, at, end) is not None
            for number, way in enumerate(self._sounds)
        )

    def _over(self, at: int, end: int) -> int:
        """Where it goes on behind what is damaged; the sound before the next picture is taken."""
        self._last = -1
        stop = self._next_picture(at + 1, end, end) if self._picture is not None else None
        if stop is None:
            if self._picture is None or end - at <= _AROUND:
                return self._next_sound(at + 1, end)
            return end
        for number, way in enumerate(() if self._is_mixed else self._sounds):
            if isinstance(way, Plain):
                usual = self._usual() or way.chunk
                if usual and stop - usual > at and _HOLE not in self._window.at(stop - usual, usual):
                    self._gap_in_sound(number, stop - usual - at)
                    self._add_plain(number, stop - usual, stop)
                    self._last = -1
            elif isinstance(way, Aac):
                for place, sample in self._backwards(way, max(at + 1, stop - _AROUND), stop):
                    if not self.heard[number].gaps or self.heard[number].gaps[-1][0] != len(self.heard[number].places):
                        self._gap_in_sound(number, place - at)
                    self.heard[number].add(place, sample)
                    self._last = number
        return stop

    def _backwards(self, way: Aac, start: int, stop: int) -> Iterator[tuple[int, Sample]]:
        """Frames of sound one behind the other, the last of which ends just before a picture: as many as there are."""
        data = self._window.at(start, stop - start)
        lead = len(data) - len(data.lstrip(b"\0"))
        chain: dict[int, int] = {}
        best = len(data)
        for place in range(len(data) - 4, lead - 1, -1):
            if not place % 1024:
                self._pause()
            if data[place] not in _BEGINNINGS:
                continue
            sample = way.sample_at(self._window, start + place, stop)
            if sample is not None and (place + sample.size == len(data) or place + sample.size in chain):
                chain[place] = sample.size
                best = place
        place = best
        while place < len(data):
            yield start + place, Sample(chain[place])
            place += chain[place]

    def _next_sound(self, at: int, end: int) -> int:
        """Where several frames of sound follow each other."""
        for number, way in enumerate(self._sounds):
            if isinstance(way, Plain):
                continue
            starts = (
                way.next_from(self._window, at, end) if not isinstance(way, Aac) else range(at, min(end, at + _AROUND))
            )
            for tried, place in enumerate(starts):
                if not tried % 1024:
                    self._pause()
                here = place
                for _ in range(_SURE):
                    sample = way.sample_at(self._window, here, end)
                    if sample is None:
                        break
                    here += sample.size
                    if here == end:
                        self._last = number
                        return place
                else:
                    self._last = number
                    return place
        return end

    def _note_gap(self, at: int, size: int) -> None:
        for place in range(at, at + size, 1 << 20):
            data = self._window.at(place, min(1 << 20, at + size - place))
            self.missing += len(data) - data.count(0)
        if size > 0:
            for found in (self.pictures, *self.heard):
                if not found.gaps or found.gaps[-1][0] != len(found.places):
                    found.gaps.append((len(found.places), size))

    def _gap_in_sound(self, number: int, size: int) -> None:
        found = self.heard[number]
        if not found.gaps or found.gaps[-1][0] != len(found.places):
            found.gaps.append((len(found.places), size))
