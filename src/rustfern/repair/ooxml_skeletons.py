"""Parts of OOXML packages that programs need, made anew, and the types of all parts that are known.

Source: ECMA-376 part 1, 11.3, 12.3, 13.3 and 14.2 (parts, their types and relationships), 18.8 (styles of workbooks), 19.3.1.39 and 19.3.1.42
(layouts, masters), 20.1.6.9 (themes); part 2, 6.2.3 and 6.5.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from rustfern.formats.office.opc import MAIN
from rustfern.repair.ooxml_grammar import A, P, R, S, W, shape_mark
from rustfern.repair.xml_mend import escaped

_HEAD = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
_TYPES = "http://schemas.openxmlformats.org/package/2006/content-types"
_RELS = "http://schemas.openxmlformats.org/package/2006/relationships"
_OFFICE = "application/vnd.openxmlformats-officedocument."
CORE = "http://schemas.openxmlformats.org/package/2006/relationships/metadata/core-properties"
MAIN_TYPES = {kind: told for told, kind in reversed(MAIN.items())}
"""Format → the type of its main part, the usual one where there are several."""
_PARTS: tuple[tuple[re.Pattern[str], str, str], ...] = tuple(
    (re.compile(pattern, re.IGNORECASE), kind if "/" in kind else _OFFICE + kind + "+xml", link if "://" in link else f"{R}/{link}")
    for pattern, kind, link in (
        (r"word/styles\d*\.xml", "wordprocessingml.styles", "styles"),
        (r"word/settings\d*\.xml", "wordprocessingml.settings", "settings"),
        (r"word/webSettings\d*\.xml", "wordprocessingml.webSettings", "webSettings"),
        (r"word/fontTable\d*\.xml", "wordprocessingml.fontTable", "fontTable"),
        (r"word/numbering\d*\.xml", "wordprocessingml.numbering", "numbering"),
        (r"word/footnotes\d*\.xml", "wordprocessingml.footnotes", "footnotes"),
        (r"word/endnotes\d*\.xml", "wordprocessingml.endnotes", "endnotes"),
        (r"word/comments\d*\.xml", "wordprocessingml.comments", "comments"),
        (r"word/header\d*\.xml", "wordprocessingml.header", "header"),
        (r"word/footer\d*\.xml", "wordprocessingml.footer", "footer"),
        (r"(?:word|xl|ppt|visio)/theme/theme\d*\.xml", "theme", "theme"),
        (r"xl/worksheets/[^/]+\.xml", "spreadsheetml.worksheet", "worksheet"),
        (r"xl/worksheets/[^/]+\.bin", "application/vnd.ms-excel.worksheet", "worksheet"),
        (r"xl/chartsheets/[^/]+\.xml", "spreadsheetml.chartsheet", "chartsheet"),
        (r"xl/sharedStrings\d*\.xml", "spreadsheetml.sharedStrings", "sharedStrings"),
        (r"xl/sharedStrings\d*\.bin", "application/vnd.ms-excel.sharedStrings", "sharedStrings"),
        (r"xl/styles\d*\.xml", "spreadsheetml.styles", "styles"),
        (r"xl/styles\d*\.bin", "application/vnd.ms-excel.styles", "styles"),
        (r"xl/tables/[^/]+\.xml", "spreadsheetml.table", "table"),
        (r"xl/comments[^/]*\.xml", "spreadsheetml.comments", "comments"),
        (r"(?:xl|word|ppt)/drawings/drawing\d*\.xml", "drawing", "drawing"),
        (r"(?:xl|word|ppt)/charts/chart\d*\.xml", "drawingml.chart", "chart"),
        (r"xl/pivotTables/[^/]+\.xml", "spreadsheetml.pivotTable", "pivotTable"),
        (r"xl/pivotCache/pivotCacheDefinition\d*\.xml", "spreadsheetml.pivotCacheDefinition", "pivotCacheDefinition"),
        (r"xl/pivotCache/pivotCacheRecords\d*\.xml", "spreadsheetml.pivotCacheRecords", "pivotCacheRecords"),
        (r"xl/externalLinks/[^/]+\.xml", "spreadsheetml.externalLink", "externalLink"),
        (r"ppt/slides/slide\d*\.xml", "presentationml.slide", "slide"),
        (r"ppt/slideLayouts/[^/]+\.xml", "presentationml.slideLayout", "slideLayout"),
        (r"ppt/slideMasters/[^/]+\.xml", "presentationml.slideMaster", "slideMaster"),
        (r"ppt/notesSlides/[^/]+\.xml", "presentationml.notesSlide", "notesSlide"),
        (r"ppt/notesMasters/[^/]+\.xml", "presentationml.notesMaster", "notesMaster"),
        (r"ppt/handoutMasters/[^/]+\.xml", "presentationml.handoutMaster", "handoutMaster"),
        (r"ppt/presProps\.xml", "presentationml.presProps", "presProps"),
        (r"ppt/viewProps\.xml", "presentationml.viewProps", "viewProps"),
        (r"ppt/tableStyles\.xml", "presentationml.tableStyles", "tableStyles"),
        (r"ppt/commentAuthors\.xml", "presentationml.commentAuthors", "commentAuthors"),
        (r"ppt/comments/[^/]+\.xml", "presentationml.comments", "comments"),
        (r"visio/pages/pages\.xml", "application/vnd.ms-visio.pages+xml", "http://schemas.microsoft.com/visio/2010/relationships/pages"),
        (r"visio/pages/page\d+\.xml", "application/vnd.ms-visio.page+xml", "http://schemas.microsoft.com/visio/2010/relationships/page"),
        (r"visio/masters/masters\.xml", "application/vnd.ms-visio.masters+xml", "http://schemas.microsoft.com/visio/2010/relationships/masters"),
        (r"visio/masters/master\d+\.xml", "application/vnd.ms-visio.master+xml", "http://schemas.microsoft.com/visio/2010/relationships/master"),
        (r"visio/windows\.xml", "application/vnd.ms-visio.windows+xml", "http://schemas.microsoft.com/visio/2010/relationships/windows"),
        (r"docProps/core\.xml", "application/vnd.openxmlformats-package.core-properties+xml", CORE),
        (r"docProps/app\.xml", "extended-properties", "extended-properties"),
        (r"docProps/custom\.xml", "custom-properties", "custom-properties"),
    )
)  # fmt: skip
_DEFAULTS = {
    "rels": "application/vnd.openxmlformats-package.relationships+xml", "xml": "application/xml", "png": "image/png", "jpeg": "image/jpeg",
    "jpg": "image/jpeg", "gif": "image/gif", "bmp": "image/bmp", "tiff": "image/tiff", "tif": "image/tiff", "emf": "image/x-emf",
    "wmf": "image/x-wmf", "svg": "image/svg+xml", "bin": _OFFICE + "oleObject", "vml": _OFFICE + "vmlDrawing", "wdp": "image/vnd.ms-photo",
    "docx": _OFFICE + "wordprocessingml.document", "xlsx": _OFFICE + "spreadsheetml.sheet", "odttf": _OFFICE + "obfuscatedFont",
    "fntdata": "application/x-fontdata", "mp4": "video/mp4", "wav": "audio/wav", "mp3": "audio/mpeg", "m4a": "audio/mp4",
}  # fmt: skip
MAIN_LINK = f"{R}/officeDocument"
VISIO_LINK = "http://schemas.microsoft.com/visio/2010/relationships/document"


def type_of(part: str) -> str | None:
    """The content type of a part by its name, None where its extension tells enough."""
    return next((kind for pattern, kind, _ in _PARTS if pattern.fullmatch(part)), None)


def link_of(part: str) -> str | None:
    """The type of the relationship that leads to a part, None for one that is not known."""
    if "/media/" in part:
        return f"{R}/image"
    return next((link for pattern, _, link in _PARTS if pattern.fullmatch(part)), None)


def content_types(parts: Iterable[str], known: dict[str, str], extensions: dict[str, str]) -> bytes:
    """The list of content types: what is `known` of parts and extensions, else what their names tell."""
    every = sorted(parts)
    used = {name.rpartition(".")[2].casefold() for name in every if "." in name.rpartition("/")[2]} | {"rels", "xml"}
    told = {ext: extensions.get(ext) or _DEFAULTS.get(ext, "application/octet-stream") for ext in sorted(used)}
    lines = [f'<Default Extension="{escaped(ext)}" ContentType="{escaped(kind)}"/>' for ext, kind in told.items()]
    for name in every:
        if not name.endswith(".rels") and (kind := known.get(name.casefold()) or type_of(name)):
            lines.append(f'<Override PartName="/{escaped(name)}" ContentType="{escaped(kind)}"/>')
    return f'{_HEAD}<Types xmlns="{_TYPES}">{"".join(lines)}</Types>'.encode()


def relationships(links: Iterable[tuple[str, str, str, bool]]) -> bytes:
    """A part of relationships: (id, type, target, whether that is outside) each."""
    lines = []
    for ident, kind, target, outside in links:
        mode = ' TargetMode="External"' if outside else ""
        lines.append(f'<Relationship Id="{ident}" Type="{escaped(kind)}" Target="{escaped(target)}"{mode}/>')
    return f'{_HEAD}<Relationships xmlns="{_RELS}">{"".join(lines)}</Relationships>'.encode()


def text_document(body: bytes) -> bytes:
    """A text with these blocks."""
    return (
        f'{_HEAD}<w:document xmlns:w="{W}" xmlns:r="{R}"><w:body>'.encode()
        + body
        + b"<w:sectPr/></w:body></w:document>"
    )


def notes(kind: str, body: bytes) -> bytes:
    """A part of footnotes, endnotes or comments (`kind` in the singular)."""
    return f'{_HEAD}<w:{kind}s xmlns:w="{W}" xmlns:r="{R}">'.encode() + body + f"</w:{kind}s>".encode()


def note(kind: str, ident: bytes, blocks: bytes) -> bytes:
    """A footnote, endnote or comment."""
    by = b' w:author=""' if kind == "comment" else b""
    return b'<w:%b w:id="%b"%b>%b</w:%b>' % (kind.encode(), ident, by, blocks, kind.encode())


def separator(kind: str, ident: bytes, *, is_first: bool) -> bytes:
    """The line above notes, or the one above those that go on from the page before (17.11.23, 17.11.1)."""
    name = b"separator" if is_first else b"continuationSeparator"
    blocks = b"<w:p><w:r><w:%b/></w:r></w:p>" % name
    return b'<w:%b w:type="%b" w:id="%b">%b</w:%b>' % (kind.encode(), name, ident, blocks, kind.encode())


def workbook(sheets: Sequence[tuple[str, str]], *, date1904: bool) -> bytes:
    """A workbook: (name, relationship id) of each sheet."""
    rows = "".join(
        f'<sheet name="{escaped(name).replace(chr(34), "&quot;")}" sheetId="{n}" r:id="{ident}"/>'
        for n, (name, ident) in enumerate(sheets, 1)
    )
    dates = '<workbookPr date1904="1"/>' if date1904 else ""
    return f'{_HEAD}<workbook xmlns="{S}" xmlns:r="{R}">{dates}<sheets>{rows}</sheets></workbook>'.encode()


def sheet(rows: bytes) -> bytes:
    """A sheet with these rows."""
    return f'{_HEAD}<worksheet xmlns="{S}" xmlns:r="{R}"><sheetData>'.encode() + rows + b"</sheetData></worksheet>"


def sheet_styles(count: int) -> bytes:
    """Styles of a workbook whose cells name so many: all look alike."""
    formats = '<xf numFmtId="0" fontId="0" fillId="0" borderId="0" xfId="0"/>' * max(count, 1)
    return (
        f'{_HEAD}<styleSheet xmlns="{S}"><fonts count="1"><font><sz val="11"/><name val="Calibri"/></font></fonts>'
        '<fills count="2"><fill><patternFill patternType="none"/></fill><fill><patternFill patternType="gray125"/></fill></fills>'
        '<borders count="1"><border><left/><right/><top/><bottom/><diagonal/></border></borders>'
        '<cellStyleXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0"/></cellStyleXfs>'
        f'<cellXfs count="{max(count, 1)}">{formats}</cellXfs></styleSheet>'
    ).encode()


def strings(texts: Iterable[bytes]) -> bytes:
    """Shared strings: each as the element that it is."""
    return f'{_HEAD}<sst xmlns="{S}">'.encode() + b"".join(texts) + b"</sst>"


_TREE = '<p:nvGrpSpPr><p:cNvPr id="1" name=""/><p:cNvGrpSpPr/><p:nvPr/></p:nvGrpSpPr><p:grpSpPr/>'
_SPACES = f'xmlns:a="{A}" xmlns:r="{R}" xmlns:p="{P}"'


def presentation(masters: Sequence[str], notes: Sequence[str], slides: Sequence[str], size: str) -> bytes:
    """A presentation: the relationship ids of its masters, notes master and slides; `size` is the element of the slides' size, or empty."""
    first = "".join(f'<p:sldMasterId id="{2147483648 + 100 * n}" r:id="{ident}"/>' for n, ident in enumerate(masters))
    second = "".join(f'<p:notesMasterId r:id="{ident}"/>' for ident in notes[:1])
    second = f"<p:notesMasterIdLst>{second}</p:notesMasterIdLst>" if second else ""
    third = "".join(f'<p:sldId id="{256 + n}" r:id="{ident}"/>' for n, ident in enumerate(slides))
    third = f"<p:sldIdLst>{third}</p:sldIdLst>" if third else ""
    size = size or '<p:sldSz cx="9144000" cy="6858000"/>'
    return (
        f'{_HEAD}<p:presentation {_SPACES}><p:sldMasterIdLst>{first}</p:sldMasterIdLst>{second}{third}{size}<p:notesSz cx="6858000" cy="9144000"/></p:presentation>'
    ).encode()


