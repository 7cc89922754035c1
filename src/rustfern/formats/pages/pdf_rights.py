"""Encrypted documents that open for everybody: a password is empty, and only what may be done with them is restricted.

Source: ISO 32000-2, 7.6.2 (which bytes are encrypted), 7.6.3 (keys of objects), 7.6.4 (standard security handler: algorithms 2, 2.A, 2.B, 6, 11 and 12),
7.6.6 (crypt filters).
"""

from __future__ import annotations

import hashlib
import re
import struct
from collections.abc import Mapping
from typing import Any

from rustfern.core.errors import Malformed
from rustfern.formats.pages.ciphers import aes_decrypt, aes_encrypt, rc4

_PAD = bytes.fromhex("28bf4e5e4e758a4164004e56fffa01082e2e00b6d0683e802f0ca9fe6453697a")
_HEX = re.compile(rb"(?:[0-9A-Fa-f]\s*){32,}")
_ESCAPE = re.compile(rb"\\(?:([0-7]{1,3})|(\r\n|[\r\n])|(.))", re.DOTALL)
_LETTERS = {b"n": b"\n", b"r": b"\r", b"t": b"\t", b"b": b"\b", b"f": b"\f"}


def text_of(value: object) -> bytes:
    """The bytes of a text as it is written, in hexadecimal or with escapes; empty if it is none."""
    if not isinstance(value, bytes):
        return b""
    if _HEX.fullmatch(value.strip()):
        return bytes.fromhex(value.decode("ascii"))

    def plain(found: re.Match[bytes]) -> bytes:
        if found[1]:
            return bytes([int(found[1], 8) & 255])
        return b"" if found[2] else _LETTERS.get(found[3], found[3])

    return _ESCAPE.sub(plain, value.replace(b"\r\n", b"\n") if b"\\" not in value else value)


class Rights:
    """What decrypts the streams of a document that opens by an empty password."""

    def __init__(self, key: bytes, method: str, *, not_of: str = "") -> None:
        """`not_of`: the type of streams that were left as they are."""
        self._key, self._method, self.not_of = key, method, not_of

    def open(self, data: bytes, number: int, generation: int, at: int) -> bytes:
        """The bytes of a stream, decrypted. Raises `Malformed` for what cannot have been encrypted so."""
        if self._method == "None":
            return data
        key = self._key
        if self._method != "AESV3":
            salt = b"sAlT" if self._method == "AESV2" else b""
            whole = key + struct.pack("<I", number)[:3] + struct.pack("<I", generation)[:2] + salt
            key = hashlib.md5(whole, usedforsecurity=False).digest()[: min(len(key) + 5, 16)]
        if self._method == "V2":
            return rc4(key, data)
        if not data:
            return data
        if len(data) == 16:
            return b""  # nothing stands behind what it begins with
        if len(data) % 16 or len(data) < 32:
            raise Malformed("an encrypted stream stops before its end", at)
        found = aes_decrypt(key, data[:16], data[16:])
        if not 1 <= found[-1] <= 16:
            raise Malformed("an encrypted stream is damaged at its end", at)
        return found[: -found[-1]]


def without_password(facts: Mapping[str, Any], ident: bytes) -> Rights | None:
    """What opens a document by an empty password; None if it takes one, or is encrypted in another way. `facts` are the encryption dictionary, its
    references resolved, `ident` the first of the document's identifiers.
    """
    version, revision = facts.get("V", 0), facts.get("R", 0)
    owner, user = text_of(facts.get("O")), text_of(facts.get("U"))
    if facts.get("Filter") != "Standard" or version not in (1, 2, 4, 5) or len(user) < 32:
        return None
    if version in (1, 2):
        method = "V2"
    else:
        filters, name = facts.get("CF"), facts.get("StmF", "Identity")
        chosen = filters.get(name) if isinstance(filters, dict) else None
        method = "None" if name == "Identity" else str(chosen.get("CFM", "None")) if isinstance(chosen, dict) else ""
    if method not in ("None", "V2", "AESV2", "AESV3"):
        return None
    if version == 5:
        return _of_2008(facts, user, revision, method)
    length = facts.get("Length", 40) if version != 4 else 128
    size = 5 if revision == 2 or not isinstance(length, int) or not 40 <= length <= 128 else length // 8
    permissions = facts.get("P", 0)
    if not isinstance(permissions, int):
        return None
    seed = _PAD + owner[:32] + struct.pack("<I", permissions & 0xFFFFFFFF) + ident
    if revision >= 4 and facts.get("EncryptMetadata") is False:
        seed += b"\xff\xff\xff\xff"
    key = hashlib.md5(seed, usedforsecurity=False).digest()
    for _ in range(50 if revision >= 3 else 0):
        key = hashlib.md5(key[:size], usedforsecurity=False).digest()
    key = key[:size]
    if revision == 2:
        proof = rc4(key, _PAD)
        return Rights(key, method) if proof == user[:32] else None
    not_of = "Metadata" if version == 4 and facts.get("EncryptMetadata") is False else ""
    proof = hashlib.md5(_PAD + ident, usedforsecurity=False).digest()
    for turn in range(20):
        proof = rc4(bytes(byte ^ turn for byte in key), proof)
    return Rights(key, method, not_of=not_of) if proof == user[:16] else None


def _of_2008(facts: Mapping[str, Any], user: bytes, revision: int, method: str) -> Rights | None:
    """Keys of 256 bits: the user's entry, or the owner's, holds the sum of a password and two salts, another one the key."""
    if revision not in (5, 6) or len(user) < 48:
        return None
    hashed = _hash_of_2017 if revision == 6 else lambda *parts: hashlib.sha256(b"".join(parts)).digest()
    not_of = "Metadata" if facts.get("EncryptMetadata") is False else ""
    for told, packed, more in (
        (user, text_of(facts.get("UE")), b""),
        (text_of(facts.get("O")), text_of(facts.get("OE")), user[:48]),
    ):
        if len(told) >= 48 and len(packed) >= 32 and hashed(told[32:40], more) == told[:32]:
            return Rights(aes_decrypt(hashed(told[40:48], more), bytes(16), packed[:32]), method, not_of=not_of)
    return None


def _hash_of_2017(salt: bytes, more: bytes) -> bytes:
    """Algorithm 2.B for an empty password; `more` is what the sum of an owner's password takes of the user's."""
    key = hashlib.sha256(salt + more).digest()
    turn = 0
    while True:
        mixed = aes_encrypt(key[:16], key[16:32], (key + more) * 64)
        kind = sum(mixed[:16]) % 3
        key = (hashlib.sha256, hashlib.sha384, hashlib.sha512)[kind](mixed).digest()
        turn += 1
        if turn >= 64 and mixed[-1] <= turn - 32:
            return key[:32]
