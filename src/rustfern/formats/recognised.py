"""Formats that are recognised by their first bytes: read to the end by a module of their own, or (never called intact) known by these only."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from typing import BinaryIO

from rustfern.core.model import Glance, State
from rustfern.formats.format_table import FORMATS, SIGNATURES, title_of
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_FIRST: dict[int, tuple[tuple[int, bytes, str], ...]] = {
    byte: tuple(row for row in SIGNATURES if row[0] or row[1][0] == byte) for byte in range(256)
}
"""First byte → the signatures that bytes with it may carry, the most telling first."""


PACKET, TIMED = 188, 192
"""Bytes of a transport packet (ISO/IEC 13818-1, 2.4.3.2); of one behind four bytes that tell its time, as on cards of camcorders."""


def format_of_magic(head: bytes) -> str | None:
    """The format whose signature the first bytes carry."""
    if head[128:132] == b"DICM":
        return "dcm"  # in front of it may stand what another format begins with
    likely = _FIRST[head[0]] if head else ()
    found = next((name for at, magic, name in likely if head[at : at + len(magic)] == magic), None)
    if found is None and head[:2] == b"BM" and head[6:10] == bytes(4):
        return "bmp"
    if found is None and len(head) > 6 and head[0] == 0xFF and head[1] & 0xF6 == 0xF0 and head[2] >> 2 & 15 < 13:
        return "aac"
    if found is None and len(head) > 3 and head[0] == 0xFF:
        # Of the lowest rates (MPEG 2.5) the first bytes alone tell less: bits and rate must be possible, too.
        low = head[1] in (0xE3, 0xE2) and 0 < head[2] >> 4 < 15 and head[2] >> 2 & 3 < 3
        return "mp3" if low or head[1] in (0xFB, 0xFA, 0xF3, 0xF2) else None
    if found is None and 0x47 in (head[:1] + head[4:5]) and packet_length(head):
        return "mts"
    return found


def packet_length(head: bytes) -> int:
    """How many bytes lie between the packets of a transport stream that begins here; 0 where none does. Some of its first packet is no text."""
    for length, begin in ((PACKET, 0), (TIMED, 4)):
        first = head[begin : begin + PACKET]
        marks = head[begin::length]
        if len(marks) > 1 and set(marks) == {0x47} and first[3] & 0x30 and (b"\0" in first or b"\xff" in first):
            return length
    return 0


class SignatureOnly:
    """Told by the first bytes; most are read to the end by a module of their own, the others are known by signature only."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.5 if format_of_magic(head) else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        return Glance(format=format_of_magic(stream.read(400)))

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        glance = self.glance(stream, size, name)
        if module := FORMATS[glance.format].reader if glance.format else "":
            stream.seek(0)
            read: Callable[[BinaryIO, int, str, TextSink, Limits], Reading]
            read = importlib.import_module(f"rustfern.formats.{module}").check
            return read(stream, size, name, sink, limits)
        reason = f"recognised as {title_of(glance.format)}, whose inside this version cannot verify: open a restored copy to see"
        return Reading(glance, State.UNREADABLE, reason, has_text=False)
