"""Takes short-lived copies to safety before anything else runs: bytes, names and times, the most short-lived first."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import itertools
import json
import os
import shutil
import stat
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import UTC, datetime
from typing import BinaryIO, TextIO

import msgspec

from rustfern.catalogue.loader import catalogue
from rustfern.content import open as contents
from rustfern.core.errors import RustFernError, SourceError, WrongUsage, explain
from rustfern.core.model import Copy, Entry, Hints, Lock, Problem, Record, Totals
from rustfern.core.observer import Observer
from rustfern.core.paths import inside
from rustfern.core.remarks import Notice
from rustfern.operations.keep_selection import needed
from rustfern.operations.live import live_roots
from rustfern.operations.session import Session, find_people, health_notice, open_sources
from rustfern.operations.targets import check_target, names_in
from rustfern.output.atomic import lock
from rustfern.output.folder import Folder, permitted
from rustfern.output.temporary import clean, fresh_name
from rustfern.search.search import Search
from rustfern.sources.interface import Source
from rustfern.sources.kept_folder import EARLIER, FILES, MANIFEST, SCHEMA, inner_parts, is_kept, read_files, read_head
from rustfern.sources.registry import Sources

_CHUNK_BYTES = 1 << 20
_MAX_READS = 3
_FOLDER_MODE = 0o700
_SAVED, _SETTINGS, _LONG = 2.5, 2.7, 3
"""Order of what is taken: copies that vanish soonest, then the originals they belong to, settings, what stays for long."""


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


class _Wanted(msgspec.Struct, frozen=True):
    entry: Entry
    kind: str
    order: float


def keep(
    roots: Sequence[str] | None,
    to: str,
    person: str | None = None,
    *,
    short_lived: bool = False,
    observer: Observer | None = None,
    session: Session | None = None,
) -> Keeping:
    """Copy what is short-lived, the originals it belongs to and settings into a folder that a scan accepts as its root.

    Run again, it goes on where it stopped. With `short_lived`, trash, backups and versions stay where they are. Raises
    `WrongUsage` for a target inside what is searched or one that belongs to another search, `SourceError` for a root.
    """
    session = session or Session()
    observer = session.observer = observer or session.observer
    door = session.sources
    door.health.reset()
    tops = list(dict.fromkeys(door.check_root(root) for root in (roots or live_roots(door))))
    base = os.path.commonpath(tops)
    target = check_target(to, tops)
    clean(target)
    out = Keeping(target)
    keeper = _Keeper(door, target, base, out)

    def on_problem(path: str, message: str) -> None:
        out.problems.append(Problem(path, message))

    sources = open_sources(session, tops, on_problem)
    homes, others = find_people(session, sources, not roots, Hints(person=person), on_problem)
    head: dict[str, object] = {
        "schema": SCHEMA, "base": base, "at": datetime.now(UTC).isoformat(timespec="seconds"),
        "roots": [os.path.relpath(top, base) for top in tops],
        "homes": [
            {"path": os.path.relpath(h.path, base), "layout": str(h.layout), "person": h.person,
             "root": os.path.relpath(h.root, base),
             "volume": os.path.relpath(h.volume, base) if h.volume and inside(h.volume, base) else None}
            for h in homes
        ],
    }  # fmt: skip
    with keeper.manifest(head):
        observer.stage("taking what is in the known folders")
        search = Search(door, sources, homes, catalogue(), on_problem, Totals(), only_homes=person is not None)
        with search.ahead():
            search.known_places()
            places = catalogue().places
            found = [_Wanted(f.entry, f.kind, places[f.place].lifetime_rank) for f in search.finds]
            keeper.take(item for item in found if item.order < _LONG)
            observer.stage("searching everything, to take what lies beside documents")
            things = list(needed(session, search, homes, others, live=not roots, narrowed=person is not None))
        rest = [wanted for thing in things for wanted in _wanted(door, thing)]
        settings = {told.file for told in search.settings.told}
        rest += [_Wanted(entry, "settings", _SETTINGS) for entry in _entries(settings, sources)]
        observer.stage("taking the rest")
        keeper.take(item for item in [*found, *rest] if not short_lived or item.order < _LONG)
    if (failing := health_notice(door.health)) is not None:
        out.warnings.append(failing)
    return out


def _wanted(door: Sources, thing: Copy | Lock | Record) -> Iterator[_Wanted]:
    if isinstance(thing, Record):
        with contextlib.suppress(SourceError):
            yield _Wanted(door.around(thing.path).entry(thing.path), "record", 1)
        return
    place = catalogue().places.get(thing.place)
    kind = thing.kind if isinstance(thing, Copy) else "lock"
    yield _Wanted(thing.entry, str(kind), _SAVED if kind == "saved" or place is None else place.lifetime_rank)


def _entries(paths: Iterable[str], sources: Sequence[Source]) -> Iterator[Entry]:
    """Settings files, and for registry files their logs."""
    for path in sorted(paths):
        source = next((source for source in sources if inside(path, source.root)), None)
        if source is None:
            continue
        folder, name = os.path.split(path)
        with contextlib.suppress(SourceError):
            names = [name]
            if name.casefold() == "ntuser.dat":
                names += [n for n in source.names(folder)[1] if n.casefold().startswith("ntuser.dat.log")]
            for each in names:
                yield source.entry(os.path.join(folder, each))


class _Written(msgspec.Struct, frozen=True):
    """A file that was read and written as `part` in `folder`, still to be verified and to be called `name`; `stamp` in ns since 1970.
    `handle` is that of what was written.
    """

    entry: Entry
    kind: str
    folder: Folder
    name: str
    part: str
    handle: int
    sha256: str
    stamp: int

    def drop(self) -> None:
        """Let it go: what has no name by then is removed."""
        with contextlib.suppress(OSError):
            os.close(self.handle)
        self.folder.remove(self.part)
        self.folder.close()


class _Keeper:
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
        self._top: Folder
        self._last: tuple[list[str], Folder] | None = None

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
                        self._drop()
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

    def _drop(self) -> None:
        """End the other thread; what it was verifying when an interrupt came is not kept."""
        self._aside.shutdown()
        if self._last is not None:
            self._last[1].close()
            self._last = None
        if self._pending is not None:
            self._pending[0].drop()
            self._pending = None

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

    def take(self, wanted: Iterable[_Wanted]) -> None:
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
        relative = os.path.relpath(entry.path, self.base)
        *above, name = relative.split(os.sep)
        with self._telling(entry):
            folder = self._below([FILES, *above])
            self._folders.add(os.path.dirname(relative))
            written = None
            try:
                if entry.link_target is not None:
                    digest, size, stamp = self._link(entry, folder, name, relative)
                    line = {"path": relative, "size": size, "modified_ns": stamp, "sha256": digest, "kind": kind}
                    self._note({**line, "link": entry.link_target}, kind, size)
                elif entry.is_file:
                    written = self._read(entry, kind, folder, name)
            finally:
                if written is None:
                    folder.close()
            if written is not None:
                verifying = self._aside.submit(_sync_and_sum, written.handle)
                # While this one is verified the next is read; the one before is done.
                self._settle()
                self._pending = written, verifying

    def _below(self, names: list[str]) -> Folder:
        """A folder of the target; mostly it is the one that was written into last."""
        if self._last is not None and (self._last[0] != names or not self._last[1].is_where_it_was()):
            self._last[1].close()
            self._last = None
        if self._last is None:
            self._last = names, self._top.below(names, mode=_FOLDER_MODE)
        return self._last[1].again()

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
        """Give the file that was verified last its name, and note it."""
        if self._pending is None:
            return
        (written, verifying), self._pending = self._pending, None
        with self._telling(written.entry):
            folder, name = written.folder, written.name
            try:
                if verifying.result() != written.sha256:
                    what = "what was written is not what was read: the target disk is at fault"
                    raise SourceError(what, written.entry.path)
                size = os.fstat(written.handle).st_size
                folder.set_facts(written.part, permitted(written.entry.mode), written.stamp)
                relative = os.path.relpath(written.entry.path, self.base)
                self._set_aside(folder, name, relative, written.sha256)
                if not folder.is_where_it_was():
                    raise OSError(errno.ESTALE, "a folder of the target was moved or replaced", folder.path)
                folder.replace(written.part, name)
            finally:
                written.drop()
            line = {"path": relative, "size": size, "modified_ns": written.stamp, "sha256": written.sha256}
            self._note({**line, "kind": written.kind}, written.kind, size)

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

    def _read(self, entry: Entry, kind: str, folder: Folder, name: str) -> _Written:
        """Read one file and write it beside its name. What changes while it is read is read again."""
        if folder.path not in self._cleaned:
            self._cleaned.add(folder.path)
            clean(folder.path)
        part = fresh_name()
        handle = folder.make(part)
        source = self.door.open(entry.root)
        try:
            for attempt in range(_MAX_READS):
                before = source.entry(entry.path)
                if not before.is_file:
                    raise SourceError("this is not a regular file any more", entry.path)
                digest = hashlib.sha256()
                os.ftruncate(handle, 0)
                os.lseek(handle, 0, os.SEEK_SET)
                with source.open(entry) as stream, open(handle, "wb", closefd=False) as out:
                    while block := _block(stream, entry.path):
                        digest.update(block)
                        out.write(block)
                after = source.entry(entry.path)
                if (before.size, before.modified_ns) == (after.size, after.modified_ns):
                    break
                if attempt == _MAX_READS - 1:
                    self.out.changing.append(entry.path)
        except BaseException as error:
            os.close(handle)
            folder.remove(part)
            if not source.exists(entry.path):
                raise SourceError("it vanished before it could be taken", entry.path) from error
            raise
        return _Written(entry, kind, folder, name, part, handle, digest.hexdigest(), after.modified_ns or 0)

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
        self._lines.flush()

    def _problem(self, path: str, message: str) -> None:
        self.out.problems.append(Problem(path, message))


def _ends_in_line(folder: str) -> bool:
    with open(os.path.join(folder, MANIFEST), "rb") as stream:  # noqa: PTH123
        stream.seek(-1, os.SEEK_END)
        return stream.read() == b"\n"


def _block(stream: BinaryIO, path: str) -> bytes:
    try:
        return stream.read(_CHUNK_BYTES)
    except OSError as error:
        raise SourceError(f"reading failed ({explain(error)})", path) from error


def _sync_and_sum(handle: int) -> str:
    """Have a file written to the disk; the SHA-256 of what is read back."""
    os.fsync(handle)
    os.lseek(handle, 0, os.SEEK_SET)
    with open(handle, "rb", closefd=False) as stream:
        return _sum(stream)


def _sum_of(folder: Folder, name: str) -> str:
    with folder.open(name) as stream:
        return _sum(stream)


def _sum(stream: BinaryIO) -> str:
    digest = hashlib.sha256()
    while block := stream.read(_CHUNK_BYTES):
        digest.update(block)
    return digest.hexdigest()
