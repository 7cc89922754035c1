"""Settings of H.264 pictures that stand nowhere but in the lost index: by what the encoder x264 writes of itself into its first picture, else by the heads
of the pictures.

Neither tells how large pictures are: sizes are tried with a decoder, those of the person's other recordings and the usual ones first.
Source: x264, encoder/set.c (how it fills parameter sets); `avc_settings`.
"""

from __future__ import annotations

import io
import re
from array import array
from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from rustfern.formats.drawn_aside import made_aside
from rustfern.formats.media.coded_video import Avc
from rustfern.formats.media.frame import can_show
from rustfern.repair.interface import Budget
from rustfern.repair.recordings.avc_settings import Facts, made, plain, proved, variants
from rustfern.repair.recordings.set_bits import USUAL_SIZES
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, box, entry_of_units, write

_OPTIONS = re.compile(rb"x264 - core \d{1,5}[^\0]{0,300}? - options: ([ -~]{40,2000})")
_SOUGHT = 256 << 10
_WIDEST, _TALLEST = 45, 45
"""Blocks of 16 pixels across and down up to which all sizes are tried."""
_AT_A_TIME, _PATIENCE, _MOST, _HELD = 400, 30, 4 << 20, 48 << 20
_TALLER, _MOST_ROWS = 6, 270
_BEGUN, _TO_BE_SURE, _HEADS, _SLICE_HEAD = 4, 24, 40, 96
"""Pictures that sizes are tried with, all that heads leave open too, and whose heads are read; bytes of a head, at most."""
_MOST_WAYS, _FOR_THE_REST = 8, 0.5
"""Ways to read heads that are tried; the share of the time that trials leave for all else."""


def options_in(window: Window, start: int) -> dict[str, str] | None:
    """What the encoder tells of itself near a place; None where it does not."""
    found = _OPTIONS.search(window.at(start, _SOUGHT))
    if found is None:
        return None
    return dict(each.partition("=")[::2] for each in found[1].decode("ascii").split() if "=" in each)


