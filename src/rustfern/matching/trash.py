"""Trash: what lies in it, matched to the records that say where it was; either may be an orphan."""

from __future__ import annotations

import os
from collections.abc import Iterable
from datetime import datetime

import msgspec
from msgspec.structs import replace

from rustfern.content import open as contents
from rustfern.core.errors import SourceError
from rustfern.core.model import Find, Record
from rustfern.core.paths import show_name
from rustfern.core.times import to_utc
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.matching.evidence import weights
from rustfern.matching.state import Draft, LinkState, last_part
from rustfern.search.recorded_paths import take_apart
from rustfern.traces.registry import Sort, Trace

_MAX_DELETED_INSIDE = 2_000


class Deleted(msgspec.Struct, frozen=True):
    """What a trash record says: where the thing was (translated, and as recorded), when it was deleted."""

    original: str | None
    recorded: str
    when: datetime | None
    find: Find


class Trash:
    """The steps that match trash to its records."""

    def __init__(self, state: LinkState) -> None:
        self.state = state
        self.records: dict[str, Deleted] = {}  # what lies in a trash → what its record says

    def note_deleted(self, find: Find, trace: Trace, data: bytes) -> None:
        """Read one record of a trash. Raises `Malformed`."""
        folder = os.path.dirname(find.entry.path)
        told = trace.parse(data)
        if trace.sort is Sort.TRASH_INFO:
            when = to_utc(told.deleted_local, find.entry.modified) if told.deleted_local else None
            stored = os.path.join(os.path.dirname(folder), "files", find.fields["trashed"])
            self.records[stored] = Deleted(self._posix_original(told.path, find), told.path, when, find)
        elif trace.sort is Sort.TRASH_ITEM:
            stored = os.path.join(folder, "$R" + find.fields["trashed"])
            self.records[stored] = Deleted(self._windows_original(told.path, find), told.path, told.deleted, find)
        elif trace.sort is Sort.TRASH_STORE:
            volume = find.home.volume or find.home.root if find.home else os.path.dirname(os.path.dirname(folder))
            for name, (place, was) in told.items():
                parts = [part for part in place.split("/") if part not in ("", ".", "..")]
                original = self.state.paths.join(volume, [*parts, was.replace("/", ":")], any_case=True)
                recorded = "/".join(["", *parts, was])
                self.records[os.path.join(folder, name)] = Deleted(original, recorded, None, find)
        else:
            for gone in told:
                stored = self.state.paths.join(folder, [gone.stored], any_case=True)
                self.records[stored] = Deleted(self._windows_original(gone.path, find), gone.path, gone.deleted, find)

    def _posix_original(self, path: str, find: Find) -> str | None:
        if path.startswith("/"):
            return self.state.paths.translate("file://" + _quote(path), find.home)
        apart = take_apart("/" + path)  # relative to the volume that the trash is on
        volume = os.path.dirname(os.path.dirname(os.path.dirname(find.entry.path)))
        if os.path.basename(volume) == ".Trash":
            volume = os.path.dirname(volume)
        return os.path.join(volume, *apart.parts) if apart and apart.parts else None

    def _windows_original(self, path: str, find: Find) -> str | None:
        """Every volume has a trash of its own: whatever letter it had, the path is on this one."""
        apart = take_apart(path)
        if apart is None or apart.share or not apart.parts:
            return None
        volume = os.path.dirname(os.path.dirname(os.path.dirname(find.entry.path)))
        return self.state.paths.join(volume, apart.parts, any_case=True)

    def take_trash(self, finds: Iterable[Find]) -> None:
        """Match what lies in a trash to its records; both may be orphans."""
        for find in finds:
            found = self.records.pop(find.entry.path, None)
            with self.state.isolated(find):
                if found is not None:
                    self._deleted(find, found)
                    continue
                copy = self.state.read_copy(find, find.entry, ())
                self.state.own_document(copy, find, os.path.basename(find.entry.path), trashed=True)
        for found in self.records.values():
            with self.state.isolated(found.find):
                draft = self._deleted_draft(found)
                gone = draft.records[-1].says + "; what it speaks of is no longer in the trash"
                draft.records[-1] = replace(draft.records[-1], says=gone)

    def _deleted_draft(self, found: Deleted) -> Draft:
        draft = (
            self.state.draft(found.original, found.find.home, found.recorded)
            if found.original
            else self.state.outside(found.recorded, last_part(found.recorded), found.find.home)
        )
        draft.trashed = True
        says = "a trash record says that it was deleted" + (
            f" at {self.state.clock.format_time(found.when)}" if found.when else ""
        )
        kind = self.state.catalogue.places[found.find.place].reader
        piece = weights.evidence("trash-record", says)
        draft.records.append(Record(found.find.entry.path, kind, says, (piece,), found.when))
        return draft

    def _deleted(self, find: Find, found: Deleted) -> None:
        draft = self._deleted_draft(found)
        piece = weights.evidence("trash-record", "its trash record names this document")
        copy = self.state.read_copy(find, find.entry, (piece,), name=draft.name)
        if found.when:
            draft.deleted[find.entry.path] = found.when
        draft.copies.append(replace(copy, confidence=weights.confidences([[piece]])[0]))
        if find.entry.is_folder and draft.original:
            self._deleted_inside(find, draft, found)

    def _deleted_inside(self, find: Find, folder: Draft, found: Deleted) -> None:
        try:
            inner = list(contents.members(self.state.door, find.entry))[:_MAX_DELETED_INSIDE]
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            return
        assert folder.original is not None
        for relative, entry in inner:
            if format_of_extension(extension_of(relative)) is None:
                continue
            draft = self.state.draft(os.path.join(folder.original, *relative.split("/")), find.home)
            draft.trashed, draft.within = True, folder.key
            piece = weights.evidence(
                "trash-record", f"the trash record of its folder {show_name(folder.name)} names its place"
            )
            copy = self.state.read_copy(find, entry, (piece,))
            draft.copies.append(replace(copy, confidence=weights.confidences([[piece]])[0]))
            kind = self.state.catalogue.places[found.find.place].reader
            says = "deleted together with its folder"
            draft.records.append(Record(found.find.entry.path, kind, says, (piece,), found.when))
            if found.when:
                draft.deleted[entry.path] = found.when


def _quote(path: str) -> str:
    from urllib.parse import quote_from_bytes

    return quote_from_bytes(os.fsencode(path))
