"""Options that several commands share: the person's account of what happened."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from functools import wraps
from typing import Any, TypeVar, cast

import click
import msgspec

from rustfern.cases.case_file import CaseFile, roots_of
from rustfern.cases.location import about_case, case_in_use, open_existing
from rustfern.cli import print_message
from rustfern.cli.context import this_run
from rustfern.cli.time_types import CLOCK_ERROR, TIME, ZONE
from rustfern.core.answers import Fields, parts
from rustfern.core.languages import LANGUAGES
from rustfern.core.model import Hints, Situation
from rustfern.core.paths import show_name
from rustfern.core.remote_paths import as_written
from rustfern.core.times import Clock
from rustfern.operations.session import set_scratch_outside

_ASKED = ("person", "document", "happened", "lost_at", "older_than", "zone", "clock_error", "words", "doc_class")
_F = TypeVar("_F", bound=Callable[..., Any])
_SITUATIONS = [str(s) for s in Situation if s is not Situation.NOTHING_LOST]
CLASSES = [
    "text",
    "page",
    "sheet",
    "slides",
    "drawing",
    "image",
    "cad",
    "audio",
    "video",
    "code",
    "database",
    "mail",
    "notes",
    "other",
]


def hint_options(function: _F) -> _F:
    """The questions a technician asks first, as options; the command is given what they say as `hints`."""

    @wraps(function)
    def command(*args: Any, **values: Any) -> Any:
        told = {name: values.pop(name) for name in _ASKED}
        return function(*args, hints=hints_from(**told), **values)

    made: Any = command
    for option in reversed(
        [
            click.option("--person", metavar="NAME", help="Search only the home of this person."),
            click.option("--document", metavar="TEXT", help="What the person calls it; ranks what fits first."),
            click.option("--happened", type=click.Choice(_SITUATIONS), help="What the person says happened."),
            click.option("--lost-at", type=TIME, metavar="TIME", help='When it happened ("yesterday 16:40").'),
            click.option("--older-than", type=TIME, metavar="TIME", help="Only copies written before this."),
            click.option(
                "--zone",
                type=ZONE,
                metavar="ZONE",
                help='The person\'s time zone, such as "Europe/London" (default: that of the searched system).',
            ),
            click.option(
                "--clock-error",
                type=CLOCK_ERROR,
                metavar="ERROR",
                help='How wrong that machine\'s clock was: "+7m" ahead, "-1h" behind.',
            ),
            click.option(
                "--words", metavar="TEXT", help="Words that the person remembers, sought in the text of all copies."
            ),
            click.option("--class", "doc_class", type=click.Choice(CLASSES), help="The kind of document; ranks first."),
        ]
    ):
        made = option(made)
    return cast("_F", made)


def hints_from(
    person: str | None,
    document: str | None,
    happened: str | None,
    lost_at: datetime | None,
    older_than: datetime | None,
    zone: str | None,
    clock_error: timedelta | None,
    words: str | None,
    doc_class: str | None,
) -> Hints:
    """Hints from the options' values. Times that the person tells are turned into what the machine's clock showed then."""
    error = clock_error or timedelta()
    return Hints(
        person,
        document,
        Situation(happened) if happened else None,
        lost_at + error if lost_at else None,
        older_than + error if older_than else None,
        doc_class,
        clock_error,
        zone,
        words,
    )


def warn_same_disk(target: str, searched: Sequence[str]) -> None:
    """Writing to the disk that is searched can destroy what could still be saved: said before anything is written."""
    from rustfern.operations.targets import same_volume

    if (shared := same_volume(target, searched)) is not None:
        print_message(
            f"careful: {show_name(target)} is on the same disk as {show_name(shared)}. Writing there can destroy "
            "what could still be saved after a deletion: another disk is better"
        )


def case_at(path: str | None) -> CaseFile:
    """The case asked for, or that of this terminal, said first; its times are told by the clock of the system that it searched.

    Raises `CaseError` if there is none: another one is never taken instead.
    """
    file = open_existing(path or case_in_use())
    run = this_run()
    run.works_in(file.path)
    print_message(about_case(file))
    set_scratch_outside(run.session, roots_of(file))
    run.session.clock = Clock.of_zone(file.about("zone"))
    return file


case_option = click.option(
    "--case", metavar="FILE", help="The case file (default: that of this terminal's last search)."
)


def _full_paths(_context: click.Context, _option: click.Parameter, wanted: bool) -> None:
    if wanted:
        this_run().full_paths = True


paths_option = click.option(
    "--full-paths",
    is_flag=True,
    expose_value=False,
    callback=_full_paths,
    help="Paths in full, not shortened in the middle.",
)
language_option = click.option(
    "--language",
    metavar="CODE",
    help=f"The customer's language: {', '.join(LANGUAGES)} (default: that of this machine).",
)
json_option = click.option("--json", "as_json", is_flag=True, help="Machine-readable answer on stdout.")


def print_json(told: Fields, lists: Mapping[str, Iterable[Fields | msgspec.Raw]] | None = None) -> None:
    """JSON on stdout: ASCII, so that names which are not UTF-8 survive. Written item by item: an answer on a large disk is long."""
    before = "{"
    for key, value in parts(told, lists):
        sys.stdout.write(f"{before}\n {json.dumps(key)}: ")
        before = ","
        if isinstance(value, Iterator):
            number = -1
            for number, item in enumerate(value):
                sys.stdout.write(("," if number else "[") + "\n  " + _laid_out(item, 2))
            sys.stdout.write("\n ]" if number >= 0 else "[]")
        else:
            sys.stdout.write(_laid_out(value, 1))
    sys.stdout.write("\n}\n" if before == "," else "{}\n")


def _laid_out(value: object, depth: int) -> str:
    """JSON with a line for each value, to stand at a depth of others. A text is JSON already where it is `Raw`."""
    text = as_written(_as_ascii(value))
    try:
        text = msgspec.json.format(text, indent=1)
    except msgspec.DecodeError:  # names that are not UTF-8
        text = as_written(json.dumps(json.loads(text), indent=1))
    return text.replace("\n", "\n" + " " * depth)


def _as_ascii(value: object) -> str:
    try:
        told = bytes(value) if isinstance(value, msgspec.Raw) else msgspec.json.encode(value)
        if told.isascii():
            return told.decode("ascii")
    except UnicodeEncodeError:
        pass
    return json.dumps(json.loads(bytes(value)) if isinstance(value, msgspec.Raw) else msgspec.to_builtins(value))
