"""From folders to drafts: everything is walked, records and locks are read, copies are matched to the documents that they belong to."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

from msgspec.structs import replace

from rustfern.cases.case_file import CaseFile
from rustfern.catalogue.loader import Catalogue
from rustfern.content.ahead import Wanted
from rustfern.core.errors import SourceError
from rustfern.core.model import Find, Hints, Home, Location, Situation
from rustfern.core.observer import Observer
from rustfern.core.paths import inside
from rustfern.formats.format_table import companions_of
from rustfern.matching.linker import Draft, Linker
from rustfern.search.neighbours import AUTOSAVE
from rustfern.search.patterns import is_system, is_uninformative_name
from rustfern.search.search import Search
from rustfern.selection import ranking

_BATCH, _AT_ONCE = 50_000, 8_000
"""Names that are put away together at most, and at least while another process lists."""
_TELLING = frozenset({"name", "stem", "prefixed", "untitled", "bang", "percent", "below", "vstem"})
"""Parts of a file name that tell whose copy it is."""
_MAX_ORIGINALS = 200


def take_settings(search: Search, linker: Linker) -> None:
    """Hand over what was read of settings when the known places were looked through."""
    linker.state.settings = search.settings
    linker.state.found_paths = {find.entry.path for find in search.finds}
    with linker.state.isolated(linker.state.roots[0]):
        linker.recent_files.take_settings()


def take_records(search: Search, linker: Linker) -> None:
    """Read the records that were found so far."""
    for find in search.finds:
        if find.kind == "record":
            linker.state.recorded.add(find.entry.path)
            with linker.state.isolated(find):
                linker.records.recognise(find)


def fetch_ahead(search: Search, finds: Iterable[Find]) -> None:
    """Have copies on other machines, and the documents whose names they carry, read by the time that they are looked at."""
    wanted: dict[tuple[str, str], None] = {}
    for find in finds:
        entry = find.entry
        wanted[entry.root, entry.path] = None
        if name := find.fields.get("name") or find.fields.get("stem"):
            wanted[entry.root, os.path.join(os.path.dirname(entry.path), name)] = None
    search.door.fetch_ahead(wanted)


def gather(
    search: Search, linker: Linker, dismissed: Sequence[str], observer: Observer, hints: Hints, *, live: bool
) -> None:
    """All that follows when everything was walked: what records say, matching, what is reached only then. `dismissed` are paths of files
    whose first bytes must tell.
    """
    for find in search.finds:
        if find.kind == "record" and find.entry.path not in linker.state.recorded:
            with linker.state.isolated(find):
                linker.records.recognise(find)
    if search.of_programs:
        observer.stage("looking into the folders of programs")
        linker.state.found_paths = {find.entry.path for find in search.finds}
        with linker.state.isolated(linker.state.roots[0]):
            linker.program_folders.take(search.of_programs, search.path_sums)
            linker.nameless_texts.take(search.of_programs)
    hosts = [told.text for told in search.settings.of("host")]
    top = linker.state.roots[0]
    with linker.state.isolated(top):
        linker.versions.add_conflict_copies(hosts)
    if dismissed:
        observer.stage("looking at the first bytes of files whose names say nothing")
        for number, path in enumerate(dismissed):
            with linker.state.isolated(path):
                linker.versions.take_by_content(path)
            if number % 1000 == 0:
                observer.count(number)
    if hints.document:
        with linker.state.isolated(top):
            linker.requests.draft_exactly(hints.document)
    finds = unique([*search.finds, *linker.state.more])
    if hints.document is None:  # additions of no known kind: only where somebody misses the document
        finds = [find for find in finds if "unsure" not in find.fields]
    fetch_ahead(search, finds)
    observer.stage("reading and matching copies")
    with linker.state.reader.ahead_of(_wanted(linker, finds)):
        match(linker, linker.state.catalogue, finds)
    with linker.state.isolated(top):
        if live:
            linker.versions.add_open_deleted_files()
        if hints.document:
            linker.requests.add_named(hints.document)
            over = hints.happened is Situation.OVERWRITTEN
            linker.requests.add_copies_elsewhere(hints.document, written_over=over)
    with linker.state.isolated(top):
        linker.versions.take_versions(hints.document)
    if hints.happened is Situation.WONT_OPEN and hints.document is None:
        observer.stage("opening documents to see which of them are whole")
        with linker.state.isolated(top):
            linker.requests.add_not_opening(hints.lost_at)
    linker.versions.take_mail()
    linker.records.take_placeholders()


def _wanted(linker: Linker, finds: Sequence[Find]) -> Iterator[Wanted]:
    """The copies that will be read, and the documents beside them whose names they carry."""
    for find in sorted(finds, key=lambda find: find.kind != "trash"):
        entry = find.entry
        if find.kind in ("lock", "record") or not entry.is_file or entry.deleted or entry.companions:
            continue
        yield Wanted(entry.root, entry.path, linker.state.name_of(find))
        name = find.fields.get("name")
        if name and name != os.path.basename(entry.path) and find.kind != "trash":
            yield Wanted(entry.root, os.path.join(os.path.dirname(entry.path), name), name)


def saved_of(linker: Linker, drafts: Iterable[Draft]) -> Iterator[Wanted]:
    """The saved files of documents, where nobody has read them yet."""
    for draft in drafts:
        if draft.original is not None and (source := linker.state.source_of(draft.original)) is not None:
            location = Location(source.root, draft.original)
            if not linker.state.reader.has(location) and not companions_of(name := os.path.basename(draft.original)):
                yield Wanted(source.root, draft.original, name)


def read_gently(search: Search, linker: Linker, file: CaseFile, hints: Hints) -> None:
    """Take what will be read from a disk that may die, the most wanted first: from here on it is read from what was taken."""
    words = re.split(r"\W+", os.path.splitext(hints.document)[0].strip()) if hints.document else []
    named = "(?i:[^/]*" + "[^/]*".join(map(re.escape, words)) + "[^/]*)"
    originals = file.names.shaped(named, _MAX_ORIGINALS) if any(words) else []
    copies = ranking.wanted_first(search.finds, hints, linker.state.catalogue.places)
    paths = [*originals, *(find.entry.path for find in copies)]
    for path in dict.fromkeys(paths):
        source = linker.state.source_of(path)
        if source is not None:
            with suppress(SourceError):
                source.open(source.entry(path)).close()


def walk(search: Search, file: CaseFile, observer: Observer, *, thorough: bool) -> list[str]:
    """Walk everything when the known places are looked through; with `thorough` gives the paths of files whose names say nothing."""
    observer.stage("walking the whole tree")
    dismissed: list[str] = []
    waiting: list[tuple[str, list[str]]] = []
    held = 0

    def on_documents(folder: str, names: list[str]) -> None:
        nonlocal held
        waiting.append((folder, names))
        held += len(names)
        put_away(_BATCH)

    def put_away(least: int) -> bool:
        nonlocal held
        if held < least:
            return False
        file.add_names(waiting)
        waiting.clear()
        held = 0
        return True

    versions: list[tuple[str, str, str, str]] = []

    def on_versions(folder: str, names: list[str], place: str, repeats: str, share: str) -> None:
        for name in names:
            original = f"{share}\\{name}" if share else os.path.join(repeats, name) if repeats else ""
            versions.append((place, os.path.join(folder, name), original, name))
        if len(versions) >= _BATCH:
            file.add_versions(versions)
            versions.clear()

    def on_dismissed(folder: str, names: list[str]) -> None:
        if not is_system(folder, search.sources):
            dismissed.extend(os.path.join(folder, name) for name in names if is_uninformative_name(name))

    search.meanwhile.append(lambda: put_away(_AT_ONCE))
    search.rest(on_documents, observer.count, on_versions, on_dismissed if thorough else None)
    put_away(1)
    if versions:
        file.add_versions(versions)
    file.names.settle()
    return dismissed


def unique(finds: Sequence[Find]) -> list[Find]:
    kept: dict[Location, Find] = {}
    for find in finds:
        kept.setdefault(find.entry.location, find)
    return sorted(kept.values(), key=lambda find: find.entry.path)


def _is_rebuilt(places: Catalogue, find: Find) -> bool:
    """Whether a find is no document by itself, but leads to the content of one."""
    place = places.places[find.place]
    return place.is_copy and bool(place.reader)


def match(linker: Linker, places: Catalogue, finds: Sequence[Find]) -> None:
    """Records first, then locks, then copies that are named, then those whose name says nothing."""
    linker.trash.take_trash([find for find in finds if find.kind == "trash"])
    for find in finds:
        if find.kind == "lock":
            with linker.state.isolated(find):
                linker.records.take_lock(find)
    copies = [find for find in finds if find.kind not in ("lock", "record", "trash") and not _is_rebuilt(places, find)]
    unnamed = []
    opened = [find for find in copies if places.places[find.place].opened_copy]
    kept = [find for find in copies if places.places[find.place].attachment]
    for find in copies:
        if places.places[find.place].opened_copy or places.places[find.place].attachment:
            continue
        told = _TELLING & find.fields.keys() or find.entry.path in linker.state.named
        told = told or places.places[find.place].never_saved
        with linker.state.isolated(find):
            if not (told and linker.copies.take_named(find)):
                unnamed.append(find)
    unnamed += linker.copies.settle_contending()
    linker.records.settle_locks()
    for find in unnamed:
        with linker.state.isolated(find):
            linker.copies.take_unnamed(find)
    for find in opened:
        with linker.state.isolated(find):
            linker.versions.take_misplaced(find)
    for find in finds:
        if _is_rebuilt(places, find):
            with linker.state.isolated(find):
                if not linker.swap_files.take_swap(find):
                    # Of another program that names its copies alike: what it holds is no less a copy.
                    if name := find.fields.get("name"):
                        fields = {"name": name, "addition": os.path.basename(find.entry.path)}
                        linker.copies.take_named(replace(find, place=AUTOSAVE, kind="autosave", fields=fields))
                    else:
                        linker.copies.take_unnamed(find)
    linker.versions.take_kept_attachments(kept)


def without_other_people(drafts: Iterable[Draft], others: Sequence[Home]) -> list[Draft]:
    """Without what a common trash or temporary folder holds of people who were not asked for."""
    return [d for d in drafts if d.original is None or not any(inside(d.original, home.path) for home in others)]
