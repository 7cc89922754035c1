"""A sum over what a root holds, by which it is known again under another name: names, sizes and times, the ones near its top first; of an image its ends."""

from __future__ import annotations

import hashlib
import os
from collections import deque
from contextlib import suppress

from rustfern.core.errors import SourceError
from rustfern.sources.folder import FolderSource

_MOST_NAMES, _END_BYTES = 20_000, 64 << 10


def fingerprint(root: str) -> str:
    """The sum of a folder or a file on this machine (hexadecimal, 32 digits); empty where nothing can be seen of it."""
    if os.path.isdir(root):
        return _of_folder(root)
    source = FolderSource(os.path.dirname(root))
    try:
        entry = source.entry(root)
        told = hashlib.sha256(f"{entry.size} {entry.modified_ns}".encode())
        with source.open(entry) as stream:
            told.update(stream.read(_END_BYTES))
            stream.seek(max(0, entry.size - _END_BYTES))
            told.update(stream.read(_END_BYTES))
    except (SourceError, OSError):
        return ""
    return told.hexdigest()[:32]


def _of_folder(root: str) -> str:
    told, count = hashlib.sha256(), 0
    waiting = deque([""])
    while waiting and count < _MOST_NAMES:
        inner = waiting.popleft()
        with suppress(OSError), os.scandir(os.path.join(root, inner)) as entries:
            for entry in sorted(entries, key=lambda each: each.name):
                count += 1
                path = os.path.join(inner, entry.name)
                with suppress(OSError):
                    facts, is_folder = entry.stat(follow_symlinks=False), entry.is_dir(follow_symlinks=False)
                    size = 0 if is_folder else facts.st_size
                    told.update(os.fsencode(path) + f" {size} {facts.st_mtime_ns}\n".encode())
                    if is_folder:
                        waiting.append(path)
    return told.hexdigest()[:32] if count else ""
