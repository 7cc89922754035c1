"""Traces: locks, recovery lists, trash records. Captured bytes give the facts; other bytes give `Malformed`, nothing else."""

from __future__ import annotations

import contextlib
import io
import struct
from datetime import datetime

import pytest
from conftest import member, windows_list, windows_record
from hypothesis import given
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.traces import (
    ds_store,
    editor_marks,
    mousepad_session,
    odf_lock,
    owner_lock,
    recovery_list,
    trash_info,
    trash_windows,
)

SETTINGS = member("office-writer-odt-crash", "home/ines/.config/libreoffice/4/user/registrymodifications.xcu")
LOCK = member("office-writer-odt-crash", "home/ines/Documents/Surveys/.~lock.hull-survey-kittiwake.odt#")
TEXT_LOCK = member("win-text-powercut-cfb", "Users/ivarga/Documents/Surveys/~$ll survey Saltmarsh Lass.docx")
SHEET_LOCK = member("office-calc-xlsx-crash", "home/tobias/Documents/Moorings/~$mooring-dues-2026.xlsx")


def test_captured_odf_lock() -> None:
    lock = odf_lock.parse(LOCK)
    assert (lock.owner, lock.login, lock.host) == ("Ines Varga", "ines", "slipway-pc2")
    assert lock.opened_local == datetime(2026, 11, 23, 6, 51)
    assert lock.profile_url == "file:///home/ines/.config/libreoffice/4"


@pytest.mark.parametrize(
    ("data", "owner", "opened"),
    [
        (b",ines,pc,01.02.2026 07:05,file:///p;", "", datetime(2026, 2, 1, 7, 5)),
        (b"Varga\\, Ines,ines,pc,01.02.2026 07:05,file:///p;", "Varga, Ines", datetime(2026, 2, 1, 7, 5)),
        ("Ågot \\; Åse,a,pc,31.02.2026 07:05,x;".encode(), "Ågot ; Åse", None),
        (b"Ines,ines,pc,soon,x;", "Ines", None),
        (b"Ines,ines,pc,1.2.2026 7:05", "Ines", datetime(2026, 2, 1, 7, 5)),
    ],
)
def test_odf_locks(data: bytes, owner: str, opened: datetime | None) -> None:
    lock = odf_lock.parse(data)
    assert (lock.owner, lock.opened_local) == (owner, opened)


@pytest.mark.parametrize("data", [b"", b"Ines", b"a,b;", b"\xff\xfe\0", b"a,b,c,d\0", b"x" * 20_000])
def test_broken_odf_locks(data: bytes) -> None:
    with pytest.raises(Malformed):
        odf_lock.parse(data)


def test_captured_owner_locks() -> None:
    assert owner_lock.parse(TEXT_LOCK) == owner_lock.OwnerLock("Ines Varga", "Ines Varga", 162)
    assert owner_lock.parse(SHEET_LOCK) == owner_lock.OwnerLock("Tobias Okoro", "Tobias Okoro", 165)


def owner_bytes(size: int, name: str, padding: bytes) -> bytes:
    """An owner lock as the programs write it; the padding differs between them."""
    room = 53 if size == 162 else 54
    narrow = name.encode("cp1252", "replace")[:room]
    wide = name.encode("utf-16-le")
    out = bytes([len(narrow)]) + narrow + padding * (room - len(narrow)) + len(name).to_bytes(2, "little") + wide
    return (out + padding * size)[:size]


@pytest.mark.parametrize("size", [162, 165])
@pytest.mark.parametrize("padding", [b"\0", b" ", b"\x9c"])
@pytest.mark.parametrize("name", ["Petra Lund", "Ágnes Ørum", "P", "Łucja Żak"])
def test_owner_locks(size: int, padding: bytes, name: str) -> None:
    lock = owner_lock.parse(owner_bytes(size, name, padding))
    assert lock.owner == name and lock.size == size


