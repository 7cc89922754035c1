"""How content is rebuilt where a file is no document by itself: one function a recipe."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import BinaryIO

from rustfern.errors import Malformed
from rustfern.model import Entry, Rebuilt
from rustfern.traces import joe_dead, kate_journal, vim_swap

_MAX_TEXT = 256 << 20


def vim_swap_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """A swap file on the version that was opened, if lines of it are needed."""
    return vim_swap.rebuild(stream, entry.size, originals[0] if originals else None)


def kate_journal_text(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """A journal on the version that its sum fits."""
    journal = kate_journal.parse(stream.read(_MAX_TEXT))
    for original in originals:
        if kate_journal.blob_id(original) == journal.base:
            return kate_journal.replay(journal, original)
    raise Malformed("it is a journal of changes, and no copy of the version that it fits was found")


def joe_part(stream: BinaryIO, entry: Entry, originals: Sequence[bytes]) -> Rebuilt:
    """One text of a dead file, by its number."""
    for text in joe_dead.parse(stream.read(_MAX_TEXT)):
        if str(text.number) == entry.part:
            return Rebuilt(text.data, text.data.count(b"\n"), 0, 0)
    raise Malformed(f"text {entry.part} is not in the dead file any more")


RECIPES: dict[str, Callable[[BinaryIO, Entry, Sequence[bytes]], Rebuilt]] = {
    "vim-swap": vim_swap_text,
    "kate-journal": kate_journal_text,
    "joe-part": joe_part,
}
SAID = {
    "vim-swap": "rebuilt whole from the swap file",
    "kate-journal": "rebuilt whole from the journal, whose sum fits its version",
    "joe-part": "taken whole out of the dead file",
}
