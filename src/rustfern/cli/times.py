"""Times as technicians type them: ISO, `today 16:40`, `yesterday 16:40`. What could mean two things is wrong usage."""

from __future__ import annotations

import re
from datetime import datetime, timedelta

import click

_CLOCK = re.compile(r"(\d{1,2}):(\d{2})(?::(\d{2}))?")
_ISO = re.compile(
    r"(\d{4})-(\d{1,2})-(\d{1,2})(?:[T ]+(\d{1,2}):(\d{2})(?::(\d{2})(?:[.,]\d+)?)?)?\s*(Z|[+-]\d{2}:?\d{2})?",
    re.IGNORECASE,
)
_HELP = 'write it as "2026-11-23 16:40" (this machine\'s zone), "2026-11-23T16:40Z", "today 16:40" or "yesterday 16:40"'


def parse_time(text: str, now: datetime) -> datetime:
    """An aware time. `now` is aware and gives the zone. Raises `ValueError` with what to write instead."""
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
        return value.astimezone()
    day_word, _, clock = words.partition(" ")
    days = {"today": 0, "yesterday": 1}.get(day_word)
    hit = _CLOCK.fullmatch(clock.strip()) if days is not None else None
    if days is not None and hit and int(hit[1]) < 24 and int(hit[2]) < 60:
        base = (now - timedelta(days=days)).replace(
            hour=int(hit[1]), minute=int(hit[2]), second=int(hit[3] or 0), microsecond=0
        )
        return base.replace(tzinfo=None).astimezone()
    raise ValueError(f"{text!r} could mean several times or none; {_HELP}")


class TimeType(click.ParamType[datetime]):
    """A point in time."""

    name = "time"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        if isinstance(value, datetime):
            return value
        try:
            return parse_time(str(value), datetime.now().astimezone())
        except ValueError as error:
            self.fail(str(error), param, ctx)
