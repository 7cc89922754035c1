"""Pictures and sounds of a recording that are found in its bytes, by the way of reading that fits: its own, that of a sample, or one that is guessed."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

from msgspec.structs import replace

from rustfern.formats.media.coded_video import Avc, Hevc
from rustfern.repair.interface import Job, Loss, LossKind, NothingLeft
from rustfern.repair.recordings import hevc_settings
from rustfern.repair.recordings.avc_settings import is_arithmetic
from rustfern.repair.recordings.find import Finder, Found
from rustfern.repair.recordings.layout import Layout
from rustfern.repair.recordings.more_ways import Obus
from rustfern.repair.recordings.set_bits import USUAL_SIZES
from rustfern.repair.recordings.settings import Reading, entry_for, guess_plain, guessed, reading_of, size_of
from rustfern.repair.recordings.shared_walk import walk
from rustfern.repair.recordings.tables import Track, tracks_of
from rustfern.repair.recordings.timed import timed
from rustfern.repair.recordings.told_by_encoder import found_settings, options_in
from rustfern.repair.recordings.trial import plays
from rustfern.repair.recordings.ways import Units
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import Written, entry_of_units

_A_WHILE, _SURELY, _EXPLAINED = 24, 1.95, 0.6
_SIZES = 12
"""Sizes with which one picture reads that are tried with the others."""
_BEGINNING = 24 << 20
_OFTEN, _NEARLY_ALL, _MOSTLY = 8, 0.9, 0.6
_CODINGS = {
    b"mp4v": "MPEG-4 Visual", b"vp08": "VP8", b"vp09": "VP9", b"s263": "H.263", b"h263": "H.263", b"m2v1": "MPEG-2", b"dvh1": "DV", b"mp4a": "MPEG-4 audio",
    b"ima4": "IMA ADPCM",
}  # fmt: skip
"""What four letters stand for, where they are not the name itself."""
_BLOCK, _BEGUN = 16, 4
"""Pixels of the blocks that H.264 pictures are coded in; pictures that sizes are tried with."""


def by_bytes(job: Job, window: Window, layout: Layout, tracks: Sequence[Track], lost: list[Loss]) -> list[Written]:
    """Pictures and sounds that are found in the bytes."""
    own = reading_of(tracks)
    samples = [
        found
        for each in job.others
        if each.is_sample and (found := reading_of(_tracks_in(each.data), each.name, each.beginnings))
    ]
    asked = {each.name for each in job.others if each.is_sample and each.asked}
    if own is not None and own.way is not None:
        _say_unheard(own, lost)
        reading = own
        if not own.ways:
            reading = _with_sound(job, window, layout, own, samples)
        finder = _walked(job, window, layout, reading)
        return timed(job, window, reading, finder, lost)
    best: tuple[float, Reading] | None = None
    for reading in samples:
        fit = _fits(job, window, reading, _begun(job, window, layout, reading))
        if fit > 0 and (best is None or fit > best[0]):
            best = fit, reading
        if best is not None and best[0] > _SURELY:
            break
    kinds = {found.picture.entry for found in samples if found.picture is not None}
    if best is not None and best[0] <= 1 and best[1].way is not None and best[1].name not in asked and len(kinds) > 1:
        best = None  # no decoder told: which of several is the right one, nothing shows
    unseen = {coding for found in samples if found.name in asked and found.way is None for coding in found.unseen}
    if best is None and unseen:
        told = ", ".join(sorted(_named(each) for each in unseen))
        raise NothingLeft(
            f"its pictures are coded as those of the sample ({told}), and nothing in the bytes marks where such pictures begin and end"
        )
    if best is None:
        found = _guessed(job, window, layout)
        if found is not None and isinstance(found.way, Units) and not _has_settings(window, layout, found, job):
            found = _by_encoder(job, window, layout, found, samples, lost)
        if found is None:
            raise NothingLeft(_unread(asked))
        lost += [Loss(LossKind.UNLIKE, text=name) for name in sorted(asked)]
        best = 0.0, found
    reading = best[1]
    if reading.name:
        lost.append(Loss(LossKind.LIKE, text=reading.name))
    finder = _walked(job, window, layout, reading)
    if not reading.name and not reading.ways and len(finder.pictures.gaps) * _OFTEN > len(finder.pictures.places):
        lost.append(Loss(LossKind.UNHEARD, text="of a kind that is not known"))
    _say_unheard(reading, lost)
    return timed(job, window, reading, finder, lost)


def _guessed(job: Job, window: Window, layout: Layout) -> Reading | None:
    """What its bytes look like; pictures in AV1, which chance makes too, only where they explain nearly all, and a decoder reads them."""
    found = guessed(window, *layout.data[0], job.budget.spend)
    if found is None or not isinstance(found.way, Obus):
        return found
    finder = _begun(job, window, layout, found)
    if found.way.entry is None:
        return None
    told = replace(found, picture=Track(b"vide", found.way.entry, is_guessed=True))
    fit = _fits(job, window, told, finder)
    return told if fit > 1 + _NEARLY_ALL or _NEARLY_ALL < fit <= 1 else None


def _say_unheard(reading: Reading, lost: list[Loss]) -> None:
    lost += [Loss(LossKind.UNHEARD, text=_named(coding)) for coding in reading.unheard]


def _named(coding: bytes) -> str:
    """A coding as people call it, else by its four letters."""
    return _CODINGS.get(coding) or coding.decode("ascii", "replace").strip()


def _by_encoder(
    job: Job, window: Window, layout: Layout, found: Reading, samples: Sequence[Reading], lost: list[Loss]
) -> Reading | None:
    """A way of reading whose settings the encoder or the code of the pictures tells, if a decoder has nothing to complain of; None where there is none."""
    assert isinstance(found.way, Units)
    pictures = _begun(job, window, layout, found).pictures
    first = next((n for n, key in enumerate(pictures.keys) if key), None)
    if first is None:
        return None
    known = [
        each.way.coding.shape for each in samples if isinstance(each.way, Units) and each.way.coding.shape is not None
    ]
    sizes = [(each.width, each.height) for each in known]
    if isinstance(found.way.coding, Avc):
        start = layout.data[0][0]
        for coding in islice(
            found_settings(window, start, pictures.places[first:], pictures.sizes[first:], sizes, job.budget), _SIZES
        ):
            if (told := _read_by(job, window, layout, found, coding)) is not None and told[0] > 1:
                shape = coding.shape
                shown = (shape.width, shape.height) if shape is not None else (0, 0)
                if shown not in (*sizes, *USUAL_SIZES) or shown[0] % _BLOCK or shown[1] % _BLOCK:
                    lost.append(Loss(LossKind.EDGE, count=_BLOCK - 1))
                if options_in(window, start) is None:
                    lost.append(Loss(LossKind.TRIED if is_arithmetic(coding) else LossKind.STRENGTH))
                return told[1]
        return None
    proved = hevc_settings.found_settings(window, pictures.places[first:], pictures.sizes[first:], sizes, job.budget)
    if proved is None or (told := _read_by(job, window, layout, found, proved.coding)) is None or told[0] <= 0:
        return None
    if not proved.tells_bits:
        lost.append(Loss(LossKind.DEPTH))
    if proved.unsure:
        lost.append(Loss(LossKind.EDGE, count=proved.unsure))
    return told[1]


def _read_by(
    job: Job, window: Window, layout: Layout, found: Reading, coding: Avc | Hevc
) -> tuple[float, Reading] | None:
    """(how well it fits, a way of reading) by the settings of pictures."""
    assert isinstance(found.way, Units)
    entry = entry_of_units(coding)
    if entry is None:
        return None
    told = replace(
        found,
        picture=Track(b"vide", entry, is_guessed=True),
        way=Units(coding, found.way.width),
        sounds=list(found.sounds),
        ways=list(found.ways),
    )
    if not told.ways:
        guess_plain(window, told, *layout.data[0], job.budget.spend)
    return _fits(job, window, told, _begun(job, window, layout, told)), told


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
        finder = _begun(job, window, layout, reading)
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
    finder = _begun(job, window, layout, reading)
    entry, _ = entry_for(reading.way, window, finder.pictures.places)
    return entry is not None


def _walked(job: Job, window: Window, layout: Layout, reading: Reading) -> Finder:
    """All that is found by a way of reading."""
    finder = Finder(window, reading.way, reading.ways, job.budget.spend, strange=reading.strange)
    for start, end in layout.data:
        walk(finder, job, start, end)
    return finder


def _begun(job: Job, window: Window, layout: Layout, reading: Reading) -> Finder:
    """What is found at the beginning, which tells whether a way of reading fits."""
    start, end = layout.data[0]
    short = Layout(data=[(start, min(end, start + _BEGINNING)), *(layout.data[1:] if end - start < _BEGINNING else ())])
    return _walked(job, window, short, reading)


def _fits(job: Job, window: Window, reading: Reading, finder: Finder) -> float:
    """How well what was found fits a way of reading: 0 not at all, 1 and more if a decoder reads the pictures without any complaint."""
    pictures = finder.pictures
    held = pictures.size + sum(each.size for each in finder.heard)
    share = held / (held + finder.missing) if held else 0.0
    if reading.picture is None or not pictures.places:
        return share if held and reading.way is None and not reading.unseen else 0.0
    width, height = size_of(reading.picture)
    told, most = None, 0.0
    for first in _undisturbed(pictures):
        told = plays(
            window, reading.picture.entry, width, height, pictures.places[first:], pictures.sizes[first:], job.budget
        )
        if told is None or told == 1:
            break
        most = max(most, told)
    if share < _EXPLAINED or (reading.name and _is_of_another_size(job, window, reading, pictures)):
        return 0.0
    if told is None:
        return share
    if told == 1:
        return 1 + share
    # Of a recording with holes everywhere a decoder always has something to complain of; with other settings than its own it reads next to nothing.
    return share * most if most >= _MOSTLY and reading.name and pictures.gaps else 0.0


def _is_of_another_size(job: Job, window: Window, reading: Reading, pictures: Found) -> bool:
    """Whether pictures are coded larger than a sample's (or, of H.265, smaller), of which a decoder does not complain: it leaves out the rest."""
    if not isinstance(reading.way, Units):
        return False
    first = _undisturbed(pictures)[0]
    coding = reading.way.coding
    if isinstance(coding, Hevc):
        places, sizes = pictures.places[first:], pictures.sizes[first:]
        return hevc_settings.are_proved(coding, window, places, sizes, job.budget) is False
    some = slice(first, first + _BEGUN)
    if all(pictures.keys[some]):
        return False
    taller = coding.taller()
    entry, shape = entry_of_units(taller), taller.shape
    if entry is None or shape is None:
        return False
    return plays(window, entry, shape.width, shape.height, pictures.places[some], pictures.sizes[some], job.budget) == 1


def _undisturbed(pictures: Found) -> list[int]:
    """Some pictures that need no other, and behind which none is missing for a while, wide apart."""
    keys = [n for n, key in enumerate(pictures.keys) if key] or [0]
    gaps = [number for number, _ in pictures.gaps if number]
    calm = [key for key in keys if not any(key < gap <= key + _A_WHILE for gap in gaps)] or keys
    return list(dict.fromkeys((calm[0], calm[len(calm) // 3], calm[2 * len(calm) // 3], calm[-1])))
