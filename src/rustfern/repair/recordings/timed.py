"""The tracks of a recording that was found in its bytes, each with its times."""

from __future__ import annotations

from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace

from rustfern.formats.media.aac import RATES, alike
from rustfern.formats.media.coded_video import settings_of
from rustfern.repair.interface import Job, Loss, LossKind
from rustfern.repair.recordings.filling import Plain
from rustfern.repair.recordings.find import Finder, Found
from rustfern.repair.recordings.holes import Film, Mended, mended
from rustfern.repair.recordings.more_ways import FlacFrames, Obus
from rustfern.repair.recordings.remarks import say_lost, say_wrong
from rustfern.repair.recordings.settings import Reading, entry_for, size_of
from rustfern.repair.recordings.stand_ins import Lost, Made
from rustfern.repair.recordings.tables import Track
from rustfern.repair.recordings.timing import (
    lasting_of,
    lost_by_bytes,
    lost_by_pictures,
    numbers,
    off_usual,
    rate_of,
    shifts_in,
    shifts_of,
    span_by_sound,
    times_by_sound,
)
from rustfern.repair.recordings.ways import Aac, Alac, Intra, Sample, Texts, Units, Way
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, entry_of_aac, entry_of_alac

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_AS_LONG = 0.03
_LEAST = 2
_FEW = 20
_ALAC_RATES = (44100, 48000, 32000, 22050, 16000, 96000, 24000, 8000)
_FILM_SCALE = 90_000
_LEAST_RUNS, _USUAL = 24, 0.01
"""Runs of sound between pictures by which it is told how many tracks they are of; how far off a usual rate is."""


