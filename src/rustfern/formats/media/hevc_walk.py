"""The code of H.265 pictures, walked through without being decoded: whether they were coded with certain settings.

The arithmetic code of a row (or of a picture) ends just where its bytes do only if every decision on the way was the right one. So this proves
settings, the size of the picture among them.

Source: ITU-T H.265 7.3.8 (syntax), 6.5.3 to 6.5.5 (scans), 8.4.2 and 8.4.3 (modes), 9.3.4.2 (which context a decision has).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from copy import copy
from functools import lru_cache

import msgspec
from msgspec.structs import replace

from rustfern.formats.media.hevc_code import AT, Code, Misfit, contexts
from rustfern.formats.media.hevc_heads import Settings, head_of

_WIDEST = 8_192
_A_BLOCK, _SOME = 4, 512
"""The last block of a row takes at most so many times the bits of the largest before it, and these more."""


@lru_cache(16)
def _scan(size: int, kind: int) -> tuple[tuple[int, int], ...]:
    """The order of places in a square (6.5.3 to 6.5.5): diagonal, in rows, in columns."""
    if kind == 1:
        return tuple((x, y) for y in range(size) for x in range(size))
    if kind == 2:
        return tuple((x, y) for x in range(size) for y in range(size))
    return tuple((x, d - x) for d in range(2 * size - 1) for x in range(size) if 0 <= d - x < size)


_SMALL_MAP = (0, 1, 4, 5, 2, 3, 4, 5, 6, 6, 8, 8, 7, 7, 8, 8)


def _near(beside: int, x: int, y: int) -> int:
    """The context of a coefficient by where it lies, and by which blocks beside it hold some (9.3.4.2.5)."""
    if beside == 0:
        return 2 if x + y == 0 else 1 if x + y < 3 else 0
    if beside == 1:
        return 2 if y == 0 else 1 if y == 1 else 0
    if beside == 2:
        return 2 if x == 0 else 1 if x == 1 else 0
    return 2


_NEAR = tuple(tuple(_near(beside, place & 3, place >> 2) for place in range(16)) for beside in range(4))


class _Tree(msgspec.Struct, frozen=True):
    """How a block's transforms may be split: how deep, whether it has four modes, whether it splits at once; the mode of its colours, None where it is
    foretold from other pictures.
    """

    most: int
    parted: bool
    splits: bool
    color: int | None


def sizes_of(
    unit: bytes, settings: Settings, pause: Callable[[], None], among: Sequence[tuple[int, int]] | None = None
) -> list[tuple[int, int]]:
    """The coded sizes (pixels), all or those `among` some, at which a picture whose rows have codes of their own ends just where its bytes do; those
    of `settings` do not count. Mostly it is one, or none. Raises `NoUnit` for what is no such picture.
    """
    rows = len(head_of(unit, settings).rows)
    size, step = 1 << settings.block, 1 << settings.smallest
    heights = range((rows - 1) * size + step, rows * size + 1, step)
    found = []
    if among is not None:
        for width, height in among:
            if height in heights:
                walk = Walk(unit, replace(settings, width=width, height=height))
                found += [(width, height)] * walk.goes_through(range(rows), pause)
        return found
    if rows == 1:
        for height in heights:
            found += [(width, height) for width in _widths(unit, replace(settings, height=height), pause)]
        return found
    for width in _widths(unit, replace(settings, height=2 * size), pause):
        walk = Walk(unit, replace(settings, width=width, height=rows * size))
        if not walk.goes_through(range(rows - 1), pause):
            continue
        for height in heights:
            if walk.with_size(width, height).goes_through(range(rows - 1, rows), pause):
                found.append((width, height))
    return found


def _widths(unit: bytes, settings: Settings, pause: Callable[[], None]) -> list[int]:
    """The widths at which the first row ends just where its code does. Up to its last block all widths are alike."""
    size, step = 1 << settings.block, 1 << settings.smallest
    walk = Walk(unit, replace(settings, width=_WIDEST))
    walk.begin_row(0)
    found, most = [], 0
    for column in range(_WIDEST >> settings.block):
        pause()
        left = walk.left
        if left <= _A_BLOCK * (most + _SOME):
            for width in range(column * size + step, (column + 1) * size + 1, step):
                if walk.with_size(width, settings.height).takes(column, 0):
                    found.append(width)
        if not walk.takes(column, 0):
            break
        most = max(most, left - walk.left)
    return found


class Walk:
    """Walks through the code of a picture, row after row of blocks."""

    def __init__(self, unit: bytes, settings: Settings) -> None:
        """Raises `NoUnit` for what is no such picture."""
        self._set = settings
        self._head = head_of(unit, settings)
        self._unit = unit
        size = 1 << settings.block
        self.across = (settings.width + size - 1) // size
        self.down = (settings.height + size - 1) // size
        self._wide = self.across * size >> 2
        self._depths = bytearray(self._wide * (self.down * size >> 2))
        self._modes = bytearray(b"\1") * len(self._depths)
        self._taken = bytearray(len(self._depths))
        self._steps_to_come = True
        self._kept = bytearray()
        self._code = Code(b"", bytearray())

    def with_size(self, width: int, height: int) -> Walk:
        """The same walk, as far as it has come, through a picture that ends elsewhere behind it."""
        other = copy(self)
        other._set = replace(self._set, width=width, height=height)
        size = 1 << self._set.block
        other.across, other.down = (width + size - 1) // size, (height + size - 1) // size
        other._depths, other._modes = self._depths[:], self._modes[:]
        other._taken, other._kept = self._taken[:], self._kept[:]
        other._code = self._code.again()
        return other

    def fits(self, pause: Callable[[], None] = lambda: None) -> bool:
        """Whether the whole picture ends just where its bytes do."""
        return len(self._head.rows) in (1, self.down) and self.goes_through(range(self.down), pause)

    @property
    def left(self) -> int:
        """Bits of the code that were not read yet."""
        return self._code.left

    def begin_row(self, row: int) -> None:
        """Make a row's code ready."""
        rows = self._head.rows
        if row < len(rows):
            start = self._head.start + sum(rows[:row])
            states = bytearray(self._kept or contexts(self._head.kind, self._head.quality))
            self._code = Code(self._unit[start : start + rows[row]], states)

    def goes_through(self, rows: range, pause: Callable[[], None]) -> bool:
        """Whether some rows end just where their codes do; those before them were gone through."""
        for row in rows:
            self.begin_row(row)
            for column in range(self.across):
                if not column % 8:
                    pause()
                if not self.takes(column, row):
                    return False
        return True

    def takes(self, column: int, row: int) -> bool:
        """Whether one block can be what comes next, and where it is the last of a code, that ends there."""
        code, last = self._code, column == self.across - 1
        ends = last and row == self.down - 1
        try:
            self._block(column, row)
            if code.is_end() != ends:
                return False
            if column == 1:
                self._kept = bytearray(code.states)
            if last and self._set.by_rows and not ends and not code.is_end():
                return False
        except (IndexError, Misfit):
            return False
        return not (ends or (last and self._set.by_rows)) or code.is_used_up()

    def _block(self, column: int, row: int) -> None:
        if self._head.luma or self._head.chroma:
            self._filter(column, row)
        size = self._set.block
        self._tree(column << size, row << size, size, 0)

    def _filter(self, column: int, row: int) -> None:
        code = self._code
        if column and code.decision(AT["merge"]):
            return
        if row and code.decision(AT["merge"]):
            return
        for color in range(3):
            if not (self._head.chroma if color else self._head.luma):
                continue
            if color < 2:
                kind = code.decision(AT["filter"]) and 1 + code.even()
            if not kind:
                continue
            offsets = [self._up_to((1 << self._set.bits - 5) - 1) for _ in range(4)]
            if kind == 1:
                for each in offsets:
                    if each:
                        code.even()
                code.number(5)
            elif color < 2:
                code.number(2)

    def _up_to(self, most: int) -> int:
        value = 0
        while value < most and self._code.even():
            value += 1
        return value

    def _tree(self, x: int, y: int, size: int, depth: int) -> None:
        known = self._set
        pixels, is_split = 1 << size, size > known.smallest
        if x + pixels <= known.width and y + pixels <= known.height and is_split:
            at = (y >> 2) * self._wide + (x >> 2)
            beside = (x > 0 and self._depths[at - 1] > depth) + (y > 0 and self._depths[at - self._wide] > depth)
            is_split = bool(self._code.decision(AT["split"] + beside))
        if known.steps >= 0 and depth <= known.steps:
            self._steps_to_come = True
        if not is_split:
            self._unit_of_coding(x, y, size, depth)
            return
        half = pixels >> 1
        for down in (0, half):
            for right in (0, half):
                if x + right < known.width and y + down < known.height:
                    self._tree(x + right, y + down, size - 1, depth + 1)

    def _note(self, where: bytearray, x: int, y: int, size: int, value: int) -> None:
        """Note a value for a square of pixels."""
        count = 1 << size - 2
        row = bytes((value,)) * count
        first = (y >> 2) * self._wide + (x >> 2)
        for at in range(first, first + count * self._wide, self._wide):
            where[at : at + count] = row

    def _unit_of_coding(self, x: int, y: int, size: int, depth: int) -> None:
        code = self._code
        self._note(self._depths, x, y, size, depth)
        if self._head.kind:
            at = (y >> 2) * self._wide + (x >> 2)
            beside = (x > 0 and self._taken[at - 1]) + (y > 0 and self._taken[at - self._wide])
            is_taken = code.decision(AT["taken"] + beside)
            self._note(self._taken, x, y, size, is_taken)
            if is_taken:
                self._note(self._modes, x, y, size, 1)
                self._motion()
                return
            if not code.decision(AT["inside"]):
                self._moved(x, y, size, depth)
                return
        self._inside(x, y, size)

    def _moved(self, x: int, y: int, size: int, depth: int) -> None:
        """A block that is foretold from other pictures."""
        code, pixels = self._code, 1 << size
        self._note(self._modes, x, y, size, 1)
        is_merged = False
        parts = self._parts(size, pixels)
        for width, height in parts:
            is_merged = bool(code.decision(AT["motion"]))
            if is_merged:
                self._motion()
            else:
                self._vectors(width, height, depth)
        if (len(parts) > 1 or not is_merged) and not code.decision(AT["rest"]):
            return
        self._transforms(
            x, y, size, 0, _Tree(self._set.inner, False, self._set.inner == 0 and len(parts) > 1, None), 0, (1, 1)
        )

    def _parts(self, size: int, pixels: int) -> list[tuple[int, int]]:
        """Width and height of the parts of a block (7.4.9.5)."""
        code, half, quarter = self._code, pixels >> 1, pixels >> 2
        if code.decision(AT["part"]):
            return [(pixels, pixels)]
        across = bool(code.decision(AT["part"] + 1))
        if size == self._set.smallest:
            if not across and size > 3 and not code.decision(AT["part"] + 2):
                return [(half, half)] * 4
        elif self._set.unequal and not code.decision(AT["part"] + 3):
            sizes = (pixels - quarter, quarter) if code.even() else (quarter, pixels - quarter)
            return [(pixels, each) if across else (each, pixels) for each in sizes]
        return [(pixels, half) if across else (half, pixels)] * 2

    def _motion(self) -> None:
        """Which neighbour's motion is taken."""
        most = self._head.motions - 1
        if most and self._code.decision(AT["which"]):
            self._up_to(most - 1)

    def _vectors(self, width: int, height: int, depth: int) -> None:
        code, lists = self._code, 1
        if self._head.kind == 2:
            if width + height != 12 and code.decision(AT["lists"] + depth):
                lists = 3
            else:
                lists = 1 + code.decision(AT["lists"] + 4)
        for number in range(2):
            if not lists >> number & 1:
                continue
            most = self._head.others[number] - 1
            value = 0
            while value < most and (code.decision(AT["other"] + value) if value < 2 else code.even()):
                value += 1
            if not (number and lists == 3 and self._head.leaves_out):
                self._vector()
            code.decision(AT["guess"])

    def _vector(self) -> None:
        code = self._code
        some = [code.decision(AT["vector"]) for _ in range(2)]
        more = [each and code.decision(AT["vector"] + 1) for each in some]
        for is_some, is_more in zip(some, more, strict=True):
            if is_more:
                order = 1
                while code.even():
                    order += 1
                    if order > 16:
                        raise Misfit
                code.number(order)
            if is_some:
                code.even()

    def _inside(self, x: int, y: int, size: int) -> None:
        """A block that is foretold from what lies beside it."""
        code = self._code
        parted = size == self._set.smallest and not code.decision(AT["part"])
        step = size - 1 if parted else size
        half = 1 << step
        places = [(x + right, y + down) for down in (0, half) for right in (0, half)] if parted else [(x, y)]
        said = [code.decision(AT["mode"]) for _ in places]
        modes = []
        for (left, top), is_likely in zip(places, said, strict=True):
            likely = self._likely(left, top)
            if is_likely:
                mode = likely[code.even() and 1 + code.even()]
            else:
                mode = code.number(5)
                for each in sorted(likely):
                    mode += mode >= each
            modes.append(mode)
            if mode > 34:
                raise Misfit
            self._note(self._modes, left, top, step, mode)
        color = modes[0]
        if code.decision(AT["chroma"]):
            color = (0, 26, 10, 1)[code.number(2)]
            color = 34 if color == modes[0] else color
        self._transforms(x, y, size, 0, _Tree(self._set.depth + parted, parted, parted, color), 0, (1, 1))

    def _likely(self, x: int, y: int) -> tuple[int, int, int]:
        """The modes that a block likely has (8.4.2)."""
        at = (y >> 2) * self._wide + (x >> 2)
        left = self._modes[at - 1] if x else 1
        above = self._modes[at - self._wide] if y & ((1 << self._set.block) - 1) else 1
        if left == above:
            if left < 2:
                return 0, 1, 26
            return left, 2 + (left + 29) % 32, 2 + (left - 1) % 32
        return left, above, 0 if 0 not in (left, above) else 1 if 1 not in (left, above) else 26

    def _transforms(
        self, x: int, y: int, size: int, depth: int, tree: _Tree, number: int, outer: tuple[int, int]
    ) -> None:
        code = self._code
        if 2 < size <= 5 and depth < tree.most and not (tree.parted and depth == 0):
            is_split = bool(code.decision(AT["tree"] + 5 - size))
        else:
            is_split = size > 5 or (tree.splits and depth == 0)
        colors = outer
        if size > 2:
            blue = outer[0] and code.decision(AT["color"] + depth)
            red = outer[1] and code.decision(AT["color"] + depth)
            colors = blue, red
        if is_split:
            if size < 3:
                raise Misfit
            half = 1 << size - 1
            for place in range(4):
                self._transforms(
                    x + half * (place & 1), y + half * (place >> 1), size - 1, depth + 1, tree, place, colors
                )
            return
        luma = 1
        if tree.color is not None or depth or any(colors):
            luma = code.decision(AT["luma"] + (depth == 0))
        if not luma and not any(colors):
            return
        if self._set.steps >= 0 and self._steps_to_come:
            self._step()
        if luma:
            mode = 0 if tree.color is None else self._modes[(y >> 2) * self._wide + (x >> 2)]
            self._coefficients(size, 0, mode)
        if size > 2 or number == 3:
            for which, is_there in enumerate(colors, 1):
                if is_there:
                    self._coefficients(max(size - 1, 2), which, tree.color or 0)

    def _step(self) -> None:
        """A change of the quality step (9.3.3.10)."""
        code, value = self._code, 0
        while value < 5 and code.decision(AT["step"] + (value > 0)):
            value += 1
        if value == 5:
            order = 0
            while code.even():
                value += 1 << order
                order += 1
                if order > 6:
                    raise Misfit
            value += code.number(order)
        if value and code.even():
            value = -value
        more = 3 * (self._set.bits - 8)
        if not -26 - more <= value <= 25 + more:
            raise Misfit
        self._steps_to_come = False

    def _coefficients(self, size: int, color: int, mode: int) -> None:
        code, decision = self._code, self._code.decision
        if self._set.skips and size == 2:
            decision(AT["skip"] + (color > 0))
        offset, shift = (15, size - 2) if color else (3 * (size - 2) + (size - 1 >> 2), size + 1 >> 2)
        most, first = (size << 1) - 1, AT["last_x"] + offset
        x = y = 0
        while x < most and decision(first + (x >> shift)):
            x += 1
        first = AT["last_y"] + offset
        while y < most and decision(first + (y >> shift)):
            y += 1
        if x > 3:
            x = (2 + (x & 1) << (x >> 1) - 1) + code.number((x >> 1) - 1)
        if y > 3:
            y = (2 + (y & 1) << (y >> 1) - 1) + code.number((y >> 1) - 1)
        kind = 0
        if size == 2 or (size == 3 and not color):
            kind = 2 if 6 <= mode <= 14 else 1 if 22 <= mode <= 30 else 0
        if kind == 2:
            x, y = y, x
        squares, inside = _scan(1 << size - 2, kind), _scan(4, kind)
        square = squares.index((x >> 2, y >> 2))
        last = inside.index((x & 3, y & 3))
        coded: set[tuple[int, int]] = set()
        above = 1
        for number in range(square, -1, -1):
            across, down = squares[number]
            beside = ((across + 1, down) in coded) | ((across, down + 1) in coded) << 1
            is_first, is_coded, infers = number == square, True, False
            if not is_first and number:
                is_coded = bool(decision(AT["coded"] + (beside > 0) + 2 * (color > 0)))
                infers = True
            if not is_coded:
                continue
            coded.add((across, down))
            found = [last] if is_first else []
            for place in range(last - 1 if is_first else 15, -1, -1):
                if place == 0 and infers:
                    found.append(0)
                    break
                right, below = inside[place]
                if size == 2:
                    context = _SMALL_MAP[(below << 2) + right]
                elif place == 0 and number == 0:
                    context = 0
                else:
                    context = _NEAR[beside][(below << 2) + right]
                    if color:
                        context += 9 if size == 3 else 12
                    else:
                        context += 3 * (number > 0) + (21 if size > 3 else 15 if kind else 9)
                if decision(AT["some"] + context + 27 * (color > 0)):
                    found.append(place)
                    infers = False
            if found:
                above = self._levels(found, number, color, above, first=is_first)

    def _levels(self, found: list[int], number: int, color: int, above: int, *, first: bool) -> int:
        """The levels of the coefficients of one square; gives what the contexts of the next one follow from."""
        code, decision = self._code, self._code.decision
        group = 0 if number == 0 or color else 2
        if not first and above == 0:
            group += 1
        above, larger = 1, -1
        levels = []
        start = AT["above_1"] + group * 4 + 16 * (color > 0)
        for place in range(min(len(found), 8)):
            is_larger = decision(start + above)
            levels.append(1 + is_larger)
            if is_larger:
                above = 0
                if larger < 0:
                    larger = place
            elif 0 < above < 3:
                above += 1
        if larger >= 0:
            levels[larger] += decision(AT["above_2"] + group + 4 * (color > 0))
        hidden = self._set.hides_signs and found[0] - found[-1] > 3
        for _ in range(len(found) - hidden):
            code.even()
        rice = 0
        for place in range(len(found)):
            level = levels[place] if place < 8 else 1
            if level == ((3 if place == larger else 2) if place < 8 else 1):
                level += self._remaining(rice)
                if level > 3 << rice:
                    rice = min(rice + 1, 4)
        return above

    def _remaining(self, rice: int) -> int:
        code, prefix = self._code, 0
        while code.even():
            prefix += 1
            if prefix > 31:
                raise Misfit
        if prefix <= 3:
            return (prefix << rice) + code.number(rice)
        return ((1 << prefix - 3) + 3 - 1 << rice) + code.number(prefix - 3 + rice)
