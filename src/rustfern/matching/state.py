"""The table that finds are laid on: drafts of documents, reading each copy once, what every step shares."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta

import msgspec
from msgspec.structs import replace

from rustfern.cases.case_file import CaseFile
from rustfern.cases.content_memory import ContentMemory
from rustfern.catalogue.loader import Catalogue, Place
from rustfern.content import open as contents
from rustfern.content.ahead import ReadAhead, Wanted
from rustfern.core.errors import KeptEncrypted, SourceError
from rustfern.core.model import (
    Content,
    Copy,
    Entry,
    Evidence,
    Find,
    Glance,
    Home,
    Kind,
    Layout,
    Location,
    Lock,
    Problem,
    Record,
    State,
)
from rustfern.core.paths import fold_name, inside
from rustfern.core.times import Clock, to_utc
from rustfern.formats.format_table import class_of, extension_right
from rustfern.matching.evidence import by_name as near
from rustfern.matching.evidence import weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.search.recorded_paths import RecordedPaths, home_finder, take_apart
from rustfern.settings.read import Settings
from rustfern.sources.interface import Source
from rustfern.sources.registry import Sources

_TRIES = 3
_OF_WORDS = frozenset({"text", "sheet", "slides", "notes", "mail", "code"})
OPEN_FOR, SLACK = timedelta(days=30), timedelta(minutes=2)
"""How long a document may stay open after its lock was made; how far clocks of one machine may be apart."""


class Draft(msgspec.Struct):
    """A document while it is put together. `key` is its original's path, or that of the copy that stands for it."""

    key: str
    name: str
    original: str | None = None
    recorded: str | None = None
    home: Home | None = None
    copies: list[Copy] = msgspec.field(default_factory=list)
    locks: list[Lock] = msgspec.field(default_factory=list)
    records: list[Record] = msgspec.field(default_factory=list)
    deleted: dict[str, datetime] = msgspec.field(default_factory=dict)
    changed: bool = False
    changed_since: datetime | None = None
    never_saved: bool = False
    trashed: bool = False
    misplaced: bool = False
    misnamed: bool = False
    in_use: bool = False
    place: str = ""
    within: str | None = None

    def note_change(self, entry: Entry, *, first: bool = False) -> None:
        """Something shows a change that was not saved; with `first` the time of the first one stays. What its program deleted shows that the
        session ended in order.
        """
        if not entry.deleted:
            self.changed = True
            self.changed_since = (self.changed_since if first else None) or entry.modified


class Reader:
    """Reads each copy at most once. Problems and bytes are counted where they arise."""

    def __init__(
        self, door: Sources, on_problem: Callable[[str, str], None], memory: ContentMemory | None = None
    ) -> None:
        self._door, self._memory = door, memory
        self._known: dict[Location, tuple[Content, tuple[str, ...]]] = {}
        self._on_problem = on_problem
        self._ahead: ReadAhead | None = None
        self.bytes_read = 0

    def content(self, entry: Entry, name: str) -> tuple[Content, tuple[str, ...]]:
        """The checked content of a copy and its members; unreadable ones say why."""
        known = self._known.get(entry.location)
        if known is None:
            try:
                known = self._settled(entry, name)
            except KeptEncrypted as error:
                known = Content(Glance(), State.ENCRYPTED, error.what, entry.size), ()
            except SourceError as error:
                self._on_problem(entry.path, error.what)
                known = Content(Glance(), State.UNREADABLE, error.what, entry.size), ()
            except (
                MemoryError,
                RecursionError,
                ValueError,
                LookupError,
                ArithmeticError,
                AttributeError,
                TypeError,
            ) as error:
                # Whatever a strange file does to a parser: one bad file never stops a search.
                what = f"its content could not be read ({type(error).__name__}: {str(error)[:100]}); restore it by its id and look"
                self._on_problem(entry.path, what)
                known = Content(Glance(), State.UNREADABLE, what, entry.size), ()
            self._known[entry.location] = known
        return known

    def _settled(self, entry: Entry, name: str) -> tuple[Content, tuple[str, ...]]:
        """Read a copy; one that changes while it is read is read again, then said to be still written."""
        memory = None if entry.deleted else self._memory
        if memory is not None and (content := memory.known(entry, name)) is not None:
            return content, ()
        if self._ahead is not None and (content := self._ahead.content(entry, name)) is not None:
            self.bytes_read += content.size
            if memory is not None:
                memory.remember(entry, name, content)
            return content, ()
        source = self._door.open(entry.root)
        for attempt in range(_TRIES):
            known = contents.check(self._door, entry, name)
            self.bytes_read += known[0].size
            if entry.is_folder:
                break
            now = source.entry(entry.path)
            if (now.size, now.modified) == (entry.size, entry.modified):
                if memory is not None:
                    memory.remember(entry, name, known[0])
                break
            entry = replace(now.at_part(entry.part), companions=entry.companions)
            if attempt == _TRIES - 1:
                content = replace(known[0], reason=f"{known[0].reason}; it was still being written while it was read")
                self._on_problem(entry.path, "this copy is still being written: scan again in a minute")
                return content, known[1]
        return known

    @contextmanager
    def ahead_of(self, wanted: Iterable[Wanted]) -> Iterator[None]:
        """In here these files are read by other cores before they are asked for, unless most are known from an earlier search."""
        if not self.is_reading or (self._memory is not None and self._memory.knows_some):
            yield
            return
        with ReadAhead(self._door, wanted) as ahead:
            self._ahead = ahead
            try:
                yield
            finally:
                self._ahead = None

    is_reading = True
    """Whether contents are read; where they are not, steps ask for what they would have to read."""

    @contextmanager
    def must_read(self) -> Iterator[None]:
        """A step that only contents can tell anything in."""
        yield

    def is_enough(self, found: Sequence[Candidate]) -> bool:
        """Whether nothing more need be told of a copy than that one of these is its document."""
        return False

    def need(self, paths: Iterable[str]) -> None:
        """Documents that would have to be read."""

    def know(self, location: Location, content: Content) -> None:
        """Take what was read of a copy elsewhere."""
        self._known[location] = content, ()

    def has(self, location: Location) -> bool:
        """Whether this was read before."""
        return location in self._known


