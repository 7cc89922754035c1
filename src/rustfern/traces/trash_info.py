"""The record that a freedesktop trash keeps for each deleted thing: `info/NAME.trashinfo`.

Source: freedesktop.org Trash specification 1.0, "The $trash/info directory": a `[Trash Info]` group with `Path`
(percent-encoded; absolute, or relative to the volume of the trash) and `DeletionDate` (local time, no zone).
"""

from __future__ import annotations

import os
from datetime import datetime

import msgspec

from rustfern.core.errors import Malformed

_LIMIT = 64 * 1024


class TrashInfo(msgspec.Struct, frozen=True):
    """`path` as recorded, decoded; `deleted_local` has no zone."""

    path: str
    deleted_local: datetime | None


def parse(data: bytes) -> TrashInfo:
    """Read a trash record. Raises `Malformed` if the group or the path is missing."""
    from urllib.parse import unquote_to_bytes

    if len(data) > _LIMIT:
        raise Malformed("too large for a trash record", _LIMIT)
    in_group, path, deleted = False, None, None
    for line in data.split(b"\n"):
        line = line.strip(b"\r \t")
        if line.startswith(b"["):
            in_group = line == b"[Trash Info]"
        elif in_group and line.startswith(b"Path=") and path is None:
            path = os.fsdecode(unquote_to_bytes(line[5:]))
        elif in_group and line.startswith(b"DeletionDate=") and deleted is None:
            try:
                deleted = datetime.fromisoformat(line[13:].decode("ascii").strip())
            except ValueError:
                deleted = None
    if not path or "\0" in path:
        raise Malformed("the trash record names no path")
    return TrashInfo(path, deleted.replace(tzinfo=None) if deleted else None)
