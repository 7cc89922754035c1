"""SQLite databases: the rows of every leaf page that is there, in a new database, with the tables that its schema tells, or by their columns.

Source: SQLite database file format 1.3 (header), 1.5 (free pages), 1.6 (b-tree pages, cells, overflow), 2.1 (records), 2.6 (schema table).
"""

from __future__ import annotations

import re
import shutil
import sqlite3
import struct
from collections.abc import Iterator
from contextlib import suppress
from typing import BinaryIO

import msgspec

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.zip_salvage import Held

Value = None | int | float | str | bytes
_MAGIC = b"SQLite format 3\0"
_LEAF, _INTERIOR, _INDEX_LEAF, _INDEX_INTERIOR = 13, 5, 10, 2
_SIZES = (4096, 1024, 8192, 2048, 16384, 32768, 65536, 512)
_MAX_ROWS = 20_000_000
_MAX_COLUMNS = 2_000
_MAX_VALUE = 64 << 20
_HEADER = 100
_CREATE = re.compile(r"\s*CREATE\s+(?:TEMP(?:ORARY)?\s+)?TABLE\b", re.IGNORECASE)
_VIRTUAL = re.compile(r"\s*CREATE\s+VIRTUAL\b", re.IGNORECASE)


class Row(msgspec.Struct):
    """One record: its row id (0: none), its values, the page that it is on."""

    ident: int
    values: list[Value]
    page: int


class Schema(msgspec.Struct):
    """One row of the schema table."""

    kind: str
    name: str
    table: str
    root: int
    sql: str


