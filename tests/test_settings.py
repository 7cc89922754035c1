"""Settings readers, small traces and lists: what each form says, and that no bytes bring out anything but the documented error."""

from __future__ import annotations

import io
import json
import plistlib
import struct
from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from made_traces import editor_tab as tab_bytes
from made_traces import mbox, session, shell_link

from rustfern.core.errors import Malformed
from rustfern.core.model import Home, Layout
from rustfern.settings.interface import SettingsFile, chosen
from rustfern.settings.read import Settings, expand
from rustfern.settings.readers.editors import emacs_values, nano_values, vim_values
from rustfern.settings.readers.files import (
    ini_values,
    json_values,
    line_values,
    link_values,
    plist_values,
    xbel_values,
    xcu_values,
    xml_values,
)
from rustfern.settings.readers.windows_registry import text_values, values
from rustfern.traces import browser_session, code_unsaved, editor_tab, kept_lists, mail_store, program_locks
from rustfern.traces import shell_link as links


def said(reader: Callable[[SettingsFile], Any], data: bytes | str, *keys: str) -> list[tuple[str, str, object]]:
    raw = data.encode() if isinstance(data, str) else data
    return [(v.key, v.name, v.value) for v in reader(SettingsFile(io.BytesIO(raw), len(raw), "x", keys))]


VIM = """" a remark
set directory=~/.keep//,.,/var/tmp//
se nocp bdir=~/a\\ b noswapfile
let &undodir = expand('~/.undo')
vim.opt.directory = "~/.nv/swap//"
vim.o.number = true
"""


def test_settings_of_editors() -> None:
    assert [(n, v) for _, n, v in said(vim_values, VIM)] == [
        ("directory", "~/.keep"), ("directory", "/var/tmp"), ("cp", False), ("swapfile", False), ("backupdir", "~/a b"),
        ("undodir", "~/.undo"), ("directory", "~/.nv/swap"), ("number", True),
    ]  # fmt: skip
    emacs = """
    ;; (setq backup-directory-alist '(("." . "~/never")))
    (setq auto-save-file-name-transforms `((".*" ,(concat user-emacs-directory "autosaves/") t)))
    (setq backup-directory-alist '(("." . "~/bak (1)")) version-control t)
    (custom-set-variables '(auto-save-list-file-prefix "~/.lists/.saves-"))
    (setq auto-save-default nil)
    """
    assert {(n, v) for _, n, v in said(emacs_values, emacs)} == {
        ("auto-save-default", False), ("version-control", True), ("auto-save-file-name-transforms", "~/.emacs.d/autosaves/"),
        ("backup-directory-alist", "~/bak (1)"), ("auto-save-list-file-prefix", "~/.lists/.saves-"),
    }  # fmt: skip
    assert said(nano_values, 'set backup\n# set locking\nset backupdir "~/n b"\n') == [
        ("set", "backup", True),
        ("set", "backupdir", "~/n b"),
    ]


def test_settings_in_common_forms() -> None:
    assert said(ini_values, 'export TMPDIR="/scratch"\n[A]\n;no=1\nURL[$e]=file:$HOME/x\n') == [
        ("", "TMPDIR", "/scratch"),
        ("A", "URL", "file:$HOME/x"),
    ]
    assert said(line_values, "Europe/London\n[recent files]\n/home/a.lyx\n") == [
        ("", "line", "Europe/London"),
        ("recent files", "line", "/home/a.lyx"),
    ]
    assert said(json_values, '{"a": {"b": ["x", 1,]}, // why\n "c.d": "http://x"}') == [
        ("", "c.d", "http://x"),
        ("a", "b", "x"),
        ("a", "b", 1),
    ]
    assert said(plist_values, plistlib.dumps({"location": "/x", "n": {"d": 5}}, fmt=plistlib.FMT_BINARY)) == [
        ("n", "d", 5),
        ("", "location", "/x"),
    ]
    assert said(xml_values, '<a><b c="1">two</b></a>') == [("a/b", "c", "1"), ("a/b", "", "two")]
    xbel = '<xbel><bookmark href="file:///a%20b" visited="2026-03-12T16:40:00Z"/></xbel>'
    assert said(xbel_values, xbel) == [("bookmark", "href", "file:///a%20b")]
    xcu = '<items xmlns:oor="x"><item oor:path="/P"><node oor:name="N"><prop oor:name="Q"><value>v</value></prop></node></item></items>'
    assert said(xcu_values, xcu) == [("/P/N", "Q", "v")]
    assert said(link_values, shell_link("C:\\a\\b.docx")) == [
        ("link", "target", "C:\\a\\b.docx"),
        ("link", "volume", "a removable disk"),
    ]
    reg = 'REGEDIT4\n\n[HKEY_USERS\\S-1-5-21\\Soft\\X]\n"P"="C:\\\\a \\"b\\""\n"N"=dword:0000000f\n@="d"\n"M"=hex:01,\\\n  02\n"B"=hex:zz\n'
    assert said(text_values, reg) == [
        ("Soft\\X", "P", 'C:\\a "b"'),
        ("Soft\\X", "N", 15),
        ("Soft\\X", "", "d"),
        ("Soft\\X", "M", b"\1\2"),
    ]


