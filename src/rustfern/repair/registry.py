"""Which repairers are tried on damaged bytes: by what they are, then by what they are called. Each is imported only when it is tried."""

from __future__ import annotations

import importlib
from collections.abc import Iterator

from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.repair.interface import Repairer


def _named(words: str) -> tuple[str, ...]:
    return tuple(words.split())


_PACKAGES = _named(
    "docx docm dotx dotm xlsx xlsm xlsb xltx xltm xlam pptx pptm ppsx potx potm ppam vsdx vsdm vssx vssm vstx vstm odt ott ods ots odp otp odg otg epub zip"
)
_OTHER_PACKAGES = _named("3mf xps kra ora fcstd mscz qgz ksp cdr sxw sxc sxi sxd odf")
_XML = _named("xml kml gpx dae x3d musicxml fb2 rss abw drawio mm opml sla qgs kdenlive ardour mscx aup graphml")
_TEXTS = _named(
    "txt md tex org csv ini yaml toml sql srt vcf ics lyx rst log scad slvs ly bib css js py sh c cpp h java gsb ged ledger abc rmd fountain "
    "kicad_pcb kicad_sch fig"
)
_PREVIEWED = _named("dwg indd blend eps")
_BY_FORMAT: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(_PACKAGES, ("zip_packages.repair",)),
    **dict.fromkeys(_OTHER_PACKAGES, ("zip_packages.repair", "zip_packages.repair_members")),
    **dict.fromkeys(("fodt", "fods", "fodp", "fodg"), ("odf.repair_flat",)),
    **dict.fromkeys(_XML, ("markup.repair_xml",)),
    **dict.fromkeys(("json", "ipynb", "geojson"), ("json_text.repair",)),
    **dict.fromkeys(_TEXTS, ("text.repair",)),
    **dict.fromkeys(("eml", "mbox"), ("mail.repair",)),
    **dict.fromkeys(("gz", "svgz", "xz", "bz2", "gnumeric", "kmy", "gramps"), ("archives.repair_packed",)),
    **dict.fromkeys(_PREVIEWED, ("layered.repair_by_preview",)),
    **dict.fromkeys(
        ("kra", "ora", "fcstd", "qgz"),
        ("zip_packages.repair", "layered.repair_by_preview", "zip_packages.repair_members"),
    ),
    "cdr": ("drawings.repair_riff", "zip_packages.repair", "layered.repair_by_preview"),
    "xopp": ("archives.repair_packed", "markup.repair_xml"),
    "dia": ("archives.repair_packed", "markup.repair_xml"),
    "gnucash": ("sqlite.repair", "archives.repair_packed", "markup.repair_xml"),
    "vsd": ("compound.repair", "layered.repair_by_preview"),
    "7z": ("archives.repair_seven",),
    "tar": ("archives.repair_tar",),
    "dxf": ("drawings.repair_dxf",),
    "xcf": ("layered.repair_xcf", "layered.repair_by_preview"),
    "psd": ("layered.repair_psd", "layered.repair_by_preview"),
    "svg": ("markup.repair_svg",),
    "html": ("markup.repair_html",),
    **dict.fromkeys(("wav", "aiff"), ("recordings.sound.repair_chunks",)),
    **dict.fromkeys(("mp3", "aac"), ("recordings.sound.repair_frames",)),
    "avi": ("recordings.avi.repair",),
    "mkv": ("recordings.matroska.repair",),
    "flac": ("recordings.flac.repair_flac",),
    "ogg": ("recordings.ogg.repair_ogg",),
    "gif": ("pictures.others.repair_gif",),
    "bmp": ("pictures.others.repair_bmp",),
    "webp": ("pictures.webp.repair",),
    "heif": ("layered.repair_by_preview",),
    "tiff": ("pictures.tiff.repair", "layered.repair_by_preview"),
    "png": ("pictures.png.repair",),
    "jpg": ("pictures.jpeg.repair", "layered.repair_by_small_picture"),
    **dict.fromkeys(("mp4", "mov"), ("recordings.movie.repair",)),
    "rtf": ("rtf.repair",),
    **dict.fromkeys(("doc", "xls", "ppt", "msg", "pub", "cfb"), ("compound.repair",)),
    **dict.fromkeys(("pdf", "ai"), ("pdf.repair",)),
    **dict.fromkeys(("sqlite", "gpkg", "note"), ("sqlite.repair",)),
}
_MARKS: tuple[tuple[bytes, str, str], ...] = (
    (b"PK\x03\x04", "zip", "zip_packages.repair"),
    (b"{\\rtf", "rtf", "rtf.repair"),
    (b"%PDF-", "pdf", "pdf.repair"),
    (b"\x1f\x8b\x08", "gz", "archives.repair_packed"),
    (b"\xd0\xcf\x11\xe0", "cfb", "compound.repair"),
    (b"II*\0", "tiff", "pictures.tiff.repair"),
    (b"MM\0*", "tiff", "pictures.tiff.repair"),
    (b"II*\0", "tiff", "layered.repair_by_preview"),
    (b"MM\0*", "tiff", "layered.repair_by_preview"),
    (b"SQLite format 3", "sqlite", "sqlite.repair"),
)
"""Bytes that a file begins with, the format if its name tells none, and what repairs it."""


def repairers(head: bytes, name: str, found: str | None) -> Iterator[tuple[str, Repairer]]:
    """(format, repairer) in the order in which they are tried. `found` is what the check took it for."""
    claimed = format_of_extension(extension_of(name))
    formats = [each for each in dict.fromkeys((found, claimed)) if each is not None]
    tried: set[str] = set()
    for mark, usual, place in _MARKS:
        if head.startswith(mark) and place not in tried:
            fits = next((each for each in formats if place in _BY_FORMAT.get(each, ())), usual)
            tried.add(place)
            yield fits, _load(place)
    for each in formats:
        for place in _BY_FORMAT.get(each, ()):
            if place not in tried:
                tried.add(place)
                yield each, _load(place)
        if each not in _BY_FORMAT and class_of(each) == "code" and "text.repair" not in tried:
            tried.add("text.repair")
            yield each, _load("text.repair")


def is_known(name: str, found: str | None) -> bool:
    """Whether anything repairs a format."""
    claimed = format_of_extension(extension_of(name))
    return any(each in _BY_FORMAT or class_of(each) == "code" for each in (found, claimed) if each)


def _load(place: str) -> Repairer:
    module, _, name = place.rpartition(".")
    made: Repairer = getattr(importlib.import_module(f"rustfern.repair.{module}"), name)
    return made
