"""Fragments of recordings in boxes: which samples each holds, where they lie, and when they are played.

Source: ISO/IEC 14496-12, 8.8.3 (trex), 8.8.4 (moof), 8.8.7 (tfhd), 8.8.8 (trun), 8.8.12 (tfdt).
"""

from __future__ import annotations

import struct
import sys
from array import array
from collections.abc import Iterator, Mapping

import msgspec

from rustfern.core.errors import Malformed

_BASE, _LASTING, _SIZE, _FLAGS, _FROM_FRAGMENT = 0x1, 0x8, 0x10, 0x20, 0x20000
"""What a track's head in a fragment tells (8.8.7.1)."""
_OFFSET, _FIRST_FLAGS, _EACH = 0x1, 0x4, (0x100, 0x200, 0x400, 0x800)
"""What a run of samples tells, and what of each of them: how long it lasts, its bytes, its flags, how much later it is shown (8.8.8.1)."""
_NEEDS_ANOTHER = 0x10000
_MOST, _FURTHEST = 1_000_000, 1 << 62
"""Samples of one fragment; where none begins."""


class Usual(msgspec.Struct, frozen=True):
    """What holds of the samples of a track where a fragment tells nothing else: ticks that each lasts, its bytes and its flags."""

    lasting: int = 0
    size: int = 0
    flags: int = 0


class Run(msgspec.Struct):
    """Samples of the track with a number, one behind the other from a place on: the bytes of each, the ticks that it lasts and that it is shown later than
    it comes, whether it needs no other; `base` is the place from which places are counted; `begins` is when the first comes, -1 where that is not told.
    """

    track: int
    at: int
    sizes: array[int]
    lasting: array[int]
    shifts: array[int]
    keys: array[int]
    base: int
    begins: int = -1

    @property
    def end(self) -> int:
        """Behind the last of them."""
        return self.at + sum(self.sizes)


def usual_of(moov: bytes) -> dict[int, Usual]:
    """Number of a track → what its samples are mostly like."""
    found = {}
    for kind, body in _boxes(moov):
        for inner, told in _boxes(body) if kind == b"mvex" else ():
            if inner == b"trex" and len(told) >= 24:
                number, _, lasting, size, flags = struct.unpack_from(">5I", told, 4)
                found[number] = Usual(lasting, size, flags)
    return found


def number_of(trak: bytes) -> int:
    """The number of a track, 0 where it has none (8.3.2)."""
    for kind, body in _boxes(trak):
        if kind == b"tkhd" and len(body) >= 24:
            return int(struct.unpack_from(">I", body, 20 if body[0] == 1 else 12)[0])
    return 0


def runs_of(moof: bytes, at: int, usual: Mapping[int, Usual], size: int = _MOST) -> list[Run]:
    """The runs of samples that the content of a box moof tells of, which begins at the place `at` of its file of `size` bytes. Raises `Malformed`, also for more
    samples than bytes.
    """
    runs = list[Run]()
    end = at  # of the data of the track before (8.8.7.1)
    left = min(_MOST, size)
    try:
        for kind, body in _boxes(moof, strict=True):
            if kind == b"traf":
                more = _of_track(body, at, end, usual, left)
                left -= sum(len(run.sizes) for run in more)
                runs += more
                end = runs[-1].end if runs else end
    except (struct.error, IndexError) as error:
        raise Malformed("a fragment of the recording is damaged", at) from error
    return runs


def _of_track(traf: bytes, at: int, end: int, usual: Mapping[int, Usual], most: int) -> list[Run]:
    runs = list[Run]()
    number, base, here, begins = 0, end, Usual(), -1
    for kind, body in _boxes(traf, strict=True):
        flags = int.from_bytes(body[1:4], "big")
        if kind == b"tfhd":
            (number,) = struct.unpack_from(">I", body, 4)
            here, place = usual.get(number, Usual()), 8
            if flags & _BASE:
                (base,) = struct.unpack_from(">Q", body, place)
                place += 8
            elif flags & _FROM_FRAGMENT:
                base = at
            place += 4 if flags & 0x2 else 0
            told = [here.lasting, here.size, here.flags]
            for n, flag in enumerate((_LASTING, _SIZE, _FLAGS)):
                if flags & flag:
                    (told[n],) = struct.unpack_from(">I", body, place)
                    place += 4
            here = Usual(*told)
            end = base
        elif kind == b"tfdt":
            (begins,) = struct.unpack_from(">Q" if body[0] else ">I", body, 4)
        elif kind == b"trun":
            run = _run(number, body, flags, base, end, here, most)
            most -= len(run.sizes)
            if begins >= 0:
                run.begins = begins
                begins += sum(run.lasting)
            runs.append(run)
            end = run.end
    return runs


def _run(number: int, body: bytes, flags: int, base: int, end: int, usual: Usual, most: int) -> Run:
    (count,) = struct.unpack_from(">I", body, 4)
    place, first = 8, usual.flags
    if flags & _OFFSET:
        end = base + struct.unpack_from(">i", body, place)[0]
        place += 4
    if flags & _FIRST_FLAGS:
        (first,) = struct.unpack_from(">I", body, place)
        place += 4
    told = [flag for flag in _EACH if flags & flag]
    if place + 4 * count * len(told) > len(body) or count > most or not 0 <= end < _FURTHEST:
        raise struct.error
    rows = array("I", body[place : place + 4 * count * len(told)])
    if sys.byteorder == "little":
        rows.byteswap()
    of_each = {flag: rows[n :: len(told)] for n, flag in enumerate(told)}
    same = {0x100: usual.lasting, 0x200: usual.size, 0x400: usual.flags, 0x800: 0}
    lasting, sizes, kinds, shifts = (of_each.get(flag, array("I", [same[flag]]) * count) for flag in _EACH)
    if flags & _FIRST_FLAGS and count:
        kinds[0] = first
    signed = body[0] > 0
    return Run(
        number,
        end,
        sizes,
        lasting,
        array("q", (each - (each >> 31 << 32) if signed else each for each in shifts)),
        array("b", (not each & _NEEDS_ANOTHER for each in kinds)),
        base,
    )


def _boxes(body: bytes, *, strict: bool = False) -> Iterator[tuple[bytes, bytes]]:
    """(kind, content) of boxes one behind the other, as far as they go; `strict`: to the end. Raises `struct.error`."""
    at = 0
    while at + 8 <= len(body):
        length, kind = struct.unpack_from(">I4s", body, at)
        if length < 8 or at + length > len(body):
            if strict:
                raise struct.error
            return
        yield kind, body[at + 8 : at + length]
        at += length
