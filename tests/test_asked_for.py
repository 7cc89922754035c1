"""What the person said: half a name, a slip of the pen, what does not open, and what fits nothing."""

from __future__ import annotations

import lzma
import plistlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import DATA, Run, by_name, docx, odt, write
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from rustfern.core.asked import holds, likeness
from rustfern.core.model import Home, Layout, Searched
from rustfern.matching.evidence.weights import in_words
from rustfern.operations.scan import exit_status, scan
from rustfern.sources import live_machine

Rustfern = Callable[..., Run]
T0 = 1_760_000_000
DAY = 86_400
TEXT = (
    "the garboard seam was raked out and payed with marine glue from the stem to frame seven before the spring launch"
)
OTHER = "winches, fairleads and cleats are ordered for the second berth and come by van in the week after the regatta"


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    home = tmp_path / "disk" / "Users" / "petra"
    write(home / "Documents/Surveys/Egret hull survey.docx", docx(TEXT)[:-60], T0 + DAY)
    write(home / "Desktop/to print/Egret hull survey.docx", docx(TEXT), T0)
    write(home / "Documents/Surveys/Mooring plan Kittiwake.docx", docx(OTHER), T0)
    write(home / "Documents/Orders/Osprey timber order.docx", odt(OTHER + " in oak"), T0)
    write(home / "Documents/Orders/notes.txt", "larch, oak, epoxy", T0)
    return tmp_path / "disk"


def situation(found: Any, name: str) -> tuple[str, str | None, list[str]]:
    document = by_name(found, name)
    best = next((copy["path"] for copy in document["copies"] if copy["id"] == document["best"]), None)
    return document["situation"], best, [each["kind"] for each in document["cautions"]]


def notices(found: Any) -> list[str]:
    return [each["kind"] for each in found["notices"]]


@pytest.mark.parametrize(
    ("asked", "happened", "name", "expected", "best", "caution", "status"),
    [
        ("egret", "wont-open", "Egret hull survey.docx", "wont-open", "to print", None, 0),
        ("hull EGRET", "wont-open", "Egret hull survey.docx", "wont-open", "to print", None, 0),
        ("egret", "overwritten", "Egret hull survey.docx", "wont-open", "to print", None, 0),
        (None, "wont-open", "Egret hull survey.docx", "wont-open", "to print", None, 0),
        ("osprey", "wont-open", "Osprey timber order.docx", "wont-open", "Orders", "other-format", 0),
        (None, "wont-open", "Osprey timber order.docx", "wont-open", "Orders", "other-format", 0),
        ("kittiwake", "crashed", "Mooring plan Kittiwake.docx", "crashed", "Surveys", "nothing-newer", 1),
        ("kittiwake", "wont-open", "Mooring plan Kittiwake.docx", "wont-open", "Surveys", "nothing-newer", 1),
        ("kittiwake", "deleted", "Mooring plan Kittiwake.docx", "deleted", "Surveys", "nothing-newer", 1),
        ("kittiwake", "overwritten", "Mooring plan Kittiwake.docx", "overwritten", "Surveys", "nothing-newer", 1),
        ("kitiwake", "never-saved", "Mooring plan Kittiwake.docx", "never-saved", "Surveys", "nothing-newer", 1),
        ("kittiwake", None, "Mooring plan Kittiwake.docx", "nothing-lost", "Surveys", None, 1),
    ],
)
def test_the_persons_word_stands(
    asked: str | None, happened: str | None, name: str, expected: str, best: str, caution: str | None, status: int,
    disk: Path, rustfern: Rustfern,
) -> None:  # fmt: skip
    hints = [*(["--document", asked] if asked else []), *(["--happened", happened] if happened else [])]
    run = rustfern("scan", disk, *hints, "--json")
    found, path, cautions = situation(run.json, name)
    assert (found, Path(path or "").parent.name, run.status) == (expected, best, status)
    assert caution is None or cautions[0] == caution
    if caution == "nothing-newer":
        assert by_name(run.json, name)["next_steps"]


