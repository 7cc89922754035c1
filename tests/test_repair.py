"""`repair` on the built command: documents of real programs, damaged here; what comes back is whole, holds their words and no others."""

from __future__ import annotations

import functools
import gzip
import hashlib
import io
import json
import random
import re
import sqlite3
import struct
import tarfile
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from xml.parsers import expat

import pytest
from conftest import Run, member, package, packed
from hypothesis import example, given
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.formats import registry as formats
from rustfern.formats.archives.sevenzip import SevenArchive
from rustfern.formats.interface import Limits
from rustfern.formats.office.compound_file import Compound
from rustfern.formats.text_sink import words_of
from rustfern.operations import sum_beside
from rustfern.operations.repair_words import loss, method
from rustfern.repair import json_text, rtf, text, xls
from rustfern.repair.compound_salvage import CompoundSalvage
from rustfern.repair.compound_writer import compound
from rustfern.repair.deflate_flip import packed_flips, stored_flip
from rustfern.repair.deflate_resume import inflate_prefix
from rustfern.repair.interface import Budget, Job, Loss, LossKind, Step
from rustfern.repair.ooxml_grammar import GRAMMARS
from rustfern.repair.pdf_content import whole_operators
from rustfern.repair.registry import repairers
from rustfern.repair.together import together
from rustfern.repair.xml_mend import first_fault, mend
from rustfern.repair.zip_salvage import Salvaged, content, find_members

Rustfern = Callable[..., Run]
Damage = Callable[[bytes], bytes]
XLSB = (
    "win-sheet-overwritten",
    "Users/ivarga/AppData/Roaming/Microsoft/Excel/Timber%20orders%20spring310714380310390755/"
    "Timber%20orders%20spring((Autosaved-310190569458189392)).xlsb",
)
MARK = re.compile(r"\[[^\[\]]{3,95}\]")


@functools.cache
def documents() -> dict[str, bytes]:
    """Whole documents of real programs, by their names."""
    archives = ("packages.tar.xz", "media.tar.xz", "office.tar.xz", "documents.tar.xz")
    return {name.rpartition("/")[2]: data for archive in archives for name, data in packed(archive).items()}


def words(data: bytes, name: str) -> Counter[str]:
    """The words of a document, without those of marks."""
    _, pieces = formats.read_text(io.BytesIO(data), name, 1 << 30, Limits())
    return Counter(word for piece in pieces for word in words_of(MARK.sub(" ", piece.text)))


def check(data: bytes, name: str) -> str:
    """The verdict on bytes under a name."""
    return str(formats.check(io.BytesIO(data), name, digest=False).state)


def cut(share: float) -> Damage:
    return lambda data: data[: int(len(data) * share)]


def hole(share: float, length: int) -> Damage:
    def damage(data: bytes) -> bytes:
        at = int(len(data) * share)
        return data[:at] + bytes(length) + data[at + length :]

    return damage


def flip(at: float, bit: int = 3) -> Damage:
    def damage(data: bytes) -> bytes:
        place = int(len(data) * at)
        return data[:place] + bytes((data[place] ^ 1 << bit,)) + data[place + 1 :]

    return damage


def without(*names: str, **changed: bytes) -> Damage:
    """A package without some of its parts."""

    def damage(data: bytes) -> bytes:
        with zipfile.ZipFile(io.BytesIO(data)) as source:
            parts = {name: source.read(name) for name in source.namelist() if name not in names}
        return package(parts | changed, stored=("mimetype",))

    return damage


def within(name: str, change: Damage) -> Damage:
    """A package whose part was changed and packed again, with a sum that fits."""

    def damage(data: bytes) -> bytes:
        with zipfile.ZipFile(io.BytesIO(data)) as source:
            parts = {each: source.read(each) for each in source.namelist()}
        return package({**parts, name: change(parts[name])}, stored=("mimetype",))

    return damage


def no_directory(data: bytes) -> bytes:
    at = data.rindex(b"PK\x05\x06")
    start = int.from_bytes(data[at + 16 : at + 20], "little")
    return data[:start] + bytes(len(data) - start)


def no_local_headers(data: bytes) -> bytes:
    made = bytearray(data)
    for found in list(re.finditer(rb"PK\x03\x04", data)):
        made[found.start() : found.start() + 26] = bytes(26)
    return bytes(made)


def as_text(data: bytes) -> bytes:
    return data.replace(b"\n", b"\r\n")


def wrong_sum(data: bytes) -> bytes:
    made = bytearray(data)
    for mark, offset in ((b"PK\x03\x04", 14), (b"PK\x01\x02", 16)):
        at = data.index(mark)
        while at >= 0:
            made[at + offset] ^= 0xFF
            at = data.find(mark, at + 4)
    return bytes(made)


def no_head(data: bytes) -> bytes:
    return bytes(512) + data[512:]


def no_fat(data: bytes) -> bytes:
    at = (int.from_bytes(data[76:80], "little") + 1) * 512
    return data[:at] + bytes(512) + data[at + 512 :]


def no_compound_directory(data: bytes) -> bytes:
    at = (int.from_bytes(data[48:52], "little") + 1) * 512
    return data[:at] + bytes(512) + data[at + 512 :]


def no_tables(data: bytes) -> bytes:
    return re.sub(rb"startxref\s+\d+", b"startxref\n1", data).replace(b"\nxref", b"\nxxxx")


