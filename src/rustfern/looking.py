"""Reading what a copy says, for looking at it: its text as it is now, of a copy in a case or of any file."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace

from rustfern import formats, rebuilding
from rustfern.casefile import KeptCopy
from rustfern.errors import SourceError
from rustfern.model import Content
from rustfern.sources.folder import FolderSource

WHOLE = 8 << 20
"""So many characters of a text are read for comparing."""


@dataclass(frozen=True, slots=True)
class Seen:
    """The pieces of a text (paragraphs, lines, cells; file names of a folder), what is wrong if it vanished or changed since the scan,
    and what reading it told; `content` is None where nothing could be read."""

    pieces: tuple[str, ...]
    trouble: str | None = None
    content: Content | None = None


def see(copy: KeptCopy, bases: Sequence[KeptCopy], keep: int) -> Seen:
    """The first `keep` characters of a copy's text as it is now; `bases` are the copies that it is rebuilt on."""
    if copy.facts["members"]:
        return Seen(tuple(str(member) for member in copy.facts["members"]))
    try:
        entry = replace(FolderSource(copy.root).entry(copy.path), part=copy.facts["part"])
        under = [FolderSource(base.root).entry(base.path) for base in bases]
        recipe = copy.facts["rebuilt_by"] or ""
        name = copy.document["name"] if recipe else os.path.basename(copy.path)
        with rebuilding.open_content(entry, recipe, under) as stream:
            content, kept = formats.read_text(stream, name, keep)
    except SourceError as error:
        return Seen((), f"{error}. It was there at the scan: scan again, and look at the other copies")
    changed = content.sha256 != copy.facts["sha256"]
    return Seen(tuple(kept), "this copy changed since the scan: scan again" if changed else None, content)


def see_file(path: str, keep: int) -> Seen:
    """The first `keep` characters of any file. Raises `SourceError` if it cannot be opened."""
    whole = os.path.abspath(path)
    entry = FolderSource(os.path.dirname(whole)).entry(whole)
    with rebuilding.open_content(entry) as stream:
        content, kept = formats.read_text(stream, os.path.basename(whole), keep)
    return Seen(tuple(kept), None, content)
