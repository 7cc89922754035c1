"""xz, bzip2 and tar archives, EPS drawings: sums compared where there are any, read to the end.

Source: the .xz file format 1.1 and bzip2's block sums (both read by the standard library), POSIX.1-2017 pax (ustar headers and their
checksums), the document structuring conventions 3.0 (`%%EOF`).
"""

from __future__ import annotations

import bz2
import lzma
import re
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_STEP = 1 << 20
_BLOCK = 512
_ZEROS = bytes(48)
_FONT = re.compile(rb"%!\S*(?:Font| Resource-)")
"""The first line of a font, or of a part of one: no drawing."""
_BINARY = (b"%%BeginBinary", b"%%BeginData", b"readstring", b"currentfile")


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Read one of these archives. Raises `Malformed`."""
    head = stream.read(6)
    stream.seek(0)
    if head[:6] == b"\xfd7zXZ\0":
        return _whole("xz", _unpack(stream, lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=256 << 20), limits))
    if head[:3] == b"BZh":
        return _whole("bz2", _unpack(stream, bz2.BZ2Decompressor(), limits))
    if head[:4] == b"%!PS":
        return _script(stream, size)
    return _tar(stream, size)


def _whole(form: str, unpacked: int) -> Reading:
    reason = f"read to the end: its sums fit, {unpacked} bytes unpacked"
    return Reading(Glance(format=form), State.INTACT, reason, {"bytes": unpacked}, has_text=False)


def _unpack(stream: BinaryIO, inflate: lzma.LZMADecompressor | bz2.BZ2Decompressor, limits: Limits) -> int:
    got = at = 0
    while data := stream.read(_STEP):
        if inflate.eof:
            if data.strip(b"\0"):
                raise Malformed("something else follows behind its end", at)
            break
        piece = data
        while piece or not inflate.needs_input:
            try:
                got += len(inflate.decompress(piece, _STEP))
            except (lzma.LZMAError, OSError, ValueError, EOFError) as error:
                raise Malformed("the packed bytes are damaged, or their sum does not fit", at) from error
            piece = b""
            if limits.too_much(got, at + len(data)):
                raise Refused("it would unpack to more than can be a document: refused")
            if inflate.eof:
                break
        at += len(data)
    if not inflate.eof:
        raise Malformed("the packed bytes stop before their end", at)
    return got


def _script(stream: BinaryIO, size: int) -> Reading:
    stream.seek(0)
    if _FONT.match(stream.readline(80)):
        raise Refused("a font: its program is not read")
    stream.seek(max(size - 2048, 0))
    tail = stream.read(2048)
    if b"%%EOF" not in tail and b"showpage" not in tail:
        raise Malformed("the drawing stops before its end mark", size)
    # A program is text; only what is declared as binary may hold zeros.
    stream.seek(0)
    at, before, binary = 0, b"", False
    while chunk := stream.read(_STEP):
        joined = before + chunk
        binary = binary or any(sign in joined for sign in _BINARY)
        hole = joined.find(_ZEROS)
        if hole >= 0 and not binary:
            raise Malformed("zeros where the drawing's program should be", at - len(before) + hole)
        at += len(chunk)
        before = joined[-64:]
    reason = "its end mark is there; what it draws is a program, which is not run"
    return Reading(Glance(format="eps"), State.INTACT, reason, has_text=False)


def _tar(stream: BinaryIO, size: int) -> Reading:
    at = members = 0
    while at + _BLOCK <= size:
        stream.seek(at)
        head = stream.read(_BLOCK)
        if not head.strip(b"\0"):
            reason = f"read to the end: the sums of all {members} headers fit; the files in it carry none"
            return Reading(Glance(format="tar"), State.INTACT, reason, {"members": members}, has_text=False)
        try:
            wanted = int(head[148:156].strip(b"\0 ") or b"0", 8)
            raw = head[124:136]
            length = int.from_bytes(raw[1:], "big") if raw[0] & 0x80 else int(raw.strip(b"\0 ") or b"0", 8)
        except ValueError as error:
            raise Malformed("a header of the archive is damaged", at) from error
        if sum(head[:148]) + sum(head[156:]) + 8 * 32 != wanted:
            raise Malformed("the sum of a header does not fit", at)
        if head[156:157] in (b"1", b"2", b"3", b"4", b"5", b"6"):
            length = 0
        at += _BLOCK + -(-length // _BLOCK) * _BLOCK
        members += 1
    raise Malformed("the archive stops before its end blocks", size)
