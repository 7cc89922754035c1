"""AES and RC4, as documents that open for everybody are encrypted with them. Where the package `cryptography` is there, it does the work faster.

Sources: FIPS 197 (AES: 4.2 arithmetic, 5.1 cipher, 5.2 key expansion, 5.3 inverse cipher), NIST SP 800-38A (6.2 cipher block chaining), RFC 6229 (RC4).
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]


def aes_decrypt(key: bytes, start: bytes, data: bytes) -> bytes:
    """Undo AES in cipher block chaining: a key of 16, 24 or 32 bytes, the block before the first, whole blocks. Raises `ValueError`."""
    _blocks(start, data)
    cipher = _aes(key, start)
    return own_aes_decrypt(key, start, data) if cipher is None else bytes(cipher.decryptor().update(data))


def aes_encrypt(key: bytes, start: bytes, data: bytes) -> bytes:
    """The other way round. Raises `ValueError`."""
    _blocks(start, data)
    cipher = _aes(key, start)
    return own_aes_encrypt(key, start, data) if cipher is None else bytes(cipher.encryptor().update(data))


def _aes(key: bytes, start: bytes) -> Any:
    """AES in cipher block chaining by the package, None where it is not installed. Raises `ValueError`."""
    try:
        from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
    except ImportError:
        return None
    return Cipher(algorithms.AES(key), modes.CBC(start))


def rc4(key: bytes, data: bytes) -> bytes:
    """RC4, which is its own inverse. Raises `ValueError`."""
    try:
        from cryptography.hazmat.decrepit.ciphers.algorithms import ARC4
        from cryptography.hazmat.primitives.ciphers import Cipher
    except ImportError:
        return own_rc4(key, data)
    return Cipher(ARC4(key), mode=None).encryptor().update(data)


# --- arithmetic ---------------------------------------------------------------------------------------------------------


def _times(one: int, other: int) -> int:
    """The product of two bytes. Source: FIPS 197, 4.2."""
    product = 0
    while other:
        if other & 1:
            product ^= one
        one = (one << 1) ^ (0x11B if one & 0x80 else 0)
        other >>= 1
    return product


@cache
def _boxes() -> tuple[Bytes, Bytes]:
    """What bytes are put for, and back. Source: FIPS 197, 5.1.1 and 5.3.2."""
    box = np.zeros(256, np.uint8)
    inverse: dict[int, int] = {}
    for byte in range(1, 256):
        if byte not in inverse:
            # The 254th power is the inverse.
            power, left, base = 1, 254, byte
            while left:
                power = _times(power, base) if left & 1 else power
                base, left = _times(base, base), left >> 1
            inverse[byte], inverse[power] = power, byte
    for byte in range(256):
        turned = inverse.get(byte, 0)
        box[byte] = 0x63
        for shift in range(5):
            box[byte] ^= ((turned << shift) | (turned >> (8 - shift))) & 0xFF
    back = np.zeros(256, np.uint8)
    back[box] = np.arange(256, dtype=np.uint8)
    return box, back


@cache
def _multiples(factor: int) -> Bytes:
    return np.array([_times(byte, factor) for byte in range(256)], np.uint8)


def _round_keys(key: bytes) -> Bytes:
    """The keys of all rounds, 16 bytes each. Source: FIPS 197, 5.2."""
    if len(key) not in (16, 24, 32):
        raise ValueError("a key of AES has 16, 24 or 32 bytes")
    box, count = _boxes()[0], len(key) // 4
    words = [list(key[at : at + 4]) for at in range(0, len(key), 4)]
    constant = 1
    for number in range(count, 4 * (count + 7)):
        word = list(words[-1])
        if number % count == 0:
            word = [int(box[byte]) for byte in (*word[1:], word[0])]
            word[0] ^= constant
            constant = _times(constant, 2)
        elif count > 6 and number % count == 4:
            word = [int(box[byte]) for byte in word]
        words.append([one ^ other for one, other in zip(words[-count], word, strict=True)])
    return np.array(words, np.uint8).reshape(-1, 16)


_ROWS = np.array([(at + 4 * (at % 4)) % 16 for at in range(16)])
"""Where each byte of a block comes from when rows are shifted. Source: FIPS 197, 5.1.2."""
_ROWS_BACK = np.argsort(_ROWS)


def _mixed(state: Bytes, factors: tuple[int, int, int, int]) -> Bytes:
    """Each column times a polynomial. Source: FIPS 197, 5.1.3 and 5.3.3."""
    columns = state.reshape(-1, 4, 4)
    out = np.zeros_like(columns)
    for shift, factor in enumerate(factors):
        out ^= _multiples(factor)[np.roll(columns, -shift, axis=2)]
    return out.reshape(-1, 16)


# --- ciphers ------------------------------------------------------------------------------------------------------------


def _blocks(start: bytes, data: bytes) -> Bytes:
    if len(start) != 16 or len(data) % 16:
        raise ValueError("AES takes whole blocks of 16 bytes")
    return np.frombuffer(data, np.uint8).reshape(-1, 16)


def own_aes_decrypt(key: bytes, start: bytes, data: bytes) -> bytes:
    """`aes_decrypt`, all blocks together."""
    blocks, keys, back = _blocks(start, data), _round_keys(key), _boxes()[1]
    state = blocks ^ keys[-1]
    for number in range(len(keys) - 2, -1, -1):
        state = back[state[:, _ROWS_BACK]] ^ keys[number]
        if number:
            state = _mixed(state, (14, 11, 13, 9))
    before = np.vstack([np.frombuffer(start, np.uint8).reshape(1, 16), blocks[:-1]]) if len(blocks) else blocks
    return bytes((state ^ before).tobytes())


@cache
def _tables() -> tuple[list[list[int]], list[int]]:
    """For each of the four bytes of a column what it adds to the next one, as words; and the box. Source: FIPS 197, 5.1, as one step."""
    box = [int(byte) for byte in _boxes()[0]]
    first = [_times(byte, 2) << 24 | byte << 16 | byte << 8 | _times(byte, 3) for byte in box]
    return [[(word >> turn | word << (32 - turn)) & 0xFFFFFFFF for word in first] for turn in (0, 8, 16, 24)], box


def own_aes_encrypt(key: bytes, start: bytes, data: bytes) -> bytes:
    """`aes_encrypt`: each block waits for the one before."""
    _blocks(start, data)
    (one, two, three, four), box = _tables()
    words = _round_keys(key).reshape(-1, 4).tolist()
    keys = [int.from_bytes(bytes(word), "big") for word in words]
    last = len(keys) - 4
    out = bytearray()
    chain = int.from_bytes(start, "big")
    for at in range(0, len(data), 16):
        mixed = int.from_bytes(data[at : at + 16], "big") ^ chain
        a, b, c, d = (mixed >> shift & 0xFFFFFFFF ^ keys[n] for n, shift in enumerate((96, 64, 32, 0)))
        for n in range(4, last, 4):
            a, b, c, d = (
                one[a >> 24] ^ two[b >> 16 & 255] ^ three[c >> 8 & 255] ^ four[d & 255] ^ keys[n],
                one[b >> 24] ^ two[c >> 16 & 255] ^ three[d >> 8 & 255] ^ four[a & 255] ^ keys[n + 1],
                one[c >> 24] ^ two[d >> 16 & 255] ^ three[a >> 8 & 255] ^ four[b & 255] ^ keys[n + 2],
                one[d >> 24] ^ two[a >> 16 & 255] ^ three[b >> 8 & 255] ^ four[c & 255] ^ keys[n + 3],
            )
        chain = 0
        for n, (w, x, y, z) in enumerate(((a, b, c, d), (b, c, d, a), (c, d, a, b), (d, a, b, c))):
            word = box[w >> 24] << 24 | box[x >> 16 & 255] << 16 | box[y >> 8 & 255] << 8 | box[z & 255]
            chain = chain << 32 | word ^ keys[last + n]
        out += chain.to_bytes(16, "big")
    return bytes(out)


def own_rc4(key: bytes, data: bytes) -> bytes:
    """`rc4`, byte by byte."""
    if not key:
        raise ValueError("RC4 needs a key")
    state = list(range(256))
    other = 0
    for at in range(256):
        other = (other + state[at] + key[at % len(key)]) & 255
        state[at], state[other] = state[other], state[at]
    out = bytearray(len(data))
    at = other = 0
    for number, byte in enumerate(data):
        at = (at + 1) & 255
        here = state[at]
        other = (other + here) & 255
        there = state[other]
        state[at], state[other] = there, here
        out[number] = byte ^ state[(here + there) & 255]
    return bytes(out)
