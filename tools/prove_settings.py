#!/usr/bin/env python3
"""Show with real programs that what `rustfern protect` sets does what it says: autosaves and backups appear, and did not before. Not run in CI.

    tools/prove_settings.py [--only vim,nano,…] [--keep FOLDER]

Needs the distribution's packages of the programs (vim, nano, emacs-nox, kate, geany, gedit, libreoffice-writer, python3-uno) and xvfb, xdotool, openbox,
dbus-x11. Each program works in a home of its own that is set badly, once before and once after `rustfern protect --apply`; then `--undo` has to
bring back the same bytes. Takes about eight minutes. With --keep the settings files before and after are left in a folder, as test data.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import pty
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

DISPLAY = ":78"
PORT = 22_003
TYPED = "garboard seam raked out"
SAVED = "Launch schedule\nTue Kittiwake\n"
UNO = """
import sys, time, uno
local = uno.getComponentContext()
resolver = local.ServiceManager.createInstanceWithContext("com.sun.star.bridge.UnoUrlResolver", local)
for _ in range(60):
    try:
        context = resolver.resolve("uno:socket,host=127.0.0.1,port={port};urp;StarOffice.ComponentContext")
        break
    except Exception:
        time.sleep(1)
desktop = context.ServiceManager.createInstanceWithContext("com.sun.star.frame.Desktop", context)
for _ in range(60):
    document = desktop.getCurrentComponent()
    if document is not None:
        break
    time.sleep(1)
text = document.Text
text.insertString(text.getEnd(), "\\n" + sys.argv[1], False)
document.setModified(True)
if sys.argv[2] == "save":
    document.store()
"""


@dataclass
class Room:
    """A home with one text in it."""

    home: Path
    text: Path

    @property
    def env(self) -> dict[str, str]:
        """What a program is told: its home, its screen."""
        own = {
            "HOME": str(self.home),
            "DISPLAY": DISPLAY,
            "TERM": "xterm",
            "LANG": "C.UTF-8",
            "PATH": os.environ["PATH"],
        }
        return own | {
            "XDG_STATE_HOME": str(self.home.parent / "state"),
            "XDG_RUNTIME_DIR": str(self.home.parent / "run"),
        }

    def made(self) -> list[str]:
        """Files beside the text, and in the folder of the office suite's copies."""
        beside = [path.name for path in self.text.parent.iterdir() if path != self.text]
        kept = self.home / ".config/libreoffice/4/user/backup"
        return sorted(beside + [f"backup/{path.name}" for path in (kept.iterdir() if kept.is_dir() else ())])


def terminal(room: Room, command: list[str], typed: list[str], wait: float, save: str) -> tuple[list[str], list[str]]:
    """Work in a terminal: what lies there before saving, after `wait` seconds, and after saving."""
    pid, screen = pty.fork()
    if pid == 0:
        os.chdir(room.text.parent)
        os.execvpe(command[0], [*command, room.text.name], room.env)
    threading.Thread(target=_drain, args=(screen,), daemon=True).start()
    time.sleep(3)
    for keys in typed:
        os.write(screen, keys.encode())
        time.sleep(0.3)
    time.sleep(wait)
    unsaved = room.made()
    os.write(screen, save.encode())
    time.sleep(1.5)
    saved = room.made()
    os.kill(pid, signal.SIGKILL)
    os.waitpid(pid, 0)
    os.close(screen)
    return unsaved, saved


def as_anybody(room: Room) -> list[str]:
    """What makes a program run as an ordinary person: for the administrator nano reads the settings of that account alone."""
    if os.geteuid():
        return []
    for path in (room.home, *room.home.rglob("*")):
        os.chown(path, 65534, 65534)
    return ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]


def _drain(screen: int) -> None:
    """Read what a program shows, so that it never waits for that."""
    with contextlib.suppress(OSError):
        while os.read(screen, 4096):
            pass


