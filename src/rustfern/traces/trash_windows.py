"""The records of the Windows trash: `$I…` beside each `$R…`, and `INFO2` of older systems.

Layout as published by forensic and open documentation: `$I` is int64 version (1 or 2), int64 size, FILETIME of the deletion, then
the path as UTF-16LE: 520 bytes fixed (version 1), or a uint32 count of characters with the closing NUL and the path (version 2).
`INFO2`: a 20-byte header, then records of 800 bytes: path in an 8-bit code page (260 bytes), index, drive, FILETIME, size, path
as UTF-16LE (520 bytes); the file is called `D`, drive letter, index, extension.
"""

from __future__ import annotations

import struct
from datetime import datetime

import msgspec

from rustfern.core.errors import Malformed
from rustfern.core.times import filetime

_LIMIT = 1 << 20
_MAX_PATH = 32_768
_RECORD = 800


class DeletedFile(msgspec.Struct, frozen=True):
    """One deleted thing: its recorded path, when it was deleted (UTC), its size in bytes, and the trash's name for it."""

    path: str
    deleted: datetime | None
    size: int
    stored: str = ""


def parse(data: bytes) -> DeletedFile:
    """Read a `$I` record. Raises `Malformed` for another version or a path that is not there."""
    if len(data) < 28:
        raise Malformed(f"a trash record has at least 28 bytes, this has {len(data)}")
    version, size, when = struct.unpack_from("<QQQ", data, 0)
    if version == 1:
        raw = data[24:544]
    elif version == 2:
        count = struct.unpack_from("<I", data, 24)[0]
        if count > _MAX_PATH or 28 + 2 * count > len(data):
            raise Malformed("the path of the trash record is longer than the record", 24)
        raw = data[28 : 28 + 2 * count]
    else:
        raise Malformed(f"version {version} of a trash record is not known", 0)
    path = raw.decode("utf-16-le", "replace").split("\0")[0]
    if not path:
        raise Malformed("the trash record names no path")
    return DeletedFile(path, filetime(when), size)


def parse_list(data: bytes) -> list[DeletedFile]:
    """Read an `INFO2` list, as far as it goes. Raises `Malformed` if it is none."""
    if len(data) < 20 or len(data) > 64 * _LIMIT:
        raise Malformed("too short or too long for a list of deleted files")
    if struct.unpack_from("<I", data, 12)[0] != _RECORD:
        raise Malformed("not a list of deleted files", 12)
    found = []
    for at in range(20, len(data) - _RECORD + 1, _RECORD):
        index, drive = struct.unpack_from("<II", data, at + 260)
        when, size = struct.unpack_from("<QI", data, at + 268)
        path = data[at + 280 : at + _RECORD].decode("utf-16-le", "replace").split("\0")[0]
        if path and drive < 26:
            dot = path.rpartition("\\")[2].rpartition(".")
            extension = f".{dot[2]}" if dot[1] else ""
            found.append(DeletedFile(path, filetime(when), size, f"D{chr(97 + drive)}{index}{extension}"))
    return found
