"""Settings in common file forms: property lists, configuration XML, INI, JSON, desktop bookmarks, shell links, plain lines.

Sources: Apple property list DTD 1.0 (read by the standard library), the suite's `registrymodifications.xcu` as written,
Desktop Entry and Desktop Bookmark specifications, RFC 8259.
"""

from __future__ import annotations

import json
import plistlib
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any
from xml.parsers import expat

from rustfern.core.errors import Malformed, Refused
from rustfern.core.times import iso
from rustfern.settings.interface import SettingsFile, Value
from rustfern.settings.text import decoded, lines_of
from rustfern.settings.writers.lines import PAIR, PREFERENCE, section_of

_MAX_VALUES = 200_000
_LONGEST_KEY, _DEEPEST = 2_000, 100
_TELLING = ("name", "Name", "id", "key")
"""Attributes that tell an element from others of its kind."""
_COMMENT = re.compile(r'("(?:[^"\\]|\\.)*")|//[^\n]*|/\*.*?\*/', re.DOTALL)
_TRAILING = re.compile(r'("(?:[^"\\]|\\.)*")|,(?=\s*[}\]])', re.DOTALL)


def plist_values(source: SettingsFile) -> Iterator[Value]:
    """A property list, text or binary. Raises `Malformed`."""
    try:
        tree = plistlib.loads(source.stream.read(source.size))
    except Exception as error:  # the parser raises several kinds, from the XML and from the binary form
        raise Malformed(f"the property list cannot be read ({type(error).__name__})") from error
    yield from _flat(tree)


def json_values(source: SettingsFile) -> Iterator[Value]:
    """JSON; comments and last commas, as editors allow them, are passed over. Raises `Malformed`."""
    text = source.stream.read(source.size).decode("utf-8-sig", "replace")
    text = _TRAILING.sub(lambda m: m[1] or "", _COMMENT.sub(lambda m: m[1] or "", text))
    try:
        tree = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise Malformed(f"it is no JSON ({error})") from error
    yield from _flat(tree)


def _flat(tree: Any) -> Iterator[Value]:
    """Every leaf: the keys on the way parted by slashes, numbers of lists left out."""
    stack: list[tuple[str, str, Any]] = [("", "", tree)]
    count = 0
    while stack and count < _MAX_VALUES:
        key, name, node = stack.pop()
        count += 1
        if isinstance(node, dict):
            below = f"{key}/{name}".strip("/")
            if len(below) > _LONGEST_KEY:
                continue  # a list that holds itself goes on for ever
            stack += [(below, str(k), v) for k, v in node.items()]
        elif isinstance(node, list):
            stack += [(key, name, item) for item in reversed(node)]
        elif isinstance(node, (str, int, bytes)):
            yield Value(key, name, node)
        elif isinstance(node, datetime):
            yield Value(key, name, node.isoformat())


def ini_values(source: SettingsFile) -> Iterator[Value]:
    """Lines `name=value` below `[sections]`; quotes, `export` and the marks of expanded and fixed values are taken off."""
    section = ""
    for line in _lines(source):
        line = line.strip()
        if (begun := section_of(line)) is not None:
            section = begun
        elif not line.startswith(("#", ";")) and "=" in line:
            name, _, value = line.partition("=")
            name = name.removeprefix("export ").strip()
            while name.endswith(("[$e]", "[$i]", "[$ie]", "[$ei]")):
                name = name[: name.rindex("[")]
            yield Value(section, name, value.strip().strip("\"'"))


def line_values(source: SettingsFile) -> Iterator[Value]:
    """Whole lines below `[sections]`."""
    section = ""
    for line in _lines(source):
        if line.startswith("[") and line.endswith("]"):
            section = line[1:-1]
        elif line:
            yield Value(section, "line", line)


def pair_values(source: SettingsFile) -> Iterator[Value]:
    """Lines `name value` or `name: value`; the key is empty."""
    for line in _lines(source):
        if found := PAIR.match(line):
            yield Value("", found["name"], found["value"].strip())


def preference_values(source: SettingsFile) -> Iterator[Value]:
    """The preferences of Mozilla programs; the key is empty."""
    for line in _lines(source):
        if found := PREFERENCE.match(line):
            text = found["value"].strip()
            value = int(text) if re.fullmatch(r"-?\d{1,15}", text) else text.strip('"')
            yield Value("", found["name"], text == "true" if text in ("true", "false") else value)


def _lines(source: SettingsFile) -> list[str]:
    text = decoded(source.stream.read(min(source.size, 8 << 20))).text
    return [line.rstrip("\r\n") for line in lines_of(text)]


