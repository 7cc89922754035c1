"""Documents that are not where people look: opened in mail and archive programs, in older versions of whole folders, in mails."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from itertools import groupby

from msgspec.structs import replace

from rustfern.content import open as contents
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Copy, Entry, Find, Kind, Order, Record, State
from rustfern.core.paths import fold_name, inside, show_name
from rustfern.formats.format_table import TEXT_FORMATS, extension_of, format_of_extension
from rustfern.matching.evidence import by_content, weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.state import Draft, LinkState
from rustfern.search.neighbours import is_everywhere
from rustfern.search.patterns import is_system
from rustfern.search.program_folders import is_of_programs
from rustfern.sources import live_machine
from rustfern.sources.folder import HELD_ROOT

_MAX_VERSIONS = 3_000
_MAX_OF_ONE = 30
_FEW_WORDS = 4
_ALIKE, _BARELY_ALIKE, _ENOUGH_WORDS = 0.3, 0.15, 10
_PASSING = frozenset(
    {"tmp", "temp", "$recycle.bin", "recycler", "cache", "appdata", "library", "application data", "local settings"}
)
_LEAST, _MAX_TEXTS = 64, 2_000
_MAX_OF_NAME, _MOST_BESIDE = 20, 2_000
_LARGEST_COMPARED, _PIECE_BYTES = 256 << 20, 1 << 20
_NO_DOCUMENT = frozenset({"zip", "gz", "7z", "sqlite", "cfb", "ini"})
_DRAFTS = (
    "draft",
    "entw",
    "brouil",
    "unsent",
    "borrador",
    "bozz",
    "rascunh",
    "concept",
    "utkast",
    "kladde",
    "luonnos",
    "szkic",
    "koncept",
    "черновик",
    "下書き",
    "草稿",
)
_JUST_WRITTEN = timedelta(hours=1)
"""A draft that was written so long before its store was is one that waits, not one that was being written."""
_MAX_STORE = 4 << 30


def _is_kept_by_programs(inner: str) -> bool:
    """Whether a path in a dated tree (folded) lies in a folder of programs, of temporary files or of a trash."""
    parts = inner.split("/")[:-1]
    return is_of_programs("/" + "/".join(parts), ()) or any(part in _PASSING or part.startswith(".") for part in parts)


class Versions:
    """The steps for documents that are elsewhere."""

    def __init__(self, state: LinkState) -> None:
        self.state = state
        self._texts = 0  # texts under names that say nothing
        self.opened: set[str] = set()  # copies of known documents that were opened in mail or archive programs
        self._moved: dict[str, str] = {}
        self._folders: dict[str, dict[tuple[str, int, datetime | None], str]] = {}

    def take_misplaced(self, find: Find) -> None:
        """Something that was opened in a mail or archive program: a version of a known document, or edited only here."""
        with self.state.reader.must_read():
            self._misplaced(find)

    def _misplaced(self, find: Find) -> None:
        name = find.fields.get("attached", "") + find.fields.get("dotext", "")
        if format_of_extension(extension_of(name)) is None:
            return
        copy = self.state.read_copy(find, find.entry, (), name=name)
        original = self._like(copy, name, find)
        if original is not None:
            text = "it carries its name and shares its text, opened from a mail or an archive"
            piece = weights.evidence("shared-content", text)
            draft = self.state.draft(original, find.home)
            draft.misplaced = True
            self.opened.add(find.entry.path)
            draft.copies.append(replace(copy, evidence=(piece,), confidence=weights.confidences([[piece]])[0]))
            return
        if self.state.narrowed and self.state.catalogue.places[find.place].where == "volume":
            self.state.unmatched.append(replace(copy, notes=(*copy.notes, "in a folder that all people share")))
            return
        draft = self.state.draft(find.entry.path, find.home)
        draft.name, draft.misplaced, draft.place = name, True, find.place

    def _like(self, copy: Copy, name: str, find: Find) -> str | None:
        """The document of this name, elsewhere in the same home, that shares bytes or text with a copy."""
        for path in self.state.case.names.by_name(name, limit=20):
            if path == find.entry.path or self.state.home_of(path) != find.home:
                continue
            source = self.state.source_of(path)
            try:
                if source is None or not (entry := source.entry(path)).is_file:
                    continue
                theirs = self.state.reader.content(entry, os.path.basename(path))[0]
            except SourceError:
                continue
            if theirs.sha256 == copy.content.sha256 or by_content.shared(theirs, copy.content) >= _ALIKE:
                return path
            found = by_content.difference(copy.content, theirs)
            if found.common >= _FEW_WORDS and not found.only_left:
                return path  # little text, but all of it is there
        return None

    def moved_to(self, find: Find, copy: Copy, gone: str) -> Candidate | None:
        """Where a gone document went: a file of its name elsewhere in the same home, with its text, that was not written earlier.

        Nothing else may be known of its deletion.
        """
        home = find.home or self.state.home_of(find.entry.path)
        if not self.state.reader.is_reading:
            same = self.state.case.names.by_name(os.path.basename(gone), limit=_MAX_OF_NAME)
            self.state.reader.need(path for path in same if self.state.home_of(path) == home)
            return None
        if self.state.key(gone, home) in self.state.drafts:
            return None
        found = self._like(copy, os.path.basename(gone), replace(find, home=home))
        saved = self.state.modified(found) if found else None
        if found is None or saved is None or copy.entry.modified is None or saved < copy.entry.modified:
            return None
        text = f"it carries its name and shares its text; the document was moved here from {os.path.dirname(gone)}"
        return Candidate(found, [weights.evidence("shared-content", show_name(text))])

    def take_kept_attachments(self, finds: Iterable[Find]) -> None:
        """Attachments that a mail program keeps: versions of the documents that are known by now, nothing of their own."""
        wanted = {
            fold_name(draft.name): draft for draft in self.state.drafts.values() if draft.original or draft.recorded
        }
        for find in finds:
            draft = wanted.get(fold_name(find.fields["attached"] + find.fields.get("dotext", "")))
            if draft is not None and draft.home in (None, find.home):
                with self.state.isolated(find):
                    piece = weights.evidence("name", "a mail carries a file of its name")
                    copy = self.state.read_copy(find, find.entry, (piece,), name=draft.name)
                    draft.copies.append(replace(copy, confidence=weights.confidences([[piece]])[0]))

    def add_open_deleted_files(self) -> None:
        """On the live machine: documents that were deleted or replaced while a program still holds them open."""
        source = self.state.door.open(HELD_ROOT)
        for path, was, program in live_machine.deleted_but_open():
            if self.state.source_of(was) is None or format_of_extension(extension_of(was)) is None:
                continue
            try:
                entry = source.entry(path)
            except SourceError:
                continue
            if not entry.is_file:
                continue
            home = self.state.home_of(was)
            find = Find(entry, "held-open", "temporary", {}, home)
            with self.state.isolated(find):
                text = f"{program} still holds it open; it was deleted as {was}"
                piece = weights.evidence("swap-header", text)
                copy = self.state.read_copy(find, entry, (piece,), name=os.path.basename(was))
                notes = (*copy.notes, f"do not close {program}: this copy vanishes with it")
                sure = weights.confidences([[piece]])[0]
                self.state.draft(was, home).copies.append(replace(copy, confidence=sure, notes=notes))

    def take_by_content(self, path: str) -> None:
        """A file whose name says nothing: a document if its first bytes say so, and no copy of one that is known."""
        from rustfern.formats import registry as formats

        source = self.state.source_of(path)
        try:
            if source is None or not (entry := source.entry(path)).is_file or entry.size < _LEAST:
                return
            with source.open(entry) as stream:
                found = formats.glance(stream, os.path.basename(path))
        except (SourceError, OSError):
            return
        if found.format is None or found.format in _NO_DOCUMENT:
            return
        fields: dict[str, str] = {}
        if found.format in TEXT_FORMATS:
            from rustfern.matching.nameless_texts import NAMELESS
            from rustfern.matching.prose import is_prose

            if self._texts >= _MAX_TEXTS or not is_prose(self.state, entry):
                return
            self._texts += 1
            fields = {NAMELESS: "1"}
        self.state.more.append(Find(entry, "by-content", "temporary", fields, self.state.home_of(path)))

    def take_versions(self, document: str | None) -> None:
        """Older versions in trees that repeat folders: those that differ from the file as it is now, and of gone files."""
        read, left = 0, 0
        for (original, name), group in groupby(self.state.case.versions(), key=lambda row: (row[2], row[3])):
            rows = list(group)
            if original and not self.state.door.exists(original):
                with self.state.isolated(original):
                    original = self._moved_to(original, name, rows) or original
            asked = document is not None and document.casefold() in name.casefold()
            different = self._different(original, name, rows)
            if not different:
                continue
            if read >= _MAX_VERSIONS and not asked:
                left += len(different)
                continue
            gone: dict[str, str] = {}
            for target, place, entry, exact in different[:_MAX_OF_ONE]:
                read += 1
                with self.state.isolated(entry.path):
                    if target is not None and not exact and self._is_stranger(entry, target, name):
                        target = None
                    if target is None and (inner := self._inner(entry.path)):
                        if _is_kept_by_programs(inner):
                            continue  # an autosave, a log or a trash of that day: what it was of is told by that day's search
                        # The newest of what is gone stands for it, older ones of the same place are its versions.
                        first = gone.setdefault(inner, entry.path)
                        draft = self.state.drafts.get(f"copy:{first}")
                        if first != entry.path and draft is not None:
                            self._give_older(draft, place, entry, name)
                            continue
                    self._give_version(target, place, entry, exact, name)
        if left:
            self.state.problem(
                self.state.roots[0],
                f"{left} more older versions in snapshots and backups were not compared: name the document with --document",
            )

    def _moved_to(self, original: str, name: str, rows: Sequence[tuple[str, str, str, str]]) -> str | None:
        """Where a document went that is not there any more: a living file of its name, or of another one in the same folder, of the size and time of
        its last version.
        """
        home = self.state.home_of(original)
        living: list[tuple[str, Entry]] = []
        for path in self.state.case.names.by_name(name, limit=_MAX_OF_NAME):
            source = self.state.source_of(path)
            if path != original and self.state.home_of(path) == home and source is not None and source.exists(path):
                with suppress(SourceError):
                    living.append((path, source.entry(path)))
        beside = self._beside(os.path.dirname(original))
        kept: list[Entry] = []
        for _, path, _, _ in rows:
            source = self.state.source_of(path)
            with suppress(SourceError):
                if source is not None and (entry := source.entry(path)).is_file and entry.modified is not None:
                    kept.append(entry)
        if not kept:
            return None
        # What was moved is as it was last: an older state may be that of a template which others were made of, too.
        last = max(kept, key=lambda entry: entry.modified or datetime.min.replace(tzinfo=UTC))
        for there, now in living:
            same = (last.size, last.modified) == (now.size, now.modified)
            if same and not self._was_there(last.path, original, there):
                self._moved[there] = f"was moved here from {show_name(os.path.dirname(original))}"
                return there
        renamed = beside.get((extension_of(name), last.size, last.modified))
        if renamed is None or self._was_there(last.path, original, renamed) or not self._are_equal(last, renamed):
            return None
        self._moved[renamed] = f"was called {show_name(name)}"
        return renamed

    def _was_there(self, version: str, original: str, living: str) -> bool:
        """Whether a living file was in its place already in the state that a version is of: it is another document then."""
        parts, own = version.split(os.sep), original.split(os.sep)
        same = 0
        while same < min(len(parts), len(own)) - 1 and parts[-1 - same] == own[-1 - same]:
            same += 1
        top, tree = os.sep.join(own[:-same]), os.sep.join(parts[:-same])
        if not same or not inside(living, top):
            return False
        return self.state.door.exists(os.path.join(tree, os.path.relpath(living, top or os.sep)))

    def _are_equal(self, version: Entry, path: str) -> bool:
        """Whether a version holds the same as a living file: files of one size and time are not always one file."""
        source = self.state.source_of(path)
        if source is None or version.size > _LARGEST_COMPARED:
            return False
        with self.state.door.of(version).open(version) as one, source.open(source.entry(path)) as other:
            while piece := one.read(_PIECE_BYTES):
                if other.read(_PIECE_BYTES) != piece:
                    return False
            return not other.read(1)

    def _beside(self, folder: str) -> dict[tuple[str, int, datetime | None], str]:
        """The living files of a folder by extension, size and time, where these are of one alone."""
        known = self._folders.get(folder)
        if known is None:
            found: dict[tuple[str, int, datetime | None], list[str]] = {}
            source = self.state.source_of(folder)
            with suppress(SourceError):
                for name in source.names(folder)[1][:_MOST_BESIDE] if source is not None else ():
                    path = os.path.join(folder, name)
                    if source is not None and source.exists(path):
                        entry = source.entry(path)
                        found.setdefault((extension_of(name), entry.size, entry.modified), []).append(path)
            known = self._folders[folder] = {
                key: paths[0] for key, paths in found.items() if len(paths) == 1 and key[1]
            }
        return known

    def _different(
        self, original: str, name: str, rows: Iterable[tuple[str, str, str, str]]
    ) -> list[tuple[str | None, str, Entry, bool]]:
        """The versions of one document that are not the file as it is now, the newest first: (document, place, entry, whether by path)."""
        seen: set[tuple[int, object]] = set()
        found: list[tuple[str | None, str, Entry, bool]] = []
        for place, path, _, _ in rows:
            source = self.state.source_of(path)
            if not original and is_system(os.path.dirname(path), self.state.sources):
                continue
            try:
                if source is None or not (entry := source.entry(path)).is_file:
                    continue
            except SourceError:
                continue
            target, exact = (original, True) if original else (self._loosely(path, name), False)
            # The document may lie in another source than its version: a folder, and an archive of each day.
            living = self.state.source_of(target) if target and not seen else None
            if living is not None and target and self.state.door.exists(target):
                now = living.entry(target)
                seen.add((now.size, now.modified))
            if (entry.size, entry.modified) not in seen:
                seen.add((entry.size, entry.modified))
                found.append((target, place, entry, exact))
        return sorted(found, key=lambda row: row[2].modified.timestamp() if row[2].modified else 0.0, reverse=True)

    def _loosely(self, path: str, name: str) -> str | None:
        """The document of this name whose folders are most like those of a copy in a dated folder."""
        found = self.state.case.names.by_name(name, limit=30)
        if not found:
            name = _plain(name)
            found = self.state.case.names.by_name(name, limit=30)
        parts = [*path.split(os.sep)[:-1], name]
        best, most = None, 0
        for candidate in found:
            theirs = candidate.split(os.sep)
            same = 0
            while same < min(len(parts), len(theirs)) and parts[-1 - same].casefold() == theirs[-1 - same].casefold():
                same += 1
            if same > most:
                best, most = candidate, same
        return best

    def _is_stranger(self, version: Entry, target: str, name: str) -> bool:
        """Whether a copy in a dated folder has no more than the name of a document: it lay in a folder of another name, and says other things."""
        mine, theirs = version.path.split(os.sep), target.split(os.sep)
        if not self.state.reader.is_reading or mine[-2:-1] == theirs[-2:-1]:
            return False
        source = self.state.source_of(target)
        with suppress(SourceError):
            if source is not None:
                copy = self.state.content_of(version, _plain(name))[0]
                saved = self.state.content_of(source.entry(target), os.path.basename(target))[0]
                least = _ALIKE if is_everywhere(name) else _BARELY_ALIKE
                enough = min(copy.words or 0, saved.words or 0) >= _ENOUGH_WORDS
                return enough and by_content.shared(copy, saved) < least
        return False

    def _inner(self, path: str) -> str:
        """The path that a file has in a dated tree; empty where it lies in none."""
        found = self.state.catalogue.tree_of(path.replace(os.sep, "/"))
        return fold_name(found[1].get("inner", "")) if found is not None and "loose" in found[1] else ""

    def _deleted(self, path: str) -> datetime | None:
        """When something was deleted, where its path in a trash tells it."""
        found = self.state.catalogue.tree_of(path.replace(os.sep, "/"))
        try:
            return (
                datetime.strptime(found[1]["deleted"][:19], "%Y-%m-%dT%H-%M-%S").replace(tzinfo=UTC) if found else None
            )
        except (KeyError, ValueError):
            return None

    def _give_older(self, draft: Draft, place: str, entry: Entry, name: str) -> None:
        """An older version of a document that is gone, of which a newer one stands for it."""
        spec = self.state.catalogue.places[place]
        find = Find(entry, place, spec.kind, {}, draft.home, Order(spec.order), spec.complete)
        piece = weights.evidence("name-and-path", "its path repeats that of a newer one")
        copy = self.state.read_copy(find, entry, (), name=_plain(name))
        draft.copies.append(replace(copy, evidence=(piece,), confidence=weights.confidences([[piece]])[0]))

    def _give_version(self, target: str | None, place: str, entry: Entry, exact: bool, name: str) -> None:
        spec = self.state.catalogue.places[place]
        home = self.state.home_of(target) if target else self.state.home_of(entry.path)
        find = Find(entry, place, spec.kind, {}, home, Order(spec.order), spec.complete)
        name = _plain(name) if not exact else name
        copy = self.state.read_copy(find, entry, (), name=name)
        if target is None:
            if copy.content.format is not None:
                self.state.own_document(copy, find, name, trashed=True)
            return
        text = "its path repeats that of the document" if exact else f"its name is {name}, in a folder with a date"
        if target in self._moved:
            text = f"the document {self._moved[target]}: a version there has its size and time"
        piece = weights.evidence("name-and-path" if exact else "name", text)
        away = target.startswith("\\\\")
        draft = self.state.outside(target, name, home) if away else self.state.draft(target, home)
        if spec.kind == "trash":
            draft.trashed = True
            if (when := self._deleted(entry.path)) is not None:
                draft.deleted[entry.path] = when
                says = f"the service's trash says that it was deleted at {self.state.clock.format_time(when)}"
                told = weights.evidence("trash-record", says)
                draft.records.append(Record(entry.path, "trash-item", says, (told,), when))
        draft.copies.append(replace(copy, evidence=(piece,), confidence=weights.confidences([[piece]])[0]))

    def add_conflict_copies(self, hosts: Iterable[str]) -> None:
        """Copies whose names only show beside the original's: a conflict copy that carries the name of a machine or a person."""
        people = {home.person for home in self.state.homes}
        known = {name.casefold() for name in (*hosts, *people) if len(name) > 2}
        with_dash = self.state.case.names.shaped(r"[^/]*(?:-[^/]*[A-Za-z0-9]|\([^/]*\))\.[^/]*")
        for place in self.state.catalogue.sought:
            for path in with_dash:
                name = os.path.basename(path)
                fields = self.state.catalogue.match(place, name) or self._with_host(name, known)
                if not fields or path in self.state.found_paths:
                    continue
                original = os.path.join(os.path.dirname(path), fields["vstem"] + fields.get("dotext", ""))
                source = self.state.source_of(path)
                if source is None or not self.state.door.exists(original) or original == path:
                    continue
                try:
                    entry = source.entry(path)
                except SourceError:
                    continue
                if entry.is_file:
                    self.state.more.append(
                        Find(
                            entry,
                            place.id,
                            place.kind,
                            fields,
                            self.state.home_of(path),
                            Order(place.order),
                            place.complete,
                        )
                    )

    @staticmethod
    def _with_host(name: str, hosts: set[str]) -> dict[str, str] | None:
        stem, dot, extension = name.rpartition(".")
        for host in hosts:
            for added in (f"-{host}", f" ({host})"):
                if stem.casefold().endswith(added):
                    return {"vstem": stem[: -len(added)], "host": host, "dotext": dot + extension}
        return None

    def take_mail(self) -> None:
        """Mails with files that are versions of known documents; drafts that were deleted but not yet removed."""
        wanted = {
            fold_name(draft.name): draft for draft in self.state.drafts.values() if draft.original or draft.recorded
        }
        for find in self.state.mail_stores:
            if find.entry.size > _MAX_STORE:
                self.state.problem(
                    find.entry.path, "this mail store is too large to look through; its mails were not read"
                )
                continue
            with self.state.isolated(find.entry.path):
                try:
                    self._mail_store(find, wanted)
                except Malformed as error:
                    self.state.problem(find.entry.path, f"this is named like a store of mails but is none: {error}")
                except (SourceError, OSError) as error:
                    self.state.problem(find.entry.path, f"this mail store could not be read: {error}")

    def _mail_store(self, find: Find, wanted: dict[str, Draft]) -> None:
        from rustfern.traces import mail_store

        drafts_folder = os.path.basename(find.entry.path).casefold().startswith(_DRAFTS)
        with (
            contents.open_content(self.state.door, find.entry) as stream,
            contents.open_content(self.state.door, find.entry) as again,
        ):
            for mail in mail_store.mails(stream):
                if not (drafts_folder or (mail.may_carry and wanted)):
                    continue
                message = mail_store.read(again, mail)
                for file in mail_store.attachments(message) if wanted else ():
                    draft = wanted.get(fold_name(file.name))
                    if draft is not None and draft.home in (None, find.home):
                        self._attached(find, draft, f"{mail.start}/{file.number}", file.subject, file.when)
                if drafts_folder:
                    self._draft_mail(find, mail.start, *mail_store.facts(message), deleted=mail.deleted)

    def _attached(self, find: Find, draft: Draft, part: str, subject: str, when: datetime | None) -> None:
        entry = find.entry.at_part(part)
        content = contents.check_rebuilt(self.state.door, entry, draft.name, "mail-part", ())
        if content.state is not State.INTACT and content.state is not State.UNREADABLE:
            return
        piece = weights.evidence(
            "name", f"a mail ({show_name(subject) or 'without subject'}) carries a file of its name"
        )
        draft.copies.append(
            Copy(entry, Kind.VERSION, find.place, content, None, {"record": when} if when else {}, Order.BEFORE, evidence=(piece,),
                 confidence=weights.confidences([[piece]])[0], recipe="mail-part")
        )  # fmt: skip

    def _draft_mail(self, find: Find, start: int, subject: str, when: datetime | None, *, deleted: bool) -> None:
        """A mail that was not sent: deleted and not yet removed, or, of those that lie there, the one that was written last."""
        entry = find.entry.at_part(f"{start}/0")
        content = contents.check_rebuilt(self.state.door, entry, "draft.txt", "mail-part", ())
        if not content.words:
            return
        key = f"copy:{entry.path}#{entry.part}"
        says = (
            "a draft that is marked as deleted, not yet removed from its store"
            if deleted
            else "a mail that was written and not sent"
        )
        piece = weights.evidence("its-own-file", says)
        draft = Draft(
            key, subject or "Draft without subject", None, None, find.home, trashed=deleted, never_saved=not deleted
        )
        stored = find.entry.modified
        draft.in_use = not deleted and bool(when and stored and abs(stored - when) > _JUST_WRITTEN)
        draft.copies.append(
            Copy(entry, Kind.TRASH if deleted else Kind.AUTOSAVE, find.place, content, None, {"record": when} if when else {}, evidence=(piece,), confidence=0.95,
                 recipe="mail-part")
        )  # fmt: skip
        self.state.drafts[key] = draft


def _plain(name: str) -> str:
    """A file name without what a sync service adds when it sets a file aside: `NAME (deleted 3e8dad91).ext`."""
    return re.sub(r" \([^()]* [0-9a-f]{8,40}\)(?=\.[^.]*$|$)", "", name)
