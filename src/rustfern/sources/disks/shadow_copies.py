"""Shadow copies of NTFS volumes: each is the volume as it was at a time, put together from the blocks that were kept when they were written over.

Sources: the published description of the on-disk format of volume shadow snapshots (volume header at byte 7,680, catalogue of stores, store headers,
lists of block descriptors with forwarders and overlays). What a block was is the first thing that was kept of it since that time, in this store or
in a later one; of what was never kept, the volume itself. That order is how copying on write works; where a store says otherwise, the block counts
as unreadable.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

import msgspec
import numpy as np
from numpy.typing import NDArray

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.interface import DiskBytes, Pieced, read_exactly

BLOCK = 0x4000
"""Bytes of a block that is kept, and of each block of the tables."""
_IDENT = bytes.fromhex("6b87083876c1484eb7ae04046e6cc752")
_HEADER_AT, _HEAD, _SECTOR = 0x1E00, 128, 512
_IS_VOLUME, _IS_CATALOGUE, _IS_LIST, _IS_STORE = 1, 2, 3, 4
_COPY, _STORE = 2, 3
_FORWARDER, _OVERLAY, _UNUSED = 1, 2, 4
_MOST_BLOCKS, _MOST_COPIES, _MOST_ROWS = 200_000, 512, 16_000_000
_FIRST = datetime(1601, 1, 1, tzinfo=UTC)
_LATEST_TICKS = 26 * 10**17
_ROW = np.dtype([("block", "<u8"), ("relative", "<u8"), ("at", "<u8"), ("flags", "<u4"), ("sectors", "<u4")])
Rows = NDArray[np.void]


class Told(msgspec.Struct, frozen=True):
    """What the catalogue tells of a shadow copy: when it was made, the size of the volume then, and where its list of blocks begins (0: nothing
    tells).
    """

    taken: datetime
    size: int
    list_at: int


def copies_of(volume: DiskBytes) -> list[Told]:
    """The shadow copies of a volume, the oldest first; none where it keeps none. Raises `Malformed` and `SourceError`."""
    head = volume.read_at(_HEADER_AT, _SECTOR)
    if len(head) < _SECTOR or head[:16] != _IDENT or struct.unpack_from("<II", head, 16)[1] != _IS_VOLUME:
        return []
    (first,) = struct.unpack_from("<Q", head, 48)
    made: dict[bytes, tuple[datetime, int]] = {}
    lists: dict[bytes, int] = {}
    for block in _chain(volume, first, _IS_CATALOGUE):
        for at in range(_HEAD, BLOCK, 128):
            (kind,) = struct.unpack_from("<Q", block, at)
            ident = block[at + 16 : at + 32]
            if kind == _COPY:
                (size,), (ticks,) = struct.unpack_from("<Q", block, at + 8), struct.unpack_from("<Q", block, at + 48)
                if 0 < ticks < _LATEST_TICKS:
                    made[ident] = _FIRST + timedelta(microseconds=ticks // 10), size
            elif kind == _STORE:
                (lists[ident],) = struct.unpack_from("<Q", block, at + 8)
    if len(made) > _MOST_COPIES:
        raise Malformed("its catalogue of shadow copies names more than can be", first)
    return sorted((Told(*told, lists.get(ident, 0)) for ident, told in made.items()), key=lambda told: told.taken)


def _chain(volume: DiskBytes, first: int, kind: int) -> Iterator[bytes]:
    """The blocks of a table, each of which names the next one."""
    at, seen = first, set[int]()
    while at:
        if at in seen or len(seen) >= _MOST_BLOCKS:
            raise Malformed("a table of its shadow copies goes round in a circle", at)
        seen.add(at)
        block = read_exactly(volume, at, BLOCK)
        _, told, _, here, following = struct.unpack_from("<IIQQQ", block, 16)
        if block[:16] != _IDENT or told != kind or here != at:
            raise Malformed("a table of its shadow copies is damaged", at)
        yield block
        at = following


def _rows(volume: DiskBytes, told: Told) -> Rows:
    """What a store says of blocks, in the order in which they were kept."""
    if not told.list_at:
        raise Malformed("nothing tells where its blocks are")
    blocks = _chain(volume, told.list_at, _IS_LIST)
    held = np.concatenate(
        [np.zeros(0, _ROW), *(np.frombuffer(block, _ROW, offset=_HEAD) for block in blocks)], dtype=_ROW
    )
    used = (held["flags"] & _UNUSED) == 0
    used &= (held["at"] != 0) | (held["relative"] != 0)
    rows: Rows = held[used]
    to = np.where(rows["flags"] & _FORWARDER, rows["relative"], rows["at"])
    if (rows["block"] % np.uint64(BLOCK)).any() or (to > np.uint64(max(volume.size - BLOCK, 0))).any():
        raise Malformed("a list of its blocks is damaged", told.list_at)
    return rows


class ShadowCopy(Pieced):
    """A volume as it was when a shadow copy was made. Raises `Malformed` where its tables are damaged, as soon as it is read."""

    def __init__(self, volume: DiskBytes, told: list[Told], number: int) -> None:
        """`told` as `copies_of` gives it, and which of them this is."""
        self._volume, self._told, self._number = volume, told, number
        self.size = min(told[number].size or volume.size, volume.size)
        self.sector = volume.sector
        self._rows: Rows | None = None
        self._stores: NDArray[np.int32] = np.zeros(0, np.int32)
        self._blocks: NDArray[np.uint64] = np.zeros(0, np.uint64)
        self._order: NDArray[np.int64] = np.zeros(0, np.int64)

    def forget(self) -> None:
        """Let go of the tables; they are read again when they are needed."""
        self._rows = None

    def _read(self) -> Rows:
        """All rows from this store on, in order, and an index of them by block."""
        if self._rows is None:
            parts = [_rows(self._volume, told) for told in self._told[self._number :]]
            if sum(map(len, parts)) > _MOST_ROWS:
                raise Malformed("its shadow copies keep more blocks than are read")
            self._stores = np.repeat(np.arange(len(parts), dtype=np.int32), [len(part) for part in parts])
            rows = np.concatenate(parts)
            self._order = np.argsort(rows["block"], kind="stable")
            self._blocks = rows["block"][self._order]
            self._rows = rows
        return self._rows

    def _of(self, block: int, after: int = -1) -> list[int]:
        """The rows of a block (its offset in bytes) behind one row, in order."""
        first = int(np.searchsorted(self._blocks, np.uint64(block), "left"))
        found: list[int] = []
        while first < len(self._blocks) and int(self._blocks[first]) == block:
            if int(self._order[first]) > after:
                found.append(int(self._order[first]))
            first += 1
        return found

    def runs(self, offset: int, length: int) -> list[tuple[DiskBytes, int, int]]:
        """As `Pieced.runs`."""
        if offset < 0 or length <= 0:
            return []
        self._read()
        found: list[tuple[DiskBytes, int, int]] = []
        end = min(offset + length, self.size)
        while offset < end:
            block = offset - offset % BLOCK
            first = int(np.searchsorted(self._blocks, np.uint64(block), "left"))
            if first == len(self._blocks) or int(self._blocks[first]) != block:
                # Nothing was kept of this one, nor of those before the next that is known.
                following = int(self._blocks[first]) if first < len(self._blocks) else end
                found.append((self._volume, offset, min(following, end) - offset))
                offset = min(following, end)
                continue
            stop = min(end, block + BLOCK)
            for sector, at in enumerate(self._sectors(block)):
                here = block + sector * _SECTOR
                low, high = max(offset, here), min(stop, here + _SECTOR)
                if low < high:
                    found.append((self._volume, at + low - here, high - low))
            offset = stop
        return _joined(found)

    def _sectors(self, block: int, after: int = -1, depth: int = 0) -> list[int]:
        """Where each sector of a block lies on the volume."""
        rows = self._rows
        assert rows is not None
        places = [-1] * (BLOCK // _SECTOR)
        whole_in = -1
        for number in self._of(block, after):
            flags, store = int(rows["flags"][number]), int(self._stores[number])
            if flags & _OVERLAY:
                if store == whole_in:
                    raise SourceError(
                        "a block of this shadow copy is kept in a way that is not understood; it was not guessed"
                    )
                bitmap = int(rows["sectors"][number])
                for sector in range(len(places)):
                    if bitmap >> sector & 1 and places[sector] < 0:
                        places[sector] = int(rows["at"][number]) + sector * _SECTOR
            elif whole_in < 0:
                if flags & _FORWARDER:
                    if depth > _MOST_COPIES:
                        raise Malformed("a block of its shadow copies was moved round in a circle", block)
                    moved = self._sectors(int(rows["relative"][number]), number, depth + 1)
                else:
                    moved = [int(rows["at"][number]) + sector * _SECTOR for sector in range(len(places))]
                places = [old if old >= 0 else new for old, new in zip(places, moved, strict=True)]
                whole_in = store
        return [at if at >= 0 else block + sector * _SECTOR for sector, at in enumerate(places)]


def _joined(runs: list[tuple[DiskBytes, int, int]]) -> list[tuple[DiskBytes, int, int]]:
    """Runs that follow each other on the same volume as one."""
    found: list[tuple[DiskBytes, int, int]] = []
    for disk, at, count in runs:
        if found and found[-1][0] is disk and found[-1][1] + found[-1][2] == at:
            found[-1] = disk, found[-1][1], found[-1][2] + count
        else:
            found.append((disk, at, count))
    return found
