"""The answer of a search on the screen."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from itertools import takewhile
from typing import TYPE_CHECKING

from rustfern.cli.context import this_run
from rustfern.core.model import Copy, Kind, Lock, Record, Situation, State, hides_files
from rustfern.core.paths import inside, plain_path
from rustfern.core.remarks import About, counted
from rustfern.core.remote_paths import is_remote
from rustfern.operations import schema
from rustfern.operations.scan import of_others
from rustfern.selection.wording import notice
from rustfern.sources.disk_health import ADVICE

if TYPE_CHECKING:
    from rich.console import Console

    from rustfern.core.model import Answer, Document, Home

_SHOWN = 20
_FULL = 3
_ALARMS = 5
_HITS = 8


def show(
    console: Console,
    answer: Answer,
    typed: Sequence[str],
    *,
    everything: bool,
    next_command: bool = True,
    clock_error: timedelta | None = None,
) -> None:
    """The answer for people: danger, where we are, the documents, what was not searched, the next command."""
    from rich.text import Text

    from rustfern.cli.screen.console import (
        FERN,
        PALE,
        RUST,
        SLATE,
        WARN,
        bullet,
        column,
        heading,
        short_path,
        wrong_clock,
        zone,
    )
    from rustfern.cli.screen.disk_view import disk_lines
    from rustfern.cli.screen.document_view import document_block, short_block
    from rustfern.core.paths import show_name

    for each in answer.notices:
        if each.is_unmet:
            console.print(Text(f"? {capital(notice(each))}.", style=f"bold {WARN}"), soft_wrap=False)
    alarms = [notice for notice in answer.notices if notice.is_alarm]
    for alarm in alarms[:_ALARMS]:
        console.print(Text(f"! {notice(alarm)}", style=f"bold {RUST}"), soft_wrap=False)
    unread = _unread_homes(answer)
    for home in unread[:_ALARMS]:
        text = f"! The home of {show_name(home.person)} could not be read, so nothing of it was searched: get the right to read it, and scan again."
        console.print(Text(text, style=f"bold {RUST}"))
    if not alarms and answer.live:
        calm = "Live files: somebody may be at work in them. None of what was found is open or being written on this machine."
        console.print(Text(calm, style=SLATE))
    elif not alarms and not unread and any(map(is_remote, answer.roots)):
        console.print(
            Text("On another machine: somebody may be at work there. It is only read, and asked gently.", style=SLATE)
        )
    elif not alarms and not unread:
        console.print(Text("Safe: attached files. Nothing here is running or being written.", style=FERN))
    for root in answer.roots:
        console.print(Text(f"Searched  {short_path(root, console.width - 12)}"))
    for disk in answer.disks:
        for number, told in enumerate(disk_lines(disk)):
            column(console, "" if number else "Disk", told)
    people: dict[str, list[str]] = {}
    for home in answer.homes:
        people.setdefault(str(home.layout), []).append(show_name(home.person))
    crowd = "; ".join(f"{', '.join(names)} ({layout})" for layout, names in people.items())
    bullet(
        console,
        f"People    {crowd or 'no home found: only folders'}{f', {len(unread)} not readable' if unread else ''}",
        indent=0,
    )
    bullet(
        console,
        f"Times     {zone(answer.zone, answer.zones, told=bool(answer.hints.zone))}{wrong_clock(clock_error)}",
        indent=0,
    )

    denied = any(searched.status == "denied" for searched in answer.searched)
    lost = [d for d in answer.documents if d.is_lost]
    calm_ones = [d for d in answer.documents if not d.is_lost]
    shown = (
        list(answer.documents)
        if everything
        else lost
        if answer.hints.document is None and not answer.hits
        else _asked(answer.documents, lost)
    )
    most = len(shown) if everything else _SHOWN
    only_root = answer.roots[0] if len(answer.roots) == 1 else None
    meant = {d.number for d in _meant(answer, shown)}
    inner = [d for d in shown if d.within is not None and not everything and d.number not in meant]
    shown = [d for d in shown if d.within is None or everything or d.number in meant]
    full = most if everything or len(shown) <= _FULL + 1 else _FULL
    asked = _meant(answer, shown)
    if asked and not everything:
        full = len(asked)
    for place, found in enumerate(shown[:most]):
        if place <= full:
            console.print()
        try:
            document = schema.document(found, this_run().clock)
            if place < full:
                document_block(console, document, only_root)
            else:
                short_block(console, document)
        except (ValueError, LookupError, TypeError, ArithmeticError) as error:
            name = show_name(f"{found.number}  {found.name}")
            console.print(
                Text(f"{name}: it could not be shown ({type(error).__name__}): see it with --json", style=WARN)
            )
    more = len(shown) - most
    if not shown or more > 0 or inner or ((calm_ones or answer.unmatched) and not everything):
        console.print()
    barred = [each for disk in answer.disks for each in disk.volumes if hides_files(each.status, each.type)]
    barred_all = not shown and bool(barred) and not answer.totals.files
    if barred_all:
        said = "Nothing could be searched: what to do is said beside each volume above."
        console.print(Text(said, style=f"bold {RUST}"))
    elif not shown:
        where = " in what could be read" if unread or denied or barred else ""
        # Against the person's word it is never said that nothing was lost.
        asked_for = answer.hints.happened is not None or answer.hints.document is not None
        what = "Nothing was found of it" if asked_for else "No lost document was found"
        bare = len({hit.path for hit in answer.hits if not hit.number})
        but = f", but the words stand in {counted(bare, 'file')} that a program left (below)" if bare else ""
        console.print(Text(f"{what}{where}{but}.", style="bold"))
        _looked_at(console, answer)
    if more > 0:
        console.print(Text(f"{counted(more, 'more lost document')}: see them with --everything", style=PALE))
    if inner:
        console.print(
            Text(f"{counted(len(inner), 'file')} deleted with a folder can be had alone (--everything)", style=PALE)
        )
    if calm_ones and not everything:
        unsure = sum(any(not each.is_certain for each in d.verdict.warnings) for d in calm_ones)
        line = Text(f"{counted(len(calm_ones), 'document')} with leftovers lost nothing", style=PALE)
        if unsure:
            of = "" if len(calm_ones) == 1 else f"of {unsure} of them "
            line.append(f", but {of}that is not certain", style=WARN)
        console.print(line.append(f" (--everything shows {'it' if len(calm_ones) == 1 else 'them'})"))
    if answer.unmatched and not everything:
        count = len(answer.unmatched)
        console.print(
            Text(
                f"{count} {'leftover belongs' if count == 1 else 'leftovers belong'} to no document that could be shown (--everything)",
                style=PALE,
            )
        )
    if everything and answer.unmatched:
        heading(console, "Leftovers of no document")
        for item in answer.unmatched:
            match item:
                case Copy():
                    what, path = f"{item.kind}, {item.content.state}", plain_path(item.path)
                case Record():
                    what, path = item.type, plain_path(item.path)
                case Lock():
                    what, path = "lock", plain_path(item.entry.path)
            bullet(console, f"{what}: {short_path(path, console.width - 30)}")
    if answer.hits:
        _hits(console, answer)
    _not_searched(console, answer)
    for each in answer.notices:
        if not (each.is_alarm or each.is_unmet):
            bullet(console, f"! {notice(each)}", indent=0)
    if next_command and not barred_all:
        _next(console, answer, asked or shown, typed)


def _hits(console: Console, answer: Answer) -> None:
    """Where the words stand, the likeliest first, with the sentence around."""
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, heading
    from rustfern.core.paths import show_name

    words = answer.hints.words or ""
    heading(console, f"Where “{show_name(words)}” stands")
    names = {document.number: document.name for document in answer.documents}
    for hit in answer.hits[:_HITS]:
        line = Text("   ")
        line.append(f"{hit.ident or 'no document':<6}", style="bold")
        line.append(f" {show_name(names.get(hit.number, hit.path))}")
        console.print(line, soft_wrap=True)
        sentence = Text(f"          {show_name(hit.sentence)}", style=PALE)
        sentence.highlight_words(words.split(), style=f"bold {FERN}", case_sensitive=False)
        console.print(sentence)
    if len(answer.hits) > _HITS:
        console.print(Text(f"   … and in {len(answer.hits) - _HITS} more copies", style=PALE))


def capital(text: str) -> str:
    """A sentence with a capital letter; its end is the caller's."""
    return text[:1].upper() + text[1:]


