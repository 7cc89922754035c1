"""Looking before restoring: how two copies differ, a document's life, words, any file; all on the built command."""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, by_name, docx, odt, write
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from rustfern.formats.text_sink import Piece
from rustfern.operations import alignment
from rustfern.operations.text_diff import compare, compare_pieces

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
OLD = [
    "Hull survey of Kittiwake",
    "Larch on oak, carvel built, topsides fair",
    "Two graving pieces at the port bow",
    "Keel bolts not drawn",
]
NEW = [
    "Hull survey of Kittiwake",
    "Larch on oak, carvel built, topsides fair and dry",
    "Keel bolts not drawn",
    "Garboard seam weeping at frame seven",
]
CELLS = st.lists(
    st.tuples(st.integers(1, 9), st.integers(1, 3), st.text("ab c", max_size=5)),
    max_size=12,
    unique_by=lambda cell: cell[:2],
)
PIECES = st.lists(st.text("ab c", min_size=1, max_size=9), max_size=8)


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    top = tmp_path / "disk" / "home/ines"
    write(top / ".config/x", "")
    write(top / "Documents/survey.odt", odt(*OLD), T0)
    write(top / "Documents/survey.odt~", odt(*OLD[:2]), T0 - 600)
    write(top / ".config/libreoffice/4/user/backup/survey.odt_0.odt", odt(*NEW), T0 + 900)
    write(top / "Documents/.~lock.survey.odt#", ",Ines Varga,slipway-pc2,21.09.2026 14:18,file:///x;", T0 + 300)
    return tmp_path / "disk"


def test_two_copies_are_compared_word_by_word(disk: Path, rustfern: Rustfern) -> None:
    document = by_name(rustfern("scan", disk, "--json").json, "survey.odt")
    saved = next(c["id"] for c in document["copies"] if c["kind"] == "saved")
    run = rustfern("look", saved, document["best"])
    text = " ".join(run.out.split())
    assert run.status == 0 and f"{document['best']} has 7 words more, 6 fewer than {saved}" in text
    assert "+ Garboard seam weeping at frame seven" in text and "− Two graving pieces at the port bow" in text
    assert "± Larch on oak, carvel built, topsides fair [+and dry]" in text
    assert "Keel bolts" not in run.out and f"restore {document['best']} --to DIR" in run.out
    found = rustfern("look", saved, document["best"], "--json").json
    assert (found["more"], found["fewer"], found["same"]) == (7, 6, 16)
    assert [change["kind"] for change in found["changes"]] == ["changed", "removed", "added"]
    same = rustfern("look", saved, saved).out
    assert "They are the same to the last byte" in same


