"""Pictures that stand in for lost ones: each shows the one before it again, so that those which build on a lost one find something in its place.

What the pictures around a hole say (their numbers, their order, which others they ask for) tells how many are lost, and which of them others need.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any, Protocol

import msgspec

from rustfern.formats.media.coded_video import Avc, NoUnit, settings_of
from rustfern.repair.recordings.avc_stand_ins import AvcStream
from rustfern.repair.recordings.hevc_stand_ins import HevcStream
from rustfern.repair.recordings.showing import Around, StandIn
from rustfern.repair.recordings.window import Window

_BEGINNING = 4_096
_BEFORE, _AFTER, _NEAR, _FEW, _FAR, _EDGE = 600, 64, 0.5, 3, 4, 16
"""Pictures before and behind a hole that are looked at; how far (a share, and so many) what stands in may be from how many are lost before another
reading is tried; how many times as many are not believed; the last ones looked at, among which some of those behind them are shown.
"""


class Made(msgspec.Struct, frozen=True):
    """A picture that stands in: where its bytes are given, how many, the low bits of its place in the order of showing, whether others may build on it,
    whether the order begins anew with it.
    """

    place: int
    size: int
    order: int
    is_needed: bool
    begins: bool


class Lost(msgspec.Struct, frozen=True):
    """Pictures that are missing: about so many, or just as many (`is_sure`). `since_key`: how many of these come from the last one on that needs no other,
    this one too; 0 where there is none among them.
    """

    about: int
    is_sure: bool = False
    since_key: int = 0


class Head(Protocol):
    """What is asked of the head of a picture: the low bits of its place in the order of showing, whether others may build on it, whether the order
    begins anew with it.
    """

    @property
    def order(self) -> int: ...

    @property
    def is_kept(self) -> bool: ...

    @property
    def is_key(self) -> bool: ...


class Stream(Protocol):
    """Pictures of one coding, some of them lost."""

    def head(self, picture: bytes) -> Any:
        """The head of a picture, from its first bytes on. Raises `NoUnit` where it is none that can be followed."""

    def made(
        self, before: Sequence[Any], after: Sequence[Any], about: int, around: Around, *, is_sure: bool
    ) -> Sequence[StandIn[Any]]:
        """Pictures for a hole: `before` it came these since one that needs no other, `after` it these up to the next such one, and `about` so many are lost,
        or just as many (`is_sure`). Of others `around` tells. Raises `NoUnit` where they cannot be told.
        """

    def anew(
        self, before: Sequence[Any], after: Sequence[Any], known: tuple[int, int] | None, around: Around
    ) -> Sequence[StandIn[Any]]:
        """The same for a hole in which one that needs no other is lost: how many come before it, and how many from it on, where that is `known`."""


class Filler:
    """Fills the holes among pictures; what cannot be told is left as it is."""

    def __init__(
        self, window: Window, entry: bytes, places: Sequence[int], sizes: Sequence[int], keys: Sequence[int]
    ) -> None:
        self._window, self._places, self._sizes, self._keys = window, places, sizes, keys
        coding, width = settings_of(entry)
        self._stream: Stream | None = None
        if coding is not None:
            self._stream = AvcStream(coding, width) if isinstance(coding, Avc) else HevcStream(coding, width)
        self._heads: dict[int, Head] = {}

    @property
    def can_fill(self) -> bool:
        """Whether this coding is known."""
        return self._stream is not None

    def _head(self, number: int) -> Head:
        if number not in self._heads:
            assert self._stream is not None
            self._heads[number] = self._stream.head(
                self._window.at(self._places[number], min(self._sizes[number], _BEGINNING))
            )
        return self._heads[number]

    def _found(
        self, before: Sequence[Head], after: Sequence[Head], lost: Lost, around: Around
    ) -> Sequence[StandIn[Any]]:
        """What stands in for what is lost. Where it is not known whether a picture that needs no other is, what comes nearer to how many are lost counts."""
        assert self._stream is not None
        if lost.is_sure:
            if not lost.since_key:
                return self._stream.made(before, after, lost.about, around, is_sure=True)
            return self._stream.anew(before, after, (lost.about - lost.since_key, lost.since_key), around)
        ways = []
        with suppress(NoUnit):
            ways.append(self._stream.made(before, after, lost.about, around, is_sure=False))
        if after and (not ways or abs(len(ways[0]) - lost.about) > _NEAR * lost.about + _FEW):
            with suppress(NoUnit):
                ways.append(self._stream.anew(before, after, None, around))
        ways = [way for way in ways if len(way) <= _FAR * (lost.about + _FEW)]
        if not ways:
            raise NoUnit
        return min(ways, key=lambda way: abs(len(way) - lost.about))

    def _begins(self, number: int) -> bool:
        """Whether nothing from a picture on builds on those before it."""
        return bool(self._keys[number]) and self._head(number).is_key

    def filled(self, numbers: Sequence[int], lost: Mapping[int, Lost]) -> dict[int, list[Made]]:
        """What stands in before some of the pictures with these `numbers`, in order: as many as are `lost` before each."""
        if self._stream is None:
            return {}
        made: dict[int, list[Made]] = {}
        heads: dict[int, list[Head]] = {}
        for place, number in enumerate(numbers):
            if number not in lost or not place:
                continue
            try:
                start = place - 1
                while start > max(place - _BEFORE, 0) and not self._begins(numbers[start]):
                    start -= 1
                end = place
                while end < min(place + _AFTER, len(numbers)) and not self._begins(numbers[end]):
                    end += 1
                following = next((n for n in range(place + 1, end) if numbers[n] in lost), end)
                is_more = following == end < len(numbers) and not self._begins(numbers[end])
                around = Around(
                    not self._begins(numbers[start]), following - place - (_EDGE if is_more else 0), following < end
                )
                before = [head for each in numbers[start:place] for head in (*heads.get(each, ()), self._head(each))]
                after = [self._head(each) for each in numbers[place:end]]
                told = lost[number]
                found = self._found(before, after, told, around)
            except NoUnit:
                continue
            heads[number] = [each.head for each in found]
            made[number] = [
                Made(
                    self._window.keep(each.data),
                    len(each.data),
                    each.head.order,
                    each.head.is_kept,
                    each.head.is_key,
                )
                for each in found
            ]
        return made
