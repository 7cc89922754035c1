"""The technician's own defaults, and the log of what was done."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, odt, write

from rustfern.cli.work_log import without_words

Rustfern = Callable[..., Run]
T0 = 1_760_000_000


@pytest.fixture
def disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    home = tmp_path / "disk/home/ines"
    write(home / "Documents/survey.odt", odt("planking fair"), T0)
    write(home / "Documents/survey.odt_0.odt", odt("planking fair", "garboard seam weeping"), T0 + 90)
    return tmp_path / "disk"


def test_defaults_from_the_file_and_from_variables(
    disk: Path, tmp_path: Path, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(
        tmp_path / "config/rustfern/config.toml",
        f'technician = "T. Okoro"\ntarget = "{tmp_path}/out"\nzone = "Europe/Oslo"\ncolours = "always"\nlanguage = "de"\n',
    )
    shown = rustfern("scan", disk)
    assert "Europe/Oslo" in shown.out and "\x1b[" in shown.out
    assert rustfern("restore", "1").status == 0 and list((tmp_path / "out").glob("*.odt"))
    assert rustfern("cases", "--json").json["cases"][0]["technician"] == "T. Okoro"
    assert rustfern("report", "--to", tmp_path / "r.html").status == 0
    assert 'lang="de"' in (tmp_path / "r.html").read_text("utf-8")
    monkeypatch.setenv("RUSTFERN_COLOURS", "never")
    monkeypatch.setenv("RUSTFERN_ZONE", "Europe/Lisbon")
    shown = rustfern("scan", disk)
    assert "Europe/Lisbon" in shown.out and "\x1b[3" not in shown.out
    assert "Europe/Rome" in rustfern("scan", disk, "--zone", "Europe/Rome").out


@pytest.mark.parametrize(
    ("text", "says"),
    [("technician = 5", "technician"), ("colors = 1", "colors"), ("zone = ", "not TOML"), ("\x00", "not TOML")],
)
def test_mistakes_are_wrong_usage(text: str, says: str, disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "config/rustfern/config.toml", text)
    run = rustfern("scan", disk)
    assert run.status == 2 and says in run.err and "config.toml" in run.err and "Traceback" not in run.err


def test_a_log_of_what_was_done_without_peoples_words(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    log = tmp_path / "work.log"
    rustfern("--log-file", log, "scan", disk, "--words", "garboard seam", "--document", "survey", "--person", "ines")
    rustfern("restore", "1", "--to", tmp_path / "out", "--log-file", log)
    text = log.read_text()
    assert "walking the whole tree" in text and text.count("ended with status 0") == 2 and text.count(" s\n") > 3
    assert "garboard" not in text and "survey.odt" not in text
    for words in (("--verbose", "scan"), ("scan", "--verbose")):
        # A disk that lay still for a while is not searched again.
        assert re.search("choosing|nothing has changed", rustfern(*words, disk).err)
    assert rustfern("--log-file", tmp_path / "none/x.log", "scan", disk).status == 2


def test_words_are_left_out_of_the_log() -> None:
    assert without_words(["scan", "a", "--words", "red lead", "--document=plan", "--json"]) == [
        "scan", "a", "--words", "…", "--document=…", "--json"
    ]  # fmt: skip