def _unread_homes(answer: Answer) -> list[Home]:
    """The homes that could not be read at all."""
    denied = {problem.path for problem in answer.problems} | {s.path for s in answer.searched if s.status == "denied"}
    return [home for home in answer.homes if home.path in denied]


def _looked_at(console: Console, answer: Answer) -> None:
    """What "nothing" rests on: what was looked at, and what was not."""
    from rustfern.cli.screen.console import PALE, bullet

    totals = answer.totals
    there = len({searched.path for searched in answer.searched if searched.status == "found"})
    files, folders = counted(totals.files, "name"), counted(totals.directories, "folder")
    seen = f"Looked at {files} in {folders}, and into {counted(there, 'place')} where programs leave copies."
    opened = answer.hints.happened is Situation.WONT_OPEN
    rest = ["whether saved files open (--happened wont-open)"] * (not opened)
    rest += ["files whose names say nothing (--thorough)"] * (not answer.thorough)
    rest += _not_read(answer)
    bullet(console, seen, PALE, indent=0)
    if rest:
        bullet(console, f"Not looked at: {', '.join(rest)}.", PALE, indent=0)


def _not_read(answer: Answer) -> list[str]:
    """What of the disk was not looked at."""
    if _is_searched_raw(answer):
        return []
    if answer.disks:
        return ["the space of the disk that no file claims (--raw)"]
    return ["deleted records and the free space of the disk"]


