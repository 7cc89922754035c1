"""AAC as recordings hold it: frames without any mark or length, whose ends only their syntax tells.

Source: ISO/IEC 14496-3, 4.4.2 (syntax), 4.5.4 (bands), 1.6.2.1 (settings). Low complexity; what other profiles add is refused, extensions
of bandwidth lie in fill elements and are stepped over.
"""

from __future__ import annotations

from functools import cache

from rustfern.formats.media.aac_codes import SCALE, SPECTRAL

RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)
"""Samples a second, by the index that settings give."""
SAMPLES = 1024
"""Of a frame."""
_LONGEST = 8192
"""Bytes that a frame of up to eight channels has at most (4.5.3: 6144 bits a channel)."""
_EIGHT_SHORT = 2
_NOISE, _INTENSITY = 13, (14, 15)
_QUADS = 4
"""Books up to this one code four values with a codeword, the others two."""
_SIGNED = (0, 1, 4, 5)
"""Books, counted from 0, whose codewords hold the signs."""
_ESCAPE = 10
_LONG_BANDS = {
    (0, 1): "0 4 8 12 16 20 24 28 32 36 40 44 48 52 56 64 72 80 88 96 108 120 132 144 156 172 188 212 240 276 320 384 448 512 576 640 704 768 832 896 960 1024",
    (2,): "0 4 8 12 16 20 24 28 32 36 40 44 48 52 56 64 72 80 88 100 112 124 140 156 172 192 216 240 268 304 344 384 424 464 504 544 584 624 664 704 744 784 824 "
    "864 904 944 984 1024",
    (3, 4): "0 4 8 12 16 20 24 28 32 36 40 48 56 64 72 80 88 96 108 120 132 144 160 176 196 216 240 264 292 320 352 384 416 448 480 512 544 576 608 640 672 704 736 "
    "768 800 832 864 896 928 1024",
    (5,): "0 4 8 12 16 20 24 28 32 36 40 48 56 64 72 80 88 96 108 120 132 144 160 176 196 216 240 264 292 320 352 384 416 448 480 512 544 576 608 640 672 704 736 "
    "768 800 832 864 896 928 960 992 1024",
    (6, 7): "0 4 8 12 16 20 24 28 32 36 40 44 52 60 68 76 84 92 100 108 116 124 136 148 160 172 188 204 220 240 260 284 308 336 364 396 432 468 508 552 600 652 704 "
    "768 832 896 960 1024",
    (8, 9, 10): "0 8 16 24 32 40 48 56 64 72 80 88 100 112 124 136 148 160 172 184 196 212 228 244 260 280 300 320 344 368 396 424 456 492 532 572 616 664 716 772 "
    "832 896 960 1024",
    (11, 12): "0 12 24 36 48 60 72 84 96 108 120 132 144 156 172 188 204 220 236 252 268 288 308 328 348 372 396 420 448 476 508 544 580 620 664 712 764 820 880 944 1024",
}  # fmt: skip
_SHORT_BANDS = {
    (0, 1, 2): "0 4 8 12 16 20 24 32 40 48 64 92 128",
    (3, 4, 5): "0 4 8 12 16 20 28 36 44 56 68 80 96 112 128",
    (6, 7): "0 4 8 12 16 20 24 28 36 44 52 64 76 92 108 128",
    (8, 9, 10): "0 4 8 12 16 20 24 28 32 40 48 60 72 88 108 128",
    (11, 12): "0 4 8 12 16 20 24 28 36 44 52 60 72 88 108 128",
}


class _Bad(Exception):
    """This is no frame."""


def alike(rate: int) -> int:
    """The index of the first rate whose bands are those of another one: their frames read alike."""
    return next(group[0] for group in _LONG_BANDS if rate in group)


@cache
def _bands(rate: int, *, is_short: bool) -> tuple[int, ...]:
    table = _SHORT_BANDS if is_short else _LONG_BANDS
    return next(tuple(map(int, text.split())) for group, text in table.items() if rate in group)


