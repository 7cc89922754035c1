"""The settings that H.265 pictures are coded with, and the heads of pictures that are one part each.

Source: ITU-T H.265 7.3.6 (heads of parts), 7.3.7 (sets of pictures that are needed), 7.3.6.3 (weights).
"""

from __future__ import annotations

import msgspec
from msgspec.structs import replace

from rustfern.formats.media.coded_video import Bits, Hevc, NoUnit

_IDR = (19, 20)
_PICTURES = frozenset((*range(10), *range(16, 22)))


class Settings(msgspec.Struct, frozen=True):
    """What a picture is coded with. Sizes of blocks are powers of two: `block` and `smallest` of the tree of blocks, `depth` of that of transforms,
    `steps`: how deep in the tree steps of quality may change (-1: nowhere); `skips`: blocks of 4 pixels may be left untransformed; `bits` of a value. `width` and
    `height` are the coded ones, in pixels. Pictures that need others: parts of unequal size, depth of their transforms, weights of one and of two.
    """

    width: int = 0
    height: int = 0
    block: int = 6
    smallest: int = 3
    depth: int = 0
    steps: int = 1
    filtered: bool = True
    hides_signs: bool = True
    by_rows: bool = True
    skips: bool = False
    bits: int = 8
    unequal: bool = False
    inner: int = 0
    weighs: tuple[bool, bool] = (False, False)


def settings_in(coding: Hevc) -> Settings | None:
    """The settings that a recording's own sets tell; None where there are several, or what they tell is not known here."""
    sets = [[unit for (kind, _), unit in coding.sets.items() if kind == wanted] for wanted in (33, 34)]
    if [len(each) for each in sets] != [1, 1]:
        return None
    try:
        return _of_picture_set(sets[1][0], _of_sequence_set(sets[0][0]))
    except NoUnit:
        return None


def _expect(*told: tuple[int, int]) -> None:
    """Raises `NoUnit` where something is told that is not known here."""
    if any(value != usual for value, usual in told):
        raise NoUnit


def _of_sequence_set(unit: bytes) -> Settings:
    """What a set for a sequence of pictures tells (7.3.2.2)."""
    bits = Bits(unit[2:])
    bits.take(4)
    _expect((bits.take(3), 0))
    bits.take(1 + 88 + 8)
    _expect((bits.number(), 0), (bits.number(), 1))
    width, height = bits.number(), bits.number()
    if bits.take(1):
        for _ in range(4):
            bits.number()
    depth = bits.number()
    _expect((bits.number(), depth), (bits.number(), 4))
    bits.take(1)
    for _ in range(3):
        bits.number()
    smallest = bits.number() + 3
    block = smallest + bits.number()
    _expect((bits.number(), 0), (bits.number(), min(block, 5) - 2))
    inner, inside = bits.number(), bits.number()
    _expect((bits.take(1), 0))
    unequal, filtered = bool(bits.take(1)), bool(bits.take(1))
    _expect((bits.take(1), 0), (bits.number(), 0), (bits.take(1), 0), (bits.take(1), 1))
    if block > 6 or depth > 2 or not 0 < width * height < 1 << 28:
        raise NoUnit
    return Settings(width, height, block, smallest, inside, 0, filtered, bits=8 + depth, unequal=unequal, inner=inner)


def _of_picture_set(unit: bytes, settings: Settings) -> Settings:
    """What a set for pictures adds (7.3.2.3)."""
    bits = Bits(unit[2:])
    _expect((bits.number(), 0), (bits.number(), 0), (bits.take(5), 0))
    hides = bool(bits.take(1))
    _expect((bits.take(1), 0), (bits.number(), 0), (bits.number(), 0), (bits.signed(), 0))
    bits.take(1)
    skips = bool(bits.take(1))
    steps = bits.number() if bits.take(1) else -1
    bits.signed(), bits.signed()
    _expect((bits.take(1), 0))
    weighs = bool(bits.take(1)), bool(bits.take(1))
    _expect((bits.take(2), 0))
    by_rows = bool(bits.take(1))
    _expect((bits.take(1), 1), (bits.take(3), 0), (bits.number(), 0), (bits.take(2), 0))
    return replace(settings, hides_signs=hides, skips=skips, steps=steps, weighs=weighs, by_rows=by_rows)


