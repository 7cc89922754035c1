"""What sources share: the answers of one that keeps no records of what was deleted, and walking where listing a folder is all there is to it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from rustfern.core.errors import SourceError
from rustfern.core.model import Entry, Trace
from rustfern.sources.interface import OnProblem, Source

if TYPE_CHECKING:
    from rustfern.output.temporary import Scratch

_CHUNK_BYTES = 1 << 20
NOTHING_DELETED: tuple[frozenset[str], list[str]] = frozenset(), []


class NothingDeleted:
    """A source of which nothing tells what was deleted."""

    root: str

    @property
    def tops(self) -> tuple[str, ...]:
        """The root itself."""
        return (self.root,)

    def traces(self, tops: Sequence[str], wanted: Callable[[str], bool]) -> Iterator[tuple[str, Trace]]:
        """Nothing."""
        return iter(())

    def differing(self, folder: str, names: list[str], living: str) -> list[str]:
        """All: looking at each costs no more later."""
        return names

    def behind(self, entry: Entry) -> bytes:
        """Nothing: the system does not tell."""
        return b""

    def deleted_in(self, folder: str) -> tuple[frozenset[str], list[str]]:
        """Nothing: no records are kept of it."""
        return NOTHING_DELETED


class Listed:
    """A source whose folders are listed without asking the system; `medium` is what it lies in, as people are told."""

    medium = ""

    def list_folder(
        self, folder: str, is_top: bool, on_problem: OnProblem, on_error: Callable[[OSError, str], None] | None = None
    ) -> tuple[list[str], list[str]] | None:
        """As `Source.list_folder`."""
        raise SourceError("this folder could not be listed", folder)

    def walk(self, top: str, on_problem: OnProblem) -> Iterator[tuple[str, list[str], list[str]]]:
        """As `Source.walk`."""
        stack = [top]
        while stack:
            folder = stack.pop()
            found = self.list_folder(folder, folder == top, on_problem)
            if found is not None:
                yield folder, *found
                stack += [os.path.join(folder, name) for name in found[0]]

    def names(self, folder: str) -> tuple[list[str], list[str]]:
        """As `Source.names`."""
        found = self.list_folder(folder, False, lambda path, message: None)
        if found is None:
            raise SourceError(f"this folder could not be listed (there is none in {self.medium})", folder)
        return sorted(found[0]), sorted(found[1])


@contextmanager
def materialised(source: Source, entry: Entry, scratch: Scratch) -> Iterator[Path]:
    """A copy of an entry in a private folder, as `Source.materialise`."""
    import shutil

    with scratch.private_folder() as folder, source.open(entry) as stream:
        target = folder / "copy"
        with target.open("wb") as out:
            shutil.copyfileobj(stream, out, _CHUNK_BYTES)
        yield target
