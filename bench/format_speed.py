#!/usr/bin/env python3
"""How fast each format is checked, beside the format's own tool: processor time of both in the same run, medians of five.

    bench/format_speed.py [--only WORD] [--runs N] [--scale SHARE]

The sizes are those that people have (a phone's photo of twelve megapixels, a workbook of a million cells, a mailbox of 100 MB); `--scale`
makes them smaller. Each file is checked several times in one command, so that the start of the program (shown in the first line) does not
decide; it is taken off. Needs djpeg, jpegtran, tiffinfo, giftopnm, pngtopnm, flac, ffmpeg, sqlite3, xmllint, iconv, unzip.
"""

from __future__ import annotations

import argparse
import mailbox
import os
import random
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from email.message import EmailMessage
from pathlib import Path

import numpy as np
from common import row, rustfern
from PIL import Image

_TIMES = 4
_WORDS = [
    "hull",
    "survey",
    "plank",
    "frame",
    "keel",
    "caulking",
    "launch",
    "mooring",
    "timber",
    "oak",
    "larch",
    "varnish",
    "Kittiwake",
    "Petrel",
    "Sandpiper",
    "tide",
]


def _photo(scale: float) -> Image.Image:
    """Twelve megapixels: soft shapes with the noise of a sensor."""
    across, down = int(4032 * scale**0.5), int(3024 * scale**0.5)
    y, x = np.mgrid[0:down, 0:across].astype("float32")
    random_ = np.random.default_rng(7)
    bands = [110 + 60 * np.sin(x / (90 + 40 * n)) * np.cos(y / (70 + 30 * n)) for n in range(3)]
    soft = np.stack(bands, axis=2) + random_.normal(0, 4, (down, across, 3))
    return Image.fromarray(soft.clip(0, 255).astype("uint8"))


def _text(size: int) -> str:
    random_ = random.Random(3)
    line = [" ".join(random_.choices(_WORDS, k=9)) + "." for _ in range(2000)]
    lines = []
    while size > 0:
        lines.append(f"{len(lines)} {random_.choice(line)}")
        size -= len(lines[-1]) + 1
    return "\n".join(lines) + "\n"


def _jpeg(path: Path, scale: float) -> None:
    _photo(scale).save(path, quality=92)


def _progressive(path: Path, scale: float) -> None:
    _photo(scale).save(path, quality=92, progressive=True)


def _tiff(path: Path, scale: float) -> None:
    _photo(scale).save(path, compression="tiff_lzw")


def _png(path: Path, scale: float) -> None:
    _photo(scale).save(path)


def _gif(path: Path, scale: float) -> None:
    _photo(scale / 3).quantize(128).save(path)


def _flac(path: Path, scale: float) -> None:
    tone = f"anoisesrc=d={int(240 * scale)}:c=pink:a=0.4:r=44100"
    subprocess.run(["ffmpeg", "-loglevel", "error", "-f", "lavfi", "-i", tone, "-ac", "2", str(path)], check=True)


def _sqlite(path: Path, scale: float) -> None:
    random_ = random.Random(5)
    with sqlite3.connect(path) as base:
        base.execute("create table orders (id integer primary key, boat text, what text, price real)")
        base.execute("create index by_boat on orders (boat)")
        rows = (
            (random_.choice(_WORDS), " ".join(random_.choices(_WORDS, k=12)), random_.random())
            for _ in range(int(600_000 * scale))
        )
        base.executemany("insert into orders (boat, what, price) values (?, ?, ?)", rows)
    base.close()


def _xml(path: Path, scale: float) -> None:
    rows = (
        f'<entry id="{n}"><boat>{_WORDS[n % 16]}</boat><due>2026-0{n % 9 + 1}-11</due></entry>\n'
        for n in range(int(500_000 * scale))
    )
    path.write_text("<log>\n" + "".join(rows) + "</log>\n")


def _plain(path: Path, scale: float) -> None:
    path.write_text(_text(int(100e6 * scale)), encoding="utf-8")


