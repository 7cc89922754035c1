"""How two copies differ, and a document's life on one line of time, on the terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from rustfern.cli.console import FERN, PALE, RUST, SLATE, WARN, heading, next_steps
from rustfern.differing import Change, Comparison
from rustfern.model import Content, show_name
from rustfern.reporting.life import Event, column
from rustfern.times import minute

_MOST = 60
_AROUND = 6
"""So many words of what stayed are shown on each side of a change."""
Side = tuple[str, str, Content | None, bool]
_SIGNS = {"added": "+", "removed": "−", "changed": "±"}
_MARKS = {"saved": "■", "autosave": "●", "trash": "✖", "opened": "├", "lost": "▼"}


def show(console: Console, left: Side, right: Side, found: Comparison, trouble: str | None) -> None:
    """The sum in one line, then every change: words in colour and with signs."""
    line = Text(f"{right[0]}", style="bold")
    line.append(f" has {found.more} words more, {found.fewer} fewer than {left[0]}", style="bold")
    line.append(f"   {found.same} are the same", style=PALE)
    console.print(line)
    for label, name, content, _ in (left, right):
        state = f"{content.state}, {content.words} words" if content and content.words is not None else ""
        console.print(Text(f"   {label}  {show_name(name)}  {state}", style=PALE), soft_wrap=True)
    if trouble:
        console.print(Text(f"! {trouble}", style=f"bold {WARN}"))
    if not found.changes:
        same = left[2] is not None and right[2] is not None and left[2].sha256 == right[2].sha256
        said = "They are the same to the last byte." if same else "Their text is the same; they differ in other things."
        if left[2] and right[2] and not (left[2].tokens or right[2].tokens):
            looks = left[2].looks is not None and left[2].looks == right[2].looks
            said = (
                "The same pixels."
                if looks
                else said
                if same
                else "Neither holds text that can be compared; their bytes differ."
            )
        console.print()
        console.print(Text(f"   {said}"))
    else:
        heading(console, "Changes")
        rows = Table.grid(padding=(0, 1))
        rows.add_column(width=4, justify="right")
        rows.add_column(overflow="fold")
        for change in found.changes[:_MOST]:
            rows.add_row(Text(_SIGNS[change.kind], style=f"bold {_colour(change.kind)}"), _change(change))
        console.print(rows)
        if len(found.changes) > _MOST:
            console.print(Text(f"   … and {len(found.changes) - _MOST} more changes (--json gives all)", style=PALE))
    if right[3]:
        next_steps(console, [(f"restore {right[0]} --to DIR", f"write {right[0]}, verified, into a folder elsewhere")])


def _change(change: Change) -> Text:
    text = Text()
    for number, run in enumerate(change.runs):
        words = show_name(run.text)
        if run.kind == "same":
            words = _shortened(words, number == 0, number == len(change.runs) - 1)
            text.append(words, style=PALE)
        elif change.kind == "changed":
            mark = "+" if run.kind == "added" else "−"
            text.append(f"[{mark}{words}]", style=_colour(run.kind))
        else:
            text.append(words, style=_colour(run.kind))
        text.append(" ")
    return text


def _shortened(words: str, first: bool, last: bool) -> str:
    parts = words.split()
    if len(parts) <= 2 * _AROUND + 2:
        return words
    start, end = " ".join(parts[:_AROUND]), " ".join(parts[-_AROUND:])
    return f"… {end}" if first else f"{start} …" if last else f"{start} … {end}"


def _colour(kind: str) -> str:
    return {"added": FERN, "removed": RUST}.get(kind, SLATE)


def show_life(console: Console, life: Sequence[Event]) -> None:
    """One row for each event; its mark stands at its time."""
    first, last = life[0].when, life[-1].when
    names = max(len(f"{event.name} {event.kind}") for event in life) + 2
    width = max(min(console.width, 120) - names - 24, 20)
    heading(console, "Its life")
    for event in life:
        at = column(event.when, first, last, width)
        style = f"bold {FERN}" if event.chosen else "" if event.whole else RUST
        line = Text("   ")
        line.append(f"{event.name} {event.kind}".ljust(names), style=style)
        line.append("─" * at, style=PALE)
        line.append("▶" if event.chosen else _MARKS.get(event.kind, "◆"), style=style)
        line.append(" " * (width - at))
        line.append(minute(event.when), style=style or PALE)
        console.print(line, soft_wrap=True)
