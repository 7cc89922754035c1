"""MP4 and MOV recordings: the tree of boxes, and every sample of every track where its tables say.

Source: ISO/IEC 14496-12 (4.2 boxes, 8.6 to 8.8 sample tables and fragments), 14496-15 5.3 (length-prefixed video units), the
published MOV file format.
"""

from __future__ import annotations

import struct
import sys
import zlib
from array import array
from bisect import bisect_right
from collections.abc import Iterator
from typing import BinaryIO, Literal, TypeVar

import msgspec

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.core.remarks import counted
from rustfern.formats.identity import Marks, of_movie
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.media.fragments import Run, number_of, runs_of, usual_of
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

_Bytes = TypeVar("_Bytes", bytes, memoryview)
_PARENTS = frozenset({b"moov", b"trak", b"mdia", b"minf", b"stbl", b"moof", b"traf", b"mvex", b"dinf", b"edts"})
TOP = frozenset(
    {b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"moof", b"sidx", b"styp", b"mfra", b"uuid", b"meta", b"pnot",
     b"udta", b"emsg", b"prft", b"PICT", b"pdin", b"ssix"}
)  # fmt: skip
_MAX_MOOV, _MAX_MOOF = 256 << 20, 32 << 20
_AHEAD, _WORTH_IT = 4 << 20, 64
"""Bytes read at a time, and pictures in them that are worth NumPy's start."""
_MAX_SAMPLES = 20_000_000
_HOLE_BYTES = bytes(2048)
"""Zeros that show a hole inside compressed samples."""
_HOLE_IN_UNITS = bytes(256)
"""The same where pictures lie in units, inside of which no three zeros follow each other (H.264 and H.265, 7.4.1)."""
_LENGTHS = {b"avc1": b"avcC", b"avc3": b"avcC", b"hvc1": b"hvcC", b"hev1": b"hvcC"}
_RARE = {b"hvc1": "HEVC", b"hev1": "HEVC", b"av01": "AV1", b"apch": "a camera's own format", b"vvc1": "VVC"}
_PLAIN = frozenset({b"raw ", b"sowt", b"twos", b"lpcm", b"NONE", b"in24", b"in32", b"fl32", b"fl64", b"ulaw", b"alaw"})


