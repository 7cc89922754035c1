"""RTF texts: groups balanced to the very end, control words as the specification has them, the text for comparing.

Source: Rich Text Format Specification 1.9.1: groups, control words and symbols, `\\bin`, `\\'hh`, `\\uN` with `\\ucN`.
"""

from __future__ import annotations

import re
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.office.embedded import BLANK
from rustfern.formats.paged_bytes import Data, load_or_page
from rustfern.formats.text_sink import TextSink

_MAX = 4 << 30
_TOO_MANY = 16
"""Closing brackets behind the end that programs write, and readers leave alone."""
_BEHIND = 1 << 20
_MAX_DEPTH = 10_000
_CONTROLS = bytes(range(9)) + bytes(range(14, 32))
"""Signs that readers pass over: they are no text."""
_TOKEN = re.compile(
    rb"\\([A-Za-z]{1,40})(-?\d{1,10})? ?|\\'([0-9A-Fa-f]{2})|\\([^A-Za-z])|([{}])|([^\\{}\r\n]+)|[\r\n]+", re.DOTALL
)
_SILENT = frozenset(
    {b"fonttbl", b"colortbl", b"stylesheet", b"info", b"pict", b"object", b"themedata", b"colorschememapping", b"datastore",
     b"listtable", b"listoverridetable", b"rsidtbl", b"generator", b"latentstyles", b"xmlnstbl", b"fldinst", b"header",
     b"footer", b"pgptbl", b"filetbl", b"revtbl", b"blipuid", b"bkmkstart", b"bkmkend", b"wgrffmtfilter"}
)  # fmt: skip
_WINDOW_BYTES, _REACH_BYTES = 1 << 20, 1 << 12
_LEAST_RUN = 8
_MARK = b"\x1e"
_CONTROLS_BUT_MARK = _CONTROLS.replace(_MARK, b"") + b"\r\n"
_BREAKS = {b"par": "\n", b"line": "\n", b"row": "\n", b"cell": "\n", b"tab": "\t", b"page": "\n", b"sect": "\n"}
_STYLE = re.compile(rb"\{\\s(\d{1,4})\\[^{};]{0,600}?\\outlinelevel([0-8])(?!\d)")
_HEADING = re.compile(rb"\{\\s(\d{1,4})\\[^{};]{0,600}? [Hh]eading ([1-9]);")
_STYLES = 1 << 17
_LAID_OUT = frozenset({b"outlinelevel", b"s", b"intbl", b"pard", b"trowd"})
_SIGNS = {
    b"emdash": "—",
    b"endash": "–",
    b"lquote": "‘",
    b"rquote": "’",
    b"ldblquote": "“",
    b"rdblquote": "”",
    b"bullet": "•",
}


