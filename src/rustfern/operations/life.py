"""A document's life on one line of time: saves, autosaves, locks, deletions, the loss."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import msgspec

from rustfern.core.answers import CopyAnswer, DocumentFacts
from rustfern.core.remarks import counted
from rustfern.core.times import from_stamp


class Event(msgspec.Struct, frozen=True):
    """Something that happened to a document at a time (aware UTC). `name` is a copy's id or what it is; `chosen`: the best copy."""

    name: str
    kind: str
    when: datetime
    says: str
    chosen: bool = False
    whole: bool = True


def events(document: DocumentFacts, copies: Sequence[CopyAnswer], lost_at: datetime | None = None) -> list[Event]:
    """What is known of a document's life, the earliest first."""
    out = []
    for copy in copies:
        if copy.written is not None:
            when = from_stamp(copy.written)
            says = f"{copy.state}" + (f", {counted(copy.words, 'word')}" if copy.words is not None else "")
            out.append(Event(copy.id or "", copy.kind, when, says, copy.id == document.best, copy.state == "intact"))
    for lock in document.locks:
        if lock.opened is not None:
            when = from_stamp(lock.opened)
            ended = "; its lock was deleted since" if lock.deleted else ""
            out.append(Event("lock", "opened", when, f"by {lock.owner or 'somebody'}{ended}"))
    for record in document.records:
        if record.when is not None:
            when = from_stamp(record.when)
            out.append(Event("record", record.type, when, str(record.says)))
    if lost_at is not None:
        out.append(Event("loss", "lost", lost_at, "as the person says"))
    return sorted(out, key=lambda event: (event.when, event.name))


def column(when: datetime, first: datetime, last: datetime, width: int) -> int:
    """The column of a time on an axis of so many columns from the first to the last."""
    span = (last - first).total_seconds()
    return round((when - first).total_seconds() / span * (width - 1)) if span > 0 else 0
