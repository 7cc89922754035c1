"""ZIP structure, read to its last byte: central directory against local headers, every member inflated and summed.

Source: PKWARE APPNOTE 6.3.10, sections 4.3 (layout) and 4.5.3 (zip64). Offsets in errors are bytes from the start.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from typing import TYPE_CHECKING, BinaryIO, Protocol, cast

import msgspec

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.archives import deflate64, ppmd
from rustfern.formats.interface import Limits
from rustfern.formats.reader import ByteReader

if TYPE_CHECKING:
    import lzma

_DEFLATE64, _BZIP2, _LZMA, _ZSTD_OLD, _ZSTD, _XZ, _PPMD = 9, 12, 14, 20, 93, 95, 98
_OTHERS = frozenset({_DEFLATE64, _BZIP2, _LZMA, _ZSTD_OLD, _ZSTD, _XZ, _PPMD})
_END = b"PK\x05\x06"
_END64 = b"PK\x06\x06"
_LOCATOR64 = b"PK\x06\x07"
_CENTRAL = b"PK\x01\x02"
_LOCAL = b"PK\x03\x04"
_DESCRIPTOR = b"PK\x07\x08"
_ALL = 0xFFFFFFFF
_HIDDEN_DIRECTORY = 62
"""The version that a reader needs for an encrypted directory (APPNOTE 4.4.3, 7.3)."""
_CHUNK = 1 << 18
_SMALL = 1 << 20
_TIMES = 4
"""Parts of relationships and lists are read more than once."""

_SEVERAL_FILES = "the last part of an archive that was cut into several files: put the others beside it"


class Member(msgspec.Struct, frozen=True):
    """One member by the central directory; `offset` is that of its local header in the file."""

    name: str
    raw_name: bytes
    method: int
    flags: int
    crc: int
    packed: int
    size: int
    offset: int

    @property
    def encrypted(self) -> bool:
        return bool(self.flags & 1)

    @property
    def is_shadow(self) -> bool:
        """Whether macOS packed it beside another part, for that one's attributes: what its name ends in says nothing of it."""
        return self.name.startswith("__MACOSX/") or self.name.rpartition("/")[2].startswith("._")

    @property
    def is_folder(self) -> bool:
        return self.name.endswith("/")


