"""What runs on this very machine: its name, its clock, which documents its programs hold open. Live searches only."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Container, Iterable, Iterator
from contextlib import suppress
from datetime import UTC, datetime
from itertools import islice
from typing import Literal

import msgspec

from rustfern.core.paths import inside
from rustfern.core.times import Clock
from rustfern.output import temporary
from rustfern.output.inside import mounts, mounts_of

_MOST_STATES = 1024
"""Numbers of earlier states of volumes that are tried: each costs one question to the system."""


def machine_name() -> str:
    """This machine's own name, in small letters and without a domain."""
    return temporary.machine_name().split(".")[0].casefold()


def local_zone_name() -> str:
    """Name of the time zone that this machine shows, such as `UTC` or `CET`."""
    return time.strftime("%Z") or "UTC"


def now() -> datetime:
    """The time of this machine, aware, in its own zone."""
    try:
        return datetime.now().astimezone()
    except ValueError:  # a zone that cannot be
        return datetime.now(UTC)


_NETWORK = frozenset(
    {"nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "afs", "ceph", "fuse.sshfs", "fuse.glusterfs", "webdav", "afpfs"}
)
"""File systems that other machines work on at the same time."""
_MAX_PEOPLE, _FIRST_PERSON = 10_000, 500
"""Accounts looked at, and the lowest number of one that is a person's (1000 on Linux, 501 on macOS)."""


def is_in_use(path: str) -> bool:
    """Whether a folder is part of the running system, or of a mounted share: somebody may be at work in it right now.

    That are the homes of all accounts of this machine, what lies in them, what they lie in, and what a network file system shows.
    """
    real = os.path.realpath(path)
    if any(inside(real, home) or inside(home, real) for home in _homes()):
        return True
    return any(inside(real, share) for share in _shares())


def mounted_from(device: str) -> list[str]:
    """Where a device, or a volume on it, is mounted; on Linux by the numbers of devices, elsewhere by their names."""
    if sys.platform.startswith("linux"):
        return list(dict.fromkeys(mount.at for mount in mounts_of(device, mounts())))
    import psutil

    name = device.replace("/dev/rdisk", "/dev/disk")
    with suppress(OSError):
        return [part.mountpoint for part in psutil.disk_partitions(all=True) if part.device.startswith(name)]
    return []


def _homes() -> list[str]:
    """The homes of this machine's people, real paths."""
    found = [os.path.expanduser("~")]
    if sys.platform == "win32":
        found.append(os.path.dirname(found[0]))
    else:
        import pwd

        for account in islice(pwd.getpwall(), _MAX_PEOPLE):
            if account.pw_uid >= _FIRST_PERSON and os.path.isdir(account.pw_dir):
                found.append(account.pw_dir)
    real = (os.path.realpath(home) for home in found)
    return [home for home in real if os.path.dirname(home) != home]


def _shares() -> list[str]:
    """Where network file systems are mounted. Source: proc_pid_mounts(5)."""
    try:
        with open("/proc/self/mounts", encoding="utf-8", errors="surrogateescape") as table:  # noqa: PTH123
            rows = [line.split() for line in table]
    except OSError:
        return []
    return [row[1].replace("\\040", " ") for row in rows if len(row) > 2 and row[2] in _NETWORK]


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


def ago(then: datetime | None, clock: Clock) -> str:
    """How long ago a time was, for people."""
    if then is None:
        return "at an unknown time"
    seconds = (now() - then).total_seconds()
    if seconds < 0:
        return f"at {clock.format_time(then)} (in the future)"
    if seconds < 90:
        return "a moment ago"
    for unit, length in (("minutes", 60), ("hours", 3600), ("days", 86400)):
        count = round(seconds / length)
        if count < (100 if unit == "minutes" else 48 if unit == "hours" else 1 << 30):
            return f"{count} {unit} ago" if count != 1 else f"1 {unit[:-1]} ago"
    return "long ago"


class Running(msgspec.Struct, frozen=True):
    """A process: its id, its name in small letters, the documents that it holds open as far as the system shows them."""

    pid: int
    name: str
    documents: tuple[str, ...]


def programs(wanted: Container[str], is_document: Callable[[str], bool]) -> Iterator[Running]:
    """The running processes of these names (small letters); `is_document` tells documents by their paths."""
    import psutil

    for process in psutil.process_iter(["name"]):
        name = (process.info["name"] or "").casefold()
        if name not in wanted:
            continue
        try:
            paths = [file.path for file in process.open_files()]
        except (psutil.Error, OSError):
            paths = []
        documents = tuple(path for path in paths if is_document(path))
        yield Running(process.pid, name, documents)


def running_for(names: Iterable[str], home: str, *, is_live: bool) -> str:
    """The name of a running program, of these, that works in a home; empty if none does.

    A process tells its home by its environment; one that does not let us see it counts if the home is in use on this machine.
    """
    import psutil

    wanted = {name.casefold() for name in names}
    real = os.path.realpath(home)
    if not wanted:
        return ""
    for process in psutil.process_iter(["name", "status"]):
        name = process.info["name"] or ""
        if name.casefold() not in wanted or process.info["status"] == psutil.STATUS_ZOMBIE:
            continue
        try:
            told = process.environ()
            theirs = told.get("USERPROFILE" if sys.platform == "win32" else "HOME", "")
        except (psutil.Error, OSError):
            theirs = ""
        if (theirs and os.path.realpath(theirs) == real) or (not theirs and is_live):
            return name
    return ""


def is_own_home(path: str) -> bool:
    """Whether a folder is the home of the person who runs this."""
    return os.path.realpath(path) == os.path.realpath(os.path.expanduser("~"))


_OWNERLESS = frozenset({"vfat", "msdos", "exfat", "ntfs", "ntfs3", "fuseblk", "hfs", "iso9660", "udf"}) | _NETWORK
"""File systems on which the owner that is shown says nothing."""


def whose(path: str) -> Literal["own", "other", "unknown"]:
    """Whose a home is: of the account that runs this, of another one, or not to be told (a file system without owners)."""
    if is_own_home(path):
        return "own"
    if sys.platform == "win32":
        return "other"
    real, kind, longest = os.path.realpath(path), "", -1
    with suppress(OSError), open("/proc/self/mounts", encoding="utf-8", errors="surrogateescape") as table:  # noqa: PTH123
        for row in (line.split() for line in table):
            at = row[1].replace("\\040", " ") if len(row) > 2 else ""
            if at and inside(real, at) and len(at) >= longest:
                kind, longest = row[2], len(at)
    if kind in _OWNERLESS:
        return "unknown"
    try:
        return "own" if os.lstat(real).st_uid == os.geteuid() else "other"
    except OSError:
        return "unknown"


def system_files(pattern: str) -> list[str]:
    """Files of this running system that a pattern such as `usr/lib/*/name` names."""
    import glob

    root = os.path.splitdrive(os.path.expanduser("~"))[0] + os.sep
    return sorted(path for path in glob.glob(os.path.join(root, *pattern.split("/"))) if os.path.isfile(path))


def locked_disks() -> list[str]:
    """Encrypted volumes that this machine sees and nothing has unlocked (Linux, as far as we may read them).

    Sources: the signatures `-FVE-FS-` at byte 3 of the first sector, and `LUKS\xba\xbe` at byte 0.
    """
    out: list[str] = []
    try:
        names = sorted(os.listdir("/sys/class/block"))
    except OSError:
        return out
    for name in names:
        if os.path.isdir(f"/sys/class/block/{name}/holders") and os.listdir(f"/sys/class/block/{name}/holders"):
            continue  # something unlocked it
        try:
            handle = os.open(f"/dev/{name}", os.O_RDONLY | getattr(os, "O_NONBLOCK", 0))
        except OSError:
            continue
        try:
            head = os.read(handle, 512)
        except OSError:
            head = b""
        finally:
            os.close(handle)
        if head[3:11] == b"-FVE-FS-" or head[:6] == b"LUKS\xba\xbe":
            out.append(f"/dev/{name}: an encrypted volume that is locked: unlock it with the person's key, read-only")
    return out


def earlier_states(root: str, devices: str = r"\\?\GLOBALROOT\Device\HarddiskVolumeShadowCopy") -> list[str]:
    """The same folder in the states of its volume that a running Windows keeps, by their device paths; none elsewhere, or where this account may
    not look. States of other volumes are told by the number of the volume.
    """
    inner = os.path.splitdrive(os.path.realpath(root))[1]
    try:
        volume = os.stat(root).st_dev
    except OSError:
        return []
    found = []
    for number in range(1, _MOST_STATES + 1):
        state = f"{devices}{number}"
        try:
            if os.stat(state + os.sep).st_dev == volume and os.path.isdir(state + inner):
                found.append(state + inner)
        except OSError:
            continue
    return found


def deleted_but_open() -> list[tuple[str, str, str]]:
    """Files that were deleted while a process holds them open: (path that opens them, where they were, program). Linux only."""
    if not sys.platform.startswith("linux"):
        return []
    found = []
    seen: set[tuple[int, int]] = set()
    for pid in [name for name in os.listdir("/proc") if name.isdigit() and int(name) != os.getpid()]:
        try:
            numbers = os.listdir(f"/proc/{pid}/fd")
        except OSError:
            continue
        for number in numbers:
            path = f"/proc/{pid}/fd/{number}"
            try:
                target = os.readlink(path)
                if not target.endswith(" (deleted)") or not target.startswith("/"):
                    continue
                facts = os.stat(path)
            except OSError:
                continue
            if facts.st_size and (facts.st_dev, facts.st_ino) not in seen:
                seen.add((facts.st_dev, facts.st_ino))
                found.append((path, target.removesuffix(" (deleted)"), program_of(pid)))
    return found


def program_of(pid: str) -> str:
    """The name of a process, its number if the system does not tell."""
    try:
        with open(f"/proc/{pid}/comm", encoding="utf-8", errors="replace") as source:  # noqa: PTH123
            return source.read().strip() or pid
    except OSError:
        return pid
