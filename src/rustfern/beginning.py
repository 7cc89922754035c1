"""What a search begins with: which folders, whose homes, and the case file."""

from __future__ import annotations

import os
import stat
from collections.abc import Sequence
from dataclasses import replace

from rustfern import unfinished
from rustfern.alive import live_roots
from rustfern.casefile import CaseFile, new_case_path, state_folder
from rustfern.errors import CaseError, SourceError, WrongUsage
from rustfern.model import Hints, Home, show_name
from rustfern.places.homes import find_homes, own_home
from rustfern.places.loader import catalogue
from rustfern.places.recorded import inside
from rustfern.sources.folder import FolderSource, explain
from rustfern.sources.interface import OnProblem
from rustfern.sources.kept import KeptFolder, is_kept, read_head


def check_root(root: str) -> str:
    """A root in absolute form. Raises `WrongUsage` if it does not exist or is no folder, `SourceError` if denied."""
    path = os.path.abspath(root)
    try:
        mode = os.stat(path).st_mode
    except FileNotFoundError as error:
        raise WrongUsage(
            "there is nothing at this path", path, "Name the folder or the attached disk to search"
        ) from error
    except (OSError, ValueError) as error:
        what = explain(error) if isinstance(error, OSError) else str(error)
        raise SourceError(
            f"this cannot be read ({what})", path, "Ask for the right to read it, or attach a copy"
        ) from error
    if not stat.S_ISDIR(mode):
        raise WrongUsage(
            "this is a file; a folder is searched", path, f"Try its folder: {show_name(os.path.dirname(path))}"
        )
    try:
        with os.scandir(path):
            pass
    except OSError as error:
        raise SourceError(
            f"this folder cannot be listed ({explain(error)})", path, "Ask for the right to read it"
        ) from error
    return os.path.realpath(path)


def open_roots(roots: Sequence[str] | None) -> tuple[list[str], list[KeptFolder]]:
    """The folders that are searched, each once; a folder that `keep` wrote stands for the roots that it was taken from.

    Without roots: this person's own files. Raises `WrongUsage`, or `SourceError` for a root that cannot be read.
    """
    tops: list[str] = []
    kept: list[KeptFolder] = []
    for root in roots or live_roots():
        top = check_root(root)
        if roots and is_kept(top):
            kept.append(read_head(top))
            tops += [check_root(each) for each in kept[-1].roots if os.path.isdir(each)]
        else:
            tops.append(top)
    return list(dict.fromkeys(tops)), kept


def state_is_inside(roots: Sequence[str]) -> bool:
    """Whether the folder of the cases lies in what is searched: no case is kept there then."""
    return any(inside(os.path.realpath(state_folder()), root) for root in roots)


def copy_elsewhere(roots: Sequence[str], on_problem: OnProblem | None = None) -> None:
    """Have private copies made outside of the roots; where that cannot be, say so. On the live machine memory is the last resort."""
    if (
        unfinished.stay_out_of([os.path.realpath(root) for root in roots], [str(state_folder()), "/dev/shm"]) is None
        and on_problem
    ):
        on_problem(
            unfinished.place(),
            "private copies are made here, in what is searched, for want of another place: set TMPDIR to a folder elsewhere",
        )


def open_case(case: str | None, roots: Sequence[str]) -> tuple[CaseFile, list[str]]:
    """The case file of a scan: the one asked for, else a new one in the state folder, never inside what is searched."""
    notices: list[str] = []
    if case is not None:
        path = os.path.abspath(case)
        if any(inside(os.path.realpath(path), root) for root in roots):
            raise WrongUsage(
                "the case file would lie inside what is searched", path, "Name one elsewhere with --case FILE"
            )
        return CaseFile.create(path), notices
    if state_is_inside(roots):
        notices.append(
            "the case is kept in memory only, as its usual folder is among what is searched: name one elsewhere with --case FILE"
        )
        return CaseFile.create(None), notices
    try:
        return CaseFile.create(new_case_path()), notices
    except CaseError as error:
        notices.append(f"the case is kept in memory only: {error}")
        return CaseFile.create(None), notices


def find_people(
    sources: Sequence[FolderSource], live: bool, hints: Hints, on_problem: OnProblem, kept: Sequence[KeptFolder] = ()
) -> tuple[list[Home], list[Home]]:
    """The homes that are searched (of the person asked for, else all), and the others; `kept` are the kept folders among the sources.

    Raises `WrongUsage` if the person asked for has none. From here on, private copies are made outside of what is searched.
    """
    taken_from = [root for each in kept for root in each.taken_from]
    copy_elsewhere([*(source.root for source in sources), *taken_from], None if live else on_problem)
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
    homes = [
        home
        for home in homes
        if not (tree := catalogue().tree_of(home.path.replace(os.sep, "/") + "/x/x")) or tree[0].id == "old-system"
    ]
    if hints.person is None:
        return homes, []
    wanted = hints.person.casefold()
    chosen = [home for home in homes if home.person.casefold() == wanted] or [
        home for home in homes if wanted in home.person.casefold()
    ]
    if not chosen:
        there = ", ".join(sorted({show_name(home.person) for home in homes})) or "nobody's home was found"
        raise WrongUsage(f"no home of {show_name(hints.person)} is in what is searched", None, f"There is: {there}")
    return chosen, [home for home in homes if home not in chosen]


def own_folders(file: CaseFile) -> list[str]:
    """Our own files are never searched."""
    folders = [os.path.realpath(state_folder())]
    return folders if file.path is None else [*folders, os.path.dirname(os.path.realpath(file.path))]
