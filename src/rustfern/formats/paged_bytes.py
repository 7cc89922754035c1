"""A file as if it were one `bytes`, with only a few pages of it in memory: large files are checked in bounded memory.

Not a memory map: where a disk gives read errors, or a file shrinks while it is read, a map would end the program.
"""

from __future__ import annotations

import io
import re
import struct
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Sequence
from itertools import accumulate
from typing import Any, BinaryIO, overload

HELD = 32 << 20
"""Files up to this many bytes are held whole."""
_PAGE = 1 << 18
_PAGES = 32
_REACH = 1 << 12
_LAST = 64 << 20


class Found:
    """A match at its place in the file."""

    __slots__ = ("_base", "_match")

    def __init__(self, match: re.Match[bytes], base: int) -> None:
        self._match, self._base = match, base

    def __getitem__(self, group: int) -> bytes:
        return self._match[group]

    def groups(self) -> tuple[bytes | None, ...]:
        """All groups."""
        return self._match.groups()

    def start(self) -> int:
        """Where the match begins, bytes from the start of the file."""
        return self._base + self._match.start()

    def end(self) -> int:
        """Where the match ends, bytes from the start of the file."""
        return self._base + self._match.end()


class Paged:
    """Slices, searches and matches over a seekable stream of `size` bytes."""

    def __init__(self, stream: BinaryIO, size: int) -> None:
        self._stream, self._size = stream, size
        self._pages: OrderedDict[int, bytes] = OrderedDict()

    def __len__(self) -> int:
        return self._size

    def _page(self, number: int) -> bytes:
        page = self._pages.get(number)
        if page is None:
            self._stream.seek(number * _PAGE)
            page = self._pages[number] = self._stream.read(_PAGE)
            if len(self._pages) > _PAGES:
                self._pages.popitem(last=False)
        else:
            self._pages.move_to_end(number)
        return page

    @overload
    def __getitem__(self, at: int) -> int: ...

    @overload
    def __getitem__(self, at: slice) -> bytes: ...

    def __getitem__(self, at: int | slice) -> int | bytes:
        if isinstance(at, int):
            at += self._size if at < 0 else 0
            if not 0 <= at < self._size:
                raise IndexError("beyond the end of the file")
            return self._page(at // _PAGE)[at % _PAGE]
        start, stop, _ = at.indices(self._size)
        if stop <= start:
            return b""
        first, last = start // _PAGE, (stop - 1) // _PAGE
        if first == last:
            return self._page(first)[start % _PAGE : start % _PAGE + stop - start]
        if last - first >= _PAGES // 2:
            self._stream.seek(start)
            return self._stream.read(stop - start)
        return b"".join(self._page(n) for n in range(first, last + 1))[start % _PAGE : start % _PAGE + stop - start]

    def find(self, what: bytes, start: int = 0, stop: int | None = None) -> int:
        """Where `what` is first found, -1 if nowhere."""
        stop = self._size if stop is None else min(stop, self._size)
        while start < stop:
            upto = min(start + _PAGE + len(what) - 1, stop)
            found = self[start:upto].find(what)
            if found >= 0:
                return start + found
            start += _PAGE
        return -1

    def rfind(self, what: bytes) -> int:
        """Where `what` is last found in the last 64 MB, -1 if nowhere."""
        stop = self._size
        while stop > max(self._size - _LAST, 0):
            start = max(stop - _PAGE, 0)
            found = self[start : min(stop + len(what) - 1, self._size)].rfind(what)
            if found >= 0:
                return start + found
            stop = start
        return -1

    def startswith(self, what: bytes, at: int = 0) -> bool:
        """Whether `what` stands at a place."""
        return self[at : at + len(what)] == what

    def match(self, pattern: re.Pattern[bytes], at: int, *, search: bool = False) -> Found | None:
        """Match a pattern at a place (or from there on), with as much of the file as it needs."""
        reach = _REACH
        while True:
            window = self[at : at + reach]
            found = pattern.search(window) if search else pattern.match(window)
            ended = at + reach >= self._size
            if ended or (found is not None and found.end() < len(window)) or (found is None and not search):
                return None if found is None else Found(found, at)
            reach *= 4


class _Inside(io.RawIOBase, BinaryIO):
    """A stream of `size` bytes out of another one: its place, and how it is moved."""

    def __init__(self, stream: BinaryIO, size: int) -> None:
        super().__init__()
        self._stream, self._size, self._at = stream, size, 0

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go to a place."""
        self._at = max(offset + {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence], 0)
        return self._at

    def tell(self) -> int:
        """The place."""
        return self._at

    def seekable(self) -> bool:
        """Yes."""
        return True

    def readable(self) -> bool:
        """Yes."""
        return True

    def _left(self, size: int | None) -> int:
        """How many bytes to read from the place on, where so many are asked for (all, if it is negative or None)."""
        left = max(self._size - self._at, 0)
        return left if size is None or size < 0 else min(size, left)


class Pieces(_Inside):
    """Pieces of a stream, (first byte, bytes) each, as one stream; bytes that the stream lacks at a piece's end are zeros."""

    def __init__(self, stream: BinaryIO, pieces: Sequence[tuple[int, int]]) -> None:
        self._pieces = pieces
        self._starts = list(accumulate((size for _, size in pieces), initial=0))
        super().__init__(stream, self._starts[-1])

    def read(self, size: int = -1) -> bytes:
        """The next bytes."""
        left = self._left(size)
        out = []
        number = bisect_right(self._starts, self._at) - 1
        while left:
            first, length = self._pieces[number]
            inside = self._at - self._starts[number]
            count = min(length - inside, left)
            self._stream.seek(first + inside)
            out.append(self._stream.read(count).ljust(count, b"\0"))
            self._at, left, number = self._at + count, left - count, number + 1
        return out[0] if len(out) == 1 else b"".join(out)


class Part(_Inside):
    """The first `size` bytes of a stream, as a stream."""

    def read(self, size: int = -1) -> bytes:
        """The next bytes."""
        left = self._left(size)
        self._stream.seek(self._at)
        data = self._stream.read(left)
        self._at += len(data)
        return data


Data = bytes | Paged


def load_or_page(stream: BinaryIO, size: int) -> Data:
    """The whole content: as `bytes` if it is small, else paged."""
    stream.seek(0)
    return stream.read(size) if size <= HELD else Paged(stream, size)


def matched(pattern: re.Pattern[bytes], data: Data, at: int) -> re.Match[bytes] | Found | None:
    """What a pattern finds at a place."""
    return pattern.match(data, at) if isinstance(data, bytes) else data.match(pattern, at)


def searched(pattern: re.Pattern[bytes], data: Data, at: int) -> re.Match[bytes] | Found | None:
    """What a pattern finds from a place on."""
    return pattern.search(data, at) if isinstance(data, bytes) else data.match(pattern, at, search=True)


def unpack(form: str, data: Data, at: int) -> tuple[Any, ...]:
    """`struct.unpack_from` for either. Raises `struct.error` beyond the end."""
    return struct.unpack(form, data[at : at + struct.calcsize(form)])
