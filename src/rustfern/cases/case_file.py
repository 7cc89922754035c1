"""The case file: what was searched, found and restored, in one SQLite file; also the name index that matching reads.

Paths are BLOBs (`os.fsencode`), facts are JSON, in which names that are no Unicode stand by escapes: all survive.
"""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from typing import Any, TypeVar

import msgspec

from rustfern.cases.name_index import TABLE, NameIndex
from rustfern.core.answers import CopyAnswer, DocumentAnswer, DocumentFacts, Fields, SearchAnswer, plain
from rustfern.core.errors import CaseError, explain
from rustfern.output.atomic import PRIVATE, open_own, rename_exclusive, sync_folder
from rustfern.output.temporary import clean, fresh_name, machine_name, process_began

_T = TypeVar("_T")
FORMAT = 1
_APPLICATION_ID = 0x52464331  # "RFC1"
_VERSIONS = "CREATE TABLE IF NOT EXISTS version (place TEXT NOT NULL, path BLOB NOT NULL, original BLOB NOT NULL, name BLOB NOT NULL)"
_MAGIC, _HEADER_BYTES = b"SQLite format 3\0", 100
_TABLES = """
CREATE TABLE about (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE document (number INTEGER PRIMARY KEY, key BLOB UNIQUE NOT NULL, facts TEXT);
CREATE TABLE copy (id TEXT PRIMARY KEY, number INTEGER NOT NULL, key BLOB NOT NULL, path BLOB NOT NULL, root BLOB NOT NULL,
                   facts TEXT, UNIQUE (number, key));
CREATE TABLE restored (at TEXT NOT NULL, id TEXT NOT NULL, target BLOB NOT NULL, sha256 TEXT NOT NULL);
"""


def letters(number: int) -> str:
    """0 → a, 25 → z, 26 → aa …"""
    out = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        out = chr(97 + rest) + out
    return out


def _fresh(where: str) -> sqlite3.Connection:
    """A database with our tables in it. Raises `sqlite3.Error`."""
    db = sqlite3.connect(where, isolation_level=None)
    db.execute("PRAGMA synchronous = NORMAL")
    db.execute("PRAGMA journal_mode = MEMORY")  # nothing but this one file: it has no name yet
    db.execute("BEGIN")
    for statement in [*_TABLES.split(";"), _VERSIONS, TABLE]:
        db.execute(statement)
    db.execute(f"PRAGMA application_id = {_APPLICATION_ID}")
    db.execute(f"PRAGMA user_version = {FORMAT}")
    db.execute("INSERT INTO about VALUES ('made', ?)", (datetime.now(UTC).isoformat(timespec="seconds"),))
    db.execute("COMMIT")
    return db


def _make(path: str) -> None:
    """A new case file: it gets its name when it is one, so that a killed run leaves no empty file that nobody knows. Raises `OSError`."""
    folder = os.path.dirname(os.path.abspath(path))
    os.makedirs(folder, exist_ok=True, mode=0o700)
    clean(folder)
    made = os.path.join(folder, fresh_name())
    try:
        # The file names customers' documents: nobody else needs to read it.
        os.close(os.open(made, os.O_CREAT | os.O_EXCL | os.O_RDWR, PRIVATE))
        _fresh(made).close()
        with suppress(FileExistsError):
            rename_exclusive(made, os.path.abspath(path))
        sync_folder(folder)
    finally:
        with suppress(OSError):
            os.unlink(made)


def _uri(path: str) -> str:
    """The address of a file, for the database. Source: RFC 3986, 2.1; RFC 8089."""
    letters = os.fsencode(os.path.abspath(path)).replace(os.fsencode(os.sep), b"/")
    plain = b"/-._~" + b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
    return (
        "file://"
        + ("" if letters[:1] == b"/" else "/")
        + "".join(
            chr(each) if each in plain or (each == 58 and os.name == "nt") else f"%{each:02X}" for each in letters
        )
    )


def _version(path: str) -> int:
    """The format of a case file, from its first bytes. It is made private if it is not. Raises `CaseError` for anything else.

    Source: the SQLite file format, 1.3 (user version at 60, application id at 68).
    """
    try:
        handle = open_own(path, os.O_RDONLY)
        try:
            head = os.read(handle, _HEADER_BYTES)
            ours = len(head) == _HEADER_BYTES and head.startswith(_MAGIC)
            if not ours or int.from_bytes(head[68:72], "big") != _APPLICATION_ID:
                raise CaseError(
                    "this is not a case file of Rust Fern, and was not touched", path, "Name another with --case FILE"
                )
            if hasattr(os, "fchmod") and os.fstat(handle).st_mode & 0o077:
                with suppress(OSError):
                    os.fchmod(handle, PRIVATE)
        finally:
            os.close(handle)
    except OSError as error:
        raise CaseError(
            f"this is not a case file of Rust Fern ({explain(error)})", path, "Name another with --case FILE"
        ) from error
    return int.from_bytes(head[60:64], "big")


