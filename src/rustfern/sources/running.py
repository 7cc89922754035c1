"""What runs on this very machine: its name, its clock, which documents its programs hold open. Live searches only."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable
from datetime import datetime


def machine_name() -> str:
    """This machine's own name, in small letters and without a domain."""
    import platform

    return platform.node().split(".")[0].casefold()


def local_zone_name() -> str:
    """Name of the time zone that this machine shows, such as `UTC` or `CET`."""
    return time.strftime("%Z") or "UTC"


def now() -> datetime:
    """The time of this machine, aware, in its own zone."""
    return datetime.now().astimezone()


def running_programs() -> set[str]:
    """Names (small letters) of all processes that this machine shows us."""
    import psutil

    names: set[str] = set()
    for process in psutil.process_iter(["name"]):
        names.add((process.info["name"] or "").casefold())
    return names


def held_open(paths: Iterable[str]) -> dict[str, str]:
    """Which of these files a process of this machine holds open: real path → name of the program.

    Processes of other people are not shown by the system unless we have the right; they are passed over.
    """
    import psutil

    wanted = {os.path.realpath(path): path for path in paths}
    found: dict[str, str] = {}
    if not wanted:
        return found
    for process in psutil.process_iter(["name"]):
        try:
            for file in process.open_files():
                if file.path in wanted and process.pid != os.getpid():
                    found[wanted[file.path]] = process.info["name"] or str(process.pid)
        except (psutil.Error, OSError):
            continue
    return found
