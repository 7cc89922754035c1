"""What the person asked for by name, or says does not open: found by half a name, by a slip of the pen, by copies elsewhere in the home."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from datetime import datetime

import msgspec
from msgspec.structs import replace

from rustfern.core.asked import NEAR, holds, likeness, words_of
from rustfern.core.errors import SourceError
from rustfern.core.model import Copy, Find, Kind, Order, State
from rustfern.core.paths import fold_name, show_name
from rustfern.formats.format_table import companions_of, extension_right, format_of_extension
from rustfern.matching.content_comparison import Comparing
from rustfern.matching.evidence import weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.state import Draft, LinkState
from rustfern.sources.folder import with_companions

_MAX_ASKED = 20
_MAX_NAMES = 200_000
_HARDLY = 0.55
"""How like a name must be, word by word, to be worth asking for."""
_NOT_SURE = 0.7
_NAME_ALONE = 0.4
"""The share of a name's weight where the damaged file shows nothing to compare: "possible"; of several namesakes, none is claimed."""
_MAX_LOOKED_AT = 5_000
_MAX_CHECKED = 200
"""Documents whose times are looked at, and that are read, where it is not said which of them does not open."""
_MAX_ELSEWHERE = 60
_OWN_NAMES = r"[^/.~$][^/]*"
"""Names that people give: not those of records, locks and hidden files."""
PLACE = "elsewhere-in-home"


class Requested(msgspec.Struct):
    """How a name that was asked for was found: `found` by names that hold it, or `near` (a slip of the pen); the `nearest` name else."""

    found: bool = False
    near: str | None = None
    nearest: str | None = None
    checked: int = 0
    documents: int = 0


