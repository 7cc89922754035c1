"""Sectors that were never written, or were lost, inside data that is otherwise there: zeros that begin and end just where sectors do."""

from __future__ import annotations

import re

SECTOR = 512
_ZEROS = re.compile(rb"\0{512,}")


def lost_sector(data: bytes, start: int = 0, end: int | None = None) -> int | None:
    """Where the first run of zeros that fills whole sectors and nothing else begins, between two places of a file or a stream; None if there
    is none. Packed data may hold a long run of zeros by itself, but hardly one that keeps to sectors at both its ends (1 in 262,144).
    """
    last = len(data) if end is None else end
    if data.find(bytes(SECTOR), start, last) < 0:
        return None
    for found in _ZEROS.finditer(data, start, last):
        if found.start() % SECTOR == 0 and found.end() % SECTOR == 0:
            return found.start()
    return None
