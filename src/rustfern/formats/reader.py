"""Reads from a place, never beyond the end: what is shorter than it must be is refused, with where it ends."""

from __future__ import annotations

import struct
from typing import Any, BinaryIO, Literal

from rustfern.core.errors import Malformed


class ByteReader:
    """Bytes of a seekable stream of `size` bytes. `cut` is what is said of one that stops too early: a sentence with `{}` for the part that
    is cut; numbers are read in `order`.
    """

    def __init__(
        self,
        stream: BinaryIO,
        size: int,
        cut: str = "the file ends inside {}",
        order: Literal["little", "big"] = "little",
    ) -> None:
        self.stream, self.size, self.order = stream, size, order
        self._cut = cut

    def upto(self, at: int, count: int) -> bytes:
        """Bytes from a place on, as many of `count` as there are."""
        if not 0 <= at < self.size or count <= 0:
            return b""
        self.stream.seek(at)
        return self.stream.read(min(count, max(self.size - at, 0)))

    def exactly(self, at: int, count: int, what: str) -> bytes:
        """Exactly `count` bytes of a part that is called `what`. Raises `Malformed` where there are fewer."""
        data = self.upto(at, count)
        if len(data) != count:
            raise Malformed(self._cut.format(what), max(min(at, self.size), 0) + len(data))
        return data

    def number(self, at: int, count: int, what: str) -> int:
        """A number without sign of `count` bytes. Raises `Malformed` where there are fewer."""
        return int.from_bytes(self.exactly(at, count, what), self.order)

    def unpack(self, form: str, at: int, what: str) -> tuple[Any, ...]:
        """Numbers as `struct` describes them. Raises `Malformed` where bytes are missing."""
        return struct.unpack(form, self.exactly(at, struct.calcsize(form), what))
