"""Locks, recovery lists and trash records: who had what open, what was autosaved, what was deleted."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime

from rustfern import rebuilding
from rustfern.assembling.table import Draft, Table
from rustfern.errors import Malformed, SourceError
from rustfern.formats.table import extension_of, format_of_extension
from rustfern.formats.times import to_utc
from rustfern.matching import candidates as near
from rustfern.matching import weights
from rustfern.matching.candidates import Candidate
from rustfern.model import (
    Find,
    Home,
    Lock,
    Record,
    show_name,
)
from rustfern.places.recorded import take_apart, translate
from rustfern.sources.folder import explain
from rustfern.traces import odf_lock, owner_lock, recovery_list, trash_info

_MAX_DELETED_INSIDE = 2_000


class Traces(Table):
    """The steps that read traces."""

    def recognise(self, find: Find) -> None:
        """Read a record; locks wait until all names are known."""
        place = self.catalogue.places[find.place]
        try:
            with rebuilding.open_content(find.entry) as stream:
                if place.reader == "recovery-list":
                    self._recovery_list(find, recovery_list.parse(stream))
                elif place.reader == "trash-info":
                    self._trash_record(find, trash_info.parse(stream.read(1 << 17)))
        except Malformed as error:
            self.problem(
                find.entry.path,
                f"this {place.reader.replace('-', ' ')} record is damaged: {error}. Its copies are judged by their names and contents",
            )
            self.unmatched.append(Record(find.entry.path, place.reader, f"damaged: {error}", when=find.entry.modified))
        except (SourceError, OSError) as error:
            what = error.what if isinstance(error, SourceError) else explain(error)
            self.problem(find.entry.path, what)

    def _recovery_list(self, find: Find, found: recovery_list.RecoveryList) -> None:
        path, home = find.entry.path, find.home
        if found.problem:
            self.problem(
                path,
                f"the recovery list is cut off at byte {found.cut_at} ({found.problem}); what stands before was read",
            )
        for entry in {entry.item: entry for entry in found.entries}.values():
            draft: Draft | None = None
            if entry.original_url:
                original = translate(entry.original_url, home, self.homes, self.roots)
                title = entry.title or _last_part(entry.original_url)
                draft = (
                    self.draft(original, home, entry.original_url)
                    if original
                    else self.outside(entry.original_url, title, home)
                )
                says = f"the recovery list of {home.person if home else 'this profile'} names it as open"
                says += ", with unsaved changes" if entry.changed else ", without changes"
                draft.records.append(
                    Record(path, "recovery-list", says, (weights.evidence("recovery-list", says),), find.entry.modified)
                )
            if entry.temp_url:
                temp = translate(entry.temp_url, home, self.homes, self.roots)
                if temp is None:
                    self.problem(
                        path,
                        f"the recovery list names an autosave outside of what is searched: {show_name(entry.temp_url)}",
                    )
                else:
                    text = "the recovery list names it as the autosave of this document"
                    self.named[temp] = (draft, weights.evidence("recovery-list", text), entry.title)
                    self._seek(temp, "odf-suite-autosave", home)
            if draft is not None and entry.changed:
                draft.changed = True
                draft.changed_since = find.entry.modified

    def _seek(self, path: str, place: str, home: Home | None) -> None:
        """Take a copy that a record names, wherever it lies inside what is searched."""
        source = self.source_of(path)
        if source is None:
            return
        try:
            entry = source.entry(path)
        except SourceError:
            return
        if entry.link_target is None and not entry.is_folder:
            spec = self.catalogue.places[place]
            self.more.append(
                Find(entry, place, spec.kind, self.catalogue.match(spec, os.path.basename(path)) or {}, home)
            )

    def _trash_record(self, find: Find, info: trash_info.TrashInfo) -> None:
        folder = os.path.dirname(os.path.dirname(find.entry.path))
        deleted = to_utc(info.deleted_local, find.entry.modified) if info.deleted_local else None
        self.trash[os.path.join(folder, "files", find.fields["trashed"])] = (info, find, deleted)

    def _trash_original(self, info: trash_info.TrashInfo, find: Find) -> str | None:
        if info.path.startswith("/"):
            return translate("file://" + _quote(info.path), find.home, self.homes, self.roots)
        apart = take_apart("/" + info.path)  # relative to the volume that the trash is on
        volume = os.path.dirname(os.path.dirname(os.path.dirname(find.entry.path)))
        if os.path.basename(volume) == ".Trash":
            volume = os.path.dirname(volume)
        return os.path.join(volume, *apart.parts) if apart and apart.parts else None

    def take_trash(self, finds: Iterable[Find]) -> None:
        """Match what lies in a trash to its records; both may be orphans."""
        for find in finds:
            found = self.trash.pop(find.entry.path, None)
            if found is None:
                self.own_document(
                    self.read_copy(find, find.entry, ()), find, os.path.basename(find.entry.path), trashed=True
                )
                continue
            self._deleted(find, *found)
        for info, record_find, deleted in self.trash.values():
            draft = self._deleted_draft(info, record_find, deleted)
            draft.records[-1] = replace(
                draft.records[-1], says=draft.records[-1].says + "; what it speaks of is no longer in the trash"
            )

    def _deleted_draft(self, info: trash_info.TrashInfo, find: Find, deleted: datetime | None) -> Draft:
        original = self._trash_original(info, find)
        draft = (
            self.draft(original, find.home, info.path)
            if original
            else self.outside(info.path, _last_part(info.path), find.home)
        )
        draft.trashed = True
        says = "a trash record says that it was deleted" + (
            f" at {deleted.astimezone():%Y-%m-%d %H:%M}" if deleted else ""
        )
        draft.records.append(
            Record(find.entry.path, "trash-info", says, (weights.evidence("trash-record", says),), deleted)
        )
        return draft

    def _deleted(self, find: Find, info: trash_info.TrashInfo, record_find: Find, deleted: datetime | None) -> None:
        draft = self._deleted_draft(info, record_find, deleted)
        piece = weights.evidence("trash-record", "its trash record names this document")
        copy = self.read_copy(find, find.entry, (piece,), name=draft.name)
        if deleted:
            draft.deleted[find.entry.path] = deleted
        draft.copies.append(replace(copy, confidence=weights.confidences([[piece]])[0]))
        if find.entry.is_folder and draft.original:
            self._deleted_inside(find, draft, record_find, deleted)

    def _deleted_inside(self, find: Find, folder: Draft, record_find: Find, deleted: datetime | None) -> None:
        try:
            inner = list(rebuilding.members(find.entry))[:_MAX_DELETED_INSIDE]
        except SourceError as error:
            self.problem(find.entry.path, error.what)
            return
        assert folder.original is not None
        for relative, entry in inner:
            if format_of_extension(extension_of(relative)) is None:
                continue
            draft = self.draft(os.path.join(folder.original, *relative.split("/")), find.home)
            draft.trashed, draft.within = True, folder.key
            piece = weights.evidence(
                "trash-record", f"the trash record of its folder {show_name(folder.name)} names its place"
            )
            copy = self.read_copy(find, entry, (piece,))
            draft.copies.append(replace(copy, confidence=weights.confidences([[piece]])[0]))
            draft.records.append(
                Record(record_find.entry.path, "trash-info", "deleted together with its folder", (piece,), deleted)
            )
            if deleted:
                draft.deleted[entry.path] = deleted

    def take_lock(self, find: Find) -> None:
        """Read a lock and give it to the document that it speaks of."""
        place = self.catalogue.places[find.place]
        try:
            with rebuilding.open_content(find.entry) as stream:
                data = stream.read(1 << 16)
        except (SourceError, OSError) as error:
            self.problem(find.entry.path, error.what if isinstance(error, SourceError) else explain(error))
            data = b""
        folder, path = os.path.dirname(find.entry.path), find.entry.path
        owner = host = None
        opened, notes = find.entry.modified, []
        size: int | None = find.entry.size if find.entry.size in (owner_lock.TEXT_SIZE, owner_lock.OTHER_SIZE) else None
        try:
            if place.reader == "odf-lock":
                facts = odf_lock.parse(data)
                owner, host = facts.owner or facts.login or None, facts.host or None
                if facts.opened_local:
                    opened = to_utc(facts.opened_local, find.entry.modified)
            else:
                owner = owner_lock.parse(data).owner
        except Malformed as error:
            if place.reader == "owner-lock" and size is None:
                # Neither name nor size speak for a lock: other programs use the sign too.
                self.problem(path, f"this looks like a lock but is none: {error}")
                return
            notes.append(f"its inside is damaged ({error}); its name still tells")
            self.problem(path, f"this lock is damaged inside: {error}. Its name was used")
        lock = Lock(find.entry, find.place, owner, host, opened, notes=tuple(notes))
        if place.reader == "odf-lock":
            original = os.path.join(folder, find.fields["name"])
            found = [
                Candidate(
                    original, [weights.evidence("lock-name", f"the lock carries its whole name, {find.fields['name']}")]
                )
            ]
        else:
            gone = [d.original for d in self.drafts.values() if d.original]
            found = near.for_owner_lock(find.fields["tail"], folder, size, self.case.in_folder(folder), gone)
            if not found and size != owner_lock.TEXT_SIZE:
                text = "the lock carries its whole name"
                found = [
                    Candidate(os.path.join(folder, find.fields["tail"]), [weights.evidence("lock-name", text)], False)
                ]
        self._give_lock(lock, found)

    def _give_lock(self, lock: Lock, found: list[Candidate]) -> None:
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is None or shares[best] < weights.THRESHOLD:
            note = "it fits several documents equally" if found else "the document it speaks of is not there any more"
            self.unmatched.append(replace(lock, notes=(*lock.notes, note)))
            return
        draft = self.draft(found[best].path, self.home_of(lock.entry.path))
        draft.locks.append(replace(lock, confidence=shares[best], evidence=tuple(found[best].evidence)))


def _last_part(recorded: str) -> str:
    apart = take_apart(recorded)
    return apart.parts[-1] if apart and apart.parts else recorded.rstrip("/\\").replace("\\", "/").rpartition("/")[2]


def _quote(path: str) -> str:
    from urllib.parse import quote_from_bytes

    return quote_from_bytes(os.fsencode(path))
