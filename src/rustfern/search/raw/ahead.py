"""A sweep that other processes make ahead, range by range; what it gives is the same as that of one process alone."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, CancelledError, Future
from itertools import islice

import msgspec

from rustfern.engine.interface import Engine, EngineLost
from rustfern.search.raw.examine import BROKEN
from rustfern.search.raw.places import here, sector_at
from rustfern.search.raw.sweep import WINDOW, Sector, ends_like_a_text, sweep
from rustfern.sources.disks.interface import DiskBytes, Extent
from rustfern.sources.disks.unclaimed import SECTOR

_RANGE = 64 * WINDOW
_AHEAD = 2
"""Ranges for each process that wait."""
Window = tuple[int, int, list[Sector]]


class Range(msgspec.Struct, frozen=True):
    """A part of a stretch: where it lies, and whether a text may go on where it begins (None: what lies before it tells)."""

    start: int
    length: int
    goes_on: bool | None


class Swept(msgspec.Struct, frozen=True):
    """What another process saw in a range; `is_troubled`: the disk returned errors."""

    windows: list[Window]
    is_troubled: bool


def swept(piece: Range) -> Swept:
    """The windows of a range, in a process that was prepared for it."""
    looker, health = here()
    goes_on = piece.goes_on
    if goes_on is None:
        goes_on = ends_like_a_text(sector_at(looker.disk, piece.start - SECTOR))
    windows = list(sweep(looker.disk, [(piece.start, piece.length)], goes_on=goes_on))
    return Swept(windows, bool(health.troubles))


def sweep_ahead(
    engine: Callable[[], Engine | None],
    disk: DiskBytes,
    stretches: Iterable[Extent],
    *,
    goes_on: bool,
    is_taken: Callable[[int, int], bool],
) -> Iterator[Window]:
    """As `sweep`. `engine` gives what runs other processes, as long as there are some: without them, and where they fail, it is made here."""
    left = _ranges(stretches, goes_on=goes_on)
    waiting: deque[tuple[Range, Future[Swept] | None]] = deque()
    while True:
        runs = engine()
        most = _AHEAD * runs.workers if runs is not None else 1
        waiting.extend((each, _asked(runs, each, is_taken)) for each in islice(left, max(most - len(waiting), 0)))
        if not waiting:
            return
        piece, answer = waiting.popleft()
        told = _answer(answer) if runs is not None else None
        if told is not None:
            yield from told.windows
            continue
        begins = piece.goes_on
        if begins is None:
            begins = ends_like_a_text(sector_at(disk, piece.start - SECTOR))
        yield from sweep(disk, [(piece.start, piece.length)], goes_on=begins, is_taken=is_taken)


def _ranges(stretches: Iterable[Extent], *, goes_on: bool) -> Iterator[Range]:
    for start, length in stretches:
        for at in range(start, start + length, _RANGE):
            yield Range(at, min(_RANGE, start + length - at), goes_on if at == start else None)
        goes_on = False


def _asked(engine: Engine | None, piece: Range, is_taken: Callable[[int, int], bool]) -> Future[Swept] | None:
    """The answer of another process; None where there is none, or it would read what is known."""
    if engine is None or is_taken(piece.start, piece.length):
        return None
    try:
        return engine.submit(swept, piece)
    except EngineLost:
        return None


def _answer(asked: Future[Swept] | None) -> Swept | None:
    """What another process saw; None where it cannot be had, or the disk returned errors: then one reader knows of all of them."""
    if asked is None:
        return None
    try:
        told = asked.result()
    except (BrokenExecutor, CancelledError, *BROKEN):
        return None
    return None if told.is_troubled else told
