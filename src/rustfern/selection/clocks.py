"""When copies were written and by which clock, and which of two holds the later content."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta

from msgspec.structs import replace

from rustfern.core.model import CLOCKS, Content, Copy, Kind, Order, State
from rustfern.core.times import Clock
from rustfern.matching.evidence.by_content import difference, equal
from rustfern.matching.evidence.by_identity import later

_FAR = timedelta(days=2)
_UNSET = datetime(1980, 1, 3, tzinfo=UTC)
"""Clocks that were never set begin in 1601, 1970 or 1980."""
_STEP = timedelta(seconds=2)
_CLOCK_NAMES = {
    "content": "the time inside",
    "name": "the time in its name",
    "record": "the recorded time",
    "file": "the file's date",
}


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


def assign_times(copies: Sequence[Copy], clock: Clock, now: datetime | None = None) -> list[Copy]:
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
                    f"its clocks disagree: written {clock.format_time(inside)} by its own account, {clock.format_time(outside)} by the file's date"
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


def newest(copies: Sequence[Copy], indices: Sequence[int]) -> int | None:
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
    if len(order) < 2:
        return {}
    heads = _Heads(copies)
    out: dict[int, int] = {}
    for index in order:
        head = heads.of(copies[index].content)
        if head is None:
            heads.add(index)
        else:
            out[index] = head
    return out


class _Heads:
    """The versions told apart so far, by what can make contents equal: nothing is compared with thousands of the same format."""

    def __init__(self, copies: Sequence[Copy]) -> None:
        self._copies = copies
        self._by_sum: dict[tuple[str, str], list[int]] = {}
        self._by_format: dict[str | None, list[int]] = {}
        self._rank: dict[int, int] = {}

    @staticmethod
    def _sums(content: Content) -> Iterator[tuple[str, str]]:
        for kind in ("sha256", "pixel_hash", "text_hash"):
            if (value := getattr(content, kind)) is not None:
                yield kind, value

    def add(self, index: int) -> None:
        content = self._copies[index].content
        self._rank[index] = len(self._rank)
        for key in self._sums(content):
            self._by_sum.setdefault(key, []).append(index)
        if content.text_hash is not None:
            self._by_format.setdefault(content.format, []).append(index)

    def of(self, content: Content) -> int | None:
        """The first of the versions that a content is equal to."""
        likely = {index for key in self._sums(content) for index in self._by_sum.get(key, ())}
        if content.text_hash is not None:
            likely.update(index for name, there in self._by_format.items() if name != content.format for index in there)
        return next(
            (i for i in sorted(likely, key=self._rank.__getitem__) if equal(self._copies[i].content, content)), None
        )
