"""The only code that writes a recovered file: beside its final name, synced, read back, compared, then moved into place."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import io
import json
import os
import shutil
import stat
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from rustfern import rebuilding
from rustfern.casefile import CaseFile, KeptCopy
from rustfern.errors import CaseError, RestoreRefused, SourceError, WrongUsage
from rustfern.model import Content, Entry, show_name
from rustfern.naming import layout, named, safe_name, target_name
from rustfern.sources.folder import FolderSource, explain
from rustfern.unfinished import clean, remove_tree, scratch
from rustfern.writing import claim, make_folders, outside_searched, sync_folder

_CHUNK = 1 << 20
_TRIES = 1_000
_SPARE = 1 << 16
LIST = "restored.jsonl"
"""The list of what was restored, beside the files."""


@dataclass(frozen=True, slots=True)
class Restored:
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


@dataclass(frozen=True, slots=True)
class Refused:
    """One copy that was not restored, and why."""

    id: str
    message: str


@dataclass(frozen=True, slots=True)
class Wish:
    """How it is to be restored: under a name of the technician's own, in the folders of the originals, even inside what was searched."""

    name: str | None = None
    keep_layout: bool = False
    allow_inside: bool = False


_AS_FOUND = Wish()


@dataclass(frozen=True, slots=True)
class Planned:
    """What would be written: the copy's id, where from, the path below the target, bytes."""

    id: str
    source: str
    target: str
    size: int
    document: str
    notes: tuple[str, ...]


def plan(copies: Sequence[KeptCopy], wish: Wish) -> list[Planned]:
    """What `restore` would write, without looking at any disk."""
    out = []
    for copy in copies:
        folders, name, notes = _place_of(copy, wish)
        path = os.path.join(*folders, name)
        out.append(Planned(copy.id, copy.path, path, copy.facts["size"] or 0, copy.document["name"], tuple(notes)))
    return out


def _place_of(copy: KeptCopy, wish: Wish) -> tuple[list[str], str, list[str]]:
    name, notes = named(copy, wish.name) if wish.name is not None else target_name(copy)
    return layout(copy) if wish.keep_layout else [], name, notes


