"""In what order pictures are shown, and which places in it nothing takes. Source: ITU-T H.264 8.2.1.1, H.265 8.3.1."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from itertools import pairwise
from typing import Generic, TypeVar

import msgspec

from rustfern.formats.media.coded_video import NoUnit

Head = TypeVar("Head")
_EDGE, _FAR = 16, 4_000
"""Pictures at the ends of a stretch of which some that are shown among them may lie outside of it; most pictures that a stretch is long."""


class StandIn(msgspec.Struct, Generic[Head], frozen=True):
    """A picture that stands in for a lost one: its bytes, and what its head tells."""

    data: bytes
    head: Head


class Around(msgspec.Struct, frozen=True):
    """What is known of the pictures around a hole: whether there are more before the first of them, behind how many of those after it others may be lost
    or come that are not looked at, and whether the next hole `is_near`, so that some places may be of pictures that are lost there.
    """

    is_cut: bool = False
    until: int = 0
    is_near: bool = False


def whole_order(low: int, last: int, many: int) -> int:
    """A place in the order of showing by its low bits, which have `many` values: the next one to the place of the `last` picture that others need."""
    half = many // 2
    return last + (low - last + half) % many - half


def step_of(orders: Sequence[int]) -> int:
    """How far apart the places of pictures are that are shown one after the other; 0 where nothing tells."""
    steps = Counter(after - before for before, after in pairwise(sorted(set(orders))))
    return steps.most_common(1)[0][0] if steps else 0


def _early(orders: Sequence[int]) -> int:
    """How many pictures at most are shown before one that came before them."""
    shown = {order: place for place, order in enumerate(sorted(orders))}
    return max(shown[order] - place for place, order in enumerate(orders))


def missing_orders(before: Sequence[int], after: Sequence[int], many: int | None, around: Around) -> list[int]:
    """The places that nothing takes around a hole, in order: those of pictures that came `before` it and `after` it are known,
    of others `around` tells. `many`: how many are lost, where that is known. Raises `NoUnit` where it cannot be told."""
    step = step_of([*before, *after])
    if not step or not before:
        raise NoUnit
    there = {*before, *after}
    first = min(before[_EDGE:] if around.is_cut and len(before) > _EDGE else before)
    until = around.until
    if many is None and len(before) >= _EDGE:
        until = min(until, 1 + _early(before))  # what is shown later still came later
    near = after[: max(until, 1)]
    last = max(near or before)
    if last - first > _FAR * step:
        raise NoUnit
    found = [place for place in range(first, last, step) if place not in there]
    usual = max(before)
    if any(place < usual - _EDGE * step for place in found) or any(
        (place - first) % step for place in there if place >= first
    ):
        raise NoUnit
    if many is None:
        return [place for place in found if not around.is_near or place < min(near)]
    while len(found) < many:
        found.append(max(*there, *found, last) + step)  # nothing that is known is shown there
    return found[-many:] if many else []