class Requests:
    """The steps for what the person said."""

    def __init__(self, state: LinkState, comparing: Comparing) -> None:
        self.state, self._comparing = state, comparing
        self.answer = Requested()

    def add_named(self, asked: str) -> None:
        """What the person named is always answered for, also where nothing was left of it but the file itself."""
        answer = self.answer
        paths = self._exactly(asked) or self._holding(asked)
        answer.found = bool(paths) or any(holds(draft.name, asked) for draft in self.state.drafts.values())
        if not answer.found:
            like, names = self._like(asked)
            if like >= NEAR:
                answer.near, paths = os.path.basename(names[0]), names
            elif like >= _HARDLY:
                answer.nearest = os.path.basename(names[0])
        newest = sorted(paths, key=self._when, reverse=True)
        for path in newest[:_MAX_ASKED]:
            if path not in self.state.found_paths and self.state.door.exists(path):
                self.state.draft(path, self.state.home_of(path))

    def draft_exactly(self, asked: str) -> None:
        """The documents of just the name that was asked for are known before copies without a name are compared."""
        for path in self._exactly(asked)[:_MAX_ASKED]:
            if path not in self.state.found_paths and self.state.door.exists(path):
                self.state.draft(path, self.state.home_of(path))

    def _exactly(self, asked: str) -> list[str]:
        found: dict[str, None] = {}
        named = os.path.splitext(asked)[1]
        for stem in dict.fromkeys((asked, os.path.splitext(asked)[0])):
            for path in self.state.case.names.by_stem(fold_name(stem), limit=_MAX_ASKED):
                if not named or path.casefold().endswith(named.casefold()):
                    found[path] = None
        return list(found)

    def _holding(self, asked: str) -> list[str]:
        """Files whose names hold all that was typed, in any order."""
        words = words_of(asked)
        if not words:
            return []
        pattern = "(?i:" + "".join(f"(?=[^/]*{re.escape(word)})" for word in words) + "[^/]+)"
        return self.state.case.names.shaped(pattern, _MAX_NAMES)

    def _like(self, asked: str) -> tuple[float, list[str]]:
        """(how like, the files whose names are most like what was typed); of deleted and never saved documents too."""
        best, found = 0.0, list[str]()
        known = [draft.original or draft.name for draft in self.state.drafts.values()]
        for path in dict.fromkeys([*self.state.case.names.shaped("[^/]+", _MAX_NAMES), *known]):
            like = likeness(asked, os.path.basename(path))
            if like > best + 0.02:
                best, found = like, [path]
            elif like >= best - 0.02 and like:
                found.append(path)
        return best, found

    def _when(self, path: str) -> float:
        when = self.state.modified(path)
        return when.timestamp() if when else 0.0

    # --- what does not open ---------------------------------------------------------------------------------------

    def add_not_opening(self, lost_at: datetime | None) -> None:
        """Documents that do not open, of those written last (or about the time of the loss); for each, whole copies elsewhere in the home."""
        self._add_damaged(lost_at)
        self.add_copies_elsewhere(None)

    def add_copies_elsewhere(self, asked: str | None, *, written_over: bool = False) -> None:
        """For what was asked for (else for all that is known) and does not open: whole copies in other folders of the same home; with
        `written_over` also earlier files of its name there, where nothing else is known of it.
        """
        for draft in list(self.state.drafts.values()):
            if draft.original and (asked is None or holds(draft.name, asked) or draft.name == self.answer.near):
                with self.state.isolated(draft.original):
                    self._elsewhere(draft)
                    if written_over and not draft.copies:
                        self._earlier_elsewhere(draft)

    def _earlier_elsewhere(self, draft: Draft) -> None:
        """The files of a document's name in other folders of the same home that were written before it was."""
        assert draft.original is not None
        saved = self.state.modified(draft.original)
        for path in self.state.case.names.by_name(draft.name, limit=_MAX_ELSEWHERE):
            if path == draft.original or self.state.home_of(path) != draft.home or saved is None:
                continue
            other = self.state.drafts.get(self.state.key(path, self.state.home_of(path)))
            if (other is not None and other.copies) or path in self.state.found_paths:
                continue
            copy, mine = self._saved(path), self._saved(draft.original)
            if copy is None or mine is None or copy.content.state is not State.INTACT:
                continue
            if (
                copy.entry.modified is None
                or copy.entry.modified >= saved
                or copy.content.sha256 == mine.content.sha256
            ):
                continue
            text = f"a file of its name, last written before it, lies in {os.path.basename(os.path.dirname(path)) or os.sep}"
            piece = weights.evidence("name", show_name(text))
            sure = weights.confidences([[piece]])[0]
            draft.copies.append(replace(copy, evidence=(piece,), confidence=min(sure, _NOT_SURE), order=Order.BEFORE))

    def _add_damaged(self, lost_at: datetime | None) -> None:
        """Read the documents that were written last; those that are not whole, or of another format than their names say, are answered for."""
        timed = []
        for path in self.state.case.names.shaped(_OWN_NAMES, _MAX_LOOKED_AT):
            when = self.state.modified(path)
            if path not in self.state.found_paths and when is not None:
                timed.append((abs((when - lost_at).total_seconds()) if lost_at else -when.timestamp(), path))
        self.answer.documents = len(timed)
        for _, path in sorted(timed)[:_MAX_CHECKED]:
            with self.state.isolated(path):
                self.answer.checked += 1
                copy = self._saved(path)
                if copy is not None and (
                    copy.content.state in (State.DAMAGED, State.EMPTY) or copy.extension_right is False
                ):
                    self.state.draft(path, self.state.home_of(path))

    def _saved(self, path: str) -> Copy | None:
        """A file as a copy of a document, None if it cannot be looked at."""
        source = self.state.source_of(path)
        try:
            entry = source.entry(path) if source else None
        except SourceError:
            return None
        if source is None or entry is None or not entry.is_file:
            return None
        name = os.path.basename(path)
        find = Find(
            with_companions(source, entry, companions_of(name)), PLACE, Kind.VERSION, {}, self.state.home_of(path)
        )
        copy = self.state.read_copy(find, find.entry, ())
        return replace(copy, extension_right=extension_right(name, copy.content.format))

    def _elsewhere(self, draft: Draft) -> None:
        """Whole copies of a document that does not open: of its name, of its text or its identity, in the same home."""
        assert draft.original is not None
        saved = self._saved(draft.original)
        if saved is not None and saved.content.state is State.INTACT:
            return
        known = {draft.original, *(copy.path for copy in draft.copies)}
        namesakes = len(self.state.case.names.by_name(draft.name, limit=_MAX_ELSEWHERE)) - 1
        for path in self._candidates(draft, saved):
            if path in known or self.state.home_of(path) != draft.home:
                continue
            known.add(path)
            copy = self._saved(path)
            if copy is None or copy.content.state is not State.INTACT:
                continue
            found = [Candidate(draft.original, [])]
            if fold_name(os.path.basename(path)) == fold_name(draft.name):
                text = f"it carries its name, in {os.path.basename(os.path.dirname(path)) or os.sep}"
                found[0].evidence.append(weights.evidence("name", show_name(text), _NAME_ALONE / max(namesakes, 1)))
            self._comparing.compare(copy, found)
            pieces = found[0].evidence
            sure = weights.confidences([pieces])[0] if pieces else 0.0
            if sure >= weights.THRESHOLD:
                draft.copies.append(replace(copy, evidence=tuple(pieces), confidence=sure))
                self._is_a_copy(path)

    def _is_a_copy(self, path: str) -> None:
        """A file that fits what was asked for, and is a copy of a document that is listed: it is not listed by itself too."""
        key = self.state.key(path, self.state.home_of(path))
        other = self.state.drafts.get(key)
        if other is not None and not (other.copies or other.locks or other.records):
            del self.state.drafts[key]

    def _candidates(self, draft: Draft, saved: Copy | None) -> Iterator[str]:
        names = self.state.case.names
        yield from names.by_name(draft.name, limit=_MAX_ELSEWHERE)
        yield from names.by_stem(os.path.splitext(draft.name)[0], limit=_MAX_ELSEWHERE)
        if saved is not None and (saved.content.tokens or saved.content.glance.identity):
            wanted = format_of_extension(os.path.splitext(draft.name)[1].lstrip(".").lower())
            yield from self._comparing.documents_like(wanted, saved.entry.modified)[:_MAX_ELSEWHERE]
