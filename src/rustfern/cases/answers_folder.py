"""A folder for the answers about many roots: each with its case, and a file that notes what is done."""

from __future__ import annotations

import json
import os
from contextlib import suppress

import msgspec

from rustfern.core.errors import SourceError, WrongUsage
from rustfern.output.atomic import make_folders

DONE, CASES, ANSWERS = "done.jsonl", "cases", "answers"
_MOST_BYTES = 1 << 30


class Outcome(msgspec.Struct, frozen=True):
    """What came of a piece: the command's exit status (None: it did not end), why it failed, seconds, the sum over what the root holds, how often it was
    tried, and the command with its options (`kind`).
    """

    label: str
    root: str
    status: int | None
    reason: str = ""
    seconds: float = 0.0
    mark: str = ""
    tries: int = 1
    kind: str = ""

    @property
    def is_done(self) -> bool:
        """Whether there is an answer, if only in part."""
        return self.status in (0, 1, 3)


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

    @classmethod
    def existing(cls, path: str) -> AnswersFolder | None:
        """Such a folder that is there already; None where it is none."""
        return cls(path) if os.path.isfile(os.path.join(path, DONE)) else None

    def read_answer(self, label: str) -> bytes:
        """The answer of a root. Raises `OSError`."""
        with open(self.answer_of(label), "rb") as file:  # noqa: PTH123
            return file.read()

    def answer_of(self, label: str) -> str:
        """Where the answer of a root lies."""
        return os.path.join(self.path, ANSWERS, f"{label}.json")

    def case_of(self, label: str) -> str:
        """Where the case of a root lies."""
        return os.path.join(self.path, CASES, f"{label}.fern")

    def files_of(self, command: str, label: str) -> str:
        """Where what a command writes about a root goes: what was kept, repaired, restored."""
        return os.path.join(self.path, command, label)

    def has_answer(self, label: str) -> bool:
        """Whether an answer is there."""
        return os.path.exists(self.answer_of(label))

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

    def rename(self, before: str, now: str) -> bool:
        """Have what was done under one label bear another one; whether its answer does now."""
        with suppress(OSError):
            for old, new in ((self.answer_of(before), self.answer_of(now)), (self.case_of(before), self.case_of(now))):
                if os.path.exists(old) and not os.path.exists(new):
                    os.rename(old, new)
        return self.has_answer(now)


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