class _Track(msgspec.Struct):
    kind: bytes = b""
    coding: bytes = b""
    nal: int = 0
    sizes: array[int] = msgspec.field(default_factory=lambda: array("I"))
    same_size: int = 0
    count: int = 0
    chunks: array[int] = msgspec.field(default_factory=lambda: array("I"))
    group_chunks: array[int] = msgspec.field(default_factory=lambda: array("I"))
    group_samples: array[int] = msgspec.field(default_factory=lambda: array("I"))
    """Where runs of chunks with as many samples each begin, and how many these are."""
    scale: int = 0
    length: int = 0


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Walk all boxes and samples. Raises `Malformed`."""
    read = ByteReader(stream, size)
    moov: bytes | None = None
    fragments: list[tuple[int, int, int]] = []
    data: list[tuple[int, int]] = []
    brand = b""
    at = 0
    while at < size:
        kind, start, end = box(read, at)
        if kind not in TOP:
            if data and moov is not None and not read.upto(at, 65536).strip(b"\0"):
                break  # zeros behind the end, as some cameras leave them
            raise Malformed(f"no box of a recording, where one should begin ({kind!r})", at)
        if kind == b"ftyp":
            brand = read.upto(start, 4)
        elif kind == b"mdat":
            data.append((start, end))
        elif kind == b"moov":
            if end - start > _MAX_MOOV:
                raise Refused("the tables of the recording are too large: refused", at)
            moov = _unpacked(read.upto(start, end - start), at)
        elif kind == b"moof":
            fragments.append((at, start, end))
        at = end
    form = "mov" if brand in (b"qt  ", b"") else "mp4"
    if moov is None:
        what = "its tables were never written" if data else "it holds no recording"
        raise Malformed(f"the recording was never finished: {what}", size)
    samples = seconds = 0
    codings = set[bytes]()
    tracks: dict[int, _Track] = {}
    for kind, body in inside(memoryview(moov), 0):
        if kind != b"trak":
            continue
        track = _track(body)
        samples += _samples(read, track, data)
        tracks[number_of(bytes(body)) or -len(tracks)] = track
        codings.add(track.coding)
        if track.scale:
            seconds = max(seconds, track.length // track.scale)
    if not tracks:
        raise Malformed("the recording has no tracks")
    if not samples and not fragments:
        if not data and any(kind == b"mvex" for kind, _ in inside(memoryview(moov), 0)):
            return Reading(
                Glance(format=form), State.EMPTY,
                "the whole beginning of a recording in fragments, and none of them: they lie in files of their own, or were never written",
                {"tracks": len(tracks)}, has_text=False,
            )  # fmt: skip
        raise Malformed("the recording holds no samples")
    if fragments:
        seconds = max(seconds, _fragments(read, moov, tracks, fragments, data))
        extent = f"{counted(len(fragments), 'fragment')}, whose samples lie where their tables say"
    else:
        extent = f"all {samples} samples lie where the tables say"
    reason = f"read to the end: {extent}; pictures and sounds in them cannot be verified further"
    coded = codings & _RARE.keys()
    needs = (
        f"its pictures are packed as {_RARE[coded.pop()]}, for which many players lack the decoder" if coded else None
    )
    return Reading(
        Glance(format=form, needs=needs, identity=_identity(moov)),
        State.INTACT,
        reason,
        {"tracks": len(tracks), "seconds": seconds},
        has_text=False,
    )


def _unpacked(moov: bytes, at: int) -> bytes:
    """Tables that older programs packed: cmov with the method (dcom) and the packed tables (cmvd), by the published format of .mov files."""
    view = next((body for kind, body in inside(memoryview(moov), 0) if kind == b"cmov"), None)
    if view is None:
        return moov
    packed = bytes(view)
    found = dict(inside(packed, 0))
    how, data = found.get(b"dcom", b""), found.get(b"cmvd", b"")
    if how[:4] != b"zlib":
        raise Refused("the tables of the recording are packed in a way that is not unpacked here", at)
    size = int.from_bytes(data[:4], "big")
    if size > _MAX_MOOV:
        raise Refused("the tables of the recording are too large: refused", at)
    inflate = zlib.decompressobj()
    try:
        made = inflate.decompress(data[4:], size + 1)
    except zlib.error as error:
        raise Malformed("the packed tables of the recording are damaged", at) from error
    tables = next((body for kind, body in inside(made, 0) if kind == b"moov"), None) if len(made) == size else None
    if tables is None or not inflate.eof:
        raise Malformed("the packed tables of the recording are damaged", at)
    return tables


def _identity(moov: bytes) -> Marks:
    boxes = list(inside(memoryview(moov), 0))
    heads = [bytes(body) for kind, body in boxes if kind == b"mvhd"]
    tracks = (
        bytes(inner) for kind, body in boxes if kind == b"trak" for name, inner in inside(body, 0) if name == b"tkhd"
    )
    return of_movie(heads[0], tracks) if heads else ()


def box(read: ByteReader, at: int) -> tuple[bytes, int, int]:
    """(kind, start of its body, end) of the box at a position."""
    size = read.size
    head = read.upto(at, 16)
    if len(head) < 8:
        raise Malformed("the recording stops inside the head of a box", at)
    length, kind = struct.unpack_from(">I4s", head)
    start = at + 8
    if length == 1:
        if len(head) < 16:
            raise Malformed("the recording stops inside the head of a box", at)
        length, start = struct.unpack_from(">Q", head, 8)[0], at + 16
    elif length == 0:
        if kind != b"mdat" and kind.strip(b"\0"):
            return kind, start, size
        # The length of the data is written last: it was still being recorded.
        length = size - at
    if length < start - at or at + length > size:
        if kind == b"mdat" or kind in TOP:
            raise Malformed(
                f"the box {kind.decode('latin-1')} reaches beyond the end of the file: the recording is cut off", at
            )
        raise Malformed("no box of a recording, where one should begin", at)
    return kind, start, at + length


def inside(body: _Bytes, base: int) -> Iterator[tuple[bytes, _Bytes]]:
    """(kind, content) of the boxes in one, of which no copy is made where it is a view. Raises `Malformed`."""
    at = 0
    while at + 8 <= len(body):
        length, kind = struct.unpack_from(">I4s", body, at)
        start = at + 8
        if length == 1 and at + 16 <= len(body):
            length, start = struct.unpack_from(">Q", body, at + 8)[0], at + 16
        if length == 0:
            if at + 8 >= len(body) - 4 or not bytes(body[at:]).strip(b"\0"):
                return  # a list in the older form ends in a zero
            length = len(body) - at
        if length < start - at or at + length > len(body):
            raise Malformed(f"a table of the recording ({kind.decode('latin-1')}) is damaged")
        yield kind, body[start : at + length]
        at += length


def _track(body: memoryview) -> _Track:
    track = _Track()
    stack = [body]
    try:
        while stack:
            for kind, inner in inside(stack.pop(), 0):
                if kind in _PARENTS:
                    stack.append(inner)
                elif kind == b"hdlr" and not track.kind:
                    track.kind = bytes(inner[8:12])
                elif kind == b"mdhd":
                    at = 20 if inner[0] else 12
                    track.scale = struct.unpack_from(">I", inner, at)[0]
                    track.length = struct.unpack_from(">Q" if inner[0] else ">I", inner, at + 4)[0]
                elif kind == b"stsd":
                    _coding(track, bytes(inner))
                elif kind == b"stsz":
                    track.same_size, track.count = struct.unpack_from(">II", inner, 4)
                    if track.count > _MAX_SAMPLES:
                        raise Malformed("the recording claims more samples than there can be")
                    if not track.same_size:
                        track.sizes = _numbers("I", inner, 12, track.count)
                elif kind == b"stco":
                    track.chunks = _numbers("I", inner, 8, struct.unpack_from(">I", inner, 4)[0])
                elif kind == b"co64":
                    track.chunks = _numbers("Q", inner, 8, struct.unpack_from(">I", inner, 4)[0])
                elif kind == b"stsc":
                    count = struct.unpack_from(">I", inner, 4)[0]
                    if 8 + 12 * count > len(inner):
                        raise Malformed("a table of the recording (stsc) is damaged")
                    runs = _numbers("I", inner, 8, 3 * count)
                    track.group_chunks, track.group_samples = runs[0::3], runs[1::3]
    except (struct.error, IndexError, MemoryError) as error:
        raise Malformed("a table of the recording is cut off") from error
    return track


def _numbers(code: Literal["I", "Q"], data: memoryview, at: int, count: int) -> array[int]:
    """So many numbers of four or eight bytes, the first byte the highest. Raises `struct.error` where they are not all there."""
    found = array(code)
    if at + count * found.itemsize > len(data):
        raise struct.error
    found.frombytes(data[at : at + count * found.itemsize])
    if sys.byteorder == "little":
        found.byteswap()
    return found


def _coding(track: _Track, inner: bytes) -> None:
    track.coding = inner[12:16]
    wanted = _LENGTHS.get(track.coding)
    at = inner.find(wanted) if wanted else -1
    if at > 0:
        track.nal = 1 + (inner[at + 4 + (21 if wanted == b"hvcC" else 4)] & 3)


def _samples(read: ByteReader, track: _Track, data: list[tuple[int, int]]) -> int:
    """Follow the chunks of one track; every sample must lie in the recorded data."""
    number = group = 0
    ahead = _Ahead(read, track)
    low, high = data[0] if data else (0, 0)
    looked_into = track.kind in (b"vide", b"soun") and track.coding not in _PLAIN
    for chunk, start in enumerate(track.chunks, 1):
        while group + 1 < len(track.group_chunks) and track.group_chunks[group + 1] <= chunk:
            group += 1
        count = track.group_samples[group] if track.group_samples else 0
        sizes = [track.same_size] * count if track.same_size else track.sizes[number : number + count].tolist()
        if track.same_size and track.coding in _PLAIN:
            sizes = []  # counted in sound frames, whose size the table does not give
        number += count
        length = sum(sizes)
        if start > read.size or (length and not low <= start <= start + length <= high):
            within = next((each for each in data if each[0] <= start and start + length <= each[1]), None)
            if start > read.size or within is None:
                raise Malformed("a sample lies outside of the recorded data", min(start, read.size))
            low, high = within
        if length and looked_into:
            ahead.look(start, length, sizes)
    ahead.settle()
    if number < track.count and track.chunks:
        raise Malformed(f"only {number} of {track.count} samples of a track have a place")
    return min(number, track.count) if track.count else number


def _fragments(
    read: ByteReader,
    moov: bytes,
    tracks: dict[int, _Track],
    fragments: list[tuple[int, int, int]],
    data: list[tuple[int, int]],
) -> int:
    """Follow the samples of all fragments, which are (place, where its content begins, end); how many seconds they last."""
    usual = usual_of(moov)
    ahead = {number: _Ahead(read, track) for number, track in tracks.items()}
    lasting = dict.fromkeys(tracks, 0)
    starts = [start for start, _ in data]
    count = covered = 0
    for at, start, end in fragments:
        if end - start > _MAX_MOOF:
            raise Refused("the tables of a fragment are too large: refused", at)
        for run in runs_of(read.upto(start, end - start), at, usual, read.size):
            track = tracks.get(run.track)
            if track is None:
                raise Malformed("a fragment belongs to no track of the recording", at)
            length = sum(run.sizes)
            count, covered = count + len(run.sizes), covered + length
            if count > min(read.size, _MAX_SAMPLES) or covered > 2 * read.size:
                raise Refused("the fragments of the recording claim more than it holds: refused", at)
            within = bisect_right(starts, run.at) - 1
            if length and (within < 0 or run.at + length > data[within][1]):
                raise Malformed("a sample lies outside of the recorded data", min(run.at, read.size))
            lasting[run.track] += sum(run.lasting)
            if length and track.kind in (b"vide", b"soun") and track.coding not in _PLAIN:
                _look_into(ahead[run.track], run)
    for each in ahead.values():
        each.settle()
    return max((lasting[number] // track.scale for number, track in tracks.items() if track.scale), default=0)


def _look_into(ahead: _Ahead, run: Run) -> None:
    """Look into the samples of a run, some at a time."""
    at, sizes, length = run.at, list[int](), 0
    for size in run.sizes:
        if sizes and length + size > _AHEAD:
            ahead.look(at, length, sizes)
            at, sizes, length = at + length, [], 0
        sizes.append(size)
        length += size
    ahead.look(at, length, sizes)


_BEGIN_WITH = {b"jpeg": b"\xff\xd8", b"mjpa": b"\xff\xd8", b"mjpb": b"\xff\xd8", b"mp4v": b"\0\0\1"}
"""What each coded picture begins with, where its parts do not tell their lengths."""


_SURE_BEGINNING = {
    b"jpeg": (0, b"\xff\xd8"),
    **dict.fromkeys((b"apco", b"apcs", b"apcn", b"apch", b"ap4h", b"ap4x"), (4, b"icpf")),
}
"""Where what stands in each coded picture."""


class CodedPicture(msgspec.Struct, frozen=True):
    """One picture of a film: its place, bytes, and what shows that it is one: bytes of each length inside, else what it begins with."""

    at: int
    size: int
    width: int
    begin: bytes

    def is_in(self, data: bytes) -> bool:
        """Whether some bytes are such a picture: parts one behind the other, each after its length."""
        if len(data) != self.size:
            return False
        if not self.width:
            return data.startswith(self.begin)
        return _is_filled(data, 0, len(data), self.width) and bool(data)


def _is_filled(data: bytes, at: int, end: int, width: int) -> bool:
    """Whether units, each behind its length, lie one behind the other up to an end."""
    while at + width <= end:
        length = int.from_bytes(data[at : at + width], "big")
        at += width + length
        if not length:
            return False
    return at == end


def coded_pictures(moov: bytes) -> list[CodedPicture]:
    """The pictures of a recording that show that they are such, by its tables, in order. Raises `Malformed`."""
    found: list[CodedPicture] = []
    for body in (body for kind, body in inside(memoryview(_unpacked(moov, 0)), 0) if kind == b"trak"):
        track = _track(body)
        begin = _BEGIN_WITH.get(track.coding, b"")
        if track.same_size or not (track.nal or begin):
            continue
        number = group = 0
        for chunk, start in enumerate(track.chunks, 1):
            while group + 1 < len(track.group_chunks) and track.group_chunks[group + 1] <= chunk:
                group += 1
            for size in track.sizes[number : number + (track.group_samples[group] if track.group_samples else 0)]:
                found.append(CodedPicture(start, size, track.nal, begin))
                start, number = start + size, number + 1
    return sorted(found, key=lambda each: each.at)


def _whole(data: bytes, sizes: list[int], track: _Track, start: int) -> None:
    hole = data.find(_HOLE_IN_UNITS if track.nal else _HOLE_BYTES)
    if hole >= 0:
        raise Malformed("a hole of zeros in the recording", start + hole)
    begin = _SURE_BEGINNING.get(track.coding)
    if begin is not None:
        at = 0
        for size in sizes:
            if size and data[at + begin[0] : at + begin[0] + len(begin[1])] != begin[1]:
                raise Malformed("no picture lies where the tables say that one does", start + at)
            at += size


class _Ahead:
    """The samples of one track, read many chunks at a time: these are small mostly, and follow one another."""

    def __init__(self, read: ByteReader, track: _Track) -> None:
        self._read, self._track = read, track
        self._held, self._begun = b"", 0
        self._waiting: list[tuple[int, int]] = []

    def look(self, start: int, length: int, sizes: list[int]) -> None:
        """Look into the samples of a chunk. Raises `Malformed`, perhaps not before `settle`."""
        if not self._begun <= start <= start + length <= self._begun + len(self._held):
            self.settle()
            self._held, self._begun = self._read.upto(start, max(length, _AHEAD)), start
            if len(self._held) < length:
                raise Malformed("a sample lies outside of the recorded data", self._read.size)
        at = start - self._begun
        _whole(self._held[at : at + length], sizes, self._track, start)
        if self._track.nal:
            for size in sizes:
                self._waiting.append((at, size))
                at += size

    def settle(self) -> None:
        """Follow the units of all pictures that wait, each a step at a time: they must end where the pictures do. Raises `Malformed`."""
        width = self._track.nal
        if len(self._waiting) < _WORTH_IT:
            for at, size in self._waiting:
                if not _is_filled(self._held, at, at + size, width):
                    raise Malformed("a picture of the recording is damaged", self._begun + at)
            self._waiting.clear()
            return
        import numpy as np

        waiting, self._waiting = np.array(self._waiting, np.int64), []
        data = np.frombuffer(self._held, np.uint8)
        unit, end = waiting[:, 0].copy(), waiting.sum(axis=1)
        hurt = np.zeros(len(unit), bool)
        open_ = np.flatnonzero(unit + width <= end)
        while len(open_):
            here = unit[open_]
            length = np.zeros(len(here), np.int64)
            for place in range(width):
                length = length << 8 | data[here + place]
            unit[open_] = here + width + length
            hurt[open_] |= (length == 0) | (unit[open_] > end[open_])
            open_ = open_[(unit[open_] + width <= end[open_]) & ~hurt[open_]]
        wrong = np.flatnonzero(hurt | (unit != end))
        if len(wrong):
            raise Malformed("a picture of the recording is damaged", self._begun + int(waiting[wrong[0], 0]))
