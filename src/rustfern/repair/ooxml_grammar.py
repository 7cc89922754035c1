"""What the vocabularies of OOXML ask for, as far as closing and cleaning their parts needs it.

Source: ECMA-376 part 1: 17.2 to 17.4 (texts, paragraphs, tables), 17.3.3.9 (drawings), 18.3.1 (sheets: 18.3.1.4 cells, 18.3.1.73 rows), 18.4
(shared strings), 19.3.1 (slides), 21.1.2 and 21.1.3 (text and tables of drawings).
"""

from __future__ import annotations

import re

from rustfern.repair.xml_mend import Grammar, escaped

W = "http://schemas.openxmlformats.org/wordprocessingml/2006/main"
R = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
S = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
P = "http://schemas.openxmlformats.org/presentationml/2006/main"
A = "http://schemas.openxmlformats.org/drawingml/2006/main"
NAMESPACES = {
    "w": W, "r": R, "p": P, "a": A,
    "wp": "http://schemas.openxmlformats.org/drawingml/2006/wordprocessingDrawing",
    "pic": "http://schemas.openxmlformats.org/drawingml/2006/picture",
    "m": "http://schemas.openxmlformats.org/officeDocument/2006/math",
    "mc": "http://schemas.openxmlformats.org/markup-compatibility/2006",
    "v": "urn:schemas-microsoft-com:vml",
    "o": "urn:schemas-microsoft-com:office:office",
    "w10": "urn:schemas-microsoft-com:office:word",
    "w14": "http://schemas.microsoft.com/office/word/2010/wordml",
    "w15": "http://schemas.microsoft.com/office/word/2012/wordml",
    "wps": "http://schemas.microsoft.com/office/word/2010/wordprocessingShape",
    "wpg": "http://schemas.microsoft.com/office/word/2010/wordprocessingGroup",
    "wp14": "http://schemas.microsoft.com/office/word/2010/wordprocessingDrawing",
    "a14": "http://schemas.microsoft.com/office/drawing/2010/main",
    "p14": "http://schemas.microsoft.com/office/powerpoint/2010/main",
    "x14ac": "http://schemas.microsoft.com/office/spreadsheetml/2009/9/ac",
    "c": "http://schemas.openxmlformats.org/drawingml/2006/chart",
}  # fmt: skip


def word_mark(text: str) -> bytes:
    """A paragraph of a text."""
    said = escaped(text)
    return f'<w:p><w:r><w:rPr><w:highlight w:val="yellow"/></w:rPr><w:t>{said}</w:t></w:r></w:p>'.encode()


def run_mark(text: str) -> bytes:
    """Text in place of a picture, inside a run."""
    return f"<w:t>{escaped(text)}</w:t>".encode()


def shape_mark(text: str) -> bytes:
    """A text box on a slide."""
    return (
        '<p:sp><p:nvSpPr><p:cNvPr id="9001" name="Missing"/><p:cNvSpPr txBox="1"/><p:nvPr/></p:nvSpPr><p:spPr><a:xfrm><a:off x="457200" y="6000000"/>'
        '<a:ext cx="8229600" cy="400000"/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom></p:spPr><p:txBody><a:bodyPr/><a:lstStyle/>'
        f'<a:p><a:r><a:rPr lang="en-GB" sz="1400"/><a:t>{escaped(text)}</a:t></a:r></a:p></p:txBody></p:sp>'
    ).encode()


def row_mark(text: str) -> bytes:
    """A row of a sheet: it has no number, so it stands behind the last one."""
    return f'<row><c t="inlineStr"><is><t>{escaped(text)}</t></is></c></row>'.encode()


_BLOCKS = (
    b"w:body", b"w:tc", b"w:sdtContent", b"w:txbxContent", b"w:hdr", b"w:ftr", b"w:footnote", b"w:endnote", b"w:comment",
)  # fmt: skip
_RUNS = (b"w:p", b"w:hyperlink", b"w:ins", b"w:del", b"w:smartTag", b"w:fldSimple")
_IN_RUN = (b"w:r",)


def _implied_word(name: bytes, attributes: bytes) -> bytes:
    return b"<w:tbl><w:tblPr/><w:tblGrid/>" if name == b"w:tbl" else b""


