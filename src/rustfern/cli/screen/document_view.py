"""The document block: the same in `scan`, `look`, `restore` and `demo`. Drawn from the contract's JSON fields."""

from __future__ import annotations

import os

from rich.console import Console
from rich.text import Text

from rustfern.cli.screen.console import (
    FERN,
    PALE,
    RUST,
    SLATE,
    WARN,
    bullet,
    day_of,
    moment,
    moment_said,
    short_path,
    size,
)
from rustfern.core.answers import CopyAnswer, DocumentAnswer
from rustfern.core.paths import show_name
from rustfern.core.remarks import counted
from rustfern.matching.evidence.weights import in_words
from rustfern.operations.titles import is_nameless

HAPPENED = {
    "crashed": "ended without saving",
    "never-saved": "never saved",
    "overwritten": "saved over",
    "deleted": "deleted",
    "wont-open": "does not open",
    "misplaced": "saved elsewhere",
    "diverged": "went two ways",
    "nothing-lost": "nothing lost",
}
_MAX_TITLE = 60
_ROOMY = 88
"""From this width on, how sure a match is stands on the copy's own line."""
_DAYS = 110
"""From this width on, the day as people call it stands beside the exact time."""
_WIDE = 100
"""Beyond this width, what happened no longer moves away from the name."""
_STATES = {"intact": FERN, "damaged": RUST, "empty": WARN, "encrypted": WARN, "unreadable": WARN}


_WORK = ("autosave", "swap", "temporary")
"""Kinds of copies that hold work that was not saved."""


_MAX_OTHERS = 3
"""Further people who are named with their locks."""


def _on(host: str | None) -> str:
    return f" on {show_name(host)}" if host else ""


def what_happened(document: DocumentAnswer) -> str:
    """One sentence: what happened, by which lock or record, and when."""
    locks = [lock for lock in document.locks if not lock.deleted]
    if locks:
        lock = locks[0]
        who = f"{show_name(lock.owner)} had it open" if lock.owner else "It was open"
        where = _on(lock.host)
        live = ", and it still is open" if lock.live else ""
        others = dict.fromkeys(f"{show_name(other.owner)}{_on(other.host)}" for other in locks[1:] if other.owner)
        too = [other for other in others if other != f"{show_name(lock.owner or '')}{where}"]
        also = f"; so had {' and '.join(too[:_MAX_OTHERS])}" if too else ""
        return f"{who}{where} since {moment_said(lock.opened)} (lock){live}{also}."
    if (sides := _sides(document)) is not None:
        return sides
    records = document.records
    if records:
        says = str(records[-1].says)
        return says[:1].upper() + says[1:] + "."
    if document.situation == "never-saved" and all(copy.kind == "temporary" for copy in document.copies):
        return "A working copy; which document it is of could not be shown."
    if document.situation == "never-saved":
        return "It was never saved under a name; a draft was kept."
    if document.situation == "deleted" and all(copy.kind == "raw" for copy in document.copies):
        return "No record of it is left: it was found by what it holds."
    if document.situation == "deleted":
        return "Its original is not there any more."
    if document.shows_no_loss:
        return "Nothing that was found shows this loss; it stands on the person's word."
    if document.situation == "wont-open":
        saved = next((copy for copy in document.copies if copy.kind == "saved"), None)
        return (
            "The saved file could not be read."
            if saved and saved.state == "unreadable"
            else "The saved file is whole, but its name says another format."
            if saved and saved.state == "intact"
            else "The saved file is damaged."
        )
    if document.situation == "diverged" and not any(copy.kind in _WORK for copy in document.copies):
        return "It was changed in two places: a sync service kept both versions."
    if document.situation == "diverged":
        return "Work went on in the saved file after an autosave that it never took over."
    if document.situation == "overwritten":
        return "The saved file holds other content than its earlier version."
    return ""


def _sides(document: DocumentAnswer) -> str | None:
    """Which side has the newer version of a file that is here and with a service; None where both have the same, or a time is missing."""
    here = next((copy for copy in document.copies if copy.kind == "saved"), None)
    with_service = (copy for copy in document.copies if copy.place == "service-copy")
    there = next((copy for copy in with_service if "/@" not in copy.path), None)
    if (
        here is None
        or there is None
        or there.same_as == here.id
        or here.sha256 in (None, there.sha256)
        or there.sha256 is None
    ):
        return None
    if here.written is None or there.written is None or here.written == there.written:
        return None
    return f"The service has the version of {moment_said(there.written)}, this machine that of {moment_said(here.written)}."


def _difference(copy: CopyAnswer) -> str:
    if copy.same_as:
        return f"same as {copy.same_as}"
    found = copy.differs_from_saved
    if copy.kind != "saved" and found and copy.state in ("intact", "damaged"):
        if not found.more and not found.fewer:
            return "same words"
        more, fewer = found.more, found.fewer
        return (
            f"+{more} −{counted(fewer, 'word')}"
            if more and fewer
            else f"+{counted(more, 'word')}"
            if more
            else f"−{counted(fewer, 'word')}"
        )
    if copy.words is not None:
        return counted(copy.words, "word")
    if copy.members:
        return counted(len(copy.members), "file")
    return ""


def brings_back(document: DocumentAnswer, copy: CopyAnswer) -> bool:
    """Whether a copy gives back something that the person does not have: the saved file does so only under its right name."""
    return (copy.kind != "saved" and not document.shows_no_loss) or copy.extension_right is False


