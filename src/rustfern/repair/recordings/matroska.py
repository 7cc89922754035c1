"""MKV and WebM that were never finished, are cut off, or have holes: whole blocks kept, sizes and an index made anew.

Source: RFC 8794 (EBML), RFC 9559 (Matroska).
"""

from __future__ import annotations

import io
import re
import struct
from itertools import pairwise
from typing import BinaryIO

from rustfern.core.errors import Malformed
from rustfern.formats.media.audio import element
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.recordings.matroska_film import Edits, MatroskaFilm, film_in, frame_in, written
from rustfern.repair.recordings.window import Window

_EBML, _SEGMENT, _INFO, _TRACKS, _CLUSTER = 0x1A45DFA3, 0x18538067, 0x1549A966, 0x1654AE6B, 0x1F43B675
_KEPT = frozenset({_INFO, _TRACKS, 0x1043A770, 0x1941A469, 0x1254C367})
"""What is kept beside clusters: chapters, attachments and tags too."""
_TOP = _KEPT | {_CLUSTER, 0x114D9B74, 0x1C53BB6B, 0xEC, 0xBF}
_DURATION = 0x4489
_TIMECODE, _SIMPLE, _GROUP, _BLOCK, _REFERENCE = 0xE7, 0xA3, 0xA0, 0xA1, 0xFB
_IN_CLUSTER = frozenset({_TIMECODE, _SIMPLE, _GROUP, 0xA7, 0xAB, 0x5854, 0xEC, 0xBF, 0xAF})
_MARK = b"\x1f\x43\xb6\x75"
_BLOCK_HEAD = re.compile(
    rb"\xa3(?:[\x80-\xff]|[\x40-\x7f].|[\x20-\x3f]..|[\x10-\x1f]...|[\x08-\x0f]....|\x01.......)[\x81-\x8f]..[\x00-\x8f]",
    re.DOTALL,
)
"""A block with its length, the number of its track, its time and flags."""
_HOLE = bytes(1024)
_UNPACKED = (b"A_PCM", b"V_UNCOMPRESSED", b"A_MS/ACM", b"V_MS/VFW")
_PIECE, _HEAD_OF_BLOCK = 1 << 20, 64
_MOST_PART, _MOST_BLOCK = 64 << 20, 64 << 20


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a recording. Raises `NothingLeft`."""
    window = Window(job.stream, job.size)
    head, kept, at = _beginning(window)
    lost: list[Loss] = []
    if _TRACKS not in kept:
        sample = next((each for each in job.others if each.is_sample and each.data[:4] == b"\x1a\x45\xdf\xa3"), None)
        if sample is None:
            raise NothingLeft(
                "its head is gone, which tells how it is coded: name a healthy one of the same program with --like"
            )
        head, kept, _ = _beginning(Window(io.BytesIO(sample.data), len(sample.data)))
        if _TRACKS not in kept:
            raise NothingLeft("the recording that was named with --like has no tracks")
        at = max(window.at(0, _PIECE).find(_MARK), 0)
        lost.append(Loss(LossKind.LIKE, text=sample.name))
    plain = any(mark in kept[_TRACKS] for mark in _UNPACKED)
    kept[_INFO] = _with_length(kept.get(_INFO, b""))
    out.write(head + b"\x18\x53\x80\x67\x01")
    place = out.tell()
    out.write(bytes(7))
    begin = out.tell()
    lasting = begin
    for ident, part in kept.items():
        out.write(part)
        if ident == _INFO:
            lasting = out.tell() - 8
    film = film_in(kept[_TRACKS], kept.get(_INFO, b""))
    behind = out.tell()
    missing, length = _write_clusters(job, window, at, out, begin, kept[_TRACKS], film, None, plain=plain)
    steps = [Step.INDEX]
    if film is not None and (edits := film.edits(window, job.budget, lost, strict=job.strict)) is not None:
        out.seek(behind)
        out.truncate()
        _write_clusters(job, window, at, out, begin, kept[_TRACKS], film, edits, plain=plain)
        if edits.before:
            steps.append(Step.STAND_INS)
    end = out.tell()
    out.seek(place)
    out.write((end - begin).to_bytes(7, "big"))
    out.seek(lasting)
    out.write(struct.pack(">d", length))
    out.seek(end)
    if missing:
        lost.append(Loss(LossKind.BYTES, "", missing))
    return Outcome("mkv", tuple(steps), tuple(lost))


def _write_clusters(
    job: Job,
    window: Window,
    at: int,
    out: BinaryIO,
    begin: int,
    tracks: bytes,
    film: MatroskaFilm | None,
    edits: Edits | None,
    *,
    plain: bool,
) -> tuple[int, int]:
    """Write the whole blocks from a place on, and an index; gives how many bytes were left out, and how long it lasts in ticks. The `film` notes its pictures, or is changed by
    `edits`. Raises `NothingLeft`.
    """
    cues: list[tuple[int, int]] = []
    missing = blocks = 0
    before = at, at, 0
    while at + 5 <= job.size:
        job.budget.spend()
        element = _element(window, at)
        if element is None or element[0] not in _TOP:
            following = _next_mark(window, at + 1)
            block = _next_block(window, at + 1, following)
            missing += block - at
            if film is not None and edits is None:
                film.missed(block - at)
            at = block
            if block == following:
                continue
            # The head of a cluster is gone: when its blocks are, the next one tells.
            start, end, is_open, when = block, following, False, _time_of(window, block, following, before)
        else:
            ident, length, start = element
            if ident != _CLUSTER:
                is_whole = length is not None and start + length <= job.size
                missing += 0 if is_whole else 4
                at = start + length if length is not None and is_whole else start
                continue
            end = job.size if length is None or start + length > job.size else start + length
            is_open, when = length is None, None
        time, body, at, gone, count = _cluster(window, start, end, film, edits, is_open=is_open, plain=plain, time=when)
        missing += gone
        if count:
            cues.append((time, out.tell() - begin))
            out.write(_MARK + (len(body) | 1 << 56).to_bytes(8, "big") + body)
            blocks += count
        before = start, at, time
    if not blocks:
        raise NothingLeft("no picture and no sound is left in it")
    out.write(_cues(cues, tracks))
    return missing, _lasts(window, before)


def _with_length(info: bytes) -> bytes:
    """The description of a recording, with how long it lasts at its end, which is told when all is written."""
    kept = b""
    told = _element(Window(io.BytesIO(info), len(info)), 0) if info else None
    at = told[2] if told is not None else len(info)
    while at < len(info):
        found = _element(Window(io.BytesIO(info), len(info)), at)
        if found is None or found[1] is None:
            break
        kept += info[at : found[2] + found[1]] if found[0] != _DURATION else b""
        at = found[2] + found[1]
    kept += b"\x44\x89\x88" + bytes(8)
    return b"\x15\x49\xa9\x66" + (len(kept) | 1 << 56).to_bytes(8, "big") + kept


def _lasts(window: Window, last: tuple[int, int, int]) -> int:
    """How long all of it lasts, by the last cluster: where its blocks lie, and its time."""
    ends = []
    for times in _times(window, *last[:2])[0].values():
        steps = sorted(after - before for before, after in pairwise(times) if after > before)
        ends.append(max(times) + (steps[len(steps) // 2] if steps else 0))
    return last[2] + max(ends, default=0)


def _element(window: Window, at: int) -> tuple[int, int | None, int] | None:
    """(identity, bytes or None where it was left open, where its content begins); None where none begins."""
    try:
        return element(window.at, at)
    except Malformed:
        return None


def _beginning(window: Window) -> tuple[bytes, dict[int, bytes], int]:
    """(the first element, what describes the recording by its identity, where the first cluster begins)."""
    head, kept, at = b"", dict[int, bytes](), 0
    while at + 5 <= window.size:
        element = _element(window, at)
        if element is None:
            break
        ident, length, start = element
        if ident == _CLUSTER:
            break
        if ident == _SEGMENT:
            at = start
            continue
        if length is None or start + length > window.size or length > _MOST_PART or ident not in (_EBML, *_TOP):
            break
        whole = window.at(at, start + length - at)
        if ident == _EBML:
            head = whole
        elif ident in _KEPT:
            kept[ident] = whole
        at = start + length
    return head or bytes.fromhex("1a45dfa38b4282886d6174726f736b61"), kept, at


def _cluster(
    window: Window,
    at: int,
    end: int,
    film: MatroskaFilm | None,
    edits: Edits | None,
    *,
    is_open: bool,
    plain: bool,
    time: int | None = None,
) -> tuple[int, bytes, int, int, int]:
    """(its time, the elements of it that are whole, where the next thing begins, bytes that were left out, blocks). A `time` is given where its own is gone."""
    out, gone, count = bytearray(), 0, 0
    if time is not None:
        told = time.to_bytes(8, "big")
        out += bytes((_TIMECODE, 0x80 | len(told))) + told
    time = time or 0
    notes = film if edits is None else None
    while at < end:
        element = _element(window, at)
        ident, length, start = element if element is not None else (0, None, at)
        if is_open and ident in _TOP and ident not in _IN_CLUSTER:
            break
        if ident not in _IN_CLUSTER or length is None or start + length > end or length > _MOST_BLOCK:
            following = _next_block(window, at + 1, end)
            if window.at(at, 4) == _MARK or window.at(at, following - at).find(_MARK) >= 0:
                found = max(window.at(at, following - at).find(_MARK), 0)
                if notes is not None:
                    notes.missed(found)
                return time, bytes(out), at + found, gone + found, count
            gone += following - at
            if notes is not None:
                notes.missed(following - at)
            at = following
            continue
        whole = window.at(at, start + length - at)
        if ident == _TIMECODE:
            time = int.from_bytes(whole[start - at :], "big")
        if ident in (_SIMPLE, _GROUP):
            if not plain and _HOLE in whole:
                gone += len(whole)
                if notes is not None:
                    notes.missed(len(whole))
                at = start + length
                continue
            if notes is not None:
                notes.note(window, ident, whole, at, time)
            elif film is not None and edits is not None:
                for when, picture in edits.before.get(at, ()):
                    out += written(film.number, when, time, picture)
                if at in edits.out:
                    at = start + length
                    continue
            count += 1
        out += whole
        at = start + length
    return time, bytes(out), at, gone, count


def _next_mark(window: Window, at: int) -> int:
    """Where the next cluster begins, the end of the file if nowhere."""
    while at < window.size:
        piece = window.from_(at, _PIECE)
        found = piece.find(_MARK)
        if found >= 0:
            return at + found
        at += max(len(piece) - 3, 1)
    return window.size


def _time_of(window: Window, at: int, end: int, before: tuple[int, int, int]) -> int:
    """The time of a cluster without its head, the blocks of which lie between two places: so that each track goes on in the next cluster as it does here. Where
    there is none, so that it goes on from the one `before`: where its blocks lie, and its time.
    """
    here, _ = _times(window, at, end)
    steps = {
        track: sorted(after - before for before, after in pairwise(times) if after > before)
        for track, times in here.items()
    }
    usual = {track: each[len(each) // 2] for track, each in steps.items() if each}
    element = _element(window, end) if end < window.size else None
    told = []
    if element is not None and element[0] == _CLUSTER:
        stop = window.size if element[1] is None else min(element[2] + element[1], window.size)
        then, time = _times(window, element[2], stop)
        told = [
            (time or 0) + min(then[track]) - step - max(here[track]) for track, step in usual.items() if track in then
        ]
    if not told:
        then, _ = _times(window, *before[:2])
        told = [
            before[2] + max(then[track]) + step - min(here[track]) for track, step in usual.items() if track in then
        ]
    return max(sorted(told)[len(told) // 2], 0) if told else before[2]


def _times(window: Window, at: int, end: int) -> tuple[dict[int, list[int]], int | None]:
    """(the times of the blocks of each track, by that of their cluster; this one, None where it does not stand there)."""
    found: dict[int, list[int]] = {}
    time = None
    while at < end and (element := _element(window, at)) is not None:
        ident, length, start = element
        if ident not in _IN_CLUSTER or length is None or start + length > end or length > _MOST_BLOCK:
            break
        if ident == _TIMECODE:
            time = int.from_bytes(window.at(start, length), "big")
        elif ident in (_SIMPLE, _GROUP):
            told = frame_in(
                ident,
                window.at(at, start + min(length, _HEAD_OF_BLOCK) - at if ident == _SIMPLE else start + length - at),
            )
            if told is not None:
                found.setdefault(told[0], []).append(told[1])
        at = start + length
    return found, time


def _next_block(window: Window, at: int, end: int) -> int:
    """Where the next block begins behind what is damaged: one that is followed by another, or by the end; the end if nowhere."""
    while at < end:
        piece = window.from_(at, min(_PIECE, end - at))
        for found in _BLOCK_HEAD.finditer(piece):
            place = at + found.start()
            element = _element(window, place)
            if element is None or element[1] is None or not 4 < element[1] <= end - element[2]:
                continue
            behind = element[2] + element[1]
            following = _element(window, behind) if behind < end else None
            if behind >= end - 4 or (following is not None and (following[0] in _IN_CLUSTER or following[0] in _TOP)):
                return place
        at += max(len(piece) - 16, 1)
        if len(piece) <= 16:
            break
    return end


def _cues(cues: list[tuple[int, int]], tracks: bytes) -> bytes:
    """An index of the clusters, for the first track."""
    place = tracks.find(b"\xd7\x81")
    number = tracks[place + 2] if 0 <= place < len(tracks) - 2 else 1

    def made(ident: bytes, body: bytes) -> bytes:
        return ident + (len(body) | 1 << 56).to_bytes(8, "big") + body

    def count(ident: bytes, value: int) -> bytes:
        body = value.to_bytes(max((value.bit_length() + 7) // 8, 1), "big")
        return ident + bytes((0x80 | len(body),)) + body

    points = b"".join(
        made(b"\xbb", count(b"\xb3", time) + made(b"\xb7", count(b"\xf7", number) + count(b"\xf1", where)))
        for time, where in cues
    )
    return made(b"\x1c\x53\xbb\x6b", points) if points else b""
