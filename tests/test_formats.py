"""Formats: identified by content, described, checked to the end; whatever the bytes, a verdict and no other error."""

from __future__ import annotations

import gzip
import io
import random
import struct
import zipfile
import zlib

import pytest
from conftest import DATA, ODF_SPACES, docx, member, odt, package, read
from hypothesis import given, settings
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.core.model import Content, State
from rustfern.core.times import filetime, iso, to_utc
from rustfern.formats import format_table
from rustfern.formats import registry as formats
from rustfern.formats.archives import zip as archive
from rustfern.formats.interface import DEFAULT_LIMITS, Limits
from rustfern.formats.office import compound_file, xlsb
from rustfern.formats.office.odf import cell_value
from rustfern.formats.text.encodings import by_decoding
from rustfern.formats.text_sink import TextSink, number

ODT = member("office-writer-odt-crash", "home/ines/.config/libreoffice/4/user/backup/hull-survey-kittiwake.odt_0.odt")
ODS = member("office-calc-xlsx-crash", "home/tobias/.config/libreoffice/4/user/backup/mooring-dues-2026.xlsx_0.ods")
XLSX = member("office-calc-xlsx-crash", "home/tobias/Documents/Moorings/mooring-dues-2026.xlsx")
DOCX = member("win-text-powercut-cfb", "Users/ivarga/Documents/Surveys/Hull survey Saltmarsh Lass.docx")
DOC = member(
    "win-text-powercut-cfb",
    "Users/ivarga/AppData/Roaming/Microsoft/Word/AutoRecovery save of Hull survey Saltmarsh Lass.asd",
)
XLSB = member(
    "win-sheet-overwritten",
    "Users/ivarga/AppData/Roaming/Microsoft/Excel/Timber%20orders%20spring310714380310390755/"
    "Timber%20orders%20spring((Autosaved-310190569458189392)).xlsb",
)
PPTX = member(
    "win-text-never-saved",
    "Users/plund/AppData/Local/Microsoft/Office/UnsavedFiles/Presentation1((Unsaved-309701031895422602)).pptx",
)
REAL = {"odt": ODT, "ods": ODS, "xlsx": XLSX, "docx": DOCX, "doc": DOC, "xlsb": XLSB, "pptx": PPTX}


def check(data: bytes, name: str = "x.tmp") -> Content:
    return formats.check(io.BytesIO(data), name)


@pytest.mark.parametrize(
    ("kind", "words", "marker"),
    [
        ("odt", 137, "horn timber twenty six per cent"),
        ("ods", 32, "Old Oystercatcher, arrears from autumn"),
        ("xlsx", 19, "Merganser"),
        ("docx", 424, "Garboard replaced to frame fourteen"),
        ("doc", 587, "lead tingle was found hidden"),
        ("xlsb", 1049, "Holloway sawpit"),
        ("pptx", None, None),
    ],
)
def test_real_documents(kind: str, words: int | None, marker: str | None) -> None:
    content, lines = read(io.BytesIO(REAL[kind]), "leftover.tmp", 100_000)
    assert (content.format, content.state) == (kind, State.INTACT), content.reason
    assert words is None or content.words == words
    assert marker is None or marker in " ".join(lines)
    assert content.sha256 and content.amounts["words"] == content.words
    glance = formats.glance(io.BytesIO(REAL[kind]), "leftover.tmp")
    assert glance.format == kind and glance == content.glance


@pytest.mark.parametrize("kind", sorted(REAL))
def test_truncation_is_never_intact(kind: str) -> None:
    data = REAL[kind]
    for percent in (*range(1, 100, 3), 99.9):
        content = check(data[: int(len(data) * percent / 100)])
        # A compound file may lose the unused end of its last sector: nothing of the document is in it.
        slack = kind == "doc" and percent > 99 and content.text_hash == check(data).text_hash
        assert content.state is State.DAMAGED or slack, (percent, content.reason)
        assert content.reason


