"""A search of what has not changed since it was searched before: its answer is taken from the case.

Every folder that was listed and everything that was looked at must be as it was, and the same must be asked, by the same program and the same
person, in the same zone. Only folders of this machine in which nobody is at work are told so; all else is searched anew.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path

import msgspec

from rustfern import _version
from rustfern.cases.case_file import CaseFile
from rustfern.cases.earlier_answer import answer_of, carry_over, remember_answer
from rustfern.core.model import Answer, Copy, Document, Hints, Home, Lock, Problem, Record, Searched, Totals
from rustfern.core.paths import inside
from rustfern.core.remarks import Notice
from rustfern.search.search import Search
from rustfern.settings.advice import Advice
from rustfern.sources.folder import sum_of_names
from rustfern.sources.looked import Looked, Stamp, stamp_now

_STILL_NS = 3_000_000_000
"""A thing that was changed so shortly before the search may change again without another time: file systems count in steps of up to two seconds."""
_MOST_BYTES, _A_COPY = 48 << 20, 1500
"""So long an answer is not kept: to write it takes its length in memory twice. About so many bytes of a copy are not of its words."""
_PROGRAM = frozenset((".py", ".toml", ".json"))


class _RestsOn(msgspec.Struct, frozen=True):
    """What an answer rests on: things by their paths, sums of the names in folders, the sum of the whole listing."""

    things: list[tuple[bytes, Stamp | None]]
    folders: list[tuple[bytes, int | None]]
    listing: int


class Kept(msgspec.Struct, frozen=True):
    """An answer, as far as it is the same for the next search. `order` tells which of the three kinds each thing without a document is."""

    homes: tuple[Home, ...]
    searched: tuple[Searched, ...]
    documents: tuple[Document, ...]
    copies: tuple[Copy, ...]
    locks: tuple[Lock, ...]
    records: tuple[Record, ...]
    order: str
    problems: tuple[Problem, ...]
    totals: Totals
    notices: tuple[Notice, ...]
    zones: tuple[str, ...]
    advice: tuple[Advice, ...]

    @property
    def unmatched(self) -> tuple[Copy | Lock | Record, ...]:
        """The things that belong to no document, in their order."""
        kinds: dict[str, Iterator[Copy | Lock | Record]] = {
            "c": iter(self.copies), "l": iter(self.locks), "r": iter(self.records)
        }  # fmt: skip
        return tuple(next(kinds[kind]) for kind in self.order)


def asked_for(tops: Sequence[str], hints: Hints, *, thorough: bool, places: int, zone: object) -> str:
    """All that an answer depends on beside the disk: what is asked, by whom, with which program."""
    person = os.getuid() if hasattr(os, "getuid") else os.environ.get("USERNAME", "")
    told = [_version.__version__, _program(), places, list(tops), hints, thorough, person, str(zone), time.tzname]
    try:
        return msgspec.json.encode(told).decode()
    except UnicodeEncodeError:
        return ""


def _program() -> int:
    """A sum over the files of this program: another one may answer otherwise under the same version."""
    files = Path(_version.__file__).parent.rglob("*.*")
    told = [facts.st_mtime_ns ^ facts.st_size for each in files if each.suffix in _PROGRAM for facts in (each.stat(),)]
    return sum(told) % (1 << 63)


def earlier_answer(cases: Sequence[CaseFile], asked: str, search: Search, file: CaseFile) -> Kept | None:
    """The answer of an earlier search of the same, if all that it rests on is as it was; what an earlier case remembers, `file` does then too."""
    found = answer_of(cases, asked) if asked else None
    if found is None:
        return None
    case, looked, answer = found
    try:
        rests = msgspec.msgpack.decode(looked, type=_RestsOn)
        if not all(stamp_now(os.fsdecode(path)) == stamp for path, stamp in rests.things):
            return None
        if not all(sum_of_names(os.fsdecode(folder)) == told for folder, told in rests.folders):
            return None
        if search.listed_now() != rests.listing:
            return None
        kept = msgspec.msgpack.decode(answer, type=Kept)
    except msgspec.DecodeError:
        return None
    if case is not file:
        carry_over(case, file)
        remember_answer(file, asked, looked, answer)
    return kept


def keep_answer(
    case: CaseFile, asked: str, answer: Answer, looked: Looked, listing: int, began: datetime, advice: Sequence[Advice], notices: Sequence[Notice]
) -> None:  # fmt: skip
    """Have the case remember an answer, where a later search may take it over. `notices` are those that the search itself led to."""
    unmatched = [each for each in answer.unmatched if isinstance(each, Copy)]
    copies = [*(copy for each in answer.documents for copy in each.copies), *unmatched]
    if not asked or answer.live or answer.stopped or answer.hits or answer.disks:
        return
    if not looked.is_still(int(began.timestamp() * 1e9) - _STILL_NS):
        return
    if any(time > began for copy in copies for time in copy.clocks.values()):
        return  # a time that has not come yet is no time; later it is one
    if sum(_A_COPY + len(copy.content.tokens) + len(copy.content.lines) for copy in copies) > _MOST_BYTES:
        return
    order = "".join(
        "c" if isinstance(each, Copy) else "l" if isinstance(each, Lock) else "r" for each in answer.unmatched
    )
    kept = Kept(
        answer.homes, answer.searched, answer.documents,
        tuple(unmatched),
        tuple(each for each in answer.unmatched if isinstance(each, Lock)),
        tuple(each for each in answer.unmatched if isinstance(each, Record)),
        order, answer.problems, answer.totals, tuple(notices), answer.zones, tuple(advice),
    )  # fmt: skip
    rests = _RestsOn(
        [(os.fsencode(path), stamp) for path, stamp in looked.things.items()],
        [(os.fsencode(folder), told) for folder, told in looked.folders.items()],
        listing,
    )
    try:
        written = msgspec.msgpack.encode(kept)
    except (UnicodeEncodeError, OverflowError):  # names that are no Unicode
        return
    remember_answer(case, asked, msgspec.msgpack.encode(rests), written)


def may_be_kept(tops: Sequence[str], own_folders: Sequence[str]) -> bool:
    """Whether nothing of ours lies in what is searched: that is left out, and may be elsewhere the next time."""
    return not any(inside(folder, top) for folder in own_folders for top in tops)