def _word(root: str, container: str) -> Grammar:
    opening = f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?><w:{root} xmlns:w="{W}" xmlns:r="{R}">'
    if container != root:
        opening += f"<w:{container}>"
    return Grammar(
        opening=opening.encode(),
        containers={f"w:{container}".encode(): word_mark},
        unit=b"w:p",
        atomic=frozenset(
            {
                b"w:drawing", b"w:pict", b"w:object", b"w:rPr", b"w:pPr", b"w:tblPr", b"w:tblGrid", b"w:trPr", b"w:tcPr", b"w:sectPr",
                b"mc:AlternateContent", b"m:oMath", b"m:oMathPara", b"w:sdtPr", b"w:ruby",
            }
        ),
        needed={b"w:tr": (b"w:tc",), b"w:tbl": (b"w:tr",), b"w:sdt": (b"w:sdtContent",)},
        fill_last={b"w:tc": (b"w:p", b"<w:p/>")},
        parents={
            b"w:p": (f"w:{container}".encode(), *_BLOCKS),
            b"w:tbl": (f"w:{container}".encode(), *_BLOCKS),
            b"w:tr": (b"w:tbl",),
            b"w:tc": (b"w:tr",),
            b"w:r": _RUNS,
            b"w:hyperlink": (b"w:p",),
            b"w:sdt": (f"w:{container}".encode(), *_BLOCKS, b"w:p"),
            **dict.fromkeys((b"w:sdtPr", b"w:sdtContent"), (b"w:sdt",)),
            b"w:pPr": (b"w:p",),
            **dict.fromkeys((b"w:tblPr", b"w:tblGrid"), (b"w:tbl",)),
            b"w:sectPr": (b"w:body", b"w:pPr"),
            **dict.fromkeys((b"w:t", b"w:tab", b"w:br", b"w:drawing", b"w:rPr"), _IN_RUN),
        },
        wrap=(b"w:p", b"w:r", b"w:t"),
        namespaces=NAMESPACES,
        implied=_implied_word,
    )  # fmt: skip


DOCUMENT = _word("document", "body")
HEADER = _word("hdr", "hdr")
FOOTER = _word("ftr", "ftr")


def _notes(root: str, each: str) -> Grammar:
    opening = f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?><w:{root} xmlns:w="{W}" xmlns:r="{R}">'
    base = _word("document", "body")
    return Grammar(
        opening=opening.encode(), containers={f"w:{root}".encode(): lambda text: b""}, unit=b"w:p",
        atomic=base.atomic, needed={**base.needed, f"w:{each}".encode(): (b"w:p",)}, fill_last=base.fill_last,
        parents={f"w:{each}".encode(): (f"w:{root}".encode(),)}, namespaces=NAMESPACES,
    )  # fmt: skip


FOOTNOTES, ENDNOTES, COMMENTS = (
    _notes("footnotes", "footnote"),
    _notes("endnotes", "endnote"),
    _notes("comments", "comment"),
)
_LIST_OPENING = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?><w:{} xmlns:w="' + W + '">'
STYLES = Grammar(
    opening=_LIST_OPENING.format("styles").encode(), containers={b"w:styles": lambda text: b""}, unit=b"w:style",
    atomic=frozenset({b"w:style", b"w:docDefaults", b"w:latentStyles"}), namespaces=NAMESPACES,
)  # fmt: skip
NUMBERING = Grammar(
    opening=_LIST_OPENING.format("numbering").encode(), containers={b"w:numbering": lambda text: b""}, unit=b"w:num",
    atomic=frozenset({b"w:abstractNum", b"w:num", b"w:numPicBullet"}), namespaces=NAMESPACES,
)  # fmt: skip

_CELL_ROW = re.compile(rb"\br=\"[A-Z]{1,3}(\d{1,7})\"")


def _implied_row(name: bytes, attributes: bytes) -> bytes:
    found = _CELL_ROW.search(attributes) if name == b"row" else None
    return b'<row r="%b">' % found[1] if found else b""


_SHEET_OPENING = (
    f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?><worksheet xmlns="{S}" xmlns:r="{R}"><sheetData>'
)
SHEET = Grammar(
    opening=_SHEET_OPENING.encode(),
    containers={b"sheetData": row_mark},
    unit=b"row",
    atomic=frozenset(
        {
            b"c", b"sheetViews", b"cols", b"mergeCells", b"conditionalFormatting", b"dataValidations", b"hyperlinks", b"extLst", b"tableParts",
            b"autoFilter", b"sheetProtection", b"protectedRanges", b"rowBreaks", b"colBreaks", b"headerFooter", b"oleObjects", b"controls", b"sheetPr",
        }
    ),
    parents={
        b"row": (b"sheetData",), b"c": (b"row",), b"v": (b"c",), b"f": (b"c",), b"is": (b"c",), b"t": (b"is", b"r"), b"r": (b"is",),
    },
    namespaces=NAMESPACES,
    implied=_implied_row,
)  # fmt: skip
STRINGS = Grammar(
    opening=f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?><sst xmlns="{S}">'.encode(),
    containers={b"sst": lambda text: b""},
    unit=b"si",
    atomic=frozenset({b"rPr", b"phoneticPr", b"rPh", b"extLst"}),
    parents={b"si": (b"sst",), b"t": (b"si", b"r"), b"r": (b"si",)},
    wrap=(b"si", b"t"),
    namespaces=NAMESPACES,
)
SHEET_STYLES = Grammar(
    opening=b"", containers={b"styleSheet": lambda text: b""}, unit=b"xf",
    atomic=frozenset(
        {b"numFmts", b"fonts", b"fills", b"borders", b"cellStyleXfs", b"cellXfs", b"cellStyles", b"dxfs", b"tableStyles", b"colors", b"extLst"}
    ),
    namespaces=NAMESPACES,
)  # fmt: skip


