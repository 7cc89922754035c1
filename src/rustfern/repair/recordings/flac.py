"""FLAC that was never finished, is cut off, or has holes: every frame whose sums fit, numbered anew.

Source: RFC 9639, 8.2 (streaminfo), 9.1 (frame header), 9.2 (subframes), 9.3 (frame footer).
"""

from __future__ import annotations

import re
from array import array
from collections import Counter
from collections.abc import Iterator
from typing import BinaryIO

import msgspec

from rustfern.formats.media.flac import Frame, crc8, crc16, frame_ends, frame_header, moved_on, sums_of
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.recordings.window import Window

_AT_ONCE, _LEAST = 2 << 20, 11
"""Bytes that are looked at together, more than a frame has; bytes of the shortest frame."""
_SYNC = re.compile(rb"\xff[\xf8\xf9]")
_CHANNELS = (1, 2, 3, 4, 5, 6, 7, 8, 2, 2, 2)
_BITS = (32, 8, 12, 32, 16, 20, 24, 32)
"""By the codes of a header; the most where it does not tell."""
_MOST_RUNS, _FEW = 2_000, 4
"""Runs of frames among which those of other recordings are sought; what part of all of them those are at most."""


def repair_flac(job: Job, out: BinaryIO) -> Outcome:
    """FLAC: every frame whose sums fit, numbered anew; what lies in its holes of other recordings is left out where numbers show it."""
    window = Window(job.stream, job.size)
    head, at = _head(window, job)
    start = out.tell()
    out.write(head)
    frames = _Frames(window, job)
    frames.find(at)
    if not frames.places:
        raise NothingLeft("no frame of sound is left in it")
    total = kept = 0
    for count, n in enumerate(frames.own()):
        if not count % 256:
            job.budget.spend()
        data = window.at(frames.places[n], frames.sizes[n])
        frame = frame_header(data, 0)
        if frame is None:
            raise OSError("the recording changed while it was read")
        number = total if data[1] & 1 else count
        out.write(data if frame.number == number else _renumbered(data, number, frame.length))
        total += frame.samples
        kept += len(data)
    end = out.tell()
    told = bytearray(head)
    value = int.from_bytes(told[18:26], "big") & ~0xFFFFFFFFF | total
    told[18:26] = value.to_bytes(8, "big")
    told[26:42] = bytes(16)  # the sum of the sound as it was
    out.seek(start)
    out.write(told)
    out.seek(end)
    lost = job.size - at - frames.behind - kept
    return Outcome("flac", (Step.FRAMES_KEPT,), (Loss(LossKind.BYTES, "", lost),) if lost else ())


def _head(window: Window, job: Job) -> tuple[bytes, int]:
    """(the description with its blocks, where frames begin)."""
    if window.at(0, 4) == b"fLaC":
        at, blocks = 4, list[bytes]()
        while at + 4 <= job.size:
            head = window.at(at, 4)
            length = int.from_bytes(head[1:], "big")
            body = window.at(at + 4, length)
            kind = head[0] & 127
            if kind > 6 or len(body) < length or (not blocks and (kind or length != 34)):
                break
            if kind not in (1, 3):
                blocks.append(bytes((kind,)) + head[1:] + body)
            at += 4 + length
            if head[0] & 128:
                break
        if blocks:
            last = bytes((blocks[-1][0] | 128,)) + blocks[-1][1:]
            return b"fLaC" + b"".join([*blocks[:-1], last]), at
    sample = next((each for each in job.others if each.is_sample and each.data[:4] == b"fLaC"), None)
    if sample is None:
        raise NothingLeft(
            "its head is gone, which tells rate and channels: name a healthy one of the same recorder with --like"
        )
    return b"fLaC\x80" + sample.data[5 : 8 + 34], 0


class _Run(msgspec.Struct):
    """Frames of one kind that follow one another by their numbers: the first one and behind the last one, and their numbers."""

    kind: tuple[int, int, int]
    first: int
    last: int
    number: int
    behind: int


