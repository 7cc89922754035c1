"""The arithmetic code of H.265 pictures: states of contexts, decisions, and whether a code ends where its bytes do.

Source: ITU-T H.265 9.3 (tables 9-5 to 9-37: where contexts start; table 9-46: ranges; 9.3.4.3: decisions).
"""

from __future__ import annotations

from copy import copy
from functools import cache

LESS_LIKELY = bytes.fromhex(
    "80b0d0f080a7c5e3809ebbd87b96b2cd748ea9c36f87a0b9698098af647a90a65f74899e5a6e829655687b8e516375874d5e6f804959697a4555647442505f6e"
    "3e4c5a683b4856633845515e35414d59333e4955303b45502e38424c2b353f4829323b4527303841252d363e232b333b2129303820272e351e252b321d232930"
    "1b21272d1a1f252b181e2329171c2127161b2025151a1e2314181d2113171b1f12161a1e1115191c1014171b0f1316190e1215180e1114170d1013160c0f1215"
    "0c0e11140b0e10130b0d0f120a0c0f110a0c0e10090b0d0f090b0c0e080a0c0e08090b0d07090b0c07090a0c07080a0b0608090b0607090a0607080902020202"
)
"""The less likely part of the range, by state and by how wide the range is."""
_AFTER_LESS = (
    0, 0, 1, 2, 2, 4, 4, 5, 6, 7, 8, 9, 9, 11, 11, 12, 13, 13, 15, 15, 16, 16, 18, 18, 19, 19, 21, 21, 22, 22, 23, 24, 24, 25, 26, 26, 27, 27, 28, 29,
    29, 30, 30, 30, 31, 32, 32, 33, 33, 33, 34, 34, 35, 35, 35, 36, 36, 36, 37, 37, 37, 38, 38, 63,
)  # fmt: skip
AFTER_LESS_LIKELY = bytes((state & 1) ^ (state < 2) | _AFTER_LESS[state >> 1] << 1 for state in range(128))
AFTER_LIKELY = bytes(state if state >= 124 else state + 2 for state in range(128))
"""The next state behind an unlikely and a likely decision; its lowest bit is the likely one."""

_COEFFICIENTS = (
    (110, 110, 124, 125, 140, 153, 125, 127, 140, 109, 111, 143, 127, 111, 79, 108, 123, 63),
    (125, 110, 94, 110, 95, 79, 125, 111, 110, 78, 110, 111, 111, 95, 94, 108, 123, 108),
    (125, 110, 124, 110, 95, 94, 125, 111, 111, 79, 125, 126, 111, 111, 79, 108, 123, 93),
)
_STARTS: dict[str, tuple[tuple[int, ...], ...]] = {
    "merge": ((153,),) * 3,
    "filter": ((200,), (185,), (160,)),
    "split": ((139, 141, 157), (107, 139, 126), (107, 139, 126)),
    "taken": ((154,) * 3, (197, 185, 201), (197, 185, 201)),
    "step": ((154, 154),) * 3,
    "inside": ((154,), (149,), (134,)),
    "part": ((184, 154, 154, 154), (154, 139, 154, 154), (154, 139, 154, 154)),
    "mode": ((184,), (154,), (183,)),
    "chroma": ((63,), (152,), (152,)),
    "motion": ((154,), (110,), (154,)),
    "which": ((154,), (122,), (137,)),
    "lists": ((154,) * 5, (95, 79, 63, 31, 31), (95, 79, 63, 31, 31)),
    "other": ((154, 154), (153, 153), (153, 153)),
    "vector": ((154, 154), (140, 198), (169, 198)),
    "guess": ((154,), (168,), (168,)),
    "rest": ((154,), (79,), (79,)),
    "tree": ((153, 138, 138), (124, 138, 94), (224, 167, 122)),
    "luma": ((111, 141), (153, 111), (153, 111)),
    "color": ((94, 138, 182, 154, 154), (149, 107, 167, 154, 154), (149, 92, 167, 154, 154)),
    "skip": ((139, 139),) * 3,
    "last_x": _COEFFICIENTS,
    "last_y": _COEFFICIENTS,
    "coded": ((91, 171, 134, 141), (121, 140, 61, 154), (121, 140, 61, 154)),
    "some": (
        (111, 111, 125, 110, 110, 94, 124, 108, 124, 107, 125, 141, 179, 153, 125, 107, 125, 141, 179, 153, 125, 107, 125, 141, 179, 153, 125, 140, 139, 182,
            182, 152, 136, 152, 136, 153, 136, 139, 111, 136, 139, 111),
        (155, 154, 139, 153, 139, 123, 123, 63, 153, 166, 183, 140, 136, 153, 154, 166, 183, 140, 136, 153, 154, 166, 183, 140, 136, 153, 154, 170, 153, 123,
            123, 107, 121, 107, 121, 167, 151, 183, 140, 151, 183, 140),
        (170, 154, 139, 153, 139, 123, 123, 63, 124, 166, 183, 140, 136, 153, 154, 166, 183, 140, 136, 153, 154, 166, 183, 140, 136, 153, 154, 170, 153, 138,
            138, 122, 121, 122, 121, 167, 151, 183, 140, 151, 183, 140),
    ),
    "above_1": (
        (140, 92, 137, 138, 140, 152, 138, 139, 153, 74, 149, 92, 139, 107, 122, 152, 140, 179, 166, 182, 140, 227, 122, 197),
        (154, 196, 196, 167, 154, 152, 167, 182, 182, 134, 149, 136, 153, 121, 136, 137, 169, 194, 166, 167, 154, 167, 137, 182),
        (154, 196, 167, 167, 154, 152, 167, 182, 182, 134, 149, 136, 153, 121, 136, 122, 169, 208, 166, 167, 154, 152, 167, 182),
    ),
    "above_2": ((138, 153, 136, 167, 152, 152), (107, 167, 91, 122, 107, 167), (107, 167, 91, 107, 107, 167)),
}  # fmt: skip
"""What the contexts of each decision start from, in pictures of each kind."""
AT: dict[str, int] = {}
_FIRST: tuple[list[int], list[int], list[int]] = ([], [], [])
for _name, _values in _STARTS.items():
    AT[_name] = len(_FIRST[0])
    for _kind in range(3):
        _FIRST[_kind].extend(_values[_kind])


