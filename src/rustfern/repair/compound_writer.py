"""Writes compound files of version 3.

Source: [MS-CFB] 2.2 (header), 2.3 (FAT), 2.4 (mini FAT), 2.5 (DIFAT), 2.6 (directory, 2.6.4: the order of names, red and black).
"""

from __future__ import annotations

import struct
from collections.abc import Mapping

from rustfern.formats.office.compound_file import SIGNATURE

_SECTOR, _MINI, _CUTOFF = 512, 64, 4096
_END, _FREE, _FAT = 0xFFFFFFFE, 0xFFFFFFFF, 0xFFFFFFFD
_DIFAT = 0xFFFFFFFC


class _Node:
    """A stream or storage."""

    def __init__(self, name: str, data: bytes | None) -> None:
        self.name, self.data = name, data
        self.children: dict[str, _Node] = {}
        self.number = 0
        self.left = self.right = self.child = _FREE
        self.red = False
        self.start, self.size = _END, 0


def compound(streams: Mapping[str, bytes], class_id: bytes = bytes(16)) -> bytes:
    """A compound file of these streams, by their paths (parts joined by `/`)."""
    root = _Node("Root Entry", None)
    for path, data in streams.items():
        node = root
        *above, last = path.split("/")
        for part in above:
            node = node.children.setdefault(part, _Node(part, None))
        node.children[last] = _Node(last, data)
    nodes = [root]
    _arrange(root, nodes)
    body = bytearray()
    fat: list[int] = []

    def place(data: bytes) -> int:
        """Sectors for these bytes; gives the first."""
        if not data:
            return _END
        first = len(fat)
        count = (len(data) + _SECTOR - 1) // _SECTOR
        body.extend(data.ljust(count * _SECTOR, b"\0"))
        fat.extend([*range(first + 1, first + count), _END])
        return first

    mini, mini_fat = bytearray(), list[int]()
    for node in nodes[1:]:
        if node.data is None:
            continue
        node.size = len(node.data)
        if node.size >= _CUTOFF:
            node.start = place(node.data)
        elif node.size:
            count = (node.size + _MINI - 1) // _MINI
            node.start = len(mini_fat)
            mini.extend(node.data.ljust(count * _MINI, b"\0"))
            mini_fat.extend([*range(node.start + 1, node.start + count), _END])
    root.start, root.size = place(bytes(mini)), len(mini)
    raw = struct.pack(f"<{len(mini_fat)}I", *mini_fat)
    raw += b"\xff" * (-len(raw) % _SECTOR)
    mini_start, mini_count = place(raw), len(raw) // _SECTOR
    listed = b"".join(_entry(node, class_id if node is root else bytes(16)) for node in nodes)
    directory = place(listed + (_UNUSED * (-len(nodes) % 4)))
    return _with_tables(body, fat, directory, mini_start, mini_count)


_UNUSED = bytes(68) + b"\xff" * 12 + bytes(48)


def _with_tables(body: bytearray, fat: list[int], directory: int, mini_start: int, mini_count: int) -> bytes:
    per = _SECTOR // 4
    tables, extra = 0, 0
    while True:
        needed = -(-(len(fat) + tables + extra) // per)
        more = -(-max(needed - 109, 0) // (per - 1))
        if (needed, more) == (tables, extra):
            break
        tables, extra = needed, more
    first = len(fat)
    numbers = list(range(first, first + tables))
    fat = [*fat, *[_FAT] * tables, *[_DIFAT] * extra]
    fat += [_FREE] * (-len(fat) % per)
    body.extend(struct.pack(f"<{len(fat)}I", *fat))
    rest = numbers[109:]
    for n in range(extra):
        part = rest[n * (per - 1) : (n + 1) * (per - 1)]
        part += [_FREE] * (per - 1 - len(part))
        body.extend(struct.pack(f"<{per}I", *part, first + tables + n + 1 if n + 1 < extra else _END))
    head = SIGNATURE + bytes(16) + struct.pack("<HHHHH", 0x3E, 3, 0xFFFE, 9, 6) + bytes(6)
    head += struct.pack(
        "<IIIIIIIII", 0, tables, directory, 0, _CUTOFF, mini_start, mini_count, first + tables if extra else _END, extra
    )
    head += struct.pack("<109I", *(numbers[:109] + [_FREE] * (109 - len(numbers[:109]))))
    return head + bytes(body)


def _arrange(storage: _Node, nodes: list[_Node]) -> None:
    """The children of a storage as a balanced tree; the lowest row of it is red, if it is not full."""
    ordered = sorted(storage.children.values(), key=lambda node: (len(node.name), node.name.upper()))
    for node in ordered:
        node.number = len(nodes)
        nodes.append(node)
    depth = len(ordered).bit_length()

    def build(low: int, high: int, level: int) -> int:
        if low >= high:
            return _FREE
        middle = (low + high) // 2
        node = ordered[middle]
        node.red = level == depth and level > 1
        node.left, node.right = build(low, middle, level + 1), build(middle + 1, high, level + 1)
        return node.number

    storage.child = build(0, len(ordered), 1)
    for node in ordered:
        if node.data is None:
            _arrange(node, nodes)


def _entry(node: _Node, class_id: bytes) -> bytes:
    name = node.name.encode("utf-16-le")[:62]
    kind = 5 if node.number == 0 else 1 if node.data is None else 2
    start = 0 if kind == 1 else node.start
    return (
        name.ljust(64, b"\0")
        + struct.pack("<HBB", len(name) + 2, kind, 0 if node.red else 1)
        + struct.pack("<III", node.left, node.right, node.child)
        + class_id
        + bytes(20)
        + struct.pack("<IQ", start, node.size)
    )
