"""How well each program's settings protect a person's work: what is set, what that can cost at worst, what would be better."""

from __future__ import annotations

import fnmatch
import math
import os
import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import Literal

import msgspec

from rustfern.catalogue.loader import Catalogue, Protected, ProtectedSetting
from rustfern.core.model import Home, Layout
from rustfern.settings.interface import ReadFile, Settings, Value
from rustfern.settings.rewrite import is_same, last_of
from rustfern.settings.wording import in_words
from rustfern.settings.writers.interface import Wanted

How = Literal["write", "file", "steps"]
Logical = bool | int | str
SECONDS = {"minutes": 60.0, "seconds": 1.0, "milliseconds": 0.001}
EVERY_MINUTES = 5
"""Minutes between autosaves that are asked for where nobody says otherwise."""
_VERSION = re.compile(r"\d+(?:\.\d+)*")


class Protection(msgspec.Struct, frozen=True):
    """One setting of one person.

    `now`: what is set (None: nothing, so `default` holds); `default`: what the program does of itself (None: not known); `wanted`: what
    would be better (the same as what holds now where that is well). Switches are True or False, intervals numbers in the setting's unit.
    `loss_now`, `loss_then`: the most that can be lost, in minutes of work, of all settings of this program that protect from the same; None:
    all since the last save, or all of the version before. `file`: where it is kept, or would be. `changes`: what has to be written there.
    """

    program: Protected
    setting: ProtectedSetting
    home: Home
    now: Logical | None
    default: Logical | None
    wanted: Logical | None
    loss_now: int | None
    loss_then: int | None
    how: How
    file: str | None
    is_there: bool
    changes: tuple[Wanted, ...] = ()
    fixed: str = ""
    trouble: str = ""

    @property
    def holds(self) -> Logical | None:
        """What holds now: what is set, else the default."""
        return self.default if self.now is None else self.now

    @property
    def is_better(self) -> bool:
        """Whether something else than now is wanted, and would help."""
        return self.wanted is not None and not is_same(self.holds, self.wanted)

    @property
    def counts(self) -> bool:
        """Whether it is known that this could be better."""
        return self.is_better and (self.now is not None or self.default is not None)

    @property
    def steps(self) -> str:
        """How it is set by hand."""
        return self.setting.steps.replace("{wanted}", str(self.wanted))

    @property
    def form(self) -> str:
        """The form of its file."""
        return "lua" if self.program.form == "vim" and (self.file or "").endswith(".lua") else self.program.form


class Known(msgspec.Struct, frozen=True):
    """What is known of a person besides settings: formats of their documents, programs that left something, what is there of some names."""

    formats: Collection[str] = ()
    programs: Collection[str] = ()
    is_there: Callable[[str, str], bool] = lambda _base, _pattern: False
    locked: Collection[str] = ()
    """Paths of the desktop's settings that an administrator locked."""
    link: Callable[[str], str] = lambda _path: ""
    """Where a link leads; empty for what is none."""
    may_be_written: bool = True
    """Whether the home lies in a folder that can be written at all, and not in an image or archive."""
    is_own: bool = False
    """Whether the person is the one who runs this, on this machine."""
    files_on: Callable[[str, str], list[str]] = lambda _base, _pattern: []


def protections(
    told: Settings,
    catalogue: Catalogue,
    homes: Sequence[Home],
    known: Mapping[str, Known],
    every_minutes: int = EVERY_MINUTES,
) -> list[Protection]:
    """The settings of all programs that each person has; `known` by the path of the home."""
    rows: list[Protection] = []
    for home in homes:
        mine = [
            _of_program(program, home, told, known.get(home.path, Known()), every_minutes)
            for program in catalogue.protected
        ]
        rows += with_losses([row for of_program in mine for row in of_program])
    return rows


def _of_program(program: Protected, home: Home, told: Settings, known: Known, every: int) -> list[Protection]:
    layout = home.layout.value
    if layout not in program.files:
        return []
    files = [file for file in told.files if file.form == program.form and _is_of(file, program, home)]
    if program.form == "registry":
        # What was exported as text stands for a registry that is not there.
        files = files or [file for file in told.files if file.form == "registry-text" and file.home == home][:1]
    if program.sign:
        files = [file for file in files if any(_fits(value.key, program.sign) for value in file.values) or file.trouble]
    beside = any(known.is_there(home.path, each) for each in program.needs_file.get(layout, ()))
    if program.needs_file and not beside:
        return []
    if not files:
        files = _links(program, home, known)
    if not files and not beside and not program.common and not _has(program, home, known):
        return []
    if program.first_counts:
        order = [
            files_of for pattern in program.files[layout] for files_of in files if _named(files_of.path, home, pattern)
        ]
        files = order[:1]
    if files:
        return [_row(program, setting, home, file, known, every) for file in files for setting in program.settings]
    return [_row(program, setting, home, None, known, every) for setting in program.settings]


