"""A closer look at a place where a document may begin: how far it reaches, and what the check of its format says of that."""

from __future__ import annotations

import io
import re
import struct
from collections.abc import Callable, Sequence
from typing import BinaryIO

import msgspec
from msgspec.structs import replace

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Content, Glance, State
from rustfern.formats import registry as formats
from rustfern.formats.extents.interface import Reach
from rustfern.formats.extents.proof import is_weak, proves, strange_part
from rustfern.formats.extents.registry import SWAP, TEXT, Beginning, beginnings_of, measured
from rustfern.formats.format_table import class_of
from rustfern.formats.interface import Limits
from rustfern.formats.paged_bytes import Paged
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free, Onward, cut
from rustfern.search.raw.sweep import sectors_in
from rustfern.sources.disks.interface import DiskBytes, Extent, ExtentStream, windows

_LEAST_WORDS, _LEAST_BYTES, _LEAST_PART, _LONGEST_WORD = 3, 24, 512, 400
_NOT_OF_PEOPLE = frozenset({"other"})
_ARCHIVES = frozenset({"zip", "7z", "tar"})
_WORTH_A_LOOK = (State.INTACT, State.ENCRYPTED, State.UNREADABLE)
_OF_FRAMES = frozenset({"media.mp3", "media.aac"})
_LOOKED_AT, _FIRST_LETTERS = 16 << 10, 400
_USUAL_CLUSTER, _WINDOW, _LEAST_INNER, _LEAST_PROVEN, _LEAST_OPEN = 4096, 1 << 20, 300, 32, 128
_OF_OTHERS = re.compile(
    rb"\bendobj\b|\bendstream\b|\d{10} \d{5} [nf]\b|\\(?:pard|par|fs\d+|loch|hich|rtlch|ltrch)\b|</?(?:[awp]|text|table|office):\w+"
)
BROKEN = (
    Malformed,
    struct.error,
    SourceError,
    OSError,
    ValueError,
    LookupError,
    ArithmeticError,
    RecursionError,
    MemoryError,
    AttributeError,
    TypeError,
    EOFError,
)


class Begun(msgspec.Struct, frozen=True):
    """A document that begins at a place and could not be followed to its end there."""

    offset: int
    beginning: Beginning
    reach: Reach
    head: bytes


