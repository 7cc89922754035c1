"""What is at risk in each program of each person, what to set, and setting it: the one command that writes into a home."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress

import msgspec

from rustfern.cases import changes
from rustfern.cases.case_file import CaseFile, roots_of
from rustfern.cases.changes import Change, ChangedSetting
from rustfern.cases.location import case_in_use, case_paths, open_existing
from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import CaseError, NotFound, WrongUsage
from rustfern.core.model import Home, Problem
from rustfern.core.paths import inside, show_name
from rustfern.core.remarks import counted
from rustfern.operations.look_around import look_around
from rustfern.operations.protection import protections_of
from rustfern.operations.session import Session, open_case
from rustfern.operations.targets import check_target, size_of, write_new
from rustfern.settings import change as setting
from rustfern.settings import stores
from rustfern.settings.change import NotChanged
from rustfern.settings.protection import EVERY_MINUTES, Protection
from rustfern.settings.rewrite import FORMS
from rustfern.settings.wording import in_words
from rustfern.settings.writers import registry_text
from rustfern.settings.writers.interface import Wanted
from rustfern.sources import live_machine


class Refused(msgspec.Struct, frozen=True):
    """Settings that were not changed: their ids, the person, the file, and why."""

    settings: tuple[str, ...]
    person: str
    file: str
    message: str


class Survey(msgspec.Struct, frozen=True):
    """The settings of all programs of all people that were asked for; `live` as in `Readiness`."""

    roots: tuple[str, ...]
    live: bool
    homes: tuple[Home, ...]
    rows: tuple[Protection, ...]
    problems: tuple[Problem, ...]
    every_minutes: int


class Wish(msgspec.Struct, frozen=True):
    """How changes are made: in which case, who agreed, where files to open are written, whether unrestored documents are passed over."""

    case: str | None = None
    consent: str = ""
    target: str | None = None
    even_unrestored: bool = False


class Planned(msgspec.Struct, frozen=True):
    """What would be written into one file, or through one program of the system."""

    home: Home
    program: str
    form: str
    file: str
    rows: tuple[Protection, ...]
    new_text: str

    @property
    def wanted(self) -> list[Wanted]:
        """All values to set."""
        return [each for row in self.rows for each in row.changes]


class Outcome(msgspec.Struct, frozen=True):
    """What was done: the rows that were set, the changes of the journal, the files to open (by home), what was refused, the case."""

    done: tuple[Protection, ...]
    changes: tuple[Change, ...]
    written: dict[str, str]
    refused: tuple[Refused, ...]
    case: str | None


def survey(
    roots: Sequence[str] | None = None,
    person: str | None = None,
    every_minutes: int = EVERY_MINUTES,
    session: Session | None = None,
) -> Survey:
    """Look at the settings of each person's programs, reading only. Raises `WrongUsage`, or `SourceError` for a root that cannot be read."""
    around = look_around(session or Session(), roots, person)
    if not around.homes:
        where = around.tops[0] if around.tops else None
        raise NotFound("nobody's home was found there", where, "Name the folder of the person, or of the whole disk")
    rows = protections_of(around.search, every_minutes, own=around.own, look_around=True)
    return Survey(
        tuple(around.tops), around.live, tuple(around.homes), tuple(rows), tuple(dict.fromkeys(around.problems)), every_minutes
    )  # fmt: skip


# --- what would be written ----------------------------------------------------------------------------------------------


def plan(found: Survey) -> list[Planned]:
    """What would be written, file by file."""
    by_file: dict[tuple[str, str, str, str], list[Protection]] = {}
    for row in found.rows:
        if row.how == "write" and row.is_better and row.changes and row.file is not None:
            # Several programs share what the system keeps for them; each is changed alone there.
            whose = row.program.program if row.form in stores.FORMS else ""
            by_file.setdefault((row.home.path, row.form, row.file, whose), []).append(row)
    return [
        Planned(rows[0].home, rows[0].program.program, form, file, tuple(rows), rows[0].program.new_text)
        for (_, form, file, _), rows in by_file.items()
    ]


def to_open(found: Survey) -> dict[str, list[Protection]]:
    """The settings of each home (by its path) that a file for the person to open sets."""
    out: dict[str, list[Protection]] = {}
    for row in found.rows:
        if row.how == "file" and row.is_better and row.changes:
            out.setdefault(row.home.path, []).append(row)
    return out


