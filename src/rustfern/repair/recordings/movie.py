"""MP4, MOV, M4A and 3GP: recordings that were never finished, are cut off, or have holes.

What the tables still say is believed where the bytes bear it out; else pictures and sounds are found in the bytes themselves.
"""

from __future__ import annotations

from array import array
from collections.abc import Collection, Mapping, Sequence
from itertools import pairwise
from typing import BinaryIO

from rustfern.formats.media.mp4 import TOP
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft, Outcome, Step
from rustfern.repair.recordings.by_bytes import by_bytes
from rustfern.repair.recordings.filling import Plain
from rustfern.repair.recordings.fragments import Fragments, fragments_in
from rustfern.repair.recordings.holes import SWEPT, Film, mended
from rustfern.repair.recordings.layout import Layout, layout_of
from rustfern.repair.recordings.more_ways import Obus
from rustfern.repair.recordings.remarks import say_lost, say_wrong
from rustfern.repair.recordings.settings import reading_of, size_of
from rustfern.repair.recordings.stand_ins import Lost, Made
from rustfern.repair.recordings.tables import Track, tracks_of
from rustfern.repair.recordings.ways import Intra, Units, Way
from rustfern.repair.recordings.window import MADE, Window
from rustfern.repair.recordings.write import Written, box, write

_BORNE_OUT = 0.5
_HOLE = bytes(512)


def repair(job: Job, out: BinaryIO) -> Outcome:
    """Write what is left of a recording as one that plays."""
    window = Window(job.stream, job.size)
    layout = layout_of(window)
    tracks = tracks_of(layout.moov)
    lost: list[Loss] = []
    steps = [Step.INDEX]
    made: list[Written] = []
    found = _fragments(job, window, layout)
    if found is not None:
        made = _by_tables(job, window, found.tracks, lost)
        if layout.whole_to and found.count == layout.fragments and not (lost or found.gone or found.moved):
            return _as_it_is(job, window, layout, out)
        steps = [Step.FRAGMENT_TABLES]
        lost += _beside(window, layout, found)
    if made:
        pass
    elif tracks and not layout.is_cut and all(track.is_whole for track in tracks) and _are_borne_out(window, tracks):
        made = _by_tables(job, window, tracks, lost)
        steps = [Step.SKIPPED]
    else:
        made = by_bytes(job, window, layout, tracks, lost)
    if not made:
        raise NothingLeft("no picture and no sound was found in it that can be played")
    if any(max(each.places, default=0) >= MADE for each in made):
        steps.append(Step.STAND_INS)
    brand = layout.brand or (
        box(b"ftyp", b"qt  \0\0\2\0qt  ") if job.format == "mov" else box(b"ftyp", b"isom\0\0\2\0isomiso2mp41")
    )
    write(out, window, brand, made, job.budget.spend)
    return Outcome("mov" if brand[8:12] == b"qt  " else "mp4", tuple(steps), tuple(lost))


def _fragments(job: Job, window: Window, layout: Layout) -> Fragments | None:
    """The tracks by the tables of fragments, if these are borne out; None where there are none."""
    if layout.moov and b"mvex" not in layout.moov and not layout.first_fragment:
        return None
    sample = next((each.data for each in job.others if each.is_sample and b"moov" in each.data), b"")
    found = fragments_in(window, layout.moov, sample[sample.find(b"moov") + 4 :], job.budget.spend)
    return found if found is not None and _are_borne_out(window, found.tracks) else None


def _beside(window: Window, layout: Layout, found: Fragments) -> list[Loss]:
    """What is lost before, between and behind fragments whose tables are left."""
    lost = []
    if not layout.moov:
        lost.append(Loss(LossKind.BYTES, "", found.first, 0, found.first))
    if found.gone:
        lost.append(Loss(LossKind.BYTES, "", found.gone))
    end = found.end
    if end < window.size and window.at(end + 4, 4) not in TOP and window.at(end, 1 << 16).strip(b"\0"):
        lost.append(Loss(LossKind.BYTES, "", window.size - end, end, window.size))
    return lost


def _as_it_is(job: Job, window: Window, layout: Layout, out: BinaryIO) -> Outcome:
    """Every fragment, as all of them are whole: only what follows them is not."""
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
            if at == window.size:
                continue  # it stands for what is lost
            tried += 1
            good += _is_told(window, track, at, size, way)
    return not tried or good >= _BORNE_OUT * tried


