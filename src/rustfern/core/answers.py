"""The answers of the commands, typed: what `--json` writes, what a case remembers, what the screen and the reports read.

The fields are the machine-readable contract (`docs/json.md`, `docs/schema/`): they may be added, never renamed or removed. Times are
stamps in UTC (`2026-03-12T16:38:02Z`), sizes bytes, paths whole paths whose bytes that are not UTF-8 survive as surrogate escapes.
"""

from __future__ import annotations

from typing import Any, Literal

import msgspec

Stamp = str


class Fields(msgspec.Struct, frozen=True, kw_only=True):
    """What every answer has in common: it can be turned into JSON."""


class Said(Fields, frozen=True, kw_only=True):
    """A reason or a next step: its kind, and the same in words."""

    kind: str
    text: str


class CautionSaid(Fields, frozen=True, kw_only=True):
    """A caution: its kind, whether the answer is certain in spite of it, whether two versions are to be kept, and the same in words."""

    kind: str
    certain: bool
    keep_both: bool
    text: str


class EvidenceAnswer(Fields, frozen=True, kw_only=True):
    """One reason why a copy belongs to its document; `weight` is in log-odds."""

    kind: str
    weight: float
    text: str


class Difference(Fields, frozen=True, kw_only=True):
    """Words that a copy has more and fewer than another one."""

    more: int
    fewer: int


class CopyAnswer(Fields, frozen=True, kw_only=True):
    """One copy. `same_as` and `needs` are ids of other copies, `members` the files of a folder or set."""

    id: str | None
    path: str
    part: str | None
    kind: str
    place: str
    format: str | None
    extension_right: bool | None
    state: str
    reason: str
    size: int
    modified: Stamp | None
    written: Stamp | None
    written_from: str
    clocks: dict[str, Stamp]
    sha256: str | None
    words: int | None
    amounts: dict[str, int]
    same_as: str | None
    needs: list[str]
    rebuilt_by: str | None
    members: list[str]
    confidence: float
    evidence: list[EvidenceAnswer]
    title: str | None
    author: str | None
    notes: list[str]
    differs_from_saved: Difference | None


class LockAnswer(Fields, frozen=True, kw_only=True):
    """One lock: who had the document open, where, since when."""

    path: str
    owner: str | None
    host: str | None
    opened: Stamp | None
    live: bool | None
    confidence: float
    evidence: list[EvidenceAnswer]
    notes: list[str]


class RecordAnswer(Fields, frozen=True, kw_only=True):
    """One record that says something of a document."""

    path: str
    type: str
    when: Stamp | None
    evidence: list[EvidenceAnswer]
    says: str


class DocumentFacts(Fields, frozen=True, kw_only=True):
    """One document, without its copies. `why` and `warnings` are sentences; `reasons`, `cautions` and `next_steps` the same with their kinds."""

    id: int
    name: str
    doc_class: str = msgspec.field(name="class")
    situation: str
    best: str | None
    why: list[str]
    warnings: list[str]
    original: str | None
    original_exists: bool
    original_recorded: str | None
    person: str | None
    within: str | None
    locks: list[LockAnswer]
    records: list[RecordAnswer]
    reasons: list[Said] = []
    cautions: list[CautionSaid] = []
    next_steps: list[Said] = []

    @property
    def is_lost(self) -> bool:
        """Whether something of it was lost."""
        return self.situation != "nothing-lost"


class DocumentAnswer(DocumentFacts, frozen=True, kw_only=True):
    """One document with its copies, the oldest first (the saved file before all)."""

    copies: list[CopyAnswer]


class HomeAnswer(Fields, frozen=True, kw_only=True):
    """One person's home."""

    path: str
    layout: str
    person: str


class SearchedAnswer(Fields, frozen=True, kw_only=True):
    """One known folder as it is in one home; `by` is the setting that moved it there."""

    place: str
    path: str
    copies: int
    status: str
    by: str | None


class HitAnswer(Fields, frozen=True, kw_only=True):
    """One copy that holds words that were asked for."""

    id: str | None
    document: int | None
    path: str
    sentence: str
    found: int


class ProblemAnswer(Fields, frozen=True, kw_only=True):
    """Something that could not be read or written."""

    path: str
    message: str


class TotalsAnswer(Fields, frozen=True, kw_only=True):
    """What a search cost."""

    directories: int
    files: int
    dismissed_by_name: int
    bytes_read: int
    seconds: float
    search_seconds: float
    first_seconds: float


class NoticeAnswer(Fields, frozen=True, kw_only=True):
    """What is to be known of a whole search."""

    kind: str
    alarm: bool
    text: str


class ScanAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern scan`."""

    schema: Literal["rustfern/scan-1"] = "rustfern/scan-1"
    case: str | None
    homes: list[HomeAnswer]
    searched: list[SearchedAnswer]
    zones: list[str]
    zone: str | None
    words: str | None
    hits: list[HitAnswer]
    documents: list[DocumentAnswer]
    unmatched: list[CopyAnswer | LockAnswer | RecordAnswer]
    problems: list[ProblemAnswer]
    stopped: bool
    notices: list[NoticeAnswer]
    totals: TotalsAnswer


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


class AdviceAnswer(Fields, frozen=True, kw_only=True):
    """What a setting means for the next time; `files` are the settings files that say so."""

    program: str
    says: str
    risk: bool
    people: list[str]
    files: list[str] = []


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
    free: int | None
    same_disk_as: str | None
    first: list[str]
    never: list[str]
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


class HintsAnswer(Fields, frozen=True, kw_only=True):
    """What the person said; `clock_error` in seconds."""

    person: str | None
    document: str | None
    happened: str | None
    lost_at: Stamp | None
    older_than: Stamp | None
    clock_error: float


class SearchAnswer(Fields, frozen=True, kw_only=True):
    """A search as a report tells of it: all but its documents."""

    homes: list[HomeAnswer]
    searched: list[SearchedAnswer]
    zones: list[str]
    zone: str | None
    problems: list[ProblemAnswer]
    totals: TotalsAnswer
    unmatched: int
    version: str
    places: int
    started: Stamp
    ended: Stamp
    roots: list[str]
    hints: HintsAnswer
    advice: list[AdviceAnswer]


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


class ReportAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern report`."""

    schema: Literal["rustfern/report-1"] = "rustfern/report-1"
    scan: SearchAnswer
    people: list[str]
    documents: list[ReportDocument]
    roots: list[str]
    case: str | None
    log: list[LogAnswer]


class CompletionAnswer(Fields, frozen=True, kw_only=True):
    """The answer of `rustfern completion`."""

    schema: Literal["rustfern/completion-1"] = "rustfern/completion-1"
    shell: str
    script: str
    where: str


class ErrorAnswer(Fields, frozen=True, kw_only=True):
    """An error as an answer: what is wrong, where, what to do next."""

    schema: Literal["rustfern/error-1"] = "rustfern/error-1"
    message: str
    path: str | None
    next_step: str | None = msgspec.field(name="next")


ANSWERS: tuple[type[Fields], ...] = (
    ScanAnswer, RestoreAnswer, RestorePlanAnswer, RestoredLine, CheckAnswer, ReadyAnswer, PlacesAnswer, KeepAnswer, LookAnswer, CompareAnswer,
    CasesAnswer, CaseAnswer, ReportAnswer, CompletionAnswer, ErrorAnswer,
)  # fmt: skip
"""Every answer that has a name of its own."""


def plain(answer: Fields) -> Any:
    """An answer as what JSON is made of."""
    return msgspec.to_builtins(answer)
