"""A recording with tables made anew, before its data: the coded pictures and sounds as they are, in the order in which they lay.

Source: ISO/IEC 14496-12, 8.2 to 8.7; 14496-14, 5.6; 14496-15, 5.3.3 and 8.3.3; 14496-1, 7.2.6.
"""

from __future__ import annotations

import struct
from array import array
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from rustfern.formats.media import alac
from rustfern.formats.media.aac import RATES
from rustfern.formats.media.coded_video import Avc, Hevc, Shape
from rustfern.repair.recordings.tables import USUAL_MATRIX
from rustfern.repair.recordings.window import MADE, Window

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    _Chunks = tuple[array[int], array[int]]

_TICKS = 1000
_PIECE = 1 << 20
_MOST_TOGETHER = 512
"""Samples of one chunk."""
_AT_ONCE = 1 << 17
"""Samples of one track that are put in order at once."""
_TIMES_MOST = (1 << 32) - 1


class Written(msgspec.Struct):
    """One track to be written: its kind, the description of its samples, ticks a second, width and height (0 for sound); of each sample the
    place, bytes, ticks it lasts, ticks that it is shown later than it comes, and whether it needs no other one (empty: none does); `start` ticks
    before the first. `frame`: uncoded sound, bytes of a moment. `skipped` ticks of the first ones are not played. No `shifts`: each is shown when it
    comes.
    """

    kind: bytes
    entry: bytes
    scale: int
    width: int
    height: int
    places: array[int]
    sizes: array[int]
    lasting: array[int]
    shifts: array[int]
    keys: array[int]
    start: int = 0
    skipped: int = 0
    frame: int = 0
    matrix: bytes = USUAL_MATRIX
    language: int = 0x55C4


def box(kind: bytes, *parts: bytes) -> bytes:
    """A box."""
    return struct.pack(">I4s", 8 + sum(map(len, parts)), kind) + b"".join(parts)


class _Offsets(msgspec.Struct):
    """A table of places, which are told once it is known where the data begins."""

    offsets: array[int]
    is_wide: bool

    def __len__(self) -> int:
        return len(self.offsets) * (8 if self.is_wide else 4)

    def from_place(self, first: int) -> bytes:
        """Its bytes, where the data begins at a place."""
        import numpy as np

        return (
            (np.frombuffer(self.offsets, np.uint64) + np.uint64(first))
            .astype(">u8" if self.is_wide else ">u4")
            .tobytes()
        )


def _around(kind: bytes, *parts: Sequence[bytes | _Offsets]) -> list[bytes | _Offsets]:
    """A box around others, in pieces: what is large is not copied at each level."""
    pieces = [piece for part in parts for piece in part]
    return [struct.pack(">I4s", 8 + sum(map(len, pieces)), kind), *pieces]


def full(kind: bytes, version: int, flags: int, *parts: bytes) -> bytes:
    """A box with a version and flags."""
    return box(kind, struct.pack(">I", version << 24 | flags), *parts)


def write(out: BinaryIO, window: Window, brand: bytes, tracks: Sequence[Written], pause: Callable[[], None]) -> None:
    """Write a recording: `brand` is its first box."""
    layout = _laid_out(tracks)
    total = layout.total
    head = (
        struct.pack(">I4sQ", 1, b"mdat", total + 16) if total > 0xFFFF0000 else struct.pack(">I4s", total + 8, b"mdat")
    )
    is_wide = total > 0xFFFF0000 - (64 << 20)
    tables = _tables(tracks, layout.chunks, is_wide=is_wide)
    first = sum(map(len, tables)) + len(brand) + len(head)
    out.write(brand)
    for each in tables:
        out.write(each.from_place(first) if isinstance(each, _Offsets) else each)
    del tables
    out.write(head)
    for start, stop in zip(layout.starts, layout.stops, strict=True):
        at = start
        while at < stop:
            pause()
            piece = window.at(at, min(_PIECE, stop - at))
            if not piece:
                raise OSError("the recording became shorter while it was read")
            out.write(piece)
            at += len(piece)


class _LaidOut(msgspec.Struct):
    """The data as it is written: bytes in all; (offset in the data, samples) of the chunks of each track; where the pieces that are copied as they
    lie start and stop.
    """

    total: int
    chunks: list[_Chunks]
    starts: array[int] = msgspec.field(default_factory=lambda: array("Q"))
    stops: array[int] = msgspec.field(default_factory=lambda: array("Q"))


