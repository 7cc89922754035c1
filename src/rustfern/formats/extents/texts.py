"""Texts: to the end of their last element, group or value; plain ones to where they turn into something else.

Source: W3C XML 1.0, 2.1 (one root); the RTF specification (groups, `\\bin`); RFC 8259 (one value); RFC 4155 and RFC 5322 (mail); the document
structuring conventions of PostScript, 3.0, 4 (`%%EOF`); DXF (`EOF`); the Unicode Standard, 3.9 (UTF-8, UTF-16).
"""

from __future__ import annotations

import codecs
import re
from xml.parsers import expat

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole
from rustfern.formats.extents.registry import BEGINNINGS, beginnings_of

_PIECE, _MOST, _SECTOR, _FEW_LETTERS = 1 << 18, 1 << 30, 512, 16
_STRETCH, _MANY, _LONG_WORD, _BOM_AND_BLANK = 4096, 8, 40, b"\xef\xbb\xbf \t\r\n"
_TEXT_MARKS = tuple(
    mark for mark in (b"%PDF-", *(each.mark for each in BEGINNINGS if each.measure == "texts.text")) if mark != b"From "
)
_FIRST_TWO = frozenset(mark[:2] for mark in _TEXT_MARKS)
_RICH = re.compile(rb"\{\\rtf\d*[\\{\s]")
_RICH_WORD = re.compile(rb"\\(?:ansi|mac|pca?|deff?\d*|fonttbl|pard?|plain)(?![a-z])")
_GROUPS = re.compile(rb"\\bin(\d+) ?|\\.|[{}]", re.DOTALL)
_JSON = re.compile(rb'"(?:[^"\\]|\\.)*"|[\[\]{}]', re.DOTALL)
_NOT_TEXT = re.compile(rb"[\x00-\x08\x0b\x0e-\x1a\x1c-\x1f\x7f]")
_WIDE = (
    (b"\xff\xfe\0\0", "utf-32-le"),
    (b"\0\0\xfe\xff", "utf-32-be"),
    (b"\xff\xfe", "utf-16-le"),
    (b"\xfe\xff", "utf-16-be"),
)
_MAX_BLOCKS = 8
_NO_LETTER = re.compile(r"[\0-\x08\x0b\x0e-\x1f\x7f\ufffe\uffff]")
_WIDE_TOO = re.compile(rb"[^\t\n\r\x20-\x7e]")
_FOREIGN = re.compile(rb"[\x80-\xff]")
_MARKUP = re.compile(
    rb"(?:\xef\xbb\xbf)?\s*<(?:\?xml\s|svg[\s>:]|!DOCTYPE\s+(?!html)|[A-Za-z_][\w.:-]*[^<>]*xmlns)", re.IGNORECASE
)
_PAGE = re.compile(rb"(?:\xef\xbb\xbf)?\s*<(?:!DOCTYPE\s+html|html[\s>])", re.IGNORECASE)
_DRAWING = re.compile(rb"\s*0\r?\n\s*SECTION\r?\n")
_DRAWING_END = re.compile(rb"\n[ \t]{0,80}0\r?\nEOF\r?\n?")
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
    if _RICH.match(head) and _RICH_WORD.search(head):
        found = rich_text(data)
        if found is not None and found.is_complete and (strange := _without_marks(data, found.end, b"\\")) is not None:
            return broken(strange, "a part of it has no structure: it may be another text's", strange)
        return found
    if _PAGE.match(head):
        structured = _web_page(data, end)
    elif _MARKUP.match(head):
        structured = markup(data)
    elif head.startswith(b"%!PS"):
        structured = _postscript(data, end)
    elif _DRAWING.match(head):
        structured = _until(data, _DRAWING_END, end, "its EOF")
    elif _VALUE.match(head):
        structured = _json(data, end)
    if structured is not None and structured.is_complete:
        mark = b"<" if head.lstrip(_BOM_AND_BLANK)[:1] == b"<" else b""
        strange = _without_marks(data, structured.end, mark)
        if strange is not None:
            return broken(strange, "a part of it has no structure: it may be another text's", strange)
    return structured or _run(data, end)


