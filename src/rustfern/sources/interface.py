"""What a source must offer: walking, looking at one entry, opening it for reading."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, BinaryIO, Protocol

from rustfern.core.model import Entry, Trace

if TYPE_CHECKING:
    from pathlib import Path

OnProblem = Callable[[str, str], None]
"""Called with (path, message) for each thing that cannot be read."""


class Source(Protocol):
    """A place that bytes come from; read only.

    `root` names it. All paths given and returned are whole paths in `os.fsdecode` form. Methods raise
    `SourceError` where something cannot be read, and never anything else for a fault of the disk.
    """

    root: str

    @property
    def trouble(self) -> str:
        """What is wrong with the source as a whole, empty if nothing is."""

    @property
    def tops(self) -> tuple[str, ...]:
        """The folders that stand for the top of a volume, or the root itself."""

    def deleted_in(self, folder: str) -> tuple[frozenset[str], list[str]]:
        """(names of files in a folder that are only records of deleted ones, paths of earlier records under names that others have now)."""

    def differing(self, folder: str, names: list[str], living: str) -> list[str]:
        """Of files in a folder that repeats another one (`living`) those that are not the same there; the source may keep in mind what it says of them, as
        it is costly to look at each again.
        """

    def behind(self, entry: Entry) -> bytes:
        """What lies on the disk between a file's end and that of its last cluster; nothing where that is not told."""

    def traces(self, tops: Sequence[str], wanted: Callable[[str], bool]) -> Iterator[tuple[str, Trace]]:
        """(path, what is still told of it) of names that are gone and of which nothing else is recorded, those below `tops` first; `wanted` tells
        by its name what is asked for.
        """

    def exists(self, path: str) -> bool:
        """Whether there is anything at a path, a dangling link included."""

    def is_folder(self, path: str) -> bool | None:
        """Whether this is a folder and no link to one; None if we are not allowed to know."""

    def list_folder(
        self, folder: str, is_top: bool, on_problem: OnProblem, on_error: Callable[[OSError, str], None] | None = None
    ) -> tuple[list[str], list[str]] | None:
        """The names of the folders and of all else directly in a folder; None if it cannot be listed."""

    def walk(self, top: str, on_problem: OnProblem) -> Iterator[tuple[str, list[str], list[str]]]:
        """Yield (folder, names of folders in it, names of files in it) for `top` and all below it.

        Links to folders count as files. The caller may remove names from the folder list to keep out of them.
        """

    def names(self, folder: str) -> tuple[list[str], list[str]]:
        """Names of the folders and of the files in one folder, sorted."""

    def entry(self, path: str) -> Entry:
        """Look at one file, folder or link, without following the link."""

    def open(self, entry: Entry) -> BinaryIO:
        """Open a regular file for reading, without changing it or its access time where the system lets us."""

    def materialise(self, entry: Entry) -> AbstractContextManager[Path]:
        """A private temporary copy, for libraries that need a path."""
