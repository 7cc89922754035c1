"""The only code that writes a recovered file: beside its final name, synced, read back, compared, then moved into place."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import io
import json
import os
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import BinaryIO

import msgspec
from msgspec.structs import replace

from rustfern.cases.case_file import CaseFile, StoredCopy
from rustfern.cases.location import roots_of_recent_cases
from rustfern.content import open as contents
from rustfern.core.answers import plain
from rustfern.core.errors import CaseError, RestoreRefused, SourceError, WrongUsage, explain
from rustfern.core.model import Content, Entry
from rustfern.core.paths import show_name
from rustfern.core.remote_paths import as_written
from rustfern.core.times import Clock
from rustfern.formats import registry as formats
from rustfern.operations import command_schema
from rustfern.operations.as_text import as_text
from rustfern.operations.restore_names import layout, named, safe_name, target_name
from rustfern.operations.session import Session
from rustfern.operations.targets import check_space, check_target, is_there, outside_searched
from rustfern.output.atomic import lock
from rustfern.output.folder import Folder, permitted
from rustfern.output.inside import Roots, real_path
from rustfern.output.temporary import clean
from rustfern.sources.kept_folder import lies_in_kept
from rustfern.sources.registry import Sources, on_disk

_CHUNK_BYTES = 1 << 20
_MAX_NAMES = 1_000
_LONGEST_EXTENSION = 9
_FOLDER_MODE = 0o700
LIST = "restored.jsonl"
"""The list of what was restored, beside the files."""


class Restored(msgspec.Struct, frozen=True):
    """One restored copy: its id, where from, where to, the sum and state of what was written, the name that it was to have, and whether
    an earlier run had written it (then it was only verified)."""

    id: str
    source: str
    target: str
    sha256: str
    state: str
    document: str
    notes: tuple[str, ...] = ()
    wanted: str = ""
    again: bool = False
    is_text: bool = False


class Refused(msgspec.Struct, frozen=True):
    """One copy that was not restored, and why."""

    id: str
    message: str


class RestoreOptions(msgspec.Struct, frozen=True):
    """How it is to be restored: under a name of the technician's own, in the folders of the originals, even inside what was searched,
    or only its readable text.
    """

    name: str | None = None
    keep_layout: bool = False
    allow_inside: bool = False
    as_text: bool = False


_AS_FOUND = RestoreOptions()


class Planned(msgspec.Struct, frozen=True):
    """What would be written: the copy's id, where from, the path below the target, bytes."""

    id: str
    source: str
    target: str
    size: int
    document: str
    notes: tuple[str, ...]


def plan(copies: Sequence[StoredCopy], wish: RestoreOptions, clock: Clock) -> list[Planned]:
    """What `restore` would write, without looking at any disk."""
    out = []
    for copy in copies:
        folders, name, notes = _place_of(copy, wish, clock)
        path = os.path.join(*folders, name)
        out.append(Planned(copy.id, copy.path, path, copy.facts.size or 0, copy.document.name, tuple(notes)))
    return out


def _place_of(copy: StoredCopy, wish: RestoreOptions, clock: Clock) -> tuple[list[str], str, list[str]]:
    if wish.as_text:
        name, notes = (safe_name(wish.name), []) if wish.name is not None else target_name(copy, clock)
        name = f"{_parted(name)[0] or name}.txt"
    else:
        name, notes = named(copy, wish.name) if wish.name is not None else target_name(copy, clock)
    return layout(copy) if wish.keep_layout else [], name, notes


