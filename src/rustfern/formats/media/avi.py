"""AVI recordings: chunks to the end of the file, every picture and sound of them where it should begin.

Source: the RIFF layout; AVI RIFF file reference (lists hdrl and movi, idx1); OpenDML AVI 1.02 (further RIFF chunks).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable
from typing import BinaryIO

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

CHUNK = re.compile(rb"\d\d(?:dc|db|wb|pc|tx|sb|iv|__)|ix\d\d|JUNK|LIST|idx1|\d\dix")
_UNPACKED = frozenset({b"DIB ", b"\0\0\0\0", b"RGB ", b"YUY2", b"UYVY", b"I420", b"YV12"})
_HOLE = bytes(2048)
_MOST_READ = 8 << 20


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Follow a recording to its end. Raises `Malformed`."""
    read = ByteReader(stream, size).upto
    at = pictures = sounds = 0
    packed, index, rate = True, False, 0.0
    while at + 12 <= size:
        kind, length, form = struct.unpack("<4sI4s", read(at, 12))
        if kind != b"RIFF" or form not in (b"AVI ", b"AVIX"):
            if at and not read(at, 65536).strip(b"\0"):
                break
            raise Malformed("something else stands where the recording should go on", at)
        if length in (0, 0xFFFFFFFF):
            raise Malformed("the recording was never finished: its length was never written", at + 4)
        end = at + 8 + length
        if end > size:
            raise Malformed(f"the recording stops after {size} of {end} bytes", size)
        inner = at + 12
        while inner + 8 <= end:
            kind, length = struct.unpack("<4sI", read(inner, 8))
            stop = inner + 8 + length
            if stop > end + 1:
                raise Malformed(f"the block {kind.decode('latin-1')} reaches beyond the end", inner)
            if kind == b"LIST":
                what = read(inner + 8, 4)
                if what == b"hdrl":
                    head = read(inner + 8, min(length, 1 << 16))
                    place = head.find(b"vids")
                    packed = place < 0 or head[place + 4 : place + 8] not in _UNPACKED
                    tick = int.from_bytes(head[12:16], "little")
                    rate = 1e6 / tick if tick else 0.0
                elif what == b"movi":
                    if length <= 4:
                        raise Malformed("the recording was never finished: its length was never written", inner)
                    shown, heard = _movie(read, inner + 12, stop, packed=packed)
                    pictures, sounds = pictures + shown, sounds + heard
            index = index or kind == b"idx1"
            inner = stop + length % 2
        at = end + length % 2 if end + 1 <= size and read(end, 4) != b"RIFF" else end
    if not pictures and not sounds:
        raise Malformed("it holds no recording", at)
    note = "" if index else "; it has no index: it plays, but does not wind"
    reason = f"read to the end: {pictures} pictures and {sounds} pieces of sound, one behind the other{note}"
    amounts = {"pictures": pictures} | ({"seconds": int(pictures / rate)} if rate else {})
    return Reading(Glance(format="avi"), State.INTACT, reason, amounts, has_text=False)


def _movie(take: Callable[[int, int], bytes], at: int, end: int, *, packed: bool) -> tuple[int, int]:
    """(pictures, pieces of sound) between two places."""
    pictures = sounds = 0
    while at + 8 <= end:
        kind, length = struct.unpack("<4sI", take(at, 8))
        if not CHUNK.fullmatch(kind):
            raise Malformed("no picture or sound begins where one should", at)
        if kind == b"LIST":
            at += 12  # what belongs together: its parts follow
            continue
        if at + 8 + length > end + 1:
            raise Malformed("a picture or sound reaches beyond the end", at)
        if kind[2:] in (b"dc", b"db"):
            pictures += 1
            if packed and kind[2:] == b"dc" and _HOLE in take(at + 8, min(length, _MOST_READ)).rstrip(b"\0"):
                raise Malformed("a hole of zeros in the recording", at)
        sounds += kind[2:] == b"wb"
        at += 8 + length + length % 2
    return pictures, sounds
