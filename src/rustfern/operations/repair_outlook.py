"""What repair would give back of a damaged copy: said before anybody asks for it, nothing is written."""

from __future__ import annotations

import io
import os
import time
from collections.abc import Sequence
from typing import BinaryIO

from msgspec.structs import replace

from rustfern.content import open as contents
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Content, Copy, Document, Entry, Outlook, State
from rustfern.core.paths import stem_of
from rustfern.core.remarks import NextStep, Step
from rustfern.formats import registry as formats
from rustfern.operations.repair_samples import beside, is_recording
from rustfern.repair.interface import Budget, Job, Loss, LossKind, Outcome
from rustfern.repair.registry import is_known, repairers
from rustfern.sources.registry import Sources

_LARGEST_BYTES, _SECONDS = 32 << 20, 3.0
_MOST_COPIES, _ALL_SECONDS = 16, 6.0
_ERRORS = (MemoryError, RecursionError, ValueError, LookupError, ArithmeticError, AttributeError, TypeError, EOFError)
_PARAGRAPH_WORDS = 40


def outlook(
    stream: BinaryIO, name: str, found: Content, door: Sources, seconds: float = _SECONDS, entry: Entry | None = None
) -> Outlook | None:
    """What can be had of damaged bytes; None if that is nothing, or would take too long to tell. Of a recording others beside its `entry` tell how it is
    read.
    """
    made = mended(stream, name, found, door, seconds, entry)
    if made is None:
        return None
    _, content, outcome = made
    kept = {what: count for what, count in content.amounts.items() if count}
    kept |= {"words": content.words} if content.words is not None else {}
    return Outlook(content.format or outcome.format, kept, _about(kept, outcome.lost), len(outcome.lost))


def mended(
    stream: BinaryIO, name: str, found: Content, door: Sources, seconds: float = _SECONDS, entry: Entry | None = None
) -> tuple[bytes, Content, Outcome] | None:
    """What repair would write, its verdict, and what is lost; None as for `outlook`."""
    size = stream.seek(0, os.SEEK_END)
    if found.state is not State.DAMAGED or not 0 < size <= _LARGEST_BYTES or not is_known(name, found.format):
        return None
    if formats.is_blank(stream):
        return None
    stream.seek(0)
    head = stream.read(4096)
    budget = Budget(seconds)
    others = beside(door, entry, name) if entry is not None and is_recording(name, found.format) else []
    for format_name, mend in repairers(head, name, found.format):
        out = io.BytesIO()
        try:
            job = Job(stream, size, name, format_name, limits=door.limits, budget=budget, others=others)
            outcome = mend(job, out)
            made = formats.check(out, f"{stem_of(name)}.{outcome.format}", limits=door.limits, digest=False)
        except (Malformed, *_ERRORS):
            continue
        if made.state is State.INTACT:
            return out.getvalue(), made, outcome
    return None


def _about(kept: dict[str, int], lost: Sequence[Loss]) -> int | None:
    """About how many words the whole document had; None where nobody knows."""
    words, paragraphs = kept.get("words"), kept.get("paragraphs", 0)
    if words is None:
        return None
    missing = 0.0
    for each in lost:
        if each.kind in (LossKind.PARAGRAPHS, LossKind.ROWS) and not each.count:
            return None
        if each.kind is LossKind.PARAGRAPHS:
            missing += each.count * (words / paragraphs if paragraphs else _PARAGRAPH_WORDS)
    return round(words + missing)


def outlook_of(door: Sources, copy: Copy, bases: Sequence[Entry], seconds: float = _SECONDS) -> Outlook | None:
    """The same for a copy that a search found."""
    if copy.content.state is not State.DAMAGED or copy.entry.is_bundle or copy.members:
        return None
    try:
        with contents.open_content(door, copy.entry, copy.recipe, bases) as stream:
            return outlook(stream, os.path.basename(copy.path), copy.content, door, seconds, copy.entry)
    except (SourceError, OSError):
        return None


def with_outlooks(door: Sources, documents: Sequence[Document]) -> list[Document]:
    """The documents of which no copy is whole with what repair would give of their damaged ones, the first of them first; as many as can be
    tried in a few seconds.
    """
    out = []
    ends, left = time.monotonic() + _ALL_SECONDS, _MOST_COPIES
    for document in documents:
        damaged = [i for i, copy in enumerate(document.copies) if copy.content.state is State.DAMAGED]
        if document.verdict.best is not None or not damaged or not left or time.monotonic() > ends:
            out.append(document)
            continue
        copies = list(document.copies)
        for i in damaged[:left]:
            told = outlook_of(door, copies[i], (), max(min(_SECONDS, ends - time.monotonic()), 0.1))
            copies[i] = replace(copies[i], outlook=told)
            left -= 1
        out.append(_with_step(replace(document, copies=tuple(copies)), damaged))
    return out


def _with_step(document: Document, damaged: Sequence[int]) -> Document:
    """The document with its fullest damaged copy named as the first thing to repair."""
    known = [i for i in damaged if document.copies[i].outlook is not None]
    if not known or not document.ids:
        return document
    fullest = max(known, key=lambda i: _amount(document.copies[i].outlook))
    told = document.copies[fullest].outlook
    assert told is not None
    unit, count = next(
        (
            (unit, told.kept[unit])
            for unit in ("words", "cells", "rows", "slides", "pages", "objects", "seconds")
            if told.kept.get(unit)
        ),
        ("", 0),
    )
    step = NextStep(
        kind=Step.REPAIR,
        copy=fullest,
        count=count,
        less=told.about or 0 if unit == "words" else 0,
        unit=unit,
        text=document.ids[fullest],
    )
    return replace(document, verdict=replace(document.verdict, next_steps=(step, *document.verdict.next_steps)))


def _amount(told: Outlook | None) -> int:
    return sum(told.kept.values()) if told is not None else -1
