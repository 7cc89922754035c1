"""ZIP packages that are no office document: books, paintings, models, scores, drawings, plain archives.

Source: EPUB 3.3 (OCF: 4.2 container.xml and mimetype; package document: manifest), OpenRaster baseline 0.0.5 (stack.xml), the published
layouts of Krita (maindoc.xml), FreeCAD (Document.xml and the files that it names) and MuseScore (container.xml) documents.
"""

from __future__ import annotations

import posixpath
from collections.abc import Callable
from typing import BinaryIO
from urllib.parse import unquote

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.formats.archives import zip as zips
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.formats.interface import DEFAULT_LIMITS, Format, Limits, Reading
from rustfern.formats.office import xml_parts
from rustfern.formats.office.embedded import check_member
from rustfern.formats.office.odf import Odf, declared_type
from rustfern.formats.office.ooxml import Ooxml
from rustfern.formats.office.opc import PACKAGES
from rustfern.formats.text_sink import TextSink

_TYPES = "[content_types].xml"
_CONTAINER = "META-INF/container.xml"
_MEDIA_TYPES = {b"application/epub+zip": "epub", b"application/x-krita": "kra", b"image/openraster": "ora"}
_XML = (".xml", ".opf", ".ncx", ".xhtml", ".rdf", ".qgs", ".mscx", ".svg")
_PAGES = (".xhtml", ".html", ".htm")
# What each kind cannot be without.
_NEEDED = {
    "epub": (_CONTAINER,),
    "kra": ("maindoc.xml",),
    "ora": ("stack.xml",),
    "fcstd": ("Document.xml",),
    "mscz": (_CONTAINER,),
}


_PACKAGES: tuple[tuple[type[Ooxml | Odf], frozenset[str], tuple[str, ...]], ...] = (
    (Ooxml, PACKAGES, ("word/", "xl/", "ppt/", "visio/", "3D/", "_rels/")),
    (Odf, frozenset({"odt", "ods", "odp", "odg", "ott", "ots", "otp", "odf"}), ("content.xml", "META-INF/manifest.xml", "styles.xml")),
)  # fmt: skip
"""Office documents by their reader, their formats, and parts that only they have."""


class _Pages(xml_parts.Handler):
    """The paragraphs of a book's page."""

    _BLOCKS = frozenset({"p", "h1", "h2", "h3", "h4", "h5", "h6", "li", "td", "th", "dt", "dd", "pre", "div", "title"})
    wanted = _BLOCKS | {"script", "style", "br"}
    looked_at = frozenset()

    def __init__(self, sink: TextSink) -> None:
        self._sink = sink
        self._text: list[str] = []
        self._hidden = self._level = 0

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        if tag in ("script", "style"):
            self._hidden += 1
        elif tag != "br":
            self._flush()
            self._level = int(tag[1]) if tag[0] == "h" and tag[1:].isdigit() else 0
        else:
            self._text.append(" ")

    def end(self, tag: str) -> None:
        if tag in ("script", "style"):
            self._hidden -= 1
        elif tag != "br":
            self._flush()

    def text(self, text: str) -> None:
        if not self._hidden:
            self._text.append(text)

    def _flush(self) -> None:
        if self._text:
            self._sink.add("".join(self._text), "heading" if self._level else "text", self._level)
            self._text.clear()
        self._level = 0


def _kind(archive: zips.Archive, name: str) -> str:
    members = archive.members
    if "mimetype" in members and (kind := _MEDIA_TYPES.get(archive.bytes_of("mimetype", 1000).strip())):
        return kind
    if _CONTAINER in members and any(member.casefold().endswith(".opf") for member in members):
        return "epub"
    claimed = extension_of(name)
    if "Document.xml" in members and (claimed == "fcstd" or "GuiDocument.xml" in members):
        return "fcstd"
    if claimed == "mscz" and _CONTAINER in members:
        return "mscz"
    if claimed == "qgz" and any(member.endswith(".qgs") for member in members):
        return "qgz"
    if {"maindoc.xml", "documentinfo.xml"} <= members.keys():
        return "ksp"
    if "content/riffData.cdr" in members or "content/root.dat" in members:
        return "cdr"
    return "fcstd" if "Document.xml" in members else "zip"


