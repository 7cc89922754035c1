"""The only code that writes a recovered file: beside its final name, synced, read back, compared, then moved into place."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import re
import secrets
import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from rustfern import rebuilding
from rustfern.casefile import CaseFile, KeptCopy, stem_of
from rustfern.errors import CaseError, RestoreRefused, SourceError, WrongUsage
from rustfern.formats.table import TEXT_FORMATS, extension_of, format_of_extension, title_of
from rustfern.model import Content, Entry, show_name
from rustfern.sources.folder import FolderSource, explain
from rustfern.times import local
from rustfern.writing import PART, claim, outside_searched, scratch, sync_folder

_CHUNK = 1 << 20
_TRIES = 1_000
_UNFIT = re.compile(r'[<>:"/\\|?*\x00-\x1f\x7f]')
_DEVICES = re.compile(r"(?:con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])(?:\..*)?", re.IGNORECASE)
_DIRECTIONS = re.compile("[\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff\u2028\u2029]")
_MAX_NAME = 255


@dataclass(frozen=True, slots=True)
class Restored:
    """One restored copy: its id, where from, where to, the sum and state of what was written."""

    id: str
    source: str
    target: str
    sha256: str
    state: str
    document: str
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Refused:
    """One copy that was not restored, and why."""

    id: str
    message: str


def safe_name(name: str, limit: int = _MAX_NAME) -> str:
    """A file name that every system takes: nothing that climbs, no device names, no direction signs, at most 255 bytes.

    Source: the systems' published rules for file names; POSIX.1-2017 3.170 (filename).
    """
    fixed = _DIRECTIONS.sub("", name)
    fixed = _UNFIT.sub("_", fixed.encode("utf-8", "surrogateescape").decode("utf-8", "replace")).replace("\ufffd", "_")
    fixed = fixed.strip().rstrip(". ")
    if not fixed.strip("."):
        fixed = "document"
    if _DEVICES.fullmatch(fixed):
        fixed = "_" + fixed
    while len(fixed.encode()) > limit:
        stem, dot, extension = fixed.rpartition(".")
        short = dot and stem and len(extension) < 12
        fixed = f"{stem[:-1].rstrip()}.{extension}" if short else fixed[:-1]
    return fixed


def target_name(copy: KeptCopy) -> tuple[str, list[str]]:
    """The name of a restored copy: the document's, the kind, when it was written, the right extension; and notes."""
    facts, document = copy.facts, copy.document
    name, format_name = document["name"], facts["format"]
    folder = bool(facts["members"])
    extension = "" if folder else extension_of(name)
    claimed = format_of_extension(extension)
    stem = name if folder or not extension or claimed is None else stem_of(name)
    notes = []
    if not folder:
        right = _right_extension(extension, claimed, format_name)
        if claimed and format_name and right != extension:
            notes.append(
                f"the document was {title_of(claimed)} (.{extension}), this copy is {title_of(format_name)}: it opens as .{right}"
            )
        extension = right
    when = facts["written"]
    stamp = ""
    if when:
        told = local(datetime.strptime(when, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC))
        stamp = f" {told:%Y-%m-%d %H.%M}"
    label = f" ({facts['kind']}{stamp})"
    ending = label + (f".{extension}" if extension else "")
    base = safe_name(stem, _MAX_NAME - len(ending.encode()) - 8)
    return base + ending, notes


def _right_extension(extension: str, claimed: str | None, format_name: str | None) -> str:
    if format_name is None or format_name == "cfb":
        return extension
    if claimed == format_name or (claimed in TEXT_FORMATS and format_name in TEXT_FORMATS):
        return extension
    return format_name


