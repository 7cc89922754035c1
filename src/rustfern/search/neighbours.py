"""Leftovers of programs that nobody listed: names that hold the name of a document beside them, with an addition that looks like a copy's."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

from rustfern.catalogue.words import (
    EVERYWHERE,
    KEPT,
    NOT_COPIES,
    SAVED,
    SHORT_KEPT,
    SHORT_PASSING,
    SHORT_SAVED,
    SUBJECTS,
)
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, class_of, format_of_extension

AUTOSAVE, BACKUP, TEMPORARY = "neighbour-autosave", "neighbour-backup", "neighbour-temporary"
LOCK, LOG = "neighbour-lock", "neighbour-log"
"""The places of the catalogue that these leftovers are of."""

_SIGNS = ".#~_$%@!=+&,-"
_STAMP = re.compile(
    r"(?<!\d)(?:(?:19|20)\d\d[-._ ]?[01]\d[-._ ]?[0-3]\d(?:[-T_. ]?[0-2]\d[-_.:h ]?[0-5]\d(?:[-_.:m ]?[0-5]\d)?)?|1[0-9]{9}(?:\d{3})?)(?!\d)"
)
_COUNTER = re.compile(r"[-._~( #]+\d{1,6}[~)#]*")
_RANDOM = re.compile(r"[._-](?=[^._-]*\d|[^._-]*[a-z][^._-]*[A-Z]|[^._-]*[A-Z]{2}[^._-]*[a-z])[A-Za-z0-9]{6,12}~?")
"""Letters and digits in no order; not a word with a capital."""
_LETTERS = r"(?<![^\W\d_])"


def _said(words: Sequence[str], short: Sequence[str]) -> re.Pattern[str]:
    """Words where one begins; short ones as a whole, or at the end of an ending of capitals (`.ZILESAVE`)."""
    parts = [f"{_LETTERS}(?:{'|'.join(word for word in map(re.escape, words) if word.isascii())})"] if words else []
    parts += [word for word in words if not word.isascii()]
    whole = "|".join(short)
    return re.compile("|".join([*parts, rf"{_LETTERS}(?:{whole})(?![^\W\d_])", rf"\.[a-z]*(?:{whole})\d*$"]))


_MARKS = (
    (AUTOSAVE, _said(SAVED, SHORT_SAVED)),
    (BACKUP, _said(KEPT, SHORT_KEPT)),
    (TEMPORARY, _said((), SHORT_PASSING)),
)
_IN_BRACKETS = rf"[(\[{{]\s*(?:{'|'.join(SHORT_SAVED)})\s*[)\]}}]"
_KEPT_IN_BRACKETS = rf"[(\[{{]\s*(?:{'|'.join(SHORT_KEPT)})\s*[)\]}}]"
_IN_STEMS = (
    (AUTOSAVE, re.compile(f"{_LETTERS}(?:{'|'.join(SAVED)})|{_IN_BRACKETS}")),
    (BACKUP, re.compile(f"{_LETTERS}(?:{'|'.join(KEPT)})|{_KEPT_IN_BRACKETS}")),
)
_SHORT = "|".join((*SHORT_SAVED, *SHORT_KEPT))
_AS_ENDINGS = re.compile(rf"\.(?:{_SHORT})/")
_IN_ANY_BRACKETS = re.compile(rf"[(\[](?:{_SHORT})[)\]]")
_ALL_WORDS = (*SAVED, *KEPT)
_ASCII_WORDS = tuple(word for word in _ALL_WORDS if word.isascii())
_BEGUN_BY_SIGN = re.compile(f"/[{re.escape(_SIGNS)}]")
_LOCKED = re.compile(r"[.~_-]*(?:lck|lock|lk)[#~]?")
_HASH_SIGNS = re.compile(r"#.*#|~+|[$#]+")
_UNKNOWN_WORD = re.compile(r"[._~-][^\W\d_]{3,20}")
_BOUNDARY = re.compile(r"(?<![^\W_])|(?![^\W_])")
_MAX_NAME = 255
MAX_SUSPECTS = 20_000
"""Names of one folder that are looked at one by one."""
_BRACKETS = re.compile(r"[\s._\-~#$()\[\]{}]+")


class Named(NamedTuple):
    """A leftover of a document of the same folder: its name, the place, the document's name, and what was added to it; `unsure` if the
    addition is of no known kind, so that only the contents can tell.
    """

    name: str
    place: str
    document: str
    addition: str
    unsure: bool = False


def kind_of(addition: str, ending: str, *, before: str = "") -> str | None:
    """The place that an addition to a document's name speaks for; None if it looks like none that copies get. `ending` is the document's own."""
    added = addition.removesuffix(ending) if ending and addition != ending else addition
    said = added.casefold()
    if _LOCKED.fullmatch(said):
        return LOCK
    if said.endswith(".log") and _STAMP.search(added):
        return LOG
    if said.endswith(NOT_COPIES):
        return None
    for place, mark in _MARKS:
        if mark.search(said) or (place != TEMPORARY and dict(_IN_STEMS)[place].search(before.casefold())):
            return place
    if before.startswith("#") and added.startswith("#"):
        return AUTOSAVE
    if _STAMP.search(added) or _COUNTER.fullmatch(added) or (added and _HASH_SIGNS.fullmatch(added)):
        return BACKUP
    hidden = before.startswith((".", "~", "#", "$"))
    if _RANDOM.search(added) or (hidden and added and not added[0].isalnum()):
        return TEMPORARY
    return AUTOSAVE if hidden and not added and not before.strip(_SIGNS) and before != "._" else None


@lru_cache(2_000)
def _going_on(endings: frozenset[str]) -> re.Pattern[str]:
    """Finds one of these endings where a name does not end with it, nor goes on with a letter."""
    return re.compile(rf"(?:{'|'.join(map(re.escape, sorted(endings)))})(?![0-9A-Za-z/])")


def suspects(names: Sequence[str], whole: str, endings: Collection[str]) -> list[str]:
    """The names of a folder that may hold another's with an addition. `whole` are all of them between `/`, or what of them may say something; `endings` those of its documents.

    Whole folders at a time: most have none, which a few searches in one text tell.
    """
    found: list[str] = []
    if _BEGUN_BY_SIGN.search(whole):
        found += [name for name in names if name[0] in _SIGNS]
    if endings and (goes_on := _going_on(frozenset(endings)).search)(whole):
        found += [name for name in names if goes_on(name + "/")]
    small = whole.casefold()
    words = [word for word in (_ASCII_WORDS if small.isascii() else _ALL_WORDS) if word in small]
    if words:
        said = re.compile("|".join(map(re.escape, words))).search
        found += [name for name in names if said(name.casefold())]
    for short in (_AS_ENDINGS, _IN_ANY_BRACKETS) if "(" in small or "[" in small else (_AS_ENDINGS,):
        if short.search(small):
            found += [name for name in names if short.search(f"{name.casefold()}/")]
    return list(dict.fromkeys(found))


def by_number(name: str) -> list[tuple[bool, int | str]]:
    """Orders names by the numbers in them as numbers: `a.9` before `a.10`."""
    return [(part.isdecimal(), int(part) if part.isdecimal() else part) for part in re.split(r"(\d{1,18})", name)]


def named_after(suspects: Sequence[str], documents: Collection[str], *, gone: bool = True) -> Iterator[Named]:
    """Those of the names that hold one of these documents' names and an addition that copies get; with `gone`, also those whose addition
    says so clearly that the document need not be there.
    """
    by_stem: dict[str, str] = {}
    for name in documents if suspects else ():
        by_stem.setdefault(name.rpartition(".")[0], name)
    for name in suspects:
        if len(name) <= _MAX_NAME and (
            found := _around(name, documents)
            or _by_stem(name, documents, by_stem)
            or (_of_gone(name) if gone else None)
        ):
            yield found


def _around(name: str, documents: Collection[str]) -> Named | None:
    """The longest document's name that stands whole in this one, between signs."""
    at = [found.start() for found in _BOUNDARY.finditer(name)]
    starts = [each for each in at if each < len(name)][:40]
    for start in starts:
        for end in reversed(at):
            if end - start < 3 or (start == 0 and end == len(name)):
                continue
            held = name[start:end]
            if held in documents and not (any(map(str.isalpha, name[:start])) and _is_word(held.rpartition(".")[0])):
                place = kind_of(name[end:], held[held.rfind(".") :], before=name[:start])
                addition = f"{name[:start]}…{name[end:]}"
                if place is None and not start and _UNKNOWN_WORD.fullmatch(name[end:]) and _may_be_word(name[end:]):
                    return Named(name, BACKUP, held, addition, unsure=True)
                # A word in front says what a part of a program does: `backup_util.py`.
                subject = place == BACKUP and end == len(name) and name[0].isalpha()
                unsure = subject and _is_of_projects(held.rpartition(".")[2])
                return Named(name, place, held, addition, unsure=unsure) if place else None
    return None


