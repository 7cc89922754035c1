"""How alike two short texts are, for names as people type them: 0 to 100.

Source: H. Hyyrö, Bit-parallel LCS-length computation revisited (2004), for the longest common subsequence.
"""

from __future__ import annotations

from collections.abc import Sequence


def plain(text: str) -> str:
    """A text as it is compared: small letters and digits, all else as blanks."""
    return "".join(letter if letter.isalnum() else " " for letter in text.lower()).strip()


def _common(one: str, other: str) -> int:
    """Length of the longest common subsequence."""
    places: dict[str, int] = {}
    for number, letter in enumerate(one):
        places[letter] = places.get(letter, 0) | 1 << number
    whole = (1 << len(one)) - 1
    left = whole
    for letter in other:
        found = left & places.get(letter, 0)
        left = ((left + found) | (left - found)) & whole
    return len(one) - left.bit_count()


def _share(distance: int, length: int) -> float:
    """What two texts of so many letters together have in common, where so many of these would have to be taken out or put in."""
    return 100.0 - 100.0 * distance / length if length else 100.0


def ratio(one: str, other: str) -> float:
    """Twice the letters that stand in the same order in both, of all their letters."""
    length = len(one) + len(other)
    return _share(length - 2 * _common(one, other), length)


def in_order(one: str, other: str) -> float:
    """`ratio` of the words of both, each in the order of the alphabet."""
    return ratio(_joined(one.split()), _joined(other.split()))


def by_words(one: str, other: str) -> float:
    """The same, with words in any order, and each once: all words of one that are in the other, too, are 100."""
    mine, theirs = set(one.split()), set(other.split())
    if not mine or not theirs:
        return 0.0
    both, only_mine, only_theirs = mine & theirs, mine - theirs, theirs - mine
    if both and not (only_mine and only_theirs):
        return 100.0
    left, right = _joined(only_mine), _joined(only_theirs)
    shared = len(_joined(both))
    gap = int(bool(shared))
    distance = len(left) + len(right) - 2 * _common(left, right)
    found = [_share(distance, 2 * (shared + gap) + len(left) + len(right))]
    if shared:
        found += [_share(gap + len(rest), 2 * shared + gap + len(rest)) for rest in (left, right)]
    return max(found)


def _joined(words: Sequence[str] | set[str]) -> str:
    return " ".join(sorted(words))
