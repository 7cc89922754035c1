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
_MOST_TIMES = 3
_TABLES = {"gpt": "GPT", "mbr": "MBR", "none": "no table"}


def disk_lines(disk: SearchedDisk) -> list[str]:
    """What a disk is, and one line for each of its volumes."""
    from rustfern.cli.screen.console import size

    now = [each for each in disk.volumes if "@" not in each.name]
    before = [each for each in disk.volumes if "@" in each.name]
    head = f"{_CONTAINERS[disk.container]}, {size(disk.size)}, {_TABLES[disk.table]}, {counted(len(now), 'volume')}"
    lines = [head, *(f"! {remark}" for remark in disk.remarks), *(_volume_line(each) for each in now)]
    lines += [_times_line(name, states) for name, states in _by_volume(before)]
    return lines + [_volume_line(each) for each in before if each.status != "read"]


def _by_volume(states: list[SearchedVolume]) -> list[tuple[str, list[str]]]:
    """The times of the earlier states that were read, by volume."""
    found: dict[str, list[str]] = {}
    for each in states:
        if each.status == "read":
            name, _, taken = each.name.partition("@")
            label = taken.removeprefix("undated-")
            found.setdefault(name, []).append(
                taken.replace("T", " ") + " UTC" if label == taken else f"an unknown time ({label})"
            )
    return list(found.items())


def _times_line(name: str, times: list[str]) -> str:
    """When a volume was kept as it was: shadow copies, snapshots. Many are told by the first and the last."""
    if len(times) <= _MOST_TIMES:
        return f"{name:<4}as it was at {', '.join(times)}: searched for older versions"
    return f"{name:<4}as it was at {len(times)} times, {min(times)} to {max(times)}: searched for older versions"


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
