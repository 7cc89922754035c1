#!/usr/bin/env python3
"""A folder that runs by itself from a stick, on this kind of system: the program, its data, the licences and the list of its parts.

    tools/make_stick.py --to DIR [--again]

Packed by PyInstaller in a virtual environment of its own, from `tools/stick/requirements.txt` (each part with its sums). `--again` packs twice and compares
both byte for byte. What draws figures lies in `figures-SYSTEM/`, which may be taken away. Beside the program: `START HERE.txt`, a start file that opens the guide, `licences/`, `parts.cdx.json` (CycloneDX), `SHA256SUMS`.
What is kept (cases, settings, private copies) lies in `data/` on the stick.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
STICK = ROOT / "tools" / "stick"
START = """Rust Fern finds the most recent intact copy of lost documents. Nothing is installed, and nothing is written to this machine.

  1. Do not close or restart anything yet: many copies live only until then.
  2. Start "{start}". It asks what happened, and leads through all of it.
     Or type commands:  {program} --help
  3. What is restored goes where you say: another disk, or this stick. Cases and settings lie in the folder "data" beside this file.
     Where the stick is write-protected, they lie in memory until this machine is shut down.

To make sure that this stick is as it was made: SHA256SUMS lists the sum of each file ({check}).
It must be the SHA256SUMS that you were given with it, or made yourself: {build}
The folder "figures-…" is only needed to draw figures (look --figure): it can be taken away to save room.
The parts of the program and their licences: parts.cdx.json, licences.
"""
_STRIPPED = ("libpython", "_rust", "resvg", "_jpeg", "_yaml", "_sodium", "_bcrypt", "_zstd")
"""Libraries whose tables for debuggers can go. Those that were put into a wheel with another one's help stay: taking anything out breaks them."""