def _without_marks(data: Bytes, end: int, mark: bytes) -> int | None:
    """Where a stretch as long as a cluster has no mark at all, while the others have many: plain text in the middle of a structured one."""
    if not mark or end < 3 * _STRETCH:
        return None
    counts = []
    for at in range(0, end // _STRETCH * _STRETCH, _STRETCH):
        piece = data[at : at + _STRETCH]
        # What has no blanks for long is packed: a picture inside.
        counts.append(
            (piece.count(mark), at, sum(len(each) for each in piece.split() if len(each) >= _LONG_WORD) < _STRETCH // 2)
        )
    marked = sorted(count for count, _, _ in counts if count)
    if len(marked) < 2 or marked[len(marked) // 2] < _MANY:
        return None
    return next((at for count, at, blanks in counts if not count and blanks), None)


def _run(data: Bytes, end: int) -> Reach:
    """A plain text. Systems fill the last sector of a file with zeros: where they stand, it ends; where it fills the sector, more may follow."""
    rest = -end % _SECTOR
    following = data[end : end + rest]
    if following.strip(b"\0") and end > _SECTOR:
        # What is no text any more may have begun where the sector does.
        begun = end // _SECTOR * _SECTOR
        if end - begun < _FEW_LETTERS or beginnings_of(data[begun : begun + _SECTOR]):
            end, rest = begun, 0
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
        strange = _NOT_TEXT.search(block)
        if strange and skip <= base + strange.start() and b"\\bin" not in block:
            usable = min(usable, strange.start())
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
        if strange and usable == strange.start():
            return broken(base + usable, "a group is not closed", base + usable)
        carry = block[max(done, usable) :]
    return broken(min(at, len(data)), "a group is not closed", min(at, len(data)))


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


def _postscript(data: Bytes, text_end: int) -> Reach | None:
    """To the end mark that is of no document inside; all of it is text, unless it says that it holds something else."""
    at, inner = 0, 0
    holds_more = any(data.find(mark, 0, text_end) >= 0 for mark in (b"%%BeginBinary", b"%%BeginData", b"currentfile"))
    if not holds_more and data.find(b"%%EOF", 0, text_end) < 0:
        return broken(text_end, "its end is not here", text_end)
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
    for mark, name in _WIDE:
        if head.startswith(mark):
            return _wide(data, name, len(mark))
    at = 0
    is_wide_text = True  # valid UTF-8 so far
    decoder = codecs.getincrementaldecoder("utf-8")("strict")
    while at < min(len(data), _MOST):
        piece = data[at : at + _PIECE]
        stop = _NOT_TEXT.search(piece)
        if stop:
            piece = piece[: stop.start()]
        if (other := _other_beginning(piece, at)) is not None:
            piece, stop = piece[:other], _NOT_TEXT.search(b"\0")
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


def _other_beginning(piece: bytes, at: int) -> int | None:
    """Where in a piece of a text, at the beginning of a sector, another document begins that begins with letters too."""
    for here in range((-at % _SECTOR) or (0 if at else _SECTOR), len(piece), _SECTOR):
        if piece[here : here + 2] in _FIRST_TWO and piece.startswith(_TEXT_MARKS, here):
            return here
    return None


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


def _wide(data: Bytes, name: str, at: int) -> int | None:
    """How far a text of two or four bytes a letter reaches."""
    width = 4 if "32" in name else 2
    first = at
    while at < min(len(data), _MOST):
        piece = data[at : at + _PIECE]
        wanted = len(piece)
        for here in range(-at % _SECTOR, len(piece), _SECTOR):
            if not _is_wide(piece[here : here + _SECTOR], width, big=name.endswith("be")):
                piece = piece[:here]  # of letters of one byte, or none: another's
                break
        piece = piece[: len(piece) // width * width]
        stopped = len(piece)
        try:
            told = piece.decode(name)
        except UnicodeDecodeError as error:
            stopped = error.start // width * width
            told = piece[:stopped].decode(name, "replace")
        if found := _NO_LETTER.search(told):
            return at + len(told[: found.start()].encode(name))
        at += stopped
        if stopped < _PIECE // width * width or stopped < wanted // width * width:
            break
    return at if at > first + width else None


def _is_wide(sector: bytes, width: int, *, big: bool) -> bool:
    """Whether a sector may be text of more than one byte a letter: few blocks of letters, and not letters of one byte."""
    if not _WIDE_TOO.search(sector):
        return False
    high = sector[width - 2 if big else 1 :: width] if width == 2 else sector[1 if big else 2 :: width]
    return len({byte for byte in high if not (0x30 <= byte <= 0x9F or 0xAC <= byte <= 0xD7)}) <= _MAX_BLOCKS
