"""How each format begins, and what measures it: all beginnings are sought at once."""

from __future__ import annotations

import importlib
import re
from functools import cache
from typing import NamedTuple

from rustfern.formats.extents.interface import Bytes, Measure, Reach


class Beginning(NamedTuple):
    """The bytes that documents of a family begin with, `at` a place from their first byte; `measure` is the function below this package;
    `name` a file name that helps the check where bytes alone do not tell.
    """

    mark: bytes
    measure: str
    name: str
    at: int = 0


SWAP = "find.swp"
"""Stands for an editor's swap file: no document by itself, but the text of one can be rebuilt from it."""
_B = Beginning
BEGINNINGS: tuple[Beginning, ...] = (
    _B(b"PK\x03\x04", "zip_packages.measure", "find.zip"),
    _B(b"PK\x07\x08PK\x03\x04", "zip_packages.measure", "find.zip"),
    _B(b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "compound.measure", "find"),
    _B(b"%PDF-", "pdf.measure", "find.pdf"),
    _B(b"\x89PNG\r\n\x1a\n", "pictures.png", "find.png"),
    _B(b"\xff\xd8\xff", "pictures.jpeg", "find.jpg"),
    _B(b"GIF87a", "pictures.gif", "find.gif"),
    _B(b"GIF89a", "pictures.gif", "find.gif"),
    _B(b"II*\0", "pictures.tiff", "find.tif"),
    _B(b"MM\0*", "pictures.tiff", "find.tif"),
    _B(b"II+\0", "pictures.tiff", "find.tif"),
    _B(b"MM\0+", "pictures.tiff", "find.tif"),
    _B(b"BM", "pictures.bmp", "find.bmp"),
    _B(b"8BPS", "pictures.layered", "find.psd"),
    _B(b"RIFF", "media.riff", "find"),
    _B(b"RF64", "media.riff", "find.wav"),
    _B(b"RIFX", "media.iff", "find"),
    _B(b"FORM", "media.iff", "find.aiff"),
    _B(b"ID3", "media.mp3", "find.mp3"),
    *(_B(b"\xff" + bytes([second]), "media.mp3", "find.mp3") for second in (0xFB, 0xFA, 0xF3, 0xF2, 0xE3, 0xE2)),
    *(_B(b"\xff" + bytes([second]), "media.aac", "find.aac") for second in (0xF0, 0xF1, 0xF8, 0xF9)),
    _B(b"fLaC", "media.flac", "find.flac"),
    _B(b"OggS", "media.ogg", "find.ogg"),
    _B(b"\x1aE\xdf\xa3", "media.matroska", "find.mkv"),
    _B(b"\x30\x26\xb2\x75\x8e\x66\xcf\x11", "media.asf", "find.wmv"),
    _B(b"FLV\x01", "media.flv", "find.flv"),
    *(_B(kind, "media.boxes", "find.mp4", 4) for kind in (b"ftyp", b"moov", b"mdat", b"wide", b"skip", b"free", b"pnot")),
    _B(b"SQLite format 3\0", "others.sqlite", "find.sqlite"),
    _B(b"7z\xbc\xaf\x27\x1c", "others.sevenzip", "find.7z"),
    _B(b"\x1f\x8b\x08", "others.gzip", "find.gz"),
    _B(b"\xfd7zXZ\0", "others.xz", "find.xz"),
    _B(b"BZh", "others.bzip2", "find.bz2"),
    _B(b"star", "others.tar", "find.tar", 258),
    _B(b"\xc5\xd0\xd3\xc6", "others.eps_with_preview", "find.eps"),
    _B(b"Binary DXF\r\n\x1a\0", "others.binary_drawing", "find.dxf", 8),
    _B(b"b0VIM ", "editors.swap", SWAP),
    _B(b"{\\rtf", "texts.text", "find.rtf"),
    _B(b"<?xml ", "texts.text", "find.xml"),
    _B(b"<!DOCTYPE ", "texts.text", "find.xml"),
    _B(b"<html", "texts.text", "find.html"),
    _B(b"<svg ", "texts.text", "find.svg"),
    _B(b"%!PS", "texts.text", "find.eps"),
    _B(b"From ", "texts.text", "find.mbox"),
    *(_B(blank + b"0" + end + b"SECTION", "texts.text", "find.dxf") for blank in (b"", b"  ") for end in (b"\n", b"\r\n")),
)  # fmt: skip
TEXT = Beginning(b"", "texts.text", "find.txt")
"""What stands for every text: told by the letters that it begins with."""
_NAMES = (
    (re.compile(rb"\{\\rtf"), "find.rtf"),
    (re.compile(rb"%!PS"), "find.eps"),
    (re.compile(rb"[^\0]*<(?:[\w.-]+:)?svg[\s>]", re.IGNORECASE), "find.svg"),
    (re.compile(rb"(?:\xef\xbb\xbf)?\s*<(?:!DOCTYPE\s+html|html[\s>])", re.IGNORECASE), "find.html"),
    (re.compile(rb"(?:\xef\xbb\xbf)?\s*<\?xml\s"), "find.xml"),
    (re.compile(rb"(?:\xef\xbb\xbf)?\s*[\[{]\s*[\"\[{\]}]"), "find.json"),
    (re.compile(rb"\s*0\r?\n\s*SECTION\r?\n"), "find.dxf"),
    (re.compile(rb"From \S+ .*\d\d:\d\d"), "find.mbox"),
)
"""What texts of a kind begin with, and a name of that kind."""


@cache
def measurer(name: str) -> Measure:
    """What measures a family of formats; its module is loaded when the first one is met."""
    module, _, function = name.rpartition(".")
    found: Measure = getattr(importlib.import_module(f"rustfern.formats.extents.{module}"), function)
    return found


def beginnings_of(head: bytes) -> list[Beginning]:
    """The families that bytes may begin, those with the longest mark first."""
    found = [each for each in BEGINNINGS if head[each.at : each.at + len(each.mark)] == each.mark]
    return sorted(found, key=lambda each: -len(each.mark))


def measured(data: Bytes, head: bytes, *, is_text: bool = False) -> tuple[Beginning, Reach] | None:
    """How far the document reaches that begins with the first byte, the first family that recognises it; None if none does."""
    for each in beginnings_of(head):
        if each.measure == TEXT.measure:
            is_text = True
            continue
        reach = measurer(each.measure)(data)
        if reach is not None:
            return each, reach
    if is_text:
        reach = measurer(TEXT.measure)(data)
        if reach is not None:
            name = next((name for mark, name in _NAMES if mark.match(head)), TEXT.name)
            return TEXT._replace(name=name), reach
    return None
