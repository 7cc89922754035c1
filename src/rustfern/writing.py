"""How files of ours come to be: under a name of their own first, synced, then moved to the final name without ever replacing a file."""

from __future__ import annotations

import contextlib
import hashlib
import os
import platform
import re
import secrets
import shutil
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from rustfern.casefile import roots_of_recent_cases
from rustfern.errors import WrongUsage
from rustfern.places.recorded import inside
from rustfern.sources.folder import explain

PART = ".rustfern-"
"""What the name of everything that is not finished begins with; its machine and the number of its process follow."""
_UNFINISHED = re.compile(r"\.rustfern-([0-9a-f]{8})-(\d{1,9})-[0-9a-f]{16}")


def unfinished() -> str:
    """A fresh name for what is not finished: it tells which machine and which process work on it."""
    return f"{PART}{_host()}-{os.getpid()}-{secrets.token_hex(8)}"


def _host() -> str:
    """This machine in eight letters: on a share, others may work in the same folder."""
    return hashlib.sha256(platform.node().encode("utf-8", "replace")).hexdigest()[:8]


@contextlib.contextmanager
def scratch(folder: str, remove: Callable[[str], Any]) -> Iterator[str]:
    """A fresh name beside the target; what is left under it is removed, whatever happens."""
    path = os.path.join(folder, unfinished())
    try:
        yield path
    finally:
        with contextlib.suppress(OSError):
            remove(path)


def clean(folder: str) -> None:
    """Remove what a run that was killed left unfinished in a folder; what a running one works on stays."""
    import psutil

    with contextlib.suppress(OSError), os.scandir(folder) as listing:
        for item in listing:
            found = _UNFINISHED.fullmatch(item.name)
            if found and found[1] == _host() and not psutil.pid_exists(int(found[2])):
                with contextlib.suppress(OSError):
                    if item.is_dir(follow_symlinks=False):
                        shutil.rmtree(item.path, ignore_errors=True)
                    else:
                        os.unlink(item.path)


def claim(made: str, path: str) -> None:
    """Give a finished file its name. Raises `FileExistsError` if that is taken, `OSError` if it cannot be given."""
    try:
        os.link(made, path)
    except FileExistsError:
        raise
    except OSError:
        # No hard links here (FAT and some shares): take the name first, then move over our own empty file.
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        try:
            os.replace(made, path)
        except OSError:
            os.unlink(path)  # our own empty file: nothing half-done stays under a final name
            raise


def sync_folder(folder: str) -> None:
    """Have the names of a folder written to the disk, where that can be asked for."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


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
