"""`rustfern cases`: the technician's cases; go on with one, note things in it, forget texts, remove it, read its log."""

from __future__ import annotations

import os
import sys
from datetime import timedelta
from typing import TYPE_CHECKING

import click

from rustfern.cases import manage
from rustfern.cases.case_file import CaseFile
from rustfern.cli.context import this_run
from rustfern.cli.options import json_option, paths_option, print_json
from rustfern.cli.time_types import AGE
from rustfern.core.errors import WrongUsage
from rustfern.core.paths import show_name
from rustfern.operations import command_schema

if TYPE_CHECKING:
    from rich.console import Console

_NOTED = ("ticket", "technician", "consent")


@click.command()
@click.argument("which", required=False, metavar="[CASE]")
@click.option("--ticket", metavar="TEXT", help="Note the ticket's number.")
@click.option("--technician", metavar="NAME", help="Note who works on it.")
@click.option("--consent", metavar="TEXT", help="Note what the customer agreed to.")
@click.option("--note", metavar="TEXT", help="Add a note to its log.")
@click.option("--continue", "go_on", is_flag=True, help="Go on with it: look, restore and report use it from now on.")
@click.option("--log", "show_log", is_flag=True, help="What was done in it, with start and end.")
@click.option("--purge-text", is_flag=True, help="Forget the texts that a search for words kept in it.")
@click.option("--older-than", type=AGE, metavar="AGE", help="Only those begun longer ago than this: 30d, 6w.")
@click.option("--remove", is_flag=True, help="Delete the case file (restored files stay).")
@click.option("--yes", is_flag=True, help="Do not ask before removing.")
@paths_option
@json_option
def command(
    which: str | None,
    ticket: str | None,
    technician: str | None,
    consent: str | None,
    note: str | None,
    go_on: bool,
    show_log: bool,
    purge_text: bool,
    older_than: timedelta | None,
    remove: bool,
    yes: bool,
    as_json: bool,
) -> int:
    """List the cases, or do something with one: each scan begins a case, which remembers what was searched, found and restored.

    CASE is its number in the list, its name or the beginning of it, its ticket, or the path of a case file; without one, the case in use.

    \b
    Examples (after `rustfern demo`):
      rustfern cases
      rustfern cases 1 --ticket 4711 --technician "T. Okoro"
      rustfern cases --note "called Ines, she wants the Tuesday version"
      rustfern cases --log
      rustfern cases 2 --continue
      rustfern cases 4711 --purge-text
      rustfern cases --older-than 30d --remove

    Exit status: 0 done, 1 there is no such case, 2 wrong usage.
    """
    told = {"ticket": ticket, "technician": technician, "consent": consent}
    changes = [*told.values(), note, go_on, purge_text, remove, show_log]
    if older_than is not None:
        if which is not None or any([*told.values(), note, go_on, purge_text, show_log]):
            raise WrongUsage(
                "--older-than takes all old cases, and goes with --remove alone", None, "Leave the rest away"
            )
        return _old(older_than, remove, yes, as_json)
    if which is None and not any(changes):
        return _list(manage.cases(), as_json)
    path = manage.find(which)
    if remove:
        return _remove(path, yes)
    if any(value is not None for value in (*told.values(), note)):
        manage.annotate(path, note, **told)
    if go_on:
        manage.use(path)
    forgotten = manage.purge_texts(path) if purge_text else None
    _show(path, as_json, show_log, go_on, forgotten)
    return 0


def _old(age: timedelta, remove: bool, yes: bool, as_json: bool) -> int:
    """The old cases, or all of them removed; the one in use never is."""
    rows = manage.older(age)
    if not remove or not rows:
        return _list(rows, as_json, numbered=False)
    if not yes:
        if not sys.stdin.isatty():
            raise WrongUsage(f"removing {len(rows)} cases cannot be undone", None, "Add --yes to remove them")
        click.confirm(f"Remove {len(rows)} cases for good (restored files stay)?", abort=True, err=True)
    for row in rows:
        manage.remove(row.path)
    if as_json:
        print_json(command_schema.cases(rows))
    else:
        click.echo(f"Removed: {len(rows)} cases, the newest of them {rows[0].name}")
    return 0


