"""JPEG pictures that are cut off, or have holes: all blocks that can be had where they belong, in the coding that they have, the rest without detail.

Behind a hole the codes are taken up again where they lead to the very end of the picture: so many units as they are, so far from its end they begin.
How bright they are is told by the rows above.
"""

from __future__ import annotations

import re
from array import array
from collections.abc import Sequence
from statistics import median
from typing import BinaryIO

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.holes import lost_sector
from rustfern.formats.images.jpeg import Walk
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.pictures.jpeg_fill import NOTHING, Fill, bright_of, placed_by_row, told
from rustfern.repair.pictures.jpeg_layers import layers
from rustfern.repair.pictures.jpeg_scan import Bits, Run, Unit, difference_code, follow, taken_up, taken_up_between

_MARKER = re.compile(rb"(?<!\xff)\xff++([^\0\xff])", re.DOTALL)
_ZEROS = re.compile(rb"\0{48,}")
_LEFT_OVER = 64
"""Bits that may follow the last block."""
_SOUGHT = 24 << 10
"""Bytes behind a hole in which the codes must be taken up again."""
_LEAST_SHARE, _BEHIND = 0.005, 1 << 16
_TO_FALL_IN, _FAR = 48, 40
"""Units in which codes that were taken up in their middle fall into step; a change of brightness that such ones show."""
_END = b"\xff\xd9"


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a picture. Raises `NothingLeft`."""
    data = job.data(96 << 20)
    sample = next((each.data for each in job.others if each.is_sample and each.data[:2] == b"\xff\xd8"), None)
    walk, data, lost = _headed(data, sample)
    head = data[: walk.at]
    if walk.progressive:
        found = layers(walk, data, job)
        body, share, is_filled = found.body, found.share, found.used_small
        if found.hurt or share < 1:
            lost.append(Loss(LossKind.DETAIL, "", found.whole))
        if found.is_wrong:
            lost.append(Loss(LossKind.WRONG))
    else:
        fill = Fill(walk, data)
        body, share = _with_restarts(walk, data, fill) if walk.interval else _in_one(walk, data, job, lost, fill)
        is_filled = fill.used
    if share < _LEAST_SHARE:
        raise NothingLeft("hardly a block of the picture can be had")
    out.write(head + body + _END)
    if share < 1:
        lost.append(Loss(LossKind.AREA, "", round(100 * (1 - share)) or 1))
    return Outcome("jpg", (Step.BLOCKS_FILLED if is_filled else Step.BLOCKS_KEPT,), tuple(lost))


def _headed(data: bytes, sample: bytes | None) -> tuple[Walk, bytes, list[Loss]]:
    """(at its first scan, the bytes from the beginning of the picture on, what is lost): with the head of a sample where its own is gone."""
    start = data.find(b"\xff\xd8\xff")
    for at in {start, 0} if start >= 0 else {0}:
        walk = Walk(data[at:])
        try:
            if walk.next_scan() is not None and walk.parts:
                return walk, data[at:], []
        except Malformed:
            continue
    if sample is None:
        raise NothingLeft(
            "the head of the picture is gone, which tells its size and how it is coded: name a healthy one of the same camera and size with --like"
        )
    other = Walk(sample)
    if other.next_scan() is None:
        raise NothingLeft("the picture that was named with --like has no pixels")
    # Its own scan begins behind its last table, if that is left, else where that of the other one does.
    place = data.rfind(b"\xff\xda", 0, 1 << 17)
    begin = place + 2 + int.from_bytes(data[place + 2 : place + 4], "big") if place >= 0 else min(other.at, len(data))
    whole = sample[: other.at] + data[begin:]
    walk = Walk(whole)
    walk.next_scan()
    return walk, whole, [Loss(LossKind.HEAD, text="")]


def _end_of_scan(data: bytes, start: int) -> tuple[int, bool]:
    """(where the only scan ends, whether that is the end of the picture): at an end mark behind which the file ends, or another picture begins; what
    is foreign may hold others.
    """
    at = last = data.find(_END, start)
    while at >= 0:
        behind = data[at + 2 : at + 66]
        if not behind.strip(b"\0") or behind[:2] == b"\xff\xd8":
            return at, True
        last, at = at, data.find(_END, at + 2)
    return (last, True) if last >= 0 and len(data) - last < _BEHIND else (len(data), False)


def _holes(data: bytes, start: int, end: int) -> list[tuple[int, int]]:
    """Runs of zeros that are lost sectors, between two places."""
    found = []
    at = start
    while (place := lost_sector(data, at, end)) is not None:
        stop = place
        while stop < end and not data[stop]:
            stop += 1
        found.append((place, stop))
        at = stop
    if end == len(data) and not data[max(end - 64, start) : end].strip(b"\0"):
        kept = len(data[start:end].rstrip(b"\0")) + start
        if end - kept >= 64 and (not found or found[-1][1] < end):
            found.append((kept, end))
    return found


def _in_one(walk: Walk, data: bytes, job: Job, lost: list[Loss], fill: Fill) -> tuple[bytes, float]:
    """(coded data, share of the picture that is right) of a scan without restarts."""
    unit = Unit.of(walk.order, walk.tables)
    if unit is None or not walk.total:
        raise NothingLeft("the tables of its codes are gone")
    end, is_ended = _end_of_scan(data, walk.at)
    holes = _holes(data, walk.at, end)
    first_stop = holes[0][0] if holes else end
    packed = data[walk.at : first_stop].replace(b"\xff\0", b"\xff")
    run = follow(packed, 0, unit, walk.total)
    is_over = run.units == walk.total and len(packed) * 8 - run.end > _LEFT_OVER
    if not holes and (is_over or run.is_wrong) and (zeros := _ZEROS.search(data, walk.at, end)) is not None:
        # Zeros that do not keep to sectors, and that codes were seen in.
        holes = [(zeros.start(), zeros.end())]
        packed = data[walk.at : zeros.start()].replace(b"\xff\0", b"\xff")
        run = follow(packed, 0, unit, walk.total)
    elif is_over:
        lost.append(Loss(LossKind.WRONG))
    again: _Piece | None = None
    if run.units < walk.total and is_ended and (holes or run.is_wrong):
        begin = holes[-1][1] if holes else walk.at + run.end // 8
        rest = data[begin:end].replace(b"\xff\0", b"\xff")
        most = walk.total - run.units
        found = taken_up(rest, 0, min(_SOUGHT, len(rest)), unit, most + 1, job.budget.spend)
        if found is not None and 0 < found[1].units <= most:
            again = _Piece(rest, *found, walk.total - found[1].units)
    if run.is_wrong and not holes:
        lost.append(Loss(LossKind.WRONG))
    fill.compare({0: run})
    between, again = _between(walk, data, unit, holes, run, again, end, job, fill)
    return _joined(walk, unit, packed, run, between, again, fill)


class _Piece(msgspec.Struct):
    """Codes that were taken up at a bit of some bytes, and the unit that they begin at; what must be added to the brightness of each component, where
    that is known.
    """

    rest: bytes
    start: int
    run: Run
    begin: int
    added: list[int] = []


def _between(
    walk: Walk,
    data: bytes,
    unit: Unit,
    holes: list[tuple[int, int]],
    run: Run,
    again: _Piece | None,
    end: int,
    job: Job,
    fill: Fill,
) -> tuple[list[_Piece], _Piece | None]:
    """(what stands between two holes, or between the last one and where the file was cut off, where the small picture, or the row above, shows its place;
    what goes to the end, as bright as the last of those asks).
    """
    found: list[_Piece] = []
    above: Run | None = run
    first, last = run.units, again.begin if again is not None else walk.total
    stops = [*(start for start, _ in holes[1:]), *([end] if again is None else [])]
    for (_, start), stop in zip(holes, stops, strict=False):
        rest = data[start:stop].replace(b"\xff\0", b"\xff")
        there = taken_up_between(rest, min(_SOUGHT, len(rest)), unit, last - first, job.budget.spend)
        if there is None:
            above = None
            continue
        second = there[1]
        if (place := fill.place_of(second, first, last)) is not None:
            piece = _Piece(rest, *there, place)
        elif above is not None and (told_by_row := placed_by_row(walk, second, above, first, last)) is not None:
            piece = _Piece(rest, *there, *told_by_row)
            # The next one is held against this one as it will be.
            blocks = [number for number, (_, h, v) in enumerate(walk.order) for _ in range(h * v)]
            added = [piece.added[number] for number in blocks]
            bright = array("i", (each + added[n % len(added)] for n, each in enumerate(second.bright)))
            second = Run(second.units, second.end, bright, second.is_wrong)
        else:
            above = None
            continue
        found.append(piece)
        first, above = piece.begin + second.units, second
    if again is not None and found and above is not None:
        # As if all above were there: its rows begin where rows do.
        least = first - above.units
        shift = least // walk.across * walk.across
        filled = array("i", [0]) * ((least - shift) * len(unit.blocks)) + above.bright
        known = Run(first - shift, 0, filled, False)
        again = msgspec.structs.replace(
            again, added=_brightness(walk, unit, known, again.run, again.begin - shift, least - shift)[0]
        )
    return found, again


def _joined(
    walk: Walk, unit: Unit, packed: bytes, run: Run, between: list[_Piece], again: _Piece | None, fill: Fill
) -> tuple[bytes, float]:
    """The first run, then all others where they belong, units without detail in front of each."""
    bits = Bits()
    bits.copy(packed, 0, run.end)
    last = bright_of(run, unit)
    at = right = run.units
    wanted: list[int] = []
    if again is not None:
        wanted, strange = _brightness(walk, unit, run, again.run, again.begin)
        wanted = again.added or wanted
        if strange and not again.added:
            again = _later(again, unit, strange)
    for piece in [*between, *([again] if again is not None else [])]:
        fill.put(bits, at, piece.begin - at, last)
        apart = fill.apart(piece.run, piece.begin) or piece.added or wanted
        last = _with_brightness(bits, piece, unit, last, apart)
        at = piece.begin + piece.run.units
        right += piece.run.units
    fill.put(bits, at, walk.total - at, last)
    return bits.stuffed(), right / walk.total if walk.total else 0.0


def _later(piece: _Piece, unit: Unit, count: int) -> _Piece:
    """A piece without its first units."""
    run = piece.run
    behind = follow(piece.rest, piece.start, unit, count).end
    bright = run.bright[count * len(unit.blocks) :]
    return _Piece(piece.rest, behind, Run(run.units - count, run.end, bright, run.is_wrong), piece.begin + count)


def _brightness(walk: Walk, unit: Unit, run: Run, second: Run, begin: int, least: int = 0) -> tuple[list[int], int]:
    """(what must be added to the brightness of a run that begins at a unit, so that it goes on from the rows above, for each component; how many of
    its first units were read before the codes fell into step, as nothing about them fits). `run` are the units before it, but for the first `least`,
    which are not known.
    """
    wanted: list[int] = []
    strange = 0
    blocks, across = len(unit.blocks), walk.across
    offset = 0
    for _, h, v in walk.order:
        apart: list[int] = []
        first: list[tuple[int, int]] = []
        for n in range(min(second.units, across)):
            column = (begin + n) % across
            above = begin + n - across
            if above >= run.units:
                above = (run.units - 1 - column) // across * across + column
            if not least <= above < run.units:
                continue
            for x in range(h):
                top = second.bright[n * blocks + offset + x]
                bottom = run.bright[above * blocks + offset + (v - 1) * h + x]
                apart.append(bottom - top)
                if n < _TO_FALL_IN:
                    first.append((n, bottom - top))
        middle = round(median(apart)) if apart else 0
        wanted.append(middle)
        usual = median(abs(each - middle) for each in apart) if apart else 0
        strange = max([strange, *(n + 1 for n, each in first if abs(each - middle) > max(_FAR, 8 * usual))])
        offset += h * v
    return wanted, min(strange, max(second.units - 1, 0))


def _with_brightness(bits: Bits, piece: _Piece, unit: Unit, last: Sequence[int], wanted: Sequence[int]) -> list[int]:
    """Put a piece, the first block of each component as bright as is wanted; how bright its last ones are."""
    rest, run = piece.rest, piece.run
    at, met = piece.start, set[int]()
    ends = bright_of(run, unit)
    firsts = {number: run.bright[n] for n, (number, _, _) in reversed(list(enumerate(unit.blocks)))}
    for number, dc, ac in unit.blocks:
        said = dc[_window(rest, at)]
        after = at + (said & 31) + (said >> 5)
        if number not in met:
            met.add(number)
            change = firsts[number] + wanted[number] - last[number]
            code = difference_code(dc, change)
            if code is not None:
                bits.repeat(code, 1)
                ends[number] += last[number] + told(dc, change) - firsts[number]
            else:
                bits.copy(rest, at, after)
        else:
            bits.copy(rest, at, after)
        behind = after
        k = 1
        while k < 64:
            said = ac[_window(rest, behind)]
            size = said >> 5 & 15
            behind += (said & 31) + size
            if size:
                k += (said >> 9) + 1
            elif said >> 9 == 15:
                k += 16
            else:
                break
        bits.copy(rest, after, behind)
        at = behind
    bits.copy(rest, at, run.end)
    return ends


def _window(data: bytes, at: int) -> int:
    place = at >> 3
    return int.from_bytes(data[place : place + 4].ljust(4, b"\0"), "big") >> (16 - (at & 7)) & 0xFFFF


def _with_restarts(walk: Walk, data: bytes, fill: Fill) -> tuple[bytes, float]:
    """The same of a scan with restarts: each stretch between two stands for itself, and its number tells where it belongs."""
    unit = Unit.of(walk.order, walk.tables)
    if unit is None:
        raise NothingLeft("the tables of its codes are gone")
    end, _ = _end_of_scan(data, walk.at)
    count = -(-walk.total // walk.interval)
    stretches: dict[int, tuple[bytes, Run]] = {}
    at, following, expected = walk.at, 0, 0
    marks = [found for found in _MARKER.finditer(data, walk.at, end) if 0xD0 <= found[1][0] <= 0xD7]
    for found in [*marks, None]:
        stop = found.start() if found is not None else end
        holes = _holes(data, at, stop)
        packed = data[at : holes[0][0] if holes else stop].replace(b"\xff\0", b"\xff")
        # The mark before it tells which of eight it is: of those that may still come the first.
        number = expected + (following - expected) % 8
        if number < count:
            wanted = min(walk.interval, walk.total - number * walk.interval)
            run = follow(packed, 0, unit, wanted)
            if run.units > stretches.get(number, (b"", NOTHING))[1].units:
                stretches[number] = packed, run
            if run.units == wanted and len(packed) * 8 - run.end < 16:
                expected = number + 1
        if found is not None:
            at, following = found.end(), (found[1][0] - 0xD0 + 1) % 8
    pieces, right = [], 0
    fill.compare({n * walk.interval: run for n, (_, run) in stretches.items()})
    for n in range(count):
        wanted = min(walk.interval, walk.total - n * walk.interval)
        packed, run = stretches.get(n, (b"", NOTHING))
        bits = Bits()
        bits.copy(packed, 0, run.end)
        fill.put(bits, n * walk.interval + run.units, wanted - run.units, bright_of(run, unit))
        right += run.units
        pieces.append(bits.stuffed())
    body = b"".join(piece + (bytes((0xFF, 0xD0 + n % 8)) if n + 1 < count else b"") for n, piece in enumerate(pieces))
    return body, right / walk.total
