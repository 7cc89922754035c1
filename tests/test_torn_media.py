"""Recordings that were never finished and pictures that are torn: what comes back, what is said of the rest, and what is refused."""

from __future__ import annotations

import contextlib
import functools
import io
import random
import re
import struct
import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from conftest import DATA, Run
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from rustfern.core.errors import Malformed
from rustfern.formats import registry as formats
from rustfern.formats.media import alac
from rustfern.formats.media.aac import frame_length
from rustfern.formats.media.audio import element
from rustfern.formats.media.av1 import sequence_in
from rustfern.formats.media.coded_video import Avc, Hevc, NoUnit, settings_of
from rustfern.formats.media.frame import can_show
from rustfern.formats.media.hevc_heads import Settings as Walked
from rustfern.formats.media.hevc_walk import Walk, sizes_of
from rustfern.operations.repair_samples import sample_in
from rustfern.repair.interface import Job, LossKind, NothingLeft, Other
from rustfern.repair.recordings import movie, shared_walk, told_by_encoder, trial
from rustfern.repair.recordings.avc_settings import proved
from rustfern.repair.recordings.filling import Plain
from rustfern.repair.recordings.find import Found
from rustfern.repair.recordings.layout import layout_of
from rustfern.repair.recordings.more_ways import Ac3, Amr, FlacFrames, Obus
from rustfern.repair.recordings.settings import guessed
from rustfern.repair.recordings.tables import Track, tracks_of
from rustfern.repair.recordings.timing import rate_of, shifts_of, times_by_sound
from rustfern.repair.recordings.ways import Jpegs, Sample
from rustfern.repair.recordings.window import Window
from rustfern.repair.registry import repairers

Rustfern = Callable[..., Run]
HOLE = 4096


@functools.cache
def small_jpeg() -> bytes:
    """A picture such as cameras write into recordings."""
    made = io.BytesIO()
    Image.new("RGB", (64, 48), (90, 120, 70)).save(made, "jpeg")
    return made.getvalue()


@functools.cache
def recordings() -> dict[str, bytes]:
    """Name → bytes of recordings by real encoders, and of whole ones of other tests."""
    found = {}
    for pack in ("recordings", "media"):
        with tarfile.open(DATA / f"{pack}.tar.xz") as tar:
            for member in tar:
                if member.isfile() and (stream := tar.extractfile(member)) is not None:
                    found.setdefault(member.name.rpartition("/")[2], stream.read())
    return found


def tracks(data: bytes) -> list[Track]:
    return tracks_of(layout_of(Window(io.BytesIO(data), len(data))).moov)


def samples(data: bytes, kind: bytes) -> list[bytes]:
    """The pictures, or frames of sound, where the tables say."""
    (track,) = [each for each in tracks(data) if each.kind == kind]
    return [data[at : at + size] for at, size in zip(track.places, track.sizes, strict=True)]


def without_tables(data: bytes) -> bytes:
    """The recorder died: no tables, the size of the data never written."""
    kept, at = b"", 0
    while at < len(data):
        length, kind = struct.unpack_from(">I4s", data, at)
        if kind == b"mdat":
            kept += bytes(4) + data[at + 4 : at + length]
        elif kind != b"moov":
            kept += data[at : at + length]
        at += length
    return kept


def silent(data: bytes) -> bytes:
    """The encoder does not tell how it codes."""
    return data.replace(b"x264 - core", b"???? - core")


def with_hole(data: bytes, at: int, what: bytes = bytes(HOLE)) -> bytes:
    return data[:at] + what + data[at + len(what) :]


def repaired(tmp_path: Path, rustfern: Rustfern, name: str, data: bytes, *more: object) -> tuple[bytes, Any, Run]:
    """(what was written, what is said of it, the run)."""
    (tmp_path / name).write_bytes(data)
    run = rustfern("repair", tmp_path / name, "--to", tmp_path / "back", "--json", *more)
    told = run.json
    assert (tmp_path / name).read_bytes() == data
    if not told["repaired"]:
        return b"", told["refused"][0], run
    (one,) = told["repaired"]
    return Path(one["to"]).read_bytes(), one, run


