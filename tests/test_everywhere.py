"""Leftovers that carry their original's address, or lie where nobody looks: each laid out by a small stand-in, found and chosen."""

from __future__ import annotations

import json
import lzma
import sqlite3
import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from conftest import DATA, Run, best_of, by_name, docx, odt, write

Rustfern = Callable[..., Run]
T0 = 1_760_000_000
BASE = "the garboard seam was raked out and payed with marine glue from the stem to frame seven"
MORE = BASE + " and the sheer strake scarf was opened for the surveyor on Friday"
WIN, MAC, LIN = "Users/ivarga", "Users/plund", "home/ines"
LOCAL, ROAMING = f"{WIN}/AppData/Local", f"{WIN}/AppData/Roaming"


@dataclass
class Case:
    """Files (path → content, seconds after T0), the document looked for, its best copy and situation."""

    files: dict[str, tuple[bytes | str, int]]
    original: str | None
    best: str | None
    situation: str = "crashed"
    hints: tuple[str, ...] = ()
    text: str = ""
    warning: str = ""
    part: bool = field(default=False)


def code_unsaved(address: str, text: str) -> str:
    return f'{address} {{"mtime":{T0 * 1000},"size":1,"etag":"x","orphaned":false}}\n{text}'


def leb(value: int) -> bytes:
    out = b""
    while True:
        value, low = value >> 7, value & 0x7F
        out += bytes([low | (0x80 if value else 0)])
        if not value:
            return out


def editor_tab(path: str, text: str, change: str = "") -> bytes:
    """A tab of the Windows editor in the layout that was reported, with a change put in at the end."""
    head = b"\x00" + (b"\x01" if path else b"\x00")
    if path:
        head += leb(len(path)) + path.encode("utf-16-le") + leb(10) + leb(5) + leb(1) + leb(1) + bytes(32) + b"\x00\x01"
    else:
        head += b"\x01"
    head += leb(0) + leb(0) + b"\x01\x00\x00\x00" + leb(len(text)) + text.encode("utf-16-le") + b"\x01"
    out = b"NP" + head + struct.pack(">I", zlib.crc32(head[1:]))
    if change:
        piece = leb(len(text)) + leb(0) + leb(len(change)) + change.encode("utf-16-le")
        out += piece + struct.pack(">I", zlib.crc32(piece))
    return out


def session(*texts: str) -> bytes:
    """A browser's session, packed as literals only."""
    tabs = [
        {"entries": [{"url": "https://forms.example/claim", "title": "Claim"}], "formdata": {"id": {"t": text}}}
        for text in texts
    ]
    plain = json.dumps({"windows": [{"tabs": tabs}]}).encode()
    token, rest = (15 << 4, len(plain) - 15) if len(plain) >= 15 else (len(plain) << 4, -1)
    length = b""
    while rest >= 255:
        length, rest = length + b"\xff", rest - 255
    return b"mozLz40\0" + struct.pack("<I", len(plain)) + bytes([token]) + length + bytes([rest]) + plain


def mbox(*mails: tuple[str, str, bytes, bool]) -> bytes:
    """A store of mails: (subject, file name or "", content, deleted)."""
    from base64 import encodebytes

    out = b""
    for subject, name, data, deleted in mails:
        out += b"From - Thu Mar 12 16:40:00 2026\n"
        out += f"X-Mozilla-Status: {'0009' if deleted else '0001'}\nSubject: {subject}\n".encode()
        out += b"Date: Thu, 12 Mar 2026 16:40:00 +0000\nMIME-Version: 1.0\n"
        if name:
            out += b'Content-Type: multipart/mixed; boundary="b"\n\n--b\nContent-Type: text/plain\n\nas agreed\n--b\n'
            out += (
                f'Content-Type: application/octet-stream; name="{name}"\nContent-Transfer-Encoding: base64\n'.encode()
            )
            out += f'Content-Disposition: attachment; filename="{name}"\n\n'.encode() + encodebytes(data) + b"--b--\n\n"
        else:
            out += b"Content-Type: text/plain\n\n" + data + b"\n\n"
    return out


