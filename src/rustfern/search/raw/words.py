"""Remembered words in bytes that belong to no find: in letters of one byte and of two, and in members of packages."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from rustfern.core.errors import Malformed, SourceError
from rustfern.core.model import Content, Glance, State
from rustfern.formats.interface import Limits
from rustfern.search.raw.examine import Looker
from rustfern.search.raw.find import RawFind
from rustfern.search.raw.free import Free
from rustfern.sources.disks.interface import DiskBytes
from rustfern.traces import zip_member

_WINDOW, _AROUND, _MAX_FINDS = 1 << 20, 64 << 10, 500
_SHORTEST, _FIRST = 3, 400
PART = "find.part"
"""Stands for one member of a package: its text is unpacked from it."""
_LETTERS = re.compile(rb"[\t\n\r\x20-\x7e\x80-\xff]+")
_SAID = "a piece of text that belongs to no document that was found: what stood around it is not here"


def loose_texts(disk: DiskBytes, free: Free, words: str, limits: Limits) -> Iterator[RawFind]:
    """The runs of text in free space that hold all of the words."""
    wanted = [each for each in words.casefold().split() if len(each) >= _SHORTEST]
    if not wanted:
        return
    looker, longest = Looker(disk, limits), max(wanted, key=len)
    patterns = {
        name: re.compile(re.escape(longest.encode(name)), re.IGNORECASE)
        for name in ("utf-8", "cp1252", "utf-16-le")
        if _fits(longest, name)
    }
    until = count = 0
    for start, length in list(free.onward(0, disk.size)):
        for at in range(start, start + length, _WINDOW):
            begin = max(at - _AROUND, start)
            end = min(at + _WINDOW + _AROUND, start + length)
            try:
                data = disk.read_at(begin, end - begin)
            except SourceError:
                continue
            yield from _packed(data, begin, at, wanted)
            for name, pattern in patterns.items():
                for hit in pattern.finditer(data, at - begin, min(at + _WINDOW - begin, len(data))):
                    run = _run_around(data, hit.start(), hit.end(), wide=name == "utf-16-le")
                    if begin + run[0] < until or not _holds(data[run[0] : run[1]], name, wanted):
                        continue
                    until, count = begin + run[1], count + 1
                    places = ((begin + run[0], run[1] - run[0]),)
                    content = looker.verdict(places, run[1] - run[0], "find.txt")
                    content = replace(content, state=State.DAMAGED, reason=_SAID)
                    yield RawFind(places[0][0], places, "find.txt", content, _SAID)
                    if count >= _MAX_FINDS:
                        return


def _packed(data: bytes, begin: int, at: int, wanted: list[str]) -> Iterator[RawFind]:
    """Members of packages that begin in a window and whose text holds the words."""
    place = data.find(zip_member.MARK, at - begin)
    while 0 <= place < at - begin + _WINDOW:
        try:
            text, length = zip_member.read(data[place:])
        except Malformed:
            text, length = "", 0
        if text and all(word in text.casefold() for word in wanted):
            content = Content(Glance(format="txt"), State.DAMAGED, _SAID, length)
            yield RawFind(
                begin + place, ((begin + place, length),), PART, content, _SAID, first=" ".join(text.split())[:_FIRST]
            )
        place = data.find(zip_member.MARK, place + max(length, 4))


def _fits(word: str, name: str) -> bool:
    try:
        return bool(word.encode(name)) and (name != "cp1252" or not word.isascii())
    except UnicodeEncodeError:
        return False


def _run_around(data: bytes, start: int, end: int, *, wide: bool) -> tuple[int, int]:
    """The run of letters that a hit lies in."""
    if wide:
        first, last = start, end
        while first >= 2 and start - first < _AROUND and _is_wide_letter(data[first - 2], data[first - 1]):
            first -= 2
        while last + 1 < len(data) and last - end < _AROUND and _is_wide_letter(data[last], data[last + 1]):
            last += 2
        return first, last
    for found in _LETTERS.finditer(data, max(start - _AROUND, 0), min(end + _AROUND, len(data))):
        if found.start() <= start < found.end():
            return found.start(), found.end()
    return start, end


def _is_wide_letter(low: int, high: int) -> bool:
    """Whether two bytes may be a letter of a text of two bytes a letter."""
    return low >= 0x20 or low in (9, 10, 13) if high == 0 else high <= 0x07 or high == 0x20 or 0x30 <= high <= 0x9F


def _holds(run: bytes, name: str, wanted: list[str]) -> bool:
    text = run.decode(name, "replace").casefold()
    return all(word in text for word in wanted)
