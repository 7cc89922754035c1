"""One record a format: its names, class and extensions, the bytes that it begins with, the module that reads it, and what else is known of it.

All tables of formats are derived from these records: a new format is one record, and one module where it is read to its end.
Sources of the signatures: each format's specification (ISO 32000-1 7.5.2, W3C PNG 5.2, ITU T.81 B.1.1.3, GIF89a 17, TIFF 6.0 section 2,
RFC 1952, SQLite file format 1.3 …).
"""

from __future__ import annotations

from functools import cache
from typing import NamedTuple

XMP: tuple[str, ...] = ("xmp",)
XMP_AND_EXIF: tuple[str, ...] = ("xmp", "exif")


class FormatInfo(NamedTuple):
    """What is known of one format.

    `format` is its usual extension, `others` (parted by blanks) all else that a file of it may rightly carry; of these, `unlisted` do not make
    a file name document-like. `is_text`: its bytes are plain text, and the name alone tells it from other texts. `signatures` are (offset, bytes).
    `reader` is the module below `rustfern.formats` whose `check` reads it to its end, where a signature tells it (empty: a family of the
    registry does, or nothing). `carries` names the metadata that is sought in its bytes, `pixels` the name by which Pillow decodes it,
    `recording` what tells its length and tracks, `companions` the endings of files that belong to it, `opens_in` an open-source program.
    """

    format: str
    doc_class: str
    title: str
    others: str = ""
    is_text: bool = False
    signatures: tuple[tuple[int, bytes], ...] = ()
    reader: str = ""
    carries: tuple[str, ...] = ()
    pixels: str = ""
    recording: str = ""
    unlisted: str = ""
    companions: tuple[str, ...] = ()
    opens_in: str = ""

    @property
    def extensions(self) -> frozenset[str]:
        """All extensions that a file of it may rightly carry."""
        return frozenset((self.format, *self.others.split()))


