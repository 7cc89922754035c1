"""What a document that was never saved is called: the title that it carries, else its first line."""

from __future__ import annotations

import os
from contextlib import suppress

from msgspec.structs import replace

from rustfern.content.open import open_content
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Copy
from rustfern.formats import registry as formats
from rustfern.sources.registry import Sources

_READ_CHARACTERS, _MAX_CHARACTERS = 400, 80


def with_title(door: Sources, copy: Copy) -> Copy:
    """The copy, with its first line that says anything for a title where it carries none."""
    glance = copy.content.glance
    if glance.title or copy.members or copy.content.words == 0 or copy.bases:
        return copy
    with suppress(SourceError, OSError, Malformed), open_content(door, copy.entry, copy.recipe) as stream:
        _, pieces = formats.first_text(stream, os.path.basename(copy.path), _READ_CHARACTERS, door.limits)
        line = next((text for piece in pieces if any(map(str.isalnum, text := " ".join(piece.text.split())))), "")
        if line:
            title = line[:_MAX_CHARACTERS]
            return replace(copy, content=replace(copy.content, glance=replace(glance, title=title)))
    return copy
