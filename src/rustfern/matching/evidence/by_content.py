"""Comparing content by the words it holds, as multisets of word hashes."""

from __future__ import annotations

import math
import sys
from collections import Counter
from collections.abc import Mapping, Sequence
from functools import lru_cache
from itertools import chain
from typing import TYPE_CHECKING

import msgspec

from rustfern.core.model import Content
from rustfern.formats.text_sink import MAX_WORDS, unpack
from rustfern.matching.evidence.cache import remembered

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

ALIKE = 0.98
"""Word multisets this much alike are equal content, across formats, unless one side holds a run of words of its own."""
_MIN_OWN_RUN_WORDS = 4
"""Words in a row, absent from the other side, that show typing; what conversions change is scattered."""
_SHORT_TEXT_BYTES = 200_000
_MIN_FEATURES, _TELLING_FEATURES = 6, 30
"""Features below which nothing is proved, and above which more prove no more."""


@remembered
def _bag(tokens: bytes) -> Counter[int]:
    return Counter(unpack(tokens))


class Difference(msgspec.Struct, frozen=True):
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
    return _difference(left.tokens, right.tokens)


@lru_cache(maxsize=4096)
def _difference(left: bytes, right: bytes) -> Difference:
    if left == right:
        return Difference(0, 0, len(left) // 4)
    if max(len(left), len(right)) > _SHORT_TEXT_BYTES:
        common = _common_words(left, right)
        return Difference(len(left) // 4 - common, len(right) // 4 - common, common)
    a, b = _bag(left), _bag(right)
    # What two have in common is looked for in the shorter one.
    common = (a & b if len(a) <= len(b) else b & a).total()
    return Difference(a.total() - common, b.total() - common, common)


def _counts(tokens: bytes) -> tuple[NDArray[np.uint32], NDArray[np.int64]]:
    """The words of a long text, sorted, each once, and how often each stands there."""
    import numpy as np

    words, counts = np.unique(np.frombuffer(tokens, np.uint32), return_counts=True)
    return words, counts


def _common_words(left: bytes, right: bytes) -> int:
    """How many words two long texts have in common, each as often as it stands in both."""
    import numpy as np

    (mine, here), (theirs, there) = _counts(left), _counts(right)
    _, at, also = np.intersect1d(mine, theirs, assume_unique=True, return_indices=True)
    return int(np.minimum(here[at], there[also]).sum())


def equal(left: Content, right: Content) -> bool:
    """Whether two contents are one version: the same normalised text and the same pictures inside in one format, words alike across
    formats, the same pixels; else the same bytes.
    """
    if left.sha256 is not None and left.sha256 == right.sha256:
        return True
    if left.pixel_hash is not None and left.pixel_hash == right.pixel_hash:
        return True
    if left.text_hash is None or right.text_hash is None:
        return False
    if left.text_hash == right.text_hash:
        return left.format != right.format or not (parts_missing_from(left, right) or parts_missing_from(right, left))
    if left.format == right.format or difference(left, right).alike < ALIKE:
        return False
    return max(_own_run(left.tokens, right.tokens), _own_run(right.tokens, left.tokens)) < _MIN_OWN_RUN_WORDS


def parts_missing_from(holder: Content, other: Content) -> int:
    """How many pictures and objects inside a package another one lacks."""
    theirs = {value for kind, value in other.glance.identity if kind == "part"}
    return len({value for kind, value in holder.glance.identity if kind == "part"} - theirs)


@remembered
def _own_run(mine: bytes, theirs: bytes) -> int:
    """The most words in a row that the other side has nowhere, each as often as it stands there."""
    if max(len(mine), len(theirs)) > _SHORT_TEXT_BYTES:
        return _own_run_of_long(mine, theirs)
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


def _own_run_of_long(mine: bytes, theirs: bytes) -> int:
    import numpy as np

    words, there = _counts(theirs)
    own = np.frombuffer(mine, np.uint32)
    if not len(own):
        return 0
    order = np.argsort(own, kind="stable")
    ranked = own[order]
    first = np.ones(len(ranked), np.bool_)
    np.not_equal(ranked[1:], ranked[:-1], out=first[1:])
    starts = np.flatnonzero(first)
    # The how-manyeth time each word stands there, in reading order.
    times = np.arange(len(ranked)) - np.repeat(starts, np.diff(np.append(starts, len(ranked))))
    places = np.minimum(words.searchsorted(ranked), max(len(words) - 1, 0))
    known = (words[places] == ranked) & (times < there[places]) if len(words) else np.zeros(len(ranked), np.bool_)
    found = np.empty(len(ranked), np.bool_)
    found[order] = known
    ends = np.flatnonzero(np.append(found, True))
    return int(np.diff(np.concatenate([[-1], ends])).max()) - 1


def share_kept(earlier: Content, later: Content) -> tuple[float, float]:
    """How much of an earlier version a later one keeps: (share of its words, share of its runs of three words), 0 to 1."""
    found = difference(earlier, later)
    whole = found.common + found.only_left
    if max(len(earlier.tokens), len(later.tokens)) > _SHORT_TEXT_BYTES:
        import numpy as np

        mine, theirs = (np.unique(run_hashes(each.tokens)) for each in (earlier, later))
        share = np.isin(mine, theirs, assume_unique=True).mean() if len(mine) else 1.0
        return (found.common / whole if whole else 1.0), float(share)
    runs = _runs(earlier.tokens)
    by_runs = len(runs & _runs(later.tokens)) / len(runs) if runs else 1.0
    return (found.common / whole if whole else 1.0), by_runs


def words_missing_from(holder: Content, other: Content) -> int:
    """How many words `holder` has that `other` lacks; 0 across formats where they are alike."""
    if equal(holder, other):
        return 0
    found = difference(holder, other).only_left
    if not found and len(holder.tokens) // 4 >= MAX_WORDS:
        # They differ behind the words that are compared: how much of it is its own is not known.
        return max((holder.words or 0) - (other.words or 0), 1)
    return found


def run_hashes(tokens: bytes) -> NDArray[np.uint64]:
    """Every run of three words, hashed to 48 bits: single words are shared by all documents of a trade, runs hardly. Shape (words - 2,)."""
    import numpy as np

    words = np.frombuffer(tokens, dtype=np.uint32).astype(np.uint64)
    first, second, third = words[:-2], words[1:-1], words[2:]
    mixed = np.bitwise_xor(np.bitwise_xor(first * np.uint64(0x9E3779B1), second * np.uint64(0x85EBCA77)), third)
    cut: NDArray[np.uint64] = np.bitwise_and(mixed, np.uint64(0xFFFFFFFFFFFF))
    return cut


def _with_arrays(tokens: bytes) -> bool:
    """For a few short texts, loading NumPy would take longer than hashing them."""
    return "numpy" in sys.modules or len(tokens) > _SHORT_TEXT_BYTES


@remembered
def _array(tokens: bytes, lines: bytes) -> NDArray[np.uint64]:
    """The features as an array, sorted, each once."""
    import numpy as np

    told = np.frombuffer(lines, np.uint32).astype(np.uint64) | np.uint64(1 << 48)
    found = np.concatenate([run_hashes(tokens), told])
    found.sort()
    if not len(found):
        return found
    first = np.ones(len(found), np.bool_)
    np.not_equal(found[1:], found[:-1], out=first[1:])
    once: NDArray[np.uint64] = found[first]
    return once


def _common(mine: NDArray[np.uint64], theirs: NDArray[np.uint64]) -> NDArray[np.bool_]:
    """Which of one text's features another one has; both sorted. Shape (of mine,)."""
    places = theirs.searchsorted(mine)
    if not len(theirs):
        return places > 0
    places[places == len(theirs)] = 0
    found: NDArray[np.bool_] = theirs[places] == mine
    return found


def _run_list(tokens: bytes) -> list[int]:
    """The same as `run_hashes`."""
    if _with_arrays(tokens):
        found: list[int] = run_hashes(tokens).tolist()
        return found
    words = unpack(tokens)
    return [
        (a * 0x9E3779B1 ^ b * 0x85EBCA77 ^ c) & 0xFFFFFFFFFFFF
        for a, b, c in zip(words, words[1:], words[2:], strict=False)
    ]


@remembered
def _runs(tokens: bytes) -> frozenset[int]:
    return frozenset(_run_list(tokens))


@remembered
def _features(tokens: bytes, lines: bytes) -> frozenset[int]:
    return frozenset([*_run_list(tokens), *(line | 1 << 48 for line in unpack(lines))])


def features(content: Content) -> frozenset[int]:
    """What a text is compared by: its runs of three words, and its whole lines, paragraphs or cells; hashed to 49 bits."""
    return _features(content.tokens, content.lines)


def nothing_shared(copy: Content, document: Content) -> bool:
    """Whether two texts have no feature in common."""
    if _with_arrays(copy.tokens):
        return not _common(_array(copy.tokens, copy.lines), _array(document.tokens, document.lines)).any()
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
    held = _held_by_arrays if _with_arrays(copy.tokens) else _held_by_sets
    size, whole, found = held(copy, groups)
    most = max((weight for weight, _ in found.values()), default=0.0)
    out = {}
    for key, (together, versions) in found.items():
        best = 0.0
        for theirs, common, weight in versions:
            if min(theirs, size) < _MIN_FEATURES:
                continue
            inside = weight / (whole if size <= theirs else weight + theirs - common)
            best = max(
                best, max(0.0, (inside - 0.1) / 0.9) * min(1.0, theirs / _TELLING_FEATURES, size / _TELLING_FEATURES)
            )
        if best > 0:
            out[key] = best * math.sqrt(together / most)
    return out


_Held = tuple[int, float, dict[str, tuple[float, list[tuple[int, int, float]]]]]
"""How many features a copy has; the weight of all of them; and for each document the weight of those that it holds, with (features,
common ones, their weight) of each version. A feature weighs the less the more documents hold it; what none holds weighs 1.
"""


def _held_by_sets(copy: Content, groups: Mapping[str, Sequence[Content]]) -> _Held:
    mine = features(copy)
    held = {key: [(len(theirs), mine & theirs) for theirs in map(features, group)] for key, group in groups.items()}
    together = {key: frozenset().union(*(common for _, common in versions)) for key, versions in held.items()}
    telling = {feature: 1.0 / count for feature, count in Counter(chain.from_iterable(together.values())).items()}

    def weight(common: frozenset[int]) -> float:
        return sum(map(telling.__getitem__, common))

    whole = len(mine) - len(telling) + sum(telling.values())
    return len(mine), whole, {
        key: (weight(together[key]), [(theirs, len(common), weight(common)) for theirs, common in versions])
        for key, versions in held.items()
    }  # fmt: skip


def _held_by_arrays(copy: Content, groups: Mapping[str, Sequence[Content]]) -> _Held:
    import numpy as np

    mine = _array(copy.tokens, copy.lines)
    held: dict[str, list[tuple[int, NDArray[np.bool_]]]] = {}
    together: dict[str, NDArray[np.bool_]] = {}
    carriers = np.zeros(len(mine))
    for key, group in groups.items():
        held[key] = []
        together[key] = np.zeros(len(mine), np.bool_)
        for each in group:
            theirs = _array(each.tokens, each.lines)
            common = _common(mine, theirs)
            held[key].append((len(theirs), common))
            together[key] |= common
        carriers += together[key]
    telling = 1.0 / np.maximum(carriers, 1.0)
    return len(mine), float(telling.sum()), {
        key: (
            float(telling @ together[key]),
            [(theirs, int(np.count_nonzero(common)), float(telling @ common)) for theirs, common in versions],
        )
        for key, versions in held.items()
    }  # fmt: skip
