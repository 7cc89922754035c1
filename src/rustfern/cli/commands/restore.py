"""`rustfern restore`: write verified copies."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import click

from rustfern.cases.case_file import CaseFile, StoredCopy, roots_of
from rustfern.cases.lookup import expand, find_copy
from rustfern.cli.complete import complete_what
from rustfern.cli.context import this_run
from rustfern.cli.many import Called, ManyCommand
from rustfern.cli.options import (
    case_at,
    case_option,
    hint_options,
    json_option,
    paths_option,
    print_json,
    warn_same_disk,
)
from rustfern.core.errors import NotFound, WrongUsage
from rustfern.core.model import Hints
from rustfern.core.paths import show_name
from rustfern.operations import command_schema
from rustfern.operations.restore import Planned, Refused, Restored, RestoreOptions, plan, restore
from rustfern.operations.restore_names import check_name
from rustfern.operations.targets import check_target, size_of

if TYPE_CHECKING:
    from rich.console import Console


def _words(one: Called) -> list[str]:
    """The call for one of many roots."""
    return [
        "--all-best",
        *one.options,
        *(["--case", one.case] if one.has_case else ["--in", one.root]),
        "--to",
        one.files,
    ]


@click.command(cls=ManyCommand, words=_words)
@click.argument("what", nargs=-1, metavar="WHAT...", shell_complete=complete_what)
@click.option("--to", "target", required=True, metavar="DIR", help="Folder to write into; made if missing.")
@click.option("--in", "roots", multiple=True, metavar="ROOT", help="Search this first (may be repeated).")
@click.option("--all-best", is_flag=True, help="The best copy of every lost document.")
@click.option("--as", "name", metavar="NAME", help="Under this name (one copy only).")
@click.option("--as-text", is_flag=True, help="Only the readable text, of damaged copies too, as a plain text file.")
@click.option("--keep-layout", is_flag=True, help="In the folders of the originals, below DIR.")
@click.option("--dry-run", is_flag=True, help="Only say what would be written.")
@click.option(
    "--allow-inside", is_flag=True, help="Even into what was searched (can destroy what could still be saved)."
)
@hint_options
@case_option
@paths_option
@json_option
def command(
    what: tuple[str, ...],
    target: str,
    roots: tuple[str, ...],
    all_best: bool,
    name: str | None,
    as_text: bool,
    keep_layout: bool,
    dry_run: bool,
    allow_inside: bool,
    hints: Hints,
    case: str | None,
    as_json: bool,
) -> int:
    """Write the best copy of documents into a folder of your own, verified.

    WHAT is the number of a document (its best copy), the id of a copy, a document's name, several of them (`1-3 5`), or `all`. No file is ever replaced, and
    nothing is written into what was searched. A list of all that was restored (restored.jsonl) lies beside the files; run again,
    what is there already is verified and not written twice.

    \b
    Examples (after `rustfern demo`):
      rustfern restore 1 --to restored
      rustfern restore 2b 3 --to restored
      rustfern restore 1b --as-text --to restored
      rustfern restore --all-best --keep-layout --to restored
      rustfern restore 1 --as "Survey for the insurer" --to restored
      rustfern restore "price list" --in marlow-quay-disk --to restored

    Exit status: 0 all was restored, 1 nothing fits, 2 wrong usage, 3 some was not restored.
    """
    what = tuple(dict.fromkeys(expand(what)))
    if "all" in (each.casefold() for each in what):
        what, all_best = tuple(each for each in what if each.casefold() != "all"), True
    if not what and not all_best:
        raise WrongUsage("it was not said what is restored", None, "Give numbers, ids or a name, or --all-best")
    if name is not None and (all_best or len(what) != 1):
        raise WrongUsage("--as names one file, and several were asked for", None, "Restore that one alone")
    if name is not None:
        check_name(name)
    wish = RestoreOptions(name, keep_layout, allow_inside, as_text)
    file, searched = _case(
        what,
        roots,
        case,
        (target, allow_inside),
        hints,
        as_json,
    )
    try:
        copies: list[StoredCopy] = []
        refused: list[Refused] = []
        missing: list[NotFound] = []
        for each in [*what, *(_best_of_all(file) if all_best else ())]:
            try:
                copies.append(find_copy(file, each))
            except NotFound as error:
                refused.append(Refused(each, str(error)))
                missing.append(error)
        if missing and not copies and not as_json:
            raise missing[0]
        if not copies and not refused:
            raise NotFound("no lost document has a copy to restore", None, "Look at the list: rustfern look")
        if dry_run:
            return _dry(plan(copies, wish, this_run().clock), refused, target, as_json)
        if copies and not roots:
            warn_same_disk(target, searched)
        done, failed = restore(copies, target, file, searched, wish, this_run().session) if copies else ([], [])
        refused += failed
    finally:
        file.close()
    if as_json:
        print_json(command_schema.restored(done, refused))
    else:
        from rustfern.cli.screen.console import out

        show(out(), done, refused)
    if not refused:
        return 0
    return 1 if missing and not copies else 3


def _what_now(done: list[Restored], verified: int) -> str:
    """What the technician does with what was written."""
    if all(item.is_text for item in done):
        return "Read it with the person: what is missing, and what can be typed again from it."
    if not verified:
        return "None of it is whole: its program may open a part of it, or nothing. --as-text writes what can be read."
    each = "it" if len(done) == 1 else "each"
    return f"Open {each} there with its program, and let the person look before anything else is done."


def _best_of_all(file: CaseFile) -> list[str]:
    """The numbers of all lost documents that have a best copy; what lies in a folder that is restored too is not taken twice."""
    lost = [each for each in file.documents() if each.is_lost and each.best]
    return [str(each.id) for each in lost if not each.within]


def _dry(planned: list[Planned], refused: list[Refused], target: str, as_json: bool) -> int:
    """Say what would be written."""
    if as_json:
        print_json(command_schema.restore_plan(planned, refused, target))
        return 3 if refused else 0
    from rich.text import Text

    from rustfern.cli.screen.console import PALE, RUST, WARN, bullet, out, size

    console = out()
    console.print(
        Text(
            f"Would be written below {show_name(target)}, {size(sum(p.size for p in planned))}; nothing was written",
            style="bold",
        )
    )
    for each in planned:
        console.print(Text(f"   {each.id:<4} {show_name(each.target)}  {size(each.size)}"), soft_wrap=True)
        for note in each.notes:
            bullet(console, note, WARN, indent=8)
        bullet(console, f"of {each.document}", PALE, indent=8)
    for problem in refused:
        bullet(console, f"{problem.id}: {problem.message}", RUST)
    return 3 if refused else 0


def _case(
    what: tuple[str, ...], roots: tuple[str, ...], case: str | None, to: tuple[str, bool], hints: Hints, quiet: bool
) -> tuple[CaseFile, list[str]]:
    """The open case and its roots; with `--in`, searched just now."""
    from rustfern.operations.session import open_case

    if roots:
        from msgspec.structs import replace

        from rustfern.cli.screen.progress import run_scan

        tops = [this_run().session.sources.check_root(root) for root in roots]
        warn_same_disk(to[0], tops)
        check_target(to[0], tops, allow_inside=to[1])
        if hints.document is None and what and not what[0].isdigit():
            hints = replace(hints, document=what[0])
        file, _ = open_case(case, tops)
        run_scan(tops, hints, file, quiet=quiet)
        return file, tops
    file = case_at(case)
    return file, roots_of(file)


def show(console: Console, done: list[Restored], refused: list[Refused], *, next_command: bool = True) -> None:
    """Each restored file: what, where, that it is verified; each refusal with its reason."""
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, RUST, WARN, bullet, next_steps, size
    from rustfern.core.paths import show_name

    for item in done:
        whole, is_text = item.state == "intact", item.is_text
        line = Text()
        line.append(" ✔ " if whole else " ! ", style=f"bold {FERN if whole else WARN}")
        line.append(f"{item.id:<4}", style="bold")
        line.append(show_name(os.path.basename(item.target)), style="bold")
        console.print(line, soft_wrap=True)
        weight = f"{size(count)}, " if (count := size_of(item.target)) is not None else ""
        done_now = "was there already, read again" if item.again else "written, read back"
        checked = (
            f"{done_now}, the same to the last byte, checked whole"
            if whole and not is_text
            else f"{done_now}, the same to the last byte"
            if is_text
            else f"written and read back; the copy is {item.state}"
        )
        bullet(console, f"{weight}{checked}", indent=7)
        bullet(console, f"of {show_name(item.document)}, SHA-256 {item.sha256[:16]}…", PALE, indent=7)
        for note in item.notes:
            bullet(console, note, WARN, indent=7)
    if done:
        verified = sum(item.state == "intact" or item.is_text for item in done)
        console.print()
        total = Text()
        style = f"bold {WARN if refused else FERN}"
        total.append(f"{verified} of {len(done) + len(refused)} restored and verified", style=style)
        total.append(f", in {show_name(os.path.dirname(done[0].target))}", style="bold")
        console.print(total, soft_wrap=True)
        bullet(console, _what_now(done, verified), indent=0)
    for each in refused:
        console.print(Text(f" ✘ {each.id}  not restored", style=f"bold {RUST}"))
        bullet(console, each.message, indent=7)
    if done and next_command:
        next_steps(console, [("report --to FILE.html", "the page for the customer: what is back, and up to when")])
