"""Puts together what was found: traces are recognised, copies read and matched, documents drafted."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from rustfern import rebuilding
from rustfern.casefile import CaseFile
from rustfern.errors import Malformed, SourceError
from rustfern.formats.table import class_of, compatible, extension_of, extension_right, format_of_extension
from rustfern.formats.times import to_utc
from rustfern.matching import candidates as near
from rustfern.matching import content as words
from rustfern.matching import weights
from rustfern.matching.candidates import Candidate
from rustfern.model import (
    Content,
    Copy,
    Entry,
    Evidence,
    Find,
    Glance,
    Home,
    Kind,
    Layout,
    Lock,
    Problem,
    Record,
    State,
    show_name,
)
from rustfern.places.loader import Catalogue, Place
from rustfern.places.recorded import inside, take_apart, translate
from rustfern.sources.folder import FolderSource, exists, explain
from rustfern.traces import odf_lock, owner_lock, recovery_list, trash_info

_MAX_COMPARED = 40
_MAX_DELETED_INSIDE = 2_000
_OPEN_FOR = timedelta(days=30)
_SLACK = timedelta(minutes=2)
_SAME_TIME = timedelta(hours=12)
_THEN = "it lies in the same folder and was written about when a version of the document was"
SAVED_PLACE = "beside-original"


@dataclass
class Draft:
    """A document while it is put together. `key` is its original's path, or that of the copy that stands for it."""

    key: str
    name: str
    original: str | None = None
    recorded: str | None = None
    home: Home | None = None
    copies: list[Copy] = field(default_factory=list)
    locks: list[Lock] = field(default_factory=list)
    records: list[Record] = field(default_factory=list)
    deleted: dict[str, datetime] = field(default_factory=dict)
    changed: bool = False
    changed_since: datetime | None = None
    never_saved: bool = False
    trashed: bool = False
    within: str | None = None


class Reader:
    """Reads each copy at most once. Problems and bytes are counted where they arise."""

    def __init__(self, on_problem: Callable[[str, str], None]) -> None:
        self._known: dict[str, tuple[Content, tuple[str, ...]]] = {}
        self._on_problem = on_problem
        self.bytes_read = 0

    def content(self, entry: Entry, name: str) -> tuple[Content, tuple[str, ...]]:
        """The checked content of a copy and its members; unreadable ones say why."""
        known = self._known.get(entry.path)
        if known is None:
            try:
                known = rebuilding.check(entry, name)
                self.bytes_read += known[0].size
            except SourceError as error:
                self._on_problem(entry.path, error.what)
                known = Content(Glance(), State.UNREADABLE, error.what, entry.size), ()
            self._known[entry.path] = known
        return known

    def has(self, path: str) -> bool:
        """Whether this was read before."""
        return path in self._known


def clocks_of(entry: Entry, content: Content, place: Place | None, fields: dict[str, str]) -> dict[str, datetime]:
    """The clocks of a copy: inside the content, and on the file."""
    clocks: dict[str, datetime] = {}
    glance = content.glance
    if glance.modified is not None:
        clocks["content"] = glance.modified
    elif glance.modified_local is not None:
        clocks["content"] = to_utc(glance.modified_local, entry.modified)
    if entry.modified is not None:
        clocks["file"] = entry.modified
    return clocks