def _laid_out(tracks: Sequence[Written]) -> _LaidOut:
    """The samples of all tracks in the order in which they lie, some at a time."""
    import numpy as np

    found = _LaidOut(0, [(array("Q"), array("I")) for _ in tracks])
    sources = [np.frombuffer(each.places, np.uint64).view(np.int64) for each in tracks]
    places = [_beside(each) for each in sources]
    sizes = [np.frombuffer(each.sizes, np.uint32) for each in tracks]
    longest = max(places, key=len)
    bounds = [1 << 62]
    if all(bool((each[1:] >= each[:-1]).all()) for each in places):
        bounds = [*longest[_AT_ONCE::_AT_ONCE].tolist(), *bounds]
    done = [0] * len(tracks)
    for bound in bounds:
        ends = [int(np.searchsorted(each, bound)) if len(bounds) > 1 else len(each) for each in places]
        spans = [slice(start, end) for start, end in zip(done, ends, strict=True)]
        done = ends
        if not any(span.stop > span.start for span in spans):
            continue
        at = np.concatenate([each[span] for each, span in zip(places, spans, strict=True)])
        order = np.argsort(at, kind="stable")
        at = np.concatenate([each[span] for each, span in zip(sources, spans, strict=True)])[order]
        long = np.concatenate([each[span] for each, span in zip(sizes, spans, strict=True)])[order].astype(np.int64)
        whose = np.concatenate([np.full(span.stop - span.start, n) for n, span in enumerate(spans)])[order]
        offsets = np.cumsum(long) - long + found.total
        for n, each in enumerate(tracks):
            first, counts = _chunks(offsets, whose, n, is_plain=bool(each.frame))
            found.chunks[n][0].frombytes(first.astype(np.uint64).tobytes())
            found.chunks[n][1].frombytes(counts.astype(np.uint32).tobytes())
        found.total += int(long.sum())
        breaks = np.flatnonzero(at[1:] != at[:-1] + long[:-1]).tolist()
        starts, stops = at[[0, *(n + 1 for n in breaks)]].tolist(), (at + long)[[*breaks, -1]].tolist()
        if found.stops and found.stops[-1] == starts[0]:
            found.stops.pop()
            del starts[0]
        found.starts.extend(starts)
        found.stops.extend(stops)
    return found


def _beside(sources: NDArray[np.int64]) -> NDArray[np.int64]:
    """Where samples are to lie: those that were made, behind the ones before them."""
    import numpy as np

    is_made = sources >= MADE
    if not is_made.any():
        return sources
    last = np.maximum.accumulate(np.where(is_made, -1, np.arange(len(sources))))
    return np.where(last < 0, 0, sources[last])