_RECORDS = (
    FormatInfo("docx", "text", "OOXML text", opens_in="LibreOffice"),
    FormatInfo("docm", "text", "OOXML text with macros"),
    FormatInfo("dotx", "text", "OOXML text template"),
    FormatInfo("dotm", "text", "OOXML text template with macros"),
    FormatInfo("doc", "text", "binary word-processor text", others="dot", opens_in="LibreOffice"),
    FormatInfo("wri", "text", "paged word-processor text", opens_in="LibreOffice"),
    FormatInfo("odt", "text", "ODF text", opens_in="LibreOffice"),
    FormatInfo("ott", "text", "ODF text template", opens_in="LibreOffice"),
    FormatInfo("sxw", "text", "text of before ODF", others="stw sxg", opens_in="LibreOffice"),
    FormatInfo("sxc", "sheet", "spreadsheet of before ODF", others="stc", opens_in="LibreOffice"),
    FormatInfo("sxi", "slides", "presentation of before ODF", others="sti", opens_in="LibreOffice"),
    FormatInfo("sxd", "drawing", "drawing of before ODF", opens_in="LibreOffice"),
    FormatInfo("odm", "text", "ODF master document"),
    FormatInfo("fodt", "text", "flat ODF text", others="xml", is_text=True, opens_in="LibreOffice"),
    FormatInfo(
        "rtf",
        "text",
        "rich text",
        others="doc",
        signatures=((0, b"{\\rtf"),),
        reader="office.rtf",
        opens_in="LibreOffice",
    ),
    FormatInfo("txt", "text", "plain text", others="text log nfo 1st me readme asc dot msg mts", is_text=True),
    FormatInfo("md", "text", "Markdown text", others="markdown mkd", is_text=True),
    FormatInfo("tex", "text", "TeX source", others="sty cls bib", is_text=True),
    FormatInfo("org", "notes", "outline text", is_text=True),
    FormatInfo("epub", "text", "e-book"),
    FormatInfo("abw", "text", "AbiWord text", others="zabw"),
    FormatInfo("lyx", "text", "LyX document", is_text=True),
    FormatInfo("xlsx", "sheet", "OOXML workbook", opens_in="LibreOffice"),
    FormatInfo("xlsm", "sheet", "OOXML workbook with macros"),
    FormatInfo("xltx", "sheet", "OOXML workbook template"),
    FormatInfo("xltm", "sheet", "OOXML workbook template with macros"),
    FormatInfo("xlam", "sheet", "OOXML workbook add-in"),
    FormatInfo("xlsb", "sheet", "OOXML binary workbook", opens_in="LibreOffice"),
    FormatInfo("xls", "sheet", "binary workbook", others="xlt xla", opens_in="LibreOffice"),
    FormatInfo("ods", "sheet", "ODF spreadsheet", opens_in="LibreOffice"),
    FormatInfo("ots", "sheet", "ODF spreadsheet template", opens_in="LibreOffice"),
    FormatInfo("fods", "sheet", "flat ODF spreadsheet", others="xml", is_text=True, opens_in="LibreOffice"),
    FormatInfo("csv", "sheet", "comma-separated values", others="tsv tab", is_text=True),
    FormatInfo("pptx", "slides", "OOXML presentation", opens_in="LibreOffice"),
    FormatInfo("pptm", "slides", "OOXML presentation with macros"),
    FormatInfo("ppsx", "slides", "OOXML slide show", others="ppsm"),
    FormatInfo("potx", "slides", "OOXML presentation template"),
    FormatInfo("potm", "slides", "OOXML presentation template with macros"),
    FormatInfo("ppam", "slides", "OOXML presentation add-in"),
    FormatInfo("ppt", "slides", "binary presentation", others="pps pot", opens_in="LibreOffice"),
    FormatInfo("odp", "slides", "ODF presentation", opens_in="LibreOffice"),
    FormatInfo("otp", "slides", "ODF presentation template"),
    FormatInfo("fodp", "slides", "flat ODF presentation", others="xml", is_text=True),
    FormatInfo("odg", "drawing", "ODF drawing", opens_in="LibreOffice"),
    FormatInfo("otg", "drawing", "ODF drawing template"),
    FormatInfo("fodg", "drawing", "flat ODF drawing", others="xml", is_text=True),
    FormatInfo("vsdx", "drawing", "OOXML diagram"),
    FormatInfo("vsdm", "drawing", "OOXML diagram with macros"),
    FormatInfo("vssx", "drawing", "OOXML diagram stencil"),
    FormatInfo("vssm", "drawing", "OOXML diagram stencil with macros"),
    FormatInfo("vstx", "drawing", "OOXML diagram template"),
    FormatInfo("vstm", "drawing", "OOXML diagram template with macros"),
    FormatInfo("3mf", "cad", "3MF model"),
    FormatInfo("xps", "page", "XPS pages", others="oxps"),
    FormatInfo("vsd", "drawing", "binary diagram", others="vss vst"),
    FormatInfo("pub", "page", "publisher layout"),
    FormatInfo("odf", "text", "ODF formula"),
    FormatInfo("odb", "database", "ODF database"),
    FormatInfo("xopp", "notes", "Xournal++ notes", others="xoj"),
    FormatInfo("dia", "drawing", "Dia diagram"),
    FormatInfo("scad", "cad", "OpenSCAD model", is_text=True),
    FormatInfo("slvs", "cad", "SolveSpace model", is_text=True),
    FormatInfo("svg", "drawing", "SVG drawing", is_text=True, carries=XMP, opens_in="Inkscape"),
    FormatInfo("cdr", "drawing", "CDR vector drawing", others="cdt"),
    FormatInfo("pdf", "page", "PDF", others="ai fdf", signatures=((0, b"%PDF-"),), reader="pages.pdf", carries=XMP),
    FormatInfo(
        "png",
        "image",
        "PNG picture",
        signatures=((0, b"\x89PNG\r\n\x1a\n"),),
        reader="images.png",
        carries=XMP_AND_EXIF,
        pixels="PNG",
    ),
    FormatInfo(
        "jpg",
        "image",
        "JPEG picture",
        others="jpeg jpe jfif",
        signatures=((0, b"\xff\xd8\xff"),),
        reader="images.jpeg",
        carries=XMP_AND_EXIF,
        pixels="JPEG",
    ),
    FormatInfo(
        "gif",
        "image",
        "GIF picture",
        signatures=(
            (0, b"GIF87a"),
            (0, b"GIF89a"),
        ),
        reader="images.raster",
        carries=XMP,
        pixels="GIF",
    ),
    FormatInfo(
        "tiff",
        "image",
        "TIFF picture",
        others="tif",
        signatures=(
            (0, b"II*\x00"),
            (0, b"MM\x00*"),
            (0, b"II+\x00"),
            (0, b"MM\x00+"),
        ),
        reader="images.tiff",
        carries=XMP_AND_EXIF,
        pixels="TIFF",
    ),
    FormatInfo("bmp", "image", "BMP picture", reader="images.raster", pixels="BMP"),
    FormatInfo(
        "webp",
        "image",
        "WebP picture",
        signatures=((8, b"WEBP"),),
        reader="images.raster",
        carries=XMP_AND_EXIF,
        pixels="WEBP",
    ),
    FormatInfo(
        "psd",
        "image",
        "layered picture",
        others="psb",
        signatures=((0, b"8BPS"),),
        reader="images.raster",
        carries=XMP,
        opens_in="GIMP",
    ),
    FormatInfo("dwg", "cad", "DWG drawing", signatures=((0, b"AC10"),), reader="drawings.dwg_dxf"),
    FormatInfo(
        "dxf",
        "cad",
        "DXF drawing",
        is_text=True,
        signatures=((7, b" Binary DXF\r\n\x1a\x00"),),
        reader="drawings.dwg_dxf",
    ),
    FormatInfo("wav", "audio", "WAV recording", signatures=((8, b"WAVE"),), reader="media.audio", recording="wave"),
    FormatInfo(
        "aiff",
        "audio",
        "AIFF recording",
        others="aif aifc",
        signatures=(
            (8, b"AIFF"),
            (8, b"AIFC"),
        ),
        reader="media.audio",
    ),
    FormatInfo("mp3", "audio", "MP3 recording", signatures=((0, b"ID3"),), reader="media.audio", recording="frames"),
    FormatInfo("avi", "video", "AVI recording", signatures=((8, b"AVI LIST"),), reader="media.avi", recording="avi"),
    FormatInfo(
        "asf", "video", "ASF recording", others="wmv wma", signatures=((0, b"\x30\x26\xb2\x75\x8e\x66\xcf\x11"),)
    ),
    FormatInfo("dcm", "image", "DICOM picture", others="dicom", signatures=((128, b"DICM"),)),
    FormatInfo(
        "mpg",
        "video",
        "MPEG program recording",
        others="mpeg vob m2p",
        signatures=((0, b"\0\0\1\xba"), (0, b"\0\0\1\xb3")),
        reader="media.mpeg",
    ),
    FormatInfo("flv", "video", "FLV recording", signatures=((0, b"FLV\x01"),)),
    FormatInfo("aac", "audio", "AAC recording", others="adts", signatures=((0, b"ADIF"),), reader="media.audio"),
    FormatInfo("flac", "audio", "FLAC recording", signatures=((0, b"fLaC"),), reader="media.flac", recording="flac"),
    FormatInfo(
        "ogg",
        "audio",
        "Ogg recording",
        others="oga ogv opus",
        signatures=((0, b"OggS"),),
        reader="media.audio",
        recording="ogg",
    ),
    FormatInfo(
        "heif",
        "image",
        "HEIF picture",
        others="heic heics heifs avif avifs hif",
        signatures=tuple(
            (4, b"ftyp" + brand)
            for brand in (
                b"heic",
                b"heix",
                b"heim",
                b"heis",
                b"hevc",
                b"hevx",
                b"mif1",
                b"mif2",
                b"msf1",
                b"avif",
                b"avis",
            )
        ),
        reader="images.heif",
        carries=XMP,
    ),
    FormatInfo(
        "mp4",
        "video",
        "MP4 recording",
        others="m4v m4a 3gp 3g2",
        signatures=((4, b"ftyp"),),
        reader="media.mp4",
        carries=XMP,
        recording="movie",
    ),
    FormatInfo(
        "mov",
        "video",
        "MOV recording",
        others="qt",
        signatures=(
            (4, b"moov"),
            (4, b"mdat"),
            (4, b"wide"),
            (4, b"skip"),
            (4, b"free"),
            (4, b"ftypqt"),
        ),
        reader="media.mp4",
        carries=XMP,
        recording="movie",
    ),
    FormatInfo(
        "mkv",
        "video",
        "Matroska recording",
        others="webm mka",
        signatures=((0, b"\x1aE\xdf\xa3"),),
        reader="media.audio",
        recording="matroska",
    ),
    FormatInfo(
        "sqlite",
        "database",
        "SQLite database",
        others="db sqlite3 db3 ctb aup3",
        signatures=((0, b"SQLite format 3\x00"),),
        unlisted="db",
        companions=("-wal", "-journal"),
    ),
    FormatInfo("msg", "mail", "mail message", others="oft"),
    FormatInfo("eml", "mail", "mail message", others="mht mhtml", is_text=True),
    FormatInfo("mbox", "mail", "mailbox", others="mbx eml"),
    FormatInfo("html", "text", "web page", others="htm xhtml", is_text=True),
    FormatInfo("xml", "code", "XML", others="xsl xsd kml gpx fb2 rss atom", is_text=True),
    FormatInfo("json", "code", "JSON", others="ipynb geojson har", is_text=True),
    FormatInfo("yaml", "code", "YAML", others="yml", is_text=True),
    FormatInfo("toml", "code", "TOML", is_text=True),
    FormatInfo(
        "ini", "code", "settings text", others="cfg conf properties", is_text=True, unlisted="cfg conf ini properties"
    ),
    FormatInfo("py", "code", "Python source", others="pyw", is_text=True),
    FormatInfo("js", "code", "JavaScript source", others="mjs ts", is_text=True, unlisted="js mjs"),
    FormatInfo("mts", "video", "MPEG transport recording", others="m2ts ts m2t mpg mpeg tod", reader="media.mpeg"),
    FormatInfo("css", "code", "style sheet", is_text=True, unlisted="css"),
    FormatInfo("c", "code", "C source", others="h cc cpp hpp cxx", is_text=True),
    FormatInfo("sh", "code", "shell script", others="bash", is_text=True),
    FormatInfo("sql", "code", "SQL", is_text=True),
    FormatInfo("java", "code", "Java source", is_text=True),
    FormatInfo("zip", "other", "ZIP archive"),
    FormatInfo("gz", "other", "gzip file", others="tgz", signatures=((0, b"\x1f\x8b"),), unlisted="gz"),
    FormatInfo("svgz", "drawing", "packed SVG drawing", others="svg gz", opens_in="Inkscape"),
    FormatInfo("ai", "drawing", "AI vector illustration", others="ait", carries=XMP),
    FormatInfo(
        "eps",
        "drawing",
        "EPS drawing",
        others="epsf",
        signatures=((0, b"%!PS"), (0, b"\xc5\xd0\xd3\xc6")),
        reader="archives.compressed",
        carries=XMP,
    ),
    FormatInfo("xcf", "image", "XCF picture", signatures=((0, b"gimp xcf"),), reader="images.xcf", opens_in="GIMP"),
    FormatInfo("kra", "image", "Krita painting", others="krz", opens_in="Krita"),
    FormatInfo("ora", "image", "OpenRaster picture", opens_in="Krita"),
    FormatInfo("fig", "drawing", "Xfig drawing", is_text=True),
    FormatInfo("sla", "page", "Scribus layout", others="scd", is_text=True),
    FormatInfo(
        "indd", "page", "INDD layout", others="indt", signatures=((0, b"\x06\x06\xed\xf5\xd8\x1dF\xe5"),), carries=XMP
    ),
    FormatInfo("fcstd", "cad", "FreeCAD model"),
    FormatInfo("blend", "cad", "Blender scene", signatures=((0, b"BLENDER"),)),
    FormatInfo("kicad_pcb", "cad", "KiCad board", is_text=True),
    FormatInfo("kicad_sch", "cad", "KiCad schematic", is_text=True),
    FormatInfo("qgs", "drawing", "QGIS project", is_text=True),
    FormatInfo("qgz", "drawing", "packed QGIS project"),
    FormatInfo("kdenlive", "video", "Kdenlive project", is_text=True),
    FormatInfo("ardour", "audio", "Ardour session", is_text=True),
    FormatInfo("mscx", "audio", "MuseScore score", is_text=True),
    FormatInfo("mscz", "audio", "packed MuseScore score"),
    FormatInfo(
        "accdb",
        "database",
        "small database",
        others="mdb",
        signatures=(
            (4, b"Standard ACE DB"),
            (4, b"Standard Jet DB"),
        ),
    ),
    FormatInfo("ics", "notes", "calendar", is_text=True),
    FormatInfo("note", "notes", "desktop note", is_text=True),
    FormatInfo("gnumeric", "sheet", "Gnumeric workbook"),
    FormatInfo("aup", "audio", "Audacity project", is_text=True, companions=("_data",)),
    FormatInfo("gnucash", "database", "GnuCash book", others="gnca xml"),
    FormatInfo("kmy", "database", "KMyMoney book"),
    FormatInfo("gramps", "database", "Gramps family tree"),
    FormatInfo("gsb", "database", "Grisbi accounts", is_text=True),
    FormatInfo("ged", "database", "GEDCOM family tree", others="gedcom", is_text=True),
    FormatInfo("ledger", "database", "plain-text ledger", others="beancount journal hledger", is_text=True),
    FormatInfo("mm", "notes", "mind map", is_text=True),
    FormatInfo("drawio", "drawing", "flow chart", is_text=True),
    FormatInfo("graphml", "drawing", "graph", others="gml gv dot", is_text=True, unlisted="gv dot gml"),
    FormatInfo("musicxml", "audio", "MusicXML score", is_text=True),
    FormatInfo("ly", "audio", "LilyPond score", others="ily", is_text=True),
    FormatInfo("abc", "audio", "ABC tune", is_text=True),
    FormatInfo("srt", "text", "subtitles", others="vtt ass ssa", is_text=True),
    FormatInfo("rmd", "text", "R Markdown text", others="qmd rnw", is_text=True),
    FormatInfo("rst", "text", "reStructuredText", others="adoc asciidoc wiki textile", is_text=True),
    FormatInfo("fountain", "text", "screenplay", is_text=True),
    FormatInfo("ksp", "sheet", "Calligra Sheets workbook"),
    FormatInfo("7z", "other", "7z archive", signatures=((0, b"7z\xbc\xaf'\x1c"),), reader="archives.sevenzip"),
    FormatInfo(
        "xz",
        "other",
        "xz file",
        others="txz lzma",
        signatures=((0, b"\xfd7zXZ\x00"),),
        reader="archives.compressed",
        unlisted="lzma txz xz",
    ),
    FormatInfo(
        "bz2",
        "other",
        "bzip2 file",
        others="tbz2 tbz",
        signatures=((0, b"BZh"),),
        reader="archives.compressed",
        unlisted="bz2",
    ),
    FormatInfo("tar", "other", "tar archive", signatures=((257, b"ustar"),), reader="archives.compressed"),
    FormatInfo("cfb", "other", "compound file", unlisted="cfb"),
)

