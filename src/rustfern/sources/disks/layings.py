"""How a deleted file lay, where its record tells only where it began: the check of its own format decides."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from msgspec.structs import replace

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.formats.interface import Limits
from rustfern.sources.disks.interface import Stored

if TYPE_CHECKING:
    from rustfern.sources.disks.disk import FileSystem

_MAX_TRIED, _MAX_BYTES = 40, 256 << 20
_SUMMED = (b"PK\x03\x04", b"\x89PNG", b"\xff\xd8\xff", b"7z\xbc\xaf", b"fLaC", b"\x1f\x8b", b"\xfd7zXZ")
"""Beginnings of formats of which every part has a sum, or is coded so that other bytes would show."""
_OWN_SHAPE = (b"PK\x03\x04", b"%PDF", b"{\\rtf")


def likeliest(system: FileSystem, key: int, name: str, limits: Limits) -> Stored:
    """The way in which the bytes of a deleted file lay: the first that passes its format's check, else the first of all."""
    ways = system.ways(key)
    first = ways[0]
    if not any(way.guessed for way in ways) or not 0 < first.size <= _MAX_BYTES or not may_tell(name):
        return first
    for way in ways[:_MAX_TRIED]:
        if (way is first or _has_own_shape(system, key, way)) and _passes(system, key, way, name, limits):
            return replace(way, verified=_has_own_shape(system, key, way))
    return first


def may_tell(name: str) -> bool:
    """Whether a file's format can say how it lay."""
    return format_of_extension(extension_of(os.path.basename(name))) is not None


def _has_own_shape(system: FileSystem, key: int, way: Stored) -> bool:
    """Whether the bytes are no plain text: text that was put together wrongly reads as well as any other."""
    try:
        with system.open(key, way) as stream:
            head = stream.read(4096)
    except (Malformed, SourceError, OSError, ValueError):
        return False
    return b"\0" in head or head.startswith(_OWN_SHAPE)


def proves_itself(system: FileSystem, key: int, stored: Stored, name: str, limits: Limits) -> bool:
    """Whether sums, or a code that nothing foreign fits into, show that a file's bytes are all its own."""
    if not 0 < stored.size <= _MAX_BYTES or not may_tell(name):
        return False
    try:
        with system.open(key, stored) as stream:
            summed = stream.read(8).startswith(_SUMMED)
    except (Malformed, SourceError, OSError, ValueError):
        return False
    return summed and _passes(system, key, stored, name, limits)


def _passes(system: FileSystem, key: int, way: Stored, name: str, limits: Limits) -> bool:
    try:
        with system.open(key, way) as stream:
            found = formats.check(stream, name, limits=limits, digest=False, counted=False)
    except (Malformed, SourceError, OSError, ValueError, LookupError, ArithmeticError, RecursionError, MemoryError):
        return False
    return found.state is State.INTACT
