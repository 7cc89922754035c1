"""An exFAT volume: its folders and files, living and deleted.

Source: exFAT File System Specification (sections 3.1 main boot sector, 6 directory structure, 7.1 allocation bitmap, 7.4 file, 7.6 stream extension).
"""

from __future__ import annotations

import struct
from array import array
from datetime import UTC, datetime, timedelta

import msgspec
import numpy as np

from rustfern.core.errors import Malformed
from rustfern.sources.disks.fat import lost
from rustfern.sources.disks.fat.clusters import Clusters
from rustfern.sources.disks.interface import DiskBytes, Stored
from rustfern.sources.disks.recognise import exfat_of
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import LOST, ROOT, Tree

_SIZE = 32
_IN_USE = 0x80
_FILE, _STREAM, _NAME, _BITMAP, _LABEL = 0x05, 0x40, 0x41, 0x01, 0x03
_CONTIGUOUS = 0x02
_FOLDER = 0x10
_MAX_FOLDER = 256 << 20
_MAX_FOLDERS, _MAX_ENTRIES = 1_000_000, 20_000_000
_LARGEST_TABLE = 1 << 30
_MAX_LAID_AROUND = 20_000
"""Files up to which a file in pieces is sought around all other deleted ones too."""


class _Set(msgspec.Struct, frozen=True):
    """One set of entries: a file or folder."""

    name: str
    folder: bool
    first: int
    size: int
    valid: int
    contiguous: bool
    modified: int | None
    created: int | None
    local: bool
    deleted: bool


def _time_ns(stamp: int, hundredths: int, zone: int) -> tuple[int | None, bool]:
    """(ns since 1970, whether it is of the wall clock as no zone is recorded)."""
    try:
        told = datetime(
            1980 + (stamp >> 25), stamp >> 21 & 15, stamp >> 16 & 31, stamp >> 11 & 31, stamp >> 5 & 63,
            min((stamp & 31) * 2, 59), tzinfo=UTC,
        )  # fmt: skip
    except ValueError:
        return None, True
    known = bool(zone & 0x80)
    if known:
        quarter = zone & 0x7F
        told -= timedelta(minutes=15 * (quarter - 128 if quarter & 0x40 else quarter))
    return round(told.timestamp()) * 1_000_000_000 + min(hundredths, 199) * 10_000_000, not known


def _sum(data: bytes) -> int:
    """The sum of a set, as if it was in use; bytes 2 and 3, which hold it, are left out."""
    total = 0
    for at, byte in enumerate(data):
        if at in (2, 3):
            continue
        if at % _SIZE == 0:
            byte |= _IN_USE
        total = ((total >> 1) | (total & 1) << 15) + byte & 0xFFFF
    return total


