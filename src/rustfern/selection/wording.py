"""The words for what a choice says of itself: one sentence a reason, caution, next step or notice, names from disk made safe to show."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import assert_never

from rustfern.core.model import Copy, Kind, Situation, Verdict
from rustfern.core.paths import show_name
from rustfern.core.remarks import About, Caution, NextStep, Notice, Reason, Step, Warn, Why, counted
from rustfern.core.times import Clock
from rustfern.matching.evidence.weights import in_words

_MAX_NAMED = 3
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
    Kind.DELETED: "deleted file",
    Kind.RAW: "content without a record",
}


class Wording:
    """Says what the verdict on one document means: `copies` are those that its remarks name by their place in the list."""

    def __init__(self, copies: Sequence[Copy], situation: Situation, clock: Clock, ids: Sequence[str] = ()) -> None:
        """`ids` are what the copies are called in the case, where they are."""
        self._copies, self._situation, self._clock, self._ids = copies, situation, clock, ids

    def _copy(self, place: int | None) -> Copy:
        assert place is not None
        return self._copies[place]

    def reason(self, said: Reason) -> str:
        """One reason for the choice, or for making none."""
        time = self._clock.format_time
        match said.kind:
            case Why.SAVED_STANDS:
                reason = self._copy(said.copy).content.reason
                return f"the saved file is whole and no newer copy holds anything that it lacks ({reason})"
            case Why.SAVED_IS_A_BRANCH:
                reason = self._copy(said.copy).content.reason
                return f"the saved file is whole; the other branch does not hold all of it ({reason})"
            case Why.BELONGS:
                because = f": {said.text}" if said.text else ""
                return f"it belongs to this document ({in_words(self._copy(said.copy).confidence)}){because}"
            case Why.AGAINST:
                return f"against it speaks: {said.text}"
            case Why.NEWEST:
                copy = self._copy(said.copy)
                newest = _NEWEST.get(self._situation, "it is the newest copy that is whole")
                return f"{newest}: written {time(copy.written)} by the {_CLOCK_WORDS[copy.written_from]}"
            case Why.STATE:
                content = self._copy(said.copy).content
                return f"it is {content.state}: {content.reason}"
            case Why.SAVED_STATE:
                content = self._copy(said.copy).content
                return f"the saved file is {content.state}: {content.reason}"
            case Why.SAVED_LACKS:
                saved = time(self._copy(said.copy).written)
                return f"it has {said.count} {said.unit} that the saved file ({saved}) lacks"
            case Why.RUNNER_UP:
                return f"the next best is {self._runner_up(said)}"
            case Why.ONLY_TRACES:
                return "only traces of it were found, no copy of its content"
            case Why.LEFT_OUT:
                nearest = self._copy(said.copy)
                limit = time(said.when)
                return (
                    f"only copies before {limit} were asked for (--older-than): that leaves out {said.count}, the nearest of "
                    f"them the {_KIND_WORDS[nearest.kind]} of {time(nearest.written) if nearest.written else limit}"
                )
            case Why.DAMAGED_SHOWS:
                return f"no copy is whole; a damaged one still shows {counted(said.count, 'word')}"
            case Why.NONE_WHOLE:
                return "no copy is whole"
            case Why.PROTECTED:
                return "a copy is protected by a password: it can be restored and opened by its owner, but not verified here"
            case Why.NOT_VERIFIED:
                return f"a copy could not be verified: {said.text}"
            case Why.NOT_JUDGED:
                return f"it {said.text}"
            case _:
                assert_never(said.kind)

    def _runner_up(self, said: Reason) -> str:
        best, other = self._copy(said.other), self._copy(said.copy)
        more = f", which lacks {said.count} of its words" if said.count else ""
        if best.content.words is None and best.content.size != other.content.size:
            more = f", of {other.content.size} bytes instead of {best.content.size}"
        return f"the {_KIND_WORDS[other.kind]} of {self._clock.format_time(other.written)}{more}"

    def caution(self, said: Warn) -> str:
        """One caution."""
        time = self._clock.format_time
        name = show_name(said.names[0]) if said.names else ""
        match said.kind:
            case Caution.NOTHING_NEWER:
                return self._nothing_newer(said)
            case Caution.OTHER_FORMAT:
                path = self._copy(said.copy).path
                right = f"{os.path.splitext(os.path.basename(path))[0]}.{said.text}"
                return f"it opens under the right name, {show_name(right)}: its content is whole, but not of the format that its name says"
            case Caution.LOCK_LEFT:
                since = f" of {time(said.when)}" if said.when else ""
                return (
                    f"not certain: its lock{since} is still there, so its program may have ended without saving; if something "
                    "is missing, scan again with --happened crashed"
                )
            case Caution.DAMAGED_HOLDS_MORE:
                assert said.copy is not None
                copy = self._copies[said.copy]
                name = self._ids[said.copy] if self._ids else f"the {_KIND_WORDS[copy.kind]} of {time(copy.written)}"
                how = f": rustfern look {name} --text, rustfern restore {name} --as-text" if self._ids else ""
                return f"{name} is newer but damaged; {counted(said.count, 'word')} that the best copy lacks can be read in it{how}"
            case Caution.LAST_WORDS_GONE:
                since = f" after {time(self._copy(said.copy).written)}"
                return f"what was typed{since} is in no copy that could be read: the saved file is the best there is"
            case Caution.FOLDER_DENIED:
                return f"not certain: a folder of copies could not be read ({name})"
            case Caution.SAVED_UNREADABLE:
                reason = self._copy(said.copy).content.reason
                return f"not certain: the saved file could not be read ({reason}), so nothing was compared with it"
            case Caution.COPY_UNVERIFIED:
                first = self._copy(said.copy)
                more = f" and {said.count - 1} more" if said.count > 1 else ""
                return (
                    f"not certain: a copy of it{more} could not be verified, and may hold more "
                    f"({show_name(os.path.basename(first.path))}: {first.content.reason})"
                )
            case Caution.STRAY_AUTOSAVE:
                return (
                    f"not certain: it was open, and an autosave whose document could not be told may be of it "
                    f"({name}): look at that too"
                )
            case Caution.STRAY_MAY_BE_NEWER:
                return (
                    f"not certain: an autosave of about that time whose document could not be told may be newer "
                    f"({name}): look at that too"
                )
            case Caution.ONE_DATE:
                return f"all its files carry one date ({time(said.when)}), as copying stamps them: the order rests on contents and names"
            case Caution.LIES_OUTSIDE:
                return show_name(said.text)
            case Caution.SAME_NAME_ELSEWHERE:
                return f"not certain that it is gone: a file of this name lies in another folder: {name}"
            case Caution.NEWER_MAY_BE_ANOTHERS:
                return "a newer copy may belong to this document, or to another one: look at it too"
            case Caution.ORDER_UNKNOWN:
                return "nothing tells whether this copy or the saved file is newer: look at both, keep both"
            case Caution.NEWER_IS_POORER:
                return f"{_amounts(said)}: look at both before restoring"
            case Caution.FULLER_TAKEN:
                return f"{_amounts(said)} and all of these: the saved file is taken"
            case Caution.SAVED_WENT_ON:
                sides = (
                    f"it has {counted(said.less, 'word')} that this copy lacks, and lacks {said.count} that this copy has"
                    if self._copy(said.other).content.words is not None
                    else "and the two differ"
                )
                return f"keep both: the saved file went on ({time(self._copy(said.copy).written)}), {sides}"
            case Caution.OTHER_BRANCH:
                branch = self._copy(said.copy)
                told = (
                    f"it has {counted(said.count, 'word')} that the saved file lacks, and lacks {said.less}"
                    if branch.content.words is not None
                    else "the two differ"
                )
                return f"a conflict copy ({time(branch.written)}) is another branch: {told}: keep both, and let the person merge them"
            case Caution.EARLIER_DIFFERS:
                copy = self._copy(said.copy)
                differs = (
                    f"has {counted(said.count, 'word')} that the saved file lacks"
                    if copy.content.words is not None
                    else "differs from the saved file"
                )
                return f"an earlier version ({copy.kind}, {time(copy.written)}) {differs}"
            case Caution.NOT_JUDGED:
                return "nothing is known of which copy is the best: look at each"
            case _:
                assert_never(said.kind)

    def _nothing_newer(self, said: Warn) -> str:
        """What the person told of was not found: said with what there is, and where was looked."""
        looked = "looked beside it, in the trash, in temporary folders and older versions"
        if said.count:
            looked += f", and into {said.count} folders where programs leave copies"
        if said.copy is None:
            return f"nothing of it was found, in no copy ({looked})"
        copy = self._copy(said.copy)
        there = f"{_KIND_WORDS[copy.kind]} of {self._clock.format_time(copy.written)}"
        match self._situation:
            case Situation.DELETED:
                return f"it is not deleted: the {there} is there, and whole"
            case Situation.WONT_OPEN:
                return f"nothing is wrong with it: the {there} is whole to its end; no newer copy was found ({looked})"
            case Situation.OVERWRITTEN:
                return (
                    f"no earlier version with other content was found ({looked}); the newest whole copy is the {there}"
                )
            case _:
                return f"nothing newer was found than the {there} ({looked})"

    def verdict(self, verdict: Verdict) -> tuple[list[str], list[str], list[str]]:
        """(reasons, cautions, next steps) in words."""
        return (
            [self.reason(each) for each in verdict.why],
            [self.caution(each) for each in verdict.warnings],
            [step(each) for each in verdict.next_steps],
        )


def _amounts(said: Warn) -> str:
    return f"the newer copy has {said.less} {said.unit}, the saved file {said.count}"


def step(said: NextStep) -> str:
    """One thing to try next."""
    names = ", ".join(show_name(name) for name in said.names[:_MAX_NAMED])
    more = f" and {len(said.names) - _MAX_NAMED} more" if len(said.names) > _MAX_NAMED else ""
    match said.kind:
        case Step.REPAIR:
            about = f" of about {said.less:,}" if said.less > said.count else ""
            what = f"{said.count:,}{about} {said.unit}" if said.count else "a part of it"
            return f"repair {said.text}: {what} can be had (rustfern repair {said.text} --to DIR)"
        case Step.SEARCH_THOROUGHLY:
            return "scan again with --thorough: it also looks into files whose names say nothing"
        case Step.SEARCH_WITHOUT_LIMIT:
            return "search without --older-than, and look at what that leaves out"
        case Step.ASK_FOR_RIGHTS:
            return f"ask for the right to read {names}{more}"
        case Step.ATTACH_UNREACHED:
            return f"attach, unlock or copy what was not searched: {names}{more}"
        case Step.ASK_FOR_ORIGINAL:
            return show_name(said.text)
        case Step.ATTACH_BACKUPS:
            return "attach backup disks and look for snapshots of the disk: older versions of whole folders are searched with the rest"
        case Step.ASK_HOLDERS:
            return f"ask {names}, whose lock lies beside it and who may still have it open: save it there under another name"
        case Step.OPEN_ONLINE_VERSIONS:
            return f"open the list of versions of the server that keeps it ({names})"
        case Step.LOOK_INTO_OTHER_TRASH:
            return "look into the trash of sticks, shares and servers, and into the person's sent mail"
        case Step.SEARCH_EVERYBODY:
            return f"search without --person: only the home of {names} was searched"
        case Step.MAKE_AN_IMAGE:
            return "write nothing to that disk, and make an image of all of it before anything else is tried"
        case _:
            assert_never(said.kind)


def notice(said: Notice) -> str:
    """What is to be known of a whole search."""
    names = [show_name(name) for name in said.names]
    match said.kind:
        case About.DISK_FAILING:
            return (
                f"STOP: the disk returned {said.count} read errors or stalls, the first at {names[0]}. Reading went no further: "
                f"{said.text}"
            )
        case About.STOPPED:
            return "stopped before its end: this is what was found so far. Scan again for all of it"
        case About.OPEN_HERE:
            return (
                f"still open on this machine: {names[0]} in {names[1]}. Do not close or end it ({said.text}); "
                "save it under a new name first"
            )
        case About.DELETED_BUT_OPEN:
            return (
                f"still open on this machine: {names[0]}, though it was deleted: {said.text}. "
                "Do not close that program: restore this copy first"
            )
        case About.WRITTEN_JUST_NOW:
            return f"written moments ago: {names[0]}; its program may still be at work"
        case About.CASE_IN_MEMORY:
            return f"the case is kept in memory only{said.text}"
        case About.KEPT_FOLDER:
            return f"kept from {names[0]} at {said.text}"
        case About.PERSON_FOUND:
            more = (
                f"; {said.count} accounts name the same person, and all of them were searched" if said.count > 1 else ""
            )
            return f"{names[0]} is the account {names[1]}: so says {names[2]}{more}"
        case About.NO_SUCH_DOCUMENT:
            nearest = (
                f"did you mean {names[1]}?" if len(names) > 1 else "look at the list, or give another word of its name"
            )
            return f"no document here is called like “{names[0]}”: {nearest}"
        case About.TAKEN_FOR_DOCUMENT:
            return f"no document here is called “{names[0]}”: {names[1]} was taken for it"
        case About.NO_SUCH_WORDS:
            return f"“{names[0]}” stands in no text that could be read: try fewer words, or one that is rare"
        case About.NO_SUCH_CLASS:
            there = f"; there are: {', '.join(names[1:])}" if len(names) > 1 else ""
            return f"nothing that was found is a {names[0]}{there}"
        case About.TIME_TO_COME:
            return f"{said.text} is still to come: check the day of --lost-at"
        case About.TIME_FAR_OFF:
            return f"no copy was written about {said.text}: the nearest is {counted(said.count, 'day')} {names[1]} ({names[0]})"
        case About.NOT_AS_TOLD:
            return f"nothing that was found is {names[0]}, as was told; what else was found is below"
        case About.DISK_MOUNTED:
            return f"{names[0]} is in use now, mounted at {said.text}: what changes meanwhile may be read wrong. Unmount it, or search an image"
        case About.DELETED_LEFT_OUT:
            return f"not listed of the deleted files that the disk records: {said.text}"
        case About.RAW_NOT_DONE:
            what = (
                f"{said.text} were not searched byte by byte yet"
                if said.count
                else "not all that was found byte by byte was followed to its end yet"
            )
            return f"{what}: type the same again with this case, and it goes on where it was"
        case About.RAW_LEFT_OUT:
            return f"not searched byte by byte: {names[0]} ({said.text}); with --raw-all it is"
        case About.RAW_CLUTTER:
            return f"not listed of what was found byte by byte: {counted(said.count, 'piece')} of programs' own files and of nothing that reads"
        case About.RAW_MORE:
            return f"{said.count} more documents were found byte by byte than are listed, the likeliest: type the same with --class for those of one kind"
        case About.RAW_NOT_JOINED:
            return f"the time for putting documents in pieces together was over before {said.count} of them were tried: the first piece of each is listed"
        case About.CHECKED_LATEST:
            return f"{said.count} of {said.text} documents were opened, those written last: name one with --document"
        case _:
            assert_never(said.kind)