def test_a_documents_life_stands_on_one_line_of_time(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    rustfern("scan", disk)
    shown = rustfern("look", "1").out.splitlines()
    rows = [line for line in shown[3:] if "2026-" in line and any(sign in line for sign in "◆■├▶")]
    assert [row.split()[1] for row in rows] == ["backup", "saved", "opened", "autosave"]
    marks = [max(row.find(sign) for sign in "◆■├▶") for row in rows]
    assert marks == sorted(marks) and marks[-1] - marks[0] > 20 and "▶" in rows[-1]
    for name in ("life.png", "life.svg"):
        run = rustfern("look", "1", "--figure", tmp_path / name)
        assert run.status == 0 and name in run.out
    with Image.open(tmp_path / "life.png") as picture:
        assert picture.width >= 1000
    drawing = (tmp_path / "life.svg").read_text()
    assert "<svg" in drawing
    events = rustfern("look", "1", "--json").json["life"]
    assert [event["chosen"] for event in events] == [False, False, False, True]
    wrong = rustfern("look", "1", "--figure", tmp_path / "life.doc")
    assert wrong.status == 2 and ".png or .svg" in wrong.err
    assert rustfern("look", "1a", "--figure", tmp_path / "x.png").status == 1


def test_words_in_a_copy_and_all_of_its_text(disk: Path, rustfern: Rustfern) -> None:
    document = by_name(rustfern("scan", disk, "--json").json, "survey.odt")
    found = rustfern("look", document["best"], "--words", "GARBOARD seven")
    assert found.status == 0 and "1 of 4 lines" in found.out and "weeping" in found.out
    assert rustfern("look", document["best"], "--words", "rudder").status == 1
    assert rustfern("look", document["best"], "--text").out.split("\n")[:4] == NEW


def test_any_file_can_be_looked_at_and_compared(tmp_path: Path, rustfern: Rustfern) -> None:
    one = write(tmp_path / "one.docx", docx("Keel bolts drawn", "Rudder \u202e sound"))
    two = write(tmp_path / "two.odt", odt("Keel bolts drawn", "Rudder worn"))
    shown = rustfern("look", one)
    assert (
        shown.status == 0 and "OOXML text" in shown.out and "Keel bolts drawn" in shown.out and "\\u202e" in shown.out
    )
    assert f"{two} has 1 word more, 1 fewer than {one}" in rustfern("look", one, two, COLUMNS="400").out
    broken = write(tmp_path / "broken.docx", docx("Keel bolts drawn " * 80)[:300])
    assert "damaged: " in rustfern("look", broken).out
    assert rustfern("look", tmp_path / "none.docx").status == 1
    assert rustfern("look", one, two, broken).status == 2
    pictures = []
    for name, colour in (("a.png", 9), ("b.png", 9), ("c.png", 80)):
        buffer = io.BytesIO()
        Image.new("RGB", (30, 20), (colour, 0, 0)).save(buffer, "PNG", compress_level=9 if name == "a.png" else 0)
        pictures.append(write(tmp_path / name, buffer.getvalue()))
    assert "the same pixels" in rustfern("look", pictures[0], pictures[1]).out
    assert "100.0% of the pixels differ" in rustfern("look", pictures[0], pictures[2]).out


def test_large_logs_are_compared_to_their_end(tmp_path: Path, rustfern: Rustfern) -> None:
    lines = [f"{number} {'larch oak keel '[number % 3 :] * 4}hull" for number in range(60_000)]
    one = write(tmp_path / "yard.log", "\n".join(lines) + "\n")
    lines[40] += " seam"
    lines[50_000:50_000] = ["Kittiwake hauled out", "Petrel launched"]
    del lines[59_990]
    two = write(tmp_path / "yard2.log", "\r\n".join(lines) + "\r\n")
    found = rustfern("look", one, two, "--json").json
    assert [(c["kind"], c["at"]) for c in found["changes"]] == [
        ("changed", 41),
        ("added", 50_001),
        ("added", 50_002),
        ("removed", 59_989),
    ]
    assert found["more"] == 6 and found["notice"] is None
    assert "1 changed, 2 added, 1 removed" in rustfern("look", one, two).out
    small = write(tmp_path / "small.docx", docx("Keel bolts drawn"))
    assert rustfern("look", one, small, "--json").json["more"] == 2


LINES = st.lists(st.sampled_from([b"keel", b"", b"hull", b"1", b"2", b"3", b"4"]), max_size=40)


@given(LINES, LINES, LINES)
def test_lines_are_led_from_one_side_to_the_other(before: list[bytes], left: list[bytes], right: list[bytes]) -> None:
    """What lies outside of the differences is the same on both sides, whatever comes again."""
    old, new = before + left + before, before + right + before
    made, at, there = [], 0, 0
    for a, b, c, d in alignment.gaps(old, new):
        assert old[at:a] == new[there:c]
        made += old[at:a] + new[c:d]
        at, there = b, d
    assert made + old[at:] == new


@pytest.mark.parametrize("cut", [True, False])
def test_what_was_read_up_to_a_cut_is_no_difference_behind_it(cut: bool) -> None:
    sheet = [
        Piece(f"{row} {column}", "cell", section="Orders", spot=(0, row, column))
        for row in range(1, 9)
        for column in (1, 2)
    ]
    text = [Piece(f"Frame {number}", "line") for number in range(9)]
    for pieces in (sheet, text):
        found = compare_pieces(pieces[:-3], pieces, cut=cut).changes
        assert bool(found) is not cut


@given(PIECES, PIECES)
def test_changes_lead_from_one_text_to_the_other(left: list[str], right: list[str]) -> None:
    found = compare(left, right)
    back = compare(right, left)
    assert (found.more, found.fewer, found.same) == (back.fewer, back.more, back.same)
    if left == right:
        assert not found.changes and found.more == found.fewer == 0
    else:
        assert found.changes
    for change in found.changes:
        side = left if change.kind == "removed" else right
        wanted = "removed" if change.kind == "removed" else "added"
        kept = " ".join(run.text for run in change.runs if run.kind in ("same", wanted)).split()
        assert kept == side[change.at - 1].split()


@given(CELLS, CELLS)
def test_words_are_counted_wherever_they_stand(a: list[tuple[int, int, str]], b: list[tuple[int, int, str]]) -> None:
    """Cells in any order, fields and lines among them."""
    left, right = (
        [
            Piece(text, "cell", section="Orders", spot=(0, row, column))
            if row < 7
            else Piece(text, "field" if row == 7 else "line", label=str(column))
            for row, column, text in side
        ]
        for side in (a, b)
    )
    found = compare_pieces(left, right)
    old, new = (Counter(" ".join(piece.text for piece in side).split()) for side in (left, right))
    wanted = (new - old).total(), (old - new).total(), (old & new).total()
    assert (found.more, found.fewer, found.same) == wanted


def test_long_sheets_differ_where_they_do() -> None:
    """Ten thousand rows, one put in, one taken out, some changed far apart."""
    rows = [(str(number), f"plank {number % 90}", "oak") for number in range(10_000)]
    other = [("x", "larch", "new"), *rows[:4000], *rows[4001:]]
    for number in (500, 5_000, 9_000):
        other[number] = (other[number][0], "drawn", other[number][2])
    left, right = (
        [
            Piece(text, "cell", section="Orders", spot=(0, row, column))
            for row, cells in enumerate(side, 1)
            for column, text in enumerate(cells, 1)
        ]
        for side in (rows, other)
    )
    found = compare_pieces(left, right).changes
    assert [(each.kind, each.where) for each in found] == [
        ("added", "Orders row 1"), ("changed", "Orders!B501"), ("removed", "Orders row 4001"), ("changed", "Orders!B5001"),
        ("changed", "Orders!B9001"),
    ]  # fmt: skip
