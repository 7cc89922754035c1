"""Going on within a block of deflate behind a hole: the block's own codes are read before it, and found again in step behind it.

Source: RFC 1951, 3.2.2 (canonical codes), 3.2.5 (lengths and distances), 3.2.7 (the codes of a block). Huffman codes find their step by themselves after
some symbols wherever reading begins: places at which readings from several beginnings agree are ends of symbols.
"""

from __future__ import annotations

from collections import Counter

import numpy as np

from rustfern.repair.deflate_resume import WINDOW, candidates, inflate_prefix, shifted
from rustfern.repair.interface import Budget

_FARTHEST, _LEAST = 96 << 10, 48
_ORDER = (16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15)
_READINGS, _READ_BYTES, _MOST_SYMBOLS, _SAFE_BITS, _LEAST_MET = 64, 1 << 10, 2500, 64, 20
_HEADER_BYTES = 400
END = 256
LENGTH_EXTRA = (*[0] * 8, *[n for n in range(1, 6) for _ in range(4)], 0)
DISTANCE_EXTRA = (0, 0, *[n for n in range(14) for _ in range(2)])

Codes = dict[tuple[int, int], int]


def continued(raw: bytes, prefix: bytes, broke: int, behind: int, budget: Budget) -> tuple[bytes, int] | None:
    """(deflated bytes that go on behind a hole with the codes of the block in which it lies, the bit of `raw` at which they begin); None if
    that block's beginning, or the step, is not found. The hole begins at byte `broke`, up to which `raw` unpacks to `prefix`, and ends at byte `behind`.
    """
    start = _block_start(raw, prefix, broke, budget)
    if start is None:
        return None
    header = header_of(raw, start)
    if header is None:
        return None
    literals, distances, length = header
    step = _in_step(raw, behind, literals, distances)
    return (_spliced(raw, start, length, step), step) if step is not None else None


