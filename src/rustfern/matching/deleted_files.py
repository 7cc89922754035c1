"""What a disk still records of deleted documents: each goes to the document whose path it had."""

from __future__ import annotations

import os
from collections.abc import Sequence

import msgspec
from msgspec.structs import replace

from rustfern.core.asked import likeness
from rustfern.core.errors import SourceError
from rustfern.core.model import Content, Copy, Entry, Hints, Kind, Record, State, Trace
from rustfern.core.paths import inside, plain_path
from rustfern.core.times import utc
from rustfern.formats.format_table import class_of, extension_of, extension_right, format_of_extension
from rustfern.matching.evidence import weights
from rustfern.matching.state import LinkState, clocks_of
from rustfern.search.patterns import is_system
from rustfern.search.program_folders import is_of_programs
from rustfern.search.search import ADDED, RECORD_NAME, is_document_name

PLACE = "deleted-record"
ARCHIVES = frozenset({"zip", "7z", "tar"})
_NOT_OF_PEOPLE = frozenset({"other"})
_OF_PROGRAMS = frozenset({"code", "database", "image", "other", "mail"})
"""Classes of what programs write and delete all the time, in their folders and those of the system."""
_OF_SYSTEM = _OF_PROGRAMS | {"text", "page", "audio"}
_MAX_READ = 20_000
_MAX_ONLY_NAMED = 200
"""Documents of which only the name is left that are listed, the latest."""
_MAX_DISMISSED = 100_000
_RARELY_LOST = frozenset({"code", "database"})


class Gone(msgspec.Struct):
    """What was not listed: `clutter` of programs, documents whose place others have taken `entirely`, ones that are `empty`, and `more`
    than are read in one scan.
    """

    clutter: int = 0
    entirely: int = 0
    empty: int = 0
    more: int = 0


