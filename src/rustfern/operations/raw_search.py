"""The raw search of a scan: every byte of a disk that no living file claims, with progress, resumed where an earlier run stopped."""

from __future__ import annotations

import hashlib
import sqlite3
import time
from collections import Counter
from collections.abc import Collection, Iterable, Sequence
from contextlib import suppress
from datetime import timedelta

import msgspec
from msgspec.structs import replace

from rustfern.cases.case_file import CaseFile
from rustfern.cases.raw_finds import RawStore
from rustfern.core.errors import CaseError, SourceError
from rustfern.core.model import Copy, Document, Hints, Kind, SearchedDisk, Situation, State, Verdict
from rustfern.core.observer import Observer
from rustfern.core.paths import raw_path
from rustfern.core.remarks import About, Notice, Reason, Why, counted
from rustfern.core.times import Clock
from rustfern.engine.interface import Engine
from rustfern.engine.local import LocalEngine, cores
from rustfern.formats.extents.registry import SWAP
from rustfern.formats.format_table import class_of
from rustfern.matching.raw_finds import PLACE, Found, name_for, title_in
from rustfern.matching.state import clocks_of
from rustfern.operations import schema
from rustfern.operations.titles import with_title
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.hunt import Hunt, Moment
from rustfern.search.raw.places import prepare
from rustfern.search.raw.words import PART, loose_texts
from rustfern.selection.choose import assign_times
from rustfern.sources.disks.interface import Extent
from rustfern.sources.disks.open_disk import OpenDisk
from rustfern.sources.disks.unclaimed import Unclaimed, unclaimed
from rustfern.sources.registry import Sources

_KEPT_EVERY, _SAID_EVERY = 10.0, 0.5
_HEAD = 64 << 10
_MOST_WORKERS, _WORTH_PROCESSES = 4, 32 << 20
"""Each process takes some 100 MB; below so many bytes there is little to share."""
_ABOUT_THEN = timedelta(days=3)
_TEXT_ON_DEMAND, _MARKED_UP = frozenset({"pdf", "ai"}), frozenset({"svg", "html", "xml"})
_STAGES = (
    "reading what no file claims", "looking at what was put off", "following documents around what lies between", "putting documents in pieces together",
    "keeping what is left of others",
    "looking for documents whose beginning is gone",
)  # fmt: skip


class RawOptions(msgspec.Struct, frozen=True):
    """How to search: also volumes that are encrypted or of a kind that is not read (`everything`), for how long (seconds, None without end), with a
    second pass for documents whose beginning is gone (`thorough`).
    """

    everything: bool = False
    budget: float | None = None
    thorough: bool = False


class Progress(msgspec.Struct):
    """How far a search is, as a case keeps it."""

    moment: Moment
    begun: dict[int, bool]
    later: list[tuple[int, bool]]


class RawOutcome(msgspec.Struct, frozen=True):
    """What a raw search found, and how far it came: bytes searched of all; whether it was stopped before its end; volumes left out, with why;
    how many places led to no document; how many beginnings nothing was sought for, as the time for that was over.
    """

    finds: tuple[Found, ...]
    searched: int
    total: int
    is_done: bool
    left_out: tuple[tuple[str, str], ...]
    clutter: int
    not_joined: int


