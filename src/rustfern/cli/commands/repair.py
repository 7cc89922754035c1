"""`rustfern repair`: all that is left in a damaged document, as a whole file, and what is lost."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING

import click

from rustfern.cases.case_file import CaseFile, StoredCopy, roots_of
from rustfern.cases.lookup import expand, find_damaged
from rustfern.cli.complete import complete_what
from rustfern.cli.context import this_run
from rustfern.cli.many import Called, ManyCommand
from rustfern.cli.options import case_at, case_option, json_option, paths_option, print_json, warn_same_disk
from rustfern.core.errors import NotFound, WrongUsage
from rustfern.operations import command_schema
from rustfern.operations.check import is_there
from rustfern.operations.repair import NotRepaired, Repaired, RepairOptions, repair
from rustfern.operations.targets import size_of

if TYPE_CHECKING:
    from rich.console import Console

_SHOWN_LOST = 4
_SHOWN = 12


def _words(one: Called) -> list[str]:
    """The call for one of many roots."""
    return [*one.options, "--to", one.files, one.root]


@click.command(cls=ManyCommand, words=_words)
@click.argument("what", nargs=-1, required=True, metavar="WHAT...", shell_complete=complete_what)
@click.option("--to", "target", required=True, metavar="DIR", help="Folder to write into; made if missing.")
@click.option("--text", is_flag=True, help="The plain text beside each, too.")
@click.option("--no-marks", is_flag=True, help="No marks in the document where something is missing.")
@click.option(
    "--with",
    "others",
    multiple=True,
    metavar="COPY",
    help="Take what is lost from this copy of it, too (may be repeated).",
)
@click.option(
    "--like",
    metavar="SAMPLE",
    help="A whole document by the same hand: looks that are lost are taken from it; a healthy recording of the same camera or program tells how a damaged one is read.",
)
@click.option(
    "--strict", is_flag=True, help="Of a recording, leave out all pictures that what is lost may have spoiled."
)
@case_option
@paths_option
@json_option
def command(
    what: tuple[str, ...],
    target: str,
    text: bool,
    no_marks: bool,
    others: tuple[str, ...],
    like: str | None,
    strict: bool,
    case: str | None,
    as_json: bool,
) -> int:
    """Get back all that is left in damaged documents: write a whole file of the same format that holds it, and say what is lost.

    WHAT is the path of a file, a folder (every damaged file in it), the id of a copy, or the number of a document. A mark in the document
    stands where something is missing. What was damaged stays as it is; nothing that is whole is touched.

    \b
    Examples (after `rustfern demo`):
      rustfern repair marlow-quay-damaged --to repaired
      rustfern repair "marlow-quay-damaged/Slipway memo.docx" --text --to repaired
      rustfern repair "marlow-quay-damaged/Timber stock.xls" --no-marks --to repaired

    Exit status: 0 all was repaired, 1 nothing could be had, 2 wrong usage, 3 some was not repaired.
    """
    session = this_run().session
    file: CaseFile | None = None
    chosen: list[StoredCopy | str] = []
    with_others: list[StoredCopy | str] = []
    searched: list[str] = []
    refused: list[NotRepaired] = []
    missing: list[NotFound] = []
    try:
        for each in (*expand(what), *others):
            into = with_others if each in others and each not in what else chosen
            if is_there(session.sources, each):
                into.append(each)
                continue
            if not _is_id(each):
                raise WrongUsage("there is nothing at this path", each, "See whether it is spelled right")
            if file is None:
                file = case_at(case)
                searched = roots_of(file)
            try:
                into.append(find_damaged(file, each))
            except NotFound as error:
                missing.append(error)
                refused.append(NotRepaired(each, each, str(error)))
        if missing and not chosen and not as_json:
            raise missing[0]
        if like is not None and not is_there(session.sources, like):
            raise WrongUsage("there is no sample at this path", like, "See whether it is spelled right")
        warn_same_disk(
            target, searched or [os.path.dirname(os.path.abspath(each)) for each in chosen if isinstance(each, str)]
        )
        numbers = {each.number for each in chosen if isinstance(each, StoredCopy)}
        bases = [copy for number in sorted(numbers) for copy in file.copies(number)] if file is not None else []
        options = RepairOptions(not no_marks, text, like, tuple(with_others), strict)
        done: list[Repaired] = []
        for item in _watched(repair(chosen, target, searched, options, session, bases), quiet=as_json):
            if isinstance(item, Repaired):
                done.append(item)
            else:
                refused.append(item)
    finally:
        if file is not None:
            file.close()
    if as_json:
        print_json(command_schema.repaired(done, refused))
    else:
        from rustfern.cli.screen.console import out

        _show(out(), done, refused)
    if not refused and done:
        return 0
    return 3 if done else 1


def _is_id(what: str) -> bool:
    return what[:1].isdigit() and os.sep not in what and "." not in what


def _watched(items: Iterator[Repaired | NotRepaired], *, quiet: bool) -> Iterator[Repaired | NotRepaired]:
    """The same, with progress where somebody watches."""
    if quiet or not sys.stderr.isatty():
        yield from items
        return
    from rustfern.cli.screen.progress import Progress

    with Progress() as progress:
        this_run().session.observer = progress
        progress.stage("putting together")
        yield from items


def _show(console: Console, done: list[Repaired], refused: list[NotRepaired]) -> None:
    """Each repaired file: how much is back, what is lost; each refusal with its reason."""
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, RUST, WARN, bullet, size
    from rustfern.core.paths import show_name
    from rustfern.formats.format_table import class_of, title_of
    from rustfern.operations import repair_words

    for item in done[:_SHOWN]:
        line = Text(" ✔ ", style=f"bold {WARN if item.lost else FERN}")
        line.append(show_name(os.path.basename(item.target)), style="bold")
        console.print(line, soft_wrap=True)
        amounts = ", ".join(repair_words.amounts(item.kept))
        weight = f", {size(count)}" if (count := size_of(item.target)) is not None else ""
        bullet(console, f"back: {amounts or 'its content'} ({title_of(item.format)}{weight}, checked whole)", indent=4)
        for stood in item.stood:
            bullet(console, f"stood in the way: {stood}", indent=4)
        for lost in item.lost[:_SHOWN_LOST]:
            bullet(console, f"lost: {repair_words.loss(lost)}", WARN, indent=4)
        if len(item.lost) > _SHOWN_LOST:
            bullet(console, f"lost: and {len(item.lost) - _SHOWN_LOST} more (--json lists all)", WARN, indent=4)
        if item.text:
            bullet(console, f"its text: {show_name(os.path.basename(item.text))}", indent=4)
        bullet(console, f"how: {repair_words.method(item.steps)}", PALE, indent=4)
        bullet(console, f"from {show_name(item.source)}", PALE, indent=4)
    if len(done) > _SHOWN:
        bullet(console, f"and {len(done) - _SHOWN} more that were repaired (--json lists all)", PALE, indent=0)
    if done:
        console.print()
        total = Text(f"{len(done)} of {len(done) + len(refused)} repaired", style=f"bold {WARN if refused else FERN}")
        total.append(f", in {show_name(os.path.dirname(done[0].target))}", style="bold")
        console.print(total, soft_wrap=True)
        each = "it" if len(done) == 1 else "each"
        is_marked = any(item.lost and class_of(item.format) not in ("video", "audio", "image") for item in done)
        rest = (
            " and read it with the person: what is lost is marked in it." if is_marked else ", and let the person look."
        )
        bullet(console, f"Open {each} with its program{rest}", indent=0)
    for refusal in refused[:_SHOWN]:
        console.print(
            Text(
                f" ✘ {show_name(refusal.source)}  {'left as it is' if refusal.whole else 'not repaired'}",
                style=f"bold {FERN if refusal.whole else RUST}",
            ),
            soft_wrap=True,
        )
        bullet(console, refusal.message, indent=4)
    if len(refused) > _SHOWN:
        bullet(console, f"and {len(refused) - _SHOWN} more that were not (--json lists all)", PALE, indent=0)
