"""From copies to the most recent intact one: the situation, the reasons, the warnings. Opens no file.

The rules are those of `docs/choosing.md`. Times are compared clock by clock; content order beats clocks where it shows.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from rustfern.core.model import Copy, Hints, Kind, Order, Situation, State, Verdict
from rustfern.core.remarks import Caution, NextStep, Reason, Warn
from rustfern.matching.evidence import weights
from rustfern.matching.evidence.by_content import equal, parts_missing_from, share_kept, words_missing_from
from rustfern.selection import reasons
from rustfern.selection.clocks import assign_times, newer, newest, same_versions
from rustfern.selection.facts import Facts

__all__ = ["Facts", "assign_times", "choose", "newer", "same_versions"]

_OVERWRITTEN_SHARE = 0.5
"""A saved file that keeps less than this share of an earlier version's words was written over, not edited."""

_STRANGE_RUN_SHARE, _STRANGE_WORD_SHARE = 0.1, 0.8
"""Shares of an earlier version's runs of three words, and of its words, below which another text lies under its name."""
_FEW_WORDS = 4
_STAMPED = 3
_ABOUT = timedelta(minutes=2)
"""People tell times to the minute, give or take."""
_AMOUNTS = {"words": "words", "cells": "filled cells", "fields": "filled form fields"}


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
        self.excluded = [
            i for i, copy in enumerate(copies) if copy.content.state is State.INTACT and i not in self.intact
        ]
        self.others = [i for i in self.intact if i != facts.saved and not self._like_saved(i)]
        self.why: list[Reason] = []
        self.warnings: list[Warn] = []
        self.next_steps: list[NextStep] = []

    def _warn(self, kind: Caution, **about: Any) -> None:
        self.warnings.append(Warn(kind=kind, **about))

    def _like_saved(self, index: int) -> bool:
        return self.saved is not None and equal(self.copies[index].content, self.saved.content)

    def _own(self, index: int) -> int:
        """Words (else pictures inside; without words 1 for other bytes) that a copy has and the saved file lacks."""
        assert self.saved is not None
        mine, theirs = self.copies[index].content, self.saved.content
        if mine.text_hash is None or theirs.text_hash is None:
            return 0 if mine.sha256 == theirs.sha256 else 1
        return words_missing_from(mine, theirs) or (
            parts_missing_from(mine, theirs) if mine.format == theirs.format else 0
        )

    # --- what happened --------------------------------------------------------------------------------------------

    def situation(self) -> Situation:
        seen = self._by_evidence()
        told = self.hints.happened if self.facts.asked_for else None
        if self.facts.resaved:
            return Situation.MISPLACED
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
        if told is Situation.WONT_OPEN and self._other_format():
            return told
        if told is Situation.OVERWRITTEN and self.saved is not None and self.others:
            return told
        if told is Situation.DELETED and self.facts.trashed:
            return told
        if told is Situation.MISPLACED and (
            self.saved is None or (self.saved_whole and seen is Situation.NOTHING_LOST)
        ):
            return told
        if self.facts.named and (seen is Situation.NOTHING_LOST or self._only_earlier(told, seen)):
            return told
        if self._only_earlier(told, seen):
            return Situation.NOTHING_LOST
        return seen

    @staticmethod
    def _only_earlier(told: Situation, seen: Situation) -> bool:
        """Whether all that was seen is an earlier version, where the person speaks of work that came later."""
        return told is Situation.CRASHED and seen is Situation.OVERWRITTEN

    def _other_format(self) -> bool:
        """Whether the saved file is whole, but not what its name says."""
        return self.saved is not None and self.saved_whole and self.saved.extension_right is False

    def _newest_is_elsewhere(self) -> bool:
        return newest(self.copies, self._usable()) in self.facts.opened_elsewhere

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
        if self._unread():
            after = [i for i in self.others if not self._earlier(i)]
            unsaved = self.facts.open_then or any(newer(self.copies[i], self.saved)[0] > 0 for i in after)
            return Situation.CRASHED if after and unsaved else Situation.WONT_OPEN
        holders = [i for i in self.others if self._own(i)]
        later = [i for i in holders if not self._earlier(i)]
        ahead = [i for i in later if newer(self.copies[i], self.saved)[0] >= 0]
        if ahead:
            # A newer state of the file itself was deleted, and an older one stands in its place.
            replaced = all(self.copies[i].kind in (Kind.DELETED, Kind.RAW) for i in ahead)
            return Situation.OVERWRITTEN if replaced else Situation.CRASHED
        if any(self._written_over(i) for i in later):
            return Situation.OVERWRITTEN
        if later:
            return Situation.DIVERGED
        if self.facts.changed and not self._change_covered():
            return Situation.CRASHED
        if (self.facts.denied or any(not self._earlier(i) for i in self._unverified())) and self.facts.open_then:
            return Situation.CRASHED
        if self.saved is not None and self.facts.saved is not None and self._cut_work(self.facts.saved):
            return Situation.CRASHED
        # A conflict copy is another branch, not what stood there before.
        branches = [i for i in holders if self.copies[i].kind is Kind.CONFLICT]
        if any(newer(self.copies[i], self.saved)[0] >= 0 for i in branches):
            return Situation.DIVERGED
        before = [i for i in holders if i not in branches]
        return Situation.OVERWRITTEN if any(self._written_over(i) for i in before) else Situation.NOTHING_LOST

    def _written_over(self, index: int) -> bool:
        """Whether the saved file keeps so little of this earlier version that it was written over, not edited."""
        assert self.saved is not None
        earlier = self.copies[index].content
        by_words, by_runs = share_kept(earlier, self.saved.content)
        # Texts of one trade share words by chance, but hardly ever three in a row.
        strange = by_runs < _STRANGE_RUN_SHARE and by_words < _STRANGE_WORD_SHARE
        return len(earlier.tokens) >= 4 * _FEW_WORDS and (by_words < _OVERWRITTEN_SHARE or strange)

    def _unread(self) -> bool:
        """Whether the saved file could not be read: nothing can be compared with it."""
        content = self.saved.content if self.saved else None
        return content is not None and content.state is State.UNREADABLE and content.sha256 is None

    def _unverified(self) -> list[int]:
        """Copies beside the saved file that could not be read, or not be checked: what they hold is unknown."""
        states = enumerate(copy.content.state for copy in self.copies)
        return [i for i, state in states if state is State.UNREADABLE and i != self.facts.saved]

    def _earlier(self, index: int) -> bool:
        copy = self.copies[index]
        if copy.entry.deleted and self.saved is not None:
            # Programs delete what a save made superfluous: only what is newer than the saved file is unsaved work.
            return newer(copy, self.saved)[0] <= 0
        if copy.kind is Kind.VERSION and copy.order is Order.AFTER and self.saved is not None:
            # A service's copy of a file that is here too: either side may have gone on.
            return newer(copy, self.saved)[0] <= 0
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
        against = self._against_their_word(situation)
        if against:
            best = self.facts.saved if self.facts.saved in self.intact else self._any() if best is None else best
        if best is not None:
            best = self._stand_for(best)
            others = [i for i in self.intact if i != best and self.same.get(i, i) != self.same.get(best, best)]
            own = self._own(best) if self.saved_whole and best != self.facts.saved else 0
            chosen = reasons.Chosen(self.copies, best, self.facts.saved, others, own, situation)
            self.why += reasons.explain(chosen)
        if against:
            self.warnings.insert(0, Warn(kind=Caution.NOTHING_NEWER, copy=best, count=self.facts.places))
            self.next_steps += reasons.steps(self.facts, self.hints, self.excluded)
            self.why += reasons.without(self.copies, self.hints, self.excluded) if best is None else ()
        elif best is None and situation is not Situation.NOTHING_LOST:
            self.why += reasons.without(self.copies, self.hints, self.excluded)
            self.next_steps += reasons.steps(self.facts, self.hints, self.excluded)
        if situation is Situation.CRASHED and best is not None and best == self.facts.saved and self.facts.changed:
            self._warn(Caution.LAST_WORDS_GONE, copy=best)
        if self._other_format():
            assert self.saved is not None
            self.warnings.insert(
                0, Warn(kind=Caution.OTHER_FORMAT, copy=self.facts.saved, text=self.saved.content.format or "")
            )
        if situation is Situation.NOTHING_LOST and self.facts.locked and not (self.facts.in_use or self.facts.strays):
            self._warn(Caution.LOCK_LEFT, when=self.facts.locked_since)
        if self.facts.denied and situation in (Situation.NOTHING_LOST, Situation.CRASHED):
            self._warn(Caution.FOLDER_DENIED, names=tuple(self.facts.denied))
        if self.saved is not None and self._unread():
            self._warn(Caution.SAVED_UNREADABLE, copy=self.facts.saved)
        if best is not None and (unverified := self._unverified()):
            self._warn(Caution.COPY_UNVERIFIED, copy=unverified[0], count=len(unverified))
        if self.facts.strays and self.facts.locked and situation is Situation.NOTHING_LOST:
            self._warn(Caution.STRAY_AUTOSAVE, names=tuple(self.facts.strays))
        fresh = best is not None and self.copies[best].kind in (Kind.SAVED, Kind.AUTOSAVE)
        if self.facts.strays and situation is Situation.WONT_OPEN and best is not None and not fresh:
            self._warn(Caution.STRAY_MAY_BE_NEWER, names=tuple(self.facts.strays))
        if best is not None and (more := self._damaged_with_more(best)):
            self._warn(Caution.DAMAGED_HOLDS_MORE, copy=more[0], count=more[1])
        self._stamped()
        if self.facts.away:
            self._warn(Caution.LIES_OUTSIDE, text=self.facts.away)
        if self.facts.elsewhere and self.saved is None:
            self._warn(Caution.SAME_NAME_ELSEWHERE, names=tuple(self.facts.elsewhere))
        return Verdict(situation, best, tuple(self.why), tuple(self.warnings), tuple(self.next_steps))

    def _against_their_word(self, situation: Situation) -> bool:
        """Whether the situation rests on the person's word alone: no copy shows anything of it."""
        told = self.hints.happened if self.facts.asked_for else None
        if situation is not told or not self.facts.named or self._other_format():
            return False
        seen = self._by_evidence()
        nothing = seen is Situation.NOTHING_LOST or self._only_earlier(told, seen)
        return nothing and not (told is Situation.OVERWRITTEN and self.others) and not self.facts.trashed

    def _damaged_with_more(self, best: int) -> tuple[int, int] | None:
        """The damaged copy that is newer than the best one and shows most words that it lacks, and how many; None if there is none."""
        chosen = self.copies[best]
        found = [
            (words_missing_from(copy.content, chosen.content), i)
            for i, copy in enumerate(self.copies)
            if copy.content.state is State.DAMAGED and copy.content.tokens and newer(copy, chosen)[0] > 0
        ]
        words, index = max(found, default=(0, 0))
        return (index, words) if words else None

    def _cut_work(self, saved: int) -> bool:
        """Whether a copy that is cut, but was being written after the saved file, shows words that it lacks."""
        found = self._damaged_with_more(saved)
        return found is not None and found[1] > _FEW_WORDS and not self._earlier(found[0])

    def _stamped(self) -> None:
        """Dates that are all the same tell when the files were copied, not when they were written."""
        times = {copy.clocks["file"] for copy in self.copies if "file" in copy.clocks}
        versions = len(self.copies) - len(self.same)
        if len(times) == 1 and len(self.copies) >= _STAMPED and versions > 1:
            self._warn(Caution.ONE_DATE, when=times.pop())

    def _stand_for(self, index: int) -> int:
        """The saved file stands for copies of equal content."""
        head = self.same.get(index, index)
        return head if head == self.facts.saved and head in self.intact else index

    def _without_doubtful(self, pool: list[int]) -> list[int]:
        """Copies that only possibly belong to the document do not stand before ones that surely do: a newer one of them is named."""
        sure = [i for i in pool if self.copies[i].confidence >= weights.LIKELY]
        if not any(i != self.facts.saved for i in sure):
            return pool
        best = newest(self.copies, sure)
        doubtful = [i for i in pool if i not in sure]
        newer_ones = [i for i in doubtful if best is not None and newer(self.copies[i], self.copies[best])[0] > 0]
        if newer_ones:
            self._warn(Caution.NEWER_MAY_BE_ANOTHERS, copy=newer_ones[-1])
        return sure

    def _usable(self) -> list[int]:
        return [i for i in self.intact if self.copies[i].kind is not Kind.CONFLICT] or self.intact

    def _after_crash(self) -> int | None:
        pool = [i for i in self._usable() if i == self.facts.saved or not self._earlier(i) or self.saved is None]
        pool = self._without_doubtful(pool or self._usable())
        # Where no order shows, what holds something that the saved file lacks comes first.
        best = newest(self.copies, sorted(pool, key=lambda i: i == self.facts.saved or i not in self.others))
        if (
            best is not None
            and best in self.others
            and self.saved is not None
            and newer(self.copies[best], self.saved)[0] == 0
        ):
            self._warn(Caution.ORDER_UNKNOWN, copy=best)
        return self._fuller(best)

    def _fuller(self, best: int | None) -> int | None:
        """Poorer but newer: the newer one if it holds anything of its own, else the fuller; both amounts are said."""
        if best is None or self.saved is None or best == self.facts.saved or not self.saved_whole:
            return best
        mine, theirs = self.copies[best].content.amounts, self.saved.content.amounts
        poorer = [what for what in _AMOUNTS if mine.get(what, 0) * 2 < theirs.get(what, 0)]
        if not poorer:
            return best
        what = poorer[0]
        kind = Caution.NEWER_IS_POORER if self._own(best) else Caution.FULLER_TAKEN
        self._warn(kind, less=mine.get(what, 0), count=theirs[what], unit=_AMOUNTS[what])
        if kind is Caution.NEWER_IS_POORER:
            return best
        return self.facts.saved

    def _after_diverging(self) -> int | None:
        holders = [i for i in self.others if self._own(i) and not self._earlier(i)]
        best = newest(self.copies, holders)
        if best is None and self.saved is not None:
            return self._after_branching()
        if best is not None and self.saved is not None:
            back = words_missing_from(self.saved.content, self.copies[best].content)
            self._warn(Caution.SAVED_WENT_ON, copy=self.facts.saved, other=best, less=back, count=self._own(best))
        return best

    def _after_branching(self) -> int | None:
        """A conflict copy is best only if it holds all of the saved file; else the saved file, and the other branch is named."""
        assert self.saved is not None
        branches = [i for i in self.others if self.copies[i].kind is Kind.CONFLICT and self._own(i)]
        best = newest(self.copies, branches)
        if best is None:
            return self.facts.saved
        back = words_missing_from(self.saved.content, self.copies[best].content)
        if not back and self.copies[best].content.words is not None:
            return best
        self._warn(Caution.OTHER_BRANCH, copy=best, count=self._own(best), less=back)
        return self.facts.saved

    def _before_overwriting(self) -> int | None:
        pool = [i for i in self.others if self.copies[i].kind is not Kind.CONFLICT]
        pool = [i for i in pool if self.saved is None or self._own(i)] or pool
        lost_at = self.hints.lost_at if self.facts.asked_for else None
        if lost_at is not None:
            # What was written after that is of the text that was saved over it.
            pool = [
                i for i in pool if (when := self.copies[i].written) is not None and when <= lost_at + _ABOUT
            ] or pool
        return newest(self.copies, pool)

    def _before_deletion(self) -> int | None:
        in_trash = [i for i in self.intact if self.copies[i].kind is Kind.TRASH]
        dated = [i for i in in_trash if i in self.facts.deleted]
        best = max(dated, key=lambda i: self.facts.deleted[i]) if dated else newest(self.copies, in_trash)
        rest = [i for i in self._usable() if i not in in_trash and i != self.facts.saved]
        if best is None:
            return newest(self.copies, rest)
        for index in rest:
            if newer(self.copies[index], self.copies[best])[0] > 0 and not self._earlier(index):
                best = index
        return best

    def _any(self) -> int | None:
        return newest(self.copies, self._usable())

    def _nothing(self) -> int | None:
        for index in self.others:
            if self.saved is not None and (own := self._own(index)):
                self._warn(Caution.EARLIER_DIFFERS, copy=index, count=own)
                break
        return newest(self.copies, self._usable()) if self.facts.in_use else self.facts.saved
