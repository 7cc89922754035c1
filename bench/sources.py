#!/usr/bin/env python3
"""One home in different sources: bench/sources.py RUSTFERN ARCHIVE…: each archive (`.tar.gz`) is searched as it is and unpacked, with `--seven` as a 7z
archive made of it too; whatever differs in documents, choices, times or sums is printed.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tarfile
import tempfile
from pathlib import Path
from typing import Any

_TIMES = ("seconds", "search_seconds", "first_seconds")


def answer(rustfern: str, root: str, state: str) -> Any:
    """What a scan says, with the root's own path taken out."""
    env = {**os.environ, "XDG_STATE_HOME": state, "TZ": "UTC"}
    run = subprocess.run([rustfern, "scan", root, "--json"], capture_output=True, env=env)
    if run.returncode not in (0, 1, 3):
        return {"error": run.stderr.decode("utf-8", "replace")}
    found = json.loads(run.stdout.decode().replace(json.dumps(root)[1:-1], "ROOT"))
    found["case"] = None
    for name in _TIMES:
        found["totals"][name] = 0
    return found


def differences(left: Any, right: Any, where: str = "") -> list[str]:
    """Where two answers differ."""
    if isinstance(left, dict) and isinstance(right, dict):
        keys = sorted(left.keys() | right.keys())
        return [line for key in keys for line in differences(left.get(key), right.get(key), f"{where}.{key}")]
    if isinstance(left, list) and isinstance(right, list) and len(left) == len(right):
        return [
            line
            for number, pair in enumerate(zip(left, right, strict=True))
            for line in differences(*pair, f"{where}[{number}]")
        ]
    return [] if left == right else [f"{where}: {str(left)[:120]} / {str(right)[:120]}"]


def tell(path: object, found: list[str]) -> bool:
    """Say whether two answers are the same, with the first differences; whether there were any."""
    print(f"{'BAD' if found else 'ok '} {path}", flush=True)
    for line in found[:8]:
        print(f"      {line}")
    return bool(found)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("rustfern")
    parser.add_argument("archives", nargs="+")
    parser.add_argument("--seven", metavar="7z", help="the program that makes 7z archives")
    asked = parser.parse_args()
    bad = 0
    for path in asked.archives:
        with tempfile.TemporaryDirectory() as folder:
            unpacked = Path(folder) / "unpacked"
            with tarfile.open(path) as archive:
                archive.extractall(unpacked, filter="fully_trusted")
                for info in archive.getmembers():
                    if info.issym():  # unpacking leaves the times of links as they come
                        os.utime(unpacked / info.name, (info.mtime, info.mtime), follow_symlinks=False)
            state = str(Path(folder) / "state")
            plain = answer(asked.rustfern, str(unpacked), state)
            found = differences(answer(asked.rustfern, os.path.realpath(path), state), plain)
            if asked.seven:
                packed = Path(folder) / "unpacked.7z"
                subprocess.run(
                    [asked.seven, "a", "-bd", "-snl", packed, "."], cwd=unpacked, check=True, capture_output=True
                )
                found += differences(answer(asked.rustfern, str(packed), state), plain)
        bad += tell(path, found)
    print(f"{len(asked.archives) - bad} of {len(asked.archives)} the same")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
