"""What every command begins with that looks into known folders and settings, and walks nothing."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from rustfern.catalogue.loader import catalogue
from rustfern.core.model import Hints, Home, Problem, Totals
from rustfern.operations.session import Session, find_people, open_roots, open_sources
from rustfern.search.search import Search


class Around(msgspec.Struct):
    """The roots in absolute form, whether they are one's own or somebody may be at work in them, whose homes are there, the search after its
    known places were looked into, and what could not be read (more may come).
    """

    tops: list[str]
    own: bool
    live: bool
    homes: list[Home]
    search: Search
    problems: list[Problem]
    on_problem: Callable[[str, str], None]


def look_around(session: Session, roots: Sequence[str] | None, person: str | None) -> Around:
    """Raises `WrongUsage`, or `SourceError` for a root that cannot be read."""
    problems: list[Problem] = []

    def on_problem(path: str, message: str) -> None:
        problems.append(Problem(path, message))

    tops, kept = open_roots(session, roots)
    sources = open_sources(session, tops, on_problem)
    own = not roots
    live = own or any(map(session.sources.is_live, tops))
    homes, _ = find_people(session, sources, own, Hints(person=person), on_problem, kept)
    search = Search(session.sources, sources, homes, catalogue(), on_problem, Totals(), only_homes=person is not None)
    search.known_places()
    return Around(tops, own, live, homes, search, problems, on_problem)
