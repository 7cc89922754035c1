"""Formats that are recognised by their first bytes, but whose inside is not verified: said so, never called intact.

Sources: the signatures in each format's specification
(ISO 32000-1 7.5.2, W3C PNG 5.2, ITU T.81 B.1.1.3, GIF89a 17, TIFF 6.0 section 2, RFC 1952, SQLite file format 1.3).
"""

from __future__ import annotations

import importlib
from collections.abc import Callable
from typing import BinaryIO

from rustfern.core.model import Glance, State
from rustfern.formats.format_table import title_of
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import TextSink

_MAGIC: tuple[tuple[int, bytes, str], ...] = (
    (0, b"%PDF-", "pdf"),
    (0, b"\x89PNG\r\n\x1a\n", "png"),
    (0, b"\xff\xd8\xff", "jpg"),
    (0, b"GIF87a", "gif"),
    (0, b"GIF89a", "gif"),
    (0, b"II*\0", "tiff"),
    (0, b"MM\0*", "tiff"),
    (0, b"II+\0", "tiff"),
    (0, b"MM\0+", "tiff"),
    (8, b"AIFF", "aiff"),
    (8, b"AIFC", "aiff"),
    (4, b"moov", "mov"),
    (4, b"mdat", "mov"),
    (4, b"wide", "mov"),
    (4, b"skip", "mov"),
    (4, b"free", "mov"),
    (8, b"WEBP", "webp"),
    (0, b"8BPS", "psd"),
    (0, b"{\\rtf", "rtf"),
    (0, b"SQLite format 3\0", "sqlite"),
    (0, b"\x1f\x8b", "gz"),
    (0, b"7z\xbc\xaf\x27\x1c", "7z"),
    (0, b"\xfd7zXZ\0", "xz"),
    (0, b"BZh", "bz2"),
    (257, b"ustar", "tar"),
    (0, b"AC10", "dwg"),
    (7, b" Binary DXF\r\n\x1a\0", "dxf"),
    (8, b"WAVE", "wav"),
    (0, b"fLaC", "flac"),
    (0, b"OggS", "ogg"),
    (0, b"ID3", "mp3"),
    (4, b"ftypqt", "mov"),
    (4, b"ftyp", "mp4"),
    (0, b"\x1a\x45\xdf\xa3", "mkv"),
    (0, b"gimp xcf", "xcf"),
    (0, b"BLENDER", "blend"),
    (0, b"\x06\x06\xed\xf5\xd8\x1d\x46\xe5", "indd"),
    (4, b"Standard ACE DB", "accdb"),
    (4, b"Standard Jet DB", "accdb"),
    (0, b"%!PS", "eps"),
)


def format_of_magic(head: bytes) -> str | None:
    """The format whose signature the first bytes carry."""
    found = next((name for at, magic, name in _MAGIC if head[at : at + len(magic)] == magic), None)
    if found is None and head[:2] == b"BM" and head[6:10] == bytes(4):
        return "bmp"
    if found is None and len(head) > 6 and head[0] == 0xFF and head[1] & 0xF6 == 0xF0 and head[2] >> 2 & 15 < 13:
        return "aac"
    if found is None and len(head) > 3 and head[0] == 0xFF and head[1] in (0xFB, 0xFA, 0xF3, 0xF2):
        return "mp3"
    return found


_READERS = {
    "pdf": "pages.pdf",
    "png": "images.png",
    "jpg": "images.jpeg",
    "gif": "images.raster",
    "bmp": "images.raster",
    "webp": "images.raster",
    "psd": "images.raster",
    "tiff": "images.tiff",
    "rtf": "office.rtf",
    "mp4": "media.mp4",
    "mov": "media.mp4",
    "wav": "media.audio",
    "aiff": "media.audio",
    "flac": "media.flac",
    "ogg": "media.audio",
    "mp3": "media.audio",
    "mkv": "media.audio",
    "xz": "archives.compressed",
    "bz2": "archives.compressed",
    "tar": "archives.compressed",
    "7z": "archives.sevenzip",
    "eps": "archives.compressed",
    "dwg": "drawings.dwg_dxf",
    "dxf": "drawings.dwg_dxf",
    "aac": "media.audio",
    "xcf": "images.xcf",
}
"""Which module reads a format to its end; each is imported only when a file of its kind is there."""


class SignatureOnly:
    """Told by the first bytes; most are read to the end by a module of their own, the others are known by signature only."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.5 if format_of_magic(head) else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        return Glance(format=format_of_magic(stream.read(300)))

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        glance = self.glance(stream, size, name)
        if (module := _READERS.get(glance.format or "")) is not None:
            stream.seek(0)
            read: Callable[[BinaryIO, int, str, TextSink, Limits], Reading]
            read = importlib.import_module(f"rustfern.formats.{module}").check
            return read(stream, size, name, sink, limits)
        reason = f"recognised as {title_of(glance.format)}, whose inside this version cannot verify: open a restored copy to see"
        return Reading(glance, State.UNREADABLE, reason, has_text=False)
