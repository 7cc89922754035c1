"""The content of a copy, whatever form it lies in. Checking, looking and restoring read content only through this."""

from __future__ import annotations

import contextlib
import io
import os
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, BinaryIO

from msgspec.structs import replace

from rustfern.content.deleted import anothers
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Content, Entry, Glance, Rebuilt, State
from rustfern.core.paths import raw_offset
from rustfern.core.times import from_stamp
from rustfern.sources.folder import with_companions
from rustfern.sources.registry import Sources

if TYPE_CHECKING:
    from pathlib import Path

    from rustfern.cases.case_file import StoredCopy

MAX_MEMBERS = 20_000
_MAX_BASE = 512 << 20


def open_content(door: Sources, entry: Entry, recipe: str = "", bases: Sequence[Entry] = ()) -> BinaryIO:
    """The content of a copy that is one file, as a seekable stream: its bytes, or rebuilt by a recipe on its bases.

    Raises `SourceError` if it cannot be read or not be rebuilt at all.
    """
    stream = door.of(entry).open(entry)
    if not recipe:
        return stream
    with stream:
        try:
            return io.BytesIO(rebuild(door, stream, entry, recipe, bases).data)
        except Malformed as error:
            raise SourceError(f"its text cannot be rebuilt: {error}", entry.path) from error


def stored_entry(door: Sources, copy: StoredCopy) -> Entry:
    """What a copy that a case remembers is now, where it lies. Raises `SourceError`."""
    facts = copy.facts
    offset = raw_offset(copy.path)
    if offset is None:
        return door.open(copy.root).entry(copy.path)
    places = facts.extents or ([(offset, facts.size)] if facts.size else None)
    found = door.entry_at(copy.root, copy.path, places, facts.reason if facts.state == "damaged" else "")
    # No record tells when it was written: the content's own clock may.
    return replace(found, modified=from_stamp(facts.written)) if facts.written else found


def rebuild(door: Sources, stream: BinaryIO, entry: Entry, recipe: str, bases: Sequence[Entry]) -> Rebuilt:
    """Rebuild what is not a document by itself. Raises `Malformed`, or `SourceError` for a base that cannot be read."""
    from rustfern.content.recipes import RECIPES

    originals = []
    for base in bases:
        with door.of(base).open(base) as source:
            originals.append(source.read(_MAX_BASE))
    return RECIPES[recipe](stream, entry, originals)


def members(door: Sources, entry: Entry) -> Iterator[tuple[str, Entry]]:
    """(relative path with `/`, entry) of each regular file of a folder copy or a set of files, sorted. Links are left out."""
    source = door.of(entry)
    if entry.companions:
        folder, name = os.path.split(entry.path)
        yield name, replace(entry, companions=())
        for other in sorted(entry.companions):
            belonging = source.entry(os.path.join(folder, other))
            if not belonging.is_folder:
                yield other, belonging
                continue
            for relative, member in members(door, belonging):
                yield f"{other}/{relative}", member
        return
    found: list[str] = []

    def refuse(path: str, message: str) -> None:
        raise SourceError(message, path)

    for folder, _, files in source.walk(entry.path, refuse):
        found += [os.path.join(folder, name) for name in files]
        if len(found) > MAX_MEMBERS:
            raise SourceError(f"more than {MAX_MEMBERS} files in one folder copy", entry.path)
    for path in sorted(found):
        member = source.entry(path)
        if member.link_target is None:
            yield os.path.relpath(path, entry.path).replace(os.sep, "/"), member


@contextlib.contextmanager
def materialised(door: Sources, entry: Entry, endings: Sequence[str] = ()) -> Iterator[Path]:
    """A private copy of a file and of those that belong to it, for libraries that need a path and may write beside it."""
    import shutil
    from pathlib import Path

    whole = with_companions(door.of(entry), replace(entry, companions=()), endings)
    with door.scratch.private_folder() as folder:
        target = folder / "copy"
        base = os.path.basename(entry.path)
        for relative, member in members(door, whole) if whole.companions else [(base, entry)]:
            with door.of(entry).open(member) as stream, Path(f"{target}{relative[len(base) :]}").open("wb") as out:
                shutil.copyfileobj(stream, out, 1 << 20)
        yield target


