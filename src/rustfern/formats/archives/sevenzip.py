"""7z archives: headers and their sums, every packed file unpacked and its sum compared, where the packing is known here.

Source: the published 7z layout (7zFormat.txt: signature header, pack info, folders, substreams, digests), with LZMA, LZMA2, BCJ and delta
through the standard library's `lzma`, bzip2 and deflate through `bz2` and `zlib`,
and PPMd and Deflate64 by libraries of their own.
"""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Iterator
from datetime import datetime
from typing import BinaryIO, Protocol

import msgspec

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.core.times import filetime
from rustfern.formats.archives import deflate64, ppmd
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

_STEP = 1 << 20
_MAX_LIST = 64 << 20
_MAX_DICTIONARY = 128 << 20
_MAX_COUNT = 1 << 20
_COPY, _DELTA, _LZMA2, _LZMA = b"\0", b"\x03", b"\x21", b"\x03\x01\x01"
_DEFLATE, _BZIP2, _SECRET = b"\x04\x01\x08", b"\x04\x02\x02", b"\x06\xf1\x07\x01"
_BRANCHES = {
    b"\x04": lzma.FILTER_X86, b"\x03\x03\x01\x03": lzma.FILTER_X86, b"\x03\x03\x02\x05": lzma.FILTER_POWERPC,
    b"\x03\x03\x04\x01": lzma.FILTER_IA64, b"\x03\x03\x05\x01": lzma.FILTER_ARM, b"\x03\x03\x07\x01": lzma.FILTER_ARMTHUMB,
    b"\x03\x03\x08\x05": lzma.FILTER_SPARC,
}  # fmt: skip
_PPMD, _DEFLATE64 = b"\x03\x04\x01", b"\x04\x01\x09"
_NAMES = {_PPMD: "PPMd", b"\x03\x03\x01\x1b": "BCJ2", _DEFLATE64: "Deflate64"}


class _Unknown(Exception):
    """Packed by a method that is not known here."""


class _Secret(Exception):
    """Protected by a password."""


class _Folder(msgspec.Struct):
    """One run of packed bytes: its methods (the last to be undone first), sizes and sums of what it unpacks to."""

    coders: list[tuple[bytes, bytes]] = msgspec.field(default_factory=list)
    plain: bool = True
    packed: int = 1
    last: int = 0
    sizes: list[int] = msgspec.field(default_factory=list)
    crc: int | None = None
    parts: list[tuple[int, int | None]] = msgspec.field(default_factory=list)

    @property
    def size(self) -> int:
        return self.sizes[self.last] if self.sizes else 0


