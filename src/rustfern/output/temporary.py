"""What is not finished, or only ours for a while: named so that the next run knows it, and removes what a killed one left.

The name tells which machine and which process work on it. Private folders lie where temporary files do, but never in what is searched, as
long as there is another place.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import sys
import zlib
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from rustfern.core.data_folder import data_folder
from rustfern.core.errors import SourceError
from rustfern.output.inside import Roots

if TYPE_CHECKING:
    from pathlib import Path

PART = ".rustfern-"
"""What the name of everything that is not finished begins with; its machine and the number of its process follow."""
_UNFINISHED = re.compile(r"\.rustfern-([0-9a-f]{8})-(\d{1,9})-[0-9a-f]{16}")
_FULL = (errno.ENOSPC, getattr(errno, "EDQUOT", errno.ENOSPC))


def fresh_name() -> str:
    """A fresh name for what is not finished."""
    return f"{PART}{_host()}-{os.getpid()}-{os.urandom(8).hex()}"


def is_ours(name: str) -> bool:
    """Whether a file name is one of ours for what is not finished."""
    return _UNFINISHED.fullmatch(name) is not None


def machine_name() -> str:
    """This machine's own name."""
    if sys.platform != "win32":
        return os.uname().nodename
    import platform

    return platform.node()


@lru_cache(1)
def _host() -> str:
    """This machine in eight letters: on a share, others may work in the same folder."""
    return f"{zlib.crc32(machine_name().encode('utf-8', 'replace')):08x}"


@contextlib.contextmanager
def scratch(where: str, remove: Callable[[str], Any]) -> Iterator[str]:
    """A fresh name beside a target; what is left under it is removed, whatever happens."""
    path = os.path.join(where, fresh_name())
    try:
        yield path
    finally:
        with contextlib.suppress(OSError):
            remove(path)


def clean(where: str) -> None:
    """Remove what a run that was killed left unfinished in a folder; what a running one works on stays."""
    with contextlib.suppress(OSError), os.scandir(where) as listing:
        for item in listing:
            found = _UNFINISHED.fullmatch(item.name)
            if found and found[1] == _host() and not _runs(int(found[2])):
                with contextlib.suppress(OSError):
                    if not _is_own(item):
                        continue
                    if item.is_dir(follow_symlinks=False):
                        remove_tree(item.path)
                    else:
                        os.unlink(item.path)


def _is_own(item: os.DirEntry[str]) -> bool:
    """Whether this person made it: in a folder for all, somebody else could have laid a trap. Raises `OSError`."""
    return not hasattr(os, "geteuid") or item.stat(follow_symlinks=False).st_uid == os.geteuid()


def remove_tree(path: str) -> None:
    """Remove a folder of ours with all that is in it, as far as that can be done: one of a thousand levels is no problem."""
    every = [path]
    for each in every:
        with contextlib.suppress(OSError), os.scandir(each) as listing:
            for item in listing:
                with contextlib.suppress(OSError):
                    if item.is_dir(follow_symlinks=False):
                        every.append(item.path)
                    else:
                        os.unlink(item.path)
    for each in reversed(every):
        with contextlib.suppress(OSError):
            os.rmdir(each)


def _runs(process: int) -> bool:
    import psutil

    return bool(psutil.pid_exists(process))


def process_began(process: int) -> str:
    """When a process began, as this system counts (numbers of processes come again); empty if there is none. Source: proc_pid_stat(5), field 22."""
    try:
        with open(f"/proc/{process}/stat", "rb") as stat:  # noqa: PTH123
            return stat.read(4096).rpartition(b")")[2].split()[19].decode("ascii")
    except (OSError, IndexError, ValueError):
        if os.path.exists("/proc/self/stat"):
            return ""
    import psutil

    try:
        return str(int(psutil.Process(process).create_time()))
    except (psutil.Error, OSError):
        return ""


def usual_folder() -> str:
    """Where temporary files lie. Unlike the standard library this writes nothing to find out."""
    if (data := data_folder()) is not None:
        return os.path.join(data, "scratch")
    named = next((os.environ[name] for name in ("TMPDIR", "TEMP", "TMP") if os.environ.get(name)), None)
    if named or os.name == "posix":
        return named or "/tmp"
    import tempfile

    return tempfile.gettempdir()


class Scratch:
    """Where what is only ours for a while is made: where temporary files usually lie, or elsewhere if that is searched."""

    def __init__(self, folder: str | None = None) -> None:
        self.folder = folder

    def place(self) -> str:
        """The folder for private folders."""
        return self.folder or usual_folder()

    def choose(self, roots: Sequence[str], others: Sequence[str]) -> str | None:
        """Choose where private folders are made from now on: where temporary files usually lie, else in the first of `others` that can be
        written, but not in `roots` (real paths). Leftovers of killed runs are removed there. None if every one of them is searched: the usual
        place is kept then.
        """
        self.folder = None
        usual = usual_folder()
        searched = Roots(roots)
        for each in (usual, *others):
            if os.access(each, os.W_OK | os.X_OK) and not searched.hold(each):
                if each != usual:
                    self.folder = each
                clean(each)
                return each
        clean(usual)
        return None

    @contextlib.contextmanager
    def private_folder(self) -> Iterator[Path]:
        """A folder that only its owner may look into, for copies that libraries need as files; removed at the end. Raises `SourceError` where
        there is no room for it, or for what is written into it.
        """
        base = self.place()
        path = os.path.join(base, fresh_name())
        try:
            try:
                os.mkdir(path, 0o700)
            except OSError as error:
                raise _no_room(error, base) from error
            try:
                from pathlib import Path

                yield Path(path)
            except OSError as error:
                if error.errno not in _FULL:
                    raise
                raise _no_room(error, base) from error
        finally:
            remove_tree(path)


def _no_room(error: OSError, base: str) -> SourceError:
    what = f"no private copy can be made to read it from ({(error.strerror or '').lower()})"
    return SourceError(what, base, "Free space there, or set TMPDIR to a folder elsewhere")