def check_target(folder: str, roots: Sequence[str], *, allow_inside: bool = False) -> str:
    """Make the target folder and return its real path.

    Raises `WrongUsage` if it lies inside what was searched (and that is not allowed), is a file, or cannot be made or written.
    """
    path = os.path.abspath(folder)
    real = os.path.realpath(path) if allow_inside else outside_searched(folder, roots)
    try:
        make_folders(real)
        with scratch(real, os.unlink) as probe:
            os.close(os.open(probe, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
    except FileExistsError as error:
        raise WrongUsage("the target is a file; a folder is needed", path, "Name another with --to DIR") from error
    except OSError as error:
        raise WrongUsage(
            f"the target cannot be written ({explain(error)})", path, "Name another with --to DIR"
        ) from error
    return real


def check_space(folder: str, needed: int) -> None:
    """Whether so many bytes, and a little more, are free there. Raises `WrongUsage`."""
    there = os.path.abspath(folder)
    while not os.path.isdir(there) and os.path.dirname(there) != there:
        there = os.path.dirname(there)
    try:
        free = shutil.disk_usage(there).free
    except OSError:
        return  # nobody knows: writing will tell
    if needed + _SPARE > free:
        raise WrongUsage(
            f"there is not enough space at the target: {needed} bytes are needed, {free} are free", folder,
            "Free space there, or name another folder with --to DIR",
        )  # fmt: skip


def restore(
    copies: Sequence[KeptCopy], folder: str, case: CaseFile, roots: Sequence[str], wish: Wish = _AS_FOUND
) -> tuple[list[Restored], list[Refused]]:
    """Restore copies into a folder. Each is verified; one that fails is refused with the reason, the others go on. What an earlier run
    restored there is verified again and not written twice. A list of all that was done lies beside the files.

    Raises `WrongUsage` for a target that cannot be used at all, or has too little space.
    """
    check_space(folder, sum(each.size for each in plan(copies, wish) if not _is_there(folder, each)))
    real = check_target(folder, roots, allow_inside=wish.allow_inside)
    clean(real)
    before = _already(real)
    done: list[Restored] = []
    refused: list[Refused] = []
    try:
        for copy in copies:
            try:
                folders, name, notes = _place_of(copy, wish)
                wanted = os.path.join(*folders, name)
                restored = _again(copy, real, wanted, tuple(notes), before)
                if restored is None:
                    inner = _make_folders(real, folders)
                    restored = _one(copy, inner, name, notes, _bases_of(copy, case))
                if not restored.again or (copy.path, restored.sha256, wanted) not in before:
                    # A run that was killed may have given a file its name and not listed it.
                    restored = _listed(real, restored, copy)
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


def _is_there(folder: str, planned: Planned) -> bool:
    """Whether an earlier run seems to have written this: it will be verified, and needs no space."""
    path = os.path.join(folder, planned.target)
    return os.path.isdir(path) or (os.path.isfile(path) and os.path.getsize(path) == planned.size)


def _make_folders(real: str, folders: Sequence[str]) -> str:
    """The folders of a layout below the target; one that is a link or a file there is refused."""
    path = real
    for each in folders:
        path = os.path.join(path, each)
        with contextlib.suppress(FileExistsError):
            os.mkdir(path)
        if not stat.S_ISDIR(os.lstat(path).st_mode):
            raise RestoreRefused(
                "a folder of the layout is something else there", path, "Name an empty folder with --to DIR"
            )
    if folders:
        clean(path)
    return path


def _already(real: str) -> dict[tuple[str, str, str], str]:
    """What the list beside the files says: (copy, sum, folder and name that were wanted) → file below the target."""
    found: dict[tuple[str, str, str], str] = {}
    try:
        with open(os.path.join(real, LIST), encoding="utf-8", errors="surrogateescape") as lines:  # noqa: PTH123
            for line in lines:
                # A last line may have been cut off.
                with contextlib.suppress(ValueError, KeyError, TypeError, RecursionError):
                    row = json.loads(line)
                    found[str(row["from"]), str(row["sha256"]), str(row["wanted"])] = str(row["to"])
    except OSError:
        return {}
    return found


def _again(
    copy: KeptCopy, real: str, wanted: str, notes: tuple[str, ...], before: Mapping[tuple[str, str, str], str]
) -> Restored | None:
    """A copy that an earlier run restored, if its file is still there and the same."""
    expected: str = copy.facts["sha256"] or ""
    relative = before.get((copy.path, expected, wanted), wanted)
    if os.path.isabs(relative) or ".." in relative.split("/"):
        return None
    target = os.path.join(real, relative)
    if os.path.realpath(target) != target or not (os.path.isfile(target) or os.path.isdir(target)):
        return None
    try:
        content, _ = rebuilding.check(FolderSource(os.path.dirname(target)).entry(target), os.path.basename(target))
    except SourceError:
        return None
    if content.sha256 != expected:
        return None
    state = "damaged" if copy.facts["state"] == "damaged" else str(content.state)
    document = copy.document["name"]
    return Restored(copy.id, copy.path, target, expected, state, document, notes, os.path.basename(wanted), again=True)


def _listed(real: str, restored: Restored, copy: KeptCopy) -> Restored:
    """Add a line to the list beside the files. The file is there and verified: a list that cannot take the line must not say otherwise."""
    try:
        _list(real, restored, copy)
    except OSError as error:
        note = f"it is not in the list beside the files, which could not be written ({explain(error)})"
        return replace(restored, notes=(*restored.notes, note))
    return restored


def _list(real: str, restored: Restored, copy: KeptCopy) -> None:
    """Add a line to the list beside the files, synced; a last line that was cut off is ended first."""
    folders = os.path.relpath(os.path.dirname(restored.target), real)
    row = {
        "schema": "rustfern/restored-1", "at": datetime.now(UTC).isoformat(timespec="seconds"), "id": restored.id, "document": restored.document,
        "from": restored.source, "to": os.path.relpath(restored.target, real), "wanted": os.path.normpath(os.path.join(folders, restored.wanted)),
        "sha256": restored.sha256, "state": restored.state, "written": copy.facts["written"], "confidence": copy.facts["confidence"],
        "evidence": [piece["text"] for piece in copy.facts["evidence"]],
    }  # fmt: skip
    handle = os.open(
        os.path.join(real, LIST), os.O_CREAT | os.O_APPEND | os.O_RDWR | getattr(os, "O_NOFOLLOW", 0), 0o600
    )
    with os.fdopen(handle, "ab+") as out:
        size = out.seek(0, os.SEEK_END)
        out.seek(max(size - 1, 0))
        if out.read(1) not in (b"", b"\n"):
            out.write(b"\n")
        out.write(json.dumps(row).encode() + b"\n")
        out.flush()
        os.fsync(out.fileno())


def _bases_of(copy: KeptCopy, case: CaseFile) -> list[Entry]:
    """The copies that a copy is rebuilt on."""
    wanted = set(copy.facts["needs"])
    found = [other for other in case.copies(copy.number) if other.id in wanted] if wanted else []
    return [FolderSource(other.root).entry(other.path) for other in found]


def _system(error: OSError, folder: str) -> str:
    if error.errno in (errno.ENOSPC, getattr(errno, "EDQUOT", -1)):
        return (
            f"there is no space left at the target: {show_name(folder)}. Free space, or name another folder with --to"
        )
    return f"the target cannot be written ({explain(error)}): {show_name(folder)}. Name another with --to"


def _one(copy: KeptCopy, folder: str, name: str, notes: list[str], bases: Sequence[Entry]) -> Restored:
    source = FolderSource(copy.root)
    entry = source.entry(copy.path)
    if entry.link_target is not None:
        raise RestoreRefused("this is a link now, it was none at the scan", copy.path, "Scan again")
    entry = replace(entry, part=copy.facts["part"])
    if copy.facts["members"] and not entry.is_folder:
        others = dict.fromkeys(member.partition("/")[0] for member in copy.facts["members"])
        entry = replace(entry, companions=tuple(name for name in others if name != os.path.basename(entry.path)))
    expected: str = copy.facts["sha256"] or ""
    if entry.is_bundle:
        target, content = _folder(entry, os.path.join(folder, name), expected)
    else:
        target, content = _file(entry, folder, name, expected, copy.facts["rebuilt_by"] or "", bases)
    state = str(content.state)
    if state == copy.facts["state"] == "encrypted":
        notes.append("it is protected by a password, so its content could not be verified")
    if copy.facts["state"] == "damaged":
        notes.append(f"this copy is damaged: {copy.facts['reason']}")
        state = "damaged"
    place = copy.document["original"]
    if place and not os.path.lexists(place):
        notes.append(f"its own place is free, for you to copy it there: {show_name(place)}")
    return Restored(copy.id, copy.path, target, expected, state, copy.document["name"], tuple(notes), name)


def _changed(path: str) -> RestoreRefused:
    return RestoreRefused("this copy changed since the scan", path, "Scan again and look at what is there now")


def make_new(path: str) -> io.BufferedWriter:
    """A new file to be written, readable by its owner alone; never one that is there."""
    handle = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_BINARY", 0), 0o600)
    return io.BufferedWriter(io.FileIO(handle, "wb"))


def _write(stream: BinaryIO, target: str, source: str) -> str:
    """Write a new file, synced; its SHA-256 as read back from disk. `source` is named where reading it fails."""
    with make_new(target) as out:
        while True:
            try:
                chunk = stream.read(_CHUNK)
            except OSError as error:
                raise SourceError(f"reading failed ({explain(error)})", source) from error
            if not chunk:
                break
            out.write(chunk)
        out.flush()
        os.fsync(out.fileno())
    sums = hashlib.sha256()
    with Path(target).open("rb") as back:
        while chunk := back.read(_CHUNK):
            sums.update(chunk)
    return sums.hexdigest()


def _file(
    entry: Entry, folder: str, name: str, expected: str, recipe: str, bases: Sequence[Entry]
) -> tuple[str, Content]:
    with scratch(folder, os.unlink) as made:
        with rebuilding.open_content(entry, recipe, bases) as stream:
            written = _write(stream, made, entry.path)
        if written != expected:
            raise _changed(entry.path)
        back, _ = rebuilding.check(FolderSource(folder).entry(made), name, digest=False, counted=False)
        _stamp(entry, made)
        target = _place(made, folder, name)
        sync_folder(folder)
        return target, back


def _place(made: str, folder: str, name: str, *, has_extension: bool = True) -> str:
    """Move what was verified to its name without ever replacing anything: a taken name gets a number."""
    for path in _names(folder, name, has_extension=has_extension):
        try:
            claim(made, path)
        except FileExistsError:
            continue
        with contextlib.suppress(OSError):
            os.chmod(path, 0o644 if has_extension else 0o755)
        return path
    raise RestoreRefused(f"{_TRIES} of this name are there already", os.path.join(folder, name), "Name another folder")


def _names(folder: str, name: str, *, has_extension: bool = True) -> Iterator[str]:
    stem, dot, extension = name.rpartition(".")
    if not has_extension or not dot or len(extension) > 8 or ")" in extension:
        stem, extension = name, ""
    for number in range(1, _TRIES + 1):
        mark = "" if number == 1 else f" {number}"
        yield os.path.join(folder, f"{stem}{mark}" + (f".{extension}" if extension else ""))


def _folder(entry: Entry, target: str, expected: str) -> tuple[str, Content]:
    """A folder copy with all its members; moved into place only when every one is verified."""
    folder, name = os.path.split(target)
    with scratch(folder, remove_tree) as made:
        os.mkdir(made, 0o700)
        sums = []
        for relative, member in rebuilding.members(entry):
            *above, last = (safe_name(part) for part in relative.split("/"))
            inner = os.path.join(made, *above)
            make_folders(inner)
            # Two names may become one when made safe: each keeps its file.
            place = next(path for path in _names(inner, last) if not os.path.lexists(path))
            with rebuilding.open_content(member) as stream:
                sums.append((relative, _write(stream, place, member.path)))
            _stamp(member, place)
        if rebuilding.bundle_sum(sums) != expected:
            raise _changed(entry.path)
        content, _ = rebuilding.check(FolderSource(folder).entry(made), name)
        _stamp(entry, made)
        placed = _place(made, folder, name, has_extension=False)
        sync_folder(folder)
        return placed, content


def _stamp(entry: Entry, made: str) -> None:
    """Give what was written the modified time of its copy."""
    if entry.modified is not None:
        with contextlib.suppress(OSError):
            stamp = entry.modified.timestamp()
            os.utime(made, (stamp, stamp))
