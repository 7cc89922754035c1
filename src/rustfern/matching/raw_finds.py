"""Documents that a raw search found: each goes to the document that it is a version of, by what it holds; else it is one of its own."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

import msgspec
from msgspec.structs import replace

from rustfern.content import open as contents
from rustfern.core.asked import NEAR, likeness
from rustfern.core.model import Content, Copy, Entry, Find, Kind, Order, State
from rustfern.core.paths import show_name
from rustfern.formats.format_table import FORMATS, class_of, compatible, extension_of, format_of_extension
from rustfern.matching.content_comparison import Comparing
from rustfern.matching.evidence import weights
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.state import Draft, LinkState, clocks_of

PLACE, SWAP_PLACE, PART_RECIPE = "raw-space", "vim-swap", "packed-part"
_SAYS_SO = ("content", "identity")
_MAX_NEAR = 40
_ENOUGH_WORDS, _MUCH_SHARED = 10, 1.0
_MAX_GONE, _LONG_ENOUGH, _THE_SAME = 5_000, 6, 0.95
_SAFE = str.maketrans(dict.fromkeys('/\\:*?"<>|\0\n\r\t', " "))
_LONGEST, _FEW_LETTERS = 60, 3
MOST = 20_000
"""Finds that are matched and listed, those first that a person most likely misses; the others stay in the case."""
_LIKELY = (
    "text",
    "sheet",
    "slides",
    "page",
    "notes",
    "drawing",
    "image",
    "mail",
    "cad",
    "video",
    "audio",
    "database",
    "other",
    "code",
)


class Found(msgspec.Struct, frozen=True):
    """One find as it is matched: its entry on the disk, what it holds, what is missing of it, its first words, whether it is an editor's
    swap file, or one packed member of a package."""

    entry: Entry
    content: Content
    missing: str = ""
    first: str = ""
    is_swap: bool = False
    is_part: bool = False


class RawFinds:
    """The step that gives what was found without a record to its documents."""

    def __init__(
        self,
        state: LinkState,
        comparing: Comparing,
        take_swap: Callable[[Find], bool],
        named_gone: Callable[[], Sequence[str]],
    ) -> None:
        """`named_gone` gives the paths of documents that lists name as opened and that are gone."""
        self.state, self._comparing, self._take_swap = state, comparing, take_swap
        self._named_gone = named_gone
        self._gone: list[str] = []
        self._by_start: dict[int, tuple[Draft, Copy]] = {}
        self._same: dict[str, tuple[Draft, int]] = {}
        self._own: dict[str, Draft] = {}
        self._titles: dict[str, str] = {}
        self.more = 0
        """Finds that were not listed, as they are too many."""

    def take(self, finds: Sequence[Found], title_of: Callable[[Copy], str | None], wanted: str | None = None) -> None:
        """Match finds, those of the `wanted` class first, whole and newer ones first: what is left of others goes to them."""
        for draft in self.state.drafts.values():
            for copy in draft.copies:
                if copy.entry.extents:
                    self._by_start.setdefault(copy.entry.extents[0][0], (draft, copy))
        without = [each.original for each in self.state.drafts.values() if each.original and not each.copies]
        self._gone = [
            path for path in dict.fromkeys([*self._named_gone(), *without]) if not self.state.door.exists(path)
        ][:_MAX_GONE]
        for draft in self.state.drafts.values():
            if draft.original and self._comparing.drafted.get(draft.original) != len(draft.copies):
                self._comparing.drafted[draft.original] = len(draft.copies)
                self._comparing.index(draft.original)
        self.more += max(len(finds) - MOST, 0)
        ordered = sorted(
            finds, key=lambda each: (wanted is not None and class_of(each.content.format) != wanted, _order(each))
        )
        for found in ordered[:MOST]:
            with self.state.isolated(found.entry.path):
                self._one(found, title_of)

    def _one(self, found: Found, title_of: Callable[[Copy], str | None]) -> None:
        content = found.content
        if found.is_swap:
            self._take_swap(
                Find(found.entry, SWAP_PLACE, "swap", {}, self.state.home_of(found.entry.path), Order.UNKNOWN, True)
            )
            return
        copy = Copy(
            found.entry, Kind.RAW, PLACE, content, None, clocks_of(found.entry, content), notes=(found.missing,) if found.missing else (),
        )  # fmt: skip
        if found.is_part:
            told = contents.check_rebuilt(self.state.door, found.entry, "part.txt", PART_RECIPE, ())
            content = replace(told, state=State.DAMAGED, reason=content.reason)
            copy = replace(copy, content=content, recipe=PART_RECIPE)
        same = self._same.get(content.sha256 or "")
        if same is not None:
            draft, number = same
            known = draft.copies[number]
            note = "the same bytes lie at another place of the disk too"
            if note not in known.notes:
                draft.copies[number] = replace(known, notes=(*known.notes, note))
            return
        self.state.reader.know(found.entry.location, content)
        first = title_in(found.first)
        title = copy.content.glance.title or ("" if first.startswith("<") else first) or title_of(copy)
        draft, given = self._belongs_to(copy, title) or self._document_of_its_own(copy, title)
        draft.copies.append(given)
        if content.sha256:
            self._same[content.sha256] = draft, len(draft.copies) - 1
        self._comparing.likeness.add(self._key(draft), content)

    @staticmethod
    def _key(draft: Draft) -> str:
        return draft.original or draft.key

    def _belongs_to(self, copy: Copy, title: str | None) -> tuple[Draft, Copy] | None:
        """The document that a find is a version of, and the find with what shows it."""
        recorded = self._by_start.get(copy.entry.extents[0][0]) if copy.entry.extents else None
        if recorded is not None and compatible(
            copy.content.format, format_of_extension(extension_of(recorded[0].name))
        ):
            text = "it begins where the record of this deleted document says that it lay"
            piece = weights.evidence("deleted-record", text)
            return recorded[0], replace(copy, evidence=(piece,), confidence=weights.confidences([[piece]])[0])
        found = self._candidates(copy, title)
        self._comparing.compare(copy, found)
        found = [item for item in found if self._is_shown(copy, item)]
        shares = weights.confidences([item.evidence for item in found])
        best = max(range(len(found)), key=lambda i: shares[i], default=None)
        if best is None or shares[best] < weights.THRESHOLD:
            return self._named(copy, title)
        item = found[best]
        given = replace(copy, evidence=tuple(item.evidence), confidence=shares[best])
        own = self._own.get(item.path)
        return own or self.state.draft(item.path, self.state.home_of(item.path)), given

    def _named(self, copy: Copy, title: str | None) -> tuple[Draft, Copy] | None:
        """The one document that is gone, is known by a list or by its name alone, and is called what a find is titled."""
        if not title or len(title) < _LONG_ENOUGH:
            return None
        fitting = [path for path in self._gone if is_called(title, path, copy.content.format)]
        if len(fitting) != 1:
            return None
        name = show_name(os.path.basename(fitting[0]))
        piece = weights.evidence(
            "name", f"its title is the name of {name}, which is gone and was recorded as opened or deleted"
        )
        draft = self.state.draft(fitting[0], self.state.home_of(fitting[0]))
        draft.trashed = True
        return draft, replace(copy, evidence=(piece,), confidence=weights.confidences([[piece]])[0])

    def _is_shown(self, copy: Copy, item: Candidate) -> bool:
        """Whether contents show that they are versions of one document. What a template gave to both is not enough where their texts differ."""
        kinds = {piece.kind: piece.weight for piece in item.evidence if piece.family in _SAYS_SO and piece.weight > 0}
        if "identical-bytes" in kinds:
            return True
        theirs = max((each.words or 0 for each in self._comparing.contents_of(item.path)), default=0)
        if (copy.content.words or 0) >= _ENOUGH_WORDS and theirs >= _ENOUGH_WORDS:
            return kinds.get("shared-content", 0.0) >= _MUCH_SHARED
        return bool(kinds)

    def _candidates(self, copy: Copy, title: str | None) -> list[Candidate]:
        """Documents that hold something like it, living, deleted or found before it."""
        paths = self._comparing.originals_like(copy) + self._comparing.likeness.near(copy.content, _MAX_NEAR)
        out = []
        for path in dict.fromkeys(paths):
            own = self._own.get(path)
            if own and title and (other := self._titles.get(path)) and likeness(title, other) < NEAR:
                continue  # what begins otherwise is another one, made from the same template
            theirs = own.copies[0].content.format if own else format_of_extension(extension_of(path))
            if compatible(copy.content.format, theirs):
                out.append(Candidate(path, [], own is None and self.state.door.exists(path)))
        return out[:_MAX_NEAR]

    def _document_of_its_own(self, copy: Copy, title: str | None) -> tuple[Draft, Copy]:
        text = "it carries this title, or begins with these words" if title else "nothing tells what it was called"
        piece = weights.evidence("own-content", text)
        path = copy.entry.path
        name = name_for(copy.content, title, path)
        draft = Draft(f"copy:{path}", name, None, None, self.state.home_of(path), trashed=True)
        self.state.drafts[draft.key] = draft
        self._own[draft.key] = draft
        self._titles[draft.key] = title or ""
        return draft, replace(copy, evidence=(piece,), confidence=weights.confidences([[piece]])[0])


def is_called(title: str, path: str, format_name: str | None) -> bool:
    """Whether a title is a document's name, word by word, and its format may be that of the find."""
    stem = os.path.splitext(os.path.basename(path))[0]
    alike = min(likeness(title, stem), likeness(stem, title)) >= _THE_SAME
    return alike and compatible(format_name, format_of_extension(extension_of(path)))


