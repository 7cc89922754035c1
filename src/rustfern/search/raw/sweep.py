"""The first pass: where documents may begin. Every sector is looked at, all formats at once, by its first two bytes; few need a second look.

Texts have no mark: a sector that begins with letters and does not go on from one that ends with them may begin one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from rustfern.core.errors import SourceError
from rustfern.formats.extents.registry import BEGINNINGS
from rustfern.sources.disks.interface import DiskBytes, Extent
from rustfern.sources.disks.unclaimed import SECTOR

WINDOW = 1 << 20
_LETTERS, _LINE, _TAIL = 8, 96, 32
_STEP_DOWN = 64 << 10


def _letters() -> NDArray[np.bool_]:
    """For each value of a byte, whether texts have it."""
    table = np.zeros(256, bool)
    table[[9, 10, 12, 13, 27, *range(32, 127), *range(128, 256)]] = True
    return table


_TEXT = _letters()
_MARK, _MAY_BE_TEXT = 1, 2


def _pairs_at(place: int) -> NDArray[np.uint8]:
    """For each value of two bytes at a place of a sector (the lower address in the lower byte), what may begin there."""
    table = np.zeros(65536, np.uint8)
    for each in BEGINNINGS:
        if each.at == place:
            table[each.mark[0] | each.mark[1] << 8] = _MARK
    if not place:
        both = _TEXT[np.arange(65536) & 0xFF] & _TEXT[np.arange(65536) >> 8]
        table[both] |= np.uint8(_MAY_BE_TEXT)
    return table


_ZEROS = bytes(WINDOW)
_FIRST = _pairs_at(0)
_EVEN = tuple((at, _pairs_at(at)) for at in sorted({each.at for each in BEGINNINGS if each.at and not each.at % 2}))
_ODD = tuple((each.at, np.frombuffer(each.mark, np.uint8)) for each in BEGINNINGS if each.at % 2)
"""Marks that stand further inside of a sector."""
Sector = tuple[int, bytes, bool]
"""(offset on the disk, the sector's bytes, whether a text may begin here)."""


def sweep(disk: DiskBytes, stretches: Iterable[Extent]) -> Iterator[tuple[int, int, list[Sector]]]:
    """(offset, bytes, sectors that may begin a document) of each window, in order.

    What cannot be read is stepped over, in smaller and smaller steps; holes are known to be zeros.
    """
    for start, length in stretches:
        goes_on = False
        for at in range(start, start + length, WINDOW):
            size = min(WINDOW, start + length - at)
            if disk.is_hole(at, size):
                goes_on = False
                yield at, size, []
                continue
            for offset, data in _readable(disk, at, size):
                found, goes_on = sectors_in(data, offset, goes_on=goes_on)
                yield offset, len(data), found


def _readable(disk: DiskBytes, at: int, size: int) -> Iterator[tuple[int, bytes]]:
    """The bytes of a window; where they cannot all be read, those that can, in steps."""
    try:
        yield at, disk.read_at(at, size)
    except SourceError:
        if size <= _STEP_DOWN:
            return
        half = max(size // 2 // SECTOR * SECTOR, SECTOR)
        yield from _readable(disk, at, half)
        yield from _readable(disk, at + half, size - half)


def sectors_in(data: bytes, offset: int, *, goes_on: bool) -> tuple[list[Sector], bool]:
    """Sectors that may begin a document, and whether a text may go on behind the last one; `goes_on`: the one before ends like a text."""
    count = len(data) // SECTOR
    if not count or (data[:SECTOR] == _ZEROS[:SECTOR] and data == _ZEROS[: len(data)]):
        return [], False
    halves = np.frombuffer(data, "<u2", count * SECTOR // 2)
    pairs = halves[:: SECTOR // 2]
    kinds = _FIRST[pairs]
    marked: NDArray[np.bool_] = (kinds & _MARK).astype(bool)
    for at, table in _EVEN:
        marked |= table[halves[at // 2 :: SECTOR // 2]].astype(bool)
    whole = np.frombuffer(data, np.uint8, count * SECTOR).reshape(count, SECTOR)
    for at, mark in _ODD:
        likely = np.flatnonzero(whole[:, at] == mark[0])
        if len(likely):
            marked[likely[(whole[likely, at : at + len(mark)] == mark).all(axis=1)]] = True
    texts = np.flatnonzero(kinds & _MAY_BE_TEXT)
    texts = texts[_TEXT[whole[texts, 2:_LETTERS]].all(axis=1)]
    if len(texts):
        # A line that is one: letters, and behind the end of a short text nothing but zeros.
        line = whole[texts, :_LINE]
        letters = _TEXT[line]
        texts = texts[(letters | (line == 0)).all(axis=1) & ~(letters[:, 1:] & ~letters[:, :-1]).any(axis=1)]
    fresh = np.zeros(count, bool)
    if len(texts):
        # Of the first one the last sector's, which is not meant.
        before: NDArray[np.bool_] = np.asarray(_TEXT[whole[texts - 1, SECTOR - _TAIL :]].all(axis=1))
        before[texts == 0] = goes_on
        fresh[texts[~before]] = True
    fresh |= (pairs == 0xFEFF) | (pairs == 0xFFFE)
    numbers = np.flatnonzero(marked | fresh)
    starts = set(texts.tolist()) if len(numbers) else set()
    found = [
        (offset + n * SECTOR, data[n * SECTOR : (n + 1) * SECTOR], bool(fresh[n]) or n in starts)
        for n in numbers.tolist()
    ]
    return found, bool(_TEXT[whole[-1, SECTOR - _TAIL :]].all())