class PlainZip:
    """ZIP archives that are no office document."""

    def score(self, head: bytes, tail: bytes) -> float:
        if head[:4] in (b"PK\x03\x04", b"PK\x05\x06"):
            return 0.6
        # Bytes in front of an archive are allowed: its directory is found from the end.
        return 0.4 if b"PK\x05\x06" in tail and head[:4] != bytes(4) else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        archive = zips.Archive(stream, size, DEFAULT_LIMITS)
        family = self._document(archive)
        return family.glance(stream, size, name) if family else Glance(format=_kind(archive, name))

    @staticmethod
    def _document(archive: zips.Archive) -> Format | None:
        """Office documents whose first member does not show what they are: unusual, but valid for most readers."""
        if any(member.casefold() == _TYPES for member in archive.members):
            return Ooxml()
        return Odf() if declared_type(archive) else None

    @staticmethod
    def _claimed(archive: zips.Archive, name: str) -> Format | None:
        """The office document that an archive without its list of types should be: by its name and by one of its parts, or if it is empty."""
        for family, format_names, parts in _PACKAGES:
            if format_of_extension(extension_of(name)) in format_names and (
                not archive.members or any(member.startswith(parts) for member in archive.members)
            ):
                if not archive.members:
                    raise Malformed("nothing is in it: an empty archive, no document")
                return family()
        return None

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        archive = zips.Archive(stream, size, limits)
        if (family := self._document(archive) or self._claimed(archive, name)) is not None:
            return family.check(stream, size, name, sink, limits)
        if any(member.encrypted for member in archive.members.values()):
            said = "its members are protected by a password"
            return Reading(Glance(format="zip"), State.ENCRYPTED, said, has_text=False)
        kind = _kind(archive, name)
        for needed in _NEEDED.get(kind, ()):
            if needed not in archive.members:
                raise Malformed(f"the part {needed} is missing")
        values: dict[str, str] = {}
        if kind == "zip":
            for member in (*archive.members.values(), *archive.repeated):
                for _ in archive.read(member):
                    pass
        else:
            archive.each_once()
            values = _package(archive, kind, sink)
        count = len(archive.members) + len(archive.repeated)
        amounts = {"members": count}
        whole = "" if kind == "zip" else ", what it names is there"
        again = f"; {archive.repeated[0].name} is there more than once" if archive.repeated else ""
        reason = f"read to the end: the sums of all {count} members fit{whole}{again}"
        glance = Glance(format=kind, title=values.get("title") or None, author=values.get("creator") or None)
        return Reading(glance, State.INTACT, reason, amounts, has_text=kind == "epub")


def _package(archive: zips.Archive, kind: str, sink: TextSink) -> dict[str, str]:
    """Read every member; XML must be well-formed, pictures whole, and what is named must exist."""
    named: list[tuple[str, str]] = []
    values = xml_parts.Collect(("title", "creator"))
    for member in archive.members.values():
        lower = member.name.casefold()
        chunks = archive.read(member)
        if member.is_shadow:
            for _ in chunks:
                pass
        elif kind == "epub" and lower.endswith(_PAGES) and member.size:
            xml_parts.run(chunks, _Pages(sink), member.name)
        elif lower.endswith(_XML) and member.size:
            if kind == "epub" and lower.endswith(".opf"):
                data = b"".join(chunks)
                xml_parts.run([data], xml_parts.Elements(_names(member.name, named)), member.name)
                xml_parts.run([data], values, member.name)
            else:
                xml_parts.run(chunks, xml_parts.Elements(_names(member.name, named)), member.name)
        else:
            check_member(chunks, member.name, member.size)
    for target, by in named:
        if target not in archive.members:
            raise Malformed(f"part {target}, which {by} names, is missing")
    return values.values


def _names(part: str, named: list[tuple[str, str]]) -> Callable[[str, xml_parts.Attributes], None]:
    """Collects what a part names by the rules of its kind: rootfiles, items of a book, layers, files of properties."""
    folder = posixpath.dirname(part)
    lower = part.casefold()

    def see(tag: str, attributes: xml_parts.Attributes) -> None:
        target = ""
        if part == _CONTAINER and tag == "rootfile":
            target = unquote(attributes.get("full-path", ""))
        elif lower.endswith(".opf") and tag == "item":
            href = unquote(attributes.get("href", "")).partition("#")[0]
            target = posixpath.normpath(posixpath.join(folder, href)) if href and "://" not in href else ""
        elif part == "stack.xml" and tag == "layer":
            target = attributes.get("src", "")
        elif part in ("Document.xml", "GuiDocument.xml"):
            target = attributes.get("file", "")
        if target:
            named.append((target, part))

    return see
