"""Arithmetic code as H.264 and H.265 have it, written: decisions by contexts, and the end.

Source: ITU-T H.264 9.3.4.2 to 9.3.4.5, 9.3.1.1; H.265 9.3.4.3 and 9.3.2.2.
"""

from __future__ import annotations

from rustfern.formats.media.hevc_code import AFTER_LESS_LIKELY, AFTER_LIKELY, LESS_LIKELY


def state_of(before: int) -> int:
    """A context's state by the value that a table and the quality step give (9.3.1.1): its lowest bit is the likely decision."""
    clipped = min(max(before, 1), 126)
    return (clipped - 64) << 1 | 1 if clipped > 63 else (63 - clipped) << 1


class CodeWriter:
    """Decisions, as bits: the last one stands for the end of what holds them too."""

    def __init__(self, states: bytearray) -> None:
        self.states = states
        self._bits: list[int] = []
        self._low, self._range, self._waiting, self._is_first = 0, 510, 0, True

    def decision(self, context: int, value: int) -> None:
        """One decision by a context."""
        state = self.states[context]
        less = LESS_LIKELY[(state >> 1) * 4 + (self._range >> 6 & 3)]
        self._range -= less
        if value == state & 1:
            self.states[context] = AFTER_LIKELY[state]
        else:
            self._low += self._range
            self._range = less
            self.states[context] = AFTER_LESS_LIKELY[state]
        self._settle()

    def end(self, *, is_last: bool) -> None:
        """The decision whether this is the end."""
        self._range -= 2
        if not is_last:
            self._settle()
            return
        self._low += self._range
        self._range = 2
        self._settle()
        self._put(self._low >> 9 & 1)
        self._bits += [self._low >> 8 & 1, 1]

    def _settle(self) -> None:
        while self._range < 256:
            if self._low < 256:
                self._put(0)
            elif self._low >= 512:
                self._low -= 512
                self._put(1)
            else:
                self._low -= 256
                self._waiting += 1
            self._range <<= 1
            self._low <<= 1

    def _put(self, bit: int) -> None:
        if self._is_first:
            self._is_first = False
        else:
            self._bits.append(bit)
        self._bits += [1 - bit] * self._waiting
        self._waiting = 0

    def whole_bytes(self) -> bytes:
        """What was written, filled up with zeros to whole bytes; without the bytes that guard against start codes."""
        text = "".join(map(str, self._bits))
        text += "0" * (-len(text) % 8)
        return int(text or "0", 2).to_bytes(len(text) // 8, "big")
