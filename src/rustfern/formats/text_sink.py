"""Text as it is read: words counted, hashed for comparing, the first lines kept for showing."""

from __future__ import annotations

import re
import unicodedata
import zlib
from array import array
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from operator import attrgetter
from typing import Literal

import msgspec
from msgspec.structs import replace

_WORD = re.compile(r"[^\W_]+(?:[.,'’][^\W_]+)*")
_ASCII_WORD = re.compile(rb"[A-Za-z0-9]+(?:[.,'][A-Za-z0-9]+)*")
_BATCH_CHARACTERS = 1 << 16
MAX_WORDS = 2_000_000
"""Words of a text that are compared; what stands behind them is only counted."""
LONG_CHARACTERS = 1 << 20
"""Paragraphs and cells of more characters are worked on in parts."""
_MAX_TEXTS_BYTES = 96 << 20
_SIGNS = bytes(97 if chr(n).isalnum() and n < 128 else 106 if n in b".,'" else 32 for n in range(256))
_MIN_LINE_BYTES = 5


def fold(text: str) -> str:
    """The form in which words are compared: compatibility form, case folded (Unicode TR15 NFKC, chapter 3.13)."""
    return text.casefold() if text.isascii() else unicodedata.normalize("NFKC", text).casefold()


def words_of(text: str) -> list[str]:
    """The words of a text, folded, as `TextSink` counts them."""
    return _WORD.findall(fold(text))


def all_words(texts: Iterable[str]) -> Counter[bytes]:
    """How often each word (folded, in UTF-8) stands in many texts. No word reaches over a line end: they are taken apart at once."""
    folded = fold("\n".join(texts))
    data = folded.encode("utf-8", "surrogatepass")
    if len(data) == len(folded):
        return Counter(_ASCII_WORD.findall(data))
    return Counter(word.encode("utf-8", "surrogatepass") for word in _WORD.findall(folded))


def number(text: str) -> str:
    """One form for the same number in different formats: at most 10 significant digits."""
    try:
        return format(float(text), ".10g")
    except (ValueError, OverflowError):
        return text


PieceKind = Literal["text", "heading", "cell", "field", "line"]
CellAddress = tuple[int, int, int]
"""Table, row and column of a cell, each from 1; table 0 is the sheet itself."""


class Piece(msgspec.Struct, frozen=True, gc=False):
    """One piece of a text for showing: a paragraph, a heading of a level (from 1), a cell, a form field (named `label`), or a line as it
    stands. `section` is the sheet or the slide that it is on.
    """

    text: str
    kind: PieceKind = "text"
    level: int = 0
    section: str = ""
    spot: CellAddress | None = None
    label: str = ""


def column_name(number: int) -> str:
    """The letters of a column, from 1."""
    name = ""
    while number > 0:
        number, rest = divmod(number - 1, 26)
        name = chr(65 + rest) + name
    return name


def parts_of(text: str) -> Iterator[str]:
    """A very long text in parts, cut between words where that can be: each part can be worked on in bounded memory."""
    start = 0
    while len(text) - start > LONG_CHARACTERS:
        cut = text.rfind(" ", start, start + LONG_CHARACTERS)
        end = cut if cut > start else start + LONG_CHARACTERS
        yield text[start:end]
        start = end
    yield text[start:]


class Gathered:
    """Pieces of one paragraph or cell, as they come. Where it is very long it is handed on in parts, cut at places that the text alone
    decides: it takes bounded memory, and the same text always gives the same parts.
    """

    __slots__ = ("_length", "_pieces", "_put")

    def __init__(self, put: Callable[[str], None]) -> None:
        self._put = put
        self._pieces: list[str] = []
        self._length = 0

    def add(self, text: str) -> None:
        """Take a piece."""
        self._pieces.append(text)
        self._length += len(text)
        if self._length > LONG_CHARACTERS:
            *parts, rest = parts_of("".join(self._pieces))
            for part in parts:
                self._put(part)
            self._pieces, self._length = [rest], len(rest)

    def rest(self) -> str:
        """What was not handed on yet: mostly all of it."""
        return "".join(self._pieces)


