"""`rustfern keep`: take short-lived copies to safety before anything else."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING

import click

from rustfern.cli.context import this_run
from rustfern.cli.many import Called, ManyCommand
from rustfern.cli.options import json_option, print_json, warn_same_disk
from rustfern.core.observer import Silent
from rustfern.operations import command_schema
from rustfern.operations.keep import keep
from rustfern.operations.keeper import Keeping
from rustfern.selection.wording import notice
from rustfern.sources.kept_folder import EARLIER

if TYPE_CHECKING:
    from rich.console import Console

    from rustfern.operations.copy_disk import DiskCopy

_SHOWN = 5
_NAMES = {
    "saved": ("saved original", "saved originals"), "temporary": ("temporary copy", "temporary copies"), "swap": ("swap file", "swap files"),
    "trash": ("from the trash", "from the trash"), "version": ("older version", "older versions"), "conflict": ("conflict copy", "conflict copies"), "deleted": ("deleted file", "deleted files"),
    "settings": ("settings file", "settings files"),
}  # fmt: skip
"""What one and several of a kind are called, where an s is not enough."""


def _words(one: Called) -> list[str]:
    """The call for one of many roots."""
    return [*one.options, "--to", one.files, one.root]


@click.command(cls=ManyCommand, words=_words)
@click.argument("roots", nargs=-1, metavar="[ROOT]...")
@click.option("--to", "target", required=True, metavar="DIR", help="A new folder, on another disk if you can.")
@click.option("--person", metavar="NAME", help="Only what belongs to this person.")
@click.option("--short-lived", is_flag=True, help="Leave trash, backups and older versions where they are.")
@json_option
def command(roots: tuple[str, ...], target: str, person: str | None, short_lived: bool, as_json: bool) -> int:
    """Take every short-lived copy to safety, before anything else: autosaves, temporary files, locks, the saved originals they
    belong to, the settings that are needed later. Bytes, names and times stay; the folder can be scanned like the original.

    \b
    Examples (on the disk that `rustfern demo` lays out):
      rustfern keep marlow-quay-disk --to kept
      rustfern keep marlow-quay-disk --person ines --short-lived --to kept-ines
      rustfern scan kept
      rustfern keep marlow-quay-stick.img --to images

    A disk (a device, or the image of one) is copied whole: what reads well first, then the rest in ever smaller pieces. What
    could not be read stands in a list beside the image.

    Run again with the same DIR, it goes on where it stopped. Exit status: 0 all was taken, 1 there was nothing to take,
    2 wrong usage, 3 something could not be read or written.
    """
    from rustfern.operations.live import live_roots

    session = this_run().session
    from rustfern.cli.screen.progress import Progress

    if any(session.sources.is_disk(root) for root in roots):
        return _image(roots, target, as_json=as_json)
    warn_same_disk(target, roots or live_roots(session.sources))

    if as_json or not sys.stderr.isatty():
        silent = this_run().watched(Silent())
        done = keep(roots or None, target, person, short_lived=short_lived, observer=silent, session=session)
    else:
        with Progress() as progress:
            done = keep(
                roots or None,
                target,
                person,
                short_lived=short_lived,
                observer=this_run().watched(progress),
                session=session,
            )
    if as_json:
        print_json(command_schema.kept(done))
    else:
        from rustfern.cli.screen.console import out

        _show(out(), done, target)
    if done.left or done.problems:
        return 3
    return 0 if done.taken or done.before else 1


def _image(roots: tuple[str, ...], target: str, *, as_json: bool) -> int:
    """Copy a disk, whole."""
    from rustfern.cli.screen.progress import Progress
    from rustfern.core.errors import WrongUsage
    from rustfern.operations.copy_disk import copy_disk

    if len(roots) > 1:
        raise WrongUsage("a disk is kept alone", roots[1], "Keep one disk at a time")
    session = this_run().session
    root = session.sources.real_path(os.path.abspath(roots[0]))
    if as_json or not sys.stderr.isatty():
        done = copy_disk(root, target, session, this_run().watched(Silent()))
    else:
        with Progress("MiB") as progress:
            done = copy_disk(root, target, session, this_run().watched(progress))
    if as_json:
        print_json(command_schema.image(done))
    else:
        from rustfern.cli.screen.console import out

        _show_image(out(), done, target)
    return 130 if done.stopped else 3 if done.unread else 0


def _show_image(console: Console, done: DiskCopy, target: str) -> None:
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, RUST, bullet, next_steps, shell_word, size

    missing = sum(length for _, length in done.unread)
    if done.stopped:
        said = (
            f"Stopped: {size(done.size - missing)} of {size(done.size)} are copied. The same command goes on from here."
        )
    elif missing:
        places = "1 place" if len(done.unread) == 1 else f"{len(done.unread)} places"
        said = f"Copied, but for {size(missing)} in {places} that could not be read."
    else:
        said = f"Copied: the whole disk, {size(done.size)}, every sector of it read."
    console.print(Text(said, style=f"bold {RUST if missing else FERN}"))
    bullet(console, f"in {done.image}")
    if missing:
        bullet(
            console, f"what is missing stands in {done.listing}: files that have a part of it will be called damaged"
        )
    if done.before:
        bullet(console, f"{size(done.before)} of it were copied by an earlier run", PALE)
    again = (
        [(f"keep {shell_word(done.source)} --to {shell_word(target)}", "go on where it stopped")]
        if done.stopped
        else []
    )
    next_steps(console, [*again, (f"scan {shell_word(done.image)}", "search the image, and leave the disk in peace")])


def _show(console: Console, done: Keeping, target: str) -> None:
    from rich.text import Text

    from rustfern.cli.screen.console import FERN, PALE, RUST, WARN, bullet, heading, next_steps, shell_word, size

    for warning in done.warnings:
        console.print(Text(f"! {notice(warning)}", style=f"bold {RUST}"))
    good = not done.left
    count = done.taken + done.before
    if not count and good:
        console.print(Text("Nothing short-lived was found, so nothing was kept.", style="bold"))
        return
    said = (
        f"Kept: {count} files, verified, {size(done.bytes)} written."
        if good
        else f"Kept {count} files, {len(done.left)} not."
    )
    console.print(Text(said, style=f"bold {FERN if good else RUST}"))
    bullet(console, f"in {done.folder}, with a manifest that has the SHA-256 of each")
    kinds = ", ".join(
        f"{number} {_NAMES.get(kind, (kind, kind + 's'))[number > 1]}"
        for kind, number in sorted(done.by_kind.items(), key=lambda item: -item[1])
    )
    if kinds:
        bullet(console, kinds)
    if done.before:
        bullet(console, f"{done.before} of them were there already, whole and unchanged", PALE)
    if done.earlier:
        who = (
            "1 file had changed since it was"
            if len(done.earlier) == 1
            else f"{len(done.earlier)} files had changed since they were"
        )
        said = f"{who} kept: both versions stay, the earlier below {os.path.join(done.folder, EARLIER)}"
        bullet(console, said, WARN)
    for path in done.changing[:_SHOWN]:
        bullet(console, f"still being written while it was read: {path}. Run this again in a minute", WARN)
    for path in done.left[:_SHOWN]:
        bullet(console, f"not taken: {path}", RUST)
    if done.problems:
        heading(console, "Could not be read or written")
        for problem in done.problems[:_SHOWN]:
            bullet(console, f"{problem.path}: {problem.message}")
        if len(done.problems) > _SHOWN:
            bullet(console, f"and {len(done.problems) - _SHOWN} more (--json lists all)", PALE)
    next_steps(console, [(f"scan {shell_word(target)}", "search what was kept, as often as you like")])
