"""What a later search will need of a disk, told from names and records; contents are read only where those do not tell.

To keep files is to race with programs that remove them: what can be told without reading is not read. Where that leaves a few documents
that a copy may belong to, all of them are needed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress

from msgspec.structs import replace

from rustfern.cases.case_file import CaseFile
from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import SourceError
from rustfern.core.model import Content, Copy, Entry, Glance, Hints, Home, Kind, Lock, Problem, Record, State
from rustfern.formats import registry as formats
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.linker import Linker, LinkState, Reader
from rustfern.operations.collect import gather, take_records, take_settings, walk, without_other_people
from rustfern.operations.session import Session
from rustfern.search.search import Search
from rustfern.sources.registry import Sources

_MAX_FITTING = 4
"""Documents fitting a name that are all needed; of more, the contents must tell."""


class NameReader(Reader):
    """Reads only the first bytes of copies, unless a step cannot do without their contents. `wanted` are documents that may be the original
    of something.
    """

    def __init__(self, door: Sources, on_problem: Callable[[str, str], None]) -> None:
        super().__init__(door, on_problem)
        self.is_reading = False
        self.is_blind = False
        """Whether not even their first bytes are needed."""
        self.wanted: set[str] = set()

    @contextmanager
    def must_read(self) -> Iterator[None]:
        """In here contents are read: nothing else tells."""
        self.is_reading = True
        try:
            yield
        finally:
            self.is_reading = False

    def content(self, entry: Entry, name: str) -> tuple[Content, tuple[str, ...]]:
        """Only the format, from the first bytes, unless contents must tell."""
        if self.is_reading:
            return super().content(entry, name)
        glance = Glance()
        if entry.is_file and not self.is_blind:
            with suppress(SourceError, OSError), self._door.of(entry).open(entry) as stream:
                glance = formats.glance(stream, name)
        return Content(Glance(format=glance.format), State.UNREADABLE, "not read", entry.size), ()

    def is_enough(self, found: Sequence[Candidate]) -> bool:
        """Of a few documents that a name fits, all are wanted; of more, the contents must tell."""
        return not self.is_reading and 0 < len(found) <= _MAX_FITTING

    def need(self, paths: Iterable[str]) -> None:
        """Documents that are wanted."""
        self.wanted.update(paths)


def _saved_elsewhere(linker: Linker) -> Iterator[Copy]:
    """The files under other names that hold all of an autosave: a later search will say so."""
    for draft in list(linker.state.drafts.values()):
        autosaves = [copy for copy in draft.copies if copy.kind is Kind.AUTOSAVE and copy.entry.modified]
        if not autosaves:
            continue
        newest = max(autosaves, key=lambda copy: copy.entry.modified.timestamp() if copy.entry.modified else 0.0)
        with linker.state.reader.must_read():
            content, _ = linker.state.content_of(newest.entry, draft.name)
            found = linker.comparing.resaved(draft, replace(newest, content=content))
        if found is not None:
            yield found


def needed(
    session: Session, search: Search, homes: Sequence[Home], others: Sequence[Home], *, live: bool, narrowed: bool
) -> Iterator[Copy | Lock | Record]:
    """Everything that a search of the whole tree needs. `search` has looked into the known places."""
    case = CaseFile.create(None)
    try:
        problems: list[Problem] = []  # what cannot be read is told when it is taken
        reader = NameReader(session.sources, lambda path, message: problems.append(Problem(path, message)))
        state = LinkState(
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
        linker = Linker(state)
        observer = session.observer
        take_settings(search, linker)
        take_records(search, linker)
        dismissed = walk(search, case, observer, thorough=False)
        gather(search, linker, dismissed, observer, Hints(), live=live)
        elsewhere: list[Copy] = list(_saved_elsewhere(linker))
        for path in sorted(reader.wanted):
            if state.door.exists(path):
                state.draft(path, state.home_of(path))
        drafts = without_other_people(state.drafts.values(), others)
        reader.is_blind = True
        for draft in drafts:
            linker.copies.add_saved(draft)
    finally:
        case.close()
    yield from state.unmatched
    yield from elsewhere
    for draft in drafts:
        yield from draft.copies
        yield from draft.locks
        yield from draft.records