def _list(rows: list[manage.CaseRow], as_json: bool, *, numbered: bool = True) -> int:
    if as_json:
        print_json(command_schema.cases(rows))
        return 0 if rows else 1
    from rich.text import Text

    from rustfern.cli.screen.console import next_steps, out, paged

    if not rows and not numbered:
        out().print(Text("No case is that old.", style="bold"))
        return 1
    if not rows:
        console = out()
        console.print(Text("There is no case yet.", style="bold"))
        next_steps(console, [("scan ROOT", "begin one: search someone's files")])
        return 1
    with paged() as console:
        _rows(console, rows, numbered=numbered)
    return 0


def _rows(console: Console, rows: list[manage.CaseRow], *, numbered: bool) -> None:
    """The list, and what to do next."""
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, SLATE, bullet, next_steps, short_path, size

    console.print(Text(f"{len(rows)} cases, the newest first", style="bold"))
    for number, row in enumerate(rows, 1):
        line = Text()
        line.append(" ▶ " if row.used else "   ", style=f"bold {FERN}")
        line.append(f"{number:>3}  " if numbered else "", style=f"bold {SLATE}")
        line.append(f"{this_run().clock.format_time(row.made)}  ", style="bold" if row.used else "")
        line.append("search not finished" if row.lost is None else f"{row.lost} lost, {row.restored} restored")
        line.append(f"  {size(row.size)}", style=PALE)
        if row.ticket:
            line.append(f"  ticket {show_name(row.ticket)}", style="bold")
        console.print(line, soft_wrap=True)
        for root in row.roots[:2]:
            bullet(console, short_path(root, console.width - 12), PALE, indent=8)
        if row.texts:
            bullet(console, "holds texts of documents: --purge-text forgets them", PALE, indent=8)
    if not numbered:
        return next_steps(console, [("cases --older-than AGE --remove", "delete these cases for good")])
    used = next((number for number, row in enumerate(rows, 1) if row.used), 1)
    steps = [("look 1", "go on in the marked case: its first document")]
    if len(rows) > 1:
        steps.append((f"cases {2 if used != 2 else 1} --continue", "go on with another one"))
    return next_steps(console, steps)


def _show(path: str, as_json: bool, show_log: bool, go_on: bool, forgotten: bool | None) -> None:
    file = CaseFile.open(path)
    try:
        done, told = manage.log(file), manage.paper(file)
    finally:
        file.close()
    row = manage.row_of(path)
    if as_json:
        print_json(command_schema.case(row, told["consent"], done))
        return
    from rustfern.cli.screen.console import bullet, fact, heading, next_steps, out, short_path, size

    console = out()
    heading(console, f"Case {row.name}")
    for root in row.roots:
        fact(console, "searched", short_path(root, 2 * console.width))
    fact(console, "found", "search not finished" if row.lost is None else f"{row.lost} lost, {row.restored} restored")
    for name in _NOTED:
        if told[name]:
            fact(console, name, told[name])
    fact(console, "file", f"{short_path(row.path, 2 * console.width)}, {size(row.size)}")
    for text in row.notes:
        fact(console, "note", text)
    if forgotten is not None:
        bullet(console, "The texts in it are forgotten." if forgotten else "There were no texts in it.")
    if go_on:
        bullet(console, "look, restore and report use this case from now on.")
    if show_log:
        _log(console, done)
    elif not go_on:
        next_steps(console, [("cases --log", "what was done in it, with start and end")])
    else:
        next_steps(console, [("look 1", "its first document"), ("report --to FILE.html", "the page for the customer")])


def _log(console: Console, done: list[manage.LogEntry]) -> None:
    import shlex

    from rich.text import Text

    from rustfern.cli.screen.console import PALE, bullet, heading

    clock = this_run().clock
    heading(console, "What was done")
    if not done:
        bullet(console, "nothing was noted")
    for each in done:
        line = Text()
        line.append(f"   {clock.local(each.began):%Y-%m-%d %H:%M:%S}", style=PALE)
        if each.status is None:
            line.append(f"   {show_name(each.says[0])}", style="italic")
        else:
            line.append(f" to {clock.local(each.ended):%H:%M:%S}  ", style=PALE)
            line.append(f"rustfern {show_name(shlex.join(each.says))}", style="bold")
            line.append(f"  (status {each.status})", style=PALE)
        console.print(line, soft_wrap=True)


def _remove(path: str, yes: bool) -> int:
    row = manage.row_of(path)
    if not yes:
        if not sys.stdin.isatty():
            raise WrongUsage("removing a case cannot be undone", os.path.basename(path), "Add --yes to remove it")
        click.confirm(f"Remove case {row.name} for good (restored files stay)?", abort=True, err=True)
    manage.remove(path)
    click.echo(f"Removed: case {row.name}")
    return 0
