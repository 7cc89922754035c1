"""Which volumes of one disk the systems on it know by which drive letter or folder."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import suppress

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Home, Layout
from rustfern.operations.session import Session
from rustfern.search.recorded_paths import RecordedPaths
from rustfern.settings.interface import MAX_BYTES, SettingsFile
from rustfern.settings.readers import mounts
from rustfern.sources.interface import Source

_MAX_TABLE_BYTES = 1 << 20


def note_other_volumes(session: Session, homes: Sequence[Home]) -> None:
    """Have recorded paths of other drives lead to the volumes of the same disk that they are on."""
    door = session.sources
    for volume, layout in dict.fromkeys((home.volume, home.layout) for home in homes if home.volume):
        assert volume is not None
        root = next(home.root for home in homes if home.volume == volume)
        disk = door.disk(root)
        if disk is None:
            continue
        known = {
            ident: os.path.join(disk.path, each.name) for each in disk.disk.volumes.values() for ident in each.idents
        }
        told = _letters if layout is Layout.WINDOWS else _mount_points
        with suppress(SourceError, OSError, Malformed):
            for name, ident in told(session, door.open(root), volume):
                if (folder := known.get(ident)) is not None and folder != volume:
                    door.other_volumes.setdefault(volume, {})[name] = folder


def _letters(session: Session, source: Source, volume: str) -> Iterator[tuple[str, bytes | str]]:
    from rustfern.settings.read import logs
    from rustfern.settings.readers import windows_registry

    paths = RecordedPaths(session.sources, [], [source.root])
    path = paths.join(volume, ["Windows", "System32", "config", "SYSTEM"], any_case=True)
    entry = source.entry(path)
    if entry.is_file and entry.size <= MAX_BYTES:
        with source.open(entry) as stream:
            hive = SettingsFile(stream, entry.size, path, mounts.KEYS, logs(source, path), session.sources.scratch)
            yield from mounts.letters(windows_registry.values(hive))


def _mount_points(session: Session, source: Source, volume: str) -> Iterator[tuple[str, bytes | str]]:
    with source.open(source.entry(os.path.join(volume, "etc", "fstab"))) as stream:
        yield from mounts.mount_points(stream.read(_MAX_TABLE_BYTES).decode("utf-8", "replace"))