def why_not(planned: Planned, found: Survey, wish: Wish, session: Session, case: CaseFile | None) -> str | None:
    """Why a file must not be written now, and what to do; None if it may."""
    home = planned.home
    if not session.sources.may_be_written(home.path):
        return "it lies in an image or archive, which is never written: do it by hand on the person's own machine"
    if session.sources.health.failing() or any(
        "disk returned several errors" in each.message for each in found.problems
    ):
        return "this disk returns errors: nothing is written onto it; copy it first"
    running = live_machine.running_for(planned.rows[0].program.processes, home.path, is_live=found.live)
    if running:
        return (
            f"{running} is running, and would write over it when it ends: have the person close it, then run this again"
        )
    whose = live_machine.whose(home.path)
    agreed = wish.consent or str((case.about("consent") if case is not None else "") or "")
    if whose != "own" and not agreed:
        who = "this is another person's account" if whose == "other" else "whose account this is cannot be told"
        return f'{who}: note who agreed, and when, with --consent "NAME, by phone, 12 March"'
    if not wish.even_unrestored and (left := _unrestored(home)):
        return (
            f"{counted(left, 'document')} found lost there {'is' if left == 1 else 'are'} not restored yet, and writing can destroy what could "
            "still be saved: restore first, or add --even-unrestored"
        )
    return None


def _unrestored(home: Home) -> int:
    """Lost documents of the newest search of a home that have a copy and were not restored."""
    for path in _cases_of([home.path]):
        with suppress(CaseError):
            case = CaseFile.open(path)
            try:
                if case.search() is None:
                    continue
                done = {ident.rstrip("abcdefghijklmnopqrstuvwxyz") for _, ident, _, _ in case.restored()}
                lost = [each for each in case.documents() if each.is_lost and each.best and not each.within]
                mine = [each for each in lost if not each.person or each.person == home.person]
                return sum(str(each.id) not in done for each in mine)
            finally:
                case.close()
    return 0


def _cases_of(paths: Sequence[str], *, changed: bool = False) -> list[str]:
    """Cases that searched around, or in, one of some folders (or `changed` settings there); that of this terminal first, then the newest."""
    first: list[str] = []
    with suppress(CaseError):
        first.append(case_in_use())
    found = []
    for path in dict.fromkeys([*first, *case_paths()]):
        with suppress(CaseError):
            case = CaseFile.open(path)
            try:
                roots = roots_of(case) + ([each.home for each in changes.changes(case)] if changed else [])
            finally:
                case.close()
            if any(inside(mine, root) or inside(root, mine) for mine in paths for root in roots):
                found.append(path)
    return found


# --- applying ---------------------------------------------------------------------------------------------------------


def apply(found: Survey, wish: Wish, session: Session, chosen: Sequence[Planned]) -> Outcome:
    """Change the files that were planned, each whole or not at all. Raises `CaseError` or `WrongUsage` where no journal can be kept."""
    case = _case_for(found, wish)
    refused: list[Refused] = []
    done: list[Protection] = []
    changed: list[Change] = []
    try:
        if wish.consent:
            with case.writing():
                case.keep_about(consent=wish.consent)
        for each in chosen:
            try:
                if reason := why_not(each, found, wish, session, case):
                    raise NotChanged(reason)
                changed.append(_apply_one(case, each))
                done += each.rows
            except NotChanged as error:
                refused.append(_refused(each.rows, each.file, str(error)))
        written = {}
        for home, rows in to_open(found).items():
            target = _file_to_open(case, rows[0].home, wish, found.roots)
            write_new(target, registry_text.write([each for row in rows for each in row.changes]), "file", found.roots)
            written[home] = target
        return Outcome(tuple(done), tuple(changed), written, tuple(refused), case.path)
    finally:
        case.close()


def _refused(rows: Sequence[Protection], file: str, message: str) -> Refused:
    return Refused(tuple(row.setting.id for row in rows), rows[0].home.person, file, message)


def _case_for(found: Survey, wish: Wish) -> CaseFile:
    """The case that gets the journal: the one named, else the newest of these people, else a new one; never one in memory only."""
    if wish.case is None:
        for path in _cases_of([home.path for home in found.homes], changed=True):
            with suppress(CaseError):
                return open_existing(path)
    elif size_of(wish.case) is not None:
        return open_existing(wish.case)
    # The journal has to be there after a restart too: for one's own home it lies in the usual folder, which is in that home.
    case, _ = open_case(
        wish.case, () if all(live_machine.whose(home.path) == "own" for home in found.homes) else found.roots
    )
    if case.path is None:
        case.close()
        raise WrongUsage(
            "no case file can be kept, and without its journal nothing could be undone",
            None,
            "Name one elsewhere with --case FILE",
        )
    with case.writing():
        # Nothing was searched into it: it does not stand in the way of what is written into these folders.
        case.keep_about(roots=[], live=found.live)
    return case


