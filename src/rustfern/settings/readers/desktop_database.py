"""The settings database of GNOME, MATE, Xfce and Cinnamon programs (`dconf/user`), read offline.

Sources: gvdb-format.h of GLib (header, hash tables, items of 24 bytes, little-endian); the GVariant specification (fixed sizes, strings
that end with a zero, a variant is its value, a zero and its type).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from rustfern.core.errors import Malformed
from rustfern.settings.interface import SettingsFile, Value

_ITEM, _MOST_ITEMS, _DEEPEST = 24, 200_000, 64
_NUMBERS = {"y": "<B", "n": "<h", "q": "<H", "i": "<i", "u": "<I", "x": "<q", "t": "<Q"}


def values(source: SettingsFile) -> Iterator[Value]:
    """Every value of a plain type: the key is its folder (`/org/gnome/gedit/`), the name what stands last. Raises `Malformed`."""
    data = source.stream.read(source.size)
    if data[:8] != b"GVariant":
        raise Malformed("it does not begin like a settings database", 0)
    start, end = _pair(data, 16)
    if end > len(data) or start > end or end - start < 8:
        raise Malformed("the settings database is cut off", len(data))
    bloom, buckets = _pair(data, start)
    first = start + 8 + ((bloom & 0x07FFFFFF) + buckets) * 4
    count = (end - first) // _ITEM
    if first > end or count > _MOST_ITEMS:
        raise Malformed("its table is longer than the file", start)
    for number in range(count):
        at = first + number * _ITEM
        if data[at + 14 : at + 15] != b"v":
            continue
        path = _path(data, first, count, number)
        begin, stop = _pair(data, at + 16)
        if begin > stop or stop > len(data):
            raise Malformed(f"the value of {path} lies outside of the file", at)
        value = _plain(data[begin:stop])
        if value is not None:
            folder, _, name = path.rpartition("/")
            yield Value(folder + "/", name, value)


def _pair(data: bytes, at: int) -> tuple[int, int]:
    if at + 8 > len(data):
        raise Malformed("the settings database is cut off", len(data))
    first, second = struct.unpack_from("<II", data, at)
    return first, second


def _path(data: bytes, first: int, count: int, number: int) -> str:
    """The whole name of an item: those of its parents before its own."""
    parts: list[bytes] = []
    for _ in range(_DEEPEST):
        at = first + number * _ITEM
        _, parent, key, size = struct.unpack_from("<IIIH", data, at)
        if key + size > len(data):
            raise Malformed("a name lies outside of the settings database", at)
        parts.append(data[key : key + size])
        if parent >= count:
            break
        number = parent
    return b"".join(reversed(parts)).decode("utf-8", "replace")


def _plain(data: bytes) -> bool | int | str | None:
    """A variant of a plain type; None for any other."""
    body, _, kind = data.rpartition(b"\0")
    form = kind.decode("ascii", "replace")
    if form == "b" and len(body) == 1:
        return body != b"\0"
    if form == "s" and body.endswith(b"\0"):
        return body[:-1].decode("utf-8", "replace")
    if form in _NUMBERS and len(body) == struct.calcsize(_NUMBERS[form]):
        return int(struct.unpack(_NUMBERS[form], body)[0])
    return None
