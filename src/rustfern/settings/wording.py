"""Settings in words, the same on the screen, on the customer's page and in the journal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rustfern.core.remarks import counted

if TYPE_CHECKING:
    from rustfern.settings.protection import Logical, Protection

_ALL = {
    "crash": "all unsaved work",
    "closed": "all unsaved work",
    "overwritten": "the old version",
    "deleted": "the document",
}
_MINUTES_A_DAY = 1_440


def amount(minutes: int | None, against: str) -> str:
    """What is lost at worst."""
    if minutes is None:
        return _ALL[against]
    if minutes == 0:
        return "nothing"
    if minutes >= _MINUTES_A_DAY and minutes % _MINUTES_A_DAY == 0:
        return counted(minutes // _MINUTES_A_DAY, "day")
    if minutes >= 60 and minutes % 60 == 0:
        return counted(minutes // 60, "hour")
    return counted(minutes, "minute")


def in_words(row: Protection, value: Logical | None) -> str:
    """A value as people read it; None is what holds where nothing is set."""
    if value is None:
        if row.setting.role == "none":
            return "there is none"
        return f"{in_words(row, row.default)} (default)" if row.default is not None else "not known"
    if isinstance(value, bool):
        return "on" if value else "off"
    if row.setting.zero_is_off and value == 0:
        return "off"
    number, unit = int(value), str(row.setting.unit)
    for small, big, size in (("milliseconds", "seconds", 1_000), ("seconds", "minutes", 60)):
        if unit == small and number % size == 0 and number:
            number, unit = number // size, big
    return f"every {counted(number, unit.removesuffix('s'))}".replace("every 1 ", "every ")
