"""What is handed over: all that a case knows of a search, of its documents, and of what was restored."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from rustfern.cases import changes, manage
from rustfern.cases.case_file import CaseFile
from rustfern.core.answers import CopyAnswer
from rustfern.core.command_answers import BackAnswer, ReportAnswer
from rustfern.core.errors import CaseError, WrongUsage
from rustfern.core.paths import show_name
from rustfern.core.times import stamp
from rustfern.operations import command_schema


def gather(case: CaseFile, person: str | None = None) -> ReportAnswer:
    """All that a report says. Raises `CaseError` for a case without a search, `WrongUsage` for a person who is not in it."""
    scan = case.search()
    if scan is None:
        raise CaseError("this case holds no search that came to its end", case.path, "Search first: rustfern scan ROOT")
    people = sorted({document.person for document in case.documents() if document.person})
    if person is not None:
        named = [each for each in people if person.casefold() in each.casefold()]
        if not named:
            raise WrongUsage(
                f"no document of {show_name(person)} is in this case",
                None,
                f"There is: {', '.join(people) or 'nobody'}",
            )
        people = named
    restored = case.restored()
    rows = []
    for document in case.documents():
        if person is not None and document.person not in people:
            continue
        copies = [copy.facts for copy in case.copies(document.id)]
        mine = [row for row in restored if row[1] in {copy.id for copy in copies}]
        rows.append((document, copies, [_back(row, copies) for row in mine]))
    changed = [each for each in changes.changes(case) if person is None or person.casefold() in each.person.casefold()]
    return command_schema.report(scan, people, rows, case.path, manage.log(case), changed)


def _back(row: tuple[str, str, str, str], copies: Sequence[CopyAnswer]) -> BackAnswer:
    at, ident, target, sha256 = row
    copy = next(copy for copy in copies if copy.id == ident)
    return BackAnswer(at=stamp(datetime.fromisoformat(at)) or "", id=ident, target=target, sha256=sha256, copy=copy)
