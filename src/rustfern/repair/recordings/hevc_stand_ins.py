"""Pictures of H.265 that stand in for lost ones: all their blocks are skipped, so that each shows one before it again.

Each picture names all that are held for it and for those behind it, so that it is told which lost ones are needed. Source: ITU-T H.265 7.3.6.1 (heads of
slices), 7.3.8 (blocks), 8.3.1 and 8.3.2 (order of showing, which pictures are held), 9.3.1 and 9.3.4.2.2 (code by rows, contexts).
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from rustfern.formats.media.arithmetic import CodeWriter
from rustfern.formats.media.coded_video import Bits, Hevc, NoUnit, first_unit, guarded
from rustfern.formats.media.hevc_code import AT, contexts
from rustfern.formats.media.hevc_sets import Needed, PictureSet, SequenceSet, needed_in, picture_set, sequence_set
from rustfern.repair.recordings.set_bits import SetBits
from rustfern.repair.recordings.showing import Around, StandIn, missing_orders, step_of, whole_order

_HEAD, _MOST = 600, 300
_IDR, _ANEW, _IRAP, _LEADING = (19, 20), range(16, 21), range(16, 24), range(6, 10)
_CONTEXTS, _AS_LIKELY = len(contexts(1, 0)), b"\1"
"""Where the context of blocks without loss stands behind all others, and how it begins (table 9-8)."""
_NEEDED_BY_OTHERS, _BY_NONE = 1, 0
"""Kinds of units: a picture that others build on, and one that none does."""


class Head(msgspec.Struct, frozen=True):
    """What the head of a picture tells: the low bits of its place in the order of showing, whether others may need it, whether others are counted from it,
    whether the order begins anew with it, what is held for it and others, its settings.
    """

    order: int
    is_kept: bool
    is_counted: bool
    is_key: bool
    needed: Needed
    settings: int


class HevcStream:
    """Pictures of H.265 behind lengths of `width` bytes, by their settings."""

    def __init__(self, coding: Hevc, width: int) -> None:
        self._coding, self._width = coding, width
        self._known: dict[int, tuple[SequenceSet, PictureSet]] = {}
        self._blocks: dict[int, list[bytes]] = {}

    def _settings(self, number: int) -> tuple[SequenceSet, PictureSet]:
        if number not in self._known:
            try:
                of_these = picture_set(self._coding.sets[34, number])
                self._known[number] = sequence_set(self._coding.sets[33, of_these.sequence]), of_these
            except KeyError as error:
                raise NoUnit from error
        return self._known[number]

    def head(self, picture: bytes) -> Head:
        """The head of a picture, from its first bytes on. Raises `NoUnit` where it is none that can be followed: with pictures that are held for long."""
        return self._slice(
            first_unit(picture, self._width, _HEAD, lambda unit: len(unit) > 2 and unit[0] >> 1 & 63 < 32)
        )

    def _slice(self, unit: bytes) -> Head:
        kind, level = unit[0] >> 1 & 63, unit[1] & 7
        bits = Bits(unit[2:])
        if not bits.take(1):
            raise NoUnit
        if kind in _IRAP:
            bits.take(1)
        settings = bits.number()
        of_all, of_these = self._settings(settings)
        bits.take(of_these.extra)
        bits.number()
        if of_these.tells_output:
            bits.take(1)
        order, needed = 0, Needed(())
        if kind not in _IDR:
            order = bits.take(of_all.order_bits)
            if not bits.take(1):
                needed = needed_in(bits, len(of_all.needed), of_all.needed, is_last=True)
            elif of_all.needed:
                which = bits.take((len(of_all.needed) - 1).bit_length())
                if which >= len(of_all.needed):
                    raise NoUnit
                needed = of_all.needed[which]
            if of_all.for_long and ((of_all.ready_long and bits.number()) or bits.number()):
                raise NoUnit
        is_kept = kind in _IRAP or bool(kind & 1)
        is_counted = level == 1 and is_kept and kind not in _LEADING
        return Head(order, is_kept, is_counted, kind in _ANEW, needed, settings)

    def _whole_orders(self, heads: Sequence[Head], last: int = 0) -> list[int]:
        found = []
        for head in heads:
            orders = 1 << self._settings(head.settings)[0].order_bits
            whole = head.order if head.is_key else whole_order(head.order, last, orders)
            found.append(whole)
            if head.is_counted:
                last = whole
        return found

    def made(
        self, before: Sequence[Head], after: Sequence[Head], about: int, around: Around, *, is_sure: bool
    ) -> list[StandIn[Head]]:
        """As `AvcStream.made`."""
        of_all, _ = self._settings(before[-1].settings)
        earlier = self._whole_orders(before)
        ahead = max(earlier) + (step_of(earlier) or 1) * about
        start = whole_order(after[0].order, ahead, 1 << of_all.order_bits) if after else 0
        later = [start, *self._whole_orders(after[1:], start)] if after else []
        orders = missing_orders(earlier, later, about if is_sure else None, around)
        if len(orders) > _MOST:
            raise NoUnit
        wanted = {order + away for head, order in zip(after, later, strict=True) for away, _ in head.needed} - {*later}
        held = {earlier[-1] + away for away, _ in before[-1].needed} & {*earlier}
        if before[-1].is_kept:
            held.add(earlier[-1])
        # Of those that are lost in the next hole none is named before it.
        near = after[: around.until] if around.is_near else after
        named = {order + away for head, order in zip(near, later, strict=False) for away, _ in head.needed}
        lost = (wanted & named) - held
        orders = sorted({*orders, *(each for each in lost if each > min(earlier) and each not in earlier)})
        return self._written(before[-1].settings, held, orders, wanted)

    def anew(
        self, before: Sequence[Head], after: Sequence[Head], known: tuple[int, int] | None, around: Around
    ) -> list[StandIn[Head]]:
        """Where one that needs no other is lost, nothing can stand in for it: the order begins anew with such a one only. Raises `NoUnit`."""
        raise NoUnit

    def _written(self, settings: int, held: set[int], orders: Sequence[int], wanted: set[int]) -> list[StandIn[Head]]:
        of_all, _ = self._settings(settings)
        found = []
        for order in orders:
            shown = [each for each in held if each < order]
            last = max(shown) if shown else min(held, default=None)
            if last is None:
                raise NoUnit
            rest = sorted(
                (each for each in held if each in wanted and each != last), key=lambda each: abs(each - order)
            )
            kept = [last, *rest[: max(of_all.held - 1, 0)]]
            needed: Needed = (
                *sorted(((each - order, each == last) for each in kept if each < order), reverse=True),
                *sorted((each - order, each == last) for each in kept if each > order),
            )
            is_kept = order in wanted
            head = Head(order % (1 << of_all.order_bits), is_kept, is_kept, False, needed, settings)
            found.append(StandIn(self._coded(head), head))
            held = {*kept, order} if is_kept else {*kept}
        return found

    def _coded(self, head: Head) -> bytes:
        of_all, of_these = self._settings(head.settings)
        bits = SetBits()
        bits.put(1, 1)
        bits.number(head.settings)
        if of_these.extra:
            bits.put(0, of_these.extra)
        bits.number(1)
        if of_these.tells_output:
            bits.put(1, 1)
        bits.put(head.order, of_all.order_bits)
        bits.put(0, 1)
        if of_all.needed:
            bits.put(0, 1)
        parts = [[each for each in head.needed if (each[0] < 0) is earlier] for earlier in (True, False)]
        for part in parts:
            bits.number(len(part))
        for part in parts:
            last = 0
            for away, is_used in part:
                bits.number(abs(away - last) - 1)
                bits.put(int(is_used), 1)
                last = away
        if of_all.for_long:
            if of_all.ready_long:
                bits.number(0)
            bits.number(0)
        if of_all.foretells:
            bits.put(0, 1)
        if of_all.filters:
            bits.put(0, 2 if of_all.chroma else 1)
        bits.put(1, 1)
        bits.number(0)  # one reference
        if of_these.tells_start:
            bits.put(0, 1)
        if of_these.weighs:
            bits.number(0)
            if of_all.chroma:
                bits.signed(0)
            bits.put(0, 2 if of_all.chroma else 1)
        bits.number(4)  # one neighbour's motion, so that none need be named
        bits.signed(0)
        if of_these.tells_colours:
            bits.signed(0)
            bits.signed(0)
        if of_these.overrides:
            bits.put(0, 1)
        if of_these.crosses and not of_these.unfiltered:
            bits.put(1, 1)
        rows = self._rows(head.settings)
        if of_these.by_rows:
            lengths = [len(guarded(b"".join(rows[: n + 1]))) for n in range(len(rows) - 1)]
            sizes = [after - before for before, after in zip([0, *lengths], lengths, strict=False)]
            bits.number(len(sizes))
            if sizes:
                width = max(max(sizes) - 1, 1).bit_length()
                bits.number(width - 1)
                for size in sizes:
                    bits.put(size - 1, width)
        if of_these.extends:
            bits.number(0)
        bits.last_bit()
        kind = _NEEDED_BY_OTHERS if head.is_kept else _BY_NONE
        unit = bits.unit_with(bytes([kind << 1, 1]), b"".join(rows))
        return len(unit).to_bytes(self._width, "big") + unit

    def _rows(self, settings: int) -> list[bytes]:
        """The code of the blocks: in pieces, a row of the largest blocks each, where rows are coded so."""
        if settings not in self._blocks:
            of_all, of_these = self._settings(settings)
            self._blocks[settings] = _skipped(of_all, of_these)
        return self._blocks[settings]


def _skipped(of_all: SequenceSet, of_these: PictureSet) -> list[bytes]:
    size = 1 << of_all.largest
    across, down = -(-of_all.width // size), -(-of_all.height // size)
    begin = contexts(1, of_these.quality) + (_AS_LIKELY if of_these.loses_nothing else b"")
    code = CodeWriter(bytearray(begin))
    depths: dict[tuple[int, int], int] = {}
    second: bytes | None = None
    pieces: list[bytes] = []
    for row in range(down):
        for column in range(across):
            _block(code, of_all, column * size, row * size, of_all.largest, 0, depths)
            is_last = row == down - 1 and column == across - 1
            code.end(is_last=is_last)
            if of_these.by_rows and column == 1:
                second = bytes(code.states)
        if is_last or of_these.by_rows:
            if not is_last:
                code.end(is_last=True)
            pieces.append(code.whole_bytes())
            code = CodeWriter(bytearray(second if second is not None else begin))
    return pieces


def _block(
    code: CodeWriter, of_all: SequenceSet, x: int, y: int, log: int, depth: int, depths: dict[tuple[int, int], int]
) -> None:
    """One block, skipped as a whole, or cut in four where it reaches over the edge."""
    size, least = 1 << log, 1 << of_all.smallest
    fits = x + size <= of_all.width and y + size <= of_all.height
    if fits and log > of_all.smallest:
        deeper = sum(depths.get(at, -1) > depth for at in ((x - least, y), (x, y - least)))
        code.decision(AT["split"] + deeper, 0)
    elif not fits and log > of_all.smallest:
        half = size // 2
        for inner_y in (y, y + half):
            for inner_x in (x, x + half):
                if inner_x < of_all.width and inner_y < of_all.height:
                    _block(code, of_all, inner_x, inner_y, log - 1, depth + 1, depths)
        return
    if len(code.states) > _CONTEXTS:
        code.decision(_CONTEXTS, 0)
    code.decision(AT["taken"] + (x > 0) + (y > 0), 1)
    for inner_y in range(y, y + size, least):
        depths[x + size - least, inner_y] = depth
    for inner_x in range(x, x + size, least):
        depths[inner_x, y + size - least] = depth
