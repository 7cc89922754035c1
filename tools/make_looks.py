#!/usr/bin/env python3
"""Make one text, workbook, presentation and form in every format that can be looked at, as test data. Not run in CI.

    tools/make_looks.py --to tests/data/looks.tar.xz

Needs python-docx, openpyxl, python-pptx, reportlab (pip) and the office suite's writer, calc and impress. All content is made up.
"""

from __future__ import annotations

import argparse
import datetime
import subprocess
import tarfile
import tempfile
from pathlib import Path

import docx
import openpyxl
import pptx
from pptx.util import Inches
from reportlab.pdfgen import canvas

FINDINGS = [["Strake", "Side", "Finding"], ["1", "port", "soft at frame 12"], ["2", "starboard", ""]]
COSTS = [["Item", "£"], ["Crane", "400"]]


def text(folder: Path) -> None:
    """A hull survey with headings and a table."""
    made = docx.Document()
    made.add_heading("Hull survey: Wren of Mersea", 0)
    made.add_heading("Planking", 1)
    made.add_paragraph("The garboard strake was probed at every frame. Two soft spots, see the table.")
    table = made.add_table(3, 3)
    for row, cells in enumerate(FINDINGS):
        for column, value in enumerate(cells):
            table.cell(row, column).text = value
    made.add_heading("Next steps", 2)
    made.add_paragraph("Order larch, 32 mm.")
    made.save(folder / "survey.docx")


def workbook(folder: Path) -> None:
    """Timber orders on two sheets, with dates and a gap."""
    made = openpyxl.Workbook()
    sheet = made.active
    sheet.title = "Timber"
    sheet.append(["Ordered", "Wood", "Metres", "Price"])
    sheet.append([datetime.date(2026, 2, 3), "larch", 12.5, 480])
    sheet.append([datetime.datetime(2026, 2, 9, 14, 30), "oak", 3, 210.25])
    sheet["F7"] = "note"
    other = made.create_sheet("Hours")
    other.append(["Who", "Hours"])
    other.append(["Ines", 7.5])
    made.save(folder / "orders.xlsx")


def presentation(folder: Path) -> None:
    """A launch plan on three slides, one with a table."""
    made = pptx.Presentation()
    for title, body in (
        ("Spring launch", "Crane booked 14 April"),
        ("Tides", "High water 11:40"),
        ("Costs", "See table"),
    ):
        slide = made.slides.add_slide(made.slide_layouts[1])
        slide.shapes.title.text, slide.placeholders[1].text = title, body
    table = slide.shapes.add_table(2, 2, Inches(1), Inches(3), Inches(4), Inches(1)).table
    for row, cells in enumerate(COSTS):
        for column, value in enumerate(cells):
            table.cell(row, column).text = value
    made.save(folder / "launch.pptx")


def form(folder: Path) -> None:
    """A mooring request with filled fields."""
    page = canvas.Canvas(str(folder / "form.pdf"), invariant=True)
    page.drawString(72, 750, "Mooring request")
    page.acroForm.textfield(name="boat", tooltip="Boat", x=72, y=700, value="Wren", width=200)
    page.acroForm.textfield(name="berth", tooltip="Berth", x=72, y=660, value="C 14", width=200)
    page.acroForm.checkbox(name="insured", tooltip="Insured", x=72, y=620, checked=True)
    page.save()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--to", required=True)
    target = parser.parse_args().to
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for make in (text, workbook, presentation, form):
            make(folder)
        for source, formats in (
            ("survey.docx", "doc odt rtf html pdf"),
            ("orders.xlsx", "xls ods"),
            ("launch.pptx", "ppt odp"),
        ):
            for each in formats.split():
                command = ["soffice", "--headless", "--convert-to", each, "--outdir", name, str(folder / source)]
                subprocess.run(command, check=True, capture_output=True)
        with tarfile.open(target, "w:xz") as archive:
            for path in sorted(folder.iterdir()):
                if path.is_file():
                    archive.add(path, path.name, filter=_plain)


def _plain(member: tarfile.TarInfo) -> tarfile.TarInfo:
    member.uid = member.gid = 0
    member.uname = member.gname = ""
    member.mtime = 1_790_000_000
    return member


if __name__ == "__main__":
    main()
