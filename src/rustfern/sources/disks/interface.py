"""What the rooms of a disk agree on: bytes that can be read at any place, and what a file system records of one file."""

from __future__ import annotations

import io
import os
from abc import ABC, abstractmethod
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from typing import Protocol

import msgspec

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Trace

HOLE = -1
"""Stands for the place of bytes that were never written: they read as zeros."""
Extent = tuple[int, int]
"""Where bytes lie: (offset, length), both in bytes; the offset may be `HOLE`."""
LARGEST_READ = 64 << 20
"""Bytes that are read into memory at once, at most."""


class DiskBytes(Protocol):
    """Bytes that can be read at any place: a disk, or a volume on one. `size` and `sector` are in bytes."""

    size: int
    sector: int

    def read_at(self, offset: int, length: int) -> bytes:
        """The bytes from `offset` on, fewer only where the disk ends. Raises `SourceError` for what cannot be read."""

    def locate(self, offset: int, length: int) -> list[Extent]:
        """Where these bytes lie on the disk as a whole."""

    def is_hole(self, offset: int, length: int) -> bool:
        """Whether it is known without reading that all of these bytes are zeros, as they were never written."""


class Window:
    """A stretch of a disk, as bytes of its own: a partition."""

    def __init__(self, disk: DiskBytes, offset: int, size: int) -> None:
        self._disk, self._offset = disk, offset
        self.size = max(min(size, disk.size - offset), 0)
        self.sector = disk.sector

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        length = min(length, self.size - offset)
        return self._disk.read_at(self._offset + offset, length) if length > 0 and offset >= 0 else b""

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return self._disk.locate(self._offset + offset, length)

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        return self._disk.is_hole(self._offset + offset, length)