def bundle_sum(sums: list[tuple[str, str]]) -> str:
    """The SHA-256 of a folder copy: of its sorted lines `sha256 relative-path`."""
    import hashlib

    digest = hashlib.sha256()
    for relative, value in sorted(sums):
        digest.update(f"{value} ".encode() + os.fsencode(relative) + b"\n")
    return digest.hexdigest()


def check_rebuilt(door: Sources, entry: Entry, name: str, recipe: str, bases: Sequence[Entry]) -> Content:
    """Rebuild a copy and check the result: damaged if anything is missing, with what. Raises `SourceError`."""
    return check_rebuilt_on(door, entry, name, recipe, bases)[0]


def check_rebuilt_on(
    door: Sources, entry: Entry, name: str, recipe: str, bases: Sequence[Entry]
) -> tuple[Content, int]:
    """The same, and how many lines of a text that is whole came from the version that was opened. Raises `SourceError`."""
    from rustfern.formats import registry as formats

    with door.of(entry).open(entry) as stream:
        try:
            found = rebuild(door, stream, entry, recipe, bases)
        except Malformed as error:
            said = f"its text cannot be rebuilt: {error}"
            return Content(Glance(format="txt"), State.DAMAGED, said, entry.size), 0
    content = formats.check(io.BytesIO(found.data), name, limits=door.limits)
    if found.missing:
        reason = (
            f"{found.missing} of {found.lines + found.missing} lines are not in the swap file but in the version that was opened, "
            "and no copy of that version was found"
        )
        return replace(content, state=State.DAMAGED, reason=reason), 0
    if content.state is State.INTACT:
        from rustfern.content.recipes import SAID

        if recipe in SAID:
            source = f", {found.from_original} of them from the version that was opened" if found.from_original else ""
            note = f"; {found.note}" if found.note else ""
            content = replace(content, reason=f"{SAID[recipe]}: {found.lines} lines{source}{note}")
    return content, found.from_original


_PASSING = frozenset({"lock", "swap", "temporary", "record"})


def check(
    door: Sources, entry: Entry, name: str, *, digest: bool = True, counted: bool = True
) -> tuple[Content, tuple[str, ...]]:
    """Check a copy to its end: the verdict, and for a folder its members; a file's SHA-256 only with `digest`. Raises `SourceError`.

    A folder counts as written when the newest file in it was: its own time changes whenever it is copied.
    """
    if entry.companions and all(other.startswith(os.path.basename(entry.path)) for other in entry.companions):
        return _checked_set(door, entry)
    if not entry.is_bundle:
        with open_content(door, entry) as stream:
            return _checked(door, stream, name, entry, digest=digest, counted=counted), ()
    sums: list[tuple[str, str]] = []
    damaged: list[str] = []
    lost: list[str] = []
    newest: datetime | None = None
    verified = size = 0
    for relative, member in members(door, entry):
        try:
            with open_content(door, member) as stream:
                content = _checked(door, stream, os.path.basename(relative), member, counted=counted)
        except SourceError as error:
            # One pipe or unreadable file costs the rest nothing, but the whole is not whole any more.
            lost.append(f"{relative}: {error.what}")
            continue
        sums.append((relative, content.sha256 or ""))
        if member.modified is not None and (newest is None or member.modified > newest):
            newest = member.modified
        size += content.size
        verified += content.state in (State.INTACT, State.EMPTY)
        if content.state is State.DAMAGED and not _is_passing(os.path.basename(relative)):
            damaged.append(f"{relative}: {content.reason}")
    kind = "folder" if entry.is_folder else "set"
    reason = f"a {kind} of {len(sums)} files, {verified} of them verified to the end"
    state = State.INTACT if sums else State.EMPTY
    if damaged:
        state, reason = State.DAMAGED, f"{len(damaged)} of {len(sums)} files are damaged, the first is {damaged[0]}"
    if lost:
        if not sums:
            raise SourceError(f"none of its {len(lost)} files could be read, the first is {lost[0]}", entry.path)
        more = f"; {reason}" if damaged else ""
        state, reason = (
            State.DAMAGED,
            f"{len(lost)} of {len(sums) + len(lost)} files could not be read, the first is {lost[0]}{more}",
        )
    amounts = {"files": len(sums)}
    content = Content(Glance(modified=newest), state, reason, size, bundle_sum(sums), amounts=amounts)
    return content, tuple(relative for relative, _ in sums)