class Archive:
    """The directory of a ZIP file; `read` gives a member's bytes and verifies them."""

    def __init__(self, stream: BinaryIO, size: int, limits: Limits) -> None:
        self.stream, self.size, self.limits = stream, size, limits
        self._bytes = ByteReader(stream, size)
        self.members: dict[str, Member] = {}
        self.repeated: list[Member] = []  # earlier ones under a name that comes again: archives may, documents may not
        self.unpacked = 0
        self._load()

    def _load(self) -> None:
        tail_at = max(0, self.size - 65_557)
        tail = self._bytes.exactly(tail_at, self.size - tail_at, "the end record")
        at = tail.rfind(_END)
        while at >= 0:
            if at + 22 <= len(tail) and at + 22 + int.from_bytes(tail[at + 20 : at + 22], "little") == len(tail):
                break
            at = tail.rfind(_END, 0, at)
        at = self._before_others(tail) if at < 0 else at
        if at < 0:
            raise Malformed("the file is cut off: the directory of its parts, at the end, is missing", self.size)
        end_at = tail_at + at
        disk, start_disk, _, total, length, start = struct.unpack_from("<HHHHII", tail, at + 4)
        # Writers that cannot know how long an archive gets leave a zip64 record that was not needed.
        needless = tail[max(at - 20, 0) :][:4] == _LOCATOR64 and at >= 20
        if total == 0xFFFF or length == _ALL or start == _ALL or needless:
            total, length, start, end_at = self._end64(end_at, total, length, start)
        elif disk or start_disk:
            raise Refused(_SEVERAL_FILES, end_at)
        shift = end_at - length - start  # bytes in front of the archive
        if shift < 0:
            raise Malformed("the directory of parts does not fit into the file", end_at)
        if total > self.limits.members:
            raise Malformed(f"claims {total} parts, more than any document has")
        self._central(start + shift, length, total, shift)

    def _before_others(self, tail: bytes) -> int:
        """Where the end record lies, if others wrote behind the archive (APPNOTE 4.3.16); only of one that begins where the file does, as what is
        packed inside of another one has such a record too. -1 if there is none.
        """
        at = tail.rfind(_END)
        while at >= 0 and at + 22 <= len(tail):
            _, _, _, _, length, start = struct.unpack_from("<HHHHII", tail, at + 4)
            if start + length == self.size - len(tail) + at and tail[max(at - length, 0) :][:4] in (_CENTRAL, _END):
                return at
            locator = tail[max(at - 20, 0) : at]
            if locator[:4] == _LOCATOR64:
                record = self._bytes.upto(int.from_bytes(locator[8:16], "little"), 56)
                place = int.from_bytes(locator[8:16], "little") + 12 + int.from_bytes(record[4:12], "little")
                if record[:4] == _END64 and place == self.size - len(tail) + at - 20:
                    return at
            at = tail.rfind(_END, 0, at)
        return -1

    def _end64(self, end_at: int, total: int, length: int, start: int) -> tuple[int, int, int, int]:
        if end_at < 20:
            raise Malformed("the zip64 locator is missing", end_at)
        locator = self._bytes.exactly(end_at - 20, 20, "the zip64 locator")
        if locator[:4] != _LOCATOR64:
            if total == 0xFFFF and length != _ALL and start != _ALL:
                return total, length, start, end_at
            raise Malformed("the zip64 locator is missing", end_at - 20)
        if int.from_bytes(locator[16:20], "little") > 1:
            raise Refused(_SEVERAL_FILES, end_at)
        at = int.from_bytes(locator[8:16], "little")
        if self._bytes.upto(at, 4) != _END64 and self._bytes.upto(end_at - 76, 4) == _END64:
            at = end_at - 76  # bytes stand in front of the archive
        if at + 56 > self.size:
            raise Malformed("the zip64 end record lies outside the file", end_at - 20)
        record = self._bytes.exactly(at, 56, "the zip64 end record")
        if record[:4] != _END64:
            raise Malformed("the zip64 end record is damaged", at)
        total, length, start = struct.unpack_from("<QQQ", record, 32)
        needed = struct.unpack_from("<H", record, 14)[0]
        if needed >= _HIDDEN_DIRECTORY and self._bytes.upto(at - length, 4) != _CENTRAL:
            raise Refused("its directory is encrypted: what is in it cannot be read without the password", at - length)
        return total, length, start, at

    def _central(self, at: int, length: int, total: int, shift: int) -> None:
        if at + length > self.size:
            raise Malformed("the directory of parts does not fit into the file", at)
        data = self._bytes.exactly(at, length, "the directory of parts")
        position = 0
        for _ in range(total):
            if data[position : position + 4] != _CENTRAL or position + 46 > length:
                raise Malformed("the directory of parts is damaged", at + position)
            flags, method, _t, _d, crc, packed, size, n, e, c = struct.unpack_from("<HHHHIIIHHH", data, position + 8)
            offset = int.from_bytes(data[position + 42 : position + 46], "little")
            raw = data[position + 46 : position + 46 + n]
            extra = data[position + 46 + n : position + 46 + n + e]
            size, packed, offset = _extra64(extra, size, packed, offset)
            member = Member(_name(raw), raw, method, flags, crc, packed, size, offset + shift)
            if member.name in self.members:
                self.repeated.append(self.members[member.name])
            self.members[member.name] = member
            position += 46 + n + e + c
        if position != length:
            raise Malformed("the directory of parts has a wrong length", at + position)
        ordered = sorted((*self.members.values(), *self.repeated), key=lambda m: m.offset)
        ends = [*(m.offset for m in ordered[1:]), at]
        for member, end in zip(ordered, ends, strict=False):
            if member.offset + 30 + len(member.raw_name) + member.packed > end:
                raise Malformed(f"part {member.name} reaches into the next one", member.offset)

    def each_once(self) -> None:
        """Raises `Malformed` for a part that is there twice: which one counts, no two programs agree on."""
        if self.repeated:
            raise Malformed(f"part {self.repeated[0].name} is listed twice", self.repeated[0].offset)

    def read(self, member: Member) -> Iterator[bytes]:
        """Yield the member's bytes; at the end its size and CRC have been compared with both headers."""
        header = self._bytes.exactly(member.offset, 30, f"part {member.name}")
        if header[:4] != _LOCAL:
            raise Malformed(f"the header of part {member.name} is damaged", member.offset)
        flags, method, _t, _d, crc, packed, size, n, e = struct.unpack_from("<HHHHIIIHH", header, 6)
        rest = self._bytes.exactly(member.offset + 30, n + e, f"part {member.name}")
        size, packed, _ = _extra64(rest[n:], size, packed, 0)
        later = bool(flags & 8)
        same = rest[:n].replace(b"\\", b"/") == member.raw_name.replace(b"\\", b"/")
        if not same or method != member.method:
            raise Malformed(f"part {member.name} disagrees with the directory of parts", member.offset)
        if (crc, packed, size) != (member.crc, member.packed, member.size) and not (
            later and all(mine in (0, _ALL, known) for mine, known in self._pairs(crc, packed, size, member))
        ):
            raise Malformed(f"part {member.name} disagrees with the directory of parts", member.offset)
        if member.encrypted:
            raise Malformed(f"part {member.name} is protected by a password", member.offset)
        at = member.offset + 30 + n + e
        yield from self._inflate(member, at)
        if later:
            self._descriptor(member, at + member.packed)

    @staticmethod
    def _pairs(crc: int, packed: int, size: int, member: Member) -> tuple[tuple[int, int], ...]:
        return (crc, member.crc), (packed, member.packed), (size, member.size)

    def _descriptor(self, member: Member, at: int) -> None:
        data = self._bytes.upto(at, 24)
        body = data[4:] if data[:4] == _DESCRIPTOR else data
        if int.from_bytes(body[:4], "little") != member.crc:
            raise Malformed(f"the sum after part {member.name} does not fit", at)

    def _inflate(self, member: Member, at: int) -> Iterator[bytes]:
        if member.method not in (0, 8, *_OTHERS):
            said = f"part {member.name} is packed by method {member.method}, which is not unpacked here"
            raise Refused(said, at)
        if self.limits.too_much(member.size, member.packed):
            raise Refused(f"part {member.name} would unpack to {member.size} bytes: refused", at)
        self.unpacked += member.size
        if self.limits.too_much(self.unpacked, self.size * _TIMES):
            raise Refused("the parts would unpack to more than can be a document: refused", at)
        self.stream.seek(at)
        if member.method in _OTHERS:
            yield from self._unpacked_otherwise(member, at)
            return
        if not (member.packed or member.size or member.crc):
            yield b""  # some writers leave out the end mark of nothing
            return
        inflate = zlib.decompressobj(-15) if member.method == 8 else None
        if member.size <= _SMALL and member.packed <= _SMALL:
            yield self._at_once(inflate, member, at)
            return
        left, crc, got = member.packed, 0, 0
        while left > 0:
            data = self.stream.read(min(_CHUNK, left))
            if not data:
                raise Malformed(f"the file ends inside part {member.name}", at + member.packed - left)
            left -= len(data)
            for piece in _pieces(inflate, data, member, at):
                got += len(piece)
                if got > member.size:
                    raise Malformed(f"part {member.name} is longer than its size says", at)
                crc = zlib.crc32(piece, crc)
                yield piece
        if inflate is not None and not inflate.eof:
            raise Malformed(f"part {member.name} stops before its end", at + member.packed)
        if got != member.size:
            raise Malformed(f"part {member.name} has {got} bytes instead of {member.size}", at)
        if crc != member.crc:
            raise Malformed(f"the sum of part {member.name} does not fit its bytes", at)

    def _unpacked_otherwise(self, member: Member, at: int) -> Iterator[bytes]:
        """A member that is packed by Deflate64, bzip2, LZMA, xz, PPMd or Zstandard (APPNOTE 4.4.5, 5.8, 5.10)."""
        import lzma

        crc = got = 0
        try:
            for piece in self._pieces_otherwise(member, at):
                got += len(piece)
                crc = zlib.crc32(piece, crc)
                if got > member.size:
                    raise Malformed(f"part {member.name} is longer than its size says", at)
                yield piece
        except (lzma.LZMAError, OSError, ValueError, EOFError, struct.error) as error:
            raise Malformed(f"part {member.name} cannot be unpacked", at) from error
        if got != member.size or crc != member.crc:
            raise Malformed(f"the size or the sum of part {member.name} does not fit its bytes", at)

    def _pieces_otherwise(self, member: Member, at: int) -> Iterator[bytes]:
        if member.method in (_ZSTD, _ZSTD_OLD):
            yield from _zstandard(self.stream, member, at)
            return
        if member.method == _DEFLATE64:
            yield from deflate64.unpacked(self.stream, member.packed, f"part {member.name}")
            return
        if member.method == _PPMD:
            yield from ppmd.unpacked(self.stream, member.packed, member.size, None, f"part {member.name}")
            return
        unpack: _Unpacker
        left = member.packed
        if member.method == _LZMA:
            unpack, length = self._lzma(member, at)
            left -= length
        else:
            unpack = _unpacker(member)
        while left > 0 or not (unpack.needs_input or unpack.eof):
            data = self.stream.read(min(_CHUNK, left)) if unpack.needs_input else b""
            if unpack.eof or (unpack.needs_input and not data):
                break
            left -= len(data)
            yield unpack.decompress(data, _CHUNK)

    def _lzma(self, member: Member, at: int) -> tuple[lzma.LZMADecompressor, int]:
        """What unpacks LZMA, and how long its properties are."""
        import lzma

        _, length = struct.unpack("<HH", self._bytes.exactly(at, 4, f"part {member.name}"))
        first, size = struct.unpack("<BI", self._bytes.exactly(at + 4, length, f"part {member.name}")[:5])
        filters = {"id": lzma.FILTER_LZMA1, "lc": first % 9, "lp": first // 9 % 5, "pb": first // 45, "dict_size": size}
        self.stream.seek(at + 4 + length)
        return lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=[filters]), 4 + length

    def _at_once(self, inflate: zlib._Decompress | None, member: Member, at: int) -> bytes:
        """A member of the usual size, unpacked in one go."""
        data = self.stream.read(member.packed)
        if len(data) != member.packed:
            raise Malformed(f"the file ends inside part {member.name}", at + len(data))
        if inflate is not None:
            try:
                data = inflate.decompress(data, member.size + 1)
            except zlib.error as error:
                raise Malformed(f"part {member.name} cannot be unpacked", at) from error
            if len(data) <= member.size and not inflate.eof:
                raise Malformed(f"part {member.name} stops before its end", at + member.packed)
            if inflate.unused_data:
                raise Malformed(f"part {member.name} ends before its packed bytes do", at)
        if len(data) != member.size:
            longer = "longer than its size says" if len(data) > member.size else "shorter than its size says"
            raise Malformed(f"part {member.name} is {longer}", at)
        if zlib.crc32(data) != member.crc:
            raise Malformed(f"the sum of part {member.name} does not fit its bytes", at)
        return data

    def bytes_of(self, name: str, limit: int = 64 << 20) -> bytes:
        """All bytes of one member, at most `limit`."""
        out = bytearray()
        for piece in self.read(self.members[name]):
            out += piece
            if len(out) > limit:
                raise Malformed(f"part {name} is larger than such a part can be")
        return bytes(out)


