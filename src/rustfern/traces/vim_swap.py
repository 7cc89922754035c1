"""Swap files of Vim and Neovim: block 0 (whose, of what), and the text from pointer and data blocks.

Layout as observed on Vim 9.0 and Neovim 0.7 and 0.12, and as in Vim's public source (memline.c: ZERO_BL, PTR_EN, DATA_BL). Pages of
`page size` bytes: block 0, the root pointer block, then pointer and data blocks. A pointer entry with a negative block number stands for
lines that were never read into the swap: they are still those of the original file. Also nano's lock, which looks like a block 0.
"""

from __future__ import annotations

import struct
from datetime import datetime
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed
from rustfern.core.model import Rebuilt
from rustfern.core.times import utc

NANO_SIZE = 1024
_MAX_DEPTH = 20
_MAX_LINES = 20_000_000
_MAGIC = 0x30313233
_DIRTY = 0x55
_ENDS = {1: b"\n", 2: b"\r\n", 3: b"\r"}


class SwapHeader(msgspec.Struct, frozen=True):
    """Block 0. `path` as recorded (`~user/…` stands for that user's home; empty: never named). `opened_version` is the
    time of the original when it was opened. `line_end` and `encoding` are how the original is written."""

    program: str
    page_size: int
    user: str
    host: str
    path: str
    pid: int
    opened_version: datetime | None
    dirty: bool
    encrypted: bool
    lock_only: bool
    line_end: bytes
    encoding: str


def _text(raw: bytes) -> str:
    return raw.split(b"\0")[0].decode("utf-8", "surrogateescape")


def parse(stream: BinaryIO) -> SwapHeader:
    """Read block 0. Raises `Malformed` if this is no swap file and no lock of nano."""
    stream.seek(0)
    head = stream.read(4096)
    if len(head) < NANO_SIZE or head[:1] != b"b" or head[1:2] not in b"0dcC":
        raise Malformed("not a swap file: its first block is missing", 0)
    program = _text(head[2:12]).strip()
    lock_only = program.startswith("nano")
    page, mtime, _inode, pid = struct.unpack_from("<IIII", head, 12)
    if lock_only:
        user, host = _text(head[28:44]), _text(head[68:100])
    else:
        user, host = _text(head[28:68]), _text(head[68:108])
        if struct.unpack_from("<I", head, 1008)[0] != _MAGIC or not 512 <= page <= 1 << 20 or page & (page - 1):
            raise Malformed("the first block of the swap file is damaged", 1008)
    flags = head[1006]
    encoding = ""
    if flags & 8:
        encoding = head[108:1006].rpartition(b"\0")[2].decode("ascii", "replace")
    return SwapHeader(
        program, page, user, host, _text(head[108:1006]), pid, utc(mtime) if mtime else None, head[1007] == _DIRTY,
        head[1:2] != b"0", lock_only, _ENDS.get(flags & 3, b"\n"), encoding,
    )  # fmt: skip


class _Walk:
    def __init__(self, stream: BinaryIO, size: int, page: int, original: list[bytes] | None, encoding: str) -> None:
        self.stream, self.page, self.original = stream, page, original
        self.pages = (size + page - 1) // page
        self.seen: set[int] = set()
        self.lines: list[bytes] = []
        self.from_original = self.missing = 0
        self.encoding = encoding

    def block(self, number: int, count: int) -> bytes:
        if number <= 0 or count <= 0 or number + count > self.pages + 1:
            raise Malformed(f"block {number} of the swap file lies beyond its end", number * self.page)
        if number in self.seen:
            raise Malformed(f"block {number} of the swap file is used twice", number * self.page)
        self.seen.add(number)
        self.stream.seek(number * self.page)
        data = self.stream.read(count * self.page)
        if len(data) < 24:
            raise Malformed(f"block {number} of the swap file is cut off", number * self.page)
        return data

    def pointers(self, number: int, depth: int) -> None:
        if depth > _MAX_DEPTH:
            raise Malformed("the blocks of the swap file are nested too deep", number * self.page)
        data = self.block(number, 1)
        if data[:2] != b"tp":
            raise Malformed(f"block {number} of the swap file is no pointer block", number * self.page)
        count, room = struct.unpack_from("<HH", data, 2)
        wide = room == (self.page - 8) // 32
        width = 32 if wide else 24
        if not wide and room != (self.page - 8) // 24:
            raise Malformed(f"block {number} of the swap file has a wrong size", number * self.page)
        if count > room or 8 + count * width > len(data):
            raise Malformed(f"block {number} of the swap file claims more entries than it can hold", number * self.page)
        for index in range(count):
            at = 8 + index * width
            block, lines, old, pages = struct.unpack_from("<qqqi" if wide else "<qiii", data, at)
            if lines < 0 or len(self.lines) + lines > _MAX_LINES:
                raise Malformed("the swap file counts more lines than a text can have", number * self.page + at)
            if block < 0:
                self._take_original(old, lines)
                continue
            if not 0 < block < self.pages:
                raise Malformed(f"block {block} of the swap file lies beyond its end", number * self.page + at)
            self.stream.seek(block * self.page)
            if self.stream.read(2) == b"tp":
                self.pointers(block, depth + 1)
            else:
                self._take_data(block, pages, lines)

    def _take_original(self, first: int, lines: int) -> None:
        there = self.original[first - 1 : first - 1 + lines] if self.original is not None and first > 0 else []
        self.lines += there
        self.from_original += len(there)
        self.missing += lines - len(there)

    def _take_data(self, number: int, pages: int, lines: int) -> None:
        data = self.block(number, pages)
        if data[:2] != b"ad":
            raise Malformed(f"block {number} of the swap file is no data block", number * self.page)
        _free, start, end = struct.unpack_from("<III", data, 4)
        count = struct.unpack_from("<q", data, 16)[0]
        if count != lines or count < 0 or 24 + 4 * count > len(data) or end > len(data) or start > end:
            raise Malformed(f"block {number} of the swap file contradicts its pointer", number * self.page)
        for place in struct.unpack_from(f"<{count}I", data, 24):
            at = place & 0x7FFFFFFF
            stop = data.find(b"\0", at)
            if not start <= at < end or stop < 0:
                raise Malformed(f"a line in block {number} of the swap file lies outside it", number * self.page)
            self.lines.append(self._encode(data[at:stop].replace(b"\n", b"\0")))

    def _encode(self, line: bytes) -> bytes:
        """The editor holds text as UTF-8; the file is written in its own encoding."""
        if self.encoding.casefold() in ("", "utf-8", "utf8") or line.isascii():
            return line
        try:
            return line.decode("utf-8").encode(self.encoding)
        except (UnicodeError, LookupError):
            return line


def rebuild(stream: BinaryIO, size: int, original: bytes | None) -> Rebuilt:
    """Rebuild the text. `original` are the bytes of the very version that was opened, None if there is none.

    Raises `Malformed` where blocks contradict each other; missing lines are counted, not an error.
    """
    header = parse(stream)
    if header.encrypted or header.lock_only:
        raise Malformed("this swap file holds no readable text")
    before = None
    if original is not None:
        before = original.split(header.line_end)
        if before and before[-1] == b"":
            before.pop()
    walk = _Walk(stream, size, header.page_size, before, header.encoding)
    walk.pointers(1, 0)
    body = header.line_end.join(walk.lines) + (header.line_end if walk.lines else b"")
    return Rebuilt(body, len(walk.lines), walk.from_original, walk.missing)
