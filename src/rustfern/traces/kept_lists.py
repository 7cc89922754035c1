"""Editors' own lists of which text they keep where: Kate's sessions, FocusWriter's mapping, Notepad++'s session, histories of
Code - OSS and its kin.

Layouts as observed on Kate 22.12 and FocusWriter 1.8; session.xml and entries.json as documented by their programs.
"""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime
from xml.parsers import expat

from rustfern.core.errors import Malformed
from rustfern.traces.facts import Kept

_LIMIT = 20_000


def kate_session(data: bytes) -> list[Kept]:
    """`[Document N]` groups with `URL` and `stashedFile`. Raises `Malformed`."""
    text = data.decode("utf-8", "surrogateescape")
    if "[" not in text:
        raise Malformed("no group of settings is in it", 0)
    found = []
    for group in re.split(r"^\[", text, flags=re.MULTILINE)[1 : _LIMIT + 1]:
        values = dict(re.findall(r"^([\w $\[\]]+?)(?:\[\$e\])?=(.*)$", group, re.MULTILINE))
        if stash := values.get("stashedFile", "").strip():
            found.append(Kept(values.get("URL", "").strip(), stash))
    return found


def focuswriter_mapping(data: bytes) -> list[Kept]:
    """Lines `cached-name absolute/path`; the path is empty for texts without a name. Raises `Malformed`."""
    text = data.decode("utf-8-sig", "surrogateescape")
    found = []
    for line in text.splitlines()[:_LIMIT]:
        name, _, path = line.partition(" ")
        if name and "/" not in name and "\\" not in name:
            found.append(Kept(path.strip(), name))
    if text.strip() and not found:
        raise Malformed("no line of it maps a text", 0)
    return found


def notepadpp_session(data: bytes) -> list[Kept]:
    """`File` elements with `filename` and `backupFilePath`. Raises `Malformed`; what stands before damage is not lost."""
    found: list[Kept] = []

    def start(tag: str, values: dict[str, str]) -> None:
        copy = values.get("backupFilePath", "")
        if tag == "File" and copy and len(found) < _LIMIT:
            name = values.get("filename", "")
            named = "\\" in name or "/" in name
            found.append(Kept(name if named else "", copy, None, "" if named else name))

    parser = expat.ParserCreate()
    parser.StartElementHandler = start
    try:
        parser.Parse(data, True)
    except (LookupError, ValueError) as error:
        # An encoding that nobody knows is named in the declaration.
        raise Malformed(f"it is written in an unknown way ({error})", 0) from error
    except expat.ExpatError as error:
        if not found:
            raise Malformed(f"it stops being XML ({expat.ErrorString(error.code)})", parser.CurrentByteIndex) from error
    return found


def code_history(data: bytes) -> list[Kept]:
    """`resource` (an address) and `entries` with `id` (a name beside the list) and `timestamp` (ms since 1970). Raises `Malformed`."""
    try:
        tree = json.loads(data.decode("utf-8", "replace"))
        resource = str(tree["resource"])
        entries = list(tree["entries"])[:_LIMIT]
        found = []
        for entry in entries:
            stamp = entry.get("timestamp")
            when = datetime.fromtimestamp(stamp / 1000, UTC) if isinstance(stamp, (int, float)) and stamp > 0 else None
            found.append(Kept(resource, str(entry["id"]), when))
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError, OSError) as error:
        raise Malformed(f"it is no list of versions ({type(error).__name__})") from error
    return found