class _Frames:
    """The frames of a recording: where each is, its bytes and its number. `behind`: bytes of what players hang on, or of zeros, at the end."""

    def __init__(self, window: Window, job: Job) -> None:
        self._window, self._job = window, job
        self.places, self.sizes = array("Q"), array("I")
        self._runs: list[_Run] = []
        self.behind = 0

    def find(self, at: int) -> None:
        """Find all that lie behind a place."""
        size = self._job.size
        while at + _LEAST <= size:
            self._job.budget.spend()
            data = self._window.at(at, min(_AT_ONCE, size - at))
            is_last = at + len(data) == size
            heads = list(self._heads(data))
            if not heads:
                if is_last:
                    return
                at += len(data) - _LEAST - 8
                continue
            at += heads[0][0]
            data = data[heads[0][0] :]
            heads = [(place - heads[0][0], frame) for place, frame in heads]
            taken = self._side_by_side(at, data, heads, is_last=is_last) or self._alone(
                at, data, heads, is_last=is_last
            )
            at += taken or heads[0][1].length

    def own(self) -> Iterator[int]:
        """The numbers of those that are the recording's own, in order."""
        many: Counter[tuple[int, int, int]] = Counter()
        for run in self._runs:
            many[run.kind] += run.last - run.first
        ((kind, _),) = many.most_common(1)
        for run in _rising([run for run in self._runs if run.kind == kind]):
            yield from range(run.first, run.last)

    def _heads(self, data: bytes) -> Iterator[tuple[int, Frame]]:
        for found in _SYNC.finditer(data):
            frame = frame_header(data, found.start())
            if frame is not None:
                yield found.start(), frame

    def _side_by_side(self, at: int, data: bytes, heads: list[tuple[int, Frame]], *, is_last: bool) -> int:
        """Take frames each of which is followed by another one; how many bytes that are."""
        ends = [place for place, _ in heads[1:]] + ([len(data)] if is_last else [])
        bodies = [data[place:end] for (place, _), end in zip(heads, ends, strict=False)]
        taken = 0
        for (place, frame), body, left in zip(heads, bodies, sums_of(bodies), strict=False):
            if left or len(body) < frame.length + 3:
                break
            self._add(at + place, body, frame)
            taken = place + len(body)
        return taken

    def _alone(self, at: int, data: bytes, heads: list[tuple[int, Frame]], *, is_last: bool) -> int:
        """Take the frame that these bytes begin with, in which something looks like the head of another one, or which is the last one; its bytes."""
        frame, most = heads[0][1], _most_bytes(data, heads[0][1])
        value = before = 0
        for place, _ in heads[1:]:
            if place > most:
                break
            value = crc16(data[before:place], value)
            before = place
            if not value:
                self._add(at, data[:place], frame)
                return place
        if is_last:
            for end in frame_ends(data[:most]):
                if end >= frame.length + 3 and _is_hung_on(data[end:]):
                    self._add(at, data[:end], frame)
                    self.behind = len(data) - end
                    return len(data)
        return 0

    def _add(self, at: int, body: bytes, frame: Frame) -> None:
        kind = _kind_of(body)
        self.places.append(at)
        self.sizes.append(len(body))
        behind = frame.number + (frame.samples if body[1] & 1 else 1)
        count = len(self.places)
        if self._runs and (self._runs[-1].kind, self._runs[-1].behind) == (kind, frame.number):
            self._runs[-1].last, self._runs[-1].behind = count, behind
        else:
            self._runs.append(_Run(kind, count - 1, count, frame.number, behind))


def _kind_of(frame: bytes) -> tuple[int, int, int]:
    """What is the same in all frames of a recording: how they are counted, rate, bits."""
    return frame[1], frame[2] & 15, frame[3] >> 1 & 7


def _most_bytes(data: bytes, frame: Frame) -> int:
    """How long a frame may be: no coding of its samples takes more than these as they are do."""
    channels, bits = _CHANNELS[data[3] >> 4], _BITS[data[3] >> 1 & 7] + 1
    return frame.length + 2 + channels * (16 + (frame.samples * bits + 7) // 8)


def _is_hung_on(data: bytes) -> bool:
    """Whether bytes behind the last frame are a player's, or nothing but zeros."""
    return not data.strip(b"\0") or data.startswith((b"TAG", b"ID3", b"APETAGEX"))


def _rising(runs: list[_Run]) -> list[_Run]:
    """Runs whose numbers rise, as many frames as there are: what lies between them and does not fit in is another recording's. All of them where too
    much would not fit in: then the recorder began to count anew.
    """
    if len(runs) < 3 or len(runs) > _MOST_RUNS:
        return runs
    best = [run.last - run.first for run in runs]
    before = [-1] * len(runs)
    for n, run in enumerate(runs):
        own = best[n]
        for other in range(n):
            if runs[other].behind <= run.number and best[other] + own > best[n]:
                best[n], before[n] = best[other] + own, other
    last = max(range(len(runs)), key=best.__getitem__)
    count = sum(run.last - run.first for run in runs)
    if (count - best[last]) * _FEW > count:
        return runs
    chain = []
    while last >= 0:
        chain.append(runs[last])
        last = before[last]
    return chain[::-1]


def _renumbered(frame: bytes, number: int, length: int) -> bytes:
    """A frame with another number, and sums that fit; its header has `length` bytes."""
    lead = frame[4]
    old = 1 if lead < 0x80 else 8 - (lead ^ 0xFF).bit_length()
    head = frame[:4] + coded_number(number) + frame[4 + old : length - 1]
    head += bytes((crc8(head),))
    # What follows stays, and with it its share of the sum.
    change = moved_on(crc16(frame[:length]) ^ crc16(head), len(frame) - length - 2)
    total = int.from_bytes(frame[-2:], "big") ^ change
    return head + frame[length:-2] + total.to_bytes(2, "big")


def coded_number(number: int) -> bytes:
    """A number as headers hold it: as UTF-8 codes letters, on to seven bytes (9.1.5)."""
    if number < 0x80:
        return bytes((number,))
    more = next(n for n in range(1, 7) if number < 1 << 6 - n + 6 * n or n == 6)
    lead = 0xFF00 >> more + 1 & 0xFF | number >> 6 * more
    return bytes((lead, *(0x80 | number >> 6 * n & 63 for n in range(more - 1, -1, -1))))
