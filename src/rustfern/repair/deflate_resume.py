"""Taking up deflate again behind a hole: the next block with its own codes is sought bit by bit.

Source: RFC 1951, section 3.2.7 (blocks with dynamic Huffman codes). What a block refers to in front of the hole is not known: it stands as zero
bytes in what comes back.
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from rustfern.repair.interface import Budget

WINDOW = 1 << 15
_REGION = 1 << 17
_PROBE, _PROVEN, _CERTAIN = 1 << 12, 400, 2000
_HEADER_BITS = 17 + 19 * 3
_MAX_PROBES, _LAST_BYTES = 20_000, 300
_BETWEEN = re.compile(rb"[<> /\"\0]+")
_LEAST_WORD, _LEAST_KNOWN, _SCORED = 4, 12, 1 << 11


def inflate_prefix(data: bytes | memoryview, dictionary: bytes = b"", most: int = 1 << 30) -> tuple[bytes, int, bool]:
    """(what deflated bytes unpack to as far as they go, how many of them were used, whether they end properly). A probe of 64 bytes a time
    near the place where they break gets all that stands before it.
    """
    unpack = zlib.decompressobj(-15, zdict=dictionary) if dictionary else zlib.decompressobj(-15)
    out, at, step = bytearray(), 0, 1 << 16
    view = memoryview(data)
    while at < len(view) and len(out) < most:
        before = unpack.copy()
        try:
            out += unpack.decompress(view[at : at + step])
        except zlib.error:
            if step == 1:
                break
            unpack, step = before, max(step >> 4, 1)
            continue
        at += step
        if unpack.eof:
            return bytes(out), min(at, len(view)) - len(unpack.unused_data), True
    return bytes(out), min(at, len(view)), False


def candidates(data: bytes, start: int, end: int) -> NDArray[np.int64]:
    """Bits (from the start of `data`) between two bytes at which a block with codes of its own may begin: the code of its code lengths is
    complete (RFC 1951, 3.2.7), which chance gives to one place in some hundreds.
    """
    raw = np.frombuffer(data, "u1")[start : end + _HEADER_BITS // 8 + 2]
    bits = np.unpackbits(raw, bitorder="little")
    count = len(bits) - _HEADER_BITS
    if count <= 0:
        return np.zeros(0, np.int64)
    last = min(count, (end - start) * 8)
    first = np.arange(last)
    lengths = bits[:-2] + 2 * bits[1:-1] + 4 * bits[2:]
    weight = np.array([0, 64, 32, 16, 8, 4, 2, 1], np.int16)[lengths]
    five = bits[:-4].astype(np.uint8)
    for n in range(1, 5):
        five = five + (bits[n : len(bits) - 4 + n] << n)
    fits = (
        (bits[1 : last + 1] == 0) & (bits[2 : last + 2] == 1) & (five[3 : last + 3] <= 29) & (five[8 : last + 8] <= 29)
    )
    first = first[fits]
    many = (bits[first + 13] + 2 * bits[first + 14] + 4 * bits[first + 15] + 8 * bits[first + 16]).astype(np.int64) + 4
    total = np.zeros(len(first), np.int32)
    for n in range(19):
        total += np.where(n < many, weight[first + 17 + 3 * n], 0)
    places: NDArray[np.int64] = first[total == 128].astype(np.int64) + 8 * start
    return places


def shifted(data: bytes, bit: int, most: int | None = None) -> bytes:
    """The bytes from a bit on, as if it were the first of a byte."""
    start, shift = divmod(bit, 8)
    piece = data[start : None if most is None else start + most + 1]
    if not shift:
        return piece
    raw = np.frombuffer(piece, "u1").astype(np.uint16)
    after = np.append(raw[1:], np.uint16(0))
    return ((raw >> shift) | (after << (8 - shift)) & 0xFF).astype("u1").tobytes()


def resume(data: bytes, start: int, budget: Budget) -> Iterator[tuple[int, bytes, bool]]:
    """Stretches that unpack again behind a break at byte `start`: (the bit where each begins, its bytes, whether it reaches the end of the
    stream). What is not known is zero bytes. A stretch counts if it reads as text for some hundred bytes.
    """
    at, probes = start, 0
    while at < len(data):
        end = min(at + _REGION, len(data))
        for bit in candidates(data, at, end):
            probes += 1
            if budget.left() < 0 or probes > _MAX_PROBES:
                return
            probe, _, _ = _inflate(shifted(data, int(bit), _PROBE))
            if len(probe) < _PROVEN or not (_reads(probe) or (len(probe) >= _CERTAIN and reads_as_text(probe))):
                continue
            whole, used, ended = _inflate(shifted(data, int(bit)))
            # What the last bits mean is not known where they stop.
            whole = whole if ended else whole[:-_LAST_BYTES]
            if not reads_as_text(whole[-_PROVEN:]):
                whole = whole[: _sound(whole)]
            yield int(bit), whole, ended
            if ended:
                return
            at = max(int(bit) // 8 + used, int(bit) // 8 + 1)
            break
        else:
            at = end


def hole_length(prefix: bytes, packed: bytes, expected: int, budget: Budget) -> int | None:
    """How many bytes, unpacked, are missing between what stands before a hole and what is packed behind it: with the right length, references
    to what stands before give whole words that stood there too. Lengths around the `expected` one are tried. None if none stands out.
    """
    known_words = frozenset(word for word in _BETWEEN.split(prefix[-4 * WINDOW :]) if len(word) >= _LEAST_WORD)
    if len(prefix) < _PROVEN:
        return None
    piece = packed[:_PROBE]
    best, second, where = 0, 0, None
    before = prefix[-WINDOW:].rjust(WINDOW, b"\0") + bytes(WINDOW)
    for length in range(max(expected // 2 - _PROVEN, 0), min(2 * expected + 4 * _PROVEN, WINDOW - _PROVEN)):
        if budget.left() < 0:
            return None
        try:
            out = zlib.decompressobj(-15, zdict=before[length : length + WINDOW]).decompress(piece, _SCORED)
        except zlib.error:
            return None
        score = sum(word in known_words for word in _BETWEEN.split(out))
        if score > best:
            best, second, where = score, best, length
        elif score > second:
            second = score
    return where if best >= _LEAST_KNOWN and best * 4 >= second * 5 else None


def _inflate(data: bytes) -> tuple[bytes, int, bool]:
    return inflate_prefix(data, bytes(WINDOW))


_PRINTED = bytes(1 if n in b"\t\n\r\0" or n >= 32 else 0 for n in range(256))


def reads_as_text(data: bytes) -> bool:
    """Whether all that is known of bytes are signs of a text: so many that unpack without a fault are no chance."""
    return bool(data) and not data.translate(_PRINTED).count(0)


def _reads(data: bytes) -> bool:
    """Whether bytes may be a text in UTF-8 some of whose signs are not known (zeros): nothing else below blanks, some ASCII letters."""
    if not reads_as_text(data):
        return False
    known = data.replace(b"\0", b"")
    plain = sum(known.count(bytes((n,))) for n in b"etaoinr<> /")
    high = len(known) - len(known.decode("ascii", "ignore"))
    return len(known) >= 40 and plain * 8 >= len(known) and high * 2 <= len(known)


def _sound(data: bytes) -> int:
    """Up to where bytes read as text."""
    step = _PROVEN
    for at in range(0, len(data), step):
        if data[at : at + step].translate(_PRINTED).count(0):
            return at
    return len(data)


def inflate_zlib(data: bytes, most: int = 1 << 30) -> tuple[bytes, bool]:
    """What a stream of zlib (RFC 1950) unpacks to as far as it goes, and whether its sum fits; one whose head is damaged as plain deflate."""
    unpack = zlib.decompressobj()
    try:
        out = unpack.decompress(data, most)
        if unpack.eof:
            return out, True
    except zlib.error:
        pass
    out, used, ended = inflate_prefix(data[2:], most=most)
    return out, ended and zlib.adler32(out).to_bytes(4, "big") == data[2 + used : 6 + used]
