"""Times as technicians type them."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from rustfern.cli.times import parse_time

NOW = datetime(2026, 11, 23, 17, 5, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("2026-03-12T16:38:02Z", "2026-03-12T16:38:02+00:00"),
        ("2026-03-12 16:38+01:00", "2026-03-12T15:38:00+00:00"),
        ("2026-03-12 16:38 Z", "2026-03-12T16:38:00+00:00"),
    ],
)
def test_times_with_a_zone(text: str, expected: str) -> None:
    assert parse_time(text, NOW).astimezone(UTC).isoformat() == expected


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("yesterday 16:40", (22, 16, 40)), ("Today 9:05", (23, 9, 5)), ("2026-11-20 16:40", (20, 16, 40)), ("2026-11-20", (20, 0, 0)),
    ],
)  # fmt: skip
def test_wall_clock_times(text: str, expected: tuple[int, int, int]) -> None:
    found = parse_time(text, NOW)
    assert (found.day, found.hour, found.minute) == expected and found.tzinfo is not None


@pytest.mark.parametrize(
    "text", ["16:40", "05/06/2026", "12.11.2026", "yesterday", "tomorrow 9:00", "2026-13-01", "today 25:00", "", "noon"]
)
def test_what_could_mean_several_times(text: str) -> None:
    with pytest.raises(ValueError, match="write it as"):
        parse_time(text, NOW)
