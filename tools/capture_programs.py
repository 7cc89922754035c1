#!/usr/bin/env python3
"""Capture what real programs leave behind when they are killed, each as a packed home with its truth. Not run in CI.

    tools/capture_programs.py --to FOLDER [NAME...]        all programs of the table, or those named
    tools/capture_programs.py --list                       the programs and the packages that they need

Each program opens a document of a person's home in a terminal (tmux) or on a screen of its own (Xvfb, openbox, xdotool), the text is
changed as a person would, the program gets its time, and is killed with everything that it started. FOLDER/NAME then holds `tree.tar.gz`
(the home, with what was left in temporary folders) and `truth.json`; `tools/pack_homes.py` makes small test data of it. What holds the
words that were typed is looked up in the bytes, not taken from the table: the table only says which of those files is meant.
Runs as root; the home is /home/ines. It and the temporary folders are empty ones of its own, which nothing else sees (unshare).
"""

from __future__ import annotations

import argparse
import fnmatch
import gzip
import io
import json
import os
import shutil
import signal
import subprocess
import sys
import tarfile
import time
import tomllib
import zipfile
import zlib
from pathlib import Path

HOME = Path("/home/ines")
NOT_LEFT = ("/home/ines/.cache/", "/tmp/tmux-", "/tmp/.X", "/tmp/dbus-", "/tmp/capture")
OUTSIDE = ("/tmp", "/var/tmp")
DISPLAY = f":{77 + os.getpid() % 900}"
SOCKET = "capture"
OLD = 1_790_000_000
BEFORE = (
    "Launch schedule, Marlow Quay Boatyard\nTue Kittiwake, high water 09:40\nThu Saltern Lass, wait for the dolphin\n"
)
TYPED = "Petra hired the second crane"
CLUTTER = {
    "Documents/mooring plan.txt": "Berth 4: Marigold, two springs\n",
    "Documents/Old/timber order.txt": "12 planks of larch, 20 feet\n",
}


def environment() -> dict[str, str]:
    kept = {name: value for name, value in os.environ.items() if name in ("PATH", "LANG")}
    return {
        **kept,
        "HOME": str(HOME),
        "USER": "ines",
        "LOGNAME": "ines",
        "LANG": "C.UTF-8",
        "TERM": "xterm-256color",
        "DISPLAY": DISPLAY,
        "NO_AT_BRIDGE": "1",
        "XDG_RUNTIME_DIR": "/run/capture",
        "QT_QPA_PLATFORM": "xcb",
        "QTWEBENGINE_DISABLE_SANDBOX": "1",
        "GSETTINGS_BACKEND": "memory" if shutil.which("dconf") is None else "dconf",
    }


def run(*command: str, check: bool = True) -> str:
    done = subprocess.run(command, env=environment(), capture_output=True, text=True, check=False, timeout=60)
    if check and done.returncode:
        raise SystemExit(f"{' '.join(command)}: {done.stderr.strip() or done.returncode}")
    return done.stdout


def kill_all(marked: str, how: int = signal.SIGKILL) -> None:
    """Signal every process whose environment holds the mark (what a program started belongs to it)."""
    mine = f"CAPTURED={marked}".encode()
    for process in Path("/proc").iterdir():
        try:
            if process.name.isdigit() and mine in (process / "environ").read_bytes():
                os.kill(int(process.name), how)
        except OSError:
            continue


class Terminal:
    """A program in a terminal of its own."""

    def __init__(self, program: dict[str, object], name: str, pictures: Path) -> None:
        self.name = name
        folder = HOME / str(program.get("folder", "Documents"))
        run(
            "tmux", "-L", SOCKET, "-f", "/dev/null", "new-session", "-d", "-x", "100", "-y", "30", "-c", str(folder), "-s", name,
            f"CAPTURED={name} exec {program['command']}",
        )  # fmt: skip

    def press(self, key: str) -> None:
        if key.startswith("<") and key.endswith(">"):
            run("tmux", "-L", SOCKET, "send-keys", "-t", self.name, key[1:-1], check=False)
        else:
            run("tmux", "-L", SOCKET, "send-keys", "-t", self.name, "-l", key, check=False)

    def picture(self, to: Path) -> None:
        to.with_suffix(".txt").write_text(run("tmux", "-L", SOCKET, "capture-pane", "-p", "-t", self.name, check=False))

    def end(self, how: int) -> None:
        kill_all(self.name, how)
        time.sleep(1)
        kill_all(self.name)
        run("tmux", "-L", SOCKET, "kill-server", check=False)


