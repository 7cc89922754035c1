"""The boxes of a recording, as far as they can be followed, and the tables that no box leads to."""

from __future__ import annotations

import struct
from typing import BinaryIO

import msgspec

from rustfern.formats.media.mp4 import TOP
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import box

_MOST_TABLES = 256 << 20
_SOUGHT = 64 << 20
"""Bytes at the end of a file in which tables are sought that no box leads to."""


class Layout(msgspec.Struct):
    """What the boxes of a file are, as far as they can be followed: the first one, where data lies, the tables (if `is_cut`, not to their end), fragments that are
    whole: up to where, and where the first begins.
    """

    brand: bytes = b""
    data: list[tuple[int, int]] = msgspec.field(default_factory=list)
    moov: bytes = b""
    is_cut: bool = False
    fragments: int = 0
    first_fragment: int = 0
    whole_to: int = 0


def layout_of(window: Window) -> Layout:
    """Follow the boxes of a recording as far as they go."""
    found, at, size = Layout(), 0, window.size
    open_fragment = -1
    while at + 8 <= size:
        head = window.at(at, 16)
        length, kind = struct.unpack_from(">I4s", head)
        start = at + 8
        if length == 1 and len(head) == 16:
            length, start = struct.unpack_from(">Q", head, 8)[0], at + 16
        is_open = kind == b"mdat" and (length < start - at or at + length > size)
        end = size if is_open else at + length
        if kind not in TOP or end <= at or end < start:
            break
        if kind == b"ftyp" and not found.brand:
            found.brand = window.at(at, min(end - at, 4096))
        elif kind == b"mdat":
            found.data.append((start, end))
        elif kind == b"moov" and not found.moov:
            found.moov = window.at(start, min(end - start, size - start, _MOST_TABLES))
            found.is_cut = end > size
        elif kind == b"moof":
            open_fragment = at
            found.first_fragment = found.first_fragment or at
        if kind == b"mdat" and open_fragment >= 0 and not is_open:
            found.fragments, found.whole_to, open_fragment = found.fragments + 1, end, -1
        if end > size:
            break
        at = end
    if not found.moov:
        _seek_tables(window, found)
    if not found.data:
        place = window.at(0, 1 << 20).find(b"mdat")
        found.data.append((place + 4 if place >= 0 else 0, size))
    return found


def _seek_tables(window: Window, found: Layout) -> None:
    """Tables that no box leads to: behind data whose size was never written, or whose head is damaged."""
    start = max(window.size - _SOUGHT, 0)
    tail = window.at(start, window.size - start)
    at = tail.rfind(b"moov")
    while at >= 4:
        length = int.from_bytes(tail[at - 4 : at], "big")
        if tail[at + 8 : at + 12] in (b"mvhd", b"cmov", b"trak") and length >= 16:
            found.moov = tail[at + 4 : at - 4 + length]
            found.is_cut = at - 4 + length > len(tail)
            place = start + at - 4
            found.data = [(low, min(high, place)) for low, high in found.data if low < place]
            return
        at = tail.rfind(b"moov", 0, at)


def is_movie(head: bytes) -> bool:
    """Whether a file begins as recordings in boxes do."""
    return head[4:8] in TOP


def tables_in(stream: BinaryIO, size: int) -> bytes:
    """The tables of a healthy recording, with the box that they stand in; empty where there are none."""
    moov = layout_of(Window(stream, size)).moov
    return box(b"moov", moov) if moov else b""
