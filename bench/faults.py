#!/usr/bin/env python3
"""What holds when everything goes wrong: bench/faults.py [--times 200] [--only killed|untouched|attacked|speed] [--folder DIR]

killed: `restore`, `keep`, `scan` and `report` on the demo disk, each killed (SIGKILL) at so many random moments: afterwards every file under its
final name is whole, the next run cleans up and ends well, the case file opens. untouched: a digest of bytes, names, kinds, modes, times and extended
attributes of the demo disk and of `--folder`, before and after every command: as they are, on a volume that keeps times of access, on one that is
read-only, and without the rights of an administrator on files of somebody else. attacked: folders
swapped for links under its hands, several commands at once, 100,000 mutations through matching. speed: restoring and keeping against `cp`, `sync` and two `sha256sum` of
the same files, in the same run.
"""

from __future__ import annotations

import argparse
import contextlib
import ctypes
import hashlib
import json
import os
import random
import shutil
import signal
import sqlite3
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from common import row

RUSTFERN = [sys.executable, "-m", "rustfern"]
LEFT = ".rustfern-"
FOLDERS = ("HOME", "TMPDIR", "XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_RUNTIME_DIR")


def call(*words: object, state: Path, rights: bool = True, **more: str) -> subprocess.CompletedProcess[str]:
    """Run the program."""
    return subprocess.run(
        [*RUSTFERN, *map(str, words)], capture_output=True, text=True, errors="backslashreplace",
        env={**os.environ, "XDG_STATE_HOME": str(state), "COLUMNS": "100", **more}, preexec_fn=None if rights else without_rights,
    )  # fmt: skip


