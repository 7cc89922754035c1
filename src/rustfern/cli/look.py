"""`rustfern look`: what a copy is and why, its text, a document's life, and how two copies differ."""

from __future__ import annotations

import dataclasses
import os
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from rustfern.asking import find_copy
from rustfern.casefile import CaseFile, KeptCopy
from rustfern.cli.options import case_at, case_option, json_option, print_json
from rustfern.errors import NotFound, SourceError
from rustfern.formats.table import extension_right, title_of
from rustfern.looking import WHOLE, Seen, see, see_file
from rustfern.model import show_name

if TYPE_CHECKING:
    from rich.console import Console

    from rustfern.reporting.life import Event

_CHARACTERS, _LINES = 4_000, 14


@click.command()
@click.argument("what", nargs=-1, required=True, metavar="WHAT [WHAT]")
@click.option("--text", "whole", is_flag=True, help="All of its text, a screen at a time.")
@click.option("--words", metavar="TEXT", help="Where these words stand in it, and how often.")
@click.option("--figure", metavar="FILE", help="Write a document's life as a figure (.png or .svg).")
@case_option
@json_option
def command(
    what: tuple[str, ...], whole: bool, words: str | None, figure: str | None, case: str | None, as_json: bool
) -> int:
    """See what a copy is, why it belongs to its document, and its text, before anything is written.

    WHAT is the number of a document (its life on one line of time, and its best copy), the id of a copy (`1b`), a document's name, or
    the path of any file. Two of them are compared: what the second has more and fewer, word by word. Nothing is opened in
    its program, and nothing is changed.

    \b
    Examples (after `rustfern demo`):
      rustfern look 1                   its life, and why its best copy is the best
      rustfern look 2b --text           all of its text
      rustfern look 1a 1c               what the second has that the first lacks
      rustfern look 1 --figure life.png
    """
    if len(what) > 2:
        raise click.UsageError("one copy is looked at, or two are compared; more were given")
    for each in what:
        if os.path.dirname(each) and not os.path.exists(each):
            raise NotFound(
                "there is no such file", each, "Give the path of a file, or the id of a copy: rustfern look 1b"
            )
    file = None if all(_is_file(each) for each in what) else case_at(case)
    try:
        keep = WHOLE if whole or words or len(what) == 2 else _CHARACTERS
        found = [_Shown.of(each, file, keep) for each in what]
        life = _life(found[0], what, file)
    finally:
        if file is not None:
            file.close()
    if figure is not None:
        if not life:
            raise NotFound(
                "a figure is made of a document's life", None, "Give its number: rustfern look 1 --figure FILE"
            )
        from rustfern.reporting.figure import draw

        draw(found[0].name, life, figure)
    if len(found) == 2:
        return _compared(found[0], found[1], as_json)
    return _one(found[0], life, figure, as_json, whole=whole, words=words)


def _is_file(what: str) -> bool:
    return not re.fullmatch(r"\d{1,9}[a-z]{0,6}", what) and os.path.isfile(what)


@dataclasses.dataclass(frozen=True)
class _Shown:
    """One thing looked at: a copy of the case, or (`copy` is None) any file."""

    label: str
    name: str
    seen: Seen
    copy: KeptCopy | None

    @classmethod
    def of(cls, what: str, file: CaseFile | None, keep: int) -> _Shown:
        if file is None or _is_file(what):
            try:
                return cls(what, os.path.basename(what), see_file(what, keep), None)
            except SourceError as error:
                raise NotFound(error.what, what, "Give the path of a file that can be read") from error
        copy = find_copy(file, what)
        bases = [other for other in file.copies(copy.number) if other.id in copy.facts["needs"]]
        return cls(copy.id, copy.document["name"], see(copy, bases, keep), copy)


