"""Words that a person remembers, sought in the text of every copy: a full-text index (SQLite, FTS5), ranked, with the sentence around.

Texts are folded (compatibility form, case, accents) and cut into runs of three letters, so that any language can be searched, also those
without spaces. Source: SQLite documentation, FTS5 (trigram tokenizer, bm25).
"""

from __future__ import annotations

import re
import sqlite3
import unicodedata
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager

from rustfern.content import open as contents
from rustfern.core.model import Copy, Document, Entry, Hit, State
from rustfern.formats import registry as formats
from rustfern.formats.text_sink import fold
from rustfern.sources.registry import Sources

_WHOLE = 4 << 20
_AROUND = 160
_MAX_HITS = 200
_OFTEN = 500
_SENTENCE = re.compile(r"(?<=[.!?…。！？])\s*")
_TEXT_ON_DEMAND = frozenset({"pdf", "ai"})
"""Formats whose text is only read to be shown or searched."""
_SHORTEST = 3
"""Runs of three letters are indexed: what is shorter is looked for in what the longer words found."""


def _storable(text: str) -> str:
    """Text as SQLite takes it: without NULs and lone halves of characters."""
    return text.replace("\0", " ").encode("utf-8", "replace").decode()


def plain(text: str) -> str:
    """The form in which words are sought: folded, without accents."""
    if text.isascii():
        return fold(text.replace("\0", " "))
    apart = unicodedata.normalize("NFD", fold(_storable(text)))
    return "".join(sign for sign in apart if not unicodedata.combining(sign))


class WordIndex:
    """Those pieces of the texts of copies that hold any of the words. `database` keeps them in the case file; without one they are gone when
    the search ends.
    """

    def __init__(self, words: str, database: sqlite3.Connection | None = None) -> None:
        self._wanted = list(dict.fromkeys(plain(words).split()))
        self._long = [word for word in self._wanted if len(word) >= _SHORTEST]
        self._db = database or sqlite3.connect(":memory:", isolation_level=None)
        self._db.execute(
            "CREATE VIRTUAL TABLE IF NOT EXISTS wording USING fts5(folded, piece UNINDEXED, number UNINDEXED, ident UNINDEXED, "
            "path UNINDEXED, tokenize='trigram')"
        )
        self._db.execute("DELETE FROM wording")

    @contextmanager
    def filling(self) -> Iterator[None]:
        """Around all that is added: written at once, since each step of its own costs more than its texts."""
        self._db.execute("BEGIN")
        try:
            yield
        except BaseException:
            self._db.execute("ROLLBACK")
            raise
        self._db.execute("COMMIT")

    def add(self, number: int, ident: str, path: str, pieces: Iterable[str]) -> None:
        """Take in the text of one copy, piece by piece."""
        shown, long = _storable(path), self._long
        rows: list[tuple[str, str]] = []
        often, most = dict.fromkeys(long, 0), 0
        for piece in pieces:
            folded = plain(piece)
            found = [word for word in long if word in folded]
            # Of a word that stands everywhere the first pieces are enough, and those that hold more of the words.
            if len(found) > most or any(often[word] < _OFTEN for word in found):
                rows.append((folded, _storable(piece)))
            most = max(most, len(found))
            for word in found:
                often[word] += 1
        self._db.executemany(
            "INSERT INTO wording VALUES (?, ?, ?, ?, ?)",
            ((folded, piece, number, ident, shown) for folded, piece in rows),
        )

    def search(self) -> list[Hit]:
        """The copies that hold most of the words, the likeliest first, each with the sentence that holds most of them."""
        wanted = self._wanted
        if not self._long:
            return []
        match = " OR ".join('"{}"'.format(word.replace('"', '""')) for word in self._long)
        best: dict[tuple[int, str, str], Hit] = {}
        held: dict[tuple[int, str, str], set[str]] = {}
        rows = self._db.execute(
            "SELECT number, ident, path, piece, folded, bm25(wording) FROM wording WHERE wording MATCH ? ORDER BY bm25(wording) LIMIT 5000",
            (match,),
        )
        for number, ident, path, piece, folded, rank in rows:
            key = (number, ident, path)
            inside = {word for word in wanted if word in folded}
            held.setdefault(key, set()).update(inside)
            if key not in best or len(inside) > best[key].found:
                best[key] = Hit(number, ident, path, _sentence(piece, wanted), len(inside), rank)
        hits = [Hit(h.number, h.ident, h.path, h.sentence, len(held[key]), h.rank) for key, h in best.items()]
        most = max((hit.found for hit in hits), default=0)
        # Where some copy holds all of the words, those that hold fewer are chance.
        return sorted((h for h in hits if h.found == most), key=lambda h: (h.rank, h.number, h.ident))[:_MAX_HITS]


def _sentence(piece: str, wanted: Sequence[str]) -> str:
    """The sentence of a piece that holds most of the words, shortened around the first of them."""
    sentences = _SENTENCE.split(piece) or [piece]
    best = max(sentences, key=lambda text: sum(word in plain(text) for word in wanted)).strip()
    if len(best) <= 2 * _AROUND:
        return best
    at = min((at for word in wanted if (at := plain(best).find(word)) >= 0), default=0)
    start = max(at - _AROUND, 0)
    return ("… " if start else "") + best[start : start + 2 * _AROUND].strip() + " …"


def index_texts(door: Sources, index: WordIndex, documents: Sequence[Document], others: Sequence[Copy]) -> None:
    """Read the text of every copy that has any, each version once. What cannot be read any more is left out.

    A hit's `number` is the place of its document in the list, from 1, and its `ident` that of the copy in the document, from 0.
    """
    with index.filling():
        for number, document in enumerate(documents, 1):
            paths = {copy.path: copy.entry for copy in document.copies}
            for at, copy in enumerate(document.copies):
                if at not in document.same_as:
                    bases = [paths[path] for path in copy.bases if path in paths]
                    index.add(number, str(at), copy.path, _text(door, copy, document.name, bases))
        for copy in others:
            index.add(0, "", copy.path, _text(door, copy, "", ()))


def _text(door: Sources, copy: Copy, document: str, bases: Sequence[Entry]) -> list[str]:
    content = copy.content
    if not (content.words or content.format in _TEXT_ON_DEMAND) or content.state is State.ENCRYPTED or copy.members:
        return []
    name = document if copy.recipe else copy.path
    try:
        under = [door.open(entry.root).entry(entry.path) for entry in bases]
        with contents.open_content(door, copy.entry, copy.recipe, under) as stream:
            return [piece.text for piece in formats.read_text(stream, name, _WHOLE, door.limits)[1]]
    except (
        Exception
    ):  # what cannot be read any more, or does something strange to a reader, was said when it was checked
        return []
