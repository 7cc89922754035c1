"""Loads and validates the catalogue: one TOML file a family, one `[[place]]` an entry."""

from __future__ import annotations

import json
import os
import re
import zlib
from collections.abc import Iterable
from functools import cache
from typing import Any, Literal

import msgspec

from rustfern.core.errors import CatalogueError
from rustfern.core.services import ServiceLayout
from rustfern.formats.format_table import FORMATS
from rustfern.traces.registry import TRACES, Trace

_FLAGS = re.IGNORECASE | re.DOTALL
_FOLDER = os.path.dirname(__file__)
BUILT = os.path.join(_FOLDER, "catalogue.json")
_MAX_SHAPES = 10_000
LayoutName = Literal["linux", "macos", "windows"]


class Place(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, omit_defaults=True):
    """One entry of the catalogue.

    `where`: "home" and "volume" folders are relative to a home or to the root of a disk; "beside" means any folder
    that documents lie in. `names` are regular expressions for whole file names, matched without regard to case.
    `anywhere`: names so unmistakable that a file of such a name is taken wherever it lies, also outside of these folders.
    `starts`, `ends`, `holds` and `bare_length` are quick tests that every name of a "beside" place, or of `anywhere`, passes. `mirror` is a
    pattern for the whole path where folders repeat those of a disk: `top` (a folder) or `drive`, and `inner`. `depth` is how many
    levels below the folder are looked at. `exclusive` folders hold no originals; `links` are locks that lead nowhere; with
    `needs_original` a name counts only if its original is there. Folder patterns may hold `*`, and begin with `$temp` for the
    temporary folder. "tree": whole trees that repeat another (`top` and `inner` of `mirror`; `loose`: the names only; `repeats_all`: surely, also what is not there any more); "index":
    sought among the document-like names; "neighbour" and "program": taken by the general rules. `companions`: endings of files that belong to it; `opened_copy`: originals may have been
    edited here; `in_use_store`: alone it is
    no document that was lost (a store in use, a print job); `generic`: any program
    may leave it, so others are tried first; `says`: what a `noted` record tells; `lifetime_class`: how short-lived;
    `clues`: what tells whose copy it is; `confidence`: how well what is said here is known.
    """

    id: str
    what: str
    program: str
    kind: Literal["autosave", "backup", "temporary", "swap", "trash", "version", "conflict", "lock", "record"]
    where: Literal["home", "volume", "beside", "tree", "index", "live", "thorough", "neighbour", "program"]
    names: tuple[str, ...]
    lifetime: str
    confidence: Literal["documented", "observed", "reported"]
    examples: tuple[str, ...]
    clues: tuple[str, ...] = ()
    anywhere: tuple[str, ...] = ()
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
    companions: tuple[str, ...] = ()
    opened_copy: bool = False
    attachment: bool = False
    in_use_store: bool = False
    repeats_all: bool = False
    generic: bool = False
    says: str = ""
    lifetime_class: Literal["", "moments", "session", "days", "kept"] = ""
    reader: str = ""
    processes: tuple[str, ...] = ()
    moved_by: str = ""
    setting: str = ""

    @property
    def lies_beside(self) -> bool:
        """Whether what lies here is told by a document of the same folder."""
        return self.where in ("beside", "index", "neighbour")

    @property
    def lifetime_rank(self) -> int:
        """How soon copies vanish: 0 moments, 1 with the session, 2 within days, 3 kept for long."""
        usual = {"trash": "kept", "version": "kept", "backup": "kept", "conflict": "kept", "temporary": "moments"}
        return ("moments", "session", "days", "kept").index(self.lifetime_class or usual.get(self.kind, "session"))

    @property
    def trace(self) -> Trace | None:
        """What reads what lies here, None for plain copies."""
        return TRACES.get(self.reader)

    @property
    def is_copy(self) -> bool:
        """Whether what lies here has content (as opposed to locks and records)."""
        return self.kind not in ("lock", "record")


class Setting(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, omit_defaults=True):
    """One thing that a settings file can tell.

    `files` are patterns below a home or a volume. `key` (with `*`) and `value` (a regular expression for the name) say where in
    the file; `take` is a regular expression with a group `path` for the part of the text that counts. `means`: "folder" (the
    copies of `places` go there), "recent" (a document opened lately), "recovery" (original and autosave), "documents" (a folder of
    the person's that was moved), "temporary" (the temporary folder), or a fact: "autosave", "minutes", "backups", "zone", "host", "owner".
    """

    id: str
    what: str
    program: str
    reader: Literal[
        "registry",
        "plist",
        "json",
        "ini",
        "lines",
        "xml",
        "xcu",
        "xbel",
        "shell-link",
        "vim",
        "emacs",
        "nano",
    ]
    files: dict[LayoutName, tuple[str, ...]]
    means: Literal[
        "folder",
        "recent",
        "recovery",
        "documents",
        "temporary",
        "autosave",
        "minutes",
        "backups",
        "zone",
        "host",
        "owner",
    ]
    where: Literal["home", "volume"] = "home"
    key: str = ""
    value: str = ""
    take: str = ""
    parted_by: str = ""
    places: tuple[str, ...] = ()


