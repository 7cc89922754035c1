"""Ogg that was never finished, is cut off, or has holes: pages whose sums fit, and of those that are cut, or hold zeros, the packets that are whole.

Source: RFC 3533, 6 (pages, and the packets in them); Vorbis I, 4.2; Theora, 6.1; RFC 7845, 5 (packets that come before all others).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator, Sequence
from typing import BinaryIO

import msgspec

from rustfern.formats.media.audio import ogg_sum
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.recordings.window import Window

_HEAD, _PIECE, _MOST_HEADS = 27, 1 << 20, 256
_GOES_ON, _FIRST, _LAST = 1, 2, 4
"""What a page is: it begins in the middle of a packet; the first, the last one of its stream."""
_ZEROS = re.compile(rb"\0{48,}")
_BEFORE = {b"\x01vorbis": 3, b"\x80theora": 3, b"OpusHead": 2}
"""What the first packet of a stream begins with → how many come before all pictures and sounds."""
_NO_REMARKS = b"OpusTags" + struct.pack("<II", 0, 0)


class _Page(msgspec.Struct):
    """One page: what it is, when the last packet that ends in it does (in its stream's own count), its stream; the lengths of its segments, and their bytes. `of` is
    what part of its packets is left.
    """

    kind: int
    when: int
    stream: int
    lengths: bytes
    body: bytes
    of: float = 1.0

    @property
    def is_sound(self) -> bool:
        """Whether it is none of those before all pictures and sounds."""
        return 0 < self.when < 1 << 63

    def ends(self) -> list[int]:
        """Behind which of its segments packets end."""
        return [n for n, length in enumerate(self.lengths, 1) if length < 255]

    def written(self, number: int, kind: int) -> bytes:
        """Its bytes, with a number, as a page of some kind, and with a sum."""
        head = b"OggS\0" + struct.pack("<BQIIIB", kind, self.when, self.stream, number, 0, len(self.lengths))
        made = head + self.lengths + self.body
        return made[:22] + struct.pack("<I", ogg_sum(made)) + made[26:]


def repair_ogg(job: Job, out: BinaryIO) -> Outcome:
    """Ogg: every page whose sum fits, numbered anew, what is whole of others, and the last one marked as such."""
    pages, lost = _Pages(Window(job.stream, job.size), job), list[Loss]()
    begun: dict[int, list[_Page]] = {}
    made = _Made(out)
    gone = 0
    for page in pages:
        if not page.is_sound and page.stream not in made.numbers:
            told = begun.setdefault(page.stream, [])
            if len(told) < _MOST_HEADS:
                told.append(page)
            continue
        if page.stream not in made.numbers and (begun or not made.numbers):
            # All streams begin before pictures and sounds do; others may follow when those have ended.
            if not made.numbers:
                begun.setdefault(page.stream, [])
            heads = [_heads_for(stream, told, job, lost) for stream, told in begun.items()]
            made.begin([each for each in heads if each is not None])
            begun.clear()
        if page.stream in made.numbers:
            made.add(page)
        else:
            gone += len(page.body)
    if not made.is_heard:
        if gone or made.numbers or begun:
            raise NothingLeft(
                "its head is gone, which tells how it is coded: name a healthy one of the same recorder with --like"
            )
        raise NothingLeft("no page of sound is left in it")
    made.end()
    if pages.lost + gone:
        lost.append(Loss(LossKind.BYTES, "", pages.lost + gone))
    return Outcome("ogg", (Step.FRAMES_KEPT,), tuple(lost))


class _Made:
    """What is written: the pages of all streams, numbered anew."""

    def __init__(self, out: BinaryIO) -> None:
        self._out = out
        self.numbers: dict[int, int] = {}
        self.is_heard = False
        self._when: dict[int, int] = {}
        self._last: dict[int, tuple[int, _Page]] = {}

    def begin(self, heads: Sequence[Sequence[_Page]]) -> None:
        """Write the pages that come before all others: the first one of every stream, then the rest of them."""
        for part in (slice(1), slice(1, None)):
            for pages in heads:
                for page in pages[part]:
                    self._write(page)

    def add(self, page: _Page) -> None:
        """Write one more. Of which only a part is left ends earlier."""
        if page.is_sound:
            earlier = self._when.get(page.stream, 0)
            if page.of < 1 and page.when > earlier:
                page.when = earlier + int((page.when - earlier) * page.of)
            self._when[page.stream] = page.when
            self.is_heard = True
        self._write(page)

    def _write(self, page: _Page) -> None:
        number = self.numbers.get(page.stream, 0)
        self.numbers[page.stream] = number + 1
        self._last[page.stream] = self._out.tell(), page
        self._out.write(page.written(number, page.kind & ~_LAST))

    def end(self) -> None:
        """Mark the last page of each stream."""
        end = self._out.tell()
        for stream, (place, page) in self._last.items():
            self._out.seek(place)
            self._out.write(page.written(self.numbers[stream] - 1, page.kind | _LAST))
        self._out.seek(end)


def _is_begun(heads: list[_Page]) -> bool:
    """Whether all packets are there that come before pictures and sounds, in the pages up to the last of these."""
    if not heads[0].kind & _FIRST:
        return False
    wanted = next((count for begin, count in _BEFORE.items() if heads[0].body.startswith(begin)), 1)
    return sum(len(page.ends()) for page in heads) >= wanted and all(page.of == 1 for page in heads)


def _heads_for(stream: int, begun: list[_Page], job: Job, lost: list[Loss]) -> list[_Page] | None:
    """The pages that come before pictures and sounds: a stream's own, else those of a sample that has one stream, of the same kind; None where there are none."""
    if begun and _is_begun(begun):
        return begun
    first = begun[0] if begun and begun[0].kind & _FIRST and begun[0].of == 1 else None
    if first is not None and first.body.startswith(b"OpusHead"):
        return [first, _Page(0, 0, stream, bytes((len(_NO_REMARKS),)), _NO_REMARKS)]
    for each in job.others:
        if not each.is_sample or each.data[:4] != b"OggS":
            continue
        heads = []
        for page in _pages_of(each.data):
            if page.is_sound:
                break
            heads.append(page)
        if len({page.stream for page in heads}) == 1 and _is_begun(heads):
            if first is not None and first.body[:8] != heads[0].body[:8]:
                continue
            lost.append(Loss(LossKind.LIKE, text=each.name))
            for page in heads:
                page.stream = stream
            return heads
    return None


def _pages_of(data: bytes) -> Iterator[_Page]:
    at = 0
    while (page := _page_at(data, at)) is not None:
        yield page
        at += _HEAD + len(page.lengths) + len(page.body)


def _page_at(data: bytes, at: int) -> _Page | None:
    """The page at a place, if its sum fits."""
    if data[at : at + 5] != b"OggS\0" or at + _HEAD > len(data):
        return None
    kind, when, stream, _, total, count = struct.unpack_from("<BQIIIB", data, at + 5)
    lengths = data[at + _HEAD : at + _HEAD + count]
    end = at + _HEAD + count + sum(lengths)
    if end > len(data) or len(lengths) < count:
        return None
    if ogg_sum(data[at : at + 22] + bytes(4) + data[at + 26 : end]) != total:
        return None
    return _Page(kind, when, stream, lengths, data[at + _HEAD + count : end])


class _Pages:
    """The pages of a file in order; `lost` bytes are in none, or in packets that are not whole."""

    def __init__(self, window: Window, job: Job) -> None:
        self._window, self._job = window, job
        self._known = set[int]()
        self.lost = 0

    def __iter__(self) -> Iterator[_Page]:
        at, size = 0, self._job.size
        while at + _HEAD <= size:
            self._job.budget.spend()
            head = self._window.at(at, _HEAD + 255)
            length = 0
            if head[:5] == b"OggS\0":
                length = _HEAD + head[26] + sum(head[_HEAD : _HEAD + head[26]])
            page = _page_at(self._window.at(at, length), 0) if length else None
            if page is not None:
                self._known.add(page.stream)
                yield page
                at += length
                continue
            if length and (part := self._in_part(at, length)) is not None:
                yield part
                at = min(at + length, size)
                continue
            piece = self._window.from_(at + 1, _PIECE)
            found = piece.find(b"OggS")
            step = 1 + (found if found >= 0 else max(len(piece) - 3, 1))
            self.lost += step
            at += step
        self.lost += max(size - at, 0)

    def _in_part(self, at: int, length: int) -> _Page | None:
        """What is whole of a page that is cut, or holds zeros that damage left; None where nothing tells what that is."""
        data = self._window.at(at, length)
        if self._window.at(at + length, 4) not in (b"", b"OggS", bytes(4)):
            return None
        kind, when, stream, _, _, count = struct.unpack_from("<BQIIIB", data, 5)
        lengths, body = data[_HEAD : _HEAD + count], data[_HEAD + count :]
        whole = sum(lengths)
        holes = [(found.start(), found.end()) for found in _ZEROS.finditer(body)]
        if len(body) < whole:
            holes.append((len(body), whole))
        if stream not in self._known or len(lengths) < count or not holes or not 0 < when < 1 << 63:
            return None
        kept, segments, start, first = b"", b"", 0, 0
        many = done = 0
        ends = [n for n, each in enumerate(lengths, 1) if each < 255] or [count]
        if ends[-1] != count:
            ends.append(count)
        for last in ends:
            end = start + sum(lengths[first:last])
            many += 1
            if not any(low < end and start < high for low, high in holes):
                kept += body[start:end]
                segments += lengths[first:last]
                done += 1
            elif not first:
                kind &= ~_GOES_ON
            start, first = end, last
        self.lost += min(length, len(data)) - len(kept)
        return _Page(kind, when, stream, segments, kept, done / many) if done else None
