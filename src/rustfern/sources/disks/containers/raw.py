"""Raw images, one or in parts, and devices: the bytes of the disk as they are."""

from __future__ import annotations

import errno
import os
import stat
import struct
import sys
import weakref
from bisect import bisect_right
from collections.abc import Sequence

from rustfern.core.errors import SourceError, explain
from rustfern.sources.disk_health import ADVICE, Health
from rustfern.sources.disks.interface import Extent

_FLAGS = os.O_RDONLY | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0) | getattr(os, "O_NONBLOCK", 0)
_BAD = frozenset({errno.EIO, errno.ENXIO, errno.ENODEV, errno.ETIMEDOUT, getattr(errno, "EREMOTEIO", errno.EIO)})
_PAGE = 4096
"""Devices of some systems are read in whole sectors only: a page is a multiple of all of them."""
_BLOCK_SIZE, _SECTOR_SIZE = 0x80081272, 0x1268
"""Linux ioctls BLKGETSIZE64 and BLKSSZGET (linux/fs.h)."""
_MAC_BLOCKS, _MAC_BLOCK_SIZE = 0x40086419, 0x40046418
"""macOS ioctls DKIOCGETBLOCKCOUNT and DKIOCGETBLOCKSIZE (sys/disk.h)."""


def is_device_name(path: str) -> bool:
    """Whether the name alone says that this is a device, of which the system gives no facts: on Windows."""
    return sys.platform == "win32" and path.replace("/", "\\").startswith("\\\\.\\")


def is_device(path: str) -> bool:
    """Whether a path names a disk or a volume itself, not a file."""
    if is_device_name(path):
        return True
    try:
        mode = os.stat(path).st_mode
    except (OSError, ValueError):
        return False
    return stat.S_ISBLK(mode) or (sys.platform == "darwin" and stat.S_ISCHR(mode) and "/rdisk" in path)


class PatientHealth(Health):
    """For a copy of a failing disk: errors are expected, and end nothing."""

    def check(self, device: int, path: str) -> None:
        """Never raises."""