def _life(shown: _Shown, what: Sequence[str], file: CaseFile | None) -> list[Event]:
    """The events of a document's life if the whole document was asked for."""
    if file is None or shown.copy is None or len(what) != 1 or what[0].strip().lower() == shown.copy.id:
        return []
    from rustfern.reporting.life import events

    return events(shown.copy.document, [copy.facts for copy in file.copies(shown.copy.number)])


def _one(shown: _Shown, life: list[Event], figure: str | None, as_json: bool, *, whole: bool, words: str | None) -> int:
    from rustfern.cli.console import out

    copy, seen = shown.copy, shown.seen
    hits = _hits(seen.pieces, words) if words else []
    if as_json:
        content = seen.content
        print_json(
            {
                "schema": "rustfern/look-1",
                "document": copy.document if copy else None,
                "copy": copy.facts if copy else None,
                "lines": list(seen.pieces),
                "problem": seen.trouble,
                "state": str(content.state) if content else None,
                "reason": content.reason if content else None,
                "life": [{**dataclasses.asdict(event), "when": event.when.isoformat()} for event in life],
                "words": [{"at": at, "line": seen.pieces[at - 1]} for at in hits] if words else None,
            }
        )
        return 3 if seen.trouble else 0
    if whole:
        click.echo_via_pager("\n".join(show_name(piece) for piece in seen.pieces) + "\n")
        return 3 if seen.trouble else 0
    if words:
        _show_hits(out(), shown, words, hits)
        return 0 if hits else 1
    if copy is None:
        _show_file(out(), shown)
    else:
        _show(out(), copy, list(seen.pieces), seen.trouble, life)
    if figure:
        out().print(f"   The figure is in {show_name(figure)}.", highlight=False, markup=False)
    return 3 if seen.trouble else 0


def _hits(pieces: Sequence[str], words: str) -> list[int]:
    """The numbers (from 1) of the pieces that hold all of some words, whatever their case."""
    from rustfern.formats.words import fold

    wanted = fold(words).split()
    return [at for at, piece in enumerate(pieces, 1) if all(word in fold(piece) for word in wanted)]


def _show_hits(console: Console, shown: _Shown, words: str, hits: list[int]) -> None:
    from rich.text import Text

    from rustfern.cli.console import FERN, bullet, heading

    heading(console, f"{shown.label}  {show_name(shown.name)}: {len(hits)} of {len(shown.seen.pieces)} lines hold it")
    for at in hits[:40]:
        line = Text(f"   {at:>5}  {show_name(shown.seen.pieces[at - 1])}")
        line.highlight_words(words.split(), style=f"bold {FERN}", case_sensitive=False)
        console.print(line, soft_wrap=False)
    if len(hits) > 40:
        bullet(console, f"and {len(hits) - 40} more lines")


def _show_file(console: Console, shown: _Shown) -> None:
    from rustfern.cli.console import bullet, fact, heading, size

    content = shown.seen.content
    assert content is not None
    heading(console, show_name(shown.name))
    right = extension_right(shown.name, content.format)
    wrong = "; its extension says otherwise" if right is False else ""
    fact(
        console,
        "what",
        f"{title_of(content.format) if content.format else 'of unknown format'}, {size(content.size)}{wrong}",
    )
    fact(console, "state", f"{content.state}: {content.reason}")
    if content.glance.author:
        fact(console, "author", content.glance.author)
    if content.amounts:
        fact(console, "amounts", ", ".join(f"{count} {name}" for name, count in content.amounts.items()))
    _show_lines(console, list(shown.seen.pieces), "First lines")
    if not shown.seen.pieces:
        bullet(console, "it holds no text that can be shown")


def _show_lines(console: Console, lines: list[str], title: str, most: int = _LINES) -> None:
    from rich.text import Text

    from rustfern.cli.console import PALE, bullet, heading

    if not lines:
        return
    heading(console, title)
    for line in lines[:most]:
        room = console.width - 6
        bullet(console, line if len(line) <= room else line[: room - 2].rstrip() + " …")
    if len(lines) > most:
        console.print(Text("   …", style=PALE))


