"""Pictures that are made in a process of their own: what a strange file does to a native library costs that picture alone."""

from __future__ import annotations

import subprocess
import sys


def drawn_aside(module: str, data: bytes, patience: float) -> bytes | None:
    """The PNG that a module of ours makes of some bytes on its standard input; None where it makes none, or takes more than so many seconds."""
    command = [sys.executable, "-P", "-m", module]  # -P: no module of the folder that we stand in
    try:
        run = subprocess.run(command, input=data, capture_output=True, timeout=patience)
    except (OSError, subprocess.TimeoutExpired):
        return None
    return run.stdout if run.returncode == 0 and run.stdout.startswith(b"\x89PNG") else None
