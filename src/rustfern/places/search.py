"""The search: known places first, then the rest of the tree, most files dismissed by name alone."""

from __future__ import annotations

import fnmatch
import os
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from rustfern.errors import SourceError
from rustfern.formats.table import DOCUMENT_EXTENSIONS
from rustfern.model import Entry, Find, Home, Layout, Order, Searched, Totals
from rustfern.places.loader import Catalogue, Place
from rustfern.places.recorded import inside
from rustfern.sources.folder import FolderSource, is_folder
from rustfern.sources.interface import OnProblem

OnDocuments = Callable[[str, list[str]], None]
"""Called with (folder, document-like names in it)."""

_MAX_IN_PLACE = 100_000
_MAX_ENDINGS = 20_000
_DOCUMENT, _LEFTOVER = 1, 2


@dataclass
class Search:
    """One search over some roots, or with `only_homes` over the given homes and the common places of their volumes.

    Results collect in `finds` and `searched`.
    """

    sources: Sequence[FolderSource]
    homes: Sequence[Home]
    catalogue: Catalogue
    on_problem: OnProblem
    totals: Totals
    own_folders: Sequence[str] = ()
    only_homes: bool = False
    finds: list[Find] = field(default_factory=list)
    searched: list[Searched] = field(default_factory=list)
    seen: set[str] = field(default_factory=set)
    kept_out: set[str] = field(default_factory=set)
    _listed: dict[str, tuple[list[str], list[str]]] = field(default_factory=dict)
    _resolved: dict[tuple[str, str], tuple[list[str], list[str]]] = field(default_factory=dict)

    def known_places(self) -> None:
        """Look into every folder that the catalogue names, in every home and on every volume."""
        for home in self.homes:
            source = self._source(home.root)
            for place in self.catalogue.places.values():
                if place.where == "home" and home.layout.value in place.folders:
                    self._place(place, home.path, source, home, place.folders[home.layout.value])
        volumes = {home.volume: home for home in self.homes if home.volume}
        for source in self.sources:
            for base in sorted({v for v in volumes if inside(v, source.root)} | {source.root}):
                owner = volumes.get(base)
                for place in self.catalogue.places.values():
                    if place.where == "volume":
                        patterns = [
                            p for kind, p in place.folders.items() if owner is None or kind == owner.layout.value
                        ]
                        flat = [pattern for group in patterns for pattern in group]
                        self._place(place, base, source, owner, flat)
        self._listed.clear()
        self._resolved.clear()

    def _source(self, root: str) -> FolderSource:
        return next(source for source in self.sources if source.root == root)

    def _place(self, place: Place, base: str, source: FolderSource, home: Home | None, patterns: Iterable[str]) -> None:
        any_case = home is None or home.layout is not Layout.LINUX
        for pattern in patterns:
            folders, denied = self._resolve(source, base, pattern, any_case=any_case)
            for folder in denied:
                if (shut := Searched(place.id, folder, "denied")) not in self.searched:
                    self.searched.append(shut)
            for folder in folders:
                if not any(inside(folder, s.root) for s in self.sources):
                    continue
                source = next(s for s in self.sources if inside(folder, s.root))
                if place.is_copy and place.exclusive:
                    self.kept_out.add(folder)
                before = len(self.finds)
                status = self._look(place, folder, source, home, place.depth)
                self.searched.append(Searched(place.id, folder, status, len(self.finds) - before))
            if not folders and not denied and "*" not in pattern:
                self.searched.append(Searched(place.id, os.path.join(base, *pattern.split("/")), "absent"))

    def _names(self, source: FolderSource, folder: str) -> tuple[list[str], list[str]]:
        """A folder's names; several places share a folder."""
        if folder not in self._listed:
            self._listed[folder] = source.names(folder)
        return self._listed[folder]

    def _resolve(self, source: FolderSource, base: str, pattern: str, *, any_case: bool) -> tuple[list[str], list[str]]:
        known = self._resolved.get((base, pattern))
        if known is None:
            known = resolve(lambda folder: self._names(source, folder), base, pattern, any_case=any_case)
            self._resolved[base, pattern] = known
        return known

    def _look(self, place: Place, folder: str, source: FolderSource, home: Home | None, depth: int) -> str:
        try:
            folders, files = self._names(source, folder)
        except SourceError as error:
            self.on_problem(folder, f"this folder of copies could not be listed: {error.what}")
            return "denied"
        names = [*files, *folders] if place.folders_too else files
        for name in names[:_MAX_IN_PLACE]:
            path = os.path.join(folder, name)
            if path in self.seen:
                continue
            fields = self.catalogue.match(place, name)
            if fields is not None:
                self._add(place, source, path, fields, home)
        if depth > 0:
            for name in folders:
                self._look(place, os.path.join(folder, name), source, home, depth - 1)
        return "found"

    def _add(self, place: Place, source: FolderSource, path: str, fields: dict[str, str], home: Home | None) -> None:
        self.seen.add(path)
        try:
            entry = source.entry(path)
        except SourceError as error:
            self.on_problem(path, error.what)
            return
        self.add_entry(place, entry, fields, home)

    def add_entry(self, place: Place, entry: Entry, fields: dict[str, str], home: Home | None) -> None:
        """Take one thing as found in a place."""
        self.seen.add(entry.path)
        # Links, pipes, devices and sockets hold no copy; they are never opened.
        if place.links != (entry.link_target is not None):
            return
        if not (entry.is_file or place.links or (entry.is_folder and place.folders_too)):
            return
        find = Find(entry, place.id, place.kind, fields, home, Order(place.order), place.complete)
        self.finds.append(find)

    def _tops(self) -> list[tuple[str, FolderSource]]:
        """What is walked: every root whole, or only the homes of the person who was asked for."""
        if self.only_homes:
            return [(home.path, self._source(home.root)) for home in self.homes]
        return [(source.root, source) for source in self.sources]

    def _sort(self, ending: str) -> int:
        """What a name with this ending (from its last dot on) may be: a document, a leftover, both or neither."""
        ends = self.catalogue.ends
        leftover = any(ending.endswith(end) or end.endswith(ending) for end in ends)
        return _DOCUMENT * (ending[1:].lower() in DOCUMENT_EXTENSIONS) + _LEFTOVER * leftover

    def rest(self, on_documents: OnDocuments, tick: Callable[[int], None]) -> None:
        """Walk every root whole: index document-like names, find what lies beside documents, dismiss the rest."""
        catalogue, totals = self.catalogue, self.totals
        # The ending of a name settles most names with one look-up; the rest by their first and last letters.
        first, last = {s[0] for s in catalogue.starts}, {e[-1] for e in catalogue.ends if "." not in e}
        bare = catalogue.bare_lengths
        held = re.compile("|".join(map(re.escape, catalogue.holds)) or "(?!)").search
        sorts: dict[str, int] = {}
        kept_out, own = self.kept_out, set(self.own_folders)
        homes = sorted(self.homes, key=lambda home: -len(home.path))
        walked: list[str] = []
        for top, source in self._tops():
            if any(inside(top, done) for done in walked):
                continue
            walked.append(top)
            for folder, folders, files in source.walk(top, self.on_problem):
                totals.directories += 1
                totals.files += len(files)
                if folder in own:
                    folders.clear()
                    continue
                closed = folder in kept_out
                documents: list[str] = []
                hits = 0
                home: Home | None = None
                for name in files:
                    dot = name.rfind(".")
                    if dot > 0:
                        ending = name[dot:]
                        sort = sorts.get(ending)
                        if sort is None:
                            sort = sorts[ending] = self._sort(ending)
                        if not sort and name[0] not in first:
                            continue
                    elif name[0] in first or name[-1] in last or len(name) in bare:
                        sort = _LEFTOVER
                    else:
                        continue
                    if sort & _LEFTOVER or name[0] in first or held(name):
                        found = catalogue.match_beside(name)
                        if found is not None:
                            if not hits:
                                home = home_of(folder, homes)
                            hits += 1
                            path = os.path.join(folder, name)
                            if path not in self.seen:
                                self._add(found[0], source, path, found[1], home)
                            continue
                    if sort & _DOCUMENT:
                        documents.append(name)
                totals.dismissed_by_name += len(files) - len(documents) - hits
                if closed:
                    # Copies, not originals; what lies deeper (a deleted folder) is no place for originals either.
                    folders.clear()
                elif documents:
                    on_documents(folder, documents)
                if len(sorts) > _MAX_ENDINGS:
                    sorts.clear()
                if totals.directories % 500 == 0:
                    tick(totals.files)


def home_of(path: str, homes: Sequence[Home]) -> Home | None:
    return next((home for home in homes if inside(path, home.path)), None)


def resolve(
    names_in: Callable[[str], tuple[list[str], list[str]]], base: str, pattern: str, *, any_case: bool
) -> tuple[list[str], list[str]]:
    """Folders that a pattern such as `.config/suite/*/user` names below `base`, and those we may not look into.

    Links are not followed.
    """
    found, denied = [base], []
    for part in pattern.split("/") if pattern != "." else ():
        following: list[str] = []
        for folder in found:
            step = os.path.join(folder, part)
            there = is_folder(step) if "*" not in part else False
            if there:
                following.append(step)
            elif there is None:
                denied.append(folder)
            elif any_case or "*" in part:
                try:
                    names, _ = names_in(folder)
                except SourceError:
                    denied.append(folder)
                    continue
                wanted = part.casefold()
                following += [
                    os.path.join(folder, name) for name in names if fnmatch.fnmatchcase(name.casefold(), wanted)
                ]
        found = following
    return found, denied
