"""The technician's cases: which there are, which one is used, their notes, and the log of what was done in each.

The log is only added to: the database itself refuses to change or delete its rows.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

import msgspec

from rustfern.cases.case_file import CaseFile, roots_of
from rustfern.cases.location import VARIABLE, case_in_use, case_paths, forget, name_of, open_existing, remember
from rustfern.core.errors import CaseError, NotFound, WrongUsage

_LOG = (
    "CREATE TABLE IF NOT EXISTS log (began TEXT NOT NULL, ended TEXT NOT NULL, says TEXT NOT NULL, status INTEGER)",
    "CREATE TRIGGER IF NOT EXISTS log_unchanged BEFORE UPDATE ON log BEGIN SELECT RAISE(ABORT, 'the log is only added to'); END",
    "CREATE TRIGGER IF NOT EXISTS log_complete BEFORE DELETE ON log BEGIN SELECT RAISE(ABORT, 'the log is only added to'); END",
)
_FORGOTTEN = "(forgotten)"
_ABOUT = ("ticket", "technician", "consent")
_PATIENCE = 5_000


class LogEntry(msgspec.Struct, frozen=True):
    """One line of the log: a command with its arguments, or (`status` None) a note. Times in UTC."""

    began: datetime
    ended: datetime
    says: tuple[str, ...]
    status: int | None


class CaseRow(msgspec.Struct, frozen=True):
    """One case as the list shows it. `name` is how it is called, `made` in UTC, `size` in bytes, `texts` whether words of documents lie in
    it, `lost` None for a search that did not come to its end.
    """

    name: str
    path: str
    made: datetime
    roots: tuple[str, ...]
    lost: int | None
    restored: int
    ticket: str
    technician: str
    notes: tuple[str, ...]
    texts: bool
    size: int
    used: bool


def add(path: str, says: Sequence[str], status: int | None, began: datetime, ended: datetime | None = None) -> None:
    """Add a line to a case's log. Raises `CaseError`."""
    file = open_existing(path)
    try:
        _add(file, says, status, began, ended or datetime.now(UTC))
    finally:
        file.close()


def _add(file: CaseFile, says: Sequence[str], status: int | None, began: datetime, ended: datetime) -> None:
    times = [when.isoformat(timespec="milliseconds") for when in (began, ended)]
    try:
        file.connection.execute(f"PRAGMA busy_timeout = {_PATIENCE}")
        for statement in _LOG:
            file.connection.execute(statement)
        file.connection.execute("INSERT INTO log VALUES (?, ?, ?, ?)", (*times, json.dumps(list(says)), status))
    except sqlite3.Error as error:
        raise CaseError(
            f"the case file cannot be written ({error})", file.path, "Free space, or ask for rights"
        ) from error


def log(file: CaseFile) -> list[LogEntry]:
    """What was done in a case, in order."""
    try:
        rows = file.connection.execute("SELECT began, ended, says, status FROM log ORDER BY rowid").fetchall()
    except sqlite3.OperationalError:
        return []  # a case of before there was a log
    return [
        LogEntry(datetime.fromisoformat(began), datetime.fromisoformat(ended), tuple(json.loads(says)), status)
        for began, ended, says, status in rows
    ]


def paper(file: CaseFile) -> dict[str, str]:
    """Ticket, technician and consent as they were noted."""
    return {name: str(file.about(name) or "") for name in _ABOUT}


def annotate(path: str, note: str | None, **told: str | None) -> None:
    """Note a ticket, a technician, a consent; add a note to the log. Raises `CaseError`."""
    file = open_existing(path)
    now = datetime.now(UTC)
    try:
        with file.writing():
            file.keep_about(**{name: value for name, value in told.items() if value is not None})
        if note:
            _add(file, [note], None, now, now)
    finally:
        file.close()


def cases() -> list[CaseRow]:
    """All cases of the state folder, the newest first. What is no case file is left out."""
    used = ""
    with contextlib.suppress(CaseError):
        used = case_in_use()
    return [row for path in case_paths() if (row := _row(path, used))]


def row_of(path: str) -> CaseRow:
    """One case. Raises `CaseError`."""
    row = _row(path, os.path.abspath(path))
    if row is None:
        raise CaseError("this case file cannot be read", path, "Scan again into a new one")
    return row


def _row(path: str, used: str) -> CaseRow | None:
    try:
        file = CaseFile.open(path)
    except CaseError:
        return None
    try:
        lost = None
        if file.about("scan") is not None:
            lost = sum(document.is_lost for document in file.documents())
        told = paper(file)
        made = file.connection.execute("SELECT value FROM about WHERE key = 'made'").fetchone()
        return CaseRow(
            name_of(path), path, datetime.fromisoformat(made[0]), tuple(roots_of(file)), lost, len(file.restored()),
            told["ticket"], told["technician"], tuple(each.says[0] for each in log(file) if each.status is None),
            _holds_texts(file), os.stat(path).st_size, os.path.abspath(path) == os.path.abspath(used) if used else False,
        )  # fmt: skip
    except (sqlite3.Error, OSError, TypeError):
        return None
    finally:
        file.close()


