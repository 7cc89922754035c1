"""All names of an NTFS master file table, thousands of records at a time.

Source: the NTFS documentation of the Linux-NTFS project (file records, update sequences, $FILE_NAME).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import msgspec
import numpy as np
from numpy.typing import NDArray

from rustfern.sources.disks.ntfs.attributes import DOS_NAME, FILE_NAME

AT_ONCE = 16_384
"""Records that are looked at together."""
_MAX_ATTRIBUTES = 64
_IN_USE, _FOLDER = 1, 2
_NUMBER = np.uint64((1 << 48) - 1)

Flat = NDArray[np.uint8]


class Block(msgspec.Struct):
    """What one block of records holds, a row for each record: its sequence number, flags, base record (0: it is one itself) and whether it
    is whole; then a row for each name: the row of its record, the reference of its folder, its space, its text.
    """

    sequences: NDArray[np.int64]
    flags: NDArray[np.int64]
    bases: NDArray[np.uint64]
    whole: NDArray[np.bool_]
    rows: NDArray[np.int64]
    folders: NDArray[np.uint64]
    spaces: NDArray[np.uint8]
    names: list[str]


def _put_right(flat: Flat, size: int) -> NDArray[np.bool_]:
    """Put the last two bytes of each sector back, in place; which records are whole."""
    buffer = flat.reshape(-1, size)
    words = buffer.view("<u2")
    whole = (words[:, 0] == 0x4946) & (words[:, 1] == 0x454C)  # FILE
    places, counts = words[:, 2].copy(), words[:, 3].copy()
    for place, count in {(int(p), int(c)) for p, c in zip(places[whole], counts[whole], strict=True)}:
        rows = np.flatnonzero(whole & (places == place) & (counts == count))
        if place % 2 or place + 2 * count > size or not 2 <= count <= size // 512 + 1:
            whole[rows] = False
            continue
        number = words[rows, place // 2]
        for sector in range(1, count):
            last = sector * 256 - 1
            torn = words[rows, last] != number
            whole[rows[torn]] = False
            words[rows, last] = words[rows, place // 2 + sector]
    return np.asarray(whole)


def read_block(raw: bytes, size: int, *, named: bool = True) -> Block:
    """Look at a block of records of `size` bytes each."""
    flat: Flat = np.frombuffer(bytearray(raw), np.uint8)
    whole = _put_right(flat, size)
    count = len(flat) // size
    words16, words32, words64 = flat.view("<u2"), flat.view("<u4"), flat.view("<u8")
    base = np.arange(count, dtype=np.int64) * size
    sequences = words16[(base + 16) // 2].astype(np.int64)
    flags = words16[(base + 22) // 2].astype(np.int64)
    bases = words64[(base + 32) // 8] & _NUMBER
    rows: list[NDArray[np.int64]] = []
    values: list[NDArray[np.int64]] = []
    live = np.flatnonzero(whole)
    at = words16[(base[live] + 20) // 2].astype(np.int64)
    for _ in range(_MAX_ATTRIBUTES):
        fits = (at % 8 == 0) & (at + 24 <= size) & (at >= 40)
        live, at = live[fits], at[fits]
        if not len(live):
            break
        start = base[live] + at
        kinds, lengths = words32[start // 4], words32[start // 4 + 1].astype(np.int64)
        goes_on = (kinds != 0xFFFFFFFF) & (lengths >= 24) & (at + lengths <= size) & (kinds != 0)
        live, at, start, kinds, lengths = (each[goes_on] for each in (live, at, start, kinds, lengths))
        named_here = np.flatnonzero((kinds == FILE_NAME) & (flat[start + 8] == 0))
        if len(named_here):
            value = words16[(start[named_here] + 20) // 2].astype(np.int64)
            fits = (value % 8 == 0) & (value + 66 <= lengths[named_here])
            rows.append(live[named_here][fits])
            values.append(start[named_here][fits] + value[fits])
        at = at + lengths
    no = np.zeros(0, np.int64)
    row, value = (np.concatenate(rows), np.concatenate(values)) if rows else (no, no)
    lengths = flat[value + 64].astype(np.int64)
    fits = (lengths > 0) & (value + 66 + 2 * lengths <= (row + 1) * size) & (flat[value + 65] <= 3)
    row, value, lengths = row[fits], value[fits], lengths[fits]
    names = _texts(flat, value + 66, lengths) if named else []
    return Block(
        sequences, flags, bases, whole, row, words64[value // 8], flat[value + 65].copy(), names
    )  # fmt: skip


def _texts(flat: Flat, starts: NDArray[np.int64], lengths: NDArray[np.int64]) -> list[str]:
    raw = flat.tobytes()
    return [
        raw[start:end].decode("utf-16-le", "surrogatepass")
        for start, end in zip(starts.tolist(), (starts + 2 * lengths).tolist(), strict=True)
    ]


def best_names(block: Block) -> NDArray[np.bool_]:
    """Which names stand for their records: all but those for DOS, where there are others."""
    dos = block.spaces == DOS_NAME
    has_other = np.zeros(len(block.flags), bool)
    has_other[block.rows[~dos]] = True
    return np.asarray(~(dos & has_other[block.rows]))


def is_in_use(block: Block) -> NDArray[np.bool_]:
    """Which records are of what lives."""
    return np.asarray((block.flags & _IN_USE) != 0)


def is_folder(block: Block) -> NDArray[np.bool_]:
    """Which records are of folders."""
    return np.asarray((block.flags & _FOLDER) != 0)


def blocks(read: Callable[[int, int], bytes], count: int, size: int) -> Iterator[tuple[int, Block]]:
    """(number of its first record, block) of a whole table; `read(first, count)` gives the bytes of records."""
    for first in range(0, count, AT_ONCE):
        raw = read(first, min(AT_ONCE, count - first))
        raw = raw[: len(raw) // size * size]
        if raw:
            yield first, read_block(raw, size)
