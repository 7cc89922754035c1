"""The answers of the other commands, typed as those of a search are (`core.answers`)."""

from __future__ import annotations

from typing import Literal

import msgspec

from rustfern.core.answers import (
    AdviceAnswer,
    CopyAnswer,
    DiskAnswer,
    DocumentAnswer,
    DocumentFacts,
    ErrorAnswer,
    Fields,
    HomeAnswer,
    OutlookAnswer,
    ProblemAnswer,
    ScanAnswer,
    SearchAnswer,
    Stamp,
)


class RestoredAnswer(Fields, frozen=True, kw_only=True):
    """One restored file, verified."""

    id: str
    source: str = msgspec.field(name="from")
    target: str = msgspec.field(name="to")
    sha256: str
    state: str
    document: str
    notes: list[str]


class RefusedAnswer(Fields, frozen=True, kw_only=True):
    """What was not restored, and why."""

    id: str
    message: str


class RestoreAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern restore`."""

    schema: Literal["rustfern/restore-1"] = "rustfern/restore-1"
    restored: list[RestoredAnswer]
    refused: list[RefusedAnswer]


class PlannedAnswer(Fields, frozen=True, kw_only=True):
    """One file that would be written."""

    id: str
    source: str = msgspec.field(name="from")
    target: str = msgspec.field(name="to")
    size: int
    document: str
    notes: list[str]


class RestorePlanAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern restore --dry-run`."""

    schema: Literal["rustfern/restore-plan-1"] = "rustfern/restore-plan-1"
    planned: list[PlannedAnswer]
    refused: list[RefusedAnswer]


class RestoredLine(Fields, frozen=True, kw_only=True):
    """One line of the list beside restored files; paths are below its folder."""

    schema: Literal["rustfern/restored-1"] = "rustfern/restored-1"
    at: str
    id: str
    document: str
    source: str = msgspec.field(name="from")
    target: str = msgspec.field(name="to")
    wanted: str
    sha256: str
    state: str
    written: Stamp | None
    confidence: float
    evidence: list[str]


class RepairedAnswer(Fields, frozen=True, kw_only=True):
    """One repaired file: the verdict on what was written, how it was put together and what is lost (both in words), how much is in it, the
    plain text beside it; of one that was whole what stood in the way of opening it."""

    id: str | None
    source: str = msgspec.field(name="from")
    target: str = msgspec.field(name="to")
    format: str
    state: str
    method: str
    kept: dict[str, int]
    lost: list[str]
    text: str | None
    sha256: str
    stood: list[str]


class NotRepairedAnswer(Fields, frozen=True, kw_only=True):
    """What was not repaired, and why."""

    id: str | None
    source: str = msgspec.field(name="from")
    message: str


class RepairAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern repair`."""

    schema: Literal["rustfern/repair-1"] = "rustfern/repair-1"
    repaired: list[RepairedAnswer]
    refused: list[NotRepairedAnswer]


class CheckedAnswer(Fields, frozen=True, kw_only=True):
    """The verdict on one file."""

    path: str
    format: str | None
    doc_class: str = msgspec.field(name="class")
    extension_right: bool | None
    state: str
    reason: str
    size: int
    words: int | None
    amounts: dict[str, int]
    hindrances: list[str]


class CheckAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern check`; `alarm` says that many files were damaged at once."""

    schema: Literal["rustfern/check-1"] = "rustfern/check-1"
    files: list[CheckedAnswer]
    alarm: str | None


class ProgramAnswer(Fields, frozen=True, kw_only=True):
    """A running program that keeps autosaves."""

    name: str
    pids: list[int]
    documents: list[str]
    last_autosave: Stamp | None


class OutsideAnswer(Fields, frozen=True, kw_only=True):
    """A folder of copies that lies outside of what is searched."""

    path: str
    by: str


class ReadyAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern ready`."""

    schema: Literal["rustfern/ready-1"] = "rustfern/ready-1"
    roots: list[str]
    live: bool
    homes: list[HomeAnswer]
    host: str | None
    zone: str | None
    clock: str | None
    programs: list[ProgramAnswer]
    copies: int
    newest: Stamp | None
    denied: list[str]
    blocked: list[str]
    outside: list[OutsideAnswer]
    settings: list[AdviceAnswer]
    at_worst: dict[str, str]
    free: int | None
    same_disk_as: str | None
    first: list[str]
    never: list[str]
    problems: list[ProblemAnswer]
    disks: list[DiskAnswer]


class ProtectionAnswer(Fields, frozen=True, kw_only=True):
    """One setting that protects a person's work. `now` (null: nothing is set, so `default` holds; that is null where it is not known) and
    `wanted` are true or false, or a number in `unit`. Losses are in minutes of work at worst; null: all since the last save, or all of the
    version before. `how` it is set: "write" (by --apply), "file" (a file that the person opens), "steps" (by hand, `steps`).
    """

    program: str
    person: str
    setting: str
    what: str
    against: str
    now: bool | int | str | None
    default: bool | int | str | None
    wanted: bool | int | str | None
    unit: str | None
    loss_now_minutes: int | None
    loss_then_minutes: int | None
    better: bool
    how: str
    steps: str
    file: str | None
    fixed: str | None
    sure: str
    done: bool


class NotProtectedAnswer(Fields, frozen=True, kw_only=True):
    """A setting that was not changed, and why."""

    setting: str
    person: str
    file: str
    message: str


class ProtectAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern protect`; `case` holds the journal of what was changed, null where nothing was."""

    schema: Literal["rustfern/protect-1"] = "rustfern/protect-1"
    settings: list[ProtectionAnswer]
    refused: list[NotProtectedAnswer]
    kept: list[str]
    case: str | None
    problems: list[ProblemAnswer]


