"""Giving names: in one step, synced, and without ever replacing a file."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import sys
from collections.abc import Sequence

_AT_CWD, _NO_REPLACE, _EXCLUSIVE = -100, 1, 4
_NOT_HERE = frozenset(
    getattr(errno, name) for name in ("EINVAL", "ENOSYS", "ENOTSUP", "EOPNOTSUPP", "EPERM") if hasattr(errno, name)
)
PRIVATE = 0o600
"""The mode of what nobody but its owner needs to read."""
_OWN = os.O_NONBLOCK if hasattr(os, "O_NONBLOCK") else 0
_OWN |= getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)
HAS_HANDLES = {os.open, os.mkdir, os.unlink, os.stat, os.rename} <= os.supports_dir_fd
"""Whether this system works relative to the handle of a folder."""


def _move_alone(made: str, path: str, folder: int | None = None) -> bool:
    """Give a name in one step of the system that fails where the name is taken; False where there is no such step.

    Source: renameat2(2) with RENAME_NOREPLACE; renameatx_np(2) with RENAME_EXCL; MoveFileExW, which replaces only if asked to.
    """
    if os.name == "nt":
        os.rename(made, path)
        return True
    import ctypes

    libc = ctypes.CDLL(None, use_errno=True)
    source, target = os.fsencode(made), os.fsencode(path)
    at = _AT_CWD if folder is None else folder
    if hasattr(libc, "renameat2"):
        failed = libc.renameat2(at, source, at, target, _NO_REPLACE)
    elif hasattr(libc, "renameatx_np"):
        failed = libc.renameatx_np(
            -2 if folder is None else folder, source, -2 if folder is None else folder, target, _EXCLUSIVE
        )
    else:
        return False
    code = ctypes.get_errno()
    if failed and code not in _NOT_HERE:
        raise OSError(code, os.strerror(code), path)
    return not failed


def rename_exclusive(made: str, path: str, folder: int | None = None) -> None:
    """Give a finished file or folder its name; both are paths, or names in the folder whose handle is given.

    Raises `FileExistsError` if that name is taken, `OSError` if it cannot be given.
    """
    if _move_alone(made, path, folder):
        return
    if stat.S_ISDIR(os.stat(made, dir_fd=folder, follow_symlinks=False).st_mode):
        with contextlib.suppress(FileNotFoundError):
            os.stat(path, dir_fd=folder, follow_symlinks=False)
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), path)
        # What comes there in the meantime, other than an empty folder, makes this fail.
        os.rename(made, path, src_dir_fd=folder, dst_dir_fd=folder)
        return
    try:
        os.link(made, path, src_dir_fd=folder, dst_dir_fd=folder)
    except FileExistsError:
        raise
    except OSError:
        # No hard links either: take the name first, then move over our own empty file.
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, PRIVATE, dir_fd=folder))
        try:
            os.replace(made, path, src_dir_fd=folder, dst_dir_fd=folder)
        except OSError:
            os.unlink(path, dir_fd=folder)  # our own empty file: nothing half-done stays under a final name
            raise
        return
    with contextlib.suppress(OSError):
        os.unlink(made, dir_fd=folder)


def make_folders(path: str) -> None:
    """Make a folder and those above it, where they are missing; a thousand of them are no problem. Raises `OSError`."""
    missing = []
    while not os.path.isdir(path):
        missing.append(path)
        path = os.path.dirname(path)
    for each in reversed(missing):
        with contextlib.suppress(FileExistsError):
            os.mkdir(each)
            sync_folder(os.path.dirname(each))
            continue
        if not os.path.isdir(each):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), each)


def sync_folder(folder: str | int) -> None:
    """Have the names of a folder (its path, or its handle) written to the disk, where that can be asked for."""
    with contextlib.suppress(OSError):
        handle = folder if isinstance(folder, int) else os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            if not isinstance(folder, int):
                os.close(handle)


def sync_together(handles: Sequence[int]) -> None:
    """Have several open files of one file system written to its disk at once, where the system can do that: many small files take as long as
    one. Each is still to be synced by itself, which is quick then, and tells what went wrong with it. Source: syncfs(2).
    """
    if sys.platform == "linux" and len(handles) > 1:
        import ctypes

        libc = ctypes.CDLL(None)
        if hasattr(libc, "syncfs"):
            libc.syncfs(handles[0])


def open_own(path: str, flags: int, folder: int | None = None) -> int:
    """The handle of a file of ours: without following a link, never of a pipe or a device, never of a file that has another name too.

    `flags` as for `os.open`; a file that is made is private. Raises `OSError`: `ELOOP`, or `EMLINK` for what is no plain file with one name.
    """
    try:
        # Only its owner may ask that the access time stays.
        quiet = 0 if flags & (os.O_WRONLY | os.O_RDWR) else getattr(os, "O_NOATIME", 0)
        handle = os.open(path, flags | _OWN | quiet, PRIVATE, dir_fd=folder)
    except PermissionError:
        handle = os.open(path, flags | _OWN, PRIVATE, dir_fd=folder)
    facts = os.fstat(handle)
    if not stat.S_ISREG(facts.st_mode) or facts.st_nlink > 1:
        os.close(handle)
        raise OSError(errno.EMLINK, "it is no plain file with one name", path)
    return handle


def lock(handle: int, *, wait: bool) -> bool:
    """Take a file for this process until its handle is closed; False if another process has it. Where nothing can be locked: True.

    Source: flock(2), LockFileEx.
    """
    try:
        if sys.platform == "win32":
            import msvcrt

            msvcrt.locking(handle, msvcrt.LK_LOCK if wait else msvcrt.LK_NBLCK, 1)
        else:
            import fcntl

            fcntl.flock(handle, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
    except BlockingIOError:
        return False
    except OSError as error:
        return error.errno not in (errno.EACCES, errno.EAGAIN, errno.EDEADLK)
    return True
