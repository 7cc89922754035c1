"""The search: known places first, then the rest of the tree, most files dismissed by name alone."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import NamedTuple

import msgspec

from rustfern.catalogue.loader import Catalogue, Place
from rustfern.core.errors import SourceError
from rustfern.core.model import Entry, Find, Home, Layout, Order, Searched, Totals
from rustfern.core.paths import inside, plain_path
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, extension_of
from rustfern.search.dated_roots import DatedRoots
from rustfern.search.lister import Lister
from rustfern.search.path_sums import PathSums, own_folder
from rustfern.search.patterns import (
    TEMPORARY,
    TEMPORARY_OF_HOME,
    TEMPORARY_OF_VOLUME,
    Names,
    is_glob,
    is_system,
    is_uninformative_name,
    unreachable_reason,
    with_temporary,
)
from rustfern.search.program_folders import is_of_programs, is_worth_it
from rustfern.search.recorded_paths import RecordedPaths, home_finder, take_apart
from rustfern.search.synced import synced_roots
from rustfern.search.walk import Sorting, Task, sum_of_tree
from rustfern.settings.interface import Settings
from rustfern.sources.folder import with_companions
from rustfern.sources.interface import OnProblem, Source
from rustfern.sources.registry import Sources

OnDocuments = Callable[[str, list[str]], None]
"""Called with (folder, document-like names in it)."""
OnVersions = Callable[[str, list[str], str, str, str], None]
"""Called with (folder in a tree of versions, names, place, the folder that it repeats or "", the path inside if only names count)."""

_ASKED_OFTEN = frozenset(
    {".config", "share", ".local", ".cache", "Library", "Application Support", "AppData", "Roaming", "Local"}
)
"""Folders in which many places have theirs: listed once."""
_MAX_IN_PLACE = 100_000
_TRASHES = re.compile(r"(?i)[/\\](?:\.trash(?:-[\d*]+)?|\.trashes|\$recycle\.bin|recycler)$")
_MAX_NAMELESS = 50_000
"""Deleted files under names that say nothing whose first bytes are looked at."""
RECORD_NAME = re.compile(r"(?:record|inode|file) \d+")
"""What stands for the name of a deleted file that a disk has no name of any more."""
ADDED = re.compile(
    rf"(.+\.(?:{'|'.join(sorted(map(re.escape, DOCUMENT_EXTENSIONS), key=len, reverse=True))}))[.~_-][^.]{{0,12}}[.~_-]?\w*\d\w*",
    re.IGNORECASE,
)
"""A document's name with an addition that a program gave it before it was deleted: a counter or a sum."""
_SUMS = 1 << 64
_MAX_OF_PROGRAMS = 300_000
"""Names in folders of programs that are looked at."""
_MANY_HOMES = 5
"""With so many, looking into their known places takes long enough to list the tree in the meantime."""

SERVICE_COPY = "service-copy"
"""The place of what a service holds of a folder that is searched too."""
_NOTHING: tuple[list[str], list[str]] = [], []
_ORDERS = {str(order): order for order in Order}


class _Inner(NamedTuple):
    """The folders in one: their names, as patterns ask for them, and by their folded form."""

    names: Names
    there: frozenset[str]
    folded: dict[str, list[str]]

    @classmethod
    def of(cls, names: list[str]) -> _Inner:
        folded: dict[str, list[str]] = {}
        for name in names:
            folded.setdefault(name.casefold(), []).append(name)
        return cls(Names(names), frozenset(names), folded)


