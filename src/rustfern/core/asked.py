"""How a name fits what a person typed: half of it, its words in any order, or a slip of the pen."""

from __future__ import annotations

import os
import re

NEAR = 0.78
"""How like a name must be, word by word, to stand for what was typed."""
_MIN_WORD = 4
"""Letters from which on a word that was typed may be a slip of another."""


def words_of(text: str) -> list[str]:
    """The words of a name or of what was typed, in small letters."""
    return [word for word in re.split(r"[\W_]+", text.casefold()) if word]


def holds(name: str, asked: str) -> bool:
    """Whether a name holds every word that was typed, or its beginning."""
    folded, words = name.casefold(), words_of(asked)
    return bool(words) and all(word in folded for word in words)


def likeness(asked: str, name: str) -> float:
    """How like a name is to what was typed, 0 to 1: each word by the one of the name that it is most like."""
    from rustfern.core.likeness import ratio

    words, theirs = words_of(asked), words_of(os.path.splitext(name)[0]) or words_of(name)
    if not words or not theirs:
        return 0.0
    total = 0.0
    for word in words:
        if len(word) < _MIN_WORD:
            total += word in theirs
        else:
            total += max(ratio(word, other) for other in theirs) / 100
    return total / len(words)
