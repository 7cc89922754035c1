"""DWG drawings: version, and the places of their sections, as far as the layout is published.

Source: the Open Design specification for DWG files, 5.0: 3.2 (R13 to R2000: section locators), 4.1 (R2004
and later: the encrypted head at 0x80 with its sum).
"""

from __future__ import annotations

import struct
import zlib
from typing import BinaryIO

from rustfern.errors import Malformed
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.words import TextSink
from rustfern.model import Glance, State

_OLD = frozenset({b"AC1012", b"AC1014", b"AC1015"})
_NEW = frozenset({b"AC1018", b"AC1024", b"AC1027", b"AC1032"})
_MARK = b"AcFssFcAJMB\0"
_ZEROS = 4096


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Look at the head and where it points. Raises `Malformed`."""
    head = stream.read(0x100)
    version = head[:6]
    if size < 0x80:
        raise Malformed("the drawing stops inside its header", size)
    if version in _OLD:
        where = _old(head, size)
    elif version in _NEW:
        where = _new(head, size)
    else:
        where = None
    stream.seek(max(size - _ZEROS, 0))
    if size > 2 * _ZEROS and not stream.read(_ZEROS).strip(b"\0"):
        raise Malformed("the end of the drawing is zeros: it was cut off", size - _ZEROS)
    if where is None:
        reason = "a drawing of a version whose inside is not published: open a restored copy to see"
        return Reading(Glance(format="dwg"), State.UNREADABLE, reason, has_text=False)
    reason = f"its header is whole and points to {where} that lie in the file; what they draw is not published and was not verified"
    return Reading(Glance(format="dwg"), State.INTACT, reason, has_text=False)


def _old(head: bytes, size: int) -> str | None:
    count = struct.unpack_from("<I", head, 0x15)[0]
    if not 3 <= count <= 6:
        return None
    for number in range(count):
        _, start, length = struct.unpack_from("<BII", head, 0x19 + 9 * number)
        if start + length > size:
            raise Malformed(f"section {number} reaches beyond the end of the file: it is cut off", size)
    return f"{count} sections"


def _new(head: bytes, size: int) -> str | None:
    """The head is hidden by a fixed sequence of bytes; its sum is taken with the place of the sum as zeros."""
    hidden = head[0x80 : 0x80 + 0x6C]
    if len(hidden) < 0x6C:
        raise Malformed("the drawing stops inside its header", size)
    seed, plain = 1, bytearray()
    for byte in hidden:
        seed = (seed * 0x343FD + 0x269EC3) & 0xFFFFFFFF
        plain.append(byte ^ (seed >> 16 & 0xFF))
    if bytes(plain[:12]) != _MARK:
        return None
    wanted = struct.unpack_from("<I", plain, 0x68)[0]
    if zlib.crc32(bytes(plain[:0x68]) + bytes(4)) != wanted:
        raise Malformed("the sum of the header does not fit", 0x80)
    last, second = struct.unpack_from("<QQ", plain, 0x2C)
    pages = struct.unpack_from("<Q", plain, 0x54)[0] + 0x100
    if max(last, second, pages) > size:
        raise Malformed("the table of pages lies beyond the end of the file: it is cut off", size)
    return "its table of pages"
