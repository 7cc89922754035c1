#!/usr/bin/env python3
"""How fast disks are read: bench/disks.py [--records N] [--documents N] [--megabytes N]

Records: seconds of CPU and memory for the names of an NTFS volume of N records (a fifth of them not in use), made here from a real one. Scan: an
image of a home (mkfs.ext4 -d) against the same home as a folder. Random reads through each container (qemu-img) against the raw image. A copy
of a disk against `cp`. The first figure is absolute, the others are ratios in this run, medians of five.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import statistics
import struct
import subprocess
import sys
import tarfile
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from common import rustfern

from rustfern.sources.disks.containers.registry import open_container
from rustfern.sources.registry import Sources

DATA = Path(__file__).resolve().parent.parent / "tests" / "data"
FORMS = ("vhd dynamic", "vhdx dynamic", "vmdk sparse", "vmdk flat", "qcow2", "qcow2 4k")
OPTIONS = {
    "vhd dynamic": ("vpc", "subformat=dynamic,force_size=on"), "vhdx dynamic": ("vhdx", "subformat=dynamic"),
    "vmdk sparse": ("vmdk", "subformat=monolithicSparse"), "vmdk flat": ("vmdk", "subformat=monolithicFlat"),
    "qcow2": ("qcow2", "compat=1.1"), "qcow2 4k": ("qcow2", "cluster_size=4k"),
}  # fmt: skip


def a_real_volume(folder: Path) -> Path:
    """The NTFS volume of the test data."""
    with tarfile.open(DATA / "disks.tar.xz") as archive:
        archive.extract("ntfs.img", folder, filter="data")
    return folder / "ntfs.img"


def many_records(small: Path, target: Path, count: int) -> None:
    """A volume whose table has `count` records: those of a real one, then one of its files again and again under other names."""
    source = Sources().open(str(small)).disk  # type: ignore[attr-defined]
    system = source.system("p1")
    runs = system._records.runs
    table = b"".join(source.bytes.read_at(*run) for run in runs)
    model = next(
        table[at : at + 1024]
        for at in range(64 * 1024, len(table), 1024)
        if b"b\0e\0r\0t\0h\0 \0" in table[at : at + 1024] and table[at + 22] == 1
    )
    name_at = model.find("berth ".encode("utf-16-le")) + 12
    own = len(table) // 1024
    made = np.tile(np.frombuffer(model, np.uint8), (count - own, 1))
    numbers = np.arange(count - own)
    for digit in range(3):
        made[:, name_at + 2 * digit] = ord("0") + numbers // 10 ** (2 - digit) % 10
    made[numbers % 5 == 0, 22] = 0
    cluster, at = system.cluster, 16 << 20
    start = -(-at // cluster)
    with target.open("wb") as out:
        data = bytearray(small.read_bytes())
        first = bytearray(table[:1024])
        run = b"\x33" + (-(-count * 1024 // cluster)).to_bytes(3, "little") + start.to_bytes(3, "little") + b"\0"
        pos = struct.unpack_from("<H", first, 20)[0]
        while struct.unpack_from("<I", first, pos)[0] != 0x80:
            pos += struct.unpack_from("<I", first, pos + 4)[0]
        where = pos + struct.unpack_from("<H", first, pos + 32)[0]
        first[where : where + len(run)] = run
        struct.pack_into("<QQQ", first, pos + 40, count * 1024, count * 1024, count * 1024)
        struct.pack_into("<Q", data, 40, (start * cluster + count * 1024) // 512)
        struct.pack_into("<Q", data, 48, start)
        out.write(data)
        out.seek(start * cluster)
        out.write(bytes(first) + table[1024:])
        out.write(made.tobytes())
        out.truncate(start * cluster + count * 1024 + 4096)


def records(folder: Path, count: int) -> None:
    """The first figure, in a process of its own."""
    image = folder / "many.img"
    many_records(a_real_volume(folder), image, count)
    code = (
        "import sys,time;from rustfern.sources.registry import Sources;t=time.process_time();"
        "s=Sources().open(sys.argv[1]);v=s.disk.system('p1');"
        "print(time.process_time()-t,int(open('/proc/self/status').read().split('VmHWM:')[1].split()[0])>>10,*v.tree.counts())"
    )
    told = subprocess.run(
        [sys.executable, "-c", code, image], capture_output=True, text=True, check=True
    ).stdout.split()
    print(
        f"    {count:,} records ({told[2]} files, {told[3]} deleted): {float(told[0]):.1f} s of CPU, {told[1]} MB (at most 10 s, 400 MB)"
    )
    image.unlink()


def cpu(command: list[str], env: dict[str, str]) -> float:
    """Seconds of CPU of one run."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env={**os.environ, **env})
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def ratio(what: str, mine: Callable[[], float], other: Callable[[], float], most: float) -> None:
    """One line: the medians of five, in turn."""
    pairs = [(mine(), other()) for _ in range(5)]
    found = statistics.median(a for a, _ in pairs) / statistics.median(b for _, b in pairs)
    print(f"    {what}: {found:.2f} (at most {most})")


