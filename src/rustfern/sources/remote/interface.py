"""What a connection to another machine must offer, and what it says of one thing there."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future
from datetime import datetime
from typing import Literal, Protocol

import msgspec

MOST_NAMES = 200_000
"""Names in one folder beyond which a listing is taken for one without an end."""


VERSIONS, TRASH = "@versions", "@trash"
"""Folders, made up, in which the earlier versions of all files below a root lie, and those that were deleted there: `@versions/TIME/…` and
`@trash/TIME/…` repeat the tree.
"""


class Item(msgspec.Struct, frozen=True):
    """One thing in a folder: size (bytes), time of its last change (UTC), a mark that changes with its content (empty: none is told);
    `ident` is what a service knows a file by, `locked_by` who has it locked there.
    """

    name: str
    kind: Literal["file", "folder", "link", "other"]
    size: int = 0
    modified: datetime | None = None
    mark: str = ""
    mode: int = 0o600
    target: str | None = None
    ident: str = ""
    locked_by: str = ""


class Version(msgspec.Struct, frozen=True):
    """An earlier version of a file: where its bytes are had, its size, when and by whom it was written, its name in the history."""

    where: str
    size: int
    modified: datetime | None
    by: str = ""
    name: str = ""


class Trashed(msgspec.Struct, frozen=True):
    """A file in a service's trash: where its bytes are had, its size, its own time and that of its deletion, and its path before that."""

    where: str
    size: int
    modified: datetime | None
    deleted: datetime | None
    was: str


class Link(Protocol):
    """A connection. Paths are those of the other machine, from `/` on. Methods raise `SourceError` with what to do."""

    def items(self, folder: str) -> list[Item]:
        """What is in a folder."""

    def items_soon(self, folder: str) -> Future[list[Item]]:
        """The same, behind what was asked for before. It can be cancelled until it is its turn, and may raise more than `SourceError`: it is tried
        once.
        """

    def read(self, path: str, offset: int, length: int, mark: str) -> bytes:
        """Bytes of a file: all that were asked for, less only at its end. Raises `SourceError` also where it is not any more the file with that
        mark.
        """

    def read_soon(self, path: str, offset: int, length: int, mark: str) -> Future[bytes]:
        """The same, behind what was asked for before, as with folders."""

    def versions(self, files: list[tuple[str, Item]]) -> list[list[Version]]:
        """The earlier versions of some files (path, what was listed of each), the newest first; empty where none are kept."""

    def keeps_versions(self, folder: str) -> bool:
        """Whether the other side says that it keeps versions of what is in a folder."""

    def trash(self, folder: str) -> list[Trashed]:
        """What was deleted in a folder or below it, as far as the other side shows it."""

    def missed(self, tree: str) -> list[tuple[str, int]]:
        """Why something of the `VERSIONS` or the `TRASH` could not be had so far, and how often."""

    def close(self) -> None:
        """Let the connection go."""


Ask = Callable[[str, str], str | None]
"""Asked for the password of a user on a host; None if nobody can tell."""
Confirm = Callable[[str], bool]
"""Asked whether something is right; False if nobody can tell."""
