"""File records of an earlier format of an NTFS volume: they lie where its table was, in space that nothing claims now.

Source: the NTFS documentation of the Linux-NTFS project (file records carry their own number since version 3.1).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from rustfern.sources.disks.interface import DiskBytes, windows
from rustfern.sources.disks.ntfs import table
from rustfern.sources.disks.ntfs.attributes import REFERENCE
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import LOST, ROOT, Tree, is_safe, safe_name

EARLIER = 1 << 48
"""Keys from here on are places of records of an earlier format, in bytes from there."""
_WINDOW = 8 << 20
_MAX_SOUGHT = 16 << 30
_MAX_FOUND = 2_000_000
_ROOT_RECORD, _FIRST_OWN = 5, 24


def add_earlier_files(volume: DiskBytes, used: ClusterMap, cluster: int, size: int, tree: Tree) -> int:
    """Take the names of earlier records into a tree, before it is finished; how many. `size` are the bytes of a record."""
    names: list[tuple[str, int, int]] = []  # name, reference of its folder, key
    folders: dict[tuple[int, int], int] = {}  # number and use of a folder's record → its key
    for place, raw in _records(volume, used, cluster, size):
        block = table.read_block(raw, size)
        numbers = np.frombuffer(raw, "<u4").reshape(-1, size // 4)[:, 11]
        is_folder = table.is_folder(block)
        for at in np.flatnonzero(table.best_names(block)).tolist():
            row = int(block.rows[at])
            number = int(numbers[row])
            if number < _FIRST_OWN or int(block.bases[row]):
                continue
            key = EARLIER + place[row]
            names.append((block.names[at], int(block.folders[at]), key))
            if is_folder[row]:
                folders.setdefault((number, int(block.sequences[row])), key)
        if len(names) > _MAX_FOUND:
            break
    keys_of_folders = set(folders.values())
    nodes: list[int] = []
    of_folder: dict[int, int] = {}
    for name, _, key in dict.fromkeys(names):
        is_one = key in keys_of_folders
        nodes.append(tree.add(name if is_safe(name) else safe_name(name), LOST, key, folder=is_one, deleted=True))
        if is_one:
            of_folder.setdefault(key, nodes[-1])
    for node, (_, folder, key) in zip(nodes, dict.fromkeys(names), strict=True):
        number, use = folder & REFERENCE, folder >> 48
        above = folders.get((number, use)) or folders.get((number, use + 1))
        if number == _ROOT_RECORD:
            tree.move(node, ROOT)
        elif above is not None and above != key:
            tree.move(node, of_folder[above])
    return len(nodes)


def _records(volume: DiskBytes, used: ClusterMap, cluster: int, size: int) -> Iterator[tuple[list[int], bytes]]:
    """(places in the volume, bytes) of what looks like records in free space, some thousands at a time."""
    sought = 0
    for first, count in used.free_runs():
        start, end = first * cluster, (first + count) * cluster
        for at, raw in windows(volume, start, end, _WINDOW):
            sought += len(raw)
            if sought > _MAX_SOUGHT:
                return
            rows = np.frombuffer(raw[: len(raw) // size * size], np.uint8).reshape(-1, size)
            marks = np.flatnonzero(rows[:, :4].copy().view("<u4")[:, 0] == struct.unpack("<I", b"FILE")[0])
            if len(marks):
                yield [at + int(n) * size for n in marks], rows[marks].tobytes()
