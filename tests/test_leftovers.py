"""One leftover of each place, on each layout, made by small stand-ins: matched to its document, and the right one chosen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest
from conftest import Run, best_of, docx, odt, office_doc, package, write

Rustfern = Callable[..., Run]
T0 = 1_760_000_000
BASE = "the garboard seam was raked out and payed with marine glue from the stem to frame seven"
MORE = BASE + " and the sheer strake scarf was opened for the surveyor on Friday"
WIN = "Users/ivarga"
MAC = "Users/plund"
LIN = "home/ines"


def xlsx(text: str, main: str = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml") -> bytes:
    """A small workbook with one cell a word."""
    cells = "".join(f'<c r="A{n}" t="inlineStr"><is><t>{word}</t></is></c>' for n, word in enumerate(text.split(), 1))
    relation = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    return package(
        {
            "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
            f'<Override PartName="/xl/workbook.xml" ContentType="{main}"/></Types>',
            "_rels/.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
            f'<Relationship Id="r1" Type="{relation}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
            "xl/workbook.xml": "<workbook/>",
            "xl/worksheets/sheet1.xml": f"<worksheet><sheetData><row>{cells}</row></sheetData></worksheet>",
        }
    )


def pptx(text: str) -> bytes:
    """A small presentation with one slide."""

    def rels(kind: str, target: str) -> str:
        return f'<Relationships><Relationship Id="a" Type="t/{kind}" Target="{target}"/></Relationships>'

    return package(
        {
            "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Override '
            'PartName="/ppt/presentation.xml" ContentType="application/vnd.openxmlformats-officedocument.presentationml.'
            'presentation.main+xml"/></Types>',
            "_rels/.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship '
            'Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" '
            'Target="ppt/presentation.xml"/></Relationships>',
            "ppt/presentation.xml": "<p/>",
            "ppt/_rels/presentation.xml.rels": rels("slide", "slides/slide1.xml"),
            "ppt/slides/slide1.xml": f"<s><p><r><t>{text}</t></r></p></s>",
            "ppt/slides/_rels/slide1.xml.rels": rels("slideLayout", "../slideLayouts/layout1.xml"),
            "ppt/slideLayouts/layout1.xml": "<l/>",
            "ppt/slideLayouts/_rels/layout1.xml.rels": rels("slideMaster", "../slideMasters/master1.xml"),
            "ppt/slideMasters/master1.xml": "<m/>",
            "ppt/slideMasters/_rels/master1.xml.rels": rels("theme", "../theme/theme1.xml"),
            "ppt/theme/theme1.xml": "<t/>",
        }
    )


WRITERS = {"docx": docx, "odt": odt, "xlsx": xlsx, "pptx": pptx}


@dataclass
class Leftover:
    """A document, where its leftover lies, in which format, and whether the leftover is newer."""

    document: str
    leftover: str
    form: str
    newer: bool = True
    marks: tuple[str, ...] = ()


CASES = {
    "text autosave, classic name": Leftover(f"{WIN}/Documents/Hull survey.docx", f"{WIN}/AppData/Roaming/Microsoft/Word/AutoRecovery save of Hull survey.asd", "docx"),
    "text autosave, German": Leftover(f"{WIN}/Documents/Rechnung 12.docx", f"{WIN}/AppData/Roaming/Microsoft/Word/AutoWiederherstellen-Speicherung von Rechnung 12.asd", "docx"),
    "text autosave, a language nobody listed": Leftover(f"{WIN}/Documents/Lasku 12.docx", f"{WIN}/AppData/Roaming/Microsoft/Word/Automaattinen tallennus Lasku 12.asd", "docx"),
    "text autosave, own folder, percent signs": Leftover(
        f"{WIN}/Documents/Hull survey.docx",
        f"{WIN}/AppData/Roaming/Microsoft/Word/Hull%20survey309236479495650801/Hull%20survey((Autosaved-309643940271349403)).asd", "docx"),
    "text autosave, word localised": Leftover(
        f"{WIN}/Documents/Hull survey.docx",
        f"{WIN}/AppData/Roaming/Microsoft/Word/Hull survey309236479495650801/Hull survey((Automatisch gespeichert-309643940271349403)).asd", "docx"),
    "text autosave, old system": Leftover(
        "Documents and Settings/plund/My Documents/Hull survey.docx",
        "Documents and Settings/plund/Application Data/Microsoft/Word/AutoRecovery save of Hull survey.asd", "docx"),
    "sheet autosave": Leftover(
        f"{WIN}/Documents/Timber orders.xlsx",
        f"{WIN}/AppData/Roaming/Microsoft/Excel/Timber%20orders310714380310390755/Timber%20orders((Autosaved-310190569458189392)).xlsx", "xlsx"),
    "slides autosave": Leftover(
        f"{WIN}/Documents/Launch day.pptx",
        f"{WIN}/AppData/Roaming/Microsoft/PowerPoint/Launch%20day310714380310390755/Launch%20day((Autosaved-310190569458189392)).pptx", "pptx"),
    "text autosave on macOS": Leftover(
        f"{MAC}/Documents/Hull survey.docx",
        f"{MAC}/Library/Containers/com.microsoft.Word/Data/Library/Preferences/AutoRecovery/AutoRecovery save of Hull survey", "docx"),
    "sheet autosave on macOS": Leftover(
        f"{MAC}/Documents/Elm offcuts.xlsx",
        f"{MAC}/Library/Containers/com.microsoft.Excel/Data/Library/Application Support/Microsoft/Elm offcuts (version 1).xlsx", "xlsx"),
    "ODF autosave": Leftover(f"{LIN}/Documents/plan.odt", f"{LIN}/.config/libreoffice/4/user/backup/plan.odt_0.odt", "odt"),
    "ODF autosave of an OOXML document": Leftover(f"{LIN}/Documents/plan.docx", f"{LIN}/.config/libreoffice/4/user/backup/plan.docx_3.odt", "odt"),
    "ODF autosave on Windows": Leftover(f"{WIN}/Documents/plan.odt", f"{WIN}/AppData/Roaming/LibreOffice/4/user/backup/plan.odt_0.odt", "odt"),
    "ODF autosave on macOS": Leftover(f"{MAC}/Documents/plan.odt", f"{MAC}/Library/Application Support/LibreOffice/4/user/backup/plan.odt_0.odt", "odt"),
    "ODF autosave, flatpak": Leftover(
        f"{LIN}/Documents/plan.odt", f"{LIN}/.var/app/org.libreoffice.LibreOffice/config/libreoffice/4/user/backup/plan.odt_0.odt", "odt"),
    "ODF autosave, snap": Leftover(f"{LIN}/Documents/plan.odt", f"{LIN}/snap/libreoffice/311/.config/libreoffice/4/user/backup/plan.odt_0.odt", "odt"),
    "ODF backup copy": Leftover(f"{LIN}/Documents/plan.odt", f"{LIN}/.config/libreoffice/4/user/backup/plan.bak", "odt", newer=False),
    "text backup": Leftover(f"{WIN}/Documents/Hull survey.docx", f"{WIN}/Documents/Backup of Hull survey.wbk", "docx", newer=False),
    "text backup, German": Leftover(f"{WIN}/Documents/Hull survey.docx", f"{WIN}/Documents/Sicherungskopie von Hull survey.wbk", "docx", newer=False),
    "sheet backup": Leftover(f"{WIN}/Documents/Timber orders.xlsx", f"{WIN}/Documents/Backup of Timber orders.xlk", "xlsx", newer=False),
    "pushed aside in a save": Leftover(f"{WIN}/Documents/Hull survey.docx", f"{WIN}/Documents/~WRL0004.tmp", "docx", newer=False),
    "written in a save": Leftover(f"{WIN}/Documents/Hull survey.docx", f"{WIN}/Documents/~WRD0003.tmp", "docx"),
    "sheet written in a save": Leftover(f"{WIN}/Documents/Timber orders.xlsx", f"{WIN}/Documents/5A3F1B20", "xlsx"),
    "slides written in a save": Leftover(f"{WIN}/Documents/Launch day.pptx", f"{WIN}/Documents/pptA1B2.tmp", "pptx"),
    "tilde": Leftover(f"{LIN}/Documents/plan.odt", f"{LIN}/Documents/plan.odt~", "odt", newer=False),
    "bak, whole name": Leftover(f"{LIN}/Documents/plan.odt", f"{LIN}/Documents/plan.odt.bak", "odt", newer=False),
    "bak, extension lost": Leftover(f"{LIN}/Documents/plan.odt", f"{LIN}/Documents/plan.bak", "odt", newer=False),
    "name in another Unicode form": Leftover(f"{LIN}/Documents/Gr\u00f6\u00dfe.odt", f"{LIN}/.config/libreoffice/4/user/backup/Gro\u0308\u00dfe.odt_0.odt", "odt"),
}  # fmt: skip


def lay_out(root: Path, case: Leftover, *, damaged: bool = False) -> tuple[Path, Path]:
    """The document with others around it, and the leftover; the newer one holds more."""
    form = case.document.rpartition(".")[2]
    for person, sign in ((WIN, "AppData"), (MAC, "Library"), (LIN, ".config")):
        if case.document.startswith(person):
            (root / person / sign).mkdir(parents=True, exist_ok=True)
    saved, left = (BASE, MORE) if case.newer else (MORE, BASE)
    document = root / case.document
    whole = WRITERS[form](saved)
    write(document, whole[: len(whole) // 2] if damaged else whole, T0)
    write(
        document.with_name(f"Mooring chain inspection.{form}"),
        WRITERS[form]("chains renewed at berths two and five in spring"),
        T0 - 9_000_000,
    )
    write(document.with_name("to do.txt"), "oil, matches", T0 - 500)
    leftover = write(root / case.leftover, WRITERS[case.form](left), T0 + 300 if case.newer else T0 - 300)
    return document, leftover


@pytest.mark.parametrize("name", sorted(CASES))
def test_a_leftover_is_matched_and_judged(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    case = CASES[name]
    document, leftover = lay_out(tmp_path / "d", case)
    run = rustfern("scan", tmp_path / "d", "--json")
    mine = [d for d in run.json["documents"] if d["original"] == str(document)]
    assert len(mine) == 1, [d["original"] for d in run.json["documents"]]
    paths = [copy["path"] for copy in mine[0]["copies"]]
    assert sorted(paths) == sorted([str(document), str(leftover)])
    expected = ("crashed", leftover, 0) if case.newer else ("nothing-lost", document, 1)
    assert (mine[0]["situation"], Path(best_of(mine[0])["path"]), run.status) == expected
    assert len(run.json["documents"]) == 1, "nothing else is claimed"


@pytest.mark.parametrize(
    "name", ["ODF autosave", "text backup", "sheet backup", "tilde", "text autosave on macOS", "pushed aside in a save"]
)
def test_a_damaged_document_is_replaced_by_its_leftover(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    document, leftover = lay_out(tmp_path / "d", CASES[name], damaged=True)
    run = rustfern("scan", tmp_path / "d", "--json")
    mine = next(d for d in run.json["documents"] if d["original"] == str(document))
    assert mine["situation"] == "wont-open" and best_of(mine)["path"] == str(leftover)


@pytest.mark.parametrize(
    ("lock", "document", "size"),
    [
        ("~$ll survey.docx", "Hull survey.docx", 162), ("~$Slip 7.docx", "Slip 7.docx", 162), ("~$inches.docx", "Winches.docx", 162),
        ("~$Timber orders.xlsx", "Timber orders.xlsx", 165), ("~$Launch.pptx", "Launch.pptx", 165), (".~lock.plan.odt#", "plan.odt", 0),
    ],
)  # fmt: skip
def test_locks_find_their_document(lock: str, document: str, size: int, tmp_path: Path, rustfern: Rustfern) -> None:
    folder = tmp_path / "d" / WIN / "Documents"
    (tmp_path / "d" / WIN / "AppData").mkdir(parents=True)
    for other in ("Mooring plan.docx", "Offcuts.xlsx", "Open day.pptx", "letter.odt"):
        write(folder / other, b"x")
    form = document.rpartition(".")[2]
    write(folder / document, WRITERS[form](BASE), T0)
    room = 53 if size == 162 else 54
    owner = b"\x0aPetra Lund".ljust(room + 1, b"\0") + b"\x0a\0" + "Petra Lund".encode("utf-16-le")
    write(
        folder / lock,
        owner.ljust(size, b"\0") if size else "Petra Lund,plund,office-pc,12.03.2026 16:38,file:///C:/x;",
        T0,
    )
    answer = rustfern("scan", tmp_path / "d", "--json").json
    found = [d for d in answer["documents"] if d["locks"]]
    assert [(d["name"], d["locks"][0]["owner"], d["situation"]) for d in found] == [
        (document, "Petra Lund", "nothing-lost")
    ]


def test_a_text_that_only_looks_like_a_sheets_temporary(tmp_path: Path, rustfern: Rustfern) -> None:
    folder = tmp_path / "d" / WIN / "Documents"
    (tmp_path / "d" / WIN / "AppData").mkdir(parents=True)
    write(folder / "Timber orders.xlsx", xlsx(BASE), T0)
    write(folder / "CAFE2024", "takings of the cafe, January to March", T0)
    answer = rustfern("scan", tmp_path / "d", "--json").json
    assert answer["documents"] == [] and answer["unmatched"] == []


def test_a_save_that_was_cut_short_is_tied_to_the_open_document(tmp_path: Path, rustfern: Rustfern) -> None:
    folder = tmp_path / "d" / WIN / "Documents"
    (tmp_path / "d" / WIN / "AppData").mkdir(parents=True)
    write(folder / "Hull survey.docx", docx(BASE), T0)
    write(folder / "Mooring plan.docx", docx("chains renewed at berths two and five in spring"), T0 - 100)
    write(folder / "~$ll survey.docx", b"\x05Petra".ljust(162, b"\0"), T0 + 60)
    write(folder / "~WRD0003.tmp", docx(MORE)[:300], T0 + 600)
    answer = rustfern("scan", tmp_path / "d", "--json").json
    document = next(d for d in answer["documents"] if d["name"] == "Hull survey.docx")
    temporary = next(c for c in document["copies"] if c["kind"] == "temporary")
    assert temporary["state"] == "damaged" and document["best"] != temporary["id"]
    assert {"open-then", "same-folder-then"} & {piece["kind"] for piece in temporary["evidence"]}


@pytest.mark.parametrize("name", ["Document1", "Dokument1", "Unbenannt 1"])
def test_drafts_that_were_never_saved(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    store = tmp_path / "d" / WIN / "AppData/Local/Microsoft/Office/UnsavedFiles"
    write(store / f"{name}((Unsaved-309876308635267407)).asd", office_doc(), T0)
    write(store / f"{name}((Unsaved-309876724019240149)).asd", b"", T0 + 900)
    write(tmp_path / "d" / WIN / "Documents" / "Letter.docx", docx(BASE), T0)
    answer = rustfern("scan", tmp_path / "d", "--json").json
    (document,) = answer["documents"]
    assert (document["name"], document["situation"], document["original"]) == (name, "never-saved", None)
    assert best_of(document)["format"] == "doc" and best_of(document)["extension_right"] is None
    assert [u["state"] for u in answer["unmatched"]] == ["damaged"]


def test_two_people_with_documents_of_one_name(tmp_path: Path, rustfern: Rustfern) -> None:
    for person, text in (("ines", BASE), ("petra", "chains renewed at berths two and five in spring")):
        home = tmp_path / "d" / "home" / person
        write(home / "Documents" / "plan.odt", odt(text), T0)
        write(home / ".config/libreoffice/4/user/backup/plan.odt_0.odt", odt(text + " and more"), T0 + 300)
    answer = rustfern("scan", tmp_path / "d", "--json").json
    for document in answer["documents"]:
        assert document["person"] in document["original"] and f"/{document['person']}/" in best_of(document)["path"]
    assert len(answer["documents"]) == 2


def test_a_copy_of_a_profile_under_another_name(tmp_path: Path, rustfern: Rustfern) -> None:
    """Only the profile was copied: recorded paths still lead into it."""
    home = tmp_path / "backup of ines"
    write(home / "Documents" / "plan.odt", odt(BASE), T0)
    autosave = write(home / ".config/libreoffice/4/user/backup/plan.odt_0.odt", odt(MORE), T0 + 300)
    entry = (
        '<oor:items xmlns:oor="x"><item oor:path="/org.openoffice.Office.Recovery/RecoveryList"><node oor:name="recovery_item_1">'
        '<prop oor:name="OriginalURL"><value>file:///home/ines/Documents/plan.odt</value></prop><prop oor:name="TempURL"><value>'
        "file:///home/ines/.config/libreoffice/4/user/backup/plan.odt_0.odt</value></prop></node></item></oor:items>"
    )
    write(home / ".config/libreoffice/4/user/registrymodifications.xcu", entry)
    (document,) = rustfern("scan", home, "--json").json["documents"]
    assert document["original"] == str(home / "Documents" / "plan.odt") and best_of(document)["path"] == str(autosave)
    assert best_of(document)["evidence"][0]["kind"] == "recovery-list"


def test_a_document_on_a_share_is_named_not_called_deleted(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "d" / "home" / "ines"
    write(home / ".config/libreoffice/4/user/backup/plan.odt_0.odt", odt(MORE), T0)
    entry = (
        '<oor:items xmlns:oor="x"><item oor:path="/org.openoffice.Office.Recovery/RecoveryList"><node oor:name="recovery_item_1">'
        '<prop oor:name="Title"><value>plan.odt</value></prop><prop oor:name="OriginalURL"><value>file://yard-server/plans/plan.odt'
        '</value></prop><prop oor:name="TempURL"><value>file:///home/ines/.config/libreoffice/4/user/backup/plan.odt_0.odt</value>'
        '</prop><prop oor:name="DocumentState"><value>513</value></prop></node></item></oor:items>'
    )
    write(home / ".config/libreoffice/4/user/registrymodifications.xcu", entry)
    (document,) = rustfern("scan", tmp_path / "d", "--json").json["documents"]
    assert document["original"] is None and document["original_recorded"] == "file://yard-server/plans/plan.odt"
    assert document["situation"] == "crashed" and best_of(document)["kind"] == "autosave"


def test_a_working_file_of_a_document_that_is_not_open_any_more(tmp_path: Path, rustfern: Rustfern) -> None:
    """Its name says nothing and no lock is left: the text leads to the document, and nothing is claimed to be lost."""
    home = tmp_path / "d" / MAC
    write(home / "Library" / "x", "x")
    write(home / "Documents" / "Hull survey.docx", docx(MORE), T0)
    write(home / "Documents" / "Mooring plan.docx", docx("chains renewed at berths two and five in spring"), T0)
    items = tmp_path / "d" / "private/var/folders/k6/b6ef/T/TemporaryItems"
    write(items / "Word Work File A_1184.tmp", docx(BASE), T0 - 600)
    run = rustfern("scan", tmp_path / "d", "--json")
    (document,) = run.json["documents"]
    assert (document["name"], document["situation"], run.status) == ("Hull survey.docx", "nothing-lost", 1)


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("Mooring plan (Ines conflicted copy 2026-03-12).odt", "conflict"), ("Mooring plan (conflicted copy 2026-03-12 164002).odt", "conflict"),
        ("Mooring plan (Ines's conflicted copy 2026-03-12).odt", "conflict"), ("Mooring plan.sync-conflict-20260312-164002-ABCDEF7.odt", "conflict"),
        (".stversions/Mooring plan~20260312-164002.odt", "version"), ("Mooring plan.odt.~2~", "backup"), ("#Mooring plan.odt#", "autosave"),
    ],
)  # fmt: skip
def test_conflicts_and_versions_belong_to_their_document(
    name: str, kind: str, tmp_path: Path, rustfern: Rustfern
) -> None:
    papers = tmp_path / "d" / LIN / "Documents"
    (tmp_path / "d" / LIN / ".config").mkdir(parents=True)
    write(papers / "Mooring plan.odt", odt(BASE + " berth nine"), T0)
    write(papers / name, odt(BASE + " crane on Friday"), T0 + 300)
    (document,) = rustfern("scan", tmp_path / "d", "--json").json["documents"]
    assert document["name"] == "Mooring plan.odt" and [c["kind"] for c in document["copies"]] == ["saved", kind]
    assert (document["situation"] == "crashed") == (kind == "autosave")
    if kind != "autosave":
        assert best_of(document)["kind"] == "saved" and {"earlier-differs", "other-branch"} & {
            said["kind"] for said in document["cautions"]
        }
    (papers / "Mooring plan.odt").unlink()
    document = rustfern("scan", tmp_path / "d", "--json").json["documents"][0]
    assert document["name"] == "Mooring plan.odt" and best_of(document)["kind"] == kind


@pytest.mark.parametrize("name", [".eslintrc.json.sample", "notes.save", "archive (copy).zip.save"])
def test_names_that_need_their_original(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "d" / name, "larch and oak")
    assert rustfern("scan", tmp_path / "d", "--json").json["documents"] == []


def test_autosaves_of_one_editor_in_a_folder_of_their_own(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "d" / LIN
    write(home / "Documents" / "plans" / "winter!.org", "* Moorings\n", T0)
    write(
        home / ".emacs.d" / "autosaves" / "#!home!ines!Documents!plans!winter!!.org#",
        "* Moorings\nberth nine to be dredged\n",
        T0 + 60,
    )
    (document,) = rustfern("scan", tmp_path / "d", "--json").json["documents"]
    assert document["original"].endswith("plans/winter!.org") and best_of(document)["kind"] == "autosave"
