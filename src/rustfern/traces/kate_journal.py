"""Kate's journal of a text, `.NAME.kate-swp`: what was changed since the text was loaded, replayed on the version it fits.

Layout as observed on Kate 22.12 and in KTextEditor's public source (kateswapfile.cpp): a QDataStream, big-endian: the mark "Kate Swap File 2.0",
the SHA-1 of the loaded text as a git blob, then records of one letter: S and E (begin and end of an edit), I (insert: line, column, text),
R (remove: line, from, to), W (split a line), U (join a line with the one before). Columns count UTF-16 units.
"""

from __future__ import annotations

import hashlib
import struct

import msgspec

from rustfern.core.errors import Malformed
from rustfern.core.model import Rebuilt

_MARK = b"Kate Swap File 2.0"
_LIMIT = 256 << 20


class Journal(msgspec.Struct, frozen=True):
    """`base` is the git blob id of the text that it fits; `changes` are its records; `cut_at` where it stops in mid record."""

    base: bytes
    changes: tuple[tuple[str, int, int, int, str], ...]
    cut_at: int | None


def blob_id(data: bytes) -> bytes:
    """The SHA-1 of a text as git counts it: `blob SIZE NUL bytes`."""
    return hashlib.sha1(b"blob %d\0" % len(data) + data, usedforsecurity=False).digest()


def parse(data: bytes) -> Journal:
    """Read a journal; one that stops in mid record is kept as far as its last whole record. Raises `Malformed` if it is none."""
    if len(data) < 46 or len(data) > _LIMIT or data[:4] != len(_MARK).to_bytes(4, "big") or data[4:22] != _MARK:
        raise Malformed("not a journal of the editor", 0)
    if data[22:26] != (20).to_bytes(4, "big"):
        raise Malformed("the journal's sum is missing", 22)
    changes: list[tuple[str, int, int, int, str]] = []
    at, end = 46, len(data)
    while at < end:
        kind = chr(data[at])
        size = {"S": 0, "E": 0, "I": 12, "R": 12, "W": 8, "U": 4}.get(kind)
        if size is None:
            raise Malformed(f"the journal holds an unknown record {data[at]:#x}", at)
        if at + 1 + size > end:
            return Journal(data[26:46], tuple(changes), at)
        numbers = struct.unpack_from(f">{size // 4}i", data, at + 1)
        line, first, second = (*numbers, 0, 0, 0)[:3]
        text = ""
        if kind == "I":
            length = max(second, 0)
            if at + 13 + length > end:
                return Journal(data[26:46], tuple(changes), at)
            text = data[at + 13 : at + 13 + length].decode("utf-8", "replace")
            size += length
        if size:
            changes.append((kind, line, first, second, text))
        at += 1 + size
    return Journal(data[26:46], tuple(changes), None)


def _cut(line: str, column: int) -> int:
    """The place in a line of a column in UTF-16 units."""
    if line.isascii() or column <= 0:
        return column
    return len(line.encode("utf-16-le")[: 2 * column].decode("utf-16-le", "ignore"))


def replay(journal: Journal, original: bytes) -> Rebuilt:
    """Apply the records to the text that they fit. Raises `Malformed` where one points beyond the text."""
    try:
        lines = original.decode("utf-8").split("\n")
    except UnicodeDecodeError as error:
        raise Malformed("the text that the journal fits is not UTF-8", error.start) from error
    for kind, line, first, second, text in journal.changes:
        if not 0 <= line < len(lines) or (kind == "U" and line == 0):
            raise Malformed(f"the journal speaks of line {line + 1}, which does not exist")
        now = lines[line]
        start = _cut(now, first)
        if kind == "I":
            lines[line] = now[:start] + text + now[start:]
        elif kind == "R":
            lines[line] = now[:start] + now[_cut(now, second) :]
        elif kind == "W":
            lines[line : line + 1] = [now[:start], now[start:]]
        elif kind == "U":
            lines[line - 1 : line + 1] = [lines[line - 1] + now]
    return Rebuilt("\n".join(lines).encode(), len(lines), len(lines), 0)
