"""What a format module offers: `score` to identify, `glance` for a few KB, `check` to the end in one pass."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, BinaryIO, Protocol

import msgspec

from rustfern.core.model import Glance, State
from rustfern.output.temporary import Scratch

if TYPE_CHECKING:
    from rustfern.formats.text_sink import TextSink


class Limits(msgspec.Struct, frozen=True):
    """Bounds on what a hostile file may cost: bytes after unpacking, members, ratio (of what unpacks to more than
    `large` bytes); and where libraries that need a file get a private copy."""

    unpacked: int = 4 << 30
    members: int = 200_000
    ratio: int = 200
    large: int = 64 << 20
    scratch: Scratch = msgspec.field(default_factory=Scratch)

    def too_much(self, unpacked: int, packed: int) -> bool:
        """Whether so many packed bytes may not unpack to so many."""
        return unpacked > self.unpacked or (unpacked > self.large and unpacked > self.ratio * max(packed, 1))


DEFAULT_LIMITS = Limits()


class Reading(msgspec.Struct, frozen=True):
    """The verdict of one format module on one stream."""

    glance: Glance
    state: State
    reason: str
    amounts: Mapping[str, int] = msgspec.field(default_factory=dict)
    has_text: bool = True


class Format(Protocol):
    """One format family. Streams are seekable and binary; `size` is their length in bytes."""

    def score(self, head: bytes, tail: bytes) -> float:
        """How sure the first 4 KiB (and last bytes) make it that this is the family: 0 to 1."""

    def glance(self, stream: BinaryIO, size: int, name: str) -> Glance:
        """Format and identity from a few KB. Raises `Malformed` only."""

    def check(self, stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
        """Read to the end: the state, and the text into `sink`. Raises `Malformed` only."""
