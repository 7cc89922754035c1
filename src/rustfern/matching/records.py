"""Locks, recovery lists and trash records: who had what open, what was autosaved, what was deleted."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, BinaryIO, assert_never

from msgspec.structs import replace

from rustfern.catalogue.loader import Place
from rustfern.content import open as contents
from rustfern.core.errors import Malformed, SourceError, explain
from rustfern.core.model import Evidence, Find, Home, Lock, Order, Record
from rustfern.core.paths import inside, show_name
from rustfern.core.times import to_utc
from rustfern.matching.evidence import by_name, weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.state import OPEN_FOR, SLACK, Draft, LinkState, last_part, where_to_ask
from rustfern.matching.trash import Trash
from rustfern.traces import owner_lock
from rustfern.traces.facts import Kept, LockFacts
from rustfern.traces.registry import Names, Sort, Trace

if TYPE_CHECKING:
    from rustfern.traces import recovery_list, revision_index

_LOCK_LIMIT, _RECORD_LIMIT = 1 << 16, 64 << 20


class Records:
    """The steps that read traces."""

    def __init__(self, state: LinkState, trash: Trash) -> None:
        self.state, self._trash = state, trash
        self.waiting: list[tuple[Lock, list[Candidate]]] = []  # locks that fit several documents
        self.tried: list[Lock] = []
        self.placeholders: list[Find] = []

    def recognise(self, find: Find) -> None:
        """Read a record; locks wait until all names are known."""
        place = self.state.catalogue.places[find.place]
        trace = place.trace
        assert trace is not None
        if trace.sort in (Sort.NOTED, Sort.PLACEHOLDER):
            self._noted(find, place)
            return
        if trace.sort is Sort.MAIL_STORE:
            self.state.mail_stores.append(find)
            return
        try:
            if trace.sort is Sort.REVISIONS:
                self._revisions(find, trace)
                return
            with contents.open_content(self.state.door, find.entry) as stream:
                self._read_record(find, trace, stream)
        except Malformed as error:
            self.state.problem(
                find.entry.path,
                f"this {place.reader.replace('-', ' ')} record is damaged: {error}. Its copies are judged by their names and contents",
            )
            self.state.unmatched.append(
                Record(find.entry.path, place.reader, f"damaged: {error}", when=find.entry.modified)
            )
        except (SourceError, OSError) as error:
            what = error.what if isinstance(error, SourceError) else explain(error)
            self.state.problem(find.entry.path, what)

    def _read_record(self, find: Find, trace: Trace, stream: BinaryIO) -> None:
        if trace.sort is Sort.RECOVERY_LIST:
            self._recovery_list(find, trace.parse(stream))
        elif trace.sort is Sort.KEPT_LIST:
            self._kept(find, trace.parse(stream.read(_RECORD_LIMIT)), trace.place)
        else:
            self._trash.note_deleted(find, trace, stream.read(_RECORD_LIMIT))

    def _kept(self, find: Find, kept: list[Kept], place: str) -> None:
        """An editor's list of the texts that it keeps, by paths or by names beside the list."""
        pairs, folder = [], os.path.dirname(find.entry.path)
        for each in kept:
            beside = "/" not in each.copy and "\\" not in each.copy
            temp = os.path.join(folder, each.copy) if beside else self._recorded_here(each.copy, find.home)
            if temp is None or each.copy in ("", ".", ".."):
                if not beside:
                    self.state.problem(
                        find.entry.path, f"this list names a text outside of what is searched: {show_name(each.copy)}"
                    )
                continue
            if each.when:
                self.state.recorded_times[temp] = each.when
            pairs.append((each.original, temp, each.title))
        self._listed_here(find, pairs, place)

    def _revisions(self, find: Find, trace: Trace) -> None:
        """The index of older versions that macOS keeps. It is read from a private copy, its journal with it."""
        top = os.path.dirname(os.path.dirname(find.entry.path))
        with contents.materialised(self.state.door, find.entry, ("-wal", "-journal")) as path:
            generations: list[revision_index.Generation] = trace.parse(path)
        pairs = []
        for each in generations:
            stored = os.path.normpath(os.path.join(top, *each.stored.strip("/").split("/")))
            if not inside(stored, top):
                self.state.problem(
                    find.entry.path, f"this index names a version outside of its folder: {show_name(each.stored)}"
                )
                continue
            if each.when:
                self.state.recorded_times[stored] = each.when
            pairs.append((each.original, stored, ""))
        self._listed_here(find, pairs, trace.place)

    def _noted(self, find: Find, place: Place) -> None:
        """A thing that is only pointed out: what it may hold, or that its content is elsewhere."""
        if place.trace is not None and (place.trace.sort is Sort.PLACEHOLDER or place.lies_beside):
            self.placeholders.append(find)
        elif find.entry.size:
            self.state.unmatched.append(
                Record(find.entry.path, place.id, f"{place.what}: {place.says}", (), find.entry.modified)
            )

    def take_placeholders(self) -> None:
        """Say on known documents that their content is online only; the others are pointed out."""
        for find in self.placeholders:
            with self.state.isolated(find):
                place = self.state.catalogue.places[find.place]
                name = find.fields.get("name") or find.fields.get("stem", "")
                path = os.path.join(os.path.dirname(find.entry.path), name)
                draft = self.state.drafts.get(self.state.key(path, find.home or self.state.home_of(path)))
                record = Record(find.entry.path, place.id, f"{name}: {place.says}", (), find.entry.modified)
                (draft.records if draft else self.state.unmatched).append(record)

    def _recovery_list(self, find: Find, found: recovery_list.RecoveryList) -> None:
        path, home = find.entry.path, find.home
        if found.problem:
            self.state.problem(
                path,
                f"the recovery list is cut off at byte {found.cut_at} ({found.problem}); what stands before was read",
            )
        for entry in {entry.item: entry for entry in found.entries}.values():
            draft: Draft | None = None
            if entry.original_url:
                original = self.state.paths.translate(entry.original_url, home)
                title = entry.title or last_part(entry.original_url)
                draft = (
                    self.state.draft(original, home, entry.original_url)
                    if original
                    else self.state.outside(entry.original_url, title, home)
                )
                says = f"the recovery list of {home.person if home else 'this profile'} names it as open"
                says += ", with unsaved changes" if entry.changed else ", without changes"
                draft.records.append(
                    Record(path, "recovery-list", says, (weights.evidence("recovery-list", says),), find.entry.modified)
                )
            if entry.temp_url:
                temp = self.state.paths.translate(entry.temp_url, home)
                if temp is None:
                    self.state.problem(
                        path,
                        f"the recovery list names an autosave outside of what is searched: {show_name(entry.temp_url)}",
                    )
                else:
                    text = "the recovery list names it as the autosave of this document"
                    self.state.named[temp] = (draft, weights.evidence("recovery-list", text), entry.title)
                    self._seek(temp, "odf-suite-autosave", home)
            if draft is not None and entry.changed:
                draft.note_change(find.entry)

    def _listed_here(self, find: Find, pairs: list[tuple[str, str, str]], place: str) -> None:
        """(original as recorded, copy as it is here, title for a text that was never named)."""
        spec = self.state.catalogue.places[place]
        kind = "autosave" if spec.kind == "autosave" else "version"
        for recorded, temp, title in pairs:
            original = self._recorded_here(recorded, find.home) if recorded else None
            if original is not None:
                draft: Draft | None = self.state.draft(original, find.home, recorded)
            elif recorded and where_to_ask(recorded):
                draft = self.state.outside(recorded, last_part(recorded), find.home)
            else:
                draft = None
            piece = weights.evidence("recovery-list", f"the program's own list names it as the {kind} of this document")
            if draft is not None and not any(record.path == find.entry.path for record in draft.records):
                says = "the program's own list names it" + (" as open" if kind == "autosave" else "")
                reader = self.state.catalogue.places[find.place].reader
                draft.records.append(Record(find.entry.path, reader, says, (piece,), find.entry.modified))
            if draft is not None or not recorded:
                self.state.named[temp] = (draft, piece, title or os.path.basename(recorded) or "Unnamed text")
            self._seek(temp, place, find.home)

    def _recorded_here(self, path: str, home: Home | None) -> str | None:
        if path.startswith("~/") and home is not None:
            return os.path.join(home.path, *[part for part in path[2:].split("/") if part not in ("", "..")])
        return self.state.paths.translate(path, home)

    def _seek(self, path: str, place: str, home: Home | None) -> None:
        """Take a copy that a record names, wherever it lies inside what is searched."""
        source = self.state.source_of(path)
        if source is None:
            return
        try:
            entry = source.entry(path)
        except SourceError:
            return
        spec = self.state.catalogue.places[place]
        if entry.link_target is None and (spec.folders_too or not entry.is_folder):
            fields = self.state.catalogue.match(spec, os.path.basename(path)) or {}
            self.state.more.append(Find(entry, place, spec.kind, fields, home, Order(spec.order), spec.complete))

    def take_lock(self, find: Find) -> None:
        """Read a lock and give it to the document that it speaks of."""
        trace = self.state.catalogue.places[find.place].trace
        assert trace is not None
        if find.entry.link_target is not None:
            self._link_lock(find, find.entry.link_target)
            return
        try:
            with contents.open_content(self.state.door, find.entry) as stream:
                data = stream.read(_LOCK_LIMIT)
            unread = ""
        except (SourceError, OSError) as error:
            unread = error.what if isinstance(error, SourceError) else explain(error)
            data = b""
        path = find.entry.path
        told, notes = LockFacts("", ""), []
        # Neither name nor size speak for a lock of a wrong size: other programs use such names too.
        size = find.entry.size if find.entry.size in (owner_lock.TEXT_SIZE, owner_lock.OTHER_SIZE) else None
        strange = trace.names is Names.TAIL and size is None
        try:
            if trace.reader:
                told = trace.parse(data)
        except Malformed as error:
            if trace.common:
                return
            if strange:
                self.state.problem(path, f"this looks like a lock but is none: {error}")
                return
            notes.append(
                f"its inside {'could not be read' if unread else 'is damaged'} ({unread or error}); its name still tells"
            )
            if not unread:
                self.state.problem(path, f"this lock is damaged inside: {error}. Its name was used")
        if unread:
            self.state.problem(path, f"this lock could not be read ({unread}). Its name was used")
        modified = find.entry.modified
        opened = to_utc(told.opened_local, modified) if told.opened_local else modified
        lock = Lock(find.entry, find.place, told.owner or None, told.host or None, opened, notes=tuple(notes))
        self._give_lock(lock, self._named_by(find, trace, size))

    def _named_by(self, find: Find, trace: Trace, size: int | None) -> list[Candidate]:
        """The documents that a lock's name may mean; `size` in bytes tells the family of programs."""
        folder = os.path.dirname(find.entry.path)
        match trace.names:
            case Names.WHOLE:
                name = find.fields["name"]
                piece = weights.evidence("lock-name", f"the lock carries its whole name, {name}")
                return [Candidate(os.path.join(folder, name), [piece])]
            case Names.STEM:
                return self._by_stem(find, trace)
            case Names.TAIL:
                gone = [d.original for d in self.state.drafts.values() if d.original]
                tail, names = find.fields["tail"], self.state.case.names.in_folder(folder)
                found = by_name.for_owner_lock(tail, folder, size, names, gone)
                if not found and size != owner_lock.TEXT_SIZE:
                    piece = weights.evidence("lock-name", "the lock carries its whole name")
                    found = [Candidate(os.path.join(folder, tail), [piece], False)]
                return found
            case _:
                assert_never(trace.names)

    def _by_stem(self, find: Find, trace: Trace) -> list[Candidate]:
        """Documents in the lock's folder whose name without extension the lock carries, whole or (`cut`) its beginning."""
        folder, fields = os.path.dirname(find.entry.path), find.fields
        wanted = fields.get("stem", fields.get("cut", "")).casefold()
        fitting = []
        for path in [
            *self.state.case.names.in_folder(folder),
            *(d.original for d in self.state.drafts.values() if d.original),
        ]:
            stem, _, extension = os.path.basename(path).casefold().rpartition(".")
            same = stem == wanted if "stem" in fields else stem.startswith(wanted)
            if same and os.path.dirname(path) == folder and extension in trace.extensions:
                fitting.append(path)
        whole = "stem" in fields
        text = "the lock carries its name" if whole else "the lock carries the beginning of its name"
        piece = weights.evidence("lock-name" if whole else "lock-name-cut", text)
        if not fitting and whole:
            fitting = [os.path.join(folder, f"{fields['stem']}.{trace.extensions[0]}")]
        return [Candidate(path, [piece], self.state.door.exists(path)) for path in dict.fromkeys(fitting)]

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

    def settle_locks(self) -> None:
        """Locks that fit several documents go to those of which copies were written, or which were saved, while they lay there."""
        waiting, self.waiting = self.waiting, []
        for lock, found in waiting:
            with self.state.isolated(lock):
                for item in found:
                    if piece := self._open_then(lock, item.path):
                        item.evidence.append(piece)
                self._give_lock(lock, found)

    def _open_then(self, lock: Lock, path: str) -> Evidence | None:
        if lock.opened is None:
            return None
        draft = self.state.drafts.get(self.state.key(path, self.state.home_of(path)))
        upto = lock.opened + OPEN_FOR
        for copy in draft.copies if draft else ():
            if copy.entry.modified and lock.opened - SLACK <= copy.entry.modified <= upto:
                text = f"a copy of this document was written after the lock was made ({self.state.clock.format_time(copy.entry.modified)})"
                return weights.evidence("copy-then", text)
        saved = self.state.modified(path)
        if saved is not None and lock.opened - SLACK <= saved <= upto:
            return weights.evidence("saved-then", "it was saved after the lock was made")
        return None

    def _give_lock(self, lock: Lock, found: list[Candidate]) -> None:
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is not None and len(found) > 1 and shares[best] < weights.SURE and lock not in self.tried:
            # Which of them was open shows by the copies that were written then: ask again when those have their documents.
            self.tried.append(lock)
            self.waiting.append((lock, found))
            return
        if best is None or shares[best] < weights.THRESHOLD:
            note = "it fits several documents equally" if found else "the document it speaks of is not there any more"
            self.state.unmatched.append(replace(lock, notes=(*lock.notes, note)))
            return
        draft = self.state.draft(found[best].path, self.state.home_of(lock.entry.path))
        draft.locks.append(replace(lock, confidence=shares[best], evidence=tuple(found[best].evidence)))
