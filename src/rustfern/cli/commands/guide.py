"""`rustfern guide`: the technician's questions one by one, then the commands in the order of the work, each shown as it is run."""

from __future__ import annotations

import os
import shlex
import sys
from collections.abc import Sequence
from contextvars import ContextVar
from datetime import UTC, datetime

import click
import msgspec
from msgspec.structs import replace

from rustfern.cases import manage
from rustfern.cases.case_file import CaseFile
from rustfern.cases.location import case_in_use
from rustfern.cli.context import Run, this_run
from rustfern.cli.options import CLASSES, language_option
from rustfern.cli.time_types import TIME
from rustfern.core.errors import CaseError, NotFound, RustFernError, WrongUsage
from rustfern.core.languages import ENGLISH, N_, Words, words_in
from rustfern.core.paths import show_name
from rustfern.operations.live import live_roots
from rustfern.operations.session import state_is_inside
from rustfern.selection.ranking import fits
from rustfern.sources.kept_folder import is_kept

_SITUATIONS = {
    "crashed": N_("the program or the machine stopped before it was saved"),
    "never-saved": N_("it was closed, and never saved at all"),
    "overwritten": N_("something else was saved over it"),
    "deleted": N_("it was deleted"),
    "wont-open": N_("the file is there and does not open"),
    "misplaced": N_("it was saved, and is nowhere to be found"),
    "unknown": N_("nobody knows"),
}
_SINCE = {
    "nothing": N_("nothing, it was left alone"),
    "reopened": N_("the program was started again"),
    "saved": N_("something was saved again"),
    "restarted": N_("the machine was started again"),
    "cleaned": N_("files were cleaned up, or programs installed"),
}
_KINDS = {
    "text": N_("a text"),
    "sheet": N_("a sheet of figures"),
    "slides": N_("slides"),
    "page": N_("a PDF or a form"),
    "image": N_("a picture or a photograph"),
    "drawing": N_("a drawing"),
    "any": N_("something else, or nobody knows"),
}
_WARNED = {
    "reopened": N_("Programs remove their autosaves once they have offered them: do not start it again."),
    "saved": N_("Each save can remove an older copy: save nothing more there."),
    "restarted": N_("Temporary folders are emptied at a start: start nothing more than is needed."),
    "cleaned": N_("What was deleted is overwritten little by little: write nothing more to that disk."),
}


_CARE, _WARN_STYLE, _SHOWN = "bold", "bold red", "bold"
_SPOKEN: ContextVar[Words | None] = ContextVar("spoken", default=None)
"""The language in which is asked."""


class _Answers(msgspec.Struct, frozen=True):
    roots: tuple[str, ...]
    person: str | None = None
    happened: str = "unknown"
    still_open: bool = False
    since: tuple[str, ...] = ()
    document: str | None = None
    words: str | None = None
    lost_at: datetime | None = None
    doc_class: str | None = None
    target: str = ""


@click.command()
@click.argument("roots", nargs=-1, metavar="[ROOT]...")
@click.option("--person", metavar="NAME", help="Which person.")
@click.option("--happened", type=click.Choice([*_SITUATIONS]), help="What happened.")
@click.option("--open/--closed", "still_open", default=None, help="Whether the program still has it open.")
@click.option("--since", type=click.Choice([*_SINCE]), multiple=True, help="What was done since (may be repeated).")
@click.option("--document", metavar="TEXT", help="What the person calls it.")
@click.option("--words", metavar="TEXT", help="Words that the person remembers, where the name is not known.")
@click.option("--lost-at", type=TIME, metavar="TIME", help='When it happened ("yesterday 16:40").')
@click.option("--class", "doc_class", type=click.Choice([*CLASSES, "any"]), help="What kind of document it is.")
@click.option("--to", "target", metavar="DIR", help="Where to keep and restore: another disk if you can.")
@click.option("--yes", is_flag=True, help="Restore the best copy of the first document without asking.")
@language_option
def command(
    roots: tuple[str, ...],
    person: str | None,
    happened: str | None,
    still_open: bool | None,
    since: tuple[str, ...],
    document: str | None,
    words: str | None,
    lost_at: datetime | None,
    doc_class: str | None,
    target: str | None,
    yes: bool,
    language: str | None,
) -> int:
    """Be led from the first question to the restored file: asks what a technician asks, then runs ready, keep, scan, look and restore, and
    shows each command, so that it is learnt. Every answer can be given as an option; what is given is not asked.

    \b
    Examples (on the disk that `rustfern demo` lays out):
      rustfern guide marlow-quay-disk
      rustfern guide marlow-quay-disk --person ines --happened crashed --document "hull survey" --to saved --yes

    Exit status: 0 restored (or you chose not to), 1 nothing was found, 2 wrong usage, 3 done in part.
    """
    _SPOKEN.set(words_in(language))
    asks = sys.stdin.isatty()
    if not asks and not (target and yes):
        raise WrongUsage(
            "there is nobody to ask here",
            None,
            "Run it in a terminal, or give --to DIR --yes and what is known as options",
        )
    given = _Answers(
        roots, person, happened or "unknown", bool(still_open), since, document, words, lost_at, doc_class, target or ""
    )
    missing = {"happened": happened is None, "open": still_open is None, "since": not since, "class": doc_class is None}
    answers = _ask(given, missing) if asks else given
    return _work(replace(answers, doc_class=None if answers.doc_class == "any" else answers.doc_class), yes, asks)