class _Unpacker(Protocol):
    """What unpacks a stream piece by piece, as those of the standard library do."""

    @property
    def eof(self) -> bool: ...
    @property
    def needs_input(self) -> bool: ...
    def decompress(self, data: bytes, max_length: int) -> bytes: ...


class _Packed:
    """The packed bytes of a member, as a file."""

    def __init__(self, stream: BinaryIO, left: int) -> None:
        self._stream, self._left = stream, left

    def read(self, size: int = -1) -> bytes:
        data = self._stream.read(self._left if size < 0 else min(size, self._left))
        self._left -= len(data)
        return data


def _zstandard(stream: BinaryIO, member: Member, at: int) -> Iterator[bytes]:
    """What a member by Zstandard unpacks to, piece by piece, however much a few bytes stand for. Raises `ValueError` for damage."""
    try:
        from rustfern.formats.archives import zstd
    except ImportError as error:
        raise Refused(f"part {member.name} is packed by Zstandard, whose package is not installed", at) from error
    try:
        with zstd.opened(cast(BinaryIO, _Packed(stream, member.packed))) as reader:
            while piece := reader.read(_CHUNK):
                yield piece
    except EOFError as error:
        raise ValueError(str(error)) from error


def _unpacker(member: Member) -> _Unpacker:
    if member.method == _BZIP2:
        import bz2

        return bz2.BZ2Decompressor()
    import lzma

    return lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=256 << 20)


