"""Pieces of work on the cores of this machine, each core a process.

The processes hear no Ctrl-C, which is for the command alone, and end with it, also where it was killed.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from multiprocessing import Pipe
from types import TracebackType
from typing import Any, TypeVar

from rustfern.engine.interface import EngineLost

_P = TypeVar("_P")
_R = TypeVar("_R")


class LocalEngine:
    """Processes of this machine. `prepare` is called in each of them before its first piece, with `told`."""

    def __init__(self, workers: int | None = None, prepare: Callable[..., None] | None = None, *told: object) -> None:
        """Without a number of `workers` as many as there are cores. Raises `OSError` where no process can be had."""
        self.workers = workers or cores()
        hear, self._tell = Pipe(duplex=False)
        self._hear = hear
        self._pool = ProcessPoolExecutor(self.workers, initializer=_begin, initargs=(hear, prepare, told))

    def __enter__(self) -> LocalEngine:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        self.close()

    def submit(self, work: Callable[[_P], _R], piece: _P) -> Future[_R]:
        """As `Engine.submit`."""
        try:
            return self._pool.submit(work, piece)
        except (BrokenProcessPool, OSError) as error:
            raise EngineLost(str(error)) from error

    def map(self, work: Callable[[_P], _R], pieces: Iterable[_P], together: int = 1) -> Iterator[_R]:
        """As `Engine.map`."""
        try:
            yield from self._pool.map(work, pieces, chunksize=together)
        except (BrokenProcessPool, OSError) as error:
            raise EngineLost(str(error)) from error

    def close(self) -> None:
        """As `Engine.close`."""
        with suppress(OSError):
            self._tell.send_bytes(b"end")
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._tell.close()
        self._hear.close()


def cores() -> int:
    """How many cores this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0)) or 1
    return os.cpu_count() or 1


def _begin(hear: Any, prepare: Callable[..., None] | None, told: tuple[object, ...]) -> None:
    import signal

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