def title_in(first: str) -> str:
    """Of the first words of a document those that may be its title: the first line or cell of more than a few letters."""
    return next((each for each in first.split(" / ") if sum(map(str.isalpha, each)) >= _FEW_LETTERS), "")


def name_for(content: Content, title: str | None, path: str) -> str:
    """What a document without a name is called: its title or first words, else what it is and where it lies."""
    info = FORMATS.get(content.format or "")
    ending = f".{info.format}" if info else ""
    words = " ".join((title or "").translate(_SAFE).split())
    words = "".join(sign for sign in words if sign.isprintable())
    if len(words) > _LONGEST:
        words = words[:_LONGEST].rpartition(" ")[0] or words[:_LONGEST]
    words = words.rstrip(" .,;:")
    if words and any(map(str.isalnum, words)):
        return words if words.lower().endswith(ending) and ending else f"{words}{ending}"
    kind = info.title if info else "document"
    when = content.glance.modified or content.glance.created
    about = f" of {when:%Y-%m-%d}" if when is not None else ""
    return f"{kind}{about} at {os.path.basename(path)[1:]}{ending}"


def _order(found: Found) -> tuple[object, ...]:
    """Whole ones first, then the newest by their own clock."""
    when = found.content.glance.modified
    doc_class = class_of(found.content.format)
    return (
        found.content.state not in (State.INTACT, State.ENCRYPTED),
        found.content.format in ("txt", "csv", "md"),
        _LIKELY.index(doc_class) if doc_class in _LIKELY else len(_LIKELY),
        -(when.timestamp() if when else 0.0),
        -(found.content.words or 0),
        found.entry.extents or (),
    )
