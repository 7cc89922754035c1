"""Tells which form an image file has, and opens the disk in it."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import datetime

from rustfern.core.errors import Malformed, Refused, SourceError
from rustfern.sources.disk_health import Health
from rustfern.sources.disks.containers import qcow2, vhd, vhdx, vmdk
from rustfern.sources.disks.containers.raw import JoinedDisk, RawDisk, is_device, parts_of
from rustfern.sources.disks.interface import DiskBytes, Extent

_MAX_BELOW = 16
"""Images that build on each other."""


class _Faults:
    """A container whose damage is told as one of a source."""

    def __init__(self, disk: DiskBytes, path: str) -> None:
        self._disk, self._path = disk, path
        self.size, self.sector = disk.size, disk.sector

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        try:
            return self._disk.read_at(offset, length)
        except Malformed as error:
            raise SourceError(f"this image is damaged ({error})", self._path, "Name another copy of it") from error

    def locate(self, offset: int, length: int) -> list[Extent]:
        """As `DiskBytes.locate`."""
        return self._disk.locate(offset, length)

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        try:
            return self._disk.is_hole(offset, length)
        except Malformed:
            return False


def container_of(disk: DiskBytes) -> str:
    """The form of an image: `vhd`, `vhdx`, `vmdk`, `qcow2`, else `raw`."""
    head = disk.read_at(0, 512)
    if head.startswith(vhdx.SIGNATURE):
        return "vhdx"
    if head.startswith(qcow2.SIGNATURE):
        return "qcow2"
    if head.startswith((vmdk.SIGNATURE, vmdk.DESCRIPTOR)):
        return "vmdk"
    return "vhd" if vhd.footer_of(disk) is not None else "raw"


def open_container(path: str, health: Health | None = None, above: tuple[str, ...] = ()) -> tuple[str, DiskBytes]:
    """(the form of an image or device, the disk in it). Raises `SourceError`."""
    if path in above or len(above) >= _MAX_BELOW:
        raise SourceError(
            "the images that this one builds on go round in a circle, or are too many", path, "Name a whole image"
        )
    raw = RawDisk(path, health)
    if is_device(path):
        return "device", raw
    parts = parts_of(path)
    if len(parts) > 1:
        return "split", JoinedDisk([raw, *(RawDisk(part, health) for part in parts[1:])])
    form = container_of(raw)
    beside = _opens_beside(path, health, above)
    openers: dict[str, Callable[[], DiskBytes]] = {
        "vhd": lambda: vhd.open_vhd(raw),
        "vhdx": lambda: vhdx.open_vhdx(raw),
        "vmdk": lambda: vmdk.open_vmdk(raw, path, beside),
        "qcow2": lambda: qcow2.open_qcow2(raw, beside),
    }
    if form == "raw":
        return form, raw
    try:
        return form, _Faults(openers[form](), path)
    except Refused as error:
        raise SourceError(
            f"this image cannot be read: {error}", path, "Make a raw image of the disk, and search that"
        ) from error
    except Malformed as error:
        raise SourceError(f"this {form.upper()} image is damaged ({error})", path, "Name another copy of it") from error


def earlier_states(path: str, health: Health | None = None) -> list[tuple[datetime, DiskBytes]]:
    """The disk in an image as it was at earlier times, where the image keeps such states: (when, the disk then). Raises `SourceError`."""
    raw = RawDisk(path, health)
    if not raw.read_at(0, 512).startswith(qcow2.SIGNATURE):
        return []
    beside = _opens_beside(path, health, ())
    try:
        return [(told.taken, _Faults(qcow2.open_qcow2(raw, beside, told), path)) for told in qcow2.snapshots_of(raw)]
    except (Malformed, Refused) as error:
        raise SourceError(f"the earlier states in this image cannot be read ({error})", path) from error


def _opens_beside(path: str, health: Health | None, above: tuple[str, ...]) -> Callable[..., DiskBytes]:
    """What opens the files that an image builds on, by their names."""
    folder = os.path.dirname(path)

    def beside(name: str, as_raw: bool = True) -> DiskBytes:
        other = os.path.join(folder, name)
        if not os.path.isfile(other):
            other = os.path.join(folder, os.path.basename(name))  # moved here together with it
        if not os.path.isfile(other):
            raise SourceError(
                f"the file that this image builds on ({name}) is not beside it", path, "Copy it there too"
            )
        if as_raw:
            return RawDisk(other, health)
        return open_container(other, health, (*above, path))[1]

    return beside
