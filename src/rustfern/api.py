"""The public calls, gathered. Import them from `rustfern` itself."""

from __future__ import annotations

import os
from collections.abc import Sequence

from rustfern.cases.case_file import roots_of
from rustfern.cases.location import case_in_use, open_existing
from rustfern.cases.lookup import find_copy
from rustfern.content import open as contents
from rustfern.core.model import Content
from rustfern.operations import restore as restoring
from rustfern.operations.protect import survey as protection
from rustfern.operations.scan import scan
from rustfern.operations.session import Session, set_scratch_outside_of

__all__ = ["check", "protection", "restore", "scan"]


def check(path: str) -> Content:
    """Check one file (or folder copy) to its end: format, state, reason, words, size (bytes), SHA-256.

    Raises `SourceError` if it cannot be opened; never for damage, which is the verdict's to tell.
    """
    whole = os.path.abspath(path)
    session = Session()
    set_scratch_outside_of(session, [whole])
    entry = session.sources.around(whole).entry(whole)
    return contents.check(session.sources, entry, os.path.basename(whole))[0]


def restore(
    what: Sequence[str], to: str, case: str | None = None
) -> tuple[list[restoring.Restored], list[restoring.Refused]]:
    """Restore documents (`1`), copies (`1b`) or names from a case, by default that of this terminal, into a folder.

    Returns what was restored and what was refused. Raises `CaseError`, `NotFound`, or `WrongUsage` for a bad target.
    """
    file = open_existing(case or case_in_use())
    try:
        roots = roots_of(file)
        return restoring.restore([find_copy(file, each) for each in what], to, file, roots)
    finally:
        file.close()
