"""The machine-readable contract: facts as the JSON that other programs depend on. Fields may be added, never renamed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from rustfern.core.model import Answer, Copy, Document, Evidence, Kind, Lock, Record, Verdict
from rustfern.matching.evidence.by_content import difference

SCAN, RESTORE, ERROR = "rustfern/scan-1", "rustfern/restore-1", "rustfern/error-1"

Json = dict[str, Any]


def stamp(time: datetime | None) -> str | None:
    """UTC, whole seconds, ending in Z."""
    return time.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ") if time else None


def evidence(pieces: tuple[Evidence, ...]) -> list[Json]:
    return [{"kind": piece.kind, "weight": piece.weight, "text": piece.text} for piece in pieces]


def _differs(item: Copy, saved: Copy | None) -> Json | None:
    """Words that a copy has more and fewer than the saved file; None without a saved file or without words."""
    if saved is None or item is saved or item.content.words is None or saved.content.words is None:
        return None
    try:
        found = difference(item.content, saved.content)
    except MemoryError:
        return None  # how much they differ is not worth the answer
    return {"more": found.only_left, "fewer": found.only_right}


def copy(
    item: Copy, ident: str | None, same_as: str | None = None, saved: Copy | None = None, needs: Sequence[str] = ()
) -> Json:
    """One copy; `ident` and `same_as` are ids such as `1b`."""
    content = item.content
    return {
        "id": ident,
        "path": item.path,
        "part": item.entry.part,
        "kind": str(item.kind),
        "place": item.place,
        "format": content.format,
        "extension_right": item.extension_right,
        "state": str(content.state),
        "reason": content.reason,
        "size": item.entry.size if not item.entry.is_bundle else content.size,
        "modified": stamp(item.entry.modified),
        "written": stamp(item.written),
        "written_from": item.written_from,
        "clocks": {name: stamp(time) for name, time in item.clocks.items()},
        "sha256": content.sha256,
        "words": content.words,
        "amounts": dict(content.amounts),
        "same_as": same_as,
        "needs": list(needs),
        "rebuilt_by": item.recipe or None,
        "members": list(item.members),
        "confidence": round(item.confidence, 4),
        "evidence": evidence(item.evidence),
        "title": content.glance.title,
        "author": content.glance.author,
        "notes": list(item.notes),
        "differs_from_saved": _differs(item, saved),
    }


def lock(item: Lock) -> Json:
    return {
        "path": item.entry.path,
        "owner": item.owner,
        "host": item.host,
        "opened": stamp(item.opened),
        "live": item.live,
        "confidence": round(item.confidence, 4),
        "evidence": evidence(item.evidence),
        "notes": list(item.notes),
    }


def record(item: Record) -> Json:
    return {
        "path": item.path,
        "type": item.type,
        "when": stamp(item.when),
        "evidence": evidence(item.evidence),
        "says": item.says,
    }


def document(item: Document) -> Json:
    """One document with its copies, locks and records."""
    verdict: Verdict = item.verdict
    ids = item.ids
    same: Mapping[int, int] = item.same_as
    by_path = {each.path: ids[i] for i, each in enumerate(item.copies)}
    saved = next((each for each in item.copies if each.kind is Kind.SAVED), None)
    return {
        "id": item.number,
        "name": item.name,
        "class": item.doc_class,
        "situation": str(verdict.situation),
        "best": ids[verdict.best] if verdict.best is not None else None,
        "why": list(verdict.why),
        "warnings": list(verdict.warnings),
        "original": item.original,
        "original_exists": item.original_exists,
        "original_recorded": item.recorded,
        "person": item.person,
        "within": item.within,
        "copies": [
            copy(
                each,
                ids[i],
                ids[same[i]] if i in same else None,
                saved,
                [by_path[path] for path in each.bases if path in by_path],
            )
            for i, each in enumerate(item.copies)
        ],
        "locks": [lock(each) for each in item.locks],
        "records": [record(each) for each in item.records],
    }


def _unmatched(item: Copy | Lock | Record) -> Json:
    if isinstance(item, Copy):
        return copy(item, None)
    return lock(item) if isinstance(item, Lock) else record(item)


def restored(done: Sequence[Mapping[str, Any]], refused: Sequence[Mapping[str, Any]]) -> Json:
    """The answer of a restore."""
    return {"schema": RESTORE, "restored": list(done), "refused": list(refused)}


def answer(item: Answer) -> Json:
    """The whole answer of a scan."""
    totals = item.totals
    return {
        "schema": SCAN,
        "case": item.case,
        "homes": [{"path": h.path, "layout": str(h.layout), "person": h.person} for h in item.homes],
        "searched": [
            {"place": s.place, "path": s.path, "copies": s.copies, "status": s.status, "by": s.by or None}
            for s in item.searched
        ],
        "zones": list(item.zones),
        "zone": item.zone,
        "words": item.hints.words,
        "hits": [
            {
                "id": h.ident or None,
                "document": h.number or None,
                "path": h.path,
                "sentence": h.sentence,
                "found": h.found,
            }
            for h in item.hits
        ],
        "documents": [document(each) for each in item.documents],
        "unmatched": [_unmatched(each) for each in item.unmatched],
        "problems": [{"path": p.path, "message": p.message} for p in item.problems],
        "stopped": item.stopped,
        "totals": {
            "directories": totals.directories,
            "files": totals.files,
            "dismissed_by_name": totals.dismissed_by_name,
            "bytes_read": totals.bytes_read,
            "seconds": round(totals.seconds, 3),
            "search_seconds": round(totals.search_seconds, 3),
            "first_seconds": round(totals.first_seconds, 3),
        },
    }


def error(message: str, path: str | None, next_step: str | None) -> Json:
    """An error as an answer: what is wrong, where, what to do next."""
    return {"schema": ERROR, "message": message, "path": path, "next": next_step}
