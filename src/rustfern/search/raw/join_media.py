"""What pictures, archives, sound and films need next where one breaks off.

Source: W3C PNG 5.3, ITU T.81 B.1.1.2 (`FF` in coded rows), TIFF 6.0 section 2, the 7z signature header, RFC 3533 6, RFC 9639 9.1, ISO/IEC 14496-12 8.7.
"""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

from rustfern.core.errors import Malformed
from rustfern.search.raw.join_ways import MAX_MEMBERS, MAX_STEPS, Cuts

if TYPE_CHECKING:
    from rustfern.formats.media.mp4 import CodedPicture
    from rustfern.search.raw.fragments import Trial

_FIRST_TAG, _TELLING = 254, 3


# --- pictures ---------------------------------------------------------------------------------------------------------


def png(trial: Trial) -> Iterator[Cuts]:
    """By the sum of the chunk that breaks: it fits with one place to break and one shift only."""
    from rustfern.search.raw.fragments import varied

    at = trial.begun.reach.proven
    head = trial.own(at, 8)
    length = int.from_bytes(head[:4], "big")
    if len(head) < 8 or not head[4:].isalpha() or length > 8 << 20:
        return
    end = at + 12 + length
    places = trial.boundaries(at + 8, end - 1)
    sums = [(place, zlib.crc32(trial.own(at + 4, place - at - 4))) for place in places]
    for start, inner, data in trial.near.clusters(trial.cluster, trial.start % trial.cluster):
        if inner + 512 > len(data) or not varied(data[inner : inner + 512]):
            continue
        for place, found in sums:
            shift = start - trial.start - place
            rest = data[inner : inner + end - place]
            if not trial.fits(shift) or len(rest) < end - place:
                continue
            if (
                end - place <= 4
                and zlib.crc32(trial.own(at + 4, length + 4)).to_bytes(4, "big")[end - place - 4 :] == rest[:4]
            ) or (end - place > 4 and zlib.crc32(rest[:-4], found).to_bytes(4, "big") == rest[-4:]):
                finish = _png_end(trial, end, shift)
                if finish:
                    yield [(place, shift)], finish
        if trial.is_over:
            return


def _png_end(trial: Trial, at: int, shift: int) -> int:
    """Where the last chunk ends, if all that follow fit."""
    for _ in range(MAX_MEMBERS):
        head = trial.shifted(at, 8, shift)
        if len(head) < 8 or not head[4:].isalpha():
            return 0
        at += 12 + int.from_bytes(head[:4], "big")
        if head[4:] == b"IEND":
            return at
    return 0


_STRANGE = re.compile(rb"\xff[^\x00\xff\xd0-\xd9]", re.DOTALL)
_CODED = re.compile(rb"\xff[\x00\xd0-\xd7]", re.DOTALL)
_BYTE = re.compile(r"byte (\d+)")


def jpeg(trial: Trial) -> Iterator[Cuts]:
    """By the rows themselves: coded rows have marks of their own only, and other rows do not decode where these break."""
    from rustfern.search.raw.fragments import varied

    reach = trial.begun.reach
    told = _BYTE.search(reach.reason)
    stop = int(told[1]) if told else reach.end
    places = trial.boundaries(
        max(reach.proven if reach.proven < stop else 0, stop - 16 * trial.cluster, 64), stop + trial.cluster
    )
    for start, inner, data in trial.near.clusters(trial.cluster, trial.start % trial.cluster):
        block = data[inner : inner + trial.cluster]
        ending = block.find(b"\xff\xd9")
        coded = block[:ending] if ending >= 0 else block
        if _STRANGE.search(coded) or (len(coded) > 64 and not varied(coded[:512]) and not _CODED.search(coded)):
            continue
        if len(coded) >= 2048 and len(_CODED.findall(coded)) < 2:
            continue
        finish = data.find(b"\xff\xd9", inner)
        if finish < 0:
            continue
        for place in places:
            shift = start - trial.start - place
            if trial.fits(shift):
                yield [(place, shift)], finish + 2 - inner + place
        if trial.is_over:
            return


def tiff(trial: Trial) -> Iterator[Cuts]:
    """By the first directory, whose place the header gives: its tags stand in order."""
    order = "<" if trial.begun.head[:2] == b"II" else ">"
    at = struct.unpack_from(f"{order}I", trial.begun.head, 4)[0]

    def fits(data: bytes) -> bool:
        (count,) = struct.unpack_from(f"{order}H", data)
        if not 4 <= count <= 60:
            return False
        rows = [struct.unpack_from(f"{order}HH", data, 2 + 12 * n) for n in range(min(count, 8))]
        return (
            all(0 < kind < 14 for _, kind in rows)
            and [tag for tag, _ in rows] == sorted(tag for tag, _ in rows)
            and rows[0][0] >= 254
        )

    for shift in trial.shifts(at, fits):
        rest = trial.free.end_from(trial.start + at + shift) - trial.start - shift
        yield from (([(place, shift)], rest) for place in trial.boundaries(8, at))


def sevenzip(trial: Trial) -> Iterator[Cuts]:
    """By the list at its end, whose place and sum the first header gives."""
    offset, size, wanted = struct.unpack_from("<QQI", trial.begun.head, 12)
    at = 32 + offset
    if not 0 < size <= 1 << 20 or at > 256 << 20:
        return
    for shift in trial.shifts(at, lambda data: len(data) == size and zlib.crc32(data) == wanted, size):
        yield from (([(place, shift)], at + size) for place in trial.boundaries(32, at))


# --- sound ------------------------------------------------------------------------------------------------------------


