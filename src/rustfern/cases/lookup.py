"""What a technician means by `1`, `1b` or a document's name: looked up in a case."""

from __future__ import annotations

import re
from collections.abc import Iterable

from rustfern.cases.case_file import CaseFile, StoredCopy, roots_of
from rustfern.core.asked import NEAR, holds, likeness
from rustfern.core.errors import NotFound, WrongUsage
from rustfern.core.paths import show_name

_NUMBER = re.compile(r"(\d{1,9})([a-z]{0,6})")
_RANGE = re.compile(r"(\d{1,9})\s*(?:-|\.\.|–)\s*(\d{1,9})")
_LIST = re.compile(r"(?:\d{1,9}(?:[a-z]{1,6}|-\d{1,9})?)(?:,\d{1,9}(?:[a-z]{1,6}|-\d{1,9})?)+")
_MAX_RANGE = 10_000
_GOOD = 75.0
_CLEAR = 10.0
_HALF_A_NAME = 85.0


def expand(what: Iterable[str]) -> list[str]:
    """Numbers and ranges as single numbers (`1-3 5`, `2,4`): `1`, `2`, `3`, …; ids and names stay as they are. Raises `WrongUsage`."""
    out: list[str] = []
    for each in what:
        pieces = each.split(",") if _LIST.fullmatch(each.strip()) else [each]
        for piece in pieces:
            found = _RANGE.fullmatch(piece.strip())
            if not found:
                out.append(piece.strip() if len(pieces) > 1 else piece)
                continue
            first, last = int(found[1]), int(found[2])
            if first > last or last - first >= _MAX_RANGE:
                raise WrongUsage("this is no range of numbers", piece, "Write the smaller number first: 1-3")
            out += [str(number) for number in range(first, last + 1)]
    return out


def find_copy(case: CaseFile, what: str) -> StoredCopy:
    """The copy that is meant: a document's best one, the one with this id, or by the document's name.

    Raises `NotFound`, with what there is, if nothing or more than one document fits.
    """
    found = _NUMBER.fullmatch(what.strip().lower())
    if not found:
        return _best(case, _by_name(case, what))
    number = int(found[1])
    if (moved := case.moved_to(number)) is not None:
        return find_copy(case, moved)
    copies = case.copies(number)
    if not copies and number not in {document.id for document in case.documents()}:
        raise NotFound(f"there is no document {number} in this case", None, "See what there is: rustfern scan ROOT")
    if not found[2]:
        return _best(case, number)
    for copy in copies:
        if copy.id == f"{number}{found[2]}":
            return copy
    there = ", ".join(copy.id for copy in copies) or "none"
    raise NotFound(f"document {number} has no copy {what}", None, f"Its copies: {there}")


def find_damaged(case: CaseFile, what: str) -> StoredCopy:
    """The copy that is to be repaired: the one with this id, or of a document the newest one that is damaged, the fullest of equals.

    Raises `NotFound` if there is none.
    """
    if not (found := _NUMBER.fullmatch(what.strip().lower())) or found[2]:
        return find_copy(case, what)
    damaged = [copy for copy in case.copies(int(found[1])) if copy.facts.state == "damaged" and not copy.facts.members]
    if not damaged:
        best = find_copy(case, what)
        raise NotFound(
            f"document {what} has no damaged copy",
            None,
            f"Copy {best.id} is whole: rustfern restore {best.id} --to DIR",
        )
    return max(damaged, key=lambda copy: (copy.facts.written or "", copy.facts.words or 0, copy.facts.size or 0))


def _best(case: CaseFile, number: int) -> StoredCopy:
    copies = case.copies(number)
    document = next(document for document in case.documents() if document.id == number)
    best = next((copy for copy in copies if copy.id == document.best), None)
    if best is None:
        there = ", ".join(f"{copy.id} ({copy.facts.state})" for copy in copies)
        next_step = f"Take one by its id: {there}" if there else " ".join(document.why)
        raise NotFound(
            f"no copy of document {number}, {show_name(document.name)}, is known to be whole", None, next_step
        )
    return best


def _below(path: str, roots: list[str]) -> str:
    """A path without the searched root: the technician's own folder names say nothing of the document."""
    root = next((root for root in roots if path.startswith(root)), "")
    return path[len(root) :].replace("\\", "/")


def _by_name(case: CaseFile, what: str) -> int:
    from rustfern.core.likeness import in_order, plain

    wanted, roots = plain(what), roots_of(case)
    scored = []
    for document in case.documents():
        name = plain(document.name)
        folder = plain(_below(document.original or "", roots))
        whole = set(wanted.split()) <= set(name.split())
        in_path = set(wanted.split()) <= set(f"{name} {folder}".split())
        score = 100.0 if name == wanted else 97.0 if whole else 90.0 if in_path else in_order(wanted, name)
        if score < _HALF_A_NAME and holds(document.name, what):
            score = _HALF_A_NAME
        if score < _GOOD and likeness(what, document.name) >= NEAR:
            score = _GOOD
        scored.append((score, document))
    scored = sorted((pair for pair in scored if pair[0] >= _GOOD), key=lambda pair: (-pair[0], pair[1].id))
    if not scored:
        names = [show_name(document.name) for document in case.documents() if document.is_lost][:8]
        there = f"Lost documents found: {', '.join(names)}" if names else "No lost document was found"
        raise NotFound(f"no document is called {show_name(what)}", None, there)
    near = [document for score, document in scored if scored[0][0] - score < _CLEAR]
    lost = [document for document in near if document.is_lost]
    near = lost or near
    if len(near) > 1:
        exact = [document for score, document in scored if score == 100.0 and document in near]
        if len(exact) == 1:
            return int(exact[0].id)
        lines = "; ".join(
            f"{document.id}  {show_name(document.name)} ({show_name(document.original or 'never saved')})"
            for document in near[:10]
        )
        raise NotFound(
            f"{len(near)} documents fit {show_name(what)}", None, f"Be more exact, or take the number: {lines}"
        )
    return int(near[0].id)