def slide(text: str) -> bytes:
    """A slide that stands for one that is missing."""
    box = shape_mark(text).decode() if text else ""
    return f"{_HEAD}<p:sld {_SPACES}><p:cSld><p:spTree>{_TREE}{box}</p:spTree></p:cSld></p:sld>".encode()


def layout() -> bytes:
    """A slide layout without anything on it."""
    return f'{_HEAD}<p:sldLayout {_SPACES} type="blank"><p:cSld name="Blank"><p:spTree>{_TREE}</p:spTree></p:cSld></p:sldLayout>'.encode()


def master(layouts: Sequence[str]) -> bytes:
    """A slide master without anything on it: the relationship ids of its layouts."""
    listed = "".join(f'<p:sldLayoutId id="{2147483649 + n}" r:id="{ident}"/>' for n, ident in enumerate(layouts))
    colours = 'bg1="lt1" tx1="dk1" bg2="lt2" tx2="dk2" accent1="accent1" accent2="accent2" accent3="accent3" accent4="accent4" accent5="accent5" accent6="accent6" hlink="hlink" folHlink="folHlink"'
    return (
        f"{_HEAD}<p:sldMaster {_SPACES}><p:cSld><p:spTree>{_TREE}</p:spTree></p:cSld><p:clrMap {colours}/>"
        f"<p:sldLayoutIdLst>{listed}</p:sldLayoutIdLst></p:sldMaster>"
    ).encode()


