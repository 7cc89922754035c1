"""The pipeline: search → recognise → match → rebuild → check → choose."""

from __future__ import annotations

import dataclasses
import os
import signal
import time
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime

from msgspec.structs import replace

from rustfern._version import __version__
from rustfern.cases.case_file import CaseFile
from rustfern.cases.location import remember
from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import WrongUsage
from rustfern.core.model import Answer, Copy, Document, Hints, Hit, Kind, Problem, Searched, Situation, Totals, Verdict
from rustfern.core.observer import Observer
from rustfern.core.paths import inside
from rustfern.core.remarks import About, Caution, Notice, Reason, Warn, Why
from rustfern.core.times import Clock, zone_named
from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.matching.linker import Draft, Linker, Reader, first_answers, not_judged
from rustfern.matching.state import where_to_ask
from rustfern.operations import schema
from rustfern.operations.collect import (
    gather,
    match,
    read_gently,
    take_records,
    take_settings,
    unique,
    walk,
    without_other_people,
)
from rustfern.operations.live import mark_open_documents
from rustfern.operations.session import (
    Session,
    find_people,
    health_notice,
    open_case,
    open_roots,
    open_sources,
    own_folders,
)
from rustfern.search.search import Search
from rustfern.selection import choose, ranking
from rustfern.settings.advice import advice_from

_FIRST_ANSWERS, _FIRST_SECONDS = 5, 0.8
_MAX_MATCHED_WHEN_STOPPED = 500
"""Things found that are still matched when a search is stopped."""
_MAY_BE_ELSEWHERE = (Situation.CRASHED, Situation.NEVER_SAVED)
_UNREACHED = ("offline", "locked", "encrypted", "online-only", "not-mounted", "outside")


def scan(
    roots: Sequence[str] | None = None,
    hints: Hints | None = None,
    case: str | CaseFile | None = None,
    observer: Observer | None = None,
    *,
    session: Session | None = None,
    thorough: bool = False,
    partial: bool = False,
) -> Answer:
    """Search roots (or this person's own files) for lost documents and choose the best copy of each.

    Args: `roots` folders; `case` a path for the case file, or an open one, which stays open; `thorough` also looks at the first
    bytes of files whose names say nothing; `partial` answers an interrupt with what was found so far (else it is raised: what acts on
    an answer must not act on a part). Returns the answer; nothing
    that is searched is changed. Raises `WrongUsage`, `SourceError` (a root that cannot be read) or `CaseError`.
    """
    hints, session = hints or Hints(), session or Session()
    observer = session.observer = observer or session.observer
    door = session.sources
    started, began = time.monotonic(), datetime.now(UTC)
    door.health.reset()
    live = not roots
    problems: list[Problem] = []
    totals = Totals()

    def on_problem(path: str, message: str) -> None:
        problems.append(Problem(path, message))

    tops, kept = open_roots(session, roots, on_problem)
    never = [*tops, *(root for each in kept for root in each.taken_from)]
    file, notices = (case, []) if isinstance(case, CaseFile) else open_case(case, never)
    sources = open_sources(session, tops, on_problem)
    try:
        homes, others = find_people(session, sources, live, hints, on_problem, kept)
    except BaseException:
        if file is not case:
            file.discard()
        raise
    remember(file.path, never)
    notices += [Notice(kind=About.KEPT_FOLDER, names=(each.base,), text=str(each.at)) for each in kept]
    places = catalogue()
    search = Search(
        door, sources, homes, places, on_problem, totals, own_folders(file), hints.person is not None, thorough
    )
    reader = Reader(door, on_problem)
    assembly = Linker(
        places, door, session.clock, homes, sources, file, problems, reader, narrowed=hints.person is not None
    )

    stopped = False
    dismissed: list[str] | None = None
    zones: tuple[str, ...] = ()
    zone = hints.zone
    with search.ahead():
        try:
            observer.stage("looking into the folders where applications leave copies")
            search.known_places(settings=not door.gentle.is_on)
            if door.gentle.is_on:
                # What is wanted most comes before anything else is read, settings and records too.
                dismissed = walk(search, file, observer, thorough=thorough)
                observer.stage("reading gently, what is wanted most first")
                read_gently(search, assembly, file, hints)
                search.settings_after_all()
            totals.search_seconds = time.monotonic() - started
            take_settings(search, assembly)
            zones = tuple(sorted({told.text for told in search.settings.of("zone")}))
            hints, zone, session.clock = _in_their_zone(hints, zones, live=live)
            assembly.clock = session.clock
            take_records(search, assembly)
            observer.so_far(first_answers(assembly, search.finds, _FIRST_SECONDS, _FIRST_ANSWERS))
            totals.first_seconds = time.monotonic() - started
            if dismissed is None:
                walking = time.monotonic()
                dismissed = walk(search, file, observer, thorough=thorough)
                totals.search_seconds += time.monotonic() - walking
            gather(search, assembly, dismissed, observer, hints, live=live)
        except KeyboardInterrupt:
            if not partial:
                raise
            stopped = True
            observer.stage("stopping: what was found so far is put in order")
            if not assembly.drafts:
                match(assembly, places, unique(search.finds)[:_MAX_MATCHED_WHEN_STOPPED])

    observer.stage("choosing")
    missing = [searched for searched in search.searched if searched.status in ("denied", *_UNREACHED)]
    documents: list[Document] = []
    hits: list[Hit] = []
    try:
        for draft in without_other_people(assembly.drafts.values(), others):
            documents.append(_judged(draft, assembly, hints, missing))
        if hints.words:
            observer.stage("looking for the words in all texts")
            hits = _words_in(documents, assembly, hints, file)
    except KeyboardInterrupt:
        if not partial:
            raise
        stopped = True
    # The rest takes a moment only: an interrupt waits until what was found is in the case.
    with _undisturbed() as came:
        holding = {documents[hit.number - 1].key: hit.found for hit in reversed(hits) if hit.number}
        keys = [document.key for document in documents]
        documents = _number(ranking.rank(documents, hints, holding), file)
        hits = [_numbered(hit, keys, documents) for hit in hits]
        if live:
            with assembly.isolated(tops[0]):
                documents, live_notices = mark_open_documents(documents, places, session.clock)
                notices += live_notices
        if stopped:
            notices.insert(0, Notice(kind=About.STOPPED))
        if (failing := health_notice(door.health)) is not None:
            notices.insert(0, failing)
        totals.bytes_read = reader.bytes_read
        totals.seconds = time.monotonic() - started
        answer = Answer(
            file.path, tuple(tops), tuple(homes), tuple(search.searched), tuple(documents), tuple(assembly.unmatched),
            tuple(_unique_problems(problems)), totals, hints, tuple(notices), live,
            zones, zone, tuple(hits), stopped,
        )  # fmt: skip
        with file.writing():
            file.keep_about(roots=[os.fsencode(top).hex() for top in tops], live=live, zone=zone)
            advice = advice_from(search.settings, places)
            file.keep_search(schema.search(answer, began, datetime.now(UTC), advice, __version__, len(places.places)))
            for document in documents:
                file.keep_document(document.number, schema.document(document, session.clock))
    if file is not case:
        file.close()
    if came and not partial:
        raise KeyboardInterrupt
    return replace(answer, stopped=True) if came else answer


