"""Pictures: chunks, segments, blocks and directories to the last byte that they speak of.

Source: W3C PNG 5.3 (chunks) and 11.2.5 (IEND); ITU T.81 B.1 (marker segments); CIPA DC-007 5.2.3 (several pictures in one file); GIF89a 17 to 27;
TIFF 6.0, section 2, and its technical notes; [BMP] BITMAPFILEHEADER and BITMAPINFOHEADER; the layered picture's header, sections and rows.
"""

from __future__ import annotations

import re
import struct
import zlib

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole, within

_PIECE = 1 << 18
_MARKER = re.compile(rb"\xff([^\x00\xff\xd0-\xd7])", re.DOTALL)
_CHUNK = re.compile(rb"[A-Za-z]{4}")
_MAX_SEGMENTS, _MAX_DIRECTORIES, _FAR = 10_000, 4096, 1 << 30


def png(data: Bytes) -> Reach | None:
    """Chunk by chunk, each with its sum."""
    at = proven = 8
    while True:
        head = data[at : at + 8]
        if len(head) < 8 or not _CHUNK.fullmatch(head[4:]):
            return broken(min(at, len(data)), "a chunk is followed by what is none", proven)
        length = int.from_bytes(head[:4], "big")
        end = at + 12 + length
        if length > 1 << 31 or end > len(data):
            return broken(len(data), "its last chunk is not all here", proven)
        found = zlib.crc32(head[4:])
        for here in range(at + 8, end - 4, _PIECE):
            found = zlib.crc32(data[here : min(here + _PIECE, end - 4)], found)
        if found != int.from_bytes(data[end - 4 : end], "big"):
            return broken(at, "the sum of a chunk does not fit", proven, end) if at > 8 else None
        at = proven = end
        if head[4:] == b"IEND":
            return whole(end)


def jpeg(data: Bytes) -> Reach | None:
    """Segment by segment, scans to the next marker; further pictures that an index of several tells of belong to it."""
    at, scans = 2, 0
    more = 0
    for _ in range(_MAX_SEGMENTS):
        head = data[at : at + 4]
        if len(head) < 2 or head[0] != 0xFF:
            return broken(min(at, len(data)), "a segment is followed by what is none", at) if at > 2 and scans else None
        marker = head[1]
        if marker == 0xFF:
            at += 1
            continue
        if marker == 0xD9:
            return _behind_jpeg(data, at + 2, more) if scans else None
        length = int.from_bytes(head[2:4], "big")
        if length < 2 or marker in (0x00, 0x01, 0xD8) or 0x02 <= marker <= 0xBF or 0xD0 <= marker <= 0xD7:
            return broken(at, "a segment is followed by what is none", at) if scans else None
        if marker == 0xE2 and data[at + 4 : at + 8] == b"MPF\0":
            more = max(more, _several(data[at + 8 : at + 2 + length], at + 8))
        at += 2 + length
        if marker == 0xDA:
            scans += 1
            found = _after_scan(data, at)
            if found is None:
                return broken(len(data), "its last scan is not all here", at)
            at = found
    return broken(at, "it has more segments than any picture", at)


def _after_scan(data: Bytes, at: int) -> int | None:
    """Where the first marker behind coded rows stands."""
    while at < len(data):
        piece = data[at : at + _PIECE]
        if found := _MARKER.search(piece):
            return at + found.start(1) - 1
        at += max(len(piece) - 1, 1)
        if len(piece) < _PIECE:
            return None
    return None


