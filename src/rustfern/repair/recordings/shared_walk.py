"""The walk through a long recording, on all cores: each takes a part that begins with a picture."""

from __future__ import annotations

from concurrent.futures import BrokenExecutor, CancelledError, Future
from contextlib import suppress
from typing import Any

import msgspec

from rustfern.engine.interface import EngineLost
from rustfern.engine.local import LocalEngine, cores
from rustfern.repair.interface import Budget, Job, NothingLeft
from rustfern.repair.recordings.find import Finder, Found
from rustfern.repair.recordings.window import Window

_WORTH_SHARING, _MOST_CORES = 96 << 20, 4
_PIECE, _MOST_PIECES = 192 << 20, 64
"""Bytes of a part, and parts, at most: what was found in one is sent whole, and held until its turn."""


class Part(msgspec.Struct, frozen=True):
    """A part for another process: how to open the recording, and its bytes, the ways of its pictures and sounds, between which places, seconds that it may take, and `strange` of the finder."""

    reopen: Any
    size: int
    way: Any
    ways: Any
    start: int
    end: int
    seconds: float
    strange: int


class Walked(msgspec.Struct, frozen=True):
    """What was found in a part, and how many bytes are nothing that is known."""

    pictures: Found
    heard: list[Found]
    missing: int


def walk(finder: Finder, job: Job, start: int, end: int) -> None:
    """Have a finder walk from a place to another one: this process takes part after part from the front, the others from the end."""
    count = min(cores(), _MOST_CORES)
    starts = [start]
    if job.reopen is not None and end - start >= _WORTH_SHARING and count > 1:
        pieces = min(max((end - start) // _PIECE, count), _MOST_PIECES)
        for n in range(1, pieces):
            place = finder.picture_near(start + (end - start) * n // pieces, end)
            if place is None or place <= starts[-1]:
                break
            starts.append(place)
    if len(starts) < 2:
        finder.walk(start, end)
        return
    try:
        engine = LocalEngine(count - 1)
    except OSError:
        finder.walk(start, end)
        return
    parts = list(zip(starts, [*starts[1:], end], strict=True))
    answers: list[Future[Walked] | None] = [None] * len(parts)
    with engine:
        with suppress(EngineLost):
            for n, (first, last) in reversed(list(enumerate(parts))[1:]):
                part = Part(
                    job.reopen, job.size, finder.way, finder.ways, first, last, job.budget.left(), finder.strange
                )
                answers[n] = engine.submit(_walked, part)
        finder.walk(*parts[0])
        for n, (first, last) in list(enumerate(parts))[1:]:
            answer, answers[n] = answers[n], None
            found = None if answer is None or answer.cancel() or not finder.ends_at(first) else _told(answer)
            if found is None:
                # Nobody was at it yet, the part before it did not come out at its picture, or nobody is left who knows.
                finder.walk(first if finder.ends_at(first) else finder.last_place(first), last)
            else:
                finder.join(found.pictures, found.heard, found.missing)


def _told(answer: Future[Walked]) -> Walked | None:
    try:
        return answer.result()
    except (BrokenExecutor, CancelledError, NothingLeft, OSError):
        return None


def _walked(part: Part) -> Walked:
    with part.reopen() as stream:
        finder = Finder(
            Window(stream, part.size), part.way, part.ways, Budget(part.seconds).spend, strange=part.strange
        )
        finder.walk(part.start, part.end)
    return Walked(finder.pictures, finder.heard, finder.missing)
