"""Settings of H.264 pictures: parameter sets made anew from facts, and the facts that the heads of slices prove.

Frames are numbered one by one, and what follows the head of a slice in arithmetic code begins at a whole byte, behind ones: of all ways in which a
head may be laid out, hardly ever more than one fits some dozens of pictures. Source: ITU-T H.264 7.3.2.1.1, 7.3.2.2, 7.3.3, 7.3.4, 7.4.3, E.1.1.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import product

import msgspec
from msgspec.structs import replace

from rustfern.formats.media.coded_video import Avc, Bits, NoUnit
from rustfern.repair.recordings.set_bits import SetBits

_B, _I = 1, 2
_FEWEST, _FEWEST_PLAIN, _SURE_ONES = 4, 12, 24
_REFERENCES = (1, 2, 3, 4, 5, 6, 8, 16)
_MOST_REFERENCES, _HELD = 32, 4
_USUAL_QUALITY = 26
_NEVER = 510
"""Arithmetic code never begins with this, or more, in its first nine bits (9.3.1.2)."""


class Facts(msgspec.Struct, frozen=True):
    """What parameter sets say but for the size. `order_bits` is 0 where pictures are shown as they come; `quality` is that of a picture before its own
    correction, less 26; `weights` whether P pictures have weights, `blends` how B pictures are weighted (0 to 2).
    """

    number_bits: int = 4
    order_bits: int = 0
    cabac: bool = True
    filters: bool = True
    weights: bool = False
    blends: int = 0
    references: int = 1
    held: int = 1
    reorder: int = 0
    high: bool = False
    quality: int = 0
    colours: int = 0
    profile: int = 77


def made(facts: Facts, width: int, height: int) -> Avc:
    """The parameter sets of pictures of a size."""
    bits = SetBits()
    bits.put(facts.profile, 8)
    bits.put(0, 8)
    bits.put(51, 8)
    bits.number(0)
    if facts.profile == 100:
        for value in (1, 0, 0):
            bits.number(value)
        bits.put(0, 2)
    bits.number(facts.number_bits - 4)
    bits.number(0 if facts.order_bits else 2)
    if facts.order_bits:
        bits.number(facts.order_bits - 4)
    bits.number(facts.held)
    bits.put(0, 1)
    across, down = -(-width // 16), -(-height // 16)
    bits.number(across - 1)
    bits.number(down - 1)
    bits.put(0b11, 2)
    right, bottom = (across * 16 - width) // 2, (down * 16 - height) // 2
    bits.put(int(bool(right or bottom)), 1)
    if right or bottom:
        for value in (0, right, 0, bottom):
            bits.number(value)
    bits.put(1, 1)  # usability: only how many pictures wait for others
    bits.put(0b00000000_11, 10)
    for value in (0, 0, 11, 11, facts.reorder, facts.held):
        bits.number(value)
    first = bits.unit(b"\x67")
    bits = SetBits()
    bits.number(0)
    bits.number(0)
    bits.put(int(facts.cabac), 1)
    bits.put(0, 1)
    bits.number(0)
    bits.number(max(min(facts.references, facts.held), 1) - 1)
    bits.number(0)
    bits.put(int(facts.weights), 1)
    bits.put(facts.blends, 2)
    bits.signed(facts.quality)
    bits.signed(0)
    bits.signed(facts.colours)
    bits.put(int(facts.filters), 1)
    bits.put(0, 2)
    if facts.high:
        bits.put(0b10, 2)
        bits.signed(facts.colours)
    return Avc((first, bits.unit(b"\x68")))


class _Slice(msgspec.Struct, frozen=True):
    """What one way of reading the head of a slice gives: its kind, ones in front of its code, whether it uses the usual number of references, its place
    in the order of showing.
    """

    kind: int
    ones: int
    is_usual: bool
    order: int = 0


def _slice(unit: bytes, facts: Facts) -> _Slice:
    """Read the head of a slice (7.3.3) by some facts. Raises `NoUnit` where it does not fit them."""
    bits = Bits(unit[1:])
    is_first, is_kept = unit[0] & 31 == 5, bool(unit[0] & 0x60)
    bits.number()
    kind = bits.number() % 5
    bits.number()
    bits.take(facts.number_bits)
    if is_first:
        bits.number()
    order = bits.take(facts.order_bits) if facts.order_bits else 0
    if kind > _I or (is_first and (kind != _I or order)):
        raise NoUnit
    if kind == _B:
        bits.take(1)
    many, is_usual = [facts.references, 1][: 0 if kind == _I else 1 + (kind == _B)], False
    if many:
        is_usual = not bits.take(1)
        if not is_usual:
            many = [bits.number() + 1 for _ in many]
        if max(many) > _MOST_REFERENCES:
            raise NoUnit
        for _ in many:
            if bits.take(1):
                _told(bits, 3, (0, 1, 2))
    if (facts.weights and kind == 0) or (facts.blends == 1 and kind == _B):
        _weights(bits, sum(many))
    if is_kept:
        if is_first:
            bits.take(2)
        elif bits.take(1):
            _told(bits, 0, (1, 2, 3, 4, 5, 6))
    if facts.cabac and kind != _I and bits.number() > 2:
        raise NoUnit
    if not -51 <= bits.signed() <= 51:
        raise NoUnit
    if facts.filters and (how := bits.number()) != 1 and (how > 2 or max(abs(bits.signed()), abs(bits.signed())) > 6):
        raise NoUnit
    ones = 0
    if not facts.cabac:
        return _Slice(kind, 0, is_usual, order)
    while bits.at % 8:
        if not bits.take(1):
            raise NoUnit
        ones += 1
    if bits.at // 8 + 3 < len(unit) and bits.take(9) >= _NEVER:
        raise NoUnit
    return _Slice(kind, ones, is_usual, order)


def _told(bits: Bits, last: int, kinds: tuple[int, ...]) -> None:
    """Orders, each with its numbers, up to the last one: how references are sorted, or which of them are kept."""
    for _ in range(_MOST_REFERENCES + 2):
        kind = bits.number()
        if kind == last:
            return
        if kind not in kinds:
            break
        if last or kind != 5:
            bits.number()
        if not last and kind == 3:
            bits.number()
    raise NoUnit


def _weights(bits: Bits, count: int) -> None:
    if bits.number() > 7 or bits.number() > 7:
        raise NoUnit
    for _ in range(count):
        for values in (2, 4):
            if bits.take(1) and any(not -128 <= bits.signed() <= 127 for _ in range(values)):
                raise NoUnit


def _number_bits(units: Sequence[bytes]) -> int:
    """How many bits number the pictures, each one more than the one before that others need; 0 if no number fits (7.4.3)."""
    for count in range(4, 17):
        last = 0
        for unit in units:
            bits = Bits(unit[1:])
            try:
                for _ in range(3):
                    bits.number()
                number = bits.take(count)
            except NoUnit:
                break
            if number != (0 if unit[0] & 31 == 5 else (last + 1) % (1 << count)):
                break
            last = number if unit[0] & 0x60 else last
        else:
            return count
    return 0


def proved(units: Sequence[bytes], pause: Callable[[], None]) -> list[Facts]:
    """The facts that fit the first slices of some pictures one behind the other, from the first that needs no other one: hardly more than one. None of
    pictures without arithmetic code, as those read with any `quality`, and show something else with each. Not told: the size, `quality`, `high`, `colours`.
    """
    number_bits = _number_bits(units)
    if not number_bits or len(units) < _FEWEST:
        return []
    found: list[tuple[int, Facts]] = []
    for order_bits, filters, weights, blends, references in product(
        (0, *range(4, 17)), (True, False), (False, True), (0, 1), _REFERENCES
    ):
        pause()
        facts = Facts(number_bits, order_bits, True, filters, weights, blends, references)
        try:
            slices = [_slice(unit, facts) for unit in units]
        except NoUnit:
            continue
        has_between = any(each.kind == _B for each in slices)
        if (has_between and not order_bits) or (blends and not has_between):
            continue
        if weights and all(each.kind for each in slices):
            continue
        if references > 1 and not any(each.is_usual for each in slices):
            continue
        # More than are needed change nothing; fewer would do harm.
        reorder, held = 2 * has_between, max(references, _HELD)
        found.append((sum(each.ones for each in slices), replace(facts, held=held, reorder=reorder)))
    return [facts for ones, facts in found if ones >= _SURE_ONES]


def plain(units: Sequence[bytes], pause: Callable[[], None]) -> list[Facts]:
    """The facts that the first slices of some pictures without arithmetic code leave open, one behind the other from the first that needs no other one, as
    cameras code them: shown as they come, without weights. Only a decoder tells which of them is right, and nothing tells their `quality`.
    """
    number_bits = _number_bits(units)
    if not number_bits or len(units) < _FEWEST_PLAIN:
        return []
    found: list[Facts] = []
    for filters, references in product((True, False), _REFERENCES):
        in_order, unordered = list[Facts](), list[Facts]()
        for order_bits in (0, *range(4, 17)):
            pause()
            facts = Facts(
                number_bits, order_bits, False, filters, references=references, held=max(references, _HELD), profile=66
            )
            try:
                slices = [_slice(unit, facts) for unit in units]
            except NoUnit:
                continue
            if any(each.kind == _B for each in slices):
                continue
            if not order_bits:
                unordered.append(facts)
            elif _is_counted([each.order for each in slices], [unit[0] & 31 == 5 for unit in units], 1 << order_bits):
                in_order.append(facts)
        # Numbers that count the pictures are no chance (those that do by twos, do so one by one where the last bit is left out).
        found += in_order or unordered
    return found


def _is_counted(orders: Sequence[int], begins: Sequence[bool], many: int) -> bool:
    """Whether numbers count pictures one by one, or by twos, from each that begins anew."""
    steps = {
        (after - before) % many for before, after, new in zip(orders, orders[1:], begins[1:], strict=False) if not new
    }
    return steps in ({1}, {2})


def is_arithmetic(coding: Avc) -> bool:
    """Whether pictures are in arithmetic code by their settings (7.3.2.2)."""
    for unit in coding.pictures.values():
        bits = Bits(unit[1:])
        bits.number()
        bits.number()
        return bool(bits.take(1))
    return False


def variants(facts: Facts) -> Iterator[Facts]:
    """The same with what the heads of slices do not tell, the usual first."""
    for quality in sorted(range(-_USUAL_QUALITY, 26), key=lambda each: (each != 0, each != -3, abs(each))):
        for high in (True, False):
            yield replace(facts, quality=quality, high=high, profile=100 if high else 77)
