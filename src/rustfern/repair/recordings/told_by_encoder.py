"""Settings of H.264 pictures that stand nowhere but in the lost index: by what the encoder x264 writes of itself into its first picture, else by the heads
of the pictures.

Neither tells how large pictures are: sizes are tried with a decoder, those of the person's other recordings and the usual ones first.
Source: x264, encoder/set.c (how it fills parameter sets); `avc_settings`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress

import msgspec
from msgspec.structs import replace

from rustfern.formats.drawn_aside import made_aside
from rustfern.formats.media.coded_video import Avc, Bits, NoUnit
from rustfern.formats.media.frame import can_show
from rustfern.repair.interface import Budget
from rustfern.repair.recordings.avc_settings import Facts, made, plain, proved, variants
from rustfern.repair.recordings.set_bits import USUAL_SIZES
from rustfern.repair.recordings.trial import by_each
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import entry_of_units

_OPTIONS = re.compile(rb"x264 - core \d{1,5}[^\0]{0,300}? - options: ([ -~]{40,2000})")
_SOUGHT = 256 << 10
_WIDEST, _TALLEST = 45, 45
"""Blocks of 16 pixels across and down up to which all sizes are tried."""
_AT_A_TIME, _PATIENCE, _MOST = 400, 30, 4 << 20
_TALLER, _MOST_ROWS = 6, 270
_BEGUN, _TO_BE_SURE, _HEADS, _SLICE_HEAD = 4, 24, 40, 96
"""Pictures that sizes are tried with, all that heads leave open too, and whose heads are read; bytes of a head, at most."""
_FEW_ROWS, _MOST_ACROSS, _LIKELIEST = 4, 256, 4
"""Rows and columns of blocks with which widths are tried, and facts of which all are."""
_MOST_BLOCKS, _LEFT_SECONDS = 36_864, 20
"""Blocks of a picture at most (H.264 table A-1, level 5.1); seconds that trials leave for all else."""
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


def _small_sizes() -> Iterator[tuple[int, int]]:
    """All small sizes of whole blocks."""
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
        if facts is None:
            return
        heads = _Heads([facts], [facts])
        first = [(facts, size) for size in dict.fromkeys((*known, *USUAL_SIZES))]
        second = [(facts, size) for size in _small_sizes()]
    else:
        found = _by_heads(window, places, lengths, budget)
        if found is None:
            return
        heads, first, second = found, list(found.usual(window, places, lengths, known, budget)), []
    is_told = False
    for coding in _tall(window, begun, first, known, budget):
        is_told = True
        yield coding
    if not is_told:
        told = list(_tall(window, begun, heads.of_any_size(window, places, lengths, budget), known, budget))
        if len({coding.shape for coding in told}) == 1:
            yield from told
        else:
            yield from _tall(window, begun, second, known, budget)


def _tall(
    window: Window,
    begun: tuple[Sequence[int], Sequence[int]],
    ways: Sequence[tuple[Facts, tuple[int, int]]],
    known: Sequence[tuple[int, int]],
    budget: Budget,
) -> Iterator[Avc]:
    """The parameter sets of those ways by which a decoder reads some pictures, as tall as these are."""
    seen = set[tuple[Facts, tuple[int, int]]]()
    for first in range(0, len(ways), _AT_A_TIME):
        some = ways[first : first + _AT_A_TIME]
        for (facts, size), is_read in zip(some, _read(window, *begun, some, budget), strict=False):
            if not is_read or (facts, _blocks(size)) in seen:
                continue
            whole = _as_tall_as_it_is(window, *begun, facts, size, budget)
            if whole is None:
                return  # nothing tells one size from another
            if (facts, _blocks(whole)) in seen:
                continue
            seen |= {(facts, _blocks(size)), (facts, _blocks(whole))}
            size = next((each for each in (*known, *USUAL_SIZES) if _blocks(each) == _blocks(whole)), whole)
            yield made(facts, *size)


class _Heads(msgspec.Struct, frozen=True):
    """What the heads of slices leave open: facts (`found`), and those of them that matter to a picture which needs no other one (`alone`), the
    likeliest first.
    """

    found: list[Facts]
    alone: list[Facts]

    def usual(
        self,
        window: Window,
        places: Sequence[int],
        lengths: Sequence[int],
        known: Sequence[tuple[int, int]],
        budget: Budget,
    ) -> Iterator[tuple[Facts, tuple[int, int]]]:
        """Facts and usual sizes with which the first picture, which needs no other one, can be read."""
        sizes = list(dict.fromkeys((*known, *USUAL_SIZES)))
        tried = [(facts, size) for facts in self.alone for size in sizes]
        together = 4 * len(sizes)
        least = budget.left() * _FOR_THE_REST
        for first in range(0, len(tried), together):
            if budget.left() < least:
                return
            some = tried[first : first + together]
            read = _read(window, places[:1], lengths[:1], some, budget)
            good = [way for way, is_read in zip(some, read, strict=False) if is_read]
            for way in good:
                yield from self._ways(*way)
            if good:
                return  # the usual ones come first: more would only find others that read by chance

    def _ways(self, facts: Facts, size: tuple[int, int]) -> Iterator[tuple[Facts, tuple[int, int]]]:
        """All that is open where the first picture reads by some facts."""
        for each in self.found:
            if each.cabac or (each.filters, each.order_bits) == (facts.filters, facts.order_bits):
                yield replace(each, quality=facts.quality, high=facts.high, profile=facts.profile), size

    def of_any_size(
        self, window: Window, places: Sequence[int], lengths: Sequence[int], budget: Budget
    ) -> list[tuple[Facts, tuple[int, int]]]:
        """The same with the sizes of which most is read. Of a picture that is too low a decoder leaves out the rest, and does not complain: so a few rows
        tell which widths are possible, and of each how tall it can be is found by halves. The right one reads all of the picture; where flat
        pictures read by another width too, that ends before.
        """
        begun = places[:_BEGUN], lengths[:_BEGUN]
        last = max(_last_part(window, place, place + length) for place, length in zip(*begun, strict=True))
        tried = [
            (facts, (16 * across, 16 * max(_FEW_ROWS, last // across + 1)))
            for facts in self.alone[:_LIKELIEST]
            for across in range(4, _MOST_ACROSS + 1)
        ]
        wide = [
            way for alone in self._read_by(window, places[:1], lengths[:1], tried, budget) for way in self._ways(*alone)
        ]
        # One that needs no other one a decoder reads however tall it is said to be: those behind it tell.
        good = {
            way: (way[1][1] // 16, min(_MOST_ROWS, 16 * _MOST_BLOCKS // way[1][0]) + 1)
            for way in self._read_by(window, *begun, wide, budget)
        }
        while any(low + 1 < high for low, high in good.values()):
            asked = {
                (facts, (width, 16 * ((low + high) // 2))): (facts, (width, height))
                for (facts, (width, height)), (low, high) in good.items()
                if low + 1 < high
            }
            read = set(self._read_by(window, *begun, list(asked), budget))
            for way, key in asked.items():
                low, high = good[key]
                good[key] = (way[1][1] // 16, high) if way in read else (low, way[1][1] // 16)
        most = max((width * low for (_, (width, _)), (low, _) in good.items()), default=0)
        return [(facts, (width, 16 * low)) for (facts, (width, _)), (low, _) in good.items() if width * low == most]

    @staticmethod
    def _read_by(
        window: Window,
        places: Sequence[int],
        lengths: Sequence[int],
        ways: Sequence[tuple[Facts, tuple[int, int]]],
        budget: Budget,
    ) -> list[tuple[Facts, tuple[int, int]]]:
        """Those of the ways by which a decoder reads some pictures, as far as there is time."""
        good: list[tuple[Facts, tuple[int, int]]] = []
        for first in range(0, len(ways), _AT_A_TIME):
            if budget.left() < _LEFT_SECONDS:
                break
            batch = ways[first : first + _AT_A_TIME]
            read = _read(window, places, lengths, batch, budget)
            good += [way for way, is_read in zip(batch, read, strict=False) if is_read]
        return good


def _by_heads(window: Window, places: Sequence[int], lengths: Sequence[int], budget: Budget) -> _Heads | None:
    units = []
    for place, length in zip(places[:_HEADS], lengths[:_HEADS], strict=True):
        unit = _first_slice(window, place, place + length)
        if unit is None:
            return None
        units.append(unit)
    # The first picture needs no other one: it reads the same way whatever the heads say of others.
    if found := proved(units, budget.spend)[:_MOST_WAYS]:
        return _Heads(found, list(variants(found[0])))
    found = plain(units, budget.spend)
    return _Heads(found, list({(facts.filters, facts.order_bits): facts for facts in reversed(found)}.values()))


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


def _last_part(window: Window, place: int, end: int) -> int:
    """The number of the block with which the last part of a picture begins (7.3.3, first_mb_in_slice); its units have lengths of four bytes."""
    last = 0
    while place + 4 < end:
        length = int.from_bytes(window.at(place, 4), "big")
        unit = window.at(place + 4, min(length, _SLICE_HEAD))
        if unit and unit[0] & 31 in (1, 5):
            with suppress(NoUnit):
                last = max(last, Bits(unit[1:]).number())
        place += 4 + length
    return last


def _blocks(size: tuple[int, int]) -> tuple[int, int]:
    """Blocks of 16 pixels across and down."""
    return -(-size[0] // 16), -(-size[1] // 16)


def _as_tall_as_it_is(
    window: Window,
    places: Sequence[int],
    lengths: Sequence[int],
    facts: Facts,
    size: tuple[int, int],
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
        done, some = done + len(batch), min(2 * some, _AT_A_TIME)
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
    pictures = [window.at(place, length) for place, length in zip(places, lengths, strict=True)]
    settings = []
    for facts, size in ways:
        entry = entry_of_units(made(facts, *size))
        if entry is None:
            return []
        settings.append(entry[entry.index(b"avcC") + 4 :])
    patience = min(_PATIENCE, max(budget.left(), 0.5))
    told = made_aside("rustfern.repair.recordings.trial", by_each(pictures, settings), patience) or b""
    return [each == b"1" for each in told.split()]
