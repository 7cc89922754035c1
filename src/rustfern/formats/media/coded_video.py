"""H.264 and H.265 as they lie in recordings: units, what each is, where a picture begins, in what order pictures are shown.

Source: ITU-T H.264 7.3 (syntax), 7.4.1.2.4 (where a picture begins), 8.2.1 (order), E.1 (timing); ITU-T H.265 7.3, 8.3.1, E.2; ISO/IEC 14496-15
(units behind their lengths).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Sequence
from typing import Any, Protocol

import msgspec

_HEAD, _AVC_HEAD = 96, 24
"""Bytes of a unit that its head lies in, and of H.264 what is read of it."""
_MOST_SETTINGS = 32
_AVC_UNITS = frozenset((1, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 19, 20))
_UNHELD, _EITHER = frozenset((6, 9, 10, 11, 12)), frozenset((1, 13, 14, 15, 19, 20))
"""Kinds of units that are told here; those no other picture ever needs, and those that may be needed or not (H.264 table 7-1)."""


class NoUnit(Exception):
    """These bytes are no unit of a picture."""


class Bits:
    """Bits of a unit's payload, the bytes that guard against start codes taken out."""

    def __init__(self, payload: bytes) -> None:
        data = payload.replace(b"\0\0\3", b"\0\0") if b"\0\0\3" in payload else payload
        self._value, self._left = int.from_bytes(data, "big"), len(data) * 8
        self._whole = self._left

    @property
    def at(self) -> int:
        """How many were taken."""
        return self._whole - self._left

    def take(self, count: int) -> int:
        """So many bits. Raises `NoUnit`."""
        self._left -= count
        if self._left < 0:
            raise NoUnit
        return (self._value >> self._left) & ((1 << count) - 1)

    def number(self) -> int:
        """A number of the kind ue(v)."""
        old = self._left
        rest = self._value & ((1 << old) - 1)
        left = 2 * rest.bit_length() - old - 1
        if left < 0 or old - left > 63:
            raise NoUnit
        self._left = left
        return (rest >> left) - 1

    def signed(self) -> int:
        """A number of the kind se(v)."""
        value = self.number()
        return (value + 1) // 2 if value & 1 else -(value // 2)


def guarded(payload: bytes) -> bytes:
    """A payload with the bytes that guard against start codes (H.264 and H.265 7.4.1)."""
    return re.sub(rb"\0\0(?=[\0-\3])", b"\0\0\3", payload)


class Head(msgspec.Struct, frozen=True):
    """What a unit is: its kind; whether it holds a part of a picture, the first one (`begins`), of a picture that needs no other (`is_key`); the low
    bits of its place in the order of showing, -1 where they are not told.
    """

    kind: int
    is_slice: bool = False
    begins: bool = False
    is_key: bool = False
    order: int = -1
    opens: bool = False
    """It stands before the first part of a picture only."""


class Shape(msgspec.Struct, frozen=True):
    """What settings tell: pixels, pictures a second (0 where they do not), how many values the low bits of the order have (0: shown as they come)."""

    width: int
    height: int
    rate: float
    orders: int


Known = tuple[dict[Any, Any], ...]
"""Settings that were learned."""


class Coding(Protocol):
    """One way of coding pictures."""

    name: str

    def learn(self, unit: bytes) -> bool:
        """Take settings from a unit that holds some; whether it does."""

    def known(self) -> Known:
        """What it learned until now."""

    def forget(self, known: Known) -> None:
        """Know no more than it did."""

    def head(self, unit: bytes) -> Head:
        """What a unit is, from its first bytes. Raises `NoUnit`."""

    @property
    def shape(self) -> Shape | None:
        """What its settings tell; None where there are none."""