def ogg(trial: Trial) -> Iterator[Cuts]:
    """By the number of the next page of this stream."""
    pages = _pages(trial)
    if not pages:
        return
    at, end, serial, number = pages[-1]
    for place in trial.near.found(b"OggS\0"):
        head = trial.near.at(place, 27)
        shift = place - trial.start - end
        if (
            len(head) < 27
            or head[14:18] != serial
            or int.from_bytes(head[18:22], "little") != number + 1
            or not trial.fits(shift)
        ):
            continue
        finish = _ogg_end(trial, end, shift)
        yield from (([(cut, shift)], finish) for cut in trial.boundaries(at, end))


def _pages(trial: Trial) -> list[tuple[int, int, bytes, int]]:
    """(place, end, stream, number) of the pages that follow each other as they lie."""
    at, found = 0, list[tuple[int, int, bytes, int]]()
    while (head := trial.own(at, 27)) and len(head) == 27 and head[:5] == b"OggS\0" and len(found) < MAX_MEMBERS:
        end = at + 27 + head[26] + sum(trial.own(at + 27, head[26]))
        found.append((at, end, head[14:18], int.from_bytes(head[18:22], "little")))
        at = end
    return found


def _ogg_end(trial: Trial, at: int, shift: int) -> int:
    while (head := trial.shifted(at, 27, shift)) and len(head) == 27 and head[:5] == b"OggS\0":
        at += 27 + head[26] + sum(trial.shifted(at + 27, head[26], shift))
    return at


def flac(trial: Trial) -> Iterator[Cuts]:
    """By the number of the next frame, whose header has a sum of its own."""
    from rustfern.formats.media.flac import frame_header

    at = trial.begun.reach.proven
    head = trial.own(at, 16)
    frame = frame_header(head, 0) if len(head) == 16 else None
    if frame is None:
        return
    wanted = frame.number + (frame.samples if head[1] & 1 else 1)
    for place in trial.near.found(head[:2]):
        following = frame_header(trial.near.at(place, 16), 0)
        if following is None or following.number != wanted:
            continue
        for cut in trial.boundaries(at, at + (64 << 10)):
            # The frame that breaks has no length: each shift that makes it a likely one is tried.
            for step in range(0, 64 << 10, trial.cluster):
                begin = (place - trial.first) // trial.cluster * trial.cluster + trial.first - step
                shift = begin - trial.start - cut
                if trial.fits(shift) and trial.free.holds(begin):
                    rest = trial.free.end_from(begin) - begin
                    yield [(cut, shift)], cut + rest
        if trial.is_over:
            return


# --- films ---


def film(trial: Trial) -> Iterator[Cuts]:
    """By the tables: they tell where each coded picture lies, and its parts tell their lengths."""
    boxes = _top_boxes(trial)
    tables = next(((at, size) for kind, at, size in boxes if kind == b"moov"), None)
    data = next(((at, size) for kind, at, size in boxes if kind == b"mdat"), None)
    if data is None:
        return
    if tables is not None:
        pictures = _pictures(trial.own(tables[0] + 8, tables[1] - 8))
        broken = next((n for n, each in enumerate(pictures) if not _is_there(trial, each, 0)), None)
        if broken is None or broken + _TELLING >= len(pictures):
            return
        following = pictures[broken + 1 : broken + 1 + _TELLING]
        for start, _, _ in trial.near.clusters(trial.cluster, trial.start % trial.cluster):
            shift = start - trial.start - following[0].at // trial.cluster * trial.cluster
            if trial.fits(shift) and all(_is_there(trial, each, shift) for each in following):
                # What stands where the broken one should begin is another's, if it is found with the shift: the one before it breaks in its middle.
                moved = _is_there(trial, pictures[broken], shift)
                low, high = (max(broken - 1, 0), broken) if moved else (broken, broken + 1)
                yield from _film_cuts(trial, pictures[low].at, pictures[high].at, shift)
            if trial.is_over:
                return
        return
    end = data[0] + data[1]
    for shift in trial.shifts(end, lambda head: head[4:8] == b"moov"):
        size = int.from_bytes(trial.shifted(end, 4, shift), "big")
        pictures = _pictures(trial.shifted(end + 8, size - 8, shift))
        here = [each.at for each in pictures if _is_there(trial, each, 0)]
        later = [each.at for each in pictures if each.at > max(here, default=0) and _is_there(trial, each, shift)]
        if here and later:
            yield from _film_cuts(trial, max(here), min(later), shift)


def _pictures(tables: bytes) -> list[CodedPicture]:
    """The pictures that tables speak of; none where these are no such tables."""
    from rustfern.formats.media.mp4 import coded_pictures

    try:
        return coded_pictures(tables)
    except Malformed:
        return []


def _top_boxes(trial: Trial) -> list[tuple[bytes, int, int]]:
    """(kind, place, bytes) of the outer boxes as they lie in one piece."""
    at, found = 0, list[tuple[bytes, int, int]]()
    while (head := trial.own(at, 16)) and len(head) == 16 and head[4:8].isalnum() and len(found) < MAX_STEPS:
        size = int.from_bytes(head[:4], "big")
        size = int.from_bytes(head[8:16], "big") if size == 1 else size
        if size < 8:
            break
        found.append((head[4:8], at, size))
        at += size
    return found


def _is_there(trial: Trial, picture: CodedPicture, shift: int) -> bool:
    return picture.is_in(trial.shifted(picture.at, picture.size, shift))


def _film_cuts(trial: Trial, low: int, high: int, shift: int) -> Iterator[Cuts]:
    rest = trial.free.end_from(trial.start + high + shift) - trial.start - shift
    yield from (([(place, shift)], rest) for place in trial.boundaries(low, high))
