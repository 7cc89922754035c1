"""What a technician wants to know of a recording: how long it is, its tracks, the size of its pictures. Only for showing.

Source: ISO/IEC 14496-12 (mvhd, tkhd, hdlr); RIFF WAVE (fmt, data); RFC 9639, 8.2 (FLAC streaminfo); RFC 3533 and 7845 (Ogg pages, Opus head);
ISO/IEC 11172-3, 2.4.2.3 (frame headers); RFC 9559, 5.1.2 and 5.1.4 (Matroska duration, tracks); the AVI layout (avih, strh).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from typing import BinaryIO

from rustfern.core.errors import Malformed
from rustfern.formats.format_table import FORMATS
from rustfern.formats.media import mp4 as movie
from rustfern.formats.media.audio import element
from rustfern.formats.reader import ByteReader

_KINDS = {b"vide": "video", b"soun": "sound", b"sbtl": "subtitles", b"text": "subtitles", b"tmcd": "time code"}
_RATES = (44_100, 48_000, 32_000)
_NEAR = 1 << 16
_LONGEST = 10_000_000.0
_SEGMENT, _CLUSTER, _INFO, _SCALE, _DURATION = 0x18538067, 0x1F43B675, 0x1549A966, 0x2AD7B1, 0x4489
_TRACKS, _ENTRY, _TYPE, _VIDEO, _WIDE, _HIGH = 0x1654AE6B, 0xAE, 0x83, 0xE0, 0xB0, 0xBA


def facts(stream: BinaryIO, format_name: str | None, amounts: Mapping[str, int]) -> tuple[float | None, list[str]]:
    """(seconds, a few words for each track), as far as the head of the file tells; never raises."""
    readers = {"movie": _movie, "wave": _wave, "flac": _flac, "ogg": _ogg, "matroska": _matroska, "avi": _avi}
    info = FORMATS.get(format_name or "")
    kind = info.recording if info else ""
    try:
        size = stream.seek(0, 2)
        stream.seek(0)
        reader = readers.get(kind)
        if kind == "frames":
            seconds, tracks = _frames(stream.read(_NEAR), amounts.get("frames", 0))
        else:
            seconds, tracks = reader(stream, size) if reader else (None, [])
            if not seconds and "seconds" in amounts:
                seconds = amounts["seconds"]  # of fragments, whose first tables do not tell
    except (struct.error, IndexError, ValueError, Malformed, ZeroDivisionError, OverflowError, OSError):
        return None, []
    return (seconds if seconds is not None and 0 <= seconds < _LONGEST else None), tracks


def _movie(stream: BinaryIO, size: int) -> tuple[float | None, list[str]]:
    read = ByteReader(stream, size)
    at, seconds, tracks = 0, None, []
    while at < size:
        kind, start, end = movie.box(read, at)
        if kind == b"moov":
            for name, body in movie.inside(read.upto(start, end - start), 0):
                if name == b"mvhd":
                    form, place = (">IQ", 20) if body[0] else (">II", 12)
                    scale, length = struct.unpack_from(form, body, place)
                    seconds = length / scale
                elif name == b"trak":
                    tracks.append(_track(body))
            break
        at = end
    return seconds, [track for track in tracks if track]


def _track(body: bytes) -> str:
    says, extent = "", ""
    stack = [body]
    while stack:
        for kind, inner in movie.inside(stack.pop(), 0):
            if kind == b"mdia":
                stack.append(inner)
            elif kind == b"hdlr" and not says:
                says = _KINDS.get(inner[8:12], "")
            elif kind == b"tkhd":
                width, height = struct.unpack(">II", inner[-8:])
                extent = f" {width >> 16} × {height >> 16}" if width and height else ""
    return says + extent


def _wave(stream: BinaryIO, size: int) -> tuple[float | None, list[str]]:
    read = ByteReader(stream, size)
    at, speed, says = 12, 0, ""
    while at + 8 <= size:
        kind, length = read.unpack("<4sI", at, "a block")
        if kind == b"fmt ":
            _, channels, rate, speed, _, bits = read.unpack("<HHIIHH", at + 8, "the description")
            says = f"sound, {channels} channels, {rate} Hz, {bits} bits"
        elif kind == b"data" and speed:
            return min(length, size - at - 8) / speed, [says]
        at += 8 + length + length % 2
    return None, []


def _flac(stream: BinaryIO, size: int) -> tuple[float | None, list[str]]:
    head = stream.read(42)
    packed = int.from_bytes(head[18:26], "big")
    rate, channels, samples = packed >> 44, (packed >> 41 & 7) + 1, packed & (1 << 36) - 1
    return samples / rate, [f"sound, {channels} channels, {rate} Hz"]


def _ogg(stream: BinaryIO, size: int) -> tuple[float | None, list[str]]:
    head = stream.read(_NEAR)
    opus, vorbis = head.find(b"OpusHead"), head.find(b"\x01vorbis")
    if opus < 0 and vorbis < 0:
        return None, []
    rate = 48_000 if opus >= 0 else struct.unpack_from("<I", head, vorbis + 12)[0]
    channels = head[opus + 9] if opus >= 0 else head[vorbis + 11]
    stream.seek(max(size - _NEAR, 0))
    tail = stream.read()
    last = tail.rfind(b"OggS")
    return struct.unpack_from("<q", tail, last + 6)[0] / rate, [f"sound, {channels} channels, {rate} Hz"]


def _frames(head: bytes, frames: int) -> tuple[float | None, list[str]]:
    at = 0
    if head[:3] == b"ID3":
        at = 10 + sum((byte & 0x7F) << shift for byte, shift in zip(head[6:10], (21, 14, 7, 0), strict=True))
    while at + 4 <= len(head) and not (head[at] == 0xFF and head[at + 1] & 0xE0 == 0xE0):
        at += 1
    version, index = head[at + 1] >> 3 & 3, head[at + 2] >> 2 & 3
    rate = _RATES[index] >> {3: 0, 2: 1, 0: 2}.get(version, 0)
    return frames * (1152 if version == 3 else 576) / rate, [f"sound, {rate} Hz"]


def _matroska(stream: BinaryIO, size: int) -> tuple[float | None, list[str]]:
    head = stream.read(_NEAR)
    at, seconds, says = 0, None, list[str]()
    while at < len(head):
        ident, length, start = element(lambda at, count: head[at : at + count], at)
        if ident == _CLUSTER:
            break
        end = len(head) if length is None else start + length
        if ident == _INFO:
            told = {each: head[slice(*place)] for each, place in _elements(head, start, end)}
            scale = int.from_bytes(told.get(_SCALE, b"\x0f\x42\x40"), "big")
            if body := told.get(_DURATION):
                seconds = struct.unpack(">d" if len(body) == 8 else ">f", body)[0] * scale / 1e9
        elif ident == _TRACKS:
            says += [_entry(head, *place) for each, place in _elements(head, start, end) if each == _ENTRY]
        at = start if ident == _SEGMENT else end
    return seconds, [each for each in says if each]


def _entry(head: bytes, start: int, end: int) -> str:
    """A few words for a track (RFC 9559, 5.1.4)."""
    told = dict(_elements(head, start, end))
    kind = _number(head, told.get(_TYPE))
    if kind == 1:
        shown = dict(_elements(head, *told[_VIDEO])) if _VIDEO in told else {}
        wide, high = (_number(head, shown.get(one)) for one in (_WIDE, _HIGH))
        return f"video {wide} × {high}" if wide and high else "video"
    return "sound" if kind == 2 else "subtitles" if kind == 17 else ""


def _elements(data: bytes, at: int, end: int) -> Iterator[tuple[int, tuple[int, int]]]:
    while at < end:
        ident, length, start = element(lambda at, count: data[at : at + count], at)
        if length is None or start + length > len(data):
            return
        yield ident, (start, start + length)
        at = start + length


def _number(data: bytes, place: tuple[int, int] | None) -> int:
    return int.from_bytes(data[slice(*place)], "big") if place is not None else 0


def _avi(stream: BinaryIO, size: int) -> tuple[float | None, list[str]]:
    head = stream.read(_NEAR)
    at = head.index(b"avih") + 8
    step, frames, wide, high = struct.unpack_from("<I12xI12xII", head, at)
    says = []
    at = head.find(b"strh")
    while at >= 0:
        kind = head[at + 8 : at + 12]
        if kind in (b"vids", b"auds"):
            says.append("sound" if kind == b"auds" else f"video {wide} × {high}")
        at = head.find(b"strh", at + 4)
    return step * frames / 1e6 or None, says
