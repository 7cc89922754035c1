"""Puts together what was found: traces are recognised, copies read and matched, documents drafted."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from contextlib import suppress

from rustfern.core.model import Find
from rustfern.core.paths import show_name
from rustfern.matching.copies import Copies
from rustfern.matching.evidence import by_name
from rustfern.matching.records import Traces
from rustfern.matching.state import Draft, Reader, not_judged
from rustfern.matching.swap_files import Swaps

__all__ = ["Draft", "Linker", "Reader", "first_answers", "not_judged"]


class Linker(Traces, Copies, Swaps):
    """All steps on one table."""


def _first_answer(assembly: Linker, find: Find) -> str:
    place = assembly.catalogue.places[find.place]
    copy = assembly.read_copy(find, find.entry, ())
    listed = assembly.named.get(find.entry.path)
    told = listed[2] if listed and listed[2] else by_name.shown_stem(find, place.prefixes)
    when = assembly.clock.format_time(find.entry.modified) if find.entry.modified else "an unknown time"
    return f"{show_name(told or os.path.basename(find.entry.path))}: an autosave of {when} is {copy.content.state}"


def first_answers(assembly: Linker, finds: Sequence[Find], seconds: float, most: int) -> list[str]:
    """The newest copies of known places, checked, as lines for people: what is known before the whole tree is walked."""
    started = time.monotonic()
    lines = []
    newest = sorted(
        (f for f in finds if f.kind == "autosave" and f.entry.size and f.entry.modified),
        key=lambda f: f.entry.modified.timestamp() if f.entry.modified else 0.0,
        reverse=True,
    )
    for find in newest[:most]:
        if time.monotonic() - started > seconds:
            break
        with suppress(Exception):  # it is judged, and what goes wrong is said, later
            lines.append(_first_answer(assembly, find))
    return lines
