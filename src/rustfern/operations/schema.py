"""The machine-readable contract: facts as the typed answers that other programs depend on. Fields may be added, never renamed."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from rustfern.core.answers import (
    AdviceAnswer,
    BackAnswer,
    CaseAnswer,
    CaseRowAnswer,
    CasesAnswer,
    CautionSaid,
    ChangeAnswer,
    CheckAnswer,
    CheckedAnswer,
    CompareAnswer,
    CompletionAnswer,
    CopyAnswer,
    Difference,
    DocumentAnswer,
    DocumentFacts,
    ErrorAnswer,
    EventAnswer,
    EvidenceAnswer,
    HintsAnswer,
    HitAnswer,
    HomeAnswer,
    KeepAnswer,
    LockAnswer,
    LogAnswer,
    LookAnswer,
    NoticeAnswer,
    OutsideAnswer,
    PartAnswer,
    PictureDifference,
    PieceAnswer,
    PlaceAnswer,
    PlacesAnswer,
    PlannedAnswer,
    ProblemAnswer,
    ProgramAnswer,
    ReadyAnswer,
    RecordAnswer,
    RecordingAnswer,
    RefusedAnswer,
    ReportAnswer,
    ReportDocument,
    RestoreAnswer,
    RestoredAnswer,
    RestoredLine,
    RestorePlanAnswer,
    RunAnswer,
    Said,
    ScanAnswer,
    SearchAnswer,
    SearchedAnswer,
    TotalsAnswer,
    WordsAnswer,
    plain,
)
from rustfern.core.model import Answer, Copy, Document, Evidence, Hints, Home, Kind, Lock, Problem, Record
from rustfern.core.remarks import KEEP_BOTH
from rustfern.core.times import Clock, stamp
from rustfern.matching.evidence.by_content import difference
from rustfern.selection.wording import Wording, notice, step

if TYPE_CHECKING:
    from rustfern.cases.case_file import StoredCopy
    from rustfern.cases.manage import CaseRow, LogEntry
    from rustfern.core.model import Content
    from rustfern.formats.archives.parts import Part
    from rustfern.formats.text_sink import Piece
    from rustfern.operations.check import Checked
    from rustfern.operations.keep import Keeping
    from rustfern.operations.life import Event
    from rustfern.operations.look import Preview
    from rustfern.operations.places import Surveyed
    from rustfern.operations.ready import Readiness
    from rustfern.operations.restore import Planned, Refused, Restored
    from rustfern.operations.text_diff import Comparison
    from rustfern.settings.advice import Advice

__all__ = ["answer", "copy", "document", "plain"]


def _evidence(pieces: tuple[Evidence, ...]) -> list[EvidenceAnswer]:
    return [EvidenceAnswer(kind=piece.kind, weight=piece.weight, text=piece.text) for piece in pieces]


def _differs(item: Copy, saved: Copy | None) -> Difference | None:
    """Words that a copy has more and fewer than the saved file; None without a saved file or without words."""
    if saved is None or item is saved or item.content.words is None or saved.content.words is None:
        return None
    try:
        found = difference(item.content, saved.content)
    except MemoryError:
        return None  # how much they differ is not worth the answer
    return Difference(more=found.only_left, fewer=found.only_right)


def _stamps(clocks: Mapping[str, datetime]) -> dict[str, str]:
    return {name: told for name, time in clocks.items() if (told := stamp(time)) is not None}


def copy(
    item: Copy, ident: str | None, same_as: str | None = None, saved: Copy | None = None, needs: Sequence[str] = ()
) -> CopyAnswer:
    """One copy; `ident` and `same_as` are ids such as `1b`."""
    content = item.content
    return CopyAnswer(
        id=ident,
        path=item.path,
        part=item.entry.part,
        kind=str(item.kind),
        place=item.place,
        format=content.format,
        extension_right=item.extension_right,
        state=str(content.state),
        reason=content.reason,
        size=item.entry.size if not item.entry.is_bundle else content.size,
        modified=stamp(item.entry.modified),
        written=stamp(item.written),
        written_from=item.written_from,
        clocks=_stamps(item.clocks),
        sha256=content.sha256,
        words=content.words,
        amounts=dict(content.amounts),
        same_as=same_as,
        needs=list(needs),
        rebuilt_by=item.recipe or None,
        members=list(item.members),
        confidence=round(item.confidence, 4),
        evidence=_evidence(item.evidence),
        title=content.glance.title,
        author=content.glance.author,
        notes=list(item.notes),
        differs_from_saved=_differs(item, saved),
    )


def _lock(item: Lock) -> LockAnswer:
    return LockAnswer(
        path=item.entry.path,
        owner=item.owner,
        host=item.host,
        opened=stamp(item.opened),
        live=item.live,
        confidence=round(item.confidence, 4),
        evidence=_evidence(item.evidence),
        notes=list(item.notes),
    )


def _record(item: Record) -> RecordAnswer:
    return RecordAnswer(
        path=item.path, type=item.type, when=stamp(item.when), evidence=_evidence(item.evidence), says=item.says
    )


def document(item: Document, clock: Clock) -> DocumentAnswer:
    """One document with its copies, locks and records; sentences tell times by `clock`."""
    verdict, ids = item.verdict, item.ids
    words = Wording(item.copies, verdict.situation, clock)
    reasons = [Said(kind=each.kind, text=words.reason(each)) for each in verdict.why]
    cautions = [
        CautionSaid(kind=each.kind, certain=each.is_certain, keep_both=each.kind in KEEP_BOTH, text=words.caution(each))
        for each in verdict.warnings
    ]
    steps = [Said(kind=each.kind, text=step(each)) for each in verdict.next_steps]
    by_path = {each.path: ids[i] for i, each in enumerate(item.copies)}
    saved = next((each for each in item.copies if each.kind is Kind.SAVED), None)
    return DocumentAnswer(
        id=item.number,
        name=item.name,
        doc_class=item.doc_class,
        situation=str(verdict.situation),
        best=ids[verdict.best] if verdict.best is not None else None,
        why=[
            *(each.text for each in reasons),
            *(f"try next ({number}): {each.text}" for number, each in enumerate(steps, 1)),
        ],
        warnings=[each.text for each in cautions],
        original=item.original,
        original_exists=item.original_exists,
        original_recorded=item.recorded,
        person=item.person,
        within=item.within,
        copies=[
            copy(
                each,
                ids[i],
                ids[item.same_as[i]] if i in item.same_as else None,
                saved,
                [by_path[path] for path in each.bases if path in by_path],
            )
            for i, each in enumerate(item.copies)
        ],
        locks=[_lock(each) for each in item.locks],
        records=[_record(each) for each in item.records],
        reasons=reasons,
        cautions=cautions,
        next_steps=steps,
    )


def _unmatched(item: Copy | Lock | Record) -> CopyAnswer | LockAnswer | RecordAnswer:
    if isinstance(item, Copy):
        return copy(item, None)
    return _lock(item) if isinstance(item, Lock) else _record(item)


def _homes(homes: Sequence[Home]) -> list[HomeAnswer]:
    return [HomeAnswer(path=h.path, layout=str(h.layout), person=h.person) for h in homes]


def _problems(problems: Sequence[Problem]) -> list[ProblemAnswer]:
    return [ProblemAnswer(path=p.path, message=p.message) for p in problems]


def _searched(item: Answer) -> list[SearchedAnswer]:
    return [
        SearchedAnswer(place=s.place, path=s.path, copies=s.copies, status=s.status, by=s.by or None)
        for s in item.searched
    ]


def _totals(item: Answer) -> TotalsAnswer:
    totals = item.totals
    return TotalsAnswer(
        directories=totals.directories,
        files=totals.files,
        dismissed_by_name=totals.dismissed_by_name,
        bytes_read=totals.bytes_read,
        seconds=round(totals.seconds, 3),
        search_seconds=round(totals.search_seconds, 3),
        first_seconds=round(totals.first_seconds, 3),
    )


def answer(item: Answer, clock: Clock) -> ScanAnswer:
    """The whole answer of a scan."""
    return ScanAnswer(
        case=item.case,
        homes=_homes(item.homes),
        searched=_searched(item),
        zones=list(item.zones),
        zone=item.zone,
        words=item.hints.words,
        hits=[
            HitAnswer(id=h.ident or None, document=h.number or None, path=h.path, sentence=h.sentence, found=h.found)
            for h in item.hits
        ],
        documents=[document(each, clock) for each in item.documents],
        unmatched=[_unmatched(each) for each in item.unmatched],
        problems=_problems(item.problems),
        stopped=item.stopped,
        notices=[NoticeAnswer(kind=each.kind, alarm=each.is_alarm, text=notice(each)) for each in item.notices],
        totals=_totals(item),
    )


def search(
    item: Answer, began: datetime, ended: datetime, advice: Sequence[Advice], version: str, places: int
) -> SearchAnswer:
    """What a report says of a search: all but its documents."""
    return SearchAnswer(
        homes=_homes(item.homes),
        searched=_searched(item),
        zones=list(item.zones),
        zone=item.zone,
        problems=_problems(item.problems),
        totals=_totals(item),
        unmatched=len(item.unmatched),
        version=version,
        places=places,
        started=stamp(began) or "",
        ended=stamp(ended) or "",
        roots=list(item.roots),
        hints=_hints(item.hints),
        advice=_advice(advice),
    )


def _hints(hints: Hints) -> HintsAnswer:
    return HintsAnswer(
        person=hints.person,
        document=hints.document,
        happened=str(hints.happened) if hints.happened else None,
        lost_at=stamp(hints.lost_at),
        older_than=stamp(hints.older_than),
        clock_error=hints.clock_error.total_seconds() if hints.clock_error else 0.0,
    )


def _advice(advice: Sequence[Advice]) -> list[AdviceAnswer]:
    return [
        AdviceAnswer(program=a.program, says=a.says, risk=a.risk, people=list(a.people), files=list(a.files))
        for a in advice
    ]


def restored(done: Sequence[Restored], refused: Sequence[Refused]) -> RestoreAnswer:
    """The answer of a restore."""
    return RestoreAnswer(
        restored=[
            RestoredAnswer(
                id=each.id, source=each.source, target=each.target, sha256=each.sha256, state=each.state,
                document=each.document, notes=list(each.notes),
            )
            for each in done
        ],
        refused=_refused(refused),
    )  # fmt: skip


def _refused(refused: Sequence[Refused]) -> list[RefusedAnswer]:
    return [RefusedAnswer(id=each.id, message=each.message) for each in refused]


def restore_plan(planned: Sequence[Planned], refused: Sequence[Refused], target: str) -> RestorePlanAnswer:
    """What a restore would write into `target`."""
    return RestorePlanAnswer(
        planned=[
            PlannedAnswer(
                id=p.id, source=p.source, target=os.path.join(target, p.target), size=p.size, document=p.document,
                notes=list(p.notes),
            )
            for p in planned
        ],
        refused=_refused(refused),
    )  # fmt: skip


def restored_line(done: Restored, item: StoredCopy, top: str, at: datetime) -> RestoredLine:
    """One line of the list beside restored files in the folder `top`."""
    folders = os.path.relpath(os.path.dirname(done.target), top)
    return RestoredLine(
        at=at.isoformat(timespec="seconds"),
        id=done.id,
        document=done.document,
        source=done.source,
        target=os.path.relpath(done.target, top),
        wanted=os.path.normpath(os.path.join(folders, done.wanted)),
        sha256=done.sha256,
        state=done.state,
        written=item.facts.written,
        confidence=item.facts.confidence,
        evidence=[piece.text for piece in item.facts.evidence],
    )


def checked(found: Sequence[Checked], alarm: str | None) -> CheckAnswer:
    """The verdicts on files."""
    return CheckAnswer(
        files=[
            CheckedAnswer(
                path=item.path,
                format=item.content.format,
                doc_class=item.doc_class,
                extension_right=item.extension_right,
                state=str(item.content.state),
                reason=item.content.reason,
                size=item.content.size,
                words=item.content.words,
                amounts=dict(item.content.amounts),
                hindrances=list(item.hindrances),
            )
            for item in found
        ],
        alarm=alarm,
    )


def ready(found: Readiness) -> ReadyAnswer:
    """What the first second tells."""
    return ReadyAnswer(
        roots=list(found.roots),
        live=found.live,
        homes=_homes(found.homes),
        host=found.host,
        zone=found.zone,
        clock=found.clock,
        programs=[
            ProgramAnswer(
                name=p.name, pids=list(p.pids), documents=list(p.documents), last_autosave=stamp(p.last_autosave)
            )
            for p in found.programs
        ],
        copies=found.copies,
        newest=stamp(found.newest),
        denied=list(found.denied),
        blocked=list(found.blocked),
        outside=[OutsideAnswer(path=path, by=by) for path, by in found.outside],
        settings=_advice(found.advice),
        free=found.free,
        same_disk_as=found.shared_with,
        first=list(found.first),
        never=list(found.never),
        problems=_problems(found.problems),
    )


def places(rows: Sequence[Surveyed]) -> PlacesAnswer:
    """The places of the catalogue as they are."""
    return PlacesAnswer(places=[_place(row) for row in rows])


def _place(row: Surveyed) -> PlaceAnswer:
    place = row.place
    return PlaceAnswer(
        place=row.found.place,
        what=place.what if place else "a folder of the person's own",
        program=place.program if place else None,
        kind=place.kind if place else None,
        person=row.home.person if row.home else None,
        path=row.found.path,
        status=row.found.status,
        copies=row.found.copies,
        by=row.found.by or None,
        lifetime=place.lifetime if place else None,
        moved_by=place.moved_by or None if place else None,
        sure=place.sure if place else None,
    )


def kept(done: Keeping) -> KeepAnswer:
    """What came of keeping."""
    return KeepAnswer(
        folder=done.folder,
        taken=done.taken,
        before=done.before,
        bytes=done.bytes,
        kinds=dict(done.by_kind),
        changing=list(done.changing),
        left=list(done.left),
        earlier=list(done.earlier),
        warnings=[notice(each) for each in done.warnings],
        problems=_problems(done.problems),
    )


def _piece(piece: Piece) -> PieceAnswer:
    return PieceAnswer(
        text=piece.text, kind=piece.kind, level=piece.level, section=piece.section, spot=piece.spot, label=piece.label
    )


def _parts(parts: Sequence[Part]) -> list[PartAnswer]:
    return [PartAnswer(name=part.name, size=part.size, wrong=part.wrong) for part in parts]


def life(events: Sequence[Event]) -> list[EventAnswer]:
    """The life of a document."""
    return [
        EventAnswer(name=e.name, kind=e.kind, when=e.when.isoformat(), says=e.says, chosen=e.chosen, whole=e.whole)
        for e in events
    ]


def looked(
    item: StoredCopy | None,
    seen: Preview,
    pieces: Sequence[Piece],
    events: Sequence[Event],
    hits: Sequence[int] | None,
    recording: tuple[float | None, Sequence[str]],
) -> LookAnswer:
    """One thing that was looked at; `item` is None for a file by its path, `hits` are numbers of pieces (from 1)."""
    content: Content | None = seen.content
    seconds, tracks = recording
    return LookAnswer(
        document=item.document if item else None,
        copy=item.facts if item else None,
        lines=[piece.text for piece in pieces],
        pieces=[_piece(piece) for piece in pieces],
        parts=_parts(seen.parts),
        recording=RecordingAnswer(seconds=seconds, tracks=list(tracks)) if seconds is not None or tracks else None,
        problem=seen.trouble,
        state=str(content.state) if content else None,
        reason=content.reason if content else None,
        life=life(events),
        words=[WordsAnswer(at=at, line=pieces[at - 1].text) for at in hits] if hits is not None else None,
    )


def compared(
    left: str, right: str, found: Comparison, picture: PictureDifference | None, problem: str | None
) -> CompareAnswer:
    """How two things differ."""
    return CompareAnswer(
        left=left,
        right=right,
        more=found.more,
        fewer=found.fewer,
        same=found.same,
        changes=[
            ChangeAnswer(
                kind=change.kind,
                at=change.at,
                runs=[RunAnswer(kind=run.kind, text=run.text) for run in change.runs],
                where=change.where,
            )
            for change in found.changes
        ],
        picture=picture,
        problem=problem,
    )


def _case_row(row: CaseRow) -> CaseRowAnswer:
    return CaseRowAnswer(
        name=row.name,
        path=row.path,
        made=stamp(row.made) or "",
        roots=list(row.roots),
        lost=row.lost,
        restored=row.restored,
        ticket=row.ticket,
        technician=row.technician,
        notes=list(row.notes),
        texts=row.texts,
        size=row.size,
        used=row.used,
    )


def cases(rows: Sequence[CaseRow]) -> CasesAnswer:
    """The list of cases."""
    return CasesAnswer(cases=[_case_row(row) for row in rows])


def case(row: CaseRow, consent: str, log: Sequence[LogEntry]) -> CaseAnswer:
    """One case with its log."""
    fields = {name: getattr(told, name) for told in [_case_row(row)] for name in told.__struct_fields__}
    entries = [
        LogAnswer(began=e.began.isoformat(), ended=e.ended.isoformat(), says=list(e.says), status=e.status) for e in log
    ]
    return CaseAnswer(**fields, consent=consent, log=entries)


def report(
    scan: SearchAnswer,
    people: Sequence[str],
    documents: Sequence[tuple[DocumentFacts, Sequence[CopyAnswer], Sequence[BackAnswer]]],
    path: str | None,
    log: Sequence[LogEntry],
) -> ReportAnswer:
    """All that a report says: each document with its copies and what was restored of it."""
    rows = []
    for told, copies, back in documents:
        fields = {name: getattr(told, name) for name in told.__struct_fields__}
        rows.append(ReportDocument(**fields, copies=list(copies), back=list(back)))
    done = [
        LogAnswer(began=stamp(e.began) or "", ended=stamp(e.ended) or "", says=list(e.says), status=e.status)
        for e in log
    ]
    return ReportAnswer(scan=scan, people=list(people), documents=rows, roots=list(scan.roots), case=path, log=done)


def error(message: str, path: str | None, next_step: str | None) -> ErrorAnswer:
    """An error as an answer: what is wrong, where, what to do next."""
    return ErrorAnswer(message=message, path=path, next_step=next_step)


def completion(shell: str, script: str, where: str) -> CompletionAnswer:
    """What a shell needs to complete commands."""
    return CompletionAnswer(shell=shell, script=script, where=where)
