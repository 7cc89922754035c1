"""How a recording must be read: by what is left of its own tables, by a healthy one of the same hand, or by what its bytes look like."""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence

import msgspec
from msgspec.structs import replace

from rustfern.formats.media import alac
from rustfern.formats.media.aac import RATES
from rustfern.formats.media.coded_video import Avc, Hevc, Shape, settings_of
from rustfern.repair.recordings.filling import Plain
from rustfern.repair.recordings.find import Finder, Found
from rustfern.repair.recordings.marked_sound import track_of
from rustfern.repair.recordings.more_ways import Ac3, Amr, FlacFrames, Obus, way_of_beginnings
from rustfern.repair.recordings.tables import Track
from rustfern.repair.recordings.ways import Aac, Alac, Intra, Jpegs, Mp3, Texts, Units, Way
from rustfern.repair.recordings.window import Window
from rustfern.repair.recordings.write import (
    entry_of_aac,
    entry_of_alac,
    entry_of_intra,
    entry_of_jpegs,
    entry_of_plain,
    entry_of_units,
)

_HEAD = 16
_TRIED, _SOME_SOUND = 1 << 20, 1 << 16
_SOUND_BETWEEN = 4096
_AAC_TABLES = (3, 6, 5, 8, 11, 2, 0)
"""A rate of each group whose frames read alike, the usual first."""
_INTRA = (b"icpf",)
_ALAC = ((16, 2), (16, 1), (24, 2), (24, 1))
"""Bits and channels of ALAC as most encoders make it."""
_FORMS = ("<i2", ">i2", "u1")
_MORE, _MUCH_SMOOTHER, _ALIKE, _NEAR, _SMALL, _NOISE, _ALL = 1.1, 0.6, 0.8, 0.02, 320, 1.0, 0.9


class Reading(msgspec.Struct):
    """How to read: the tracks that tell it (with their own settings where they were found in the bytes), the way of each, whose tables they are.
    `sounds` are texts beside the pictures too. `strange`: the most bytes of a run of tracks that are not read, of which sound is `unheard`, pictures
    are `unseen` (four letters each).
    """

    picture: Track | None
    way: Way | None
    sounds: list[Track]
    ways: list[Way | Plain]
    name: str = ""
    strange: int = 0
    unheard: list[bytes] = msgspec.field(default_factory=list)
    unseen: list[bytes] = msgspec.field(default_factory=list)


def reading_of(tracks: Sequence[Track], name: str = "", beginnings: Sequence[tuple[int, bytes]] = ()) -> Reading | None:
    """How tables say that a recording is read, and the beginnings of some of its pictures where those are needed; None where nothing of it is known."""
    found = Reading(None, None, [], [], name)
    for track in tracks:
        coding, width = settings_of(track.entry)
        if track.kind == b"vide" and found.way is None:
            if coding is not None and coding.shape is not None:
                found.picture, found.way = track, Units(coding, width, track.largest)
            elif track.coding in (b"jpeg", b"mjpa", b"mjpb") or (
                track.coding == b"mp4v" and b"\x04" in track.entry and b"\x6c" in track.entry
            ):
                found.picture, found.way = track, Jpegs()
            elif track.coding[:2] == b"ap":
                found.picture, found.way = track, Intra(b"icpf")
            elif track.coding == b"av01":
                found.picture, found.way = track, Obus(track.largest)
            elif (way := way_of_beginnings(beginnings, len(set(track.sizes)) == 1)) is not None:
                found.picture, found.way = track, way
            else:
                found.unseen.append(track.coding)
                found.strange = max(found.strange, track.largest)
        elif track.kind == b"soun":
            sound = _sound_way(track)
            if sound is not None:
                found.sounds.append(track)
                found.ways.append(sound)
            else:
                found.unheard.append(track.coding)
                found.strange = max(found.strange, track.largest, track.chunk)
        elif track.coding in (b"tx3g", b"text"):
            found.sounds.append(track)
            found.ways.append(Texts(track.largest))
        else:
            found.strange = max(found.strange, track.largest)
    if len(found.ways) == 1 and isinstance(found.ways[0], Alac):
        found.ways[0].is_alone = found.way is None
    for each in found.ways:
        if isinstance(each, FlacFrames):
            each.beside = found.way
    return found if found.way is not None or found.ways else None


def _sound_way(track: Track) -> Way | Plain | None:
    if track.aac is not None:
        return Aac(*track.aac)
    if track.coding == b"alac":
        settings = alac.settings_in(track.entry)
        return Alac(settings) if settings is not None else None
    if track.frame:
        return Plain(track.frame, track.chunk, track.chunks, track.scale)
    if track.is_mp3 or track.coding == b"ms\0U":
        return Mp3()
    if track.coding == b"fLaC":
        return FlacFrames(track.largest)
    if track.coding in (b"ac-3", b"ec-3"):
        return Ac3()
    if track.coding in (b"samr", b"sawb") and (at := track.entry.find(b"damr")) > 0:
        return Amr(is_wide=track.coding == b"sawb", together=track.entry[at + 12] if at + 12 < len(track.entry) else 1)
    return None


