#!/usr/bin/env python3
"""A folder that runs by itself from a stick, on this kind of system: the program, its data, the licences and the list of its parts.

    tools/make_stick.py --to DIR [--again]

Packed by PyInstaller in a virtual environment of its own, from `tools/stick/requirements.txt` (each part with its sums). `--again` packs twice and compares
both byte for byte. Beside the program: `START HERE.txt`, a start file that opens the guide, `licences/`, `parts.cdx.json` (CycloneDX), `SHA256SUMS`.
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


def pack(python: Path, work: Path, to: Path, name: str) -> Path:
    """The program, packed; the folder that it lies in."""
    when = run("git", "-C", ROOT, "log", "-1", "--format=%ct").strip()
    run(
        python, "-m", "PyInstaller", "--noconfirm", "--clean", "--log-level", "ERROR", "--distpath", to, "--workpath", work, STICK / "rustfern.spec",
        SOURCE_DATE_EPOCH=when, PYTHONHASHSEED="1",
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
        os.utime(path, (int(when), int(when)))
    return program


def licences(python: Path, to: Path) -> None:
    """The licence of each part, as it came with it."""
    code = (
        "import importlib.metadata as m, json, sys\nprint(json.dumps([[d.metadata['Name'], d.version, [str(f.locate()) for f in d.files or () "
        "if any(w in f.name.upper() for w in ('LICEN', 'COPYING', 'NOTICE', 'AUTHORS'))]] for d in m.distributions()]))"
    )
    for name, version, files in json.loads(run(python, "-c", code)):
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
        program = pack(python, base / "work", to, name)
        if given.again:
            second = pack(python, base / "work2", base / "dist2", name)
            if sums(program) != sums(second):
                mine, theirs = (
                    dict(reversed(line.split("  ", 1)) for line in sums(each).splitlines())
                    for each in (program, second)
                )
                different = sorted(path for path in mine.keys() | theirs.keys() if mine.get(path) != theirs.get(path))
                raise SystemExit(f"packed twice, {len(different)} files differ, such as {', '.join(different[:5])}")
            print("packed twice: the same byte for byte")
        licences(python, to / "licences")
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
    size = sum(path.stat().st_size for path in program.rglob("*") if path.is_file() and not path.is_symlink())
    print(f"{told.strip()}: {size / 1e6:.0f} MB in {to}")


if __name__ == "__main__":
    main()
