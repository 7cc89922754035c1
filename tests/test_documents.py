"""Documents of many producers, whole and damaged, of known state; and what legacy binaries and flat files hold."""

from __future__ import annotations

import gzip
import io
import json
import sqlite3
import struct
from pathlib import Path

import pytest
from conftest import packed, read
from hypothesis import given, settings
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.core.model import State
from rustfern.formats import format_table, holes, paged_bytes
from rustfern.formats import registry as formats
from rustfern.formats.office import compound_file, xls
from rustfern.formats.text_sink import TextSink

KNOWN = packed("documents.tar.xz")
MANIFEST = {row["path"]: row for row in json.loads(KNOWN["manifest.json"])}
OFFICE = packed("office.tar.xz")


@pytest.mark.parametrize("path", sorted(MANIFEST))
def test_documents_of_known_state(path: str) -> None:
    truth, name = MANIFEST[path], path.split("/")[-1]
    content = formats.check(io.BytesIO(KNOWN[path]), name)
    assert content.state in truth["expect_state"], (truth["damage"], content.reason)
    if "intact" in truth["expect_state"]:
        assert content.format == truth["format"]
        assert format_table.extension_right(name, content.format) is not False


@pytest.mark.parametrize(
    ("name", "lines", "amounts"),
    [
        ("launch.ppt", ["Open day", "draft", "Stalls", "Chandlery", "Tea tent"], {"slides": 2, "words": 7}),
        (
            "launch.odp",
            ["Open day", "draft", "Stalls", "Chandlery", "Tea tent"],
            {"slides": 2, "words": 7, "paragraphs": 5},
        ),
        ("dues.xls", ["Mooring dues", "Merganser", "120.5", "Sandpiper", "88"], {"cells": 5, "words": 6}),
    ],
)
def test_what_legacy_and_open_formats_hold(name: str, lines: list[str], amounts: dict[str, int]) -> None:
    content, kept = read(io.BytesIO(OFFICE[name]), name, 10_000)
    assert (content.state, content.format, kept, content.amounts) == (State.INTACT, name[-3:], lines, amounts)


