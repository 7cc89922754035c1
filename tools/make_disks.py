"""Makes the disks that tests search: real drivers write, rename and delete in them, real programs make the tables and containers.

Needs Linux, the rights of root, and: mkfs.ntfs, ntfs-3g, mkfs.fat, mtools, mkfs.exfat, exfat-fuse, e2fsprogs, xorriso, the kernel's ext4, LVM2 (no device mapper),
sgdisk, sfdisk, qemu-img. Usage: `python tools/make_disks.py FOLDER`, then `--pack tests/data/disks.tar.xz` to pack them.

Beside the images lies `truth.json`: for each disk its files with sum, time, and whether they live; what must be said of its volumes.
"""

from __future__ import annotations

import argparse
import hashlib
import io
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import tarfile
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

WORDS = [
    "keel",
    "stem",
    "transom",
    "garboard",
    "frame",
    "floor",
    "plank",
    "scarf",
    "rivet",
    "caulking",
    "mooring",
    "buoy",
    "launch",
    "survey",
    "timber",
    "oak",
    "larch",
    "spruce",
    "moisture",
    "reading",
    "starboard",
    "port",
    "bow",
    "stern",
    "deck",
    "beam",
    "knee",
    "shelf",
    "carlin",
    "coaming",
    "rudder",
    "tiller",
    "gudgeon",
    "pintle",
    "mast",
    "step",
    "chain",
    "plate",
]
STEP = 1_770_000_000


def text(seed: int, count: int) -> str:
    """A text of some words, the same for the same seed."""
    chance = random.Random(seed)
    return " ".join(chance.choice(WORDS) for _ in range(count))


