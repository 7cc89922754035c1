"""How long a frame of ALAC sound is, told by walking through its codes; nothing is decoded.

Source: the open reference description of ALAC (magic cookie; elements of a frame; adaptive Golomb codes of `dyn_decomp`).
"""

from __future__ import annotations

import struct

import msgspec

_SINGLE, _PAIR, _COUPLING, _LOW, _DATA, _PROGRAM, _FILL, _END = range(8)
_MEAN_SHIFT, _ZERO_SHIFT, _LONGEST_PREFIX, _LEAST_MEAN = 9, 2, 9, 0xFFFF
_MOST_FRAMES, _PAD, _WINDOW = 1 << 14, bytes(16), (1 << 64) - 1


class Settings(msgspec.Struct, frozen=True):
    """What the cookie tells: samples of a frame, bits of a sample, the parameters of the codes, channels, samples a second."""

    samples: int
    bits: int
    scale: int
    start: int
    limit: int
    channels: int
    rate: int


def settings_in(entry: bytes) -> Settings | None:
    """The settings in a description of sound (ISO 14496-12, 8.5.2: an entry of `stsd`); None where there are none that can be."""
    at = 31
    # In the older form of the container the name of the coding stands before the box of that name.
    while (at := entry.find(b"alac", at + 1)) >= 0 and at + 32 <= len(entry):
        samples, _, bits, scale, start, limit, channels, _, _, _, rate = struct.unpack_from(
            ">IBBBBBBHIII", entry, at + 8
        )
        if 0 < samples <= _MOST_FRAMES and bits in (16, 20, 24, 32) and 1 <= channels <= 8 and 0 < limit <= 16:
            return Settings(samples, bits, scale, start, limit, channels, rate)
    return None


class _Stops(Exception):
    """The codes cannot be, or the data stop."""


class _Walk:
    def __init__(self, data: bytes, settings: Settings) -> None:
        self.data, self.end, self.at = data + _PAD, len(data) * 8, 0
        self.settings = settings

    def take(self, count: int) -> int:
        """The next bits (32 at most)."""
        place = self.at >> 3
        value = int.from_bytes(self.data[place : place + 8], "big") >> (64 - count - (self.at & 7)) & ((1 << count) - 1)
        self.at += count
        if self.at > self.end:
            raise _Stops
        return value

    def element(self, channels: int) -> None:
        """One channel, or a pair."""
        settings = self.settings
        if self.take(4) > 7 or self.take(12):
            raise _Stops
        is_short, shifted, is_plain = self.take(1), self.take(2), self.take(1)
        samples = self.take(32) if is_short else settings.samples
        if shifted == 3 or not 0 < samples <= settings.samples:
            raise _Stops
        if is_plain:
            self.skip(samples * channels * settings.bits)
            return
        bits = settings.bits - 8 * shifted + channels - 1
        self.skip(16)
        factors = []
        for _ in range(channels):
            mode, _, factor, coefficients = self.take(4), self.take(4), self.take(3), self.take(5)
            if mode > 15 or mode not in (0, 15):
                raise _Stops
            factors.append(factor)
            self.skip(16 * coefficients)
        if shifted:
            self.skip(8 * shifted * channels * samples)
        for factor in factors:
            self.codes(samples, factor, bits)

    def skip(self, count: int) -> None:
        """Pass over bits."""
        self.at += count
        if self.at > self.end:
            raise _Stops

    def codes(self, samples: int, factor: int, bits: int) -> None:
        """The codes of the samples of one channel."""
        settings, data, end, at = self.settings, self.data, self.end, self.at
        scale, limit, mean = settings.scale * factor // 4, settings.limit, settings.start
        ones, zero, done = (1 << limit) - 1, 0, 0
        while done < samples:
            width = min((mean >> _MEAN_SHIFT) + 3, 1 << 30).bit_length() - 1
            width = min(width, limit)
            value, at = _code(data, at, width, (1 << width) - 1, bits)
            if at > end:
                raise _Stops
            done += 1
            mean = scale * (value + zero) + mean - ((scale * mean) >> _MEAN_SHIFT)
            if value > _LEAST_MEAN:
                mean = _LEAST_MEAN
            zero = 0
            if mean << _ZERO_SHIFT < 1 << _MEAN_SHIFT and done < samples:
                zero = 1
                width = (8 - mean.bit_length() if mean else 8) + ((mean + 16) >> 6)
                run, at = _code(data, at, width, (1 << width) - 1 & ones, 16)
                if at > end:
                    raise _Stops
                done += run
                if done > samples:
                    raise _Stops
                if run >= 65535:
                    zero = 0
                mean = 0
        self.at = at


def _code(data: bytes, at: int, width: int, mask: int, bits: int) -> tuple[int, int]:
    """The value of the code at a bit, and where the next one begins: ones and a zero, then `width` bits; after too many ones the value itself."""
    place = at >> 3
    window = int.from_bytes(data[place : place + 8], "big") << (at & 7) & _WINDOW
    prefix = 64 - (~window & _WINDOW).bit_length()
    if prefix >= _LONGEST_PREFIX:
        return window >> (64 - _LONGEST_PREFIX - bits) & ((1 << bits) - 1), at + _LONGEST_PREFIX + bits
    at += prefix + 1
    if width <= 1:
        return prefix * mask, at
    rest = window >> (63 - prefix - width) & ((1 << width) - 1)
    return (prefix * mask + rest - 1, at + width) if rest >= 2 else (prefix * mask, at + width - 1)


def frame_length(data: bytes, settings: Settings) -> int:
    """Bytes of the frame that some bytes begin with; 0 where none does."""
    walk = _Walk(data, settings)
    channels = 0
    try:
        while (kind := walk.take(3)) != _END:
            if kind in (_SINGLE, _LOW):
                walk.element(1)
                channels += 1
            elif kind == _PAIR:
                walk.element(2)
                channels += 2
            elif kind == _FILL:
                count = walk.take(4)
                walk.skip(8 * (count if count < 15 else 14 + walk.take(8)))
            elif kind == _DATA:
                walk.skip(4)
                is_aligned, count = walk.take(1), walk.take(8)
                count += walk.take(8) if count == 255 else 0
                walk.at += -walk.at % 8 if is_aligned else 0
                walk.skip(8 * count)
            else:
                return 0
    except _Stops:
        return 0
    length = (walk.at + 7) >> 3
    rest = length * 8 - walk.at
    is_padded = not data[length - 1] & ((1 << rest) - 1)
    return length if channels == settings.channels and is_padded else 0
