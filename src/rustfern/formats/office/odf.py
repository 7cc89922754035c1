"""ODF packages and flat ODF: texts, spreadsheets, presentations, drawings.

Source: OASIS OpenDocument 1.3, part 2 (packages: mimetype first and stored, manifest, encryption) and part 3
(text:p and text:h, table cells and their office:value, presentation notes, tracked changes).
"""

from __future__ import annotations

import re
from datetime import datetime
from typing import BinaryIO

from msgspec.structs import replace

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.core.times import iso
from rustfern.formats import identity as marks
from rustfern.formats.archives import zip as zips
from rustfern.formats.interface import DEFAULT_LIMITS, Limits, Reading
from rustfern.formats.office import xml_parts
from rustfern.formats.office.embedded import BLANK, check_member, is_blank
from rustfern.formats.text_layout import Grid, emit, figure
from rustfern.formats.text_sink import Gathered, TextSink, number

_PREFIX = "application/vnd.oasis.opendocument."
_TYPES = {
    "text": "odt", "text-template": "ott", "text-master": "odm", "spreadsheet": "ods", "spreadsheet-template": "ots",
    "presentation": "odp", "presentation-template": "otp", "graphics": "odg", "graphics-template": "otg",
    "formula": "odf", "base": "odb", "database": "odb",
}  # fmt: skip
_BEFORE_STANDARD = ("application/vnd.oasis.openoffice.", "application/x-vnd.oasis.opendocument.")
"""How types began before they were registered."""
_FIRST_VERSION = {
    f"application/vnd.sun.xml.{kind}": name
    for kind, name in (
        ("writer", "sxw"), ("writer.template", "sxw"), ("writer.global", "sxw"), ("writer.web", "sxw"), ("calc", "sxc"), ("calc.template", "sxc"), ("impress", "sxi"),
        ("impress.template", "sxi"), ("draw", "sxd"), ("draw.template", "sxd"), ("base", "odb"),
    )
}  # fmt: skip
"""The packages of the suite's first version, from which the standard was made: their parts are called the same."""
_FLAT = {"odt": "fodt", "ods": "fods", "odp": "fodp", "odg": "fodg", "ott": "fodt", "ots": "fods"}
_META = ("title", "creator", "initial-creator", "creation-date", "date", "editing-cycles", "editing-duration")
_SKIP = frozenset({"tracked-changes", "notes", "annotation", "note-citation", "binary-data", "annotation-end"})
_PARAGRAPHS = frozenset({"p", "h"})
_DRAWN = frozenset(
    {
        "frame",
        "custom-shape",
        "object",
        "line",
        "path",
        "polygon",
        "rect",
        "ellipse",
        "connector",
        "database-range",
        "control",
    }
)
_DAY = datetime(1899, 12, 30)
_DURATION = re.compile(r"PT(\d+)H(\d+)M(\d+)(?:[.,](\d+))?S")
_MAX_REPEAT = 1_000
_MANIFEST = "META-INF/manifest.xml"
_NEWEST = "1.4"


def format_of_type(mimetype: str) -> str | None:
    """The format that an ODF media type names, None if it is no ODF type."""
    kind = mimetype.strip()
    for before in _BEFORE_STANDARD:
        kind = kind.replace(before, _PREFIX, 1) if kind.startswith(before) else kind
    if kind in _FIRST_VERSION:
        return _FIRST_VERSION[kind]
    return _TYPES.get(kind.removeprefix(_PREFIX)) if kind.startswith(_PREFIX) else None


def cell_value(attributes: xml_parts.Attributes) -> str | None:
    """A cell's typed value in the form that workbooks of other formats give it, None for text."""
    kind = attributes.get("value-type")
    if kind in ("float", "percentage", "currency"):
        return number(attributes.get("value", ""))
    if kind == "boolean":
        return "1" if attributes.get("boolean-value") == "true" else "0"
    if kind == "date":
        day = iso(attributes.get("date-value", ""))
        return number(str((day.replace(tzinfo=None) - _DAY).total_seconds() / 86_400)) if day else None
    if kind == "time" and (found := _DURATION.fullmatch(attributes.get("time-value", ""))):
        return number(str((int(found[1]) * 3600 + int(found[2]) * 60 + int(found[3])) / 86_400))
    return None


