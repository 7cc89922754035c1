"""The walk through a long recording, on all cores: each takes a part that begins with a picture."""

from __future__ import annotations

from concurrent.futures import BrokenExecutor, CancelledError, Future
from typing import Any

import msgspec

from rustfern.engine.interface import EngineLost
from rustfern.engine.local import LocalEngine, cores
from rustfern.repair.interface import Budget, Job, NothingLeft
from rustfern.repair.recordings.find import Finder, Found
from rustfern.repair.recordings.window import Window

_WORTH_SHARING, _MOST_CORES = 96 << 20, 4


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
    """Have a finder walk from a place to another one."""
    count = min(cores(), _MOST_CORES)
    starts = [start]
    if job.reopen is not None and end - start >= _WORTH_SHARING and count > 1:
        for n in range(1, count):
            place = finder.picture_near(start + (end - start) * n // count, end)
            if place is None or place <= starts[-1]:
                break
            starts.append(place)
    if len(starts) < 2:
        finder.walk(start, end)
        return
    ends = [*starts[1:], end]
    answers: list[Future[Walked]] = []
    try:
        engine = LocalEngine(len(starts) - 1)
    except OSError:
        finder.walk(start, end)
        return
    with engine:
        try:
            for first, last in zip(starts[1:], ends[1:], strict=True):
                part = Part(
                    job.reopen, job.size, finder.way, finder.ways, first, last, job.budget.left(), finder.strange
                )
                answers.append(engine.submit(_walked, part))
        except EngineLost:
            answers.clear()
        finder.walk(start, ends[0])
        for first, last, answer in zip(
            starts[1:], ends[1:], [*answers, *[None] * (len(starts) - 1 - len(answers))], strict=True
        ):
            found = _told(answer) if finder.ends_at(first) else None
            if found is None:
                # The part before it did not come out at its picture, or nobody is left who knows.
                finder.walk(first if finder.ends_at(first) else finder.last_place(first), last)
            else:
                finder.join(found.pictures, found.heard, found.missing)


def _told(answer: Future[Walked] | None) -> Walked | None:
    if answer is None:
        return None
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
