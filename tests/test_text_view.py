"""What looking shows of a document: headings, tables, sheets, slides, fields, pictures, recordings; compared by address."""

from __future__ import annotations

import io
import json
import random
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, docx, packed, write
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageDraw

from rustfern.formats import registry as formats
from rustfern.formats.interface import Limits
from rustfern.formats.text_sink import Piece, column_name
from rustfern.operations.text_diff import compare_pieces

Rustfern = Callable[..., Run]
LOOKS = packed("looks.tar.xz")
MEDIA = packed("media.tar.xz")
SHEET = [
    ("Timber", "larch", (0, 2, 2)),
    ("Timber", "480", (0, 2, 4)),
    ("Timber", "note", (0, 7, 6)),
    ("Hours", "7.5", (0, 2, 2)),
]
CELL = st.tuples(st.integers(1, 6), st.integers(1, 4), st.sampled_from(["oak", "ash", "3", "larch 32"]))


def pieces(name: str) -> list[Piece]:
    return formats.read_text(io.BytesIO(LOOKS[name]), name, 100_000, Limits())[1]


@pytest.mark.parametrize("name", ["survey.docx", "survey.doc", "survey.odt", "survey.rtf", "survey.html"])
def test_headings_and_tables_of_texts(name: str) -> None:
    found = pieces(name)
    assert [(p.text, p.level) for p in found if p.kind == "heading" and p.text != "Hull survey: Wren of Mersea"] == [
        ("Planking", 1),
        ("Next steps", 2),
    ]
    cells = {p.spot: p.text for p in found if p.kind == "cell"}
    assert cells[1, 1, 3] == "Finding" and cells[1, 2, 3] == "soft at frame 12" and cells[1, 3, 2] == "starboard"
    assert [p.text for p in found][-1] == "Order larch, 32 mm."


@pytest.mark.parametrize("name", ["orders.xlsx", "orders.xls", "orders.ods"])
def test_cells_of_workbooks_have_sheet_and_address(name: str) -> None:
    found = {(p.section, p.text, p.spot) for p in pieces(name)}
    assert set(SHEET) <= found and any(text.startswith("2026-02-03") for _, text, _ in found)


@pytest.mark.parametrize("name", ["launch.pptx", "launch.ppt", "launch.odp"])
def test_slides_are_numbered(name: str) -> None:
    found = [(p.section, p.kind, p.text) for p in pieces(name)]
    assert ("Slide 2", "heading", "Tides") in found and ("Slide 2", "text", "High water 11:40") in found
    assert [text for section, _, text in found if section == "Slide 3"][-1] == "400"


def test_pages_and_form_fields() -> None:
    found = pieces("form.pdf")
    assert [(p.label, p.text) for p in found if p.kind == "field"] == [
        ("Boat", "Wren"),
        ("Berth", "C 14"),
        ("Insured", "Yes"),
    ]
    assert "Order larch, 32 mm." in [p.text for p in pieces("survey.pdf")]


def test_a_workbook_on_the_terminal(tmp_path: Path, rustfern: Rustfern) -> None:
    path = write(tmp_path / "orders.xlsx", LOOKS["orders.xlsx"])
    shown = rustfern("look", path, COLUMNS="80").out
    assert "sheets: Timber, Hours" in shown and "all 10 right" in shown
    assert (
        "    2 2026-02-03        larch  12.5    480" in shown
        and max(map(len, shown.partition("Next")[0].splitlines())) <= 80
    )
    assert rustfern("look", path, "--sheet", "hours").out.splitlines()[-1].split() == ["2", "Ines", "7.5"]
    wrong = rustfern("look", path, "--sheet", "Boats")
    assert wrong.status == 1 and "There are: Timber, Hours" in wrong.err
    found = rustfern("look", path, "--words", "LARCH")
    assert found.status == 0 and "once, in 1 of 17 cells" in found.out and "Timber!B2  larch" in found.out
    told = rustfern("look", path, "--json").json
    assert told["pieces"][0]["spot"] == [0, 1, 1] and len(told["parts"]) == 10


def test_workbooks_are_compared_by_address(tmp_path: Path, rustfern: Rustfern) -> None:
    import zipfile

    old = write(tmp_path / "old.xlsx", LOOKS["orders.xlsx"])
    new = io.BytesIO()
    with zipfile.ZipFile(old) as source, zipfile.ZipFile(new, "w") as target:
        for name in source.namelist():
            data = source.read(name)
            if name.endswith("sheet2.xml"):
                data = data.replace(b"7.5", b"9")
            target.writestr(name, data)
    run = rustfern("look", old, write(tmp_path / "new.xlsx", new.getvalue()))
    assert "Changes: 1 changed" in run.out and "Hours!B2  [−7.5] [+9]" in run.out
    # Large ones are read by two cores at a time; the damage of one is told as well.
    with zipfile.ZipFile(old, "a") as source, zipfile.ZipFile(tmp_path / "new.xlsx", "a") as target:
        for each in (source, target):
            each.writestr("xl/media/plan.bin", random.Random(4).randbytes(1_200_000))
    large = [tmp_path / "new.xlsx", write(tmp_path / "cut.xlsx", (tmp_path / "new.xlsx").read_bytes()[:-40])]
    for other in large:
        runs = [rustfern("look", old, other, "--json", RUSTFERN_ONE_CORE=alone) for alone in ("1", "")]
        assert runs[0].json == runs[1].json and runs[0].status == runs[1].status
    assert rustfern("look", old, large[0]).out == run.out


@given(st.dictionaries(st.tuples(st.integers(1, 6), st.integers(1, 4)), st.sampled_from(["oak", "ash", "3"])),
       st.dictionaries(st.tuples(st.integers(1, 6), st.integers(1, 4)), st.sampled_from(["oak", "ash", "3"])))  # fmt: skip