def revisions(original: str, stored: str) -> bytes:
    """An index of older versions."""
    db = sqlite3.connect(":memory:")
    db.execute("CREATE TABLE files (file_row_id INTEGER, file_name TEXT, file_path TEXT, file_storage_id INTEGER)")
    db.execute(
        "CREATE TABLE generations (generation_id INTEGER, generation_storage_id INTEGER, generation_path TEXT, generation_add_time INTEGER)"
    )
    db.execute("INSERT INTO files VALUES (1, 'plan.docx', ?, 7)", (original,))
    db.execute("INSERT INTO generations VALUES (1, 7, ?, ?)", (stored, T0 - 500))
    db.commit()
    return db.serialize()


def shell_link(target: str) -> bytes:
    """A shell link with a volume and a path, as the system writes it."""
    path = target.encode("cp1252") + b"\0"
    volume = struct.pack("<4I", 17, 2, 0x5A3F19C2, 16) + b"\0"
    info = struct.pack(
        "<7I", 28 + len(volume) + len(path) + 1, 28, 1, 28, 28 + len(volume), 0, 28 + len(volume) + len(path)
    )
    when = (T0 + 11_644_473_600) * 10_000_000
    head = (
        b"\x4c\0\0\0"
        + bytes.fromhex("0114020000000000c000000000000046")
        + struct.pack("<II3QI", 0x82, 32, when, when, when, 9)
    )
    return head.ljust(76, b"\0") + info + volume + path + b"\0"


GUID = "3e8dad91-c845-4308-aa75-7722793597b0"
REG = "Windows Registry Editor Version 5.00\r\n\r\n"
OFFICE = "[HKEY_CURRENT_USER\\Software\\Microsoft\\Office\\16.0\\Word"
WORD = f"{ROAMING}/Microsoft/Word"
FIREFOX = f"{LIN}/.mozilla/firefox/a1b2c3d4.default/sessionstore-backups"
CODE = f"{LIN}/.config/Code - OSS"
NPP = f"{ROAMING}/Notepad++"

