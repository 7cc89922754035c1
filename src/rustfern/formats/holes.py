"""Sectors that were never written, or were lost, inside data that is otherwise there: zeros that begin and end just where sectors do."""

from __future__ import annotations

import re
from collections.abc import Iterator

from rustfern.formats.paged_bytes import Data

SECTOR = 512
_WINDOW = 1 << 20
_ZEROS = re.compile(rb"\0{512,}")


def lost_sector(data: Data, start: int = 0, end: int | None = None) -> int | None:
    """Where the first run of zeros that fills whole sectors and nothing else begins, between two places of a file or a stream; None if there
    is none. Packed data may hold a long run of zeros by itself, but hardly one that keeps to sectors at both its ends (1 in 262,144).
    """
    last = len(data) if end is None else end
    if isinstance(data, bytes):
        if data.find(bytes(SECTOR), start, last) < 0:
            return None
        return next((begin for begin, finish in _runs(data, start, last) if _is_sectors(begin, finish)), None)
    while start < last:
        window = data[start : min(start + _WINDOW, last)]
        upto = start + len(window)
        for begin, finish in _runs(window, 0, len(window)):
            ends = start + finish
            while ends >= upto and ends < last:  # it goes on behind the window
                further = data[ends : min(ends + _WINDOW, last)]
                ends += len(further) - len(further.lstrip(b"\0"))
                if further.strip(b"\0"):
                    break
            if _is_sectors(start + begin, ends):
                return start + begin
            upto = max(upto, ends)
        zeros = len(window) - len(window.rstrip(b"\0"))
        start = upto if upto > start + len(window) or not zeros or zeros == len(window) else upto - zeros
    return None


def _runs(data: bytes, start: int, end: int) -> Iterator[tuple[int, int]]:
    return (found.span() for found in _ZEROS.finditer(data, start, end))


def _is_sectors(begin: int, end: int) -> bool:
    return begin % SECTOR == 0 and end % SECTOR == 0
