"""One flipped bit found by the sum: a cyclic redundancy check is linear, so each bit of what was packed has a share in it of its own.

Source: ISO/IEC 8802-3 (the check's polynomial, reflected); RFC 1951, 3.2.3 (blocks) to 3.2.7. A bit that flips within the code of a letter, or the distance of
a copy, mostly makes another one of it, which is wrong wherever the stream copies it on: what unpacks has its length, and a sum that differs by the shares
of those places.
"""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from rustfern.repair.deflate_block import (
    DISTANCE_EXTRA,
    END,
    LENGTH_EXTRA,
    Codes,
    bits_of,
    codes_of,
    header_of,
    number_of,
    symbol_of,
)
from rustfern.repair.interface import Budget

_POLYNOMIAL = 0xEDB88320
_FIXED = codes_of([8] * 144 + [9] * 112 + [7] * 24 + [8] * 8), codes_of([5] * 30)
_LENGTHS = (*range(3, 11), *(n for k in range(1, 6) for n in range((4 << k) + 3, (8 << k) + 3, 1 << k)), 258)
_DISTANCES = (1, 2, *(n for k in range(14) for n in ((2 << k) + 1, (3 << k) + 1)))
_TURN = 4096

Shares = NDArray[np.uint32]


def shares(count: int) -> Shares:
    """(8 * count,) uint32: how each bit of `count` bytes changes the sum. Bit b of the byte with n bytes behind it: element 8 * n + 7 - b."""
    wanted = 8 * count
    told = np.array([_POLYNOMIAL], np.uint32)
    basis = np.uint32(1) << np.arange(32, dtype=np.uint32)
    images: Shares = (
        (basis >> np.uint32(1)) ^ np.where(basis & np.uint32(1), np.uint32(_POLYNOMIAL), np.uint32(0))
    ).astype(np.uint32)
    while len(told) < wanted:
        told = np.concatenate((told, _mapped(images, told)))
        images = _mapped(images, images)
    return told[:wanted]


def _mapped(images: Shares, values: Shares) -> Shares:
    """A linear map, told by the images of its 32 basis vectors, of many values."""
    out = np.zeros(len(values), np.uint32)
    for byte in range(4):
        table = np.zeros(256, np.uint32)
        for bit in range(8):
            table[1 << bit : 2 << bit] = table[: 1 << bit] ^ images[8 * byte + bit]
        out ^= table[(values >> np.uint32(8 * byte)) & np.uint32(255)]
    return out


def stored_flip(length: int, difference: int) -> tuple[int, int] | None:
    """(byte, bit) of stored bytes whose flip changes the sum by `difference`, None if it is not one bit alone."""
    found = np.flatnonzero(shares(length) == np.uint32(difference))
    if len(found) != 1:
        return None
    behind, bit = divmod(int(found[0]), 8)
    return length - 1 - behind, 7 - bit


class _Coding:
    """A block's codes, and of each symbol how long its code is and what one bit makes of it: (which bit of the code, the other symbol)."""

    def __init__(self, codes: Codes) -> None:
        self.codes = codes
        self.lengths = {symbol: length for (length, _), symbol in codes.items()}
        self.others = {
            symbol: [
                (n, other)
                for n in range(length)
                if (other := codes.get((length, code ^ 1 << length - 1 - n))) is not None
            ]
            for (length, code), symbol in codes.items()
        }


class _Token(msgspec.Struct, frozen=True):
    """A letter, or a copy: its place, its bit in the stream, and how it was told (of a copy: the code of its distance; and its length, as bit,
    symbol and codes)."""

    place: int
    bit: int
    symbol: int
    coding: _Coding
    length: int = 0
    distance: int = 0
    told: tuple[int, int, _Coding] | None = None


