"""Documents for the benches: packages as real libraries write them, with text, times and identities set.

The bases come from python-docx, openpyxl, python-pptx and odfpy, written once; each version then replaces the parts that
hold its text, its properties and its save ids.
"""

from __future__ import annotations

import io
import random
import re
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from functools import cache
from xml.sax.saxutils import escape

Rows = tuple[tuple[str, ...], ...]
"""A text's paragraphs (one field each), a sheet's rows of cells, a deck's slides of lines."""


@dataclass(frozen=True)
class Identity:
    """What a document carries from its making on: all but `ident` is shared by those that were made from one template."""

    made: datetime
    maker: str
    root: str
    ident: str


@dataclass(frozen=True)
class Version:
    """One state of a document. `saved` is the time inside, `saves` the ids of its saves so far."""

    rows: Rows
    identity: Identity
    saved: datetime
    saves: tuple[str, ...] = ()
    picture: bytes = b""
    extra: dict[str, str] = field(default_factory=dict)


def _stamp(time: datetime) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ")


@cache
def _base(format_name: str) -> dict[str, bytes]:
    """The parts of an empty document as its library writes it, in order."""
    buffer = io.BytesIO()
    if format_name == "docx":
        import docx

        docx.Document().save(buffer)
    elif format_name == "xlsx":
        import openpyxl

        book = openpyxl.Workbook()
        book.active["A1"] = 1
        book.save(buffer)
    elif format_name == "pptx":
        import pptx

        deck = pptx.Presentation()
        slide = deck.slides.add_slide(deck.slide_layouts[5])
        slide.shapes.title.text = "TEXT"
        deck.save(buffer)
    else:
        import odf.opendocument as odf

        made = {"odt": odf.OpenDocumentText, "ods": odf.OpenDocumentSpreadsheet, "odp": odf.OpenDocumentPresentation}
        made[format_name]().write(buffer)
    with zipfile.ZipFile(buffer) as package:
        return {name: package.read(name) for name in package.namelist()}


def _pack(parts: dict[str, bytes]) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as package:
        for name, data in parts.items():
            stored = name == "mimetype" or name.endswith(".png")
            package.writestr(name, data, zipfile.ZIP_STORED if stored else zipfile.ZIP_DEFLATED)
    return buffer.getvalue()


def _core(version: Version) -> bytes:
    return (
        '<?xml version="1.0" encoding="UTF-8" standalone="yes"?><cp:coreProperties '
        'xmlns:cp="http://schemas.openxmlformats.org/package/2006/metadata/core-properties" '
        'xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:dcterms="http://purl.org/dc/terms/" '
        'xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">'
        f"<dc:creator>{escape(version.identity.maker)}</dc:creator><cp:revision>{len(version.saves) + 1}</cp:revision>"
        f'<dcterms:created xsi:type="dcterms:W3CDTF">{_stamp(version.identity.made)}</dcterms:created>'
        f'<dcterms:modified xsi:type="dcterms:W3CDTF">{_stamp(version.saved)}</dcterms:modified></cp:coreProperties>'
    ).encode()


def docx(version: Version) -> bytes:
    """A text in OOXML."""
    parts = dict(_base("docx"))
    body = "".join(
        f'<w:p><w:r><w:t xml:space="preserve">{escape(" ".join(row))}</w:t></w:r></w:p>' for row in version.rows
    )
    head, tail = re.split(rb"<w:body>.*?(?=<w:sectPr)", parts["word/document.xml"], maxsplit=1, flags=re.DOTALL)
    parts["word/document.xml"] = head + b"<w:body>" + body.encode() + tail
    saves = "".join(f'<w:rsid w:val="{each}"/>' for each in version.saves)
    marks = f'<w:rsids><w:rsidRoot w:val="{version.identity.root}"/>{saves}</w:rsids>'
    ident = version.identity.ident
    settings = re.sub(rb'(docId w:val=")[^"]*', lambda found: found[1] + ident[:8].encode(), parts["word/settings.xml"])
    settings = re.sub(rb"<w:rsids>.*?</w:rsids>", b"", settings, flags=re.DOTALL)
    parts["word/settings.xml"] = settings.replace(b"<w:compat>", marks.encode() + b"<w:compat>", 1)
    parts["docProps/core.xml"] = _core(version)
    return _pack(parts)


