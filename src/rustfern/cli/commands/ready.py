"""`rustfern ready`: the first second of a job."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from rustfern.cli.context import this_run
from rustfern.cli.options import json_option, print_json
from rustfern.core.remote_paths import is_remote
from rustfern.operations import command_schema
from rustfern.operations.ready import Readiness, ready

if TYPE_CHECKING:
    from rich.console import Console

_SHOWN = 4


@click.command()
@click.argument("roots", nargs=-1, metavar="[ROOT]...")
@click.option("--person", metavar="NAME", help="Only the home of this person.")
@click.option(
    "--to",
    "target",
    metavar="DIR",
    help="Where you will keep and restore: its free space, and whether it is another disk.",
)
@json_option
def command(roots: tuple[str, ...], person: str | None, target: str | None, as_json: bool) -> int:
    """Look around for one second, reading only: whose machine or disk, which people, what is running with documents open, what
    is locked or missing, and what to do and not to do first.

    \b
    Examples (on the disk that `rustfern demo` lays out):
      rustfern ready marlow-quay-disk
      rustfern ready marlow-quay-disk --to kept
      rustfern ready

    Exit status: 0 ready, 1 nobody's home was found, 2 wrong usage, 3 something is denied, locked, encrypted or hibernated.
    """
    found = ready(roots or None, person, target, this_run().session)
    if as_json:
        print_json(command_schema.ready(found))
    else:
        from rustfern.cli.screen.console import out

        _show(out(), found, target, roots)
    if found.denied or found.blocked:
        return 3
    return 0 if found.homes else 1


def _show(console: Console, found: Readiness, target: str | None, typed: Sequence[str]) -> None:
    """Danger first, then where we are, then what to do."""
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, RUST, WARN, bullet, fact, heading, next_steps, shell_word, size
    from rustfern.cli.screen.disk_view import disk_lines
    from rustfern.core.paths import show_name
    from rustfern.sources.live_machine import ago

    for program in found.programs:
        if program.documents or program.last_autosave:
            what = f" with {', '.join(show_name(d) for d in program.documents[:3])}" if program.documents else ""
            last = (
                f"last autosave {ago(program.last_autosave, this_run().clock)}"
                if program.last_autosave
                else "no autosave found yet"
            )
            console.print(
                Text(f"! {program.name} is running{what}: do not close or end it; {last}", style=f"bold {RUST}")
            )
    for text in (*found.blocked, *([found.clock] if found.clock else [])):
        bullet(console, f"! {text}", f"bold {RUST}", indent=0)
    if found.live and typed:
        text = "In use: part of this running machine, or of a share that others work on."
        console.print(Text(text, style="bold"))
    elif found.live:
        console.print(Text("This machine, as it runs.", style="bold"))
    elif any(map(is_remote, found.roots)):
        console.print(Text("On another machine: somebody may be at work there.", style="bold"))
    else:
        what = "A disk, read directly and never changed" if found.disks else "Attached files"
        console.print(Text(f"{what}: nothing of this is running here.", style=f"bold {FERN}"))
    for root in found.roots:
        fact(console, "where", root)
    for disk in found.disks:
        for line in disk_lines(disk):
            fact(console, "disk", line)
    who = ", ".join(f"{home.person} ({home.layout})" for home in found.homes) or "nobody's home was found"
    fact(console, "people", who)
    fact(
        console,
        "machine",
        ", ".join(part for part in (found.host, f"zone {found.zone}" if found.zone else None) if part)
        or "name and zone not known",
    )
    newest = f", the newest written {ago(found.newest, this_run().clock)}" if found.newest else ""
    fact(console, "copies", f"{found.copies} short-lived in known folders{newest}")
    if target:
        room = f"{size(found.free)} free" if found.free is not None else "free space not known"
        other = (
            f"on the SAME disk as {found.shared_with}: another one is safer"
            if found.shared_with
            else "on another disk: good"
        )
        fact(console, "target", f"{target}: {room}, {other}")
    settings = [f"{a.program}: {a.says}" + (f" ({', '.join(a.people)})" if a.people else "") for a in found.advice]
    _list(console, "Cannot be read", found.denied, RUST)
    _list(console, "Copies also go to, but not here", [f"{path} ({by})" for path, by in found.outside], WARN)
    heading(console, "First")
    for number, text in enumerate(found.first, 1):
        bullet(console, f"{number}. {text}", FERN)
    heading(console, "Do not")
    for text in found.never:
        bullet(console, f"- {text}", RUST)
    _at_worst(console, found)
    _list(console, "What is set", settings, "")
    where = " ".join(shell_word(root) for root in found.roots) if typed else ""
    to = shell_word(target) if target else "DIR-ON-ANOTHER-DISK"
    steps = (
        [(f"keep {where} --to {to}".replace("  ", " "), "take the short-lived copies to safety")]
        if found.copies and not found.disks
        else []
    )
    if any(disk.container == "device" for disk in found.disks):
        steps = [(f"keep {where} --to {to}".replace("  ", " "), "copy the whole disk into an image")]
    next_steps(console, [*steps, (f"scan {where}".strip(), "find what was lost")])


def _at_worst(console: Console, found: Readiness) -> None:
    """What a crash can cost each person as their programs are set, in one line each."""
    from rustfern.cli.screen.console import WARN

    names = {home.path: home.person for home in found.homes}
    lines = [f"{names[path]}: {text}" for path, text in found.at_worst.items() if path in names]
    _list(console, "At worst a crash costs", lines, WARN, 12)


def _list(console: Console, title: str, lines: Sequence[str], style: str, most: int = _SHOWN) -> None:
    from rustfern.cli.screen.console import PALE, bullet, heading

    if not lines:
        return
    heading(console, title)
    for line in lines[:most]:
        bullet(console, line, style)
    if len(lines) > most:
        bullet(console, f"and {len(lines) - most} more (--json lists all)", PALE)
