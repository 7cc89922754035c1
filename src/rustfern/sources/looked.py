"""What a search looked at in folders of this machine, as it was then: a later one tells by it whether anything is different now."""

from __future__ import annotations

import os
from collections.abc import Iterable
from hashlib import blake2b

Stamp = tuple[int, int, int, int, int, int]
"""What changes with a thing: its kind and rights, bytes, times of its content and of anything about it (ns), device, number."""


class Looked:
    """Things by their paths (None: there was nothing), and the names in folders by a sum of them (None: it could not be listed)."""

    def __init__(self) -> None:
        self.things: dict[str, Stamp | None] = {}
        self.folders: dict[str, int | None] = {}
        self.is_sure = True
        """Whether all was seen, and nothing changed while it was."""

    def thing(self, path: str, facts: os.stat_result | None) -> None:
        """Note what is at a path."""
        stamp = stamp_of(facts) if facts is not None else None
        if self.things.setdefault(path, stamp) != stamp:
            self.is_sure = False

    def ask(self, path: str) -> bool:
        """Look at a path; whether anything is there."""
        facts = _look(path)
        self.thing(path, facts)
        return facts is not None

    def names(self, folder: str, names: Iterable[str] | None) -> None:
        """Note the names in a folder."""
        told = sum_of(names) if names is not None else None
        if self.folders.setdefault(folder, told) != told:
            self.is_sure = False

    def is_still(self, before: int) -> bool:
        """Whether nothing of it was changed since a time (ns since 1970), nor is different now."""
        return self.is_sure and all(
            (now := stamp_now(path)) == stamp and (now is None or max(now[2], now[3]) < before)
            for path, stamp in self.things.items()
        )


def _look(path: str) -> os.stat_result | None:
    try:
        return os.lstat(path)
    except (OSError, ValueError):
        return None


def stamp_of(facts: os.stat_result) -> Stamp:
    """What changes with a thing."""
    return facts.st_mode, facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns, facts.st_dev, facts.st_ino


def stamp_now(path: str) -> Stamp | None:
    """The same of what is at a path; None where nothing is."""
    facts = _look(path)
    return stamp_of(facts) if facts is not None else None


def sum_of(names: Iterable[str]) -> int:
    """A sum of names, whatever their order."""
    return int.from_bytes(blake2b(os.fsencode("\0".join(sorted(names))), digest_size=8).digest(), "big")
