"""Many roots in one go: each is a piece of work of its own, ends as its own answer in a folder, and stops no other.

What is done is noted in `done.jsonl` of that folder, with a sum over what the root holds: a run that was stopped goes on where it was, also where roots
were moved or renamed meanwhile.
"""

from __future__ import annotations

import csv
import io
import os
import re
import time
import zlib
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Future, wait
from typing import Any
from weakref import WeakKeyDictionary

import msgspec

from rustfern.cases.answers_folder import AnswersFolder, Outcome, list_or_children
from rustfern.core.errors import WrongUsage
from rustfern.core.observer import Observer
from rustfern.core.paths import show_name
from rustfern.core.remote_paths import inside_form, is_remote
from rustfern.engine.interface import Engine, EngineLost
from rustfern.output.inside import Roots, real_path
from rustfern.sources.fingerprint import fingerprint
from rustfern.sources.registry import PASSWORD, Sources, is_searched_file

_MOST_SILENT, _STILL = 900.0, 0.02
"""Seconds after which a worker that neither computes nor reads is given up; what a process that only waits computes in a second, and less."""
_COLUMNS = frozenset({"root", "label", "credential"})
_MOST_TOLD, _TRIES, _SECONDS, _WRONG_USAGE = 20, 3, 1.0, 2
_LABEL = re.compile(r"[^\w .@+-]+")
_LONGEST_LABEL = 80


class Row(msgspec.Struct, frozen=True):
    """One root of a list: where it stands there (line or entry, from 1), what it is called, the options that concern it alone, and the name of its
    password (empty: none).
    """

    line: int
    root: str
    label: str
    options: tuple[str, ...] = ()
    credential: str = ""


class Piece(msgspec.Struct, frozen=True):
    """What a worker is given: the words of one command for one root, where its answer goes, the password, the sum over what the root holds."""

    label: str
    root: str
    words: tuple[str, ...]
    answer: str
    password: str = ""
    mark: str = ""


# --- the list ---------------------------------------------------------------------------------------------------------


def read_list(path: str, options: frozenset[str], accepted: Callable[[Sequence[str]], None]) -> list[Row]:
    """The roots that a CSV or TOML file lists, or that the children of a folder are. `options` are those of the command that a row may set for
    itself; `accepted` raises `WrongUsage` for words that the command does not take.

    Raises `WrongUsage` that names every wrong line (twenty of them), `SourceError` where the list cannot be read.
    """
    text = list_or_children(path)
    if isinstance(text, list):
        door = Sources()
        # A note that lies among the homes is no root.
        text = [child for child in text if door.is_folder(child) or is_searched_file(child)]
        if not text:
            raise WrongUsage(
                "there is no folder, archive or image in this folder",
                path,
                "Name the folder whose children are the roots",
            )
        return _told_apart(
            [Row(number, child, _label_of(os.path.basename(child))) for number, child in enumerate(text, 1)]
        )
    told = _from_toml(text, path) if path.endswith(".toml") else _from_csv(text, path)
    wrong: list[str] = []
    rows: list[Row] = []
    seen: dict[str, int] = {}
    for line, fields in told:
        try:
            row = _row(line, fields, options, accepted)
            key = row.root if is_remote(row.root) else real_path(row.root)
            if key in seen:
                raise WrongUsage(f"the same root as in line {seen[key]}", show_name(row.root))
            seen[key] = line
            rows.append(row)
        except WrongUsage as error:
            wrong.append(f"line {line}: {error.what}" + (f": {error.where}" if error.where else ""))
    if wrong:
        more = f"; and {len(wrong) - _MOST_TOLD} more" if len(wrong) > _MOST_TOLD else ""
        raise WrongUsage(
            f"{len(wrong)} lines of this list are wrong: {'; '.join(wrong[:_MOST_TOLD])}{more}", path,
            "Correct them; nothing was begun",
        )  # fmt: skip
    if not rows:
        raise WrongUsage("this list names no root", path, "Give each in a line of its own, below a line `root,label`")
    return _told_apart(rows)


def _from_csv(text: str, path: str) -> Iterator[tuple[int, Mapping[str, object]]]:
    reader = csv.reader(io.StringIO(text), strict=True)
    try:
        head = [name.strip().casefold() for name in next(reader, [])]
        if "root" not in head:
            raise WrongUsage(
                "the first line of this list names no column root", path, "Begin with a line such as `root,label`"
            )
        for cells in reader:
            if any(cell.strip() for cell in cells):
                if len(cells) > len(head):
                    cells[len(head) :] = [f"{len(cells)} cells, {len(head)} columns"]
                    yield reader.line_num, {"": cells[-1]}
                else:
                    yield reader.line_num, dict(zip(head, cells, strict=False))
    except csv.Error as error:
        raise WrongUsage(f"line {reader.line_num} of this list is no CSV ({error})", path, "Correct it") from error


