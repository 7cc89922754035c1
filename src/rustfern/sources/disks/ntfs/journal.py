"""The change journal of NTFS: what it tells of files that were deleted, and when.

Source: [MS-FSCC] 2.3.47 and the USN_RECORD structures of versions 2 and 3 as documented for FSCTL_READ_USN_JOURNAL.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import msgspec

from rustfern.sources.disks.ntfs.attributes import REFERENCE, time_ns

DELETED, RENAMED_AWAY = 0x200, 0x1000
_FOLDER = 0x10
_SMALLEST, _LARGEST = 60, 60 + 16 + 510
_PAGE = 4096


class Change(msgspec.Struct, frozen=True):
    """One entry: of which file (number of its record, how often that was used), in which folder (the same as one reference), when (ns since 1970)."""

    record: int
    use: int
    folder: int
    name: str
    when: int | None
    reason: int
    is_folder: bool


def changes(data: bytes) -> Iterator[Change]:
    """The entries in a stretch of the journal, which begins at any page; what is none is passed over."""
    at = 0
    while at + _SMALLEST <= len(data):
        length, major = struct.unpack_from("<IH", data, at)
        if (
            not length
            or length % 8
            or not _SMALLEST <= length <= _LARGEST
            or major not in (2, 3)
            or at + length > len(data)
        ):
            # Entries do not cross pages of their own accord: the rest of one is zeros.
            at = (at // _PAGE + 1) * _PAGE if not length else at + 8
            continue
        found = _change(data[at : at + length], major)
        if found is not None:
            yield found
        at += length


def _change(raw: bytes, major: int) -> Change | None:
    wide = 16 if major == 3 else 0
    file, folder = struct.unpack_from("<Q", raw, 8)[0], struct.unpack_from("<Q", raw, 16 + wide // 2)[0]
    when, reason = struct.unpack_from("<QI", raw, 32 + wide)
    attributes, size, start = struct.unpack_from("<IHH", raw, 52 + wide)
    name = raw[start : start + size]
    if not size or size % 2 or len(name) < size or start < 60:
        return None
    return Change(
        file & REFERENCE, file >> 48, folder, name.decode("utf-16-le", "surrogatepass"), time_ns(when), reason,
        bool(attributes & _FOLDER),
    )  # fmt: skip
