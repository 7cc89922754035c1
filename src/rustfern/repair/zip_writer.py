"""Writes ZIP packages: members packed anew, or taken over as they are packed.

Source: PKWARE APPNOTE 6.3.10, sections 4.3.7 (local header), 4.3.12 (central directory), 4.3.14 and 4.3.16 (end records).
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterable
from typing import BinaryIO

from rustfern.repair.interface import NothingLeft

_UTF8 = 0x0800
_DAY = 0x21  # 1 January 1980: the first that there is
_MOST = 0xFFFFFFFF
_MEMBERS = 0xFFFF


class ZipWriter:
    """Members one after the other; `close` writes the directory. Raises `NothingLeft` for what needs more than 4 GiB."""

    def __init__(self, out: BinaryIO) -> None:
        self._out = out
        self._listed: list[bytes] = []
        self.names: set[str] = set()

    def add(self, name: str, data: bytes, *, stored: bool = False, date: int = _DAY, time: int = 0) -> None:
        """A member, packed anew."""
        packed = data
        if not stored:
            packer = zlib.compressobj(6, zlib.DEFLATED, -15)
            packed = packer.compress(data) + packer.flush()
        self.copy(name, [packed], 0 if stored else 8, zlib.crc32(data), len(packed), len(data), date, time)

    def copy(
        self,
        name: str,
        packed: Iterable[bytes],
        method: int,
        crc: int,
        length: int,
        size: int,
        date: int = _DAY,
        time: int = 0,
    ) -> None:
        """A member as it is packed: `length` bytes that unpack to `size`."""
        raw, at = name.encode("utf-8", "replace"), self._out.tell()
        if name in self.names or max(at + length, size) > _MOST or len(self._listed) >= _MEMBERS:
            raise NothingLeft(f"part {name} cannot be written into a package")
        self.names.add(name)
        fields = struct.pack(
            "<HHHHHIIIHH", 20, 0 if raw.isascii() else _UTF8, method, time, date, crc, length, size, len(raw), 0
        )
        self._out.write(b"PK\x03\x04" + fields + raw)
        for piece in packed:
            self._out.write(piece)
        self._listed.append(
            b"PK\x01\x02" + struct.pack("<H", 20) + fields + struct.pack("<HHHII", 0, 0, 0, 0, at) + raw
        )

    def close(self) -> None:
        """The directory and the end record."""
        at, count = self._out.tell(), len(self._listed)
        length = 0
        for each in self._listed:
            self._out.write(each)
            length += len(each)
        self._out.write(b"PK\x05\x06" + struct.pack("<HHHHIIH", 0, 0, count, count, length, at, 0))
