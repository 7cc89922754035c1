"""Times as technicians type them."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from conftest import Run, best_of, odt, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.cli.time_types import parse_error, parse_time
from rustfern.core.times import zone_named

T0 = int(datetime(2026, 3, 12, 16, 38, tzinfo=UTC).timestamp())
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
        ("05:30", (23, 5, 30)), ("23:59", (22, 23, 59)), ("yesterday", (22, 0, 0)), ("friday 10:00", (20, 10, 0)), ("Monday", (23, 0, 0)),
        ("monday 23:59", (16, 23, 59)), ("tuesday at 8:15", (17, 8, 15)), ("20.11.2026 16:40", (20, 16, 40)), ("11/20/2026", (20, 0, 0)),
        ("11.11.2026", (11, 0, 0)),
    ],
)  # fmt: skip
def test_wall_clock_times(text: str, expected: tuple[int, int, int]) -> None:
    found = parse_time(text, NOW)
    assert (found.day, found.hour, found.minute) == expected and found.tzinfo is None


@pytest.mark.parametrize(
    "text",
    [
        "05/06/2026",
        "12.11.2026",
        "31.2.2026",
        "tomorrow 9:00",
        "25:10",
        "monday 24:00",
        "last week",
        "2026-13-01",
        "today 25:00",
        "",
        "noon",
    ],
)
def test_what_could_mean_several_times(text: str) -> None:
    with pytest.raises(ValueError, match="write it as"):
        parse_time(text, NOW)


@pytest.mark.parametrize(
    ("text", "minutes"),
    [("2 hours ago", 120), ("an hour ago", 60), ("10 min ago", 10), ("3 days ago", 4320), ("1 week ago", 10080)],
)
def test_how_long_ago(text: str, minutes: int) -> None:
    assert NOW.replace(tzinfo=None) - parse_time(text, NOW) == timedelta(minutes=minutes)


@given(st.text(max_size=30))
def test_any_text_is_a_time_or_wrong_usage(text: str) -> None:
    with contextlib.suppress(ValueError):
        assert parse_time(text, NOW).year > 0


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
    assert (before["situation"], before["best"]) == ("overwritten", None)
    after = rustfern("scan", disk, *limit, "--older-than", "2026-03-12 11:45").json["documents"][0]
    assert after["situation"] == "overwritten"
    assert next(c for c in after["copies"] if c["id"] == after["best"])["path"].endswith("~")
    for wrong in (("--zone", "Mars/Base"), ("--clock-error", "7")):
        run = rustfern("scan", disk, *wrong)
        assert run.status == 2 and "write" in run.err


@pytest.mark.parametrize(
    ("name", "zone"),
    [
        ("Europe/London", "Europe/London"), ("W. Europe Standard Time", "Europe/Berlin"), ("GMT Standard Time", "Europe/London"),
        ("/var/db/timezone/zoneinfo/America/New_York", "America/New_York"), ("AUS Eastern Standard Time", "Australia/Sydney"),
    ],
)  # fmt: skip
def test_zones_as_systems_call_them(name: str, zone: str) -> None:
    assert str(zone_named(name)) == zone


@pytest.mark.parametrize("how", ["name", "link"])
def test_the_zone_of_the_searched_system_is_used(how: str, tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    disk = tmp_path / "disk"
    document = write(disk / "home" / "petra" / "Documents" / "plan.txt", "berth four is free", T0)
    write(document.with_name("#plan.txt#"), "berth four is free from Monday on", T0 + 60)
    write(disk / "etc" / "hosts", "")
    if how == "name":
        write(disk / "etc" / "timezone", "America/New_York\n")
    else:
        (disk / "etc" / "localtime").symlink_to("/usr/share/zoneinfo/America/New_York")
    assert rustfern("ready", disk, "--json").json["zone"] == "America/New_York"
    run = rustfern("scan", disk, TZ="Asia/Tokyo")
    assert "America/New_York (as that system is set)" in run.out and "2026-03-12 12:38" in run.out
    assert "2026-03-12 12.39" in rustfern("restore", "1", "--to", tmp_path / "out", TZ="Asia/Tokyo").out
    assert "2026-03-12 16:38" in rustfern("scan", disk, "--zone", "UTC", TZ="Asia/Tokyo").out
    answer = rustfern("scan", disk, "--json", TZ="Asia/Tokyo").json
    assert answer["zones"] == ["America/New_York"] and answer["documents"][0]["copies"][0]["modified"].endswith(
        "16:38:00Z"
    )
    # The limit is the wall clock there: 12:38:30 parts the two copies.
    for limit, best in (("2026-03-12 12:38:30", "plan.txt"), ("2026-03-12 12:45", "#plan.txt#")):
        found = rustfern("scan", disk, "--older-than", limit, "--json", TZ="Asia/Tokyo").json["documents"][0]
        assert best_of(found)["path"].endswith(best)
    for limit, said in (("2026-11-01 01:30", "came twice"), ("2026-03-08 02:30", "never came")):
        wrong = rustfern("scan", disk, "--lost-at", limit)
        assert wrong.status == 2 and said in wrong.err


def test_systems_of_several_zones_leave_the_choice(tmp_path: Path, rustfern: Callable[..., Run]) -> None:
    for name, zone in (("a", "Europe/London"), ("b", "Asia/Tokyo")):
        write(tmp_path / "disks" / name / "home" / "petra" / ".config" / "x", "")
        write(tmp_path / "disks" / name / "etc" / "timezone", zone)
    run = " ".join(rustfern("scan", tmp_path / "disks").out.split())
    assert "UTC, this machine's" in run and "choose with --zone" in run and "Asia/Tokyo, Europe/London" in run
