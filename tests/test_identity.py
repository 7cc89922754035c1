"""Identities inside documents: read, weighed by how many carry them, and used to tell which version is the later one."""

from __future__ import annotations

import io
import struct
import unicodedata
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, by_name, docx, odt, package, packed, write
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from rustfern.core.model import Content, Glance, State
from rustfern.formats import identity as marks
from rustfern.formats import registry as formats
from rustfern.matching.evidence import by_identity, weights

T0 = 1_790_000_000
WORD = "http://schemas.openxmlformats.org/wordprocessingml/2006/main"
RELS = (
    '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" '
    'Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/settings" Target="settings.xml"/></Relationships>'
)


def survey(text: str, root: str, *revisions: str, ident: str = "") -> bytes:
    """A text whose settings carry the ids of its saves."""
    rsids = "".join(f'<w:rsid w:val="{value}"/>' for value in (root, *revisions))
    doc_id = f'<w14:docId xmlns:w14="u" w14:val="{ident}"/>' if ident else ""
    settings = (
        f'<w:settings xmlns:w="{WORD}"><w:rsids><w:rsidRoot w:val="{root}"/>{rsids}</w:rsids>{doc_id}</w:settings>'
    )
    return docx(text, extra={"word/settings.xml": settings, "word/_rels/document.xml.rels": RELS})


def content(*found: tuple[str, str], words: int = 3) -> Content:
    return Content(Glance("docx", identity=found), State.INTACT, "", 9, words=words)


def test_what_documents_carry() -> None:
    text = formats.check(io.BytesIO(survey("Hog", "00A1", "00B2", ident="5F2A")), "a.docx").glance.identity
    assert dict(text) == {"document-id": "5F2A", "first-save": "00A1", "revisions": "00A1 00B2"}
    meta = "<meta:creation-date>2026-03-12T09:00:00</meta:creation-date><meta:initial-creator>Ines Varga</meta:initial-creator>"
    meta += "<meta:editing-cycles>7</meta:editing-cycles><meta:editing-duration>PT1H2M3S</meta:editing-duration>"
    sheet = formats.check(io.BytesIO(odt("Hog", meta=meta)), "a.odt").glance.identity
    assert dict(sheet) == {"made": "2026-03-12T09:00:00 Ines Varga", "cycles": "7", "worked": "3723"}
    page = formats.check(io.BytesIO(packed("packages.tar.xz")["launch-office.pdf"]), "a.pdf").glance.identity
    assert [kind for kind, _ in page] == ["file-id"] and page[0][1]
    packet = b'<x:xmpmeta><rdf:Description xmpMM:DocumentID="xmp.did:0801" /><xmpMM:OriginalDocumentID>uuid:77aa55cc</x:xmpmeta>'
    picture = packed("media.tar.xz")["plan.jpg"]
    hidden = picture[:2] + b"\xff\xe1" + (len(packet) + 2).to_bytes(2, "big") + packet + picture[2:]
    found = formats.check(io.BytesIO(hidden), "plan.jpg")
    assert found.state is State.INTACT
    assert found.glance.identity == (("picture-id", "xmp.did:0801"), ("picture-id", "uuid:77aa55cc"))


def test_what_photographs_recordings_and_packages_carry() -> None:
    picture = Image.new("RGB", (40, 30), (90, 40, 20))
    exif = picture.getexif()
    exif[0x0110] = "Quay camera"
    exif.get_ifd(0x8769).update({0x9003: "2026:03:12 16:38:00", 0x9291: "250", 0xA420: "5f2a" * 8})
    buffer = io.BytesIO()
    picture.save(buffer, "JPEG", exif=exif)
    found = formats.check(buffer, "slip.jpg")
    assert found.glance.identity == (("taken", "2026:03:12 16:38:00 250 Quay camera"), ("picture-id", "5f2a" * 8))
    head, track = struct.pack(">IIII", 0, 3_900_000_000, 0, 600), struct.pack(">IIII", 0, 3_900_000_000, 0, 1)
    assert marks.of_movie(head, [track]) == (("recorded", "3900000000 600 3900000000/1"),)
    assert marks.of_movie(bytes(16), [track]) == () and marks.of_movie(b"", []) == ()
    large = Image.effect_noise((60, 60), 50)
    large.save(held := io.BytesIO(), "PNG")
    inside = docx("Hog", extra={"word/media/slip.png": held.getvalue()})  # type: ignore[dict-item]
    kinds = [kind for kind, _ in formats.check(io.BytesIO(inside), "a.docx").glance.identity]
    assert kinds == ["part"]


