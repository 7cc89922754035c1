"""Texts with a grammar of their own: does each reach its end, or stop in the middle of something?

What people write by hand is often not quite right, and programs read it all the same: only what shows that the rest of the file is
missing counts as damage. Source: RFC 8259 (JSON), RFC 4180 (CSV), TOML 1.0, YAML 1.2, the HTML standard 13.2.5 (tags, comments, raw text), the DXF
reference (groups of two lines, `EOF`), RFC 5545 3.4 and RFC 6350 3.3 (calendars and cards: BEGIN and END).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TextIO

from rustfern.errors import Malformed

_LIMIT = 64 << 20
_LIMIT_YAML = 4 << 20
_HTML = re.compile(r"<!--|<(script|style|textarea|title)\b|<[a-zA-Z/!?][^<>]*(>|$)", re.IGNORECASE)


def _json(text: TextIO, size: int) -> str:
    import json

    whole = text.read(_LIMIT).lstrip("\ufeff").rstrip()
    try:
        json.loads(whole)
    except json.JSONDecodeError as error:
        if len(whole) < _LIMIT and (error.pos >= len(whole) or error.msg.startswith("Unterminated")):
            raise Malformed("the JSON stops before its end", size) from error
        return "; it is not strictly JSON (comments or signs of another program)"
    except RecursionError:
        return ""
    return ", complete JSON"


def _toml(text: TextIO, size: int) -> str:
    import tomli

    whole = text.read(_LIMIT)
    try:
        tomli.loads(whole)
    except tomli.TOMLDecodeError as error:
        if "at end of document" in str(error):
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


def _csv(text: TextIO, size: int) -> str:
    """Rows of cells. A quoted cell that never ends, or a last row that is shorter than all others and has no line end, is a cut."""
    inside = False
    width, rows, narrow = -1, 0, True
    last = ""
    sign = ","
    for line in text:
        if not rows:
            sign = max(",;\t|", key=line.count)
        if not inside:
            cells = 1
        quotes = line.count('"')
        if not quotes and not inside:
            cells = line.count(sign) + 1
        else:
            for at, piece in enumerate(line.split('"')):
                if at:
                    inside = not inside
                if not inside:
                    cells += piece.count(sign)
        last = line
        if not inside:
            if rows and line.endswith(("\n", "\r")) and line.strip() and cells != width:
                narrow = False
            if not rows:
                width = cells
            rows += 1
    if inside:
        raise Malformed("the table stops inside a quoted cell", size)
    if rows > 2 and narrow and width > 1 and last.strip() and not last.endswith(("\n", "\r")):
        cells = last.count(sign) + 1 if '"' not in last else width
        if cells < width:
            raise Malformed(f"the table stops in its last row, after {cells} of {width} cells", size)
    return ""


def _html(text: TextIO, size: int) -> str:
    """A page that stops inside a tag, a comment or a script is cut; end tags at its end may rightly be left out."""
    whole = text.read(_LIMIT)
    at = 0
    while found := _HTML.search(whole, at):
        at = found.end()
        if found[0] == "<!--":
            at = whole.find("-->", at) + 3
            what = "a comment"
        elif found[1]:
            close = re.compile(f"</{found[1]}\\b", re.IGNORECASE).search(whole, at)
            at = close.end() if close else 2
            what = f"<{found[1].lower()}>"
        elif not found[2]:
            what, at = "a tag", 2
        if at <= 2:
            raise Malformed(f"the page stops inside {what}", size)
    low = whole[-4096:].casefold()
    if "<html" in whole[:4096].casefold() and "</html" not in low and "</body" not in low:
        return "; its end tag is missing: look whether its last lines are there"
    return ""


def _dxf(text: TextIO, size: int) -> str:
    """Groups of two lines: a number, a value; the last is 0, EOF."""
    code = ""
    sections = 0
    for number, line in enumerate(text):
        if not number % 2:
            code = line.strip()
            if not code.lstrip("-").isdigit():
                if not line.strip() and not text.read(4096).strip():
                    break
                raise Malformed(f"line {number + 1} of the drawing is no group code")
        elif code == "0":
            value = line.strip()
            if value == "SECTION":
                sections += 1
            elif value == "ENDSEC":
                sections -= 1
            elif value == "EOF":
                if sections:
                    raise Malformed("a section of the drawing is not closed", size)
                return ", to its end mark"
    raise Malformed("the drawing stops before its end mark", size)


def _calendar(text: TextIO, size: int) -> str:
    stack: list[str] = []
    for line in text:
        word, colon, value = line.rstrip("\r\n").partition(":")
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
