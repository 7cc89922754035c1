"""Which document comes first: what was asked for, then by what happened, whether a copy is whole, how much is at stake, and when."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping

from rustfern.catalogue.loader import Place
from rustfern.core.asked import NEAR, holds, likeness
from rustfern.core.model import Document, Find, Hints, Kind, Situation, State
from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.matching.evidence.by_content import words_missing_from


def name_match(asked: str, name: str, path: str | None) -> float:
    """How well a document's name and folders fit what the technician typed, 0 to 1."""
    from rustfern.core.likeness import by_words, plain, ratio

    wanted = plain(asked)
    mine = plain(name)
    if not wanted or not mine:
        return 0.0
    folders = plain(" ".join((path or "").replace("\\", "/").split("/")[-3:]))
    by_name = by_words(wanted, mine)
    with_folders = by_words(wanted, folders)
    close = ratio(wanted, mine)
    found = float(max(by_name * 0.8 + close * 0.2, with_folders * 0.75 + close * 0.2)) / 100
    if found < _HALF_A_NAME and holds(name, asked):
        return _HALF_A_NAME
    if found < _MIN_FIT and likeness(asked, name) >= NEAR:
        return _MIN_FIT
    return found


_MIN_FIT, _HALF_A_NAME = 0.6, 0.7
"""Fit from which on a document is what the technician typed; of a name of which only a part was typed."""


def fits(asked: str, name: str, path: str | None) -> bool:
    """Whether a document is likely the one that was asked for."""
    return name_match(asked, name, path) >= _MIN_FIT


def is_named(asked: str, name: str) -> bool:
    """Whether a file's name holds the words that were asked for, or nearly: where each answer costs something, only these are asked for."""
    return likeness(asked, name) >= NEAR


def wanted_first(finds: Iterable[Find], hints: Hints, places: Mapping[str, Place]) -> list[Find]:
    """Copies in the order in which they are read from a disk that may die: those of the document asked for, then of the kind of file,
    then what applications saved by themselves before what stays for long, the newest first.
    """

    def key(find: Find) -> tuple[object, ...]:
        name = find.fields.get("name") or find.fields.get("stem") or os.path.basename(find.entry.path)
        asked = name_match(hints.document, name, find.entry.path) if hints.document else 0.0
        extension = extension_of(find.fields.get("name") or os.path.basename(find.entry.path))
        other_class = hints.doc_class is not None and class_of(format_of_extension(extension)) != hints.doc_class
        written = find.entry.modified.timestamp() if find.entry.modified else 0.0
        return -round(asked, 1), other_class, places[find.place].lifetime_rank, -written, find.entry.path

    return sorted((find for find in finds if places[find.place].is_copy and find.entry.is_file), key=key)


_GRAVITY = {
    Situation.CRASHED: 0, Situation.NEVER_SAVED: 1, Situation.OVERWRITTEN: 1, Situation.WONT_OPEN: 0, Situation.DELETED: 2,
    Situation.DIVERGED: 1, Situation.MISPLACED: 1, Situation.NOTHING_LOST: 9,
}  # fmt: skip


def at_stake(document: Document) -> int:
    """What the best copy holds that exists nowhere else: words that the saved file lacks, all of them if there is none; without words,
    filled form fields, else bytes in kilobytes.
    """
    if document.verdict.best is None:
        return 0
    best = document.copies[document.verdict.best]
    saved = next((copy for copy in document.copies if copy.kind is Kind.SAVED), None)
    if saved is best:
        return 0
    if best.content.words is None:
        fields = best.content.amounts.get("fields")
        if fields is None:
            return best.content.size >> 10
        return max(fields - (saved.content.amounts.get("fields", 0) if saved else 0), 0)
    if saved is None or saved.content.state is not State.INTACT:
        return best.content.words
    return words_missing_from(best.content, saved.content)


def _deleted_at(document: Document) -> float:
    """When a deleted document was deleted, by its trash records: seconds of the Unix time, 0 for all others."""
    if document.verdict.situation is not Situation.DELETED:
        return 0.0
    return max((record.when.timestamp() for record in document.records if record.when), default=0.0)


def rank(documents: list[Document], hints: Hints, held: Mapping[str, int] | None = None) -> list[Document]:
    """The likeliest first: what was asked for, then what holds the words (`held`: key → how many), then by what happened, whether
    a copy is whole, and when.
    """
    held = held or {}

    def safe_key(document: Document) -> tuple[object, ...]:
        try:
            return key(document)
        except Exception:  # a document that cannot be weighed comes last, and hides no other
            return (True, 0.0, 0, True, True, 9, True, 0.0, 0.0, 0.0, 0, 0.0, document.key)

    def key(document: Document) -> tuple[object, ...]:
        verdict = document.verdict
        asked = name_match(hints.document, document.name, document.original) if hints.document else 0.0
        best = document.copies[verdict.best] if verdict.best is not None else None
        gravity = _GRAVITY[verdict.situation]
        if hints.happened is verdict.situation:
            gravity = -1
        other_class = hints.doc_class is not None and document.doc_class != hints.doc_class
        sure = best.confidence if best else 0.0
        written = best.written.timestamp() if best and best.written else 0.0
        apart = abs(written - hints.lost_at.timestamp()) if hints.lost_at is not None else 0.0
        nothing = verdict.situation is Situation.NOTHING_LOST
        inner = document.within is not None
        return (
            other_class,
            -round(asked, 1),
            -held.get(document.key, 0),
            nothing,
            inner,
            gravity,
            best is None,
            -_deleted_at(document),
            apart,
            -round(sure, 1),
            -at_stake(document).bit_length(),
            -written,
            document.key,
        )

    ranked = sorted(documents, key=safe_key)

    def comes_late(document: Document) -> int:
        # What lies in a deleted folder is had with it; what lost nothing comes last. The one that was asked for stays where it is looked for.
        if document.verdict.situation is Situation.NOTHING_LOST:
            return 2
        meant = hints.document is not None and fits(hints.document, document.name, document.original)
        return int(document.within is not None and not meant)

    return [*ranked[:1], *sorted(ranked[1:], key=comes_late)]
