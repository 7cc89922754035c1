"""A package of parts while it is put together again: each part as it is packed, or made anew; what is missing; writing it."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterable, Mapping
from typing import BinaryIO

import msgspec
from msgspec.structs import replace

from rustfern.core.errors import Malformed
from rustfern.formats.office.embedded import check_member
from rustfern.repair.interface import Budget, Job, Loss, LossKind, NothingLeft, Other, Step
from rustfern.repair.xml_mend import Grammar, first_fault, mend_to_the_end
from rustfern.repair.zip_salvage import Content, Held, Salvaged, content, content_from, find_members, packed
from rustfern.repair.zip_writer import ZipWriter

_NUMBER = re.compile(r"(\d+)")
_UNKNOWN = re.compile(rb"\0+")
_LOOKS = re.compile(
    r"(?:^|/)(?:styles|theme\d*|fontTable|numbering|settings|slideMaster\d*|slideLayout\d*)\.xml(?:\.rels)?$"
)
"""Parts that give a document its looks."""
_LEAST_TELLING, _LEAST_COMMON = 200, 2
_SMALL_SHIFT = 64
_DOUBTFUL = "[from here on words may be wrong: compare them with other copies]"
_XML = (".xml", ".rels", ".opf", ".xhtml", ".html", ".htm", ".ncx", ".svg", ".rdf", ".vml")


def natural(name: str) -> list[object]:
    """A key by which names with numbers are in their order."""
    return [int(x) if x.isdigit() else x.casefold() for x in _NUMBER.split(name)]


class _Supply:
    """Another copy of the package: its whole parts, and whether several of them prove that it is of the same version."""

    def __init__(self, other: Other, mine: Mapping[str, Salvaged]) -> None:
        self.other = other
        self._members = {member.name: member for member in find_members(other.data)}
        both = [name for name, member in self._members.items() if member.proven and name in mine and mine[name].proven]
        same = [name for name in both if self._members[name].crc == mine[name].crc and mine[name].got > _LEAST_TELLING]
        self.proven = len(same) >= _LEAST_COMMON and len(same) == len([n for n in both if mine[n].got > _LEAST_TELLING])

    def names(self) -> list[str]:
        """The parts that are whole."""
        return [name for name, member in self._members.items() if member.proven]

    def read(self, name: str, budget: Budget) -> bytes | None:
        """A part, if it is whole."""
        member = self._members.get(name)
        if self.other.is_sample and not _LOOKS.search(name):
            return None
        return content(self.other.data, member, budget).data if member is not None and member.proven else None


class Package:
    """The parts that are kept, by their names: taken over as they are packed, or bytes made anew."""

    def __init__(self, data: Held, job: Job) -> None:
        self._held, self.job = data, job
        members: list[Salvaged] = job.known.get("members") or find_members(data)
        self.found = {member.name: member for member in members}
        self.parts: dict[str, bytes | Salvaged] = {}
        self.lost: list[Loss] = []
        self.steps: list[Step] = []
        self._supplies = [_Supply(other, self.found) for other in job.others if other.data[:2] == b"PK"]
        self.cut_off = any(not member.ended for member in self.found.values())
        if not any(member.got for member in self.found.values()):
            raise NothingLeft("no part of it can be unpacked")

    def rename(self, is_known: Callable[[str], bool]) -> None:
        """Of two names that its headers give a part, the one that is known counts: the other one is damaged."""
        for name, member in list(self.found.items()):
            other = member.other_name
            if other and other not in self.found and is_known(other) and not is_known(name):
                del self.found[name]
                self.found[other] = replace(member, name=other, other_name="")

    def did(self, step: Step) -> None:
        """Note how it was put together."""
        if step not in self.steps:
            self.steps.append(step)

    def loses(self, kind: LossKind, where: str = "", count: int = 0) -> None:
        """Note what is missing."""
        self.lost.append(Loss(kind, where, count))

    def content(self, name: str) -> Content:
        """What a part that was found unpacks to."""
        self.job.budget.spend()
        return content(self._held, self.found[name], self.job.budget)

    def read(self, name: str) -> bytes:
        """A part as it will be written; empty if it is not there."""
        part = self.parts.get(name)
        if isinstance(part, Salvaged):
            return content(self._held, part, self.job.budget).data
        return part or b""

    def keep(self, name: str) -> bool:
        """Take over a part that is no XML, if it is whole; one whose sum does not fit, if its own format says that it is."""
        member = self.found[name]
        if member.proven:
            self.parts[name] = member
            return True
        if self._taken(name, None):
            return True
        if not member.ended:
            return False
        data = self.content(name).data
        try:
            check_member([data], name, len(data))
        except Malformed:
            return False
        self.parts[name] = data
        self.loses(LossKind.UNPROVEN, name)
        return True

    def keep_xml(self, name: str, grammar: Grammar | None, said: str) -> bool:
        """Take over a part of XML: as it is if it is whole, closed and cleaned if there is a grammar for it. False if nothing of it was kept."""
        member = self.found[name]
        told = self.content(name)
        if told.complete and first_fault(told.data) is None:
            if member.proven:
                self.parts[name] = member
            else:
                self.parts[name] = told.data
                if told.data:
                    self.loses(LossKind.UNPROVEN, name)
            return bool(told.data)
        if self._taken(name, told.data):
            return True
        if grammar is None or not any(told.stretches):
            return False
        fault = first_fault(told.data)
        stretches, mark = told.stretches, ""
        if told.complete and fault is not None and not member.proven and member.size not in (None, 0, member.got):
            if abs((member.size or 0) - member.got) > _SMALL_SHIFT or not _reads_on(told.data[fault:]):
                # Another block stands where a part of it should be: what unpacks from there on is nobody's.
                told = content_from(self._held, member, fault, self.job.budget)
                stretches = told.stretches
            else:
                # What follows a wrong bit unpacks to wrong copies of what stands before it.
                stretches, mark = (told.data[:fault], told.data[fault:]), _DOUBTFUL
                self.lost.append(Loss(LossKind.WRONG, name, 0, fault))
        marks, missing = self.job.marks, told.missing
        mended = mend_to_the_end(
            stretches, grammar, complete=told.complete, missing=missing, marks=marks, said=said, mark=mark
        )
        if mended is None:
            return False
        self.parts[name] = mended.data
        self.did(Step.CLOSED if mended.closed else Step.CLEANED)
        if mended.holes:
            self.did(Step.RESUMED)
        unknown = sum(len(_UNKNOWN.findall(stretch)) for stretch in stretches[1:])
        if unknown and kind_of(said) is not LossKind.STYLES:
            self.loses(LossKind.SIGNS, name, unknown)
        if told.complete and not member.proven and not mark:
            self.loses(LossKind.UNPROVEN, name)
        if (not told.complete or mended.closed) and not mark:
            self.lost.append(Loss(kind_of(said), name, mended.missing, fault if fault is not None else -1))
        return True

    def take_missing(self) -> None:
        """Parts that are not here at all, from copies of the same document, or from those that were asked for."""
        for supply in self._supplies:
            if supply.other.asked or supply.proven:
                for name in supply.names():
                    if name not in self.found and name not in self.parts and not name.endswith("/"):
                        self._taken(name, b"")

    def _taken(self, name: str, mine: bytes | None) -> bool:
        """Take a part that is damaged here from another copy: one that proves to be of the same version, or one that was asked for (of that
        only what is not here at all, pictures and the like)."""
        for supply in self._supplies:
            data = supply.read(name, self.job.budget)
            if data is None or not data:
                continue
            is_same = supply.proven and (not mine or data.startswith(mine[: max(len(mine) - 64, 0)]))
            if not is_same and not (supply.other.asked and not mine):
                continue
            self.parts[name] = data
            self.did(Step.TOGETHER)
            if not is_same:
                self.lost.append(Loss(LossKind.TAKEN, name, 1, text=supply.other.name))
            return True
        return False

    def write(self, out: BinaryIO, first: Iterable[str] = (), stored: Iterable[str] = ()) -> None:
        """Write all parts, some of them first, some of them stored."""
        writer, plain = ZipWriter(out), frozenset(stored)
        order = [name for name in first if name in self.parts]
        order += [name for name in sorted(self.parts, key=natural) if name not in order]
        for name in order:
            part = self.parts[name]
            if isinstance(part, Salvaged):
                writer.copy(
                    name,
                    packed(self._held, part),
                    part.method,
                    part.crc,
                    part.length,
                    part.got,
                    part.date or 0x21,
                    part.time,
                )
            else:
                writer.add(name, part, stored=name in plain)
        writer.close()


_KINDS = {
    "paragraphs": LossKind.PARAGRAPHS,
    "rows": LossKind.ROWS,
    "cell texts": LossKind.CELL_TEXTS,
    "styles": LossKind.STYLES,
    "lists": LossKind.STYLES,
    "slides": LossKind.SLIDES,
    "objects": LossKind.OBJECTS,
    "pages": LossKind.PAGES,
}


def _reads_on(data: bytes) -> bool:
    """Whether nearly all of what follows a fault is text in UTF-8."""
    sample = data[: 1 << 20]
    return len(sample) - len(sample.decode("utf-8", "ignore").encode()) <= max(16, len(sample) // 500)


def kind_of(said: str) -> LossKind:
    """What kind of loss it is where so-called things are missing."""
    return _KINDS.get(said, LossKind.PARAGRAPHS)


def is_xml(name: str) -> bool:
    """Whether a part should be XML, by its name."""
    return name.casefold().endswith(_XML)


class Link(msgspec.Struct, frozen=True):
    """One relationship: its id and type, the part that it leads to (or the address outside)."""

    ident: str
    kind: str
    target: str
    outside: bool = False


_RELATION = re.compile(r"<(?:\w+:)?Relationship\b([^<>]*?)/?>")
_PAIR = re.compile(r'(?<![\w:])([\w:]++)\s*+=\s*(?:"([^"]*)"|\'([^\']*)\')')


def attributes(text: str) -> dict[str, str]:
    """The attributes of a tag, entities put back."""
    from html import unescape

    return {found[1]: unescape(found[2] if found[2] is not None else found[3]) for found in _PAIR.finditer(text)}


def links_in(data: bytes, rels: str) -> list[Link]:
    """The relationships that can be read in a part of them, however it is damaged; targets are names of parts."""
    folder = posixpath.dirname(posixpath.dirname(rels))
    out = []
    for found in _RELATION.finditer(data.decode("utf-8", "replace")):
        told = attributes(found[1])
        target, outside = told.get("Target", ""), told.get("TargetMode") == "External"
        if not told.get("Id") or not told.get("Type") or not target:
            continue
        if not outside:
            base = target.partition("#")[0]
            target = posixpath.normpath(base.lstrip("/") if base.startswith("/") else posixpath.join(folder, base))
        out.append(Link(told["Id"], told["Type"], target, outside))
    return out


def relative(part: str, target: str) -> str:
    """How relationships of a part name another part."""
    return posixpath.relpath(target, posixpath.dirname(part) or ".") if part else target
