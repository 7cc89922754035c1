"""Copies a disk, a failing one too: what reads well first, in large pieces, then the rest in smaller ones, forwards and backwards.

Beside the image lies a list of what could not be read. Run again with the same target, it goes on where it stopped.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from datetime import UTC, datetime

import msgspec

from rustfern.core.errors import SourceError, WrongUsage, explain
from rustfern.core.observer import Observer
from rustfern.core.times import stamp
from rustfern.operations.session import Session
from rustfern.operations.targets import check_space, check_target, outside_searched, write_over
from rustfern.output.atomic import open_own
from rustfern.sources.disks.containers.raw import PatientHealth, RawDisk
from rustfern.sources.disks.containers.registry import open_container
from rustfern.sources.disks.interface import DiskBytes
from rustfern.sources.disks.unread import LIST_ENDING, SCHEMA, Ranges

_LARGE, _PIECES = 4 << 20, ((1 << 16, True), (1 << 12, False), (512, True))
"""Bytes of one read of the first pass; of the further ones, and whether they go backwards."""
_LARGEST = 64 << 20
"""The same where the system itself copies from file to file."""
_ZEROS = bytes(_LARGE)
_MOST_SKIPPED = 256 << 20
_LIST_SECONDS = 5.0


class DiskCopy(msgspec.Struct, frozen=True):
    """What was copied: the image and the list beside it, sizes in bytes, and what could not be read: (offset, length)."""

    source: str
    image: str
    listing: str
    size: int
    read: int
    before: int
    unread: tuple[tuple[int, int], ...]
    stopped: bool
    seconds: float


def copy_disk(root: str, folder: str, session: Session | None = None, observer: Observer | None = None) -> DiskCopy:
    """Copy the disk that a root names into an image in `folder`.

    Raises `WrongUsage` for a target that cannot be used, or that lies on the disk itself, `SourceError` for a disk that cannot be opened.
    """
    session = session or Session()
    observer = observer or session.observer
    # Its volumes are not looked at: each read can be one of the last.
    form, content = open_container(root, PatientHealth())
    outside_searched(folder, [root])
    real = check_target(folder, [root])
    name = os.path.basename(root.rstrip("/\\")) or "disk"
    image = os.path.join(real, name if "." in name and form == "raw" else f"{name.partition('.')[0]}.img")
    work = _Copying(root, content, image, observer)
    check_space(real, work.needed)
    return work.run()


class _Copying:
    def __init__(self, root: str, disk: DiskBytes, image: str, observer: Observer) -> None:
        self.root, self.disk, self.image, self.observer = root, disk, image, observer
        self.listing = image + LIST_ENDING
        self.left = Ranges([(0, disk.size)])
        self.before = 0
        self.started = time.monotonic()
        self.told = 0.0
        self._continue()

    @property
    def needed(self) -> int:
        """Bytes that are still to be written."""
        return self.left.total()

    def _continue(self) -> None:
        """Take up the list of an earlier run. Raises `WrongUsage` where a file of that name is another's."""
        try:
            handle = open_own(self.image, os.O_RDONLY)
        except FileNotFoundError:
            return
        except OSError as error:
            raise WrongUsage(
                f"the image cannot be written ({explain(error)})", self.image, "Name another folder"
            ) from error
        os.close(handle)
        known = Ranges.read(self.listing)
        if known is None or known.size != self.disk.size or known.source != self.root:
            raise WrongUsage(
                "there is a file of this name already that is no image of this disk",
                self.image,
                "Name another folder with --to DIR",
            )
        self.left = known
        self.before = self.disk.size - known.total()

    def run(self) -> DiskCopy:
        """All passes. An interrupt ends them; the list then says what is left."""
        stopped = False
        handle = open_own(self.image, os.O_RDWR | os.O_CREAT)
        try:
            os.ftruncate(handle, self.disk.size)
            self._write_list()
            try:
                self.observer.stage("copying what reads well")
                self._forward(handle)
                for size, backwards in _PIECES:
                    if self.left.total():
                        self.observer.stage(f"trying the rest again, {max(size, self.disk.sector)} bytes at a time")
                        self._again(handle, max(size, self.disk.sector), backwards=backwards)
            except KeyboardInterrupt:
                stopped = True
            os.fsync(handle)
        finally:
            os.close(handle)
            self._write_list()
        read = self.disk.size - self.left.total() - self.before
        seconds = round(time.monotonic() - self.started, 1)
        return DiskCopy(
            self.root, self.image, self.listing, self.disk.size, read, self.before, tuple(self.left), stopped, seconds
        )

    def _forward(self, handle: int) -> None:
        """Large pieces; behind one that cannot be read a growing stretch is left for later."""
        for start, length in list(self.left):
            at, end, skip = start, start + length, _LARGE
            large = _LARGEST if isinstance(self.disk, RawDisk) and not self.disk.device else _LARGE
            while at < end:
                count = min(large, end - at)
                if self._take(handle, at, count):
                    at, skip = at + count, _LARGE
                else:
                    at, skip = at + skip, min(2 * skip, _MOST_SKIPPED)

    def _again(self, handle: int, size: int, *, backwards: bool) -> None:
        for start, length in _ordered(list(self.left), backwards=backwards):
            places = range(start // size * size, start + length, size)
            for at in reversed(places) if backwards else places:
                first, last = max(at, start), min(at + size, start + length)
                self._take(handle, first, last - first)

    def _take(self, handle: int, at: int, count: int) -> bool:
        if not self._taken(handle, at, count):
            return False
        self.left.take(at, count)
        now = time.monotonic()
        if now - self.told > _LIST_SECONDS:
            self.told = now
            self.observer.count((self.disk.size - self.left.total()) >> 20)
            self._write_list()
        return True

    def _taken(self, handle: int, at: int, count: int) -> bool:
        """Whether a piece was read, and is in the image now; zeros stay holes in it."""
        if isinstance(self.disk, RawDisk) and (copied := self.disk.copy_to(handle, at, count)) is not None:
            return copied
        try:
            data = self.disk.read_at(at, count)
        except SourceError:
            return False
        if len(data) != count:
            return False
        if data != _ZEROS[:count]:
            view = memoryview(data)
            done = 0
            os.lseek(handle, at, os.SEEK_SET)
            while done < count:
                done += os.write(handle, view[done:])
        return True

    def _write_list(self) -> None:
        told = {
            "schema": SCHEMA,
            "source": self.root,
            "size": self.disk.size,
            "sector": self.disk.sector,
            "at": stamp(datetime.now(UTC)),
            "unread": [list(each) for each in self.left],
        }
        write_over(self.listing, json.dumps(told, indent=1).encode() + b"\n")


def _ordered(ranges: list[tuple[int, int]], *, backwards: bool) -> Iterator[tuple[int, int]]:
    return reversed(ranges) if backwards else iter(ranges)
