"""Every command that the README and the help texts show runs as it is written, on the demo disk."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import BUILT, Run

from rustfern.cli import COMMANDS
from rustfern.demo.disk import lay_out, lay_out_card, lay_out_damaged, lay_out_stick

README = Path(__file__).parents[1] / "README.md"
_NO_DOCUMENT = {"check --json report.docx", "look IMG_", "scan ines-home.tar.gz"}


@pytest.fixture
def desk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder with the demo disk, where commands are typed."""
    monkeypatch.chdir(tmp_path)
    lay_out("marlow-quay-disk")
    lay_out_stick("marlow-quay-disk")
    lay_out_card("marlow-quay-disk")
    lay_out_damaged("marlow-quay-disk")
    return tmp_path


def run(line: str, state: Path) -> subprocess.CompletedProcess[str]:
    words = shlex.split(line, comments=True)
    env = {**os.environ, "XDG_STATE_HOME": str(state), "COLUMNS": "100"}
    return subprocess.run([str(BUILT), *words[1:]], capture_output=True, text=True, env=env, timeout=120)


def shown_in_readme() -> list[str]:
    text = README.read_text(encoding="utf-8")
    blocks = re.findall(r"```sh\n(rustfern ready.*?)```", text, re.DOTALL)
    table = re.findall(r"^\| `(rustfern [^`]+)`", text, re.MULTILINE)
    return [line for block in blocks for line in block.splitlines()] + table


def shown_in_help(command: str, rustfern: Callable[..., Run]) -> list[str]:
    text = rustfern(command, "--help").out
    found = re.findall(r"^ {4}(rustfern .+)$", text.partition("Examples")[2], re.MULTILINE)
    return [re.split(r" {3,}| > | \| ", line)[0].rstrip() for line in found]


def test_what_the_readme_shows(desk: Path, state: Path) -> None:
    lines = [line for line in shown_in_readme() if "guide" not in line and not line.startswith("rustfern demo")]
    assert len(lines) > 20
    run("rustfern scan marlow-quay-disk", state)
    for line in lines:
        if any(part in line for part in _NO_DOCUMENT):
            continue
        done = run(line, state)
        assert done.returncode in ((1,) if line.startswith(("rustfern check", "rustfern protect")) else (0,)), (
            line,
            done.returncode,
            done.stderr,
            done.stdout[-500:],
        )


@pytest.mark.parametrize("command", sorted({*COMMANDS} - {"guide", "demo", "cases"}))
def test_what_the_help_shows(command: str, desk: Path, state: Path, rustfern: Callable[..., Run]) -> None:
    lines = shown_in_help(command, rustfern)
    assert lines
    if command in ("look", "restore", "report"):
        run("rustfern scan marlow-quay-disk", state)
    if command == "report":
        run("rustfern scan --list marlow-quay-disk --out office", state)
    for line in lines:
        if any(part in line for part in _NO_DOCUMENT) or line.rstrip() in ("rustfern scan", "rustfern ready"):
            continue
        done = run(line, state)
        assert done.returncode in ((0, 1) if command in ("check", "protect") else (0,)), (
            line,
            done.returncode,
            done.stderr,
            done.stdout[-500:],
        )
