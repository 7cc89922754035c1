"""Copies in the folders of programs: under the document's own name, under its whole path or a sum of it, or named by a list beside them."""

from __future__ import annotations

import os
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

from rustfern.catalogue import untitled as untitled_names
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Entry, Find, Home, Kind, Record
from rustfern.core.paths import fold_name, inside
from rustfern.formats import registry as formats
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, class_of, extension_of, format_of_extension
from rustfern.matching.evidence import weights
from rustfern.matching.prose import is_notation
from rustfern.matching.state import LinkState
from rustfern.search import told_names
from rustfern.search.neighbours import tells_of_copies
from rustfern.search.path_sums import MAX_HASHED, PathSums, own_folder
from rustfern.search.program_folders import holds_drafts, is_made_up, is_of_draft, is_of_programs, is_temporary
from rustfern.traces import path_index

PLACE = "program-folder"
_LISTS = frozenset(
    ["", "txt", "json", "xml", "ini", "conf", "cfg", "toml", "yaml", "yml", "plist", "lst", "list", "idx", "index", "db", "sqlite", "sqlite3", "log",
     "dat", "data", "session", "rc", "el", "py", "properties", "info", "meta", "state", "xbel", "rdf", "manifest", "map",
     "gvariant", "journal", "lsp", "lisp", "scm"]
)  # fmt: skip
"""Endings of files that may list what lies beside them."""
_BY_PROGRAMS = frozenset({"code", "database", None})
_MAX_LISTS, _MAX_LISTS_IN_FOLDER, _MAX_LIST_BYTES = 2_000, 12, 1 << 20
_MAX_DATABASE_BYTES, _MAX_INNER, _MAX_BELOW = 4 << 20, 20, 2_000
_PATTERNS = re.compile(r"[$%]\(|\$\{|%\w+%|[*?<>]")
"""What stands in paths that are patterns of many."""
_FEW, _MAX_DRAFTS = 10, 300
_MAX_COPIES, _MAX_FOLDERS, _MAX_SAME = 2_000, 1_000_000, 20


def _may_list(name: str, *, few: bool) -> bool:
    """Whether a file may be a list: by its ending; among a `few` files, whatever is of no known format."""
    ending = extension_of(name)
    if few:
        return ending in _LISTS or format_of_extension(ending) is None
    return ending in _LISTS and not is_made_up(name)


def _is_of_programs(path: str) -> bool:
    return class_of(format_of_extension(extension_of(path))) in _BY_PROGRAMS


class _Paths:
    """The paths of what is given as (folder, names), made when they are asked for."""

    def __init__(self, listed: Sequence[tuple[str, Sequence[str]]]) -> None:
        self._listed = listed

    def __iter__(self) -> Iterator[str]:
        for folder, names in self._listed:
            prefix = folder if folder.endswith(os.sep) else folder + os.sep
            for name in names:
                yield prefix + name


def _documents_first(listed: Iterable[tuple[str, Sequence[str]]]) -> list[tuple[str, Sequence[str]]]:
    """The same names, those that programs make behind all others."""
    apart = [(folder, names, [_is_of_programs(name) for name in names]) for folder, names in listed]
    return [
        (folder, [name for name, made in zip(names, marks, strict=True) if made is last])
        for last in (False, True)
        for folder, names, marks in apart
    ]


