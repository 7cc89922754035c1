"""Where two long sequences differ (lines of a log, rows of a sheet, paragraphs). What stands once on either side ties the two together, as far
as it comes in the same order (patience sorting; longest increasing subsequence, Fredman 1975); only what lies between is held against each other.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Iterator, Sequence
from difflib import SequenceMatcher

_STEP, _NEAR = 4096, 128
_MATCHED = 2_000
"""Items of a gap that are matched one by one."""
Gap = tuple[int, int, int, int]
"""First and behind the last item on the left, and on the right."""


def gaps(left: Sequence[Hashable], right: Sequence[Hashable]) -> Iterator[Gap]:
    """Where the sides differ, in order."""
    i = j = _alike_from(left, right, 0, 0, len(left), len(right))
    while i < len(left) and j < len(right):
        a, b = _next_tie(left, right, i, j)
        yield from _between(left, right, (i, a, j, b))
        same = _alike_from(left, right, a, b, len(left), len(right))
        i, j = a + same, b + same
    yield from _between(left, right, (i, len(left), j, len(right)))


def _next_tie(left: Sequence[Hashable], right: Sequence[Hashable], i: int, j: int) -> tuple[int, int]:
    """Where both sides come together again behind two places where they differ: near by if possible."""
    near = _NEAR
    while True:
        if found := _ties(left[i : i + near], right[j : j + near]):
            return i + found[0][0], j + found[0][1]
        if near >= max(len(left) - i, len(right) - j):
            return len(left), len(right)
        near *= 8


def _alike_from(left: Sequence[Hashable], right: Sequence[Hashable], a: int, c: int, b: int, d: int) -> int:
    """How many items are the same from two places on."""
    most, done = min(b - a, d - c), 0
    while done + _STEP <= most and left[a + done : a + done + _STEP] == right[c + done : c + done + _STEP]:
        done += _STEP
    while done < most and left[a + done] == right[c + done]:
        done += 1
    return done


def _ties(left: Sequence[Hashable], right: Sequence[Hashable]) -> list[tuple[int, int]]:
    """Items that stand once on each side and come in the same order, as many as possible."""
    once = [dict(zip(side, range(len(side)), strict=True)) for side in (left, right)]
    for side, there in zip((left, right), once, strict=True):
        if len(there) < len(side):
            for item, count in Counter(side).items():
                if count > 1:
                    del there[item]
    there = once[0]
    pairs = [(there[item], at) for item, at in once[1].items() if item in there]
    pairs.sort(key=lambda pair: pair[1])
    ends: list[int] = []
    tops: list[int] = []
    before: list[int] = []
    for number, (a, _) in enumerate(pairs):
        place = len(ends) if not ends or a > ends[-1] else bisect_left(ends, a)
        before.append(tops[place - 1] if place else -1)
        ends[place : place + 1] = [a]
        tops[place : place + 1] = [number]
    found: list[tuple[int, int]] = []
    at = tops[-1] if tops else -1
    while at >= 0:
        found.append(pairs[at])
        at = before[at]
    return found[::-1]


def _between(left: Sequence[Hashable], right: Sequence[Hashable], gap: Gap) -> Iterator[Gap]:
    """What differs in a gap: its ends may be the same; a gap that is too large is one difference."""
    a, b, c, d = gap
    same = _alike_from(left, right, a, c, b, d)
    a, c = a + same, c + same
    while b > a and d > c and left[b - 1] == right[d - 1]:
        b, d = b - 1, d - 1
    if a == b or c == d or b - a > _MATCHED or d - c > _MATCHED:
        if a < b or c < d:
            yield a, b, c, d
        return
    matcher = SequenceMatcher(None, left[a:b], right[c:d], autojunk=False)
    for what, i, j, k, m in matcher.get_opcodes():
        if what != "equal":
            yield a + i, a + j, c + k, c + m
