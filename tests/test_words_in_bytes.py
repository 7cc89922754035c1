"""Words that a person remembers, in files of no known kind that programs left: they are found, shown, and told from chance."""

from __future__ import annotations

import io
import os
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, docx, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.formats.text.letters import letters_in
from rustfern.operations.words_in_bytes import sentence_with
from rustfern.sources.registry import Sources

Rustfern = Callable[..., Run]
T0 = 1_760_000_000
SAID = "Tobias sets the Küstenkreuzer on oak blocks at high water"
# As jove leaves its working file behind: a line after the other, with a NUL behind each.
LINES = b"\0kill-line\0^[xbeginning-of-line\0" + b"".join(f"{SAID}, hull {n}\0".encode() for n in range(9))
UNDO = "".join(f"/history/step-{n}/undoCommand=heading ('{SAID}, hull {n}')\n" for n in range(200)).encode()


def home(root: Path, path: str, data: bytes) -> Path:
    write(root / "home/ines/.config/x", "")
    write(root / "home/ines/Documents/plan.docx", docx("the mooring plan of the summer"), T0)
    write(root / path, data, T0 + 900)
    return root / path


@pytest.mark.parametrize(
    ("path", "data", "words", "is_found"),
    [
        ("tmp/jvf0xiFg", LINES, "oak cradle", False),
        ("tmp/jvf0xiFg", LINES, "oak blocks TOBIAS", True),
        ("tmp/jvf0xiFg", LINES, "küstenkreuzer", True),
        ("tmp/jvf0xiFg", SAID.encode("utf-16-le").join((bytes(200), bytes(900))), "KÜSTENKREUZER oak", True),
        ("tmp/jvf0xiFg", SAID.encode("cp1252").join((bytes(200), bytes(900))), "Küstenkreuzer", True),
        ("tmp/jvf0xiFg", b"Tobias" + bytes(1 << 20) + b"oak blocks", "Tobias oak", False),
        ("tmp/jvf0xiFg", bytes((4 << 20) - 30) + SAID.encode() + bytes(1 << 20), "Tobias blocks", True),
        ("tmp/map-ykCJOP/model-1/history", UNDO, "high water hull", True),
        ("home/ines/.local/share/mapper/journal.bin", LINES, "high water hull", True),
        ("home/ines/Pictures/raw.bin", LINES, "high water hull", False),
    ],
)
def test_what_a_program_keeps_for_itself_is_searched_for_words(
    path: str, data: bytes, words: str, is_found: bool, tmp_path: Path, rustfern: Rustfern
) -> None:
    there = home(tmp_path / "disk", path, data)
    run = rustfern("scan", tmp_path / "disk", "--words", words, "--json")
    hits = run.json["hits"]
    assert [hit["path"] for hit in hits] == [str(there)] * is_found
    assert ("no-such-words" in [each["kind"] for each in run.json["notices"]]) != is_found
    if is_found:
        (hit,) = hits
        assert hit["document"] is None and hit["id"] is None and hit["found"] == len(words.split())
        assert "Tobias" in hit["sentence"] and "\0" not in hit["sentence"]
        told = rustfern("scan", tmp_path / "disk", "--words", words).out
        assert "look" in told and "what stands around the words there" in told


def test_a_copy_with_all_of_the_words_is_enough(tmp_path: Path, rustfern: Rustfern) -> None:
    home(tmp_path / "disk", "tmp/jvf0xiFg", LINES + b"the mooring plan of the summer")
    write(tmp_path / "disk/home/ines/Documents/~$plan.docx", bytes(162), T0)
    hits = rustfern("scan", tmp_path / "disk", "--document", "plan", "--words", "mooring plan summer", "--json").json[
        "hits"
    ]
    assert [os.path.basename(hit["path"]) for hit in hits] == ["plan.docx"]


def test_the_letters_of_a_file_of_no_known_kind_are_shown(tmp_path: Path, rustfern: Rustfern) -> None:
    path = tmp_path / "jvf0xiFg"
    write(path, LINES + bytes(200) + "Ines löst die Vorleine".encode("utf-16-le") + bytes(range(256)) * 9)
    assert f"look {path} --text" in rustfern("look", path).out
    text = rustfern("look", path, "--text").out
    assert f"{SAID}, hull 8\n" in text and "Ines löst die Vorleine" in text
    assert "9 times" in rustfern("look", path, "--words", "Tobias").out


SIGNS = st.text(st.sampled_from("abcdefgKLMäöß łй,. 0123"), min_size=8, max_size=80).filter(
    lambda text: sum(map(str.isalpha, text)) >= 4 and text == text.strip()
)


@given(st.lists(st.tuples(SIGNS, st.booleans()), min_size=1, max_size=6), st.integers(0, 40))
def test_every_run_of_letters_is_found_in_order(runs: list[tuple[str, bool]], front: int) -> None:
    data = bytes(front)
    for text, is_wide in runs:
        # A wide run after a zero byte at an odd place still begins with its own letter.
        data += text.encode("utf-16-le" if is_wide and text.isascii() else "utf-8") + b"\xff\xff\xff\xff"
    found = [piece.text for piece in letters_in(io.BytesIO(data), 1 << 20)]
    assert found == [text for text, _ in runs]


@given(st.binary(max_size=300), st.integers(0, 20))
def test_any_bytes_have_letters_or_none(data: bytes, keep: int) -> None:
    assert sum(len(piece.text) for piece in letters_in(io.BytesIO(data), keep)) <= keep


@given(
    before=st.binary(max_size=50),
    behind=st.binary(max_size=50),
    encoding=st.sampled_from(["utf-8", "utf-16-le", "cp1252"]),
)
def test_words_are_found_between_any_bytes(
    before: bytes, behind: bytes, encoding: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    path = tmp_path_factory.mktemp("bytes") / "working"
    path.write_bytes(before + SAID.encode(encoding) + behind)
    door = Sources()
    entry = door.around(str(path)).entry(str(path))
    sentence = sentence_with(door, entry, ["küstenkreuzer", "tobias"])
    assert sentence is not None and "sets the K" in sentence
    assert sentence_with(door, entry, ["küstenkreuzer", "zebra"]) is None
