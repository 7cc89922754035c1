"""When each picture and sound of a recording is played, where no table says so.

Pictures follow each other at the rate of a sample, of their own settings, or of the sound beside them; in what order they are shown their own
numbers tell. Where something is missing, time goes on as if it were there.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left
from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from rustfern.repair.recordings.find import Found

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

USUAL_RATES = (
    24000 / 1001,
    24.0,
    25.0,
    30000 / 1001,
    30.0,
    48.0,
    50.0,
    60000 / 1001,
    60.0,
    120.0,
    12.0,
    15.0,
    20.0,
    10.0,
    8.0,
    5.0,
    6.0,
)
_NEAR, _AS_TOLD = 0.006, 0.05
_LEAST_SECONDS = 2.0
_LEAST_PICTURES, _LEAST_RUNS, _UNEVEN, _RUNS = 24, 8, 0.12, 2.0
"""Pictures, and runs of them between sound, by which unevenness is told; seconds that they must be away from even times, and runs of sound (times what most of them last)."""


def off_usual(rate: float) -> float:
    """How far off some pictures a second are from the next usual number of them, as a share."""
    return min(abs(rate / usual - 1) for usual in USUAL_RATES)


def rate_of(pictures: int, told: float, seconds: float) -> float:
    """Pictures a second: as `told` (0: nothing tells), unless the `seconds` that they take by the sound beside them (0: none) show that this cannot be."""
    measured = pictures / seconds if seconds else 0.0
    if told and (seconds < _LEAST_SECONDS or abs(measured / told - 1) < _AS_TOLD):
        return told
    if not measured:
        return told or 30.0
    near = min(USUAL_RATES, key=lambda rate: abs(measured / rate - 1))
    close = _NEAR if seconds > 20 else 1.5 / max(pictures, 1) + _NEAR
    return near if abs(measured / near - 1) < close else measured


class _Runs(msgspec.Struct, frozen=True):
    """Runs of `count` pictures between which no sound lies: the first picture of each, how many it has, when it begins, how long it lasts; when the
    last picture comes, how far what is even may be off, and whether there are enough to tell.
    """

    count: int
    first: NDArray[np.int32]
    many: NDArray[np.int32]
    at: NDArray[np.float64]
    long: NDArray[np.float64]
    last: float
    slack: float


def _runs(pictures: Found, sound: Found, seconds: float | NDArray[np.float64]) -> _Runs | None:
    """The runs of pictures among sound that was written as it came; None where there are too few of them."""
    import numpy as np

    count = len(pictures.places)
    if count < _LEAST_PICTURES or len(sound.places) < _LEAST_PICTURES:
        return None
    before = np.searchsorted(np.frombuffer(sound.places, np.uint64), np.frombuffer(pictures.places, np.uint64))
    told = before * np.float64(seconds) if isinstance(seconds, float) else np.append(0.0, np.cumsum(seconds))[before]
    is_first = np.ones(count, bool)
    np.not_equal(before[1:], before[:-1], out=is_first[1:])
    first = np.flatnonzero(is_first).astype(np.int32)
    if len(first) < _LEAST_RUNS:
        return None
    at = told[first]
    at -= at[0]
    del before, told, is_first
    many = np.diff(first, append=np.int32(count))
    usual = at[-1] / max(count - int(many[-1]), 1)
    long = np.diff(at, append=at[-1] + usual * many[-1])
    slack = max(_UNEVEN, _RUNS * float(np.partition(long[:-1], (len(long) - 1) * 9 // 10)[(len(long) - 1) * 9 // 10]))
    last = float(at[-1] + long[-1] * (many[-1] - 1) / many[-1])
    return _Runs(count, first, many, at, long, last, slack)


def span_by_sound(pictures: Found, sound: Found, seconds: float | NDArray[np.float64]) -> float:
    """How long pictures take all together, told by the sound among which they lie, which may go on behind the last of them; 0 where nothing tells."""
    runs = _runs(pictures, sound, seconds)
    return runs.last * runs.count / (runs.count - 1) if runs is not None else 0.0


def times_by_sound(
    pictures: Found, sound: Found, seconds: float | NDArray[np.float64], rate: float
) -> NDArray[np.float64] | None:
    """When each picture comes, in seconds from the first, told by the sound among which it lies (each lasts so many `seconds`, or all as many):
    recorders write both as they come. None where they come evenly at a `rate` (a second), to the length of the runs in which they lie.
    """
    import numpy as np

    runs = _runs(pictures, sound, seconds)
    if runs is None:
        return None
    count, first, many, at, long = runs.count, runs.first, runs.many, runs.at, runs.long
    even = runs.last / (count - 1)
    # Between the first of a run and its last the way is straight.
    off = max(_away(at, first, even), _away(at + long * (many - 1) / many, first + many - 1, even))
    if off > runs.slack:
        times: NDArray[np.float64] = np.repeat(long / many, many)
        times *= np.arange(count, dtype=np.uint32) - np.repeat(first.astype(np.uint32), many)
        times += np.repeat(at, many)
        return times
    # Even, but not at that rate: what follows the last sound came quicker or slower.
    evenly = np.arange(count, dtype=np.float64)
    evenly *= even
    return evenly if abs(runs.last - (count - 1) / rate) > runs.slack else None


def _away(times: NDArray[np.float64], numbers: NDArray[np.int32], even: float) -> float:
    """How far times are from even ones at most, in seconds."""
    import numpy as np

    off = numbers * even
    np.subtract(times, off, out=off)
    return float(np.abs(off, out=off).max())


def shifts_in(
    times: NDArray[np.int64], orders: Sequence[int], keys: Sequence[int], many: int
) -> tuple[array[int], int]:
    """The same as `shifts_of` for pictures that come at uneven `times` (ticks)."""
    import numpy as np

    plain, late = shifts_of(orders, keys, many, 1)
    if not late and not any(plain):
        return plain, 0
    # Encoders have a picture decoded when the one is shown that came so many before it.
    usual = int(times[-1] - times[0]) // max(len(times) - 1, 1)
    longer = np.concatenate([times, times[-1] + usual * np.arange(1, late + 1)])
    shown = np.arange(len(plain))
    shown += np.frombuffer(plain, np.int64)
    shifted = longer[shown]
    shifted -= times
    return numbers("q", shifted), int(longer[late] - times[0])


def numbers(code: str, values: NDArray[np.int64]) -> array[int]:
    """The same as an array of another kind."""
    out = array(code)
    if len(values):
        out.frombytes(values.astype(code, copy=False).data.cast("B"))
    return out


def shifts_of(orders: Sequence[int], keys: Sequence[int], many: int, step: int) -> tuple[array[int], int]:
    """(ticks that each picture is shown later than it comes, ticks by which all of it is late), from the low bits of their numbers, which have `many`
    values. Source: H.264 8.2.1.1, H.265 8.3.1.
    """
    count = len(orders)
    if not many or count < 2 or min(orders) < 0:
        return array("q", bytes(8 * count)), 0
    shown = array("I", bytes(4 * count))
    start, group = 0, list[tuple[int, int]]()
    reference = high = 0

    def settle() -> None:
        for place, (_, number) in enumerate(sorted(group)):
            shown[number] = start + place

    for number, order in enumerate(orders):
        if keys[number] and order == 0:
            settle()
            start, group, reference, high = number, [], 0, 0
        if order < reference % many and reference % many - order >= many // 2:
            high = reference - reference % many + many
        elif order > reference % many and order - reference % many > many // 2:
            high = reference - reference % many - many
        else:
            high = reference - reference % many
        whole = high + order
        group.append((whole, number))
        reference = max(reference, whole)
    settle()
    late = max((number - shown[number] for number in range(count)), default=0)
    return array("q", ((shown[n] - n + late) * step for n in range(count))), late * step


def lasting_of(found: Found, step: int, lost: Sequence[tuple[int, int]]) -> tuple[array[int], int]:
    """(ticks that each sample lasts, ticks before the first), with `lost` samples before some of them: (number, how many)."""
    lasting = array("I", [step]) * len(found.places)
    start = 0
    for number, many in lost:
        if number == 0:
            start += many * step
        elif number < len(lasting):
            lasting[number - 1] = min(lasting[number - 1] + many * step, (1 << 31) - 1)
    return lasting, start


def lost_by_bytes(found: Found, gaps: Sequence[tuple[int, int]], a_second: float, rate: float) -> list[tuple[int, int]]:
    """How many samples the gaps stand for, if their bytes hold as much of all tracks as elsewhere."""
    return [
        (number, round(size / a_second * rate)) for number, size in gaps if a_second > 0 and number < len(found.places)
    ]


def lost_by_pictures(
    sound: Found, pictures: Found, times: Sequence[float], lasting: Sequence[float]
) -> list[tuple[int, int]]:
    """How many frames of sound the gaps stand for: as many as bring it back beside the pictures that it lay by before. `times` are those of the
    pictures, `lasting` of each frame of sound, in seconds.
    """
    lost: list[tuple[int, int]] = []
    if not times or not sound.places:
        return lost
    usual = sum(lasting) / len(lasting)
    clock, behind, beside = 0.0, 0.0, 0
    gaps = {number for number, _ in sound.gaps}
    for number, place in enumerate(sound.places):
        picture = bisect_left(pictures.places, place) - 1
        if picture >= 0:
            away = clock - times[min(picture, len(times) - 1)]
            if number in gaps and beside:
                many = max(0, round((behind / beside - away) / usual))
                if many:
                    lost.append((number, many))
                    clock += many * usual
                    away += many * usual
            behind += away
            beside += 1
            if beside > 200:
                behind, beside = behind / 2, beside // 2
        clock += lasting[number]
    return lost
