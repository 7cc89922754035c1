"""What a page to choose from shows of each document of a case: a small picture, first words or cells, how long a recording is."""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING

import msgspec

from rustfern.cases.case_file import CaseFile, StoredCopy
from rustfern.core.answers import DocumentFacts
from rustfern.core.errors import Malformed, SourceError
from rustfern.core.observer import Observer
from rustfern.formats.format_table import class_of, title_of
from rustfern.formats.text_sink import Piece
from rustfern.operations.look import picture, recording, see
from rustfern.operations.session import Session

if TYPE_CHECKING:
    from PIL.Image import Image

_LETTERS, _SHOWN, _ROWS, _COLUMNS = 500, 240, 4, 5
_WIDE, _HIGH, _QUALITY = 208, 156, 58
_SMALLER = 0.6
MOST_BYTES = 13 << 20
"""Bytes of pictures in one page, as they stand in it: of the rest there are none."""
_SEEN = frozenset({"image", "drawing", "page", "slides", "cad", "video"})
_WORKERS = 4


class Version(msgspec.Struct, frozen=True):
    """One copy of a document: its id, what sort of copy, state, when it was written (as the case has it), bytes, words."""

    id: str
    kind: str
    state: str
    reason: str
    written: str | None
    size: int
    words: int | None
    is_best: bool


class Card(msgspec.Struct, frozen=True):
    """One document on the page: `number` its own, `pick` what restoring it takes (its number, or the id of a copy), `picture` as a data address."""

    number: int
    pick: str
    name: str
    doc_class: str
    format: str
    situation: str
    person: str
    place: str
    versions: tuple[Version, ...]
    lines: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()
    picture: str = ""
    seconds: float | None = None

    @property
    def shown(self) -> Version:
        """The version that the card shows."""
        return next((each for each in self.versions if each.is_best), self.versions[0])


def cards(session: Session, case: CaseFile, observer: Observer) -> Iterator[Card]:
    """A card for each document that has a copy, in the order of the case, with pictures as long as there is room for them."""
    known = [(document, copies) for document in case.documents() if (copies := case.copies(document.id))]
    room = MOST_BYTES
    # Pictures of pages and drawings are made in processes of their own: some at a time.
    with ThreadPoolExecutor(_WORKERS) as pool:
        for start in range(0, len(known), 64):
            some = known[start : start + 64]
            seen = list(pool.map(lambda row: _seen(session, _shown(*row)), some))
            for (document, copies), found in zip(some, seen, strict=True):
                card = _card(session, document, copies, found, smaller=room < MOST_BYTES // 2)
                if len(card.picture) > room:
                    card = msgspec.structs.replace(card, picture="")
                room -= len(card.picture)
                yield card
            observer.count(start + len(some))


def _shown(document: DocumentFacts, copies: Sequence[StoredCopy]) -> StoredCopy:
    """The copy that stands for a document: its best one, else the fullest."""
    best = next((each for each in copies if each.id == document.best), None)
    return best or max(
        copies, key=lambda each: (each.facts.state == "intact", each.facts.words or 0, each.facts.size or 0)
    )


def _seen(session: Session, copy: StoredCopy) -> Image | None:
    if class_of(copy.facts.format) not in _SEEN or copy.facts.members or copy.facts.rebuilt_by:
        return None
    try:
        found = picture(session.sources, copy, (), copy.id)
    except (OSError, ValueError, MemoryError, Malformed):
        return None
    if found is None:
        return None
    made = found[0]
    made.thumbnail((_WIDE * 2, _HIGH * 2))
    return made


def _card(
    session: Session, document: DocumentFacts, copies: Sequence[StoredCopy], seen: Image | None, *, smaller: bool
) -> Card:
    shown = _shown(document, copies)
    facts = shown.facts
    versions = tuple(
        Version(each.id, each.facts.kind, each.facts.state, each.facts.reason, each.facts.written, each.facts.size or 0, each.facts.words, each.id == shown.id)
        for each in sorted(copies, key=lambda each: (each.id != shown.id, each.facts.written is None, each.facts.written or ""))
    )  # fmt: skip
    lines, rows = _first(session, shown) if seen is None or facts.words else ((), ())
    seconds = None
    if class_of(facts.format) in ("audio", "video"):
        from rustfern.core.model import Content, Glance, State

        content = Content(
            Glance(format=facts.format), State(facts.state), facts.reason, facts.size or 0, amounts=facts.amounts
        )
        seconds = recording(session.sources, shown, (), shown.id, content)[0]
    return Card(
        document.id, str(document.id) if document.best == shown.id else shown.id, document.name, class_of(facts.format),
        title_of(facts.format), document.situation, document.person or "", document.original or shown.path, versions, lines, rows,
        _address(seen, smaller=smaller) if seen is not None else "", seconds,
    )  # fmt: skip


def _first(session: Session, copy: StoredCopy) -> tuple[tuple[str, ...], tuple[tuple[str, ...], ...]]:
    """(first lines, first rows of cells) of a copy."""
    if copy.facts.members or copy.facts.rebuilt_by or copy.facts.state == "encrypted":
        return tuple(str(member) for member in copy.facts.members[:_ROWS]), ()
    try:
        pieces = see(session.sources, copy, (), _LETTERS, compared=True).pieces
    except (SourceError, OSError, ValueError):
        return (), ()
    cells = [piece for piece in pieces if piece.kind == "cell" and piece.spot is not None]
    if cells:
        return (), _rows(cells)
    lines, left = [], _SHOWN
    for piece in pieces:
        line = " ".join(piece.text.split())[:left]
        if line and any(map(str.isalnum, line)):
            lines.append(line)
            left -= len(line)
        if left <= 0 or len(lines) >= _ROWS + 2:
            break
    return tuple(lines), ()


def _rows(cells: Sequence[Piece]) -> tuple[tuple[str, ...], ...]:
    rows: dict[tuple[str, int], list[str]] = {}
    for piece in cells:
        assert piece.spot is not None
        rows.setdefault((piece.section, piece.spot[1]), []).append(" ".join(piece.text.split())[:24])
    return tuple(tuple(row[:_COLUMNS]) for row in list(rows.values())[:_ROWS])


def _address(seen: Image, *, smaller: bool) -> str:
    """A small picture as a data address (RFC 2397)."""
    from PIL import Image

    share = _SMALLER if smaller else 1.0
    seen.thumbnail((round(_WIDE * share), round(_HIGH * share)))
    coloured = seen.convert("RGBA")
    flat = Image.new("RGB", coloured.size, "white")
    flat.paste(coloured, mask=coloured.getchannel("A"))
    made = io.BytesIO()
    flat.save(made, "JPEG", quality=_QUALITY, optimize=True)
    return "data:image/jpeg;base64," + base64.b64encode(made.getvalue()).decode()
