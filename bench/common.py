"""What the benches share: timing whole commands, the best of several runs, in one process tree."""

from __future__ import annotations

import contextlib
import os
import resource
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path

import psutil


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
    """Seconds, peak resident memory in bytes (of the processes that it starts too, where they run beside it) and stdout of one run."""
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env={**os.environ, **env})
    together = [0]
    watching = threading.Thread(target=_watch, args=(process.pid, together), daemon=True)
    watching.start()
    assert process.stdout is not None
    output = process.stdout.read()
    _, _, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - started
    watching.join()
    return seconds, max(usage.ru_maxrss * 1024, together[0]), output


def _watch(pid: int, most: list[int]) -> None:
    """The most memory that a process and its children had together."""
    with contextlib.suppress(psutil.Error):
        process = psutil.Process(pid)
        while process.is_running() and process.status() != psutil.STATUS_ZOMBIE:
            there = [process.memory_info().rss]
            for child in process.children(recursive=True):
                with contextlib.suppress(psutil.Error):
                    there.append(child.memory_info().rss)
            most[0] = max(most[0], sum(there))
            time.sleep(0.05)


def row(what: str, value: float, limit: float, unit: str = "times") -> bool:
    """Print one figure beside its limit; whether it holds."""
    good = value <= limit
    print(f"{'ok ' if good else 'BAD'} {what:<58} {value:8.2f} {unit} (at most {limit:g})")
    return good


def own_memory() -> int:
    """Peak resident memory of this process, bytes."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
