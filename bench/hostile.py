"""Files made to cost much, one maker each: what they hold is legal or nearly so, and what it asks of a reader out of proportion."""

from __future__ import annotations

import gzip
import io
import random
import sqlite3
import struct
import zipfile
import zlib
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

MB = 1 << 20
_ODF = 'xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
_ODF += 'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"'
_WORD = "http://schemas.openxmlformats.org/wordprocessingml/2006/main"
_SHEET = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_REL = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"


def _noise(size: int, alphabet: bytes = b"abcdefghijklmnopqrstuvwxyz0123456789 ") -> bytes:
    table = bytes(alphabet[n % len(alphabet)] for n in range(256))
    return random.Random(7).randbytes(size).translate(table)


def short_words(path: Path) -> None:
    words = _noise(58 * MB, b"abcdefghij     \n")
    path.write_bytes(words)


def one_line(path: Path) -> None:
    path.write_bytes(_noise(50 * MB, b"abcdefghij     "))


def wide_text(path: Path) -> None:
    path.write_bytes("".join(map(chr, range(0x400, 0x480))).encode("utf-16-le") * (50 * MB // 256))


def json_objects(path: Path) -> None:
    path.write_bytes(b"[" + b"{}," * (19 * MB // 3) + b"{}]")


def json_numbers(path: Path) -> None:
    path.write_bytes(b'{"a": [' + b"1,22,3.5," * (50 * MB // 9) + b"9" * 5_000 + b"]}")


def json_members(path: Path) -> None:
    path.write_bytes(b"{" + b"".join(b'"k%d":{"a":[1,{"b":null}]},' % n for n in range(1_800_000)) + b'"z":0}')


def json_deep(path: Path) -> None:
    path.write_bytes(b"[" * (5 * MB) + b"]" * (5 * MB))


def json_text(path: Path) -> None:
    path.write_bytes(b'{"text": "' + _noise(50 * MB) + b'"}')


def _xlsx(path: Path, sheet: Callable[[io.BufferedIOBase], None], strings: bytes | None = None) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as book:
        more = (
            '<Override PartName="/xl/sharedStrings.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sharedStrings+xml"/>'
            if strings
            else ""
        )
        book.writestr(
            "[Content_Types].xml",
            f'<Types xmlns="{_PACKAGE}/content-types"><Default Extension="xml" ContentType="application/xml"/>'
            '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
            '<Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/>'
            f'<Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/>{more}</Types>',
        )
        book.writestr(
            "_rels/.rels",
            f'<Relationships xmlns="{_PACKAGE}/relationships"><Relationship Id="r1" Type="{_REL}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        )
        also = f'<Relationship Id="r2" Type="{_REL}/sharedStrings" Target="sharedStrings.xml"/>' if strings else ""
        book.writestr(
            "xl/_rels/workbook.xml.rels",
            f'<Relationships xmlns="{_PACKAGE}/relationships"><Relationship Id="r1" Type="{_REL}/worksheet" Target="worksheets/sheet1.xml"/>{also}</Relationships>',
        )
        book.writestr(
            "xl/workbook.xml",
            f'<workbook xmlns="{_SHEET}" xmlns:r="{_REL}"><sheets><sheet name="A" sheetId="1" r:id="r1"/></sheets></workbook>',
        )
        if strings:
            book.writestr("xl/sharedStrings.xml", strings)
        with book.open("xl/worksheets/sheet1.xml", "w", force_zip64=True) as out:
            out.write(f'<worksheet xmlns="{_SHEET}"><sheetData><row r="1">'.encode())
            sheet(out)  # type: ignore[arg-type]
            out.write(b"</row></sheetData></worksheet>")


def text_cell(path: Path) -> None:
    def sheet(out: io.BufferedIOBase) -> None:
        out.write(b'<c r="A1" t="inlineStr"><is><t>')
        for _ in range(293):
            out.write(_noise(MB))
        out.write(b"</t></is></c>")

    _xlsx(path, sheet)


def shared_texts(path: Path) -> None:
    strings = f'<sst xmlns="{_SHEET}" count="3000000">'.encode() + b"<si><t>ab</t></si>" * 3_000_000 + b"</sst>"
    _xlsx(path, lambda out: out.write(b'<c r="A1" t="s"><v>0</v></c>'), strings)  # type: ignore[arg-type, func-returns-value]


def many_cells(path: Path) -> None:
    def sheet(out: io.BufferedIOBase) -> None:
        for n in range(20):
            out.write(b"".join(b'<c r="A%d"><v>%d</v></c>' % (n * 50_000 + m, m * 7_919) for m in range(50_000)))

    _xlsx(path, sheet)


def long_docx(path: Path) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as text:
        text.writestr(
            "[Content_Types].xml",
            f'<Types xmlns="{_PACKAGE}/content-types"><Default Extension="xml" ContentType="application/xml"/><Override PartName="/word/document.xml" '
            'ContentType="application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml"/></Types>',
        )
        text.writestr(
            "_rels/.rels",
            f'<Relationships xmlns="{_PACKAGE}/relationships"><Relationship Id="r1" Type="{_REL}/officeDocument" Target="/word/document.xml"/></Relationships>',
        )
        with text.open("word/document.xml", "w", force_zip64=True) as out:
            out.write(f'<w:document xmlns:w="{_WORD}"><w:body><w:p>'.encode())
            for _ in range(100):
                out.write(b"<w:r><w:t>" + _noise(MB) + b"</w:t></w:r>")
            out.write(b"</w:p></w:body></w:document>")


def _odf(path: Path, kind: str, body: Callable[[io.BufferedIOBase], None]) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as made:
        made.writestr(zipfile.ZipInfo("mimetype"), f"application/vnd.oasis.opendocument.{kind}")
        made.writestr(
            "META-INF/manifest.xml",
            '<m:manifest xmlns:m="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><m:file-entry m:full-path="/"/><m:file-entry m:full-path="content.xml"/></m:manifest>',
        )
        with made.open("content.xml", "w", force_zip64=True) as out:
            out.write(f"<office:document-content {_ODF}><office:body><office:{kind}>".encode())
            body(out)  # type: ignore[arg-type]
            out.write(f"</office:{kind}></office:body></office:document-content>".encode())


def long_odt(path: Path) -> None:
    def body(out: io.BufferedIOBase) -> None:
        out.write(b"<text:p>")
        for _ in range(100):
            out.write(_noise(MB))
        out.write(b"</text:p>")

    _odf(path, "text", body)


def many_paragraphs(path: Path) -> None:
    def body(out: io.BufferedIOBase) -> None:
        for _ in range(50):
            out.write(b"<text:p>ab</text:p>" * 40_000)

    _odf(path, "text", body)


def repeated_cells(path: Path) -> None:
    def body(out: io.BufferedIOBase) -> None:
        cell = b'<table:table-cell table:number-columns-repeated="16000"><text:p>oak larch</text:p></table:table-cell>'
        out.write(
            b'<table:table><table:table-row table:number-rows-repeated="1000000">'
            + cell
            + b"</table:table-row></table:table>"
        )

    _odf(path, "spreadsheet", body)


def blob(path: Path) -> None:
    with closing(sqlite3.connect(path)) as db:
        db.execute("CREATE TABLE photo (name TEXT, data BLOB)")
        db.execute("INSERT INTO photo VALUES ('slipway', zeroblob(880000000))")
        db.commit()


def long_texts(path: Path) -> None:
    with closing(sqlite3.connect(path)) as db:
        db.execute("CREATE TABLE note (body TEXT)")
        db.execute("INSERT INTO note VALUES (?)", (_noise(100 * MB).decode(),))
        db.commit()


def generated_column(path: Path) -> None:
    with closing(sqlite3.connect(path)) as db:
        db.execute("CREATE TABLE a (n INTEGER, b TEXT AS (hex(zeroblob(n * 290000000))))")
        db.execute("INSERT INTO a (n) VALUES (1)")
        db.commit()


def generated_work(path: Path) -> None:
    with closing(sqlite3.connect(path)) as db:
        steps = "a0"
        for _ in range(6):
            steps = f"replace(hex({steps}), '3', 'aaaaaaaaaa')"
        db.execute(f"CREATE TABLE a (a0 TEXT, b TEXT AS ({steps}))")
        db.executemany("INSERT INTO a (a0) VALUES (?)", [("3" * 40,)] * 200)
        db.commit()


def _pdf(path: Path, objects: list[bytes], table: bytes, entries: int, more: bytes = b"") -> None:
    body = bytearray(b"%PDF-1.5\n")
    for number, data in enumerate(objects, 1):
        body += b"%d 0 obj\n" % number + data + b"\nendobj\n"
    start = len(body)
    packed = zlib.compress(table, 9)
    body += b"%d 0 obj\n<</Type/XRef/Size %d/W[1 4 1]/Root 1 0 R/Filter/FlateDecode%s/Length %d>>\nstream\n" % (
        len(objects) + 1,
        entries,
        more,
        len(packed),
    )
    body += packed + b"\nendstream\nendobj\nstartxref\n%d\n%%%%EOF\n" % start
    path.write_bytes(body)


_PAGES = [b"<</Type/Catalog/Pages 2 0 R>>", b"<</Type/Pages/Kids[3 0 R]/Count 1>>", b"<</Type/Page/Parent 2 0 R>>"]


def predicted_table(path: Path) -> None:
    rows = 40_000_000
    _pdf(path, _PAGES, (b"\2" + bytes(6)) * rows, rows, b"/DecodeParms<</Predictor 12/Columns 6>>")


def inflated_stream(path: Path) -> None:
    packed = zlib.compress(bytes(250 * MB), 9)
    stream = b"<</Length %d/Filter/FlateDecode>>\nstream\n" % len(packed) + packed + b"\nendstream"
    page = b"<</Type/Page/Parent 2 0 R/Contents 4 0 R>>"
    objects = [*_PAGES[:2], page, stream]
    at, offsets = len(b"%PDF-1.5\n"), []
    for number, data in enumerate(objects, 1):
        offsets.append(at)
        at += len(b"%d 0 obj\n" % number + data + b"\nendobj\n")
    rows = b"\0" + bytes(5) + b"".join(b"\1" + struct.pack(">I", offset) + b"\0" for offset in offsets)
    _pdf(path, objects, rows, 5)


def packed_objects(path: Path) -> None:
    count = 1_000_000
    numbers = b"".join(b"%d %d " % (10 + n, n * 3) for n in range(count))
    packed = zlib.compress(numbers + b"[] " * count, 9)
    stream = (
        b"<</Type/ObjStm/N %d/First %d/Length %d/Filter/FlateDecode>>\nstream\n" % (count, len(numbers), len(packed))
        + packed
        + b"\nendstream"
    )
    objects = [b"<</Type/Catalog/Pages 2 0 R/X 10 0 R>>", *_PAGES[1:], stream]
    at, offsets = len(b"%PDF-1.5\n"), []
    for number, data in enumerate(objects, 1):
        offsets.append(at)
        at += len(b"%d 0 obj\n" % number + data + b"\nendobj\n")
    rows = b"\0" + bytes(5) + b"".join(b"\1" + struct.pack(">I", offset) + b"\0" for offset in offsets)
    rows += (b"\0" + bytes(5)) * 5 + b"".join(b"\2" + struct.pack(">I", 4) + bytes([n & 255]) for n in range(count))
    _pdf(path, objects, rows, 10 + count)


def csv_line(path: Path) -> None:
    path.write_bytes(_noise(50 * MB, b'abcdefgh,,"'))


def html_tags(path: Path) -> None:
    path.write_bytes(b"<html><body>" + b"<p>a<br></p>" * (50 * MB // 12) + b"</body></html>")


def xml_elements(path: Path) -> None:
    path.write_bytes(b"<?xml version='1.0'?><a>" + b"<b c='d'/>" * (5 * MB) + b"</a>")


def yaml_list(path: Path) -> None:
    path.write_bytes(b"- a: [1, 2]\n" * (50 * MB // 12))


def toml_table(path: Path) -> None:
    path.write_bytes(b"".join(b"k%d = [1, 2]\n" % n for n in range(3_000_000)))


def markdown(path: Path) -> None:
    path.write_bytes(b"# a\n\n| a | b |\n|---|---|\n| c | d |\n" * (50 * MB // 36))


def rich_text(path: Path) -> None:
    path.write_bytes(b"{\\rtf1 " + b"{\\b ab}\\par " * (50 * MB // 12) + b"}")


def mails(path: Path) -> None:
    head = b"From a@b Mon Jan  1 00:00:00 2026\nFrom: a@b\nTo: c@d\nMessage-ID: <1@b>\nDate: Mon, 1 Jan 2026 00:00:00 +0000\nMIME-Version: 1.0\n"
    mail = head + b"Content-Type: text/plain; charset=utf-8\nSubject: oak\n\nkeel\n\n"
    path.write_bytes(mail * (50 * MB // len(mail)))


def attachment(path: Path) -> None:
    import base64

    data = base64.encodebytes(_noise(36 * MB))
    path.write_bytes(
        b"From: a@b\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=x\n\n--x\nContent-Type: application/octet-stream\n"
        b"Content-Transfer-Encoding: base64\n\n" + data + b"\n--x--\n"
    )


def calendar(path: Path) -> None:
    path.write_bytes(
        b"BEGIN:VCALENDAR\n" + b"BEGIN:VEVENT\nSUMMARY:oak\nEND:VEVENT\n" * (50 * MB // 37) + b"END:VCALENDAR\n"
    )


def drawing_groups(path: Path) -> None:
    path.write_bytes(b"0\nSECTION\n" + b"10\n1.5\n" * (50 * MB // 7) + b"0\nENDSEC\n0\nEOF\n")


def packed_zeros(path: Path) -> None:
    with gzip.open(path, "wb", compresslevel=9) as out:
        for _ in range(400):
            out.write(bytes(MB))


def wide_picture(path: Path) -> None:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    side = 20_000
    row = b"\0" + bytes(side * 3)
    squeeze = zlib.compressobj(9)
    data = b"".join(squeeze.compress(row) for _ in range(side)) + squeeze.flush()
    path.write_bytes(
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", struct.pack(">IIBBBBB", side, side, 8, 2, 0, 0, 0))
        + chunk(b"IDAT", data)
        + chunk(b"IEND", b"")
    )


def many_members(path: Path) -> None:
    with zipfile.ZipFile(path, "w") as made:
        for number in range(150_000):
            made.writestr(zipfile.ZipInfo(f"{number}.txt"), b"")


MAKERS: dict[str, Callable[[Path], None]] = {
    "words.txt": short_words, "line.txt": one_line, "wide.txt": wide_text, "objects.json": json_objects, "numbers.json": json_numbers, "members.json": json_members,
    "deep.json": json_deep, "text.json": json_text, "cell.xlsx": text_cell, "shared.xlsx": shared_texts, "cells.xlsx": many_cells, "long.docx": long_docx,
    "long.odt": long_odt, "paragraphs.odt": many_paragraphs, "repeated.ods": repeated_cells, "blob.sqlite": blob, "texts.sqlite": long_texts,
    "generated.sqlite": generated_column, "work.sqlite": generated_work, "table.pdf": predicted_table, "stream.pdf": inflated_stream, "objects.pdf": packed_objects,
    "line.csv": csv_line, "tags.html": html_tags, "elements.xml": xml_elements, "list.yaml": yaml_list, "table.toml": toml_table, "tables.md": markdown,
    "groups.rtf": rich_text, "mails.mbox": mails, "attachment.eml": attachment, "entries.ics": calendar, "groups.dxf": drawing_groups, "zeros.gz": packed_zeros,
    "wide.png": wide_picture, "members.zip": many_members,
}  # fmt: skip
"""File name → what makes it."""
