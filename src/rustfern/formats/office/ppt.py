"""The main stream of binary presentations: the record tree, and the text of its slides.

Source: [MS-PPT] 2.1.2 (how the newest edit is found), 2.3.1 (RecordHeader), 2.3.2 (CurrentUserAtom), 2.3.3 (UserEditAtom), 2.3.4
(PersistDirectoryAtom), 2.4.14.3 (SlideListWithText), 2.4.14.5 (SlidePersistAtom),
2.9.41 (text atoms), 2.9.76 (TextHeaderAtom: titles).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import msgspec

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.office.compound_file import Compound
from rustfern.formats.paged_bytes import Data, unpack
from rustfern.formats.text_sink import TextSink

_DOCUMENT, _LIST, _CHARS, _BYTES, _EDIT, _DIRECTORY = 1000, 4080, 4000, 4008, 4085, 6002
_SLIDES = 0
"""The list of slides; others are those of masters and notes."""
_ENCRYPTED, _PACKAGE = 0xF3D1C4DF, b"PK\x03\x04"
_PERSIST, _HEADER, _TITLES = 1011, 3999, (0, 6)
_MAX_DEPTH = 100
_ZEROS = bytes(16)


def _records(data: Data, start: int, end: int) -> Iterator[tuple[int, int, int, int, int]]:
    position = start
    while position < end:
        if position + 8 > end:
            raise Malformed("a record of the presentation is cut off", position)
        version, kind, length = unpack("<HHI", data, position)
        if position + 8 + length > end:
            raise Malformed("a record of the presentation reaches beyond its parent", position)
        yield version & 0xF, version >> 4, kind, position + 8, position + 8 + length
        position += 8 + length


class _Text(msgspec.Struct):
    """The texts found so far: (text, whether it is a title, number of its slide); and which objects the lists name: (list, object)."""

    found: list[tuple[str, bool, int]] = msgspec.field(default_factory=list)
    named: list[tuple[int, int]] = msgspec.field(default_factory=list)
    slide: int = 0
    title: bool = False

    def add(self, text: str) -> None:
        """Take a text of the slide that is read."""
        self.found.append((text, self.title, self.slide))


def _walk(
    data: Data, start: int, end: int, out: _Text, depth: int, *, of: int | None = None, shown: bool = True
) -> None:
    """Follow a container; `of` is the list of slides that it is, if it is one; the text of one that is not `shown` does not count."""
    if depth > _MAX_DEPTH:
        raise Malformed("the records of the presentation are nested too deep", start)
    for version, instance, kind, begin, finish in _records(data, start, end):
        if version == 0xF and data[begin : begin + 4] == _PACKAGE:
            continue  # kept for newer programs, whole, though it calls itself a container
        if version == instance == kind == begin - finish == 0:
            raise Malformed("zeros where a record of the presentation should be", begin - 8)
        if version == 0xF:
            inner = instance if kind == _LIST else of
            _walk(data, begin, finish, out, depth + 1, of=inner, shown=shown and inner in (None, _SLIDES))
        elif kind == _PERSIST and of is not None and finish - begin >= 4:
            out.named.append((of, unpack("<I", data, begin)[0]))
            out.slide += shown
        elif not shown:
            continue
        elif kind == _HEADER and finish - begin >= 4:
            out.title = unpack("<I", data, begin)[0] in _TITLES
        elif kind in (_CHARS, _BYTES) and _ZEROS in data[begin:finish]:
            raise Malformed("zeros where text should be", begin)
        elif kind == _CHARS:
            out.add(data[begin:finish].decode("utf-16-le", "replace"))
        elif kind == _BYTES:
            out.add(data[begin:finish].decode("latin-1"))


def _record(data: Data, at: int, kind: int, what: str) -> tuple[int, int]:
    """Where the content of the record at a place begins and ends. Raises `Malformed` for one of another kind."""
    for _, _, found, begin, finish in _records(data, at, len(data)) if at < len(data) else ():
        if found == kind:
            return begin, finish
        break
    raise Malformed(f"{what} of the presentation is not where it should be", at)


def _objects(data: Data, edit: int) -> tuple[dict[int, int], int, bool]:
    """(where each object lies, the number of the document's own, whether they are encrypted), by the chain of edits, the newest first."""
    places: dict[int, int] = {}
    document = 0
    seen: set[int] = set()
    while edit or not seen:
        begin, finish = _record(data, edit, _EDIT, "an edit")
        if edit in seen or finish - begin < 28:
            raise Malformed("the edits of the presentation lead nowhere", edit)
        before, directory, number = unpack("<III", data, begin + 8)
        document = document if seen else number
        if not seen and finish - begin >= 32:
            return places, document, True
        seen.add(edit)
        at, end = _record(data, directory, _DIRECTORY, "a list of objects")
        while at + 4 <= end:
            packed = unpack("<I", data, at)[0]
            first, count = packed & 0xFFFFF, packed >> 20
            at += 4
            if at + 4 * count > end:
                raise Malformed("a list of objects of the presentation stops before its end", at)
            for item, place in enumerate(unpack(f"<{count}I", data, at)):
                places.setdefault(first + item, place)
            at += 4 * count
        edit = before
    return places, document, False


def read(compound: Compound, data: Data, sink: TextSink, amounts: dict[str, int], folder: str = "") -> bool:
    """Hand the slides' text to the sink. True if encrypted. Raises `Malformed` where what the newest edit needs breaks; other bytes between
    the objects do not count.
    """
    user = compound.read(f"{folder}Current User")
    if user is None or len(user) < 20:
        if len(data) < 8 or unpack("<H", data, 2)[0] != _DOCUMENT:
            raise Refused("a presentation of 1995 or before: reading it was refused")
        raise Malformed("the stream Current User is missing or too short")
    token, edit = struct.unpack_from("<II", user, 12)
    if token == _ENCRYPTED:
        return True
    if edit >= len(data):
        raise Malformed("the newest edit lies beyond the end of the presentation")
    places, document, encrypted = _objects(data, edit)
    if encrypted:
        return True
    texts = _Text()
    if document not in places:
        raise Malformed("the presentation has no document record")
    _walk(data, *_record(data, places[document], _DOCUMENT, "the document"), texts, 1)
    slides = texts.slide = 0
    for of, number in list(texts.named):
        if number not in places:
            if of == _SLIDES:
                raise Malformed(f"object {number}, a slide that the presentation names, is missing")
            continue  # notes of a slide that was deleted
        slides += of == _SLIDES
        texts.slide = slides
        for _, _, _, begin, finish in _records(data, places[number], len(data)):
            _walk(data, begin, finish, texts, 1, shown=of == _SLIDES)
            break
    sink.order = {f"Slide {number}": number for number in range(1, slides + 1)}
    for text, title, slide in texts.found:
        sink.section = f"Slide {slide}" if slide else ""
        for line in text.replace("\x0b", "\r").split("\r"):
            sink.add(line, "heading" if title else "text", int(title))
    if slides:
        amounts["slides"] = slides
    return False
