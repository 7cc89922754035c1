"""The paper that is handed over: for the customer in plain words, for the record with all that was done. From the case file."""

from __future__ import annotations

import csv
import io
import platform
import shlex
import unicodedata
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from rustfern.cases.case_file import CaseFile
from rustfern.core.answers import CopyAnswer
from rustfern.core.command_answers import ReportAnswer, ReportDocument
from rustfern.core.errors import WrongUsage
from rustfern.core.model import hides_files
from rustfern.core.paths import show_name
from rustfern.core.remarks import counted
from rustfern.core.times import Clock, from_stamp, stamp
from rustfern.formats.format_table import extension_of, format_of_extension, title_of
from rustfern.operations.report import gather

Form = Literal["customer", "record"]

if TYPE_CHECKING:
    from jinja2 import Environment

_TEMPLATES = Path(__file__).parent / "templates"
_FORMULA = frozenset("=+-@|%")
_SHIFTING = frozenset("\t\r\n\0")
HAPPENED = {
    "crashed": "The program ended before it was saved.",
    "never-saved": "It was never saved under a name; the program kept a draft.",
    "overwritten": "Something else was saved over it.",
    "deleted": "It was deleted.",
    "wont-open": "The saved file is broken and no longer opens.",
    "misplaced": "It was saved, but not where it was looked for.",
    "diverged": "Work went on in two versions; each holds something that the other lacks.",
    "nothing-lost": "Nothing of it was lost.",
}


class CaseDetails(msgspec.Struct, frozen=True):
    """What the technician adds to a report."""

    ticket: str = ""
    technician: str = ""
    consent: str = ""


def _time(written: str | None, clock: Clock) -> str:
    if not written:
        return "an unknown time"
    then = clock.local(from_stamp(written))
    return f"{then.day} {then:%B %Y, %H:%M}"


class _Story(msgspec.Struct, frozen=True):
    """One document as the customer reads of it: what happened, the file that is back and the folder that it lies in, as what it opens where
    that is another format than before, up to when, how much, what is missing, and whether there is more than one version to look at.
    """

    name: str
    happened: str
    back: str | None
    folder: str
    became: str
    upto: str | None
    amount: str
    missing: list[str]
    doubt: bool


def _story(document: ReportDocument, clock: Clock) -> _Story:
    """One document for the customer: what happened, what is back, up to when, what is missing."""
    best = next((copy for copy in document.copies if copy.id == document.best), None)
    back = document.back[-1] if document.back else None
    copy = back.copy if back else best
    missing = []
    if copy is None:
        missing.append("No whole version of it could be found so far.")
        missing += [f"{step.text.capitalize()}." for step in document.next_steps[:3]]
    elif document.situation in ("crashed", "never-saved", "wont-open", "overwritten"):
        missing.append(f"What was done after {_time(copy.written, clock)} is not in it.")
    amount = ""
    if copy is not None and copy.words is not None:
        amount = counted(copy.words, "word")
    elif copy is not None and copy.members:
        amount = counted(len(copy.members), "file")
    return _Story(
        document.name,
        HAPPENED[document.situation],
        Path(back.target).name if back else None,
        str(Path(back.target).parent) if back else "",
        _became(document.name, copy, Path(back.target).name) if back and copy else "",
        _time(copy.written, clock) if copy else None,
        amount,
        missing,
        any(not caution.certain or caution.keep_both for caution in document.cautions),
    )


def _became(name: str, copy: CopyAnswer, written: str) -> str:
    """What a file opens as that is of another format than the document was; empty if it is of the same, or its text alone."""
    was, now = format_of_extension(extension_of(name)), format_of_extension(extension_of(written))
    if was is None or now is None or was == now:
        return ""
    if now != copy.format:
        return "its text alone, without how it was set"
    return f"{title_of(now)}, no longer {title_of(was)}"


class _Advice(msgspec.Struct, frozen=True):
    """What the customer is told of their programs: how they are set, what would be better, what was set for them (by the journal)."""

    now: list[str]
    better: list[str]
    done: list[str]


