"""TIFF pictures that are cut off, have holes or have lost their directory: all strips that can be had, written unpacked.

Source: TIFF 6.0: 2 (directories), 8 (strips), 9 (PackBits), 13 (LZW), 14 (differences); technical note 2 (Deflate).
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator, Sequence
from typing import BinaryIO

import msgspec

from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step

_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4, 16: 8}
_WIDTH, _HEIGHT, _BITS, _PACKING, _SHOWN, _STRIPS, _SAMPLES, _ROWS, _COUNTS, _PLANAR, _DIFFERENCES, _COLOURS, _EXTRA = (
    256, 257, 258, 259, 262, 273, 277, 278, 279, 284, 317, 320, 338,
)  # fmt: skip
_KEPT = (282, 283, 296, 270, 305, 306, 315, 339)
_PLAIN, _LZW, _DEFLATE, _OTHER_DEFLATE, _PACK_BITS = 1, 5, 8, 32946, 32773
_MUCH_ALIKE = 0.7
_MOST_PAGES, _MOST_BYTES, _MOST_STRIPS = 512, 1 << 30, 1 << 20

Tags = dict[int, tuple[int, ...]]


class Page(msgspec.Struct):
    """One picture: pixels, bits of a value, values of a pixel, how they are shown; its rows without packing, and how many of their bytes are right;
    whether anything tells how many rows it had.
    """

    width: int
    height: int
    bits: int
    samples: int
    shown: int
    rows: bytes
    right: int
    more: Tags = {}
    is_told: bool = True


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a picture. Raises `NothingLeft`."""
    data = job.data(96 << 20)
    order = ">" if data[:2] == b"MM" or (data[:2] != b"II" and _sought(data, ">")) else "<"
    pages: list[Page] = []
    lost: list[Loss] = []
    odd: list[Tags] = []
    for tags in _directories(data, order):
        page = _page(data, tags, job.budget.spend)
        if page is not None:
            pages.append(page)
        else:
            odd.append(tags)
    if not pages:
        sample = next((each.data for each in job.others if each.is_sample and each.data[:2] in (b"II", b"MM")), None)
        known = next(_directories(sample, ">" if sample[:2] == b"MM" else "<"), {}) if sample is not None else {}
        pages.append(_without_directory(data, odd[0] if odd else {}, known, job.budget.spend))
        lost.append(Loss(LossKind.SIZE))
    whole = sum(len(page.rows) for page in pages)
    is_told = not lost or pages[0].is_told
    share = sum(page.right for page in pages) / whole if whole else 0.0
    if share <= 0:
        raise NothingLeft("none of its rows can be had")
    if share < 1 and is_told:
        lost.append(Loss(LossKind.AREA, "", max(round(100 * (1 - share)), 1)))
    _write(out, pages)
    return Outcome("tiff", (Step.ROWS_KEPT,), tuple(lost))


def _directories(data: bytes, order: str) -> Iterator[Tags]:
    """The entries of each directory, as far as they can be read; one of zeros tells its numbers by their places."""
    if len(data) < 8:
        return
    (at,) = struct.unpack_from(f"{order}I", data, 4)
    if data[:4] not in (b"II*\0", b"MM\0*"):
        at = _sought(data, order)
    seen: set[int] = set()
    while 0 < at < len(data) - 2 and at not in seen and len(seen) < _MOST_PAGES:
        seen.add(at)
        (count,) = struct.unpack_from(f"{order}H", data, at)
        tags: Tags = {}
        for n in range(count if 0 < count < 512 else 24):
            entry = data[at + 2 + 12 * n : at + 14 + 12 * n]
            if len(entry) < 12:
                break
            tag, kind, amount, _ = struct.unpack(f"{order}HHII", entry)
            values = _values(data, order, entry, kind, amount)
            if values is None:
                continue
            if not tag and kind == 4 and amount > 1 and _STRIPS not in tags:
                tag = _STRIPS  # the number of a list of places is gone
            if tag:
                tags.setdefault(tag, values)
        yield tags
        end = at + 2 + 12 * count
        at = struct.unpack_from(f"{order}I", data, end)[0] if 0 < count < 512 and end + 4 <= len(data) else 0


