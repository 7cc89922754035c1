"""Comparing content by the words it holds, as multisets of word hashes."""

from __future__ import annotations

import math
import sys
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import chain
from typing import TYPE_CHECKING

from rustfern.formats.words import unpack
from rustfern.model import Content

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

ALIKE = 0.98
"""Word multisets this much alike are equal content, across formats, unless one side holds a run of words of its own."""
_OWN_RUN = 4
"""So many words in a row that the other side lacks were typed; what conversions change is scattered."""
_SHORT = 200_000
_FEW, _TELLS = 6, 30
"""So few features prove nothing; so many prove as much as a text can."""


@lru_cache(maxsize=512)
def _bag(tokens: bytes) -> Counter[int]:
    return Counter(unpack(tokens))


@dataclass(frozen=True, slots=True)
class Difference:
    """Words that one side has and the other lacks, and words in common."""

    only_left: int
    only_right: int
    common: int

    @property
    def alike(self) -> float:
        """Share of words in common, 0 to 1."""
        whole = 2 * self.common + self.only_left + self.only_right
        return 2 * self.common / whole if whole else 1.0


def difference(left: Content, right: Content) -> Difference:
    """Compare two contents word by word."""
    if left.tokens == right.tokens:
        count = len(left.tokens) // 4
        return Difference(0, 0, count)
    a, b = _bag(left.tokens), _bag(right.tokens)
    common = (a & b).total()
    return Difference(a.total() - common, b.total() - common, common)


def equal(left: Content, right: Content) -> bool:
    """Whether two contents are one version: the same normalised text and the same pictures inside in one format, words alike across
    formats, the same pixels; else the same bytes.
    """
    if left.sha256 is not None and left.sha256 == right.sha256:
        return True
    if left.looks is not None and left.looks == right.looks:
        return True
    if left.text_hash is None or right.text_hash is None:
        return False
    if left.text_hash == right.text_hash:
        return left.format != right.format or not (own_parts(left, right) or own_parts(right, left))
    if left.format == right.format or difference(left, right).alike < ALIKE:
        return False
    return max(_own_run(left.tokens, right.tokens), _own_run(right.tokens, left.tokens)) < _OWN_RUN


def own_parts(holder: Content, other: Content) -> int:
    """How many pictures and objects inside a package another one lacks."""
    theirs = {value for kind, value in other.glance.identity if kind == "part"}
    return len({value for kind, value in holder.glance.identity if kind == "part"} - theirs)


@lru_cache(maxsize=512)
def _own_run(mine: bytes, theirs: bytes) -> int:
    """The most words in a row that the other side has nowhere, each as often as it stands there."""
    left = Counter(_bag(theirs))
    longest = run = 0
    for word in unpack(mine):
        if left[word] > 0:
            left[word] -= 1
            run = 0
        else:
            run += 1
            longest = max(longest, run)
    return longest


def kept(earlier: Content, later: Content) -> tuple[float, float]:
    """How much of an earlier version a later one keeps: (share of its words, share of its runs of three words), 0 to 1."""
    found = difference(earlier, later)
    whole = found.common + found.only_left
    runs = _runs(earlier.tokens)
    by_runs = len(runs & _runs(later.tokens)) / len(runs) if runs else 1.0
    return (found.common / whole if whole else 1.0), by_runs


def lacks(holder: Content, other: Content) -> int:
    """How many words `holder` has that `other` lacks; 0 across formats where they are alike."""
    if equal(holder, other):
        return 0
    return difference(holder, other).only_left


def run_hashes(tokens: bytes) -> NDArray[np.uint64]:
    """Every run of three words, hashed to 48 bits: single words are shared by all documents of a trade, runs hardly. Shape (words - 2,)."""
    import numpy as np

    words = np.frombuffer(tokens, dtype=np.uint32).astype(np.uint64)
    first, second, third = words[:-2], words[1:-1], words[2:]
    mixed = np.bitwise_xor(np.bitwise_xor(first * np.uint64(0x9E3779B1), second * np.uint64(0x85EBCA77)), third)
    cut: NDArray[np.uint64] = np.bitwise_and(mixed, np.uint64(0xFFFFFFFFFFFF))
    return cut


def _run_list(tokens: bytes) -> list[int]:
    """The same as `run_hashes`; for a few short texts, loading NumPy would take longer than hashing them."""
    if "numpy" in sys.modules or len(tokens) > _SHORT:
        found: list[int] = run_hashes(tokens).tolist()
        return found
    words = unpack(tokens)
    return [
        (a * 0x9E3779B1 ^ b * 0x85EBCA77 ^ c) & 0xFFFFFFFFFFFF
        for a, b, c in zip(words, words[1:], words[2:], strict=False)
    ]


@lru_cache(maxsize=512)
def _runs(tokens: bytes) -> frozenset[int]:
    return frozenset(_run_list(tokens))


@lru_cache(maxsize=512)
def _features(tokens: bytes, lines: bytes) -> frozenset[int]:
    return frozenset([*_run_list(tokens), *(line | 1 << 48 for line in unpack(lines))])


def features(content: Content) -> frozenset[int]:
    """What a text is compared by: its runs of three words, and its whole lines, paragraphs or cells; hashed to 49 bits."""
    return _features(content.tokens, content.lines)


def nothing_shared(copy: Content, document: Content) -> bool:
    """Whether two texts have no feature in common."""
    return features(copy).isdisjoint(features(document))


def shared(copy: Content, document: Content) -> float:
    """How strongly shared text ties a copy to a document, 0 to 1: the share of the smaller side's features found in the
    larger. A few words prove nothing: short texts count for less.
    """
    return shared_among(copy, {"": [document]}).get("", 0.0)


def shared_among(copy: Content, groups: Mapping[str, Sequence[Content]]) -> dict[str, float]:
    """How strongly shared text ties a copy to each of several documents (key → versions), 0 to 1; nothing where it does not.

    What several of them hold (the text of a template, of a letterhead) tells less the more hold it, and one that holds
    less of what tells them apart than another falls behind it.
    """
    mine = features(copy)
    if len(mine) < _FEW:
        return {}
    held = {key: [mine & features(each) for each in group] for key, group in groups.items()}
    carriers = Counter(chain.from_iterable(frozenset().union(*common) for common in held.values()))
    telling = {feature: 1.0 / count for feature, count in carriers.items()}
    weight_of = telling.__getitem__
    # What no document holds tells fully.
    whole = len(mine) - len(telling) + sum(telling.values())
    most = max((sum(map(weight_of, frozenset().union(*common))) for common in held.values()), default=0.0)
    out = {}
    for key, group in groups.items():
        best = 0.0
        for each, common in zip(group, held[key], strict=True):
            theirs = len(features(each))
            if theirs < _FEW:
                continue
            weight = sum(map(weight_of, common))
            inside = weight / (whole if len(mine) <= theirs else weight + theirs - len(common))
            best = max(best, max(0.0, (inside - 0.1) / 0.9) * min(1.0, theirs / _TELLS, len(mine) / _TELLS))
        if best > 0:
            out[key] = best * math.sqrt(sum(map(weight_of, frozenset().union(*held[key]))) / most)
    return out
