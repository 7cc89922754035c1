"""How things look in the terminal: one console, one palette, the same forms for sizes, times and paths everywhere."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from rustfern.cli.context import this_run
from rustfern.core.paths import show_name
from rustfern.core.times import from_stamp
from rustfern.output.inside import real_path

# Of middle brightness: at least four to one against black and against white.
FERN, RUST, SLATE, PALE = "color(28)", "color(160)", "color(31)", "color(243)"
WARN = "color(130)"
_LABEL = 12


class _Piped(Console):
    """A console whose reader may go away: that is no error of ours."""

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def out() -> Console:
    """The console for answers."""
    return _Piped(highlight=False, markup=False, emoji=False, soft_wrap=False, width=_width(sys.stdout), **_colours())


def _colours() -> dict[str, Any]:
    """Whether colours are used, as the technician set it; else the terminal and NO_COLOR decide."""
    wanted = this_run().configuration.colours
    return {"no_color": True} if wanted == "never" else {"force_terminal": True} if wanted == "always" else {}


@contextmanager
def paged() -> Iterator[Console]:
    """A console for a list: what is longer than the terminal's screen is shown a screen at a time. The pager is given colours only if it
    understands them.
    """
    console = out()
    if not sys.stdout.isatty() or not sys.stdin.isatty() or not this_run().configuration.paging:
        yield console
        return
    with console.capture() as captured:
        yield console
    text = captured.get()
    if text.count("\n") < console.height:
        sys.stdout.write(text)
        sys.stdout.flush()
    else:
        # What was read stays on the screen, where the pager is one that can do so.
        os.environ.setdefault("LESS", "-RFX")
        click.echo_via_pager(text)


def aside() -> Console:
    """The console for progress, warnings and logs."""
    return Console(stderr=True, highlight=False, markup=False, emoji=False, width=_width(sys.stderr), **_colours())


def _width(stream: object) -> int | None:
    if os.environ.get("COLUMNS", "").isdigit():
        return None  # Rich respects it
    if hasattr(stream, "isatty") and stream.isatty():
        return None
    return 100


def size(count: int | None) -> str:
    """Bytes for people."""
    if count is None:
        return "-"
    value = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 1000 or unit == "GB":
            return f"{value:.0f} {unit}" if unit == "B" or value >= 10 else f"{value:.1f} {unit}"
        value /= 1000
    return f"{value:.0f} GB"


def moment(stamp: str | None) -> str:
    """A UTC stamp of the contract by the wall clock that people are told of."""
    return this_run().clock.format_time(from_stamp(stamp)) if stamp else "time unknown"


def day_of(stamp: str | None) -> str:
    """What people call the day of a UTC stamp (yesterday, Thursday), nothing if it is long ago."""
    return this_run().clock.near(from_stamp(stamp), datetime.now(UTC)) if stamp else ""


def moment_said(stamp: str | None) -> str:
    """A time for a sentence: as people say it with the exact one beside it, `yesterday 16:38, 2026-11-22`, or the exact one alone."""
    day = day_of(stamp)
    date, _, clock = moment(stamp).partition(" ")
    return f"{day} {clock}, {date}" if day else moment(stamp)


def zone(name: str | None, zones: Sequence[str], *, told: bool) -> str:
    """The zone that times are shown in, and why: the technician gave it (`told`), the searched system is set to it, or it is this machine's."""
    if told:
        return f"{name} (--zone)"
    if name:
        also = f", where it is {show_name(zones[0])}" if zones and zones[0] != name else ""
        return f"{name} (as that system is set{also})"
    label = time.strftime("%Z") or "UTC"
    here = f"{label} (UTC{time.strftime('%z')})" if label != "UTC" else "UTC"
    others = (
        f"; those systems are set to {', '.join(show_name(each) for each in zones)}: choose with --zone"
        if zones
        else ""
    )
    return f"{here}, this machine's{others}"


def wrong_clock(error: timedelta | None) -> str:
    """What is to be said of a clock that was wrong; nothing for one that was right."""
    if not error:
        return ""
    days, rest = divmod(int(abs(error).total_seconds()), 86_400)
    pieces = ((days, "d"), (rest // 3600, "h"), (rest // 60 % 60, "min"), (rest % 60, "s"))
    amount = " ".join(f"{count} {unit}" for count, unit in pieces if count)
    return f", by that machine's clock, which was {amount} {'ahead' if error > timedelta() else 'behind'}"


def short_path(path: str, room: int) -> str:
    """A path for showing, shortened in the middle to `room` characters; its end is what tells it apart."""
    text = show_name(path)
    if len(text) <= room or this_run().full_paths:
        return text
    if len(text) <= room:
        return text
    head, tail = text.split("/", 2)[:2], text
    start = "/".join(head)
    keep = max(room - len(start) - 3, 12)
    tail = text[-keep:]
    cut = tail.find("/")
    return f"{start}/…{tail[cut:] if 0 <= cut < len(tail) - 12 else tail}"


def shell_word(text: str) -> str:
    """A word as it must be typed in a shell."""
    import shlex

    from rustfern.core.remote_paths import as_written

    return shlex.quote(as_written(text))


def heading(console: Console, text: str) -> None:
    """A quiet heading between the blocks."""
    console.print()
    console.print(Text(text, style="bold"))


def bullet(console: Console, text: str, style: str = "", indent: int = 3) -> None:
    """A wrapped, indented sentence. Names from disk in it are made safe to show."""
    import textwrap

    width = max(console.width - 1, 40)
    for line in textwrap.wrap(show_name(text), width - indent, break_long_words=True, break_on_hyphens=False) or [""]:
        console.print(Text(" " * indent + line, style=style), soft_wrap=True)


def column(console: Console, name: str, value: str) -> None:
    """A line of the head of an answer: its name, then what it is, wrapped beside it."""
    fact(console, name, value, indent=0, label=10, style="")


def fact(console: Console, name: str, value: str, indent: int = 3, label: int = _LABEL, style: str = PALE) -> None:
    """A named fact, its value wrapped in a column of its own, `label` wide to its left."""
    import textwrap

    room = max(console.width - indent - label - 1, 30)
    lines = textwrap.wrap(show_name(value), room, break_long_words=True, break_on_hyphens=False) or [""]
    for number, line in enumerate(lines):
        text = Text(" " * indent)
        text.append(f"{name if number == 0 else '':<{label}}", style=style)
        text.append(line)
        console.print(text, soft_wrap=True)


def own_name() -> str:
    """How this program is called from here: by its name where the shell finds it, else by the path it was called with."""
    import shutil

    called = sys.argv[0]
    found = shutil.which("rustfern")
    if found and real_path(found) == real_path(called):
        return "rustfern"
    if os.path.basename(called) != "rustfern":
        return f"{os.path.basename(sys.executable)} -P -m rustfern"
    near = os.path.relpath(called)
    return shell_word(near if len(near) < len(called) else called)


def next_steps(console: Console, commands: Sequence[tuple[str, str]]) -> None:
    """The exact next commands, always last. Each is given without the program's own name."""
    heading(console, "Next")
    commands = [(f"{own_name()} {command}", why) for command, why in commands]
    width = max(len(command) for command, _ in commands)
    beside = width + 6 + max(len(why) for _, why in commands) < console.width
    for command, why in commands:
        line = Text("   ")
        line.append(command.ljust(width) if beside else command, style=f"bold {SLATE}")
        line.append("   " if beside else "\n      ")
        line.append(why, style=PALE)
        console.print(line, soft_wrap=True)
