"""Pictures of H.264 that stand in for lost ones: all their blocks are skipped, so that each shows the one before it again.

A lost picture that others need leaves its number free; which of those that are held must stay for later ones, and which make room, is told by what
these ask for. Source: ITU-T H.264 7.3.3 (heads of slices), 7.4.3, 8.2.4 (lists of references), 8.2.5 (which pictures are held), 9.1, 9.3.1.1.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec
from msgspec.structs import replace

from rustfern.formats.media.arithmetic import CodeWriter, state_of
from rustfern.formats.media.coded_video import Avc, AvcSet, Bits, NoUnit, first_unit
from rustfern.repair.recordings.set_bits import SetBits
from rustfern.repair.recordings.showing import Around, StandIn, missing_orders, step_of, whole_order

_HEAD, _B, _I = 400, 1, 2
_MOST, _MOST_ORDERS = 300, 70
_SKIPPED = (23, 33)
"""How likely a block is skipped in pictures that need others: slope and offset by the quality step (table 9-13)."""


class _Pictures(msgspec.Struct, frozen=True):
    """What a set for pictures says (7.3.2.2); `references` are how many each list has where a slice does not say."""

    arithmetic: bool
    bottom: bool
    references: tuple[int, int]
    weighs: bool
    blends: int
    quality: int
    filters: bool
    redundant: bool


class Head(msgspec.Struct, frozen=True):
    """What the head of a picture tells: its number among those that are held, the low bits of its place in the order of showing, whether others may need it,
    whether it needs none, which held ones make room for it (None: the oldest, where there is no room), the numbers of those that it asks for, its
    settings.
    """

    number: int
    order: int
    is_kept: bool
    is_key: bool
    dropped: tuple[int, ...] | None
    asked: tuple[int, ...]
    settings: int


def _pictures(unit: bytes) -> _Pictures:
    bits = Bits(unit[1:])
    bits.number(), bits.number()
    arithmetic, bottom = bool(bits.take(1)), bool(bits.take(1))
    if bits.number():
        raise NoUnit  # groups of blocks
    references = bits.number() + 1, bits.number() + 1
    weighs, blends = bool(bits.take(1)), bits.take(2)
    quality = 26 + bits.signed()
    bits.signed(), bits.signed()
    filters = bool(bits.take(1))
    bits.take(1)
    return _Pictures(arithmetic, bottom, references, weighs, blends, quality, filters, bool(bits.take(1)))


class AvcStream:
    """Pictures of H.264 behind lengths of `width` bytes, by their settings."""

    def __init__(self, coding: Avc, width: int) -> None:
        self._coding, self._width = coding, width
        self._known: dict[int, tuple[AvcSet, _Pictures]] = {}
        self._skipped: dict[int, bytes] = {}

    def _settings(self, number: int) -> tuple[AvcSet, _Pictures]:
        if number not in self._known:
            told = self._coding.set_for(number)
            if told.planes or told.ordered == 1 or not told.held:
                raise NoUnit
            self._known[number] = told, _pictures(self._coding.pictures[number])
        return self._known[number]

    def head(self, picture: bytes) -> Head:
        """The head of a picture, from its first bytes on. Raises `NoUnit` where it is none that can be followed: of fields, with references for long."""
        return self._slice(
            first_unit(picture, self._width, _HEAD, lambda unit: unit[:1] != b"" and unit[0] & 31 in (1, 5))
        )

    def _slice(self, unit: bytes) -> Head:
        bits = Bits(unit[1:])
        is_kept, is_key = bool(unit[0] & 0x60), unit[0] & 31 == 5
        bits.number()
        kind, settings = bits.number() % 5, bits.number()
        of_all, of_these = self._settings(settings)
        number = bits.take(of_all.number_bits)
        if not of_all.frames_only and bits.take(1):
            raise NoUnit
        if is_key:
            bits.number()
        order = bits.take(of_all.shape.orders.bit_length() - 1) if of_all.shape.orders else 0
        if of_all.shape.orders and of_these.bottom:
            bits.signed()
        if of_these.redundant:
            bits.number()
        if kind == _B:
            bits.take(1)
        many = list(of_these.references[: 0 if kind >= _I else 1 + (kind == _B)])
        if many and bits.take(1):
            many = [bits.number() + 1 for _ in many]
        most = 1 << of_all.number_bits
        asked: list[int] = []
        for _ in many:
            if bits.take(1):
                asked += _asked(bits, number, most)
        if (of_these.weighs and kind == 0) or (of_these.blends == 1 and kind == _B):
            _pass_weights(bits, sum(many), is_coloured=of_all.chroma > 0)
        dropped: tuple[int, ...] | None = None
        if is_kept and is_key:
            bits.take(1)
            if bits.take(1):
                raise NoUnit
        elif is_kept and bits.take(1):
            dropped = tuple(_dropped(bits, number, most))
        return Head(number, order, is_kept, is_key, dropped, tuple(asked), settings)

    def whole_orders(self, heads: Sequence[Head], last: int = 0) -> list[int]:
        """The places of pictures that came one after the other in the order of showing."""
        found = []
        for head in heads:
            orders = self._settings(head.settings)[0].shape.orders
            last_one = 0 if head.is_key else last
            whole = whole_order(head.order, last_one, orders) if orders else 0
            found.append(whole)
            if head.is_kept:
                last = whole
        return found

    def made(
        self, before: Sequence[Head], after: Sequence[Head], about: int, around: Around, *, is_sure: bool
    ) -> list[StandIn[Head]]:
        """Pictures for a hole: `before` it came these since one that needs no other, `after` it these up to the next such one, and `about` so many are lost,
        or just as many (`is_sure`). Of others `around` tells. Raises `NoUnit` where they cannot be told.
        """
        of_all, _ = self._settings(before[-1].settings)
        most = 1 << of_all.number_bits
        first = (before[-1].number + before[-1].is_kept) % most
        needed = (after[0].number - first) % most if after else 0
        share = sum(head.is_kept for head in before) / len(before)
        if not of_all.shape.orders:
            # Of pictures that come as they are shown nothing tells of those that no other needs.
            if after:
                needed += most * max(round((share * about - needed) / most), 0)
            else:
                needed = about if is_sure else 0
            orders = [0] * needed
        else:
            earlier = self.whole_orders(before)
            ahead = max(earlier) + step_of(earlier) * max(about, needed)
            start = whole_order(after[0].order, ahead, of_all.shape.orders) if after else 0
            later = [start, *self.whole_orders(after[1:], start)] if after else []
            orders = missing_orders(earlier, later, about if is_sure else None, around)
            if around.is_near and len(orders) < needed:  # some that are shown later come before those behind the hole
                more = missing_orders(earlier, later, None, replace(around, is_near=False))
                orders += [each for each in more if each not in orders][: needed - len(orders)]
            needed += most * max(round((share * len(orders) - needed) / most), 0) if after else 0
        if needed > len(orders) or len(orders) > _MOST:
            raise NoUnit
        return self._written(before, after, orders, needed)

    def anew(
        self, before: Sequence[Head], after: Sequence[Head], known: tuple[int, int] | None, around: Around
    ) -> list[StandIn[Head]]:
        """The same for a hole in which one that needs no other is lost: how many come before it, and how many from it on, where that is `known`. What
        stands in for it has all others that are held dropped, and numbers begin anew with it. Raises `NoUnit`.
        """
        earlier, since = known or (0, 1)
        found = self.made(before, [], earlier, Around(around.is_cut), is_sure=True)
        of_all, _ = self._settings(before[-1].settings)
        last = [*before, *(each.head for each in found)]
        number = (last[-1].number + last[-1].is_kept) % (1 << of_all.number_bits)
        order = 0
        if of_all.shape.orders:
            orders = self.whole_orders(last)
            order = (max(orders) + step_of(orders)) % of_all.shape.orders
        told = Head(number, order, True, False, None, (), before[-1].settings)
        first = Head(0, 0, True, True, None, (), before[-1].settings)
        rest = self.made([first], after, since - 1, replace(around, is_cut=False), is_sure=known is not None)
        return [*found, StandIn(self._coded(told, is_new=True), first), *rest]

    def _written(
        self, before: Sequence[Head], after: Sequence[Head], orders: Sequence[int], needed: int
    ) -> list[StandIn[Head]]:
        of_all, _ = self._settings(before[-1].settings)
        most, many = 1 << of_all.number_bits, len(orders)
        number = (before[-1].number + before[-1].is_kept) % most
        held = held_after(before, of_all.held)
        wanted = set(_wanted(after))
        kept = [(n + 1) * needed // many > n * needed // many for n in range(many)]
        heads: list[Head] = []
        for order, is_kept in zip(orders, kept, strict=True):
            dropped: tuple[int, ...] | None = None
            if is_kept and len(held) >= of_all.held:
                victim = next((each for each in held if each not in wanted), held[0])
                dropped = None if victim == held[0] else (victim,)
                held.remove(victim)
            heads.append(
                Head(
                    number,
                    order % of_all.shape.orders if of_all.shape.orders else 0,
                    is_kept,
                    False,
                    dropped,
                    (),
                    before[-1].settings,
                )
            )
            if is_kept:
                held.append(number)
                number = (number + 1) % most
        self._make_room(heads, before, after, wanted, of_all.held)
        return [StandIn(self._coded(head), head) for head in heads]

    @staticmethod
    def _make_room(
        heads: list[Head], before: Sequence[Head], after: Sequence[Head], wanted: set[int], most: int
    ) -> None:
        """Have the last picture that is held drop others, where later ones would push out what is still asked for."""
        last = next((n for n in range(len(heads) - 1, -1, -1) if heads[n].is_kept), None)
        if last is None:
            return
        for _ in range(most):
            held = held_after([*before, *heads[:last]], most)
            if _finds_all([*held], [heads[last], *after], most):
                return
            victim = next((each for each in held if each not in wanted), None)
            if victim is None:
                return
            dropped = heads[last].dropped
            if dropped is None:
                dropped = (held[0],) if len(held) >= most else ()
                if victim in dropped:
                    victim = next((each for each in held[1:] if each not in wanted), None)
            if victim is None or victim in dropped:
                return
            heads[last] = replace(heads[last], dropped=(*dropped, victim))

    def _blocks(self, settings: int) -> bytes:
        """The code of the blocks, which is the same for all pictures of some settings."""
        if settings not in self._skipped:
            self._skipped[settings] = _skipped(*self._settings(settings))
        return self._skipped[settings]

    def _coded(self, head: Head, *, is_new: bool = False) -> bytes:
        """A picture by its head: of blocks that need others, all of them skipped. If it `is_new`, no others are held behind it."""
        of_all, of_these = self._settings(head.settings)
        most = 1 << of_all.number_bits
        bits = SetBits()
        for value in (0, 5, head.settings):
            bits.number(value)
        bits.put(head.number, of_all.number_bits)
        if not of_all.frames_only:
            bits.put(0, 1)
        if of_all.shape.orders:
            bits.put(head.order, of_all.shape.orders.bit_length() - 1)
            if of_these.bottom:
                bits.signed(0)
        if of_these.redundant:
            bits.number(0)
        bits.put(1, 1)
        bits.number(0)  # one reference, the last picture
        bits.put(0, 1)
        if of_these.weighs:
            bits.number(0)
            if of_all.chroma:
                bits.number(0)
            bits.put(0, 2 if of_all.chroma else 1)
        if head.is_kept:
            bits.put(int(is_new or head.dropped is not None), 1)
            if is_new:
                bits.number(5)
            for each in head.dropped or ():
                bits.number(1)
                bits.number((head.number - each - 1) % most)
            if is_new or head.dropped is not None:
                bits.number(0)
        if of_these.arithmetic:
            bits.number(0)
        bits.signed(0)
        if of_these.filters:
            bits.number(1)
        begin = b"\x41" if head.is_kept else b"\x01"
        if not of_these.arithmetic:
            bits.number(of_all.blocks)
            unit = bits.unit(begin)
        else:
            bits.ones_to_byte()
            unit = bits.unit_with(begin, self._blocks(head.settings))
        return len(unit).to_bytes(self._width, "big") + unit


def _skipped(of_all: AvcSet, of_these: _Pictures) -> bytes:
    slope, offset = _SKIPPED
    code = CodeWriter(bytearray([state_of((slope * min(max(of_these.quality, 0), 51) >> 4) + offset)]))
    for left in range(of_all.blocks - 1, -1, -1):
        code.decision(0, 1)
        if not of_all.mixed or not left % 2:  # blocks come in pairs then
            code.end(is_last=not left)
    return code.whole_bytes()


def _asked(bits: Bits, number: int, most: int) -> list[int]:
    """The numbers of the pictures that a list of references names (7.3.3.1, 8.2.4.3.1). Raises `NoUnit` for those that are held for long."""
    found, last = list[int](), number
    for _ in range(_MOST_ORDERS):
        kind = bits.number()
        if kind == 3:
            return found
        if kind > 1:
            break
        away = bits.number() + 1
        last = (last - away if kind == 0 else last + away) % most
        found.append(last)
    raise NoUnit


def _dropped(bits: Bits, number: int, most: int) -> list[int]:
    """The numbers of the pictures that are held no more (7.3.3.3, 8.2.5.4.1). Raises `NoUnit` for all that is held for long."""
    found = list[int]()
    for _ in range(_MOST_ORDERS):
        kind = bits.number()
        if kind == 0:
            return found
        if kind != 1:
            break
        found.append((number - bits.number() - 1) % most)
    raise NoUnit


def _pass_weights(bits: Bits, count: int, *, is_coloured: bool) -> None:
    for _ in range(1 + is_coloured):
        bits.number()
    for _ in range(count):
        for values in (2, 4)[: 1 + is_coloured]:
            if bits.take(1):
                for _ in range(values):
                    bits.signed()


def held_after(heads: Iterable[Head], most: int) -> list[int]:
    """The numbers of the pictures that are held after some, the oldest first."""
    held: list[int] = []
    for head in heads:
        _hold(held, head, most)
        del held[: max(len(held) - most, 0)]
    return held


def _hold(held: list[int], head: Head, most: int) -> None:
    if head.is_key:
        held.clear()
    if not head.is_kept:
        return
    if head.dropped is None:
        del held[: max(len(held) - most + 1, 0)]
    else:
        held[:] = [each for each in held if each not in head.dropped]
    held.append(head.number)


def _finds_all(held: list[int], heads: Iterable[Head], most: int) -> bool:
    """Whether all pictures find the held ones that they name, and room, up to one that needs no other."""
    for head in heads:
        if head.is_key:
            break
        if not {*head.asked, *(head.dropped or ())} <= set(held):
            return False
        _hold(held, head, most)
        if len(held) > most:
            return False
    return True


def _wanted(after: Iterable[Head]) -> Iterable[int]:
    """The numbers of the pictures that those behind a hole name, of those that came before they did."""
    new = set[int]()
    for head in after:
        yield from (each for each in (*head.asked, *(head.dropped or ())) if each not in new)
        if head.is_kept:
            new.add(head.number)
