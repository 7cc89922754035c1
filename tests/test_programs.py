"""One leftover of many programs, all on one disk: each is given to its document, with the right kind, in one search."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Run, docx, packed, write

Rustfern = Callable[..., Run]
T0 = 1_760_000_000
WIN, MAC, LIN = "office-pc/Users/ivarga", "mac/Users/plund", "slip/home/ines"
MEDIA = packed("media.tar.xz")
SVG = "<svg><text>{}</text></svg>"
XML = "<project><note>{}</note></project>"
DWG = "AC1032" + "\x01" * 300 + "{}"
PLAIN = "{}"

# document, what is left of it, kind, what both hold ({} is their text, the leftover holds more)
ROWS: list[tuple[str, str, str, str]] = [
    (f"{LIN}/art/basin.svg", f"{LIN}/.cache/inkscape/basin.2026_03_12_16_38_00.0.svg", "autosave", SVG),
    (f"{LIN}/art/pier.svg", f"{LIN}/art/pier.2026_03_12_16_38_00.0.svg", "autosave", SVG),
    (f"{LIN}/lay/open day.sla", f"{LIN}/lay/open day_autosave_12_03_2026_16_38.sla", "autosave", XML),
    (f"{LIN}/lay/rota.sla", f"{LIN}/lay/rota.sla.autosave", "autosave", XML),
    (f"{LIN}/cad/slipway.dxf", f"{LIN}/cad/#slipway.dxf", "autosave", "0\nTEXT\n1\n{}\n0\nEOF\n"),
    (f"{LIN}/pcb/charger.kicad_pcb", f"{LIN}/pcb/_autosave-charger.kicad_pcb", "autosave", "(kicad {})"),
    (f"{LIN}/pcb/winch.kicad_sch", f"{LIN}/pcb/winch.kicad_sch-bak", "autosave", "(kicad {})"),
    (f"{LIN}/map/moorings.qgs", f"{LIN}/map/moorings.qgs~", "backup", XML),
    (f"{LIN}/film/launch.kdenlive", f"{LIN}/.local/share/kdenlive/.backup/launch-1741797480000-2026-03-12-16-38.kdenlive", "version", XML),
    (f"{LIN}/radio/yard.ardour", f"{LIN}/radio/yard.pending", "autosave", XML),
    (f"{LIN}/radio/storm.ardour", f"{LIN}/radio/storm.ardour.bak", "autosave", XML),
    (f"{LIN}/hymn/launch hymn.mscx", f"{LIN}/hymn/launch hymn.mscx.autosave", "backup", XML),
    (f"{LIN}/model/keel.scad", f"{LIN}/.local/share/OpenSCAD/backups/keel-backup-QRJoRnli.scad", "autosave", PLAIN),
    (f"{LIN}/tex/report.tex", f"{LIN}/tex/report.tex.recover.bak~", "autosave", PLAIN),
    (f"{LIN}/tex/notes.tex", f"{LIN}/tex/notes.tex.backup", "backup", PLAIN),
    (f"{LIN}/txt/harbour.txt", f"{LIN}/txt/harbour.txt.save", "autosave", PLAIN),
    (f"{LIN}/txt/tides.txt", f"{LIN}/.config/geany/backups/txt/tides.txt.2026-11-23-06-20-11", "version", PLAIN),
    (f"{LIN}/txt/dues.csv", f"{LIN}/txt/dues.csv.autosave", "autosave", "a,b\n{},2\n"),
    (f"{LIN}/txt/plan.txt", f"{LIN}/txt/plan.sync-conflict-20260312-164002-ABCDEF7.txt", "conflict", PLAIN),
    (f"{LIN}/txt/berths.txt", f"{LIN}/txt/berths (conflicted copy 2026-03-12 164002).txt", "conflict", PLAIN),
    (f"{LIN}/txt/fees.txt", f"{LIN}/txt/fees (SFConflict ines@quay 2026-03-12-16-40-02).txt", "conflict", PLAIN),
    (f"{LIN}/txt/cranes.txt", f"{LIN}/txt/cranes_conflict-20260312-164002.txt", "conflict", PLAIN),
    (f"{LIN}/txt/ropes.txt", f"{LIN}/txt/.stversions/ropes~20260312-164002.txt", "version", PLAIN),
    (f"{LIN}/txt/oars.txt", f"{LIN}/.nano/backups/!home!ines!txt!oars.txt~", "backup", PLAIN),
    (f"{LIN}/txt/sails.txt", f"{LIN}/.emacs.d/backups/!home!ines!txt!sails.txt~", "backup", PLAIN),
    (f"{LIN}/txt/masts.txt", f"{LIN}/txt/masts.txt.~3~", "backup", PLAIN),
    (f"{LIN}/txt/decks.txt", f"{LIN}/.sync/Archive/txt/decks.txt", "version", PLAIN),
    (f"{WIN}/Plans/slip.dwg", f"{WIN}/AppData/Local/Temp/slip_1_1_4f2a.sv$", "autosave", DWG),
    (f"{WIN}/Plans/crane.dwg", f"{WIN}/Plans/crane.sv$", "autosave", DWG),
    (f"{WIN}/Plans/hoist.dwg", f"{WIN}/Plans/hoist.bak", "backup", DWG),
    (f"{WIN}/Signs/quay sign.ai", f"{WIN}/AppData/Roaming/Adobe/Adobe Illustrator 28 Settings/en_GB/x64/DataRecovery/quay sign_recovered.ai", "autosave", "pdf"),
    (f"{WIN}/Texts/rates.txt", f"{WIN}/AppData/Roaming/Notepad++/backup/rates.txt@2026-03-12_163800", "autosave", PLAIN),
    (f"{WIN}/Texts/hours.txt", f"{WIN}/Texts/nppBackup/hours.txt.2026-03-12_163800.bak", "backup", PLAIN),
    (f"{WIN}/Film/slip.mp4", f"{WIN}/Film/slip.mp4.tmp", "temporary", "mp4"),
    (f"{WIN}/Downloads/chart.txt", f"{WIN}/Downloads/chart.txt.part", "temporary", PLAIN),
    (f"{MAC}/Documents/rota.docx", "mac/private/var/folders/ab/c_d/T/TemporaryItems/(Document being saved by Words)/rota.docx", "temporary", "docx"),
    (f"{MAC}/Documents/moor.docx", "mac/private/var/folders/ab/c_d/T/org.words/TemporaryItems/NSIRD_Words_x1/moor.docx", "temporary", "docx"),
]  # fmt: skip
ALONE: list[tuple[str, str]] = [
    (f"{LIN}/.config/GIMP/2.10/backups/4711-0.xcf", "unmatched"),
    (f"{LIN}/.cache/.fr-aB12/plans/dinghy.docx", "nothing-lost"),
    (f"{LIN}/nano.4711.save", "never-saved"),
    (f"{WIN}/AppData/Roaming/Microsoft/Sticky Notes/StickyNotes.snt", "nothing-lost"),
    ("slip/var/spool/cups/d00042-001", "nothing-lost"),
    ("slip/lost+found/#131077", "never-saved"),
    (f"{LIN}/.config/chromium/Default/Sessions/Session_1335", "unmatched"),
    (f"{LIN}/Documents/.plan.docx.icloud", "unmatched"),
    (f"{LIN}/Documents/far.gdoc", "unmatched"),
    (f"{LIN}/Downloads/Unconfirmed 4711.crdownload", "never-saved"),
]
SHORT, LONG = (
    "keel planks sound at frame {n}",
    "keel planks sound at frame {n} and the garboard was raked out on day {n}",
)


def content(form: str, text: str) -> bytes:
    if form == "docx":
        return docx(text)
    if form in ("pdf", "mp4"):
        return MEDIA[{"pdf": "form.pdf", "mp4": "slip.mp4"}[form]]
    return form.replace("{}", text).encode()


@pytest.fixture(scope="module")
def answer(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Any]:
    """The whole disk, searched once."""
    import json
    import os
    import subprocess

    from conftest import BUILT

    root = tmp_path_factory.mktemp("disk")
    for home, sign in ((WIN, "AppData"), (MAC, "Library"), (LIN, ".config")):
        (root / home / sign).mkdir(parents=True)
    for number, (document, leftover, kind, form) in enumerate(ROWS):
        newer = kind in ("autosave", "temporary", "conflict")
        old, new = SHORT.format(n=number), LONG.format(n=number)
        write(root / document, content(form, old if newer else new), T0)
        write(root / leftover, content(form, new if newer else old), T0 + (60 if newer else -60))
    for path, _ in ALONE:
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


@pytest.mark.parametrize("row", ROWS, ids=lambda row: row[1].rpartition("/")[2])
def test_it_is_given_to_its_document(row: tuple[str, str, str, str], answer: tuple[Path, Any]) -> None:
    root, found = answer
    document, leftover, kind, _ = row
    holders = {d["original"]: c for d in found["documents"] for c in d["copies"] if c["path"] == str(root / leftover)}
    assert list(holders) == [str(root / document)], (
        holders.keys(),
        [u for u in found["unmatched"] if u["path"] == str(root / leftover)],
    )
    copy = holders[str(root / document)]
    assert copy["kind"] == kind and copy["confidence"] > 0.5 and copy["evidence"]


@pytest.mark.parametrize("row", ALONE, ids=lambda row: row[0].rpartition("/")[2])
def test_what_stands_alone_is_no_other_document(row: tuple[str, str], answer: tuple[Path, Any]) -> None:
    root, found = answer
    path, wanted = str(root / row[0]), row[1]
    where = [d["situation"] for d in found["documents"] for c in d["copies"] if c["path"] == path]
    where += ["unmatched" for u in found["unmatched"] if u["path"] == path]
    assert where == [wanted], where


def test_nothing_else_is_claimed(answer: tuple[Path, Any]) -> None:
    root, found = answer
    originals = {str(root / document) for document, *_ in ROWS}
    others = [d["original"] for d in found["documents"] if d["original"] and d["original"] not in originals]
    assert [Path(path).name for path in others] == ["dinghy.docx"], others
