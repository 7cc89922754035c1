"""Identities inside documents, weighed: the same id in a copy and a document ties them, unless many documents carry it."""

from __future__ import annotations

import math
from collections.abc import Callable

from rustfern.core.model import Content, Evidence
from rustfern.matching.evidence.by_content import nothing_shared
from rustfern.matching.evidence.weights import WEIGHTS, evidence

Mark = tuple[str, str]

# kind → (share of the table's weight, how it is said)
_KINDS = {
    "document-id": (1.0, "both carry the same document id"),
    "file-id": (0.95, "both carry the same file identifier"),
    "picture-id": (0.9, "both carry the same id in their metadata"),
    "first-save": (0.85, "both go back to the same first save"),
    "recorded": (0.85, "both say that they were recorded at the same moment, with the same tracks"),
    "taken": (0.8, "both were taken at the same moment by the same camera"),
    "part": (0.6, "both hold the same picture or object"),
    "made": (0.35, "both were made at the same moment by the same person"),
}
_SAVES, _NEW = 2, 0.5
"""What is left of a common first save where one of them has hardly any save of its own: all made from a template begin so."""
_DIGITS = 18
_NO_WORDS, _MANY_WORDS = 0.1, 20
"""What is left where both hold text and none of it is the same: documents of a program that gives all of them one id."""


def values(content: Content, kind: str) -> frozenset[str]:
    """The values of one kind of identity."""
    return frozenset(value for found, value in content.glance.identity if found == kind)


def _revisions(content: Content) -> frozenset[str]:
    return frozenset(" ".join(values(content, "revisions")).split())


def _nothing_in_common(left: Content, right: Content) -> bool:
    enough = (left.words or 0) >= _MANY_WORDS and (right.words or 0) >= _MANY_WORDS
    return enough and nothing_shared(left, right)


def shared_identity(
    copy: Content, document: Content, carriers: Callable[[Mark], int], above: float = 0.0
) -> Evidence | None:
    """The strongest identity that a copy and a version of a document share, if it weighs more than `above`; `carriers` tells how many documents carry
    one.

    A difference says nothing: saving under another name, converting and merging change or drop these ids.
    """
    best: Evidence | None = None
    least = above
    both = set(copy.glance.identity) & set(document.glance.identity)
    for kind, value in sorted(both):
        if kind not in _KINDS:
            continue
        share, says = _KINDS[kind]
        count = max(carriers((kind, value)), 1)
        scaled = share / (1 + math.log(count))
        if kind == "first-save":
            mine, theirs = _revisions(copy), _revisions(document)
            if mine and theirs and not (mine <= theirs or theirs <= mine):
                continue  # each has saves that the other lacks: made from one template
            if min(len(mine), len(theirs)) >= _SAVES:
                says = f"{says}, and one holds all the saves of the other"
            else:
                scaled *= _NEW
        if WEIGHTS["embedded-identity"][0] * scaled <= least:
            continue
        if _nothing_in_common(copy, document):
            scaled *= _NO_WORDS
        many = f" (as {count - 1} other documents do)" if count > 1 else ""
        found = evidence("embedded-identity", says + many, scaled)
        if found.weight > least:
            best, least = found, found.weight
    return best


def later(left: Content, right: Content) -> int:
    """Which of two versions of one document was saved later by what they carry: 1 left, -1 right, 0 not to be told.

    The set of saves grows with each save; so do the count of editing cycles and the time that was worked on it.
    """
    if values(left, "first-save") & values(right, "first-save"):
        mine, theirs = _revisions(left), _revisions(right)
        if mine > theirs:
            return 1
        if mine < theirs:
            return -1
    if values(left, "made") & values(right, "made"):
        for counted in ("cycles", "worked"):
            ours, other = _most(values(left, counted)), _most(values(right, counted))
            if ours is not None and other is not None and ours != other:
                return 1 if ours > other else -1
    return 0


def _most(counts: frozenset[str]) -> int | None:
    """The greatest of the counts that a document carries; what is no count, or has more digits than any, is passed over."""
    return max((int(count) for count in counts if len(count) <= _DIGITS and count.isdecimal()), default=None)
