"""One document that was found by its content: where it lies, what it is, how much of it is there."""

from __future__ import annotations

import msgspec

from rustfern.core.model import Content, State
from rustfern.sources.disks.interface import Extent


class RawFind(msgspec.Struct, frozen=True):
    """A document without a record. `offset` is where its first byte lies and `extents` where all lie, in content order (bytes from the start of
    the disk); `name` a file name that helps the check; `missing` says what is not there of one that stops before its end;
    `is_clutter`: it is no document, and only its place matters; `first` are its first words.
    """

    offset: int
    extents: tuple[Extent, ...]
    name: str
    content: Content
    missing: str = ""
    is_clutter: bool = False
    first: str = ""

    @property
    def size(self) -> int:
        """Bytes in all."""
        return sum(length for _, length in self.extents)

    @property
    def is_whole(self) -> bool:
        """Whether its structure reaches its end and its check found nothing wrong."""
        return not self.missing and self.content.state is not State.DAMAGED
