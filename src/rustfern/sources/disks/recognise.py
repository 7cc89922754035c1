"""What lies on a volume, by the marks of file systems; ones that are not read are named too.

Sources: the published specification of each file system, named beside each.
"""

from __future__ import annotations

import struct
import uuid

import msgspec

from rustfern.sources.disks.interface import DiskBytes

_ENCRYPTED_HEADS = (
    (b"LUKS\xba\xbe", 0, "LUKS"),
    (b"-FVE-FS-", 3, "an encrypted NTFS or FAT volume"),
    # A stick that is encrypted so pretends to be FAT32; only this identifier tells.
    (bytes.fromhex("3bd66749292ed84a8399f6a339e3d001"), 424, "an encrypted NTFS or FAT volume"),
)
_OTHERS: tuple[tuple[bytes, int, str], ...] = (
    (b"XFSB", 0, "xfs"),
    (b"_BHRfS_M", 0x10040, "btrfs"),
    (b"NXSB", 32, "apfs"),
    (b"ReFS\0\0\0\0", 3, "refs"),
    (b"\x10\x20\xf5\xf2", 1024, "f2fs"),
    (b"CD001", 0x8001, "iso9660"),
    (b"NSR0", 0x8801, "udf"),
    (b"\x02\0\0\0\0\0\x34\x34", 1024, "nilfs2"),
    (b"\x0c\xb1\xba\0\0\0\0\0", 0x20000, "zfs"),
    (b"\xfc\x4e\x2b\xa9\x01\0\0\0", 4096, "raid"),
    (b"\xfc\x4e\x2b\xa9\x01\0\0\0", 0, "raid"),
    (b"ReIsEr2Fs", 0x10034, "reiserfs"),
    (b"ReIsErFs", 0x10034, "reiserfs"),
    (b"JFS1", 0x8000, "jfs"),
    (b"hsqs", 0, "squashfs"),
    (b"SWAPSPACE2", 4086, "swap"),
    (b"LABELONE", 512, "lvm"),
    (b"BD", 1024, "hfs"),
)


class Known(msgspec.Struct, frozen=True):
    """What a volume is: `type` as in the answer, `size` in bytes by its own account (0: not told); whether it is `read`; `sure` is no mere
    boot sector; `backup` says that its first mark is damaged, and its copy was used.
    """

    type: str
    size: int = 0
    read: bool = True
    encrypted: bool = False
    sure: bool = False
    backup: bool = False