def _xlsx(path: Path, scale: float) -> None:
    rows = int(100_000 * scale)
    random_ = random.Random(9)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        start = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
        main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
        rels = "http://schemas.openxmlformats.org/package/2006/relationships"
        office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
        kind = "application/vnd.openxmlformats-officedocument.spreadsheetml."
        out.writestr("[Content_Types].xml", f'{start}<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" '
            'ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/>'
            f'<Override PartName="/xl/workbook.xml" ContentType="{kind}sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" '
            f'ContentType="{kind}worksheet+xml"/><Override PartName="/xl/sharedStrings.xml" ContentType="{kind}sharedStrings+xml"/></Types>')  # fmt: skip
        out.writestr(
            "_rels/.rels",
            f'{start}<Relationships xmlns="{rels}"><Relationship Id="rId1" Type="{office}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        )
        out.writestr("xl/_rels/workbook.xml.rels", f'{start}<Relationships xmlns="{rels}"><Relationship Id="rId1" Type="{office}/worksheet" Target="worksheets/sheet1.xml"/>'
            f'<Relationship Id="rId2" Type="{office}/sharedStrings" Target="sharedStrings.xml"/></Relationships>')  # fmt: skip
        out.writestr(
            "xl/workbook.xml",
            f'{start}<workbook xmlns="{main}" xmlns:r="{office}"><sheets><sheet name="Orders" sheetId="1" r:id="rId1"/></sheets></workbook>',
        )
        shared = [" ".join(random_.choices(_WORDS, k=4)) for _ in range(5000)]
        out.writestr(
            "xl/sharedStrings.xml",
            f'{start}<sst xmlns="{main}" count="{rows * 4}" uniqueCount="5000">'
            + "".join(f"<si><t>{text}</t></si>" for text in shared)
            + "</sst>",
        )
        with out.open("xl/worksheets/sheet1.xml", "w") as sheet:
            sheet.write(f'{start}<worksheet xmlns="{main}"><sheetData>'.encode())
            for number in range(1, rows + 1):
                cells = "".join(
                    f'<c r="{column}{number}" t="s"><v>{random_.randrange(5000)}</v></c>' if place % 5 < 2 else f'<c r="{column}{number}" s="2"><v>{random_.random() * 1000:.2f}</v></c>'
                    for place, column in enumerate("ABCDEFGHIJ")
                )  # fmt: skip
                sheet.write(f'<row r="{number}">{cells}</row>'.encode())
            sheet.write(b"</sheetData></worksheet>")


def _ods(path: Path, scale: float) -> None:
    space = "urn:oasis:names:tc:opendocument:xmlns:"
    random_ = random.Random(9)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet", zipfile.ZIP_STORED)
        out.writestr("META-INF/manifest.xml", f'<manifest:manifest xmlns:manifest="{space}manifest:1.0"><manifest:file-entry manifest:full-path="/" manifest:media-type='
            '"application/vnd.oasis.opendocument.spreadsheet"/><manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>')  # fmt: skip
        with out.open("content.xml", "w") as body:
            body.write(f'<office:document-content xmlns:office="{space}office:1.0" xmlns:table="{space}table:1.0" xmlns:text="{space}text:1.0" office:version="1.3">'
                '<office:body><office:spreadsheet><table:table table:name="Orders">'.encode())  # fmt: skip
            for _ in range(int(50_000 * scale)):
                cells = "".join(
                    f'<table:table-cell office:value-type="string"><text:p>{random_.choice(_WORDS)} {random_.choice(_WORDS)}</text:p></table:table-cell>' if place % 5 < 2
                    else f'<table:table-cell office:value-type="float" office:value="{random_.random():.4f}"><text:p>{random_.random():.2f}</text:p></table:table-cell>'
                    for place in range(10)
                )  # fmt: skip
                body.write(f"<table:table-row>{cells}</table:table-row>".encode())
            body.write(b"</table:table></office:spreadsheet></office:body></office:document-content>")


def _mbox(path: Path, scale: float) -> None:
    random_ = random.Random(2)
    words = _text(40_000)
    box = mailbox.mbox(path)
    for number in range(int(1200 * scale)):
        mail = EmailMessage()
        mail["From"], mail["To"], mail["Subject"] = (
            "ines@marlow-quay.example",
            "petra@marlow-quay.example",
            f"Order {number}",
        )
        mail["Date"], mail["Message-ID"] = "Thu, 12 Mar 2026 16:40:00 +0000", f"<{number}@marlow-quay.example>"
        start = random_.randrange(30_000)
        mail.set_content(words[start : start + 4000])
        mail.add_attachment(random_.randbytes(60_000), maintype="image", subtype="jpeg", filename="frame.jpg")
        box.add(mail)
    box.close()


def _pdf(path: Path, scale: float) -> None:
    """Many pages of text, as an office program exports them."""
    import zlib

    random_ = random.Random(4)
    pages = int(3000 * scale)
    objects = [b"<</Type/Catalog/Pages 2 0 R>>", b""]
    kids = []
    for _ in range(pages):
        text = "\n".join(
            f"BT /F1 11 Tf 56 {800 - 14 * n} Td ({' '.join(random_.choices(_WORDS, k=12))}) Tj ET" for n in range(50)
        )
        body = zlib.compress(text.encode())
        number = len(objects) + 1
        kids.append(b"%d 0 R" % number)
        objects += [b"<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Resources<</Font<</F1 3 0 R>>>>/Contents %d 0 R>>" % (number + 1),
            b"<</Filter/FlateDecode/Length %d>>\nstream\n%s\nendstream" % (len(body), body)]  # fmt: skip
    objects[1] = b"<</Type/Pages/Kids[%s]/Count %d>>" % (b" ".join(kids), pages)
    made, table = bytearray(b"%PDF-1.5\n"), [b"0000000000 65535 f \n"]
    for number, one in enumerate(objects, 1):
        table.append(b"%010d 00000 n \n" % len(made))
        made += b"%d 0 obj\n%s\nendobj\n" % (number, one)
    start = len(made)
    made += b"xref\n0 %d\n%s" % (len(table), b"".join(table))
    made += b"trailer\n<</Size %d/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n" % (len(table), start)
    path.write_bytes(made)


_NULL = "/dev/null"
CASES: list[tuple[str, str, Callable[[Path, float], None], Callable[[str], list[str]], float]] = [
    ("photo.jpg", "djpeg -strict", _jpeg, lambda path: ["djpeg", "-strict", "-outfile", _NULL, path], 2.5),
    ("progressive.jpg", "djpeg -strict", _progressive, lambda path: ["djpeg", "-strict", "-outfile", _NULL, path], 2.5),
    ("scan.tif", "tiffcp to unpacked", _tiff, lambda path: ["tiffcp", "-c", "none", path, f"{path}.out"], 2.5),
    ("plan.gif", "giftopnm", _gif, lambda path: ["giftopnm", path], 3.5),
    ("plan.png", "pngtopnm", _png, lambda path: ["pngtopnm", path], 1.5),
    ("notes.flac", "flac -t", _flac, lambda path: ["flac", "-s", "-t", path], 4),
    ("orders.sqlite", "integrity_check", _sqlite, lambda path: ["sqlite3", path, "pragma integrity_check"], 2),
    ("log.xml", "xmllint --stream", _xml, lambda path: ["xmllint", "--noout", "--stream", path], 3),
    ("notes.txt", "iconv", _plain, lambda path: ["iconv", "-f", "utf-8", "-t", "utf-8", "-o", _NULL, path], 2),
    ("orders.xlsx", "unzip -tq", _xlsx, lambda path: ["unzip", "-tq", path], 8),
    ("orders.ods", "unzip -tq", _ods, lambda path: ["unzip", "-tq", path], 8),
    ("yard.mbox", "sha256sum", _mbox, lambda path: ["sha256sum", path], 2),
    ("book.pdf", "qpdf --check", _pdf, lambda path: ["qpdf", "--check", path], 1),
]


def _seconds(command: list[str]) -> float:
    """Processor seconds of a command and all that it starts."""
    before = os.times()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    after = os.times()
    return after.children_user + after.children_system - before.children_user - before.children_system


def _made(folder: Path, scale: float, only: str) -> Iterator[tuple[Path, str, list[str], float]]:
    for name, against, maker, command, limit in CASES:
        if only not in name:
            continue
        tool = command("x")[0]
        if shutil.which(tool) is None:
            print(f"    {name}: {tool} is missing")
            continue
        path = folder / name
        maker(path, scale)
        yield path, against, command(str(path)), limit


def _compared(folder: Path, scale: float, runs: int, empty: float) -> bool:
    """Two logs of 100 MB that differ in 500 lines, beside diff."""
    lines = _text(int(100e6 * scale)).splitlines()
    one, two = folder / "one.log", folder / "two.log"
    one.write_text("\n".join(lines) + "\n")
    for at in range(0, len(lines), max(len(lines) // 500, 1)):
        lines[at] += " changed"
    two.write_text("\n".join(lines) + "\n")
    ours = statistics.median(_seconds([rustfern(), "look", str(one), str(two)]) for _ in range(runs))
    theirs = statistics.median(_seconds(["diff", str(one), str(two)]) for _ in range(runs))
    return row("look at two logs / diff", (ours - empty) / theirs, 5)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", default="")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--scale", type=float, default=1.0)
    given = parser.parse_args()
    good = True
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "a.txt").write_text("oak\n")
        empty = statistics.median(_seconds([rustfern(), "check", str(folder / "a.txt")]) for _ in range(given.runs))
        print(f"    the start of the program: {empty:.2f} s")
        for path, against, command, limit in _made(folder, given.scale, given.only):
            ours = statistics.median(_seconds([rustfern(), "check", *[str(path)] * _TIMES]) for _ in range(given.runs))
            theirs = statistics.median(_seconds(command) for _ in range(given.runs))
            title = f"{path.name} of {path.stat().st_size / 1e6:.1f} MB / {against}"
            good &= row(title, (ours - empty) / _TIMES / max(theirs, 0.001), limit)
            path.unlink()
        if given.only in "compared.log":
            good &= _compared(folder, given.scale, given.runs, empty)
    return 0 if good else 1


sys.exit(main())
