"""Locks of CAD drawings (one as text, one as XML) and of small databases.

Layouts as documented by users of these programs: three lines (person, machine, time); elements `username`, `machinename`,
`datetime`; entries of 64 bytes, machine and person padded with NUL.
"""

from __future__ import annotations

import re
from datetime import datetime

from rustfern.core.errors import Malformed
from rustfern.traces.facts import LockFacts

_ELEMENT = re.compile(r"<(username|fullname|machinename|datetime)>([^<]*)</", re.IGNORECASE)
_FORMS = ("%A, %B %d, %Y %I:%M:%S %p", "%d/%m/%Y %H:%M:%S", "%m/%d/%Y %I:%M:%S %p", "%Y-%m-%d %H:%M:%S", "%d.%m.%Y %H:%M:%S", "%c")  # fmt: skip
_ENTRY = 64


def parse_drawing(data: bytes) -> LockFacts:
    """Read either kind of a drawing's lock. Raises `Malformed`."""
    if not data.strip(b"\0\r\n "):
        raise Malformed("it is empty", 0)
    encoding = "utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8"
    text = data.decode(encoding, "replace").lstrip("\ufeff")
    if text.lstrip().startswith("<"):
        values = {name.casefold(): value.strip() for name, value in _ELEMENT.findall(text)}
        if not values:
            raise Malformed("its XML names nobody", 0)
        owner = values.get("fullname") or values.get("username", "")
        return LockFacts(owner, values.get("machinename", ""), _time(values.get("datetime", "")))
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    if not lines or any(not line.isprintable() for line in lines[:3]):
        raise Malformed("it holds no readable lines", 0)
    lines += ["", ""]
    return LockFacts(lines[0], lines[1], _time(lines[2]))


def _time(text: str) -> datetime | None:
    for form in _FORMS:
        try:
            return datetime.strptime(text.strip(), form)
        except ValueError:
            continue
    return None


def parse_service(data: bytes) -> LockFacts:
    """Who has a file locked with a service, as that says (RFC 4918, 14.17). Raises `Malformed`."""
    owner = data.decode("utf-8", "replace").strip()
    if not owner or not owner.isprintable():
        raise Malformed("it names nobody", 0)
    return LockFacts(owner.rstrip("/").rpartition("/")[2] if "://" in owner else owner, "", None)


def parse_database(data: bytes) -> LockFacts:
    """The first person in a small database's lock. Raises `Malformed`."""
    if len(data) % _ENTRY or len(data) > 255 * _ENTRY:
        raise Malformed("it is not made of entries of 64 bytes", len(data) // _ENTRY * _ENTRY)
    for at in range(0, len(data) - _ENTRY + 1, _ENTRY):
        machine, person = (data[at + half : at + half + 32].split(b"\0")[0] for half in (0, 32))
        if not (machine + person).decode("cp1252", "replace").isprintable():
            raise Malformed("it names no machine", at)
        if machine.strip():
            return LockFacts(
                person.decode("cp1252", "replace").strip(), machine.decode("cp1252", "replace").strip(), None
            )
    raise Malformed("it names no machine", 0)
