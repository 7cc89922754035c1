"""How files of ours come to be: under a name of their own first, synced, then moved to the final name without ever replacing a file."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterable, Sequence
from pathlib import Path

from rustfern.casefile import roots_of_recent_cases
from rustfern.errors import WrongUsage
from rustfern.places.recorded import inside
from rustfern.sources.folder import explain
from rustfern.unfinished import clean, scratch

_AT_CWD, _NO_REPLACE, _EXCLUSIVE = -100, 1, 4
_NOT_HERE = frozenset(
    getattr(errno, name) for name in ("EINVAL", "ENOSYS", "ENOTSUP", "EOPNOTSUPP", "EPERM") if hasattr(errno, name)
)


def _move_alone(made: str, path: str) -> bool:
    """Give a name in one step of the system that fails where the name is taken; False where there is no such step.

    Source: renameat2(2) with RENAME_NOREPLACE; renamex_np(2) with RENAME_EXCL; MoveFileExW, which replaces only if asked to.
    """
    if os.name == "nt":
        os.rename(made, path)
        return True
    import ctypes

    libc = ctypes.CDLL(None, use_errno=True)
    source, target = os.fsencode(made), os.fsencode(path)
    if hasattr(libc, "renameat2"):
        failed = libc.renameat2(_AT_CWD, source, _AT_CWD, target, _NO_REPLACE)
    elif hasattr(libc, "renamex_np"):
        failed = libc.renamex_np(source, target, _EXCLUSIVE)
    else:
        return False
    code = ctypes.get_errno()
    if failed and code not in _NOT_HERE:
        raise OSError(code, os.strerror(code), path)
    return not failed


def claim(made: str, path: str) -> None:
    """Give a finished file or folder its name. Raises `FileExistsError` if that is taken, `OSError` if it cannot be given."""
    if _move_alone(made, path):
        return
    if os.path.isdir(made):
        if os.path.lexists(path):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), path)
        os.rename(made, path)  # what comes there in the meantime, other than an empty folder, makes this fail
        return
    try:
        os.link(made, path)
    except FileExistsError:
        raise
    except OSError:
        # No hard links either: take the name first, then move over our own empty file.
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        try:
            os.replace(made, path)
        except OSError:
            os.unlink(path)  # our own empty file: nothing half-done stays under a final name
            raise


def make_folders(path: str) -> None:
    """Make a folder and those above it, where they are missing; a thousand of them are no problem. Raises `OSError`."""
    missing = []
    while not os.path.isdir(path):
        missing.append(path)
        path = os.path.dirname(path)
    for each in reversed(missing):
        with contextlib.suppress(FileExistsError):
            os.mkdir(each)
            continue
        if not os.path.isdir(each):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), each)


def sync_folder(folder: str) -> None:
    """Have the names of a folder written to the disk, where that can be asked for."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def same_volume(target: str, roots: Iterable[str]) -> str | None:
    """The first root on whose volume a target lies (its nearest folder that exists), None if on none."""
    there = os.path.abspath(target)
    while not os.path.exists(there) and os.path.dirname(there) != there:
        there = os.path.dirname(there)
    with contextlib.suppress(OSError):
        device = os.stat(there).st_dev
        return next((root for root in roots if os.stat(root).st_dev == device), None)
    return None


def outside_searched(path: str, roots: Sequence[str] = ()) -> str:
    """The real path of a place to write. Raises `WrongUsage` if it lies inside what was searched."""
    whole = os.path.abspath(path)
    real = os.path.realpath(whole)
    for root in [*roots, *roots_of_recent_cases()]:
        if inside(real, os.path.realpath(root)):
            raise WrongUsage(
                "the target lies inside what was searched, where writing can destroy what could still be saved",
                whole,
                "Name a folder elsewhere, on another disk if you can",
            )
    return real


def write_new(target: str, data: bytes, what: str) -> None:
    """Write a report, a figure or a picture. Raises `WrongUsage` where a file is there already, or it cannot be written."""
    real = outside_searched(target)
    folder = os.path.dirname(real)
    clean(folder)
    try:
        with scratch(folder, os.unlink) as made:
            with Path(made).open("xb") as out:
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
            claim(made, real)
            sync_folder(folder)
    except FileExistsError as error:
        raise WrongUsage("this file is there already, and is not replaced", target, "Name another file") from error
    except OSError as error:
        raise WrongUsage(f"the {what} cannot be written ({explain(error)})", target, "Name another file") from error