class _Bytes:
    """The numbers of a header, one after the other."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, count: int) -> bytes:
        out = self.data[self.at : self.at + count]
        if len(out) != count:
            raise Malformed("its list of files stops before its end")
        self.at += count
        return out

    def byte(self) -> int:
        return self.take(1)[0]

    def number(self) -> int:
        """A number of one to nine bytes: the leading ones of the first tell how many follow."""
        first = self.byte()
        extra = 8 - (first ^ 0xFF).bit_length()
        low = int.from_bytes(self.take(extra), "little")
        return low | (first & ((1 << max(7 - extra, 0)) - 1)) << 8 * extra

    def count(self) -> int:
        value = self.number()
        if value > _MAX_COUNT:
            raise Malformed("its list of files claims more than there can be")
        return value

    def bits(self, count: int) -> list[bool]:
        raw = self.take(-(-count // 8))
        return [bool(raw[n // 8] & 0x80 >> n % 8) for n in range(count)]

    def sums(self, count: int) -> list[int | None]:
        known = [True] * count if self.byte() else self.bits(count)
        return [int.from_bytes(self.take(4), "little") if given else None for given in known]


class SevenFile(msgspec.Struct):
    """One file or folder of the list: its length in bytes, when it was written, its attributes as its system kept them. `run` is the run of
    packed bytes that it lies in (None: it is empty), `at` its place in what that unpacks to, `crc` its own sum where the list tells one.
    """

    name: str = ""
    size: int = 0
    modified: datetime | None = None
    attributes: int = 0
    is_folder: bool = False
    run: int | None = None
    at: int = 0
    crc: int | None = None


class _Listing(msgspec.Struct):
    """Runs of packed bytes, where they begin, how long each piece of them is, and the files in them."""

    folders: list[_Folder] = msgspec.field(default_factory=list)
    start: int = 0
    packs: list[int] = msgspec.field(default_factory=list)
    files: list[SevenFile] = msgspec.field(default_factory=list)


class SevenArchive:
    """A 7z archive: what it lists, and what its runs unpack to. Raises `Malformed` for one that is damaged, protected or too large."""

    def __init__(self, stream: BinaryIO, size: int, limits: Limits) -> None:
        self._stream, self._limits = stream, limits
        try:
            self._listing = _read_listing(stream, size, limits)
        except _Secret as error:
            raise Malformed("its list of files is protected by a password") from error
        except _Unknown as error:
            raise Malformed(f"its list of files is packed by {error}, which is not read here") from error
        self.files = self._listing.files
        self.runs = len(self._listing.folders)
        """Number of runs of packed bytes."""
        self.unpacked_bytes = sum(folder.size for folder in self._listing.folders)

    def run(self, number: int, step: int = _STEP) -> Iterator[bytes]:
        """What a run unpacks to, in pieces of at most `step` bytes. Raises `Malformed`, also where it is packed in a way that is not known here."""
        listing = self._listing
        before = listing.folders[:number]
        used = sum(folder.packed for folder in before)
        folder = listing.folders[number]
        at = 32 + listing.start + sum(listing.packs[:used])
        crc = 0
        try:
            for piece in _unpacked(
                self._stream, folder, at, listing.packs[used : used + folder.packed], self._limits, step
            ):
                crc = zlib.crc32(piece, crc)
                yield piece
        except _Secret as error:
            raise Malformed("protected by a password") from error
        except _Unknown as error:
            raise Malformed(f"packed by {error}, which is not unpacked here") from error
        if folder.crc is not None and crc != folder.crc:
            raise Malformed(f"the sum of its run {number + 1} does not fit", at)


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Unpack an archive to its end. Raises `Malformed`."""
    try:
        listing = _read_listing(stream, size, limits)
        verified = _verify(stream, listing.folders, listing.start, listing.packs, limits)
    except _Secret:
        return Reading(Glance(format="7z"), State.ENCRYPTED, "protected by a password", has_text=False)
    except _Unknown as error:
        reason = f"its header and list are whole; it is packed by {error}, which this version cannot unpack: unpack a restored copy"
        return Reading(Glance(format="7z"), State.UNREADABLE, reason, has_text=False)
    reason = f"read to the end: {verified} bytes unpacked, the sums fit"
    return Reading(Glance(format="7z"), State.INTACT, reason, {"members": len(listing.files)}, has_text=False)


def _read_listing(stream: BinaryIO, size: int, limits: Limits) -> _Listing:
    read = ByteReader(stream, size, "the archive stops inside {}")
    head = read.exactly(0, 32, "its header")
    if zlib.crc32(head[12:32]) != int.from_bytes(head[8:12], "little"):
        raise Malformed("the sum of the header does not fit", 8)
    offset, length = int.from_bytes(head[12:20], "little"), int.from_bytes(head[20:28], "little")
    if 32 + offset + length > size:
        raise Malformed(f"the archive stops after {size} of {32 + offset + length} bytes", size)
    if length > _MAX_LIST:
        raise Refused("its list of files is larger than it can be: refused")
    listing = read.exactly(32 + offset, length, "its list of files")
    if zlib.crc32(listing) != int.from_bytes(head[28:32], "little"):
        raise Malformed("the sum of its list of files does not fit", 32 + offset)
    return _listing(stream, listing, limits)