def _links(program: Protected, home: Home, known: Known) -> list[ReadFile]:
    """Settings files that are links, as people make who keep all of them in one place: they are read and written by hand."""
    patterns = [pattern for pattern in program.files[home.layout.value] if "*" not in pattern]
    paths = [os.path.join(home.path, *pattern.split("/")) for pattern in patterns if program.where == "home"]
    return [
        ReadFile(path, program.form, home, (), f"it is a link to {target}, where it may belong to something else")
        for path in paths
        if (target := known.link(path))
    ][:1]


def _has(program: Protected, home: Home, known: Known) -> bool:
    """Whether something else than its settings shows that a person has a program."""
    if any(known.is_there(home.path, each) for each in program.shown_by.get(home.layout.value, ())):
        return True
    return program.program in known.programs or bool(set(program.formats) & set(known.formats))


def _named(path: str, home: Home, pattern: str) -> bool:
    base = home.volume if home.volume is not None and not path.startswith(home.path) else home.path
    inner = os.path.relpath(path, base).replace(os.sep, "/")
    fold = str if home.layout is Layout.LINUX else str.casefold
    return fnmatch.fnmatchcase(fold(inner), fold(pattern))


def _is_of(file: ReadFile, program: Protected, home: Home) -> bool:
    if program.where == "volume":
        return file.home is None and home.volume is not None and file.path.startswith(home.volume)
    return file.home == home and any(_named(file.path, home, each) for each in program.files[home.layout.value])


def _fits(key: str, pattern: str) -> bool:
    return fnmatch.fnmatchcase(key.casefold(), pattern.casefold().replace("[", "[[]"))


def _row(
    program: Protected, setting: ProtectedSetting, home: Home, file: ReadFile | None, known: Known, every: int
) -> Protection:
    values = file.values if file else ()
    key, name = _place(setting, values, program)
    stored = _stored(values, setting, key, name, program)
    fixed = _fixed(setting, values, program, known, key, name)
    now = _logical(setting, stored) if stored is not None else None
    default = _default(program, setting, values)
    holds = default if now is None else now
    listed = _listed(setting, home, known) if setting.role == "listed" else ""
    wanted = _wanted(setting, holds, every, listed)
    raw = _raw(setting, wanted, stored, listed)
    path = file.path if file else None
    if path is None and home.layout.value in program.create:
        path = os.path.join(home.path, *program.create[home.layout.value].split("/"))
    how = _how(program, setting, path, fixed, file.trouble if file else "", wanted)
    if program.form == "desktop" and not known.is_own:
        how = "steps"  # only its own program may write it, for the person who is signed in
    elif program.form == "registry" and how != "steps":
        how = "steps" if "*" in key else "write" if known.is_own else "file"
    if program.form == "desktop" and not known.is_own:
        how = "steps"  # only its own program may write it, for the person who is signed in
    elif program.form == "registry" and how != "steps":
        how = "steps" if "*" in key else "write" if known.is_own else "file"
    if (setting.role == "listed" and not listed) or (how == "write" and not known.may_be_written):
        how = "steps"
    if (setting.role == "listed" and not listed) or (how == "write" and not known.may_be_written):
        how = "steps"
    changes: list[Wanted] = []
    if wanted is not None and raw is not None and not is_same(now, wanted):
        changes = [Wanted(key, name, raw)]
        changes += [Wanted(each.key, each.name, raw) for each in setting.also]
    return Protection(
        program, setting, home, now, default, wanted, None, None, how, path, file is not None, tuple(changes), fixed,
        file.trouble if file else "",
    )  # fmt: skip


def _place(setting: ProtectedSetting, values: Sequence[Value], program: Protected) -> tuple[str, str]:
    """The key and name as this file has them: the version in a registry key, the name under which it is found."""
    key, name = setting.key, setting.name
    if "*" in key:
        fitting = [value.key for value in values if _fits(value.key, key)]
        around = [_like(value.key, key) for value in values if _fits(value.key, program.sign)] if program.sign else []
        found = [each for each in (*fitting, *around) if each and "*" not in each]
        key = max(found, key=_version_in, default=key)
    if setting.found_as:
        pattern = re.compile(setting.found_as)
        name = next((value.name for value in values if pattern.fullmatch(value.name)), name)
    return key, name


