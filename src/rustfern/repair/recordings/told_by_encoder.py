"""Settings of H.264 pictures that stand nowhere but in the lost index: made from what the encoder x264 writes of itself into its first picture.

It tells how it codes, but not how large pictures are: sizes are tried with a decoder, those of the person's other recordings and the usual ones
first. Source: ITU-T H.264 7.3.2.1.1 and 7.3.2.2 (parameter sets), E.1.1; x264, encoder/set.c (how it fills them).
"""

from __future__ import annotations

import io
import re
from array import array
from collections.abc import Iterator, Sequence

from rustfern.formats.drawn_aside import made_aside
from rustfern.formats.media.coded_video import Avc
from rustfern.formats.media.frame import can_show
from rustfern.repair.interface import Budget
from rustfern.repair.recordings.set_bits import USUAL_SIZES, SetBits
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, box, entry_of_units, write

_OPTIONS = re.compile(rb"x264 - core \d+[^\0]*? - options: ([ -~]{40,2000})")
_SOUGHT = 256 << 10
_WIDEST, _TALLEST = 45, 45
"""Blocks of 16 pixels across and down up to which all sizes are tried."""
_AT_A_TIME, _PATIENCE, _MOST, _HELD = 400, 30, 4 << 20, 48 << 20
_TALLER, _MOST_ROWS = 6, 270


def options_in(window: Window, start: int) -> dict[str, str] | None:
    """What the encoder tells of itself near a place; None where it does not."""
    found = _OPTIONS.search(window.at(start, _SOUGHT))
    if found is None:
        return None
    return dict(each.partition("=")[::2] for each in found[1].decode("ascii").split() if "=" in each)


def settings_for(options: dict[str, str], width: int, height: int) -> Avc | None:
    """The parameter sets that the encoder makes for pictures of a size; None for what it codes otherwise."""

    def told(name: str, usual: int) -> int:
        value = options.get(name, str(usual))
        return int(value) if re.fullmatch(r"-?\d+", value) else usual

    if told("interlaced", 0) or told("bit_depth", 8) != 8 or told("intra_refresh", 0):
        return None
    pyramid, between, references = told("b_pyramid", 0), told("bframes", 0), told("ref", 1)
    reorder = (2 if pyramid else 1) if between else 0
    held = min(16, max(references, 1 + reorder, 4 if pyramid and between else 1))
    if told("keyint", 250) == 1:
        reorder = held = 0
    number_bits = order_bits = 4
    while 1 << number_bits <= held * (2 if pyramid and between else 1) + 1:
        number_bits += 1
    while 1 << order_bits <= (held + 2) * (2 if pyramid and between else 1) * 2 * 2:
        order_bits += 1
    high, cabac = bool(told("8x8dct", 0)), bool(told("cabac", 1))
    weighted = told("weightp", 0)
    profile = 100 if high else 77 if cabac or between or weighted else 66
    bits = SetBits()
    bits.put(profile, 8)
    bits.put(0, 8)
    bits.put(51, 8)
    bits.number(0)
    if profile == 100:
        for value in (1, 0, 0):
            bits.number(value)
        bits.put(0, 2)
    bits.number(number_bits - 4)
    bits.number(0 if between else 2)
    if between:
        bits.number(order_bits - 4)
    bits.number(held)
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
    for value in (0, 0, 11, 11, reorder, held):
        bits.number(value)
    first = bits.unit(b"\x67")
    bits = SetBits()
    bits.number(0)
    bits.number(0)
    bits.put(int(cabac), 1)
    bits.put(0, 1)
    bits.number(0)
    bits.number(max(min(references, held), 1) - 1)
    bits.number(0)
    bits.put(int(weighted > 0), 1)
    bits.put(2 if told("weightb", 0) and between else 0, 2)
    quality = {"crf": float(options.get("crf", "26")), "cqp": float(told("qp", 26))}.get(options.get("rc", ""), 26.0)
    bits.signed(int(quality) - 26)
    bits.signed(0)
    bits.signed(told("chroma_qp_offset", 0))
    bits.put(0b100, 3)
    if high:
        bits.put(0b10, 2)
        bits.signed(told("chroma_qp_offset", 0))
    return Avc((first, bits.unit(b"\x68")))


