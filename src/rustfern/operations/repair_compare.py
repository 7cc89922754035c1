"""What was written is compared with what it came from: every word of it must stand in the damaged file, but for those of marks."""

from __future__ import annotations

import html
import io
import re
import zipfile
from collections.abc import Iterator
from contextlib import suppress
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats import registry as formats
from rustfern.formats.interface import Limits
from rustfern.formats.text_sink import Piece, fold, words_of
from rustfern.repair.archives import unpacked
from rustfern.repair.compound_salvage import CompoundSalvage
from rustfern.repair.interface import Budget, NothingLeft
from rustfern.repair.zip_salvage import content, find_members

_LARGEST_BYTES, _LARGEST_READ, _PART = 32 << 20, 4 << 20, 1 << 20
_SHOWN = (".xml", ".xhtml", ".html", ".txt", ".csv")
_UNSHOWN = re.compile(
    r"^(?:META-INF/|docProps/|customXml/)|\.rels$|\[Content_Types\]|(?:^|/)(?:styles|settings|theme\d*|fontTable|webSettings|meta|manifest)\.xml$"
)
_ENDS = re.compile(
    r"</(?:w:p|w:tc|a:p|a:t|text:p|text:h|v|f|t|si|c|p|h\d|li|td|title)>|<(?:w:tab|w:br|text:tab|text:s|br)\b[^>]*>"
)
_MOST_SOUGHT = 400
_MARK = re.compile(
    r"\[(?:(?:about|more|from here on|this|a picture|a part|the (?:text|sheets)|texts whose|slide \d+|page \d+) [^\[\]]{2,90}|more [^\[\]]{3,60})\]"
)
_TAG = re.compile(r"<[^<>]{0,4000}>")
_DECLARED = re.compile(r"\bxmlns(?::[\w.-]+)?=\"[^\"]*\"|<\?xml [^<>]*\?>|<text x=\"10\" y=\"20\">")
_MADE = frozenset(
    {
        "sheet",
        "texts",
        "without",
        "cells",
        "contents",
        "untitled",
        "page",
        "missing",
        "true",
        "false",
        "eof",
        "endsec",
        "nbformat",
        "minor",
    }
)
"""Words of names that repair gives."""
_SEVEN = b"7z\xbc\xaf\x27\x1c"
_DIGIT = re.compile(r"\d")


class Compared(msgspec.Struct, frozen=True):
    """How many words of what was written are those of marks, and those that the source does not have (None: it was not compared)."""

    of_marks: int
    foreign: tuple[str, ...] | None


def compare(
    made: BinaryIO, name: str, source: BinaryIO, size: int, limits: Limits, *, is_sheet: bool, is_page: bool
) -> Compared:
    """Compare a written file with the damaged one. Values of sheets and pages are shown otherwise than they are stored: of a sheet only words of
    letters are compared, of a page (whose contents are taken over as they are) none. Texts are worked on in parts.
    """
    of_marks, there = 0, set[str]()
    for text in _written(made, name, limits):
        for mark in _MARK.findall(text):
            of_marks += len(words_of(mark))
        there.update(words_of(_MARK.sub(" ", text)))
    source.seek(0)
    # What comes out of a 7z archive is proved by a sum of its own, member by member.
    if size > _LARGEST_BYTES or is_page or source.read(len(_SEVEN)) == _SEVEN:
        return Compared(of_marks, None)
    if is_sheet:
        there = {word for word in there if not _DIGIT.search(word)}
    source.seek(0)
    return Compared(of_marks, _foreign(there - _MADE, source.read(size), name))


def _written(made: BinaryIO, name: str, limits: Limits) -> Iterator[str]:
    """The text of what was written, part by part."""
    made.seek(0)
    size = made.seek(0, io.SEEK_END)
    made.seek(0)
    if made.read(2) == b"PK":
        with zipfile.ZipFile(made) as archive:
            for item in archive.infolist():
                if item.filename.endswith(_SHOWN) and not _UNSHOWN.search(item.filename):
                    yield from _without_tags(archive.read(item))
        return
    if size > _LARGEST_BYTES:
        return
    made.seek(0)
    pieces: list[Piece] = []
    formats.all_text(made, name, pieces.append, limits)
    yield _DECLARED.sub(" ", "\n".join(piece.text for piece in pieces))