def test_values_are_chosen_by_key_and_name() -> None:
    reader = list(
        text_values(
            SettingsFile(io.BytesIO(b'REGEDIT4\n[A\\16.0\\W\\Options]\n"Auto-Path"="1"\n"Other"="2"\n'), 99, "x", ())
        )
    )
    assert [v.value for v in chosen(reader, "a\\*\\w\\options", "AUTO-PATH|x")] == ["1"]
    assert not list(chosen(reader, "a\\*\\v\\options", ""))


WINDOWS = Home("/d/Users/ines", Layout.WINDOWS, "ines", "/d", "/d")
LINUX = Home("/d/home/ines", Layout.LINUX, "ines", "/d", "/d")


@pytest.mark.parametrize(
    ("text", "home", "file", "wanted"),
    [
        ("%USERPROFILE%\\x", WINDOWS, "", "C:\\Users\\ines\\x"),
        ("%APPDATA%\\x", WINDOWS, "", "C:\\Users\\ines\\AppData\\Roaming\\x"),
        ("%ELSEWHERE%\\x", WINDOWS, "", "%ELSEWHERE%\\x"),
        ("$(home)/x", LINUX, "", "/home/ines/x"),
        ("$HOME/x", LINUX, "", "/home/ines/x"),
        ("~/x", LINUX, "", "/home/ines/x"),
        ("$(userurl)/backup", LINUX, "/d/home/ines/.config/o/4/user/r.xcu", "/home/ines/.config/o/4/user/backup"),
        ("/plain", LINUX, "", "/plain"),
        ("~/x", None, "", "~/x"),
    ],
)
def test_variables_are_filled_in(text: str, home: Home | None, file: str, wanted: str) -> None:
    assert expand(text, home, Settings(), file) == wanted


READERS: dict[str, tuple[Callable[[SettingsFile], Any], bytes]] = {
    "vim": (vim_values, VIM.encode()),
    "emacs": (emacs_values, b'(setq backup-directory-alist (quote (("." . "~/x"))))'),
    "nano": (nano_values, b"set backupdir ~/x\n"),
    "ini": (ini_values, b"[a]\nb=c\n"),
    "lines": (line_values, b"[a]\nb\n"),
    "json": (json_values, b'{"a": [1, {"b": "c"}]}'),
    "plist": (plist_values, plistlib.dumps({"a": [b"x", {"b": 1}]}, fmt=plistlib.FMT_BINARY)),
    "xml": (xml_values, b"<a b='c'>d<e/></a>"),
    "xcu": (xcu_values, b"<i><item><node><prop><value>x</value></prop></node></item></i>"),
    "xbel": (xbel_values, b"<x><bookmark href='a' visited='2026-01-01T00:00:00Z'/></x>"),
    "link": (link_values, shell_link("C:\\a\\b.docx")),
    "registry text": (text_values, b'REGEDIT4\n[HKEY_CURRENT_USER\\A]\n"b"="c"\n'),
    "registry": (values, b"regf" + bytes(4092) + b"hbin" + bytes(200)),
}
PARSERS: dict[str, tuple[Callable[[bytes], object], bytes]] = {
    "tab": (editor_tab.parse, tab_bytes("C:\\a.txt", "one two", " three")),
    "unsaved": (code_unsaved.parse, b'file:///a {"mtime": 1}\ntext'),
    "session": (browser_session.parse, session("typed into a form " * 5)),
    "kate": (kept_lists.kate_session, b"[Document 0]\nURL=\nstashedFile=/x\n"),
    "mapping": (kept_lists.focuswriter_mapping, b"fw_a /x\n"),
    "editor session": (kept_lists.notepadpp_session, b'<N><File filename="C:\\a" backupFilePath="C:\\b"/></N>'),
    "history": (kept_lists.code_history, json.dumps({"resource": "file:///a", "entries": [{"id": "b", "timestamp": 9}]}).encode()),
    "drawing lock": (program_locks.parse_drawing, b"Ines\nDESK\n2026-03-12 16:40:00\n"),
    "database lock": (program_locks.parse_database, b"DESK".ljust(32, b"\0") + b"ines".ljust(32, b"\0")),
    "link": (links.parse, shell_link("C:\\a\\b.docx")),
    "mails": (lambda data: [mail_store.attachments(mail_store.read(io.BytesIO(data), m)) for m in mail_store.mails(io.BytesIO(data))], mbox(("S", "a.txt", b"x", True))),
}  # fmt: skip


