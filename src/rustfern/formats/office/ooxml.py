"""OOXML packages: texts, workbooks (binary ones among them), presentations, diagrams.

Source: ECMA-376 part 2 (packages: content types, relationships) and part 1 (WordprocessingML 17.3.3 w:t, SpreadsheetML
18.3.1.4 cells, DrawingML a:t); [MS-XLSB] for binary workbooks.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import lru_cache
from typing import BinaryIO
from urllib.parse import unquote
from xml.parsers import expat

from msgspec.structs import replace

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.core.times import iso
from rustfern.formats import identity as marks
from rustfern.formats.archives import zip as zips
from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.formats.interface import DEFAULT_LIMITS, Limits, Reading
from rustfern.formats.office import xlsb, xml_parts
from rustfern.formats.office.embedded import BLANK, check_member, is_blank
from rustfern.formats.office.ooxml_text import Cells, PlainStrings, PlainText, ShownStory, Story, Strings, Styles
from rustfern.formats.text_sink import Texts, TextSink

_MAIN = {
    "application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml": "docx",
    "application/vnd.ms-word.document.macroEnabled.main+xml": "docm",
    "application/vnd.openxmlformats-officedocument.wordprocessingml.template.main+xml": "dotx",
    "application/vnd.ms-word.template.macroEnabledTemplate.main+xml": "dotm",
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml": "xlsx",
    "application/vnd.ms-excel.sheet.macroEnabled.main+xml": "xlsm",
    "application/vnd.openxmlformats-officedocument.spreadsheetml.template.main+xml": "xltx",
    "application/vnd.ms-excel.template.macroEnabled.main+xml": "xltm",
    "application/vnd.ms-excel.sheet.binary.macroEnabled.main": "xlsb",
    "application/vnd.openxmlformats-officedocument.presentationml.presentation.main+xml": "pptx",
    "application/vnd.ms-powerpoint.presentation.macroEnabled.main+xml": "pptm",
    "application/vnd.openxmlformats-officedocument.presentationml.slideshow.main+xml": "ppsx",
    "application/vnd.ms-powerpoint.slideshow.macroEnabled.main+xml": "ppsx",
    "application/vnd.openxmlformats-officedocument.presentationml.template.main+xml": "potx",
    "application/vnd.ms-powerpoint.template.macroEnabled.main+xml": "potm",
    "application/vnd.ms-visio.drawing.main+xml": "vsdx",
    "application/vnd.ms-visio.drawing.macroEnabled.main+xml": "vsdm",
    "application/vnd.ms-visio.stencil.main+xml": "vssx",
    "application/vnd.ms-visio.template.main+xml": "vstx",
    "application/vnd.ms-package.3dmanufacturing-3dmodel+xml": "3mf",
    "application/vnd.ms-package.xps-fixeddocumentsequence+xml": "xps",
}
_MAIN_PARTS = frozenset(
    {"word/document.xml", "xl/workbook.xml", "xl/workbook.bin", "ppt/presentation.xml", "visio/document.xml"}
)
PACKAGES = frozenset(_MAIN.values())
"""The formats that are such packages."""
# The relationship that names the main part, by kind of package.
_ROOTS = ("/officeDocument", "/document", "/3dmodel", "/fixedrepresentation")
_XML = (".xml", ".rels", ".model", ".fdseq", ".fdoc", ".fpage")
_MAX_KEPT_PARTS, _MAX_KEPT_BYTES = 512, 1 << 15
"""Parts kept with what they say, and bytes of each at most: no large part stays in memory."""
_MAX_LOST = 4 << 20
_STRICT = "http://purl.oclc.org/ooxml/"
_TYPES = "[Content_Types].xml"
_TIMES = "docProps/app.xml"
_CORE = ("title", "creator", "lastModifiedBy", "created", "modified", "revision")
_NUMBERED = re.compile(r"(\d+)")
_STORY = re.compile(r"(?:document|footnotes|endnotes)\d*\.xml", re.IGNORECASE)
_SHEET = re.compile(r"(?:^|/)(?:work)?sheets/[^/]+\.(?:xml|bin)$", re.IGNORECASE)
_SLIDE = re.compile(r"(?:^|/)slides/[^/]+\.xml$", re.IGNORECASE)
_CHAIN = {
    "slide": (_SLIDE, "/slideLayout"),
    "layout": (re.compile(r"/slideLayouts/[^/]+\.xml$", re.IGNORECASE), "/slideMaster"),
    "notes page": (re.compile(r"/notesSlides/[^/]+\.xml$", re.IGNORECASE), "/slide"),
    "notes master": (re.compile(r"/notesMasters/[^/]+\.xml$", re.IGNORECASE), "/theme"),
    "master": (re.compile(r"/slideMasters/[^/]+\.xml$", re.IGNORECASE), "/theme"),
}
_LINK = re.compile(rb' r:(?:id|embed|link|pict)="([\w-]+)"')
_SLIDE_ID = re.compile(rb"<(?:\w+:)?sldId\b[^>]*?\s\w+:id=[\"'](\w+)[\"']")
_PAGE = re.compile(r"(?:^|/)pages/page\d+\.xml$", re.IGNORECASE)


def _natural(name: str) -> list[object]:
    return [int(x) if x.isdigit() else x for x in _NUMBERED.split(name)]


def _glance(format_name: str | None, values: dict[str, str]) -> Glance:
    created, modified = iso(values.get("created", "")), iso(values.get("modified", ""))
    aware = modified if modified and modified.tzinfo else None
    return Glance(
        format=format_name,
        title=values.get("title") or None,
        author=values.get("lastModifiedBy") or values.get("creator") or None,
        created=created if created and created.tzinfo else None,
        modified=aware,
        modified_local=None if aware else modified,
        identity=marks.of_making(created, values.get("creator"), values.get("revision")),
    )


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

    xml_parts.run([data], xml_parts.Elements(see), _TYPES)
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


def _idents(data: bytes, rels: str) -> dict[str, str]:
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


class _Package:
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
        if _TYPES.casefold() not in self.named:
            raise Malformed(f"the part {_TYPES} is missing")
        data = self.archive.bytes_of(self.named[_TYPES.casefold()])
        types = _types(data) if len(data) <= _MAX_KEPT_BYTES else _types.__wrapped__(data)
        self._overrides, self._defaults = types
        if "_rels/.rels" not in self.named:
            raise Malformed("the part _rels/.rels is missing")
        named = self.targets("_rels/.rels")
        main = next((part for root in _ROOTS for kind, part in named if kind.endswith(root)), None)
        if main is None:
            raise Malformed("no part is named as the document itself")
        return main, _MAIN.get(self.type_of(main) or "")

    def is_office(self, name: str) -> bool:
        """Whether this should be an office document: by its name, by the types of its parts, or by one that only these have."""
        if format_of_extension(extension_of(name)) in PACKAGES or not _MAIN_PARTS.isdisjoint(self.named):
            return True
        try:
            self.kind()
        except Malformed:
            return not _MAIN.keys().isdisjoint(self._overrides.values())
        return not _MAIN.keys().isdisjoint((*self._overrides.values(), *self._defaults.values()))

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
                    raise Malformed(f"part {part} has no content type: {_TYPES} names none for it")
                found.add(part)
                inner = self.named.get(_rels_of(part).casefold())
                if inner is not None:
                    found.add(inner)
                    waiting.append(inner)
        return found

    def targets(self, rels: str) -> Sequence[tuple[str, str]]:
        """(type, part) of each relationship that points inside the package."""
        if rels in self.read:
            return self.read[rels]
        data = self.archive.bytes_of(self.named.get(rels.casefold(), rels))
        found = _links(data, rels) if len(data) <= _MAX_KEPT_BYTES else _links.__wrapped__(data, rels)
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


def _other_package(archive: zips.Archive) -> Reading:
    """A package of parts that is no office document: themes, add-ins of programs, other programs' documents."""
    for member in (*archive.members.values(), *archive.repeated):
        for _ in archive.read(member):
            pass
    reason = (
        f"read to the end: the sums of all {len(archive.members)} members fit; a package of a kind that is not known"
    )
    return Reading(Glance(format="zip"), State.INTACT, reason, {"members": len(archive.members)}, has_text=False)


