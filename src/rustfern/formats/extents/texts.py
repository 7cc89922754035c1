"""Texts: to the end of their last element, group or value; plain ones to where they turn into something else.

Source: W3C XML 1.0, 2.1 (one root); the RTF specification (groups, `\\bin`); RFC 8259 (one value); RFC 4155 and RFC 5322 (mail); Adobe DSC 3.0, 4
(`%%EOF`); DXF (`EOF`); the Unicode Standard, 3.9 (UTF-8, UTF-16).
"""

from __future__ import annotations

import codecs
import re
from xml.parsers import expat

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole

_PIECE, _MOST, _SECTOR = 1 << 18, 1 << 30, 512
_GROUPS = re.compile(rb"\\bin(\d+) ?|\\.|[{}]", re.DOTALL)
_JSON = re.compile(rb'"(?:[^"\\]|\\.)*"|[\[\]{}]', re.DOTALL)
_NOT_TEXT = re.compile(rb"[\x00-\x08\x0b\x0e-\x1a\x1c-\x1f\x7f]")
_FOREIGN = re.compile(rb"[\x80-\xff]")
_MARKUP = re.compile(
    rb"(?:\xef\xbb\xbf)?\s*<(?:\?xml\s|svg[\s>:]|!DOCTYPE\s+(?!html)|[A-Za-z_][\w.:-]*[^<>]*xmlns)", re.IGNORECASE
)
_PAGE = re.compile(rb"(?:\xef\xbb\xbf)?\s*<(?:!DOCTYPE\s+html|html[\s>])", re.IGNORECASE)
_DRAWING = re.compile(rb"\s*0\r?\n\s*SECTION\r?\n")
_DRAWING_END = re.compile(rb"\n\s*0\r?\nEOF\r?\n?")
_VALUE = re.compile(rb"(?:\xef\xbb\xbf)?\s*[\[{]\s*[\"\[{\]}\-0-9tfn]")


def text(data: Bytes) -> Reach | None:
    """Whatever text begins here."""
    head = data[0:4096]
    plain = _plain(data)
    if plain is None:
        return None
    end = plain
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return _run(data, end)
    structured: Reach | None = None
    if head.startswith(b"{\\rtf"):
        return rich_text(data)
    if _PAGE.match(head):
        structured = _web_page(data, end)
    elif _MARKUP.match(head):
        structured = markup(data)
    elif head.startswith(b"%!PS"):
        structured = _postscript(data)
    elif _DRAWING.match(head):
        structured = _until(data, _DRAWING_END, end, "its EOF")
    elif _VALUE.match(head):
        structured = _json(data, end)
    return structured or _run(data, end)


def _run(data: Bytes, end: int) -> Reach:
    """A plain text. Systems fill the last sector of a file with zeros: where they stand, it ends; where it fills the sector, more may follow."""
    rest = -end % _SECTOR
    following = data[end : end + rest]
    return Reach(end, is_complete=True, proven=end, least=end, is_shown=rest > 0 and not following.strip(b"\0"))


def rich_text(data: Bytes) -> Reach | None:
    """To the bracket that closes the first."""
    depth = at = skip = 0
    carry = b""
    while at < len(data):
        piece = data[at : at + _PIECE]
        if not piece:
            break
        block, base = carry + piece, at - len(carry)
        at += len(piece)
        usable = len(block) - 32 if at < len(data) else len(block)
        done = 0
        for found in _GROUPS.finditer(block):
            if found.start() >= usable:
                break
            done = found.end()
            if base + found.start() < skip:
                continue
            mark = found[0]
            if mark == b"{":
                depth += 1
            elif mark == b"}":
                depth -= 1
                if depth == 0:
                    return whole(_with_line_end(data, base + found.end()))
            elif found[1]:
                skip = base + found.end() + int(found[1][:9])
        if b"\0" in block and skip < base:
            zero = base + block.find(b"\0")
            return broken(zero, "a group is not closed", 0)
        carry = block[max(done, usable) :]
    return broken(len(data), "a group is not closed", 0)


def _with_line_end(data: Bytes, end: int) -> int:
    """With the line end, and the zero that some programs write behind it."""
    following = data[end : end + 3]
    if following[:2] == b"\r\n":
        end += 2
        following = following[2:]
    elif following[:1] in (b"\n", b"\r") and following:
        end += 1
        following = following[1:]
    return end


def markup(data: Bytes) -> Reach | None:
    """To the end of the root element."""
    parser = expat.ParserCreate(namespace_separator=None)
    depth, closed = 0, -1

    def begun(name: str, attributes: dict[str, str]) -> None:
        nonlocal depth
        depth += 1

    def ended(name: str) -> None:
        nonlocal depth, closed
        depth -= 1
        if depth == 0:
            closed = parser.CurrentByteIndex

    def refuse(*_: object) -> None:
        raise _Refused

    parser.StartElementHandler = begun
    parser.EndElementHandler = ended
    parser.EntityDeclHandler = refuse
    at = 0
    try:
        while closed < 0 and at < min(len(data), _MOST):
            piece = data[at : at + _PIECE]
            if not piece:
                break
            at += len(piece)
            parser.Parse(piece, False)
    except _Refused:
        return None  # entities of its own may unfold without bound
    except expat.ExpatError:
        pass
    if closed < 0:
        stopped = parser.ErrorByteIndex if parser.ErrorByteIndex > 0 else min(at, len(data))
        return broken(stopped, "its last element is not closed", stopped) if stopped > 64 else None
    tail = data[closed : closed + 4096]
    end = closed + tail.find(b">") + 1 if tail.startswith(b"<") else closed
    return whole(_with_line_end(data, end))