class RawDisk:
    """A raw image or a device, open for reading. Errors and stalls of the disk that it lies on are counted."""

    def __init__(self, path: str, health: Health | None = None) -> None:
        """Raises `SourceError` for what cannot be opened."""
        self.path, self._health = path, health or Health()
        self.device = is_device(path)
        try:
            try:
                self._handle = os.open(path, _FLAGS | getattr(os, "O_NOATIME", 0))
            except PermissionError:
                self._handle = os.open(path, _FLAGS)  # only the owner may ask that the access time stays
        except OSError as error:
            raise _not_opened(error, path, device=self.device) from error
        weakref.finalize(self, os.close, self._handle)
        facts = os.fstat(self._handle)
        self._number = getattr(facts, "st_rdev", 0) if self.device else facts.st_dev
        self.sector = 512
        self._aligned = self.device and not sys.platform.startswith("linux")
        try:
            self.size = self._device_size() if self.device else facts.st_size
        except OSError as error:
            raise SourceError(f"the size of this device could not be found ({explain(error)})", path) from error

    def _device_size(self) -> int:
        if sys.platform == "win32":
            return self._windows_size()
        import fcntl

        def asked(request: int, form: str) -> int:
            return int(struct.unpack(form, fcntl.ioctl(self._handle, request, bytes(struct.calcsize(form))))[0])

        if sys.platform == "darwin":
            self.sector = asked(_MAC_BLOCK_SIZE, "I")
            return asked(_MAC_BLOCKS, "Q") * self.sector
        self.sector = asked(_SECTOR_SIZE, "I")
        return asked(_BLOCK_SIZE, "Q")

    def _windows_size(self) -> int:
        """The last sector that can be read: seeking to the end of a device is not promised there."""
        low, high = 0, 1 << 50
        while high - low > _PAGE:
            middle = (low + high) // 2 // _PAGE * _PAGE
            try:
                there = bool(self._read(middle, _PAGE))
            except OSError:
                there = False
            low, high = (middle, high) if there else (low, middle)
        return low + _PAGE

    def _read(self, offset: int, length: int) -> bytes:
        if sys.platform != "win32":
            return os.pread(self._handle, length, offset)
        os.lseek(self._handle, offset, os.SEEK_SET)
        return os.read(self._handle, length)

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        length = min(length, self.size - offset)
        if length <= 0 or offset < 0:
            return b""
        if self._aligned:
            start = offset // _PAGE * _PAGE
            end = -(-(offset + length) // _PAGE) * _PAGE
            return self._all(start, end - start)[offset - start :][:length]
        return self._all(offset, length)

    def _all(self, offset: int, length: int) -> bytes:
        self._health.check(self._number, self.path)
        try:
            data = self._read(offset, length)
            while len(data) < length:
                more = self._read(offset + len(data), length - len(data))
                if not more:
                    break
                data += more
        except OSError as error:
            if error.errno in _BAD:
                self._health.note(self._number, self.path)
            where = f"bytes {offset} to {offset + length - 1} of this disk could not be read ({explain(error)})"
            raise SourceError(where, self.path, ADVICE[0].upper() + ADVICE[1:]) from error
        if len(data) < length and not self._aligned:
            raise SourceError(
                f"it ends at byte {offset + len(data)} now, and had {self.size} bytes when it was opened",
                self.path,
                "Look whether it is still being copied, or was pulled out",
            )
        return data

    def copy_to(self, handle: int, offset: int, length: int) -> bool | None:
        """Have the system copy bytes to the same place of another file, holes left out; None where it cannot, False where they cannot be read."""
        if self.device or not sys.platform.startswith("linux"):
            return None
        at, end = offset, offset + length
        try:
            while at < end:
                at = os.lseek(self._handle, at, os.SEEK_DATA)
                hole = min(os.lseek(self._handle, at, os.SEEK_HOLE), end)
                while at < hole:
                    done = os.copy_file_range(self._handle, handle, hole - at, at, at)
                    if not done:
                        return False
                    at += done
        except OSError as error:
            if error.errno == errno.ENXIO:
                return True  # nothing but a hole is left
            return False if error.errno in _BAD else None
        return True

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        if self.device or sys.platform == "win32":
            return False
        try:
            return os.lseek(self._handle, offset, os.SEEK_DATA) >= offset + length
        except OSError as error:
            return error.errno == errno.ENXIO  # nothing but holes from here on


class JoinedDisk:
    """The parts of a split image, one behind the other."""

    sector = 512

    def __init__(self, parts: Sequence[RawDisk]) -> None:
        self._parts = parts
        self._starts: list[int] = []
        self.size = 0
        for part in parts:
            self._starts.append(self.size)
            self.size += part.size

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        length = min(length, self.size - offset)
        if length <= 0 or offset < 0:
            return b""
        number = bisect_right(self._starts, offset) - 1
        pieces = []
        while length > 0:
            piece = self._parts[number].read_at(offset - self._starts[number], length)
            pieces.append(piece)
            offset, length, number = offset + len(piece), length - len(piece), number + 1
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        number = bisect_right(self._starts, offset) - 1
        inner = offset - self._starts[number]
        part = self._parts[number]
        return inner + length <= part.size and part.is_hole(inner, length)


def _not_opened(error: OSError, path: str, *, device: bool) -> SourceError:
    if isinstance(error, PermissionError):
        following = "Ask for the right to read it"
        if device and sys.platform == "win32":
            following = "Start the command line as administrator, and type the same again"
        elif device:
            following = f"Type: sudo rustfern scan {path}"
        return SourceError("this disk may not be read", path, following)
    return SourceError(f"this disk could not be opened ({explain(error)})", path)


def parts_of(path: str) -> list[str]:
    """The parts of a split raw image (`.001`, `.002` … beside each other), the first given; only itself if there are no others."""
    stem, _, number = path.rpartition(".")
    if not stem or not number.isdigit() or len(number) < 3 or int(number) > 1:
        return [path]
    found = [path]
    while os.path.isfile(more := f"{stem}.{int(number) + len(found):0{len(number)}}"):
        found.append(more)
    return found