def _by_tables(job: Job, window: Window, tracks: Sequence[Track], lost: list[Loss]) -> list[Written]:
    """The samples that are whole, at the times that the tables give."""
    made = []
    for track in tracks:
        reading = reading_of([track])
        way: Way | Plain | None = None if reading is None else reading.way or next(iter(reading.ways), None)
        kept = [n for n in range(len(track.places)) if _is_whole(window, track, n, way, job)]
        width, height = size_of(track) if track.kind == b"vide" else (0, 0)
        whole, wrong_ones, made_for = len(kept), list[int](), dict[int, Made]()
        if isinstance(way, Units | Obus | Intra) and kept and (whole < len(track.places) or whole <= SWEPT):
            keys = [track.keys is None or n + 1 in track.keys for n in kept]
            film = Film(
                window,
                track.entry,
                width,
                height,
                [track.places[n] for n in kept],
                [track.sizes[n] for n in kept],
                keys,
            )
            lost_before = {
                n: Lost(
                    after - before - 1,
                    is_sure=True,
                    since_key=next((after - each for each in range(after - 1, before, -1) if _is_key(track, each)), 0),
                )
                for n, (before, after) in enumerate(pairwise(kept), 1)
                if after != before + 1
            }
            mend = mended(film, lost_before, strict=job.strict, budget=job.budget)
            wrong_ones = [kept[n] for n in sorted(mend.wrong)]
            for number, stand_ins in mend.made.items():
                made_for |= _in_place_of(kept, number, mend.out, stand_ins)
            kept = sorted({n for place, n in enumerate(kept) if place not in mend.out} | made_for.keys())
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
        shifts = _in_order(track, times, made_for)
        for n, number in enumerate(kept):
            after = kept[n + 1] if n + 1 < len(kept) else number + 1
            stand_in = made_for.get(number)
            written.places.append(track.places[number] if stand_in is None else stand_in.place)
            written.sizes.append(track.sizes[number] if stand_in is None else stand_in.size)
            written.lasting.append(min(times[after] - times[number], (1 << 31) - 1))
            written.shifts.append(shifts.get(number, track.shifts[number] if number < len(track.shifts) else 0))
            written.keys.append(stand_in is None and _is_key(track, number))
        written.start = track.begins + times[kept[0]]
        say_wrong(lost, [times[n] / written.scale for n in wrong_ones])
        there = [n for n in kept if n not in made_for]
        missing = len(track.places) - len(there)
        if missing:
            say_lost(
                lost,
                track.kind,
                missing,
                [(times[n] / written.scale) for n in _first_missing(there, len(track.places))],
            )
        made.append(written)
    return made


def _is_key(track: Track, number: int) -> bool:
    return track.keys is None or number + 1 in track.keys


def _in_place_of(kept: Sequence[int], number: int, out: Collection[int], made: Sequence[Made]) -> dict[int, Made]:
    """For which samples of the tables pictures stand in that come before the one with a number among those kept."""
    before = next((n for n in range(number - 1, -1, -1) if n not in out), -1)
    missing = range(kept[before] + 1 if before >= 0 else 0, kept[number])
    return dict(zip(missing, made, strict=False))


def _in_order(track: Track, times: Sequence[int], made: Mapping[int, Made]) -> dict[int, int]:
    """How much later than they come stand-ins are shown: those of one hole one after the other, at the times of what is lost."""
    shifts: dict[int, int] = {}
    run: list[int] = []
    for number in sorted(made):
        if run and number != run[-1] + 1:
            shifts |= _shown_by_turns(track, times, run)
            run = []
        run.append(number)
    return shifts | _shown_by_turns(track, times, run)


def _shown_by_turns(track: Track, times: Sequence[int], run: Sequence[int]) -> dict[int, int]:
    shown = sorted(times[n] + (track.shifts[n] if n < len(track.shifts) else 0) for n in run)
    return {n: at - times[n] for n, at in zip(run, shown, strict=True)}


def _is_whole(window: Window, track: Track, number: int, way: Way | Plain | None, job: Job) -> bool:
    if not number % 64:
        job.budget.spend()
    at, size = track.places[number], track.sizes[number]
    if not size or at + size > window.size:
        return False
    if isinstance(way, Plain):
        return True
    if way is None:
        data = window.at(at, size)
        return _HOLE not in data and bool(data.strip(b"\0"))
    return _is_told(window, track, at, size, way, whole=True)


def _is_told(window: Window, track: Track, at: int, size: int, way: Way, *, whole: bool = False) -> bool:
    """Whether a picture, or frames of sound one behind the other (some codings have several in one sample), fill a place; with `whole` none of them hurt."""
    place = at
    while (sample := way.sample_at(window, place, at + size)) is not None and not (whole and sample.is_hurt):
        place += sample.size
        if place == at + size or track.kind != b"soun":
            break
    return place == at + size


def _first_missing(kept: Sequence[int], count: int) -> list[int]:
    """Where runs of missing numbers begin."""
    there = set(kept)
    return [n for n in range(count) if n not in there and (n == 0 or n - 1 in there)]