def run(*command: object, **env: str) -> str:
    """What a program prints. Raises `SystemExit` with what it said where it fails."""
    done = subprocess.run(
        [str(each) for each in command], env={**os.environ, **env}, capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise SystemExit(f"{Path(str(command[0])).name} failed:\n{done.stdout[-2000:]}{done.stderr[-4000:]}")
    return done.stdout


_DRAW = """
import io, sys
ours = sys.argv[1]
sys.path.append(ours)
import matplotlib
matplotlib.use("Agg")
from matplotlib import dates, pyplot
figure, axes = pyplot.subplots(layout="constrained")
axes.plot([dates.date2num(__import__("datetime").datetime(2026, 3, n)) for n in (1, 2, 3)], [1, 2, 3])
axes.set_title("\u00dc")
axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(dates.AutoDateLocator()))
for form in ("png", "svg"):
    figure.savefig(io.BytesIO(), format=form)
print(*sorted(name for name, each in sys.modules.items() if name != "__main__" and not (getattr(each, "__file__", None) or "").startswith(ours)))
"""
"""Draws as the program does, and tells which modules outside of the figures' own folder that took."""


def build_name() -> str:
    """What a build is called: the version, and the commit that it was made of."""
    version = re.findall(r'^__version__ = "(.*)"', (ROOT / "src/rustfern/_version.py").read_text(), re.MULTILINE)[0]
    commit = run("git", "-C", ROOT, "rev-parse", "--short=12", "HEAD").strip()
    changed = "+changed" if run("git", "-C", ROOT, "status", "--porcelain", "--untracked-files=no").strip() else ""
    return f"{version} {commit}{changed} {sys.platform}"


def environment(folder: Path) -> Path:
    """A virtual environment with all parts as they are locked; its Python."""
    run(sys.executable, "-m", "venv", folder)
    python = folder / ("Scripts/python.exe" if os.name == "nt" else "bin/python")
    run(
        python,
        "-m",
        "pip",
        "install",
        "--quiet",
        "--disable-pip-version-check",
        "--require-hashes",
        "-r",
        STICK / "requirements.txt",
    )
    run(python, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-deps", ROOT)
    return python


def figures(python: Path, to: Path) -> str:
    """Put what draws figures into a folder of its own; the modules of the program's parts that it asks for, parted by blanks."""
    run(
        python, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-compile", "--no-deps", "--require-hashes",
        "--target", to, "-r", STICK / "figures.txt",
    )  # fmt: skip
    for path in (*to.rglob("tests"), to / "matplotlib/mpl-data/sample_data", to / "bin", to / "share"):
        shutil.rmtree(path, ignore_errors=True)
    when = commit_time()
    for path in to.rglob("*"):
        os.utime(path, (when, when))
    return run(python, "-B", "-c", _DRAW, to).strip()


def commit_time() -> int:
    """Seconds since 1970 of the commit that is packed: the time of all files."""
    return int(run("git", "-C", ROOT, "log", "-1", "--format=%ct").strip())


def pack(python: Path, work: Path, to: Path, name: str, needed: str) -> Path:
    """The program, packed, with the modules that its figures need; the folder that it lies in."""
    when = commit_time()
    run(
        python, "-m", "PyInstaller", "--noconfirm", "--clean", "--log-level", "ERROR", "--distpath", to, "--workpath", work, STICK / "rustfern.spec",
        SOURCE_DATE_EPOCH=str(when), PYTHONHASHSEED="1", RUSTFERN_FOR_FIGURES=needed,
    )  # fmt: skip
    program = to / f"rustfern-{sys.platform}"
    (program / "parts" / "rustfern" / "build.txt").write_text(name + "\n")
    if os.name == "posix" and shutil.which("strip"):
        for path in sorted((program / "parts").rglob("*.so*")):
            if (
                any(part in path.name for part in _STRIPPED)
                or "lib-dynload" in path.parts
                or path.name.startswith(("libcrypto", "libssl", "libsqlite"))
            ):
                run("strip", *(["-x"] if sys.platform == "darwin" else ["--strip-unneeded"]), path)
    for path in program.rglob("*"):
        # A stick's file system knows no links; each library finds its own beside it without them.
        if path.is_symlink():
            path.unlink()
    for path in program.rglob("*"):
        os.utime(path, (when, when))
    return program


def licences(python: Path, to: Path, drawing: Path) -> None:
    """The licence of each part, as it came with it."""
    code = (
        "import importlib.metadata as m, itertools, json, sys\nprint(json.dumps([[d.metadata['Name'], d.version, [str(f.locate()) for f in d.files or () "
        "if any(w in f.name.upper() for w in ('LICEN', 'COPYING', 'NOTICE', 'AUTHORS'))]] for d in itertools.chain(m.distributions(), m.distributions(path=[sys.argv[1]]))]))"
    )
    for name, version, files in json.loads(run(python, "-c", code, drawing)):
        for number, file in enumerate(sorted(files)):
            path = to / f"{name}-{version}{f'-{number + 1}' if number else ''}.txt"
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(Path(file).read_bytes())
    own = Path(sys.base_prefix) / f"lib/python{sys.version_info[0]}.{sys.version_info[1]}/LICENSE.txt"
    for path in (own, Path(sys.base_prefix) / "LICENSE.txt"):
        if path.exists():
            (to / "Python.txt").write_bytes(path.read_bytes())


def sums(folder: Path) -> str:
    """A line for each file, as `sha256sum` writes them."""
    lines = []
    for path in sorted(folder.rglob("*")):
        if path.is_file() and path.name != "SHA256SUMS":
            lines.append(f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path.relative_to(folder).as_posix()}\n")
    return "".join(lines)


def figure_of(program: Path) -> str:
    """Have the packed program search a made-up folder, and draw; the name of the picture."""
    with tempfile.TemporaryDirectory() as scratch:
        base = Path(scratch)
        home = base / "home/ines/Documents"
        home.mkdir(parents=True)
        (home / "mooring plan.txt").write_text("berth nine: Petrel\n")
        (home / "mooring plan.txt~").write_text("berth nine: Petrel, from the third of April\n")
        own = {"RUSTFERN_DATA": str(base / "data")}
        run(program, "scan", base / "home", **own)
        run(program, "look", "1", "--figure", base / "life.png", **own)
        return next(base.glob("*.png")).name


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", required=True, type=Path, metavar="DIR")
    parser.add_argument("--again", action="store_true", help="pack twice, and compare")
    given = parser.parse_args()
    to: Path = given.to.resolve()
    if to.exists() and any(to.iterdir()):
        raise SystemExit(f"{to} is not empty: name a new folder")
    to.mkdir(parents=True, exist_ok=True)
    name = build_name()
    with tempfile.TemporaryDirectory() as scratch:
        base = Path(scratch)
        python = environment(base / "env")
        drawing = to / f"figures-{sys.platform}"
        needed = figures(python, drawing)
        program = pack(python, base / "work", to, name, needed)
        if given.again:
            second = pack(python, base / "work2", base / "dist2", name, needed)
            if sums(program) != sums(second):
                mine, theirs = (
                    dict(reversed(line.split("  ", 1)) for line in sums(each).splitlines())
                    for each in (program, second)
                )
                different = sorted(path for path in mine.keys() | theirs.keys() if mine.get(path) != theirs.get(path))
                raise SystemExit(f"packed twice, {len(different)} files differ, such as {', '.join(different[:5])}")
            print("packed twice: the same byte for byte")
        licences(python, to / "licences", drawing)
        run(
            python,
            "-m",
            "cyclonedx_py",
            "environment",
            "--output-reproducible",
            "--of",
            "JSON",
            "-o",
            to / "parts.cdx.json",
            python,
        )
        run(
            python, "-m", "cyclonedx_py", "requirements", "--output-reproducible", "--of", "JSON", "-o", to / "parts-figures.cdx.json",
            STICK / "figures.txt",
        )  # fmt: skip
    exe = f"{program.name}/rustfern" + (".exe" if os.name == "nt" else "")
    if os.name == "nt":
        start, check = "start-windows.cmd", "certutil -hashfile FILE SHA256"
        (to / start).write_text(f'@echo off\r\n"%~dp0{program.name}\\rustfern.exe" guide\r\npause\r\n')
    else:
        start = "start-macos.command" if sys.platform == "darwin" else "start-linux.sh"
        check = "sha256sum -c SHA256SUMS" if sys.platform != "darwin" else "shasum -a 256 -c SHA256SUMS"
        (to / start).write_text(f'#!/bin/sh\nexec "$(dirname "$0")/{exe}" guide\n')
        (to / start).chmod(0o755)
    (to / "START HERE.txt").write_text(START.format(start=start, program=exe, check=check, build=name), newline="\r\n")
    (to / "SHA256SUMS").write_text(sums(to))
    told = run(to / exe, "--version", "--verbose")
    drawn = figure_of(to / exe)
    sizes = [sum(path.stat().st_size for path in each.rglob("*") if path.is_file()) for each in (program, drawing)]
    print(f"{told.strip()}: {sizes[0] / 1e6:.0f} MB and {sizes[1] / 1e6:.0f} MB for figures ({drawn} drawn) in {to}")


if __name__ == "__main__":
    main()