def _listing(stream: BinaryIO, listing: bytes, limits: Limits) -> _Listing:
    """What an archive holds. The list may itself be packed."""
    for _ in range(4):
        if not listing:
            return _Listing()
        data = _Bytes(listing)
        kind = data.byte()
        if kind == 0x17:
            folders, start, packs = _streams(data)
            pieces = list(_unpacked(stream, folders[0], 32 + start, packs, limits)) if folders else []
            listing = b"".join(pieces)
            if len(listing) > _MAX_LIST:
                raise Refused("its list of files is larger than it can be: refused")
            if folders and folders[0].crc is not None and zlib.crc32(listing) != folders[0].crc:
                raise Malformed("the sum of its list of files does not fit")
            continue
        if kind != 1:
            raise Malformed("its list of files is damaged")
        found = _Listing()
        while (part := data.byte()) != 0:
            if part == 4:
                found.folders, found.start, found.packs = _streams(data)
            elif part == 5:
                found.files = _files(data)
                _placed(found)
                break
            else:
                while data.byte():
                    data.take(data.count())
        return found
    raise Refused("its list of files is packed too often: refused")


def _files(data: _Bytes) -> list[SevenFile]:
    """Names, times and attributes. Source: 7zFormat.txt, FilesInfo."""
    files = [SevenFile() for _ in range(data.count())]
    empty = [False] * len(files)
    bare = [False] * len(files)
    while (kind := data.byte()) != 0:
        own = _Bytes(data.take(data.number()))
        if kind == 0x0E:
            empty = own.bits(len(files))
        elif kind == 0x0F:
            bare = own.bits(sum(empty))
        elif kind == 0x11 and own.byte() == 0:
            for file in files:
                raw = bytearray()
                while (unit := own.take(2)) != b"\0\0":
                    raw += unit
                file.name = raw.decode("utf-16-le", "surrogatepass")
        elif kind in (0x14, 0x15):
            known = [True] * len(files) if own.byte() else own.bits(len(files))
            if own.byte():
                raise _Unknown("a layout with its list elsewhere")
            for file, given in zip(files, known, strict=True):
                if given and kind == 0x14:
                    file.modified = filetime(int.from_bytes(own.take(8), "little"))
                elif given:
                    file.attributes = int.from_bytes(own.take(4), "little")
    files_left = iter(bare)
    for file, nothing in zip(files, empty, strict=True):
        if nothing:
            file.is_folder = not next(files_left, False)
        else:
            file.run = 0
    return files


def _placed(found: _Listing) -> None:
    """Give each file that has content its run and its place there: they follow one another."""
    places = _places(found.folders)
    for file in found.files:
        if file.run is not None:
            place = next(places, None)
            if place is None:
                raise Malformed("its list names more files than are packed")
            file.run, file.at, file.size, file.crc = place


def _places(folders: list[_Folder]) -> Iterator[tuple[int, int, int, int | None]]:
    """(run, place in it, length, sum) of each packed file."""
    for number, folder in enumerate(folders):
        at = 0
        for length, crc in folder.parts:
            yield number, at, length, crc if crc is not None or len(folder.parts) > 1 else folder.crc
            at += length


def _streams(data: _Bytes) -> tuple[list[_Folder], int, list[int]]:
    start, packs, folders = 0, list[int](), list[_Folder]()
    while (part := data.byte()) != 0:
        if part == 6:
            start, count = data.number(), data.count()
            while (inner := data.byte()) != 0:
                if inner == 9:
                    packs = [data.number() for _ in range(count)]
                elif inner == 10:
                    data.sums(count)
                else:
                    raise Malformed("its list of files is damaged")
        elif part == 7:
            folders = _folders(data)
        elif part == 8:
            _parts(data, folders)
        else:
            raise Malformed("its list of files is damaged")
    for folder in folders:
        folder.parts = folder.parts or [(folder.size, folder.crc)]
    return folders, start, packs


def _folders(data: _Bytes) -> list[_Folder]:
    if data.byte() != 0x0B:
        raise Malformed("its list of files is damaged")
    count = data.count()
    if data.byte():
        raise _Unknown("a layout with its list elsewhere")
    folders = [_folder(data) for _ in range(count)]
    if data.byte() != 0x0C:
        raise Malformed("its list of files is damaged")
    for folder in folders:
        folder.sizes = [data.number() for _ in folder.sizes]
    while (part := data.byte()) != 0:
        if part != 10:
            raise Malformed("its list of files is damaged")
        for folder, crc in zip(folders, data.sums(count), strict=True):
            folder.crc = crc
    return folders