def _is_passing(name: str) -> bool:
    """Whether a file in a folder is a lock, or of a program's own keeping (a swap or temporary file): no document that could be damaged."""
    from rustfern.catalogue.loader import catalogue

    found = catalogue().match_beside(name)
    return found is not None and found[0].kind in _PASSING


def _checked_set(door: Sources, entry: Entry) -> tuple[Content, tuple[str, ...]]:
    """A database with its journals: what the journals hold counts, and all are restored together."""
    import hashlib

    from rustfern.formats.databases.sqlite import check_set

    sums, size = [], 0
    newest = entry.modified
    for relative, member in members(door, entry):
        digest = hashlib.sha256()
        with open_content(door, member) as stream:
            while block := stream.read(1 << 20):
                digest.update(block)
                size += len(block)
        sums.append((relative, digest.hexdigest()))
        if member.modified and newest and member.modified > newest:
            newest = member.modified
    base = os.path.basename(entry.path)
    with materialised(door, entry, [other[len(base) :] for other in entry.companions]) as path:
        content = check_set(path)
    glance = replace(content.glance, modified=newest)
    return replace(content, glance=glance, size=size, sha256=bundle_sum(sums)), tuple(name for name, _ in sums)


def _checked(
    door: Sources, stream: BinaryIO, name: str, entry: Entry, *, digest: bool = True, counted: bool = True
) -> Content:
    from rustfern.formats import registry as formats

    try:
        found = formats.check(stream, name, limits=door.limits, digest=digest, counted=counted)
        if raw_offset(entry.path) is not None and entry.deleted:
            if entry.caution and found.state is State.INTACT:
                found = replace(found, state=State.DAMAGED, reason=entry.caution)
        elif entry.deleted:
            found = _of_what_remains(found, entry)
            if found.state is State.INTACT and (what := anothers(door, stream, entry, name, found)):
                found = replace(found, state=State.DAMAGED, reason=what)
        return _of_what_was_read(found, entry) if entry.unread else found
    except OSError as error:
        raise SourceError(f"reading failed ({(error.strerror or str(error)).lower()})", entry.path) from error


def _of_what_remains(found: Content, entry: Entry) -> Content:
    """The verdict on a deleted file: one of which others have a part is damaged, however well it opens."""
    left = entry.remaining
    if left is None or left >= 1.0 or found.state not in (State.INTACT, State.ENCRYPTED, State.DAMAGED):
        return found
    taken = f"{1 - left:.0%} of its place" if left else "all of its place"
    reason = f"later files have taken {taken} on the disk"
    if found.state is State.DAMAGED:
        reason = f"{reason}: {found.reason}"
    return replace(found, state=State.DAMAGED, reason=reason)


def _of_what_was_read(found: Content, entry: Entry) -> Content:
    """The verdict on a file on an image that has gaps: zeros stand where its bytes could not be read."""
    reason = f"{entry.unread} of its bytes could not be read when the image of the disk was made"
    return replace(
        found, state=State.DAMAGED, reason=f"{reason}: {found.reason}" if found.state is State.DAMAGED else reason
    )