def _words() -> Words:
    return _SPOKEN.get() or words_in(ENGLISH)


def _(text: str, /, **values: object) -> str:
    """A sentence in the language in which is asked."""
    return _words().say(text, **values)


def _say(text: str, style: str = "bold") -> None:
    from rich.text import Text

    from rustfern.cli.screen.console import aside

    aside().print(Text(text, style=style), soft_wrap=True)


def _choose(question: str, choices: dict[str, str]) -> str:
    """One of several answers, by its number, its name or the beginning of it; asked again until it is one."""
    _say(f"\n{question}")
    names = list(choices)
    shown = {name: _words().text(choices[name]) for name in names}
    for number, name in enumerate(names, 1):
        _say(f"   {number}  {shown[name]}", "")
    while True:
        said: str = click.prompt(_("Number"), default=str(len(names)), err=True).strip().casefold()
        if said.isdigit() and 1 <= int(said) <= len(names):
            return names[int(said) - 1]
        fitting = [name for name in names if said in (name.casefold(), shown[name].casefold())]
        fitting = fitting or [
            n for n in names if said and (n.casefold().startswith(said) or said in shown[n].casefold())
        ]
        if len(fitting) == 1:
            return fitting[0]
        text = N_("{answer} is none of them: give a number from 1 to {last}, or the words")
        if fitting:
            text = N_("{answer} fits several of them: give a number from 1 to {last}, or the words")
        _say(_(text, answer=_words().quoted(show_name(said)), last=len(names)), _CARE)


def _text(question: str, default: str = "") -> str:
    _say(f"\n{question}")
    said: str = click.prompt(_("Answer"), default=default, show_default=bool(default), err=True)
    return said.strip()


def _yes(what: str, *, default: bool) -> bool:
    """Yes or no, in English or in the language in which is asked; asked again until it is one."""
    words = _("yes"), _("no")
    yes, no = (word[0] for word in words)
    choice = f"{yes.upper()}/{no}" if default else f"{yes}/{no.upper()}"
    while True:
        said: str = click.prompt(f"{what} [{choice}]", default="", show_default=False, err=True)
        answer = said.strip().casefold()
        if not answer:
            return default
        if answer in (yes, words[0], "y", "yes"):
            return True
        if answer in (no, words[1], "n", "no"):
            return False
        _say(
            _(
                "{answer} is neither yes nor no: give {yes} or {no}",
                answer=_words().quoted(show_name(said)),
                yes=yes,
                no=no,
            ),
            _CARE,
        )


def _ask(given: _Answers, missing: dict[str, bool]) -> _Answers:
    """The questions that no option answers, in the order in which a technician asks them."""
    answers = given
    _say(_("A few questions, then each step is shown as it is run. Enter passes over what nobody knows."), "")
    _say(_("Until then: close nothing, start nothing again, save nothing."), _WARN_STYLE)
    if not answers.roots:
        answers = replace(answers, roots=_root())
    if answers.person is None:
        answers = replace(answers, person=_person(answers.roots))
    if missing["happened"]:
        answers = replace(answers, happened=_choose(_("What happened?"), _SITUATIONS))
    if missing["open"]:
        _say("\n" + _("Is the program still running, with the document open?"))
        answers = replace(answers, still_open=_yes(_("Open"), default=False))
    if missing["since"]:
        since = _choose(_("What was done since?"), dict(reversed(_SINCE.items())))
        answers = replace(answers, since=(since,))
    if answers.document is None:
        answers = replace(
            answers, document=_text(_("What does the person call it? (Enter: the name is not known)")) or None
        )
    if answers.document is None and answers.words is None:
        said = _text(_("Which words stand in it? (Enter: none are remembered)"))
        answers = replace(answers, words=said or None)
    if answers.lost_at is None:
        answers = replace(answers, lost_at=_time())
    if missing["class"]:
        answers = replace(answers, doc_class=_choose(_("What kind of document is it?"), _KINDS))
    if not answers.target:
        answers = replace(answers, target=_text(_("Where is it saved to? Another disk if you can."), "saved"))
    return answers


