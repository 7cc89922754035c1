"""How two texts differ, piece by piece (paragraphs, lines, cells, form fields) and within a changed piece word by word. Opens no file.

Longest matching runs (Ratcliff and Obershelp, 1988), as the standard library finds them.
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Hashable, Iterable, Iterator, Sequence
from difflib import SequenceMatcher
from operator import attrgetter, lt
from typing import Literal

import msgspec
from msgspec.structs import replace

from rustfern.formats.text_sink import Piece, all_words, column_name, count_words, fold
from rustfern.operations.alignment import Gap, gaps

Kind = Literal["same", "added", "removed"]
_WORD = re.compile(r"\s+")
_ALIKE = 0.4
"""Pieces that share less are not one piece that was changed, but one that went and one that came."""
_LONG, _PAIRED = 4_000, 40_000
"""From so many pieces on a side those that stand once tie the sides together; pairs of pieces that are held against each other by their words."""


class Run(msgspec.Struct, frozen=True):
    """Words in a row of one kind."""

    kind: Kind
    text: str


class Change(msgspec.Struct, frozen=True):
    """One piece that was added, removed or changed; `at` is its number on the right side (the left one, if removed), from 1. `where` is the
    cell, row, slide, page or field that it is, as people name it.
    """

    kind: Literal["added", "removed", "changed"]
    at: int
    runs: tuple[Run, ...]
    where: str = ""


class Comparison(msgspec.Struct, frozen=True):
    """What the right side has more and fewer than the left one, in words, and the changes in reading order."""

    more: int
    fewer: int
    same: int
    changes: tuple[Change, ...]


def compare(left: Sequence[str], right: Sequence[str]) -> Comparison:
    """Compare two texts by their pieces."""
    return compare_pieces([Piece(text) for text in left], [Piece(text) for text in right])


def compare_pieces(left: Sequence[Piece], right: Sequence[Piece], *, cut: bool = False) -> Comparison:
    """Compare two texts: cells of sheets by row and address, form fields by name, all else in reading order. Of texts that were `cut`, what
    only one side has at its end is no difference: the other may have it behind the cut.
    """
    if cut:
        left, right = _common(left, right)
    old, new, apart = _Side.of(left), _Side.of(right), _Apart()
    changes = [
        *_running(old.rest, new.rest, apart, cut=cut),
        *_sheets(old.sheets, new.sheets, apart),
        *_fields(old.rest, new.rest, apart),
    ]
    was, now = all_words(apart.old), all_words(apart.new)
    # The sum counts words wherever they stand: what was only moved is neither more nor fewer.
    more, fewer = (now - was).total(), (was - now).total()
    whole = fold("\n".join(map(attrgetter("text"), right))).encode("utf-8", "surrogatepass")
    return Comparison(more, fewer, count_words(whole) - more, tuple(changes))


def _common(left: Sequence[Piece], right: Sequence[Piece]) -> list[list[Piece]]:
    """The rows of sheets that both sides came to: those of the last sheet up to the last row that both have."""
    reached: list[dict[str, int]] = []
    for side in (left, right):
        last: dict[str, int] = {}
        for piece in side:
            if piece.spot and _of_sheet(piece):
                last[piece.section] = max(last.get(piece.section, 0), piece.spot[1])
        reached.append(last)
    ends = {next(reversed(last)) for last in reached if last}
    found = []
    for side in (left, right):
        kept = []
        for piece in side:
            if piece.spot and _of_sheet(piece):
                least = min(last.get(piece.section, 0) for last in reached)
                # The last row may stop in its middle.
                if least == 0 or (piece.section in ends and piece.spot[1] >= least):
                    continue
            kept.append(piece)
        found.append(kept)
    return found


def _of_sheet(piece: Piece) -> bool:
    return piece.spot is not None and piece.spot[0] == 0


_Numbered = tuple[int, Piece]
"""A piece, and its number in the text, from 1."""


class _Apart(msgspec.Struct):
    """The texts of all pieces that do not stand in the same place of both sides."""

    old: list[str] = msgspec.field(default_factory=list)
    new: list[str] = msgspec.field(default_factory=list)


def _running(left: Sequence[_Numbered], right: Sequence[_Numbered], apart: _Apart, *, cut: bool) -> list[Change]:
    """What is read from top to bottom: paragraphs, headings, lines, tables inside texts."""
    sides = []
    for side in (left, right):
        kept = [(at, p) for at, p in side if p.text and p.kind != "field"]
        sides.append(([p.text for _, p in kept], [at for at, _ in kept], [p.section for _, p in kept]))
    (old, old_at, old_where), (new, new_at, new_where) = sides
    changes: list[Change] = []
    for a, b, c, d in _differing(old, new):
        apart.old += old[a:b]
        apart.new += new[c:d]
        if cut and (b == len(old) or d == len(new)):
            continue
        for change in paired(old[a:b], new[c:d], a, c):
            gone = change.kind == "removed"
            at, where = (old_at, old_where) if gone else (new_at, new_where)
            changes.append(replace(change, at=at[change.at], where=where[change.at]))
    return changes


def _differing(old: Sequence[Hashable], new: Sequence[Hashable]) -> Iterator[Gap]:
    """Where two sides differ, in order."""
    if max(len(old), len(new)) > _LONG:
        yield from gaps(old, new)
        return
    for what, *gap in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if what != "equal":
            yield gap[0], gap[1], gap[2], gap[3]


_Row = tuple[tuple[int, ...], tuple[str, ...]]
"""Columns, and the texts in them."""


class _Cells(msgspec.Struct, gc=False):
    """The cells of one row as they come: columns, texts, and the numbers of the pieces that these are."""

    columns: list[int] = msgspec.field(default_factory=list)
    texts: list[str] = msgspec.field(default_factory=list)
    numbers: list[int] = msgspec.field(default_factory=list)

    def cells(self) -> dict[int, tuple[int, str]]:
        """Column → (number of the piece, text)."""
        return dict(zip(self.columns, zip(self.numbers, self.texts, strict=True), strict=True))

    def key(self) -> _Row:
        """What makes rows the same."""
        columns = tuple(self.columns)
        if all(map(lt, columns, columns[1:])):
            return columns, tuple(self.texts)
        cells = sorted(dict(zip(columns, self.texts, strict=True)).items())
        return tuple(column for column, _ in cells), tuple(text for _, text in cells)


_Rows = dict[int, _Cells]


class _Side(msgspec.Struct):
    """One of two texts: its sheets, and all else."""

    rest: list[_Numbered]
    sheets: dict[str, _Rows]

    @classmethod
    def of(cls, pieces: Sequence[Piece]) -> _Side:
        rest: list[_Numbered] = []
        sheets: dict[str, _Rows] = {}
        sheet, row = None, -1
        columns, texts, numbers = [], [], []
        for at, piece in enumerate(pieces, 1):
            spot = piece.spot
            if spot is None or spot[0]:
                rest.append((at, piece))
                continue
            if row != spot[1] or sheet != piece.section:
                sheet, row = piece.section, spot[1]
                cells = sheets.setdefault(sheet, {}).setdefault(row, _Cells())
                columns, texts, numbers = cells.columns, cells.texts, cells.numbers
            columns.append(spot[2])
            texts.append(piece.text)
            numbers.append(at)
        return cls(rest, sheets)


def _sheets(old: dict[str, _Rows], new: dict[str, _Rows], apart: _Apart) -> list[Change]:
    """Rows are aligned first, so that one that was put in between does not change all below it; then cells are compared."""
    changes: list[Change] = []
    # A sheet that is called otherwise on the other side, or has no name there, stands for the one in its place.
    alone = [name for name in new if name not in old]
    called = {name: alone.pop(0) if name not in new and alone else name for name in old}
    for before, sheet in [*called.items(), *((name, name) for name in alone)]:
        mine, theirs = old.get(before, {}), new.get(sheet, {})
        for a, b in _aligned(mine, theirs):
            apart.old += mine[a].texts if a is not None else ()
            apart.new += theirs[b].texts if b is not None else ()
            name = f"{sheet} row {b if b is not None else a}" if sheet else f"row {b if b is not None else a}"
            if a is None and b is not None:
                changes.append(_whole_row("added", theirs[b].cells(), name))
            elif b is None and a is not None:
                changes.append(_whole_row("removed", mine[a].cells(), name))
            elif a is not None and b is not None:
                changes += _cells(mine[a].cells(), theirs[b].cells(), b, sheet)
    return changes


def _aligned(old: _Rows, new: _Rows) -> list[tuple[int | None, int | None]]:
    """Pairs of row numbers that stand for one another and differ; None where one side has no such row."""
    a, b = sorted(old), sorted(new)
    keys = [old[row].key() for row in a], [new[row].key() for row in b]
    pairs: list[tuple[int | None, int | None]] = []
    for i, j, k, m in _differing(*keys):
        gone, come = deque(range(i, j)), deque(range(k, m))
        while gone and come:
            if not _row_alike(keys[0][gone[0]], keys[1][come[0]]) and len(gone) != len(come):
                # The longer side has rows that the other lacks.
                pairs.append((a[gone.popleft()], None) if len(gone) > len(come) else (None, b[come.popleft()]))
            else:
                pairs.append((a[gone.popleft()], b[come.popleft()]))
        pairs += [(a[row], None) for row in gone]
        pairs += [(None, b[row]) for row in come]
    return pairs


def _row_alike(old: _Row, new: _Row) -> bool:
    same = set(zip(*old, strict=True)) & set(zip(*new, strict=True))
    return 2 * len(same) >= max(len(old[0]), len(new[0]))


def _whole_row(kind: Literal["added", "removed"], row: dict[int, tuple[int, str]], name: str) -> Change:
    cells = [row[column] for column in sorted(row)]
    return Change(kind, cells[0][0], (Run(kind, " | ".join(text for _, text in cells)),), name)


def _cells(old: dict[int, tuple[int, str]], new: dict[int, tuple[int, str]], row: int, sheet: str) -> Iterable[Change]:
    for column in sorted({*old, *new}):
        before, after = old.get(column), new.get(column)
        where = f"{sheet}!{column_name(column)}{row}" if sheet else f"{column_name(column)}{row}"
        if before and after and before[1] != after[1]:
            yield Change("changed", after[0], _runs(_words(before[1]), _words(after[1])), where)
        elif after and not before:
            yield Change("added", after[0], (Run("added", after[1]),), where)
        elif before and not after:
            yield Change("removed", before[0], (Run("removed", before[1]),), where)


def _fields(left: Sequence[_Numbered], right: Sequence[_Numbered], apart: _Apart) -> Iterable[Change]:
    """Form fields, or the heads of a message, by their names."""
    old, new = (
        {piece.label: (at, piece.text) for at, piece in side if piece.kind == "field"} for side in (left, right)
    )
    for there, side in ((apart.old, left), (apart.new, right)):
        there += [piece.text for _, piece in side if piece.kind == "field"]
    for label in dict.fromkeys([*old, *new]):
        before, after = old.get(label), new.get(label)
        if before and after and before[1] != after[1]:
            runs = (Run("removed", before[1]), Run("added", after[1]))
            yield Change("changed", after[0], runs, label)
        elif after and not before:
            yield Change("added", after[0], (Run("added", after[1]),), label)
        elif before and not after:
            yield Change("removed", before[0], (Run("removed", before[1]),), label)


def _words(piece: str) -> list[str]:
    return [word for word in _WORD.split(piece) if word]


def paired(old: Sequence[str], new: Sequence[str], old_at: int, new_at: int) -> list[Change]:
    """Pieces that stand in each other's place: each new one is held against the first old one that is like it; of too many, none is."""
    if len(old) * len(new) > _PAIRED:
        gone = [Change("removed", old_at + n, (Run("removed", text),)) for n, text in enumerate(old)]
        return gone + [Change("added", new_at + n, (Run("added", text),)) for n, text in enumerate(new)]
    out: list[Change] = []
    at = 0
    for number, piece in enumerate(new):
        found = next((i for i in range(at, len(old)) if _alike(old[i], piece)), None)
        if found is None:
            out.append(Change("added", new_at + number, (Run("added", piece),)))
            continue
        out += [Change("removed", old_at + i, (Run("removed", old[i]),)) for i in range(at, found)]
        out.append(Change("changed", new_at + number, _runs(_words(old[found]), _words(piece))))
        at = found + 1
    return out + [Change("removed", old_at + i, (Run("removed", old[i]),)) for i in range(at, len(old))]


def _alike(old: str, new: str) -> bool:
    a, b = _words(old), _words(new)
    matcher = SequenceMatcher(None, a, b, autojunk=False)
    return matcher.real_quick_ratio() > _ALIKE and matcher.quick_ratio() > _ALIKE and matcher.ratio() > _ALIKE


def _runs(old: Sequence[str], new: Sequence[str]) -> tuple[Run, ...]:
    out: list[Run] = []
    for what, a, b, c, d in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if what == "equal":
            out.append(Run("same", " ".join(old[a:b])))
            continue
        if a < b:
            out.append(Run("removed", " ".join(old[a:b])))
        if c < d:
            out.append(Run("added", " ".join(new[c:d])))
    return tuple(out)
