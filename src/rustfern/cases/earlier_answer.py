"""What a case remembers of its last whole answer: what it rests on, and the answer itself, both as they were written."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from contextlib import suppress

from rustfern.cases.case_file import CaseFile
from rustfern.core.errors import CaseError

_TABLE = "CREATE TABLE IF NOT EXISTS answered (one INTEGER PRIMARY KEY CHECK (one = 1), asked TEXT NOT NULL, looked BLOB NOT NULL, answer BLOB NOT NULL)"
_READ = "was_read"


def remember_answer(case: CaseFile, asked: str, looked: bytes, answer: bytes) -> None:
    """Have a case remember an answer to what was asked, in place of any before. A case that cannot be written says so elsewhere."""
    with suppress(CaseError), case.writing():
        case.connection.execute(_TABLE)
        case.connection.execute("INSERT OR REPLACE INTO answered VALUES (1, ?, ?, ?)", (asked, looked, answer))


def answer_of(cases: Iterable[CaseFile], asked: str) -> tuple[CaseFile, bytes, bytes] | None:
    """The case that answered the same before, what that rests on, and the answer; None if none did."""
    for case in cases:
        with suppress(sqlite3.Error):
            if _has(case, "answered"):
                row = case.connection.execute(
                    "SELECT looked, answer FROM answered WHERE asked = ?", (asked,)
                ).fetchone()
                if row is not None:
                    return case, row[0], row[1]
    return None


def carry_over(earlier: CaseFile, case: CaseFile) -> None:
    """Have a case know what an earlier one read."""
    with suppress(CaseError, sqlite3.Error):
        if earlier is not case and _has(earlier, _READ):
            rows = earlier.connection.execute(f"SELECT path, root, name, stamp, content FROM {_READ}")
            with case.writing():
                case.connection.executemany(f"INSERT OR REPLACE INTO {_READ} VALUES (?, ?, ?, ?, ?)", rows)


def _has(case: CaseFile, table: str) -> bool:
    found = case.connection.execute("SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = ?", (table,))
    return found.fetchone() is not None
