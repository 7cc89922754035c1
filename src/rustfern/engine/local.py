"""Pieces of work on the cores of this machine, each core a process.

The processes hear no Ctrl-C, which is for the command alone, and end with it, also where it was killed.
"""

from __future__ import annotations

import os
import signal
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager, suppress
from itertools import islice
from multiprocessing import Pipe, get_context
from multiprocessing.context import BaseContext
from types import TracebackType
from typing import Any, TypeVar
from weakref import WeakKeyDictionary

from rustfern.engine.interface import Engine, EngineLost

_P = TypeVar("_P")
_R = TypeVar("_R")
ALONE = "RUSTFERN_ONE_CORE"
"""The environment variable that is set in a process which is one of several workers of the same machine."""


class LocalEngine:
    """Processes of this machine. `prepare` is called in each of them before its first piece, with `told`."""

    def __init__(
        self,
        workers: int | None = None,
        prepare: Callable[..., None] | None = None,
        *told: object,
        context: BaseContext | None = None,
    ) -> None:
        """Without a number of `workers` as many as there are cores; `context` says how processes begin. Raises `OSError` where none can be had."""
        self.workers = workers or cores()
        hear, self._tell = Pipe(duplex=False)
        self._hear, self._closing = hear, threading.Lock()
        self._pool = ProcessPoolExecutor(self.workers, context, initializer=_begin, initargs=(hear, prepare, told))

    def __enter__(self) -> LocalEngine:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        self.close()

    def submit(self, work: Callable[[_P], _R], piece: _P) -> Future[_R]:
        """As `Engine.submit`."""
        try:
            with uninterrupted():
                return self._pool.submit(work, piece)
        except (BrokenProcessPool, OSError) as error:
            raise EngineLost(str(error)) from error

    def map(self, work: Callable[[_P], _R], pieces: Iterable[_P], together: int = 1) -> Iterator[_R]:
        """As `Engine.map`."""
        try:
            with uninterrupted():
                results = self._pool.map(work, pieces, chunksize=together)
            yield from results
        except (BrokenProcessPool, OSError) as error:
            raise EngineLost(str(error)) from error

    def seen(self, waits: Future[Any]) -> float | None:
        """As `Engine.seen`: which of its processes has a piece is not known."""
        return None

    def give_up(self, waits: Future[Any]) -> None:
        """As `Engine.give_up`: all of its processes end."""
        self.end()

    def end(self) -> None:
        """Have its processes end at once."""
        with suppress(OSError):
            self._tell.send_bytes(b"end")

    def close(self) -> None:
        """As `Engine.close`."""
        with self._closing:
            if self._tell.closed:
                return
            self.end()
            with suppress(OSError):  # its processes were gone already
                self._pool.shutdown(wait=True, cancel_futures=True)
            self._tell.close()
            self._hear.close()


class Crew:
    """Processes of this machine that are each on their own: one that dies takes its piece with it, and another stands in for it. At most
    `workers` pieces are given at a time.
    """

    def __init__(self, workers: int | None = None, prepare: Callable[..., None] | None = None, *told: object) -> None:
        """As `LocalEngine`; each process is begun anew, as this one has threads."""
        self.workers = workers or cores()
        self._prepare, self._told = prepare, told
        self._free: list[LocalEngine] = []
        self._at_work: dict[Future[Any], LocalEngine] = {}
        self._numbers: WeakKeyDictionary[LocalEngine, Future[int]] = WeakKeyDictionary()
        self._lock = threading.Lock()

    def submit(self, work: Callable[[_P], _R], piece: _P) -> Future[_R]:
        """As `Engine.submit`."""
        with self._lock:
            one = self._free.pop() if self._free else None
        try:
            if one is None:
                one = LocalEngine(1, self._prepare, *self._told, context=get_context("spawn"))
                self._numbers[one] = one.submit(_number, None)
        except OSError as error:
            raise EngineLost(str(error)) from error
        try:
            waits = one.submit(work, piece)
        except EngineLost:
            one.close()
            raise
        with self._lock:
            self._at_work[waits] = one
        waits.add_done_callback(self._done)
        return waits

    def _done(self, waits: Future[Any]) -> None:
        with self._lock:
            one = self._at_work.pop(waits, None)
            is_lost = waits.cancelled() or isinstance(waits.exception(), BrokenExecutor)
            if one is not None and not is_lost:
                self._free.append(one)
                return
        if one is not None:
            # Not from its own thread, which this may be.
            threading.Thread(target=one.close, daemon=True).start()

    def seen(self, waits: Future[Any]) -> float | None:
        """As `Engine.seen`."""
        import psutil

        with self._lock:
            one = self._at_work.get(waits)
        number = self._numbers.get(one) if one is not None else None
        if number is None or not number.done():
            return None
        try:
            process = psutil.Process(number.result(0))
            moved = sum(process.io_counters()[:4]) if hasattr(process, "io_counters") else 0
            return float(sum(process.cpu_times()[:2]) + moved)
        except (psutil.Error, OSError, BrokenExecutor):
            return None

    def give_up(self, waits: Future[Any]) -> None:
        """End the process that works on a piece."""
        with self._lock:
            one = self._at_work.get(waits)
        if one is not None:
            one.end()

    def map(self, work: Callable[[_P], _R], pieces: Iterable[_P], together: int = 1) -> Iterator[_R]:
        """As `Engine.map`."""
        return in_order(self, work, pieces)

    def close(self) -> None:
        """As `Engine.close`."""
        with self._lock:
            every = [*self._free, *self._at_work.values()]
            self._free.clear()
        for one in every:
            one.end()
        for one in every:
            one.close()


def _number(_: None) -> int:
    return os.getpid()


def in_order(engine: Engine, work: Callable[[_P], _R], pieces: Iterable[_P]) -> Iterator[_R]:
    """The results of pieces in their order; some more than there are workers are under way. Raises `EngineLost`."""
    left = iter(pieces)
    under_way = deque(engine.submit(work, piece) for piece in islice(left, engine.workers))
    while under_way:
        try:
            result = under_way.popleft().result()
        except BrokenExecutor as error:
            raise EngineLost(str(error)) from error
        under_way.extend(engine.submit(work, piece) for piece in islice(left, 1))
        yield result


@contextmanager
def uninterrupted() -> Iterator[None]:
    """In here an interrupt waits for the end: in the middle of a fork it would be lost, with a word about it."""
    came: list[int] = []
    try:
        before = signal.signal(signal.SIGINT, lambda number, _: came.append(number))
    except ValueError:  # not the main thread, which alone hears interrupts
        yield
        return
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
    if came and callable(before):
        before(came[0], None)


def cores() -> int:
    """How many cores this process may use; where it is one of several workers (`ALONE`), one."""
    if os.environ.get(ALONE):
        return 1
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0)) or 1
    return os.cpu_count() or 1


def _begin(hear: Any, prepare: Callable[..., None] | None, told: tuple[object, ...]) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_when_told, args=(hear,), daemon=True).start()
    if prepare is not None:
        prepare(*told)


def _end_when_told(hear: Any) -> None:
    from multiprocessing import parent_process
    from multiprocessing.connection import wait

    command = parent_process()
    wait([hear, command.sentinel] if command is not None else [hear])
    os._exit(1)
