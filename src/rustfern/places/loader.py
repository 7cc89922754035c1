"""Loads and validates the catalogue: one TOML file a family, one `[[place]]` an entry."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import cache
from importlib import resources
from typing import Literal

import msgspec

from rustfern.errors import CatalogueError
from rustfern.formats.table import FORMATS

_FLAGS = re.IGNORECASE | re.DOTALL
LayoutName = Literal["linux", "macos", "windows"]


class Place(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One entry of the catalogue.

    `where`: "home" and "volume" folders are relative to a home or to the root of a disk; "beside" means any folder
    that documents lie in. `names` are regular expressions for whole file names, matched without regard to case.
    `starts`, `ends`, `holds` and `bare_length` are quick tests that every name of a "beside" place passes. `mirror` is a
    pattern for the whole path where folders repeat those of a disk: `top` (a folder) or `drive`, and `inner`. `depth` is how many
    levels below the folder are looked at. `exclusive` folders hold no originals; `links` are locks that lead nowhere; with
    `needs_original` a name counts only if its original is there. Folder patterns may hold `*`.
    """

    id: str
    what: str
    program: str
    kind: Literal["autosave", "backup", "temporary", "swap", "trash", "version", "conflict", "lock", "record"]
    where: Literal["home", "volume", "beside"]
    names: tuple[str, ...]
    lifetime: str
    sure: Literal["documented", "observed", "reported"]
    examples: tuple[str, ...]
    leads: tuple[str, ...] = ()
    folders: dict[LayoutName, tuple[str, ...]] = {}
    same_folders_as: str = ""
    depth: int = 0
    formats: tuple[str, ...] = ()
    order: Literal["before", "after", "unknown"] = "unknown"
    complete: bool = True
    never_saved: bool = False
    folders_too: bool = False
    links: bool = False
    needs_original: bool = False
    exclusive: bool = True
    prefixes: tuple[str, ...] = ()
    starts: tuple[str, ...] = ()
    ends: tuple[str, ...] = ()
    bare_length: int = 0
    holds: tuple[str, ...] = ()
    mirror: str = ""
    reader: Literal[
        "",
        "odf-lock",
        "owner-lock",
        "recovery-list",
        "trash-info",
        "trash-windows",
        "trash-windows-list",
        "vim-swap",
        "trash-ds-store",
        "mousepad-session",
        "kate-journal",
        "joe-dead",
        "emacs-list",
        "link-lock",
    ] = ""
    processes: tuple[str, ...] = ()
    moved_by: str = ""
    setting: str = ""

    @property
    def is_copy(self) -> bool:
        """Whether what lies here has content (as opposed to locks and records)."""
        return self.kind not in ("lock", "record")


class _File(msgspec.Struct, forbid_unknown_fields=True):
    place: list[Place]


class Catalogue:
    """All places, with their patterns compiled."""

    def __init__(self, places: Iterable[Place]) -> None:
        self.places = {place.id: place for place in places}
        self._patterns: dict[str, tuple[re.Pattern[str], ...]] = {}
        beside = [place for place in self.places.values() if place.where == "beside"]
        self.beside = tuple(beside)
        self.starts = tuple(sorted({start for place in beside for start in place.starts}))
        self.holds = tuple(sorted({part for place in beside for part in place.holds}))
        self.ends = tuple(sorted({end for place in beside for end in place.ends}))
        self.bare_lengths = frozenset(place.bare_length for place in beside if place.bare_length)

    def patterns(self, place: Place) -> tuple[re.Pattern[str], ...]:
        """The compiled file-name patterns of a place."""
        found = self._patterns.get(place.id)
        if found is None:
            found = tuple(re.compile(pattern, _FLAGS) for pattern in place.names)
            self._patterns[place.id] = found
        return found

    def match(self, place: Place, name: str) -> dict[str, str] | None:
        """The named parts of a file name of this place, None if it does not fit."""
        for pattern in self.patterns(place):
            if found := pattern.fullmatch(name):
                return {key: value for key, value in found.groupdict().items() if value is not None}
        return None

    def match_beside(self, name: str) -> tuple[Place, dict[str, str]] | None:
        """The first "beside" place that a file name fits, and the named parts."""
        if not (
            name.startswith(self.starts)
            or name.endswith(self.ends)
            or len(name) in self.bare_lengths
            or any(part in name for part in self.holds)
        ):
            return None
        for place in self.beside:
            if not (
                (place.starts and name.startswith(place.starts))
                or (place.ends and name.endswith(place.ends))
                or (place.bare_length and len(name) == place.bare_length)
                or any(part in name for part in place.holds)
            ):
                continue
            if (fields := self.match(place, name)) is not None:
                return place, fields
        return None


def parse(text: str, file: str) -> list[Place]:
    """Validate one file of the catalogue. Raises `CatalogueError` that names the entry and the key."""
    try:
        places = msgspec.toml.decode(text.encode(), type=_File).place
    except msgspec.ValidationError as error:
        raise CatalogueError(f"the places catalogue has a mistake: {_name_entry(text, str(error))}", file) from error
    except msgspec.DecodeError as error:
        raise CatalogueError(f"the places catalogue is not TOML: {error}", file) from error
    for place in places:
        for pattern in (*place.names, place.mirror):
            try:
                re.compile(pattern, _FLAGS)
            except re.error as error:
                raise CatalogueError(
                    f"entry {place.id}, key names: {pattern!r} is no pattern ({error})", file
                ) from error
        for key in place.formats:
            if key not in FORMATS:
                raise CatalogueError(f"entry {place.id}, key formats: {key!r} is no known format", file)
        if place.where == "beside" and not (place.starts or place.ends or place.bare_length or place.holds):
            raise CatalogueError(
                f"entry {place.id}: a place beside documents needs starts, ends, holds or bare_length", file
            )
        if place.where != "beside" and not (place.folders or place.same_folders_as):
            raise CatalogueError(f"entry {place.id}: folders are missing", file)
        if place.kind in ("lock", "record") and not place.reader:
            raise CatalogueError(f"entry {place.id}, key reader: a {place.kind} needs one", file)
    return places


def _name_entry(text: str, message: str) -> str:
    """msgspec counts entries from 0 (`$.place[3].kind`): put the entry's id there."""
    found = re.search(r"\$\.place\[(\d+)\](?:\.(\w+))?", message)
    if not found:
        return message
    idents = re.findall(r"^\s*\[\[place\]\][^\[]*?^id\s*=\s*\"([^\"]*)\"", text, re.MULTILINE | re.DOTALL)
    number = int(found[1])
    ident = idents[number] if number < len(idents) else f"number {number + 1}"
    key = f", key {found[2]}" if found[2] else ""
    return f"entry {ident}{key}: {message.split(' - at')[0]}"


@cache
def catalogue() -> Catalogue:
    """The catalogue that ships with the tool."""
    places: list[Place] = []
    folder = resources.files(__package__) / "catalogue"
    for file in sorted(folder.iterdir(), key=lambda item: item.name):
        if file.name.endswith(".toml"):
            places += parse(file.read_text("utf-8"), file.name)
    by_id: dict[str, Place] = {}
    for place in places:
        if place.id in by_id:
            raise CatalogueError(f"entry {place.id} is there twice", "catalogue")
        by_id[place.id] = place
    for place in places:
        if place.same_folders_as:
            if place.same_folders_as not in by_id:
                raise CatalogueError(
                    f"entry {place.id}, key same_folders_as: no entry {place.same_folders_as}", "catalogue"
                )
            by_id[place.id] = msgspec.structs.replace(place, folders=by_id[place.same_folders_as].folders)
    return Catalogue(by_id.values())
