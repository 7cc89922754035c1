"""What a raw search found so far and where it stands, kept in the case as it comes: a search of hours goes on where it was stopped."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from typing import TypeVar

import msgspec

_TABLES = (
    "CREATE TABLE IF NOT EXISTS raw_find (disk TEXT NOT NULL, place INTEGER NOT NULL, facts BLOB NOT NULL, PRIMARY KEY (disk, place))",
    "CREATE TABLE IF NOT EXISTS raw_state (disk TEXT PRIMARY KEY, facts BLOB NOT NULL)",
)
_T = TypeVar("_T")


class RawStore:
    """The finds of one disk, known by its identity, in a case. What cannot be read again counts as not kept."""

    def __init__(self, db: sqlite3.Connection, disk: str) -> None:
        self._db, self._disk = db, disk
        for statement in _TABLES:
            db.execute(statement)

    def keep(self, finds: Iterable[tuple[int, msgspec.Struct]], state: msgspec.Struct) -> None:
        """Remember finds by where they begin, and how far the search is: both at once."""
        encode = msgspec.msgpack.encode
        self._db.execute("BEGIN IMMEDIATE")
        try:
            rows = [(self._disk, place, encode(each)) for place, each in finds]
            self._db.executemany("INSERT OR REPLACE INTO raw_find VALUES (?, ?, ?)", rows)
            self._db.execute("INSERT OR REPLACE INTO raw_state VALUES (?, ?)", (self._disk, encode(state)))
            self._db.execute("COMMIT")
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

    def state(self, kind: type[_T]) -> _T | None:
        """How far the search was; None if there was none."""
        row = self._db.execute("SELECT facts FROM raw_state WHERE disk = ?", (self._disk,)).fetchone()
        return self._told(row[0], kind) if row else None

    def finds(self, kind: type[_T]) -> Iterator[_T]:
        """What was found."""
        for (facts,) in self._db.execute("SELECT facts FROM raw_find WHERE disk = ? ORDER BY place", (self._disk,)):
            if (told := self._told(facts, kind)) is not None:
                yield told

    @staticmethod
    def _told(facts: bytes, kind: type[_T]) -> _T | None:
        try:
            return msgspec.msgpack.decode(facts, type=kind)
        except (msgspec.DecodeError, msgspec.ValidationError):
            return None
