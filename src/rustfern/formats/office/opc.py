"""Packages of parts: content types, relationships, which parts they lead to, and the document's own properties.

Source: ECMA-376 part 2 (6.2 parts and their types, 6.5 relationships, 8.3 core properties).
"""

from __future__ import annotations

import posixpath
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from functools import lru_cache
from urllib.parse import unquote
from xml.parsers import expat

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.formats.archives import zip as zips
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.formats.interface import Reading
from rustfern.formats.office import xml_parts

MAIN = {
    "application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml": "docx",
    "application/vnd.ms-word.document.macroEnabled.main+xml": "docm",
    "application/vnd.openxmlformats-officedocument.wordprocessingml.template.main+xml": "dotx",
    "application/vnd.ms-word.template.macroEnabledTemplate.main+xml": "dotm",
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml": "xlsx",
    "application/vnd.ms-excel.sheet.macroEnabled.main+xml": "xlsm",
    "application/vnd.openxmlformats-officedocument.spreadsheetml.template.main+xml": "xltx",
    "application/vnd.ms-excel.template.macroEnabled.main+xml": "xltm",
    "application/vnd.ms-excel.addin.macroEnabled.main+xml": "xlam",
    "application/vnd.ms-excel.sheet.binary.macroEnabled.main": "xlsb",
    "application/vnd.openxmlformats-officedocument.presentationml.presentation.main+xml": "pptx",
    "application/vnd.ms-powerpoint.presentation.macroEnabled.main+xml": "pptm",
    "application/vnd.openxmlformats-officedocument.presentationml.slideshow.main+xml": "ppsx",
    "application/vnd.ms-powerpoint.slideshow.macroEnabled.main+xml": "ppsx",
    "application/vnd.openxmlformats-officedocument.presentationml.template.main+xml": "potx",
    "application/vnd.ms-powerpoint.template.macroEnabled.main+xml": "potm",
    "application/vnd.ms-powerpoint.addin.macroEnabled.main+xml": "ppam",
    "application/vnd.ms-visio.drawing.main+xml": "vsdx",
    "application/vnd.ms-visio.drawing.macroEnabled.main+xml": "vsdm",
    "application/vnd.ms-visio.stencil.main+xml": "vssx",
    "application/vnd.ms-visio.stencil.macroEnabled.main+xml": "vssm",
    "application/vnd.ms-visio.template.main+xml": "vstx",
    "application/vnd.ms-visio.template.macroEnabled.main+xml": "vstm",
    "application/vnd.ms-package.3dmanufacturing-3dmodel+xml": "3mf",
    "application/vnd.ms-package.xps-fixeddocumentsequence+xml": "xps",
}
_THEME = "application/vnd.openxmlformats-officedocument.themeManager+xml"
_MAIN_PARTS = frozenset(
    {"word/document.xml", "xl/workbook.xml", "xl/workbook.bin", "ppt/presentation.xml", "visio/document.xml"}
)
PACKAGES = frozenset(MAIN.values())
"""The formats that are such packages."""
# The relationship that names the main part, by kind of package.
_ROOTS = ("/officeDocument", "/document", "/3dmodel", "/fixedrepresentation")
_MAX_KEPT_PARTS, MAX_KEPT_BYTES = 512, 1 << 15
"""Parts kept with what they say, and bytes of each at most: no large part stays in memory."""
TYPES = "[Content_Types].xml"
_CORE = ("title", "creator", "lastModifiedBy", "created", "modified", "revision")


# Documents of one program share these parts to the byte: what they say is worked out once.
@lru_cache(_MAX_KEPT_PARTS)
def _types(data: bytes) -> tuple[Mapping[str, str], Mapping[str, str]]:
    """Content types by part and by extension, both in small letters."""
    overrides: dict[str, str] = {}
    defaults: dict[str, str] = {}

    def see(tag: str, attributes: xml_parts.Attributes) -> None:
        if tag == "Override":
            overrides[attributes.get("PartName", "").lstrip("/").casefold()] = attributes.get("ContentType", "")
        elif tag == "Default":
            defaults[attributes.get("Extension", "").casefold()] = attributes.get("ContentType", "")

    xml_parts.run([data], xml_parts.Elements(see), TYPES)
    return overrides, defaults


