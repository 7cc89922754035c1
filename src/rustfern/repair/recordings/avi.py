"""AVI recordings that were never finished, are cut off, or have holes: their pictures and sounds one behind the other, sizes and index made anew.

Source: as of `formats.media.avi`.
"""

from __future__ import annotations

import re
import struct
from array import array
from typing import BinaryIO

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.recordings.window import Window

_CHUNK = re.compile(rb"\d\d(?:dc|db|wb|pc|tx)")
_NEXT = re.compile(rb"0\d(?:dc|db|wb|pc|tx)")
_BETWEEN = re.compile(rb"ix\d\d|JUNK|\d\dix")
_HOLE = bytes(2048)
_PIECE = 1 << 20
_MOST_HEAD, _MOST_CHUNK = 1 << 20, 64 << 20
_A_PART = 1 << 30
"""Bytes of pictures and sounds in one part; a longer recording has several."""


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a recording. Raises `NothingLeft`."""
    window = Window(job.stream, job.size)
    head = _head(window.at(0, _MOST_HEAD))
    start = window.at(0, _MOST_HEAD).find(b"movi")
    lost: list[Loss] = []
    if head is None:
        sample = next((each for each in job.others if each.is_sample and _head(each.data[:_MOST_HEAD])), None)
        if sample is None:
            raise NothingLeft(
                "its head is gone, which tells how it is coded: name a healthy one of the same camera with --like"
            )
        head = _head(sample.data[:_MOST_HEAD])
        assert head is not None
        lost.append(Loss(LossKind.LIKE, text=sample.name))
    streams = head.count(b"strh")
    places, sizes, kinds, missing = _chunks(window, start + 4 if start >= 0 else 0, streams, job)
    if not places:
        raise NothingLeft("no picture and no sound is left in it")
    pictures = sum(kind[2:] in (b"dc", b"db") for kind in kinds)
    _write(out, window, _counted(head, pictures, kinds, sizes), places, sizes, kinds, job)
    if missing:
        lost.append(Loss(LossKind.BYTES, "", missing))
    return Outcome("avi", (Step.INDEX,), tuple(lost))


def _head(data: bytes) -> bytes | None:
    """The list that describes the recording, if it is all there."""
    at = data.find(b"hdrl")
    if at < 8 or data[at - 8 : at - 4] != b"LIST":
        return None
    length = int.from_bytes(data[at - 4 : at], "little")
    body = data[at : at + length]
    return body if len(body) == length and b"strh" in body and b"strf" in body else None


def _chunks(window: Window, at: int, streams: int, job: Job) -> tuple[array[int], array[int], list[bytes], int]:
    """(places, bytes, names of the chunks, bytes that are none)."""
    places, sizes, kinds = array("Q"), array("I"), list[bytes]()
    missing = count = 0
    while at + 8 <= window.size:
        count += 1
        if not count % 256:
            job.budget.spend()
        kind, length = struct.unpack("<4sI", window.at(at, 8))
        after = at + 8 + length + length % 2
        if kind in (b"LIST", b"RIFF"):
            at += 12
            continue
        if (kind == b"idx1" or _BETWEEN.fullmatch(kind)) and after <= window.size + 1:
            at = after
            continue
        is_one = (
            _CHUNK.fullmatch(kind) and int(kind[:2]) < streams and length <= _MOST_CHUNK and after <= window.size + 1
        )
        if is_one and (after + 8 > window.size or _begins(window.at(after, 4))):
            if length and not (kind[2:] == b"dc" and _HOLE in window.at(at + 8, length).rstrip(b"\0")):
                places.append(at + 8)
                sizes.append(length)
                kinds.append(kind)
            else:
                missing += length
            at = after
            continue
        piece = window.from_(at + 1, _PIECE)
        found = _NEXT.search(piece)
        step = 1 + (found.start() if found is not None else max(len(piece) - 3, 1))
        missing += step
        at += step
    return places, sizes, kinds, missing


def _begins(kind: bytes) -> bool:
    """Whether a chunk may begin with these letters."""
    return bool(_CHUNK.fullmatch(kind) or _BETWEEN.fullmatch(kind)) or kind in (b"idx1", b"LIST", b"RIFF")


def _counted(head: bytes, pictures: int, kinds: list[bytes], sizes: array[int]) -> bytes:
    """The description with new counts; what points to an index of the other kind is blank."""
    made = bytearray(head)
    at = made.find(b"avih")
    if at > 0:
        struct.pack_into("<I", made, at + 8 + 16, pictures)
        flags = struct.unpack_from("<I", made, at + 8 + 12)[0]
        struct.pack_into("<I", made, at + 8 + 12, flags | 0x10)
    at, number = made.find(b"strh"), 0
    while at > 0:
        name = b"%02d" % number
        mine = [n for n, kind in enumerate(kinds) if kind[:2] == name]
        (sample,) = struct.unpack_from("<I", made, at + 8 + 44)
        count = sum(sizes[n] for n in mine) // sample if sample else len(mine)
        struct.pack_into("<I", made, at + 8 + 32, min(count, 0xFFFFFFFF))
        at, number = made.find(b"strh", at + 4), number + 1
    return bytes(made).replace(b"indx", b"JUNK").replace(b"odml", b"odmx")


def _write(
    out: BinaryIO, window: Window, head: bytes, places: array[int], sizes: array[int], kinds: list[bytes], job: Job
) -> None:
    number = 0
    is_first = True
    while number < len(places):
        last, held = number, 0
        while last < len(places) and (held < _A_PART or last == number):
            held += 8 + sizes[last] + sizes[last] % 2
            last += 1
        index = bytearray()
        lead = struct.pack("<4sI", b"LIST", len(head)) + head + bytes(len(head) % 2) if is_first else b""
        total = 4 + len(lead) + 12 + held + (8 + 16 * (last - number) if is_first else 0)
        out.write(struct.pack("<4sI4s", b"RIFF", total, b"AVI " if is_first else b"AVIX") + lead)
        out.write(struct.pack("<4sI4s", b"LIST", 4 + held, b"movi"))
        at = 4
        for n in range(number, last):
            if not n % 64:
                job.budget.spend()
            body = window.at(places[n], sizes[n])
            out.write(struct.pack("<4sI", kinds[n], sizes[n]) + body + bytes(sizes[n] % 2))
            index += struct.pack("<4sIII", kinds[n], 0x10 if n == 0 or _is_key(kinds[n], body) else 0, at, sizes[n])
            at += 8 + sizes[n] + sizes[n] % 2
        if is_first:
            out.write(struct.pack("<4sI", b"idx1", len(index)) + index)
        number, is_first = last, False


def _is_key(kind: bytes, body: bytes) -> bool:
    """Whether a picture needs no other one: by its coding's own marks, as far as they are known."""
    if kind[2:] != b"dc":
        return True
    if body[:2] == b"\xff\xd8":
        return True
    at = body.find(b"\0\0\1\xb6", 0, 4096)
    if at >= 0 and at + 4 < len(body):
        return body[at + 4] >> 6 == 0  # MPEG-4 part 2, 6.3.5
    head = body[:4096]
    return any(head[found.end() - 1] & 31 == 5 for found in re.finditer(rb"\x00\x00\x01[\x00-\xff]", head))
