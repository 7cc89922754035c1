"""SQLite databases: size against the page count, the library's own integrity check, the text of all tables.

Source: the SQLite file format, sections 1.3 (header: page size at 16, page count at 28, change counters at 24 and 92). Checked on a private
temporary copy: opening a database can write beside it.
"""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import BinaryIO

from rustfern.errors import Malformed
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.words import TextSink, number
from rustfern.model import Content, Glance, State
from rustfern.output.temporary import private_folder

_MAGIC = b"SQLite format 3\0"
_MAX_ROWS = 200_000
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
        with private_folder() as folder:
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


def _read(path: Path, sink: TextSink, *, journals: bool = False) -> int:
    steps = 0

    def patience() -> int:
        nonlocal steps
        steps += 1
        return int(steps > _STEPS // 10_000)

    rows = 0
    try:
        mode = "rw" if journals else "ro&immutable=1"
        with closing(sqlite3.connect(f"{path.as_uri()}?mode={mode}", uri=True)) as db:
            db.set_progress_handler(patience, 10_000)
            db.text_factory = lambda raw: raw.decode("utf-8", "replace")
            found = db.execute("PRAGMA integrity_check(1)").fetchone()
            if not found or found[0] != "ok":
                raise Malformed(f"the database is damaged: {str(found and found[0])[:200]}")
            tables = [row[0] for row in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name")]
            for table in tables:
                sink.section, at = table, 0
                quoted = '"' + table.replace('"', '""') + '"'
                for row in db.execute(f"SELECT * FROM {quoted} LIMIT {_MAX_ROWS}"):
                    rows, at = rows + 1, at + 1
                    for column, value in enumerate(row, 1):
                        if isinstance(value, str):
                            sink.add(value, "cell", spot=(0, at, column))
                        elif sink.keeps and isinstance(value, int | float):
                            sink.show(number(str(value)), "cell", spot=(0, at, column))
    except UnicodeDecodeError as error:
        # The names of a damaged schema are not even text.
        raise Malformed("the database is damaged: its names of tables or columns are no text") from error
    except sqlite3.Error as error:
        raise Malformed(f"the database is damaged: {error}") from error
    return rows