class ProgramFolders:
    """The steps that look into the folders of programs, when all names are known."""

    def __init__(self, state: LinkState) -> None:
        self.state = state
        self._folders: set[str] = set()
        self._inside: dict[str, list[tuple[str, Sequence[str]]]] = {}
        self._lists = 0
        self._people: set[str] = set()
        self._named: dict[tuple[str, str], list[str]] = {}

    def take(self, listed: Sequence[tuple[str, Sequence[str]]], path_sums: PathSums) -> None:
        """Find the copies among the files of these folders, given as (folder, names)."""
        self._folders = {folder for folder, _ in listed}
        self._inside = defaultdict(list)
        for folder, names in listed:
            self._inside[os.path.dirname(folder)].append((folder, names))
        texts = ["/".join(names) for _, names in listed]
        documents = list(self._documents())
        there = told_names.OwnNames(set().union(*(names for _, names in documents)))
        sums = {
            each for (folder, _), text in zip(listed, texts, strict=True) for each in told_names.sums_in(text, folder)
        }
        paths = told_names.WholePaths(_Paths(documents))
        self._people = {fold_name(os.path.basename(home.path)) for home in self.state.homes}
        summed: dict[str, str] = {}
        if sums:
            if sum(len(names) for _, names in documents) > MAX_HASHED:
                documents = _documents_first(documents)
                what = f"{len(sums):,} names here may be sums of paths: they were compared with those of {MAX_HASHED:,} documents only"
                self.state.problem(self.state.roots[0], what)
            summed = path_sums.find(((folder, self._own(folder), names) for folder, names in documents), sums)
        for (folder, names), text in zip(listed, texts, strict=True):
            with self.state.isolated(folder):
                self._folder(folder, names, text, there, paths, summed)
            if len(self.state.more) > _MAX_COPIES:
                what = (
                    f"more than {_MAX_COPIES:,} files in folders of programs may be copies: the rest was not looked at"
                )
                self.state.problem(folder, what)
                return

    def _documents(self) -> Iterator[tuple[str, Sequence[str]]]:
        """The documents outside of the folders of programs: (folder, names)."""
        homes = [home.path for home in self.state.homes]
        for count, (folder, names) in enumerate(self.state.case.names.folders()):
            if folder in self._folders or is_of_programs(folder, homes):
                continue
            yield folder, names
            if count > _MAX_FOLDERS:
                return

    def _own(self, folder: str) -> str:
        home = self.state.home_of(folder)
        return own_folder(folder, home.volume if home else None)

    def _folder(
        self,
        folder: str,
        names: Sequence[str],
        text: str,
        there: told_names.OwnNames,
        paths: told_names.WholePaths,
        summed: dict[str, str],
    ) -> None:
        """One folder; `text` are its names between `/`, which tells at once that most have none worth looking at one by one."""
        home = self.state.home_of(folder)
        paired = self._by_lists(folder, names, home)
        of_sums = bool(summed) and any(each in summed for each in told_names.sums_in(text, folder))
        small = fold_name(text)
        own = there.find(small, for_copies=tells_of_copies(os.path.basename(folder)))
        spells = any(map(text.count, told_names.STRONG_SEPARATORS))
        begins = any(person in small for person in self._people)
        drafts, unnamed = holds_drafts(folder), list[str]()
        untitled = is_temporary(folder) and untitled_names.MENTIONS.search(small) is not None
        if not (spells or begins or of_sums or own or drafts or untitled):
            return
        all_of_them = spells or begins or of_sums or drafts or untitled
        for number, name in enumerate(names) if all_of_them else ((number, names[number]) for number in own):
            path = os.path.join(folder, name)
            if path in self.state.found_paths or path in paired:
                continue
            if len(self.state.more) > _MAX_COPIES:
                break
            strong = spells and any(sign in name for sign in told_names.STRONG_SEPARATORS)
            whole = paths.find(name) if strong or number in own else None
            told = (
                next((each for each in told_names.sums_in(name, folder) if each in summed), "")
                if of_sums and not whole
                else ""
            )
            if whole is not None or len(told) >= told_names.SURE_SUM:
                whole = whole or summed[told]
                self._add(path, {"name": os.path.basename(whole), "whole": whole}, home)
            elif told:
                self._add(path, {"name": name, "same": summed[told], "sum": told}, home)
            elif begins and (begun := self._begun(name, paths)):
                self._add(path, {"name": name, "same": "\0".join(begun), "cut": "1"}, home)
            elif number in own:
                found = [path for held in sorted(own[number]) for path in self._of_name(held, home)][:_MAX_SAME]
                if found:
                    self._add(path, {"name": os.path.basename(found[0]), "same": "\0".join(found)}, home)
            elif (drafts and is_of_draft(name)) or (untitled and untitled_names.is_untitled_working_file(name)):
                unnamed.append(name)
        self._drafts(folder, unnamed, home)

    def _of_name(self, name: str, home: Home | None) -> list[str]:
        """The documents of a name, outside of the folders of programs; for a folder of one person, those of that person."""
        key = name, home.path if home else ""
        if key not in self._named:
            found = self.state.case.names.by_name(name, _MAX_SAME)
            found = [path for path in found if os.path.dirname(path) not in self._folders]
            self._named[key] = [path for path in found if home is None or self.state.home_of(path) == home]
        return self._named[key]

    def _begun(self, name: str, paths: told_names.WholePaths) -> list[str]:
        """The documents whose path, with its person's name, a long name begins with."""
        if len(name) < told_names.CUT_NAME:
            return []
        small = fold_name(name)
        return paths.begun(name) if any(person in small for person in self._people) else []

    def _drafts(self, folder: str, names: Sequence[str], home: Home | None) -> None:
        """Files under made-up names where a program keeps what was not saved: the newest of them."""
        if len(names) > _MAX_DRAFTS:
            source = self.state.source_of(folder)
            times: list[tuple[float, str]] = []
            for name in names:
                with suppress(SourceError):
                    when = source.entry(os.path.join(folder, name)).modified if source else None
                    times.append((when.timestamp() if when else 0.0, name))
            names = [name for _, name in sorted(times, reverse=True)[:_MAX_DRAFTS]]
            what = f"{len(times) - len(names):,} of {len(times):,} drafts in it were not read: all but the newest"
            self.state.problem(folder, f"{what}; look at older ones by their paths (rustfern look PATH)")
        for name in names:
            path = os.path.join(folder, name)
            untitled = untitled_names.is_untitled_working_file(name)
            if (untitled and extension_of(name) not in _LISTS) or not is_notation(self.state, path):
                self._add(path, {"draft": name} | ({"working": name} if untitled else {}), home)

    def _add(self, path: str, fields: dict[str, str], home: Home | None) -> bool:
        source = self.state.source_of(path)
        with suppress(SourceError):
            entry = source.entry(path) if source else None
            if entry is not None and entry.is_file and entry.size:
                self.state.found_paths.add(path)
                self.state.more.append(Find(entry, PLACE, str(Kind.AUTOSAVE), fields, home))
                return True
        return False

    def _by_lists(self, folder: str, names: Sequence[str], home: Home | None) -> set[str]:
        """The copies that a list in a folder names, and the lists."""
        found: set[str] = set()
        below = self._below(folder)
        few = len(names) <= _FEW
        lists = [name for name in names if _may_list(name, few=few)] if below or len(names) > 1 else []
        if not lists:
            return found
        where = {name: inner for inner, inside in below for name in inside} | dict.fromkeys(names, folder)
        known = {os.path.basename(each) for each in where.values()}
        # Names with an ending first: what has none is rather a copy.
        lists.sort(key=lambda name: ("." not in name, len(name), name))
        for name in lists[:_MAX_LISTS_IN_FOLDER]:
            if self._lists >= _MAX_LISTS:
                break
            self._lists += 1
            path = os.path.join(folder, name)
            entry, text = self._text(path)
            if entry is None:
                continue
            for pair in path_index.parse(text, where.keys() - {name}, known):
                if self._paired(pair, where[pair.copy], entry, home):
                    found |= {os.path.join(where[pair.copy], pair.copy), path}
            if path in found and entry.size > _MAX_LIST_BYTES:
                self.state.problem(
                    path, f"this list of copies is large: only its first {_MAX_LIST_BYTES >> 20} MB were read"
                )
        return found

    def _below(self, folder: str) -> Sequence[tuple[str, Sequence[str]]]:
        """The few folders in one where a list there may have its copies."""
        inside = self._inside.get(folder, ())
        return [each for each in inside if len(each[1]) <= _MAX_BELOW] if len(inside) <= _MAX_INNER else []

    def _text(self, path: str) -> tuple[Entry | None, str]:
        source = self.state.source_of(path)
        with suppress(SourceError, OSError, Malformed, ValueError, LookupError):
            entry = source.entry(path) if source else None
            if source is None or entry is None or not entry.is_file or not entry.size:
                return None, ""
            with source.open(entry) as stream:
                data = stream.read(_MAX_LIST_BYTES)
                if data.startswith(b"SQLite format 3\0"):
                    if entry.size > _MAX_DATABASE_BYTES:
                        return None, ""  # a store of the program's own, not a list
                    limits = self.state.door.limits
                    _, pieces = formats.read_text(stream, os.path.basename(path), _MAX_LIST_BYTES, limits)
                    return entry, "\n".join(piece.text for piece in pieces)
            return entry, path_index.text_of(data)
        return None, ""

    def _paired(self, pair: path_index.Pair, folder: str, entry: Entry, home: Home | None) -> bool:
        """Whether a list's pair leads to a document in what is searched, that is there or whose folder is."""
        # In a temporary folder for all, paths are those of the system that it is of.
        near = home or next((h for h in self.state.homes if h.volume and inside(folder, h.volume)), None)
        path = self.state.paths.translate(pair.document, near)
        copy = os.path.join(folder, pair.copy)
        if copy in self.state.named or _PATTERNS.search(pair.document):
            return False
        kind = format_of_extension(extension_of(copy))
        if kind is not None and class_of(kind) in _BY_PROGRAMS and extension_of(copy) != extension_of(pair.document):
            return False  # settings of the program
        if path is None or self.state.source_of(path) is None or os.path.dirname(path) in self._folders:
            return False
        if extension_of(path) not in DOCUMENT_EXTENSIONS and not self.state.door.exists(path):
            return False
        above = os.path.dirname(path)
        if path in self.state.found_paths:
            return False  # a copy itself
        if self.state.door.is_folder(path) or not self.state.door.is_folder(above):
            return False
        if above in {near.volume if near else None, *self.state.roots} and not self.state.door.exists(path):
            return False  # nobody's documents lie at the top of a disk
        says = f"a list beside it ({os.path.basename(entry.path)}) names it as the copy of this document"
        piece = weights.evidence("index-beside", says)
        if copy not in self.state.found_paths and not self._add(copy, {"name": os.path.basename(path)}, home):
            return False
        draft = self.state.draft(path, home, pair.document)
        self.state.named.setdefault(copy, (draft, piece, ""))
        if entry.path not in {record.path for record in draft.records}:
            lists = f"it lists copies in {os.path.basename(folder)}"
            draft.records.append(Record(entry.path, "path-index", lists, (piece,), entry.modified))
        return True
