"""Packages, archives and older office documents by the rules of their kinds: what is a fault, and what is only unusual."""

from __future__ import annotations

import base64
import bz2
import gzip
import io
import lzma
import struct
import zipfile
import zlib
from collections.abc import Sequence

import pyppmd
import pytest
from backports import zstd
from conftest import compound_file, docx, odt, package, packed
from hypothesis import given
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.core.model import Content, State
from rustfern.formats import registry as formats
from rustfern.formats.format_table import extension_right
from rustfern.formats.office import ooxml_text, xml_parts
from rustfern.formats.pages.ciphers import aes_encrypt
from rustfern.formats.pages.pdf_rights import without_password
from rustfern.formats.text_sink import Texts, TextSink

RELATIONS = "http://schemas.openxmlformats.org/"
NAMES = (
    'xmlns:cp="http://schemas.openxmlformats.org/package/2006/metadata/core-properties" xmlns:dc="http://purl.org/dc/elements/1.1/" '
    'xmlns:dcterms="http://purl.org/dc/terms/" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" '
    'xmlns:mc="http://schemas.openxmlformats.org/markup-compatibility/2006"'
)


def check(data: bytes, name: str) -> Content:
    return formats.check(io.BytesIO(data), name)


def links(*targets: str, kind: str = "x") -> str:
    rows = "".join(f'<Relationship Id="r{n}" Type="{kind}" Target="{each}"/>' for n, each in enumerate(targets))
    return f'<Relationships xmlns="{RELATIONS}package/2006/relationships">{rows}</Relationships>'


def with_properties(*properties: str, parts: int = 1) -> bytes:
    core = f"<cp:coreProperties {NAMES}>{''.join(properties)}</cp:coreProperties>"
    rows = "".join(
        f'<Relationship Id="c{n}" Type="{RELATIONS}package/2006/relationships/metadata/core-properties" Target="docProps/core{n}.xml"/>'
        for n in range(parts)
    )
    rels = f'<Relationship Id="r1" Type="{RELATIONS}officeDocument/2006/relationships/officeDocument" Target="word/document.xml"/>'
    top = f'<Relationships xmlns="{RELATIONS}package/2006/relationships">{rels}{rows}</Relationships>'
    return docx("keel", extra={"_rels/.rels": top} | {f"docProps/core{n}.xml": core for n in range(parts)})


DATED = '<dcterms:created xsi:type="dcterms:W3CDTF">2026-09-01T08:00:00Z</dcterms:created>'
RELS = "word/_rels/document.xml.rels"


@pytest.mark.parametrize(
    "data,state,said",
    [
        (docx("keel", extra={"word/": "", "lost/styles.xml": "<s/>"}), State.INTACT, ""),
        (docx("keel", extra={"word/styles.xml": "<s/>"}), State.DAMAGED, "which names the others"),
        (docx("keel", extra={"lost.xml": "<a><b>", "lost/_rels/x.xml.rels": links("gone.xml")}), State.INTACT, ""),
        (docx("keel", extra={RELS: links("a.xml"), "word/a.xml": "<a><b></a>"}), State.DAMAGED, "not well-formed"),
        (docx("keel", extra={RELS: links("media/a.png"), "word/media/a.png": "x"}), State.DAMAGED, "no content type"),
        (docx("keel", extra={RELS: links("STYLES.xml"), "word/styles.xml": "<s/>"}), State.INTACT, ""),
        (docx("keel", extra={"word/document.xml/a.gif": "x"}), State.DAMAGED, "as if it lay in part"),
        (with_properties("<dc:creator>Ines</dc:creator>", DATED), State.INTACT, ""),
        (with_properties("<dc:creator>a</dc:creator>", "<dc:creator>b</dc:creator>"), State.DAMAGED, "is there twice"),
        (with_properties("<dcterms:created>2026-09-01</dcterms:created>"), State.DAMAGED, "wrong type, or none"),
        (with_properties(DATED.replace("W3CDTF", "Period")), State.DAMAGED, "wrong type, or none"),
        (with_properties("<dcterms:creator>a</dcterms:creator>"), State.DAMAGED, "none of the terms"),
        (with_properties('<dc:title xml:lang="de">a</dc:title>'), State.DAMAGED, "names a language"),
        (with_properties('<dc:title mc:Ignorable="x">a</dc:title>'), State.DAMAGED, "compatibility"),
        (with_properties(DATED, parts=2), State.DAMAGED, "several parts are named"),
        (package({}), State.DAMAGED, "an empty archive"),
        (package({"word/document.xml": "<a/>"}), State.DAMAGED, "[Content_Types].xml is missing"),
    ],
)  # fmt: skip
def test_packages_are_read_as_far_as_they_lead(data: bytes, state: State, said: str) -> None:
    content = check(data, "survey.docx")
    assert (content.state, said in content.reason) == (state, True), content.reason


