"""How two texts differ, piece by piece (paragraphs, lines or cells) and within a changed piece word by word. Opens no file.

Longest matching runs (Ratcliff and Obershelp, 1988), as the standard library finds them.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Literal

from rustfern.formats.words import words_of

Kind = Literal["same", "added", "removed"]
_WORD = re.compile(r"\s+")
_ALIKE = 0.4
"""Pieces that share less are not one piece that was changed, but one that went and one that came."""
_LONG = 4_000


@dataclass(frozen=True, slots=True)
class Run:
    """Words in a row of one kind."""

    kind: Kind
    text: str


@dataclass(frozen=True, slots=True)
class Change:
    """One piece that was added, removed or changed; `at` is its number on the right side (the left one, if removed), from 1."""

    kind: Literal["added", "removed", "changed"]
    at: int
    runs: tuple[Run, ...]


@dataclass(frozen=True, slots=True)
class Comparison:
    """What the right side has more and fewer than the left one, in words, and the changes in reading order."""

    more: int
    fewer: int
    same: int
    changes: tuple[Change, ...]


def compare(left: Sequence[str], right: Sequence[str]) -> Comparison:
    """Compare two texts by their pieces."""
    changes: list[Change] = []
    matcher = SequenceMatcher(None, left, right, autojunk=len(left) > _LONG)
    for what, a, b, c, d in matcher.get_opcodes():
        if what != "equal":
            changes += _pair(left[a:b], right[c:d], a + 1, c + 1)
    # The sum counts words wherever they stand: what was only moved is neither more nor fewer.
    old, new = (Counter(word for piece in side for word in words_of(piece)) for side in (left, right))
    return Comparison((new - old).total(), (old - new).total(), (old & new).total(), tuple(changes))


def _words(piece: str) -> list[str]:
    return [word for word in _WORD.split(piece) if word]


def _pair(old: Sequence[str], new: Sequence[str], old_at: int, new_at: int) -> list[Change]:
    """Pieces that stand in each other's place: each new one is held against the first old one that is like it."""
    out: list[Change] = []
    at = 0
    for number, piece in enumerate(new):
        found = next((i for i in range(at, len(old)) if _alike(old[i], piece)), None)
        if found is None:
            out.append(Change("added", new_at + number, (Run("added", piece),)))
            continue
        out += [Change("removed", old_at + i, (Run("removed", old[i]),)) for i in range(at, found)]
        out.append(Change("changed", new_at + number, _runs(_words(old[found]), _words(piece))))
        at = found + 1
    return out + [Change("removed", old_at + i, (Run("removed", old[i]),)) for i in range(at, len(old))]


def _alike(old: str, new: str) -> bool:
    a, b = _words(old), _words(new)
    matcher = SequenceMatcher(None, a, b, autojunk=False)
    return matcher.real_quick_ratio() > _ALIKE and matcher.quick_ratio() > _ALIKE and matcher.ratio() > _ALIKE


def _runs(old: Sequence[str], new: Sequence[str]) -> tuple[Run, ...]:
    out: list[Run] = []
    for what, a, b, c, d in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if what == "equal":
            out.append(Run("same", " ".join(old[a:b])))
            continue
        if a < b:
            out.append(Run("removed", " ".join(old[a:b])))
        if c < d:
            out.append(Run("added", " ".join(new[c:d])))
    return tuple(out)