class Pieced(ABC):
    """Bytes that lie in pieces, here and there: `runs` tells where."""

    size: int
    sector: int

    @abstractmethod
    def runs(self, offset: int, length: int) -> list[tuple[DiskBytes, int, int]]:
        """(what they lie on, offset there, length) of these bytes in order, fewer only where they end."""

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        return b"".join(disk.read_at(at, count) for disk, at, count in self.runs(offset, length))

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return [extent for disk, at, count in self.runs(offset, length) for extent in disk.locate(at, count)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        return all(disk.is_hole(at, count) for disk, at, count in self.runs(offset, length))


def read_exactly(disk: DiskBytes, offset: int, length: int) -> bytes:
    """All of these bytes. Raises `Malformed` where the disk ends before them, or for a length that nothing can have."""
    if not 0 <= length <= LARGEST_READ or offset < 0:
        raise Malformed(f"a structure of {length} bytes is said to lie here", offset)
    data = disk.read_at(offset, length)
    if len(data) != length:
        raise Malformed("the disk ends in the middle of a structure", offset)
    return data


def windows(disk: DiskBytes, start: int, end: int, step: int) -> Iterator[tuple[int, bytes]]:
    """(offset, bytes) of what lies between two places, `step` bytes at a time; holes and what cannot be read are left out."""
    for at in range(start, min(end, disk.size), step):
        length = min(step, end - at)
        if disk.is_hole(at, length):
            continue
        try:
            yield at, disk.read_at(at, length)
        except SourceError:
            continue


class Stored(msgspec.Struct, frozen=True):
    """What a file system records of one file or folder.

    `size` is in bytes; times are in ns since 1970 (UTC). `extents` lie in the volume, in content order, None where the bytes do not lie as they
    are; `data` holds them where they lie in the record itself. `valid` is how many bytes were ever written: what follows reads as zeros. `local`
    says that `modified` is what the clock on the wall showed. `guessed` says that only the beginning is recorded, and the rest of `extents`
    was taken to follow it; `verified` that the check of its
    format bore that out. `note` is said with it; `unreadable` says why its content cannot be had.
    """

    size: int
    modified: int | None = None
    created: int | None = None
    changed: int | None = None
    extents: tuple[Extent, ...] | None = ()
    data: bytes | None = None
    valid: int | None = None
    mode: int = 0o600
    is_file: bool = True
    link_target: str | None = None
    encrypted: bool = False
    online_only: bool = False
    local: bool = False
    guessed: bool = False
    verified: bool = False
    note: str = ""
    unreadable: str = ""


class PlainFiles(ABC):
    """What holds where a file has one content, which lies as it is, and nothing but the tree tells of what is gone."""

    @abstractmethod
    def stored(self, key: int) -> Stored:
        """What is recorded of a file."""

    def ways(self, key: int) -> list[Stored]:
        """As `stored`: the record leaves no choice."""
        return [self.stored(key)]

    def places(self, key: int) -> tuple[Extent, ...]:
        """As `stored` says."""
        return self.stored(key).extents or ()

    def fold(self, name: str) -> str:
        """The form in which names are compared where their case does not matter."""
        return name.casefold()

    def streams(self, key: int) -> tuple[str, ...]:
        """None."""
        return ()

    def traces(self, folders: Sequence[int]) -> Iterator[Trace]:
        """None."""
        return iter(())

    def holds_its_own(self, key: int) -> bool:
        """Never."""
        return False


class FileStream(io.RawIOBase):
    """A file of `size` bytes that is read from wherever one likes; `read_here` gives its bytes."""

    def __init__(self, size: int) -> None:
        super().__init__()
        self._size, self._at = size, 0

    def readable(self) -> bool:
        """As `io.RawIOBase.readable`."""
        return True

    def seekable(self) -> bool:
        """As `io.RawIOBase.seekable`."""
        return True

    def tell(self) -> int:
        """As `io.RawIOBase.tell`."""
        return self._at

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        """As `io.RawIOBase.seek`."""
        base = {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: self._size}[whence]
        if base + offset < 0:
            raise ValueError("before the start of the file")
        self._at = base + offset
        return self._at

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        """As `io.RawIOBase.readinto`."""
        view = memoryview(buffer).cast("B")
        data = self.read_here(min(len(view), self._size - self._at))
        view[: len(data)] = data
        self._at += len(data)
        return len(data)

    def read_here(self, length: int) -> bytes:
        """Up to `length` bytes from where the stream stands, at least one where the file goes on."""
        raise io.UnsupportedOperation("read_here")


class ExtentStream(FileStream):
    """A file's bytes, put together from where they lie; holes, and what was never written, read as zeros."""

    def __init__(self, disk: DiskBytes, extents: Sequence[Extent], size: int, valid: int | None = None) -> None:
        super().__init__(size)
        self._disk, self._extents = disk, extents
        self._valid = size if valid is None else valid
        self._starts = []
        at = 0
        for _, length in extents:
            self._starts.append(at)
            at += length
        self._end = at

    def read_here(self, length: int) -> bytes:
        """Up to `length` bytes from where the stream stands, of one extent: as many as lie in one piece."""
        at = self._at
        length = min(length, self._size - at)
        if length <= 0:
            return b""
        if at >= self._valid or at >= self._end:
            # What a record gives no place for, and what was never written.
            return bytes(length) if at >= self._valid else b""
        length = min(length, self._valid - at)
        number = bisect_right(self._starts, at) - 1
        offset, size = self._extents[number]
        inner = at - self._starts[number]
        length = min(length, size - inner)
        if offset == HOLE:
            return bytes(length)
        return self._disk.read_at(offset + inner, length)


def on_disk(volume: DiskBytes, extents: Sequence[Extent], size: int) -> tuple[Extent, ...] | None:
    """Extents of a volume as ones of the disk, cut to the size of the file and joined where they touch; None if some were never written."""
    found: list[Extent] = []
    left = size
    for offset, length in extents:
        length = min(length, left)
        if length <= 0:
            break
        if offset == HOLE:
            return None
        left -= length
        for start, count in volume.locate(offset, length):
            if found and found[-1][0] + found[-1][1] == start:
                found[-1] = (found[-1][0], found[-1][1] + count)
            else:
                found.append((start, count))
    return tuple(found)
