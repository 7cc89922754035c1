"""NTFS streams that are packed (LZNT1), unit by unit.

Source: [MS-XCA] 2.5 (LZNT1); the NTFS documentation of the Linux-NTFS project (compression units).
"""

from __future__ import annotations

import struct

from rustfern.sources.disks.interface import HOLE, DiskBytes, Extent, FileStream

_CHUNK = 4096


def unpack(data: bytes, size: int) -> bytes:
    """Bytes packed by LZNT1, at most `size` of them; what is damaged ends them."""
    out = bytearray()
    at = 0
    while at + 2 <= len(data) and len(out) < size:
        header = struct.unpack_from("<H", data, at)[0]
        if not header:
            break
        end = at + 3 + (header & 0x0FFF)
        piece = data[at + 2 : end]
        if header & 0x8000:
            done = _chunk(piece)
            # A chunk stands for 4096 bytes; only the last may be shorter.
            out += done
            if len(done) < _CHUNK and end + 2 <= len(data) and len(out) < size:
                out += bytes(_CHUNK - len(done))
        else:
            out += piece
        at = end
    return bytes(out[:size])


def _chunk(piece: bytes) -> bytes:
    out = bytearray()
    at, length = 0, len(piece)
    while at < length and len(out) < _CHUNK:
        flags = piece[at]
        at += 1
        for bit in range(8):
            if at >= length or len(out) >= _CHUNK:
                break
            if not flags >> bit & 1:
                out.append(piece[at])
                at += 1
                continue
            if at + 2 > length:
                return bytes(out)
            token = piece[at] | piece[at + 1] << 8
            at += 2
            here = len(out)
            shift = 12 - max((here - 1).bit_length() - 4, 0) if here > 1 else 12
            back, count = (token >> shift) + 1, (token & ((1 << shift) - 1)) + 3
            if back > here:
                return bytes(out)
            if back >= count:
                out += out[here - back : here - back + count]
            else:
                for n in range(count):
                    out.append(out[here - back + n])
    return bytes(out[:_CHUNK])


class PackedStream(FileStream):
    """A packed file; `runs` are extents in bytes, `unit` bytes are packed together."""

    def __init__(self, volume: DiskBytes, runs: tuple[Extent, ...], size: int, valid: int, unit: int) -> None:
        super().__init__(size)
        self._volume, self._valid, self._unit = volume, valid, unit
        self._units: list[list[Extent]] = []
        left = 0
        for offset, length in runs:
            while length > 0:
                if left == 0:
                    self._units.append([])
                    left = unit
                count = min(left, length)
                self._units[-1].append((offset, count))
                length, left = length - count, left - count
                if offset != HOLE:
                    offset += count
        self._known: tuple[int, bytes] = (-1, b"")

    def read_here(self, length: int) -> bytes:
        """As `FileStream.read_here`: within one unit."""
        number, inner = divmod(self._at, self._unit)
        count = min(length, self._size - self._at, self._unit - inner)
        if count <= 0:
            return b""
        if self._at >= self._valid:
            return bytes(count)
        return self._unpacked(number)[inner : inner + count] if number < len(self._units) else b""

    def _unpacked(self, number: int) -> bytes:
        if self._known[0] != number:
            pieces = self._units[number]
            there = [(offset, length) for offset, length in pieces if offset != HOLE]
            held = sum(length for _, length in there)
            if not there:
                data = bytes(self._unit)
            else:
                raw = b"".join(self._volume.read_at(offset, length) for offset, length in there)
                whole = held == self._unit or (number == len(self._units) - 1 and len(pieces) == len(there))
                data = raw if whole else unpack(raw, self._unit).ljust(self._unit, b"\0")
            self._known = number, data
        return self._known[1]