# --- recordings in boxes ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("name", "like"), [("launch.mp4", "other-launch.mp4"), ("crane.mp4", "crane.mp4"), ("deck.mov", "deck.mov"), ("slip.mp4", "slip.mp4")])  # fmt: skip
def test_a_recording_that_was_never_finished_plays(name: str, like: str, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()[name]
    (tmp_path / "healthy").mkdir()
    sample = tmp_path / "healthy" / f"sample-{like}"
    sample.write_bytes(recordings()[like])
    made, told, run = repaired(tmp_path, rustfern, name, without_tables(whole), "--like", sample)
    assert run.status == 0 and told["state"] == "intact" and any(sample.name in each for each in told["lost"])
    for kind in {track.kind for track in tracks(whole)} & {b"vide", b"soun"}:
        mine, theirs = samples(made, kind), samples(whole, kind)
        assert b"".join(mine) == b"".join(theirs) and (kind == b"soun" or mine == theirs)
    (before,), (after,) = ([each for each in tracks(data) if each.kind == b"vide"] for data in (whole, made))
    ticks = [n * before.scale / after.scale for n in after.lasting]
    assert ticks == pytest.approx(list(before.lasting), abs=1)
    shown = lambda track: [s - min(track.shifts, default=0) for s in track.shifts]  # noqa: E731
    assert [n * before.scale / after.scale for n in shown(after)] == pytest.approx(shown(before), abs=1)
    assert after.matrix == before.matrix and after.keys == before.keys


@pytest.mark.parametrize("name", ["log-book.m4a", "log-alone.m4a", "deck.mov", "two-sounds.mp4"])
def test_what_most_encoders_make_needs_no_sample(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    if name == "two-sounds.mp4" and not can_show():
        pytest.skip("no decoder is installed")
    whole = recordings()[name]
    made, _, run = repaired(tmp_path, rustfern, name, without_tables(whole))
    mine, theirs = (
        [(each.kind, each.coding, list(each.sizes), each.entry[32:36]) for each in tracks(data)]
        for data in (made, whole)
    )
    assert run.status == 0 and [each[:2] for each in mine] == [each[:2] for each in theirs]
    assert all(a[2] == b[2] or sum(a[2]) == sum(b[2]) for a, b in zip(mine, theirs, strict=True))


@pytest.mark.parametrize("damage", ["none", "hole"])
@pytest.mark.parametrize("name", ["log-book.m4a", "log-alone.m4a"])
def test_sound_without_loss_by_its_codes(name: str, damage: str, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()[name]
    (tmp_path / "healthy").mkdir()
    (tmp_path / "healthy" / name).write_bytes(whole)
    data = without_tables(whole)
    data = data if damage == "none" else with_hole(data, len(data) // 1024 * 512, bytes(512))
    made, told, run = repaired(tmp_path, rustfern, name, data, "--like", tmp_path / "healthy" / name)
    mine, theirs = samples(made, b"soun"), samples(whole, b"soun")
    assert run.status == 0 and told["state"] == "intact"
    assert mine == theirs if damage == "none" else len(theirs) - 2 <= len(mine) < len(theirs) and {*mine} < {*theirs}
    assert sum(tracks(made)[0].lasting) == pytest.approx(len(theirs) * 4096, abs=4096)
    assert any("sound" in each for each in told["lost"]) is (damage == "hole")


@pytest.mark.parametrize("damage", ["none", "hole"])
def test_texts_stay_beside_their_pictures(damage: str, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()["titled.mp4"]
    (tmp_path / "healthy").mkdir()
    (tmp_path / "healthy/titled.mp4").write_bytes(whole)
    data = without_tables(whole)
    data = with_hole(data, len(data) // 1024 * 512, bytes(1024)) if damage == "hole" else data
    made, told, run = repaired(tmp_path, rustfern, "t.mp4", data, "--like", tmp_path / "healthy/titled.mp4")
    if damage == "hole":
        # Zeros are no empty texts.
        assert any("sound" in each or "frames" in each for each in told["lost"])
        assert len(samples(made, b"sbtl")) <= len(samples(whole, b"sbtl"))
        return
    assert run.status == 0 and told["state"] == "intact" and not any("sound" in each for each in told["lost"])
    for kind in (b"vide", b"soun"):
        assert samples(made, kind) == samples(whole, kind)
    texts = [each for each in samples(made, b"sbtl") if len(each) > 2]
    assert texts == [each for each in samples(whole, b"sbtl") if len(each) > 2] and len(texts) == 2


def test_how_it_is_read_is_found_beside_it_or_asked_for(tmp_path: Path, rustfern: Rustfern) -> None:
    whole = silent(recordings()["launch.mp4"])
    made, told, run = repaired(tmp_path, rustfern, "silent.mp4", without_tables(whole))
    if can_show():
        assert samples(made, b"vide") == samples(whole, b"vide") and any(
            "found by trying" in each for each in told["lost"]
        )
    else:
        assert run.status == 1 and "--like" in told["message"] and not list((tmp_path / "back").iterdir())
    (tmp_path / "aft.mp4").write_bytes(whole)
    if can_show():  # else nothing tells which of the two is right
        (tmp_path / "other.mp4").write_bytes(recordings()["two-sounds.mp4"])
    made, told, run = repaired(tmp_path, rustfern, "silent.mp4", without_tables(whole))
    assert run.status == 0 and samples(made, b"vide") == samples(whole, b"vide") and "aft.mp4" in " ".join(told["lost"])
    said = rustfern("check", tmp_path / "silent.mp4").out
    assert "never finished" in said and "this can make it play" in said
    looked = rustfern("look", tmp_path / "silent.mp4").out
    assert "2 tracks, 3 seconds can be had" in looked
    if can_show():
        assert "160 × 120 pixels" in looked


@pytest.mark.skipif(not can_show(), reason="no decoder is installed")
@pytest.mark.parametrize("like", ["launch.mp4", "slip.mp4", "plan.png", "note.mp3"])
def test_a_sample_of_other_settings_is_refused(like: str, tmp_path: Path, rustfern: Rustfern) -> None:
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / like).write_bytes(recordings()[like])
    data = without_tables(recordings()["crane.mp4"])
    made, told, run = repaired(tmp_path, rustfern, "crane.mp4", data, "--like", tmp_path / "other" / like)
    assert run.status == 0 and any(like in each and "not used" in each for each in told["lost"])
    assert samples(made, b"vide") == samples(recordings()["crane.mp4"], b"vide")
    # What nothing proves is not read with settings of another recording.
    untold = silent(without_tables(filmed("libx264", 160, 120, {"profile": "main", "x264-params": "cabac=0"})))
    like = like.replace("launch", "two-sounds")
    (tmp_path / "other" / like).write_bytes(recordings()[like])
    _, told, run = repaired(tmp_path, rustfern, "silent.mp4", untold, "--like", tmp_path / "other" / like)
    assert run.status == 1 and "the very same settings" in told["message"]


@pytest.mark.skipif(not can_show(), reason="no decoder is installed")
def test_settings_that_the_encoder_tells_of_need_no_sample(tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()["launch.mp4"]
    made, told, run = repaired(tmp_path, rustfern, "launch.mp4", without_tables(whole))
    assert run.status == 0 and samples(made, b"vide") == samples(whole, b"vide")
    assert [each for each in told["lost"] if "how fast" in each]
    mine, theirs = (next(each for each in tracks(data) if each.kind == b"vide") for data in (made, whole))
    assert mine.entry[32:36] == theirs.entry[32:36]


def filmed(coder: str, width: int, height: int, options: dict[str, str], pixels: str = "yuv420p") -> bytes:
    """A recording of something that moves, by a real encoder."""
    import av

    made, chance = io.BytesIO(), np.random.default_rng(7)
    with av.open(made, "w", format="mp4") as film:
        stream = film.add_stream(coder, rate=25, options=options)
        stream.width, stream.height, stream.pix_fmt = width, height, pixels
        ground = chance.integers(0, 200, (height, width, 3), dtype=np.uint8)
        for number in range(12):
            ground[8 : height // 2, 8 : width // 2] = (20 * number) % 255
            picture = av.VideoFrame.from_ndarray(np.roll(ground, 3 * number, 1), format="rgb24")
            film.mux(stream.encode(picture.reformat(format=pixels)))
        film.mux(stream.encode(None))
    return made.getvalue()


@pytest.mark.skipif(not can_show(), reason="no decoder is installed")
@pytest.mark.parametrize(("coder", "size", "options", "edge"), [
    ("libx264", (640, 360), {"preset": "veryfast"}, 15), ("libx264", (480, 270), {"preset": "fast", "g": "4"}, 15), ("libx264", (208, 112), {}, 15),
    ("libx265", (320, 180), {"preset": "ultrafast"}, 15), ("libx265", (256, 144), {"preset": "slower"}, 0), ("libx265", (200, 136), {"preset": "fast"}, 7),
    ("libx265", (176, 144), {"x265-params": "ctu=16:no-signhide=1:amp=1:rect=1"}, 0), ("libx265", (160, 120), {"x265-params": "no-wpp=1"}, 0),
])  # fmt: skip
def test_sizes_that_stood_in_the_index_alone(
    coder: str, size: tuple[int, int], options: dict[str, str], edge: int
) -> None:
    import av

    if coder not in av.codecs_available:
        pytest.skip("the encoder is missing")
    if coder == "libx265":
        options = {**options, "x265-params": ":".join(filter(None, ("log-level=none", options.get("x265-params"))))}
    whole = filmed(coder, *size, options)
    data, out = without_tables(whole), io.BytesIO()
    told = movie.repair(Job(io.BytesIO(data), len(data), "slip.mp4", "mp4"), out)
    assert samples(out.getvalue(), b"vide") == samples(whole, b"vide")
    (mine,) = tracks(out.getvalue())
    assert struct.unpack_from(">HH", mine.entry, 32) == size
    assert [each.count for each in told.lost if each.kind is LossKind.EDGE] == [edge] * bool(edge)
    with av.open(io.BytesIO(out.getvalue())) as mended, av.open(io.BytesIO(whole)) as first:
        shown = [[picture.to_ndarray().tobytes() for picture in film.decode(video=0)] for film in (mended, first)]
    assert shown[0] == shown[1] and len(shown[0]) == 12


@pytest.mark.skipif(not can_show(), reason="no decoder is installed")
@pytest.mark.parametrize("options,size", [
    ({"preset": "veryfast"}, (320, 240)), ({"preset": "slow", "crf": "29"}, (320, 240)),
    ({"preset": "medium", "b": "300k", "profile": "main"}, (320, 240)), ({"preset": "faster", "bf": "0", "slices": "3"}, (320, 240)),
    ({"profile": "baseline"}, (320, 240)), ({"profile": "baseline"}, (336, 208)),
    ({"profile": "baseline", "refs": "1", "x264-params": "bframes=0:no-deblock=1"}, (320, 240)),
])  # fmt: skip
def test_the_heads_of_slices_tell_how_an_encoder_codes_that_tells_nothing(
    options: dict[str, str], size: tuple[int, int]
) -> None:
    import av

    if "libx264" not in av.codecs_available:
        pytest.skip("the encoder is missing")
    whole = silent(filmed("libx264", *size, options))
    data, out = without_tables(whole), io.BytesIO()
    job = Job(io.BytesIO(data), len(data), "slip.mp4", "mp4")
    told = movie.repair(job, out)
    # Without arithmetic code pictures read with any strength, which is said; this encoder has another one than cameras.
    plain = options.get("profile") == "baseline"
    doubt = LossKind.STRENGTH if plain else LossKind.TRIED
    assert samples(out.getvalue(), b"vide") == samples(whole, b"vide") and doubt in {each.kind for each in told.lost}
    if plain:
        assert struct.unpack_from(">HH", tracks(out.getvalue())[0].entry, 32) == size
        return
    with av.open(io.BytesIO(out.getvalue())) as mended, av.open(io.BytesIO(whole)) as first:
        shown = [
            np.array([each.to_ndarray()[: size[1]] for each in film.decode(video=0)], float) for film in (mended, first)
        ]
    assert shown[0].shape == shown[1].shape and np.abs(shown[0] - shown[1]).mean() < 0.5


@pytest.mark.skipif(not can_show(), reason="no decoder is installed")
@pytest.mark.parametrize("coder", ["libx264", "libx265"])
@pytest.mark.parametrize("other", [(320, 208), (320, 256), (240, 240), (320, 240)])
def test_a_sample_of_another_size_is_told(coder: str, other: tuple[int, int]) -> None:
    import av

    if coder not in av.codecs_available:
        pytest.skip("the encoder is missing")
    options = {"preset": "veryfast", **({"x265-params": "log-level=none"} if coder == "libx265" else {})}
    size = (320, 240)
    whole, sample = filmed(coder, *size, options), filmed(coder, *other, options)
    data, out = without_tables(whole), io.BytesIO()
    job = Job(io.BytesIO(data), len(data), "slip.mp4", "mp4", others=[Other(sample, "bow.mp4", True, True)])
    told = [each.kind for each in movie.repair(job, out).lost]
    assert struct.unpack_from(">HH", tracks(out.getvalue())[0].entry, 32) == size
    assert (LossKind.LIKE in told, LossKind.UNLIKE in told) == (size == other, size != other)


def recorded(form: str, shows: str, sounds: str, seed: int) -> bytes:
    """A recording with sound by real encoders: something that moves, and a tone under noise."""
    import av

    made, chance = io.BytesIO(), np.random.default_rng(seed)
    rate = 8000 if "amr" in sounds else 48000
    wide, high, pixels = (
        (720, 576, "yuv420p") if shows == "dvvideo" else (640, 360, "yuv422p" if shows == "dnxhd" else "yuv420p")
    )
    options = {"dnxhd": {"profile": "dnxhr_lb"}, "libsvtav1": {"preset": "12"}, "libx264": {"preset": "veryfast"}}
    with av.open(made, "w", format=form) as film:
        picture = film.add_stream(shows, rate=25, options=options.get(shows, {}))
        picture.width, picture.height, picture.pix_fmt = wide, high, pixels
        sound = film.add_stream(sounds, rate=rate, layout="mono" if "amr" in sounds else "stereo")
        if "amr" in sounds:
            sound.bit_rate = 12200
        ground = chance.integers(0, 200, (high, wide, 3), dtype=np.uint8)
        channels = 1 if "amr" in sounds else 2
        fifo = av.AudioFifo()
        for number in range(40):
            shown = av.VideoFrame.from_ndarray(np.roll(ground, 3 * number, 1), format="rgb24")
            film.mux(picture.encode(shown.reformat(format=pixels)))
            ticks = np.arange(number * rate // 25, (number + 1) * rate // 25)
            tone = 4000 * np.sin(ticks * 2 * np.pi * (200 + 10 * seed) / rate) + chance.normal(0, 600, len(ticks))
            heard = av.AudioFrame.from_ndarray(
                np.repeat(tone.astype(np.int16), channels)[None],
                format="s16",
                layout="mono" if channels == 1 else "stereo",
            )
            heard.sample_rate = rate
            for each in av.AudioResampler(sound.format, sound.layout, rate).resample(heard):
                each.pts = None
                fifo.write(each)
            while (part := fifo.read(sound.codec_context.frame_size or 1024)) is not None:
                film.mux(sound.encode(part))
        film.mux(picture.encode(None))
        film.mux([each for each in sound.encode(None) if each.size])
    return made.getvalue()


@pytest.mark.skipif(not can_show(), reason="no decoder is installed")
@pytest.mark.parametrize(("form", "shows", "sounds", "sampled"), [
    ("mp4", "libsvtav1", "aac", True), ("mp4", "libsvtav1", "aac", False), ("mp4", "libx264", "flac", True), ("mp4", "libx264", "ac3", True),
    ("mp4", "libx264", "eac3", True), ("3gp", "libx264", "libopencore_amrnb", True), ("mov", "dvvideo", "pcm_s16le", True),
    ("mov", "dnxhd", "pcm_s24le", True), ("mp4", "libx264", "libopus", True), ("mp4", "mpeg4", "aac", True), ("mov", "mpeg2video", "pcm_s16be", True),
])  # fmt: skip
def test_further_codings_come_back_or_are_said_to_be_lost(form: str, shows: str, sounds: str, sampled: bool) -> None:
    import av

    if not {shows, sounds} <= av.codecs_available:
        pytest.skip("the encoder is missing")
    whole = recorded(form, shows, sounds, 7)
    others = []
    if sampled:
        others.append(sample_in(io.BytesIO(recorded(form, shows, sounds, 5)), "bow." + form))
    data, out = without_tables(whole), io.BytesIO()
    job = Job(io.BytesIO(data), len(data), "slip." + form, form, others=others)
    if shows in ("mpeg4", "mpeg2video"):
        with pytest.raises(NothingLeft, match="nothing in the bytes marks"):
            movie.repair(job, out)
        return
    told = movie.repair(job, out)
    made = out.getvalue()
    assert b"".join(samples(made, b"vide")) == b"".join(samples(whole, b"vide"))
    if sounds == "libopus":
        assert [each.text for each in told.lost if each.kind is LossKind.UNHEARD] == ["Opus"]
        assert len(tracks(made)) == 1
        return
    mine, theirs = b"".join(samples(made, b"soun")), b"".join(samples(whole, b"soun"))
    assert mine == theirs or (theirs.startswith(mine) and len(theirs) - len(mine) < 600)
    with av.open(io.BytesIO(made)) as film:
        assert sum(1 for _ in film.decode(video=0)) == 40
    with av.open(io.BytesIO(made)) as film:
        assert sum(each.samples for each in film.decode(audio=0)) > 1.4 * film.streams.audio[0].rate


def test_several_frames_of_sound_in_one_sample_are_whole() -> None:
    frames = bytes((0x3C, *range(31))) * 3 + bytes((0x04, *range(12)))  # of AMR, the last one shorter
    track, job = Track(kind=b"soun", entry=bytes(36)), Job(io.BytesIO(frames), len(frames), "log.3gp", "3gp")
    track.places.append(0)
    track.sizes.append(len(frames))
    for together, size, whole in (
        (1, len(frames), True),
        (2, len(frames), True),
        (3, len(frames), True),
        (2, len(frames) - 4, False),
    ):
        track.sizes[0] = size
        way = Amr(is_wide=False, together=together)
        assert movie._is_whole(Window(io.BytesIO(frames), len(frames)), track, 0, way, job) == whole


@given(st.lists(st.binary(min_size=1, max_size=90), max_size=6))
def test_no_bytes_break_what_reads_the_heads_of_slices(units: list[bytes]) -> None:
    assert all(facts.number_bits >= 4 for facts in proved([b"\x65" + each for each in units], lambda: None))


@given(st.binary(max_size=600), st.integers(0, 40))
def test_no_bytes_break_the_ways_of_further_codings(data: bytes, at: int) -> None:
    window = Window(io.BytesIO(data), len(data))
    for way in (Obus(), Ac3(), FlacFrames(300), Amr(is_wide=False, together=1), Amr(is_wide=True, together=3)):
        found = way.sample_at(window, at, len(data))
        assert found is None or 0 < found.size <= len(data) - at
        assert all(0 <= place < len(data) for place in way.next_from(window, 0, len(data)))
    with contextlib.suppress(NoUnit):
        assert 16 <= sequence_in(data).shape.width <= 16384


@pytest.mark.parametrize("decoder", [True, False])
def test_pictures_whose_code_proves_their_settings_need_no_sample(
    decoder: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for module in (trial, told_by_encoder):
        monkeypatch.setattr(module, "can_show", lambda: decoder and can_show())
    whole = recordings()["crane.mp4"]
    data, out = without_tables(whole), io.BytesIO()
    told = movie.repair(Job(io.BytesIO(data), len(data), "crane.mp4", "mp4"), out)
    made = out.getvalue()
    assert samples(made, b"vide") == samples(whole, b"vide") and LossKind.DEPTH not in {each.kind for each in told.lost}
    mine, theirs = (next(each for each in tracks(each) if each.kind == b"vide") for each in (made, whole))
    assert mine.entry[32:36] == theirs.entry[32:36]
    (coding, width), (own, _) = settings_of(mine.entry), settings_of(theirs.entry)
    assert coding is not None and own is not None and coding.shape is not None and own.shape is not None
    assert (coding.shape.orders, width) == (own.shape.orders, 4)
    assert [coding.head(each[4:]) for each in samples(made, b"vide")] == [
        own.head(each[4:]) for each in samples(whole, b"vide")
    ]


def test_the_code_of_a_picture_fits_its_own_settings_alone() -> None:
    own = Walked(160, 120, weighs=(True, False))
    pictures = [picture[4:] for picture in samples(recordings()["crane.mp4"], b"vide")]
    assert all(Walk(picture, own).fits() for picture in pictures)
    assert sizes_of(pictures[0], own, lambda: None) == [(160, 120)]
    for wrong in (
        {"width": 168}, {"height": 112}, {"block": 5}, {"depth": 1}, {"steps": -1}, {"hides_signs": False}, {"skips": True}, {"inner": 1},
    ):  # fmt: skip
        other = msgspec.structs.replace(own, **wrong)
        assert not all(Walk(picture, other).fits() for picture in pictures), wrong


@given(at=st.integers(2, 400), what=st.binary(min_size=1, max_size=4), block=st.integers(4, 6), depth=st.integers(0, 3), by_rows=st.booleans())  # fmt: skip
def test_no_bytes_break_the_walk_through_the_code_of_a_picture(
    at: int, what: bytes, block: int, depth: int, by_rows: bool
) -> None:
    for picture in samples(recordings()["crane.mp4"], b"vide")[:3]:
        unit = picture[4 : 4 + at] + what + picture[4 + at + len(what) :]
        with contextlib.suppress(NoUnit):
            Walk(unit, Walked(160, 120, block, depth=depth, by_rows=by_rows, weighs=(True, False))).fits()
            sizes_of(unit, Walked(block=block, depth=depth), lambda: None)


@pytest.mark.parametrize(("channels", "rate", "shown"), [
    (1, 8_000, 12.0), (2, 8_000, 30.0), (2, 44_100, 12.0), (1, 44_100, 30.0), (2, 44_100, 60.0), (1, 48_000, 25.0), (2, 48_000, 60.0),
])  # fmt: skip
def test_uncoded_sound_is_told_by_how_much_of_it_lies_by_a_picture(channels: int, rate: int, shown: float) -> None:
    picture, film = small_jpeg(), bytearray()
    values = np.random.default_rng(5).normal(0, 300, rate * 4).cumsum() % 20_000 - 10_000
    sound = np.repeat(values.astype("<i2"), channels).tobytes()
    step, at = 1_024 * 2 * channels, 0
    for number in range(int(4 * shown)):
        film += picture
        while at + step <= (number + 1) / shown * rate * 2 * channels:
            film += sound[at : at + step]
            at += step
    window = Window(io.BytesIO(bytes(film)), len(film))
    found = guessed(window, 0, len(film), lambda: None)
    assert found is not None and isinstance(found.way, Jpegs) and found.picture is not None
    (track,) = found.sounds
    # Twice as many pictures with twice as much sound are the same bytes.
    assert found.ways == [Plain(2 * channels)]
    assert found.picture.scale / 1000 / track.scale == pytest.approx(shown / rate, rel=0.004)


@pytest.mark.parametrize("damage", ["zeros", "noise", "cut", "tables cut", "tables zero", "wrong places"])
def test_what_is_damaged_costs_what_lies_there(damage: str, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()["launch.mp4"]
    moov = whole.index(b"moov") - 4
    middle = (moov // 2) // 512 * 512
    noise = random.Random(4).randbytes(2048)
    data = {
        "zeros": with_hole(whole, middle, bytes(2048)), "noise": with_hole(without_tables(whole), middle, noise), "cut": without_tables(whole)[: moov * 2 // 3],
        "tables cut": whole[: moov + (len(whole) - moov) * 2 // 3], "tables zero": whole[:moov] + bytes(len(whole) - moov),
        "wrong places": whole.replace(whole[whole.index(b"stco") + 12 :][:4], struct.pack(">I", 4000)),
    }[damage]  # fmt: skip
    sample = tmp_path / "like"
    sample.mkdir()
    (sample / "a.mp4").write_bytes(recordings()["other-launch.mp4"])
    made, told, run = repaired(tmp_path, rustfern, "launch.mp4", data, "--like", sample / "a.mp4")
    assert run.status == 0 and told["state"] == "intact"
    for kind in (b"vide", b"soun"):
        there = [each for each in samples(whole, kind) if each in data]
        back = samples(made, kind)
        if "shown again" in told["method"]:  # pictures that stand in for lost ones are new, and small
            new = [each for each in back if each not in samples(whole, kind) and len(each) < 200]
            assert kind == b"soun" or 0 < len(new) <= len(samples(whole, kind)) - len(there)
            back = [each for each in back if each not in new]
        assert (
            len(set(back) & set(there)) >= 0.9 * len(there) and set(back) <= set(samples(whole, kind)) | {b""}
        ) or damage == "noise"
    if damage in ("zeros", "noise"):
        assert any("picture" in each for each in told["lost"])
    strictly, _, _ = repaired(tmp_path, rustfern, "launch.mp4", data, "--like", sample / "a.mp4", "--strict")
    assert len(samples(strictly, b"vide")) <= len(samples(made, b"vide"))


@pytest.mark.parametrize("like", [True, False])
def test_two_sounds_of_one_coding_are_told_apart(like: bool, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()["two-sounds.mp4"]
    (tmp_path / "healthy").mkdir()
    (tmp_path / "healthy" / "a.mp4").write_bytes(whole)
    more = ["--like", tmp_path / "healthy" / "a.mp4"] if like else []
    made, told, run = repaired(tmp_path, rustfern, "two-sounds.mp4", without_tables(whole), *more)
    assert run.status == 0 and told["kept"]["tracks"] == 3
    mine, theirs = ([each for each in tracks(data) if each.kind == b"soun"] for data in (made, whole))
    frames = lambda data, track: [data[at : at + n] for at, n in zip(track.places, track.sizes, strict=True)]  # noqa: E731
    for one, other in zip(mine, theirs, strict=True):
        assert frames(made, one) == frames(whole, other)
    (film,) = [each for each in tracks(made) if each.kind == b"vide"]
    assert sum(film.lasting) / film.scale == pytest.approx(3.0, abs=0.05)


@pytest.mark.parametrize("damage", ["none", "noise", "cut"])
def test_who_walks_through_it_changes_nothing(damage: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    data = without_tables(recordings()["launch.mp4"])
    if damage == "noise":
        data = with_hole(data, len(data) // 2, random.Random(9).randbytes(3000))
    data = data[: len(data) * 3 // 4] if damage == "cut" else data
    file = tmp_path / "launch.mp4"
    file.write_bytes(data)
    monkeypatch.setattr(shared_walk, "_WORTH_SHARING", 1000)
    monkeypatch.setattr(shared_walk, "_PIECE", len(data) // 7)
    made = []
    for cores in (1, 3):
        monkeypatch.setattr(shared_walk, "cores", lambda n=cores: n)
        out = io.BytesIO()
        others = [Other(recordings()["other-launch.mp4"], "other", True, True)]
        movie.repair(
            Job(
                io.BytesIO(data),
                len(data),
                "launch.mp4",
                "mp4",
                others=others,
                reopen=functools.partial(open, file, "rb"),
            ),
            out,
        )
        made.append(out.getvalue())
    kept = [[samples(each, kind) for kind in (b"vide", b"soun")] for each in made]
    assert kept[0][0] == kept[1][0] and abs(len(kept[0][1]) - len(kept[1][1])) <= (damage == "noise")
    assert made[0] == made[1] or damage == "noise"


def test_without_a_decoder_nothing_tells_which_of_several_is_right(monkeypatch: pytest.MonkeyPatch) -> None:
    for module in (trial, told_by_encoder):
        monkeypatch.setattr(module, "can_show", lambda: False)
    data = without_tables(recordings()["launch.mp4"])
    right, wrong = (Other(recordings()[name], name, False, True) for name in ("other-launch.mp4", "two-sounds.mp4"))
    for others, comes_back in (([right], True), ([wrong, right], False)):
        job, out = Job(io.BytesIO(data), len(data), "launch.mp4", "mp4", others=others), io.BytesIO()
        if comes_back:
            movie.repair(job, out)
            assert samples(out.getvalue(), b"vide") == samples(recordings()["launch.mp4"], b"vide")
        else:
            with pytest.raises(Malformed):
                movie.repair(job, out)


def test_whole_fragments_are_kept(tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()["slip-fragments.mp4"]
    last = whole.rindex(b"mfra") - 4
    made, told, _ = repaired(tmp_path, rustfern, "slip.mp4", whole[: last + 20])
    assert made == whole[:last] and told["state"] == "intact" and "fragment" in told["method"]


# --- other containers, and sound --------------------------------------------------------------------------------------

DAMAGES: dict[str, Callable[[bytes], bytes]] = {
    "cut": lambda data: data[: len(data) * 6 // 10],
    "hole": lambda data: with_hole(data, len(data) // 2 // 512 * 512, bytes(2048)),
    "more": lambda data: data[: len(data) // 3] + random.Random(2).randbytes(1500) + data[len(data) // 3 :],
}


@pytest.mark.parametrize("damage", DAMAGES)
@pytest.mark.parametrize(
    ("name", "unit"),
    [
        ("slip.avi", 8000),
        ("mooring.mkv", 4000),
        ("slip.webm", 1500),
        ("note.flac", 6500),
        ("note.ogg", 4500),
        ("note.mp3", 300),
        ("note.aac", 400),
    ],
)
def test_whole_frames_are_kept_in_every_container(
    name: str, unit: int, damage: str, tmp_path: Path, rustfern: Rustfern
) -> None:
    whole = recordings()[name]
    data = DAMAGES[damage](whole)
    made, told, run = repaired(tmp_path, rustfern, name, data)
    if "it is whole" in told.get("message", ""):
        assert name == "note.aac"  # nothing of its format shows a hole inside of a frame
        return
    assert run.status == 0, told
    least = len(data) - (0 if damage == "cut" else 2048) - 2 * unit
    assert told["state"] == "intact" and len(made) > least and told["lost"]
    if can_show():
        import av

        with av.open(io.BytesIO(made)) as film:
            assert sum(packet.size for packet in film.demux() if packet.size) > least - 6000


@pytest.mark.parametrize(
    ("name", "kept", "tracks", "least"),
    [
        ("mooring.mkv", 0.7, ["video"], 0.6),
        ("slip.avi", 0.7, ["video"], 0.4),
        ("mooring-fragments.mp4", 0.9, ["video 96 × 64", "sound"], 0.8),
        ("note.ogg", 0.7, ["sound"], 0.5),
        ("note.flac", 0.7, ["sound"], 0.4),
    ],
)
def test_look_says_how_much_of_a_damaged_one_plays(
    name: str, kept: float, tracks: list[str], least: float, tmp_path: Path, rustfern: Rustfern
) -> None:
    whole = recordings()[name]
    (tmp_path / name).write_bytes(whole)
    before = rustfern("look", tmp_path / name, "--json").json["recording"]
    (tmp_path / name).write_bytes(whole[: int(len(whole) * kept)])
    after = rustfern("look", tmp_path / name, "--json").json["recording"]
    assert before["seconds"] and least * before["seconds"] < after["seconds"] < before["seconds"] + 0.5
    assert all(any(each in said for said in after["tracks"]) for each in tracks)
    said = rustfern("look", tmp_path / name).out
    assert "once it is repaired" in said or "can be had" in said


@pytest.mark.parametrize("number", [2, 5])
def test_blocks_whose_cluster_lost_its_head_keep_their_times(number: int, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()["mooring.mkv"]
    marks = [found.start() for found in re.finditer(b"\x1f\x43\xb6\x75", whole)]
    made, told, run = repaired(tmp_path, rustfern, "mooring.mkv", with_hole(whole, marks[number] - 4, bytes(20)))
    assert run.status == 0 and told["state"] == "intact"

    def played(data: bytes) -> dict[bytes, int]:
        """What each block holds → when it is played."""
        found = {}
        for at in (found.start() for found in re.finditer(b"\x1f\x43\xb6\x75", data)):
            _, length, start = element(lambda place, count: data[place : place + count], at)
            time, at = 0, start
            while at < start + (length or 0):
                ident, size, inner = element(lambda place, count: data[place : place + count], at)
                body = data[inner : inner + (size or 0)]
                if ident == 0xE7:
                    time = int.from_bytes(body, "big")
                elif ident == 0xA3:
                    found[body[4:]] = time + int.from_bytes(body[1:3], "big", signed=True)
                at = inner + (size or 0)
        return found

    before, after = played(whole), played(made)
    kept = before.keys() & after.keys()
    assert len(kept) >= len(before) - 3
    assert max(abs(before[each] - after[each]) for each in kept) <= (1 if number < 5 else 150)


@pytest.mark.parametrize("name", ["note.wav", "note.aiff"])
def test_sound_whose_length_was_never_written_plays(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()[name]
    made, _, run = repaired(tmp_path, rustfern, name, whole[:4] + bytes(4) + whole[8:])
    assert run.status == 0 and whole[-12_000:] in made
    content = formats.check(io.BytesIO(made), name)
    assert content.state == "intact"
    without_head = bytes(64) + whole[64:]
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / name).write_bytes(whole)
    made, told, run = repaired(tmp_path, rustfern, name, without_head, "--like", tmp_path / "other" / name)
    assert run.status == 0 and whole[-12_000:-2] in made and any(name in each for each in told["lost"])


@pytest.mark.parametrize("kind", ["<f4", "<i2", ">i2"])
@pytest.mark.parametrize("lost", ["head", "more", "foreign"])
def test_values_of_raw_sound_are_taken_together_as_they_were(
    kind: str, lost: str, tmp_path: Path, rustfern: Rustfern
) -> None:
    time = np.arange(60_000) / 22_050
    wave = 0.4 * np.sin(300 * time) + 0.1 * np.sin(2100 * time * time)
    data = (wave if kind == "<f4" else wave * 32_767).astype(kind).tobytes()
    name, size = ("hull.aiff", 2) if kind == ">i2" else ("hull.wav", int(kind[2]))
    if kind == ">i2":
        rate = struct.pack(">HQ", 16397, 22_050 << 49)
        head = (
            b"COMM"
            + struct.pack(">IHIH", 18, 1, len(time), 16)
            + rate
            + b"SSND"
            + struct.pack(">III", len(data) + 8, 0, 0)
        )
        head = b"FORM" + struct.pack(">I", len(head) + 4 + len(data)) + b"AIFF" + head
    else:
        head = b"fmt " + struct.pack(
            "<IHHIIHH", 16, 3 if kind == "<f4" else 1, 1, 22_050, 22_050 * size, size, 8 * size
        )
        head = (
            b"RIFF"
            + struct.pack("<I", len(head) + 12 + len(data))
            + b"WAVE"
            + head
            + b"data"
            + struct.pack("<I", len(data))
        )
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / name).write_bytes(head + data)
    hurt = {
        "head": bytes(512) + (head + data)[512:],
        "more": data[1001:],
        "foreign": random.Random(3).randbytes(37) + data,
    }
    made, _, run = repaired(tmp_path, rustfern, name, hurt[lost], "--like", tmp_path / "other" / name)
    assert run.status == 0
    at = made.index(data[4000:9000])
    assert (at - made.index(b"SSND" if kind == ">i2" else b"data") - (16 if kind == ">i2" else 8)) % size == 0


@given(
    st.lists(st.tuples(st.integers(8, 60), st.sampled_from([60, 30, 15, 8, 5])), min_size=2, max_size=5),
    st.integers(1, 12),
)
def test_times_of_pictures_that_come_now_quick_now_slow(parts: list[tuple[int, int]], together: int) -> None:
    """Told by the sound among which they lie, to the length of the runs in which it was written; even ones stay even."""
    times, clock = [], 0.0
    for many, rate in parts:
        for _ in range(many):
            times.append(clock)
            clock += 1 / rate
    frame = 1024 / 48_000
    sounds = [n * frame for n in range(int(clock / frame) + 1)]
    written = [(sounds[n - n % together], 1, n) for n in range(len(sounds))] + [(t, 0, n) for n, t in enumerate(times)]
    pictures, sound = Found(), Found()
    for place, (_, kind, _) in enumerate(sorted(written)):
        (sound if kind else pictures).add(100 * place, Sample(100))
    rate = len(times) / (len(sounds) * frame)
    told = times_by_sound(pictures, sound, [frame] * len(sounds), rate)
    even = [n / rate for n in range(len(times))]
    apart = max(abs(a - b) for a, b in zip(even, times, strict=True))
    if told is None:
        assert apart < 0.5 + 6 * together * frame or len(times) < 30 or len(sounds) < 12 * together
    else:
        slack = 4 * together * frame + 2 * max(1 / rate for _, rate in parts)
        pairs = zip(told, times, strict=True)
        assert max(abs(a - b) for a, b in pairs if b < times[-1] - slack) <= slack


# --- pictures ---------------------------------------------------------------------------------------------------------


@functools.cache
def drawn(kind: str) -> bytes:
    """A picture with much detail."""
    chance = np.random.default_rng(7)
    rows = (
        np.linspace(0, 200, 240)[:, None, None]
        + 30 * np.sin(np.arange(320) / 9)[None, :, None]
        + chance.integers(0, 20, (240, 320, 3))
    )
    tint = np.array([1.0, 0.8, 0.5])
    picture = Image.fromarray(np.clip(rows * tint, 0, 255).astype(np.uint8))
    options: dict[str, Any] = {
        "plain.jpg": {"quality": 88}, "restarts.jpg": {"quality": 88, "restart_marker_rows": 1}, "progressive.jpg": {"quality": 80, "progressive": True},
        "lzw.tiff": {"compression": "tiff_lzw"}, "packed.tiff": {"compression": "tiff_adobe_deflate"},
    }.get(kind, {})  # fmt: skip
    if kind.endswith("gif"):
        picture = picture.quantize(128)
    out = io.BytesIO()
    picture.save(
        out,
        {"jpg": "JPEG", "tif": "TIFF"}.get(kind[-3:], "TIFF" if kind.endswith("tiff") else kind[-3:].upper()),
        **options,
    )
    return out.getvalue()


def exact_rows(made: bytes, whole: bytes) -> int:
    mine, theirs = (np.asarray(Image.open(io.BytesIO(each)).convert("RGB")) for each in (made, whole))
    count = min(len(mine), len(theirs))
    assert mine.shape[1:] == theirs.shape[1:]
    return int((mine[:count] == theirs[:count]).all(axis=(1, 2)).sum())


@pytest.mark.parametrize(
    ("name", "damage", "least"),
    [
        ("plain.jpg", "cut", 120), ("plain.jpg", "hole", 90), ("restarts.jpg", "hole", 170), ("restarts.jpg", "more", 200), ("progressive.jpg", "cut", 0),
        ("plain.png", "cut", 130), ("plain.png", "hole", 110), ("plain.png", "flip", 240), ("plain.png", "lines", 240), ("plain.png", "more", 70),
        ("lzw.tiff", "cut", 130), ("packed.tiff", "hole", 180), ("plain.gif", "cut", 130), ("plain.bmp", "cut", 130),
    ],
)  # fmt: skip
def test_rows_that_can_be_had_are_exact(name: str, damage: str, least: int, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = drawn(name)
    middle = len(whole) // 2
    data = {
        "flip": lambda data: data[:middle] + bytes((data[middle] ^ 4,)) + data[middle + 1 :], "lines": lambda data: data.replace(b"\n", b"\r\n"), **DAMAGES,
    }[damage](whole)  # fmt: skip
    made, told, run = repaired(tmp_path, rustfern, name, data)
    assert run.status == 0 and told["state"] == "intact" and told["format"] == name.rpartition(".")[2]
    assert exact_rows(made, whole) >= least
    assert bool(told["lost"]) is (least < 240)


def with_small_picture(whole: bytes, small: Image.Image) -> bytes:
    """A photo as cameras write it: a picture of its own in the head (Exif 2.32, 4.6.3)."""
    out = io.BytesIO()
    small.save(out, "JPEG", quality=85)
    tags = struct.pack("<HHHIIHHIIHHIII", 3, 0x103, 3, 1, 6, 0x201, 4, 1, 56, 0x202, 4, 1, out.tell(), 0)
    body = b"Exif\0\0II*\0" + struct.pack("<IHI", 8, 0, 14) + tags + out.getvalue()
    return whole[:2] + b"\xff\xe1" + struct.pack(">H", len(body) + 2) + body + whole[2:]


@pytest.mark.parametrize(
    ("name", "damage", "other", "most"),
    [
        ("plain.jpg", "cut", False, 12), ("plain.jpg", "hole", False, 12), ("restarts.jpg", "hole", False, 12), ("plain.jpg", "cut", True, None),
    ],
)  # fmt: skip
def test_lost_blocks_show_the_small_picture(
    name: str, damage: str, other: bool, most: float | None, tmp_path: Path, rustfern: Rustfern
) -> None:
    """If it is of this picture; the mean difference is told in steps of 255."""
    plain = drawn(name)
    picture = Image.open(io.BytesIO(plain))
    small = Image.effect_noise((160, 120), 90).convert("RGB") if other else picture.resize((160, 120))
    made, told, run = repaired(tmp_path, rustfern, name, DAMAGES[damage](with_small_picture(plain, small)))
    assert run.status == 0 and told["state"] == "intact"
    assert ("small picture" in told["method"]) is (most is not None)
    mine, theirs = (np.asarray(Image.open(io.BytesIO(each)).convert("L"), float) for each in (made, plain))
    assert most is None or np.abs(mine - theirs).mean() < most


@pytest.mark.parametrize(("ending", "has_small"), [("whole", True), ("cut", True), ("whole", False)])
def test_what_stands_between_two_holes_is_put_where_it_belongs(
    ending: str, has_small: bool, tmp_path: Path, rustfern: Rustfern
) -> None:
    """As the small picture shows, or where little is lost the row above."""
    chance = np.random.default_rng(4)
    scale = np.hypot(np.fft.fftfreq(900)[:, None], np.fft.rfftfreq(1200)[None]) + 1e-3
    waves = np.stack([np.fft.irfft2(np.fft.rfft2(chance.normal(size=(900, 1200))) / scale**1.3) for _ in range(3)], 2)
    picture = Image.fromarray((128 + 45 * waves / waves.std()).clip(0, 255).astype(np.uint8))
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=88)
    whole = with_small_picture(out.getvalue(), picture.resize((160, 120))) if has_small else out.getvalue()
    places = [len(whole) * share // 20 // 512 * 512 for share in (6, 10, 14)]
    lost = bytes(HOLE if has_small else 512)
    data = functools.reduce(lambda data, at: with_hole(data, at, lost), places, whole)
    data = data if ending == "whole" else data[: len(data) * 9 // 10]
    made, told, run = repaired(tmp_path, rustfern, "quay.jpg", data)
    mine, theirs = (np.asarray(Image.open(io.BytesIO(each)).convert("L"), float) for each in (made, whole))
    near = (np.abs(mine - theirs).mean(axis=1) < (2 if has_small else 8)).mean()
    assert run.status == 0 and told["state"] == "intact" and near > (0.75 if ending == "whole" else 0.6)


@pytest.mark.parametrize(
    ("number", "damage", "most"), [(0, "hole", 20), (1, "hole", 8), (3, "hole", 8), (1, "noise", 8), (3, "cut", 8), (5, "hole", 8), (1, "flip", 8)]
)  # fmt: skip
def test_scans_that_do_not_need_a_damaged_one_are_kept(
    number: int, damage: str, most: float, tmp_path: Path, rustfern: Rustfern
) -> None:
    """Of a progressive picture; the mean difference is told in steps of 255."""
    plain = drawn("progressive.jpg")
    whole = with_small_picture(plain, Image.open(io.BytesIO(plain)).resize((160, 120)))
    heads = [at for at in range(whole.rindex(b"\xff\xc2"), len(whole)) if whole[at : at + 2] == b"\xff\xda"]
    middle = (heads[number] + [*heads, len(whole)][number + 1]) // 2
    data = {
        "hole": with_hole(whole, middle // 512 * 512, bytes(512)),
        "noise": with_hole(whole, middle, random.Random(3).randbytes(200)),
        "cut": whole[:middle],
        "flip": with_hole(whole, middle, bytes((whole[middle] ^ 0x10,))),
    }[damage]
    made, told, run = repaired(tmp_path, rustfern, "quay.jpg", data)
    mine, theirs = (np.asarray(Image.open(io.BytesIO(each)).convert("L"), float) for each in (made, whole))
    assert run.status == 0 and told["state"] == "intact" and told["lost"]
    assert np.abs(mine - theirs).mean() < most
    ends = [at for at in range(made.rindex(b"\xff\xc2"), len(made)) if made[at : at + 2] == b"\xff\xda"]
    assert damage == "cut" or len(ends) > number + 1


def test_a_picture_of_which_only_the_small_one_is_left(tmp_path: Path, rustfern: Rustfern) -> None:
    plain = drawn("progressive.jpg")
    whole = with_small_picture(plain, Image.open(io.BytesIO(plain)).resize((160, 120)))
    made, told, run = repaired(
        tmp_path, rustfern, "quay.jpg", whole[: whole.index(b"\xff\xda", whole.rindex(b"\xff\xc2")) + 20]
    )
    assert (
        run.status == 0 and Image.open(io.BytesIO(made)).size == (160, 120) and "only the small one" in told["lost"][0]
    )


@pytest.mark.parametrize("damage", ["cut", "hole", "head"])
@pytest.mark.parametrize("kind", ["plain", "lossless", "clear"])
def test_rows_of_webp_that_do_not_depend_on_what_is_lost(
    kind: str, damage: str, tmp_path: Path, rustfern: Rustfern
) -> None:
    picture = Image.open(io.BytesIO(drawn("plain.png"))).convert("RGBA" if kind == "clear" else "RGB")
    if kind == "clear":
        picture.putalpha(Image.linear_gradient("L").resize(picture.size))
    out = io.BytesIO()
    picture.save(out, "WEBP", quality=85, lossless=kind == "lossless", exact=True)
    whole = out.getvalue()
    data = bytes(20) + whole[20:] if damage == "head" else DAMAGES[damage](whole)
    made, told, run = repaired(tmp_path, rustfern, "quay.webp", data)
    mine, theirs = (np.asarray(Image.open(io.BytesIO(each)).convert("RGBA")) for each in (made, whole))
    right = (mine == theirs).all(axis=(1, 2))
    assert run.status == 0 and told["state"] == "intact" and bool(told["lost"]) is (damage != "head")
    assert right.sum() >= (240 if damage == "head" else 64) and (mine[~right][..., :3] == 128).all()


@pytest.mark.parametrize("lost", [0, 1, 3])
def test_whole_pictures_of_a_sequence_are_kept(lost: int, tmp_path: Path, rustfern: Rustfern) -> None:
    picture = Image.open(io.BytesIO(drawn("plain.png")))
    out = io.BytesIO()
    turned = [picture.rotate(90 * n, expand=False) for n in range(5)]
    picture.save(out, "WEBP", save_all=True, append_images=turned[1:], quality=70, duration=200)
    whole = out.getvalue()
    starts = [at for at in range(len(whole)) if whole[at : at + 4] == b"ANMF"]
    data = whole[: starts[-lost] + 300] if lost else bytes(30) + whole[30:]
    made, _, run = repaired(tmp_path, rustfern, "quay.webp", data)
    assert run.status == 0 and Image.open(io.BytesIO(made)).n_frames == 5 - lost  # type: ignore[attr-defined]


@pytest.mark.parametrize("name", ["plain.jpg", "plain.bmp"])
def test_a_lost_head_is_that_of_a_sample(name: str, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = drawn(name)
    data = bytes(48) + whole[48:]
    _, told, run = repaired(tmp_path, rustfern, name, data)
    assert run.status == 1 and "--like" in told["message"]
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / name).write_bytes(whole)
    made, told, run = repaired(tmp_path, rustfern, name, data, "--like", tmp_path / "other" / name)
    assert run.status == 0 and exact_rows(made, whole) >= 239 and "sample" in " ".join(told["lost"])


# --- bad input --------------------------------------------------------------------------------------------------------


@given(st.binary(max_size=600), st.integers(0, 12), st.integers(0, 2))
def test_no_bytes_break_the_syntax_of_sound_and_pictures(data: bytes, rate: int, channels: int) -> None:
    sound = alac.Settings(64, 16 + 8 * (rate % 2), 40, 10, 14, max(channels, 1), 44_100)
    assert 0 <= alac.frame_length(data, sound) <= len(data)
    assert 0 <= frame_length(data, 0, rate, channels) <= max(len(data), 0)
    for coding in (Avc(), Hevc()):
        for _ in range(2):
            try:
                if coding.learn(data):
                    assert isinstance(coding.head(data or b"\0"), object)
                coding.head(data or b"\0")
            except NoUnit:
                continue


@given(st.lists(st.integers(0, 15), min_size=2, max_size=40), st.integers(1, 90000))
def test_pictures_are_shown_in_the_order_of_their_numbers(orders: list[int], step: int) -> None:
    keys = [1] + [0] * (len(orders) - 1)
    shifts, late = shifts_of([0, *orders[1:]], keys, 16, step)
    shown = sorted(n * step + shift for n, shift in enumerate(shifts))
    assert min(shifts) >= 0 and shown == [late + n * step for n in range(len(orders))]
    assert rate_of(len(orders), 25.0, 0.0) == 25.0


@settings(max_examples=60)
@given(
    st.sampled_from(["launch.mp4", "slip.avi", "mooring.mkv", "note.flac", "note.ogg", "note.mp3", "plan.jpg", "plan-restarts.jpg", "plan-progressive.jpg", "plan.png", "plan-interlaced.png", "scan-tiff_lzw.tiff", "plan.gif", "plan.bmp", "radio.aiff"]),
    st.integers(0, 1 << 30),
    st.binary(min_size=1, max_size=700),
    st.booleans(),
)  # fmt: skip
def test_what_is_written_is_whole_or_nothing_is(name: str, place: int, what: bytes, is_cut: bool) -> None:
    data = recordings()[name]
    place %= len(data)
    data = data[:place] + what + (b"" if is_cut else data[place + len(what) :])
    others = [Other(recordings()["other-launch.mp4"], "other", True, True)]
    for format_name, mend in repairers(data[:4096], name, None):
        out = io.BytesIO()
        job = Job(io.BytesIO(data), len(data), name, format_name, others=others)
        try:
            outcome = mend(job, out)
        except Malformed:
            continue
        content = formats.check(out, f"made.{outcome.format}", digest=False)
        assert content.format is not None