def _implied_shape(name: bytes, attributes: bytes) -> bytes:
    if name == b"p:sp":
        return shape_mark("").partition(b"<p:txBody>")[0]
    return b"<p:txBody><a:bodyPr/>" if name == b"p:txBody" else b""


def _slide(root: str) -> Grammar:
    opening = (
        f'<?xml version="1.0" encoding="UTF-8" standalone="yes"?><p:{root} xmlns:a="{A}" xmlns:r="{R}" xmlns:p="{P}"><p:cSld><p:spTree>'
        '<p:nvGrpSpPr><p:cNvPr id="1" name=""/><p:cNvGrpSpPr/><p:nvPr/></p:nvGrpSpPr><p:grpSpPr/>'
    )
    empty_text = b"<a:txBody><a:bodyPr/><a:lstStyle/><a:p/></a:txBody>"
    return Grammar(
        opening=opening.encode(),
        containers={b"p:spTree": shape_mark},
        unit=b"a:p",
        atomic=frozenset(
            {
                b"p:nvSpPr", b"p:spPr", b"p:pic", b"p:nvPicPr", b"p:nvGraphicFramePr", b"a:rPr", b"a:pPr", b"a:bodyPr", b"a:lstStyle", b"a:tblPr",
                b"a:tblGrid", b"a:tcPr", b"p:bg", b"p:timing", b"p:transition", b"mc:AlternateContent", b"p:style", b"p:nvGrpSpPr", b"p:grpSpPr",
                b"p:cxnSp", b"p:extLst", b"a:extLst", b"p:clrMapOvr", b"a:endParaRPr", b"p:contentPart",
            }
        ),
        needed={
            b"p:sp": (b"p:nvSpPr", b"p:spPr"), b"p:graphicFrame": (b"p:nvGraphicFramePr", b"a:graphic"), b"a:graphic": (b"a:graphicData",),
            b"a:tbl": (b"a:tblGrid",), b"a:tr": (b"a:tc",), b"a:r": (b"a:t",), b"a:fld": (b"a:t",),
        },
        fill={
            b"p:txBody": (b"a:p", b"<a:p/>"), b"a:txBody": (b"a:p", b"<a:p/>"), b"a:tc": (b"a:txBody", empty_text),
            b"p:spTree": (b"p:nvGrpSpPr", b""),
        },
        parents={
            b"p:sp": (b"p:spTree", b"p:grpSp"), b"p:pic": (b"p:spTree", b"p:grpSp"), b"p:graphicFrame": (b"p:spTree", b"p:grpSp"),
            b"p:grpSp": (b"p:spTree", b"p:grpSp"), b"p:txBody": (b"p:sp",), b"a:p": (b"p:txBody", b"a:txBody"), b"a:r": (b"a:p",),
            b"a:t": (b"a:r", b"a:fld"), b"a:br": (b"a:p",),
        },
        wrap=(b"p:sp", b"p:txBody", b"a:p", b"a:r", b"a:t"),
        namespaces=NAMESPACES,
        implied=_implied_shape,
    )  # fmt: skip


SLIDE, NOTES_PAGE = _slide("sld"), _slide("notes")
PLAIN = Grammar(opening=b"", containers={}, unit=b"", namespaces=NAMESPACES)
"""Any other part: it is only made well-formed."""

GRAMMARS: tuple[tuple[re.Pattern[str], Grammar, str], ...] = tuple(
    (re.compile(pattern, re.IGNORECASE), grammar, said)
    for pattern, grammar, said in (
        (r"word/document\d*\.xml", DOCUMENT, "paragraphs"),
        (r"word/header\d*\.xml", HEADER, "paragraphs"),
        (r"word/footer\d*\.xml", FOOTER, "paragraphs"),
        (r"word/footnotes\d*\.xml", FOOTNOTES, "footnotes"),
        (r"word/endnotes\d*\.xml", ENDNOTES, "endnotes"),
        (r"word/comments\d*\.xml", COMMENTS, "comments"),
        (r"word/styles\d*\.xml", STYLES, "styles"),
        (r"word/numbering\d*\.xml", NUMBERING, "lists"),
        (r"xl/worksheets/[^/]+\.xml", SHEET, "rows"),
        (r"xl/sharedStrings\d*\.xml", STRINGS, "cell texts"),
        (r"ppt/slides/[^/]+\.xml", SLIDE, "paragraphs"),
        (r"ppt/notesSlides/[^/]+\.xml", NOTES_PAGE, "paragraphs"),
    )
)


def grammar_of(part: str) -> tuple[Grammar, str] | None:
    """The grammar of a part that holds content or its styles, and what it holds, in the plural; None for other parts."""
    return next(((grammar, said) for pattern, grammar, said in GRAMMARS if pattern.fullmatch(part)), None)
