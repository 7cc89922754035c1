"""What was done and how long it took, for a log file (`--log-file`) or the screen (`--verbose`): never what people wrote or what it is called."""

from __future__ import annotations

import logging
import shlex
import sys
import time
from collections.abc import Sequence

import click

from rustfern._version import __version__
from rustfern.core.errors import WrongUsage
from rustfern.core.observer import Observer

_HIDDEN = frozenset(
    {"--words", "--document", "--note", "--ticket", "--consent", "--as", "--sheet", "--person", "--technician"}
)
"""Options whose values are people's words and names."""


class WorkLog:
    """The log of one call."""

    def __init__(self, file: str | None, *, on_screen: bool) -> None:
        """Raises `WrongUsage` for a file that cannot be written to."""
        self._log = logging.Logger("rustfern", logging.INFO)
        self._stage, self._since, self._began = "", 0.0, time.monotonic()
        shape = logging.Formatter("%(asctime)s %(message)s", "%Y-%m-%dT%H:%M:%S%z")
        handlers: list[logging.Handler] = [logging.StreamHandler(sys.stderr)] if on_screen else []
        if file is not None:
            try:
                handlers.append(logging.FileHandler(file, encoding="utf-8", errors="backslashreplace"))
            except OSError as error:
                raise WrongUsage(
                    f"the log cannot be written ({error.strerror})", file, "Name another file with --log-file"
                ) from error
        for handler in handlers:
            handler.setFormatter(shape)
            self._log.addHandler(handler)
        self._log.info("rustfern %s: %s", __version__, shlex.join(without_words(sys.argv[1:])))

    def stage(self, text: str) -> None:
        """A stage begins; the one before it has ended."""
        now = time.monotonic()
        if self._stage:
            self._log.info("  %s: %.2f s", self._stage, now - self._since)
        self._stage, self._since = text, now

    def end(self, status: int) -> None:
        """The command ended."""
        self.stage("")
        self._log.info("ended with status %d after %.2f s", status, time.monotonic() - self._began)
        for handler in self._log.handlers:
            handler.close()


class Logged:
    """An observer that tells the log of the stages too."""

    def __init__(self, inner: Observer, log: WorkLog) -> None:
        self._inner, self._log = inner, log

    def stage(self, text: str) -> None:
        self._log.stage(text)
        self._inner.stage(text)

    def count(self, files: int) -> None:
        self._inner.count(files)

    def so_far(self, lines: Sequence[str]) -> None:
        self._inner.so_far(lines)

    def going(self, text: str) -> None:
        self._inner.going(text)


def without_words(words: Sequence[str]) -> list[str]:
    """A command as it was typed, without what people wrote or are called."""
    out: list[str] = []
    hide = False
    for word in words:
        name, equals, _ = word.partition("=")
        if hide:
            out.append("…")
        elif equals and name in _HIDDEN:
            out.append(f"{name}=…")
        else:
            out.append(word)
        hide = not hide and word in _HIDDEN
    return out


def begin(context: click.Context, file: str | None, *, on_screen: bool) -> None:
    """Have the call that runs keep a log."""
    from rustfern.cli.context import Run

    run = context.find_object(Run)
    if run is not None:
        run.log = WorkLog(file, on_screen=on_screen)