def _may_be_word(addition: str) -> bool:
    """Whether what stands behind a name is a word of a person or program for a version, not the ending of what is made from documents."""
    said = addition.casefold()
    return not said.endswith(NOT_COPIES) and said[1:] not in DOCUMENT_EXTENSIONS


def _by_stem(name: str, documents: Collection[str], by_stem: dict[str, str]) -> Named | None:
    """A name of the same ending with a word of copies in its stem ("plan (autosaved).odt"), or the stem with such an ending ("plan.asv.tmp")."""
    stem, dot, ending = name.rpartition(".")
    if not dot or not stem:
        return None
    small = stem.casefold()
    for place, mark in _IN_STEMS if len(small) == len(stem) else ():
        for word in mark.finditer(small):
            for held in _without_word(stem, word.start(), word.end() - word.start()):
                if (document := f"{held}.{ending}") in documents and document != name and not _is_word(held):
                    # A word that the document's own name has is rather what both are about.
                    unsure = word[0] in held.casefold() or (word[0] in SUBJECTS and _is_of_projects(ending))
                    return Named(name, place, document, f"…{stem[word.start() :]}", unsure=unsure)
    if ending.casefold() not in DOCUMENT_EXTENSIONS:
        held = stem.lstrip(_SIGNS)
        document = by_stem.get(held, "")
        kind = kind_of(f".{ending}", "", before=stem[: len(stem) - len(held)]) if document else None
        if kind and document != name:
            return Named(name, kind, document, f"….{ending}")
    return None


