"""Takes short-lived copies to safety before anything else runs: bytes, names and times, the most short-lived first."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime

from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import SourceError
from rustfern.core.model import Copy, Entry, Hints, Lock, Problem, Record, Totals
from rustfern.core.observer import Observer
from rustfern.core.paths import inside
from rustfern.operations.keep_selection import needed
from rustfern.operations.keeper import Keeper, Keeping, Wanted
from rustfern.operations.live import live_roots
from rustfern.operations.session import Session, find_people, health_notice, open_sources
from rustfern.operations.targets import check_target
from rustfern.output.temporary import clean
from rustfern.search.search import Search
from rustfern.sources.interface import Source
from rustfern.sources.kept_folder import SCHEMA
from rustfern.sources.registry import Sources

_CHUNK_BYTES = 1 << 20
_MAX_READS = 3
_FOLDER_MODE = 0o700
_SAVED, _SETTINGS, _LONG = 2.5, 2.7, 3
"""Order of what is taken: copies that vanish soonest, then the originals they belong to, settings, what stays for long."""


def keep(
    roots: Sequence[str] | None,
    to: str,
    person: str | None = None,
    *,
    short_lived: bool = False,
    observer: Observer | None = None,
    session: Session | None = None,
) -> Keeping:
    """Copy what is short-lived, the originals it belongs to and settings into a folder that a scan accepts as its root.

    Run again, it goes on where it stopped. With `short_lived`, trash, backups and versions stay where they are. Raises
    `WrongUsage` for a target inside what is searched or one that belongs to another search, `SourceError` for a root.
    """
    session = session or Session()
    observer = session.observer = observer or session.observer
    door = session.sources
    door.health.reset()
    tops = list(dict.fromkeys(door.check_root(root) for root in (roots or live_roots(door))))
    base = os.path.commonpath(tops)
    target = check_target(to, tops)
    clean(target)
    out = Keeping(target)
    keeper = Keeper(door, target, base, out)

    def on_problem(path: str, message: str) -> None:
        out.problems.append(Problem(path, message))

    sources = open_sources(session, tops, on_problem)
    homes, others = find_people(session, sources, not roots, Hints(person=person), on_problem)
    head: dict[str, object] = {
        "schema": SCHEMA, "base": base, "at": datetime.now(UTC).isoformat(timespec="seconds"),
        "roots": [os.path.relpath(top, base) for top in tops],
        "homes": [
            {"path": os.path.relpath(h.path, base), "layout": str(h.layout), "person": h.person,
             "root": os.path.relpath(h.root, base),
             "volume": os.path.relpath(h.volume, base) if h.volume and inside(h.volume, base) else None}
            for h in homes
        ],
    }  # fmt: skip
    with keeper.manifest(head):
        observer.stage("taking what is in the known folders")
        search = Search(door, sources, homes, catalogue(), on_problem, Totals(), only_homes=person is not None)
        with search.ahead():
            search.known_places()
            places = catalogue().places
            found = [Wanted(f.entry, f.kind, places[f.place].lifetime_rank) for f in search.finds]
            keeper.take(item for item in found if item.order < _LONG)
            observer.stage("searching everything, to take what lies beside documents")
            things = list(needed(session, search, homes, others, live=not roots, narrowed=person is not None))
        rest = [wanted for thing in things for wanted in _wanted(door, thing)]
        settings = {told.file for told in search.settings.told}
        rest += [Wanted(entry, "settings", _SETTINGS) for entry in _entries(settings, sources)]
        observer.stage("taking the rest")
        keeper.take(item for item in [*found, *rest] if not short_lived or item.order < _LONG)
    if (failing := health_notice(door.health)) is not None:
        out.warnings.append(failing)
    return out


def _wanted(door: Sources, thing: Copy | Lock | Record) -> Iterator[Wanted]:
    if isinstance(thing, Record):
        with contextlib.suppress(SourceError):
            yield Wanted(door.around(thing.path).entry(thing.path), "record", 1)
        return
    place = catalogue().places.get(thing.place)
    kind = thing.kind if isinstance(thing, Copy) else "lock"
    yield Wanted(thing.entry, str(kind), _SAVED if kind == "saved" or place is None else place.lifetime_rank)


def _entries(paths: Iterable[str], sources: Sequence[Source]) -> Iterator[Entry]:
    """Settings files, and for registry files their logs."""
    for path in sorted(paths):
        source = next((source for source in sources if inside(path, source.root)), None)
        if source is None:
            continue
        folder, name = os.path.split(path)
        with contextlib.suppress(SourceError):
            names = [name]
            if name.casefold() == "ntuser.dat":
                names += [n for n in source.names(folder)[1] if n.casefold().startswith("ntuser.dat.log")]
            for each in names:
                yield source.entry(os.path.join(folder, each))
