"""JPEG pictures in several scans (progressive ones): each scan as far as it goes, the rest of it without anything, those behind it kept.

Scans for other coefficients do not need one that is damaged; those that refine it go as far as it does. Source: ITU T.81, G.1.1 and G.1.2 (scans of a
band, runs of ends of blocks, refinements).
"""

from __future__ import annotations

import re
from array import array

import msgspec

from rustfern.core.errors import Malformed
from rustfern.formats.holes import lost_sector
from rustfern.formats.images.jpeg import Walk
from rustfern.formats.images.jpeg_blocks import Bits as CodeBits
from rustfern.formats.images.jpeg_blocks import Blocks, Part
from rustfern.repair.interface import Job, NothingLeft
from rustfern.repair.pictures.jpeg_fill import Fill, bright_of
from rustfern.repair.pictures.jpeg_scan import Bits, Run, Unit, code_of

_HEAD = re.compile(rb"\xff[\xc4\xda]")
_LONGEST_RUN = 14


class Layers(msgspec.Struct):
    """What came of the scans: their bytes, how many are whole, how many were cut or left out, the share of the picture whose brightness is there, whether it
    shows the small picture elsewhere, and whether brightness may be wrong."""

    body: bytes
    whole: int
    hurt: int
    share: float
    used_small: bool
    is_wrong: bool


def layers(walk: Walk, data: bytes, job: Job) -> Layers:
    """All scans from the one that the walk stands at; only those in front of what is damaged, where a picture of all would not be whole. Raises
    `NothingLeft` where the first one is gone.
    """
    head, start = data[: walk.at], walk.at
    found = _layers(walk, data, job, careful=False)
    try:
        Walk(head + found.body + b"\xff\xd9").run()
    except Malformed:
        walk = Walk(data)
        while walk.at != start and walk.next_scan() is not None:
            pass
        return _layers(walk, data, job, careful=True)
    return found


def _layers(walk: Walk, data: bytes, job: Job, *, careful: bool) -> Layers:
    made = _Layers(walk, data, job)
    begin = 0
    while True:
        job.budget.spend()
        before = len(made.out)
        made.scan(begin)
        if careful and made.hurt and made.whole:
            del made.out[before:]
            break
        begin = walk.at
        try:
            if walk.next_scan() is None:
                break
        except Malformed:
            found = _next_head(walk, data, begin)
            if found is None:
                break
            begin = found
    if not made.covered >= set(map(id, walk.parts.values())):
        raise NothingLeft("the scan that tells how bright it is, is gone")
    return Layers(bytes(made.out), made.whole, made.hurt, made.share, made.used_small, made.is_wrong)


def _next_head(walk: Walk, data: bytes, at: int) -> int | None:
    """Where the tables or the head of the next scan begin behind what is damaged; the walk stands behind that head then. None where none does."""
    for found in _HEAD.finditer(data, at):
        tables = dict(walk.tables)
        walk.at = found.start()
        try:
            if walk.next_scan() is not None:
                return found.start()
        except Malformed:
            pass
        walk.tables.clear()
        walk.tables.update(tables)
    return None


