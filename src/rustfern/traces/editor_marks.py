"""Small marks of text editors: locks that are links leading nowhere, and the list of autosaves.

Layouts as observed on GNU Emacs 28 and joe 4.6: a link `.#NAME` to `user@host.pid:boottime` (the boot time may be missing, a host may
hold dots; joe writes the word `here` for the host). The list `.saves-PID-HOST~` has two lines a buffer: the original's path (empty if it
has none) and the autosave's path.
"""

from __future__ import annotations

import os
import re

import msgspec

from rustfern.core.errors import Malformed
from rustfern.traces.facts import Kept

_LINK = re.compile(r"(?P<user>[^@]+)@(?P<host>.+?)\.(?P<pid>\d+)(?::(?P<boot>\d+))?", re.DOTALL)
_LIMIT = 1 << 20


class LinkLock(msgspec.Struct, frozen=True):
    """Whose lock: `host` is None where the editor does not say."""

    user: str
    host: str | None
    pid: int


def parse_link(target: str) -> LinkLock:
    """Read a lock from where the link points. Raises `Malformed` if that is no lock."""
    found = _LINK.fullmatch(target)
    if not found:
        raise Malformed("the link is no lock of an editor")
    host = found["host"]
    return LinkLock(found["user"], None if host == "here" else host, int(found["pid"][:18]))


def parse_list(data: bytes) -> list[Kept]:
    """Read a list of autosaves. Raises `Malformed` if its lines are no paths."""
    if len(data) > _LIMIT:
        raise Malformed("too large for a list of autosaves", _LIMIT)
    lines = data.split(b"\n")
    if lines and not lines[-1]:
        lines.pop()
    found = []
    for at in range(0, len(lines) - 1, 2):
        original, autosave = os.fsdecode(lines[at]), os.fsdecode(lines[at + 1])
        if not autosave.startswith(("/", "~")) and ":" not in autosave[:3]:
            raise Malformed("a line of the list is no path")
        found.append(Kept(original, autosave))
    if not found:
        raise Malformed("the list of autosaves is empty or no such list")
    return found
