"""The paper that is handed over: for the customer in plain words, for the record with all that was done. From the case file."""

from __future__ import annotations

import csv
import io
import platform
import shlex
import unicodedata
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from rustfern.cases.case_file import CaseFile
from rustfern.core.errors import WrongUsage
from rustfern.core.languages import ENGLISH, Words, words_in
from rustfern.core.model import hides_files
from rustfern.core.paths import show_name
from rustfern.core.times import Clock, from_stamp, stamp
from rustfern.operations.report import gather
from rustfern.reports import customer

Form = Literal["customer", "record"]

if TYPE_CHECKING:
    from jinja2 import Environment

_TEMPLATES = Path(__file__).parent / "templates"
_FORMULA = frozenset("=+-@|%")
_SHIFTING = frozenset("\t\r\n\0")


class CaseDetails(msgspec.Struct, frozen=True):
    """What the technician adds to a report."""

    ticket: str = ""
    technician: str = ""
    consent: str = ""


def html(
    case: CaseFile,
    form: Form,
    paper: CaseDetails,
    clock: Clock,
    person: str | None = None,
    language: str | None = None,
) -> str:
    """One self-contained page: the customer's in a language (that of this machine, if none is given), the record in English. Raises
    `CaseError`, or `WrongUsage` where a customer's page would name several people's files, or for a language that is not there.
    """
    words = words_in(language if form == "customer" else ENGLISH)
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
    return environment(clock, words).get_template(f"{form}.html.j2").render(
        facts=facts, people=people, scan=facts.scan, lost=lost, stories=[customer.story(document, clock, words) for document in lost], paper=paper,
        advice=customer.advice(facts, people, clock, words), still=still, others=others,
        machine=platform.node(), now=customer.told_time(stamp(datetime.now(UTC)), clock, words), language=words.code,
        missing=[place for place in facts.scan.searched if place.status not in ("found", "absent")],
        happened=customer.HAPPENED, barred=any(hides_files(each.status, each.type) for disk in facts.scan.disks for each in disk.volumes),
    )  # fmt: skip


def environment(clock: Clock, words: Words | None = None) -> Environment:
    """What pages are made with: everything that comes from what was searched is made safe to show."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined
    from markupsafe import Markup, escape

    said = words or words_in(ENGLISH)

    def say(text: str, /, **values: object) -> str:
        return Markup(escape(said.text(text))).format(**values)

    def count(one: str, many: str, number: int, /, **values: object) -> str:
        return Markup(escape(said.plural(one, many, number))).format(count=number, **values)

    made = Environment(
        loader=FileSystemLoader(_TEMPLATES),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.globals |= {"_": say, "n_": count}
    made.filters["listed"] = lambda items: Markup(said.listed([str(escape(item)) for item in items]))
    made.filters["bold"] = lambda text: Markup("<b>{}</b>").format(text)
    made.filters["time"] = lambda written: customer.told_time(written, clock, said)
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