def killed(words: list[object], after: float, state: Path) -> bool:
    """Run the program and kill it after so many seconds; False if it had ended before."""
    env = {**os.environ, "XDG_STATE_HOME": str(state)}
    run = subprocess.Popen([*RUSTFERN, *map(str, words)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=env)
    try:
        run.wait(after)
        return False
    except subprocess.TimeoutExpired:
        run.send_signal(signal.SIGKILL)
        run.wait()
        return True


def sums(folder: Path) -> dict[str, str]:
    """SHA-256 of every file below a folder that has its final name."""
    out = {}
    for path in folder.rglob("*") if folder.exists() else ():
        relative = str(path.relative_to(folder))
        if path.is_file() and LEFT not in relative and path.name != "restored.jsonl":
            out[relative] = hashlib.sha256(path.read_bytes()).hexdigest()
    return out


def leftovers(folder: Path) -> int:
    """How many things that are not finished lie below a folder."""
    return sum(LEFT in path.name for path in folder.rglob("*")) if folder.exists() else 0


def kill_command(
    name: str,
    command: Callable[[Path], list[object]],
    whole: Callable[[Path], bool],
    times: int,
    base: Path,
    state: Path,
) -> bool:
    """Kill one command so often; whether all was well each time."""
    rng = random.Random(name)
    target = base / name
    began = time.monotonic()
    ended = call(*command(target), state=state)
    lasts = time.monotonic() - began
    assert ended.returncode in (0, 3), ended.stderr
    good, hits, cleaned = 0, 0, 0
    for _ in range(times):
        shutil.rmtree(target, ignore_errors=True)
        target.unlink(missing_ok=True) if target.is_file() else None
        hits += killed(command(target), rng.uniform(0.05, 1.05) * lasts, state)
        before = leftovers(target.parent if target.suffix else target)
        fine = whole(target)
        again = call(*command(target), state=state)
        fine &= again.returncode in (0, 3) or (name == "report.html" and "not replaced" in again.stderr)
        fine &= whole(target) and leftovers(target.parent if target.suffix else target) == 0
        cleaned += bool(before)
        good += fine
    print(
        f"{'ok ' if good == times else 'BAD'} {name:<12} killed {hits} of {times} times in mid-run, {good} times all whole, {cleaned} times cleaned up after"
    )
    return good == times


def kill_all(times: int) -> bool:
    """Kill every command that writes."""
    with tempfile.TemporaryDirectory() as folder:
        base, state = Path(folder), Path(folder) / "state"
        disk = base / "disk"
        call("demo", "--to", disk, state=state)
        case = base / "case.fern"
        call("scan", disk, "--case", case, state=state)
        reference = base / "reference"
        call("restore", "--all-best", "--to", reference, "--case", case, state=state)
        right = sums(reference)
        kept = base / "kept-reference"
        call("keep", disk, "--to", kept, state=state)
        right_kept = {k: v for k, v in sums(kept).items() if k.startswith("files")}

        def restored(target: Path) -> bool:
            return all(right.get(name) == value for name, value in sums(target).items())

        def keeps(target: Path) -> bool:
            return all(
                right_kept.get(name) == value for name, value in sums(target).items() if name.startswith("files")
            )

        def opens(target: Path) -> bool:
            if not target.exists() or not target.stat().st_size:
                return True
            with sqlite3.connect(target) as db:
                return bool(db.execute("PRAGMA integrity_check").fetchone()[0] == "ok")

        def page(target: Path) -> bool:
            return not target.exists() or target.read_text().rstrip().endswith("</html>")

        good = kill_command(
            "restored", lambda to: ["restore", "--all-best", "--to", to, "--case", case], restored, times, base, state
        )
        good &= kill_command("kept", lambda to: ["keep", disk, "--to", to], keeps, times, base, state)
        good &= kill_command("scan.fern", lambda to: ["scan", disk, "--case", to], opens, times, base, state)
        return good & kill_command(
            "report.html",
            lambda to: ["report", "--for", "record", "--to", to, "--case", case],
            page,
            times,
            base,
            state,
        )


def digest(folder: Path, *, accessed: bool = True) -> dict[str, tuple[object, ...]]:
    """All that could be changed of each thing below a folder; times of access of files only where they are `accessed` with the right to keep them."""
    out: dict[str, tuple[object, ...]] = {}
    for path in sorted(walk(folder)):
        facts = os.lstat(path)
        kind = stat.S_IFMT(facts.st_mode)
        content = os.readlink(path) if stat.S_ISLNK(kind) else ""
        if stat.S_ISREG(kind):
            handle = os.open(path, os.O_RDONLY | getattr(os, "O_NOATIME", 0))
            with os.fdopen(handle, "rb") as stream:
                content = hashlib.file_digest(stream, "sha256").hexdigest()
        extra = tuple(
            (name, os.getxattr(path, name, follow_symlinks=False)) for name in os.listxattr(path, follow_symlinks=False)
        )
        times = (facts.st_mtime_ns, facts.st_ctime_ns) + (
            (facts.st_atime_ns,) if accessed and stat.S_ISREG(kind) else ()
        )
        out[path] = (facts.st_mode, facts.st_uid, facts.st_size if not stat.S_ISDIR(kind) else 0, times, content, extra)
    return out


def walk(folder: Path) -> Iterator[str]:
    """Every path below a folder, and the folder."""
    yield str(folder)
    for top, folders, files in os.walk(folder):
        for name in [*folders, *files]:
            yield os.path.join(top, name)


@contextlib.contextmanager
def mounted(base: Path, options: str, of: Path | None = None) -> Iterator[Path | None]:
    """A volume in memory with such options, or a folder mounted so; None where this machine mounts none."""
    place = base / f"volume-{options.replace(',', '-')}"
    place.mkdir()
    words = ["mount", "-t", "tmpfs", "-o", options, "tmpfs", place] if of is None else ["mount", "--bind", of, place]
    if subprocess.run(words, capture_output=True).returncode:
        print(f"    {options}: no volumes can be mounted here, left out")
        yield None
        return
    if of is not None:
        subprocess.run(["mount", "-o", f"remount,bind,{options}", place], check=True)
    try:
        yield place
    finally:
        subprocess.run(["umount", place], check=True)


def without_rights() -> None:
    """Give up the rights of an administrator to read everything, and to act as the owner of everything, for what is executed next."""
    libc = ctypes.CDLL(None)
    for capability in (1, 2, 3):  # CAP_DAC_OVERRIDE, CAP_DAC_READ_SEARCH, CAP_FOWNER
        libc.prctl(24, capability, 0, 0, 0)


def unchanged(disk: Path, what: str, base: Path, *, rights: bool = True, inside: bool = False) -> bool:
    """Run every command over a disk; whether nothing of it changed. With `inside`, all folders that programs write into lie in it."""
    time.sleep(1.1)
    more: dict[str, str] = {}
    if inside:
        (disk / "tmp").mkdir(exist_ok=True)
        (base / "outside").mkdir(exist_ok=True)
        more = {name: str(disk / "tmp") for name in FOLDERS} | {
            "RUSTFERN_CASE": str(base / "outside" / f"{disk.name}.fern")
        }
    before = digest(disk, accessed=rights)
    name = what.replace(" ", "-").replace(",", "")
    out, state = base / f"out-{name}", base / f"state-{name}"
    document = next((path for path in sorted(disk.rglob("*.odt")) if path.is_file()), disk)
    commands: list[list[object]] = [
        ["ready", disk], ["places", disk], ["scan", disk, "--gentle"], ["scan", disk, "--words", "larch"], ["scan", disk, "--thorough", "--everything"],
        ["keep", disk, "--to", out / "kept"], ["keep", disk, "--to", out / "kept"], ["check", "--recursive", disk], ["check", document], ["look", "1"],
        ["look", "1", "--text"], ["look", "1a", "1b"], ["look", document], ["look", "1", "--figure", out / "life.png"], ["restore", "1", "--dry-run", "--to", out / "x"],
        ["restore", "--all-best", "--keep-layout", "--to", out / "restored"], ["report", "--for", "record", "--to", out / "r.html"],
        ["report", "--csv"], ["cases", "--log"], ["guide", disk, "--to", out / "guide", "--yes"],
    ]  # fmt: skip
    ended = [call(*command, state=state, rights=rights, **more).returncode for command in commands]
    after = digest(disk, accessed=rights)
    changed = [path for path in sorted(before.keys() | after.keys()) if before.get(path) != after.get(path)]
    good = not changed and all(status in (0, 1, 2, 3) for status in ended) and ended[4] in (0, 3)
    print(
        f"{'ok ' if good else 'BAD'} {what}: {len(before)} things, {len(commands)} commands, {len(changed)} changed {changed[:3] or ''}"
    )
    return good


def untouched(more: str | None) -> bool:
    """Run every command over disks, as they are and as they could be attached; whether nothing of them changed."""
    with tempfile.TemporaryDirectory() as folder:
        base = Path(folder)
        call("demo", "--to", base / "demo", state=base / "state")
        disks = [base / "demo"]
        if more:
            shutil.copytree(more, base / "more", symlinks=True)
            disks.append(base / "more")
        good = True
        for disk in disks:
            good &= unchanged(disk, f"{disk.name} as it is", base)
            good &= unchanged(disk, f"{disk.name}, home and temporary folders in it", base, inside=True)
            with mounted(base, "strictatime,size=4g") as volume:
                if volume is not None:
                    shutil.copytree(disk, volume / "disk", symlinks=True)
                    good &= unchanged(volume / "disk", f"{disk.name}, times of access kept", base)
            shutil.rmtree(base / "volume-strictatime-size=4g", ignore_errors=True)
            with mounted(base, "ro", disk) as volume:
                if volume is not None:
                    good &= unchanged(volume, f"{disk.name} read-only", base)
            shutil.rmtree(base / "volume-ro", ignore_errors=True)
            if hasattr(os, "geteuid") and os.geteuid() == 0:
                for path in walk(disk):
                    os.chown(path, 12_345, 12_345, follow_symlinks=False)
                good &= unchanged(disk, f"{disk.name} of somebody else, without rights", base, rights=False)
        return good


def attacked(times: int) -> bool:
    """Folders swapped for links while they are written into; several commands at once in one place; contents that cannot be, in matching."""
    with tempfile.TemporaryDirectory() as folder:
        base, state = Path(folder), Path(folder) / "state"
        call("demo", "--to", base / "disk", state=state)
        case = base / "case.fern"
        call("scan", base / "disk", "--case", case, state=state)
        away, target = base / "away", base / "target"
        away.mkdir()
        for _ in range(times):
            shutil.rmtree(target, ignore_errors=True)
            target.mkdir()
            words = ["restore", "--all-best", "--keep-layout", "--to", str(target), "--case", str(case)]
            run = subprocess.Popen([*RUSTFERN, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            while run.poll() is None:
                for place in [*target.iterdir(), target] if target.is_dir() and not target.is_symlink() else [target]:
                    with contextlib.suppress(OSError):
                        place.rename(base / f"moved-{time.monotonic_ns()}")
                        place.symlink_to(away)
                        time.sleep(0.002)
                        place.unlink()
                time.sleep(0.01)
        strays = [path for path in away.rglob("*") if path.is_file()]
        print(
            f"{'BAD' if strays else 'ok '} {times} restores into a folder that is swapped for a link: {len(strays)} files elsewhere"
        )
        together = base / "together"
        words = ["restore", "--all-best", "--to", str(together), "--case", str(case), "--json"]
        runs = [
            subprocess.Popen([*RUSTFERN, *words], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) for _ in range(4)
        ]
        answers = [json.loads(run.communicate()[0]) for run in runs]
        count = len(answers[0]["restored"])
        once = len(list(together.iterdir())) == count + 1 and all(
            len(answer["restored"]) == count for answer in answers
        )
        print(
            f"{'ok ' if once else 'BAD'} 4 restores at once into one folder: {count} files, {len(list(together.iterdir())) - 1} written"
        )
        words = ["scan", str(base / "disk"), "--case", str(case)]
        runs = [
            subprocess.Popen([*RUSTFERN, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            for _ in range(3)
        ]
        statuses = [run.wait() for run in runs]
        alone = statuses.count(0) >= 1 and set(statuses) <= {0, 2}
        print(
            f"{'ok ' if alone else 'BAD'} 3 searches at once into one case: {statuses.count(0)} ended, {statuses.count(2)} were refused"
        )
    fuzz = Path(__file__).resolve().parents[1] / "tools" / "fuzz_matching.py"
    found = subprocess.run([sys.executable, str(fuzz)], capture_output=True, text=True)
    print(f"{'BAD' if found.returncode else 'ok '} matching and choosing: {found.stdout.splitlines()[-1]}")
    return not strays and once and alone and not found.returncode


def speed() -> bool:
    """Restore and keep many files, against the general tools that do the same steps."""
    with tempfile.TemporaryDirectory() as folder:
        base, state = Path(folder), Path(folder) / "state"
        disk = base / "disk"
        home = disk / "home" / "ines"
        rng = random.Random(3)
        (home / ".config").mkdir(parents=True)
        files = []
        for number in range(40):
            path = home / "Documents" / f"log {number}.txt"
            path.parent.mkdir(exist_ok=True)
            path.write_text("saved over\n")
            older = path.with_name(path.name + "~")
            older.write_text(
                "\n".join(f"{rng.getrandbits(64):x} garboard {rng.getrandbits(32)}" for _ in range(60_000))
            )
            os.utime(older, (1_790_000_000, 1_790_000_000))
            files.append(older)
        call("scan", disk, state=state)

        def plain(to: Path) -> float:
            to.mkdir()
            began = time.monotonic()
            for each in files:
                target = to / each.name
                subprocess.run(["cp", "-p", str(each), str(target)], check=True)
                subprocess.run(["sync", str(target)], check=True)
            subprocess.run(["sha256sum", *map(str, files)], check=True, capture_output=True)
            subprocess.run(["sha256sum", *(str(to / each.name) for each in files)], check=True, capture_output=True)
            return time.monotonic() - began

        def ours(*words: object) -> float:
            began = time.monotonic()
            run = call(*words, state=state)
            assert run.returncode == 0, run.stderr
            return time.monotonic() - began

        runs = [
            (
                plain(base / f"p{n}"),
                ours("restore", "--all-best", "--to", base / f"r{n}"),
                ours("keep", disk, "--to", base / f"k{n}"),
            )
            for n in range(3)
        ]
        tool, restored, kept = (min(times) for times in zip(*runs, strict=True))
        print(
            f"    {len(files)} files of {files[0].stat().st_size >> 20} MB: tools {tool:.2f} s, restore {restored:.2f} s, keep {kept:.2f} s"
        )
        good = row("restore against cp, sync and two sha256sum", restored / tool, 1.3)
        return row("keep against the same", kept / tool, 1.3) and good


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--times", type=int, default=200)
    parser.add_argument("--only", choices=("killed", "untouched", "attacked", "speed"))
    parser.add_argument("--folder", help="also this folder, copied, for untouched")
    asked = parser.parse_args()
    checks = {
        "untouched": lambda: untouched(asked.folder),
        "attacked": lambda: attacked(min(asked.times, 25)),
        "speed": speed,
        "killed": lambda: kill_all(asked.times),
    }
    results = [check() for name, check in checks.items() if asked.only in (None, name)]
    print(json.dumps({"all well": all(results)}))
    return 0 if all(results) else 1


if __name__ == "__main__":
    sys.exit(main())
