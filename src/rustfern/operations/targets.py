"""Where reports, figures and restored files may be written, and how a report comes to be."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Sequence

from rustfern.cases.location import roots_of_recent_cases
from rustfern.core.errors import WrongUsage, explain
from rustfern.output.folder import Folder
from rustfern.output.inside import Roots
from rustfern.output.temporary import clean


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
