"""An NTFS volume: its table by its own runs, its living and deleted files, and what the allocation map says.

Source: the NTFS documentation of the Linux-NTFS project ($Boot, $MFT, $MFTMirr, $Bitmap, attribute lists, directory indexes).
"""

from __future__ import annotations

import io
import struct
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import BinaryIO, cast

import numpy as np
from numpy.typing import NDArray

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Trace
from rustfern.sources.disks.interface import HOLE, DiskBytes, Extent, ExtentStream, PlainFiles, Stored
from rustfern.sources.disks.ntfs import table
from rustfern.sources.disks.ntfs.attributes import (
    COMPRESSED,
    DATA,
    DOS_NAME,
    ENCRYPTED,
    INDEX_BLOCKS,
    INDEX_ROOT,
    REFERENCE,
    REPARSE,
    STANDARD,
    Attribute,
    FileName,
    attributes,
    fixed,
    names_in_slack,
    time_ns,
)
from rustfern.sources.disks.ntfs.earlier import add_earlier_files
from rustfern.sources.disks.ntfs.journal import DELETED, changes
from rustfern.sources.disks.ntfs.packed import PackedStream
from rustfern.sources.disks.ntfs.records import Records, all_of, same_use
from rustfern.sources.disks.recognise import ntfs_of
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import LOST, ROOT, Tree, is_safe, safe_name

_BITMAP, _ROOT, _VOLUME, _CAPITALS, _EXTEND = 6, 5, 3, 10, 11
_SYSTEM_RECORDS = 16
_MAX_INDEX = 16 << 20
_MAX_RESIDENT_LINK = 16 << 10
_SYMLINK, _MOUNT_POINT, _WOF = 0xA000000C, 0xA0000003, 0x80000017
_CLOUD, _CLOUD_BITS = 0x9000001A, 0xFFFF0FFF
_ONLINE_ONLY = 0x1000 | 0x40000 | 0x400000
_LARGEST_MAP = 1 << 30
_NEARLY_EMPTY = 512
"""Records in use up to which those of an earlier format are sought."""
_MOST_OF_JOURNAL = 256 << 20
"""Bytes of the change journal that are read, the latest ones."""