class _Refused(Exception):
    """What is not followed."""


def _web_page(data: Bytes, end: int) -> Reach | None:
    """To the last end of the root that lies in the run of text."""
    at, last = 0, -1
    while (here := _found_any(data, (b"</html>", b"</HTML>"), at, end)) >= 0:
        last = here + 7
        at = last
        following = data[last : last + 512]
        if re.match(rb"\s*<(?:!DOCTYPE|html)", following, re.IGNORECASE):
            break
    return whole(_with_line_end(data, last)) if last > 0 else None


def _found_any(data: Bytes, wanted: tuple[bytes, ...], at: int, end: int) -> int:
    found = [here for each in wanted if (here := data.find(each, at, end)) >= 0]
    return min(found, default=-1)


def _postscript(data: Bytes) -> Reach | None:
    """To the end mark that is of no document inside."""
    at, inner = 0, 0
    while at < len(data):
        end = data.find(b"%%EOF", at, min(at + _MOST, len(data)))
        if end < 0:
            return None
        inner += _count(data, b"%%BeginDocument", at, end) - _count(data, b"%%EndDocument", at, end)
        at = end + 5
        if inner <= 0:
            return whole(_with_line_end(data, at))
    return None


def _count(data: Bytes, what: bytes, at: int, end: int) -> int:
    count = 0
    while (at := data.find(what, at, end)) >= 0:
        count += 1
        at += len(what)
    return count


def _until(data: Bytes, pattern: re.Pattern[bytes], end: int, what: str) -> Reach | None:
    for at in range(0, end, _PIECE):
        if found := pattern.search(data[at : min(at + _PIECE + 64, end)]):
            return whole(at + found.end())
    return broken(end, f"{what} is not here", end)


def _json(data: Bytes, end: int) -> Reach | None:
    """To the bracket that closes the first."""
    depth = at = 0
    while at < end:
        piece = data[at : min(at + _PIECE, end)]
        done = 0
        for found in _JSON.finditer(piece):
            done = found.end()
            if len(found[0]) == 1:
                depth += 1 if found[0] in b"[{" else -1
                if depth == 0:
                    return whole(_with_line_end(data, at + found.end()))
        open_string = piece.find(b'"', done)
        step = open_string if open_string > 0 and at + len(piece) < end else len(piece)
        at += max(step, 1)
    return None  # what begins alike and is none: a text


def _plain(data: Bytes) -> int | None:
    """How far a run of text reaches; None where there is none."""
    head = data[0:64]
    for mark, name in ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if head.startswith(mark):
            return _wide(data, name)
    at = 0
    is_wide_text = True  # valid UTF-8 so far
    decoder = codecs.getincrementaldecoder("utf-8")("strict")
    while at < min(len(data), _MOST):
        piece = data[at : at + _PIECE]
        stop = _NOT_TEXT.search(piece)
        if stop:
            piece = piece[: stop.start()]
        cut = len(piece)
        if is_wide_text:
            try:
                decoder.decode(piece, bool(stop))
            except UnicodeDecodeError as error:
                cut = _cut_or_older(piece, error, at)
                is_wide_text = cut < len(piece)
        if cut < len(piece):
            return at + cut or None
        at += len(piece)
        if stop or not piece:
            break
    return at or None


def _cut_or_older(piece: bytes, error: UnicodeDecodeError, at: int) -> int:
    """Where the text turns into something else; the whole piece where it is one in an older encoding.

    One of which the first letters that are not of English are no UTF-8 is in another encoding from its beginning.
    """
    start = max(error.start, 0)
    before = _FOREIGN.search(piece[:start])
    if at or before:
        return start
    around = piece[start : start + 512]
    foreign = len(_FOREIGN.findall(around))
    return len(piece) if foreign <= 0.6 * len(around) else start


def _wide(data: Bytes, name: str) -> int | None:
    at = 2
    decoder = codecs.getincrementaldecoder(name)("strict")
    while at < min(len(data), _MOST):
        piece = data[at : at + _PIECE]
        if len(piece) & 1:
            piece = piece[:-1]
        if not piece:
            break
        stopped = len(piece)
        try:
            told = decoder.decode(piece, False)
        except UnicodeDecodeError as error:
            stopped = error.start & ~1
            told = piece[:stopped].decode(name, "replace")
        if found := re.search(r"[\0-\x08\x0b\x0e-\x1f\x7f\ufffe\uffff]", told):
            return at + len(told[: found.start()].encode(name))
        at += stopped
        if stopped < len(piece):
            break
    return at if at > 4 else None