def _folder(data: _Bytes) -> _Folder:
    out = _Folder()
    ins = outs = 0
    for _ in range(data.count()):
        flags = data.byte()
        ident = data.take(flags & 15)
        came, went = (data.count(), data.count()) if flags & 0x10 else (1, 1)
        out.plain = out.plain and came == went == 1
        ins, outs = ins + came, outs + went
        out.coders.append((ident, data.take(data.count()) if flags & 0x20 else b""))
    if not out.coders or len(out.coders) > 32 or ins > 64 or outs > 64:
        raise Malformed("its list of files is damaged")
    pairs = [(data.number(), data.number()) for _ in range(outs - 1)]
    out.packed = ins - len(pairs)
    if out.packed > 1:
        for _ in range(out.packed):
            data.number()
    # What no coder takes in is what the run unpacks to; each coder of a chain is fed by the next one, the last by the file.
    fed = dict(pairs)
    out.last = next((number for number in range(outs) if number not in fed.values()), 0)
    if out.plain:
        order = [out.last]
        while (next_one := fed.get(order[-1])) is not None and len(order) <= outs:
            order.append(next_one)
        out.plain = sorted(order) == list(range(outs))
        if out.plain:
            out.coders = [out.coders[number] for number in order]
    out.sizes = [0] * outs
    return out


def _parts(data: _Bytes, folders: list[_Folder]) -> None:
    """How each folder divides into files, with their sums."""
    counts = [1] * len(folders)
    part = data.byte()
    if part == 0x0D:
        counts = [data.count() for _ in folders]
        part = data.byte()
    sizes: list[list[int]] = []
    for folder, count in zip(folders, counts, strict=True):
        own = [data.number() for _ in range(count - 1)] if part == 9 else []
        sizes.append([*own, folder.size - sum(own)] if count else [])
    if part == 9:
        part = data.byte()
    if any(length < 0 for own in sizes for length in own):
        raise Malformed("its list of files is damaged")
    asked = sum(0 if count == 1 and f.crc is not None else count for f, count in zip(folders, counts, strict=True))
    given: Iterator[int | None] = iter(())
    while part != 0:
        if part == 10:
            given = iter(data.sums(asked))
        part = data.byte()
    for folder, own in zip(folders, sizes, strict=True):
        if len(own) == 1 and folder.crc is not None:
            folder.parts = [(own[0], folder.crc)]
        else:
            folder.parts = [(length, next(given, None)) for length in own]


def _verify(stream: BinaryIO, folders: list[_Folder], start: int, packs: list[int], limits: Limits) -> int:
    at, used, verified = 32 + start, 0, 0
    for number, folder in enumerate(folders):
        own = packs[used : used + folder.packed]
        parts = iter(folder.parts)
        left, wanted = next(parts, (0, None))
        crc = 0
        for piece in _unpacked(stream, folder, at, own, limits):
            verified += len(piece)
            if limits.too_much(verified, at + sum(own)):
                raise Refused("it would unpack to more than can be a document: refused")
            view = memoryview(piece)
            while True:
                crc = zlib.crc32(view[:left], crc)
                taken = min(left, len(view))
                left, view = left - taken, view[taken:]
                if left:
                    break
                if wanted is not None and crc != wanted:
                    raise Malformed(f"the sum of a file in its run {number + 1} does not fit", at)
                (left, wanted), crc = next(parts, (0, None)), 0
                if not view and not left:
                    break
                if not left and not wanted:
                    raise Malformed("more is packed than its list says", at)
        if left:
            raise Malformed(f"its run {number + 1} of packed files stops before its end", at)
        at += sum(own)
        used += folder.packed
    return verified


class _Inflater(Protocol):
    def decompress(self, data: bytes, max_length: int = ...) -> bytes: ...


