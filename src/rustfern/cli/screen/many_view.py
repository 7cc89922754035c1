"""What came of a command on many roots: how many of each kind, then what failed or was done in part."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rustfern.core.paths import show_name
from rustfern.core.remarks import counted

if TYPE_CHECKING:
    from rustfern.cases.answers_folder import Outcome
    from rustfern.operations.many import Many

_MOST_SHOWN = 15
_WORDS = {
    "scan": ("something lost", "nothing lost"),
    "check": ("nothing damaged", "something damaged"),
    "protect": ("well set", "something could be better"),
}
"""Command → what status 0 and status 1 of one root mean."""
_JUDGES = ("check", "protect")
"""Commands of which status 0 says that all is well: on many it takes all of them."""


def show(many: Many, outcomes: Sequence[Outcome], *, as_json: bool) -> int:
    """Say it; the exit status: that of the command for all roots together, 3 where some failed or were done in part."""
    from rich.text import Text

    from rustfern.cli.screen.console import next_steps, out, shell_word

    failed = [each for each in outcomes if not each.is_done]
    partly = [each for each in outcomes if each.status == 3]
    found = [each for each in outcomes if each.status == 0]
    without = len(outcomes) - len(found) - len(partly) - len(failed)
    is_well = not without if many.command in _JUDGES else bool(found)
    status = 3 if failed or partly else 0 if is_well else 1
    if as_json:
        from rustfern.cli.options import print_json
        from rustfern.operations.over import about_many as plain

        print_json(plain(many.folder, many.kind, outcomes))
        return status
    console = out()
    well, other = _WORDS.get(many.command, ("done", "nothing to do"))
    counts = {well: len(found), other: without, "in part": len(partly), "failed": len(failed)}
    said = ", ".join(f"{number:,} {name}" for name, number in counts.items() if number)
    console.print(Text(f"{counted(len(outcomes), 'root')}: {said}"), soft_wrap=True)
    console.print(Text(f"Answers and cases are in {show_name(many.folder.path)}"), soft_wrap=True)
    if many.before:
        text = f"{len(many.before):,} of them were done before and hold what they held then; another DIR does them anew"
        console.print(Text(text), soft_wrap=True)
    for each in [*failed, *partly][:_MOST_SHOWN]:
        tries = f", tried {each.tries} times" if each.tries > 1 else ""
        console.print(
            Text(f"! {show_name(each.label)}: {show_name(each.reason or 'done in part')}{tries}"), soft_wrap=True
        )
    if len(failed) + len(partly) > _MOST_SHOWN:
        console.print(Text(f"… and {len(failed) + len(partly) - _MOST_SHOWN} more (done.jsonl lists all)"))
    folder = shell_word(many.folder.path)
    if failed:
        console.print(Text("The same command again tries once more only what failed."), soft_wrap=True)
    steps = [(f"report --over {folder} --to office.html", "one page over all: what to do first, and where")]
    if many.command == "scan":
        next_steps(console, steps)
    return status
