"""Words that a person remembers, sought in the bytes of files of no known kind: what programs keep in their own and in temporary folders.

A program's own notes (the steps that can be undone, a working file, a cache) may be all that is left of what was never saved, in a form
that nobody but this program reads. That the words stand there is still worth more than nothing.
"""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Iterable, Sequence
from contextlib import suppress
from functools import lru_cache
from itertools import chain, islice

from rustfern.core.errors import SourceError
from rustfern.core.model import Entry, Hit
from rustfern.sources.registry import Sources

_ENCODINGS = ("utf-8", "utf-16-le", "cp1252")
_BLOCK = 4 << 20
_REACH = 1 << 16
"""Bytes within which all of the words must stand: a page of text, with what a program writes between its lines."""
_AROUND = 160
_SHORTEST = 3
_MAX_LOOKED_AT, _MAX_READ, _MAX_BYTES = 20_000, 4_000, 2 << 30
_MAX_FILES, _MAX_PLACES = 20, 1_000
_NOT_ASCII = re.compile(r"[^\x20-\x7e]+")
_APART = re.compile(r"[\0-\x1f\x7f\ufffd]+")


@lru_cache(64)
def _pattern(word: str, encoding: str) -> re.Pattern[bytes] | None:
    """A word in any case, as this encoding writes it; None where it cannot."""
    try:
        signs = [sorted({sign.lower().encode(encoding), sign.upper().encode(encoding)}) for sign in word]
    except UnicodeEncodeError:
        return None
    return re.compile(
        b"".join(
            re.escape(each[0]) if len(each) == 1 else b"(?:" + b"|".join(map(re.escape, each)) + b")" for each in signs
        )
    )


def _sentence(data: bytes, encoding: str, start: int, end: int) -> str:
    """What can be read around a place, up to where letters end."""
    width = 2 if encoding == "utf-16-le" else 1
    low = start - min(start, _AROUND * width) // width * width
    before = _APART.split(data[low:start].decode(encoding, "replace"))[-1]
    behind = data[start : end + _AROUND * width].decode(encoding, "replace")
    return (before + _APART.split(behind)[0]).strip()


@lru_cache(64)
def _plain_part(word: str, encoding: str) -> bytes:
    """The longest part of a word that is ASCII, as this encoding writes it in small letters."""
    return max(_NOT_ASCII.split(word.lower()), key=len).encode(encoding)


def _found_in(data: bytes, small: bytes, words: Sequence[str], encoding: str) -> str | None:
    """What stands around the words, if they stand near each other: the sentence that holds most of them. `small` is the same data with small
    letters of ASCII: most data hold no such word, which is told there at once.
    """
    if any(_plain_part(word, encoding) not in small for word in words):
        return None
    patterns = [_pattern(word, encoding) for word in words]
    if None in patterns:
        return None
    first, *others = [each for each in patterns if each is not None]
    best, most = None, 0
    for found in islice(first.finditer(data), _MAX_PLACES):
        low, high = max(found.start() - _REACH, 0), found.end() + _REACH
        if best is None and not all(each.search(data, low, high) for each in others):
            continue
        sentence = _sentence(data, encoding, *found.span())
        count = sum(word in sentence.casefold() for word in words)
        if count > most or best is None:
            best, most = sentence, count
        if most == len(words):
            break
    return best


def sentence_with(door: Sources, entry: Entry, words: Sequence[str]) -> str | None:
    """What stands around the words in a file that holds all of them near each other; None for another one. `words` has the longest first.

    Raises `SourceError`, `OSError`.
    """
    kept = b""
    encodings = _ENCODINGS[:2] if all(map(str.isascii, words)) else _ENCODINGS
    with door.of(entry).open(entry) as stream:
        while block := stream.read(_BLOCK):
            data = kept + block
            small = data.lower()
            for encoding in encodings:
                if (sentence := _found_in(data, small, words, encoding)) is not None:
                    return sentence
            kept = data[-2 * _REACH :] if len(data) % 2 == 0 else data[-2 * _REACH - 1 :]
    return None


def hits_in_bytes(
    door: Sources,
    words: str,
    folders: Iterable[tuple[str, Sequence[str]]],
    paths: Iterable[str],
    known: Collection[str],
) -> list[Hit]:
    """The newest files that hold all of the words: of `folders`, given as (folder, names), and `paths`, but those that are `known`."""
    wanted = sorted({word.casefold() for word in words.split()}, key=len, reverse=True)
    if not wanted or len(wanted[0]) < _SHORTEST:
        return []
    entries: list[Entry] = []
    inner = (os.path.join(folder, name) for folder, names in folders for name in names)
    for path in chain(inner, paths):
        if path in known:
            continue
        if len(entries) >= _MAX_LOOKED_AT:
            break
        with suppress(SourceError):
            entry = door.around(path).entry(path)
            if entry.is_file and entry.size and not entry.deleted:
                entries.append(entry)
    entries.sort(key=lambda entry: entry.modified_ns or 0, reverse=True)
    hits: list[Hit] = []
    left = _MAX_BYTES
    for entry in entries[:_MAX_READ]:
        if entry.size > left or len(hits) >= _MAX_FILES:
            continue
        left -= entry.size
        with suppress(SourceError, OSError):
            if (sentence := sentence_with(door, entry, wanted)) is not None:
                hits.append(Hit(0, "", entry.path, sentence, len(wanted), 0.0))
    return hits
