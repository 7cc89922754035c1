"""From copies to the most recent intact one: the situation, the reasons, the warnings. Opens no file.

The rules are those of `docs/choosing.md`. Times are compared clock by clock; content order beats clocks where it shows.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta

from rustfern.matching.content import difference, equal, kept, lacks
from rustfern.matching.identity import later
from rustfern.matching.weights import in_words
from rustfern.model import CLOCKS, Copy, Hints, Kind, Order, Situation, State, Verdict, show_name
from rustfern.times import minute

_FAR = timedelta(days=2)
_OVERWRITTEN_SHARE = 0.5
"""A saved file that keeps less than this share of an earlier version's words was written over, not edited."""

_STRANGE_RUNS, _STRANGE_WORDS = 0.1, 0.8
"""So little of an earlier version's runs of three words, and not nearly all of its words: another text under its name."""
_FEW_WORDS = 4
_UNSET = datetime(1980, 1, 3, tzinfo=UTC)
"""Clocks that were never set begin in 1601, 1970 or 1980."""
_STEP = timedelta(seconds=2)
_CLOCK_NAMES = {
    "content": "the time inside",
    "name": "the time in its name",
    "record": "the recorded time",
    "file": "the file's date",
}
_STAMPED = 3


@dataclass(frozen=True, slots=True)
class Facts:
    """What is known about one document besides its copies. `deleted` maps a copy's place in the list to its deletion;
    `denied` are folders of copies in its home that could not be read, `elsewhere` files of its name in other folders, `away`
    says where the original was recorded if that is outside of what is searched. `misplaced`: it was opened in a mail or archive
    program, or (`misnamed`) lies under a name that does not show it; `in_use`: a store of
    notes that is where it belongs; `opened_elsewhere` are the copies that lie there; `strays` are autosaves
    of its kind whose document could not be told.
    """

    original: str | None
    saved: int | None
    locked: bool = False
    listed: bool = False
    never_saved: bool = False
    changed_since: datetime | None = None
    changed: bool = False
    trashed: bool = False
    misplaced: bool = False
    misnamed: bool = False
    in_use: bool = False
    opened_elsewhere: AbstractSet[int] = frozenset()
    deleted: Mapping[int, datetime] = field(default_factory=dict)
    denied: Sequence[str] = ()
    elsewhere: Sequence[str] = ()
    away: str | None = None
    strays: Sequence[str] = ()
    asked_for: bool = True

    @property
    def open_then(self) -> bool:
        """Whether a lock or a recovery list shows it open in a session that did not end in order."""
        return self.locked or self.listed


def at(time: datetime | None) -> str:
    """A time for people, in this machine's zone."""
    return minute(time) if time else "an unknown time"


def _plausible(copy: Copy, now: datetime) -> Copy:
    """A copy without the times that can be none: clocks that were never set, and the future."""
    odd = {name: time for name, time in copy.clocks.items() if time < _UNSET or time > now + _FAR}
    if not odd:
        return copy
    said = ", ".join(f"{_CLOCK_NAMES[name]} {time:%Y-%m-%d}" for name, time in odd.items())
    kept = {name: time for name, time in copy.clocks.items() if name not in odd}
    return replace(
        copy, clocks=kept, notes=(*copy.notes, f"not believed: {said} (a clock that was not set, or in the future)")
    )


def date(copies: Sequence[Copy], now: datetime | None = None) -> list[Copy]:
    """Say of each copy when it was written and by which clock. Times that can be none are not believed.

    A clock inside the content is believed unless it stands still: two different versions carry the same time, or it is
    far from the file's and equal to the time the document was made (a template's time).
    """
    copies = [_plausible(copy, now or datetime.now(UTC)) for copy in copies]
    inner: dict[datetime, set[str | None]] = {}
    for copy in copies:
        if "content" in copy.clocks:
            inner.setdefault(copy.clocks["content"], set()).add(copy.content.text_hash or copy.content.sha256)
    out = []
    for copy in copies:
        clocks = copy.clocks
        chosen = next((name for name in CLOCKS if name in clocks), None)
        notes = list(copy.notes)
        if chosen == "content" and "file" in clocks:
            inside, outside = clocks["content"], clocks["file"]
            made = copy.content.glance.created
            still = len(inner[inside]) > 1 or (made == inside and abs(outside - inside) > _FAR)
            if still or inside > outside + _FAR:
                chosen = next((name for name in ("record", "name", "file") if name in clocks), "file")
            elif abs(outside - inside) > _FAR:
                notes.append(
                    f"its clocks disagree: written {at(inside)} by its own account, {at(outside)} by the file's date"
                )
        written = clocks.get(chosen) if chosen else None
        out.append(replace(copy, written=written, written_from=chosen or "file", notes=tuple(notes)))
    return out


