"""Recordings in fragments: what their tables say is followed to the last sample, and what is whole comes back, whichever fragment is damaged."""

from __future__ import annotations

import contextlib
import io
import re
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st
from test_torn_media import recordings, repaired, samples, with_hole

from rustfern.core.errors import Malformed
from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.formats.media.fragments import runs_of, usual_of
from rustfern.repair.interface import Job
from rustfern.repair.recordings import movie
from rustfern.repair.recordings.fragments import fragments_in
from rustfern.repair.recordings.layout import layout_of
from rustfern.repair.recordings.window import Window

Rustfern = Callable[..., Run]
WHOLE = recordings()["mooring-fragments.mp4"]
AT = [found.start() - 4 for found in re.finditer(b"moof", WHOLE)]
END = WHOLE.rindex(b"mfra") - 4


def coded(data: bytes, kind: bytes) -> list[tuple[int, bytes]]:
    """(place, bytes) of the samples of a track."""
    window = Window(io.BytesIO(data), len(data))
    found = fragments_in(window, layout_of(window).moov, b"", lambda: None)
    assert found is not None
    (track,) = [each for each in found.tracks if each.kind == kind]
    return [(at, data[at : at + size]) for at, size in zip(track.places, track.sizes, strict=True)]


PICTURES, SOUNDS = coded(WHOLE, b"vide"), coded(WHOLE, b"soun")
CUT, ZEROS = AT[3] + 3000, with_hole(WHOLE, AT[1] + 2500, bytes(300))
INSERTED = WHOLE[: AT[0]] + b"\0\0\0\x10free" + bytes(8) + WHOLE[AT[0] :]
TWICE = WHOLE[: AT[3]] + WHOLE[AT[1] : AT[2]] + WHOLE[AT[3] : CUT]


def outside(start: int, end: int) -> Callable[[int, int], bool]:
    return lambda at, size: at + size <= start or at >= end


@pytest.mark.parametrize(
    ("what", "data", "is_kept", "said"),
    [
        ("cut inside a fragment", WHOLE[:CUT], outside(CUT, 1 << 30), "picture"),
        ("tables of one lost", with_hole(WHOLE, AT[2] - 8, bytes(200)), outside(AT[2] - 8, AT[3]), "10 pictures"),
        ("zeros in one", ZEROS, outside(AT[1] + 2500, AT[1] + 2800), "picture"),
        ("bytes put in before", INSERTED, outside(0, 0), ""),
        ("an earlier one again, and cut", TWICE, outside(CUT, 1 << 30), "picture"),
    ],
)
def test_what_is_whole_of_every_fragment_comes_back(
    what: str, data: bytes, is_kept: Callable[[int, int], bool], said: str, tmp_path: Path, rustfern: Rustfern
) -> None:
    assert formats.check(io.BytesIO(data), "mooring.mp4").state == "damaged"
    made, told, run = repaired(tmp_path, rustfern, "mooring.mp4", data)
    assert run.status == 0 and told["state"] == "intact" and said in " ".join(told["lost"]), told
    for kind, all_of_it in ((b"vide", PICTURES), (b"soun", SOUNDS)):
        kept = [body for at, body in all_of_it if is_kept(at, len(body))]
        back = samples(made, kind)
        # For lost pictures small ones stand in.
        assert [each for each in back if each in set(kept)] == kept
        assert kind == b"vide" or len(back) == len(kept)


def test_without_its_first_tables_a_sample_tells_how_it_is_read(tmp_path: Path, rustfern: Rustfern) -> None:
    (tmp_path / "healthy").mkdir()
    sample = tmp_path / "healthy" / "other-mooring.mp4"
    sample.write_bytes(WHOLE)
    made, told, run = repaired(tmp_path, rustfern, "mooring.mp4", bytes(900) + WHOLE[900:END], "--like", sample)
    assert run.status == 0 and told["state"] == "intact"
    assert samples(made, b"vide") == [body for _, body in PICTURES]
    assert samples(made, b"soun") == [body for _, body in SOUNDS]


@given(st.integers(AT[0], END - 1), st.integers(1, 255), st.integers(0, 3))
def test_any_byte_of_a_fragment_may_be_wrong(place: int, change: int, many: int) -> None:
    data = bytearray(WHOLE)
    for n in range(many + 1):
        at = AT[0] + (place - AT[0] + 977 * n) % (END - AT[0])
        data[at] ^= change
    usual = usual_of(layout_of(Window(io.BytesIO(WHOLE), len(WHOLE))).moov)
    with contextlib.suppress(Malformed):
        for run in runs_of(bytes(data[AT[0] + 8 : AT[1]]), AT[0], usual):
            assert len(run.sizes) == len(run.lasting) == len(run.shifts) == len(run.keys)
    assert formats.check(io.BytesIO(data), "mooring.mp4").state in ("intact", "damaged", "unreadable")
    with contextlib.suppress(Malformed):
        movie.repair(Job(io.BytesIO(data), len(data), "mooring.mp4", "mp4"), io.BytesIO())


def test_the_first_tables_alone_are_whole_and_empty() -> None:
    data = WHOLE[: AT[0]]
    content = formats.check(io.BytesIO(data), "a.mp4")
    assert content.state is State.EMPTY and "fragments" in content.reason
    assert formats.check(io.BytesIO(data[:-20]), "a.mp4").state is State.DAMAGED
    assert formats.check(io.BytesIO(data + b"\0\0\x10\0mdat" + bytes(4088)), "a.mp4").state is State.DAMAGED
