"""What the customer reads: what happened to each document, what is back, how their programs are set. In plain words, in their language.

A case keeps its sentences in English. Those that stand on this page are known by their patterns, and told anew in the other language; a name or
a path in them stays as it is.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from rustfern.core.answers import CopyAnswer, Said
from rustfern.core.command_answers import ReportAnswer, ReportDocument
from rustfern.core.languages import ENGLISH, N_, Words, n_
from rustfern.core.remarks import Step
from rustfern.core.times import Clock, from_stamp
from rustfern.formats.format_table import extension_of, format_of_extension, title_of

HAPPENED = {
    "crashed": N_("The program ended before it was saved."),
    "never-saved": N_("It was never saved under a name; the program kept a draft."),
    "overwritten": N_("Something else was saved over it."),
    "deleted": N_("It was deleted."),
    "wont-open": N_("The saved file is broken and no longer opens."),
    "misplaced": N_("It was saved, but not where it was looked for."),
    "diverged": N_("Work went on in two versions; each holds something that the other lacks."),
    "nothing-lost": N_("Nothing of it was lost."),
}
STEPS: Mapping[str, str] = {
    Step.REPAIR: N_("repair {copy}: {amount} can be had (rustfern repair {same} --to DIR)"),
    Step.SEARCH_THOROUGHLY: N_("scan again with --thorough: it also looks into files whose names say nothing"),
    Step.SEARCH_WITHOUT_LIMIT: N_("search without --older-than, and look at what that leaves out"),
    Step.ASK_FOR_RIGHTS: N_("ask for the right to read {names}"),
    Step.ATTACH_UNREACHED: N_("attach, unlock or copy what was not searched: {names}"),
    Step.ATTACH_BACKUPS: N_(
        "attach backup disks and look for snapshots of the disk: older versions of whole folders are searched with the rest"
    ),
    Step.ASK_HOLDERS: N_(
        "ask {names}, whose lock lies beside it and who may still have it open: save it there under another name"
    ),
    Step.OPEN_ONLINE_VERSIONS: N_("open the list of versions of the server that keeps it ({names})"),
    Step.LOOK_INTO_OTHER_TRASH: N_(
        "look into the trash of sticks, shares and servers, and into the person's sent mail"
    ),
    Step.SEARCH_EVERYBODY: N_("search without --person: only the home of {names} was searched"),
    Step.MAKE_AN_IMAGE: N_("write nothing to that disk, and make an image of all of it before anything else is tried"),
}
"""What to try next, by its kind: the patterns of `selection.wording.step`."""
ORIGINAL = N_("ask for the original, which lies outside of what was searched")
SAYS = (
    N_("dated versions: yes"), N_("dated versions: no"), N_("backup copies at saving: yes"), N_("backup copies at saving: no"),
    N_("closed without saving: all is lost"), N_("closed without saving: the last autosave is kept"), N_("deleted documents are not kept"),
    N_("deleted documents are kept in the trash"), N_("it has no autosave: all that is not saved can be lost"), N_("autosaves: off"),
)  # fmt: skip
"""How a program is set, as `settings.advice` says it."""
_SO_MANY = {
    "words": n_("{count} word", "{count} words"),
    "cells": n_("{count} cell", "{count} cells"),
    "rows": n_("{count} row", "{count} rows"),
    "slides": n_("{count} slide", "{count} slides"),
    "pages": n_("{count} page", "{count} pages"),
    "objects": n_("{count} object", "{count} objects"),
    "seconds": n_("{count} second", "{count} seconds"),
}
_LASTING = {
    "minute": n_("{count} minute", "{count} minutes"),
    "hour": n_("{count} hour", "{count} hours"),
    "day": n_("{count} day", "{count} days"),
}
_REPEATED = {
    "millisecond": n_("every millisecond", "every {count} milliseconds"),
    "second": n_("every second", "every {count} seconds"),
    "minute": n_("every minute", "every {count} minutes"),
    "hour": n_("every hour", "every {count} hours"),
    "day": n_("every day", "every {count} days"),
}
_AUTOSAVED = {
    "minute": n_(
        "an autosave every minute: that much work can still be lost",
        "an autosave every {count} minutes: that much work can still be lost",
    ),
    "hour": n_(
        "an autosave every hour: that much work can still be lost",
        "an autosave every {count} hours: that much work can still be lost",
    ),
    "day": n_(
        "an autosave every day: that much work can still be lost",
        "an autosave every {count} days: that much work can still be lost",
    ),
}
_DEFAULT = " (its default)"
_OFTEN = re.compile(r"an autosave every (?:(\d+) )?(minute|hour|day)s?: that much work can still be lost")
_EVERY = re.compile(r"every (?:(\d+) )?(millisecond|second|minute|hour|day)s?")
_VALUES = (N_("on"), N_("off"), N_("there is none"), N_("not known"))
_ALL_IN, _SOME_IN = N_("all unsaved work in {programs}"), N_("{amount} of work in {programs}")
_AMOUNT_OF_TIME = re.compile(r"(\d+) (minute|hour|day)s?")
_AMOUNT = re.compile(r"([\d,]+)(?: of about ([\d,]+))? (\w+)")
_MORE = re.compile(r"(.+) and (\d+) more", re.DOTALL)
_NUMBER = re.compile(r"\d+")


class Story(msgspec.Struct, frozen=True):
    """One document as the customer reads of it: what happened, the file that is back and the folder that it lies in, as what it opens where
    that is another format than before, up to when, how much, what is missing, and whether there is more than one version to look at.
    """

    name: str
    happened: str
    back: str | None
    folder: str
    became: str
    upto: str | None
    amount: str
    missing: list[str]
    doubt: bool


class Advice(msgspec.Struct, frozen=True):
    """What the customer is told of their programs: how they are set, what would be better, what was set for them (by the journal)."""

    now: list[str]
    better: list[str]
    done: list[str]


def told_time(written: str | None, clock: Clock, words: Words) -> str:
    """A time as people write it."""
    return words.time(clock.local(from_stamp(written))) if written else words.text(N_("an unknown time"))


def story(document: ReportDocument, clock: Clock, words: Words) -> Story:
    """One document for the customer: what happened, what is back, up to when, what is missing."""
    best = next((copy for copy in document.copies if copy.id == document.best), None)
    back = document.back[-1] if document.back else None
    copy = back.copy if back else best
    missing = []
    if copy is None:
        missing.append(words.text(N_("No whole version of it could be found so far.")))
        tries = [step(each, words) for each in document.next_steps[:3]]
        missing += [words.say(N_("{sentence}."), sentence=text[:1].upper() + text[1:]) for text in tries]
    elif document.situation in ("crashed", "never-saved", "wont-open", "overwritten"):
        time = told_time(copy.written, clock, words)
        missing.append(words.say(N_("What was done after {time} is not in it."), time=time))
    amount = ""
    if copy is not None and copy.words is not None:
        amount = words.count("{count} word", "{count} words", copy.words)
    elif copy is not None and copy.members:
        amount = words.count("{count} file", "{count} files", len(copy.members))
    return Story(
        document.name,
        words.text(HAPPENED[document.situation]),
        Path(back.target).name if back else None,
        str(Path(back.target).parent) if back else "",
        _became(document.name, copy, Path(back.target).name, words) if back and copy else "",
        told_time(copy.written, clock, words) if copy else None,
        amount,
        missing,
        any(not caution.certain or caution.keep_both for caution in document.cautions),
    )


def _became(name: str, copy: CopyAnswer, written: str, words: Words) -> str:
    """What a file opens as that is of another format than the document was; empty if it is of the same, or its text alone."""
    was, now = format_of_extension(extension_of(name)), format_of_extension(extension_of(written))
    if was is None or now is None or was == now:
        return ""
    if now != copy.format:
        return words.text(N_("its text alone, without how it was set"))
    # Titles of formats are English; endings are the same everywhere.
    titles = (title_of(now), title_of(was)) if words.code == ENGLISH else (f".{now}", f".{was}")
    return words.say(N_("{now}, no longer {before}"), now=titles[0], before=titles[1])


def step(said: Said, words: Words) -> str:
    """One thing to try next."""
    if words.code == ENGLISH:
        return said.text
    if said.kind == Step.ASK_FOR_ORIGINAL:
        return words.text(ORIGINAL)
    pattern = STEPS.get(said.kind)
    if pattern is None or (found := words.values(pattern, said.text)) is None:
        return said.text
    if "names" in found and (more := _MORE.fullmatch(found["names"])) is not None:
        count = int(more[2])
        found["names"] = words.count("{names} and {count} more", "{names} and {count} more", count, names=more[1])
    if "amount" in found:
        found["amount"] = _amount(found["amount"], words)
    return words.say(pattern, **found)


def _amount(english: str, words: Words) -> str:
    """So much of something, or a part of it."""
    found = _AMOUNT.fullmatch(english)
    if found is None:
        return words.text(N_("a part of it"))
    amount = _so_many(int(found[1].replace(",", "")), found[3], words)
    return words.say(N_("{amount} of about {all}"), amount=amount, all=found[2]) if found[2] else amount


def _so_many(number: int, unit: str, words: Words) -> str:
    return words.count(*_SO_MANY[unit], number) if unit in _SO_MANY else f"{number} {unit}"


def advice(facts: ReportAnswer, people: Sequence[str], clock: Clock, words: Words) -> Advice:
    """As it was when it was searched, but for what was changed since."""
    mine = [each for each in facts.scan.advice if not each.people or set(each.people) & set(people)]
    set_since = [each for each in facts.changes if each.state == "done" and (not people or each.person in people)]
    changed = {each.setting for each in set_since}
    left = [each for each in mine if not changed & set(each.settings)]
    done: dict[str, str] = {}
    for each in set_since:
        program, what = words.text(each.program), words.text(each.what)
        time = told_time(each.at, clock, words)
        key = f"{each.program} {each.what} {each.after}"
        now = value(each.after, words)
        done[key] = words.say(
            N_("{program}: {what} {value} (since {time})."), program=program, what=what, value=now, time=time
        )
    line = N_("{program}: {text}.")
    return Advice(
        [words.say(line, program=words.text(each.program), text=says(each.says, words)) for each in left],
        [words.say(line, program=words.text(each.program), text=by_hand(each.better, words)) for each in left if each.better],
        list(done.values()),
    )  # fmt: skip


def says(english: str, words: Words) -> str:
    """How a program is set, as `settings.advice` says it."""
    if words.code == ENGLISH:
        return english
    plain = english.replace(_DEFAULT, "", 1)
    if (often := _OFTEN.fullmatch(plain)) is not None:
        text = words.count(*_AUTOSAVED[often[2]], int(often[1] or 1))
    else:
        text = words.text(plain)
    return words.say(N_("{text} (its default)"), text=text) if plain != english else text


def value(english: str, words: Words) -> str:
    """A value of a setting, as `settings.wording` says it."""
    plain = english.removesuffix(" (default)")
    if (every := _EVERY.fullmatch(plain)) is not None:
        text = words.count(*_REPEATED[every[2]], int(every[1] or 1))
    else:
        text = words.text(plain)
    return words.say(N_("{text} (default)"), text=text) if plain != english else text


def worst(english: str, words: Words) -> str:
    """What a crash costs at worst, as `settings.advice.worst_cases` says it."""
    if words.code == ENGLISH:
        return english
    for pattern in (_ALL_IN, _SOME_IN):
        found = words.values(pattern, english)
        if found is not None:
            programs = words.listed([words.text(each) for each in found["programs"].split(", ")])
            often = _AMOUNT_OF_TIME.fullmatch(found.get("amount", ""))
            amount = words.count(*_LASTING[often[2]], int(often[1])) if often else words.text(found.get("amount", ""))
            return words.say(pattern, programs=programs, **({"amount": amount} if "amount" in found else {}))
    return english


def by_hand(english: str, words: Words) -> str:
    """How a setting is changed by hand. The menus of a program are told as it calls them in English."""
    return english if words.code == ENGLISH else "; ".join(_piece(each, words) for each in english.split("; "))


def _piece(english: str, words: Words) -> str:
    if words.has(english):
        return words.text(english)
    if _EVERY.fullmatch(english):
        return value(english, words)
    if (number := _NUMBER.search(english)) is not None:
        pattern = f"{english[: number.start()]}{{count}}{english[number.end() :]}"
        if words.has(pattern):
            return words.count(pattern, pattern, int(number[0]))
    where, colon, what = english.partition(": ")
    return f"{words.text(where)}: {_piece(what, words)}" if colon else english
