"""Documents by a dozen more producers, and formats whose real programs do not install: whole, cut, and with something missing."""

from __future__ import annotations

import base64
import gzip
import io
import lzma
import os
import random
import re
import struct
import subprocess
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from xml.parsers import expat

import pytest
from conftest import Run, compound_file, docx, odt, package, packed, read
from hypothesis import example, given, settings
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.core.model import Content, State
from rustfern.formats import format_table, paged_bytes
from rustfern.formats import registry as formats
from rustfern.formats.interface import Limits
from rustfern.formats.office import xml_fast

REAL = packed("packages.tar.xz")
# What a cut cannot show: texts without a grammar that ends.
LOOSE = {"notes.txt", "notes-latin1.txt", "notes-utf16.txt", "notes-utf32.txt", "launch-pandoc.html", "survey-office.html",
         "timber-office.csv"}  # fmt: skip


def check(data: bytes, name: str) -> Content:
    return formats.check(io.BytesIO(data), name)


@pytest.mark.parametrize("name", sorted(REAL))
def test_documents_of_many_producers(name: str) -> None:
    data = REAL[name]
    found = check(data, name)
    wanted = {"yard-locked.7z": State.ENCRYPTED}.get(name, State.INTACT)
    assert found.state is wanted, found.reason
    # The suite wrote a show under a drawing's name, and a slide show as a presentation: so it is said.
    misnamed = name in ("launch-office.odg", "launch-office.ppsx")
    assert format_table.extension_right(name, found.format) is not misnamed
    if name not in LOOSE and wanted is State.INTACT:
        for share in range(3, 100, 8):
            hurt = check(data[: len(data) * share // 100], name)
            assert hurt.state is not State.INTACT, f"cut at {share} %: {hurt.reason}"
    # The verdict alone costs less, and is the same.
    for part in (data, data[: len(data) // 2]):
        assert formats.check(io.BytesIO(part), name, counted=False).state is check(part, name).state


def _sheet(cells: str) -> bytes:
    relation = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    kind = "application/vnd.openxmlformats-officedocument.spreadsheetml."
    links = f'<Relationship Id="a" Type="{relation}/worksheet" Target="sheets/one.xml"/><Relationship Id="b" Type="{relation}/sharedStrings" Target="sharedStrings.xml"/>'
    return package({
        "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="xml" ContentType="application/xml"/>'
        f'<Override PartName="/xl/workbook.xml" ContentType="{kind}sheet.main+xml"/><Override PartName="/xl/sheets/one.xml" ContentType="{kind}worksheet+xml"/></Types>',
        "_rels/.rels": f'<Relationships><Relationship Id="r" Type="{relation}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": "<workbook/>", "xl/_rels/workbook.xml.rels": f"<Relationships>{links}</Relationships>",
        "xl/sharedStrings.xml": "<sst count='3'>" + "<si><t>oak</t></si>" * 3 + "</sst>",
        "xl/sheets/one.xml": f"<worksheet><sheetData>{cells}</sheetData></worksheet>",
    })  # fmt: skip


@pytest.mark.parametrize(
    "cell", ['<c r="A1" s="4" t="s"><v>{}</v></c>', '<c t="s" r="B2"><f>A1</f><v>{}</v></c>', "<c t='s'><v>{}</v></c>"]
)
@pytest.mark.parametrize("counted", [True, False])
def test_cells_of_large_sheets_need_their_shared_texts(cell: str, counted: bool) -> None:
    rows = ["<row>" + "".join(cell.format(n % 3) for n in range(9)) + "</row>"] * 12_000
    for last, wanted in ((2, State.INTACT), (3, State.DAMAGED)):
        whole = _sheet("".join([*rows, f"<row>{cell.format(last)}</row>"]))
        assert formats.check(io.BytesIO(whole), "orders.xlsx", counted=counted).state is wanted
    unclosed = _sheet("".join([*rows, "<row><c>"]))
    assert formats.check(io.BytesIO(unclosed), "orders.xlsx", counted=counted).state is State.DAMAGED


@pytest.mark.parametrize("place", ["whole", "attachment", "mark", "zeros"])
def test_a_mailbox_with_large_attachments(place: str) -> None:
    """Bodies are read many lines at once; marks, sums of letters and zeros are seen all the same."""
    letters = base64.encodebytes(random.Random(3).randbytes(400_000))
    hurt = {"attachment": letters[:-3] + b"\n", "zeros": letters[:200_000] + bytes(8) + letters[200_008:]}.get(
        place, letters
    )
    end = b"" if place == "mark" else b"--oak--\n"
    mail = (
        b"From ines@marlow-quay.example Thu Mar 12 16:40:00 2026\nFrom: Ines <ines@marlow-quay.example>\nSubject: Timber\n"
        b"MIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=oak\n\n--oak\nContent-Type: text/plain\n\nThe larch is here.\n"
        b"-- \nInes\n--oak\nContent-Type: image/jpeg; name=frame.jpg\nContent-Transfer-Encoding: base64\n\n%s\n%s\n"
    )
    box = mail % (letters, b"--oak--\n") * 3 + mail % (hurt, end)
    found = check(box, "yard.mbox")
    assert found.state is (State.INTACT if place == "whole" else State.DAMAGED), found.reason
    assert place != "whole" or (found.amounts["messages"], found.amounts["attachments"], found.words) == (4, 4, 20)


@pytest.mark.parametrize(
    ("name", "words"),
    [("launch-pandoc.epub", "Kittiwake"), ("rigging.epub", "Chapter"), ("survey.eml", "Marlow"), ("yard.mbox", "hog")],
)
def test_what_books_and_mail_hold(name: str, words: str) -> None:
    content, text = read(io.BytesIO(REAL[name]), name, 100_000)
    whole = "\n".join(text)
    assert content.words and (words in whole or re.search("garboard|strake|transom", whole))
    if name.endswith(("eml", "mbox")):
        assert content.glance.title == "Hull survey Åsa" and content.glance.created is not None
        assert content.amounts["attachments"] == (2 if name.endswith("eml") else 4)


def rebuilt(name: str, change: dict[str, bytes | None]) -> bytes:
    """A package with parts replaced, or left out where None is given."""
    with zipfile.ZipFile(io.BytesIO(REAL[name])) as source:
        parts: dict[str, str | bytes] = {n: source.read(n) for n in source.namelist()}
    for part, data in change.items():
        assert part in parts
        if data is None:
            del parts[part]
        else:
            parts[part] = data
    return package(parts, stored=("mimetype",))


MODEL = '<?xml version="1.0"?><Document><Object file="Body.brp"/></Document>'
STACK = '<image><stack><layer src="data/layer0.png"/></stack></image>'
MSCZ = '<container><rootfiles><rootfile full-path="score.mscx"/></rootfiles></container>'


@pytest.mark.parametrize(
    ("data", "name", "state", "said"),
    [
        (rebuilt("model.3mf", {"3D/3dmodel.model": b"<model><mesh></model>"}), "a.3mf", State.DAMAGED, "not well-formed"),
        (rebuilt("model.3mf", {"3D/3dmodel.model": None}), "a.3mf", State.DAMAGED, "3dmodel.model"),
        (rebuilt("launch-pandoc.epub", {"EPUB/text/ch001.xhtml": None}), "a.epub", State.DAMAGED, "ch001.xhtml, which"),
        (rebuilt("launch-pandoc.epub", {"EPUB/text/ch001.xhtml": b"<html><p>"}), "a.epub", State.DAMAGED, "well-formed"),
        (rebuilt("launch-pandoc.epub", {"META-INF/container.xml": None}), "a.epub", State.DAMAGED, "container.xml"),
        (rebuilt("timber-openpyxl.xlsx", {"xl/charts/chart1.xml": None}), "a.xlsx", State.DAMAGED, "chart1.xml"),
        (rebuilt("survey-python.docx", {"word/media/image1.png": b"\x89PNG\r\n\x1a\n"}), "a.docx", State.DAMAGED,
         "it opens, but the picture"),
        (package({"Document.xml": MODEL, "GuiDocument.xml": "<a/>"}), "a.FCStd", State.DAMAGED, "Body.brp"),
        (package({"Document.xml": MODEL, "Body.brp": "x"}), "a.FCStd", State.INTACT, "what it names is there"),
        (package({"mimetype": "image/openraster", "stack.xml": STACK, "mergedimage.png": ""}), "a.ora", State.DAMAGED,
         "layer0.png"),
        (package({"mimetype": "application/x-krita", "maindoc.xml": "<DOC"}), "a.kra", State.DAMAGED, "maindoc.xml"),
        (package({"META-INF/container.xml": MSCZ}), "a.mscz", State.DAMAGED, "score.mscx"),
    ],
)  # fmt: skip
def test_packages_with_something_missing(data: bytes, name: str, state: State, said: str) -> None:
    content = check(data, name)
    assert content.state is state and said in content.reason, content.reason


def picture(packing: int, *, wide: bool = False, lose: int = 0) -> bytes:
    """An XCF picture of 100 by 70 pixels in one layer with a mask, written as its format says."""
    width, height, step = 100, 70, 8 if wide else 4

    def tile(w: int, h: int, depth: int) -> bytes:
        plain = bytes(range(w)) * h
        if packing == 0:
            return plain * depth
        if packing == 2:
            return zlib.compress(plain * depth)
        # Three ways of runs: many the same, many different, both also in their long form.
        out, left = b"\x7f" + struct.pack(">H", 500) + b"\x05", w * h - 500
        out += b"\x80" + struct.pack(">H", 300) + bytes(300)
        left -= 300
        while left > 0:
            count = min(left, 100)
            out += (bytes([count - 1]) + b"\x07") if count % 2 else (bytes([256 - count]) + bytes(count))
            left -= count
        return out * depth

    head = b"gimp xcf " + (b"v011\0" if wide else b"file\0") + struct.pack(">III", width, height, 0)
    head += struct.pack(">I", 150) if wide else b""
    head += struct.pack(">IIB", 17, 1, packing) + bytes(8)
    out = bytearray(head + bytes(3 * step))  # layer, end of layers, end of channels
    place = len(head)

    def item(layer: bool) -> int:
        start, depth = len(out), 3 if layer else 1
        out.extend(
            struct.pack(">II", width, height)
            + (bytes(4) if layer else b"")
            + struct.pack(">I", 5)
            + b"Hull\0"
            + bytes(8)
        )
        pointers = len(out)
        out.extend(bytes(step * (2 if layer else 1)))
        hierarchy = len(out)
        out.extend(
            struct.pack(">III", width, height, depth) + (len(out) + 12 + 2 * step).to_bytes(step, "big") + bytes(step)
        )
        out.extend(struct.pack(">II", width, height))
        tiles = len(out)
        out.extend(bytes(step * 5))
        for n, (w, h) in enumerate(((64, 64), (36, 64), (64, 6), (36, 6))):
            out[tiles + n * step : tiles + n * step + step] = len(out).to_bytes(step, "big")
            out.extend(
                tile(w, h, depth)
                if packing != 1 or w * h > 800
                else b"\x7f"
                + struct.pack(">H", w * h)
                + b"\x01"
                + (b"\x7f" + struct.pack(">H", w * h) + b"\x01") * (depth - 1)
            )
        out[pointers : pointers + step] = hierarchy.to_bytes(step, "big")
        if layer:
            out[pointers + step : pointers + 2 * step] = item(False).to_bytes(step, "big")
        return start

    out[place : place + step] = item(True).to_bytes(step, "big")
    return bytes(out[: len(out) - lose])


@pytest.mark.parametrize("packing", [0, 1, 2])
@pytest.mark.parametrize("wide", [False, True])
def test_layered_pictures(packing: int, wide: bool) -> None:
    found = check(picture(packing, wide=wide), "plan.xcf")
    assert (found.state, found.format) == (State.INTACT, "xcf"), found.reason
    assert found.amounts == {"width": 100, "height": 70, "layers": 1}
    for lose in (1, 30, 400):
        assert check(picture(packing, wide=wide, lose=lose), "plan.xcf").state is State.DAMAGED


def message(*, body: str = "The hog is sound.", lie: int = 0, attachments: int = 1) -> bytes:
    """A mail message in a compound file, with one receiver and one attachment."""

    def properties(head: bytes, *texts: tuple[int, str]) -> tuple[bytes, dict[str, bytes]]:
        rows, streams = head, {}
        for ident, text in texts:
            data = text.encode("utf-16-le")
            rows += struct.pack("<HHIII", 0x1F, ident, 6, len(data) + 2 + lie, 0)
            streams[f"__substg1.0_{ident:04X}001F"] = data
        return rows, streams

    top, streams = properties(
        struct.pack("<8xIIII8x", 1, attachments, 1, attachments),
        (0x37, "Hull survey"),
        (0x1000, body),
        (0x0C1A, "Ines Varga"),
    )
    out = {"__properties_version1.0": top, **streams}
    for folder, text in (("__recip_version1.0_#00000000", "Petra Lund"), ("__attach_version1.0_#00000000", "plan.png")):
        rows, inner = properties(bytes(8), (0x3001, text))
        out |= {f"{folder}/__properties_version1.0": rows, **{f"{folder}/{name}": data for name, data in inner.items()}}
    return compound_file(out)


DIAGRAM = b"Visio (TM) Drawing\r\n" + bytes(24) + struct.pack("<II", 0x40, 100) + bytes(200)
LAYOUT = {"Contents": b"\xe8\xac" + bytes(5000), "Quill/QuillSub/CONTENTS": b"CHNKINK " + bytes(600)}


@pytest.mark.parametrize(
    ("data", "name", "state", "said"),
    [
        (message(), "a.msg", State.INTACT, "chains and the main stream right"),
        (message(body="x" * 9000), "a.msg", State.INTACT, "main stream"),
        (message(lie=8), "a.msg", State.DAMAGED, "property 0037 has 22 of 30 bytes"),
        (message(attachments=2), "a.msg", State.DAMAGED, "fewer attachments"),
        (compound_file({"VisioDocument": DIAGRAM}), "a.vsd", State.INTACT, "not published"),
        (compound_file({"VisioDocument": DIAGRAM[:120]}), "a.vsd", State.DAMAGED, "trailer"),
        (compound_file({"VisioDocument": b"\0" + DIAGRAM}), "a.vsd", State.DAMAGED, "does not begin"),
        (compound_file(LAYOUT), "a.pub", State.INTACT, "not published"),
        (compound_file({**LAYOUT, "Contents": b""}), "a.pub", State.DAMAGED, "objects of the layout"),
        (compound_file({**LAYOUT, "Quill/QuillSub/CONTENTS": bytes(90)}), "a.pub", State.DAMAGED, "text of the layout"),
    ],
)
def test_other_compound_documents(data: bytes, name: str, state: State, said: str) -> None:
    content = check(data, name)
    assert (content.state, content.format) == (state, name[2:] if state is State.INTACT else content.format), (
        content.reason
    )
    assert said in content.reason, content.reason
    if name == "a.msg" and state is State.INTACT:
        assert (content.glance.title, content.glance.author) == ("Hull survey", "Ines Varga") and content.words


MAIL = REAL["survey.eml"]


@pytest.mark.parametrize(
    ("data", "name", "state", "said"),
    [
        (MAIL[: MAIL.index(b"plan.png") + 200], "a.eml", State.DAMAGED, "plan.png"),
        (MAIL.replace(b"iVBOR", b"iVBO"), "a.eml", State.DAMAGED, "attachment plan.png of the message is not complete"),
        (MAIL[:60], "a.eml", State.DAMAGED, "inside its headers"),
        (MAIL[:300] + bytes(50) + MAIL[350:], "a.eml", State.DAMAGED, "zeros"),
        (b"From: a@b.example\nTo: c@d.example\nSubject: =?utf-8?q?Hull?=\n\nSound.\n", "a.eml", State.INTACT, "closed"),
        (b"Date: today\nFrom: ines\n\nA note, not a mail.\n", "note.txt", State.INTACT, "as UTF-8"),
        (b'a,b,c\n1,2,3\n4,5,"six\n', "a.csv", State.DAMAGED, "quoted cell"),
        (b"a;b;c\n1;2;3\n4;5", "a.csv", State.DAMAGED, "after 2 of 3 cells"),
        (b"a;b;c\n1;2\n4;5", "a.csv", State.INTACT, ""),
        (b'a,"b ""c""\nd",e\n1,2,3\n', "a.csv", State.INTACT, ""),
        (b'a,b,c\n1,6" pipe,3\n1,"3, ""4""",5\n', "a.csv", State.INTACT, ""),
        (b'a\tb\tc\n1\t"six\t3\n4\t5\t"\n', "a.tsv", State.INTACT, ""),
        (b'a\tb\n1\t"two\nlines"\n3\t"cut\nin the', "a.tsv", State.DAMAGED, "quoted cell"),
        (b'a\tb\n1\t"Kittiwake" hauls out\n3\t"six\n', "a.tsv", State.INTACT, ""),
        (b'a\tb\tc\n1\t"six\t3\n4\t5', "a.tsv", State.DAMAGED, "after 2 of 3 cells"),
        (b"<html><body><p>Sound", "a.html", State.INTACT, "end tag is missing"),
        (b"<html><body><p>Sound</p><img src=", "a.html", State.DAMAGED, "inside a tag"),
        (b"<html><!-- launch", "a.html", State.DAMAGED, "inside a comment"),
        (b"<html><script>a<b", "a.html", State.DAMAGED, "inside <script>"),
        (b'boat = "Petrel"\n[berth]\nnumber = 4\n', "a.toml", State.INTACT, "complete TOML"),
        (b'boats = ["Petrel",\n', "a.toml", State.DAMAGED, "stops in the middle"),
        (b"boat = Petrel\n", "a.toml", State.INTACT, "not right TOML"),
        (b"boats:\n- Petrel\n- {length: 7\n", "a.yaml", State.DAMAGED, "stops in the middle"),
        (b"boats: [Petrel, !timber {oak: 3}]\n", "a.yml", State.INTACT, "complete YAML"),
        (b"boats: [Petrel\n- ]x: {\nend: 1\n", "a.yaml", State.INTACT, "not right YAML"),
        (gzip.compress(b'<?xml version="1.0"?><gnm:Workbook xmlns:gnm="u"/>', mtime=0), "a.gnumeric", State.INTACT, "well-formed"),
        (gzip.compress(b'<?xml version="1.0"?><gnm:Workbook', mtime=0), "a.gnumeric", State.DAMAGED, "not well-formed"),
        (b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\n", "a.ics", State.DAMAGED, "end of VEVENT"),
        (b"BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n", "a.ics", State.INTACT, "every entry closed"),
        (b"0\nSECTION\n0\nEOF\n", "a.dxf", State.DAMAGED, "not closed"),
        (b'<?xml version="1.0"?><FictionBook><p>', "book.zzz", State.UNREADABLE, "not well-formed"),
        (b"%!PS-Adobe-3.0 EPSF\n1 0 moveto" + bytes(600) + b"\nshowpage\n%%EOF\n", "a.eps", State.DAMAGED, "zeros"),
        (b"\xff\xf1\x50\x80\x01\x7f\xfc" + b"\x11" * 4, "a.aac", State.DAMAGED, "no sound"),
        ((b"\xff\xf1\x50\x80\x01\x7f\xfc" + b"\x11" * 4) * 5 + b"\0\0", "a.aac", State.INTACT, "5 frames"),
        ((b"\xff\xf1\x50\x80\x01\x7f\xfc" + b"\x11" * 4) * 5 + b"junk", "a.aac", State.DAMAGED, "no frame"),
        ((b"\xff\xf1\x50\x80\x01\x7f\xfc" + b"\x11" * 4) * 5 + bytes(500) + (b"\xff\xf1\x50\x80\x01\x7f\xfc" + b"\x11" * 4) * 5, "a.aac", State.DAMAGED, "hole"),
        ((b"\xff\xf1\x50\x80\x03\x7f\xfc" + b"\x11" * 20) * 5 + b"\xff\xf1\x50\x80\x03\x7f\xfc" + bytes(500), "a.aac", State.DAMAGED, "zeros follow"),
    ],
)  # fmt: skip
def test_mail_and_texts_with_a_grammar(data: bytes, name: str, state: State, said: str) -> None:
    content = check(data, name)
    assert content.state is state and said in content.reason, content.reason


def test_a_password_is_said() -> None:
    assert check(REAL["yard-locked.7z"], "a.7z").state is State.ENCRYPTED


@pytest.mark.parametrize("name", sorted(n for n in REAL if n.endswith((".7z", ".flac")) and "locked" not in n))
def test_every_flipped_bit_of_packed_sound_and_files_shows(name: str) -> None:
    data = REAL[name]
    start = data.rindex(b"\xff\xf8", 0, 9000) if name.endswith("flac") else 40
    for at in range(start, len(data), max((len(data) - start) // 23, 1)):
        hurt = data[:at] + bytes([data[at] ^ 4]) + data[at + 1 :]
        assert check(hurt, name).state is not State.INTACT, at


# --- the quick proof of well-formed XML agrees with the full parser -------------------------------------------------

PIECES = ["<a>", "</a>", "<b x='1'>", "</b>", '<c y="2" y="3"/>', '<n:d xmlns:n="u"/>', "<n:e/>", "<a n:f='1'/>", "text", "&amp;",
          "&#65;", "&#0;", "&#xD800;", "& ", "]]>", "<!-- c -->", "<![CDATA[x]]>", "<?p q?>", "\x01", "\ufffe", "é", "<a", ">", "<é/>",
          '<?xml version="1.0"?>', "<g h='<'/>", "<g h=\"a>b\"/>", "</a >", "<a b = 'c'/>", "\r\n", "<!DOCTYPE a>", "&lt;", "&nbsp;"]  # fmt: skip


@given(st.lists(st.sampled_from(PIECES), max_size=12).map("".join))
@example("<a></a>")
@example("<a/><b/>")
@example('<r xmlns:n="u"><n:e/><x n:f="1"/></r>')
@settings(max_examples=600)
def test_what_is_quickly_proved_well_formed_is_so(text: str) -> None:
    data = text.encode("utf-8", "surrogatepass")
    found = xml_fast.tokens(data)
    parser = expat.ParserCreate(namespace_separator=" ")
    events: list[tuple[str, str]] = []
    parser.StartElementHandler = lambda name, _: events.append(("start", name.rpartition(" ")[2]))
    parser.EndElementHandler = lambda name: events.append(("end", name.rpartition(" ")[2]))
    try:
        parser.Parse(data, True)
    except expat.ExpatError:
        assert found is None
        return
    if found is not None:
        told = []
        for kind, _, tag, _, _, _, _ in found:
            told += {0: [("start", tag)], 1: [("start", tag), ("end", tag)], 2: [("end", tag)]}[kind]
        assert told == events


@given(st.binary(max_size=3000), st.integers(1, 40), st.data())
def test_a_paged_file_is_like_its_bytes(tail: bytes, part: int, draw: st.DataObject) -> None:
    data = (b"slipway " * 70_000 + tail) * 1 + b"keel"
    file = paged_bytes.Paged(io.BytesIO(data), len(data))
    start = draw.draw(st.integers(-20, len(data) + 20))
    assert file[start : start + part * 50_000] == data[start : start + part * 50_000]
    assert len(file) == len(data) and file[-1] == data[-1]
    assert file.find(b"keel") == data.find(b"keel") and file.rfind(b"keel") == data.rfind(b"keel")
    assert file.find(b"no such") == -1 and file.startswith(b"slip") and not file.startswith(b"lip")
    found = paged_bytes.searched(re.compile(rb"ke+l"), file, 100)
    plain = re.compile(rb"ke+l").search(data, 100)
    assert found and plain and (found.start(), found.end()) == (plain.start(), plain.end())
    cut = paged_bytes.Part(io.BytesIO(data), 100)
    assert (
        cut.read() == data[:100]
        and cut.seek(-10, os.SEEK_END) == 90
        and cut.read(50) == data[90:100]
        and cut.read() == b""
    )


@given(st.sampled_from(sorted(REAL)), st.data())
@settings(max_examples=120)
def test_mutated_documents_only_get_verdicts(name: str, draw: st.DataObject) -> None:
    data = bytearray(REAL[name][:60_000])
    for _ in range(draw.draw(st.integers(1, 4))):
        at = draw.draw(st.integers(0, len(data) - 1))
        patch = draw.draw(st.binary(min_size=1, max_size=12))
        data[at : at + len(patch)] = patch
    assert check(bytes(data), name).state in set(State)


HEADS = [b"7z\xbc\xaf\x27\x1c\0\4", b"fLaC", b"gimp xcf v011\0", b"From: a\nTo: b\nContent-Type: multipart/mixed; boundary=x\n\n",
         b"From a@b Mon Oct 5 09:30:00 2026\nFrom: a\n\n", b"AutoCAD Binary DXF\r\n\x1a\0", b"\xff\xf1\x50\x80", b"AC1032", b"%!PS"]  # fmt: skip


@given(st.sampled_from(HEADS), st.binary(max_size=400))
@settings(max_examples=300)
def test_arbitrary_bytes_only_get_verdicts(head: bytes, rest: bytes) -> None:
    assert check(head + rest, "a").state in set(State)


def test_a_part_with_entities_or_odd_signs_is_left_to_the_full_parser() -> None:
    assert (
        xml_fast.tokens(b"<a>&#1;</a>") is None and xml_fast.tokens(b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>') is None
    )
    with pytest.raises(Malformed, match="entities"):
        from rustfern.formats.office import xml_parts

        xml_parts.run([b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>'], None, "x")
    assert check(odt("keel<!-- c --><![CDATA[ rib]]>"), "a.odt").words == 2


def test_holes_at_the_end_are_not_read(tmp_path: Path) -> None:
    for name, state, said in (
        ("launch-pandoc.rtf", State.INTACT, "never written"),
        ("survey-office.docx", State.DAMAGED, "never written"),
        ("", State.DAMAGED, "nothing of its"),
    ):
        path = tmp_path / (name or "nothing.docx")
        path.write_bytes(REAL.get(name, b""))
        os.truncate(path, 20 << 30)
        with path.open("rb") as stream:
            found = formats.check(stream, path.name)
        assert found.state is state and said in found.reason and found.sha256 is None, found.reason


def big(name: str, prefix: bytes, unit: bytes, times: int) -> bytes:
    """A text package with a part that unpacks to `times` units."""
    out = io.BytesIO(docx("keel"))
    with zipfile.ZipFile(out, "a", zipfile.ZIP_DEFLATED) as target, target.open(name, "w") as part:
        part.write(prefix)
        for _ in range(times):
            part.write(unit)
    return out.getvalue()


PAGE_IN_MAIL = b"From: ines@marlow.example\r\nSubject: hull\r\nMIME-Version: 1.0\r\nContent-Type: text/html\r\n\r\n"
LAUGHS = '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY a "ha">' + "".join(
    f'<!ENTITY a{n} "{f"&a{n - 1 if n > 1 else str()};" * 10}">' for n in range(1, 10)
)


@pytest.mark.parametrize(
    ("make", "name", "said"),
    [
        (lambda: big("word/media/a.bin", b"", bytes(1 << 20), 300), "a.docx", "refused"),
        (lambda: big("customXml/item.xml", b"<a>", b"<b/>" * (1 << 18), 300), "a.docx", "refused"),
        (lambda: gzip.compress(b'<?xml version="1.0"?><svg>' + b"<g/>" * (8 << 20), 1, mtime=0), "a.svgz", "refused"),
        (lambda: gzip.compress(bytes(200 << 20), 1, mtime=0), "a.gz", "refused"),
        (lambda: lzma.compress(bytes(200 << 20), preset=0), "a.xz", "refused"),
        (
            lambda: docx(
                "keel",
                extra={
                    "a.xml": '<?xml version="1.0" encoding="UTF-6"?><a/>',
                    "word/_rels/document.xml.rels": '<Relationships><Relationship Id="a" Type="t" Target="/a.xml"/></Relationships>',
                },
            ),
            "a.docx",
            "unknown way",
        ),
        (lambda: f"{LAUGHS}]><svg>&a9;</svg>".encode(), "a.svg", "entities"),
        (lambda: b'<?xml version="1.0"?>' + b"<g>" * 2_000_000, "a.svg", "nested too deep"),
        (lambda: b"{\\rtf1" + b"{" * 200_000, "a.rtf", "nested too deep"),
        (lambda: b"[" * 3_000_000, "a.json", ""),
        (lambda: b"%PDF-1.4\n1 0 obj\n" + b"<<" * 1_000_000, "a.pdf", "end mark"),
        (lambda: odt(body="<text:p>" * 30_000 + "</text:p>" * 30_000), "a.odt", ""),
        (lambda: PAGE_IN_MAIL + b"<" * 400_000, "a.eml", ""),
        (lambda: PAGE_IN_MAIL + b"<script>" * 50_000, "a.eml", ""),
        (lambda: b"a." * 100_000 + b"a = 1\n", "a.toml", ""),
        (lambda: package({"inner.zip": package({"more.zip": bytes(1 << 20)}) * 3}), "a.zip", "sums of all 1"),
    ],
)
def test_files_made_to_cost_time_or_memory(make: Callable[[], bytes], name: str, said: str) -> None:
    content = check(make(), name)
    assert said in content.reason, content.reason


def test_a_file_that_grows_one_without_rights_and_one_that_is_no_file(
    tmp_path: Path, rustfern: Callable[..., Run]
) -> None:
    growing = tmp_path / "notes.log"
    growing.write_bytes(b"slipway\n" * 9000)
    writer = subprocess.Popen(["sh", "-c", f"while :; do echo more >> '{growing}'; done"])
    try:
        files = rustfern("check", growing, "--json").json["files"]
    finally:
        writer.kill()
        writer.wait()
    assert files[0]["state"] == "intact"
    locked = tmp_path / "locked.docx"
    locked.write_bytes(docx("keel"))
    locked.chmod(0)
    os.mkfifo(tmp_path / "pipe.docx")
    run = rustfern("check", locked, tmp_path / "pipe.docx", "/dev/zero", "--json", without_rights=True)
    assert run.status == 1 and {file["state"] for file in run.json["files"]} == {"unreadable"}
    assert "denied" in run.json["files"][0]["reason"] and "regular file" in run.json["files"][1]["reason"]


def test_what_may_keep_a_whole_file_from_opening(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    strict = docx("keel")
    with zipfile.ZipFile(io.BytesIO(strict)) as source:
        parts: dict[str, str | bytes] = {n: source.read(n) for n in source.namelist()}
    parts["_rels/.rels"] = bytes(parts["_rels/.rels"]).replace(
        b"http://schemas.openxmlformats.org/officeDocument/2006/relationships",
        b"http://purl.oclc.org/ooxml/officeDocument/relationships",
    )
    home = tmp_path / "Users" / "ines"
    (home / "AppData").mkdir(parents=True)
    deep = home / "/".join(["Hull surveys of the wooden boats in this yard"] * 5)
    deep.mkdir(parents=True)
    newer = {
        "META-INF/manifest.xml": '<m:manifest m:version="1.9" xmlns:m="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"/>'
    }
    cases = {
        tmp_path / "strict.docx": (package(parts), "strict form"),
        tmp_path / "newer.odt": (odt("keel", extra=newer), "ODF 1.9"),
        tmp_path / "order|1.xlsx": (REAL["timber-writer.xlsx"], "signs that Windows"),
        deep / "timber.xlsx": (REAL["timber-writer.xlsx"], "Windows programs stop at 218"),
        tmp_path / "macros.xlsx": (REAL["timber-office.xlsm"], "rename it to .xlsm"),
    }
    for path, (data, said) in cases.items():
        path.write_bytes(data)
        file = rustfern("check", path, "--json").json["files"][0]
        assert file["state"] == "intact" and any(said in text for text in file["hindrances"]), file
    sent = tmp_path / "sent.docx"
    sent.write_bytes(REAL["survey-office.docx"].replace(b"\n", b"\r\n"))
    cut = tmp_path / "cut.docx"
    cut.write_bytes(REAL["survey-office.docx"][:3000] + bytes(1213))
    run = rustfern("check", sent, cut)
    assert "sent as text" in " ".join(run.out.split()) and "1213 bytes are zeros" in " ".join(run.out.split())


def older_text(
    *runs: str | bytes,
    ident: int = 0xA5DC,
    flags: int = 0,
    lie: int = 0,
    language: int = 0x409,
    order: str = "",
    fonts: bytes = b"",
) -> bytes:
    """A binary text of a version before 1997, as its header is published: its runs one after another, or, with an `order`, in pieces."""
    laid = [run.encode("cp1252") if isinstance(run, str) else run for run in runs]
    width, bare = 2 if flags & 0x1000 else 1, ident in (0xA59B, 0xA5DB)
    text, at = b"".join(laid), 768
    count = len(text) // width
    limits, pieces, done = [0], b"", 0
    for number in map(int, order):
        done += len(laid[number]) // width
        limits.append(done)
        pieces += struct.pack("<HIH", 0, at + sum(map(len, laid[:number])), 0)
    table = struct.pack(f"<{len(limits)}I", *limits) + pieces
    shared = b"\1\2\0\x10\1"
    clx = shared + b"\2" + struct.pack("<H" if bare else "<I", len(table)) + table if order else b""
    place = {0xA59B: 0x112, 0xA5DB: 0x11E}.get(ident, 0x160)
    head = bytearray(at)
    struct.pack_into(
        "<HHHHHH", head, 0, ident, {0xA59B: 33, 0xA5DB: 45}.get(ident, 104), 0, language, 0, flags | 4 * bool(order)
    )
    struct.pack_into("<III", head, 24, at, at + len(text), at + len(text) + len(clx) + len(fonts))
    struct.pack_into("<i", head, 52, count + lie)
    struct.pack_into("<IH" if bare else "<II", head, place, at + len(text), len(clx))
    struct.pack_into("<II", head, 0xD0, at + len(text) + len(clx), len(fonts))
    stream = bytes(head) + text + clx + fonts
    return stream if bare else compound_file({"WordDocument": stream.ljust(4096, b"\0")})


def paged_text(
    *paragraphs: bytes, windows: bool = False, pictures: frozenset[int] = frozenset(), flags: int = 0
) -> bytes:
    """A text in pages of 128 bytes, as the versions for DOS and the small word processor of Windows wrote it."""
    text = b"".join(paragraphs)
    end = 128 + len(text)

    def pages(limits: list[int], marked: frozenset[int]) -> bytes:
        out, last = b"", 128
        for number, limit in enumerate(limits):
            page = bytearray(128)
            struct.pack_into("<IIH", page, 0, last, limit, 40)
            page[44], page[61], page[127] = 17, 0x10 * (number in marked), 1
            out, last = out + bytes(page), limit
        return out

    body = text.ljust(-(-len(text) // 128) * 128, b"\0")
    limits = [128 + sum(map(len, paragraphs[: number + 1])) for number in range(len(paragraphs))]
    characters, properties = pages([end], frozenset()), pages(limits, pictures)
    first = 1 + len(body) // 128 + len(characters) // 128
    last = first + len(properties) // 128
    head = bytearray(128)
    struct.pack_into("<HHH", head, 0, 0xBE31, 0, 0xAB00)
    struct.pack_into("<IHHH", head, 14, end, first, last, last)
    struct.pack_into("<H", head, 0x60 if windows else 0x6A, last)
    head[0x75] = flags
    struct.pack_into("<H", head, 0x7E, 0 if windows else 850)
    return bytes(head) + body + characters + properties


KEEL = "Hull survey\rThe hög is sound.\r"
DOUBLE = "船体の検査\r".encode("cp932").replace(b"\r", b"\0\r")


@pytest.mark.parametrize(
    ("data", "state", "said"),
    [
        (older_text(KEEL), State.INTACT, "Hull survey/The hög is sound."),
        (older_text("sound.\r", "Hull ", "The hög is ", "survey\r", order="1320"), State.INTACT, "Hull survey/The hög is sound."),
        (older_text("sound.\r", "Hull ", ident=0xA5DB, order="10"), State.INTACT, "Hull sound."),
        (older_text("sound.\r", "Hull ", ident=0xA59B, order="10"), State.INTACT, "Hull sound."),
        (older_text("Hull\r\nsound.\r\n", ident=0xA5DB), State.INTACT, "Hull/sound."),
        (older_text("Корпус\r".encode("cp1251"), language=0x419), State.INTACT, "Корпус"),
        (older_text(b"".join(DOUBLE[i : i + 2][::-1] for i in range(0, len(DOUBLE), 2)), ident=0xA697, flags=0x1000), State.INTACT, "船体の検査"),
        (older_text("創建".encode("cp950")[1::-1], b"\x93\x10", ident=0xA699, flags=0x1000, fonts=b"\7\0\5\0\0\0\x88"), State.INTACT, "創“"),
        (older_text("Hull", lie=9), State.DAMAGED, "4 of 13 characters"),
        (older_text("sound.", "Hull ", order="1", lie=9), State.DAMAGED, "5 of 20 characters"),
        (older_text("Hull ", order="0")[:-3600].ljust(4608, b"\0"), State.DAMAGED, ""),
        (older_text("Hull" + "\0" * 20), State.DAMAGED, "zeros"),
        (older_text("Hull sound", ident=0xA5DB)[:-3], State.DAMAGED, "775 of the 778 bytes"),
        (older_text("Hull", flags=0x100), State.ENCRYPTED, "password"),
        (older_text("Hull", ident=0xA5DB, flags=0x100), State.ENCRYPTED, "password"),
        (paged_text(b"Hull survey\r\n", "hög\r\n".encode("cp850")), State.INTACT, "Hull survey/hög"),
        (paged_text(b"Hull\r\n", bytes(300), b"rot\x94s\r\n", windows=True, pictures=frozenset({1})), State.INTACT, "Hull/rot”s"),
        (paged_text(b"Hull\r\n", bytes(300), b"rot\r\n", windows=True), State.DAMAGED, "zeros"),
        (paged_text(b"Hull survey\r\n")[:-100], State.DAMAGED, "of the 512 bytes"),
        (paged_text(b"Hull survey\r\n")[:-128] + bytes(128), State.DAMAGED, "follow one another"),
        (paged_text(b"Hull survey\r\n", flags=2), State.UNREADABLE, "saved in pieces"),
        (b"\xfe\x37\x00\x23" + bytes(400), State.UNREADABLE, "other computers"),
        (b"\xfe\x34\x00\x00" + bytes(400), State.UNREADABLE, "other computers"),
        (b"\xed\xde\xad\x0b\x03" + bytes(400), State.UNREADABLE, "presentation of 1995 or before"),
        (b"\x0b\xad\xde\xed\x00" + bytes(400), State.UNREADABLE, "presentation of 1995 or before"),
    ],
)  # fmt: skip
def test_texts_before_1997(data: bytes, state: State, said: str) -> None:
    name = "a.ppt" if "presentation" in said else "a.wri" if data[:2] == b"\x31\xbe" and data[0x60] else "a.doc"
    content = check(data, name)
    assert content.state is state, content.reason
    if state is State.INTACT:
        _, pieces = formats.read_text(io.BytesIO(data), name, 100, Limits())
        assert "/".join(piece.text.strip() for piece in pieces) == said and content.glance.needs
    else:
        assert said in content.reason, content.reason
    for at in range(0, min(len(data), 900), 7):
        check(data[:at] + b"\xff\xff" + data[at + 2 :], name)


@pytest.mark.parametrize("name", sorted(packed("strange.tar.xz")))
def test_files_that_once_broke_a_reader(name: str) -> None:
    data = packed("strange.tar.xz")[name]
    assert check(data, name).state in (State.DAMAGED, State.INTACT)