class Screen:
    """A program on a screen of its own."""

    def __init__(self, program: dict[str, object], name: str, pictures: Path) -> None:
        self.name = name
        env = {**environment(), "CAPTURED": name}
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        for left in (f"/tmp/.X{DISPLAY[1:]}-lock", f"/tmp/.X11-unix/X{DISPLAY[1:]}"):  # of a screen that was killed
            Path(left).unlink(missing_ok=True)
        subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24", "-nolisten", "tcp"], env=env, **quiet)  # type: ignore[call-overload]
        time.sleep(1.5)
        subprocess.Popen(["openbox"], env=env, **quiet)  # type: ignore[call-overload]
        time.sleep(0.5)
        folder = HOME / str(program.get("folder", "Documents"))
        log = (pictures / f"{name}.log").open("wb")
        subprocess.Popen(
            ["dbus-run-session", "--", "sh", "-c", f"exec {program['command']}"],
            env=env, cwd=folder, stdout=log, stderr=log,
        )  # fmt: skip

    def press(self, key: str) -> None:
        if key.startswith("<@"):  # <@x,y> a click
            x, y = key[2:-1].split(",")
            run("xdotool", "mousemove", x, y, "click", "1", check=False)
        elif key.startswith("<!"):  # <!x1,y1,x2,y2> a line drawn with the button held
            x1, y1, x2, y2 = key[2:-1].split(",")
            run("xdotool", "mousemove", x1, y1, "mousedown", "1", "mousemove", x2, y2, "mouseup", "1", check=False)
        elif key.startswith("<") and key.endswith(">"):
            run("xdotool", "key", key[1:-1], check=False)
        else:
            run("xdotool", "type", "--delay", "15", key, check=False)

    def picture(self, to: Path) -> None:
        run("import", "-window", "root", str(to.with_suffix(".png")), check=False)

    def end(self, how: int) -> None:
        kill_all(self.name, how)
        time.sleep(1)
        kill_all(self.name)


def inside(data: bytes) -> bytes:
    """What the bytes say when they are opened: of compressed files the contents as well."""
    found = [data]
    try:
        if data[:2] == b"\x1f\x8b":
            found.append(zlib.decompressobj(31).decompress(data))
        elif data[:2] == b"PK":
            with zipfile.ZipFile(io.BytesIO(data)) as package:
                found += [package.read(name) for name in package.namelist()]
    except (OSError, zlib.error, zipfile.BadZipFile):
        pass
    return b"\n".join(found)


def holds(path: Path, words: str) -> bool:
    if path.is_symlink() or not path.is_file() or path.stat().st_size > 30_000_000:
        return False
    text = inside(path.read_bytes())
    return any(words.encode(coding) in text for coding in ("utf-8", "utf-16-le", "utf-16-be"))


def everything() -> set[str]:
    found = set()
    for top in (str(HOME), *OUTSIDE):
        for folder, _, names in os.walk(top):
            found |= {os.path.join(folder, name) for name in names}
    return found


def prepare(program: dict[str, object]) -> Path | None:
    for top in (str(HOME), *OUTSIDE):
        for each in Path(top).glob("*"):
            shutil.rmtree(each, ignore_errors=True)
    Path("/run/capture").mkdir(mode=0o700, exist_ok=True)
    document = HOME / str(program["document"]) if program.get("document") else None
    files = {**CLUTTER, **{str(k): str(v) for k, v in dict(program.get("files", {})).items()}}  # type: ignore[call-overload]
    for name, text in files.items():
        (HOME / name).parent.mkdir(parents=True, exist_ok=True)
        (HOME / name).write_text(text)
        os.utime(HOME / name, (OLD, OLD))
    if document:
        document.parent.mkdir(parents=True, exist_ok=True)
        if program.get("make"):
            subprocess.run(
                ["sh", "-c", str(program["make"])], env=environment(), cwd=document.parent, check=True, timeout=120
            )
        else:
            document.write_text(str(program.get("text", BEFORE)))
        os.utime(document, (OLD, OLD))
    return document


