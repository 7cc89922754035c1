"""`rustfern protect`: set what would have saved the work, so that it can be undone."""

from __future__ import annotations

import sys
from collections.abc import Sequence

import click

from rustfern.cli.context import this_run
from rustfern.cli.many import Called, ManyCommand
from rustfern.cli.options import case_option, json_option, paths_option, print_json
from rustfern.cli.time_types import SPAN
from rustfern.core.errors import WrongUsage
from rustfern.core.paths import show_name
from rustfern.operations import command_schema
from rustfern.operations.protect import Outcome, Planned, Survey, Wish, apply, plan, survey, to_open, undo
from rustfern.settings.protection import EVERY_MINUTES

_SHORTEST, _LONGEST = 1, 24 * 60


def _words(one: Called) -> list[str]:
    """The call for one of many roots."""
    return [*one.options, "--case", one.case, one.root]


@click.command(cls=ManyCommand, words=_words)
@click.argument("roots", nargs=-1, metavar="[ROOT]...")
@click.option("--person", metavar="NAME", help="Only the programs of this person.")
@click.option("--every", type=SPAN, metavar="TIME", help=f"How often work shall be saved (default {EVERY_MINUTES}m).")
@click.option("--apply", "applies", is_flag=True, help="Set it: settings files only, each kept before.")
@click.option("--undo", "undoes", is_flag=True, help="Bring back exactly what the last --apply replaced.")
@click.option("--yes", is_flag=True, help="Do not ask before anything is written.")
@click.option(
    "--consent",
    default="",
    metavar="TEXT",
    help="Who agreed that this account is changed, and when (kept in the case).",
)
@click.option("--even-unrestored", is_flag=True, help="Although lost documents found there are not restored yet.")
@click.option(
    "--to", "target", metavar="DIR", help="Where a file that the person opens is written (default: beside the case)."
)
@case_option
@paths_option
@json_option
def command(
    roots: tuple[str, ...],
    person: str | None,
    every: float | None,
    applies: bool,
    undoes: bool,
    yes: bool,
    consent: str,
    even_unrestored: bool,
    target: str | None,
    case: str | None,
    as_json: bool,
) -> int:
    """Show what each program of each person can lose at worst as it is set now, and what to set. Reads only, unless --apply is given.

    With --apply the settings files are changed: the old file is kept beside the new one and in the case, the new one is written whole or
    not at all and read back, and --undo brings back exactly what was. Nothing is written while the program runs, into another person's
    account without --consent, where lost documents are not restored yet, or onto a disk with read errors.

    \b
    Examples (on the disk that `rustfern demo` lays out):
      rustfern protect marlow-quay-disk
      rustfern protect marlow-quay-disk --person ines --every 2m
      rustfern protect marlow-quay-disk --apply --yes
      rustfern protect marlow-quay-disk --undo

    Exit status: 0 all is well set (or was set, or undone), 1 something could be better (or nothing could be done), 2 wrong usage, 3 done in part.
    """
    if applies and undoes:
        raise WrongUsage("--apply and --undo are opposites", None, "Give one of them")
    minutes = EVERY_MINUTES if every is None else max(1, round(every / 60))
    if every is not None and not _SHORTEST * 60 <= every <= _LONGEST * 60:
        raise WrongUsage("work cannot be saved that often, or that seldom", None, "Give --every from 1m to 24h")
    wish = Wish(case, consent, target, even_unrestored)
    session = this_run().session
    if undoes:
        return _undo(roots, person, wish, as_json)
    found = survey(roots or None, person, minutes, session)
    if not applies:
        again = [*roots, *(["--person", person] if person else []), *(["--every", f"{minutes}m"] if every else [])]
        return _show(found, again, as_json)
    planned = plan(found)
    if not as_json and not yes and (planned or to_open(found)):
        _ask(found, planned)
    outcome = apply(found, wish, session, planned) if planned or to_open(found) else Outcome((), (), {}, (), None)
    this_run().works_in(outcome.case)
    if as_json:
        print_json(command_schema.protect(found, outcome))
    else:
        _show_outcome(outcome, undone=False)
    return _status(outcome)


def _show(found: Survey, again: Sequence[str], as_json: bool) -> int:
    """`again` are the words that were typed, for the next command."""
    if as_json:
        print_json(command_schema.protect(found))
    else:
        from rustfern.cli.screen.console import next_steps, out, shell_word
        from rustfern.cli.screen.protection_view import show

        console = out()
        show(console, found)
        where = " ".join(map(shell_word, again))
        steps = []
        if plan(found) or to_open(found):
            steps.append(
                (" ".join(f"protect {where} --apply".split()), "set it; asks first, and --undo brings back what was")
            )
        else:
            steps.append(
                (
                    " ".join(f"protect {where} --json".split()),
                    "nothing is left that can be set here; all of it for programs",
                )
            )
        next_steps(console, steps)
    return 1 if any(row.counts for row in found.rows) else 0


def _ask(found: Survey, planned: Sequence[Planned]) -> None:
    """Once, naming the files."""
    from rich.text import Text

    from rustfern.cli.screen.console import aside, bullet

    if not sys.stdin.isatty():
        raise WrongUsage(
            "there is nobody to ask before settings are written", None, "Add --yes, or run it in a terminal"
        )
    console = aside()
    console.print(Text("These files will be changed, each kept before:", style="bold"))
    for each in planned:
        bullet(console, f"{each.file}  ({each.program}, {each.home.person})")
    if to_open(found):
        bullet(console, "and a file is written for the person to open")
    if not click.confirm("Change them", default=False, err=True):
        raise WrongUsage("nothing was changed, as you did not agree", None, "Run it again to change them")


def _undo(roots: Sequence[str], person: str | None, wish: Wish, as_json: bool) -> int:
    outcome = undo(roots or None, person, wish, this_run().session)
    this_run().works_in(outcome.case)
    if as_json:
        print_json(command_schema.unprotect(outcome))
    else:
        _show_outcome(outcome, undone=True)
    return _status(outcome)


def _show_outcome(outcome: Outcome, *, undone: bool) -> None:
    from rustfern.cli.screen.console import FERN, bullet, next_steps, out, shell_word
    from rustfern.cli.screen.protection_view import show_done

    console = out()
    show_done(console, outcome, undone=undone)
    if not (outcome.changes or outcome.written or outcome.refused):
        bullet(console, "Nothing is left that can be set here.", FERN, indent=0)
        return
    if outcome.changes and not undone and outcome.case:
        next_steps(
            console, [(f"protect --undo --case {shell_word(show_name(outcome.case))}", "bring back exactly what was")]
        )


def _status(outcome: Outcome) -> int:
    """0: all was done, 1: nothing could be, 3: a part."""
    if not outcome.refused:
        return 0
    return 3 if outcome.changes or outcome.written else 1
