"""A document's life on one line of time: saves, autosaves, locks, deletions, the loss. From the contract's JSON fields."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

Json = dict[str, Any]


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened to a document at a time (aware UTC). `name` is a copy's id or what it is; `chosen`: the best copy."""

    name: str
    kind: str
    when: datetime
    says: str
    chosen: bool = False
    whole: bool = True


def _time(stamp: str | None) -> datetime | None:
    return datetime.strptime(stamp, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC) if stamp else None


def events(document: Json, copies: Sequence[Json], lost_at: datetime | None = None) -> list[Event]:
    """What is known of a document's life, the earliest first."""
    out = []
    for copy in copies:
        when = _time(copy["written"])
        if when is not None:
            says = f"{copy['state']}" + (f", {copy['words']} words" if copy["words"] is not None else "")
            out.append(
                Event(copy["id"], copy["kind"], when, says, copy["id"] == document["best"], copy["state"] == "intact")
            )
    for lock in document["locks"]:
        when = _time(lock["opened"])
        if when is not None:
            out.append(Event("lock", "opened", when, f"by {lock['owner'] or 'somebody'}"))
    for record in document["records"]:
        when = _time(record.get("when"))
        if when is not None:
            out.append(Event("record", record["type"], when, str(record.get("says", ""))))
    if lost_at is not None:
        out.append(Event("loss", "lost", lost_at, "as the person says"))
    return sorted(out, key=lambda event: (event.when, event.name))


def column(when: datetime, first: datetime, last: datetime, width: int) -> int:
    """The column of a time on an axis of so many columns from the first to the last."""
    span = (last - first).total_seconds()
    return round((when - first).total_seconds() / span * (width - 1)) if span > 0 else 0