def _rels_of(part: str) -> str:
    folder, name = posixpath.split(part)
    return posixpath.join(folder, "_rels", f"{name}.rels")


def _implied(package: _Package, main: str, reached: Collection[str]) -> None:
    """Relationships that no part spells out, but programs need (ECMA-376 part 1, 13.3: slide to layout to master to theme); and those of the main
    part, where others lie beside it.
    """
    folder = posixpath.dirname(main)
    if folder and _rels_of(main).casefold() not in package.named:
        others = (
            name for name in package.archive.members if not name.endswith("/") and name.casefold() != main.casefold()
        )
        if any(posixpath.dirname(name) == folder for name in others):
            raise Malformed(f"the part {_rels_of(main)}, which names the others, is missing")
    for name in reached:
        for kind, (pattern, needed) in _CHAIN.items():
            rels = package.named.get(_rels_of(name).casefold(), "")
            if pattern.search(name) and not any(to.endswith(needed) for to, _ in package.read.get(rels, ())):
                raise Malformed(
                    f"the {kind} {name} does not say on which {needed[1:]} it rests: its relationships are missing"
                )


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


def _legal_properties(data: bytes, part: str) -> None:
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


def _derived(names: Iterable[str]) -> None:
    """Raises `Malformed` for a part whose name goes on from that of another part (ECMA-376-2, 6.2.2.3)."""
    parts = {name.casefold() for name in names if not name.endswith("/")}
    for name in sorted(parts):
        folder = posixpath.dirname(name)
        while folder:
            if folder in parts:
                raise Malformed(f"part {name} is named as if it lay in part {folder}")
            folder = posixpath.dirname(folder)


