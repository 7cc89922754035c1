"""How fast a raw search is, as ratios in one run: the first pass over mixed space against `cat`, a dense disk against `rustfern check` on the same documents,
memory, and that a search which was stopped again and again finds the same as one that was not.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from common import peak_memory, rustfern
from raw_truth import CLUSTER, documents, varied

from rustfern.search.raw.sweep import sweep
from rustfern.sources.disks.containers.raw import RawDisk


def mixed(path: Path, size: int, chance: random.Random) -> None:
    """An image of zeros, noise, text and program code, and nothing else."""
    code = Path(sys.executable).resolve().read_bytes()
    text = (Path(__file__).parent.parent / "README.md").read_bytes() * 40
    with path.open("wb") as out:
        while out.tell() < size:
            length = CLUSTER * chance.randrange(100, 2000)
            kind = chance.randrange(4)
            data = (
                bytes(length)
                if kind == 0
                else chance.randbytes(length)
                if kind == 1
                else code[:length]
                if kind == 2
                else text[:length]
            )
            out.write(data + bytes(-len(data) % CLUSTER))
        out.truncate(size)


def first_pass(path: Path, runs: int) -> tuple[float, float, int]:
    """Seconds of the pass, of `cat`, both the best of some runs in turn on one core, and how many places need a closer look."""
    passes, cats, places = [], [], 0
    disk = RawDisk(str(path))
    for _ in range(runs):
        began = time.perf_counter()
        places = sum(len(found) for _, _, found in sweep(disk, [(0, disk.size)]))
        passes.append(time.perf_counter() - began)
        began = time.perf_counter()
        with path.open("rb") as stream:
            subprocess.run(["cat"], stdin=stream, stdout=subprocess.DEVNULL, check=True)
        cats.append(time.perf_counter() - began)
    return min(passes), min(cats), places


def dense(folder: Path, count: int, chance: random.Random) -> tuple[Path, list[str], int]:
    """An image of so many documents, and the same as files."""
    pool, files, image = documents(), [], folder / "dense.img"
    (folder / "files").mkdir()
    with image.open("wb") as out:
        out.write(bytes(1 << 20))
        for number in range(count):
            name, data = pool[chance.randrange(len(pool))]
            data = varied(name, data, chance)
            file = folder / "files" / f"{number}-{Path(name).name}"
            file.write_bytes(data)
            files.append(str(file))
            out.write(data + bytes(-len(data) % CLUSTER))
        return image, files, out.tell()


def scan(image: Path, case: Path, *more: str) -> tuple[float, int, list[dict[str, object]]]:
    """Seconds, peak memory in bytes, and the finds of one search."""
    command = [rustfern(), "scan", str(image), "--raw", "--json", "--case", str(case), *more]
    seconds, memory, output = peak_memory(command, dict(os.environ))
    answer = json.loads(output)
    return seconds, memory, [copy for document in answer["documents"] for copy in document["copies"]]


def main() -> None:
    """Run all, print each ratio with its limit."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--gigabytes", type=float, default=4.0)
    parser.add_argument("--documents", type=int, default=20_000)
    parser.add_argument("--runs", type=int, default=3)
    asked = parser.parse_args()
    chance = random.Random(11)
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        image = folder / "mixed.img"
        mixed(image, int(asked.gigabytes * (1 << 30)), chance)
        size = image.stat().st_size
        passing, cat, places = first_pass(image, asked.runs)
        print(
            f"first pass over {size / 1e9:.1f} GB: {passing:.2f} s, {passing / cat:.2f} of cat (at most 3); {size / passing / 1e6:.0f} MB/s; {places} places"
        )
        print(
            f"  beside a disk of 250 MB/s: {max(passing, size / 250e6) / (size / 250e6):.2f} of its own reading (at most 1.1)"
        )
        seconds, memory, finds = scan(image, folder / "mixed.case")
        print(f"whole search of it: {seconds:.1f} s, {memory / 1e6:.0f} MB (at most 300), {len(finds)} finds")
        image.unlink()
        image, files, size = dense(folder, asked.documents, chance)
        began = time.perf_counter()
        for first in range(0, len(files), 5000):
            subprocess.run([rustfern(), "check", *files[first : first + 5000]], stdout=subprocess.DEVNULL, check=False)
        checking = time.perf_counter() - began
        seconds, memory, finds = scan(image, folder / "dense.case")
        print(
            f"dense disk, {asked.documents} documents in {size / 1e9:.2f} GB: {seconds:.1f} s, {seconds / checking:.2f} of check (at most 3), "
            f"{memory / 1e6:.0f} MB of all processes (at most 300), {len(finds)} finds"
        )
        rounds = 0
        while rounds < 50:
            rounds += 1
            _, _, again = scan(image, folder / "stopped.case", "--budget", f"{max(int(seconds / 6), 1)}s")
            if len(again) == len(finds):
                break
        same = {(c["path"], c["sha256"]) for c in finds} == {(c["path"], c["sha256"]) for c in again}
        print(f"stopped {rounds - 1} times and gone on: {'the same finds' if same else 'OTHER FINDS'}")


if __name__ == "__main__":
    main()
