"""Identities that a document carries inside and keeps when it is renamed: ids of documents, of their first save, of their revisions,
the moment of making, pictures and objects inside.

Source: ECMA-376 part 1, 17.15.1.70 and .72 (rsid, rsidRoot), [MS-DOCX] 2.5.2 (docId), [MS-XLSX] 2.6 (absPath, revisionPtr); OASIS OpenDocument
1.3 part 3, 4.3 (creation date, editing cycles); ISO 32000-1, 14.4 (file identifiers); ISO 16684-1, 8.6 (xmpMM:DocumentID); ISO/IEC 29500-2, 11
(core properties); [MS-OLEPS] 2.25 (summary information); CIPA DC-008 (Exif), 4.6; ISO/IEC 14496-12, 8.2.2 and 8.3.2 (movie and track headers).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable
from datetime import datetime

from rustfern.formats.archives.zip import Member
from rustfern.formats.office import xml_parts

Marks = tuple[tuple[str, str], ...]
"""(kind, value): `document-id`, `first-save`, `revisions` (parted by spaces), `folder`, `made`, `cycles`, `worked` (seconds), `file-id`, `picture-id`, `taken`, `recorded`,
`part` (sum and size of a picture or object inside)."""

_XMP = re.compile(rb"xmpMM:(?:Original)?DocumentID(?:>|=[\"'])\s*([^<\"'\s]{8,200})")
_DURATION = re.compile(r"P(?:(\d+)D)?(?:T(?:(\d{1,6})H)?(?:(\d{1,6})M)?(?:(\d{1,6}(?:\.\d*)?)S)?)?")
_MAX_XMP = 4
_NOTHING = frozenset({"00000000", ""})
_PARTS = re.compile(r"(?:^|/)(?:media|embeddings|Pictures|images|data)/[^/]+\.(?!xml$|rels$)|^Object \d+/content\.xml$")
_MAX_PARTS, _LEAST_PART = 40, 1_024
_EXIF_HEAD = b"Exif\0\0"
_MODEL, _EXIF_AT, _TAKEN, _SUBSECOND, _UNIQUE = 0x0110, 0x8769, 0x9003, 0x9291, 0xA420
_MAX_TAGS = 200


class Settings(xml_parts.Handler):
    """The settings of a text: the root id of its first save, the ids of all saves, the document's id."""

    wanted = frozenset({"rsidRoot", "rsid", "docId"})

    def __init__(self) -> None:
        self.root = self.ident = ""
        self.revisions: set[str] = set()

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
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


class Workbook(xml_parts.Handler):
    """The workbook part: the folder in which it was last saved, and the id that it keeps between people who share it."""

    wanted = frozenset({"absPath", "revisionPtr"})

    def __init__(self) -> None:
        self.found: list[tuple[str, str]] = []

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
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
        ("worked", str(_seconds(values.get("editing-duration", "")) or "")),
    ]
    return tuple((kind, value) for kind, value in found if value)


def _seconds(duration: str) -> int:
    """An ISO 8601 duration without months and years (`P1DT2H3M4.5S`) in whole seconds; 0 if it is none."""
    found = _DURATION.fullmatch(duration.strip())
    return (
        round(sum(float(part or 0) * unit for part, unit in zip(found.groups(), (86_400, 3_600, 60, 1), strict=True)))
        if found
        else 0
    )


def of_minutes(total: str) -> Marks:
    """How long it was worked on by its own account, in seconds, from a count of minutes."""
    plain = total.strip()
    return (("worked", str(60 * int(plain))),) if plain.isdigit() and 0 < int(plain) < 10**7 else ()


def of_xmp(data: bytes) -> Marks:
    """The ids that pictures, pages and drawings carry in their metadata packet, wherever it lies."""
    if b"xmpMM:" not in data:
        return ()
    values = dict.fromkeys(match.decode("latin-1") for match in _XMP.findall(data))
    return tuple(("picture-id", value) for value in list(values)[:_MAX_XMP])


def of_making(created: datetime | None, author: str | None, saves: str | None = None) -> Marks:
    """When and by whom it was made, and how often it was saved since, by its properties: weak, as templates and copies share it."""
    found = [("made", f"{created.isoformat()} {author or ''}".strip())] if created else []
    if created and saves and saves.strip().isdigit():
        found.append(("cycles", str(int(saves))))
    return tuple(found)


def of_members(members: Iterable[Member]) -> Marks:
    """The pictures and objects inside a package, by their sums: another save keeps them to the byte."""
    found = (m for m in members if m.size >= _LEAST_PART and _PARTS.search(m.name))
    values = dict.fromkeys(
        f"{member.crc:08x}-{member.size}" for member, _ in zip(found, range(_MAX_PARTS), strict=False)
    )
    return tuple(("part", value) for value in values)


def of_exif(data: bytes) -> Marks:
    """When a photograph was taken by which camera, and its own id, from its Exif part. Empty if there is none that can be read."""
    at = 0 if data[:4] in (b"II*\0", b"MM\0*") else data.find(_EXIF_HEAD, 0, 1 << 20) + len(_EXIF_HEAD)
    if at == len(_EXIF_HEAD) - 1:
        return ()
    block = data[at:]
    order = "<" if block[:2] == b"II" else ">"
    try:
        main = _tags(block, struct.unpack_from(order + "I", block, 4)[0], order)
        inner = _tags(block, int.from_bytes(main[_EXIF_AT][:4], "little" if order == "<" else "big"), order)
    except (struct.error, KeyError):
        return ()

    def text(tags: dict[int, bytes], tag: int) -> str:
        return tags.get(tag, b"").split(b"\0")[0].decode("latin-1").strip()

    taken = f"{text(inner, _TAKEN)} {text(inner, _SUBSECOND)} {text(main, _MODEL)}".strip()
    found = [("taken", taken)] if text(inner, _TAKEN).strip("0: ") else []
    unique = text(inner, _UNIQUE)
    return (*found, ("picture-id", unique)) if len(unique) >= 16 else tuple(found)


def _tags(block: bytes, at: int, order: str) -> dict[int, bytes]:
    """The values of one directory of tags, as bytes. Raises `struct.error` where it lies outside."""
    sizes = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 7: 1}
    found = {}
    for number in range(min(struct.unpack_from(order + "H", block, at)[0], _MAX_TAGS)):
        tag, kind, count = struct.unpack_from(order + "HHI", block, at + 2 + 12 * number)
        size = sizes.get(kind, 1) * count
        start = at + 10 + 12 * number
        if size > 4:
            start = struct.unpack_from(order + "I", block, start)[0]
        found[tag] = block[start : start + min(size, 1 << 12)]
    return found


def of_movie(head: bytes, tracks: Iterable[bytes]) -> Marks:
    """When a recording was made, with which tracks: movie header (`mvhd`) and track headers (`tkhd`), their bodies."""
    times = _times(head)
    idents = [_times(each) for each in tracks]
    if times is None or not times[0] or None in idents:
        return ()
    said = " ".join(f"{made}/{ident}" for made, ident in (each for each in idents if each))
    return (("recorded", f"{times[0]} {times[1]} {said}"),)


def _times(body: bytes) -> tuple[int, int] | None:
    """(creation time, the number behind both times: timescale or track id) of a movie or track header."""
    try:
        return struct.unpack_from(">Q8xI", body, 4) if body[:1] == b"\1" else struct.unpack_from(">I4xI", body, 4)
    except struct.error:
        return None
