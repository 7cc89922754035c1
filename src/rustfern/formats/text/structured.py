"""Texts with a grammar of their own: does each reach its end, or stop in the middle of something?

What people write by hand is often not quite right, and programs read it all the same: only what shows that the rest of the file is
missing counts as damage. Source: RFC 8259 (JSON), RFC 4180 (CSV), TOML 1.0, YAML 1.2, the HTML standard 13.2.5 (tags, comments, raw text), the DXF
reference (groups of two lines, `EOF`), RFC 5545 3.4 and RFC 6350 3.3 (calendars and cards: BEGIN and END).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from itertools import islice
from typing import TextIO

from rustfern.core.errors import Malformed

_LIMIT_YAML = 4 << 20
_LIMIT_TOML = 2 << 20
_MANY_KEYS = re.compile(r"""(?<![\w"'-])(?:[\w"'-]++[ \t]*+\.[ \t]*+){64}""")
_WINDOW = 1 << 20
"""Characters that are worked on at once: lines, tags and cells may be longer."""
_GROUPS = 1 << 15
_CODE = re.compile(r"[^\S\n]*-*\d+[^\S\n]*")
_CODES = re.compile(rf"(?:{_CODE.pattern}(?:\n|$))*+")
_PLAIN = re.compile(
    r"(?:[^<]++|<(?!!--|(?:script|style|textarea|title)\b)[a-z/!?][^<>]*+>|<(?=[^a-z/!?]))*+", re.IGNORECASE
)
"""What may stand in a page one after the other: text, and tags that are closed."""
_OPENED = re.compile(r"<(?:!(--)|(script|style|textarea|title)\b)", re.IGNORECASE)


def _json(text: TextIO, size: int) -> str:
    from rustfern.formats.text import json_stream

    try:
        json_stream.check(text.read)
    except json_stream.CutOff as error:
        raise Malformed("the JSON stops before its end", size) from error
    except json_stream.NotStrict:
        return "; it is not strictly JSON (comments or signs of another program)"
    return ", complete JSON"


def _toml(text: TextIO, size: int) -> str:
    import tomllib

    whole = text.read(_LIMIT_TOML)
    if len(whole) >= _LIMIT_TOML:
        return ""  # so long a file is data, not settings
    if _MANY_KEYS.search(whole):
        return ""  # a name of so many parts takes longer than any settings are worth
    try:
        tomllib.loads(whole)
    except tomllib.TOMLDecodeError as error:
        if str(error).endswith("(at end of document)"):
            raise Malformed("the TOML stops in the middle of a value", size) from error
        return f"; it is not right TOML: {error}"
    except RecursionError:
        return ""
    return ", complete TOML"


def _yaml(text: TextIO, size: int) -> str:
    import yaml

    whole = text.read(_LIMIT_YAML)
    if len(whole) >= _LIMIT_YAML:
        return ""  # taken apart slowly: a list so long is data, not settings
    try:
        for _ in yaml.parse(whole, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader)):
            pass
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark
        if mark is not None and (mark.line, mark.column) >= _end_of(whole):
            raise Malformed("the YAML stops in the middle of a value", size) from error
        return f"; it is not right YAML: {error.problem}"
    except (yaml.YAMLError, RecursionError, ValueError):
        return "; it is not right YAML"
    return ", complete YAML"


def _end_of(text: str) -> tuple[int, int]:
    """Line and column behind the last sign that is no white space."""
    lines = text.rstrip().split("\n")
    return len(lines) - 1, len(lines[-1].rstrip("\r"))


def _chunks(text: TextIO) -> Iterator[str]:
    """A text piece by piece, with `\\n` for every line end."""
    held = ""
    while chunk := text.read(_WINDOW):
        chunk = held + chunk
        # Whether another sign of the line end follows shows in the next piece.
        held = "\r" if chunk.endswith("\r") else ""
        yield chunk.removesuffix("\r").replace("\r\n", "\n").replace("\r", "\n")
    if held:
        yield "\n"


def _lines(text: TextIO) -> Iterator[str]:
    """The lines of a text without their ends; of one that is longer than any line of such a text, its beginning."""
    begun = ""
    for chunk in _chunks(text):
        *lines, rest = chunk.split("\n")
        for line in lines:
            yield begun + line if len(begun) < _WINDOW else begun
            begun = ""
        begun = (begun + rest)[:_WINDOW]
    if begun:
        yield begun


_FRESH, _BARE, _INSIDE, _CLOSED = range(4)
"""Where one is in a row: at the start of a cell, in one, in a quoted one, behind a quotation mark that may close it."""


class _Rows:
    """Rows of cells as they come: whether a quoted cell is open, and whether a last row is shorter than all others. `closed` counts the quoted cells
    that ended with their mark, `strays` those behind whose mark the cell went on: there the marks were not meant to quote.
    """

    def __init__(self) -> None:
        self.width, self.count, self.narrow, self.cells = -1, 0, True, 1
        self.state, self.marks, self.closed, self.strays = _FRESH, 0, 0, 0

    def end(self, *, blank: bool) -> None:
        """A row ends here."""
        self.narrow = self.narrow and (not self.count or blank or self.cells == self.width)
        self.width = self.cells if not self.count else self.width
        self.closed += self.state == _CLOSED
        self.count += 1
        self.cells, self.state = 1, _FRESH

    def take(self, line: str, sign: str) -> None:
        """A line, or a part of one, of a row whose cells this sign parts."""
        if '"' not in line and self.state != _INSIDE:
            self.cells += line.count(sign)
            self.state = _FRESH if line.endswith(sign) else _BARE
            return
        self.marks += line.count('"')
        at = 0
        while at < len(line):
            if self.state == _INSIDE:
                end = line.find('"', at)
                if end < 0:
                    return
                at, self.state = end + 1, _CLOSED
            elif line[at] == '"' and self.state in (_FRESH, _CLOSED):  # behind a closing one it stands for itself
                at, self.state = at + 1, _INSIDE
            elif line[at] == " " and self.state == _FRESH:
                at += 1
            else:
                if self.state == _CLOSED:
                    self.closed += line[at] == sign
                    self.strays += line[at] != sign
                end = line.find(sign, at)
                if end < 0:
                    self.state = _BARE
                    return
                at, self.state, self.cells = end + 1, _FRESH, self.cells + 1

    def check(self, size: int) -> None:
        """Raises `Malformed` where the last row, which has no line end, is shorter than all others."""
        if self.count > 1 and self.narrow and 1 < self.width > self.cells:
            raise Malformed(f"the table stops in its last row, after {self.cells} of {self.width} cells", size)


def _csv(text: TextIO, size: int) -> str:
    """Rows of cells. A quoted cell that never ends, or a last row that is shorter than all others and has no line end, is a cut.

    A cell is quoted if a quotation mark begins it (RFC 4180, 2). Where tabs part cells, many programs quote none
    (text/tab-separated-values): unless others end as quoted ones do, what is right in this way is right, too.
    """
    quoted, blank = False, True
    rows, unquoted = _Rows(), _Rows()
    sign, ended = "", False
    for chunk in _chunks(text):
        if not sign:
            first = chunk.partition("\n")[0]
            sign = max(",;\t|", key=first.count)
        for number, line in enumerate(chunk.split("\n")):
            if number:
                # The row before ended here, unless the line end stands in a quoted cell.
                if rows.state != _INSIDE:
                    rows.end(blank=blank)
                    quoted = False
                unquoted.end(blank=blank)
                ended = blank = True
            if not line:
                continue
            ended, blank = False, blank and line.isspace()
            unquoted.cells += line.count(sign)
            quoted = quoted or '"' in line
            rows.take(line, sign)
    # Where the sign that parts cells was not told right, their number still shows whether each was closed.
    inside = rows.state == _INSIDE and rows.marks % 2 == 1
    if inside and (sign != "\t" or (rows.closed and not rows.strays)):
        raise Malformed("the table stops inside a quoted cell", size)
    if not ended and not blank and (inside or not quoted):
        (unquoted if inside else rows).check(size)
    return ""


def _html(text: TextIO, size: int) -> str:
    """A page that stops inside a tag, a comment or a script is cut; end tags at its end may rightly be left out."""
    held = text.read(_WINDOW)
    whole_page = "<html" in held[:4096].casefold()
    at, last = 0, ""
    closing: re.Pattern[str] | None = None
    what = ""
    while True:
        if closing is None:
            found = _PLAIN.match(held, at)
            at = found.end() if found else at
            opened = _OPENED.match(held, at)
            if opened and opened.end() < len(held):
                comment = opened[1] is not None
                closing = re.compile("-->" if comment else f"</{opened[2]}\\b", re.IGNORECASE)
                what = "a comment" if comment else f"<{opened[2].lower()}>"
                at = opened.end()
            elif at < len(held) and held.find("<", at + 1) > 0 and not opened:
                # What begins like a tag and meets another one is text.
                at += 1
                continue
        if closing is not None and (end := closing.search(held, at)):
            at, closing = end.end(), None
            continue
        # What is seen is dropped, but for what may go on in the next piece.
        keep = max(at, len(held) - 16) if closing is not None else at
        last = (last + held[:keep])[-4096:] if keep else last
        more = text.read(_WINDOW)
        if not more:
            last = (last + held[keep:])[-4096:]
            break
        held, at = held[keep:] + more, 0
        if len(held) > 8 * _WINDOW:
            return ""  # no page has a tag of megabytes
    if closing is None and (opened := _OPENED.match(held, at)):
        what, closing = ("a comment" if opened[1] else f"<{opened[2].lower()}>"), _OPENED
    low = last.casefold()
    if closing is not None and what.startswith("<") and "</html" in low:
        return f"; {what} is never closed, but the page goes on to its end"
    if closing is not None or held[at:] not in ("", "<"):
        raise Malformed(f"the page stops inside {what if closing is not None else 'a tag'}", size)
    if whole_page and "</html" not in low and "</body" not in low:
        return "; its end tag is missing: look whether its last lines are there"
    return ""


def _dxf(text: TextIO, size: int) -> str:
    """Groups of two lines: a number, a value; the last is 0, EOF."""
    sections = number = 0
    waiting = ""  # a code whose value has not come yet
    lines = _lines(text)
    while some := list(islice(lines, _GROUPS)):
        if number % 2:
            some.insert(0, waiting)
            number -= 1
        codes, values = some[::2], some[1::2]
        waiting = codes[-1]
        bad = (
            len(codes)
            if _CODES.fullmatch("\n".join(codes))
            else next(n for n, code in enumerate(codes) if not _CODE.fullmatch(code))
        )
        for at in [n for n, code in enumerate(codes[: min(bad, len(values))]) if code.strip() == "0"]:
            value = values[at].strip()
            sections += (value == "SECTION") - (value == "ENDSEC")
            if value == "EOF":
                if sections:
                    raise Malformed("a section of the drawing is not closed", size)
                return ", to its end mark"
        if bad < len(codes):
            if any(line.strip() for line in some[2 * bad :]):
                raise Malformed(f"line {number + 2 * bad + 1} of the drawing is no group code")
            break
        number += len(some)
    raise Malformed("the drawing stops before its end mark", size)


def _calendar(text: TextIO, size: int) -> str:
    stack: list[str] = []
    for line in _lines(text):
        word, colon, value = line.partition(":")
        if colon and word.upper() == "BEGIN":
            stack.append(value.strip().upper())
        elif colon and word.upper() == "END" and (not stack or stack.pop() != value.strip().upper()):
            raise Malformed(f"END:{value} closes nothing that was begun")
    if stack:
        raise Malformed(f"it stops before the end of {stack[-1]}", size)
    return ", every entry closed"


READERS: dict[str, Callable[[TextIO, int], str]] = {
    "json": _json,
    "toml": _toml,
    "yaml": _yaml,
    "csv": _csv,
    "html": _html,
    "dxf": _dxf,
    "ics": _calendar,
}
"""What looks at a text of each format; gives what is to be said of it."""
