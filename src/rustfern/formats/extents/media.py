"""Recordings: boxes, chunks, elements, pages and frames, one behind the other.

Source: ISO/IEC 14496-12, 4.2 (boxes); the RIFF and IFF chunk structure; RFC 8794, 4 to 6 (elements), RFC 9559, 5 (segments); RFC 3533, 6 (pages);
RFC 9639, 8 and 9 (frames); ISO/IEC 11172-3, 2.4.1.3 and ISO/IEC 13818-7, 6.2 (frame headers); ID3v2.4, 3.1; the objects of ASF; the tags of FLV.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

from rustfern.formats.extents.interface import Bytes, Reach, broken, whole, within

_BOXES = frozenset({
    b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"uuid", b"meta", b"moof", b"mfra", b"sidx", b"pdin", b"udta", b"pnot", b"PICT",
    b"idat", b"emsg", b"prft", b"ssix", b"styp", b"junk",
})  # fmt: skip
_MAX_PARTS = 2_000_000
_LEAST_FRAMES, _MAX_FRAME, _BEHIND = 24, 1 << 18, 64


def boxes(data: Bytes) -> Reach | None:
    """Box by box, in whatever order they come."""
    at, seen = 0, set[bytes]()
    for _ in range(_MAX_PARTS):
        head = data[at : at + 16]
        kind = head[4:8]
        if kind not in _BOXES or (kind == b"ftyp" and at):
            break
        size = int.from_bytes(head[:4], "big")
        if size == 1:
            size = int.from_bytes(head[8:16], "big")
        if size == 0 and kind == b"mdat" and b"moov" in seen:
            return broken(len(data), "its last box does not tell where it ends", at)
        if size < 8:
            break
        seen.add(kind)
        if at + size > len(data):
            return broken(len(data), f"{at + size - len(data)} bytes of its last box are not here", at, at + size)
        at += size
    if (b"moov" in seen and seen & {b"mdat", b"moof"}) or {b"ftyp", b"meta"} <= seen:
        return whole(at)
    if not seen & {b"mdat", b"moov"} or at < 16:
        return None
    what = "the table of its samples" if b"moov" not in seen else "its sound and pictures"
    return broken(at, f"{what} is not here", at)


def riff(data: Bytes) -> Reach | None:
    """By the size of the outer chunk; what it holds must fit into it."""
    head = data[0:12]
    size = int.from_bytes(head[4:8], "little")
    end = 8 + size + (size & 1)
    if len(head) < 12 or size < 12:
        return None
    if size == 0xFFFFFFFF or head[:4] == b"RF64":
        wide = data[12:36]
        if wide[:4] != b"ds64":
            return None
        end = 8 + int.from_bytes(wide[8:16], "little")
    proven, first = _chunks(data, 12, end, "little")
    if not first:
        return None
    if proven < min(end, len(data)) - 1:
        return broken(proven, "a chunk is followed by what is none", proven, end)
    if end - 1 == len(data) and size & 1:
        end -= 1  # the byte that makes it even was not written
    while end + 12 < len(data) and data[end : end + 4] == b"RIFF" and data[end + 8 : end + 12] == b"AVIX":
        end += 8 + int.from_bytes(data[end + 4 : end + 8], "little")  # OpenDML: a long recording goes on
    if size & 1 and data[end - 1 : end] not in (b"\0", b""):
        end -= 1
    return within(data, end, proven)


def iff(data: Bytes) -> Reach | None:
    """The same, with the highest byte first."""
    head = data[0:12]
    size = int.from_bytes(head[4:8], "big")
    if len(head) < 12 or size < 12:
        return None
    end = 8 + size
    proven, first = _chunks(data, 12, end, "big")
    if not first:
        return None
    return (
        within(data, end, proven) if proven >= min(end, len(data)) - 1 else broken(proven, "a chunk is damaged", proven)
    )


def _chunks(data: Bytes, at: int, end: int, order: str) -> tuple[int, bool]:
    """(where the chunks inside of one stop being such, whether there is any)."""
    found = False
    for _ in range(_MAX_PARTS):
        head = data[at : at + 8]
        if at >= min(end, len(data)) or len(head) < 8:
            break
        if not all(32 <= byte < 127 for byte in head[:4]):
            return at, found
        size = int.from_bytes(head[4:8], "little" if order == "little" else "big")
        if at + 8 + size > end + 1 and size != 0xFFFFFFFF:
            return at, found
        found = True
        at = end if size == 0xFFFFFFFF else at + 8 + size + (size & 1)
    return min(at, end), found


def matroska(data: Bytes) -> Reach | None:
    """The header, then segments of known length; of unknown length, their parts one by one."""
    at, segments = 0, 0
    for _ in range(_MAX_PARTS):
        found = _element(data, at)
        if found is None:
            break
        ident, start, size = found
        if ident == 0x1A45DFA3 and at == 0 and size is not None:
            at = start + size
        elif ident == 0x18538067:
            segments += 1
            if size is not None:
                if start + size > len(data):
                    return broken(
                        len(data), f"{start + size - len(data)} of its bytes are not here", start, start + size
                    )
                at = start + size
                return whole(at)
            at = start
        elif segments and ident in _IN_SEGMENT:
            if size is None:
                at = start
                continue
            if start + size > len(data):
                return broken(len(data), "its last part is not all here", at, start + size)
            at = start + size
        else:
            break
    return whole(at) if segments and at > 64 else None


_IN_SEGMENT = frozenset({
    0x114D9B74, 0x1549A966, 0x1654AE6B, 0x1F43B675, 0x1C53BB6B, 0x1941A469, 0x1043A770, 0x1254C367, 0xEC, 0xBF, 0xE7, 0xA3, 0xA0, 0xA7, 0xAB,
    0x5854,
})  # fmt: skip


def _element(data: Bytes, at: int) -> tuple[int, int, int | None] | None:
    """(id, where its content begins, size or None if unknown)."""
    head = data[at : at + 12]
    if len(head) < 2 or not head[0]:
        return None
    width = 9 - head[0].bit_length()
    if width > 4 or len(head) < width + 1 or not head[width]:
        return None
    ident = int.from_bytes(head[:width], "big")
    length = 9 - head[width].bit_length()
    raw = head[width : width + length]
    if len(raw) < length:
        return None
    size = int.from_bytes(raw, "big") & (1 << 7 * length) - 1
    return ident, at + width + length, None if size == (1 << 7 * length) - 1 else size


def ogg(data: Bytes) -> Reach | None:
    """Page by page."""
    at = pages = 0
    ended = False
    waiting: set[bytes] = set()
    for _ in range(_MAX_PARTS):
        head = data[at : at + 27]
        if len(head) < 27 or head[:5] != b"OggS\0":
            break
        if head[5] & 2:
            if not waiting and pages and not ended:
                break
            waiting.add(head[14:18])
        lengths = data[at + 27 : at + 27 + head[26]]
        end = at + 27 + head[26] + sum(lengths)
        if end > len(data):
            break
        if head[5] & 4:
            waiting.discard(head[14:18])
            ended = True
        at, pages = end, pages + 1
    if not pages:
        return None
    return whole(at) if ended and not waiting else broken(at, "its last page is not here", at)


def flac(data: Bytes) -> Reach | None:
    """To the frame that holds the last of all samples, whose sum tells where it ends."""
    at, last = 4, False
    total = longest = 0
    while not last:
        head = data[at : at + 4]
        if len(head) < 4 or head[0] & 0x7F > 6:
            return None
        last, length = bool(head[0] & 0x80), int.from_bytes(head[1:], "big")
        if not head[0] & 0x7F:
            total = int.from_bytes(data[at + 17 : at + 22], "big") & 0xFFFFFFFFF
            longest = int.from_bytes(data[at + 11 : at + 14], "big")
        at += 4 + length
    return _sound(data, at, total, longest or _MAX_FRAME)


def _sound(data: Bytes, at: int, total: int, longest: int) -> Reach | None:
    from rustfern.formats.media.flac import frame_header

    first, done = at, 0
    frame = frame_header(data[at : at + 16], 0)
    while frame is not None:
        done += frame.samples
        body = data[at : at + longest + 16]
        if total and done >= total:
            size = _last_frame(body[:longest], data[at + longest : at + longest + 4])
            if not size:
                return broken(at, "its last frame is damaged", at)
            at += size
            return whole(at + 128 if data[at : at + 3] == b"TAG" else at)
        wanted = frame.number + (frame.samples if body[1] & 1 else 1)
        here, following = frame.length, None
        while following is None and (here := body.find(body[:2], here)) >= 0:
            following = frame_header(body[here : here + 16], 0)
            if following is None or following.number != wanted:
                following, here = None, here + 1
        if following is None:
            size = _last_frame(body[:longest], b"")
            if size and not total:
                return whole(at + size)
            at += size
            break
        at, frame = at + here, following
    return broken(at, "not all of its samples are here", at) if at > first else None


def _last_frame(body: bytes, behind: bytes) -> int:
    """How long the last frame is. Its sum alone fits by chance now and then: a place behind which nothing stands is likelier."""
    from rustfern.formats.media.flac import frame_ends

    ends = frame_ends(body)
    follows = body + behind
    return next(
        (end for end in ends if not follows[end : end + 4].strip(b"\0") or follows[end : end + 3] == b"TAG"),
        ends[0] if ends else 0,
    )


def _frames(data: Bytes, at: int, length_of: Callable[[bytes], int]) -> tuple[int, int]:
    """(where frames stop following each other, how many there are)."""
    count = 0
    while (size := length_of(data[at : at + 8])) and at + size <= len(data):
        at += size
        count += 1
    return at, count


def mp3(data: Bytes) -> Reach | None:
    """Tags, frames, tags."""
    from rustfern.formats.media.audio import mp3_frame_length

    at, head = 0, data[0:10]
    if head[:3] == b"ID3":
        if len(head) < 10 or head[3] > 4 or any(byte & 0x80 for byte in head[6:10]):
            return None
        at = 10 + sum(byte << shift for byte, shift in zip(head[6:10], (21, 14, 7, 0), strict=True))
        at += 10 if head[5] & 0x10 else 0
        padding = data[at : at + 4096]
        at += len(padding) - len(padding.lstrip(b"\0"))
    end, count = _frames(data, at, mp3_frame_length)
    if count < (2 if head[:3] == b"ID3" else _LEAST_FRAMES):
        return None
    sound = end
    for _ in range(2):
        if data[end : end + 8] == b"APETAGEX":
            end += 32 + int.from_bytes(data[end + 12 : end + 16], "little")
        if data[end : end + 3] == b"TAG":
            end += 128
    return _of_frames(data, min(end, len(data)), tagged=end > sound)


def _of_frames(data: Bytes, end: int, *, tagged: bool) -> Reach:
    """Frames tell nothing of their number: they end where a tag, or nothing, follows; where something else does, more of them may lie elsewhere."""
    behind = data[end : end + _BEHIND]
    return Reach(end, is_complete=True, proven=end, least=end, is_shown=tagged or not behind.strip(b"\0"))


def aac(data: Bytes) -> Reach | None:
    """Frames, each of which tells its length."""
    fixed = data[0:4]

    def length_of(head: bytes) -> int:
        # The profile, rate and channels stay what they are.
        if (
            len(head) < 7
            or head[:2] != fixed[:2]
            or head[2] & 0xFD != fixed[2] & 0xFD
            or head[3] & 0xC0 != fixed[3] & 0xC0
        ):
            return 0
        size = (head[3] & 3) << 11 | head[4] << 3 | head[5] >> 5
        return size if size > 7 else 0

    end, count = _frames(data, 0, length_of)
    return _of_frames(data, end, tagged=False) if count >= _LEAST_FRAMES else None


_DATA = b"\x36\x26\xb2\x75\x8e\x66\xcf\x11\xa6\xd9\x00\xaa\x00\x62\xce\x6c"
_INDEXES = (
    b"\x90\x08\x00\x33\xb1\xe5\xcf\x11\x89\xf4\x00\xa0\xc9\x03\x49\xcb", b"\xd3\x29\xe2\xd6\xda\x35\xd1\x11\x90\x34\x00\xa0\xc9\x03\x49\xbe",
    b"\xf8\x03\xb1\xfe\xad\x12\x64\x4c\x84\x0f\x2a\x1d\x2f\x7a\xd4\x8c",
)  # fmt: skip


def asf(data: Bytes) -> Reach | None:
    """Header, data, indexes: objects that tell their size."""
    at = 0
    for number in range(16):
        head = data[at : at + 24]
        wanted = number == 0 or (number == 1 and head[:16] == _DATA) or (number > 1 and head[:16] in _INDEXES)
        size = int.from_bytes(head[16:24], "little")
        if len(head) < 24 or not wanted or size < 24:
            return (
                whole(at)
                if number > 1
                else broken(min(at, len(data)), "its sound and pictures are not here", at)
                if number
                else None
            )
        if at + size > len(data):
            return broken(len(data), f"{at + size - len(data)} of its bytes are not here", at, at + size)
        at += size
    return whole(at)


def flv(data: Bytes) -> Reach | None:
    """Tag by tag, each followed by its own size."""
    at = 9 + 4
    tags = 0
    while (head := data[at : at + 11]) and len(head) == 11 and head[0] in (8, 9, 18):
        size = 11 + int.from_bytes(head[1:4], "big")
        if data[at + size : at + size + 4] != struct.pack(">I", size):
            break
        at, tags = at + size + 4, tags + 1
    return whole(at) if tags >= 2 else None
