"""PDF: revisions one behind the other, each with its own end, told by where it says that its table of objects begins.

Source: ISO 32000-1, 7.5.5 (trailer), 7.5.6 (incremental updates), annex F.2 (linearised: the length of the file). An end whose table does not
begin where it says belongs to a PDF inside of this one.
"""

from __future__ import annotations

import re

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole

_END = b"%%EOF"
_START = re.compile(rb"startxref\s+(\d{1,15})\s+$")
_TABLE = re.compile(rb"\s*(?:xref\b|\d+\s+\d+\s+obj\b)")
_GOES_ON = re.compile(rb"\s*(?:\d+\s+\d+\s+obj\b|xref\b|%(?!PDF-))")
_LENGTH = re.compile(rb"/Linearized\b.{0,200}?/L\s+(\d{1,15})|/L\s+(\d{1,15}).{0,200}?/Linearized\b", re.DOTALL)
_HEAD = re.compile(rb"%PDF-\d\.\d")
_STEP, _SECTOR, _MOST_ATTACHED = 64 << 20, 512, 4


def measure(data: Bytes) -> Reach | None:
    """Measure to the end of the last revision."""
    head = data[0:2048]
    if not _HEAD.match(head):
        return None
    at = end = 0
    if found := _LENGTH.search(head):
        length = int(found[1] or found[2])
        if 0 < length <= len(data) and _END in data[max(length - 32, 0) : length]:
            at = end = length
            if not _GOES_ON.match(data[at : at + 256]):
                return whole(end)
    while True:
        here = _next_end(data, at)
        if here < 0:
            break
        told = _START.search(data[max(here - 64, 0) : here])
        at = here + len(_END)
        if told is None or not _is_table(data, int(told[1]), here):
            continue
        end = at + _line_end(data[at : at + 2])
        if not _GOES_ON.match(data[end : end + 256]):
            return whole(end)
    if end:
        return whole(end)
    last = _last_object(data)
    return broken(last, "its end is not here", last) if last else None


def _next_end(data: Bytes, at: int) -> int:
    """The next mark of an end; -1 where another document begins before it, or nothing of a PDF comes for long."""
    others = 0
    while at < len(data):
        upto = min(at + _STEP, len(data))
        here = data.find(_END, at, upto)
        stop = here if here >= 0 else upto
        other = data.find(b"%PDF-", max(at, 1), stop)
        while 0 <= other < stop:
            if other % _SECTOR == 0:
                others += 1
                # One that is attached begins at a sector by chance only.
                if others > _MOST_ATTACHED or data.find(b"endobj", at, other) < 0:
                    return -1
            other = data.find(b"%PDF-", other + 5, stop)
        if here >= 0:
            return here
        if data.find(b"endobj", at, upto) < 0:
            return -1
        at = upto - len(_END)
        if upto == len(data):
            return -1
    return -1


def _is_table(data: Bytes, offset: int, end: int) -> bool:
    # A linearised file ends its first part with an offset of 0.
    return offset < end and offset > 0 and _TABLE.match(data[offset : offset + 64]) is not None


def _line_end(following: bytes) -> int:
    return 2 if following == b"\r\n" else 1 if following[:1] in (b"\r", b"\n") and following else 0


def _last_object(data: Bytes) -> int:
    """Behind the last object of a PDF without an end, as far as objects follow each other closely."""
    at = last = 0
    while (here := data.find(b"endobj", at, min(at + (8 << 20), len(data)))) >= 0:
        if (other := data.find(b"%PDF-", max(at, 1), here)) > 0 and other % _SECTOR == 0:
            break
        last = at = here + 6
    return last