class PlaceAnswer(Fields, frozen=True, kw_only=True):
    """One place of the catalogue as it is in one home."""

    place: str
    what: str
    program: str | None
    kind: str | None
    person: str | None
    path: str
    status: str
    copies: int
    by: str | None
    lifetime: str | None
    moved_by: str | None
    sure: str | None


class PlacesAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern places`."""

    schema: Literal["rustfern/places-1"] = "rustfern/places-1"
    places: list[PlaceAnswer]


class KeepAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern keep`."""

    schema: Literal["rustfern/keep-1"] = "rustfern/keep-1"
    folder: str
    taken: int
    before: int
    bytes: int
    kinds: dict[str, int]
    changing: list[str]
    left: list[str]
    earlier: list[str]
    warnings: list[str]
    problems: list[ProblemAnswer]


class ImageAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern keep` for a disk: the image and the list of what could not be read, (offset, length) in bytes."""

    schema: Literal["rustfern/keep-disk-1"] = "rustfern/keep-disk-1"
    source: str
    image: str
    listing: str
    size: int
    read: int
    before: int
    unread: list[tuple[int, int]]
    stopped: bool
    seconds: float


class PieceAnswer(Fields, frozen=True, kw_only=True):
    """One paragraph, heading, cell, field or line of a text; `spot` is (table, row, column)."""

    text: str
    kind: str
    level: int
    section: str
    spot: tuple[int, int, int] | None
    label: str


class PartAnswer(Fields, frozen=True, kw_only=True):
    """One part that a document is made of; `wrong` is empty for one that is right."""

    name: str
    size: int
    wrong: str


class RecordingAnswer(Fields, frozen=True, kw_only=True):
    """Length and tracks of a recording."""

    seconds: float | None
    tracks: list[str]


class EventAnswer(Fields, frozen=True, kw_only=True):
    """One event in the life of a document."""

    name: str
    kind: str
    when: str
    says: str
    chosen: bool
    whole: bool


class WordsAnswer(Fields, frozen=True, kw_only=True):
    """One piece of a text that holds the words; `at` is its number, from 1."""

    at: int
    line: str


class ListAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern look` without a number: the documents of the case again."""

    schema: Literal["rustfern/list-1"] = "rustfern/list-1"
    case: str | None
    documents: list[DocumentAnswer]


class LookAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern look` for one thing."""

    schema: Literal["rustfern/look-1"] = "rustfern/look-1"
    document: DocumentFacts | None
    copy: CopyAnswer | None
    lines: list[str]
    pieces: list[PieceAnswer]
    parts: list[PartAnswer]
    recording: RecordingAnswer | None
    problem: str | None
    state: str | None
    reason: str | None
    repair: OutlookAnswer | None
    life: list[EventAnswer]
    words: list[WordsAnswer] | None


class RunAnswer(Fields, frozen=True, kw_only=True):
    """Words in a row that are the same, added or removed."""

    kind: str
    text: str


class ChangeAnswer(Fields, frozen=True, kw_only=True):
    """One piece that was added, removed or changed."""

    kind: str
    at: int
    runs: list[RunAnswer]
    where: str


class PictureDifference(Fields, frozen=True, kw_only=True):
    """How two pictures differ: sizes in pixels, the share of pixels that differ, the box around them."""

    sizes: list[list[int]]
    share: float | None
    box: list[int] | None


class CompareAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern look` for two things."""

    schema: Literal["rustfern/look-2"] = "rustfern/look-2"
    left: str
    right: str
    more: int
    fewer: int
    same: int
    changes: list[ChangeAnswer]
    picture: PictureDifference | None
    problem: str | None
    notice: str | None = None


