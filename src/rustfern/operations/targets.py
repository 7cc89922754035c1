"""Where reports, figures and restored files may be written, and how a report comes to be."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterable, Sequence

from rustfern.cases.location import roots_of_recent_cases
from rustfern.core.errors import WrongUsage, explain
from rustfern.output.atomic import make_folders, open_own
from rustfern.output.folder import Folder
from rustfern.output.inside import Roots, is_in_memory
from rustfern.output.temporary import clean
from rustfern.sources.kept_folder import lies_in_kept

_SPARE_BYTES = 1 << 16


def same_volume(target: str, roots: Iterable[str]) -> str | None:
    """The first root on whose volume a target lies (its nearest folder that exists), None if on none. Kept folders do not count, which
    hold copies, nor archives and images, which are files, nor disks in memory, where nothing deleted can be saved anyway.
    """
    with contextlib.suppress(OSError):
        there = nearest_folder(target)
        device = os.stat(there).st_dev
        if is_in_memory(there):
            return None
        return next(
            (
                root
                for root in roots
                if os.path.isdir(root) and os.stat(root).st_dev == device and not lies_in_kept(root)
            ),
            None,
        )
    return None


def nearest_folder(path: str) -> str:
    """The folder that a place to write lies in, or would lie in: the nearest one above it that is there."""
    there = os.path.abspath(path)
    while not os.path.isdir(there) and os.path.dirname(there) != there:
        there = os.path.dirname(there)
    return there


def names_in(folder: str) -> set[str]:
    """What is in a folder of ours."""
    return set(os.listdir(folder))


def is_there(path: str, size: int) -> bool:
    """Whether an earlier run seems to have written this: it will be verified, and needs no space."""
    return os.path.isdir(path) or size_of(path) == size


def size_of(path: str) -> int | None:
    """Bytes of a file of ours, None if there is none."""
    return os.path.getsize(path) if os.path.isfile(path) else None


def outside_searched(path: str, roots: Sequence[str] = ()) -> str:
    """The real path of a place to write. Raises `WrongUsage` if it lies inside what was searched."""
    whole = os.path.abspath(path)
    if Roots([*roots, *roots_of_recent_cases()]).hold(whole):
        raise WrongUsage(
            "the target lies inside what was searched, where writing can destroy what could still be saved",
            whole,
            "Name a folder elsewhere, on another disk if you can",
        )
    return os.path.realpath(whole)


def write_new(target: str, data: bytes, what: str, roots: Sequence[str] = ()) -> None:
    """Write a report, a figure or a picture. Raises `WrongUsage` where a file is there already, or it cannot be written."""
    real = outside_searched(target, roots)
    folder = os.path.dirname(real)
    clean(folder)
    try:
        with Folder(folder) as there, there.scratch() as made:
            with os.fdopen(there.make(made), "wb") as out:
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
            there.rename(made, os.path.basename(real))
            there.sync()
    except FileExistsError as error:
        raise WrongUsage("this file is there already, and is not replaced", target, "Name another file") from error
    except OSError as error:
        raise WrongUsage(f"the {what} cannot be written ({explain(error)})", target, "Name another file") from error


def write_over(path: str, data: bytes) -> None:
    """Write a list of ours anew, whole or not at all; it lies beside what it is of. Raises `WrongUsage`."""
    made = f"{path}.new"
    try:
        handle = open_own(made, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        with os.fdopen(handle, "wb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
        os.replace(made, path)
    except OSError as error:
        raise WrongUsage(f"the list cannot be written ({explain(error)})", path, "Name another folder") from error


def check_target(folder: str, roots: Sequence[str], *, allow_inside: bool = False) -> str:
    """Make the target folder and return its real path.

    Raises `WrongUsage` if it lies inside what was searched (and that is not allowed), is a file, or cannot be made or written.
    """
    path = os.path.abspath(folder)
    real = os.path.realpath(path) if allow_inside else outside_searched(folder, roots)
    try:
        make_folders(real)
        with Folder(real) as there, there.scratch() as probe:
            os.close(there.make(probe))
    except FileExistsError as error:
        raise WrongUsage("the target is a file; a folder is needed", path, "Name another with --to DIR") from error
    except OSError as error:
        raise WrongUsage(
            f"the target cannot be written ({explain(error)})", path, "Name another with --to DIR"
        ) from error
    return real


def check_space(folder: str, needed: int) -> None:
    """Whether the bytes that are needed, and a little more, are free there. Raises `WrongUsage`."""
    try:
        free = shutil.disk_usage(nearest_folder(folder)).free
    except OSError:
        return  # nobody knows: writing will tell
    if needed + _SPARE_BYTES > free:
        raise WrongUsage(
            f"there is not enough space at the target: {needed} bytes are needed, {free} are free", folder,
            "Free space there, or name another folder with --to DIR",
        )  # fmt: skip
