"""Sums of paths: which document a file is of whose name is a sum of that document's path, as programs name their copies."""

from __future__ import annotations

import base64
import binascii
import hashlib
import itertools
import os
import re
from array import array
from collections.abc import Collection, Iterable, Iterator, Sequence
from urllib.parse import quote

_KINDS, _CRC_DIGITS = ((hashlib.md5, 32), (hashlib.sha1, 40), (hashlib.sha256, 64)), 8
_WHOLE = frozenset({32, 40, 64})
_PLAIN = re.compile(r"/[A-Za-z0-9/._~ -]*")
_HEX_DIGITS, _BEGUN = frozenset("0123456789abcdef"), 4
_OF_ONE = 1 + len(_KINDS)
MAX_HASHED = 100_000
"""Documents whose paths are tried for names that may be sums of paths."""

Folder = tuple[str, str, Sequence[str]]
"""Documents: (folder, the folder as its own system writes it, their names)."""


def own_folder(folder: str, volume: str | None) -> str:
    """A folder as its own system writes it, with the separator that names follow; `volume` is where that one's root lies."""
    inner = folder if folder.endswith(os.sep) else folder + os.sep
    if volume and inner.startswith(volume):
        return "/" + inner[len(volume) :].lstrip(os.sep).replace(os.sep, "/")
    return "/" + os.path.relpath(inner + "x", volume)[:-1].replace(os.sep, "/") if volume else inner


class PathSums:
    """The sums of paths of documents, taken when there is time: only how each begins is kept, 32 bytes for a document."""

    def __init__(self) -> None:
        self._waiting: list[tuple[str, Sequence[str]]] = []
        self._begun: dict[str, tuple[Sequence[str], array[int]]] = {}
        self._left = MAX_HASHED

    def add(self, own: str, names: Sequence[str]) -> None:
        """Documents whose sums may be asked for: their folder as its own system writes it, and their names."""
        if self._left > 0:
            self._left -= len(names)
            self._waiting.append((own, names))

    def take(self) -> bool:
        """Take the sums of one folder; False if none waits."""
        if not self._waiting:
            return False
        own, names = self._waiting.pop()
        self._begun[own] = names, _begun_of(own, names)
        return True

    def find(self, folders: Iterable[Folder], wanted: Collection[str]) -> dict[str, str]:
        """Which of the sums that are wanted are of which document. CRC-32, MD5, SHA-1 and SHA-256 of the path and of its URI, in hexadecimal,
        the longer ones in base 32 too (RFC 4648, section 6), also where they were cut. Of the first `MAX_HASHED` documents.
        """
        checks = {int(each, 16) for each in wanted if len(each) == _CRC_DIGITS and not set(each) - _HEX_DIGITS}
        begun = {int.from_bytes(first) for each in wanted if (first := _begun(each))} | checks
        lengths = _Lengths(wanted)
        found: dict[str, str] = {}
        left = MAX_HASHED
        for folder, own, names in folders:
            if left < len(names):
                names = names[:left]
            left -= len(names)
            known = self._begun.get(own)
            numbers = known[1] if known is not None and known[0] == names else _begun_of(own, names)
            if begun.isdisjoint(numbers):
                continue
            for place in sorted({at // _OF_ONE for at, number in enumerate(numbers) if number in begun}):
                name, data = next(itertools.islice(_written(own, names), place, None))
                for said in lengths.of(data):
                    found[said] = os.path.join(folder, name)
        return found


class _Lengths:
    """Tells which sums that are wanted are of one text."""

    def __init__(self, wanted: Collection[str]) -> None:
        self._wanted = wanted
        in_hex = {len(each) for each in wanted if not set(each) - _HEX_DIGITS}
        self._in_letters = {len(each) for each in wanted if set(each) - _HEX_DIGITS}
        # The length of one kind is hardly that of another which was cut.
        self._of_kind = [
            (kind, sorted(n for n in in_hex if n == whole or (n < whole and n not in _WHOLE))) for kind, whole in _KINDS
        ]

    def of(self, data: bytes) -> Iterator[str]:
        if (crc := f"{binascii.crc32(data):08x}") in self._wanted:
            yield crc
        for kind, lengths in self._of_kind:
            digest = kind(data, usedforsecurity=False).digest()
            in_hex, in_letters = digest.hex(), base64.b32encode(digest).decode().rstrip("=").casefold()
            yield from (in_hex[:n] for n in lengths if in_hex[:n] in self._wanted)
            yield from (
                in_letters[:n] for n in self._in_letters if n <= len(in_letters) and in_letters[:n] in self._wanted
            )


def _begun(said: str) -> bytes:
    """The first bytes of a sum as it is written in a name; none where it is neither."""
    if not set(said) - _HEX_DIGITS:
        return bytes.fromhex(said[: 2 * _BEGUN])
    try:
        return base64.b32decode(said[:_CRC_DIGITS].upper())[:_BEGUN]
    except ValueError:
        return b""


def _begun_of(own: str, names: Sequence[str]) -> array[int]:
    """How the sums of each document of a folder begin, as numbers: those of its path, then those of its URI."""
    told = array("I")
    add, number, check = told.append, int.from_bytes, binascii.crc32
    for _, data in _written(own, names):
        add(check(data))
        for kind, _ in _KINDS:
            add(number(kind(data, usedforsecurity=False).digest()[:_BEGUN]))
    return told


def _written(own: str, names: Sequence[str]) -> Iterator[tuple[str, bytes]]:
    """(name, what a program may take the sum of): paths as their system writes them, and their URIs."""
    for name in names:
        path = own + name
        data = path.encode("utf-8", "surrogateescape") if os.name == "posix" else os.fsencode(path)
        yield name, data
        if _PLAIN.fullmatch(path):
            yield name, b"file://" + data.replace(b" ", b"%20")
        else:
            # Of bytes, as a name may be no Unicode.
            uri = quote(data if data.startswith(b"/") else b"/" + data.replace(b"\\", b"/"), safe="/:()!'*~")
            yield name, b"file://" + uri.encode()
