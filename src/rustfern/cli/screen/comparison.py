"""How two copies differ, and a document's life on one line of time, on the terminal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console
from rich.table import Table
from rich.text import Text

from rustfern.cli.context import this_run
from rustfern.cli.screen.console import FERN, PALE, RUST, SLATE, WARN, heading, next_steps
from rustfern.core.model import Content
from rustfern.core.paths import show_name
from rustfern.core.remarks import counted
from rustfern.operations.life import Event, column
from rustfern.operations.text_diff import Change, Comparison

if TYPE_CHECKING:
    from rustfern.reports.pictures import Differing

_MOST = 60
_CONTEXT_WORDS = 6
"""Words of what stayed that are shown on each side of a change."""
Side = tuple[str, str, Content | None, bool]
_SIGNS = {"added": "+", "removed": "−", "changed": "±"}
_MARKS = {"saved": "■", "autosave": "●", "trash": "✖", "opened": "├", "lost": "▼"}


def show(
    console: Console, left: Side, right: Side, found: Comparison, trouble: str | None, seen: Differing | None = None
) -> None:
    """The sum in one line, then every change: words in colour and with signs."""
    if seen is not None:
        line = Text(f"{right[0]} and {left[0]}: {_seen(seen)}", style="bold")
    else:
        line = Text(
            f"{right[0]} has {counted(found.more, 'word')} more, {found.fewer} fewer than {left[0]}", style="bold"
        )
        line.append(f"   {found.same} are the same", style=PALE)
    console.print(line, soft_wrap=True)
    for label, name, content, of_case in (left, right):
        words = f", {counted(content.words, 'word')}" if content and content.words is not None else ""
        shown = f"{label}  {show_name(name)}" if of_case else show_name(label)
        state = str(content.state) if content else "not read"
        console.print(Text(f"   {shown}  {state}{words}", style=PALE), soft_wrap=True)
    if trouble:
        console.print(Text(f"! {trouble}", style=f"bold {WARN}"))
    if seen is not None:
        _pictures(console, seen)
    elif not found.changes:
        same = left[2] is not None and right[2] is not None and left[2].sha256 == right[2].sha256
        said = "They are the same to the last byte." if same else "Their text is the same; they differ in other things."
        if left[2] and right[2] and not (found.same or left[2].words or right[2].words):
            pixel_hash = left[2].pixel_hash is not None and left[2].pixel_hash == right[2].pixel_hash
            said = (
                "The same pixels."
                if pixel_hash
                else said
                if same
                else "Neither holds text that can be compared; their bytes differ."
            )
        console.print()
        console.print(Text(f"   {said}"))
    else:
        heading(console, f"Changes: {_counted(found.changes)}")
        rows = Table.grid(padding=(0, 1))
        rows.add_column(width=4, justify="right")
        rows.add_column(overflow="fold")
        for change in found.changes[:_MOST]:
            text = _change(change)
            if change.where:
                text = Text(f"{show_name(change.where)}  ", style=SLATE).append_text(text)
            rows.add_row(Text(_SIGNS[change.kind], style=f"bold {_colour(change.kind)}"), text)
        console.print(rows)
        if len(found.changes) > _MOST:
            console.print(Text(f"   … and {len(found.changes) - _MOST} more changes (--json gives all)", style=PALE))
    if right[3]:
        next_steps(console, [(f"restore {right[0]} --to DIR", f"write {right[0]}, verified, into a folder elsewhere")])


def _counted(changes: Sequence[Change]) -> str:
    """How many changes there are of each kind: "2 changed, 1 added"."""
    counts = ((kind, sum(change.kind == kind for change in changes)) for kind in ("changed", "added", "removed"))
    return ", ".join(f"{count} {kind}" for kind, count in counts if count)


def _seen(seen: Differing) -> str:
    """How two pictures differ, in a few words."""
    left, right = (f"{width} × {height}" for width, height in seen.sizes)
    if seen.share is None:
        return f"their sizes differ, {right} and {left} pixels"
    if seen.box is None:
        return f"the same pixels, {left}"
    share = f"{seen.share:.1%}" if seen.share >= 0.001 else "less than 0.1 %"
    return f"{share} of the pixels differ, between ({seen.box[0]}, {seen.box[1]}) and ({seen.box[2]}, {seen.box[3]})"


def _pictures(console: Console, seen: Differing) -> None:
    """How two pictures differ, to the eye."""
    from rustfern.cli.screen.picture import show as show_picture

    left, right = (f"{width} × {height}" for width, height in seen.sizes)
    note = f"{left} and {right} pixels" + ("; where they differ is framed" if seen.box else "")
    console.print()
    show_picture(console, seen.shown, note, console.width - 6, 24)


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
    if len(parts) <= 2 * _CONTEXT_WORDS + 2:
        return words
    start, end = " ".join(parts[:_CONTEXT_WORDS]), " ".join(parts[-_CONTEXT_WORDS:])
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
        line.append(this_run().clock.format_time(event.when), style=style or PALE)
        console.print(line, soft_wrap=True)
