"""`rustfern look`: what a copy is, why, and its first lines."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from rustfern import formats, rebuilding
from rustfern.asking import find_copy
from rustfern.casefile import KeptCopy
from rustfern.cli.options import case_at, case_option, json_option, print_json
from rustfern.errors import SourceError
from rustfern.formats.table import title_of
from rustfern.model import show_name
from rustfern.sources.folder import FolderSource

if TYPE_CHECKING:
    from rich.console import Console

_CHARACTERS = 3_000
_LINES = 10


@click.command()
@click.argument("what", metavar="WHAT")
@case_option
@json_option
def command(what: str, case: str | None, as_json: bool) -> int:
    """See what a copy is, why it belongs to its document, and the first lines of its text.

    WHAT is the id of a copy (`1b`), the number of a document (its best copy), or a document's name. Nothing is opened in its
    program, and nothing is changed.

    \b
    Examples (after `rustfern demo`):
      rustfern look 1
      rustfern look 2b
    """
    file = case_at(case)
    try:
        copy = find_copy(file, what)
        bases = [other for other in file.copies(copy.number) if other.id in copy.facts["needs"]]
    finally:
        file.close()
    lines, trouble = _first_lines(copy, bases)
    if as_json:
        print_json(
            {
                "schema": "rustfern/look-1",
                "document": copy.document,
                "copy": copy.facts,
                "lines": lines,
                "problem": trouble,
            }
        )
    else:
        from rustfern.cli.console import out

        _show(out(), copy, lines, trouble)
    return 3 if trouble else 0


def _first_lines(copy: KeptCopy, bases: Sequence[KeptCopy]) -> tuple[list[str], str | None]:
    """The first lines of the text as it is now, and what is wrong if it vanished or changed."""
    if copy.facts["members"]:
        return [str(member) for member in copy.facts["members"]], None
    try:
        entry = FolderSource(copy.root).entry(copy.path)
        entry = replace(entry, part=copy.facts["part"])
        under = [FolderSource(base.root).entry(base.path) for base in bases]
        recipe = copy.facts["rebuilt_by"] or ""
        name = copy.document["name"] if recipe else os.path.basename(copy.path)
        with rebuilding.open_content(entry, recipe, under) as stream:
            content, kept = formats.read_text(stream, name, _CHARACTERS)
    except SourceError as error:
        return [], f"{error}. It was there at the scan: scan again, and look at the other copies"
    if content.sha256 != copy.facts["sha256"]:
        return kept, "this copy changed since the scan: scan again"
    return kept, None


def _show(console: Console, copy: KeptCopy, lines: list[str], trouble: str | None) -> None:
    from rich.text import Text

    from rustfern.cli.console import FERN, PALE, WARN, bullet, fact, heading, moment, next_steps, size
    from rustfern.cli.view import HAPPENED, copy_line

    facts: dict[str, Any] = copy.facts
    document = copy.document
    best = document["best"] == copy.id
    title = Text(f"{show_name(document['name'])}", style="bold")
    title.append(f"   {HAPPENED[document['situation']]}", style=PALE)
    console.print(title, soft_wrap=True)
    console.print(copy_line(facts, document, best, console.width), soft_wrap=True)
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
    if best:
        heading(console, "Why it is the best")
        for reason in document["why"]:
            bullet(console, reason)
    for note in [*facts["notes"], *(document["warnings"] if best else [])]:
        bullet(console, f"! {note}", WARN)
    if lines:
        heading(console, "Files in it" if facts["members"] else "First lines")
        for line in lines[:_LINES]:
            room = console.width - 6
            bullet(console, line if len(line) <= room else line[: room - 2].rstrip() + " …")
        if len(lines) > _LINES:
            console.print(Text("   …", style=PALE))
    elif not trouble:
        bullet(console, "it holds no text that can be shown", PALE)
    if trouble:
        console.print()
        console.print(Text(f"! {trouble}", style=f"bold {WARN}"))
    next_steps(console, [(f"restore {copy.id} --to DIR", "write it, verified, into a folder elsewhere")])
    if not best and document["best"]:
        console.print(Text(f"   The best copy is {document['best']}.", style=f"bold {FERN}"))