def _name(raw: bytes) -> str:
    """A name in UTF-8, which many write without saying so, else in the code page of old (APPNOTE, appendix D)."""
    try:
        name = raw.decode()
    except UnicodeDecodeError:
        name = raw.decode("cp437")
    # Some writers part folders as their system does.
    return name.replace("\\", "/") if "/" not in name else name


def _pieces(inflate: zlib._Decompress | None, data: bytes, member: Member, at: int) -> Iterator[bytes]:
    if inflate is None:
        yield data
        return
    while data:
        if inflate.eof:
            raise Malformed(f"part {member.name} ends before its packed bytes do", at)
        try:
            piece = inflate.decompress(data, _CHUNK)
        except zlib.error as error:
            raise Malformed(f"part {member.name} cannot be unpacked", at) from error
        if piece:
            yield piece
        data = inflate.unconsumed_tail
    while not inflate.eof:
        piece = inflate.decompress(b"", _CHUNK)
        if not piece:
            break
        yield piece


def _extra64(extra: bytes, size: int, packed: int, offset: int) -> tuple[int, int, int]:
    position = 0
    while position + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, position)
        if kind == 1:
            body = extra[position + 4 : position + 4 + length]
            values = [int.from_bytes(body[i : i + 8], "little") for i in range(0, len(body) - 7, 8)]
            if size == _ALL and values:
                size = values.pop(0)
            if packed == _ALL and values:
                packed = values.pop(0)
            if offset == _ALL and values:
                offset = values.pop(0)
        position += 4 + length
    return size, packed, offset


