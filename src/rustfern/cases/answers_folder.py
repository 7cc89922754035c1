"""A folder for the answers about many roots: each with its case, and a file that notes what is done."""

from __future__ import annotations

import json
import os
from contextlib import suppress

import msgspec

from rustfern.core.errors import SourceError, WrongUsage
from rustfern.output.atomic import lock, make_folders

DONE, CASES, ANSWERS = "done.jsonl", "cases", "answers"
SCAN = "scan"
PART = ".part"
"""The ending of an answer that is being written."""
_MOST_BYTES = 1 << 30


class Outcome(msgspec.Struct, frozen=True):
    """What came of a piece: the command's exit status (None: it did not end), why it failed, seconds, the sum over what the root holds, how often it was
    tried, the command with its options (`kind`), and whether it gave an answer at all.
    """

    label: str
    root: str
    status: int | None
    reason: str = ""
    seconds: float = 0.0
    mark: str = ""
    tries: int = 1
    kind: str = ""
    is_answered: bool = True

    @property
    def is_done(self) -> bool:
        """Whether there is an answer, if only in part."""
        return self.status in (0, 1) or (self.is_answered and self.status == 3)


class AnswersFolder:
    """`answers/LABEL.json`, `cases/LABEL.fern`, and `done.jsonl`, to which a line is added for each root that came to an end."""

    def __init__(self, path: str) -> None:
        """Made where it is missing. Raises `SourceError` where it cannot be written."""
        self.path = os.path.abspath(path)
        try:
            for name in ("", CASES, ANSWERS):
                make_folders(os.path.join(self.path, name))
            with open(os.path.join(self.path, DONE), "ab"):  # noqa: PTH123
                pass
        except OSError as error:
            raise SourceError(
                f"nothing can be written there ({error.strerror or error})", path, "Name a folder of your own with room"
            ) from error

    def take(self, command: str) -> None:
        """Have it for this run alone, and clear away what a run that was ended in the middle left half-written. Raises `WrongUsage` where another
        run works in it.
        """
        with suppress(OSError):
            make_folders(os.path.dirname(self.answer_of("", command)))
        self._handle = os.open(os.path.join(self.path, DONE), os.O_RDWR)
        if not lock(self._handle, wait=False):
            os.close(self._handle)
            raise WrongUsage("another run works in this folder", self.path, "Wait for it, or name another folder")
        for folder in (ANSWERS, command):
            with suppress(OSError):
                for name in os.listdir(os.path.join(self.path, folder)):
                    if name.endswith(PART):
                        os.unlink(os.path.join(self.path, folder, name))

    def let_go(self) -> None:
        """Others may have it."""
        with suppress(OSError, AttributeError):
            os.close(self._handle)

    @classmethod
    def existing(cls, path: str) -> AnswersFolder | None:
        """Such a folder that is there already; None where it is none."""
        return cls(path) if os.path.isfile(os.path.join(path, DONE)) else None

    def read_answer(self, label: str) -> bytes:
        """The answer of a root. Raises `OSError`."""
        with open(self.answer_of(label), "rb") as file:  # noqa: PTH123
            return file.read()

    def answer_of(self, label: str, command: str = SCAN) -> str:
        """Where the answer of a root lies: those of searches together, those of other commands beside what these wrote."""
        return os.path.join(self.path, ANSWERS if command == SCAN else command, f"{label}.json")

    def case_of(self, label: str) -> str:
        """Where the case of a root lies."""
        return os.path.join(self.path, CASES, f"{label}.fern")

    def files_of(self, command: str, label: str) -> str:
        """Where what a command writes about a root goes: what was kept, repaired, restored."""
        return os.path.join(self.path, command, label)

    def has_answer(self, label: str, command: str = SCAN) -> bool:
        """Whether an answer is there."""
        return os.path.exists(self.answer_of(label, command))

    def has_case(self, label: str) -> bool:
        """Whether a case is there."""
        return os.path.exists(self.case_of(label))

    def noted(self, kind: str | None = None) -> list[Outcome]:
        """What came to an end, in order: of this kind of work, else of all. A line that was cut off counts for nothing."""
        found = []
        with suppress(OSError), open(os.path.join(self.path, DONE), encoding="utf-8", errors="replace") as file:  # noqa: PTH123
            for line in file:
                with suppress(ValueError, KeyError, TypeError, msgspec.ValidationError):
                    told = json.loads(line)
                    if kind is None or told["kind"] == kind:
                        found.append(msgspec.convert(told, Outcome))
        return found

    def note(self, outcome: Outcome) -> None:
        """Add a line. Raises `OSError`."""
        line = json.dumps(msgspec.to_builtins(outcome)) + "\n"
        with open(os.path.join(self.path, DONE), "ab") as file:  # noqa: PTH123
            file.write(line.encode())
            file.flush()
            os.fsync(file.fileno())

    def rename(self, before: str, now: str, command: str) -> bool:
        """Have what was done under one label bear another one; whether its answer does now."""
        pairs = [
            (self.answer_of(label, command), self.case_of(label), self.files_of(command, label))
            for label in (before, now)
        ]
        with suppress(OSError):
            for old, new in zip(*pairs, strict=True):
                if os.path.exists(old) and not os.path.exists(new):
                    os.rename(old, new)
        return self.has_answer(now, command)


def list_or_children(path: str) -> str | list[str]:
    """The text of a list, or of a folder the paths of what is in it. Raises `WrongUsage`."""
    try:
        if os.path.isdir(path):
            path = os.path.abspath(path)
            return [os.path.join(path, name) for name in sorted(os.listdir(path)) if not name.startswith(".")]
        if os.stat(path).st_size > _MOST_BYTES:
            raise WrongUsage("this list is larger than can be read", path, "Split it")
        with open(path, encoding="utf-8-sig", newline="") as file:  # noqa: PTH123
            return file.read()
    except (OSError, UnicodeDecodeError) as error:
        raise WrongUsage(
            f"the list cannot be read ({getattr(error, 'strerror', None) or error})", path,
            "Give a CSV or TOML file in UTF-8, or a folder whose every child is a root",
        ) from error  # fmt: skip