def _this_process() -> tuple[int, str, str]:
    """This process: its number, when it began, the machine it runs on."""
    return os.getpid(), process_began(os.getpid()), machine_name()


def _works(process: int, began: str, host: str) -> bool:
    """Whether a process is still at work; of another machine nobody knows."""
    return host != machine_name() or process_began(process) == began


_NO_COPIES = '"copies":[]'
_Keyed = tuple[str, str, str]


class StoredCopy(msgspec.Struct, frozen=True):
    """A copy as the case remembers it, and its document (without copies), as they were answered."""

    id: str
    number: int
    path: str
    root: str
    facts: CopyAnswer
    document: DocumentFacts


def _written(told: Fields) -> str:
    """An answer as the case keeps it: JSON. Names that are no Unicode stand in it by their escapes."""
    try:
        return msgspec.json.encode(told).decode()
    except UnicodeEncodeError:
        return json.dumps(plain(told))


class CaseFile:
    """One case. `path` is None for a case that is only kept in memory."""

    def __init__(self, connection: sqlite3.Connection, path: str | None) -> None:
        self._db = connection
        self.path = path
        self.names = NameIndex(connection)

    @classmethod
    def create(cls, path: str | None) -> CaseFile:
        """Make or continue a case. Raises `CaseError` for a file that is no case file or cannot be written."""
        if path is None:
            return cls(_fresh(":memory:"), None)
        is_new = not os.path.lexists(path)
        if is_new:
            try:
                _make(path)
            except (OSError, sqlite3.Error) as error:
                said = explain(error) if isinstance(error, OSError) else str(error)
                raise CaseError(
                    f"the case file cannot be written ({said})", path, "Name another with --case FILE"
                ) from error
        case = cls.open(path)
        if is_new:
            return case
        with case._at_once():
            case.names = NameIndex.anew(case._db)
            case._db.execute(_VERSIONS)
            case._db.execute("DELETE FROM version")
        return case

    @classmethod
    def open(cls, path: str) -> CaseFile:
        """Open an existing case. Raises `CaseError` if it is none, is damaged, or comes from a newer version.

        What is not ours is told by its first bytes, and never opened as a database: that could change it.
        """
        if not os.path.lexists(path):
            raise CaseError("there is no such case file", path, "Scan first, or name another with --case FILE")
        version = _version(path)
        if version > FORMAT:
            raise CaseError(
                f"this case file is from a newer version (format {version}, this version reads {FORMAT})",
                path,
                "Update Rust Fern, or scan again into another file with --case FILE",
            )
        try:
            db = sqlite3.connect(f"{_uri(path)}?mode=rw", uri=True, isolation_level=None)
            db.execute("PRAGMA user_version")
        except sqlite3.Error as error:
            raise CaseError(
                f"this case file cannot be read ({error})", path, "Name another with --case FILE"
            ) from error
        return cls(db, path)

    # --- one at a time --------------------------------------------------------------------------------------------

    def begin_work(self) -> None:
        """Have this process be the only one that searches into this case. Raises `CaseError`, with who is at it, if another one is."""
        if self.path is None:
            return
        with self._at_once():
            self._db.execute("CREATE TABLE IF NOT EXISTS busy (process INTEGER, began TEXT, host TEXT, at TEXT)")
            row = self._db.execute("SELECT process, began, host, at FROM busy").fetchone()
            mine = _this_process()
            if row is not None and row[:3] != mine and _works(*row[:3]):
                raise CaseError(
                    f"another search works in this case (process {row[0]} on {row[2]}, since {row[3]} UTC)", self.path,
                    "Wait until it has ended, or name another with --case FILE",
                )  # fmt: skip
            self._db.execute("DELETE FROM busy")
            self._db.execute("INSERT INTO busy VALUES (?, ?, ?, ?)", (*mine, f"{datetime.now(UTC):%Y-%m-%d %H:%M}"))

    def end_work(self) -> None:
        """Let others search into this case."""
        if self.path is not None:
            with suppress(sqlite3.Error):
                self._db.execute("DELETE FROM busy WHERE process = ? AND began = ? AND host = ?", _this_process())

    def discard(self) -> None:
        """Close the file, and remove it if nothing was ever searched into it."""
        unused = self.path is not None and self.about("roots") is None
        self.close()
        if unused and self.path is not None:
            with suppress(OSError):
                os.unlink(self.path)

    @property
    def connection(self) -> sqlite3.Connection:
        """The open database, for what keeps tables of its own in it."""
        return self._db

    @contextmanager
    def _at_once(self) -> Iterator[None]:
        try:
            self._db.execute("BEGIN IMMEDIATE")
            yield
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            held = error.sqlite_errorcode & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED)
            raise CaseError(
                "another command writes to this case" if held else f"the case file cannot be written ({error})", self.path,
                "Try again when it has ended" if held else "Free space, or name another with --case FILE",
            ) from error  # fmt: skip
        except BaseException:
            # An interrupt: what was begun is taken back, so that the next thing can be written.
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

    # --- names and versions ---------------------------------------------------------------------------------------

    def add_names(self, rows: Iterable[tuple[str, Sequence[str]]]) -> None:
        """Index (folder, document-like names in it)."""
        with self._at_once():
            self.names.add(rows)

    def add_versions(self, rows: Iterable[tuple[str, str, str, str]]) -> None:
        """Remember older versions: (place, path, path of the original or "", its name)."""
        with self._at_once():
            self._db.executemany(
                "INSERT INTO version VALUES (?, ?, ?, ?)",
                (
                    (place, os.fsencode(path), os.fsencode(original), os.fsencode(name))
                    for place, path, original, name in rows
                ),
            )

    def versions(self) -> Iterator[tuple[str, str, str, str]]:
        """What `add_versions` remembered, all of one original together."""
        for row in self._db.execute("SELECT place, path, original, name FROM version ORDER BY original, name, path"):
            yield row[0], os.fsdecode(row[1]), os.fsdecode(row[2]), os.fsdecode(row[3])

    # --- what was found -------------------------------------------------------------------------------------------

    def number_for(self, key: str) -> int:
        """The number of a document, the same for ever within this case."""
        raw = os.fsencode(key)
        row = self._db.execute("SELECT number FROM document WHERE key = ?", (raw,)).fetchone()
        if row:
            return int(row[0])
        number = int(self._db.execute("SELECT coalesce(max(number), 0) + 1 FROM document").fetchone()[0])
        self._db.execute("INSERT INTO document (number, key) VALUES (?, ?)", (number, raw))
        return number

    def id_for(self, number: int, key: str, path: str, root: str) -> str:
        """The id of a copy, the same for ever within this case."""
        raw = os.fsencode(key)
        row = self._db.execute("SELECT id FROM copy WHERE number = ? AND key = ?", (number, raw)).fetchone()
        if row:
            return str(row[0])
        count = self._db.execute("SELECT count(*) FROM copy WHERE number = ?", (number,)).fetchone()[0]
        ident = f"{number}{letters(count)}"
        self._db.execute(
            "INSERT INTO copy (id, number, key, path, root) VALUES (?, ?, ?, ?, ?)",
            (ident, number, raw, os.fsencode(path), os.fsencode(root)),
        )
        return ident

    def identify(self, documents: Iterable[tuple[str, Sequence[_Keyed]]]) -> list[tuple[int, tuple[str, ...]]]:
        """The number of each document, and the ids of its copies, (key, path, root) of which are given: as `number_for` and `id_for`, all at once."""
        numbers = {key: int(number) for key, number in self._db.execute("SELECT key, number FROM document")}
        ids: dict[int, dict[bytes, str]] = {}
        for number, key, ident in self._db.execute("SELECT number, key, id FROM copy"):
            ids.setdefault(number, {})[key] = ident
        last = max(numbers.values(), default=0)
        fresh: list[tuple[int, bytes]] = []
        copies: list[tuple[str, int, bytes, bytes, bytes]] = []
        told = []
        for key, found in documents:
            raw = os.fsencode(key)
            if (number := numbers.get(raw)) is None:
                number = numbers[raw] = last = last + 1
                fresh.append((number, raw))
            known = ids.setdefault(number, {})
            for each, path, root in found:
                inner = os.fsencode(each)
                if inner not in known:
                    known[inner] = f"{number}{letters(len(known))}"
                    copies.append((known[inner], number, inner, os.fsencode(path), os.fsencode(root)))
            told.append((number, tuple(known[os.fsencode(each)] for each, _, _ in found)))
        self._db.executemany("INSERT INTO document (number, key) VALUES (?, ?)", fresh)
        self._db.executemany("INSERT INTO copy (id, number, key, path, root) VALUES (?, ?, ?, ?, ?)", copies)
        return told

    @contextmanager
    def writing(self) -> Iterator[None]:
        """Everything inside is written at once, or not at all."""
        with self._at_once():
            yield

    def keep_document(self, number: int, told: DocumentAnswer) -> None:
        """Remember a document, and its copies by their ids."""
        facts = _written(msgspec.structs.replace(told, copies=[]))
        self._db.execute("UPDATE document SET facts = ? WHERE number = ?", (facts, number))
        rows = [(_written(copy), copy.id) for copy in told.copies]
        self._db.executemany("UPDATE copy SET facts = ? WHERE id = ?", rows)

    def kept(self, number: int, ids: Sequence[str]) -> str | None:
        """A document with these of its copies, as `keep_document` was told of it, as JSON; None where it was told nothing."""
        try:
            row = self._db.execute("SELECT facts FROM document WHERE number = ?", (number,)).fetchone()
            copies = dict(self._db.execute("SELECT id, facts FROM copy WHERE number = ?", (number,)))
        except sqlite3.Error:
            return None
        facts = [copies.get(each) for each in ids]
        if row is None or row[0] is None or row[0].count(_NO_COPIES) != 1 or not all(facts):
            return None
        return str(row[0]).replace(_NO_COPIES, f'"copies":[{",".join(map(str, facts))}]')

    def keep_about(self, **facts: object) -> None:
        """Remember facts of the whole case, such as the roots."""
        rows = [(key, json.dumps(value)) for key, value in facts.items()]
        self._db.executemany("INSERT OR REPLACE INTO about VALUES (?, ?)", rows)

    def move_document(self, number: int, to: str | None) -> None:
        """A document that was listed while a search went on turned out to be a copy of another one (`to`, the id of that copy): its number goes on
        to lead there.
        """
        self._db.execute("UPDATE document SET facts = NULL WHERE number = ?", (number,))
        self._db.execute("UPDATE copy SET facts = NULL WHERE number = ?", (number,))
        if to is not None:
            self.keep_about(moved={**(self.about("moved") or {}), str(number): to})

    def moved_to(self, number: int) -> str | None:
        """The id of the copy that `move_document` named."""
        found = (self.about("moved") or {}).get(str(number))
        return None if found is None else str(found)

    def about(self, key: str) -> Any:
        """A fact kept by `keep_about`, None if there is none."""
        row = self._db.execute("SELECT value FROM about WHERE key = ?", (key,)).fetchone()
        return json.loads(row[0]) if row else None

    def keep_search(self, told: SearchAnswer) -> None:
        """Remember what was searched."""
        self.keep_about(scan=plain(told))

    def search(self) -> SearchAnswer | None:
        """What was searched; None if no search came to its end."""
        row = self._db.execute("SELECT value FROM about WHERE key = 'scan'").fetchone()
        return self._told(row[0], SearchAnswer) if row else None

    def _told(self, text: str, kind: type[_T]) -> _T:
        """An answer as it was remembered. Raises `CaseError` for one that lacks what this version needs."""
        try:
            return msgspec.convert(json.loads(text), kind)
        except (ValueError, msgspec.ValidationError) as error:
            raise CaseError(
                f"this case was written otherwise ({error})", self.path, "Scan again into a new one"
            ) from error

    def documents(self) -> list[DocumentFacts]:
        """All documents (without copies), by number."""
        rows = self._db.execute("SELECT facts FROM document WHERE facts IS NOT NULL ORDER BY number")
        return [self._told(row[0], DocumentFacts) for row in rows]

    def copies(self, number: int) -> list[StoredCopy]:
        """The copies of a document, by id."""
        row = self._db.execute("SELECT facts FROM document WHERE number = ?", (number,)).fetchone()
        if not row or not row[0]:
            return []
        document = self._told(row[0], DocumentFacts)
        rows = self._db.execute(
            "SELECT id, path, root, facts FROM copy WHERE number = ? AND facts IS NOT NULL ORDER BY length(id), id",
            (number,),
        )
        return [
            StoredCopy(ident, number, os.fsdecode(path), os.fsdecode(root), self._told(facts, CopyAnswer), document)
            for ident, path, root, facts in rows
        ]

    def add_restored(self, rows: Iterable[tuple[str, str, str]]) -> None:
        """Note copies that were restored: (id, path written, SHA-256)."""
        at = datetime.now(UTC).isoformat(timespec="seconds")
        with self._at_once():
            self._db.executemany(
                "INSERT INTO restored VALUES (?, ?, ?, ?)", [(at, i, os.fsencode(t), s) for i, t, s in rows]
            )

    def restored(self) -> list[tuple[str, str, str, str]]:
        """What was restored from this case: (when, id of the copy, path written, SHA-256)."""
        rows = self._db.execute("SELECT at, id, target, sha256 FROM restored ORDER BY at")
        return [(at, ident, os.fsdecode(target), sha256) for at, ident, target, sha256 in rows]

    def close(self) -> None:
        """Close the file."""
        self.end_work()
        self._db.close()


def roots_of(case: CaseFile) -> list[str]:
    """The folders that a case searched."""
    return [os.fsdecode(bytes.fromhex(root)) for root in case.about("roots") or []]
