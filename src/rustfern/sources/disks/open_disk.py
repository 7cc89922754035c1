"""An open disk as its sources share it: the names at a path, how a file lies, what is in use."""

from __future__ import annotations

import io
import os
import struct
from collections import OrderedDict
from collections.abc import Sequence
from datetime import tzinfo

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Entry
from rustfern.core.paths import plain_path, record_of
from rustfern.formats.extents.registry import measured
from rustfern.formats.interface import Limits
from rustfern.formats.paged_bytes import Paged
from rustfern.output.temporary import Scratch
from rustfern.sources.disks.claims import Claims
from rustfern.sources.disks.disk import Disk, FileSystem, Volume
from rustfern.sources.disks.interface import HOLE, Extent, ExtentStream, Stored
from rustfern.sources.disks.layings import likeliest
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import ROOT
from rustfern.sources.disks.unread import LIST_ENDING, Ranges

BROKEN = (Malformed, struct.error, IndexError, OverflowError, ValueError)
"""What a damaged structure makes a reader raise."""
_LISTINGS_HELD, _SECTOR = 512, 512
_LARGEST_SPARSE = 1 << 40
"""Bytes that a file may have beyond what its volume holds: what was never written takes no place."""

Listing = dict[str, list[int]]
"""Name → its nodes: what lives first, then what was deleted, the latest first."""


