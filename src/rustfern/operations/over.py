"""One view over the answers about many roots: what was lost where, what can be had back, what points at one cause, what to do first.

Numbers, labels and people alone: of no document the name or the text.
"""

from __future__ import annotations

import json
import os
import shlex
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any

from rustfern.cases.answers_folder import AnswersFolder, Outcome
from rustfern.catalogue.loader import catalogue
from rustfern.core.command_answers import CauseAnswer, MachineAnswer, ManyAnswer, ManyRootAnswer, OverAnswer
from rustfern.core.errors import SourceError, WrongUsage
from rustfern.core.remarks import counted
from rustfern.core.remote_paths import as_written, inside_form, is_remote
from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.sources.registry import Sources

_NOT_LOST = "nothing-lost"
_KEPT_FOR_LONG = 3
_LEFT_BY_PROGRAMS = ("autosave", "backup", "temporary", "swap")
_MANY, _MOST_OF_KIND, _MOST_LABELS, _MOST_FOLDERS = 3, 3, 50, 200
"""Documents of one minute on one machine, below which that is no sign of anything."""
_WEIGHTS = {"vanishing": 5, "without": 2, "damaged": 2, "found": 1}


def about_many(folder: AnswersFolder, command: str, outcomes: Sequence[Outcome]) -> ManyAnswer:
    """What came of each root, as an answer."""
    return ManyAnswer(
        command=command,
        folder=folder.path,
        roots=[
            ManyRootAnswer(
                label=each.label, root=as_written(each.root), status=each.status, reason=each.reason, seconds=each.seconds, tries=each.tries,
                answer=folder.answer_of(each.label, command.partition(" ")[0]) if each.is_answered and each.is_done else None,
            )
            for each in outcomes
        ],
    )  # fmt: skip


def _unknown_ending(name: str) -> str | None:
    """The ending of a name that is none of a known format."""
    ending = extension_of(name)
    return ending if ending and format_of_extension(ending) is None else None


class _Beside:
    """What lies where documents were, as far as that can be seen now: after an attack each has its name with one more ending behind it."""

    def __init__(self) -> None:
        self._door = Sources()
        self._names: dict[str, list[str]] = {}

    def ending_of(self, document: Mapping[str, Any]) -> str | None:
        """The unknown ending under which a document that is gone may lie in its place; None if nothing does."""
        original = inside_form(document.get("original") or "")
        folder, name = os.path.split(original)
        if not name or is_remote(original) or (folder not in self._names and len(self._names) >= _MOST_FOLDERS):
            return None
        if folder not in self._names:
            self._names[folder] = []
            with suppress(SourceError):
                self._names[folder] = self._door.around(original).names(folder)[1]
        found = (_unknown_ending(each) for each in self._names[folder] if each.startswith(f"{name}."))
        return next((ending for ending in found if ending is not None), None)


class _Signs:
    """What happened when, under which ending, with which program, on which machines."""

    def __init__(self) -> None:
        self.found: dict[tuple[str, str], Counter[str]] = defaultdict(Counter)

    def note(self, kind: str, what: str, label: str) -> None:
        self.found[kind, what][label] += 1

    def causes(self, machines: int) -> list[CauseAnswer]:
        """Those that several machines share, the widest first. A program that everybody has lost something with says little where few did."""
        rows = []
        for (kind, what), labels in self.found.items():
            wide = len(labels) > 1 or (kind != "program" and max(labels.values()) >= _MANY)
            if wide and (kind != "program" or len(labels) * 2 >= machines):
                rows.append((len(labels), sum(labels.values()), kind, what, labels))
        rows.sort(key=lambda row: (-row[0], -row[1], row[2], row[3]))
        # The widest of each kind say all that such signs can say.
        rows = [row for row in rows if sum(each[2] == row[2] for each in rows[: rows.index(row)]) < _MOST_OF_KIND]
        return [
            CauseAnswer(kind=kind, says=_said(kind, what, total, wide, machines), documents=total, machines=sorted(labels)[:_MOST_LABELS])  # type: ignore[arg-type]
            for wide, total, kind, what, labels in rows
        ]  # fmt: skip


def _said(kind: str, what: str, total: int, wide: int, machines: int) -> str:
    on = (
        f"on {wide} of {counted(machines, 'machine')}"
        if wide < machines or machines == 1
        else f"on all {machines} machines"
    )
    if kind == "minute":
        return f"{counted(total, 'document')} {on} were lost in the same minute, {what.replace('T', ' ')} UTC"
    if kind == "ending":
        return f"{counted(total, 'document')} {on} bear the same unknown ending, .{what}, in place of their own"
    return f"{counted(total, 'document')} {on} were lost with the same program, {what}"


