"""What the reader of an extent gives: how far a document reaches, and whether it reaches its end."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import msgspec


class Bytes(Protocol):
    """Bytes from the first of a document on, as far as there are any; what follows it is among them."""

    def __len__(self) -> int: ...
    def __getitem__(self, at: slice) -> bytes: ...
    def find(self, what: bytes, start: int = 0, stop: int | None = None) -> int:
        """Where `what` is first found, -1 if nowhere."""


class Reach(msgspec.Struct, frozen=True):
    """How far a document reaches by its structure.

    `end` is its size in bytes where it `is_complete`; else up to where it could be followed, and `reason` says what is missing. `proven` bytes
    from the first on are borne out by sums, chains or marks that nothing foreign has. `least` is the size that the structure says it has, 0
    if it does not say. Not `is_shown`: nothing shows that a text ends where its bytes turn into something else.
    """

    end: int
    is_complete: bool
    reason: str = ""
    proven: int = 0
    least: int = 0
    is_shown: bool = True


Measure = Callable[[Bytes], Reach | None]
"""Measures a document that begins with the first byte; None where this is none of its format after all."""


def whole(end: int) -> Reach:
    """A document that reaches its end."""
    return Reach(end, is_complete=True, proven=end, least=end)


def broken(end: int, reason: str, proven: int = 0, least: int = 0) -> Reach:
    """A document that stops before its end."""
    return Reach(end, is_complete=False, reason=reason, proven=min(proven, end), least=least)


def within(data: Bytes, end: int, proven: int) -> Reach:
    """One whose structure gives its size: whole if there are so many bytes."""
    if end <= len(data):
        return whole(end)
    return broken(len(data), f"{end - len(data)} of its {end} bytes are not here", proven, end)
