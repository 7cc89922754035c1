"""A second search of what has not changed takes the answer of the first; whatever is different, it is searched anew."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Run, odt, unpack, write

from rustfern.api import scan
from rustfern.cases.manage import purge_texts
from rustfern.core.model import Hints
from rustfern.operations import scan as scanning

T0 = 1_790_000_000
Rustfern = Callable[..., Run]


def _lay_out(root: Path) -> Path:
    home = root / "home/ines"
    documents = home / "Documents"
    write(documents / "survey.txt", "Larch on oak, carvel built", T0)
    write(documents / "survey.txt~", "Larch on oak", T0 - 60)
    write(documents / "rota.odt", odt("Tobias on Monday"), T0)
    write(documents / ".~lock.rota.odt#", ",ines,quay,23.11.2026 06:51,file:///x;", T0 + 9)
    write(home / ".config/libreoffice/4/user/backup/rota.odt_0.odt", odt("Tobias on Monday, Petra on Tuesday"), T0 + 60)
    write(home / ".local/share/Trash/files/plan.txt", "Mooring plan of the east quay", T0)
    write(
        home / ".local/share/Trash/info/plan.txt.trashinfo",
        "[Trash Info]\nPath=/home/ines/Documents/plan.txt\nDeletionDate=2026-11-23T06:51:00\n",
        T0,
    )
    (home / "Pictures/2026").mkdir(parents=True)
    return root


def _other_bytes(path: Path) -> None:
    """Other content of the same length, and the same time."""
    facts = path.stat()
    path.write_bytes(path.read_bytes().swapcase())
    os.utime(path, ns=(facts.st_atime_ns, facts.st_mtime_ns))


def _replaced(path: Path) -> None:
    facts = path.stat()
    other = path.with_name("x")
    other.write_bytes(path.read_bytes().swapcase())
    os.utime(other, ns=(facts.st_atime_ns, facts.st_mtime_ns))
    other.rename(path)


def _renamed(path: Path) -> None:
    path.rename(path.with_name("other " + path.name))


CHANGES: dict[str, Callable[[Path], object]] = {
    "a copy has other bytes": lambda home: _other_bytes(home / "Documents/survey.txt~"),
    "a document has other bytes": lambda home: _other_bytes(home / "Documents/survey.txt"),
    "another document stands in its place": lambda home: _replaced(home / "Documents/rota.odt"),
    "a document is gone": lambda home: (home / "Documents/survey.txt").unlink(),
    "a document has another name": lambda home: _renamed(home / "Documents/survey.txt"),
    "a folder has another name": lambda home: _renamed(home / "Documents"),
    "a copy came": lambda home: write(home / "Documents/rota.odt~", odt("Petra"), T0 - 9),
    "a copy came under a new folder": lambda home: write(home / "Pictures/2026/new/survey.bak", "Larch", T0),
    "a document came": lambda home: write(home / "Pictures/2026/survey.txt", "Larch on oak, carvel built", T0),
    "a folder for autosaves came": lambda home: write(home / ".local/share/nano/survey.txt~", "Larch on", T0),
    "a lock is gone": lambda home: (home / "Documents/.~lock.rota.odt#").unlink(),
    "a lock says something else": lambda home: _other_bytes(home / "Documents/.~lock.rota.odt#"),
    "the trash was emptied": lambda home: shutil.rmtree(home / ".local/share/Trash"),
    "another home came": lambda home: write(home.with_name("petra") / "Documents/tide.txt~", "High water at six", T0),
    "a file has become a link": lambda home: (
        (home / "Documents/survey.txt~").unlink(),
        (home / "Documents/survey.txt~").symlink_to("survey.txt"),
    ),
}


def _told(run: Run) -> dict[str, Any]:
    answer: dict[str, Any] = run.json
    totals = {key: value for key, value in answer["totals"].items() if "seconds" not in key and key != "bytes_read"}
    return {**answer, "totals": totals, "case": None}


def _documents(answer: dict[str, Any]) -> list[Any]:
    """Documents with their copies, whatever numbers a case gives them."""
    return sorted(
        (each["name"], each["situation"], [(copy["path"], copy["sha256"], copy["state"]) for copy in each["copies"]])
        for each in answer["documents"]
    )


def test_whatever_changes_is_seen(tmp_path: Path, rustfern: Rustfern) -> None:
    disks = {name: _lay_out(tmp_path / f"disk{n}") for n, name in enumerate(CHANGES)}
    time.sleep(3.1)  # what was changed just now may change again unseen
    for n, disk in enumerate(disks.values()):
        rustfern("scan", disk, "--case", tmp_path / f"{n}.fern", "--json")
    for n, (name, disk) in enumerate(disks.items()):
        CHANGES[name](disk / "home/ines")
        again = _told(rustfern("scan", disk, "--case", tmp_path / f"{n}.fern", "--json"))
        anew = _told(
            rustfern("scan", disk, "--case", tmp_path / f"new{n}.fern", "--json", XDG_STATE_HOME=str(tmp_path / "own"))
        )
        assert _documents(again) == _documents(anew), name
        assert again["totals"] == anew["totals"] and again["unmatched"] == anew["unmatched"], name


def test_the_answer_is_the_same_and_nothing_is_searched(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    disk = _lay_out(tmp_path / "disk")
    unpack("abiword-rtf-autosave", disk)
    time.sleep(3.1)
    case = str(tmp_path / "a.fern")
    first = scan([str(disk)], case=case)
    searched: list[object] = []
    monkeypatch.setattr(scanning, "_anew", lambda work: searched.append(work) or first)
    second = scan([str(disk)], case=case)
    assert not searched
    assert (second.documents, second.unmatched, second.notices) == (first.documents, first.unmatched, first.notices)
    scan([str(disk)], Hints(document="rota"), case=case)
    scan([str(disk)], case=case, thorough=True)
    scan([str(disk / "home")], case=case)
    assert len(searched) == 3  # another question
    searched.clear()
    scan([str(disk)], case=case)
    assert not searched
    shutil.copy(case, tmp_path / "purged.fern")
    purge_texts(str(tmp_path / "purged.fern"))
    scan([str(disk)], case=str(tmp_path / "purged.fern"))
    assert len(searched) == 1  # nothing of the texts is left, sums of words neither
    os.utime(disk / "home/ines/Documents/survey.txt")
    scan([str(disk)], case=case)
    assert len(searched) == 2
