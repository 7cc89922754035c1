"""What fills the lost blocks of a JPEG: plain ones as bright as the small picture that cameras keep in the head, else grey.

Source: Exif 2.32, 4.5.5 (the small picture is a JPEG of its own inside the head); ITU T.81, F.1.2.1 (differences of brightness). The small picture is
believed only if it shows what the blocks show that are there.
"""

from __future__ import annotations

import io
from array import array
from typing import TYPE_CHECKING

from rustfern.core.errors import Malformed
from rustfern.formats.images.jpeg import Walk
from rustfern.repair.interface import NothingLeft
from rustfern.repair.pictures.jpeg_scan import Bits, Run, Unit, code_of, difference_code, empty_unit

if TYPE_CHECKING:
    import numpy as np
    from PIL.Image import Image, Resampling

_START, _END = b"\xff\xd8\xff", b"\xff\xd9"
_LEAST_SIDE, _MOST_SIDE = 32, 1024
_RATIO = 0.02
"""How much the shape of the small picture may differ from that of the large one."""
_LEAST_COMPARED, _LIKE = 64, 0.8
"""Blocks that are compared at least, and how alike (their correlation) they must be."""
_PLACED, _CLEARLY, _CENTRED = 0.9, 0.5, 0.35
"""How alike a run must be to the small picture where it is put, how much of the rest better than anywhere else, how far the peak may be off (units)."""
_LEAST_ROW, _BELOW, _APART = 40, 0.7, 0.25
"""Units that are held against the row above at least, how alike they must be to it, and how much more than anywhere else."""
_LIMIT = 1024


