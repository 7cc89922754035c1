"""The journal of settings that were changed: in the case before anything is written, so that whatever happens then can be undone."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Sequence
from datetime import UTC, datetime

import msgspec

from rustfern.cases.case_file import CaseFile
from rustfern.core.answers import Fields

_TABLE = """CREATE TABLE IF NOT EXISTS setting_change (number INTEGER PRIMARY KEY, at TEXT NOT NULL, state TEXT NOT NULL, file BLOB NOT NULL,
facts TEXT NOT NULL, before BLOB, after BLOB NOT NULL)"""
PLANNED, DONE, UNDONE, NOT_DONE = "planned", "done", "undone", "not done"


class ChangedSetting(Fields, frozen=True, kw_only=True):
    """One setting that was changed: its id in the catalogue, in words, and its value before and after as people read it."""

    setting: str
    what: str
    before: str
    after: str


class Change(Fields, frozen=True, kw_only=True):
    """One change of one settings file.

    `number` counts within the case; `state` is "planned" (it was begun), "done", "undone" or "not done"; `before` and `after` are all bytes
    of the file (`before` None: there was none); `kept` is the old file beside it, `made` the folders that were made for it, the innermost
    last. `form` is that of the file; what is kept by a program of the system ("desktop") has no file of its own bytes: `before` is then
    what undoes it.
    """

    number: int
    at: str
    state: str
    person: str
    program: str
    form: str
    file: str
    home: str = ""
    settings: tuple[ChangedSetting, ...]
    kept: str | None = None
    made: tuple[str, ...] = ()
    mode: int | None = None
    modified_ns: int | None = None
    before: bytes | None = None
    after: bytes = b""


def _table(case: CaseFile) -> None:
    case.connection.execute(_TABLE)


def begin(case: CaseFile, change: Change) -> Change:
    """Note what is about to be written; with the number that it got. Raises `CaseError`."""
    at = datetime.now(UTC).isoformat(timespec="seconds")
    with case.writing():
        _table(case)
        facts = msgspec.to_builtins(
            msgspec.structs.replace(change, before=None, after=b"", file="", kept=None, made=()), builtin_types=(bytes,)
        )
        facts |= {
            "before": None,
            "after": "",
            "kept": _hex(change.kept),
            "home": _hex(change.home),
            "made": [_hex(each) for each in change.made],
        }
        found = case.connection.execute(
            "INSERT INTO setting_change (at, state, file, facts, before, after) VALUES (?, ?, ?, ?, ?, ?)",
            (at, PLANNED, os.fsencode(change.file), json.dumps(facts), change.before, change.after),
        )
    return msgspec.structs.replace(change, number=int(found.lastrowid or 0), at=at, state=PLANNED)


def set_state(case: CaseFile, number: int, state: str) -> None:
    """Note how a change ended. Raises `CaseError`."""
    with case.writing():
        case.connection.execute("UPDATE setting_change SET state = ? WHERE number = ?", (state, number))


def changes(case: CaseFile, states: Sequence[str] = (PLANNED, DONE, UNDONE, NOT_DONE)) -> list[Change]:
    """The journal of a case, in order; empty for a case without one."""
    try:
        rows = case.connection.execute(
            "SELECT number, at, state, file, facts, before, after FROM setting_change ORDER BY number"
        ).fetchall()
    except sqlite3.OperationalError:
        return []
    out = []
    for number, at, state, file, facts, before, after in rows:
        if state not in states:
            continue
        told = json.loads(facts)
        told |= {"number": number, "at": at, "state": state, "file": os.fsdecode(file), "before": None, "after": b""}
        told |= {
            "kept": _text(told["kept"]),
            "home": _text(told["home"]),
            "made": [_text(each) for each in told["made"]],
        }
        out.append(msgspec.structs.replace(msgspec.convert(told, Change), before=before, after=after))
    return out


def _hex(path: str | None) -> str | None:
    return None if path is None else os.fsencode(path).hex()


def _text(told: str | None) -> str | None:
    return None if told is None else os.fsdecode(bytes.fromhex(told))
