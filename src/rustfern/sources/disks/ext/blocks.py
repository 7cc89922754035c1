"""The blocks and inodes of an ext volume, as its journal has them where it was not written back, and older copies of them.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms" (block and inode bitmaps, inode tables, journal).
"""

from __future__ import annotations

import struct
from collections import OrderedDict, defaultdict

import numpy as np

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.ext import inode as inodes
from rustfern.sources.disks.ext.geometry import geometry_of
from rustfern.sources.disks.ext.inode import Inode
from rustfern.sources.disks.ext.journal import Journal, OldBlock
from rustfern.sources.disks.interface import DiskBytes, Extent, ExtentStream
from rustfern.sources.disks.space import ClusterMap

UNUSED_INODES, _UNUSED_BLOCKS = 1, 2
"""Flags of a group: its map of inodes, or of blocks, was never written."""
_HELD = 256


class Blocks:
    """The blocks of a volume; `copies` are older ones by number, the latest last."""

    def __init__(self, volume: DiskBytes) -> None:
        """Raises `Malformed` and `SourceError`."""
        self.volume = volume
        self.shape = geometry_of(volume)
        self.remark = self.shape.remark
        self._replayed: dict[int, bytes] = {}
        self._held: OrderedDict[int, bytes] = OrderedDict()
        self._used_map: ClusterMap | None = None
        self._inode_used: dict[int, bytes] = {}
        self.journal = self._open_journal()
        self.copies: dict[int, list[OldBlock]] = defaultdict(list)
        for copy in self.journal.copies if self.journal else ():
            self.copies[copy.block].append(copy)

    def old(self, copy: OldBlock) -> bytes:
        """The bytes of an older copy of a block."""
        return self.journal.data(copy) if self.journal else b""

    def _open_journal(self) -> Journal | None:
        number = self.shape.journal
        if not number:
            return None
        try:
            found = self.inode(number)
            extents = inodes.places(found, self.shape.block, self.block, blocks=self.shape.blocks)
            stream = ExtentStream(self.volume, extents, found.size)
            block = self.shape.block

            def read(at: int) -> bytes:
                stream.seek(at * block)
                return stream.read_here(block)

            journal = Journal(read, found.size // block)
            if self.shape.needs_replay:
                self._replayed = {at: journal.data(copy) for at, copy in journal.to_replay().items()}
                self._held.clear()
                if self._replayed:
                    self.remark = self.remark or "its journal was not written back yet, and was replayed in memory"
            return journal
        except (Malformed, SourceError, struct.error):
            self.remark = self.remark or "its journal is damaged: older copies were not found"
            return None

    def block(self, number: int) -> bytes:
        """A block of the volume, as the journal has it where it was not written back."""
        if (found := self._replayed.get(number)) is not None:
            return found
        held = self._held.get(number)
        if held is None:
            size = self.shape.block
            held = self.volume.read_at(number * size, size) if 0 <= number < self.shape.blocks else b""
            self._held[number] = held
            if len(self._held) > _HELD:
                self._held.popitem(last=False)
        return held

    def _place_of(self, number: int) -> tuple[int, int]:
        """(block, offset in it) of an inode. Raises `Malformed`."""
        shape = self.shape
        group, index = divmod(number - 1, shape.inodes_per_group)
        if not 0 < number <= shape.inodes or group >= len(shape.groups):
            raise Malformed(f"there is no inode {number}")
        at = index * shape.inode_size
        return shape.groups[group].inodes + at // shape.block, at % shape.block

    def inode(self, number: int) -> Inode:
        """An inode as it is now. Raises `Malformed`."""
        block, at = self._place_of(number)
        return inodes.parse(self.block(block)[at : at + self.shape.inode_size])

    def is_marked(self, number: int) -> bool:
        """Whether the map of inodes has this one in use."""
        group, index = divmod(number - 1, self.shape.inodes_per_group)
        if group not in self._inode_used:
            told = self.shape.groups[group]
            self._inode_used[group] = b"" if told.flags & UNUSED_INODES else self.block(told.inode_map)
        held = self._inode_used[group]
        return index // 8 < len(held) and bool(held[index // 8] >> index % 8 & 1)

    def places(self, inode: Inode, before: int | None = None) -> list[Extent]:
        """Where an inode's content lies; of an older copy, by blocks of its own time where they were changed since."""
        if before is None:
            read = self.block
        else:
            sequence = before

            def read(number: int) -> bytes:
                now = self.block(number)
                then = [copy for copy in self.copies.get(number, ()) if copy.sequence <= sequence]
                for copy in reversed(then):
                    data = self.old(copy)
                    if any(data[4:]):
                        return data
                return now

        return inodes.places(inode, self.shape.block, read, blocks=self.shape.blocks)

    def used(self) -> ClusterMap:
        """Which clusters living files, and the file system itself, have."""
        if self._used_map is None:
            shape = self.shape
            each = shape.cluster // shape.block
            count = -(-(shape.blocks - shape.first) // each)
            in_group = shape.per_group // each // 8
            maps = [
                b"" if group.flags & _UNUSED_BLOCKS else self.block(group.block_map)[:in_group]
                for group in shape.groups
            ]
            bits = np.frombuffer(b"".join(piece.ljust(in_group, b"\0") for piece in maps), np.uint8)
            self._used_map = ClusterMap(bits, count)
        return self._used_map