OFFICE = "application/vnd.openxmlformats-officedocument."


def typed(parts: dict[str, str]) -> str:
    rows = "".join(f'<Override PartName="/{name}" ContentType="{kind}"/>' for name, kind in parts.items())
    rels = '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    return f'<Types xmlns="{RELATIONS}package/2006/content-types">{rels}{rows}</Types>'


def test_packages_of_other_kinds_are_archives() -> None:
    theme = package({"[Content_Types].xml": "<Types/>", "_rels/.rels": links("theme.xml"), "theme.xml": "<a/>"})
    content = check(theme, "yard.thmx")
    assert (content.state, content.format) == (State.INTACT, "zip") and "not known" in content.reason
    assert check(theme, "yard.docx").state is State.DAMAGED
    # A theme of an office suite holds a presentation that shows it.
    types = typed(
        {
            "theme/themeManager.xml": f"{OFFICE}themeManager+xml",
            "theme/p.xml": f"{OFFICE}presentationml.presentation.main+xml",
        }
    )
    parts = {
        "theme/themeManager.xml": "<a/>",
        "theme/p.xml": "<a/>",
        "_rels/.rels": links("theme/themeManager.xml", kind="x/officeDocument"),
    }
    content = check(package({"[Content_Types].xml": types, **parts}), "yard.thmx")
    assert (content.state, content.format) == (State.INTACT, "zip"), content.reason
    types = typed({"xl/workbook.xml": "application/vnd.ms-excel.addin.macroEnabled.main+xml"})
    parts = {"xl/workbook.xml": "<workbook/>", "_rels/.rels": links("xl/workbook.xml", kind="x/officeDocument")}
    assert check(package({"[Content_Types].xml": types, **parts}), "yard.xlam").format == "xlam"
    with zipfile.ZipFile(io.BytesIO(docx("keel"))) as source:
        parts = {name.replace("/", "\\").casefold(): source.read(name) for name in source.namelist()}
    assert check(raw_zip([(name, 0, data, data) for name, data in parts.items()]), "a.docx").state is State.INTACT


def raw_zip(members: Sequence[tuple[str, int, bytes, bytes]], *, needless: bool = False) -> bytes:
    """An archive of (name, method, packed, unpacked) members, with `needless` zip64 records as writers to a pipe leave them."""
    out, directory = bytearray(), bytearray()
    for name, method, data, whole in members:
        raw, sums = name.encode(), (zlib.crc32(whole), len(data), len(whole))
        directory += (
            struct.pack(
                "<4sHHHHHHIIIHHHHHII", b"PK\1\2", 63, 63, 0, method, 0, 33, *sums, len(raw), 0, 0, 0, 0, 0, len(out)
            )
            + raw
        )
        out += struct.pack("<4sHHHHHIIIHH", b"PK\3\4", 63, 0, method, 0, 33, *sums, len(raw), 0) + raw + data
    start, count = len(out), len(members)
    out += directory
    if needless:
        out += struct.pack("<4sQHHIIQQQQ", b"PK\6\6", 44, 45, 45, 0, 0, count, count, len(directory), start)
        out += struct.pack("<4sIQI", b"PK\6\7", 0, start + len(directory), 1)
    return bytes(out + struct.pack("<4sHHHHIIH", b"PK\5\6", 0, 0, count, count, len(directory), start, 0))


TEXT = b"two slings, high water at six\n" * 40


def by_ppmd(data: bytes) -> bytes:
    """A member of a ZIP archive: order 8, one megabyte, restart (APPNOTE 5.10), then what it packs to."""
    encoder = pyppmd.Ppmd8Encoder(8, 1 << 20, 0)
    return struct.pack("<H", 7) + encoder.encode(data) + encoder.flush(False)


