"""Leftovers of each place, on each layout, as the data file describes them: found, matched to their document, and the right one chosen."""

from __future__ import annotations

import base64
import json
import os
import subprocess
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import BUILT, DATA, Run, best_of, docx, odt, office_doc, package, packed, write

from rustfern.catalogue.loader import catalogue

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


LEFTOVERS = tomllib.loads((DATA / "leftovers.toml").read_text("utf-8"))
CASES: dict[str, Any] = {case["name"]: case for case in LEFTOVERS["case"]}


def content(file: dict[str, Any]) -> bytes:
    """What a file of the data is to hold."""
    if "base64" in file:
        return base64.b64decode(file["base64"])
    text = {"BASE": BASE, "MORE": MORE}.get(file["text"], file["text"])
    data = WRITERS[file["make"]](text) if "make" in file else text.encode()
    return data[: file["cut"]] if "cut" in file else data


def lay_out(root: Path, case: dict[str, Any]) -> None:
    """The files of a case, in homes that are known as such."""
    for file in case["files"]:
        write(root / file["path"], content(file), T0 + file.get("after", 0))
    for person, sign in ((WIN, "AppData"), (MAC, "Library"), (LIN, ".config")):
        if any(file["path"].startswith(person + "/") for file in case["files"]):
            (root / person / sign).mkdir(parents=True, exist_ok=True)