def theme() -> bytes:
    """A theme with plain colours and fonts."""
    plain = {
        "dk1": "000000",
        "lt1": "FFFFFF",
        "dk2": "44546A",
        "lt2": "E7E6E6",
        "hlink": "0563C1",
        "folHlink": "954F72",
    }
    plain |= {f"accent{n}": "5B7A9A" for n in range(1, 7)}
    order = ("dk1", "lt1", "dk2", "lt2", *(f"accent{n}" for n in range(1, 7)), "hlink", "folHlink")
    colours = "".join(f'<a:{name}><a:srgbClr val="{plain[name]}"/></a:{name}>' for name in order)
    font = '<a:latin typeface="Arial"/><a:ea typeface=""/><a:cs typeface=""/>'
    fill = '<a:solidFill><a:schemeClr val="phClr"/></a:solidFill>' * 3
    line = '<a:ln w="9525"><a:solidFill><a:schemeClr val="phClr"/></a:solidFill></a:ln>' * 3
    effect = "<a:effectStyle><a:effectLst/></a:effectStyle>" * 3
    return (
        f'{_HEAD}<a:theme xmlns:a="{A}" name="Plain"><a:themeElements><a:clrScheme name="Plain">{colours}</a:clrScheme>'
        f'<a:fontScheme name="Plain"><a:majorFont>{font}</a:majorFont><a:minorFont>{font}</a:minorFont></a:fontScheme>'
        f'<a:fmtScheme name="Plain"><a:fillStyleLst>{fill}</a:fillStyleLst><a:lnStyleLst>{line}</a:lnStyleLst>'
        f"<a:effectStyleLst>{effect}</a:effectStyleLst><a:bgFillStyleLst>{fill}</a:bgFillStyleLst></a:fmtScheme></a:themeElements></a:theme>"
    ).encode()