CASES = {
    "unsaved tab of a code editor": Case(
        {f"{LIN}/src/rates.md": (BASE, 0), f"{CODE}/Backups/0a1b/file/-3f2a1b4c": (code_unsaved("file:///home/ines/src/rates.md", MORE), 60)},
        f"{LIN}/src/rates.md", f"{CODE}/Backups/0a1b/file/-3f2a1b4c", text=MORE),
    "tab of a code editor that never had a name": Case(
        {f"{CODE}/Backups/0a1b/untitled/-7a6b": (code_unsaved("untitled:Untitled-1", MORE), 60)},
        None, f"{CODE}/Backups/0a1b/untitled/-7a6b", "never-saved", text=MORE),
    "history of a code editor, the file is gone": Case(
        {f"{CODE}/User/History/-5d/entries.json": (json.dumps({"version": 1, "resource": "file:///home/ines/src/rates.md", "entries": [
            {"id": "aB3d.md", "timestamp": (T0 - 900) * 1000}, {"id": "zZ9x.md", "timestamp": (T0 - 100) * 1000}]}), 0),
         f"{CODE}/User/History/-5d/aB3d.md": (BASE, 5), f"{CODE}/User/History/-5d/zZ9x.md": (MORE, 5)},
        f"{LIN}/src/rates.md", f"{CODE}/User/History/-5d/zZ9x.md", "deleted"),
    "tab of the Windows editor, with a file and a change": Case(
        {f"{WIN}/Documents/rates.txt": (BASE, 0), f"{LOCAL}/Packages/Microsoft.WindowsNotepad_8wekyb3d8bbwe/LocalState/TabState/{GUID}.bin": (
            editor_tab("C:\\Users\\ivarga\\Documents\\rates.txt", BASE, MORE[len(BASE):]), 60)},
        f"{WIN}/Documents/rates.txt", f"{LOCAL}/Packages/Microsoft.WindowsNotepad_8wekyb3d8bbwe/LocalState/TabState/{GUID}.bin", text=MORE),
    "tab of the Windows editor in another layout": Case(
        {f"{LOCAL}/Packages/Microsoft.WindowsNotepad_8wekyb3d8bbwe/LocalState/TabState/{GUID}.bin": (
            b"NP\x02\x07\x07\x09" + leb(len(MORE)) + MORE.encode("utf-16-le") + b"\x00\x01", 60)},
        None, f"{LOCAL}/Packages/Microsoft.WindowsNotepad_8wekyb3d8bbwe/LocalState/TabState/{GUID}.bin", "never-saved", text=MORE),
    "session of an editor names the kept text": Case(
        {f"{WIN}/Documents/rates.txt": (BASE, 0), f"{NPP}/backup/rates.txt@2026-03-12_163800": (MORE, 60), f"{NPP}/session.xml": (
            '<NotepadPlus><Session><mainView><File filename="C:\\Users\\ivarga\\Documents\\rates.txt" backupFilePath='
            '"C:\\Users\\ivarga\\AppData\\Roaming\\Notepad++\\backup\\rates.txt@2026-03-12_163800"/></mainView></Session></NotepadPlus>', 60)},
        f"{WIN}/Documents/rates.txt", f"{NPP}/backup/rates.txt@2026-03-12_163800"),
    "mapping of cached texts": Case(
        {f"{LIN}/Documents/letter.txt": (BASE, 0), f"{LIN}/.local/share/GottCode/FocusWriter/Cache/Files/fw_Ab12Cd": (MORE, 60),
         f"{LIN}/.local/share/GottCode/FocusWriter/Cache/Files/mapping": ("\ufefffw_Ab12Cd /home/ines/Documents/letter.txt\n", 60)},
        f"{LIN}/Documents/letter.txt", f"{LIN}/.local/share/GottCode/FocusWriter/Cache/Files/fw_Ab12Cd"),
    "text kept at closing": Case(
        {f"{LIN}/Documents/letter.txt": (BASE, 0), f"{LIN}/.local/share/kate/stash/yard/Document 0": (MORE, 60),
         f"{LIN}/.local/share/kate/sessions/yard.katesession": (
             "[Document 0]\nURL=file:///home/ines/Documents/letter.txt\nstashedFile=/home/ines/.local/share/kate/stash/yard/Document 0\n", 60)},
        f"{LIN}/Documents/letter.txt", f"{LIN}/.local/share/kate/stash/yard/Document 0"),
    "autosaves moved by the registry": Case(
        {f"{WIN}/Documents/survey.docx": (docx(BASE), 0), f"{WIN}/Rettung/AutoRecovery save of survey.asd": (docx(MORE), 60), f"{WORD}/x": ("", 0),
         f"{WIN}/export.reg": (REG + OFFICE + '\\Options]\r\n"AUTOSAVE-PATH"="C:\\\\Users\\\\ivarga\\\\Rettung\\\\"\r\n', 0)},
        f"{WIN}/Documents/survey.docx", f"{WIN}/Rettung/AutoRecovery save of survey.asd"),
    "autosaves moved by the registry, with a variable": Case(
        {f"{WIN}/Documents/survey.docx": (docx(BASE), 0), f"{WIN}/Rettung/AutoRecovery save of survey.asd": (docx(MORE), 60), f"{WORD}/x": ("", 0),
         f"{WIN}/export.reg": ((REG + OFFICE + '\\Options]\r\n"AUTOSAVE-PATH"=hex(2):' + ",".join(
             f"{byte:02x}" for byte in "%USERPROFILE%\\Rettung\0".encode("utf-16-le")) + "\r\n").encode("utf-16"), 0)},
        f"{WIN}/Documents/survey.docx", f"{WIN}/Rettung/AutoRecovery save of survey.asd"),
    "recovery entry of the office suite": Case(
        {f"{WIN}/Documents/A/survey.docx": (docx(BASE), 0), f"{WIN}/Documents/B/survey.docx": (docx("winches only"), 9),
         f"{WORD}/survey((Autosaved-309643940271349403)).asd": (docx(MORE), 60),
         f"{WIN}/export.reg": (REG + OFFICE + '\\Resiliency\\DocumentRecovery\\1A2B]\r\n"1A2B"=hex:04,00,00,00,' + ",".join(
             f"{byte:02x}" for byte in (
                 "C:\\Users\\ivarga\\AppData\\Roaming\\Microsoft\\Word\\survey((Autosaved-309643940271349403)).asd\0"
                 "C:\\Users\\ivarga\\Documents\\A\\survey.docx\0").encode("utf-16-le")) + "\r\n", 0)},
        f"{WIN}/Documents/A/survey.docx", f"{WORD}/survey((Autosaved-309643940271349403)).asd"),
    "the original is on a stick": Case(
        {f"{WORD}/AutoRecovery save of survey.asd": (docx(MORE), 60),
         f"{ROAMING}/Microsoft/Windows/Recent/survey.docx.lnk": (shell_link("E:\\Yard\\survey.docx"), 0)},
        None, f"{WORD}/AutoRecovery save of survey.asd", "crashed", warning="drive E"),
    "the original is gone, a recent list knows it": Case(
        {f"{WORD}/AutoRecovery save of survey.asd": (docx(MORE), 60),
         f"{ROAMING}/Microsoft/Windows/Recent/survey.docx.lnk": (shell_link("C:\\Users\\ivarga\\Documents\\survey.docx"), 0)},
        f"{WIN}/Documents/survey.docx", f"{WORD}/AutoRecovery save of survey.asd", "deleted"),
    "autosaves of the ODF suite moved": Case(
        {f"{LIN}/Documents/plan.odt": (odt(BASE), 0), f"{LIN}/Rescue/plan.odt_0.odt": (odt(MORE), 60),
         f"{LIN}/.config/libreoffice/4/user/registrymodifications.xcu": (
             '<oor:items xmlns:oor="http://openoffice.org/2001/registry"><item oor:path="/org.openoffice.Office.Paths/Paths/'
             "org.openoffice.Office.Paths:NamedPath['Backup']\"><prop oor:name=\"WritePath\"><value>$(home)/Rescue</value></prop></item></oor:items>", 0)},
        f"{LIN}/Documents/plan.odt", f"{LIN}/Rescue/plan.odt_0.odt"),
    "swap files moved by vimrc": Case(
        {f"{LIN}/.vimrc": ("set backupdir=~/keep//,.\nset backup\n", 0), f"{LIN}/rates.txt": ("paid", 0),
         f"{LIN}/keep/%home%ines%rates.txt~": (MORE, -60)},
        f"{LIN}/rates.txt", f"{LIN}/keep/%home%ines%rates.txt~", "overwritten"),
    "autosaves moved by the Emacs settings": Case(
        {f"{LIN}/.emacs": ('(setq auto-save-file-name-transforms `((".*" "~/safe/" t)))', 0), f"{LIN}/rates.txt": (BASE, 0),
         f"{LIN}/safe/#!home!ines!rates.txt#": (MORE, 60)},
        f"{LIN}/rates.txt", f"{LIN}/safe/#!home!ines!rates.txt#"),
    "temporary folder moved": Case(
        {f"{WIN}/Documents/slip.dwg": (b"AC1032" + bytes(300) + b"old", 0), f"{WIN}/T/slip_1_1_4f2a.sv$": (b"AC1032" + bytes(300) + b"new", 60),
         f"{WIN}/e.reg": (REG + '[HKEY_CURRENT_USER\\Environment]\r\n"TEMP"="C:\\\\Users\\\\ivarga\\\\T"\r\n', 0), f"{WORD}/x": ("", 0)},
        f"{WIN}/Documents/slip.dwg", None, "nothing-lost"),
    "attachment edited where the mail program put it": Case(
        {f"{LOCAL}/Microsoft/Windows/INetCache/Content.Outlook/AB12CD34/survey (002).docx": (docx(MORE), 60)},
        f"{LOCAL}/Microsoft/Windows/INetCache/Content.Outlook/AB12CD34/survey (002).docx",
        f"{LOCAL}/Microsoft/Windows/INetCache/Content.Outlook/AB12CD34/survey (002).docx", "misplaced", ("--happened", "misplaced")),
    "attachment edited, an older one was saved": Case(
        {f"{WIN}/Documents/survey.docx": (docx(BASE), 0),
         f"{LOCAL}/Microsoft/Windows/INetCache/Content.Outlook/AB12CD34/survey (002).docx": (docx(MORE), 60)},
        f"{WIN}/Documents/survey.docx", f"{LOCAL}/Microsoft/Windows/INetCache/Content.Outlook/AB12CD34/survey (002).docx", "misplaced"),
    "document edited inside an archive": Case(
        {f"{WIN}/Documents/survey.docx": (docx(BASE), 0), f"{LOCAL}/Temp/Temp1_yard.zip/survey.docx": (docx(MORE), 60)},
        f"{WIN}/Documents/survey.docx", f"{LOCAL}/Temp/Temp1_yard.zip/survey.docx", "misplaced"),
    "a sent mail carries the last whole version": Case(
        {f"{LIN}/Documents/survey.docx": (docx(BASE)[:200], 0),
         f"{LIN}/.thunderbird/x.default/Mail/Local Folders/Sent": (mbox(("Hello", "", b"hi", False), ("Survey", "survey.docx", docx(BASE), False)), 0)},
        f"{LIN}/Documents/survey.docx", f"{LIN}/.thunderbird/x.default/Mail/Local Folders/Sent", "wont-open", ("--document", "survey"), part=True),
    "a draft that was deleted": Case(
        {f"{LIN}/.thunderbird/x.default/Mail/Local Folders/Drafts": (mbox(("To the insurer", "", MORE.encode(), True)), 0)},
        None, f"{LIN}/.thunderbird/x.default/Mail/Local Folders/Drafts", "deleted", part=True),
    "text typed into a page": Case(
        {f"{FIREFOX}/recovery.jsonlz4": (session(MORE), 60), f"{FIREFOX}/previous.jsonlz4": (session(MORE), 0)},
        None, f"{FIREFOX}/recovery.jsonlz4", "never-saved", text=MORE, part=True),
    "unsaved document of a macOS program": Case(
        {f"{MAC}/Library/Containers/com.apple.TextEdit/Data/Library/Autosave Information/Unsaved TextEdit Document 2.txt": (MORE, 60), f"{MAC}/Documents/x": ("", 0)},
        None, f"{MAC}/Library/Containers/com.apple.TextEdit/Data/Library/Autosave Information/Unsaved TextEdit Document 2.txt", "never-saved"),
    "being saved on macOS": Case(
        {f"{MAC}/Documents/plan.docx": (docx(BASE), 0), f"{MAC}/Library/x": ("", 0),
         "private/var/folders/ab/cd/T/TemporaryItems/(A Document Being Saved By WordX 2)/plan.docx": (docx(MORE), 60)},
        f"{MAC}/Documents/plan.docx", "private/var/folders/ab/cd/T/TemporaryItems/(A Document Being Saved By WordX 2)/plan.docx"),
    "older versions of macOS": Case(
        {f"{MAC}/Library/x": ("", 0), f"{MAC}/Documents/x": ("", 0), "System/x": ("", 0),
         ".DocumentRevisions-V100/db-V1/db.sqlite": (revisions("/Users/plund/Documents/plan.docx", f"/PerUID/501/7/com.apple.documentVersions/{GUID.upper()}.docx"), 0),
         f".DocumentRevisions-V100/PerUID/501/7/com.apple.documentVersions/{GUID.upper()}.docx": (docx(MORE), -500)},
        f"{MAC}/Documents/plan.docx", f".DocumentRevisions-V100/PerUID/501/7/com.apple.documentVersions/{GUID.upper()}.docx", "deleted"),
    "snapshot, the file was written over": Case(
        {f"{LIN}/.config/x": ("", 0), f"{LIN}/Documents/plan.docx": (docx("nothing of it"), 0), f"{LIN}/Documents/other.docx": (docx(BASE), 0),
         "home/.snapshots/12/snapshot/ines/Documents/plan.docx": (docx(MORE), -900),
         "home/.snapshots/12/snapshot/ines/Documents/other.docx": (docx(BASE), 0)},
        f"{LIN}/Documents/plan.docx", "home/.snapshots/12/snapshot/ines/Documents/plan.docx", "overwritten"),
    "snapshot of a share, the file is gone": Case(
        {"share/plans/x.docx": (docx("x y z w"), 0), "share/@GMT-2026.03.12-16.00.00/plans/plan.docx": (docx(MORE), -900)},
        "share/plans/plan.docx", "share/@GMT-2026.03.12-16.00.00/plans/plan.docx", "deleted"),
    "trash of network storage": Case(
        {"share/plans/x.docx": (docx("x y z w"), 0), "share/#recycle/plans/plan.docx": (docx(MORE), -900)},
        "share/plans/plan.docx", "share/#recycle/plans/plan.docx", "deleted"),
    "only the old system has it": Case(
        {f"{ROAMING}/x": ("", 0), f"{WIN}/Documents/x.docx": (docx("x y z w"), 0), "Windows.old/Users/ivarga/Documents/plan.docx": (docx(MORE), -900)},
        f"{WIN}/Documents/plan.docx", "Windows.old/Users/ivarga/Documents/plan.docx", "deleted"),
    "backup folder with a date": Case(
        {f"{LIN}/.config/x": ("", 0), f"{LIN}/Documents/plan.docx": (docx("nothing of it"), 0), f"{LIN}/Backups/2026-03-12/Documents/plan.docx": (docx(MORE), -900)},
        f"{LIN}/Documents/plan.docx", f"{LIN}/Backups/2026-03-12/Documents/plan.docx", "overwritten"),
    "an old system in another language": Case(
        {"Documents and Settings/plund/Eigene Dateien/plan.docx": (docx(BASE), 0), "Documents and Settings/plund/Eigene Dateien/._plan.docx": ("x", 0),
         "Documents and Settings/plund/Anwendungsdaten/Microsoft/Word/AutoWiederherstellen-Speicherung von plan.asd": (docx(MORE), 60)},
        "Documents and Settings/plund/Eigene Dateien/plan.docx",
        "Documents and Settings/plund/Anwendungsdaten/Microsoft/Word/AutoWiederherstellen-Speicherung von plan.asd"),
    "set aside by a sync service": Case(
        {f"{WIN}/Drop/.dropbox.cache/2026-03-12/plan (deleted 3e8dad91c845).docx": (docx(MORE), -90), f"{WIN}/Drop/plan.docx": (docx("nothing of it"), 0)},
        f"{WIN}/Drop/plan.docx", f"{WIN}/Drop/.dropbox.cache/2026-03-12/plan (deleted 3e8dad91c845).docx", "overwritten"),
    "conflict copy with the machine's name": Case(
        {f"{WIN}/Documents/plan.docx": (docx(BASE)[:300], 0), f"{WIN}/Documents/plan-MQB-PC03.docx": (docx(MORE), 60), f"{WORD}/x": ("", 0)},
        f"{WIN}/Documents/plan.docx", f"{WIN}/Documents/plan-MQB-PC03.docx", "wont-open"),
    "lock of a drawing that is gone": Case(
        {f"{WIN}/Plans/slip.dwl": ("Ines Varga\nMQB-PC03\nThursday, March 12, 2026  4:38:00 PM\n", 0), f"{WORD}/x": ("", 0)},
        f"{WIN}/Plans/slip.dwg", None, "deleted"),
    "autosave of a painting": Case(
        {f"{LIN}/.config/x": ("", 0), f"{LIN}/art/a.fig": (BASE, 0), f"{LIN}/art/SAVE.fig": (MORE, 60)},
        f"{LIN}/art/a.fig", f"{LIN}/art/SAVE.fig"),
    "unsaved recording of a player": Case(
        {f"{MAC}/Documents/x": ("", 0), f"{MAC}/Library/Containers/com.apple.QuickTimePlayerX/Data/Library/Autosave Information/"
         "Unsaved QuickTime Player Document.qtpxcomposition/notes.txt": (MORE, 60)},
        None, f"{MAC}/Library/Containers/com.apple.QuickTimePlayerX/Data/Library/Autosave Information/"
        "Unsaved QuickTime Player Document.qtpxcomposition", "never-saved"),
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(CASES))
def test_it_is_found_and_chosen(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    case, root = CASES[name], tmp_path / "d"
    for path, (data, after) in case.files.items():
        write(root / path, data, T0 + after)
    for person, sign in ((WIN, "AppData"), (MAC, "Library"), (LIN, ".config")):
        if any(path.startswith(person + "/") for path in case.files):
            (root / person / sign).mkdir(parents=True, exist_ok=True)
    answer = rustfern("scan", root, *case.hints, "--json").json
    wanted = str(root / case.original) if case.original else None
    best = str(root / case.best) if case.best else None
    mine = [
        d for d in answer["documents"] if d["original"] == wanted and (wanted or (best_of(d) or {}).get("path") == best)
    ]
    assert len(mine) == 1, [(d["name"], d["original"], d["situation"]) for d in answer["documents"]] + answer[
        "problems"
    ]
    document = mine[0]
    chosen = best_of(document)
    assert document["situation"] == case.situation, document["copies"]
    if best:
        assert chosen and chosen["path"] == best and chosen["state"] == "intact", document["copies"]
        assert bool(chosen["part"]) == case.part
        run = rustfern("restore", chosen["id"], "--to", tmp_path / "out", "--json")
        assert run.json["restored"], run.err
        target = Path(run.json["restored"][0]["to"])
        if case.text:
            assert target.read_bytes().decode() == case.text
    assert not case.warning or any(case.warning in text for text in document["warnings"]), document["warnings"]


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