@pytest.mark.parametrize(
    "members,needless,state,said",
    [
        ([("a.txt", 0, TEXT, TEXT)], True, State.INTACT, ""),
        ([("a.txt", 12, bz2.compress(TEXT), TEXT)], False, State.INTACT, ""),
        ([("a.txt", 95, lzma.compress(TEXT), TEXT)], False, State.INTACT, ""),
        ([("a.txt", 95, lzma.compress(TEXT)[:-30] + bytes(30), TEXT)], False, State.DAMAGED, "cannot be unpacked"),
        ([("a.txt", 93, zstd.compress(TEXT), TEXT)], False, State.INTACT, ""),
        ([("a.txt", 93, zstd.compress(TEXT)[:-20] + bytes(20), TEXT)], False, State.DAMAGED, "a.txt"),
        ([("a.txt", 93, zstd.compress(bytes(1 << 28)), TEXT)], False, State.DAMAGED, "longer than its size says"),
        ([("a.txt", 98, by_ppmd(TEXT), TEXT)], False, State.INTACT, ""),
        ([("a.txt", 98, by_ppmd(TEXT)[:-9] + bytes(9), TEXT)], False, State.DAMAGED, "a.txt"),
        ([("a.txt", 98, by_ppmd(TEXT)[:-9], TEXT)], False, State.DAMAGED, "a.txt"),
        ([("a.txt", 98, b"\x07", TEXT)], False, State.DAMAGED, "a.txt"),
        ([("a.txt", 98, b"\xf7\xff" + by_ppmd(TEXT)[2:], TEXT)], False, State.DAMAGED, "a.txt"),
        ([("a.txt", 1, b"shrunk", TEXT)], False, State.UNREADABLE, "method 1"),
        ([("ümlaut.txt", 0, TEXT, TEXT)], False, State.INTACT, ""),
        ([("a.txt", 0, TEXT, TEXT), ("a.txt", 0, b"later", b"later")], False, State.INTACT, "more than once"),
        ([], False, State.INTACT, "all 0 members"),
    ],
)  # fmt: skip
def test_archives_as_they_are_written(
    members: list[tuple[str, int, bytes, bytes]], needless: bool, state: State, said: str
) -> None:
    content = check(raw_zip(members, needless=needless), "a.zip")
    assert (content.state, said in content.reason) == (state, True), content.reason
    moved = check(b"#!stub\n" * 9 + raw_zip(members, needless=needless), "a.zip")
    assert moved.state is (state if members else moved.state), moved.reason


def test_archives_in_several_files_are_no_damaged_ones() -> None:
    whole = raw_zip([("a.txt", 0, TEXT, TEXT)], needless=True)
    several = whole[:-22] + whole[-22:].replace(b"PK\5\6" + bytes(4), b"PK\5\6\2\0\2\0")
    plain = raw_zip([("a.txt", 0, TEXT, TEXT)])
    locator = whole.index(b"PK\6\7") + 16
    for data, name in (
        (whole[:locator] + b"\3" + whole[locator + 1 :], "a.zip"),
        (plain[:-18] + several[-18:-14] + plain[-14:], "a.zip"),
        (plain[:90], "a.zip.001"),
        (plain[90:], "a.zip.002"),
        (plain[90:], "a.z01"),
    ):
        content = check(data, name)
        assert content.state is State.UNREADABLE and "cut into several files" in content.reason, content.reason
    assert check(plain[:90], "a.zip").state is State.DAMAGED


def test_documents_have_each_part_once() -> None:
    data = odt(body="<text:p>keel</text:p>")
    with zipfile.ZipFile(io.BytesIO(data)) as source:
        members = [(name, 0, source.read(name), source.read(name)) for name in source.namelist()]
    assert check(raw_zip(members), "a.odt").state is State.INTACT
    assert "listed twice" in check(raw_zip([*members, members[-1]]), "a.odt").reason


def record(kind: int, data: bytes, *, container: bool = False, instance: int = 0) -> bytes:
    return struct.pack("<HHI", instance << 4 | (0xF if container else 0), kind, len(data)) + data


def presentation(*, gap: bytes = b"", slide: int = 2, extra: bytes = b"", encrypted: bool = False) -> bytes:
    """A presentation of one slide, that was saved twice: the second time with the slide."""
    first = record(1000, b"", container=True)
    edit = len(first) + 16
    data = (
        first
        + record(6002, struct.pack("<II", 1 | 1 << 20, 0))
        + record(4085, struct.pack("<IIIIII4x", 0, 0, 0, len(first), 1, 2))
    )
    data += gap
    named = record(4080, record(1011, struct.pack("<I16x", slide)), container=True)
    document, at = record(1000, named + extra, container=True), len(data)
    text = record(3999, struct.pack("<I", 0)) + record(4008, b"Kittiwake")
    page = record(1006, record(61453, text, container=True), container=True)
    places = struct.pack("<III", 1 | 2 << 20, at, at + len(document))
    data += document + page
    directory = len(data)
    data += record(6002, places)
    newest = len(data)
    data += record(4085, struct.pack("<IIIIII4x", 0, 0, edit, directory, 1, 3) + bytes(4 * encrypted))
    return compound_file(
        {"PowerPoint Document": data, "Current User": bytes(12) + struct.pack("<II", 0xE391C05F, newest) + bytes(8)}
    )


