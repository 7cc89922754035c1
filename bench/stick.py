#!/usr/bin/env python3
"""A stick against the installed program: how large it is, how fast it starts, and what a cold start reads.

    bench/stick.py DIR          (the folder that tools/make_stick.py made)

The cold start needs the right to have the system forget what it read (root on Linux): the bytes that it then reads from the disk tell how long a slow stick
would take (a calculation, by 20 MB a second, added to the warm start).
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import time
from pathlib import Path

SLOW = 20e6
ROUNDS = 7


def started(program: Path, words: list[str], env: dict[str, str]) -> float:
    began = time.monotonic()
    subprocess.run([program, *words], env=env, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    return time.monotonic() - began


def cold_bytes(program: Path, words: list[str], env: dict[str, str]) -> int | None:
    """Bytes that a start reads from the disk when nothing of it is in memory; None where the system cannot be told to forget."""
    try:
        os.sync()
        Path("/proc/sys/vm/drop_caches").write_text("3")
    except OSError:
        return None
    device = os.stat(program).st_dev
    stat = Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}/stat")
    before = int(stat.read_text().split()[2])
    started(program, words, env)
    return (int(stat.read_text().split()[2]) - before) * 512


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("stick", type=Path)
    stick = parser.parse_args().stick.resolve()
    folder = stick / f"rustfern-{sys.platform}"
    program, installed = folder / "rustfern", Path(sys.executable).parent / "rustfern"
    files = [path for path in folder.rglob("*") if path.is_file()]
    print(f"{sum(path.stat().st_size for path in files) / 1e6:.0f} MB in {len(files)} files (120 MB asked)")
    env = {**os.environ, "RUSTFERN_DATA": str(stick / "bench-data")}
    for what, words in (
        ("the first question", ["guide", str(stick / "nothing-here")]),
        ("the version", ["--version"]),
        ("a search of one folder", ["scan", str(stick / "licences"), "--json"]),
    ):
        times = {each: [] for each in (program, installed)}
        for _ in range(ROUNDS):
            for each in times:
                times[each].append(started(each, words, env))
        mine, theirs = (statistics.median(times[each]) for each in (program, installed))
        read = cold_bytes(program, words, env)
        cold = (
            ""
            if read is None
            else f"; cold it reads {read / 1e6:.0f} MB: {mine + read / SLOW:.1f} s from a stick of {SLOW / 1e6:.0f} MB a second"
        )
        print(f"{what}: {mine:.2f} s, installed {theirs:.2f} s: {mine / theirs:.2f} times{cold}")


main()
