"""Puts together what was found: the steps that recognise traces, match copies and draft documents, on one state."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING

from rustfern.core.model import Find
from rustfern.core.paths import show_name
from rustfern.matching.content_comparison import Comparing
from rustfern.matching.copies import Copies
from rustfern.matching.evidence import by_name
from rustfern.matching.recent_files import RecentFiles
from rustfern.matching.records import Records
from rustfern.matching.requested import Requests
from rustfern.matching.state import Draft, LinkState, Reader, not_judged
from rustfern.matching.trash import Trash
from rustfern.matching.versions import Versions

if TYPE_CHECKING:
    from rustfern.matching.deleted_files import DeletedFiles
    from rustfern.matching.nameless_texts import NamelessTexts
    from rustfern.matching.program_folders import ProgramFolders
    from rustfern.matching.raw_finds import RawFinds
    from rustfern.matching.swap_files import SwapFiles

__all__ = ["Draft", "LinkState", "Linker", "Reader", "not_judged"]


class Linker:
    """The steps that turn finds into documents, each on the same state."""

    def __init__(self, state: LinkState) -> None:
        self.state = state
        self.trash = Trash(state)
        self.records = Records(state, self.trash)
        self.recent_files = RecentFiles(state)
        self.versions = Versions(state)
        self.comparing = Comparing(state)
        self.requests = Requests(state, self.comparing)
        self.copies = Copies(state, self.comparing, self.recent_files, self.versions)

    @cached_property
    def deleted_files(self) -> DeletedFiles:
        """The step for what a disk records of deleted documents."""
        from rustfern.matching.deleted_files import DeletedFiles

        return DeletedFiles(self.state)

    @cached_property
    def raw_finds(self) -> RawFinds:
        """The step for what a raw search found."""
        from rustfern.matching.raw_finds import RawFinds

        return RawFinds(
            self.state,
            self.comparing,
            lambda find: self.swap_files.take_swap(find),
            lambda: self.recent_files.gone.paths,
        )

    @cached_property
    def program_folders(self) -> ProgramFolders:
        """The steps for the folders of programs."""
        from rustfern.matching.program_folders import ProgramFolders

        return ProgramFolders(self.state)

    @cached_property
    def nameless_texts(self) -> NamelessTexts:
        """The step for texts that only their content tells."""
        from rustfern.matching.nameless_texts import NamelessTexts

        return NamelessTexts(self.state)

    @cached_property
    def swap_files(self) -> SwapFiles:
        """The steps for swap files, which few disks hold."""
        from rustfern.matching.swap_files import SwapFiles

        return SwapFiles(self.state)

    def first_answers(self, finds: Sequence[Find], seconds: float, most: int) -> list[str]:
        """The newest copies of known places, checked, as lines for people: what is known before the whole tree is walked."""
        started = time.monotonic()
        lines = []
        newest = sorted(
            (f for f in finds if f.kind == "autosave" and f.entry.size and f.entry.modified),
            key=lambda f: f.entry.modified.timestamp() if f.entry.modified else 0.0,
            reverse=True,
        )
        for find in newest[:most]:
            if time.monotonic() - started > seconds:
                break
            with suppress(Exception):  # it is judged, and what goes wrong is said, later
                lines.append(self._first_answer(find))
        return lines

    def _first_answer(self, find: Find) -> str:
        state = self.state
        copy = state.read_copy(find, find.entry, ())
        listed = state.named.get(find.entry.path)
        prefixes = state.catalogue.places[find.place].prefixes
        told = listed[2] if listed and listed[2] else by_name.shown_stem(find, prefixes)
        name = show_name(told or os.path.basename(find.entry.path))
        return f"{name}: an autosave of {state.clock.format_time(find.entry.modified)} is {copy.content.state}"
