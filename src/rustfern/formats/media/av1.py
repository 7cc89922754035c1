"""Coded pictures of AV1: the heads of their units, and the settings of a sequence.

Source: AV1 Bitstream & Decoding Process Specification, 5.3 (units), 5.5 (sequence header), 5.9.2 (frame header, its first bits).
"""

from __future__ import annotations

import msgspec

from rustfern.formats.media.coded_video import Bits, NoUnit, Shape, guarded

SEQUENCE, DELIMITER, FRAME_HEAD, TILES, METADATA, FRAME, COPY, PADDING = 1, 2, 3, 4, 5, 6, 7, 15
_KINDS = frozenset((SEQUENCE, DELIMITER, FRAME_HEAD, TILES, METADATA, FRAME, COPY, PADDING))
_CHOSEN = 2


class Unit(msgspec.Struct, frozen=True):
    """One unit: its kind, bytes of its head, and of what follows it."""

    kind: int
    head: int
    body: int


def unit_at(data: bytes) -> Unit | None:
    """The unit that some bytes begin with, if it tells its length, as those in files do; None where none does."""
    if len(data) < 2 or data[0] & 0x87 != 2:  # layers, which recordings do not have, are not followed
        return None
    kind, at = data[0] >> 3 & 15, 1
    if kind not in _KINDS:
        return None
    value = 0
    for number, byte in enumerate(data[at : at + 5]):
        value |= (byte & 0x7F) << 7 * number
        if not byte & 0x80:
            return Unit(kind, at + number + 1, value)
    return None


def frame_told(first: int) -> tuple[bool, bool]:
    """(whether a picture is shown with this frame, whether it needs no other one), by the first byte of a frame's head."""
    if first & 0x80:
        return True, False
    return bool(first & 0x10), not first & 0x60


class Sequence(msgspec.Struct, frozen=True):
    """What a sequence header tells: `config` are the four bytes by which a file describes it (AV1 in ISO base media files, 2.3.3)."""

    shape: Shape
    config: bytes


def sequence_in(body: bytes) -> Sequence:
    """What the body of a sequence header tells. Raises `NoUnit`."""
    bits = Bits(guarded(body))
    take = bits.take
    profile, _still, reduced = take(3), take(1), take(1)
    if profile > 2:
        raise NoUnit
    rate, tier = 0.0, 0
    if reduced:
        level = take(5)
    else:
        delays = 0
        if take(1):
            ticks, scale = take(32), take(32)
            many = bits.number() + 1 if take(1) else 0
            rate = scale / ticks / many if ticks and many else 0.0
            if take(1):
                delays = take(5) + 1
                take(42)
        has_display = take(1)
        level = 0
        for number in range(take(5) + 1):
            take(12)
            own = take(5)
            own_tier = take(1) if own > 7 else 0
            if not number:
                level, tier = own, own_tier
            if delays and take(1):
                take(2 * delays + 1)
            if has_display and take(1):
                take(4)
    width_bits, height_bits = take(4) + 1, take(4) + 1
    width, height = take(width_bits) + 1, take(height_bits) + 1
    if not reduced and take(1):
        take(7)
    take(3)
    if not reduced:
        take(4)
        has_order = take(1)
        if has_order:
            take(2)
        if (_CHOSEN if take(1) else take(1)) and not take(1):
            take(1)
        if has_order:
            take(3)
    take(3)
    high = take(1)
    twelve = take(1) if high and profile == 2 else 0
    mono = 0 if profile == 1 else take(1)
    colours = (take(8), take(8), take(8)) if take(1) else (2, 2, 2)
    across, down, place = 1, 1, 0
    if mono:
        take(1)
    elif colours == (1, 13, 0):
        across = down = 0
    else:
        take(1)
        if profile == 1:
            across = down = 0
        elif profile == 2:
            across = take(1) if twelve else 1
            down = take(1) if twelve and across else 0
        place = take(2) if across and down else 0
    take(1 if mono else 2)
    rest = len(body) * 8 - bits.at
    if rest < 1 or take(rest) != 1 << rest - 1:
        raise NoUnit  # a one and zeros end it (5.3.4)
    if not 16 <= width <= 16384 or not 16 <= height <= 16384:
        raise NoUnit
    told = tier << 7 | high << 6 | twelve << 5 | mono << 4 | across << 3 | down << 2 | place
    return Sequence(
        Shape(width, height, rate if 1 <= rate <= 240 else 0.0, 0), bytes((0x81, profile << 5 | level, told, 0))
    )
