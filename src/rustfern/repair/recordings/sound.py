"""Sound that was never finished, is cut off, or has holes: sizes made anew, whole frames and pages kept, what lies between left out.

Source: the RIFF and AIFF layouts; ISO/IEC 11172-3, 2.4.1.3; ISO/IEC 14496-3, 1.A.2.2.1.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable
from typing import BinaryIO

from rustfern.formats.media.audio import adts_frame_length, mp3_frame_length
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.recordings.window import Window

_PIECE = 1 << 20
_LEAST_FRAMES = 3
_WIDE = 0xFFFFFFFF
_EVERY = 4096
_IMA, _MOST_STEP, _BLOCKS_TRIED = 0x11, 88, 32
"""Sound in blocks of differences: its number in a head, the largest step, blocks by which it is told where they begin."""
_TRIED, _PIECE_TRIED, _FAR, _LOUDEST = 9, 4096, 1.5, 16.0
"""Parts of raw sound by which it is told where its values begin, moments of each; how much less they go up and down there; the largest usual value."""


def repair_chunks(job: Job, out: BinaryIO) -> Outcome:
    """WAV and AIFF: the sizes by what is there. A head that is gone is that of a sample."""
    window = Window(job.stream, job.size)
    head = window.at(0, 12)
    big = head[:4] == b"FORM" or (head[:4] != b"RIFF" and job.format == "aiff")
    form = ">4sI" if big else "<4sI"
    names = (b"COMM", b"SSND") if big else (b"fmt ", b"data")
    found: dict[bytes, bytes] = {}
    place, end, at = -1, job.size, 12
    while at + 8 <= job.size:
        kind, length = struct.unpack(form, window.at(at, 8))
        if kind == names[1]:
            place = at + 8
            if 0 < length < _WIDE and place + length <= job.size:
                end = place + length
            break
        if not all(32 <= each < 127 for each in kind) or length > 1 << 20:
            break
        found[kind] = window.at(at + 8, length)
        at += 8 + length + length % 2
    lost: list[Loss] = []
    begins, is_marked = 0, place >= 0
    if place < 0:
        marked = window.at(0, 1 << 16).find(names[1])
        place, is_marked = (marked + 8, True) if marked >= 0 else (0, False)
    if names[0] not in found or len(found[names[0]]) < 16:
        sample = next((each for each in job.others if each.is_sample), None)
        at = sample.data.find(names[0], 0, 1 << 16) if sample is not None else -1
        if sample is None or at < 0:
            raise NothingLeft(
                "its head is gone, which tells rate and channels: name a healthy one of the same recorder with --like"
            )
        (length,) = struct.unpack_from(form[0] + "I", sample.data, at + 4)
        found = {names[0]: sample.data[at + 8 : at + 8 + length]}
        lost.append(Loss(LossKind.LIKE, text=sample.name))
        begins = sample.data.find(names[1], at + 8 + length, 1 << 16) + 8
        begins = 0 if begins < 8 else begins
    described = found[names[0]]
    if big:
        channels, _, bits = struct.unpack_from(">HIH", described)
        block, place = channels * -(-bits // 8), place + 8 if is_marked else place
        begins += 8 if begins else 0
    else:
        channels, block, bits = struct.unpack_from("<2xH8xHH", described)
    block = max(int(block), 1)
    if not is_marked:
        # As in the sample, if what stands before is damaged; else from its first byte on: raw sound.
        place = begins if begins and not _is_sound(window.at(0, begins)) else 0
        place += _off(window, place, end, block, _kind_of(described, channels, block, big=big))
    if end == job.size:
        end = _without_zeros(window, place, end)
    length = (end - place) // block * block
    if length <= 0:
        raise NothingLeft("no sound is left in it")
    if big:
        count = struct.pack(">I", length // block)
        described = described[:2] + count + described[6:]
        body = b"AIFF" if head[8:12] != b"AIFC" else b"AIFC"
        parts = body + struct.pack(">4sI", b"COMM", len(described)) + described + bytes(len(described) % 2)
        parts += struct.pack(">4sIII", b"SSND", length + 8, 0, 0)
        out.write(struct.pack(">4sI", b"FORM", len(parts) + length + length % 2) + parts)
    else:
        parts = b"WAVE" + struct.pack("<4sI", b"fmt ", len(described)) + described + bytes(len(described) % 2)
        parts += struct.pack("<4sI", b"data", min(length, _WIDE - 1))
        out.write(struct.pack("<4sI", b"RIFF", min(len(parts) + length + length % 2, _WIDE - 1)) + parts)
    _copy(window, place, place + length, out, job)
    out.write(bytes(length % 2))
    if job.size - end > 0:
        lost.append(Loss(LossKind.BYTES, "", job.size - end, end, job.size))
    return Outcome("aiff" if big else "wav", (Step.SIZES,), tuple(lost))


def _is_sound(head: bytes) -> bool:
    """Whether bytes where a head may have been can be sound: neither zeros, as damage leaves them, nor what heads hold."""
    return b"fmt " not in head and b"COMM" not in head and head.count(0) < len(head) // 2


def _kind_of(described: bytes, channels: int, block: int, *, big: bool) -> str:
    """How a value of uncoded sound is held, as NumPy calls it; "" for what is coded."""
    width = block // channels if channels and not block % channels else 0
    if big:
        return f">i{width}" if width in (1, 2, 3, 4) and described[18:22] in (b"", b"NONE", b"twos", b"in24") else ""
    (tag,) = struct.unpack_from("<H", described)
    if tag == 0xFFFE and len(described) >= 26:
        (tag,) = struct.unpack_from("<H", described, 24)
    if tag == 1 and width in (1, 2, 3, 4):
        return "u1" if width == 1 else f"<i{width}"
    if tag == _IMA:
        return f"ima{channels}"
    return f"<f{width}" if tag == 3 and width in (4, 8) else ""


def _off(window: Window, place: int, end: int, block: int, kind: str) -> int:
    """How many bytes behind a place uncoded sound begins, for its values to be taken together as they were: those that go up and down least. 0 where
    the place itself does.
    """
    if kind.startswith("ima"):
        return _off_blocks(window.at(place, min(end - place, _BLOCKS_TRIED * block)), block, int(kind[3:]))
    if not kind or block < 2 or kind.endswith("1"):
        return 0
    tried = [min(place + (end - place) * n // _TRIED, end) // block * block + place % block for n in range(1, _TRIED)]
    rough = [0.0] * block
    for at in tried:
        data = window.at(at, _PIECE_TRIED * block)
        if len(data) < _PIECE_TRIED * block // 2 or data.count(0) > len(data) // 2:
            continue
        for n in range(block):
            rough[n] += _roughness(data[n:], block, kind)
    best = min(range(block), key=lambda n: (rough[n], n))
    return best if rough[0] > _FAR * rough[best] else 0


def _off_blocks(data: bytes, block: int, channels: int) -> int:
    """The same for sound in blocks that each begin with a step of at most 88 and a zero for every channel (IMA ADPCM)."""
    for n in range(min(block, len(data))):
        heads = [
            data[at + 4 * channel + 2 : at + 4 * channel + 4]
            for at in range(n, len(data) - 4 * channels, block)
            for channel in range(channels)
        ]
        if len(heads) > 1 and all(head[0] <= _MOST_STEP and not head[1] for head in heads) and any(map(any, heads)):
            return n
    return 0


def _roughness(data: bytes, block: int, kind: str) -> float:
    """How far values lie from those before them, for how large they are; 2 and more for noise."""
    import numpy as np

    width, count = int(kind[2]), len(data) // block
    rows = np.frombuffer(data, np.uint8, count * block).reshape(-1, width)
    if kind[1] == "i":
        # As many bytes more as make values of eight.
        order = rows if kind[0] == ">" else rows[:, ::-1]
        values = np.zeros(len(rows))
        for column in order.T:
            values = values * 256 + column
        values -= 256.0**width * (order[:, 0] > 127)
    else:
        with np.errstate(all="ignore"):
            values = np.ascontiguousarray(rows).view(kind).astype(float).ravel()
        values[~np.isfinite(values) | (np.abs(values) > _LOUDEST)] = _LOUDEST
    moments = values.reshape(-1, block // width)
    size = float(np.abs(moments - moments.mean(axis=0)).mean())
    return float(np.abs(np.diff(moments, axis=0)).mean()) / size if size else 0.0


def _without_zeros(window: Window, start: int, end: int) -> int:
    """Where sound ends behind which nothing but zeros of a copy that stopped lies: whole sectors of them."""
    stop = end
    while stop > start:
        piece = window.at(max(stop - _PIECE, start), min(_PIECE, stop - start))
        kept = len(piece.rstrip(b"\0"))
        if kept:
            stop -= len(piece) - kept
            break
        stop -= len(piece)
    return end if end - stop < _EVERY else -(-stop // 512) * 512


def _copy(window: Window, at: int, end: int, out: BinaryIO, job: Job) -> None:
    while at < end:
        job.budget.spend()
        piece = window.at(at, min(_PIECE, end - at))
        if not piece:
            raise NothingLeft("it became shorter while it was read")
        out.write(piece)
        at += len(piece)


def repair_frames(job: Job, out: BinaryIO) -> Outcome:
    """MP3 and AAC whose frames say their lengths: those that follow each other, or are followed by where the next begins."""
    window = Window(job.stream, job.size)
    is_aac = job.format == "aac"
    length_of: Callable[[bytes], int] = _adts if is_aac else mp3_frame_length
    mark = re.compile(rb"\xff[\xf0\xf1\xf8\xf9]" if is_aac else rb"\xff[\xe2-\xff]")
    at = count = lost = counting = 0
    head = window.at(0, 10)
    if head[:3] == b"ID3" and len(head) == 10:
        size = 10 + sum((head[6 + n] & 0x7F) << 7 * (3 - n) for n in range(4))
        if size < job.size and length_of(window.at(size, 8).ljust(8, b"\0")):
            out.write(window.at(0, size))
            at = size
    kind: bytes | None = None
    while at + 8 <= job.size:
        if not count % 256:
            job.budget.spend()
        here = window.at(at, 8)
        length = length_of(here) if len(here) >= 7 else 0
        following = window.at(at + length, 8) if length else b""
        is_last = at + length + 8 > job.size
        goes_on = (
            is_last or following[:3] in (b"TAG", b"APE", b"ID3") or (len(following) == 8 and length_of(following) > 0)
        )
        if length and at + length <= job.size and goes_on and (kind is None or _alike(here, kind, is_aac=is_aac)):
            kind = kind or here
            frame = window.at(at, length)
            if not count and not is_aac:
                counting = _counting(frame, out.tell())
            out.write(frame)
            count += 1
            at += length
            continue
        piece = window.from_(at + 1, _PIECE)
        found = mark.search(piece)
        step = 1 + found.start() if found is not None else max(len(piece), 1)
        lost += step
        at += step
    if count < _LEAST_FRAMES:
        raise NothingLeft("no sound is left in it")
    if counting:
        end = out.tell()
        out.seek(counting)
        out.write(struct.pack(">I", count - 1))
        out.seek(end)
    missing = (Loss(LossKind.BYTES, "", lost),) if lost else ()
    return Outcome("aac" if is_aac else "mp3", (Step.FRAMES_KEPT,), missing)


def _counting(frame: bytes, at: int) -> int:
    """Where in what is written the first frame tells how many follow it; 0 where it does not."""
    mark = max(frame.find(b"Xing", 0, 200), frame.find(b"Info", 0, 200))
    return at + mark + 8 if mark > 0 and len(frame) > mark + 12 and frame[mark + 7] & 1 else 0


def _adts(head: bytes) -> int:
    """Bytes of a frame of AAC of a rate that there is."""
    length = adts_frame_length(head[:7])
    return length if length > 8 and head[2] >> 2 & 15 <= 12 else 0


def _alike(head: bytes, other: bytes, *, is_aac: bool) -> bool:
    """Whether two frames are of one kind and rate."""
    if is_aac:
        return head[1:3] == other[1:3] and head[3] >> 6 == other[3] >> 6
    return head[1] & 0xFE == other[1] & 0xFE and head[2] & 0x0C == other[2] & 0x0C