def _from_toml(text: str, path: str) -> Iterator[tuple[int, Mapping[str, object]]]:
    import tomllib

    try:
        told = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise WrongUsage(f"this list is no TOML ({error})", path, "Correct it") from error
    roots = told.get("root")
    if not isinstance(roots, list) or not all(isinstance(each, dict) for each in roots):
        raise WrongUsage("this list has no [[root]]", path, 'Give each as [[root]] with path = "…"')
    for number, each in enumerate(roots, 1):
        yield number, {("root" if key == "path" else key): value for key, value in each.items()}


def _row(
    line: int, fields: Mapping[str, object], options: frozenset[str], accepted: Callable[[Sequence[str]], None]
) -> Row:
    told = {key.strip(): str(value).strip() for key, value in fields.items() if str(value).strip()}
    if "" in told:
        raise WrongUsage(told[""])
    unknown = sorted(set(told) - _COLUMNS - options)
    if unknown:
        raise WrongUsage(
            f"nothing is known of {', '.join(unknown)}; it may give {', '.join(sorted(_COLUMNS | options))}"
        )
    if "root" not in told:
        raise WrongUsage("it names no root")
    if "\0" in told["root"]:
        raise WrongUsage("its root is no path")
    root = inside_form(told["root"])
    root = root if is_remote(root) else os.path.abspath(os.path.expanduser(root))
    words = tuple(word for key in sorted(set(told) & options) for word in (f"--{key}", told[key]))
    if words:
        accepted(words)
    credential = told.get("credential", "")
    if credential and password_named(credential) is None:
        raise WrongUsage(f"there is no password {credential}: set {_variable(credential)}")
    return Row(
        line, root, _label_of(told.get("label") or os.path.basename(root.rstrip("/")) or "root"), words, credential
    )


def _variable(credential: str) -> str:
    return f"{PASSWORD}_{re.sub(r'[^A-Z0-9]', '_', credential.upper())}"


def password_named(credential: str) -> str | None:
    """A password by the name that a list gives it: that of the environment."""
    return os.environ.get(_variable(credential))


def _label_of(text: str) -> str:
    return _LABEL.sub("-", text).strip(" .-")[:_LONGEST_LABEL] or "root"


def _told_apart(rows: list[Row]) -> list[Row]:
    """Rows with labels that differ, also where the case of letters does not count."""
    taken: Counter[str] = Counter()
    found = []
    for row in rows:
        label, key = row.label, row.label.casefold()
        while taken[key]:
            taken[row.label.casefold()] += 1
            label = f"{row.label} {taken[row.label.casefold()]}"
            key = label.casefold()
        taken[key] += 1
        found.append(row if label == row.label else msgspec.structs.replace(row, label=label))
    return found


# --- the work ---------------------------------------------------------------------------------------------------------


