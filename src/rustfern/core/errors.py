"""One family of errors. Every message says what is wrong, where, and what to do next."""

from __future__ import annotations

from rustfern.core.paths import show_name


class RustFernError(Exception):
    """Base of all errors that a person is told about.

    `what` is a sentence part without a full stop, `where` a path or entry, `following` what to do next.
    """

    exit_status = 3

    def __init__(self, what: str, where: str | None = None, next_step: str | None = None) -> None:
        super().__init__(what)
        self.what, self.where, self.next_step = what, where, next_step

    def __str__(self) -> str:
        text = self.what
        if self.where:
            text += f": {show_name(self.where)}"
        if self.next_step:
            text += f". {self.next_step}"
        return text


class WrongUsage(RustFernError):
    """What was asked for makes no sense, or cannot be done as asked."""

    exit_status = 2


class SourceError(RustFernError):
    """Something that is searched cannot be read."""


class KeptEncrypted(SourceError):
    """A file that its file system keeps encrypted."""


class CatalogueError(RustFernError):
    """A mistake in the places catalogue: says which file, entry and key."""


class CaseError(RustFernError):
    """A case file that is none, is from a newer version, or cannot be written."""

    exit_status = 2


class RestoreRefused(RustFernError):
    """A file that was not restored, and why."""


class NotFound(RustFernError):
    """Nothing fits what was asked for."""

    exit_status = 1


def explain(error: OSError) -> str:
    """The system's own words for an error, without the path."""
    return (error.strerror or type(error).__name__).lower()


class Malformed(Exception):
    """The one error a parser raises: what the bytes break, and at which offset (bytes) or in which part."""

    def __init__(self, reason: str, offset: int | None = None) -> None:
        super().__init__(reason if offset is None else f"{reason} (byte {offset})")
        self.reason, self.offset = reason, offset


class Refused(Malformed):
    """Bytes that were not read on, as that would cost too much, or is not known: whether they are whole is not said by that."""