def timed(job: Job, window: Window, reading: Reading, finder: Finder, lost: list[Loss]) -> list[Written]:
    """The tracks with times: of the pictures by the rate, of sound by its own; gaps last as long as what is missing did."""
    import numpy as np

    pictures, made = finder.pictures, list[Written]()
    _told_apart(reading, finder, _seconds_shown(reading, pictures))
    heard = [
        (track, way, found)
        for track, way, found in zip(reading.sounds, reading.ways, finder.heard, strict=True)
        if len(found.places) >= (1 if isinstance(way, Plain | Texts) else _LEAST)
    ]
    shown = _seconds_shown(reading, pictures)
    heard = [
        (_at_likely_rate(track, way, found, shown, len(pictures.places)), way, found) for track, way, found in heard
    ]
    heard = [
        (replace(track, entry=way.entry_for(track.entry, window.at(found.places[0], 16))), way, found)
        if isinstance(way, FlacFrames)
        else (track, way, found)
        for track, way, found in heard
    ]
    seconds = max(
        (_seconds(track, way, found) for track, way, found in heard if not isinstance(way, Texts)), default=0.0
    )
    is_told = bool(shown) and not (reading.picture is not None and reading.picture.is_guessed)
    if not is_told and all(track.is_guessed for track, _, _ in heard):
        lost.append(Loss(LossKind.PACE))
    times = array("d")
    wrong: list[int] = []
    stand_ins: dict[int, Made] = {}
    if reading.way is not None and len(pictures.places) >= 1:
        track = reading.picture if reading.picture is not None else Track()
        entry, shape = entry_for(reading.way, window, pictures.places)
        if track.entry:
            entry = track.entry
            coding, _ = settings_of(track.entry)
            shape = (coding.shape if coding is not None else None) or shape
        told = track.scale / track.step if track.scale and track.step else shape.rate if shape is not None else 0.0
        if isinstance(reading.way, Units | Obus | Intra) and entry is not None:
            width, height = (
                size_of(track) if track.entry else (shape.width, shape.height) if shape is not None else (0, 0)
            )
            film = Film(window, entry, width, height, pictures.places, pictures.sizes, pictures.keys)
            held = pictures.size + sum(each.size for each in finder.heard)
            lost_before = {
                number: Lost(max(round(size / held * len(pictures.places)), 1))
                for number, size in pictures.gaps
                if number
            }
            mend = mended(film, lost_before, strict=job.strict, budget=job.budget)
            wrong = [pictures.places[n] for n in sorted(mend.wrong)]
            stand_ins = _put_in(pictures, mend)
        rate = rate_of(len(pictures.places), told, _span(pictures, heard) or seconds)
        scale = track.scale if track.scale and track.step and abs(rate - told) < 1e-9 else _FILM_SCALE
        step = track.step if scale == track.scale and track.step else max(round(scale / rate), 1)
        whole = pictures.size + sum(each.size for each in finder.heard)
        missing = lost_by_bytes(pictures, pictures.gaps, whole / (len(pictures.places) / rate), rate)
        lasting, start = lasting_of(pictures, step, missing)
        orders = shape.orders if shape is not None else 0
        if any(many for _, many in missing):
            # Each takes the time of one that comes: what is missing moves none before another.
            comes = np.concatenate([[0], np.cumsum(np.frombuffer(lasting, np.uint32), dtype=np.int64)[:-1]])
            shifts, late = shifts_in(comes, pictures.orders, pictures.keys, orders)
        else:
            shifts, late = shifts_of(pictures.orders, pictures.keys, orders, step)
        uneven = _uneven(pictures, heard, scale, rate) if not stand_ins else None
        if uneven is not None:
            lasting = numbers("I", np.maximum(np.diff(uneven), 1))
            shifts, late = shifts_in(uneven[:-1], pictures.orders, pictures.keys, orders)
        del uneven
        width, height = size_of(track) if track.entry else (shape.width, shape.height) if shape is not None else (0, 0)
        clock = np.concatenate([[start / scale], np.frombuffer(lasting, np.uint32)[:-1] / scale])
        times.frombytes(np.cumsum(clock, out=clock).data.cast("B"))
        del clock
        if entry is not None:
            keys = pictures.keys if isinstance(reading.way, Units | Obus) else array("b")
            for number in stand_ins:
                keys[number] = 0  # all of them need the one before them
            made.append(
                Written(
                    b"vide",
                    entry,
                    scale,
                    width,
                    height,
                    _with_places(pictures.places, stand_ins),
                    pictures.sizes,
                    lasting,
                    shifts if any(shifts) else array("q"),
                    keys,
                    start,
                    late,
                    matrix=track.matrix,
                    language=track.language,
                )
            )
            say_wrong(lost, [times[bisect_left(pictures.places, place)] for place in wrong])
            gone = sum(many for _, many in missing) + len(stand_ins)
            if gone or pictures.hurt:
                begins = {n for n in stand_ins if n - 1 not in stand_ins} | {number for number, _ in missing}
                at = [times[min(number, len(times) - 1)] for number in sorted(begins)]
                say_lost(lost, b"vide", gone + pictures.hurt, at)
    for track, way, found in heard:
        if isinstance(way, Texts):
            made.append(_texts(track, found, pictures, times))
        else:
            made.append(_sound(track, way, found, pictures, times, lost))
    return made


def _uneven(
    pictures: Found, heard: Sequence[tuple[Track, Way | Plain, Found]], scale: int, rate: float
) -> NDArray[np.int64] | None:
    """Ticks at which pictures come, and the end, where they came now quick, now slow; None where they came evenly, or something is missing."""
    import numpy as np

    lasting = _beside(pictures, heard)
    if lasting is None:
        return None
    found, seconds = heard[0][2], lasting
    times = times_by_sound(pictures, found, seconds, rate)
    if times is None:
        return None
    times *= scale
    ticks = np.rint(times, out=times).astype(np.int64)
    del times
    whole = len(found.sizes) * seconds if isinstance(seconds, float) else float(seconds.sum())
    return np.append(ticks, max(int(ticks[-1]) + 1, round(whole * scale)))


def _span(pictures: Found, heard: Sequence[tuple[Track, Way | Plain, Found]]) -> float:
    """Seconds that the pictures take, told by the sound among which they lie; 0 where it does not."""
    lasting = _beside(pictures, heard)
    return span_by_sound(pictures, heard[0][2], lasting) if lasting is not None else 0.0


