"""Swap files, journals and dead files: rebuilt on the version that was opened, sought among all copies of the document."""

from __future__ import annotations

import os
from datetime import timedelta
from typing import TYPE_CHECKING

from msgspec.structs import replace

from rustfern.content import open as contents
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Content, Entry, Find, Glance, Lock, State
from rustfern.core.times import to_utc
from rustfern.matching.evidence import weights
from rustfern.matching.record_files import RecordFiles
from rustfern.matching.state import Draft, LinkState, last_part, rebuilt_copy
from rustfern.traces.registry import Sort, Trace

if TYPE_CHECKING:
    from rustfern.traces import kate_journal, vim_swap

_MAX_JOURNAL = 256 << 20
_SIGN_BYTES = 64
_SAME_SECOND = timedelta(seconds=1)


class SwapFiles:
    """The steps that match and rebuild swap files. They come last: any copy may be what a swap is rebuilt on."""

    def __init__(self, state: LinkState) -> None:
        self.state = state

    def take_swap(self, find: Find) -> bool:
        """Find the document of a swap file, a journal or a dead file, and rebuild its text. False if it is none of another program's making."""
        place = self.state.catalogue.places[find.place]
        trace = place.trace
        assert trace is not None
        if trace.sort is Sort.JOURNAL:
            self._journal(find)
        elif trace.sort is Sort.DEAD_FILE:
            return self._dead_file(find)
        elif trace.sort is Sort.LINES:
            return RecordFiles(self.state).take(find)
        elif trace.sort is Sort.UNSAVED_TEXT:
            self._unsaved_text(find, trace, place.reader)
        elif trace.sort is Sort.WEB_PAGES:
            self._pages(find)
        else:
            return self._swap(find)
        return True

    def _journal(self, find: Find) -> None:
        """Kate's journal names nothing: it lies beside its text, under its name, and its sum tells the version."""
        from rustfern.traces import kate_journal

        name = find.fields.get("name") or find.fields["elsewhere"]
        here = os.path.join(os.path.dirname(find.entry.path), name)
        if "elsewhere" in find.fields:
            found = [path for path in self.state.case.names.by_name(name) if self.state.home_of(path) == find.home]
            here = found[0] if found else here
        draft = self.state.draft(here, find.home)
        bases = self._versions(draft)
        try:
            with contents.open_content(self.state.door, find.entry) as stream:
                journal = kate_journal.parse(stream.read(_MAX_JOURNAL))
            bases = [base for base in bases if self._fits(base, journal)][:1]
            content = contents.check_rebuilt(self.state.door, find.entry, name, "kate-journal", bases)
        except Malformed as error:
            content = Content(
                Glance(format="txt"), State.DAMAGED, f"its text cannot be rebuilt: {error}", find.entry.size
            )
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            content = Content(Glance(format="txt"), State.UNREADABLE, error.what, find.entry.size)
        piece = weights.evidence("name-beside", f"its name is that of {name} with an addition, in the same folder")
        draft.copies.append(rebuilt_copy(find, find.entry, content, piece, "kate-journal", bases))
        draft.note_change(find.entry, first=True)

    def _fits(self, base: Entry, journal: kate_journal.Journal) -> bool:
        from rustfern.traces import kate_journal

        try:
            with contents.open_content(self.state.door, base) as stream:
                return kate_journal.blob_id(stream.read(_MAX_JOURNAL)) == journal.base
        except SourceError:
            return False

    def _dead_file(self, find: Find) -> bool:
        """Each text in a dead file belongs to a document of its own. False if it is none, but a text of whatever program."""
        from rustfern.traces import joe_dead

        try:
            with contents.open_content(self.state.door, find.entry) as stream:
                texts = joe_dead.parse(stream.read(_MAX_JOURNAL))
        except Malformed:
            return False
        except SourceError as error:
            self.state.problem(find.entry.path, f"this dead file cannot be read: {error}")
            return True
        for text in texts:
            entry = find.entry.at_part(str(text.number))
            piece = weights.evidence("swap-header", f"text {text.number} of the dead file carries this name")
            if text.name:
                path = text.name if text.name.startswith("/") else os.path.join(os.path.dirname(entry.path), text.name)
                here = (
                    self.state.paths.translate(path, find.home) if text.name.startswith("/") else os.path.normpath(path)
                )
                draft = (
                    self.state.draft(here, find.home, text.name)
                    if here and self.state.source_of(here)
                    else self.state.outside(text.name, last_part(text.name), find.home)
                )
            else:
                key = f"copy:{entry.path}#{text.number}"
                draft = self.state.drafts.setdefault(
                    key, Draft(key, "Unnamed text", None, None, find.home, never_saved=True)
                )
            content = contents.check_rebuilt(self.state.door, entry, draft.name, "joe-part", ())
            copy = rebuilt_copy(find, entry, content, piece, "joe-part", [])
            if text.when_local:
                copy = replace(copy, clocks={**copy.clocks, "record": to_utc(text.when_local, entry.modified)})
            draft.copies.append(copy)
            draft.note_change(entry)
        return True

    def _unsaved_text(self, find: Find, trace: Trace, recipe: str) -> None:
        """An unsaved text that carries the address of its file, or none."""
        data = b""
        try:
            with contents.open_content(self.state.door, find.entry) as stream:
                data = stream.read(_MAX_JOURNAL)
            address, title, text = trace.parse(data)
        except Malformed as error:
            if data.strip(b"\0"):
                self.state.problem(find.entry.path, f"this unsaved text cannot be read: {error}")
            return
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            return
        original = self.state.paths.translate(address, find.home) if address else None
        if not address:
            if not text.strip():
                return
            key = f"copy:{find.entry.path}"
            draft = self.state.drafts.setdefault(key, Draft(key, title, None, None, find.home, never_saved=True))
        else:
            draft = (
                self.state.draft(original, find.home, address)
                if original
                else self.state.outside(address, last_part(address), find.home)
            )
        piece = weights.evidence(
            "swap-header", "it carries the address of this document" if address else "its text was never named"
        )
        content = contents.check_rebuilt(self.state.door, find.entry, draft.name, recipe, ())
        draft.copies.append(rebuilt_copy(find, find.entry, content, piece, recipe, []))
        draft.note_change(find.entry, first=True)

    def _pages(self, find: Find) -> None:
        """Text typed into web pages: each page is a document of its own; the newest session that holds it counts."""
        from rustfern.traces import browser_session

        try:
            with contents.open_content(self.state.door, find.entry) as stream:
                forms = browser_session.parse(stream.read(_MAX_JOURNAL))
        except Malformed as error:
            self.state.problem(find.entry.path, f"this session of a browser is damaged: {error}")
            return
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            return
        for form in forms:
            entry = find.entry.at_part(str(form.number))
            home = find.home.path if find.home else ""
            key = f"page:{home}:{form.address}:{form.text}"
            name = f"Text typed into {form.title or form.address or 'a page'}"
            draft = self.state.drafts.setdefault(key, Draft(key, name, None, None, find.home, never_saved=True))
            piece = weights.evidence("its-own-file", f"typed into the page {form.address}")
            content = contents.check_rebuilt(self.state.door, entry, "page.txt", "browser-form", ())
            draft.copies.append(rebuilt_copy(find, entry, content, piece, "browser-form", []))

    def _versions(self, draft: Draft) -> list[Entry]:
        """The files that may be the version that was opened: the saved one first."""
        entries = [copy.entry for copy in draft.copies if not copy.recipe]
        source = self.state.source_of(draft.original) if draft.original else None
        if source is not None and draft.original and self.state.door.exists(draft.original):
            entries.insert(0, source.entry(draft.original))
        return [entry for entry in entries if entry.is_file]

    def _swap(self, find: Find) -> bool:
        """Read a swap file's first block, find its document, rebuild its text."""
        from rustfern.traces import vim_swap

        try:
            with contents.open_content(self.state.door, find.entry) as stream:
                begins = stream.read(_SIGN_BYTES)
                stream.seek(0)
                header = vim_swap.parse(stream)
        except Malformed as error:
            if (
                find.fields.get("name")
                and self.state.catalogue.places[find.place].where == "beside"
                and find.entry.size
            ):
                beside = os.path.join(os.path.dirname(find.entry.path), find.fields["name"])
                if begins.strip(b"\0") and not begins.startswith(b"b0") and self.state.door.exists(beside):
                    return False
                self.state.problem(find.entry.path, f"this is named like a swap file but is none: {error}")
            return True
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            return True
        original = self._original(find, header)
        if header.lock_only:
            self._nano_lock(find, header, original)
            return True
        says = f"its first block names this document, open by {header.user} on {header.host}"
        piece = weights.evidence("swap-header", says)
        if original is None:
            name = "Unnamed text" if not header.path else os.path.basename(header.path)
            draft = Draft(
                f"copy:{find.entry.path}", name, None, header.path or None, find.home, never_saved=not header.path
            )
            self.state.drafts[draft.key] = draft
        else:
            draft = self.state.draft(original, find.home, header.path)
        bases = self._bases(draft, header)
        content = self._content(find, header, draft.name, bases)
        copy = rebuilt_copy(find, find.entry, content, piece, "vim-swap", bases)
        if not header.dirty:
            copy = replace(copy, notes=("the text was not changed when the editor last wrote this",))
        draft.copies.append(copy)
        lock = Lock(
            find.entry,
            find.place,
            header.user or None,
            header.host or None,
            find.entry.modified,
            notes=(f"process {header.pid}",),
        )
        draft.locks.append(replace(lock, evidence=(piece,), confidence=copy.confidence))
        return True

    def _original(self, find: Find, header: vim_swap.SwapHeader) -> str | None:
        """Where the recorded path lies here; beside the swap file if its own name says so too."""
        folder, name = os.path.dirname(find.entry.path), find.fields.get("name")
        path = header.path
        if path and not path.startswith(("/", "~")) and ":" not in path[:3]:
            return os.path.join(folder, path)  # as typed, without a folder
        if path.startswith("~"):
            person, _, rest = path[1:].partition("/")
            home = next((h for h in self.state.homes if os.path.basename(h.path) == person), find.home)
            found = os.path.join(home.path, *rest.split("/")) if home and ".." not in rest.split("/") else None
        else:
            found = self.state.paths.translate(path, find.home) if path else None
        if name and os.path.basename(path) == name and (found is None or not self.state.door.exists(found)):
            return os.path.join(folder, name)  # the folder was copied or moved as a whole
        return found

    def _bases(self, draft: Draft, header: vim_swap.SwapHeader) -> list[Entry]:
        """The copy that is the very version that was opened: by its time."""
        wanted = header.opened_version
        if wanted is None:
            return []
        entries = self._versions(draft)
        return [e for e in entries if e.modified is not None and abs(e.modified - wanted) <= _SAME_SECOND][:1]

    def _content(self, find: Find, header: vim_swap.SwapHeader, name: str, bases: list[Entry]) -> Content:
        if header.encrypted:
            return Content(
                Glance(format="txt"), State.ENCRYPTED, "the swap file is encrypted by the editor", find.entry.size
            )
        try:
            content, lines = contents.check_rebuilt_on(self.state.door, find.entry, name, "vim-swap", bases)
            if not lines:
                bases.clear()  # nothing was needed of it
            return content
        except SourceError as error:
            self.state.problem(find.entry.path, error.what)
            return Content(Glance(format="txt"), State.UNREADABLE, error.what, find.entry.size)

    def _nano_lock(self, find: Find, header: vim_swap.SwapHeader, original: str | None) -> None:
        piece = weights.evidence("lock-name", "the lock names it")
        lock = Lock(
            find.entry, find.place, header.user or None, header.host or None, find.entry.modified, evidence=(piece,)
        )
        if original is None:
            self.state.unmatched.append(lock)
            return
        draft = self.state.draft(original, find.home)
        draft.locks.append(replace(lock, confidence=weights.confidences([[piece]])[0]))
        if header.dirty:
            draft.note_change(find.entry, first=True)
