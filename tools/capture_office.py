#!/usr/bin/env python3
"""Capture what the real ODF office suite leaves when it is killed, as test data. Not run in CI.

    sudo tools/capture_office.py --to tests/data/homes [--kind text|sheet] [--person ines] [--name hull-survey-kittiwake]

Needs the distribution's packages: libreoffice-writer libreoffice-calc python3-uno xvfb (Debian and its kin), and the right to
mount: the person's home appears as /home/PERSON and the temporary folder as /tmp, in a mount namespace of its own, so that recorded
paths are as on a real machine and nothing outside is touched. The document is saved, opened again, changed through the program's own
interface, autosaved by the program's own timer (one minute), then the program is killed. Takes about two minutes.
"""

from __future__ import annotations

import argparse
import gzip
import io
import json
import os
import shutil
import signal
import subprocess
import sys
import tarfile
import tempfile
import time
from pathlib import Path

PORT = 22_002
SETTINGS = """<?xml version="1.0" encoding="UTF-8"?>
<oor:items xmlns:oor="http://openoffice.org/2001/registry" xmlns:xs="http://www.w3.org/2001/XMLSchema"
 xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">
<item oor:path="/org.openoffice.Office.Common/Save/Document"><prop oor:name="AutoSave" oor:op="fuse"><value>true</value></prop></item>
<item oor:path="/org.openoffice.Office.Common/Save/Document"><prop oor:name="AutoSaveTimeIntervall" oor:op="fuse"><value>1</value></prop></item>
<item oor:path="/org.openoffice.Office.Recovery/AutoSave"><prop oor:name="Enabled" oor:op="fuse"><value>true</value></prop></item>
<item oor:path="/org.openoffice.Office.Recovery/AutoSave"><prop oor:name="TimeIntervall" oor:op="fuse"><value>1</value></prop></item>
<item oor:path="/org.openoffice.Office.Common/Misc"><prop oor:name="FirstRun" oor:op="fuse"><value>false</value></prop></item>
<item oor:path="/org.openoffice.Setup/Office"><prop oor:name="ooSetupInstCompleted" oor:op="fuse"><value>true</value></prop></item>
<item oor:path="/org.openoffice.UserProfile/Data"><prop oor:name="givenname" oor:op="fuse"><value>{given}</value></prop></item>
<item oor:path="/org.openoffice.UserProfile/Data"><prop oor:name="sn" oor:op="fuse"><value>{family}</value></prop></item>
</oor:items>
"""
SAVED = "Frames 1 to 6 sound to the spike. Sheer strake scarf to be looked at again."
UNSAVED = "Garboard seam weeping at frame 7, raking out and recaulking with oakum."
# Runs under the system's Python, which has the program's own interface.
EDIT = """
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
if hasattr(document, "Sheets"):
    document.Sheets.getByIndex(0).getCellByPosition(0, 4).setString(sys.argv[1])
else:
    text = document.Text
    text.insertString(text.getEnd(), "\\n" + sys.argv[1], False)
document.setModified(True)
"""


def capture(base: Path, person: str, name: str, kind: str) -> Path:
    """Run the program inside the namespace; returns the document's path."""
    home = Path("/home") / person
    profile = home / ".config" / "libreoffice" / "4" / "user"
    papers = home / "Documents" / ("Surveys" if kind == "text" else "Timber")
    for folder in (profile, papers):
        folder.mkdir(parents=True)
    given, family = {"ines": ("Ines", "Varga"), "petra": ("Petra", "Lund")}.get(person, (person.title(), "Okoro"))
    (profile / "registrymodifications.xcu").write_text(SETTINGS.format(given=given, family=family))
    env = {
        "HOME": str(home),
        "USER": person,
        "LOGNAME": person,
        "PATH": os.environ["PATH"],
        "DISPLAY": ":79",
        "LANG": "C.UTF-8",
    }
    source = Path("/tmp") / (f"{name}.txt" if kind == "text" else f"{name}.csv")
    source.write_text(SAVED + "\n")
    extension = "odt" if kind == "text" else "ods"
    subprocess.run(
        ["soffice", "--headless", "--convert-to", extension, "--outdir", str(papers), str(source)],
        env=env,
        check=True,
        capture_output=True,
    )
    source.unlink()
    document = papers / f"{name}.{extension}"
    screen = subprocess.Popen(
        ["Xvfb", ":79", "-screen", "0", "1280x800x24", "-nolisten", "tcp"], stderr=subprocess.DEVNULL
    )
    time.sleep(2)
    # Not --norestore: that switches autosaving off as well.
    accept = f"--accept=socket,host=127.0.0.1,port={PORT};urp;"
    office = subprocess.Popen(
        ["soffice", "--nologo", accept, str(document)], env=env, start_new_session=True, stderr=subprocess.DEVNULL
    )
    try:
        subprocess.run(
            ["/usr/bin/python3", "-c", EDIT.replace("{port}", str(PORT)), UNSAVED], env=env, check=True, timeout=150
        )
        deadline = time.monotonic() + 240
        backup = profile / "backup"
        while time.monotonic() < deadline:
            done = [f for f in backup.glob("*") if f.stat().st_size] if backup.is_dir() else []
            listed = b"/backup/" in (profile / "registrymodifications.xcu").read_bytes()
            if done and listed:
                break
            time.sleep(1)
        else:
            raise SystemExit("the program made no autosave within four minutes")
    finally:
        os.killpg(office.pid, signal.SIGKILL)
        screen.terminate()
    return document