def _chunks(
    offsets: NDArray[np.int64], whose: NDArray[np.int64], track: int, *, is_plain: bool
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(offset in the data, samples) of each chunk of a track."""
    import numpy as np

    mine = np.flatnonzero(whose == track)
    if is_plain:
        return offsets[mine], np.ones(len(mine), np.int64)
    new = np.ones(len(mine), bool)
    new[1:] = mine[1:] != mine[:-1] + 1
    # Runs that are too long are cut.
    run = np.cumsum(new) - 1
    place = np.arange(len(mine)) - np.flatnonzero(new)[run] if len(mine) else np.zeros(0, np.int64)
    new |= place % _MOST_TOGETHER == 0
    starts = np.flatnonzero(new)
    return offsets[mine[starts]], np.diff(starts, append=len(mine))


def _tables(tracks: Sequence[Written], chunks: Sequence[_Chunks], *, is_wide: bool) -> list[bytes | _Offsets]:
    lasting = [(each.start + _shown_to(each) - each.skipped) * _TICKS // each.scale for each in tracks]
    most = min(max(lasting, default=0), _TIMES_MOST)
    head = full(
        b"mvhd", 0, 0, struct.pack(">IIIIIH10x", 0, 0, _TICKS, most, 0x10000, 0x100), USUAL_MATRIX, bytes(24), struct.pack(">I", len(tracks) + 1),
    )  # fmt: skip
    return _around(
        b"moov",
        [head],
        *(_trak(each, n, lasting[n - 1], chunks[n - 1], is_wide=is_wide) for n, each in enumerate(tracks, 1)),
    )


def _shown_to(each: Written) -> int:
    """Ticks to the end of what is shown last."""
    import numpy as np

    whole = sum(each.lasting)
    if not any(each.shifts):
        return whole
    ends = np.cumsum(np.frombuffer(each.lasting, np.uint32), dtype=np.int64) + np.frombuffer(each.shifts, np.int64)
    return int(ends.max())


_MEDIA = {
    b"vide": full(b"vmhd", 0, 1, bytes(8)),
    b"soun": full(b"smhd", 0, 0, bytes(4)),
}
_NAMES = {b"vide": b"VideoHandler\0", b"soun": b"SoundHandler\0"}


def _trak(each: Written, number: int, lasting: int, chunks: _Chunks, *, is_wide: bool) -> list[bytes | _Offsets]:
    lasting = min(lasting, _TIMES_MOST)
    sound = 0x100 if each.kind == b"soun" else 0
    head = full(
        b"tkhd", 0, 3, struct.pack(">IIIII8xHHHH", 0, 0, number, 0, lasting, 0, 0, sound, 0), each.matrix, struct.pack(">II", each.width << 16, each.height << 16),
    )  # fmt: skip
    edits = b""
    if each.start or each.skipped:
        rows = []
        before = each.start * _TICKS // each.scale
        if before:
            rows.append(struct.pack(">IiI", before, -1, 0x10000))
        rows.append(struct.pack(">IiI", max(lasting - before, 0), each.skipped, 0x10000))
        edits = box(b"edts", full(b"elst", 0, 0, struct.pack(">I", len(rows)), *rows))
    whole = sum(each.lasting)
    clock = (
        full(b"mdhd", 1, 0, struct.pack(">QQIQHH", 0, 0, each.scale, whole, each.language, 0))
        if whole > _TIMES_MOST
        else full(b"mdhd", 0, 0, struct.pack(">IIIIHH", 0, 0, each.scale, whole, each.language, 0))
    )
    kind = full(b"hdlr", 0, 0, bytes(4), each.kind, bytes(12), _NAMES.get(each.kind, b"DataHandler\0"))
    where = box(b"dinf", full(b"dref", 0, 0, struct.pack(">I", 1), full(b"url ", 0, 1)))
    media = _MEDIA.get(each.kind, full(b"nmhd", 0, 0))
    inner = _around(b"minf", [media, where], _stbl(each, chunks, is_wide=is_wide))
    return _around(b"trak", [head, edits], _around(b"mdia", [clock, kind], inner))


def _stbl(each: Written, chunks: _Chunks, *, is_wide: bool) -> list[bytes | _Offsets]:
    import numpy as np

    counts = np.frombuffer(chunks[1], np.uint32)
    entry = full(b"stsd", 0, 0, struct.pack(">I", 1), each.entry)
    parts: list[bytes | _Offsets]
    sizes: list[bytes | _Offsets]
    if each.frame:
        counts = np.frombuffer(each.sizes, np.uint32) // each.frame
        moments = int(counts.sum(dtype=np.int64))
        parts = [full(b"stts", 0, 0, struct.pack(">III", 1, moments, 1))]
        sizes = [full(b"stsz", 0, 0, struct.pack(">II", each.frame, moments))]
    else:
        parts = _table(b"stts", _runs(each.lasting))
        if any(each.shifts):
            parts += _table(b"ctts", _runs(each.shifts), version=int(min(each.shifts) < 0))
        if each.keys and not all(each.keys):
            numbers = (np.flatnonzero(np.frombuffer(each.keys, np.int8)) + 1).astype(">u4")
            parts += _table(b"stss", [struct.pack(">I", len(numbers)), numbers.tobytes()])
        listed = np.frombuffer(each.sizes, np.uint32).astype(">u4").tobytes()
        sizes = _table(b"stsz", [struct.pack(">II", 0, len(each.sizes)), listed])
    changes = np.flatnonzero(np.concatenate([[True], counts[1:] != counts[:-1]])) if len(counts) else np.zeros(0, int)
    groups = np.empty((len(changes), 3), ">u4")
    groups[:, 0], groups[:, 1], groups[:, 2] = changes + 1, counts[changes], 1
    grouped = _table(b"stsc", [struct.pack(">I", len(changes)), groups.tobytes()])
    placed = _table(b"co64" if is_wide else b"stco", [struct.pack(">I", len(chunks[0])), _Offsets(chunks[0], is_wide)])
    return _around(b"stbl", [entry], parts, grouped, sizes, placed)


def _table(kind: bytes, rows: Sequence[bytes | _Offsets], *, version: int = 0) -> list[bytes | _Offsets]:
    return _around(kind, [struct.pack(">I", version << 24)], rows)


def _runs(values: array[int]) -> list[bytes]:
    """The count of runs of equal values, and (how many, which) of each; negative ones as their complement."""
    import numpy as np

    told = np.frombuffer(values, np.dtype(f"{'u' if values.typecode == 'I' else 'i'}{values.itemsize}"))
    starts = np.flatnonzero(np.concatenate([[True], told[1:] != told[:-1]])) if len(told) else np.zeros(0, np.int64)
    rows = np.empty((len(starts), 2), ">u4")
    rows[:, 0] = np.diff(starts, append=len(told))
    rows[:, 1] = told[starts].astype(np.int64) & 0xFFFFFFFF
    return [struct.pack(">I", len(starts)), rows.tobytes()]


def _picture_entry(coding: bytes, shape: Shape, *inner: bytes) -> bytes:
    body = struct.pack(">6xH16xHHIIIH32sHh", 1, shape.width, shape.height, 0x480000, 0x480000, 0, 1, b"", 24, -1)
    return box(coding, body, *inner)


def entry_of_units(coding: Avc | Hevc) -> bytes | None:
    """A description of samples by the settings that were found in the pictures; None where they are not all there."""
    shape = coding.shape
    if shape is None:
        return None
    if isinstance(coding, Avc):
        if not coding.pictures:
            return None
        sets, pictures = list(coding.sets.values())[:31], list(coding.pictures.values())[:255]
        told = (
            bytes([1, *sets[0][1:4], 0xFF, 0xE0 | len(sets)])
            + _listed(sets)
            + bytes([len(pictures)])
            + _listed(pictures)
        )
        return _picture_entry(b"avc1", shape, box(b"avcC", told))
    kinds = {kind: [unit for (each, _), unit in coding.sets.items() if each == kind] for kind in (32, 33, 34)}
    if not all(kinds.values()):
        return None
    profile = kinds[33][0][2:40].replace(b"\0\0\3", b"\0\0")[1:13].ljust(12, b"\0")
    told = b"\1" + profile + struct.pack(">HBBBBHBB", 0xF000, 0xFC, 0xFD, 0xF8, 0xF8, 0, 0x0F, 3)
    for kind, units in kinds.items():
        told += struct.pack(">BH", 0x80 | kind, len(units)) + _listed(units)
    return _picture_entry(b"hvc1", shape, box(b"hvcC", told))


def _listed(units: Iterable[bytes]) -> bytes:
    return b"".join(struct.pack(">H", len(each)) + each for each in units)


def entry_with_settings(coding: bytes, kind: bytes, width: int, height: int, settings: bytes) -> bytes:
    """A description of pictures with the settings that stand in a box of some kind."""
    return _picture_entry(coding, Shape(width, height, 0.0, 0), box(kind, settings))


def entry_of_av1(shape: Shape, config: bytes) -> bytes:
    """A description of pictures in AV1 (AV1 in ISO base media files, 2.2 and 2.3)."""
    return _picture_entry(b"av01", shape, box(b"av1C", config))


def entry_of_jpegs(width: int, height: int) -> bytes:
    """A description of pictures each of which is a JPEG."""
    return _picture_entry(b"jpeg", Shape(width, height, 0.0, 0))


def entry_of_intra(letters: bytes, width: int, height: int) -> bytes:
    """A description of pictures that need no others."""
    return _picture_entry(letters, Shape(width, height, 0.0, 0))


def entry_of_aac(rate: int, channels: int) -> bytes:
    """A description of sound in AAC."""
    settings = struct.pack(">H", 2 << 11 | rate << 7 | channels << 3)
    inner = b"\x05" + bytes([len(settings)]) + settings
    decoder = b"\x04" + bytes([13 + len(inner)]) + struct.pack(">BBBHII", 0x40, 0x15, 0, 0, 0, 0) + inner
    whole = b"\x03" + bytes([3 + len(decoder) + 3]) + b"\0\0\0" + decoder + b"\x06\x01\x02"
    return box(b"mp4a", _sound(channels, 16, RATES[rate]), full(b"esds", 0, 0, whole))


def entry_of_alac(settings: alac.Settings) -> bytes:
    """A description of sound in ALAC, with its cookie."""
    told = struct.pack(
        ">IBBBBBBHIII", settings.samples, 0, settings.bits, settings.scale, settings.start, settings.limit, settings.channels, 255, 0, 0, settings.rate
    )  # fmt: skip
    return box(b"alac", _sound(settings.channels, settings.bits, settings.rate), full(b"alac", 0, 0, told))


def entry_of_plain(coding: bytes, channels: int, bits: int, rate: int, *inner: bytes) -> bytes:
    """A description of uncoded sound, or of sound that needs no settings but those in boxes."""
    return box(coding, _sound(channels, bits, rate), *inner)


def _sound(channels: int, bits: int, rate: int) -> bytes:
    return struct.pack(">6xH8xHH4xI", 1, channels, bits, min(rate, 65535) << 16)
