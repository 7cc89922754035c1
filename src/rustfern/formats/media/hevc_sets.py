"""What the sets of H.265 say of a sequence of pictures and of single ones, as far as heads of slices need it.

Source: ITU-T H.265 7.3.2.2 and 7.3.2.3 (sets), 7.3.3 (profiles), 7.3.4 (lists of scales), 7.3.7 and 7.4.8 (which pictures are needed).
"""

from __future__ import annotations

import msgspec

from rustfern.formats.media.coded_video import Bits, NoUnit

_MOST_SETS, _MOST_NEEDED = 64, 16

Needed = tuple[tuple[int, bool], ...]
"""The pictures that are held for one and those behind it: how much later each is shown than that one, and whether that one itself builds on it."""


class SequenceSet(msgspec.Struct, frozen=True):
    """Of a sequence: size in pixels, blocks as powers of two (smallest, largest), how colours are sampled (0: none), bits of the order of showing, how
    many pictures are held at most, the ready-made lists of needed ones, whether pictures can be held for long (and how many ready-made ones there are),
    and which tools are used.
    """

    width: int
    height: int
    smallest: int
    largest: int
    chroma: int
    order_bits: int
    held: int
    needed: tuple[Needed, ...]
    for_long: bool
    ready_long: int
    filters: bool
    foretells: bool


class PictureSet(msgspec.Struct, frozen=True):
    """Of pictures: the sequence that they are of, what the heads of their slices hold, and whether blocks may be coded without loss."""

    sequence: int
    dependent: bool
    tells_output: bool
    extra: int
    tells_start: bool
    quality: int
    tells_colours: bool
    weighs: bool
    by_rows: bool
    crosses: bool
    overrides: bool
    unfiltered: bool
    extends: bool
    loses_nothing: bool


def sequence_set(unit: bytes) -> SequenceSet:
    """A set for a sequence. Raises `NoUnit` where it is none, or says what is not known here."""
    bits = Bits(unit[2:2_000])
    bits.take(4)
    levels = bits.take(3)
    bits.take(1 + 88 + 8)
    present = [(bits.take(1), bits.take(1)) for _ in range(levels)]
    if levels:
        bits.take(2 * (8 - levels))
    for profile, level in present:
        bits.take((88 if profile else 0) + (8 if level else 0))
    bits.number()
    chroma = bits.number()
    if chroma == 3 and bits.take(1):
        raise NoUnit  # planes one by one
    width, height = bits.number(), bits.number()
    if bits.take(1):
        for _ in range(4):
            bits.number()
    bits.number(), bits.number()
    order_bits = bits.number() + 4
    told = bits.take(1)
    held = 0
    for _ in range(levels + 1 if told else 1):
        held = bits.number()
        bits.number(), bits.number()
    smallest = bits.number() + 3
    largest = smallest + bits.number()
    for _ in range(4):
        bits.number()
    if bits.take(1) and bits.take(1):
        _pass_scales(bits)
    bits.take(1)
    filters = bool(bits.take(1))
    if bits.take(1):
        bits.take(8)
        bits.number(), bits.number()
        bits.take(1)
    count = bits.number()
    if count > _MOST_SETS or not 3 <= smallest <= largest <= 6 or not 0 < width * height < 1 << 28 or order_bits > 16:
        raise NoUnit
    needed: list[Needed] = []
    for number in range(count):
        needed.append(needed_in(bits, number, needed, is_last=False))
    for_long, ready_long = bool(bits.take(1)), 0
    if for_long:
        ready_long = bits.number()
        bits.take(ready_long * (order_bits + 1))
    return SequenceSet(
        width, height, smallest, largest, chroma, order_bits, held, tuple(needed), for_long, ready_long, filters,
        bool(bits.take(1)),
    )  # fmt: skip


def picture_set(unit: bytes) -> PictureSet:
    """A set for pictures. Raises `NoUnit` where it is none, or says what is not known here: tiles, extensions."""
    bits = Bits(unit[2:2_000])
    bits.number()
    sequence = bits.number()
    dependent, tells_output, extra = bool(bits.take(1)), bool(bits.take(1)), bits.take(3)
    bits.take(1)
    tells_start = bool(bits.take(1))
    bits.number(), bits.number()
    quality = 26 + bits.signed()
    bits.take(2)
    if bits.take(1):
        bits.number()
    bits.signed(), bits.signed()
    tells_colours, weighs = bool(bits.take(1)), bool(bits.take(1))
    bits.take(1)
    loses_nothing = bool(bits.take(1))
    if bits.take(1):
        raise NoUnit
    by_rows, crosses = bool(bits.take(1)), bool(bits.take(1))
    overrides = unfiltered = False
    if bits.take(1):
        overrides, unfiltered = bool(bits.take(1)), bool(bits.take(1))
        if not unfiltered:
            bits.signed(), bits.signed()
    if bits.take(1):
        _pass_scales(bits)
    bits.take(1)
    bits.number()
    extends = bool(bits.take(1))
    if bits.take(1):
        raise NoUnit
    return PictureSet(
        sequence, dependent, tells_output, extra, tells_start, quality, tells_colours, weighs, by_rows, crosses, overrides, unfiltered, extends, loses_nothing,
    )  # fmt: skip


def needed_in(bits: Bits, number: int, earlier: list[Needed] | tuple[Needed, ...], *, is_last: bool) -> Needed:
    """The list with a `number`, told by itself or by an earlier one; `is_last`: it stands in the head of a slice. Raises `NoUnit`."""
    if number and bits.take(1):
        back = bits.number() + 1 if is_last else 1
        if back > number:
            raise NoUnit
        sign, size = bits.take(1), bits.number() + 1
        away = -size if sign else size
        base = earlier[number - back]
        found = []
        for later, _ in (*base, (0, False)):
            used = bool(bits.take(1))
            if used or bits.take(1):
                found.append((later + away, used))
        found = [each for each in found if each[0]]
        return (
            *sorted((each for each in found if each[0] < 0), reverse=True),
            *sorted(each for each in found if each[0] > 0),
        )
    before, behind = bits.number(), bits.number()
    if before + behind > _MOST_NEEDED:
        raise NoUnit
    told: list[tuple[int, bool]] = []
    for count, sign in ((before, -1), (behind, 1)):
        later = 0
        for _ in range(count):
            later += sign * (bits.number() + 1)
            told.append((later, bool(bits.take(1))))
    return tuple(told)


def _pass_scales(bits: Bits) -> None:
    for size in range(4):
        for _ in range(0, 6, 3 if size == 3 else 1):
            if not bits.take(1):
                bits.number()
                continue
            if size > 1:
                bits.signed()
            for _ in range(min(64, 1 << (4 + (size << 1)))):
                bits.signed()
