"""What was asked for and fits nothing that was found: said in the first line, with the nearest thing."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from rustfern.core.model import Document, Hints, Situation
from rustfern.core.remarks import About, Caution, Notice
from rustfern.core.times import Clock
from rustfern.selection.ranking import name_match

_FAR_OFF = timedelta(days=2)
"""From here on, the time of a loss and the nearest copy do not go together."""
_MAX_MEANT = 5
"""With more documents of a name than this, it does not tell which one the person means."""
_SAME_FIT = 0.02


def meant(documents: Sequence[Document], asked: str | None) -> list[int]:
    """The documents that the person means, by their place in the list: those that fit what was asked for best, if they are few."""
    if asked is None:
        return []
    fits = [name_match(asked, each.name, each.original) for each in documents]
    best = max(fits, default=0.0)
    found = [i for i, fit in enumerate(fits) if fit >= max(best - _SAME_FIT, 0.6)]
    return found if len(found) <= _MAX_MEANT else []


def is_found(document: Document) -> bool:
    """Whether anything shows that something of this document was lost, other than the person's word."""
    lost = document.is_lost
    return lost and not any(each.kind is Caution.NOTHING_NEWER for each in document.verdict.warnings)


def unmet(documents: Sequence[Document], hints: Hints, now: datetime, clock: Clock) -> list[Notice]:
    """The hints that fit nothing, but for the name and the words, of which those know who looked for them."""
    return [*_class(documents, hints), *_time(documents, hints, now, clock), *_told(documents, hints)]


def _class(documents: Sequence[Document], hints: Hints) -> list[Notice]:
    if hints.doc_class is None or any(each.doc_class == hints.doc_class for each in documents):
        return []
    there = sorted({str(each.doc_class) for each in documents if each.doc_class and is_found(each)})
    return [Notice(kind=About.NO_SUCH_CLASS, names=(str(hints.doc_class), *there))]


def _time(documents: Sequence[Document], hints: Hints, now: datetime, clock: Clock) -> list[Notice]:
    lost_at = hints.lost_at
    if lost_at is None:
        return []
    told = clock.format_time(lost_at)
    if lost_at > now:
        return [Notice(kind=About.TIME_TO_COME, when=lost_at, text=told)]
    times = [copy.written for each in documents for copy in each.copies if copy.written]
    nearest = min(times, key=lambda time: abs(time - lost_at), default=None)
    if nearest is None or abs(nearest - lost_at) < _FAR_OFF:
        return []
    side = "later" if nearest > lost_at else "earlier"
    return [
        Notice(
            kind=About.TIME_FAR_OFF, when=lost_at, names=(clock.format_time(nearest), side), count=abs(nearest - lost_at).days, text=told
        )
    ]  # fmt: skip


_TOLD = {
    Situation.CRASHED: "work that a crash took", Situation.NEVER_SAVED: "a document that was never saved",
    Situation.OVERWRITTEN: "a file that was saved over", Situation.DELETED: "a deleted file",
    Situation.WONT_OPEN: "a file that does not open", Situation.MISPLACED: "a file that was saved elsewhere",
    Situation.DIVERGED: "a file that went two ways", Situation.NOTHING_LOST: "without loss",
}  # fmt: skip


def _told(documents: Sequence[Document], hints: Hints) -> list[Notice]:
    """Nothing is as the person told, in what was asked for."""
    if hints.happened is None or any(each.verdict.situation is hints.happened for each in documents):
        return []
    return [Notice(kind=About.NOT_AS_TOLD, names=(_TOLD[hints.happened],))]
