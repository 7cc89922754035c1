"""An HFS+ or HFSX volume: its files by the catalog, and deleted ones by what remains in its nodes and its journal.

Source: Apple Technical Note TN1150 (volume header, allocation file, catalog, extents overflow, hard links, journal).
"""

from __future__ import annotations

import io
import struct
import unicodedata
from collections import defaultdict
from collections.abc import Iterator
from typing import BinaryIO, cast

import numpy as np

from rustfern.core.errors import Malformed, SourceError
from rustfern.sources.disks.hfsplus.btree import (
    CatalogRecord,
    Fork,
    Header,
    catalog_record,
    fork_of,
    free_space,
    header_of,
    is_leaf,
    leaves,
    records,
    remains,
)
from rustfern.sources.disks.interface import DiskBytes, Extent, ExtentStream, PlainFiles, Stored, read_exactly
from rustfern.sources.disks.recognise import hfs_of
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import LOST, ROOT, Tree

_ROOT_FOLDER, _FIRST_OWN, _ALLOCATION, _CATALOG, _EXTENTS = 2, 16, 6, 4, 3
_JOURNALED = 1 << 13
_PRIVATE = "\0\0\0\0HFS+ Private Data"
_LINKED = "iNode"
_JOURNAL_MAGIC = b"JNLx", b"xLNJ"
_MAX_JOURNAL = 512 << 20
_MAX_NAMES = 20_000_000
_LARGEST_MAP = 1 << 30


