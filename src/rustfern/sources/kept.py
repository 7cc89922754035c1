"""The folder that `rustfern keep` writes: a manifest beside copies of files, which a scan takes in place of the original root."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from rustfern.errors import WrongUsage
from rustfern.model import Home, Layout

MANIFEST = "rustfern-kept.jsonl"
FILES = "files"
EARLIER = "earlier"
"""Below it lie versions that an earlier run kept, and that had changed when they were kept again."""
SCHEMA = "rustfern/kept-1"
_MAX_LINE = 1 << 20


@dataclass(frozen=True, slots=True)
class KeptFolder:
    """What a manifest says: the folders that stand for the roots, the homes in them, from where and when they were taken."""

    folder: str
    roots: tuple[str, ...]
    homes: tuple[Home, ...]
    base: str
    at: str

    @property
    def taken_from(self) -> list[str]:
        """The roots that it was taken from."""
        inner_base = os.path.join(self.folder, FILES)
        return [os.path.normpath(os.path.join(self.base, os.path.relpath(root, inner_base))) for root in self.roots]


@dataclass(frozen=True, slots=True)
class KeptFile:
    """One file of a manifest: its path below `files`, size in bytes, time in ns since 1970, SHA-256 (of a link: its target)."""

    path: str
    size: int
    modified_ns: int
    sha256: str
    link: str | None


def is_kept(folder: str) -> bool:
    """Whether a folder was written by `rustfern keep`."""
    path = os.path.join(folder, MANIFEST)
    return os.path.isfile(path) and os.path.getsize(path) > 0


def inner(folder: str, relative: str) -> str:
    """A path of a manifest below its files. Raises `WrongUsage` if it climbs out."""
    parts = [part for part in relative.replace(os.sep, "/").split("/") if part not in ("", ".")]
    if ".." in parts or os.path.isabs(relative) or any("\0" in part for part in parts):
        raise WrongUsage(
            "the manifest of this kept folder names a path outside of it", folder, "Keep again into another folder"
        )
    return os.path.join(folder, FILES, *parts)


def read_head(folder: str) -> KeptFolder:
    """The first line of a manifest. Raises `WrongUsage` if it is none."""
    try:
        head = next(_lines(folder), None)
        if not isinstance(head, dict) or head.get("schema") != SCHEMA:
            raise ValueError("it has no head")
        homes = tuple(
            Home(
                inner(folder, home["path"]),
                Layout(home["layout"]),
                str(home["person"]),
                inner(folder, home["volume"]) if home["volume"] is not None else None,
                inner(folder, home["root"]),
            )
            for home in head["homes"]
        )
        roots = tuple(inner(folder, root) for root in head["roots"])
        return KeptFolder(folder, roots, homes, str(head["base"]), str(head["at"]))
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise WrongUsage(
            f"the manifest of this kept folder cannot be read ({error})", folder, "Keep again into another folder"
        ) from error


def read_files(folder: str) -> Iterator[KeptFile]:
    """The files of a manifest; a last line that was cut off is passed over."""
    lines = _lines(folder)
    next(lines, None)
    for line in lines:
        try:
            yield KeptFile(
                str(line["path"]), int(line["size"]), int(line["modified_ns"]), str(line["sha256"]), line.get("link")
            )
        except (KeyError, TypeError, ValueError):
            continue


def _lines(folder: str) -> Iterator[Any]:
    with open(os.path.join(folder, MANIFEST), encoding="utf-8", errors="surrogateescape") as source:  # noqa: PTH123
        while line := source.readline(_MAX_LINE):
            if line.isspace():
                continue
            try:
                yield json.loads(line)
            except (ValueError, RecursionError):
                continue
