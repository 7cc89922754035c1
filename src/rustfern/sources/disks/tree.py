"""The names of a volume, living and deleted, as one tree: columns of numbers, so that a million of them fit."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

ROOT, LOST = 0, 1
"""Nodes that every tree has: the volume itself, and `?`, the folder of what has lost its own."""
LOST_NAME = "?"
_MAX_DEPTH = 2_000
_HIDDEN = -2


class Tree:
    """Names by number. `parents` are the nodes of the folders that they lie in, `keys` what their file system knows them by.

    Built by `add`, then `finish`. A name is never empty, and holds no `/` and no NUL: such ones are replaced.
    """

    def __init__(self) -> None:
        self.names: list[str] = ["", LOST_NAME]
        self._parents: list[int] = [-1, ROOT]
        self._keys: list[int] = [-1, -1]
        self._folders = bytearray(b"\1\1")
        self._deleted = bytearray(b"\0\1")
        self.parents: NDArray[np.int32] = np.zeros(0, np.int32)
        self.keys: NDArray[np.int64] = np.zeros(0, np.int64)
        self._order: NDArray[np.int64] = np.zeros(0, np.int64)
        self._sorted: NDArray[np.int32] = np.zeros(0, np.int32)

    def __len__(self) -> int:
        return len(self.names)

    def add(self, name: str, parent: int, key: int, *, folder: bool, deleted: bool) -> int:
        """A name more; its number."""
        self.names.append(name if is_safe(name) else safe_name(name))
        self._parents.append(parent)
        self._keys.append(key)
        self._folders.append(folder)
        self._deleted.append(deleted)
        return len(self.names) - 1

    def extend(
        self, names: list[str], parents: NDArray[np.int32], keys: NDArray[np.int64], folders: bytes, deleted: bytes
    ) -> None:
        """Many names at once; the names are safe already."""
        self.names += names
        self._parents += parents.tolist()
        self._keys += keys.tolist()
        self._folders += folders
        self._deleted += deleted

    def hide(self, node: int) -> None:
        """Take a name out again, before `finish`: it lies nowhere."""
        self._parents[node] = _HIDDEN

    def rename(self, node: int, name: str) -> None:
        """Give a node another name, before `finish`."""
        self.names[node] = name if is_safe(name) else safe_name(name)

    def move(self, node: int, parent: int) -> None:
        """Lay a name into another folder, before `finish`."""
        self._parents[node] = parent

    def parent_of(self, node: int) -> int:
        """The folder of a node, before and after `finish`."""
        return self._parents[node] if self._parents else int(self.parents[node])

    def key_of(self, node: int) -> int:
        """What a node's file system knows it by, before and after `finish`."""
        return self._keys[node] if self._keys else int(self.keys[node])

    def finish(self) -> None:
        """Make the tree ready to be asked. What lies in itself, or too deep, is laid into `?`."""
        self.parents = np.array(self._parents, np.int32)
        self.keys = np.array(self._keys, np.int64)
        self._parents, self._keys = [], []
        hidden = self.parents == _HIDDEN
        wrong = (self.parents >= len(self.names)) | (self.parents < 0)
        wrong[ROOT] = False
        self.parents[wrong] = LOST
        self._cut_loops()
        self.parents[ROOT] = -1
        self.parents[hidden] = _HIDDEN
        self._order = np.argsort(self.parents, kind="stable")
        self._sorted = self.parents[self._order]

    def _cut_loops(self) -> None:
        """Every node leads to the root in a bounded number of steps; those that do not are laid into `?`."""
        self.parents[ROOT] = ROOT
        at = self.parents.copy()
        for _ in range(_MAX_DEPTH.bit_length()):
            at = at[at]  # doubles the number of steps each time
        bad = np.flatnonzero(at != ROOT)
        if len(bad):
            # Only a folder whose own folder is a part of the loop is moved; what lies below it follows.
            seen: set[int] = set()
            for node in bad.tolist():
                path: set[int] = set()
                steps = 0
                while node != ROOT and node not in seen and node not in path and steps < _MAX_DEPTH:
                    path.add(node)
                    node, steps = int(self.parents[node]), steps + 1
                if node in path or steps == _MAX_DEPTH:
                    self.parents[node] = LOST
                seen |= path

    def children(self, node: int) -> NDArray[np.int64]:
        """The nodes directly in a folder."""
        first = int(np.searchsorted(self._sorted, np.int32(node), "left"))
        last = int(np.searchsorted(self._sorted, np.int32(node), "right"))
        return self._order[first:last]

    def is_folder(self, node: int) -> bool:
        """Whether a node is a folder."""
        return bool(self._folders[node])

    def is_deleted(self, node: int) -> bool:
        """Whether a node is of something deleted."""
        return bool(self._deleted[node])

    def deleted_nodes(self) -> NDArray[np.int64]:
        """All nodes of what was deleted, the folder `?` not counted."""
        found = np.flatnonzero(np.frombuffer(bytes(self._deleted), np.uint8))
        return np.array([node for node in found.tolist() if node != LOST and self.parents[node] != _HIDDEN], np.int64)

    def counts(self) -> tuple[int, int]:
        """(living files, deleted files)."""
        folders = np.frombuffer(bytes(self._folders), np.uint8) | (self.parents == _HIDDEN)
        deleted = np.frombuffer(bytes(self._deleted), np.uint8)
        return int(((folders == 0) & (deleted == 0)).sum()), int(((folders == 0) & (deleted == 1)).sum())

    def parts(self, node: int) -> list[str]:
        """The names from the root down to a node."""
        found: list[str] = []
        while node != ROOT and len(found) < 2 * _MAX_DEPTH:
            found.append(self.names[node])
            node = int(self.parents[node])
        return found[::-1]


def is_safe(name: str) -> bool:
    """Whether a name can be a part of a path as it is."""
    return name.isascii() and name.isprintable() and "/" not in name and name not in ("", ".", "..")


def safe_name(name: str) -> str:
    """A name from a disk that can be a part of a path: separators and NUL are replaced, what is no Unicode text is kept as escapes."""
    name = name.replace("/", "\u2215").replace("\0", "\u2400").replace("\x1f", "\u241f")
    if name in ("", ".", ".."):
        return name.replace(".", "\u2024") or "\u2400"
    if not name.isascii():
        try:
            name.encode("utf-8", "surrogateescape")
        except UnicodeEncodeError:
            # Half pairs of UTF-16 are no text: they are kept as the bytes they would be.
            name = name.encode("utf-8", "surrogatepass").decode("utf-8", "surrogateescape")
    return name
