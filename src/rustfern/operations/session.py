"""What a search begins with: which folders, whose homes, and the case file."""

from __future__ import annotations

import os
from collections.abc import Sequence

import msgspec
from msgspec.structs import replace

from rustfern.cases.case_file import CaseFile
from rustfern.cases.location import (
    VARIABLE,
    case_folder,
    is_case_folder,
    new_case_path,
    roots_of_recent_cases,
    runtime_folders,
    state_folder,
)
from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import CaseError, SourceError, WrongUsage
from rustfern.core.model import Hints, Home
from rustfern.core.observer import Observer, Silent
from rustfern.core.paths import show_name
from rustfern.core.remarks import About, Notice
from rustfern.core.remote_paths import is_remote
from rustfern.core.times import Clock
from rustfern.operations.live import live_roots
from rustfern.output.inside import Roots, real_path
from rustfern.output.temporary import usual_folder
from rustfern.search.dated_roots import DatedRoots
from rustfern.search.homes import find_homes, is_of_people, own_home
from rustfern.sources.disk_health import ADVICE, Health
from rustfern.sources.interface import OnProblem, Source
from rustfern.sources.kept_folder import MANIFEST, KeptFolder, is_kept, read_head, why_not_whole
from rustfern.sources.registry import Sources, is_searched_file

_PACKED = frozenset(
    {"tar", "tgz", "gz", "xz", "bz2", "zst", "zip", "7z", "img", "dd", "raw", "vhd", "vhdx", "vmdk", "qcow2"}
)
_MOST_BACKUPS = 400


class Session(msgspec.Struct):
    """What one piece of work has to itself: the sources that it reads (with their limits, the health of disks, what was read already, the
    scratch space), the clock by which it tells times, and who watches. Two of them can run in one process; one can be pickled.
    """

    sources: Sources = msgspec.field(default_factory=Sources)
    clock: Clock = msgspec.field(default_factory=Clock)
    observer: Observer = msgspec.field(default_factory=Silent)
    scheduler: str = ""
    """The address of a cluster that helps with what is large; empty: the cores of this machine do."""

    def __post_init__(self) -> None:
        self.sources.layouts = lambda: catalogue().services

    def __reduce__(self) -> tuple[type[Session], tuple[Sources, Clock]]:
        """What another process needs to know; nobody watches there."""
        return Session, (self.sources, self.clock)


def open_sources(session: Session, tops: Sequence[str], on_problem: OnProblem) -> list[Source]:
    """The sources of roots; what is wrong with one as a whole is said."""
    sources = [session.sources.open(top) for top in tops]
    for source in sources:
        if source.trouble:
            on_problem(source.root, source.trouble)
    return sources


def open_roots(
    session: Session, roots: Sequence[str] | None, on_problem: OnProblem | None = None, *, backups: bool = True
) -> tuple[list[str], list[KeptFolder]]:
    """The folders that are searched, each once; a folder that `keep` wrote stands for the roots that it was taken from, if it is whole:
    else it is searched as any other.

    With `backups` also what lies packed in a folder of them. Without roots: this person's own files. Raises `WrongUsage`, or `SourceError` for a root that cannot be read.
    """
    tops: list[str] = []
    kept: list[KeptFolder] = []
    door = session.sources
    for root in roots or live_roots(door):
        top = door.check_root(root)
        if roots and is_kept(top) and not (why := why_not_whole(top)):
            kept.append(read_head(top))
            tops += [door.check_root(each) for each in kept[-1].roots if door.is_folder(each)]
        else:
            if roots and is_kept(top) and on_problem:
                on_problem(
                    os.path.join(top, MANIFEST),
                    f"this list of kept files was not believed, and the folder searched as any other: {why}",
                )
            # What lies in a folder comes before it: a path belongs to the first that it lies in.
            packed, is_all = _backups_in(door, top) if roots and backups else ([], False)
            tops += packed if is_all else [*packed, top]
    return list(dict.fromkeys(tops)), kept


def _holds_disk(path: str) -> bool:
    # Most searches open no disk, and reading one takes long to load.
    from rustfern.sources.disks.disk import holds_disk

    return holds_disk(path)


def _backups_in(door: Sources, folder: str) -> tuple[list[str], bool]:
    """Images of disks, and archives of homes that carry a date, that lie in a folder of backups, and whether nothing else does: they are searched
    as if they were named. In somebody's home they are documents like others.
    """
    if is_remote(folder) or not door.may_be_written(folder):
        return [], False
    try:
        folders, files = door.open(folder).names(folder)
    except SourceError:
        return [], False
    if is_of_people(folders, files):
        return [], False
    found = []
    for path in (os.path.join(folder, name) for name in files if name.rpartition(".")[2].casefold() in _PACKED):
        tree = catalogue().tree_of(path.replace(os.sep, "/") + "/x/x")
        is_dated = tree is not None and "loose" in tree[1]
        if (door.is_disk(path) and _holds_disk(path)) or (
            is_dated and is_searched_file(path) and _holds_people(door, path)
        ):
            found.append(door.check_root(path))
    return found[:_MOST_BACKUPS], bool(found) and len(found) == len(files) and not folders


def _holds_people(door: Sources, archive: str) -> bool:
    """Whether an archive holds homes, at its top or in the one folder there."""
    try:
        source = door.open(archive)
        folders, files = source.names(archive)
        if len(folders) == 1 and not files and not is_of_people(folders, files):
            folders, files = source.names(os.path.join(archive, folders[0]))
    except SourceError:
        return False
    return is_of_people(folders, files)


