"""SQLite databases: size against the page count, the library's own integrity check, the text of all tables.

Source: the SQLite file format, sections 1.3 (header: page size at 16, page count at 28, change counters at 24 and 92). Checked on a private
temporary copy: opening a database can write beside it.
"""

from __future__ import annotations

import codecs
import shutil
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Content, Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.text_sink import Gathered, TextSink, number

_MAGIC = b"SQLite format 3\0"
_MAX_ROWS, _MAX_TABLES = 200_000, 20_000
_MAX_VALUE_BYTES, _LEAST_VALUE_BYTES, _PIECE_BYTES = 16 << 20, 1 << 16, 1 << 20
_STEPS = 50_000_000


class Database:
    """SQLite."""

    def score(self, head: bytes, tail: bytes) -> float:
        return 0.95 if head[:16] == _MAGIC else 0.0

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        return Glance(format="sqlite")

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        head = stream.read(100)
        if len(head) < 100:
            raise Malformed("the header of the database is cut off", len(head))
        page = int.from_bytes(head[16:18], "big")
        page = 65536 if page == 1 else page
        pages = int.from_bytes(head[28:32], "big")
        if page < 512 or page & (page - 1):
            raise Malformed("the page size of the database is impossible", 16)
        if head[24:28] == head[92:96] and pages * page > size:
            raise Malformed(f"the database stops after {size} of {pages * page} bytes", size)
        with limits.scratch.private_folder() as folder:
            copy = folder / "database"
            stream.seek(0)
            with copy.open("wb") as out:
                shutil.copyfileobj(stream, out, 1 << 20)
            rows = _read(copy, sink)
        return Reading(
            Glance(format="sqlite"), State.INTACT, f"all {pages or size // page} pages are right", {"rows": rows}
        )


def check_set(path: Path) -> Content:
    """Check a private copy of a database that has its journals beside it: their content counts. Never raises for damage."""
    sink = TextSink()
    size = path.stat().st_size
    try:
        rows = _read(path, sink, journals=True)
    except Malformed as error:
        return Content(Glance(format="sqlite"), State.DAMAGED, str(error), size)
    reason = "its pages are right, those in its journal too"
    return Content(
        Glance(format="sqlite"),
        State.INTACT,
        reason,
        size,
        None,
        sink.words,
        sink.text_hash(),
        sink.tokens(),
        sink.lines(),
        amounts={"rows": rows},
    )


_BOUNDS = {
    sqlite3.SQLITE_LIMIT_LENGTH: _MAX_VALUE_BYTES,
    sqlite3.SQLITE_LIMIT_SQL_LENGTH: 1 << 20,
    sqlite3.SQLITE_LIMIT_EXPR_DEPTH: 200,
    sqlite3.SQLITE_LIMIT_COMPOUND_SELECT: 20,
    sqlite3.SQLITE_LIMIT_ATTACHED: 0,
    sqlite3.SQLITE_LIMIT_TRIGGER_DEPTH: 1,
}
"""What the engine may do for a database that nobody vouches for; set before anything of it is read."""


