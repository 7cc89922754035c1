"""A folder as a source: a live home, an attached disk, a copy."""

from __future__ import annotations

import io
import os
import re
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, suppress
from itertools import islice
from typing import TYPE_CHECKING, BinaryIO

from msgspec.structs import replace

from rustfern.core.errors import SourceError, explain
from rustfern.core.model import Entry, Location
from rustfern.core.times import utc
from rustfern.output.temporary import is_ours
from rustfern.sources.disk_health import DiskAccess
from rustfern.sources.interface import OnProblem, Source
from rustfern.sources.looked import sum_of
from rustfern.sources.parts import NothingDeleted, materialised

if TYPE_CHECKING:
    from pathlib import Path

_FLAGS = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0)
_FLAGS |= getattr(os, "O_BINARY", 0)
_NOATIME = getattr(os, "O_NOATIME", 0)

# Attributes of files whose content is not on this disk; reading one would fetch it (Windows FILE_ATTRIBUTE_OFFLINE,
# RECALL_ON_OPEN and RECALL_ON_DATA_ACCESS, [MS-FSCC] 2.6).
_ONLINE_ONLY = 0x1000 | 0x40000 | 0x400000
# The same on macOS (SF_DATALESS, sys/stat.h).
_DATALESS = 0x40000000

_HELD = re.compile(r"/proc/\d+/fd/\d+")
HELD_ROOT = "/proc"

_ENTRIES_AT_ONCE = 20_000
"""Entries of a folder held at a time."""

PSEUDO_FOLDERS = frozenset({"proc", "sys", "dev"})
_SYSTEM_SIGNS = frozenset({"etc", "usr", "bin", "var"})


def _online_only(path: str) -> bool:
    """Whether the system says that the content lies elsewhere. Raises `OSError`."""
    facts = os.lstat(path)
    if getattr(facts, "st_file_attributes", 0) & _ONLINE_ONLY or getattr(facts, "st_flags", 0) & _DATALESS:
        return True
    if facts.st_size and not getattr(facts, "st_blocks", 1) and hasattr(os, "getxattr"):
        # The driver for Windows disks gives their attributes as an extended one.
        with suppress(OSError):
            return bool(int.from_bytes(os.getxattr(path, "system.ntfs_attrib"), "little") & _ONLINE_ONLY)
    return False


def _is_folder(item: os.DirEntry[str]) -> bool:
    try:
        return item.is_dir(follow_symlinks=False)
    except OSError:
        return False


def _folders_of(items: Sequence[os.DirEntry[str]]) -> list[str]:
    try:
        return [item.name for item in items if item.is_dir(follow_symlinks=False)]
    except OSError:  # of one of them
        return [item.name for item in items if _is_folder(item)]


def _list(folder: str, folders: list[str], files: list[str]) -> None:
    """Add the names of the folders, and of all else, directly in a folder. Raises `OSError`; what came before an error is there."""
    with os.scandir(folder) as listing:
        ended = False
        while not ended:
            there: list[os.DirEntry[str]] = []
            try:
                there.extend(islice(listing, _ENTRIES_AT_ONCE))
                ended = len(there) < _ENTRIES_AT_ONCE
            finally:
                inner = _folders_of(there)
                if inner:
                    # Private folders of ours are never searched.
                    folders += [name for name in inner if not is_ours(name)]
                    apart = frozenset(inner)
                    files += [item.name for item in there if item.name not in apart]
                else:
                    files += [item.name for item in there]


def sum_of_names(folder: str) -> int | None:
    """The sum of the names in a folder, as `Looked` notes it; None where it cannot be listed."""
    folders: list[str] = []
    files: list[str] = []
    try:
        _list(folder, folders, files)
    except OSError:
        return None
    return sum_of((*folders, *files))


