#!/usr/bin/env python3
"""How much of the words that an office suite's own conversion gives are in the text that `look` shows: bench/text.py [--folder DIR]

Documents of real writers (python-docx, openpyxl, python-pptx), each also in the other formats that the office suite writes, and all intact
ones under `--folder`. The suite turns each into plain text (workbooks sheet by sheet into CSV, presentations and drawings through PDF and
`pdftotext`); words are compared as multisets. Needs `soffice` and `pdftotext`.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
from collections import Counter, defaultdict
from pathlib import Path

import docx
import openpyxl
import pptx
from documents import row_of

from rustfern import formats
from rustfern.formats.words import words_of
from rustfern.model import State

LEAST = 0.995
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
            made = office(
                path, "csv:Text - txt - csv (StarCalc):9,34,76,1,,0,false,false,false,false,false,-1", folder
            )
        elif kind in SLIDES:
            made = office(path, "pdf", folder)
        elif kind == "pdf":
            made = [path]
        else:
            made = office(path, "txt:Text (encoded):UTF8", folder)
        found: Counter[str] = Counter()
        for each in made:
            if each.suffix == ".pdf":
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
        content, kept = formats.read_text(stream, path.name, 1 << 30)
    return content.format, content.state, Counter(word for piece in kept for word in words_of(piece.text))


def _counted(words: Counter[str]) -> Counter[str]:
    found: Counter[str] = Counter()
    for word, count in words.items():
        found[{"true": "1", "false": "0"}.get(word, word)] += count
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
        shares: dict[str, list[tuple[float, str]]] = defaultdict(list)
        for path in paths:
            kind, state, mine = ours(path)
            if kind not in (*TEXTS, *SHEETS, *SLIDES) or state is not State.INTACT or path.suffix[1:] != kind:
                continue
            # Truth values lose their looks in some of the suite's own conversions.
            wanted, mine = _counted(theirs(path, kind)), _counted(mine)
            if wanted.total() < 5:
                continue
            common = (mine & wanted).total()
            shares[kind].append((2 * common / (mine.total() + wanted.total()), path.name))
            if asked.verbose and shares[kind][-1][0] < LEAST:
                print(path, list((wanted - mine).items())[:12], list((mine - wanted).items())[:12])
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
