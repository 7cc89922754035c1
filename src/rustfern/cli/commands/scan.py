"""`rustfern scan`: search, choose, say."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

import click
import msgspec

from rustfern.cases.case_file import CaseFile
from rustfern.cli import print_message
from rustfern.cli.context import this_run
from rustfern.cli.many import Called, ManyCommand
from rustfern.cli.options import case_option, hint_options, json_option, paths_option, print_json
from rustfern.cli.screen.progress import run_scan
from rustfern.cli.time_types import SPAN
from rustfern.core.answers import DocumentAnswer
from rustfern.core.errors import CaseError, WrongUsage
from rustfern.core.model import Answer, Hints
from rustfern.operations import schema
from rustfern.operations.scan import exit_status


def _documents(answer: Answer) -> Iterator[DocumentAnswer | msgspec.Raw]:
    """The documents as they are answered: from the case, which was told of them just now, else anew."""
    case = None
    if answer.case is not None:
        with suppress(CaseError):
            case = CaseFile.open(answer.case)
    try:
        for each in answer.documents:
            kept = case.kept(each.number, each.ids) if case is not None else None
            yield msgspec.Raw(kept.encode()) if kept is not None else schema.document(each, this_run().clock)
    finally:
        if case is not None:
            case.close()


def _words(one: Called) -> list[str]:
    """The call for one of many roots."""
    return [*one.options, "--case", one.case, one.root]


@click.command(cls=ManyCommand, words=_words)
@click.argument("roots", nargs=-1, metavar="[ROOT]...")
@hint_options
@case_option
@click.option("--everything", is_flag=True, help="Also show documents that lost nothing, and leftovers of no document.")
@click.option("--gentle", is_flag=True, help="For a disk that may be dying: one reader, each byte once at most.")
@click.option(
    "--thorough",
    is_flag=True,
    help="Also look at the first bytes of files whose names say nothing; with --raw, for documents without a beginning (slower).",
)
@click.option(
    "--raw", is_flag=True, help="Also search every byte of a disk that no living file claims (hours on a large one)."
)
@click.option(
    "--raw-all", is_flag=True, help="The same, with volumes that are encrypted or of a kind that is not read."
)
@click.option(
    "--budget",
    type=SPAN,
    metavar="TIME",
    help='Stop the search of bytes after this long ("20m", "2h"); run again to go on.',
)
@paths_option
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    roots: tuple[str, ...],
    hints: Hints,
    case: str | None,
    everything: bool,
    gentle: bool,
    thorough: bool,
    raw: bool,
    raw_all: bool,
    budget: float | None,
    as_json: bool,
) -> int:
    """Search someone's files for lost documents and choose the best copy of each.

    ROOT is a home, a folder of homes, an attached disk, a copy or an archive of one (.zip, .7z, .tar, .tar.gz, .xz, .bz2, .zst; a folder
    in one too), or a disk itself: a device, or an image (raw, split, VHD, VHDX, VMDK, QCOW2; a volume or folder in it too), where
    deleted files are found by their records. Without any, your own files on this machine. Nothing that is searched is ever changed.

    \b
    Examples (on the disk that `rustfern demo` lays out):
      rustfern scan marlow-quay-disk
      rustfern scan marlow-quay-disk --person ines --document "hull survey"
      rustfern scan marlow-quay-disk --document "price list" --happened overwritten
      rustfern scan marlow-quay-disk --thorough
      rustfern scan marlow-quay-stick.img
      rustfern scan marlow-quay-card.img --raw
      rustfern scan marlow-quay-disk --json > answer.json
      rustfern scan --list marlow-quay-disk --out office

    Exit status: 0 something lost was found, 1 nothing was, 2 wrong usage, 3 a home or a folder of copies could not be read.
    """
    if budget is not None and not (raw or raw_all):
        raise WrongUsage("--budget is for the search of bytes", None, "Add --raw, or leave it out")
    options = None
    if raw or raw_all:
        # Only what is searched byte by byte needs it, and it takes long to load.
        from rustfern.operations.raw_search import RawOptions

        options = RawOptions(raw_all, budget, thorough)
    reading = this_run().session.sources.gentle
    if gentle:
        reading.begin()
    try:
        answer = run_scan(roots, hints, case, quiet=as_json, thorough=thorough, partial=True, raw=options)
    finally:
        reading.end()
    if as_json:
        print_json(schema.answer(answer, this_run().clock, with_documents=False), {"documents": _documents(answer)})
    else:
        from rustfern.cli.screen.console import paged
        from rustfern.cli.screen.scan_answer import show

        with paged() as console:
            show(console, answer, roots, everything=everything, clock_error=hints.clock_error)
    if answer.stopped:
        print_message("interrupted; what was found so far is in the case")
    return exit_status(answer)
