"""An ext2, ext3 or ext4 volume: its files, and what folders, journal and freed inodes still tell of deleted ones.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms". The kernel clears an inode when its file is deleted: older copies of it
are in the journal.
"""

from __future__ import annotations

import io
import struct
from collections import defaultdict
from collections.abc import Iterator
from typing import BinaryIO, cast

import msgspec
import numpy as np

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.ext import inode as inodes
from rustfern.sources.disks.ext.blocks import UNUSED_INODES, Blocks
from rustfern.sources.disks.ext.inode import FILE, FOLDER, LINK, Inode, Name
from rustfern.sources.disks.interface import HOLE, DiskBytes, Extent, ExtentStream, PlainFiles, Stored, windows
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import LOST, ROOT, Tree

_ROOT_INODE, _FIRST_OWN = 2, 11
_OLD = 1 << 40
"""Keys from here on are older copies of inodes."""
_MAX_FOLDER, _MAX_FOLDERS, _MAX_NAMES = 256 << 20, 2_000_000, 20_000_000
_MAX_OLD = 1_000_000
_MAX_SOUGHT = 4 << 30
_KIND_FOLDER = 2
_LOST_FOLDER = "lost+found"


class _Told(msgspec.Struct, frozen=True):
    """A name that some copy of a folder's block gave an inode: `sequence` is that of the journal, -1 for the folder as it is now."""

    inode: int
    name: bytes
    folder: int
    sequence: int
    kind: int


class _Old(msgspec.Struct, frozen=True):
    """An older copy of an inode."""

    number: int
    sequence: int
    inode: Inode