@pytest.mark.parametrize(
    "data,state,said",
    [
        (presentation(), State.INTACT, ""),
        (presentation(gap=b"\xff" * 99), State.INTACT, ""),
        (presentation(extra=record(0x428, b"PK\3\4" + b"\xff" * 90, container=True)), State.INTACT, ""),
        (presentation(extra=record(0x428, b"\xff" * 90, container=True)), State.DAMAGED, "beyond its parent"),
        (presentation(slide=9), State.DAMAGED, "object 9"),
        (presentation(encrypted=True), State.ENCRYPTED, ""),
        (compound_file({"PP40": b"x" * 40}), State.UNREADABLE, "1995 or before"),
        (compound_file({"PowerPoint Document": b"x" * 4000}), State.UNREADABLE, "1995 or before"),
    ],
)  # fmt: skip
def test_presentations_by_their_newest_edit(data: bytes, state: State, said: str) -> None:
    content = check(data, "launch.ppt")
    assert (content.state, said in content.reason) == (state, True), content.reason
    if state is State.INTACT:
        assert content.words == 1 and content.amounts["slides"] == 1


@given(at=st.integers(0, 5_000), value=st.integers(0, 255))
def test_presentations_never_break_the_reader(at: int, value: int) -> None:
    data = bytearray(presentation())
    data[at % len(data)] = value
    assert check(bytes(data), "launch.ppt").reason


def test_workbooks_and_texts_before_compound_files() -> None:
    begin, end = struct.pack("<HH", 0x0209, 6) + bytes(2) + b"\x10\0" + bytes(2), struct.pack("<HH", 10, 0)
    cell = struct.pack("<HHHHHd", 0x0203, 14, 0, 0, 0, 42.0)
    content = check(begin + cell + end, "dues.xls")
    assert (content.state, content.format, content.amounts["cells"]) == (State.INTACT, "xls", 1)
    assert check(begin + cell, "dues.xls").state is State.DAMAGED
    assert "zeros" in check(begin + bytes(400) + end, "dues.xls").reason
    assert "ends inside the header" in check(b"\xdb\xa5\x2d\0" + bytes(range(250)), "letter.doc").reason


@pytest.mark.parametrize("name,kind", [("a.docx", "docx"), ("a.xlsb", "xlsb"), ("a.tmp", "cfb")])
def test_encrypted_packages_keep_the_name_that_they_have(name: str, kind: str) -> None:
    content = check(compound_file({"EncryptedPackage": bytes(5_000), "EncryptionInfo": bytes(200)}), name)
    assert (content.state, content.format) == (State.ENCRYPTED, kind)
    assert extension_right(name, content.format) is not False


def pdf(algorithm: str, user: str) -> bytes:
    from pypdf import PdfWriter
    from pypdf.generic import NameObject, StreamObject

    writer = PdfWriter()
    page = writer.add_blank_page(200, 200)
    stream = StreamObject()
    stream.set_data(b"BT (Kittiwake) Tj ET " * 40)
    page[NameObject("/Contents")] = writer._add_object(stream.flate_encode())
    writer.encrypt(user, "yard", algorithm=algorithm)
    out = io.BytesIO()
    writer.write(out)
    return out.getvalue()


@pytest.mark.parametrize("algorithm", ["RC4-40", "RC4-128", "AES-128", "AES-256-R5", "AES-256"])
def test_documents_that_open_for_everybody_are_verified(algorithm: str) -> None:
    data = pdf(algorithm, "")
    content = check(data, "plan.pdf")
    assert content.state is State.INTACT and "opens without a password" in content.reason
    at = data.index(b"/FlateDecode")
    hurt = bytearray(data)
    start = data.index(b"stream", at) + 30
    hurt[start : start + 8] = bytes(8)
    assert check(bytes(hurt), "plan.pdf").state is State.DAMAGED
    assert check(pdf(algorithm, "slip"), "plan.pdf").state is State.ENCRYPTED


