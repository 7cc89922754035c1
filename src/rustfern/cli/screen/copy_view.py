"""What `rustfern look` draws: a copy with its facts and its content, a file, a long text to be paged, where words stand."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console
from rich.text import Text

from rustfern.cli.context import this_run
from rustfern.cli.screen import text_view
from rustfern.cli.screen.console import (
    FERN,
    PALE,
    RUST,
    WARN,
    bullet,
    fact,
    heading,
    moment_said,
    next_steps,
    out,
    shell_word,
    short_path,
    size,
)
from rustfern.cli.screen.document_view import HAPPENED, copy_line
from rustfern.core.answers import CopyAnswer
from rustfern.core.model import Content, State
from rustfern.core.paths import show_name
from rustfern.core.remarks import counted
from rustfern.formats.format_table import class_of, extension_right, title_of
from rustfern.formats.text_sink import Piece, words_of
from rustfern.operations import repair_words
from rustfern.operations.life import Event
from rustfern.operations.look import is_unknown, picture, recording, text

if TYPE_CHECKING:
    from rustfern.cli.commands.look import LookedUp

_LINES, _FEW_LINES, _HITS = 16, 6, 40
_SMALL_PICTURE = (40, 10)


def show(console: Console, shown: LookedUp, life: Sequence[Event]) -> None:
    """One copy of the case (or, with its `life`, its document), or any file."""
    life = life if len(life) > 1 else []
    copy = shown.copy
    if copy is None:
        heading(console, show_name(shown.name))
        _file_facts(console, shown)
    else:
        document, best = copy.document, copy.document.best == copy.id
        title = Text(f"{show_name(document.name)}", style="bold")
        title.append(f"   {HAPPENED[document.situation]}", style=PALE)
        console.print(title, soft_wrap=True)
        console.print(copy_line(copy.facts, best, console.width), soft_wrap=True)
        if life:
            from rustfern.cli.screen.comparison import show_life

            show_life(console, life)
        else:
            _facts(console, shown, copy.facts)
        if best:
            heading(console, "Why it is the best")
            for reason in document.why:
                bullet(console, reason)
        for note in [*copy.facts.notes, *(document.warnings if best else [])]:
            bullet(console, f"! {note}", WARN)
    _content(console, shown, bool(life))
    if shown.seen.trouble:
        console.print()
        console.print(Text(f"! {shown.seen.trouble}", style=f"bold {WARN}"))
    _next(console, shown, life)


def written(console: Console, what: str, path: str) -> None:
    """Where a figure or a picture was written."""
    console.print(Text(f"   The {what} is in {show_name(path)}."), soft_wrap=True)


def _content(console: Console, shown: LookedUp, short: bool) -> None:
    pieces, content = shown.seen.pieces, shown.seen.content
    folder = bool(shown.copy and shown.copy.facts.members)
    what = "Files in it" if folder else f"First lines of {shown.copy.id}" if short and shown.copy else "First lines"
    if pieces:
        there = text_view.sections(pieces)
        if len(there) > 1 and not there[0].startswith(("Slide ", "Page ")):
            what = f"{what} (sheets: {', '.join(map(text_view.plain, there[:8]))}{' …' if len(there) > 8 else ''})"
        heading(console, what)
        lines = text_view.lines(console, pieces)
        most = _FEW_LINES if short else _LINES
        for line in islice(lines, most):
            console.print(line, soft_wrap=True)
        if next(lines, None) is not None:
            console.print(Text("   …", style=PALE))
    _stops(console, content)
    found = None if folder else picture(this_run().session.sources, shown.copy, shown.bases, shown.label)
    if found:
        from rustfern.cli.screen import picture as pictures

        image, part = found
        console.print()
        note = f"{image.width} × {image.height} pixels" + (f", from its part {part}" if part else "")
        columns, lines_high = _SMALL_PICTURE if pieces or short else (72, 22)
        pictures.show(console, image, note, columns, lines_high)
    if not (pieces or found or shown.seen.trouble or _recorded(content)):
        bullet(console, "it holds no text or picture that can be shown", PALE)
        if shown.copy is None and content is not None and content.size and is_unknown(content):
            next_steps(console, [(f"look {shell_word(shown.label)} --text", "the letters that stand in it")])


def _stops(console: Console, content: Content | None) -> None:
    """Where a damaged text stops."""
    if content is not None and content.state is State.DAMAGED:
        bullet(console, f"── it stops here: {content.reason}", f"bold {RUST}")


def _recorded(content: Content | None) -> bool:
    return content is not None and class_of(content.format) in ("audio", "video")


def _file_facts(console: Console, shown: LookedUp) -> None:
    content = shown.seen.content
    assert content is not None
    wrong = "; its extension says otherwise" if extension_right(shown.name, content.format) is False else ""
    what = title_of(content.format) if content.format else "of unknown format"
    fact(console, "what", f"{what}, {size(content.size)}{wrong}")
    if shown.seen.to_the_end:
        fact(console, "state", f"{content.state}: {content.reason}")
    else:
        fact(console, "state", f"not read to its end here: rustfern check {shell_word(shown.label)}")
    _repairable(console, shown)
    _parts(console, shown)
    _recording(console, shown)
    if content.glance.author:
        fact(console, "author", content.glance.author)
    _amounts(console, content.amounts)


def _repairable(console: Console, shown: LookedUp) -> None:
    """What repair would give of what is damaged."""
    told = shown.seen.outlook
    if told is None:
        return
    words = told.kept.get("words")
    about = f" of about {told.about:,}" if told.about and words is not None and told.about > words else ""
    amounts = [f"{words:,}{about} words"] if words else []
    amounts += repair_words.amounts({what: count for what, count in told.kept.items() if what != "words"})
    fact(console, "repair", f"{', '.join(amounts) or 'a part of it'} can be had, as {title_of(told.format)}")


def _amounts(console: Console, amounts: Any) -> None:
    if amounts and "width" not in amounts:
        fact(console, "amounts", ", ".join(f"{count} {name}" for name, count in amounts.items()))


def _on_the_disk(facts: CopyAnswer) -> str:
    """Whether it was deleted, in how many pieces it lies and where, and how much of it later files took."""
    told = ["deleted"] if facts.deleted else []
    if facts.extents:
        pieces = counted(len(facts.extents), "piece")
        told.append(f"in {pieces}, the first at byte {facts.extents[0][0]:,}")
    else:
        told.append("within its record, packed, or not as it is")
    if facts.remaining is not None:
        told.append("no later file took any of it" if facts.remaining == 1 else f"{facts.remaining:.0%} of it is left")
    return ", ".join(told)


def _facts(console: Console, shown: LookedUp, facts: CopyAnswer) -> None:
    heading(console, "What it is")
    what = title_of(facts.format) if facts.format else "folder" if facts.members else "of unknown format"
    by = "the document itself" if facts.written_from == "content" else f"{facts.written_from} date"
    fact(console, "what", f"{facts.kind} copy, {what}, {size(facts.size)}")
    fact(console, "where", short_path(facts.path, 3 * console.width))
    if facts.deleted or facts.extents:
        fact(console, "on the disk", _on_the_disk(facts))
    fact(console, "state", f"{facts.state}: {facts.reason}")
    _repairable(console, shown)
    _parts(console, shown)
    fact(console, "written", f"{moment_said(facts.written)}, by the {by.removeprefix('the ')}")
    for clock, told in facts.clocks.items():
        if told != facts.written:
            fact(console, "", f"{moment_said(told)}, by the {clock} date")
    for name, said in (("title", facts.title), ("author", facts.author)):
        if said:
            fact(console, name, said)
    _amounts(console, facts.amounts)
    _recording(console, shown)
    heading(console, "Why it belongs to this document")
    for piece in sorted(facts.evidence, key=lambda p: -p.weight):
        fact(console, f"{piece.weight:+.1f}", piece.text)


def _parts(console: Console, shown: LookedUp) -> None:
    """The parts of a package: how many are right, and each that is not."""
    parts = shown.seen.parts
    if not parts:
        return
    wrong = [part for part in parts if part.wrong]
    all_right = f"all {len(parts)} right, each read to its end"
    fact(console, "parts", f"{len(parts) - len(wrong)} of {len(parts)} right" if wrong else all_right)
    for part in wrong[:6]:
        fact(console, "", f"{part.name}: {part.wrong}")


def _recording(console: Console, shown: LookedUp) -> None:
    seconds, tracks = recording(this_run().session.sources, shown.copy, shown.bases, shown.label, shown.seen.content)
    is_hurt = shown.seen.content is not None and shown.seen.content.state is State.DAMAGED
    if seconds is not None and not (is_hurt and shown.seen.outlook is not None):  # which says so already
        minutes, rest = divmod(round(seconds), 60)
        length = f"{minutes // 60} h {minutes % 60} min {rest} s" if minutes >= 60 else f"{minutes} min {rest} s"
        length = length if minutes else f"{seconds:.1f} s"
        fact(console, "plays" if is_hurt else "length", f"about {length}, once it is repaired" if is_hurt else length)
    if tracks:
        fact(console, "tracks", "; ".join(tracks))


def _next(console: Console, shown: LookedUp, life: Sequence[Event]) -> None:
    copy = shown.copy
    if copy is None:
        word = shell_word(shown.label)
        steps = [(f"look {word} --text", "all of its text")] if len(shown.seen.pieces) > _LINES else []
        if shown.seen.outlook is not None:
            steps.insert(0, (f"repair {word} --to DIR", "a whole file with all that is left in it"))
        if steps:
            next_steps(console, steps)
        return
    steps = [(f"restore {copy.id} --to DIR", "write it, verified, into a folder elsewhere")]
    if shown.seen.outlook is not None:
        steps.insert(0, (f"repair {copy.id} --to DIR", "a whole file with all that is left in it"))
    saved = next((each.name for each in life if each.kind == "saved"), None)
    if saved and saved != copy.id:
        steps.insert(0, (f"look {saved} {copy.id}", "what it has that the saved file lacks, word by word"))
    if life:
        steps.insert(0, (f"look {copy.id}", "what this copy is, where it lies, the evidence, more of its text"))
    elif len(shown.seen.pieces) > 1:
        steps.append((f"look {copy.id} --text", "all of its text"))
    next_steps(console, steps)
    if copy.document.best and copy.document.best != copy.id:
        console.print(Text(f"   The best copy is {copy.document.best}.", style=f"bold {FERN}"))


def page(pieces: Sequence[Piece], shown: LookedUp, *, streamed: bool) -> None:
    """All of a text, a screen at a time; `streamed`: the first lines are there before the last are read."""
    console = out()
    damage: list[str] = []

    def source() -> Iterator[Piece]:
        read: list[Piece | Content] = [*pieces, *([shown.seen.content] if shown.seen.content else [])]
        for item in text(this_run().session.sources, shown.copy, shown.bases, shown.label) if streamed else iter(read):
            if isinstance(item, Piece):
                yield item
            elif item.state is State.DAMAGED:
                damage.append(item.reason)

    def lines() -> Iterator[str]:
        shown_here = sys.stdout.isatty()
        for line in text_view.lines(console, source(), 3 if shown_here else 0):
            if not shown_here:
                yield line.plain.rstrip() + "\n"
                continue
            with console.capture() as captured:
                console.print(line, soft_wrap=True)
            yield captured.get()
        if damage:
            yield f"   ── it stops here: {show_name(damage[0])}\n"

    if sys.stdout.isatty():
        click.echo_via_pager(lines())
    else:
        sys.stdout.writelines(lines())


def show_hits(console: Console, shown: LookedUp, pieces: Sequence[Piece], words: str, hits: Sequence[int]) -> None:
    """The pieces that hold words, each with where it stands."""
    wanted = set(words_of(words))
    count = sum(1 for piece in pieces for word in words_of(piece.text) if word in wanted)
    what = "cells" if all(piece.spot and not piece.spot[0] for piece in pieces) else "lines"
    times = "once" if count == 1 else f"{count} times"
    name = f"{shown.label}  {show_name(shown.name)}" if shown.copy else show_name(shown.name)
    heading(console, f"{name}: {times}, in {len(hits)} of {len(pieces)} {what}")
    names = {at: text_view.address(pieces[at - 1]) or str(at) for at in hits[:_HITS]}
    width = min(max(map(len, names.values()), default=0), 24)
    for at, name in names.items():
        line = Text(f"   {name:>{width}}  ", style=PALE)
        text = Text(text_view.plain(pieces[at - 1].text), style="default")
        text.highlight_words(words.split(), style=f"bold reverse {FERN}", case_sensitive=False)
        for number, part in enumerate(text.wrap(console, max(console.width - width - 6, 20))):
            console.print((line if not number else Text(" " * (width + 5))).append_text(part), soft_wrap=True)
    if len(hits) > _HITS:
        bullet(console, f"and {len(hits) - _HITS} more", PALE)
    if shown.copy is not None:
        next_steps(console, [(f"restore {shown.copy.id} --to DIR", "write it, verified, into a folder elsewhere")])