def _inflater(folder: _Folder) -> _Inflater | None:
    """What unpacks a folder; None where it is only stored."""
    idents = [ident for ident, _ in folder.coders]
    if _SECRET in idents:
        raise _Secret
    unknown = next((name for ident, name in _NAMES.items() if ident in idents), None)
    if unknown or not folder.plain:
        raise _Unknown(unknown or "several methods at once")
    if idents == [_COPY]:
        return None
    if idents == [_BZIP2]:
        return bz2.BZ2Decompressor()
    if idents == [_DEFLATE]:
        return zlib.decompressobj(-15)
    if idents[-1] == _LZMA and len(idents) > 1:
        raise _Unknown("a branch filter over LZMA, whose end is not marked")
    filters: list[dict[str, int]] = []
    for ident, given in folder.coders:
        if ident == _LZMA2 and len(given) == 1 and given[0] <= 40:
            filters.append({"id": lzma.FILTER_LZMA2, "dict_size": (2 | given[0] & 1) << given[0] // 2 + 11})
        elif ident == _LZMA and len(given) == 5 and given[0] < 225:
            rest, lc = divmod(given[0], 9)
            pb, lp = divmod(rest, 5)
            room = max(int.from_bytes(given[1:], "little"), 4096)
            filters.append({"id": lzma.FILTER_LZMA1, "lc": lc, "lp": lp, "pb": pb, "dict_size": room})
        elif ident == _DELTA and len(given) == 1:
            filters.append({"id": lzma.FILTER_DELTA, "dist": given[0] + 1})
        elif ident in _BRANCHES:
            filters.append({"id": _BRANCHES[ident]})
        else:
            raise _Unknown(f"method {ident.hex()}")
    if any(step.get("dict_size", 0) > _MAX_DICTIONARY for step in filters):
        raise Refused("unpacking it would need more memory than any archive of documents does: refused")
    try:
        return lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters)
    except (lzma.LZMAError, ValueError) as error:
        raise Malformed("its list of files names impossible packing") from error


def _unpacked(
    stream: BinaryIO, folder: _Folder, at: int, packs: list[int], limits: Limits, step: int = _STEP
) -> Iterator[bytes]:
    """What one run of packed bytes unpacks to: exactly as much as the list says."""
    if limits.too_much(folder.size, sum(packs)):
        raise Refused("it would unpack to more than can be a document: refused")
    if len(folder.coders) == 1 and folder.coders[0][0] in (_PPMD, _DEFLATE64):
        yield from _by_library(stream, folder, at, sum(packs))
        return
    inflate = _inflater(folder)
    left, got = sum(packs), 0
    stream.seek(at)
    pending = b""
    while got < folder.size:
        stalled = not pending
        if stalled and left:
            pending = stream.read(min(step, left))
            if not pending:
                raise Malformed("the archive stops inside its packed files", at)
            left -= len(pending)
        if inflate is None:
            piece, pending = pending[: folder.size - got], b""
        else:
            try:
                piece = inflate.decompress(pending, min(step, folder.size - got))
            except (lzma.LZMAError, zlib.error, OSError, EOFError, ValueError) as error:
                raise Malformed("the packed files are damaged", at) from error
            # zlib hands back what it did not use; the others keep it.
            pending = getattr(inflate, "unconsumed_tail", b"")
        if not piece and not pending and not left and stalled:
            raise Malformed("the packed files stop before their end", at)
        got += len(piece)
        if piece:
            yield piece


def _by_library(stream: BinaryIO, folder: _Folder, at: int, packed: int) -> Iterator[bytes]:
    """What a run by PPMd or Deflate64 alone unpacks to."""
    got = 0
    stream.seek(at)
    method, properties = folder.coders[0]
    try:
        pieces = (
            ppmd.unpacked(stream, packed, folder.size, properties, "it")
            if method == _PPMD
            else deflate64.unpacked(stream, packed, "it")
        )
        for piece in pieces:
            got += len(piece)
            if got > folder.size:
                raise Malformed("more is packed than its list says", at)
            yield piece
    except (ValueError, EOFError) as error:
        raise Malformed("the packed files are damaged", at) from error
    if got < folder.size:
        raise Malformed("the packed files stop before their end", at)
