"""Tabs of the Windows editor that were not saved: a head, the text in UTF-16, changes behind it.

Layout as reported from the field, not published: `NP`, a counter, 1 for a tab with a file (its path by length, size, encoding, line
ends, file time, SHA-256) or 0, the selection, options, the text by its length in UTF-16 units, a flag, a CRC-32 of all since the
counter, then changes: position, units taken out, units put in (with their text), a CRC-32 each. Lengths are LEB128.
"""

from __future__ import annotations

import zlib

import msgspec

from rustfern.core.errors import Malformed
from rustfern.traces.facts import UnsavedText

_MAX = 64 << 20
_HEAD = 2048
"""In a layout that is not known, the text begins within so many bytes."""


class Tab(msgspec.Struct, frozen=True):
    """`path` of the tab's file (empty: never saved), its text, whether the sums in it fit (None: it has none that we know)."""

    path: str
    text: str
    verified: bool | None


class _Bytes:
    def __init__(self, data: bytes, at: int) -> None:
        self.data, self.at = data, at

    def take(self, count: int) -> bytes:
        if count < 0 or self.at + count > len(self.data):
            raise Malformed("it is cut off", len(self.data))
        piece = self.data[self.at : self.at + count]
        self.at += count
        return piece

    def number(self) -> int:
        value = shift = 0
        while True:
            byte = self.take(1)[0]
            value |= (byte & 0x7F) << shift
            shift += 7
            if not byte & 0x80:
                return value
            if shift > 63:
                raise Malformed("a length in it is impossible", self.at)

    def text(self, units: int) -> str:
        start = self.at
        try:
            return self.take(units * 2).decode("utf-16-le")
        except UnicodeDecodeError as error:
            raise Malformed("its text is no text", start) from error


def parse(data: bytes) -> Tab:
    """Read a tab. Raises `Malformed` if its text cannot be told."""
    if data[:2] != b"NP":
        raise Malformed("it does not start like a tab of the editor", 0)
    if len(data) > _MAX:
        raise Malformed("too large for a tab", _MAX)
    try:
        return _known(data)
    except Malformed:
        return _guessed(data)


def unsaved(data: bytes) -> UnsavedText:
    """The same as of any unsaved text, in UTF-8. Raises `Malformed`."""
    tab = parse(data)
    return UnsavedText(tab.path, "Unnamed text", tab.text.encode("utf-8", "surrogatepass"))


def _known(data: bytes) -> Tab:
    read = _Bytes(data, 2)
    read.number()
    start = read.at - 1 if read.at == 3 else 2
    kind = read.number()
    path = ""
    if kind == 1:
        path = read.text(read.number())
        for _ in range(4):
            read.number()
        read.take(32)
        read.take(2)
    elif kind == 0:
        read.take(1)
    else:
        raise Malformed("its kind is not known", 3)
    read.number(), read.number()
    read.take(3)
    options = read.number()
    read.take(options)
    text = list(_units(read.text(read.number())))
    read.take(1)
    fits = [_sum_fits(data, (3, start, 2), read)]
    while read.at < len(data):
        begin = read.at
        position, out = read.number(), read.number()
        put = _units(read.text(read.number()))
        if position + out > len(text):
            raise Malformed("a change in it lies behind its end", begin)
        text[position : position + out] = put
        fits.append(_sum_fits(data, (begin,), read))
    return Tab(path, b"".join(text).decode("utf-16-le", "replace"), all(fits))


def _units(text: str) -> list[bytes]:
    raw = text.encode("utf-16-le")
    return [raw[at : at + 2] for at in range(0, len(raw), 2)]


def _sum_fits(data: bytes, starts: tuple[int, ...], read: _Bytes) -> bool:
    end = read.at
    wanted = int.from_bytes(read.take(4), "big")
    if not any(zlib.crc32(data[start:end]) == wanted for start in starts):
        raise Malformed("a sum in it does not fit", end)
    return True


def _guessed(data: bytes) -> Tab:
    """Another layout: the longest text that stands behind its own length; a path before it is the tab's file."""
    found: list[str] = []
    for at in range(2, min(len(data) - 2, _HEAD)):
        read = _Bytes(data, at)
        try:
            units = read.number()
            text = read.text(units) if units > 1 else ""
        except Malformed:
            continue
        if text and all(ch.isprintable() or ch in "\r\n\t" for ch in text):
            found.append(text)
    path = next((text for text in found if text[1:3] == ":\\" or text.startswith("\\\\")), "")
    texts = [text for text in found if text != path]
    if not texts:
        raise Malformed("no text could be told apart in it", 2)
    return Tab(path, max(texts, key=len), None)
