"""Pictures that stand in for lost ones among real ones: how many, in what order, and that a decoder has nothing to complain of."""

from __future__ import annotations

import io
import random
import re
from array import array
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_torn_media import Rustfern, recordings, repaired, tracks

from rustfern.core.errors import Malformed
from rustfern.formats.media.arithmetic import CodeWriter
from rustfern.formats.media.audio import element
from rustfern.formats.media.coded_video import Avc, NoUnit, settings_of
from rustfern.formats.media.frame import can_show
from rustfern.formats.media.hevc_code import Code, contexts
from rustfern.repair.interface import Budget
from rustfern.repair.recordings import holes
from rustfern.repair.recordings.holes import Film, Mended, mended
from rustfern.repair.recordings.settings import size_of
from rustfern.repair.recordings.showing import Around, missing_orders, whole_order
from rustfern.repair.recordings.stand_ins import Filler, Lost
from rustfern.repair.recordings.trial import tried
from rustfern.repair.recordings.window import MADE, Window
from rustfern.repair.recordings.write import Written, box, entry_of_units, write


@given(st.lists(st.tuples(st.integers(0, 3), st.booleans(), st.booleans()), max_size=300), st.integers(0, 51))
def test_what_is_written_as_arithmetic_code_is_read_again(
    decisions: list[tuple[int, bool, bool]], quality: int
) -> None:
    written = CodeWriter(bytearray(contexts(1, quality)))
    for context, value, asks in decisions:
        written.decision(context, int(value))
        if asks:
            written.end(is_last=False)
    written.end(is_last=True)
    read = Code(written.whole_bytes().replace(b"\0\0\3", b"\0\0\3\3") + b"\x80", bytearray(contexts(1, quality)))
    for context, value, asks in decisions:
        assert read.decision(context) == value
        assert not asks or not read.is_end()
    assert read.is_end() and read.states == written.states


class Reel:
    """The pictures of a recording, some of them gone: those with the numbers of `gone` are never read."""

    def __init__(self, name: str, gone: range) -> None:
        data = recordings()[name]
        self.window = Window(io.BytesIO(data), len(data))
        self.track = next(each for each in tracks(data) if each.kind == b"vide")
        count = len(self.track.places)
        self.left = [n for n in range(count) if n not in gone]
        self.keys = [self.track.keys is None or n + 1 in self.track.keys for n in range(count)]
        self.gap = next((place for place, (a, b) in enumerate(pairwise(self.left), 1) if b > a + 1), 0)

    def film(self) -> Film:
        return Film(
            self.window, self.track.entry, *size_of(self.track), [self.track.places[n] for n in self.left],
            [self.track.sizes[n] for n in self.left], [self.keys[n] for n in self.left],
        )  # fmt: skip

    def lost(self, *, is_sure: bool, about: int = 0) -> dict[int, Lost]:
        """What is known of the hole."""
        last, following = self.left[self.gap - 1 : self.gap + 1]
        missing = range(last + 1, following)
        since = next((following - n for n in reversed(missing) if self.keys[n]), 0) if is_sure else 0
        return {self.gap: Lost(about or len(missing), is_sure, since)}

    def complaints(self, mend: Mended) -> int:
        """How many pictures a decoder complains of, those that stand in too."""
        film, places, sizes = self.film(), array("Q"), array("I")
        for n, place in enumerate(film.places):
            for each in mend.made.get(n, ()):
                places.append(each.place)
                sizes.append(each.size)
            if n not in mend.out:
                places.append(place)
                sizes.append(film.sizes[n])
        told = tried(film.window, film.entry, film.width, film.height, places, sizes, Budget())
        assert told is not None and told.shown >= len(places) - 2
        return sum(told.complaints)


HOLES = [
    ("launch.mp4", range(30, 31)), ("launch.mp4", range(33, 40)), ("two-sounds.mp4", range(7, 12)), ("two-sounds.mp4", range(20, 21)),
    ("yard-plain.mp4", range(5, 9)), ("yard-plain.mp4", range(30, 33)), ("yard-pairs.mp4", range(9, 11)), ("yard-pairs.mp4", range(12, 20)),
    ("crane.mp4", range(3, 4)), ("crane.mp4", range(10, 17)), ("yard-deep.mp4", range(6, 9)), ("yard-deep.mp4", range(18, 20)), ("slip-hevc.mp4", range(4, 6)),
]  # fmt: skip


