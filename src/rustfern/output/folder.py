"""A folder that is written into, held by its handle: what is made in it stays in it, whatever its path leads to by now."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Iterator, Sequence
from functools import lru_cache
from types import TracebackType
from typing import BinaryIO

from rustfern.output.atomic import HAS_HANDLES, PRIVATE, open_own, rename_exclusive, sync_folder
from rustfern.output.temporary import fresh_name, remove_tree

_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0)


class Folder:
    """An open folder. Where the system knows no handles of folders, its path has to do. Close it, or use it in a `with`."""

    def __init__(self, path: str, handle: int | None = None) -> None:
        """Raises `OSError`, for a link too."""
        self.path = path
        self.handle = handle if handle is not None or not HAS_HANDLES else os.open(path, _FOLDER)

    def __enter__(self) -> Folder:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Let the folder go."""
        if self.handle is not None:
            os.close(self.handle)
            self.handle = None

    def _at(self, name: str) -> str:
        return name if self.handle is not None else os.path.join(self.path, name)

    def below(self, names: Sequence[str], *, make: bool = True, mode: int = 0o777) -> Folder:
        """A folder below this one, made (if wanted) where it is missing. Raises `OSError` where a link or a file is in the way."""
        now = self.again()
        for name in names:
            with now:
                inner = os.path.join(now.path, name)
                if now.handle is None:
                    if make:
                        with contextlib.suppress(FileExistsError):
                            os.mkdir(inner, mode)
                    if not stat.S_ISDIR(os.lstat(inner).st_mode):
                        raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), inner)
                    now = Folder(inner)
                    continue
                try:
                    handle = os.open(name, _FOLDER, dir_fd=now.handle)
                except FileNotFoundError:
                    if not make:
                        raise
                    with contextlib.suppress(FileExistsError):
                        os.mkdir(name, mode, dir_fd=now.handle)
                    handle = os.open(name, _FOLDER, dir_fd=now.handle)
                    sync_folder(now.handle)
            now = Folder(inner, handle)
        return now

    def again(self) -> Folder:
        """The same folder by a handle of its own."""
        return Folder(self.path, os.dup(self.handle) if self.handle is not None else None)

    def is_where_it_was(self) -> bool:
        """Whether its path still leads to it."""
        if self.handle is None:
            return True
        try:
            there = os.stat(self.path, follow_symlinks=False)
        except OSError:
            return False
        here = os.fstat(self.handle)
        return (there.st_dev, there.st_ino) == (here.st_dev, here.st_ino)

    def stat(self, name: str) -> os.stat_result | None:
        """What is under a name, a link as itself; None if nothing is."""
        try:
            return os.stat(self._at(name), dir_fd=self.handle, follow_symlinks=False)
        except (FileNotFoundError, NotADirectoryError):
            return None

    def names(self) -> list[str]:
        """What is in it."""
        return os.listdir(self.handle if self.handle is not None else self.path)

    def make(self, name: str) -> int:
        """The handle of a new private file. Raises `FileExistsError`, `OSError`."""
        flags = os.O_CREAT | os.O_EXCL | os.O_RDWR | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0)
        return os.open(self._at(name), flags | getattr(os, "O_CLOEXEC", 0), PRIVATE, dir_fd=self.handle)

    def open(self, name: str) -> BinaryIO:
        """Read a file of ours in it: a plain one with one name, no link. Raises `OSError`."""
        return os.fdopen(open_own(self._at(name), os.O_RDONLY, self.handle), "rb")

    def append(self, name: str) -> int:
        """The handle of a file of ours to be added to, made where it is missing. Raises `OSError`."""
        return open_own(self._at(name), os.O_CREAT | os.O_APPEND | os.O_RDWR, self.handle)

    def rename(self, made: str, name: str) -> None:
        """Give what was made its name. Raises `FileExistsError` if that is taken."""
        rename_exclusive(self._at(made), self._at(name), self.handle)

    def replace(self, made: str, name: str) -> None:
        """Give what was made its name, over what is there."""
        os.replace(self._at(made), self._at(name), src_dir_fd=self.handle, dst_dir_fd=self.handle)

    def link(self, name: str, other: Folder, new: str) -> None:
        """Give what is under a name another one elsewhere, a link as itself; the first stays. Raises `FileExistsError`, `OSError`."""
        os.link(self._at(name), other._at(new), src_dir_fd=self.handle, dst_dir_fd=other.handle, follow_symlinks=False)

    def make_link(self, name: str, target: str) -> None:
        """A symbolic link. Raises `FileExistsError`, `OSError`."""
        os.symlink(target, self._at(name), dir_fd=self.handle)

    def target_of(self, name: str) -> str:
        """Where a symbolic link in it leads. Raises `OSError`."""
        return os.readlink(self._at(name), dir_fd=self.handle)

    def set_time(self, modified_ns: int) -> None:
        """Give the folder itself a time (ns since 1970), where the system lets us."""
        with contextlib.suppress(OSError, OverflowError):
            os.utime(self.handle if self.handle is not None else self.path, ns=(modified_ns, modified_ns))

    def remove(self, name: str) -> None:
        """Remove a file of ours, or a folder with all that is in it, as far as that can be done."""
        with contextlib.suppress(OSError):
            facts = self.stat(name)
            if facts is not None and stat.S_ISDIR(facts.st_mode):
                self._remove_tree(name)
            elif facts is not None:
                os.unlink(self._at(name), dir_fd=self.handle)

    def _remove_tree(self, name: str) -> None:
        """Inner folders are moved up and removed from here, so that a thousand levels need no more than two handles."""
        if self.handle is None:
            remove_tree(os.path.join(self.path, name))
            return
        waiting = [name]
        while waiting:
            last = waiting.pop()
            with contextlib.suppress(OSError), Folder(last, os.open(last, _FOLDER, dir_fd=self.handle)) as inner:
                for each in inner.names():
                    facts = inner.stat(each)
                    if facts is not None and stat.S_ISDIR(facts.st_mode):
                        moved = fresh_name()
                        os.rename(each, moved, src_dir_fd=inner.handle, dst_dir_fd=self.handle)
                        waiting.append(moved)
                    else:
                        os.unlink(each, dir_fd=inner.handle)
                os.rmdir(last, dir_fd=self.handle)

    def set_facts(self, name: str, mode: int | None, modified_ns: int | None, handle: int | None = None) -> None:
        """Give what is under a name (and open under a handle, if that is known) its mode and its time (ns since 1970), where the system lets us."""
        if handle is not None and {os.chmod, os.utime} <= os.supports_fd:
            with contextlib.suppress(OSError):
                if mode is not None and mode != PRIVATE:  # new files of ours are private
                    os.chmod(handle, mode)
            with contextlib.suppress(OSError, OverflowError):
                if modified_ns is not None:
                    os.utime(handle, ns=(modified_ns, modified_ns))
            return
        with contextlib.suppress(OSError, NotImplementedError):
            if mode is not None:
                os.chmod(self._at(name), mode, dir_fd=self.handle)
        with contextlib.suppress(OSError, OverflowError):
            if modified_ns is not None:
                os.utime(self._at(name), ns=(modified_ns, modified_ns), dir_fd=self.handle, follow_symlinks=False)

    def sync(self) -> None:
        """Have its names written to the disk."""
        sync_folder(self.handle if self.handle is not None else self.path)

    @contextlib.contextmanager
    def scratch(self) -> Iterator[str]:
        """A fresh name in it; what is left under it is removed, whatever happens."""
        name = fresh_name()
        try:
            yield name
        finally:
            self.remove(name)


def permitted(mode: int) -> int:
    """A mode that somebody else's file has, as a copy gets it: its owner may read and write it, nobody more than the umask allows."""
    return (mode & 0o777 & ~_umask()) | PRIVATE


@lru_cache(1)
def _umask() -> int:
    """This process's umask. Asking the system sets it for a moment, so it is asked once."""
    value = os.umask(0o077)
    os.umask(value)
    return value
