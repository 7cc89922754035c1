"""The cells of a sheet many at a time, as programs write them by the million: a piece of the part is taken only where every cell in it is
accounted for by one pattern; all else is told element by element.

Source: ECMA-376 part 1, 18.3.1.4 (c), 18.3.1.96 (v), 18.3.1.40 (f), 18.3.1.53 (is).
"""

from __future__ import annotations

import re
from operator import itemgetter

ROW_END = b"</row>"
_CELL = re.compile(
    rb'<c r="([A-Z]{1,3})([0-9]{1,7})"(?: s="([0-9]{1,6})")?(?: t="([A-Za-z]+)")?(?: s="([0-9]{1,6})")?'
    rb"(?:/>|>(?:<f(?: [^<>]*[^<>/])?>[^<]*</f>|<f(?: [^<>]*)?/>)?"
    rb"(?:<v>([^<]+)</v>|<is><t(?: xml:space=\"preserve\")?>([^<]+)</t></is>)?</c>)"
)
_ELSEWHERE = (b":c ", b":c>", b":v>", b":v ", b":t>", b":t ", b"<c>", b"<c/", b"<!", b"<rPh", b"<v ", b"<v/", b"<t/")
_REFERENCE = re.compile(r"&(amp|lt|gt|quot|apos);")
_REFERENCES = re.compile(_REFERENCE.pattern.encode())
_MEANT = {"amp": "&", "lt": "<", "gt": ">", "quot": '"', "apos": "'"}
_DECLARATION = re.compile(rb"\s*<\?xml\s[^>]*\?>\s*")
_ENCODING = re.compile(rb"encoding\s*=\s*[\"']([^\"']*)")
_MARK = b"\xef\xbb\xbf"

Cell = tuple[bytes, bytes, bytes, bytes, bytes, bytes, bytes]
"""Letters of the column, digits of the row, style, type, style (behind the type), value, text of its own; empty where there is none."""


def cells_of(data: bytes, *, first: bool) -> list[Cell] | None:
    """The cells in a piece of a sheet's part (`first`: its beginning), in order; None where one of them is not written as most are."""
    start = 0
    if first:
        start = len(_MARK) if data.startswith(_MARK) else 0
        if declared := _DECLARATION.match(data, start):
            encoding = _ENCODING.search(declared[0])
            if encoding and encoding[1].lower() not in (b"utf-8", b"us-ascii"):
                return None
            start = declared.end()
    if any(data.find(sign, start) >= 0 for sign in (*_ELSEWHERE, b"<?", b"\r")):
        return None
    count = data.count
    if b"&" in data and count(b"&", start) != len(_REFERENCES.findall(data, start)):
        return None
    found: list[Cell] = _CELL.findall(data, start)
    values, texts = (sum(map(bool, map(itemgetter(at), found))) for at in (5, 6))
    there = count(b"<c ", start), count(b"<v>", start), count(b"<t>", start) + count(b"<t ", start)
    return found if (len(found), values, texts) == there else None


def text_of(value: bytes) -> str:
    """What a value says; the only references in it are the five that need no declaration (XML 1.0, 4.6)."""
    text = value.decode("utf-8", "replace")
    return _REFERENCE.sub(lambda found: _MEANT[found[1]], text) if "&" in text else text


def column_of(letters: bytes) -> int:
    """The number of a column, from 1."""
    column = 0
    for letter in letters:
        column = column * 26 + letter - 64
    return column