@pytest.mark.parametrize("is_sure", [True, False])
@pytest.mark.parametrize(("name", "gone"), HOLES)
def test_as_many_stand_in_as_are_lost(name: str, gone: range, is_sure: bool) -> None:
    reel = Reel(name, gone)
    film = reel.film()
    filler = Filler(film.window, film.entry, film.places, film.sizes, film.keys)
    numbers = range(len(film.places))
    lost = reel.lost(is_sure=is_sure, about=0 if is_sure else len(gone) + 1)
    made = filler.filled(numbers, lost)[reel.gap]
    assert len(made) == len(gone) and all(each.place >= MADE for each in made)
    # They take the places in the order of showing that the lost ones had.
    whole = Reel(name, range(0)).film()
    heads = Filler(whole.window, whole.entry, whole.places, whole.sizes, whole.keys)
    assert sorted(each.order for each in made) == sorted(heads._head(n).order for n in gone)
    if can_show():
        assert reel.complaints(Mended(made={reel.gap: made})) == 0


@pytest.mark.parametrize("is_sure", [True, False])
def test_a_lost_picture_that_needed_no_other(is_sure: bool) -> None:
    name = "yard-plain.mp4"  # one every 24 pictures
    reel = Reel(name, range(22, 27))
    film = reel.film()
    filler = Filler(film.window, film.entry, film.places, film.sizes, film.keys)
    made = filler.filled(range(len(film.places)), reel.lost(is_sure=is_sure)).get(reel.gap, [])
    if is_sure:
        assert len(made) == 5
    if made and can_show():
        assert reel.complaints(Mended(made={reel.gap: made})) == 0


def test_what_is_asked_for_strictly_or_cannot_be_told_is_left_out_or_said() -> None:
    reel = Reel("crane.mp4", range(10, 12))
    count = len(reel.left)
    strictly = mended(reel.film(), reel.lost(is_sure=True), strict=True, budget=Budget())
    assert strictly.out == {*range(10, count)} and not strictly.made and not strictly.wrong
    plain = mended(reel.film(), reel.lost(is_sure=True), strict=False, budget=Budget())
    assert not plain.out and plain.wrong == {*range(10, count)} and len(plain.made[10]) == 2
    # H.265 begins its order anew with such a picture only: nothing can stand in for it.
    filler = Filler(*[getattr(reel.film(), each) for each in ("window", "entry", "places", "sizes", "keys")])
    assert filler.filled(range(count), {10: Lost(2, is_sure=True, since_key=1)}) == {}


@pytest.mark.skipif(not can_show(), reason="no decoder is installed")
def test_a_picture_in_whose_bytes_something_else_stands_is_found(monkeypatch: pytest.MonkeyPatch) -> None:
    data = bytearray(recordings()["launch.mp4"])
    track = next(each for each in tracks(bytes(data)) if each.kind == b"vide")
    number = next(n for n in range(3, 40) if track.sizes[n] > 400 and track.keys and n + 1 not in track.keys)
    at = track.places[number] + track.sizes[number] // 3
    data[at : at + 120] = bytes(range(60, 180))
    film = Film(
        Window(io.BytesIO(bytes(data)), len(data)), track.entry, *size_of(track), list(track.places), list(track.sizes),
        [n + 1 in (track.keys or ()) for n in range(len(track.places))],
    )  # fmt: skip
    found = mended(film, {}, strict=False, budget=Budget())
    assert not found.out - {number} and (found.out == {number} or min(found.wrong) == number)
    # Where it complains of much, it does not know how they are coded.
    monkeypatch.setattr(holes, "_SOME", -1)
    monkeypatch.setattr(holes, "_SHARE", 0.0)
    assert mended(film, {}, strict=False, budget=Budget()) == Mended()


