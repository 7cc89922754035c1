"""What one search has to itself: two of them in one process, on two disks, in two zones, change nothing of one another's answers."""

from __future__ import annotations

import json
import os
import pickle
import tarfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from conftest import odt, write

from rustfern.cases.case_file import CaseFile
from rustfern.core.answers import plain
from rustfern.core.model import Hints
from rustfern.core.observer import Silent
from rustfern.core.times import Clock
from rustfern.operations import scan, schema
from rustfern.operations.session import Session
from rustfern.sources.disk_health import DiskAccess, Watched
from rustfern.sources.registry import Sources

T0 = 1_790_000_000


class Dying(Watched):
    """Reads that fail for all documents: the disk counts as failing after three of them."""

    def _watch(self, read: Any) -> Any:
        def failing() -> object:
            if "Documents" in self._path:
                raise OSError(5, os.strerror(5))
            return read()

        return super()._watch(failing)


def disk(top: Path, person: str, zone: str, packed: bool) -> Path:
    write(top / "etc/passwd", "")
    (top / "etc/localtime").symlink_to(f"/usr/share/zoneinfo/{zone}")
    home = top / "home" / person
    write(home / ".config/x", "")
    for number in range(12):
        write(home / f"Documents/plan {number}.odt", odt(f"plan {number}", "crane booked"), T0)
        write(home / f"Documents/plan {number}.odt~", odt(f"plan {number}", "crane for the fourteenth"), T0 - 60)
    if not packed:
        return top
    with tarfile.open(f"{top}.tar.gz", "w:gz") as archive:
        archive.add(top, ".")
    return Path(f"{top}.tar.gz")


def told(root: Path, session: Session, hints: Hints | None = None) -> Any:
    case = CaseFile.create(None)
    try:
        answer = scan.scan([str(root)], hints, case, session=session)
    finally:
        case.close()
    facts = plain(schema.answer(answer, session.clock))
    del facts["totals"]
    return json.loads(json.dumps(facts))


@pytest.mark.parametrize("packed", [False, True])
def test_two_searches_in_two_threads_answer_as_alone(tmp_path: Path, packed: bool) -> None:
    ines = disk(tmp_path / "one", "ines", "Asia/Tokyo", packed)
    tobias = disk(tmp_path / "two", "tobias", "America/New_York", packed=False)
    petra = disk(tmp_path / "three", "petra", "Europe/London", packed=False)

    def search(root: Path) -> Any:
        return told(root, Session(Sources(DiskAccess(reader=Dying))) if root == petra else Session())

    alone = [search(root) for root in (ines, tobias, petra)]
    assert len({answer["zone"] for answer in alone}) == 3
    assert [answer["notices"][0]["kind"] if answer["notices"] else "" for answer in alone] == ["", "", "disk-failing"]
    with ThreadPoolExecutor(3) as pool:
        for _ in range(3):
            assert list(pool.map(search, (ines, tobias, petra))) == alone


def test_a_session_can_be_handed_to_another_process(tmp_path: Path) -> None:
    session = Session(clock=Clock.of_zone("Europe/London"))
    root = disk(tmp_path / "one", "ines", "Asia/Tokyo", packed=True)
    before = told(root, session)
    session.sources.scratch.folder = str(tmp_path)
    again: Session = pickle.loads(pickle.dumps(session))
    assert again.clock == session.clock and isinstance(again.observer, Silent)
    assert (
        again.sources.scratch.folder
        == str(tmp_path)
        == again.sources.access.scratch.folder
        == again.sources.limits.scratch.folder
    )
    assert told(root, again) == before
