"""Healthy files by the same hand, which tell how a damaged one must be read: the one that was named, or recordings beside it."""

from __future__ import annotations

import contextlib
import os
from typing import BinaryIO

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Entry
from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.repair.interface import MAX_HELD_BYTES, Other
from rustfern.repair.recordings.layout import is_movie, tables_in
from rustfern.repair.recordings.tables import tracks_of
from rustfern.sources.registry import Sources

_MOST_NAMES, _MOST_BESIDE = 2000, 12
"""Recordings beside a damaged one that are looked at."""
_HEAD = 1 << 20
_BEGINNINGS, _BEGINNING = 8, 64
_RECORDINGS = ("video", "audio")


def is_recording(name: str, format_name: str | None) -> bool:
    """Whether this is one, by what it was taken for, else by its name."""
    return class_of(format_name or format_of_extension(extension_of(name))) in _RECORDINGS


def sample_in(stream: BinaryIO, name: str, *, asked: bool = True, most: int = MAX_HELD_BYTES) -> Other:
    """A healthy sample: of a recording in boxes only its tables, which tell all that is asked of it."""
    head = stream.read(4096)
    tables = is_movie(head) and tables_in(stream, stream.seek(0, os.SEEK_END))
    stream.seek(0)
    return Other(tables or stream.read(most), name, asked, True, _beginnings(stream, tables) if tables else ())


def _beginnings(stream: BinaryIO, tables: bytes) -> tuple[tuple[int, bytes], ...]:
    """(bytes, the first of them) of some pictures of a recording, for codings that only this tells."""
    at = tables.find(b"moov")
    for track in tracks_of(tables[at + 4 :]) if at >= 0 else ():
        if track.kind == b"vide" and len(track.places) > _BEGINNINGS:
            found = []
            for number in range(0, len(track.places), len(track.places) // _BEGINNINGS):
                stream.seek(track.places[number])
                found.append((track.sizes[number], stream.read(_BEGINNING)))
            return tuple(found)
    return ()


def beside(door: Sources, entry: Entry, name: str) -> list[Other]:
    """The person's other recordings in the folder of a damaged one, the likeliest first: of the same ending, then near in time."""
    folder, mine = os.path.dirname(entry.path), extension_of(name)
    found: list[Other] = []
    with contextlib.suppress(SourceError, OSError):
        source = door.open(entry.root)
        names = [each for each in sorted(source.names(folder)[1])[:_MOST_NAMES] if is_recording(each, None)]
        entries = [source.entry(os.path.join(folder, each)) for each in names]
        near = sorted(
            (each for each in entries if each.is_file and each.link_target is None and each.path != entry.path),
            key=lambda each: (extension_of(each.path) != mine, _apart(each, entry)),
        )
        for each in near[:_MOST_BESIDE]:
            with contextlib.suppress(SourceError, OSError, Malformed), source.open(each) as stream:
                found.append(sample_in(stream, os.path.basename(each.path), asked=False, most=_HEAD))
    return found


def _apart(one: Entry, other: Entry) -> float:
    if one.modified is None or other.modified is None:
        return 0.0
    return abs((one.modified - other.modified).total_seconds())