def size_of(track: Track) -> tuple[int, int]:
    """(width, height) of pictures."""
    if len(track.entry) < 36:
        return 0, 0
    width, height = struct.unpack_from(">HH", track.entry, 32)
    return int(width), int(height)


def guessed(
    window: Window, start: int, end: int, pause: Callable[[], None], known: Way | None = None
) -> Reading | None:
    """How a recording may be read of which no table is left (or only that of its pictures: the `known` way), by trying what is usual on its
    beginning; None where nothing fits.
    """
    stop = min(end, start + _TRIED)
    best: tuple[int, int, Way | None] = (0, 0, known)
    makers: list[Callable[[], Way]] = [
        lambda: Units(Avc(), 4),
        lambda: Units(Hevc(), 4),
        Jpegs,
        *(lambda e=each: Intra(e) for each in _INTRA),
    ]
    if known is None and Obus().is_there(window, start, stop):
        makers.append(Obus)
    for make in makers if known is None else ():
        finder = Finder(window, make(), [], pause, strange=_SOUND_BETWEEN if make is Obus else 0)
        finder.walk(start, stop)
        size, count = finder.pictures.size, len(finder.pictures.places)
        # Of two that explain about as much it is the one with more pictures: a few huge ones are what chance makes of others.
        if count > 1 and (size > _MORE * best[0] or (_MORE * size > best[0] and count > best[1])):
            best = size, count, make()
    way = best[2]
    found = Reading(None, way, [], [])
    heard: tuple[int, Way | None] = (0, None)
    marked = FlacFrames(0)
    marked.beside = way
    sounds: list[Way] = [*(Aac(table, 0) for table in _AAC_TABLES), Mp3(), Ac3(), marked]
    for sound in sounds:
        finder = Finder(window, way, [sound], pause)
        finder.walk(start, min(stop, start + _TRIED // 4))
        if finder.heard[0].size > heard[0] * 1.02 and len(finder.heard[0].places) > 2:
            heard = finder.heard[0].size, sound
    for bits, count in _ALAC if heard[1] is None else ():
        usual = Alac(alac.Settings(4096, bits, 40, 10, 14, count, 44100))
        finder = Finder(window, way, [usual], pause)
        finder.walk(start, min(stop, start + _TRIED // 4))
        if finder.heard[0].size > heard[0] and len(finder.heard[0].places) > 2:
            heard = finder.heard[0].size, usual
    if known is None and way is not None and _is_sound_alone(window, heard[1], start, stop, pause):
        way = found.way = None
    if isinstance(heard[1], Alac):
        told = heard[1].settings
        found.sounds.append(Track(b"soun", entry_of_alac(told), told.rate, told.samples, is_guessed=True))
        found.ways.append(heard[1])
    elif heard[1] is not None:
        heard_there = finder_of(window, way, heard[1], start, stop, pause)
        channels = _channels(window, heard[1], heard_there)
        if isinstance(heard[1], Aac):
            found.sounds.append(
                Track(b"soun", entry_of_aac(heard[1].rate, channels), RATES[heard[1].rate], 1024, is_guessed=True)
            )
            found.ways.append(Aac(heard[1].rate, channels))
        elif heard_there.heard[0].places:
            track = track_of(heard[1], window.at(heard_there.heard[0].places[0], _HEAD))
            if track is not None:
                found.sounds.append(track)
                found.ways.append(heard[1])
    elif way is not None and not isinstance(way, Units):
        guess_plain(window, found, start, stop, pause)
    return found if way is not None or found.ways else None


def _is_sound_alone(window: Window, sound: Way | None, start: int, stop: int, pause: Callable[[], None]) -> bool:
    """Whether a sound explains all that there is: what looked like pictures was chance."""
    stop = min(stop, start + _TRIED // 4)
    return sound is not None and finder_of(window, None, sound, start, stop, pause).heard[0].size > _ALL * (
        stop - start
    )


def finder_of(
    window: Window, picture: Way | None, sound: Way, start: int, stop: int, pause: Callable[[], None]
) -> Finder:
    """What is found of one sound beside pictures."""
    finder = Finder(window, picture, [sound], pause)
    finder.walk(start, stop)
    return finder


def _channels(window: Window, way: Way, finder: Finder) -> int:
    """How many channels most frames have."""
    if not isinstance(way, Aac):
        return 2
    told = [
        count
        for place in finder.heard[0].places[:200]
        for count in (1, 2, 6)
        if Aac(way.rate, count).sample_at(window, place, place + 8192) is not None
    ]
    return max((1, 2, 6), key=told.count) if told else 2


def guess_plain(window: Window, found: Reading, start: int, end: int, pause: Callable[[], None]) -> None:
    """Uncoded sound between pictures: how much of it lies by a picture tells rate, channels and bits, among those that cameras use."""
    stop, way = min(end, start + _TRIED), found.way
    assert way is not None
    finder = Finder(window, way, [Plain(1)], pause)
    finder.walk(start, stop)
    heard = finder.heard[0]
    pictures = len(finder.pictures.places)
    if len(heard.places) < 3 or pictures < 3:
        return
    a_picture = _a_picture(finder.pictures.places, heard)
    if a_picture < 100:
        return
    data = _some_of(window, heard)
    form = min(_FORMS, key=lambda each: _roughness(data, each))
    if _roughness(data, form) > _NOISE:
        return  # what lies there goes up and down as noise does, and as what is coded: as sound it would hurt
    width = 1 if form == "u1" else 2
    channels = 2 if _is_paired(data, form) else 1
    entry, _ = entry_for(way, window, finder.pictures.places)
    is_small = entry is not None and size_of(Track(entry=entry))[0] <= _SMALL
    usual = (15.0, 30.0) if is_small else (30.0, 15.0)
    choices = [
        (abs(rate * channels * width / a_picture / shown - 1), n, rate, shown)
        for n, (shown, rate) in enumerate(
            (shown, rate)
            for shown in (*usual, 25.0, 30000 / 1001, 24.0, 60.0, 20.0, 12.0, 10.0)
            for rate in (44100, 48000, 22050, 11025, 32000, 16000, 8000)
        )
    ]
    near = min(choices)
    if near[0] > _NEAR:
        return
    _, _, rate, shown = min((each for each in choices if each[0] <= near[0] + 0.003), key=lambda each: each[1])
    coding = {"<i2": b"sowt", ">i2": b"twos", "u1": b"raw "}[form]
    found.sounds.append(Track(b"soun", entry_of_plain(coding, channels, width * 8, rate), rate, 1, is_guessed=True))
    found.ways.append(Plain(channels * width))
    known = found.picture or Track(is_guessed=True)
    found.picture = replace(known, scale=round(shown * 1000), step=1000)


def _a_picture(places: Sequence[int], heard: Found) -> float:
    """Bytes of sound for each picture: the slope of what lies before each of them, as sound comes in runs (least squares). What follows the last one may
    be a part of another.
    """
    import numpy as np

    before = np.concatenate([[0], np.cumsum(np.array(heard.sizes, float))])[np.searchsorted(heard.places, places)]
    return float(np.polyfit(np.arange(len(places)), before, 1)[0])


def _some_of(window: Window, heard: Found) -> bytes:
    """Some of a sound, from its middle on."""
    data = bytearray()
    for number in range(len(heard.places) // 2, len(heard.places) - 1):
        data += window.at(heard.places[number], heard.sizes[number] & -4)
        if len(data) > _SOME_SOUND:
            break
    return bytes(data)


def _is_paired(data: bytes, form: str) -> bool:
    """Whether two channels take turns: each goes on from its own last value, or both have the same."""
    import numpy as np

    if _roughness(data, form, 2) < _MUCH_SMOOTHER * _roughness(data, form):
        return True
    values = np.frombuffer(data[: len(data) & ~3], form).reshape(-1, 2)
    return bool((values[:, 0] == values[:, 1]).mean() > _ALIKE > (values[1:, 0] == values[:-1, 1]).mean())


def _roughness(data: bytes, form: str, step: int = 1) -> float:
    """How much values change from one to the next but `step`, as a share of how much they vary."""
    import numpy as np

    values = np.frombuffer(data[: len(data) & ~1], form).astype(float)
    spread = float(values.std())
    return float(np.abs(values[step:] - values[:-step]).mean()) / spread if spread else 9.0


def entry_for(way: Way, window: Window, places: Sequence[int]) -> tuple[bytes | None, Shape | None]:
    """(description of pictures, what their settings tell) by what stands in them; None where it does not."""
    if isinstance(way, Units):
        return entry_of_units(way.coding), way.coding.shape
    if isinstance(way, Obus):
        return way.entry, way.shape
    if not places:
        return None, None
    head = window.at(places[0], 1 << 16)
    if isinstance(way, Jpegs):
        at = 2
        while at + 9 < len(head) and head[at] == 0xFF:
            if 0xC0 <= head[at + 1] <= 0xCF and head[at + 1] not in (0xC4, 0xC8, 0xCC):
                height, width = struct.unpack_from(">HH", head, at + 5)
                return entry_of_jpegs(width, height), Shape(width, height, 0.0, 0)
            at += 2 + int.from_bytes(head[at + 2 : at + 4], "big")
        return None, None
    if isinstance(way, Intra):
        # The head of a picture follows its four letters: bytes, version, maker, width, height.
        width, height = struct.unpack_from(">HH", head, 16)
        chroma = head[20] >> 6 if len(head) > 20 else 2
        return entry_of_intra(b"ap4h" if chroma == 3 else b"apcn", width, height), Shape(width, height, 0.0, 0)
    return None, None