def clocks_of(entry: Entry, content: Content) -> dict[str, datetime]:
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


def rebuilt_copy(find: Find, entry: Entry, content: Content, piece: Evidence, recipe: str, bases: list[Entry]) -> Copy:
    """A copy whose content is rebuilt from what an editor left, by `recipe` and the versions `bases`."""
    return Copy(
        entry=entry, kind=Kind(find.kind), place=find.place, content=content, extension_right=None,
        clocks=clocks_of(entry, Content(Glance(), State.INTACT, "", 0)), order=find.order, evidence=(piece,),
        confidence=weights.confidences([[piece]])[0], recipe=recipe, bases=tuple(base.path for base in bases),
    )  # fmt: skip


class LinkState:
    """The table on which finds become documents."""

    def __init__(
        self,
        catalogue: Catalogue,
        door: Sources,
        clock: Clock,
        homes: Sequence[Home],
        sources: Sequence[Source],
        case: CaseFile,
        problems: list[Problem],
        reader: Reader,
        *,
        narrowed: bool = False,
    ) -> None:
        self.catalogue, self.homes, self.sources = catalogue, homes, sources
        self.door, self.clock = door, clock
        self.roots = [source.root for source in sources]
        self.paths = RecordedPaths(door, homes, self.roots)
        self.home_of = home_finder(homes)  # the home that a path lies in, the innermost
        self.case, self.problems, self.reader = case, problems, reader
        self.synced: dict[str, str] = {}
        """The root of a service whose folder is searched too → that folder."""
        self.drafts: dict[str, Draft] = {}
        self.unmatched: list[Copy | Lock | Record] = []
        self.named: dict[str, tuple[Draft | None, Evidence, str]] = {}  # autosave path → who it belongs to, by a list
        self.more: list[Find] = []
        self.narrowed = narrowed
        self.settings = Settings()
        self.recorded: set[str] = set()  # records that were read before everything was walked
        self.found_paths: set[str] = set()
        self.recorded_times: dict[str, datetime] = {}  # copy → when an editor's own list says it was kept
        self.mail_stores: list[Find] = []

    def key(self, path: str, home: Home | None) -> str:
        """What tells documents apart: the original's path, whatever its case where the system does not mind it."""
        fixed = os.path.normpath(path)
        return fold_name(fixed) if home is not None and home.layout is not Layout.LINUX else fixed

    def draft(self, path: str, home: Home | None, recorded: str | None = None) -> Draft:
        """The draft of the document whose original is, or was, at this path."""
        path = self._here(path)
        home = home or self.home_of(path)
        key = self.key(path, home)
        draft = self.drafts.get(key)
        if draft is None:
            draft = Draft(key, os.path.basename(path), path, recorded, self.home_of(path) or home)
            self.drafts[key] = draft
        draft.recorded = draft.recorded or recorded
        return draft

    def _here(self, path: str) -> str:
        """The file here that one of a service stands for, where it is here too."""
        for far, folder in self.synced.items():
            if inside(path, far) and self.door.exists(here := os.path.join(folder, os.path.relpath(path, far))):
                return here
        return path

    def outside(self, recorded: str, title: str, home: Home | None) -> Draft:
        """The draft of a document whose original lies outside what is searched."""
        return self.drafts.setdefault(
            f"recorded:{recorded}", Draft(f"recorded:{recorded}", title, None, recorded, home)
        )

    def source_of(self, path: str) -> Source | None:
        """The source that a path lies in, None if it is outside."""
        return next((source for source in self.sources if inside(path, source.root)), None)

    def location_of(self, path: str) -> Location:
        """The location of a path in what is searched."""
        source = self.source_of(path)
        return Location(source.root if source else "", path)

    def modified(self, path: str) -> datetime | None:
        """When a file was last written, None if it is not there or not inside what is searched."""
        source = self.source_of(path)
        try:
            return source.entry(path).modified if source and self.door.exists(path) else None
        except SourceError:
            return None

    def problem(self, path: str, message: str) -> None:
        """Note something that could not be read; the search goes on."""
        self.problems.append(Problem(path, message))

    @contextmanager
    def isolated(self, *things: Find | Lock | str) -> Iterator[None]:
        """A step that works on these finds (or paths): an error of any sort costs them alone. They are listed as ones that could not
        be judged, and the search goes on.
        """
        try:
            yield
        except Exception as error:
            for thing in things:
                self._not_judged(thing, error)

    def _not_judged(self, thing: Find | Lock | str, error: Exception) -> None:
        what = not_judged(error)
        path = thing if isinstance(thing, str) else thing.entry.path
        self.problem(path, what)
        if isinstance(thing, Lock):
            self.unmatched.append(replace(thing, notes=(*thing.notes, what)))
        elif isinstance(thing, str) or self._was_given(path):
            return
        elif thing.kind == "lock":
            self.unmatched.append(Lock(thing.entry, thing.place, None, None, thing.entry.modified, notes=(what,)))
        elif thing.kind == "record":
            self.unmatched.append(
                Record(path, self.catalogue.places[thing.place].reader, what, when=thing.entry.modified)
            )
        else:
            content = Content(Glance(), State.UNREADABLE, what, thing.entry.size)
            with suppress(Exception):  # whatever failed may fail again here
                content, _ = self.content_of(thing.entry, os.path.basename(path))
            self.unmatched.append(
                Copy(
                    thing.entry,
                    Kind(thing.kind),
                    thing.place,
                    content,
                    None,
                    clocks_of(thing.entry, content),
                    notes=(what,),
                )
            )

    def _was_given(self, path: str) -> bool:
        """Whether a copy or lock has its document, or is listed without one."""
        copies = (copy.entry.path for draft in self.drafts.values() for copy in draft.copies)
        locks = (lock.entry.path for draft in self.drafts.values() for lock in draft.locks)
        left = (item.path if isinstance(item, Record) else item.entry.path for item in self.unmatched)
        return path in copies or path in locks or path in left

    def content_of(self, entry: Entry, name: str) -> tuple[Content, tuple[str, ...]]:
        """The checked content of a copy and its members."""
        return self.reader.content(entry, name)

    def name_of(self, find: Find) -> str:
        """The name that tells of what kind a copy is: its document's, as far as its own tells that, else its own."""
        told = near.shown_stem(find, self.catalogue.places[find.place].prefixes) if "name" in find.fields else None
        return told or os.path.basename(find.entry.path)

    def read_copy(self, find: Find, entry: Entry, evidence: tuple[Evidence, ...], name: str | None = None) -> Copy:
        """Read what a find holds, to its end."""
        place = self.catalogue.places[find.place]
        base = os.path.basename(entry.path)
        content, members = self.content_of(entry, name or self.name_of(find))
        content, notes = complete_enough(content, place) if not is_other_format(content, place) else (content, ())
        return Copy(
            entry=entry,
            kind=Kind(find.kind),
            place=find.place,
            content=content,
            extension_right=extension_right(base, content.format),
            clocks=self._clocks(entry, content),
            order=find.order,
            complete=place.complete,
            evidence=evidence,
            members=members,
            notes=notes,
        )

    def _clocks(self, entry: Entry, content: Content) -> dict[str, datetime]:
        clocks = clocks_of(entry, content)
        if entry.path in self.recorded_times:
            clocks["record"] = self.recorded_times[entry.path]
        return clocks

    def own_document(
        self,
        copy: Copy,
        find: Find,
        name: str,
        *,
        never_saved: bool = False,
        trashed: bool = False,
        in_use_store: bool = False,
    ) -> None:
        """A leftover with content but no known original is its own document; without content it stays unmatched."""
        content = copy.content
        place = self.catalogue.places[find.place]
        if self.narrowed and place.where == "volume":
            # A common temporary folder or trash: it may well be another person's, whose documents were not looked at.
            note = "in a folder that all people share: it may belong to somebody else"
            self.unmatched.append(replace(copy, notes=(*copy.notes, note)))
            return
        whole = content.state in (State.INTACT, State.ENCRYPTED) or (trashed and content.state is not State.DAMAGED)
        # Drawings, models and scores have no words, and are not empty.
        empty = content.words == 0 and class_of(content.format) in _OF_WORDS
        if not whole or empty:
            self.unmatched.append(copy)
            return
        path = find.entry.path
        draft = Draft(f"copy:{path}", name, None, None, find.home, never_saved=never_saved, trashed=trashed)
        draft.in_use = in_use_store or place.in_use_store
        if never_saved:
            text = copy.evidence[0].text if copy.evidence else "it lies where drafts of never-saved documents are kept"
            draft.copies.append(
                replace(copy, confidence=0.99, evidence=copy.evidence or (weights.evidence("its-own-file", text),))
            )
        else:
            piece = weights.evidence("its-own-file", "nothing tells of another file that it belongs to")
            draft.copies.append(replace(copy, confidence=max(copy.confidence, 0.6), evidence=(piece,)))
        self.drafts[draft.key] = draft


