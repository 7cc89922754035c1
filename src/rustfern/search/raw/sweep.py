"""The first pass: where documents may begin. Every sector is looked at, all formats at once, by its first two bytes; few need a second look.

Texts have no mark: a sector that begins with letters and does not go on from one that ends with them may begin one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

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
_STRANGE = (~_TEXT).tobytes()
_STRANGE_OR_NONE = b"\0" + _STRANGE[1:]
"""For each value of a byte 1 where texts do not have it; zeros pass the second."""
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


def sweep(
    disk: DiskBytes,
    stretches: Iterable[Extent],
    *,
    goes_on: bool = False,
    is_taken: Callable[[int, int], bool] = lambda at, size: False,
) -> Iterator[tuple[int, int, list[Sector]]]:
    """(offset, bytes, sectors that may begin a document) of each window, in order. `goes_on`: a text may go on where the first stretch begins.

    What cannot be read is stepped over, in smaller and smaller steps; holes are known to be zeros, and of what `is_taken` only the end is read.
    """
    for start, length in stretches:
        for at in range(start, start + length, WINDOW):
            size = min(WINDOW, start + length - at)
            if disk.is_hole(at, size):
                goes_on = False
                yield at, size, []
            elif size >= SECTOR and is_taken(at, size):
                goes_on = any(ends_like_a_text(data) for _, data in _readable(disk, at + size - SECTOR, SECTOR))
                yield at, size, []
            else:
                for offset, data in _readable(disk, at, size):
                    found, goes_on = sectors_in(data, offset, goes_on=goes_on)
                    yield offset, len(data), found
        goes_on = False


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
    halves = np.frombuffer(data, "<u2", count * SECTOR // 2).reshape(count, SECTOR // 2)
    whole = np.frombuffer(data, np.uint8, count * SECTOR).reshape(count, SECTOR)
    pairs = halves[:, 0]
    kinds = _FIRST.take(pairs)
    marked: NDArray[np.bool_] = (kinds & _MARK).view(bool)
    for at, table in _EVEN:
        marked |= table.take(halves[:, at // 2]).view(bool)
    for at, mark in _ODD:
        likely = np.flatnonzero(whole[:, at] == mark[0])
        if len(likely):
            marked[likely[(whole[likely, at : at + len(mark)] == mark).all(axis=1)]] = True
    fresh: NDArray[np.bool_] = (pairs == 0xFEFF) | (pairs == 0xFFFE)
    texts, goes = _texts(whole, np.flatnonzero(kinds & _MAY_BE_TEXT), marked, goes_on=goes_on)
    fresh[texts] |= ~goes
    numbers = np.flatnonzero(marked | fresh)
    starts = set(texts.tolist())
    found = [
        (offset + n * SECTOR, data[n * SECTOR : (n + 1) * SECTOR], bool(fresh[n]) or n in starts)
        for n in numbers.tolist()
    ]
    return found, ends_like_a_text(whole[-1].tobytes())


def ends_like_a_text(sector: bytes) -> bool:
    """Whether a text may go on behind a sector."""
    return not any(sector[-_TAIL:].translate(_STRANGE))


def _texts(
    whole: NDArray[np.uint8], numbers: NDArray[np.intp], marked: NDArray[np.bool_], *, goes_on: bool
) -> tuple[NDArray[np.intp], NDArray[np.bool_]]:
    """Of some sectors those that begin with a line of text, and of each whether the one before ends like a text; of those that only go on with one
    just the marked. What settles most is asked first.
    """
    numbers = numbers[~_strange(whole[numbers, :_LETTERS])]
    # Of the first one the last sector's end is looked at, which is not meant.
    goes: NDArray[np.bool_] = ~_strange(whole[numbers - 1, SECTOR - _LETTERS :])
    likely = np.flatnonzero(goes)
    goes[likely] = ~_strange(whole[numbers[likely] - 1, SECTOR - _TAIL : SECTOR - _LETTERS])
    goes[numbers == 0] = goes_on
    worth = ~goes | marked[numbers]
    numbers, goes = numbers[worth], goes[worth]
    good = ~_strange(whole[numbers, _LETTERS:_TAIL], _STRANGE_OR_NONE)
    numbers, goes = numbers[good], goes[good]
    # A line that is one: letters, and behind the end of a short text nothing but zeros.
    line = whole[numbers, :_LINE]
    letters = _TEXT[line]
    good = (letters | (line == 0)).all(axis=1) & ~(letters[:, 1:] & ~letters[:, :-1]).any(axis=1)
    return numbers[good], goes[good]


def _strange(rows: NDArray[np.uint8], table: bytes = _STRANGE) -> NDArray[np.bool_]:
    """For each row of bytes, a multiple of eight long, whether one of them is none that texts have."""
    told = np.frombuffer(rows.tobytes().translate(table), "<u8").reshape(len(rows), rows.shape[1] // 8)
    return np.asarray(told.any(axis=1) if told.shape[1] > 1 else told[:, 0] != 0)