def around(stream: BinaryIO, size: int) -> str:
    """What is to be said of bytes in front of an archive, or behind its end record; nothing where there are none."""
    stream.seek(max(0, size - 65_557))
    tail = stream.read()
    stream.seek(0)
    said = "" if stream.read(4) in (_LOCAL, _END) else "; other bytes stand in front of it"
    at = tail.rfind(_END)
    while at >= 0:
        behind = len(tail) - at - 22 - int.from_bytes(tail[at + 20 : at + 22], "little")
        if behind >= 0:
            return f"{said}; {behind} bytes stand behind its end" if behind else said
        at = tail.rfind(_END, 0, at)
    return said


def salvage(stream: BinaryIO, size: int, limit: int = 16 << 20) -> Iterator[tuple[str, bytes]]:
    """Members of a damaged archive by their local headers, each as far as it can be unpacked. Never raises.

    For recognising whose a damaged copy is, not for restoring: nothing is verified. `limit` bounds all bytes given.
    """
    position = 0
    while position + 30 <= size and limit > 0:
        stream.seek(position)
        header = stream.read(30)
        if header[:4] != _LOCAL or len(header) < 30:
            return
        flags, method, _t, _d, _crc, packed, _size, n, e = struct.unpack_from("<HHHHIIIHH", header, 6)
        name = stream.read(n).decode("utf-8", "replace")
        position += 30 + n + e
        stream.seek(position)
        if method == 8:
            inflate = zlib.decompressobj(-15)
            out = bytearray()
            consumed = 0
            try:
                while not inflate.eof and len(out) < limit and (data := stream.read(_CHUNK)):
                    consumed += len(data)
                    out += inflate.decompress(data, limit - len(out))
            except zlib.error:
                yield name, bytes(out)
                return
            consumed -= len(inflate.unused_data) + len(inflate.unconsumed_tail)
        else:
            if flags & 8:
                return
            out = bytearray(stream.read(min(packed, limit)))
            consumed = packed
        limit -= len(out)
        yield name, bytes(out)
        position += consumed
        if flags & 8:
            stream.seek(position)
            position += 16 if stream.read(4) == _DESCRIPTOR else 12
