"""Folder patterns of the catalogue and what names of files and folders tell: nothing here is read but lists of names."""

from __future__ import annotations

import fnmatch
import os
import re
from collections.abc import Iterable, Sequence

from rustfern.core.model import Layout
from rustfern.core.paths import inside
from rustfern.search.recorded_paths import take_apart
from rustfern.sources.interface import Source

TEMPORARY = "$temp"
"""Stands in the catalogue for the temporary folder, wherever it is."""
TEMPORARY_OF_HOME = {
    Layout.WINDOWS: ("AppData/Local/Temp", "Local Settings/Temp"),
    Layout.MACOS: ("Library/Caches/TemporaryItems",),
    Layout.LINUX: ("tmp", ".tmp"),
}
TEMPORARY_OF_VOLUME = {
    Layout.WINDOWS: ("Windows/Temp", "Temp", "tmp"),
    Layout.MACOS: ("private/var/folders/*/*/T", "var/folders/*/*/T", "private/tmp", "tmp"),
    Layout.LINUX: ("tmp", "var/tmp"),
}

_NEUTRAL = frozenset(
    {
        "tmp",
        "temp",
        "bak",
        "old",
        "dat",
        "data",
        "bin",
        "chk",
        "rec",
        "sav",
        "save",
        "file",
        "orig",
        "copy",
        "new",
        "unknown",
        "lost",
        "part",
    }
)
_SYSTEM = frozenset(
    {"usr", "bin", "sbin", "lib", "lib32", "lib64", "boot", "opt", "windows", "program files", "program files (x86)", "programdata",
     "system", "library", "applications", "node_modules", "site-packages", "dist-packages", "bower_components", ".git", ".cache", "caches", "cache", "__pycache__", "$windows.~bt"}
)  # fmt: skip


def is_uninformative_name(name: str) -> bool:
    """Whether a file name tells nothing of what is in it: no extension, a neutral one, or digits."""
    stem, dot, extension = name.rpartition(".")
    return not (dot and stem) or extension.casefold() in _NEUTRAL or extension.isdigit()


def is_system(folder: str, sources: Sequence[Source]) -> bool:
    """Whether a folder belongs to the system or to programs, not to people."""
    root = next((source.root for source in sources if inside(folder, source.root)), "")
    return not _SYSTEM.isdisjoint(part.casefold() for part in os.path.relpath(folder, root).split(os.sep))


def is_glob(pattern: str) -> bool:
    return "*" in pattern or "?" in pattern


class Names:
    """Names that many patterns are held against."""

    def __init__(self, names: Sequence[str]) -> None:
        self._names = names
        self._folded: str | None = None

    def fitting(self, pattern: str) -> list[str]:
        """The names that a pattern fits, whatever their case. In a large folder, most patterns are told by their plain parts alone."""
        wanted = pattern.casefold()
        if self._folded is None:
            self._folded = "/".join(self._names).casefold()
        if "[" not in wanted and any(part not in self._folded for part in re.split(r"[*?]", wanted)):
            return []
        fits = re.compile(fnmatch.translate(wanted)).match
        return [name for name in self._names if fits(name.casefold())]


def with_temporary(patterns: Iterable[str], folders: Sequence[str]) -> list[str]:
    """Patterns with the temporary folder filled in."""
    out = []
    for pattern in patterns:
        first, _, rest = pattern.partition("/")
        if first != TEMPORARY:
            out.append(pattern)
        else:
            out += [f"{folder}/{rest}".rstrip("/") for folder in folders]
    return out


def unreachable_reason(recorded: str) -> str:
    """Why a recorded folder is not in what is searched: a share, another drive or stick, or simply outside."""
    apart = take_apart(recorded)
    if apart is None:
        return "outside"
    media = len(apart.parts) > 1 and apart.parts[0].casefold() in ("media", "mnt", "run", "volumes")
    if apart.share or apart.web:
        return "offline"
    return "not-mounted" if apart.drive not in ("", "C") or media else "outside"
