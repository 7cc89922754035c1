"""Plain text: encoding found, read to its end; runs of NUL and cut characters are damage, a binary blob is not text.

Source: Unicode Standard 3.10 (D92, D98: UTF-8 and UTF-16 well-formedness), 23.8 (byte order mark).
"""

from __future__ import annotations

import codecs
import io
import re
import string
from collections.abc import Callable
from typing import BinaryIO
from unicodedata import category

from rustfern.core.errors import Malformed
from rustfern.core.model import Glance, State
from rustfern.formats.format_table import ALSO_TEXTS, TEXT_FORMATS, extension_of, format_of_extension
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.office import xml_parts
from rustfern.formats.text import encodings
from rustfern.formats.text_sink import LONG_CHARACTERS, TextSink, parts_of

_MAX_BLANK, _FEW_LETTERS = 64 << 10, 8
_NO_CHANCE = 32
_CHUNK = 1 << 18
_XML = frozenset({"xml", "svg", "qgs", "kdenlive", "ardour", "mscx", "aup", "sla", "note"})
_DECLARED = (b"<?xml ", b"\xef\xbb\xbf<?x")
_OF_LETTERS = re.compile(r"cp\d{3,4}|iso8859-\d+|koi8-[rtu]|mac-[a-z]+|tis-620|kz1048|ptcp154|hp-roman8")
"""Encodings of one byte a letter; what else a library calls so may unpack, or say anything."""
_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
# Control characters that occur in real texts: tab, line feed, vertical tab, form feed, return, escape, end of file.
_ALLOWED = frozenset(b"\t\n\x0b\x0c\r\x1a\x1b\x08")
_CONTROLS = bytes(c for c in range(32) if c not in _ALLOWED) + b"\x7f"


def encoding_of(head: bytes) -> str | None:
    """The encoding that the first bytes show; None if they are no text. `cp1252` stands for any 8-bit encoding."""
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name
    if not head:
        return "utf-8"
    if (wide := _in_four_bytes(head)) is not None:
        return wide
    zeros_even, zeros_odd = head[0::2].count(0), head[1::2].count(0)
    half = max(len(head) // 2, 1)
    if zeros_odd > 0.4 * half and zeros_even < 0.05 * half and len(head) > 3:
        return "utf-16-le"
    if zeros_even > 0.4 * half and zeros_odd < 0.05 * half and len(head) > 3:
        return "utf-16-be"
    stripped = head.rstrip(b"\0")
    controls = len(stripped) - len(stripped.translate(None, _CONTROLS))
    high = sum(1 for byte in head if byte >= 0x80)
    many_controls = controls > 0.02 * len(head) + (1 if len(head) > 200 else 0)
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head, False)
        # Tables of signs in a program hold controls, too; that so many accents are in order is no chance.
        if not many_controls or (high >= _NO_CHANCE and b"\0" not in head):
            return "utf-8"
    except UnicodeDecodeError:
        if not many_controls and high <= 0.3 * len(head):
            return "cp1252"
    return _declared(head) or encodings.by_decoding(head)


def _in_four_bytes(head: bytes) -> str | None:
    """UTF-32 without a mark: each letter has a byte of zeros in front or behind, and mostly three (Unicode 15, 3.10, D99)."""
    quarter = len(head) // 4
    zeros = [head[place : quarter * 4 : 4].count(0) for place in range(4)]
    if quarter < _FEW_LETTERS or min(zeros) > quarter // 4:
        return None
    big = zeros[0] == quarter and zeros[1] > 0.9 * quarter and zeros[3] < 0.1 * quarter
    little = zeros[3] == quarter and zeros[2] > 0.9 * quarter and zeros[0] < 0.1 * quarter
    if not (big or little):
        return None
    name = "utf-32-be" if big else "utf-32-le"
    try:
        text = head[: quarter * 4].decode(name)
    except UnicodeDecodeError:
        return None
    # Numbers of four bytes look alike.
    return name if sum(sign.isprintable() or sign in "\t\n\r" for sign in text) > 0.98 * len(text) else None