class Avc:
    """H.264."""

    name = "H.264"

    def __init__(self, settings: Sequence[bytes] = ()) -> None:
        self.sets: dict[int, bytes] = {}
        self.pictures: dict[int, bytes] = {}
        self._sps: dict[int, AvcSet] = {}
        self._pps: dict[int, int] = {}
        for each in settings:
            self.learn(each)

    def learn(self, unit: bytes) -> bool:
        """As `Coding.learn`."""
        kind = unit[0] & 31 if unit else 0
        try:
            if kind == 7 and len(self._sps) < _MOST_SETTINGS:
                found = _avc_set(unit)
                self._sps[found.number] = found
                self.sets[found.number] = unit
                return True
            if kind == 8 and len(self._pps) < 256:
                bits = Bits(unit[1:40])
                number, parent = bits.number(), bits.number()
                if number > 255 or parent > 31:
                    return False
                self._pps[number] = parent
                self.pictures[number] = unit
                return True
        except NoUnit:
            return False
        return False

    def known(self) -> Known:
        """As `Coding.known`."""
        return self.sets.copy(), self.pictures.copy(), self._sps.copy(), self._pps.copy()

    def forget(self, known: Known) -> None:
        """As `Coding.forget`."""
        self.sets, self.pictures, self._sps, self._pps = known

    @property
    def shape(self) -> Shape | None:
        """As `Coding.shape`."""
        return next((each.shape for each in self._sps.values()), None)

    def set_for(self, settings: int) -> AvcSet:
        """The settings of the sequence by which pictures with these settings are coded. Raises `NoUnit` where they are not told."""
        found = self._sps.get(self._pps.get(settings, -1))
        if found is None:
            raise NoUnit
        return found

    def taller(self) -> Avc:
        """The same settings for pictures that are one row of blocks taller."""
        sets = []
        for number, unit in self.sets.items():
            place, rows = self._sps[number].height
            data = unit[1:].replace(b"\0\0\3", b"\0\0")
            text = format(int.from_bytes(b"\1" + data, "big"), "b")[1:]
            old, new = (2 * each.bit_length() - 1 for each in (rows, rows + 1))
            text = text[:place] + format(rows + 1, f"0{new}b") + text[place + old :].rstrip("0")
            text += "0" * (-len(text) % 8)
            changed = int(text, 2).to_bytes(len(text) // 8, "big")
            sets.append(unit[:1] + guarded(changed))
        return Avc((*sets, *self.pictures.values()))

    def head(self, unit: bytes) -> Head:
        """As `Coding.head`."""
        first = unit[0]
        kind, weight = first & 31, first >> 5
        if first & 0x80 or kind not in _AVC_UNITS or (kind not in _EITHER and (kind in _UNHELD) != (weight == 0)):
            raise NoUnit
        if kind not in (1, 5, 19):
            return Head(kind, opens=kind in (6, 7, 8, 9, 13, 14, 15))
        bits = Bits(unit[1:_AVC_HEAD])
        place, shown, settings = bits.number(), bits.number(), bits.number()
        if shown > 9 or settings > 255 or (self._pps and settings not in self._pps) or place > 139_264:
            raise NoUnit
        if kind == 5 and shown % 5 not in (2, 4):
            raise NoUnit
        order = -1
        found = self._sps.get(self._pps.get(settings, -1))
        if found is not None:
            if place >= found.blocks:
                raise NoUnit
            if found.planes:
                bits.take(2)
            bits.take(found.number_bits)
            if not found.frames_only and bits.take(1):
                bits.take(1)
            if kind == 5 and bits.number() > 65535:
                raise NoUnit
            if found.shape.orders:
                order = bits.take(found.shape.orders.bit_length() - 1)
        # Slices of an auxiliary picture (7.4.1.2.5) have the same head: what is foreign has not.
        return Head(kind, True, place == 0, kind == 5, order) if kind != 19 else Head(kind)


class AvcSet(msgspec.Struct, frozen=True):
    """What a set for a sequence of pictures of H.264 says (7.3.2.1.1): among others how many pictures are held for others, how colours are sampled (0:
    there are none), whether each slice or only the order of coming (`ordered` 0 or 2) tells the order of showing, whether blocks may be of
    fields (`mixed`).
    """

    number: int
    shape: Shape
    blocks: int
    planes: bool
    number_bits: int
    frames_only: bool
    height: tuple[int, int]
    held: int = 0
    chroma: int = 1
    ordered: int = 0
    mixed: bool = False
    """`height`: behind how many bits it stands, and what it is in rows of blocks (or pairs of them)."""


_HIGH = frozenset({100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135})


def _avc_set(unit: bytes) -> AvcSet:
    bits = Bits(unit[1:600])
    profile = bits.take(8)
    bits.take(16)
    number = bits.number()
    chroma, planes = 1, False
    if profile in _HIGH:
        chroma = bits.number()
        planes = chroma == 3 and bool(bits.take(1))
        if max(bits.number(), bits.number()) > 6 or chroma > 3:
            raise NoUnit
        bits.take(1)
        if bits.take(1):
            for n in range(8 if chroma != 3 else 12):
                if bits.take(1):
                    _scaling(bits, 16 if n < 6 else 64)
    number_bits, kind, orders = bits.number() + 4, bits.number(), 0
    if kind == 0:
        orders = 1 << (bits.number() + 4)
    elif kind == 1:
        bits.take(1)
        bits.signed(), bits.signed()
        for _ in range(min(bits.number(), 255)):
            bits.signed()
    held = bits.number()
    bits.take(1)
    across, place = bits.number() + 1, bits.at
    down = bits.number() + 1
    frames_only = bool(bits.take(1))
    mixed = not frames_only and bool(bits.take(1))
    bits.take(1)
    crop = [bits.number() for _ in range(4)] if bits.take(1) else [0] * 4
    if number > 31 or number_bits > 16 or orders > 65536 or across > 1056 or down > 1056 or kind > 2:
        raise NoUnit
    fields = 1 if frames_only else 2
    wide, high = (1 if chroma in (0, 3) else 2), (2 if chroma == 1 else 1) * fields
    shape = Shape(
        across * 16 - wide * (crop[0] + crop[1]),
        down * 16 * fields - high * (crop[2] + crop[3]),
        _avc_rate(bits),
        orders,
    )
    if shape.width < 1 or shape.height < 1:
        raise NoUnit
    return AvcSet(
        number,
        shape,
        across * down * fields,
        planes,
        number_bits,
        frames_only,
        (place, down),
        held,
        chroma,
        kind,
        mixed,
    )


def _scaling(bits: Bits, count: int) -> None:
    last = following = 8
    for _ in range(count):
        if following:
            following = (last + bits.signed()) % 256
        last = following or last


def _avc_rate(bits: Bits) -> float:
    """Pictures a second by the usability information (E.1.1)."""
    try:
        if not bits.take(1):
            return 0.0
        if bits.take(1) and bits.take(8) == 255:
            bits.take(32)
        if bits.take(1):
            bits.take(1)
        if bits.take(1):
            bits.take(4)
            if bits.take(1):
                bits.take(24)
        if bits.take(1):
            bits.number(), bits.number()
        if not bits.take(1):
            return 0.0
        tick, scale = bits.take(32), bits.take(32)
    except NoUnit:
        return 0.0
    return scale / tick / 2 if tick and scale else 0.0


class Hevc:
    """H.265."""

    name = "H.265"

    def __init__(self, settings: Sequence[bytes] = ()) -> None:
        self.sets: dict[tuple[int, int], bytes] = {}
        self._sps: dict[int, tuple[Shape, bool]] = {}
        self._pps: dict[int, tuple[int, bool, bool, int]] = {}
        for each in settings:
            self.learn(each)

    def learn(self, unit: bytes) -> bool:
        """As `Coding.learn`."""
        kind = unit[0] >> 1 & 63 if len(unit) > 2 else 0
        try:
            if kind == 32:
                self.sets[kind, unit[2] >> 4] = unit
                return True
            if kind == 33 and len(self._sps) < _MOST_SETTINGS:
                number, shape, planes = _hevc_set(unit)
                self._sps[number] = shape, planes
                self.sets[kind, number] = unit
                return True
            if kind == 34 and len(self._pps) < 64:
                bits = Bits(unit[2:40])
                number, parent = bits.number(), bits.number()
                dependent, output, extra = bool(bits.take(1)), bool(bits.take(1)), bits.take(3)
                if number > 63 or parent > 15:
                    return False
                self._pps[number] = parent, dependent, output, extra
                self.sets[kind, number] = unit
                return True
        except NoUnit:
            return False
        return False

    def known(self) -> Known:
        """As `Coding.known`."""
        return self.sets.copy(), self._sps.copy(), self._pps.copy()

    def forget(self, known: Known) -> None:
        """As `Coding.forget`."""
        self.sets, self._sps, self._pps = known

    @property
    def shape(self) -> Shape | None:
        """As `Coding.shape`."""
        return next((shape for shape, _ in self._sps.values()), None)

    def head(self, unit: bytes) -> Head:
        """As `Coding.head`."""
        if len(unit) < 3:
            raise NoUnit
        kind, layer, level = unit[0] >> 1 & 63, (unit[0] & 1) << 5 | unit[1] >> 3, unit[1] & 7
        if unit[0] & 0x80 or layer or not level or kind not in (*range(10), *range(16, 22), *range(32, 41)):
            raise NoUnit
        if kind >= 32:
            if kind < 35 and level != 1:
                raise NoUnit
            return Head(kind, opens=kind in (32, 33, 34, 35, 39))
        if kind >= 16 and level != 1:
            raise NoUnit
        bits = Bits(unit[2:_HEAD])
        first = bool(bits.take(1))
        is_random = kind >= 16
        if is_random:
            bits.take(1)
        settings = bits.number()
        if settings > 63 or (self._pps and settings not in self._pps):
            raise NoUnit
        order = -1
        if settings in self._pps and first:
            parent, _, output, extra = self._pps[settings]
            bits.take(extra)
            if bits.number() > 2:
                raise NoUnit
            if output:
                bits.take(1)
            shape, planes = self._sps.get(parent, (None, False))
            if planes:
                bits.take(2)
            if kind in (19, 20):
                order = 0
            elif shape is not None:
                order = bits.take(shape.orders.bit_length() - 1)
        return Head(kind, True, first, is_random, order)


def _hevc_set(unit: bytes) -> tuple[int, Shape, bool]:
    bits = Bits(unit[2:600])
    bits.take(4)
    levels = bits.take(3)
    bits.take(1)
    bits.take(88)
    bits.take(8)
    present = [(bits.take(1), bits.take(1)) for _ in range(levels)]
    if levels:
        bits.take(2 * (8 - levels))
    for profile, level in present:
        bits.take((88 if profile else 0) + (8 if level else 0))
    number, chroma = bits.number(), bits.number()
    planes = chroma == 3 and bool(bits.take(1))
    width, height = bits.number(), bits.number()
    if bits.take(1):
        left, right, top, bottom = (bits.number() for _ in range(4))
        width -= (2 if chroma in (1, 2) else 1) * (left + right)
        height -= (2 if chroma == 1 else 1) * (top + bottom)
    depths = max(bits.number(), bits.number())
    orders = 1 << (bits.number() + 4)
    if number > 15 or chroma > 3 or depths > 8 or not (0 < width < 16889 and 0 < height < 16889) or orders > 65536:
        raise NoUnit
    return number, Shape(width, height, 0.0, orders), planes


def unit_lengths(data: bytes, width: int) -> list[tuple[int, int]]:
    """(offset, bytes) of each unit of a picture whose units stand behind lengths of `width` bytes. Raises `NoUnit`."""
    found, at = [], 0
    while at < len(data):
        if at + width >= len(data):
            raise NoUnit
        length = int.from_bytes(data[at : at + width], "big")
        at += width
        if not length or at + length > len(data):
            raise NoUnit
        found.append((at, length))
        at += length
    return found


def first_unit(picture: bytes, width: int, most: int, is_wanted: Callable[[bytes], bool]) -> bytes:
    """The first unit of some kind of a picture whose units stand behind lengths of `width` bytes, at most so many bytes of it. Raises `NoUnit`."""
    at = 0
    while at + width < len(picture):
        length = int.from_bytes(picture[at : at + width], "big")
        unit = picture[at + width : at + width + min(length, most)]
        if is_wanted(unit):
            return unit
        at += width + length
    raise NoUnit


def settings_of(entry: bytes) -> tuple[Avc | Hevc | None, int]:
    """(what the settings in a description of samples tell, bytes of the lengths before units); None for another coding. Source: 14496-15, 5.3.3 and
    8.3.3.
    """
    try:
        at = entry.find(b"avcC")
        if at > 0:
            at += 4
            width, count, place = 1 + (entry[at + 4] & 3), entry[at + 5] & 31, at + 6
            units = []
            for is_last in (False, True):
                for _ in range(count):
                    (length,) = struct.unpack_from(">H", entry, place)
                    units.append(entry[place + 2 : place + 2 + length])
                    place += 2 + length
                if not is_last:  # nothing need follow
                    count, place = entry[place], place + 1
            return Avc(units), width
        at = entry.find(b"hvcC")
        if at > 0:
            at += 4
            width, place, units = 1 + (entry[at + 21] & 3), at + 23, []
            for _ in range(entry[at + 22]):
                (count,) = struct.unpack_from(">H", entry, place + 1)
                place += 3
                for _ in range(count):
                    (length,) = struct.unpack_from(">H", entry, place)
                    units.append(entry[place + 2 : place + 2 + length])
                    place += 2 + length
            return Hevc(units), width
    except (struct.error, IndexError):
        pass
    return None, 0
