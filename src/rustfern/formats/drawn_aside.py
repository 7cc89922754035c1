"""What is made in a process of its own: what a strange file does to a native library costs that one thing alone."""

from __future__ import annotations

import subprocess
import sys


def made_aside(module: str, data: bytes, patience: float) -> bytes | None:
    """What a module of ours makes of some bytes on its standard input; None where it fails, or takes more than so many seconds."""
    command = [sys.executable, "-P", "-m", module]  # -P: no module of the folder that we stand in
    try:
        run = subprocess.run(command, input=data, capture_output=True, timeout=patience)
    except (OSError, subprocess.TimeoutExpired):
        return None
    return run.stdout if run.returncode == 0 else None


def drawn_aside(module: str, data: bytes, patience: float) -> bytes | None:
    """As `made_aside`, a picture: PNG."""
    made = made_aside(module, data, patience)
    return made if made is not None and made.startswith(b"\x89PNG") else None
