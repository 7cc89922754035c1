"""The folder that `rustfern keep` writes: a manifest beside copies of files, which a scan takes in place of the original root."""

from __future__ import annotations

import errno
import json
import os
import stat
from collections.abc import Iterator
from typing import Any

import msgspec

from rustfern.core.errors import WrongUsage, explain
from rustfern.core.model import Home, Layout
from rustfern.core.paths import show_name
from rustfern.output.atomic import open_own
from rustfern.output.temporary import is_ours

MANIFEST = "rustfern-kept.jsonl"
FILES = "files"
EARLIER = "earlier"
"""Below it lie versions that an earlier run kept, and that had changed when they were kept again."""
SCHEMA = "rustfern/kept-1"
_MAX_LINE = 1 << 20


class KeptFolder(msgspec.Struct, frozen=True):
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


class KeptFile(msgspec.Struct, frozen=True):
    """One file of a manifest: its path below `files`, size in bytes, time in ns since 1970, SHA-256 (of a link: its target)."""

    path: str
    size: int
    modified_ns: int
    sha256: str
    link: str | None


def lies_in_kept(path: str) -> bool:
    """Whether something lies in a folder that `keep` wrote: evidence, not the person's own disk."""
    folder = os.path.abspath(path)
    while not is_kept(folder):
        above = os.path.dirname(folder)
        if above == folder:
            return False
        folder = above
    return True


def is_kept(folder: str) -> bool:
    """Whether a folder seems to have been written by `rustfern keep`: a manifest lies in it that is a plain file."""
    try:
        facts = os.lstat(os.path.join(folder, MANIFEST))
    except OSError:
        return False
    return stat.S_ISREG(facts.st_mode) and facts.st_nlink == 1 and facts.st_size > 0


def why_not_whole(folder: str) -> str:
    """Why the manifest of a folder is not believed; empty if the folder is as `keep` leaves it.

    A disk can hold a manifest that somebody made: it is believed only of a folder that holds nothing else, in which all that it names is
    there as real files, with no link on the way.
    """
    others = [name for name in os.listdir(folder) if name not in (MANIFEST, FILES, EARLIER) and not is_ours(name)]
    if others:
        return f"other things lie beside it, such as {show_name(sorted(others)[0])}"
    real: set[str] = set()
    try:
        head = read_head(folder)
        for path in (
            *head.roots,
            *(each for home in head.homes for each in (home.path, home.root, home.volume or home.path)),
        ):
            _check_way(folder, path, real)
        for file in read_files(folder):
            path = inner(folder, file.path)
            _check_way(folder, os.path.dirname(path), real)
            facts = os.lstat(path)
            plain = (
                stat.S_ISLNK(facts.st_mode)
                if file.link is not None
                else stat.S_ISREG(facts.st_mode) and facts.st_size == file.size
            )
            if not plain:
                return f"{show_name(file.path)} is not what was kept"
    except WrongUsage as error:
        return error.what
    except (OSError, NotADirectoryError) as error:
        return f"what it names is not there as it was kept ({explain(error) if error.strerror else error})"
    return ""


def _check_way(folder: str, path: str, real: set[str]) -> None:
    """Whether every folder on the way to a path is a real one; those known to be are in `real`. Raises `OSError`."""
    while path not in real and len(path) > len(folder):
        if not stat.S_ISDIR(os.lstat(path).st_mode):
            raise NotADirectoryError(errno.ENOTDIR, "a folder is a link", path)
        real.add(path)
        path = os.path.dirname(path)


def inner_parts(folder: str, relative: str) -> list[str]:
    """The parts of a path of a manifest below its files. Raises `WrongUsage` if it climbs out."""
    parts = [part for part in relative.replace(os.sep, "/").split("/") if part not in ("", ".")]
    if ".." in parts or os.path.isabs(relative) or any("\0" in part for part in parts):
        raise WrongUsage(
            "the manifest of this kept folder names a path outside of it", folder, "Keep again into another folder"
        )
    return parts


def inner(folder: str, relative: str) -> str:
    """A path of a manifest below its files. Raises `WrongUsage` if it climbs out."""
    return os.path.join(folder, FILES, *inner_parts(folder, relative))


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
    handle = open_own(os.path.join(folder, MANIFEST), os.O_RDONLY)
    with os.fdopen(handle, encoding="utf-8", errors="surrogateescape") as source:
        while line := source.readline(_MAX_LINE):
            if line.isspace():
                continue
            try:
                yield json.loads(line)
            except (ValueError, RecursionError):
                continue
