"""joe's dead file, `DEADJOE`: every changed text of every session that was ended from outside, one after the other.

Layout as observed on joe 4.6 and jupp 3.1: a headline for each session, then for each text a line `*** File 'NAME'` (or `'(Unnamed)'`) and the text as it is;
the line feed in front of each headline is joe's. The startup log and the history of file names stand there too and are left out.
"""

from __future__ import annotations

import re
from datetime import datetime
from itertools import pairwise

import msgspec

from rustfern.core.errors import Malformed

_SESSION = re.compile(
    rb"\n\*\*\* [^\n]*odified files [^\n]{0,200}? when it aborted on ([^\n]*)\n\*\*\* [^\n]* was aborted by [^\n]*\n"
)
_FILE = re.compile(rb"\n\*\*\* File '([^\n]*)'\n")
_UNNAMED = "(Unnamed)"
_LIMIT = 256 << 20


class DeadText(msgspec.Struct, frozen=True):
    """One text: its name as typed (empty: never named), its bytes, its session's time (local), a number that tells it apart."""

    name: str
    data: bytes
    when_local: datetime | None
    number: int


def parse(data: bytes) -> list[DeadText]:
    """Take the file apart. Raises `Malformed` if no session is in it."""
    if len(data) > _LIMIT:
        raise Malformed("too large for a dead file", _LIMIT)
    sessions = list(_SESSION.finditer(data))
    if not sessions:
        raise Malformed("no session of the editor is in it", 0)
    found: list[DeadText] = []
    for session, next_step in zip(sessions, [*sessions[1:], None], strict=True):
        body = data[session.end() - 1 : next_step.start() if next_step else len(data)]
        try:
            when = datetime.strptime(session[1].decode("ascii", "replace").strip(), "%a %b %d %H:%M:%S %Y")
        except ValueError:
            when = None
        heads = list(_FILE.finditer(body))
        for head, after in pairwise([*heads, None]):
            assert head is not None
            text = body[head.end() : after.start() if after else len(body)]
            name = head[1].decode("utf-8", "surrogateescape")
            name = "" if name == _UNNAMED else name
            if name != "* Startup Log *" and (name or not _history(text)):
                found.append(DeadText(name, text, when, len(found) + 1))
    return found


def _history(text: bytes) -> bool:
    """An unnamed text that is only a list of file names, or nothing: no line of it has a space."""
    return not any(b" " in line.strip() for line in text.splitlines())