@cache
def _book(number: int) -> tuple[int, bytes]:
    """(bits that tell a codeword, for each value of them how many bits it has with its signs; +64 for each value that goes on). Book -1: scale factors."""
    lengths, words = SCALE if number < 0 else SPECTRAL[number]
    digits = len(words) // len(lengths)
    sizes = [int(each, 36) for each in lengths]
    wide = max(sizes)
    table = bytearray(1 << wide)
    unsigned = number >= 0 and number not in _SIGNED
    several = _QUADS if number < _QUADS else 2
    base = round(len(sizes) ** (1 / several))
    for n, size in enumerate(sizes):
        word = int(words[n * digits : (n + 1) * digits], 16)
        values = [n // base**power % base for power in range(several)] if unsigned else []
        more = 64 * sum(value == 16 for value in values) if number == _ESCAPE else 0
        told = size + sum(map(bool, values)) + more
        table[word << (wide - size) : (word + 1) << (wide - size)] = bytes([told]) * (1 << (wide - size))
    return wide, bytes(table)


@cache
def _several(number: int) -> tuple[bytes, bytes]:
    """For each value of 16 bits: how many of them whole codewords of a book take, with their signs, one behind the other; and how many those are."""
    import numpy as np

    wide, told = _book(number)
    table = np.frombuffer(told, np.uint8).astype(np.int64)
    windows = np.arange(65536, dtype=np.int64)
    taken, words = np.zeros(65536, np.int64), np.zeros(65536, np.int64)
    goes_on = np.ones(65536, bool)
    for _ in range(8):
        left = windows << taken & 0xFFFF
        # Of bits that are not in the window nothing is known: a codeword must end before them.
        size = table[left >> (16 - wide)] if wide <= 16 else table[left << (wide - 16)]
        goes_on &= (size > 0) & (size < 64) & (taken + size <= 16)
        taken[goes_on] += size[goes_on]
        words[goes_on] += 1
    return taken.astype(np.uint8).tobytes(), words.astype(np.uint8).tobytes()


class _Bits:
    """The bits of some bytes, from a place on."""

    __slots__ = ("at", "data", "end")

    def __init__(self, data: bytes, at: int) -> None:
        self.data, self.at, self.end = data + b"\0\0\0\0", at, len(data) * 8

    def take(self, count: int) -> int:
        at = self.at
        self.at = at + count
        if self.at > self.end:
            raise _Bad
        first, last = at >> 3, (at + count + 7) >> 3
        return (int.from_bytes(self.data[first:last], "big") >> ((last << 3) - at - count)) & ((1 << count) - 1)


def frame_length(data: bytes, at: int, rate: int, channels: int = 0) -> int:
    """Bytes of the frame that begins at a place; 0 where none does. `rate` is the index of its rate; with `channels` it has just so many."""
    bits = _Bits(data[at : at + _LONGEST], 0)
    found = 0
    try:
        for _ in range(24):
            kind = bits.take(3)
            if kind == 7:
                if found == 0 or (channels and found != channels):
                    return 0
                rest = -bits.at % 8
                return (bits.at + 7) // 8 if not rest or bits.take(rest) == 0 else 0
            if kind in (0, 3):
                bits.take(4)
                _channel(bits, rate, None)
                found += 1
            elif kind == 1:
                bits.take(4)
                shared = _windows(bits, rate) if bits.take(1) else None
                if shared is not None:
                    masked = bits.take(2)
                    if masked == 3:
                        return 0
                    if masked == 1:
                        bits.take(len(shared[0]) * shared[1])
                _channel(bits, rate, shared)
                _channel(bits, rate, shared)
                found += 2
            elif kind == 4:
                bits.take(4)
                aligned, count = bits.take(1), bits.take(8)
                count += bits.take(8) if count == 255 else 0
                bits.at += (-bits.at % 8 if aligned else 0) + 8 * count
            elif kind == 6:
                count = bits.take(4)
                count += bits.take(8) - 1 if count == 15 else 0
                bits.at += 8 * count
            else:
                return 0
            if channels and found > channels:
                return 0
    except _Bad:
        pass
    return 0


_Windows = tuple[tuple[int, ...], int, bool, tuple[int, ...]]
"""(windows of each group, bands, whether they are short, where bands begin)."""


def _windows(bits: _Bits, rate: int) -> _Windows:
    if bits.take(1):
        raise _Bad
    sequence = bits.take(2)
    bits.take(1)
    if sequence == _EIGHT_SHORT:
        most, grouping = bits.take(4), bits.take(7)
        groups = [1]
        for place in range(6, -1, -1):
            if grouping >> place & 1:
                groups[-1] += 1
            else:
                groups.append(1)
        bands = _bands(rate, is_short=True)
        found = tuple(groups), most, True, bands
    else:
        most = bits.take(6)
        if bits.take(1):
            raise _Bad
        bands = _bands(rate, is_short=False)
        found = (1,), most, False, bands
    if most > len(bands) - 1:
        raise _Bad
    return found


def _channel(bits: _Bits, rate: int, shared: _Windows | None) -> None:
    bits.take(8)
    groups, most, is_short, bands = shared or _windows(bits, rate)
    width = 3 if is_short else 5
    more = (1 << width) - 1
    sections: list[tuple[int, int, int, int]] = []
    for group in range(len(groups)):
        band = 0
        while band < most:
            book, length = bits.take(4), 0
            while (part := bits.take(width)) == more:
                length += part
                if length > most:
                    raise _Bad
            length += part
            if not length or band + length > most or book == 12:
                raise _Bad
            sections.append((group, book, band, band + length))
            band += length
    _factors(bits, sections)
    if bits.take(1):
        if is_short:
            raise _Bad
        count = bits.take(2) + 1
        bits.take(6 + 9 * count)
    if bits.take(1):
        _shaping(bits, is_short=is_short)
    if bits.take(1):
        raise _Bad
    _values(bits, groups, sections, bands)


def _factors(bits: _Bits, sections: list[tuple[int, int, int, int]]) -> None:
    wide, table = _book(-1)
    data, at, noisy = bits.data, bits.at, False
    taken, words = _several(-1)
    take = int.from_bytes
    mask = (1 << wide) - 1
    for _, book, first, last in sections:
        if not book:
            continue
        left = last - first
        if book == _NOISE and not noisy:
            noisy, at, left = True, at + 9, left - 1
        while left:
            start = at >> 3
            window = take(data[start : start + 4], "big")
            told = window >> (16 - (at & 7)) & 0xFFFF
            count = words[told]
            if count and count <= left:
                at += taken[told]
                left -= count
                continue
            size = table[window >> (32 - wide - (at & 7)) & mask]
            if not size:
                raise _Bad
            at += size
            left -= 1
    bits.at = at
    if at > bits.end:
        raise _Bad


def _shaping(bits: _Bits, *, is_short: bool) -> None:
    """Temporal noise shaping."""
    for _ in range(8 if is_short else 1):
        filters = bits.take(1 if is_short else 2)
        resolution = bits.take(1) if filters else 0
        for _ in range(filters):
            bits.take(4 if is_short else 6)
            order = bits.take(3 if is_short else 5)
            if order > (7 if is_short else 12):
                raise _Bad
            if order:
                bits.take(1)
                packed = bits.take(1)
                bits.take((3 + resolution - packed) * order)


def _values(
    bits: _Bits, groups: tuple[int, ...], sections: list[tuple[int, int, int, int]], bands: tuple[int, ...]
) -> None:
    data, at, end = bits.data, bits.at, bits.end
    take = int.from_bytes
    for group, book, first, last in sections:
        if not book or book >= _NOISE:
            continue
        wide, table = _book(book - 1)
        mask = (1 << wide) - 1
        shift = 32 - wide
        step = 4 if book <= _QUADS else 2
        taken, words = _several(book - 1)
        left = (bands[last] - bands[first]) * groups[group] // step
        while left:
            start = at >> 3
            told = take(data[start : start + 4], "big") >> (16 - (at & 7)) & 0xFFFF
            count = words[told]
            if count and count <= left:
                at += taken[told]
                left -= count
                continue
            left -= 1
            size = table[int.from_bytes(data[start : start + 4], "big") >> (shift - (at & 7)) & mask]
            if size < 64:
                if not size:
                    raise _Bad
                at += size
            else:
                at = _escaped(bits, at + (size & 63), size >> 6)
        if at > end:
            raise _Bad
    bits.at = at


def _escaped(bits: _Bits, at: int, count: int) -> int:
    """Behind values of 16 and more."""
    bits.at = at
    for _ in range(count):
        more = 4
        while bits.take(1):
            more += 1
            if more > 13:
                raise _Bad
        bits.take(more)
    return bits.at