class Looker:
    """Looks at places of one disk."""

    def __init__(self, disk: DiskBytes, limits: Limits, grain: Callable[[int], tuple[int, int]] | None = None) -> None:
        """`grain` tells (bytes of a cluster, where one begins) at a place of the disk."""
        self.disk, self._limits = disk, limits
        self._grain = grain or (lambda offset: (_USUAL_CLUSTER, 0))
        self.far = 0
        """Nothing behind this place of the disk was asked for since it was set; -1 for the end."""

    def measure(
        self, free: Free, offset: int, head: bytes, *, is_text: bool
    ) -> tuple[Beginning, Reach, list[Extent]] | None:
        """(family, how far it reaches, where its bytes lie) of what begins at a place of free space."""
        onward = Onward(self.disk, free, offset, self.disk.size)
        data = Paged(buffered(onward), self.disk.size)
        found = _safely_measured(data, head, is_text=is_text)
        places = onward.extents(max(found[1].end, 1)) if found is not None else []
        self.far = -1 if onward.far < 0 or self.far < 0 else max(self.far, onward.far)
        if found is None:
            return None
        beginning, reach = found
        there = sum(length for _, length in places)
        if there < reach.end:
            said = reach.reason or f"{reach.end - there} of its bytes are not here"
            reach = Reach(
                there,
                is_complete=False,
                reason=said,
                proven=min(reach.proven, there),
                least=max(reach.least, reach.end),
            )
        return beginning, reach, places

    def look(self, free: Free, offset: int, head: bytes, *, is_text: bool) -> RawFind | Begun | None:
        """The document that begins at a place: whole, begun, or none."""
        found = self.measure(free, offset, head, is_text=is_text)
        if found is None:
            return None
        beginning, reach, places = found
        if not reach.is_shown and reach.end < _LEAST_OPEN:
            return None  # a few letters that turn into something else
        if reach.is_complete and reach.end >= _LEAST_BYTES:
            if beginning.name == SWAP:
                told = Content(Glance(), State.UNREADABLE, "a swap file, from which a text can be rebuilt", reach.end)
                return RawFind(offset, tuple(places), SWAP, told)
            content, first = self.read(places, reach.end, beginning.name)
            if (
                content.state is State.INTACT
                and (other := self._swallowed(free, beginning, places, offset)) is not None
            ):
                content = replace(content, state=State.DAMAGED, reason="another document lies in the middle of it")
                reach = replace(reach, proven=other)
            if content.state in _WORTH_A_LOOK:
                missing = self._unproven(beginning, reach, places)
                if missing and content.state is State.INTACT:
                    content = replace(content, state=State.DAMAGED, reason=missing)
                clutter = not _is_document(content, beginning) or (_is_plain(content) and self._is_remnant(places))
                return RawFind(offset, tuple(places), beginning.name, content, missing, clutter, first)
            reach = replace(reach, is_complete=False, reason=content.reason)
        if beginning.measure == TEXT.measure and reach.end < _LEAST_PART:
            return None
        return Begun(offset, beginning, reach, head)

    def _unproven(self, beginning: Beginning, reach: Reach, places: list[Extent]) -> str:
        """Why a document that reads well may not be whole; nothing where its structure shows that it is."""
        if not reach.is_shown:
            return "nothing shows that it ends here: more of it may lie elsewhere"
        data = Paged(stream_of(self.disk, places, reach.end), reach.end)
        if strange_part(beginning.measure, data) is not None:
            return "what lies in the middle of it is of another kind than the rest: it may be another file's"
        if len(places) > 1 and not proves(beginning.measure, data, [length for _, length in places]):
            return f"it lies in {len(places)} pieces, and nothing in its format shows that they belong together"
        return ""

    def _swallowed(self, free: Free, beginning: Beginning, places: list[Extent], offset: int) -> int | None:
        """Where in a document of which sums prove nothing another one lies, whole and from a cluster's beginning on; None if there is none."""
        if not is_weak(beginning.measure):
            return None
        done = 0
        for start, length in places:
            cluster, first = self._grain(start)
            for at, data in windows(self.disk, start, start + length, _WINDOW):
                for place, head, is_text in sectors_in(data, at, goes_on=False)[0]:
                    if place == offset or (place - first) % cluster or not (is_text or beginnings_of(head)):
                        continue
                    found = self.measure(free, place, head, is_text=is_text)
                    if (
                        found is None
                        or not found[1].is_complete
                        or not found[1].is_shown
                        or found[1].end < _LEAST_INNER
                    ):
                        continue
                    if found[0].measure == beginning.measure and beginning.measure in _OF_FRAMES:
                        continue  # each frame begins like the whole
                    within = self.verdict(found[2], found[1].end, found[0].name, digest=False)
                    if within.state is State.INTACT and within.format is not None:
                        return done + place - start
            done += length
        return None

    def _is_remnant(self, places: list[Extent]) -> bool:
        """Whether a text is what is left of a document whose beginning is gone: the objects of pages, the groups of rich text."""
        with stream_of(self.disk, places, min(_LOOKED_AT, sum(length for _, length in places))) as stream:
            data = stream.read(_LOOKED_AT)
        return len(_OF_OTHERS.findall(data)) * 300 > len(data)

    def verdict(self, places: Sequence[Extent], size: int, name: str, *, digest: bool = True) -> Content:
        """What the check of its format says of a document."""
        stream = stream_of(self.disk, places, size)
        try:
            return formats.check(stream, name, limits=self._limits, digest=digest, counted=digest)
        except BROKEN as error:
            return Content(Glance(), State.DAMAGED, f"its content could not be read ({error})", size)

    def read(self, places: Sequence[Extent], size: int, name: str) -> tuple[Content, str]:
        """What the check says of a document, and its first words; those of pages are only read when they are asked for."""
        if name.endswith((".pdf", ".eps")):
            return self.verdict(places, size, name), ""
        try:
            content, pieces = formats.read_text(stream_of(self.disk, places, size), name, _FIRST_LETTERS, self._limits)
        except BROKEN as error:
            return Content(Glance(), State.DAMAGED, f"its content could not be read ({error})", size), ""
        lines = (" ".join(piece.text.split()) for piece in pieces)
        return content, " / ".join(line for line in lines if any(map(str.isalnum, line)))[:_FIRST_LETTERS]

    def part(self, free: Free, begun: Begun) -> RawFind | None:
        """What is there of a document whose end was not found; None where that is too little to be one."""
        # What lies behind a gap may be anybody's.
        places = cut(list(free.onward(begun.offset, max(begun.reach.end, 1)))[:1], begun.reach.end)
        size = sum(length for _, length in places)
        if size < _LEAST_PART or begun.reach.proven < _LEAST_PROVEN:
            return None
        content, first = self.read(places, size, begun.beginning.name)
        missing = begun.reach.reason or "its end is not here"
        if begun.reach.least > size:
            missing = f"{missing}: {size / begun.reach.least:.0%} of it is there, with its head"
        if content.state is not State.DAMAGED:
            if not begun.reach.is_complete and content.state is State.INTACT and begun.reach.end == size:
                missing = begun.reach.reason
            content = replace(content, state=State.DAMAGED, reason=missing)
        elif missing not in content.reason:
            content = replace(content, reason=f"{content.reason}; {missing}")
        if content.format is None:
            known = formats.glance(stream_of(self.disk, places, size), begun.beginning.name)
            content = replace(content, glance=known)
        made = RawFind(begun.offset, tuple(places), begun.beginning.name, content, missing, first=first)
        if _is_plain(content) and not _is_document(content, begun.beginning):
            return None
        return made if class_of(content.format) not in _NOT_OF_PEOPLE else None


def _safely_measured(data: Paged, head: bytes, *, is_text: bool = False) -> tuple[Beginning, Reach] | None:
    """As `measured`; None too for a hostile file, or a sector that cannot be read."""
    try:
        return measured(data, head, is_text=is_text)
    except BROKEN:
        return None


def _is_plain(content: Content) -> bool:
    return content.format in ("txt", "md", "csv")


def _is_document(content: Content, beginning: Beginning) -> bool:
    """Whether what was found is of a document class, and of a text more than a few letters; archives may hold some."""
    if content.format is None or class_of(content.format) in _NOT_OF_PEOPLE:
        return content.format in _ARCHIVES
    return not _is_plain(content) or (content.words or 0) >= max(_LEAST_WORDS, content.size // _LONGEST_WORD)


def stream_of(disk: DiskBytes, places: Sequence[Extent], size: int) -> BinaryIO:
    """The bytes at some places, as a file."""
    return buffered(ExtentStream(disk, places, size))


def buffered(stream: io.RawIOBase) -> BinaryIO:
    """A stream that gives all the bytes that are asked for."""
    return io.BufferedReader(stream)
