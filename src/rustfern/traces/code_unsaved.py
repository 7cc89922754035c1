"""Unsaved texts as Code - OSS and its kin keep them: the first line is the text's address (and facts as JSON), then the text.

Layout as written by the program's own source: `file:///…` or `untitled:NAME`, a space, `{"mtime": ms, "size": bytes, …}`, a line feed.
"""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime

import msgspec

from rustfern.core.errors import Malformed
from rustfern.traces.facts import UnsavedText

_LINE = 64 << 10
_HEAD = re.compile(r"(file|untitled|vscode-[\w-]+):\S*")


class Unsaved(msgspec.Struct, frozen=True):
    """`address` of the original (empty if it never had a name), `title` for people, when the original was last saved as the
    editor knew it (UTC), and the text's bytes."""

    address: str
    title: str
    base_modified: datetime | None
    data: bytes


def parse(data: bytes) -> Unsaved:
    """Take the head off. Raises `Malformed`."""
    line, end, _rest = data[:_LINE].partition(b"\n")
    text = line.decode("utf-8", "replace").strip()
    found = _HEAD.match(text)
    if not found or not end:
        raise Malformed("its first line is no address of a text", 0)
    address = found[0]
    modified = None
    try:
        facts = json.loads(text[found.end() :].strip() or "{}")
        stamp = facts.get("mtime") if isinstance(facts, dict) else None
        modified = datetime.fromtimestamp(stamp / 1000, UTC) if isinstance(stamp, (int, float)) and stamp > 0 else None
    except (ValueError, OverflowError, OSError, RecursionError):
        pass
    body = data[len(line) + 1 :]
    if address.startswith("file:"):
        return Unsaved(address, "", modified, body)
    return Unsaved("", address.partition(":")[2].strip("/") or "Untitled", modified, body)


def unsaved(data: bytes) -> UnsavedText:
    """The same as of any unsaved text. Raises `Malformed`."""
    found = parse(data)
    return UnsavedText(found.address, found.title, found.data)