def _person(roots: Sequence[str]) -> str | None:
    """Which of the people whose homes are there."""
    from rustfern.operations.ready import ready

    people = sorted({home.person for home in ready(roots or None, session=this_run().session).homes})
    if len(people) < 2:
        return None
    choices = {name: show_name(name) for name in people} | {"": N_("all of them")}
    return _choose(_("Whose document is it?"), choices) or None


def _root() -> tuple[str, ...]:
    """What is searched; asked again until it is there."""
    while True:
        said = _text(_("Which disk or folder is searched? (Enter: your own files on this machine)"))
        if not said:
            return ()
        try:
            this_run().session.sources.check_root(os.path.expanduser(said))
        except RustFernError as error:
            _say(str(error), _CARE)
            continue
        return (os.path.expanduser(said),)


def _goes_on(asks: bool, what: str) -> bool:
    """Whether the technician goes on with the next stage."""
    if not asks:
        return True
    _say("\n" + _("Next: {what}.", what=_(what)))
    return _yes(_("Go on"), default=True)


def _time() -> datetime | None:
    while True:
        said = _text(_('When did it happen? ("yesterday 16:40", "2026-03-12 16:40"; Enter: not known)'))
        if not said:
            return None
        try:
            when: datetime = TIME.convert(said, None, None)
            return when
        except click.UsageError as error:
            _say(error.format_message(), _CARE)


def _run(*words: str) -> int:
    """Show a command and run it; its exit status."""
    from rustfern.cli import main, note_done, print_error

    began = datetime.now(UTC)
    run = Run()
    _say(f"\n$ rustfern {shlex.join(words)}", _SHOWN)
    try:
        status = main(list(words), standalone_mode=False, obj=run)
    except RustFernError as error:
        print_error(error)
        status = error.exit_status
    status = status if isinstance(status, int) else 0
    sys.stdout.flush()
    note_done(run, words, began, status)
    return status


def _work(answers: _Answers, yes: bool, asks: bool) -> int:
    """Ready, keep, scan, look, restore: in the order of the work."""
    who = ["--person", answers.person] if answers.person else []
    for each in answers.since:
        if each in _WARNED:
            _say(f"! {_(_WARNED[each])}", _WARN_STYLE)
    if answers.still_open:
        text = _(
            "It is still open: do not close it, and do not save over it. What is open now may be the newest version."
        )
        _say(f"! {text}", _WARN_STYLE)
    kept = os.path.join(answers.target, "kept")
    if _run("ready", *answers.roots, *who, "--to", answers.target) == 2:
        return 2
    if not _goes_on(asks, N_("take the short-lived copies to safety")):
        return _stopped()
    if _run("keep", *answers.roots, *who, "--to", kept) == 2:
        return 2
    if not _goes_on(asks, N_("search everything, and choose the best copies")):
        return _stopped()
    # What was kept stands for what may vanish; all else is read where it is.
    places = [kept] if this_run().session.sources.is_folder(kept) and is_kept(kept) else answers.roots
    case = _own_case(answers)
    before = _case_in_use()
    scanned = _run("scan", *places, *who, *_hints(answers), *case)
    if scanned not in (0, 3):
        return scanned
    path = case[1] if case else _case_in_use()
    if path is None or path == before:
        # Kept in memory only: what follows would go on in an older case, another customer's perhaps.
        raise WrongUsage(
            "the case of this search could not be kept",
            None,
            "Do the steps alone: rustfern scan ROOT --case FILE, then look and restore with the same --case FILE",
        )
    _remember(answers, path)
    try:
        number = _first(path, answers)
    except NotFound as error:
        if not asks:
            raise
        _say(str(error), _CARE)
        _run("look", *case)
        number = ""
    if number is None:
        return 1
    if number and _run("look", number, *case) not in (0, 3):
        return 1
    restored = os.path.join(answers.target, "restored")
    if not asks or yes:
        return _run("restore", number, "--to", restored, *case)
    status = _restore_asked(number, restored, case)
    if status not in (0, 3):
        return status if status is not None else 0
    page = os.path.join(answers.target, "report.html")
    _say("\n" + _("A page for the customer, in plain words?"))
    if _yes(_("Write it"), default=True):
        spoken = ["--language", _words().code] if _words().code != ENGLISH else []
        _run("report", "--to", page, *spoken, *case)
    _offer_protection(answers, who)
    return status