@given(st.binary(max_size=300))
def test_any_bytes_give_photograph_marks_or_none(data: bytes) -> None:
    for head in (b"Exif\0\0II*\0", b"Exif\0\0MM\0*"):
        assert all(kind in ("taken", "picture-id") for kind, _ in marks.of_exif(head + data))
    marks.of_movie(data, [data])


def test_workbooks_know_their_folder_and_shared_id() -> None:
    parts = {
        "[Content_Types].xml": '<Types xmlns="x"><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-'
        'officedocument.spreadsheetml.sheet.main+xml"/></Types>',
        "_rels/.rels": '<Relationships><Relationship Id="a" Type="t/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": '<workbook xmlns:p="p" xmlns:q="q"><p:absPath url="C:\\Users\\ines\\Timber\\"/>'
        '<q:revisionPtr documentId="8_{A1-B2}"/></workbook>',
    }
    found = formats.check(io.BytesIO(package(parts)), "a.xlsx").glance.identity
    assert found == (("folder", "C:\\Users\\ines\\Timber\\"), ("document-id", "{A1-B2}"))


@given(st.binary(max_size=200))
def test_any_bytes_give_marks_or_none(data: bytes) -> None:
    assert all(kind == "picture-id" for kind, _ in marks.of_xmp(b"xmpMM:DocumentID>" + data))


ROOT, MORE, LESS = ("first-save", "A"), ("revisions", "A B C"), ("revisions", "A B")


@pytest.mark.parametrize(
    ("left", "right", "carriers", "share"),
    [
        (content(ROOT, MORE), content(ROOT, LESS), 1, 0.85),
        (content(ROOT, MORE), content(ROOT, ("revisions", "A D")), 1, None),
        (content(ROOT, MORE), content(ROOT, ("revisions", "A")), 1, 0.85 * 0.5),
        (content(("part", "1a-2000")), content(("part", "1a-2000")), 2, 0.6 / (1 + 0.6931)),
        (content(("taken", "2026")), content(("taken", "2026")), 1, 0.8),
        (content(("document-id", "1")), content(("document-id", "1")), 1, 1.0),
        (content(("document-id", "1")), content(("document-id", "1")), 8, 1 / (1 + 2.0794)),
        (content(("document-id", "1")), content(("document-id", "2")), 1, None),
        (content(("folder", "x")), content(("folder", "x")), 1, None),
        (content(("file-id", "1"), words=900), content(("file-id", "1"), words=900), 1, 0.095),
    ],
)
def test_an_identity_weighs_less_the_more_carry_it(
    left: Content, right: Content, carriers: int, share: float | None
) -> None:
    found = by_identity.shared_identity(left, right, lambda _: carriers)
    if share is None:
        assert found is None
    else:
        assert found is not None and found.weight == pytest.approx(6.5 * share, abs=0.01) and found.family == "identity"
        assert ("7 other documents" in found.text) is (carriers == 8)
        alone = weights.confidences([[found]])[0]
        assert (alone >= weights.THRESHOLD) is (share > 0.15)


def test_the_later_version_by_what_it_carries() -> None:
    assert by_identity.later(content(ROOT, MORE), content(ROOT, LESS)) == 1
    assert by_identity.later(content(ROOT, LESS), content(ROOT, MORE)) == -1
    assert by_identity.later(content(ROOT, LESS), content(ROOT, ("revisions", "A D"))) == 0
    made = ("made", "2026-03-12")
    assert by_identity.later(content(made, ("worked", "3600")), content(made, ("worked", "60"))) == 1
    assert (
        by_identity.later(
            content(made, ("cycles", "2"), ("worked", "60")), content(made, ("cycles", "1"), ("worked", "90"))
        )
        == 1
    )
    assert by_identity.later(content(made, ("cycles", "9")), content(made, ("cycles", "12"))) == -1
    assert by_identity.later(content(("cycles", "9")), content(("cycles", "12"))) == 0