def newer(left: Copy, right: Copy) -> tuple[int, str]:
    """Which of two copies has the later content: 1 left, -1 right, 0 not to be told; and by what it shows.

    A copy made before saving is never newer than the saved file. One that holds all words of the other and more is
    newer. Then the clocks, one after the other; one counts only if both copies have it and it differs.
    """
    if left.kind is Kind.SAVED and right.order is Order.BEFORE:
        return 1, "it is made before a save"
    if right.kind is Kind.SAVED and left.order is Order.BEFORE:
        return -1, "it is made before a save"
    if left.content.tokens and right.content.tokens and not equal(left.content, right.content):
        found = difference(left.content, right.content)
        if found.only_right == 0 and found.only_left > 0:
            return 1, "content"
        if found.only_left == 0 and found.only_right > 0:
            return -1, "content"
    if order := later(left.content, right.content):
        return order, "content"
    for clock in CLOCKS:
        mine, theirs = left.clocks.get(clock), right.clocks.get(clock)
        if mine is not None and theirs is not None and not _same_time(clock, mine, theirs):
            return (1 if mine > theirs else -1), clock
    if (left.order is Order.BEFORE) != (right.order is Order.BEFORE) and Kind.SAVED not in (left.kind, right.kind):
        return (-1 if left.order is Order.BEFORE else 1), "it is made before a save"
    return 0, "nothing"


def _same_time(clock: str, left: datetime, right: datetime) -> bool:
    """Whether two times of one clock order nothing. Some disks keep file times in steps of two seconds (FAT)."""
    coarse = any(not time.microsecond and not time.second % 2 for time in (left, right))
    return left == right or (clock == "file" and coarse and abs(left - right) < _STEP)


def _newest(copies: Sequence[Copy], indices: Sequence[int]) -> int | None:
    best: int | None = None
    for index in indices:
        if best is None or newer(copies[index], copies[best])[0] > 0:
            best = index
    return best


def same_versions(copies: Sequence[Copy], saved: int | None) -> dict[int, int]:
    """Copies of equal content are one version: index → index of the one that stands for it (saved, else the earliest)."""
    order = sorted(
        (i for i, copy in enumerate(copies) if copy.content.state in (State.INTACT, State.ENCRYPTED, State.UNREADABLE)),
        key=lambda i: (i != saved, copies[i].written is None, copies[i].written),
    )
    heads: list[int] = []
    out: dict[int, int] = {}
    for index in order:
        head = next((h for h in heads if equal(copies[h].content, copies[index].content)), None)
        if head is None:
            heads.append(index)
        else:
            out[index] = head
    return out


def choose(copies: Sequence[Copy], facts: Facts, hints: Hints) -> Verdict:
    """The situation of one document and its most recent intact copy, with reasons. `copies` must have been dated."""
    return _Choice(copies, facts, hints).verdict()