def restore(
    copies: Sequence[StoredCopy],
    folder: str,
    case: CaseFile,
    roots: Sequence[str],
    wish: RestoreOptions = _AS_FOUND,
    session: Session | None = None,
) -> tuple[list[Restored], list[Refused]]:
    """Restore copies into a folder. Each is verified; one that fails is refused with the reason, the others go on. What an earlier run
    restored there is verified again and not written twice. A list of all that was done lies beside the files; while one run works in a
    folder, others wait.

    Raises `WrongUsage` for a target that cannot be used at all, or has too little space.
    """
    session = session or Session()
    door, clock = session.sources, session.clock
    planned = plan(copies, wish, clock)
    check_space(
        folder, sum(each.size for each in planned if not is_there(os.path.join(folder, each.target), each.size))
    )
    _outside(folder, planned, roots, wish)
    real = check_target(folder, roots, allow_inside=wish.allow_inside)
    done: list[Restored] = []
    refused: list[Refused] = []
    with open_target(real) as target, _List(target) as listed:
        clean(real)
        try:
            for copy in copies:
                try:
                    folders, name, notes = _place_of(copy, wish, clock)
                    wanted = os.path.join(*folders, name)
                    bases = _bases_of(door, copy, case)
                    told = as_text(door, copy, bases) if wish.as_text else None
                    expected = hashlib.sha256(told).hexdigest() if told is not None else copy.facts.sha256 or ""
                    restored = _again(door, copy, target, wanted, tuple(notes), listed.before, expected)
                    if restored is not None and told is not None:
                        restored = msgspec.structs.replace(restored, is_text=True)
                    if restored is None:
                        with _below(target, folders) as inner:
                            restored = (
                                _text(door, copy, inner, name, told, expected)
                                if told is not None
                                else _one(door, copy, inner, name, notes, _entries(door, bases))
                            )
                    if not restored.again or (copy.path, restored.sha256, wanted) not in listed.before:
                        # A run that was killed may have given a file its name and not listed it.
                        restored = listed.add(restored, copy)
                    done.append(restored)
                except (RestoreRefused, SourceError) as error:
                    refused.append(Refused(copy.id, str(error)))
                except OSError as error:
                    refused.append(Refused(copy.id, _system(error, real)))
        finally:
            if case.path is not None and done:
                # The files are there and verified: a case file that cannot take the note must not say otherwise.
                with contextlib.suppress(CaseError):
                    case.add_restored((each.id, each.target, each.sha256) for each in done)
    return done, refused


def _outside(folder: str, planned: Sequence[Planned], roots: Sequence[str], wish: RestoreOptions) -> None:
    """Whether every folder that files go to lies outside of what was searched: a layout can lead into it from above. Raises `WrongUsage`."""
    if wish.allow_inside:
        return
    outside_searched(folder, roots)
    searched = Roots([*roots, *roots_of_recent_cases()])
    for place in dict.fromkeys(os.path.dirname(each.target) for each in planned):
        if searched.hold(os.path.join(os.path.abspath(folder), place)):
            raise WrongUsage(
                "files would be restored into what was searched, where writing can destroy what could still be saved",
                os.path.join(folder, place), "Name a folder elsewhere with --to DIR, on another disk if you can",
            )  # fmt: skip


def open_target(real: str) -> Folder:
    """The target, held by its handle. Raises `WrongUsage` where its path was changed since it was checked."""
    try:
        folder = Folder(real)
    except OSError as error:
        raise WrongUsage(
            f"the target cannot be opened ({explain(error)})", real, "Name another with --to DIR"
        ) from error
    if real_path(real) != real or not folder.is_where_it_was():
        folder.close()
        raise WrongUsage("the target was moved or replaced just now", real, "Name another with --to DIR")
    return folder


def _below(target: Folder, folders: Sequence[str]) -> Folder:
    """The folders of a layout below the target; one that is a link or a file there is refused."""
    try:
        inner = target.below(folders)
    except OSError as error:
        if error.errno not in (errno.ELOOP, errno.ENOTDIR, errno.EEXIST, getattr(errno, "EMLINK", errno.ELOOP)):
            raise
        raise RestoreRefused(
            "a folder of the layout is something else there",
            os.path.join(target.path, *folders),
            "Name an empty folder with --to DIR",
        ) from error
    if folders:
        clean(inner.path)
    return inner


class _List:
    """The list beside the files, open for this run alone. `before` is what it says: (copy, sum, folder and name that were wanted) → file
    below the target. A list that cannot be written changes nothing of what is restored: it is said.
    """

    def __init__(self, target: Folder) -> None:
        self._target = target
        self.before: dict[tuple[str, str, str], str] = {}
        self._out: BinaryIO | None = None
        self._trouble = ""

    def __enter__(self) -> _List:
        for _ in range(_MAX_NAMES):
            try:
                handle = self._target.append(LIST)
            except OSError as error:
                self._trouble = explain(error)
                return self
            lock(handle, wait=True)
            now = self._target.stat(LIST)
            if now is not None and (now.st_dev, now.st_ino) == (os.fstat(handle).st_dev, os.fstat(handle).st_ino):
                break
            os.close(handle)  # the run that was waited for removed it: nothing was restored
        self._out = os.fdopen(handle, "ab+")
        self._out.seek(0)
        for line in self._out:
            # A last line may have been cut off.
            with contextlib.suppress(ValueError, KeyError, TypeError, RecursionError):
                row = json.loads(line)
                self.before[str(row["from"]), str(row["sha256"]), str(row["wanted"])] = str(row["to"])
        return self

    def __exit__(self, *_: object) -> None:
        if self._out is not None:
            with contextlib.suppress(OSError):
                if os.fstat(self._out.fileno()).st_size == 0:
                    self._target.remove(LIST)
                else:
                    self._target.sync()
            self._out.close()

    def add(self, restored: Restored, copy: StoredCopy) -> Restored:
        """Add a line, synced; a last line that was cut off is ended first. The file is there and verified, whatever becomes of the line."""
        try:
            if self._out is None:
                raise OSError(errno.EIO, self._trouble)
            size = self._out.seek(0, os.SEEK_END)
            self._out.seek(max(size - 1, 0))
            if self._out.read(1) not in (b"", b"\n"):
                self._out.write(b"\n")
            self._out.write(
                as_written(
                    json.dumps(
                        plain(command_schema.restored_line(restored, copy, self._target.path, datetime.now(UTC)))
                    )
                ).encode()
                + b"\n"
            )
            self._out.flush()
            os.fsync(self._out.fileno())
        except OSError as error:
            note = f"it is not in the list beside the files, which could not be written ({explain(error)})"
            return msgspec.structs.replace(restored, notes=(*restored.notes, note))
        return restored


