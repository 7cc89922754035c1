"""The streams of a damaged compound file: by its tables where they are there, by chains that begin nowhere else, by place where nothing tells.

Source: [MS-CFB] 2.2 (header), 2.3 (FAT), 2.4 (mini FAT), 2.6 (directory).
"""

from __future__ import annotations

import itertools
import struct

import msgspec

from rustfern.formats.office.compound_file import SIGNATURE
from rustfern.formats.office.compound_file import Stream as Listed

_END, _FREE, _FAT, _DIFAT = 0xFFFFFFFE, 0xFFFFFFFF, 0xFFFFFFFD, 0xFFFFFFFC
_LAST = 0xFFFFFFFA
_UNKNOWN = 0xFFFFFFFB
_STORAGE, _STREAM, _ROOT = 1, 2, 5
_MINI = 64
_CUTOFF = 4096
_MAX_STREAM = 256 << 20


class Entry(Listed, frozen=True):
    """One entry of the directory; `number` is its place in it, -1 where that is not known."""

    number: int


class Stream(msgspec.Struct):
    """The bytes of a stream as far as they are there, and whether all of them are."""

    data: bytes
    whole: bool


class CompoundSalvage:
    """The sectors of a damaged compound file. `streams` maps paths (parts joined by `/`) to what is there of each."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.sector = self._sector_size()
        self.count = max((len(data) + self.sector - 1) // self.sector - 1, 0)
        self.next = [_UNKNOWN] * self.count
        self._read_fat()
        self.entries = self._directory()
        self.streams: dict[str, Stream] = {}
        self._mini = b""
        self._mini_next: list[int] = []
        self._read_streams()

    def _sector_size(self) -> int:
        shift = int.from_bytes(self.data[30:32], "little") if self.data[:8] == SIGNATURE else 9
        return 1 << shift if shift in (9, 12) else 512

    def bytes_of(self, number: int) -> bytes:
        """One sector; empty or short where the file stops."""
        at = (number + 1) * self.sector
        return self.data[at : at + self.sector]

    # -- tables

    def _read_fat(self) -> None:
        """The chains: by the header's list of tables, and by sectors that look like a table at its place."""
        per = self.sector // 4
        numbers: list[int] = []
        if self.data[:8] == SIGNATURE:
            numbers = [n for n in struct.unpack_from("<109I", self.data.ljust(512, b"\0"), 76) if n < self.count]
            difat, steps = struct.unpack_from("<I", self.data.ljust(512, b"\0"), 68)[0], 0
            while difat < self.count and steps < self.count:
                values = struct.unpack(f"<{per}I", self.bytes_of(difat).ljust(self.sector, b"\xff"))
                numbers += [n for n in values[:-1] if n < self.count]
                difat, steps = values[-1], steps + 1
        if not numbers or not any(self._is_table(number, self._told(number)) for number in numbers):
            numbers = self._found_tables()
        for place, number in enumerate(numbers):
            values = self._told(number)
            if self._is_table(number, values):
                start = place * per
                for offset, value in enumerate(values):
                    if start + offset < self.count:
                        self.next[start + offset] = value
        for number in numbers:
            if number < self.count:
                self.next[number] = _FAT

    def _found_tables(self) -> list[int]:
        """Sectors that read as tables, in order: one counts if the table that covers its own place marks it as one."""
        per = self.sector // 4
        accepted: list[int] = []
        for number in range(self.count):
            values = self._told(number)
            if not self._is_table(number, values):
                continue
            place = number // per
            if place < len(accepted):
                covering = self._told(accepted[place])
            elif place == len(accepted):
                covering = values
            else:
                continue
            if len(covering) > number % per and covering[number % per] == _FAT:
                accepted.append(number)
        return accepted

    def _told(self, number: int) -> tuple[int, ...]:
        raw = self.bytes_of(number)
        return struct.unpack(f"<{len(raw) // 4}I", raw[: len(raw) // 4 * 4])

    def _is_table(self, number: int, values: tuple[int, ...]) -> bool:
        """Whether a sector reads as a table of chains: nothing beyond the file, and mostly each sector followed by the next."""
        if len(values) < self.sector // 4:
            return False
        inner = [v for v in values if v < _LAST]
        beyond = sum(v > self.count * 4 + 4096 for v in inner)
        steps = sum(b == a + 1 for a, b in itertools.pairwise(values) if a < _LAST and b < _LAST)
        marks = sum(v in (_END, _FREE, _FAT, _DIFAT) for v in values)
        return not beyond and (steps + marks) * 2 > len(values) and values.count(0) < 4

    def _directory(self) -> list[Entry]:
        """The entries of the directory: by its chain, else of every sector that reads as a part of one."""
        start = int.from_bytes(self.data[48:52], "little") if self.data[:8] == SIGNATURE else _END
        sectors = self._chain_numbers(start) if start < self.count else []
        if not any(self._is_directory(number) for number in sectors):
            sectors = [n for n in range(self.count) if self._is_directory(n)]
            roots = [n for n in sectors if self.bytes_of(n)[66:67] == b"\x05" and self._has_more(n)]
            if roots:
                sectors = [roots[-1], *(n for n in sectors if n > roots[-1])]
        out = []
        for place, number in enumerate(sectors):
            raw = self.bytes_of(number)
            for offset in range(0, len(raw) - 127, 128):
                entry = self._entry(raw[offset : offset + 128], (place * self.sector + offset) // 128)
                if entry is not None:
                    out.append(entry)
        return out

    def _has_more(self, number: int) -> bool:
        return self.bytes_of(number)[128 + 66 : 128 + 67] in (b"\x01", b"\x02")

    def _is_directory(self, number: int) -> bool:
        raw = self.bytes_of(number)
        if len(raw) < 128:
            return False
        good = 0
        for offset in range(0, len(raw) - 127, 128):
            each = raw[offset : offset + 128]
            length, kind, colour = struct.unpack_from("<HBB", each, 64)
            if kind == 0 and length == 0 and not each[:64].strip(b"\0"):
                continue
            if (
                kind not in (1, 2, 5)
                or colour > 1
                or not 2 <= length <= 64
                or length % 2
                or each[length - 2 : length] != b"\0\0"
            ):
                return False
            good += 1
        return good > 0

    def _entry(self, raw: bytes, number: int) -> Entry | None:
        length, kind = struct.unpack_from("<HB", raw, 64)
        if kind not in (_STORAGE, _STREAM, _ROOT) or not 2 <= length <= 64:
            return None
        left, right, child = struct.unpack_from("<III", raw, 68)
        start, size = struct.unpack_from("<II", raw, 116)
        return Entry(raw[: length - 2].decode("utf-16-le", "replace"), kind, start, size, child, left, right, number)

    # -- streams

    def _chain_numbers(self, start: int) -> list[int]:
        """The sectors of a chain; where its table is lost, each is followed by the next one that is no table."""
        out: list[int] = []
        seen: set[int] = set()
        number = start
        while number < self.count and number not in seen:
            seen.add(number)
            out.append(number)
            following = self.next[number]
            if following == _UNKNOWN:
                following = number + 1
                while following < self.count and self.next[following] == _FAT:
                    following += 1
                if following < self.count and self.next[following] not in (_UNKNOWN,) and self._begins_chain(following):
                    break
            number = following
        return out

    def _begins_chain(self, number: int) -> bool:
        return any(entry.start == number and entry.size >= _CUTOFF for entry in getattr(self, "entries", ()))

    def chain(self, start: int, size: int | None = None) -> Stream:
        """The bytes of a chain, at most `size`."""
        out = bytearray()
        for number in self._chain_numbers(start):
            out += self.bytes_of(number)
            if (size is not None and len(out) >= size) or len(out) > _MAX_STREAM:
                break
        whole = size is None or len(out) >= size
        return Stream(bytes(out if size is None else out[:size]), whole)

    def _read_streams(self) -> None:
        root = next((entry for entry in self.entries if entry.kind == _ROOT), None)
        header = self.data[:8] == SIGNATURE
        mini_start = int.from_bytes(self.data[60:64], "little") if header else _END
        if root is not None and root.size:
            self._mini = self.chain(root.start, root.size).data
            raw = self.chain(mini_start).data if mini_start < self.count else b""
            self._mini_next = list(struct.unpack(f"<{len(raw) // 4}I", raw[: len(raw) // 4 * 4]))
        paths = self._paths()
        for entry in self.entries:
            if entry.kind == _STREAM:
                path = paths.get(entry.number, entry.name)
                self.streams[path] = self._stream(entry)

    def _paths(self) -> dict[int, str]:
        """Entry → path, by the tree as far as it goes."""
        by_number = {entry.number: entry for entry in self.entries}
        paths: dict[int, str] = {}
        root = next((entry for entry in self.entries if entry.kind == _ROOT), None)
        stack = [(root.child, "")] if root is not None else []
        seen: set[int] = set()
        while stack:
            number, prefix = stack.pop()
            entry = by_number.get(number)
            if entry is None or number in seen:
                continue
            seen.add(number)
            paths[number] = prefix + entry.name
            stack += [(entry.left, prefix), (entry.right, prefix)]
            if entry.kind == _STORAGE:
                stack.append((entry.child, f"{prefix}{entry.name}/"))
        return paths

    def _stream(self, entry: Entry) -> Stream:
        if entry.size >= _CUTOFF:
            return self.chain(entry.start, entry.size)
        out = bytearray()
        number, steps = entry.start, 0
        while len(out) < entry.size and (number + 1) * _MINI <= len(self._mini) + _MINI - 1 and steps < 128:
            out += self._mini[number * _MINI : (number + 1) * _MINI]
            following = self._mini_next[number] if number < len(self._mini_next) else number + 1
            if following > _LAST and len(out) < entry.size:
                break
            number, steps = following, steps + 1
        return Stream(bytes(out[: entry.size]), len(out) >= entry.size)

    def find(self, name: str) -> Stream | None:
        """A stream by its name, in whatever storage."""
        small = name.casefold()
        for path, stream in self.streams.items():
            if path.casefold() == small or path.casefold().endswith("/" + small):
                return stream
        return None

    def heads(self) -> list[int]:
        """Sectors at which chains begin: none leads to them. Where the tables are lost, every sector may be one."""
        led = {n for n in self.next if n < self.count}
        return [n for n in range(self.count) if n not in led and self.next[n] not in (_FREE, _FAT, _DIFAT)]

    def by_first_bytes(self, *signs: bytes) -> Stream | None:
        """The longest chain that begins with one of these bytes: a stream whose entry is lost."""
        best: Stream | None = None
        for number in self.heads():
            if any(self.bytes_of(number).startswith(sign) for sign in signs):
                stream = self.chain(number)
                if best is None or len(stream.data) > len(best.data):
                    best = stream
        return best
