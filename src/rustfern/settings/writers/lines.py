"""Settings in lines: INI files of all kinds, `name value`, `user_pref("name", value);`, and nano's `set` and `unset`.

Sources: Desktop Entry Specification (groups and entries); the KDE configuration's marks `[$i]` (fixed) and `[$e]`; nanorc(5).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from rustfern.settings.text import decoded, end_of, lines_of
from rustfern.settings.writers.interface import CannotWrite, SetElsewhere, Wanted

_ENTRY = re.compile(
    r"(?P<before>[ \t]*(?:export )?[ \t]*)(?P<name>[^=\r\n]*?)(?P<mark>(?:\[\$[a-z]+\])*)(?P<equals>[ \t]*=[ \t]*)(?P<value>[^\r\n]*)"
)
PAIR = re.compile(r"(?P<before>[ \t]*)(?P<name>\\?[A-Za-z_][\w.-]*)(?P<equals>:?[ \t]+)(?P<value>[^\r\n]*)")
PREFERENCE = re.compile(
    r'(?P<before>[ \t]*user_pref\()"(?P<name>(?:[^"\\]|\\.)*)"(?P<equals>[ \t]*,[ \t]*)(?P<value>[^\r\n]*?)(?P<after>\)[ \t]*;[ \t]*)(?=[\r\n]|$)'
)
NANO = re.compile(r"[ \t]*(?P<how>set|unset)[ \t]+(?P<name>[a-z]+)(?:[ \t]+(?P<value>[^\r\n]*?))?[ \t]*(?=[\r\n]|$)")


def section_of(line: str) -> str | None:
    """The name of the section that a line begins, None if it is no such line."""
    line = line.strip()
    return line[1:-1] if line.startswith("[") and line.endswith("]") else None


def _fixed(section: str) -> bool:
    return section.endswith("][$i") or section == "$i"


def ini(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """`name=value` below `[section]`; the last one of a name counts, as in the programs that read such files."""
    return _each(data, wanted, _with_entry)


def _with_entry(lines: list[str], wanted: Wanted) -> list[str]:
    section, found, end = "", None, None if wanted.key else 0
    for number, line in enumerate(lines):
        begun = section_of(line)
        if begun is not None:
            if _fixed(begun) and begun.removesuffix("][$i").strip("[]") in (wanted.key, "$i"):
                raise SetElsewhere(f"an administrator fixed all of [{wanted.key}]")
            section = begun
            if section == wanted.key:
                end = number + 1
            continue
        if section != wanted.key:
            continue
        entry = _entry(line)
        if entry is not None and entry["name"].strip() == wanted.name:
            if "[$i]" in entry["mark"]:
                raise SetElsewhere(f"an administrator fixed {wanted.name}")
            found = number
        if line.strip():
            end = number + 1
    text = _text(wanted.value)
    if found is not None:
        entry = _entry(lines[found])
        assert entry is not None
        old = entry["value"]
        quote = old[0] if len(old) > 1 and old[0] == old[-1] and old[0] in "\"'" else ""
        start, stop = entry.span("value")
        new = f"{lines[found][:start]}{quote}{text}{quote}{lines[found][stop:]}"
        return [*lines[:found], new, *lines[found + 1 :]]
    new = f"{wanted.name}={text}"
    if end is None:
        return _added(lines, len(lines), f"[{wanted.key}]", new)
    return _added(lines, end, new)


def _entry(line: str) -> re.Match[str] | None:
    return None if line.strip().startswith(("#", ";")) else _ENTRY.match(line)


def _added(lines: list[str], at: int, *new: str) -> list[str]:
    """Lines put in at a place; one before it that has no end gets one."""
    ending = end_of(lines, at)
    before = lines[:at]
    if before and not before[-1].endswith(("\r", "\n")):
        before = [*before[:-1], before[-1] + ending]
    return [*before, *(line + ending for line in new), *lines[at:]]


def _text(value: bool | int | str) -> str:
    text = str(value).lower() if isinstance(value, bool) else str(value)
    if "\n" in text or "\r" in text:
        raise CannotWrite("a value of several lines does not fit in there")
    return text


def _each(data: bytes, wanted: Sequence[Wanted], change: Callable[[list[str], Wanted], list[str]]) -> bytes:
    """A file with each of the wanted values put in by `change`, which gets and gives its lines."""
    whole = decoded(data)
    lines = lines_of(whole.text)
    for each in wanted:
        lines = change(lines, each)
    return whole.bytes_of("".join(lines))


def _last(lines: list[str], pattern: re.Pattern[str], name: str) -> tuple[int, re.Match[str]] | None:
    """The last line of a form that says something of a name: its number, and its parts."""
    for number in range(len(lines) - 1, -1, -1):
        match = pattern.match(lines[number])
        if match is not None and match["name"] == name:
            return number, match
    return None


def _with_value(lines: list[str], found: tuple[int, re.Match[str]], text: str) -> list[str]:
    number, match = found
    start, stop = match.span("value")
    return [*lines[:number], lines[number][:start] + text + lines[number][stop:], *lines[number + 1 :]]


def pairs(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """`name value` or `name: value`, one a line; `key` of what is wanted is what parts them where no line shows it."""
    return _each(data, wanted, _with_pair)


def _with_pair(lines: list[str], wanted: Wanted) -> list[str]:
    text = _text(wanted.value)
    if (found := _last(lines, PAIR, wanted.name)) is not None:
        return _with_value(lines, found, text)
    shown = next((match["equals"] for line in lines if (match := PAIR.match(line)) is not None), " ")
    return _added(lines, len(lines), f"{wanted.name}{wanted.key or shown}{text}")


def preferences(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """The preferences of Mozilla programs: `user_pref("name", value);`."""
    return _each(data, wanted, _with_preference)


def _with_preference(lines: list[str], wanted: Wanted) -> list[str]:
    text = f'"{wanted.value}"' if isinstance(wanted.value, str) else _text(wanted.value)
    if (found := _last(lines, PREFERENCE, wanted.name)) is not None:
        return _with_value(lines, found, text)
    return _added(lines, len(lines), f'user_pref("{wanted.name}", {text});')


def nano(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """`set name`, `unset name` or `set name value`; the last one counts."""
    return _each(data, wanted, _with_word)


def _with_word(lines: list[str], wanted: Wanted) -> list[str]:
    if isinstance(wanted.value, bool):
        new = f"{'set' if wanted.value else 'unset'} {wanted.name}"
    else:
        new = f"set {wanted.name} {_text(wanted.value)}"
    found = _last(lines, NANO, wanted.name)
    if found is None:
        return _added(lines, len(lines), new)
    number, match = found
    return [*lines[:number], new + lines[number][match.end() :], *lines[number + 1 :]]
