"""Writes what is taken to safety: each file under a fresh name, synced, read back, and only then named and noted.

Large files are verified while the next one is read; small ones are written, synced and verified many at a time, while the next are read.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import itertools
import json
import os
import shutil
import stat
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from typing import TYPE_CHECKING, BinaryIO, TextIO

import msgspec

from rustfern.content import open as contents
from rustfern.core.errors import RustFernError, SourceError, WrongUsage, explain
from rustfern.core.model import Entry, Problem
from rustfern.core.paths import inside
from rustfern.core.remarks import Notice
from rustfern.operations.targets import names_in
from rustfern.output.atomic import lock, sync_together
from rustfern.output.folder import Folder, permitted
from rustfern.output.temporary import clean, fresh_name
from rustfern.sources.kept_folder import EARLIER, FILES, MANIFEST, inner_parts, is_kept, read_files, read_head
from rustfern.sources.registry import Sources

if TYPE_CHECKING:
    from hashlib import _Hash as Digest

_CHUNK_BYTES = 1 << 20
_MAX_READS = 3
_FOLDER_MODE = 0o700
_SMALL_BYTES = 1 << 20
_TOGETHER, _TOGETHER_BYTES, _SECONDS = 64, 8 << 20, 0.5
"""Small files that are written together, and how long one waits for others at most: what was read must soon have its name."""


class Keeping(msgspec.Struct):
    """What came of it. `changing` are paths that were still being written, `earlier` where versions lie that an earlier run had kept and
    that have changed since; sizes in bytes.
    """

    folder: str
    taken: int = 0
    before: int = 0
    bytes: int = 0
    left: list[str] = msgspec.field(default_factory=list)
    changing: list[str] = msgspec.field(default_factory=list)
    earlier: list[str] = msgspec.field(default_factory=list)
    problems: list[Problem] = msgspec.field(default_factory=list)
    warnings: list[Notice] = msgspec.field(default_factory=list)
    by_kind: dict[str, int] = msgspec.field(default_factory=dict)


class Wanted(msgspec.Struct, frozen=True):
    """One thing to be taken: what it is to its document, and its place in the order (the lowest first)."""

    entry: Entry
    kind: str
    order: float


class _Held(msgspec.Struct):
    """A small file that was read, and is still to be written; `stamp` in ns since 1970."""

    entry: Entry
    kind: str
    relative: str
    data: bytes
    sha256: str
    stamp: int


class _Written(msgspec.Struct):
    """A file that was read and written as `part` in `folder`, still to be verified and to be called by the last part of `relative`; `stamp` in ns
    since 1970, `size` in bytes. `handle` is that of what was written.
    """

    entry: Entry
    kind: str
    folder: Folder
    relative: str
    part: str
    handle: int
    sha256: str
    stamp: int
    size: int
    is_named: bool = False

    def drop(self) -> None:
        """Let it go: what has no name by then is removed."""
        with contextlib.suppress(OSError):
            os.close(self.handle)
        if not self.is_named:
            self.folder.remove(self.part)


class Keeper:
    """Writes files and their manifest lines; what is there already and verified is not taken again.

    Everything is made relative to the open target: what is swapped for a link meanwhile leads nowhere.
    """

    def __init__(self, door: Sources, target: str, base: str, out: Keeping) -> None:
        self.door, self.target, self.base, self.out = door, target, base, out
        self.done: set[str] = set()
        self._folders: set[str] = set()
        self._cleaned: set[str] = set()
        self._lines: TextIO | None = None
        self._full = False
        self._aside = ThreadPoolExecutor(1)
        self._pending: tuple[_Written, Future[str]] | None = None
        self._small: list[_Held] = []
        self._since, self._small_bytes = 0.0, 0
        self._storing: Future[None] | None = None
        self._top: Folder
        self._open: dict[str, Folder] = {}
        self._prefix = base if base.endswith(os.sep) else base + os.sep

    @contextlib.contextmanager
    def manifest(self, head: dict[str, object]) -> Iterator[None]:
        there = is_kept(self.target)
        if there:
            if read_head(self.target).base != self.base:
                raise WrongUsage("this folder keeps files of another search", self.target, "Name another with --to DIR")
        elif names_in(self.target) - {MANIFEST}:
            raise WrongUsage("the target is not empty", self.target, "Name a new folder with --to DIR")
        try:
            with Folder(self.target) as self._top:
                handle = self._own_manifest()
                with os.fdopen(handle, "r+", encoding="utf-8") as self._lines:
                    if there:
                        self._verify()
                    size = self._lines.seek(0, os.SEEK_END)
                    if not size:
                        self._line(head)
                    elif (
                        os.pread(handle, 1, size - 1) != b"\n"
                        if hasattr(os, "pread")
                        else not _ends_in_line(self.target)
                    ):
                        self._lines.write("\n")
                    try:
                        yield
                    finally:
                        self._end()
                        self._lines.flush()
                        self._finish_folders()
                        os.fsync(handle)
                        self._top.sync()
        except OSError as error:
            raise WrongUsage(
                f"the target cannot be written ({explain(error)})", self.target, "Name another with --to DIR"
            ) from error

    def _own_manifest(self) -> int:
        """The handle of the manifest, for this process alone. Raises `WrongUsage` for a link or anything else under its name."""
        try:
            handle = self._top.append(MANIFEST)
        except OSError as error:
            raise WrongUsage(
                f"the manifest there cannot be used, and was not touched ({explain(error)})", os.path.join(self.target, MANIFEST),
                "Name a new folder with --to DIR",
            ) from error  # fmt: skip
        if not lock(handle, wait=False):
            os.close(handle)
            raise WrongUsage(
                "another command keeps files in this folder just now",
                self.target,
                "Wait until it has ended, or name another with --to DIR",
            )
        return handle

    def _end(self) -> None:
        """End the other thread; the large file that it was verifying when an interrupt came is not kept. Small ones that were read are."""
        try:
            self._settle_small()
        finally:
            self._aside.shutdown()
            if self._pending is not None:
                self._pending[0].drop()
                self._pending = None
            self._close_folders()

    def _verify(self) -> None:
        """What an earlier run took counts only if it is still whole, and its source has not changed since."""
        for file in read_files(self.target):
            with contextlib.suppress(OSError, RustFernError):
                *above, name = inner_parts(self.target, file.path)
                now = self.door.around(os.path.join(self.base, file.path)).entry(os.path.join(self.base, file.path))
                if (now.size, now.modified_ns) != (file.size, file.modified_ns):
                    continue
                with self._top.below([FILES, *above], make=False) as folder:
                    same = (
                        folder.target_of(name) == file.link
                        if file.link is not None
                        else _sum_of(folder, name) == file.sha256
                    )
                if same:
                    self.done.add(os.path.join(self.base, file.path))
                    self.out.before += 1

    def take(self, wanted: Iterable[Wanted]) -> None:
        """Take files, the most short-lived first, then the newest."""
        for item in sorted(
            wanted, key=lambda w: (w.order, -(w.entry.modified.timestamp() if w.entry.modified else 0.0))
        ):
            try:
                parts = (
                    [m for _, m in contents.members(self.door, item.entry)] if item.entry.is_bundle else [item.entry]
                )
            except SourceError as error:
                self._problem(item.entry.path, str(error))
                continue
            for entry in parts:
                if entry.path in self.done or not inside(entry.path, self.base):
                    continue
                self.done.add(entry.path)
                self._take(entry, item.kind)
        self._settle()
        self._settle_small()

    def _finish_folders(self) -> None:
        """Folders have their times too; set last, the innermost first, since writing into one changes it. Their names are synced."""
        every = set()
        for folder in self._folders:
            while folder and folder not in every:
                every.add(folder)
                folder = os.path.dirname(folder)
        for folder in sorted(every, key=len, reverse=True):
            with (
                contextlib.suppress(OSError, SourceError),
                self._top.below([FILES, *folder.split(os.sep)], make=False) as there,
            ):
                there.sync()
                there.set_time(
                    self.door.around(os.path.join(self.base, folder)).entry(os.path.join(self.base, folder)).modified_ns
                    or 0
                )

    def _take(self, entry: Entry, kind: str) -> None:
        if self._full:
            self.out.left.append(entry.path)
            return
        relative = entry.path[len(self._prefix) :]
        with self._telling(entry):
            if entry.link_target is not None:
                self._wait()
                outer, _, name = relative.rpartition(os.sep)
                digest, size, stamp = self._link(entry, self._below(outer), name, relative)
                line = {"path": relative, "size": size, "modified_ns": stamp, "sha256": digest, "kind": kind}
                self._note({**line, "link": entry.link_target}, kind, size)
                self._flush()
            elif entry.is_file:
                read = self._read(entry, kind, relative)
                if isinstance(read, _Written):
                    verifying = self._aside.submit(_sync_and_sum, read.handle)
                    # While this one is verified the next is read; the one before is done.
                    self._settle()
                    self._pending = read, verifying
                else:
                    self._since = self._since if self._small else time.monotonic()
                    self._small.append(read)
                    self._small_bytes += len(read.data)
        if self._small and (
            len(self._small) >= _TOGETHER
            or self._small_bytes > _TOGETHER_BYTES
            or time.monotonic() - self._since > _SECONDS
        ):
            self._hand_over()

    def _below(self, outer: str) -> Folder:
        """A folder of the target; those that were written into just now are open."""
        folder = self._open.get(outer)
        if folder is None:
            folder = self._open[outer] = self._top.below([FILES, *filter(None, outer.split(os.sep))], mode=_FOLDER_MODE)
            self._folders.add(outer)
        return folder

    def _close_folders(self) -> None:
        """Let the open folders go, but that of a large file that is still to be named."""
        used = self._pending[0].folder if self._pending else None
        for outer, folder in list(self._open.items()):
            if folder is not used:
                del self._open[outer]
                folder.close()

    @contextlib.contextmanager
    def _telling(self, entry: Entry) -> Iterator[None]:
        """What goes wrong with one file is told; the others go on."""
        try:
            yield
        except SourceError as error:
            self._problem(entry.path, error.what)
        except OSError as error:
            if error.errno in (errno.ENOSPC, getattr(errno, "EDQUOT", -1)):
                self._full = True  # nothing more fits
            self.out.left.append(entry.path)
            self._problem(entry.path, f"it could not be written to the target ({explain(error)})")

    def _settle(self) -> None:
        """Give the large file that was verified last its name, and note it."""
        if self._pending is None:
            return
        self._wait()
        (written, verifying), self._pending = self._pending, None
        self._name(written, verifying.result)
        self._flush()

    def _hand_over(self) -> None:
        """Have the other thread store the small files that were read, when it has stored those before."""
        self._wait()
        waiting, self._small, self._small_bytes = self._small, [], 0
        self._storing = self._aside.submit(self._store, waiting)

    def _wait(self) -> None:
        """Until the other thread has stored what it was given."""
        if self._storing is not None:
            storing, self._storing = self._storing, None
            storing.result()
        if len(self._open) >= _TOGETHER:  # of many large files
            self._close_folders()

    def _settle_small(self) -> None:
        """Have all small files that were read stored."""
        self._wait()
        waiting, self._small, self._small_bytes = self._small, [], 0
        self._store(waiting)

    def _store(self, waiting: Sequence[_Held]) -> None:
        """Write small files, have them written to the disk together, verify each, give it its name, and note it."""
        written: list[_Written] = []
        try:
            for each in waiting:
                if self._full:
                    self.out.left.append(each.entry.path)
                    continue
                with self._telling(each.entry):
                    written.append(self._written(each))
            sync_together([each.handle for each in written])
            written.reverse()
            there: set[str] = set()
            while written:
                last = written.pop()
                self._name(last, partial(_sync_and_sum, last.handle), there)
        finally:
            for left in written:
                left.drop()
            self._flush()
            self._close_folders()

    def _written(self, held: _Held) -> _Written:
        """A small file, written under a fresh name. Raises `OSError`."""
        folder, part = self._below(held.relative.rpartition(os.sep)[0]), fresh_name()
        self._clean(folder)
        handle = folder.make(part)
        try:
            _write(handle, held.data)
        except BaseException:
            os.close(handle)
            folder.remove(part)
            raise
        size = len(held.data)
        return _Written(held.entry, held.kind, folder, held.relative, part, handle, held.sha256, held.stamp, size)

    def _name(self, written: _Written, verified: Callable[[], str], there: set[str] | None = None) -> None:
        """Give a file its name if what is read back of it is what was read, and note it. `there` are folders that were where they should be just
        now.
        """
        with self._telling(written.entry):
            folder, name = written.folder, os.path.basename(written.relative)
            try:
                if verified() != written.sha256:
                    what = "what was written is not what was read: the target disk is at fault"
                    raise SourceError(what, written.entry.path)
                folder.set_facts(written.part, permitted(written.entry.mode), written.stamp, written.handle)
                self._set_aside(folder, name, written.relative, written.sha256)
                if there is None or folder.path not in there:
                    if not folder.is_where_it_was():
                        raise OSError(errno.ESTALE, "a folder of the target was moved or replaced", folder.path)
                    if there is not None:
                        there.add(folder.path)
                folder.replace(written.part, name)
                written.is_named = True
            finally:
                written.drop()
            line = {
                "path": written.relative,
                "size": written.size,
                "modified_ns": written.stamp,
                "sha256": written.sha256,
            }
            self._note({**line, "kind": written.kind}, written.kind, written.size)

    def _note(self, line: dict[str, object], kind: str, size: int) -> None:
        self._line(line)
        self.out.taken += 1
        self.out.bytes += size
        self.out.by_kind[kind] = self.out.by_kind.get(kind, 0) + 1

    def _link(self, entry: Entry, folder: Folder, name: str, relative: str) -> tuple[str, int, int]:
        """A lock that is a link to nowhere is made again; it leads to nothing here either."""
        target = entry.link_target or ""
        if "/" in target or os.sep in target:
            raise SourceError("this link leads to a file, it is no lock and was not taken", entry.path)
        self._set_aside(folder, name, relative)
        folder.remove(name)
        folder.make_link(name, target)
        now = self.door.open(entry.root).entry(entry.path)
        stamp = now.modified_ns or 0
        folder.set_facts(name, None, stamp)
        return hashlib.sha256(os.fsencode(target)).hexdigest(), now.size, stamp

    def _read(self, entry: Entry, kind: str, relative: str) -> _Held | _Written:
        """Read one file; a large one is written beside its name. What changes while it is read is read again."""
        source = self.door.of(entry)
        large: _Written | None = None
        try:
            for attempt in range(_MAX_READS):
                before = source.entry(entry.path)
                if not before.is_file:
                    raise SourceError("this is not a regular file any more", entry.path)
                with source.open(entry) as stream:
                    data = _block(stream, entry.path, _SMALL_BYTES + 1)
                    digest, size = hashlib.sha256(data), len(data)
                    if size > _SMALL_BYTES or large is not None:
                        large = large or self._begun(entry, kind, relative)
                        size = _copied(data, stream, large.handle, entry.path, digest)
                after = source.entry(entry.path)
                if (before.size, before.modified_ns) == (after.size, after.modified_ns):
                    break
                if attempt == _MAX_READS - 1:
                    self.out.changing.append(entry.path)
        except BaseException as error:
            if large is not None:
                large.drop()
            if not source.exists(entry.path):
                raise SourceError("it vanished before it could be taken", entry.path) from error
            raise
        stamp, sha256 = after.modified_ns or 0, digest.hexdigest()
        if large is None:
            return _Held(entry, kind, relative, data, sha256, stamp)
        large.sha256, large.stamp, large.size = sha256, stamp, size
        return large

    def _begun(self, entry: Entry, kind: str, relative: str) -> _Written:
        """A large file, of which nothing is written yet. Raises `OSError`."""
        self._wait()
        folder, part = self._below(relative.rpartition(os.sep)[0]), fresh_name()
        self._clean(folder)
        return _Written(entry, kind, folder, relative, part, folder.make(part), "", 0, 0)

    def _clean(self, folder: Folder) -> None:
        if folder.path not in self._cleaned:
            self._cleaned.add(folder.path)
            clean(folder.path)

    def _set_aside(self, folder: Folder, name: str, relative: str, digest: str = "") -> None:
        """What an earlier run kept under this name may be another version by now: both stay."""
        there = folder.stat(name)
        if there is None or (stat.S_ISREG(there.st_mode) and _sum_of(folder, name) == digest):
            return
        above = relative.split(os.sep)[:-1]
        for number in itertools.count(1):
            with self._top.below([EARLIER, str(number), *above], mode=_FOLDER_MODE) as other:
                try:
                    folder.link(name, other, name)  # its name stays taken up to the last
                except FileExistsError:
                    continue
                except OSError:
                    self._move(folder, other, name)
                other.sync()
                self.out.earlier.append(os.path.join(other.path, name))
                return

    @staticmethod
    def _move(folder: Folder, other: Folder, name: str) -> None:
        """Where there are no hard links: copy to the other folder under a fresh name, then give it its own."""
        with other.scratch() as made:
            with folder.open(name) as source, os.fdopen(other.make(made), "wb") as out:
                shutil.copyfileobj(source, out, _CHUNK_BYTES)
            other.rename(made, name)

    def _line(self, line: dict[str, object]) -> None:
        assert self._lines is not None
        self._lines.write(json.dumps(line, ensure_ascii=True) + "\n")

    def _flush(self) -> None:
        """Have the manifest hold what was noted."""
        if self._lines is not None and not self._lines.closed:
            self._lines.flush()

    def _problem(self, path: str, message: str) -> None:
        self.out.problems.append(Problem(path, message))


def _ends_in_line(folder: str) -> bool:
    with open(os.path.join(folder, MANIFEST), "rb") as stream:  # noqa: PTH123
        stream.seek(-1, os.SEEK_END)
        return stream.read() == b"\n"


def _write(handle: int, data: bytes) -> None:
    left = memoryview(data)
    while left:
        left = left[os.write(handle, left) :]


def _copied(data: bytes, stream: BinaryIO, handle: int, path: str, digest: Digest) -> int:
    """Write what was read of a stream, and the rest of it, to a handle; its size in bytes, and its sum in `digest`, which has that of what was
    read. Raises `SourceError` where it cannot be read, else `OSError`.
    """
    os.ftruncate(handle, 0)
    os.lseek(handle, 0, os.SEEK_SET)
    size = 0
    while data:
        _write(handle, data)
        size += len(data)
        data = _block(stream, path)
        digest.update(data)
    return size


def _block(stream: BinaryIO, path: str, most: int = _CHUNK_BYTES) -> bytes:
    try:
        return stream.read(most)
    except OSError as error:
        raise SourceError(f"reading failed ({explain(error)})", path) from error


def _sync_and_sum(handle: int) -> str:
    """Have a file written to the disk; the SHA-256 of what is read back."""
    os.fsync(handle)
    os.lseek(handle, 0, os.SEEK_SET)
    digest = hashlib.sha256()
    while block := os.read(handle, _CHUNK_BYTES):
        digest.update(block)
    return digest.hexdigest()


def _sum_of(folder: Folder, name: str) -> str:
    with folder.open(name) as stream:
        return _sum(stream)


def _sum(stream: BinaryIO) -> str:
    digest = hashlib.sha256()
    while block := stream.read(_CHUNK_BYTES):
        digest.update(block)
    return digest.hexdigest()