class Database:
    """The pages of a damaged database."""

    def __init__(self, data: Held) -> None:
        self.data = data
        self.size = self._page_size()
        self.count = (len(data) + self.size - 1) // self.size
        reserved = data[20] if data[:16] == _MAGIC and len(data) > _HEADER else 0
        self.usable = self.size - (reserved if reserved <= self.size - 480 else 0)
        code = int.from_bytes(data[56:60], "big") if data[:16] == _MAGIC else 1
        self.encoding = {2: "utf-16-le", 3: "utf-16-be"}.get(code, "utf-8")

    def _page_size(self) -> int:
        told = int.from_bytes(self.data[16:18], "big") if self.data[:16] == _MAGIC else 0
        told = 65536 if told == 1 else told
        if told in _SIZES:
            return told

        def leaves(size: int) -> int:
            pages = range(size, min(len(self.data), 64 << 20), size)
            return sum(self._is_leaf(at, size) for at in pages)

        return max(_SIZES, key=leaves)

    def _is_leaf(self, at: int, size: int) -> bool:
        head = self.data[at : at + 8]
        if len(head) < 8 or head[0] not in (_LEAF, _INDEX_LEAF):
            return False
        _free, cells, content = struct.unpack(">HHH", head[1:7])
        first = int.from_bytes(self.data[at + 8 : at + 10], "big")
        return bool(0 < cells < size // 4 and 8 + 2 * cells <= (content or 65536) <= size and content <= first < size)

    def page(self, number: int) -> bytes:
        """A page by its number, from 1; shorter where the file stops in it."""
        return self.data[(number - 1) * self.size : number * self.size]

    def head(self, number: int) -> tuple[int, int, bytes, int]:
        """(kind, cells, the page, where its header begins)."""
        page = self.page(number)
        at = 100 if number == 1 else 0
        if len(page) < at + 12:
            return 0, 0, page, at
        return page[at], int.from_bytes(page[at + 3 : at + 5], "big"), page, at

    def children(self, number: int) -> list[int]:
        """The pages below an interior page."""
        kind, cells, page, at = self.head(number)
        if kind not in (_INTERIOR, _INDEX_INTERIOR):
            return []
        out = []
        for n in range(min(cells, self.size // 4)):
            place = int.from_bytes(page[at + 12 + 2 * n : at + 14 + 2 * n], "big")
            if place + 4 <= len(page) and place:
                out.append(int.from_bytes(page[place : place + 4], "big"))
        out.append(int.from_bytes(page[at + 8 : at + 12], "big"))
        return out

    def rows(self, number: int, *, index: bool = False) -> Iterator[Row]:
        """The records of a leaf page (of an index: of any page) that read."""
        kind, cells, page, at = self.head(number)
        wanted = (_INDEX_LEAF, _INDEX_INTERIOR) if index else (_LEAF,)
        if kind not in wanted:
            return
        start = at + (12 if kind == _INDEX_INTERIOR else 8)
        for n in range(min(cells, self.size // 3)):
            place = int.from_bytes(page[start + 2 * n : start + 2 * n + 2], "big")
            if not start <= place < len(page):
                continue
            with suppress(IndexError, ValueError, struct.error):
                yield self._row(page, place + (4 if kind == _INDEX_INTERIOR else 0), number, index=index)

    def _row(self, page: bytes, at: int, number: int, *, index: bool) -> Row:
        length, at = _varint(page, at)
        ident = 0
        if not index:
            ident, at = _varint(page, at)
        if not 1 < length <= _MAX_VALUE:
            raise ValueError
        most = (self.usable - 12) * 64 // 255 - 23 if index else self.usable - 35
        if length <= most:
            body = page[at : at + length]
        else:
            least = (self.usable - 12) * 32 // 255 - 23
            kept = least + (length - least) % (self.usable - 4)
            kept = kept if kept <= most else least
            body = page[at : at + kept] + self._overflow(
                int.from_bytes(page[at + kept : at + kept + 4], "big"), length - kept
            )
        is_cut = len(body) < length
        if is_cut and len(page) == self.size:
            raise ValueError
        return Row(ident if ident < 1 << 63 else ident - (1 << 64), self._record(body, is_cut=is_cut), number)

    def _overflow(self, number: int, left: int) -> bytes:
        out = bytearray()
        steps = 0
        while number and left > 0 and steps <= self.count:
            page = self.page(number)
            out += page[4 : 4 + min(left, self.usable - 4)]
            left -= self.usable - 4
            number = int.from_bytes(page[:4], "big")
            steps += 1
        return bytes(out)

    def _record(self, body: bytes, *, is_cut: bool = False) -> list[Value]:
        """The values of a record; of one at which the file is cut those that are there."""
        length, at = _varint(body, 0)
        if not 1 <= length <= len(body):
            raise ValueError
        kinds = []
        while at < length:
            kind, at = _varint(body, at)
            kinds.append(kind)
            if len(kinds) > _MAX_COLUMNS:
                raise ValueError
        values: list[Value] = []
        for kind in kinds:
            size = _width(kind)
            raw = body[at : at + size]
            if len(raw) < size and is_cut:
                if kind >= 13 and kind % 2:
                    values.append(raw.decode(self.encoding, "ignore"))
                break
            if len(raw) < size:
                raise ValueError
            values.append(self._value(kind, raw))
            at += size
        if at != len(body) and not is_cut:
            raise ValueError
        if is_cut and not any(value is not None for value in values):
            raise ValueError
        return values

    def _value(self, kind: int, raw: bytes) -> Value:
        if kind == 0:
            return None
        if kind <= 6:
            return int.from_bytes(raw, "big", signed=True)
        if kind == 7:
            return float(struct.unpack(">d", raw)[0])
        if kind in (8, 9):
            return kind - 8
        return raw.decode(self.encoding) if kind % 2 else raw

    def free_pages(self) -> set[int]:
        """Pages that hold nothing any more, by the list of them, if it is there."""
        out: set[int] = set()
        trunk = int.from_bytes(self.data[32:36], "big") if self.data[:16] == _MAGIC else 0
        while 1 < trunk <= self.count and trunk not in out:
            out.add(trunk)
            page = self.page(trunk)
            count = int.from_bytes(page[4:8], "big")
            if count > self.usable // 4:
                break
            out.update(int.from_bytes(page[8 + 4 * n : 12 + 4 * n], "big") for n in range(count))
            trunk = int.from_bytes(page[:4], "big")
        return out


def _varint(data: bytes, at: int) -> tuple[int, int]:
    value = 0
    for n in range(9):
        byte = data[at + n]
        if n == 8:
            return value << 8 | byte, at + 9
        value = value << 7 | byte & 127
        if byte < 128:
            return value, at + n + 1
    raise ValueError


def _width(kind: int) -> int:
    if kind >= 12:
        return (kind - 12) // 2
    if kind in (10, 11):
        raise ValueError
    return (0, 1, 2, 3, 4, 6, 8, 8, 0, 0)[kind]


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write a new database. Raises `NothingLeft`."""
    data = job.whole()
    database = Database(data)
    with job.limits.scratch.private_folder() as folder:
        path = folder / "made.sqlite"
        outcome = _Rebuild(database, job).run(str(path))
        with path.open("rb") as made:
            shutil.copyfileobj(made, out, 1 << 20)
    return outcome


class _Rebuild:
    """The rows of a database on their way into a new one."""

    def __init__(self, database: Database, job: Job) -> None:
        self.db, self.job = database, job
        self.lost: list[Loss] = []
        self.schema = self._schema()
        self.owner: dict[int, str] = {}
        self.gone: set[int] = set()
        self.short: dict[str, int] = {}
        self.total = 0

    def _schema(self) -> list[Schema]:
        """The rows that tell tables, wherever they are."""
        found: dict[tuple[str, str], Schema] = {}
        for number in range(1, self.db.count + 1):
            self.job.budget.spend()
            for row in self.db.rows(number):
                told = row.values
                if (
                    len(told) == 5
                    and told[0] in ("table", "index", "view", "trigger")
                    and isinstance(told[1], str)
                    and isinstance(told[4], str)
                ):
                    root = told[3] if isinstance(told[3], int) else 0
                    each = Schema(str(told[0]), told[1], str(told[2]), root, told[4])
                    if number == 1 or (each.kind, each.name) not in found:
                        found[each.kind, each.name] = each
            if number == 1 and found and self.db.head(1)[0] == _LEAF:
                break  # the whole schema is on the first page
        return list(found.values())

    def run(self, path: str) -> Outcome:
        """Make the database at a path."""
        tables = [
            each
            for each in self.schema
            if each.kind == "table" and not each.name.startswith("sqlite_") and not _VIRTUAL.match(each.sql)
        ]
        connection = sqlite3.connect(path, isolation_level=None)
        try:
            connection.execute("PRAGMA journal_mode=OFF")
            connection.execute("PRAGMA synchronous=OFF")
            connection.execute("PRAGMA foreign_keys=OFF")
            connection.execute("PRAGMA ignore_check_constraints=ON")
            connection.execute(f"PRAGMA page_size={self.db.size}")
            connection.execute("BEGIN")
            made = [each for each in tables if self._create(connection, each)]
            for each in made:
                self._fill(connection, each)
            self._others(connection, made)
            for kind in ("index", "view", "trigger"):
                for each in self.schema:
                    if each.kind == kind and each.sql:
                        self._create(connection, each)
            connection.execute("COMMIT")
        finally:
            connection.close()
        if not self.total:
            raise NothingLeft("no row of the database can be read")
        self._missing_pages()
        return Outcome(self.job.format, (Step.ROWS,), tuple(self.lost))

    def _create(self, connection: sqlite3.Connection, each: Schema) -> bool:
        if each.kind == "table" and not _CREATE.match(each.sql):
            return False
        try:
            connection.execute(each.sql)
        except (sqlite3.Error, sqlite3.Warning, ValueError):
            if each.kind == "table":
                return False
            self.lost.append(Loss(LossKind.PARTS, f"{each.kind} {each.name}", 1))
        return True

    def _fill(self, connection: sqlite3.Connection, table: Schema) -> None:
        columns = connection.execute(f"PRAGMA table_xinfo({_quoted(table.name)})").fetchall()
        without_ids = re.search(r"\bWITHOUT\s+ROWID\b", table.sql, re.IGNORECASE) is not None
        known = set(self.gone)
        pages = list(self._tree(table.root))
        self.short[table.name] = len(self.gone - known)
        for number in pages:
            self.owner[number] = table.name
            for row in self.db.rows(number, index=without_ids):
                self._insert(connection, table.name, columns, row, without_ids=without_ids)

    def _tree(self, root: int) -> Iterator[int]:
        """All pages of a tree that can be reached."""
        stack, seen = [root], set[int]()
        while stack:
            number = stack.pop()
            if number in seen:
                continue
            seen.add(number)
            if not 1 < number <= self.db.count or not self.db.page(number).strip(b"\0"):
                self.gone.add(number)
                continue
            stack += reversed(self.db.children(number))
            yield number

    def _insert(
        self,
        connection: sqlite3.Connection,
        name: str,
        columns: list[tuple[object, ...]],
        row: Row,
        *,
        without_ids: bool,
    ) -> bool:
        self.total += 1
        if self.total % 1000 == 0:
            self.job.budget.spend()
        if self.total > _MAX_ROWS:
            raise NothingLeft("it has more rows than are read here")
        stored = [each for each in columns if each[6] != 2]
        if without_ids:
            keys = sorted((each for each in stored if each[5]), key=lambda each: int(str(each[5])))
            stored = keys + [each for each in stored if not each[5]]
        pairs = [(each, value) for each, value in zip(stored, row.values, strict=False) if each[6] == 0]
        alias = [each for each in stored if each[5] == 1 and str(each[2]).upper() == "INTEGER"]
        names = [_quoted(str(each[1])) for each, _ in pairs]
        values = [
            row.ident if not without_ids and alias and each is alias[0] and value is None else value
            for each, value in pairs
        ]
        if not without_ids and not alias and "rowid" not in {str(each[1]).casefold() for each in columns}:
            names.append("rowid")
            values.append(row.ident)
        if not names:
            return False
        marks = ",".join("?" * len(names))
        try:
            done = connection.execute(
                f"INSERT OR IGNORE INTO {_quoted(name)} ({','.join(names)}) VALUES ({marks})", values
            )
        except (sqlite3.Error, OverflowError, UnicodeEncodeError):
            return False
        return done.rowcount > 0

    def _others(self, connection: sqlite3.Connection, tables: list[Schema]) -> None:
        """Leaf pages that no tree leads to: their rows go to the table whose columns they fit, else into tables by how many columns they have."""
        free = self.db.free_pages()
        skip = self._reached_by_others() | free | {1}
        shapes = {
            each.name: connection.execute(f"PRAGMA table_xinfo({_quoted(each.name)})").fetchall() for each in tables
        }
        for number in range(2, self.db.count + 1):
            if number in self.owner or number in skip:
                continue
            rows = list(self.db.rows(number))
            rows = [row for row in rows if row.values and not self._is_schema(row)]
            if not rows:
                continue
            fits = [name for name, columns in shapes.items() if all(_fits(row, columns) for row in rows)]
            if len(fits) > 1:
                fits = self._by_ids(connection, fits, rows)
            if len(fits) == 1:
                for row in rows:
                    self._insert(connection, fits[0], shapes[fits[0]], row, without_ids=False)
                continue
            self._unnamed(connection, rows)

    def _reached_by_others(self) -> set[int]:
        """Pages of trees of what is not filled here: virtual tables, tables of the database's own."""
        return {
            number
            for each in self.schema
            if each.kind == "index" or each.name.startswith("sqlite_")
            for number in self._tree(each.root)
        }

    @staticmethod
    def _is_schema(row: Row) -> bool:
        return (
            len(row.values) == 5
            and row.values[0] in ("table", "index", "view", "trigger")
            and isinstance(row.values[4], str | None)
        )

    @staticmethod
    def _by_ids(connection: sqlite3.Connection, fits: list[str], rows: list[Row]) -> list[str]:
        """The tables that have none of these row ids yet."""
        out = []
        for name in fits:
            with suppress(sqlite3.Error):
                there = connection.execute(
                    f"SELECT count(*) FROM {_quoted(name)} WHERE rowid BETWEEN ? AND ?", (rows[0].ident, rows[-1].ident)
                ).fetchone()[0]
                if not there:
                    out.append(name)
        return out

    def _unnamed(self, connection: sqlite3.Connection, rows: list[Row]) -> None:
        width = max(len(row.values) for row in rows)
        name = f"rows of {width} columns"
        listed = ",".join(f'"column {n}"' for n in range(1, width + 1))
        new = not connection.execute("SELECT 1 FROM sqlite_master WHERE name=?", (name,)).fetchone()
        if new:
            connection.execute(f"CREATE TABLE {_quoted(name)} ({listed})")
            self.lost.append(Loss(LossKind.NAMES, "", 1))
        for row in rows:
            self.total += 1
            padded = row.values + [None] * (width - len(row.values))
            with suppress(sqlite3.Error, OverflowError, UnicodeEncodeError):
                connection.execute(f"INSERT INTO {_quoted(name)} VALUES ({','.join('?' * width)})", padded)

    def _missing_pages(self) -> None:
        """Pages that the tables' trees lead to and that are not there: how many rows they held, about."""
        rows: dict[str, int] = {}
        leaves: dict[str, int] = {}
        broken = 0
        for number, name in self.owner.items():
            kind, cells, _, _ = self.db.head(number)
            if kind in (_LEAF, _INDEX_LEAF):
                there = sum(1 for _ in self.db.rows(number, index=kind == _INDEX_LEAF))
                rows[name], leaves[name] = rows.get(name, 0) + there, leaves.get(name, 0) + 1
                broken += max(cells - there, 0)
        for name, gone in self.short.items():
            if gone:
                self.lost.append(
                    Loss(LossKind.ROWS, name, round(gone * rows.get(name, 0) / max(leaves.get(name, 1), 1)))
                )
        if broken:
            self.lost.append(Loss(LossKind.ROWS, "", broken))
        told = int.from_bytes(self.db.data[28:32], "big") if self.db.data[:16] == _MAGIC else 0
        if not self.schema and told != self.db.count:
            self.lost.append(Loss(LossKind.ROWS))


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""').replace("\0", "") + '"'


def _fits(row: Row, columns: list[tuple[object, ...]]) -> bool:
    """Whether a record may be a row of a table: as many values, of kinds that its columns take."""
    stored = [each for each in columns if each[6] != 2]
    if not len(stored) >= len(row.values) > 0 or len(stored) - len(row.values) > 3:
        return False
    for each, value in zip(stored, row.values, strict=False):
        kind = str(each[2]).upper()
        if value is None:
            if each[3] and not each[5]:
                return False
            continue
        if "INT" in kind and not isinstance(value, int):
            return False
        if any(word in kind for word in ("CHAR", "TEXT", "CLOB")) and not isinstance(value, str | bytes):
            return False
        if any(word in kind for word in ("REAL", "FLOA", "DOUB")) and not isinstance(value, int | float):
            return False
    return True
