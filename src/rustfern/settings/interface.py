"""What a settings file says, flattened; and what it means for a search."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import BinaryIO

import msgspec

from rustfern.core.model import Home
from rustfern.output.temporary import Scratch

MAX_BYTES = 64 << 20
"""Settings files beyond this size are not read."""


class Value(msgspec.Struct, frozen=True):
    """One named value of a settings file. `key` is the place inside the file (levels parted by a backslash or slash, as
    the kind of file has it); `value` is text, a number or raw bytes; `when` is its own time, if the file keeps one.
    """

    key: str
    name: str
    value: str | int | bytes
    when: datetime | None = None


class SettingsFile(msgspec.Struct, frozen=True):
    """What a reader is given: a stream, its size in bytes, its path for messages, the keys wanted (patterns with `*`).

    `companions` are other files that belong to it (transaction logs), by name, already open; `scratch` is where private copies are made.
    """

    stream: BinaryIO
    size: int
    path: str
    keys: Sequence[str]
    companions: dict[str, bytes] = msgspec.field(default_factory=dict)
    scratch: Scratch = msgspec.field(default_factory=Scratch)


Reader = Callable[[SettingsFile], Iterator[Value]]
"""Yields values; raises `Malformed` where the file is damaged or of another kind, after what could be read."""


class SettingValue(msgspec.Struct, frozen=True):
    """One thing that a setting tells: which entry of the catalogue explained it (`setting`), what it means, the text as
    recorded, from which file and value, for which person, and when.
    """

    setting: str
    means: str
    text: str
    file: str
    home: Home | None
    by: str
    when: datetime | None = None


class ReadFile(msgspec.Struct, frozen=True):
    """All values of one settings file that a program keeps what protects work in: its path, the form, its person (None: of the whole
    system), the values in order, what is wrong with it (empty: nothing).
    """

    path: str
    form: str
    home: Home | None
    values: tuple[Value, ...]
    trouble: str = ""


class Settings(msgspec.Struct):
    """All that was told, by meaning; and `files` as they were read, with which protection is judged."""

    told: list[SettingValue] = msgspec.field(default_factory=list)
    files: list[ReadFile] = msgspec.field(default_factory=list)

    def of(self, means: str, home: Home | None = None) -> list[SettingValue]:
        """What was told of one meaning; with `home`, for that person only."""
        return [told for told in self.told if told.means == means and (home is None or told.home == home)]


def chosen(values: Iterable[Value], key: str, name: str) -> Iterator[Value]:
    """The values whose key fits a pattern with `*` and whose name fits a regular expression, whatever their case."""
    import fnmatch
    import re

    wanted = key.casefold().replace("[", "[[]")
    names = re.compile(name or ".*", re.IGNORECASE)
    for value in values:
        if (not key or fnmatch.fnmatchcase(value.key.casefold(), wanted)) and names.fullmatch(value.name):
            yield value
