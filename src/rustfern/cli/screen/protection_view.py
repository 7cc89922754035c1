"""How well people's programs are set, as a table: what can be lost at worst now, what would be set, what can be lost then."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console
from rich.table import Table
from rich.text import Text

from rustfern.cli.screen.console import FERN, PALE, RUST, SLATE, WARN, bullet, heading, short_path
from rustfern.core.paths import show_name
from rustfern.settings.protection import Group, Protection, grouped
from rustfern.settings.wording import amount

if TYPE_CHECKING:
    from rustfern.operations.protect import Outcome, Survey

_AGAINST = {"crash": "a crash", "closed": "closed unsaved", "overwritten": "saved over", "deleted": "deleted"}
_MARKS = {"write": "set here", "file": "a file to open", "steps": "by hand"}


def show(console: Console, found: Survey) -> None:
    """Each person's programs, what is at risk first; then what is set by hand, with the steps."""
    for home in found.homes:
        mine = [row for row in found.rows if row.home == home]
        heading(console, f"{show_name(home.person)} ({home.layout})")
        if not mine:
            bullet(console, "no program was found whose settings are known here", PALE)
            continue
        groups = sorted(
            grouped(mine), key=lambda group: (not group.counts, group.loss_now is not None, -(group.loss_now or 0))
        )
        own = [group for group in groups if not group.rows[0].program.common or group.counts]
        if own:
            console.print(_table(own), soft_wrap=False)
        else:
            bullet(console, "no program was found whose settings are known here", PALE)
        _by_hand(
            console,
            [row for row in mine if row.how == "steps" and row.is_better and (row.counts or not row.program.common)],
        )
        _files(console, mine)
    common = {row.setting.id: row for row in found.rows if row.program.common and row.is_better and not row.counts}
    if common:
        heading(console, "For everybody there, by hand")
        for row in common.values():
            bullet(console, f"- {row.setting.what} ({row.home.layout}): {row.steps}")


def _table(groups: Sequence[Group]) -> Table:
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="bold", pad_edge=False)
    table.add_column("  ")
    for name in ("Program", "What for", "Set now", "Lost at worst", "Better", "Lost then", "How"):
        table.add_column(name, overflow="fold")
    for group in groups:
        better = group.counts
        now, then = amount(group.loss_now, group.against), amount(group.loss_then, group.against)
        row = [
            Text("! " if better else "  ", style=f"bold {RUST}"),
            Text(group.program, style="bold" if better else PALE),
            Text(_AGAINST[group.against], style="" if better else PALE),
            Text(group.set_now, style="" if better else PALE),
            Text(now, style=(RUST if group.loss_now is None else WARN) if better else PALE),
            Text(group.wanted if better else "-", style=SLATE if better else PALE),
            Text(then if better else "-", style=FERN if better else PALE),
            Text(
                _MARKS[group.how] if better else "well set" if group.is_well else "no better",
                style="bold" if better else PALE,
            ),
        ]
        table.add_row(*row)
    return table


def _by_hand(console: Console, rows: Sequence[Protection]) -> None:
    """The steps, one line a setting, and why it is not set here where something stands in the way."""
    if not rows:
        return
    console.print(Text("   By hand", style="bold"))
    for row in rows:
        why = f" ({row.fixed})" if row.fixed else f" (its file: {row.trouble.partition(';')[0]})" if row.trouble else ""
        bullet(console, f"- {row.program.program}, {row.setting.what}: {row.steps}{why}", indent=3)


def _files(console: Console, rows: Sequence[Protection]) -> None:
    files = dict.fromkeys(row.file for row in rows if row.how == "write" and row.is_better and row.file)
    for file in files:
        bullet(console, f"would be written: {short_path(file, console.width - 24)}", PALE)


def show_done(console: Console, outcome: Outcome, *, undone: bool) -> None:
    """What was set or brought back, and what was not, with the reason."""
    if outcome.changes:
        heading(console, "As it was before" if undone else "Set")
    for change in outcome.changes:
        for told in change.settings:
            values = f"{told.before} again" if undone else f"{told.before} → {told.after}"
            bullet(console, f"{change.person}: {change.program}, {told.what}: {values}", FERN)
        bullet(console, short_path(change.file, console.width - 8), PALE, indent=6)
        if change.kept and not undone:
            bullet(console, f"the old one beside it: {short_path(change.kept, console.width - 30)}", PALE, indent=6)
    for target in outcome.written.values():
        heading(console, "For the person to open")
        bullet(console, short_path(target, console.width - 8), WARN)
    if outcome.refused:
        heading(console, "Left as it is")
        for each in outcome.refused:
            bullet(console, f"{each.person}: {each.file}", RUST)
            bullet(console, each.message, indent=6)