class DeletedFiles:
    """The step that gives deleted files to their documents."""

    def __init__(self, state: LinkState) -> None:
        self.state = state
        self.gone = Gone()
        self._folders: dict[str, tuple[bool, bool]] = {}
        self.dismissed: list[str] = []

    def take(self, paths: Sequence[str], hints: Hints) -> None:
        """Look at deleted files, those first that the person most likely misses."""
        state = self.state
        homes = [home.path for home in state.homes]
        taken = self._taken()
        entries: list[Entry] = []
        for path in dict.fromkeys(paths):
            source = state.source_of(path)
            if source is None or path in taken:
                continue
            if self._is_clutter(path, homes):
                self.gone.clutter += 1
                if len(self.dismissed) < _MAX_DISMISSED:
                    self.dismissed.append(path)
                continue
            try:
                entry = source.entry(path)
            except SourceError as error:
                state.problem(path, error.what)
                continue
            if not entry.is_file or not entry.size:
                self.gone.empty += 1
            elif entry.remaining == 0.0 and hints.document is None:
                self.gone.entirely += 1
            else:
                entries.append(entry)
        entries.sort(key=lambda entry: self._order(entry, hints))
        self.gone.more = max(len(entries) - _MAX_READ, 0)
        for entry in entries[:_MAX_READ]:
            with state.isolated(entry.path):
                self._one(entry)

    def dismissed_places(self) -> set[tuple[int, int]]:
        """(place on the disk, bytes) of deleted files that are no documents: programs' own, and locks."""
        found = {
            (lock.entry.extents[0][0], lock.entry.size)
            for draft in self.state.drafts.values()
            for lock in draft.locks
            if lock.entry.extents
        }
        for path in self.dismissed:
            if format_of_extension(extension_of(plain_path(path))) in ARCHIVES:
                continue  # what somebody packed may well be wanted
            source = self.state.source_of(path)
            try:
                entry = source.entry(path) if source is not None else None
            except SourceError:
                continue
            if entry is not None and entry.extents:
                found.add((entry.extents[0][0], entry.size))
        return found

    def take_traces(self, hints: Hints) -> None:
        """Deletions that the volumes note of documents that were found: when. Documents of which only the name is left: that they were there."""
        state = self.state
        homes = [home.path for home in state.homes]
        latest: dict[str, tuple[str, Trace]] = {}
        for source in state.sources:
            for path, trace in source.traces(homes, is_document_name):
                if not self._is_clutter(path, homes):
                    key = state.key(path, state.home_of(path))
                    known = latest.get(key)
                    if known is None or (trace.deleted_then, trace.when or 0) >= (
                        known[1].deleted_then,
                        known[1].when or 0,
                    ):
                        latest[key] = path, trace
        only_named = 0
        for key, (path, trace) in sorted(latest.items(), key=lambda item: -(item[1][1].when or 0)):
            when = utc(trace.when / 1e9) if trace.when is not None else None
            if key not in state.drafts:
                if state.door.exists(path) or only_named >= _MAX_ONLY_NAMED:
                    continue
                only_named += 1
            draft = state.draft(path, state.home_of(path))
            if state.door.exists(draft.original or path):
                continue
            draft.trashed = True
            told = f" at {state.clock.format_time(when)}" if when is not None and trace.deleted_then else ""
            says = f"the volume's journal of changes says that it was deleted{told}"
            if trace.by == "index":
                size = f", {trace.size} bytes" if trace.size else ""
                says = f"its folder's index still has its name{size}; the record of its content was used again"
            piece = weights.evidence("deleted-record", says)
            draft.records.append(Record(path, f"disk-{trace.by}", says, (piece,), when))

    def _taken(self) -> set[str]:
        """What has its document already, as the copy that a program made."""
        copies = {copy.path for draft in self.state.drafts.values() for copy in draft.copies}
        return copies | {item.entry.path for item in self.state.unmatched if isinstance(item, Copy)}

    def _is_clutter(self, path: str, homes: Sequence[str]) -> bool:
        folder, name = os.path.split(plain_path(path))
        if RECORD_NAME.fullmatch(name):
            return False
        added = ADDED.fullmatch(name)
        doc_class = class_of(format_of_extension(extension_of(added[1] if added else name)))
        if doc_class in _NOT_OF_PEOPLE:
            return True
        of_programs, of_system = self._kind_of(folder, homes)
        if doc_class in _OF_PROGRAMS and of_programs:
            return True
        return of_system and doc_class in _OF_SYSTEM

    def _kind_of(self, folder: str, homes: Sequence[str]) -> tuple[bool, bool]:
        """Whether a folder of the disk is one of programs, and of the system; where the image itself lies says nothing."""
        known = self._folders.get(folder)
        if known is None:
            if self.state.home_of(folder) is not None:
                of_programs = is_of_programs(folder, homes)
            else:
                root = next((source.root for source in self.state.sources if inside(folder, source.root)), "")
                of_programs = is_of_programs(os.sep + os.path.relpath(folder, root), ())
            known = self._folders[folder] = of_programs, is_system(folder, self.state.sources)
        return known

    def _order(self, entry: Entry, hints: Hints) -> tuple[object, ...]:
        asked = likeness(hints.document, entry.name) if hints.document else 0.0
        doc_class = class_of(format_of_extension(extension_of(entry.name)))
        wrong_class = hints.doc_class is not None and doc_class != hints.doc_class
        of_nobody = bool(self.state.homes) and self.state.home_of(entry.path) is None
        written = entry.modified.timestamp() if entry.modified else 0.0
        return -round(asked, 1), wrong_class, of_nobody, doc_class in _RARELY_LOST, -written, entry.path

    def _one(self, entry: Entry) -> None:
        state = self.state
        name = entry.name
        content, members = state.content_of(entry, name)
        nameless = RECORD_NAME.fullmatch(name) is not None
        if nameless and (content.format is None or class_of(content.format) in _NOT_OF_PEOPLE):
            self.gone.clutter += 1
            return
        if _says_nothing(content):
            self.gone.entirely += 1
            return
        piece = weights.evidence(
            "deleted-record", "the disk's own record of the deleted file gives its name and folder"
        )
        if nameless:
            piece = weights.evidence("own-content", "the disk's record of it has lost its name")
        copy = Copy(
            entry=entry,
            kind=Kind.DELETED,
            place=PLACE,
            content=content,
            extension_right=None if nameless else extension_right(name, content.format),
            clocks=clocks_of(entry, content),
            confidence=weights.confidences([[piece]])[0],
            evidence=(piece,),
            members=members,
            notes=(entry.caution,) if entry.caution else (),
        )
        path = plain_path(entry.path)
        if nameless and content.format:
            path = f"{path}.{content.format}"
        elif added := ADDED.fullmatch(name):
            # A program gave it an addition on its way out: the document's own name stands before.
            path = os.path.join(os.path.dirname(path), added[1])
        draft = state.draft(path, state.home_of(path))
        if draft.original is not None and not state.door.exists(draft.original):
            draft.trashed = True
        if any(_same(copy, other) for other in draft.copies):
            return
        draft.copies.append(replace(copy, complete=True))


def _same(mine: Copy, other: Copy) -> bool:
    """Whether two records are of one and the same bytes at one place."""
    return mine.entry.extents is not None and mine.entry.extents == other.entry.extents and mine.kind is other.kind


def _says_nothing(content: Content) -> bool:
    """Whether the place of a file holds nothing but zeros by now."""
    return content.state is State.DAMAGED and content.format is None and content.words is None and not content.sha256