def _column(number: int) -> str:
    return chr(65 + number) if number < 26 else chr(64 + number // 26) + chr(65 + number % 26)


def xlsx(version: Version) -> bytes:
    """A sheet in OOXML, its texts inline."""
    parts = dict(_base("xlsx"))
    lines = []
    for number, row in enumerate(version.rows, 1):
        cells = "".join(
            f'<c r="{_column(at)}{number}"><v>{cell}</v></c>'
            if re.fullmatch(r"-?\d+(\.\d+)?", cell)
            else f'<c r="{_column(at)}{number}" t="inlineStr"><is><t>{escape(cell)}</t></is></c>'
            for at, cell in enumerate(row)
        )
        lines.append(f'<row r="{number}">{cells}</row>')
    sheet = parts["xl/worksheets/sheet1.xml"]
    sheet = re.sub(rb'<dimension ref="[^"]*"\s*/>', b"", sheet)
    parts["xl/worksheets/sheet1.xml"] = re.sub(
        rb"<sheetData>.*?</sheetData>|<sheetData\s*/>",
        lambda _: b"<sheetData>" + "".join(lines).encode() + b"</sheetData>",
        sheet,
        flags=re.DOTALL,
    )
    parts["docProps/core.xml"] = _core(version)
    return _pack(parts)


def pptx(version: Version) -> bytes:
    """Slides in OOXML: all lines of the first slide's title stand for the deck."""
    parts = dict(_base("pptx"))
    lines = "".join(f"<a:p><a:r><a:t>{escape(line)}</a:t></a:r></a:p>" for row in version.rows for line in row)
    slide = parts["ppt/slides/slide1.xml"]
    parts["ppt/slides/slide1.xml"] = re.sub(
        rb"<a:p>\s*<a:r>\s*<a:t>TEXT</a:t>\s*</a:r>\s*</a:p>", lambda _: lines.encode(), slide, flags=re.DOTALL
    )
    assert lines.encode() in parts["ppt/slides/slide1.xml"]
    parts["docProps/core.xml"] = _core(version)
    return _pack(parts)


def _odf(version: Version, format_name: str, body: str) -> bytes:
    parts = dict(_base(format_name))
    spaces = (
        'xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
        'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:draw="urn:oasis:names:tc:opendocument:xmlns:drawing:1.0" '
        'xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:meta="urn:oasis:names:tc:opendocument:xmlns:meta:1.0"'
    )
    parts["content.xml"] = (
        f'<?xml version="1.0" encoding="UTF-8"?><office:document-content {spaces} office:version="1.2"><office:body>{body}'
        "</office:body></office:document-content>"
    ).encode()
    parts["meta.xml"] = (
        f'<?xml version="1.0" encoding="UTF-8"?><office:document-meta {spaces} office:version="1.2"><office:meta>'
        f"<meta:initial-creator>{escape(version.identity.maker)}</meta:initial-creator>"
        f"<meta:creation-date>{version.identity.made:%Y-%m-%dT%H:%M:%S.%f}000</meta:creation-date>"
        f"<dc:date>{version.saved:%Y-%m-%dT%H:%M:%S}</dc:date><meta:editing-cycles>{len(version.saves)}</meta:editing-cycles>"
        "</office:meta></office:document-meta>"
    ).encode()
    return _pack(parts)


def odt(version: Version) -> bytes:
    """A text in ODF."""
    lines = "".join(f"<text:p>{escape(' '.join(row))}</text:p>" for row in version.rows)
    return _odf(version, "odt", f"<office:text>{lines}</office:text>")


def ods(version: Version) -> bytes:
    """A sheet in ODF."""
    lines = "".join(
        "<table:table-row>"
        + "".join(
            f'<table:table-cell office:value-type="float" office:value="{cell}"><text:p>{cell}</text:p></table:table-cell>'
            if re.fullmatch(r"-?\d+(\.\d+)?", cell)
            else f'<table:table-cell office:value-type="string"><text:p>{escape(cell)}</text:p></table:table-cell>'
            for cell in row
        )
        + "</table:table-row>"
        for row in version.rows
    )
    return _odf(
        version,
        "ods",
        f'<office:spreadsheet><table:table table:name="Sheet">{lines}</table:table></office:spreadsheet>',
    )


def odp(version: Version) -> bytes:
    """Slides in ODF."""
    pages = "".join(
        f'<draw:page draw:name="{at}"><draw:frame><draw:text-box>'
        + "".join(f"<text:p>{escape(line)}</text:p>" for line in row)
        + "</draw:text-box></draw:frame></draw:page>"
        for at, row in enumerate(version.rows)
    )
    return _odf(version, "odp", f"<office:presentation>{pages}</office:presentation>")


def txt(version: Version) -> bytes:
    """Plain text, a row a line."""
    return "".join(" ".join(row) + "\n" for row in version.rows).encode()


def csv(version: Version) -> bytes:
    """Fields parted by commas; no field holds one."""
    return "".join(",".join(row) + "\n" for row in version.rows).encode()


WRITERS: dict[str, Callable[[Version], bytes]] = {
    "docx": docx, "xlsx": xlsx, "pptx": pptx, "odt": odt, "ods": ods, "odp": odp, "txt": txt, "csv": csv, "md": txt,
}  # fmt: skip
ODF_OF = {"docx": "odt", "xlsx": "ods", "pptx": "odp", "odt": "odt", "ods": "ods", "odp": "odp"}

_TRADE = [
    "keel",
    "garboard",
    "plank",
    "rivet",
    "larch",
    "oak",
    "caulking",
    "slipway",
    "mooring",
    "tide",
    "ferry",
    "crane",
    "invoice",
    "survey",
    "frame",
    "seam",
    "mast",
    "spar",
    "boom",
    "rudder",
    "tiller",
    "transom",
    "stem",
    "scarf",
    "strake",
    "bilge",
    "ballast",
    "anchor",
    "chain",
    "windlass",
    "cleat",
    "fender",
    "gunwale",
    "thwart",
    "oar",
    "rowlock",
    "sail",
    "jib",
    "luff",
    "leech",
    "batten",
    "reef",
    "sheet",
    "halyard",
    "shroud",
    "stay",
    "turnbuckle",
    "varnish",
    "putty",
    "primer",
    "enamel",
    "epoxy",
    "resin",
    "bronze",
    "copper",
    "galvanised",
    "stainless",
    "bolt",
    "screw",
    "nail",
    "clamp",
    "jig",
    "template",
    "lofting",
    "plywood",
    "spruce",
    "mahogany",
    "teak",
    "iroko",
    "elm",
    "ash",
    "harbour",
    "quay",
    "pontoon",
    "berth",
    "buoy",
    "channel",
    "fairway",
    "pilot",
    "tender",
    "dinghy",
    "skiff",
    "cutter",
    "yawl",
    "ketch",
    "sloop",
    "trawler",
    "barge",
    "punt",
]
_PLAIN = [
    "the",
    "a",
    "of",
    "to",
    "and",
    "in",
    "is",
    "was",
    "on",
    "for",
    "with",
    "at",
    "by",
    "from",
    "that",
    "this",
    "it",
    "as",
    "are",
    "be",
    "has",
    "had",
    "were",
    "will",
    "which",
    "after",
    "before",
    "under",
    "over",
    "between",
    "along",
    "through",
    "again",
    "also",
    "still",
    "only",
    "about",
    "until",
    "week",
    "day",
    "month",
    "year",
    "hour",
    "morning",
    "afternoon",
    "price",
    "offer",
    "order",
    "customer",
    "repair",
    "replaced",
    "checked",
    "sound",
    "soft",
    "wet",
    "dry",
    "cracked",
    "loose",
    "tight",
    "new",
    "old",
    "left",
    "right",
    "upper",
    "lower",
    "inner",
    "outer",
    "fitted",
    "removed",
    "ordered",
    "delivered",
    "paid",
    "due",
    "owner",
    "insurer",
    "yard",
    "shed",
    "crew",
    "visit",
    "photo",
    "note",
    "list",
    "plan",
    "cost",
    "rate",
    "total",
]


def sentence(rng: random.Random, low: int = 6, high: int = 16) -> str:
    """A sentence of the trade, different nearly every time."""
    words = [rng.choice(_TRADE) if rng.random() < 0.45 else rng.choice(_PLAIN) for _ in range(rng.randint(low, high))]
    if rng.random() < 0.3:
        words.insert(rng.randrange(len(words)), str(rng.randint(2, 4_000)))
    return " ".join(words).capitalize() + "."


def row_of(rng: random.Random, format_name: str) -> tuple[str, ...]:
    """One more paragraph, row or slide."""
    if format_name in ("xlsx", "ods", "csv"):
        return (
            rng.choice(_TRADE) + " " + rng.choice(_TRADE), str(rng.randint(1, 400)),
            f"{rng.randint(100, 99_999) / 100:g}", rng.choice(_PLAIN), str(rng.randint(20_000, 90_000)),
        )  # fmt: skip
    if format_name in ("pptx", "odp"):
        return tuple(sentence(rng, 3, 8) for _ in range(rng.randint(1, 4)))
    return (" ".join(sentence(rng) for _ in range(rng.randint(1, 4))),)


def edited(rng: random.Random, rows: Rows, format_name: str, how_much: int) -> Rows:
    """The rows after some work: mostly added to, here and there changed, seldom cut."""
    out = list(rows)
    for _ in range(how_much):
        doing = rng.random()
        if doing < 0.7 or len(out) < 3:
            out.insert(len(out) if rng.random() < 0.6 else rng.randint(1, len(out)), row_of(rng, format_name))
        elif doing < 0.93:
            at = rng.randrange(len(out))
            fields = list(out[at])
            which = rng.randrange(len(fields))
            words = fields[which].split()
            if format_name in ("xlsx", "ods", "csv"):
                fields[which] = row_of(rng, format_name)[min(which, 4)]
            else:
                words[rng.randrange(len(words))] = rng.choice(_TRADE)
                fields[which] = " ".join(words)
            out[at] = tuple(fields)
        else:
            del out[rng.randrange(len(out))]
    # Work always leaves a word that was not there before: else nothing could be lost.
    return (*out, row_of(rng, format_name)) if tuple(out) == rows else tuple(out)
