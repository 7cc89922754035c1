"""Homes with what is rare: databases with their journals, projects with data folders, bad records and settings, crowds, odd names, odd locks."""

from __future__ import annotations

import lzma
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import DATA, Run, best_of, by_name, docx, odt, write
from made_traces import revisions, shell_link

Rustfern = Callable[..., Run]
T0 = 1_760_000_000
BASE = "the garboard seam was raked out and payed with marine glue from the stem to frame seven"
MORE = BASE + " and the sheer strake scarf was opened for the surveyor on Friday"
WIN, MAC, LIN = "Users/ivarga", "Users/plund", "home/ines"
LOCAL, ROAMING = f"{WIN}/AppData/Local", f"{WIN}/AppData/Roaming"


GUID = "3e8dad91-c845-4308-aa75-7722793597b0"
REG = "Windows Registry Editor Version 5.00\r\n\r\n"
WORD = f"{ROAMING}/Microsoft/Word"
FIREFOX = f"{LIN}/.mozilla/firefox/a1b2c3d4.default/sessionstore-backups"
CODE = f"{LIN}/.config/Code - OSS"
NPP = f"{ROAMING}/Notepad++"


def sqlite_with_journal(folder: Path, name: str) -> None:
    """A database whose newest row is only in its journal, as a program that was killed leaves it."""
    source = folder.parent / "making.db"
    folder.mkdir(parents=True, exist_ok=True)
    db = sqlite3.connect(source)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("CREATE TABLE note (text TEXT)")
    db.execute("INSERT INTO note VALUES (?)", (BASE,))
    db.commit()
    db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.execute("INSERT INTO note VALUES (?)", (MORE,))
    db.commit()
    for ending in ("", "-wal"):
        (folder / f"{name}{ending}").write_bytes(Path(f"{source}{ending}").read_bytes())
    db.close()


def test_a_database_and_its_journal_are_one_copy(tmp_path: Path, rustfern: Rustfern) -> None:
    notes = tmp_path / "d" / LOCAL / "Packages" / "Microsoft.MicrosoftStickyNotes_8wekyb3d8bbwe" / "LocalState"
    sqlite_with_journal(notes, "plum.sqlite")
    before = {path.name: path.read_bytes() for path in notes.iterdir()}
    document = by_name(rustfern("scan", tmp_path / "d", "--everything", "--json").json, "plum")
    copy = best_of(document)
    assert document["situation"] == "nothing-lost" and copy["members"] == ["plum.sqlite", "plum.sqlite-wal"]
    assert copy["words"] == len((BASE + " " + MORE).split())
    run = rustfern("restore", copy["id"], "--to", tmp_path / "out", "--json")
    target = Path(run.json["restored"][0]["to"])
    assert {path.name: path.read_bytes() for path in target.iterdir()} == before and run.json["restored"][0][
        "state"
    ] == "intact"
    assert {path.name: path.read_bytes() for path in notes.iterdir()} == before


def test_a_project_and_its_data_folder_are_one_copy(tmp_path: Path, rustfern: Rustfern) -> None:
    folder = tmp_path / "d" / LIN / "Music"
    (tmp_path / "d" / LIN / ".config").mkdir(parents=True)
    write(folder / "radio.aup", "<project/>", T0)
    write(folder / "radio_data" / "e00" / "a.au", b".snd" + bytes(60), T0)
    document = by_name(rustfern("scan", tmp_path / "d", "--document", "radio", "--json").json, "radio.aup")
    assert best_of(document) is None or best_of(document)["members"]
    copy = document["copies"][0]
    assert copy["members"] == ["radio.aup", "radio_data/e00/a.au"]
    run = rustfern("restore", copy["id"], "--to", tmp_path / "out", "--json")
    assert (Path(run.json["restored"][0]["to"]) / "radio_data" / "e00" / "a.au").is_file(), run.err


