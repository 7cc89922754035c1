"""Settings in JSON with comments and last commas, as editors keep them. Source: RFC 8259, and the comments of ECMAScript."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence

import msgspec

from rustfern.settings.text import decoded
from rustfern.settings.writers.interface import CannotWrite, Wanted

_BLANK = re.compile(r"(?:[ \t\r\n]+|//[^\r\n]*|/\*.*?\*/)*", re.DOTALL)
_STRING = re.compile(r'"(?:[^"\\\x00-\x1f]|\\.)*"', re.DOTALL)
_SAME_LINE = re.compile(r"[ \t]*(?://[^\r\n]*|/\*[^\r\n]*?\*/)")
_PLAIN = re.compile(r"[^\s,\]}\[{\"/:]+")
_DEEPEST = 200


class _Member(msgspec.Struct, frozen=True):
    """A member of the outermost object: its name, where it begins, where its value begins and ends, whether a comma follows."""

    name: str
    start: int
    value: int
    end: int
    comma: bool


def members(text: str) -> tuple[list[_Member], int]:
    """The members of the outermost object, and where its closing brace stands. Raises `CannotWrite` for anything else."""
    at = _after_blank(text, 0)
    if text[at : at + 1] != "{":
        raise CannotWrite("it is no JSON object")
    at = _after_blank(text, at + 1)
    found: list[_Member] = []
    while text[at : at + 1] != "}":
        if found and not found[-1].comma:
            raise CannotWrite(f"a comma is missing (character {at + 1})")
        name = _STRING.match(text, at)
        if name is None:
            raise CannotWrite(f"it stops being JSON (character {at + 1})")
        colon = _after_blank(text, name.end())
        if text[colon : colon + 1] != ":":
            raise CannotWrite(f"a colon is missing (character {colon + 1})")
        value = _after_blank(text, colon + 1)
        end = _end_of_value(text, value)
        after = _after_blank(text, end)
        comma = text[after : after + 1] == ","
        try:
            found.append(_Member(json.loads(name[0]), at, value, end, comma))
        except ValueError as error:
            raise CannotWrite(f"it stops being JSON (character {at + 1})") from error
        at = _after_blank(text, after + 1) if comma else after
    if _after_blank(text, at + 1) != len(text):
        raise CannotWrite(f"more stands behind the end of the object (character {at + 2})")
    return found, at


def _after_blank(text: str, at: int) -> int:
    match = _BLANK.match(text, at)
    return match.end() if match else at


def _end_of_value(text: str, at: int) -> int:
    """Where a value ends: brackets are counted, strings and comments passed over."""
    depth = 0
    while True:
        first = text[at : at + 1]
        if first == '"':
            string = _STRING.match(text, at)
            if string is None:
                raise CannotWrite(f"a text has no end (character {at + 1})")
            at = string.end()
        elif first in ("{", "["):
            depth, at = depth + 1, at + 1
            if depth > _DEEPEST:
                raise CannotWrite("it is nested too deeply")
        elif first in ("}", "]") and depth:
            depth, at = depth - 1, at + 1
        elif depth and first in (",", ":"):
            at += 1
        elif plain := _PLAIN.match(text, at):
            at = plain.end()
        else:
            raise CannotWrite(f"it stops being JSON (character {at + 1})")
        if not depth:
            return at
        at = _after_blank(text, at)


def write(data: bytes, wanted: Sequence[Wanted]) -> bytes:
    """Members of the outermost object; a name that is there twice is set twice, as programs differ in which one counts."""
    whole = decoded(data)
    text = whole.text
    for each in wanted:
        text = _with_member(text, each)
    return whole.bytes_of(text)


def _with_member(text: str, wanted: Wanted) -> str:
    ending = "\r\n" if "\r\n" in text else "\n"
    new = json.dumps(wanted.value)
    if not _BLANK.sub("", text, count=1):
        return f"{text}{{{ending}    {json.dumps(wanted.name)}: {new}{ending}}}{ending}"
    there, close = members(text)
    same = [member for member in there if member.name == wanted.name]
    for member in reversed(same):
        text = text[: member.value] + new + text[member.end :]
    if same:
        return text
    if not there:
        at = text.index("{", _after_blank(text, 0)) + 1
        return f"{text[:at]}{ending}    {json.dumps(wanted.name)}: {new}{ending if at == close else ''}{text[at:]}"
    last = there[-1]
    before = text[: last.start]
    line = before[max(before.rfind("\n"), before.rfind("\r")) + 1 :]
    gap = ending + line if not line.strip() and len(line) < len(before) else " "
    value_end = _after_blank(text, last.end) + 1 if last.comma else last.end
    comment = _SAME_LINE.match(text, value_end)
    at = comment.end() if comment else value_end
    if gap == " " and comment and comment[0].lstrip().startswith("//"):
        gap = ending
    made = f"{gap}{json.dumps(wanted.name)}: {new}{',' if last.comma else ''}"
    return f"{text[:value_end]}{'' if last.comma else ','}{text[value_end:at]}{made}{text[at:]}"
