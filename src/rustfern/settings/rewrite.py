"""Settings files with values set: written by the writer of their form, and believed only after they were read back."""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Sequence

from rustfern.core.errors import Malformed
from rustfern.settings.interface import SettingsFile, Value
from rustfern.settings.read import reader_of
from rustfern.settings.writers import json, lines, scripts, xml
from rustfern.settings.writers.interface import MAX_BYTES, CannotWrite, Wanted, Writer

_WRITERS: dict[str, Writer] = {
    "ini": lines.ini,
    "pairs": lines.pairs,
    "preferences": lines.preferences,
    "nano": lines.nano,
    "json": json.write,
    "xcu": xml.xcu,
    "named-xml": xml.named,
    "plist": xml.plist,
    "vim": scripts.vim,
    "lua": scripts.lua,
    "emacs": scripts.emacs,
}
FORMS = frozenset(_WRITERS)
"""Forms of settings files that can be written."""


def values_in(form: str, data: bytes, path: str) -> list[Value]:
    """Every value of a settings file. Raises `Malformed`."""
    reader = reader_of("vim" if form == "lua" else form)
    return list(reader(SettingsFile(io.BytesIO(data), len(data), path, ())))


def last_of(values: Sequence[Value], key: str, name: str) -> Value | None:
    """The value that counts of those with one name: the last."""
    return next((each for each in reversed(values) if each.key == key and each.name == name), None)


def is_same(told: object, wanted: object) -> bool:
    """Whether two values are the same as a program reads them."""
    return str(told).casefold() == str(wanted).casefold()


def rewritten(form: str, data: bytes, path: str, wanted: Sequence[Wanted]) -> bytes:
    """The whole file with what is wanted in it. Raises `CannotWrite` where the file is damaged, of another kind, too large, or where what
    was written would not read as what was asked for, with all else as it was.
    """
    if len(data) > MAX_BYTES:
        raise CannotWrite(f"it is too large for a settings file ({len(data)} bytes)")
    try:
        before = values_in(form, data, path) if data.strip() else []
        new = _WRITERS[form](data, wanted)
        after = values_in(form, new, path)
    except Malformed as error:
        raise CannotWrite(f"it is damaged ({error})") from error
    except RecursionError as error:
        raise CannotWrite("it is nested too deeply") from error
    asked = {(_key(form, each), each.name) for each in wanted}
    old, now = _others(before, asked), _others(after, asked)
    made = [key for key, _, _ in (now - old)]
    if old - now or any(not any(_lies_in(each.key, key) for each in wanted) for key in made):
        raise CannotWrite("changing it would change other settings too")
    for each in wanted:
        told = last_of(after, _key(form, each), each.name)
        if told is None or not is_same(told.value, each.value):
            raise CannotWrite(f"{each.name} would not be read as {each.value}")
    return new


def _key(form: str, wanted: Wanted) -> str:
    """The key under which a value is told by its reader."""
    return "" if form == "pairs" else wanted.key


def _lies_in(wanted: str, made: str) -> bool:
    """Whether an element that was made is the wanted one, or one around it."""
    return wanted == made or wanted.startswith(f"{made}/")


def _others(values: Sequence[Value], asked: set[tuple[str, str]]) -> Counter[tuple[str, str, object]]:
    return Counter((each.key, each.name, each.value) for each in values if (each.key, each.name) not in asked)
