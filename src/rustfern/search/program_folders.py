"""Which folders belong to programs, and which names in them are of their own making."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from functools import lru_cache

from rustfern.catalogue.words import SAVED
from rustfern.search.neighbours import tells_of_copies

_OF_PROGRAMS = frozenset({"appdata", "library", "application data", "local settings", "snap"})
_NOISE = re.compile(
    r"(?i)cache|cookies|thumbnail|node_modules|site-packages|icons|themes|fonts|extensions|plugins|addons|index-?dir|service worker|indexeddb"
    r"|leveldb|crashpad|telemetry|gpu|blob_storage|dictionar|templates|\.git\Z|\.cargo|\.rustup|\.npm|\.m2|\.gradle|\.nuget|\.pyenv|\.venv|locale|help"
    r"|trash|keyrings|fontconfig|metadata"
)
"""Names of folders that programs fill for themselves, with nothing of a person's in them."""
_TEMPORARY = re.compile(r"/(?:tmp|temp|TMP|Temp|TEMP|TemporaryItems|var/folders/[^/]+/[^/]+/T)(?:/[^/]*+){0,3}+\Z")
"""Folders of temporary files, and what lies not far below (the longest is that of macOS: one for each person)."""
_DRAFTS = re.compile("|".join(f"(?<![^\\W\\d_]){word}" for word in (*SAVED, "untitled")))
_OF_DRAFTS = frozenset(
    {"txt", "md", "text", "tmp", "draft", "bak", "rtf", "html", "odt", "docx", "eml", "autosave", "save", "dat"}
)
_MADE_UP = re.compile(
    r"[{]?[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}[}]?|[0-9a-fA-F]{16,64}|(?:[a-z]+[-_])?\d{1,20}|(?=.*\d)[A-Za-z0-9_-]{12,64}"
)
_MANY_SUMS = 40
_STORED = re.compile(r"(?:[0-9a-fA-F]{6,31}+(?:[._-]\w{1,10}+)?+(?:/|$))++")
_MANY, _MANY_COPIES = 3_000, 250_000


@lru_cache(5_000)
def _is_noise(name: str) -> bool:
    return _NOISE.search(name) is not None


@lru_cache(16)
def _above(homes: tuple[str, ...]) -> list[tuple[str, frozenset[str]]]:
    """Homes by what stands before their names: there are many homes, but few folders that hold them."""
    found: dict[str, set[str]] = {}
    for home in homes:
        name = home.replace("\\", "/").rpartition("/")[2]
        found.setdefault(home[: len(home) - len(name)], set()).add(name)
    return [(above, frozenset(names)) for above, names in found.items()]


def is_of_programs(folder: str, homes: Sequence[str]) -> bool:
    """Whether a folder lies where programs keep their own things: hidden ones of a home, application data, temporary folders."""
    for above, names in _above(tuple(homes)):
        if folder.startswith(above):
            name, sep, inner = folder[len(above) :].replace("\\", "/").partition("/")
            if sep and name in names:
                first = inner.partition("/")[0]
                hidden = first.startswith(".") and not first.startswith(".Trash")
                if not hidden and first.casefold() not in _OF_PROGRAMS:
                    return False
                return not any(map(_is_noise, inner.removeprefix(".cache").split("/")))
    return is_temporary(folder) and not any(map(_is_noise, folder.replace("\\", "/").rsplit("/", 2)[-2:]))


def is_temporary(folder: str) -> bool:
    """Whether a folder is one of temporary files, or lies not far below one."""
    return _TEMPORARY.search(folder.replace("\\", "/")) is not None


def is_worth_it(folder: str, names: Sequence[str]) -> bool:
    """Whether the names in a folder of a program may tell something: not those of a store that it fills for itself, which is large, or has
    names of its own making alone. One whose name says that it is for copies always may.
    """
    if len(names) <= _MANY_SUMS or (tells_of_copies(os.path.basename(folder)) and len(names) <= _MANY_COPIES):
        return True
    return len(names) <= _MANY and _STORED.fullmatch("/".join(names)) is None


def holds_drafts(folder: str) -> bool:
    """Whether a folder of a program says that it keeps what was not saved yet."""
    return _DRAFTS.search(os.path.basename(folder).casefold()) is not None


def is_of_draft(name: str) -> bool:
    """Whether a name is one that programs make up for a draft: numbers, random letters, with the ending of a text or none."""
    _, dot, ending = name.rpartition(".")
    return (not dot or ending.casefold() in _OF_DRAFTS) and is_made_up(name)


def is_made_up(name: str) -> bool:
    """Whether a name, but for its ending, is one that no person gives: numbers, random letters."""
    return _MADE_UP.fullmatch(name.rpartition(".")[0] or name) is not None
