"""A search of the live machine: what is searched, which documents are open now, what was written moments ago."""

from __future__ import annotations

import os

from msgspec.structs import replace

from rustfern.catalogue.loader import Catalogue
from rustfern.core.model import Document, Lock
from rustfern.core.paths import inside
from rustfern.core.remarks import About, Notice
from rustfern.core.times import Clock
from rustfern.output.temporary import usual_folder
from rustfern.sources import live_machine
from rustfern.sources.registry import Sources

_WRITTEN_AT_WORK = frozenset({"autosave", "swap", "temporary", "backup"})
"""Kinds of copies that a program writes while somebody works; what lies in a trash was put there."""
_RECENT_SECONDS = 120


def live_roots(door: Sources) -> list[str]:
    """What is searched without any ROOT: this person's home (with its trash) and the temporary folders."""
    roots = [door.real_path(os.path.expanduser("~"))]
    for folder in (usual_folder(), "/tmp", "/var/tmp"):
        path = door.real_path(folder)
        if door.is_folder(path) and path not in roots and not any(inside(path, root) for root in roots):
            roots.append(path)
    return roots


def mark_open_documents(
    documents: list[Document], places: Catalogue, clock: Clock
) -> tuple[list[Document], list[Notice]]:
    """On the live machine: which documents are open now, and which copies were written moments ago."""
    notices: list[Notice] = []
    host = live_machine.machine_name()
    programs: set[str] | None = None
    out = []
    held = live_machine.held_open([copy.path for document in documents for copy in document.copies])
    moment = live_machine.now().timestamp()
    for document in documents:
        locks: list[Lock] = []
        for lock in document.locks:
            processes = {name.casefold() for name in places.places[lock.place].processes}
            here = lock.host is None or lock.host.split(".")[0].casefold() == host
            if here and processes:
                programs = live_machine.running_programs() if programs is None else programs
                lock = replace(lock, live=bool(processes & programs))
            else:
                lock = replace(lock, live=False if here else None)
            locks.append(lock)
        users = {held[copy.path] for copy in document.copies if copy.path in held}
        if users or any(lock.live for lock in locks):
            who = " and ".join(sorted(users)) or "its program"
            autosaves = [
                c.clocks["file"] for c in document.copies if c.kind in ("autosave", "swap") and "file" in c.clocks
            ]
            last = (
                f"last autosave {live_machine.ago(max(autosaves), clock)}"
                if autosaves
                else "no autosave of it found yet"
            )
            notices.append(Notice(kind=About.OPEN_HERE, names=(document.name, who), text=last))
        gone = next((c for c in document.copies if c.place == "held-open"), None)
        if gone is not None:
            notices.append(Notice(kind=About.DELETED_BUT_OPEN, names=(document.name,), text=gone.evidence[0].text))
        fresh = [
            c
            for c in document.copies
            if c.kind in _WRITTEN_AT_WORK
            and c is not gone
            and c.clocks.get("file")
            and 0 <= moment - c.clocks["file"].timestamp() < _RECENT_SECONDS
        ]
        if fresh and not users:
            notices.append(Notice(kind=About.WRITTEN_JUST_NOW, names=(os.path.basename(fresh[0].path),)))
        out.append(replace(document, locks=tuple(locks)))
    return out, sorted(notices, key=lambda notice: notice.kind is About.WRITTEN_JUST_NOW)