@pytest.mark.parametrize("revision", [5, 6])
@pytest.mark.parametrize(("user", "owner", "opens"), [("slip", "", True), ("", "yard", True), ("slip", "yard", False)])
def test_who_has_no_password_may_be_the_owner(revision: int, user: str, owner: str, opens: bool) -> None:
    from pypdf._encryption import AlgV5

    key = bytes(range(32))
    made = AlgV5.generate_values(revision, user.encode(), owner.encode(), key, 0xFFFFFFFC, True)
    facts = {name[1:]: bytes(value).hex().encode() for name, value in made.items()}
    facts |= {"Filter": "Standard", "V": 5, "R": revision, "StmF": "Std", "CF": {"Std": {"CFM": "AESV3"}}}
    rights = without_password(facts, b"")
    assert (rights is not None) is opens
    packed = b"\7" * 16 + aes_encrypt(key, b"\7" * 16, b"Kittiwake" + b"\7" * 7)
    assert rights is None or rights.open(packed, 1, 0, 0) == b"Kittiwake"


@pytest.mark.parametrize(("cut", "state"), [(0, State.INTACT), (8, State.DAMAGED)])
def test_streams_that_were_flushed_and_never_closed(cut: int, state: State) -> None:
    """As a program fills in a form: the packed stream has no end, but all of its content."""
    from pypdf import PdfWriter
    from pypdf.generic import NameObject, StreamObject

    writer, stream, pack = PdfWriter(), StreamObject(), zlib.compressobj()
    packed = pack.compress(b"BT (Kittiwake) Tj ET " * 40) + pack.flush(zlib.Z_SYNC_FLUSH)
    stream.set_data(packed[: len(packed) - cut])
    stream[NameObject("/Filter")] = NameObject("/FlateDecode")
    writer.add_blank_page(200, 200)[NameObject("/Contents")] = writer._add_object(stream)
    out = io.BytesIO()
    writer.write(out)
    assert check(out.getvalue(), "form.pdf").state is state


def streams(*texts: bytes) -> bytes:
    return b"".join(lzma.compress(text) for text in texts)


def with_preview(script: bytes, preview: bytes) -> bytes:
    places = (30, len(script), 0, 0, 30 + len(script), len(preview))
    return struct.pack("<4s6IH", b"\xc5\xd0\xd3\xc6", *places, 0xFFFF) + script + preview


SCRIPT = b"%!PS-Adobe-3.0 EPSF-3.0\nshowpage\n%%EOF\n"


@pytest.mark.parametrize(
    "data,name,state,said",
    [
        (with_preview(SCRIPT, b"II*"), "a.eps", State.INTACT, "end mark is there"),
        (with_preview(SCRIPT, b"II*")[:-1], "a.eps", State.DAMAGED, "beyond the end"),
        (with_preview(SCRIPT[:30], b"II*"), "a.eps", State.DAMAGED, "before its end mark"),
        (streams(b"a", b"b") + bytes(4), "a.xz", State.INTACT, "2 bytes unpacked"),
        (streams(b"a" * 99, b"b" * 99)[:-9], "a.xz", State.DAMAGED, "stop before their end"),
        (streams(b"a") + b"junk", "a.xz", State.INTACT, "4 bytes stand behind"),
        (bz2.compress(b"a") + bz2.compress(b"b" * 99)[:-9], "a.bz2", State.DAMAGED, "stop before their end"),
        (lzma.compress(b"keel", lzma.FORMAT_ALONE), "a.lzma", State.INTACT, "carries no sum"),
        (lzma.compress(b"keel" * 99, lzma.FORMAT_ALONE)[:-3], "a.lzma", State.DAMAGED, ""),
        (b"%!PS-Adobe-3.0 EPSF-3.0\ngsave\n0 0 moveto\nstroke\ngrestore\n", "a.eps", State.INTACT, "no end mark"),
        (b"%!PS-Adobe-3.0 EPSF-3.0\n$YardBegin\ngsave\nstroke\ngrestore\n", "a.eps", State.DAMAGED, "end mark"),
        (b"%!PS-Adobe-3.0 EPSF-3.0\ngsave\n0 0 moveto\nstroke\n", "a.eps", State.DAMAGED, "end mark"),
        (streams(b"a") + bytes(40) + streams(b"b")[9:], "a.xz", State.DAMAGED, "beginning is damaged"),
        (gzip.compress(b"a", mtime=0) + b"hurt" + gzip.compress(b"b", mtime=0), "a.gz", State.DAMAGED, "between its members"),
        (gzip.compress(b"a", mtime=0) + b"hurt", "a.gz", State.INTACT, "4 bytes stand behind"),
        (streams(b"a") + b"hurt" + streams(b"b"), "a.xz", State.DAMAGED, "between its streams"),
        (b"%!PS-Adobe-3.0 EPSF-3.0\n0 0 moveto\nstroke\ngrest 1", "a.eps", State.DAMAGED, "end mark"),
        (b"<html><body>x</body><script src='a'>\n</html>", "a.html", State.INTACT, "never closed"),
        (b"<html><body>x</body><script src='a'>\n", "a.html", State.DAMAGED, "stops inside <script>"),
        (b'<?xml version="1.0"?><a><m:b/></a>', "a.xml", State.INTACT, ""),
        (b"{\\rtf1 keel}\n}}\n", "a.rtf", State.INTACT, "too many stand behind its end (2)"),
        (b"{\\rtf1 keel}\n}\\par two slings\n", "a.rtf", State.DAMAGED, "something else follows"),
        (b"\x09\x08\x08\0\0\0\x10\0" + bytes(4) + b"\x0a\0\0\0", "a.xls", State.UNREADABLE, "version"),
        (b"RIFF\x00\x10\0\0AVI LIST" + bytes(range(200)), "a.mp4", State.DAMAGED, "stops after"),
    ],
)  # fmt: skip
def test_what_stands_behind_and_what_ends_otherwise(data: bytes, name: str, state: State, said: str) -> None:
    content = check(data, name)
    assert (content.state, said in content.reason) == (state, True), content.reason


