"""Snapshots of LVM volumes: a volume as it was, put together from the chunks that were kept when they were written over.

Source: the Linux documentation of the device mapper (snapshot: persistent exception store) and its layout on disk: a header, then areas of
exceptions, each before the chunks that it tells of.
"""

from __future__ import annotations

import struct

import numpy as np

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.interface import DiskBytes, Pieced, read_exactly

_MAGIC, _VERSION = 0x70416E53, 1
_EXCEPTION = np.dtype([("old", "<u8"), ("new", "<u8")])
_MOST_EXCEPTIONS = 32_000_000


class Snapshot(Pieced):
    """One volume at an earlier time. What was not kept was never written over since, and lies on the volume itself."""

    def __init__(self, origin: DiskBytes, store: DiskBytes, chunk: int) -> None:
        """`chunk` in bytes. Raises `Malformed`, and `SourceError` where the snapshot ran full and is of no use any more."""
        self._origin, self._store = origin, store
        self.size, self.sector = origin.size, origin.sector
        magic, valid, version, sectors = struct.unpack("<4I", read_exactly(store, 0, 16))
        if magic != _MAGIC or version != _VERSION:
            raise Malformed("its store has no header", 0)
        if not valid:
            raise SourceError("it ran full, and what it kept is not whole any more")
        self._chunk = sectors * 512
        if self._chunk != chunk or not 512 <= chunk <= 1 << 27 or chunk & (chunk - 1):
            raise Malformed("its chunks have a size that cannot be", 0)
        self._kept: dict[int, int] | None = None

    def forget(self) -> None:
        """Let go of the table; it is read again when it is needed."""
        self._kept = None

    def _exceptions(self) -> dict[int, int]:
        """Chunk of the volume → chunk of the store."""
        if self._kept is None:
            kept: dict[int, int] = {}
            each, area = self._chunk // 16, 0
            while True:
                at = (1 + area * (each + 1)) * self._chunk
                if at + self._chunk > self._store.size or len(kept) > _MOST_EXCEPTIONS:
                    break
                rows = np.frombuffer(read_exactly(self._store, at, self._chunk), _EXCEPTION)
                ended = np.flatnonzero(rows["new"] == 0)
                rows = rows[: int(ended[0])] if len(ended) else rows
                if (rows["new"] >= self._store.size // self._chunk).any():
                    raise Malformed("an area of its exceptions is damaged", at)
                kept.update(zip(rows["old"].tolist(), rows["new"].tolist(), strict=True))
                if len(ended):
                    break
                area += 1
            self._kept = kept
        return self._kept

    def runs(self, offset: int, length: int) -> list[tuple[DiskBytes, int, int]]:
        """As `Pieced.runs`."""
        kept, found = self._exceptions(), list[tuple[DiskBytes, int, int]]()
        end = min(offset + length, self.size)
        while 0 <= offset < end:
            number, inner = divmod(offset, self._chunk)
            count = min(self._chunk - inner, end - offset)
            new = kept.get(number)
            disk, at = (self._origin, offset) if new is None else (self._store, new * self._chunk + inner)
            if found and found[-1][0] is disk and found[-1][1] + found[-1][2] == at:
                found[-1] = disk, found[-1][1], found[-1][2] + count
            else:
                found.append((disk, at, count))
            offset += count
        return found
