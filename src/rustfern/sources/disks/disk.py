"""An open disk: its container, its table, and its volumes with their file systems."""

from __future__ import annotations

import itertools
import os
import struct
import uuid
from collections.abc import Iterator, Sequence
from datetime import datetime
from importlib import import_module
from typing import BinaryIO, Protocol

import msgspec

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Trace
from rustfern.sources.disk_health import Health
from rustfern.sources.disks.containers.raw import RawDisk, is_device
from rustfern.sources.disks.containers.registry import container_of, earlier_states, open_container
from rustfern.sources.disks.interface import DiskBytes, Extent, Stored, Window
from rustfern.sources.disks.lvm import logical_volumes
from rustfern.sources.disks.lvm_snapshots import Snapshot
from rustfern.sources.disks.partitions import LVM_TYPES, has_table, layout_of
from rustfern.sources.disks.recognise import Known, recognise, uuid_of
from rustfern.sources.disks.shadow_copies import ShadowCopy, copies_of
from rustfern.sources.disks.space import ClusterMap
from rustfern.sources.disks.tree import Tree

_NAMED_SO = frozenset({"img", "dd", "raw", "ima", "001", "vhd", "vhdx", "vmdk", "qcow2", "qcow"})
"""Extensions that only images of disks have: such a file is searched as one, whatever is left of it."""
_NAMES = {
    "apfs": "APFS", "btrfs": "btrfs", "xfs": "XFS", "refs": "ReFS", "f2fs": "F2FS", "iso9660": "a CD or DVD image (ISO 9660)",
    "reiserfs": "ReiserFS", "jfs": "JFS", "squashfs": "SquashFS", "swap": "swap space", "lvm": "a part of LVM volumes", "hfs": "HFS (before HFS+)",
    "udf": "UDF", "nilfs2": "NILFS2", "zfs": "ZFS", "raid": "a part of a RAID set of Linux",
}  # fmt: skip
_READERS = {
    "ntfs": ("ntfs.volume", "NtfsVolume"), "fat": ("fat.volume", "FatVolume"), "exfat": ("fat.exfat", "ExfatVolume"),
    "ext": ("ext.volume", "ExtVolume"), "hfsplus": ("hfsplus.volume", "HfsVolume"),
}  # fmt: skip
"""Kind of a file system → its module and class."""
_MOST_EARLIER = 3
"""Earlier states of volumes whose names are held at a time."""
_MOUNT = "mount it read-only, and search the folder"
_ASSEMBLE = "assemble the set read-only, and search its device"


class FileSystem(Protocol):
    """A file system on a volume. `tree` holds all its names; the keys of its nodes are what the other methods are asked with.

    `cluster` are the bytes that it gives out together, `clusters_at` is where in the volume the first of them begins. Methods raise `Malformed` and `SourceError`.
    """

    type: str
    label: str
    remark: str
    case_matters: bool
    cluster: int
    clusters_at: int
    tree: Tree

    def stored(self, key: int) -> Stored:
        """What it records of a file."""

    def ways(self, key: int) -> list[Stored]:
        """Where the bytes of a file may lie, the likeliest first."""

    def open(self, key: int, way: Stored | None = None) -> BinaryIO:
        """The bytes of a file, laid as `stored` or one of the `ways` says."""

    def places(self, key: int) -> tuple[Extent, ...]:
        """Where the bytes of a file lie, also where they do not lie as they are."""

    def fold(self, name: str) -> str:
        """The form in which names are compared where their case does not matter."""

    def streams(self, key: int) -> tuple[str, ...]:
        """The names of further streams of a file."""

    def traces(self, folders: Sequence[int]) -> Iterator[Trace]:
        """What is still told of names that are gone, by the indexes of these folders (nodes) and by what the volume notes of changes."""

    def used(self) -> ClusterMap:
        """Which clusters living files have."""

    def holds_its_own(self, key: int) -> bool:
        """Whether what a deleted file had is still marked as its own, as it was open when the system stopped."""