@contextmanager
def _undisturbed() -> Iterator[list[int]]:
    """Interrupts in here only fill the list that is given, where this thread may say so."""
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


def _judged(draft: Draft, assembly: Linker, hints: Hints, missing: Sequence[Searched]) -> Document:
    """The document of a draft; where choosing fails, it is listed as one that could not be judged, and the others are answered for."""
    known = list(draft.copies)
    try:
        return _document(draft, assembly, hints, missing)
    except Exception as error:
        what = not_judged(error)
        path = draft.original or draft.key
        assembly.problem(path, what)
        situation = (
            Situation.DELETED if draft.trashed else Situation.CRASHED if draft.original else Situation.NEVER_SAVED
        )
        verdict = Verdict(
            hints.happened or situation,
            None,
            (Reason(kind=Why.NOT_JUDGED, text=what),),
            (Warn(kind=Caution.NOT_JUDGED),),
        )
        name = format_of_extension(extension_of(draft.name))
        return Document(
            draft.key, draft.name, class_of(name), draft.original, bool(draft.original and assembly.door.exists(draft.original)),
            draft.recorded, draft.home.person if draft.home else None, tuple(known), tuple(draft.locks), tuple(draft.records),
            verdict, {}, draft.within,
        )  # fmt: skip


def _document(draft: Draft, assembly: Linker, hints: Hints, missing: Sequence[Searched]) -> Document:
    assembly.add_saved(draft)
    assembly.note_recent(draft)
    copies = sorted(choose.assign_times(draft.copies, assembly.clock), key=_oldest_first)
    saved = next((i for i, copy in enumerate(copies) if copy.kind is Kind.SAVED), None)
    deleted = {i: draft.deleted[copy.path] for i, copy in enumerate(copies) if copy.path in draft.deleted}
    facts = choose.Facts(
        original=draft.original or draft.recorded,
        saved=saved,
        locked=bool(draft.locks),
        listed=any(record.type == "recovery-list" for record in draft.records),
        never_saved=draft.never_saved,
        changed=draft.changed,
        changed_since=draft.changed_since,
        trashed=draft.trashed,
        misplaced=draft.misplaced,
        misnamed=draft.misnamed,
        in_use=draft.in_use,
        opened_elsewhere={i for i, copy in enumerate(copies) if draft.misplaced and copy.path in assembly.opened},
        deleted=deleted,
        away=where_to_ask(draft.recorded) if draft.original is None and draft.recorded else None,
        denied=_of_home(draft, missing, ("denied",)),
        unreached=_of_home(draft, missing, _UNREACHED),
        holders=list(dict.fromkeys(lock.owner for lock in draft.locks if lock.owner)),
        online=draft.recorded if draft.recorded and draft.recorded.startswith(("http:", "https:")) else None,
        elsewhere=assembly.elsewhere(draft),
        strays=assembly.strays(draft),
        asked_for=hints.document is None or ranking.fits(hints.document, draft.name, draft.original),
    )
    verdict = choose.choose(copies, facts, hints)
    if verdict.best is not None and verdict.best != saved and verdict.situation in _MAY_BE_ELSEWHERE:
        found = assembly.resaved(draft, copies[verdict.best])
        if found is not None:
            copies = choose.assign_times([*copies, found], assembly.clock)
            verdict = choose.choose(copies, dataclasses.replace(facts, resaved=True), hints)
    chosen = copies[verdict.best] if verdict.best is not None else copies[0] if copies else None
    format_name = format_of_extension(extension_of(draft.name)) or (chosen.content.format if chosen else None)
    return Document(
        key=draft.key,
        name=draft.name,
        doc_class=class_of(format_name),
        original=draft.original,
        original_exists=saved is not None or bool(draft.original and assembly.door.exists(draft.original)),
        recorded=draft.recorded,
        person=draft.home.person if draft.home else None,
        copies=tuple(copies),
        locks=tuple(draft.locks),
        records=tuple(draft.records),
        verdict=verdict,
        same_as=choose.same_versions(copies, saved),
        within=draft.within,
    )


