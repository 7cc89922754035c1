"""Where cases lie, which one a terminal is at work in, and which folders were searched lately.

A terminal goes on in the case of its own last search, whatever was searched elsewhere: another customer's case is never taken for it.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import stat
import sys
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

import msgspec

from rustfern.cases.case_file import CaseFile, roots_of
from rustfern.core.data_folder import VARIABLE as DATA
from rustfern.core.data_folder import data_folder
from rustfern.core.errors import CaseError
from rustfern.output.atomic import open_own
from rustfern.output.folder import Folder
from rustfern.output.inside import Roots
from rustfern.output.temporary import clean, process_began

_RECENT_CASES = 50
_TERMINALS = "terminals"
_MAX_RECORD_BYTES = 1 << 16
_PRIVATE_FOLDER = 0o700
ONE_OF_MANY = "RUSTFERN_ONE_OF_MANY"
"""The environment variable that is set while one of many roots is worked on."""
VARIABLE = "RUSTFERN_CASE"
"""The environment variable that names the case of a terminal or a script."""


def state_folder() -> str:
    """Where case files are kept: in the folder that is named for all of ours, else the user's state folder. Source: XDG Base Directory Specification, XDG_STATE_HOME."""
    if (data := data_folder()) is not None:
        return os.path.join(data, "cases")
    if os.name == "posix" and sys.platform != "darwin":
        # The library takes longer to load than a search of a few files.
        named = os.environ.get("XDG_STATE_HOME", "")
        return os.path.join(named if os.path.isabs(named) else os.path.expanduser("~/.local/state"), "rustfern")
    import platformdirs

    return str(platformdirs.user_state_dir("rustfern", appauthor=False))


def prepare_data_folder() -> bool:
    """Make the folder that is named for all that is ours. Where it cannot be written (a stick that is write-protected), a folder in memory stands in
    for it until this machine is shut down; False then. Nothing is done where none is named.
    """
    data = data_folder()
    if data is None:
        return True
    memory = [os.environ.get("XDG_RUNTIME_DIR", ""), "/dev/shm"]
    owner = f"rustfern-{os.getuid()}" if hasattr(os, "getuid") else "rustfern"
    for folder in (data, *(os.path.join(each, owner) for each in memory if each and os.path.isdir(each))):
        with contextlib.suppress(OSError):
            for name in ("cases", "scratch"):
                os.makedirs(os.path.join(folder, name), _PRIVATE_FOLDER, exist_ok=True)
            facts = os.lstat(folder)
            if folder != data and (not stat.S_ISDIR(facts.st_mode) or not _is_private(facts)):
                continue  # in memory that all share, somebody else could have laid it out
            if all(os.access(os.path.join(folder, name), os.W_OK) for name in ("cases", "scratch")):
                os.environ[DATA] = folder
                return folder == data
    return False


def runtime_folders() -> list[str]:
    """Where a case is kept until this machine is shut down, the best first: on no disk at all. Where the system names a folder for
    that, it is the only one. Source: XDG Base Directory Specification, XDG_RUNTIME_DIR.
    """
    if data_folder() is not None:
        return []
    if named := os.environ.get("XDG_RUNTIME_DIR"):
        folders = [os.path.join(named, "rustfern")]
    elif hasattr(os, "getuid"):
        folders = [f"/run/user/{os.getuid()}/rustfern", f"/dev/shm/rustfern-{os.getuid()}"]
    else:
        folders = []
    return [folder for folder in folders if os.path.isdir(os.path.dirname(folder))]


def _own(folder: str) -> bool:
    """Make a private folder of ours, or see that it is one; False where it cannot be, or is somebody else's."""
    try:
        os.makedirs(os.path.dirname(folder), exist_ok=True)
        with contextlib.suppress(FileExistsError):
            os.mkdir(folder, _PRIVATE_FOLDER)
        facts = os.lstat(folder)
        # A folder that was named is its owner's business: a stick knows no owners.
        if data_folder() is None and not _is_private(facts):
            return False
    except OSError:
        return False
    return stat.S_ISDIR(facts.st_mode) and os.access(folder, os.W_OK | os.X_OK)