def facts_of(options: dict[str, str]) -> Facts | None:
    """What the encoder's parameter sets say by its options; None for what it codes otherwise."""

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
    high, cabac, weighted = bool(told("8x8dct", 0)), bool(told("cabac", 1)), told("weightp", 0) > 0
    quality = {"crf": float(options.get("crf", "26")), "cqp": float(told("qp", 26))}.get(options.get("rc", ""), 26.0)
    return Facts(
        number_bits=number_bits,
        order_bits=order_bits if between else 0,
        cabac=cabac,
        weights=weighted,
        blends=2 if told("weightb", 0) and between else 0,
        references=references,
        held=held,
        reorder=reorder,
        high=high,
        quality=int(quality) - 26,
        colours=told("chroma_qp_offset", 0),
        profile=100 if high else 77 if cabac or between or weighted else 66,
    )


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
    read with several sizes. None where no decoder is installed. What the encoder does not tell, the heads of the pictures do, and trials. `known` are sizes of other recordings.
    """
    options = options_in(window, start)
    count = _BEGUN if options is not None else _TO_BE_SURE
    while count > _BEGUN and sum(lengths[:count]) > _MOST:
        count -= 1
    begun = places[:count], lengths[:count]
    if not can_show() or sum(begun[1]) > _MOST:
        return
    if options is not None:
        facts = facts_of(options)
        ways = [(facts, size) for size in dict.fromkeys(_sizes(known))] if facts is not None else []
    else:
        ways = list(_by_heads(window, places, lengths, known, budget))
    together = max(1, min(_AT_A_TIME, _HELD // max(sum(begun[1]), 1)))
    seen = set[tuple[Facts, tuple[int, int]]]()
    for first in range(0, len(ways), together):
        some = ways[first : first + together]
        for (facts, size), is_read in zip(some, _read(window, *begun, some, budget), strict=False):
            if not is_read or (facts, _blocks(size)) in seen:
                continue
            whole = _as_tall_as_it_is(window, *begun, facts, size, together, budget)
            if whole is None:
                return  # nothing tells one size from another
            if (facts, _blocks(whole)) in seen:
                continue
            seen |= {(facts, _blocks(size)), (facts, _blocks(whole))}
            size = next((each for each in _sizes(known) if _blocks(each) == _blocks(whole)), whole)
            yield made(facts, *size)


def _by_heads(
    window: Window, places: Sequence[int], lengths: Sequence[int], known: Sequence[tuple[int, int]], budget: Budget
) -> Iterator[tuple[Facts, tuple[int, int]]]:
    """(facts that the heads of slices leave open, a usual size) with which the first picture, which needs no other one, can be read."""
    units = []
    for place, length in zip(places[:_HEADS], lengths[:_HEADS], strict=True):
        unit = _first_slice(window, place, place + length)
        if unit is None:
            return
        units.append(unit)
    sizes = list(dict.fromkeys((*known, *USUAL_SIZES)))
    # The first picture needs no other one: it reads the same way whatever the heads say of others.
    if found := proved(units, budget.spend)[:_MOST_WAYS]:
        tried = [(facts, size) for facts in variants(found[0]) for size in sizes]
    else:
        found = plain(units, budget.spend)
        first_ways = {(facts.filters, facts.order_bits): facts for facts in reversed(found)}
        tried = [(facts, size) for facts in first_ways.values() for size in sizes]
    together = max(1, min(len(sizes) * 2, _HELD // max(lengths[0], 1)))
    least = budget.left() * _FOR_THE_REST
    for first in range(0, len(tried), together):
        if budget.left() < least:
            return
        some = tried[first : first + together]
        read = _read(window, places[:1], lengths[:1], some, budget)
        good = [way for way, is_read in zip(some, read, strict=False) if is_read]
        for facts, size in good:
            for each in found:
                if (each.filters, each.order_bits) != (facts.filters, facts.order_bits) and not each.cabac:
                    continue
                yield replace(each, quality=facts.quality, high=facts.high, profile=facts.profile), size
        if good:
            return  # the usual ones come first: more would only find others that read by chance


def _first_slice(window: Window, place: int, end: int) -> bytes | None:
    """The beginning of the first slice of a picture whose units have lengths of four bytes."""
    while place + 4 < end:
        length = int.from_bytes(window.at(place, 4), "big")
        unit = window.at(place + 4, min(length, _SLICE_HEAD))
        if not unit:
            return None
        if unit[0] & 31 in (1, 5):
            return unit
        place += 4 + length
    return None


def _blocks(size: tuple[int, int]) -> tuple[int, int]:
    """Blocks of 16 pixels across and down."""
    return -(-size[0] // 16), -(-size[1] // 16)


def _as_tall_as_it_is(
    window: Window,
    places: Sequence[int],
    lengths: Sequence[int],
    facts: Facts,
    size: tuple[int, int],
    together: int,
    budget: Budget,
) -> tuple[int, int] | None:
    """The tallest size of this width that the pictures read with: of one that is too low a decoder leaves out the rest, and does not complain. None where
    it complains of none, as it does not of pictures that need no others.
    """
    rows = _blocks(size)[1]
    taller = [(size[0], 16 * count) for count in range(rows + 1, min(_TALLER * rows, _MOST_ROWS) + 1)]
    # One row more is hardly ever read: that alone is tried first.
    done, some = 0, 1
    while done < len(taller):
        batch = taller[done : done + some]
        read = _read(window, places, lengths, [(facts, each) for each in batch], budget)
        for each, is_read in zip(batch, read, strict=False):
            if not is_read:
                return size
            size = each
        if len(read) < len(batch):
            break
        done, some = done + len(batch), min(2 * some, together)
    return None


def _read(
    window: Window,
    places: Sequence[int],
    lengths: Sequence[int],
    ways: Sequence[tuple[Facts, tuple[int, int]]],
    budget: Budget,
) -> list[bool]:
    """Whether a decoder reads pictures by each of some facts and sizes."""
    budget.spend()
    films = bytearray()
    for facts, (width, height) in ways:
        entry = entry_of_units(made(facts, width, height))
        if entry is None:
            return []
        film = io.BytesIO()
        count = len(places)
        track = Written(
            b"vide", entry, 30, width, height, array("Q", places), array("I", lengths), array("I", [1] * count), array("q", [0] * count), array("b"),
        )  # fmt: skip
        write(film, window, box(b"ftyp", b"isom\0\0\2\0isom"), [track], lambda: None)
        films += len(film.getvalue()).to_bytes(4, "big") + film.getvalue()
    patience = min(_PATIENCE, max(budget.left(), 0.5))
    told = made_aside("rustfern.repair.recordings.trial", b"many" + bytes(films), patience) or b""
    return [each == b"1" for each in told.split()]