class Ooxml:
    """OOXML packages of every kind."""

    def score(self, head: bytes, tail: bytes) -> float:
        if head[:4] != b"PK\x03\x04":
            return 0.0
        name = head[30 : 30 + int.from_bytes(head[26:28], "little")]
        known = name in (_TYPES.encode(), b"_rels/.rels") or name.startswith((b"word/", b"xl/", b"ppt/", b"docProps/"))
        return 0.9 if known else (0.85 if _TYPES.encode() in tail else 0.0)

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        package = _Package(zips.Archive(stream, size, DEFAULT_LIMITS))
        main, format_name = package.kind()
        settings, workbook, times = marks.Settings(), marks.Workbook(), xml_parts.Collect(("TotalTime",))
        beside = posixpath.join(posixpath.dirname(main), "settings.xml")
        for name, handler in ((beside, settings), (main, workbook), (_TIMES, times)):
            wanted = handler is not workbook or (name.endswith(".xml") and class_of(format_name) == "sheet")
            if wanted and name in package.archive.members:
                xml_parts.run(package.archive.read(package.archive.members[name]), handler, name)
        found = _glance(format_name, package.core())
        carried = (*settings.marks(), *workbook.found, *marks.of_minutes(times.values.get("TotalTime", "")))
        return replace(found, identity=(*carried, *found.identity, *marks.of_members(package.archive.members.values())))

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        archive = zips.Archive(stream, size, limits)
        package = _Package(archive)
        if not package.is_office(name):
            return _other_package(archive)
        archive.each_once()
        main, format_name = package.kind()
        if main.casefold() not in package.named:
            raise Malformed(f"the part {main}, the document itself, is missing")
        if format_name is None:
            raise Malformed(f"the type of part {main} is none that office programs open")
        _derived(archive.members)
        reached = package.reached()
        _implied(package, main, reached)
        amounts: dict[str, int] = {}
        identity = self._read_parts(package, main, reached, sink, amounts)
        if class_of(format_name) == "slides" and (slides := sum(1 for n in archive.members if _SLIDE.search(n))):
            amounts["slides"] = slides
        found = _glance(format_name, package.core())
        glance = replace(found, identity=(*identity, *found.identity, *marks.of_members(archive.members.values())))
        if any(kind.startswith(_STRICT) for kind, _ in package.read["_rels/.rels"]):
            glance = replace(glance, needs="saved in the strict form of OOXML, which many programs do not read")
        if is_blank(format_name, sink, amounts.pop("drawings", 0), archive.members):
            return Reading(glance, State.EMPTY, BLANK, amounts)
        reason = f"read to the end: {len(archive.members)} parts, sums and XML right, nothing missing"
        return Reading(glance, State.INTACT, reason, amounts)

    def _read_parts(
        self, package: _Package, main: str, reached: Collection[str], sink: TextSink, amounts: dict[str, int]
    ) -> marks.Marks:
        """Read every part, those that nothing leads to for their sums alone; gives the identities that they carry."""
        archive = package.archive
        names = sorted(archive.members, key=lambda n: (not n.casefold().endswith("sharedstrings.xml"), _natural(n)))
        strings: Texts | None = None
        binary: Texts | None = None
        base = posixpath.dirname(main)
        settings, workbook, times = marks.Settings(), marks.Workbook(), xml_parts.Collect(("TotalTime",))
        core = package.core_part()
        # A main part without relationships may be one whose list of them nobody wrote: then what lies beside it may be its text.
        alone = _rels_of(main).casefold() not in package.named
        sections, styles = self._structure(package, main) if sink.keeps else ({}, Styles())
        sink.order = {section: at for at, section in enumerate(sections.values())}
        for name in names:
            sink.section = sections.get(name, "")
            if name in package.read or name.casefold() == _TYPES.casefold():
                continue
            member = archive.members[name]
            chunks = archive.read(member)
            lower = name.casefold()
            if name not in reached:
                if alone and member.size <= _MAX_LOST:
                    self._lost(name, b"".join(chunks), sink, strings, amounts)
                for _ in chunks:
                    pass
                continue
            handler: xml_parts.Handler | None = None
            if lower.endswith("sharedstrings.xml"):
                strings = self._shared(package, name)
                continue
            if lower.endswith("sharedstrings.bin"):
                binary = xlsb.shared_strings(chunks)
                continue
            if lower.endswith(".bin") and _SHEET.search(name):
                if binary is None:
                    binary = self._binary_strings(archive)
                xlsb.cells(chunks, binary, sink, amounts, name)
                continue
            needs = (
                lower.endswith(_XML) and not lower.endswith(".rels") and "/theme/" not in lower
            )  # of themes, only decoration
            if needs and _rels_of(name) not in package.read:
                chunks = _without_links(chunks, name)
            if not lower.endswith(_XML) or member.size == 0:
                check_member(chunks, name, member.size)
                continue
            if _SHEET.search(name):
                handler = Cells(sink, strings, amounts, name, styles.dates)
            elif _SLIDE.search(name) or (
                posixpath.dirname(name) == base and _STORY.fullmatch(posixpath.basename(name))
            ):
                handler = ShownStory(sink, amounts, styles.levels) if sink.keeps else Story(sink, amounts)
            elif _PAGE.search(name):
                handler = PlainText(sink)
            elif lower.endswith("word/settings.xml"):
                handler = settings
            elif name == main:
                handler = workbook
            elif name == _TIMES:
                handler = times
            elif name == core and member.size <= _MAX_KEPT_BYTES:
                data = b"".join(chunks)
                _legal_properties(data, name)
                chunks = iter((data,))
            xml_parts.run(chunks, handler, name)
        return (*settings.marks(), *workbook.found, *marks.of_minutes(times.values.get("TotalTime", "")))

    @staticmethod
    def _lost(name: str, data: bytes, sink: TextSink, strings: Texts | None, amounts: dict[str, int]) -> None:
        """Take the text of a part that nothing leads to, where what is wrong in its XML harms nothing; pictures must be whole."""
        if not name.casefold().endswith(_XML):
            check_member([data], name, len(data))
        with suppress(Malformed):
            if _SHEET.search(name) and name.casefold().endswith(".xml"):
                xml_parts.run([data], Cells(sink, strings, amounts, name), name)
            elif _SLIDE.search(name):
                xml_parts.run([data], Story(sink, amounts), name)

    @staticmethod
    def _structure(package: _Package, main: str) -> tuple[dict[str, str], Styles]:
        """What showing needs: the sheet or slide that each part is, in order, and the styles. Damage is left to the reading of the parts."""
        sections: dict[str, str] = {}
        styles = Styles()
        beside = posixpath.join(posixpath.dirname(main), "styles.xml")
        listed: list[tuple[str, str]] = []

        def see(tag: str, attributes: xml_parts.Attributes) -> None:
            if tag == "sheet":
                listed.append((attributes.get("name", ""), attributes.get("id", "")))

        members = package.archive.members
        try:
            if beside in members:
                xml_parts.run([package.archive.bytes_of(beside)], styles, beside)
            if main in members and _rels_of(main) in members:
                idents = _idents(package.archive.bytes_of(_rels_of(main)), _rels_of(main))
                data = package.archive.bytes_of(main)
                if main.endswith(".bin"):
                    listed = xlsb.sheets(data)
                else:
                    xml_parts.run([data], xml_parts.Elements(see), main)
                    # A slide has two ids, told apart by their prefix only.
                    listed += [("", ident.decode()) for ident in _SLIDE_ID.findall(data)]
                for number, (name, ident) in enumerate(listed, 1):
                    if ident in idents:
                        sections[idents[ident]] = name or f"Slide {number}"
        except Malformed:
            pass
        return sections, styles

    @staticmethod
    def _shared(package: _Package, name: str) -> Texts:
        """The shared strings of a workbook. Raises `Malformed` where their part is not well-formed."""
        member, quick = package.archive.members[name], PlainStrings()
        xml_parts.run(quick.watch(package.archive.read(member)), None, name)
        if quick.plain:
            return quick.strings
        shared = Strings()
        xml_parts.run(package.archive.read(member), shared, name)
        return shared.strings

    @staticmethod
    def _binary_strings(archive: zips.Archive) -> Texts:
        name = next((n for n in archive.members if n.casefold().endswith("sharedstrings.bin")), None)
        return xlsb.shared_strings(archive.read(archive.members[name]) if name else ())


