"""The machine-readable contract: facts as the typed answers that other programs depend on. Fields may be added, never renamed.

Here are the answers of a search; those of the other commands are in `command_schema`.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from rustfern.core.answers import (
    AdviceAnswer,
    CautionSaid,
    CopyAnswer,
    Difference,
    DiskAnswer,
    DocumentAnswer,
    ErrorAnswer,
    EvidenceAnswer,
    HintsAnswer,
    HitAnswer,
    HomeAnswer,
    LockAnswer,
    NoticeAnswer,
    OutlookAnswer,
    ProblemAnswer,
    RecordAnswer,
    Said,
    ScanAnswer,
    SearchAnswer,
    SearchedAnswer,
    TotalsAnswer,
    VolumeAnswer,
    plain,
)
from rustfern.core.model import (
    Answer,
    Copy,
    Document,
    Evidence,
    Hints,
    Home,
    Kind,
    Lock,
    Outlook,
    Problem,
    Record,
    SearchedDisk,
)
from rustfern.core.paths import plain_path, record_of
from rustfern.core.remarks import KEEP_BOTH
from rustfern.core.times import Clock, stamp
from rustfern.matching.evidence.by_content import difference
from rustfern.selection.wording import Wording, notice, step

if TYPE_CHECKING:
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


def outlook(told: Outlook | None) -> OutlookAnswer | None:
    """What repair would give."""
    return OutlookAnswer(format=told.format, kept=dict(told.kept), about_words=told.about) if told is not None else None


def copy(
    item: Copy, ident: str | None, same_as: str | None = None, saved: Copy | None = None, needs: Sequence[str] = ()
) -> CopyAnswer:
    """One copy; `ident` and `same_as` are ids such as `1b`."""
    content = item.content
    return CopyAnswer(
        id=ident,
        path=plain_path(item.path),
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
        deleted=item.entry.deleted,
        extents=None if item.entry.extents is None or item.recipe else list(item.entry.extents),
        remaining=item.entry.remaining,
        record=record_of(item.path),
        repair=outlook(item.outlook),
    )


def document(item: Document, clock: Clock) -> DocumentAnswer:
    """One document with its copies, locks and records; sentences tell times by `clock`."""
    verdict, ids = item.verdict, item.ids
    words = Wording(item.copies, verdict.situation, clock, ids)
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


def _lock(item: Lock) -> LockAnswer:
    return LockAnswer(
        path=plain_path(item.entry.path),
        owner=item.owner,
        host=item.host,
        opened=stamp(item.opened),
        live=item.live,
        confidence=round(item.confidence, 4),
        evidence=_evidence(item.evidence),
        notes=list(item.notes),
        deleted=item.entry.deleted,
    )


def _record(item: Record) -> RecordAnswer:
    return RecordAnswer(
        path=plain_path(item.path),
        type=item.type,
        when=stamp(item.when),
        evidence=_evidence(item.evidence),
        says=item.says,
    )


def homes(homes: Sequence[Home]) -> list[HomeAnswer]:
    return [HomeAnswer(path=h.path, layout=str(h.layout), person=h.person) for h in homes]


def problems(problems: Sequence[Problem]) -> list[ProblemAnswer]:
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


def answer(item: Answer, clock: Clock, *, with_documents: bool = True) -> ScanAnswer:
    """The whole answer of a scan, or all but its documents."""
    return ScanAnswer(
        case=item.case,
        homes=homes(item.homes),
        searched=_searched(item),
        zones=list(item.zones),
        zone=item.zone,
        words=item.hints.words,
        disks=[disk(each) for each in item.disks],
        hits=[
            HitAnswer(id=h.ident or None, document=h.number or None, path=h.path, sentence=h.sentence, found=h.found)
            for h in item.hits
        ],
        documents=[document(each, clock) for each in item.documents] if with_documents else [],
        unmatched=[_unmatched(each) for each in item.unmatched],
        problems=problems(item.problems),
        stopped=item.stopped,
        notices=[NoticeAnswer(kind=each.kind, alarm=each.is_alarm, text=notice(each)) for each in item.notices],
        totals=_totals(item),
    )


def disk(item: SearchedDisk) -> DiskAnswer:
    """One disk with its volumes."""
    return DiskAnswer(
        path=item.path,
        container=item.container,
        size=item.size,
        sector=item.sector,
        table=item.table,
        volumes=[
            VolumeAnswer(
                name=each.name, offset=each.offset, size=each.size, type=each.type, label=each.label, status=each.status,
                message=each.message, files=each.files, deleted=each.deleted, unclaimed=each.unclaimed,
                searched_raw=each.searched_raw,
            )
            for each in item.volumes
        ],
        remarks=list(item.remarks),
    )  # fmt: skip


def search(
    item: Answer, began: datetime, ended: datetime, advice: Sequence[Advice], version: str, places: int
) -> SearchAnswer:
    """What a report says of a search: all but its documents."""
    return SearchAnswer(
        homes=homes(item.homes),
        searched=_searched(item),
        zones=list(item.zones),
        zone=item.zone,
        problems=problems(item.problems),
        totals=_totals(item),
        unmatched=len(item.unmatched),
        version=version,
        places=places,
        started=stamp(began) or "",
        ended=stamp(ended) or "",
        roots=list(item.roots),
        hints=_hints(item.hints),
        advice=advice_answers(advice),
        disks=[disk(each) for each in item.disks],
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


def advice_answers(advice: Sequence[Advice]) -> list[AdviceAnswer]:
    return [
        AdviceAnswer(
            program=a.program,
            says=a.says,
            risk=a.risk,
            people=list(a.people),
            files=list(a.files),
            better=a.better,
            settings=list(a.settings),
        )
        for a in advice
    ]


def error(message: str, path: str | None, next_step: str | None) -> ErrorAnswer:
    """An error as an answer: what is wrong, where, what to do next."""
    return ErrorAnswer(message=message, path=path, next_step=next_step)
