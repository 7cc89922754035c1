"""What several kinds of traces tell alike."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple


class LockFacts(NamedTuple):
    """Who has a document open, on which machine, since when (wall clock of that machine; None if it does not say)."""

    owner: str
    host: str
    opened_local: datetime | None = None


class Kept(NamedTuple):
    """One text of an editor's list: its original as recorded (empty: never named), the kept file (a path, or a name beside the list), the
    time that the list gives to the kept version (UTC), and the name of a tab that has no file.
    """

    original: str
    copy: str
    when: datetime | None = None
    title: str = ""


class UnsavedText(NamedTuple):
    """A text that was not saved: the address of its original (empty: never named), its title for people, its bytes."""

    address: str
    title: str
    data: bytes
