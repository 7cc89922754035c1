#!/usr/bin/env python3
"""A search over a link with a delay, against the same search of the folder itself.

    bench/remote.py [--delay 20] [--files 4000]

Starts an OpenSSH server for this machine alone (Debian's openssh-server) behind a relay that holds back every byte for half of `--delay` milliseconds
each way, as a long line does: what is asked for together comes together. Prints the ratio and when the first answer was there.
"""

from __future__ import annotations

import argparse
import getpass
import json
import os
import queue
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

NAMES = ("mooring plan", "hull survey", "timber order", "launch schedule", "price list")


def lay_out(home: Path, count: int) -> None:
    """A home with documents in folders of twenty, some with leftovers."""
    (home / ".config").mkdir(parents=True)
    for number in range(count):
        folder = home / "Documents" / f"{number // 200:03}" / f"{number // 20 % 10}"
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"{NAMES[number % 5]} {number}.txt"
        path.write_text(f"{NAMES[number % 5]} {number}\n" + "oak larch keel frame " * (number % 50))
        if number % 50 == 0:
            path.with_name(path.name + "~").write_text(path.read_text() + "what was there before")


def relay(delay: float) -> None:
    """Pass on bytes between ports 2298 and 2299, each `delay` seconds late; what came is confirmed at once, as a wire does not wait."""

    def pass_on(source: socket.socket, target: socket.socket) -> None:
        waiting: queue.SimpleQueue[tuple[float, bytes]] = queue.SimpleQueue()

        def late() -> None:
            while True:
                due, data = waiting.get()
                time.sleep(max(0.0, due - time.monotonic()))
                if not data:
                    target.close()
                    return
                target.sendall(data)

        threading.Thread(target=late, daemon=True).start()
        data = b"x"
        while data:
            try:
                data = source.recv(65_536)
                source.setsockopt(socket.IPPROTO_TCP, socket.TCP_QUICKACK, 1)
            except OSError:
                data = b""
            waiting.put((time.monotonic() + delay, data))

    with socket.create_server(("127.0.0.1", 2298)) as listener:
        while True:
            near, _ = listener.accept()
            far = socket.create_connection(("127.0.0.1", 2299))
            for line in (near, far):
                line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            threading.Thread(target=pass_on, args=(near, far), daemon=True).start()
            threading.Thread(target=pass_on, args=(far, near), daemon=True).start()


def timed(command: list[str], env: dict[str, str]) -> tuple[float, dict[str, float]]:
    began = time.monotonic()
    done = subprocess.run(command, env=env, capture_output=True, check=False)
    if done.returncode not in (0, 1):
        raise SystemExit(done.stderr.decode())
    totals: dict[str, float] = json.loads(done.stdout)["totals"]
    return time.monotonic() - began, totals


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--delay", type=int, default=20)
    parser.add_argument("--files", type=int, default=4000)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        base = Path(folder)
        lay_out(base / "home/ines", given.files)
        for name in ("host", "key"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(base / name)], check=True)
        (base / "auth").write_text((base / "key.pub").read_text())
        (base / "own/.ssh").mkdir(parents=True)
        (base / "own/.ssh/id_ed25519").write_bytes((base / "key").read_bytes())
        (base / "own/.ssh/id_ed25519").chmod(0o600)
        (base / "own/.ssh/known_hosts").write_text(
            "[127.0.0.1]:2298 " + " ".join((base / "host.pub").read_text().split()[:2]) + "\n"
        )
        (base / "config").write_text(
            f"Port 2299\nListenAddress 127.0.0.1\nHostKey {base}/host\nAuthorizedKeysFile {base}/auth\nStrictModes no\nPidFile {base}/pid\n"
            "PermitRootLogin yes\nUsePAM no\nSubsystem sftp internal-sftp\n"
        )
        Path("/run/sshd").mkdir(exist_ok=True)
        server = subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", str(base / "config")])
        try:
            time.sleep(1)
            command = str(Path(sys.executable).parent / "rustfern")
            env = {**os.environ, "HOME": str(base / "own"), "XDG_STATE_HOME": str(base / "state")}
            near, _ = timed([command, "scan", str(base / "home/ines"), "--json"], env)
            threading.Thread(target=relay, args=(given.delay / 2000,), daemon=True).start()
            time.sleep(0.5)
            far, totals = timed(
                [command, "scan", f"sftp://{getpass.getuser()}@127.0.0.1:2298{base}/home/ines", "--json"], env
            )
            print(
                f"{given.files} files, {given.delay} ms: here {near:.2f} s, there {far:.2f} s, {far / near:.1f} times (3 asked); first answer after {totals['first_seconds']:.1f} s (5 asked)"
            )
        finally:
            server.terminate()


main()