def _apply_one(case: CaseFile, planned: Planned) -> Change:
    """Raises `NotChanged`."""
    settings = tuple(
        ChangedSetting(
            setting=row.setting.id,
            what=row.setting.what,
            before=in_words(row, row.now),
            after=in_words(row, row.wanted),
        )
        for row in planned.rows
    )
    change = Change(
        number=0, at="", state=changes.PLANNED, person=planned.home.person, program=planned.program, form=planned.form,
        file=planned.file, settings=settings, home=planned.home.path,
    )  # fmt: skip
    store = stores.store_for(planned.form)
    if store is not None:
        if live_machine.whose(planned.home.path) != "own" or not live_machine.is_own_home(planned.home.path):
            raise NotChanged(
                "only the system itself changes this, while the person is signed in: run it in their session, or do the steps"
            )
        stored_as = {row.setting.name: row.setting.stored_as for row in planned.rows}
        return stores.apply(case, change, store, planned.wanted, stored_as)
    if planned.form not in FORMS:
        raise NotChanged("its form is not written here: do the steps by hand")
    return setting.apply(case, change, planned.home.path, planned.new_text, planned.wanted)


def _file_to_open(case: CaseFile, home: Home, wish: Wish, roots: Sequence[str]) -> str:
    """Where the file is written that a person opens: in the folder asked for, else beside the case; under a name that is free."""
    folder = check_target(wish.target, roots) if wish.target else os.path.dirname(os.path.abspath(case.path or "."))
    person = "".join(letter if letter.isalnum() or letter in "-_." else "-" for letter in home.person)
    stem = os.path.join(folder, f"protect-{person}")
    number, target = 1, f"{stem}.reg"
    while size_of(target) is not None:
        number += 1
        target = f"{stem}-{number}.reg"
    return target


# --- undoing ----------------------------------------------------------------------------------------------------------


def undo(roots: Sequence[str] | None, person: str | None, wish: Wish, session: Session) -> Outcome:
    """Bring back what the last changes of these people replaced, the last first. Raises `NotFound` where no journal holds any."""
    door = session.sources
    tops = [door.real_path(root) for root in roots] if roots else []
    paths = [wish.case] if wish.case else _cases_of(tops or [door.real_path(os.path.expanduser("~"))], changed=True)
    if not tops and wish.case is None:
        with suppress(CaseError):
            paths = list(dict.fromkeys([*paths, case_in_use()]))
    for path in paths:
        case = open_existing(path)
        try:
            mine = [
                each for each in changes.changes(case, (changes.PLANNED, changes.DONE)) if _is_meant(each, tops, person)
            ]
            if mine:
                return _undo_all(case, mine, session)
        finally:
            case.close()
    where = f" of {show_name(person)}" if person else ""
    raise NotFound(
        f"no change of settings{where} is in the journal",
        None,
        "Name the case that holds it with --case FILE: rustfern cases",
    )


def _is_meant(change: Change, tops: Sequence[str], person: str | None) -> bool:
    if person is not None and person.casefold() not in change.person.casefold():
        return False
    return not tops or any(inside(change.file, top) for top in tops)


def _undo_all(case: CaseFile, mine: Sequence[Change], session: Session) -> Outcome:
    done, refused = [], []
    for each in reversed(mine):
        ids = tuple(told.setting for told in each.settings)
        try:
            processes = [
                name
                for program in catalogue().protected
                if program.program == each.program
                for name in program.processes
            ]
            home = each.home or os.path.dirname(each.file)
            if running := live_machine.running_for(processes, home, is_live=live_machine.is_in_use(home)):
                raise NotChanged(
                    f"{running} is running, and would write over it when it ends: have the person close it first"
                )
            store = stores.store_for(each.form)
            if store is not None:
                stored = {
                    s.name: s.stored_as for program in catalogue().protected for s in program.settings if s.stored_as
                }
                done.append(stores.undo(case, each, store, stored))
            else:
                done.append(setting.undo(case, each, home))
        except NotChanged as error:
            refused.append(Refused(ids, each.person, each.file, str(error)))
    return Outcome((), tuple(done), {}, tuple(refused), case.path)