@pytest.mark.parametrize("kind", sorted(REAL))
def test_zeroed_blocks_are_never_intact(kind: str) -> None:
    data, rng = REAL[kind], random.Random(7)
    for _ in range(25):
        start = rng.randrange(0, max(1, len(data) - 512))
        hurt = bytearray(data)
        hurt[start : start + 512] = bytes(len(hurt[start : start + 512]))
        if bytes(hurt) == data:
            continue
        content = check(bytes(hurt))
        if content.state is State.INTACT:
            # Only where the text itself came through unharmed: slack of a compound file's sectors.
            assert kind == "doc" and content.text_hash == check(data).text_hash


@pytest.mark.parametrize("kind", ["odt", "docx", "xlsx", "xlsb", "pptx", "ods"])
def test_flipped_bits_in_members_are_caught(kind: str) -> None:
    data, rng = REAL[kind], random.Random(3)
    members = archive.Archive(io.BytesIO(data), len(data), DEFAULT_LIMITS).members.values()
    for each in members:
        if each.packed < 8:
            continue
        hurt = bytearray(data)
        at = each.offset + 30 + len(each.raw_name) + rng.randrange(each.packed)
        hurt[at] ^= 0x10
        assert check(bytes(hurt)).state is State.DAMAGED, each.name


@pytest.mark.parametrize(
    ("data", "name", "state", "said"),
    [
        (b"", "a.docx", State.DAMAGED, "zero bytes"),
        (b"", "a.tmp", State.DAMAGED, "zero bytes"),
        (b"", "a.txt", State.EMPTY, "zero bytes"),
        (bytes(5000), "a.docx", State.DAMAGED, "only 0x00"),
        (bytes(5000), "a.txt", State.DAMAGED, "only 0x00"),
        (b"\xff" * 5000, "a.odt", State.DAMAGED, "only 0xFF"),
        (bytes(4096) + ODT, "a.odt", State.DAMAGED, "zeros"),
        (b"\x01\x02\x80\xff" * 50, "a.docx", State.DAMAGED, "not those of docx"),
        (b"\x01\x02\x80\xff" * 50, "a.zzz", State.UNREADABLE, "not known"),
        (b"%PDF-1.4 and so on", "a.pdf", State.DAMAGED, "cut off"),
        (b"\x06\x06\xed\xf5\xd8\x1d\x46\xe5" + bytes(90), "a.indd", State.UNREADABLE, "cannot verify"),
        (ODT.replace(b"\n", b"\r\n"), "a.odt", State.DAMAGED, ""),
        (ODT + bytes(3000), "a.odt", State.INTACT, "3000 bytes stand behind its end"),
        (docx("keel", leave_out=("word/document.xml",)), "a.docx", State.DAMAGED, "word/document.xml"),
        (docx("keel", leave_out=("_rels/.rels",)), "a.docx", State.DAMAGED, "_rels/.rels"),
        (docx("keel & rib <"), "a.docx", State.DAMAGED, "not well-formed"),
        (docx("keel", extra={"word/_rels/document.xml.rels": _r} if (_r := '<Relationships xmlns="x"><Relationship Id="1" '
         'Type="t" Target="media/one.png"/></Relationships>') else {}), "a.docx", State.DAMAGED, "word/media/one.png"),
        (docx("keel", extra={"word/_rels/document.xml.rels": _r.replace("media/one.png", "/x.xml"), "x.xml": '<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>'}), "a.docx", State.UNREADABLE, "entities"),
        (odt("keel", extra={"content.xml": "<a/>"}), "a.odt", State.EMPTY, "blank"),
        (odt(body="<text:p>half"), "a.odt", State.DAMAGED, "content.xml"),
        (package({"mimetype": "application/vnd.oasis.opendocument.text" + " " * 20}), "a.odt", State.DAMAGED, "manifest"),
        (package({"a.txt": "b"}), "a.zip", State.INTACT, "sums of all 1"),
        (b'{"slip": [1, 2', "a.json", State.DAMAGED, "stops before its end"),
        (b'{"slip": [1, 2]} // kept', "a.json", State.INTACT, ""),
        (b"<svg><g>", "a.svg", State.DAMAGED, "not well-formed"),
    ],
)  # fmt: skip
def test_verdicts(data: bytes, name: str, state: State, said: str) -> None:
    content = check(data, name)
    assert (content.state, said in content.reason) == (state, True), content.reason


