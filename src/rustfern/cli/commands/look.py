"""`rustfern look`: what a copy is and why, its content, a document's life, and how two copies differ."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager

import click
import msgspec

from rustfern.cases.case_file import CaseFile, StoredCopy, roots_of
from rustfern.cases.lookup import expand, find_copy
from rustfern.cli.complete import complete_what
from rustfern.cli.context import this_run
from rustfern.cli.options import case_at, case_option, json_option, paths_option, print_json
from rustfern.core.command_answers import ListAnswer, LookAnswer
from rustfern.core.errors import NotFound, SourceError, WrongUsage
from rustfern.core.paths import show_name
from rustfern.formats.format_table import class_of
from rustfern.formats.text_sink import Piece, fold
from rustfern.operations import command_schema
from rustfern.operations.life import Event
from rustfern.operations.look import WHOLE_CHARACTERS, Preview, picture, recording, see, see_file, seen_meanwhile
from rustfern.operations.session import set_scratch_outside_of

_CHARACTERS = 6_000


@click.command()
@click.argument("what", nargs=-1, metavar="[WHAT] [WHAT]", shell_complete=complete_what)
@click.option("--text", "whole", is_flag=True, help="All of its text, a screen at a time.")
@click.option("--sheet", metavar="NAME", help="Only this sheet, slide or page, all of it.")
@click.option("--words", metavar="TEXT", help="Where these words stand in it, and how often.")
@click.option("--picture", "target", metavar="FILE", help="Write its picture, or how two differ (.png).")
@click.option("--figure", metavar="FILE", help="Write a document's life as a figure (.png or .svg).")
@click.option(
    "--choose", "chooser", metavar="FILE", help="Write a page of all that was found, to tick what to restore (.html)."
)
@paths_option
@case_option
@json_option
def command(
    what: tuple[str, ...],
    whole: bool,
    sheet: str | None,
    words: str | None,
    target: str | None,
    figure: str | None,
    chooser: str | None,
    case: str | None,
    as_json: bool,
) -> int:
    """See what a copy is, why it belongs to its document, and its content, before anything is written.

    Without WHAT: the documents of the case again, as they were found. WHAT is the number of a document (its life on one line of time, and its best copy), the id of a copy (`1b`), a document's name, or
    the path of any file. Two of them are compared: what the second has more and fewer, word by word, cell by cell. Nothing is
    opened in its program, and nothing is changed.

    \b
    Examples (after `rustfern demo`):
      rustfern look                       what was found, again
      rustfern look 1                     its life, and why its best copy is the best
      rustfern look 2b --text             all of its text
      rustfern look 5 --sheet Orders      one sheet of a workbook
      rustfern look 1b --words "larch"    where a word stands, and how often
      rustfern look 1a 1c                 what the second has that the first lacks
      rustfern look 1 --figure life.png
      rustfern look --choose all.html     pictures and first lines of all of it, to tick
    """
    what = tuple(expand(what))
    if chooser is not None:
        if what:
            raise click.UsageError("--choose makes one page of all that was found: leave WHAT away")
        return _write_chooser(case, chooser)
    if not what:
        return _list(case, as_json)
    if len(what) > 2:
        raise click.UsageError("one copy is looked at, or two are compared; more were given")
    from rustfern.cli.screen.console import shell_word

    door = this_run().session.sources
    for each in what:
        path = os.path.abspath(each)
        is_disk = door.is_disk(path)
        if is_disk or (os.path.dirname(each) and not door.is_file(each) and door.is_folder(path)):
            what_it_is = "a disk" if is_disk else "a folder"
            raise WrongUsage(
                f"this is {what_it_is}; files and copies are looked at",
                each,
                f"See what it is with rustfern ready, and search it with rustfern scan {shell_word(each)}",
            )
        if os.path.dirname(each) and not (door.exists(each) or door.is_file(each)):
            raise NotFound(
                "there is no such file", each, "Give the path of a file, or the id of a copy: rustfern look 1b"
            )
    file = None if all(is_file(each) for each in what) else case_at(case)
    roots = roots_of(file) if file is not None else []
    set_scratch_outside_of(this_run().session, [*roots, *(each for each in what if is_file(each))])
    try:
        keep = WHOLE_CHARACTERS if words or sheet or len(what) == 2 or (whole and as_json) else _CHARACTERS
        named = [Named.of(each, file) for each in what]
        if len(named) == 2:
            with named[1].seen_meanwhile(keep) as seen:
                found = [named[0].looked_up(keep, compared=True), seen()]
        else:
            found = [named[0].looked_up(keep)]
        life = _life(found[0], what, file)
    finally:
        if file is not None:
            file.close()
    if figure is not None:
        _draw(found[0], life, figure, roots)
    if target is not None:
        _write_picture(found, target, roots)
    if len(found) == 2:
        return _compared(found[0], found[1], as_json, target)
    return _one(found[0], life, _Asked(whole, sheet, words, figure, target), as_json)


def _write_chooser(case: str | None, target: str) -> int:
    """The page of all that was found."""
    from rustfern.cli.screen.progress import watching
    from rustfern.operations.choose_page import cards
    from rustfern.operations.targets import write_new
    from rustfern.reports.choose import page

    if not target.lower().endswith((".html", ".htm")):
        raise WrongUsage("this is written as a page", target, "Name it .html: --choose all.html")
    file = case_at(case)
    try:
        roots = roots_of(file)
        with watching("documents") as observer:
            observer.stage("making pictures of what was found")
            found = list(cards(this_run().session, file, observer))
        if not found:
            raise NotFound("nothing was found that could be shown", None, "Search first: rustfern scan ROOT")
        made = page(found, roots, file.path, this_run().clock)
    finally:
        file.close()
    write_new(target, made.encode("utf-8", "backslashreplace"), "page", roots)
    click.echo(
        f"Written: {show_name(target)} ({len(found)} documents)\nOpen it in a browser, tick what is wanted, and type the line that it shows."
    )
    return 0


def _list(case: str | None, as_json: bool) -> int:
    """What was found, again."""
    from rustfern.cli.screen import case_list
    from rustfern.cli.screen.console import paged

    file = case_at(case)
    try:
        documents, roots = case_list.documents_of(file), roots_of(file)
    finally:
        file.close()
    if as_json:
        print_json(ListAnswer(case=file.path, documents=documents))
    else:
        with paged() as console:
            case_list.show(console, documents, roots[0] if len(roots) == 1 else None)
    return 0 if any(document.is_lost for document in documents) else 1


def is_file(what: str) -> bool:
    """Whether a word names a file rather than something in the case."""
    return not re.fullmatch(r"\d{1,9}[a-z]{0,6}", what) and this_run().session.sources.is_file(what)


class _Asked(msgspec.Struct, frozen=True):
    whole: bool
    sheet: str | None
    words: str | None
    figure: str | None
    target: str | None


class Named(msgspec.Struct, frozen=True):
    """What a word names: a copy of the case, or (`copy` is None) any file; `bases` are the copies that it is rebuilt on."""

    what: str
    copy: StoredCopy | None
    bases: tuple[StoredCopy, ...] = ()

    @classmethod
    def of(cls, what: str, file: CaseFile | None) -> Named:
        """Raises `NotFound`."""
        if file is None or is_file(what):
            return cls(what, None)
        copy = find_copy(file, what)
        return cls(what, copy, tuple(other for other in file.copies(copy.number) if other.id in copy.facts.needs))

    def looked_up(self, keep: int, *, compared: bool = False) -> LookedUp:
        """Read it. Raises `NotFound`."""
        door = this_run().session.sources
        if (copy := self.copy) is not None:
            return self._with(lambda: see(door, copy, self.bases, keep, compared=compared))
        return self._with(lambda: see_file(door, self.what, keep, compared=compared))

    @contextmanager
    def seen_meanwhile(self, keep: int) -> Iterator[Callable[[], LookedUp]]:
        """As `operations.look.seen_meanwhile`."""
        with seen_meanwhile(this_run().session.sources, self.what, self.copy, self.bases, keep) as seen:
            yield lambda: self._with(seen)

    def _with(self, seen: Callable[[], Preview]) -> LookedUp:
        if self.copy is not None:
            return LookedUp(self.copy.id, self.copy.document.name, seen(), self.copy, self.bases)
        try:
            return LookedUp(self.what, os.path.basename(self.what), seen(), None)
        except SourceError as error:
            raise NotFound(error.what, self.what, "Give the path of a file that can be read") from error


class LookedUp(msgspec.Struct, frozen=True):
    """One thing looked at: a copy of the case, or (`copy` is None) any file; `bases` are the copies that it is rebuilt on."""

    label: str
    name: str
    seen: Preview
    copy: StoredCopy | None
    bases: tuple[StoredCopy, ...] = ()

    def again(self) -> LookedUp:
        """The same, with all of its text."""
        door = this_run().session.sources
        seen = (
            see(door, self.copy, self.bases, WHOLE_CHARACTERS)
            if self.copy
            else see_file(door, self.label, WHOLE_CHARACTERS)
        )
        return msgspec.structs.replace(self, seen=seen)

    @property
    def is_folder(self) -> bool:
        """Whether it is several files."""
        return bool(self.copy and self.copy.facts.members)


def _life(shown: LookedUp, what: Sequence[str], file: CaseFile | None) -> list[Event]:
    """The events of a document's life if the whole document was asked for."""
    if file is None or shown.copy is None or len(what) != 1 or what[0].strip().lower() == shown.copy.id:
        return []
    from rustfern.operations.life import events

    return events(shown.copy.document, [copy.facts for copy in file.copies(shown.copy.number)])