def _beside(pictures: Found, heard: Sequence[tuple[Track, Way | Plain, Found]]) -> float | NDArray[np.float64] | None:
    """How many seconds each frame of the sound beside pictures lasts, or all of them; None where something is missing, or several lie there."""
    import numpy as np

    if pictures.gaps or len(heard) != 1 or heard[0][2].gaps:
        return None
    track, way, found = heard[0]
    if isinstance(way, Texts):
        return None
    scale = max(track.scale, 1)
    if isinstance(way, Plain):
        return np.frombuffer(found.sizes, np.uint32) / way.frame / scale
    return (track.step or 1024) / scale


def _texts(track: Track, found: Found, pictures: Found, times: Sequence[float]) -> Written:
    """Texts lie by the pictures with which they are shown: each until the next one."""
    scale = track.scale or 1000
    shown = [times[max(bisect_right(pictures.places, place) - 1, 0)] if times else 0.0 for place in found.places]
    ticks = [round(each * scale) for each in shown]
    end = round(times[-1] * scale) if times else 0
    lasting = array("I", [max(after - at, 1) for at, after in zip(ticks, [*ticks[1:], end], strict=True)])
    return Written(
        track.kind, track.entry, scale, 0, 0, found.places, found.sizes, lasting, array("q"), array("b"), ticks[0],
        language=track.language, matrix=track.matrix,
    )  # fmt: skip


def _at_likely_rate(track: Track, way: Way | Plain, found: Found, seconds: float, pictures: int) -> Track:
    """Sound of which nothing tells the rate: of those whose frames read alike the one that makes it as long as the pictures; where nothing tells how long
    these are either, the one with which they come as pictures usually do.
    """
    if not track.is_guessed or not (seconds or pictures > _FEW):
        return track
    if isinstance(way, Alac):
        lasts = len(found.places) * way.settings.samples
        off = [
            (abs(lasts / rate / seconds - 1) if seconds else off_usual(pictures * rate / lasts)) for rate in _ALAC_RATES
        ]
        near = next((n for n, each in enumerate(off) if each < _AS_LONG), off.index(min(off)))
        told = replace(way.settings, rate=_ALAC_RATES[near])
        return Track(b"soun", entry_of_alac(told), told.rate, told.samples, is_guessed=True)
    if not isinstance(way, Aac):
        return track
    rates = [n for n in range(len(RATES)) if alike(n) == alike(way.rate)]
    if seconds:
        rate = min(rates, key=lambda n: abs(len(found.places) * 1024 / RATES[n] / seconds - 1))
    else:
        rate = min(rates, key=lambda n: off_usual(pictures * RATES[n] / (len(found.places) * 1024)))
    return Track(b"soun", entry_of_aac(rate, max(way.channels, 1)), RATES[rate], 1024, is_guessed=True)


def _put_in(pictures: Found, mend: Mended) -> dict[int, Made]:
    """Take pictures out (each leaves a gap of its size), and put in what stands in for lost ones, beside the picture before it; gives what stands in by
    its number among them.
    """
    made: dict[int, Made] = {}
    if not mend.out and not mend.made:
        return made
    gaps = dict(pictures.gaps)
    left, size = Found(hurt=pictures.hurt), 0
    for number, place in enumerate(pictures.places):
        size += gaps.get(number, 0)
        if number in mend.out:
            size += pictures.sizes[number]
            continue
        stand_ins = mend.made.get(number, ())
        for each in stand_ins:
            made[len(left.places)] = each
            left.add(left.places[-1], Sample(each.size, is_key=each.begins, order=each.order))
        if size and not stand_ins:
            left.gaps.append((len(left.places), size))
        size = 0
        left.add(place, Sample(pictures.sizes[number], bool(pictures.keys[number]), pictures.orders[number]))
    if size or len(pictures.places) in gaps:
        left.gaps.append((len(left.places), size + gaps.get(len(pictures.places), 0)))
    for name in ("places", "sizes", "orders", "keys", "gaps"):
        setattr(pictures, name, getattr(left, name))
    return made


