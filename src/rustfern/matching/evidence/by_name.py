"""Which documents a copy or a lock can belong to, by names and folders. Looks names up, opens nothing."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Protocol

import msgspec

from rustfern.core.model import Evidence, Find, Home
from rustfern.core.paths import fold_name
from rustfern.formats.format_table import compatible, extension_of, format_of_extension, title_of
from rustfern.matching.evidence.weights import evidence

_MAX = 60
_SIGNS = re.compile(r"[\\/]")


class Names(Protocol):
    """The name index of the walk."""

    def by_name(self, name: str, limit: int = ...) -> list[str]: ...
    def by_stem(self, stem: str, limit: int = ...) -> list[str]: ...
    def beside(self, folder: str, stem: str) -> list[str]: ...


class Candidate(msgspec.Struct):
    """One original that something may belong to; `exists` tells whether a file is there now, `likeness` how far the text of a copy that was
    compared with it is its own (0 to 1), None where nothing was compared or nothing shared.
    """

    path: str
    evidence: list[Evidence] = msgspec.field(default_factory=list)
    exists: bool = True
    likeness: float | None = None


def folder_of(path: str) -> str:
    """The folder of a path, whichever separator this system uses."""
    found = max(path.rfind("/"), path.rfind("\\") if "\\" in path and "/" not in path else -1)
    return path[:found] if found > 0 else path[: found + 1]


def name_of(path: str) -> str:
    """The last part of a path."""
    return path[len(folder_of(path)) :].lstrip("/\\") if "/" not in path else posixpath.basename(path)


def join(folder: str, name: str) -> str:
    """Join a folder and a file name the way the folder is written."""
    sep = "\\" if "\\" in folder and "/" not in folder else "/"
    return folder.rstrip("/\\") + sep + name


def spellings(text: str) -> list[str]:
    """A name as it is and, where it was written with percent signs, decoded."""
    if "%" not in text:
        return [text]
    from urllib.parse import unquote

    decoded = unquote(text)
    return [text] if decoded == text else [decoded, text]


def endings(text: str, prefixes: Iterable[str]) -> list[tuple[str, bool]]:
    """What stands behind a localised prefix: (stem, whether the prefix is a known one), the longest first."""
    for prefix in prefixes:
        if text.casefold().startswith(prefix.casefold()) and len(text) > len(prefix):
            return [(text[len(prefix) :], True)]
    starts = [0] + [found.end() for found in re.finditer(r"[ _-]+", text)]
    return [(text[at:], at == 0) for at in starts[:8] if len(text[at:]) >= 3]


def for_copy(
    find: Find, format_name: str | None, names: Names, homes: Sequence[Home], prefixes: Sequence[str], *, beside: bool
) -> list[Candidate]:
    """Candidates by the copy's own name; empty if its name says nothing or nothing fits."""
    fields, folder = find.fields, folder_of(find.entry.path)
    if beside:
        return _beside(fields, folder, format_name, names, prefixes)
    found: list[Candidate] = []
    if "name" in fields:
        for name in spellings(fields["name"]):
            found = _located(names.by_name(name), find, homes, f"its name holds the whole name {name}", "name")
            if found:
                break
    elif "stem" in fields or "prefixed" in fields:
        found = _by_stem(fields, find, names, homes, prefixes)
    fitting = [item for item in found if compatible(format_name, format_of_extension(extension_of(item.path)))][:_MAX]
    same = [item for item in fitting if format_of_extension(extension_of(item.path)) == format_name]
    if format_name and 0 < len(same) < len(fitting):
        for item in same:
            item.evidence.append(
                evidence("same-format", f"both are {title_of(format_name)}, the others of its name are not")
            )
    return fitting