class _Layers:
    def __init__(self, walk: Walk, data: bytes, job: Job) -> None:
        self.walk, self.data, self.job = walk, data, job
        self.out = bytearray()
        self.whole = self.hurt = 0
        self.share, self.used_small, self.is_wrong = 1.0, False, False
        self.covered: set[int] = set()
        self._known: dict[tuple[int, int], int] = {}
        """Blocks up to which a coefficient of a component is there, where not to the end."""

    def scan(self, begin: int) -> None:
        """Take the scan whose head the walk stands behind; its tables begin at `begin` (0: they are in front already)."""
        walk, data = self.walk, self.data
        start = walk.at
        head = data[begin:start] if begin else b""
        try:
            segments = walk.segments()
            end = walk.at
        except Malformed:
            end = walk.at = len(data)
            segments = [(start, data[start:end].replace(b"\xff\0", b"\xff"))]
        hole = lost_sector(data, start, end)
        coded = segments[0][1] if hole is None else data[start:hole].replace(b"\xff\0", b"\xff")
        if hole is not None:
            # What stands behind the hole may be another scan, or tables.
            walk.at = hole
        first, last, high, low = walk.band
        limit = self._limit(first, last) if high and first else walk.total
        coder = Blocks(walk.order, walk.across, (first, last, high), walk.tables, walk.quantisers, progressive=True)
        if walk.interval:
            self._all_or_nothing(coder, segments, head, data[start:end], hole is None)
            return
        made = self._light(coder, coded, low) if not first else self._detail(coder, coded, limit)
        if made is None:
            self.hurt += 1
            self.out += _tables_of(head)
            return
        is_whole, body = made
        self.whole += is_whole
        self.hurt += not is_whole
        self.out += head + (data[start:end] if is_whole and hole is None else body)

    def _limit(self, first: int, last: int) -> int:
        part = self.walk.order[0][0]
        return min((self._known.get((id(part), k), self.walk.total) for k in range(first, last + 1)), default=0)

    def _all_or_nothing(
        self, coder: Blocks, segments: list[tuple[int, bytes]], head: bytes, coded: bytes, is_there: bool
    ) -> None:
        """A scan with restarts stays only as it is."""
        first, last, high, _ = self.walk.band
        try:
            if not is_there or (high and first and self._limit(first, last) < self.walk.total):
                raise Malformed("a scan that is not all there")
            self.walk.blocks(coder, segments, self.walk.total)
        except Malformed:
            for k in range(max(first, 1), last + 1):
                self._known[id(self.walk.order[0][0]), k] = 0
            self.hurt += 1
            self.out += _tables_of(head)
            return
        if not first and not high:
            self.covered.update(id(part) for part, _, _ in self.walk.order)
        self.whole += 1
        self.out += head + coded

    def _light(self, coder: Blocks, coded: bytes, low: int) -> tuple[bool, bytes] | None:
        """A scan of brightness: as far as it goes, the rest as the small picture shows it, else grey."""
        walk = self.walk
        self.covered.update(id(part) for part, _, _ in walk.order)
        blocks = sum(h * v for _, h, v in walk.order)
        if coder.high:
            bits = Bits()
            there = min(walk.total * blocks, len(coded) * 8)
            bits.copy(coded, 0, there)
            bits.repeat("0", walk.total * blocks - there)
            is_whole = there == walk.total * blocks and not _is_over(coded, there)
            return is_whole, bits.stuffed()
        reader, last = CodeBits(coded, 0), [0] * len(walk.order)
        bright, units, used = array("i"), 0, 0
        try:
            while units < walk.total:
                for number, (part, h, v) in enumerate(walk.order):
                    for _ in range(h * v):
                        last[number] = coder.dc(reader, part, last[number])
                        bright.append(last[number])
                if reader.at * 8 - reader.count > len(coded) * 8:
                    break
                units, used = units + 1, reader.at * 8 - reader.count
        except Malformed:
            pass
        del bright[units * blocks :]
        if units == walk.total:
            if not _is_over(coded, used):
                return True, b""
            self.is_wrong = True
        order = [number for number, (_, h, v) in enumerate(walk.order) for _ in range(h * v)]
        unit = Unit(tuple((number, coder.table(0, walk.order[number][0].dc, 0), []) for number in order))
        fill = Fill(walk, self.data, unit, low)
        run = Run(units, used, bright, True)
        fill.compare({0: run})
        before = bright_of(run, unit)
        bits = Bits()
        bits.copy(coded, 0, used)
        fill.put(bits, units, walk.total - units, before)
        self.used_small = self.used_small or fill.used
        self.share = min(self.share, units / walk.total)
        return False, bits.stuffed()

    def _detail(self, coder: Blocks, coded: bytes, limit: int) -> tuple[bool, bytes] | None:
        """A scan of detail: its blocks up to `limit`, as far as they go, behind them nothing; None where not one is there, or its codes cannot tell that."""
        walk = self.walk
        part = walk.order[0][0]
        reader = CodeBits(coded, 0)
        coder.run_of_ends = 0
        done = used = run = 0
        read = coder.refine if coder.high else coder.ac_first
        try:
            while done < limit:
                where = done // walk.across * part.wide + done % walk.across
                before = part.seen.get(where)
                read(reader, part, where)
                if reader.at * 8 - reader.count > len(coded) * 8:
                    _restore(part, where, before)
                    break
                done, used, run = done + 1, reader.at * 8 - reader.count, coder.run_of_ends
        except Malformed:
            _restore(part, done // walk.across * part.wide + done % walk.across, before)
        if done == walk.total and not _is_over(coded, used):
            return True, b""
        if done == walk.total:
            done = 0  # its codes went wrong somewhere, and nothing tells where
        for k in range(coder.first, coder.last + 1):
            self._known[id(part), k] = min(self._known.get((id(part), k), walk.total), done)
        if not done:
            return None
        bits = Bits()
        bits.copy(coded, 0, used)
        # A run of ends that goes on reaches over some of those that follow.
        at = min(done + run, walk.total)
        self._nothing(bits, coder, part, done, at)
        runs = [code_of(coder.table(1, part.ac, 0), size << 4) for size in range(_LONGEST_RUN + 1)]
        while at < walk.total:
            size = next((n for n in range(_LONGEST_RUN, -1, -1) if runs[n] and 1 << n <= walk.total - at), None)
            if size is None:
                return None
            many = min(walk.total - at, (2 << size) - 1)
            bits.repeat(runs[size] or "", 1)
            bits.put(many - (1 << size), size)
            self._nothing(bits, coder, part, at, at + many)
            at += many
        return False, bits.stuffed()

    def _nothing(self, bits: Bits, coder: Blocks, part: Part, start: int, end: int) -> None:
        """What a refinement says of blocks of which nothing changes: a zero for each coefficient that is not zero."""
        if not coder.high:
            return
        band = ((1 << coder.last - coder.first + 1) - 1) << coder.first
        across = self.walk.across
        count = 0
        for block in range(start, end):
            count += (part.seen.get(block // across * part.wide + block % across, 0) & band).bit_count()
        bits.repeat("0", count)


def _is_over(coded: bytes, used: int) -> bool:
    """Whether more than padding follows the last block."""
    rest = coded[-(-used // 8) :]
    return len(rest) > 8 or bool(rest.strip(b"\xff\0"))


def _restore(part: Part, where: int, before: int | None) -> None:
    if before is None:
        part.seen.pop(where, None)
    else:
        part.seen[where] = before


def _tables_of(head: bytes) -> bytes:
    """The tables in front of a scan, without its own head."""
    place = head.rfind(b"\xff\xda")
    return head[:place] if place >= 0 else b""
