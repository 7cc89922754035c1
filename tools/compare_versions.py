#!/usr/bin/env python3
"""Two versions on the same homes: tools/compare_versions.py OLD NEW ROOT…: whatever the old `rustfern` says and the new one says otherwise is
printed; fields that only the new one has are fine. A root that is a `.tar.gz` is unpacked first.
"""

from __future__ import annotations

import argparse
import os
import sys
import tarfile
import tempfile
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[1] / "bench"))
from sources import answer, differences, tell


def shared(old: Any, new: Any) -> Any:
    """`new` without the fields that `old` does not have."""
    if isinstance(old, dict) and isinstance(new, dict):
        return {key: shared(old[key], new[key]) for key in new if key in old}
    if isinstance(old, list) and isinstance(new, list) and len(old) == len(new):
        return [shared(*pair) for pair in zip(old, new, strict=True)]
    return new


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("old")
    parser.add_argument("new")
    parser.add_argument("roots", nargs="+")
    asked = parser.parse_args()
    bad = 0
    for path in asked.roots:
        with tempfile.TemporaryDirectory() as folder:
            root = os.path.realpath(path)
            if path.endswith(".tar.gz"):
                root = str(Path(folder) / "unpacked")
                with tarfile.open(path) as archive:
                    archive.extractall(root, filter="fully_trusted")
            before = answer(asked.old, root, str(Path(folder) / "state-old"))
            after = answer(asked.new, root, str(Path(folder) / "state-new"))
            found = differences(before, shared(before, after))
        bad += tell(path, found)
    print(f"{len(asked.roots) - bad} of {len(asked.roots)} the same")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