def _with_places(places: array[int], stand_ins: Mapping[int, Made]) -> array[int]:
    """Where pictures lie, those that stand in too."""
    if not stand_ins:
        return places
    found = array("Q", places)
    for number, each in stand_ins.items():
        found[number] = each.place
    return found


def _seconds_shown(reading: Reading, pictures: Found) -> float:
    """How long the pictures last by a table or by their own settings; 0 where nothing tells."""
    track = reading.picture
    if track is not None and track.scale and track.step:
        return len(pictures.places) * track.step / track.scale
    way = reading.way
    shape = way.coding.shape if isinstance(way, Units) else way.shape if isinstance(way, Obus) else None
    return len(pictures.places) / shape.rate if shape is not None and shape.rate else 0.0


def _told_apart(reading: Reading, finder: Finder, seconds: float) -> None:
    """Several sound tracks of one coding: of the frames that lie together each has its share, those of one behind the other, or one by one by turns."""
    first = next((n for n, way in enumerate(reading.ways) if isinstance(way, Aac)), None)
    if first is None or not finder.heard[first].places:
        return
    way, found, track = reading.ways[first], finder.heard[first], reading.sounds[first]
    assert isinstance(way, Aac)
    alike_ones = [n for n, other in enumerate(reading.ways) if isinstance(other, Aac) and other == way]
    if len(alike_ones) == 1 and track.is_guessed:
        rates = [RATES[n] for n in range(len(RATES)) if alike(n) == alike(way.rate)]
        near = max(_AS_LONG, 4 / len(found.places))
        fitting = (
            n
            for n in ((1, 2, 3, 4) if seconds else ())
            for rate in rates
            if abs(len(found.places) * 1024 / rate / seconds / n - 1) < near
        )
        for _ in range(next(fitting, 1 if seconds else _many_alike(finder.pictures, found, rates)) - 1):
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


def _many_alike(pictures: Found, sound: Found, rates: Sequence[int]) -> int:
    """How many tracks frames of sound are of that come by turns, where nothing tells how long the pictures last: as many as divide every run between two
    pictures, if pictures come at a usual rate by these, and at none otherwise.
    """
    import numpy as np

    if pictures.gaps or sound.gaps or not pictures.places:
        return 1
    before = np.searchsorted(np.frombuffer(pictures.places, np.uint64), np.frombuffer(sound.places, np.uint64))
    runs = np.unique(before, return_counts=True)[1][:-1]
    if len(runs) < _LEAST_RUNS or len(np.unique(runs)) < 2:
        return 1
    off = {
        many: min(off_usual(len(pictures.places) * many * rate / (len(sound.places) * 1024)) for rate in rates)
        for many in (1, 2, 3, 4)
    }
    fitting = (many for many in (2, 3, 4) if not (runs % many).any() and off[many] < _USUAL < 2 * _USUAL < off[1])
    return next(fitting, 1)


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
            b"soun", track.entry, scale, 0, 0, found.places, array("I", [n * way.frame for n in lasting]), lasting, array("q"),
            array("b"), frame=way.frame, language=track.language,
        )  # fmt: skip
        if times and found.places:
            beside = bisect_right(pictures.places, found.places[0]) - 1
            if beside > 0 and found.gaps and found.gaps[0][0] == 0:
                made.start = round(max(times[beside], 0.0) * scale)
        return made
    if times:
        missing = lost_by_pictures(found, pictures, times, [step / scale] * len(found.places)) if found.gaps else []
    else:
        missing = [
            (number, max(round(size * len(found.places) / found.size), 1))
            for number, size in found.gaps
            if 0 < number < len(found.places)
        ]
    lasting, start = lasting_of(found, step, missing)
    if missing:
        clock = start
        at: list[float] = []
        known = dict(missing)
        for number, each in enumerate(lasting):
            if number in known:
                at.append(clock / scale)
            clock += each
        say_lost(lost, b"soun", sum(many for _, many in missing), at)
    return Written(
        b"soun", track.entry, scale, 0, 0, found.places, found.sizes, lasting, array("q"), array("b"), start,
        language=track.language,
    )  # fmt: skip
