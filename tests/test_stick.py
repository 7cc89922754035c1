"""What runs from a stick: one folder for all that is ours, nothing anywhere else; what the packer is told holds."""

from __future__ import annotations

import importlib
import importlib.util
import os
import re
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, unpack

Rustfern = Callable[..., Run]
TOOLS = Path(__file__).parents[1] / "tools"


def tree(folder: Path) -> set[str]:
    return {str(path.relative_to(folder)) for path in folder.rglob("*")}


@pytest.mark.parametrize("name", ["data", "Stick für Ines"])
def test_all_that_is_ours_lies_in_one_folder(name: str, tmp_path: Path, rustfern: Rustfern, state: Path) -> None:
    disk, data, own = unpack("captured-text-ines", tmp_path / "disk"), tmp_path / name, tmp_path / "home"
    for folder in ("home", "tmp"):
        (tmp_path / folder).mkdir()
    env = {"RUSTFERN_DATA": str(data), "HOME": str(own), "TMPDIR": str(tmp_path / "tmp"), "XDG_CONFIG_HOME": ""}
    before = tree(state)
    found = rustfern("scan", disk, "--json", **env).json
    assert found["case"].startswith(str(data / "cases"))
    assert (
        rustfern("look", "1", **env).status == 0
        and rustfern("restore", "1", "--to", tmp_path / "out", **env).status == 0
    )
    assert rustfern("report", "--to", tmp_path / "r.html", **env).status == 0
    assert rustfern("keep", disk, "--to", tmp_path / "kept", **env).status == 0
    assert "1 cases" in rustfern("cases", **env).out
    assert (tree(state), tree(own), tree(tmp_path / "tmp")) == (before, set(), set())
    assert not list((data / "scratch").iterdir()), "private copies are gone when the command ends"
    (data / "config.toml").write_text('technician = "T. Okoro"\ncolours = "red"\n')
    assert str(data / "config.toml") in rustfern("cases", **env).err


@pytest.mark.skipif(
    sys.platform != "linux" or not os.path.isdir("/dev/shm"), reason="a folder in memory as Linux has it"
)
def test_a_stick_that_cannot_be_written(tmp_path: Path, rustfern: Rustfern, state: Path) -> None:
    """All lies in memory then, also for the next command."""
    disk = unpack("captured-text-ines", tmp_path / "disk")
    (tmp_path / "file").write_text("")
    memory = tmp_path / "memory"
    memory.mkdir()
    env = {"RUSTFERN_DATA": str(tmp_path / "file/data"), "XDG_RUNTIME_DIR": str(memory)}
    run = rustfern("scan", disk, "--json", **env)
    assert run.json["case"].startswith(str(memory)) and "lies in memory" in run.err
    assert rustfern("look", "1", **env).status == 0
    assert not (tree(state) - {"rustfern"})


def test_the_build_says_what_it_is(rustfern: Rustfern) -> None:
    assert re.fullmatch(r"rustfern [\d.]+, not packed, in .+\n", rustfern("--version", "--verbose", anew=True).out)


def told(name: str) -> list[str]:
    """The names of a list in the packer's file."""
    text = (TOOLS / "stick/rustfern.spec").read_text()
    found = re.search(rf"^{name} = \[(.*?)^\]", text, re.MULTILINE | re.DOTALL)
    assert found is not None
    return re.findall(r'"([^"]+)"', found[1])


def test_what_the_packer_is_told_to_take_is_there() -> None:
    for name in told("HIDDEN"):
        if name != "rustfern":
            assert importlib.util.find_spec(name) is not None, name


def test_what_the_packer_leaves_out_nobody_needs() -> None:
    """Every module of ours can be imported without what is left out, but for those that say what to install."""
    import subprocess

    code = (
        "import importlib, pkgutil, sys\n"
        f"for name in {told('LEFT_OUT')!r}: sys.modules[name] = None\n"
        "import rustfern\n"
        "for each in pkgutil.walk_packages(rustfern.__path__, 'rustfern.'):\n"
        "    if not each.name.endswith('__main__'): importlib.import_module(each.name)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-2000:]


def test_all_parts_are_locked_with_their_sums() -> None:
    lines = (TOOLS / "stick/requirements.txt").read_text()
    parts = re.findall(r"^([a-z0-9._-]+)==[^\\]+\\$((?:\n    --hash=sha256:[0-9a-f]{64}.*)+)", lines, re.MULTILINE)
    assert len(parts) == len(re.findall(r"^[a-z0-9]", lines, re.MULTILINE)) > 30
    own = (TOOLS.parent / "pyproject.toml").read_text()
    wanted = re.findall(r'^  "([A-Za-z0-9._-]+)', own.split("dependencies = [")[1].split("]")[0], re.MULTILINE)
    locked = {name for name, _ in parts}
    assert {name.lower().replace("_", "-").replace(".", "-") for name in wanted} - {"tzdata"} <= {
        name.replace("_", "-").replace(".", "-") for name in locked
    }
