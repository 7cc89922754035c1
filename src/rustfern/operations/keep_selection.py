"""What a later search will need of a disk, told from names and records; contents are read only where those do not tell.

To keep files is to race with programs that remove them: what can be told without reading is not read. Where that leaves a few documents
that a copy may belong to, all of them are needed.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress

from msgspec.structs import replace

from rustfern.cases.case_file import CaseFile
from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import SourceError
from rustfern.core.model import Content, Copy, Entry, Find, Glance, Hints, Home, Kind, Lock, Problem, Record, State
from rustfern.formats import registry as formats
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.linker import Linker, Reader
from rustfern.operations.collect import gather, take_records, take_settings, walk, without_other_people
from rustfern.operations.session import Session
from rustfern.search.search import Search

_MAX_FITTING = 4
"""Documents fitting a name that are all needed; of more, the contents must tell."""
_MAX_OF_NAME = 20


class _ByNames(Linker):
    """Matches by names and records. `wanted` are documents that may be the original of something."""

    def __init__(
        self, session: Session, search: Search, homes: Sequence[Home], case: CaseFile, *, narrowed: bool
    ) -> None:
        problems: list[Problem] = []  # what cannot be read is told when it is taken
        reader = Reader(session.sources, lambda path, message: problems.append(Problem(path, message)))
        super().__init__(
            catalogue(),
            session.sources,
            session.clock,
            homes,
            search.sources,
            case,
            problems,
            reader,
            narrowed=narrowed,
        )
        self.wanted: set[str] = set()
        self._fitting: list[Candidate] = []
        self._reads = False

    @contextmanager
    def _reading(self) -> Iterator[None]:
        self._reads = True
        try:
            yield
        finally:
            self._reads = False

    def content_of(self, entry: Entry, name: str) -> tuple[Content, tuple[str, ...]]:
        """Only the format, from the first bytes, unless contents must tell."""
        if self._reads:
            return super().content_of(entry, name)
        glance = Glance()
        if entry.is_file:
            with suppress(SourceError, OSError), self.door.open(entry.root).open(entry) as stream:
                glance = formats.glance(stream, name)
        return Content(Glance(format=glance.format), State.UNREADABLE, "not read", entry.size), ()

    def compare(self, copy: Copy, found: list[Candidate], *, beside: bool = False) -> None:
        """Where contents are not read, all that a name fits are wanted."""
        if self._reads:
            super().compare(copy, found, beside=beside)
            return
        self._fitting = found
        if len(found) <= _MAX_FITTING:
            self.wanted.update(item.path for item in found)

    def weigh_times(self, copy: Copy, find: Find, found: list[Candidate]) -> None:
        """Nothing is told by times where all are wanted."""
        if self._reads:
            super().weigh_times(copy, find, found)

    def moved_to(self, find: Find, copy: Copy, gone: str) -> Candidate | None:
        """Files of the name of a gone document in the same home are wanted: it may have been moved."""
        if self._reads:
            return super().moved_to(find, copy, gone)
        home = find.home or self.home_of(find.entry.path)
        same = self.case.names.by_name(os.path.basename(gone), limit=_MAX_OF_NAME)
        self.wanted.update(path for path in same if self.home_of(path) == home)
        return None

    def take_named(self, find: Find) -> bool:
        """Also where several are likely, as long as they are few."""
        self._fitting = []
        return super().take_named(find) or 0 < len(self._fitting) <= _MAX_FITTING

    def take_unnamed(self, find: Find) -> None:
        """Here contents must tell."""
        with self._reading():
            super().take_unnamed(find)

    def take_misplaced(self, find: Find) -> None:
        """Here contents must tell."""
        with self._reading():
            super().take_misplaced(find)

    def saved_elsewhere(self) -> Iterator[Copy]:
        """The files under other names that hold all of an autosave: a later search will say so."""
        for draft in list(self.drafts.values()):
            autosaves = [copy for copy in draft.copies if copy.kind is Kind.AUTOSAVE and copy.entry.modified]
            if not autosaves:
                continue
            newest = max(autosaves, key=lambda copy: copy.entry.modified.timestamp() if copy.entry.modified else 0.0)
            with self._reading():
                content, _ = self.content_of(newest.entry, draft.name)
                found = self.resaved(draft, replace(newest, content=content))
            if found is not None:
                yield found


def needed(
    session: Session, search: Search, homes: Sequence[Home], others: Sequence[Home], *, live: bool, narrowed: bool
) -> Iterator[Copy | Lock | Record]:
    """Everything that a search of the whole tree needs. `search` has looked into the known places."""
    case = CaseFile.create(None)
    try:
        assembly = _ByNames(session, search, homes, case, narrowed=narrowed)
        observer = session.observer
        take_settings(search, assembly)
        take_records(search, assembly)
        dismissed = walk(search, case, observer, thorough=False)
        gather(search, assembly, dismissed, observer, Hints(), live=live)
        elsewhere: list[Copy] = list(assembly.saved_elsewhere())
        for path in sorted(assembly.wanted):
            if assembly.door.exists(path):
                assembly.draft(path, assembly.home_of(path))
        drafts = without_other_people(assembly.drafts.values(), others)
        for draft in drafts:
            assembly.add_saved(draft)
    finally:
        case.close()
    yield from assembly.unmatched
    yield from elsewhere
    for draft in drafts:
        yield from draft.copies
        yield from draft.locks
        yield from draft.records