def lost_byte(data: bytes) -> bytes:
    return data[: len(data) // 2 * 2 // 2 - 1] + data[len(data) // 2 :]


ROWS: list[tuple[str, str, Damage, str, float, str]] = [
    ("survey-python.docx", "cut", cut(0.6), "docx", 0.9, "directory"),
    ("survey-office.docx", "no directory", no_directory, "docx", 1.0, "directory"),
    ("survey-office.docx", "no local headers", no_local_headers, "docx", 1.0, "directory"),
    ("survey-office.docx", "sent as text", as_text, "docx", 1.0, "transfer as text"),
    ("survey-office.docx", "wrong sums", wrong_sum, "docx", 1.0, "directory"),
    ("survey-office.docx", "no types", without("[Content_Types].xml"), "docx", 1.0, "anew"),
    ("survey-office.docx", "no relationships", without("word/_rels/document.xml.rels", "_rels/.rels"), "docx", 1.0, "anew"),
    ("survey-office.docx", "no styles", without("word/styles.xml"), "docx", 1.0, "directory"),
    ("survey-office.docx", "cut markup", within("word/document.xml", cut(0.7)), "docx", 0.4, "closed"),
    ("survey-office.docx", "entity", within("word/document.xml", lambda x: x.replace(b"<w:t", b"<w:t>&bogus; &</w:t><w:t", 1)), "docx", 0.9, "taken out"),
    ("launch-pandoc.docx", "no notes", without("word/footnotes.xml"), "docx", 0.9, "anew"),
    ("memo-0pages.docx", "hole", hole(0.15, 700), "docx", 0.1, "closed"),
    ("survey-odfpy.odt", "cut", cut(0.7), "odt", 0.2, "directory"),
    ("launch.odp", "no directory", no_directory, "odp", 1.0, "directory"),
    ("launch-office.odp", "no manifest", without("META-INF/manifest.xml", "mimetype"), "odp", 1.0, "directory"),
    ("timber-office.ods", "cut markup", within("content.xml", cut(0.5)), "ods", 0.2, "closed"),
    ("mooring-office.odg", "cut", cut(0.9), "odg", 0.5, "directory"),
    ("tide-notes.fodt", "cut", cut(0.99), "fodt", 0.3, "closed"),
    ("launch-office.fodp", "no head", no_head, "fodp", 1.0, "anew"),
    ("launch-office.fodp", "hole", hole(0.3, 2048), "fodp", 0.3, "closed"),
    ("timber-openpyxl.xlsx", "no workbook", without("xl/workbook.xml"), "xlsx", 0.9, "anew"),
    ("timber-writer.xlsx", "no texts", without("xl/sharedStrings.xml"), "xlsx", 0.2, "anew"),
    ("timber-openpyxl.xlsx", "no styles", without("xl/styles.xml"), "xlsx", 0.4, "anew"),
    ("timber-writer.xlsx", "cut sheet", within("xl/worksheets/sheet1.xml", cut(0.5)), "xlsx", 0.2, "closed"),
    ("timber-writer.xlsx", "cut texts", within("xl/sharedStrings.xml", cut(0.5)), "xlsx", 0.3, "closed"),
    ("launch-python.pptx", "cut", cut(0.85), "pptx", 0.1, "anew"),
    ("launch-python.pptx", "no slide", without("ppt/slides/slide2.xml"), "pptx", 0.2, "anew"),
    ("launch-python.pptx", "no masters", without("ppt/slideMasters/slideMaster1.xml"), "pptx", 0.9, "anew"),
    ("launch-python.pptx", "no presentation", without("ppt/presentation.xml"), "pptx", 0.9, "anew"),
    ("launch-pandoc.epub", "no list", without("EPUB/content.opf"), "epub", 0.9, "anew"),
    ("rigging.epub", "cut", cut(0.6), "epub", 0.1, "directory"),
    ("survey-office.doc", "no head", no_head, "doc", 0.9, "chains"),
    ("survey-office.doc", "no directory", no_compound_directory, "docx", 0.9, "chains"),
    ("timber-xlwt.xls", "no directory", no_compound_directory, "xls", 0.9, "chains"),
    ("timber-xlwt.xls", "no table", no_fat, "xls", 0.9, "chains"),
    ("tools-longtail.xls", "cut", cut(0.6), "xls", 0.1, "records"),
    ("tools-longtail.xls", "hole", hole(0.5, 3000), "xls", 0.3, "records"),
    ("launch.ppt", "cut", cut(0.9), "ppt", 1.0, "chains"),
    ("survey.pdf", "no tables", no_tables, "pdf", 1.0, "objects"),
    ("survey-gs.pdf", "cut", cut(0.97), "pdf", 0.9, "objects"),
    ("launch-office.pdf", "hole", hole(0.2, 1024), "pdf", 0.1, "objects"),
    ("survey-office.rtf", "cut", cut(0.8), "rtf", 0.1, "closed"),
    ("launch-pandoc.rtf", "hole", hole(0.5, 600), "rtf", 0.2, "zeros"),
    ("mooring-office.svg", "cut", cut(0.7), "svg", 0.3, "closed"),
    ("launch-pandoc.html", "hole", hole(0.5, 512), "html", 0.4, "zeros"),
    ("survey-office.xml", "no head", no_head, "xml", 0.8, "zeros"),
    ("survey-office.xml", "cut", cut(0.8), "xml", 0.4, "closed"),
    ("launch-pandoc.ipynb", "cut", cut(0.7), "json", 0.3, "closed"),
    ("timber-office.csv", "cut", cut(0.61), "csv", 0.5, "closed"),
    ("notes.txt", "hole", hole(0.4, 512), "txt", 0.7, "zeros"),
    ("notes-utf16.txt", "lost byte", lost_byte, "txt", 0.9, "encoding"),
    ("survey.eml", "cut", cut(0.7), "eml", 0.5, "closed"),
    ("yard.mbox", "hole", hole(0.3, 300), "mbox", 0.3, "zeros"),
    ("orders.sqlite", "cut", cut(0.7), "sqlite", 0.3, "rows"),
    ("orders.sqlite", "no head", lambda data: bytes(100) + data[100:], "sqlite", 0.8, "rows"),
    ("yard-archive-streamed.zip", "no directory", no_directory, "zip", 1.0, "directory"),
    ("mooring-r2018.dxf", "cut", cut(0.8), "dxf", 0.3, "entities"),
    ("mooring.svgz", "cut", cut(0.9), "svgz", 0.0, "unpacked"),
    ("plan-layers.psd", "cut", cut(0.8), "psd", 0.0, "layers"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "what", "damage", "form", "share", "how"),
    ROWS,
    ids=[f"{row[0]}-{row[1].replace(' ', '-')}" for row in ROWS],
)
def test_what_is_left_comes_back(
    rustfern: Rustfern, tmp_path: Path, name: str, what: str, damage: Damage, form: str, share: float, how: str
) -> None:
    healthy = documents()[name]
    hurt = damage(healthy)
    source = tmp_path / name
    source.write_bytes(hurt)
    assert check(hurt, name) == "damaged"
    run = rustfern("repair", source, "--to", tmp_path / "out", "--json")
    assert run.status == 0, run.out
    (row,) = run.json["repaired"]
    made = Path(row["to"])
    assert run.json["schema"] == "rustfern/repair-1" and run.json["refused"] == []
    assert row["format"] == form and row["state"] == "intact" and how in row["method"]
    assert row["id"] is None and row["from"] == str(source) and row["text"] is None
    assert check(made.read_bytes(), made.name) == "intact"
    assert row["sha256"] == hashlib.sha256(made.read_bytes()).hexdigest()
    before, after = words(healthy, name), words(made.read_bytes(), made.name)
    assert (before & after).total() >= share * before.total()
    assert row["kept"].get("words", 0) > 0 or not after
    assert not any("could not be found" in lost for lost in row["lost"])
    assert source.read_bytes() == hurt and made.name.startswith(f"{name.rpartition('.')[0]} (repaired).")


REFUSED = {
    "zeros.docx": bytes(40_000),
    "ones.pdf": b"\xff" * 30_000,
    "nothing.xlsx": b"",
    "noise.doc": bytes(hashlib.sha256(b"boat").digest() * 900),
    "whole.docx": documents()["survey-office.docx"],
    "locked.pdf": b"%PDF-1.4\n1 0 obj\n<</Type/Catalog/Pages 2 0 R>>\nendobj\ntrailer\n<</Encrypt 3 0 R/Root 1 0 R>>\n",
    "recording.mp3": documents()["radio.mp3"][:50] + bytes(600),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_cannot_be_had_is_refused_and_nothing_is_written(rustfern: Rustfern, tmp_path: Path, name: str) -> None:
    source = tmp_path / name
    source.write_bytes(REFUSED[name])
    run = rustfern("repair", source, "--to", tmp_path / "out", "--json")
    assert run.status == 1 and run.json["repaired"] == [] and len(run.json["refused"]) == 1
    assert run.json["refused"][0]["from"] == str(source) and len(run.json["refused"][0]["message"]) > 10
    assert list((tmp_path / "out").iterdir()) == []


def test_marks_stand_where_something_is_missing_and_can_be_left_out(rustfern: Rustfern, tmp_path: Path) -> None:
    source = tmp_path / "memo.docx"
    source.write_bytes(within("word/document.xml", cut(0.6))(documents()["memo-0pages.docx"]))
    rows = []
    for number, more in enumerate(((), ("--no-marks",))):
        run = rustfern("repair", source, "--to", tmp_path / f"out{number}", "--text", "--json", *more)
        (row,) = run.json["repaired"]
        rows.append(row)
        with zipfile.ZipFile(row["to"]) as made:
            told = made.read("word/document.xml").decode()
        assert ("paragraphs may be missing here]" in told) is (not more)
        assert ("missing here" in Path(row["text"]).read_text()) is (not more)
    assert rows[0]["kept"]["words"] == rows[1]["kept"]["words"] and rows[0]["lost"] == rows[1]["lost"] != []


def test_cells_keep_their_addresses_when_texts_are_lost(rustfern: Rustfern, tmp_path: Path) -> None:
    source = tmp_path / "timber.xlsx"
    source.write_bytes(without("xl/sharedStrings.xml")(documents()["timber-writer.xlsx"]))
    (row,) = rustfern("repair", source, "--to", tmp_path / "out", "--json").json["repaired"]
    with (
        zipfile.ZipFile(io.BytesIO(documents()["timber-writer.xlsx"])) as before,
        zipfile.ZipFile(row["to"]) as after,
    ):
        assert after.read("xl/worksheets/sheet1.xml") == before.read("xl/worksheets/sheet1.xml")
        assert b"[this text is missing]" in after.read("xl/sharedStrings.xml")
    assert any("texts that cells share" in lost for lost in row["lost"])


def test_a_number_of_a_text_that_cannot_be_is_cleared(rustfern: Rustfern, tmp_path: Path) -> None:
    def change(data: bytes) -> bytes:
        return cut(0.9)(re.sub(rb'(t="s"[^>]*><v>)\d+', rb"\g<1>70000", data, count=1))

    source = tmp_path / "timber-writer.xlsx"
    source.write_bytes(within("xl/worksheets/sheet1.xml", change)(documents()[source.name]))
    (row,) = rustfern("repair", source, "--to", tmp_path / "out", "--json").json["repaired"]
    with zipfile.ZipFile(row["to"]) as made:
        sheet = made.read("xl/worksheets/sheet1.xml")
    assert b"70000" not in sheet and sheet.count(b"[this text is missing]") == 1
    assert any("1 of the texts that cells share" in lost for lost in row["lost"])


def test_a_text_that_moves_up_never_lands_in_another_cell(rustfern: Rustfern, tmp_path: Path) -> None:
    """One shared string is torn: those behind it keep their numbers."""
    items = "".join(f"<si><t>Boat {n}</t></si>" for n in range(40))
    torn = items.replace("<si><t>Boat 20</t></si><si>", "<si><t>Boa\x01t 20<t></si", 1)
    whole = documents()["timber-openpyxl.xlsx"]
    head = '<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" count="40" uniqueCount="40">'
    cells = "".join(f'<row r="{n + 1}"><c r="A{n + 1}" t="s"><v>{n}</v></c></row>' for n in range(40))
    sheet = f'<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>{cells}</sheetData></worksheet>'
    changed = {"xl/sharedStrings.xml": f"{head}{torn}</sst>".encode(), "xl/worksheets/sheet1.xml": sheet.encode()}
    source = tmp_path / "boats.xlsx"
    source.write_bytes(without(**changed)(whole))
    (row,) = rustfern("repair", source, "--to", tmp_path / "out", "--json").json["repaired"]
    _, pieces = formats.read_text(io.BytesIO(Path(row["to"]).read_bytes()), "x.xlsx", 1 << 20, Limits())
    shown = {piece.spot[1] - 1: piece.text for piece in pieces if piece.spot and "Boat" in piece.text}
    assert {n: f"Boat {n}" for n in (*range(20), *range(23, 40))}.items() <= shown.items()


def test_two_damaged_copies_are_put_together_where_their_bytes_prove_it(rustfern: Rustfern, tmp_path: Path) -> None:
    whole = documents()["memo-0pages.docx"]
    early, late, other = tmp_path / "early.docx", tmp_path / "late.docx", tmp_path / "other.docx"
    early.write_bytes(cut(0.7)(whole))
    late.write_bytes(hole(0.2, 9000)(whole))
    other.write_bytes(hole(0.2, 9000)(documents()["survey-python.docx"]))
    run = rustfern("repair", early, "--with", late, "--to", tmp_path / "out", "--json")
    (row,) = run.json["repaired"]
    assert Path(row["to"]).read_bytes() == whole and "put together" in row["method"] and row["lost"] == []
    alone = rustfern("repair", early, "--to", tmp_path / "alone", "--json").json["repaired"][0]
    mixed = rustfern("repair", early, "--with", other, "--to", tmp_path / "mixed", "--json").json["repaired"][0]
    assert alone["kept"]["words"] == mixed["kept"]["words"] <= row["kept"]["words"]


def test_parts_of_another_version_are_taken_only_when_asked_and_said(rustfern: Rustfern, tmp_path: Path) -> None:
    whole = documents()["survey-office.docx"]
    hurt, older = tmp_path / "survey.docx", tmp_path / "older.docx"
    hurt.write_bytes(without("word/styles.xml")(whole))
    older.write_bytes(
        within("docProps/core.xml", lambda x: x.replace(b"</cp:coreProperties>", b"<!--1--></cp:coreProperties>"))(
            whole
        )
    )
    alone = rustfern("repair", hurt, "--to", tmp_path / "alone", "--json").json["repaired"][0]
    asked = rustfern("repair", hurt, "--with", older, "--to", tmp_path / "asked", "--json").json["repaired"][0]
    with zipfile.ZipFile(alone["to"]) as first, zipfile.ZipFile(asked["to"]) as second:
        assert "word/styles.xml" not in first.namelist() and "word/styles.xml" in second.namelist()
    assert any("older.docx" in lost and "another version" in lost for lost in asked["lost"])
    sample = tmp_path / "sample.docx"
    sample.write_bytes(documents()["memo-0pages.docx"])
    like = rustfern("repair", hurt, "--like", sample, "--to", tmp_path / "like", "--json").json["repaired"][0]
    with zipfile.ZipFile(like["to"]) as third, zipfile.ZipFile(sample) as theirs:
        assert third.read("word/styles.xml") == theirs.read("word/styles.xml")
        assert not any(name.startswith("word/media") for name in third.namelist())


def test_scan_look_and_check_say_what_repair_would_give(rustfern: Rustfern, tmp_path: Path) -> None:
    folder = tmp_path / "disk" / "home" / "ines" / "Documents"
    folder.mkdir(parents=True)
    source = folder / "Hull survey.docx"
    source.write_bytes(within("word/document.xml", cut(0.6))(documents()["memo-0pages.docx"]))
    run = rustfern("scan", tmp_path / "disk", "--happened", "wont-open", "--json")
    (document,) = run.json["documents"]
    told = document["copies"][0]["repair"]
    assert document["best"] is None and told["format"] == "docx" and told["kept"]["words"] > 100
    screen = " ".join(rustfern("scan", tmp_path / "disk", "--happened", "wont-open").out.split())
    assert f"repair 1a: {told['kept']['words']} words can be had (rustfern repair 1a --to DIR)" in screen
    assert rustfern("look", "1a", "--json").json["repair"] == told
    assert "can be had" in rustfern("look", source).out and "repair" in rustfern("check", source).out
    for what in ("1", "1a"):
        run = rustfern("repair", what, "--to", tmp_path / what, "--json")
        (row,) = run.json["repaired"]
        assert run.status == 0 and row["id"] == "1a" and row["from"] == str(source)
        assert abs(row["kept"]["words"] - told["kept"]["words"]) <= 8
    assert rustfern("repair", "7", "--to", tmp_path / "seven").status == 1
    assert rustfern("restore", "1a", "--to", tmp_path / "restored", "--json").json["restored"][0]["state"] == "damaged"


def test_a_folder_many_files_one_failing(rustfern: Rustfern, tmp_path: Path) -> None:
    folder = tmp_path / "many"
    folder.mkdir()
    for number in range(12):
        (folder / f"{number}.docx").write_bytes(no_directory(documents()["survey-office.docx"]))
    (folder / "whole.docx").write_bytes(documents()["survey-office.docx"])
    (folder / "zeros.xlsx").write_bytes(bytes(9000))
    (folder / "unknown").write_bytes(b"\0\1\2")
    run = rustfern("repair", folder, "--to", tmp_path / "out", "--json")
    assert run.status == 3 and len(run.json["repaired"]) == 12
    assert [Path(row["from"]).name for row in run.json["refused"]] == ["zeros.xlsx"]
    screen = rustfern("repair", folder, "--to", tmp_path / "screen").out
    assert "12 of 13 repaired" in screen and "zeros.xlsx" in screen


def test_wrong_usage_and_where_nothing_may_be_written(rustfern: Rustfern, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    (folder / "a.docx").write_bytes(cut(0.5)(documents()["survey-office.docx"]))
    for words_, status in (
        (("repair", folder, "--to", folder / "out"), 2),
        (("repair", tmp_path / "gone.docx", "--to", tmp_path / "out"), 2),
        (("repair", folder / "a.docx", "--like", tmp_path / "gone", "--to", tmp_path / "out"), 2),
        (("repair", "--to", tmp_path / "out"), 2),
    ):
        run = rustfern(*words_)
        assert run.status == status and run.err
    assert sorted(each.name for each in folder.iterdir()) == ["a.docx"]


def test_whole_files_get_their_ending_and_lose_what_clings_to_them(rustfern: Rustfern, tmp_path: Path) -> None:
    whole = documents()["survey-office.docx"]
    for name, beside, how in (("survey.pdf", "", "ending"), ("survey.docx", ".~lock.survey.docx#", "left behind")):
        source = tmp_path / name
        source.write_bytes(whole)
        if beside:
            (tmp_path / beside).touch()
        (row,) = rustfern("repair", source, "--to", tmp_path / how, "--json").json["repaired"]
        assert (
            how in row["method"]
            and Path(row["to"]).read_bytes() == whole
            and row["to"].endswith(".docx")
            and row["stood"]
        )


# -- what the repairers rest on


def made_by(repairer: Callable[[Job, io.BytesIO], object], data: bytes, name: str, form: str) -> bytes | None:
    """What a repairer writes; None if it refuses."""
    out = io.BytesIO()
    try:
        repairer(Job(io.BytesIO(data), len(data), name, form), out)
    except Malformed:
        return None
    return out.getvalue()


@st.composite
def damaged(draw: st.DrawFn, data: bytes) -> bytes:
    """Bytes cut, holed, flipped, or with a piece of something else in them."""
    made = bytearray(data)
    for _ in range(draw(st.integers(1, 3))):
        at = draw(st.integers(0, len(made) - 1)) if made else 0
        match draw(st.integers(0, 3)):
            case 0:
                del made[at:]
            case 1:
                length = draw(st.integers(1, 400))
                made[at : at + length] = bytes(min(length, len(made) - at))
            case 2:
                made[at : at + 1] = bytes((draw(st.integers(0, 255)),))
            case _:
                made[at:at] = draw(st.binary(max_size=40))
    return bytes(made)


def part_of(name: str, part: str) -> bytes:
    with zipfile.ZipFile(io.BytesIO(documents()[name])) as source:
        return source.read(part)


MARKUP = [
    ("survey-office.docx", "word/document.xml"),
    ("timber-openpyxl.xlsx", "xl/worksheets/sheet1.xml"),
    ("timber-writer.xlsx", "xl/sharedStrings.xml"),
    ("launch-python.pptx", "ppt/slides/slide2.xml"),
    ("survey-office.docx", "word/styles.xml"),
]


@pytest.mark.parametrize(("name", "part"), MARKUP)
@given(data=st.data())
def test_markup_is_well_formed_whatever_happened_to_it(name: str, part: str, data: st.DataObject) -> None:
    grammar = next(grammar for pattern, grammar, _ in GRAMMARS if pattern.fullmatch(part))
    whole = part_of(name, part)[:6000]
    pieces = [piece for piece in data.draw(damaged(whole)).split(bytes(16)) if piece] or [b""]
    made = mend(pieces, grammar, complete=False, said="paragraphs").data
    for _ in range(4):
        if first_fault(made) is None:
            break
        made = mend([made[: first_fault(made)]], grammar, complete=False).data
    expat.ParserCreate(namespace_separator=" ").Parse(made, True)
    assert mend([part_of(name, part)], grammar, complete=True).data == part_of(name, part)


@given(st.data())
def test_json_and_rich_text_read_to_their_end_whatever_happened(data: st.DataObject) -> None:
    told = {
        "yard": "Marlow Quay",
        "jobs": [{"ref": f"MQ-{n}", "boat": 'Gannet \\ "x"', "hours": n / 4} for n in range(30)],
    }
    hurt = data.draw(damaged(json.dumps(told, indent=1).encode()))
    made = made_by(json_text.repair, hurt, "jobs.json", "json")
    assert made is None or json.loads(made.decode("utf-8", "replace")) is not None
    hurt = data.draw(damaged(documents()["launch-pandoc.rtf"]))
    made = made_by(rtf.repair, hurt, "launch.rtf", "rtf")
    assert made is None or made.startswith(b"{\\rtf")


OTHERS = [
    ("timber-xlwt.xls", "xls"), ("survey-office.doc", "doc"), ("form.pdf", "pdf"), ("orders.sqlite", "sqlite"), ("survey-odfpy.odt", "odt"),
    ("mooring-r12.dxf", "dxf"), ("survey.eml", "eml"), ("notes-utf16.txt", "txt"), ("timber-office.csv", "csv"), ("launch-pandoc.html", "html"),
    ("mooring.svgz", "svgz"), ("plan-layers.psd", "psd"), ("launch-pandoc.fb2", "fb2"), ("model.3mf", "3mf"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "form"), OTHERS)
@given(data=st.data())
def test_repairers_write_or_refuse_whatever_happened(name: str, form: str, data: st.DataObject) -> None:
    hurt = data.draw(damaged(documents()[name]))
    for kind, repairer in repairers(hurt[:4096], name, form):
        made_by(repairer, hurt, name, kind)


@given(st.lists(st.tuples(st.text("abcdef/", min_size=1, max_size=8), st.binary(max_size=9000)), max_size=30))
def test_a_compound_file_reads_as_it_was_written(streams: list[tuple[str, bytes]]) -> None:
    wanted = {f"{number}-{name.replace('/', '')}": data for number, (name, data) in enumerate(streams)}
    wanted |= {f"Storage/{name}": data for name, data in list(wanted.items())[:3]} | {"Workbook": b"x"}
    made = compound(wanted)
    read = Compound(io.BytesIO(made), len(made))
    assert {path: read.read(path) for path in wanted} == wanted
    found = CompoundSalvage(made).streams
    assert {path: found[path].data for path in wanted} == wanted and all(found[path].whole for path in wanted)


OPERATIONS = [
    (b"q 1 0 0 1 72 72 cm BT /F1 12 Tf (a\\)b(c)) Tj ET Q", b"q 1 0 0 1 72 72 cm BT /F1 12 Tf (a\\)b(c)) Tj ET Q"),
    (b"BT /F1 12 Tf 1 0 0 rgx 3 } 4 Td 5 6 Td (x) Tj", b"BT /F1 12 Tf 5 6 Td (x) Tj ET"),
    (b"q BT [(a)-20<0A>]TJ T* ET /P <</MCID 0/A<</B(x)>>>> BDC 1.5 J 2 J", b"q BT [(a)-20<0A>] TJ T* ET /P <</MCID 0/A<</B(x)>>>> BDC 2 J EMC Q"),
    (b"3 4 l 1 2 m 3 4 l S 5 6 l 0 0 9 9 re f", b"1 2 m 3 4 l S 0 0 9 9 re f"),
    (b"BI /W 1 /H 1 ID \xff(\0 EI /Cs cs .5 /P1 scn", b"BI /W 1 /H 1 ID \xff(\0 EI /Cs cs .5 /P1 scn"),
    (b"BT (never closed 1 2 Td", b"BT 1 2 Td ET"),
]  # fmt: skip


@pytest.mark.parametrize(("content", "kept"), OPERATIONS)
def test_contents_of_a_page_keep_the_operations_that_the_format_knows(content: bytes, kept: bytes) -> None:
    assert whole_operators(content).replace(b"\n", b" ").strip() == kept


@given(
    st.lists(
        st.sampled_from(b"q Q BT ET (a) (( 1 .5 /N [ ] << >> Td Tf Tj TJ l m BI ID EI \\ % EMC BMC".split()),
        max_size=60,
    )
)
def test_contents_of_a_page_stay_as_they_are_once_they_are_whole(tokens: list[bytes]) -> None:
    whole_operators(b"[" + b"12345678901234567890 " * 50)  # an array that never closes
    once = whole_operators(b" ".join(tokens))
    assert whole_operators(once) == once


@pytest.mark.parametrize("start", [0.2, 0.5, 0.8])
@pytest.mark.parametrize("to_the_end", [True, False])
def test_deflate_is_taken_up_again_at_the_next_block(start: float, to_the_end: bool) -> None:
    names = [hashlib.sha256(str(n).encode()).hexdigest()[: 4 + n % 7] for n in range(4000)]
    told = (
        f"<w:p><w:t>MQ-{n:04d} {' '.join(names[n * k % 4000] for k in range(1, 20))}</w:t></w:p>" for n in range(3000)
    )
    lines = "".join(told).encode()
    packer = zlib.compressobj(6, zlib.DEFLATED, -15, 4)
    raw = packer.compress(lines) + packer.flush()
    at = int(len(raw) * start)
    hurt = raw[:at] + bytes(512) + raw[at + 512 : len(raw) if to_the_end else len(raw) - 3000]
    size = len(lines) if to_the_end else None
    found = content(hurt, Salvaged("word/document.xml", 0, len(hurt), 8, (1,), size), Budget(60))
    assert len(found.stretches) == 2 and not found.complete and lines.startswith(found.stretches[0])
    behind = found.stretches[1]
    known = behind.replace(b"\0", b"")
    assert len(known) > 0.6 * len(behind) and len(behind) > 1000
    begin = lines.find(max(re.findall(rb"MQ-[^\0]{60,}", behind), key=len)[:60])
    offset = begin - behind.find(lines[begin : begin + 60])
    assert all(mine in (theirs, 0) for mine, theirs in zip(behind, lines[offset:], strict=False))


def _flipped(data: bytes, bit: int) -> bytes:
    changed = bytearray(data)
    changed[bit // 8] ^= 1 << bit % 8
    return bytes(changed)


@given(st.integers(0, 1 << 30), st.booleans(), st.sampled_from([1, 6, 9]))
@example(347, False, 9)
def test_a_flipped_bit_is_found_by_the_sum_alone(seed: int, is_fixed: bool, level: int) -> None:
    chance = random.Random(seed)
    rows = (
        f"<r><c>{chance.choice(['keel', 'oak', 'larch', 'tide'])}</c><v>{chance.randrange(9999)}</v></r>"
        for _ in range(200)
    )
    plain = "".join(rows).encode()
    packer = zlib.compressobj(level, zlib.DEFLATED, -15, 8, zlib.Z_FIXED if is_fixed else zlib.Z_DEFAULT_STRATEGY)
    packed_bytes = packer.compress(plain) + packer.flush()
    bit = chance.randrange(8 * len(packed_bytes))
    hurt = bytearray(packed_bytes)
    hurt[bit // 8] ^= 1 << bit % 8
    out, _, ended = inflate_prefix(bytes(hurt), most=len(plain) + 1)
    if ended and len(out) == len(plain):
        found = packed_flips(bytes(hurt), out, zlib.crc32(out) ^ zlib.crc32(plain), Budget(20))
        # Other bits may do as well: a copy from elsewhere, where the same letters stand.
        assert all(inflate_prefix(_flipped(bytes(hurt), each), most=len(plain) + 1)[0] == plain for each in found)
    place = chance.randrange(8 * len(plain))
    stored = bytearray(plain)
    stored[place // 8] ^= 1 << place % 8
    assert stored_flip(len(plain), zlib.crc32(plain) ^ zlib.crc32(stored)) == divmod(place, 8)


def test_most_flips_that_keep_the_length_are_set_right(rustfern: Rustfern, tmp_path: Path) -> None:
    healthy = documents()["survey-office.docx"]
    (member,) = [each for each in find_members(healthy) if each.name == "word/document.xml"]
    sources, chance = [], random.Random(4)
    while len(sources) < 8:
        at, bit = member.start + chance.randrange(100, member.length), chance.randrange(8)
        hurt = bytearray(healthy)
        hurt[at] ^= 1 << bit
        out, _, ended = inflate_prefix(bytes(hurt[member.start : member.start + member.length]))
        if ended and len(out) == member.size:
            sources.append(tmp_path / f"survey {len(sources)}.docx")
            sources[-1].write_bytes(hurt)
    rows = rustfern("repair", *sources, "--to", tmp_path / "out", "--json").json["repaired"]
    right = [row for row in rows if "a sum proves" in row["method"] and not row["lost"]]
    assert len(right) >= 7
    for row in right:
        with zipfile.ZipFile(row["to"]) as made, zipfile.ZipFile(io.BytesIO(healthy)) as first:
            assert made.read("word/document.xml") == first.read("word/document.xml")


@pytest.mark.parametrize("length", [64, 512, 1500])
@pytest.mark.parametrize("share", [0.25, 0.6])
def test_deflate_goes_on_within_the_block_in_which_a_hole_lies(length: int, share: float) -> None:
    names = [hashlib.sha256(str(n).encode()).hexdigest()[: 4 + n % 7] for n in range(4000)]
    told = (
        f"<w:p><w:t>MQ-{n:04d} {' '.join(names[n * k % 4000] for k in range(1, 20))}</w:t></w:p>" for n in range(2000)
    )
    lines = "".join(told).encode()
    packer = zlib.compressobj(6, zlib.DEFLATED, -15)
    raw = packer.compress(lines) + packer.flush()
    at = int(len(raw) * share)
    hurt = raw[:at] + bytes(length) + raw[at + length :]
    first, behind = content(
        hurt, Salvaged("word/document.xml", 0, len(hurt), 8, (1,), len(lines)), Budget(60)
    ).stretches
    tail = lines[len(lines) - len(behind) :]
    assert lines.startswith(first) and all(mine in (theirs, 0) for mine, theirs in zip(behind, tail, strict=True))
    assert len(first) + len(behind) > len(lines) - 8 * length - 800 and behind.count(0) < 0.45 * len(behind)


def test_bytes_of_copies_are_joined_only_where_all_that_both_have_is_the_same() -> None:
    whole = bytes((n * n + n // 7) % 255 + 1 for n in range(60_000))
    first, second = hole(0.3, 8000)(whole), whole[:40_000]
    assert together(first, [second])[: len(whole)] == whole
    assert together(first, [bytes(reversed(whole))]) is None and together(whole[:40_000], [whole[:1000]]) is None
    assert together(first, [flip(0.1)(second)]) is None


def test_members_are_found_by_either_header_and_the_better_one_counts() -> None:
    data = documents()["survey-office.docx"]
    for hurt in (data, no_directory(data), no_local_headers(data), wrong_sum(data)):
        assert {each.name for each in find_members(hurt)} == {each.name for each in find_members(data)}
    inner = package({"inner.zip": package({"a.txt": "oak " * 50}), "b.txt": "larch " * 50}, stored=("inner.zip",))
    assert {each.name for each in find_members(inner)} == {"inner.zip", "b.txt"}


@pytest.mark.parametrize(
    ("damage", "share", "said"),
    [
        (within("xl/worksheets/sheet1.bin", cut(0.6)), 0.9, "rows"),
        (within("xl/sharedStrings.bin", cut(0.5)), 0.5, "texts"),
        (without("xl/sharedStrings.bin"), 0.15, "texts"),
        (without("xl/workbook.bin"), 1.0, "names"),
        (without("xl/worksheets/sheet1.bin"), 0.3, "sheet"),
    ],
)
def test_binary_workbooks_are_put_together_by_their_records(
    rustfern: Rustfern, tmp_path: Path, damage: Damage, share: float, said: str
) -> None:
    whole = member(*XLSB)
    source = tmp_path / "timber.xlsb"
    source.write_bytes(damage(whole))
    (row,) = rustfern("repair", source, "--to", tmp_path / "out", "--json").json["repaired"]
    made = Path(row["to"]).read_bytes()
    before, after = words(whole, "x.xlsb"), words(made, "x.xlsb")
    assert row["format"] == "xlsb" and row["state"] == "intact" and any(said in lost for lost in row["lost"])
    assert len(before.keys() & after.keys()) >= share * len(before) and not (
        after.keys() - before.keys() - {"texts", "without", "cells"}
    )


def test_records_of_a_workbook_are_taken_up_behind_a_hole() -> None:
    stream = CompoundSalvage(documents()["tools-longtail.xls"]).find("Workbook")
    assert stream is not None
    every = list(xls.records(stream.data))
    at = every[len(every) // 2].at
    left = list(xls.records(stream.data[:at] + bytes(700) + stream.data[at + 700 :]))
    assert sum(record.after_gap for record in left) == 1 and len(every) - len(left) < 90


def test_texts_of_all_encodings_lose_only_what_is_missing() -> None:
    lines = "Werftbuch: Żuraw zajęty, καρίνα, кран\n" * 40
    for encoding in ("utf-8", "utf-16"):
        raw = lines.encode(encoding)
        made = made_by(text.repair, hole(0.5, 64)(raw), "log.txt", "txt")
        assert made is not None and made.decode(encoding).count("Werftbuch") >= 38
    mixed = lines.encode() + "Größe\n".encode("cp1252")
    made = made_by(text.repair, mixed + b"\0\0\0", "log.txt", "txt")
    assert made is not None and "Größe" in made.decode()


def test_tar_and_gzip_keep_what_is_whole(rustfern: Rustfern, tmp_path: Path) -> None:
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w") as target:
        for number in range(6):
            data = f"timber order {number}\n".encode() * 200
            info = tarfile.TarInfo(f"orders/{number}.txt")
            info.size = len(data)
            target.addfile(info, io.BytesIO(data))
    for name, data in (
        ("orders.tar", cut(0.7)(buffer.getvalue())),
        ("orders.tar.gz", cut(0.7)(gzip.compress(buffer.getvalue(), mtime=0))),
    ):
        source = tmp_path / name
        source.write_bytes(data)
        (row,) = rustfern("repair", source, "--to", tmp_path / "out", "--json").json["repaired"]
        with tarfile.open(row["to"]) as made:
            assert len(made.getnames()) >= 3 and row["state"] == "intact"


@pytest.mark.parametrize(("kind", "share", "least"), [("solid", 0.3, 4), ("alone", 0.5, 1), ("alone", 0.2, 2)])
def test_members_of_a_7z_that_prove_whole(
    rustfern: Rustfern, tmp_path: Path, kind: str, share: float, least: int
) -> None:
    healthy = packed("sevenzip.tar.xz")[f"{kind}.7z"]
    packs = 32 + int.from_bytes(healthy[12:20], "little")
    at = 32 + int((packs - 32) * share)
    source = tmp_path / "yard.7z"
    source.write_bytes(healthy[:at] + bytes((healthy[at] ^ 0xFF,)) + healthy[at + 1 :])
    (row,) = rustfern("repair", source, "--to", tmp_path / "out", "--json").json["repaired"]
    assert row["format"] == "zip" and any("its own format" in lost for lost in row["lost"])
    assert not any("could not be found" in lost for lost in row["lost"])
    archive = SevenArchive(io.BytesIO(healthy), len(healthy), Limits())
    runs = [b"".join(archive.run(number)) for number in range(archive.runs)]
    files = [each for each in archive.files if not each.is_folder]
    whole = {each.name: runs[each.run or 0][each.at : each.at + each.size] if each.size else b"" for each in files}
    with zipfile.ZipFile(row["to"]) as made:
        kept = {name: made.read(name) for name in made.namelist()}
    assert len(whole) > len(kept) >= least and kept.items() <= whole.items()
    assert all(any(name in lost for lost in row["lost"]) for name in whole.keys() - kept.keys())


def test_rows_come_back_without_a_schema(tmp_path: Path, rustfern: Rustfern) -> None:
    path = tmp_path / "yard.sqlite"
    with sqlite3.connect(path) as db:
        db.execute("CREATE TABLE jobs (id INTEGER PRIMARY KEY, boat TEXT, hours REAL)")
        db.executemany("INSERT INTO jobs VALUES (?, ?, ?)", [(n, f"Boat {n}", n / 4) for n in range(1, 900)])
    data = path.read_bytes()
    size = struct.unpack(">H", data[16:18])[0]
    path.write_bytes(bytes(size) + data[size:])
    (row,) = rustfern("repair", path, "--to", tmp_path / "out", "--json").json["repaired"]
    with sqlite3.connect(row["to"]) as db:
        (name,) = db.execute("SELECT name FROM sqlite_master").fetchone()
        assert db.execute(f'SELECT count(*) FROM "{name}"').fetchone() == (899,)


@pytest.mark.parametrize(
    ("lost", "said"),
    [
        (
            Loss(LossKind.PARAGRAPHS, "word/document.xml", 3, 100),
            "about 3 paragraphs in word/document.xml (from byte 100 on)",
        ),
        (Loss(LossKind.PICTURES, "word/media/a.png", 1), "the picture word/media/a.png"),
        (Loss(LossKind.BYTES, "", 512, 10, 522), "about 512 bytes (bytes 10 to 522)"),
        (Loss(LossKind.FORMAT, "OOXML text (docx)"), "its own format: what is left was written as OOXML text (docx)"),
        (Loss(LossKind.ROWS), "rows, nobody knows how many"),
        (Loss(LossKind.CELL_TEXTS, "", 4), "4 of the texts that cells share"),
    ],
)
def test_losses_in_words(lost: Loss, said: str) -> None:
    assert loss(lost) == said


def test_every_loss_and_step_has_words() -> None:
    for kind in LossKind:
        assert len(loss(Loss(kind, "somewhere", 2))) > 5
    assert all(len(method([step])) > 10 for step in Step)


def test_bombs_cost_no_more_than_other_files(rustfern: Rustfern, tmp_path: Path) -> None:
    bomb = package({"word/document.xml": b"<w:document>" + b" " * (80 << 20), "[Content_Types].xml": b"<Types/>"})
    (tmp_path / "bomb.docx").write_bytes(bomb[:-30])
    laughs = (
        b'<!DOCTYPE l [<!ENTITY a "ha"><!ENTITY b "'
        + b"&a;" * 1000
        + b'">]><svg xmlns="http://www.w3.org/2000/svg"><text>&b;</text>'
    )
    (tmp_path / "laughs.svg").write_bytes(laughs)
    deep = b"<svg xmlns='http://www.w3.org/2000/svg'>" + b"<g>" * 200_000
    (tmp_path / "deep.svg").write_bytes(deep)
    (tmp_path / "nested.json").write_bytes(b"[" * 100_000)
    (tmp_path / "nested.rtf").write_bytes(b"{\\rtf1 oak" + b"{" * 100_000)
    for name, unit in (("a.xml", b"<!--"), ("b.xml", b"<?"), ("c.svg", b"<![CDATA["), ("d.html", b"<!--x>")):
        (tmp_path / name).write_bytes(b"<a><b>keel</b>" + unit * 50_000)
    run = rustfern("repair", *sorted(tmp_path.glob("*.*")), "--to", tmp_path / "out", "--json")
    assert run.status in (0, 1, 3) and len(run.json["repaired"]) + len(run.json["refused"]) == 9


@pytest.mark.parametrize("ending", ["in order", "gone back", "cut off", "failed", "unreadable"])
def test_a_file_is_summed_while_it_is_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, ending: str) -> None:
    monkeypatch.setattr(sum_beside, "_WORTH_IT", 5_000)
    monkeypatch.setattr(sum_beside, "_STEP", 1_000)
    path, pieces = tmp_path / "long.mp4", [bytes([n]) * (n * 37) for n in range(60)]
    again = (lambda: (tmp_path / "absent").open("rb")) if ending == "unreadable" else (lambda: path.open("rb"))
    try:
        with path.open("wb") as out, sum_beside.SumBeside(out, again) as made:
            made.writelines(pieces[:9])
            for piece in pieces[9:]:
                made.write(piece)
            if ending == "gone back":
                made.seek(4)
                made.write(b"size")
            elif ending == "cut off":
                made.truncate(9_000)
            elif ending == "failed":
                raise Malformed("nothing is left")
    except Malformed:
        assert ending == "failed"
    told = made.sum()
    assert told == (hashlib.sha256(b"".join(pieces)).hexdigest() if ending == "in order" else None)
