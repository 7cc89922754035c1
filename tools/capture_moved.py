#!/usr/bin/env python3
"""Capture what real editors leave when their folders were moved by settings, as a home for the tests. Not run in CI.

    tools/capture_moved.py --to tests/data/homes/captured-moved-folders.tar.gz

Needs the package vim, and the right to make /home/ines (so that recorded paths read as on a person's machine). Vim has its
swap files and backups each in a folder of its own by .vimrc, and is killed with unsaved changes.
"""

from __future__ import annotations

import argparse
import os
import pty
import shutil
import signal
import tarfile
import time
from pathlib import Path

HOME = Path("/home/ines")
SETTINGS = {
    ".vimrc": "set nocompatible updatetime=300\nset directory=~/.keep/swap//\nset backup backupdir=~/.keep/before//\n",
    ".profile": "export EDITOR=vim\n",
}
TEXTS = {
    "Documents/Yard/rates.txt": "Berth rates\nwinter: 14 a foot\n",
    "Documents/rota.txt": "Monday Joss\nTuesday Tobias\n",
}


def run(command: list[str], keys: list[str]) -> None:
    """Type into a program in a terminal of its own, then kill it."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(HOME)
        os.execvpe(command[0], command, {**os.environ, "HOME": str(HOME), "TERM": "xterm", "LANG": "C.UTF-8"})
    time.sleep(1.5)
    for each in keys:
        os.write(terminal, each.encode())
        time.sleep(0.6)
    time.sleep(2.5)
    os.kill(pid, signal.SIGKILL)
    os.waitpid(pid, 0)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", type=Path, required=True)
    given = parser.parse_args()
    if HOME.exists():
        raise SystemExit(f"{HOME} is there already: this would write into it")
    try:
        for folder in (".keep/swap", ".keep/before"):
            (HOME / folder).mkdir(parents=True)
        for name, text in {**SETTINGS, **TEXTS}.items():
            (HOME / name).parent.mkdir(parents=True, exist_ok=True)
            (HOME / name).write_text(text)
        vim = ["vim", "Documents/Yard/rates.txt"]
        run(vim, ["Gosummer: 19 a foot\x1b", ":w\r", "Govisitors pay by the night, Petra Lund has the list\x1b"])
        with tarfile.open(given.to, "w:gz") as archive:
            for path in sorted(HOME.rglob("*")):
                if path.is_file() and path.name != ".viminfo":
                    archive.add(path, path.relative_to("/").as_posix())
                    print(path, path.stat().st_size)
    finally:
        shutil.rmtree(HOME, ignore_errors=True)


main()