def _offer_protection(answers: _Answers, who: Sequence[str]) -> None:
    """What a crash can still cost the person as their programs are set, and the command that sets what would have saved the work."""
    from rustfern.operations.protect import survey
    from rustfern.reports.customer import worst as in_words
    from rustfern.settings.advice import worst_cases

    try:
        found = survey(answers.roots or None, answers.person, session=this_run().session)
    except RustFernError:
        return  # nobody's home is there: nothing is to be said of settings
    if not any(row.counts for row in found.rows):
        return
    _say("\n" + _("So that it does not happen again"))
    names = {home.path: show_name(home.person) for home in found.homes}
    for path, text in worst_cases(found.rows).items():
        _say(
            "   "
            + _(
                "{person}, as it is set now, a crash costs at worst: {text}",
                person=names[path],
                text=in_words(text, _words()),
            ),
            "",
        )
    _say(f"   rustfern {shlex.join(['protect', *answers.roots, *who])}", _SHOWN)
    _say("   " + _("shows what would have saved it; with --apply it is set, and --undo takes it back"), "")


def _stopped() -> int:
    _say(_("Stopped here. Run rustfern guide again, or go on with the commands that were shown."))
    return 0


def _restore_asked(number: str, target: str, case: list[str]) -> int | None:
    """Restore what the technician names, asked again until something fits; None if nothing is wanted."""
    asked = N_("Number, id of a copy, or name of what is restored (Enter: see the list; ?: the list; 0: none)")
    if number:
        asked = N_("Number, id of a copy, or name of what is restored (Enter: this one; ?: the list; 0: none)")
    while True:
        _say("\n" + (_("Is that it?") if number else _("Which is it?")))
        said = _text(_(asked), number)
        if said == "0":
            return None
        if number and said.casefold() in ("y", "yes", _("yes")):
            said = number
        if said.casefold() in ("", "?", "n", "no", _("no")):
            _run("look", *case)
            continue
        status = _run("restore", *(shlex.split(said) if _is_list(said) else [said]), "--to", target, *case)
        if status not in (1, 2):
            return status


def _is_list(said: str) -> bool:
    """Whether several numbers or ids were named."""
    return all(each[:1].isdigit() for each in said.split())


def _own_case(answers: _Answers) -> list[str]:
    """A case beside what is restored, where the usual folder of the cases lies in what is searched."""
    door = this_run().session.sources
    roots = [door.real_path(root) for root in answers.roots or live_roots(door)]
    if not state_is_inside(roots):
        return []
    stamp = f"{datetime.now(UTC):%Y%m%d-%H%M%S}"
    return ["--case", os.path.join(answers.target, f"case-{stamp}.fern")]


def _case_in_use() -> str | None:
    try:
        return case_in_use()
    except CaseError:
        return None


def _hints(answers: _Answers) -> list[str]:
    out = []
    for name, value in (
        ("--document", answers.document),
        ("--happened", None if answers.happened == "unknown" else answers.happened),
        ("--words", answers.words),
        ("--class", answers.doc_class),
        ("--lost-at", f"{answers.lost_at:%Y-%m-%d %H:%M}" if answers.lost_at else None),
    ):
        if value:
            out += [name, value]
    return out


def _remember(answers: _Answers, case: str) -> None:
    """Note what the person told that no hint holds."""
    told = [f"told: {_SITUATIONS[answers.happened]}", "still open" if answers.still_open else "not open any more"]
    told += [f"since then: {_SINCE[each]}" for each in answers.since]
    try:
        manage.annotate(case, "; ".join(told))
    except CaseError:
        return


def _first(case: str, answers: _Answers) -> str | None:
    """The document that the search puts first, if it fits the name that was told: what was not asked for is never restored."""
    file = CaseFile.open(case)
    try:
        lost = [document for document in file.documents() if document.is_lost]
    finally:
        file.close()
    if answers.document:
        fitting = [d for d in lost if fits(answers.document, d.name, d.original)]
        if lost and not fitting:
            others = "; ".join(f"{d.id}  {show_name(d.name)}" for d in lost[:8])
            raise NotFound(
                f"no lost document is called {show_name(answers.document)}, so nothing was restored", None,
                f"Lost documents found: {others}. Restore one by its number: rustfern restore NUMBER --to DIR",
            )  # fmt: skip
        lost = fitting
    # A new case numbers its documents in the order in which the search puts them.
    return str(lost[0].id) if lost else None