@cache
def contexts(kind: int, quality: int) -> bytes:
    """The states at the start of a part, by its quality step (9.3.2.2)."""
    found = bytearray()
    for value in _FIRST[kind]:
        slope, offset = (value >> 4) * 5 - 45, ((value & 15) << 3) - 16
        state = min(max((slope * min(max(quality, 0), 51) >> 4) + offset, 1), 126)
        found.append((state - 64) << 1 | 1 if state > 63 else (63 - state) << 1)
    return bytes(found)


class Misfit(Exception):
    """The code says what pictures of these settings cannot."""


class Code:
    """The code of one row, or of a whole picture."""

    __slots__ = ("_at", "_bits", "_offset", "_range", "states")

    def __init__(self, data: bytes, states: bytearray) -> None:
        whole = data.replace(b"\0\0\3", b"\0\0")
        text = format(int.from_bytes(b"\1" + whole, "big"), "b")[1:]
        self._bits = text.encode().translate(_BITS)
        self._range, self._offset, self._at = 510, int(text[:9] or "0", 2), 9
        self.states = states

    @property
    def left(self) -> int:
        """Bits that were not read yet."""
        return len(self._bits) - self._at

    def again(self) -> Code:
        """The same, as far as it was read."""
        other = copy(self)
        other.states = self.states[:]
        return other

    def decision(self, context: int) -> int:
        """One decision by a context."""
        states = self.states
        state = states[context]
        wide = self._range
        less = LESS_LIKELY[(state >> 1) * 4 + (wide >> 6 & 3)]
        wide -= less
        if self._offset < wide:
            states[context] = AFTER_LIKELY[state]
            if wide < 256:
                wide <<= 1
                self._offset = self._offset << 1 | self._bits[self._at]
                self._at += 1
            self._range = wide
            return state & 1
        offset = self._offset - wide
        states[context] = AFTER_LESS_LIKELY[state]
        while less < 256:
            less <<= 1
            offset = offset << 1 | self._bits[self._at]
            self._at += 1
        self._range, self._offset = less, offset
        return state & 1 ^ 1

    def even(self) -> int:
        """One decision that is as likely as not."""
        self._offset = self._offset << 1 | self._bits[self._at]
        self._at += 1
        if self._offset >= self._range:
            self._offset -= self._range
            return 1
        return 0

    def number(self, count: int) -> int:
        """So many of these, as a number."""
        value = 0
        for _ in range(count):
            value = value << 1 | self.even()
        return value

    def is_end(self) -> bool:
        """The decision whether this is the end."""
        self._range -= 2
        if self._offset >= self._range:
            return True
        if self._range < 256:
            self._range <<= 1
            self._offset = self._offset << 1 | self._bits[self._at]
            self._at += 1
        return False

    def is_used_up(self) -> bool:
        """Whether the bytes end here too: behind the end stand a one and the zeros up to the next whole byte (9.3.2.5, 7.3.2.11)."""
        last = self._at - 1
        return (
            last < len(self._bits)
            and self._bits[last] == 1
            and len(self._bits) - last <= 8
            and not any(self._bits[last + 1 :])
        )


_BITS = bytes(n & 1 for n in range(256))
