#!/usr/bin/env python3
"""Capture swap files of the real Vim and Neovim with what the editor itself rebuilds from them, as test data. Not run in CI.

    tools/capture_editors.py --to tests/data/swaps.tar.xz

Needs the distribution's packages vim and neovim. Each text is opened in the editor, changed, and the editor killed; then the editor's
own recovery writes the expected text. Cases: a small text, a large one (most lines are only in the original), Latin-1 with CR LF, long
lines, a text that was never named.
"""

from __future__ import annotations

import argparse
import io
import lzma
import os
import pty
import shutil
import signal
import subprocess
import tarfile
import tempfile
import time
from pathlib import Path

LARGE = "".join(
    f"{n:05} plank of larch, {n * 7 % 23} feet, checked by Tobias Okoro on the east slip\n" for n in range(1, 9001)
)
CASES: dict[str, tuple[str, bytes, list[str]]] = {
    # name → (editor, original, what is typed)
    "vim-small": (
        "vim",
        b"Launch schedule\nTue Kittiwake\nThu Saltern Lass\n",
        ["Gopintle drawn, Marigold waits for the dolphin\x1b", "ggOfirst line\x1b"],
    ),
    "vim-large": (
        "vim",
        LARGE.encode(),
        [":4000\r", "oinserted in the middle\x1b", ":10\r", "dd", "Glast line of all\x1b"],
    ),
    "vim-latin1-dos": ("vim", "Größe;Plätze\r\nSüdkai;12\r\n".encode("latin-1"), ["GoÜbergabe am Kai\x1b"]),
    "vim-long-lines": ("vim", (b"x" * 9000 + b"\n") * 3, ["Go" + "oak and larch " * 30 + "\x1b"]),
    "vim-no-final-newline": ("vim", b"one\ntwo", ["Gothree\x1b"]),
    "nvim-small": ("nvim", b"Hull survey\nChainplates\n", ["Godelaminated at the hood ends\x1b"]),
    "nvim-large": ("nvim", LARGE.encode(), [":6000\r", "oinserted in the middle\x1b", ":100\r", "5dd"]),
}


def session(editor: str, text: Path, home: Path, typed: list[str]) -> Path:
    """Edit in a terminal of its own, wait for the swap file to be written, kill; returns the swap file."""
    options = ["-u", "NONE", "-N", "--cmd", "set updatetime=300 directory=. fileencodings=ucs-bom,utf-8,latin1"]
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(text.parent)
        os.execvpe(
            editor, [editor, *options, text.name], {**os.environ, "HOME": str(home), "TERM": "xterm", "LANG": "C.UTF-8"}
        )
    time.sleep(1.5)
    for keys in typed:
        os.write(terminal, keys.encode())
        time.sleep(0.4)
    time.sleep(2.5)
    try:
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        children = []
    for each in [*map(int, children), pid]:
        os.kill(each, signal.SIGKILL)
    os.waitpid(pid, 0)
    return text.with_name(f".{text.name}.swp")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", type=Path, required=True)
    given = parser.parse_args()
    buffer = io.BytesIO()
    with tempfile.TemporaryDirectory() as folder, tarfile.open(fileobj=buffer, mode="w") as archive:
        for name, (editor, original, typed) in CASES.items():
            if not shutil.which(editor):
                raise SystemExit(f"{editor} is missing")
            base = Path(folder) / name
            base.mkdir()
            text = base / "plan.txt"
            text.write_bytes(original)
            os.utime(text, (1_790_000_000, 1_790_000_000))
            swap = session(editor, text, base, typed)
            taken = swap.read_bytes()
            before = (text.read_bytes(), taken)
            work = base / "again"
            work.mkdir()
            shutil.copy2(text, work / "plan.txt")
            shutil.copy2(swap, work / swap.name)
            subprocess.run(
                [editor, "-u", "NONE", "-N", "-es", "-r", "plan.txt", "-c", "w! ../expected.txt", "-c", "qa!"], cwd=work,
                stdin=subprocess.DEVNULL, capture_output=True, timeout=60, env={**os.environ, "HOME": str(base), "LANG": "C.UTF-8"},
            )  # fmt: skip
            files = {"original.txt": before[0], "plan.swp": taken, "expected.txt": (base / "expected.txt").read_bytes()}
            for file, data in files.items():
                info = tarfile.TarInfo(f"{name}/{file}")
                info.size = len(data)
                archive.addfile(info, io.BytesIO(data))
            print(name, {file: len(data) for file, data in files.items()})
    given.to.write_bytes(lzma.compress(buffer.getvalue(), preset=9 | lzma.PRESET_EXTREME))
    print(given.to, given.to.stat().st_size, "bytes")


main()
