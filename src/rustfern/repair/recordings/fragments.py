"""Recordings in fragments, each with its own tables: what all tables that are left say together.

Source: ISO/IEC 14496-12, 8.8.
"""

from __future__ import annotations

import math
import re
from array import array
from collections import Counter
from collections.abc import Callable, Iterator, Sequence

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.media.fragments import Run, Usual, runs_of, usual_of
from rustfern.repair.recordings.tables import Track, tracks_of
from rustfern.repair.recordings.ways import found_in
from rustfern.repair.recordings.window import Window

_MARK = re.compile(rb"moof\0\0\0\x10mfhd")
_MOST_BYTES = 32 << 20
_BEGINNING = 64 << 20
"""Bytes in which fragments are sought of a recording that has no tables."""
_TRIED = 8
_MOST_SAMPLES, _MOST_LOST, _MOST_TICKS = 20_000_000, 100_000, (1 << 31) - 1
_ROUNDING, _LOOKED_AT = 0.5, 256
_LATEST = 3600.0
"""Seconds that a track may begin behind another one."""
_APART = 10.0
"""Seconds by which fragments that follow one another may lie the wrong way round, as each track may have its own."""
_MOMENTS = 4096
"""Moments of uncoded sound that are one sample here: what is lost of it is lost by these."""


class Fragments(msgspec.Struct):
    """The tracks of a recording by the tables of all its fragments, how many of these there are, where the first one is; bytes that are gone from between
    them, and whether samples lie elsewhere than they say.
    """

    tracks: list[Track]
    count: int
    first: int
    gone: int
    moved: bool

    @property
    def end(self) -> int:
        """Behind the last sample."""
        return max(track.places[-1] + track.sizes[-1] for track in self.tracks)


def fragments_in(window: Window, moov: bytes, sample: bytes, pause: Callable[[], None]) -> Fragments | None:
    """All fragments whose tables are there; None where there are none. Without a `moov` the tables of a sample tell what the tracks are."""
    told = moov or sample
    tracks = {track.number: track for track in tracks_of(told) if track.number}
    if not tracks:
        return None
    usual = usual_of(told)
    if not moov:
        tracks = {number: _emptied(track) for number, track in tracks.items()}
    joiner = _Joiner(window, tracks)
    count, first, gone, end = 0, -1, 0, 0
    for at, runs in _in_their_time(_found(window, usual, tracks, pause, anywhere=bool(moov)), tracks):
        if joiner.is_full:
            break
        if joiner.take(at, runs):
            count, first = count + 1, first if count else at
            gone += max(end - at, 0)
            end = _end_of(window, at)
    if not count:
        return None
    joiner.end()
    return Fragments([track for track in tracks.values() if track.places], count, first, gone, joiner.moved)


def _found(
    window: Window, usual: dict[int, Usual], tracks: dict[int, Track], pause: Callable[[], None], *, anywhere: bool
) -> Iterator[tuple[int, list[Run]]]:
    """(place, runs of samples) of each fragment whose tables are whole; if not `anywhere`, none where the beginning has none."""
    if not anywhere and next(found_in(_MARK, window, 0, min(window.size, _BEGINNING), 12), None) is None:
        return
    for place in found_in(_MARK, window, 0, window.size, 12):
        pause()
        length = int.from_bytes(window.at(place - 4, 4), "big")
        if not 24 <= length <= min(_MOST_BYTES, window.size - place + 4):
            continue
        try:
            runs = runs_of(window.at(place + 4, length - 8), place - 4, usual, window.size)
        except Malformed:
            continue
        if runs := [run for run in runs if run.track in tracks and run.sizes]:
            yield place - 4, runs


def _end_of(window: Window, at: int) -> int:
    """Where the data of a fragment ends, by the length of the box behind its tables; 0 where there is none."""
    behind = at + int.from_bytes(window.at(at, 4), "big")
    head = window.at(behind, 8)
    return behind + int.from_bytes(head[:4], "big") if head[4:] == b"mdat" else 0


def _in_their_time(
    fragments: Iterator[tuple[int, list[Run]]], tracks: dict[int, Track]
) -> Iterator[tuple[int, list[Run]]]:
    """Fragments without those that begin far later than what follows them, or far earlier than what was before, while that goes on behind them: they are of
    another recording.
    """
    before, here = -math.inf, next(fragments, None)
    while here is not None:
        after = next(fragments, None)
        now, then = _begins(here, tracks), _begins(after, tracks)
        if now is None or then is None or before > then or before - _APART <= now <= then + _APART:
            yield here
            before = before if now is None else now
        here = after


def _begins(fragment: tuple[int, list[Run]] | None, tracks: dict[int, Track]) -> float | None:
    """Seconds at which a fragment begins; None where it does not tell."""
    told = [run.begins / max(tracks[run.track].scale, 1) for run in fragment[1] if run.begins >= 0] if fragment else []
    return min(told, default=None)


def _emptied(track: Track) -> Track:
    """A sample's track, without its samples."""
    return Track(track.kind, track.entry, track.scale, track.step, track.largest, matrix=track.matrix, language=track.language, number=track.number)  # fmt: skip


