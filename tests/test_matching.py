"""Matching: weights and confidence, names, words."""

from __future__ import annotations

import io
import random
from array import array
from itertools import permutations

import numpy as np
import pytest
from conftest import docx, odt
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from rustfern.core.model import Content, Evidence, Glance, State
from rustfern.formats import registry as formats
from rustfern.matching.evidence import assignment, by_content, weights
from rustfern.matching.evidence.by_name import endings, folder_of, for_owner_lock, lock_fits, name_of, spellings
from rustfern.matching.evidence.similarity_index import Likeness

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
    assert by_content.equal(text(LONG, LONG), other(LONG, LONG))
    assert not by_content.equal(text(LONG, LONG), text(LONG, LONG + " again"))
    assert by_content.words_missing_from(text(LONG + " scarf iroko"), text(LONG)) == 2
    assert by_content.words_missing_from(text(LONG), other(LONG)) == 0


def test_runs_of_words_tie_a_copy_to_its_document() -> None:
    mine, near, far = text(LONG), text(LONG, "berth nine stays free"), text(" ".join(sorted(LONG.split())))
    assert by_content.shared(mine, near) > 0.5
    assert by_content.shared(mine, far) == 0.0
    assert by_content.shared(text("two words"), text("two words")) == 0.0


@given(st.lists(st.sampled_from(LONG.split()), max_size=30), st.lists(st.sampled_from(LONG.split()), max_size=30))
def test_differences_mirror(left: list[str], right: list[str]) -> None:
    one, two = text(" ".join(left)), text(" ".join(right))
    there, back = by_content.difference(one, two), by_content.difference(two, one)
    assert (there.only_left, there.only_right, there.common) == (back.only_right, back.only_left, back.common)
    assert 0 <= there.alike <= 1


def prose(rng: random.Random, count: int) -> str:
    return " ".join(f"{rng.choice(LONG.split())}{rng.randrange(40)}" for _ in range(count))


def test_what_a_template_gives_to_all_tells_little() -> None:
    rng = random.Random(7)
    head = prose(rng, 80)
    own = {name: text(head, prose(rng, 40)) for name in ("a", "b", "c")}
    copy = text(head, prose(random.Random(8), 20))
    shares = by_content.shared_among(copy, {name: [each] for name, each in own.items()})
    assert max(shares.values()) < 0.9 and len({round(share, 6) for share in shares.values()}) == 1
    own["d"] = text(head, prose(random.Random(8), 20), prose(rng, 5))
    shares = by_content.shared_among(copy, {name: [each] for name, each in own.items()})
    assert shares["d"] > 2 * shares["a"]
    assert by_content.shared_among(text("two words"), {"a": [own["a"]]}) == {}


def test_likeness_finds_what_is_worth_comparing_among_many() -> None:
    rng = random.Random(11)
    head = prose(rng, 60)
    index, known = Likeness(), {}
    for number in range(300):
        known[str(number)] = text(*((head,) if number % 3 == 0 else ()), prose(rng, 60))
        index.add(str(number), known[str(number)])
    assert len(index) == 300
    for number in (1, 40, 200):
        # A third is new, a third of the old is gone: the right one is still among those that are worth it.
        tokens = known[str(number)].tokens
        changed = replace(known[str(number)], tokens=tokens[: len(tokens) * 2 // 3], sha256="other", lines=b"")
        near = index.near(changed)
        assert str(number) in near and len(near) <= 40
    assert index.near(replace(known["5"], tokens=b"", lines=b""))[0] == "5"  # by its bytes
    assert index.near(Content(Glance(), State.DAMAGED, "", 0)) == []
    marked = replace(known["7"], tokens=b"", sha256=None, glance=Glance("docx", identity=(("file-id", "x"),)))
    index.add("301", marked)
    assert (
        index.near(marked) == ["301"]
        and index.carriers(("file-id", "x")) == 1
        and index.carriers(("file-id", "y")) == 0
    )


def test_contending_copies_are_assigned_together() -> None:
    strong, weak = [weights.evidence("shared-content", "")], [weights.evidence("shared-content", "", 0.8)]
    # Alone both would go to the first; together the one that fits it better gets it.
    assert [column for column, _ in assignment.assign([[strong, weak], [weak, [weights.evidence("name", "")]]])] == [
        0,
        1,
    ]
    alone = assignment.assign([[strong, []], [strong, []]])
    assert sorted(column is None for column, _ in alone) == [False, True]
    assert all(sure <= 0.51 for _, sure in alone)
    assert assignment.assign([[[], []]]) == [(None, 0.0)] and assignment.assign([[]]) == [(None, 0.0)]


@given(st.lists(st.lists(st.lists(PIECES, max_size=2), min_size=3, max_size=3), min_size=1, max_size=4))
def test_no_document_is_assigned_twice(groups: list[list[list[Evidence]]]) -> None:
    assigned = assignment.assign(groups)
    columns = [column for column, _ in assigned if column is not None]
    assert len(assigned) == len(groups) and len(columns) == len(set(columns))
    assert all(0 <= sure <= 1 for _, sure in assigned)


@given(st.lists(st.integers(0, 2**32 - 1), max_size=40))
def test_runs_are_hashed_alike_with_and_without_arrays(found: list[int]) -> None:
    tokens = array("I", found).tobytes()
    plain = [
        (a * 0x9E3779B1 ^ b * 0x85EBCA77 ^ c) & 0xFFFFFFFFFFFF
        for a, b, c in zip(found, found[1:], found[2:], strict=False)
    ]
    assert by_content.run_hashes(tokens).tolist() == plain


@given(st.integers(1, 4), st.integers(0, 3), st.randoms(use_true_random=False))
def test_no_assignment_is_cheaper(rows: int, more: int, chance: random.Random) -> None:
    """The least sum over all ways to give each row a column of its own; ties and pairs that are as good as forbidden among them."""
    columns = rows + more
    costs = np.array([[chance.choice([-3.0, 0.0, 1.5, 2.0, 1e6]) for _ in range(columns)] for _ in range(rows)])
    chosen = assignment.cheapest(costs)
    least = min(sum(costs[row, column] for row, column in enumerate(way)) for way in permutations(range(columns), rows))
    assert len(set(chosen)) == rows and sum(costs[row, column] for row, column in enumerate(chosen)) == pytest.approx(
        least
    )