class RawSearch:
    """The raw search of one disk, or of one volume of it."""

    def __init__(
        self,
        door: Sources,
        root: str,
        hints: Hints,
        options: RawOptions,
        case: CaseFile,
        observer: Observer,
        clock: Clock,
        scheduler: str = "",
    ) -> None:
        held = door.disk(root)
        assert held is not None
        self.door, self.root, self.held, self.hints = door, root, held, hints
        self.observer, self._options, self.case, self._clock, self._scheduler = (
            observer,
            options,
            case,
            clock,
            scheduler,
        )
        self.listed: dict[str, int] = {}
        """Documents that the case lists already, by their keys: their numbers."""
        volume, _ = held.take_apart(root)
        self.where = unclaimed(held, volume, everything=options.everything)
        self.hunt = Hunt(
            held.disk.bytes, self.where, door.limits, hints, thorough=options.thorough, engine=self._engine()
        )
        self.store = RawStore(case.connection, identity(held, self.where))
        self._fresh: list[RawFind] = []
        self._kept = self._said = self._began = time.monotonic()
        self._count: Counter[str] = Counter()
        self._best = ""

    def _engine(self) -> Engine | None:
        """Processes that look ahead; none where they would cost more than they save, or the disk has one reader."""
        if self._scheduler:
            from rustfern.engine.dask import DaskEngine

            return DaskEngine(self._scheduler, prepare, self.door, self.root, self.where, self.door.limits)
        workers = min(cores(), _MOST_WORKERS)
        if workers < 2 or self.where.total() < _WORTH_PROCESSES or self.door.gentle.is_on or self.door.health.troubles:
            return None
        try:
            return LocalEngine(workers, prepare, self.door, self.root, self.where, self.door.limits)
        except OSError:
            return None

    def begin_about(self, copies: Iterable[Copy]) -> None:
        """Look first where files lie that were written about the time of the loss: what was written then lies near by, as a rule."""
        lost = self.hints.lost_at
        if lost is None:
            return
        then = [
            (abs(copy.entry.modified - lost), copy.entry.extents[0])
            for copy in copies
            if copy.entry.modified is not None and copy.entry.extents and abs(copy.entry.modified - lost) <= _ABOUT_THEN
        ]
        self.hunt.begin_with([place for _, place in sorted(then)])

    def run(self, known: Iterable[Sequence[Extent]]) -> None:
        """Search. `known` are the places of deleted files that records describe and that are whole. Raises `KeyboardInterrupt` when that comes: what was
        found until then is kept.
        """
        for extents in known:
            self.hunt.know(extents)
        if (told := self.store.state(Progress)) is not None:
            finds = list(self.store.finds(RawFind))
            self.hunt.resume(finds, told.begun, told.later, told.moment)
            for each in finds:
                self._note(each)
        self._stage = -1
        self._start_bytes = self.hunt.searched
        try:
            for found in self.hunt.run(self._pause):
                if found is not None:
                    self._fresh.append(found)
                    self._note(found)
        finally:
            self.hunt.end()
            self._keep(listing=False)  # the answer lists all of it in a moment

    def outcome(self, dismissed: Collection[tuple[int, int]] = ()) -> RawOutcome:
        """What is there so far, without what records show to be no documents: their (place, bytes)."""
        every = self.hunt.documents()
        finds = [each for each in every if (each.offset, each.size) not in dismissed]
        clutter = self.hunt.clutter + len(every) - len(finds)
        if self.hints.words:
            finds += loose_texts(self.held.disk.bytes, self.hunt.free, self.hints.words, self.door.limits)
        total = self.where.total()
        done = total if self.hunt.moment.stage else self.hunt.searched
        return RawOutcome(
            tuple(self._found(each) for each in finds), done, total, self.hunt.is_done, self.where.left_out, clutter,
            self.hunt.moment.not_joined,
        )  # fmt: skip

    def searched_in(self, start: int, size: int) -> int:
        """Bytes that were searched between two places of the disk."""
        if self.hunt.moment.stage:
            return self.where.within(start, size)
        return self.where.within(start, max(min(size, self.hunt.moment.position - start), 0))

    def _found(self, each: RawFind) -> Found:
        volume, _, _ = self.where.volume_at(each.offset)
        path = raw_path(f"{self.held.path}/{volume}" if volume else self.held.path, each.offset)
        caution = each.missing or (each.content.reason if each.content.state is State.DAMAGED else "")
        self.held.lay(each.offset, each.extents, caution)
        return Found(
            self.door.entry_at(self.root, path, each.extents, caution),
            each.content,
            each.missing,
            each.first,
            each.name == SWAP,
            each.name == PART,
        )

    def _pause(self) -> bool:
        now = time.monotonic()
        if now - self._said >= _SAID_EVERY:
            self._say(now)
        if now - self._kept >= _KEPT_EVERY:
            self._keep()
        if self.door.health.failing():
            return True
        return self._options.budget is not None and now - self._began >= self._options.budget

    def _keep(self, *, listing: bool = True) -> None:
        hunt = self.hunt
        state = Progress(hunt.moment, hunt.begun, list(hunt.later))
        try:
            self.store.keep([(each.offset, each) for each in self._fresh], state)
        except sqlite3.OperationalError:
            return  # another command writes to the case just now: the next time will do
        if listing:
            self._list([each for each in self._fresh if each.is_whole and not each.is_clutter and each.name != SWAP])
        self._fresh.clear()
        self._kept = time.monotonic()

    def _list(self, finds: Sequence[RawFind]) -> None:
        """Put finds into the case as documents of their own, so that they can be looked at and restored while the search goes on."""
        if self.case.path is None or not finds:
            return
        with suppress(CaseError), self.case.writing():
            for each in finds:
                document = document_of(self._found(each))
                number = self.case.number_for(document.key)
                copy = document.copies[0]
                ident = self.case.id_for(number, f"{copy.path}\0", copy.path, copy.entry.root)
                self.case.keep_document(
                    number, schema.document(replace(document, number=number, ids=(ident,)), self._clock)
                )
                self.listed[document.key] = number

    def _note(self, found: RawFind) -> None:
        if found.is_clutter:
            return
        self._count[class_of(found.content.format)] += 1
        title = found.content.glance.title or title_in(found.first)
        if title and found.is_whole:
            self._best = name_for(found.content, title, str(found.offset))

    def _say(self, now: float) -> None:
        self._said = now
        if self.hunt.moment.stage != self._stage:
            self._stage = self.hunt.moment.stage
            self.observer.stage(_STAGES[min(self._stage, len(_STAGES) - 1)])
        found = ", ".join(f"{number} {name}" for name, number in self._count.most_common(5)) or "nothing yet"
        last = f"; the last: {self._best}" if self._best else ""
        if self._stage:
            self.observer.going(f"found: {found}{last}")
            return
        total, done = self.where.total(), self.hunt.searched
        speed = (done - self._start_bytes) / max(now - self._began, 0.001)
        left = f", {_span((total - done) / speed)} left" if speed > 0 else ""
        share = done / total if total else 1.0
        self.observer.going(
            f"{shown_bytes(done)} of {shown_bytes(total)} ({share:.0%}), {shown_bytes(speed)}/s{left}; found: {found}{last}"
        )


