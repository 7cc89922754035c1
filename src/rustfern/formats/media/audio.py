"""WAV, AIFF, Ogg, MP3, AAC and Matroska recordings: containers followed to the end, sums compared where there are any.

Source: the RIFF and AIFF layouts (chunks, sizes, padding), RFC 3533 (Ogg pages and their CRC),
ISO 11172-3 2.4.1.3 (frame headers), RFC 8794 (EBML) and RFC 9559 (Matroska).
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable
from typing import BinaryIO

from rustfern.core.errors import Malformed, Refused
from rustfern.core.model import Glance, State
from rustfern.formats.interface import Limits, Reading
from rustfern.formats.paged_bytes import Data, load_or_page
from rustfern.formats.reader import ByteReader
from rustfern.formats.text_sink import TextSink

_MIRROR = bytes(int(f"{n:08b}"[::-1], 2) for n in range(256))
_RATES = (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0)
_LOW_RATES = (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0)
_CLUSTER, _SEGMENT, _CUES = 0x1F43B675, 0x18538067, 0x1C53BB6B
_TRACKS = 0x1654AE6B
_UNPACKED = (b"A_PCM", b"V_UNCOMPRESSED", b"A_MS/ACM", b"V_MS/VFW")
_BLOCKS = frozenset({0xA3, 0xA0, 0xA1})
_MAX_BLOCK = 64 << 20
_HOLE_BYTES = bytes(1024)
"""Zeros that show a hole inside a block of packed pictures or sounds."""
_WAVES = (b"RIFF", b"RIFX", b"RF64", b"BW64")
"""What a WAV begins with: the usual one, with the high byte first, and those of more than 4 GB (EBU Tech 3306; ITU-R BS.2088)."""
_MIN_FRAMES, _MIN_ADTS = 3, 2
_LONGEST_FRAME, _HOLE = 1441, bytes(64)
_HOLE_AT_END = 8
_BEHIND, _GOES_ON = 1 << 20, 8192
"""Zeros that are taken together; bytes behind them in which frames begin that go on."""
_OTHERS_BEHIND_TAGS = (b"TTA1", b"MP+", b"MPCK", b"MAC ", b"OggS", b"wvpk", b"RIFF", b"FORM", b"DSD ")


def check(stream: BinaryIO, size: int, name: str, sink: TextSink, limits: Limits) -> Reading:
    """Follow a recording to its end. Raises `Malformed`."""
    head = stream.read(12)
    if head[:4] == b"FORM" or (head[8:] == b"WAVE" and head[:4] in _WAVES):
        return _chunks(stream, size, head)
    if head[:4] == b"OggS":
        return _ogg(stream, size)
    if head[:4] == b"\x1a\x45\xdf\xa3":
        return _matroska(stream, size)
    if head[:4] == b"ADIF":
        raise Refused("AAC whose frames have no marks: they are not told apart")
    if head[0] == 0xFF and head[1] & 0xF6 == 0xF0:
        return _aac(stream, size, 0)
    behind = _behind_tag(head) if head[:3] == b"ID3" else 0
    stream.seek(behind)
    inner = stream.read(4)
    if behind and inner == b"fLaC":
        from rustfern.formats.media import flac

        return flac.check(stream, size, name, sink, limits, begin=behind)
    if behind and inner.startswith(_OTHERS_BEHIND_TAGS):
        raise Refused("a tag as MP3 recordings have, and behind it sound of another kind, which is not read")
    if behind and len(inner) == 4 and inner[0] == 0xFF and inner[1] & 0xF6 == 0xF0:
        return _aac(stream, size, behind)
    return _mp3(stream, size)


def _behind_tag(head: bytes) -> int:
    """Where a tag ends (ID3v2.4 3.1: four bytes of seven bits, behind ten of its head)."""
    return 10 + sum((head[6 + n] & 0x7F) << 7 * (3 - n) for n in range(4))


def _reading(form: str, reason: str, **amounts: int) -> Reading:
    return Reading(Glance(format=form), State.INTACT, reason, amounts, has_text=False)


def _chunks(stream: BinaryIO, size: int, head: bytes) -> Reading:
    read = ByteReader(stream, size).upto
    little = head[:4] not in (b"FORM", b"RIFX")
    claimed = int.from_bytes(head[4:8], "little" if little else "big") + 8
    large: dict[bytes, int] = {}
    if head[:4] in (b"RF64", b"BW64"):
        claimed, large = _large(read(12, 1 << 16))
    if claimed in (8, 0x100000007):
        raise Malformed("the recording was never finished: its length was never written", 4)
    if claimed > size:
        raise Malformed(f"the recording stops after {size} of {claimed} bytes", size)
    at, sound, described = 12, 0, False
    while at + 8 <= claimed:
        kind, length = struct.unpack("<4sI" if little else ">4sI", read(at, 8))
        if length == 0xFFFFFFFF:
            length = large.get(kind, length)
        if kind in (b"data", b"SSND"):
            if length in (0, 0xFFFFFFFF) and claimed < size:
                raise Malformed("the recording was never finished: its length was never written", at)
            sound = length
        described = described or kind in (b"fmt ", b"COMM")
        # Some writers count their own length wrong: what is there counts.
        if at + 8 + length > size + 1:
            raise Malformed(f"the block {kind.decode('latin-1')} reaches beyond the end", at)
        at += 8 + length + length % 2
    if not described or not sound:
        raise Malformed("the recording holds no sound", at)
    form = "aiff" if head[:4] == b"FORM" else "wav"
    return _reading(form, f"all its {sound} bytes of sound are there; they carry no sum", bytes=sound)


def _large(data: bytes) -> tuple[int, dict[bytes, int]]:
    """Of a recording of more than 4 GB: its length, and those of its blocks that do not fit into their heads. Raises `Malformed`."""
    if data[:4] != b"ds64" or len(data) < 36:
        raise Malformed("the lengths of a long recording are missing", 12)
    whole, sound, _, count = struct.unpack_from("<QQQI", data, 8)
    sizes = {b"data": sound}
    for place in range(36, min(36 + 12 * count, len(data) - 11), 12):
        kind, length = struct.unpack_from("<4sQ", data, place)
        sizes[kind] = length
    return whole + 8, sizes


def _ogg(stream: BinaryIO, size: int) -> Reading:
    read = ByteReader(stream, size).upto
    at = pages = 0
    open_streams: set[int] = set()
    numbers: dict[int, int] = {}
    while at < size:
        head = read(at, 27)
        if len(head) < 27 or head[:4] != b"OggS":
            raise Malformed("no page of a recording, where one should begin", at)
        flags, serial, number, wanted, count = struct.unpack_from("<xB8xIIIB", head, 4)
        table = read(at + 27, count)
        body = read(at + 27 + count, sum(table))
        if len(table) < count or len(body) < sum(table):
            raise Malformed("the recording stops inside a page", size)
        if ogg_sum(head[:22] + bytes(4) + head[26:] + table + body) != wanted:
            raise Malformed("the sum of a page does not fit", at)
        if numbers.get(serial, number - 1) + 1 != number:
            raise Malformed("a page is missing", at)
        numbers[serial] = number
        if flags & 2:
            open_streams.add(serial)
        if flags & 4:
            open_streams.discard(serial)
        at += 27 + count + len(body)
        pages += 1
    if open_streams:
        raise Malformed("the recording stops before its last page", size)
    return _reading("ogg", f"read to the end: the sums of all {pages} pages fit", pages=pages)


def ogg_sum(data: bytes) -> int:
    """The page sum: the usual polynomial with the bits the other way round and without the final turn (RFC 3533, 6)."""
    value = zlib.crc32(data.translate(_MIRROR), 0xFFFFFFFF) ^ 0xFFFFFFFF
    return int(f"{value:032b}"[::-1], 2)


def _mp3(stream: BinaryIO, size: int) -> Reading:
    data = load_or_page(stream, size)
    at = frames = before = 0
    if data[:3] == b"ID3" and len(data) > 10:
        at = _behind_tag(data[:10])
    expected = 0
    while at + 4 <= len(data):
        if data[at : at + 3] in (b"TAG", b"APE", b"LYR", b"ID3"):
            break
        length = mp3_frame_length(data[at : at + 4])
        if not length:
            if not frames and (first := _first_frame(data, at)):
                # It was cut out of a longer one: the rest of a frame stands in front.
                before, at = first - at, first
                continue
            if frames and not data[at : at + _BEHIND].strip(b"\0"):
                _stop_at_hole(ByteReader(stream, size), at, mp3_frame_length)
                break
            raise Malformed("no frame of sound, where one should begin", at)
        if not frames:
            mark = max(data.find(b"Xing", at, at + 200), data.find(b"Info", at, at + 200))
            if mark > 0 and data[mark + 7 : mark + 8] and data[mark + 7] & 1:
                # The first frame counts those that follow it.
                expected = int.from_bytes(data[mark + 8 : mark + 12], "big")
        at += length
        frames += 1
    if expected and frames - 1 < expected:
        raise Malformed(f"the recording stops after {frames - 1} of {expected} frames", len(data))
    if frames < (1 if data[:3] == b"ID3" else _MIN_FRAMES):
        raise Malformed("it holds no sound", at)
    if at > len(data):
        raise Malformed("the recording stops inside its last frame", len(data))
    more = f"; the rest of another one, {before} bytes, stands in front" if before else ""
    said = f"read to the end: {frames} frames, one after the other; they carry no sum{more}"
    return _reading("mp3", said, frames=frames)


def _first_frame(data: Data, at: int) -> int:
    """Where the first of some frames in a row begins, no further away than the rest of another one reaches; 0 if nowhere."""
    for place in range(at + 1, min(at + _LONGEST_FRAME, len(data) - 4)):
        if data[place : place + 1] == b"\xff":
            here = place
            for _ in range(_MIN_FRAMES):
                length = mp3_frame_length(data[here : here + 4])
                if not length:
                    break
                here += length
            else:
                return 0 if _HOLE in data[at:place] else place
    return 0


def _aac(stream: BinaryIO, size: int, at: int) -> Reading:
    """Frames that say their own length (ISO 14496-3, 1.A.2.2.1: ADTS)."""
    read = ByteReader(stream, size).upto
    frames = 0
    while at < size:
        head = read(at, 7)
        length = adts_frame_length(head)
        if head[:3] == b"TAG" or head[:3] == b"ID3":
            break
        if frames and not head.strip(b"\0"):
            if not read(at - _HOLE_AT_END, _HOLE_AT_END).strip(b"\0"):
                raise Malformed("the recording stops inside its last frame: zeros follow", at)  # three ones end a frame
            _stop_at_hole(ByteReader(stream, size), at, adts_frame_length)
            break
        if not length:
            raise Malformed("no frame of sound, where one should begin", at)
        at += length
        frames += 1
    if at > size:
        raise Malformed("the recording stops inside its last frame", size)
    if frames < _MIN_ADTS:
        raise Malformed("it holds no sound", at)
    return _reading("aac", f"read to the end: {frames} frames, one after the other; they carry no sum", frames=frames)


def _stop_at_hole(read: ByteReader, at: int, length_of: Callable[[bytes], int]) -> None:
    """Refuse zeros behind which sound goes on: at the end of a recording they may stand. Raises `Malformed`."""
    place, size = at, read.size
    while place < size:
        piece = read.upto(place, _BEHIND)
        if piece.strip(b"\0"):
            place += len(piece) - len(piece.lstrip(b"\0"))
            break
        place += len(piece)
    data = read.upto(place, 4 * _GOES_ON)
    for start in range(min(len(data), _GOES_ON)):
        here = start
        for _ in range(_MIN_FRAMES):
            length = length_of(data[here : here + 7].ljust(7, b"\0"))
            if not length:
                break
            here += length
        else:
            raise Malformed("a hole of zeros in the recording", at)


def adts_frame_length(head: bytes) -> int:
    """The length of a frame of AAC that says it itself, by its first seven bytes; 0 if this is none (ISO 14496-3, 1.A.2.2.1)."""
    length = int.from_bytes(head[3:6], "big") >> 5 & 0x1FFF if len(head) == 7 else 0
    return length if length >= 7 and head[0] == 0xFF and head[1] & 0xF6 == 0xF0 else 0


def mp3_frame_length(head: bytes) -> int:
    """The length of a frame of sound in bytes, 0 if this is none."""
    if head[0] != 0xFF or head[1] & 0xE0 != 0xE0 or head[1] >> 3 & 3 == 1 or head[1] >> 1 & 3 != 1:
        return 0
    first = head[1] >> 3 & 3 == 3
    rate = (_RATES if first else _LOW_RATES)[head[2] >> 4] * 1000
    hertz = (44100, 48000, 32000, 0)[head[2] >> 2 & 3] // {3: 1, 2: 2, 0: 4}[head[1] >> 3 & 3]
    if not rate or not hertz:
        return 0
    return (144 if first else 72) * rate // hertz + (head[2] >> 1 & 1)


def _matroska(stream: BinaryIO, size: int) -> Reading:
    read = ByteReader(stream, size).upto
    at, clusters, cues, finished, plain = 0, 0, False, True, False
    ends: list[int] = []
    while at < size:
        while ends and at >= ends[-1]:
            ends.pop()
        ident, length, start = element(read, at)
        if length is None:
            finished = False
            if ident not in (_SEGMENT, _CLUSTER):
                raise Malformed("the recording is damaged", at)
            clusters += ident == _CLUSTER
            at = start
            continue
        if start + length > size:
            raise Malformed("the recording stops inside a block: it is cut off", size)
        clusters += ident == _CLUSTER
        cues = cues or ident == _CUES
        if ident in (_SEGMENT, _CLUSTER):
            ends.append(start + length)
            at = start
        else:
            if ident == _TRACKS:
                described = read(start, min(length, 1 << 20))
                plain = any(sign in described for sign in _UNPACKED)
            elif ident in _BLOCKS and not plain and _HOLE_BYTES in read(start, min(length, _MAX_BLOCK)):
                raise Malformed("a hole of zeros in the recording", start)
            at = start + length
    if not clusters:
        raise Malformed("it holds no recording", at)
    note = "" if finished and cues else "; it was ended from outside and has no index: it plays, but does not wind"
    return _reading("mkv", f"its {clusters} blocks fill it to the end{note}", blocks=clusters)


def element(read: Callable[[int, int], bytes], at: int) -> tuple[int, int | None, int]:
    """(identity, length in bytes or None where it was left open, start of the body)."""
    head = read(at, 12)
    wide = 9 - head[0].bit_length() if head and head[0] else 9
    if wide > 4 or len(head) <= wide:
        raise Malformed("no block of a recording, where one should begin", at)
    ident = int.from_bytes(head[:wide], "big")
    length_wide = 9 - head[wide].bit_length() if head[wide] else 9
    if length_wide > 8 or len(head) < wide + length_wide:
        raise Malformed("no block of a recording, where one should begin", at)
    value = int.from_bytes(head[wide : wide + length_wide], "big") & ((1 << 7 * length_wide) - 1)
    return ident, None if value == (1 << 7 * length_wide) - 1 else value, at + wide + length_wide
