"""Matching: weights and confidence, names, words."""

from __future__ import annotations

import io

import pytest
from conftest import docx, odt
from hypothesis import given
from hypothesis import strategies as st

from rustfern import formats
from rustfern.matching import content as words
from rustfern.matching import weights
from rustfern.matching.candidates import endings, folder_of, for_owner_lock, lock_fits, name_of, spellings
from rustfern.model import Content, Evidence

PIECES = st.builds(
    Evidence, st.just("x"), st.floats(0, 9), st.just("t"), st.sampled_from(["says-so", "name", "content"])
)


def text(*paragraphs: str) -> Content:
    return formats.check(io.BytesIO(docx(*paragraphs)), "a.docx")


def other(*paragraphs: str) -> Content:
    return formats.check(io.BytesIO(odt(*paragraphs)), "a.odt")


@given(st.lists(st.lists(PIECES, max_size=4), max_size=6))
def test_confidences_are_shares(candidates: list[list[Evidence]]) -> None:
    shares = weights.confidences(candidates)
    assert len(shares) == len(candidates)
    assert all(0 <= share < 1 for share in shares) and sum(shares) < 1 + 1e-9


def test_one_family_counts_once() -> None:
    beside, then = weights.evidence("name-beside", ""), weights.evidence("same-folder", "")
    assert weights.total([beside, then]) == beside.weight
    assert weights.total([beside, weights.evidence("identical-bytes", "")]) == beside.weight + 8.0


def test_the_stronger_kind_of_evidence_wins_in_the_order_of_the_design() -> None:
    order = ["recovery-list", "lock-name", "name-beside", "name", "open-then", "same-folder-then", "same-folder"]
    found = [weights.WEIGHTS[kind][0] for kind in order]
    assert found == sorted(found, reverse=True)
    assert weights.confidences([[weights.evidence("recovery-list", "")]])[0] >= weights.SURE
    two = [[weights.evidence("name", "")], [weights.evidence("name", "")]]
    assert max(weights.confidences(two)) < weights.THRESHOLD
    assert weights.confidences([[weights.evidence("same-folder", "")]])[0] < weights.THRESHOLD


@pytest.mark.parametrize(("share", "said"), [(0.99, "sure"), (0.95, "sure"), (0.8, "likely"), (0.5, "possible")])
def test_words_for_confidence(share: float, said: str) -> None:
    assert weights.in_words(share) == said


@pytest.mark.parametrize(
    ("tail", "original", "size", "fit"),
    [
        ("ll survey.docx", "Hull survey.docx", 162, "cut"),
        ("inches.docx", "Winches.docx", 162, "cut"),
        ("Slip 7.docx", "Slip 7.docx", 162, "whole"),
        ("Timber orders.xlsx", "Timber orders.xlsx", 165, "whole"),
        ("mber orders.xlsx", "Timber orders.xlsx", 165, None),
        ("Hull survey.docx", "Hull survey.docx", 162, None),
        ("LL SURVEY.docx", "Hull survey.docx", 162, "cut"),
        ("ll survey.docx", "Bels survey.docx", 162, None),
        ("ll survey.docx", "Hull survey.docx", None, "cut"),
        ("Orders.xlsx", "Orders.xlsx", None, "whole"),
    ],
)
def test_owner_lock_names(tail: str, original: str, size: int | None, fit: str | None) -> None:
    assert lock_fits(tail, original, size) == fit


def test_an_owner_lock_may_fit_two_documents() -> None:
    names = ["/d/Hull survey.docx", "/d/Bull survey.docx", "/d/Slip 7.docx", "/e/Hull survey.docx"]
    found = for_owner_lock("ll survey.docx", "/d", 162, names, ["/d/Gull survey.docx"])
    assert [item.path for item in found] == ["/d/Bull survey.docx", "/d/Gull survey.docx", "/d/Hull survey.docx"]
    assert [item.exists for item in found] == [True, False, True]
    assert max(weights.confidences([item.evidence for item in found])) < weights.THRESHOLD


def test_localised_prefixes() -> None:
    prefixes = ["AutoRecovery save of "]
    assert endings("AutoRecovery save of Hull survey", prefixes) == [("Hull survey", True)]
    found = [stem for stem, _ in endings("Sauvegarde automatique de Hull survey", prefixes)]
    assert found[0] == "Sauvegarde automatique de Hull survey" and "Hull survey" in found


@pytest.mark.parametrize(
    ("name", "expected"),
    [("Hull%20survey", ["Hull survey", "Hull%20survey"]), ("100% oak", ["100% oak"]), ("a.odt", ["a.odt"])],
)
def test_spellings(name: str, expected: list[str]) -> None:
    assert spellings(name) == expected


@pytest.mark.parametrize(
    ("path", "folder", "name"),
    [("/a/b.txt", "/a", "b.txt"), ("/b.txt", "/", "b.txt"), ("C:\\a\\b.txt", "C:\\a", "b.txt")],
)
def test_folders_and_names(path: str, folder: str, name: str) -> None:
    assert (folder_of(path), name_of(path)) == (folder, name)


LONG = "the garboard seam was raked out and payed with marine glue from the stem to frame seven"


def test_the_same_words_in_two_formats_are_one_version() -> None:
    assert words.equal(text(LONG, LONG), other(LONG, LONG))
    assert not words.equal(text(LONG, LONG), text(LONG, LONG + " again"))
    assert words.lacks(text(LONG + " scarf iroko"), text(LONG)) == 2
    assert words.lacks(text(LONG), other(LONG)) == 0


def test_runs_of_words_tie_a_copy_to_its_document() -> None:
    mine, near, far = text(LONG), text(LONG, "berth nine stays free"), text(" ".join(sorted(LONG.split())))
    assert words.shared(mine, near) > 0.6
    assert words.shared(mine, far) == 0.0
    assert words.shared(text("two words"), text("two words")) == 0.0


@given(st.lists(st.sampled_from(LONG.split()), max_size=30), st.lists(st.sampled_from(LONG.split()), max_size=30))
def test_differences_mirror(left: list[str], right: list[str]) -> None:
    one, two = text(" ".join(left)), text(" ".join(right))
    there, back = words.difference(one, two), words.difference(two, one)
    assert (there.only_left, there.only_right, there.common) == (back.only_right, back.only_left, back.common)
    assert 0 <= there.alike <= 1
