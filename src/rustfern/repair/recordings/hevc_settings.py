"""Settings of H.265 pictures that stand nowhere but in the lost index: those are tried that the encoder x265 makes, until the code of a picture proves
them.

What a picture that needs no other one is coded with, its size too, is proved by its bytes alone (`hevc_intra`). What only the others need goes with
it, as the encoder's presets have it, and is tried with a decoder. Source: ITU-T H.265 7.3.2 (parameter sets), 7.4.9.10, A.4.1 (levels); x265,
common/param.cpp (what the presets are).
"""

from __future__ import annotations

import io
import time
from array import array
from collections.abc import Callable, Iterator, Sequence
from itertools import product

import msgspec
from msgspec.structs import replace

from rustfern.formats.drawn_aside import made_aside
from rustfern.formats.media.coded_video import Hevc, NoUnit, unit_lengths
from rustfern.formats.media.frame import can_show
from rustfern.formats.media.hevc_intra import Settings, Walk, head_of, sizes_of
from rustfern.repair.interface import Budget
from rustfern.repair.recordings.set_bits import USUAL_SIZES, SetBits
from rustfern.repair.recordings.trial import plays
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, box, entry_of_units, write

_PRESETS = (
    Settings(),
    Settings(block=5, steps=0, filtered=False),
    Settings(block=5, smallest=4, steps=0, filtered=False, hides_signs=False),
    Settings(depth=2),
    Settings(depth=3, skips=True),
)
_SECONDS, _MOST = 40.0, 4 << 20
_IDR = (19, 20)
_SATURATED, _SPREAD = 30, 300
"""Thousandths of the pixels of a picture that are darker or lighter than recordings are; of the range of values that most pixels span."""
_LEVELS = ((36_864, 30), (122_880, 60), (245_760, 63), (552_960, 90), (983_040, 93), (2_228_224, 123), (8_912_896, 153))


class Tools(msgspec.Struct, frozen=True):
    """What only pictures that need others are coded with: parts of unequal size, how deep their transforms go, weights of one and of two pictures."""

    unequal: bool
    depth: int
    weighs: bool
    weighs_both: bool


def sets_for(settings: Settings, shown: tuple[int, int], tools: Tools) -> Hevc:
    """The parameter sets of pictures that are coded with these; `shown` are the pixels of which there is something to be seen."""
    bits = SetBits()
    bits.put(0b0000_11, 6)
    bits.put(0, 6)
    bits.put(0b000_1, 4)
    bits.put(0xFFFF, 16)
    _profile(bits, settings)
    _held(bits)
    bits.put(0, 6)
    bits.number(0)
    bits.put(0, 2)
    stream = bits.unit(b"\x40\x01")
    bits = SetBits()
    bits.put(0b0000_000_1, 8)
    _profile(bits, settings)
    for value in (0, 1, settings.width, settings.height):
        bits.number(value)
    right, below = (settings.width - shown[0]) // 2, (settings.height - shown[1]) // 2
    bits.put(int(bool(right or below)), 1)
    if right or below:
        for value in (0, right, 0, below):
            bits.number(value)
    for value in (settings.bits - 8, settings.bits - 8, 4):
        bits.number(value)
    _held(bits)
    largest = min(settings.block, 5)
    for value in (
        settings.smallest - 3, settings.block - settings.smallest, 0, largest - 2, tools.depth, settings.depth,
    ):  # fmt: skip
        bits.number(value)
    bits.put(0, 1)
    bits.put(int(tools.unequal), 1)
    bits.put(int(settings.filtered), 1)
    bits.put(0, 1)
    bits.number(0)
    bits.put(0b0_1_1_0_0, 5)
    sequence = bits.unit(b"\x42\x01")
    bits = SetBits()
    bits.number(0)
    bits.number(0)
    bits.put(0b00_000, 5)
    bits.put(int(settings.hides_signs), 1)
    bits.put(0, 1)
    for value in (0, 0, 0):
        bits.number(value)
    bits.put(0, 1)
    bits.put(int(settings.skips), 1)
    bits.put(int(settings.steps >= 0), 1)
    if settings.steps >= 0:
        bits.number(settings.steps)
    bits.number(0)
    bits.number(0)
    for flag in (False, tools.weighs, tools.weighs_both, False, False, settings.by_rows, True, False, False, False):
        bits.put(int(flag), 1)
    bits.number(0)
    bits.put(0, 2)
    return Hevc((stream, sequence, bits.unit(b"\x44\x01")))


def _profile(bits: SetBits, settings: Settings) -> None:
    """Profile, tier and level (7.3.3)."""
    deep = settings.bits > 8
    bits.put(2 if deep else 1, 8)
    bits.put(0x20000000 if deep else 0x60000000, 32)
    bits.put(0b1001, 4)
    bits.put(0, 44)
    pixels = settings.width * settings.height
    bits.put(next((level for most, level in _LEVELS if pixels <= most), 186), 8)


def _held(bits: SetBits) -> None:
    """How many pictures are held, how many wait for others, and no limit on how long."""
    bits.put(1, 1)
    for value in (6, 2, 0):
        bits.number(value)