def _is_private(facts: os.stat_result) -> bool:
    """Whether a folder is this person's, and nobody else may write into it."""
    return not hasattr(os, "geteuid") or (facts.st_uid == os.geteuid() and not facts.st_mode & 0o022)


def case_folder(searched: Roots) -> str | None:
    """Where a new case is kept: the state folder, else one of the runtime folders; never in what is searched. None if nowhere."""
    return next((each for each in (state_folder(), *runtime_folders()) if not searched.hold(each) and _own(each)), None)


def new_case_path(folder: str) -> str:
    """A path for a new case: its name is its time, so that the latest is the last."""
    stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S-%f")
    return os.path.join(folder, f"case-{stamp}.fern")


def _cases_in(folder: str) -> list[str]:
    try:
        names = os.listdir(folder)
    except OSError:
        return []
    return [os.path.join(folder, name) for name in names if name.startswith("case-") and name.endswith(".fern")]


def case_paths() -> list[str]:
    """All cases of our own folders, the newest first."""
    found = {
        os.path.basename(path): path for folder in (*runtime_folders(), state_folder()) for path in _cases_in(folder)
    }
    return [found[name] for name in sorted(found, reverse=True)]


def is_case_folder(path: str) -> bool:
    """Whether a file lies directly in one of the folders that are ours for cases."""
    above = os.path.realpath(os.path.dirname(path))
    return above in {os.path.realpath(folder) for folder in (state_folder(), *runtime_folders())}


def roots_of_recent_cases() -> list[str]:
    """What the last scans of disks searched, whichever case is used now, and what the case of this terminal did: nothing is written there.

    A live search of this person's own files, whose case lies in a runtime folder, only counts in its own terminal.
    """
    recent = sorted(_cases_in(state_folder()), reverse=True)[:_RECENT_CASES]
    with contextlib.suppress(CaseError):
        recent.append(case_in_use())
    roots: list[str] = []
    for path in dict.fromkeys(recent):
        try:
            case = CaseFile.open(path)
        except CaseError:
            continue
        try:
            roots += roots_of(case)
        except sqlite3.Error:
            continue
        finally:
            case.close()
    return sorted(set(roots))


def earlier_case(roots: Sequence[str], but: str | None) -> CaseFile | None:
    """The newest other case that searched the same roots; None if none of the last ones did."""
    for path in case_paths()[:_RECENT_CASES]:
        if path == but:
            continue
        case = None
        with contextlib.suppress(CaseError, sqlite3.Error, ValueError):
            case = CaseFile.open(path)
            if sorted(roots_of(case)) == sorted(roots):
                return case
        if case is not None:
            case.close()
    return None


def open_existing(path: str) -> CaseFile:
    """Open a case to go on with it. Raises `CaseError`, also for one that lies in what was searched: nothing is ever written there."""
    if not is_case_folder(path) and Roots(roots_of_recent_cases()).hold(path):
        raise CaseError(
            "this case file lies inside what was searched, where nothing is written",
            path,
            "Copy it elsewhere, and name the copy with --case FILE",
        )
    return CaseFile.open(path)


# --- the case of this terminal ------------------------------------------------------------------------------------


class _Remembered(msgspec.Struct, frozen=True):
    """What the last search of a terminal left: its case (None: kept in memory only), when."""

    case: str | None
    at: str


def _terminal() -> str:
    """This terminal by the process that leads its session and when that began: numbers of processes come again."""
    leader = os.getsid(0) if hasattr(os, "getsid") else os.getppid()
    return f"{leader}-{process_began(leader)}"


