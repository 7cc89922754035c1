"""What contents say of a copy's document: which known ones are worth comparing with it, and what each comparison shows."""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from datetime import datetime, timedelta

from rustfern.core.errors import SourceError
from rustfern.core.model import Content, Copy, Find, Kind, Order, State
from rustfern.core.paths import fold_name, inside, show_name
from rustfern.core.remarks import counted
from rustfern.formats.format_table import (
    FORMATS,
    class_of,
    compatible,
    extension_of,
    extension_right,
    format_of_extension,
    title_of,
)
from rustfern.matching.evidence import by_content, by_identity, weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.evidence.similarity_index import Likeness
from rustfern.matching.saved_documents import SavedDocuments, SavedRow
from rustfern.matching.state import SLACK, Draft, LinkState, clocks_of

_MAX_COMPARED, _MAX_TEXTS = 40, 4_000
_MAX_NEAR = 40
_MAX_LOOKED_AROUND, _MAX_FOR_FINDS = 400, 4_000
_ABOUT_THEN = timedelta(days=60)
_SAVED_AFTER = timedelta(days=1)
_ENOUGH_WORDS = 10
_SOON, _LATER = timedelta(days=7), 0.5
_MIN_SAME_WORDS, _SAME_SHARE, _NEARLY_SAME_SHARE = 20, 0.9, 0.85
"""Least words, and shares of their runs that another file must hold, to be the same text (or nearly)."""
_TELLING = 2.0
"""An identity that weighs less than this does not make up for texts that have nothing in common."""
_MUCH_OF_IT, _BY_PART_OF_IT, _OWN_IDENTITY = 0.8, 0.62, 4.5
"""Where less than this share of the copy's words is in the document, text and identities that others carry too weigh at most so much
of what text can; an identity from this weight on is the document's own.
"""