def scans(folder: Path, count: int) -> None:
    """A home as a folder, and the image of one."""
    home = folder / "home" / "ines"
    documents: list[tuple[str, bytes]] = []
    with tarfile.open(DATA / "documents.tar.xz") as archive:
        for member in archive:
            stream = archive.extractfile(member)
            if stream is not None and member.name.startswith("intact/"):
                documents.append((member.name.rpartition("/")[2], stream.read()))
    for number in range(count):
        name, data = documents[number % len(documents)]
        path = home / "Documents" / f"job {number // 50}" / f"{number} {name}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        if number % 20 == 0:
            (path.parent / f"{path.name}~").write_bytes(data)
    (home / ".config").mkdir()
    image = folder / "home.img"
    with image.open("wb") as out:
        out.truncate((count * 120_000 + (64 << 20)) // 4096 * 4096)
    subprocess.run(["mkfs.ext4", "-q", "-F", "-d", folder / "home", image], check=True, capture_output=True)
    number = iter(range(1_000))

    def scanned(root: Path) -> float:
        """A first scan: what an earlier one remembered is not there."""
        return cpu([rustfern(), "scan", str(root), "--json"], {"XDG_STATE_HOME": str(folder / f"state {next(number)}")})

    what = f"scan of an image of a home of {count:,} documents, to that of the folder"
    ratio(what, lambda: scanned(image / "p1"), lambda: scanned(folder / "home"), 1.5)


def containers(folder: Path, megabytes: int) -> None:
    """Random reads through each container, and a copy of the disk."""
    image = folder / "random.img"
    with image.open("wb") as out:
        for _ in range(megabytes):
            out.write(os.urandom(1 << 20))
    chance = random.Random(1)
    places = [(chance.randrange(megabytes << 20), chance.choice((4096, 65536))) for _ in range(20_000)]

    def reading(path: Path) -> Callable[[], float]:
        disk = open_container(str(path))[1]

        def once() -> float:
            started = time.process_time()
            for at, length in places:
                disk.read_at(at, length)
            return time.process_time() - started

        return once

    raw = reading(image)
    for name in FORMS:
        form, options = OPTIONS[name]
        target = folder / f"{name.replace(' ', '-')}.{form}"
        subprocess.run(
            ["qemu-img", "convert", "-O", form, "-o", options, image, target], check=True, capture_output=True
        )
        ratio(f"random reads through {name}, to raw", reading(target), raw, 1.5)
        target.unlink()
    number = iter(range(1_000))

    def timed(command: list[str]) -> float:
        subprocess.run(["sync"])
        started = time.perf_counter()
        subprocess.run([*command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        subprocess.run(["sync"])
        return time.perf_counter() - started

    ratio(
        f"a copy of a disk of {megabytes} MB, to cp and sync",
        lambda: timed([rustfern(), "keep", str(image), "--to", str(folder / f"kept {next(number)}")]),
        lambda: timed(["cp", str(image), str(folder / f"copy {next(number)}.img")]),
        1.1,
    )


def main() -> int:
    """All figures."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--records", type=int, default=1_000_000)
    asked.add_argument("--documents", type=int, default=2_000)
    asked.add_argument("--megabytes", type=int, default=4_096)
    given = asked.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if given.records:
            records(folder, given.records)
        if given.documents:
            scans(folder, given.documents)
        if given.megabytes:
            containers(folder, given.megabytes)
    return 0


if __name__ == "__main__":
    sys.exit(main())