def window(room: Room, command: list[str], wait: float, *, save: bool = True) -> tuple[list[str], list[str]]:
    """The same with a window; the text itself counts as `(text)` where it was saved without being asked to."""
    program = subprocess.Popen(
        ["dbus-run-session", "--", *command, str(room.text)], env=room.env, start_new_session=True,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        time.sleep(7)
        xdo = ["xdotool"]
        subprocess.run([*xdo, "mousemove", "500", "400", "click", "1"], env=room.env, check=False)
        time.sleep(0.5)
        subprocess.run([*xdo, "key", "ctrl+End"], env=room.env, check=False)
        subprocess.run([*xdo, "type", "--delay", "20", TYPED], env=room.env, check=False)
        time.sleep(wait)
        unsaved = room.made() + (["(text)"] if TYPED in room.text.read_text() else [])
        if save:
            subprocess.run([*xdo, "type", "--delay", "20", " again"], env=room.env, check=False)
            subprocess.run([*xdo, "key", "ctrl+s"], env=room.env, check=False)
            time.sleep(2)
        saved = room.made()
    finally:
        os.killpg(program.pid, signal.SIGKILL)
        program.wait()
    return unsaved, saved


def office(room: Room, wait: float) -> tuple[list[str], list[str]]:
    """The same with the office suite, through its own interface."""
    document = room.text.with_suffix(".odt")
    subprocess.run(
        ["soffice", "--headless", "--convert-to", "odt", "--outdir", str(room.text.parent), str(room.text)],
        env=room.env, check=True, capture_output=True,
    )  # fmt: skip
    accept = f"--accept=socket,host=127.0.0.1,port={PORT};urp;"
    suite = subprocess.Popen(
        ["soffice", "--nologo", accept, str(document)], env=room.env, start_new_session=True, stderr=subprocess.DEVNULL
    )
    try:
        subprocess.run(
            ["/usr/bin/python3", "-c", UNO.replace("{port}", str(PORT)), TYPED, "no"],
            env=room.env,
            check=True,
            timeout=150,
        )
        began = time.monotonic()
        while time.monotonic() - began < wait and not any(each.startswith("backup/") for each in room.made()):
            time.sleep(1)
        unsaved = [*room.made(), f"({time.monotonic() - began:.0f} s)"]
        subprocess.run(
            ["/usr/bin/python3", "-c", UNO.replace("{port}", str(PORT)), "and again", "save"],
            env=room.env,
            check=True,
            timeout=150,
        )
        time.sleep(2)
        saved = room.made()
    finally:
        os.killpg(suite.pid, signal.SIGKILL)
        suite.wait()
        (room.home / ".config/libreoffice/4/.lock").unlink(missing_ok=True)
    return unsaved, saved


OFFICE = """<?xml version="1.0" encoding="UTF-8"?>
<oor:items xmlns:oor="http://openoffice.org/2001/registry" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">
<item oor:path="/org.openoffice.Office.Common/Save/Document"><prop oor:name="AutoSave" oor:op="fuse"><value>false</value></prop></item>
<item oor:path="/org.openoffice.Office.Common/Save/Document"><prop oor:name="CreateBackup" oor:op="fuse"><value>false</value></prop></item>
<item oor:path="/org.openoffice.Office.Common/Misc"><prop oor:name="FirstRun" oor:op="fuse"><value>false</value></prop></item>
<item oor:path="/org.openoffice.Setup/Office"><prop oor:name="ooSetupInstCompleted" oor:op="fuse"><value>true</value></prop></item>
</oor:items>
"""


@dataclass
class Trial:
    """A program: its bad settings, how it is worked in, what has to lie there before saving and after."""

    settings: dict[str, str]
    work: Callable[[Room], tuple[list[str], list[str]]]
    unsaved: str
    saved: str


TRIALS = {
    "vim": Trial(
        {".vimrc": "set nocompatible\nset noswapfile updatetime=1000\nset nobackup\n"},
        lambda room: terminal(room, ["vim"], [f"Go{TYPED}\x1b"], 3, ":w\r"), ".plan.txt.swp", "plan.txt~",
    ),
    "nano": Trial(
        {".nanorc": "set linenumbers\nunset backup\n"},
        lambda room: terminal(room, [*as_anybody(room), "nano"], [TYPED], 1, "\x0f\r"), "", "plan.txt~",
    ),
    "emacs": Trial(
        {".emacs.d/init.el": "(setq auto-save-timeout 3)\n(setq auto-save-default nil)\n(setq make-backup-files nil)\n"},
        lambda room: terminal(room, ["emacs", "-nw"], [TYPED], 6, "\x18\x13"), "#plan.txt#", "plan.txt~",
    ),
    "kate": Trial(
        {".config/katerc": "[KTextEditor Document]\nSwap File Mode=0\nBackup Local=false\n"},
        lambda room: window(room, ["kate", "-b"], 20), ".plan.txt.kate-swp", "plan.txt~",
    ),
    "geany": Trial(
        {".config/geany/geany.conf": "[geany]\nsave_winpos=true\n\n[plugins]\nload_plugins=true\ncustom_plugin_path=\nactive_plugins=\n"},
        lambda room: window(room, ["geany", "-i"], 66, save=False), "(text)", "",
    ),
    "libreoffice": Trial(
        {".config/libreoffice/4/user/registrymodifications.xcu": OFFICE}, lambda room: office(room, 160), "backup/plan", "backup/plan",
    ),
}  # fmt: skip


def protect(room: Room, *words: str) -> dict[str, object]:
    """Run the built command as the person whose home it is."""
    command = str(Path(sys.executable).parent / "rustfern")
    done = subprocess.run(
        [command, "protect", *words, "--json"], env=room.env, capture_output=True, timeout=120, check=False
    )
    if done.returncode not in (0, 1):
        raise SystemExit(
            f"protect {' '.join(words)} ended with {done.returncode}: {done.stderr.decode()} {done.stdout.decode()[:800]}"
        )
    told: dict[str, object] = json.loads(done.stdout)
    return told


def run(name: str, trial: Trial, base: Path, keep: Path | None) -> bool:
    """One program before, after and undone; whether all is as it was said."""
    found = []
    same = True
    for stage in ("before", "after"):
        home = base / name / stage / "home" / "ines"
        room = Room(home, home / "Documents" / "plan.txt")
        room.text.parent.mkdir(parents=True)
        (home.parent / "run").mkdir(mode=0o700)
        room.text.write_text(SAVED)
        for path, text in trial.settings.items():
            (home / path).parent.mkdir(parents=True, exist_ok=True)
            (home / path).write_text(text)
        if stage == "after":
            told = protect(room, "--apply", "--every", "1m")
            if told["refused"]:
                print(name, "REFUSED", told["refused"])
            for path in [*trial.settings, ".config/geany/plugins/saveactions/saveactions.conf"]:
                if keep is not None and (home / path).exists():
                    target = keep / name / path
                    target.parent.mkdir(parents=True, exist_ok=True)
                    shutil.copy2(home / path, target)
            protect(room, "--undo")
            same = all((home / path).read_text() == text for path, text in trial.settings.items())
            same = same and not list(home.rglob("*.before-rustfern"))
            protect(room, "--apply", "--every", "1m")
        found.append(trial.work(room))
    (unsaved0, saved0), (unsaved1, saved1) = found
    bad = [
        what
        for what, before, after, wanted in (
            ("unsaved", unsaved0, unsaved1, trial.unsaved),
            ("saved", saved0, saved1, trial.saved),
        )
        if wanted
        and (any(each.startswith(wanted) for each in before) or not any(each.startswith(wanted) for each in after))
    ]
    print(f"{name:12} before: {unsaved0} then {saved0}\n{'':12} after:  {unsaved1} then {saved1}")
    print(
        f"{'':12} {'WRONG: ' + ', '.join(bad) if bad else 'as said'}; undone: {'the same bytes' if same else 'NOT THE SAME'}",
        flush=True,
    )
    return not bad and same


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", default="")
    parser.add_argument("--keep", type=Path)
    given = parser.parse_args()
    wanted = given.only.split(",") if given.only else list(TRIALS)
    screen = subprocess.Popen(
        ["Xvfb", DISPLAY, "-screen", "0", "1280x800x24", "-nolisten", "tcp"], stderr=subprocess.DEVNULL
    )
    time.sleep(2)
    manager = (
        subprocess.Popen(["openbox"], env={**os.environ, "DISPLAY": DISPLAY}, stderr=subprocess.DEVNULL)
        if shutil.which("openbox")
        else None
    )
    try:
        # Not in the temporary folder: some programs make no backups of what lies there.
        with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            results = [run(name, TRIALS[name], Path(folder), given.keep) for name in wanted]
    finally:
        if manager is not None:
            manager.terminate()
        screen.terminate()
    raise SystemExit(0 if all(results) else 1)


main()
