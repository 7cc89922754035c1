"""What containers with a map share: bytes put together from blocks of one size, of which some are not there."""

from __future__ import annotations

from array import array
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from rustfern.sources.disks.interface import Extent

Find = Callable[[int], "int | bytes | None"]
"""What stands for a block of the disk: its offset in the file, its bytes where they are packed, None if it was never written."""


def followed(places: NDArray[np.int64], step: int) -> array[int]:
    """For each block of a table, how many from it on, itself counted, follow each other in the file; places below 1 follow nothing."""
    follows = np.zeros(len(places), bool)
    follows[:-1] = (places[:-1] > 0) & (places[1:] == places[:-1] + step)
    ends = np.where(follows, len(places), np.arange(len(places)))
    return kept(np.minimum.accumulate(ends[::-1])[::-1] - np.arange(len(places)) + 1)


def kept(numbers: NDArray[np.int64] | NDArray[np.uint64]) -> array[int]:
    """Numbers of 8 bytes that are asked for one by one: an array gives them fastest, a list takes five times its room."""
    found = array("q" if numbers.dtype.kind == "i" else "Q")
    found.frombytes(numbers.tobytes())
    return found


class BlockDisk:
    """A disk in blocks of `block` bytes; `find` says where each lies in the file that `read` reads. Neighbours are read at once."""

    sector = 512

    def __init__(
        self,
        size: int,
        block: int,
        find: Find,
        read: Callable[[int, int], bytes],
        together: Callable[[int], int] | None = None,
    ) -> None:
        """`together` tells how many blocks from one on, itself counted, follow each other in the file, where that is known."""
        self.size, self._block, self._find, self._read = size, block, find, read
        self._together = together

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        length = min(length, self.size - offset)
        if length <= 0 or offset < 0:
            return b""
        block = self._block
        number, inner = divmod(offset, block)
        if inner + length <= block:
            return self._piece(self._find(number), inner, length)
        end = offset + length
        together = self._together
        whole = self._find(number) if together is not None else None
        if together is not None and isinstance(whole, int) and together(number) * block >= inner + length:
            return self._piece(whole, inner, length)
        pieces: list[bytes] = []
        while offset < end:
            number, inner = divmod(offset, block)
            count = min(block - inner, end - offset)
            there = self._find(number)
            if isinstance(there, int) and self._together is not None:
                count = min(self._together(number) * block - inner, end - offset)
            elif isinstance(there, int):
                # Blocks that follow each other in the file too are one read.
                while offset + count < end and self._find(number + 1) == there + inner + count:
                    number += 1
                    count += min(block, end - offset - count)
            pieces.append(self._piece(there, inner, count))
            offset += count
        return b"".join(pieces)

    def _piece(self, there: int | bytes | None, inner: int, count: int) -> bytes:
        if there is None:
            return bytes(count)
        if isinstance(there, bytes):
            return there[inner : inner + count].ljust(count, b"\0")
        return self._read(there + inner, count).ljust(count, b"\0")

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        last = (min(offset + length, self.size) - 1) // self._block
        return all(self._find(number) is None for number in range(offset // self._block, last + 1))
