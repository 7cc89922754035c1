"""Locks, recovery lists and trash records: who had what open, what was autosaved, what was deleted."""

from __future__ import annotations

import os
from dataclasses import replace
from typing import TYPE_CHECKING

from rustfern import rebuilding
from rustfern.assembling.table import Draft, last_part
from rustfern.assembling.trash import Trash
from rustfern.errors import Malformed, SourceError
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
from rustfern.places.recorded import translate
from rustfern.sources.folder import explain
from rustfern.times import to_utc

if TYPE_CHECKING:
    from rustfern.traces import recovery_list

_LIST_LIMIT = 1 << 20
_TRASH_LIMIT = 64 << 20


class Traces(Trash):
    """The steps that read traces."""

    def recognise(self, find: Find) -> None:
        """Read a record; locks wait until all names are known."""
        from rustfern.traces import editor_marks, mousepad_session, recovery_list

        place = self.catalogue.places[find.place]
        try:
            with rebuilding.open_content(find.entry) as stream:
                if place.reader == "recovery-list":
                    self._recovery_list(find, recovery_list.parse(stream))
                elif place.reader == "emacs-list":
                    listed = editor_marks.parse_list(stream.read(_LIST_LIMIT))
                    self._listed(find, [(each.original, each.autosave) for each in listed], "emacs-autosave")
                elif place.reader == "mousepad-session":
                    texts = mousepad_session.parse(stream.read(_TRASH_LIMIT))
                    self._listed(find, [(each.original, each.autosave) for each in texts], "mousepad-autosave")
                elif place.reader.startswith("trash-"):
                    self.note_deleted(find, stream.read(_TRASH_LIMIT))
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
                title = entry.title or last_part(entry.original_url)
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

    def _listed(self, find: Find, pairs: list[tuple[str, str]], place: str) -> None:
        """An editor's own list of (original, autosave); the original is empty for a text that was never named."""
        for recorded, autosave in pairs:
            temp = self._recorded_here(autosave, find.home)
            original = self._recorded_here(recorded, find.home) if recorded else None
            if temp is None:
                continue
            draft = self.draft(original, find.home, recorded) if original else None
            piece = weights.evidence("recovery-list", "the editor's list names it as the autosave of this document")
            if draft is not None:
                says = "the editor's list names it as open"
                kind = self.catalogue.places[find.place].reader
                draft.records.append(Record(find.entry.path, kind, says, (piece,), find.entry.modified))
            if draft is not None or not recorded:
                self.named[temp] = (draft, piece, os.path.basename(recorded) or "Unnamed text")
            self._seek(temp, place, find.home)

    def _recorded_here(self, path: str, home: Home | None) -> str | None:
        if path.startswith("~/") and home is not None:
            return os.path.join(home.path, *[part for part in path[2:].split("/") if part not in ("", "..")])
        return translate(path, home, self.homes, self.roots)

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

    def take_lock(self, find: Find) -> None:
        """Read a lock and give it to the document that it speaks of."""
        from rustfern.traces import odf_lock, owner_lock

        place = self.catalogue.places[find.place]
        if find.entry.link_target is not None:
            self._link_lock(find, find.entry.link_target)
            return
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

    def _link_lock(self, find: Find, target: str) -> None:
        from rustfern.traces import editor_marks

        try:
            facts = editor_marks.parse_link(target)
        except Malformed:
            return  # any other dangling link
        lock = Lock(
            find.entry, find.place, facts.user, facts.host, find.entry.modified, notes=(f"process {facts.pid}",)
        )
        name = find.fields["name"]
        piece = weights.evidence("lock-name", f"the lock carries its whole name, {name}")
        self._give_lock(lock, [Candidate(os.path.join(os.path.dirname(find.entry.path), name), [piece])])

    def _give_lock(self, lock: Lock, found: list[Candidate]) -> None:
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is None or shares[best] < weights.THRESHOLD:
            note = "it fits several documents equally" if found else "the document it speaks of is not there any more"
            self.unmatched.append(replace(lock, notes=(*lock.notes, note)))
            return
        draft = self.draft(found[best].path, self.home_of(lock.entry.path))
        draft.locks.append(replace(lock, confidence=shares[best], evidence=tuple(found[best].evidence)))
