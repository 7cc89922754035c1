#!/usr/bin/env python3
"""Make texts, workbooks, presentations, books, drawings and archives by many real producers, small, as test data. Not run in CI.

    tools/make_packages.py --to tests/data/packages.tar.xz

Needs python-docx, python-pptx, openpyxl, xlsxwriter, xlwt, odfpy, ebooklib, ezdxf and Pillow (pip), and the distribution's pandoc,
p7zip-full, flac, ffmpeg and the office suite's writer, calc, impress and draw. All content is made up.
"""

from __future__ import annotations

import argparse
import datetime
import io
import lzma
import random
import sqlite3
import subprocess
import tarfile
import tempfile
import zipfile
from email.message import EmailMessage
from pathlib import Path

import docx
import ezdxf
import odf.opendocument
import odf.table
import odf.text
import openpyxl
import openpyxl.chart
import openpyxl.drawing.image
import pptx
import xlsxwriter
import xlwt
from ebooklib import epub
from PIL import Image

BOATS = ("Kittiwake", "Little Auk", "Sea Thrift", "Petrel", "Åsa", "Guillemot")
PARTS = ("garboard", "hog", "stem apron", "sheer strake", "transom knee", "bilge stringer", "deck carlin")
ACTS = ("raked out and payed", "refastened with copper", "scarfed 1:8", "sound when tapped", "soft to the spike")
DAY = datetime.date(2026, 10, 5)
seed = random.Random(5)


def sentence() -> str:
    return (
        f"{seed.choice(BOATS)}: the {seed.choice(PARTS)} at station {seed.randrange(40)} is {seed.choice(ACTS)}, "
        f"{seed.randrange(8, 31)} % moisture, £{seed.randrange(1, 4000)}.{seed.randrange(100):02} & VAT."
    )


def picture(width: int = 60, height: int = 40, kind: str = "PNG") -> io.BytesIO:
    noise = bytes(seed.randrange(256) for _ in range(12 * 8 * 3))
    out = io.BytesIO()
    Image.frombytes("RGB", (12, 8), noise).resize((width, height)).save(out, kind)
    out.seek(0)
    return out


def texts(folder: Path) -> None:
    paper = docx.Document()
    paper.add_heading("Hull survey", 0)
    for _ in range(12):
        paper.add_paragraph(sentence())
    table = paper.add_table(rows=3, cols=3)
    for row in table.rows:
        for cell in row.cells:
            cell.text = sentence()[:20]
    paper.add_picture(picture())
    paper.add_picture(picture(kind="JPEG"))
    paper.sections[0].header.paragraphs[0].text = "Marlow Quay Boatyard"
    paper.save(str(folder / "survey-python.docx"))
    text = odf.opendocument.OpenDocumentText()
    for _ in range(10):
        text.text.addElement(odf.text.P(text=sentence()))
    text.save(folder / "survey-odfpy.odt")
    sheet = odf.opendocument.OpenDocumentSpreadsheet()
    table = odf.table.LinkState(name="Timber")
    for _ in range(20):
        row = odf.table.TableRow()
        for value in (seed.randrange(100), seed.random() * 50):
            row.addElement(odf.table.TableCell(valuetype="float", value=value))
        cell = odf.table.TableCell(valuetype="string")
        cell.addElement(odf.text.P(text=sentence()))
        row.addElement(cell)
        table.addElement(row)
    sheet.spreadsheet.addElement(table)
    sheet.save(folder / "timber-odfpy.ods")
    markdown = (
        "# Launch\n\n"
        + "\n\n".join(sentence() for _ in range(12))
        + "\n\n| a | b |\n|---|---|\n| 1 | 2 |\n\n$x^2$[^1]\n\n[^1]: Note.\n"
    )
    for kind in ("docx", "odt", "epub", "rtf", "pptx", "html", "fb2", "ipynb"):
        out = str(folder / f"launch-pandoc.{kind}")
        subprocess.run(
            ["pandoc", "-s", "-f", "markdown", "--metadata", "title=Launch", "-o", out],
            input=markdown.encode(),
            check=True,
        )