class Fill:
    """Blocks without detail for units that are lost."""

    def __init__(self, walk: Walk, data: bytes, unit: Unit | None = None, shift: int = 0) -> None:
        """For the scan that a walk stands at; `unit` where it is one of brightness alone, without its lowest bits (`shift`)."""
        self._walk, self._shift = walk, shift
        self._is_light = unit is not None
        unit = unit or Unit.of(walk.order, walk.tables)
        if unit is None:
            raise NothingLeft("the tables of its codes are gone")
        self._unit = unit
        self._small = _small_picture(walk, data[: walk.at])
        self._bright: list[np.ndarray] | None = None
        self._codes: dict[tuple[int, int], tuple[str, int]] = {}
        self.used = False
        """Whether the small picture was taken."""

    def compare(self, runs: dict[int, Run]) -> None:
        """Hold the small picture against the blocks that are there (first unit → units); one that shows something else is not taken."""
        if self._small is None:
            return
        import numpy as np

        bright = [self._component(number) for number in range(len(self._walk.order))]
        count = len(self._unit.blocks)
        ours, theirs = [], []
        across = self._walk.across
        _, h, v = self._walk.order[0]
        for begin, run in runs.items():
            there = np.frombuffer(run.bright, np.int32)[: run.units * count].reshape(-1, count)[:, : h * v]
            places = begin + np.arange(len(there))
            for n in range(h * v):
                ours.append(there[:, n])
                theirs.append(bright[0][places // across * v + n // h, places % across * h + n % h])
        own, other = np.concatenate(ours), np.concatenate(theirs)
        if len(own) < _LEAST_COMPARED or np.std(own) < 1 or np.std(other) < 1:
            return
        # What went wrong shortly before the codes stopped shows as well.
        if np.corrcoef(own, other)[0, 1] >= _LIKE:
            self._bright = bright

    def apart(self, run: Run, begin: int) -> list[int]:
        """What must be added to the brightness of units that begin at a unit, so that each component is as bright as in the small picture; nothing
        where there is none.
        """
        if self._bright is None or not run.units:
            return []
        import numpy as np

        there = np.frombuffer(run.bright, np.int32)[: run.units * len(self._unit.blocks)].reshape(run.units, -1)
        places = begin + np.arange(run.units)
        rows, columns = np.divmod(places, self._walk.across)
        found, offset = [], 0
        for bright, (_, h, v) in zip(self._bright, self._walk.order, strict=True):
            apart = [bright[rows * v + n // h, columns * h + n % h] - there[:, offset + n] for n in range(h * v)]
            found.append(round(float(np.median(np.concatenate(apart)))))
            offset += h * v
        return found

    def place_of(self, run: Run, first: int, last: int) -> int | None:
        """The unit that a run begins at, not before `first` nor so that it ends behind `last`, as the small picture shows it; None where it does not
        show that.
        """
        spare = last - first - run.units
        if self._bright is None or spare < 0:
            return None
        import numpy as np

        _, h, v = self._walk.order[0]
        across = self._walk.across
        units = np.arange(first, last)
        rows, columns = np.divmod(units, across)
        there = sum(self._bright[0][rows * v + n // h, columns * h + n % h] for n in range(h * v)) / (h * v)
        own = np.frombuffer(run.bright, np.int32)[: run.units * len(self._unit.blocks)].reshape(run.units, -1)
        own = own[:, : h * v].mean(axis=1)
        best = _clearly_best(_likeness(own, np.asarray(there, dtype=np.float64)))
        return None if best is None else first + best

    def _component(self, number: int) -> np.ndarray:
        """The brightness of every block of a component, as the codes tell it, rows by columns."""
        import numpy as np

        assert self._small is not None
        walk = self._walk
        part, h, v = walk.order[number]
        most_h, most_v = max(each[1] for each in walk.order), max(each[2] for each in walk.order)
        wide = max(round(walk.width * h / (8 * most_h)), 1)
        tall = max(round(walk.height * v / (8 * most_v)), 1)
        plane = self._small.getchannel(number).resize((wide, tall), resample=_smooth())
        values = np.asarray(plane, dtype=np.float64) - 128
        rows, columns = -(-walk.total // walk.across) * v, walk.across * h
        values = np.pad(values, ((0, max(rows - tall, 0)), (0, max(columns - wide, 0))), mode="edge")
        step = walk.quantisers.get(part.quantiser, 1) or 1
        bright: np.ndarray = np.clip(np.rint(values * 8 / step), -_LIMIT, _LIMIT - 1).astype(np.int32)
        return bright >> self._shift

    def put(self, bits: Bits, first: int, count: int, last: list[int]) -> None:
        """Put units without detail, from the unit `first` on; `last` is how bright the block before is, of each component, and becomes that of the
        last one. Raises `NothingLeft` where the codes cannot tell of such.
        """
        if not count:
            return
        if self._bright is None:
            self._grey(bits, count, last)
            return
        self.used = True
        walk, across = self._walk, self._walk.across
        places = []
        for number, (_, h, v) in enumerate(walk.order):
            places += [(number, n // h, n % h, h, v) for n in range(h * v)]
        for at in range(first, first + count):
            row, column = divmod(at, across)
            for (number, y, x, h, v), (_, dc, ac) in zip(places, self._unit.blocks, strict=True):
                wanted = int(self._bright[number][row * v + y, column * h + x])
                code, told = self._code(number, dc, ac, wanted - last[number])
                bits.repeat(code, 1)
                last[number] += told

    def _code(self, number: int, dc: list[int], ac: list[int], change: int) -> tuple[str, int]:
        """The bits of a block without detail, and the change of brightness that they tell."""
        found = self._codes.get((number, change))
        if found is None:
            code, end = difference_code(dc, change), "" if self._is_light else code_of(ac, 0)
            if code is None or end is None:
                raise NothingLeft("its codes cannot tell of blocks without detail")
            found = self._codes[number, change] = code + end, told(dc, change)
        return found

    def _grey(self, bits: Bits, count: int, last: list[int]) -> None:
        light = self._is_light
        first = empty_unit(self._unit, [-each for each in last], light=light) or empty_unit(self._unit, light=light)
        plain = empty_unit(self._unit, light=light)
        if first is None or plain is None:
            raise NothingLeft("its codes cannot tell of blocks without detail")
        bits.repeat(first, 1)
        bits.repeat(plain, count - 1)
        tables = {number: table for number, table, _ in reversed(self._unit.blocks)}
        last[:] = [each + told(tables[number], -each) for number, each in enumerate(last)]


def placed_by_row(walk: Walk, run: Run, above: Run, first: int, last: int) -> tuple[int, list[int]] | None:
    """(the unit that a run begins at, what must be added to the brightness of each component), told by the row above it: `above` are the units before
    the unit `first`, and less than a third of a row is lost. None where the row does not show that.
    """
    import numpy as np

    across, count = walk.across, sum(h * v for _, h, v in walk.order)
    length = min(run.units, 2 * across // 3)
    spare = min(last - first - run.units, across - length)
    if length < _LEAST_ROW or spare < 0 or above.units < across:
        return None
    mine = np.frombuffer(run.bright, np.int32)[: length * count].reshape(length, count)
    row = np.frombuffer(above.bright, np.int32)[(above.units - across) * count : above.units * count].reshape(-1, count)
    _, h, v = walk.order[0]
    top, bottom = mine[:, :h].ravel().astype(float), row[:, (v - 1) * h : v * h].ravel().astype(float)
    if top.std() < 1 or bottom.std() < 1:
        return None
    best = _clearly_best(_likeness(top, bottom)[::h][: spare + 1], _BELOW, _APART)
    if best is None:
        return None
    wanted, offset = [], 0
    for _, wide, tall in walk.order:
        apart = (
            row[best : best + length, offset + (tall - 1) * wide : offset + tall * wide]
            - mine[:, offset : offset + wide]
        )
        wanted.append(round(float(np.median(apart))))
        offset += wide * tall
    return first + best, wanted


def _clearly_best(like: np.ndarray, least: float = _PLACED, apart: float = 0.0) -> int | None:
    """The place that is `least` like what is sought, if no other one is nearly so (by `apart`, where it is less than quite
    like it): neither the next, nor another row."""
    import numpy as np

    best = int(np.argmax(like))
    if like[best] < least:
        return None
    far = np.abs(np.arange(len(like)) - best) > 2
    if far.any() and like[best] - like[far].max() < max(
        _CLEARLY * (1 - like[best]), apart if like[best] < _PLACED else 0.0
    ):
        return None
    if 0 < best < len(like) - 1:
        before, at, behind = like[best - 1 : best + 2]
        if abs(before - behind) > _CENTRED * 2 * max(2 * at - before - behind, 1e-12):
            return None
    return best


def _likeness(own: np.ndarray, there: np.ndarray) -> np.ndarray:
    """The correlation of a row of values with each stretch of a longer one."""
    import numpy as np

    count = len(own)
    size = 1 << (len(there) + count).bit_length()
    own = own - own.mean()
    there = there - there.mean()
    crossed = np.fft.irfft(np.fft.rfft(there, size) * np.conj(np.fft.rfft(own, size)), size)[: len(there) - count + 1]
    sums, squares = np.cumsum(np.r_[0.0, there]), np.cumsum(np.r_[0.0, there * there])
    spread = squares[count:] - squares[:-count] - (sums[count:] - sums[:-count]) ** 2 / count
    found: np.ndarray = crossed / np.sqrt(np.maximum(spread, 1e-9) * max(float(own @ own), 1e-9))
    return found


def told(table: list[int], change: int) -> int:
    """The change of brightness that the codes can tell, of a component."""
    code = difference_code(table, change)
    if code is None:
        return 0
    for size in range(12):
        head = code_of(table, size)
        if head is not None and code.startswith(head) and len(code) == len(head) + size:
            value = int(code[len(head) :], 2) if size else 0
            return value if not size or value >> (size - 1) else value - (1 << size) + 1
    return 0


def _smooth() -> Resampling:
    from PIL.Image import Resampling

    return Resampling.BICUBIC


def _small_picture(walk: Walk, head: bytes) -> Image | None:
    """The largest small picture in the head that has the shape of the large one, in the components that it is coded in; None if there is none."""
    if len(walk.order) not in (1, 3):
        return None

    best: Image | None = None
    at = head.find(_START, 2)
    while at >= 0:
        end = head.find(_END, at)
        while end >= 0 and (found := _decoded(head[at : end + 2], len(walk.order))) is None and end - at < 1 << 16:
            end = head.find(_END, end + 2)
        if end >= 0 and found is not None:
            found = _same_shape(found, walk.width / walk.height)
            if found is not None and (best is None or found.width > best.width):
                best = found
            at = end
        at = head.find(_START, at + 3)
    return best


def _decoded(data: bytes, components: int) -> Image | None:
    from PIL import Image

    try:
        Walk(data).run()
        with Image.open(io.BytesIO(data), formats=["JPEG"]) as small:
            if not all(_LEAST_SIDE <= side <= _MOST_SIDE for side in small.size):
                return None
            return small.convert("YCbCr" if components == 3 else "L")
    except (Malformed, OSError, ValueError):
        return None


def _same_shape(small: Image, ratio: float) -> Image | None:
    """A small picture without the black bars that fill it up to another shape; None where it is of another."""
    if abs(small.width / small.height / ratio - 1) <= _RATIO:
        return small
    if ratio > small.width / small.height:
        tall = round(small.width / ratio)
        top = (small.height - tall) // 2
        inner, bars = (0, top, small.width, top + tall), ((0, 0, small.width, max(top - 1, 0)),)
    else:
        wide = round(small.height * ratio)
        left = (small.width - wide) // 2
        inner, bars = (left, 0, left + wide, small.height), ((0, 0, max(left - 1, 0), small.height),)
    bar = small.getchannel(0).crop(bars[0])
    if bar.width and bar.height and max(bar.getdata()) < 24:
        return small.crop(inner)
    return None


def bright_of(run: Run, unit: Unit) -> list[int]:
    """The brightness of the last block of each component."""
    last = [0] * unit.components
    if run.units:
        start = (run.units - 1) * len(unit.blocks)
        for n, (number, _, _) in enumerate(unit.blocks):
            last[number] = run.bright[start + n]
    return last


NOTHING = Run(0, 0, array("i"), False)
"""No unit at all."""
