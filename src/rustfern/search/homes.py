"""Which people's homes are in what is searched, and how each is laid out."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence

from rustfern.core.errors import SourceError
from rustfern.core.model import Home, Layout
from rustfern.sources.interface import OnProblem, Source

_PARENTS = {"users": None, "home": Layout.LINUX, "documents and settings": Layout.WINDOWS}
_NOT_PEOPLE = frozenset(
    {"public", "default", "default user", "all users", "shared", "guest", "lost+found", "localservice", "networkservice",
     "defaultapppool"}
)  # fmt: skip
_OLD_WINDOWS = frozenset(
    {"application data", "anwendungsdaten", "datos de programa", "dati applicazioni", "données d'applications"}
)
_MAX_DEPTH = 4
_MAX_FOLDERS = 2_000
_LINUX_SIGNS = frozenset({".config", ".local", ".bashrc", ".profile", ".cache", ".bash_history", ".mozilla", ".ssh"})


def layout_of(folders: Iterable[str], files: Iterable[str]) -> Layout | None:
    """The layout that the things directly in a home show, None if it is no home."""
    low = {name.casefold() for name in folders}
    if "appdata" in low or low & _OLD_WINDOWS or "ntuser.dat" in map(str.casefold, files):
        return Layout.WINDOWS
    if "library" in low and low & {"documents", "desktop", "downloads", ".trash", "movies", "pictures"}:
        return Layout.MACOS
    if _LINUX_SIGNS & {*folders, *files}:
        return Layout.LINUX
    return None


def _volume_layout(folders: Iterable[str]) -> Layout | None:
    low = {name.casefold() for name in folders}
    if low & {"windows", "$recycle.bin", "program files", "system volume information"}:
        return Layout.WINDOWS
    if low & {"system", "private", "applications", ".documentrevisions-v100"}:
        return Layout.MACOS
    return None


def is_of_people(folders: Sequence[str], files: Sequence[str]) -> bool:
    """Whether what is in a folder shows that it is a home, or holds homes."""
    return layout_of(folders, files) is not None or any(name.casefold() in _PARENTS for name in folders)


def find_homes(source: Source, on_problem: OnProblem) -> list[Home]:
    """The homes in a root that is a home, a `Users` or `home` folder, a whole disk, or any folder (four levels deep); on a disk, in each of
    its volumes.
    """
    return [home for top in source.tops for home in _homes_in(source, top, on_problem)]


def _homes_in(source: Source, root: str, on_problem: OnProblem) -> list[Home]:
    try:
        folders, files = source.names(root)
    except SourceError as error:
        on_problem(root, str(error.what))
        return []
    base = os.path.basename(os.path.normpath(root))
    if base.casefold() in _PARENTS:
        return _people(source, root, os.path.dirname(os.path.normpath(root)) or None, on_problem, inside=False)
    layout = layout_of(folders, files)
    if layout and not any(name.casefold() in _PARENTS for name in folders):
        return [Home(root, layout, base, None, source.root)]
    return _below(source, root, folders, on_problem)


def _below(source: Source, root: str, folders: list[str], on_problem: OnProblem) -> list[Home]:
    homes: list[Home] = []
    level = [(root, folders)]
    visited = 0
    for _ in range(_MAX_DEPTH):
        next_step: list[tuple[str, list[str]]] = []
        for folder, names in level:
            for name in names:
                path = os.path.join(folder, name)
                if name.casefold() in _PARENTS:
                    homes += _people(source, path, folder, on_problem, inside=True)
                elif name == "root" and "etc" in names:
                    homes.append(Home(path, Layout.LINUX, "root", folder, source.root))
                elif not name.startswith(".") and visited < _MAX_FOLDERS:
                    visited += 1
                    try:
                        below, files = source.names(path)
                    except SourceError:
                        continue  # the walk lists it under problems
                    layout = layout_of(below, files)
                    if layout and not any(n.casefold() in _PARENTS for n in below):
                        homes.append(Home(path, layout, name, None, source.root))
                    else:
                        next_step.append((path, below))
        if homes:
            break
        level = next_step
    return sorted(homes, key=lambda home: home.path)


def _people(source: Source, parent: str, volume: str | None, on_problem: OnProblem, *, inside: bool) -> list[Home]:
    try:
        folders, _ = source.names(parent)
        around = source.names(volume)[0] if volume and inside else []
    except SourceError as error:
        on_problem(parent, error.what)
        return []
    fixed = _PARENTS[os.path.basename(parent).casefold()] or _volume_layout(around)
    homes: list[tuple[str, str, Layout | None]] = []
    for name in folders:
        if name.casefold() in _NOT_PEOPLE or (name.startswith(".") and fixed is not Layout.LINUX):
            continue
        path = os.path.join(parent, name)
        try:
            layout = layout_of(*source.names(path))
        except SourceError as error:
            on_problem(path, f"this person's folder cannot be read, so nothing in it was searched: {error.what}")
            homes.append((name, path, None))
            continue
        homes.append((name, path, layout))
    known = [layout for _, _, layout in homes if layout]
    users = os.path.basename(parent).casefold() == "users"
    fallback = fixed or (known[0] if known else Layout.WINDOWS if users else Layout.LINUX)
    # Volume-relative paths only make sense inside what is searched.
    inner = volume if inside else None
    return [Home(path, layout or fallback, name, inner, source.root) for name, path, layout in homes]


def own_home() -> Home:
    """The home of the person who runs this, on the live machine."""
    path = os.path.expanduser("~")
    layout = {"win32": Layout.WINDOWS, "darwin": Layout.MACOS}.get(sys.platform, Layout.LINUX)
    drive = os.path.splitdrive(path)[0]
    return Home(path, layout, os.path.basename(path) or path, drive + os.sep, path)


def is_temporary_profile(home: Home) -> bool:
    """Whether a home is one that Windows makes when it cannot load the person's own: `TEMP`, `TEMP.MACHINE`."""
    name = os.path.basename(os.path.normpath(home.path)).casefold()
    return home.layout is Layout.WINDOWS and (name == "temp" or name.startswith("temp."))
