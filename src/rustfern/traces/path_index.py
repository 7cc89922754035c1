"""Lists that pair documents and their copies, whatever their form: any text that names a document by its path and a file beside the list.

JSON, XML, INI, TOML, YAML, literals of programming languages, property lists, databases, headers and plain lines all write paths as text;
what stands around them tells nothing that their order does not.
"""

from __future__ import annotations

import html
import plistlib
import re
from collections.abc import Collection, Iterator
from contextlib import suppress
from typing import NamedTuple
from urllib.parse import unquote

_MAX_NAMED = 20_000
_PARTING = re.compile(r"[\x00-\x1f\x7f\"<>|\ufffd]+")
_QUOTED = re.compile(r"(?<![^\W_])'((?:[^'\\]|\\.)*)'")
_PATH = re.compile(r"(?:file:/{1,3}|~/|/|[A-Za-z]:[\\/]|\\\\)\S.*", re.DOTALL)
_ESCAPED = re.compile(r"\\u([0-9A-Fa-f]{4})|\\x([0-9A-Fa-f]{2})|\\([/\\'\"])")
_AROUND = ",;:=()[]{}' \t"


class Pair(NamedTuple):
    """A document, by its path as the list writes it, and the name of the file beside the list that is its copy."""

    document: str
    copy: str


def parse(text: str, beside: Collection[str], folders: Collection[str]) -> list[Pair]:
    """The pairs that a list tells, of the files `beside` it or just below, in folders of these names; none where it is no such list, or does not tell which belongs to which.

    Reads 20,000 names at most. Never raises.
    """
    events: list[tuple[bool, str]] = []
    for said in _texts(text):
        *outer, name = re.split(r"[\\/]", said)
        if name in beside and (not outer or outer[-1] in folders):
            event = (True, name)
        elif _PATH.fullmatch(said) and "." in name:
            event = (False, said)
        else:
            continue
        if not events or events[-1] != event:
            events.append(event)
        if len(events) >= _MAX_NAMED:
            break
    return _paired(events)


def text_of(data: bytes) -> str:
    """The text of a list, or of the beginning of one; of a binary property list its texts in order."""
    if data.startswith(b"bplist00"):
        with suppress(plistlib.InvalidFileException, ValueError, LookupError, OverflowError, RecursionError):
            return "\n".join(_leaves(plistlib.loads(data)))
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    if data[:400].count(b"\0") * 3 > len(data[:400]):
        return data.decode("utf-16-le", "replace")
    return data.decode("utf-8", "replace")


def _leaves(tree: object) -> Iterator[str]:
    if isinstance(tree, str):
        yield tree
    elif isinstance(tree, bytes):
        yield text_of(tree)
    elif isinstance(tree, dict):
        for key, value in tree.items():
            yield from _leaves(key)
            yield from _leaves(value)
    elif isinstance(tree, list):
        for value in tree:
            yield from _leaves(value)


def _texts(text: str) -> Iterator[str]:
    """What stands between quotes, tags and ends of lines: names, and paths with what a list writes before them taken off."""
    for piece in _PARTING.split(text):
        if not 1 < len(piece) < 4_096:
            continue
        quoted = _QUOTED.findall(piece)
        for each in quoted or (piece,):
            plain = each
            if "\\" in each:
                plain = _ESCAPED.sub(lambda m: chr(int(m[1] or m[2], 16)) if m[1] or m[2] else m[3], each)
            if "&" in plain:
                plain = html.unescape(plain)
            if "%" in plain and plain.lstrip().startswith("file:"):
                plain = unquote(plain)
            found = _PATH.search(plain)
            before = plain[: found.start()] if found else plain
            # "key=value", "Header: value", "[section]", "name path": each part that may be a name by itself.
            for part in dict.fromkeys((before.strip(_AROUND), re.split(r"[=:,]\s*", before.strip(_AROUND))[-1])):
                if part:
                    yield part
            if found:
                yield found[0].rstrip(_AROUND)


def _paired(events: list[tuple[bool, str]]) -> list[Pair]:
    copies, documents = {n for is_copy, n in events if is_copy}, {n for is_copy, n in events if not is_copy}
    if not copies or not documents:
        return []
    if len(documents) == 1 and len(copies) == 1:
        return [Pair(documents.pop(), copies.pop())]
    # The list's own order: each copy behind its document, or each before it.
    step = -1 if not events[0][0] else 1
    found: dict[str, set[str]] = {}
    for at, (is_copy, name) in enumerate(events):
        near = at + step
        if is_copy and 0 <= near < len(events) and not events[near][0]:
            found.setdefault(name, set()).add(events[near][1])
    return [Pair(paths.pop(), name) for name, paths in found.items() if len(paths) == 1]