def _newer(version: str) -> bool:
    """Whether an ODF version is beyond what common programs read."""
    try:
        return tuple(map(int, version.split("."))) > tuple(map(int, _NEWEST.split(".")))
    except ValueError:
        return False


class _Body(xml_parts.Handler):
    """Paragraphs and cells of content.xml, in order."""

    wanted = (
        _DRAWN
        | _SKIP
        | _PARAGRAPHS
        | {"s", "tab", "line-break", "spreadsheet", "table-cell", "covered-table-cell", "page"}
    )
    looked_at = frozenset({"table-cell", "covered-table-cell", "annotation"})

    def __init__(self, sink: TextSink) -> None:
        self.sink = sink
        self.amounts = {"paragraphs": 0, "cells": 0, "slides": 0}
        self._skipping = 0
        self._formula = False
        self._texts: list[Gathered] = []
        self._sheet = False
        self._value: str | None = None
        self._full = ""
        self._repeat = 1
        self._cell_texts: list[str] | None = None
        self.skims = not sink.counted

    def enough(self) -> bool:
        return self.skims and self._sheet and self.sink.pieces > 0

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        if tag in _DRAWN:
            self.amounts["drawings"] = self.amounts.get("drawings", 0) + 1
        if tag == "annotation" and "encoding" in attributes and not self._skipping:
            self._formula = True  # as it was typed (MathML 3, 5.1.3); other annotations are comments
            self._texts.append(Gathered(self.put))
        elif tag in _SKIP:
            self._skipping += 1
        elif self._skipping:
            return
        elif tag in _PARAGRAPHS:
            self._texts.append(Gathered(self.put))
        elif tag in ("s", "tab", "line-break"):
            self.text(" ")
        elif tag == "spreadsheet":
            self._sheet = True
        elif tag in ("table-cell", "covered-table-cell") and self._sheet:
            self._value = cell_value(attributes)
            self._full = attributes.get("value", "") if attributes.get("value-type") == "float" else ""
            repeat = attributes.get("number-columns-repeated", "1")
            self._repeat = min(int(repeat), _MAX_REPEAT) if repeat.isdigit() else 1
            self._cell_texts = []
        elif tag == "page":
            self.amounts["slides"] += 1

    def text(self, text: str) -> None:
        if self._texts and not self._skipping:
            self._texts[-1].add(text)

    def end(self, tag: str) -> None:
        if tag == "annotation" and self._formula:
            self._formula = False
            self.put(self._texts.pop().rest())
        elif tag in _SKIP:
            self._skipping -= 1
        elif self._skipping:
            return
        elif tag in _PARAGRAPHS and self._texts:
            piece = self._texts.pop().rest()
            if self._cell_texts is not None:
                self._cell_texts.append(piece)
            elif piece.strip():
                self.put(piece)
                self.amounts["paragraphs"] += 1
        elif tag in ("table-cell", "covered-table-cell") and self._cell_texts is not None:
            value = self._value if self._value is not None else "\n".join(self._cell_texts)
            if value.strip():
                for _ in range(self._repeat):
                    self.put_cell(value, " ".join(self._cell_texts) or figure(self._full or value))
                self.amounts["cells"] += self._repeat
            self._cell_texts = None

    def put(self, text: str) -> None:
        """A paragraph has ended."""
        self.sink.add(text)

    def put_cell(self, value: str, shown: str) -> None:
        """A cell of a sheet has ended: what is compared, and how the sheet shows it."""
        self.sink.add(value)