_TOLD_WORDS = {*_SILENT, *_BREAKS, *_SIGNS, b"bin", b"uc", b"u", b"ansicpg"}
_TOLD = b"|".join(sorted(_TOLD_WORDS))
_WORD = rb"\\(?!(?:" + _TOLD + rb")(?![A-Za-z]))[A-Za-z]{1,40}+(?:-?\d{1,10}+)? ?"
_PARAGRAPH = re.compile(rb"\\par(?![A-Za-z])(?:-?\d{1,10})? ?")
_FORMATTING = re.compile(rb"[{}]|\\[A-Za-z]{1,40}(?:-?\d{1,10})? ?")
_ONE = rb"(?:[^\\{}]++|" + _WORD + rb"|" + _PARAGRAPH.pattern + rb")"
_RUN = re.compile(rb"(?:" + _ONE + rb"|\{" + _ONE + rb"*+\})*+")
"""Text, formatting that says nothing of it, ends of paragraphs, and groups of these alone."""


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Read to the last bracket. Raises `Malformed`."""
    if size > _MAX:
        raise Refused("a text of this size is refused")
    data = load_or_page(stream, size)
    if not re.match(rb"\s*\{\\(?:rtf|urtf)", data[:64]):
        raise Malformed("it does not start like rich text", 0)
    end, depth = _walk(data, sink)
    if end < 0:
        raise Malformed(f"the text stops with {depth} of its groups open", size)
    rest = data[end : end + _BEHIND]
    too_many = rest.count(b"}") if not rest.strip(b"}\0\r\n\t \x1a") else 0
    if rest.strip(b"\0\r\n\t \x1a") and not 0 < too_many <= _TOO_MANY:
        raise Malformed("something else follows behind its end", end)
    if len(rest) > 512 and not rest.strip(b"\0"):
        raise Malformed(f"{size - end} zeros follow behind its end", end)
    if not sink.pieces and not any(data.find(sign) >= 0 for sign in (b"\\pict", b"\\object", b"\\shp")):
        return Reading(Glance(format="rtf"), State.EMPTY, BLANK)
    more = f"; closing brackets too many stand behind its end ({too_many})" if too_many else ""
    reason = f"read to the end: all its groups are closed{more}"
    return Reading(Glance(format="rtf"), State.INTACT, reason, {"pieces": sink.pieces})


class _Lay:
    """Headings and cells of tables, as the marks of paragraphs tell them."""

    def __init__(self, sink: TextSink, head: bytes) -> None:
        self._sink = sink
        self._styles: dict[bytes, int] = {}
        if sink.keeps:
            self._styles = {number: int(level) for number, level in _HEADING.findall(head)}
            self._styles |= {number: int(level) + 1 for number, level in _STYLE.findall(head)}
        self._level = self._table = self._row = self._column = 0
        self._inside = self._before = self._ended = False

    def told(self, word: bytes, number: int) -> None:
        """A mark of the paragraph that is read."""
        if word == b"outlinelevel" and number < 9:
            self._level = number + 1
        elif word == b"s":
            self._level = self._styles.get(str(number).encode(), 0)
        elif word == b"intbl":
            self._inside = True
        elif word == b"pard":
            self._level, self._inside = 0, False
        elif word == b"trowd" and not self._before:
            self._table, self._row, self._column = self._table + 1, 1, 0
            self._before, self._ended = True, False

    def end(self, text: str, word: bytes) -> None:
        """A paragraph, a cell or a row has ended."""
        if not (self._inside or word in (b"cell", b"row")) and text.strip():
            self._before = False
        if word == b"row":
            self._ended = True
            self._sink.add(text)
        elif (self._inside or word == b"cell") and self._before:
            # Some writers describe a row once before it, some also behind it, some describe equal rows once.
            if self._ended:
                self._row, self._column, self._ended = self._row + 1, 0, False
            self._sink.add(text, "cell", spot=(self._table, self._row, self._column + 1))
            self._column += word == b"cell"
        else:
            self._sink.add(text, "heading" if self._level else "text", self._level)


class _Window:
    """A part of the text at a time: tokens are matched where they lie, without a slice for each."""

    def __init__(self, data: Data) -> None:
        self._data, self._size = data, len(data)
        self.base, self.held = 0, data[:_WINDOW_BYTES]

    def at(self, place: int) -> int:
        """Where in the window a place of the text is; enough of the text lies behind it."""
        if place - self.base > len(self.held) - _REACH_BYTES and self.base + len(self.held) < self._size:
            self.base, self.held = place, self._data[place : place + _WINDOW_BYTES]
        return place - self.base


def _plain_run(run: bytes, codepage: str) -> list[str]:
    """The text of a run of plain words and formatting, by paragraphs."""
    text = _FORMATTING.sub(b"", _PARAGRAPH.sub(_MARK, run)).translate(None, _CONTROLS_BUT_MARK)
    try:
        return text.decode(codepage, "replace").split(_MARK.decode())
    except LookupError:
        return text.decode("cp1252", "replace").split(_MARK.decode())


def _walk(data: Data, sink: TextSink) -> tuple[int, int]:
    """(position behind the last bracket, or -1; groups that are open)."""
    at, depth, silent, skip, star = 0, 0, 0, 0, False
    after, stack, size = 1, [1], len(data)
    line: list[str] = []
    lay = _Lay(sink, bytes(data[:_STYLES]))
    codepage = "cp1252"
    window = _Window(data)
    while at < size:
        here = window.at(at)
        if depth and not (sink.keeps or silent or skip or star):
            # Where only words count, most of a text is taken many tokens at a time.
            found = _RUN.match(window.held, here)
            if (
                found
                and found.end() - here > _LEAST_RUN
                and (run := found[0]).find(_MARK) < 0
                and b"\0\0\0\0\0\0\0\0" not in run
            ):
                first, *others = _plain_run(run, codepage)
                line.append(first)
                if others:
                    sink.count_lines(["".join(line), *others[:-1]])
                    line = others[-1:]
                at = window.base + found.end()
                continue
        found = _TOKEN.match(window.held, here)
        if found is None:
            raise Malformed("a control word is cut off", at)
        word, number, byte, symbol, bracket, plain = found.groups()
        at = window.base + found.end()
        if bracket == b"{":
            depth += 1
            if depth > _MAX_DEPTH:
                raise Refused("groups are nested too deep: refused", at)
            stack.append(after)
            star = False
        elif bracket == b"}":
            depth -= 1
            after = stack.pop()
            if silent > depth:
                silent = 0
            if depth == 0:
                lay.end("".join(line), b"par")
                return at, 0
            if depth < 0:
                raise Malformed("a group is closed that was never opened", at)
        elif word is not None:
            if word == b"bin":
                at += max(int(number or 0), 0)
                if at > size:
                    raise Malformed("embedded bytes reach beyond the end", size)
            elif not silent and (word in _SILENT or star):
                silent = depth
            elif word == b"uc":
                after = min(int(number or 1), 8)
            elif word == b"u" and not silent:
                line.append(chr(int(number or 0) & 0xFFFF))
                skip = after
            elif word == b"ansicpg" and number:
                codepage = f"cp{int(number)}"
            elif not silent and word in _LAID_OUT:
                lay.told(word, int(number or 0))
            elif not silent and word in _BREAKS:
                if _BREAKS[word] == "\n":
                    lay.end("".join(line), word)
                    line = []
                else:
                    line.append("\t")
            elif not silent and word in _SIGNS:
                line.append(_SIGNS[word])
            star = False
        elif symbol == b"*":
            star = True
        elif not silent:
            if byte is not None and skip:
                skip -= 1
                continue
            text = (
                (byte and bytes([int(byte, 16)]))
                or (symbol and {b"~": b" ", b"-": b"", b"_": b"-"}.get(symbol, symbol))
                or plain
            )
            if text:
                if b"\0\0\0\0\0\0\0\0" in text:
                    raise Malformed("zeros where text should be", window.base + found.start())
                text = text.translate(None, _CONTROLS)
                try:
                    shown = text.decode(codepage, "replace")
                except LookupError:
                    shown = text.decode("cp1252", "replace")
                line.append(shown[skip:])
                skip = max(skip - len(shown), 0)
        elif plain and b"\0\0\0\0\0\0\0\0" in plain:
            raise Malformed("zeros where text should be", window.base + found.start())
    return -1, depth