def find(which: str | None) -> str:
    """The path of the case that is meant: by its number in the list, the beginning of its name, its ticket, or its path; the one in use
    if nothing is said. Raises `NotFound`, or `CaseError` if there is none.
    """
    if which is None:
        return case_in_use()
    if os.path.isfile(which):
        return os.path.abspath(which)
    there = cases()
    by_ticket = [row for row in there if row.ticket and row.ticket.casefold() == which.casefold()]
    if which.isdigit() and 1 <= int(which) <= len(there):
        numbered = there[int(which) - 1]
        if any(row is not numbered for row in by_ticket):
            raise WrongUsage(
                f"{which} is the number of one case and the ticket of another",
                None,
                f"Name the one that is meant: number {which} is {numbered.name}, ticket {which} is {by_ticket[0].name}",
            )
        return numbered.path
    found = by_ticket or [
        row for row in there if row.name.startswith(which) or row.ticket.casefold() == which.casefold()
    ]
    if len(found) == 1:
        return found[0].path
    what = "several cases are" if found else "no case is"
    listed = ", ".join(row.name for row in (found or there)[:8]) or "none"
    raise NotFound(f"{what} called {which}", None, f"Take the number in `rustfern cases`; there are: {listed}")


def older(age: timedelta) -> list[CaseRow]:
    """The cases that were begun longer ago than this, the newest first; the one in use is never among them."""
    limit = datetime.now(UTC) - age
    return [row for row in cases() if row.made < limit and not row.used]


def use(path: str) -> None:
    """Have look, restore and report in this terminal go on with this case until another is begun or chosen. Raises `CaseError`."""
    if named := os.environ.get(VARIABLE):
        raise CaseError(f"{VARIABLE} names the case of this terminal", named, f"Unset {VARIABLE}, or set it to {path}")
    file = open_existing(path)
    roots = roots_of(file)
    file.close()
    remember(path, roots)
    if case_in_use() != os.path.abspath(path):
        raise CaseError("the choice cannot be kept", path, "Give --case FILE each time")


def _holds_texts(file: CaseFile) -> bool:
    found = file.connection.execute("SELECT count(*) FROM sqlite_schema WHERE name = 'wording'").fetchone()[0]
    return bool(found) and bool(file.connection.execute("SELECT count(*) FROM wording").fetchone()[0])


def purge_texts(path: str) -> bool:
    """Forget the texts of documents that a search for words kept, and the words that were sought; whether there were any. Raises `CaseError`."""
    file = open_existing(path)
    try:
        there = _holds_texts(file)
        # What is deleted is overwritten, in the tables and in the free space of the file.
        tables = (
            "DROP TABLE IF EXISTS wording",
            "DROP TABLE IF EXISTS was_read",
            "DROP TABLE IF EXISTS answered",
        )  # the latter two hold sums of their words
        for statement in ("PRAGMA secure_delete = ON", *tables):
            file.connection.execute(statement)
        there = _forget_words(file) or there
        file.connection.execute("VACUUM")
    except sqlite3.Error as error:
        raise CaseError(f"the case file cannot be written ({error})", path, "Free space, or ask for rights") from error
    finally:
        file.close()
    return there


def _forget_words(file: CaseFile) -> bool:
    """Take the words that were typed out of the log; whether there were any. It is the one change that a log ever sees."""
    told = log(file)
    without = [_without_words(each.says) if each.status is not None else each.says for each in told]
    changed = [
        (json.dumps(new), number)
        for number, (old, new) in enumerate(zip(told, without, strict=True), 1)
        if old.says != new
    ]
    if not changed:
        return False
    numbers = [row[0] for row in file.connection.execute("SELECT rowid FROM log ORDER BY rowid")]
    with file.writing():
        file.connection.execute("DROP TRIGGER log_unchanged")
        file.connection.executemany(
            "UPDATE log SET says = ? WHERE rowid = ?", [(says, numbers[at - 1]) for says, at in changed]
        )
        for statement in _LOG:
            file.connection.execute(statement)
    return True


def _without_words(says: Sequence[str]) -> tuple[str, ...]:
    """A command as it was typed, without the words that were sought."""
    out: list[str] = []
    for word in says:
        if out and out[-1] == "--words":
            out.append(_FORGOTTEN)
        else:
            out.append(f"--words={_FORGOTTEN}" if word.startswith("--words=") else word)
    return tuple(out)


def remove(path: str) -> None:
    """Delete a case file, and what terminals remember of it. Raises `CaseError` for what is none."""
    open_existing(path).close()
    forget(path)
    try:
        for ending in ("", "-journal", "-wal", "-shm"):
            with contextlib.suppress(FileNotFoundError):
                os.unlink(path + ending)
    except OSError as error:
        raise CaseError(f"the case cannot be removed ({error.strerror})", path, "Ask for the right to") from error
