"""FLAC that is cut off or has holes: frames of any number come back, those of other recordings do not, and sums are taken right."""

from __future__ import annotations

import io
import random
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st

from rustfern.formats import registry as formats
from rustfern.formats.media.flac import crc8, crc16, frame_header, moved_on, sums_of
from rustfern.repair.recordings.flac import _renumbered, coded_number

Rustfern = Callable[..., Run]
SAMPLES = 4608


def frame(number: int, body: bytes, *, bits: int = 4) -> bytes:
    """A frame of one channel: 4608 samples at 44.1 kHz (RFC 9639, 9.1)."""
    head = b"\xff\xf8\x59" + bytes((bits << 1,)) + coded_number(number)
    head += bytes((crc8(head),))
    return head + body + crc16(head + body).to_bytes(2, "big")


def silent(number: int) -> bytes:
    """One whose only subframe is a constant."""
    return frame(number, b"\0\0\0")


def coded(number: int, other: int = 0) -> bytes:
    """One of the length that coded sound has."""
    return frame(number, b"\2" + random.Random(number * 7 + other).randbytes(300))


def recording(frames: list[bytes]) -> bytes:
    """Frames behind a description that does not count them, as a recorder leaves it that never came to its end."""
    told = (44100 << 44 | 15 << 36).to_bytes(8, "big")
    return b"fLaC\x80\0\0\x22" + SAMPLES.to_bytes(2, "big") * 2 + bytes(6) + told + bytes(16) + b"".join(frames)


FRAMES = [silent(n) if n % 7 < 3 else coded(n) for n in range(2200)]
OTHERS = [coded(n, 1) for n in range(40, 60)]


@pytest.mark.parametrize(
    ("what", "data", "kept"),
    [
        ("cut", recording([*FRAMES[:700], coded(700)[:90]]), range(700)),
        ("hole", recording([*FRAMES[:100], coded(100)[:50], bytes(512), *FRAMES[103:]]), [*range(100), *range(103, 2200)]),
        ("another's", recording([*FRAMES[:300], coded(300)[:20], *OTHERS, coded(9)[30:], *FRAMES[310:]]), [*range(300), *range(310, 2200)]),
        ("more behind", recording([*FRAMES[:200], coded(200)[:99], *FRAMES[201:400], b"TAG" + bytes(125)]), [*range(200), *range(201, 400)]),
    ],
)  # fmt: skip
def test_frames_of_any_number_come_back(
    what: str, data: bytes, kept: range | list[int], tmp_path: Path, rustfern: Rustfern
) -> None:
    (tmp_path / "talk.flac").write_bytes(data)
    run = rustfern("repair", tmp_path / "talk.flac", "--to", tmp_path / "out", "--json")
    assert run.status == 0, run.stderr
    (path,) = (tmp_path / "out").iterdir()
    made = path.read_bytes()
    assert formats.check(io.BytesIO(made), "talk.flac").amounts["samples"] == SAMPLES * len(kept)
    wanted = [_renumbered(FRAMES[n], count, frame_header(FRAMES[n], 0).length) for count, n in enumerate(kept)]  # type: ignore[union-attr]
    assert made[42:] == b"".join(wanted)


@given(st.lists(st.binary(min_size=1, max_size=1500), max_size=12))
def test_sums_side_by_side(bodies: list[bytes]) -> None:
    assert sums_of(bodies) == [crc16(each) for each in bodies]


@given(st.binary(max_size=60), st.integers(0, 3000))
def test_sums_behind_zeros(body: bytes, count: int) -> None:
    assert moved_on(crc16(body), count) == crc16(body + bytes(count))


@given(st.integers(0, (1 << 36) - 1), st.integers(0, (1 << 31) - 1), st.binary(min_size=3, max_size=40))
def test_numbers_as_headers_hold_them(number: int, other: int, body: bytes) -> None:
    if number < 0xD800:
        assert coded_number(number) == chr(number).encode()
    made = frame(other, body)
    told = frame_header(made, 0)
    assert told is not None and told.number == other
    again = _renumbered(made, number, told.length)
    assert crc16(again) == 0 and again.endswith(body + again[-2:])
    now = frame_header(again, 0)
    assert now is not None and now.number == number
