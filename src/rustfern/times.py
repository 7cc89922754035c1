"""Times as documents and records write them."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

_ISO = re.compile(r"(\d{4})-(\d\d)-(\d\d)(?:[T ](\d\d):(\d\d)(?::(\d\d)(?:\.\d*)?)?)?\s*(Z|[+-]\d\d:?\d\d)?")
_FILETIME_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)


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
