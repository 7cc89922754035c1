"""The answers of a search, typed: what `--json` writes, what a case remembers, what the screen and the reports read.

The fields are the machine-readable contract (`docs/json.md`, `docs/schema/`): they may be added, never renamed or removed. Times are
stamps in UTC (`2026-03-12T16:38:02Z`), sizes bytes, paths whole paths whose bytes that are not UTF-8 survive as surrogate escapes.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, Literal

import msgspec

from rustfern.core.remarks import Caution

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


class OutlookAnswer(Fields, frozen=True, kw_only=True):
    """What repair would give of a damaged copy: its format, how much would be in it, about how many words the whole had (null: nobody knows)."""

    format: str
    kept: dict[str, int]
    about_words: int | None


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
    deleted: bool = False
    extents: list[tuple[int, int]] | None = None
    remaining: float | None = None
    record: int | None = None
    repair: OutlookAnswer | None = None


class VolumeAnswer(Fields, frozen=True, kw_only=True):
    """One volume of a disk: `offset` and `size` in bytes; living and deleted files, bytes that nothing claims, and how many of them were
    searched byte by byte.
    """

    name: str
    offset: int
    size: int
    type: str
    label: str
    status: str
    message: str | None
    files: int
    deleted: int
    unclaimed: int
    searched_raw: int


class DiskAnswer(Fields, frozen=True, kw_only=True):
    """One disk that was searched: its container, `size` and `sector` in bytes, its table of volumes."""

    path: str
    container: str
    size: int
    sector: int
    table: str
    volumes: list[VolumeAnswer]
    remarks: list[str]


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
    deleted: bool = False


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

    @property
    def shows_no_loss(self) -> bool:
        """Whether only the person's word speaks of a loss: no copy holds anything newer."""
        return any(each.kind == Caution.NOTHING_NEWER for each in self.cautions)


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
    disks: list[DiskAnswer]
    documents: list[DocumentAnswer]
    unmatched: list[CopyAnswer | LockAnswer | RecordAnswer]
    problems: list[ProblemAnswer]
    stopped: bool
    notices: list[NoticeAnswer]
    totals: TotalsAnswer


class AdviceAnswer(Fields, frozen=True, kw_only=True):
    """What a setting means for the next time; `files` are the settings files that say so, `better` what would be better, by hand (empty:
    nothing), `settings` the ids of what it is about.
    """

    program: str
    says: str
    risk: bool
    people: list[str]
    files: list[str] = []
    better: str = ""
    settings: list[str] = []


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
    disks: list[DiskAnswer] = msgspec.field(default_factory=list)


class ErrorAnswer(Fields, frozen=True, kw_only=True):
    """An error as an answer: what is wrong, where, what to do next."""

    schema: Literal["rustfern/error-1"] = "rustfern/error-1"
    message: str
    path: str | None
    next_step: str | None = msgspec.field(name="next")


def plain(answer: Fields) -> Any:
    """An answer as what JSON is made of."""
    return msgspec.to_builtins(answer)


def parts(
    answer: Fields, lists: Mapping[str, Iterable[Fields | msgspec.Raw]] | None = None
) -> Iterator[tuple[str, Any]]:
    """The same, field by field; a list comes as an iterator over its items, as all of a large answer at once takes much memory. `lists` stand for
    fields of the answer that were left empty (`Raw`: JSON already).
    """
    config = type(answer).__struct_config__
    if config.omit_defaults:
        yield from plain(answer).items()
        return
    if config.tag_field is not None:
        yield config.tag_field, config.tag
    for field in msgspec.structs.fields(answer):
        value = getattr(answer, field.name)
        if lists is not None and field.name in lists:
            yield field.encode_name, iter(lists[field.name])
        else:
            yield field.encode_name, iter(value) if isinstance(value, list) else value