class Assembly:
    """The table on which finds become documents."""

    def __init__(
        self,
        catalogue: Catalogue,
        homes: Sequence[Home],
        sources: Sequence[FolderSource],
        case: CaseFile,
        problems: list[Problem],
        reader: Reader,
    ) -> None:
        self.catalogue, self.homes, self.sources = catalogue, homes, sources
        self.roots = [source.root for source in sources]
        self.case, self.problems, self.reader = case, problems, reader
        self.drafts: dict[str, Draft] = {}
        self.unmatched: list[Copy | Lock | Record] = []
        self.named: dict[str, tuple[Draft | None, Evidence, str]] = {}  # autosave path → who it belongs to, by a list
        self.trash: dict[str, tuple[trash_info.TrashInfo, Find, datetime | None]] = {}
        self.more: list[Find] = []

    # --- drafts ---------------------------------------------------------------------------------------------------

    def _key(self, path: str, home: Home | None) -> str:
        fixed = os.path.normpath(path)
        return fixed.casefold() if home is not None and home.layout is not Layout.LINUX else fixed

    def draft(self, path: str, home: Home | None, recorded: str | None = None) -> Draft:
        """The draft of the document whose original is, or was, at this path."""
        home = home or self.home_of(path)
        key = self._key(path, home)
        draft = self.drafts.get(key)
        if draft is None:
            draft = Draft(key, os.path.basename(path), path, recorded, self.home_of(path) or home)
            self.drafts[key] = draft
        draft.recorded = draft.recorded or recorded
        return draft

    def _outside(self, recorded: str, title: str, home: Home | None) -> Draft:
        """The draft of a document whose original lies outside what is searched."""
        draft = self.drafts.setdefault(f"recorded:{recorded}", Draft(f"recorded:{recorded}", title, None, recorded, home))
        return draft

    def home_of(self, path: str) -> Home | None:
        """The home that a path lies in, the innermost."""
        fitting = [home for home in self.homes if inside(path, home.path)]
        return max(fitting, key=lambda home: len(home.path), default=None)

    def _source(self, path: str) -> FolderSource | None:
        return next((source for source in self.sources if inside(path, source.root)), None)

    def _problem(self, path: str, message: str) -> None:
        self.problems.append(Problem(path, message))

    # --- recognise ------------------------------------------------------------------------------------------------

    def recognise(self, find: Find) -> None:
        """Read a record; locks wait until all names are known."""
        place = self.catalogue.places[find.place]
        try:
            with rebuilding.open_content(find.entry) as stream:
                if place.reader == "recovery-list":
                    self._recovery_list(find, recovery_list.parse(stream))
                elif place.reader == "trash-info":
                    self._trash_record(find, trash_info.parse(stream.read(1 << 17)))
        except Malformed as error:
            self._problem(find.entry.path, f"this {place.reader.replace('-', ' ')} record is damaged: {error}. Its copies are judged by their names and contents")  # fmt: skip
            self.unmatched.append(Record(find.entry.path, place.reader, f"damaged: {error}", when=find.entry.modified))
        except (SourceError, OSError) as error:
            what = error.what if isinstance(error, SourceError) else explain(error)
            self._problem(find.entry.path, what)

    def _recovery_list(self, find: Find, found: recovery_list.RecoveryList) -> None:
        path, home = find.entry.path, find.home
        if found.problem:
            self._problem(path, f"the recovery list is cut off at byte {found.cut_at} ({found.problem}); what stands before was read")
        for entry in {entry.item: entry for entry in found.entries}.values():
            draft: Draft | None = None
            if entry.original_url:
                original = translate(entry.original_url, home, self.homes, self.roots)
                title = entry.title or _last_part(entry.original_url)
                draft = self.draft(original, home, entry.original_url) if original else self._outside(entry.original_url, title, home)
                says = f"the recovery list of {home.person if home else 'this profile'} names it as open"
                says += ", with unsaved changes" if entry.changed else ", without changes"
                draft.records.append(
                    Record(path, "recovery-list", says, (weights.evidence("recovery-list", says),), find.entry.modified)
                )
            if entry.temp_url:
                temp = translate(entry.temp_url, home, self.homes, self.roots)
                if temp is None:
                    self._problem(path, f"the recovery list names an autosave outside of what is searched: {show_name(entry.temp_url)}")
                else:
                    text = "the recovery list names it as the autosave of this document"
                    self.named[temp] = (draft, weights.evidence("recovery-list", text), entry.title)
                    self._seek(temp, "odf-suite-autosave", home)
            if draft is not None and entry.changed:
                draft.changed = True
                draft.changed_since = find.entry.modified

    def _seek(self, path: str, place: str, home: Home | None) -> None:
        """Take a copy that a record names, wherever it lies inside what is searched."""
        source = self._source(path)
        if source is None:
            return
        try:
            entry = source.entry(path)
        except SourceError:
            return
        if entry.link_target is None and not entry.is_folder:
            spec = self.catalogue.places[place]
            self.more.append(Find(entry, place, spec.kind, self.catalogue.match(spec, os.path.basename(path)) or {}, home))

    def _trash_record(self, find: Find, info: trash_info.TrashInfo) -> None:
        folder = os.path.dirname(os.path.dirname(find.entry.path))
        deleted = to_utc(info.deleted_local, find.entry.modified) if info.deleted_local else None
        self.trash[os.path.join(folder, "files", find.fields["trashed"])] = (info, find, deleted)

    def _trash_original(self, info: trash_info.TrashInfo, find: Find) -> str | None:
        if info.path.startswith("/"):
            return translate("file://" + _quote(info.path), find.home, self.homes, self.roots)
        apart = take_apart("/" + info.path)  # relative to the volume that the trash is on
        volume = os.path.dirname(os.path.dirname(os.path.dirname(find.entry.path)))
        if os.path.basename(volume) == ".Trash":
            volume = os.path.dirname(volume)
        return os.path.join(volume, *apart.parts) if apart and apart.parts else None

    # --- trash ----------------------------------------------------------------------------------------------------

    def take_trash(self, finds: Iterable[Find]) -> None:
        """Match what lies in a trash to its records; both may be orphans."""
        for find in finds:
            found = self.trash.pop(find.entry.path, None)
            if found is None:
                self._own(self._copy(find, find.entry, ()), find, os.path.basename(find.entry.path), trashed=True)
                continue
            self._deleted(find, *found)
        for info, record_find, deleted in self.trash.values():
            draft = self._deleted_draft(info, record_find, deleted)
            draft.records[-1] = replace(
                draft.records[-1], says=draft.records[-1].says + "; what it speaks of is no longer in the trash"
            )

    def _deleted_draft(self, info: trash_info.TrashInfo, find: Find, deleted: datetime | None) -> Draft:
        original = self._trash_original(info, find)
        draft = self.draft(original, find.home, info.path) if original else self._outside(info.path, _last_part(info.path), find.home)
        draft.trashed = True
        says = "a trash record says that it was deleted" + (f" at {deleted.astimezone():%Y-%m-%d %H:%M}" if deleted else "")
        draft.records.append(
            Record(find.entry.path, "trash-info", says, (weights.evidence("trash-record", says),), deleted)
        )
        return draft

    def _deleted(self, find: Find, info: trash_info.TrashInfo, record_find: Find, deleted: datetime | None) -> None:
        draft = self._deleted_draft(info, record_find, deleted)
        piece = weights.evidence("trash-record", "its trash record names this document")
        copy = self._copy(find, find.entry, (piece,), name=draft.name)
        if deleted:
            draft.deleted[find.entry.path] = deleted
        draft.copies.append(replace(copy, confidence=weights.confidences([[piece]])[0]))
        if find.entry.is_folder and draft.original:
            self._deleted_inside(find, draft, record_find, deleted)

    def _deleted_inside(self, find: Find, folder: Draft, record_find: Find, deleted: datetime | None) -> None:
        try:
            inner = list(rebuilding.members(find.entry))[:_MAX_DELETED_INSIDE]
        except SourceError as error:
            self._problem(find.entry.path, error.what)
            return
        assert folder.original is not None
        for relative, entry in inner:
            if format_of_extension(extension_of(relative)) is None:
                continue
            draft = self.draft(os.path.join(folder.original, *relative.split("/")), find.home)
            draft.trashed, draft.within = True, folder.key
            piece = weights.evidence("trash-record", f"the trash record of its folder {show_name(folder.name)} names its place")
            copy = self._copy(find, entry, (piece,))
            draft.copies.append(replace(copy, confidence=weights.confidences([[piece]])[0]))
            draft.records.append(Record(record_find.entry.path, "trash-info", "deleted together with its folder", (piece,), deleted))
            if deleted:
                draft.deleted[entry.path] = deleted

    # --- locks ----------------------------------------------------------------------------------------------------

    def take_lock(self, find: Find) -> None:
        """Read a lock and give it to the document that it speaks of."""
        place = self.catalogue.places[find.place]
        try:
            with rebuilding.open_content(find.entry) as stream:
                data = stream.read(1 << 16)
        except (SourceError, OSError) as error:
            self._problem(find.entry.path, error.what if isinstance(error, SourceError) else explain(error))
            data = b""
        folder, path = os.path.dirname(find.entry.path), find.entry.path
        owner = host = None
        opened, notes = find.entry.modified, []
        size: int | None = find.entry.size if find.entry.size in (owner_lock.TEXT_SIZE, owner_lock.OTHER_SIZE) else None
        try:
            if place.reader == "odf-lock":
                facts = odf_lock.parse(data)
                owner, host = facts.owner or facts.login or None, facts.host or None
                if facts.opened_local:
                    opened = to_utc(facts.opened_local, find.entry.modified)
            else:
                owner = owner_lock.parse(data).owner
        except Malformed as error:
            if place.reader == "owner-lock" and size is None:
                # Neither name nor size speak for a lock: other programs use the sign too.
                self._problem(path, f"this looks like a lock but is none: {error}")
                return
            notes.append(f"its inside is damaged ({error}); its name still tells")
            self._problem(path, f"this lock is damaged inside: {error}. Its name was used")
        lock = Lock(find.entry, find.place, owner, host, opened, notes=tuple(notes))
        if place.reader == "odf-lock":
            original = os.path.join(folder, find.fields["name"])
            found = [Candidate(original, [weights.evidence("lock-name", f"the lock carries its whole name, {find.fields['name']}")])]
        else:
            gone = [d.original for d in self.drafts.values() if d.original]
            found = near.for_owner_lock(find.fields["tail"], folder, size, self.case.in_folder(folder), gone)
            if not found and size != owner_lock.TEXT_SIZE:
                text = "the lock carries its whole name"
                found = [Candidate(os.path.join(folder, find.fields["tail"]), [weights.evidence("lock-name", text)], False)]
        self._give_lock(lock, found)

    def _give_lock(self, lock: Lock, found: list[Candidate]) -> None:
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is None or shares[best] < weights.THRESHOLD:
            note = "it fits several documents equally" if found else "the document it speaks of is not there any more"
            self.unmatched.append(replace(lock, notes=(*lock.notes, note)))
            return
        draft = self.draft(found[best].path, self.home_of(lock.entry.path))
        draft.locks.append(replace(lock, confidence=shares[best], evidence=tuple(found[best].evidence)))

    # --- copies ---------------------------------------------------------------------------------------------------

    def _copy(self, find: Find, entry: Entry, evidence: tuple[Evidence, ...], name: str | None = None) -> Copy:
        place = self.catalogue.places[find.place]
        base = os.path.basename(entry.path)
        told = near.shown_stem(find, place.prefixes) if "name" in find.fields else None
        content, members = self.reader.content(entry, name or told or base)
        content, notes = _complete(content, place) if not _foreign(content, place) else (content, ())
        return Copy(
            entry=entry,
            kind=Kind(find.kind),
            place=find.place,
            content=content,
            extension_right=extension_right(base, content.format),
            clocks=clocks_of(entry, content, place, dict(find.fields)),
            order=find.order,
            complete=place.complete,
            evidence=evidence,
            members=members,
            notes=notes,
        )

    def take_named(self, find: Find) -> bool:
        """Match a copy by what a list says of it or by its name. False if neither leads anywhere."""
        place = self.catalogue.places[find.place]
        listed = self.named.get(find.entry.path)
        if listed and listed[0] is not None:
            self._give(listed[0], self._copy(find, find.entry, (listed[1],)), [[listed[1]]], 0)
            return True
        if (listed and listed[0] is None) or place.never_saved:
            title = (listed[2] if listed else None) or near.shown_stem(find, place.prefixes) or os.path.basename(find.entry.path)
            copy = self._copy(find, find.entry, (listed[1],) if listed else ())
            self._own(copy, find, title, never_saved=True)
            return True
        copy = self._copy(find, find.entry, ())
        if _foreign(copy.content, place):
            return True
        beside = place.where == "beside"
        found = near.for_copy(find, copy.content.format, self.case, self.homes, place.prefixes, beside=beside)
        for item in found:
            item.exists = item.exists or exists(item.path)
        if len(found) > 1:
            self._compare(copy, found)
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is None or shares[best] < weights.THRESHOLD:
            return False
        draft = self.draft(found[best].path, find.home)
        self._give(draft, replace(copy, evidence=tuple(found[best].evidence)), [i.evidence for i in found], best)
        return True

    def _compare(self, copy: Copy, found: list[Candidate]) -> None:
        """Add what the contents of candidates say."""
        for item in found[:_MAX_COMPARED]:
            for content in self._contents(item.path):
                if content.sha256 == copy.content.sha256:
                    item.evidence.append(weights.evidence("identical-bytes", "its bytes are those of a copy of this document"))
                elif share := words.shared(copy.content, content):
                    text = f"it shares {words.difference(copy.content, content).common} words with a copy of this document"
                    item.evidence.append(weights.evidence("shared-content", text, share))

    def _contents(self, path: str) -> list[Content]:
        """The contents of a document's copies known so far, its saved file first."""
        out = []
        source = self._source(path)
        if source is not None and exists(path):
            try:
                entry = source.entry(path)
                if entry.link_target is None and not entry.is_folder:
                    out.append(self.reader.content(entry, os.path.basename(path))[0])
            except SourceError:
                pass
        draft = self.drafts.get(self._key(path, self.home_of(path)))
        return out + [copy.content for copy in draft.copies] if draft else out

    def _give(self, draft: Draft, copy: Copy, pieces: Sequence[Sequence[Evidence]], chosen: int) -> None:
        confidence = weights.confidences(pieces)[chosen]
        draft.copies.append(replace(copy, confidence=confidence))
        if copy.clocks.get("file") and draft.changed and copy.kind is Kind.AUTOSAVE:
            draft.changed_since = copy.clocks["file"]

    def take_unnamed(self, find: Find) -> None:
        """Match a copy whose name says nothing, by its content, its folder, and what was open then."""
        place = self.catalogue.places[find.place]
        copy = self._copy(find, find.entry, ())
        if _foreign(copy.content, place):
            return
        found = self._around(find, copy, beside=place.where == "beside")
        self._compare(copy, found)
        if place.where == "beside":
            self._circumstances(find, found)
        found = [item for item in found if item.evidence]
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is not None and shares[best] >= weights.THRESHOLD:
            draft = self.draft(found[best].path, find.home)
            self._give(draft, replace(copy, evidence=tuple(found[best].evidence)), [i.evidence for i in found], best)
            return
        nearest = f" (nearest: {show_name(os.path.basename(found[best].path))}, {shares[best]:.0%})" if best is not None else ""
        copy = replace(copy, confidence=shares[best] if best is not None else 0.0, notes=(*copy.notes, f"no document could be shown to be its original{nearest}"))  # fmt: skip
        name = near.shown_stem(find, place.prefixes) or os.path.basename(find.entry.path)
        self._own(copy, find, name)

    def _around(self, find: Find, copy: Copy, *, beside: bool) -> list[Candidate]:
        folder = os.path.dirname(find.entry.path)
        format_name = copy.content.format
        drafted = [d.original for d in self.drafts.values() if d.original]
        if beside:
            paths = [*self.case.in_folder(folder), *(p for p in drafted if os.path.dirname(p) == folder)]
        else:
            base = find.home.path if find.home and not find.home.volume else find.home.volume if find.home else find.entry.root
            paths = [p for p in drafted if base is None or inside(p, base)]
            paths += [p for p in self._of_same_size(copy) if p not in drafted and (base is None or inside(p, base))]
        fitting = {p: None for p in paths if compatible(format_name, format_of_extension(extension_of(p)))}
        if format_name is None:
            wanted = self.catalogue.places[find.place].formats
            fitting = {p: None for p in fitting if not wanted or class_of(wanted[0]) == class_of(format_of_extension(extension_of(p)))}  # fmt: skip
        return [Candidate(path, [], exists(path)) for path in list(fitting)[:_MAX_COMPARED]]

    def _of_same_size(self, copy: Copy) -> list[str]:
        """Documents of the copy's format and size: worth comparing byte for byte."""
        found = []
        for path in self.case.with_extension(copy.content.format) if copy.content.format else ():
            source = self._source(path)
            try:
                if source is not None and source.entry(path).size == copy.entry.size:
                    found.append(path)
            except SourceError:
                continue
        return found

    def _circumstances(self, find: Find, found: list[Candidate]) -> None:
        """Same folder; written while a lock shows the document open."""
        when = find.entry.modified
        opened = []
        for item in found:
            draft = self.drafts.get(self._key(item.path, self.home_of(item.path)))
            for lock in draft.locks if draft else ():
                if lock.opened and when and lock.opened - _SLACK <= when <= lock.opened + _OPEN_FOR:
                    opened.append((item, lock))
        for item, lock in opened:
            text = f"it was written in the same folder while the lock shows the document open (since {lock.opened.astimezone():%Y-%m-%d %H:%M})" if lock.opened else ""  # fmt: skip
            item.evidence.append(weights.evidence("open-then", text, 1.0 / len(opened)))
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
        draft = self.drafts.get(self._key(path, self.home_of(path)))
        times = [copy.entry.modified for copy in draft.copies] if draft else []
        known = [time for time in (self._modified(path), *times) if time is not None]
        return min((abs(time - when) for time in known), default=None) if when else None

    def _modified(self, path: str) -> datetime | None:
        source = self._source(path)
        try:
            return source.entry(path).modified if source and exists(path) else None
        except SourceError:
            return None

    def _own(self, copy: Copy, find: Find, name: str, *, never_saved: bool = False, trashed: bool = False) -> None:
        """A leftover with content but no known original is its own document; without content it stays unmatched."""
        content = copy.content
        whole = content.state in (State.INTACT, State.ENCRYPTED) or (trashed and content.state is not State.DAMAGED)
        if not whole or content.words == 0:
            self.unmatched.append(copy)
            return
        path = find.entry.path
        draft = Draft(f"copy:{path}", name, None, None, find.home, never_saved=never_saved, trashed=trashed)
        if never_saved:
            text = copy.evidence[0].text if copy.evidence else "it lies where drafts of never-saved documents are kept"
            draft.copies.append(replace(copy, confidence=0.99, evidence=copy.evidence or (weights.evidence("its-own-file", text),)))
        else:
            piece = weights.evidence("its-own-file", "nothing tells of another file that it belongs to")
            draft.copies.append(replace(copy, confidence=max(copy.confidence, 0.6), evidence=(piece,)))
        self.drafts[draft.key] = draft

    # --- saved files ----------------------------------------------------------------------------------------------

    def add_saved(self, draft: Draft) -> int | None:
        """Add the saved file as it is now; its place in the list, None if there is none."""
        if draft.original is None:
            return None
        source = self._source(draft.original)
        if source is None or not exists(draft.original):
            return None
        try:
            entry = source.entry(draft.original)
        except SourceError as error:
            self._problem(draft.original, error.what)
            return None
        if entry.link_target is not None or entry.is_folder:
            return None
        name = os.path.basename(draft.original)
        content, _ = self.reader.content(entry, name)
        piece = weights.evidence("its-own-file", "it is the saved file itself")
        draft.copies.append(
            Copy(entry, Kind.SAVED, SAVED_PLACE, content, extension_right(name, content.format),
                 clocks_of(entry, content, None, {}), confidence=1.0, evidence=(piece,))
        )  # fmt: skip
        return len(draft.copies) - 1


