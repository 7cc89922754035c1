"""The coded blocks of a sequential JPEG scan, followed as far as they go, taken up again behind what is lost, and written anew.

Source: ITU T.81, F.1.2 and F.2.2. Nothing is decoded to pixels and coded again: the bits of each block stay as they are, but for the brightness of the
first one behind a hole.
"""

from __future__ import annotations

from array import array
from collections.abc import Callable, Sequence

import msgspec

from rustfern.formats.images.jpeg_blocks import Part

_PAD = bytes(8)
_MOST_BRIGHT = 2047
_STEPS, _LONGEST, _SURE, _IN_A_UNIT = 30, 64, 200, 1 << 13
"""Units that are tried first of a place where the codes may go on, bits that may be left behind them; units that must follow where no end tells, and
bits of one that may be cut off there."""


class Unit(msgspec.Struct, frozen=True):
    """The blocks of one unit: for each its component's number, its tables of codes (as `Walk` makes them)."""

    blocks: tuple[tuple[int, list[int], list[int]], ...]

    @classmethod
    def of(cls, order: Sequence[tuple[Part, int, int]], tables: dict[tuple[int, int], list[int]]) -> Unit | None:
        """The unit of a scan; None where a table is missing."""
        found = []
        for number, (part, h, v) in enumerate(order):
            dc, ac = tables.get((0, part.dc)), tables.get((1, part.ac))
            if dc is None or ac is None:
                return None
            found += [(number, dc, ac)] * (h * v)
        return cls(tuple(found))

    @property
    def components(self) -> int:
        """How many components it has."""
        return 1 + max(number for number, _, _ in self.blocks)


class Run(msgspec.Struct):
    """Units one behind the other: how many are whole, the bit behind the last, the brightness of each of their blocks (from 0 on), and whether it
    stopped at codes that cannot be (`is_wrong`), not at the end of the bits.
    """

    units: int
    end: int
    bright: array[int]
    is_wrong: bool


def follow(data: bytes, start: int, unit: Unit, most: int, seen: set[int] | None = None) -> Run:
    """Follow units from a bit on, `most` of them at most. Bits at which units begin are put into `seen`; it stops where one is there already."""
    end = len(data) * 8
    padded = data + _PAD
    at, bright = start, array("i")
    before = [0] * unit.components
    blocks = unit.blocks
    units = 0
    good = start
    take = int.from_bytes
    while units < most:
        if seen is not None:
            if at in seen:
                return Run(units, good, bright, True)
            seen.add(at)
        for number, dc, ac in blocks:
            place = at >> 3
            told = dc[take(padded[place : place + 4], "big") >> (16 - (at & 7)) & 0xFFFF]
            length, size = told & 31, told >> 5
            if not length or size > 11:
                return _stopped(units, good, bright, len(blocks), at, end)
            at += length
            if size:
                place = at >> 3
                value = take(padded[place : place + 4], "big") >> (32 - size - (at & 7)) & ((1 << size) - 1)
                before[number] += value if value >> (size - 1) else value - (1 << size) + 1
                at += size
                if not -4096 < before[number] < 4096:
                    return _stopped(units, good, bright, len(blocks), at, end)
            bright.append(before[number])
            k = 1
            while k < 64:
                place = at >> 3
                told = ac[take(padded[place : place + 4], "big") >> (16 - (at & 7)) & 0xFFFF]
                length = told & 31
                size = told >> 5 & 15
                if not length:
                    return _stopped(units, good, bright, len(blocks), at, end)
                if size:
                    k += (told >> 9) + 1
                    at += length + size
                elif told >> 9 == 15:
                    k += 16
                    at += length
                else:
                    at += length
                    break
            if k > 64 or at > end:
                return _stopped(units, good, bright, len(blocks), at, end)
        units += 1
        good = at
    return Run(units, good, bright, False)


def _stopped(units: int, good: int, bright: array[int], blocks: int, at: int, end: int) -> Run:
    del bright[units * blocks :]
    return Run(units, good, bright, at <= end)


