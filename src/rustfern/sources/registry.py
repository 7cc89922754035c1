"""The one door to what is searched: the source that a path names, whatever it is."""

from __future__ import annotations

import os
import stat
import weakref
from typing import TYPE_CHECKING

from rustfern.core.errors import SourceError, WrongUsage, explain
from rustfern.core.model import Entry
from rustfern.core.paths import inside, show_name
from rustfern.formats.format_table import extension_of, format_of_extension
from rustfern.sources.folder import FolderSource
from rustfern.sources.interface import Source

if TYPE_CHECKING:
    from rustfern.sources.archives import Archive, ArchiveSource

_HEAD_BYTES = 512
_ARCHIVES = frozenset({"zip", "tar", "gz", "bz2", "xz", "7z"})
_open: weakref.WeakValueDictionary[str, ArchiveSource] = weakref.WeakValueDictionary()
"""Archives that are open in this process, by their roots: reading the index of one again and again would read all of it."""
_lately: list[ArchiveSource] = []
_MAX_HELD = 4
"""Archives that stay open a while longer than anybody works with them."""


def open_source(root: str) -> Source:
    """The source that a root names: a folder, an archive, or a folder in one. Raises `SourceError` for an archive that cannot be read."""
    source = _open.get(root)
    if source is not None and source.is_current():
        return source
    found = _archive_of(root)
    if found is None:
        return FolderSource(root)
    from rustfern.sources.archives import ArchiveSource

    path, facts = found
    other = next((each for each in list(_open.values()) if each.archive.path == path and each.is_current()), None)
    source = ArchiveSource(root, other.archive if other is not None else _opened(path, facts))
    _open[root] = source
    _lately[:] = [*_lately[1 - _MAX_HELD :], source]
    return source


def _opened(path: str, facts: os.stat_result) -> Archive:
    from rustfern.sources.archives import Archive, looks_like_archive

    folder = FolderSource(os.path.dirname(path))
    stamp = facts.st_mtime_ns, facts.st_size
    archive = Archive(folder.open(folder.entry(path)), path, stamp)
    top = archive.members[""].names
    inner = next(iter(top), "")
    if len(top) == 1 and archive.members[inner].kind == "file":
        # A home packed in an archive in another one: what it holds stands for it.
        with archive.open(inner) as stream:
            head = stream.read(_HEAD_BYTES)
        if looks_like_archive(head) and is_packed_home(inner):
            return Archive(archive.open(inner), path, stamp)
    return archive


def _archive_of(path: str) -> tuple[str, os.stat_result] | None:
    """The archive that a path is, or lies in; None if it is a folder or there is none."""
    while True:
        try:
            facts = os.stat(path)
        except (NotADirectoryError, FileNotFoundError):
            above = os.path.dirname(path)
            if above == path:
                return None
            path = above
            continue
        except (OSError, ValueError):
            return None
        if not stat.S_ISREG(facts.st_mode):
            return None
        return (path, facts) if is_archive(path) else None


def is_packed_home(name: str) -> bool:
    """Whether a file's name allows for an archive of files: it is not that of a document that is packed alike."""
    known = format_of_extension(extension_of(name))
    return known is None or known in _ARCHIVES


def is_archive(path: str) -> bool:
    """Whether a file is an archive that can be searched."""
    from rustfern.sources.archives import looks_like_archive

    folder = FolderSource(os.path.dirname(path))
    try:
        with folder.open(folder.entry(path)) as stream:
            return is_packed_home(os.path.basename(path)) and looks_like_archive(stream.read(_HEAD_BYTES))
    except (SourceError, OSError):
        return False


def source_of(entry: Entry) -> Source:
    """The source that an entry belongs to."""
    return open_source(entry.root)


def around(path: str) -> Source:
    """The source that a path lies in, when nothing else tells: its own folder, or the archive that it is in."""
    for held in list(_open.values()):
        if inside(path, held.root):
            return held
    found = _archive_of(os.path.dirname(path))
    return open_source(found[0]) if found else FolderSource(os.path.dirname(path))


def on_disk(path: str) -> bool:
    """Whether there is anything at this path outside of archives."""
    return os.path.lexists(path)


def check_root(root: str) -> str:
    """A root in absolute form: a folder, an archive, or a folder in one.

    Raises `WrongUsage` if it does not exist or is neither, `SourceError` if it cannot be read.
    """
    if not root:
        raise WrongUsage("what is searched was given as nothing", None, "Name a folder, an archive or an attached disk")
    path = os.path.abspath(root)
    try:
        mode = os.stat(path).st_mode
    except (FileNotFoundError, NotADirectoryError) as error:
        if open_source(path).is_folder(path):
            return os.path.realpath(path)
        raise WrongUsage(
            "there is nothing at this path", path, "Name the folder, the archive or the attached disk to search"
        ) from error
    except (OSError, ValueError) as error:
        what = explain(error) if isinstance(error, OSError) else str(error)
        raise SourceError(
            f"this cannot be read ({what})", path, "Ask for the right to read it, or attach a copy"
        ) from error
    real = os.path.realpath(path)
    if not stat.S_ISDIR(mode):
        if stat.S_ISREG(mode) and is_archive(real):
            open_source(real)
            return real
        raise WrongUsage(
            "this is a file; a folder or an archive is searched",
            path,
            f"Try its folder: {show_name(os.path.dirname(path))}",
        )
    try:
        with os.scandir(path):
            pass
    except OSError as error:
        raise SourceError(
            f"this folder cannot be listed ({explain(error)})", path, "Ask for the right to read it"
        ) from error
    return real


def exists(path: str) -> bool:
    """Whether there is anything at this path, a dangling link included; on a disk or in an archive that is open."""
    if os.path.lexists(path):
        return True
    return any(held.exists(path) for held in list(_open.values()) if inside(path, held.root))


def is_file(path: str) -> bool:
    """Whether this is a regular file, or a link to one; on a disk or in an archive."""
    if os.path.isfile(path):
        return True
    source = around(os.path.abspath(path))
    try:
        return not isinstance(source, FolderSource) and source.entry(os.path.abspath(path)).is_file
    except SourceError:
        return False


def is_folder(path: str) -> bool | None:
    """Whether this is a folder and no link to one; None if we are not allowed to know."""
    for held in list(_open.values()):
        if inside(path, held.root):
            return held.is_folder(path)
    return FolderSource.is_folder_here(path)
