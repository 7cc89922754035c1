#!/usr/bin/env python3
"""How much of the words that an office suite's own conversion gives are in the text that `look` shows: bench/text.py [--folder DIR]

Documents of real writers (python-docx, openpyxl, python-pptx), each also in the other formats that the office suite writes, and all intact
ones under `--folder`. The suite turns each into plain text (workbooks sheet by sheet into CSV, presentations into flat ODF); words are compared as multisets. Needs `soffice` and `pdftotext`.
"""

from __future__ import annotations

import argparse
import io
import random
import re
import subprocess
import sys
import tempfile
import zipfile
from collections import Counter, defaultdict
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

import docx
import openpyxl
import pptx
from documents import row_of

from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.formats.interface import Limits
from rustfern.formats.text_sink import words_of

LEAST = 0.995
_ODF = "{urn:oasis:names:tc:opendocument:xmlns:%s:1.0}"
DRAW, TEXT, SHOW = _ODF % "drawing", _ODF % "text", _ODF % "presentation"
TEXTS, SHEETS, SLIDES = ("docx", "odt", "doc", "rtf", "pdf"), ("xlsx", "ods", "xls"), ("pptx", "odp", "ppt")


def office(source: Path, kind: str, folder: Path) -> list[Path]:
    """The files that the office suite makes of a document."""
    before = set(folder.iterdir())
    command = ["soffice", "--headless", "--convert-to", kind, "--outdir", str(folder), str(source)]
    subprocess.run(command, check=True, capture_output=True)
    return sorted(set(folder.iterdir()) - before)


def make(folder: Path, rng: random.Random) -> None:
    """A long text with headings and tables, a workbook of three sheets, a presentation."""
    text = docx.Document()
    for chapter in range(12):
        text.add_heading(" ".join(row_of(rng, "docx")), 1)
        for _ in range(20):
            text.add_paragraph(" ".join(row_of(rng, "docx")))
        table = text.add_table(4, 3)
        for cell in (cell for line in table.rows for cell in line.cells):
            cell.text = " ".join(row_of(rng, "docx"))[: 20 + chapter]
    text.save(str(folder / "survey.docx"))
    book = openpyxl.Workbook()
    for number in range(3):
        sheet = book.create_sheet(f"Quay {number}")
        for _ in range(120):
            sheet.append(
                [
                    " ".join(row_of(rng, "docx"))[:30],
                    rng.randint(1, 900),
                    round(rng.random() * 90, 2),
                    rng.random() < 0.5,
                ]
            )
    book.remove(book.worksheets[0])
    book.save(folder / "orders.xlsx")
    show = pptx.Presentation()
    for _ in range(25):
        slide = show.slides.add_slide(show.slide_layouts[1])
        slide.shapes.title.text = " ".join(row_of(rng, "docx"))[:40]
        slide.placeholders[1].text = " ".join(row_of(rng, "docx"))
    show.save(str(folder / "launch.pptx"))
    for name, kinds in (("survey.docx", TEXTS[1:]), ("orders.xlsx", SHEETS[1:]), ("launch.pptx", SLIDES[1:])):
        for kind in kinds:
            office(folder / name, kind, folder)


def theirs(path: Path, kind: str) -> Counter[str]:
    """The words that the office suite finds."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if kind in SHEETS:
            made = office(path, "csv:Text - txt - csv (StarCalc):9,34,76,1,,0,false,false,false,false,false,-1", folder)
        elif kind in SLIDES:
            made = office(path, "fodp", folder)
        elif kind == "pdf":
            made = [path]
        else:
            made = office(path, "txt:Text (encoded):UTF8", folder)
        found: Counter[str] = Counter()
        for each in made:
            if each.suffix == ".fodp":
                text = "\n".join(_slides(each))
            elif each.suffix == ".pdf":
                text = subprocess.run(
                    ["pdftotext", "-layout", str(each), "-"], check=True, capture_output=True
                ).stdout.decode()
            else:
                text = each.read_text("utf-8-sig", "replace")
            found.update(words_of(text.replace("\f", "\n")))
        return found


def ours(path: Path) -> tuple[str | None, State, Counter[str]]:
    """The words that looking shows."""
    with path.open("rb") as stream:
        content, kept = formats.read_text(stream, path.name, 1 << 30, Limits())
    return content.format, content.state, Counter(word for piece in kept for word in words_of(piece.text))


def _slides(path: Path) -> Iterator[str]:
    """The paragraphs on the slides of a flat presentation, without notes; by the standard library's own tree."""
    for page in ElementTree.parse(path).iter(f"{DRAW}page"):
        notes = {id(item) for note in page.iter(f"{SHOW}notes") for item in note.iter()}
        for paragraph in page.iter(f"{TEXT}p"):
            if id(paragraph) not in notes:
                yield _flat(paragraph)


