"""Plain texts under names that say nothing, in temporary folders and those of programs: only their content can show whose they are."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime

from rustfern.core.errors import SourceError
from rustfern.core.model import Entry, Find, Kind
from rustfern.formats.format_table import extension_of
from rustfern.matching.program_folders import PLACE
from rustfern.matching.prose import is_prose
from rustfern.matching.state import LinkState
from rustfern.search.patterns import is_uninformative_name

NAMELESS = "nameless"
"""Marks such a find: it is a copy of a document that shares its text, or nothing."""
_FEW, _MAX_LOOKED_AT, _MAX_READ = 40, 2_000, 300
_LEAST, _MOST = 40, 1 << 20
_TEXTS = frozenset({"txt", "text", "md"})


class NamelessTexts:
    """The step that finds them; the newest are read, at most 300."""

    def __init__(self, state: LinkState) -> None:
        self.state = state

    def take(self, listed: Sequence[tuple[str, Sequence[str]]]) -> None:
        """Look among the files of these folders, given as (folder, names)."""
        found: list[tuple[datetime, Entry]] = []
        looked_at = 0
        for folder, names in listed:
            if len(names) > _FEW and not _is_temporary(folder):
                continue
            for name in names:
                if looked_at >= _MAX_LOOKED_AT:
                    break
                if not (is_uninformative_name(name) or extension_of(name) in _TEXTS):
                    continue
                path = os.path.join(folder, name)
                if path in self.state.found_paths:
                    continue
                looked_at += 1
                source = self.state.source_of(path)
                with suppress(SourceError):
                    entry = source.entry(path) if source else None
                    if entry and entry.is_file and entry.modified and _LEAST <= entry.size <= _MOST:
                        found.append((entry.modified, entry))
        found.sort(key=lambda row: row[0], reverse=True)
        for _, entry in found[:_MAX_READ]:
            if is_prose(self.state, entry):
                self.state.found_paths.add(entry.path)
                self.state.more.append(
                    Find(entry, PLACE, str(Kind.AUTOSAVE), {NAMELESS: "1"}, self.state.home_of(entry.path))
                )


def _is_temporary(folder: str) -> bool:
    return os.path.basename(folder).casefold() in ("tmp", "temp", "t", ".tmp")