@pytest.mark.parametrize(
    ("before", "after", "many", "found"),
    [
        ([0, 8, 4, 2, 6, 16, 12], [10, 14, 24, 20, 18, 22], None, []),
        ([0, 8, 4, 2, 6, 16], [24, 20, 18, 22], None, [10, 12, 14]),
        ([0, 2, 4], [], 2, [6, 8]),
        ([0, 4], [3, 1, 9, 7, 6, 8], None, [2, 5]),
        ([0, 2, 4, 6], [10, 12, 14], 1, [8]),
    ],
)
def test_places_that_nothing_takes(before: list[int], after: list[int], many: int | None, found: list[int]) -> None:
    assert missing_orders(before, after, many, Around(until=len(after))) == found


def test_places_before_the_next_hole() -> None:
    # 22 to 26 may be lost in the next hole.
    assert missing_orders([*range(0, 13, 2)], [18, 16, 28, 20, 40, 42], None, Around(False, 4, True)) == [14]


def test_places_that_cannot_be_told() -> None:
    with pytest.raises(NoUnit):
        missing_orders([0], [], 3, Around())
    with pytest.raises(NoUnit):  # unevenly apart
        missing_orders([0, 2, 4, 7, 8, 10], [14, 16], None, Around(until=2))
    assert [whole_order(low, last, 16) for low, last in ((2, 14), (14, 18), (0, 0), (15, 0))] == [18, 14, 0, -1]


def test_what_was_made_lies_behind_the_picture_before_it() -> None:
    window = Window(io.BytesIO(b"AAAABBBBCCCC"), 12)
    made = window.keep(b"xyz")
    track = Written(
        b"vide", b"\0\0\0\x10made" + bytes(8), 25, 1, 1, array("Q", [0, made, 8]), array("I", [4, 3, 4]), array("I", [1] * 3), array("q"),
        array("b"),
    )  # fmt: skip
    out = io.BytesIO()
    write(out, window, box(b"ftyp"), [track], lambda: None)
    assert out.getvalue().endswith(b"AAAAxyzCCCC")


def test_settings_that_nothing_follows() -> None:
    (coding, width) = settings_of(
        next(each for each in tracks(recordings()["launch.mp4"]) if each.kind == b"vide").entry
    )
    assert isinstance(coding, Avc)
    entry = entry_of_units(coding)
    assert entry is not None
    again, wide = settings_of(entry)
    assert isinstance(again, Avc) and (wide, again.sets, again.pictures) == (width, coding.sets, coding.pictures)


@pytest.mark.parametrize("how", ["zeros", "noise"])
def test_pictures_stand_in_among_blocks(how: str, tmp_path: Path, rustfern: Rustfern) -> None:
    whole = recordings()["mooring.mkv"]
    at = len(whole) // 2
    hole = bytes(1500) if how == "zeros" else random.Random(2).randbytes(1500)
    made, told, run = repaired(tmp_path, rustfern, "mooring.mkv", whole[:at] + hole + whole[at + 1500 :])
    assert run.status == 0 and told["state"] == "intact" and "shown again" in told["method"]
    assert any("pictures" in each for each in told["lost"])
    frames, theirs = (list(blocks(each)) for each in (made, whole))
    assert sorted(time for time, _ in frames) == pytest.approx(sorted(time for time, _ in theirs), abs=2)
    kept = {data for _, data in theirs if data in whole[:at] or data in whole[at + 1500 :]}
    assert len(kept & {data for _, data in frames}) >= len(kept) - 1


def blocks(data: bytes) -> Iterator[tuple[int, bytes]]:
    """(ticks from the start, picture) of the first track of a Matroska recording."""
    for cluster in re.finditer(rb"\x1f\x43\xb6\x75", data):
        time, at = 0, element(lambda at, count: data[at : at + count], cluster.start())[2]
        while at < len(data):
            try:
                ident, length, start = element(lambda at, count: data[at : at + count], at)
            except Malformed:
                break
            if length is None or ident in (0x1F43B675, 0x1C53BB6B):
                break
            body = data[start : start + length]
            if ident == 0xE7:
                time = int.from_bytes(body, "big")
            inner = body if ident == 0xA3 else body[body.find(b"\xa1") :][2:] if ident == 0xA0 else b""
            if inner[:1] == b"\x81":
                yield time + int.from_bytes(inner[1:3], "big", signed=True), inner[4:]
            at = start + length