def _like(key: str, pattern: str) -> str:
    """A pattern with what stands in another key at the places of its `*`."""
    parts, told = pattern.split("\\"), key.split("\\")
    return "\\".join(told[at] if part == "*" and at < len(told) else part for at, part in enumerate(parts))


def _version_in(key: str) -> tuple[int, ...]:
    found = _VERSION.search(key)
    return _numbers(found[0]) if found else ()


def _numbers(text: str) -> tuple[int, ...]:
    found = _VERSION.search(text)
    return tuple(int(part[:6]) for part in found[0].split(".")) if found else ()


def _stored(
    values: Sequence[Value], setting: ProtectedSetting, key: str, name: str, program: Protected
) -> object | None:
    if program.form == "presence":
        return True if values else None
    keys = [(key, name), *((each.key, each.name) for each in setting.also)]
    for each_key, each_name in keys:
        found = last_of(values, "" if program.form == "pairs" else each_key, each_name)
        if found is None and program.form in ("registry",):
            found = next(
                (
                    v
                    for v in reversed(values)
                    if v.key.casefold() == each_key.casefold() and v.name.casefold() == each_name.casefold()
                ),
                None,
            )
        if found is not None and not isinstance(found.value, bytes):
            return found.value
    return None


def _logical(setting: ProtectedSetting, stored: object) -> Logical | None:
    if setting.role == "switch":
        return not is_same(stored, setting.off)
    if setting.role == "listed":
        return any(
            os.path.basename(each) in _listed_names(setting) for each in str(stored).split(setting.parted_by or ";")
        )
    try:
        return int(str(stored).strip())
    except ValueError:
        return None


def _listed_names(setting: ProtectedSetting) -> set[str]:
    return {each.rpartition("/")[2] for patterns in setting.listed.values() for each in patterns}


def _default(program: Protected, setting: ProtectedSetting, values: Sequence[Value]) -> Logical | None:
    """What the program does of itself, as its version has it; without a version, as the oldest does."""
    version: tuple[int, ...] = ()
    if program.version is not None:
        told = last_of(values, program.version.key, program.version.name)
        version = _numbers(str(told.value)) if told is not None else ()
    holds = None
    for each in setting.defaults:
        if not each.since or (version and version >= _numbers(each.since)):
            holds = each.value
    return None if holds is None else _logical(setting, holds)


def _wanted(setting: ProtectedSetting, holds: Logical | None, every: int, listed: str) -> Logical | None:
    match setting.role:
        case "none":
            return None
        case "switch":
            return True
        case "listed":
            return True
    low, high = setting.bounds
    number = max(low, min(high, round(every * 60 / SECONDS[setting.unit])))
    if (
        isinstance(holds, int)
        and not isinstance(holds, bool)
        and (0 < holds <= number or (holds == 0 and not setting.zero_is_off))
    ):
        return holds
    return number


def _raw(
    setting: ProtectedSetting, wanted: Logical | None, stored: object | None, listed: str
) -> bool | int | str | None:
    """A logical value as the file has it."""
    if wanted is None:
        return None
    if setting.role == "switch":
        return setting.on if wanted else setting.off
    if setting.role == "listed":
        parts = [each for each in str(stored or "").split(setting.parted_by) if each]
        return setting.parted_by.join([*parts, listed]) + setting.parted_by if listed else None
    return int(wanted)


def _listed(setting: ProtectedSetting, home: Home, known: Known) -> str:
    """The file that has to stand in a list, as the system itself names it."""
    for pattern in setting.listed.get(home.layout.value, ()):
        if home.volume is None:
            continue
        found = known.files_on(home.volume, pattern)
        if found:
            return "/" + os.path.relpath(found[0], home.volume).replace(os.sep, "/")
    return ""


def _fixed(
    setting: ProtectedSetting, values: Sequence[Value], program: Protected, known: Known, key: str, name: str
) -> str:
    """Who fixes a setting so that nothing set here counts; empty if nobody does."""
    if setting.policy:
        for value in values:
            if _fits(value.key, setting.policy) and value.name.casefold() == name.casefold():
                return f"an administrator's policy sets it to {value.value!s}"
    if program.form == "desktop" and f"{key}{name}" in known.locked:
        return "an administrator locked it"
    return ""