@pytest.mark.parametrize("data", [b"", bytes(162), bytes(165), b"\x0a" + bytes(161), TEXT_LOCK[:161], b"\xff" * 162])
def test_broken_owner_locks(data: bytes) -> None:
    with pytest.raises(Malformed):
        owner_lock.parse(data)


def test_captured_recovery_list() -> None:
    found = recovery_list.parse(io.BytesIO(SETTINGS))
    assert [(e.title, e.original_url, e.changed) for e in found.entries] == [
        ("tide-notes.odt", "file:///home/ines/Documents/Yard/tide-notes.odt", False),
        ("hull-survey-kittiwake.odt", "file:///home/ines/Documents/Surveys/hull-survey-kittiwake.odt", True),
    ]
    assert found.entries[0].temp_url == "" and found.entries[1].temp_url.endswith(
        "/backup/hull-survey-kittiwake.odt_0.odt"
    )
    assert found.cut_at is None


def test_recovery_list_of_a_crashed_write_keeps_what_stands_before() -> None:
    at = SETTINGS.index(b"recovery_item_2") + 40
    found = recovery_list.parse(io.BytesIO(SETTINGS[:at]))
    assert [e.title for e in found.entries] == ["tide-notes.odt"]
    assert found.cut_at is not None and at - 10 <= found.cut_at <= at and found.problem


def test_urls_are_unescaped_from_xml_only() -> None:
    data = SETTINGS.replace(b"Surveys/hull-survey", b"V%C3%A5ren%20launch%20&amp;%20co/hull-survey")
    assert "V%C3%A5ren%20launch%20&%20co" in recovery_list.parse(io.BytesIO(data)).entries[1].original_url


@pytest.mark.parametrize("data", [b"", b"\0\1garbage", b"not xml", b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>'])
def test_broken_recovery_lists(data: bytes) -> None:
    with pytest.raises(Malformed):
        recovery_list.parse(io.BytesIO(data))


@pytest.mark.parametrize(
    ("data", "path", "deleted"),
    [
        (b"[Trash Info]\nPath=/home/a/100%25%20oak%20%233.csv\nDeletionDate=2026-11-23T06:18:04\n", "/home/a/100% oak #3.csv", datetime(2026, 11, 23, 6, 18, 4)),
        (b"[Trash Info]\r\nPath=rel/x.txt\r\nDeletionDate=20261123T06:18:04\r\n", "rel/x.txt", datetime(2026, 11, 23, 6, 18, 4)),
        (b"[Trash Info]\nDeletionDate=never\nPath=/caf%E9\n", "/caf\udce9", None),
        (b"junk\n[Other]\nPath=/no\n[Trash Info]\nPath=/yes\n", "/yes", None),
    ],
)  # fmt: skip
def test_trash_records(data: bytes, path: str, deleted: datetime | None) -> None:
    assert trash_info.parse(data) == trash_info.TrashInfo(path, deleted)


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"garbage",
        b"Path=/x",
        b"[Trash Info]\nPath=\n",
        b"[Trash Info]\nPath=/a%00b\n",
        b"[Trash Info]\n" + b"x" * 99_999,
    ],
)
def test_broken_trash_records(data: bytes) -> None:
    with pytest.raises(Malformed):
        trash_info.parse(data)


@pytest.mark.parametrize("version", [1, 2])
def test_windows_trash_records(version: int) -> None:
    found = trash_windows.parse(windows_record(version, "C:\\Users\\ivarga\\Größe.docx"))
    assert (found.path, found.size) == ("C:\\Users\\ivarga\\Größe.docx", 42)
    assert found.deleted is not None and found.deleted.year == 2025


def test_the_list_of_old_windows_trash() -> None:
    found = trash_windows.parse_list(windows_list("C:\\My Documents\\a.doc", "C:\\My Documents\\folder") + b"cut")
    assert [(item.stored, item.path) for item in found] == [
        ("Dc1.doc", "C:\\My Documents\\a.doc"),
        ("Dc2", "C:\\My Documents\\folder"),
    ]


