"""`rustfern places`: every place of the catalogue in each home, as it is there."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING

import click

from rustfern.cli.context import this_run
from rustfern.cli.options import CLASSES, json_option, paths_option, print_json
from rustfern.operations import command_schema
from rustfern.operations.places import Survey, Surveyed, survey

if TYPE_CHECKING:
    from rich.console import Console


@click.command()
@click.argument("roots", nargs=-1, metavar="[ROOT]...")
@click.option("--person", metavar="NAME", help="Only the home of this person.")
@click.option("--class", "doc_class", type=click.Choice(CLASSES), help="Only places for this kind of document.")
@click.option("--all", "everything", is_flag=True, help="Also places that are not there.")
@click.option("--markdown", is_flag=True, help="The whole catalogue as a page; nothing is searched.")
@paths_option
@json_option
def command(
    roots: tuple[str, ...], person: str | None, doc_class: str | None, everything: bool, markdown: bool, as_json: bool
) -> int:
    """Show where copies would be, without reading any: each known folder in each home, whether it is there, how much is in it.

    \b
    Examples (on the disk that `rustfern demo` lays out):
      rustfern places marlow-quay-disk
      rustfern places marlow-quay-disk --person ines --all
      rustfern places --markdown

    Exit status: 0 something lies in such a folder, 1 nothing does, 2 wrong usage, 3 a folder could not be read.
    """
    if markdown:
        from rustfern.catalogue.page import markdown as page

        sys.stdout.write(page())
        return 0
    found = survey(roots or None, person, doc_class, this_run().session)
    rows = [row for row in found.places if everything or row.found.status != "absent"]
    if as_json:
        print_json(command_schema.places(rows))
    else:
        from rustfern.cli.screen.console import out

        _show(out(), found, rows, everything=everything)
    if any(row.found.status == "denied" for row in found.places):
        return 3
    return 0 if any(row.found.copies for row in found.places) else 1


def _show(console: Console, found: Survey, rows: list[Surveyed], *, everything: bool) -> None:
    """By person: what is there, how much is in it, how long it lives."""
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, RUST, WARN, bullet, heading, next_steps, shell_word, short_path
    from rustfern.core.paths import show_name

    people = [*found.homes, None]
    for home in people:
        mine = [
            row for row in rows if row.home == home and (everything or row.found.copies or row.found.status != "found")
        ]
        if not mine:
            continue
        heading(console, f"{show_name(home.person)} ({home.layout})" if home else "The whole disk")
        for row in sorted(mine, key=lambda row: (-row.found.copies, row.found.status, row.found.place)):
            count, status = row.found.copies, row.found.status
            line = Text("   ")
            line.append(
                f"{count:>4}  " if status == "found" else f"{status:>6}",
                style=f"bold {FERN if count else PALE if status in ('found', 'absent') else RUST}",
            )
            what = row.place.what if row.place else "a folder of the person's own"
            line.append(f" {what}", style="bold" if count else "")
            console.print(line, soft_wrap=True)
            base = home.path if home else found.roots[0]
            elsewhere = status not in ("found", "absent", "denied")
            inner = row.found.path if elsewhere else os.path.relpath(row.found.path, base)
            inner = "(the home itself)" if row.found.path.rstrip("/.") == base else inner
            bullet(console, short_path(inner, console.width - 12), PALE, indent=10)
            if row.found.by:
                bullet(console, f"{'recorded' if elsewhere else 'moved here'} by {row.found.by}", WARN, indent=10)
            if count and row.place:
                bullet(console, f"lives {row.place.lifetime}", PALE, indent=10)
    absent = sum(row.found.status == "absent" for row in found.places)
    empty = sum(row.found.status == "found" and not row.found.copies for row in found.places)
    console.print()
    if not everything and (absent or empty):
        bare = (
            "1 more known folder is there but holds" if empty == 1 else f"{empty} more known folders are there but hold"
        )
        gone = f"{absent} {'is' if absent == 1 else 'are'} not there"
        said = f"{bare} no copies, {gone} (--all shows them)"
        console.print(Text(said, style=PALE))
    where = " ".join(shell_word(root) for root in found.roots)
    next_steps(console, [(f"scan {where}", "read, match and choose among what lies there")])
