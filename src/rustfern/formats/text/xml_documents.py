"""Documents that are one XML file, plain or gzipped: AbiWord texts, Xournal++ notes, Dia diagrams, packed SVG.

Source: AbiWord's published `awml` DTD (text in `p`), Xournal++'s file description (`text` elements), RFC 1952 (gzip: CRC32 and size).
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator
from typing import BinaryIO

from msgspec.structs import replace

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.office import xml_parts
from rustfern.formats.recognised import format_of_magic
from rustfern.formats.text_sink import TextSink

_GZIP = b"\x1f\x8b\x08"
_CHUNK = 1 << 18
_TELLING = frozenset({"name", "memo", "value", "payee", "number", "comment", "description"})
_PACKED = frozenset({"gnumeric", "sla", "svgz", "abw", "dia", "xopp", "gnucash", "kmy", "gramps"})
"""Formats that are packed XML, whatever their first element is called."""
_LARGE = 16 << 20
_MIDDLE = {
    "abiword": "p",
    "awml": "p",
    "xournal": "text",
    "diagram": "string",
    "svg": "text",
    "gnc-v2": "*",
    "KMYMONEY-FILE": "*",
    "database": "*",
}
"""First element → the elements whose text counts; all of them (and attributes of some) where text lies anywhere."""
_FORMATS = {
    "abiword": "abw",
    "awml": "abw",
    "xournal": "xopp",
    "diagram": "dia",
    "svg": "svgz",
    "gnc-v2": "gnucash",
    "KMYMONEY-FILE": "kmy",
}


def unpacked(
    stream: BinaryIO, limits: Limits, *, xml: bool = False, behind: list[int] | None = None
) -> Iterator[bytes]:
    """The content of a gzip file (`xml`: whose every element will be looked at); at the end its sum and size have been compared. What follows
    its last member is none of it; `behind` takes how many bytes that is, but for padding.
    """
    inflate = zlib.decompressobj(31)
    got = 0
    limits = replace(limits, large=min(limits.large, _LARGE)) if xml else limits
    while data := stream.read(_CHUNK):
        while data:
            if inflate.eof:
                if data[:2] == _GZIP[:2]:
                    inflate = zlib.decompressobj(31)  # a further member (RFC 1952, 2.2)
                    continue
                rest, before = 0, b""
                data = data.lstrip(b"\0")
                while data:
                    if _GZIP in before + data:
                        raise Malformed("something else stands between its members")
                    rest, before = rest + len(data), data[-2:]
                    data = stream.read(_CHUNK)
                if behind is not None and rest:
                    behind.append(rest)
                return
            try:
                piece = inflate.decompress(data, _CHUNK)
            except zlib.error as error:
                raise Malformed("the packed bytes are damaged, or their sum does not fit") from error
            got += len(piece)
            if limits.too_much(got, stream.tell()):
                raise Refused("it would unpack to more than can be a document: refused")
            yield piece
            data = inflate.unconsumed_tail or inflate.unused_data
    if not inflate.eof:
        raise Malformed("the packed file stops before its end", stream.tell())


class _Texts(xml_parts.Handler):
    """The root's name, and the text of the elements that hold it."""

    def __init__(self, sink: TextSink) -> None:
        self.root = ""
        self._sink, self._wanted = sink, ""
        self._depth = 0
        self._text: list[str] = []

    def start(self, tag: str, attributes: xml_parts.Attributes) -> None:
        if not self.root:
            self.root, self._wanted = tag, _MIDDLE.get(tag, "")
        elif self._wanted == "*":
            self._leaf()
            for key in _TELLING & attributes.keys():
                self._sink.add(attributes[key])
        elif tag == self._wanted:
            self._depth += 1

    def text(self, text: str) -> None:
        if self._depth or self._wanted == "*":
            self._text.append(text)

    def _leaf(self) -> None:
        """The text since the last tag is one piece."""
        if text := "".join(self._text).strip():
            self._sink.add(text)
        self._text = []

    def end(self, tag: str) -> None:
        if self._wanted == "*":
            self._leaf()
        elif tag == self._wanted and self._depth:
            self._depth -= 1
            for line in "".join(self._text).splitlines():
                self._sink.add(line)
            self._text = []


def _root(head: bytes) -> str:
    """The name of the first element, as far as the first bytes show it."""
    names = [name for name in _MIDDLE if f"<{name}".encode() in head or f":{name}".encode() in head]
    return names[0] if names else ""


class Markup:
    """One XML file, plain or gzipped."""

    def score(self, head: bytes, tail: bytes) -> float:
        if head[:3] == _GZIP:
            return 0.7
        declared = head[:5] == b"<?xml" or (head[:4] == b"<!--" and re.search(rb"-->\s*<(?:abiword|awml)\s", head))
        declared = declared or re.search(rb"<!DOCTYPE\s+(?:abiword|awml)\s", head)
        return 0.8 if declared and _root(head) in ("abiword", "awml", "diagram", "gnc-v2", "KMYMONEY-FILE") else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        head = stream.read(1 << 14)
        if head[:3] == _GZIP:
            try:
                head = zlib.decompressobj(31).decompress(head, 1 << 14)
            except zlib.error as error:
                raise Malformed("the packed bytes are damaged") from error
        claimed = format_of_extension(extension_of(name))
        if claimed in _PACKED and b"<?xml" in head[:64]:
            return Glance(format=claimed)
        # A text that only speaks of such elements is none of these documents.
        is_markup = head.lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"<"
        return Glance(format=_FORMATS.get(_root(head), "gz") if is_markup else "gz")

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        glance = self.glance(stream, size, name)
        stream.seek(0)
        packed = stream.read(3) == _GZIP
        stream.seek(0)
        behind: list[int] = []
        chunks: Iterator[bytes] = iter(lambda: stream.read(_CHUNK), b"")
        if packed:
            chunks = unpacked(stream, limits, xml=glance.format != "gz", behind=behind)
        if glance.format == "gz":
            first = next(chunks, b"")[:300]
            for _ in chunks:
                pass
            claimed = format_of_extension(extension_of(name))
            if claimed is not None and format_of_magic(first) == claimed:
                glance = replace(glance, format=claimed)  # many programs pack their own documents so
            more = f"; {behind[0]} bytes stand behind its end" if behind else ""
            return Reading(glance, State.INTACT, f"unpacked to the end, its sum fits{more}", has_text=False)
        texts = _Texts(sink)
        xml_parts.run(chunks, texts, "document")
        sums = ", its sum fits" if packed else ""
        return Reading(glance, State.INTACT, f"read to the end: well-formed XML{sums}")