def copy_line(copy: CopyAnswer, best: bool, width: int, *, brings: bool = True) -> Text:
    """One copy on one line; the best one carries a mark that colour only strengthens, unless it brings nothing back (`brings`)."""
    line = Text("  ")
    line.append("▶ " if best else "  ", style=f"bold {FERN}" if brings else "bold")
    strong = "bold" if best else ""
    line.append(f"{copy.id:<4}", style=f"bold {SLATE}" if best else SLATE)
    line.append(f"{copy.kind:<10}", style=strong)
    line.append(f"{moment(copy.written):<17}", style=strong)
    if width >= _DAYS:
        line.append(f"{day_of(copy.written):<9}", style=PALE)
    line.append(f"{size(copy.size):>7}  ", style=strong)
    line.append(f"{copy.state:<11}", style=f"{strong} {_STATES[copy.state]}")
    line.append(f"{_difference(copy):<16}", style=strong)
    if best and not brings:
        line.append("newest whole", style="bold")
    elif best:
        line.append(" BEST ", style=f"reverse bold {FERN}")
        if width >= _ROOMY:
            line.append(f" {in_words(copy.confidence)}", style=f"bold {FERN}")
    elif copy.kind != "saved" and width >= _ROOMY:
        line.append(in_words(copy.confidence), style=PALE)
    if copy.deleted and copy.kind not in ("deleted", "trash") and width >= _ROOMY:
        line.append(", deleted", style=PALE)
    return line


def strongest(copy: CopyAnswer) -> str:
    """The strongest reason why a copy belongs to its document."""
    pieces = sorted(copy.evidence, key=lambda piece: -piece.weight)
    return pieces[0].text if pieces else ""


def title_line(console: Console, document: DocumentAnswer) -> None:
    """Number, name, and at the right edge what happened."""
    tag = HAPPENED[document.situation]
    if _sides(document) is not None:
        tag = "two versions"
    elif document.situation == "deleted" and any(record.type == "placeholder" for record in document.records):
        tag = "online only"
    elif document.situation == "deleted" and (gone := _deleted_at(document)):
        tag = f"{tag} {moment(gone)}"
    left = Text()
    left.append(f"{document.id:>2} ", style=f"bold {SLATE}")
    left.append(f" {show_name(document.name)}", style="bold")
    if (document.situation == "never-saved" or is_nameless(document.name)) and (title := _title(document)):
        left.append(f"  “{show_name(title)}”", style="bold")
    label = f" {tag.upper()} "
    room = min(console.width, _WIDE) - left.cell_len - len(label) - 1
    left.append(" " * max(room, 2))
    left.append(label, style=f"bold {WARN}" if document.is_lost else PALE)
    console.print(left, soft_wrap=True)


def _deleted_at(document: DocumentAnswer) -> str | None:
    """When a document was deleted, by the latest of its trash records."""
    return max(
        (record.when for record in document.records if record.when and record.type.startswith("trash")), default=None
    )


def _title(document: DocumentAnswer) -> str:
    """The title that a never-saved document carries inside, where it says more than its name."""
    best = next((copy for copy in document.copies if copy.id == document.best), None)
    title = (best.title or "").strip() if best else ""
    return "" if title.casefold() in document.name.casefold() else title[:_MAX_TITLE]


def short_block(console: Console, document: DocumentAnswer) -> None:
    """A document in two lines: its name, and its best copy."""
    title_line(console, document)
    best = next((copy for copy in document.copies if copy.id == document.best), None)
    if best is not None:
        console.print(copy_line(best, True, console.width, brings=brings_back(document, best)), soft_wrap=True)
        for warning in document.warnings[:1]:
            bullet(console, f"! {warning}", WARN, indent=8)
    else:
        there = ", ".join(f"{copy.id} {copy.kind} {copy.state}{_left(copy)}" for copy in document.copies[:3])
        text = f"no whole copy of it was found ({there or 'only traces'})"
        console.print(Text(f"    {text}", style=f"bold {RUST}"), soft_wrap=True)


def _left(copy: CopyAnswer) -> str:
    """How much of a deleted copy no later file took, where some did."""
    return "" if copy.remaining in (None, 1.0) else f", {copy.remaining:.0%} of it is left"


def document_block(console: Console, document: DocumentAnswer, root: str | None) -> None:
    """Name and situation, what happened, each copy with the best one marked, warnings."""
    title_line(console, document)
    sentence = what_happened(document)
    if sentence:
        bullet(console, sentence, indent=4)
    place = document.original or document.original_recorded
    if place:
        folder = os.path.dirname(place)
        if root and folder.startswith(root):
            folder = folder[len(root) :].lstrip("/") or "the top folder"
        gone = "" if document.original_exists else "it was in " if document.original else "not in what is searched: "
        console.print(Text(f"    {gone}{short_path(folder, console.width - 20)}", style=PALE), soft_wrap=True)
    for copy in document.copies:
        best = copy.id == document.best
        brings = brings_back(document, copy)
        console.print(copy_line(copy, best, console.width, brings=brings), soft_wrap=True)
        if best and copy.kind != "saved":
            sure = "" if console.width >= _ROOMY else f"{in_words(copy.confidence)}: "
            bullet(console, sure + strongest(copy), PALE, indent=8)
        elif copy.state in ("damaged", "unreadable"):
            bullet(console, copy.reason, PALE, indent=8)
        elif copy.extension_right is False and copy.kind != "saved":
            bullet(console, f"its content is {copy.format}, whatever its name says", PALE, indent=8)
    if document.best is None:
        console.print(Text("    no whole copy of it was found", style=f"bold {RUST}"))
        for reason in document.why:
            if reason != "no copy is whole":  # that was said just now
                bullet(console, reason, indent=4)
    for warning in document.warnings:
        bullet(console, f"! {warning}", WARN, indent=4)
