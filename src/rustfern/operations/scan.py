"""The pipeline: search → recognise → match → rebuild → check → choose."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from functools import partial as partly
from typing import TYPE_CHECKING

from msgspec.structs import replace

from rustfern._version import __version__
from rustfern.cases.case_file import CaseFile
from rustfern.cases.content_memory import ContentMemory
from rustfern.cases.location import earlier_case, remember
from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import WrongUsage
from rustfern.core.model import (
    Answer,
    Copy,
    Document,
    Hints,
    Hit,
    Problem,
    SearchedDisk,
    State,
    Totals,
)
from rustfern.core.observer import Observer
from rustfern.core.paths import inside
from rustfern.core.remarks import About, Notice, counted
from rustfern.core.times import Clock, zone_named
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, extension_of
from rustfern.matching.linker import Linker, LinkState, Reader
from rustfern.operations import schema
from rustfern.operations.collect import (
    fetch_ahead,
    gather,
    match,
    read_gently,
    saved_of,
    take_records,
    take_settings,
    unique,
    walk,
    without_other_people,
)
from rustfern.operations.judging import UNREACHED, Told, judged
from rustfern.operations.live import mark_open_documents
from rustfern.operations.protection import protections_of
from rustfern.operations.repair_outlook import with_outlooks
from rustfern.operations.session import (
    Session,
    find_people,
    health_notice,
    open_case,
    open_roots,
    open_sources,
    own_folders,
)
from rustfern.operations.unchanged import asked_for, earlier_answer, keep_answer, may_be_kept
from rustfern.operations.volumes import note_other_volumes
from rustfern.output.inside import real_path
from rustfern.output.temporary import usual_folder
from rustfern.search.search import Search
from rustfern.selection import ranking, unmet
from rustfern.settings.advice import Advice, advice_from
from rustfern.sources.live_machine import earlier_states
from rustfern.sources.looked import Looked

_FIRST_ANSWERS, _FIRST_SECONDS = 5, 0.8
_MAX_MATCHED_WHEN_STOPPED = 500
"""Things found that are still matched when a search is stopped."""
_SHARED = ("/tmp", "/var/tmp", "/private/tmp", "/private/var/tmp")

if TYPE_CHECKING:
    from rustfern.operations.raw_search import RawOptions, RawOutcome, RawSearch


def scan(
    roots: Sequence[str] | None = None,
    hints: Hints | None = None,
    case: str | CaseFile | None = None,
    observer: Observer | None = None,
    *,
    session: Session | None = None,
    thorough: bool = False,
    partial: bool = False,
    raw: RawOptions | None = None,
) -> Answer:
    """Search roots (or this person's own files) for lost documents and choose the best copy of each.

    Args: `roots` folders; `case` a path for the case file, or an open one, which stays open; `thorough` also looks at the first
    bytes of files whose names say nothing; `raw` also searches disks byte by byte; `partial` answers an interrupt with what was found so far (else it is raised: what acts on
    an answer must not act on a part). Returns the answer; nothing
    that is searched is changed. Raises `WrongUsage`, `SourceError` (a root that cannot be read) or `CaseError`.
    """
    session = session or Session()
    session.observer = observer or session.observer
    try:
        work = _Scan(session, roots, hints or Hints(), case, thorough=thorough, partial=partial, raw=raw)
        answer = None
        with work.until_interrupted():
            answer = work.as_before()
        return answer or _anew(work)
    finally:
        session.sources.access.looked = None


def _anew(work: _Scan) -> Answer:
    with work.search.ahead(), work.until_interrupted():
        if not work.stopped:
            work.look_into_places()
            work.read_records()
            work.walk()
            work.match()
    work.match_what_was_found()
    with work.until_interrupted():
        work.search_raw()
    work.match_raw()
    with work.until_interrupted():
        work.judge()
        work.look_for_words()
    return work.finish()


class _Scan:
    """One search: what its stages share."""

    def __init__(
        self,
        session: Session,
        roots: Sequence[str] | None,
        hints: Hints,
        case: str | CaseFile | None,
        *,
        thorough: bool,
        partial: bool,
        raw: RawOptions | None,
    ) -> None:
        self.raw = raw
        self.raw_searches: list[RawSearch] = []
        self.raw_outcomes: list[RawOutcome] = []
        self.session, self.hints, self.thorough, self.partial = session, hints, thorough, partial
        self.observer, self.door = session.observer, session.sources
        self.started, self.began = time.monotonic(), datetime.now(UTC)
        self.door.health.reset()
        self.looked = self.door.access.looked = Looked()
        self.own = not roots
        self.stopped = False
        self.problems: list[Problem] = []
        self.totals = Totals()
        asked = hints.document
        if asked:
            # A service is asked only for the history of what fits: each answer costs it and the link something.
            self.door.wanted = lambda name: extension_of(name) in DOCUMENT_EXTENSIONS and ranking.is_named(asked, name)
        self.tops, kept = open_roots(session, roots, self._on_problem, backups=raw is None)
        if sys.platform == "win32":
            self.tops += [state for top in self.tops for state in earlier_states(top)]
        if raw is not None and not any(self.door.disk(top) is not None for top in self.tops):
            raise WrongUsage(
                "only the bytes of a disk can be searched without records, and this is none", self.tops[0],
                "Name the disk itself, not what it is mounted at: an image, or a device such as /dev/sdb",
            )  # fmt: skip
        never = [*self.tops, *(root for each in kept for root in each.taken_from)]
        self.file, notices = (case, []) if isinstance(case, CaseFile) else open_case(case, never)
        self.own_case = self.file is not case
        self.notices = [
            *notices, *(Notice(kind=About.KEPT_FOLDER, names=(each.base,), text=str(each.at)) for each in kept)
        ]  # fmt: skip
        sources = open_sources(session, self.tops, self._on_problem)
        self.live = self.own or any(map(self.door.is_live, self.tops))
        for top in self.tops:
            if at := self.door.mounted_at(top):
                self.notices.append(Notice(kind=About.DISK_MOUNTED, names=(top,), text=", ".join(at)))
        try:
            self.homes, self.others = find_people(
                session, sources, self.own, hints, self._on_problem, kept, self.notices
            )
        except BaseException:
            if self.own_case:
                self.file.discard()
            raise
        note_other_volumes(session, self.homes)
        remember(self.file.path, never)
        self.places = catalogue()
        narrowed = hints.person is not None
        self.search = Search(
            self.door, sources, self.homes, self.places, self._on_problem, self.totals, own_folders(self.file), narrowed,
            thorough,
        )  # fmt: skip
        self.memory = ContentMemory(self.file, earlier_case(self.tops, self.file.path) if self.file.path else None)
        self.reader = Reader(self.door, self._on_problem, self.memory)
        self.linker = Linker(
            LinkState(
                self.places, self.door, session.clock, self.homes, sources, self.file, self.problems, self.reader,
                narrowed=narrowed,
            )
        )  # fmt: skip
        self.linker.state.synced = self.search.synced
        self.asked, self.begun_with = "", len(self.notices)
        plain = not kept and raw is None and not self.live and not self.door.gentle.is_on
        if plain and all(map(self.door.may_be_written, self.tops)) and may_be_kept(self.tops, own_folders(self.file)):
            zone = session.clock.zone
            self.asked = asked_for(self.tops, hints, thorough=thorough, places=len(self.places.places), zone=zone)
        if not self.asked:
            self.door.access.looked = None
        self.dismissed: list[str] | None = None
        self.zones: tuple[str, ...] = ()
        self.zone = hints.zone
        self.documents: list[Document] = []
        self.hits: list[Hit] = []

    def _on_problem(self, path: str, message: str) -> None:
        self.problems.append(Problem(path, message))

    @contextmanager
    def until_interrupted(self) -> Iterator[None]:
        """Stages that an interrupt ends, where a part is an answer too."""
        try:
            yield
        except KeyboardInterrupt:
            if not self.partial:
                raise
            self.stopped = True

    def as_before(self) -> Answer | None:
        """The answer of an earlier search of the same of which nothing has changed since; None where it must be searched."""
        kept = earlier_answer(self.memory.cases, self.asked, self.search, self.file) if self.asked else None
        if kept is None or kept.homes != tuple(self.homes):
            return None
        self.observer.stage("nothing has changed since it was searched: taking its answer from the case")
        self.zones, self.search.searched = kept.zones, list(kept.searched)
        self._tell_times()
        documents = _number(list(kept.documents), self.file)
        seconds = time.monotonic() - self.started
        totals = replace(kept.totals, bytes_read=0, seconds=seconds, search_seconds=seconds, first_seconds=seconds)
        answer = Answer(
            self.file.path, tuple(self.tops), tuple(self.homes), kept.searched, tuple(documents), kept.unmatched,
            tuple(_unique_problems([*self.problems, *kept.problems])), totals, self.hints, (*self.notices, *kept.notices), self.live,
            kept.zones, self.zone, thorough=self.thorough,
        )  # fmt: skip
        with _undisturbed() as came:
            return self._finished(answer, kept.advice, came)

    def look_into_places(self) -> None:
        """The known folders first; from a disk that may die what is wanted most comes before anything else is read, settings too."""
        self.observer.stage("looking into the folders where applications leave copies")
        gently = self.door.gentle.is_on
        self.search.known_places(settings=not gently)
        if gently:
            self.dismissed = walk(self.search, self.file, self.observer, thorough=self.thorough)
            self.observer.stage("reading gently, what is wanted most first")
            read_gently(self.search, self.linker, self.file, self.hints)
            self.search.settings_after_all()
        self.totals.search_seconds = time.monotonic() - self.started

    def read_records(self) -> None:
        """Settings, the clock on the person's wall, what records say; the first answers."""
        take_settings(self.search, self.linker)
        self.zones = tuple(sorted({told.text for told in self.search.settings.of("zone")}))
        self._tell_times()
        take_records(self.search, self.linker)
        fetch_ahead(self.search, self.search.finds)
        self.observer.so_far(self.linker.first_answers(self.search.finds, _FIRST_SECONDS, _FIRST_ANSWERS))
        self.totals.first_seconds = time.monotonic() - self.started

    def _tell_times(self) -> None:
        """Have times told by the clock on the person's wall."""
        self.hints, self.zone, clock = _in_their_zone(self.hints, self.zones, live=self.own)
        self.session.clock = self.linker.state.clock = clock
        self.door.set_zone(clock.zone)

    def walk(self) -> None:
        """The rest of the tree."""
        if self.dismissed is None:
            walking = time.monotonic()
            self.dismissed = walk(self.search, self.file, self.observer, thorough=self.thorough)
            self.totals.search_seconds += time.monotonic() - walking

    def match(self) -> None:
        """Copies, locks and records to documents."""
        nameless = [*(self.dismissed or ()), *self.search.deleted_nameless]
        gather(self.search, self.linker, nameless, self.observer, self.hints, live=self.live)
        if self.search.deleted:
            self.observer.stage("reading what the disk records of deleted documents")
            with self.linker.state.isolated(self.tops[0]):
                found = {find.entry.path for find in self.search.finds}
                self.linker.deleted_files.take([p for p in self.search.deleted if p not in found], self.hints)
        if any(map(self.door.disk, self.tops)):
            with self.linker.state.isolated(self.tops[0]):
                self.linker.deleted_files.take_traces(self.hints)

    def match_what_was_found(self) -> None:
        """After an interrupt: what was found until then, if nothing of it was matched yet."""
        if self.stopped:
            self.observer.stage("stopping: what was found so far is put in order")
            if not self.linker.state.drafts:
                match(self.linker, self.places, unique(self.search.finds)[:_MAX_MATCHED_WHEN_STOPPED])

    def search_raw(self) -> None:
        """Every byte that no living file claims, of each disk that was asked for."""
        if self.raw is None or self.stopped:
            return
        # Who looks into the case meanwhile must know what it searched.
        self.file.keep_about(roots=[os.fsencode(top).hex() for top in self.tops], live=self.live, zone=self.zone)
        for top in self.tops:
            if self.door.disk(top) is None:
                continue
            self.observer.stage("searching every byte that no file claims")
            from rustfern.operations.raw_search import RawSearch

            search = RawSearch(
                self.door,
                top,
                self.hints,
                self.raw,
                self.file,
                self.observer,
                self.session.clock,
                self.session.scheduler,
            )
            self.raw_searches.append(search)
            # That no file system is read there is no trouble any more.
            trouble = self.door.open(top).trouble
            self.problems[:] = [each for each in self.problems if (each.path, each.message) != (top, trouble)]
            drafts = self.linker.state.drafts.values()
            search.begin_about(copy for draft in drafts for copy in draft.copies)
            search.run(
                copy.entry.extents
                for draft in drafts
                for copy in draft.copies
                if copy.entry.deleted and copy.entry.extents and copy.content.state in (State.INTACT, State.ENCRYPTED)
            )

    def match_raw(self) -> None:
        """What the raw searches found, to its documents."""
        if not self.raw_searches:
            return
        from rustfern.operations.raw_search import title_of

        for search in self.raw_searches:
            with self.linker.state.isolated(search.root):
                outcome = search.outcome(self.linker.deleted_files.dismissed_places())
                self.raw_outcomes.append(replace(outcome, finds=()))
                self.observer.stage("matching what was found without a record")
                self.linker.raw_finds.take(outcome.finds, partly(title_of, self.door), self.hints.doc_class)
                search.hunt.finds.clear()  # what matters of them is with their documents now

    def judge(self) -> None:
        """Choose the best copy of each document."""
        self.observer.stage("choosing")
        missing = [s for s in self.search.searched if s.status in ("denied", *UNREACHED)]
        drafts = list(without_other_people(self.linker.state.drafts.values(), self.others))
        known = [list(draft.copies) for draft in drafts]
        looked = sum(s.status == "found" for s in self.search.searched)
        told = Told(self.hints, missing, looked, self.thorough)
        with self.reader.ahead_of(saved_of(self.linker, drafts)):
            self.documents += [judged(draft, self.linker, told) for draft in drafts]
        means = unmet.meant(self.documents, self.hints.document)
        if self.hints.happened is not None and not any(unmet.is_found(self.documents[i]) for i in means):
            # Nothing speaks of a loss but the person: their word stands, and what there is is said.
            for i in means:
                drafts[i].copies = known[i]
                self.documents[i] = judged(drafts[i], self.linker, replace(told, named=True))

    def look_for_words(self) -> None:
        """The copies that hold the words that the person remembers."""
        if self.hints.words:
            self.observer.stage("looking for the words in all texts")
            self.hits = _words_in(self.documents, self.linker, self.hints, self.file)
            if not self.door.gentle.is_on:
                self.hits = self._hits_in_bytes() + self.hits

    def _hits_in_bytes(self) -> list[Hit]:
        """Files of no known kind that hold all of the words, where no copy does."""
        from rustfern.operations.words_in_bytes import hits_in_bytes

        words = self.hints.words or ""
        if any(hit.found >= len(set(words.casefold().split())) for hit in self.hits):
            return []
        self.observer.stage("looking for the words in what programs keep for themselves")
        known = {copy.path for document in self.documents for copy in document.copies}
        return hits_in_bytes(self.door, words, self.search.of_programs, self.dismissed or (), known)

    def finish(self) -> Answer:
        """Rank, number, remember. The rest takes a moment only: an interrupt waits until what was found is in the case."""
        with _undisturbed() as came:
            return self._finished(self._answer(), None, came)

    def _finished(self, answer: Answer, advice: Sequence[Advice] | None, came: Sequence[int] = ()) -> Answer:
        """An answer, when the case remembers it; without `advice` it is new."""
        is_new = advice is None
        if advice is None:
            advice = advice_from(protections_of(self.search, own=self.own))
        self._keep(answer, advice)
        if is_new and self.asked and not self.door.health.troubles and not came:
            keep_answer(
                self.file, self.asked, answer, self.looked, self.search.listing, self.began, advice, answer.notices[self.begun_with :]
            )  # fmt: skip
        self.memory.close()
        if self.own_case:
            self.file.close()
        if came and not self.partial:
            raise KeyboardInterrupt
        return replace(answer, stopped=True) if came else answer

    def _answer(self) -> Answer:
        holding = {self.documents[hit.number - 1].key: hit.found for hit in reversed(self.hits) if hit.number}
        keys = [document.key for document in self.documents]
        documents = _number(ranking.rank(self.documents, self.hints, holding), self.file)
        if not self.stopped:
            documents = with_outlooks(self.door, documents)
        hits = [_numbered(hit, keys, documents) for hit in self.hits]
        if self.live:
            with self.linker.state.isolated(self.tops[0]):
                documents, notices = mark_open_documents(documents, self.places, self.session.clock)
                self.notices += notices
        self.notices += self._unmet()
        self.notices += self._left_out()
        if self.raw is not None:
            from rustfern.operations.raw_search import raw_notices

            self.notices += raw_notices(self.raw_outcomes, self.linker.raw_finds.more)
        if self.stopped:
            self.notices.insert(0, Notice(kind=About.STOPPED))
        if (failing := health_notice(self.door.health)) is not None:
            self.notices.insert(0, failing)
        disks = self._disks()
        self.totals.bytes_read = self.reader.bytes_read
        self.totals.seconds = time.monotonic() - self.started
        return Answer(
            self.file.path, tuple(self.tops), tuple(self.homes), tuple(self.search.searched), tuple(documents),
            tuple(self.linker.state.unmatched), tuple(_unique_problems(self.problems)), self.totals, self.hints, tuple(self.notices),
            self.live, self.zones, self.zone, tuple(hits), self.stopped, self.thorough, disks,
        )  # fmt: skip

    def _disks(self) -> tuple[SearchedDisk, ...]:
        """What is to be said of the disks that were searched, each once."""
        told = {disk.path: self.door.told_disk(top) for top in self.tops if (disk := self.door.disk(top)) is not None}
        if not told:
            return ()
        from rustfern.operations.raw_search import with_searched

        disks = tuple(with_searched(each, self.raw_searches) for each in told.values() if each is not None)
        for each in disks:
            # Whether an earlier state can be read shows only when it is.
            for volume in each.volumes:
                if "@" in volume.name and volume.status == "damaged":
                    self._on_problem(os.path.join(each.path, volume.name), volume.message or "it cannot be read")
        return disks

    def _left_out(self) -> list[Notice]:
        """What the disk records of deleted files and is not listed."""
        if not self.search.deleted:
            return []
        gone = self.linker.deleted_files.gone
        told = [
            f"{counted(count, 'file')} {what}"
            for count, what in (
                (gone.clutter, "that programs and the system made for themselves"),
                (gone.entirely, "of which nothing is left"),
                (gone.empty, "without content"),
                (gone.more, "that are less likely to be wanted: name one with --document"),
            )
            if count
        ]
        return [Notice(kind=About.DELETED_LEFT_OUT, text="; ".join(told))] if told else []

    def _unmet(self) -> list[Notice]:
        """What was asked for and fits nothing."""
        notices = []
        asked, found = self.hints.document, self.linker.requests.answer
        if asked is not None and not found.found:
            if found.near is not None:
                notices.append(Notice(kind=About.TAKEN_FOR_DOCUMENT, names=(asked, found.near)))
            else:
                nearest = (found.nearest,) if found.nearest else ()
                notices.append(Notice(kind=About.NO_SUCH_DOCUMENT, names=(asked, *nearest)))
        if self.hints.words and not self.hits:
            notices.append(Notice(kind=About.NO_SUCH_WORDS, names=(self.hints.words,)))
        notices += unmet.unmet(self.documents, self.hints, datetime.now(UTC), self.session.clock)
        if found.checked < found.documents:
            notices.append(Notice(kind=About.CHECKED_LATEST, count=found.checked, text=str(found.documents)))
        return notices

    def _keep(self, answer: Answer, advice: Sequence[Advice]) -> None:
        """Have the case remember what was searched and found."""
        with self.file.writing():
            roots = [os.fsencode(top).hex() for top in self.tops]
            self.file.keep_about(roots=roots, live=self.live, zone=self.zone)
            ended = datetime.now(UTC)
            self.file.keep_search(
                schema.search(answer, self.began, ended, advice, __version__, len(self.places.places))
            )
            for document in answer.documents:
                self.file.keep_document(document.number, schema.document(document, self.session.clock))
            self._move_listed(answer.documents)

    def _move_listed(self, documents: Sequence[Document]) -> None:
        """What was listed while the raw search went on, and belongs to another document: its number leads there from now on."""
        there = {document.number for document in documents}
        copies = {copy.path: document.ids[i] for document in documents for i, copy in enumerate(document.copies)}
        for search in self.raw_searches:
            for key, number in search.listed.items():
                if number not in there:
                    self.file.move_document(number, copies.get(key.removeprefix("copy:")))


@contextmanager
def _undisturbed() -> Iterator[list[int]]:
    """Interrupts in here only fill the list that is given, where this thread may say so."""
    import signal

    came: list[int] = []
    try:
        before = signal.signal(signal.SIGINT, lambda number, _: came.append(number))
    except ValueError:  # not the main thread
        yield came
        return
    try:
        yield came
    finally:
        signal.signal(signal.SIGINT, before)


def _in_their_zone(hints: Hints, zones: Sequence[str], *, live: bool) -> tuple[Hints, str | None, Clock]:
    """Tell and take times by the clock on the person's wall: `--zone`, else that of the searched system where just one is told.

    Raises `WrongUsage` for a time that clocks there showed twice or never.
    """
    name, clock = hints.zone, Clock()
    for told in (name,) if name else zones if len(zones) == 1 and not live else ():
        try:
            found = zone_named(told)
        except ValueError:
            continue
        clock = Clock(found)
        name = str(found)
    try:
        lost_at, older_than = (clock.from_wall(each) if each else None for each in (hints.lost_at, hints.older_than))
    except ValueError as error:
        raise WrongUsage(str(error), None, "If another zone is meant, name it with --zone") from error
    return replace(hints, lost_at=lost_at, older_than=older_than), name, clock


def _words_in(documents: Sequence[Document], linker: Linker, hints: Hints, file: CaseFile) -> list[Hit]:
    """The copies that hold the words. Texts stay in the case file only for a person who was chosen."""
    from rustfern.operations.word_search import WordIndex, index_texts

    index = WordIndex(hints.words or "", file.connection if hints.person else None)
    index_texts(
        linker.state.door, index, documents, [item for item in linker.state.unmatched if isinstance(item, Copy)]
    )
    return index.search()


def _numbered(hit: Hit, keys: Sequence[str], documents: Sequence[Document]) -> Hit:
    """A hit by the numbers and ids that its document and copy have in the case."""
    if not hit.number:
        return hit
    document = next(each for each in documents if each.key == keys[hit.number - 1])
    return replace(hit, number=document.number, ident=document.ids[int(hit.ident)])


def _number(documents: list[Document], file: CaseFile) -> list[Document]:
    keyed = (
        (each.key, [(f"{copy.path}\0{copy.entry.part or ''}", copy.path, copy.entry.root) for copy in each.copies])
        for each in documents
    )
    with file.writing():
        told = file.identify(keyed)
    return [replace(each, number=number, ids=ids) for each, (number, ids) in zip(documents, told, strict=True)]


def _unique_problems(problems: Sequence[Problem]) -> list[Problem]:
    return list(dict.fromkeys(problems))


def of_others(answer: Answer, path: str) -> bool:
    """Whether something that could not be read lies in a temporary folder that all people of this machine share: most of it is not this
    person's, and the system shows it to nobody else.
    """
    return answer.live and any(
        path != root and inside(path, root)
        for root in (*_SHARED, real_path(usual_folder()))
        if root in answer.roots and not any(inside(home.path, root) for home in answer.homes)
    )


def exit_status(answer: Answer) -> int:
    """0: something lost was found; 1: nothing was; 3: a home or a place could not be read; 130: it was stopped before its end."""
    if answer.stopped:
        return 130
    if any(searched.status == "denied" and not of_others(answer, searched.path) for searched in answer.searched):
        return 3
    whole = {*answer.roots, *(home.path for home in answer.homes)}
    # A disk without a file system that is read was searched all the same, byte by byte.
    whole -= {disk.path for disk in answer.disks if any(volume.searched_raw for volume in disk.volumes)}
    if any(problem.path in whole for problem in answer.problems):
        return 3
    lost = any(unmet.is_found(document) for document in answer.documents)
    return 0 if lost else 1
