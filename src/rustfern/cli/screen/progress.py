"""How work goes on, for whoever watches."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from rustfern.cli.context import this_run
from rustfern.core.errors import CaseError
from rustfern.core.observer import Observer, Silent
from rustfern.operations.scan import scan

if TYPE_CHECKING:
    from rustfern.cases.case_file import CaseFile
    from rustfern.core.model import Answer, Hints
    from rustfern.operations.raw_search import RawOptions


class Progress:
    """Progress on stderr, only when that is a terminal; first answers as soon as they are there."""

    def __init__(self, unit: str = "files") -> None:
        self._unit = unit
        from rustfern.cli.screen.console import PALE, aside

        self._console, self._pale = aside(), PALE
        self._status = self._console.status("")
        self._stage = ""

    def __enter__(self) -> Progress:
        self._status.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._status.stop()

    def stage(self, text: str) -> None:
        self._stage = text
        self._status.update(f"{text} …")

    def count(self, files: int) -> None:
        self._status.update(f"{self._stage} … {files:,} {self._unit}")

    def so_far(self, lines: Sequence[str]) -> None:
        for line in lines:
            self._console.print(f"so far: {line}", style=self._pale, soft_wrap=True)

    def going(self, text: str) -> None:
        self._status.update(f"{self._stage} … {text}")


@contextmanager
def watching(unit: str) -> Iterator[Observer]:
    """Progress of some work, where somebody watches."""
    if sys.stderr.isatty():
        with Progress(unit) as progress:
            yield progress
    else:
        yield Silent()


def run_scan(
    roots: Sequence[str],
    hints: Hints,
    case: str | CaseFile | None,
    *,
    quiet: bool,
    thorough: bool = False,
    partial: bool = False,
    raw: RawOptions | None = None,
) -> Answer:
    """Scan with progress where somebody watches."""
    run = this_run()
    if quiet or not sys.stderr.isatty():
        silent = run.watched(Silent())
        answer = scan(
            roots or None, hints, case, silent, session=run.session, thorough=thorough, partial=partial, raw=raw
        )
    else:
        with Progress() as progress:
            watched = run.watched(progress)
            answer = scan(
                roots or None, hints, case, watched, session=run.session, thorough=thorough, partial=partial, raw=raw
            )
    if answer.case is not None and (technician := run.configuration.technician):
        from rustfern.cases import manage

        with suppress(CaseError):
            if not manage.row_of(answer.case).technician:
                manage.annotate(answer.case, None, technician=technician)
    run.works_in(answer.case)
    return answer
