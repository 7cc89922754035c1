"""Whether a place lies inside of a folder, whatever it is called there: by path, by device and inode of all that it lies in, and by the
mount table, where a folder or a part of one has another name too.
"""

from __future__ import annotations

import contextlib
import glob
import os
import re
import stat
import sys
from collections.abc import Iterable, Iterator

import msgspec

_MOUNTS = "/proc/self/mountinfo"
_MEMORY = frozenset({"tmpfs", "ramfs", "devtmpfs"})
_ESCAPED = re.compile(r"\\([0-7]{3})")


class Mount(msgspec.Struct, frozen=True):
    """One line of the mount table: the device (major:minor), which folder of its file system is mounted, where, and of what by its name."""

    device: str
    inner: str
    at: str
    source: str = ""


def mounts() -> list[Mount]:
    """The mount table, the outermost first; empty where the system has none that can be read. Source: proc_pid_mountinfo(5)."""
    found = []
    try:
        with open(_MOUNTS, encoding="utf-8", errors="surrogateescape") as table:  # noqa: PTH123
            for line in table:
                fields = line.split(" ")
                rest = line.partition(" - ")[2].split()
                if len(fields) > 4:
                    named = _plain(rest[1]) if len(rest) > 1 else ""
                    found.append(Mount(fields[2], _plain(fields[3]), _plain(fields[4]), named))
    except OSError:
        return []
    return found


def _plain(text: str) -> str:
    return _ESCAPED.sub(lambda found: chr(int(found[1], 8)), text)


def is_in_memory(path: str) -> bool:
    """Whether a path lies on a disk in memory. Source: proc_pid_mountinfo(5), field 9."""
    real, found, kind = os.path.realpath(path), "", ""
    try:
        with open(_MOUNTS, encoding="utf-8", errors="surrogateescape") as table:  # noqa: PTH123
            for line in table:
                fields, _, rest = line.partition(" - ")
                at = _plain(fields.split()[4])
                if below(real, at) and len(at) >= len(found):
                    found, kind = at, rest.split()[0]
    except (OSError, IndexError):
        return False
    return kind in _MEMORY


def real_path(path: str) -> str:
    """The path of one of our own files or folders when every link on the way is followed."""
    return os.path.realpath(path)


def below(path: str, folder: str) -> bool:
    """Whether a path is a folder or lies in it, by its letters alone."""
    top = folder.rstrip("/\\") if len(folder) > 1 else folder
    return path in (folder, top) or path.startswith((top if top in ("/", "") else top + "/", top + os.sep))


def _ancestors(path: str) -> Iterator[str]:
    while True:
        yield path
        above = os.path.dirname(path)
        if above == path:
            return
        path = above


def _on_disk(path: str, table: list[Mount]) -> tuple[str, str] | None:
    """Where a real path lies on its file system: (device, path from that file system's own root)."""
    best: Mount | None = None
    for mount in table:
        # Of two mounts at one place, the later one is what is seen.
        if below(path, mount.at) and (best is None or len(mount.at) >= len(best.at)):
            best = mount
    if best is None:
        return None
    rest = path[len(best.at.rstrip("/")) :].lstrip("/")
    return best.device, os.path.normpath(os.path.join(best.inner, rest))


def _number_of(path: str) -> str:
    """The number (major:minor) of a block device that a path names, empty if it names none."""
    if sys.platform == "win32":
        return ""
    with contextlib.suppress(OSError, ValueError):
        facts = os.stat(path)
        if stat.S_ISBLK(facts.st_mode):
            return f"{os.major(facts.st_rdev)}:{os.minor(facts.st_rdev)}"
    return ""


def device_numbers(device: str) -> set[str]:
    """The numbers of a block device, of the volumes on it, and of what is laid over them. Source: sysfs(5), /sys/dev/block."""
    waiting = [number] if (number := _number_of(device)) else []
    found: set[str] = set()
    while waiting:
        number = waiting.pop()
        if number in found:
            continue
        found.add(number)
        for pattern in ("*/dev", "holders/*/dev"):
            for path in glob.glob(f"/sys/dev/block/{number}/{pattern}"):
                with contextlib.suppress(OSError), open(path, encoding="ascii") as told:  # noqa: PTH123
                    waiting.append(told.read().strip())
    return found


def mounts_of(device: str, table: Iterable[Mount]) -> list[Mount]:
    """The mounts of a block device and of the volumes on it, also by programs (FUSE), which name it."""
    numbers = device_numbers(device)
    return [mount for mount in table if numbers and (mount.device in numbers or _is_one_of(mount.source, numbers))]


def _is_one_of(source: str, numbers: set[str]) -> bool:
    return source.startswith("/dev/") and _number_of(source) in numbers


class Roots:
    """Folders that nothing is written into."""

    def __init__(self, roots: Iterable[str]) -> None:
        self._paths = list(dict.fromkeys(os.path.realpath(root) for root in roots))
        self._known: set[tuple[int, int]] = set()
        for path in self._paths:
            with contextlib.suppress(OSError):
                facts = os.stat(path)
                if facts.st_ino:
                    self._known.add((facts.st_dev, facts.st_ino))
        self._table = mounts() if self._paths else []
        self._devices = {mount.device for path in self._paths for mount in mounts_of(path, self._table)}
        self._places = [place for path in self._paths if (place := _on_disk(path, self._table))]
        # What is mounted somewhere below a root is searched with it, and can be mounted elsewhere too.
        self._places += [
            (mount.device, mount.inner)
            for mount in self._table
            if any(below(mount.at, path) and mount.at != path for path in self._paths)
        ]

    def hold(self, path: str) -> bool:
        """Whether a place to write, which need not be there yet, lies inside one of them."""
        if not self._paths:
            return False
        real = os.path.realpath(path)
        if any(below(real, root) for root in self._paths):
            return True
        for each in _ancestors(real):
            with contextlib.suppress(OSError, ValueError):
                facts = os.stat(each)
                if (facts.st_dev, facts.st_ino) in self._known:
                    return True
        place = _on_disk(real, self._table)
        if place is not None and place[0] in self._devices:
            return True  # it lies on a volume of the disk that is searched
        return place is not None and any(
            place[0] == device and below(place[1], inner) for device, inner in self._places
        )