def _sought(data: bytes, order: str) -> int:
    """Where a directory begins that nothing leads to: its first entries are of the width, or of the kind and the width; 0 if nowhere."""
    for kind in (3, 4):
        mark = struct.pack(f"{order}HHI", _WIDTH, kind, 1)
        at = data.find(mark)
        while at >= 14:
            for start in (at - 2, at - 14):
                (count,) = struct.unpack_from(f"{order}H", data, start)
                tags = [
                    struct.unpack_from(f"{order}H", data, start + 2 + 12 * n)[0]
                    for n in range(min(count, (len(data) - start - 2) // 12))
                ]
                if 8 <= count <= 64 and len(tags) == count and tags == sorted(tags):
                    return int(start)
            at = data.find(mark, at + 1)
    return 0


def _values(data: bytes, order: str, entry: bytes, kind: int, amount: int) -> tuple[int, ...] | None:
    size = _SIZES.get(kind, 0) * amount
    if not size or amount > _MOST_STRIPS:
        return None
    at = struct.unpack_from(f"{order}I", entry, 8)[0]
    raw = entry[8 : 8 + size] if size <= 4 else data[at : at + size]
    if len(raw) < size:
        return None
    if kind in (5, 10):
        return struct.unpack(f"{order}{amount * 2}I", raw)
    form = {1: "B", 2: "B", 3: "H", 4: "I", 6: "b", 7: "B", 8: "h", 9: "i", 13: "I", 16: "Q"}.get(kind)
    return struct.unpack(f"{order}{amount}{form}", raw) if form else None


def _page(data: bytes, tags: Tags, pause: Callable[[], None]) -> Page | None:
    """The picture of a directory that tells its size and where its strips lie; None where it does not, or it is packed in another way."""
    if not {_WIDTH, _HEIGHT, _STRIPS} <= tags.keys():
        return None
    width, height = tags[_WIDTH][0], tags[_HEIGHT][0]
    samples, bits = tags.get(_SAMPLES, (1,))[0], tags.get(_BITS, (1,))[0]
    packing = tags.get(_PACKING, (_PLAIN,))[0]
    if packing not in (_PLAIN, _LZW, _DEFLATE, _OTHER_DEFLATE, _PACK_BITS) or tags.get(_PLANAR, (1,))[0] != 1:
        return None
    row = (width * samples * bits + 7) // 8
    if not 0 < row * height <= _MOST_BYTES:
        return None
    each = min(tags.get(_ROWS, (height,))[0] or height, height)
    out, right = bytearray(), 0
    differ = samples if tags.get(_DIFFERENCES, (1,))[0] == 2 and bits == 8 else 0
    counts = tags.get(_COUNTS, ())
    for number in range(-(-height // each)):
        pause()
        wanted = row * min(each, height - number * each)
        start = tags[_STRIPS][number] if number < len(tags[_STRIPS]) else len(data)
        end = start + counts[number] if number < len(counts) else len(data)
        got = _unpacked(data[start:end], packing, wanted)
        if differ:
            got = _added(got, row, differ)
        right += len(got)
        out += got + bytes(wanted - len(got))
    more = {tag: tags[tag] for tag in (*_KEPT, _COLOURS, _EXTRA) if tag in tags}
    shown = tags.get(_SHOWN, (2 if samples >= 3 else 1,))[0]
    return Page(width, height, bits, samples, shown, bytes(out), right, more)


def _unpacked(data: bytes, packing: int, most: int) -> bytes:
    """Rows of a strip, as far as they go."""
    hole = data.find(bytes(512))
    if hole >= 0 and packing != _PLAIN:
        data = data[:hole]
    if packing == _PLAIN:
        return data[:most]
    if packing == _LZW:
        return lzw(data, most)[0]
    if packing == _PACK_BITS:
        return _pack_bits(data, most)
    inflate = zlib.decompressobj()
    out = bytearray()
    try:
        for at in range(0, len(data), 256):
            out += inflate.decompress(data[at : at + 256], most - len(out) + 1)
            if len(out) >= most:
                break
    except zlib.error:
        pass
    return bytes(out[:most])


def lzw(data: bytes, most: int) -> tuple[bytes, int]:
    """(bytes, how many packed ones were used) of a strip in LZW, as far as it goes (13)."""
    out = bytearray()
    table: list[bytes] = []
    base = [bytes((n,)) for n in range(256)] + [b"", b""]
    width, at, end = 9, 0, len(data) * 8
    before = b""
    while at + width <= end and len(out) < most:
        place = at >> 3
        code = int.from_bytes(data[place : place + 4].ljust(4, b"\0"), "big") >> (32 - width - (at & 7)) & (
            (1 << width) - 1
        )
        at += width
        if code == 256:
            table, width, before = base.copy(), 9, b""
            continue
        if code == 257:
            return bytes(out), (at + 7) // 8
        if not table:
            break
        if not before:
            if code > 255:
                break
            before = table[code]
            out += before
            continue
        if code < len(table):
            found = table[code]
        elif code == len(table):
            found = before + before[:1]
        else:
            break
        out += found
        table.append(before + found[:1])
        before = found
        if len(table) >= (1 << width) - 1 and width < 12:
            width += 1
    return bytes(out[:most]), (at + 7) // 8


def _pack_bits(data: bytes, most: int) -> bytes:
    out, at = bytearray(), 0
    while at + 1 < len(data) and len(out) < most:
        head = data[at]
        if head < 128:
            out += data[at + 1 : at + 2 + head]
            at += 2 + head
        else:
            out += data[at + 1 : at + 2] * (257 - head if head > 128 else 0)
            at += 2 if head > 128 else 1
    return bytes(out[:most])


def _added(rows: bytes, row: int, samples: int) -> bytes:
    """Rows whose values were told by how they differ from the pixel before."""
    import numpy as np

    whole = len(rows) // row * row
    values = np.frombuffer(rows[:whole], np.uint8).reshape(-1, row // samples, samples)
    return np.cumsum(values, axis=1, dtype=np.uint8).tobytes()


def _without_directory(data: bytes, tags: Tags, known: Tags, pause: Callable[[], None]) -> Page:
    """A picture whose directory is gone: strips from the head on, or where what is left of it says; how wide it is, their rows tell."""
    packing = (tags.get(_PACKING) or known.get(_PACKING) or (_guessed_packing(data),))[0]
    strips: list[bytes] = []
    begin = (known.get(_STRIPS) or (8,))[0]
    if _STRIPS in tags and packing != _PLAIN:
        for start, count in zip(tags[_STRIPS], tags.get(_COUNTS, (len(data),) * len(tags[_STRIPS])), strict=False):
            pause()
            strips.append(_unpacked(data[start : start + count], packing, _MOST_BYTES))
    elif packing == _LZW:
        at = begin
        while at < len(data):
            pause()
            found, used = lzw(data[at:], _MOST_BYTES)
            if not found:
                break
            strips.append(found)
            at += used
            at += at & 1 if data[at : at + 1] == b"\0" else 0
    elif packing == _PLAIN:
        strips.append(data[begin:])
    else:
        at = begin
        while at < len(data) - 2:
            pause()
            inflate = zlib.decompressobj()
            try:
                found = inflate.decompress(data[at:])
            except zlib.error:
                found = _unpacked(data[at:], _DEFLATE, _MOST_BYTES)
            if not found:
                break
            strips.append(found)
            if not inflate.eof:
                break
            at = len(data) - len(inflate.unused_data)
    rows = b"".join(strips)
    if len(rows) < 64:
        raise NothingLeft("its directory is gone, and its strips cannot be read")
    samples = (tags.get(_SAMPLES) or known.get(_SAMPLES) or (0,))[0]
    each = (tags.get(_ROWS) or (0,))[0]
    full = max(map(len, strips))
    if known.get(_WIDTH):
        samples = samples or 1
        row = known[_WIDTH][0] * samples
    elif each and len(strips) > 1 and full % each == 0:
        row = full // each
    else:
        row = _row_of(rows, full if len(strips) > 1 else 0)
    if not row:
        raise NothingLeft(
            "its directory is gone, and its rows do not tell how wide it is: name a healthy one with --like"
        )
    samples = samples if samples and not row % samples else _samples_of(rows, row)
    differ = (tags.get(_DIFFERENCES) or known.get(_DIFFERENCES) or (1,))[0] == 2
    if differ:
        rows = b"".join(_added(each + bytes(-len(each) % row), row, samples) for each in strips)
    height = max((known.get(_HEIGHT) or (0,))[0], -(-len(rows) // row))
    shown = (tags.get(_SHOWN) or known.get(_SHOWN) or (2 if samples >= 3 else 1,))[0]
    return Page(
        row // samples,
        height,
        8,
        samples,
        shown,
        rows + bytes(row * height - len(rows)),
        len(rows),
        is_told=bool(known.get(_HEIGHT)),
    )


def _guessed_packing(data: bytes) -> int:
    if data[8:9] == b"\x80" and len(lzw(data[8 : 8 + (1 << 16)], 4096)[0]) >= 512:
        return _LZW
    return _DEFLATE if data[8:9] == b"\x78" else _PLAIN


def _row_of(rows: bytes, whole: int) -> int:
    """Bytes of a row: so far apart bytes are most alike; a strip of `whole` bytes (0: unknown) holds some rows."""
    import numpy as np

    values = np.frombuffer(rows[: 1 << 20], np.uint8).astype(np.int16)
    limit = min(len(values) // 3, 1 << 16)
    choices = [n for n in range(16, limit) if whole % n == 0] if whole else list(range(16, min(limit, 8192)))
    apart = {
        n: float(np.abs(values[n : n + (1 << 17)] - values[: len(values[n : n + (1 << 17)])]).mean()) for n in choices
    }
    if not apart:
        return 0
    least, usual = min(apart.values()), sorted(apart.values())[len(apart) // 2]
    if least > _MUCH_ALIKE * usual and not whole:
        return 0  # rows of a picture are more alike than this: these are none
    return min(n for n, each in apart.items() if each <= least * 1.15 + 0.05)


def _samples_of(rows: bytes, row: int) -> int:
    import numpy as np

    values = np.frombuffer(rows[: 1 << 18], np.uint8).astype(np.int16)
    fits = [n for n in (1, 3, 4) if not row % n]
    return min(fits, key=lambda n: float(np.abs(values[n:] - values[:-n]).mean()) * (0.98 if n == 3 else 1.0))


def _write(out: BinaryIO, pages: Sequence[Page]) -> None:
    out.write(b"II*\0" + bytes(4))
    at, link = 8, 4
    for page in pages:
        out.write(page.rows)
        place, at = at, at + len(page.rows)
        if at % 2:
            out.write(b"\0")
            at += 1
        tags: list[tuple[int, int, tuple[int, ...]]] = [
            (_WIDTH, 4, (page.width,)), (_HEIGHT, 4, (page.height,)), (_BITS, 3, (page.bits,) * page.samples), (_PACKING, 3, (_PLAIN,)),
            (_SHOWN, 3, (page.shown,)), (_STRIPS, 4, (place,)), (_SAMPLES, 3, (page.samples,)), (_ROWS, 4, (page.height,)),
            (_COUNTS, 4, (len(page.rows),)), (_PLANAR, 3, (1,)),
        ]  # fmt: skip
        for tag, values in page.more.items():
            kind = 5 if tag in (282, 283) else 2 if tag in (270, 305, 306, 315) else 3
            tags.append((tag, kind, values))
        if page.samples == 4 and _EXTRA not in page.more and page.shown == 2:
            tags.append((_EXTRA, 3, (2,)))
        entries, behind = bytearray(), bytearray()
        beyond = at + 2 + 12 * len(tags) + 4
        for tag, kind, values in sorted(tags):
            form = {2: "B", 3: "H", 4: "I", 5: "I"}[kind]
            raw = struct.pack(f"<{len(values)}{form}", *values)
            count = len(values) // 2 if kind == 5 else len(values)
            if len(raw) <= 4:
                entries += struct.pack("<HHI", tag, kind, count) + raw.ljust(4, b"\0")
            else:
                entries += struct.pack("<HHII", tag, kind, count, beyond + len(behind))
                behind += raw + bytes(len(raw) % 2)
        out.seek(link)
        out.write(struct.pack("<I", at))
        out.seek(at)
        link = at + 2 + 12 * len(tags)
        out.write(struct.pack("<H", len(tags)) + bytes(entries) + bytes(4) + bytes(behind))
        at = beyond + len(behind)