def _set_at(data: bytes, at: int) -> tuple[_Set, int] | None:
    """(the set that begins at `at`, how many bytes it takes), None if there is none that is whole."""
    count = data[at + 1] + 1
    raw = data[at : at + count * _SIZE]
    if not 3 <= count <= 19 or len(raw) < count * _SIZE:
        return None
    kinds = raw[::_SIZE]
    deleted = not kinds[0] & _IN_USE
    if kinds[1] & 0x7F != _STREAM or any(kind & 0x7F != _NAME for kind in kinds[2 : 2 + -(-raw[35] // 15)]):
        return None
    if any(bool(kind & _IN_USE) == deleted for kind in kinds) or _sum(raw) != struct.unpack_from("<H", raw, 2)[0]:
        return None
    length = raw[_SIZE + 3]
    text = b"".join(raw[n * _SIZE + 2 : (n + 1) * _SIZE] for n in range(2, count))[: 2 * length]
    attributes, created, modified = struct.unpack_from("<H2xII", raw, 4)
    valid, first, size = struct.unpack_from("<Q4xIQ", raw, _SIZE + 8)
    written, local = _time_ns(modified, raw[21], raw[23])
    made, _ = _time_ns(created, raw[20], raw[22])
    return (
        _Set(
            text.decode("utf-16-le", "surrogatepass"), bool(attributes & _FOLDER), first, size, valid,
            bool(raw[_SIZE + 1] & _CONTIGUOUS), written, made, local, deleted,
        ),
        count * _SIZE,
    )  # fmt: skip


class ExfatVolume(Clusters):
    """One exFAT volume. `tree` holds all names; the keys of its nodes number their sets."""

    type = "exfat"

    def __init__(self, volume: DiskBytes) -> None:
        """Raises `Malformed` and `SourceError`."""
        super().__init__(volume)
        boot, self.remark = volume.read_at(0, 512), ""
        if exfat_of(boot) is None:
            boot, self.remark = volume.read_at(12 * 512, 512), "its boot sector is damaged; the copy of it was used"
            if exfat_of(boot) is None:
                boot = volume.read_at(12 * 4096, 512)
            if exfat_of(boot) is None:
                raise Malformed("its boot sector and the copy of it are damaged")
        table_at, table_size, data_at, self._count, root = struct.unpack_from("<5I", boot, 80)
        sector, self.cluster = 1 << boot[108], 1 << boot[108] + boot[109]
        self._last = self._count + lost.FIRST
        if boot[108] + boot[109] > 25 or self._count > 1 << 30:
            raise Malformed("its boot sector gives sizes that cannot be")
        self.clusters_at = data_at * sector
        size = min(table_size * sector, 4 * (self._last))
        if size > _LARGEST_TABLE:
            raise Malformed("its table has a size that cannot be")
        raw = b"".join(volume.read_at(table_at * sector + n, min(1 << 20, size - n)) for n in range(0, size, 1 << 20))
        table = np.frombuffer(raw[: len(raw) // 4 * 4], "<u4")
        self._table = np.concatenate([table, np.zeros(max(self._last - len(table), 0), np.uint32)])
        self.label = ""
        self._map = ClusterMap.blank(self._count)
        self.tree = Tree()
        self._valid = array("q")
        self._times, self._made = array("q"), array("q")
        self._flags = bytearray()
        self._seen = {root}
        self._lost: dict[int, int] = {}  # first cluster of a folder that nothing leads to → its node
        most = _MAX_FOLDER // self.cluster or 1
        self._walk([(self._bytes(self._chain(root, most)), ROOT, False)], top=True)
        self._add_lost_folders()
        self._hide_former_names()
        self.tree.finish()

    def _walk(self, stack: list[tuple[bytes, int, bool]], *, top: bool = False) -> None:
        most = _MAX_FOLDER // self.cluster or 1
        while stack:
            data, parent, gone = stack.pop()
            at = 0
            while at + _SIZE <= len(data):
                kind = data[at]
                if not kind:
                    break
                if top and kind & _IN_USE and kind & 0x7F in (_BITMAP, _LABEL):
                    self._of_root(data[at : at + _SIZE])
                found = _set_at(data, at) if kind & 0x7F == _FILE else None
                if found is None:
                    at += _SIZE
                    continue
                at += found[1]
                self._take(found[0], parent, gone or found[0].deleted, stack, most)
            top = False

    def _add_lost_folders(self) -> None:
        """Free clusters that begin with a whole set of entries: parts of folders that nothing leads to, of before a new format too."""
        stack: list[tuple[bytes, int, bool]] = []
        for number, head in lost.heads(self._volume, self.clusters_at, self.cluster, self._map):
            if number in self._seen or len(head) < 64 or head[0] & 0x7F != _FILE or head[32] & 0x7F != _STREAM:
                continue
            data = self._bytes([(number, 1)])
            if _set_at(data, 0) is not None:
                self._seen.add(number)
                node = self._lost[number] = self.tree.add(f"folder {number}", LOST, -1, folder=True, deleted=True)
                stack.append((data, node, True))
        self._walk(stack)

    def _of_root(self, entry: bytes) -> None:
        if entry[0] & 0x7F == _LABEL:
            self.label = entry[2 : 2 + 2 * min(entry[1], 15)].decode("utf-16-le", "replace")
            return
        first, size = struct.unpack_from("<IQ", entry, 20)
        size = min(size, -(-self._count // 8))
        raw = np.frombuffer(self._bytes(self._chain(first, -(-size // self.cluster)))[:size], np.uint8)
        self._map = ClusterMap(raw, self._count)

    def _take(self, found: _Set, parent: int, deleted: bool, stack: list[tuple[bytes, int, bool]], most: int) -> None:
        key = len(self._firsts)
        if key >= _MAX_ENTRIES:
            raise Malformed("it has more entries than can be")
        if found.folder and (known := self._lost.pop(found.first, parent)) != parent:
            self.tree.rename(known, found.name)
            self.tree.move(known, parent)
            return
        node = self.tree.add(found.name, parent, key, folder=found.folder, deleted=deleted)
        self._firsts.append(found.first)
        self._sizes.append(min(found.size, 1 << 62))
        self._valid.append(min(found.valid, 1 << 62))
        self._times.append(-1 if found.modified is None else found.modified)
        self._made.append(-1 if found.created is None else found.created)
        self._flags.append(found.contiguous | found.local << 1 | deleted << 2)
        if found.folder and found.first not in self._seen and len(self._seen) < _MAX_FOLDERS:
            needed = min(-(-found.size // self.cluster), most)
            straight = found.contiguous or (deleted and not self._table[found.first : found.first + 1].any())
            runs = self._straight(found.first, needed) if straight else self._chain(found.first, needed)
            if deleted and any(self._map.used(first - 2, count).any() for first, count in runs):
                return  # another file has its place
            self._seen.add(found.first)
            if deleted:
                self._seen.update(number for start, count in runs for number in range(start, start + count))
            stack.append((self._bytes(runs), node, deleted))

    def stored(self, key: int) -> Stored:
        """What the entries of a file say; of a deleted one, with its likeliest place."""
        return self.ways(key)[0]

    def ways(self, key: int) -> list[Stored]:
        """Where the bytes of a file may lie, the likeliest first."""
        first, size, flags = self._firsts[key], self._sizes[key], self._flags[key]
        modified, made = self._times[key], self._made[key]
        needed = -(-size // self.cluster)

        def laid(runs: list[tuple[int, int]], *, guessed: bool = False) -> Stored:
            return Stored(
                size, None if modified < 0 else modified, None if made < 0 else made, None, self._in_bytes(runs),
                valid=self._valid[key], local=bool(flags & 2), guessed=guessed,
            )  # fmt: skip

        if not size or not 2 <= first < self._last:
            return [laid([])]
        straight = self._straight(first, needed)
        if flags & 1:
            return [laid(straight)]
        chain = self._chain(first, needed)
        if not flags & 4:
            return [laid(chain)]
        found = []
        if sum(count for _, count in chain) == needed:
            found.append(laid(chain))
        if straight != chain:
            found.append(laid(straight, guessed=True))
        return found + [
            laid(runs, guessed=True) for runs in self._around(first, needed) if runs not in (straight, chain)
        ]

    def _is_deleted(self, key: int) -> bool:
        return bool(self._flags[key] & 4)
