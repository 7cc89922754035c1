"""What runs pieces of work that do not need each other: each is a function of one value, both of which can be sent to another process."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from typing import Any, Protocol, TypeVar

_P = TypeVar("_P")
_R = TypeVar("_R")


class EngineLost(Exception):
    """What ran the pieces is gone; those that it has not answered must be done elsewhere."""


class Engine(Protocol):
    """Runs pieces of work."""

    @property
    def workers(self) -> int:
        """How many it runs at a time."""

    def submit(self, work: Callable[[_P], _R], piece: _P) -> Future[_R]:
        """Begin one piece. Raises `EngineLost`; so does the answer's `result`, as `BrokenExecutor`."""

    def map(self, work: Callable[[_P], _R], pieces: Iterable[_P], together: int = 1) -> Iterator[_R]:
        """The results in the order of the pieces, `together` of which are sent at once. Raises `EngineLost`."""

    def seen(self, waits: Future[Any]) -> float | None:
        """What changes as long as something comes of a piece (what its process computed, read and wrote); None where that cannot be seen."""

    def give_up(self, waits: Future[Any]) -> None:
        """Have a piece that takes too long end, with what works on it."""

    def close(self) -> None:
        """Stop at once: what is not answered is given up."""
