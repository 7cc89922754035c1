"""`scan --words`: the name is forgotten, some words are remembered."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, docx, odt, write
from hypothesis import given
from hypothesis import strategies as st

from rustfern.operations.word_search import WordIndex, plain

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
UNSAVED = "Users/ivarga/AppData/Local/Microsoft/Office/UnsavedFiles"


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    top = tmp_path / "disk"
    write(top / "Users/ivarga/Documents/plan.docx", docx("Moorings for the east quay"), T0)
    write(
        top / "Users/ivarga/AppData/Roaming/Microsoft/Word/plan((Autosaved-310190569458189392)).asd",
        docx("Moorings for the east quay", "The café pays for berth 7. Señora Núñez agreed on Monday."),
        T0 + 60,
    )
    write(
        top / UNSAVED / "Document1((Unsaved-309876308635267407)).asd",
        docx("Larch for the garboard", "船体調査の報告書です。"),
        T0,
    )
    write(top / "Users/plund/Documents/diary.odt", odt("Dear diary"), T0)
    write(top / "Users/plund/Documents/diary.odt~", odt("Dear diary, the garboard seam weeps"), T0 - 60)
    write(top / "Users/plund/AppData/x", "")
    return top


@pytest.mark.parametrize(
    ("words", "name", "sentence"),
    [
        ("senora NUNEZ", "plan.docx", "Señora Núñez agreed on Monday."),
        ("berth 7", "plan.docx", "The café pays for berth 7."),
        ("larch garboard", "Document1", "Larch for the garboard"),
        ("体調査", "Document1", "船体調査の報告書です。"),
        ("garboard weeps", "diary.odt", "Dear diary, the garboard seam weeps"),
    ],
)
def test_words_lead_to_their_document(words: str, name: str, sentence: str, disk: Path, rustfern: Rustfern) -> None:
    answer = rustfern("scan", disk, "--words", words, "--json").json
    first = answer["documents"][0]
    assert first["name"] == name and answer["words"] == words
    assert [hit["document"] for hit in answer["hits"]] == [first["id"]]
    assert answer["hits"][0]["sentence"] == sentence
    assert answer["hits"][0]["id"] in {copy["id"] for copy in first["copies"]}
    shown = " ".join(rustfern("scan", disk, "--words", words).out.split())
    assert f"Where “{words}” stands" in shown and sentence in shown


def test_words_that_stand_nowhere_are_said(disk: Path, rustfern: Rustfern) -> None:
    run = rustfern("scan", disk, "--words", "submarine cables")
    assert "in no text that could be read" in run.out
    assert rustfern("scan", disk, "--words", "zz", "--json").json["hits"] == []


def test_texts_stay_in_the_case_only_for_a_chosen_person(disk: Path, tmp_path: Path, rustfern: Rustfern) -> None:
    """A technician's disk must not fill with everybody's letters."""
    for number, (options, kept) in enumerate((((), False), (("--person", "plund"), True))):
        case = tmp_path / f"{number}.fern"
        rustfern("scan", disk, "--words", "garboard", "--case", case, *options)
        data = b"".join(path.read_bytes() for path in tmp_path.glob(f"{number}.fern*"))
        assert (b"the garboard seam weeps" in data) is kept
        assert "船体調査".encode() not in data  # of a draft its first line, as its name


@given(st.text(max_size=40), st.text(max_size=40))
def test_any_text_and_any_words(text: str, words: str) -> None:
    index = WordIndex(words)
    index.add(1, "0", "/x", [text])
    for hit in index.search():
        assert any(word in plain(text) for word in plain(words).split())
        assert hit.number == 1
