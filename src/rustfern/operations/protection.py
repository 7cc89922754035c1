"""What a search tells of the settings that protect each person's work, for every command that says something of them."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from contextlib import suppress

from rustfern.core.errors import SourceError
from rustfern.core.model import Home, Layout
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, extension_of, format_of_extension
from rustfern.search.recorded_paths import home_finder
from rustfern.search.search import Search
from rustfern.settings import stores
from rustfern.settings.interface import ReadFile, Settings
from rustfern.settings.protection import EVERY_MINUTES, Known, Protection, protections
from rustfern.sources import live_machine

_MOST_FOLDERS, _MOST_SECONDS = 4_000, 4.0
_LOCKS = "etc/dconf/db/*.d/locks/*"
_MAX_LOCK_BYTES = 1 << 16


def protections_of(
    search: Search, every_minutes: int = EVERY_MINUTES, *, own: bool, look_around: bool = False
) -> list[Protection]:
    """The settings of each person's programs, after `known_places`; with `look_around` their documents' names are looked at too."""
    used = _programs_used(search)
    known = {
        home.path: _known(search, home, used[home.path], own=own, look_around=look_around) for home in search.homes
    }
    return protections(_with_running(search), search.catalogue, search.homes, known, every_minutes)


def _with_running(search: Search) -> Settings:
    """What was read, with the registry of a running Windows in place of the file that the system holds."""
    mine = next(
        (home for home in search.homes if home.layout is Layout.WINDOWS and live_machine.is_own_home(home.path)), None
    )
    programs = [program for program in search.catalogue.protected if program.form == "registry"]
    keys = {
        key for program in programs for each in program.settings for key in (program.sign, each.key, each.policy) if key
    }
    values = stores.running_registry(sorted(keys)) if mine else []
    if mine is None or not values:
        return search.settings
    others = [file for file in search.settings.files if file.home != mine or not file.form.startswith("registry")]
    path = os.path.join(mine.path, "NTUSER.DAT")
    return Settings(search.settings.told, [*others, ReadFile(path, "registry", mine, tuple(values))])


def _programs_used(search: Search) -> dict[str, set[str]]:
    """Home → the programs that left something in it; each find is looked at once, however many homes there are."""
    used: dict[str, set[str]] = {home.path: set() for home in search.homes}
    home_of = home_finder(search.homes)
    for find in search.finds:
        place = search.catalogue.places.get(find.place)
        if place is not None and (home := find.home or home_of(find.entry.path)) is not None and home.path in used:
            used[home.path].add(place.program)
    return used


def _known(search: Search, home: Home, programs: set[str], *, own: bool, look_around: bool) -> Known:
    any_case = home.layout is not Layout.LINUX
    names = [told.text for told in search.settings.of("recent", home)]
    formats = {format_of_extension(extension_of(name.replace("\\", "/").rpartition("/")[2])) for name in names}
    if look_around:
        formats |= _formats_of_documents(search, home)

    def is_there(base: str, pattern: str) -> bool:
        return search.door.exists(os.path.join(base, *pattern.split("/")))

    def link(path: str) -> str:
        with suppress(SourceError, OSError):
            return search.door.around(path).entry(path).link_target or ""
        return ""

    def on_volume(base: str, pattern: str) -> list[str]:
        return live_machine.system_files(pattern) if own else search.find_files(base, pattern, any_case)

    return Known(
        formats={each for each in formats if each}, programs=programs, is_there=is_there, link=link, files_on=on_volume,
        locked=frozenset(_locked(search, home, on_volume)), is_own=live_machine.is_own_home(home.path),
        may_be_written=search.door.may_be_written(home.path),
    )  # fmt: skip


def _formats_of_documents(search: Search, home: Home) -> set[str | None]:
    """The formats of a person's documents by their names; a bounded part of the home is looked at."""
    source = search.door.open(home.root)
    formats: set[str | None] = set()
    until = time.monotonic() + _MOST_SECONDS
    for number, (_, _, names) in enumerate(source.walk(home.path, lambda path, message: None)):
        if number >= _MOST_FOLDERS or time.monotonic() > until:
            break
        formats |= {format_of_extension(e) for name in names if (e := extension_of(name)) in DOCUMENT_EXTENSIONS}
    return formats


def _locked(search: Search, home: Home, on_volume: Callable[[str, str], list[str]]) -> Iterable[str]:
    """Paths in the desktop's settings that an administrator locked. Source: dconf(7), locks."""
    if home.layout is not Layout.LINUX or home.volume is None:
        return
    for path in on_volume(home.volume, _LOCKS):
        with suppress(SourceError, OSError):
            yield from (line.strip() for line in _text_of(search, path).splitlines() if line.startswith("/"))


def _text_of(search: Search, path: str) -> str:
    source = search.door.around(path)
    with source.open(source.entry(path)) as stream:
        return stream.read(_MAX_LOCK_BYTES).decode("utf-8", "replace")