class Many:
    """A command on many roots. `words` makes the words of it for one row, below the folder `out`."""

    def __init__(
        self,
        command: str,
        rows: Sequence[Row],
        out: str,
        words: Callable[[Row, AnswersFolder], tuple[str, ...]],
        options: Sequence[str],
    ) -> None:
        """Raises `WrongUsage` where `out` lies in what is searched, `SourceError` where it cannot be written."""
        self.command, self.rows, self._words = command, rows, words
        self.kind = " ".join([command, *options])
        """What makes two runs the same one: the command and its options."""
        if Roots([row.root for row in rows if not is_remote(row.root)]).hold(os.path.abspath(out)):
            raise WrongUsage(
                "the answers would be written into what is searched", out, "Name a folder elsewhere, on another disk"
            )
        self.folder = AnswersFolder(out)
        self._done: dict[tuple[str, str], Outcome] = {}
        for told in self.folder.noted(self.kind):
            if told.mark and told.is_done:
                self._done[told.mark, told.label] = self._done[told.mark, ""] = told
        self._labels = {row.label.casefold() for row in rows}
        self.before: set[str] = set()
        """Labels of roots that were done in an earlier run, and are as they were."""

    def _piece(self, row: Row) -> Piece | Outcome:
        """What is to be done of a row, or what came of it when it was done."""
        mark = ""
        if not is_remote(row.root):
            mark = _mark_of(row)
            before = self._done.get((mark, row.label)) or self._done.get((mark, ""))
            if before is not None and self.folder.has_answer(before.label, self.command):
                if before.label == row.label:
                    return before
                if before.label.casefold() not in self._labels and self.folder.rename(
                    before.label, row.label, self.command
                ):
                    renamed = msgspec.structs.replace(before, label=row.label, root=row.root)
                    self.folder.note(renamed)
                    return renamed
        password = password_named(row.credential) if row.credential else None
        words = self._words(row, self.folder)
        return Piece(row.label, row.root, words, self.folder.answer_of(row.label, self.command), password or "", mark)

    def run(
        self, engine: Engine, work: Callable[[Piece], Outcome], observer: Observer, at_most: float | None = None
    ) -> Iterator[Outcome]:
        """What came of each root, as it comes. Nothing that fails ends the others; where the engine is lost as a whole, `EngineLost` is raised.
        A piece of which nothing comes any more is given up, with `at_most` one that takes longer (seconds), and tried once more behind the others.
        """
        left: Iterator[Piece | Outcome] = (self._piece(row) for row in self.rows)
        again: list[tuple[Piece, int]] = []
        later: list[tuple[Piece, int]] = []
        """What failed: tried once more behind all others, when what stood in its way may be gone."""
        running: dict[Future[Outcome], tuple[Piece, int, float]] = {}
        told: list[Outcome] = []
        watch = _Watch(engine, at_most)
        ended = 0

        def fill() -> None:
            while len(running) < max(engine.workers, 1):
                following = again.pop() if again else next(left, None)
                if following is None and later:
                    following = later.pop(0)
                if following is None:
                    return
                if isinstance(following, Outcome):
                    self.before.add(following.label)
                    told.append(following)
                    continue
                piece, tries = following if isinstance(following, tuple) else (following, 1)
                running[engine.submit(work, piece)] = piece, tries, time.monotonic()

        observer.stage(f"{self.command}: {len(self.rows):,} roots")
        fill()
        while running or told:
            done = wait(running, _SECONDS, FIRST_COMPLETED)[0] if running else set()
            fresh = []
            for waits in done:
                piece, tries, began = running.pop(waits)
                outcome = _came(waits, piece, tries, time.monotonic() - began)
                if outcome is None and tries < _TRIES:
                    again.append((piece, tries + 1))
                elif outcome is not None and not outcome.is_done and outcome.status != _WRONG_USAGE and tries == 1:
                    later.append((piece, tries + 1))
                else:
                    why = f"its worker was lost {_TRIES} times"
                    fresh.append(outcome or Outcome(piece.label, piece.root, None, why, tries=tries))
            for waits, (piece, tries, began) in list(running.items()):
                if (silent := watch.gives_up(waits, time.monotonic() - began)) is not None:
                    running.pop(waits)
                    engine.give_up(waits)
                    if tries == 1:
                        later.append((piece, tries + 1))
                    else:
                        seconds = time.monotonic() - began
                        fresh.append(Outcome(piece.label, piece.root, None, silent, round(seconds, 3), tries=tries))
            fill()  # before anything else: no worker waits for what is written here
            for outcome in fresh:
                self.folder.note(msgspec.structs.replace(outcome, kind=self.kind))
            told += fresh
            for outcome in told:
                ended += 1
                observer.going(f"{ended:,} of {len(self.rows):,}")
                yield outcome
            told.clear()


class _Watch:
    """Tells which pieces are given up: those that take longer than they may, and those of which nothing comes any more."""

    def __init__(self, engine: Engine, at_most: float | None) -> None:
        self._engine, self._at_most = engine, at_most
        self._seen: WeakKeyDictionary[Future[Any], tuple[float, float]] = WeakKeyDictionary()

    def gives_up(self, waits: Future[Any], seconds: float) -> str | None:
        """Why a piece that has taken so long is given up; None where it goes on."""
        if self._at_most is not None and seconds > self._at_most:
            return f"given up after {self._at_most:.0f} s"
        now, seen = time.monotonic(), self._engine.seen(waits)
        before = self._seen.get(waits)
        if seen is None or before is None or seen - before[0] > _STILL:
            if seen is not None:
                self._seen[waits] = seen, now
            return None
        silent = now - before[1]
        return f"nothing came of it for {silent:.0f} s" if silent > _MOST_SILENT else None


def _mark_of(row: Row) -> str:
    """The sum over what a root holds, and the options that concern it alone; empty where nothing can be seen of it."""
    held = fingerprint(row.root)
    return f"{held} {zlib.crc32(repr(row.options).encode()):08x}" if held else ""


def _came(waits: Future[Outcome], piece: Piece, tries: int, seconds: float) -> Outcome | None:
    """What came of a piece; None where its worker was lost."""
    try:
        return msgspec.structs.replace(waits.result(), tries=tries)
    except (BrokenExecutor, EngineLost):
        return None
    except Exception as error:  # whatever it is: it stops no other piece
        return Outcome(
            piece.label, piece.root, None, f"{type(error).__name__}: {str(error)[:200]}", seconds, tries=tries
        )
