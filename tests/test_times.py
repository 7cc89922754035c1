"""Times as technicians type them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest
from conftest import Run, odt, write

from rustfern.cli.times import parse_error, parse_time

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


@pytest.mark.parametrize(
    ("text", "seconds"), [("+7m", 420), ("-1h30m", -5400), ("+1d 2h", 93_600), ("-5s", -5), ("+ 12 m", 720)]
)
def test_clock_errors(text: str, seconds: int) -> None:
    assert parse_error(text).total_seconds() == seconds


@pytest.mark.parametrize("text", ["7", "7m", "+", "+7", "+7x", "m", "", "+999999999d"])
def test_what_is_no_clock_error(text: str) -> None:
    with pytest.raises(ValueError, match="clock"):
        parse_error(text)


def test_the_persons_zone_and_a_wrong_clock(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    disk = tmp_path / "disk"
    when = int(datetime(2026, 3, 12, 16, 38, tzinfo=UTC).timestamp())
    saved = odt("Mooring plan")
    write(disk / "home" / "petra" / "Documents" / "plan.odt", saved, when)
    write(
        disk / "home" / "petra" / "Documents" / "plan.odt~",
        odt("Mooring plan of the east berth, all of it written anew"),
        when - 7200,
    )
    plain = rustfern("scan", disk, "--document", "plan")
    assert "2026-03-12 16:38" in plain.out and "UTC" in plain.out
    moved = rustfern("scan", disk, "--document", "plan", "--zone", "America/New_York", "--clock-error", "-1h")
    assert "2026-03-12 12:38" in moved.out and "which was 1 h behind" in " ".join(moved.out.split())
    # 11:00 true time in that zone was 10:00 by the clock that was an hour behind: 14:00 UTC. The older copy is of 14:38.
    limit = (
        "--document",
        "plan",
        "--happened",
        "overwritten",
        "--zone",
        "America/New_York",
        "--clock-error",
        "-1h",
        "--json",
    )
    before = rustfern("scan", disk, *limit, "--older-than", "2026-03-12 11:00").json["documents"][0]
    assert before["situation"] == "nothing-lost"
    after = rustfern("scan", disk, *limit, "--older-than", "2026-03-12 11:45").json["documents"][0]
    assert after["situation"] == "overwritten"
    assert next(c for c in after["copies"] if c["id"] == after["best"])["path"].endswith("~")
    for wrong in (("--zone", "Mars/Base"), ("--clock-error", "7")):
        run = rustfern("scan", disk, *wrong)
        assert run.status == 2 and "write" in run.err


def test_the_zone_of_the_searched_system_is_said_where_it_differs(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    disk = tmp_path / "disk"
    write(disk / "home" / "petra" / "Documents" / "plan.odt", odt("Mooring plan"))
    write(disk / "etc" / "timezone", "Europe/London\n")
    (disk / "usr").mkdir()
    assert "add --zone Europe/London" in " ".join(rustfern("scan", disk, TZ="Asia/Tokyo").out.split())
    assert "set to" not in rustfern("scan", disk, TZ="Asia/Tokyo").out.split("add --zone")[1]
    assert "add --zone" not in rustfern("scan", disk, "--zone", "Europe/London").out
    assert rustfern("scan", disk, "--json").json["zones"] == ["Europe/London"]
