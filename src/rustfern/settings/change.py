"""Changing a person's settings files, and taking it back: the only thing that writes into a home.

The order keeps every moment undoable: the journal in the case holds the old bytes before the old file is laid beside, and that before the
new one takes its place in one step.
"""

from __future__ import annotations

import contextlib
import difflib
import os
from collections.abc import Sequence

from msgspec.structs import replace

from rustfern.cases import changes
from rustfern.cases.case_file import CaseFile
from rustfern.cases.changes import Change, ChangedSetting
from rustfern.core.errors import Malformed, explain
from rustfern.output import rewrite as files
from rustfern.settings.rewrite import is_same, last_of, rewritten, values_in
from rustfern.settings.text import decoded
from rustfern.settings.writers.interface import MAX_BYTES, CannotWrite, Wanted

_MOST_SHOWN = 12


class NotChanged(Exception):
    """A file that was left as it was, with the reason in words."""


def _see_inside(path: str, home: str) -> None:
    """See that no link on the way leads out of a home. Raises `NotChanged`."""
    if files.leads_out(path, home):
        raise NotChanged("a link on the way leads out of the person's home")


def apply(case: CaseFile, change: Change, home: str, new_text: str, wanted: Sequence[Wanted]) -> Change:
    """Write one settings file. `change` says whose it is and what changes, `new_text` what a file begins with that is not there yet.

    Raises `NotChanged` with the file as it was, `CaseError` where the journal cannot be written (then nothing is).
    """
    path = change.file
    try:
        _see_inside(path, home)
        was = files.read_now(path, MAX_BYTES)
        before = was.data if was.data is not None else new_text.encode()
        after = rewritten(change.form, before, path, wanted)
    except (CannotWrite, files.Unchanged) as error:
        raise NotChanged(str(error)) from error
    except OSError as error:
        raise NotChanged(f"it cannot be read ({explain(error)})") from error
    if after == was.data:
        return replace(change, state=changes.DONE)
    change = replace(
        change, before=was.data, after=after, mode=was.mode, modified_ns=was.modified_ns, made=tuple(files.missing_folders(path)), kept=None if was.data is None else files.kept_name(path),
    )  # fmt: skip
    change = changes.begin(case, change)
    try:
        files.make_folders_like(path)
        if was.data is not None and change.kept is not None:
            files.keep_beside(path, change.kept, was.data)
        files.replace(path, after, was)
        _check(change, path, wanted)
    except (files.Unchanged, OSError, CannotWrite) as error:
        why = str(error) if not isinstance(error, OSError) else f"it cannot be written ({explain(error)})"
        _take_back(case, change, path)
        raise NotChanged(why) from error
    changes.set_state(case, change.number, changes.DONE)
    return replace(change, state=changes.DONE)


def _check(change: Change, path: str, wanted: Sequence[Wanted]) -> None:
    """Read the settings back from the disk. Raises `CannotWrite`, `OSError`."""
    now = files.read_now(path, MAX_BYTES)
    if now.data != change.after:
        raise CannotWrite("what was written does not read back the same: the disk may be failing")
    try:
        values = values_in(change.form, now.data, path)
    except Malformed as error:
        raise CannotWrite(f"what was written does not read back ({error})") from error
    for each in wanted:
        told = last_of(values, "" if change.form == "pairs" else each.key, each.name)
        if told is None or not is_same(told.value, each.value):
            raise CannotWrite(f"{each.name} does not read back as {each.value}")


def _take_back(case: CaseFile, change: Change, path: str) -> None:
    """Have all as it was after a change that failed, as far as it can be; the journal says what became of it."""
    with contextlib.suppress(OSError, files.Unchanged):
        now = files.read_now(path, MAX_BYTES)
        if now.data == change.after and change.before is not None:
            files.replace(path, change.before, now, change.modified_ns)
        elif now.data == change.after:
            files.remove(path, change.after)
        _clear(change)
        changes.set_state(case, change.number, changes.NOT_DONE)


def _clear(change: Change) -> None:
    """Remove what was laid beside a file, and folders that were made for it."""
    files.clean_beside(change.file)
    if change.kept is not None and change.before is not None:
        with contextlib.suppress(OSError, files.Unchanged):
            files.remove(change.kept, change.before)
    files.remove_folders(change.made)


def undo(case: CaseFile, change: Change, home: str | None = None) -> Change:
    """Bring back exactly what was. Raises `NotChanged`, with the difference, where the file is neither what was written nor what was before."""
    path = change.file
    try:
        _see_inside(path, home or os.path.dirname(path))
        now = files.read_now(path, max(MAX_BYTES, len(change.after)))
        if now.data != change.before and now.data != change.after:
            raise NotChanged("it was changed since: " + difference(change, now.data))
        if now.data != change.before and change.before is not None:
            files.replace(path, change.before, now, change.modified_ns)
        elif now.data != change.before:
            files.remove(path, change.after)
        _clear(change)
    except files.Unchanged as error:
        raise NotChanged(str(error)) from error
    except OSError as error:
        raise NotChanged(f"it cannot be written ({explain(error)})") from error
    changes.set_state(case, change.number, changes.UNDONE)
    return replace(change, state=changes.UNDONE)


def difference(change: Change, now: bytes | None) -> str:
    """What differs between a file as it was written and as it is now, in lines."""
    if now is None:
        return "it is gone"
    if b"\0" in now or b"\0" in change.after:
        return f"it has {len(now)} bytes now, {len(change.after)} were written"
    old, new = decoded(change.after).text.splitlines(), decoded(now).text.splitlines()
    rows = [row for row in difflib.unified_diff(old, new, lineterm="", n=0) if row[:2] not in ("--", "++", "@@")]
    more = f"; and {len(rows) - _MOST_SHOWN} more lines" if len(rows) > _MOST_SHOWN else ""
    return "; ".join(row[:200] for row in rows[:_MOST_SHOWN]) + more


__all__ = ["Change", "ChangedSetting", "NotChanged", "apply", "difference", "undo"]