class FolderSource(NothingDeleted):
    """Everything below one folder. Links are never followed; devices, FIFOs and sockets are never opened."""

    def __init__(self, root: str, access: DiskAccess | None = None) -> None:
        self.root, self.access = root, access or DiskAccess()

    def walk(self, top: str, on_problem: OnProblem) -> Iterator[tuple[str, list[str], list[str]]]:
        """Walk iteratively (a folder 2,000 deep is no problem), top down, in no promised order."""
        stack = [top]
        while stack:
            folder = stack.pop()
            found = self.list_folder(folder, folder == top, on_problem)
            self._note_names(folder, None if found is None else (*found[0], *found[1]))
            if found is None:
                if self.access.health.failing():
                    return
                continue
            yield folder, *found
            prefix = folder if folder.endswith(os.sep) else folder + os.sep
            stack += [prefix + name for name in found[0]]

    trouble = ""

    def exists(self, path: str) -> bool:
        """Whether there is anything at this path, a dangling link included."""
        return os.path.lexists(path) if self.access.looked is None else self.access.looked.ask(path)

    def is_folder(self, path: str) -> bool | None:
        """Whether this is a folder and no link to one; None if we are not allowed to know."""
        if self.access.looked is not None:
            self.access.looked.ask(path)
        return self.is_folder_here(path)

    @staticmethod
    def is_folder_here(path: str) -> bool | None:
        """The same without a source."""
        try:
            return stat.S_ISDIR(os.lstat(path).st_mode)
        except PermissionError:
            return None
        except (OSError, ValueError):
            return False

    def list_folder(
        self, folder: str, is_top: bool, on_problem: OnProblem, on_error: Callable[[OSError, str], None] | None = None
    ) -> tuple[list[str], list[str]] | None:
        """The names of the folders and of all else directly in a folder; None if it cannot be listed, or its disk must not be read."""
        if self.access.health.troubles and self.access.health.failing():
            on_problem(folder, "not listed, as its disk returned several read errors")
            return None
        folders: list[str] = []
        files: list[str] = []
        try:
            _list(folder, folders, files)
        except OSError as error:
            (on_error or self.access.health.note_error)(error, folder)
            on_problem(folder, f"this folder could not be listed: {explain(error)}")
            if not files and not folders:
                return None
        if is_top and PSEUDO_FOLDERS.intersection(folders) and _SYSTEM_SIGNS.intersection(folders):
            folders[:] = [name for name in folders if name not in PSEUDO_FOLDERS]
        return folders, files

    def names(self, folder: str) -> tuple[list[str], list[str]]:
        folders: list[str] = []
        files: list[str] = []
        try:
            _list(folder, folders, files)
        except OSError as error:
            self._note_names(folder, None)
            raise SourceError(f"this folder could not be listed ({explain(error)})", folder) from error
        folders.sort()
        files.sort()
        self._note_names(folder, (*folders, *files))
        return folders, files

    def _note_names(self, folder: str, names: Sequence[str] | None) -> None:
        if self.access.looked is not None:
            self.access.looked.names(folder, names)

    def entry(self, path: str) -> Entry:
        try:
            facts = os.stat(path) if _HELD.fullmatch(path) else os.lstat(path)
            target = os.readlink(path) if stat.S_ISLNK(facts.st_mode) else None
        except (OSError, ValueError) as error:
            reason = explain(error) if isinstance(error, OSError) else str(error)
            if self.access.looked is not None:
                self.access.looked.thing(path, None)
            raise SourceError(f"this could not be looked at ({reason})", path) from error
        if self.access.looked is not None:
            self.access.looked.thing(path, facts)
        return Entry(
            Location(self.root, path),
            size=facts.st_size,
            modified=utc(facts.st_mtime),
            is_folder=stat.S_ISDIR(facts.st_mode),
            is_file=stat.S_ISREG(facts.st_mode),
            link_target=target,
            device=facts.st_dev,
            inode=facts.st_ino,
            mode=stat.S_IMODE(facts.st_mode) & 0o777,
            modified_ns=facts.st_mtime_ns,
            changed_ns=facts.st_ctime_ns,
        )

    def open(self, entry: Entry) -> BinaryIO:
        if self.access.looked is not None:
            self.access.looked.ask(entry.path)
        if (taken := self.access.gentle.taken(entry.path)) is not None:
            return taken
        try:
            if _online_only(entry.path):
                raise SourceError("the content is online only and was not fetched", entry.path)
            # What a process holds open is reached through a link that the kernel makes up: it is no link on a disk.
            flags = _FLAGS & ~getattr(os, "O_NOFOLLOW", 0) if _HELD.fullmatch(entry.path) else _FLAGS
            try:
                handle = os.open(entry.path, flags | _NOATIME)
            except PermissionError:
                # Only the owner may ask that the access time stays.
                handle = os.open(entry.path, flags)
        except OSError as error:
            raise SourceError(f"this file could not be opened ({explain(error)})", entry.path) from error
        facts = os.fstat(handle)
        if not stat.S_ISREG(facts.st_mode):
            os.close(handle)
            raise SourceError("this is not a regular file and was not opened", entry.path)
        try:
            self.access.health.check(facts.st_dev, entry.path)
        except SourceError:
            os.close(handle)
            raise
        return self.access.gentle.through(
            io.BufferedReader(self.access.reader(handle, entry.path, self.access.health)), entry.path
        )

    def materialise(self, entry: Entry) -> AbstractContextManager[Path]:
        return materialised(self, entry, self.access.scratch)


def with_companions(source: Source, entry: Entry, endings: Sequence[str]) -> Entry:
    """An entry with the things beside it that belong to it, if there are any with content.

    An ending follows the whole name (`-wal`); one with an underline follows the name without extension (`_data`, a folder).
    """
    there = []
    folder, name = os.path.split(entry.path)
    for ending in endings:
        other = (name.rpartition(".")[0] or name if ending.startswith("_") else name) + ending
        path = os.path.join(folder, other)
        if source.exists(path):
            with suppress(SourceError):
                found = source.entry(path)
                there += [other] if found.is_folder or (found.is_file and found.size) else []
    return replace(entry, companions=tuple(there)) if there else entry
