"""The entries of a FAT folder, living and deleted, with their long names.

Source: FAT32 File System Specification 1.03 (directory structure, long directory entries, checksum).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from datetime import UTC, datetime

import msgspec

SIZE = 32
FOLDER, LABEL, _LONG = 0x10, 0x08, 0x0F
_DELETED, _KANJI = 0xE5, 0x05
_LOWER_STEM, _LOWER_EXTENSION = 0x08, 0x10


class FatEntry(msgspec.Struct, frozen=True):
    """One entry of a folder. Times are in ns since 1970, of the clock on the wall; `high` is the upper half of the first cluster."""

    name: str
    attributes: int
    first: int
    high: int
    size: int
    modified: int | None
    created: int | None
    deleted: bool

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return bool(self.attributes & FOLDER)


def time_ns(date: int, time: int) -> int | None:
    """A date and time of FAT in ns since 1970, as if the wall clock showed UTC."""
    try:
        told = datetime(
            1980 + (date >> 9),
            date >> 5 & 15,
            date & 31,
            time >> 11,
            time >> 5 & 63,
            min((time & 31) * 2, 59),
            tzinfo=UTC,
        )
    except ValueError:
        return None
    return round(told.timestamp()) * 1_000_000_000


def checksum(short: bytes) -> int:
    """The sum of a short name (11 bytes) that its long entries carry."""
    total = 0
    for byte in short:
        total = ((total >> 1) | (total & 1) << 7) + byte & 0xFF
    return total


def _short_name(raw: bytes, case: int) -> str:
    stem, extension = raw[:8].rstrip(b" "), raw[8:11].rstrip(b" ")
    shown = stem.decode("cp850", "replace"), extension.decode("cp850", "replace")
    stem_text = shown[0].lower() if case & _LOWER_STEM else shown[0]
    extension_text = shown[1].lower() if case & _LOWER_EXTENSION else shown[1]
    return f"{stem_text}.{extension_text}" if extension_text else stem_text


def _long_name(pieces: list[bytes], short: bytes, *, deleted: bool) -> str | None:
    """The long name of the entries right before a short one (the last first), if they belong to it."""
    if not pieces:
        return None
    sums = {piece[13] for piece in pieces}
    if len(sums) != 1:
        return None
    if deleted:
        # The first letter of the short name is lost: some letter must make the sum right, one that names can begin with.
        stored = next(iter(sums))
        letter = next((c for c in range(256) if checksum(bytes([c]) + short[1:]) == stored), 0)
        if letter < 0x20 and letter != _KANJI:
            return None
    elif sums != {checksum(short)}:
        return None
    raw = b"".join(piece[1:11] + piece[14:26] + piece[28:32] for piece in pieces)
    text = raw.decode("utf-16-le", "surrogatepass").split("\0", 1)[0].rstrip("\uffff")
    return text or None


def is_plausible(entry: bytes) -> bool:
    """Whether 32 bytes can be an entry of a folder: its bits and its name fit."""
    attributes = entry[11]
    if attributes & 0xC0:
        return False
    if attributes == _LONG:
        return entry[12] == 0 and entry[26:28] == b"\0\0"
    return entry[0] >= 0x20 and all(byte >= 0x20 for byte in entry[1:11]) and entry[12] & ~0x18 == 0


def entries(data: bytes) -> Iterator[FatEntry]:
    """The entries of a folder in order, up to its end mark; `.`, `..` and labels are left out."""
    pieces: list[bytes] = []
    pieces_deleted = False
    for at in range(0, len(data) - SIZE + 1, SIZE):
        raw = data[at : at + SIZE]
        first = raw[0]
        if not first:
            return
        deleted = first == _DELETED
        if raw[11] & 0x3F == _LONG:
            if pieces and (deleted != pieces_deleted or pieces[-1][13] != raw[13]):
                pieces = []
            if not deleted and first & 0x40:
                pieces = []
            pieces.append(raw)
            pieces_deleted = deleted
            continue
        held, pieces = pieces, []
        if raw[11] & LABEL or not (deleted or is_plausible(raw)):
            continue
        short = raw[:11]
        if not deleted and short[:2] in (b". ", b".."):
            continue
        if deleted and not is_plausible(b"_" + raw[1:]):
            continue
        if deleted and short[1:11] in (b" " * 10, b".         "):
            continue  # `.` and `..` of a folder that was emptied
        long = _long_name(held[::-1], short, deleted=deleted) if held and pieces_deleted == deleted else None
        if not deleted and first == _KANJI:
            short = b"\xe5" + short[1:]
        name = long or _short_name(b"_" + short[1:] if deleted else short, raw[12])
        created_time, created_date, _, high, time, date, low, size = struct.unpack_from("<HHHHHHHI", raw, 14)
        yield FatEntry(
            name, raw[11], low, high, size, time_ns(date, time), time_ns(created_date, created_time), deleted
        )  # fmt: skip


def dot_entries(data: bytes) -> tuple[int, int] | None:
    """(own first cluster, that of the folder above) of the first 64 bytes of a folder; None if these are no `.` and `..`."""
    if data[:11] != b".          " or data[32:43] != b"..         " or not data[11] & FOLDER or not data[43] & FOLDER:
        return None
    own = struct.unpack_from("<H", data, 26)[0] | struct.unpack_from("<H", data, 20)[0] << 16
    above = struct.unpack_from("<H", data, 58)[0] | struct.unpack_from("<H", data, 52)[0] << 16
    return own, above
