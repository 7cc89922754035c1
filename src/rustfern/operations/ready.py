"""The first second of a job: whose machine or disk it is, what is running, what was set, what not to do. Reads only."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta

import msgspec

from rustfern.catalogue.loader import catalogue
from rustfern.core.errors import RustFernError
from rustfern.core.model import Home, Problem, SearchedDisk
from rustfern.core.times import Clock
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS, extension_of
from rustfern.operations.look_around import look_around
from rustfern.operations.protection import protections_of
from rustfern.operations.session import Session
from rustfern.operations.targets import nearest_folder, same_volume
from rustfern.search.homes import is_temporary_profile
from rustfern.settings.advice import Advice, advice_from, worst_cases
from rustfern.sources import live_machine
from rustfern.sources.registry import Sources

_AHEAD = timedelta(minutes=10)
_HIBERNATED = (b"hibr", b"HIBR", b"wake", b"WAKE", b"RSTR")
_ENCRYPTED_HOME = (".ecryptfs", "Access-Your-Private-Data.desktop", ".encfs6.xml", "gocryptfs.conf")
_OLDEST = datetime.fromisoformat("2024-01-01T00:00:00+00:00")


class Program(msgspec.Struct, frozen=True):
    """A running program that keeps autosaves: its process ids, what it has open, when it last autosaved."""

    name: str
    pids: tuple[int, ...]
    documents: tuple[str, ...]
    last_autosave: datetime | None


class Readiness(msgspec.Struct, frozen=True):
    """All that the first second tells. `first` and `never` are for the technician, in order; sizes in bytes."""

    roots: tuple[str, ...]
    live: bool
    homes: tuple[Home, ...]
    host: str | None
    zone: str | None
    clock: str | None
    programs: tuple[Program, ...]
    copies: int
    newest: datetime | None
    denied: tuple[str, ...]
    blocked: tuple[str, ...]
    outside: tuple[tuple[str, str], ...]
    advice: tuple[Advice, ...]
    at_worst: dict[str, str]
    free: int | None
    shared_with: str | None
    first: tuple[str, ...]
    never: tuple[str, ...]
    problems: tuple[Problem, ...]
    disks: tuple[SearchedDisk, ...] = ()


def ready(
    roots: Sequence[str] | None = None,
    person: str | None = None,
    target: str | None = None,
    session: Session | None = None,
) -> Readiness:
    """Look around without walking the tree. Raises `WrongUsage`, or `SourceError` for a root that cannot be read."""
    session = session or Session()
    around = look_around(session, roots, person)
    tops, own, live, homes, search, problems = (
        around.tops,
        around.own,
        around.live,
        around.homes,
        around.search,
        around.problems,
    )
    disks = tuple(disk for top in tops if (disk := session.sources.told_disk(top)) is not None)
    short = [
        find for find in search.finds if catalogue().places[find.place].lifetime_rank < 3 and find.kind != "record"
    ]
    times = [find.entry.modified for find in short if find.entry.modified]
    newest = max(times, default=None)
    denied = sorted({s.path for s in search.searched if s.status == "denied"} | _denied_homes(homes, problems))
    outside = sorted({(s.path, s.by) for s in search.searched if s.status in ("outside", "offline", "not-mounted")})
    programs = _programs(short) if live else ()
    zones = sorted({told.text for told in search.settings.of("zone")})
    hosts = sorted({told.text for told in search.settings.of("host")})
    blocked = [*_blocked(session.sources, tops, homes), *live_machine.locked_disks()]
    blocked += [
        f"{top} is in use now, mounted at {', '.join(at)}" for top in tops if (at := session.sources.mounted_at(top))
    ]
    blocked += [
        f"{disk.path}/{each.name}: {each.message}"
        for disk in disks
        for each in disk.volumes
        if each.status in ("encrypted", "damaged")
    ]
    free = _free(target) if target else None
    shared = same_volume(target, tops) if target else None
    clock = _clock(newest, session.clock, live=live)
    rows = protections_of(search, own=own)
    first, never = _checklist(
        live=live,
        programs=programs,
        copies=len(short),
        denied=denied,
        blocked=blocked,
        outside=outside,
        homes=homes,
        disks=disks,
    )
    return Readiness(
        tuple(tops), live, tuple(homes), live_machine.machine_name() if own else ", ".join(hosts) or None,
        live_machine.local_zone_name() if own else ", ".join(zones) or None, clock, programs, len(short), newest, tuple(denied),
        tuple(blocked), tuple(outside), tuple(advice_from(rows)), worst_cases(rows), free, shared, first, never, tuple(dict.fromkeys(problems)),
        disks,
    )  # fmt: skip


def _denied_homes(homes: Iterable[Home], problems: Iterable[Problem]) -> set[str]:
    paths = {home.path for home in homes}
    return {problem.path for problem in problems if problem.path in paths}


def _clock(newest: datetime | None, clock: Clock, *, live: bool) -> str | None:
    """What is plainly wrong with a clock: files from the future, or a machine that lives before this program did."""
    now = live_machine.now()
    if now < _OLDEST:
        return f"this machine's clock says {now:%Y-%m-%d %H:%M}: set it before anything is dated by it"
    if newest is not None and newest - now > _AHEAD:
        whose = "the clock was changed, or" if live else "the clock of that machine was ahead, or"
        return f"{whose} this one is behind: the newest copy is dated {clock.format_time(newest)}"
    return None


def _programs(short: Sequence[object]) -> tuple[Program, ...]:
    from rustfern.core.model import Find

    places = catalogue().places
    wanted: dict[str, str] = {}
    autosaves: dict[str, datetime] = {}
    for place in places.values():
        for process in place.processes:
            wanted[process.casefold()] = place.program
    for find in short:
        if isinstance(find, Find) and find.kind in ("autosave", "swap") and find.entry.modified:
            program = places[find.place].program
            autosaves[program] = max(find.entry.modified, autosaves.get(program, find.entry.modified))
    found: dict[str, tuple[list[int], list[str]]] = {}
    for each in live_machine.programs(wanted, _is_document):
        pids, documents = found.setdefault(wanted[each.name], ([], []))
        pids.append(each.pid)
        documents += each.documents
    return tuple(
        Program(name, tuple(pids), tuple(sorted(set(documents))), autosaves.get(name))
        for name, (pids, documents) in sorted(found.items())
    )


def _is_document(path: str) -> bool:
    return extension_of(os.path.basename(path)) in DOCUMENT_EXTENSIONS


def _blocked(door: Sources, tops: Iterable[str], homes: Iterable[Home]) -> list[str]:
    """Signs that a disk or home is hibernated or encrypted."""
    out = []
    for top in dict.fromkeys([*tops, *(home.volume for home in homes if home.volume)]):
        path = os.path.join(top, "hiberfil.sys")
        try:
            source = door.open(top)
            with source.open(source.entry(path)) as stream:
                if stream.read(4) in _HIBERNATED:
                    out.append(
                        f"{top}: Windows is hibernated on it, perhaps by a fast start. Attach it read-only, or shut Windows down fully"
                    )
        except (RustFernError, OSError):
            continue  # no such file, or not ours to read
    for home in homes:
        if any(door.exists(os.path.join(home.path, name)) for name in _ENCRYPTED_HOME):
            out.append(f"{home.path}: this home is encrypted: it shows its files only while the person is signed in")
        if is_temporary_profile(home):
            out.append(
                f"{home.path}: a temporary profile: what was saved there is lost at sign-out; look in it for misplaced work"
            )
    return out


def _free(target: str) -> int | None:
    try:
        return shutil.disk_usage(nearest_folder(target)).free
    except OSError:
        return None


def _checklist(
    *,
    live: bool,
    programs: Sequence[Program],
    copies: int,
    denied: Sequence[str],
    blocked: Sequence[str],
    outside: Sequence[tuple[str, str]],
    homes: Sequence[Home],
    disks: Sequence[SearchedDisk] = (),
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What to do first, and what not to do; short, in order."""
    first = []
    if live and any(program.documents or program.last_autosave for program in programs):
        first.append("leave the open programs as they are; save what still answers under a NEW name, on another disk")
    if live:
        first.append("pause sync services, so that they do not overwrite or delete copies")
    if blocked:
        first.append("unlock or wake the disk as said above, read-only")
    if denied:
        first.append("get the right to read the folders above (administrator, or the person signs in)")
    if outside:
        first.append("ask for the disks, sticks or shares above")
    if copies:
        first.append("keep the short-lived copies before anything else runs")
    if any(disk.container == "device" for disk in disks):
        first.append(
            "if it reads slowly or makes noises, copy it whole before anything else is read from it, and search the image"
        )
    if not homes and any(each.status == "read" for disk in disks for each in disk.volumes):
        first.append("nobody's home is on it: its documents, and what was deleted, are searched all the same")
    elif not homes and any(disk.volumes for disk in disks):
        first.append("no volume of it can be read here: do what is said beside each")
    elif not homes:
        first.append("nobody's home was found here: name the folder of the person or of the whole disk")
    never = (
        ("close or end programs", "sign out, restart or shut down", "clean up, empty the trash, install or update")
        if live
        else ("write onto this disk", "let the system check or repair it", "start a system from it")
    )
    return tuple(first), never