def test_protected_documents_are_said_to_be() -> None:
    manifest = (
        '<m:manifest xmlns:m="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><m:file-entry m:full-path="content.xml">'
        "<m:encryption-data/></m:file-entry></m:manifest>"
    )
    assert (
        check(odt(extra={"META-INF/manifest.xml": manifest, "content.xml": "\x01\x02 cipher"})).state is State.ENCRYPTED
    )
    hurt = bytearray(DOC)
    at = DOC.find(b"\xec\xa5") + 11
    hurt[at] |= 0x01
    assert check(bytes(hurt)).state is State.ENCRYPTED


@pytest.mark.parametrize(
    ("xml", "cells"),
    [
        (
            '<table:table-cell office:value-type="float" office:value="12.50"><text:p>12,5</text:p></table:table-cell>',
            ["12.5"],
        ),
        (
            '<table:table-cell office:value-type="date" office:date-value="2026-03-12"><text:p>x</text:p></table:table-cell>',
            ["46093"],
        ),
        ('<table:table-cell table:number-columns-repeated="3"><text:p>oak</text:p></table:table-cell>', ["oak"] * 3),
        ('<table:table-cell table:number-columns-repeated="16384"/>', []),
    ],
)
def test_spreadsheet_cells_have_one_form_in_all_formats(xml: str, cells: list[str]) -> None:
    data = odt(kind="spreadsheet", body=f"<table:table><table:table-row>{xml}</table:table-row></table:table>")
    content = formats.check(io.BytesIO(data), "a.ods")
    sink = TextSink()
    for cell in cells:
        sink.add(cell)
    assert content.text_hash == sink.text_hash() and content.format == "ods"


def test_notes_changes_and_comments_are_not_text() -> None:
    body = (
        f"<text:tracked-changes {ODF_SPACES}><text:p>struck out</text:p></text:tracked-changes>"
        "<text:p>plank<office:annotation><text:p>remark</text:p></office:annotation><text:s/>two<text:tab/>three</text:p>"
    )
    content, lines = read(io.BytesIO(odt(body=body)), "a.odt", 1000)
    assert lines == ["plank two three"] and content.words == 3


def test_equal_text_in_runs_and_in_one_piece_is_equal() -> None:
    split = docx("x").replace(b"", b"") and docx("gar</w:t></w:r><w:r><w:t>board seam")
    assert check(split).text_hash == check(docx("garboard seam")).text_hash


@pytest.mark.parametrize(
    ("data", "state", "words"),
    [
        ("Größe & Plätze".encode(), State.INTACT, 2),
        ("Größe & Plätze".encode("cp1252"), State.INTACT, 2),
        ("Größe der Plätze, am Kai".encode("utf-16"), State.INTACT, 5),
        ("Größe der Plätze, am Kai".encode("utf-16-be"), State.INTACT, 5),
        ("\ufeffoak".encode(), State.INTACT, 1),
        ("Größe Plät".encode()[:-1] + b"\xc3", State.DAMAGED, None),
        (b"oak and larch" + bytes(40), State.DAMAGED, None),
        (b"oak\x00\x01\x02\x03\x04\x05\x06\x0e\x0f\x10\x11" * 9, State.UNREADABLE, None),
        (("keel and garboard, frame by frame\n" * 40).encode("utf-16")[:801] + ("keel and garboard, frame by frame\n" * 40).encode("utf-16")[802:], State.DAMAGED, None),
    ],
)  # fmt: skip
def test_text_encodings(data: bytes, state: State, words: int | None) -> None:
    content = check(data, "notes")
    assert content.state is state, content.reason
    assert words is None or content.words == words


@given(
    st.binary(max_size=3000), st.sampled_from(["", "PK\x03\x04", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "{\\rtf", "<?xml"])
)
@settings(max_examples=150)
def test_any_bytes_get_a_verdict(data: bytes, start: str) -> None:
    content = check(start.encode("latin-1") + data, "any.docx")
    assert content.state in State and content.reason