def _advice(facts: ReportAnswer, people: Sequence[str], clock: Clock) -> _Advice:
    """As it was when it was searched, but for what was changed since."""
    mine = [each for each in facts.scan.advice if not each.people or set(each.people) & set(people)]
    set_since = [each for each in facts.changes if each.state == "done" and (not people or each.person in people)]
    changed = {each.setting for each in set_since}
    left = [each for each in mine if not changed & set(each.settings)]
    done: dict[str, str] = {}
    for each in set_since:
        done[f"{each.program}: {each.what} {each.after}"] = each.at
    return _Advice(
        [f"{each.program}: {each.says}." for each in left],
        [f"{each.program}: {each.better}." for each in left if each.better],
        [f"{text} (since {_time(at, clock)})." for text, at in done.items()],
    )


def html(case: CaseFile, form: Form, paper: CaseDetails, clock: Clock, person: str | None = None) -> str:
    """One self-contained page. Raises `CaseError`, or `WrongUsage` where a customer's page would name several people's files."""

    facts = gather(case, person)
    people = facts.people
    lost = [document for document in facts.documents if document.is_lost]
    if form == "customer":
        restored = [document for document in lost if document.back]
        still = [document.name for document in lost if restored and not document.back and not document.within]
        lost = restored or lost
        owners = sorted({document.person for document in lost if document.person})
        if len(owners) > 1:
            raise WrongUsage(
                "these documents belong to several people, and nobody may read the names of others' files", None,
                f"Choose one with --person: {', '.join(owners)}",
            )  # fmt: skip
        people = owners or people
        mine = {document.name for document in facts.documents if document.person in people}
        still = [name for name in still if name in mine] if people else still
    else:
        still = []
    others = sorted({each.person for each in case.documents() if each.person and each.is_lost} - {*people})
    return environment(clock).get_template(f"{form}.html.j2").render(
        facts=facts, people=people, scan=facts.scan, lost=lost, stories=[_story(document, clock) for document in lost], paper=paper,
        advice=_advice(facts, people, clock), still=still, others=others,
        machine=platform.node(), now=_time(stamp(datetime.now(UTC)), clock),
        missing=[place for place in facts.scan.searched if place.status not in ("found", "absent")],
        happened=HAPPENED, barred=any(hides_files(each.status, each.type) for disk in facts.scan.disks for each in disk.volumes),
    )  # fmt: skip


def environment(clock: Clock) -> Environment:
    """What pages are made with: everything that comes from what was searched is made safe to show."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    made = Environment(
        loader=FileSystemLoader(_TEMPLATES),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.filters["time"] = lambda written: _time(written, clock)
    made.filters["clock"] = lambda written: f"{clock.local(from_stamp(written)):%Y-%m-%d %H:%M:%S}"
    made.filters["typed"] = lambda says: show_name(shlex.join(["rustfern", *says]))
    made.filters["name"] = lambda text: show_name(str(text))
    return made


def table(case: CaseFile, person: str | None = None) -> str:
    """One line for each copy, parted by commas (RFC 4180). What would start a formula in a sheet is written as text."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(
        (
            "document",
            "person",
            "situation",
            "copy",
            "kind",
            "state",
            "written (UTC)",
            "words",
            "best",
            "restored to",
            "SHA-256",
            "path",
        )
    )
    for document in gather(case, person).documents:
        for copy in document.copies:
            back = next((row.target for row in document.back if row.id == copy.id), "")
            row = (
                document.name, document.person or "", document.situation, copy.id, copy.kind, copy.state, copy.written or "",
                copy.words if copy.words is not None else "", "yes" if copy.id == document.best else "", back, copy.sha256 or "", copy.path,
            )  # fmt: skip
            writer.writerow([cell(str(value)) for value in row])
    return out.getvalue()


def cell(text: str) -> str:
    """A cell that no sheet takes for a formula: sheets pass over blanks before one, and take wide signs for plain ones."""
    first = unicodedata.normalize("NFKC", text.lstrip()[:1])[:1]
    return f"'{show_name(text)}" if first in _FORMULA or text[:1] in _SHIFTING else show_name(text)
