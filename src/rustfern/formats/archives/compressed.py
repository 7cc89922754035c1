"""xz, LZMA, bzip2 and tar archives, EPS drawings: sums compared where there are any, read to the end.

Source: the .xz file format 1.1, the .lzma file format and bzip2's block sums (both read by the standard library), POSIX.1-2017 pax (ustar headers and their
checksums), the document structuring conventions 3.0 (`%%EOF`).
"""

from __future__ import annotations

import bz2
import io
import lzma
import re
import struct
from collections import Counter
from collections.abc import Callable
from functools import partial
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_STEP = 1 << 20
_XZ = b"\xfd7zXZ\0"
_WITH_PREVIEW = b"\xc5\xd0\xd3\xc6"
_BLOCK = 512
_NO_DATA = (b"1", b"2", b"3", b"4", b"5", b"6")
"""Kinds of entries in a tar archive that have no bytes of their own: links, devices, folders, pipes."""
_PAX_SIZE = re.compile(rb"(?:\A|\n)\d+ size=(\d{1,19})(?=\n)")
_ZEROS = bytes(48)
_FONT = re.compile(rb"%!\S*(?:Font| Resource-)")
"""The first line of a font, or of a part of one: no drawing."""
_LAST_LINE = re.compile(rb"[\r\n](?:%[^\r\n]*|(?![0-9A-Fa-f]*[\r\n])[$A-Za-z][$\w]{0,30})[\r\n\x04\x1a ]*\Z")
"""A whole last line: one operator alone, or a comment. Many drawings end without the mark that the conventions ask for."""
_END_OF_SCRIPT = re.compile(rb"%%EOF|showpage|%AI\d+_PrivateDataEnd|[\r\n]quit[\r\n\x04\x1a ]*\Z")
"""What a drawing ends with; the private data of a program may stand behind its pages."""
_PAIRED = re.compile(rb"(?<![\w$/%])[$\w]*(?:Begin|begin|End|end|gsave|grestore)(?!\w)")
_MAX_COUNTED = 64 << 20
_BINARY = (b"%%BeginBinary", b"%%BeginData", b"readstring", b"currentfile")


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Read one of these archives. Raises `Malformed`."""
    head = stream.read(13)
    stream.seek(0)
    if head[:6] == _XZ:
        new: Callable[[], lzma.LZMADecompressor] = partial(lzma.LZMADecompressor, lzma.FORMAT_XZ, memlimit=256 << 20)
        return _whole("xz", *_unpack(stream, new, _XZ, limits))
    if head[:3] == b"BZh":
        return _whole("bz2", *_unpack(stream, bz2.BZ2Decompressor, b"BZh", limits))
    if is_lzma(head):
        new = partial(lzma.LZMADecompressor, lzma.FORMAT_ALONE, memlimit=256 << 20)
        return _whole("xz", *_unpack(stream, new, b"", limits), "it carries no sum")
    if head[:4] == b"%!PS":
        return _script(stream, size)
    if head[:4] == _WITH_PREVIEW:
        return _with_preview(stream, size)
    return _tar(stream, size)


def is_lzma(head: bytes) -> bool:
    """Whether bytes begin like LZMA alone: its properties as everybody writes them, a round size of its dictionary, a size that can be."""
    if len(head) < 13 or head[0] != 0x5D:
        return False
    window, size = int.from_bytes(head[1:5], "little"), int.from_bytes(head[5:13], "little")
    round_size = window >= 1 << 12 and (window & (window - 1) == 0 or window == 3 << (window.bit_length() - 2))
    return round_size and (size == (1 << 64) - 1 or size < 1 << 38)


def is_header(block: bytes) -> bool:
    """Whether a block is the header of a file in a tar archive, by its sum: those before 1988 have no mark."""
    if len(block) < _BLOCK or not block[0] or block[100:101] not in b"0123456789 \0":
        return False
    try:
        wanted = int(block[148:156].strip(b"\0 ") or b"-1", 8)
        int(block[100:108].strip(b"\0 ") or b"0", 8)
    except ValueError:
        return False
    return sum(block[:148]) + sum(block[156:_BLOCK]) + 8 * 32 == wanted


class Unmarked:
    """Archives that carry no mark: tar before 1988, LZMA alone."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.7 if is_lzma(head) or is_header(head) else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        return Glance(format="xz" if is_lzma(stream.read(13)) else "tar")

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        return check(stream, size, name, sink, limits)


def _whole(form: str, unpacked: int, behind: int, sums: str = "its sums fit") -> Reading:
    more = f"; {behind} bytes stand behind its end" if behind else ""
    reason = f"read to the end: {sums}, {unpacked} bytes unpacked{more}"
    return Reading(Glance(format=form), State.INTACT, reason, {"bytes": unpacked}, has_text=False)