def _how(
    program: Protected, setting: ProtectedSetting, path: str | None, fixed: str, trouble: str, wanted: Logical | None
) -> How:
    if setting.by_hand or fixed or trouble or path is None or wanted is None or program.form == "presence":
        return "steps"
    return "write"


# --- what it can cost ---------------------------------------------------------------------------------------------------


def with_losses(rows: Iterable[Protection]) -> list[Protection]:
    """The rows of one person with what can be lost at worst, worked out for all settings of a program that protect from the same."""
    rows = list(rows)
    groups: dict[tuple[str, str, str | None], list[Protection]] = {}
    for row in rows:
        groups.setdefault(_group(row), []).append(row)
    out = []
    for row in rows:
        mine = groups[_group(row)]
        now, then = _losses(mine)
        if row.setting.against == "closed":
            # What is kept then is the last autosave.
            crash = groups.get((row.program.program, "crash", _group(row)[2]))
            now, then = (
                None if a is None else b for a, b in zip((now, then), _losses(crash) if crash else (0, 0), strict=True)
            )
        out.append(msgspec.structs.replace(row, loss_now=now, loss_then=then))
    return out


def _losses(rows: Sequence[Protection]) -> tuple[int | None, int | None]:
    """What can be lost at worst as it is, and as it would be."""
    now = loss({id(each): each.holds for each in rows}, rows)
    return now, loss({id(each): each.holds if each.wanted is None else each.wanted for each in rows}, rows)


class Group(msgspec.Struct, frozen=True):
    """The settings of one program that protect from the same thing: one line of the table."""

    rows: tuple[Protection, ...]

    @property
    def program(self) -> str:
        """The program."""
        return self.rows[0].program.program

    @property
    def against(self) -> str:
        """What they protect from."""
        return self.rows[0].setting.against

    @property
    def loss_now(self) -> int | None:
        """As `Protection`."""
        return self.rows[0].loss_now

    @property
    def loss_then(self) -> int | None:
        """As `Protection`."""
        return self.rows[0].loss_then

    @property
    def counts(self) -> bool:
        """Whether it is known that something could be better."""
        return any(row.counts for row in self.rows)

    @property
    def is_well(self) -> bool:
        """Whether it is known that nothing could be."""
        return not self.counts and all(row.holds is not None and row.setting.role != "none" for row in self.rows)

    @property
    def how(self) -> How:
        """How it is set: by hand if only a part of it can be set otherwise."""
        ways = {row.how for row in self.rows if row.is_better}
        return "steps" if "steps" in ways or not ways else "file" if "file" in ways else "write"

    @property
    def set_now(self) -> str:
        """What holds now, in words: whether it is on, and if it is, how often."""
        off = [row for row in self.rows if row.setting.role != "interval" and not row.holds]
        shown = off[:1] or [row for row in self.rows if row.setting.role == "interval"] or list(self.rows)
        return ", ".join(dict.fromkeys(in_words(row, row.now) for row in shown))

    @property
    def wanted(self) -> str:
        """What would be set, in words."""
        better = [row for row in self.rows if row.is_better]
        often = [row for row in self.rows if row.setting.role == "interval"]
        shown = often or better
        return ", ".join(dict.fromkeys(in_words(row, row.wanted) for row in shown))


def grouped(rows: Iterable[Protection]) -> list[Group]:
    """The lines of the table, in the order of the rows."""
    found: dict[tuple[str, str, str, str | None], list[Protection]] = {}
    for row in rows:
        found.setdefault((row.home.path, *_group(row)), []).append(row)
    return [Group(tuple(mine)) for mine in found.values()]


def _group(row: Protection) -> tuple[str, str, str | None]:
    """Settings that protect together: of one program from one thing, in one file where the program may have several of a kind."""
    alone = row.program.form in ("xcu", "json", "preferences")
    return row.program.program, row.setting.against, row.file if alone else None


def loss(values: Mapping[int, Logical | None], rows: Sequence[Protection]) -> int | None:
    """Minutes of work that are lost at worst under these values (by `id` of the row); None: no bound."""
    most: list[int] = []
    for row in rows:
        value = values[id(row)]
        setting = row.setting
        if setting.role == "none" or value is None:
            return None
        if setting.role in ("switch", "listed"):
            if not value:
                return None
            if setting.loss is not None:
                most.append(setting.loss)
        else:
            number = int(value)
            if number <= 0:
                return None
            most.append(math.ceil(number * SECONDS[setting.unit] / 60))
    return max(most, default=0 if rows and rows[0].setting.against != "crash" else 1)