def test_changed_cells_are_all_named(left: dict[tuple[int, int], str], right: dict[tuple[int, int], str]) -> None:
    sides = [[Piece(t, "cell", 0, "S", (0, r, c)) for (r, c), t in sorted(side.items())] for side in (left, right)]
    found = compare_pieces(*sides).changes
    rows = [
        [sorted((c, t) for (r, c), t in side.items() if r == row) for row in sorted({r for r, _ in side})]
        for side in (left, right)
    ]
    assert bool(found) == (rows[0] != rows[1])
    for change in found:
        assert change.where.startswith("S!") or change.where.startswith("S row ")
        side = sides[0 if change.kind == "removed" else 1]
        assert all(run.text for run in change.runs) and side[change.at - 1].text in " ".join(
            r.text for r in change.runs
        )


def test_column_names() -> None:
    assert [column_name(n) for n in (1, 26, 27, 52, 703, 16384)] == ["A", "Z", "AA", "AZ", "AAA", "XFD"]


def test_pictures_are_drawn_written_and_compared(tmp_path: Path, rustfern: Rustfern) -> None:
    image = Image.new("RGB", (60, 40), "navy")
    image.save(tmp_path / "a.png")
    ImageDraw.Draw(image).rectangle((10, 20, 19, 24), fill="white")
    image.save(tmp_path / "b.png")
    assert "a picture of 60 × 40 pixels" in rustfern("look", tmp_path / "a.png").out
    run = rustfern("look", tmp_path / "a.png", tmp_path / "b.png", "--picture", tmp_path / "both.png")
    assert "2.1% of the pixels differ, between (10, 20) and (20, 25)" in " ".join(run.out.split())
    with Image.open(tmp_path / "both.png") as both:
        assert both.width == 132 and both.getpixel((0, 0)) == (0, 0, 128)
    again = rustfern("look", tmp_path / "a.png", "--picture", tmp_path / "both.png")
    assert again.status == 2 and "not replaced" in again.err
    assert rustfern("look", tmp_path / "a.png", "--picture", tmp_path / "x.bmp").status == 2
    bare = write(tmp_path / "bare.txt", "no picture")
    assert rustfern("look", bare, "--picture", tmp_path / "y.png").status == 1
    inside = rustfern("look", write(tmp_path / "launch.odp", LOOKS["launch.odp"])).out
    assert "Thumbnails/thumbnail.png" in inside


def test_recordings_tell_their_length(tmp_path: Path, rustfern: Rustfern) -> None:
    seen = {}
    for name, data in MEDIA.items():
        if name.rpartition(".")[2] in ("mp4", "mov", "wav", "flac", "ogg", "mp3", "mkv"):
            told = rustfern("look", write(tmp_path / name, data), "--json").json
            if told["state"] == "intact":
                seen[told["copy"] or name.rpartition(".")[2]] = told["recording"]
    assert len(seen) >= 4 and all(found and 0 < found["seconds"] < 120 for found in seen.values()), json.dumps(seen)


def test_a_damaged_copy_shows_what_can_be_read_and_where_it_stops(tmp_path: Path, rustfern: Rustfern) -> None:
    whole = LOOKS["survey.odt"]
    at = whole.index(b"content.xml")
    hurt = write(tmp_path / "survey.odt", whole[: at + 2000])
    run = rustfern("look", hurt)
    assert "Hull survey: Wren of Mersea" in run.out and "it stops here: " in run.out
    zeros = write(tmp_path / "notes.txt", b"Rake out the seam\nPay it\n" + bytes(900))
    shown = rustfern("look", zeros).out
    assert "Rake out the seam" in shown and "it stops here: zeros where text should be (byte 25)" in shown


def test_text_that_could_play_tricks_is_harmless(tmp_path: Path, rustfern: Rustfern) -> None:
    path = write(
        tmp_path / "a.docx", docx("keel \x9b31m bolts", "קורה ראשית", "船体検査" * 30, "soft\u00adhyphen \u202e back")
    )
    for how in ((), ("--text",)):
        out = rustfern("look", path, *how, COLUMNS="80").out
        assert "\x9b" not in out and "\\u009b31m" in out and "קורה ראשית" in out and "softhyphen \\u202e back" in out
    blob = write(tmp_path / "blob.txt", bytes(range(256)) * 40)
    assert "damaged" in rustfern("look", blob).out
    code = write(tmp_path / "a.py", "def f():\n\n    return 1\n")
    assert rustfern("look", code, "--text").out == "def f():\n\n    return 1\n"


def test_drawings_are_shown_and_reach_for_nothing(tmp_path: Path, rustfern: Rustfern) -> None:
    shape = '<rect width="100" height="60" fill="navy"/><circle cx="50" cy="30" r="20" fill="orange"/>'
    head = '<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" width="100" height="60">'
    secret = tmp_path / "secret.png"
    Image.new("RGB", (100, 60), (255, 0, 0)).save(secret)
    drawn = write(tmp_path / "slip.svg", f'{head}{shape}<image width="100" height="60" xlink:href="{secret}"/></svg>')
    run = rustfern("look", drawn, "--picture", tmp_path / "slip.png")
    assert run.status == 0 and "a picture of 900 × 540 pixels" in run.out
    with Image.open(tmp_path / "slip.png") as made:
        assert made.convert("RGB").getpixel((5, 5)) == (0, 0, 128)
    bomb = "<!DOCTYPE svg [<!ENTITY a 'aaaa'>]>" + head + "</svg>"
    assert "a picture" not in rustfern("look", write(tmp_path / "bomb.svg", bomb)).out
