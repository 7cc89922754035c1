"""Checks files as a technician asks for it: one verdict each, what else may keep a whole file from opening, patterns over many."""

from __future__ import annotations

import math
import os
import re
import stat
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from functools import lru_cache, partial
from typing import BinaryIO, cast

import msgspec
from msgspec.structs import replace

from rustfern.content import open as contents
from rustfern.core.errors import KeptEncrypted, SourceError
from rustfern.core.model import Content, Entry, Glance, Location, State
from rustfern.core.times import Clock
from rustfern.engine.interface import EngineLost
from rustfern.engine.local import LocalEngine, cores
from rustfern.formats import registry as formats
from rustfern.formats.format_table import (
    class_of,
    companions_of,
    extension_of,
    extension_right,
    format_of_extension,
    title_of,
)
from rustfern.operations.session import Session, set_scratch_outside_of
from rustfern.sources.folder import with_companions
from rustfern.sources.registry import Sources, is_archive, is_searched_file, on_disk

_MIN_ALARMING_FILES, _ALARM_WINDOW = 5, timedelta(minutes=30)
_MIN_FOLDERS, _MIN_KINDS, _MOST_NOTES = 3, 3, 2
_MAX_LOOKED_INTO, _NOISE_BYTES = 20, 512
_LONG_PATH = 259
_LONG_SHEET = 218
_NOT_IN_WINDOWS = re.compile(r'[<>:"|?*\\\x00-\x1f]|[. ]$|^(?:con|prn|aux|nul|com\d|lpt\d)(?:\.|$)', re.IGNORECASE)
_MIN_PARALLEL_SECONDS, _SECONDS_A_FILE = 0.6, 0.002
"""So much work is worth further processes; what any file costs."""
_BYTES_A_SECOND, _USUAL_BYTES_A_SECOND = (
    {"picture": 30e6, "sheet": 12e6, "database": 50e6, "audio": 30e6, "text": 15e6},
    40e6,
)
LOCKS = ("~$", ".~lock.", ".#")
_MACROS = {"docm": "docx", "xlsm": "xlsx", "pptm": "pptx", "dotm": "dotx", "xltm": "xltx", "potm": "potx"}


class Checked(msgspec.Struct, frozen=True):
    """One file: the verdict, the class, whether its extension is right (None: it claims nothing), what else stands in the way."""

    path: str
    content: Content
    doc_class: str
    extension_right: bool | None
    hindrances: tuple[str, ...] = ()
    entry: Entry | None = None


def is_there(door: Sources, path: str) -> bool:
    """Whether there is anything at a path, on a disk or in an archive."""
    whole = os.path.abspath(path)
    return door.around(whole).exists(whole)


