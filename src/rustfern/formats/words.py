"""Text as it is read: words counted, hashed for comparing, the first lines kept for showing."""

from __future__ import annotations

import hashlib
import re
import unicodedata
import zlib
from array import array

_WORD = re.compile(r"[^\W_]+(?:[.,'’][^\W_]+)*")
_ASCII_WORD = re.compile(rb"[A-Za-z0-9]+(?:[.,'][A-Za-z0-9]+)*")
_TOGETHER = 1 << 16
MAX_WORDS = 2_000_000
_LEAST_LINE = 5


def fold(text: str) -> str:
    """The form in which words are compared: compatibility form, case folded (Unicode TR15 NFKC, chapter 3.13)."""
    return text.casefold() if text.isascii() else unicodedata.normalize("NFKC", text).casefold()


def words_of(text: str) -> list[str]:
    """The words of a text, folded, as `TextSink` counts them."""
    return _WORD.findall(fold(text))


def number(text: str) -> str:
    """One form for the same number in different formats: at most 10 significant digits."""
    try:
        return format(float(text), ".10g")
    except (ValueError, OverflowError):
        return text


class TextSink:
    """Takes pieces of text (paragraphs, cells, slides' lines) in reading order.

    `keep` is how many characters of the text are kept for showing; 0 keeps none. Without `hashed` words are only counted. Pieces are
    worked through many at a time.
    """

    def __init__(self, keep: int = 0, *, hashed: bool = True) -> None:
        self._hashed = hashed
        self.pieces = 0
        self.kept: list[str] = []
        self._keep = keep
        self._waiting: list[str] = []
        self._length = 0
        self._words = 0
        self._tokens = array("I")
        self._lines = array("I")
        self._hash = hashlib.sha256()

    def add(self, text: str) -> None:
        """Take one piece; white space is folded, empty pieces do not count."""
        text = " ".join(text.split())
        if not text:
            return
        self.pieces += 1
        if self._keep > 0:
            self.kept.append(text[: self._keep])
            self._keep -= len(text) + 1
        self._waiting.append(text)
        self._length += len(text)
        if self._length > _TOGETHER:
            self._work()

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
        if len(data) == len(folded):
            found = _ASCII_WORD.findall(data)
        else:
            # One long text is encoded quicker than many short ones; no word holds a line end.
            words = _WORD.findall(folded)
            found = "\n".join(words).encode("utf-8", "surrogatepass").split(b"\n") if words else []
        self._words += len(found)
        if self._hashed and len(self._tokens) < MAX_WORDS:
            self._tokens.extend(map(zlib.crc32, found))
            self._lines.extend(zlib.crc32(line) for line in data.split(b"\n") if len(line) >= _LEAST_LINE)

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
