"""Contents that other processes read before they are asked for: the same answers, and never those of a file that has changed."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pytest
from conftest import Run, odt, write

from rustfern.content import ahead
from rustfern.content import open as contents
from rustfern.content.ahead import ReadAhead, Wanted
from rustfern.engine.local import uninterrupted
from rustfern.sources.registry import Sources

NAMES = ("survey", "order", "rota")


def _files(folder: Path, count: int) -> list[Wanted]:
    found = []
    for n in range(count):
        name = f"{NAMES[n % 3]} {n}.{('txt', 'odt')[n % 2]}"
        path = write(folder / name, odt(f"keel {n}") if n % 2 else f"keel number {n} was laid\n", 1_700_000_000 + n)
        found.append(Wanted(str(folder), str(path), name))
    return found


def _die(_door: Sources, _files: Sequence[Wanted]) -> bytes:
    os._exit(1)


@pytest.fixture(autouse=True)
def _two_cores(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ahead, "cores", lambda: 2)


def test_what_is_read_ahead_is_what_reading_tells(tmp_path: Path) -> None:
    files, door = _files(tmp_path, 400), Sources()
    source = door.open(str(tmp_path))
    os.remove(files[7].path)
    entries = [source.entry(each.path) for each in files if each is not files[7]]
    wanted = [each for each in files if each is not files[7]]
    with ReadAhead(door, files) as reading:
        told = [reading.content(entry, each.name) for entry, each in zip(entries, wanted, strict=True)]
        assert reading.content(entries[0], wanted[0].name) is None  # each is given once
    assert None not in told
    assert told == [contents.check(door, e, w.name)[0] for e, w in zip(entries, wanted, strict=True)]


def test_files_that_change_or_go_by_another_name_are_not_given(tmp_path: Path) -> None:
    files, door = _files(tmp_path, 320), Sources()
    source = door.open(str(tmp_path))
    with ReadAhead(door, files) as reading:
        assert reading.content(source.entry(files[0].path), files[0].name) is not None
        write(Path(files[1].path), "another text", 1_700_000_500)
        time.sleep(0.01)
        write(Path(files[1].path), odt("an edition that came later"), 1_700_000_600)
        told = reading.content(source.entry(files[1].path), files[1].name)
        assert told is None or told.size == os.path.getsize(files[1].path)
        assert reading.content(source.entry(files[2].path), "rota.bin") is None


def test_a_process_that_dies_costs_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    files, door = _files(tmp_path, 320), Sources()
    monkeypatch.setattr(ahead, "_read_all", _die)
    entry = door.open(str(tmp_path)).entry(files[0].path)
    with ReadAhead(door, files) as reading:
        assert reading.content(entry, files[0].name) is None


def test_an_interrupt_in_the_middle_of_a_fork_waits_for_its_end() -> None:
    done = []
    with pytest.raises(KeyboardInterrupt), uninterrupted():
        os.kill(os.getpid(), signal.SIGINT)
        done.append(time.sleep(0.01))
    assert done and signal.getsignal(signal.SIGINT) is signal.default_int_handler


def test_one_core_and_two_give_one_answer(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    home = tmp_path / "disk" / "home" / "ines"
    (home / ".config").mkdir(parents=True)
    for n in range(330):
        document = home / "Documents" / f"{NAMES[n % 3]} {n}.txt"
        write(document, f"berth {n}, high water at {n % 24}\n", 1_700_000_000 + n)
        write(Path(f"{document}~"), f"berth {n}, high water at {n % 24}\nand the crane\n", 1_699_000_000 + n)

    def told(cores: str) -> Any:
        answer = rustfern(
            "scan", tmp_path / "disk", "--case", tmp_path / f"{cores or 'all'}.fern", "--json", RUSTFERN_ONE_CORE=cores
        ).json
        totals = {key: value for key, value in answer["totals"].items() if "seconds" not in key}
        return {**answer, "totals": totals, "case": None}

    assert told("1") == told("")
    assert len(told("")["documents"]) == 330
