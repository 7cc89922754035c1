"""ZIP packages that are unusual but valid, and packages that lie; what a source opens and what it never opens."""

from __future__ import annotations

import io
import os
import struct
import zipfile
from pathlib import Path

import pytest
from conftest import docx, odt, package, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.core.errors import Malformed, RustFernError, SourceError
from rustfern.core.model import Content, State
from rustfern.core.paths import show_name
from rustfern.core.times import utc
from rustfern.formats import registry as formats
from rustfern.formats.archives.zip import Archive
from rustfern.formats.interface import DEFAULT_LIMITS
from rustfern.sources import live_machine
from rustfern.sources.folder import FolderSource


def check(data: bytes, name: str = "a.docx") -> Content:
    return formats.check(io.BytesIO(data), name)


def streamed(parts: dict[str, str]) -> bytes:
    """A package written to a pipe: sizes and sums come behind each member."""

    class Pipe(io.RawIOBase):
        def __init__(self) -> None:
            self.data = bytearray()

        def writable(self) -> bool:
            return True

        def write(self, data: object) -> int:
            self.data += bytes(data)  # type: ignore[call-overload]
            return len(bytes(data))  # type: ignore[call-overload]

    pipe = Pipe()
    with zipfile.ZipFile(pipe, "w", zipfile.ZIP_DEFLATED) as target:  # type: ignore[call-overload]
        for name, data in parts.items():
            target.writestr(name, data)
    return bytes(pipe.data)


def parts_of(data: bytes) -> dict[str, str]:
    with zipfile.ZipFile(io.BytesIO(data)) as source:
        return {name: source.read(name).decode() for name in source.namelist()}


def zip64(data: bytes) -> bytes:
    """The same package with a zip64 end record."""
    at = data.rindex(b"PK\x05\x06")
    total, length, start = struct.unpack_from("<HII", data, at + 10)
    record = struct.pack("<4sQHHIIQQQQ", b"PK\x06\x06", 44, 45, 45, 0, 0, total, total, length, start)
    locator = struct.pack("<4sIQI", b"PK\x06\x07", 0, at, 1)
    end = struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, 0xFFFF, 0xFFFF, 0xFFFFFFFF, 0xFFFFFFFF, 0)
    return data[:at] + record + locator + end


def with_nothing_packed(data: bytes) -> bytes:
    """The same package, whose empty part has not even the end mark that packed bytes end with."""
    out = io.BytesIO(data)
    with zipfile.ZipFile(out, "a", zipfile.ZIP_STORED) as target:
        target.writestr("docProps/thumbnail.wmf", b"")
        at = target.getinfo("docProps/thumbnail.wmf").header_offset
    made = bytearray(out.getvalue())
    for place in (at + 8, made.rindex(b"docProps/thumbnail.wmf") - 46 + 10):
        made[place] = 8
    return bytes(made)


PLAIN = docx("garboard seam", "frame seven")
UNUSUAL = {
    "with a comment": PLAIN[:-2] + struct.pack("<H", 9) + b"a comment",
    "with a comment that looks like an end": PLAIN[:-2] + struct.pack("<H", 8) + b"PK\x05\x06abcd",
    "with bytes in front": b"#!/bin/sh\nexit 0\n" + PLAIN,
    "streamed": streamed(parts_of(PLAIN)),
    "zip64": zip64(PLAIN),
    "an empty part without an end mark": with_nothing_packed(docx("garboard seam", "frame seven", extra={"docProps/a.xml": "<a/>"})),
    "zip64 with bytes behind": zip64(PLAIN) + b"appended",
    "content types last": package(dict(sorted(parts_of(PLAIN).items(), reverse=True))),
    "with an external relationship": docx(
        "garboard seam", "frame seven",
        extra={"word/_rels/document.xml.rels": '<Relationships xmlns="x"><Relationship Id="1" Type="t" TargetMode="External" '
               'Target="https://example.invalid/x"/><Relationship Id="2" Type="t" Target="#top"/></Relationships>'}),
    "text in UTF-16": package({**parts_of(PLAIN), "word/document.xml": ('<?xml version="1.0" encoding="UTF-16"?>' + parts_of(PLAIN)["word/document.xml"]).encode("utf-16")}),
    "with a folder entry": package({**parts_of(PLAIN), "word/media/": ""}),
}  # fmt: skip


@pytest.mark.parametrize("kind", sorted(UNUSUAL))
def test_unusual_but_valid_packages(kind: str) -> None:
    content = check(UNUSUAL[kind])
    assert (content.state, content.format, content.words) == (State.INTACT, "docx", 4), content.reason


