"""DWG drawings: version, and the places of their sections, as far as the layout is published; binary DXF to its end mark.

Source: the Open Design specification for DWG files, 5.0: 3.2 (R13 to R2000: section locators), 4.1 (R2004
and later: the encrypted head at 0x80 with its sum); the DXF reference (binary files, group code ranges).
"""

from __future__ import annotations

import struct
import zlib
from typing import BinaryIO

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_OLD = frozenset({b"AC1012", b"AC1014", b"AC1015"})
_NEW = frozenset({b"AC1018", b"AC1024", b"AC1027", b"AC1032"})
_LATEST = b"AC1032"
_MARK = b"AcFssFcAJMB\0"
_ZEROS = 4096
BINARY, SIGN = b" Binary DXF\r\n\x1a\0", 7
"""The sign of a binary drawing, behind the seven letters of its first maker."""
_BEGIN = SIGN + len(BINARY)
_MOST = 512 << 20
_LENGTHS = (
    (9, 0), (59, 8), (79, 2), (89, None), (99, 4), (102, 0), (104, None), (105, 0), (109, None), (149, 8), (159, None),
    (169, 8), (179, 2), (209, None), (239, 8), (269, None), (289, 2), (299, 1), (309, 0), (319, -1), (369, 0),
    (389, 2), (399, 0), (409, 2), (419, 0), (429, 4), (439, 0), (459, 4), (469, 8), (481, 0), (998, None), (1003, 0), (1004, -1),
    (1009, 0), (1059, 8), (1070, 2), (1071, 4),
)  # fmt: skip


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Look at the head and where it points. Raises `Malformed`."""
    head = stream.read(0x100)
    if head[:6] not in _OLD | _NEW and head[SIGN:].startswith(BINARY):
        return _groups(stream, size, head)
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
    needs = "a drawing of the 2018 version: programs before it refuse it" if version == _LATEST else None
    return Reading(Glance(format="dwg", needs=needs), State.INTACT, reason, has_text=False)


def _groups(stream: BinaryIO, size: int, head: bytes) -> Reading:
    """A binary DXF drawing: groups of a code and a value of the type that the code says, to the end mark."""
    # Since R13 codes have two bytes; before, one, with 255 as the sign of a wider one.
    wide = head[_BEGIN + 1 : _BEGIN + 2] == b"\0"
    stream.seek(_BEGIN)
    data = stream.read(_MOST)
    at = groups = 0
    try:
        while True:
            if wide:
                code, at = struct.unpack_from("<h", data, at)[0], at + 2
            else:
                code, at = data[at], at + 1
                if code == 255:
                    code, at = struct.unpack_from("<h", data, at)[0], at + 2
            length = _length(code)
            if length is None:
                raise Malformed(f"group code {code} is impossible", _BEGIN + at)
            if length == 0:
                end = data.index(b"\0", at)
                if code == 0 and data[at:end] == b"EOF":
                    return Reading(
                        Glance(format="dxf"), State.INTACT, f"read to its end mark: {groups} groups", has_text=False
                    )
                at = end + 1
            else:
                at += length if length > 0 else 1 + data[at]
            groups += 1
    except (IndexError, ValueError, struct.error) as error:
        raise Malformed("the drawing stops before its end mark", size) from error


def _length(code: int) -> int | None:
    """Bytes of a group's value; 0 for text to a zero, -1 for counted bytes, None for no such code (DXF reference, group code ranges)."""
    for last, length in _LENGTHS:
        if code <= last:
            return length if code >= -5 else None
    return None


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