def fat_of(head: bytes) -> Known | None:
    """A FAT boot sector whose numbers fit together (FAT32 File System Specification 1.03, section 3)."""
    if len(head) < 512:
        return None
    sector, cluster, reserved, fats, roots, small, media, fat_size = struct.unpack_from("<HBHBHHBH", head, 11)
    large, fat32_size = struct.unpack_from("<II", head, 32)
    if sector not in (512, 1024, 2048, 4096) or not cluster or cluster & (cluster - 1) or not reserved:
        return None
    if fats not in (1, 2) or (media < 0xF8 and media != 0xF0) or head[0] not in (0xEB, 0xE9, 0x69, 0):
        return None
    sectors, per_fat = small or large, fat_size or fat32_size
    if not sectors or not per_fat:
        return None
    data = sectors - reserved - fats * per_fat - -(-32 * roots // sector)
    if data <= 0:
        return None
    count = data // cluster
    kind = "fat12" if count < 4085 else "fat16" if count < 65525 else "fat32"
    if (not fat_size) != (not roots) and fat_size:
        return None
    if not fat_size:
        kind = "fat32"
    return Known(kind, sectors * sector)


def ntfs_of(head: bytes) -> Known | None:
    """An NTFS boot sector."""
    if len(head) < 512 or head[3:11] != b"NTFS    ":
        return None
    sector, cluster = struct.unpack_from("<HB", head, 11)
    sectors, table = struct.unpack_from("<QQ", head, 40)
    if sector not in (256, 512, 1024, 2048, 4096) or not cluster or not sectors or not table:
        return None
    return Known("ntfs", (sectors + 1) * sector, sure=True)


def exfat_of(head: bytes) -> Known | None:
    """An exFAT boot sector (exFAT File System Specification, section 3.1)."""
    if len(head) < 512 or head[3:11] != b"EXFAT   ":
        return None
    sectors, shift = struct.unpack_from("<Q", head, 72)[0], head[108]
    return Known("exfat", sectors << shift, sure=True) if 9 <= shift <= 12 else None


def ext_of(block: bytes) -> Known | None:
    """A superblock of ext2, ext3 or ext4 (kernel documentation, ext4 on-disk layout: super block)."""
    if len(block) < 264 or block[56:58] != b"\x53\xef":
        return None
    blocks, shift = struct.unpack_from("<I", block, 4)[0], struct.unpack_from("<I", block, 24)[0]
    per_group, inodes = struct.unpack_from("<I", block, 32)[0], struct.unpack_from("<I", block, 40)[0]
    compatible, incompatible, read_only = struct.unpack_from("<III", block, 92)
    if shift > 6 or not blocks or not per_group or not inodes:
        return None
    if incompatible & 0x80:
        blocks |= struct.unpack_from("<I", block, 0x150)[0] << 32 if len(block) >= 0x154 else 0
    kind = "ext2"
    if compatible & 4:
        kind = "ext3"
    if incompatible & (0x40 | 0x80 | 0x200 | 0x8000) or read_only & (0x8 | 0x10 | 0x20 | 0x40 | 0x400):
        kind = "ext4"
    return Known(kind, blocks * (1024 << shift), sure=True)


def hfs_of(head: bytes) -> Known | None:
    """A volume header of HFS+ or HFSX (Technical Note TN1150, volume header)."""
    if len(head) < 512 or head[:2] not in (b"H+", b"HX"):
        return None
    version = struct.unpack_from(">H", head, 2)[0]
    block, total = struct.unpack_from(">II", head, 40)
    if version not in (4, 5) or block < 512 or block & (block - 1) or not total:
        return None
    return Known("hfsplus", block * total, sure=True)


def recognise(volume: DiskBytes) -> Known | None:
    """What lies on a volume, None if nothing that is known does. Raises `SourceError` for what cannot be read."""
    head = volume.read_at(0, 4096)
    for mark, at, what in _ENCRYPTED_HEADS:
        if head[at : at + len(mark)] == mark:
            return Known(what, read=False, encrypted=True)
    for tell in (ntfs_of, exfat_of):
        if (found := tell(head)) is not None:
            return found
    if (found := hfs_of(head[1024:1536])) is not None:
        return found
    if (found := ext_of(head[1024:2048])) is not None:
        return found
    fat = fat_of(head) if head[510:512] == b"\x55\xaa" else None
    if fat is not None and _begins_table(volume, head):
        return fat  # marks of what the volume was before can still stand behind its tables
    if (found := _other(volume, head)) is not None:
        return found
    if fat is not None:
        return fat
    return _by_backup(volume)


def _begins_table(volume: DiskBytes, head: bytes) -> bool:
    """Whether the first table of a FAT volume begins with the byte of its boot sector (FAT32 File System Specification 1.03, section 4)."""
    sector, _, reserved = struct.unpack_from("<HBH", head, 11)
    first = volume.read_at(sector * reserved, 3)
    return len(first) == 3 and first[0] == head[21] and first[1:] == b"\xff\xff"


def _other(volume: DiskBytes, head: bytes) -> Known | None:
    for mark, at, what in _OTHERS:
        data = head[at : at + len(mark)] if at + len(mark) <= len(head) else volume.read_at(at, len(mark))
        if data == mark:
            return Known(what, read=False, sure=True)
    return None


def _by_backup(volume: DiskBytes) -> Known | None:
    """A volume whose first mark is gone, by the copy of it that its file system keeps."""
    tries = (
        (ntfs_of, volume.size // 512 * 512 - 512, 512),
        (fat_of, 6 * 512, 512),
        (exfat_of, 12 * 512, 512),
        (hfs_of, volume.size // 512 * 512 - 1024, 512),
    )
    for tell, at, length in tries:
        head = volume.read_at(at, length) if at > 0 else b""
        if (found := tell(head)) is not None and head[510:512] in (
            b"\x55\xaa",
            head[510:512] if tell is hfs_of else b"",
        ):
            return Known(found.type, found.size, backup=True)
    for shift in range(3):
        at = (8193 * 1024, 16384 * 2048, 32768 * 4096)[shift]  # of the first group that keeps a copy, by block size
        found = ext_of(volume.read_at(at, 1024)) if at < volume.size else None
        if found is not None:
            return Known(found.type, found.size, backup=True)
    return None


def uuid_of(volume: DiskBytes, kind: str) -> str:
    """What systems call a volume by: its id in the form in which tables of mounts write it, empty if it has none."""
    head = volume.read_at(0, 2048)
    if kind.startswith("ext"):
        return str(uuid.UUID(bytes=head[1128:1144])) if len(head) >= 1144 else ""
    if kind == "ntfs":
        return head[72:80][::-1].hex().upper()
    at = {"fat32": 67, "exfat": 100}.get(kind, 39 if kind.startswith("fat") else 0)
    told = head[at : at + 4][::-1].hex().upper() if at else ""
    return f"{told[:4]}-{told[4:]}" if told else ""