def with_searched(disk: SearchedDisk, searches: Iterable[RawSearch]) -> SearchedDisk:
    """A disk with how many bytes of each volume were searched without records."""
    for search in searches:
        if search.held.path == disk.path:
            volumes = tuple(
                replace(each, searched_raw=search.searched_in(each.offset, each.size)) for each in disk.volumes
            )
            disk = replace(disk, volumes=volumes)
    return disk


def raw_notices(outcomes: Iterable[RawOutcome], more: int) -> list[Notice]:
    """What the raw searches left: `more` documents than are listed, time that was over, volumes that are only searched if asked for."""
    notices = [Notice(kind=About.RAW_MORE, count=more)] if more else []
    for outcome in outcomes:
        left = outcome.total - outcome.searched
        if not outcome.is_done:
            notices.append(Notice(kind=About.RAW_NOT_DONE, count=left, text=shown_bytes(left)))
        notices += [Notice(kind=About.RAW_LEFT_OUT, names=(name,), text=why) for name, why in outcome.left_out]
        if outcome.not_joined:
            notices.append(Notice(kind=About.RAW_NOT_JOINED, count=outcome.not_joined))
        if outcome.clutter:
            notices.append(Notice(kind=About.RAW_CLUTTER, count=outcome.clutter))
    return notices


def document_of(found: Found) -> Document:
    """A find as a document of its own, before it is matched with others."""
    entry, content = found.entry, found.content
    copy = Copy(entry, Kind.RAW, PLACE, content, None, clocks_of(entry, content))
    copy = assign_times([copy], Clock())[0]
    name = name_for(content, content.glance.title or title_in(found.first), entry.path)
    reason = Reason(kind=Why.STATE, copy=0)
    verdict = Verdict(Situation.DELETED, 0, (reason,), ())
    return Document(
        f"copy:{entry.path}", name, class_of(content.format), None, False, None, None, (copy,), (), (), verdict
    )  # fmt: skip


def identity(held: OpenDisk, where: Unclaimed) -> str:
    """What tells a disk, and what is free of it, from any other: a search goes on only where both are as they were."""
    digest = hashlib.sha256()
    disk = held.disk.bytes
    digest.update(f"{disk.size} {where.stretches}".encode())
    for at in (0, disk.size // 2, max(disk.size - _HEAD, 0)):
        try:
            digest.update(disk.read_at(at, _HEAD))
        except SourceError:
            digest.update(b"unread")
    return digest.hexdigest()


def title_of(door: Sources, copy: Copy) -> str | None:
    """What a find is called that its first words do not tell: pages, whose text is only read when it is asked for, and marked-up texts by their title."""
    if copy.content.state is State.ENCRYPTED or copy.content.format not in (*_TEXT_ON_DEMAND, *_MARKED_UP):
        return None
    told = with_title(door, copy).content.glance.title
    return None if told is None or told.startswith("<") else told


def shown_bytes(count: float) -> str:
    """An amount of bytes, for people."""
    for unit in ("bytes", "kB", "MB", "GB"):
        if count < 1000:
            return f"{count:.0f} {unit}" if unit in ("bytes", "kB") else f"{count:.1f} {unit}"
        count /= 1000
    return f"{count:.1f} TB"


def _span(seconds: float) -> str:
    minutes = int(seconds // 60)
    if minutes >= 120:
        return f"{minutes // 60} hours"
    return counted(minutes, "minute") if minutes else counted(int(seconds) + 1, "second")