def _sizes(known: Sequence[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    """Sizes to be tried: known ones, usual ones, then all small ones."""
    yield from known
    yield from USUAL_SIZES
    for down in range(3, _TALLEST + 1):
        for across in range(4, _WIDEST + 1):
            yield across * 16, down * 16


def found_settings(
    window: Window,
    start: int,
    places: Sequence[int],
    lengths: Sequence[int],
    known: Sequence[tuple[int, int]],
    budget: Budget,
) -> Iterator[Avc]:
    """The parameter sets with which a decoder reads some pictures (offsets, bytes), the first of which needs no other one, the likeliest first: they may
    read with several sizes. None where no decoder is installed, or where another encoder was at work. `known` are sizes of other recordings.
    """
    options = options_in(window, start)
    if options is None or not can_show() or sum(lengths) > _MOST:
        return
    sizes = list(dict.fromkeys(_sizes(known)))
    together = max(1, min(_AT_A_TIME, _HELD // max(sum(lengths), 1)))
    seen = set[tuple[int, int]]()
    for first in range(0, len(sizes), together):
        some = sizes[first : first + together]
        for size, is_read in zip(some, _read(window, places, lengths, options, some, budget), strict=False):
            if not is_read or _blocks(size) in seen:
                continue
            whole = _as_tall_as_it_is(window, places, lengths, options, size, together, budget)
            if whole is None:
                return  # nothing tells one size from another
            if _blocks(whole) in seen:
                continue
            seen |= {_blocks(size), _blocks(whole)}
            size = next((each for each in sizes if _blocks(each) == _blocks(whole)), whole)
            coding = settings_for(options, *size)
            if coding is not None:
                yield coding


def _blocks(size: tuple[int, int]) -> tuple[int, int]:
    """Blocks of 16 pixels across and down."""
    return -(-size[0] // 16), -(-size[1] // 16)


def _as_tall_as_it_is(
    window: Window,
    places: Sequence[int],
    lengths: Sequence[int],
    options: dict[str, str],
    size: tuple[int, int],
    together: int,
    budget: Budget,
) -> tuple[int, int] | None:
    """The tallest size of this width that the pictures read with: of one that is too low a decoder leaves out the rest, and does not complain. None where
    it complains of none, as it does not of pictures that need no others.
    """
    rows = _blocks(size)[1]
    taller = [(size[0], 16 * count) for count in range(rows + 1, min(_TALLER * rows, _MOST_ROWS) + 1)]
    for first in range(0, len(taller), together):
        some = taller[first : first + together]
        for each, is_read in zip(some, _read(window, places, lengths, options, some, budget), strict=False):
            if not is_read:
                return size
            size = each
    return None


def _read(
    window: Window,
    places: Sequence[int],
    lengths: Sequence[int],
    options: dict[str, str],
    sizes: Sequence[tuple[int, int]],
    budget: Budget,
) -> list[bool]:
    """Whether a decoder reads pictures with each of some sizes."""
    budget.spend()
    films = bytearray()
    for width, height in sizes:
        coding = settings_for(options, width, height)
        entry = entry_of_units(coding) if coding is not None else None
        if coding is None or entry is None:
            return []
        made = io.BytesIO()
        count = len(places)
        track = Written(
            b"vide", entry, 30, width, height, array("Q", places), array("I", lengths), array("I", [1] * count), array("q", [0] * count), array("b"),
        )  # fmt: skip
        write(made, window, box(b"ftyp", b"isom\0\0\2\0isom"), [track], lambda: None)
        films += len(made.getvalue()).to_bytes(4, "big") + made.getvalue()
    patience = min(_PATIENCE, max(budget.left(), 0.5))
    told = made_aside("rustfern.repair.recordings.trial", b"many" + bytes(films), patience) or b""
    return [each == b"1" for each in told.split()]
