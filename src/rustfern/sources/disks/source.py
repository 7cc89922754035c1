"""A disk, a volume of one, or a folder in one as a source: what lives, and what was deleted, under the paths that they had."""

from __future__ import annotations

import io
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, suppress
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import BinaryIO

from rustfern.core.errors import KeptEncrypted, SourceError
from rustfern.core.model import Entry, Location, SearchedDisk, SearchedVolume, Trace
from rustfern.core.paths import inside, raw_offset, with_record
from rustfern.core.times import utc
from rustfern.sources.disks.disk import Disk, FileSystem, Volume
from rustfern.sources.disks.interface import HOLE, Extent, ExtentStream, Stored, on_disk
from rustfern.sources.disks.layings import may_tell, proves_itself
from rustfern.sources.disks.lvm_snapshots import Snapshot
from rustfern.sources.disks.open_disk import BROKEN, OpenDisk
from rustfern.sources.disks.shadow_copies import ShadowCopy
from rustfern.sources.disks.tree import ROOT
from rustfern.sources.interface import OnProblem
from rustfern.sources.parts import Listed, materialised

_MOST_EARLIER = 400_000
"""Files of earlier states of which what is said is kept in mind."""
_MAX_FOLDERS = 20_000
"""Folders whose indexes are looked through for names that are gone."""


