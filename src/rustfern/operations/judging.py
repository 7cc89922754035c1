"""One document as the answer gives it: its copies in order, the facts about it, and what the choice made of them."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import msgspec

from rustfern.core.model import Copy, Document, Hints, Kind, Searched, Situation, Verdict
from rustfern.core.paths import inside
from rustfern.core.remarks import Caution, Reason, Warn, Why
from rustfern.formats.format_table import class_of, extension_of, format_of_extension
from rustfern.matching.linker import Draft, Linker, not_judged
from rustfern.matching.state import where_to_ask
from rustfern.operations.titles import is_nameless, with_title
from rustfern.selection import choose, ranking

UNREACHED = ("offline", "locked", "encrypted", "online-only", "not-mounted", "outside")
_MAY_BE_ELSEWHERE = (Situation.CRASHED, Situation.NEVER_SAVED)


class Told(msgspec.Struct, frozen=True):
    """What judging a document rests on besides what was found of it: the person's words, what was not searched, how many folders of copies
    were, and whether they mean this one (`named`).
    """

    hints: Hints
    missing: Sequence[Searched]
    places: int
    thorough: bool
    named: bool = False


def judged(draft: Draft, linker: Linker, told: Told) -> Document:
    """The document of a draft; where choosing fails, it is listed as one that could not be judged, and the others are answered for."""
    known = list(draft.copies)
    try:
        return _document(draft, linker, told)
    except Exception as error:
        what = not_judged(error)
        path = draft.original or draft.key
        linker.state.problem(path, what)
        situation = (
            Situation.DELETED if draft.trashed else Situation.CRASHED if draft.original else Situation.NEVER_SAVED
        )
        verdict = Verdict(
            told.hints.happened or situation,
            None,
            (Reason(kind=Why.NOT_JUDGED, text=what),),
            (Warn(kind=Caution.NOT_JUDGED),),
        )
        name = format_of_extension(extension_of(draft.name))
        return Document(
            draft.key, draft.name, class_of(name), draft.original, bool(draft.original and linker.state.door.exists(draft.original)),
            draft.recorded, draft.home.person if draft.home else None, tuple(known), tuple(draft.locks), tuple(draft.records),
            verdict, {}, draft.within,
        )  # fmt: skip


def _document(draft: Draft, linker: Linker, told: Told) -> Document:
    hints, missing = told.hints, told.missing
    linker.copies.add_saved(draft)
    linker.recent_files.note_recent(draft)
    copies = sorted(choose.assign_times(draft.copies, linker.state.clock), key=_oldest_first)
    saved = next((i for i, copy in enumerate(copies) if copy.kind is Kind.SAVED), None)
    deleted = {i: draft.deleted[copy.path] for i, copy in enumerate(copies) if copy.path in draft.deleted}
    locks = [
        lock for lock in draft.locks if not lock.entry.deleted
    ]  # a deleted one shows a session that ended in order
    facts = choose.Facts(
        original=draft.original or draft.recorded,
        saved=saved,
        locked=bool(locks),
        listed=any(r.type == "recovery-list" and linker.state.door.exists(r.path) for r in draft.records),
        never_saved=draft.never_saved,
        changed=draft.changed,
        changed_since=draft.changed_since,
        trashed=draft.trashed,
        misplaced=draft.misplaced,
        misnamed=draft.misnamed,
        in_use=draft.in_use,
        opened_elsewhere={
            i for i, copy in enumerate(copies) if draft.misplaced and copy.path in linker.versions.opened
        },
        deleted=deleted,
        away=where_to_ask(draft.recorded) if draft.original is None and draft.recorded else None,
        denied=_of_home(draft, missing, ("denied",)),
        unreached=_of_home(draft, missing, UNREACHED),
        holders=list(dict.fromkeys(lock.owner for lock in locks if lock.owner)),
        online=draft.recorded if draft.recorded and draft.recorded.startswith(("http:", "https:")) else None,
        elsewhere=linker.copies.elsewhere(draft),
        strays=linker.comparing.strays(draft),
        asked_for=hints.document is None or ranking.fits(hints.document, draft.name, draft.original),
        named=told.named,
        places=told.places,
        thorough=told.thorough,
        locked_since=min((lock.opened for lock in locks if lock.opened), default=None),
    )
    verdict = choose.choose(copies, facts, hints)
    if verdict.best is not None and verdict.best != saved and verdict.situation in _MAY_BE_ELSEWHERE:
        found = linker.comparing.resaved(draft, copies[verdict.best])
        if found is not None:
            copies = choose.assign_times([*copies, found], linker.state.clock)
            verdict = choose.choose(copies, msgspec.structs.replace(facts, resaved=True), hints)
    if verdict.best is not None and (verdict.situation is Situation.NEVER_SAVED or is_nameless(draft.name)):
        copies[verdict.best] = with_title(linker.state.door, copies[verdict.best])
    chosen = copies[verdict.best] if verdict.best is not None else copies[0] if copies else None
    format_name = format_of_extension(extension_of(draft.name)) or (chosen.content.format if chosen else None)
    return Document(
        key=draft.key,
        name=draft.name,
        doc_class=class_of(format_name),
        original=draft.original,
        original_exists=saved is not None or bool(draft.original and linker.state.door.exists(draft.original)),
        recorded=draft.recorded,
        person=draft.home.person if draft.home else None,
        copies=tuple(copies),
        locks=tuple(draft.locks),
        records=tuple(draft.records),
        verdict=verdict,
        same_as=choose.same_versions(copies, saved),
        within=draft.within,
    )


def _of_home(draft: Draft, missing: Sequence[Searched], statuses: Collection[str]) -> list[str]:
    """The places that were not searched in the home of a document."""
    return list(
        dict.fromkeys(
            searched.path
            for searched in missing
            if searched.status in statuses
            and (draft.home is None or inside(searched.path, draft.home.path) or searched.home == draft.home.path)
        )
    )


def _oldest_first(copy: Copy) -> tuple[object, ...]:
    return (copy.kind != "saved", copy.written.timestamp() if copy.written else 0.0, copy.path)