def test_archives_of_before_1988_and_old_sparse_files() -> None:
    def block(name: bytes, size: int, kind: bytes, mark: bytes = b"", more: int = 0) -> bytes:
        head = bytearray(512)
        head[: len(name)] = name
        head[100:136] = b"   644 \0   765 \0    24 \0%11o " % size
        head[136:148], head[156:157], head[257 : 257 + len(mark)], head[482] = b"%11o " % 0, kind, mark, more
        head[148:156] = b"%6o\0 " % (sum(head[:148]) + sum(head[156:]) + 256)
        return bytes(head)

    old = block(b"plan.txt", 4, b"\0") + b"keel".ljust(512, b"\0") + bytes(1024)
    assert check(old, "yard.tar").state is State.INTACT
    sparse = (
        block(b"a", 4, b"S", b"ustar  ", 1) + bytes(504) + b"\1" + bytes(7) + bytes(512) + b"keel".ljust(512, b"\0")
    )
    assert check(sparse + old, "yard.tar").amounts["members"] == 2
    assert check(old[:700], "yard.tar").state is State.DAMAGED


def test_properties_that_only_look_like_the_documents_own() -> None:
    rels = links(
        "docProps/core0.xml",
        kind="http://schemas.openxmlformats.org/officedocument/2006/relationships/metadata/core-properties",
    )
    main = f'<Relationship Id="m" Type="{RELATIONS}officeDocument/2006/relationships/officeDocument" Target="word/document.xml"/>'
    core = f'<Relationship Id="c" Type="{RELATIONS}package/2006/relationships/metadata/core-properties" Target="docProps/core.xml"/>'
    top = rels.replace("</Relationships>", main + core + "</Relationships>")
    parts = {f"docProps/{name}.xml": f"<cp:coreProperties {NAMES}/>" for name in ("core", "core0")}
    assert check(docx("keel", extra={"_rels/.rels": top} | parts), "a.docx").state is State.INTACT


OLD = "application/vnd.sun.xml.writer"
BODY = '<office:document-content xmlns:office="o" xmlns:text="t"><office:body><text:p>keel</text:p></office:body></office:document-content>'


