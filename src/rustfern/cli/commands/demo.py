"""`rustfern demo`: a customer's disk, a scan of it, a restore from it, and what to try next."""

from __future__ import annotations

import os
import sys

import click

from rustfern.cases.lookup import find_copy
from rustfern.cli.commands import restore as restoring_command
from rustfern.cli.context import this_run
from rustfern.cli.screen import scan_answer
from rustfern.cli.screen.console import SLATE, next_steps, out, own_name, shell_word
from rustfern.cli.screen.progress import run_scan
from rustfern.core.errors import WrongUsage, explain
from rustfern.core.model import Hints
from rustfern.demo.disk import lay_out, lay_out_card, lay_out_damaged, lay_out_stick
from rustfern.demo.service import PASSWORD, PORT, Service, lay_out_synced
from rustfern.operations.restore import restore
from rustfern.operations.session import open_case
from rustfern.output.inside import real_path
from rustfern.selection.wording import notice

DISK = "marlow-quay-disk"
_SYNCED = "marlow-quay-synced"
_RESTORED = "marlow-quay-restored"


@click.command()
@click.option(
    "--to", "target", default=DISK, show_default=True, metavar="DIR", help="Folder for the demo disk; made if missing."
)
@click.option(
    "--service", is_flag=True, help="Start the boatyard's simulated sync service on this machine, until Ctrl+C."
)
@click.option("--port", type=click.IntRange(0, 65_535), default=PORT, show_default=True, help="Where that listens.")
def command(target: str, service: bool, port: int) -> int:
    """Lay out a demo customer's disk, scan it, and restore the first lost document from it.

    The disk is that of Marlow Quay Boatyard, a made-up yard that repairs wooden boats: three machines, five homes, Windows and
    Linux, and lost documents of every common kind. It is the same each time.

    \b
    Examples:
      rustfern demo
      rustfern demo --to /tmp/demo-disk
      rustfern demo --service
      rustfern scan marlow-quay-stick.img
      rustfern scan marlow-quay-card.img --raw
      rustfern repair marlow-quay-damaged --to marlow-quay-repaired
    """
    from rich.text import Text

    if service:
        return _serve(port, os.path.join(os.path.dirname(real_path(target)), _SYNCED))
    console = out()
    files = lay_out(target)
    disk = real_path(target)
    aside = os.path.join(os.path.dirname(disk), _RESTORED)
    stick = os.path.relpath(lay_out_stick(target))
    card = os.path.relpath(lay_out_card(target))
    damaged = os.path.relpath(lay_out_damaged(target))
    console.print(Text(f"Laid out the demo disk: {files} files in {target}"), soft_wrap=True)
    console.print(Text(f"and the image of a stick, with deleted documents: {stick}"), soft_wrap=True)
    console.print(Text(f"and that of a card, formatted by mistake: {card}"), soft_wrap=True)
    console.print(Text(f"and documents that nobody can open: {damaged}"), soft_wrap=True)
    _say(console, f"scan {shell_word(target)}")
    file, notices = open_case(None, [disk])
    try:
        answer = run_scan([disk], Hints(), file, quiet=False)
        scan_answer.show(console, answer, [target], everything=False, next_command=False)
        first = next((document for document in answer.documents if document.verdict.best is not None), None)
        if first is not None:
            _say(console, f"restore {first.number} --to {shell_word(os.path.relpath(aside))}")
            done, refused = restore(
                [find_copy(file, str(first.number))], aside, file, [disk], session=this_run().session
            )
            restoring_command.show(console, done, refused, next_command=False)
    finally:
        file.close()
    for each in notices:
        console.print(Text(f"! {notice(each)}"))
    steps = [
        ("look 2", "the life of document 2, and why its best copy is the best"),
        (f"restore 2 3 --to {shell_word(os.path.relpath(aside))}", "restore more"),
        (
            f'scan {shell_word(target)} --person petra --document "price list" --happened overwritten',
            "with what the person says",
        ),
        (f"scan {shell_word(stick)}", "a stick, with what was deleted on it"),
        (f"scan {shell_word(card)} --raw", "a card that was formatted: every byte of it"),
        (f"repair {shell_word(damaged)} --to marlow-quay-repaired", "documents that nobody can open"),
        (
            f"restore mooring-dues --in {shell_word(target)} --to {shell_word(os.path.relpath(aside))}",
            "all in one go",
        ),
    ]
    next_steps(console, steps)
    return 0


def _say(console: object, text: str) -> None:
    from rich.console import Console
    from rich.text import Text

    assert isinstance(console, Console)
    console.print()
    console.print(Text(f"$ {own_name()} {text}", style=f"bold {SLATE}"), soft_wrap=True)
    console.print()


def _serve(port: int, synced: str) -> int:
    """Run the simulated sync service until it is interrupted; a folder that is synced with it is laid out in `synced`."""
    from rich.text import Text

    console = out()
    try:
        service = Service(port)
    except OSError as error:
        raise WrongUsage(
            f"the service cannot listen there ({explain(error)})", None, "Choose another with --port N"
        ) from error
    with service:
        console.print(
            Text(f"The boatyard's simulated sync service, on this machine alone. Its password is {PASSWORD}."),
            soft_wrap=True,
        )
        here = shell_word(os.path.relpath(lay_out_synced(synced)))
        steps = [
            (f"scan {service.address}", "in another terminal: what the service keeps; Ctrl+C here ends it"),
            (f"scan {here} {service.address}", "a folder that is synced with it, and the service, as one answer"),
        ]
        next_steps(console, steps)
        sys.stdout.flush()
        try:
            service.serve_forever()
        except KeyboardInterrupt:
            return 0
    return 0
