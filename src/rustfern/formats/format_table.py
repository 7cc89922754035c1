"""One table of formats: usual extension → class, other extensions, and a name for people."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache


@dataclass(frozen=True, slots=True)
class FormatInfo:
    """`format` is the usual extension, `extensions` all that a file of it may rightly carry."""

    format: str
    doc_class: str
    title: str
    extensions: frozenset[str]


def _rows() -> list[tuple[str, str, str, str]]:
    return [
        # format, class, name for people, other extensions
        ("docx", "text", "OOXML text", ""),
        ("docm", "text", "OOXML text with macros", ""),
        ("dotx", "text", "OOXML text template", ""),
        ("dotm", "text", "OOXML text template with macros", ""),
        ("doc", "text", "binary word-processor text", "dot"),
        ("odt", "text", "ODF text", ""),
        ("ott", "text", "ODF text template", ""),
        ("odm", "text", "ODF master document", ""),
        ("fodt", "text", "flat ODF text", "xml"),
        ("rtf", "text", "rich text", "doc"),
        ("txt", "text", "plain text", "text log nfo 1st me readme asc"),
        ("md", "text", "Markdown text", "markdown mkd"),
        ("tex", "text", "TeX source", "sty cls bib"),
        ("org", "notes", "outline text", ""),
        ("epub", "text", "e-book", ""),
        ("abw", "text", "AbiWord text", "zabw"),
        ("lyx", "text", "LyX document", ""),
        ("xlsx", "sheet", "OOXML workbook", ""),
        ("xlsm", "sheet", "OOXML workbook with macros", ""),
        ("xltx", "sheet", "OOXML workbook template", ""),
        ("xltm", "sheet", "OOXML workbook template with macros", ""),
        ("xlsb", "sheet", "OOXML binary workbook", ""),
        ("xls", "sheet", "binary workbook", "xlt xla"),
        ("ods", "sheet", "ODF spreadsheet", ""),
        ("ots", "sheet", "ODF spreadsheet template", ""),
        ("fods", "sheet", "flat ODF spreadsheet", "xml"),
        ("csv", "sheet", "comma-separated values", "tsv tab"),
        ("pptx", "slides", "OOXML presentation", ""),
        ("pptm", "slides", "OOXML presentation with macros", ""),
        ("ppsx", "slides", "OOXML slide show", ""),
        ("potx", "slides", "OOXML presentation template", ""),
        ("potm", "slides", "OOXML presentation template with macros", ""),
        ("ppt", "slides", "binary presentation", "pps pot"),
        ("odp", "slides", "ODF presentation", ""),
        ("otp", "slides", "ODF presentation template", ""),
        ("fodp", "slides", "flat ODF presentation", "xml"),
        ("odg", "drawing", "ODF drawing", ""),
        ("otg", "drawing", "ODF drawing template", ""),
        ("fodg", "drawing", "flat ODF drawing", "xml"),
        ("vsdx", "drawing", "OOXML diagram", ""),
        ("vsdm", "drawing", "OOXML diagram with macros", ""),
        ("vssx", "drawing", "OOXML diagram stencil", ""),
        ("vstx", "drawing", "OOXML diagram template", ""),
        ("3mf", "cad", "3MF model", ""),
        ("xps", "page", "XPS pages", "oxps"),
        ("vsd", "drawing", "binary diagram", "vss vst"),
        ("pub", "page", "publisher layout", ""),
        ("odf", "text", "ODF formula", ""),
        ("odb", "database", "ODF database", ""),
        ("xopp", "notes", "Xournal++ notes", "xoj"),
        ("dia", "drawing", "Dia diagram", ""),
        ("scad", "cad", "OpenSCAD model", ""),
        ("slvs", "cad", "SolveSpace model", ""),
        ("svg", "drawing", "SVG drawing", ""),
        ("cdr", "drawing", "CDR vector drawing", "cdt"),
        ("pdf", "page", "PDF", "ai fdf"),
        ("png", "image", "PNG picture", ""),
        ("jpg", "image", "JPEG picture", "jpeg jpe jfif"),
        ("gif", "image", "GIF picture", ""),
        ("tiff", "image", "TIFF picture", "tif"),
        ("bmp", "image", "BMP picture", ""),
        ("webp", "image", "WebP picture", ""),
        ("psd", "image", "layered picture", "psb"),
        ("dwg", "cad", "DWG drawing", ""),
        ("dxf", "cad", "DXF drawing", ""),
        ("wav", "audio", "WAV recording", ""),
        ("aiff", "audio", "AIFF recording", "aif aifc"),
        ("mp3", "audio", "MP3 recording", ""),
        ("aac", "audio", "AAC recording", "adts"),
        ("flac", "audio", "FLAC recording", ""),
        ("ogg", "audio", "Ogg recording", "oga ogv opus"),
        ("mp4", "video", "MP4 recording", "m4v m4a"),
        ("mov", "video", "MOV recording", "qt"),
        ("mkv", "video", "Matroska recording", "webm mka"),
        ("sqlite", "database", "SQLite database", "db sqlite3 db3 ctb aup3"),
        ("msg", "mail", "mail message", "oft"),
        ("eml", "mail", "mail message", "mht mhtml"),
        ("mbox", "mail", "mailbox", "mbx"),
        ("html", "text", "web page", "htm xhtml"),
        ("xml", "code", "XML", "xsl xsd kml gpx fb2 rss atom"),
        ("json", "code", "JSON", "ipynb geojson har"),
        ("yaml", "code", "YAML", "yml"),
        ("toml", "code", "TOML", ""),
        ("ini", "code", "settings text", "cfg conf properties"),
        ("py", "code", "Python source", "pyw"),
        ("js", "code", "JavaScript source", "mjs ts"),
        ("css", "code", "style sheet", ""),
        ("c", "code", "C source", "h cc cpp hpp cxx"),
        ("sh", "code", "shell script", "bash"),
        ("sql", "code", "SQL", ""),
        ("java", "code", "Java source", ""),
        ("zip", "other", "ZIP archive", ""),
        ("gz", "other", "gzip file", "tgz"),
        ("svgz", "drawing", "packed SVG drawing", "svg"),
        ("ai", "drawing", "AI vector illustration", "ait"),
        ("eps", "drawing", "EPS drawing", "epsf"),
        ("xcf", "image", "XCF picture", ""),
        ("kra", "image", "Krita painting", "krz"),
        ("ora", "image", "OpenRaster picture", ""),
        ("fig", "drawing", "Xfig drawing", ""),
        ("sla", "page", "Scribus layout", "scd"),
        ("indd", "page", "INDD layout", "indt"),
        ("fcstd", "cad", "FreeCAD model", ""),
        ("blend", "cad", "Blender scene", ""),
        ("kicad_pcb", "cad", "KiCad board", ""),
        ("kicad_sch", "cad", "KiCad schematic", ""),
        ("qgs", "drawing", "QGIS project", ""),
        ("qgz", "drawing", "packed QGIS project", ""),
        ("kdenlive", "video", "Kdenlive project", ""),
        ("ardour", "audio", "Ardour session", ""),
        ("mscx", "audio", "MuseScore score", ""),
        ("mscz", "audio", "packed MuseScore score", ""),
        ("accdb", "database", "small database", "mdb"),
        ("ics", "notes", "calendar", ""),
        ("note", "notes", "desktop note", ""),
        ("gnumeric", "sheet", "Gnumeric workbook", ""),
        ("aup", "audio", "Audacity project", ""),
        ("ksp", "sheet", "Calligra Sheets workbook", ""),
        ("7z", "other", "7z archive", ""),
        ("xz", "other", "xz file", "txz lzma"),
        ("bz2", "other", "bzip2 file", "tbz2 tbz"),
        ("tar", "other", "tar archive", ""),
        ("cfb", "other", "compound file", ""),
    ]


FORMATS: dict[str, FormatInfo] = {
    row[0]: FormatInfo(row[0], row[1], row[2], frozenset([row[0], *row[3].split()])) for row in _rows()
}

TEXT_FORMATS = frozenset(
    [
        "txt",
        "scad",
        "slvs",
        "md",
        "tex",
        "org",
        "csv",
        "html",
        "xml",
        "json",
        "yaml",
        "toml",
        "ini",
        "py",
        "js",
        "css",
        "c",
        "sh",
        "sql",
        "java",
        "svg",
        "lyx",
        "eml",
        "fodt",
        "fods",
        "fodp",
        "fodg",
        "fig",
        "kicad_pcb",
        "kicad_sch",
        "qgs",
        "kdenlive",
        "ardour",
        "mscx",
        "aup",
        "sla",
        "dxf",
        "note",
        "ics",
    ]
)
"""Formats whose bytes are plain text: the name alone tells them apart."""

_BY_EXTENSION: dict[str, str] = {}
for _info in FORMATS.values():
    for _extension in sorted(_info.extensions):
        if _extension == _info.format or _extension not in _BY_EXTENSION:
            _BY_EXTENSION[_extension] = _info.format

DOCUMENT_EXTENSIONS = frozenset(_BY_EXTENSION) - {
    "cfb",
    "gz",
    "xz",
    "bz2",
    "txz",
    "lzma",
    "ini",
    "db",
    "conf",
    "cfg",
    "properties",
    "js",
    "mjs",
    "css",
}
"""Extensions that make a file name document-like: only such files enter the name index."""

_OFFICE = frozenset({"text", "sheet", "slides", "drawing"})


@cache
def extension_of(name: str) -> str:
    """The extension of a file name in small letters, without the dot; empty if there is none."""
    stem, dot, extension = name.rpartition(".")
    return extension.casefold() if dot and stem and len(extension) <= 10 else ""


def format_of_extension(extension: str) -> str | None:
    """Which format an extension (small letters, no dot) claims, None for an unknown or neutral one."""
    return _BY_EXTENSION.get(extension)


def class_of(format_name: str | None) -> str:
    """Document class of a format; `other` if unknown."""
    info = FORMATS.get(format_name or "")
    return info.doc_class if info else "other"


def title_of(format_name: str | None) -> str:
    """A name for people."""
    info = FORMATS.get(format_name or "")
    return info.title if info else "unknown format"


def extension_right(name: str, format_name: str | None) -> bool | None:
    """False only if the name claims another format; None for no extension, a neutral one, or unknown content."""
    if format_name is None:
        return None
    claimed = format_of_extension(extension_of(name))
    if claimed is None:
        return None
    return claimed == format_name or extension_of(name) in FORMATS[format_name].extensions


def compatible(copy_format: str | None, original_format: str | None) -> bool:
    """Whether a copy in one format can be a copy of a document in another: the same, or office formats of one class."""
    if copy_format is None or original_format is None or copy_format == original_format:
        return True
    if {copy_format, original_format} == {"pdf", "ai"}:
        return True  # such illustrations are PDF inside
    if copy_format == "cfb":
        return class_of(original_format) in _OFFICE
    mine, theirs = class_of(copy_format), class_of(original_format)
    both_text = copy_format in TEXT_FORMATS and original_format in TEXT_FORMATS
    one_text = copy_format in TEXT_FORMATS or original_format in TEXT_FORMATS
    return both_text or (mine == theirs and mine in _OFFICE and not one_text)


_JOURNALS = ("-wal", "-journal")
BELONGING: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(("sqlite", "sqlite3", "db", "db3", "ctb", "aup3", "kdbx"), _JOURNALS),
    "aup": ("_data",),
}
"""What belongs to a saved file of an extension, by the ending of its name: journals with the newest data, data folders."""
