"""Times as technicians type them: ISO, `today 16:40`, `yesterday 16:40`. What could mean two things is wrong usage."""

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
_HELP = (
    'write it as "2026-11-23 16:40" (the person\'s wall clock), "2026-11-23T16:40Z", "today 16:40" or "yesterday 16:40"'
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
    day_word, _, clock = words.partition(" ")
    days = {"today": 0, "yesterday": 1}.get(day_word)
    hit = _CLOCK.fullmatch(clock.strip()) if days is not None else None
    if days is not None and hit and int(hit[1]) < 24 and int(hit[2]) < 60:
        base = (now - timedelta(days=days)).replace(
            hour=int(hit[1]), minute=int(hit[2]), second=int(hit[3] or 0), microsecond=0
        )
        return base.replace(tzinfo=None)
    raise ValueError(f"{text!r} could mean several times or none; {_HELP}")


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


class Spoken(click.ParamType[_T]):
    """A value as a technician says it; what cannot be read is wrong usage, with what to write instead."""

    def __init__(self, name: str, read: Callable[[str], _T]) -> None:
        self.name, self._read = name, read

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> _T:
        try:
            return self._read(str(value))
        except ValueError as error:
            self.fail(str(error), param, ctx)


CLOCK_ERROR = Spoken("clock error", parse_error)
TIME = Spoken("time", lambda text: parse_time(text, Clock().local(datetime.now(UTC))))


def _zone(text: str) -> str:
    try:
        zone_named(text)
    except ValueError as error:
        raise ValueError(f'{error}; write it as "Europe/London"') from error
    return text


ZONE = Spoken("zone", _zone)
