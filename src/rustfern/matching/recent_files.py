"""What recent-file lists and recovery entries of settings say: where originals are or were, and when they were last open."""

from __future__ import annotations

import os

import msgspec

from rustfern.core.model import Evidence, Find, Home, Record
from rustfern.core.paths import fold_name
from rustfern.matching.evidence import by_name, weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.state import Draft, LinkState, last_part
from rustfern.search.recorded_paths import take_apart
from rustfern.settings.read import SettingValue, expand


class RecentNames(msgspec.Struct):
    """Recent-file lists as a name index of documents that are gone, or outside of what is searched."""

    paths: list[str] = msgspec.field(default_factory=list)

    def by_name(self, name: str, limit: int = 60) -> list[str]:
        folded = fold_name(name)
        return [path for path in self.paths if fold_name(by_name.name_of(path)) == folded][:limit]

    def by_stem(self, stem: str, limit: int = 60) -> list[str]:
        folded = fold_name(stem)
        return [path for path in self.paths if fold_name(by_name.name_of(path).rpartition(".")[0]) == folded][:limit]

    def beside(self, folder: str, stem: str) -> list[str]:
        return [path for path in self.by_stem(stem) if by_name.folder_of(path) == folder]


class RecentFiles:
    """The steps that use what settings tell."""

    def __init__(self, state: LinkState) -> None:
        self.state = state
        self.recent: dict[str, SettingValue] = {}  # key of a document → the latest entry of a recent-file list
        self.away: dict[str, SettingValue] = {}  # recorded paths outside of what is searched
        self.gone = RecentNames()

    def take_settings(self) -> None:
        """Translate recent files; connect the pairs that recovery entries name."""
        for told in self.state.settings.of("recent"):
            path = self._here(told)
            if path is not None and self.state.source_of(path):
                key = self.state.key(path, told.home)
                known = self.recent.get(key)
                if known is None or (told.when and known.when and told.when > known.when):
                    self.recent[key] = told
                    if not self.state.door.exists(path):
                        self.gone.paths.append(path)
            elif take_apart(recorded := expand(told.text, told.home, self.state.settings, told.file)) is not None:
                self.away.setdefault(recorded, told)
        for told in self.state.settings.of("recovery"):
            self._recovery(told)

    def _here(self, told: SettingValue) -> str | None:
        return self.recorded_here(expand(told.text, told.home, self.state.settings, told.file), told.home)

    def recorded_here(self, recorded: str, home: Home | None) -> str | None:
        """Where a recorded path lies in what is searched, None if outside."""
        return self.state.paths.translate(recorded, home)

    def _recovery(self, told: SettingValue) -> None:
        """A recovery entry holds the paths of original and autosave, in no published order."""
        temp = original = recorded = None
        for text in told.text.split("\0"):
            path = self.state.paths.translate(text, told.home)
            if path is not None and self.is_leftover(path):
                temp = path
            elif by_name.name_of(text).rpartition(".")[2].isalnum() and "." in last_part(text):
                original, recorded = path, text
        if temp is None or recorded is None:
            return
        title = last_part(recorded)
        draft = (
            self.state.draft(original, told.home, recorded)
            if original
            else self.state.outside(recorded, title, told.home)
        )
        says = "the office suite's own list of documents to recover names it"
        piece = weights.evidence("recovery-list", says)
        draft.records.append(Record(told.file, "recovery-list", says, (piece,), told.when))
        self.state.named[temp] = (draft, piece, title)

    def for_recent(self, find: Find, format_name: str | None, *, beside: bool) -> list[Candidate]:
        """Originals that are gone, by the recent-file lists."""
        place = self.state.catalogue.places[find.place]
        found = (
            by_name.for_copy(find, format_name, self.gone, self.state.homes, place.prefixes, beside=False)
            if not beside
            else []
        )
        for item in found:
            item.exists = False
            item.evidence.append(self._piece(self.recent.get(self.state.key(item.path, find.home))))
        return found

    def add_recent(self, found: list[Candidate], home: Home | None) -> None:
        """Add what recent-file lists say to candidates."""
        for item in found:
            if told := self.recent.get(self.state.key(item.path, home)):
                item.evidence.append(self._piece(told))

    def _piece(self, told: SettingValue | None) -> Evidence:
        when = f", at {self.state.clock.format_time(told.when)}" if told and told.when else ""
        return weights.evidence("recent-list", f"a recent-file list names it as opened{when}")

    def for_away(self, find: Find) -> tuple[str, Evidence] | None:
        """The recorded original of a copy, on a disk or share that is not in what is searched: (path, evidence)."""
        place = self.state.catalogue.places[find.place]
        told_name = by_name.shown_stem(find, place.prefixes)
        if not told_name or "untitled" in find.fields:
            return None
        wanted = told_name.casefold()
        fitting = []
        for recorded, told in self.away.items():
            name = last_part(recorded).casefold()
            same_home = told.home is None or find.home is None or told.home == find.home
            if same_home and wanted in (name, name.rpartition(".")[0]):
                fitting.append((recorded, told))
        if len(fitting) != 1:
            return None
        text = f"a recent-file list names {fitting[0][0]}, and its name is the same"
        return fitting[0][0], weights.evidence("name", text)

    def note_recent(self, draft: Draft) -> None:
        """Say on a document when it was last open by a recent-file list."""
        if draft.original and (told := self.recent.get(self.state.key(draft.original, draft.home))):
            piece = self._piece(told)
            draft.records.append(Record(told.file, "recent-list", piece.text, (piece,), told.when))

    def is_leftover(self, path: str) -> bool:
        """Whether a path is one of the copies that were found."""
        return path in self.state.found_paths or os.path.basename(path).casefold().endswith((".asd", ".wbk", ".xar"))
