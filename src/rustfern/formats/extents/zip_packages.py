"""ZIP archives and packages: members, directory, end record.

Source: APPNOTE 6.3.10, 4.3 (order of the parts), 4.3.7 (local header), 4.3.9 (data descriptor), 4.3.12 (central directory), 4.3.14 to 4.3.16
(end records). Members lie one behind the other: a member whose size stands only behind it ends where its deflated stream does.
"""

from __future__ import annotations

import struct
import zlib

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole

_LOCAL, _CENTRAL, _END = b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06"
_END64, _LOCATOR, _SIGNED, _EXTRA, _DESCRIPTOR = (
    b"PK\x06\x06",
    b"PK\x06\x07",
    b"PK\x05\x05",
    b"PK\x06\x08",
    b"PK\x07\x08",
)
_MAX_MEMBERS, _MAX_NAME, _MAX_PATH = 2_000_000, 4096, 260
_PIECE, _MAX_RATIO, _FREELY, _MAX_STORED = 1 << 16, 1100, 64 << 20, 1 << 30


def measure(data: Bytes) -> Reach | None:
    """Follow an archive from its first member to its end record."""
    at = members = proven = 0
    if data[0:4] == b"PK\x07\x08":
        at = 4  # the mark of an archive that was to be parted
    while (head := data[at : at + 30])[:4] == _LOCAL:
        end = _member_end(data, at, head)
        if end is None:
            break
        proven, at, members = at, end, members + 1
        if members > _MAX_MEMBERS:
            return broken(at, "it has more members than any document", proven)
    if not members:
        head = data[at : at + 34]
        name = data[at + 30 : at + 30 + int.from_bytes(head[26:28], "little")]
        plausible = head[:4] == _LOCAL and 0 < len(name) <= _MAX_PATH and name.isascii() and name.decode().isprintable()
        return broken(at, "its first member is not all here") if plausible else None
    mark = data[at : at + 4]
    if mark not in (_CENTRAL, _EXTRA):
        return broken(min(at, len(data)), "a member is followed by what is no part of the archive", proven)
    directory = at
    entries = 0
    while True:
        head = data[at : at + 46]
        mark = head[:4]
        if mark == _CENTRAL and len(head) == 46:
            name, extra, comment = struct.unpack_from("<3H", head, 28)
            at += 46 + name + extra + comment
            entries += 1
        elif mark == _EXTRA:
            at += 8 + int.from_bytes(head[4:8], "little")
            directory = at if not entries else directory
        elif mark == _SIGNED:
            at += 6 + int.from_bytes(head[4:6], "little")
        elif mark == _END64:
            at += 12 + int.from_bytes(head[4:12], "little")
        elif mark == _LOCATOR:
            at += 20
        elif mark == _END and len(head) >= 22:
            end = at + 22 + int.from_bytes(head[20:22], "little")
            count, _, offset = struct.unpack_from("<HII", head, 10)
            if (count != entries & 0xFFFF and count != 0xFFFF) or (offset > directory and offset != 0xFFFFFFFF):
                return broken(at, "its end record is that of another archive", directory)
            return whole(end) if end <= len(data) else broken(len(data), "its last bytes are not here", at, end)
        else:
            return broken(min(at, len(data)), "its directory stops before its end", directory)
        if at > len(data) or entries > _MAX_MEMBERS:
            return broken(len(data), "its directory is not all here", directory)


def _member_end(data: Bytes, at: int, head: bytes) -> int | None:
    """Where the next part begins; None where this is no member."""
    if len(head) < 30:
        return None
    needed, flags, method = struct.unpack_from("<3H", head, 4)
    packed, name, extra = (int.from_bytes(head[a:b], "little") for a, b in ((18, 22), (26, 28), (28, 30)))
    if not 0 < name <= _MAX_NAME or needed & 0xFF > 90:
        return None
    body = at + 30 + name + extra
    if packed == 0xFFFFFFFF:
        packed = _packed64(data[at + 30 + name : body])
    if not flags & 8:
        return body + packed
    if packed:
        end = body + packed
    elif method == 8:
        found = _deflated_end(data, body)
        if found is None:
            return None
        end = found
    else:
        found = _stored_end(data, body)
        if found is None:
            return None
        end = found
    for size in (16, 12, 24, 20):
        if data[end + size : end + size + 4] in (_LOCAL, _CENTRAL, _EXTRA) and (
            (size in (16, 24)) == (data[end : end + 4] == _DESCRIPTOR)
        ):
            return end + size
    return end + (16 if data[end : end + 4] == _DESCRIPTOR else 12)


def _packed64(extra: bytes) -> int:
    """The packed size in the field of large archives (4.5.3)."""
    at = 0
    while at + 4 <= len(extra):
        kind, size = struct.unpack_from("<HH", extra, at)
        if kind == 1 and size >= 16:
            return int.from_bytes(extra[at + 12 : at + 20], "little")
        at += 4 + size
    return 0xFFFFFFFF


def _deflated_end(data: Bytes, at: int) -> int | None:
    """Where a deflated stream ends; None where it breaks."""
    inflate = zlib.decompressobj(-15)
    start, out = at, 0
    waiting = b""
    try:
        while not inflate.eof:
            piece = waiting or data[at : at + _PIECE]
            if not piece:
                return None
            if not waiting:
                at += len(piece)
            out += len(inflate.decompress(piece, 1 << 20))
            waiting = inflate.unconsumed_tail
            if out > _FREELY and out > _MAX_RATIO * (at - start):
                return None
    except zlib.error:
        return None
    return at - len(inflate.unused_data)


def _stored_end(data: Bytes, at: int) -> int | None:
    """Where stored bytes end that a descriptor follows: the one whose size is how far away it is."""
    here = at
    while (here := data.find(_DESCRIPTOR, here, at + _MAX_STORED)) >= 0:
        if int.from_bytes(data[here + 8 : here + 12], "little") == here - at:
            return here
        here += 4
    return None
