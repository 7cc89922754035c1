"""How work goes on, told to whoever watches: the core never prints."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol


class Observer(Protocol):
    """Told how the scan goes on; prints or does nothing."""

    def stage(self, text: str) -> None:
        """A new stage begins."""

    def count(self, files: int) -> None:
        """Files seen so far."""

    def so_far(self, lines: Sequence[str]) -> None:
        """What is known before the whole tree was walked."""

    def going(self, text: str) -> None:
        """How far long work is, in words that replace those before."""


class Silent:
    """An observer that says nothing."""

    def stage(self, text: str) -> None: ...

    def count(self, files: int) -> None: ...

    def so_far(self, lines: Sequence[str]) -> None: ...

    def going(self, text: str) -> None: ...