def _several(body: bytes, base: int) -> int:
    """The end of the last picture of an index of several, in bytes from the start of the file."""
    order = "<" if body[:2] == b"II" else ">"
    try:
        (first,) = struct.unpack_from(f"{order}I", body, 4)
        (count,) = struct.unpack_from(f"{order}H", body, first)
        for n in range(min(count, 64)):
            tag, _, size, value = struct.unpack_from(f"{order}HHII", body, first + 2 + 12 * n)
            if tag == 0xB002:
                rows = [struct.unpack_from(f"{order}IIIHH", body, value + 16 * k) for k in range(min(size // 16, 64))]
                return max((base + row[2] + row[1] for row in rows if row[2]), default=0)
    except struct.error:
        pass
    return 0


def _behind_jpeg(data: Bytes, end: int, more: int) -> Reach:
    if more > end and data[more - 2 : more] == b"\xff\xd9":
        end = more
    if data[end + 4 : end + 8] == b"ftyp":
        from rustfern.formats.extents.media import boxes

        moving = boxes(_Behind(data, end))  # a short recording that a phone hung on
        if moving is not None and moving.is_complete:
            end += moving.end
    return whole(end)


class _Behind:
    """The bytes from a place on."""

    def __init__(self, data: Bytes, start: int) -> None:
        self._data, self._start = data, start

    def __len__(self) -> int:
        return max(len(self._data) - self._start, 0)

    def __getitem__(self, at: slice) -> bytes:
        return self._data[at.start + self._start : at.stop + self._start]

    def find(self, what: bytes, start: int = 0, stop: int | None = None) -> int:
        """As `Bytes.find`."""
        found = self._data.find(what, start + self._start, None if stop is None else stop + self._start)
        return found - self._start if found >= 0 else -1


def gif(data: Bytes) -> Reach | None:
    """Block by block to the trailer."""
    head = data[0:13]
    if len(head) < 13 or not head[6:8].strip(b"\0") or not head[8:10].strip(b"\0"):
        return None
    at = 13 + (3 << (head[10] & 7) + 1 if head[10] & 0x80 else 0)
    pictures = 0
    for _ in range(1_000_000):
        kind = data[at : at + 1]
        if kind == b"\x3b":
            return whole(at + 1) if pictures else None
        if kind == b"\x21":
            at += 2
        elif kind == b"\x2c":
            flags = data[at + 9 : at + 10]
            if not flags:
                break
            at += 11 + (3 << (flags[0] & 7) + 1 if flags[0] & 0x80 else 0)
            pictures += 1
        else:
            break
        while (length := data[at : at + 1]) and length != b"\0":
            at += 1 + length[0]
        at += 1
    return broken(min(at, len(data)), "a block is followed by what is none", 13) if pictures else None


_SIZES = (0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8, 4, 0, 0, 8, 8, 8)
_INNER = frozenset({330, 34665, 34853, 40965})
_PLACES = {273: 279, 324: 325, 513: 514, 288: 289}


def tiff(data: Bytes) -> Reach | None:
    """The last byte that any directory speaks of: its values, strips, tiles, thumbnails."""
    head = data[0:16]
    order = "<" if head[:2] == b"II" else ">"
    big = head[2:4] in (b"+\0", b"\0+")
    if len(head) < 16:
        return None
    number, entry, form = ("Q", 20, f"{order}HHQ") if big else ("I", 12, f"{order}HHI")
    width = 8 if big else 4
    waiting = [struct.unpack_from(f"{order}{number}", head, 8 if big else 4)[0]]
    seen: set[int] = set()
    end = 0
    while waiting and len(seen) < _MAX_DIRECTORIES:
        at = waiting.pop()
        if not at or at in seen:
            continue
        seen.add(at)
        raw = data[at : at + (8 if big else 2)]
        if len(raw) < (8 if big else 2):
            return broken(len(data), "a directory of it is not here", 8 if end else 0, at) if at < _FAR else None
        count = struct.unpack(f"{order}{'Q' if big else 'H'}", raw)[0]
        at += len(raw)
        body = data[at : at + count * entry + width] if 0 < count <= 4096 else b""
        if len(body) < count * entry + width or not body:
            return broken(min(at, len(data)), "a directory of it is damaged", 8 if end else 0, at if at < _FAR else 0)
        end = max(end, at + len(body))
        values: dict[int, list[int]] = {}
        for n in range(count):
            tag, kind, many = struct.unpack_from(form, body, n * entry)
            if not 0 < kind < len(_SIZES) or not _SIZES[kind]:
                continue
            size, place = _SIZES[kind] * many, n * entry + entry - width
            if size > width:
                outer = struct.unpack_from(f"{order}{number}", body, place)[0]
                end = max(end, outer + size)
                held = data[outer : outer + min(size, 1 << 23)] if tag in _INNER or _is_place(tag) else b""
            else:
                held = body[place : place + width]
            if (tag in _INNER or _is_place(tag)) and kind in (3, 4, 13, 16, 18):
                letter = {1: "B", 2: "H", 4: "I", 8: "Q"}[_SIZES[kind]]
                many = min(many, len(held) // _SIZES[kind])
                values[tag] = list(struct.unpack_from(f"{order}{many}{letter}", held))
        for tag in _INNER & values.keys():
            waiting += values[tag]
        for places, sizes in _PLACES.items():
            pairs = zip(values.get(places, ()), values.get(sizes, ()), strict=False)
            end = max([end, *(a + b for a, b in pairs)])
        waiting.append(struct.unpack_from(f"{order}{number}", body, count * entry)[0])
    if end <= 16:
        return None
    return within(data, end, 8)


def _is_place(tag: int) -> bool:
    return tag in _PLACES or tag in (279, 325, 514, 289)


def bmp(data: Bytes) -> Reach | None:
    """By the size that its header gives, if that fits what it says of the picture."""
    head = data[0:54]
    if len(head) < 54 or head[6:10] != bytes(4):
        return None
    size, _, pixels, header = struct.unpack_from("<IIII", head, 2)
    if header not in (12, 40, 52, 56, 64, 108, 124) or pixels < 14 + header or pixels > 70_000:
        return None
    if header == 12:
        width, height, planes, depth = struct.unpack_from("<HHHH", head, 18)
        packing = 0
    else:
        width, height, planes, depth, packing = struct.unpack_from("<iiHHI", head, 18)
    if planes != 1 or depth not in (1, 2, 4, 8, 16, 24, 32) or not 0 < width < 1 << 17 or not 0 < abs(height) < 1 << 17:
        return None
    rows = (width * depth + 31) // 32 * 4 * abs(height)
    if packing in (0, 3, 6):
        end = max(pixels + rows, size if size <= pixels + rows + 4096 else 0)
    elif size > pixels:
        end = size
    else:
        return None
    return within(data, end, 0)


def layered(data: Bytes) -> Reach | None:
    """Header, colours, resources, layers; then the rows of the whole picture by their own lengths."""
    head = data[0:26]
    if len(head) < 26 or head[4:6] not in (b"\0\1", b"\0\2") or head[6:12] != bytes(6):
        return None
    large = head[5] == 2
    channels, height, width, depth = struct.unpack_from(">HIIH", head, 12)
    if not 0 < channels <= 56 or depth not in (1, 8, 16, 32) or not height or not width:
        return None
    at = 26
    for form in (">I", ">I", ">Q" if large else ">I"):
        raw = data[at : at + struct.calcsize(form)]
        if len(raw) < struct.calcsize(form):
            return broken(len(data), "one of its sections is not here", 26)
        at += len(raw) + struct.unpack(form, raw)[0]
    packing = data[at : at + 2]
    if len(packing) < 2:
        return broken(len(data), "the whole picture behind its layers is not here", 26)
    at += 2
    if packing == b"\0\0":
        return within(data, at + channels * height * ((width * depth + 7) // 8), 26)
    if packing == b"\0\1":
        each = 4 if large else 2
        lengths = data[at : at + channels * height * each]
        if len(lengths) < channels * height * each:
            return broken(len(data), "the lengths of its rows are not here", 26)
        at += len(lengths) + sum(struct.unpack(f">{channels * height}{'I' if large else 'H'}", lengths))
        return within(data, at, 26)
    return broken(at, "its rows are packed in a way that does not tell their length", 26)
