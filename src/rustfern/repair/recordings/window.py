"""The bytes of a large file, read forwards in large pieces."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import BinaryIO

_PIECE = 8 << 20
MADE = 1 << 62
"""Places from here on are of bytes that were made, not read."""


class Window:
    """Bytes of a stream at any place; those behind one that was asked for are at hand."""

    def __init__(self, stream: BinaryIO, size: int) -> None:
        self._stream, self.size = stream, size
        self._piece = _PIECE
        self._start = 0
        self._held = b""
        self._made = bytearray()

    def keep(self, made: bytes) -> int:
        """The place at which bytes that were made are given."""
        self._made += made
        return MADE + len(self._made) - len(made)

    @contextmanager
    def reading(self, count: int) -> Iterator[None]:
        """In here so many bytes are read at a time: for a look here and there."""
        self._piece, before = count, self._piece
        try:
            yield
        finally:
            self._piece = before

    def at(self, place: int, count: int) -> bytes:
        """So many bytes, fewer where the file ends."""
        if place >= MADE:
            return bytes(self._made[place - MADE : place - MADE + count])
        count = min(count, self.size - place)
        if count <= 0 or place < 0:
            return b""
        inner = place - self._start
        if inner < 0 or inner + count > len(self._held):
            self._held = b""  # not both at a time
            self._stream.seek(place)
            self._held = self._stream.read(max(self._piece, count))
            self._start, inner = place, 0
        return self._held[inner : inner + count]

    def hold(self, place: int, count: int) -> tuple[bytes, int]:
        """As `at`, mostly without a copy: some bytes, and where in them those that were asked for begin."""
        inner = place - self._start
        if 0 <= inner <= len(self._held) - count:
            return self._held, inner
        return self.at(place, count), 0

    def from_(self, place: int, most: int = _PIECE) -> bytes:
        """What is at hand from a place on, at least something where the file has it."""
        inner = place - self._start
        if not 0 <= inner < len(self._held):
            self.at(place, min(most, self._piece))
            inner = place - self._start
        return self._held[inner : inner + most]
