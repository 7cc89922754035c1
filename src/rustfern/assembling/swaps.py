"""Swap files: rebuilt on the version that was opened, sought among all copies of the document."""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import timedelta

from rustfern import rebuilding
from rustfern.assembling.table import Draft, Table, clocks_of
from rustfern.errors import Malformed, SourceError
from rustfern.matching import weights
from rustfern.model import Content, Copy, Entry, Find, Glance, Kind, Lock, State
from rustfern.places.recorded import translate
from rustfern.sources.folder import exists
from rustfern.traces import vim_swap

_SAME_SECOND = timedelta(seconds=1)


class Swaps(Table):
    """The steps that match and rebuild swap files. They come last: any copy may be what a swap is rebuilt on."""

    def take_swap(self, find: Find) -> None:
        """Read a swap file's first block, find its document, rebuild its text."""
        try:
            with rebuilding.open_content(find.entry) as stream:
                header = vim_swap.parse(stream)
        except Malformed as error:
            if find.fields.get("name") and self.catalogue.places[find.place].where == "beside" and find.entry.size:
                self.problem(find.entry.path, f"this is named like a swap file but is none: {error}")
            return
        except SourceError as error:
            self.problem(find.entry.path, error.what)
            return
        original = self._original(find, header)
        if header.lock_only:
            self._nano_lock(find, header, original)
            return
        says = f"its first block names this document, open by {header.user} on {header.host}"
        piece = weights.evidence("swap-header", says)
        if original is None:
            name = "Unnamed text" if not header.path else os.path.basename(header.path)
            draft = Draft(
                f"copy:{find.entry.path}", name, None, header.path or None, find.home, never_saved=not header.path
            )
            self.drafts[draft.key] = draft
        else:
            draft = self.draft(original, find.home, header.path)
        bases = self._bases(draft, header)
        content = self._content(find, header, draft.name, bases)
        copy = Copy(
            entry=find.entry, kind=Kind.SWAP, place=find.place, content=content, extension_right=None,
            clocks=clocks_of(find.entry, Content(Glance(), State.INTACT, "", 0)), order=find.order, evidence=(piece,),
            confidence=weights.confidences([[piece]])[0], recipe="vim-swap", bases=tuple(base.path for base in bases),
            notes=() if header.dirty else ("the text was not changed when the editor last wrote this",),
        )  # fmt: skip
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

    def _original(self, find: Find, header: vim_swap.SwapHeader) -> str | None:
        """Where the recorded path lies here; beside the swap file if its own name says so too."""
        folder, name = os.path.dirname(find.entry.path), find.fields.get("name")
        path = header.path
        if path and not path.startswith(("/", "~")) and ":" not in path[:3]:
            return os.path.join(folder, path)  # as typed, without a folder
        if path.startswith("~"):
            person, _, rest = path[1:].partition("/")
            home = next((h for h in self.homes if os.path.basename(h.path) == person), find.home)
            found = os.path.join(home.path, *rest.split("/")) if home and ".." not in rest.split("/") else None
        else:
            found = translate(path, find.home, self.homes, self.roots) if path else None
        if name and os.path.basename(path) == name and (found is None or not exists(found)):
            return os.path.join(folder, name)  # the folder was copied or moved as a whole
        return found

    def _bases(self, draft: Draft, header: vim_swap.SwapHeader) -> list[Entry]:
        """The copy that is the very version that was opened: by its time."""
        entries = [copy.entry for copy in draft.copies if copy.kind is not Kind.SWAP]
        source = self.source_of(draft.original) if draft.original else None
        if source is not None and draft.original and exists(draft.original):
            entries.insert(0, source.entry(draft.original))
        wanted = header.opened_version
        if wanted is None:
            return []
        return [
            e for e in entries if e.is_file and e.modified is not None and abs(e.modified - wanted) <= _SAME_SECOND
        ][:1]

    def _content(self, find: Find, header: vim_swap.SwapHeader, name: str, bases: list[Entry]) -> Content:
        if header.encrypted:
            return Content(
                Glance(format="txt"), State.ENCRYPTED, "the swap file is encrypted by the editor", find.entry.size
            )
        try:
            content = rebuilding.check_rebuilt(find.entry, name, "vim-swap", bases)
            if bases and "of them from the version" not in content.reason:
                bases.clear()  # nothing was needed of it
            return content
        except SourceError as error:
            self.problem(find.entry.path, error.what)
            return Content(Glance(format="txt"), State.UNREADABLE, error.what, find.entry.size)

    def _nano_lock(self, find: Find, header: vim_swap.SwapHeader, original: str | None) -> None:
        piece = weights.evidence("lock-name", "the lock names it")
        lock = Lock(
            find.entry, find.place, header.user or None, header.host or None, find.entry.modified, evidence=(piece,)
        )
        if original is None:
            self.unmatched.append(lock)
            return
        draft = self.draft(original, find.home)
        draft.locks.append(replace(lock, confidence=weights.confidences([[piece]])[0]))
        if header.dirty:
            draft.changed, draft.changed_since = True, draft.changed_since or find.entry.modified
