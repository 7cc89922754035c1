"""The folder notes of macOS, `.DS_Store`: in a trash they say where each thing was (`ptbL`, folder) and its name (`ptbN`).

Layout as published in open descriptions of the format: a buddy allocator ("Bud1") that holds a B-tree ("DSDB") of records: file name as
UTF-16BE, a four-letter code, a four-letter type, the value.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from rustfern.core.errors import Malformed

_LIMIT = 64 << 20
_MAX_RECORDS = 500_000
_MAX_DEPTH = 30
_FIXED = {b"bool": 1, b"long": 4, b"shor": 4, b"type": 4, b"comp": 8, b"dutc": 8}


class _Store:
    def __init__(self, data: bytes) -> None:
        self.data = data
        if len(data) < 36 or len(data) > _LIMIT or data[4:8] != b"Bud1":
            raise Malformed("not a folder note of macOS", 0)
        offset, size, again = struct.unpack_from(">III", data, 8)
        if offset != again:
            raise Malformed("the header of the folder note is damaged", 8)
        root = self._slice(offset + 4, size)
        count = self._number(root, 0)
        if count > 100_000 or 8 + 4 * count > len(root):
            raise Malformed("the folder note claims more blocks than it has", offset)
        self.addresses = struct.unpack_from(f">{count}I", root, 8)
        at = 8 + 4 * (-(-count // 256) * 256)
        self.directory: dict[bytes, int] = {}
        entries = self._number(root, at)
        at += 4
        for _ in range(min(entries, 100)):
            length = root[at] if at < len(root) else 0
            self.directory[root[at + 1 : at + 1 + length]] = self._number(root, at + 1 + length)
            at += 5 + length

    @staticmethod
    def _number(data: bytes, at: int) -> int:
        if at + 4 > len(data):
            raise Malformed("the folder note is cut off", at)
        return int(struct.unpack_from(">I", data, at)[0])

    def _slice(self, at: int, size: int) -> bytes:
        if at + size > len(self.data) + 4 or size < 8:
            raise Malformed("a block of the folder note lies beyond its end", at)
        return self.data[at : at + size]

    def block(self, number: int) -> bytes:
        if number >= len(self.addresses):
            raise Malformed(f"block {number} of the folder note does not exist")
        address = self.addresses[number]
        return self._slice((address & ~0x1F) + 4, 1 << (address & 0x1F))

    def records(self) -> Iterator[tuple[str, bytes, object]]:
        if b"DSDB" not in self.directory:
            raise Malformed("the folder note holds no tree")
        top = self.block(self.directory[b"DSDB"])
        yield from self._node(self._number(top, 0), 0, set())

    def _node(self, number: int, depth: int, seen: set[int]) -> Iterator[tuple[str, bytes, object]]:
        if depth > _MAX_DEPTH or number in seen:
            raise Malformed("the tree of the folder note has a loop")
        seen.add(number)
        data = self.block(number)
        last, count = self._number(data, 0), self._number(data, 4)
        if count > _MAX_RECORDS:
            raise Malformed("the folder note claims more records than it can hold")
        at = 8
        for _ in range(count):
            if last:
                yield from self._node(self._number(data, at), depth + 1, seen)
                at += 4
            name, code, value, at = self._record(data, at)
            yield name, code, value
        if last:
            yield from self._node(last, depth + 1, seen)

    def _record(self, data: bytes, at: int) -> tuple[str, bytes, object, int]:
        length = self._number(data, at)
        name = data[at + 4 : at + 4 + 2 * length].decode("utf-16-be", "replace")
        at += 4 + 2 * length
        code, kind = data[at : at + 4], data[at + 4 : at + 8]
        at += 8
        if kind in _FIXED:
            return name, code, data[at : at + _FIXED[kind]], at + _FIXED[kind]
        size = self._number(data, at)
        if kind == b"ustr":
            size *= 2
        elif kind != b"blob":
            raise Malformed(f"a record of the folder note has the unknown type {kind!r}", at)
        raw = data[at + 4 : at + 4 + size]
        if len(raw) < size:
            raise Malformed("a record of the folder note is cut off", at)
        return name, code, raw.decode("utf-16-be", "replace") if kind == b"ustr" else raw, at + 4 + size


def original_locations(data: bytes) -> dict[str, tuple[str, str]]:
    """Name in the trash → (folder relative to the volume, original name), as far as the note can be read.

    Raises `Malformed` if it is no such note.
    """
    store = _Store(data)
    folders: dict[str, str] = {}
    names: dict[str, str] = {}
    for name, code, value in store.records():
        if code == b"ptbL" and isinstance(value, str):
            folders[name] = value
        elif code == b"ptbN" and isinstance(value, str):
            names[name] = value
    return {name: (folder, names.get(name, name)) for name, folder in folders.items()}
