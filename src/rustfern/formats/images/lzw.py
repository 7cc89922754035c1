"""LZW codes: how many values they stand for, and whether each code is there when it is used. The values themselves are not made.

Source: GIF89a specification, appendix F; TIFF 6.0, section 13; ISO 32000-1, 7.4.4. The table grows by one entry with each code, so the
width and place of every code up to the next clearing are known beforehand: a whole table's codes are cut out at once, and the lengths of
what they stand for follow from each entry's parent.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from rustfern.core.errors import Malformed

_FULL = 4096
_FEW, _AT_ONCE = 16, 1 << 13
Numbers = NDArray[np.int32]
Places = NDArray[np.int64]


class RunsOver(Malformed):
    """A table that is full was not cleared: some readers go on, with the entries that there are."""


def measure(body: bytes, least: int = 8, *, high_first: bool = True, early: bool = True, most: int = 1 << 62) -> int:
    """How many values (bytes or pixels) the codes of `body` stand for, up to their end code, or until they are `most` or more.

    Raises `Malformed` (with a place in `body`) for a code that does not exist. With the highest bit first a full table must be cleared; in
    GIF it may be used on.
    """
    plan = _plan(least, high_first, int(early))
    bits = np.frombuffer(body + bytes(4), np.uint8)
    total, at, values = len(body) * 8, 0, 0
    clear = 1 << least
    while True:
        codes, stop = plan.cut(bits, at, total, clear)
        if not len(codes):
            return values
        lengths = _lengths(codes[:stop], clear, at, plan)
        here = int(lengths.sum())
        if values + here >= most:
            return values + here
        values += here
        if stop < len(codes):
            at += int(plan.ends[stop])
            if codes[stop] == clear + 1:
                return values
            continue
        at += int(plan.ends[len(codes) - 1])
        if len(codes) < len(plan.ends):
            return values
        if high_first:
            raise RunsOver("the codes run over a full table", at // 8)
        ended, at, more = _beyond(bits, at, total, clear, lengths, most - values)
        values += more
        if ended or values >= most or at >= total:
            return values


class _Plan:
    """Where codes of known widths end (bits behind the first), and for each place of the first in its byte what cuts them out."""

    def __init__(self, widths: Places, *, high_first: bool) -> None:
        self.high_first = high_first
        self.ends = np.cumsum(widths)
        self.numbers = np.arange(len(widths), dtype=np.int32)
        self._masks = ((1 << widths) - 1).astype(np.uint32)
        starts = self.ends - widths
        self._cuts = []
        for within in range(8):
            places = starts + within
            shift = 24 - (places & 7) - widths if high_first else places & 7
            self._cuts.append((places >> 3, shift.astype(np.uint32)))
        self._bytes = int(self.ends[-1]) // 8 + 4

    def cut(self, bits: NDArray[np.uint8], at: int, total: int, clear: int) -> tuple[Numbers, int]:
        """The codes from a place (in bits) on, as many as there are, and the number of the first that clears or ends."""
        count = len(self.ends)
        if total - at < self.ends[-1]:
            count = int(np.searchsorted(self.ends, total - at, side="right"))
        piece = bits[at >> 3 : (at >> 3) + self._bytes].astype(np.uint32)
        if self.high_first:
            windows = piece[:-2] << 16 | piece[1:-1] << 8 | piece[2:]
        else:
            windows = piece[:-2] | piece[1:-1] << 8 | piece[2:] << 16
        places, shift = self._cuts[at & 7]
        codes = (windows.take(places[:count]) >> shift[:count] & self._masks[:count]).astype(np.int32)
        stops = ((codes >> 1) == clear >> 1).nonzero()[0]  # both the clearing and the end code
        return codes, int(stops[0]) if len(stops) else count


@lru_cache(maxsize=32)
def _plan(least: int, high_first: bool, early: int) -> _Plan:
    """The codes that fill a table behind a clearing; with a width of one code less if it grows `early`."""
    first = (1 << least) + 2
    entries = np.arange(first - 1, _FULL + (1 if high_first else 0))
    entries[0] = first
    needed = np.floor(np.log2(entries + early)).astype(np.int64) + 1
    return _Plan(np.clip(needed, least + 1, 12), high_first=high_first)


@lru_cache(maxsize=4)
def _full_plan(count: int) -> _Plan:
    return _Plan(np.full(count, 12, np.int64), high_first=False)


def _lengths(codes: Numbers, clear: int, at: int, plan: _Plan) -> Numbers:
    """How many values each code since a clearing stands for. A code beyond the plain values is its parent code and one value more."""
    count = len(codes)
    parents = codes - (clear + 2)
    if (parents >= plan.numbers[:count]).any():
        wrong = int((parents >= plan.numbers[:count]).argmax())
        raise Malformed("a code does not exist", (at + int(plan.ends[wrong])) // 8)
    # The last place stands for no parent.
    lengths = np.ones(count + 1, np.int32)
    lengths[count] = 0
    above = np.full(count + 1, count, np.int32)
    np.copyto(above[:count], parents, where=parents >= 0)
    while int(above.min()) < count:
        lengths += lengths.take(above)
        above = above.take(above)
    return lengths[:count]


def _beyond(
    bits: NDArray[np.uint8], at: int, total: int, clear: int, lengths: Numbers, most: int
) -> tuple[bool, int, int]:
    """Codes that use a full table: (whether the end code came, place behind them in bits, values)."""
    table = np.concatenate([np.ones(clear, np.int32), np.zeros(2, np.int32), lengths + 1])[:_FULL]
    values, many = 0, _FEW
    while values < most:
        plan = _full_plan(many)
        many = _AT_ONCE  # most writers clear at once
        codes, stop = plan.cut(bits, at, total, clear)
        if not len(codes):
            return False, total, values
        values += int(table.take(codes[:stop]).sum())
        at += 12 * (stop + 1 if stop < len(codes) else len(codes))
        if stop < len(codes):
            return bool(codes[stop] == clear + 1), at, values
    return False, at, values