def pack(base: Path, to: Path, case: str, person: str, document: Path) -> None:
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w") as archive:
        for top, prefix in ((base / "home", "home"), (base / "tmp", "tmp")):
            for path in sorted(top.rglob("*")):
                inner = f"{prefix}/{path.relative_to(top).as_posix()}"
                if (
                    path.is_file()
                    and not path.is_symlink()
                    and (prefix == "home" or "/lu" in inner)
                    and "/.cache/" not in inner
                ):
                    info = archive.gettarinfo(path, inner)
                    info.uid = info.gid = 0
                    info.uname = info.gname = ""
                    with path.open("rb") as stream:
                        archive.addfile(info, stream)
    to.mkdir(parents=True, exist_ok=True)
    (to / f"{case}.tar.gz").write_bytes(gzip.compress(buffer.getvalue(), 9, mtime=0))
    original = str(document).lstrip("/")
    backup = next((base / "home" / person / ".config/libreoffice/4/user/backup").glob(f"{document.name}_*"))
    best = f"home/{backup.relative_to(base / 'home').as_posix()}"
    lock = f"{os.path.dirname(original)}/.~lock.{document.name}#"
    truth = {
        "document": original, "document_name": document.name, "loss": "crash", "best": best, "not_intact": [],
        "links": [
            {"remnant": lock, "kind": "lock", "original": original},
            {"remnant": best, "kind": "autosave", "original": original},
        ],
        "marker_unsaved": [UNSAVED.split(",")[0]], "made_by": "real program",
    }  # fmt: skip
    (to / f"{case}.json").write_text(json.dumps(truth, indent=1) + "\n")
    print(f"{to / case}.tar.gz: {(to / f'{case}.tar.gz').stat().st_size} bytes")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", type=Path, required=True)
    parser.add_argument("--kind", choices=["text", "sheet"], default="text")
    parser.add_argument("--person", default="ines")
    parser.add_argument("--name", default="hull-survey-kittiwake")
    parser.add_argument("--inside", type=Path, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.inside:
        print(capture(given.inside, given.person, given.name, given.kind))
        return
    for tool in ("soffice", "Xvfb", "unshare"):
        if not shutil.which(tool):
            raise SystemExit(
                f"{tool} is missing: install libreoffice-writer, libreoffice-calc, python3-uno, xvfb and util-linux"
            )
    base = Path(tempfile.mkdtemp(prefix="capture-", dir="/var/tmp"))
    try:
        for folder in ("home", "tmp"):
            (base / folder).mkdir(mode=0o1777)
        script = Path(__file__).resolve()
        inside = f"mount --bind {base}/home /home && mount --bind {base}/tmp /tmp && exec {sys.executable} {script} --to x --inside {base}"
        inside += f" --kind {given.kind} --person {given.person} --name {given.name}"
        done = subprocess.run(["unshare", "--mount", "sh", "-c", inside], check=True, stdout=subprocess.PIPE, text=True)
        case = f"captured-{given.kind}-{given.person}"
        pack(base, given.to, case, given.person, Path(done.stdout.strip().splitlines()[-1]))
    finally:
        shutil.rmtree(base, ignore_errors=True)


main()