def _read(path: Path, sink: TextSink, *, journals: bool = False) -> int:
    steps = 0

    def patience() -> int:
        nonlocal steps
        steps += 1
        return int(steps > _STEPS // 10_000)

    try:
        mode = "rw" if journals else "ro&immutable=1"
        with closing(sqlite3.connect(f"{path.as_uri()}?mode={mode}", uri=True)) as db:
            for bound, value in _BOUNDS.items():
                db.setlimit(bound, value)
            db.set_progress_handler(patience, 10_000)
            db.text_factory = lambda raw: raw.decode("utf-8", "replace")
            db.execute("PRAGMA trusted_schema = OFF")
            found = db.execute("PRAGMA integrity_check(1)").fetchone()
            if not found or found[0] != "ok":
                raise Malformed(f"the database is damaged: {str(found and found[0])[:200]}")
            return _texts(db, sink)
    except UnicodeDecodeError as error:
        # The names of a damaged schema are not even text.
        raise Malformed("the database is damaged: its names of tables or columns are no text") from error
    except sqlite3.Error as error:
        if steps > _STEPS // 10_000:
            raise Refused("checking the database takes longer than any does: refused") from error
        if error.sqlite_errorcode == sqlite3.SQLITE_TOOBIG:
            raise Refused("the database computes more than it holds: refused") from error
        raise Malformed(f"the database is damaged: {error}") from error


def _texts(db: sqlite3.Connection, sink: TextSink) -> int:
    """Hand on the text of all tables; how many rows there are. What a table computes is not content, and is not computed."""
    rows = 0
    wanted = "type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL %'"
    for (table,) in db.execute(
        f"SELECT name FROM sqlite_schema WHERE {wanted} ORDER BY name LIMIT {_MAX_TABLES}"
    ).fetchall():
        sink.section = table
        quoted = _quoted(table)
        if not sink.counted:
            rows += min(db.execute(f"SELECT count(*) FROM {quoted}").fetchone()[0], _MAX_ROWS)
            continue
        columns = [
            (number, name) for number, name, *_, hidden in db.execute(f"PRAGMA table_xinfo({quoted})") if not hidden
        ]
        if columns:
            db.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, max(_MAX_VALUE_BYTES // len(columns), _LEAST_VALUE_BYTES))
            rows += _rows(db, table, [name for _, name in columns], sink)
            db.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _MAX_VALUE_BYTES)
    return rows


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _rows(db: sqlite3.Connection, table: str, columns: list[str], sink: TextSink) -> int:
    """Hand on the texts of one table. Blobs are never loaded; a text that is too long for the engine is read piece by piece."""
    kinds = "('text', 'integer', 'real')" if sink.keeps else "('text')"
    chosen = ", ".join(f"CASE WHEN typeof({_quoted(name)}) IN {kinds} THEN {_quoted(name)} END" for name in columns)
    ident = next(
        (name for name in ("_rowid_", "rowid", "oid") if name not in {column.casefold() for column in columns}), ""
    )
    at, last = 0, -(1 << 63)
    while at < _MAX_ROWS:
        by_row = f"SELECT {ident}, {chosen} FROM {_quoted(table)} WHERE {ident} >= ? ORDER BY {ident} LIMIT ?"
        try:
            for number, *row in db.execute(by_row, (last, _MAX_ROWS - at)):
                at, last = at + 1, number + 1
                _cells(row, at, sink)
            return at
        except sqlite3.OperationalError:
            # A table without row ids (or a view of one): read in its own order, as far as the engine goes.
            for row in db.execute(f"SELECT {chosen} FROM {_quoted(table)} LIMIT {_MAX_ROWS}"):
                at += 1
                _cells(row, at, sink)
            return at
        except (sqlite3.DataError, OverflowError) as error:
            if getattr(error, "sqlite_errorcode", sqlite3.SQLITE_TOOBIG) != sqlite3.SQLITE_TOOBIG:
                raise
            found = db.execute(
                f"SELECT {ident} FROM {_quoted(table)} WHERE {ident} >= ? ORDER BY {ident} LIMIT 1", (last,)
            ).fetchone()
            if found is None:
                return at
            at, last = at + 1, found[0] + 1
            _long_row(db, table, columns, ident, found[0], sink)
            if last > (1 << 63) - 1:
                return at
    return at


def _cells(row: Sequence[object], at: int, sink: TextSink) -> None:
    for column, value in enumerate(row, 1):
        if isinstance(value, str):
            sink.add(value, "cell", spot=(0, at, column))
        elif sink.keeps and isinstance(value, int | float):
            sink.show(number(str(value)), "cell", spot=(0, at, column))


def _long_row(db: sqlite3.Connection, table: str, columns: list[str], ident: str, row: int, sink: TextSink) -> None:
    """The texts of a row of which one at least is very long."""
    encoding = (
        str(db.execute("PRAGMA encoding").fetchone()[0])
        .replace("UTF-16", "utf-16-")
        .lower()
        .replace("-le", "le")
        .replace("-be", "be")
    )
    types = db.execute(
        f"SELECT {', '.join(f'typeof({_quoted(name)})' for name in columns)} FROM {_quoted(table)} WHERE {ident} = ?",
        (row,),
    ).fetchone()
    for name, kind in zip(columns, types or (), strict=False):
        if kind != "text":
            continue
        gathered = Gathered(sink.add)
        decoder = codecs.getincrementaldecoder(encoding)("replace")
        with db.blobopen(table, name, row, readonly=True) as text:
            while piece := text.read(_PIECE_BYTES):
                gathered.add(decoder.decode(piece))
        sink.add(gathered.rest())