def _without_tags(data: bytes) -> Iterator[str]:
    """The text of markup in parts of about a megabyte; paragraphs, cells and the like end words."""
    at = 0
    while at < len(data):
        end = data.find(b"<", at + _PART) if len(data) - at > _PART else -1
        end = end if end > at else len(data)
        text = data[at:end].decode("utf-8", "ignore")
        yield html.unescape(_TAG.sub("", _ENDS.sub("\n", text)))
        at = end


def _foreign(words: set[str], data: bytes, name: str) -> tuple[str, ...]:
    left = set(words)
    for text in _texts(data, name):
        left.difference_update(words_of(text))
        if not left:
            return ()
    if len(left) > _MOST_SOUGHT:
        return tuple(sorted(left))
    # A word may stand in pieces, or beside signs that the source writes otherwise.
    for text in _texts(data, name):
        folded = fold(text)
        joined = folded.replace(" ", "").replace("\n", "")
        left = {word for word in left if word not in folded and word not in joined}
    return tuple(sorted(left))


def _texts(data: bytes, name: str) -> Iterator[str]:
    """The source as text, in every way in which its words may stand in it."""
    budget = Budget(20)
    if data[:2] == b"PK" or data.find(b"PK\x01\x02") >= 0:
        for member in find_members(data):
            if member.is_markup or member.name.casefold().endswith((".json", ".md", ".csv")):
                for stretch in content(data, member, budget).stretches:
                    known = stretch.replace(b"\0", " … ".encode()) if b"\0" in stretch else stretch
                    yield from _without_tags(known)
        return
    if len(data) <= _LARGEST_READ:
        pieces: list[Piece] = []
        with suppress(Malformed):
            formats.all_text(io.BytesIO(data), name, pieces.append, Limits())
        yield "\n".join(piece.text for piece in pieces)
    if data[:3] == b"\x1f\x8b\x08" or data[:4] in (b"BZh9", b"\xfd7zX"):
        try:
            yield from _of_markup(unpacked(data)[0].decode("utf-8", "ignore"))
        except (NothingLeft, Malformed):
            return
    if data[:4] == b"\xd0\xcf\x11\xe0" or b"\xec\xa5" in data[:1024] or b"R\0o\0o\0t\0 \0E" in data:
        for stream in CompoundSalvage(data).streams.values():
            yield from _wide_and_narrow(stream.data)
    yield from _of_markup(data.decode("utf-8", "ignore"))
    yield from _wide_and_narrow(data)
    if data[:5] == b"{\\rtf":
        yield from _of_rich_text(data)


def _of_markup(text: str) -> Iterator[str]:
    if "<" in text:
        yield html.unescape(_TAG.sub("", text))
        yield html.unescape(_TAG.sub(" ", text))
    yield text


def _wide_and_narrow(data: bytes) -> Iterator[str]:
    yield data.decode("cp1252", "ignore")
    for start in (0, 1):
        yield data[start:].decode("utf-16-le", "ignore")
    if data[:2] == b"\xfe\xff" or data[:4] in (b"\xff\xfe\0\0", b"\0\0\xfe\xff"):
        yield data.decode("utf-16-be", "ignore")
        yield data.decode("utf-32", "ignore")


def _of_rich_text(data: bytes) -> Iterator[str]:
    from rustfern.formats.interface import DEFAULT_LIMITS
    from rustfern.formats.office import rtf
    from rustfern.formats.text_sink import TextSink

    pieces: list[Piece] = []
    with suppress(Malformed):
        rtf.check(
            io.BytesIO(data + b"}" * 64),
            len(data) + 64,
            "x.rtf",
            TextSink(1, hashed=False, put=pieces.append),
            DEFAULT_LIMITS,
        )
    yield "\n".join(piece.text for piece in pieces)
    plain = re.sub(rb"\\'([0-9a-fA-F]{2})", lambda found: bytes.fromhex(found[1].decode()), data)
    yield re.sub(rb"\\[a-z]+-?\d* ?|[{}]", b"", plain).decode("cp1252", "ignore")
    yield re.sub(
        r"\\u(-?\d+) ?\??",
        lambda found: chr(int(found[1]) % 65536),
        re.sub(rb"\\(?!u)[a-z]+-?\d* ?|[{}]", b"", data).decode("cp1252", "ignore"),
    )
