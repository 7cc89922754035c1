"""The lock that the ODF office suite writes beside a document: `.~lock.NAME#`.

Layout as observed on LibreOffice 7.4: one line of UTF-8, five fields parted by commas, ended by a semicolon:
name of the person, login, host, local time as DD.MM.YYYY HH:MM, URL of the profile. A comma, semicolon or backslash in a field
is written behind a backslash (LibreOffice source, svl/source/misc/lockfilecommon.cxx).
"""

from __future__ import annotations

import re
from datetime import datetime

import msgspec

from rustfern.core.errors import Malformed
from rustfern.traces.facts import LockFacts

_LIMIT = 16 * 1024
_TIME = re.compile(r"(\d{1,2})\.(\d{1,2})\.(\d{4}) (\d{1,2}):(\d{2})")


class OdfLock(msgspec.Struct, frozen=True):
    """`opened_local` has no zone: it is the wall clock of the machine that wrote the lock."""

    owner: str
    login: str
    host: str
    opened_local: datetime | None
    profile_url: str


def parse(data: bytes) -> OdfLock:
    """Read a lock from its bytes. Raises `Malformed` if the five fields are not there."""
    if not data:
        raise Malformed("the lock file is empty")
    if len(data) > _LIMIT:
        raise Malformed("too large for a lock file", _LIMIT)
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise Malformed("the lock file is not UTF-8 text", error.start) from error
    fields = _split(text.strip())
    if len(fields) < 4 or "\0" in text:
        raise Malformed(f"a lock file has five fields, this has {len(fields)}")
    owner, login, host, when = fields[:4]
    found = _TIME.fullmatch(when)
    opened = None
    if found:
        day, month, year, hour, minute = map(int, found.groups())
        try:
            opened = datetime(year, month, day, hour, minute)
        except ValueError:
            opened = None
    return OdfLock(owner, login, host, opened, fields[4] if len(fields) > 4 else "")


def facts(data: bytes) -> LockFacts:
    """The same as of any lock. Raises `Malformed`."""
    lock = parse(data)
    return LockFacts(lock.owner or lock.login, lock.host, lock.opened_local)


def _split(text: str) -> list[str]:
    fields, current, escaped = [], "", False
    for ch in text:
        if escaped:
            current, escaped = current + ch, False
        elif ch == "\\":
            escaped = True
        elif ch == ",":
            fields.append(current)
            current = ""
        elif ch == ";":
            break
        else:
            current += ch
    return [*fields, current]