def sheets(folder: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "Timber orders"
    for row in range(60):
        sheet.append(
            [
                row,
                seed.choice(BOATS),
                seed.random() * 100,
                DAY + datetime.timedelta(row),
                f"=A{row + 1}*2",
                row % 2 == 0,
            ]
        )
    sheet.add_image(openpyxl.drawing.image.Image(picture()), "H2")
    chart = openpyxl.chart.BarChart()
    chart.add_data(openpyxl.chart.Reference(sheet, min_col=3, min_row=1, max_row=20))
    sheet.add_chart(chart, "H9")
    book.create_sheet("Empty")
    book.save(folder / "timber-openpyxl.xlsx")
    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet("Long")
    for row in range(400):
        sheet.append([row, sentence()[:30]])
    book.save(folder / "timber-streamed.xlsx")
    out = xlsxwriter.Workbook(str(folder / "timber-writer.xlsx"))
    page = out.add_worksheet("Timber")
    bold = out.add_format({"bold": True})
    for row in range(50):
        page.write(row, 0, seed.choice(BOATS), bold)
        page.write(row, 1, seed.random())
        page.write_formula(row, 2, f"=B{row + 1}*3", value=seed.random())
        page.write_rich_string(row, 3, "oak ", bold, "green")
    page.write_comment("A1", "ordered by Tobias Okoro")
    page.insert_image("F2", "plan.png", {"image_data": picture()})
    out.close()
    old = xlwt.Workbook()
    page = old.add_sheet("Timber")
    for row in range(80):
        for column, value in enumerate((row, seed.choice(BOATS), seed.random(), sentence())):
            page.write(row, column, value)
    old.save(str(folder / "timber-xlwt.xls"))


def slides(folder: Path) -> None:
    show = pptx.Presentation()
    for number in range(3):
        slide = show.slides.add_slide(show.slide_layouts[1])
        slide.shapes.title.text = f"Launch {number}"
        slide.placeholders[1].text = sentence()
        slide.notes_slide.notes_text_frame.text = sentence()
    show.slides[0].shapes.add_picture(picture(), 0, 0)
    show.save(str(folder / "launch-python.pptx"))


def books(folder: Path) -> None:
    book = epub.EpubBook()
    book.set_identifier("marlow-quay-1")
    book.set_title("Rigging notes")
    chapters = []
    for number in range(3):
        chapter = epub.EpubHtml(title=f"Chapter {number}", file_name=f"chapter{number}.xhtml")
        chapter.content = f"<h1>Chapter {number}</h1><p>{sentence().replace('&', '&amp;')}</p>"
        book.add_item(chapter)
        chapters.append(chapter)
    book.toc = chapters
    book.add_item(epub.EpubNcx())
    book.add_item(epub.EpubNav())
    book.set_cover("cover.png", picture().getvalue())
    book.spine = ["nav", *chapters]
    epub.write_epub(str(folder / "rigging.epub"), book, {"epub3_pages": False})


def drawings(folder: Path) -> None:
    for version in ("R12", "R2000", "R2018"):
        drawing = ezdxf.new(version)
        space = drawing.modelspace()
        for number in range(12):
            space.add_line((0, number), (number * 3.5, 10))
            space.add_text(sentence()[:30])
        drawing.saveas(folder / f"mooring-{version.lower()}.dxf")
    drawing.saveas(folder / "mooring-binary.dxf", fmt="bin")


def others(folder: Path) -> None:
    notes = folder / "notes.txt"
    notes.write_text("\n".join(sentence() for _ in range(60)) + "\n")
    (folder / "notes-utf16.txt").write_bytes(notes.read_text().encode("utf-16"))
    (folder / "notes-utf32.txt").write_bytes(notes.read_text().encode("utf-32"))
    (folder / "notes-latin1.txt").write_bytes(notes.read_text().encode("latin-1"))
    for kind in (["-mx9"], ["-m0=BZip2", "-mhe"], ["-m0=Copy"], ["-ms=off", "-m0=Deflate"], ["-m0=PPMd"]):
        name = "yard" + "".join(kind).replace("=", "") + ".7z"
        subprocess.run(
            ["7z", "a", "-bd", "-y", *kind, str(folder / name), str(notes), str(folder / "notes-utf16.txt")],
            check=True,
            stdout=subprocess.DEVNULL,
        )
    subprocess.run(
        ["7z", "a", "-bd", "-y", "-pslipway", "-mhe=on", str(folder / "yard-locked.7z"), str(notes)],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    for bits in ("s16", "s32"):
        subprocess.run(
            [
                "ffmpeg",
                "-v",
                "error",
                "-f",
                "lavfi",
                "-i",
                "sine=440:d=0.4",
                "-ac",
                "2",
                "-sample_fmt",
                bits,
                str(folder / f"tone-{bits}.flac"),
            ],
            check=True,
        )
    wav = folder / "tone.wav"
    subprocess.run(["ffmpeg", "-v", "error", "-f", "lavfi", "-i", "anoisesrc=d=0.2:a=0.3", str(wav)], check=True)
    for level in ("-0", "-8"):
        subprocess.run(["flac", "-s", "-f", level, str(wav), "-o", str(folder / f"noise{level}.flac")], check=True)
    wav.unlink()
    database = sqlite3.connect(folder / "orders.sqlite")
    database.execute("create table orders (number integer primary key, boat text, sum real)")
    database.executemany("insert into orders values (?, ?, ?)", [(n, sentence(), n * 1.5) for n in range(120)])
    database.execute("create index boats on orders (boat)")
    database.commit()
    database.close()
    mail = EmailMessage()
    mail["From"], mail["To"], mail["Subject"] = "ines@marlowquay.example", "petra@marlowquay.example", "Hull survey Åsa"
    mail["Date"], mail["Message-ID"] = "Mon, 05 Oct 2026 09:30:00 +0100", "<1@marlowquay.example>"
    mail.set_content("\n".join(sentence() for _ in range(5)))
    mail.add_attachment(picture().getvalue(), maintype="image", subtype="png", filename="plan.png")
    mail.add_attachment(
        (folder / "survey-odfpy.odt").read_bytes(),
        maintype="application",
        subtype="vnd.oasis.opendocument.text",
        filename="survey.odt",
    )
    (folder / "survey.eml").write_bytes(mail.as_bytes())
    (folder / "yard.mbox").write_bytes(
        b"".join(b"From ines@marlowquay.example Mon Oct  5 09:30:00 2026\n" + mail.as_bytes() + b"\n" for _ in range(2))
    )
    with zipfile.ZipFile(folder / "model.3mf", "w", zipfile.ZIP_DEFLATED) as box:
        box.writestr(
            "[Content_Types].xml",
            '<?xml version="1.0" encoding="UTF-8"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>',
        )
        box.writestr(
            "_rels/.rels",
            '<?xml version="1.0" encoding="UTF-8"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Target="/3D/3dmodel.model" Id="rel0" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>',
        )
        points = "".join(f'<vertex x="{n}" y="{n * 2}" z="{n % 3}"/>' for n in range(30))
        faces = "".join(f'<triangle v1="{n}" v2="{n + 1}" v3="{n + 2}"/>' for n in range(28))
        box.writestr(
            "3D/3dmodel.model",
            f'<?xml version="1.0" encoding="UTF-8"?><model unit="millimeter" xml:lang="en-GB" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources><object id="1" type="model"><mesh><vertices>{points}</vertices><triangles>{faces}</triangles></mesh></object></resources><build><item objectid="1"/></build></model>',
        )


def by_office(folder: Path) -> None:
    """Each kind that the suite writes, from a text, a sheet, a show and a drawing."""
    wanted = {
        "survey-odfpy.odt": (
            "docx",
            "doc",
            "fodt",
            "ott",
            "rtf",
            "html",
            "xml:MS Word 2003 XML",
            "epub",
            "dot:MS Word 97 Vorlage",
            "dotx:MS Word 2007 XML Template",
        ),
        "timber-openpyxl.xlsx": ("ods", "xls", "fods", "csv", "xlsm:Calc MS Excel 2007 VBA XML"),
        "launch-python.pptx": (
            "odp",
            "ppt",
            "fodp",
            "pdf",
            "odg:impress8_draw",
            "ppsx:Impress MS PowerPoint 2007 XML AutoPlay",
        ),
        "mooring-r2018.dxf": ("odg", "svg", "eps", "png"),
    }
    with tempfile.TemporaryDirectory() as profile:
        for source, kinds in wanted.items():
            for kind in kinds:
                extension = kind.partition(":")[0]
                subprocess.run(
                    [
                        "soffice",
                        f"-env:UserInstallation=file://{profile}",
                        "--headless",
                        "--convert-to",
                        kind,
                        "--outdir",
                        str(folder / "office"),
                        str(folder / source),
                    ],
                    check=True,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                )
                made = folder / "office" / f"{Path(source).stem}.{extension}"
                if made.exists():
                    made.rename(folder / f"{Path(source).stem.partition('-')[0]}-office.{extension}")
    (folder / "office").rmdir()
    drawn = (folder / "mooring-office.svg").read_bytes()
    import gzip

    (folder / "mooring.svgz").write_bytes(gzip.compress(drawn, mtime=0))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", type=Path, required=True)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for make in (texts, sheets, slides, books, drawings, others, by_office):
            make(folder)
        with (
            lzma.open(given.to, "wb", preset=9 | lzma.PRESET_EXTREME) as packed,
            tarfile.open(fileobj=packed, mode="w") as out,
        ):
            for file in sorted(folder.iterdir()):
                entry = tarfile.TarInfo(file.name)
                entry.size, entry.mtime = file.stat().st_size, 1_791_000_000
                out.addfile(entry, io.BytesIO(file.read_bytes()))
                print(f"{entry.size:9} {file.name}")


main()