class CaseRowAnswer(Fields, frozen=True, kw_only=True):
    """One case in the list."""

    name: str
    path: str
    made: Stamp
    roots: list[str]
    lost: int | None
    restored: int
    ticket: str
    technician: str
    notes: list[str]
    texts: bool
    size: int
    used: bool


class CasesAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern cases`."""

    schema: Literal["rustfern/cases-1"] = "rustfern/cases-1"
    cases: list[CaseRowAnswer]


class LogAnswer(Fields, frozen=True, kw_only=True):
    """One line of a case's log; without `status` it is a note."""

    began: str
    ended: str
    says: list[str]
    status: int | None


class CaseAnswer(CaseRowAnswer, frozen=True, kw_only=True):
    """The answer of `rustfern cases` for one case."""

    schema: Literal["rustfern/case-1"] = "rustfern/case-1"
    consent: str
    log: list[LogAnswer]


class BackAnswer(Fields, frozen=True, kw_only=True):
    """One file that was restored from the case."""

    at: Stamp
    id: str
    target: str = msgspec.field(name="to")
    sha256: str
    copy: CopyAnswer


class ReportDocument(DocumentAnswer, frozen=True, kw_only=True):
    """One document of a report, and what was restored of it."""

    back: list[BackAnswer]


class SetAnswer(Fields, frozen=True, kw_only=True):
    """A setting that was changed by `protect`, from the journal: `state` is "done", "undone", "not done" or "planned" (it was stopped in
    the middle, and can be undone).
    """

    at: Stamp
    person: str
    program: str
    setting: str
    what: str
    before: str
    after: str
    file: str
    kept: str | None
    state: str


class ReportAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern report`."""

    schema: Literal["rustfern/report-1"] = "rustfern/report-1"
    scan: SearchAnswer
    people: list[str]
    documents: list[ReportDocument]
    roots: list[str]
    case: str | None
    log: list[LogAnswer]
    changes: list[SetAnswer]


class ManyRootAnswer(Fields, frozen=True, kw_only=True):
    """One of many roots: the exit status of its call (null: it did not end), why it failed, and its answer (null: there is none)."""

    label: str
    root: str
    status: int | None
    reason: str
    seconds: float
    tries: int
    answer: str | None


class ManyAnswer(Fields, frozen=True, kw_only=True):
    """The answer of a command on many roots (`--list`)."""

    schema: Literal["rustfern/many-1"] = "rustfern/many-1"
    command: str
    folder: str
    roots: list[ManyRootAnswer]


class LossesAnswer(Fields, frozen=True, kw_only=True):
    """Losses in numbers: `lost` counts lost documents by situation, `classes` by class; `found` have a best copy, of which `vanishing` lie where copies do
    not stay, and `without` have none.
    """

    people: list[str]
    lost: dict[str, int]
    classes: dict[str, int]
    found: int
    without: int
    vanishing: int


class MachineAnswer(LossesAnswer, frozen=True, kw_only=True):
    """One root of many as `report --over` sees it. `damaged` saved files do not open; `urgency` orders machines, the highest first; `first_lost` and
    `last_lost` are when things were lost, as far as anything tells.
    """

    label: str
    root: str
    status: int | None
    reason: str
    damaged: int
    urgency: int
    first_lost: Stamp | None
    last_lost: Stamp | None
    case: str | None


class CauseAnswer(Fields, frozen=True, kw_only=True):
    """A sign that losses on several machines have one cause: `kind` is "minute", "ending" or "program"."""

    kind: Literal["minute", "ending", "program"]
    says: str
    documents: int
    machines: list[str]


class OverAnswer(LossesAnswer, frozen=True, kw_only=True):
    """The answer of `rustfern report --over`: numbers alone, of no document its name or text."""

    schema: Literal["rustfern/over-1"] = "rustfern/over-1"
    folder: str
    machines: list[MachineAnswer]
    causes: list[CauseAnswer]
    first: list[str]


class CompletionAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern completion`."""

    schema: Literal["rustfern/completion-1"] = "rustfern/completion-1"
    shell: str
    script: str
    where: str


ANSWERS: tuple[type[Fields], ...] = (
    ScanAnswer, RestoreAnswer, RestorePlanAnswer, RestoredLine, RepairAnswer, CheckAnswer, ReadyAnswer, PlacesAnswer, KeepAnswer, ListAnswer, LookAnswer, CompareAnswer,
    CasesAnswer, CaseAnswer, ReportAnswer, ProtectAnswer, ManyAnswer, OverAnswer, CompletionAnswer, ErrorAnswer,
)  # fmt: skip
"""Every answer that has a name of its own."""