@given(
    st.sampled_from(sorted(REAL)),
    st.lists(st.tuples(st.floats(0, 1), st.binary(min_size=1, max_size=40)), min_size=1, max_size=4),
)
@settings(max_examples=120)
def test_mutated_documents_get_a_verdict(kind: str, wounds: list[tuple[float, bytes]]) -> None:
    hurt = bytearray(REAL[kind])
    for where, what in wounds:
        at = int(where * (len(hurt) - 1))
        hurt[at : at + len(what)] = what
    assert check(bytes(hurt)).state in State


@given(st.binary(max_size=600))
def test_binary_workbook_records(data: bytes) -> None:
    try:
        for kind, body in xlsb.records([data[at : at + 7] for at in range(0, len(data), 7)], "sheet1.bin"):
            assert kind >= 0 and len(body) <= len(data)
    except Malformed as error:
        assert str(error)


@pytest.mark.parametrize(
    ("value", "expected"),
    [(0x3FF00000, 1.0), (0x3FF00001, 0.01), (10 << 2 | 2, 10.0), (0xFFFFFFFE, -1.0), (12345 << 2 | 3, 123.45)],
)
def test_rk_numbers(value: int, expected: float) -> None:
    assert xlsb.rk(value) == pytest.approx(expected)


def test_a_chain_that_loops_is_damage() -> None:
    hurt = bytearray(DOC)
    fat_at = (struct.unpack_from("<I", DOC, 76)[0] + 1) * 512
    for sector in range(128):
        if struct.unpack_from("<I", hurt, fat_at + 4 * sector)[0] < 128:
            struct.pack_into("<I", hurt, fat_at + 4 * sector, sector)
    with pytest.raises(Malformed):
        compound_file.Compound(io.BytesIO(bytes(hurt)), len(hurt))


def test_bounds_on_what_a_package_may_unpack_to() -> None:
    bomb = package({"word/document.xml": b"\0" * (4 << 20)})
    reader = archive.Archive(io.BytesIO(bomb), len(bomb), Limits(ratio=50, large=1 << 20))
    with pytest.raises(Malformed, match="refused"):
        list(reader.read(reader.members["word/document.xml"]))
    with pytest.raises(Malformed, match="more than any document"):
        archive.Archive(io.BytesIO(bomb), len(bomb), Limits(members=0))


