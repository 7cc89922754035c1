"""Identities that a document carries inside and keeps when it is renamed: ids of documents, of their first save, of their revisions.

Source: ECMA-376 part 1, 17.15.1.70 and .72 (rsid, rsidRoot), [MS-DOCX] 2.5.2 (docId), [MS-XLSX] 2.6 (absPath, revisionPtr); OASIS OpenDocument
1.3 part 3, 4.3 (creation date, editing cycles); ISO 32000-1, 14.4 (file identifiers); ISO 16684-1, 8.6 (xmpMM:DocumentID).
"""

from __future__ import annotations

import re

from rustfern.formats import xmlparts

Marks = tuple[tuple[str, str], ...]
"""(kind, value): `document-id`, `first-save`, `revisions` (parted by spaces), `folder`, `made`, `cycles`, `file-id`, `picture-id`."""

_XMP = re.compile(rb"xmpMM:(?:Original)?DocumentID(?:>|=[\"'])\s*([^<\"'\s]{8,200})")
_MAX_XMP = 4
_NOTHING = frozenset({"00000000", ""})


class Settings(xmlparts.Handler):
    """The settings of a text: the root id of its first save, the ids of all saves, the document's id."""

    wanted = frozenset({"rsidRoot", "rsid", "docId"})

    def __init__(self) -> None:
        self.root = self.ident = ""
        self.revisions: set[str] = set()

    def start(self, tag: str, attributes: xmlparts.Attributes) -> None:
        value = attributes.get("val", "").upper()
        if value in _NOTHING:
            return
        if tag == "rsidRoot":
            self.root = value
        elif tag == "docId":
            self.ident = value
        else:
            self.revisions.add(value)

    def marks(self) -> Marks:
        """What was found."""
        found = [
            ("document-id", self.ident),
            ("first-save", self.root),
            ("revisions", " ".join(sorted(self.revisions))),
        ]
        return tuple((kind, value) for kind, value in found if value)


class Workbook(xmlparts.Handler):
    """The workbook part: the folder in which it was last saved, and the id that it keeps between people who share it."""

    wanted = frozenset({"absPath", "revisionPtr"})

    def __init__(self) -> None:
        self.found: list[tuple[str, str]] = []

    def start(self, tag: str, attributes: xmlparts.Attributes) -> None:
        if tag == "absPath" and attributes.get("url"):
            self.found.append(("folder", attributes["url"]))
        elif tag == "revisionPtr" and attributes.get("documentId"):
            self.found.append(("document-id", attributes["documentId"].rpartition("_")[2].upper()))


def of_meta(values: dict[str, str]) -> Marks:
    """ODF: when and by whom it was made, and how often it was saved since."""
    made = " ".join(
        values[name].strip() for name in ("creation-date", "initial-creator") if values.get(name, "").strip()
    )
    cycles = values.get("editing-cycles", "").strip()
    found = [
        ("made", made if values.get("creation-date", "").strip() else ""),
        ("cycles", cycles if cycles.isdigit() else ""),
    ]
    return tuple((kind, value) for kind, value in found if value)


def of_xmp(data: bytes) -> Marks:
    """The ids that pictures, pages and drawings carry in their metadata packet, wherever it lies."""
    if b"xmpMM:" not in data:
        return ()
    values = dict.fromkeys(match.decode("latin-1") for match in _XMP.findall(data))
    return tuple(("picture-id", value) for value in list(values)[:_MAX_XMP])
