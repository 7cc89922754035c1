"""The journal of ext3 and ext4: what was not replayed yet, and older copies of blocks.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", Journal (jbd2): header, superblock, descriptor and revocation blocks.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

import msgspec

from rustfern.core.errors import Malformed

_MAGIC = 0xC03B3998
_DESCRIPTOR, _COMMIT, _SUPER_1, _SUPER_2, _REVOKE = 1, 2, 3, 4, 5
_ESCAPED, _SAME_UUID, _LAST = 1, 2, 8
_64BIT, _CSUM_2, _CSUM_3, _REVOKES = 0x2, 0x8, 0x10, 0x1
_MAX_BLOCKS = 1 << 20


class OldBlock(msgspec.Struct, frozen=True):
    """A copy of a block of the volume: which transaction wrote it, where in the journal it lies, and whether its first bytes were put apart."""

    sequence: int
    block: int
    at: int
    escaped: bool


class Journal:
    """A journal; `read` gives one of its blocks by number. `copies` are all that can be told, the latest last."""

    def __init__(self, read: Callable[[int], bytes], count: int) -> None:
        """Raises `Malformed` for what is no journal."""
        self._read = read
        head = read(0)
        magic, kind = struct.unpack_from(">II", head)
        if magic != _MAGIC or kind not in (_SUPER_1, _SUPER_2):
            raise Malformed("its journal is damaged")
        self._block, said, self._first, self._sequence, self._start = struct.unpack_from(">IIIII", head, 12)
        features = struct.unpack_from(">I", head, 40)[0] if kind == _SUPER_2 else 0
        self._fast = struct.unpack_from(">I", head, 84)[0] if kind == _SUPER_2 and features & 0x20 else 0
        self._count = min(count, said, _MAX_BLOCKS)
        self._wide, self._v3 = bool(features & _64BIT), bool(features & _CSUM_3)
        self._tail = 4 if features & (_CSUM_2 | _CSUM_3) else 0
        self._tag = 16 if self._v3 else 12 + (2 if features & _CSUM_2 else 0) - (0 if self._wide else 4)
        if len(head) < 1024 or self._block != len(head) or not 0 < self._first < self._count:
            raise Malformed("its journal is damaged")
        self.copies: list[OldBlock] = []
        self._kinds: dict[int, tuple[int, int]] = {}
        self._look()

    def _look(self) -> None:
        """Every descriptor that is still there, of whatever round of the ring."""
        last = self._count - self._fast
        for at in range(self._first, last):
            data = self._read(at)
            if len(data) < 12:
                continue
            magic, kind, sequence = struct.unpack_from(">III", data)
            if magic != _MAGIC:
                continue
            self._kinds[at] = kind, sequence
            if kind == _DESCRIPTOR:
                place = at
                for block, flags in self._tags(data):
                    place = self._next(place)
                    self.copies.append(OldBlock(sequence, block, place, bool(flags & _ESCAPED)))
        # What was overwritten since by a block with a header of its own is no copy any more.
        self.copies = [copy for copy in self.copies if copy.at not in self._kinds]
        self._drop_overwritten(last)
        self.copies.sort(key=lambda copy: copy.sequence)

    def _drop_overwritten(self, last: int) -> None:
        """A block of the ring holds what the last transaction that wrote there laid into it."""
        newest: dict[int, OldBlock] = {}
        for copy in self.copies:
            if copy.at < last and (copy.at not in newest or newest[copy.at].sequence < copy.sequence):
                newest[copy.at] = copy
        self.copies = list(newest.values())

    def _next(self, at: int) -> int:
        return at + 1 if at + 1 < self._count - self._fast else self._first

    def _tags(self, data: bytes) -> list[tuple[int, int]]:
        """(block of the volume, flags) of each block that a descriptor announces."""
        found = []
        at, end = 12, len(data) - self._tail
        while at + self._tag <= end:
            block = struct.unpack_from(">I", data, at)[0]
            if self._v3:
                flags, high = struct.unpack_from(">II", data, at + 4)
            else:
                flags = struct.unpack_from(">H", data, at + 6)[0]
                high = struct.unpack_from(">I", data, at + 8)[0] if self._wide else 0
            if self._wide:
                block |= high << 32
            found.append((block, flags))
            at += self._tag + (0 if flags & _SAME_UUID else 16)
            if flags & _LAST:
                break
        return found

    def data(self, copy: OldBlock) -> bytes:
        """The bytes of a copy."""
        data = self._read(copy.at)
        return struct.pack(">I", _MAGIC) + data[4:] if copy.escaped else data

    def to_replay(self) -> dict[int, OldBlock]:
        """Block of the volume → its copy, of the transactions that were committed and not written back."""
        if not self._start:
            return {}
        found: dict[int, OldBlock] = {}
        revoked: dict[int, int] = {}
        at, sequence = self._start, self._sequence
        run: list[list[OldBlock]] = []
        current: list[OldBlock] = []
        for _ in range(self._count):
            data = self._read(at)
            if len(data) < 12:
                break
            magic, kind, number = struct.unpack_from(">III", data)
            if magic != _MAGIC or number != sequence:
                break
            if kind == _DESCRIPTOR:
                for block, flags in self._tags(data):
                    at = self._next(at)
                    current.append(OldBlock(sequence, block, at, bool(flags & _ESCAPED)))
            elif kind == _REVOKE:
                for block in self._revoked(data):
                    revoked[block] = sequence
            elif kind == _COMMIT:
                run.append(current)
                current, sequence = [], sequence + 1
            at = self._next(at)
        for transaction in run:
            for copy in transaction:
                if revoked.get(copy.block, -1) < copy.sequence:
                    found[copy.block] = copy
        return found

    def _revoked(self, data: bytes) -> list[int]:
        size = 8 if self._wide else 4
        end = min(struct.unpack_from(">I", data, 12)[0], len(data) - self._tail)
        form = ">Q" if size == 8 else ">I"
        return [struct.unpack_from(form, data, at)[0] for at in range(16, end - size + 1, size)]
