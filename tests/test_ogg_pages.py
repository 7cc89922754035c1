"""Ogg that is cut off or has holes: the packets of a damaged page that are whole come back, and a lost head is a sample's."""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st
from test_torn_media import recordings, repaired, with_hole

from rustfern.core.errors import Malformed
from rustfern.repair.interface import Job
from rustfern.repair.recordings.ogg import _pages_of, repair_ogg

Rustfern = Callable[..., Run]
WHOLE = recordings()["note.ogg"]


def packets(data: bytes) -> list[bytes]:
    """The packets of the only stream."""
    found, begun = [], b""
    for page in _pages_of(data):
        start = 0
        for length in page.lengths:
            begun += page.body[start : start + length]
            start += length
            if length < 255:
                found.append(begun)
                begun = b""
    return found


ALL = packets(WHOLE)


@pytest.mark.parametrize(
    ("what", "data", "like", "least"),
    [
        ("cut", WHOLE[: len(WHOLE) * 7 // 10], False, 0.55),
        ("hole", with_hole(WHOLE, len(WHOLE) * 6 // 10, bytes(900)), False, 0.85),
        ("zeros at the end", WHOLE[:-900] + bytes(900), False, 0.85),
        ("head", bytes(300) + WHOLE[300:], True, 0.9),
    ],
)
def test_whole_packets_come_back(
    what: str, data: bytes, like: bool, least: float, tmp_path: Path, rustfern: Rustfern
) -> None:
    (tmp_path / "healthy").mkdir()
    sample = tmp_path / "healthy" / "other.ogg"
    sample.write_bytes(WHOLE)
    made, told, run = repaired(tmp_path, rustfern, "note.ogg", data, *(("--like", sample) if like else ()))
    assert run.status == 0 and told["state"] == "intact" and told["lost"]
    back = packets(made)
    assert back[:3] == ALL[:3] and set(back) <= set(ALL) and len(back) >= least * len(ALL)
    if like:
        assert any("other.ogg" in each for each in told["lost"])
        (tmp_path / "alone").mkdir()
        (tmp_path / "alone" / "note.ogg").write_bytes(data)
        refused = rustfern("repair", tmp_path / "alone" / "note.ogg", "--to", tmp_path / "more", "--json").json[
            "refused"
        ]
        assert "--like" in refused[0]["message"]


def test_recordings_one_behind_the_other_stay(tmp_path: Path, rustfern: Rustfern) -> None:
    """As radio is recorded: each piece is a stream of its own."""
    second = b"".join(
        page.written(number, page.kind)
        for number, page in enumerate(msgspec.structs.replace(each, stream=7) for each in _pages_of(WHOLE))
    )
    made, _, run = repaired(tmp_path, rustfern, "note.ogg", (WHOLE + second)[:-40])
    assert run.status == 0 and packets(made)[: len(ALL)] == ALL and len(packets(made)) > 1.9 * len(ALL)


@given(st.integers(0, len(WHOLE) - 1), st.integers(1, 2000), st.sampled_from([b"\0", b"\xff", b"OggS\0"]))
def test_any_damage_only_loses_packets(at: int, many: int, what: bytes) -> None:
    data = with_hole(WHOLE, at, (what * many)[: len(WHOLE) - at])
    out = io.BytesIO()
    try:
        repair_ogg(Job(io.BytesIO(data), len(data), "note.ogg", "ogg"), out)
    except Malformed:
        return
    if what != b"\xff":
        assert set(packets(out.getvalue())) <= set(ALL)
