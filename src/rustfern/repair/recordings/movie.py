"""MP4, MOV, M4A and 3GP: recordings that were never finished, are cut off, or have holes.

What the tables still say is believed where the bytes bear it out; else pictures and sounds are found in the bytes themselves.
"""

from __future__ import annotations

import struct
from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from typing import BinaryIO

import msgspec
from msgspec.structs import replace

from rustfern.formats.media.aac import RATES, alike
from rustfern.formats.media.coded_video import Avc, settings_of
from rustfern.formats.media.mp4 import TOP
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.recordings.find import Finder, Found, Plain
from rustfern.repair.recordings.settings import Reading, entry_for, guess_plain, guessed, reading_of, size_of
from rustfern.repair.recordings.tables import Track, tracks_of
from rustfern.repair.recordings.timing import lasting_of, lost_by_bytes, lost_by_pictures, rate_of, shifts_of
from rustfern.repair.recordings.told_by_encoder import found_settings
from rustfern.repair.recordings.trial import plays, spoiled_by_gaps
from rustfern.repair.recordings.ways import Aac, Sample, Units, Way
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, box, entry_of_aac, entry_of_units, write

_MOST_TABLES = 256 << 20
_SOUGHT = 64 << 20
"""Bytes at the end of a file in which tables are sought that no box leads to."""
_BORNE_OUT, _A_WHILE = 0.5, 24
_HOLE = bytes(512)
_AS_LONG = 0.03
_LEAST, _SURELY, _EXPLAINED = 2, 1.95, 0.6
_FILM_SCALE = 90_000


class Layout(msgspec.Struct):
    """What the boxes of a file are, as far as they can be followed: the first one, where data lies, the tables (if `is_cut`, not to their end), fragments that are
    whole: up to where, and where the first begins.
    """

    brand: bytes = b""
    data: list[tuple[int, int]] = msgspec.field(default_factory=list)
    moov: bytes = b""
    is_cut: bool = False
    fragments: int = 0
    first_fragment: int = 0
    whole_to: int = 0


def layout_of(window: Window) -> Layout:
    """Follow the boxes of a recording as far as they go."""
    found, at, size = Layout(), 0, window.size
    open_fragment = -1
    while at + 8 <= size:
        head = window.at(at, 16)
        length, kind = struct.unpack_from(">I4s", head)
        start = at + 8
        if length == 1 and len(head) == 16:
            length, start = struct.unpack_from(">Q", head, 8)[0], at + 16
        is_open = kind == b"mdat" and (length < start - at or at + length > size)
        end = size if is_open else at + length
        if kind not in TOP or end <= at or end < start:
            break
        if kind == b"ftyp" and not found.brand:
            found.brand = window.at(at, min(end - at, 4096))
        elif kind == b"mdat":
            found.data.append((start, end))
        elif kind == b"moov" and not found.moov:
            found.moov = window.at(start, min(end - start, size - start, _MOST_TABLES))
            found.is_cut = end > size
        elif kind == b"moof":
            open_fragment = at
            found.first_fragment = found.first_fragment or at
        if kind == b"mdat" and open_fragment >= 0 and not is_open:
            found.fragments, found.whole_to, open_fragment = found.fragments + 1, end, -1
        if end > size:
            break
        at = end
    if not found.moov:
        _seek_tables(window, found)
    if not found.data:
        place = window.at(0, 1 << 20).find(b"mdat")
        found.data.append((place + 4 if place >= 0 else 0, size))
    return found


def _seek_tables(window: Window, found: Layout) -> None:
    """Tables that no box leads to: behind data whose size was never written, or whose head is damaged."""
    start = max(window.size - _SOUGHT, 0)
    tail = window.at(start, window.size - start)
    at = tail.rfind(b"moov")
    while at >= 4:
        length = int.from_bytes(tail[at - 4 : at], "big")
        if tail[at + 8 : at + 12] in (b"mvhd", b"cmov", b"trak") and length >= 16:
            found.moov = tail[at + 4 : at - 4 + length]
            found.is_cut = at - 4 + length > len(tail)
            place = start + at - 4
            found.data = [(low, min(high, place)) for low, high in found.data if low < place]
            return
        at = tail.rfind(b"moov", 0, at)


def is_movie(head: bytes) -> bool:
    """Whether a file begins as recordings in boxes do."""
    return head[4:8] in TOP


