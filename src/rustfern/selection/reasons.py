"""Why this copy and not another, for people; and what to try where no copy is whole, in the order of the work."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rustfern.core.model import Copy, Hints, Kind, Situation, State
from rustfern.core.paths import show_name
from rustfern.matching.evidence.by_content import words_missing_from
from rustfern.matching.evidence.weights import in_words
from rustfern.selection.clocks import format_time_or_unknown, newest
from rustfern.selection.facts import Facts

_MAX_NAMED = 3


@dataclass(frozen=True, slots=True)
class Chosen:
    """A choice to give reasons for: `best` and `others` (whole copies of other content) by their place in the list of copies;
    `own` is how many words the best copy has that the saved file lacks (1 for other bytes where there are no words).
    """

    copies: Sequence[Copy]
    best: int
    saved: int | None
    others: Sequence[int]
    own: int
    situation: Situation


def explain(chosen: Chosen) -> list[str]:
    """The reasons for a choice: the evidence, the clock, the state, what the saved file and the runner-up lack."""
    copy = chosen.copies[chosen.best]
    if chosen.best == chosen.saved:
        if chosen.situation is Situation.DIVERGED:
            return [f"the saved file is whole; the other branch does not hold all of it ({copy.content.reason})"]
        return [f"the saved file is whole and no newer copy holds anything that it lacks ({copy.content.reason})"]
    strongest = max(copy.evidence, key=lambda piece: piece.weight, default=None)
    because = f": {strongest.text}" if strongest else ""
    why = [
        f"it belongs to this document ({in_words(copy.confidence)}){because}",
        f"{_NEWEST.get(chosen.situation, 'it is the newest copy that is whole')}: written {format_time_or_unknown(copy.written)} by the "
        f"{_CLOCK_WORDS[copy.written_from]}",
        f"it is {copy.content.state}: {copy.content.reason}",
    ]
    against = min(copy.evidence, key=lambda piece: piece.weight, default=None)
    if against is not None and against.weight < 0:
        why.insert(1, f"against it speaks: {against.text}")
    if chosen.saved is not None:
        file = chosen.copies[chosen.saved]
        if file.content.state is not State.INTACT:
            why.append(f"the saved file is {file.content.state}: {file.content.reason}")
        elif chosen.own and copy.content.words is not None:
            words = words_missing_from(copy.content, file.content)
            more = f"{words} words" if words else f"{chosen.own} pictures or objects"
            why.append(f"it has {more} that the saved file ({format_time_or_unknown(file.written)}) lacks")
    second = newest(chosen.copies, chosen.others)
    if second is not None:
        why.append(f"the next best is {_runner_up(copy, chosen.copies[second])}")
    return why


def _runner_up(best: Copy, other: Copy) -> str:
    lacking = words_missing_from(best.content, other.content) if other.content.words is not None else 0
    more = f", which lacks {lacking} of its words" if lacking else ""
    if best.content.words is None and best.content.size != other.content.size:
        more = f", of {other.content.size} bytes instead of {best.content.size}"
    return f"the {_KIND_WORDS[other.kind]} of {format_time_or_unknown(other.written)}{more}"


def without(copies: Sequence[Copy], facts: Facts, hints: Hints, excluded: Sequence[int]) -> list[str]:
    """Why nothing is chosen, and what to try next, in order. `excluded` are whole copies that a hint leaves out."""
    why = []
    partial = [c for c in copies if c.content.state is State.DAMAGED and c.content.words]
    locked = [c for c in copies if c.content.state is State.ENCRYPTED]
    unknown = [c for c in copies if c.content.state is State.UNREADABLE]
    if not copies:
        why.append("only traces of it were found, no copy of its content")
    if excluded and hints.older_than:
        when, nearest = min((copies[i].written or hints.older_than, i) for i in excluded)
        why.append(
            f"only copies before {format_time_or_unknown(hints.older_than)} were asked for (--older-than): that leaves out {len(excluded)}, the nearest of "
            f"them the {_KIND_WORDS[copies[nearest].kind]} of {format_time_or_unknown(when)}"
        )
    elif partial:
        words = max(c.content.words or 0 for c in partial)
        why.append(f"no copy is whole; a damaged one still shows {words} words")
    elif copies and not locked and not unknown:
        why.append("no copy is whole")
    if locked:
        why.append(
            "a copy is protected by a password: it can be restored and opened by its owner, but not verified here"
        )
    if unknown:
        why.append(f"a copy could not be verified: {unknown[0].content.reason}")
    return [*why, *(f"try next ({number}): {step}" for number, step in enumerate(steps(facts, hints, excluded), 1))]


def steps(facts: Facts, hints: Hints, excluded: Sequence[int] = ()) -> list[str]:
    """What to try next for a document of which nothing whole was found, the likeliest and least harmful first."""
    out = []
    if excluded:
        out.append("search without --older-than, and look at what that leaves out")
    if facts.denied:
        out.append(f"ask for the right to read {_some(facts.denied)}")
    if facts.unreached:
        out.append(f"attach, unlock or copy what was not searched: {_some(facts.unreached)}")
    if facts.away:
        out.append(show_name(facts.away))
    out.append(
        "attach backup disks and look for snapshots of the disk: older versions of whole folders are searched with the rest"
    )
    if facts.holders:
        who = ", ".join(show_name(each) for each in facts.holders[:_MAX_NAMED])
        out.append(
            f"ask {who}, whose lock lies beside it and who may still have it open: save it there under another name"
        )
    if facts.online:
        out.append(f"open the list of versions of the server that keeps it ({show_name(facts.online)})")
    out.append("look into the trash of sticks, shares and servers, and into the person's sent mail")
    if hints.person:
        out.append(f"search without --person: only the home of {show_name(hints.person)} was searched")
    out.append("write nothing to that disk, and make an image of all of it before anything else is tried")
    return out


def _some(paths: Sequence[str]) -> str:
    more = f" and {len(paths) - _MAX_NAMED} more" if len(paths) > _MAX_NAMED else ""
    return ", ".join(show_name(path) for path in paths[:_MAX_NAMED]) + more


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
