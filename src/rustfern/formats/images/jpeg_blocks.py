"""The coded blocks of JPEG scans, baseline and progressive, followed bit by bit without making any pixel.

Source: ITU T.81: F.1.2 and F.2.2 (sequential coding), G.1.2 (progressive coding), F.2.2.5 (bits of the coded data).
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from rustfern.core.errors import Malformed

_DC_LIMIT = 16 * 1024
_PAD = 16


class Part(msgspec.Struct):
    """A component: sampling factors, blocks across and down, its quantiser, the tables in use, for each block what is not zero."""

    h: int
    v: int
    quantiser: int
    across: int = 0
    down: int = 0
    wide: int = 0
    tall: int = 0
    dc: int = 0
    ac: int = 0
    seen: dict[int, int] = msgspec.field(default_factory=dict)


class Blocks:
    """Walks the blocks of one scan."""

    def __init__(
        self,
        order: list[tuple[Part, int, int]],
        across: int,
        band: tuple[int, int, int],
        tables: Mapping[tuple[int, int], list[int]],
        quantisers: Mapping[int, int],
        *,
        progressive: bool,
    ) -> None:
        """Units of `order` (component, blocks across and down), so many in a row; `band`: first and last coefficient, and the bit above those
        that the scan refines (0: it is their first).
        """
        self.order, self.across, self.progressive = order, across, progressive
        self.first, self.last, self.high = band
        self.tables, self.quantisers = tables, quantisers

    def run(self, data: bytes, begin: int, count: int, start: int) -> None:
        """Walk `count` units from the unit `begin` on; all of `data` must be used up."""
        bits = Bits(data, start)
        self.run_of_ends = 0
        dc = dict.fromkeys((id(part) for part, _, _ in self.order), 0)
        for unit in range(begin, begin + count):
            row, column = divmod(unit, self.across)
            for part, h, v in self.order:
                for y in range(v):
                    for x in range(h):
                        where = (row * v + y) * part.wide + column * h + x
                        if not self.progressive:
                            dc[id(part)] = self.dc(bits, part, dc[id(part)])
                            self._ac(bits, part)
                        elif self.first == 0:
                            if self.high:
                                bits.skip(1)
                            else:
                                dc[id(part)] = self.dc(bits, part, dc[id(part)])
                        elif self.high:
                            self.refine(bits, part, where)
                        else:
                            self.ac_first(bits, part, where)
        bits.end()

    def table(self, kind: int, number: int, start: int) -> list[int]:
        """The codes of brightness (`kind` 0) or detail (1) with a number. Raises `Malformed` where there are none."""
        table = self.tables.get((kind, number))
        if table is None:
            raise Malformed("a scan uses a code table that is not there", start)
        return table

    def dc(self, bits: Bits, part: Part, before: int) -> int:
        """How bright the next block is. Raises `Malformed`."""
        size = bits.symbol(self.table(0, part.dc, bits.start))
        if size > 15:
            raise Malformed("a block holds an impossible value", bits.where())
        value = bits.take(size)
        after = before + (value if not size or value >> (size - 1) else value - (1 << size) + 1)
        if abs(after) * self.quantisers.get(part.quantiser, 1) > _DC_LIMIT * 2:
            raise Malformed("the brightness of a block is impossible", bits.where())
        return after

    def _ac(self, bits: Bits, part: Part) -> None:
        table, k = self.table(1, part.ac, bits.start), 1
        while k < 64:
            symbol = bits.symbol(table)
            size, run = symbol & 15, symbol >> 4
            if not size:
                if run != 15:
                    return
                k += 16
                continue
            k += run + 1
            bits.skip(size)
        if k > 64:
            raise Malformed("a block runs over its end", bits.where())

    def ac_first(self, bits: Bits, part: Part, where: int) -> None:
        """Walk through what the first scan of a band tells of a block. Raises `Malformed`."""
        if self.run_of_ends:
            self.run_of_ends -= 1
            return
        table, k, seen = self.table(1, part.ac, bits.start), self.first, 0
        while k <= self.last:
            symbol = bits.symbol(table)
            size, run = symbol & 15, symbol >> 4
            if not size:
                if run < 15:
                    self.run_of_ends = (1 << run) + bits.take(run) - 1
                    break
                k += 16
                continue
            k += run
            if k > self.last:
                raise Malformed("a block runs over its end", bits.where())
            bits.skip(size)
            seen |= 1 << k
            k += 1
        if k > self.last + 1:
            raise Malformed("a block runs over its end", bits.where())
        if seen:
            part.seen[where] = part.seen.get(where, 0) | seen

    def refine(self, bits: Bits, part: Part, where: int) -> None:
        """G.1.2.3: every coefficient that is not zero yet takes a bit on the way."""
        seen, k = part.seen.get(where, 0), self.first
        if not self.run_of_ends:
            table = self.table(1, part.ac, bits.start)
            while k <= self.last:
                symbol = bits.symbol(table)
                size, run = symbol & 15, symbol >> 4
                if not size and run < 15:
                    self.run_of_ends = (1 << run) + bits.take(run)
                    break
                if size > 1:
                    raise Malformed("a block holds an impossible value", bits.where())
                if size:
                    bits.skip(1)
                while k <= self.last:
                    if seen >> k & 1:
                        bits.skip(1)
                    elif run:
                        run -= 1
                    else:
                        break
                    k += 1
                if size:
                    if k > self.last:
                        raise Malformed("a block runs over its end", bits.where())
                    part.seen[where] = part.seen.get(where, 0) | 1 << k
                k += 1
        if self.run_of_ends:
            rest = seen >> k & ((1 << max(self.last - k + 1, 0)) - 1)
            bits.skip(rest.bit_count())
            self.run_of_ends -= 1


class Bits:
    """Bits of one coded segment, the highest of each byte first."""

    __slots__ = ("at", "count", "data", "kept", "start")

    def __init__(self, data: bytes, start: int) -> None:
        self.data, self.at, self.kept, self.count, self.start = data, 0, 0, 0, start

    def where(self) -> int:
        return self.start + self.at

    def _fill(self, need: int) -> None:
        piece = self.data[self.at : self.at + 8]
        self.at += 8
        # Beyond the end stand ones: `end` finds out how many of them were used.
        self.kept = (self.kept & ((1 << self.count) - 1)) << 64 | int.from_bytes(piece.ljust(8, b"\xff"), "big")
        self.count += 64
        if self.at > len(self.data) + 16:
            raise Malformed("the coded data stops inside a block", self.start + len(self.data))

    def symbol(self, table: list[int]) -> int:
        if self.count < 16:
            self._fill(16)
        entry = table[self.kept >> (self.count - 16) & 0xFFFF]
        length = entry & 31
        if not length:
            raise Malformed("a code in the picture does not exist", self.where())
        self.count -= length
        return entry >> 5

    def take(self, count: int) -> int:
        if self.count < count:
            self._fill(count)
        self.count -= count
        return self.kept >> self.count & ((1 << count) - 1)

    def skip(self, count: int) -> None:
        if self.count < count:
            self._fill(count)
        self.count -= count

    def end(self) -> None:
        """All bits must have been used but padding."""
        used = self.at * 8 - self.count
        have = len(self.data) * 8
        if used > have:
            raise Malformed("the coded data stops inside a block", self.start + len(self.data))
        rest = self.data[-(-used // 8) :]
        if len(rest) > _PAD or rest.strip(b"\xff\x00"):
            raise Malformed(f"{len(rest)} bytes are left over behind the last block of a scan", self.start + used // 8)