def remember(case: str | None, searched: Iterable[str] = ()) -> None:
    """Have this terminal go on with a case; None: its last search kept none. Written where nothing is searched; nowhere if there is no such place."""
    if os.environ.get(ONE_OF_MANY):
        return  # a terminal stays with the search that somebody made in it
    if os.environ.get(VARIABLE):
        return
    roots = Roots(searched)
    told = {"case": os.path.abspath(case) if case else None, "at": datetime.now(UTC).isoformat()}
    for base in (state_folder(), *runtime_folders()):
        folder = os.path.join(base, _TERMINALS)
        if roots.hold(folder) or not (_own(base) and _own(folder)):
            continue
        with contextlib.suppress(OSError), Folder(folder) as there:
            clean(folder)
            _forget_ended(there)
            with there.scratch() as made:
                handle = there.make(made)
                with os.fdopen(handle, "wb") as out:
                    out.write(json.dumps(told).encode())
                there.replace(made, f"{_terminal()}.json")
            return


def _forget_ended(folder: Folder) -> None:
    """Remove what terminals that are closed by now left."""
    for name in folder.names():
        number, _, began = name.removesuffix(".json").partition("-")
        if number.isdigit() and process_began(int(number)) != began:
            folder.remove(name)


def forget(case: str) -> None:
    """Remove every mention of a case that is gone."""
    for base in (state_folder(), *runtime_folders()):
        folder = os.path.join(base, _TERMINALS)
        if not os.path.isdir(folder):
            continue
        with contextlib.suppress(OSError), Folder(folder) as there:
            for name in there.names():
                found = _read(os.path.join(folder, name))
                if found is not None and found.case == os.path.abspath(case):
                    there.remove(name)


def _read(path: str) -> _Remembered | None:
    try:
        with os.fdopen(open_own(path, os.O_RDONLY), "rb") as source:
            told = json.loads(source.read(_MAX_RECORD_BYTES))
        case = told["case"]
        return _Remembered(None if case is None else str(case), str(told["at"]))
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None


def case_in_use() -> str:
    """The case that this terminal is at work in. Raises `CaseError`, with what to do, if there is none: no other one is ever taken instead."""
    if named := os.environ.get(VARIABLE):
        return os.path.abspath(named)
    name = f"{_terminal()}.json"
    records = [_read(os.path.join(base, _TERMINALS, name)) for base in (state_folder(), *runtime_folders())]
    found = max((each for each in records if each is not None), key=lambda each: each.at, default=None)
    if found is None:
        if case_paths():
            raise CaseError(
                "no case is in use in this terminal",
                None,
                "Scan first, or go on with one: rustfern cases, then rustfern cases 1 --continue",
            )
        raise CaseError("there is no case yet", None, "Scan first: rustfern scan ROOT")
    if found.case is None:
        raise CaseError(
            "the case of the last search in this terminal was kept in memory only, and is gone", None,
            "Scan again with --case FILE, on another disk than what is searched, or name what to restore with --in ROOT",
        )  # fmt: skip
    if not os.path.isfile(found.case):
        raise CaseError(
            "the case of this terminal is not there any more",
            found.case,
            "Scan again, or see which there are: rustfern cases",
        )
    return found.case


def about_case(file: CaseFile) -> str:
    """Which case, disk and person a command works with, in one line."""
    roots = roots_of(file)
    search = file.search()
    person = search.hints.person if search else None
    people = list(dict.fromkeys(home.person for home in search.homes)) if search else []
    whose = person or (", ".join(people[:2]) + (f" and {len(people) - 2} more" if len(people) > 2 else ""))
    disk = ", ".join(roots[:2]) + (f" and {len(roots) - 2} more" if len(roots) > 2 else "")
    return f"case {name_of(file.path or '')}, searched {disk or 'nothing yet'}" + (f", of {whose}" if whose else "")


def name_of(path: str) -> str:
    """What a case is called: the day and the time at which it was begun, or its file's name."""
    stem = os.path.splitext(os.path.basename(path))[0]
    parts = stem.split("-")
    return f"{parts[1]}-{parts[2]}" if len(parts) == 4 and parts[0] == "case" else stem