def drive(program: dict[str, object], name: str, pictures: Path) -> None:
    driver = (Terminal if program["kind"] == "terminal" else Screen)(program, name, pictures)
    time.sleep(float(program.get("start", 2 if program["kind"] == "terminal" else 8)))  # type: ignore[arg-type]
    for number, key in enumerate(list(program["keys"])):  # type: ignore[call-overload]
        if key.startswith("<wait "):
            time.sleep(float(key[6:-1]))
        elif key == "<look>":
            driver.picture(pictures / f"{name}-{number}")
        else:
            driver.press(key)
            time.sleep(0.3)
    time.sleep(float(program.get("wait", 3)))  # type: ignore[arg-type]
    driver.picture(pictures / name)
    driver.end(getattr(signal, str(program.get("signal", "SIGKILL"))))
    time.sleep(1)


def pack(tops: set[str], to: Path) -> None:
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w") as archive:
        for path in sorted(tops):
            if os.path.islink(path) or os.path.isfile(path):
                archive.add(path, path.lstrip("/"), recursive=False)
    (to / "tree.tar.gz").write_bytes(gzip.compress(buffer.getvalue(), 6, mtime=0))


def capture(name: str, program: dict[str, object], to: Path, pictures: Path) -> None:
    document = prepare(program)
    words = str(program.get("words", TYPED))
    drive(program, name, pictures)
    left = {path for path in everything() if not path.startswith(NOT_LEFT)}
    holding = sorted(path for path in left if holds(Path(path), words) and path != str(document))
    pool = sorted(left) if program.get("hidden") else holding
    wanted = [path for path in pool if fnmatch.fnmatch(path, str(program.get("left", "*")))]
    print(f"{name}: {len(left)} files, holding the words: {holding}", flush=True)
    if len(wanted) != 1:
        print(f"  {name}: {len(wanted)} leftovers fit {program.get('left', '*')}; new: {sorted(left)[:60]}", flush=True)
        return
    folder = to / name
    folder.mkdir(parents=True, exist_ok=True)
    pack(left, folder)
    best = wanted[0].lstrip("/")
    truth = {
        "case": name,
        "application": program.get("program", name),
        "made_by": "real program, killed",
        "loss": program.get("loss", "crash"),
        "home": "home/ines",
        "document": str(document).lstrip("/") if document else None,
        "document_name": Path(str(program.get("document") or program.get("named", ""))).stem,
        "marker_unsaved": [words],
        "best": best,
        "acceptable": [path.lstrip("/") for path in holding if path != wanted[0]] if program.get("several") else [],
        # Only a person who asks is shown what no known name or place speaks for.
        "guessed": [best] if program.get("asked") else [],
        "links": [
            {
                "remnant": best,
                "kind": program.get("copy", "autosave"),
                "original": str(document).lstrip("/") if document else None,
            }
        ],
    }
    (folder / "truth.json").write_text(json.dumps(truth, indent=1, ensure_ascii=False) + "\n")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*")
    parser.add_argument("--to", type=Path, default=Path("captured"))
    parser.add_argument("--pictures", type=Path, default=Path("/tmp"))
    parser.add_argument("--list", action="store_true")
    given = parser.parse_args()
    if "CAPTURED_ALONE" not in os.environ and not given.list:
        own = 'for f in /home /tmp /var/tmp; do mount -t tmpfs -o mode=1777 own $f || exit 1; done; CAPTURED_ALONE=1 exec "$0" "$@"'
        os.execvp(
            "unshare", ["unshare", "--mount", "--propagation", "private", "sh", "-c", own, sys.executable, *sys.argv]
        )
    table = tomllib.loads(Path(__file__).with_suffix(".toml").read_text())["program"]
    for name, program in table.items():
        if given.names and name not in given.names:
            continue
        if given.list:
            print(f"{name:24}{program['package']}")
        elif shutil.which(str(program["command"]).split()[0]) is None:
            print(f"{name}: needs the package {program['package']}", file=sys.stderr)
        else:
            capture(name, program, given.to, given.pictures)


main()
