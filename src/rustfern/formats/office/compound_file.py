"""Compound files: header, allocation chains to their ends, directory tree, streams.

Source: [MS-CFB] 2.2 (header), 2.3 (FAT), 2.4 (mini FAT), 2.5 (DIFAT), 2.6 (directory); [MS-OLEPS] 2.21 (property sets).
Our own walk, because the verdict rests on it: each chain ends, crosses no other, and lies inside the file.
"""

from __future__ import annotations

import struct
from array import array
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance
from rustfern.core.times import filetime
from rustfern.formats.paged_bytes import Data, Pieces, load_or_page
from rustfern.formats.reader import ByteReader

SIGNATURE = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
_END, _FREE, _FAT, _DIFAT = 0xFFFFFFFE, 0xFFFFFFFF, 0xFFFFFFFD, 0xFFFFFFFC
_LAST = 0xFFFFFFFA
_STREAM, _STORAGE, _ROOT, _IMPOSSIBLE = 2, 1, 5, 255
_MAX_ENTRIES = 1 << 18
_Pieces = list[tuple[int, int]]
"""Where a stream lies: (first byte in the file, bytes) of each run of sectors."""


class Stream(msgspec.Struct, frozen=True):
    """One stream or storage of the directory."""

    name: str
    kind: int
    start: int
    size: int
    child: int
    left: int
    right: int


