"""Letters that stand in a file of no known kind: runs of them between whatever else it holds.

Source: Unicode 15, 3.9 (UTF-8, UTF-16).
"""

from __future__ import annotations

import re
from typing import BinaryIO

from rustfern.formats.text_sink import Piece

_BLOCK = 1 << 20
_SIGN = rb"[\x09\x20-\x7e]"
_RUN = re.compile(
    rb"(?:" + _SIGN + rb"|[\xc2-\xdf][\x80-\xbf]|[\xe0-\xef][\x80-\xbf]{2}|[\xf0-\xf4][\x80-\xbf]{3}){6,}+"
    rb"|(?P<wide>(?:" + _SIGN + rb"\0|[\xa0-\xff]\0|[^\0]\x01|[^\0]\x03|[^\0]\x04){6,}+)"
)
_LEAST_LETTERS = 4
_LONGEST = 1 << 16


def letters_in(stream: BinaryIO, keep: int) -> list[Piece]:
    """Its runs of at least six signs with four letters among them, in UTF-8 or UTF-16 (little-endian), up to `keep` characters, in order."""
    found: list[Piece] = []
    stream.seek(0)
    data = stream.read(_BLOCK)
    while data and keep > 0:
        more = stream.read(_BLOCK)
        done = len(data)
        for run in _RUN.finditer(data):
            if run.end() == len(data) and more and run.end() - run.start() < _LONGEST:
                done = run.start()  # it may go on
                break
            text = run[0].decode("utf-16-le" if run["wide"] else "utf-8", "replace").strip()
            if sum(map(str.isalpha, text)) >= _LEAST_LETTERS:
                found.append(Piece(text[:keep], "line"))
                keep -= len(text)
                if keep <= 0:
                    break
        data = data[done:] + more
    return found