def _draw(shown: LookedUp, life: Sequence[Event], target: str, roots: Sequence[str]) -> None:
    if not life:
        raise NotFound("a figure is made of a document's life", None, "Give its number: rustfern look 1 --figure FILE")
    from rustfern.reports.figure import draw

    draw(this_run().session, shown.name, life, target, roots)


def _write_picture(found: Sequence[LookedUp], target: str, roots: Sequence[str]) -> None:
    from rustfern.reports.pictures import differing, write

    pictures = [picture(this_run().session.sources, each.copy, each.bases, each.label) for each in found]
    there = [each[0] for each in pictures if each]
    if len(there) < len(found):
        missing = next(each for each, got in zip(found, pictures, strict=True) if not got)
        raise NotFound(
            "it holds no picture that can be shown", missing.label, "Look at its text: rustfern look WHAT --text"
        )
    write(there[0] if len(there) == 1 else differing(there[0], there[1]).shown, target, roots)


def _one(shown: LookedUp, life: list[Event], asked: _Asked, as_json: bool) -> int:
    from rustfern.cli.screen import copy_view
    from rustfern.cli.screen.console import WARN, bullet, out

    pieces = list(shown.seen.pieces)
    if asked.sheet is not None:
        pieces = _of_sheet(shown, pieces, asked.sheet)
    hits = find_words(pieces, asked.words) if asked.words else []
    trouble = shown.seen.trouble
    if as_json:
        print_json(_as_json(shown, pieces, life, hits if asked.words else None))
    elif asked.words:
        copy_view.show_hits(out(), shown, pieces, asked.words, hits)
        if shown.seen.cut:
            notice = f"Only the first {WHOLE_CHARACTERS >> 20} million characters were looked through"
            bullet(out(), f"! {notice}", f"bold {WARN}", indent=0)
        return 0 if hits else 1
    elif asked.whole or asked.sheet is not None:
        # Slides lie in another order than they are shown: they are read before.
        told = shown.seen.content.format if shown.seen.content else None
        streamed = asked.sheet is None and class_of(told) != "slides"
        if asked.whole and not streamed and asked.sheet is None:
            pieces = list(shown.again().seen.pieces)
        copy_view.page(pieces, shown, streamed=streamed and not shown.is_folder)
    else:
        copy_view.show(out(), shown, life)
        for what, path in (("figure", asked.figure), ("picture", asked.target)):
            if path:
                copy_view.written(out(), what, path)
    return 3 if trouble else 0


