"""A disk and its volumes in a few lines."""

from __future__ import annotations

from rustfern.core.model import SearchedDisk, SearchedVolume
from rustfern.core.paths import show_name
from rustfern.core.remarks import counted

_TYPES = {
    "ntfs": "NTFS", "fat12": "FAT12", "fat16": "FAT16", "fat32": "FAT32", "exfat": "exFAT", "hfsplus": "HFS+", "": "unknown",
    "encrypted": "encrypted",
}  # fmt: skip
_CONTAINERS = {
    "raw": "raw image", "split": "image in parts", "vhd": "VHD image", "vhdx": "VHDX image", "vmdk": "VMDK image",
    "qcow2": "QCOW2 image", "device": "device",
}  # fmt: skip
_TABLES = {"gpt": "GPT", "mbr": "MBR", "none": "no table"}


def disk_lines(disk: SearchedDisk) -> list[str]:
    """What a disk is, and one line for each of its volumes."""
    from rustfern.cli.screen.console import size

    head = f"{_CONTAINERS[disk.container]}, {size(disk.size)}, {_TABLES[disk.table]}, {counted(len(disk.volumes), 'volume')}"
    return [head, *(f"! {remark}" for remark in disk.remarks), *(_volume_line(each) for each in disk.volumes)]


def _volume_line(volume: SearchedVolume) -> str:
    from rustfern.cli.screen.console import size

    kind = _TYPES.get(volume.type, volume.type)
    label = f" “{show_name(volume.label)}”" if volume.label else ""
    if volume.status == "read":
        told = f"{counted(volume.files, 'file')}, {volume.deleted:,} deleted, {size(volume.unclaimed)} free"
    else:
        told = ""
    if volume.searched_raw:
        told += f"{', ' if told else ''}{size(volume.searched_raw)} searched byte by byte"
    said = ": ".join(part for part in (told, volume.message or "") if part)
    return f"{volume.name:<4}{kind}{label}, {size(volume.size)}: {said}"
