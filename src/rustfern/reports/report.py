"""The paper that is handed over: for the customer in plain words, for the record with all that was done. From the case file."""

from __future__ import annotations

import csv
import io
import platform
import shlex
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

from rustfern.cases import manage
from rustfern.cases.case_file import CaseFile
from rustfern.core.errors import CaseError, WrongUsage
from rustfern.core.paths import show_name
from rustfern.core.times import local

Json = dict[str, Any]
Form = Literal["customer", "record"]
_TEMPLATES = Path(__file__).parent / "templates"
_FORMULA = frozenset("=+-@|%")
_SHIFTING = frozenset("\t\r\n\0")
_HAPPENED = {
    "crashed": "The program ended before it was saved.",
    "never-saved": "It was never saved under a name; the program kept a draft.",
    "overwritten": "Something else was saved over it.",
    "deleted": "It was deleted.",
    "wont-open": "The saved file is broken and no longer opens.",
    "misplaced": "It was saved, but not where it was looked for.",
    "diverged": "Work went on in two versions; each holds something that the other lacks.",
    "nothing-lost": "Nothing of it was lost.",
}


@dataclass(frozen=True)
class CaseDetails:
    """What the technician adds to a report."""

    ticket: str = ""
    technician: str = ""
    consent: str = ""


def _time(stamp: str | None) -> str:
    if not stamp:
        return "an unknown time"
    then = _local(stamp)
    return f"{then.day} {then:%B %Y, %H:%M}"


def _local(stamp: str) -> datetime:
    return local(datetime.strptime(stamp, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC))


def gather(case: CaseFile, person: str | None = None) -> Json:
    """All that a report says. Raises `CaseError` for a case without a search, `WrongUsage` for a person who is not in it."""
    scan = case.about("scan")
    if scan is None:
        raise CaseError("this case holds no search that came to its end", case.path, "Search first: rustfern scan ROOT")
    people = sorted({document["person"] for document in case.documents() if document["person"]})
    if person is not None:
        named = [each for each in people if person.casefold() in each.casefold()]
        if not named:
            raise WrongUsage(
                f"no document of {show_name(person)} is in this case",
                None,
                f"There is: {', '.join(people) or 'nobody'}",
            )
        people = named
    back = case.restored()
    rows = []
    for document in case.documents():
        if person is not None and document["person"] not in people:
            continue
        copies = [copy.facts for copy in case.copies(document["id"])]
        mine = [row for row in back if row[1] in {copy["id"] for copy in copies}]
        rows.append({**document, "copies": copies, "back": [_back(row, copies) for row in mine]})
    done = [
        {"began": _stamp(each.began), "ended": _stamp(each.ended), "says": list(each.says), "status": each.status}
        for each in manage.log(case)
    ]
    return {"scan": scan, "people": people, "documents": rows, "roots": scan["roots"], "case": case.path, "log": done}


def _stamp(when: datetime) -> str:
    return when.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _back(row: tuple[str, str, str, str], copies: Sequence[Json]) -> Json:
    at, ident, target, sha256 = row
    copy = next(copy for copy in copies if copy["id"] == ident)
    when = datetime.fromisoformat(at).astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return {"at": when, "id": ident, "to": target, "sha256": sha256, "copy": copy}


def _story(document: Json) -> Json:
    """One document for the customer: what happened, what is back, up to when, what is missing."""
    best = next((copy for copy in document["copies"] if copy["id"] == document["best"]), None)
    back = document["back"][-1] if document["back"] else None
    copy = back["copy"] if back else best
    missing = []
    if copy is None:
        missing.append("No whole version of it could be found so far.")
        missing += [
            reason.partition(": ")[2].capitalize() + "." for reason in document["why"] if reason.startswith("try next")
        ][:3]
    elif document["situation"] in ("crashed", "never-saved", "wont-open", "overwritten"):
        missing.append(f"What was done after {_time(copy['written'])} is not in it.")
    amount = ""
    if copy is not None and copy["words"] is not None:
        amount = f"{copy['words']} words"
    elif copy is not None and copy["members"]:
        amount = f"{len(copy['members'])} files"
    return {
        "name": document["name"],
        "happened": _HAPPENED[document["situation"]],
        "back": Path(back["to"]).name if back else None,
        "upto": _time(copy["written"]) if copy else None,
        "amount": amount,
        "missing": missing,
        "doubt": any("not certain" in warning or "keep both" in warning for warning in document["warnings"]),
    }


def _advice(scan: Json, people: Sequence[str]) -> list[str]:
    out = []
    for each in scan["advice"]:
        if not each["people"] or set(each["people"]) & set(people):
            out.append(f"{each['program']}: {each['says']}.")
    return out


def html(case: CaseFile, form: Form, paper: CaseDetails, person: str | None = None) -> str:
    """One self-contained page. Raises `CaseError`, or `WrongUsage` where a customer's page would name several people's files."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    facts = gather(case, person)
    lost = [document for document in facts["documents"] if document["situation"] != "nothing-lost"]
    if form == "customer":
        restored = [document for document in lost if document["back"]]
        lost = restored or lost
        owners = sorted({document["person"] for document in lost if document["person"]})
        if len(owners) > 1:
            raise WrongUsage(
                "these documents belong to several people, and nobody may read the names of others' files", None,
                f"Choose one with --person: {', '.join(owners)}",
            )  # fmt: skip
        facts["people"] = owners or facts["people"]
    environment = Environment(
        loader=FileSystemLoader(_TEMPLATES),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters["time"] = _time
    environment.filters["clock"] = lambda stamp: f"{_local(stamp):%Y-%m-%d %H:%M:%S}"
    environment.filters["typed"] = lambda says: show_name(shlex.join(["rustfern", *says]))
    environment.filters["name"] = lambda text: show_name(str(text))
    return environment.get_template(f"{form}.html.j2").render(
        facts=facts, scan=facts["scan"], lost=lost, stories=[_story(document) for document in lost], paper=paper,
        advice=_advice(facts["scan"], facts["people"]), machine=platform.node(), now=_time(datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")),
        missing=[place for place in facts["scan"]["searched"] if place["status"] not in ("found", "absent")],
        happened=_HAPPENED,
    )  # fmt: skip


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
    for document in gather(case, person)["documents"]:
        for copy in document["copies"]:
            back = next((row["to"] for row in document["back"] if row["id"] == copy["id"]), "")
            row = (
                document["name"], document["person"] or "", document["situation"], copy["id"], copy["kind"], copy["state"], copy["written"] or "",
                copy["words"] if copy["words"] is not None else "", "yes" if copy["id"] == document["best"] else "", back, copy["sha256"] or "", copy["path"],
            )  # fmt: skip
            writer.writerow([_cell(str(value)) for value in row])
    return out.getvalue()


def _cell(text: str) -> str:
    """A cell that no sheet takes for a formula: sheets pass over blanks before one, and take wide signs for plain ones."""
    first = unicodedata.normalize("NFKC", text.lstrip()[:1])[:1]
    return f"'{show_name(text)}" if first in _FORMULA or text[:1] in _SHIFTING else show_name(text)