class Compound:
    """A compound file opened for reading. The constructor verifies the whole allocation; raises `Malformed`."""

    def __init__(self, stream: BinaryIO, size: int) -> None:
        self.file_size, self._bytes = size, ByteReader(stream, size)
        header = self._bytes.exactly(0, 512, "the header")
        if header[:8] != SIGNATURE:
            raise Malformed("the compound file signature is missing", 0)
        major, order, shift, mini_shift = struct.unpack_from("<HHHH", header, 26)
        if order != 0xFFFE or (major, shift) not in ((3, 9), (3, 12), (4, 12)) or mini_shift != 6:
            raise Malformed("the header of the compound file is damaged", 26)
        self.sector = 1 << shift
        self.sectors = (size - self.sector + self.sector - 1) // self.sector
        counts = struct.unpack_from("<IIIIIIIII", header, 40)
        _dir_count, self._fat_count, self._dir_start, _, self.cutoff, mini_start, mini_count, difat, difat_count = (
            counts
        )
        self._used = bytearray(max(self.sectors, 0))
        self.fat = self._load_fat(header, difat, difat_count)
        directory = self._read(self._chain(self._dir_start, None, "the directory"))
        self.entries = self._load_directory(directory)
        root = self.entries[0]
        self.mini_fat = array("I")
        if mini_count and mini_start != _END:  # some write a count though they have none
            self.mini_fat.frombytes(self._read(self._chain(mini_start, mini_count * self.sector, "the mini FAT")))
        self._mini = self._read(self._chain(root.start, root.size, "the mini stream")) if root.size else b""
        self.paths = self._tree()
        self._folded = {path.casefold() for path in self.paths}
        self._data: dict[str, bytes | _Pieces] = {}
        for path, number in self.paths.items():
            if self.entries[number].kind == _STREAM:
                self._data[path] = self._stream_of(self.entries[number])

    def _sector_bytes(self, number: int, what: str, needed: int | None = None) -> bytes:
        """One sector; the last one of the file may stop behind the `needed` bytes, as some writers leave out the rest."""
        if number >= self.sectors:
            raise Malformed(f"{what} needs sector {number}, which is beyond the end of the file", self.file_size)
        offset = (number + 1) * self.sector
        data = self._bytes.upto(offset, self.sector)
        if len(data) < self.sector:
            if needed is None or len(data) < needed:
                raise Malformed(f"the file ends inside {what}", offset + len(data))
            data = data.ljust(self.sector, b"\0")
        return data

    def _claim(self, number: int, what: str) -> None:
        if number < self.sectors:
            if self._used[number]:
                raise Malformed(f"sector {number} is used twice, the second time by {what}", (number + 1) * self.sector)
            self._used[number] = 1

    def _load_fat(self, header: bytes, difat: int, difat_count: int) -> array[int]:
        if self._fat_count > self.sectors:
            raise Malformed("the header claims more FAT sectors than the file has", 44)
        numbers = [n for n in struct.unpack_from("<109I", header, 76) if n <= _LAST]
        seen = 0
        per = self.sector // 4 - 1
        while difat <= _LAST and seen <= difat_count:
            data = self._sector_bytes(difat, "the DIFAT")
            self._claim(difat, "the DIFAT")
            values = struct.unpack(f"<{per + 1}I", data)
            numbers += [n for n in values[:per] if n <= _LAST]
            difat = values[per]
            seen += 1
        if len(numbers) < self._fat_count:
            raise Malformed(f"the FAT has {len(numbers)} sectors instead of {self._fat_count}", 44)
        fat = array("I")
        for number in numbers[: self._fat_count]:
            fat.frombytes(self._sector_bytes(number, "the FAT"))
            self._claim(number, "the FAT")
        if not fat:
            raise Malformed("the compound file has no FAT", 44)
        return fat

    def _chain(self, start: int, size: int | None, what: str) -> _Pieces:
        """Where a chain lies: exactly `size` bytes of it, or all to its end if None."""
        runs: list[tuple[int, int]] = []
        first = count = length = 0
        number = start
        most = self.file_size + self.sector
        while number != _END:
            if number > _LAST or number >= len(self.fat):
                raise Malformed(f"the chain of {what} leads nowhere after {length} bytes")
            self._claim(number, what)
            if number >= self.sectors - 1:  # the last one, or one beyond it: is there enough of it?
                self._sector_bytes(number, what, None if size is None else max(0, min(self.sector, size - length)))
            if count and number == first + count:
                count += 1
            else:
                if count:
                    runs.append((first, count))
                first, count = number, 1
            length += self.sector
            if length > most:
                raise Malformed(f"the chain of {what} is longer than the file")
            number = self.fat[number]
        if size is not None and length < size:
            raise Malformed(f"the chain of {what} ends after {length} of {size} bytes")
        if count:
            runs.append((first, count))
        return self._cut(runs, length if size is None else size)

    def _cut(self, runs: list[tuple[int, int]], size: int) -> _Pieces:
        """Longer chains than needed occur: what lies behind `size` bytes is none of the stream's."""
        pieces: _Pieces = []
        for first, count in runs:
            length = min(count * self.sector, size)
            if length:
                pieces.append(((first + 1) * self.sector, length))
            size -= length
        return pieces

    def _read(self, pieces: _Pieces) -> bytes:
        return Pieces(self._bytes.stream, pieces).read()

    def _load_directory(self, data: bytes) -> list[Stream]:
        if len(data) // 128 > _MAX_ENTRIES:
            raise Refused("a compound file of more entries than any document has: reading it was refused")
        entries = []
        for at in range(0, len(data) - 127, 128):
            length, kind = struct.unpack_from("<HB", data, at + 64)
            left, right, child = struct.unpack_from("<III", data, at + 68)
            start, size = struct.unpack_from("<IQ", data, at + 116)
            if self.sector == 512:
                size &= 0xFFFFFFFF
            if kind and (length < 2 or length > 64 or length % 2):
                kind = _IMPOSSIBLE  # what no tree leads to may hold anything
            name = data[at : at + max(length - 2, 0)].decode("utf-16-le", "replace") if kind else ""
            entries.append(Stream(name, kind, start, size, child, left, right))
        if not entries or entries[0].kind != _ROOT:
            raise Malformed("the directory does not begin with its root")
        return entries

    def _tree(self) -> dict[str, int]:
        """Path (parts joined by `/`) → entry number, by walking the tree. Loops are damage."""
        paths: dict[str, int] = {}
        seen: set[int] = set()
        stack = [(self.entries[0].child, "")]
        while stack:
            number, prefix = stack.pop()
            if number == _FREE:
                continue
            if number >= len(self.entries) or number in seen:
                raise Malformed("the directory tree has a loop or points nowhere")
            seen.add(number)
            entry = self.entries[number]
            if entry.kind == _IMPOSSIBLE:
                raise Malformed("a directory entry has an impossible name")
            if entry.kind not in (_STREAM, _STORAGE):
                raise Malformed("the directory tree points at an empty entry")
            paths[prefix + entry.name] = number
            stack += [(entry.left, prefix), (entry.right, prefix)]
            if entry.kind == _STORAGE:
                stack.append((entry.child, f"{prefix}{entry.name}/"))
        return paths

    def _stream_of(self, entry: Stream) -> bytes | _Pieces:
        """The bytes of a short stream, or where a long one lies."""
        if entry.size == 0:
            return b""
        if entry.size > self.file_size:
            raise Malformed(f"stream {entry.name} claims {entry.size} bytes, more than the file has")
        if entry.size >= self.cutoff:
            return self._chain(entry.start, entry.size, f"stream {entry.name}")
        out = bytearray()
        number, steps = entry.start, 0
        while number != _END and len(out) < entry.size:
            if number >= len(self.mini_fat) or (number + 1) * 64 > len(self._mini) + 63 or steps > len(self.mini_fat):
                raise Malformed(f"the chain of stream {entry.name} leads nowhere after {len(out)} bytes")
            out += self._mini[number * 64 : number * 64 + 64]
            number = self.mini_fat[number]
            steps += 1
        if len(out) < entry.size:
            raise Malformed(f"stream {entry.name} has {len(out)} of {entry.size} bytes")
        return bytes(out[: entry.size])

    def read(self, path: str) -> bytes | None:
        """The bytes of a stream by its path, None if there is none. Names match without regard to case."""
        found = self._found(path)
        return found if found is None or isinstance(found, bytes) else self._read(found)

    def data(self, path: str) -> Data:
        """As `read`, but of a long stream only pages are held; empty if there is none."""
        found = self._found(path)
        if found is None or isinstance(found, bytes):
            return found or b""
        size = sum(length for _, length in found)
        return load_or_page(Pieces(self._bytes.stream, found), size)

    def size(self, path: str) -> int | None:
        """The bytes of a stream, None if there is none."""
        found = self._found(path)
        if found is None:
            return None
        return len(found) if isinstance(found, bytes) else sum(length for _, length in found)

    def _found(self, path: str) -> bytes | _Pieces | None:
        if path in self._data:
            return self._data[path]
        folded = path.casefold()
        return next((found for name, found in self._data.items() if name.casefold() == folded), None)

    def has(self, path: str) -> bool:
        """Whether a stream or storage exists, without regard to case."""
        return path in self.paths or path.casefold() in self._folded