def xml_values(source: SettingsFile) -> Iterator[Value]:
    """Every attribute (name) and text (name empty) of every element. Raises `Malformed` after what could be read."""
    found: list[Value] = []
    path: list[str] = []
    text: list[str] = []

    def start(tag: str, attributes: dict[str, str]) -> None:
        path.append(tag)
        text.clear()
        if len(found) < _MAX_VALUES:
            found.extend(Value("/".join(path), name, value) for name, value in attributes.items())

    def end(tag: str) -> None:
        if "".join(text).strip() and len(found) < _MAX_VALUES:
            found.append(Value("/".join(path), "", "".join(text).strip()))
        text.clear()
        path.pop()

    yield from _parsed(source, start, end, text.append, found)


def named_values(source: SettingsFile) -> Iterator[Value]:
    """Every attribute (name) and text (name empty) of every element. The key is the path of the elements; those that an attribute tells
    from others have it with them: `settings/property[name=autosave]`. Raises `Malformed` after what could be read.
    """
    found: list[Value] = []
    path: list[str] = []
    text: list[str] = []

    def start(tag: str, attributes: dict[str, str]) -> None:
        by = next((name for name in _TELLING if name in attributes), None)
        path.append(f"{tag}[{by}={attributes[by]}]" if by else tag)
        text.clear()
        if len(found) < _MAX_VALUES and len(path) <= _DEEPEST:
            found.extend(Value("/".join(path), name, value) for name, value in attributes.items())

    def end(tag: str) -> None:
        if "".join(text).strip() and len(found) < _MAX_VALUES and len(path) <= _DEEPEST:
            found.append(Value("/".join(path), "", "".join(text).strip()))
        text.clear()
        path.pop()

    yield from _parsed(source, start, end, text.append, found)


def xcu_values(source: SettingsFile) -> Iterator[Value]:
    """The ODF suite's user settings: key = path of the item and names of its nodes, name = property."""
    found: list[Value] = []
    path: list[str] = []
    prop: list[str] = [""]
    text: list[str] = []

    def start(tag: str, attributes: dict[str, str]) -> None:
        if tag == "item":
            path[:] = [attributes.get("oor:path", "")]
        elif tag == "node":
            name = attributes.get("oor:name", "")
            if path and path[0].endswith("/ItemList") and len(found) < _MAX_VALUES:
                found.append(Value(path[0], "node", name))
            path.append(name)
        elif tag == "prop":
            prop[0] = attributes.get("oor:name", "")
        elif tag == "value":
            text.clear()

    def end(tag: str) -> None:
        if tag == "value" and len(found) < _MAX_VALUES:
            found.append(Value("/".join(path), prop[0], "".join(text)))
        elif tag == "node" and len(path) > 1:
            path.pop()

    yield from _parsed(source, start, end, text.append, found)


def xbel_values(source: SettingsFile) -> Iterator[Value]:
    """Recent files of Linux desktops: each bookmark with the time of the last visit."""
    found: list[Value] = []

    def start(tag: str, attributes: dict[str, str]) -> None:
        if tag == "bookmark" and "href" in attributes and len(found) < _MAX_VALUES:
            times = [iso(attributes[key]) for key in ("visited", "modified", "added") if key in attributes]
            known = [time.replace(tzinfo=UTC) for time in times if time is not None]
            found.append(Value("bookmark", "href", attributes["href"], max(known, default=None)))

    yield from _parsed(source, start, lambda tag: None, lambda text: None, found)


def _parsed(source: SettingsFile, start: Any, end: Any, characters: Any, found: list[Value]) -> Iterator[Value]:
    parser = expat.ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler = start, end
    parser.CharacterDataHandler = characters

    def refuse(*_: object) -> None:
        raise Refused("it declares entities: refused")

    parser.EntityDeclHandler = refuse
    problem = None
    try:
        while block := source.stream.read(1 << 18):
            parser.Parse(block, False)
        parser.Parse(b"", True)
    except (LookupError, ValueError) as error:
        # An encoding that nobody knows is named in the declaration.
        problem = Malformed(f"it is written in an unknown way ({error})", 0)
    except expat.ExpatError as error:
        problem = Malformed(f"it stops being XML ({expat.ErrorString(error.code)})", parser.CurrentByteIndex)
    yield from found
    if problem:
        raise problem


def link_values(source: SettingsFile) -> Iterator[Value]:
    """A shell link: where it points, and when that was last written."""
    from rustfern.traces import shell_link

    link = shell_link.parse(source.stream.read(min(source.size, 1 << 20)))
    when = link.accessed or link.written
    if link.target:
        yield Value("link", "target", link.target, when.astimezone(UTC) if when else None)
        if link.volume:
            yield Value("link", "volume", link.volume, when)