def _words_in(documents: Sequence[Document], assembly: Linker, hints: Hints, file: CaseFile) -> list[Hit]:
    """The copies that hold the words. Texts stay in the case file only for a person who was chosen."""
    from rustfern.operations.word_search import WordIndex, index_texts

    index = WordIndex(hints.words or "", file.connection if hints.person else None)
    index_texts(assembly.door, index, documents, [item for item in assembly.unmatched if isinstance(item, Copy)])
    return index.search()


def _numbered(hit: Hit, keys: Sequence[str], documents: Sequence[Document]) -> Hit:
    """A hit by the numbers and ids that its document and copy have in the case."""
    if not hit.number:
        return hit
    document = next(each for each in documents if each.key == keys[hit.number - 1])
    return replace(hit, number=document.number, ident=document.ids[int(hit.ident)])


def _of_home(draft: Draft, missing: Sequence[Searched], statuses: Collection[str]) -> list[str]:
    """The places that were not searched in the home of a document."""
    return list(
        dict.fromkeys(
            searched.path
            for searched in missing
            if searched.status in statuses
            and (draft.home is None or inside(searched.path, draft.home.path) or searched.home == draft.home.path)
        )
    )


def _number(documents: list[Document], file: CaseFile) -> list[Document]:
    out = []
    with file.writing():
        for document in documents:
            number = file.number_for(document.key)
            ids = tuple(
                file.id_for(number, f"{copy.path}\0{copy.entry.part or ''}", copy.path, copy.entry.root)
                for copy in document.copies
            )
            out.append(replace(document, number=number, ids=ids))
    return out


def _oldest_first(copy: Copy) -> tuple[object, ...]:
    return (copy.kind != "saved", copy.written.timestamp() if copy.written else 0.0, copy.path)


def _unique_problems(problems: Sequence[Problem]) -> list[Problem]:
    return list(dict.fromkeys(problems))


def exit_status(answer: Answer) -> int:
    """0: something lost was found; 1: nothing was; 3: a home or a place could not be read; 130: it was stopped before its end."""
    if answer.stopped:
        return 130
    if any(searched.status == "denied" for searched in answer.searched):
        return 3
    homes = {home.path for home in answer.homes}
    if any(problem.path in homes for problem in answer.problems):
        return 3
    lost = any(document.verdict.situation is not Situation.NOTHING_LOST for document in answer.documents)
    return 0 if lost else 1