def docx(seed: int, count: int) -> bytes:
    """A small whole document."""
    body = "".join(f"<w:p><w:r><w:t>{text(seed * 1000 + n, 12)}.</w:t></w:r></w:p>" for n in range(count // 12 + 1))
    parts = {
        "[Content_Types].xml": '<?xml version="1.0" encoding="UTF-8"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/>'
        '<Override PartName="/word/document.xml" ContentType="application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml"/></Types>',
        "_rels/.rels": '<?xml version="1.0" encoding="UTF-8"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
        '<Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="word/document.xml"/></Relationships>',
        "word/document.xml": '<?xml version="1.0" encoding="UTF-8"?><w:document xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main">'
        f"<w:body>{body}</w:body></w:document>",
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as package:
        for name, data in parts.items():
            package.writestr(zipfile.ZipInfo(name, (2026, 3, 12, 16, 38, 0)), data)
    return out.getvalue()


def run(*command: object, **more: Any) -> str:
    """Run a program; its output."""
    return subprocess.run([str(each) for each in command], check=True, capture_output=True, text=True, **more).stdout


class Writing:
    """What is written into one volume, and what becomes of it. `top` is where it is mounted."""

    def __init__(self, top: Path) -> None:
        self.top = top
        self.files: dict[str, dict[str, Any]] = {}
        self.records: dict[str, int] = {}
        self._at = STEP

    def put(self, name: str, data: bytes) -> None:
        """Write a file."""
        path = self.top / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        self._at += 86_400
        os.utime(path, (self._at, self._at))
        self.records[name] = path.stat().st_ino
        self.files[name] = {
            "sha256": hashlib.sha256(data).hexdigest(),
            "size": len(data),
            "mtime": self._at,
            "deleted": False,
        }

    def gone(self, *names: str) -> None:
        """Delete files."""
        for name in names:
            (self.top / name).unlink()
            self.files[name]["deleted"] = True

    def gone_tree(self, folder: str) -> None:
        """Delete a folder with all in it."""
        shutil.rmtree(self.top / folder)
        for name, facts in self.files.items():
            if name.startswith(folder + "/"):
                facts["deleted"] = True

    def replace(self, temporary: str, name: str, data: bytes) -> None:
        """Save as programs do: write beside, put in the place of the old one."""
        before = dict(self.files[name])
        self.put(temporary, data)
        os.replace(self.top / temporary, self.top / name)
        self.files[f"{name} (before)"] = {**before, "deleted": True, "name": name}
        self.files[name] = self.files.pop(temporary)


def usual(files: Writing, *, sync: Callable[[], None] = lambda: None) -> None:
    """A yard's files: some live, some are deleted, a folder goes with all in it."""
    files.put("Yard/Launch list.docx", docx(1, 900))
    files.put("Yard/Timber order.txt", text(2, 400).encode())
    files.put("Yard/Old jobs/Heron/Keel survey.docx", docx(3, 1500))
    files.put("Yard/Old jobs/Heron/Notes größer, Lärche.txt", text(4, 300).encode())
    files.put("Yard/Mooring plan for the summer of the year after the next one.docx", docx(5, 2500))
    files.put("Yard/short.txt", text(6, 20).encode())
    for number in range(40):
        files.put(f"Yard/Many/berth {number:03} of the inner harbour.txt", text(100 + number, 30).encode())
    files.put("Yard/Kept.docx", docx(7, 600))
    files.put(
        "Yard/.~lock.Kept.docx#", b",Ines Varga,office-pc,12.03.2026 16:38,file:///home/ines/.config/libreoffice/4;"
    )
    sync()
    files.gone("Yard/.~lock.Kept.docx#")
    files.gone(
        "Yard/Timber order.txt",
        "Yard/Mooring plan for the summer of the year after the next one.docx",
        "Yard/short.txt",
    )
    for number in range(0, 40, 3):
        files.gone(f"Yard/Many/berth {number:03} of the inner harbour.txt")
    sync()
    files.gone_tree("Yard/Old jobs")
    sync()


@contextmanager
def loop(image: Path, *more: object) -> Iterator[str]:
    """A loop device of an image."""
    device = run("losetup", "-f", "--show", *more, image).strip()
    try:
        yield device
    finally:
        run("losetup", "-d", device)


@contextmanager
def mounted(device: str | Path, *how: object) -> Iterator[Path]:
    """A volume, mounted for writing."""
    top = Path("/mnt") / f"made-{os.getpid()}"
    top.mkdir(exist_ok=True)
    run(*how, device, top)
    try:
        yield top
    finally:
        for _ in range(20):
            if subprocess.run(["umount", top], capture_output=True).returncode == 0:
                break
            time.sleep(0.2)
        time.sleep(0.3)  # programs that serve a mount end a moment later
        top.rmdir()


def blank(path: Path, size: int) -> Path:
    """An empty image."""
    path.unlink(missing_ok=True)
    with path.open("wb") as out:
        out.truncate(size)
    return path


Truth = dict[str, Any]


def told(files: Writing, type_: str, volume: str = "p1") -> Truth:
    """The truth of a disk with one volume."""
    return {"files": files.files, "volume": volume, "type": type_}


def ext(folder: Path, name: str, size: int, *options: object) -> Truth:
    """An ext volume as the kernel writes it."""
    image = blank(folder / f"{name}.img", size)
    run("mkfs.ext4" if name.startswith("ext4") else f"mkfs.{name[:4]}", "-q", "-F", *options, image)
    with loop(image) as device, mounted(device, "mount", "-t", "ext4") as top:
        files = Writing(top)
        files.put("Yard/Saved twice.docx", docx(8, 700))
        os.sync()
        usual(files, sync=os.sync)
        files.replace("Yard/Saved twice.docx.new", "Yard/Saved twice.docx", docx(9, 900))
        os.sync()
    return told(files, name[:4])


def ext_dirty(folder: Path) -> Truth:
    """An ext4 volume whose journal was not written back: taken while it was mounted."""
    image = blank(folder / "ext4-dirty.img", 12 << 20)
    run("mkfs.ext4", "-q", "-F", "-b", 1024, "-J", "size=1", image)
    copy = folder / "copy.img"
    with loop(image) as device, mounted(device, "mount", "-t", "ext4", "-o", "commit=600") as top:
        files = Writing(top)
        files.put("Yard/Launch list.docx", docx(1, 900))
        os.sync()
        files.put("Yard/In the journal only/Written last.docx", docx(11, 500))
        for path in (
            top / "Yard/In the journal only/Written last.docx",
            top / "Yard/In the journal only",
            top / "Yard",
        ):
            handle = os.open(path, os.O_RDONLY)
            os.fsync(handle)
            os.close(handle)
        shutil.copyfile(image, copy)
    copy.replace(image)
    return told(files, "ext4")


def change(folder: int, name: str, when: int) -> bytes:
    """An entry of a change journal, by its documentation: a file was deleted. No driver here writes one."""
    text_ = name.encode("utf-16-le")
    length = -(-(60 + len(text_)) // 8) * 8
    stamp = (when + 11_644_473_600) * 10_000_000
    head = struct.pack(
        "<IHHQQQQIIIIHH", length, 2, 0, 60 | 1 << 48, folder, 0, stamp, 0x80000200, 0, 0, 0x20, len(text_), 60
    )
    return (head + text_).ljust(length, b"\0")


def ntfs(folder: Path, name: str = "ntfs", cluster: int = 4096) -> Truth:
    """An NTFS volume with packed, sparse, linked and marked files."""
    image = blank(folder / f"{name}.img", 16 << 20)
    run("mkfs.ntfs", "-q", "-F", "-c", cluster, "-L", "YARD", image)
    with loop(image) as device, mounted(device, "ntfs-3g", "-o", "compression,streams_interface=windows") as top:
        files = Writing(top)
        (top / "Packed").mkdir()
        run("setfattr", "-n", "system.ntfs_attrib_be", "-v", "0x00000800", top / "Packed")
        files.put("Packed/log of the winch.txt", (text(20, 40) * 200).encode())
        files.put("Packed/gone log.txt", (text(21, 40) * 150).encode())
        usual(files)
        files.gone("Packed/gone log.txt")
        os.link(top / "Yard/Kept.docx", top / "Yard/Another name.docx")
        files.files["Yard/Another name.docx"] = dict(files.files["Yard/Kept.docx"])
        (top / "Yard/Kept.docx:Zone.Identifier").write_bytes(b"[ZoneTransfer]\r\nZoneId=3\r\n")
        os.utime(top / "Yard/Kept.docx", (files.files["Yard/Kept.docx"]["mtime"],) * 2)
        yard = (top / "Yard").stat().st_ino | 1 << 48
        (top / "journal").touch()
        told_of = ("Timber order.txt", "Lost long ago.docx")
        (top / "journal:$J").write_bytes(
            b"".join(change(yard, name, STEP + 1_000_000 * n) for n, name in enumerate(told_of, 1))
        )
        files.put("Yard/Saved twice.docx", docx(8, 700))
        files.replace("Yard/~WRD0001.tmp", "Yard/Saved twice.docx", docx(9, 900))
    return {**told(files, "ntfs"), "records": files.records}


def ntfs_again(folder: Path, before: Truth) -> Truth:
    """An NTFS volume that was formatted again, quickly: all of it is gone, and most of its records are still there."""
    image = folder / "ntfs-again.img"
    shutil.copyfile(folder / "ntfs.img", image)
    run("mkfs.ntfs", "-Q", "-q", "-F", "-c", 4096, "-L", "AGAIN", image)
    # The new table has the places of the first records.
    there = {name for name, record in before["records"].items() if record > 80}
    files = {name: {**facts, "deleted": True} for name, facts in before["files"].items() if name in there}
    return {**before, "files": files}


def exfat(folder: Path) -> Truth:
    """An exFAT volume as its FUSE driver writes it."""
    image = blank(folder / "exfat.img", 8 << 20)
    run("mkfs.exfat", "-c", 4096, "-L", "CARD", image)
    with loop(image) as device, mounted(device, "mount.exfat-fuse") as top:
        files = Writing(top)
        usual(files)
    return told(files, "exfat")


def fat(folder: Path, bits: int, size: int, cluster: int) -> Truth:
    """A FAT volume written by mtools."""
    image = blank(folder / f"fat{bits}.img", size)
    run("mkfs.fat", "-F", bits, "-s", cluster, "-n", "STICK", image)
    with tempfolder(folder) as top:
        files = Writing(top)
        made: set[str] = set()
        environment = {**os.environ, "MTOOLS_SKIP_CHECK": "1", "TZ": "UTC"}

        def tool(*command: object) -> None:
            run(command[0], "-i", image, *command[1:], env=environment)

        def put(name: str, data: bytes) -> None:
            Writing.put(files, name, data)
            parts = name.split("/")[:-1]
            for count in range(1, len(parts) + 1):
                inner = "/".join(parts[:count])
                if inner not in made:
                    tool("mmd", f"::/{inner}")
                    made.add(inner)
            tool("mcopy", "-m", top / name, f"::/{name}")

        def gone(*names: str) -> None:
            Writing.gone(files, *names)
            for name in names:
                tool("mdel", f"::/{name}")

        def gone_tree(inner: str) -> None:
            Writing.gone_tree(files, inner)
            tool("mdeltree", f"::/{inner}")

        files.put, files.gone, files.gone_tree = put, gone, gone_tree  # type: ignore[method-assign]
        usual(files)
    return told(files, f"fat{bits}")


@contextmanager
def tempfolder(folder: Path) -> Iterator[Path]:
    """A folder for what is copied in."""
    top = folder / "copied in"
    shutil.rmtree(top, ignore_errors=True)
    top.mkdir()
    try:
        yield top
    finally:
        shutil.rmtree(top)


def lvm(folder: Path, *, striped: bool) -> Truth:
    """A logical volume, linear or on two physical ones turn by turn: the real tools make its metadata, its bytes are laid by hand."""
    name = "lvm-striped" if striped else "lvm-linear"
    image = blank(folder / f"{name}.img", 40 << 20)
    run("sfdisk", image, input="label: dos\n1MiB,18MiB,8e\n20MiB,18MiB,8e\n")
    inner = blank(folder / "inner.img", 12 << 20)
    run("mkfs.ext4", "-q", "-F", "-b", 1024, inner)
    with loop(inner) as device, mounted(device, "mount", "-t", "ext4") as top:
        files = Writing(top)
        usual(files, sync=os.sync)
    quiet = ("--driverloaded", "n", "-qq", "--devicesfile", "")
    with (
        loop(image, "-o", 1 << 20, "--sizelimit", 18 << 20) as one,
        loop(image, "-o", 20 << 20, "--sizelimit", 18 << 20) as two,
    ):
        run("pvcreate", *quiet, "-ff", "-y", one, two)
        run("vgcreate", *quiet, "-s", "1m", "yard", one, two)
        how = ("-i", 2, "-I", "64k") if striped else ()
        run(
            "lvcreate",
            *quiet,
            "-an",
            "-Zn",
            "-Wn",
            "-y",
            "-n",
            "work",
            "-L",
            "12m",
            *how,
            "yard",
            *((one, two) if striped else (one,)),
        )
    data = inner.read_bytes()
    with image.open("r+b") as out:
        if striped:
            for number, at in enumerate(range(0, len(data), 64 << 10)):
                out.seek(((1 << 20) if number % 2 == 0 else (20 << 20)) + (1 << 20) + number // 2 * (64 << 10))
                out.write(data[at : at + (64 << 10)])
        else:
            out.seek(2 << 20)
            out.write(data)
    inner.unlink()
    return told(files, "ext4", "yard-work")


def tables(folder: Path, disks: dict[str, Truth]) -> None:
    """Whole disks: GPT, its first header damaged; MBR with logical partitions, its table wiped. In each the FAT volume of before."""
    volume = (folder / "fat16.img").read_bytes()
    image = blank(folder / "gpt-damaged.img", 24 << 20)
    run("sgdisk", "-n", "1:2048:+2M", "-n", "3:8192:+18M", image)
    with image.open("r+b") as out:
        out.seek(8192 * 512)
        out.write(volume)
        out.seek(512)
        out.write(bytes(512))
    disks["gpt-damaged"] = {**disks["fat16"], "volume": "p3", "table": "gpt"}
    image = blank(folder / "mbr-logical.img", 24 << 20)
    run("sfdisk", image, input="label: dos\n2048,2048,83\n8192,40000,5\n10240,2048,83\n14336,32768,6\n")
    with image.open("r+b") as out:
        out.seek(14336 * 512)
        out.write(volume)
    disks["mbr-logical"] = {**disks["fat16"], "volume": "p6", "table": "mbr"}
    wiped = folder / "mbr-wiped.img"
    shutil.copyfile(image, wiped)
    with wiped.open("r+b") as out:
        out.write(bytes(512))
    disks["mbr-wiped"] = {**disks["fat16"], "volume": "p1", "table": "none"}


def large_sectors(folder: Path, disks: dict[str, Truth]) -> None:
    """A GPT disk with sectors of 4096 bytes."""
    image = blank(folder / "gpt-4k.img", 24 << 20)
    with loop(image, "-b", 4096) as device:
        run("sgdisk", "-n", "2:512:+16M", device)
    with image.open("r+b") as out:
        out.seek(512 * 4096)
        out.write((folder / "fat16.img").read_bytes())
    disks["gpt-4k"] = {**disks["fat16"], "volume": "p2", "table": "gpt"}


def hfs(folder: Path) -> Truth:
    """An HFS+ volume by a real writer, cut out of the hybrid image that it makes; nothing is deleted on it."""
    inner = folder / "hfs files"
    shutil.rmtree(inner, ignore_errors=True)
    files = Writing(inner)
    for name, data in (
        ("Yard/Kept.docx", docx(7, 600)), ("Yard/Gone.docx", docx(3, 900)), ("Yard/größer, Lärche.txt", text(4, 300).encode()),
        ("Yard/Launch list.docx", docx(1, 900)),
    ):  # fmt: skip
        files.put(name, data)
    made = folder / "hfs.iso"
    run("xorriso", "-as", "mkisofs", "-hfsplus", "-V", "YARD", "-o", made, inner)
    data = made.read_bytes()
    at = next(at for at in range(0, len(data), 512) if data[at : at + 4] in (b"H+\0\4", b"HX\0\5"))
    block, count = (int.from_bytes(data[at + n : at + n + 4], "big") for n in (40, 44))
    (folder / "hfs.img").write_bytes(data[at - 1024 : at - 1024 + block * count])
    made.unlink()
    shutil.rmtree(inner)
    return told(files, "hfsplus")


FORMS = {
    "fixed.vhd": ("vpc", "subformat=fixed,force_size=on"), "dynamic.vhd": ("vpc", "subformat=dynamic,force_size=on"),
    "fixed.vhdx": ("vhdx", "subformat=fixed"), "dynamic.vhdx": ("vhdx", "subformat=dynamic,block_size=1M"),
    "sparse.vmdk": ("vmdk", "subformat=monolithicSparse"), "flat.vmdk": ("vmdk", "subformat=monolithicFlat"),
    "split.vmdk": ("vmdk", "subformat=twoGbMaxExtentSparse"), "splitflat.vmdk": ("vmdk", "subformat=twoGbMaxExtentFlat"),
    "stream.vmdk": ("vmdk", "subformat=streamOptimized"), "v2.qcow2": ("qcow2", "compat=0.10"), "v3.qcow2": ("qcow2", "cluster_size=4k"),
    "extended.qcow2": ("qcow2", "extended_l2=on,cluster_size=128k"), "zlib.qcow2": ("qcow2", "compat=1.1"),
    "zstd.qcow2": ("qcow2", "compression_type=zstd"),
}  # fmt: skip


def containers(folder: Path) -> None:
    """A small disk in each form, made by qemu-img; one image that builds on another, one that is encrypted, one in parts."""
    inner = folder / "forms"
    shutil.rmtree(inner, ignore_errors=True)
    inner.mkdir()
    raw = blank(inner / "disk.img", 2 << 20)
    run("mkfs.fat", "-F", 12, "-n", "SMALL", raw)
    for number in range(3):
        path = inner / f"list {number}.docx"
        path.write_bytes(docx(200 + number, 500))
        run("mcopy", "-i", raw, path, "::/", env={**os.environ, "MTOOLS_SKIP_CHECK": "1"})
        path.unlink()
    for name, (form, options) in FORMS.items():
        packed = ("-c",) if name.startswith(("zlib", "zstd")) else ()
        run("qemu-img", "convert", *packed, "-O", form, "-o", options, raw, inner / name)
    run("qemu-img", "create", "-f", "qcow2", "-b", "v3.qcow2", "-F", "qcow2", "over.qcow2", cwd=inner)
    run(
        "qemu-img",
        "create",
        "-f",
        "qcow2",
        "-b",
        "disk.img",
        "-F",
        "raw",
        "-o",
        "extended_l2=on",
        "overraw.qcow2",
        cwd=inner,
    )
    for name in ("over.qcow2", "overraw.qcow2"):
        run("qemu-io", "-c", "write -P 0xAB 1M 4k", inner / name)
    secret = (
        "--object",
        "secret,id=s,data=boatyard",
        "-o",
        "encrypt.format=luks,encrypt.key-secret=s,encrypt.iter-time=200",
    )
    run("qemu-img", "create", "-f", "qcow2", *secret, inner / "encrypted.qcow2", "2M")
    data = raw.read_bytes()
    for number in range(3):
        (inner / f"parts.{number + 1:03}").write_bytes(data[number * 700_416 : (number + 1) * 700_416])


def contract(folder: Path) -> None:
    """The files that every source has to give in the same way (`tests/test_sources.py`), in a folder of an ext4 volume."""
    sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
    from test_sources import lay_out_folder

    with tempfolder(folder) as top:
        lay_out_folder(top).rename(top / "disk")
        image = blank(folder / "contract.img", 1 << 20)
        run("mkfs.ext4", "-q", "-F", "-O", "^has_journal", "-d", top, image)


def main() -> None:
    """Make all of it."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("folder", type=Path)
    asked.add_argument("--pack", type=Path, help="pack the disks of the folder into this file, and make none")
    told_ = asked.parse_args()
    folder: Path = told_.folder
    if told_.pack:
        with tarfile.open(told_.pack, "w:xz") as packed:
            for path in sorted([*folder.glob("*.img"), *folder.glob("forms/*"), folder / "truth.json"]):
                packed.add(path, str(path.relative_to(folder)))
        return
    if os.geteuid():
        sys.exit("the rights of root are needed: volumes are mounted")
    folder.mkdir(parents=True, exist_ok=True)
    disks: dict[str, Truth] = {
        "ext2": ext(folder, "ext2", 8 << 20, "-b", 1024, "-O", "^resize_inode"),
        "ext3": ext(folder, "ext3", 12 << 20, "-b", 1024, "-J", "size=1"),
        "ext4": ext(folder, "ext4", 12 << 20, "-b", 1024, "-J", "size=1"),
        "ext4-4k": ext(
            folder, "ext4-4k", 24 << 20, "-b", 4096, "-J", "size=4", "-O", "inline_data,metadata_csum,64bit"
        ),
        "ext4-dirty": ext_dirty(folder),
        "ntfs": ntfs(folder),
        "ntfs-512": ntfs(folder, "ntfs-512", 512),
        "exfat": exfat(folder),
        "fat12": fat(folder, 12, 4 << 20, 4),
        "fat16": fat(folder, 16, 16 << 20, 4),
        "fat32": fat(folder, 32, 40 << 20, 1),
        "hfs": hfs(folder),
        "lvm-linear": lvm(folder, striped=False),
        "lvm-striped": lvm(folder, striped=True),
    }
    disks["ntfs-again"] = ntfs_again(folder, disks["ntfs"])
    tables(folder, disks)
    large_sectors(folder, disks)
    containers(folder)
    contract(folder)
    (folder / "truth.json").write_text(json.dumps(disks, indent=1, ensure_ascii=False))


if __name__ == "__main__":
    main()
