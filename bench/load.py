#!/usr/bin/env python3
"""Large disks: bench/load.py [--files 10000 100000 1000000] [--folder 1000000] [--keep DIR]

For each number of files: a made-up disk of homes (one for each 5,000 files) full of documents, code, pictures and caches, two in a hundred of the files
copies of documents (saved over, autosaved, deleted); one whole search of it. Prints seconds, peak memory, the search stage against `find -printf` (the
best of five runs each, in turn) with what reading, matching and choosing take beside it, and how time grows with size. An interrupt at any moment must
end with 130, what was found so far, and a case that opens. `--folder`: one folder with so many entries.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from common import best_of, peak_memory, row, rustfern

PEOPLE = 5_000
LARGE = 1_000_000
"""From so many files on, what a search costs whatever it finds (reading the catalogue, starting) does not count any more."""
TEXT = "crane booked for the {}th of April, two slings, high water at {}\n"
NAMES = ("survey", "order", "plan", "invoice", "letter", "rota", "notes", "offer")


def make(folder: Path, files: int, rng: random.Random) -> int:
    """Lay out a disk; how many copies lie on it."""
    copies = made = 0
    number = 0
    while made < files:
        home = folder / "home" / f"person{number:03}"
        number += 1
        (home / ".config").mkdir(parents=True)
        trash = home / ".local/share/Trash"
        (trash / "files").mkdir(parents=True)
        (trash / "info").mkdir()
        left = min(PEOPLE, files - made)
        for part in range(max(left // 250, 1)):
            kind = part % 4
            inner = home / ("Documents", "projects/src", "Pictures", ".cache/browser")[kind] / f"{part:03}"
            inner.mkdir(parents=True)
            ending = ("txt", "py", "jpg", "bin")[kind]
            for item in range(min(250, left - 250 * part)):
                path = f"{inner}/{rng.choice(NAMES)} {item}.{ending}"
                data = TEXT.format(item, rng.randrange(24)) if kind < 2 else ""
                handle = os.open(path, os.O_CREAT | os.O_WRONLY)
                os.write(handle, data.encode())
                os.close(handle)
                made += 1
                if kind == 0 and item % 13 == 0:
                    Path(path + "~").write_text(data + f"first version {item} {rng.random()}\n")
                    os.utime(path + "~", (1_790_000_000, 1_790_000_000))
                    copies, made = copies + 1, made + 1
                if kind == 0 and item % 60 == 7:
                    name = f"dues {part} {item}.txt"
                    (trash / "files" / name).write_text(f"mooring dues {rng.random()}")
                    record = f"[Trash Info]\nPath={home}/Documents/{name.replace(' ', '%20')}\nDeletionDate=2026-09-21T14:18:00\n"
                    (trash / "info" / f"{name}.trashinfo").write_text(record)
                    copies, made = copies + 1, made + 2
        made += 0 if left > 249 else files
    return copies


def interrupted(disk: Path, after: float, base: Path) -> bool:
    """Interrupt a search after so many seconds; whether it ended with 130, said what it had found, and left a case that opens."""
    case = base / "interrupted.fern"
    case.unlink(missing_ok=True)
    env = {**os.environ, "XDG_STATE_HOME": str(base / "state")}
    run = subprocess.Popen(
        [rustfern(), "scan", str(disk), "--case", str(case)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=env
    )
    time.sleep(after)
    run.send_signal(signal.SIGINT)
    out, err = run.communicate()
    if run.returncode == 0:
        print(f"    ended before it could be interrupted after {after:.1f} s")
        return True
    opens = subprocess.run([rustfern(), "cases", str(case), "--json"], capture_output=True, env=env)
    answered = b"so far" in out or b"Next" in out  # all was found already
    good = run.returncode == 130 and opens.returncode == 0 and b"Traceback" not in err and answered
    print(
        f"{'ok ' if good else 'BAD'} interrupted after {after:.1f} s: status {run.returncode}, {len(out.splitlines())} lines of answer, case {'opens' if not opens.returncode else 'does not open'}"
    )
    return good


class Searched(Exception):
    """The search stage is over."""


def search_stage(disk: str) -> None:
    """Print the seconds of the search stage alone: people, known places, the whole tree and its index."""
    from rustfern.operations import scan
    from rustfern.search.search import Search

    spent = [0.0]

    def timed(call: Callable[..., object], *, last: bool = False) -> Callable[..., object]:
        def run(*given: object, **named: object) -> object:
            began = time.perf_counter()
            found = call(*given, **named)
            spent[0] += time.perf_counter() - began
            if last:
                raise Searched
            return found

        return run

    # The scan itself leaves what records hold out of this stage: it is recognised later.
    scan.find_people = timed(scan.find_people)  # type: ignore[assignment]
    Search.known_places = timed(Search.known_places)  # type: ignore[method-assign, assignment]
    scan.walk = timed(scan.walk, last=True)  # type: ignore[assignment]
    with tempfile.TemporaryDirectory() as folder, contextlib.suppress(Searched):
        scan.scan([disk], case=f"{folder}/c.fern")
    print(spent[0])


def one_folder(entries: int, base: Path) -> bool:
    """A folder with so many entries, a few of them leftovers."""
    disk = base / f"folder-{entries}"
    home = disk / "home" / "ines"
    if not disk.exists():
        (home / ".config").mkdir(parents=True)
        for number in range(entries):
            os.close(
                os.open(f"{home}/scan {number:07}.{'txt' if number % 50 == 0 else 'bin'}", os.O_CREAT | os.O_WRONLY)
            )
        for number in range(0, entries, entries // 20):
            Path(f"{home}/scan {number // 50 * 50:07}.txt~").write_text("crane booked for the fourteenth, two slings")
    with tempfile.TemporaryDirectory() as state:
        seconds, memory, output = peak_memory([rustfern(), "scan", str(disk), "--json"], {"XDG_STATE_HOME": state})
    found = json.loads(output)
    lost = sum(document["best"] is not None for document in found["documents"])
    find = best_of(["find", str(disk), "-printf", "%p %s %T@\n"], 2)
    print(
        f"    one folder with {found['totals']['files']} entries: {lost} documents with copies, {seconds:.1f} s, find {find:.2f} s"
    )
    return row("peak memory with one large folder", memory / 1e6, 400, "MB") and lost >= 20


def main() -> int:
    if sys.argv[1:2] == ["--stage"]:
        search_stage(sys.argv[2])
        return 0
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, nargs="+", default=[10_000, 100_000, 1_000_000])
    parser.add_argument("--folder", type=int, default=1_000_000, help="entries of the one large folder, 0 for none")
    parser.add_argument("--keep", help="where disks are kept between runs")
    asked = parser.parse_args()
    good = True
    figures: list[tuple[int, float]] = []
    with tempfile.TemporaryDirectory() as scratch:
        base = Path(asked.keep or scratch)
        for files in asked.files:
            disk = base / f"disk-{files}"
            if not disk.exists():
                make(disk, files, random.Random(files))
            env = {"XDG_STATE_HOME": str(Path(scratch) / "state")}
            case = Path(scratch) / f"{files}.fern"
            seconds, memory, output = peak_memory([rustfern(), "scan", str(disk), "--case", str(case), "--json"], env)
            answer = json.loads(output)
            totals = answer["totals"]
            finding, searching = [], []
            for _ in range(5):
                finding.append(best_of(["find", str(disk), "-printf", "%p %s %T@\n"], 1))
                stage = subprocess.run(
                    [sys.executable, __file__, "--stage", str(disk)], capture_output=True, check=True
                )
                searching.append(float(stage.stdout))
            find, search = min(finding), min(searching)
            figures.append((totals["files"], seconds))
            lost = sum(document["best"] is not None for document in answer["documents"])
            print(
                f"    {totals['files']} files, {len(answer['homes'])} homes, {lost} documents with copies: {seconds:.1f} s (reading, matching and choosing {seconds - totals['search_seconds']:.1f} s), search {search:.2f} s, find {find:.2f} s, case {case.stat().st_size >> 20} MB"
            )
            good &= row("peak memory", memory / 1e6, 400, "MB")
            if files >= LARGE:
                good &= row("search stage against find -printf", search / find, 1.0)
            del answer, output
        if len(figures) > 1:
            (few, fast), (many, slow) = figures[0], figures[-1]
            good &= row(f"growth of time from {few} to {many} files, by the file", (slow / many) / (fast / few), 1.5)
        for share in (0.01, 0.02, 0.1, 0.3, 0.6, 0.9):
            good &= interrupted(base / f"disk-{asked.files[-1]}", max(figures[-1][1] * share, 1.2), Path(scratch))
        if asked.folder:
            good &= one_folder(asked.folder, base)
        if not asked.keep:
            shutil.rmtree(base, ignore_errors=True)
            base.mkdir(exist_ok=True)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
