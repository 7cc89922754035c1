"""The walk through a long recording, on all cores: each takes a part that begins with a picture."""

from __future__ import annotations

from concurrent.futures import BrokenExecutor, CancelledError, Future
from threading import Lock
from typing import Any

import msgspec

from rustfern.engine.interface import EngineLost
from rustfern.engine.local import LocalEngine, cores
from rustfern.repair.interface import Budget, Job, NothingLeft
from rustfern.repair.recordings.find import Finder, Found
from rustfern.repair.recordings.window import Window

_WORTH_SHARING, _MOST_CORES = 96 << 20, 4
_PIECE, _MOST_PIECES = 48 << 20, 256
"""Bytes of a part, and parts, at most: whoever is done last keeps the others waiting for no longer than one takes."""


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
    with engine:
        parts = _Parts(engine, finder, job, list(zip(starts, [*starts[1:], end], strict=True)))
        for n, (first, last) in enumerate(parts.bounds):
            answer = parts.mine(n)
            found = None if answer is None or not finder.ends_at(first) else _told(answer)
            if found is None:
                # Nobody was at it yet, the part before it did not come out at its picture, or nobody is left who knows.
                finder.walk(first if not n or finder.ends_at(first) else finder.last_place(first), last)
            else:
                finder.join(found.pictures, found.heard, found.missing)


class _Parts:
    """The parts of a recording: this process takes one after the other from the front, the others from the end, the next one when they are done with
    one. Nobody waits while there are any.
    """

    def __init__(self, engine: LocalEngine, finder: Finder, job: Job, bounds: list[tuple[int, int]]) -> None:
        self.bounds = bounds
        self._engine, self._finder, self._job = engine, finder, job
        self._lock = Lock()
        self._taken, self._left = 1, len(bounds)
        self._answers: dict[int, Future[Walked]] = {}
        for _ in range(engine.workers):
            self._give()

    def mine(self, number: int) -> Future[Walked] | None:
        """The answer of another process about a part; None where this one is to look at it."""
        with self._lock:
            if number < self._left:
                self._taken = number + 1
                return None
            return self._answers.pop(number)

    def _give(self, _: Future[Walked] | None = None) -> None:
        """Give the last one of those that are left to the other processes."""
        with self._lock:
            if self._left <= self._taken:
                return
            finder, job, number = self._finder, self._job, self._left - 1
            part = Part(
                job.reopen, job.size, finder.way, finder.ways, *self.bounds[number], job.budget.left(), finder.strange
            )
            try:
                answer = self._engine.submit(_walked, part)
            except (EngineLost, RuntimeError):  # they are gone, or going
                return
            self._answers[number], self._left = answer, number
        answer.add_done_callback(self._give)


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