class OpenDisk:
    """A disk and what was found out about its files; shared by all sources that lie on it."""

    def __init__(
        self, disk: Disk, stamp: tuple[int, int], scratch: Scratch, limits: Limits, zone: tzinfo | None = None
    ) -> None:
        """`zone` is that of the clock on the wall of who wrote the disk; None for this machine's."""
        self.disk, self.stamp, self.scratch, self.limits, self.zone = disk, stamp, scratch, limits, zone
        self.path = disk.path
        self.unread = Ranges.read(disk.path + LIST_ENDING)
        self._listings: OrderedDict[tuple[str, str], Listing] = OrderedDict()
        self._folders: dict[tuple[str, str], tuple[int, ...]] = {}
        self._claims: dict[str, Claims] = {}
        self._maps: dict[str, ClusterMap] = {}
        self._chosen: dict[tuple[str, int], Stored] = {}
        self.earlier: dict[str, tuple[Entry, Stored, Volume]] = {}
        """What is kept in mind of files in earlier states of volumes, by their paths."""
        self._laid: dict[int, tuple[tuple[Extent, ...], str]] = {}

    # --- paths -----------------------------------------------------------------------------------------------------

    def take_apart(self, path: str) -> tuple[str, str]:
        """(name of the volume, path in it without a leading separator) of a path; both empty for the disk itself."""
        inner = path[len(self.path) :].replace(os.sep, "/").strip("/")
        volume, _, rest = inner.partition("/")
        return volume, rest

    def folders(self, volume: str, inner: str) -> tuple[int, ...]:
        """The nodes of the folders at a path: what lives and what was deleted may have shared it."""
        known = self._folders.get((volume, inner))
        if known is None:
            system = self.disk.system(volume)
            if system is None:
                known = ()
            elif not inner:
                known = (ROOT,)
            else:
                outer, _, name = inner.rpartition("/")
                nodes = self._named(volume, outer, name, system)
                known = tuple(node for node in nodes if system.tree.is_folder(node))
            self._folders[volume, inner] = known
        return known

    def _named(self, volume: str, outer: str, name: str, system: FileSystem) -> list[int]:
        listing = self.listing(volume, outer)
        found = listing.get(name)
        if found is None and not system.case_matters and listing:
            folded = system.fold(name)
            found = next((nodes for each, nodes in listing.items() if system.fold(each) == folded), None)
        return found or []

    def listing(self, volume: str, inner: str) -> Listing:
        """All names in a folder, living and deleted."""
        key = volume, inner
        known = self._listings.get(key)
        if known is not None:
            self._listings.move_to_end(key)
            return known
        listing: Listing = {}
        system = self.disk.system(volume)
        if system is not None:
            tree = system.tree
            # What was deleted before an earlier state is told by the volume as it is.
            only_living = volume in self.disk.earlier
            for folder in self.folders(volume, inner):
                for child in tree.children(folder).tolist():
                    if only_living and tree.is_deleted(child):
                        continue
                    listing.setdefault(tree.names[child], []).append(child)
            for nodes in listing.values():
                if len(nodes) > 1:
                    nodes.sort(key=lambda node: (tree.is_deleted(node), -self._time(system, node)))
        self._listings[key] = listing
        while len(self._listings) > _LISTINGS_HELD:
            self._listings.popitem(last=False)
        return listing

    def _time(self, system: FileSystem, node: int) -> int:
        try:
            return system.stored(int(system.tree.keys[node])).modified or 0
        except (*BROKEN, SourceError):
            return 0

    def node(self, path: str) -> tuple[Volume, FileSystem, int] | None:
        """What a path names, None if there is nothing."""
        volume, inner = self.take_apart(plain_path(path))
        system, told = self.disk.system(volume), self.disk.volume(volume)
        if system is None or told is None:
            return None
        if (record := record_of(path)) is not None:
            return (told, system, record) if 0 <= record < len(system.tree) else None
        if not inner:
            return told, system, ROOT
        outer, _, name = inner.rpartition("/")
        nodes = self._named(volume, outer, name, system)
        return (told, system, nodes[0]) if nodes else None

    # --- what no record leads to -----------------------------------------------------------------------------------

    def lay(self, offset: int, extents: tuple[Extent, ...], caution: str = "") -> None:
        """Say where the bytes lie of what was found at a place without a record, and what must be said of it."""
        self._laid[offset] = extents, caution

    def laid(self, offset: int) -> tuple[tuple[Extent, ...], str] | None:
        """The same, as it was said; else as the structure of what begins there tells, in one piece. None if nothing does. Raises `SourceError`."""
        if offset not in self._laid and 0 <= offset < self.disk.bytes.size:
            left = self.disk.bytes.size - offset
            stream = io.BufferedReader(ExtentStream(self.disk.bytes, ((offset, left),), left))
            found = measured(Paged(stream, left), self.disk.bytes.read_at(offset, _SECTOR), is_text=True)
            if found is None:
                return None
            self._laid[offset] = ((offset, found[1].end),), "" if found[1].is_complete else found[1].reason
        return self._laid.get(offset)

    # --- space -----------------------------------------------------------------------------------------------------

    def used(self, volume: Volume, system: FileSystem) -> ClusterMap:
        """Which clusters living files have; where the file system's own map is damaged, as those files say."""
        if volume.name not in self._maps:
            try:
                found = system.used()
            except (*BROKEN, SourceError):
                volume.message = (
                    volume.message or "its map of what is in use is damaged: what living files say was used instead"
                )
                found = _by_living_files(volume, system)
            self._maps[volume.name] = found
        return self._maps[volume.name]

    def taken(self, volume: Volume, system: FileSystem, places: Sequence[Extent]) -> int:
        """How many bytes of these places of a volume living files have."""
        used, cluster = self.used(volume, system), system.cluster
        taken = 0
        for at, length in places:
            first = (at - system.clusters_at) // cluster
            count = -(-(at - system.clusters_at + length) // cluster) - first
            taken += int(used.used(first, count).sum()) * cluster
        return taken

    # --- files -----------------------------------------------------------------------------------------------------

    def claims(self, volume: Volume, system: FileSystem) -> Claims:
        """Which deleted files say that they lie where."""
        if volume.name not in self._claims:
            self._claims[volume.name] = Claims(system)
        return self._claims[volume.name]

    def stored(self, volume: Volume, system: FileSystem, node: int) -> Stored:
        """What is recorded of a node; of a deleted file, laid as it most likely was. Raises `Malformed` and `SourceError`."""
        known = self._chosen.get((volume.name, node))
        if known is None:
            key = int(system.tree.keys[node])
            known = (
                likeliest(system, key, system.tree.names[node], self.limits)
                if system.tree.is_deleted(node) and not system.tree.is_folder(node)
                else system.stored(key)
            )
            if known.size > 4 * volume.size + _LARGEST_SPARSE:
                raise Malformed(f"it gives a size of {known.size} bytes, more than the volume can hold")
            self._chosen[volume.name, node] = known
        return known


def _by_living_files(volume: Volume, system: FileSystem) -> ClusterMap:
    """A map made up from where the living files of a volume lie."""
    tree = system.tree
    runs: list[tuple[int, int]] = []
    for node in range(2, len(tree)):
        if tree.is_deleted(node) or tree.is_folder(node):
            continue
        try:
            places = system.places(int(tree.keys[node]))
        except (*BROKEN, SourceError):
            continue
        for at, length in places:
            if at != HOLE:
                first = (at - system.clusters_at) // system.cluster
                runs.append((first, -(-(at - system.clusters_at + length) // system.cluster) - first))
    count = max(volume.size - system.clusters_at, 0) // system.cluster
    return ClusterMap.blank(count).with_runs(runs)