BAD = {
    "registry file cut off": {f"{WIN}/NTUSER.DAT": b"regf" + bytes(5000)},
    "registry file of another kind": {f"{WIN}/NTUSER.DAT": b"PK\x03\x04" + bytes(5000)},
    "registry file of zeros": {f"{WIN}/NTUSER.DAT": bytes(8192)},
    "registry text of another kind": {f"{WIN}/x.reg": "hello"},
    "shell link cut off": {f"{ROAMING}/Microsoft/Windows/Recent/a.lnk": shell_link("C:\\a.docx")[:90]},
    "session that is none": {f"{FIREFOX}/recovery.jsonlz4": b"mozLz40\0" + b"\xff" * 40},
    "session list cut off": {f"{NPP}/session.xml": "<NotepadPlus><Session"},
    "history list of another kind": {f"{CODE}/User/History/-1/entries.json": "[1]"},
    "tab of the editor, garbage": {f"{LOCAL}/Packages/Microsoft.WindowsNotepad_8wekyb3d8bbwe/LocalState/TabState/{GUID}.bin": b"NP" + b"\xff" * 90},
    "index of versions that is none": {f"{MAC}/Documents/x": "", f"{MAC}/Library/x": "", "System/x": "", ".DocumentRevisions-V100/db-V1/db.sqlite": b"SQLite format 3\0" + b"x" * 900},
    "index of versions with other tables": {f"{MAC}/Documents/x": "", f"{MAC}/Library/x": "", "System/x": "", ".DocumentRevisions-V100/db-V1/db.sqlite": "not even"},
    "mail store that is none": {f"{LIN}/.thunderbird/x/Mail/Local Folders/Sent": "no mail at all\n"},
    "settings with entities": {f"{LIN}/.local/share/recently-used.xbel": '<!DOCTYPE x [<!ENTITY a "aaa">]><xbel><bookmark href="&a;"/></xbel>'},
    "property list cut off": {f"{MAC}/Documents/x": "", f"{MAC}/Library/Preferences/com.apple.screencapture.plist": b"bplist00\xd1"},
    "settings in JSON cut off": {f"{LIN}/.config/Code - OSS/User/settings.json": '{"files.autoSave": "o'},
    "trash record that climbs out": {f"{LIN}/.local/share/Trash/info/x.trashinfo": "[Trash Info]\nPath=../../../etc/passwd\nDeletionDate=2026-03-12T16:40:00\n"},
    "versions that climb out": {f"{MAC}/Documents/x": "", f"{MAC}/Library/x": "", "System/x": "", ".DocumentRevisions-V100/db-V1/db.sqlite": revisions("/Users/plund/a.docx", "/../../../../etc/passwd")},
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(BAD))
def test_bad_records_and_settings_stop_nothing(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    """One bad file is said; what lies beside it is found all the same."""
    root = tmp_path / "d"
    for path, data in BAD[name].items():
        write(root / path, data)
    for person, sign in ((WIN, "AppData"), (LIN, ".config")):
        (root / person / sign).mkdir(parents=True, exist_ok=True)
    write(root / LIN / "Documents" / "plan.odt", odt(BASE), T0)
    write(root / LIN / ".config" / "libreoffice" / "4" / "user" / "backup" / "plan.odt_0.odt", odt(MORE), T0 + 60)
    run = rustfern("scan", root, "--json")
    assert run.status == 0 and by_name(run.json, "plan.odt")["situation"] == "crashed"
    bad = str(root / list(BAD[name])[-1])
    said = [p["message"] for p in run.json["problems"] if p["path"] == bad]
    said += [str(record) for record in run.json["unmatched"] if record["path"] == bad]
    assert said or name.startswith("trash record"), run.json["problems"]
    assert not any("passwd" in (d["original"] or "") for d in run.json["documents"])


def test_a_real_registry_file_is_read(tmp_path: Path, rustfern: Rustfern) -> None:
    """A hive as a system writes it; then with another drive in it, then cut off; never a file beside it."""
    hive = write(tmp_path / "d" / WIN / "NTUSER.DAT", lzma.decompress((DATA / "NTUSER.DAT.xz").read_bytes()))
    write(tmp_path / "d" / WIN / "AppData" / "x", "")
    found = rustfern("ready", tmp_path / "d", "--json").json
    assert found["host"] == "MQB-PC03" and not found["problems"] and not found["outside"], found
    whole = hive.read_bytes()
    hive.write_bytes(
        whole.replace(
            "C:\\Users\\ivarga\\Documents".encode("utf-16-le"), "E:\\Yards\\ivarga\\Documents".encode("utf-16-le")
        )
    )
    moved = rustfern("ready", tmp_path / "d", "--json").json
    assert [place["path"] for place in moved["outside"]] == ["E:\\Yards\\ivarga\\Documents"]
    screen = rustfern("places", tmp_path / "d")
    assert "not-mounted" in screen.out and "recorded by NTUSER.DAT" in screen.out
    hive.write_bytes(whole[:6000])
    cut = rustfern("ready", tmp_path / "d", "--json").json
    assert any("registry file is damaged" in p["message"] for p in cut["problems"])
    assert [path.name for path in hive.parent.iterdir() if path.is_file()] == ["NTUSER.DAT"]


def test_a_hundred_thousand_files_in_one_temporary_folder(tmp_path: Path, rustfern: Rustfern) -> None:
    temporary = tmp_path / "d" / LOCAL / "Temp"
    temporary.mkdir(parents=True)
    for number in range(100_000):
        (temporary / f"~x{number}.log").touch()
    write(tmp_path / "d" / WIN / "Documents" / "slip.docx", docx(BASE), T0)
    write(tmp_path / "d" / WORD / "AutoRecovery save of slip.asd", docx(MORE), T0 + 60)
    run = rustfern("scan", tmp_path / "d", "--json")
    assert by_name(run.json, "slip.docx")["situation"] == "crashed" and run.json["totals"]["files"] >= 100_000


@pytest.mark.parametrize("name", ["ö" * 120 + ".txt", "a" * 250 + ".txt", "e\u0301te\u0301.txt", "ﬁle №5 %41 {x}.txt"])
def test_long_names_and_other_unicode_forms(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    folder = tmp_path / "d" / LIN / "Documents"
    (tmp_path / "d" / LIN / ".emacs.d" / "autosaves").mkdir(parents=True)
    name = name.encode()[:253].decode("utf-8", "ignore")
    write(folder / name, BASE, T0)
    write(folder / f"#{name}#"[:255] if len(name.encode()) <= 253 else folder / "x", MORE, T0 + 60)
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, name)
    assert document["situation"] == "crashed" and best_of(document)["kind"] == "autosave"


def test_locks_of_layouts_and_databases(tmp_path: Path, rustfern: Rustfern) -> None:
    folder = tmp_path / "d" / WIN / "Documents"
    (tmp_path / "d" / WIN / "AppData").mkdir(parents=True)
    write(folder / "Yard brochure.indd", b"\x06\x06\xed\xf5\xd8\x1d\x46\xe5" + bytes(90))
    write(folder / "~yard brochure~8kq_3t.idlk", b"")
    write(folder / "Stock.accdb", b"\0\1\0\0Standard ACE DB\0" + bytes(90))
    write(folder / "Stock.laccdb", b"MQB-PC03".ljust(32, b"\0") + b"Ines".ljust(32, b"\0"))
    write(folder / "000005.ldb", bytes(range(256)))
    write(folder / "slip.dwg", b"AC1032" + bytes(90))
    write(folder / "slip.dwl2", "<whprops><username>ines</username><machinename>MQB-PC03</machinename><fullname>Ines Varga</fullname>"
          "<datetime>Thursday, March 12, 2026  4:38:00 PM</datetime></whprops>")  # fmt: skip
    documents = rustfern("scan", tmp_path / "d", "--json").json["documents"]
    locks = {d["name"]: (d["locks"][0]["owner"], d["locks"][0]["host"]) for d in documents if d["locks"]}
    assert locks == {
        "Yard brochure.indd": (None, None),
        "Stock.accdb": ("Ines", "MQB-PC03"),
        "slip.dwg": ("Ines Varga", "MQB-PC03"),
    }