class Comparing:
    """The steps that compare contents."""

    def __init__(self, state: LinkState) -> None:
        self.state = state
        self.like: dict[str, SavedDocuments] = {}
        self.homeless: list[Draft] | None = None
        self.looked_around = 0
        self.looked_for_finds = 0
        self.likeness = Likeness()  # the contents of known documents
        self.indexed: dict[str, int] = {}  # how many versions of each are in it
        self.drafted: dict[str, int] = {}  # how many copies its draft had then

    def compare(self, copy: Copy, found: list[Candidate], *, beside: bool = False) -> None:
        """Add what the contents of candidates say, for them and against those that the name or (`beside`) the folder speaks for."""
        if not self.state.reader.is_reading:
            if self.state.reader.is_enough(found):
                self.state.reader.need(item.path for item in found)
            return
        contents = {item.path: self.contents_of(item.path) for item in found[:_MAX_COMPARED]}
        for path, held in contents.items():
            self._add(path, held)
        shares = by_content.shared_among(copy.content, contents)
        folders = self._recorded_folders(copy)
        for item in found[:_MAX_COMPARED]:
            if os.path.dirname(item.path) in folders:
                text = "it carries the folder of this document as the one where it was last saved"
                item.evidence.append(weights.evidence("recorded-folder", text))
            claimed = beside or bool(item.evidence)
            alike, tie = False, 0.0
            for content in contents[item.path]:
                # Of many versions only the one that says most: the strongest of a family counts.
                if tied := by_identity.shared_identity(copy.content, content, self.likeness.carriers, tie):
                    item.evidence.append(tied)
                    tie = tied.weight
                    alike = alike or tied.weight >= _TELLING
                if content.sha256 is not None and content.sha256 == copy.content.sha256:
                    text = "its bytes are those of a copy of this document"
                    item.evidence.append(weights.evidence("identical-bytes", text))
                    alike, tie = True, math.inf
            if share := shares.get(item.path, 0.0):
                item.likeness = 1.0 if alike else share
                common = max(by_content.difference(copy.content, content).common for content in contents[item.path])
                text = f"it shares {counted(common, 'word')} with a copy of this document"
                strength = share**1.5
                if not claimed and tie < _OWN_IDENTITY and common < _MUCH_OF_IT * (copy.content.words or 0):
                    # All of a small sibling's text can stand in a copy of another document of the same template, and
                    # what few documents carry may be the template's too.
                    strength = min(strength, max(0.0, _BY_PART_OF_IT - tie / weights.WEIGHTS["shared-content"][0]))
                item.evidence.append(weights.evidence("shared-content", text, strength))
            elif claimed and not alike and self._strangers(copy.content, contents[item.path]):
                text = "no three words in a row of it are in this document: look at it before you restore it"
                item.evidence.append(weights.evidence("other-content", text))

    @staticmethod
    def _strangers(mine: Content, versions: list[Content]) -> bool:
        enough = [each for each in versions if (each.words or 0) >= _ENOUGH_WORDS]
        return (mine.words or 0) >= _ENOUGH_WORDS and bool(enough)

    def weigh_times(self, copy: Copy, find: Find, found: list[Candidate]) -> None:
        """What tells documents of one name apart: a backup is of the format of its document, which was saved at that time or later."""
        if find.order is not Order.BEFORE or not self.state.reader.is_reading:
            return
        for item in found:
            if not item.evidence:
                continue
            saved, when = self.state.modified(item.path), copy.entry.modified
            if saved is not None and when is not None:
                if saved < when - _SAVED_AFTER / 12:
                    text = "this document was last saved before the backup was made"
                    item.evidence.append(weights.evidence("saved-before", text))
                elif saved - when <= _SAVED_AFTER:
                    text = "this document was saved within a day of the backup"
                    item.evidence.append(weights.evidence("saved-after", text))
            versions = self.contents_of(item.path)[:1]
            if versions and by_identity.later(copy.content, versions[0]) > 0:
                text = "this document was saved fewer times than the copy, which was made before a save"
                item.evidence.append(weights.evidence("fewer-saves", text))
            theirs = format_of_extension(extension_of(item.path))
            if copy.content.format and theirs and theirs != copy.content.format:
                text = f"a backup keeps the format of its document: this one is {title_of(copy.content.format)}"
                item.evidence.append(weights.evidence("other-format", text))

    def weigh_name(self, find: Find, told: str | None, found: list[Candidate]) -> None:
        """A copy that carries the name of one document is hardly a version of another; one in a home hardly of another person's."""
        stem = fold_name(told) if told else ""
        for item in found:
            home = self.state.home_of(item.path)
            if item.evidence and find.home and home and home.path != find.home.path:
                text = f"it lies in the home of {find.home.person}, this document in that of {home.person}"
                item.evidence.append(weights.evidence("other-person", show_name(text)))
            if not stem:
                continue
            name = fold_name(os.path.basename(item.path))
            if item.evidence and stem not in (name, name.rpartition(".")[0]):
                item.evidence.append(weights.evidence("other-name", "its own name is that of another document"))

    def resaved(self, draft: Draft, best: Copy) -> Copy | None:
        """The saved file of another name, or in another home, that holds all of what is thought lost; None if none was found.

        Looked for among documents that were saved in the week after the copy was written.
        """
        content = best.content
        if (content.words or 0) < _MIN_SAME_WORDS or best.entry.modified is None:
            return None
        home = draft.home
        base = (home.volume or home.path) if home else best.entry.root
        known = {copy.path for copy in draft.copies} | {draft.original}
        likely = [path for path in self._likely_originals(best, base) if path not in known and self._is_document(path)]
        holding = [path for path in likely if self._holds(path, best, content)]
        # What several files hold, whenever they were saved, is the text of a template, or tells nothing.
        if len(holding) != 1 or any(self._much_of(path, content) for path in likely if path != holding[0]):
            return None
        return self._saved_as(holding[0], self.contents_of(holding[0])[0], best.entry.modified)

    def _much_of(self, path: str, content: Content) -> bool:
        """Whether a file holds nearly all of a text, and perhaps more."""
        return any(by_content.shared(content, each) >= _NEARLY_SAME_SHARE for each in self.contents_of(path)[:1])

    def _holds(self, path: str, copy: Copy, content: Content) -> bool:
        """Whether a file holds all of a copy's text and little else, and was saved when the work on the copy ended, or soon after."""
        saved, when = self.state.modified(path), copy.entry.modified
        if saved is None or when is None or not when - SLACK <= saved <= when + _SOON:
            return False
        contents = self.contents_of(path)[:1]
        if not contents or contents[0].state is not State.INTACT:
            return False
        found = by_content.difference(content, contents[0])
        much = found.only_left or found.only_right > found.common / 2
        return not much and by_content.shared(content, contents[0]) >= _SAME_SHARE

    def _is_document(self, path: str) -> bool:
        """Whether a path is that of a document of its own, not of a copy of one."""
        return path not in self.state.found_paths

    def _saved_as(self, path: str, content: Content, written: datetime | None) -> Copy | None:
        """That file as a copy; saved days after the work was `written`, it may as well be another one made from the same text."""
        source = self.state.source_of(path)
        try:
            entry = source.entry(path) if source else None
        except SourceError:
            entry = None  # it vanished since it was compared
        if entry is None:
            return None
        soon = written is None or entry.modified is None or entry.modified - written <= _SAVED_AFTER
        text = f"all of its text stands in {show_name(os.path.basename(path))}, which was saved"
        piece = weights.evidence("shared-content", text, 1.0 if soon else _LATER)
        name = os.path.basename(path)
        return Copy(
            entry, Kind.VERSION, "by-content", content, extension_right(name, content.format), clocks_of(entry, content), Order.AFTER,
            confidence=weights.confidences([[piece]])[0], evidence=(piece,), notes=("saved under another name or in another folder",),
        )  # fmt: skip

    def strays(self, draft: Draft) -> list[str]:
        """Autosaves in the same home, of a format that the document can be saved in, whose document could not be told; where nobody had
        it open, those that were written within a day of the saved file, if that is damaged.
        """
        saved = next((copy for copy in draft.copies if copy.kind is Kind.SAVED), None)
        torn = saved is not None and saved.content.state is State.DAMAGED
        if not (draft.locks or torn):
            return []
        about = saved.entry.modified if saved and not draft.locks else None
        wanted = format_of_extension(extension_of(draft.name))
        if self.homeless is None:
            # Asked when all copies have their documents: looked up once for all that ask.
            self.homeless = [other for other in self.state.drafts.values() if other.original is None]
        return [
            copy.path
            for other in self.homeless
            if not other.never_saved and other.home == draft.home
            for copy in other.copies
            if copy.kind is Kind.AUTOSAVE and wanted and compatible(copy.content.format, wanted)
            if about is None or copy.entry.modified is None or abs(copy.entry.modified - about) <= _SAVED_AFTER
        ]

    def _recorded_folders(self, copy: Copy) -> set[str]:
        """Where a workbook says that it was last saved, as places inside what is searched."""
        home = self.state.home_of(copy.entry.path)
        told = by_identity.values(copy.content, "folder")
        here = (self.state.paths.translate(folder.rstrip("\\/") + "\\x", home) for folder in told)
        return {os.path.dirname(path) for path in here if path}

    def contents_of(self, path: str) -> list[Content]:
        """The contents of a document's copies known so far, its saved file first."""
        out = []
        source = self.state.source_of(path)
        if source is not None and self.state.door.exists(path):
            try:
                entry = source.entry(path)
                if entry.link_target is None and not entry.is_folder:
                    out.append(self.state.reader.content(entry, os.path.basename(path))[0])
            except SourceError:
                pass
        draft = self.state.drafts.get(self.state.key(path, self.state.home_of(path)))
        return out + [copy.content for copy in draft.copies] if draft else out

    def index(self, path: str) -> None:
        """Take what is known of a document's contents into the index, each version once."""
        self._add(path, self.contents_of(path))

    def _add(self, path: str, contents: Sequence[Content]) -> None:
        for content in contents[self.indexed.get(path, 0) :]:
            self.likeness.add(path, content)
        self.indexed[path] = len(contents)

    def around(self, find: Find, copy: Copy, *, beside: bool) -> list[Candidate]:
        """Documents that a copy without a telling name may belong to: those of its folder, or known ones that are like it."""
        folder = os.path.dirname(find.entry.path)
        format_name = copy.content.format
        if beside:
            drafted = [d.original for d in self.state.drafts.values() if d.original]
            paths = [*self.state.case.names.in_folder(folder), *(p for p in drafted if os.path.dirname(p) == folder)]
        else:
            base = (find.home.volume or find.home.path) if find.home else find.entry.root
            for draft in self.state.drafts.values():
                if draft.original and self.drafted.get(draft.original) != len(draft.copies):
                    self.drafted[draft.original] = len(draft.copies)
                    self.index(draft.original)
            likely = []
            if copy.content.tokens or copy.content.state is State.INTACT:
                likely = self._likely_originals(copy, base)
                for path in likely:
                    self.index(path)
            paths = [p for p in self.likeness.near(copy.content, _MAX_COMPARED) if inside(p, base)]
            paths += [p for p in likely if p not in paths]
        fitting = {p: None for p in paths if compatible(format_name, format_of_extension(extension_of(p)))}
        if format_name is None:
            wanted = self.state.catalogue.places[find.place].formats
            fitting = {
                p: None
                for p in fitting
                if not wanted or class_of(wanted[0]) == class_of(format_of_extension(extension_of(p)))
            }
        chosen = list(fitting)
        if beside and len(chosen) > _MAX_COMPARED:
            chosen = self._nearest_in_time(chosen, copy.entry.modified)
        return [Candidate(path, [], self.state.door.exists(path)) for path in chosen[:_MAX_COMPARED]]

    def _nearest_in_time(self, paths: list[str], when: datetime | None) -> list[str]:
        """Paths of a crowded folder, those first that were saved about the time of a copy; gone documents before all."""

        def apart(path: str) -> timedelta:
            saved = self.state.modified(path)
            return abs(saved - when) if saved and when else timedelta()

        return sorted(paths, key=apart)

    def _likely_originals(self, copy: Copy, base: str) -> list[str]:
        """Documents worth comparing with a copy from a temporary folder: of its very size, or written about its time."""
        known = self._documents_like(copy.content.format)
        same_size = [path for path in known.of_size(copy.entry.size) if inside(path, base)]
        about = timedelta.max if len(known) <= _MAX_NEAR else _ABOUT_THEN
        nearest = []
        if copy.entry.modified is not None:
            nearest = known.about(copy.entry.modified, about, copy.entry.size, _MAX_NEAR, base)
        fresh = [path for path in nearest if not self.state.reader.has(self.state.location_of(path))]
        self.looked_around += len(fresh)
        if self.looked_around > _MAX_LOOKED_AROUND:
            nearest = [path for path in nearest if path not in fresh]
        return same_size[:_MAX_NEAR] + nearest

    def originals_like(self, copy: Copy) -> list[str]:
        """Saved documents that are worth comparing with a find without a name: of its very size, and, where nobody knows when it was written, as many others as
        are read in one search; all of them go into the index.
        """
        if not (copy.content.tokens or copy.content.state is State.INTACT):
            return []
        known = self._documents_like(copy.content.format)
        same_size = list(known.of_size(copy.entry.size)[:_MAX_NEAR])
        for path, _, _ in known.rows:
            if path not in self.indexed and self.looked_for_finds <= _MAX_FOR_FINDS:
                self.looked_for_finds += not self.state.reader.has(self.state.location_of(path))
                self.index(path)
        return same_size

    def documents_like(self, format_name: str | None, when: datetime | None) -> list[str]:
        """The indexed documents that can be versions of one of this format, those first that were written about a time."""

        def apart(row: tuple[str, int, datetime | None]) -> float:
            return abs((row[2] - when).total_seconds()) if row[2] and when else 0.0

        return [path for path, _, _ in sorted(self._documents_like(format_name).rows, key=apart)]

    def _documents_like(self, format_name: str | None) -> SavedDocuments:
        """The indexed documents that a copy of this format can belong to; looked up once."""
        if format_name is None:
            return SavedDocuments([])
        found = self.like.get(format_name)
        if found is None:
            known: list[SavedRow] = []
            for other in [f for f in FORMATS if compatible(format_name, f) and f != "cfb"]:
                paths = self.state.case.names.with_extension(other)
                if other == "txt" and len(paths) > _MAX_TEXTS:
                    continue  # manuals, licences and lists of programs
                for path in paths:
                    source = self.state.source_of(path)
                    try:
                        if source is not None and (entry := source.entry(path)).is_file:
                            known.append((path, entry.size, entry.modified))
                    except SourceError:
                        continue
            found = self.like[format_name] = SavedDocuments(known)
        return found