@pytest.mark.parametrize(
    "kind,listed,name,expected",
    [
        (OLD, ("content.xml",), "a.sxw", ("sxw", State.INTACT)),
        ("application/vnd.oasis.openoffice.text", ("content.xml",), "a.odt", ("odt", State.INTACT)),
        ("application/vnd.oasis.opendocument.text", ("content.xml", "accelerator/current.xml", "layout-cache"), "a.odt", ("odt", State.INTACT)),
        ("application/vnd.oasis.opendocument.text", ("content.xml", "Pictures/a.png"), "a.odt", ("odt", State.DAMAGED)),
    ],
)  # fmt: skip
def test_packages_of_before_the_standard(
    kind: str, listed: Sequence[str], name: str, expected: tuple[str, State]
) -> None:
    entries = "".join(f'<manifest:file-entry manifest:full-path="{each}" manifest:media-type=""/>' for each in listed)
    # The prefix is explained by the document type alone, which is not fetched.
    manifest = f'<!DOCTYPE manifest:manifest PUBLIC "-//OpenOffice.org//DTD Manifest 1.0//EN" "Manifest.dtd"><manifest:manifest>{entries}</manifest:manifest>'
    content = check(package({"mimetype": kind, "content.xml": BODY, "META-INF/manifest.xml": manifest}), name)
    assert (content.format, content.state) == expected, content.reason


@pytest.mark.parametrize("encoding", ["utf-16-le", "utf-16-be"])
def test_wide_texts_of_east_asia_and_of_pictures_are_in_step(encoding: str) -> None:
    signs = "".join(map(chr, range(0x4E00, 0x9F00, 37)))
    for text in (signs, "launch at six \U0001f469\u200d\U0001f527 \u200f" * 4):
        data = ("\ufeff" + text + "\n").encode(encoding)
        assert check(data, "a.txt").state is State.INTACT
    moved = ("\ufeff" + "two slings, high water at six\n" * 9).encode(encoding)
    assert "out of step" in check(moved[:80] + moved[81:] + b"\n", "a.txt").reason


_DEFLATE64 = (
    "UEsDBBUAAAAJAAMgfV34CizXmAAAACcHAAAKAAAAc3VydmV5LnR4dJXRPQrCQBSF0d5VvAVY+O6NfzsQXEWQSEIGB+JEcfe2dvL1pzuXtZR4rstr+ERGvUcbh7hOrU3v"
    "fh62UfrlNkZ9RO3nzS8WwSa4I3hP8IHgI8Engs8E5w5pdJgoMdFiosZEj4kiE00mqkx0KXQpdCl0KXQpdCl0KXQpdCl0KXRpdGl0aXRpdGl0aXRpdGl0aXRpdNn9vfwC"
    "UEsBAj8DFQAAAAkAAyB9XfgKLNeYAAAAJwcAAAoAJAAAAAAAAAAggKSBAAAAAHN1cnZleS50eHQKACAAAAAAAAEAGAAEmTAdtn/dAQAAAAAAAAAAAAAAAAAAAABQSwUG"
    "AAAAAAEAAQBcAAAAwAAAAAAA"
)
"""A list of boats, as an archiver packed it."""


@pytest.mark.parametrize(("needed", "state"), [(62, State.UNREADABLE), (45, State.DAMAGED)])
def test_archives_with_an_encrypted_directory(needed: int, state: State) -> None:
    """A stand-in: no archiver at hand writes them. The directory is noise, and the end record says that it takes a newer reader."""
    body = b"PK\x03\x04" + bytes(26) + b"\x91\x72" * 60
    hidden = b"\x8a\x31\xfe" * 40
    end64 = struct.pack("<4sQHHIIQQQQ", b"PK\x06\x06", 44, 62, needed, 0, 0, 1, 1, len(hidden), len(body))
    locator = struct.pack("<4sIQI", b"PK\x06\x07", 0, len(body) + len(hidden), 1)
    end = struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, 0xFFFF, 0xFFFF, 0xFFFFFFFF, 0xFFFFFFFF, 0)
    assert check(body + hidden + end64 + locator + end, "a.zip").state is state


def test_archives_packed_by_deflate64() -> None:
    whole = base64.b64decode(_DEFLATE64)
    assert check(whole, "a.zip").state is State.INTACT
    for at in (60, 100, 150):
        assert check(whole[:at] + b"\x55\xaa" + whole[at + 2 :], "a.zip").state is State.DAMAGED


