"""Sounds of several kinds that lie between two pictures, uncoded ones among them: in which order they fill what is there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import msgspec

from rustfern.repair.recordings.ways import Sample, Way

_MOST_STEPS = 20_000


class Plain(msgspec.Struct, frozen=True):
    """Uncoded sound: bytes of one moment, and of the longest usual run of it (0: not known), of usual ones (none: they differ); moments a second (0: not known)."""

    frame: int
    chunk: int = 0
    chunks: tuple[int, ...] = ()
    rate: int = 0


class Filling:
    """Tells which sounds fill some bytes. `done` is how much of each came before: bytes of uncoded ones, frames of others; `sample_at` gives the frame of
    a coded one at a place.
    """

    def __init__(
        self,
        sounds: Sequence[Way | Plain],
        done: Sequence[int],
        sample_at: Callable[[int, Way, int], Sample | None],
    ) -> None:
        self._sounds, self._done, self._sample_at = sounds, done, sample_at

    def parts(self, start: int, stop: int, *, is_open: bool) -> list[tuple[int, int]]:
        """(number of the sound, bytes) of what lies between two places, one behind the other; nothing where they cannot be filled to the last byte.
        Recorders have all sounds keep step: the one that is behind comes first. With `is_open` the last may be cut.
        """
        taken: list[tuple[int, int]] = []
        ways = [self._next(start, stop, taken)]
        dead = set[int]()
        at, best, steps = start, list[tuple[int, int]](), 0
        while ways and steps < _MOST_STEPS:
            steps += 1
            part = next(ways[-1], None)
            if part is None:
                ways.pop()
                dead.add(at)
                if taken:
                    at -= taken.pop()[1]
                continue
            after = at + part[1]
            if after > stop or after in dead:
                continue
            taken.append(part)
            at = after
            if at == stop:
                return taken
            if is_open and len(taken) > len(best):
                best = list(taken)
            ways.append(self._next(at, stop, taken))
        is_uneven = any(isinstance(way, Plain) and not way.chunks for way in self._sounds)
        return best or (self._shared(stop - start) if is_open or is_uneven else [])

    def _next(self, at: int, stop: int, taken: Sequence[tuple[int, int]]) -> Iterator[tuple[int, int]]:
        """What may lie at a place, the likeliest first."""
        done = list(self._done)
        for number, size in taken:
            done[number] += size if isinstance(self._sounds[number], Plain) else 1
        order = sorted(range(len(done)), key=lambda number: (self._clock(number, done[number]), number))
        for number in order:
            way = self._sounds[number]
            if not isinstance(way, Plain) and (sample := self._sample_at(number, way, at)) is not None:
                yield number, sample.size
        for number in order:
            way = self._sounds[number]
            if isinstance(way, Plain):
                yield from ((number, size) for size in way.chunks)

    def _clock(self, number: int, done: int) -> float:
        way = self._sounds[number]
        return done / way.frame / max(way.rate, 1) if isinstance(way, Plain) else float(done)

    def _shared(self, length: int) -> list[tuple[int, int]]:
        """Each its share, where all are uncoded: their runs differ, or are the last ones of a recording."""
        plain = [way for way in self._sounds if isinstance(way, Plain)]
        a_moment = sum(way.frame for way in plain)
        if len(plain) < len(self._sounds) or length % a_moment or len({way.rate for way in plain}) > 1:
            return []
        return [(number, length // a_moment * way.frame) for number, way in enumerate(plain)]
