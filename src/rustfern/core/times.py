"""Times as documents and records write them, and the zone in which people are told of them."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, tzinfo

import msgspec

_ISO = re.compile(r"(\d{4})-(\d\d)-(\d\d)(?:[T ](\d\d):(\d\d)(?::(\d\d)(?:\.\d*)?)?)?\s*(Z|[+-]\d\d:?\d\d)?")
_FILETIME_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def iso(text: str) -> datetime | None:
    """An ISO 8601 / W3CDTF time; aware UTC if it names a zone, naive if not, None if it is none."""
    found = _ISO.fullmatch(text.strip())
    if not found:
        return None
    year, month, day, hour, minute, second = (int(g or 0) for g in found.groups()[:6])
    zone = found[7]
    try:
        value = datetime(year, month, day, hour, minute, min(second, 59))
        if not zone:
            return value
        if zone == "Z":
            return value.replace(tzinfo=UTC)
        sign = -1 if zone[0] == "-" else 1
        offset = sign * timedelta(hours=int(zone[1:3]), minutes=int(zone[-2:]))
        return (value - offset).replace(tzinfo=UTC)
    except (ValueError, OverflowError):
        return None


def utc(seconds: float) -> datetime | None:
    """A time in seconds since 1970 as aware UTC, or None where no calendar has it."""
    try:
        return _EPOCH + timedelta(seconds=seconds)
    except (OverflowError, ValueError):
        return None


def filetime(value: int) -> datetime | None:
    """A count of 100 ns since 1601 ([MS-DTYP] 2.3.3) as aware UTC; None for zero and the impossible."""
    if value <= 0:
        return None
    try:
        return _FILETIME_EPOCH + timedelta(microseconds=value // 10)
    except OverflowError:
        return None


def to_utc(local: datetime, near: datetime | None) -> datetime:
    """A wall-clock time without zone as UTC: the zone is taken from the nearest quarter hour to `near`.

    A difference of more than 14 hours is no zone; the time is then taken as UTC.
    """
    plain = local.replace(tzinfo=UTC)
    if near is None:
        return plain
    quarters = round((plain - near) / timedelta(minutes=15))
    return plain - quarters * timedelta(minutes=15) if abs(quarters) <= 56 else plain


_IN_PATH = "zoneinfo/"
_STAMP = "%Y-%m-%dT%H:%M:%SZ"


def zone_named(name: str) -> tzinfo:
    """A zone by its name: of the tz database, as a path to it (`/usr/share/zoneinfo/…`), or as Windows calls it.

    Raises `ValueError` if it is not known. Source of the Windows names: Unicode CLDR, windowsZones.
    """
    from zoneinfo import ZoneInfo

    plain = name.rpartition(_IN_PATH)[2].strip()
    try:
        return ZoneInfo(plain)
    except (ValueError, OSError, KeyError) as error:  # ZoneInfoNotFoundError is a KeyError
        from tzlocal.windows_tz import win_tz

        if plain in win_tz:
            return ZoneInfo(win_tz[plain])
        raise ValueError(f"zone {name!r} is not known") from error


class Clock(msgspec.Struct, frozen=True):
    """The wall clock by which people are told of times: in `zone`, None for this machine's."""

    zone: tzinfo | None = None

    @classmethod
    def of_zone(cls, name: str | None) -> Clock:
        """The clock of a zone by its name, of this machine without one. Raises `ValueError` for a zone that is not known."""
        return cls(zone_named(name) if name else None)

    def local(self, time: datetime) -> datetime:
        """An aware time by this clock."""
        try:
            return time.astimezone(self.zone)
        except (OverflowError, ValueError, OSError):
            return time  # the first and last days of the calendar have no time in some zones

    def format_time(self, time: datetime | None) -> str:
        """A time for people, to the minute."""
        return f"{self.local(time):%Y-%m-%d %H:%M}" if time else "an unknown time"

    def near(self, time: datetime, now: datetime) -> str:
        """How people call a day of the last week: today, yesterday, Thursday; nothing for any other."""
        days = (self.local(now).date() - self.local(time).date()).days
        return {0: "today", 1: "yesterday"}.get(days, f"{self.local(time):%A}" if 1 < days < 7 else "")

    def from_wall(self, told: datetime) -> datetime:
        """What this clock showed, as an aware time. Raises `ValueError` for a time that came twice or never there, as clocks were changed."""
        if told.tzinfo is not None:
            return told
        first, second = (
            told.replace(fold=fold, tzinfo=self.zone) if self.zone else told.replace(fold=fold).astimezone()
            for fold in (0, 1)
        )
        if first.utcoffset() != second.utcoffset():
            if self.local(first.astimezone(UTC)).replace(tzinfo=None, fold=0) != told:
                raise ValueError(f"{told:%Y-%m-%d %H:%M} never came there: clocks were put forward over it")
            both = " or ".join(f"{told:%Y-%m-%dT%H:%M}{each:%z}" for each in (first, second))
            raise ValueError(f"{told:%Y-%m-%d %H:%M} came twice there, as clocks were put back: write {both}")
        return first


def stamp(time: datetime | None) -> str | None:
    """A time as the contract writes it: UTC, whole seconds, ending in Z."""
    return time.astimezone(UTC).strftime(_STAMP) if time else None


def from_stamp(text: str) -> datetime:
    """The time that a stamp of the contract tells. Raises `ValueError` for another text."""
    return datetime.strptime(text, _STAMP).replace(tzinfo=UTC)