@pytest.mark.parametrize(
    ("hints", "kind", "says"),
    [
        (["--document", "Heron"], "no-such-document", "Heron"),
        (["--document", "kitiwake"], "taken-for-document", "Mooring plan Kittiwake.docx"),
        (["--words", "zinc anodes"], "no-such-words", "zinc anodes"),
        (["--class", "audio"], "no-such-class", "audio"),
        (["--document", "kittiwake", "--lost-at", "2099-01-01"], "time-to-come", "2099-01-01"),
        (["--document", "kittiwake", "--lost-at", "2025-10-01 10:00"], "time-far-off", "7 days later"),
        (["--happened", "deleted"], "not-as-told", "deleted"),
    ],
)
def test_what_fits_nothing_is_said_in_the_first_line(
    hints: list[str], kind: str, says: str, disk: Path, rustfern: Rustfern
) -> None:
    assert kind in notices(rustfern("scan", disk, *hints, "--json").json)
    first = rustfern("scan", disk, *hints).out.splitlines()[0]
    assert first.startswith("?") and says in first


def test_best_and_green_are_for_what_brings_something_back(disk: Path, rustfern: Rustfern) -> None:
    shown = rustfern("scan", disk, "--document", "kittiwake", "--happened", "crashed").out
    assert "BEST" not in shown and "newest whole" in shown and "restore" not in shown.split("Next")[1]


def test_files_in_use_are_never_called_safe(
    tmp_path: Path, rustfern: Rustfern, monkeypatch: pytest.MonkeyPatch
) -> None:
    home = tmp_path / "home" / "ines"
    write(home / "Documents/plan.odt", odt(TEXT), T0)
    monkeypatch.setenv("HOME", str(home))
    for root in (home, home / "Documents", tmp_path / "home"):
        run = rustfern("scan", root, "--everything")
        assert run.out.startswith("Live") and "Safe" not in run.out
        assert rustfern("ready", root, "--json").json["live"] is True
    monkeypatch.setenv("HOME", str(tmp_path / "elsewhere"))
    assert rustfern("scan", home).out.startswith("Safe")


