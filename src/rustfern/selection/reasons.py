"""Why this copy and not another; and what to try where no copy is whole, in the order of the work."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from rustfern.core.model import Copy, Hints, Situation, State
from rustfern.core.remarks import NextStep, Reason, Step, Why
from rustfern.matching.evidence.by_content import words_missing_from
from rustfern.selection.clocks import newest
from rustfern.selection.facts import Facts


class Chosen(msgspec.Struct, frozen=True):
    """A choice to give reasons for: `best` and `others` (whole copies of other content) by their place in the list of copies;
    `own` is how many words the best copy has that the saved file lacks (1 for other bytes where there are no words).
    """

    copies: Sequence[Copy]
    best: int
    saved: int | None
    others: Sequence[int]
    own: int
    situation: Situation


def explain(chosen: Chosen) -> list[Reason]:
    """The reasons for a choice: the evidence, the clock, the state, what the saved file and the runner-up lack."""
    best = chosen.best
    copy = chosen.copies[best]
    if best == chosen.saved:
        diverged = chosen.situation is Situation.DIVERGED
        return [Reason(kind=Why.SAVED_IS_A_BRANCH if diverged else Why.SAVED_STANDS, copy=best)]
    strongest = max(copy.evidence, key=lambda piece: piece.weight, default=None)
    why = [
        Reason(kind=Why.BELONGS, copy=best, text=strongest.text if strongest else ""),
        Reason(kind=Why.NEWEST, copy=best),
        Reason(kind=Why.STATE, copy=best),
    ]
    against = min(copy.evidence, key=lambda piece: piece.weight, default=None)
    if against is not None and against.weight < 0:
        why.insert(1, Reason(kind=Why.AGAINST, text=against.text))
    if chosen.saved is not None:
        file = chosen.copies[chosen.saved]
        if file.content.state is not State.INTACT:
            why.append(Reason(kind=Why.SAVED_STATE, copy=chosen.saved))
        elif chosen.own and copy.content.words is not None:
            words = words_missing_from(copy.content, file.content)
            unit = "words" if words else "pictures or objects"
            why.append(Reason(kind=Why.SAVED_LACKS, copy=chosen.saved, count=words or chosen.own, unit=unit))
    second = newest(chosen.copies, chosen.others)
    if second is not None:
        other = chosen.copies[second]
        lacking = words_missing_from(copy.content, other.content) if other.content.words is not None else 0
        why.append(Reason(kind=Why.RUNNER_UP, copy=second, other=best, count=lacking))
    return why


def without(copies: Sequence[Copy], hints: Hints, excluded: Sequence[int]) -> list[Reason]:
    """Why nothing is chosen. `excluded` are whole copies that a hint leaves out."""
    why = []
    partial = [c for c in copies if c.content.state is State.DAMAGED and c.content.words]
    locked = [c for c in copies if c.content.state is State.ENCRYPTED]
    unknown = [c for c in copies if c.content.state is State.UNREADABLE]
    if not copies:
        why.append(Reason(kind=Why.ONLY_TRACES))
    if excluded and hints.older_than:
        _, nearest = min((copies[i].written or hints.older_than, i) for i in excluded)
        why.append(Reason(kind=Why.LEFT_OUT, copy=nearest, count=len(excluded), when=hints.older_than))
    elif partial:
        why.append(Reason(kind=Why.DAMAGED_SHOWS, count=max(c.content.words or 0 for c in partial)))
    elif copies and not locked and not unknown:
        why.append(Reason(kind=Why.NONE_WHOLE))
    if locked:
        why.append(Reason(kind=Why.PROTECTED))
    if unknown:
        why.append(Reason(kind=Why.NOT_VERIFIED, text=unknown[0].content.reason))
    return why


def steps(facts: Facts, hints: Hints, excluded: Sequence[int] = ()) -> list[NextStep]:
    """What to try next for a document of which nothing whole was found, the likeliest and least harmful first."""
    out = []
    if excluded:
        out.append(NextStep(kind=Step.SEARCH_WITHOUT_LIMIT))
    if facts.denied:
        out.append(NextStep(kind=Step.ASK_FOR_RIGHTS, names=tuple(facts.denied)))
    if facts.unreached:
        out.append(NextStep(kind=Step.ATTACH_UNREACHED, names=tuple(facts.unreached)))
    if facts.away:
        out.append(NextStep(kind=Step.ASK_FOR_ORIGINAL, text=facts.away))
    if not facts.thorough:
        out.append(NextStep(kind=Step.SEARCH_THOROUGHLY))
    out.append(NextStep(kind=Step.ATTACH_BACKUPS))
    if facts.holders:
        out.append(NextStep(kind=Step.ASK_HOLDERS, names=tuple(facts.holders)))
    if facts.online:
        out.append(NextStep(kind=Step.OPEN_ONLINE_VERSIONS, names=(facts.online,)))
    out.append(NextStep(kind=Step.LOOK_INTO_OTHER_TRASH))
    if hints.person:
        out.append(NextStep(kind=Step.SEARCH_EVERYBODY, names=(hints.person,)))
    out.append(NextStep(kind=Step.MAKE_AN_IMAGE))
    return out