class Search(msgspec.Struct, dict=True):
    """One search over some roots, or with `only_homes` over the given homes and the common places of their volumes; `thorough` asks for
    names that say nothing too. Results collect in `finds` and `searched`.
    """

    door: Sources
    sources: Sequence[Source]
    homes: Sequence[Home]
    catalogue: Catalogue
    on_problem: OnProblem
    totals: Totals
    own_folders: Sequence[str] = ()
    only_homes: bool = False
    thorough: bool = False
    finds: list[Find] = msgspec.field(default_factory=list)
    searched: list[Searched] = msgspec.field(default_factory=list)
    seen: set[str] = msgspec.field(default_factory=set)
    kept_out: set[str] = msgspec.field(default_factory=set)
    of_programs: list[tuple[str, list[str]]] = msgspec.field(default_factory=list)
    deleted: list[str] = msgspec.field(default_factory=list)
    deleted_nameless: list[str] = msgspec.field(default_factory=list)
    settings: Settings = msgspec.field(default_factory=Settings)
    path_sums: PathSums = msgspec.field(default_factory=PathSums)
    listing: int = 0
    """The sum of all that listing told, where what is looked at is noted."""
    _lies_in: dict[str, Source] = msgspec.field(default_factory=dict)
    _own_names: int = 0
    _trees: dict[str, bool] = msgspec.field(default_factory=dict)
    _done: set[tuple[str, str]] = msgspec.field(default_factory=set)
    _listed: dict[str, tuple[list[str], list[str]]] = msgspec.field(default_factory=dict)
    _resolved: dict[tuple[str, str], tuple[list[str], list[str]]] = msgspec.field(default_factory=dict)
    _folders_in: dict[str, _Inner | None] = msgspec.field(default_factory=dict)
    _files_in: dict[str, Names] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        on_disks = any(self.door.disk(source.root) is not None for source in self.sources)
        aside = not self.door.gentle.is_on and not on_disks
        self._lister = Lister(self.door, Sorting(self.catalogue), self.on_problem, aside=aside)
        self.meanwhile = self._lister.meanwhile
        self.meanwhile.append(self.path_sums.take)
        self._placeholders: dict[str, frozenset[str]] = {}
        self._tops_of_homes = {home.path for home in self.homes}
        self.synced = synced_roots(self.sources)
        self._dated = DatedRoots(self.catalogue, self.sources)
        self._paths = RecordedPaths(self.door, self.homes, [source.root for source in self.sources])

    @contextmanager
    def ahead(self) -> Iterator[None]:
        """Around all of a search that walks everything: with many homes, the tree is listed while their places are looked into."""
        if len(self.homes) > _MANY_HOMES and not self.only_homes and len(self.sources) == 1:
            self._lister.begin(self._task(self.sources[0].root))
        try:
            yield
        finally:
            self._lister.end()

    def known_places(self, *, settings: bool = True) -> None:
        """Look into every folder that the catalogue names, in every home and on every volume, and with `settings` where these moved it."""
        if settings:
            self._read_settings()
        of_homes = {
            layout: [
                (place, with_temporary(self._in_all_languages(place.folders[layout.value]), TEMPORARY_OF_HOME[layout]))
                for place in self.catalogue.places.values()
                if place.where == "home" and layout.value in place.folders
            ]
            for layout in {home.layout for home in self.homes}
        }
        for home in self.homes:
            source = self._source(home.root)
            for place, patterns in of_homes[home.layout]:
                self._place(place, home.path, source, home, patterns)
        volumes = {home.volume for home in self.homes if home.volume}
        for source in self.sources:
            # On the live machine the volume lies around what is searched.
            near = {v for v in volumes if inside(v, source.root) or inside(source.root, v)}
            for base in sorted(near | {source.root}):
                owners = {home.layout: home for home in self.homes if home.volume == base}
                for layout in owners or Layout:
                    for place in self.catalogue.places.values():
                        if place.where == "volume" and layout.value in place.folders:
                            whole = with_temporary(place.folders[layout.value], TEMPORARY_OF_VOLUME[layout])
                            self._place(place, base, source, owners.get(layout), whole)
        if settings:
            self._moved_places()
        self._forget_listings()

    def settings_after_all(self) -> None:
        """What `known_places` left out without `settings`: read them, and look where they moved copies."""
        self._read_settings()
        self._moved_places()
        self._forget_listings()

    def _forget_listings(self) -> None:
        for listed in (self._listed, self._resolved, self._folders_in, self._files_in):
            listed.clear()

    def _in_all_languages(self, patterns: Iterable[str]) -> list[str]:
        """Patterns with the names that folders of older systems have on disk in other languages."""
        out = []
        for pattern in patterns:
            first, _, rest = pattern.partition("/")
            out += [f"{name}/{rest}".rstrip("/") for name in (first, *self.catalogue.aliases.get(first, ()))]
        return out

    def _read_settings(self) -> None:
        from rustfern.settings.read import read_settings

        self.settings = read_settings(
            self.catalogue.settings, self.homes, self._around, self.find_files, self.on_problem, self.door.scratch,
            self.catalogue.protected,
        )  # fmt: skip

    def _around(self, path: str) -> Source | None:
        found = self._lies_in.get(path)
        if found is None:
            found = next((source for source in self.sources if inside(path, source.root)), None)
            if found is not None and len(self._lies_in) < _MAX_IN_PLACE:
                self._lies_in[path] = found
        return found

    def find_files(self, base: str, pattern: str, any_case: bool) -> list[str]:
        """The regular files that a pattern such as `.config/*/settings.json` names below a folder."""
        source = self._around(base)
        folder_pattern, _, name = pattern.rpartition("/")
        found: list[str] = []
        if source is None:
            return found
        folders, _ = self._resolve(source, base, folder_pattern or ".", any_case=any_case)
        for folder in folders:
            if not is_glob(name) and not any_case:
                path = os.path.join(folder, name)
                with suppress(SourceError):
                    found += [path] if source.entry(path).is_file else []
                continue
            if folder not in self._files_in:
                try:
                    self._files_in[folder] = Names(self._names(source, folder)[1])
                except SourceError:
                    continue
            found += [os.path.join(folder, each) for each in self._files_in[folder].fitting(name)]
        return found

    def _moved_places(self) -> None:
        """Look where settings say that copies go; a folder outside of what is searched is said, never followed."""
        from rustfern.settings.read import expand

        places = self.catalogue.places
        targets = [
            (told, [place for setting in self.catalogue.settings if setting.id == told.setting
                    for place in map(places.__getitem__, setting.places)], "")
            for told in self.settings.of("folder")
        ]  # fmt: skip
        for told in self.settings.of("temporary"):
            layout = told.home.layout if told.home else Layout.LINUX
            for place in places.values():
                patterns = [p for p in place.folders.get(layout.value, ()) if p.split("/")[0] == TEMPORARY]
                targets += [(told, [place], pattern.removeprefix(TEMPORARY).strip("/")) for pattern in patterns]
        for told in self.settings.of("documents"):
            recorded = expand(told.text, told.home, self.settings, told.file)
            folder = self._paths.translate(recorded, told.home)
            if take_apart(recorded) and (folder is None or self._around(folder) is None):
                self.searched.append(
                    Searched(told.setting, recorded, unreachable_reason(recorded), by=told.by, home=_path(told.home))
                )
        for told, moved, below in targets:
            recorded = expand(told.text, told.home, self.settings, told.file)
            folder = self._paths.translate(recorded, told.home)
            if folder is not None and told.home is not None and self._is_default(folder, told.home):
                continue
            for place in moved:
                if place.where == "home" and told.home is None:
                    continue
                if folder is None or self._around(folder) is None:
                    status = unreachable_reason(recorded)
                    self.searched.append(Searched(place.id, recorded, status, by=told.by, home=_path(told.home)))
                    continue
                there = self.door.is_folder(folder)
                if not there:
                    status = "denied" if there is None else "absent"
                    self.searched.append(Searched(place.id, folder, status, by=told.by, home=_path(told.home)))
                    continue
                self._place(place, folder, self._source_around(folder), told.home, [below or "."], told.by)

    @staticmethod
    def _is_default(folder: str, home: Home) -> bool:
        """Whether a temporary folder is where it always is."""
        usual = [os.path.join(home.path, *part.split("/")) for part in TEMPORARY_OF_HOME[home.layout]]
        usual += [os.path.join(home.volume, *p.split("/")) for p in TEMPORARY_OF_VOLUME[home.layout] if home.volume]
        return folder in usual

    def _source_around(self, path: str) -> Source:
        return next(source for source in self.sources if inside(path, source.root))

    def _source(self, root: str) -> Source:
        return next(source for source in self.sources if source.root == root)

    def _place(
        self,
        place: Place,
        base: str,
        source: Source,
        home: Home | None,
        patterns: Iterable[str],
        by: str = "",
    ) -> None:
        any_case = home is None or home.layout is not Layout.LINUX
        prefix = base if base.endswith(os.sep) else base + os.sep
        for pattern in patterns:
            folders, denied = self._resolve(source, base, pattern, any_case=any_case)
            if not folders and not denied:
                if not is_glob(pattern):
                    path = base if pattern == "." else prefix + pattern.replace("/", os.sep)
                    self.searched.append(Searched(place.id, path, "absent", by=by))
                continue
            for folder in denied:
                if (shut := Searched(place.id, folder, "denied")) not in self.searched:
                    self.searched.append(shut)
            for folder in folders:
                if not any(inside(folder, s.root) for s in self.sources) or (place.id, folder) in self._done:
                    continue
                self._done.add((place.id, folder))
                source = next(s for s in self.sources if inside(folder, s.root))
                if place.is_copy and place.exclusive and not by:
                    self.kept_out.add(folder)
                before = len(self.finds)
                status = self._look(place, folder, source, home, place.depth)
                self.searched.append(Searched(place.id, folder, status, len(self.finds) - before, by))

    def _names(self, source: Source, folder: str) -> tuple[list[str], list[str]]:
        """A folder's names; several places share a folder."""
        if folder not in self._listed:
            self._listed[folder] = source.names(folder)
        return self._listed[folder]

    def _resolve(self, source: Source, base: str, pattern: str, *, any_case: bool) -> tuple[list[str], list[str]]:
        """Folders that a pattern such as `.config/suite/*/user` names below `base`, and those we may not look into. Links are not followed.

        Patterns share their beginnings: each part is looked up once.
        """
        if self._resolved.get((base, pattern.partition("/")[0])) is _NOTHING:
            return _NOTHING
        known = self._resolved.get((base, pattern))
        if known is None:
            outer, _, last = pattern.rpartition("/")
            found: list[str] = []
            folders, denied = self._resolve(source, base, outer, any_case=any_case) if outer else ([base], [])
            denied = list(denied)
            for folder in folders:
                inner = self._folders_in.get(folder)
                if inner is not None and not inner.there and last != ".":
                    continue
                there = self._step(source, folder, last, any_case=any_case)
                if there is None:
                    denied.append(folder)
                else:
                    found += there
            known = self._resolved[base, pattern] = (found, denied) if found or denied else _NOTHING
        return known

    def _step(self, source: Source, folder: str, part: str, *, any_case: bool) -> list[str] | None:
        """The folders in one that a part of a pattern names; None if we may not know."""
        if part == ".":
            return [folder]
        glob = is_glob(part)
        listed = None
        if glob or any_case or folder in self._tops_of_homes or os.path.basename(folder) in _ASKED_OFTEN:
            listed = self._inner(source, folder)
        prefix = folder if folder.endswith(os.sep) else folder + os.sep
        if listed is None:
            # It may not be listed, but what is in it may be known.
            there = None if glob else self.door.is_folder(prefix + part)
            return None if there is None else [prefix + part] * there
        if not glob:
            if part in listed.there:
                return [prefix + part]
            return [prefix + name for name in listed.folded.get(part.casefold(), ())] if any_case else []
        return [prefix + name for name in listed.names.fitting(part)]

    def _inner(self, source: Source, folder: str) -> _Inner | None:
        """The folders in one, listed once; None if it may not be listed."""
        if folder not in self._folders_in:
            try:
                self._folders_in[folder] = _Inner.of(self._names(source, folder)[0])
            except SourceError:
                self._folders_in[folder] = None
        return self._folders_in[folder]

    def _look(self, place: Place, folder: str, source: Source, home: Home | None, depth: int) -> str:
        try:
            folders, files = self._names(source, folder)
        except SourceError as error:
            self.on_problem(folder, f"this folder of copies could not be listed: {error.what}")
            return "denied"
        names = [*files, *folders] if place.folders_too else files
        earlier = self._earlier_in(source, folder)
        for name in names[:_MAX_IN_PLACE]:
            fields = self.catalogue.match(place, name)
            if fields is not None:
                for each in (os.path.join(folder, name), *earlier.get(name, ())):
                    if each not in self.seen:
                        self._add(place, source, each, fields, home)
        if depth > 0:
            for name in folders:
                self._look(place, os.path.join(folder, name), source, home, depth - 1)
        return "found"

    @staticmethod
    def _earlier_in(source: Source, folder: str) -> dict[str, list[str]]:
        """Name → the paths of earlier records under it, where a disk tells of deleted files."""
        found: dict[str, list[str]] = {}
        for path in source.deleted_in(folder)[1]:
            found.setdefault(plain_path(os.path.basename(path)), []).append(path)
        return found

    def _add(self, place: Place, source: Source, path: str, fields: dict[str, str], home: Home | None) -> None:
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
        if place.companions and entry.is_file:
            entry = with_companions(self._source_around(entry.path), entry, place.companions)
        find = Find(entry, place.id, place.kind, fields, home, _ORDERS[place.order], place.complete)
        self.finds.append(find)

    def _trash_of_volume(self, top: str, source: Source) -> None:
        """A folder with a trash of its own stands for a volume, or did: a stick, a second disk, a share."""
        for place in self.catalogue.places.values():
            if place.where == "volume":
                patterns = [
                    each
                    for of in place.folders.values()
                    for each in of
                    if _TRASHES.search("/" + each.partition("/")[0])
                ]
                if patterns:
                    self._place(place, top, source, None, dict.fromkeys(patterns))

    def _note_deleted(self, folder: str, gone: Collection[str], named: Sequence[str], earlier: Sequence[str]) -> None:
        """Deleted files that may be documents (by their names: `named`), for the step that gives them theirs."""
        self.deleted += [os.path.join(folder, name) for name in named]
        if len(self.deleted_nameless) < _MAX_NAMELESS and not is_system(folder, self.sources):
            paths = [os.path.join(folder, name) for name in gone if is_uninformative_name(name)]
            paths += [path for path in earlier if is_uninformative_name(plain_path(os.path.basename(path)))]
            self.deleted_nameless += [path for path in paths if path not in self.seen]
        self.deleted += [path for path in earlier if is_document_name(plain_path(os.path.basename(path)))]

    def _tops(self) -> list[tuple[str, Source]]:
        """What is walked, each once: every root whole, or only the homes of the person who was asked for."""
        tops: list[tuple[str, Source]] = []
        if self.only_homes:
            every = [(home.path, self._source(home.root)) for home in self.homes]
        else:
            every = [(source.root, source) for source in self.sources]
        for top, source in every:
            if not any(inside(top, done) for done, _ in tops):
                tops.append((top, source))
        return tops

    def _tree(self, folder: str) -> tuple[Place, str | None, dict[str, str]] | None:
        """The tree of older versions that a folder lies in: (place, the folder that it repeats, parts of its path).

        A tree that stands alone, without what it repeats (a backup disk), is searched like any other folder.
        """
        path = folder.replace(os.sep, "/") + "/x"
        found = self.catalogue.tree_of(path)
        if found is None:
            return None
        place, parts = found
        if "top" not in parts:
            return (place, None, parts) if self._dated.hold_versions(place, parts["loose"]) else None
        inner = parts.get("inner", "x").split("/")
        known = parts["top"] or "/"
        first = known if place.repeats_all or len(inner) == 1 else os.path.join(known, inner[0])
        there = self._trees.get(first)
        if there is None:
            there = self._trees[first] = self._dated.reach(first) and bool(self.door.is_folder(first))
        return (place, os.path.join(parts["top"] or "/", *inner[:-1]), parts) if there else None

    def _also_here(self, folder: str, names: Sequence[str]) -> tuple[str, list[str]]:
        """The folder here that one of a service (or of its versions) stands for, and which of its names are there too: the service's are other
        copies of these, which may be older or newer.
        """
        for far, near in self.synced.items():
            if inside(folder, far):
                inner = os.path.relpath(folder, far)
                if (tree := self.catalogue.tree_of(folder.replace(os.sep, "/") + "/x")) is not None:
                    inner = os.path.dirname(tree[1].get("inner", "x/x"))
                there = os.path.normpath(os.path.join(near, inner))
                online = self._online_only_in(there)
                return there, [name for name in names if name in online or self.door.exists(os.path.join(there, name))]
        return "", []

    def _online_only_in(self, folder: str) -> frozenset[str]:
        """The files that a synced folder only stands for: those that placeholders in it name."""
        known = self._placeholders.get(folder)
        if known is None:
            found = set[str]()
            with suppress(SourceError):
                for name in self._source_around(os.path.join(folder, "x")).names(folder)[1]:
                    told = self.catalogue.match_beside(name)
                    if told is not None and told[0].reader == "placeholder" and "name" in told[1]:
                        found.add(told[1]["name"])
            known = self._placeholders[folder] = frozenset(found)
        return known

    def _task(self, top: str) -> Task:
        own, homes = frozenset(self.own_folders), tuple(home.path for home in self.homes)
        return Task(top, [top], own, self.thorough, homes, self.door.access.looked is not None)

    def listed_now(self) -> int:
        """The sum of all listings, as `listing` is after `rest`."""
        return sum(sum_of_tree(self.door, self._task(top)) for top, _ in self._tops()) % _SUMS

    def rest(
        self,
        on_documents: OnDocuments,
        tick: Callable[[int], None],
        on_versions: OnVersions | None = None,
        on_dismissed: OnDocuments | None = None,
    ) -> None:
        """Walk every root whole: index document-like names, find what lies beside documents, dismiss the rest."""
        catalogue, totals = self.catalogue, self.totals
        signs = catalogue.tree_signs.search
        kept_out, below = self.kept_out, set[str]()
        home_of = home_finder(self.homes)
        homes = tuple(home.path for home in self.homes)
        for top, source in self._tops():
            for listed in self._lister.listings(self._task(top)):
                folder, files, leftovers, documents, names, told = listed
                self.listing = (self.listing + told) % _SUMS
                if (
                    names
                    and self._own_names < _MAX_OF_PROGRAMS
                    and (not self.thorough or (is_of_programs(folder, homes) and is_worth_it(folder, names)))
                ):
                    self._own_names += len(names)
                    self.of_programs.append((folder, names))
                if _TRASHES.search(folder):
                    self._trash_of_volume(os.path.dirname(folder), source)
                # Below a folder of copies nothing is an original, what lies deeper (a deleted folder) included.
                if kept_out and ((outer := folder.rpartition(os.sep)[0]) in kept_out or outer in below):
                    below.add(folder)
                    continue
                totals.directories += 1
                totals.files += files
                if on_versions and self.synced and documents:
                    there, both = self._also_here(folder, documents)
                    if both:
                        on_versions(folder, both, SERVICE_COPY, there, "")
                        documents = [name for name in documents if name not in frozenset(both)]
                if on_versions and signs(folder) and (tree := self._tree(folder)) is not None:
                    totals.dismissed_by_name += files - len(documents)
                    documents = source.differing(folder, documents, tree[1] or "")
                    if documents:
                        share = (
                            "\\\\" + tree[2]["inner"].rpartition("/")[0].replace("/", "\\")
                            if "share" in tree[2]
                            else ""
                        )
                        on_versions(folder, documents, tree[0].id, tree[1] or "", share)
                    continue
                gone, earlier = source.deleted_in(folder)
                if leftovers:
                    home = home_of(folder)
                    prefix = folder if folder.endswith(os.sep) else folder + os.sep
                    others = self._earlier_in(source, folder) if earlier else {}
                    for name, ident, fields in leftovers:
                        for path in (prefix + name, *others.get(name, ())):
                            if path not in self.seen:
                                self._add(catalogue.places[ident], source, path, fields, home)
                    taken = {leftover[0] for leftover in leftovers}
                    documents = [name for name in documents if name not in taken]
                totals.dismissed_by_name += files - len(documents) - len(leftovers)
                if on_dismissed:
                    taken = set(documents)
                    on_dismissed(
                        folder, [n for n in names if n not in taken and os.path.join(folder, n) not in self.seen]
                    )
                if gone or earlier:
                    self._note_deleted(folder, gone, names_of(gone, documents), earlier)
                if documents and folder not in kept_out:
                    on_documents(folder, documents)
                    if not is_of_programs(folder, homes):
                        home = home_of(folder)
                        self.path_sums.add(own_folder(folder, home.volume if home else None), documents)
                if totals.directories % 500 == 0:
                    tick(totals.files)


def names_of(gone: Collection[str], documents: Iterable[str]) -> list[str]:
    """The names of what was deleted that may be documents, or say nothing."""
    named = [name for name in documents if name in gone] if gone else []
    there = set(named)
    return named + [name for name in gone if name not in there and _may_be_document(name)]


def is_document_name(name: str) -> bool:
    """Whether a name is one that documents have."""
    return extension_of(name) in DOCUMENT_EXTENSIONS or _may_be_document(name)


def _may_be_document(name: str) -> bool:
    """Whether a deleted file's name is none of its own, or a document's with an addition."""
    return RECORD_NAME.fullmatch(name) is not None or ADDED.fullmatch(name) is not None


def _path(home: Home | None) -> str:
    return home.path if home else ""