@pytest.mark.parametrize(
    "data",
    [b"", bytes(28), bytes(544), windows_record(3, "x"), windows_record(2, "")[:28], struct.pack("<QQQI", 2, 1, 1, 99)],
)
def test_broken_windows_trash_records(data: bytes) -> None:
    with pytest.raises(Malformed):
        trash_windows.parse(data)
    with pytest.raises(Malformed):
        trash_windows.parse_list(data)


@given(st.binary(max_size=400))
def test_any_bytes_raise_only_malformed(data: bytes) -> None:
    for reader in (
        odf_lock.parse,
        owner_lock.parse,
        trash_info.parse,
        trash_windows.parse,
        trash_windows.parse_list,
        lambda d: recovery_list.parse(io.BytesIO(d)),
    ):
        try:
            reader(data)
        except Malformed as error:
            assert error.reason


@given(st.binary(min_size=161, max_size=166).map(lambda data: b"\x05Petra" + data))
def test_any_owner_lock_gives_a_printable_owner_or_malformed(data: bytes) -> None:
    with contextlib.suppress(Malformed):
        assert owner_lock.parse(data[:162]).owner.isprintable()


DS_STORE = member("mac-trash-putback", "Users/plund/.Trash/.DS_Store")
DCONF = member("mousepad-session", "home/tobias/.config/dconf/user")


def test_captured_put_back_records() -> None:
    found = ds_store.original_locations(DS_STORE)
    assert found["Rota 14.12.33.docx"][1] == "Rota.docx" and "Rotas 2025" in found["Rota 14.12.33.docx"][0]
    assert len(found) >= 3


@pytest.mark.parametrize("data", [b"", b"\0\0\0\1Bud1", DS_STORE[:200], b"x" * 100, DS_STORE[:16] + b"\xff" * 400])
def test_broken_folder_notes(data: bytes) -> None:
    with pytest.raises(Malformed):
        ds_store.original_locations(data)


@given(st.integers(0, len(DS_STORE) - 1), st.binary(min_size=1, max_size=60))
def test_mutated_folder_notes(at: int, what: bytes) -> None:
    hurt = bytearray(DS_STORE)
    hurt[at : at + len(what)] = what
    try:
        assert isinstance(ds_store.original_locations(bytes(hurt)), dict)
    except Malformed as error:
        assert error.reason


@pytest.mark.parametrize(
    ("target", "expected"),
    [
        ("ines@quay-desk2.11951:1795413095", ("ines", "quay-desk2", 11951)),
        ("tobias@slipway-hut.13704", ("tobias", "slipway-hut", 13704)),
        ("ines@pc.yard.example.77:9", ("ines", "pc.yard.example", 77)),
        ("ines@here.4711", ("ines", None, 4711)),
    ],
)
def test_link_locks(target: str, expected: tuple[str, str | None, int]) -> None:
    found = editor_marks.parse_link(target)
    assert (found.user, found.host, found.pid) == expected


@pytest.mark.parametrize("target", ["", "/etc/passwd", "nobody", "a@b", "a@b.c"])
def test_links_that_are_no_locks(target: str) -> None:
    with pytest.raises(Malformed):
        editor_marks.parse_link(target)


def test_lists_of_autosaves() -> None:
    found = editor_marks.parse_list(b"/home/i/a.txt\n/home/i/#a.txt#\n\n/home/i/#new#abc123#\n")
    assert [(item.original, item.copy) for item in found] == [
        ("/home/i/a.txt", "/home/i/#a.txt#"),
        ("", "/home/i/#new#abc123#"),
    ]
    for bad in (b"", b"one line", b"a\nb\n"):
        with pytest.raises(Malformed):
            editor_marks.parse_list(bad)


def test_a_captured_session() -> None:
    found = mousepad_session.parse(DCONF)
    assert found[0].original == "file:///home/tobias/Documents/buoy%20list.txt" and found[0].copy.endswith(
        "/autosave-0"
    )
    assert found[1].original == ""
    with pytest.raises(Malformed):
        mousepad_session.parse(b"junk")
