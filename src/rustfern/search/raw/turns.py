"""Batches of places, one after the other, ahead of which other processes look."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import BrokenExecutor, CancelledError, wait
from itertools import islice
from typing import Protocol

from msgspec.structs import replace

from rustfern.engine.interface import Engine, EngineLost
from rustfern.search.raw.examine import BROKEN, Looker
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free
from rustfern.search.raw.places import Asked, Batch, Heads, Told, answered, looked_at, piece_of
from rustfern.sources.disks.interface import Extent
from rustfern.sources.disks.unclaimed import SECTOR

_AHEAD = 3
"""Batches for each process that wait."""
_SECONDS = 0.2


class Taker(Protocol):
    """The search that what is told is for."""

    free: Free
    looker: Looker
    finds: list[RawFind]

    def take_over(self, told: Told) -> RawFind | None:
        """Take what a place is; what was found is not free any more."""


class Turns:
    """Looks at batches in order. With an `engine` other processes look ahead; what they say is taken over where nothing that they did not know of
    could have changed it.
    """

    def __init__(self, search: Taker, engine: Engine | None) -> None:
        self._search, self._engine = search, engine
        self.heads = Heads()
        self.is_stopped = False

    def take(self, coming: Iterator[Batch], pause: Callable[[], bool]) -> Iterator[RawFind | Batch | None]:
        """Each find, and each batch when it is done; now and then None. When `pause` says so, it stops behind the part of a batch that it gives last."""
        waiting: deque[Asked] = deque()
        self.is_stopped = False
        while not self.is_stopped:
            most = _AHEAD * self._engine.workers if self._engine is not None else 1
            waiting.extend(map(self._ask, islice(coming, max(most - len(waiting), 0))))
            if not waiting:
                return
            asked = waiting.popleft()
            while asked.answer is not None and not asked.answer.done():
                wait((asked.answer,), _SECONDS)
                yield None
                if pause():
                    self.is_stopped = True
                    return
            yield from self._one(asked, pause)

    def engine(self) -> Engine | None:
        """What runs the processes that look ahead; None where there are none (any more)."""
        return self._engine

    def end(self) -> None:
        """No other process looks ahead any more."""
        if self._engine is not None:
            self._engine.close()
            self._engine = None

    def _ask(self, batch: Batch) -> Asked:
        if self._engine is not None and batch.places:
            piece = piece_of(batch, self._search.free, self.heads)
            try:
                answer = self._engine.submit(answered, piece)
            except EngineLost:
                self.end()
            else:
                return Asked(batch, answer, piece.is_cut, len(self._search.finds))
        return Asked(batch)

    def _answer(self, asked: Asked) -> Sequence[Told]:
        if asked.answer is None:
            return ()
        try:
            found = asked.answer.result()
        except (BrokenExecutor, CancelledError, *BROKEN):
            self.end()
            return ()
        if found.is_troubled:
            self.end()  # a disk that returns errors has one reader, who knows of all of them
            return ()
        return found.told

    def _one(self, asked: Asked, pause: Callable[[], bool]) -> Iterator[RawFind | Batch]:
        batch, free = asked.batch, self._search.free
        known = {each.offset: each for each in self._answer(asked)}
        others = [e for each in self._search.finds[asked.finds :] for e in each.extents if sum(e) > batch.start]
        """Where what is free here was free there too, or the other way round."""
        for number, place in enumerate(batch.places):
            theirs = known.get(place[0])
            mine: Told | None = None
            if free.holds(place[0]):
                if theirs is not None and not _may_differ(theirs, others, is_cut=asked.is_cut):
                    mine = theirs if not self.heads.is_barren(theirs.head) else None
                else:
                    # Also what they did not look at: it may lie in what they found, and we did not.
                    mine = looked_at(self._search.looker, free, self.heads, place)
                if mine is not None and (found := self._search.take_over(mine)) is not None:
                    others += found.extents if mine is not theirs else ()
                    yield found
            if theirs is not None and theirs.found is not None and (mine is None or mine.found != theirs.found):
                others += theirs.found.extents
            if pause():
                self.is_stopped = True
                end = place[0] + SECTOR
                later = tuple(each for each in batch.later if each[0] < end)
                yield replace(batch, places=batch.places[: number + 1], end=end, size=0, later=later)
                return
        yield batch


def _may_differ(told: Told, others: Sequence[Extent], *, is_cut: bool) -> bool:
    """Whether what another process was told of a place may be otherwise here."""
    if told.far < 0:
        return is_cut or any(at + length > told.offset for at, length in others)
    return any(at < told.far and at + length > told.offset for at, length in others)
