"""What a case remembers of the files that were read to their end: a second search of the same disk takes it from there for those that have not
changed since (by size, times, device and number of the file). What is restored is read anew all the same.
"""

from __future__ import annotations

import os
import sqlite3
import time
from contextlib import suppress

import msgspec

from rustfern._version import __version__
from rustfern.cases.case_file import CaseFile
from rustfern.core.errors import CaseError
from rustfern.core.model import Content, Entry

_TABLE = "CREATE TABLE IF NOT EXISTS was_read (path BLOB NOT NULL, root BLOB NOT NULL, name TEXT NOT NULL, stamp TEXT NOT NULL, content BLOB NOT NULL, PRIMARY KEY (path, root))"
_READING = 1
"""Raised whenever reading the same bytes tells something else than before."""
_LONGEST_BYTES, _MOST_BYTES = 1 << 20, 192 << 20
_WAITING_BYTES = 4 << 20
_STILL_SECONDS = 2
"""A file that was changed within so many seconds may change again without another time."""
_Row = tuple[bytes, bytes, bytes, str, bytes]


class ContentMemory:
    """Takes and gives contents by their files. `earlier` is another case in which the same was searched before."""

    def __init__(self, case: CaseFile, earlier: CaseFile | None = None) -> None:
        self._case, self._earlier = case, earlier
        self._decoder = msgspec.msgpack.Decoder(Content)
        self._waiting: list[_Row] = []
        self._bytes = 0
        self._held = 0
        self._on = True
        self._asked: tuple[CaseFile, ...] = ()
        try:
            with case.writing():
                case.connection.execute(_TABLE)
            total = case.connection.execute("SELECT coalesce(sum(length(content)), 0) FROM was_read").fetchone()
            self._held = int(total[0])
            # A fresh case knows nothing, and is not asked for each file.
            self._asked = (case,) * bool(self._held) + ((earlier,) if earlier is not None else ())
        except (CaseError, sqlite3.Error):
            self._on = False

    @property
    def cases(self) -> tuple[CaseFile, ...]:
        """The cases that are asked, this one first."""
        return (self._case,) if self._earlier is None else (self._case, self._earlier)

    @property
    def knows_some(self) -> bool:
        """Whether it was told of a search before this one."""
        return bool(self._asked)

    def known(self, entry: Entry, name: str) -> Content | None:
        """What was read of a file that has not changed since; None if nothing is known."""
        stamp = _stamp(entry)
        if stamp is None or not self._on:
            return None
        for case in self._asked:
            with suppress(sqlite3.Error, msgspec.DecodeError):
                row = case.connection.execute(
                    "SELECT name, stamp, content FROM was_read WHERE path = ? AND root = ?",
                    (os.fsencode(entry.path), os.fsencode(entry.root)),
                ).fetchone()
                if row is not None and (row[0], row[1]) == (os.fsencode(name), stamp):
                    content = self._decoder.decode(row[2])
                    if case is self._earlier:
                        self._keep(entry, name, stamp, row[2])
                    return content
        return None

    def remember(self, entry: Entry, name: str, content: Content) -> None:
        """Note what was read of a file."""
        stamp = _stamp(entry)
        if stamp is not None and self._on and entry.modified_ns is not None:
            if abs(time.time() - max(entry.modified_ns, entry.changed_ns) / 1e9) < _STILL_SECONDS:
                return
            with suppress(UnicodeEncodeError):  # what a document says of itself may be no Unicode: it is read again
                self._keep(entry, name, stamp, msgspec.msgpack.encode(content))

    def _keep(self, entry: Entry, name: str, stamp: str, data: bytes) -> None:
        if len(data) > _LONGEST_BYTES or self._held + self._bytes + len(data) > _MOST_BYTES:
            return
        self._waiting.append((os.fsencode(entry.path), os.fsencode(entry.root), os.fsencode(name), stamp, data))
        self._bytes += len(data)
        if self._bytes > _WAITING_BYTES:
            self.write()

    def write(self) -> None:
        """Have the case hold what waits. A case that cannot be written says so elsewhere."""
        rows, self._waiting = self._waiting, []
        self._held, self._bytes = self._held + self._bytes, 0
        if rows:
            try:
                with self._case.writing():
                    self._case.connection.executemany("INSERT OR REPLACE INTO was_read VALUES (?, ?, ?, ?, ?)", rows)
            except CaseError:
                self._on = False

    def close(self) -> None:
        """Write what waits, and let the earlier case go."""
        self.write()
        if self._earlier is not None:
            self._earlier.close()
            self._earlier, self._asked = None, ()


def _stamp(entry: Entry) -> str | None:
    """What changes with a file; None for what is no plain file of its own on a disk."""
    if not entry.is_file or entry.part is not None or entry.companions or not entry.inode or entry.modified_ns is None:
        return None
    return f"{_READING} {__version__} {entry.size} {entry.modified_ns} {entry.changed_ns} {entry.device} {entry.inode}"