Raw = bool | int | str
"""A value as a settings file holds it."""


class Elsewhere(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Another place of the same file."""

    key: str
    name: str


class Default(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a program does where nothing is set; `since` a version on."""

    value: Raw
    since: str = ""


class ProtectedSetting(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, omit_defaults=True):
    """One setting that protects work.

    `against`: what it saves from (a crash, being closed unsaved, saved over, deleted). `role`: "switch" (`on` and `off` as the file has
    them; all but `off` is on), "interval" (a number in `unit`, within `bounds`; with `zero_is_off` 0 turns it off), "listed" (a list that
    one of the files `listed` must stand in), "none" (the program has no such thing). `key` and `name` say where in the file, `also` where
    it must be set in addition; `found_as` is a pattern for the name where it differs. `loss`: minutes lost at worst while it is on, where
    no interval tells. `by_hand`: only by the person, by these steps. `policy`: the key under which an administrator fixes it.
    """

    id: str
    what: str
    against: Literal["crash", "closed", "overwritten", "deleted"]
    role: Literal["switch", "interval", "listed", "none"]
    confidence: Literal["documented", "observed", "reported"]
    steps: str
    key: str = ""
    name: str = ""
    also: tuple[Elsewhere, ...] = ()
    found_as: str = ""
    on: Raw = True
    off: Raw = False
    unit: Literal["minutes", "seconds", "milliseconds"] = "minutes"
    bounds: tuple[int, int] = (1, 60)
    zero_is_off: bool = False
    defaults: tuple[Default, ...] = ()
    loss: int | None = None
    by_hand: bool = False
    policy: str = ""
    stored_as: str = ""
    listed: dict[LayoutName, tuple[str, ...]] = {}
    parted_by: str = ""


class Protected(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, omit_defaults=True):
    """A program, or the system, and the settings that protect work in it.

    A person has a program if one of its `files` is there (with `sign`: something under that key in it), something that it makes
    (`shown_by`), or documents of its `formats`. `create` is the file that is made where none is there, `new_text` what it begins with;
    with `first_counts` only the first of several counts. `common`: everybody has it. `needs_file`: only together with that one.
    `processes`: while one of these runs, nothing is written. `version`: where its version stands.
    """

    program: str
    form: Literal[
        "xcu", "registry", "plist", "json", "ini", "pairs", "preferences", "named-xml", "vim", "emacs", "nano", "desktop", "presence"
    ]  # fmt: skip
    files: dict[LayoutName, tuple[str, ...]]
    settings: tuple[ProtectedSetting, ...]
    create: dict[LayoutName, str] = {}
    new_text: str = ""
    formats: tuple[str, ...] = ()
    processes: tuple[str, ...] = ()
    shown_by: dict[LayoutName, tuple[str, ...]] = {}
    needs_file: dict[LayoutName, tuple[str, ...]] = {}
    sign: str = ""
    first_counts: bool = False
    common: bool = False
    where: Literal["home", "volume"] = "home"
    version: Elsewhere | None = None


class Family(msgspec.Struct, forbid_unknown_fields=True):
    """One file of the catalogue. `alias`: other names that a folder of older systems has on disk, by language."""

    alias: dict[str, tuple[str, ...]] = {}
    place: list[Place] = []
    setting: list[Setting] = []
    protected: list[Protected] = []
    service: list[ServiceLayout] = []


class Catalogue:
    """All places, with their patterns compiled."""

    def __init__(
        self,
        places: Iterable[Place],
        settings: Iterable[Setting] = (),
        aliases: dict[str, tuple[str, ...]] | None = None,
        protected: Iterable[Protected] = (),
        services: Iterable[ServiceLayout] = (),
    ) -> None:
        self.services = tuple(services)
        self.protected = tuple(protected)
        self.aliases = aliases or {}
        self.settings = tuple(settings)
        self.places = {place.id: place for place in places}
        self._patterns: dict[str, tuple[re.Pattern[str], ...]] = {}
        # What any program may leave comes last: a name that one program is known by says more.
        taken = (place for place in self.places.values() if place.where == "beside" or place.anywhere)
        beside = sorted(taken, key=lambda place: place.generic)
        self.beside = tuple(beside)
        self.trees = tuple(place for place in self.places.values() if place.where == "tree")
        self.tree_signs = re.compile(
            "|".join(re.escape(sign) for place in self.trees for sign in place.holds) or "(?!)"
        )
        self.sought = tuple(place for place in self.places.values() if place.where == "index")
        self._likely: dict[tuple[str, bool, bool, bool], tuple[Place, ...]] = {}
        self.starts = tuple(sorted({start for place in beside for start in place.starts}))
        self.holds = tuple(sorted({part for place in beside for part in place.holds}))
        self.ends = tuple(sorted({end for place in beside for end in place.ends}))
        self.bare_lengths = frozenset(place.bare_length for place in beside if place.bare_length)

    def patterns(self, place: Place) -> tuple[re.Pattern[str], ...]:
        """The compiled file-name patterns of a place."""
        found = self._patterns.get(place.id)
        if found is None:
            found = tuple(_compiled(pattern, place.id, "names", "catalogue") for pattern in place.names)
            self._patterns[place.id] = found
        return found

    def match(self, place: Place, name: str) -> dict[str, str] | None:
        """The named parts of a file name of this place, None if it does not fit."""
        return _first_match(self.patterns(place), name)

    def _anywhere(self, place: Place) -> tuple[re.Pattern[str], ...]:
        """The compiled patterns of what is taken in any folder."""
        if place.where == "beside":
            return self.patterns(place)
        key = f"anywhere:{place.id}"
        found = self._patterns.get(key)
        if found is None:
            found = tuple(_compiled(pattern, place.id, "anywhere", "catalogue") for pattern in place.anywhere)
            self._patterns[key] = found
        return found

    def tree_of(self, folder: str) -> tuple[Place, dict[str, str]] | None:
        """The tree of older versions that a folder (with `/`) lies in, and the named parts of its path."""
        if not self.tree_signs.search(folder):
            return None
        for place in self.trees:
            if found := re.fullmatch(place.mirror, folder, re.DOTALL):
                return place, {key: value for key, value in found.groupdict().items() if value is not None}
        return None

    def match_beside(self, name: str) -> tuple[Place, dict[str, str]] | None:
        """The first place, of those whose copies lie in any folder, that a file name fits, and the named parts."""
        begins, holds = name.startswith(self.starts), any(map(name.__contains__, self.holds))
        bare = len(name) in self.bare_lengths
        if not (begins or holds or bare or name.endswith(self.ends)):
            return None
        key = name[name.rfind(".") :], begins, holds, bare
        likely = self._likely.get(key)
        if likely is None:
            if len(self._likely) > _MAX_SHAPES:
                self._likely.clear()
            likely = self._likely[key] = tuple(place for place in self.beside if _may_fit(place, *key))
        for place in likely:
            if not (
                (place.ends and name.endswith(place.ends))
                or (place.starts and name.startswith(place.starts))
                or (place.bare_length and len(name) == place.bare_length)
                or (place.holds and any(map(name.__contains__, place.holds)))
            ):
                continue
            if (fields := _first_match(self._anywhere(place), name)) is not None:
                return place, fields
        return None


def _may_fit(place: Place, ending: str, begins: bool, holds: bool, bare: bool) -> bool:
    """Whether names of one shape may be of a place: their ending (from the last dot on), and whether they are told by their beginning,
    by a part, or by their length.
    """
    ends = any(ending.endswith(end) or end.endswith(ending) for end in place.ends)
    return ends or bool((begins and place.starts) or (holds and place.holds) or (bare and place.bare_length))


def _first_match(patterns: Iterable[re.Pattern[str]], name: str) -> dict[str, str] | None:
    for pattern in patterns:
        if found := pattern.fullmatch(name):
            return {key: value for key, value in found.groupdict().items() if value is not None}
    return None


def _compiled(pattern: str, ident: str, key: str, file: str) -> re.Pattern[str]:
    try:
        return re.compile(pattern, _FLAGS)
    except re.error as error:
        raise CatalogueError(f"entry {ident}, key {key}: {pattern!r} is no pattern ({error})", file) from error


def parse(text: str, file: str, *, patterns: bool = True) -> Family:
    """Validate one file of the catalogue; with `patterns` every pattern too, else each at its first use. Raises `CatalogueError` that names the entry and the key."""
    import tomllib

    try:
        family = msgspec.convert(tomllib.loads(text), Family)
    except msgspec.ValidationError as error:
        raise CatalogueError(f"the places catalogue has a mistake: {_name_entry(text, str(error))}", file) from error
    except tomllib.TOMLDecodeError as error:
        raise CatalogueError(f"the places catalogue is not TOML: {error}", file) from error
    if patterns:
        for place in family.place:
            for pattern in (*place.names, *place.anywhere, place.mirror):
                _compiled(pattern, place.id, "names", file)
        for setting in family.setting:
            for pattern in (setting.value, setting.take):
                _compiled(pattern, setting.id, "value or take", file)
    for program in family.protected:
        for key in program.formats:
            if key not in FORMATS:
                raise CatalogueError(f"entry {program.settings[0].id}, key formats: {key!r} is no known format", file)
        for each in program.settings:
            _compiled(each.found_as, each.id, "found_as", file)
            if not 0 < each.bounds[0] < each.bounds[1]:
                raise CatalogueError(f"entry {each.id}, key bounds: they are the wrong way round", file)
    for place in family.place:
        for key in place.formats:
            if key not in FORMATS:
                raise CatalogueError(f"entry {place.id}, key formats: {key!r} is no known format", file)
        if (place.where == "beside" or place.anywhere) and not (
            place.starts or place.ends or place.bare_length or place.holds
        ):
            raise CatalogueError(
                f"entry {place.id}: names that are taken in any folder need starts, ends, holds or bare_length", file
            )
        if place.where == "tree" and not place.mirror:
            raise CatalogueError(f"entry {place.id}, key mirror: a tree needs one", file)
        if place.where in ("home", "volume") and not (place.folders or place.same_folders_as):
            raise CatalogueError(f"entry {place.id}: folders are missing", file)
        if place.reader and place.reader not in TRACES:
            raise CatalogueError(f"entry {place.id}, key reader: {place.reader!r} is no known trace", file)
        if place.kind in ("lock", "record") and not place.reader:
            raise CatalogueError(f"entry {place.id}, key reader: a {place.kind} needs one", file)
    return family


def _name_entry(text: str, message: str) -> str:
    """msgspec counts entries from 0 (`$.place[3].kind`): put the entry's id there."""
    found = re.search(r"\$\.(place|setting)\[(\d+)\](?:\.(\w+))?", message)
    if not found:
        return message
    idents = re.findall(rf"^\s*\[\[{found[1]}\]\][^\[]*?^id\s*=\s*\"([^\"]*)\"", text, re.MULTILINE | re.DOTALL)
    number = int(found[2])
    ident = idents[number] if number < len(idents) else f"number {number + 1}"
    key = f", key {found[3]}" if found[3] else ""
    return f"entry {ident}{key}: {message.split(' - at')[0]}"


def _texts() -> list[tuple[str, bytes]]:
    """(name, content) of each file of the catalogue that ships with the tool, by name."""
    found = []
    for name in sorted(os.listdir(_FOLDER)):  # noqa: TID251
        if name.endswith(".toml"):
            with open(os.path.join(_FOLDER, name), "rb") as file:  # noqa: PTH123
                found.append((name, file.read()))
    return found


def _sum_of(texts: list[tuple[str, bytes]]) -> int:
    return zlib.crc32(b"".join(text for _, text in texts))


def build() -> dict[str, Any]:
    """All of the catalogue for one file, with the sum (CRC-32) of the files that it is made of. Raises `CatalogueError`."""
    texts = _texts()
    return {"crc": _sum_of(texts), "families": [msgspec.to_builtins(each) for each in _parsed(texts)]}


def _parsed(texts: list[tuple[str, bytes]]) -> list[Family]:
    return [parse(text.decode("utf-8"), name, patterns=False) for name, text in texts]


def _tuples(value: Any) -> Any:
    """JSON's lists as tuples."""
    if isinstance(value, list):
        return tuple(map(_tuples, value))
    return {key: _tuples(each) for key, each in value.items()} if isinstance(value, dict) else value


def _shipped() -> list[Family]:
    """The catalogue from the one file that `tools/places_page.py` makes of it, which is read ten times as fast; from its own files where that
    is not there, or was made of others. It was validated when it was made.
    """
    texts = _texts()
    try:
        with open(BUILT, "rb") as file:  # noqa: PTH123
            built = json.loads(file.read())
        if built["crc"] == _sum_of(texts):
            return [
                Family(
                    alias=_tuples(family.get("alias", {})),
                    place=[Place(**_tuples(row)) for row in family.get("place", ())],
                    setting=[Setting(**_tuples(row)) for row in family.get("setting", ())],
                    protected=msgspec.convert(family.get("protected", []), list[Protected]),
                    service=msgspec.convert(family.get("service", []), list[ServiceLayout]),
                )
                for family in built["families"]
            ]
    except (OSError, ValueError, KeyError, TypeError):
        pass
    return _parsed(texts)


@cache
def catalogue() -> Catalogue:
    """The catalogue that ships with the tool."""
    places: list[Place] = []
    settings: list[Setting] = []
    protected: list[Protected] = []
    services: list[ServiceLayout] = []
    aliases: dict[str, tuple[str, ...]] = {}
    for family in _shipped():
        places += family.place
        settings += family.setting
        protected += family.protected
        services += family.service
        aliases |= family.alias
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
    for setting in settings:
        if strange := [ident for ident in setting.places if ident not in by_id]:
            raise CatalogueError(f"entry {setting.id}, key places: no entry {strange[0]}", "catalogue")
    return Catalogue(by_id.values(), settings, aliases, protected, services)