def test_recordings_with_packed_tables() -> None:
    """The tables are packed and a free box fills their place, so that all offsets stay right."""
    data = packed("media.tar.xz")["slip.mov"]
    at = data.index(b"moov") - 4
    length = int.from_bytes(data[at : at + 4], "big")
    tables = data[at : at + length]
    packed_in = zlib.compress(tables)

    def box(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I4s", 8 + len(body), kind) + body

    def movie(size: int, body: bytes) -> bytes:
        made = box(b"moov", box(b"cmov", box(b"dcom", b"zlib") + box(b"cmvd", struct.pack(">I", size) + body)))
        return data[:at] + made + box(b"free", bytes(length - len(made) - 8)) + data[at + length :]

    assert check(movie(length, packed_in), "slip.mov").state is State.INTACT
    assert check(movie(length, packed_in[:90] + b"\xff" * 6 + packed_in[96:]), "slip.mov").state is State.DAMAGED
    assert check(movie(length + 9, packed_in), "slip.mov").state is State.DAMAGED


def test_xml_of_the_newer_version() -> None:
    plain = b'<?xml version="1.1"?><log><e>oak</e></log>'
    assert check(plain, "a.xml").state is State.INTACT
    assert check(plain.replace(b"oak", b"&#1;"), "a.xml").state is State.UNREADABLE
    assert check(plain.replace(b"</e>", b""), "a.xml").state is State.DAMAGED


# --- cells of large sheets ------------------------------------------------------------------------------------------

_CELLS = st.sampled_from(
    [
        '<c r="A{r}"><v>5</v></c>', '<c r="B{r}" s="1"><v>43831.5</v></c>', '<c r="C{r}" t="n" s="1"><v>007</v></c>', '<c r="D{r}"><v> 7 </v></c>',
        '<c r="E{r}" t="s"><v>1</v></c>', '<c r="F{r}" t="s" s="0"><v>0</v></c>', '<c r="G{r}" t="s"><v>9</v></c>', '<c r="H{r}"/>', '<c r="I{r}" t="s"><v>2</v></c>',
        '<c r="J{r}" t="inlineStr"><is><t xml:space="preserve">larch  &amp; oak\n</t></is></c>', '<c r="K{r}" t="b"><v>1</v></c>',
        '<c r="L{r}" t="str"><f>A1&amp;"x"</f><v>&lt;d  e</v></c>', '<c r="M{r}"><f t="shared" si="0"/><v>1.50</v></c>', '<c r="N{r}"><v>x y</v></c>',
        '<c r="O{r}" t="inlineStr"><is><r><t>a</t></r><r><t>b</t></r></is></c>', '<c><v>3</v></c>', '<c r="P{r}"><v></v></c>', "<!-- x -->", "<v>7</v>",
        '<c r="Q{r}" t="str"><v>&#65;</v></c>', '<c r="R{r}" t="str"><v><![CDATA[x]]></v></c>', '<c r="S{r}" t="str"><v>a\r\nb</v></c>', "<c r='T1'><v>4</v></c>",
        '<x:c xmlns:x="u" r="A1"><x:v>6</x:v></x:c>', '<c r="U{r}"><v>5</c>', "\x01",
    ]
)  # fmt: skip


class _OneByOne(ooxml_text.Cells):
    def understood(self, data: bytes, *, first: bool) -> None:
        return None


@given(
    rows=st.lists(st.lists(_CELLS, max_size=5), max_size=12),
    mark=st.sampled_from(["", "\r\n", "\n"]),
    keep=st.sampled_from([0, 40, 9_000]),
    step=st.sampled_from([29, 300, 100_000]),
    cut=st.integers(0, 400) | st.none(),
)
def test_cells_read_many_at_a_time_are_those_read_one_by_one(
    rows: list[list[str]], mark: str, keep: int, step: int, cut: int | None
) -> None:
    body = "".join(f'<row r="{r}">{"".join(row).replace("{r}", str(r))}</row>' for r, row in enumerate(rows, 1))
    start = f'<?xml version="1.0" encoding="UTF-8"?>{mark}<worksheet xmlns="m"><sheetData>'
    data = f"{start}{body}</sheetData></worksheet>".encode()[:cut]
    found = []
    for kind in (_OneByOne, ooxml_text.Cells):
        sink, strings, amounts = TextSink(keep), Texts(), dict[str, int]()
        for text in ("oak", "larch  plank", "x" * 1_500):
            strings.append(text)
        said = ""
        pieces = [data[at : at + step] for at in range(0, len(data), step)]
        try:
            # What is larger than is held at once is told piece by piece.
            xml_parts._stream(pieces, kind(sink, strings, amounts, "sheet1.xml", [False, True]), "sheet1.xml")
        except Malformed as error:
            said = str(error)
        found.append((said, amounts, sink.kept, sink.words, sink.tokens(), sink.lines(), sink.text_hash()))
    assert found[0] == found[1]