def test_a_copy_without_a_name_finds_its_document_by_its_id(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    home = tmp_path / "disk" / "Users" / "ivarga"
    (home / "AppData" / "Roaming").mkdir(parents=True)
    papers = home / "Documents" / "Surveys"
    write(papers / "Hull survey.docx", survey("The hog is sound.", "00AA11", "00AA22"), T0)
    write(papers / "Rig survey.docx", survey("The mast is sound.", "00CC11", "00CC22"), T0)
    # Written a day later, with other words: only what it carries inside tells whose it is.
    write(
        papers / "~WRD0007.tmp", survey("Petra asked for a new keel band.", "00AA11", "00AA22", "00AA33"), T0 + 90_000
    )
    answer = rustfern("scan", tmp_path / "disk", "--json").json
    document = by_name(answer, "Hull survey.docx")
    copy = next(copy for copy in document["copies"] if copy["path"].endswith("~WRD0007.tmp"))
    pieces = {piece["kind"]: piece for piece in copy["evidence"]}
    assert "holds all the saves of the other" in pieces["embedded-identity"]["text"] and copy["confidence"] > 0.9
    assert document["best"] == copy["id"] and document["situation"] == "crashed"


@pytest.mark.parametrize(
    ("written", "owner_of"), [("Bull survey", "Bull survey.docx"), ("Hull survey", "Hull survey.docx"), ("", None)]
)
def test_a_lock_that_fits_two_documents_goes_to_the_one_that_was_written_then(
    written: str, owner_of: str | None, tmp_path: Path, rustfern: Callable[..., Run]
) -> None:
    home = tmp_path / "disk" / "Users" / "ivarga"
    (home / "AppData" / "Roaming" / "Microsoft" / "Word").mkdir(parents=True)
    papers = home / "Documents"
    for name in ("Hull survey", "Bull survey"):
        write(papers / f"{name}.docx", docx(f"{name} as it was saved before lunch"), T0 - 90_000)
    # The lock's sign replaces the first two letters of the name: it may be of either.
    owner = b"\x0bInes Varga".ljust(54, b"\0") + b"\x0b\0" + "Ines Varga".encode("utf-16-le").ljust(106, b"\0")
    write(papers / "~$ll survey.docx", owner[:162].ljust(162, b"\0"), T0)
    if written:
        copy = home / "AppData" / "Roaming" / "Microsoft" / "Word" / f"AutoRecovery save of {written}.asd"
        write(copy, docx(f"{written} as it was saved before lunch, and more after it"), T0 + 600)
    answer = rustfern("scan", tmp_path / "disk", "--json").json
    locked = [document["name"] for document in answer["documents"] if document["locks"]]
    assert locked == ([owner_of] if owner_of else [])
    if owner_of:
        lock = by_name(answer, owner_of)["locks"][0]
        assert lock["confidence"] > 0.5 and any(piece["kind"] == "copy-then" for piece in lock["evidence"])
    else:
        assert any("several documents" in " ".join(item.get("notes", [])) for item in answer["unmatched"])


def test_names_that_systems_write_in_two_ways_are_one_name(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    """Composed letters in one place, taken apart in another; and of two documents of that name the one of the same format."""
    home = tmp_path / "disk" / "Users" / "ines"
    names = {form: unicodedata.normalize(form, "Åsa Übersicht") for form in ("NFC", "NFD")}
    papers = home / "Documents"
    write(papers / f"{names['NFC']}.odt", odt("Mooring plan of the yard"), T0)
    write(papers / f"{names['NFD']}.odt~", odt("Launch order, written anew before noon"), T0 - 9000)
    write(papers / f"{names['NFC']}.docx", docx("Mooring plan of the yard"), T0)
    kept = home / "Library" / "Containers" / "com.microsoft.Word" / "Data" / "Library" / "Preferences" / "AutoRecovery"
    write(
        kept / f"AutoRecovery save of {names['NFD']}.asd",
        docx("Mooring plan of the yard and more than before"),
        T0 + 900,
    )
    answer = rustfern("scan", tmp_path / "disk", "--json").json
    found = {d["name"]: sorted(Path(c["path"]).name[-4:] for c in d["copies"]) for d in answer["documents"]}
    assert found == {f"{names['NFC']}.odt": [".odt", "odt~"], f"{names['NFC']}.docx": [".asd", "docx"]}
    assert by_name(answer, f"{names['NFC']}.docx")["situation"] == "crashed"


def test_a_protected_copy_is_matched_restored_and_said_to_be_unverified(
    tmp_path: Path, rustfern: Callable[..., Run]
) -> None:
    manifest = '<m:manifest xmlns:m="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><m:file-entry m:full-path="content.xml">'
    manifest += "<m:encryption-data/></m:file-entry></m:manifest>"
    secret = odt(extra={"META-INF/manifest.xml": manifest, "content.xml": "\x01\x02 cipher"})
    home = tmp_path / "disk" / "home" / "petra"
    write(home / ".local" / "share" / "Trash" / "files" / "Wages.odt", secret, T0)
    record = "[Trash Info]\nPath=/home/petra/Documents/Wages.odt\nDeletionDate=2026-03-12T10:00:00\n"
    write(home / ".local" / "share" / "Trash" / "info" / "Wages.odt.trashinfo", record, T0)
    document = by_name(rustfern("scan", tmp_path / "disk", "--json").json, "Wages.odt")
    assert (
        document["best"] is None
        and document["copies"][0]["state"] == "encrypted"
        and document["situation"] == "deleted"
    )
    screen = " ".join(rustfern("scan", tmp_path / "disk").out.split())
    assert "not verified" in screen and "restore 1a --to DIR" in screen
    done = rustfern("restore", "1a", "--to", tmp_path / "out", "--json").json["restored"][0]
    assert done["state"] == "encrypted" and Path(done["to"]).read_bytes() == secret
    assert "could not be verified" in rustfern("restore", "1a", "--to", tmp_path / "again").out


def timber(folder: str, value: str) -> bytes:
    """A workbook that carries the folder of its last save."""
    kind = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"
    return package(
        {
            "[Content_Types].xml": '<Types><Default Extension="xml" ContentType="application/xml"/>'
            f'<Override PartName="/xl/workbook.xml" ContentType="{kind}"/></Types>',
            "_rels/.rels": '<Relationships><Relationship Id="a" Type="t/officeDocument" Target="xl/workbook.xml"/></Relationships>',
            "xl/_rels/workbook.xml.rels": '<Relationships><Relationship Id="s" Type="t/worksheet" Target="worksheets/sheet1.xml"/></Relationships>',
            "xl/workbook.xml": f'<workbook xmlns:p="p"><p:absPath url="{folder}"/></workbook>',
            "xl/worksheets/sheet1.xml": f'<worksheet><c r="A1" t="str"><v>{value}</v></c></worksheet>',
        }
    )


def test_a_workbook_knows_the_folder_of_its_last_save(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    """Two workbooks of one name: the autosave carries the folder of the one that it belongs to."""
    home = tmp_path / "disk" / "Users" / "ivarga"
    autosaves = home / "AppData" / "Roaming" / "Microsoft" / "Excel" / "Timber312345678901234567"
    for folder, value in (("Spring", "oak"), ("Autumn", "larch")):
        path = home / "Documents" / folder
        write(path / "Timber.xlsx", timber(f"C:\\Users\\ivarga\\Documents\\{folder}\\", value), T0)
    write(
        autosaves / "Timber((Autosaved-312345678901234567)).xlsx",
        timber("C:\\Users\\ivarga\\Documents\\Autumn\\", "elm"),
        T0 + 600,
    )
    answer = rustfern("scan", tmp_path / "disk", "--json").json
    found = {
        Path(d["original"]).parent.name: d for d in answer["documents"] if d["name"] == "Timber.xlsx" and d["original"]
    }
    copy = next(c for c in found["Autumn"]["copies"] if "Autosaved" in c["path"])
    assert any(piece["kind"] == "recorded-folder" for piece in copy["evidence"]) and copy["confidence"] > 0.9
    assert found["Autumn"]["best"] == copy["id"]
