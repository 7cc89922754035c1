"""Texts that an editor keeps for recovery as records, line by line: a letter beside each tells the name that the text was opened under."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress

from rustfern.content import open as contents
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Content, Find, Glance, Record, State
from rustfern.matching.evidence import weights
from rustfern.matching.state import Draft, LinkState, rebuilt_copy
from rustfern.traces import record_file

_RECIPE = "record-file"
_MAX_LETTERS, _LETTER_BYTES, _MAX_TEXT = 2_000, 4_096, 256 << 20
_MAX_SAME, _NO_NAME = 40, "Unnamed text"


class RecordFiles:
    """The step that rebuilds such texts and finds their documents."""

    def __init__(self, state: LinkState) -> None:
        self.state = state

    def take(self, find: Find) -> bool:
        """Rebuild one text. False if the file is none of such records."""
        try:
            with contents.open_content(self.state.door, find.entry) as stream:
                lines = record_file.parse(stream.read(_MAX_TEXT)).lines
        except Malformed:
            return False
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            return True
        name, letter = self._letter(find)
        path, others = self._original(find, name, lines)
        if path:
            draft = self.state.draft(path, find.home, name)
        else:
            key = f"copy:{find.entry.path}"
            title = os.path.basename(name) or _NO_NAME
            draft = self.state.drafts.setdefault(
                key, Draft(key, title, None, name or None, find.home, never_saved=not name)
            )
        try:
            content = contents.check_rebuilt(self.state.door, find.entry, draft.name, _RECIPE, ())
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            content = Content(Glance(format="txt"), State.UNREADABLE, error.what, find.entry.size)
        says = f"the letter beside it names {name}" if name else "no letter beside it names a text"
        if others:
            says += f"; of {others} documents of this name, its lines are those of this one"
        piece = weights.evidence("swap-header" if path or not name else "same-name", says)
        draft.copies.append(rebuilt_copy(find, find.entry, content, piece, _RECIPE, []))
        draft.note_change(find.entry)
        if letter and letter not in {record.path for record in draft.records}:
            draft.records.append(Record(letter, "recovery-letter", "it names the text and its records", (piece,)))
        return True

    def _letter(self, find: Find) -> tuple[str, str]:
        """(the name that the text was opened under, the letter's path); empty if there is no letter."""
        folder, own = os.path.split(find.entry.path)
        source = self.state.source_of(folder)
        if source is None:
            return "", ""
        with suppress(SourceError):
            names = [name for name in source.names(folder)[1] if name.startswith("recover.")]
            for name in names[:_MAX_LETTERS]:
                path = os.path.join(folder, name)
                with suppress(SourceError), source.open(source.entry(path)) as stream:
                    told = record_file.letter(stream.read(_LETTER_BYTES))
                    if told and os.path.basename(told[1]) == own:
                        return told[0], path
        return "", ""

    def _original(self, find: Find, name: str, lines: Sequence[bytes]) -> tuple[str | None, int]:
        """The document that a name leads to: by its path, or the one of this name that shares most lines; and how many have the name."""
        if "/" in name:
            path = self.state.paths.translate(name, find.home) if name.startswith("/") else None
            if path and self.state.source_of(path):
                return path, 0
        base = os.path.basename(name)
        found = self.state.case.names.by_name(base, _MAX_SAME) if base else []
        if "/" in name and not name.startswith("/"):
            found = [path for path in found if path.endswith("/" + name.lstrip("./"))] or found
        if len(found) < 2:
            return (found[0] if found else None), 0
        shared = sorted(((self._shared(path, lines), path) for path in found), reverse=True)
        if shared[0][0] == shared[1][0]:
            return None, 0
        return shared[0][1], len(found)

    def _shared(self, path: str, lines: Sequence[bytes]) -> int:
        source = self.state.source_of(path)
        with suppress(SourceError):
            if source is not None:
                with source.open(source.entry(path)) as stream:
                    there = set(stream.read(_MAX_TEXT).splitlines())
                    return sum(line in there for line in set(lines) if line.strip())
        return 0
