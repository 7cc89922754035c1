"""The one place that replaces somebody else's file: a settings file, whole or not at all, with its owner, rights and attributes."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import sys
from collections.abc import Sequence

import msgspec

from rustfern.output.atomic import lock
from rustfern.output.folder import Folder
from rustfern.output.inside import below
from rustfern.output.temporary import clean

_READ = (
    os.O_RDONLY
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_NONBLOCK", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_BINARY", 0)
)
KEPT = ".before-rustfern"
"""What the name of an old file ends with that is kept beside the new one; a number follows where that is taken."""


class Unchanged(Exception):
    """A file that was left as it is, with the reason in words."""


class FileNow(msgspec.Struct, frozen=True):
    """A file as it is: its bytes (None: there is none), mode, time (ns since 1970)."""

    data: bytes | None
    mode: int | None = None
    modified_ns: int | None = None


def read_now(path: str, limit: int) -> FileNow:
    """A plain file of one name that may be written; nothing is followed. Raises `Unchanged` for anything else, `OSError`."""
    try:
        facts = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return FileNow(None)
    if stat.S_ISLNK(facts.st_mode):
        raise Unchanged(
            f"it is a link to {os.readlink(path)}: what it leads to may belong to something else, so change it there by hand"
        )
    if not stat.S_ISREG(facts.st_mode):
        raise Unchanged("it is no plain file")
    if facts.st_nlink > 1:
        raise Unchanged("the same file has another name too, which would be left behind: change it by hand")
    if facts.st_size > limit:
        raise Unchanged(f"it is too large for a settings file ({facts.st_size} bytes)")
    if not facts.st_mode & stat.S_IWUSR:
        raise Unchanged("it is read-only, which somebody may have done on purpose: make it writable first")
    handle = os.open(path, _READ)
    with os.fdopen(handle, "rb") as stream:
        if sys.platform != "win32" and not lock(handle, wait=False):
            raise Unchanged("it is locked by a program at work: have the person close it, then run this again")
        data = stream.read(limit + 1)
        facts = os.fstat(stream.fileno())
    return FileNow(data, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns)


def kept_name(path: str) -> str:
    """The first free name beside a file for what it was."""
    name, number = path + KEPT, 1
    while os.path.lexists(name):
        number += 1
        name = f"{path}{KEPT}-{number}"
    return name


def keep_beside(path: str, kept: str, data: bytes) -> None:
    """Write the old file beside the new one, under a name that is free. Raises `FileExistsError`, `OSError`."""
    with Folder(os.path.dirname(path)) as there, there.scratch() as made:
        _fill(there, made, data, path)
        there.rename(made, os.path.basename(kept))
        there.sync()


def leads_out(path: str, top: str) -> bool:
    """Whether the folder that a path lies in is outside of another one, by a link on the way."""
    return not below(os.path.realpath(os.path.dirname(path)), os.path.realpath(top))


def missing_folders(path: str) -> list[str]:
    """The folders on the way to a file that are not there, the innermost last."""
    missing: list[str] = []
    folder = os.path.dirname(path)
    while not os.path.lexists(folder):
        missing.insert(0, folder)
        folder = os.path.dirname(folder)
    return missing


def _fill(there: Folder, made: str, data: bytes, like: str) -> None:
    """A new file with some bytes, and with owner, rights and attributes of another one. Raises `OSError`."""
    handle = there.make(made)
    with os.fdopen(handle, "wb") as out:
        out.write(data)
        out.flush()
        facts = None
        with contextlib.suppress(FileNotFoundError):
            facts = os.lstat(like)
        if facts is not None:
            if sys.platform != "win32":
                if (facts.st_uid, facts.st_gid) != (os.geteuid(), os.getegid()):
                    os.fchown(out.fileno(), facts.st_uid, facts.st_gid)
                os.fchmod(out.fileno(), stat.S_IMODE(facts.st_mode))
            if sys.platform == "linux" and stat.S_ISREG(facts.st_mode):
                with contextlib.suppress(OSError):
                    for name in os.listxattr(like, follow_symlinks=False):
                        with contextlib.suppress(OSError):
                            os.setxattr(out.fileno(), name, os.getxattr(like, name, follow_symlinks=False))
        os.fsync(out.fileno())


def replace(path: str, data: bytes, was: FileNow, modified_ns: int | None = None, mode: int | None = None) -> None:
    """Give a file other bytes in one step: at any moment it is the old one or the new one. Raises `Unchanged` where it is not any more what
    it `was`, `OSError` where it cannot be written; what was begun is removed then.
    """
    folder, name = os.path.split(path)
    clean(folder)
    with Folder(folder) as there, there.scratch() as made:
        _fill(there, made, data, path if was.data is not None else folder)
        if was.data is None:
            there.set_facts(made, 0o600 if mode is None else mode, None)
        if modified_ns is not None:
            there.set_facts(made, None, modified_ns)
        if read_now(path, len(data) + len(was.data or b"") + 1).data != was.data:
            raise Unchanged("it was changed by something else in this moment: run it again")
        if was.data is None:
            there.rename(made, name)
        else:
            there.replace(made, name)
        there.sync()


def remove(path: str, was: bytes) -> None:
    """Remove a file of ours that holds what we wrote. Raises `Unchanged` where it holds something else, `OSError`."""
    now = read_now(path, len(was) + 1)
    if now.data is None:
        return
    if now.data != was:
        raise Unchanged("it was changed since")
    os.unlink(path)


def make_folders_like(path: str) -> None:
    """Make the folders that a file lies in, with owner and rights of the innermost one that is there.

    Raises `OSError`, also where a link is in the way.
    """
    made = missing_folders(path)
    folder = os.path.dirname(made[0] if made else path)
    facts = os.lstat(folder)
    if not stat.S_ISDIR(facts.st_mode):
        raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), folder)
    for each in made:
        os.mkdir(each, stat.S_IMODE(facts.st_mode) & 0o755)
        if sys.platform != "win32" and (facts.st_uid, facts.st_gid) != (os.geteuid(), os.getegid()):
            os.chown(each, facts.st_uid, facts.st_gid)


def clean_beside(path: str) -> None:
    """Remove what a run that was killed left unfinished beside a file."""
    clean(os.path.dirname(path))


def remove_folders(made: Sequence[str]) -> None:
    """Remove folders that were made for a file, as far as nothing else lies in them."""
    for each in reversed(made):
        with contextlib.suppress(OSError):
            os.rmdir(each)
