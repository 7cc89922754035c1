"""The machine-readable contract of the commands other than a search: their facts as typed answers (`schema` has those of a search)."""

from __future__ import annotations

import os
from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from rustfern.catalogue.loader import catalogue
from rustfern.core.answers import CopyAnswer, DocumentFacts, SearchAnswer
from rustfern.core.command_answers import (
    BackAnswer,
    CaseAnswer,
    CaseRowAnswer,
    CasesAnswer,
    ChangeAnswer,
    CheckAnswer,
    CheckedAnswer,
    CompareAnswer,
    CompletionAnswer,
    EventAnswer,
    ImageAnswer,
    KeepAnswer,
    LogAnswer,
    LookAnswer,
    NotProtectedAnswer,
    NotRepairedAnswer,
    OutsideAnswer,
    PartAnswer,
    PictureDifference,
    PieceAnswer,
    PlaceAnswer,
    PlacesAnswer,
    PlannedAnswer,
    ProgramAnswer,
    ProtectAnswer,
    ProtectionAnswer,
    ReadyAnswer,
    RecordingAnswer,
    RefusedAnswer,
    RepairAnswer,
    RepairedAnswer,
    ReportAnswer,
    ReportDocument,
    RestoreAnswer,
    RestoredAnswer,
    RestoredLine,
    RestorePlanAnswer,
    RunAnswer,
    SetAnswer,
    WordsAnswer,
)
from rustfern.core.times import stamp
from rustfern.operations import repair_words, schema
from rustfern.selection.wording import notice

if TYPE_CHECKING:
    from rustfern.cases.case_file import StoredCopy
    from rustfern.cases.changes import Change
    from rustfern.cases.manage import CaseRow, LogEntry
    from rustfern.core.model import Content
    from rustfern.formats.archives.parts import Part
    from rustfern.formats.text_sink import Piece
    from rustfern.operations.check import Checked
    from rustfern.operations.copy_disk import DiskCopy
    from rustfern.operations.keeper import Keeping
    from rustfern.operations.life import Event
    from rustfern.operations.look import Preview
    from rustfern.operations.places import Surveyed
    from rustfern.operations.protect import Outcome, Survey
    from rustfern.operations.ready import Readiness
    from rustfern.operations.repair import NotRepaired, Repaired
    from rustfern.operations.restore import Planned, Refused, Restored
    from rustfern.operations.text_diff import Comparison
    from rustfern.settings.protection import Protection


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


def repaired(done: Sequence[Repaired], refused: Sequence[NotRepaired]) -> RepairAnswer:
    """The answer of a repair."""
    return RepairAnswer(
        repaired=[
            RepairedAnswer(
                id=each.id, source=each.source, target=each.target, format=each.format, state=each.state,
                method=repair_words.method(each.steps), kept=each.kept, lost=[repair_words.loss(it) for it in each.lost],
                text=each.text, sha256=each.sha256, stood=list(each.stood),
            )
            for each in done
        ],
        refused=[NotRepairedAnswer(id=each.id, source=each.source, message=each.message) for each in refused],
    )  # fmt: skip


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
        homes=schema.homes(found.homes),
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
        settings=schema.advice_answers(found.advice),
        at_worst=found.at_worst,
        free=found.free,
        same_disk_as=found.shared_with,
        first=list(found.first),
        never=list(found.never),
        problems=schema.problems(found.problems),
        disks=[schema.disk(each) for each in found.disks],
    )


def protect(found: Survey, outcome: Outcome | None = None) -> ProtectAnswer:
    """Each setting as it is or was set; what was refused."""
    done = {id(row) for row in outcome.done} if outcome else set()
    return ProtectAnswer(
        settings=[_protection(row, outcome, done=id(row) in done) for row in found.rows],
        refused=_refused_settings(outcome),
        kept=[each.kept for each in outcome.changes if each.kept] if outcome else [],
        case=outcome.case if outcome else None,
        problems=schema.problems(found.problems),
    )


def unprotect(outcome: Outcome) -> ProtectAnswer:
    """What was brought back: `now` is what was set until then, `wanted` what is set again."""
    settings = {each.id: (program, each) for program in catalogue().protected for each in program.settings}
    rows = []
    for change in outcome.changes:
        for told in change.settings:
            program, setting = settings[told.setting]
            rows.append(
                ProtectionAnswer(
                    program=program.program,
                    person=change.person,
                    setting=told.setting,
                    what=told.what,
                    against=setting.against,
                    now=told.after,
                    default=None,
                    wanted=told.before,
                    unit=None,
                    loss_now_minutes=None,
                    loss_then_minutes=None,
                    better=False,
                    how="write",
                    steps=setting.steps,
                    file=change.file,
                    fixed=None,
                    sure=setting.confidence,
                    done=True,
                )
            )
    return ProtectAnswer(settings=rows, refused=_refused_settings(outcome), kept=[], case=outcome.case, problems=[])


def _refused_settings(outcome: Outcome | None) -> list[NotProtectedAnswer]:
    return [
        NotProtectedAnswer(setting=ident, person=each.person, file=each.file, message=each.message)
        for each in (outcome.refused if outcome else ())
        for ident in each.settings
    ]


def _protection(row: Protection, outcome: Outcome | None, *, done: bool) -> ProtectionAnswer:
    file = outcome.written.get(row.home.path, row.file) if outcome and row.how == "file" and row.is_better else row.file
    return ProtectionAnswer(
        program=row.program.program,
        person=row.home.person,
        setting=row.setting.id,
        what=row.setting.what,
        against=row.setting.against,
        now=row.now,
        default=row.default,
        wanted=row.wanted,
        unit=row.setting.unit if row.setting.role == "interval" else None,
        loss_now_minutes=row.loss_now,
        loss_then_minutes=row.loss_then,
        better=row.is_better,
        how=row.how,
        steps=row.steps,
        file=file,
        fixed=row.fixed or None,
        sure=row.setting.confidence,
        done=done,
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
        sure=place.confidence if place else None,
    )


def image(done: DiskCopy) -> ImageAnswer:
    """What a copy of a disk came to."""
    return ImageAnswer(
        source=done.source, image=done.image, listing=done.listing, size=done.size, read=done.read, before=done.before,
        unread=list(done.unread), stopped=done.stopped, seconds=done.seconds,
    )  # fmt: skip


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
        problems=schema.problems(done.problems),
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
        repair=schema.outlook(seen.outlook),
        life=life(events),
        words=[WordsAnswer(at=at, line=pieces[at - 1].text) for at in hits] if hits is not None else None,
    )


def compared(
    left: str,
    right: str,
    found: Comparison,
    picture: PictureDifference | None,
    problem: str | None,
    notice: str | None = None,
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
        notice=notice,
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
    changes: Sequence[Change] = (),
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
    return ReportAnswer(
        scan=scan, people=list(people), documents=rows, roots=list(scan.roots), case=path, log=done,
        changes=[answer for change in changes for answer in _set_answers(change)],
    )  # fmt: skip


def _set_answers(change: Change) -> list[SetAnswer]:
    at = stamp(datetime.fromisoformat(change.at)) or ""
    return [
        SetAnswer(
            at=at,
            person=change.person,
            program=change.program,
            setting=each.setting,
            what=each.what,
            before=each.before,
            after=each.after,
            file=change.file,
            kept=change.kept,
            state=change.state,
        )
        for each in change.settings
    ]


def completion(shell: str, script: str, where: str) -> CompletionAnswer:
    """What a shell needs to complete commands."""
    return CompletionAnswer(shell=shell, script=script, where=where)