def gather(path: str) -> OverAnswer:
    """The view over a folder of answers. Raises `WrongUsage` where it holds none."""
    folder = AnswersFolder.existing(path)
    if folder is None:
        raise WrongUsage(
            "this folder holds no answers about many roots", path, "Make some: rustfern scan --list FILE --out DIR"
        )
    noted = (told for told in folder.noted() if told.kind.partition(" ")[0] == "scan")
    latest = {told.label: told for told in noted if not told.is_done or folder.has_answer(told.label)}
    signs = _Signs()
    machines = [_machine(folder, told, signs) for told in latest.values()]
    machines.sort(key=lambda each: (-each.urgency, each.label.casefold()))
    lost: Counter[str] = Counter()
    classes: Counter[str] = Counter()
    for each in machines:
        lost.update(each.lost)
        classes.update(each.classes)
    causes = signs.causes(sum(1 for each in machines if each.lost))
    return OverAnswer(
        folder=folder.path, people=sorted({person for each in machines for person in each.people}), lost=dict(lost.most_common()),
        classes=dict(classes.most_common()), found=sum(each.found for each in machines), without=sum(each.without for each in machines),
        vanishing=sum(each.vanishing for each in machines), machines=machines, causes=causes, first=_first(machines, causes, folder.path),
    )  # fmt: skip


def _documents(folder: AnswersFolder, label: str) -> tuple[Mapping[str, Any], Iterator[Mapping[str, Any]]]:
    """An answer, and its documents. One that cannot be read counts as empty."""
    try:
        told = json.loads(folder.read_answer(label))
    except (OSError, ValueError):
        return {}, iter(())
    return told, (each for each in told.get("documents", ()) if isinstance(each, dict))


def _machine(folder: AnswersFolder, told: Outcome, signs: _Signs) -> MachineAnswer:
    places = catalogue().places
    lost: Counter[str] = Counter()
    classes: Counter[str] = Counter()
    found = without = vanishing = damaged = 0
    times: list[str] = []
    beside = _Beside()
    answer, documents = _documents(folder, told.label) if told.is_done else ({}, iter(()))
    for document in documents:
        if document["situation"] == _NOT_LOST:
            continue
        lost[document["situation"]] += 1
        classes[_class(document)] += 1
        best = next((copy for copy in document["copies"] if copy["id"] == document["best"]), None)
        saved = next((copy for copy in document["copies"] if copy["kind"] == "saved"), None)
        found += best is not None
        without += best is None
        place = places.get(best["place"]) if best is not None else None
        vanishing += place is not None and place.lifetime_rank < _KEPT_FOR_LONG
        if document["situation"] == "wont-open" and saved is not None and saved["state"] != "intact":
            damaged += 1
            if (ending := _unknown_ending(document["name"])) is not None:
                signs.note("ending", ending, told.label)
        elif document["situation"] == "deleted" and (ending := beside.ending_of(document)) is not None:
            signs.note("ending", ending, told.label)
        if place is not None and place.kind in _LEFT_BY_PROGRAMS:
            signs.note("program", place.program, told.label)
        if (when := _lost_at(document, saved)) is not None:
            times.append(when)
            signs.note("minute", when[:16], told.label)
    counts = {"vanishing": vanishing, "without": without, "damaged": damaged, "found": found}
    return MachineAnswer(
        label=told.label, root=as_written(told.root), status=told.status, reason=told.reason,
        people=sorted({home.get("person") or "" for home in answer.get("homes", ())} - {""}), lost=dict(lost.most_common()),
        classes=dict(classes.most_common()), found=found, without=without, vanishing=vanishing, damaged=damaged,
        urgency=sum(_WEIGHTS[name] * number for name, number in counts.items()), first_lost=min(times, default=None),
        last_lost=max(times, default=None), case=folder.case_of(told.label) if folder.has_case(told.label) else None,
    )  # fmt: skip


def _class(document: Mapping[str, Any]) -> str:
    return class_of(format_of_extension(extension_of(document["name"]))) or "other"


def _lost_at(document: Mapping[str, Any], saved: Mapping[str, Any] | None) -> str | None:
    """When something happened to a document: it was deleted, its lock was set, or the saved file was written last."""
    told = [record.get("when") for record in document.get("records", ())]
    told += [lock.get("opened") for lock in document.get("locks", ())] if not any(told) else []
    if not any(told) and saved is not None and document["situation"] in ("overwritten", "wont-open"):
        told = [saved.get("modified")]
    return max((each for each in told if each), default=None)


def _first(machines: Sequence[MachineAnswer], causes: Sequence[CauseAnswer], folder: str) -> list[str]:
    """What to do first, in the order of the work."""
    steps = []
    ending = next((cause for cause in causes if cause.kind == "ending" and len(cause.machines) > 1), None)
    if ending is not None:
        steps.append(
            f"Take these machines off the network before anything else: {ending.says}, as after an attack that encrypts files"
        )
    soon = [each for each in machines if each.vanishing]
    if soon:
        steps.append(
            f"Keep short-lived copies safe on {counted(len(soon), 'machine')} before people work on: rustfern keep --list FILE --out DIR"
        )
    broken = [each for each in machines if each.status not in (0, 1)]
    if broken:
        steps.append(
            f"See why {counted(len(broken), 'machine')} could not be searched whole, and search them again: {', '.join(each.label for each in broken[:5])}"
        )
    found = sum(each.found for each in machines)
    if found:
        steps.append(
            f"Restore the best copies of {counted(found, 'document')}: rustfern restore --all-best --list FILE --out {shlex.quote(folder)}"
        )
    without = sum(each.without for each in machines)
    if without:
        steps.append(f"Look into the cases of {counted(without, 'document')} without a whole copy, and try repair")
    return steps or ["Nothing that was lost was found on any of them"]


def name_of(path: str) -> str:
    """What a folder of answers is called."""
    return os.path.basename(path.rstrip(os.sep)) or path