def check_target(folder: str, roots: Sequence[str]) -> str:
    """Make the target folder and return its real path.

    Raises `WrongUsage` if it lies inside what was searched, is a file, or cannot be made or written.
    """
    path = os.path.abspath(folder)
    real = outside_searched(folder, roots)
    try:
        os.makedirs(real, exist_ok=True)
        probe = os.path.join(real, PART + secrets.token_hex(6))
        os.close(os.open(probe, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        os.unlink(probe)
    except FileExistsError as error:
        raise WrongUsage("the target is a file; a folder is needed", path, "Name another with --to DIR") from error
    except OSError as error:
        raise WrongUsage(
            f"the target cannot be written ({explain(error)})", path, "Name another with --to DIR"
        ) from error
    return real


def restore(
    copies: Sequence[KeptCopy], folder: str, case: CaseFile, roots: Sequence[str]
) -> tuple[list[Restored], list[Refused]]:
    """Restore copies into a folder. Each is verified; one that fails is refused with the reason, the others go on.

    Raises `WrongUsage` for a target that cannot be used at all.
    """
    real = check_target(folder, roots)
    done: list[Restored] = []
    refused: list[Refused] = []
    for copy in copies:
        try:
            restored = _one(copy, real, _bases_of(copy, case))
            done.append(restored)
            if case.path is not None:
                # The file is there and verified: a case file that cannot take the note must not say otherwise.
                with contextlib.suppress(CaseError):
                    case.add_restored(restored.id, restored.target, restored.sha256)
        except (RestoreRefused, SourceError) as error:
            refused.append(Refused(copy.id, str(error)))
        except OSError as error:
            refused.append(Refused(copy.id, _system(error, real)))
    return done, refused


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


def _one(copy: KeptCopy, folder: str, bases: Sequence[Entry]) -> Restored:
    source = FolderSource(copy.root)
    entry = source.entry(copy.path)
    if entry.link_target is not None:
        raise RestoreRefused("this is a link now, it was none at the scan", copy.path, "Scan again")
    entry = replace(entry, part=copy.facts["part"])
    if copy.facts["members"] and not entry.is_folder:
        others = dict.fromkeys(member.partition("/")[0] for member in copy.facts["members"])
        entry = replace(entry, companions=tuple(name for name in others if name != os.path.basename(entry.path)))
    name, notes = target_name(copy)
    expected: str = copy.facts["sha256"] or ""
    if entry.is_bundle:
        target, content = _folder(entry, os.path.join(folder, name), expected)
    else:
        target, content = _file(entry, folder, name, expected, copy.facts["rebuilt_by"] or "", bases)
    with contextlib.suppress(OSError):
        if entry.modified is not None:
            stamp = entry.modified.timestamp()
            os.utime(target, (stamp, stamp))
    state = str(content.state)
    if state == copy.facts["state"] == "encrypted":
        notes.append("it is protected by a password, so its content could not be verified")
    if copy.facts["state"] == "damaged":
        notes.append(f"this copy is damaged: {copy.facts['reason']}")
        state = "damaged"
    return Restored(copy.id, copy.path, target, expected, state, copy.document["name"], tuple(notes))


def _changed(path: str) -> RestoreRefused:
    return RestoreRefused("this copy changed since the scan", path, "Scan again and look at what is there now")


def _write(stream: BinaryIO, target: str, source: str) -> str:
    """Write a new file, synced; its SHA-256 as read back from disk. `source` is named where reading it fails."""
    handle = os.open(target, os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_BINARY", 0), 0o600)
    with os.fdopen(handle, "wb") as out:
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
        back, _ = rebuilding.check(FolderSource(folder).entry(made), name)
        target = _place(made, folder, name)
        sync_folder(folder)
        return target, back


def _place(made: str, folder: str, name: str) -> str:
    """Move a verified file to its name without ever replacing one: a taken name gets a number."""
    for path in _names(folder, name):
        try:
            claim(made, path)
        except FileExistsError:
            continue
        with contextlib.suppress(OSError):
            os.chmod(path, 0o644)
        return path
    raise RestoreRefused(
        f"{_TRIES} files of this name are there already", os.path.join(folder, name), "Name another folder"
    )


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
    with scratch(folder, lambda path: shutil.rmtree(path, ignore_errors=True)) as made:
        os.mkdir(made, 0o700)
        sums = []
        for relative, member in rebuilding.members(entry):
            *above, last = (safe_name(part) for part in relative.split("/"))
            inner = os.path.join(made, *above)
            os.makedirs(inner, exist_ok=True)
            # Two names may become one when made safe: each keeps its file.
            place = next(path for path in _names(inner, last) if not os.path.lexists(path))
            with rebuilding.open_content(member) as stream:
                sums.append((relative, _write(stream, place, member.path)))
        if rebuilding.bundle_sum(sums) != expected:
            raise _changed(entry.path)
        content, _ = rebuilding.check(FolderSource(folder).entry(made), name)
        for path in _names(folder, name, has_extension=False):
            if not os.path.lexists(path):
                os.rename(made, path)  # a non-empty folder of that name makes this fail rather than replace
                os.chmod(path, 0o755)
                sync_folder(folder)
                return path, content
    raise RestoreRefused(f"{_TRIES} folders of this name are there already", target, "Name another folder")