def _declared(head: bytes) -> str | None:
    """The encoding that an XML text declares, if its beginning is written in it."""
    found = xml_parts.DECLARED.match(head)
    name = found[1].decode("ascii") if found else ""
    several = encodings.of_several_bytes(name)
    try:
        codec = several or codecs.lookup(name).name
        if several is None and _OF_LETTERS.fullmatch(codec) is None:
            return None
        codecs.getincrementaldecoder(codec)("strict").decode(head, False)
        return codec
    except (LookupError, UnicodeError):
        return None


def refine(name: str) -> str:
    """Plain bytes carry no name of their format: a text format named by the extension is believed."""
    base = name.rstrip("~#").lstrip("#")
    claimed = format_of_extension(extension_of(base))
    return claimed if claimed in TEXT_FORMATS and not claimed.startswith("fod") else "txt"


def _nothing() -> None:
    """What a text without layout does at its end."""


class PlainText:
    """Text in any common encoding."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.3 if encoding_of(head) else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        return Glance(format=refine(name))

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        kind = refine(name)
        if kind == "txt" and format_of_extension(extension_of(name)) is None and stream.read(6) in _DECLARED:
            kind = "xml"
        stream.seek(0)
        if kind in ALSO_TEXTS and b"<" not in stream.read(1 << 10):
            kind = "txt"
        stream.seek(0)
        glance = Glance(format=kind)
        if size == 0:
            return Reading(glance, State.EMPTY, "zero bytes: an empty text", {})
        encoding = encoding_of(stream.read(4096))
        if encoding is None:
            raise Malformed("the bytes are no text", 0)
        try:
            if encoding == "utf-8":
                encoding = self._utf8_or_older(stream)
            stream.seek(0)
            lines = self._read(stream, encoding, sink, kind)
        except Malformed as error:
            self._before(stream, encoding, sink, error.offset)
            raise
        stream.seek(0)
        if size <= _MAX_BLANK and not stream.read(_MAX_BLANK).decode(encoding, "replace").strip(
            "\ufeff" + string.whitespace
        ):
            return Reading(glance, State.EMPTY, "only spaces and line ends: a blank text", {"lines": lines})
        said = self._structure(stream, size, glance.format, encoding)
        words = {"utf-8-sig": "UTF-8", "utf-8": "UTF-8", "cp1252": "an 8-bit encoding"}.get(
            encoding, encoding.upper().replace("_", "-")
        )
        return Reading(glance, State.INTACT, f"read to the end as {words}{said}", {"lines": lines})

    @staticmethod
    def _before(stream: BinaryIO, encoding: str, sink: TextSink, end: int | None) -> None:
        """The text in front of the damage, where none of it was handed on yet: it tells whose it is, and can be looked at."""
        if sink.pieces or not end:
            return
        stream.seek(0)
        text = stream.read(min(end, _CHUNK)).decode(encoding, "replace")
        for line in text.splitlines():
            sink.add(line, "line")

    @staticmethod
    def _utf8_or_older(stream: BinaryIO) -> str:
        """UTF-8 to the end, or never UTF-8 from its first accent on: an older 8-bit encoding. In between is damage."""
        stream.seek(0)
        decoder = codecs.getincrementaldecoder("utf-8")()
        position, accents = 0, False
        while True:
            data = stream.read(_CHUNK)
            pending = len(decoder.getstate()[0])
            try:
                text = decoder.decode(data, not data)
            except UnicodeDecodeError as error:
                bad_at = position - pending + error.start
                if accents or any(byte >= 0x80 for byte in data[: max(error.start - pending, 0)]):
                    raise Malformed("a cut or impossible character", bad_at) from error
                return "cp1252"
            accents = accents or not text.isascii()
            position += len(data)
            if not data:
                return "utf-8"

    @staticmethod
    def _structure(stream: BinaryIO, size: int, format_name: str | None, encoding: str) -> str:
        """Texts with a grammar: each must not stop before its end. Gives what is to be said of it, raises `Malformed`."""
        from rustfern.formats.text import structured

        stream.seek(0)
        if format_name in _XML:
            try:
                xml_parts.run(iter(lambda: stream.read(_CHUNK), b""), None, "document")
            except xml_parts.Undefined:
                if format_name != "xml":
                    raise  # its program shows none of it then
                stream.seek(0)
                xml_parts.run_defined_elsewhere(iter(lambda: stream.read(_CHUNK), b""), "document")
                return ", well-formed XML, but for texts that it names and that are defined elsewhere"
            return ", well-formed XML"
        if (look := structured.READERS.get(format_name or "")) is None:
            return ""
        text = io.TextIOWrapper(stream, encoding, errors="replace", newline="")
        try:
            return look(text, size)
        finally:
            text.detach()

    def _read(self, stream: BinaryIO, encoding: str, sink: TextSink, kind: str) -> int:
        put: Callable[[str], None] = sink.add
        done = _nothing
        if sink.keeps:
            from rustfern.formats.text_layout import layout_of

            layout = layout_of(kind, sink)
            put, done = layout.line, layout.done
        decoder = codecs.getincrementaldecoder(encoding)("replace" if encoding == "cp1252" else "strict")
        position, lines, rest = 0, 0, ""
        wide = encoding.startswith(("utf-16", "utf-32"))
        while True:
            data = stream.read(_CHUNK)
            if not wide and (at := data.find(b"\0\0\0\0")) >= 0:
                raise Malformed("zeros where text should be", position + at)
            try:
                text = decoder.decode(data, not data)
            except UnicodeDecodeError as error:
                raise Malformed("a cut or impossible character", max(position + error.start, 0)) from error
            if wide and "\0\0\0\0" in text:
                raise Malformed("zeros where text should be", position)
            if wide:
                self._plausible(text, position)
            position += len(data)
            if not sink.counted:
                # Only the verdict is asked for: lines need not be told apart.
                lines += text.count("\n")
                sink.pieces += bool(text)
                rest = text[-1:] or rest
                if not data:
                    return lines + (rest not in ("", "\n"))
                continue
            if len(rest) > LONG_CHARACTERS and "\n" not in text:
                # One line without end: it is worked on in parts.
                *begun, rest = parts_of(rest)
                for part in begun:
                    put(part)
            *whole, rest = (rest + text).split("\n") if data else [rest + text, ""]
            ended = not data and not whole[-1]
            if put == sink.add:
                sink.count_lines(whole[: len(whole) - ended])
            else:
                for line in whole[: len(whole) - ended]:
                    put(line)
            lines += len(whole)
            if not data:
                done()
                return lines - (not whole[-1])

    @staticmethod
    def _plausible(text: str, position: int) -> None:
        """UTF-16 out of step turns letters into signs of far-apart scripts: unassigned and private ones among them."""
        if len(text) < 40:
            return
        odd = sum(not ch.isprintable() and ch not in "\r\n\t\f" and category(ch) != "Cf" for ch in text)
        if odd > 0.02 * len(text):
            raise Malformed("the text is out of step: a byte is missing", position)
        if sum(ord(ch) > 0x2FF and not ord(ch) & 0xFF for ch in text) * 3 > len(
            text
        ):  # letters of the Latin script, moved
            raise Malformed("the text is out of step: a byte is missing", position)
        # The signs of East Asia fill many rows.
        blocks = len({ord(ch) >> 8 for ch in text if ord(ch) > 0x2FF and not 0x3400 <= ord(ch) < 0xD7A4})
        if blocks > 30 and blocks * 4 > len(set(text)):
            raise Malformed("the text is out of step: a byte is missing", position)
