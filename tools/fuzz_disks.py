#!/usr/bin/env python3
"""Breaks disks at random and reads them: tools/fuzz_disks.py --seconds N [--only NAME…] [--seed N] [--found FILE]

Begins with the disks of the test data. Bytes where structures lie are overwritten, swapped, cut; then the whole disk is listed, each file looked at
and read. A reader may give an answer or raise `SourceError`; anything else, or 20 seconds for one disk, is a finding: printed with the
seed that makes it again.
"""

from __future__ import annotations

import argparse
import random
import signal
import struct
import sys
import tarfile
import tempfile
import time
import traceback
from pathlib import Path
from typing import Any

from rustfern.core.errors import Malformed, SourceError
from rustfern.formats.interface import Limits
from rustfern.output.temporary import Scratch
from rustfern.sources.disks import disk as disks
from rustfern.sources.disks.containers import qcow2, vhd, vhdx, vmdk
from rustfern.sources.disks.open_disk import OpenDisk
from rustfern.sources.disks.source import DiskSource

ROOT = Path(__file__).resolve().parents[1]
SLOWEST = 20
_BLOCK = 512
_TELLING = (0, 1, 0x7F, 0x80, 0xFF, 0xE5, 0x2E)


class Broken:
    """The bytes of a disk with some of them changed."""

    sector = 512

    def __init__(self, data: bytes, changes: dict[int, bytes], size: int) -> None:
        self._data, self._changes, self.size = data, changes, size

    def read_at(self, offset: int, length: int) -> bytes:
        """As `DiskBytes.read_at`."""
        length = min(length, self.size - offset)
        if length <= 0 or offset < 0:
            return b""
        if length > 1 << 31:
            raise AssertionError(f"{length} bytes are asked for at once")
        held = bytearray(self._data[offset : offset + length].ljust(length, b"\0"))
        for at, new in self._changes.items():
            first, last = max(at, offset), min(at + len(new), offset + length)
            if first < last:
                held[first - offset : last - offset] = new[first - at : last - at]
        return bytes(held)

    def locate(self, offset: int, length: int) -> list[tuple[int, int]]:
        """As `DiskBytes.locate`."""
        return [(offset, length)]

    def is_hole(self, offset: int, length: int) -> bool:
        """As `DiskBytes.is_hole`."""
        return False


def used_blocks(data: bytes) -> list[int]:
    """Where anything but zeros lies."""
    zero = bytes(_BLOCK)
    return [at for at in range(0, len(data), _BLOCK) if data[at : at + _BLOCK] != zero]


def breakage(data: bytes, places: list[int], chance: random.Random) -> Broken:
    """A disk with some bytes changed; mostly near its start, where most structures lie."""
    changes: dict[int, bytes] = {}
    for _ in range(chance.choice((1, 1, 2, 4, 16, 64))):
        number = int(len(places) * chance.random() ** chance.choice((1, 3)))
        at = places[min(number, len(places) - 1)] + chance.randrange(_BLOCK)
        kind = chance.randrange(6)
        if kind == 0:
            changes[at] = bytes([chance.choice(_TELLING)])
        elif kind == 1:
            changes[at] = bytes([data[at] ^ 1 << chance.randrange(8)])
        elif kind == 2:
            changes[at // 4 * 4] = struct.pack(
                "<I", chance.choice((0, 1, 2, 0xFFFFFFFF, 0x7FFFFFFF, chance.getrandbits(32), chance.getrandbits(12)))
            )
        elif kind == 3:
            changes[at // 8 * 8] = chance.randbytes(8)
        elif kind == 4:
            other = places[chance.randrange(len(places))]
            changes[at // _BLOCK * _BLOCK] = data[other : other + _BLOCK]
        else:
            changes[at // _BLOCK * _BLOCK] = bytes(_BLOCK)
    size = len(data) if chance.random() < 0.9 else chance.randrange(1, len(data) + 1)
    return Broken(data, changes, size)


def read_all(bytes_: Broken, scratch: Scratch) -> int:
    """List a disk, look at all of it, read the start and the end of each file; how many files."""
    disks.open_container = lambda path, health=None, above=(): ("raw", bytes_)  # type: ignore[assignment]
    held = OpenDisk(disks.Disk("/disk"), (0, 0), scratch, Limits())
    source = DiskSource("/disk", held)
    count = 0
    source.told()
    for folder, _, names in source.walk("/disk", lambda path, message: None):
        for path in [*(f"{folder}/{name}" for name in names), *source.deleted_in(folder)[1]]:
            count += 1
            if count > 3_000:
                return count
            try:
                entry = source.entry(path)
                if entry.is_file:
                    with source.open(entry) as stream:
                        stream.read(70_000)
                        if entry.size > 200_000:
                            stream.seek(entry.size - 1_000)
                            stream.read(2_000)
            except SourceError:
                continue
    return count


CONTAINERS: dict[str, Any] = {
    ".vhd": vhd.open_vhd,
    ".vhdx": vhdx.open_vhdx,
    ".vmdk": lambda data: vmdk.open_vmdk(data, "/x.vmdk", lambda name: data),
    ".qcow2": lambda data: qcow2.open_qcow2(data, lambda name, raw: data),
}


def read_container(bytes_: Broken, ending: str) -> int:
    """Open a container and read all of the disk in it, as far as 64 MB."""
    try:
        disk = CONTAINERS[ending](bytes_)
        for at in range(0, min(disk.size, 64 << 20), 1 << 20):
            disk.read_at(at, 1 << 20)
    except (Malformed, SourceError):
        return 0
    return 1


def main() -> int:
    """Break and read until the time is over; 1 if anything was found."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--seconds", type=int, default=600)
    asked.add_argument("--only", nargs="*", default=[])
    asked.add_argument("--seed", type=int)
    asked.add_argument("--folder", type=Path, help="other disks than those of the test data")
    told = asked.parse_args()
    top = told.folder or Path(tempfile.mkdtemp())
    if told.folder is None:
        with tarfile.open(ROOT / "tests" / "data" / "disks.tar.xz") as packed:
            packed.extractall(top, filter="data")
    paths = [
        p
        for p in sorted(top.rglob("*"))
        if p.suffix in (".img", *CONTAINERS) and (not told.only or any(x in p.name for x in told.only))
    ]
    loaded = [(path, data, used_blocks(data)) for path in paths for data in [path.read_bytes()]]

    def too_slow(*_: object) -> None:
        raise AssertionError(f"it takes more than {SLOWEST} seconds")

    signal.signal(signal.SIGALRM, too_slow)
    scratch = Scratch()
    began, tries, found, files = time.monotonic(), 0, 0, 0
    seed = told.seed if told.seed is not None else int(time.time())
    while time.monotonic() - began < told.seconds:
        path, data, places = loaded[seed % len(loaded)]
        bytes_ = breakage(data, places, random.Random(seed))
        signal.alarm(SLOWEST)
        try:
            files += read_all(bytes_, scratch) if path.suffix == ".img" else read_container(bytes_, path.suffix)
        except SourceError:
            pass
        except Exception:
            found += 1
            print(f"--- {path.name}, --seed {seed}\n{traceback.format_exc(limit=-6)}", flush=True)
        finally:
            signal.alarm(0)
        tries += 1
        if told.seed is not None:
            break
        seed += 1
    print(f"{tries} disks, {files} files looked at, {found} findings")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
