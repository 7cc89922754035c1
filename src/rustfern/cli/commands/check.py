"""`rustfern check`: is a file intact, by its own format, to its end?"""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import click

from rustfern.cli.context import this_run
from rustfern.cli.many import Called, ManyCommand
from rustfern.cli.options import json_option, paths_option, print_json
from rustfern.core.errors import WrongUsage
from rustfern.operations import command_schema
from rustfern.operations.check import Checked, alarm, check_paths, is_there

if TYPE_CHECKING:
    from rich.console import Console

_ORDER = ("damaged", "unreadable", "encrypted", "empty", "intact")
_SHOWN_INTACT = 40
_BRIEF = 10


def _words(one: Called) -> list[str]:
    """The call for one of many roots."""
    return ["--recursive", *one.options, one.root]


@click.command(cls=ManyCommand, words=_words)
@click.argument("paths", nargs=-1, required=True, metavar="PATH...")
@click.option("--recursive", is_flag=True, help="Folders: all files in them.")
@click.option("--count", "counted", is_flag=True, help="Count the words of each, too, which takes longer.")
@paths_option
@json_option
def command(paths: tuple[str, ...], recursive: bool, counted: bool, as_json: bool) -> int:
    """Read files to their end by their own format's rules, and say of each: intact, damaged, empty, encrypted or unreadable, with
    the first thing that is wrong and where. `-` reads from the standard input.

    \b
    Examples (on the disk that `rustfern demo` lays out):
      rustfern check marlow-quay-disk/slipway-pc2/home/ines/Documents/Surveys/hull-survey-kittiwake.odt
      rustfern check --recursive marlow-quay-disk/slipway-pc2/home
      rustfern check --json report.docx picture.jpg > verdicts.json

    Exit status: 0 all are intact, 1 at least one is not, 2 wrong usage (a path that is not there).
    """
    from rustfern.cli import print_error

    session = this_run().session
    there = [path for path in paths if path == "-" or is_there(session.sources, path)]
    missing = [
        WrongUsage("there is nothing at this path", path, "See whether it is spelled right")
        for path in paths
        if path not in there
    ]
    if missing and not there:
        raise missing[0]
    for each in missing:
        print_error(each)
    found = list(check_paths(paths if as_json else there, recursive=recursive, counted=counted, session=session))
    if as_json:
        print_json(command_schema.checked(found, alarm(found, this_run().clock)))
    else:
        from rustfern.cli.screen.console import out

        _show(out(), found)
    if missing:
        return 2
    return 0 if found and all(item.content.state == "intact" for item in found) else 1


def _show(console: Console, found: list[Checked]) -> None:
    """The worst first; what is whole is only counted beyond the first."""
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, RUST, WARN, bullet, next_steps, shell_word, short_path, size
    from rustfern.formats.format_table import extension_of, format_of_extension, title_of
    from rustfern.repair.registry import is_known

    if danger := alarm(found, this_run().clock):
        bullet(console, f"! {danger}", f"bold {RUST}", indent=0)
    counts = {state: sum(item.content.state == state for item in found) for state in _ORDER}
    said = ", ".join(f"{count} {state}" for state, count in counts.items() if count)
    good = counts["intact"] == len(found)
    console.print(
        Text(f"{len(found)} files: {said}" if len(found) != 1 else said, style=f"bold {FERN if good else RUST}")
    )
    console.print()
    colours = {"damaged": RUST, "unreadable": WARN, "encrypted": WARN, "empty": WARN, "intact": FERN}
    shown = 0
    base = os.path.commonpath([os.path.dirname(os.path.abspath(item.path)) for item in found]) if len(found) > 1 else ""
    if base:
        bullet(console, f"in {base}", PALE)
    for item in sorted(found, key=lambda item: (_ORDER.index(item.content.state), item.path)):
        state = str(item.content.state)
        if state == "intact":
            shown += 1
            if shown > _SHOWN_INTACT and not item.hindrances:
                continue
        line = Text("   ")
        line.append(f"{state:<11}", style=f"bold {colours[state]}")
        line.append(
            short_path(
                os.path.relpath(item.path, base) if base and item.path != "-" else item.path,
                max(console.width - 44, 30),
            ),
            style="bold" if state != "intact" else "",
        )
        kind = title_of(item.content.format) if item.content.format else "unknown"
        words = item.content.words
        told = "" if words is None else f", {words:,} word{'s' * (words != 1)}"
        line.append(f"  {kind}, {size(item.content.size)}{told}", style=PALE)
        console.print(line, soft_wrap=True)
        if state == "intact" and len(found) > _BRIEF:
            for text in item.hindrances:
                bullet(console, f"may still not open: {text}", WARN, indent=14)
            continue
        bullet(console, item.content.reason, PALE if state == "intact" else "", indent=14)
        for text in item.hindrances:
            bullet(console, f"may still not open: {text}", WARN, indent=14)
    if shown > _SHOWN_INTACT:
        bullet(console, f"and {shown - _SHOWN_INTACT} more that are intact (--json lists all)", PALE)
    bad = next(
        (
            i
            for i in found
            if i.content.state == "damaged" and format_of_extension(extension_of(i.path)) and i.path != "-"
        ),
        None,
    )
    if bad is not None:
        folder, name = os.path.split(os.path.abspath(bad.path))
        search = f"scan {shell_word(os.path.dirname(folder))} --document {shell_word(name)} --happened wont-open"
        steps = [(search, "look for a whole copy of it; better name the person's whole home or disk")]
        if is_known(bad.path, bad.content.format):
            never = "never finished" in bad.content.reason
            what = (
                "it was never finished: this can make it play"
                if never
                else "if there is none: get back all that is left in it"
            )
            steps.append((f"repair {shell_word(bad.path)} --to DIR", what))
            if never:
                steps.reverse()
        next_steps(console, steps)
