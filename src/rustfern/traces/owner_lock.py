"""The owner lock that OOXML office programs write beside a document: `~$NAME`.

Layout as observed (and as LibreOffice writes it on request, svl/source/misc/msodocumentlockfile.cxx): 162 bytes for
text documents, 165 for workbooks and presentations. A length byte, the owner's name in an 8-bit code page, a 16-bit
little-endian length, the name again as UTF-16LE; padded with NULs, spaces or stray memory.
"""

from __future__ import annotations

import msgspec

from rustfern.core.errors import Malformed
from rustfern.traces.facts import LockFacts

TEXT_SIZE = 162
OTHER_SIZE = 165
_NARROW = {TEXT_SIZE: 53, OTHER_SIZE: 54}


class OwnerLock(msgspec.Struct, frozen=True):
    """`owner` is the wide name where it is plausible, else the narrow one. `size` tells the family of programs."""

    owner: str
    narrow: str
    size: int


def parse(data: bytes) -> OwnerLock:
    """Read an owner lock from its bytes. Raises `Malformed` for a wrong size or name fields that cannot be."""
    size = len(data)
    if size not in _NARROW:
        raise Malformed(f"an owner lock has {TEXT_SIZE} or {OTHER_SIZE} bytes, this has {size}")
    room = _NARROW[size]
    narrow_length = data[0]
    if narrow_length == 0 or narrow_length > room:
        raise Malformed("the owner's name has no possible length", 0)
    narrow = data[1 : 1 + narrow_length].decode("cp1252", "replace").rstrip("\0 ")
    wide_at = 1 + room
    wide_length = int.from_bytes(data[wide_at : wide_at + 2], "little")
    wide = ""
    if 0 < wide_length <= (size - wide_at - 2) // 2:
        wide = data[wide_at + 2 : wide_at + 2 + 2 * wide_length].decode("utf-16-le", "replace").rstrip("\0 ")
    owner = wide if wide and wide.isprintable() else narrow
    if not owner or not owner.isprintable():
        raise Malformed("the owner's name is not text", 1)
    return OwnerLock(owner, narrow, size)


def facts(data: bytes) -> LockFacts:
    """The same as of any lock. Raises `Malformed`."""
    return LockFacts(parse(data).owner, "")
