"""OOXML packages: texts, workbooks (binary ones among them), presentations, diagrams.

Source: ECMA-376 part 1 (packages: see `opc.py`; WordprocessingML 17.3.3 w:t, SpreadsheetML
18.3.1.4 cells, DrawingML a:t); [MS-XLSB] for binary workbooks.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Collection, Iterable, Iterator
from contextlib import suppress
from typing import BinaryIO

from msgspec.structs import replace

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.core.times import iso
from rustfern.formats import identity as marks
from rustfern.formats.archives import zip as zips
from rustfern.formats.format_table import class_of
from rustfern.formats.interface import DEFAULT_LIMITS, Limits, Reading
from rustfern.formats.office import opc, xlsb, xml_parts
from rustfern.formats.office.embedded import BLANK, check_member, is_blank
from rustfern.formats.office.ooxml_text import (
    Cells,
    PlainStrings,
    PlainText,
    SharedNumbers,
    ShownStory,
    Story,
    Strings,
    Styles,
)
from rustfern.formats.office.opc import (
    MAX_KEPT_BYTES,
    TYPES,
    Package,
    check_names,
    check_properties,
    other_package,
    rels_of,
)
from rustfern.formats.text_sink import Texts, TextSink

_XML = (".xml", ".rels", ".model", ".fdseq", ".fdoc", ".fpage")
_MAX_LOST = 4 << 20
_STRICT = "http://purl.oclc.org/ooxml/"
_TIMES = "docProps/app.xml"
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


def _implied(package: Package, main: str, reached: Collection[str]) -> None:
    """Relationships that no part spells out, but programs need (ECMA-376 part 1, 13.3: slide to layout to master to theme); and those of the main
    part, where others lie beside it.
    """
    folder = posixpath.dirname(main)
    if folder and rels_of(main).casefold() not in package.named:
        others = (
            name for name in package.archive.members if not name.endswith("/") and name.casefold() != main.casefold()
        )
        if any(posixpath.dirname(name) == folder for name in others):
            raise Malformed(f"the part {rels_of(main)}, which names the others, is missing")
    for name in sorted(reached):
        for kind, (pattern, needed) in _CHAIN.items():
            rels = package.named.get(rels_of(name).casefold(), "")
            if pattern.search(name) and not any(to.endswith(needed) for to, _ in package.read.get(rels, ())):
                raise Malformed(
                    f"the {kind} {name} does not say on which {needed[1:]} it rests: its relationships are missing"
                )


class Ooxml:
    """OOXML packages of every kind."""

    def score(self, head: bytes, tail: bytes) -> float:
        if head[:4] != b"PK\x03\x04":
            return 0.0
        name = head[30 : 30 + int.from_bytes(head[26:28], "little")]
        known = name in (TYPES.encode(), b"_rels/.rels") or name.startswith((b"word/", b"xl/", b"ppt/", b"docProps/"))
        return 0.9 if known else (0.85 if TYPES.encode() in tail else 0.0)

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        package = Package(zips.Archive(stream, size, DEFAULT_LIMITS))
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
        package = Package(archive)
        if not package.is_office(name):
            return other_package(archive)
        archive.each_once()
        main, format_name = package.kind()
        if main.casefold() not in package.named:
            raise Malformed(f"the part {main}, the document itself, is missing")
        if format_name is None:
            raise Malformed(f"the type of part {main} is none that office programs open")
        check_names(archive.members)
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
        self, package: Package, main: str, reached: Collection[str], sink: TextSink, amounts: dict[str, int]
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
        alone = rels_of(main).casefold() not in package.named
        sections, styles = self._structure(package, main) if sink.keeps else ({}, Styles())
        sink.order = {section: at for at, section in enumerate(sections.values())}
        for name in names:
            sink.section = sections.get(name, "")
            if name in package.read or name.casefold() == TYPES.casefold():
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
            # What themes need is only decoration.
            needs = lower.endswith(_XML) and not lower.endswith(".rels") and "/theme/" not in lower
            if needs and rels_of(name).casefold() not in package.named:
                chunks = _without_links(chunks, name)
            if not lower.endswith(_XML) or member.size == 0:
                check_member(chunks, name, member.size)
                continue
            if _SHEET.search(name) and not sink.counted:
                named = SharedNumbers()
                xml_parts.run(named.watch(chunks), Cells(sink, strings, amounts, name, skims=True), name)
                if named.plain:
                    named.require(strings, name)
                    continue
                chunks = archive.read(member)
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
            elif name == core and member.size <= MAX_KEPT_BYTES:
                data = b"".join(chunks)
                check_properties(data, name)
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
    def _structure(package: Package, main: str) -> tuple[dict[str, str], Styles]:
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
            if main in members and rels_of(main) in members:
                known = opc.idents(package.archive.bytes_of(rels_of(main)), rels_of(main))
                data = package.archive.bytes_of(main)
                if main.endswith(".bin"):
                    listed = xlsb.sheets(data)
                else:
                    xml_parts.run([data], xml_parts.Elements(see), main)
                    # A slide has two ids, told apart by their prefix only.
                    listed += [("", ident.decode()) for ident in _SLIDE_ID.findall(data)]
                for number, (name, ident) in enumerate(listed, 1):
                    if ident in known:
                        sections[known[ident]] = name or f"Slide {number}"
        except Malformed:
            pass
        return sections, styles

    @staticmethod
    def _shared(package: Package, name: str) -> Texts:
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
