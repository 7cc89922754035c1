"""The one table of weights. Log-odds (natural logarithm): +2.3 makes it ten times as likely, +4.6 a hundred times.

Evidence of one family is not independent: only the strongest of each family counts. What speaks against has a negative weight.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from rustfern.core.model import Evidence

# kind → (weight, family)
WEIGHTS: dict[str, tuple[float, str]] = {
    "trash-record": (7.5, "says-so"),
    "recovery-list": (7.0, "says-so"),
    "swap-header": (7.0, "says-so"),
    "its-own-file": (9.0, "says-so"),
    "deleted-record": (7.5, "says-so"),
    "own-content": (2.5, "says-so"),
    "lock-name": (6.0, "name"),
    "lock-name-cut": (4.5, "name"),
    "identical-bytes": (8.0, "content"),
    "embedded-identity": (6.5, "identity"),
    "name-beside": (5.0, "name"),
    "name-and-path": (5.5, "name"),
    "name-within": (3.0, "name"),
    "same-name": (1.2, "name"),
    "index-beside": (6.0, "says-so"),
    "name": (3.6, "name"),
    "name-ending": (3.0, "name"),
    "name-elsewhere": (0.8, "name"),
    "shared-content": (5.5, "content"),
    "recent-list": (1.6, "recent"),
    "open-then": (3.0, "name"),
    "recorded-folder": (3.5, "folder"),
    "same-format": (1.5, "format"),
    "copy-then": (2.5, "circumstance"),
    "saved-then": (1.5, "circumstance"),
    "open-too": (1.5, "circumstance"),
    "same-folder-then": (3.0, "name"),
    "same-folder": (0.4, "name"),
    "saved-after": (1.0, "order"),
    "saved-before": (-1.5, "order"),
    "fewer-saves": (-4.5, "saves"),
    "other-format": (-2.0, "format"),
    "other-content": (-1.5, "content"),
    "other-person": (-2.5, "person"),
    "other-name": (-5.0, "other-name"),
}

THRESHOLD = 0.5
"""Below this confidence nothing is claimed."""

NONE_ODDS = 0.8
"""Log-odds of "belongs to none of them", before any evidence."""

SURE, LIKELY = 0.95, 0.75


def evidence(kind: str, text: str, share: float = 1.0) -> Evidence:
    """A piece of evidence of the table; `share` (0 to 1) scales the weight of graded kinds."""
    weight, family = WEIGHTS[kind]
    return Evidence(kind, round(weight * share, 2), text, family)


def total(pieces: Iterable[Evidence]) -> float:
    """The sum of the strongest piece of each family."""
    best: dict[str, float] = {}
    for piece in pieces:
        best[piece.family] = max(piece.weight, best.get(piece.family, -math.inf))
    return sum(best.values())


def confidences(candidates: Sequence[Sequence[Evidence]]) -> list[float]:
    """How likely each candidate is the one, with "none of them" as a choice; the prior falls with their number."""
    if not candidates:
        return []
    prior = -math.log(len(candidates))
    odds = [math.exp(min(total(pieces) + prior, 50.0)) if pieces else 0.0 for pieces in candidates]
    whole = sum(odds) + math.exp(NONE_ODDS)
    return [value / whole for value in odds]


def in_words(confidence: float) -> str:
    """For people: sure, likely, possible."""
    return "sure" if confidence >= SURE else "likely" if confidence >= LIKELY else "possible"
