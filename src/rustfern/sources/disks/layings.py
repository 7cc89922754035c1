"""How a deleted file lay, where its record tells only where it began: the check of its own format decides."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.formats.interface import Limits
from rustfern.sources.disks.interface import Stored

if TYPE_CHECKING:
    from rustfern.sources.disks.disk import FileSystem

_MAX_TRIED, _MAX_BYTES = 40, 256 << 20
_OWN_SHAPE = (b"PK\x03\x04", b"%PDF", b"{\\rtf")


def likeliest(system: FileSystem, key: int, name: str, limits: Limits) -> Stored:
    """The way in which the bytes of a deleted file lay: the first that passes its format's check, else the first of all."""
    ways = system.ways(key)
    first = ways[0]
    if len(ways) == 1 or not 0 < first.size <= _MAX_BYTES or not _may_tell(name):
        return first
    if _passes(system, key, first, name, limits):
        return first
    for way in ways[1:_MAX_TRIED]:
        if _has_own_shape(system, key, way) and _passes(system, key, way, name, limits):
            return way
    return first


def _may_tell(name: str) -> bool:
    return format_of_extension(extension_of(os.path.basename(name))) is not None


def _has_own_shape(system: FileSystem, key: int, way: Stored) -> bool:
    """Whether the bytes are no plain text: text that was put together wrongly reads as well as any other."""
    try:
        with system.open(key, way) as stream:
            head = stream.read(4096)
    except (Malformed, SourceError, OSError, ValueError):
        return False
    return b"\0" in head or head.startswith(_OWN_SHAPE)


def _passes(system: FileSystem, key: int, way: Stored, name: str, limits: Limits) -> bool:
    try:
        with system.open(key, way) as stream:
            found = formats.check(stream, name, limits=limits, digest=False, counted=False)
    except (Malformed, SourceError, OSError, ValueError, LookupError, ArithmeticError, RecursionError, MemoryError):
        return False
    return found.state is State.INTACT

