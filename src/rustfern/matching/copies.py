"""Copies: matched by what a list says, by name, by content, by circumstances."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from datetime import datetime, timedelta

from msgspec.structs import replace

from rustfern.catalogue.untitled import is_untitled
from rustfern.core.errors import SourceError
from rustfern.core.model import Copy, Evidence, Find, Kind, Order
from rustfern.core.paths import fold_name, plain_path, show_name
from rustfern.formats.format_table import (
    class_of,
    companions_of,
    extension_of,
    extension_right,
    format_of_extension,
)
from rustfern.matching.content_comparison import Comparing
from rustfern.matching.evidence import assignment, by_name, weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.recent_files import RecentFiles
from rustfern.matching.state import OPEN_FOR, SLACK, Draft, LinkState, clocks_of, is_other_format, last_part
from rustfern.matching.versions import Versions
from rustfern.search.neighbours import AUTOSAVE, BACKUP
from rustfern.search.program_folders import is_of_programs
from rustfern.sources.folder import with_companions

_SAME_TIME = timedelta(hours=12)
_THEN = "it lies in the same folder and was written about when a version of the document was"
_MAX_NAMED, _MIN_WORDS = 4, 3
_ALIKE = 0.4
"""Likeness of a copy's text to a document's from which on it counts fully that it was written while that was open."""
_HOLDERS = frozenset({"zip", "gz", "sqlite", "cfb", "json", "xml"})
"""What programs make documents of, under endings of their own."""
_LOOKED_AT = frozenset({"image", "page", "video", "audio", "other"})
_WRITTEN = frozenset({"text", "sheet", "slides", "notes", "mail"})
SAVED_PLACE = "beside-original"


class Copies:
    """The steps that match copies."""

    def __init__(self, state: LinkState, comparing: Comparing, recent: RecentFiles, versions: Versions) -> None:
        self.state, self._comparing, self._recent, self._versions = state, comparing, recent, versions
        self.ambiguous: dict[str, list[str]] = {}  # copy → the documents that its name fits equally
        self.contending: dict[tuple[str, str, str], list[tuple[Find, Copy, list[Candidate]]]] = {}

    def take_named(self, find: Find) -> bool:
        """Match a copy by what a list says of it or by its name. False if neither leads anywhere."""
        find = self._by_its_time(find)
        place = self.state.catalogue.places[find.place]
        listed = self.state.named.get(find.entry.path)
        if listed and listed[0] is not None:
            copy, named = self.state.read_copy(find, find.entry, ()), Candidate(listed[0].original or "", [listed[1]])
            if listed[0].original and self.state.door.exists(listed[0].original):
                self._comparing.compare(copy, [named])
            self._give(listed[0], replace(copy, evidence=tuple(named.evidence)), [named.evidence], 0)
            return True
        if (listed and listed[0] is None) or place.never_saved or "untitled" in find.fields or self._untitled(find):
            title = (
                (listed[2] if listed else None)
                or by_name.shown_stem(find, place.prefixes)
                or os.path.basename(find.entry.path)
            )
            copy = self.state.read_copy(find, find.entry, (listed[1],) if listed else ())
            if copy.content.format == "eml" and place.never_saved:
                title = copy.content.glance.title or title  # drafts of mails are known by their subjects
            self.state.own_document(copy, find, title, never_saved=True, in_use_store=place.in_use_store)
            return True
        copy = self.state.read_copy(find, find.entry, ())
        if is_other_format(copy.content, place):
            return True
        beside = place.lies_beside
        found = self._by_path(find) or self._by_name(find, copy, beside=beside)
        found = found or self._recent.for_recent(find, copy.content.format, beside=beside)
        for item in found:
            item.exists = item.exists or self.state.door.exists(item.path)
        if len(found) > 1:
            self._recent.add_recent(found, find.home)
        self._comparing.compare(copy, found)
        if place.kind == "autosave":
            self._written_while_open(find, found, "", "open-too")
        if self._only_its_name(find):
            # Names that anybody uses stand in many folders: the name alone says nothing.
            found = [item for item in found if not item.exists or _shares_content(item)]
            if not found:
                return True
        if "addition" in find.fields and not _has_whole_name(find) and any(map(_shares_nothing, found)):
            return True  # its stem alone, under another ending, and other content: another document
        if len(found) > 1 or not beside:
            self._comparing.weigh_times(copy, find, found)
        if place.needs_original and not any(item.exists for item in found):
            if not place.complete and copy.content.format is not None and self.state.source_of(find.entry.path):
                note = "a transfer that was not finished; the file that it was to become is not there"
                self.state.unmatched.append(replace(copy, notes=(*copy.notes, note)))
            return True
        if "counter" in find.fields and sum(item.exists for item in found) > 1:
            key = (find.place, os.path.dirname(find.entry.path), find.fields.get("name", find.fields.get("stem", "")))
            self.contending.setdefault(key, []).append((find, copy, found))
            return True
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is None and not beside and (away := self._recent.for_away(find)):
            draft = self.state.outside(away[0], last_part(away[0]), find.home)
            self._give(draft, replace(copy, evidence=(away[1],)), [[away[1]]], 0)
            return True
        if best is None or shares[best] < weights.THRESHOLD:
            if len(found) > 1:
                self.ambiguous[find.entry.path] = [item.path for item in found]
            return self._only_its_name(find) or self.state.reader.is_enough(found)
        if not found[best].exists and (moved := self._versions.moved_to(find, copy, found[best].path)):
            found, best = [moved], 0
        # What lies beside a draft that was never saved is of that draft.
        unsaved = self.state.drafts.get(f"copy:{found[best].path}")
        draft = unsaved or self.state.draft(found[best].path, find.home)
        self._give(draft, replace(copy, evidence=tuple(found[best].evidence)), [i.evidence for i in found], best)
        return True

    def _by_its_time(self, find: Find) -> Find:
        """What only a general rule calls a backup is one of the time before the document was saved; else it is newer work."""
        name = find.fields.get("name")
        if find.place != BACKUP or not name or find.entry.modified is None:
            return find
        folder = os.path.dirname(find.entry.path)
        saved = self.state.modified(os.path.join(os.path.dirname(folder) if "up" in find.fields else folder, name))
        if saved is None:
            return find
        later = find.entry.modified - saved > SLACK
        if "unsure" in find.fields and later:
            return find
        return replace(find, place=AUTOSAVE, kind="autosave") if later else replace(find, order=Order.BEFORE)

    @staticmethod
    def _only_its_name(find: Find) -> bool:
        """Whether nothing but a document's name speaks for a copy: in a program's folder, in one for copies, or with an unknown addition."""
        return (
            "same" in find.fields
            or (
                "unsure" in find.fields and find.order is not Order.BEFORE
            )  # earlier ones may hold what was written over
            or ("up" in find.fields and not find.fields.get("addition"))
        )

    def _untitled(self, find: Find) -> bool:
        """Whether a copy's name is that of a text without a name, and there is none of that name beside it."""
        name = find.fields.get("name") or find.fields.get("stem")
        if find.kind not in ("autosave", "swap", "temporary") or not name or not is_untitled(name):
            return False
        folder = os.path.dirname(find.entry.path)
        return not self.state.case.names.beside(folder, os.path.splitext(name)[0])

    def _by_name(self, find: Find, copy: Copy, *, beside: bool) -> list[Candidate]:
        """The documents that a copy's own name fits; one that may lie in any folder is first of all of a document beside it."""
        place, names = self.state.catalogue.places[find.place], self.state.case.names
        if place.anywhere and not beside:
            there = by_name.for_copy(find, copy.content.format, names, self.state.homes, place.prefixes, beside=True)
            if there := [item for item in there if item.exists]:
                return there
        return by_name.for_copy(find, copy.content.format, names, self.state.homes, place.prefixes, beside=beside)

    def settle_contending(self) -> list[Find]:
        """Numbered autosaves of documents of one name: each of them belongs to another one. Gives those that belong to none."""
        left: list[Find] = []
        for group in self.contending.values():
            with self.state.isolated(*(find for find, _, _ in group)):
                left += self._assign(group)
        self.contending.clear()
        return left

    def _assign(self, group: list[tuple[Find, Copy, list[Candidate]]]) -> list[Find]:
        """Share one group out; gives what belongs to none."""
        left = []
        paths = list(dict.fromkeys(item.path for _, _, found in group for item in found))
        held = [{item.path: item.evidence for item in found} for _, _, found in group]
        assigned = assignment.assign([[row.get(path, []) for path in paths] for row in held])
        for (find, copy, _), row, (column, confidence) in zip(group, held, assigned, strict=True):
            if column is None or confidence < weights.THRESHOLD:
                left.append(find)
                continue
            given = replace(copy, evidence=tuple(row[paths[column]]), confidence=confidence)
            self.state.draft(paths[column], find.home).copies.append(given)
        return left

    def _by_path(self, find: Find) -> list[Candidate]:
        """Names that hold a whole path (`!` for `/`), or the folder's name before the document's."""
        place = self.state.catalogue.places[find.place]
        if "whole" in find.fields:
            return [
                Candidate(
                    find.fields["whole"], [weights.evidence("name-and-path", "its name stands for the whole path")]
                )
            ]
        if "same" in find.fields:
            says = f"a program keeps a file of the name {find.fields['name']} in its folder"
            if "cut" in find.fields:
                says = "its name begins as the path of this document does, and was cut"
            elif "sum" in find.fields:
                says = f"its name may be a sum of this document's path ({find.fields['sum']})"
            return [Candidate(path, [weights.evidence("same-name", says)]) for path in find.fields["same"].split("\0")]
        if place.mirror and (found := re.search(place.mirror, find.entry.path.replace(os.sep, "/"))):
            parts = found["inner"].split("/")
            named = find.fields.get("name", "")
            parts[-1] = named or find.fields.get("vstem", parts[-1]) + find.fields.get("dotext", "")
            if "drive" in found.groupdict():
                path = self.state.paths.translate("\\".join([f"{found['drive']}:", *parts]), find.home)
            else:
                path = os.path.join(found["top"], *parts)
            return (
                [Candidate(path, [weights.evidence("name-and-path", "its path repeats that of the document")])]
                if path
                else []
            )
        if "bang" in find.fields:
            recorded = find.fields["bang"].replace("!!", "\0").replace("!", "/").replace("\0", "!")
            path = self.state.paths.translate(recorded, find.home)
            return (
                [Candidate(path, [weights.evidence("name-and-path", "its name holds the whole path")])] if path else []
            )
        if "percent" in find.fields:
            path = self.state.paths.translate(find.fields["percent"].replace("%", "/"), find.home)
            if path and self.state.door.exists(path):
                return [Candidate(path, [weights.evidence("name-and-path", "its name holds the whole path")])]
        if "below" in find.fields:
            parts, folder = find.fields["below"].split("."), os.path.dirname(find.entry.path)
            for count in range(1, len(parts)):
                path = os.path.join(folder, ".".join(parts[:count]), ".".join(parts[count:]))
                if self.state.door.exists(path):
                    return [
                        Candidate(
                            path, [weights.evidence("name-and-path", "its name holds those of folder and document")]
                        )
                    ]
            if len(parts) > 2:
                path = os.path.join(folder, parts[0], ".".join(parts[1:]))
                return [
                    Candidate(
                        path, [weights.evidence("name-beside", "its name holds those of folder and document")], False
                    )
                ]
        return []

    def _give(self, draft: Draft, copy: Copy, pieces: Sequence[Sequence[Evidence]], chosen: int) -> None:
        confidence = weights.confidences(pieces)[chosen]
        draft.copies.append(replace(copy, confidence=confidence))
        if copy.clocks.get("file") and draft.changed and copy.kind is Kind.AUTOSAVE:
            draft.changed_since = copy.clocks["file"]

    def take_unnamed(self, find: Find) -> None:
        """Match a copy whose name says nothing, by its content, its folder, and what was open then."""
        with self.state.reader.must_read():
            self._unnamed(find)

    def _unnamed(self, find: Find) -> None:
        if find.place == "by-content":
            self._dismissed(find)
            return
        place = self.state.catalogue.places[find.place]
        copy = self.state.read_copy(find, find.entry, ())
        if is_other_format(copy.content, place):
            return
        found = self._comparing.around(find, copy, beside=place.lies_beside)
        if "nameless" in find.fields:
            homes = [home.path for home in self.state.homes]
            found = [item for item in found if not is_of_programs(os.path.dirname(item.path), homes)]
        self._comparing.compare(copy, found, beside=place.lies_beside)
        self._comparing.weigh_times(copy, find, found)
        if place.where == "beside":
            self._written_while_open(find, found, "in the same folder ")
            self._circumstances(find, found)
        elif place.kind == "autosave":
            self._written_while_open(find, [item for item in found if item.evidence], "")
        self._comparing.weigh_name(find, by_name.shown_stem(find, place.prefixes), found)
        left = self._to_likeliest(find, copy, found)
        if left is None or "nameless" in find.fields:
            return
        nearest = f" (nearest: {show_name(left[0])}, {left[1]:.0%})" if left[0] else ""
        note = f"no document could be shown to be its original{nearest}"
        if fitting := self.ambiguous.get(find.entry.path):
            there = ", ".join(show_name(os.path.dirname(path)) for path in fitting[:_MAX_NAMED])
            note = f"its name fits {len(fitting)} documents, and nothing shows which of them it belongs to: look at those in {there}"
        copy = replace(copy, confidence=left[1], notes=(*copy.notes, note))
        if place.needs_original and place.generic:
            self.state.unmatched.append(copy)
            return
        if "draft" in find.fields and not _is_of_words(copy) and not _is_untitled_work(find, copy):
            return  # what programs note for themselves
        name = by_name.shown_stem(find, place.prefixes) or os.path.basename(find.entry.path)
        self.state.own_document(copy, find, name)

    def _dismissed(self, find: Find) -> None:
        """A document under a name that does not show it: a copy of one that is known, or lost from sight."""
        copy = self.state.read_copy(find, find.entry, ())
        found = [item for item in self._comparing.around(find, copy, beside=False) if item.path != find.entry.path]
        self._comparing.compare(copy, found)
        if self._to_likeliest(find, copy, found) is not None and "nameless" not in find.fields:
            draft = self.state.draft(plain_path(find.entry.path), find.home)
            if find.entry.deleted:
                piece = weights.evidence(
                    "own-content", "the disk's record of the deleted file gives its folder, not what it was"
                )
                kept = replace(copy, evidence=(piece,), confidence=weights.confidences([[piece]])[0])
                draft.copies.append(kept)
                draft.trashed = True
                return
            draft.misplaced, draft.misnamed, draft.place = True, True, find.place

    def _to_likeliest(self, find: Find, copy: Copy, found: list[Candidate]) -> tuple[str, float] | None:
        """Give a copy to the likeliest document; else (the nearest one's name, or nothing, and how likely it is)."""
        found = [item for item in found if item.evidence]
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is None:
            return "", 0.0
        if shares[best] < weights.THRESHOLD:
            return os.path.basename(found[best].path), shares[best]
        if "nameless" in find.fields and not self._is_later(find, found[best].path):
            if self.state.key(found[best].path, self.state.home_of(found[best].path)) not in self.state.drafts:
                return None  # an earlier text that nobody asked for
            copy = replace(copy, order=Order.BEFORE)
        draft = self.state.draft(found[best].path, find.home)
        self._give(draft, replace(copy, evidence=tuple(found[best].evidence)), [i.evidence for i in found], best)
        return None

    def _is_later(self, find: Find, path: str) -> bool:
        saved = self.state.modified(path)
        return saved is None or find.entry.modified is None or find.entry.modified - saved > SLACK

    def _written_while_open(self, find: Find, found: list[Candidate], where: str, kind: str = "open-then") -> None:
        """Written while a lock shows the document open; beside a name that says so it counts less (`open-too`)."""
        when = find.entry.modified
        opened = []
        for item in found:
            draft = self.state.drafts.get(self.state.key(item.path, self.state.home_of(item.path)))
            for lock in draft.locks if draft else ():
                if lock.opened and when and lock.opened - SLACK <= when <= lock.opened + OPEN_FOR:
                    opened.append((item, lock))
        for item, lock in opened:
            since = f" (since {self.state.clock.format_time(lock.opened)})" if lock.opened else ""
            text = f"it was written {where}while the lock shows the document open{since}"
            # What was written in an open document's folder is hardly its next state if it has another text.
            strange = item.likeness is not None and item.likeness < _ALIKE
            share = item.likeness if strange and item.likeness is not None else 1.0
            item.evidence.append(weights.evidence(kind, text, share / len(opened)))

    def _circumstances(self, find: Find, found: list[Candidate]) -> None:
        """Same folder, and about the same time."""
        when = find.entry.modified
        for item in found:
            apart = self._apart(item.path, when)
            if apart is not None and apart <= _SAME_TIME:
                # Ten minutes count fully, half a day a third.
                share = 1.0 if apart <= timedelta(minutes=10) else 0.6 if apart <= timedelta(hours=2) else 0.3
                item.evidence.append(weights.evidence("same-folder-then", _THEN, share))
            else:
                item.evidence.append(weights.evidence("same-folder", "it lies in the same folder"))

    def _apart(self, path: str, when: datetime | None) -> timedelta | None:
        """How far from `when` the nearest known version of a document was written."""
        draft = self.state.drafts.get(self.state.key(path, self.state.home_of(path)))
        times = [copy.entry.modified for copy in draft.copies] if draft else []
        known = [time for time in (self.state.modified(path), *times) if time is not None]
        return min((abs(time - when) for time in known), default=None) if when else None

    def elsewhere(self, draft: Draft) -> list[str]:
        """Files of a gone document's name in other folders of the same home: it may have been moved."""
        if draft.original is None or self.state.door.exists(draft.original):
            return []
        found = self.state.case.names.by_name(draft.name, limit=20)
        return [path for path in found if path != draft.original and self.state.home_of(path) == draft.home]

    def add_saved(self, draft: Draft) -> int | None:
        """Add the saved file as it is now; its place in the list, None if there is none."""
        if draft.original is None:
            return None
        source = self.state.source_of(draft.original)
        if source is None or not self.state.door.exists(draft.original):
            return None
        try:
            entry = source.entry(draft.original)
        except SourceError as error:
            self.state.problem(draft.original, error.what)
            return None
        if entry.link_target is not None or entry.is_folder:
            return None
        name = os.path.basename(draft.original)
        entry = with_companions(source, entry, companions_of(name))
        content, members = self.state.content_of(entry, name)
        piece = weights.evidence("its-own-file", "it is the saved file itself")
        draft.copies.append(
            Copy(entry, Kind.SAVED, draft.place or SAVED_PLACE, content, extension_right(name, content.format),
                 clocks_of(entry, content), confidence=1.0, evidence=(piece,), members=members)
        )  # fmt: skip
        return len(draft.copies) - 1


def _shares_content(item: Candidate) -> bool:
    return any(piece.family in ("content", "identity") and piece.weight > 0 for piece in item.evidence)


def _is_of_words(copy: Copy) -> bool:
    return class_of(copy.content.format) in _WRITTEN and (copy.content.words or 0) >= _MIN_WORDS


def _is_untitled_work(find: Find, copy: Copy) -> bool:
    """Whether it is what a program called a document without a name: drawings, models and packages of its own kind have no words that are read."""
    kind = copy.content.format
    if "working" not in find.fields or kind is None:
        return False
    if kind in _HOLDERS:
        ending = extension_of(find.entry.path)
        return bool(ending) and format_of_extension(ending) is None
    # What is looked at in a viewer or sent by mail is called so too, without a number.
    numbered = any(map(str.isdigit, os.path.basename(find.entry.path)))
    return class_of(kind) not in ("code", "database") and (numbered or class_of(kind) not in _LOOKED_AT)


def _has_whole_name(find: Find) -> bool:
    return fold_name(find.fields.get("name", "")) in fold_name(os.path.basename(find.entry.path))


def _shares_nothing(item: Candidate) -> bool:
    return any(piece.family == "content" and piece.weight < 0 for piece in item.evidence)
