"""What is asked of WebDAV servers, and what they answer, as XML.

Sources: RFC 4918 (9.1 PROPFIND, 13 multistatus, 14 XML elements), RFC 3253 (3.7 version-tree report), RFC 6578 (3.6: listings that are cut short), RFC
9110 (5.6.7 dates, 10.2.3 Retry-After), RFC 3339; the log report of Subversion's server as its own documentation (notes/http-and-webdav) shows it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from xml.parsers import expat
from xml.sax.saxutils import quoteattr

import msgspec

from rustfern.core.errors import SourceError
from rustfern.sources.remote.interface import MOST_NAMES, Item

_DAV = "DAV: "
_DEEPEST, _LONGEST_NAME = 40, 200


class Told(msgspec.Struct):
    """One resource of a multistatus answer: its address, and its properties that were found."""

    href: str = ""
    values: dict[str, str] = msgspec.field(default_factory=dict)
    is_folder: bool = False


def asks_for(what: str, properties: Iterable[str]) -> bytes:
    """A question for properties, written `NAMESPACE NAME`. Sources: RFC 4918, 9.1; RFC 3253, 3.7."""
    spaces = {
        space: f"n{number}"
        for number, space in enumerate(dict.fromkeys(each.rpartition(" ")[0] for each in properties))
    }
    own = spaces.setdefault("DAV:", "n")
    declared = "".join(f" xmlns:{short}={quoteattr(space)}" for space, short in spaces.items())
    asked = "".join(f"<{spaces[each.rpartition(' ')[0]]}:{each.rpartition(' ')[2]}/>" for each in properties)
    return f'<?xml version="1.0" encoding="utf-8"?><{own}:{what}{declared}><{own}:prop>{asked}</{own}:prop></{own}:{what}>'.encode()


def seconds(text: str | None) -> float:
    """How long a service asks to wait. Source: RFC 9110, 10.2.3."""
    try:
        return max(0.0, float(text or "1"))
    except ValueError:
        return 5.0


def item_of(name: str, told: Told, ident: str = "") -> Item:
    size = told.values.get("getcontentlength", "")
    return Item(
        name,
        "folder" if told.is_folder else "file",
        int(size) if size.isdigit() and len(size) < 19 else 0,
        time_of(told.values.get("getlastmodified", "")),
        told.values.get("getetag", "").strip(),
        ident=ident.strip(),
        locked_by=told.values.get("owner", ""),
    )


def time_of(text: str) -> datetime | None:
    """A time as servers write it: a date, or seconds since 1970. Sources: RFC 9110, 5.6.7; RFC 3339."""
    with contextlib.suppress(ValueError, OverflowError, OSError):
        return datetime.fromtimestamp(int(text), UTC)
    with contextlib.suppress(ValueError, TypeError, IndexError, OverflowError):
        return parsedate_to_datetime(text).astimezone(UTC)
    with contextlib.suppress(ValueError, OverflowError):
        return datetime.fromisoformat(text).astimezone(UTC)
    return None


def multistatus(data: bytes, where: str) -> Iterable[Told]:
    """The resources of an answer, with the properties whose status is 200. Raises `SourceError` for what is no such answer."""
    found: list[Told] = []
    told, pending = Told(), Told()
    path: list[str] = []
    text: list[str] = []

    def start(name: str, _: dict[str, str]) -> None:
        nonlocal told, pending
        path.append(name)
        text.clear()
        if len(path) > _DEEPEST or len(found) > MOST_NAMES:
            raise SourceError("the service's listing has no end, and was not read on", where)
        if name == _DAV + "response":
            told = Told()
        elif name == _DAV + "propstat":
            pending = Told()
        elif name == _DAV + "collection" and path[-2:-1] == [_DAV + "resourcetype"]:
            pending.is_folder = True

    def end(name: str) -> None:
        nonlocal told
        path.pop()
        said, plain = "".join(text).strip(), name.removeprefix(_DAV)
        above = path[-1] if path else ""
        if plain == "href" and above == _DAV + "response" and not told.href:
            told.href = said
        elif plain == "href" and above == _DAV + "checked-in":
            pending.values["checked-in"] = said
        elif plain == "owner" or above == _DAV + "owner":
            pending.values["owner"] = pending.values.get("owner") or said[:_LONGEST_NAME]
        elif above == _DAV + "prop" and plain not in ("lockdiscovery", "checked-in"):
            pending.values[plain] = said
        elif plain == "status" and above == _DAV + "propstat" and " 200" in f" {said}":
            told.values |= pending.values
            told.is_folder = told.is_folder or pending.is_folder
        elif plain == "status" and " 507" in f" {said}":
            raise SourceError(
                "the service lists only a part of this folder", where, "Search the folders in it one by one"
            )
        elif plain == "status" and above == _DAV + "propstat":
            pending.values.clear()
            pending.is_folder = False
        elif plain == "response":
            found.append(told)
        text.clear()

    _parse(data, where, start, end, text.append)
    return found


def log_items(data: bytes, where: str) -> list[dict[str, str]]:
    """What the log of a version control system tells of each change: `version-name`, `creator-displayname`, `date`. Raises `SourceError`."""
    found: list[dict[str, str]] = []
    text: list[str] = []

    def start(name: str, _: dict[str, str]) -> None:
        text.clear()
        if len(found) > MOST_NAMES:
            raise SourceError("the service's history has no end, and was not read on", where)
        if name.rpartition(" ")[2] == "log-item":
            found.append({})

    def end(name: str) -> None:
        if found:
            found[-1].setdefault(name.rpartition(" ")[2], "".join(text).strip())
        text.clear()

    _parse(data, where, start, end, text.append)
    return found


def _parse(
    data: bytes,
    where: str,
    start: Callable[[str, dict[str, str]], None],
    end: Callable[[str], None],
    text: Callable[[str], None],
) -> None:
    """Read an answer, names as `NAMESPACE NAME`. Raises `SourceError` for what is no XML, and for what declares entities."""

    def refuse(*_: object) -> None:
        raise SourceError("the service's listing declares entities, and was refused", where)

    parser = expat.ParserCreate(namespace_separator=" ")
    parser.StartElementHandler, parser.EndElementHandler = start, end
    parser.CharacterDataHandler, parser.EntityDeclHandler = text, refuse
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise SourceError(
            f"the service's listing is no XML ({expat.ErrorString(error.code)})", where, "Try again"
        ) from error
    except (ValueError, LookupError) as error:
        raise SourceError("the service's listing is written in an unknown way", where) from error