FORMATS: dict[str, FormatInfo] = {info.format: info for info in _RECORDS}
TEXT_FORMATS = frozenset(info.format for info in _RECORDS if info.is_text)
"""Formats whose bytes are plain text: the name alone tells them apart."""

_BY_EXTENSION: dict[str, str] = {}
for _info in _RECORDS:
    for _extension in sorted(_info.extensions):
        if _extension == _info.format or _extension not in _BY_EXTENSION:
            _BY_EXTENSION[_extension] = _info.format

DOCUMENT_EXTENSIONS = frozenset(_BY_EXTENSION) - {each for info in _RECORDS for each in info.unlisted.split()}
"""Extensions that make a file name document-like: only such files enter the name index."""
SIGNATURES = tuple(
    sorted(
        ((at, magic, info.format) for info in _RECORDS for at, magic in info.signatures),
        key=lambda row: -len(row[1]),
    )
)
"""(offset, bytes, format), the most telling first."""

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


ALSO_TEXTS = frozenset({"note"})
"""Formats whose ending people give to plain texts, too."""


def extension_right(name: str, format_name: str | None) -> bool | None:
    """False only if the name claims another format; None for no extension, a neutral one, or unknown content."""
    if format_name is None:
        return None
    claimed = format_of_extension(extension_of(name))
    if claimed is None or (claimed in ALSO_TEXTS and format_name == "txt"):
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


def companions_of(name: str) -> tuple[str, ...]:
    """What belongs to a saved file of this name, by the ending of its own: journals with the newest data, data folders."""
    info = FORMATS.get(format_of_extension(extension_of(name)) or "")
    return info.companions if info else ()