def state_is_inside(roots: Sequence[str]) -> bool:
    """Whether the folder of the cases lies in what is searched: no case is kept there then."""
    return Roots(roots).hold(state_folder())


def set_scratch_outside(session: Session, roots: Sequence[str], on_problem: OnProblem | None = None) -> None:
    """Have private copies made outside of the roots; where that cannot be, say so. On the live machine memory is the last resort."""
    if session.sources.scratch.choose(roots, [state_folder(), *runtime_folders(), "/dev/shm"]) is None and on_problem:
        on_problem(
            session.sources.scratch.place(),
            "private copies are made here, in what is searched, for want of another place: set TMPDIR to a folder elsewhere",
        )


def set_scratch_outside_of(session: Session, paths: Sequence[str]) -> None:
    """The same for files that are looked at by their paths: nothing tells how far the tree reaches that they lie in, so it is taken to reach
    as far as the folder that they share with the usual place for private copies, unless that is the top of a file system.
    """
    usual = real_path(usual_folder())
    roots = roots_of_recent_cases()
    for path in paths:
        real = real_path(path)
        folder = real if session.sources.is_folder(real) else os.path.dirname(real)
        shared = (
            os.path.commonpath([folder, usual])
            if os.path.splitdrive(folder)[0] == os.path.splitdrive(usual)[0]
            else usual
        )
        roots.append(folder if shared == usual or os.path.ismount(shared) else shared)
    set_scratch_outside(session, roots)


def open_case(case: str | None, roots: Sequence[str]) -> tuple[CaseFile, list[Notice]]:
    """The case file of a scan, for this process alone: the one asked for, else a new one in a folder of ours, never inside what is searched.

    Raises `WrongUsage` or `CaseError` for one that cannot be used, or that another search works in.
    """
    if case is None and (named := os.environ.get(VARIABLE)):
        case = named
    if case is not None:
        path = os.path.abspath(case)
        recent = [] if is_case_folder(path) else roots_of_recent_cases()
        if Roots([*roots, *recent]).hold(path):
            raise WrongUsage(
                "the case file would lie inside what is searched", path, "Name one elsewhere with --case FILE"
            )
        return _alone(CaseFile.create(path)), []
    folder = case_folder(Roots(roots))
    if folder is None:
        why = (
            ", as its usual folder is among what is searched or cannot be written: name one elsewhere with --case FILE"
        )
        return CaseFile.create(None), [Notice(kind=About.CASE_IN_MEMORY, text=why)]
    try:
        return _alone(CaseFile.create(new_case_path(folder))), []
    except CaseError as error:
        return CaseFile.create(None), [Notice(kind=About.CASE_IN_MEMORY, text=f": {error}")]


def _alone(file: CaseFile) -> CaseFile:
    try:
        file.begin_work()
    except CaseError:
        file.close()
        raise
    return file


def find_people(
    session: Session,
    sources: Sequence[Source],
    live: bool,
    hints: Hints,
    on_problem: OnProblem,
    kept: Sequence[KeptFolder] = (),
    said: list[Notice] | None = None,
) -> tuple[list[Home], list[Home]]:
    """The homes that are searched (of the person asked for, else all), and the others; `kept` are the kept folders among the sources.
    A real name stands for the accounts in which it is found: `said` takes which, and where it stands.

    Raises `WrongUsage` if the person asked for has none. From here on, private copies are made outside of what is searched.
    """
    taken_from = [root for each in kept for root in each.taken_from]
    set_scratch_outside(session, [*(source.root for source in sources), *taken_from], None if live else on_problem)
    if live:
        home = own_home()
        return [replace(home, path=sources[0].root, root=sources[0].root)], []
    of_kept = [home for each in kept for home in each.homes]
    known = {home.root for home in of_kept}
    homes = [
        *of_kept,
        *(home for source in sources if source.root not in known for home in find_homes(source, on_problem)),
    ]
    # Homes inside snapshots are versions of homes; those of an old system hold what the new one never took over.
    dated = DatedRoots(catalogue(), sources)
    homes = [home for home in homes if not dated.is_of_versions(home.path)]
    if hints.person is None:
        return homes, []
    wanted = hints.person.casefold()
    chosen = [home for home in homes if home.person.casefold() == wanted] or [
        home for home in homes if wanted in home.person.casefold()
    ]
    if not chosen:
        from rustfern.operations.people import named_in

        told = named_in(session.sources, homes, hints.person, session.sources.scratch)
        chosen = [home for home in homes if home.path in told]
        if said is not None:
            said += [
                Notice(kind=About.PERSON_FOUND, names=(hints.person, home.person, told[home.path]), count=len(chosen))
                for home in chosen
            ]
    if not chosen:
        there = ", ".join(sorted({show_name(home.person) for home in homes}))
        further = f"There is: {there}" if there else "No person's home was found there at all: search without --person"
        raise WrongUsage(f"no home of {show_name(hints.person)} is in what is searched", None, further)
    return chosen, [home for home in homes if home not in chosen]


def health_notice(health: Health) -> Notice | None:
    """What a technician must know of a disk that fails, None if all is well."""
    if not health.failing():
        return None
    return Notice(kind=About.DISK_FAILING, count=sum(health.troubles.values()), names=(health.where,), text=ADVICE)


def own_folders(file: CaseFile) -> list[str]:
    """Our own files are never searched."""
    folders = [real_path(folder) for folder in (state_folder(), *runtime_folders())]
    return folders if file.path is None else [*folders, os.path.dirname(real_path(file.path))]