def test_flat_odf() -> None:
    data = OFFICE["tide-notes.fodt"]
    content, kept = read(io.BytesIO(data), "tide-notes.fodt", 10_000)
    assert (content.format, content.state, content.words) == ("fodt", State.INTACT, 46)
    assert kept[0] == "Tide table notes, Marlow Quay" and content.glance.modified_local is not None
    assert formats.check(io.BytesIO(data[: len(data) * 6 // 10]), "tide-notes.fodt").state is State.DAMAGED


def workbook() -> bytes:
    data = OFFICE["dues.xls"]
    stream = compound_file.Compound(io.BytesIO(data), len(data)).read("Workbook")
    assert stream is not None
    return stream


@pytest.mark.parametrize(
    ("hurt", "said"),
    [
        (lambda d: d[: len(d) // 2], "reaches beyond|stops before"),
        (lambda d: b"\x09\x10" + d[2:], "does not begin"),
        (lambda d: d[:-4], "reaches beyond|stops before"),
        (lambda d: d[:2] + b"\xff\xff" + d[4:], "reaches beyond"),
    ],
)
def test_workbook_records_that_break(hurt: object, said: str) -> None:
    assert callable(hurt)
    with pytest.raises(Malformed, match=said):
        xls.read(hurt(workbook()), TextSink(), {})


def test_the_name_of_who_saved_a_workbook_may_be_written_in_any_way() -> None:
    stream = workbook()
    at = stream.index(b"\x5c\0\x70\0")
    text = "Marlow Quay".encode("utf-16-le")
    odd = stream[: at + 4] + text.ljust(0x70, b" ") + stream[at + 4 + 0x70 :]
    told: list[dict[str, int]] = [{}, {}]
    assert [xls.read(each, TextSink(), amounts) for each, amounts in zip((stream, odd), told, strict=True)] == [
        "read",
        "read",
    ]
    assert told[0] == told[1] and told[0]["cells"] == 5


@pytest.mark.parametrize("name", ["dues.xls", "launch.ppt"])
def test_streams_that_are_held_by_pages_only(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The same of each stream, and the same verdict, where it is too long to be held."""
    data = OFFICE[name]
    known = compound_file.Compound(io.BytesIO(data), len(data))
    whole = formats.check(io.BytesIO(data), name)
    monkeypatch.setattr(paged_bytes, "HELD", 100)
    compound = compound_file.Compound(io.BytesIO(data), len(data))
    for path in compound.paths:
        held = compound.data(path)
        assert held[0 : len(held)] == (known.read(path) or b"") == (compound.read(path) or b"")
        assert len(held) == (compound.size(path) or 0)
    assert formats.check(io.BytesIO(data), name) == whole


@given(st.lists(st.tuples(st.sampled_from([0, 1]), st.integers(1, 5), st.sampled_from([1, 511, 512])), max_size=12))
def test_a_lost_sector_is_found_in_pages_too(runs: list[tuple[int, int, int]]) -> None:
    data = b"".join(bytes((value,)) * (count * unit) for value, count, unit in runs)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(holes, "_WINDOW", 1024)
        assert holes.lost_sector(paged_bytes.Paged(io.BytesIO(data), len(data))) == holes.lost_sector(data)


def test_more_cells_than_are_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(xls, "_MAX_IN_SHEET", 3)
    content = formats.check(io.BytesIO(OFFICE["dues.xls"]), "dues.xls")
    assert (content.state, content.words, content.amounts["cells"]) == (State.INTACT, None, 5)


def test_a_workbook_with_a_password() -> None:
    data = workbook()
    length = struct.unpack_from("<H", data, 2)[0]
    locked = data[: 4 + length] + struct.pack("<HH", 0x002F, 6) + bytes(6) + data[4 + length :]
    assert xls.read(locked, TextSink(), {}) == "encrypted"


@given(st.integers(0, 600_000), st.binary(min_size=1, max_size=700))
@settings(max_examples=40)
def test_mutated_presentations_get_a_verdict(at: int, what: bytes) -> None:
    hurt = bytearray(OFFICE["launch.ppt"])
    hurt[at : at + len(what)] = what
    assert formats.check(io.BytesIO(bytes(hurt)), "launch.ppt").state in (
        State.INTACT,
        State.DAMAGED,
        State.ENCRYPTED,
        State.UNREADABLE,
    )


@pytest.mark.parametrize("share", [0.1, 0.5, 0.9, 0.99])
@pytest.mark.parametrize("name", ["launch.ppt", "dues.xls", "launch.odp"])
def test_cut_documents(name: str, share: float) -> None:
    data = OFFICE[name]
    content = formats.check(io.BytesIO(data[: int(len(data) * share)]), name)
    whole = formats.check(io.BytesIO(data), name)
    assert content.state is State.DAMAGED or content.text_hash == whole.text_hash, content.reason


def test_properties_of_a_compound_file() -> None:
    glance = formats.glance(io.BytesIO(OFFICE["dues.xls"]), "dues.xls")
    assert glance.format == "xls"
    assert compound_file.properties(b"") == {} and compound_file.properties(b"\xff" * 90) == {}


@given(st.binary(max_size=300))
def test_any_property_set(data: bytes) -> None:
    assert isinstance(compound_file.properties(data), dict)


HEADER_WOUNDS = {
    "sector size": (30, b"\x07\x00"),
    "byte order": (28, b"\xff\xfe"),
    "fat count": (44, b"\xff\xff\xff\x00"),
    "directory beyond the end": (48, b"\xff\xff\x00\x00"),
    "first fat sector beyond the end": (76, b"\x00\xff\xff\x00"),
    "mini fat lost": (60, b"\xfe\xff\xff\xff\x01\x00\x00\x00"),
}


@pytest.mark.parametrize("wound", sorted(HEADER_WOUNDS))
def test_compound_headers_that_lie(wound: str) -> None:
    at, what = HEADER_WOUNDS[wound]
    hurt = bytearray(OFFICE["launch.ppt" if wound != "mini fat lost" else "dues.xls"])
    hurt[at : at + len(what)] = what
    assert formats.check(io.BytesIO(bytes(hurt)), "a.ppt").state is State.DAMAGED


def database(tmp_path: Path) -> bytes:
    with sqlite3.connect(tmp_path / "a.db") as db:
        db.execute("CREATE TABLE node (name TEXT, txt TEXT, number INTEGER)")
        db.executemany(
            "INSERT INTO node VALUES (?, ?, ?)", [(f"day {n}", f"garboard seam {n} payed", n) for n in range(400)]
        )
    db.close()
    return (tmp_path / "a.db").read_bytes()


def test_databases(tmp_path: Path) -> None:
    data = database(tmp_path)
    content, lines = read(io.BytesIO(data), "log.ctb", 1000)
    assert (content.format, content.state, content.amounts["rows"]) == (
        "sqlite",
        State.INTACT,
        400,
    ) and "garboard seam 0 payed" in lines
    for hurt in (
        data[: len(data) // 2],
        data[:90],
        data[:4096] + bytes(4096) + data[8192:],
        data[:16] + b"\0\3" + data[18:],
    ):
        assert formats.check(io.BytesIO(hurt), "log.ctb").state is State.DAMAGED


XOPP = '<?xml version="1.0"?><xournal><page><layer><text font="Sans">ribs four\nand five cracked</text></layer></page></xournal>'
ABW = '<?xml version="1.0"?><abiword xmlns="http://www.abisource.com/awml.dtd"><section><p>visitors <c>sign</c> in</p></section></abiword>'


@pytest.mark.parametrize(
    ("data", "name", "expected"),
    [
        (gzip.compress(XOPP.encode(), mtime=0), "a.xopp", ("xopp", State.INTACT, 5)),
        (gzip.compress(XOPP.encode(), mtime=0)[:-9], "a.xopp", ("xopp", State.DAMAGED, None)),
        (gzip.compress(XOPP.encode(), mtime=0) + bytes(512), "a.xopp", ("xopp", State.INTACT, 5)),
        (gzip.compress(XOPP.encode(), mtime=0) + b"junk", "a.xopp", ("xopp", State.INTACT, 5)),
        (gzip.compress(XOPP[:60].encode(), mtime=0), "a.xopp", ("xopp", State.DAMAGED, None)),
        (ABW.encode(), "a.rtf.bak~", ("abw", State.INTACT, 3)),
        (ABW[:90].encode(), "a.abw", ("abw", State.DAMAGED, None)),
        (gzip.compress(b"a log", mtime=0), "a.log.gz", ("gz", State.INTACT, None)),
        (b"RIFF\x10\0\0\0CDRDvrsn\4\0\0\0abcd", "a.cdr", ("cdr", State.INTACT, None)),
        (b"RIFF\xff\0\0\0CDRDvrsn\4\0\0\0abcd", "a.cdr", ("cdr", State.DAMAGED, None)),
        (b"RIFF\x10\0\0\0CDRDvrsn\x40\0\0\0abcd", "a.cdr", ("cdr", State.DAMAGED, None)),
    ],
)
def test_markup_and_drawings(data: bytes, name: str, expected: tuple[str, State, int | None]) -> None:
    content = formats.check(io.BytesIO(data), name)
    assert (content.format, content.state) == expected[:2], content.reason
    assert expected[2] is None or content.words == expected[2]