class _ShownBody(_Body):
    """The same, with sheets, slides, headings and the cells of tables told apart."""

    wanted = _Body.wanted | {"table", "table-row", "frame"}
    looked_at = _Body.looked_at | {"table", "table-row", "h", "page", "frame"}

    def __init__(self, sink: TextSink) -> None:
        super().__init__(sink)
        self._grid = Grid()
        self._level, self._title = 0, False
        self._row = self._column = self._rows = self._cells = 0

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        super().start(tag, attributes)
        if self._skipping:
            return
        if tag in _PARAGRAPHS:
            level = attributes.get("outline-level", "1")
            self._level = int(level) if tag == "h" and level.isdigit() else 1 if self._title else 0
        elif tag == "page":
            self.sink.section = f"Slide {self.amounts['slides']}"
        elif tag == "frame":
            self._title = attributes.get("class") == "title"
        elif tag == "table" and self._sheet:
            self.sink.section, self._row = attributes.get("name", ""), 0
        elif tag == "table":
            self._grid.table()
        elif tag == "table-row":
            repeat = attributes.get("number-rows-repeated", "1")
            self._row, self._column = self._row + max(self._rows, 1), 0
            self._rows = int(repeat) if repeat.isdigit() else 1
            self._grid.row()
        elif tag in ("table-cell", "covered-table-cell"):
            repeat = attributes.get("number-columns-repeated", "1")
            self._cells = int(repeat) if repeat.isdigit() else 1
            if not self._sheet:
                self._grid.cell()

    def end(self, tag: str) -> None:
        at = self._column
        super().end(tag)
        if self._skipping:
            return
        if tag == "table" and not self._sheet:
            self._grid.close()
        elif tag == "table":
            self._rows = 0
        elif tag in ("table-cell", "covered-table-cell"):
            self._column = at + self._cells
            if not self._sheet and self._cells > 1:
                self._grid.cell(self._cells - 1)
        elif tag == "frame":
            self._title = False

    def put(self, text: str) -> None:
        emit(self.sink, text, self._level, self._grid.spot)

    def put_cell(self, value: str, shown: str) -> None:
        self._column += 1
        self.sink.count(value)
        self.sink.show(shown, "cell", spot=(0, self._row, self._column))


def _body(sink: TextSink) -> _Body:
    """What listens to a body: as closely as the text is to be shown."""
    return _ShownBody(sink) if sink.keeps else _Body(sink)


def _glance(format_name: str | None, values: dict[str, str]) -> Glance:
    written = iso(values.get("date", ""))
    aware = written if written and written.tzinfo else None
    created = iso(values.get("creation-date", ""))
    return Glance(
        format=format_name,
        title=values.get("title") or None,
        author=values.get("creator") or values.get("initial-creator") or None,
        created=created if created and created.tzinfo else None,
        modified=aware,
        modified_local=None if aware else written,
    )


def declared_type(archive: zips.Archive) -> str | None:
    """The ODF format that a package declares: in its part mimetype, or, where that was left out, in its manifest (part 2, 3.3 and 4.8)."""
    if "mimetype" in archive.members:
        return format_of_type(archive.bytes_of("mimetype", 1_000).decode("ascii", "replace"))
    if "content.xml" not in archive.members or _MANIFEST not in archive.members:
        return None
    found: list[str] = []

    def see(tag: str, attributes: xml_parts.Attributes) -> None:
        if tag == "file-entry" and attributes.get("full-path") == "/":
            found.append(attributes.get("media-type", ""))

    xml_parts.run(archive.read(archive.members[_MANIFEST]), xml_parts.Elements(see), _MANIFEST)
    return format_of_type(found[0]) if found else None


_NO_CONTENT = (
    "settings.xml",  # how it was shown
    "layout-cache",
    "Configurations",
    "Thumbnails/",
    "accelerator/",
    "toolbar/",
    "menubar/",
    "statusbar/",
    "floater/",
    "popupmenu/",
    "progressbar/",
    "images/Bitmaps",
)
"""Entries of a manifest that hold nothing of a document: its program's own settings, pictures of its first page."""


