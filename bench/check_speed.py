#!/usr/bin/env python3
"""How fast files are checked, as ratios in the same run: ZIP documents against `unzip -tq` a file, all documents against `cat` and
`sha256sum`.

    bench/check_speed.py [--zips N] [--others N] [--hostile]

500 ZIP documents for the first figure; 300 of them with 200 others for the second. The mix: whole documents of tests/data in turn: ZIP documents (texts, workbooks, presentations, drawings, books by
eight producers), and others (pictures, recordings, PDF, older office formats, mail, text). Copies share their styles and themes, as the documents
of one person do.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tarfile
import tempfile
from pathlib import Path

from common import best_of, row, rustfern
from hostile import MAKERS

DATA = Path(__file__).resolve().parent.parent / "tests" / "data"


def size(files: list[str]) -> float:
    """Megabytes."""
    return sum(Path(file).stat().st_size for file in files) / 1e6


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--zips", type=int, default=500)
    parser.add_argument("--others", type=int, default=200)
    parser.add_argument("--hostile", action="store_true", help="also files made to cost much (takes minutes)")
    given = parser.parse_args()
    found: dict[bool, list[tuple[str, bytes]]] = {True: [], False: []}
    for archive in ("packages.tar.xz", "media.tar.xz", "office.tar.xz", "documents.tar.xz"):
        with tarfile.open(DATA / archive) as source:
            for member in source.getmembers():
                stream = source.extractfile(member) if member.isfile() else None
                if stream is None or member.name.startswith("damaged/") or member.name.endswith(".json"):
                    continue
                data = stream.read()
                found[data[:2] == b"PK"].append((member.name.rpartition("/")[2], data))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for kind, wanted in ((True, given.zips), (False, given.others)):
            for number in range(wanted):
                title, data = found[kind][number % len(found[kind])]
                (folder / f"{number} {title}").write_bytes(data)
        files = sorted(folder.iterdir())
        zips = [str(file) for file in files if file.read_bytes()[:2] == b"PK"]
        mixed = zips[: given.zips * 3 // 5] + [str(file) for file in files if str(file) not in set(zips)]
        print(
            f"    {len(zips)} ZIP documents of {size(zips):.1f} MB; mixed: {len(mixed)} documents of {size(mixed):.1f} MB"
        )
        loop = 'for f in "$@"; do unzip -tq "$f"; done'
        reading = 'for f in "$@"; do cat "$f" | sha256sum; done'
        ours = best_of([rustfern(), "check", "--json", *zips], 3)
        good = row("ZIP documents / unzip -tq a file", ours / best_of(["sh", "-c", loop, "sh", *zips], 3), 1.2)
        ours = best_of([rustfern(), "check", "--json", *mixed], 3)
        good &= row("all documents / cat and sha256sum", ours / best_of(["sh", "-c", reading, "sh", *mixed], 3), 6)
    if given.hostile:
        good &= hostile()
    return 0 if good else 1


def hostile() -> bool:
    """Files made to cost much: memory beside that of the program itself (in megabytes), processor time for each 50 MB (in seconds)."""
    print("    memory beside the program's own, and processor time for each 50 MB:")
    good = True
    with tempfile.TemporaryDirectory() as name:
        small = Path(name) / "a.txt"
        small.write_text("oak")
        own = _cost(small)[0]
        for title in MAKERS:
            path = Path(name) / title
            # In a process of its own: what this one holds would count for what it starts.
            code = f"import hostile; hostile.MAKERS[{title!r}](hostile.Path({str(path)!r}))"
            subprocess.run([sys.executable, "-c", code], check=True, cwd=Path(__file__).parent)
            memory, seconds = _cost(path)
            shown = f"{title} of {path.stat().st_size / 1e6:.1f} MB"
            good &= row(shown, (memory - own) / 1e6, 200, "MB")
            good &= row("", seconds * 50 / max(path.stat().st_size / 1e6, 50), 10, "s")
            path.unlink()
    return good


def _cost(path: Path) -> tuple[int, float]:
    """Peak memory in bytes and processor seconds of one check with all its words counted."""
    run = subprocess.Popen(
        [rustfern(), "check", str(path), "--json"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, _, used = os.wait4(run.pid, 0)
    run.returncode = 0
    return used.ru_maxrss * 1024, used.ru_utime + used.ru_stime


if subprocess.run(["sh", "-c", "command -v unzip"], capture_output=True).returncode:
    sys.exit("unzip is missing")
sys.exit(main())