@lru_cache(200)
def _is_of_projects(ending: str) -> bool:
    """Whether files of this ending are code, settings or pages of a project rather than a person's documents."""
    kind = format_of_extension(ending.casefold())
    return kind == "html" or class_of(kind) == "code"


def _is_word(stem: str) -> bool:
    """Whether a name is itself no more than a word that copies get: "Save" of "Emergency-Save" is another subject, no document of it."""
    small = stem.casefold()
    return any(mark.fullmatch(small) for _, mark in (*_MARKS, *_IN_STEMS)) or small in ("save", "copy", "old", "new")


def _without_word(stem: str, at: int, length: int) -> Iterator[str]:
    """What is left of a stem without a word in it, and what belongs to the word: letters, signs and brackets around it, stamps, counters."""
    end = at + length
    while end < len(stem) and stem[end].isalnum():
        end += 1
    before, after = stem[:at], stem[end:]
    head, tail = _BRACKETS.sub(" ", before).strip(), _BRACKETS.sub(" ", after).strip()
    if not tail or _STAMP.search(tail) or tail.replace(" ", "").isdigit():
        yield before.rstrip(" ._-~#$([{")
        yield _STAMP.sub("", before).rstrip(" ._-~#$([{")
    if not head or head.casefold() in ("auto", "copy", "copia", "copie", "kopie"):
        yield after.lstrip(" ._-~#$)]}")
        for joint in re.finditer(r"[ _-]+", after):
            yield after[joint.end() :]


def _of_gone(name: str) -> Named | None:
    """A whole document's name, known by its ending, with an addition that leaves no doubt."""
    for found in re.finditer(r"\.([A-Za-z0-9]{2,6})(?=[^A-Za-z0-9])", name):
        if found[1].casefold() in DOCUMENT_EXTENSIONS:
            held, addition = name[: found.end()].lstrip(_SIGNS), name[found.end() :]
            place = next((place for place, mark in _IN_STEMS if mark.search(addition.casefold())), None)
            if found.start() and held and place:
                return Named(name, place, held, f"…{addition}")
    return None


def is_everywhere(name: str) -> bool:
    """Whether a name is one that packages and projects have in every folder, so that it tells nothing of whose copy a file is."""
    return name.casefold() in EVERYWHERE


@lru_cache(5_000)
def tells_of_copies(folder: str) -> bool:
    """Whether the name of a folder says that copies of what lies around it are kept in it."""
    return any(mark.search(folder.casefold()) for _, mark in _MARKS[:2])
