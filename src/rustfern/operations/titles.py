"""What a document that was never saved is called: the title that it carries, else its first line."""

from __future__ import annotations

import os
import re
from contextlib import suppress

from msgspec.structs import replace

from rustfern.content.open import open_content
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Copy
from rustfern.formats import registry as formats
from rustfern.sources.registry import Sources

_NUMBER = re.compile(r"[0-9a-fA-F]{8}(?:-?[0-9a-fA-F]{4}){3}-?[0-9a-fA-F]{12}|[0-9a-fA-F]{16,64}|\d{9,}")
_TITLE = re.compile(r"<title[^<>]*>\s*([^<]*)<")
_READ_CHARACTERS, _MAX_CHARACTERS = 400, 80


def is_nameless(name: str) -> bool:
    """Whether a file name is a number that a program gave: the person knows the document by something else."""
    return bool(_NUMBER.fullmatch(os.path.splitext(name)[0]))


def with_title(door: Sources, copy: Copy) -> Copy:
    """The copy, with its first line that says anything for a title where it carries none."""
    glance = copy.content.glance
    if glance.title or copy.members or copy.content.words == 0 or copy.bases:
        return copy
    with suppress(SourceError, OSError, Malformed), open_content(door, copy.entry, copy.recipe) as stream:
        _, pieces = formats.first_text(stream, os.path.basename(copy.path), _READ_CHARACTERS, door.limits)
        lines = [" ".join(piece.text.split()) for piece in pieces]
        element = _TITLE.search("\n".join(lines))
        named = element[1].strip() if element else ""
        told = [named] if any(map(str.isalnum, named)) else lines
        line = next((each for each in told if any(map(str.isalnum, each))), "")
        if line:
            title = line[:_MAX_CHARACTERS]
            return replace(copy, content=replace(copy.content, glance=replace(glance, title=title)))
    return copy