def check_paths(
    paths: Sequence[str], *, recursive: bool = False, counted: bool = True, session: Session | None = None
) -> Iterator[Checked]:
    """Check files one after the other; `-` is what comes in on the standard input. Problems are verdicts (`unreadable`). Without `counted`
    nobody asks for their words: the same verdicts take a fraction of the time.
    """
    session = session or Session()
    door = session.sources
    set_scratch_outside_of(session, [path for path in paths if path != "-"])
    files = list(_files(door, paths, recursive=recursive))
    if len(files) < 2 or cores() < 2 or "-" in files or _work(door, files) < _MIN_PARALLEL_SECONDS:
        for path in files:
            yield _verdict_alone(door, path, counted=counted) if path != "-" else _stdin(door, counted=counted)
        return
    done = 0
    formats.prepare(files[0])
    try:
        with LocalEngine(None, _look_for_dead_ones_less_often) as engine:
            alone = partial(_verdict_alone, door, counted=counted)
            for item in engine.map(alone, files, max(1, min(8, len(files) // 16), min(64, len(files) // 1024))):
                done += 1
                yield _shared(item)
    except (EngineLost, OSError):
        # A file that ends a worker (out of memory) must not hide the others: go on alone, one after the other.
        yield from (_verdict_alone(door, path, counted=counted) for path in files[done:])


def _work(door: Sources, files: Sequence[str]) -> float:
    """Roughly the seconds that checking these files takes, up to what is worth a second process."""
    seconds = 0.0
    for path in files:
        with suppress(SourceError):
            size = door.around(os.path.abspath(path)).entry(os.path.abspath(path)).size
            kind = class_of(format_of_extension(extension_of(path)))
            seconds += _SECONDS_A_FILE + size / _BYTES_A_SECOND.get(kind, _USUAL_BYTES_A_SECOND)
        if seconds >= _MIN_PARALLEL_SECONDS:
            break
    return seconds


def _look_for_dead_ones_less_often() -> None:
    """Most objects of a check live as long as its document: looking for dead ones less often saves time."""
    import gc

    gc.set_threshold(100_000, 50, 50)


def _verdict_alone(door: Sources, path: str, *, counted: bool) -> Checked:
    """One file as the command needs it, also of a million: the verdict, and its time and place for what is true of many."""
    item = check_one(path, door, counted=counted)
    told, entry = item.content, item.entry
    content = Content(
        Glance(format=told.format), told.state, told.reason, told.size, words=told.words, amounts=told.amounts
    )
    if entry is not None:
        entry = Entry(entry.location, entry.size, entry.modified)
    return replace(item, content=content, entry=entry)


def _files(door: Sources, paths: Sequence[str], *, recursive: bool) -> Iterator[str]:
    for path in paths:
        if recursive and path != "-" and (door.is_folder(path) or _is_packed(door, path)):
            yield from _below(door, path)
        else:
            yield path


def _is_packed(door: Sources, path: str) -> bool:
    """Whether a path is an archive of files, a disk, or a folder in one: what is in it is checked, not it."""
    whole = os.path.abspath(path)
    try:
        return (not on_disk(whole) or is_searched_file(whole)) and bool(door.open(whole).is_folder(whole))
    except SourceError:
        return False


def _below(door: Sources, folder: str) -> list[str]:
    """Every file below a folder, and the folders that cannot be listed."""
    shut: list[str] = []
    found: list[str] = []
    folder = folder if door.is_folder(folder) else os.path.abspath(folder)
    for inner, _, names in door.open(folder).walk(folder, lambda path, _: shut.append(path)):
        # A lock is no document: a sign that one is, or was, open. Nor is a link to a folder.
        there = [os.path.join(inner, name) for name in names if not name.startswith(LOCKS)]
        found += [path for path in there if not _leads_to_folder(door, path)]
    return sorted([*shut, *found])


def _leads_to_folder(door: Sources, path: str) -> bool:
    try:
        linked = door.around(path).entry(path).link_target is not None
        return linked and bool(door.is_folder(door.real_path(path)))
    except SourceError:
        return False


def check_one(path: str, door: Sources, *, counted: bool = True) -> Checked:
    """Check one file. Never raises for what is wrong with it."""
    whole = os.path.abspath(path)
    name = os.path.basename(whole)
    entry = None
    try:
        entry = door.around(whole).entry(whole)
        if entry.link_target is not None:
            # Asked for by name, a link stands for what it leads to.
            whole = door.real_path(whole)
            entry = door.around(whole).entry(whole)
        if entry.is_folder:
            door.open(whole).names(whole)
            raise SourceError("this is a folder: name its files, or use --recursive", path)
        if not entry.is_file:
            raise SourceError("this is not a regular file and was not opened", path)
        entry = with_companions(door.around(whole), entry, companions_of(name))
        content = contents.check(door, entry, name, digest=False, counted=counted)[0]
        if content.format is None and content.reason.startswith(formats.UNKNOWN) and on_disk(whole):
            content = replace(content, reason=_searched_as(whole) or content.reason)
    except SourceError as error:
        state = State.ENCRYPTED if isinstance(error, KeptEncrypted) else State.UNREADABLE
        content = Content(Glance(), state, error.what, entry.size if entry else 0)
    except (MemoryError, RecursionError, ValueError, LookupError, ArithmeticError, AttributeError, TypeError) as error:
        what = f"its content could not be read ({type(error).__name__}: {str(error)[:100]})"
        content = Content(Glance(), State.UNREADABLE, what, entry.size if entry else 0)
    right = extension_right(name, content.format)
    stands = hindrances(door, whole, name, content, right) if content.state in (State.INTACT, State.EMPTY) else []
    return Checked(path, content, class_of(content.format), right, tuple(stands), entry)


def _searched_as(path: str) -> str:
    """What is said of a file that is searched like a folder; empty of any other. Pictures and sound are called as images of disks are, too."""
    from rustfern.sources.disks.disk import holds_disk

    if not is_searched_file(path):
        return ""
    if not (archive := is_archive(path)) and not holds_disk(path):
        return f"{formats.UNKNOWN}; if it is the image of a disk, search it with scan"
    what = "an archive" if archive else "the image of a disk"
    return f"this is {what}, no document: search it with scan, or check what lies in it with --recursive"


def _shared(item: Checked) -> Checked:
    """The same, with one copy of what many say."""
    told = item.content
    amounts = _amounts(*told.amounts.items())
    content = replace(told, glance=_glance(told.format), reason=sys.intern(told.reason), amounts=amounts)
    entry = item.entry
    if entry is not None:
        path = item.path if entry.path == item.path else entry.path
        entry = replace(entry, location=Location(sys.intern(entry.root), path))
    return replace(item, content=content, doc_class=sys.intern(item.doc_class), entry=entry)


@lru_cache(maxsize=1024)
def _glance(format_name: str | None) -> Glance:
    return Glance(format=format_name)


@lru_cache(maxsize=1024)
def _amounts(*told: tuple[str, int]) -> Mapping[str, int]:
    return dict(told)


def _stdin(door: Sources, *, counted: bool) -> Checked:
    import shutil
    import tempfile

    with tempfile.TemporaryFile(dir=door.scratch.place()) as held:
        shutil.copyfileobj(sys.stdin.buffer, held, 1 << 20)
        content = formats.check(cast(BinaryIO, held), "-", limits=door.limits, counted=counted)
    return Checked("-", content, class_of(content.format), None)


def hindrances(door: Sources, path: str, name: str, content: Content, right: bool | None) -> list[str]:
    """Why a whole file may still be refused by its program."""
    out = []
    folder = os.path.dirname(path)
    if right is False and content.format:
        plain = _MACROS.get(content.format)
        if plain and extension_of(name) == plain:
            out.append(
                f"it holds macros under the extension .{plain}: programs refuse that; rename it to .{content.format}"
            )
        else:
            out.append(f"its content is {title_of(content.format)}: rename it to .{content.format}")
    if content.glance.needs:
        out.append(content.glance.needs)
    for lock in (f".~lock.{name}#", f"~${name}", f"~${name[2:]}", f".{name}.swp", f".#{name}"):
        if door.exists(os.path.join(folder, lock)):
            out.append(f"a lock lies beside it ({lock}): somebody has it open, or a crash left it")
            break
    length = _windows_length(door, path)
    most = _LONG_SHEET if class_of(content.format) == "sheet" else _LONG_PATH
    if length > most:
        out.append(
            f"its path has {length} characters: many Windows programs stop at {most}; move it up, or shorten a folder's name"
        )
    if _NOT_IN_WINDOWS.search(name):
        out.append("its name has signs that Windows programs refuse: rename it before it goes there")
    if any(door.exists(path + mark) for mark in (":Zone.Identifier", ".Zone.Identifier")) or _downloaded(path):
        out.append("it is marked as downloaded: the program may open it protected, or refuse it")
    with suppress(SourceError):
        if not door.around(path).entry(path).mode & (stat.S_IRUSR | stat.S_IRGRP | stat.S_IROTH):
            out.append("nobody has the right to read it")
    return out


def _windows_length(door: Sources, path: str) -> int:
    """The characters of a path as the person's own system counts them: on an attached Windows disk, from its drive on."""
    for found in re.finditer(r"/(?:Users|Documents and Settings)/[^/]+", path):
        home = path[: found.end()]
        if any(door.exists(os.path.join(home, sign)) for sign in ("AppData", "NTUSER.DAT", "Application Data")):
            return len("C:") + len(path) - found.start()
    return len(path)


def _downloaded(path: str) -> bool:
    """The mark that macOS and Linux desktops keep with the file."""
    if not hasattr(os, "listxattr"):
        return False
    try:
        names = os.listxattr(path)
    except OSError:
        return False
    return bool(
        {"com.apple.quarantine", "user.com.apple.quarantine", "user.xdg.origin.url", "user.Zone.Identifier"}
        & set(names)
    )


def _is_noise(entry: Entry) -> bool:
    """Whether a file begins as encrypted bytes do: all values alike often, in no known format."""
    try:
        with Sources().of(entry).open(entry) as stream:
            head = stream.read(_NOISE_BYTES)
    except (SourceError, OSError):
        return False
    if len(head) < 256:
        return False
    counts = [head.count(bytes((value,))) for value in set(head)]
    entropy = -sum(count / len(head) * math.log2(count / len(head)) for count in counts)
    return entropy > 0.93 * min(8.0, math.log2(len(head)))


def alarm(checked: Sequence[Checked], clock: Clock) -> str | None:
    """Many files turned to noise within minutes, under one new ending or all kinds in place: not an accident of one disk sector, nor an archive
    that was unpacked.
    """
    lost: dict[str, list[Checked]] = {}
    whole: list[tuple[datetime, str]] = []
    for item in checked:
        if item.content.state is State.INTACT and item.entry and item.entry.modified:
            whole.append((item.entry.modified, os.path.basename(item.path)))
        if item.content.state is State.DAMAGED or (
            item.content.state is State.UNREADABLE and item.content.format is None
        ):
            lost.setdefault(os.path.basename(item.path).rpartition(".")[2].casefold(), []).append(item)
    for ending, items in lost.items():
        if format_of_extension(ending) is None and (told := _noise(items, whole)) is not None:
            behind = sum(format_of_extension(extension_of(_before_ending(each.path))) is not None for each in items)
            folders = {os.path.dirname(each.path) for each in items}
            # Renamed in place, or under made-up names in folder after folder: what an archive holds is neither.
            if behind * 5 >= len(items) * 4 or (len(folders) >= _MIN_FOLDERS and _few_between(whole, *told)):
                return _alarming(f"{len(items)} files ending in .{ending}", told, clock)
    kept = {ending: items for ending, items in lost.items() if format_of_extension(ending) is not None}
    overwritten = [item for items in kept.values() for item in items]
    if len(kept) >= _MIN_KINDS and (told := _noise(overwritten, whole)) is not None and _few_between(whole, *told):
        return _alarming(f"{len(overwritten)} files of {len(kept)} kinds", told, clock)
    return None


def _before_ending(path: str) -> str:
    return os.path.basename(path).rpartition(".")[0]


def _noise(items: Sequence[Checked], whole: Sequence[tuple[datetime, str]]) -> tuple[datetime, datetime] | None:
    """Between when they were written, if these files are noise, all of them within minutes, and not among more that are whole."""
    entries = [item.entry for item in items if item.entry and item.entry.size]
    times = sorted(entry.modified for entry in entries if entry.modified)
    if len(times) < _MIN_ALARMING_FILES or times[-1] - times[0] > _ALARM_WINDOW:
        return None
    if len(_between(whole, times[0], times[-1])) > len(times):
        return None
    looked_into = entries[:_MAX_LOOKED_INTO]
    return (times[0], times[-1]) if sum(map(_is_noise, looked_into)) * 5 >= len(looked_into) * 4 else None


def _between(whole: Sequence[tuple[datetime, str]], first: datetime, last: datetime) -> set[str]:
    """Names under which whole files were written: a note that an attack leaves in each folder counts once."""
    return {name for when, name in whole if first <= when <= last}


def _few_between(whole: Sequence[tuple[datetime, str]], first: datetime, last: datetime) -> bool:
    return len(_between(whole, first, last)) <= _MOST_NOTES


def _alarming(what: str, between: tuple[datetime, datetime], clock: Clock) -> str:
    first, last = between
    return (
        f"{what} were turned to noise between {clock.format_time(first)} and {clock.local(last):%H:%M}: stop, disconnect this machine from "
        "the network, pause sync, and keep the disk as it is"
    )
