"""A FAT volume: its folders and files, deleted ones, and folders that nothing leads to any more.

Source: FAT32 File System Specification 1.03. The chain of a deleted file is mostly cleared: only its first cluster and its size remain.
"""

from __future__ import annotations

import struct
from array import array

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.fat import lost
from rustfern.sources.disks.fat.clusters import Clusters
from rustfern.sources.disks.fat.directory import SIZE, FatEntry, dot_entries, entries, is_plausible
from rustfern.sources.disks.interface import DiskBytes, Stored
from rustfern.sources.disks.recognise import fat_of
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import LOST, ROOT, Tree

_MAX_FOLDER = 32 << 20
_MAX_FOLDERS, _MAX_ENTRIES = 1_000_000, 20_000_000
_BITS = {"fat12": 12, "fat16": 16, "fat32": 28}
_NEARLY_ALL = 0.9
"""Share of free clusters from which on the folders of an earlier format are sought."""
_LARGEST_TABLE = 1 << 30
_MAX_LAID_AROUND = 20_000
"""Files up to which a file in pieces is sought around all other deleted ones too."""


class FatVolume(Clusters):
    """One FAT volume. `tree` holds all names; the keys of its nodes number their entries."""

    def __init__(self, volume: DiskBytes) -> None:
        """Raises `Malformed` and `SourceError`."""
        super().__init__(volume)
        boot, self.remark = volume.read_at(0, 512), ""
        known = fat_of(boot)
        if known is None:
            boot, self.remark = volume.read_at(6 * 512, 512), "its boot sector is damaged; the copy of it was used"
            known = fat_of(boot)
            if known is None:
                raise Malformed("its boot sector is damaged, and there is no copy of it")
        self.type = known.type
        sector, per_cluster, reserved, fats, roots, small, _, per_fat = struct.unpack_from("<HBHBHHBH", boot, 11)
        large, per_fat32 = struct.unpack_from("<II", boot, 32)
        per_fat = per_fat or per_fat32
        self.cluster = sector * per_cluster
        root_at = (reserved + fats * per_fat) * sector
        root_size = -(-roots * SIZE // sector) * sector
        self.clusters_at = root_at + root_size
        sectors = small or large
        self._count = min(
            (sectors * sector - self.clusters_at) // self.cluster,
            per_fat * sector * 8 // (32 if known.type == "fat32" else _BITS[known.type]),
        )
        self._last = self._count + lost.FIRST
        self._table = self._read_table(reserved * sector, per_fat * sector, fats)
        self._map = ClusterMap.of(np.asarray(self._table[2:] != 0))
        self.label = (
            boot[43:54].decode("cp850", "replace").strip() if roots else boot[71:82].decode("cp850", "replace").strip()
        )
        self.label = "" if self.label == "NO NAME" else self.label
        self._times, self._made = array("q"), array("q")
        self._folders_at: dict[int, int] = {}  # first cluster of a folder → its node
        self.tree = Tree()
        self._entries = 0
        self._lost: dict[int, int] = {}  # first cluster of a folder that nothing leads to → its node
        self._old: lost.OldFolders | None = None
        self._first_old = -1  # the first entry that is of an earlier format
        if roots:
            top = self._volume.read_at(root_at, root_size)
            self._root_first = 0
        else:
            self._root_first = struct.unpack_from("<I", boot, 44)[0]
            top = self._folder_bytes(self._root_first, deleted=False)
        self._folders_at[self._root_first] = self._folders_at[0] = ROOT
        self._label_of_root(top)
        self._walk([(top, ROOT, False)])
        self._add_lost_folders()
        self._add_old_folders()
        self._hide_former_names()
        self.tree.finish()

    # --- the table -------------------------------------------------------------------------------------------------

    def _read_table(self, at: int, size: int, copies: int) -> NDArray[np.uint32]:
        """The chains, as what each cluster is followed by; from the second copy where the first is damaged."""
        if size > _LARGEST_TABLE:
            raise Malformed("its table has a size that cannot be")
        raw = b""
        for number in range(copies):
            try:
                raw = b"".join(
                    self._volume.read_at(at + number * size + n, min(1 << 20, size - n))
                    for n in range(0, size, 1 << 20)
                )
            except SourceError:
                if number == copies - 1:
                    raise
                continue
            if len(raw) > 3 and raw[0] >= 0xF0:
                break
        count = self._last
        if self.type == "fat12":
            data = np.frombuffer(raw[: len(raw) // 3 * 3], np.uint8).astype(np.uint32)
            a, b, c = data[0::3], data[1::3], data[2::3]
            table = np.empty(2 * len(a), np.uint32)
            table[0::2], table[1::2] = a | (b & 15) << 8, b >> 4 | c << 4
        elif self.type == "fat16":
            table = np.frombuffer(raw[: len(raw) // 2 * 2], "<u2").astype(np.uint32)
        else:
            table = np.frombuffer(raw[: len(raw) // 4 * 4], "<u4") & np.uint32(0x0FFFFFFF)
        table = table[:count]
        return np.concatenate([table, np.zeros(count - len(table), np.uint32)]) if len(table) < count else table

    # --- folders ---------------------------------------------------------------------------------------------------

    def _label_of_root(self, top: bytes) -> None:
        for at in range(0, len(top) - SIZE + 1, SIZE):
            if not top[at]:
                return
            if top[at] != 0xE5 and top[at + 11] & 0x3F in (0x08, 0x28):
                self.label = top[at : at + 11].decode("cp850", "replace").strip() or self.label
                return

    def _folder_bytes(self, first: int, *, deleted: bool) -> bytes:
        """The entries of a folder: by its chain, or of one without, as far as what follows can be entries."""
        most = _MAX_FOLDER // self.cluster or 1
        if not deleted or (2 <= first < self._last and self._table[first]):
            if deleted and self._is_inside_a_chain(first):
                return b""  # another file has its place
            runs = self._chain(first, most)
            return b"".join(self._volume.read_at(*extent) for extent in self._in_bytes(runs))
        data = b""
        for cluster in range(first, min(first + most, self._last)):
            if self._table[cluster]:
                continue
            piece = self._volume.read_at(self._in_bytes([(cluster, 1)])[0][0], self.cluster)
            if data and (
                not piece[:1].strip(b"\0")
                or not all(
                    is_plausible(b"_" + piece[at + 1 : at + SIZE])
                    for at in range(0, min(len(piece), 8 * SIZE), SIZE)
                    if piece[at]
                )
            ):
                break
            if data and piece[:11] == b".          ":
                break
            data += piece
            if any(not piece[at] for at in range(0, len(piece), SIZE)):
                break
        return data

    def _walk(self, stack: list[tuple[bytes, int, bool]]) -> None:
        while stack:
            data, node, gone = stack.pop()
            for entry in entries(data):
                if self._entries >= _MAX_ENTRIES:
                    raise Malformed("it has more entries than can be")
                self._take(entry, node, gone or entry.deleted, stack)

    def _take(self, entry: FatEntry, parent: int, deleted: bool, stack: list[tuple[bytes, int, bool]]) -> None:
        first = entry.first | (entry.high << 16 if self.type == "fat32" else 0)
        if entry.is_folder and (known := self._lost.pop(first, None)) is not None and known != parent:
            self.tree.rename(known, entry.name)
            self.tree.move(known, parent)
            return
        node = self.tree.add(entry.name, parent, self._entries, folder=entry.is_folder, deleted=deleted)
        self._entries += 1
        self._firsts.append(first)
        self._sizes.append(entry.size)
        self._times.append(-1 if entry.modified is None else entry.modified)
        self._made.append(-1 if entry.created is None else entry.created)
        if (
            self._first_old >= 0
            or not entry.is_folder
            or not 2 <= first < self._last
            or len(self._folders_at) >= _MAX_FOLDERS
        ):
            return
        if first in self._folders_at:
            return
        if deleted:
            head = self._volume.read_at(self._in_bytes([(first, 1)])[0][0], 64)
            dots = dot_entries(head)
            if dots is None or dots[0] not in (first, first & 0xFFFF):
                return
        self._folders_at[first] = node
        stack.append((self._folder_bytes(first, deleted=deleted), node, deleted))

    def _add_lost_folders(self) -> None:
        """Folders in clusters that nothing leads to: stitched together by their `..`, and by the entries of those above them."""
        found = lost.find(self._volume, self.clusters_at, self.cluster, self._map, self._folders_at)
        for first, _ in found:
            self._lost[first] = self._folders_at[first] = self.tree.add(
                f"folder {first}", LOST, -1, folder=True, deleted=True
            )
        nodes = dict(self._lost)
        for first, above in found:
            parent = self._folders_at.get(above)
            if parent is not None and parent != nodes[first] and above:
                self.tree.move(nodes[first], parent)
        self._walk([(self._folder_bytes(first, deleted=True), nodes[first], True) for first, _ in found])

    def _add_old_folders(self) -> None:
        """Folders of the format before this one, where the volume is nearly empty: what lay in the top folder then has lost its names."""
        if self._map.free() < _NEARLY_ALL * self._count:
            return
        self._old = old = lost.find_old(self._volume, self.clusters_at, self.cluster)
        if old is None:
            return
        self._first_old = self._entries
        self._lost = {
            first: self.tree.add(f"folder {first}", LOST, -1, folder=True, deleted=True) for first, _ in old.folders
        }
        nodes = dict(self._lost)
        for first, above in old.folders:
            if above in nodes and above != first:
                self.tree.move(nodes[first], nodes[above])
        self._walk([(lost.old_bytes(self._volume, old, first), nodes[first], True) for first, _ in old.folders])
        self.remark = (
            self.remark or "it was formatted again: folders of the format before were found, and what they record"
        )

    # --- files -----------------------------------------------------------------------------------------------------

    def stored(self, key: int) -> Stored:
        """What the entry of a file says; of a deleted one, with its likeliest place. Raises `Malformed`."""
        return self.ways(key)[0]

    def ways(self, key: int) -> list[Stored]:
        """Where the bytes of a file may lie, the likeliest first: one for what lives, more where only the beginning is recorded."""
        if key < 0:
            return [Stored(0, is_file=False, local=True)]
        first, size = self._firsts[key], self._sizes[key]
        modified, made = self._times[key], self._made[key]
        times = (None if modified < 0 else modified, None if made < 0 else made)

        def laid(runs: list[tuple[int, int]], *, guessed: bool = False, note: str = "") -> Stored:
            return Stored(
                size, times[0], times[1], None, self._in_bytes(runs), local=True, guessed=guessed, note=note
            )  # fmt: skip

        needed = -(-size // self.cluster)
        if not size:
            return [laid([])]
        if self._old is not None and key >= self._first_old:
            old = self._old
            at = old.data + (first - 2) * old.cluster
            there = first >= 2 and at < self._volume.size
            extents = ((at, -(-size // old.cluster) * old.cluster),) if there else ()
            return [replace(laid([], guessed=size > old.cluster), extents=extents)]
        if not self._is_deleted(key):
            return [laid(self._chain(first, needed))]
        found: list[Stored] = []
        for start in self._starts(first):
            if self._table[start]:
                chain = self._chain(start, needed)
                if sum(count for _, count in chain) == needed and not self._is_inside_a_chain(start):
                    found.append(laid(chain))
            straight = self._straight(start, needed)
            found.append(laid(straight, guessed=needed > 1))
            found += [laid(runs, guessed=True) for runs in self._around(start, needed) if runs != straight]
        return found or [laid([], note="its first cluster is not recorded any more")]

    def _is_deleted(self, key: int) -> bool:
        return self.tree.is_deleted(self._node_of(key))

    def _starts(self, first: int) -> list[int]:
        """First clusters that an entry may mean: some systems clear the upper half when a file is deleted."""
        end = self._last
        if not 2 <= first < end:
            return []
        found = [first]
        if self.type == "fat32" and first < 1 << 16:
            found += [other for other in range(first + (1 << 16), end, 1 << 16) if not self._table[other]]
        return found
