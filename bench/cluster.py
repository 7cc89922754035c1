#!/usr/bin/env python3
"""Many roots at once: two workers against one, what scheduling costs, workers that are killed, plans of many roots, and larger clusters by simulation.

    bench/cluster.py [--homes 200] [--raw-gb 1] [--scheduler local]

With `--scheduler local` the pieces run on a local cluster of Dask, else on processes of this machine. The simulation takes the seconds that pieces took
here and gives each to the worker that is free first (it is no measurement, and says so).
"""

from __future__ import annotations

import argparse
import heapq
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import psutil

RUSTFERN = str(Path(sys.executable).parent / "rustfern")
NAMES = ("mooring plan", "hull survey", "timber order", "launch schedule", "price list")


def lay_out(folder: Path, homes: int) -> None:
    """Homes of some hundred documents, each with leftovers."""
    chance = random.Random(7)
    for home in range(homes):
        base = folder / f"pc{home:03}" / "home" / "ines"
        (base / ".config").mkdir(parents=True)
        for number in range(1000):
            path = base / "Documents" / f"{number % 50}" / f"{NAMES[number % 5]} {number}.txt"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(
                f"{NAMES[number % 5]} {number} of {home}\n" + "oak larch keel frame " * chance.randrange(400)
            )
            if number % 30 == 0:
                path.with_name(path.name + "~").write_text(path.read_text() + "what was there before")


def run(
    folder: Path, out: Path, cores: int, *, scheduler: str = "", kill_every: float = 0.0
) -> tuple[float, list[dict[str, object]]]:
    """(seconds, what came of each root) of a scan of all homes on so many cores."""
    command = [
        RUSTFERN,
        "scan",
        "--list",
        str(folder),
        "--out",
        str(out),
        "--json",
        *(["--scheduler", scheduler] if scheduler else []),
    ]
    began = time.monotonic()
    child = subprocess.Popen(["taskset", "-c", ",".join(map(str, range(cores))), *command], stdout=subprocess.PIPE)
    ended = threading.Event()

    def kill() -> None:
        while not ended.wait(kill_every):
            workers = [
                each
                for each in psutil.Process(child.pid).children(recursive=True)
                if "spawn_main" in " ".join(each.cmdline())
            ]
            if workers:
                os.kill(random.choice(workers).pid, signal.SIGKILL)

    if kill_every:
        threading.Thread(target=kill, daemon=True).start()
    told, _ = child.communicate()
    ended.set()
    return time.monotonic() - began, json.loads(told)["roots"]


def planned(count: int, folder: Path) -> tuple[float, float]:
    """(seconds, MB) that planning so many roots takes."""
    path = folder / "list.csv"
    path.write_text("root,label\n" + "".join(f"sftp://ines@pc{number}/home,pc{number}\n" for number in range(count)))
    code = (
        "import sys, time, psutil\nfrom rustfern.operations.many import Many, read_list\nbefore = psutil.Process().memory_info().rss\nbegan = time.monotonic()\n"
        "many = Many('scan', read_list(sys.argv[1], frozenset(), print), sys.argv[2], lambda row, folder: (), [])\n"
        "print(time.monotonic() - began, psutil.Process().memory_info().rss / 1e6)"
    )
    told = subprocess.run(
        [sys.executable, "-c", code, str(path), str(folder / "plan")], capture_output=True, text=True, check=True
    )
    seconds, memory = map(float, told.stdout.split())
    return seconds, memory