_TITLE, _AUTHOR, _LAST_AUTHOR, _SAVES, _CREATED, _SAVED, _CODEPAGE = 2, 4, 8, 9, 12, 13, 1


def properties(data: bytes) -> dict[int, object]:
    """The properties of the first section of a property set: id → text, number or time. Damage gives what was readable."""
    found: dict[int, object] = {}
    try:
        offset = struct.unpack_from("<I", data, 44)[0]
        _size, count = struct.unpack_from("<II", data, offset)
        codepage = "cp1252"
        for i in range(min(count, 200)):
            ident, at = struct.unpack_from("<II", data, offset + 8 + 8 * i)
            kind = struct.unpack_from("<I", data, offset + at)[0] & 0xFFFF
            value_at = offset + at + 4
            if kind == 2:
                value = struct.unpack_from("<H", data, value_at)[0]
                found[ident] = value
                if ident == _CODEPAGE:
                    codepage = {65001: "utf-8", 1200: "utf-16-le", 10000: "mac_roman"}.get(value, f"cp{value}")
            elif kind == 3:
                found[ident] = struct.unpack_from("<i", data, value_at)[0]
            elif kind in (30, 31):
                length = struct.unpack_from("<I", data, value_at)[0]
                raw = data[value_at + 4 : value_at + 4 + (length * 2 if kind == 31 else length)]
                text = raw.decode("utf-16-le" if kind == 31 else codepage, "replace")
                found[ident] = text.split("\0")[0]
            elif kind == 64:
                found[ident] = filetime(struct.unpack_from("<Q", data, value_at)[0])
    except (struct.error, LookupError, IndexError):
        pass
    return found


def summary(compound: Compound, format_name: str | None) -> Glance:
    """Title, author and times of a compound document."""
    from datetime import datetime

    from rustfern.formats.identity import of_making

    values = properties(compound.read("\x05SummaryInformation") or b"")

    def text(ident: int) -> str | None:
        value = values.get(ident)
        return value.strip() or None if isinstance(value, str) else None

    def time(ident: int) -> datetime | None:
        value = values.get(ident)
        return value if isinstance(value, datetime) else None

    made = of_making(time(_CREATED), text(_AUTHOR), text(_SAVES))
    author = text(_LAST_AUTHOR) or text(_AUTHOR)
    return Glance(format_name, text(_TITLE), author, time(_CREATED), time(_SAVED), identity=made)