def taken_up(
    data: bytes, first: int, last: int, unit: Unit, most: int, pause: Callable[[], None]
) -> tuple[int, Run] | None:
    """(bit, units) where the codes go on to the very end of the data, sought from the byte `first` to `last`; None where nowhere."""
    nowhere: set[int] = set()
    end = len(data) * 8
    for bit in range(first * 8, last * 8):
        if not bit % 512:
            pause()
        if bit in nowhere:
            continue
        tried = follow(data, bit, unit, _STEPS, nowhere)
        if tried.is_wrong or (tried.units < _STEPS and end - tried.end > _LONGEST):
            continue
        found = follow(data, bit, unit, most)
        if found.units and end - found.end < 8 and _is_padding(data, found.end):
            return bit, found
    return None


def taken_up_between(
    data: bytes, last: int, unit: Unit, most: int, pause: Callable[[], None]
) -> tuple[int, Run] | None:
    """The same of codes that stop in their middle: sought up to the byte `last`, they must go on to where the data stop."""
    nowhere: set[int] = set()
    end = len(data) * 8
    for bit in range(last * 8):
        if not bit % 512:
            pause()
        if bit in nowhere or follow(data, bit, unit, _STEPS, nowhere).units < _STEPS:
            continue
        found = follow(data, bit, unit, most)
        if found.units >= _SURE and end - found.end < _IN_A_UNIT:
            return bit, found
    return None


def _is_padding(data: bytes, bit: int) -> bool:
    """Whether nothing but ones stands between a bit and the end of its byte, the last one."""
    rest = len(data) * 8 - bit
    return rest == 0 or data[-1] & ((1 << rest) - 1) == (1 << rest) - 1


class Bits:
    """Bits that are put together."""

    def __init__(self) -> None:
        self._pieces: list[tuple[int, int]] = []

    def copy(self, data: bytes, start: int, end: int) -> None:
        """Bits of some bytes."""
        if end <= start:
            return
        first, last = start >> 3, (end + 7) >> 3
        value = int.from_bytes(data[first:last], "big") >> ((last << 3) - end)
        self._pieces.append((value & ((1 << (end - start)) - 1), end - start))

    def put(self, value: int, count: int) -> None:
        """Some bits."""
        if count:
            self._pieces.append((value, count))

    def repeat(self, bits: str, count: int) -> None:
        """The same bits again and again."""
        if count and bits:
            self._pieces.append((int(bits * count, 2), len(bits) * count))

    def stuffed(self) -> bytes:
        """All of it, filled up with ones, a zero behind each 0xFF."""
        out = bytearray()
        held, width = 0, 0
        for value, count in self._pieces:
            held, width = held << count | value, width + count
            whole, width = divmod(width, 8)
            out += (held >> width).to_bytes(whole, "big")
            held &= (1 << width) - 1
        if width:
            out.append(held << (8 - width) | ((1 << (8 - width)) - 1))
        return bytes(out).replace(b"\xff", b"\xff\0")


def code_of(table: list[int], symbol: int) -> str | None:
    """The bits of a symbol; None where the table has none for it."""
    at = 0
    while at < 65536:
        told = table[at]
        length = told & 31
        if length and told >> 5 == symbol:
            return format(at >> (16 - length), f"0{length}b")
        at += 1 << (16 - length) if length else 1
    return None


def difference_code(table: list[int], value: int) -> str | None:
    """The bits of a difference of brightness, or of the nearest that the table can tell; None where it can tell none."""
    value = max(-_MOST_BRIGHT, min(_MOST_BRIGHT, value))
    while True:
        size = abs(value).bit_length()
        code = code_of(table, size)
        if code is not None:
            if not size:
                return code
            told = value if value > 0 else value + (1 << size) - 1
            return code + format(told, f"0{size}b")
        if not value:
            return None
        value = (abs(value) >> 1) * (1 if value > 0 else -1) if size > 1 else 0


def empty_unit(unit: Unit, changes: Sequence[int] | None = None, *, light: bool = False) -> str | None:
    """The bits of a unit without any detail (of one whose scan tells of none, if `light`), as bright as the one before, but for `changes` of each
    component; None where no code tells that.
    """
    out = ""
    left = list(changes or [0] * unit.components)
    for number, dc, ac in unit.blocks:
        change = difference_code(dc, left[number])
        end = "" if light else code_of(ac, 0)
        if change is None or end is None:
            return None
        left[number] = 0
        out += change + end
    return out