def test_odf_with_a_packed_mimetype_is_odf() -> None:
    content = check(package(parts_of(odt("garboard seam"))), "a.odt")
    assert (content.state, content.format, content.words) == (State.INTACT, "odt", 2), content.reason


def renamed(data: bytes, old: bytes, new: bytes, *, last: bool) -> bytes:
    at = data.rindex(old) if last else data.index(old)
    return data[:at] + new + data[at + len(old) :]


LIES = {
    "two names for one member": (renamed(PLAIN, b"word/document.xml", b"word/documenu.xml", last=True), "is missing"),
    "directory count too high": (PLAIN[:-12] + b"\xff\x00" + PLAIN[-10:], "damaged"),
    "directory start moved": (PLAIN[:-6] + struct.pack("<I", 1 << 30) + PLAIN[-2:], "does not fit"),
    "no directory": (PLAIN[: PLAIN.index(b"PK\x01\x02")], "directory of its parts"),
}  # fmt: skip


@pytest.mark.parametrize("kind", sorted(LIES))
def test_packages_that_lie(kind: str) -> None:
    data, said = LIES[kind]
    content = check(data)
    assert content.state is State.DAMAGED and said in content.reason, content.reason


def test_members_that_overlap_are_refused() -> None:
    data = package({"a.bin": b"x" * 200, "b.bin": b"y" * 200}, stored=("a.bin", "b.bin"))
    at = data.index(b"PK\x01\x02") + 20
    hurt = data[:at] + struct.pack("<II", 300, 300) + data[at + 8 :]
    with pytest.raises(Malformed, match="reaches into the next one"):
        Archive(io.BytesIO(hurt), len(hurt), DEFAULT_LIMITS)


@given(st.binary(max_size=400))
def test_any_directory_raises_only_malformed(data: bytes) -> None:
    whole = b"PK\x03\x04" + data + PLAIN[PLAIN.index(b"PK\x01\x02") :]
    try:
        archive = Archive(io.BytesIO(whole), len(whole), DEFAULT_LIMITS)
        for each in archive.members.values():
            list(archive.read(each))
    except Malformed as error:
        assert error.reason


# --- sources --------------------------------------------------------------------------------------------------------


def test_what_a_source_never_opens(tmp_path: Path) -> None:
    source = FolderSource(str(tmp_path))
    os.mkfifo(tmp_path / "pipe")
    os.symlink("/etc/passwd", tmp_path / "link")
    os.symlink("nowhere", tmp_path / "dangling")
    (tmp_path / "folder").mkdir()
    for name in ("pipe", "link", "dangling", "folder"):
        entry = source.entry(str(tmp_path / name))
        with pytest.raises(SourceError):
            source.open(entry).close()
    assert source.entry(str(tmp_path / "dangling")).link_target == "nowhere"
    for missing in ("missing", "a\0b"):
        with pytest.raises(SourceError):
            source.entry(str(tmp_path / missing))


def test_entries_and_private_copies(tmp_path: Path) -> None:
    source = FolderSource(str(tmp_path))
    path = write(tmp_path / "a.txt", "larch", 1_760_000_000)
    entry = source.entry(str(path))
    assert (entry.size, entry.is_file, entry.is_folder, entry.modified) == (5, True, False, utc(1_760_000_000))
    with source.materialise(entry) as copy:
        assert copy.read_bytes() == b"larch" and not str(copy).startswith(str(tmp_path))
    assert not copy.exists() and path.read_bytes() == b"larch"
    assert utc(1e18) is None


def test_what_runs_on_this_machine(tmp_path: Path) -> None:
    held = write(tmp_path / "held.txt", "x")
    with held.open():
        assert live_machine.held_open([str(held)]) == {}, "our own hands do not count"
    assert live_machine.held_open([]) == {} and live_machine.machine_name() and live_machine.local_zone_name()
    assert any("python" in name or "pytest" in name for name in live_machine.running_programs())
    assert live_machine.now().tzinfo is not None


@given(st.text(max_size=50))
def test_shown_names_hold_nothing_that_steers_a_terminal(name: str) -> None:
    shown = show_name(name)
    assert all(ch.isprintable() or ch == "\u200d" for ch in shown)


def test_errors_say_what_where_and_what_next() -> None:
    error = RustFernError("it cannot be read", "/d/new\nline", "Ask for the right")
    assert str(error) == "it cannot be read: /d/new\\nline. Ask for the right"
    assert str(Malformed("cut off", 12)) == "cut off (byte 12)"