def test_salvage_gives_the_text_before_the_cut() -> None:
    data = odt(*[f"plank {n} of larch, sound" for n in range(2000)])
    parts = dict(archive.salvage(io.BytesIO(data[: len(data) // 2]), len(data) // 2))
    assert "plank 1 of larch" in parts["content.xml"].decode("utf-8", "replace")
    assert check(data[: len(data) // 2]).words


@given(st.text(max_size=300))
def test_words_are_counted_once_whatever_the_spacing(text: str) -> None:
    one, two = TextSink(), TextSink()
    one.add(text)
    two.add("  " + text.replace(" ", "  ") + " ")
    assert (one.words, one.text_hash(), one.tokens()) == (two.words, two.text_hash(), two.tokens())


@pytest.mark.parametrize(
    ("text", "same"),
    [("12", "12"), ("12.0", "12"), ("1e3", "1000"), ("0.1234567890123", "0.123456789"), ("oak", "oak")],
)
def test_numbers_have_one_form(text: str, same: str) -> None:
    assert number(text) == same


@pytest.mark.parametrize(
    ("name", "format_name", "right"),
    [
        ("a.docx", "docx", True), ("a.docx", "odt", False), ("a.tmp", "docx", None), ("a.asd", "doc", None), ("A.DOC", "rtf", True),
        ("a.jpeg", "jpg", True), ("5A3F1B20", "xlsx", None), ("a.txt~", "txt", None), ("a.xls", "csv", False), ("a.docx", None, None),
        ("boats.dot", "txt", True), ("tide.ts", "js", True), ("tide.ts", "mts", True), ("tide.mts", "txt", True), ("boats.dot", "doc", True), ("crane.eml", "mbox", True), ("book.xml", "gnucash", True),
    ],
)  # fmt: skip
def test_extension_right(name: str, format_name: str | None, right: bool | None) -> None:
    assert format_table.extension_right(name, format_name) is right


@pytest.mark.parametrize(
    ("mine", "theirs", "fit"),
    [("odt", "docx", True), ("ods", "docx", False), ("txt", "docx", False), ("txt", "md", True), ("cfb", "xls", True), (None, "odt", True), ("png", "jpg", False)],
)  # fmt: skip
def test_compatible_formats(mine: str | None, theirs: str, fit: bool) -> None:
    assert format_table.compatible(mine, theirs) is fit


def test_times_in_documents() -> None:
    assert str(iso("2026-03-12T16:38:02Z")) == "2026-03-12 16:38:02+00:00"
    assert str(iso("2026-03-12T18:38:02+02:00")) == "2026-03-12 16:38:02+00:00"
    assert iso("2026-03-12T16:38:02.123456789").tzinfo is None  # type: ignore[union-attr]
    assert iso("2026-13-40") is None and iso("soon") is None and filetime(0) is None
    local = iso("2026-03-12T17:38:02")
    near = iso("2026-03-12T16:38:30Z")
    assert local and near and to_utc(local, near).hour == 16
    assert to_utc(local, iso("2020-01-01T00:00:00Z")).hour == 17


@given(st.integers(0, 2**64 - 1))
def test_any_filetime(value: int) -> None:
    found = filetime(value)
    assert found is None or found.tzinfo is not None


def test_cell_values_of_other_kinds() -> None:
    assert cell_value({"value-type": "boolean", "boolean-value": "true"}) == "1"
    assert cell_value({"value-type": "time", "time-value": "PT06H00M00S"}) == "0.25"
    assert cell_value({"value-type": "string"}) is None
    assert zlib.crc32(b"") == 0


SAID = {
    "Осмотр корпуса: рангоут требует замены, киль в порядке, спуск в четверг.\n": (
        "cp1251",
        "koi8-r",
        "iso8859-5",
        "cp866",
        "utf-16-le",
        "utf-16-be",
    ),
    "Επιθεώρηση του σκάφους: το κατάρτι χρειάζεται αλλαγή και η καρίνα είναι εντάξει.\n": (
        "cp1253",
        "iso8859-7",
        "utf-16-le",
    ),
    "การตรวจสอบตัวเรือพบว่าเสากระโดงต้องเปลี่ยน\n": ("cp874", "utf-16-le"),
    "船体检查：桅杆需要更换，龙骨状况良好。星期四下水，潮水九点。\n": ("gb18030", "utf-16-be"),
    "船體檢查：桅杆需要更換，龍骨狀況良好。星期四下水。\n": ("big5", "utf-16-le"),
    "船体検査の結果、マストの交換が必要ですが、キールは良好です。\n": ("shift_jis", "euc-jp", "utf-16-le"),
    "선체 점검 결과 돛대를 교체해야 하며 용골은 양호합니다.\n": ("cp949", "utf-16-be"),
    "בדיקת גוף הסירה: התורן דורש החלפה והשדרית תקינה.\n": ("cp1255", "utf-16-le"),
    "فحص هيكل القارب: الصاري يحتاج إلى استبدال والعارضة سليمة.\n": ("cp1256", "iso8859-6"),
}


@pytest.mark.parametrize(("text", "encoding"), [(text, each) for text, names in SAID.items() for each in names])
def test_texts_in_the_encodings_of_all_scripts(text: str, encoding: str) -> None:
    data = (text * 4).encode(encoding)
    content, pieces = formats.read_text(io.BytesIO(data), "survey.txt", 10_000, DEFAULT_LIMITS)
    assert content.state is State.INTACT and "\n".join(piece.text for piece in pieces).splitlines()[0] == text.strip()
    if not encoding.startswith("utf"):  # a guess does not make another format of a damaged document
        assert formats.check(io.BytesIO(data), "survey.docx").state is State.DAMAGED


def test_what_is_no_text_of_any_script() -> None:
    noise = random.Random(7)
    heads = [noise.randbytes(noise.choice([24, 64, 300, 4096])) for _ in range(2_000)]
    assert sum(by_decoding(head) is not None for head in heads) <= 2


@pytest.mark.parametrize(
    ("name", "data", "state"),
    [
        ("a.svg", b'<?xml version="1.0"?><!DOCTYPE svg [<!ENTITY st "fill:none;">]><svg xmlns="http://www.w3.org/2000/svg"><g style="&st;"/></svg>', "intact"),
        ("a.svg", b'<?xml version="1.0"?><!DOCTYPE svg [<!ENTITY a "x"><!ENTITY b "&a;&a;">]><svg xmlns="http://www.w3.org/2000/svg"/>', "intact"),
        ("a.svg", b'<?xml version="1.0"?><!DOCTYPE svg [<!ENTITY a "' + b"x" * 2_000 + b'">]><svg xmlns="http://www.w3.org/2000/svg"/>', "unreadable"),
        ("lang.bfinc", b'<?xml version="1.0"?><tags>&nbsp;</tags>', "intact"), ("level.wad9", b"text\n" * 3_000 + bytes(600) + b"more", "unreadable"),
        ("plan.autosave", b"text\n" * 3_000 + bytes(600) + b"more", "damaged"), ("plan", b"text\n" * 3_000 + bytes(600) + b"more", "damaged"),
        ("level.wad9", b"", "empty"), ("grid.gsb", b"\x0b\0\0\0" * 40, "unreadable"), ("font.t1", b"%!PS-AdobeFont-1.0: Quay\n", "unreadable"),
        ("log.gz", gzip.compress(b"how a <diagram> is written\n", mtime=0), "intact"),
    ],
)  # fmt: skip
def test_kinds_that_are_not_known_are_not_called_damaged(name: str, data: bytes, state: str) -> None:
    assert formats.check(io.BytesIO(data), name).state == state


@pytest.mark.parametrize("name", ["slip.heic", "slip.avif"])
def test_pictures_of_phones(name: str) -> None:
    data = (DATA / "heif" / name).read_bytes()
    whole = formats.check(io.BytesIO(data), name)
    assert (whole.state, whole.glance.format) == (State.INTACT, "heif") and whole.amounts["pictures"] >= 1
    for cut in range(60, len(data), 37):
        assert formats.check(io.BytesIO(data[:cut]), name).state is State.DAMAGED, cut
    assert formats.check(io.BytesIO(data.replace(b"iloc", b"free")), name).state is State.DAMAGED


@given(st.integers(40, 330), st.binary(min_size=1, max_size=40))
def test_any_tables_of_pictures(at: int, put: bytes) -> None:
    for name in ("slip.heic", "slip.avif"):
        data = (DATA / "heif" / name).read_bytes()
        assert formats.check(io.BytesIO(data[:at] + put + data[at + len(put) :]), name).reason


def test_archives_as_others_write_them() -> None:
    """Other methods, bytes behind the end record, several members; what the manifest of a document lists and nobody misses."""
    for method in (zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", method) as archive_file:
            archive_file.writestr("a.txt", "larch and oak\n" * 5_000)
        data = bytearray(out.getvalue())
        assert formats.check(io.BytesIO(data), "a.zip").state is State.INTACT
        data[60] ^= 0xFF
        assert formats.check(io.BytesIO(data), "a.zip").state is State.DAMAGED
        data = bytearray(out.getvalue().replace(struct.pack("<H", method), struct.pack("<H", 97)))
        assert formats.check(io.BytesIO(data), "a.zip").state is State.UNREADABLE
    whole = odt("the garboard seam")
    assert formats.check(io.BytesIO(whole + b"sent by the yard's mail program\n" * 9), "a.odt").state is State.INTACT
    assert (
        formats.check(io.BytesIO(whole[:-30] + b"sent by the yard's mail program\n" * 9), "a.odt").state
        is State.DAMAGED
    )
    packed = gzip.compress(b"one\n" * 99)
    assert formats.check(io.BytesIO(packed + packed), "log.gz").state is State.INTACT
    assert formats.check(io.BytesIO(packed + packed[:-9]), "log.gz").state is State.DAMAGED
    outer = io.BytesIO()
    with zipfile.ZipFile(outer, "w") as package_file:
        package_file.writestr("mimetype", "application/vnd.oasis.opendocument.text")
        package_file.writestr("inner.zip", whole)
        package_file.writestr("more.txt", "x" * 4_000)
    assert formats.check(io.BytesIO(outer.getvalue()[:-3_000]), "a.odt").state is State.DAMAGED