def _compared(left: _Shown, right: _Shown, as_json: bool) -> int:
    from rustfern.differing import compare

    trouble = left.seen.trouble or right.seen.trouble
    found = compare(left.seen.pieces, right.seen.pieces)
    if as_json:
        print_json(
            {
                "schema": "rustfern/look-2",
                "left": left.label,
                "right": right.label,
                **{key: value for key, value in dataclasses.asdict(found).items() if key != "changes"},
                "changes": [dataclasses.asdict(change) for change in found.changes],
                "problem": trouble,
            }
        )
    else:
        from rustfern.cli.compared import show
        from rustfern.cli.console import out

        sides = [(each.label, each.name, each.seen.content, each.copy is not None) for each in (left, right)]
        show(out(), sides[0], sides[1], found, trouble)
    return 3 if trouble else 0


def _show(console: Console, copy: KeptCopy, lines: list[str], trouble: str | None, life: Sequence[Event]) -> None:
    from rich.text import Text

    from rustfern.cli.console import FERN, PALE, WARN, bullet, heading, next_steps
    from rustfern.cli.view import HAPPENED, copy_line

    facts: dict[str, Any] = copy.facts
    life = life if len(life) > 1 else []
    document = copy.document
    best = document["best"] == copy.id
    title = Text(f"{show_name(document['name'])}", style="bold")
    title.append(f"   {HAPPENED[document['situation']]}", style=PALE)
    console.print(title, soft_wrap=True)
    console.print(copy_line(facts, document, best, console.width), soft_wrap=True)
    if life:
        from rustfern.cli.compared import show_life

        show_life(console, life)
    if not life:
        _facts(console, facts)
    if best:
        heading(console, "Why it is the best")
        for reason in document["why"]:
            bullet(console, reason)
    for note in [*facts["notes"], *(document["warnings"] if best else [])]:
        bullet(console, f"! {note}", WARN)
    if lines:
        above = "Files in it" if facts["members"] else f"First lines of {copy.id}" if life else "First lines"
        _show_lines(console, lines, above, 6 if life else _LINES)
    elif not trouble:
        bullet(console, "it holds no text that can be shown", PALE)
    if trouble:
        console.print()
        console.print(Text(f"! {trouble}", style=f"bold {WARN}"))
    steps = [(f"restore {copy.id} --to DIR", "write it, verified, into a folder elsewhere")]
    saved = next((each.name for each in life if each.kind == "saved"), None)
    if saved and saved != copy.id:
        steps.insert(0, (f"look {saved} {copy.id}", "what it has that the saved file lacks, word by word"))
    if life:
        steps.insert(0, (f"look {copy.id}", "what this copy is, where it lies, the evidence, more of its text"))
    next_steps(console, steps)
    if not best and document["best"]:
        console.print(Text(f"   The best copy is {document['best']}.", style=f"bold {FERN}"))


def _facts(console: Console, facts: dict[str, Any]) -> None:
    from rustfern.cli.console import fact, heading, moment, size

    heading(console, "What it is")
    what = title_of(facts["format"]) if facts["format"] else "folder" if facts["members"] else "of unknown format"
    rows = [
        ("what", f"{facts['kind']} copy, {what}, {size(facts['size'])}"),
        ("where", facts["path"]),
        ("state", f"{facts['state']}: {facts['reason']}"),
        (
            "written",
            f"{moment(facts['written'])}, by the {'document itself' if facts['written_from'] == 'content' else facts['written_from'] + ' date'}",
        ),
        ("title", facts["title"] or ""),
        ("author", facts["author"] or ""),
        ("amounts", ", ".join(f"{count} {name}" for name, count in facts["amounts"].items())),
    ]
    for name, value in rows:
        if value:
            fact(console, name, value)
    heading(console, "Why it belongs to this document")
    for piece in sorted(facts["evidence"], key=lambda p: -p["weight"]):
        fact(console, f"{piece['weight']:+.1f}", piece["text"])