class DiskSource(Listed):
    """A disk, a volume or a folder of one. Nothing is ever written to it, and it is never mounted."""

    medium = "the disk"

    def __init__(self, root: str, held: OpenDisk) -> None:
        self.root, self.held = root, held

    @property
    def disk(self) -> Disk:
        """The disk that it lies on."""
        return self.held.disk

    @property
    def _stamp(self) -> int:
        """What changes when an image does; 0 for a device, of which nothing tells."""
        return 0 if self.disk.container == "device" else hash(self.held.stamp) & 0x7FFFFFFF

    @property
    def trouble(self) -> str:
        """What is wrong with the disk as a whole."""
        self._volumes()  # reads what was not read yet
        told = [f"{each.name}: {each.message}" for each in self.volumes if each.status in ("encrypted", "damaged")]
        if not any(each.status == "read" for each in (*self.volumes, *self._earlier)):
            told = [
                f"none of its volumes can be read ({'; '.join(f'{each.name}: {each.message}' for each in self.volumes)})"
            ]
        return "; ".join(told)

    @property
    def tops(self) -> tuple[str, ...]:
        """The folders that stand for the top of a volume, or the root itself where it lies in one."""
        if self.root != self.held.path:
            return (self.root,)
        return tuple(os.path.join(self.root, name) for name in self._volumes())

    @property
    def _earlier(self) -> list[Volume]:
        """The earlier states of the volumes that it reaches."""
        name, _ = self.held.take_apart(self.root)
        return [each for each in self.disk.earlier.values() if name in ("", each.of, each.name)]

    @property
    def volumes(self) -> list[Volume]:
        """The volumes that it reaches."""
        name, _ = self.held.take_apart(self.root)
        return [each for each in self.disk.volumes.values() if name in ("", each.name)]

    def told(self) -> SearchedDisk:
        """What is to be said of the disk and its volumes."""
        disk = self.disk
        self._volumes()  # reads what was not read yet
        volumes = tuple(self._told_volume(each) for each in (*self.volumes, *self._earlier))
        return SearchedDisk(
            self.held.path, disk.container, disk.bytes.size, disk.bytes.sector, disk.table, volumes, tuple(disk.remarks)
        )  # fmt: skip

    def _told_volume(self, volume: Volume) -> SearchedVolume:
        (files, deleted), unclaimed = volume.counts, 0
        if volume.system is not None and not volume.of:
            try:
                unclaimed = self.held.used(volume, volume.system).free() * volume.system.cluster
            except (*BROKEN, SourceError):
                unclaimed = 0
        label = volume.system.label if volume.system is not None else ""
        return SearchedVolume(
            volume.name, volume.offset, volume.size, volume.type, label, volume.status, volume.message, files, deleted, unclaimed
        )  # fmt: skip

    def _volumes(self) -> list[str]:
        return [name for name in self.disk.volumes if self.disk.system(name) is not None]

    def is_current(self) -> bool:
        """Whether the image is as it was when it was opened; a device always is."""
        if self.disk.container == "device":
            return True
        try:
            facts = os.stat(self.held.path)
        except OSError:
            return False
        return (facts.st_mtime_ns, facts.st_size) == self.held.stamp

    def exists(self, path: str) -> bool:
        """Whether anything lives at this path; what was deleted does not."""
        if path in self.held.earlier:
            return True
        volume, inner = self.held.take_apart(path)
        if not inner and raw_offset(path) is None:
            return not volume or self.disk.volume(volume) is not None
        found = self.held.node(path)
        if found is None and (offset := raw_offset(path)) is not None:
            return offset < self.disk.bytes.size
        if found is None and ":" in os.path.basename(path):
            name, _, stream = path.rpartition(":")
            found = self.held.node(name)
            return found is not None and stream in found[1].streams(int(found[1].tree.keys[found[2]]))
        return found is not None and not found[1].tree.is_deleted(found[2])

    def is_folder(self, path: str) -> bool | None:
        """Whether this is a folder, or was one."""
        volume, inner = self.held.take_apart(path)
        if not inner:
            return not volume or self.disk.system(volume) is not None
        found = self.held.node(path)
        return found is not None and found[1].tree.is_folder(found[2])

    def is_deleted(self, path: str) -> bool:
        """Whether what is recorded at this path was deleted."""
        found = self.held.node(path)
        return found is not None and found[1].tree.is_deleted(found[2])

    def list_folder(
        self, folder: str, is_top: bool, on_problem: OnProblem, on_error: Callable[[OSError, str], None] | None = None
    ) -> tuple[list[str], list[str]] | None:
        """As in a folder; deleted names are among them."""
        volume, inner = self.held.take_apart(folder)
        if not volume:
            return [*self._volumes(), *(each.name for each in self._earlier if each.status == "read")], []
        try:
            system = self.disk.system(volume)
            if system is None or not self.held.folders(volume, inner):
                told = self.disk.volume(volume) if system is None else None
                why = told.message if told is not None and told.message else "there is none on the disk"
                on_problem(folder, f"this folder could not be listed: {why}")
                return None
            listing = self.held.listing(volume, inner)
        except (*BROKEN, SourceError) as error:
            on_problem(folder, f"this folder could not be listed: {error}")
            return None
        tree = system.tree
        folders = [name for name, nodes in listing.items() if tree.is_folder(nodes[0])]
        apart = frozenset(folders)
        return folders, [name for name in listing if name not in apart]

    def deleted_in(self, folder: str) -> tuple[frozenset[str], list[str]]:
        """(names of files in a folder that are only records of deleted ones, paths of earlier records under names that others have now)."""
        volume, inner = self.held.take_apart(folder)
        system = self.disk.system(volume) if volume and volume not in self.disk.earlier else None
        if system is None:
            return frozenset(), []
        tree = system.tree
        gone, earlier = set(), []
        for name, nodes in self.held.listing(volume, inner).items():
            if tree.is_deleted(nodes[0]) and not tree.is_folder(nodes[0]):
                gone.add(name)
            earlier += [
                with_record(os.path.join(folder, name), node)
                for node in nodes[1:]
                if tree.is_deleted(node) and not tree.is_folder(node)
            ]
        return frozenset(gone), earlier

    def traces(self, tops: Sequence[str], wanted: Callable[[str], bool]) -> Iterator[tuple[str, Trace]]:
        """(path, what is still told of it) of names that are gone and whose content nothing records any more; the indexes of the folders
        below `tops` are looked through first.
        """
        for volume in self.volumes:
            system = self.disk.system(volume.name)
            if system is None:
                continue
            folders = self._folders_of(system, tops)
            try:
                for trace in system.traces(folders):
                    if not wanted(trace.name):
                        continue
                    inner = "/".join([*system.tree.parts(trace.folder), trace.name])
                    path = os.path.join(self.held.path, volume.name, *inner.split("/"))
                    if inside(path, self.root):
                        yield path, trace
            except (*BROKEN, SourceError):
                continue

    def _folders_of(self, system: FileSystem, tops: Sequence[str]) -> list[int]:
        """The folders that live, those below `tops` first."""
        tree = system.tree
        waiting = [ROOT]
        found: list[int] = []
        for top in (*tops, ""):
            if top:
                at = self.held.node(top)
                if at is None or at[1] is not system:
                    continue
                waiting = [at[2]]
            else:
                waiting = [ROOT]
            while waiting and len(found) < _MAX_FOLDERS:
                node = waiting.pop()
                found.append(node)
                waiting += [n for n in tree.children(node).tolist() if tree.is_folder(n) and not tree.is_deleted(n)]
        return list(dict.fromkeys(found))

    def entry(self, path: str) -> Entry:
        """As in a folder; what was deleted says so, and where on the disk it lies."""
        if path == self.held.path:
            return Entry(Location(self.root, path), self.disk.bytes.size, None, is_folder=True, is_file=False)
        if (laid := self._raw(path)) is not None:
            return laid
        if (known := self.held.earlier.get(path)) is not None:
            return known[0]
        found = self.held.node(path)
        if found is None:
            raise SourceError("this could not be looked at (there is nothing on the disk)", path)
        volume, system, node = found
        tree = system.tree
        deleted = tree.is_deleted(node)
        if tree.is_folder(node):
            return self._folder_entry(path, system, node, deleted=deleted)
        try:
            stored = self.held.stored(volume, system, node)
        except (*BROKEN, SourceError) as error:
            said = error.what if isinstance(error, SourceError) else f"its record on the disk is damaged ({error})"
            raise SourceError(said, path) from error
        modified = wall_time(stored.modified, self.held.zone, local=stored.local)
        extents, remaining, caution = None, None, stored.note
        if stored.extents is not None:
            # An earlier state that the image keeps of the whole disk lies nowhere on the disk as it is.
            extents = on_disk(volume.window, stored.extents, stored.size) if _lies_on_disk(volume) else None
        if deleted:
            remaining, told = self._remaining(volume, system, node, stored)
            caution = caution or told
        return Entry(
            Location(self.root, path),
            stored.size,
            None if modified is None else utc(modified / 1e9),
            is_file=stored.is_file and stored.link_target is None,
            link_target=stored.link_target,
            device=self._stamp,
            inode=node if self._stamp else 0,
            changed_ns=stored.changed or 0,
            mode=stored.mode or 0o600,
            modified_ns=modified,
            deleted=deleted,
            extents=extents or None,
            remaining=remaining,
            caution=caution,
            unread=self.held.unread.within(self._on_disk(volume, system, node, stored)) if self.held.unread else 0,
        )

    def _raw(self, path: str) -> Entry | None:
        """What lies at a place without a record, if the path names one and no file has that name."""
        offset = raw_offset(path)
        if offset is None or self.held.node(path) is not None or (laid := self.held.laid(offset)) is None:
            return None
        extents, caution = laid
        size = sum(length for _, length in extents)
        unread = self.held.unread.within(extents) if self.held.unread else 0
        return Entry(
            Location(self.root, path), size, None, device=self._stamp, deleted=True, extents=extents, caution=caution, unread=unread
        )  # fmt: skip

    def _on_disk(self, volume: Volume, system: FileSystem, node: int, stored: Stored) -> list[Extent]:
        """Where the bytes of a file lie on the disk, holes left out."""
        if stored.data is not None:
            return []
        told = system.places(int(system.tree.keys[node])) if stored.extents is None else stored.extents
        return [each for at, length in told if at != HOLE for each in volume.window.locate(at, length)]

    def _folder_entry(self, path: str, system: FileSystem, node: int, *, deleted: bool) -> Entry:
        modified = None
        if node != ROOT:
            try:
                stored = system.stored(int(system.tree.keys[node]))
                modified = wall_time(stored.modified, self.held.zone, local=stored.local)
            except (*BROKEN, SourceError):
                modified = None
        told = None if modified is None else utc(modified / 1e9)
        return Entry(
            Location(self.root, path), 0, told, is_folder=True, is_file=False, inode=node, mode=0o700,
            modified_ns=modified, deleted=deleted,
        )  # fmt: skip

    def _remaining(self, volume: Volume, system: FileSystem, node: int, stored: Stored) -> tuple[float, str]:
        """(the share of a deleted file that nothing took, what must be said)."""
        if stored.data is not None or not stored.size:
            return 1.0, ""
        key = int(system.tree.keys[node])
        told = system.places(key) if stored.extents is None else stored.extents
        places = [(at, length) for at, length in told if at != HOLE]
        known = sum(length for _, length in places)
        taken = 0 if system.holds_its_own(key) else self.held.taken(volume, system, places)
        claims = self.held.claims(volume, system)
        others = claims.others(node, places, lambda other: self._settled(volume, system, other))
        caution = ""
        later = [each for each in others if each.later]
        if later:
            caution = f"another deleted file, {later[0].name}, claims a part of its place too"
            if not taken and not proves_itself(system, key, stored, system.tree.names[node], self.held.limits):
                caution = f"another deleted file, {later[0].name}, was written later and had a part of its place"
                taken = min(sum(each.bytes for each in later), known)
        elif others:
            caution = f"another deleted file, {others[0].name}, had the same place before"
        size = stored.size if stored.extents is not None else known
        missing = (
            max(size - known, 0)
            if stored.extents is not None and not any(at == HOLE for at, _ in stored.extents)
            else 0
        )
        return max(round(1.0 - (min(taken, size) + missing) / size, 4), 0.0) if size else 1.0, caution

    def differing(self, folder: str, names: list[str], living: str) -> list[str]:
        """Of an earlier state of a volume. Its names are let go of when those of others are needed, so what is said of these files is kept in mind."""
        volume, _ = self.held.take_apart(folder)
        if volume not in self.disk.earlier:
            return names
        found = []
        for name in names:
            path = os.path.join(folder, name)
            try:
                entry = self.entry(path)
                with suppress(SourceError):
                    now = self.entry(os.path.join(living, name)) if living else None
                    if now is not None and not now.deleted and (now.size, now.modified) == (entry.size, entry.modified):
                        continue
                at = self.held.node(path)
                if at is not None and len(self.held.earlier) < _MOST_EARLIER:
                    self.held.earlier[path] = entry, self.held.stored(*at), at[0]
            except (*BROKEN, SourceError):
                pass  # it is said where the file is asked for
            found.append(name)
        return found

    def behind(self, entry: Entry) -> bytes:
        """What lies between a file's end and that of its last cluster."""
        found = self.held.node(entry.path)
        if found is None or not entry.extents:
            return b""
        rest = -entry.size % found[1].cluster
        at, length = entry.extents[-1]
        try:
            return self.disk.bytes.read_at(at + length, rest) if rest else b""
        except SourceError:
            return b""

    def _settled(self, volume: Volume, system: FileSystem, node: int) -> list[Extent]:
        """Where a deleted file lies of which only the beginning is recorded: as far as its format, or free space, bears it out."""
        try:
            stored = self.held.stored(volume, system, node)
        except (*BROKEN, SourceError):
            return []
        places = [(at, length) for at, length in stored.extents or () if at != HOLE]
        if (
            stored.verified
            or (not stored.guessed)
            or (not may_tell(system.tree.names[node]) and not self.held.taken(volume, system, places))
        ):
            return places
        return [(at, min(length, system.cluster)) for at, length in places[:1]]

    def open(self, entry: Entry) -> BinaryIO:
        """As in a folder."""
        if raw_offset(entry.path) is not None and (laid := self._raw(entry.path)) is not None:
            return io.BufferedReader(ExtentStream(self.disk.bytes, laid.extents or (), laid.size))
        known = self.held.earlier.get(entry.path)
        if known is not None and (stream := self._earlier_stream(*known)) is not None:
            return stream
        found = self.held.node(entry.path)
        if found is None or found[1].tree.is_folder(found[2]):
            raise SourceError("this is not a regular file and was not opened", entry.path)
        volume, system, node = found
        try:
            stored = self.held.stored(volume, system, node)
            if stored.online_only:
                raise SourceError("the content is online only and was not fetched", entry.path)
            if not stored.is_file or stored.link_target is not None:
                raise SourceError("this is not a regular file and was not opened", entry.path)
            if stored.encrypted:
                raise KeptEncrypted(
                    "the file system keeps it encrypted: only the person's own account on that machine can open it",
                    entry.path,
                )
            if stored.unreadable:
                raise SourceError(stored.unreadable, entry.path)
            return system.open(int(system.tree.keys[node]), stored)
        except BROKEN as error:
            raise SourceError(f"its record on the disk is damaged ({error})", entry.path) from error

    def _earlier_stream(self, entry: Entry, stored: Stored, volume: Volume) -> BinaryIO | None:
        """The bytes of a file of an earlier state, by what is kept in mind of it; None where only the file system itself can give them."""
        is_plain = stored.is_file and stored.link_target is None and not stored.encrypted and not stored.online_only
        if not is_plain or stored.unreadable:
            return None
        if stored.data is not None:
            return io.BytesIO(stored.data[: stored.size])
        if not _lies_on_disk(volume) and stored.extents is not None:
            return io.BufferedReader(ExtentStream(volume.window, stored.extents, stored.size, stored.valid))
        if entry.extents is None or sum(length for _, length in entry.extents) < stored.size:
            return None  # in no plain pieces of the disk: the volume is asked
        return io.BufferedReader(ExtentStream(self.disk.bytes, entry.extents, stored.size, stored.valid))

    def materialise(self, entry: Entry) -> AbstractContextManager[Path]:
        """As in a folder."""
        return materialised(self, entry, self.held.scratch)


def _lies_on_disk(volume: Volume) -> bool:
    """Whether places of a volume are places of the disk as it is."""
    return not volume.of or isinstance(volume.window, (ShadowCopy, Snapshot))


def wall_time(stamp: int | None, zone: tzinfo | None, *, local: bool) -> int | None:
    """A recorded time in ns since 1970, UTC. One of the clock on the wall is of `zone`, None for that of this machine."""
    if stamp is None or not local:
        return stamp
    try:
        told = datetime.fromtimestamp(stamp // 1_000_000_000, UTC).replace(tzinfo=None)
        there = told.astimezone() if zone is None else told.replace(tzinfo=zone)
        return round(there.timestamp()) * 1_000_000_000 + stamp % 1_000_000_000
    except (OverflowError, OSError, ValueError):
        return stamp
