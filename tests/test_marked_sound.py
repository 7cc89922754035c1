"""Sound beside pictures whose frames say themselves how they are coded: found, and described, without a sample."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from conftest import Run
from test_flac_frames import coded
from test_torn_media import recordings, repaired, samples, small_jpeg, tracks

from rustfern.formats.media.audio import mp3_frame_length
from rustfern.repair.recordings.more_ways import ac3_frame_length

Rustfern = Callable[..., Run]


def frames(name: str) -> Iterator[bytes]:
    """The frames of a sound by a real encoder; of FLAC, made ones with right sums."""
    if name == "flac":
        yield from (coded(n) for n in range(30))
        return
    data, at = recordings()[f"hull.{name}"], 0
    while length := (mp3_frame_length if name == "mp3" else ac3_frame_length)(data[at : at + 8].ljust(8, b"\0")):
        yield data[at : at + length]
        at += length


@pytest.mark.parametrize(
    ("name", "coding", "channels", "rate", "step"),
    [
        ("ac3", b"ac-3", 2, 48_000, 1536),
        ("eac3", b"ec-3", 1, 44_100, 1536),
        ("mp3", b".mp3", 1, 24_000, 576),
        ("flac", b"fLaC", 1, 44_100, 4608),
    ],
)
def test_frames_describe_themselves(
    name: str, coding: bytes, channels: int, rate: int, step: int, tmp_path: Path, rustfern: Rustfern
) -> None:
    sound = [each for each in frames(name) if len(each) > 20]
    sound = (sound * 3)[:60]
    data = b"".join(small_jpeg() + b"".join(sound[2 * n : 2 * n + 2]) for n in range(30))
    made, told, run = repaired(tmp_path, rustfern, "hull.mov", b"\0\0\0\x14ftypqt  \0\0\2\0qt  \0\0\0\0mdat" + data)
    assert run.status == 0 and told["state"] == "intact", told
    assert samples(made, b"soun") == sound and len(samples(made, b"vide")) == 30
    (track,) = [each for each in tracks(made) if each.kind == b"soun"]
    assert (track.coding, track.scale, track.step) == (coding, rate, step)
    assert int.from_bytes(track.entry[24:26], "big") == channels