def _unpack(
    stream: BinaryIO, new: Callable[[], lzma.LZMADecompressor | bz2.BZ2Decompressor], mark: bytes, limits: Limits
) -> tuple[int, int]:
    """Unpack all streams that follow each other, with zeros between them: (bytes unpacked, bytes of something else behind)."""
    inflate = new()
    got = at = 0
    waiting = b""
    while data := waiting or stream.read(_STEP):
        waiting = b""
        if inflate.eof:
            data = data.lstrip(b"\0")
            if data and len(data) < len(mark):
                data += stream.read(_STEP)
            if not data:
                continue
            if not mark or not data.startswith(mark):
                return got, _behind(data, stream, mark, at)
            inflate = new()
        at = stream.tell()
        piece = data
        while not inflate.eof and (piece or not inflate.needs_input):
            try:
                got += len(inflate.decompress(piece, _STEP))
            except (lzma.LZMAError, OSError, ValueError, EOFError) as error:
                if "nsupported" in str(error):
                    raise Refused("packed in a way that is not unpacked here") from error
                raise Malformed("the packed bytes are damaged, or their sum does not fit", at - len(data)) from error
            piece = b""
            if limits.too_much(got, at):
                raise Refused("it would unpack to more than can be a document: refused")
        waiting = inflate.unused_data
    if not inflate.eof:
        raise Malformed("the packed bytes stop before their end", at)
    return got, 0


def _behind(data: bytes, stream: BinaryIO, mark: bytes, at: int) -> int:
    """How many bytes of something else stand behind. Raises `Malformed` if they are a further stream whose beginning is hurt."""
    count, before = 0, b""
    while data:
        joined = before + data
        if mark and mark in joined:
            raise Malformed("something else stands between its streams", at)
        count += len(data)
        before = joined[-16:]
        data = stream.read(_STEP)
    if mark == _XZ and before.rstrip(b"\0").endswith(b"YZ"):
        raise Malformed("a further stream ends here, whose beginning is damaged", at)
    return count


def _with_preview(stream: BinaryIO, size: int) -> Reading:
    """A drawing behind a header that says where it and its preview lie (EPS file format 3.0, 5.2)."""
    head = stream.read(30)
    if len(head) < 30:
        raise Malformed("the drawing stops inside its header", size)
    places = struct.unpack_from("<6I", head, 4)
    for start, length in zip(places[::2], places[1::2], strict=True):
        if length and start + length > size:
            raise Malformed("a part that the drawing's header names lies beyond the end of the file", size)
    start, length = places[:2]
    if length > _MAX_COUNTED:
        raise Refused("a drawing of this size is refused")
    stream.seek(start)
    script = stream.read(length)
    if script[:4] != b"%!PS":
        raise Malformed("the drawing is not where its header says", start)
    return _script(io.BytesIO(script), length)


def _script(stream: BinaryIO, size: int) -> Reading:
    stream.seek(0)
    if _FONT.match(stream.readline(80)):
        raise Refused("a font: its program is not read")
    stream.seek(max(size - 2048, 0))
    tail = stream.read(2048)
    marked = _END_OF_SCRIPT.search(tail) is not None
    if not marked and not (_LAST_LINE.search(tail) and size <= _MAX_COUNTED and _all_closed(stream)):
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
    mark = "its end mark is there" if marked else "it has no end mark, but all that it begins it ends"
    reason = f"{mark}; what it draws is a program, which is not run"
    return Reading(Glance(format="eps"), State.INTACT, reason, has_text=False)


def _all_closed(stream: BinaryIO) -> bool:
    """Whether a drawing ends whatever it begins, by the names of what it calls: states, dictionaries, sections, its own pairs."""
    stream.seek(0)
    counts: Counter[bytes] = Counter()
    for name in _PAIRED.findall(stream.read()):
        opens = name.endswith((b"egin", b"gsave"))
        kind = (
            name[:-5]
            if name.endswith((b"Begin", b"begin", b"gsave"))
            else name[:-8]
            if name.endswith(b"grestore")
            else name[:-3]
        )
        counts[kind + (b"state" if b"save" in name or b"store" in name else b"")] += 1 if opens else -1
    return bool(counts) and not any(counts.values())


def _told_size(stream: BinaryIO, at: int, length: int) -> int | None:
    """The size that an extended header gives the file behind it (POSIX.1-2017, pax, "Extended Header Keywords"): it counts, not the header's own."""
    stream.seek(at)
    found = _PAX_SIZE.findall(stream.read(min(length, _STEP)))
    return int(found[-1]) if found else None


def _tar(stream: BinaryIO, size: int) -> Reading:
    at = members = 0
    told: int | None = None
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
        signed = sum(byte - 256 * (byte > 127) for byte in head[:148] + head[156:]) + 8 * 32
        if wanted not in (sum(head[:148]) + sum(head[156:]) + 8 * 32, signed):  # old writers summed signed bytes
            raise Malformed("the sum of a header does not fit", at)
        kind = head[156:157]
        at += _BLOCK
        if kind == b"x":
            told = _told_size(stream, at, length)
        elif kind not in (b"g", b"L", b"K"):  # what else is told of the file that follows
            length, told = length if told is None else told, None
        if kind in _NO_DATA:
            length = 0
        if kind == b"S" and head[257:263] == b"ustar " and head[482]:
            # Old sparse files go on with their list of pieces (GNU tar, the format of before 1990).
            while at + _BLOCK <= size:
                stream.seek(at + 504)
                at += _BLOCK
                if not (stream.read(1) or b"\0")[0]:
                    break
        at += -(-length // _BLOCK) * _BLOCK
        members += 1
    raise Malformed("the archive stops before its end blocks", size)