@lru_cache(_MAX_KEPT_PARTS)
def _links(data: bytes, rels: str) -> Sequence[tuple[str, str]]:
    """(type, part) of each relationship of a part that points inside the package."""
    folder = posixpath.dirname(posixpath.dirname(rels))
    found: list[tuple[str, str]] = []

    def see(tag: str, attributes: xml_parts.Attributes) -> None:
        target = attributes.get("Target", "")
        if tag != "Relationship" or attributes.get("TargetMode") == "External":
            return
        target = target.partition("#")[0]
        if target and target != "NULL":
            path = target.lstrip("/") if target.startswith("/") else posixpath.join(folder, target)
            found.append((attributes.get("Type", ""), unquote(posixpath.normpath(path))))

    xml_parts.run([data], xml_parts.Elements(see), rels)
    return found


def idents(data: bytes, rels: str) -> dict[str, str]:
    """Relationship id → part."""
    folder = posixpath.dirname(posixpath.dirname(rels))
    found: dict[str, str] = {}

    def see(tag: str, attributes: xml_parts.Attributes) -> None:
        if tag == "Relationship":
            target = attributes.get("Target", "")
            path = target.lstrip("/") if target.startswith("/") else posixpath.join(folder, target)
            found[attributes.get("Id", "")] = unquote(posixpath.normpath(path))

    xml_parts.run([data], xml_parts.Elements(see), rels)
    return found


class Package:
    """The parts of one package and what they say of each other; each part of relationships is read once."""

    def __init__(self, archive: zips.Archive) -> None:
        self.archive = archive
        self.read: dict[str, Sequence[tuple[str, str]]] = {}
        self.named = {
            name.casefold(): name for name in archive.members
        }  # part names know no case (ECMA-376-2, 6.2.2.3)
        self._overrides: Mapping[str, str] = {}
        self._defaults: Mapping[str, str] = {}

    def kind(self) -> tuple[str, str | None]:
        """The name of the main part and the format that its content type tells."""
        if TYPES.casefold() not in self.named:
            raise Malformed(f"the part {TYPES} is missing")
        data = self.archive.bytes_of(self.named[TYPES.casefold()])
        types = _types(data) if len(data) <= MAX_KEPT_BYTES else _types.__wrapped__(data)
        self._overrides, self._defaults = types
        if "_rels/.rels" not in self.named:
            raise Malformed("the part _rels/.rels is missing")
        named = self.targets("_rels/.rels")
        main = next((part for root in _ROOTS for kind, part in named if kind.endswith(root)), None)
        if main is None:
            raise Malformed("no part is named as the document itself")
        return main, MAIN.get(self.type_of(main) or "")

    def is_office(self, name: str) -> bool:
        """Whether this should be an office document: by its name, by the types of its parts, or by one that only these have. A theme holds such
        parts too, and is none.
        """
        if format_of_extension(extension_of(name)) in PACKAGES or not _MAIN_PARTS.isdisjoint(self.named):
            return True
        try:
            main, _ = self.kind()
        except Malformed:
            return not MAIN.keys().isdisjoint(self._overrides.values())
        if self.type_of(main) == _THEME:
            return False
        return not MAIN.keys().isdisjoint((*self._overrides.values(), *self._defaults.values()))

    def type_of(self, part: str) -> str | None:
        """The content type of a part, None if it has none."""
        small = part.casefold()
        return self._overrides.get(small) or self._defaults.get(posixpath.basename(small).rpartition(".")[2])

    def reached(self) -> set[str]:
        """The parts that relationships lead to, from the package's own on: no other is loaded (ECMA-376-2, 6.5.2). Raises `Malformed` for one
        that is named but not there, or has no content type (6.2.3.3) in a list of them that is whole.
        """
        found: set[str] = set()
        waiting = ["_rels/.rels"]
        while waiting:
            rels = waiting.pop()
            for _, target in self.targets(rels):
                part = self.named.get(target.casefold())
                if part is None:
                    raise Malformed(f"part {target}, which {rels} names, is missing")
                if part in found:
                    continue
                if self.type_of(part) is None and self.type_of("_rels/.rels") is not None:
                    raise Malformed(f"part {part} has no content type: {TYPES} names none for it")
                found.add(part)
                inner = self.named.get(rels_of(part).casefold())
                if inner is not None:
                    found.add(inner)
                    waiting.append(inner)
        return found

    def targets(self, rels: str) -> Sequence[tuple[str, str]]:
        """(type, part) of each relationship that points inside the package."""
        if rels in self.read:
            return self.read[rels]
        data = self.archive.bytes_of(self.named.get(rels.casefold(), rels))
        found = _links(data, rels) if len(data) <= MAX_KEPT_BYTES else _links.__wrapped__(data, rels)
        self.read[rels] = found
        return found

    def core_part(self) -> str:
        """The part of the document's own properties, empty if there is none. Raises `Malformed` for more than one (ECMA-376-2, 8.3.4)."""
        found = {part for kind, part in self.targets("_rels/.rels") if kind in _PROPERTIES}
        if len(found) > 1:
            raise Malformed("several parts are named as the document's properties, where there may be one")
        return self.named.get(found.pop().casefold(), "") if found else ""

    def core(self) -> dict[str, str]:
        """The document's own properties."""
        core = self.core_part()
        values = xml_parts.Collect(_CORE)
        if core in self.archive.members:
            xml_parts.run(self.archive.read(self.archive.members[core]), values, core)
        return values.values