def not_judged(error: Exception) -> str:
    """What is said of something that a mistake of ours, or a want of memory, kept from being judged."""
    return f"could not be judged ({type(error).__name__}: {str(error)[:100]}); look at it, and restore it by its id"


def is_other_format(content: Content, place: Place) -> bool:
    """Whether the content shows that this only has the name of a copy of this place, not its nature."""
    whole = content.format is not None and content.state is not State.DAMAGED
    return bool(place.formats) and whole and content.format not in (*place.formats, "cfb")


def complete_enough(content: Content, place: Place) -> tuple[Content, tuple[str, ...]]:
    """What was being written is damaged unless its own lengths and sums prove it whole: text proves nothing."""
    if place.complete or content.state is not State.INTACT:
        return content, ()
    if (
        content.format
        and class_of(content.format) in ("text", "sheet", "slides")
        and content.format not in ("txt", "csv", "md")
    ):
        return content, ("it was being written, but its own sums prove it whole",)
    reason = f"it was being written when it was left behind, and nothing in {content.format or 'it'} proves it whole"
    return replace(content, state=State.DAMAGED, reason=reason), ()


def last_part(recorded: str) -> str:
    """The file name of a recorded path or URL."""
    apart = take_apart(recorded)
    return apart.parts[-1] if apart and apart.parts else recorded.rstrip("/\\").replace("\\", "/").rpartition("/")[2]


def where_to_ask(recorded: str) -> str | None:
    """What to ask for when an original is on a disk, a share or a server that is not there; None if nothing tells."""
    apart = take_apart(recorded)
    if apart is None:
        return None
    if apart.web:
        return f"its saved file is on a server ({recorded}): ask for access to it"
    if apart.share:
        return f"its saved file was on the share \\\\{apart.drive}: ask for it"
    if apart.drive not in ("", "C"):
        return f"its saved file was on drive {apart.drive}: ask for that disk or stick ({recorded})"
    if len(apart.parts) > 2 and apart.parts[0].casefold() in ("media", "mnt", "run", "volumes"):
        stick = apart.parts[1] if apart.parts[0].casefold() in ("mnt", "volumes") else "/".join(apart.parts[1:-1][:3])
        return f"its saved file was on the volume {stick}: ask for it ({recorded})"
    return f"its saved file is outside of what is searched: {recorded}"