def packed_flips(packed: bytes, out: bytes, difference: int, budget: Budget) -> list[int]:
    """The bits of a deflated stream that unpacks to `out`, of which one may have flipped within the code of a letter or the distance of a copy:
    with it the sum changes by `difference`.
    """
    tokens = _tokens(packed, len(out), budget)
    if tokens is None:
        return []
    seen = np.frombuffer(out, np.uint8)
    # What a bit of a byte has a share in: its own place, and all places to which the stream copies it later.
    share = np.ascontiguousarray(shares(len(out)).reshape(len(out), 8)[::-1, ::-1])
    changes = np.uint32(1) << np.arange(8, dtype=np.uint32)
    found: list[int] = []
    places, letters = [], []
    for turn, token in enumerate(reversed(tokens)):
        if turn % _TURN == 0 and budget.left() < 0:
            return []
        place, length = token.place, token.length
        if not length:
            places.append(place)
            letters.append(token)
            continue
        mine = share[place : place + length]
        steps, bits = _other_distances(token)
        if len(steps):
            each = np.arange(length, dtype=np.int64)
            source = place - steps[:, None] + each[None, :] % steps[:, None]
            differing = seen[source] ^ seen[place : place + length]
            weighed = np.where(differing[:, :, None] & changes[None, None, :], mine[None, :, :], np.uint32(0))
            total = np.bitwise_xor.reduce(weighed.reshape(len(steps), -1), axis=1)
            found += [bits[n] for n in np.flatnonzero(total == np.uint32(difference))]
        if token.distance >= length:
            share[place - token.distance : place - token.distance + length] ^= mine
        else:
            for each_place in range(place + length - 1, place - 1, -1):
                share[each_place - token.distance] ^= share[each_place]
    if places:
        summed = share[np.array(places)]
        for change in range(1, 256):
            total = np.bitwise_xor.reduce(summed[:, [bit for bit in range(8) if change >> bit & 1]], axis=1)
            for at in np.flatnonzero(total == np.uint32(difference)):
                token = letters[int(at)]
                found += [
                    token.bit + n for n, other in token.coding.others[token.symbol] if other == token.symbol ^ change
                ]
    return found


def length_flips(packed: bytes, size: int, difference: int, budget: Budget) -> list[int]:
    """The bits of a deflated stream that unpacks to `size` bytes, each of which makes a copy of it longer by `difference` (or shorter)."""
    found: list[int] = []
    for token in _tokens(packed, size, budget) or []:
        if token.told is not None:
            at, symbol, coding = token.told
            extra = LENGTH_EXTRA[symbol - 257]
            more = token.length - _LENGTHS[symbol - 257]
            found += [at + coding.lengths[symbol] + n for n in range(extra) if (more ^ 1 << n) - more == difference]
            found += [
                at + n
                for n, other in coding.others[symbol]
                if END < other < 286 and LENGTH_EXTRA[other - 257] == extra
                and _LENGTHS[other - 257] - _LENGTHS[symbol - 257] == difference
            ]  # fmt: skip
    return found


def _other_distances(token: _Token) -> tuple[NDArray[np.int64], list[int]]:
    """The distances that one bit makes of that of a copy, and which bit each."""
    length, extra = token.coding.lengths[token.symbol], DISTANCE_EXTRA[token.symbol]
    base = _DISTANCES[token.symbol]
    more = token.distance - base
    made = [(base + (more ^ 1 << n), token.bit + length + n) for n in range(extra)]
    made += [
        (_DISTANCES[other] + more, token.bit + n)
        for n, other in token.coding.others[token.symbol]
        if other < len(_DISTANCES) and DISTANCE_EXTRA[other] == extra
    ]
    made = [(distance, bit) for distance, bit in made if distance <= token.place]
    return np.array([distance for distance, _ in made], np.int64), [bit for _, bit in made]


def _tokens(packed: bytes, size: int, budget: Budget) -> list[_Token] | None:
    """The letters and copies of a stream; None if it does not unpack to so many bytes."""
    bits = bits_of(packed, 0, 8 * len(packed))
    tokens: list[_Token] = []
    at = done = 0
    is_last = False
    try:
        while not is_last:
            is_last = bool(bits[at])
            kind = number_of(bits, at + 1, 2)
            if kind == 0:
                at = (at + 3 + 7) // 8 * 8
                many = number_of(bits, at, 16)
                done += many
                at += 32 + 8 * many
                continue
            head = header_of(packed, at) if kind == 2 else (*_FIXED, 3) if kind == 1 else None
            if head is None:
                return None
            codes, distances, length = head
            letters, steps = _Coding(codes), _Coding(distances)
            at += length
            while True:
                if len(tokens) % _TURN == 0 and budget.left() < 0:
                    return None
                begin = at
                symbol, at = symbol_of(bits, at, codes)
                if symbol < END:
                    tokens.append(_Token(done, begin, symbol, letters))
                    done += 1
                    continue
                if symbol == END:
                    break
                extra = LENGTH_EXTRA[symbol - 257]
                many = _LENGTHS[symbol - 257] + number_of(bits, at, extra)
                told = (begin, symbol, letters)
                begin = at + extra
                step, at = symbol_of(bits, begin, distances)
                distance = _DISTANCES[step] + number_of(bits, at, DISTANCE_EXTRA[step])
                at += DISTANCE_EXTRA[step]
                if distance > done or done + many > size:
                    return None
                tokens.append(_Token(done, begin, step, steps, many, distance, told))
                done += many
    except (IndexError, KeyError):
        return None
    return tokens if done == size else None