def tables_in(stream: BinaryIO, size: int) -> bytes:
    """The tables of a healthy recording, with the box that they stand in; empty where there are none."""
    moov = layout_of(Window(stream, size)).moov
    return box(b"moov", moov) if moov else b""


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a recording as one that plays."""
    window = Window(job.stream, job.size)
    layout = layout_of(window)
    tracks = tracks_of(layout.moov)
    if layout.fragments and layout.moov:
        return _fragments(job, window, layout, out)
    lost: list[Loss] = []
    steps = [Step.INDEX]
    if tracks and not layout.is_cut and all(track.is_whole for track in tracks) and _are_borne_out(window, tracks):
        made = _by_tables(job, window, tracks, lost)
        steps = [Step.SKIPPED]
    else:
        made = _by_bytes(job, window, layout, tracks, lost)
    if not made:
        raise NothingLeft("no picture and no sound was found in it that can be played")
    brand = layout.brand or (
        box(b"ftyp", b"qt  \0\0\2\0qt  ") if job.format == "mov" else box(b"ftyp", b"isom\0\0\2\0isomiso2mp41")
    )
    write(out, window, brand, made, job.budget.spend)
    return Outcome("mov" if brand[8:12] == b"qt  " else "mp4", tuple(steps), tuple(lost))


def _fragments(job: Job, window: Window, layout: Layout, out: BinaryIO) -> Outcome:
    """Every whole fragment, as it is."""
    at = 0
    while at < layout.whole_to:
        job.budget.spend()
        piece = window.at(at, min(1 << 20, layout.whole_to - at))
        out.write(piece)
        at += len(piece)
    rest = job.size - layout.whole_to
    lost = (Loss(LossKind.BYTES, "", rest, layout.whole_to, job.size),) if rest else ()
    return Outcome("mp4", (Step.FRAGMENTS,), lost)


def _are_borne_out(window: Window, tracks: Sequence[Track]) -> bool:
    """Whether samples lie where tables say, most of those that are tried."""
    tried = good = 0
    for track in tracks:
        reading = reading_of([track])
        way = (
            None
            if reading is None
            else reading.way or next((w for w in reading.ways if not isinstance(w, Plain)), None)
        )
        if way is None:
            continue
        for number in range(0, len(track.places), max(1, len(track.places) // 50)):
            at, size = track.places[number], track.sizes[number]
            sample = way.sample_at(window, at, at + size)
            tried += 1
            good += sample is not None and sample.size == size
    return not tried or good >= _BORNE_OUT * tried


def _by_tables(job: Job, window: Window, tracks: Sequence[Track], lost: list[Loss]) -> list[Written]:
    """The samples that are whole, at the times that the tables give."""
    made = []
    for track in tracks:
        reading = reading_of([track])
        way: Way | Plain | None = None if reading is None else reading.way or next(iter(reading.ways), None)
        kept = [n for n in range(len(track.places)) if _is_whole(window, track, n, way, job)]
        width, height = size_of(track) if track.kind == b"vide" else (0, 0)
        whole, wrong_ones = len(kept), list[int]()
        if isinstance(way, Units) and 0 < whole < len(track.places):
            keys = [track.keys is None or n + 1 in track.keys for n in kept]
            gaps = [n for n in range(1, whole) if kept[n] != kept[n - 1] + 1]
            spoiled, wrong = spoiled_by_gaps(
                window, track.entry, width, height, [track.places[n] for n in kept], [track.sizes[n] for n in kept], keys, gaps, strict=job.strict,
                pause=job.budget.spend,
            )  # fmt: skip
            wrong_ones = [kept[n] for n in sorted(wrong)]
            kept = [n for place, n in enumerate(kept) if place not in spoiled]
        if not kept:
            continue
        written = Written(
            track.kind, track.entry, track.scale or 1, width, height, array("Q"), array("I"), array("I"), array("q"), array("b"), frame=track.frame,
            matrix=track.matrix, language=track.language, skipped=track.first_shown,
        )  # fmt: skip
        clock = 0
        times = array("q")
        for each in track.lasting:
            times.append(clock)
            clock += each
        times.extend([clock] * (len(track.places) + 1 - len(times)))
        for n, number in enumerate(kept):
            after = kept[n + 1] if n + 1 < len(kept) else number + 1
            written.places.append(track.places[number])
            written.sizes.append(track.sizes[number])
            written.lasting.append(min(times[after] - times[number], (1 << 31) - 1))
            written.shifts.append(track.shifts[number] if number < len(track.shifts) else 0)
            written.keys.append(track.keys is None or number + 1 in track.keys)
        written.start = times[kept[0]]
        _say_wrong(lost, [times[n] / written.scale for n in wrong_ones])
        missing = len(track.places) - len(kept)
        if missing:
            _say_lost(
                lost, track.kind, missing, [(times[n] / written.scale) for n in _first_missing(kept, len(track.places))]
            )
        made.append(written)
    return made


def _is_whole(window: Window, track: Track, number: int, way: Way | Plain | None, job: Job) -> bool:
    if not number % 64:
        job.budget.spend()
    at, size = track.places[number], track.sizes[number]
    if not size or at + size > window.size:
        return False
    if isinstance(way, Plain):
        return True
    if way is None:
        return _HOLE not in window.at(at, size)
    sample = way.sample_at(window, at, at + size)
    return sample is not None and sample.size == size and not sample.is_hurt


def _first_missing(kept: Sequence[int], count: int) -> list[int]:
    """Where runs of missing numbers begin."""
    there = set(kept)
    return [n for n in range(count) if n not in there and (n == 0 or n - 1 in there)]


def _say_lost(lost: list[Loss], kind: bytes, count: int, times: Sequence[float]) -> None:
    what = LossKind.FRAMES if kind == b"vide" else LossKind.SOUND if kind == b"soun" else LossKind.PARTS
    at = ", ".join(_clock(each) for each in times[:6])
    lost.append(Loss(what, "", count, text=at))


def _say_wrong(lost: list[Loss], times: Sequence[float]) -> None:
    """Pictures that stay although what they build on is gone."""
    if times:
        lost.append(Loss(LossKind.BLOCKS, "", len(times), text=_clock(times[0])))


def _clock(seconds: float) -> str:
    whole = int(seconds)
    return (
        f"{whole // 3600}:{whole // 60 % 60:02}:{whole % 60:02}" if whole >= 3600 else f"{whole // 60}:{whole % 60:02}"
    )


def _by_bytes(job: Job, window: Window, layout: Layout, tracks: Sequence[Track], lost: list[Loss]) -> list[Written]:
    """Pictures and sounds that are found in the bytes."""
    own = reading_of(tracks)
    samples = [
        found for each in job.others if each.is_sample and (found := reading_of(_tracks_in(each.data), each.name))
    ]
    asked = {each.name for each in job.others if each.is_sample and each.asked}
    if own is not None and own.way is not None:
        reading = own
        if not own.ways:
            reading = _with_sound(job, window, layout, own, samples)
        finder = _walked(job, window, layout, reading)
        return _timed(job, window, reading, finder, lost)
    best: tuple[float, Reading, Finder] | None = None
    for reading in samples:
        finder = _walked(job, window, layout, reading)
        fit = _fits(window, reading, finder)
        if fit > 0 and (best is None or fit > best[0]):
            best = fit, reading, finder
        if best is not None and best[0] > _SURELY:
            break
    kinds = {found.picture.entry for found in samples if found.picture is not None}
    if best is not None and best[0] < 1 and best[1].way is not None and best[1].name not in asked and len(kinds) > 1:
        best = None  # no decoder told: which of several is the right one, nothing shows
    if best is None:
        found = guessed(window, *layout.data[0], job.budget.spend)
        if found is not None and isinstance(found.way, Units) and not _has_settings(window, layout, found, job):
            found = _by_encoder(job, window, layout, found, samples)
        if found is None:
            raise NothingLeft(_unread(asked))
        best = 0.0, found, _walked(job, window, layout, found)
    _, reading, finder = best
    if reading.name:
        lost.append(Loss(LossKind.LIKE, text=reading.name))
    return _timed(job, window, reading, finder, lost)


def _by_encoder(job: Job, window: Window, layout: Layout, found: Reading, samples: Sequence[Reading]) -> Reading | None:
    """A way of reading whose settings the encoder tells, if a decoder has nothing to complain of; None where there is none."""
    assert isinstance(found.way, Units)
    pictures = _walked(job, window, layout, found).pictures
    first = next((n for n, key in enumerate(pictures.keys) if key), None)
    if not isinstance(found.way.coding, Avc) or first is None:
        return None
    known = [
        each.way.coding.shape for each in samples if isinstance(each.way, Units) and each.way.coding.shape is not None
    ]
    sizes = [(each.width, each.height) for each in known]
    key = pictures.places[first], pictures.sizes[first]
    coding = found_settings(window, layout.data[0][0], key, sizes)
    entry = entry_of_units(coding) if coding is not None else None
    if coding is None or entry is None:
        return None
    told = replace(found, picture=Track(b"vide", entry, is_guessed=True), way=Units(coding, found.way.width))
    if not told.ways:
        guess_plain(window, told, *layout.data[0], job.budget.spend)
    return told if _fits(window, told, _walked(job, window, layout, told)) > 1 else None


def _unread(asked: set[str]) -> str:
    """Why pictures cannot be read."""
    if asked:
        return f"its pictures do not read with the settings of {', '.join(sorted(asked))}: a recording of the very same settings is needed"
    return (
        "what tells how its pictures are coded is not in it, nor in a recording beside it: name a healthy one by the same program or camera, "
        "made with the same settings, with --like SAMPLE"
    )


def _with_sound(job: Job, window: Window, layout: Layout, own: Reading, samples: Sequence[Reading]) -> Reading:
    """A way of reading whose tables tell nothing of sound, with the sound that fits best."""
    best, most = own, 0
    others = [replace(own, sounds=each.sounds, ways=each.ways) for each in samples if each.ways]
    heard = guessed(window, *layout.data[0], job.budget.spend, own.way)
    if heard is not None and heard.ways:
        others.append(replace(own, sounds=heard.sounds, ways=heard.ways))
    for reading in others:
        finder = _walked(job, window, layout, reading)
        size = sum(each.size for each in finder.heard)
        if size > most * 1.02:
            best, most = reading, size
    return best


def _tracks_in(data: bytes) -> list[Track]:
    at = data.find(b"moov")
    return tracks_of(data[at + 4 :]) if at >= 0 else []


def _has_settings(window: Window, layout: Layout, reading: Reading, job: Job) -> bool:
    """Whether the settings of pictures stand among them."""
    assert isinstance(reading.way, Units)
    finder = _walked(job, window, layout, reading)
    entry, _ = entry_for(reading.way, window, finder.pictures.places)
    return entry is not None


def _walked(job: Job, window: Window, layout: Layout, reading: Reading) -> Finder:
    finder = Finder(window, reading.way, reading.ways, job.budget.spend)
    for start, end in layout.data:
        finder.walk(start, end)
    return finder


def _fits(window: Window, reading: Reading, finder: Finder) -> float:
    """How well what was found fits a way of reading: 0 not at all, 1 and more if a decoder reads the pictures without any complaint."""
    pictures = finder.pictures
    held = pictures.size + sum(each.size for each in finder.heard)
    share = held / (held + finder.missing) if held else 0.0
    if reading.picture is None or not pictures.places:
        return share if held and reading.way is None else 0.0
    width, height = size_of(reading.picture)
    told: float | None = None
    for first in _undisturbed(pictures):
        told = plays(window, reading.picture.entry, width, height, pictures.places[first:], pictures.sizes[first:])
        if told is None or told == 1:
            break
    if share < _EXPLAINED:
        return 0.0
    if told is None:
        return share
    return 1 + share if told == 1 else 0.0


def _undisturbed(pictures: Found) -> list[int]:
    """Some pictures that need no other, and behind which none is missing for a while, wide apart."""
    keys = [n for n, key in enumerate(pictures.keys) if key] or [0]
    gaps = [number for number, _ in pictures.gaps if number]
    calm = [key for key in keys if not any(key < gap <= key + _A_WHILE for gap in gaps)] or keys
    return list(dict.fromkeys((calm[0], calm[len(calm) // 3], calm[2 * len(calm) // 3], calm[-1])))


def _timed(job: Job, window: Window, reading: Reading, finder: Finder, lost: list[Loss]) -> list[Written]:
    """The tracks with times: of the pictures by the rate, of sound by its own; gaps last as long as what is missing did."""
    pictures, made = finder.pictures, list[Written]()
    _told_apart(reading, finder, _seconds_shown(reading, pictures))
    heard = [
        (track, way, found)
        for track, way, found in zip(reading.sounds, reading.ways, finder.heard, strict=True)
        if len(found.places) >= (1 if isinstance(way, Plain) else _LEAST)
    ]
    shown = _seconds_shown(reading, pictures)
    heard = [(_at_likely_rate(track, way, found, shown), way, found) for track, way, found in heard]
    seconds = max((_seconds(track, way, found) for track, way, found in heard), default=0.0)
    is_told = bool(shown) and not (reading.picture is not None and reading.picture.is_guessed)
    if not is_told and all(track.is_guessed for track, _, _ in heard):
        lost.append(Loss(LossKind.PACE))
    times: list[float] = []
    wrong: list[int] = []
    if reading.way is not None and len(pictures.places) >= 1:
        track = reading.picture if reading.picture is not None else Track()
        entry, shape = entry_for(reading.way, window, pictures.places)
        if track.entry:
            entry = track.entry
            coding, _ = settings_of(track.entry)
            shape = (coding.shape if coding is not None else None) or shape
        told = track.scale / track.step if track.scale and track.step else shape.rate if shape is not None else 0.0
        if isinstance(reading.way, Units) and entry is not None and (pictures.gaps or pictures.hurt):
            width, height = (
                size_of(track) if track.entry else (shape.width, shape.height) if shape is not None else (0, 0)
            )
            out, wrong_ones = spoiled_by_gaps(
                window, entry, width, height, pictures.places, pictures.sizes, pictures.keys, [n for n, _ in pictures.gaps], strict=job.strict,
                pause=job.budget.spend,
            )  # fmt: skip
            wrong = [pictures.places[n] for n in sorted(wrong_ones)]
            _leave_out(pictures, out)
        rate = rate_of(len(pictures.places), told, seconds)
        scale = track.scale if track.scale and track.step and abs(rate - told) < 1e-9 else _FILM_SCALE
        step = track.step if scale == track.scale and track.step else max(round(scale / rate), 1)
        whole = pictures.size + sum(each.size for each in finder.heard)
        missing = lost_by_bytes(pictures, pictures.gaps, whole / (len(pictures.places) / rate), rate)
        lasting, start = lasting_of(pictures, step, missing)
        shifts, late = shifts_of(pictures.orders, pictures.keys, shape.orders if shape is not None else 0, step)
        width, height = size_of(track) if track.entry else (shape.width, shape.height) if shape is not None else (0, 0)
        clock = start / scale
        for each in lasting:
            times.append(clock)
            clock += each / scale
        if entry is not None:
            keys = pictures.keys if isinstance(reading.way, Units) else array("b")
            made.append(
                Written(
                    b"vide",
                    entry,
                    scale,
                    width,
                    height,
                    pictures.places,
                    pictures.sizes,
                    lasting,
                    shifts,
                    keys,
                    start,
                    late,
                    matrix=track.matrix,
                    language=track.language,
                )
            )
            _say_wrong(lost, [times[bisect_left(pictures.places, place)] for place in wrong])
            gone = sum(many for _, many in missing)
            if gone or pictures.hurt:
                at = [times[min(number, len(times) - 1)] for number, _ in missing]
                _say_lost(lost, b"vide", gone + pictures.hurt, at)
    for track, way, found in heard:
        made.append(_sound(track, way, found, pictures, times, lost))
    return made


def _at_likely_rate(track: Track, way: Way | Plain, found: Found, seconds: float) -> Track:
    """Sound of which nothing tells the rate: of those whose frames read alike the one that makes it as long as the pictures."""
    if not track.is_guessed or not isinstance(way, Aac) or not seconds:
        return track
    rates = [n for n in range(len(RATES)) if alike(n) == alike(way.rate)]
    rate = min(rates, key=lambda n: abs(len(found.places) * 1024 / RATES[n] / seconds - 1))
    return Track(b"soun", entry_of_aac(rate, max(way.channels, 1)), RATES[rate], 1024, is_guessed=True)


def _leave_out(pictures: Found, spoiled: set[int]) -> None:
    """Take pictures out: each leaves a gap of its size."""
    if not spoiled:
        return
    gaps = dict(pictures.gaps)
    left, size = Found(hurt=pictures.hurt), 0
    for number, place in enumerate(pictures.places):
        size += gaps.get(number, 0)
        if number in spoiled:
            size += pictures.sizes[number]
            continue
        if size:
            left.gaps.append((len(left.places), size))
            size = 0
        left.add(place, Sample(pictures.sizes[number], bool(pictures.keys[number]), pictures.orders[number]))
    if size or len(pictures.places) in gaps:
        left.gaps.append((len(left.places), size + gaps.get(len(pictures.places), 0)))
    for name in ("places", "sizes", "orders", "keys", "gaps"):
        setattr(pictures, name, getattr(left, name))


def _seconds_shown(reading: Reading, pictures: Found) -> float:
    """How long the pictures last by a table or by their own settings; 0 where nothing tells."""
    track = reading.picture
    if track is not None and track.scale and track.step:
        return len(pictures.places) * track.step / track.scale
    shape = reading.way.coding.shape if isinstance(reading.way, Units) else None
    return len(pictures.places) / shape.rate if shape is not None and shape.rate else 0.0


def _told_apart(reading: Reading, finder: Finder, seconds: float) -> None:
    """Several sound tracks of one coding: of the frames that lie together each has its share, those of one behind the other, or one by one by turns."""
    first = next((n for n, way in enumerate(reading.ways) if isinstance(way, Aac)), None)
    if first is None or not finder.heard[first].places:
        return
    way, found, track = reading.ways[first], finder.heard[first], reading.sounds[first]
    assert isinstance(way, Aac)
    alike_ones = [n for n, other in enumerate(reading.ways) if isinstance(other, Aac) and other == way]
    if len(alike_ones) == 1 and track.is_guessed and seconds:
        rates = [RATES[n] for n in range(len(RATES)) if alike(n) == alike(way.rate)]
        near = max(_AS_LONG, 4 / len(found.places))
        fitting = (
            n for n in (1, 2, 3, 4) for rate in rates if abs(len(found.places) * 1024 / rate / seconds / n - 1) < near
        )
        for _ in range(next(fitting, 1) - 1):
            reading.sounds.append(track)
            reading.ways.append(way)
            finder.heard.append(Found())
            alike_ones.append(len(reading.ways) - 1)
    if len(alike_ones) < 2:
        return
    parts = [Found(gaps=list(found.gaps)) for _ in alike_ones]
    by_turns = track.together == 1 or (track.together == 0 and len(found.places) > 0)
    start = 0
    while start < len(found.places):
        end = start + 1
        while end < len(found.places) and found.places[end] == found.places[end - 1] + found.sizes[end - 1]:
            end += 1
        whole = sum(len(part.places) for part in parts) + end - start
        at = start
        for n, part in enumerate(parts):
            wanted = max(-(-(whole - n) // len(parts)) - len(part.places), 0)
            numbers = range(start + n, end, len(parts)) if by_turns else range(at, min(at + wanted, end))
            if n == len(parts) - 1 and not by_turns:
                numbers = range(at, end)
            for number in numbers:
                part.add(found.places[number], Sample(found.sizes[number]))
            at = numbers.stop if not by_turns else at
        start = end
    for n, part in zip(alike_ones, parts, strict=True):
        finder.heard[n] = part


def _seconds(track: Track, way: Way | Plain, found: Found) -> float:
    if isinstance(way, Plain):
        return found.size / way.frame / max(track.scale, 1)
    return len(found.places) * (track.step or 1024) / max(track.scale, 1)


def _sound(
    track: Track, way: Way | Plain, found: Found, pictures: Found, times: Sequence[float], lost: list[Loss]
) -> Written:
    scale = max(track.scale, 1)
    step = track.step or 1024
    if isinstance(way, Plain):
        lasting = array("I", [size // way.frame for size in found.sizes])
        made = Written(
            b"soun", track.entry, scale, 0, 0, found.places, array("I", [n * way.frame for n in lasting]), lasting, array("q", bytes(8 * len(lasting))),
            array("b"), frame=way.frame, language=track.language,
        )  # fmt: skip
        if times and found.places:
            beside = bisect_right(pictures.places, found.places[0]) - 1
            if beside > 0 and found.gaps and found.gaps[0][0] == 0:
                made.start = round(max(times[beside], 0.0) * scale)
        return made
    missing = lost_by_pictures(found, pictures, times, [step / scale] * len(found.places)) if found.gaps else []
    lasting, start = lasting_of(found, step, missing)
    if missing:
        clock = start
        at: list[float] = []
        known = dict(missing)
        for number, each in enumerate(lasting):
            if number in known:
                at.append(clock / scale)
            clock += each
        _say_lost(lost, b"soun", sum(many for _, many in missing), at)
    return Written(
        b"soun", track.entry, scale, 0, 0, found.places, found.sizes, lasting, array("q", bytes(8 * len(lasting))), array("b"), start,
        language=track.language,
    )  # fmt: skip