class HfsVolume(PlainFiles):
    """One HFS+ volume. `tree` holds all names; the keys of its nodes number the records of the catalog."""

    type = "hfsplus"
    clusters_at = 0

    def __init__(self, volume: DiskBytes) -> None:
        """Raises `Malformed` and `SourceError`."""
        self._volume, self.remark = volume, ""
        head = volume.read_at(1024, 512)
        if hfs_of(head) is None:
            head = volume.read_at(volume.size // 512 * 512 - 1024, 512)
            self.remark = "its volume header is damaged; the copy of it was used"
            if hfs_of(head) is None:
                raise Malformed("its volume header and the copy of it are damaged")
        self.case_matters = head[:2] == b"HX"
        attributes, journal_block = struct.unpack_from(">I4xI", head, 4)
        self.cluster, self._blocks = struct.unpack_from(">II", head, 40)
        self._forks = {
            _ALLOCATION: fork_of(head, 112), _EXTENTS: fork_of(head, 192), _CATALOG: fork_of(head, 272),
        }  # fmt: skip
        self._more: dict[int, list[tuple[int, tuple[tuple[int, int], ...]]]] = defaultdict(list)
        self._read_overflow()
        self._held: list[CatalogRecord] = []
        self._links: dict[int, CatalogRecord] = {}
        self._map: ClusterMap | None = None
        self.tree = Tree()
        self.label = ""
        self._nodes: dict[int, int] = {_ROOT_FOLDER: ROOT}
        stream, header = self._tree(_CATALOG)
        found = list(self._living(stream, header))
        if attributes & _JOURNALED:
            self._journal_block = journal_block
            gone = [*self._in_slack(stream, header), *self._in_journal(header.node_size)]
        else:
            gone = list(self._in_slack(stream, header))
        self._lay_out(found, gone)
        self.tree.finish()

    # --- trees -----------------------------------------------------------------------------------------------------

    def _in_bytes(self, blocks: tuple[tuple[int, int], ...]) -> tuple[Extent, ...]:
        for first, count in blocks:
            if first + count > self._blocks:
                raise Malformed("an extent leads out of the volume")
        return tuple((first * self.cluster, count * self.cluster) for first, count in blocks)

    def _extents_of(self, ident: int, fork: Fork) -> tuple[Extent, ...]:
        """Where a fork lies; extents beyond the eighth are in a tree of their own."""
        found = list(fork.extents)
        reached = sum(count for _, count in found)
        for start, more in sorted(self._more.get(ident, ())):
            if start == reached:
                found += more
                reached += sum(count for _, count in more)
        return self._in_bytes(tuple(found))

    def _tree(self, ident: int) -> tuple[ExtentStream, Header]:
        fork = self._forks[ident]
        stream = ExtentStream(self._volume, self._extents_of(ident, fork), fork.size)
        return stream, header_of(stream.read_here(512))

    def _read_overflow(self) -> None:
        if not self._forks[_EXTENTS].size:
            return
        try:
            stream, header = self._tree(_EXTENTS)
            for node in leaves(lambda number: _node(stream, header, number), header):
                for start, end in records(node):
                    key, kind, ident, first = struct.unpack_from(">HBxII", node, start)
                    at = start + 2 + key
                    if kind == 0 and at + 64 <= end:
                        told = struct.unpack_from(">16I", node, at)
                        pairs = tuple((told[n], told[n + 1]) for n in range(0, 16, 2) if told[n + 1])
                        self._more[ident].append((first, pairs))
        except (Malformed, struct.error):
            self.remark = self.remark or "its list of further extents is damaged: files in many pieces may be cut"

    def _living(self, stream: ExtentStream, header: Header) -> Iterator[CatalogRecord]:
        count = 0
        for node in leaves(lambda number: _node(stream, header, number), header):
            for start, end in records(node):
                found = catalog_record(node[start:end])
                if found is not None:
                    count += 1
                    if count > _MAX_NAMES:
                        raise Malformed("it has more names than can be")
                    yield found

    def _in_slack(self, stream: ExtentStream, header: Header) -> Iterator[CatalogRecord]:
        """What remains in parts of nodes that no record has, and in leaf nodes that are not in use any more."""
        used: set[int] = set()
        at, seen = header.first_leaf, set[int]()
        while at and at not in seen:
            seen.add(at)
            node = _node(stream, header, at)
            if not is_leaf(node):
                break
            used.add(at)
            at = struct.unpack_from(">I", node)[0]
        for number in range(1, header.total):
            node = _node(stream, header, number)
            if len(node) < header.node_size:
                return
            if number in used:
                yield from remains(node, *free_space(node))
            elif is_leaf(node):
                yield from remains(node, 14, len(node))

    def _in_journal(self, node_size: int) -> Iterator[CatalogRecord]:
        """Older copies of leaf nodes in the journal: it holds whole blocks, at steps of a sector."""
        try:
            info = read_exactly(self._volume, self._journal_block * self.cluster, 180)
            flags = struct.unpack_from(">I", info)[0]
            offset, size = struct.unpack_from(">QQ", info, 36)
            if flags & 2 or not 0 < size <= _MAX_JOURNAL:
                return  # it lies on another disk
            head = self._volume.read_at(offset, 512)
            if head[:4] not in _JOURNAL_MAGIC:
                return
            window = 8 << 20
            for at in range(0, size, window):
                raw = self._volume.read_at(offset + at, min(window + node_size, size - at))
                marks = np.frombuffer(raw[: len(raw) // 512 * 512], np.uint8).reshape(-1, 512)
                hits = np.flatnonzero(
                    (marks[:, 8] == 0xFF) & (marks[:, 9] == 1) & (marks[:, 12] == 0) & (marks[:, 13] == 0)
                )
                for hit in hits.tolist():
                    node = raw[hit * 512 : hit * 512 + node_size]
                    if hit * 512 < window and len(node) == node_size:
                        for start, end in records(node):
                            found = catalog_record(node[start:end], deleted=True)
                            if found is not None:
                                yield found
        except (Malformed, SourceError, struct.error):
            self.remark = self.remark or "its journal is damaged: older records were not found"

    # --- names -----------------------------------------------------------------------------------------------------

    def _lay_out(self, living: list[CatalogRecord], gone: list[CatalogRecord]) -> None:
        here = {record.ident for record in living}
        private = {record.ident for record in living if record.is_folder and record.name.startswith("\0")}
        for record in living:
            if record.parent in private and record.name.startswith(_LINKED) and record.name[5:].isdecimal():
                self._links[int(record.name[5:])] = record
        self.label = next((record.name for record in living if record.ident == _ROOT_FOLDER), "")
        last: dict[int, CatalogRecord] = {}
        for record in gone:
            # Of one file, the record that was written last.
            if record.ident not in here and record.ident >= _FIRST_OWN:
                known = last.get(record.ident)
                if known is None or (record.changed or 0) >= (known.changed or 0):
                    last[record.ident] = record
        shown = [r for r in living if r.ident != _ROOT_FOLDER and r.parent not in private and r.ident not in private]
        rows = [*shown, *last.values()]
        for record in rows:
            key = len(self._held)
            self._held.append(record)
            name = unicodedata.normalize("NFC", record.name).replace("/", ":")
            node = self.tree.add(name, LOST, key, folder=record.is_folder, deleted=record.deleted)
            if record.is_folder:
                self._nodes.setdefault(record.ident, node)
        for node, record in enumerate(rows, 2):
            parent = self._nodes.get(record.parent)
            if parent is not None and parent != node:
                self.tree.move(node, parent)

    # --- files -----------------------------------------------------------------------------------------------------

    def _record(self, key: int) -> CatalogRecord:
        if key < 0:
            raise Malformed("nothing is recorded of this folder any more")
        record = self._held[key]
        return self._links.get(record.link, record) if record.link is not None else record

    def stored(self, key: int) -> Stored:
        """What the catalog says of a file. Raises `Malformed`."""
        record = self._record(key)
        extents = (
            self._extents_of(record.ident, record.fork) if not record.deleted else self._in_bytes(record.fork.extents)
        )
        unreadable, link = "", None
        if record.packed and not record.fork.size:
            unreadable = "the system keeps it packed beside its content, which is not read"
        if record.symlink:
            stream = ExtentStream(self._volume, extents, min(record.fork.size, 4096))
            link = stream.read_here(4096).decode("utf-8", "surrogateescape") or "?"
        return Stored(
            record.fork.size, record.modified, record.created, record.changed, extents, mode=record.mode or 0o600,
            is_file=not record.is_folder and link is None, link_target=link, unreadable=unreadable,
        )  # fmt: skip

    def open(self, key: int, way: Stored | None = None) -> BinaryIO:
        """The bytes of a file. Raises `Malformed`."""
        stored = way or self.stored(key)
        raw = ExtentStream(self._volume, stored.extents or (), stored.size)
        return cast(BinaryIO, io.BufferedReader(raw, 1 << 16))

    def used(self) -> ClusterMap:
        """Which blocks living files have; the highest bit of a byte is the first of its eight."""
        if self._map is None:
            fork = self._forks[_ALLOCATION]
            stream = io.BufferedReader(ExtentStream(self._volume, self._extents_of(_ALLOCATION, fork), fork.size))
            bits = np.unpackbits(np.frombuffer(stream.read(min(fork.size, _LARGEST_MAP)), np.uint8))
            self._map = ClusterMap(np.packbits(bits, bitorder="little"), self._blocks)
        return self._map


def _node(stream: ExtentStream, header: Header, number: int) -> bytes:
    if not 0 <= number < header.total:
        return b""
    data = b""
    stream.seek(number * header.node_size)
    while len(data) < header.node_size and (piece := stream.read_here(header.node_size - len(data))):
        data += piece
        stream.seek(number * header.node_size + len(data))
    return data
