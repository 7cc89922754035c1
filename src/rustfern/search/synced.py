"""A synced folder and its service: that two roots are the two sides of one is shown by files that are the same in both, never by names alone."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress

from rustfern.core.errors import SourceError
from rustfern.core.remote_paths import is_remote, parts_of
from rustfern.sources.interface import Source

_MOST_COMPARED, _DEEPEST = 400, 4
_SECONDS = 2.0
"""Times that are so close are the same: some sides keep whole seconds, or pairs of them."""
_EQUAL_SIZES = 3
"""So many files of equal size under equal paths will do, where a service keeps times of its own."""


def synced_roots(sources: Sequence[Source]) -> dict[str, str]:
    """The root of each service whose folder is among the roots too, and that folder."""
    found = {}
    for far in sources:
        if not is_remote(far.root) or parts_of(far.root)[0] == "sftp":
            continue
        near = next((each for each in sources if not is_remote(each.root) and _are_sides_of_one(far, each)), None)
        if near is not None:
            found[far.root] = near.root
    return found


def _are_sides_of_one(far: Source, near: Source) -> bool:
    compared = equal = 0
    waiting = [("", 0)]
    while waiting and compared < _MOST_COMPARED:
        inner, depth = waiting.pop(0)
        with suppress(SourceError):
            theirs = far.names(os.path.join(far.root, inner) if inner else far.root)
            ours = near.names(os.path.join(near.root, inner) if inner else near.root)
            if depth < _DEEPEST:
                waiting += [(os.path.join(inner, name), depth + 1) for name in sorted({*theirs[0]} & {*ours[0]})]
            for name in sorted({*theirs[1]} & {*ours[1]})[:_MOST_COMPARED]:
                compared += 1
                one, other = (side.entry(os.path.join(side.root, inner, name)) for side in (far, near))
                if not one.size or one.size != other.size or not (one.is_file and other.is_file):
                    continue
                equal += 1
                times = one.modified, other.modified
                same_time = times[0] and times[1] and abs((times[0] - times[1]).total_seconds()) <= _SECONDS
                if same_time or equal >= _EQUAL_SIZES:
                    return True
    return False