def _again(
    door: Sources,
    copy: StoredCopy,
    folder: Folder,
    wanted: str,
    notes: tuple[str, ...],
    before: Mapping[tuple[str, str, str], str],
    expected: str,
) -> Restored | None:
    """A copy that an earlier run restored, if its file is still there and the same."""
    relative = before.get((copy.path, expected, wanted), wanted)
    if os.path.isabs(relative) or ".." in relative.split("/"):
        return None
    target = os.path.join(folder.path, relative)
    if real_path(target) != target:
        return None
    try:
        entry = door.around(target).entry(target)
        if not (entry.is_file or entry.is_folder):
            return None
        content, _ = contents.check(door, entry, os.path.basename(target), counted=False)
    except SourceError:
        return None
    if content.sha256 != expected:
        return None
    state = "damaged" if copy.facts.state == "damaged" else str(content.state)
    document = copy.document.name
    return Restored(copy.id, copy.path, target, expected, state, document, notes, os.path.basename(wanted), again=True)


def _bases_of(door: Sources, copy: StoredCopy, case: CaseFile) -> list[StoredCopy]:
    """The copies that a copy is rebuilt on."""
    wanted = set(copy.facts.needs)
    return [other for other in case.copies(copy.number) if other.id in wanted] if wanted else []


def _entries(door: Sources, copies: Sequence[StoredCopy]) -> list[Entry]:
    return [contents.stored_entry(door, copy) for copy in copies]


def _parted(name: str) -> tuple[str, str]:
    """A name without its extension, and the extension, empty where it has none."""
    stem, dot, extension = name.rpartition(".")
    return (name, "") if not dot or len(extension) >= _LONGEST_EXTENSION or ")" in extension else (stem, extension)


def _text(door: Sources, copy: StoredCopy, folder: Folder, name: str, told: bytes, expected: str) -> Restored:
    """Write the readable text of a copy, and read it back."""
    with folder.scratch() as made:
        if _write(io.BytesIO(told), folder, made, copy.path) != expected:
            raise RestoreRefused(
                "what was written could not be read back as it was", name, "Name another folder with --to"
            )
        target = place(folder, made, name)
    state = copy.facts.state if copy.facts.state in ("damaged", "intact") else "intact"
    notes = ["its readable text only: the copy itself is restored without --as-text"]
    if state == "damaged":
        notes.append(f"the copy is damaged, so some of its text may be missing: {copy.facts.reason}")
    return Restored(copy.id, copy.path, target, expected, state, copy.document.name, tuple(notes), name, is_text=True)


def _system(error: OSError, folder: str) -> str:
    if error.errno in (errno.ENOSPC, getattr(errno, "EDQUOT", -1)):
        return (
            f"there is no space left at the target: {show_name(folder)}. Free space, or name another folder with --to"
        )
    return f"the target cannot be written ({explain(error)}): {show_name(folder)}. Name another with --to"


def _one(
    door: Sources, copy: StoredCopy, folder: Folder, name: str, notes: list[str], bases: Sequence[Entry]
) -> Restored:
    entry = contents.stored_entry(door, copy)
    if entry.link_target is not None:
        raise RestoreRefused("this is a link now, it was none at the scan", copy.path, "Scan again")
    entry = entry.at_part(copy.facts.part)
    if copy.facts.members and not entry.is_folder:
        others = dict.fromkeys(member.partition("/")[0] for member in copy.facts.members)
        entry = replace(entry, companions=tuple(name for name in others if name != os.path.basename(entry.path)))
    expected: str = copy.facts.sha256 or ""
    if entry.is_bundle:
        target, content = _folder(door, entry, folder, name, expected)
    else:
        target, content = _file(door, entry, folder, name, expected, copy.facts.rebuilt_by or "", bases)
    state = str(content.state)
    if state == copy.facts.state == "encrypted":
        notes.append("it is protected by a password, so its content could not be verified")
    if copy.facts.state == "damaged":
        notes.append(f"this copy is damaged: {copy.facts.reason}")
        state = "damaged"
    place = copy.document.original
    if (
        place
        and not lies_in_kept(copy.root)
        and door.is_folder(copy.root)
        and on_disk(copy.root + os.sep)
        and not door.exists(place)
    ):
        notes.append(f"its own place is free, for you to copy it there: {show_name(place)}")
    return Restored(copy.id, copy.path, target, expected, state, copy.document.name, tuple(notes), name)


