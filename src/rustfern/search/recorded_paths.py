"""Paths as applications recorded them, translated into what is searched."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache

import msgspec

from rustfern.core.errors import SourceError
from rustfern.core.model import Home, Layout
from rustfern.core.paths import fold_name, inside
from rustfern.sources.registry import Sources

_DRIVE = re.compile(r"/?([A-Za-z])[:|](?:[\\/]|$)")
_PARENTS = frozenset({"users", "home", "documents and settings"})
_SHORT = re.compile(r"([^.~]{1,6})~\d{1,3}(?:\.(.{1,3}))?")
_NOT_SHORT = re.compile(r"[ .]")
_MAX_PARTS = 200


class Recorded(msgspec.Struct, frozen=True):
    """A recorded path taken apart. `drive` is a letter, a server name with `share`, or empty."""

    parts: tuple[str, ...]
    drive: str = ""
    share: bool = False
    web: bool = False


def take_apart(recorded: str) -> Recorded | None:
    """Take `C:\\…`, `\\\\server\\share\\…`, `/…` or `file://…` apart; None if it is nothing of these or climbs."""
    text, share, drive = recorded, False, ""
    lower = text[:8].casefold()
    if lower.startswith("file:"):
        from urllib.parse import unquote_to_bytes

        host, rest = "", text[5:].replace("\\", "/")
        if rest.startswith("//"):
            host, _, rest = rest[2:].partition("/")
            rest = "/" + rest
        text = os.fsdecode(unquote_to_bytes(rest))
        if host and host.casefold() != "localhost":
            share, drive = True, host
    elif re.match(r"[A-Za-z][A-Za-z0-9+.-]+://", text):
        return Recorded((), web=True)
    elif text.startswith(("\\\\", "//")):
        share = True
        drive, _, text = text[2:].replace("\\", "/").partition("/")
    if not share and (found := _DRIVE.match(text)):
        drive, text = found[1].upper(), text[found.end() :]
        text = text.replace("\\", "/")
    elif share:
        text = text.replace("\\", "/")
    elif not text.startswith("/"):
        return None
    parts = tuple(part for part in text.split("/") if part not in ("", "."))
    if ".." in parts or len(parts) > _MAX_PARTS or any("\0" in part for part in parts):
        return None
    return Recorded(parts, drive, share)


def _long_name(short: str, names: Sequence[str]) -> str | None:
    """The one name of a folder that a short name of the 8.3 kind stands for; None if none does, or several could ([MS-FSCC] 2.1.5.2.1)."""
    taken = _SHORT.fullmatch(short)
    if taken is None:
        return None
    fitting = []
    for name in names:
        stem, dot, extension = name.rpartition(".")
        stem, extension = (stem, extension) if dot and stem else (name, "")
        letters = _NOT_SHORT.sub("", stem).upper()
        long = len(letters) > 8 or len(extension) > 3 or letters != stem.upper()
        if (
            long
            and letters[:6].startswith(taken[1].upper())
            and _NOT_SHORT.sub("", extension)[:3].upper() == (taken[2] or "").upper()
        ):
            fitting.append(name)
    return fitting[0] if len(fitting) == 1 else None


@lru_cache(4_096)
def _last(path: str) -> str:
    """The last part of a path, folded."""
    return fold_name(os.path.basename(os.path.normpath(path)))


class RecordedPaths:
    """Finds recorded paths in what is searched: in `homes`, below `roots`."""

    def __init__(self, door: Sources, homes: Sequence[Home], roots: Sequence[str]) -> None:
        self._door, self._homes, self._roots = door, homes, roots

    def join(self, base: str, parts: Sequence[str], *, any_case: bool) -> str:
        """Join below `base`; with `any_case` names are taken as they are on disk, whatever their case."""
        path = base
        for position, part in enumerate(parts):
            step = os.path.join(path, part)
            if any_case and not self._door.exists(step):
                try:
                    folders, files = self._door.open(base).names(path)
                except SourceError:
                    return os.path.join(path, *parts[position:])
                folded = fold_name(part)
                names = [*folders, *files]
                found = next((name for name in names if fold_name(name) == folded), None) or _long_name(part, names)
                step = os.path.join(path, found) if found else step
            path = step
        return path

    def translate(self, recorded: str, home: Home | None) -> str | None:
        """Where a recorded path lies in what is searched; None if that is outside (another drive, a share, the web).

        `home` is that of the application that recorded it. Nothing needs to exist at the answer.
        """
        apart = take_apart(recorded)
        if apart is None or apart.share or apart.web or not apart.parts:
            return None
        any_case = home is None or home.layout is not Layout.LINUX
        parts = apart.parts
        if len(parts) >= 2 and parts[0].casefold() in _PARENTS:
            person, rest = fold_name(parts[1]), parts[2:]
            near = [h for h in self._homes if home is None or h.volume == home.volume]
            found = next((h for h in near if _last(h.path) == person), None)
            if found is None and home is not None and home.volume is None:
                found = home  # a copy of a profile, perhaps under another name
            if found is not None:
                return self.join(found.path, rest, any_case=any_case)
        volume = home.volume if home else None
        others = self._door.other_volumes.get(volume or "", {})
        if apart.drive in others:
            return self.join(others[apart.drive], parts, any_case=True)
        if apart.drive not in ("", "C") and os.name != "nt":
            return None
        for count in range(len(parts), 0, -1) if others and not apart.drive else ():
            if (folder := others.get("/" + "/".join(parts[:count]))) is not None:
                return self.join(folder, parts[count:], any_case=any_case)
        if volume is None:
            return None
        path = self.join(volume, parts, any_case=any_case)
        return path if any(inside(path, root) for root in self._roots) else None


_FOLDERS_HELD = 4_000


def home_finder(homes: Iterable[Home]) -> Callable[[str], Home | None]:
    """Tells the home that a path lies in by its text, the innermost; None if it lies in none."""
    by_path: dict[str, Home] = {}
    for home in homes:
        by_path.setdefault(os.path.normpath(home.path), home)

    @lru_cache(_FOLDERS_HELD)
    def around(path: str) -> Home | None:
        inner = os.path.normpath(path)
        while (home := by_path.get(inner)) is None:
            outer = os.path.dirname(inner)
            if outer == inner:
                return None
            inner = outer
        return home

    def find(path: str) -> Home | None:
        if os.sep != "/" or "/." in path or "//" in path or path.endswith("/"):
            return around(path)
        # What lies in one folder is asked for one after the other.
        return by_path.get(path) or around(path.rpartition("/")[0] or path)

    return find