class ExtVolume(PlainFiles):
    """One ext volume. `tree` holds all names; the keys of its nodes are numbers of inodes, or of older copies of them."""

    case_matters = True

    def __init__(self, volume: DiskBytes) -> None:
        """Raises `Malformed` and `SourceError`."""
        self._blocks = Blocks(volume)
        self._shape = shape = self._blocks.shape
        self.type, self.label, self.remark = shape.type, shape.label, self._blocks.remark
        self.cluster = shape.cluster
        self.clusters_at = shape.first * shape.block if shape.block == 1024 else 0
        self._old: list[_Old] = []
        self._orphans: set[int] = set()
        self.tree = Tree()
        self._folder_of_block: dict[int, int] = {}
        self._nodes: dict[int, int] = {_ROOT_INODE: ROOT}  # inode of a folder → its node
        self._told: list[_Told] = []
        self._living: set[int] = {_ROOT_INODE}
        self._read_living()
        self._read_deleted()
        self.tree.finish()

    # --- what lives ------------------------------------------------------------------------------------------------

    def _folder_blocks(self, number: int, inode: Inode, before: int | None = None) -> Iterator[tuple[int, bytes]]:
        """(block, bytes) of a folder's blocks; block -1 where it lies in its inode."""
        size = self._shape.block
        if inode.is_inline:
            yield -1, inodes.inline_data(inode)[4:]
            return
        for offset, length in self._blocks.places(
            msgspec.structs.replace(inode, size=min(inode.size, _MAX_FOLDER)), before
        ):
            if offset != HOLE:
                for at in range(offset // size, (offset + length) // size):
                    yield at, self._blocks.block(at)

    def _names_of(self, data: bytes) -> Iterator[Name]:
        return inodes.names(data, self._shape.inodes, typed=self._shape.typed)

    def _read_living(self) -> None:
        stack = [_ROOT_INODE]
        add, living = self.tree.add, self._living
        while stack:
            number = stack.pop()
            node = self._nodes[number]
            try:
                inode = self._blocks.inode(number)
                if inode.kind != FOLDER:
                    continue
                blocks = list(self._folder_blocks(number, inode))
            except (Malformed, SourceError, struct.error):
                self.remark = self.remark or f"the folder of inode {number} is damaged"
                continue
            for at, data in blocks:
                if at >= 0:
                    self._folder_of_block[at] = number
                for each in self._names_of(data):
                    if each.name in (b".", b".."):
                        continue
                    if each.deleted:
                        self._told.append(_Told(each.inode, each.name, number, -1, each.kind))
                        continue
                    is_folder = each.kind == _KIND_FOLDER if each.kind else self._is_folder(each.inode)
                    if is_folder and each.inode in self._nodes:
                        continue  # a folder has one name
                    made = add(_text(each.name), node, each.inode, folder=is_folder, deleted=False)
                    living.add(each.inode)
                    if is_folder and len(self._nodes) < _MAX_FOLDERS:
                        self._nodes[each.inode] = made
                        stack.append(each.inode)
            if len(self.tree) > _MAX_NAMES:
                raise Malformed("it has more names than can be")

    def _is_folder(self, number: int) -> bool:
        try:
            return self._blocks.inode(number).kind == FOLDER
        except (Malformed, SourceError):
            return False

    # --- what was deleted ------------------------------------------------------------------------------------------

    def _read_deleted(self) -> None:
        versions = self._old_inodes()
        self._tell_of_folders(versions)
        told: dict[int, list[_Told]] = defaultdict(list)
        for each in self._told:
            told[each.inode].append(each)
        for number in sorted(set(told) | set(versions)):
            for old in self._lost_versions(number, versions.get(number, [])):
                if old.inode.kind not in (FILE, LINK) or not (old.inode.size and old.inode.has_places):
                    continue
                self._add_old(old, told.get(number, []))

    def _old_inodes(self) -> dict[int, list[_Old]]:
        """Inode → its older copies in the journal, and itself where it was deleted but still says where its content lies."""
        shape = self._shape
        found: dict[int, list[_Old]] = defaultdict(list)
        per_block = shape.block // shape.inode_size
        tables = sorted((group.inodes, number) for number, group in enumerate(shape.groups))
        starts = [start for start, _ in tables]
        in_table = -(-shape.inodes_per_group * shape.inode_size // shape.block)
        count = 0
        for block, copies in self._blocks.copies.items():
            at = int(np.searchsorted(starts, block, "right")) - 1
            if at < 0 or block - starts[at] >= in_table:
                continue
            first = tables[at][1] * shape.inodes_per_group + (block - starts[at]) * per_block + 1
            for copy in copies:
                data = self._blocks.old(copy)
                for index in range(per_block):
                    raw = data[index * shape.inode_size : (index + 1) * shape.inode_size]
                    number = first + index
                    if (number < _FIRST_OWN and number != _ROOT_INODE) or not any(raw[:2]) or count >= _MAX_OLD:
                        continue
                    held = found[number]
                    if not held or held[-1].inode.raw != raw:
                        held.append(_Old(number, copy.sequence, inodes.parse(raw)))
                        count += 1
        for number, inode in self._freed():
            found[number].append(_Old(number, 1 << 62, inode))
        return found

    def _freed(self) -> Iterator[tuple[int, Inode]]:
        """Inodes without a name whose content is still recorded: freed ones of ext2, and ones that were open when the system stopped."""
        shape = self._shape
        size = shape.inode_size
        for number, group in enumerate(shape.groups):
            if group.flags & UNUSED_INODES:
                continue
            count = shape.inodes_per_group - min(group.unused, shape.inodes_per_group)
            for at in range(0, count * size, 1 << 20):
                try:
                    raw = self._blocks.volume.read_at(group.inodes * shape.block + at, min(1 << 20, count * size - at))
                except SourceError:
                    continue
                for index in _unlinked(raw, size):
                    ident = number * shape.inodes_per_group + at // size + index + 1
                    try:
                        inode = self._blocks.inode(ident)
                    except (Malformed, SourceError):
                        continue
                    if inode.links == 0 and inode.size and inode.has_places and ident >= _FIRST_OWN:
                        if self._blocks.is_marked(ident) and ident not in self._living:
                            self._orphans.add(ident)
                        yield ident, inode

    def _lost_versions(self, number: int, held: list[_Old]) -> list[_Old]:
        """The versions of an inode that are not there any more: the last one of each use that still says where its content lies."""
        if not held:
            return []
        try:
            now: Inode | None = self._blocks.inode(number)
        except (Malformed, SourceError):
            now = None
        alive = now is not None and now.links > 0 and now.mode != 0
        best: dict[tuple[int, bytes], _Old] = {}
        for old in held:
            if old.inode.has_places and old.inode.size and (old.inode.links or old.sequence == 1 << 62):
                # Of one use, a version whose content lay elsewhere is another content: saved over in place.
                best[old.inode.generation, _first_place(old.inode)] = old
        found = []
        for (generation, place), old in best.items():
            same_use = alive and now is not None and now.generation == generation
            if same_use and now and (place == _first_place(now) or old.inode.kind != FILE or old.inode.is_inline):
                continue
            found.append(old)
        return found

    def _tell_of_folders(self, versions: dict[int, list[_Old]]) -> None:
        """What the blocks of deleted folders say, and older copies of the blocks of all of them."""
        size = self._shape.block
        for number, held in versions.items():
            for old in held:
                if old.inode.kind != FOLDER or not old.inode.has_places:
                    continue
                if old.inode.is_inline:
                    self._tell_of_inline(old)
                    continue
                try:
                    blocks = self._blocks.places(old.inode, old.sequence)
                except (Malformed, SourceError, struct.error):
                    continue
                for offset, length in blocks:
                    if offset != HOLE:
                        for at in range(offset // size, (offset + length) // size):
                            self._folder_of_block.setdefault(at, number)
        for block, number in list(self._folder_of_block.items()):
            self._tell_of(block, number)
        self._untold_blocks()

    def _tell_of_inline(self, old: _Old) -> None:
        """What a folder that lies in its inode said: the inode of the folder above, then its entries."""
        data = inodes.inline_data(old.inode)
        if len(data) >= 4:
            above = struct.unpack_from("<I", data)[0]
            self._told.append(_Told(old.number, b"", above, old.sequence, _KIND_FOLDER))
            self._tell(data[4:], old.number, old.sequence)

    def _tell_of(self, block: int, number: int) -> None:
        """What a folder's block says now (if the folder is gone), and said in its older copies."""
        if number not in self._nodes:
            data = self._blocks.block(block)
            start = inodes.is_folder_start(data)
            if (start is None or start[0] == number) and not self._is_taken(block):
                self._tell(data, number, 0)
        for copy in self._blocks.copies.get(block, ()):
            self._tell(self._blocks.old(copy), number, copy.sequence)

    def _is_taken(self, block: int) -> bool:
        return self._blocks.used().is_used((block * self._shape.block - self.clusters_at) // self.cluster)

    def _untold_blocks(self) -> None:
        """First blocks of folders in the journal and in free space, which name themselves."""
        for block, copies in self._blocks.copies.items():
            if block in self._folder_of_block:
                continue
            for copy in copies:
                data = self._blocks.old(copy)
                start = inodes.is_folder_start(data)
                if start is not None and start[0] <= self._shape.inodes:
                    self._tell(data, start[0], copy.sequence)
        for block in self._free_folder_starts():
            data = self._blocks.block(block)
            start = inodes.is_folder_start(data)
            if start is not None and block not in self._folder_of_block and start[0] <= self._shape.inodes:
                self._tell(data, start[0], 0)

    def _free_folder_starts(self) -> list[int]:
        """Free blocks that begin like a folder, as far as they are looked at."""
        each = self.cluster // self._shape.block
        size, base = self._shape.block, self.clusters_at // self._shape.block
        found: list[int] = []
        left = _MAX_SOUGHT
        for start, length in self._blocks.used().free_runs():
            first, count = base + start * each, length * each
            for at, raw in windows(self._blocks.volume, first * size, (first + count) * size, 4096 * size):
                words = np.frombuffer(raw[: len(raw) // size * size], "<u4").reshape(-1, size // 4)
                if len(words):
                    hits = (words[:, 1] == 0x0201000C) | (words[:, 1] == 0x0001000C)
                    hits &= words[:, 2] == 0x2E
                    found += (at // size + np.flatnonzero(hits)).tolist()
                left -= len(raw)
            if left < 0:
                self.remark = (
                    self.remark or "folders that nothing leads to were sought in the first 4 GiB of free space only"
                )
                break
        return found

    def _tell(self, data: bytes, folder: int, sequence: int) -> None:
        for each in self._names_of(data):
            if each.name == b"..":
                self._told.append(_Told(folder, b"", each.inode, sequence, _KIND_FOLDER))
            elif each.name != b".":
                self._told.append(_Told(each.inode, each.name, folder, sequence, each.kind))

    def _add_old(self, old: _Old, told: list[_Told]) -> None:
        names = [each for each in told if each.name and each.kind in (0, 1, 7)]
        still_there = old.number in self._living
        if still_there:
            # An older content of a file that lives, or an inode that was used again: the name of that time tells.
            before = [each for each in names if each.sequence >= 0]
            names = before or names
        # The latest name that is not after this version; the folder as it is now tells of the last use only.
        fitting = [each for each in names if 0 <= each.sequence <= old.sequence] or names
        chosen = max(fitting, key=lambda each: (each.sequence == -1 and not still_there, each.sequence), default=None)
        key = _OLD + len(self._old)
        self._old.append(old)
        if chosen is None:
            self.tree.add(f"inode {old.number}", LOST, key, folder=False, deleted=True)
            return
        parent = self._node_of_folder(chosen.folder, old.sequence, set())
        self.tree.add(_text(chosen.name), parent, key, folder=False, deleted=True)

    def _node_of_folder(self, number: int, sequence: int, seen: set[int]) -> int:
        """The node of a folder, living or deleted; `?` if nothing tells where it was."""
        if number in self._nodes:
            return self._nodes[number]
        if number in seen or len(seen) > 100:
            return LOST
        seen.add(number)
        told = [each for each in self._by_inode().get(number, ()) if each.kind in (0, _KIND_FOLDER)]
        named = [each for each in told if each.name]
        if not named:
            above = next((each.folder for each in told if not each.name and each.folder in self._nodes), None)
            parent = self._nodes[above] if above is not None else LOST
            node = self.tree.add(f"folder {number}", parent, -1, folder=True, deleted=True)
        else:
            chosen = max(named, key=lambda each: each.sequence)
            parent = self._node_of_folder(chosen.folder, sequence, seen)
            node = self.tree.add(_text(chosen.name), parent, -1, folder=True, deleted=True)
        self._nodes[number] = node
        return node

    def _by_inode(self) -> dict[int, list[_Told]]:
        if not hasattr(self, "_told_by_inode"):
            self._told_by_inode: dict[int, list[_Told]] = defaultdict(list)
            for each in self._told:
                self._told_by_inode[each.inode].append(each)
        return self._told_by_inode

    # --- files -----------------------------------------------------------------------------------------------------

    def _of_key(self, key: int) -> tuple[Inode, int | None, int]:
        if key < 0:
            raise Malformed("nothing is recorded of this folder any more")
        if key >= _OLD:
            old = self._old[key - _OLD]
            return old.inode, old.sequence, old.number
        return self._blocks.inode(key), None, key

    def stored(self, key: int) -> Stored:
        """What an inode says. Raises `Malformed`."""
        inode, before, _ = self._of_key(key)
        data, link = None, None
        extents: tuple[Extent, ...] | None = ()
        if inode.is_inline:
            data, extents = inodes.inline_data(inode), None
        elif inode.kind == LINK and inode.size < 60:
            link = inode.raw[40 : 40 + inode.size].decode("utf-8", "surrogateescape")
        elif inode.kind in (FILE, LINK):
            extents = tuple(self._blocks.places(inode, before))
        if inode.kind == LINK and link is None:
            stream = ExtentStream(self._blocks.volume, extents or (), min(inode.size, 4096))
            link = (data or stream.read_here(4096)).decode("utf-8", "surrogateescape")
        return Stored(
            inode.size, inode.modified, inode.created or None, inode.changed, extents, data, None, inode.mode & 0o777,
            inode.kind == FILE, link, inode.is_encrypted,
        )  # fmt: skip

    def open(self, key: int, way: Stored | None = None) -> BinaryIO:
        """The bytes of a file. Raises `Malformed`."""
        stored = way or self.stored(key)
        if stored.data is not None:
            return io.BytesIO(stored.data)
        raw = ExtentStream(self._blocks.volume, stored.extents or (), stored.size)
        return cast(BinaryIO, io.BufferedReader(raw, 1 << 16))

    def used(self) -> ClusterMap:
        """Which clusters living files, and the file system itself, have."""
        return self._blocks.used()

    def holds_its_own(self, key: int) -> bool:
        """Whether a deleted file was still open when the system stopped: what is marked as in use is its own."""
        return key >= _OLD and self._old[key - _OLD].number in self._orphans


def _first_place(inode: Inode) -> bytes:
    """Where the first bytes of an inode's content lie, as it says it."""
    return inode.raw[40:76] if inode.flags & 0x80000 else inode.raw[40:44]


def _text(name: bytes) -> str:
    return name.decode("utf-8", "surrogateescape")


def _unlinked(raw: bytes, size: int) -> list[int]:
    """The numbers of inodes in a piece of a table that are files without links, of some size, and say where it lies."""
    count = len(raw) // size
    if not count:
        return []
    words = np.frombuffer(raw[: count * size], "<u2").reshape(count, size // 2)
    modes, links = words[:, 0], words[:, 13]
    sizes = words[:, 2].astype(np.uint32) | words[:, 3].astype(np.uint32) << 16
    hit = ((modes & 0xF000) == FILE) & (links == 0) & (sizes > 0) & words[:, 20:50].any(axis=1)
    return [int(n) for n in np.flatnonzero(hit)]
