#!/usr/bin/env python3
"""Search on a generated disk, as ratios against `find -printf` in the same run: bench/search.py [--files N] [--keep DIR]

The disk: 20 homes on two layouts, a tenth of the files documents, a hundredth leftovers (autosaves, locks, backups,
temporaries, trash), the rest what fills disks. Documents are real small packages and texts.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

from common import peak_memory, row, rustfern

WORDS = [
    "keel",
    "plank",
    "rivet",
    "larch",
    "oak",
    "caulking",
    "slipway",
    "mooring",
    "tide",
    "ferry",
    "crane",
    "invoice",
    "survey",
    "garboard",
    "frame",
    "seam",
    "mast",
]
JUNK = ("dat", "bin", "js", "dll", "so", "pyc", "cache", "log", "ico", "lock", "map", "node", "h5", "idx", "pack")


def odt(rng: random.Random, words: int) -> bytes:
    text = " ".join(rng.choice(WORDS) for _ in range(words))
    space = 'xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"'
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as package:
        package.writestr("mimetype", "application/vnd.oasis.opendocument.text")
        package.writestr(
            "content.xml",
            f"<office:document-content {space}><office:body><office:text><text:p>{text}</text:p></office:text></office:body>"
            "</office:document-content>",
            zipfile.ZIP_DEFLATED,
        )
        package.writestr(
            "META-INF/manifest.xml",
            '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">'
            '<manifest:file-entry manifest:full-path="/"/><manifest:file-entry manifest:full-path="content.xml"/>'
            "</manifest:manifest>",
        )
    return buffer.getvalue()


def generate(root: Path, files: int, homes: int, seed: int) -> None:
    rng = random.Random(seed)
    bodies = [odt(rng, 80) for _ in range(40)]
    per_home = files // homes
    for number in range(homes):
        windows = number % 2 == 0
        home = root / ("pc/Users" if windows else "box/home") / f"person{number:02}"
        left = per_home
        documents, leftovers = per_home // 10, per_home // 100
        saved: list[Path] = []
        while documents > 0:
            folder = home / "Documents" / f"{rng.choice(WORDS)} {len(saved)}"
            folder.mkdir(parents=True, exist_ok=True)
            for _ in range(min(documents, rng.randint(5, 40))):
                if rng.random() < 0.5:
                    path = folder / f"{rng.choice(WORDS)} {rng.choice(WORDS)} {len(saved)}.odt"
                    path.write_bytes(rng.choice(bodies))
                else:
                    path = folder / f"{rng.choice(WORDS)} {len(saved)}.{rng.choice(('txt', 'csv', 'pdf', 'jpg'))}"
                    path.write_text(f"{rng.choice(WORDS)} {rng.random()}\n")
                os.utime(path, (1_700_000_000 + len(saved), 1_700_000_000 + len(saved)))
                saved.append(path)
                documents -= 1
                left -= 1
        backup = home / (
            "AppData/Roaming/LibreOffice/4/user/backup" if windows else ".config/libreoffice/4/user/backup"
        )
        trash = home / ".local/share/Trash"
        for folder in (backup, trash / "files", trash / "info"):
            folder.mkdir(parents=True, exist_ok=True)
        for item in range(leftovers):
            path = rng.choice(saved)
            kind = item % 5
            if kind == 0 and path.suffix == ".odt":
                (backup / f"{path.name}_{item}.odt").write_bytes(odt(rng, 120))
            elif kind == 1:
                (path.parent / f".~lock.{path.name}#").write_text(
                    f"P {number},person{number:02},pc,23.11.2026 06:51,file:///x;"
                )
            elif kind == 2:
                shutil.copy2(path, path.with_name(path.name + "~"))
            elif kind == 3 and not windows:
                shutil.copy2(path, trash / "files" / path.name)
                inner = path.relative_to(root / "box")
                (trash / "info" / f"{path.name}.trashinfo").write_text(
                    f"[Trash Info]\nPath=/{inner}\nDeletionDate=2026-11-23T06:51:00\n"
                )
            else:
                shutil.copy2(path, path.with_name(f"{item:08X}"))
            left -= 1
        while left > 0:
            folder = (
                home
                / ("AppData/Local" if windows else ".cache")
                / f"{rng.choice(WORDS)}{left}"
                / f"{rng.randint(0, 9)}"
            )
            folder.mkdir(parents=True, exist_ok=True)
            for _ in range(min(left, rng.randint(20, 200))):
                (folder / f"{rng.getrandbits(64):016x}.{rng.choice(JUNK)}").touch()
                left -= 1


def find_seconds(root: str) -> float:
    started = time.perf_counter()
    subprocess.run(["find", root, "-printf", "%p %s %T@\n"], stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - started


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--files", type=int, default=300_000)
    parser.add_argument("--homes", type=int, default=20)
    parser.add_argument("--keep", type=Path, help="generate here and keep it; reused if it exists")
    given = parser.parse_args()
    base = given.keep or Path(tempfile.mkdtemp(prefix="rustfern-bench-"))
    root = base / "disk"
    if not root.exists():
        started = time.perf_counter()
        generate(root, given.files, given.homes, 7)
        print(f"    generated {given.files} files in {time.perf_counter() - started:.0f} s")
    try:
        find = min(find_seconds(str(root)) for _ in range(3))
        results = []
        for _ in range(3):
            with tempfile.TemporaryDirectory() as state:
                seconds, memory, output = peak_memory(
                    [rustfern(), "scan", str(root), "--json"], {"XDG_STATE_HOME": state}
                )
                results.append((json.loads(output)["totals"], seconds, memory))
        totals, seconds, memory = min(results, key=lambda result: result[0]["search_seconds"])
        first = min(result[0]["first_seconds"] for result in results)
        print(
            f"    find {find:.2f} s; {totals['files']} files, {totals['dismissed_by_name']} dismissed by name, whole scan {seconds:.1f} s"
        )
        good = [
            row("search stage / find -printf", totals["search_seconds"] / find, 1.5),
            row("memory of the whole scan", memory / 1e6, 300, "MB"),
            row("first answer from known places", first, 2.0, "s"),
        ]
    finally:
        if not given.keep:
            shutil.rmtree(base)
    return 0 if all(good) else 1


sys.exit(main())
