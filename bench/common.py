"""What the benches share: timing whole commands, the best of several runs, in one process tree."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path


def rustfern() -> str:
    """The built command beside this interpreter."""
    return str(Path(sys.executable).parent / "rustfern")


def best_of(command: Sequence[str], runs: int, env: dict[str, str] | None = None) -> float:
    """Seconds of the fastest of several runs; output is thrown away."""
    times = []
    for _ in range(runs):
        started = time.perf_counter()
        subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env={**os.environ, **(env or {})})
        times.append(time.perf_counter() - started)
    return min(times)


def peak_memory(command: Sequence[str], env: dict[str, str]) -> tuple[float, int, bytes]:
    """Seconds, peak resident memory in bytes and stdout of one run."""
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env={**os.environ, **env})
    assert process.stdout is not None
    output = process.stdout.read()
    _, _, usage = os.wait4(process.pid, 0)
    return time.perf_counter() - started, usage.ru_maxrss * 1024, output


def row(what: str, value: float, limit: float, unit: str = "times") -> bool:
    """Print one figure beside its limit; whether it holds."""
    good = value <= limit
    print(f"{'ok ' if good else 'BAD'} {what:<58} {value:8.2f} {unit} (at most {limit:g})")
    return good


def own_memory() -> int:
    """Peak resident memory of this process, bytes."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
