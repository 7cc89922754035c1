"""Reading from disks that may be dying: errors and stalls are counted, and after a few of them nothing more is read.

Each further read of a failing disk can take what could still be saved from it: then an image comes first. Gently read, each byte is asked
for once at most, by one reader, from the first to the last.
"""

from __future__ import annotations

import errno
import io
import os
import time
from collections.abc import Callable
from contextlib import ExitStack
from typing import TYPE_CHECKING, BinaryIO, TypeVar

import msgspec

from rustfern.core.errors import SourceError
from rustfern.output.temporary import Scratch
from rustfern.sources.looked import Looked

if TYPE_CHECKING:
    from pathlib import Path

_T = TypeVar("_T")
_BAD = frozenset({errno.EIO, errno.ENXIO, errno.ENODEV, getattr(errno, "EREMOTEIO", errno.EIO), errno.ETIMEDOUT})
MAX_READ_ERRORS, STALL_SECONDS = 3, 30.0
"""Errors, and seconds of one read, from which on a disk is taken for failing."""
MAX_GENTLE_BYTES = 512 << 20
"""Gently read, larger files are left for the image."""
ADVICE = "make an image of this disk first, and search that"


class Health(msgspec.Struct):
    """What reading showed of the disks: device → errors and stalls; `where` the first file that could not be read."""

    troubles: dict[int, int] = msgspec.field(default_factory=dict)
    where: str = ""

    def reset(self) -> None:
        """Begin anew."""
        self.troubles.clear()
        self.where = ""

    def failing(self, device: int | None = None) -> bool:
        """Whether a disk (or any) returned more errors than allowed, so that it must not be read any more."""
        return any(count >= MAX_READ_ERRORS for key, count in self.troubles.items() if device in (None, key))

    def note(self, device: int, path: str) -> None:
        """One error, or a read that took very long."""
        self.troubles[device] = self.troubles.get(device, 0) + 1
        self.where = self.where or path

    def check(self, device: int, path: str) -> None:
        """Raises `SourceError` for a disk that must not be read any more."""
        if self.troubles and self.failing(device):
            raise SourceError("not read, as its disk returned several errors", path, f"Stop, and {ADVICE}")

    def note_error(self, error: OSError, path: str) -> None:
        """Count an error of the system, if it is one of the disk."""
        if error.errno in _BAD:
            try:
                device = os.lstat(path).st_dev
            except OSError:
                device = 0
            self.note(device, path)


class Watched(io.FileIO):
    """An open file whose errors and stalls are counted."""

    def __init__(self, handle: int, path: str, health: Health) -> None:
        super().__init__(handle, "rb")
        self._path, self._device, self._health = path, os.fstat(handle).st_dev, health

    def readinto(self, buffer: bytearray | memoryview) -> int | None:  # type: ignore[override]
        """As `io.RawIOBase.readinto`."""
        return self._watch(lambda: io.FileIO.readinto(self, buffer))

    def readall(self) -> bytes:
        """As `io.RawIOBase.readall`."""
        found = self._watch(lambda: io.FileIO.readall(self))
        return found or b""

    def _watch(self, read: Callable[[], _T]) -> _T:
        began = time.monotonic()
        try:
            return read()
        except OSError as error:
            if error.errno in _BAD:
                self._health.note(self._device, self._path)
            raise
        finally:
            if time.monotonic() - began > STALL_SECONDS:
                self._health.note(self._device, self._path)


Reader = Callable[[int, str, Health], io.RawIOBase]
"""What reads an open file: another one can be put in its place to see what faults do."""


class ReadOnceCache:
    """Keeps what was read in a private folder, so that no byte is asked for twice."""

    def __init__(self, scratch: Scratch) -> None:
        self._scratch = scratch
        self.is_on = False
        """Whether disks are read gently now."""
        self._open = ExitStack()
        self._folder: Path | None = None
        self._known: dict[str, str | SourceError] = {}

    def begin(self) -> None:
        """Read gently from now on."""
        self.is_on = True

    def end(self) -> None:
        """Forget what was read."""
        self.is_on = False
        self._open.close()
        self._folder = None
        self._known.clear()

    def taken(self, path: str) -> BinaryIO | None:
        """What was read of a file already, so that its disk is not asked again. Raises `SourceError` where that failed."""
        found = self._known.get(path)
        if isinstance(found, SourceError):
            raise SourceError(found.what, found.where, found.next_step)
        return None if found is None else open(found, "rb")  # noqa: PTH123

    def through(self, stream: BinaryIO, path: str) -> BinaryIO:
        """The same bytes, read once at most. Raises `SourceError` where they cannot be read, or are too many."""
        if not self.is_on:
            return stream
        with stream:
            if self._folder is None:
                self._folder = self._open.enter_context(self._scratch.private_folder())
            size = os.fstat(stream.fileno()).st_size
            self._known[path] = self._take(stream, path, size, self._folder / str(len(self._known)))
        found = self.taken(path)
        assert found is not None
        return found

    @staticmethod
    def _take(stream: BinaryIO, path: str, size: int, target: Path) -> str | SourceError:
        """Where the bytes of a file are kept, or why they are not: what failed once is not asked for again."""
        if size > MAX_GENTLE_BYTES:
            return SourceError(f"not read gently: it has {size} bytes", path, "Read it from an image")
        try:
            with target.open("xb") as out:
                while True:
                    try:
                        chunk = stream.read(1 << 20)
                    except OSError as error:
                        return SourceError(f"reading failed ({(error.strerror or '').lower()})", path)
                    if not chunk:
                        return str(target)
                    out.write(chunk)
        except OSError as error:
            said = f"there is no room to keep what was read ({(error.strerror or '').lower()})"
            return SourceError(said, str(target.parent), "Free space there, or set TMPDIR to a folder elsewhere")


class DiskAccess:
    """How the disks of one session are read: their health, whether gently, where private copies are made."""

    def __init__(self, scratch: Scratch | None = None, reader: Reader = Watched) -> None:
        self.scratch = scratch or Scratch()
        self.health = Health()
        self.gentle = ReadOnceCache(self.scratch)
        self.reader = reader
        self.looked: Looked | None = None
        """Where is noted what is looked at, if that is asked for."""

    def __reduce__(self) -> tuple[type[DiskAccess], tuple[Scratch, Reader]]:
        """What another process needs to know: what was counted and taken here stays here."""
        return DiskAccess, (self.scratch, self.reader)