def _beside(
    fields: Mapping[str, str], folder: str, format_name: str | None, names: Names, prefixes: Sequence[str]
) -> list[Candidate]:
    named = fields["vstem"] + fields.get("dotext", "") if "vstem" in fields else fields.get("name")
    if named is not None:
        folded = fold_name(named)
        if "up" in fields:
            folder = folder_of(folder)
        there = {name_of(path): path for path in names.beside(folder, folded.rpartition(".")[0] or folded)}
        name = next((name for name in there if fold_name(name) == folded), named)
        where = "in a folder beside it" if "up" in fields else "in the same folder"
        text = f"its name is that of {name} with an addition, {where}"
        if fields.get("addition") == "":
            text = f"its name is that of {name}, {where}"
        kind = "name-within" if "addition" in fields else "name-beside"
        return [Candidate(there.get(name, join(folder, name)), [evidence(kind, text)], name in there)]
    stems: list[tuple[str, bool]] = []
    if "stem" in fields:
        stems = [(stem, True) for stem in spellings(fields["stem"])]
    elif "prefixed" in fields:
        stems = [pair for text in spellings(fields["prefixed"]) for pair in endings(text, prefixes)]
    for stem, whole in stems:
        fitting = [
            p for p in names.beside(folder, stem) if compatible(format_name, format_of_extension(extension_of(p)))
        ]
        if fitting:
            kind = "name-beside" if whole else "name-ending"
            return [
                Candidate(p, [evidence(kind, f"its name holds that of {name_of(p)}, in the same folder")])
                for p in fitting
            ]
    if stems and stems[0][1] and format_name:
        # The original is gone: its name is known, its extension follows from the content.
        name = f"{stems[0][0]}.{format_name}"
        return [
            Candidate(join(folder, name), [evidence("name-beside", f"its name holds the name {stems[0][0]}")], False)
        ]
    return []


def _by_stem(
    fields: Mapping[str, str], find: Find, names: Names, homes: Sequence[Home], prefixes: Sequence[str]
) -> list[Candidate]:
    if "stem" in fields:
        for stem in spellings(fields["stem"]):
            if found := names.by_stem(stem):
                return _located(found, find, homes, f"its name holds the name {stem}", "name")
        return []
    for text in spellings(fields["prefixed"]):
        for stem, whole in endings(text, prefixes):
            if found := names.by_stem(stem):
                kind = "name" if whole else "name-ending"
                says = "holds" if whole else "ends in"
                return _located(found, find, homes, f"its name {says} the name {stem}", kind)
    return []


def _located(paths: Iterable[str], find: Find, homes: Sequence[Home], text: str, kind: str) -> list[Candidate]:
    """Candidates in the same person's home count fully, those in another person's home little."""
    found = []
    for path in paths:
        home = next(
            (h for h in homes if path.startswith(h.path.rstrip("/\\") + ("\\" if "\\" in h.path else "/"))), None
        )
        away = find.home is not None and home is not None and home != find.home
        piece = evidence("name-elsewhere", text + ", in another person's home") if away else evidence(kind, text)
        found.append(Candidate(path, [piece]))
    return found


def shown_stem(find: Find, prefixes: Sequence[str]) -> str | None:
    """The document's name as far as the copy's own name tells it, for documents that exist nowhere else."""
    fields = find.fields
    if "name" in fields:
        return spellings(fields["name"])[0]
    if "vstem" in fields:
        return fields["vstem"] + fields.get("dotext", "")
    if "stem" in fields:
        return spellings(fields["stem"])[0]
    if "untitled" in fields:
        return spellings(fields["untitled"])[0]
    if "prefixed" in fields:
        text = spellings(fields["prefixed"])[0]
        return next((stem for stem, _ in endings(text, prefixes)), text)
    return None


def lock_fits(tail: str, original: str, size: int | None) -> str | None:
    """How an owner lock's name (without `~$`) fits an original's: `whole`, `cut`, or None.

    Text documents: a base name of 8 letters or more loses its first two, one of 7 its first, shorter ones none;
    other documents keep theirs. The size tells which program wrote the lock (162: text), None if it does not.
    """
    tail, original = fold_name(tail), fold_name(original)
    if tail == original:
        base = len(original.rpartition(".")[0])
        return "whole" if size != 162 or base <= 7 else None
    if size == 165:
        return None
    base = len(original.rpartition(".")[0])
    cut = 2 if base >= 8 else 1 if base == 7 else 0
    return "cut" if cut and tail == original[cut:] else None


def for_owner_lock(
    tail: str, folder: str, size: int | None, names: Iterable[str], also: Iterable[str]
) -> list[Candidate]:
    """Documents in the lock's folder that its name fits. `also`: paths known from elsewhere (gone documents)."""
    found: dict[str, Candidate] = {}
    indexed = set(names)
    for path in [*indexed, *also]:
        if folder_of(path) != folder or path in found:
            continue
        fit = lock_fits(tail, name_of(path), size)
        if fit:
            kind = "lock-name" if fit == "whole" else "lock-name-cut"
            cut = "" if fit == "whole" else " (its first letters replaced by the lock's sign)"
            found[path] = Candidate(path, [evidence(kind, f"the lock ~${tail} carries its name{cut}")], path in indexed)
    return sorted(found.values(), key=lambda item: item.path)