class _Joiner:
    """Puts the samples of fragments one behind the other. Where time passes for which no fragment is left, samples that are nowhere stand for it."""

    def __init__(self, window: Window, tracks: dict[int, Track]) -> None:
        self._window, self._tracks = window, tracks
        self._clock = {number: sum(track.lasting) for number, track in tracks.items()}
        self._first: dict[int, int] = {}
        self._left, self._most_lost = min(window.size, _MOST_SAMPLES), _MOST_LOST
        self.moved = self._agreed = False
        """Whether samples of any lie elsewhere than they say; whether some said right where they themselves are."""
        self._keys = {
            number: bytearray(track.keys is None or n in track.keys for n in range(1, len(track.places) + 1))
            for number, track in tracks.items()
        }

    @property
    def is_full(self) -> bool:
        """Whether there are as many samples as no recording has."""
        return self._left < 0

    def take(self, at: int, runs: Sequence[Run]) -> bool:
        """Take the samples of the fragment at a place; False where they were taken already."""
        self._left -= sum(len(run.sizes) for run in runs)
        if self._left < 0:
            return False  # no recording has more samples than bytes
        moved = self._moved(at, runs)
        if any(self._is_again(run, moved) for run in runs):
            return False
        for run in runs:
            self._add(self._tracks[run.track], run, moved)
        return True

    def _is_again(self, run: Run, moved: int) -> bool:
        """Whether samples lie before those that were taken already: what is foreign may be a copy of an earlier fragment."""
        before = [place for place in self._tracks[run.track].places[-1:] if place < self._window.size]
        return bool(before) and run.at + moved <= before[0]

    def _moved(self, at: int, runs: Sequence[Run]) -> int:
        """How far the samples of a fragment lie from where it says, whose place in the file it tells wrong: bytes before it are gone, or came."""
        told = next((run.base for run in runs), at)
        if told == at:
            self._agreed = True
            return 0
        good = [sum(self._is_unit(run, moved) for run in runs) for moved in (0, at - told)]
        if good[1] > good[0] or (self._agreed and not good[0]):
            self.moved = True
            return at - told
        return 0

    def _is_unit(self, run: Run, moved: int) -> bool:
        """Whether the units of the first pictures of a run lie where they would."""
        track = self._tracks[run.track]
        if track.kind != b"vide":
            return False
        place = run.at + moved
        for size in run.sizes[:_TRIED]:
            here = place
            while here + 4 < place + size:
                here += 4 + int.from_bytes(self._window.at(here, 4), "big")
            if here != place + size:
                return False
            place += size
        return True

    def _add(self, track: Track, run: Run, moved: int) -> None:
        number = track.number
        later = 0
        if run.begins >= 0:
            first = self._first.setdefault(number, run.begins - self._clock[number])
            later = run.begins - first - self._clock[number]
        if track.lasting and not track.lasting[-1]:
            # How long the last one lasts was not known when it was written.
            step = self._step(track, run)
            track.lasting[-1] = min(later, step, _MOST_TICKS) if later > 0 else min(step, _MOST_TICKS)
            self._clock[number] += track.lasting[-1]
            later -= track.lasting[-1]
        if later > 0:
            self._stand_for(track, run, later)
        if track.frame:
            self._add_plain(track, run, moved)
        else:
            place = run.at + moved
            for size in run.sizes:
                track.places.append(max(place, 0))
                track.sizes.append(size)
                place += size
            self._keys[number] += bytes(run.keys)
            track.shifts.extend([0] * (len(track.lasting) - len(track.shifts)))
            track.lasting.extend(run.lasting)
            track.shifts.extend(run.shifts)
        self._clock[track.number] += sum(run.lasting)

    def _add_plain(self, track: Track, run: Run, moved: int) -> None:
        """Uncoded sound, some moments at a time."""
        place, left = max(run.at + moved, 0), sum(run.sizes) // track.frame
        while left > 0:
            moments = min(left, _MOMENTS)
            track.places.append(place)
            track.sizes.append(moments * track.frame)
            track.lasting.append(moments)
            place, left = place + moments * track.frame, left - moments

    def _stand_for(self, track: Track, run: Run, ticks: int) -> None:
        """Samples that are nowhere, for the time of which no fragment is left."""
        self._clock[track.number] += ticks
        step = self._step(track, run)
        ticks = min(ticks, _MOST_TICKS)
        many = min(int(ticks / step + _ROUNDING), self._most_lost)
        self._most_lost -= many
        if many:
            track.shifts.extend([0] * (len(track.lasting) - len(track.shifts) + many))
            track.places.extend([self._window.size] * many)
            track.sizes.extend([1] * many)
            self._keys[track.number] += bytes(many)
            track.lasting.extend([ticks // many] * (many - 1) + [ticks - ticks // many * (many - 1)])
        elif track.lasting:
            track.lasting[-1] = min(track.lasting[-1] + ticks, _MOST_TICKS)

    @staticmethod
    def _step(track: Track, run: Run | None = None) -> int:
        """How long most of the samples last."""
        beside = run.lasting[:_LOOKED_AT] if run is not None else ()
        known = [each for each in (*track.lasting[-_LOOKED_AT:], *beside) if each]
        return max(Counter(known).most_common(1)[0][0] if known else track.step, 1)

    def end(self) -> None:
        """Say of the tracks what tables would."""
        begun = {
            number: self._first.get(number, 0) / track.scale
            for number, track in self._tracks.items()
            if track.places and track.scale
        }
        for number, track in self._tracks.items():
            keys = self._keys[number]
            is_needed = track.kind == b"vide" and not all(keys)
            track.keys = frozenset(n for n, key in enumerate(keys, 1) if key) if is_needed else None
            track.is_whole = bool(track.places)
            later = begun[number] - min(begun.values()) if number in begun else 0.0
            track.begins = round(later * track.scale) if later < _LATEST else 0
            if track.sizes:
                track.largest = max(track.sizes)
            track.step = track.step or self._step(track)
            if track.lasting and not track.lasting[-1]:
                track.lasting[-1] = track.step
            if not any(track.shifts):
                track.shifts = array("q")