def other_package(archive: zips.Archive) -> Reading:
    """A package of parts that is no office document: themes, add-ins of programs, other programs' documents."""
    for member in (*archive.members.values(), *archive.repeated):
        for _ in archive.read(member):
            pass
    reason = (
        f"read to the end: the sums of all {len(archive.members)} members fit; a package of a kind that is not known"
    )
    return Reading(Glance(format="zip"), State.INTACT, reason, {"members": len(archive.members)}, has_text=False)


def rels_of(part: str) -> str:
    folder, name = posixpath.split(part)
    return posixpath.join(folder, "_rels", f"{name}.rels")


_PROPERTIES = (
    "http://schemas.openxmlformats.org/package/2006/relationships/metadata/core-properties",
    "http://purl.oclc.org/ooxml/package/relationships/metadata/core-properties",
)
"""Some programs name a second part by a type that only looks like it."""
_TERMS, _INSTANCE = "http://purl.org/dc/terms/ ", "http://www.w3.org/2001/XMLSchema-instance type"
_COMPATIBILITY, _LANGUAGE = (
    "http://schemas.openxmlformats.org/markup-compatibility/",
    "http://www.w3.org/XML/1998/namespace lang",
)
_DATED = (_TERMS + "created", _TERMS + "modified")


def check_properties(data: bytes, part: str) -> None:
    """Raises `Malformed` for what core properties must not hold, as programs refuse the document then (ECMA-376-2, 8.3.4)."""
    seen: set[str] = set()

    def start(name: str, attributes: Mapping[str, str]) -> None:
        fault = ""
        if any(each.startswith(_COMPATIBILITY) for each in (name, *attributes)):
            fault = "uses markup for compatibility"
        elif name in seen and not name.endswith((" value", " keywords")):
            fault = "is there twice"
        elif name.startswith(_TERMS) and name not in _DATED:
            fault = "is none of the terms that are allowed"
        elif (name in _DATED) != (_INSTANCE in attributes) or not attributes.get(_INSTANCE, ":W3CDTF").endswith(
            ":W3CDTF"
        ):
            fault = "has a wrong type, or none"
        elif _LANGUAGE in attributes and not name.endswith((" value", " keywords")):
            fault = "names a language"
        if fault:
            raise Malformed(f"property {name.rpartition(' ')[2]} in part {part} {fault}")
        seen.add(name)

    parser = expat.ParserCreate(namespace_separator=" ")
    parser.StartElementHandler = start
    with suppress(expat.ExpatError):  # said where the part is read as XML
        parser.Parse(data, True)


def check_names(names: Iterable[str]) -> None:
    """Raises `Malformed` for a part whose name goes on from that of another part (ECMA-376-2, 6.2.2.3)."""
    parts = {name.casefold() for name in names if not name.endswith("/")}
    for name in sorted(parts):
        folder = posixpath.dirname(name)
        while folder:
            if folder in parts:
                raise Malformed(f"part {name} is named as if it lay in part {folder}")
            folder = posixpath.dirname(folder)