def _changed(path: str) -> RestoreRefused:
    return RestoreRefused("this copy changed since the scan", path, "Scan again and look at what is there now")


def make_new(folder: Folder, name: str) -> io.BufferedWriter:
    """A new file to be written, readable by its owner alone; never one that is there."""
    return io.BufferedWriter(io.FileIO(folder.make(name), "wb"))


def _write(stream: BinaryIO, folder: Folder, name: str, source: str) -> str:
    """Write a new file, synced; its SHA-256 as read back from disk. `source` is named where reading it fails."""
    with make_new(folder, name) as out:
        while True:
            try:
                chunk = stream.read(_CHUNK_BYTES)
            except OSError as error:
                raise SourceError(f"reading failed ({explain(error)})", source) from error
            if not chunk:
                break
            out.write(chunk)
        out.flush()
        os.fsync(out.fileno())
    sums = hashlib.sha256()
    with folder.open(name) as back:
        while chunk := back.read(_CHUNK_BYTES):
            sums.update(chunk)
    return sums.hexdigest()


def _file(
    door: Sources, entry: Entry, folder: Folder, name: str, expected: str, recipe: str, bases: Sequence[Entry]
) -> tuple[str, Content]:
    with folder.scratch() as made:
        with contents.open_content(door, entry, recipe, bases) as stream:
            written = _write(stream, folder, made, entry.path)
        if written != expected:
            raise _changed(entry.path)
        with folder.open(made) as stream:
            back = formats.check(stream, name, limits=door.limits, digest=False, counted=False)
        _like(entry, folder, made)
        return place(folder, made, name), back


def place(folder: Folder, made: str, name: str, *, has_extension: bool = True) -> str:
    """Move what was verified to its name without ever replacing anything: a taken name gets a number. Gives its path."""
    if not folder.is_where_it_was():
        raise RestoreRefused(
            "the target folder was moved or replaced while it was written to",
            folder.path,
            "Name another with --to DIR, and let nobody work in it",
        )
    for each in _names(name, has_extension=has_extension):
        try:
            folder.rename(made, each)
        except FileExistsError:
            continue
        folder.sync()
        return os.path.join(folder.path, each)
    raise RestoreRefused(
        f"{_MAX_NAMES} of this name are there already", os.path.join(folder.path, name), "Name another folder"
    )


def _names(name: str, *, has_extension: bool = True) -> Iterator[str]:
    stem, extension = _parted(name) if has_extension else (name, "")
    for number in range(1, _MAX_NAMES + 1):
        mark = "" if number == 1 else f" {number}"
        yield f"{stem}{mark}" + (f".{extension}" if extension else "")


def _folder(door: Sources, entry: Entry, folder: Folder, name: str, expected: str) -> tuple[str, Content]:
    """A folder copy with all its members that can be read; moved into place only when every one is verified."""
    with folder.scratch() as made:
        sums = []
        with folder.below([made], mode=_FOLDER_MODE) as top:
            for relative, member in contents.members(door, entry):
                *above, last = (safe_name(part) for part in relative.split("/"))
                try:
                    stream = contents.open_content(door, member)
                except SourceError:
                    continue  # it could not be read at the scan either, which its verdict says; if it could, the sums differ
                with stream, top.below(above, mode=_FOLDER_MODE) as inner:
                    # Two names may become one when made safe: each keeps its file.
                    free = next(each for each in _names(last) if inner.stat(each) is None)
                    sums.append((relative, _write(stream, inner, free, member.path)))
                    _like(member, inner, free)
        if contents.bundle_sum(sums) != expected:
            raise _changed(entry.path)
        written = door.open(folder.path).entry(os.path.join(folder.path, made))
        content, _ = contents.check(door, written, name, counted=False)
        _like(entry, folder, made, _FOLDER_MODE)
        return place(folder, made, name, has_extension=False), content


def _like(entry: Entry, folder: Folder, made: str, least: int = 0) -> None:
    """Give what was written the time of its copy, and its mode, as far as the umask allows."""
    modified = round(entry.modified.timestamp() * 1_000_000) * 1_000 if entry.modified is not None else None
    folder.set_facts(made, permitted(entry.mode) | least, modified)
