"""The readable text of any copy as plain text: headings underlined, tables as rows of cells parted by tabs, sheets and slides under their names."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import groupby

from rustfern.cases.case_file import StoredCopy
from rustfern.core.errors import RestoreRefused
from rustfern.core.model import Content
from rustfern.formats.text_sink import Piece
from rustfern.operations.look import text
from rustfern.sources.registry import Sources

_UNDERLINES = "=-~"
_LONGEST_LINE = 72


def as_text(door: Sources, copy: StoredCopy, bases: Sequence[StoredCopy]) -> bytes:
    """All that can be read of a copy, as UTF-8. Raises `RestoreRefused` if that is nothing, `SourceError` if it cannot be opened."""
    pieces = (item for item in text(door, copy, bases, copy.path) if not isinstance(item, Content))
    told = "\n".join(lines(pieces)).strip("\n")
    if not told.strip():
        raise RestoreRefused("no readable text is in it", copy.path, "Restore the copy itself")
    return (told + "\n").encode("utf-8", "replace")


def lines(pieces: Iterable[Piece]) -> Iterator[str]:
    """The lines of a text."""
    section = ""
    for (where, table), group in groupby(pieces, key=lambda piece: (piece.section, piece.spot and piece.spot[0])):
        if where != section:
            section = where
            if where:
                yield from ("", f"[{_plain(where)}]", "")
        if table is not None:
            yield from _rows(group)
            yield ""
            continue
        for piece in group:
            said = piece.text if piece.kind == "line" else _plain(piece.text)
            if piece.kind == "heading":
                sign = _UNDERLINES[min(max(piece.level, 1), len(_UNDERLINES)) - 1]
                yield from ("", said, sign * min(len(said), _LONGEST_LINE), "")
            elif piece.kind == "field":
                yield f"{_plain(piece.label)}: {said}"
            elif piece.kind == "line":
                yield said.rstrip("\r\n")
            else:
                yield from (said, "")


def _rows(cells: Iterable[Piece]) -> Iterator[str]:
    """Rows of one table, as they come."""
    for _, row in groupby(cells, key=lambda piece: piece.spot[1] if piece.spot else 0):
        columns: dict[int, list[str]] = {}
        for piece in row:
            columns.setdefault(piece.spot[2] if piece.spot else 1, []).append(_plain(piece.text))
        yield "\t".join(" ".join(columns.get(column, [])) for column in range(1, max(columns) + 1))


def _plain(said: str) -> str:
    return " ".join(said.split())
