"""Settings of H.265 pictures that stand nowhere but in the lost index: those are tried that the encoder x265 makes, until the code of a picture proves
them.

What pictures are coded with, their size too, is proved by their bytes alone (`hevc_walk`): no decoder is needed. Source: ITU-T H.265 7.3.2
(parameter sets), A.4.1 (levels); x265, common/param.cpp (what the presets are).
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from itertools import product

import msgspec
from msgspec.structs import replace

from rustfern.formats.media.coded_video import Hevc, NoUnit, unit_lengths
from rustfern.formats.media.hevc_heads import Settings, head_of, settings_in
from rustfern.formats.media.hevc_walk import Walk, sizes_of
from rustfern.repair.interface import Budget
from rustfern.repair.recordings.set_bits import USUAL_SIZES, SetBits
from rustfern.repair.recordings.window import Window

_PRESETS = (
    Settings(),
    Settings(block=5, steps=0, filtered=False),
    Settings(block=5, smallest=4, steps=0, filtered=False, hides_signs=False),
    Settings(depth=2),
    Settings(depth=3, skips=True),
)
_SECONDS, _MOST, _TRIED, _PROVED = 60.0, 4 << 20, 24, 0.6
_HELD_AGAINST = 6
_IDR = (19, 20)
_LEVELS = ((36_864, 30), (122_880, 60), (245_760, 63), (552_960, 90), (983_040, 93), (2_228_224, 123), (8_912_896, 153))


def sets_for(settings: Settings, shown: tuple[int, int]) -> Hevc:
    """The parameter sets of pictures that are coded with these; `shown` are the pixels of which there is something to be seen."""
    return Hevc((_stream_set(settings), _sequence_set(settings, shown), _picture_set(settings)))


def _stream_set(settings: Settings) -> bytes:
    """What holds for a whole stream (7.3.2.1)."""
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
    return bits.unit(b"\x40\x01")


def _sequence_set(settings: Settings, shown: tuple[int, int]) -> bytes:
    """What holds for a sequence of pictures (7.3.2.2)."""
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
    blocks = settings.smallest - 3, settings.block - settings.smallest
    for value in (*blocks, 0, largest - 2, settings.inner, settings.depth):
        bits.number(value)
    for flag in (False, settings.unequal, settings.filtered, False):
        bits.put(int(flag), 1)
    bits.number(0)
    bits.put(0b0_1_1_0_0, 5)
    return bits.unit(b"\x42\x01")


def _picture_set(settings: Settings) -> bytes:
    """What holds for each picture (7.3.2.3)."""
    bits = SetBits()
    bits.number(0)
    bits.number(0)
    bits.put(0b00_000, 5)
    bits.put(int(settings.hides_signs), 1)
    bits.put(0, 1)
    for value in (0, 0, 0):
        bits.number(value)
    for flag in (False, settings.skips, settings.steps >= 0):
        bits.put(int(flag), 1)
    if settings.steps >= 0:
        bits.number(settings.steps)
    bits.number(0)
    bits.number(0)
    for flag in (False, *settings.weighs, False, False, settings.by_rows, True, False, False, False):
        bits.put(int(flag), 1)
    bits.number(0)
    bits.put(0, 2)
    return bits.unit(b"\x44\x01")


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


class Proof(msgspec.Struct, frozen=True):
    """Parameter sets that pictures prove, and what they do not prove: whether how many bits a value has is told; of how many rows and columns at the edge,
    at most, nothing tells whether they are meant to be seen, as pictures are coded in whole blocks (0 where the size is a usual one).
    """

    coding: Hevc
    tells_bits: bool
    unsure: int


def found_settings(
    window: Window, places: Sequence[int], lengths: Sequence[int], known: Sequence[tuple[int, int]], budget: Budget
) -> Proof | None:
    """The parameter sets of the pictures at some places (offsets, bytes), proved by the first that needs no other one and by some of the others; None
    where none of those that are tried fits. `known` are sizes of other recordings.
    """
    pictures = _whole_pictures(window, places, lengths)
    alone = next((unit for unit in pictures if unit[0] >> 1 & 63 in _IDR), None)
    if alone is None:
        return None
    until = time.monotonic() + _SECONDS

    def pause() -> None:
        budget.spend()
        if time.monotonic() > until:
            raise _TooLong

    usual = [*known, *USUAL_SIZES]
    try:
        for fitting in _proved(alone, usual, pause):
            whole = _for_all(fitting, [unit for unit in pictures if unit is not alone], pause)
            if whole is not None:
                coded = whole.width, whole.height
                shown = next((each for each in usual if _coded(whole, each) == coded), None)
                unsure = 0 if shown == coded else (1 << whole.smallest) - 1
                return Proof(sets_for(whole, shown or coded), whole.filtered, unsure)
    except _TooLong:
        pass
    return None


def are_proved(
    coding: Hevc, window: Window, places: Sequence[int], lengths: Sequence[int], budget: Budget
) -> bool | None:
    """Whether the code of some pictures proves the settings of another recording, their size among them; None where that cannot be told."""
    settings = settings_in(coding)
    pictures = _whole_pictures(window, places, lengths)[:_HELD_AGAINST]
    if settings is None or not pictures:
        return None
    count = 0
    for unit in pictures:
        with suppress(NoUnit):
            count += Walk(unit, settings).fits(budget.spend)
    return count >= _PROVED * len(pictures)


def _for_all(settings: Settings, pictures: Sequence[bytes], pause: Callable[[], None]) -> Settings | None:
    """The settings with what only pictures need that need others, as most of these prove; None where nothing does."""
    best, most = None, -1
    others = [unit for unit in pictures if unit[0] >> 1 & 63 < 16]
    for tools in _tools(settings):
        count = 0
        for unit in others:
            pause()
            try:
                walk = Walk(unit, tools)
            except NoUnit:
                continue
            count += walk.fits(pause)
        if count > most:
            best, most = tools, count
        if count == len(others):
            break
    return best if most >= _PROVED * len(others) else None


class _TooLong(Exception):
    """More was tried than it is worth."""


def _whole_pictures(window: Window, places: Sequence[int], lengths: Sequence[int]) -> list[bytes]:
    """Some pictures that are one unit, without the length before it: from the first on that needs no other one."""
    found: list[bytes] = []
    for place, length in zip(places, lengths, strict=True):
        if sum(map(len, found)) + length > _MOST or len(found) >= _TRIED:
            break
        data = window.at(place, length)
        try:
            units = [data[at : at + size] for at, size in unit_lengths(data, 4)]
        except NoUnit:
            continue
        parts = [unit for unit in units if unit[0] >> 1 & 63 < 32]
        if len(parts) == 1 and (found or parts[0][0] >> 1 & 63 in _IDR):
            found += parts
    return found


def _proved(unit: bytes, usual: Sequence[tuple[int, int]], pause: Callable[[], None]) -> Iterator[Settings]:
    """Settings with which a picture ends just where its bytes do; the presets first, then all others that can be."""
    told = [settings for settings in (*_PRESETS, *_others()) if _is_headed(unit, settings)]
    presets = [settings for settings in told if settings in _PRESETS]
    others = told[len(presets) :]
    for some, is_usual in ((presets, True), (presets, False), (others, True), (others, False)):
        for settings, bits in product(some, (8, 10)):
            if bits > 8 and not settings.filtered:
                continue  # their code is the same
            among = list(dict.fromkeys(_coded(settings, each) for each in usual)) if is_usual else None
            tried = replace(settings, bits=bits)
            for width, height in sizes_of(unit, tried, pause, among):
                yield replace(tried, width=width, height=height)
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
        head_of(unit, settings)
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


def _tools(settings: Settings) -> Iterator[Settings]:
    """What the other pictures may be coded with, as the presets have it first."""
    depth, weighs = settings.depth, settings.filtered
    likely = replace(settings, unequal=depth > 0, inner=depth, weighs=(weighs, depth > 0))
    yield likely
    if settings.filtered:
        yield replace(likely, bits=10)  # which shows where a filter's values are too high for 8
    for bits, unequal, inner, one, both in product(
        (settings.bits, 18 - settings.bits)[: 1 + settings.filtered], (depth > 0, depth == 0), dict.fromkeys((depth, *range(4))), (weighs, not weighs),
        (depth > 0, depth == 0),
    ):  # fmt: skip
        yield replace(settings, bits=bits, unequal=unequal, inner=inner, weighs=(one, both))
