"""Several lost documents: which one is shown first."""

from __future__ import annotations

import io
from datetime import UTC, datetime, timedelta

import pytest
from conftest import docx

from rustfern.core.likeness import by_words, in_order, plain, ratio
from rustfern.core.model import Copy, Document, Entry, Hints, Kind, Location, Situation, State, Verdict
from rustfern.formats import registry as formats
from rustfern.selection.ranking import at_stake, rank

NOON = datetime(2026, 3, 12, 12, 0, tzinfo=UTC)


def version(kind: Kind, text: str, minutes: int = 0, sure: float = 0.99) -> Copy:
    content = formats.check(io.BytesIO(docx(text)), "a.docx")
    when = NOON + timedelta(minutes=minutes)
    return Copy(
        Entry(Location("/d", f"/d/{kind}"), 9, when),
        kind,
        "p",
        content,
        None,
        {"file": when},
        confidence=sure,
        written=when,
    )


def lost(name: str, *copies: Copy, situation: Situation = Situation.CRASHED) -> Document:
    best = None if not copies else len(copies) - 1
    return Document(
        name, name, "text", f"/d/{name}", True, None, None, copies, (), (), Verdict(situation, best, (), ()), {}
    )


SAVED = version(Kind.SAVED, "keel garboard")
LITTLE = lost("little.docx", SAVED, version(Kind.AUTOSAVE, "keel garboard hog", 9))
MUCH = lost("much.docx", SAVED, version(Kind.AUTOSAVE, "keel garboard " + "hog stem oak larch " * 9, 5))
ALL = lost("all.docx", version(Kind.AUTOSAVE, "hog stem " * 90, 1))
UNSURE = lost("unsure.docx", SAVED, version(Kind.AUTOSAVE, "hog stem " * 99, 7, sure=0.6))
CALM = lost("calm.docx", SAVED, situation=Situation.NOTHING_LOST)
GONE = lost("gone.docx")


@pytest.mark.parametrize(("document", "stake"), [(LITTLE, 1), (MUCH, 36), (ALL, 180), (CALM, 0), (GONE, 0)])
def test_what_is_at_stake(document: Document, stake: int) -> None:
    assert at_stake(document) == stake


@pytest.mark.parametrize(
    ("hints", "first", "last"),
    [
        (Hints(), "all.docx", "calm.docx"),
        (Hints(document="little"), "little.docx", ""),
        (Hints(lost_at=NOON + timedelta(minutes=9)), "little.docx", "calm.docx"),
        (Hints(doc_class="sheet"), "all.docx", "calm.docx"),
    ],
)
def test_the_order_of_lost_documents(hints: Hints, first: str, last: str) -> None:
    found = [document.name for document in rank([CALM, GONE, UNSURE, LITTLE, MUCH, ALL], hints)]
    assert found[0] == first and (not last or found[-1] == last)
    if hints == Hints():
        assert found == ["all.docx", "much.docx", "little.docx", "unsure.docx", "gone.docx", "calm.docx"]
    assert SAVED.content.state is State.INTACT


@pytest.mark.parametrize(
    ("one", "other", "alike", "by_word"),
    [
        ("mooring plan", "mooring plan", 100, 100), ("mooring plan", "plan mooring", 58.3, 100), ("plan", "mooring plan", 50, 100), ("", "plan", 0, 0), ("", "", 100, 0),
        ("price list", "prise list", 90, 90), ("hull survey", "launch", 23.5, 23.5), ("survey petrel", "survey kittiwake", 62.1, 63.2),
    ],
)  # fmt: skip
def test_how_alike_names_are(one: str, other: str, alike: float, by_word: float) -> None:
    assert ratio(one, other) == pytest.approx(alike, abs=0.1) == ratio(other, one)
    assert by_words(one, other) == pytest.approx(by_word, abs=0.1) == by_words(other, one)
    assert plain(f" {one.upper()}. ") == one and in_order("b a", "a b") == 100