def _of_sheet(shown: LookedUp, pieces: Sequence[Piece], name: str) -> list[Piece]:
    """The pieces of one sheet, slide or page, by its name or its number. Raises `NotFound` with what there is."""
    there = list(dict.fromkeys(piece.section for piece in pieces if piece.section))
    found = [each for each in there if fold(each) == fold(name)]
    if not found and name.isdigit():
        found = [each for each in there if each.endswith(f" {name}")] or there[int(name) - 1 : int(name)]
    if not found:
        listed = ", ".join(there[:20]) + (" …" if len(there) > 20 else "")
        next_step = f"There are: {listed}" if there else "It has no sheets, slides or pages: leave --sheet away"
        raise NotFound(f"there is no sheet called {name}", shown.label, next_step)
    return [piece for piece in pieces if piece.section == found[0]]


def find_words(pieces: Sequence[Piece], words: str) -> list[int]:
    """The numbers (from 1) of the pieces that hold all of some words, whatever their case."""
    wanted = fold(words).split()
    return [at for at, piece in enumerate(pieces, 1) if all(word in fold(piece.text) for word in wanted)]


def _as_json(shown: LookedUp, pieces: Sequence[Piece], life: Sequence[Event], hits: Sequence[int] | None) -> LookAnswer:
    found = recording(this_run().session.sources, shown.copy, shown.bases, shown.label, shown.seen.content)
    return command_schema.looked(shown.copy, shown.seen, pieces, life, hits, found)


def _compared(left: LookedUp, right: LookedUp, as_json: bool, target: str | None) -> int:
    from rustfern.operations.line_diff import compare_lines
    from rustfern.operations.text_diff import compare_pieces
    from rustfern.reports.pictures import Differing, differing

    trouble = left.seen.trouble or right.seen.trouble
    if left.seen.lines and right.seen.lines:
        words = right.seen.content.words if right.seen.content else None
        found = compare_lines(left.seen.lines, right.seen.lines, words or 0)
    else:
        left, right = (each.again() if each.seen.lines else each for each in (left, right))
        found = compare_pieces(left.seen.pieces, right.seen.pieces, cut=left.seen.cut or right.seen.cut)
    cut = left.seen.cut or right.seen.cut
    notice = f"only the first {WHOLE_CHARACTERS >> 20} million characters of the text were compared" if cut else None
    seen: Differing | None = None
    if not found.more + found.fewer + found.same and not any(
        side.seen.content and side.seen.content.words for side in (left, right)
    ):
        pictures = [picture(this_run().session.sources, each.copy, each.bases, each.label) for each in (left, right)]
        if pictures[0] and pictures[1]:
            seen = differing(pictures[0][0], pictures[1][0])
    if as_json:
        print_json(
            command_schema.compared(left.label, right.label, found, seen.facts() if seen else None, trouble, notice)
        )
    else:
        from rustfern.cli.screen import copy_view
        from rustfern.cli.screen.comparison import show
        from rustfern.cli.screen.console import out

        sides = [(each.label, each.name, each.seen.content, each.copy is not None) for each in (left, right)]
        show(out(), sides[0], sides[1], found, trouble or notice, seen)
        if target:
            copy_view.written(out(), "picture", target)
    return 3 if trouble else 0
