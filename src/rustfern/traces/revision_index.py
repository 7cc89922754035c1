"""The index of older versions that macOS keeps: which file each version belongs to.

Tables `files`, `storage` and `generations` as documented; columns are looked up by name, since they changed over the years.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from rustfern.core.errors import Malformed

_LIMIT = 200_000
_APPLE_EPOCH = 978_307_200
"""2001-01-01 in seconds since 1970: older indexes count from there."""


class Generation(msgspec.Struct, frozen=True):
    """One version: the document's path as recorded, the version's path below the folder of revisions, when it was kept (UTC)."""

    original: str
    stored: str
    when: datetime | None


def read(path: Path) -> list[Generation]:
    """Read a private copy of the index. Raises `Malformed` if it is no such index or is damaged."""
    try:
        with closing(sqlite3.connect(path)) as db:
            db.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
            files, generations = _columns(db, "files"), _columns(db, "generations")
            wanted = {"file_path", "file_storage_id"} - files | {
                "generation_path",
                "generation_storage_id",
            } - generations
            if wanted:
                raise Malformed(f"the index has no {sorted(wanted)[0]}")
            time = "generation_add_time" if "generation_add_time" in generations else "NULL"
            rows = db.execute(
                f"SELECT f.file_path, g.generation_path, {time} FROM generations g"
                f" JOIN files f ON f.file_storage_id = g.generation_storage_id LIMIT {_LIMIT}"
            ).fetchall()
    except sqlite3.Error as error:
        raise Malformed(f"the index of versions is damaged or is none ({error})") from error
    return [Generation(str(p), str(g), _when(t)) for p, g, t in rows if p and g]


def _columns(db: sqlite3.Connection, table: str) -> set[str]:
    return {str(row[1]) for row in db.execute(f"PRAGMA table_info({table})")}


def _when(value: object) -> datetime | None:
    if not isinstance(value, (int, float)) or value <= 0:
        return None
    try:
        found = datetime.fromtimestamp(value, UTC)
        return found if found.year >= 2005 else datetime.fromtimestamp(value + _APPLE_EPOCH, UTC)
    except (OverflowError, OSError, ValueError):
        return None