def raw(folder: Path, gigabytes: int) -> tuple[float, float, float, bool]:
    """(seconds with one process, with all cores, what two readers gain, whether the finds are the same) of a search of every byte of an image without a file system."""
    image = folder / "card.img"
    chance = random.Random(3)
    page = subprocess.run(
        [
            sys.executable,
            "-c",
            "import io, zipfile, sys\nb = io.BytesIO()\nz = zipfile.ZipFile(b, 'w', 8)\nz.writestr('a.txt', 'oak ' * 99999)\nz.close()\nsys.stdout.buffer.write(b.getvalue())",
        ],
        capture_output=True,
        check=True,
    ).stdout
    with image.open("wb") as out:
        out.write(bytes(1 << 20))
        while out.tell() < gigabytes << 30:
            out.write(
                page.ljust(-(-len(page) // 512) * 512, b"\0") + chance.randbytes(512 * chance.randrange(64, 4096))
            )
    answers, seconds = [], []
    for alone in ("1", ""):
        began = time.monotonic()
        told = subprocess.run(
            [RUSTFERN, "scan", str(image), "--raw", "--json"],
            env={**os.environ, "RUSTFERN_ONE_CORE": alone},
            capture_output=True,
            check=False,
        )
        seconds.append(time.monotonic() - began)
        answers.append(
            [
                (each["name"], [copy["sha256"] for copy in each["copies"]])
                for each in json.loads(told.stdout)["documents"]
            ]
        )
    return seconds[0], seconds[1], readers(image), answers[0] == answers[1]


def readers(image: Path) -> float:
    """How many times as fast two general readers get through both halves of a file as one through all of it: what this machine can give."""
    half = image.stat().st_size >> 21
    parts = [f"dd if='{image}' bs=1M skip={at} count={half} status=none | cksum >/dev/null" for at in (0, half)]
    told = []
    # Read once before, so that both find it in memory.
    subprocess.run(["sh", "-c", "; ".join(parts)], check=True)
    for command in ("; ".join(parts), f"({parts[0]}) & ({parts[1]}) & wait"):
        began = time.monotonic()
        subprocess.run(["sh", "-c", command], check=True)
        told.append(time.monotonic() - began)
    return told[0] / told[1]


def simulated(pieces: list[float], workers: int, roots: int, cost: float) -> float:
    """Hours that so many roots would take on so many workers, by the seconds of measured pieces; one scheduler gives out each piece for `cost`."""
    chance = random.Random(5)
    free = [0.0] * workers
    given = 0.0
    for _ in range(roots):
        given += cost
        heapq.heapreplace(free, max(free[0], given) + chance.choice(pieces))
    return max(free) / 3600


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--homes", type=int, default=200)
    parser.add_argument("--raw-gb", type=int, default=1)
    parser.add_argument("--scheduler", default="")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        base = Path(name)
        os.environ["XDG_STATE_HOME"] = str(base / "state")
        lay_out(base / "homes", given.homes)
        run(base / "homes", base / "warm", 2, scheduler=given.scheduler)
        one, _ = run(base / "homes", base / "one", 1, scheduler=given.scheduler)
        two, outcomes = run(base / "homes", base / "two", 2, scheduler=given.scheduler)
        pieces = [float(str(each["seconds"])) for each in outcomes]
        cost = (two - sum(pieces) / 2) / len(pieces)
        print(
            f"{given.homes} homes: one worker {one:.1f} s, two {two:.1f} s: {one / two:.2f} times as fast (1.8 asked)"
        )
        print(f"what is not the pieces' own work: {cost * 1000:.1f} ms a piece, starting included (20 asked)")
        if not given.scheduler:
            killed, outcomes = run(base / "homes", base / "killed", 2, kill_every=1.0)
            lost = [each for each in outcomes if each["status"] not in (0, 1)]
            again = sum(int(str(each["tries"])) - 1 for each in outcomes)
            print(
                f"a worker killed each second: {killed:.1f} s, {again} pieces begun again, {len(lost)} of {len(outcomes)} lost (0 asked)"
            )
        seconds, memory = planned(10_000, base)
        print(f"10,000 roots planned: {seconds:.1f} s, {memory:.0f} MB (300 asked)")
        alone, together, two_readers, same = raw(base, given.raw_gb)
        print(
            f"raw search of {given.raw_gb} GB: one {alone:.1f} s, two {together:.1f} s: {alone / together:.2f} times as fast (1.8 asked; two general readers: {two_readers:.2f}), {'the same finds' if same else 'OTHER FINDS'}"
        )
        print("simulated, by the pieces measured above and what scheduling costs:")
        for workers, roots in ((10, 2_000), (100, 20_000), (1_000, 1_000_000)):
            hours = simulated(pieces, workers, roots, max(cost, 0.001))
            ideal = sum(pieces) / len(pieces) * roots / workers / 3600
            print(
                f"  {workers:>5} workers, {roots:>9,} roots: {hours:.2f} h, {ideal / hours:.0%} of what so many workers could do"
            )


main()