class Head(msgspec.Struct, frozen=True):
    """The head of a picture's only part: its kind (0 needs no other picture, 1 needs one at a time, 2 up to two), the quality step at its start, whether
    luma and chroma are filtered, bytes of each row's code, where they begin in the unit, how many pictures either list has, whether vectors into the
    second one are left out where there are two, how many neighbours' motions may be taken.
    """

    kind: int
    quality: int
    luma: bool
    chroma: bool
    rows: tuple[int, ...]
    start: int
    others: tuple[int, int] = (0, 0)
    leaves_out: bool = False
    motions: int = 0


def head_of(unit: bytes, settings: Settings) -> Head:
    """The head of a unit that is a whole picture. Raises `NoUnit` where it is none, or coded otherwise."""
    coding = unit[0] >> 1 & 63 if len(unit) > 7 else 63
    if coding not in _PICTURES:
        raise NoUnit
    bits = _Reader(unit[2:])
    if not bits.take(1):
        raise NoUnit
    if coding >= 16:
        bits.take(1)
    if bits.number():
        raise NoUnit
    kind = 2 - bits.number()
    if kind < 0 or (kind and coding >= 16):
        raise NoUnit
    foretold = coding not in _IDR and _references(bits)
    luma, chroma = (bool(bits.take(1)), bool(bits.take(1))) if settings.filtered else (False, False)
    others, leaves_out, motions = (0, 0), False, 0
    if kind:
        first, second = 1, int(kind == 2)
        if bits.take(1):
            first = bits.number() + 1
            second = bits.number() + 1 if kind == 2 else 0
        if first > 15 or second > 15:
            raise NoUnit
        others = first, second
        leaves_out = kind == 2 and bool(bits.take(1))
        if foretold:
            is_first = kind == 1 or bool(bits.take(1))
            if (first if is_first else second) > 1 and bits.number() > 15:
                raise NoUnit
        if settings.weighs[kind - 1]:
            _weights(bits, first, second)
        motions = 5 - bits.number()
        if motions < 1:
            raise NoUnit
    quality = 26 + bits.signed()
    if not -12 <= quality <= 51:
        raise NoUnit
    bits.take(1)  # filtered across parts
    sizes: list[int] = []
    if settings.by_rows and (count := bits.number()):
        if count > 1_055:
            raise NoUnit
        width = bits.number() + 1
        if width > 32:
            raise NoUnit
        sizes = [bits.take(width) + 1 for _ in range(count)]
    if not bits.take(1) or bits.rest_of_byte():
        raise NoUnit
    start = 2 + bits.escaped_bytes()
    last = len(unit) - start - sum(sizes)
    if last <= 0:
        raise NoUnit
    return Head(kind, quality, luma, chroma, (*sizes, last), start, others, leaves_out, motions)


def _references(bits: _Reader) -> bool:
    """Pass what tells which pictures are needed (7.3.7), and give whether motions are foretold from one of them."""
    bits.take(8)
    if bits.take(1):
        raise NoUnit  # there are no ready-made lists
    before, behind = bits.number(), bits.number()
    if before + behind > 16:
        raise NoUnit
    for _ in range(before + behind):
        bits.number()
        bits.take(1)
    return bool(bits.take(1))


def _weights(bits: _Reader, first: int, second: int) -> None:
    """Pass the weights of pictures (7.3.6.3)."""
    if bits.number() > 7:
        raise NoUnit
    bits.signed()
    for count in (first, second):
        luma = [bits.take(1) for _ in range(count)]
        chroma = [bits.take(1) for _ in range(count)]
        for _ in range(2 * sum(luma) + 4 * sum(chroma)):
            if abs(bits.signed()) > 512:
                raise NoUnit


class _Reader(Bits):
    """Bits of a unit's head that know where they stand among its bytes."""

    def __init__(self, payload: bytes) -> None:
        self._payload = payload[:8_192]
        super().__init__(self._payload)

    def rest_of_byte(self) -> int:
        """The bits up to the next whole byte."""
        return self.take(self._left % 8)

    def escaped_bytes(self) -> int:
        """How many bytes, with those that guard against start codes, were read up to here."""
        done, at = self.at // 8, 0
        zeros = 0
        while done:
            byte = self._payload[at]
            at += 1
            if zeros >= 2 and byte == 3:
                zeros = 0
                continue
            zeros = zeros + 1 if byte == 0 else 0
            done -= 1
        # A guard behind what was read belongs to it.
        return at + (zeros >= 2 and self._payload[at : at + 1] == b"\3")
