"""Holes among pictures: what stands in for lost ones, and which pictures behind a hole cannot be shown.

A decoder, where one is installed, is asked about every stretch with a hole in it, and about all of a recording that is not long: what it complains of is
itself hurt, and counts as lost.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress

import msgspec

from rustfern.repair.interface import Budget, NothingLeft
from rustfern.repair.recordings.stand_ins import Filler, Lost, Made
from rustfern.repair.recordings.trial import Tried, tried
from rustfern.repair.recordings.window import Window

_ROUNDS, _NEARLY, _FEW, _BEFORE = 8, 0.9, 0.06, 2
SWEPT, _SWEPT_BYTES, _SWEPT_SECONDS = 3_000, 48 << 20, 15.0
"""Pictures, their bytes, and seconds, up to which a decoder is asked about all of them."""
_TOGETHER = 600
"""Pictures of several stretches that a decoder is asked about at once."""
_SOME, _SHARE = 3, 0.03
"""Complaints, and their share, up to which pictures are hurt: of more, the decoder does not know how these are coded."""


class Mended(msgspec.Struct):
    """Pictures to be left out, pictures that stay and may show wrong blocks, and what stands in before some; by their numbers."""

    out: set[int] = msgspec.field(default_factory=set)
    wrong: set[int] = msgspec.field(default_factory=set)
    made: dict[int, list[Made]] = msgspec.field(default_factory=dict)


class _Try(msgspec.Struct):
    """One way of mending a stretch: the pictures that stay, what stands in, what a decoder says of it, the pictures that it complains of, and those of
    which it makes up a part.
    """

    left: list[int]
    made: dict[int, list[Made]]
    told: Tried
    worse: set[int]
    hurt: set[int]


class Film(msgspec.Struct, frozen=True):
    """Pictures one behind the other: the description of how they are coded, their size in pixels, where each lies, whether it needs no other."""

    window: Window
    entry: bytes
    width: int
    height: int
    places: Sequence[int]
    sizes: Sequence[int]
    keys: Sequence[int]


def mended(film: Film, lost: Mapping[int, Lost], *, strict: bool, budget: Budget) -> Mended:
    """What is to be done where pictures are `lost` before those with some numbers. If `strict`, all up to the next one that needs no other are left out."""
    found = Mended()
    count = len(film.places)
    filler = Filler(film.window, film.entry, film.places, film.sizes, film.keys)
    is_short = count <= SWEPT and sum(film.sizes) <= _SWEPT_BYTES
    if not filler.can_fill and not strict and is_short and (unread := _unread(film, budget)):
        found.out |= unread
        return found
    done = -1
    holes: dict[range, dict[int, Lost]] = {}
    for gap in sorted(lost):
        if gap >= count or gap < done:
            continue
        done = next((n for n in range(gap, count) if film.keys[n]), count)
        if strict:
            found.out.update(range(gap, done))
            continue
        first = next((n for n in range(gap - 1, -1, -1) if film.keys[n]), 0)
        holes[range(first, done)] = {n: lost[n] for n in lost if first <= n <= done}
    part = budget.part(budget.left() / 2)
    good = dict[range, _Try]()
    with suppress(NothingLeft):
        _try_together(film, filler, holes, part, good)
    for stretch, there in holes.items():
        if stretch in good:
            _take(filler, stretch, there, good[stretch], found)
            continue
        try:
            _mend(film, filler, stretch, there, set(), part, found)
        except NothingLeft:  # no time to try any more
            behind = [stretch.stop] if stretch.stop < count else []
            found.made |= filler.filled([*stretch, *behind], there)
            found.wrong.update(range(min(there), stretch.stop))
    if not strict and filler.can_fill and is_short:
        _sweep(film, filler, list(holes), budget.part(_SWEPT_SECONDS), found)
    return found


def _unread(film: Film, budget: Budget) -> set[int]:
    """The pictures that a decoder cannot read, where it reads all others without them, and shows hardly fewer: some, or all up to one that needs no other."""
    every = list(range(len(film.places)))
    told = _tried(film, every, {}, budget)
    if told is None or not told.worse:
        return set()
    without = _tried(film, [n for n in every if n not in told.worse], {}, budget)
    some = max(_SOME, _SHARE * len(every))
    is_good = without is not None and not without.worse and without.told.shown >= told.told.shown - some
    return told.worse if is_good else set()


def _try_together(
    film: Film, filler: Filler, holes: Mapping[range, Mapping[int, Lost]], budget: Budget, good: dict[range, _Try]
) -> None:
    """The stretches that a decoder reads as they are filled, tried many at a time: asking it once takes as long as reading hundreds of pictures."""
    waiting: list[range] = []
    made: dict[int, list[Made]] = {}
    stretches = list(holes) if len(holes) > 1 else []
    for stretch in stretches:
        waiting.append(stretch)
        behind = [stretch.stop] if stretch.stop < len(film.places) else []
        made |= filler.filled([*stretch, *behind], holes[stretch])
        if sum(map(len, waiting)) < _TOGETHER and stretch != stretches[-1]:
            continue
        budget.spend()
        told = _tried(film, [n for each in waiting for n in each], made, budget)
        for each in waiting if told is not None else ():
            assert told is not None
            if told.worse.isdisjoint(each):
                mine = {n: made[n] for n in made if each.start < n <= each.stop}
                good[each] = _Try(list(each), mine, told.told, set(), told.hurt & {*each})
        waiting, made = [], {}


def _sweep(film: Film, filler: Filler, mended_ones: Sequence[range], budget: Budget, found: Mended) -> None:
    """What no hole tells: pictures in whose bytes something else stands."""
    count = len(film.places)
    stops = [n for n in range(count) if n == 0 or film.keys[n]]
    whole = [range(at, end) for at, end in zip(stops, [*stops[1:], count], strict=True)]
    done = {n for stretch in mended_ones for n in stretch}
    left = [n for stretch in whole if stretch.start not in done for n in stretch]
    with suppress(NothingLeft):
        told = _tried(film, left, {}, budget)
        if told is None or not told.worse or len(told.worse) > max(_SOME, _SHARE * len(left)):
            return
        for stretch in whole:
            if worse := told.worse & {*stretch}:
                _mend(film, filler, stretch, {}, worse, budget, found)


def _mend(
    film: Film,
    filler: Filler,
    stretch: range,
    lost: Mapping[int, Lost],
    gone: set[int],
    budget: Budget,
    found: Mended,
) -> None:
    """One stretch, from a picture that needs no other to the next such one; some pictures of it may be known to be `gone`."""
    done = stretch.stop
    gap = min((*lost, *gone))
    behind = [done] if done < len(film.places) else []
    tries: list[_Try] = []
    plain = filler.filled([*stretch, *behind], lost)
    for _ in range(_ROUNDS):
        budget.spend()
        while stretch.start in gone and stretch.start:  # what stands in for it shows the one before it
            stretch = range(next(n for n in range(stretch.start - 1, -1, -1) if film.keys[n] or not n), done)
        left = [n for n in stretch if n not in gone]
        made = filler.filled([*left, *behind], _lost_with(lost, gone, done, film.keys)) if gone else plain
        found_out = _tried(film, left, made, budget)
        if found_out is None:
            break
        worse = found_out.worse
        if len(worse) > max(_SOME, _SHARE * len(left)):
            worse = {n for n in worse if n >= gap - _BEFORE}
        tries.append(found_out)
        if not worse:
            break
        gone |= worse
    best = tries[-1] if tries and not any(tries[-1].told.complaints) else None
    if best is not None and (len(tries) == 1 or _is_little(tries, (len(stretch) - len(best.left)) / len(film.places))):
        _take(filler, stretch, lost, best, found)
        return
    found.made |= plain
    if not tries or (gone and not lost):
        found.wrong.update(range(gap, done))
    elif bad := tries[0].worse | tries[0].hurt:
        found.wrong.update(range(min(bad), done))  # what follows may build on them


def _take(filler: Filler, stretch: range, lost: Mapping[int, Lost], best: _Try, found: Mended) -> None:
    """One way of mending a stretch, as it is."""
    done = stretch.stop
    found.out |= {*stretch} - {*best.left}
    found.made |= best.made
    needed = [number for number, every in best.made.items() if number < done and any(each.is_needed for each in every)]
    unfilled = [n for n in lost if n < done and n not in best.made] if filler.can_fill else []
    begin = min((*needed, *best.hurt, *unfilled), default=done)
    found.wrong.update(n for n in best.left if n >= begin)


def _since_key(every: Sequence[Lost]) -> int:
    count = 0
    for each in every:
        count = each.since_key or (count + each.about if count else 0)
    return count


def _lost_with(lost: Mapping[int, Lost], gone: set[int], done: int, keys: Sequence[int]) -> dict[int, Lost]:
    """What is lost where some more pictures are: each counts for the next one that stays."""
    told: dict[int, Lost] = {}
    waiting: list[Lost] = []
    for number in range(min((*lost, *gone)), done + 1):
        if number in lost:
            waiting.append(lost[number])
        if number in gone:
            waiting.append(Lost(1, is_sure=True, since_key=int(keys[number])))
        elif waiting:
            told[number] = Lost(
                sum(each.about for each in waiting),
                all(each.is_sure for each in waiting),
                _since_key(waiting),
            )
            waiting = []
    return told


def _tried(film: Film, left: list[int], made: dict[int, list[Made]], budget: Budget) -> _Try | None:
    """What a decoder says; for a picture that stands in, the one behind it is named. None where none is installed."""
    places, sizes, whose = list[int](), list[int](), list[int]()
    for number in left:
        for each in made.get(number, ()):
            places.append(each.place)
            sizes.append(each.size)
            whose.append(number)
        places.append(film.places[number])
        sizes.append(film.sizes[number])
        whose.append(number)
    told = tried(film.window, film.entry, film.width, film.height, places, sizes, budget)
    if told is None:
        return None
    worse, hurt = (
        {number for number, it_is in zip(whose, flags, strict=True) if it_is}
        for flags in (told.complaints, told.completed)
    )
    return _Try(left, made, told, worse, hurt)


def _is_little(tries: Sequence[_Try], share: float) -> bool:
    """Whether leaving pictures out costs little: of the stretch, or of the whole recording."""
    return tries[-1].told.shown >= _NEARLY * tries[0].told.shown or share <= _FEW