def _without_links(chunks: Iterable[bytes], part: str) -> Iterator[bytes]:
    """Hand on a part that has no relationships; raises `Malformed` if it needs one."""
    before = b""
    for chunk in chunks:
        joined = before + chunk
        # Looking for the plain letters first is many times quicker than the pattern.
        if b" r:" in joined and (found := _LINK.search(joined)):
            raise Malformed(
                f"part {part} needs relationship {found[1].decode()}, but its list of relationships is missing"
            )
        before = chunk[-64:]
        yield chunk


def partial_text(parts: Iterable[tuple[str, bytes]], sink: TextSink) -> None:
    """Text of the salvaged parts of a damaged package (OOXML or ODF), for recognising whose it is. Never raises."""
    from rustfern.formats.office.odf import _Body

    strings: Texts | None = None
    for name, data in parts:
        lower = name.casefold()
        handler: xml_parts.Handler
        try:
            if lower.endswith("sharedstrings.xml"):
                handler = shared = Strings()
                xml_parts.run([data], handler, name, partial=True)
                strings = shared.strings
                for text in strings:
                    sink.add(text)
            elif lower.endswith("sharedstrings.bin"):
                for text in xlsb.shared_strings([data]):
                    sink.add(text)
            elif name == "content.xml":
                xml_parts.run([data], _Body(sink), name, partial=True)
            elif _SLIDE.search(name) or lower.endswith("word/document.xml"):
                xml_parts.run([data], Story(sink, {}), name, partial=True)
        except Malformed:
            continue