class Texts:
    """The shared strings of a workbook, packed: millions of them take little more than their letters."""

    def __init__(self) -> None:
        self._data = bytearray()
        self._ends = array("Q")

    def __len__(self) -> int:
        return len(self._ends)

    def append(self, text: str) -> None:
        """Take the next one; of what is longer than any cell may hold, or beyond all measure together, only its beginning."""
        self.add(text.encode("utf-8", "surrogatepass"))

    def add(self, text: bytes) -> None:
        """The same for one that is in UTF-8."""
        self._data += text[: max(_MAX_TEXTS_BYTES - len(self._data), 0)]
        self._ends.append(len(self._data))

    def __iter__(self) -> Iterator[str]:
        return map(self.__getitem__, range(len(self._ends)))

    def __getitem__(self, number: int) -> str:
        start = self._ends[number - 1] if number else 0
        return self._data[start : self._ends[number]].decode("utf-8", "replace")

    def beginning(self, number: int, length: int) -> str:
        """The first bytes of one, as text."""
        start = self._ends[number - 1] if number else 0
        return self._data[start : min(self._ends[number], start + length)].decode("utf-8", "replace")


def _counted(data: bytes) -> int:
    """How many words folded ASCII text holds; as many as the pattern of words finds, without making any of them."""
    signs = data.translate(_SIGNS)
    # A joining sign between two letters is part of a word; of several in a row each pass finds every second one.
    for _ in range(2):
        signs = signs.replace(b"aja", b"aaa")
    return signs.startswith(b"a") + signs.count(b" a") + signs.count(b"ja")


def count_words(data: bytes) -> int:
    """How many words a text in UTF-8 holds."""
    if data.isascii():
        return _counted(data)
    return sum(len(words_of(line.decode("utf-8", "replace"))) for line in data.split(b"\n"))


class Enough(Exception):
    """As much of a text was read as is to be shown: reading stops here."""


