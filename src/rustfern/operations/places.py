"""Where copies would be: every place of the catalogue in every home, as it is there, without reading any copy."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from rustfern.catalogue.loader import Place, catalogue
from rustfern.core.model import Hints, Home, Problem, Searched, Totals
from rustfern.core.paths import inside
from rustfern.formats.format_table import class_of
from rustfern.operations.session import Session, find_people, open_roots, open_sources
from rustfern.search.search import Search


class Surveyed(msgspec.Struct, frozen=True):
    """One place as it is in one home (None: a place of the whole volume). `place` is None for a person's own moved folder."""

    place: Place | None
    home: Home | None
    found: Searched


class Survey(msgspec.Struct, frozen=True):
    """What a survey tells."""

    roots: tuple[str, ...]
    homes: tuple[Home, ...]
    places: tuple[Surveyed, ...]
    problems: tuple[Problem, ...]


def survey(
    roots: Sequence[str] | None = None,
    person: str | None = None,
    doc_class: str | None = None,
    session: Session | None = None,
) -> Survey:
    """Look into the folders of the catalogue only. Raises `WrongUsage`, or `SourceError` for a root that cannot be read.

    `doc_class` keeps the places whose formats are of that class, and those that may hold any.
    """
    session = session or Session()
    problems: list[Problem] = []

    def on_problem(path: str, message: str) -> None:
        problems.append(Problem(path, message))

    tops, kept = open_roots(session, roots)
    sources = open_sources(session, tops, on_problem)
    homes, _ = find_people(session, sources, not roots, Hints(person=person), on_problem, kept)
    search = Search(session.sources, sources, homes, catalogue(), on_problem, Totals())
    search.known_places()
    rows = []
    for searched in search.searched:
        place = catalogue().places.get(searched.place)
        if doc_class and place and place.formats and doc_class not in {class_of(name) for name in place.formats}:
            continue
        home = next((h for h in homes if h.path == searched.home or inside(searched.path, h.path)), None)
        rows.append(Surveyed(place, home, searched))
    return Survey(tuple(tops), tuple(homes), tuple(rows), tuple(dict.fromkeys(problems)))