def _opened(kind: str, volume: DiskBytes) -> FileSystem:
    """The file system of a kind: its reader is imported only where there is one. Raises `Malformed` and `SourceError`."""
    module, name = _READERS["fat" if kind in ("fat12", "fat16", "fat32") else "ext" if kind.startswith("ext") else kind]
    found: FileSystem = getattr(import_module(f"rustfern.sources.disks.{module}"), name)(volume)
    return found


class Volume(msgspec.Struct):
    """One volume of a disk. `offset` and `size` are in bytes; `status` is `read`, `encrypted`, `unknown` or `damaged`; `message` says what to
    do; `idents` are what systems know it by. A volume as it was at an earlier time says when that was (`taken`; None where
    nothing tells), and what it was a state `of`; `counts` are its living and deleted files, once it was read.
    """

    name: str
    offset: int
    size: int
    type: str
    window: DiskBytes
    status: str = "unknown"
    message: str | None = None
    known: Known | None = None
    idents: tuple[bytes | str, ...] = ()
    system: FileSystem | None = None
    taken: datetime | None = None
    of: str = ""
    counts: tuple[int, int] = (0, 0)


class Disk:
    """An open disk. What lies on its volumes is read when it is first asked for."""

    def __init__(self, path: str, health: Health | None = None) -> None:
        """Raises `SourceError`."""
        self.path = path
        self.container, self.bytes = open_container(path, health)
        found = layout_of(self.bytes)
        self.table, self.remarks = found.table, list(found.remarks)
        self.volumes: dict[str, Volume] = {}
        self.earlier: dict[str, Volume] = {}
        """Volumes as they were: shadow copies, snapshots."""
        self._held: list[Volume] = []
        physical: list[DiskBytes] = []
        for part in found.partitions:
            window = Window(self.bytes, part.offset, part.size)
            known = self._recognised(window)
            if (known is not None and known.type == "lvm") or part.kind in LVM_TYPES:
                physical.append(window)
            self._add(part.name, part.offset, part.size, window, known, part.ident)
        if physical:
            logical, remarks = logical_volumes(physical)
            self.remarks += remarks
            for told in logical:
                start = told.volume.locate(0, 1)
                at, known = start[0][0] if start else 0, self._recognised(told.volume)
                if told.of:
                    self._add_earlier(told.of, told.taken, told.volume, at, known, told.label)
                else:
                    self._add(told.name, at, told.volume.size, told.volume, known)
        for volume in list(self.volumes.values()):
            if volume.type == "ntfs":
                self._add_shadow_copies(volume)
        self._add_states()

    def _add_shadow_copies(self, volume: Volume) -> None:
        try:
            told = copies_of(volume.window)
        except (Malformed, SourceError) as error:
            self.remarks.append(f"{volume.name}: its shadow copies cannot be read ({error})")
            return
        for number, each in enumerate(told):
            self._add_earlier(
                volume.name, each.taken, ShadowCopy(volume.window, told, number), volume.offset, volume.known
            )

    def _add_states(self) -> None:
        """What an image keeps of the disk as it was."""
        if self.container != "qcow2":
            return
        try:
            for taken, disk in earlier_states(self.path):
                for part in layout_of(disk).partitions:
                    window = Window(disk, part.offset, part.size)
                    self._add_earlier(part.name, taken, window, part.offset, self._recognised(window))
        except SourceError as error:
            self.remarks.append(str(error))

    def _add_earlier(
        self, of: str, taken: datetime | None, window: DiskBytes, offset: int, known: Known | None, label: str = ""
    ) -> None:
        """A volume as it was; its name is that of what lives, and the time (UTC): seconds only where two are of one minute; `label` where
        nothing tells the time.
        """
        stamp = f"{taken:%Y-%m-%dT%H:%M}" if taken is not None else f"undated-{label}"
        if taken is not None and f"{of}@{stamp}" in self.earlier:
            stamp = f"{taken:%Y-%m-%dT%H:%M:%S}"
        name = next(
            each
            for number in itertools.count(1)
            if (each := f"{of}@{stamp}" + (f".{number}" if number > 1 else "")) not in self.earlier
        )
        volume = self._described(name, offset, window.size, window, known)
        volume.taken, volume.of = taken, of
        self.earlier[name] = volume

    def _recognised(self, window: DiskBytes) -> Known | None:
        try:
            return recognise(window)
        except SourceError as error:
            self.remarks.append(str(error))
            return None

    def _add(
        self, name: str, offset: int, size: int, window: DiskBytes, known: Known | None, ident: bytes = b""
    ) -> None:
        volume = self._described(name, offset, size, window, known)
        names: list[bytes | str] = [*self._names_of(window, known, ident)]
        volume.idents = tuple([ident, *names] if ident else names)
        self.volumes[name] = volume

    @staticmethod
    def _described(name: str, offset: int, size: int, window: DiskBytes, known: Known | None) -> Volume:
        """A volume, and what can be said of it before it is read."""
        volume = Volume(name, offset, size, known.type if known else "", window, known=known)
        if known is not None and known.encrypted:
            volume.status, volume.type = "encrypted", "encrypted"
            volume.message = f"it is encrypted ({known.type}): unlock it on a machine that has the key, then search the folder that it is mounted at"
        elif known is not None and not known.read:
            volume.message = f"{_NAMES.get(known.type, known.type)}: this kind is not read here"
            if known.type == "raid":
                volume.message += f"; {_ASSEMBLE}"
            elif known.type not in ("lvm", "swap"):
                volume.message += f"; {_MOUNT}"
        elif known is None:
            volume.message = "no file system was found in it"
        else:
            volume.status = "read"
        if known is not None and known.size and window.size < known.size and volume.status == "read":
            part = window.size / known.size
            volume.message = f"only {part:.0%} of it is here: the image is cut, or was not finished"
        return volume

    @staticmethod
    def _names_of(window: DiskBytes, known: Known | None, ident: bytes) -> list[str]:
        """What a table of mounts may call a volume."""
        found = []
        if known is not None and known.read and (told := uuid_of(window, known.type)):
            found.append(f"UUID={told}")
        if ident.startswith(b"DMIO:ID:"):
            found.append(f"PARTUUID={uuid.UUID(bytes_le=ident[8:24])}")
        return found

    def volume(self, name: str) -> Volume | None:
        """A volume by its name, also one as it was at an earlier time."""
        return self.volumes.get(name) or self.earlier.get(name)

    def _make_room(self, volume: Volume) -> None:
        """Let go of what was read of other earlier states: a volume may have many, each with all its names."""
        self._held.append(volume)
        while len(self._held) > _MOST_EARLIER:
            oldest = self._held.pop(0)
            oldest.system = None
            if isinstance(oldest.window, (ShadowCopy, Snapshot)):
                oldest.window.forget()

    def system(self, name: str) -> FileSystem | None:
        """The file system of a volume, None if it cannot be read; the volume then says why."""
        volume = self.volume(name)
        if volume is None or volume.status != "read":
            return None
        if volume.system is None:
            if volume.of:
                self._make_room(volume)
            try:
                volume.system = _opened(volume.type, volume.window)
                volume.type = volume.system.type
                volume.counts = volume.system.tree.counts()
                volume.message = volume.message or volume.system.remark or None
            except (Malformed, struct.error, LookupError, ArithmeticError, ValueError, MemoryError) as error:
                volume.status, volume.message = "damaged", f"its file system cannot be read: {error}"
            except SourceError as error:
                volume.status, volume.message = "damaged", error.what
        return volume.system


def is_disk(path: str) -> bool:
    """Whether a file is the image of a disk, or a path names a device."""
    if is_device(path) or os.path.basename(path).rpartition(".")[2].lower() in _NAMED_SO:
        return True
    return holds_disk(path)


def holds_disk(path: str) -> bool:
    """Whether the bytes of a file show that it is the image of a disk, whatever its name says: photographs have such names, too."""
    try:
        disk = RawDisk(path)
        if container_of(disk) != "raw":
            return True
        known = recognise(disk) if disk.size >= 64 << 10 else None
        return known is not None or (disk.size >= 1 << 20 and has_table(disk))
    except SourceError:
        return False