def _block_start(raw: bytes, prefix: bytes, broke: int, budget: Budget) -> int | None:
    """The bit at which the block begins in which the hole lies: what unpacks from there to the hole is the end of what is known."""
    head = raw[:broke]
    for bit in candidates(raw, max(broke - _FARTHEST, 0), broke)[::-1]:
        if budget.left() < 0:
            return None
        if int(bit) >= 8 * broke - 8 * _LEAST:
            continue
        piece = shifted(head, int(bit))
        out, used, ended = inflate_prefix(piece, bytes(WINDOW))
        if ended or used < len(piece) or len(out) < _LEAST:
            continue
        # The last bits of the piece are not its own.
        out = out[:-300] if len(out) > 600 else out[: len(out) // 2]
        for tail in range(len(prefix) - len(out) - 600, len(prefix) - len(out) + 1):
            if tail >= 0 and _agrees(out, prefix[tail : tail + len(out)]):
                return int(bit)
    return None


def _agrees(out: bytes, known: bytes) -> bool:
    first = np.frombuffer(out, "u1")
    second = np.frombuffer(known, "u1")
    return (
        len(first) == len(second)
        and bool(((first == second) | (first == 0)).all())
        and int((first != 0).sum()) >= _LEAST // 2
    )


def bits_of(raw: bytes, start: int, count: int) -> list[int]:
    """So many bits from one on."""
    first, skip = divmod(start, 8)
    piece = np.frombuffer(raw[first : first + (count + skip + 7) // 8], "u1")
    told: list[int] = np.unpackbits(piece, bitorder="little")[skip : skip + count].tolist()
    return told


def codes_of(lengths: list[int]) -> Codes:
    """(bits, code) → symbol (RFC 1951, 3.2.2)."""
    counts = [0] * 16
    for length in lengths:
        counts[length] += 1
    counts[0] = code = 0
    following = [0] * 16
    for length in range(1, 16):
        code = (code + counts[length - 1]) << 1
        following[length] = code
    out: Codes = {}
    for symbol, length in enumerate(lengths):
        if length:
            out[length, following[length]] = symbol
            following[length] += 1
    return out


def symbol_of(bits: list[int], at: int, codes: Codes) -> tuple[int, int]:
    """(symbol, where it ends). Raises `IndexError` at the end, `KeyError` where no code fits."""
    code = 0
    for length in range(1, 16):
        code = code << 1 | bits[at]
        at += 1
        if (symbol := codes.get((length, code))) is not None:
            return symbol, at
    raise KeyError(code)


def number_of(bits: list[int], at: int, count: int) -> int:
    return sum(bits[at + n] << n for n in range(count))


def header_of(raw: bytes, start: int) -> tuple[Codes, Codes, int] | None:
    """The codes of a block and how many bits its head has; None if it is none with codes of its own."""
    bits = bits_of(raw, start, 8 * _HEADER_BYTES)
    try:
        if number_of(bits, 1, 2) != 2:
            return None
        many, distances, lengths = number_of(bits, 3, 5) + 257, number_of(bits, 8, 5) + 1, number_of(bits, 13, 4) + 4
        order = [0] * 19
        for n in range(lengths):
            order[_ORDER[n]] = number_of(bits, 17 + 3 * n, 3)
        codes, at, told = codes_of(order), 17 + 3 * lengths, list[int]()
        while len(told) < many + distances:
            symbol, at = symbol_of(bits, at, codes)
            if symbol < 16:
                told.append(symbol)
                continue
            extra, base = ((2, 3), (3, 3), (7, 11))[symbol - 16]
            told += [told[-1] if symbol == 16 else 0] * (base + number_of(bits, at, extra))
            at += extra
    except (IndexError, KeyError):
        return None
    return codes_of(told[:many]), codes_of(told[many : many + distances]), at


def _in_step(raw: bytes, behind: int, literals: Codes, distances: Codes) -> int | None:
    """The first bit behind a hole that is the beginning of a symbol for certain: no symbol has more than 48 bits, so one of the readings from
    each of the first 64 bits is in step from its beginning on, and where all of them have met, all are.
    """
    bits = bits_of(raw, 8 * behind, 8 * _READ_BYTES)
    readings = [read for start in range(_READINGS) if (read := _places(bits, start, literals, distances))]
    if not readings:
        return None
    ends = Counter(read[-1] for read in readings)
    end, many = ends.most_common(1)[0]
    # Some readings end by chance, at a symbol that seems to end the block.
    together = [set(read) for read in readings if read[-1] == end]
    if many < max(len(readings) * 0.8, 3):
        return None
    met = set.intersection(*together)
    return 8 * behind + min(met) if len(met) >= _LEAST_MET else None


def _places(bits: list[int], at: int, literals: Codes, distances: Codes) -> list[int]:
    """Where symbols begin, read from a bit on; none where no code fits."""
    out: list[int] = []
    try:
        while len(out) < _MOST_SYMBOLS and at < len(bits) - _SAFE_BITS:
            out.append(at)
            symbol, at = symbol_of(bits, at, literals)
            if symbol == END:
                break
            if symbol > END:
                at += LENGTH_EXTRA[symbol - 257]
                distance, at = symbol_of(bits, at, distances)
                at += DISTANCE_EXTRA[distance]
    except (IndexError, KeyError):
        return []
    return out


def _spliced(raw: bytes, start: int, length: int, step: int) -> bytes:
    """The head of a block, and behind it what stands from a bit on."""
    head = shifted(raw, start, (length + 7) // 8 + 1)
    whole, rest = divmod(length, 8)
    body = bytearray(shifted(raw, step - rest))
    mask = (1 << rest) - 1
    body[0] = body[0] & ~mask & 0xFF | head[whole] & mask
    # Not the last block: others follow.
    first = head[:whole] if whole else b""
    return bytes((first[0] & 0xFE,)) + first[1:] + bytes(body) if first else bytes(body)
