"""What names in the folders of programs say of documents elsewhere: the same name, the whole path, a sum of it."""

from __future__ import annotations

import bisect
import os
import re
from collections.abc import Iterable, Iterator
from urllib.parse import unquote

from rustfern.core.asked import words_of
from rustfern.core.paths import fold_name
from rustfern.formats.format_table import DOCUMENT_EXTENSIONS
from rustfern.search.neighbours import is_everywhere, tells_of_copies

_HEX = re.compile(r"(?<![0-9A-Za-z])[0-9a-fA-F]{8,64}(?![0-9A-Za-z])")
_BASE32 = re.compile(r"(?<![0-9A-Za-z])(?=[A-Za-z]*[2-7])[A-Za-z2-7]{16,56}(?![0-9A-Za-z])")
_BEGINS = re.compile(r"(?<![^\W_])(?=.)|(?<=\d)(?=[^\W\d])")
_MAX_TOKENS, _MIN_TOKENS = 60, 3
_WHOLE_LENGTHS, _FEW_SUMS = frozenset({26, 32, 40, 52, 64}), 12
_UUID = re.compile(r"[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
SURE_SUM = 12
"""Digits from which on a sum in a name is no chance."""
CUT_NAME, _CUT_SHARED, _CUT_SHARE, _MAX_CUT, _MAX_ABOVE = 48, 24, 0.6, 20, 12
"""Names this long may be paths that were cut; least letters, and share of the name, that the path must begin with; most documents then."""
SEPARATORS, STRONG_SEPARATORS = "%!_#-|:\\+=@", "%!|\\:=@#"
"""What programs write for the separators of a path in a name."""


def tokens(path: str) -> tuple[str, ...]:
    """The words of a path or of a name that stands for one, folded, without what parts them."""
    return tuple(words_of(fold_name(path)))


_ALIKE = str.maketrans(dict.fromkeys(" _-+", "-"))
_MIN_STEM, _FEW_STEMS = 5, 20


def alike(names: str) -> str:
    """Folded names as those programs write them that keep no spaces: a sign for each of them."""
    return names.replace("%20", "-").translate(_ALIKE)


class OwnNames:
    """Finds the documents whose whole name, or its stem under another ending, stands in a file's name, with whatever around it."""

    def __init__(self, names: Iterable[str]) -> None:
        self._names: dict[str, str] = {}
        self._stems: dict[str, list[str]] = {}
        endings = set()
        listed = [name for name in names if "/" not in name]
        # Folded all at once: no name holds a separator.
        for name, said in zip(listed, alike(fold_name("/".join(listed))).split("/"), strict=bool(listed)):
            if is_everywhere(name):
                continue
            self._names.setdefault(said, name)
            stem, dot, ending = said.rpartition(".")
            if dot and len(stem) >= _MIN_STEM:
                self._stems.setdefault(stem, []).append(name)
            if dot:
                endings.add(ending)
        endings &= DOCUMENT_EXTENSIONS
        known = "|".join(sorted(map(re.escape, endings))) or "(?!)"
        self._ending = re.compile(rf"\.(?:{known})(?![0-9a-z])")

    def find(self, folder: str, *, for_copies: bool = False) -> dict[int, set[str]]:
        """Which one → the documents' names, of the files of a folder, given as their folded names between `/`. Stems alone count where they are
        few, or the folder is `for_copies`.
        """
        said = alike(folder)
        whole = [found.end() for found in self._ending.finditer(said)]
        at = 0
        ends = iter([*whole, len(said) + 1])
        end = next(ends)
        named: dict[int, set[str]] = {}
        by_stem: dict[int, set[str]] = {}
        for number, name in enumerate(said.split("/")):
            until = at + len(name)
            found: set[str] = set()
            while end <= until:
                found |= self._held(said[at:end])
                end = next(ends)
            if found:
                named[number] = found
            elif held := self._stems.get(name.rpartition(".")[0] or name):
                by_stem[number] = set(held)
            at = until + 1
        return named | by_stem if for_copies or len(by_stem) <= _FEW_STEMS else named

    def _held(self, part: str) -> set[str]:
        """The longest document's name that the beginning of a file's name ends with."""
        for found in _BEGINS.finditer(part):
            if (name := self._names.get(part[found.start() :])) is not None:
                return {name}
        return set()


class WholePaths:
    """Finds the documents whose whole path, or the end of it with a folder's name, is written in a file's name."""

    def __init__(self, paths: Iterable[str]) -> None:
        self._paths = paths
        self._by_name: dict[tuple[str, ...], list[tuple[tuple[str, ...], str]]] = {}
        self._longest = 0
        self._ordered: list[tuple[str, str]] = []

    def _ready(self) -> None:
        """Take the paths apart when the first name asks for them: most disks have none that does."""
        paths, self._paths = self._paths, ()
        for path in paths:
            name = tokens(os.path.basename(path.replace("\\", "/")))
            if name:
                self._by_name.setdefault(name, []).append((tokens(path), path))
                self._longest = max(self._longest, len(name))

    def find(self, name: str) -> str | None:
        """The one document that a name spells out; None if it spells none, or could be of several."""
        if sum(name.count(sign) for sign in SEPARATORS) < 2:
            return None
        self._ready()
        # A percent sign may stand for a separator, or begin what stands for one.
        readings = dict.fromkeys((tokens(name), tokens(unquote(name))))
        return next((found for said in readings if (found := self._spelt(said))), None)

    def begun(self, name: str) -> list[str]:
        """The documents whose path a long name begins with, before it was cut; none if there are too many."""
        if len(name) < CUT_NAME or sum(name.count(sign) for sign in SEPARATORS) < 2:
            return []
        self._ready()
        if not self._ordered:
            self._ordered = sorted(
                (" ".join(words[start:]), path)
                for group in self._by_name.values()
                for words, path in group
                for start in range(min(len(words), _MAX_ABOVE))
            )
        said = " ".join(tokens(unquote(name)))
        at = bisect.bisect_left(self._ordered, (said, ""))
        near = [self._ordered[i][0] for i in (at - 1, at) if 0 <= i < len(self._ordered)]
        shared = max((_alike_until(said, path) for path in near), default=0)
        if shared < max(_CUT_SHARED, _CUT_SHARE * len(said)):
            return []
        first = bisect.bisect_left(self._ordered, (said[:shared], ""))
        found = set()
        for path, document in self._ordered[first : first + 4 * _MAX_CUT]:
            if not path.startswith(said[:shared]):
                break
            found.add(document)
        return sorted(found) if len(found) <= _MAX_CUT else []

    def _spelt(self, said: tuple[str, ...]) -> str | None:
        if not _MIN_TOKENS <= len(said) <= _MAX_TOKENS:
            return None
        for left_out in range(3):  # what was added: a counter, an ending
            words = said[: len(said) - left_out]
            found = {path for path, held in self._fitting(words) if held}
            if len(found) == 1:
                return found.pop()
            if found:
                return None
        return None

    def _fitting(self, words: tuple[str, ...]) -> Iterator[tuple[str, bool]]:
        for count in range(min(self._longest, len(words) - 2), 0, -1):
            for whole, path in self._by_name.get(words[-count:], ()):
                # At least two folders, and all that there is of the name or of the path, but for a letter of a drive.
                shared = count
                while shared < min(len(words), len(whole)) and words[-shared - 1] == whole[-shared - 1]:
                    shared += 1
                drive = shared == len(words) - 1 and len(words[0]) == 1
                yield path, shared == len(whole) or (shared >= count + 2 and (shared == len(words) or drive))


def _alike_until(one: str, other: str) -> int:
    """How many letters two texts begin alike with."""
    return next((at for at, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))


def sums_in(names: str, folder: str) -> list[str]:
    """What may be the sum of a path in names: whole, in hexadecimal or base 32, or cut (8 digits or more), in small letters. Cut ones do not
    count in a folder with many files, whose name says nothing of copies: caches have such names.
    """
    plain = _UUID.sub("", names)
    found = [each.casefold() for each in (*_HEX.findall(plain), *_BASE32.findall(plain))]
    if len(found) > _FEW_SUMS and not tells_of_copies(os.path.basename(folder)):
        found = [each for each in found if len(each) in _WHOLE_LENGTHS]
    return [each for each in found if not each.isdecimal()]  # a date, a counter
