#!/usr/bin/env python3
"""Start-up, as ratios against `python -c "import click"` in the same run: bench/startup.py"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from common import best_of, row, rustfern


def main() -> int:
    with tempfile.TemporaryDirectory() as empty, tempfile.TemporaryDirectory() as state:
        env = {"XDG_STATE_HOME": state}
        base = best_of([sys.executable, "-c", "import click"], 20)
        version = best_of([rustfern(), "--version"], 20)
        scan = best_of([rustfern(), "scan", empty, "--json"], 20, env)
        text = Path(empty, "letter.txt")
        text.write_text("the garboard seam was raked out\n")
        check = best_of([rustfern(), "check", str(text), "--json"], 20, env)
    print(
        f"    import click {base * 1000:.0f} ms, --version {version * 1000:.0f} ms, scan of an empty folder {scan * 1000:.0f} ms, check of a small text {check * 1000:.0f} ms"
    )
    good = [
        row("rustfern --version / import click", version / base, 2.5),
        row("rustfern scan EMPTY --json / import click", scan / base, 2.5),
        row("rustfern check TEXT / import click", check / base, 2.5),
    ]
    return 0 if all(good) else 1


sys.exit(main())