@pytest.mark.parametrize("name", sorted(CASES))
def test_a_leftover_is_found_given_to_its_document_and_judged(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    case, root = CASES[name], tmp_path / "d"
    lay_out(root, case)
    run = rustfern("scan", root, *case.get("hints", ()), "--json")
    answer = run.json
    original = str(root / case["original"]) if "original" in case else None
    leftover = str(root / case["leftover"]) if "leftover" in case else None
    mine = [
        d
        for d in answer["documents"]
        if d["original"] == original and (original or leftover in [copy["path"] for copy in d["copies"]])
    ]
    assert len(mine) == 1, [(d["name"], d["original"], d["situation"]) for d in answer["documents"]] + answer[
        "problems"
    ]
    document, chosen = mine[0], best_of(mine[0])
    assert document["situation"] == case["situation"], document["copies"]
    assert run.status in ((1,) if document["situation"] == "nothing-lost" else (0,)) or len(answer["documents"]) > 1
    if leftover:
        copy = next(each for each in document["copies"] if each["path"] == leftover)
        assert copy["place"] == case["place"]
        best = original if case.get("best") == "original" else leftover
        assert chosen["path"] == best and chosen["state"] == "intact", document["copies"]
        assert bool(copy["part"]) == case.get("part", False)
    if "restored" in case:
        done = rustfern("restore", chosen["id"], "--to", tmp_path / "out", "--json").json["restored"]
        assert Path(done[0]["to"]).read_bytes().decode() == {"MORE": MORE}[case["restored"]]
    assert case.get("warning", "") in " ".join(document["warnings"])


@pytest.mark.parametrize(
    "name", ["ODF autosave", "text backup", "sheet backup", "tilde", "text autosave on macOS", "pushed aside in a save"]
)
def test_a_damaged_document_is_replaced_by_its_leftover(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    case, root = CASES[name], tmp_path / "d"
    lay_out(root, case)
    document = root / case["original"]
    write(document, document.read_bytes()[: document.stat().st_size // 2], T0)
    run = rustfern("scan", root, "--json")
    mine = next(d for d in run.json["documents"] if d["original"] == str(document))
    assert mine["situation"] == "wont-open" and best_of(mine)["path"] == str(root / case["leftover"])


# --- many programs on one disk ------------------------------------------------------------------------------------

DISK_WIN, DISK_MAC, DISK_LIN = "office-pc/Users/ivarga", "mac/Users/plund", "slip/home/ines"
MEDIA = packed("media.tar.xz")
SHORT, LONG = (
    "keel planks sound at frame {n}",
    "keel planks sound at frame {n} and the garboard was raked out on day {n}",
)


def filled(form: str, text: str) -> bytes:
    """A document of a form: `{}` in it stands for its text."""
    if form == "docx":
        return docx(text)
    if form in ("pdf", "mp4"):
        return MEDIA[{"pdf": "form.pdf", "mp4": "slip.mp4"}[form]]
    return form.replace("{}", text).encode()


@pytest.fixture(scope="module")
def answer(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Any]:
    """The whole disk, searched once."""
    root = tmp_path_factory.mktemp("disk")
    for home, sign in ((DISK_WIN, "AppData"), (DISK_MAC, "Library"), (DISK_LIN, ".config")):
        (root / home / sign).mkdir(parents=True)
    for number, row in enumerate(LEFTOVERS["together"]):
        newer = row["kind"] in ("autosave", "temporary", "conflict")
        old, new = SHORT.format(n=number), LONG.format(n=number)
        write(root / row["document"], filled(row["form"], old if newer else new), T0)
        write(root / row["leftover"], filled(row["form"], new if newer else old), T0 + (60 if newer else -60))
    for row in LEFTOVERS["alone"]:
        path = row["path"]
        form = (
            MEDIA["survey.pdf"]
            if "cups" in path
            else b"gimp xcf v011" + bytes(90)
            if path.endswith("xcf")
            else docx(f"alone {path}")
        )
        write(root / path, "plain words of a note that was never named" if path.endswith("save") else form, T0)
    run = subprocess.run(
        [BUILT, "scan", root, "--json"],
        capture_output=True,
        check=False,
        env={**os.environ, "XDG_STATE_HOME": str(root.parent / "state")},
    )
    assert b"Traceback" not in run.stderr, run.stderr
    return root, json.loads(run.stdout)


@pytest.mark.parametrize("row", LEFTOVERS["together"], ids=lambda row: str(row["leftover"]).rpartition("/")[2])
def test_it_is_given_to_its_document_among_many(row: dict[str, str], answer: tuple[Path, Any]) -> None:
    root, found = answer
    leftover = str(root / row["leftover"])
    holders = {d["original"]: c for d in found["documents"] for c in d["copies"] if c["path"] == leftover}
    assert list(holders) == [str(root / row["document"])], holders.keys()
    copy = holders[str(root / row["document"])]
    assert (copy["kind"], copy["place"]) == (row["kind"], row["place"])
    assert copy["confidence"] > 0.5 and copy["evidence"]


@pytest.mark.parametrize("row", LEFTOVERS["alone"], ids=lambda row: str(row["path"]).rpartition("/")[2])
def test_what_stands_alone_is_no_other_document(row: dict[str, str], answer: tuple[Path, Any]) -> None:
    root, found = answer
    path = str(root / row["path"])
    where = [d["situation"] for d in found["documents"] for c in d["copies"] if c["path"] == path]
    where += ["unmatched" for u in found["unmatched"] if u["path"] == path]
    assert where == [row["situation"]], where


def test_nothing_else_is_claimed(answer: tuple[Path, Any]) -> None:
    root, found = answer
    originals = {str(root / row["document"]) for row in LEFTOVERS["together"]}
    others = [d["original"] for d in found["documents"] if d["original"] and d["original"] not in originals]
    assert [Path(path).name for path in others] == ["dinghy.docx"], others


def test_the_places_of_which_no_case_is_here_are_known() -> None:
    rows = [*LEFTOVERS["case"], *LEFTOVERS["together"], *LEFTOVERS["alone"]]
    covered = {row["place"] for row in rows if "place" in row}
    assert covered <= catalogue().places.keys()
    assert sorted(catalogue().places.keys() - covered) == LEFTOVERS["uncovered"]


# --- single ones --------------------------------------------------------------------------------------------------


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
    assert best_of(document)["title"] and f"“{best_of(document)['title'][:50]}" in rustfern("look").out
    assert [u["state"] for u in answer["unmatched"]] == ["empty"]


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
