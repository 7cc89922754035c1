"""The main stream of binary presentations: the record tree, and the text of its slides.

Source: [MS-PPT] 2.3.1 (RecordHeader), 2.3.2 (CurrentUserAtom), 2.4.14.3 (SlideListWithText), 2.4.14.5 (SlidePersistAtom),
2.9.41 (text atoms), 2.9.76 (TextHeaderAtom: titles).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.office.compound_file import Compound
from rustfern.formats.text_sink import TextSink

_DOCUMENT, _SLIDE, _LIST, _CHARS, _BYTES, _CRYPT = 1000, 1006, 4080, 4000, 4008, 12052
_PERSIST, _HEADER, _TITLES = 1011, 3999, (0, 6)
_MAX_DEPTH = 100


def _records(data: bytes, start: int, end: int) -> Iterator[tuple[int, int, int, int, int]]:
    position = start
    while position < end:
        if position + 8 > end:
            raise Malformed("a record of the presentation is cut off", position)
        version, kind, length = struct.unpack_from("<HHI", data, position)
        if position + 8 + length > end:
            raise Malformed("a record of the presentation reaches beyond its parent", position)
        yield version & 0xF, version >> 4, kind, position + 8, position + 8 + length
        position += 8 + length


class _Text(msgspec.Struct):
    """The texts found so far: (text, whether it is a title, number of its slide)."""

    found: list[tuple[str, bool, int]] = msgspec.field(default_factory=list)
    slide: int = 0
    title: bool = False

    def add(self, text: str) -> None:
        """Take a text of the slide that is read."""
        self.found.append((text, self.title, self.slide))


def _walk(data: bytes, start: int, end: int, out: _Text | None, depth: int) -> None:
    if depth > _MAX_DEPTH:
        raise Malformed("the records of the presentation are nested too deep", start)
    for version, instance, kind, begin, finish in _records(data, start, end):
        if version == 0xF:
            wanted = out
            if kind == _LIST and instance != 0:
                wanted = None  # masters and notes
            _walk(data, begin, finish, wanted, depth + 1)
        elif out is not None and kind == _PERSIST:
            out.slide += 1
        elif out is not None and kind == _HEADER and finish - begin >= 4:
            out.title = struct.unpack_from("<I", data, begin)[0] in _TITLES
        elif out is not None and kind == _CHARS:
            out.add(data[begin:finish].decode("utf-16-le", "replace"))
        elif out is not None and kind == _BYTES:
            out.add(data[begin:finish].decode("latin-1"))


def read(compound: Compound, data: bytes, sink: TextSink, amounts: dict[str, int]) -> bool:
    """Hand the slides' text to the sink. True if encrypted. Raises `Malformed` where the record tree breaks."""
    user = compound.read("Current User")
    if user is None or len(user) < 20:
        raise Malformed("the stream Current User is missing or too short")
    token = struct.unpack_from("<I", user, 12)[0]
    if token == 0xF3D1C4DF:
        return True
    if struct.unpack_from("<I", user, 16)[0] >= len(data):
        raise Malformed("the newest edit lies beyond the end of the presentation")
    slides = 0
    texts = _Text()
    seen_document = False
    for version, _instance, kind, begin, finish in _records(data, 0, len(data)):
        if kind == _CRYPT:
            return True
        if version != 0xF:
            continue
        wanted = texts if kind in (_DOCUMENT, _SLIDE) else None
        slides += kind == _SLIDE
        texts.slide = slides
        _walk(data, begin, finish, wanted, 1)
        seen_document |= kind == _DOCUMENT
    if not seen_document:
        raise Malformed("the presentation has no document record")
    sink.order = {f"Slide {number}": number for number in range(1, slides + 1)}
    for text, title, slide in texts.found:
        sink.section = f"Slide {slide}" if slide else ""
        for line in text.replace("\x0b", "\r").split("\r"):
            sink.add(line, "heading" if title else "text", int(title))
    if slides:
        amounts["slides"] = slides
    return False
