"""Several sounds beside pictures, uncoded ones among them: each is told from the others, also where something is missing."""

from __future__ import annotations

import io
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_torn_media import recordings, samples, small_jpeg, tracks

from rustfern.repair.recordings.filling import Filling, Plain
from rustfern.repair.recordings.find import Finder
from rustfern.repair.recordings.ways import Aac, Jpegs, Way
from rustfern.repair.recordings.window import Window

MONO, STEREO = Plain(2, 640, (640, 1280), 8000), Plain(4, 1280, (1280,), 8000)
FRAMES = samples(recordings()["launch.mp4"], b"soun")
(RATE, CHANNELS) = next(each.aac for each in tracks(recordings()["launch.mp4"]) if each.aac is not None)
CODED = Aac(RATE, CHANNELS)


def noise(seed: int, size: int) -> bytes:
    return random.Random(seed).randbytes(size)


@pytest.mark.parametrize("hole", [False, True])
@pytest.mark.parametrize(
    "sounds", [[MONO, MONO], [MONO, STEREO], [CODED, MONO], [STEREO, CODED]], ids=["alike", "wide", "coded", "first"]
)
def test_each_sound_is_told_from_the_others(sounds: list[Way | Plain], hole: bool) -> None:
    data, wanted, pictures = b"", [list[bytes](), list[bytes]()], 0
    for n in range(24):
        data += small_jpeg()
        is_hurt = hole and n == 10
        pictures += 1
        for number, way in enumerate(sounds):
            body = FRAMES[n % len(FRAMES)] if isinstance(way, Aac) else noise(7 * n + number, way.chunks[0])
            data += bytes(len(body)) if is_hurt and not isinstance(way, Plain) else body[:-3] if is_hurt else body
            if not is_hurt:
                wanted[number].append(body)
    finder = Finder(Window(io.BytesIO(data), len(data)), Jpegs(), sounds, lambda: None)
    finder.walk(0, len(data))
    assert len(finder.pictures.places) == pictures
    for found, bodies in zip(finder.heard, wanted, strict=True):
        told = [data[at : at + size] for at, size in zip(found.places, found.sizes, strict=True)]
        assert told == bodies
        assert bool(found.gaps) == hole


@given(st.lists(st.integers(0, 1), max_size=9), st.integers(0, 3), st.integers(0, 700))
def test_what_fills_some_bytes_adds_up(order: list[int], extra: int, cut: int) -> None:
    length = sum((640, 1280)[number] for number in order) + extra
    filling = Filling([MONO, STEREO], [0, 0], lambda number, way, place: None)
    told = filling.parts(0, length, is_open=False)
    assert sum(size for _, size in told) == (length if told else 0)
    if not extra and order:
        assert told
    open_ = filling.parts(0, length + cut, is_open=True)
    assert sum(size for _, size in open_) <= length + cut
