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


def ask_password(user: str, host: str) -> str | None:
    """The password for another machine: from the environment, the system's own keyring where its library is there, or asked for."""
    import sys

    from rustfern.sources.registry import ask_nobody

    told = ask_nobody(user, host)
    if told is None:
        try:
            import keyring

            told = keyring.get_password(host, user)
        except Exception:  # whatever a keyring of this system raises: it has none for us
            told = None
    if told is None and sys.stdin.isatty():
        told = click.prompt(f"Password of {user or 'the account'} on {host}", hide_input=True, err=True)
    return told


def ask_whether(question: str) -> bool:
    """A question that is answered in the terminal; no where there is none."""
    import sys

    return sys.stdin.isatty() and click.confirm(question, default=False, err=True)


class Run:
    """One call: the case files that it worked in, and whether paths are shown in full (`--full-paths`)."""

    def __init__(self) -> None:
        self.cases: list[str] = []
        self.full_paths = False
        self.log: WorkLog | None = None

    @cached_property
    def session(self) -> Session:
        """The session that it works in."""
        from rustfern.cli.configuration import configuration
        from rustfern.operations.session import Session

        session = Session()
        session.sources.ask = ask_password
        session.sources.confirm = ask_whether
        session.sources.pace.limit = configuration().network_limit * 1000
        return session

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