class Odf:
    """ODF packages."""

    def score(self, head: bytes, tail: bytes) -> float:
        if head[:4] != b"PK\x03\x04" or len(head) < 60:
            return 0.0
        return 0.95 if head[30:38] == b"mimetype" and _PREFIX.encode() in head[38:200] else 0.0

    def _open(self, stream: BinaryIO, size: int, limits: Limits) -> tuple[zips.Archive, str | None]:
        archive = zips.Archive(stream, size, limits)
        return archive, declared_type(archive)

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        archive, format_name = self._open(stream, size, DEFAULT_LIMITS)
        values = xml_parts.Collect(_META)
        if "meta.xml" in archive.members:
            xml_parts.run(archive.read(archive.members["meta.xml"]), values, "meta.xml")
        identity = (*marks.of_meta(values.values), *marks.of_members(archive.members.values()))
        return replace(_glance(format_name, values.values), identity=identity)

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        archive, format_name = self._open(stream, size, limits)
        archive.each_once()
        if format_name is None:
            raise Malformed("the package names no ODF format")
        listed: list[xml_parts.Attributes] = []
        protected: list[bool] = []
        needs: list[str] = []

        def see(tag: str, attributes: xml_parts.Attributes) -> None:
            if tag == "file-entry":
                listed.append(attributes)
            elif tag == "encryption-data":
                protected.append(True)
            elif tag == "manifest" and _newer(attributes.get("version", "")):
                needs.append(f"ODF {attributes['version']}, newer than the {_NEWEST} that most programs read")

        if "META-INF/manifest.xml" not in archive.members:
            raise Malformed("the part META-INF/manifest.xml is missing")
        manifest = archive.members["META-INF/manifest.xml"]
        xml_parts.run(archive.read(manifest), xml_parts.Elements(see), manifest.name)
        meta, body = xml_parts.Collect(_META), _body(sink)
        for member in archive.members.values():
            if member.name in ("mimetype", manifest.name):
                continue
            chunks = archive.read(member)
            if not protected and member.size and not member.is_shadow and not member.name.endswith(".xml"):
                check_member(chunks, member.name, member.size)
            elif protected or not member.size or member.is_shadow:
                for _ in chunks:
                    pass
            elif member.name == "content.xml":
                xml_parts.run(chunks, body, member.name)
            else:
                xml_parts.run(chunks, meta if member.name == "meta.xml" else None, member.name)
        for entry in listed:
            path = entry.get("full-path", "")
            if path and not path.endswith("/") and path not in archive.members and not path.startswith(_NO_CONTENT):
                raise Malformed(f"part {path}, which the manifest lists, is missing")
        identity = (*marks.of_meta(meta.values), *marks.of_members(archive.members.values()))
        glance = replace(_glance(format_name, meta.values), needs=needs[0] if needs else None, identity=identity)
        if protected:
            return Reading(glance, State.ENCRYPTED, "protected by a password; its text cannot be read", has_text=False)
        if "content.xml" not in archive.members and format_name != "odb":
            raise Malformed("the part content.xml is missing")
        amounts = {key: count for key, count in body.amounts.items() if count}
        if format_name not in ("odp", "otp"):
            amounts.pop("slides", None)
        if is_blank(format_name, sink, amounts.pop("drawings", 0), archive.members):
            return Reading(glance, State.EMPTY, BLANK, amounts)
        reason = f"read to the end: {len(archive.members)} parts, sums and XML right"
        if "mimetype" not in archive.members:
            reason += "; its part mimetype was left out, so that some programs may not know it"
        return Reading(glance, State.INTACT, reason, amounts)


class FlatOdf:
    """Flat ODF: the whole document in one XML file."""

    def score(self, head: bytes, tail: bytes) -> float:
        return (
            0.95
            if b"<?xml" in head[:64] and b"urn:oasis:names:tc:opendocument" in head and b":document" in head
            else 0.0
        )

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        found: list[str] = []
        values = xml_parts.Collect(_META)
        listener = xml_parts.Elements(lambda tag, a: found.append(a.get("mimetype", "")) if tag == "document" else None)
        head = stream.read(1 << 16)
        xml_parts.run([head], listener, "document", partial=True)
        xml_parts.run([head], values, "document", partial=True)
        return _glance(_FLAT.get(format_of_type(found[0]) or "") if found else None, values.values)

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        glance = self.glance(stream, size, name)
        stream.seek(0)
        body = _body(sink)
        xml_parts.run(iter(lambda: stream.read(1 << 18), b""), body, "document")
        amounts = {key: count for key, count in body.amounts.items() if count}
        return Reading(glance, State.INTACT, "read to the end: well-formed XML", amounts)