def found_settings(
    window: Window, places: Sequence[int], lengths: Sequence[int], known: Sequence[tuple[int, int]], budget: Budget
) -> Hevc | None:
    """The parameter sets of the pictures at some places (offsets, bytes), proved by the first that needs no other one; None where none of those that are
    tried fits, or no decoder is installed. `known` are sizes of other recordings.
    """
    unit = _whole_picture(window, places, lengths)
    if unit is None or not can_show():
        return None
    until = time.monotonic() + _SECONDS

    def pause() -> None:
        budget.spend()
        if time.monotonic() > until:
            raise _TooLong

    usual = [*known, *USUAL_SIZES]
    try:
        fitting = next(_proved(unit, usual, pause), None)
        if fitting is None:
            return None
        shown = _shown(fitting, usual)
        fitting = _with_bits(window, fitting, shown, places, lengths, budget)
        for tools in _tools(fitting):
            coding = sets_for(fitting, shown, tools)
            entry = entry_of_units(coding)
            if entry is not None and plays(window, entry, *shown, places, lengths, budget) == 1:
                return coding
            pause()
    except _TooLong:
        pass
    return None


class _TooLong(Exception):
    """More was tried than it is worth."""


def _whole_picture(window: Window, places: Sequence[int], lengths: Sequence[int]) -> bytes | None:
    """The first picture that needs no other one and is one unit."""
    for place, length in zip(places, lengths, strict=True):
        if length > _MOST:
            continue
        data = window.at(place, length)
        try:
            units = [data[at : at + size] for at, size in unit_lengths(data, 4)]
        except NoUnit:
            continue
        parts = [unit for unit in units if unit[0] >> 1 & 63 < 32]
        if len(parts) == 1 and parts[0][0] >> 1 & 63 in _IDR:
            return parts[0]
    return None


def _proved(unit: bytes, usual: Sequence[tuple[int, int]], pause: Callable[[], None]) -> Iterator[Settings]:
    """Settings with which a picture ends just where its bytes do; the presets first, then all others that can be."""
    told = [settings for settings in (*_PRESETS, *_others()) if _is_headed(unit, settings)]
    presets = [settings for settings in told if settings in _PRESETS]
    for some, is_usual in (
        (presets, True),
        (presets, False),
        (told[len(presets) :], True),
        (told[len(presets) :], False),
    ):
        for settings in some:
            among = list(dict.fromkeys(_coded(settings, each) for each in usual)) if is_usual else None
            for width, height in sizes_of(unit, settings, pause, among):
                yield replace(settings, width=width, height=height)
    for preset in _PRESETS:
        settings = replace(preset, by_rows=False)
        for size in dict.fromkeys(_coded(settings, each) for each in usual):
            pause()
            whole = replace(settings, width=size[0], height=size[1])
            try:
                if Walk(unit, whole).fits(pause):
                    yield whole
            except NoUnit:
                break


def _is_headed(unit: bytes, settings: Settings) -> bool:
    """Whether the picture's head can be one of these."""
    try:
        head_of(unit, filtered=settings.filtered, by_rows=True)
    except NoUnit:
        return False
    return True


def _others() -> Iterator[Settings]:
    for block, smallest, depth, filtered, hides, steps, skips in product(
        (6, 5, 4), (3, 4), range(4), (True, False), (True, False), (1, 0, -1, 2), (False, True)
    ):
        settings = Settings(0, 0, block, smallest, depth, steps, filtered, hides, skips=skips)
        if smallest < block and block - max(steps, 0) >= smallest and settings not in _PRESETS:
            yield settings


def _coded(settings: Settings, shown: tuple[int, int]) -> tuple[int, int]:
    """The size that pictures are coded with of which so many pixels are seen."""
    step = 1 << settings.smallest
    return -(-shown[0] // step) * step, -(-shown[1] // step) * step


def _shown(settings: Settings, usual: Sequence[tuple[int, int]]) -> tuple[int, int]:
    """How much of a picture is meant to be seen: a usual size, if it is coded so."""
    coded = settings.width, settings.height
    return next((each for each in usual if _coded(settings, each) == coded), coded)


def _tools(settings: Settings) -> Iterator[Tools]:
    """What the other pictures may be coded with, as the presets have it first."""
    depth = settings.depth
    weighs = settings.filtered
    likely = Tools(depth > 0, depth, weighs, depth > 0)
    yield likely
    for unequal, inner, one, both in product(
        (depth > 0, depth == 0), (depth, *range(4)), (weighs, not weighs), (False, True)
    ):
        tools = Tools(unequal, inner, one, both)
        if tools != likely:
            yield tools


def _with_bits(
    window: Window,
    settings: Settings,
    shown: tuple[int, int],
    places: Sequence[int],
    lengths: Sequence[int],
    budget: Budget,
) -> Settings:
    """Whether values have 8 bits or 10, which the code alone rarely tells: read with 8, pictures of 10 are far too light and too dark."""
    found = []
    for bits in (8, 10):
        tried = replace(settings, bits=bits)
        entry = entry_of_units(sets_for(tried, shown, Tools(False, 0, False, False)))
        if entry is None:
            return settings
        track = Written(
            b"vide", entry, 30, *shown, array("Q", places[:1]), array("I", lengths[:1]), array("I", [1]), array("q", [0]), array("b"),
        )  # fmt: skip
        made = io.BytesIO()
        write(made, window, box(b"ftyp", b"isom\0\0\2\0isom"), [track], lambda: None)
        budget.spend()
        told = made_aside(
            "rustfern.repair.recordings.trial", b"luma" + made.getvalue(), max(min(20, budget.left()), 0.5)
        )
        found.append([int(each) for each in (told or b"0 0").split()])
    (outside, _), (_, spread) = found
    return replace(settings, bits=10) if outside > _SATURATED and spread > _SPREAD else settings