def _flat(element: ElementTree.Element) -> str:
    out = element.text or ""
    for item in element:
        out += (" " if item.tag in (f"{TEXT}s", f"{TEXT}tab", f"{TEXT}line-break") else _flat(item)) + (item.tail or "")
    return out


def stored(path: Path, kind: str) -> bool:
    """Whether all formulas of a workbook have their values stored: the suite works out those that have none, which is no reading."""
    if kind == "xlsx":
        with zipfile.ZipFile(path) as package:
            sheets = [package.read(name) for name in package.namelist() if re.search(r"/worksheets/[^/]+\.xml$", name)]
        return not any(re.search(rb"</f>\s*(?:<v\s*/>|<v></v>)?\s*</c>|</f><v>0</v>", data) for data in sheets)
    if kind == "xls":
        import xlrd

        book = xlrd.open_workbook(path, logfile=io.StringIO())
        cells = [cell for sheet in book.sheets() for number in range(sheet.nrows) for cell in sheet.row(number)]
        return not any(cell.ctype == xlrd.XL_CELL_TEXT and cell.value == "" for cell in cells)
    return True


def _counted(words: Counter[str]) -> Counter[str]:
    found: Counter[str] = Counter()
    for word, count in words.items():
        try:
            # The suite rounds the last digits in its own way.
            word = format(float(word), ".12g")
        except ValueError:
            word = {"true": "1", "false": "0"}.get(word, word)
        found[word] += count
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folder", help="also all intact documents in this folder")
    parser.add_argument("-v", "--verbose", action="store_true")
    asked = parser.parse_args()
    good = True
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make(folder, random.Random(20260312))
        paths = sorted(folder.iterdir())
        paths += sorted(p for p in Path(asked.folder).rglob("*") if p.is_file()) if asked.folder else []
        left_out: list[str] = []
        shares: dict[str, list[tuple[float, str]]] = defaultdict(list)
        for path in paths:
            kind, state, mine = ours(path)
            if kind not in (*TEXTS, *SHEETS, *SLIDES) or state is not State.INTACT or path.suffix[1:] != kind:
                continue
            # Truth values lose their looks in some of the suite's own conversions.
            if not stored(path, kind):
                left_out.append(path.name)
                continue
            wanted, mine = _counted(theirs(path, kind)), _counted(mine)
            if wanted.total() < 5:
                continue
            common = (mine & wanted).total()
            shares[kind].append((2 * common / (mine.total() + wanted.total()), path.name))
            if asked.verbose and shares[kind][-1][0] < LEAST:
                print(path, list((wanted - mine).items())[:12], list((mine - wanted).items())[:12])
        if left_out:
            print(f"left out, as their formulas have no values stored: {', '.join(sorted(left_out))}")
        for kind, found in sorted(shares.items()):
            worst = min(found)
            mean = sum(share for share, _ in found) / len(found)
            good &= mean >= LEAST
            verdict = "ok " if mean >= LEAST else "BAD"
            print(
                f"{verdict} {kind:<5} {len(found):3} documents: {mean:8.3%} of the words in common (at least {LEAST:.1%}), worst {worst[0]:.2%} ({worst[1]})"
            )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