def _foreign(content: Content, place: Place) -> bool:
    """Whether the content shows that this only has the name of a copy of this place, not its nature."""
    whole = content.format is not None and content.state is not State.DAMAGED
    return bool(place.formats) and whole and content.format not in (*place.formats, "cfb")


def _complete(content: Content, place: Place) -> tuple[Content, tuple[str, ...]]:
    """What was being written is damaged unless its own lengths and sums prove it whole: text proves nothing."""
    if place.complete or content.state is not State.INTACT:
        return content, ()
    if content.format and class_of(content.format) in ("text", "sheet", "slides") and content.format not in ("txt", "csv", "md"):
        return content, ("it was being written, but its own sums prove it whole",)
    reason = f"it was being written when it was left behind, and nothing in {content.format or 'it'} proves it whole"
    return replace(content, state=State.DAMAGED, reason=reason), ()


def _last_part(recorded: str) -> str:
    apart = take_apart(recorded)
    return apart.parts[-1] if apart and apart.parts else recorded.rstrip("/\\").replace("\\", "/").rpartition("/")[2]


def _quote(path: str) -> str:
    from urllib.parse import quote_from_bytes

    return quote_from_bytes(os.fsencode(path))


def first_answers(assembly: Assembly, finds: Sequence[Find], seconds: float, most: int) -> list[str]:
    """The newest copies of known places, checked, as lines for people: what is known before the whole tree is walked."""
    started = time.monotonic()
    lines = []
    newest = sorted(
        (f for f in finds if f.kind == "autosave" and f.entry.size and f.entry.modified),
        key=lambda f: f.entry.modified.timestamp() if f.entry.modified else 0.0,
        reverse=True,
    )
    for find in newest[:most]:
        if time.monotonic() - started > seconds:
            break
        place = assembly.catalogue.places[find.place]
        copy = assembly._copy(find, find.entry, ())
        listed = assembly.named.get(find.entry.path)
        name = listed[2] if listed and listed[2] else near.shown_stem(find, place.prefixes) or os.path.basename(find.entry.path)
        when = find.entry.modified.astimezone() if find.entry.modified else None
        lines.append(f"{show_name(name)}: an autosave of {when:%Y-%m-%d %H:%M} is {copy.content.state}")
    return lines
