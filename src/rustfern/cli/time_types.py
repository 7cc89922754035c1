"""Times as people say them: ISO, `16:40`, `yesterday`, `monday 10:00`, `2 hours ago`, `27.11.2026`. What could mean two things is wrong usage."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import TypeVar

import click

from rustfern.core.times import Clock, zone_named

_CLOCK = re.compile(r"(\d{1,2}):(\d{2})(?::(\d{2}))?")
_ISO = re.compile(
    r"(\d{4})-(\d{1,2})-(\d{1,2})(?:[T ]+(\d{1,2}):(\d{2})(?::(\d{2})(?:[.,]\d+)?)?)?\s*(Z|[+-]\d{2}:?\d{2})?",
    re.IGNORECASE,
)
_AGO = re.compile(r"(\d{1,4}|an?|one)\s*(minutes?|mins?|hours?|days?|weeks?)\s+ago")
_LENGTHS = {"m": timedelta(minutes=1), "h": timedelta(hours=1), "d": timedelta(days=1), "w": timedelta(weeks=1)}
_DATE = re.compile(r"(\d{1,2})([./-])(\d{1,2})\2(\d{4})")
_WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_HELP = (
    'write it as "2026-11-23 16:40" (the person\'s wall clock), "2026-11-23T16:40Z", "16:40", "yesterday 16:40", '
    '"monday 10:00" or "2 hours ago"'
)


def parse_time(text: str, now: datetime) -> datetime:
    """An aware time where an offset is written, else what the wall clock showed. Raises `ValueError` with what to write instead."""
    words = text.strip().casefold()
    if found := _ISO.fullmatch(text.strip()):
        year, month, day, hour, minute, second = (int(g or 0) for g in found.groups()[:6])
        try:
            value = datetime(year, month, day, hour, minute, second)
        except ValueError as error:
            raise ValueError(f"{text!r} is no time ({error}); {_HELP}") from error
        zone = found[7]
        if zone:
            suffix = "+00:00" if zone.upper() == "Z" else zone
            return datetime.fromisoformat(value.isoformat() + suffix)
        return value
    wall = now.replace(tzinfo=None, microsecond=0)
    if found := _AGO.fullmatch(words):
        count = int(found[1]) if found[1].isdigit() else 1
        return wall - count * _LENGTHS[found[2][0]]
    day_word, _, clock = words.partition(" ")
    if _CLOCK.fullmatch(words):
        day_word, clock = "", words
    hit = _CLOCK.fullmatch(clock.strip().removeprefix("at ").strip()) if clock else None
    date = _day(day_word, wall)
    if date is not None and (hit or (day_word and not clock)) and (not hit or (int(hit[1]) < 24 and int(hit[2]) < 60)):
        then = datetime(date.year, date.month, date.day)
        if hit:
            then = then.replace(hour=int(hit[1]), minute=int(hit[2]), second=min(int(hit[3] or 0), 59))
        # A time of day, or a day of the week, that is still to come is the last one of its name.
        if day_word == "" and then > wall:
            then -= timedelta(days=1)
        elif day_word in _WEEKDAYS and then > wall:
            then -= timedelta(weeks=1)
        return then
    raise ValueError(f"{text!r} could mean several times or none; {_HELP}")


def _day(word: str, wall: datetime) -> datetime | None:
    """The day that a word names, the last one of its name; None if it names none. Raises `ValueError` for one that could be two."""
    named = {"": 0, "today": 0, "yesterday": 1}.get(word)
    if named is not None:
        return wall - timedelta(days=named)
    if word in _WEEKDAYS:
        return wall - timedelta(days=(wall.weekday() - _WEEKDAYS.index(word)) % 7)
    if not (found := _DATE.fullmatch(word)):
        return None
    first, second, year = int(found[1]), int(found[3]), int(found[4])
    if first <= 12 and second <= 12 and first != second:
        raise ValueError(
            f"{word!r} could be two days; write it as {year}-{second:02}-{first:02} or {year}-{first:02}-{second:02}"
        )
    day, month = (second, first) if second > 12 else (first, second)
    try:
        return datetime(year, month, day)
    except ValueError as error:
        raise ValueError(f"{word!r} is no day ({error}); {_HELP}") from error


_T = TypeVar("_T")
_PIECE = re.compile(r"(\d+)([dhms])")
_UNITS = {"d": 86_400, "h": 3_600, "m": 60, "s": 1}


def parse_error(text: str) -> timedelta:
    """How far a clock was ahead (`+7m`) or behind (`-1h30m`). Raises `ValueError`."""
    sign, rest = text.strip()[:1], text.strip()[1:].replace(" ", "").casefold()
    pieces = _PIECE.findall(rest)
    if sign not in ("+", "-") or not pieces or "".join(number + unit for number, unit in pieces) != rest:
        raise ValueError(
            f'{text!r} is no clock error; write "+7m" if the clock was 7 minutes ahead, "-1h30m" if it was behind'
        )
    seconds = sum(int(number) * _UNITS[unit] for number, unit in pieces)
    if seconds > 100 * 366 * 86_400:
        raise ValueError(f"{text!r} is more than a century; no clock is that wrong")
    return timedelta(seconds=seconds if sign == "+" else -seconds)


def parse_age(text: str) -> timedelta:
    """A length of time such as `30d`, `6w` or `12h`. Raises `ValueError`."""
    found = re.fullmatch(r"(\d{1,5})\s*(h|d|w|hours?|days?|weeks?)", text.strip().casefold())
    if not found:
        raise ValueError(f'{text!r} is no length of time; write "30d", "6w" or "12h"')
    return int(found[1]) * _LENGTHS[found[2][0]]


def parse_span(text: str) -> float:
    """Seconds of a length of time such as `20m`, `2h` or `1h30m`. Raises `ValueError`."""
    rest = text.strip().replace(" ", "").casefold()
    pieces = _PIECE.findall(rest)
    if not pieces or "".join(number + unit for number, unit in pieces) != rest:
        raise ValueError(f'{text!r} is no length of time; write "20m", "2h" or "1h30m"')
    return float(sum(int(number) * _UNITS[unit] for number, unit in pieces))


class Spoken(click.ParamType[_T]):
    """A value as a technician says it; what cannot be read is wrong usage, with what to write instead."""

    def __init__(self, name: str, read: Callable[[str], _T]) -> None:
        self.name, self._read = name, read

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> _T:
        try:
            return self._read(str(value))
        except ValueError as error:
            self.fail(str(error), param, ctx)


AGE = Spoken("age", parse_age)
SPAN = Spoken("length of time", parse_span)
CLOCK_ERROR = Spoken("clock error", parse_error)
TIME = Spoken("time", lambda text: parse_time(text, Clock().local(datetime.now(UTC))))


def _zone(text: str) -> str:
    try:
        zone_named(text)
    except ValueError as error:
        raise ValueError(f'{error}; write it as "Europe/London"') from error
    return text


ZONE = Spoken("zone", _zone)
