"""How two large texts of lines (logs, lists, code) differ. Lines that stand once on either side tie the texts together, as far as they come in
the same order (patience sorting; longest increasing subsequence, Fredman 1975); only what lies between is held against each other. Opens no file.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator, Sequence
from difflib import SequenceMatcher

from msgspec.structs import replace

from rustfern.formats.text_sink import words_of
from rustfern.operations.text_diff import Change, Comparison, Run, paired

_STEP, _NEAR = 4096, 128
_MATCHED, _PAIRED = 2_000, 200
"""Lines of a gap that are matched one by one, and lines in each other's place that are compared by their words."""
Gap = tuple[int, int, int, int]
"""First and behind the last line on the left, and on the right."""


def compare_lines(left: Sequence[bytes], right: Sequence[bytes], words: int) -> Comparison:
    """Compare two texts by their lines (UTF-8); `words` are those of the whole right side. Blank lines are no change."""
    changes: list[Change] = []
    old: Counter[str] = Counter()
    new: Counter[str] = Counter()
    for a, b, c, d in gaps(left, right):
        gone, come = _texts(left[a:b]), _texts(right[c:d])
        old.update(word for line in gone for word in words_of(line))
        new.update(word for line in come for word in words_of(line))
        if len(gone) <= _PAIRED and len(come) <= _PAIRED:
            found = paired(gone, come, 0, 0)
        else:
            found = [Change("removed", n, (Run("removed", text),)) for n, text in enumerate(gone)]
            found += [Change("added", n, (Run("added", text),)) for n, text in enumerate(come)]
        starts = {"removed": a, "added": c, "changed": c}
        changes += [replace(each, at=starts[each.kind] + each.at + 1) for each in found if _says(each)]
    more = (new - old).total()
    return Comparison(more, (old - new).total(), words - more, tuple(changes))


def _texts(lines: Sequence[bytes]) -> list[str]:
    return [line.decode("utf-8", "replace").rstrip().expandtabs(4) for line in lines]


def _says(change: Change) -> bool:
    return any(run.text for run in change.runs)


def gaps(left: Sequence[bytes], right: Sequence[bytes]) -> Iterator[Gap]:
    """Where the sides differ, in order."""
    i = j = _alike_from(left, right, 0, 0, len(left), len(right))
    while i < len(left) and j < len(right):
        a, b = _next_tie(left, right, i, j)
        yield from _between(left, right, (i, a, j, b))
        same = _alike_from(left, right, a, b, len(left), len(right))
        i, j = a + same, b + same
    yield from _between(left, right, (i, len(left), j, len(right)))


def _next_tie(left: Sequence[bytes], right: Sequence[bytes], i: int, j: int) -> tuple[int, int]:
    """Where both sides come together again behind two places where they differ: near by if possible."""
    near = _NEAR
    while True:
        if found := _ties(left[i : i + near], right[j : j + near]):
            return i + found[0][0], j + found[0][1]
        if near >= max(len(left) - i, len(right) - j):
            return len(left), len(right)
        near *= 8


def _alike_from(left: Sequence[bytes], right: Sequence[bytes], a: int, c: int, b: int, d: int) -> int:
    """How many lines are the same from two places on."""
    most, done = min(b - a, d - c), 0
    while done + _STEP <= most and left[a + done : a + done + _STEP] == right[c + done : c + done + _STEP]:
        done += _STEP
    while done < most and left[a + done] == right[c + done]:
        done += 1
    return done


def _ties(left: Sequence[bytes], right: Sequence[bytes]) -> list[tuple[int, int]]:
    """Lines that stand once on each side and come in the same order, as many as possible."""
    once = [dict(zip(side, range(len(side)), strict=True)) for side in (left, right)]
    for side, there in zip((left, right), once, strict=True):
        if len(there) < len(side):
            for line, count in Counter(side).items():
                if count > 1:
                    del there[line]
    there = once[0]
    pairs = [(there[line], at) for line, at in once[1].items() if line in there]
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


def _between(left: Sequence[bytes], right: Sequence[bytes], gap: Gap) -> Iterator[Gap]:
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
