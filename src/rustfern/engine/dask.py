"""Pieces of work on a cluster of Dask distributed, an existing scheduler: its workers see the same paths as this machine.

Only functions of this package and plain values are sent; nothing that was read from anybody's files is ever unpickled here or there.
"""

from __future__ import annotations

import logging
import threading
import uuid
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, Future
from contextlib import suppress
from importlib import import_module
from typing import Any, TypeVar

from rustfern._version import __version__
from rustfern.core.errors import WrongUsage
from rustfern.engine.interface import EngineLost
from rustfern.engine.local import cores, in_order

_P = TypeVar("_P")
_R = TypeVar("_R")
_SECONDS = 10.0
LOCAL = "local"
"""Stands for a cluster on this machine, with a worker for each core."""


class DaskEngine:
    """A cluster. A worker that dies loses its piece, which is done again on another one, some times over."""

    def __init__(self, address: str, prepare: Callable[..., None] | None = None, *told: object) -> None:
        """`prepare` is called in each worker before its first piece, with `told`. Raises `WrongUsage` where the library is missing, nobody answers, no worker is there, or a worker has another version of the tool."""
        try:
            distributed: Any = import_module("distributed")
        except ImportError as error:
            raise WrongUsage(
                "what speaks to a scheduler is not installed", address, "Install it: pip install 'rustfern[cluster]'"
            ) from error
        # What it says on its own is said here, in words of ours.
        for name in list(logging.root.manager.loggerDict):
            if name.partition(".")[0] in ("distributed", "tornado", "asyncio"):
                logging.getLogger(name).setLevel(logging.CRITICAL + 1)
        self._cluster: Any = None
        try:
            if address == LOCAL:
                self._cluster = distributed.LocalCluster(
                    n_workers=cores(), threads_per_worker=1, dashboard_address=None, silence_logs=50
                )
            self._client: Any = distributed.Client(self._cluster or address, timeout=_SECONDS, set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise WrongUsage(
                f"no scheduler answers there ({str(error)[:120] or type(error).__name__})", address,
                "Start one (dask scheduler), and workers that see the same paths (dask worker ADDRESS --nthreads 1)",
            ) from error  # fmt: skip
        try:
            self._check(address)
        except BaseException:
            self.close()
            raise
        self._lost_with = distributed.scheduler.KilledWorker
        self._prepare, self._token = prepare, uuid.uuid4().hex
        self._sent = self._client.scatter(told, hash=False) if prepare is not None else None

    def _check(self, address: str) -> None:
        told = self._client.run(_version)
        if not told:
            raise WrongUsage("the scheduler has no workers", address, "Start some: dask worker ADDRESS --nthreads 1")
        others = {version for version in told.values() if version != __version__}
        if others:
            raise WrongUsage(
                f"workers have version {', '.join(sorted(map(str, others)))} of Rust Fern, this is {__version__}", address,
                "Install the same version on all of them",
            )  # fmt: skip

    @property
    def workers(self) -> int:
        """How many pieces it runs at a time, now."""
        try:
            return max(sum(int(each) for each in self._client.nthreads().values()), 1)
        except Exception as error:  # of whatever kind the library raises: the scheduler is gone
            raise EngineLost(f"the scheduler does not answer any more: {str(error)[:80]}") from error

    def everywhere(self, work: Callable[[_P], _R], piece: _P) -> dict[str, _R]:
        """What some work gives on each worker, by its address."""
        told: dict[str, _R] = self._client.run(work, piece)
        return told

    def submit(self, work: Callable[[_P], _R], piece: _P) -> Future[_R]:
        """As `Engine.submit`."""
        waits: Future[_R] = Future()
        try:
            if self._prepare is None:
                asked = self._client.submit(work, piece, pure=False)
            else:
                asked = self._client.submit(_prepared, self._token, self._prepare, self._sent, work, piece, pure=False)
        except Exception as error:  # of whatever kind the library raises: the scheduler is gone
            raise EngineLost(str(error)) from error
        waits.asked = asked  # type: ignore[attr-defined]
        asked.add_done_callback(lambda done: self._told(done, waits))
        return waits

    def _told(self, asked: Any, waits: Future[Any]) -> None:
        with suppress(Exception):  # given up meanwhile
            if asked.status == "finished":
                waits.set_result(asked.result())
            elif asked.status == "error" and not isinstance(asked.exception(), self._lost_with):
                waits.set_exception(asked.exception())
            else:
                waits.set_exception(BrokenExecutor(f"its worker was lost ({asked.status})"))

    def seen(self, waits: Future[Any]) -> float | None:
        """As `Engine.seen`: what workers elsewhere do is not seen."""
        return None

    def give_up(self, waits: Future[Any]) -> None:
        """End the worker that works on a piece; another one is begun where there is somebody to do that."""
        asked = getattr(waits, "asked", None)
        if asked is not None:
            with suppress(Exception):
                at = [worker for worker, keys in self._client.processing().items() if asked.key in keys]
                self._client.cancel([asked], force=True)
                if at:
                    self._client.restart_workers(at, timeout=_SECONDS, raise_for_error=False)
        with suppress(Exception):
            waits.set_exception(BrokenExecutor("it was given up"))

    def map(self, work: Callable[[_P], _R], pieces: Iterable[_P], together: int = 1) -> Iterator[_R]:
        """As `Engine.map`."""
        return in_order(self, work, pieces)

    def close(self) -> None:
        """As `Engine.close`."""
        closing = threading.Thread(target=self._close, daemon=True)
        closing.start()
        closing.join(_SECONDS)

    def _close(self) -> None:
        with suppress(Exception):
            self._client.close(timeout=2)
        if self._cluster is not None:
            with suppress(Exception):
                self._cluster.close(timeout=5)


_ready: set[str] = set()


def _prepared(
    token: str, prepare: Callable[..., None], told: tuple[object, ...], work: Callable[[Any], Any], piece: Any
) -> Any:
    """A piece in a worker that is prepared for it, once."""
    if token not in _ready:
        prepare(*told)
        _ready.add(token)
    return work(piece)


def _version() -> str:
    return __version__