class TextSink:
    """Takes pieces of text (paragraphs, cells, slides' lines) in reading order.

    `keep` is how many characters of the text are kept for showing, with what the readers tell of its structure; 0 keeps none. Without
    `hashed` words are only counted. Pieces are worked through many at a time. With `stops`, `Enough` is raised when so much is kept; `put`
    takes the pieces for showing instead of `kept`, all of them.
    """

    def __init__(
        self,
        keep: int = 0,
        *,
        hashed: bool = True,
        counted: bool = True,
        stops: bool = False,
        put: Callable[[Piece], None] | None = None,
    ) -> None:
        self.counted = counted
        """Whether words are counted at all; if not, only whether there are any pieces is known."""
        self._hashed, self._stops, self._put = hashed, stops, put
        self.pieces = 0
        self.kept: list[Piece] = []
        self.keeps = keep > 0
        """Whether it is worth telling the structure of the text."""
        self.section = ""
        self.order: dict[str, int] = {}
        """The sections in the order in which the document shows them, where it is another than that of reading."""
        self._keep = keep
        self._waiting: list[str] = []
        self._length = 0
        self._words = 0
        self._tokens = array("I")
        self._lines = array("I")
        import hashlib

        self._hash = hashlib.sha256()

    def add(
        self, text: str, kind: PieceKind = "text", level: int = 0, spot: CellAddress | None = None, label: str = ""
    ) -> None:
        """Take one piece; white space is folded, empty pieces do not count."""
        if self.keeps:
            self.show(text, kind, level, spot, label)
        self.count(text)

    def count(self, text: str) -> None:
        """Take one piece of what is compared, without keeping it for showing."""
        if not self.counted:
            self.pieces += not text.isspace() and bool(text)
            return
        if len(text) > LONG_CHARACTERS:
            for part in parts_of(text):
                self.count(part)
            return
        text = " ".join(text.split())
        if not text:
            return
        self.pieces += 1
        self._waiting.append(text)
        self._length += len(text)
        if self._length > _BATCH_CHARACTERS:
            self._work()

    def count_folded(self, texts: list[str]) -> None:
        """The same for many short pieces at once, none of them empty, whose white space is folded already."""
        if not self.counted:
            self.pieces += bool(texts)
            return
        if max(map(len, texts), default=0) > LONG_CHARACTERS:
            for text in texts:
                self.count(text)
            return
        self.pieces += len(texts)
        self._waiting += texts
        self._length += sum(map(len, texts))
        if self._length > _BATCH_CHARACTERS:
            self._work()

    def count_lines(self, lines: list[str]) -> None:
        """The same for many short pieces at once."""
        if not self.counted:
            self.pieces += any(line and not line.isspace() for line in lines)
            return
        if self._hashed:
            for line in lines:
                self.count(line)
            return
        text = "\n".join(lines)
        if not text.isspace():
            self.pieces += bool(text)
            self._waiting.append(text)
            self._length += len(text)
            if self._length > _BATCH_CHARACTERS:
                self._work()

    def show(
        self, text: str, kind: PieceKind = "text", level: int = 0, spot: CellAddress | None = None, label: str = ""
    ) -> None:
        """Keep a piece for showing only; lines keep their indentation, and empty ones their place."""
        if self._keep <= 0:
            if self._stops:
                raise Enough
            return
        shown = text.rstrip().expandtabs(4) if kind == "line" else " ".join(text.split())
        if shown or kind == "line":
            if self._put is not None:
                self._put(Piece(shown, kind, level, self.section, spot, label))
                return
            self.kept.append(Piece(shown[: self._keep], kind, level, self.section, spot, label))
            self._keep -= len(shown) + 1

    def show_cells(self, cells: list[Piece]) -> None:
        """The same for many cells of a sheet at once, with the white space folded and none empty."""
        put, kept = self._put, self.kept
        together = sum(map(len, map(attrgetter("text"), cells))) + len(cells)
        if put is None and together < self._keep:
            kept += cells
            self._keep -= together
            return
        for cell in cells:
            if self._keep <= 0:
                if self._stops:
                    raise Enough
                return
            if put is not None:
                put(cell)
                continue
            kept.append(replace(cell, text=cell.text[: self._keep]))
            self._keep -= len(cell.text) + 1

    @property
    def asks(self) -> bool:
        """Whether pieces for showing make a difference still: they are kept, or end the reading."""
        return self.keeps and (self._keep > 0 or self._stops)

    @property
    def full(self) -> bool:
        """Whether no more is kept for showing."""
        return self._keep <= 0

    def _work(self) -> None:
        """Fold, hash and count what waits. No word reaches over the end of a piece."""
        if not self._waiting:
            return
        folded = fold("\n".join(self._waiting)) + "\n"
        self._waiting.clear()
        self._length = 0
        data = folded.encode("utf-8", "surrogatepass")
        if self._hashed:
            self._hash.update(data)
        elif len(data) == len(folded):
            self._words += _counted(data)
            return
        if len(data) == len(folded):
            found = _ASCII_WORD.findall(data)
        else:
            # One long text is encoded quicker than many short ones; no word holds a line end.
            words = _WORD.findall(folded)
            found = "\n".join(words).encode("utf-8", "surrogatepass").split(b"\n") if words else []
        self._words += len(found)
        if self._hashed and len(self._tokens) < MAX_WORDS:
            self._tokens.extend(map(zlib.crc32, found))
            self._lines.extend(zlib.crc32(line) for line in data.split(b"\n") if len(line) >= _MIN_LINE_BYTES)

    @property
    def words(self) -> int:
        """How many words there were."""
        self._work()
        return self._words

    def tokens(self) -> bytes:
        """The hashes of all words, 4 bytes each, in this machine's byte order."""
        self._work()
        return self._tokens.tobytes()

    def lines(self) -> bytes:
        """The hashes of all lines, paragraphs or cells that are long enough to tell, packed like `tokens`."""
        self._work()
        return self._lines.tobytes()

    def text_hash(self) -> str | None:
        """SHA-256 of the normalised text; None if there was none."""
        self._work()
        return self._hash.hexdigest() if self.pieces and self._hashed else None


def unpack(tokens: bytes) -> array[int]:
    """The word hashes of `TextSink.tokens` as an array."""
    out = array("I")
    out.frombytes(tokens)
    return out