def _is_searched_raw(answer: Answer) -> bool:
    """Whether the bytes were searched that no file claims."""
    return any(volume.searched_raw for disk in answer.disks for volume in disk.volumes)


def _meant(answer: Answer, shown: list[Document]) -> list[Document]:
    """The documents at the top that are what was asked for by name."""
    from rustfern.selection.ranking import fits

    asked = answer.hints.document
    if asked is None or any(each.kind is About.NO_SUCH_DOCUMENT for each in answer.notices):
        return []
    return list(takewhile(lambda d: fits(asked, d.name, d.original), shown))


def _asked(documents: Sequence[Document], lost: list[Document]) -> list[Document]:
    """With a document asked for, the one that ranks first is shown even if it lost nothing."""
    lost_ones = {d.number for d in lost}
    return [d for place, d in enumerate(documents) if place == 0 or d.number in lost_ones]


def _not_searched(console: Console, answer: Answer) -> None:
    from rustfern.cli.screen.console import bullet, heading, short_path

    homes = {home.path for home in answer.homes}
    denied = [s.path for s in answer.searched if s.status == "denied"]
    rest = [p for p in answer.problems if p.path not in denied]
    others = {path for path in [*denied, *(p.path for p in rest)] if of_others(answer, path)}
    denied = [path for path in denied if path not in others]
    rest = [p for p in rest if p.path not in others]
    if not denied and not rest and not others:
        return
    heading(console, "Not searched or not readable, and why")
    if others:
        where = " and ".join(root for root in answer.roots if any(inside(path, root) for path in others))
        bullet(console, f"{len(others)} things of other people or of the system in {where}, as is usual")
    for path in dict.fromkeys(denied):
        if path in homes:
            bullet(
                console, f"a person's home, denied, nothing in it was searched: {short_path(path, console.width - 20)}"
            )
        else:
            bullet(console, f"folder of copies, denied: {short_path(path, console.width - 36)}")
    for problem in rest[:8]:
        kind = "home" if problem.path in homes else ""
        bullet(console, f"{kind} {short_path(problem.path, console.width - 20)}: {problem.message}".strip())
    if len(rest) > 8:
        bullet(console, f"… and {len(rest) - 8} more (--json lists all)")


def _next(console: Console, answer: Answer, shown: list[Document], typed: Sequence[str]) -> None:
    from rich.text import Text

    from rustfern.cli.screen.console import RUST, next_steps, shell_word

    if any(notice.kind is About.DISK_FAILING for notice in answer.notices):
        console.print()
        console.print(
            Text(
                f"! Stop here: {ADVICE}. Each further read can take what is still there.",
                style=f"bold {RUST}",
            )
        )
    found = [d for d in shown if d.best_id and d.is_lost and not d.shows_no_loss]
    where = " ".join(shell_word(root) for root in typed)
    if not found:
        steps = [(f"scan {where} --everything".replace("  ", " "), "all that was found, also what lost nothing")]
        if answer.hints.happened is None:
            steps.insert(0, (f"scan {where} --happened overwritten".replace("  ", " "), "if a file was saved over"))
        if answer.disks and not _is_searched_raw(answer):
            steps.insert(0, (f"scan {where} --raw".replace("  ", " "), "search every byte that no file claims (slow)"))
    elif answer.case is None:
        name = shell_word(found[0].name)
        steps = [(f"restore {name} --in {where or '~'} --to DIR", "restore the best copy into a folder elsewhere")]
    else:
        every = len(found) > _FULL and len(found) == sum(d.best_id is not None and d.is_lost for d in shown)
        numbers = "all" if every else " ".join(str(d.number) for d in found[:6])
        steps = [
            (f"look {found[0].best_id}", "see why, and its first lines, before anything is written"),
            (f"restore {numbers} --to DIR", "write the best copies, verified, into a folder elsewhere"),
        ]
        if _is_searched_raw(answer) and len(found) > _FULL:
            steps.insert(1, ("look --choose all.html", "a page with pictures and first lines, to tick what is wanted"))
    locked = next(
        (
            ident
            for d in shown
            if not d.best_id
            for ident, copy in zip(d.ids, d.copies, strict=True)
            if copy.content.state is State.ENCRYPTED and copy.kind is not Kind.SAVED
        ),
        None,
    )
    if locked and answer.case:
        steps.insert(
            0 if not found else len(steps),
            (f"restore {locked} --to DIR", "write the protected copy, for its owner to open"),
        )
    if (bare := next((hit for hit in answer.hits if not hit.number), None)) is not None:
        told = f"look {shell_word(bare.path)} --words {shell_word(answer.hints.words or '')}"
        steps.insert(0, (told, "what stands around the words there"))
    next_steps(console, steps)