def test_shares_and_homes_of_this_machine_are_in_use(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(live_machine, "_homes", lambda: [str(tmp_path / "ines")])
    monkeypatch.setattr(live_machine, "_shares", lambda: [str(tmp_path / "share")])
    told = {name: live_machine.is_in_use(str(tmp_path / name)) for name in ("ines", "ines/a", "share/b", "stick", "")}
    assert told == {"ines": True, "ines/a": True, "share/b": True, "stick": False, "": True}


@given(st.text(max_size=30), st.text(max_size=60))
def test_likeness_is_a_share(asked: str, name: str) -> None:
    assert 0.0 <= likeness(asked, name) <= 1.0
    if holds(name, asked):
        assert all(word in name.casefold() for word in asked.casefold().split("_") if word.isalnum())


def test_a_part_of_a_name_fits_in_any_order() -> None:
    assert holds("Egret hull survey.docx", "survey egret") and not holds("Egret.docx", "heron")
    assert likeness("kitiwake", "Mooring plan Kittiwake.docx") > 0.9


def test_a_real_name_finds_the_account(tmp_path: Path, rustfern: Rustfern) -> None:
    disk = tmp_path / "disk"
    lock = ",{},pc,21.09.2026 14:18,file:///x;"
    for account in ("pl", "plund2", "kn"):
        write(disk / "home" / account / ".config/x", "")
        write(
            disk / "home" / account / "Documents/plan.txt~", f"crane booked by {account} for the launch in spring", T0
        )
    write(disk / "home/pl/.~lock.a.odt#", lock.format("Petra Lund"))
    write(disk / "home/plund2/b.odt", odt(TEXT, meta="<dc:creator>Petra Lund</dc:creator>"))
    write(disk / "home/kn/.~lock.c.odt#", lock.format("Petra Lund"))
    for name in ("d", "e"):
        write(disk / f"home/kn/.~lock.{name}.odt#", lock.format("Kurt Noack"))

    def people(name: str) -> tuple[set[str], list[str]]:
        found = rustfern("scan", disk, "--person", name, "--json").json
        return {home["person"] for home in found["homes"]}, notices(found)

    assert people("petra lund") == ({"pl", "plund2"}, ["person-found", "person-found"])
    assert people("pl")[0] == {"pl"}
    write(disk / "etc/passwd", "kn:x:1000:1000:Petra Lund,,,:/home/kn:/bin/sh\n")
    assert people("Petra")[0] == {"kn"}  # the system's own record decides
    assert rustfern("scan", disk, "--person", "Mallory").status == 2
    for top, path, record in (
        ("Users", "Windows/System32/CONFIG/SAM", lzma.decompress((DATA / "SAM.xz").read_bytes())),
        ("Users", "private/var/db/dslocal/nodes/Default/users/pl.plist", plistlib.dumps({"name": ["pl"], "realname": ["Petra Lund"]})),
    ):  # fmt: skip
        disk = tmp_path / path[:4]
        for account in ("pl", "kn"):
            write(disk / top / account / ("AppData/x" if path[0] == "W" else "Library/x"), "")
        write(disk / path, record)
        assert people("Petra Lund") == ({"pl"}, ["person-found"])
        write(disk / path, record[:-100])  # cut off, as a crash leaves it
        assert rustfern("scan", disk, "--person", "Petra Lund").status in (0, 1, 2)


def test_what_the_damaged_newer_copy_adds_is_said(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "disk" / "Users" / "petra"
    write(home / "Documents/plan.docx", docx(TEXT), T0)
    write(home / "Documents/AutoRecovery save of plan.asd", docx(TEXT, OTHER), T0 + 60)
    write(
        home / "Documents/plan((Autosaved-309643940271349403)).asd",
        docx(TEXT, OTHER, "zinc anodes for the rudder")[:-50],
        T0 + 99,
    )
    found = by_name(rustfern("scan", tmp_path / "disk", "--json").json, "plan.docx")
    said = next(each["text"] for each in found["cautions"] if each["kind"] == "damaged-holds-more")
    damaged = next(copy["id"] for copy in found["copies"] if copy["state"] == "damaged")
    assert damaged in said and "5 words that the best copy lacks" in said and "--as-text" in said


def test_what_others_keep_in_shared_temporary_folders_changes_no_exit_status(tmp_path: Path) -> None:
    home = tmp_path / "me"
    write(home / "a.txt", "one")
    answer = scan([str(home)])
    for path, status in (("/tmp/systemd-private", 1), ("/home/me/.config", 3), ("/tmp", 3)):
        denied = (Searched("by-content", path, "denied"),)
        mine = Home("/home/me", Layout.LINUX, "me", None, "/home/me")
        live = replace(answer, live=True, roots=("/home/me", "/tmp"), homes=(mine,), searched=denied)
        assert exit_status(live) == status
        assert exit_status(replace(live, live=False)) == 3


@pytest.mark.parametrize(("namesakes", "best"), [(1, "possible"), (2, None)])
def test_a_name_alone_is_never_sure(namesakes: int, best: str | None, tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "disk" / "Users" / "petra"
    write(home / "Documents/invoice.docx", bytes(5000), T0 + DAY)
    for number in range(namesakes):
        write(home / f"Documents/{number}/invoice.docx", docx(f"{number} {OTHER}"), T0 + number)
    found = next(
        each for each in rustfern("scan", tmp_path / "disk", "--document", "invoice", "--happened", "wont-open", "--json").json["documents"]
        if each["situation"] == "wont-open"
    )  # fmt: skip
    chosen = next((copy for copy in found["copies"] if copy["id"] == found["best"]), None)
    assert (in_words(chosen["confidence"]) if chosen else None) == best
