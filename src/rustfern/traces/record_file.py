"""A text kept line by line in a file of numbered records: what nvi leaves for the recovery of a text.

Layout: a Berkeley DB 3 to 5 b-tree of record numbers, little- or big-endian as its magic number says (`db_page.h` of its sources: metadata
page, `P_IRECNO`, `P_LRECNO`, `P_OVERFLOW`), each record one line without its line end; as observed on nvi 1.81. A letter beside it,
`recover.XXXXXX`, names the text and this file in its head.
"""

from __future__ import annotations

import re
import struct

import msgspec

from rustfern.core.errors import Malformed

_MAGIC, _MAGIC_AT, _HEAD = 0x53162, 12, 26
_INTERNAL, _LEAF, _OVERFLOW = 4, 6, 7
_PLAIN, _LONG, _DELETED = 1, 3, 0x80
_LIMIT = 256 << 20
_LETTER = re.compile(rb"^X-vi-recover-(file|path): ([^\r\n]+)", re.MULTILINE)


class Lines(msgspec.Struct, frozen=True):
    """The lines, and how many could not be read."""

    lines: list[bytes]
    missing: int


def letter(data: bytes) -> tuple[str, str] | None:
    """(name of the text as it was opened, path of its record file) from the head of a letter; None if it is no such letter."""
    told = {key: value.decode("utf-8", "surrogateescape") for key, value in _LETTER.findall(data[:4096])}
    return (told[b"file"], told[b"path"]) if len(told) == 2 else None


def parse(data: bytes) -> Lines:
    """All records in order. Raises `Malformed` where this is no record file, or not one can be read."""
    if len(data) > _LIMIT:
        raise Malformed("too large for the records of a text", _LIMIT)
    order = next((o for o in "<>" if data[_MAGIC_AT : _MAGIC_AT + 4] == struct.pack(o + "I", _MAGIC)), None)
    if order is None or len(data) < 512:
        raise Malformed("no file of records of an editor", 0)
    size, root = struct.unpack_from(order + "I", data, 20)[0], struct.unpack_from(order + "I", data, 88)[0]
    if size < 512 or size > 65536 or size & (size - 1):
        raise Malformed("its page size is none", 20)
    return _Reader(data, order, size).read(root)


class _Reader:
    def __init__(self, data: bytes, order: str, size: int) -> None:
        self.data, self.order, self.size = data, order, size
        self.missing = 0
        self._seen: set[int] = set()

    def read(self, root: int) -> Lines:
        lines: list[bytes] = []
        waiting = [root]
        while waiting:
            page = self._page(waiting.pop())
            if page is None:
                continue
            at, kind, offsets = page
            if kind == _INTERNAL:
                below = [self._numbers(at + offset, "I")[0] for offset in offsets if offset + 4 <= self.size]
                waiting += reversed(below)
            elif kind == _LEAF:
                lines += [line for offset in offsets if (line := self._record(at, offset)) is not None]
            else:
                self.missing += 1
        if not lines and self.missing:
            raise Malformed("none of its records can be read", root * self.size)
        return Lines(lines, self.missing)

    def _numbers(self, at: int, shape: str) -> tuple[int, ...]:
        return struct.unpack_from(self.order + shape, self.data, at)

    def _page(self, number: int) -> tuple[int, int, tuple[int, ...]] | None:
        """(where it begins, its type, where its entries begin in it); None for one that is not there, or was read before."""
        at = number * self.size
        if number in self._seen or at + self.size > len(self.data):
            self.missing += 1
            return None
        self._seen.add(number)
        count, _, _, kind = self._numbers(at + 20, "HHBB")
        if _HEAD + 2 * count > self.size:
            self.missing += 1
            return None
        return at, kind, self._numbers(at + _HEAD, f"{count}H")

    def _record(self, at: int, offset: int) -> bytes | None:
        if offset + 12 > self.size and offset + 3 > self.size:
            self.missing += 1
            return None
        length, kind = self._numbers(at + offset, "HB")
        if kind & _DELETED:
            return None
        if kind == _PLAIN and offset + 3 + length <= self.size:
            return self.data[at + offset + 3 : at + offset + 3 + length]
        if kind == _LONG and offset + 12 <= self.size:
            first, total = self._numbers(at + offset + 4, "II")
            return self._long(first, total)
        self.missing += 1
        return None

    def _long(self, number: int, total: int) -> bytes | None:
        parts: list[bytes] = []
        while number and number * self.size + self.size <= len(self.data) and number not in self._seen:
            self._seen.add(number)
            at = number * self.size
            number, _, held, _, kind = self._numbers(at + 16, "IHHBB")
            if kind != _OVERFLOW:
                break
            parts.append(self.data[at + _HEAD : at + _HEAD + min(held, self.size - _HEAD)])
        whole = b"".join(parts)
        if len(whole) < total:
            self.missing += 1
            return None
        return whole[:total]
