"""What one call of the command line carries with it, kept in the context of the command that runs."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from rustfern.cli.configuration import Configuration
    from rustfern.cli.work_log import WorkLog
    from rustfern.core.observer import Observer
    from rustfern.core.times import Clock
    from rustfern.operations.session import Session


class Run:
    """One call: the case files that it worked in, and whether paths are shown in full (`--full-paths`)."""

    def __init__(self) -> None:
        self.cases: list[str] = []
        self.full_paths = False
        self.log: WorkLog | None = None

    @cached_property
    def session(self) -> Session:
        """The session that it works in."""
        from rustfern.operations.session import Session

        return Session()

    @cached_property
    def configuration(self) -> Configuration:
        """The technician's own defaults. Raises `WrongUsage`."""
        from rustfern.cli.configuration import configuration

        return configuration()

    def watched(self, observer: Observer) -> Observer:
        """An observer that tells the log too, where one is kept."""
        if self.log is None:
            return observer
        from rustfern.cli.work_log import Logged

        return Logged(observer, self.log)

    @property
    def clock(self) -> Clock:
        """The clock by which it tells times."""
        return self.session.clock

    def works_in(self, case: str | None) -> None:
        """Have what this command does noted in a case's log."""
        if case is not None and case not in self.cases:
            self.cases.append(case)


def this_run() -> Run:
    """That of the command that runs; a fresh one where none does."""
    context = click.get_current_context(silent=True)
    return (context.find_object(Run) if context else None) or Run()