@settings(max_examples=250)
@given(st.sampled_from(sorted(PARSERS)), st.data())
def test_traces_raise_only_what_they_document(name: str, data: st.DataObject) -> None:
    parse, sample = PARSERS[name]
    hurt = _hurt(sample, data)
    try:
        parse(hurt)
    except Malformed as error:
        assert str(error)


@settings(max_examples=250)
@given(st.sampled_from(sorted(READERS)), st.data())
def test_settings_raise_only_what_they_document(name: str, data: st.DataObject) -> None:
    reader, sample = READERS[name]
    hurt = _hurt(sample, data)
    try:
        list(reader(SettingsFile(io.BytesIO(hurt), len(hurt), "x", ("Environment", "Software\\*"))))
    except Malformed as error:
        assert str(error)


def _hurt(sample: bytes, data: st.DataObject) -> bytes:
    body = bytearray(sample)
    for _ in range(data.draw(st.integers(0, 4))):
        at = data.draw(st.integers(0, len(body)))
        body[at : at + data.draw(st.integers(0, 30))] = data.draw(st.binary(max_size=20))
    return bytes(body)


def test_a_packed_session_with_repetitions() -> None:
    """LZ4 copies from what came before, also from what it is just writing."""
    plain = b'{"windows": [{"tabs": []}]}' + b" " * 300
    start = plain[:28]
    length = len(plain) - 28
    block = bytes([15 << 4 | 15, 28 - 15]) + start + struct.pack("<H", 1) + b"\xff" + bytes([length - 4 - 15 - 255])
    packed = b"mozLz40\0" + struct.pack("<I", len(plain)) + block
    assert browser_session.unpack(packed) == plain and browser_session.parse(packed) == []
    for hurt in (
        packed[:-1],
        packed[:12] + b"\xf0",
        packed.replace(struct.pack("<H", 1) + b"\xff", struct.pack("<H", 900) + b"\xff"),
    ):
        with pytest.raises(Malformed):
            browser_session.unpack(hurt)


def test_lists_and_locks_say_what_they_hold() -> None:
    history = kept_lists.code_history(PARSERS["history"][1])
    assert (history[0].original, history[0].copy, history[0].when and history[0].when.year) == ("file:///a", "b", 1970)
    npp = kept_lists.notepadpp_session(
        b'<N><File filename="new 3" backupFilePath="C:\\b\\new 3@x"/><File filename="C:\\a.txt" backupFilePath=""/></N>'
    )
    assert [(k.original, k.title) for k in npp] == [("", "new 3")]
    lock = program_locks.parse_drawing(
        "\ufeff<x><username>ines</username><machinename>D</machinename></x>".encode("utf-16")
    )
    assert (lock.owner, lock.host) == ("ines", "D")
    mails = list(mail_store.mails(io.BytesIO(mbox(("One", "", b"x", False), ("Two", "a.odt", b"y", True)))))
    assert [(m.deleted, m.may_carry) for m in mails] == [(False, False), (True, True)]
    wide = bytearray(shell_link("C:\\a.txt"))
    assert links.parse(bytes(wide)).written is not None and links.parse(bytes(wide)).size == 9
