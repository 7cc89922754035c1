"""Compound files: how far the sectors reach that their table gives to streams.

Source: [MS-CFB] 2.2 (header), 2.3 (table of sectors), 2.5 (table of the table's sectors), 2.6 (directory).
"""

from __future__ import annotations

import numpy as np

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole

_FREE, _LAST, _TABLE, _OUTER = 0xFFFFFFFF, 0xFFFFFFFE, 0xFFFFFFFD, 0xFFFFFFFC
_MAX_TABLE = 1 << 16
_KINDS = frozenset({0, 1, 2, 5})


def measure(data: Bytes) -> Reach | None:
    """Measure by the last sector that the table says is in use."""
    head = data[0:512]
    if len(head) < 512 or head[28:30] != b"\xfe\xff":
        return None
    version, shift = int.from_bytes(head[26:28], "little"), int.from_bytes(head[30:32], "little")
    if (version, shift) not in ((3, 9), (4, 12)):
        return None
    size = 1 << shift
    count = int.from_bytes(head[44:48], "little")
    if not 0 < count <= _MAX_TABLE:
        return None
    numbers = _table_sectors(data, head, size, count)
    if numbers is None:
        return broken(size, "the list of its tables is not here", 0)
    table = np.full(len(numbers) * (size // 4), _FREE, np.uint32)
    for n, number in enumerate(numbers):
        piece = data[(number + 1) * size : (number + 2) * size]
        if len(piece) < size:
            return broken(len(data), "a table of its sectors is not here", size, (number + 2) * size)
        table[n * (size // 4) : (n + 1) * (size // 4)] = np.frombuffer(piece, "<u4")
    used = np.flatnonzero(table != _FREE)
    if not len(used) or any(int(table[n]) != _TABLE for n in numbers if n < len(table)):
        return broken(size, "the table of its sectors is that of something else", size)
    links = table[used]
    if bool(((links < _OUTER) & (links >= len(table))).any()):
        return broken(size, "the table of its sectors is that of something else", size)
    end = (int(used[-1]) + 2) * size
    first = int.from_bytes(head[48:52], "little")
    entries = data[(first + 1) * size : (first + 1) * size + 128]
    if len(entries) < 128 or entries[66] != 5:
        return broken(size, "its directory is not where it should be", size, end)
    kinds = data[(first + 1) * size : (first + 2) * size][66::128]
    if len(kinds) < size // 128 or any(kind not in _KINDS for kind in kinds):
        return broken(size, "its directory is damaged", size, end)
    return (
        whole(end) if end <= len(data) else broken(len(data), f"{end - len(data)} of its bytes are not here", size, end)
    )


def _table_sectors(data: Bytes, head: bytes, size: int, count: int) -> list[int] | None:
    """The numbers of the sectors that hold the table."""
    numbers = [n for n in np.frombuffer(head, "<u4", 109, 76).tolist() if n < _OUTER]
    following, seen = int.from_bytes(head[68:72], "little"), set[int]()
    while len(numbers) < count and following < _OUTER and following not in seen:
        seen.add(following)
        piece = data[(following + 1) * size : (following + 2) * size]
        if len(piece) < size:
            return None
        told = np.frombuffer(piece, "<u4").tolist()
        numbers += [n for n in told[:-1] if n < _OUTER]
        following = told[-1]
    return numbers[:count] if len(numbers) >= count else None


_STARTS = (
    b"\xec\xa5",
    b"\x09\x08\x10\x00",
    b"\x09\x08\x08\x00",
    b"\xd0\xcf\x11\xe0",
    b"\x89PNG",
    b"\xff\xd8\xff",
    b"PK\x03\x04",
    b"\xfe\xff\x00\x00",
)
"""What streams of office documents begin with."""


def anchors(data: Bytes) -> list[int]:
    """Places that show by what stands there that they are where the file's own tables say: tables, directory, beginnings of streams."""
    head = data[0:512]
    size = 1 << int.from_bytes(head[30:32], "little")
    numbers = _table_sectors(data, head, size, int.from_bytes(head[44:48], "little")) or []
    table = np.concatenate([np.frombuffer(data[(n + 1) * size : (n + 2) * size], "<u4") for n in numbers])
    found = [0, *((n + 1) * size for n in numbers)]
    number, seen = int.from_bytes(head[48:52], "little"), set[int]()
    while number < len(table) and number not in seen:
        seen.add(number)
        at = (number + 1) * size
        entries = data[at : at + size]
        if all(kind in _KINDS for kind in entries[66::128]):
            found.append(at)
        for n in range(0, len(entries), 128):
            start = (int.from_bytes(entries[n + 116 : n + 120], "little") + 1) * size
            if entries[n + 66 : n + 67] == b"\x02" and data[start : start + 8].startswith(_STARTS):
                found.append(start)
        number = int(table[number])
    return found