class _Choice:
    def __init__(self, copies: Sequence[Copy], facts: Facts, hints: Hints) -> None:
        self.copies, self.facts, self.hints = copies, facts, hints
        self.same = same_versions(copies, facts.saved)
        self.saved = copies[facts.saved] if facts.saved is not None else None
        self.saved_whole = self.saved is not None and self.saved.content.state is State.INTACT
        limit = hints.older_than if facts.asked_for else None
        self.intact = [
            i
            for i, copy in enumerate(copies)
            if copy.content.state is State.INTACT
            and (limit is None or (copy.written is not None and copy.written < limit))
        ]
        self.others = [i for i in self.intact if i != facts.saved and not self._like_saved(i)]
        self.why: list[str] = []
        self.warnings: list[str] = []

    def _like_saved(self, index: int) -> bool:
        return self.saved is not None and equal(self.copies[index].content, self.saved.content)

    def _own(self, index: int) -> int:
        """Words (or, without words, 1 for other bytes) that a copy has and the saved file lacks."""
        assert self.saved is not None
        mine, theirs = self.copies[index].content, self.saved.content
        if mine.text_hash is None or theirs.text_hash is None:
            return 0 if mine.sha256 == theirs.sha256 else 1
        return lacks(mine, theirs)

    # --- what happened --------------------------------------------------------------------------------------------

    def situation(self) -> Situation:
        seen = self._by_evidence()
        told = self.hints.happened if self.facts.asked_for else None
        if self.facts.misplaced and seen is not Situation.WONT_OPEN:
            if (
                told is Situation.MISPLACED
                or self.facts.misnamed
                or (self.facts.locked and not self.facts.opened_elsewhere)
            ):
                return Situation.MISPLACED
            if seen in (Situation.CRASHED, Situation.DIVERGED) and self._newest_is_elsewhere():
                return Situation.MISPLACED
        if told is None or told is seen:
            return seen
        if told is Situation.OVERWRITTEN and self.saved is not None and self.others:
            return told
        if told is Situation.DELETED and self.facts.trashed:
            return told
        if told is Situation.CRASHED and seen is Situation.OVERWRITTEN:
            return Situation.NOTHING_LOST
        if told is Situation.MISPLACED and self.saved is None:
            return told
        return seen

    def _newest_is_elsewhere(self) -> bool:
        return _newest(self.copies, self._usable()) in self.facts.opened_elsewhere

    def _by_evidence(self) -> Situation:
        if self.facts.in_use:
            return Situation.NOTHING_LOST
        if self.facts.original is None:
            deleted = self.facts.trashed or any(copy.kind is Kind.TRASH for copy in self.copies)
            return Situation.DELETED if deleted else Situation.NEVER_SAVED
        if self.facts.away and not self.facts.trashed:
            unsaved = any(not self._earlier(i) for i in range(len(self.copies)))
            return Situation.CRASHED if unsaved or self.facts.changed else Situation.NOTHING_LOST
        if self.saved is None:
            unsaved = any(copy.kind in (Kind.AUTOSAVE, Kind.SWAP, Kind.TEMPORARY) for copy in self.copies)
            ended = (self.facts.locked and unsaved) or self.facts.changed
            return Situation.CRASHED if ended and not self.facts.trashed else Situation.DELETED
        if self.saved.content.state is State.DAMAGED:
            return Situation.WONT_OPEN
        if self.saved.content.state is State.EMPTY:
            return Situation.OVERWRITTEN if self.others else Situation.NOTHING_LOST
        holders = [i for i in self.others if self._own(i)]
        later = [i for i in holders if not self._earlier(i)]
        if any(newer(self.copies[i], self.saved)[0] >= 0 for i in later):
            return Situation.CRASHED
        if any(self._written_over(i) for i in later):
            return Situation.OVERWRITTEN
        if later:
            return Situation.DIVERGED
        if self.facts.changed and not self._change_covered():
            return Situation.CRASHED
        if self.facts.denied and self.facts.open_then:
            return Situation.CRASHED
        # A conflict copy is another branch, not what stood there before.
        before = [i for i in holders if self.copies[i].kind is not Kind.CONFLICT]
        return Situation.OVERWRITTEN if any(self._written_over(i) for i in before) else Situation.NOTHING_LOST

    def _written_over(self, index: int) -> bool:
        """Whether the saved file keeps so little of this earlier version that it was written over, not edited."""
        assert self.saved is not None
        earlier = self.copies[index].content
        by_words, by_runs = kept(earlier, self.saved.content)
        # Texts of one trade share words by chance, but hardly ever three in a row.
        strange = by_runs < _STRANGE_RUNS and by_words < _STRANGE_WORDS
        return len(earlier.tokens) >= 4 * _FEW_WORDS and (by_words < _OVERWRITTEN_SHARE or strange)

    def _earlier(self, index: int) -> bool:
        copy = self.copies[index]
        return copy.order is Order.BEFORE or copy.kind in (Kind.TRASH, Kind.VERSION, Kind.CONFLICT)

    def _change_covered(self) -> bool:
        """Whether the recorded change lies in a copy that is whole, or the file was saved afterwards."""
        if any(self.copies[i].kind is Kind.AUTOSAVE for i in self.intact):
            return True
        saved_at = self.saved.clocks.get("file") if self.saved else None
        since = self.facts.changed_since
        return saved_at is not None and since is not None and saved_at >= since

    # --- which copy -----------------------------------------------------------------------------------------------

    def verdict(self) -> Verdict:
        situation = self.situation()
        picker = {
            Situation.CRASHED: self._after_crash,
            Situation.DIVERGED: self._after_diverging,
            Situation.OVERWRITTEN: self._before_overwriting,
            Situation.DELETED: self._before_deletion,
            Situation.NOTHING_LOST: self._nothing,
        }.get(situation, self._any)
        best = picker()
        if best is not None:
            best = self._stand_for(best)
            self._explain(best, situation)
        elif situation is not Situation.NOTHING_LOST:
            self._without()
        if situation is Situation.CRASHED and best is not None and best == self.facts.saved and self.facts.changed:
            since = f" after {at(self.copies[best].written)}"
            self.warnings.append(
                f"what was typed{since} is in no copy that could be read: the saved file is the best there is"
            )
        if self.facts.denied and situation in (Situation.NOTHING_LOST, Situation.CRASHED):
            self.warnings.append(
                f"not certain: a folder of copies could not be read ({show_name(self.facts.denied[0])})"
            )
        if self.facts.strays and self.facts.locked and situation is Situation.NOTHING_LOST:
            self.warnings.append(
                f"not certain: it was open, and an autosave whose document could not be told may be of it "
                f"({show_name(self.facts.strays[0])}): look at that too"
            )
        self._stamped()
        if self.facts.away:
            self.warnings.append(show_name(self.facts.away))
        if self.facts.elsewhere and self.saved is None:
            there = show_name(self.facts.elsewhere[0])
            self.warnings.append(f"not certain that it is gone: a file of this name lies in another folder: {there}")
        return Verdict(situation, best, tuple(self.why), tuple(self.warnings))

    def _stamped(self) -> None:
        """Dates that are all the same tell when the files were copied, not when they were written."""
        times = {copy.clocks["file"] for copy in self.copies if "file" in copy.clocks}
        versions = len(self.copies) - len(self.same)
        if len(times) == 1 and len(self.copies) >= _STAMPED and versions > 1:
            self.warnings.append(
                f"all its files carry one date ({at(times.pop())}), as copying stamps them: the order rests on contents and names"
            )

    def _stand_for(self, index: int) -> int:
        """The saved file stands for copies of equal content."""
        head = self.same.get(index, index)
        return head if head == self.facts.saved and head in self.intact else index

    def _usable(self) -> list[int]:
        return [i for i in self.intact if self.copies[i].kind is not Kind.CONFLICT] or self.intact

    def _after_crash(self) -> int | None:
        pool = [i for i in self._usable() if i == self.facts.saved or not self._earlier(i) or self.saved is None]
        pool = pool or self._usable()
        # Where no order shows, what holds something that the saved file lacks comes first.
        best = _newest(self.copies, sorted(pool, key=lambda i: i == self.facts.saved or i not in self.others))
        if (
            best is not None
            and best in self.others
            and self.saved is not None
            and newer(self.copies[best], self.saved)[0] == 0
        ):
            self.warnings.append("nothing tells whether this copy or the saved file is newer: look at both, keep both")
        return self._fuller(best)

    def _fuller(self, best: int | None) -> int | None:
        """Poorer but newer: the newer one if it holds anything of its own, else the fuller; both amounts are said."""
        if best is None or self.saved is None or best == self.facts.saved or not self.saved_whole:
            return best
        mine, theirs = self.copies[best].content, self.saved.content
        if mine.words is None or theirs.words is None or mine.words * 2 >= theirs.words:
            return best
        amounts = f"the newer copy has {mine.words} words, the saved file {theirs.words}"
        if self._own(best):
            self.warnings.append(f"{amounts}: look at both before restoring")
            return best
        self.warnings.append(f"{amounts} and all of these: the saved file is taken")
        return self.facts.saved

    def _after_diverging(self) -> int | None:
        holders = [i for i in self.others if self._own(i) and not self._earlier(i)]
        best = _newest(self.copies, holders)
        if best is not None and self.saved is not None:
            back = lacks(self.saved.content, self.copies[best].content)
            self.warnings.append(
                f"keep both: the saved file went on ({at(self.saved.written)}), it has {back} words that this copy lacks, "
                f"and lacks {self._own(best)} that this copy has"
            )
        return best

    def _before_overwriting(self) -> int | None:
        pool = [i for i in self.others if self.copies[i].kind is not Kind.CONFLICT]
        return _newest(self.copies, [i for i in pool if self.saved is None or self._own(i)] or pool)

    def _before_deletion(self) -> int | None:
        in_trash = [i for i in self.intact if self.copies[i].kind is Kind.TRASH]
        dated = [i for i in in_trash if i in self.facts.deleted]
        best = max(dated, key=lambda i: self.facts.deleted[i]) if dated else _newest(self.copies, in_trash)
        rest = [i for i in self._usable() if i not in in_trash and i != self.facts.saved]
        if best is None:
            return _newest(self.copies, rest)
        for index in rest:
            if newer(self.copies[index], self.copies[best])[0] > 0 and not self._earlier(index):
                best = index
        return best

    def _any(self) -> int | None:
        return _newest(self.copies, self._usable())

    def _nothing(self) -> int | None:
        for index in self.others:
            if self.saved is not None and (own := self._own(index)):
                kind = self.copies[index].kind
                self.warnings.append(
                    f"an earlier version ({kind}, {at(self.copies[index].written)}) has {own} words that the saved file lacks"
                )
                break
        return _newest(self.copies, self._usable()) if self.facts.in_use else self.facts.saved

    # --- reasons --------------------------------------------------------------------------------------------------

    def _explain(self, best: int, situation: Situation) -> None:
        copy = self.copies[best]
        if best == self.facts.saved:
            self.why.append(
                f"the saved file is whole and no newer copy holds anything that it lacks ({copy.content.reason})"
            )
        else:
            strongest = max(copy.evidence, key=lambda piece: piece.weight, default=None)
            because = f": {strongest.text}" if strongest else ""
            self.why.append(f"it belongs to this document ({in_words(copy.confidence)}){because}")
            self.why.append(
                f"{_NEWEST.get(situation, 'it is the newest copy that is whole')}: written {at(copy.written)} by the "
                f"{_CLOCK_WORDS[copy.written_from]}"
            )
            self.why.append(f"it is {copy.content.state}: {copy.content.reason}")
        if self.saved is not None and best != self.facts.saved:
            if self.saved_whole and (own := self._own(best)) and copy.content.words is not None:
                self.why.append(f"it has {own} words that the saved file ({at(self.saved.written)}) lacks")
            elif not self.saved_whole:
                self.why.append(f"the saved file is {self.saved.content.state}: {self.saved.content.reason}")
        rest = [i for i in self.intact if i != best and self.same.get(i, i) != self.same.get(best, best)]
        second = _newest(self.copies, rest)
        if second is not None and best != self.facts.saved:
            other = self.copies[second]
            lacking = lacks(copy.content, other.content) if other.content.words is not None else 0
            more = f", which lacks {lacking} of its words" if lacking else ""
            self.why.append(f"the next best is the {_KIND_WORDS[other.kind]} of {at(other.written)}{more}")

    def _without(self) -> None:
        partial = [c for c in self.copies if c.content.state is State.DAMAGED and c.content.words]
        locked = [c for c in self.copies if c.content.state is State.ENCRYPTED]
        unknown = [c for c in self.copies if c.content.state is State.UNREADABLE]
        if not self.copies:
            self.why.append("only traces of it were found, no copy of its content")
        if partial:
            words = max(c.content.words or 0 for c in partial)
            self.why.append(f"no copy is whole; a damaged one still shows {words} words")
        elif self.copies and not locked and not unknown:
            self.why.append("no copy is whole")
        if locked:
            self.why.append(
                "a copy is protected by a password: it can be restored and opened by its owner, but not verified here"
            )
        if unknown:
            self.why.append(f"a copy could not be verified: {unknown[0].content.reason}")
        if self.hints.older_than and self.facts.asked_for:
            self.why.append(f"only copies before {at(self.hints.older_than)} were asked for (--older-than)")
        self.why.append(
            "try next: folders that were denied or not attached, snapshots and backups, the person's sent mail, the trash of sticks and shares"
        )


_NEWEST = {
    Situation.DIVERGED: "it is the newest whole copy with words that the saved file lacks",
    Situation.OVERWRITTEN: "it is the newest whole copy with other content than the saved file",
    Situation.DELETED: "it is what was deleted last, or a later copy",
}
_CLOCK_WORDS = {
    "content": "document's own clock",
    "record": "record's clock",
    "name": "time in its name",
    "file": "file's date",
}
_KIND_WORDS = {
    Kind.SAVED: "saved file",
    Kind.AUTOSAVE: "autosave",
    Kind.BACKUP: "backup copy",
    Kind.TEMPORARY: "temporary copy",
    Kind.SWAP: "swap file",
    Kind.TRASH: "copy in the trash",
    Kind.VERSION: "older version",
    Kind.CONFLICT: "conflict copy",
}