class NtfsVolume(PlainFiles):
    """One NTFS volume. `tree` holds all names; the keys of its nodes are numbers of records."""

    type = "ntfs"
    case_matters = False
    clusters_at = 0

    def __init__(self, volume: DiskBytes) -> None:
        """Raises `Malformed` and `SourceError`."""
        self._volume = volume
        boot = volume.read_at(0, 512)
        self.remark = ""
        if ntfs_of(boot) is None:
            boot = volume.read_at(volume.size // 512 * 512 - 512, 512)
            self.remark = "its boot sector is damaged; the copy at its end was used"
            if ntfs_of(boot) is None:
                raise Malformed("its boot sector and the copy of it are damaged")
        sector, per_cluster = struct.unpack_from("<HB", boot, 11)
        self.cluster = sector * (per_cluster if per_cluster <= 0x80 else 1 << (256 - per_cluster))
        sectors, table_at, mirror_at = struct.unpack_from("<QQQ", boot, 40)
        size = struct.unpack_from("<b", boot, 64)[0]
        record = size * self.cluster if size > 0 else 1 << -size
        if record not in (512, 1024, 2048, 4096) or not 512 <= self.cluster <= 2 << 20:
            raise Malformed("its boot sector gives sizes that cannot be")
        self._size = sectors * sector
        self._records = Records(volume, self.cluster, record, table_at, mirror_at)
        self.remark = self.remark or self._records.remark
        self._count = self._records.count
        self.label = self._label()
        self.tree = Tree()
        self._bitmap: ClusterMap | None = None
        self._sequences: NDArray[np.int64] = np.zeros(self._count, np.int64)
        self._node_of: NDArray[np.int64] = np.full(self._count, -1, np.int64)
        self._in_use: NDArray[np.bool_] = np.zeros(self._count, bool)
        self._read_names()

    # --- names -----------------------------------------------------------------------------------------------------

    def _label(self) -> str:
        record = self._records.one(_VOLUME)
        for each in attributes(record) if record else ():
            if each.kind == 0x60 and each.value is not None:
                return each.value.decode("utf-16-le", "replace")
        return ""

    def _read_names(self) -> None:
        """Fill the tree: every record in use or not that still has a name, and the folders they lie in by their references."""
        numbers: list[NDArray[np.int64]] = []
        folders: list[NDArray[np.uint64]] = []
        names: list[str] = []
        is_folder = np.zeros(self._count, bool)
        whole = np.zeros(self._count, bool)
        bases: dict[int, int] = {}
        for first, block in table.blocks(self._records.read, self._count, self._records.size):
            end = first + len(block.flags)
            self._sequences[first:end] = block.sequences
            self._in_use[first:end] = table.is_in_use(block) & block.whole
            is_folder[first:end] = table.is_folder(block)
            whole[first:end] = block.whole
            for row in np.flatnonzero((block.bases != 0) & block.whole).tolist():
                base = int(block.bases[row])
                bases[first + row] = base
                self._records.extensions.setdefault(base, []).append(first + row)
            best = table.best_names(block)
            kept = np.flatnonzero(best)
            numbers.append(block.rows[kept] + first)
            folders.append(block.folders[kept])
            names += [block.names[at] for at in kept.tolist()]
        number = np.concatenate(numbers) if numbers else np.zeros(0, np.int64)
        folder = np.concatenate(folders) if folders else np.zeros(0, np.uint64)
        if bases:
            own = number.copy()
            extensions = np.array(sorted(bases), np.int64)
            at = np.searchsorted(extensions, own)
            at[at == len(extensions)] = 0
            moved = extensions[at] == own
            number[moved] = np.array([bases[n] for n in own[moved].tolist()], np.int64)
        valid = number < self._count
        if not valid.all():
            kept = np.flatnonzero(valid)
            number, folder, names = number[kept], folder[kept], [names[at] for at in kept.tolist()]
        self._lay_out(number, folder, names, is_folder, whole, set(bases))

    def _lay_out(
        self,
        number: NDArray[np.int64],
        folder: NDArray[np.uint64],
        names: list[str],
        is_folder: NDArray[np.bool_],
        whole: NDArray[np.bool_],
        extensions: set[int],
    ) -> None:
        in_use = self._in_use
        visible = (number >= _SYSTEM_RECORDS) | ~in_use[number] | (number == _EXTEND)
        kept = np.flatnonzero(visible)
        if len(kept) < len(number):
            number, folder, names = number[kept], folder[kept], [names[at] for at in kept.tolist()]
        first_node = len(self.tree)
        node_of = np.full(self._count, -1, np.int64)  # record → the node of its first name
        node_of[number[::-1]] = np.arange(first_node + len(number) - 1, first_node - 1, -1)
        node_of[_ROOT] = ROOT
        self._node_of = node_of
        parent_number = (folder & np.uint64(REFERENCE)).astype(np.int64)
        parent_use = (folder >> np.uint64(48)).astype(np.int64)
        there = parent_number < self._count
        safe = np.where(there, parent_number, 0)
        use = self._sequences[safe]
        # A record that was given back counts one more use than it had.
        same = (use == parent_use) | (~in_use[safe] & (use == parent_use + 1)) | (safe == _ROOT)
        good = there & same & is_folder[safe] & (node_of[safe] >= 0)
        parents = np.where(good, node_of[safe], LOST).astype(np.int32)
        clean = [n if is_safe(n) else safe_name(n) for n in names]
        self.tree.extend(
            clean,
            parents,
            number,
            is_folder[number].astype(np.uint8).tobytes(),
            (~in_use[number]).astype(np.uint8).tobytes(),
        )
        nameless = np.flatnonzero(whole & ~in_use & (node_of < 0) & ~is_folder)
        self._add_nameless(
            [n for n in nameless.tolist() if n not in extensions and n >= _SYSTEM_RECORDS], node_of, is_folder
        )
        self._add_earlier()
        self.tree.finish()

    def _add_earlier(self) -> None:
        """Files of the format before this one, where hardly any live."""
        try:
            if self._in_use.sum() > _NEARLY_EMPTY:
                return
            found = add_earlier_files(self._volume, self.used(), self.cluster, self._records.size, self.tree)
        except (Malformed, SourceError):
            return
        if found:
            self.remark = self.remark or f"it was formatted again: {found:,} records of the format before were found"

    def _add_nameless(self, numbers: list[int], node_of: NDArray[np.int64], is_folder: NDArray[np.bool_]) -> None:
        """Deleted records that have no name of their own any more, if they still have content: by what indexes still say of them."""
        held = [
            n for n in numbers if any(e.kind == DATA and not e.name and e.size for e in self._records.attributes_of(n))
        ]
        if not held:
            return
        told = self.names_in_indexes(np.flatnonzero(self._in_use & is_folder).tolist())
        for number in held:
            named = told.get((number, int(self._sequences[number]) - 1)) or told.get(
                (number, int(self._sequences[number]))
            )
            parent = LOST
            name = f"record {number}"
            if named is not None:
                name = named.name
                above = named.parent & REFERENCE
                if above < self._count and node_of[above] >= 0:
                    parent = int(node_of[above])
            self.tree.add(name, parent, number, folder=False, deleted=True)

    def names_in_indexes(
        self, folders: list[int], wanted: Callable[[int], bool] = bool
    ) -> dict[tuple[int, int], FileName]:
        """(record, use) → name, of entries that remain in the unused parts of folders' indexes."""
        found: dict[tuple[int, int], FileName] = {}
        for number in folders:
            for each in self._records.attributes_of(number):
                if each.name != "$I30":
                    continue
                if each.kind == INDEX_ROOT and each.value is not None and len(each.value) >= 32:
                    end = 16 + struct.unpack_from("<I", each.value, 20)[0]
                    _take(found, each.value, min(end, len(each.value)), wanted)
                elif each.kind == INDEX_BLOCKS and each.runs:
                    for block in self._index_blocks(each):
                        start = 24 + struct.unpack_from("<I", block, 28)[0]
                        _take(found, block, min(start, len(block)), wanted)
        return found

    def _index_blocks(self, each: Attribute) -> list[bytes]:
        size = min(each.allocated or each.size, _MAX_INDEX)
        data = all_of(ExtentStream(self._volume, self._records.in_bytes(each.runs), size), size)
        step = 4096
        found = []
        for at in range(0, len(data) - step + 1, step):
            block = fixed(data[at : at + step], b"INDX")
            if block is not None:
                found.append(block)
        return found

    # --- files -----------------------------------------------------------------------------------------------------

    def stored(self, key: int) -> Stored:
        """What the record of a file says. Raises `Malformed`."""
        held = self._records.attributes_of(key)
        if not held:
            raise Malformed(f"its file record {key} is damaged")
        modified = created = changed = None
        flags = 0
        link, online, unreadable = None, False, ""
        for each in held:
            if each.kind == STANDARD and each.value is not None and len(each.value) >= 36:
                made, written, touched = struct.unpack_from("<QQQ", each.value)
                created, modified, changed = time_ns(made), time_ns(written), time_ns(touched)
                flags = struct.unpack_from("<I", each.value, 32)[0]
            elif each.kind == REPARSE:
                link, online, unreadable = self._reparse(each)
        is_folder = bool(struct.unpack_from("<H", self._records.one(key) or bytes(24), 22)[0] & 2)
        online = online or bool(flags & _ONLINE_ONLY)
        size, extents, data, valid, encrypted = self._content(held)
        return Stored(
            size, modified, created, changed, extents, data, valid, 0o600, not is_folder and link is None, link,
            encrypted or bool(flags & 0x4000), online, unreadable=unreadable,
        )  # fmt: skip

    def _content(self, held: list[Attribute]) -> tuple[int, tuple[Extent, ...] | None, bytes | None, int | None, bool]:
        """(size, extents or None, bytes in the record or None, bytes ever written, whether encrypted) of the unnamed stream."""
        pieces = [each for each in held if each.kind == DATA and not each.name]
        inside = next((each for each in pieces if each.value is not None), None)
        if inside is not None:
            return inside.size, None, inside.value, None, bool(inside.flags & ENCRYPTED)
        pieces.sort(key=lambda each: each.first)
        if not pieces:
            return 0, (), None, None, False
        first = pieces[0]
        runs: list[Extent] = []
        reached = 0
        for each in pieces:
            if each.first > reached:
                runs.append((HOLE, each.first - reached))  # a piece of the list is lost
                reached = each.first
            elif each.first < reached:
                continue
            runs += each.runs
            reached += sum(count for _, count in each.runs)
        extents: tuple[Extent, ...] | None = self._records.in_bytes(tuple(runs))
        if first.flags & COMPRESSED and first.unit:
            extents = None
        return first.size, extents, None, first.valid, bool(first.flags & ENCRYPTED)

    def _reparse(self, each: Attribute) -> tuple[str | None, bool, str]:
        """(where a link leads, whether the content is online only, a remark)."""
        value = each.value
        if value is None:
            size = min(each.size, _MAX_RESIDENT_LINK)
            value = all_of(ExtentStream(self._volume, self._records.in_bytes(each.runs), size), size)
        if len(value) < 16:
            return None, False, ""
        tag = struct.unpack_from("<I", value)[0]
        if tag & _CLOUD_BITS == _CLOUD & _CLOUD_BITS:
            return None, True, ""
        if tag == _WOF:
            return None, False, "the system keeps it packed in another stream, which is not read"
        if tag not in (_SYMLINK, _MOUNT_POINT):
            return None, False, ""
        start = 20 if tag == _SYMLINK else 16
        at, length = struct.unpack_from("<HH", value, 8)
        target = value[start + at : start + at + length].decode("utf-16-le", "replace")
        return target or "?", False, ""

    @cached_property
    def _capitals(self) -> NDArray[np.uint16] | None:
        """The volume's own table: for each unit of UTF-16 its capital; None where it is damaged."""
        try:
            with self.open(_CAPITALS) as stream:
                found = np.frombuffer(stream.read(2 << 16), "<u2")
        except (Malformed, SourceError, IndexError):
            return None
        return found if len(found) == 1 << 16 else None

    def fold(self, name: str) -> str:
        """By the volume's own table of capitals ($UpCase)."""
        if self._capitals is None:
            return name.casefold()
        units = np.frombuffer(name.encode("utf-16-le", "surrogatepass"), "<u2")
        folded: bytes = self._capitals[units].tobytes()
        return folded.decode("utf-16-le", "surrogatepass")

    def streams(self, key: int) -> tuple[str, ...]:
        """The names of streams beside the content, such as the mark of a download."""
        return tuple(each.name for each in self._records.attributes_of(key) if each.kind == DATA and each.name)

    def traces(self, folders: Sequence[int]) -> Iterator[Trace]:
        """Names in the unused parts of folders' indexes whose records others have now, and deletions that the change journal tells of."""
        for node in folders:
            number = int(self.tree.keys[node]) if node != ROOT else _ROOT
            if not 0 <= number < self._count or not self._in_use[number]:
                continue
            for name in self.names_in_indexes([number], self._was_used_again).values():
                if name.space != DOS_NAME:
                    yield Trace(node, safe_name(name.name), name.modified, name.size, "index", False)
        yield from self._journal_tells()

    def _was_used_again(self, reference: int) -> bool:
        """Whether the record that a reference means is another file's by now."""
        number = reference & REFERENCE
        return 0 < number < self._count and not same_use(reference >> 48, int(self._sequences[number]))

    def _journal_tells(self) -> Iterator[Trace]:
        """Deletions of files, the latest last."""
        for key in self._change_journals():
            for data in self._journal_bytes(key):
                for change in changes(data):
                    node = self._node_of_reference(change.folder)
                    if change.reason & DELETED and not change.is_folder and node is not None:
                        yield Trace(node, safe_name(change.name), change.when, None, "journal", True)

    def _journal_bytes(self, key: int) -> Iterator[bytes]:
        """The latest stretches of a journal, in order."""
        pieces = sorted(
            (e for e in self._records.attributes_of(key) if e.kind == DATA and e.name == "$J"), key=lambda e: e.first
        )
        yield from (piece.value for piece in pieces if piece.value is not None)
        kept: list[Extent] = []
        left = _MOST_OF_JOURNAL
        for place, length in reversed(self._records.in_bytes(tuple(run for piece in pieces for run in piece.runs))):
            if place != HOLE and left > 0:
                kept.append((place + length - min(length, left), min(length, left)))
                left -= length
        for place, length in reversed(kept):
            for at in range(place, place + length, 1 << 20):
                yield self._volume.read_at(at, min(1 << 20, place + length - at))

    def _change_journals(self) -> list[int]:
        """The records of the change journal, which lies in a folder of the system."""
        extended = next((n for n in self.tree.children(ROOT).tolist() if self.tree.keys[n] == _EXTEND), None)
        if extended is None:
            return []
        return [
            int(self.tree.keys[n]) for n in self.tree.children(extended).tolist() if self.tree.names[n] == "$UsnJrnl"
        ]

    def _node_of_reference(self, reference: int) -> int | None:
        """The node of the folder that a reference means, None if its record was used again."""
        number, use = reference & REFERENCE, reference >> 48
        if not number < self._count or self._node_of[number] < 0 or not same_use(use, int(self._sequences[number])):
            return None
        return int(self._node_of[number])

    def open(self, key: int, way: Stored | None = None) -> BinaryIO:
        """The bytes of a file. Raises `Malformed`."""
        held = self._records.attributes_of(key)
        pieces = sorted((e for e in held if e.kind == DATA and not e.name), key=lambda each: each.first)
        size, extents, data, valid, _ = self._content(held)
        if data is not None:
            return io.BytesIO(data)
        raw: io.RawIOBase
        if extents is None:
            runs = self._records.in_bytes(tuple(run for each in pieces for run in each.runs))
            unit = self.cluster << pieces[0].unit
            if unit > 16 << 20:
                raise Malformed("its units of packing have a size that cannot be")
            raw = PackedStream(self._volume, runs, size, size if valid is None else valid, unit)
        else:
            raw = ExtentStream(self._volume, extents, size, valid)
        return cast(BinaryIO, io.BufferedReader(raw, 1 << 16))

    def places(self, key: int) -> tuple[Extent, ...]:
        """Where the bytes of a file lie in the volume, packed ones too."""
        pieces = sorted(
            (e for e in self._records.attributes_of(key) if e.kind == DATA and not e.name and e.value is None),
            key=lambda each: each.first,
        )
        return tuple(e for e in self._records.in_bytes(tuple(run for p in pieces for run in p.runs)) if e[0] != HOLE)

    # --- space -----------------------------------------------------------------------------------------------------

    def used(self) -> ClusterMap:
        """Which clusters living files have."""
        if self._bitmap is None:
            stored = self.stored(_BITMAP)
            with self.open(_BITMAP) as stream:
                bits = np.frombuffer(stream.read(min(stored.size, _LARGEST_MAP)), np.uint8)
            self._bitmap = ClusterMap(bits, self._size // self.cluster)
        return self._bitmap


def _take(found: dict[tuple[int, int], FileName], block: bytes, start: int, wanted: Callable[[int], bool]) -> None:
    for reference, name in names_in_slack(block, start, wanted):
        found.setdefault((reference & REFERENCE, reference >> 48), name)
