"""Choosing: each rule, on copies made for it."""

from __future__ import annotations

import io
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from typing import Any

import pytest
from conftest import WORDS, docx, odt
from msgspec.structs import replace

from rustfern.core.model import Content, Copy, Entry, Glance, Hints, Kind, Location, Order, Situation, State, Verdict
from rustfern.core.remarks import About, Caution, NextStep, Notice, Reason, Step, Warn, Why
from rustfern.core.times import Clock, to_utc
from rustfern.formats import registry as formats
from rustfern.formats.text_sink import TextSink
from rustfern.matching.evidence.by_content import equal
from rustfern.matching.evidence.weights import evidence
from rustfern.selection.choose import Facts, assign_times, choose, newer, same_versions
from rustfern.selection.wording import Wording, notice, step

CLOCK = Clock(UTC)
NOON = datetime(2026, 3, 12, 12, 0, tzinfo=UTC)


def content(text: str, *, damaged: bool = False, as_odt: bool = False) -> Content:
    data = (odt if as_odt else docx)(text)
    return formats.check(io.BytesIO(data[: len(data) // 2] if damaged else data), "a.odt" if as_odt else "a.docx")


def copy(kind: str, minutes: int, text: str, **more: Any) -> Copy:
    """A copy written so many minutes after noon."""
    inner = more.pop("inner", None)
    order = Order(more.pop("order", "unknown"))
    body = content(text, damaged=more.pop("damaged", False), as_odt=more.pop("as_odt", False))
    clocks = {"file": NOON + timedelta(minutes=minutes)}
    if inner is not None:
        clocks["content"] = NOON + timedelta(minutes=inner)
    entry = Entry(Location("/disk", f"/disk/{kind}-{minutes}-{abs(hash(text)) % 10**6}"), body.size, clocks["file"])
    return Copy(entry, Kind(kind), "place", body, None, clocks, order, evidence=(evidence("name", "its name"),), **more)


def decide(copies: list[Copy], *, hints: Hints | None = None, **facts: Any) -> tuple[Verdict, Copy | None]:
    dated = assign_times(copies, CLOCK)
    saved = next((i for i, c in enumerate(dated) if c.kind is Kind.SAVED), None)
    facts.setdefault("original", "/disk/Hull survey.docx")
    verdict = choose(dated, Facts(saved=saved, **facts), hints or Hints())
    return verdict, dated[verdict.best] if verdict.best is not None else None


BASE = "keel garboard frame larch oak caulking"
MORE = BASE + " stem scarf plank"

RULES: dict[str, tuple[list[Copy], dict[str, Any], Situation, int | None]] = {
    # name → (copies, facts, situation, place of the best copy)
    "autosave newer and fuller": ([copy("saved", 0, BASE), copy("autosave", 9, MORE)], {}, Situation.CRASHED, 1),
    "autosave older and contained": ([copy("saved", 9, MORE), copy("autosave", 0, BASE)], {}, Situation.NOTHING_LOST, 0),
    "content order beats the clock": ([copy("saved", 9, BASE), copy("autosave", 0, MORE)], {}, Situation.CRASHED, 1),
    "a stale autosave with words of its own": (
        [copy("saved", 9, BASE + " tide crane"), copy("autosave", 0, BASE + " mast")], {}, Situation.DIVERGED, 1),
    "equal content: the saved file stands for it": ([copy("saved", 0, BASE), copy("autosave", 9, BASE)], {}, Situation.NOTHING_LOST, 0),
    "equal words in another format": (
        [copy("saved", 0, BASE * 20), copy("autosave", 9, BASE * 20, as_odt=True)], {}, Situation.NOTHING_LOST, 0),
    "a copy made before a save is never newer": (
        [copy("saved", 0, BASE), copy("backup", 9, MORE, order="before")], {}, Situation.NOTHING_LOST, 0),
    "written over": (
        [copy("saved", 9, "shopping milk matches"), copy("backup", 0, MORE, order="before")], {}, Situation.OVERWRITTEN, 1),
    "written over, stale autosave": ([copy("saved", 9, "template row"), copy("autosave", 0, MORE)], {}, Situation.OVERWRITTEN, 1),
    "saved file damaged": (
        [copy("saved", 9, MORE, damaged=True), copy("autosave", 5, MORE), copy("backup", 0, BASE, order="before")],
        {}, Situation.WONT_OPEN, 1),
    "saved file damaged, newer copy": (
        [copy("saved", 5, BASE, damaged=True), copy("backup", 0, BASE, order="before"), copy("autosave", 9, MORE)],
        {}, Situation.WONT_OPEN, 2),
    "nothing is whole": (
        [copy("saved", 9, MORE, damaged=True), copy("autosave", 5, MORE, damaged=True)], {}, Situation.WONT_OPEN, None),
    "the newest is damaged": (
        [copy("saved", 0, BASE), copy("autosave", 5, MORE), copy("autosave", 9, MORE + " mast", damaged=True)],
        {}, Situation.CRASHED, 1),
    "a recorded change without a whole copy": (
        [copy("saved", 0, BASE), copy("autosave", 9, MORE, damaged=True)],
        {"changed": True, "changed_since": NOON + timedelta(minutes=9), "locked": True}, Situation.CRASHED, 0),
    "a lock alone proves nothing": ([copy("saved", 0, BASE)], {"locked": True}, Situation.NOTHING_LOST, 0),
    "a lock, and its autosaves denied": (
        [copy("saved", 0, BASE)], {"locked": True, "denied": ["/disk/backup"]}, Situation.CRASHED, 0),
    "never saved": ([copy("autosave", 0, BASE)], {"original": None, "never_saved": True}, Situation.NEVER_SAVED, 0),
    "the latest deletion": (
        [copy("trash", 5, MORE), copy("trash", 0, BASE + " mast")],
        {"trashed": True, "deleted": {0: NOON + timedelta(hours=1), 1: NOON + timedelta(hours=2)}}, Situation.DELETED, 1),
    "deleted, but a later autosave is left": (
        [copy("trash", 0, BASE), copy("autosave", 9, MORE)],
        {"trashed": True, "deleted": {0: NOON + timedelta(hours=1)}}, Situation.DELETED, 1),
    "original gone, crashed": ([copy("autosave", 9, MORE)], {"locked": True}, Situation.CRASHED, 0),
    "only a backup is left": ([copy("backup", 0, MORE, order="before")], {}, Situation.DELETED, 0),
    "poorer but newer, with words of its own": (
        [copy("saved", 0, " ".join(WORDS)), copy("autosave", 9, "keel sextant")], {}, Situation.CRASHED, 1),
    "poorer but newer, nothing of its own": (
        [copy("saved", 0, " ".join(WORDS)), copy("autosave", 9, "keel larch")], {}, Situation.NOTHING_LOST, 0),
    "a conflict copy is another branch": (
        [copy("saved", 0, BASE + " tide"), copy("conflict", 9, BASE + " mast")], {}, Situation.DIVERGED, 0),
    "a conflict copy that holds all of the saved file": (
        [copy("saved", 0, BASE), copy("conflict", 9, MORE)], {}, Situation.DIVERGED, 1),
    "a conflict copy, and the saved file is damaged": (
        [copy("saved", 0, BASE, damaged=True), copy("conflict", 9, MORE)], {}, Situation.WONT_OPEN, 1),
    "an older conflict copy": ([copy("saved", 9, BASE + " tide"), copy("conflict", 0, BASE + " mast")], {}, Situation.NOTHING_LOST, 0),
    "the same name is a previous save for one program": (
        [copy("saved", 5, BASE), copy("backup", 9, MORE, order="before")], {}, Situation.NOTHING_LOST, 0),
    "and a newer autosave for another": ([copy("saved", 5, BASE), copy("backup", 9, MORE, order="after")], {}, Situation.CRASHED, 1),
    "no clock tells: a copy made before a save comes after one that was not": (
        [copy("saved", 9, MORE, damaged=True), copy("backup", 0, BASE + " mast", order="before"), copy("autosave", 0, BASE + " tide")],
        {}, Situation.WONT_OPEN, 2),
    "no clock tells, unsaved words": ([copy("saved", 0, BASE + " tide"), copy("autosave", 0, BASE + " mast")], {}, Situation.CRASHED, 1),
    "a later copy of a deleted document made before a save": (
        [copy("trash", 0, BASE), copy("backup", 9, BASE + " mast", order="before")],
        {"trashed": True, "deleted": {0: NOON + timedelta(hours=1)}}, Situation.DELETED, 0),
    "the newest on the other side of the damaged file": (
        [copy("saved", 5, MORE, damaged=True), copy("backup", 0, BASE, order="before"), copy("version", 3, MORE)],
        {}, Situation.WONT_OPEN, 2),
    "a copy that was being written is no candidate": (
        [copy("saved", 0, BASE), copy("temporary", 9, MORE, damaged=True, complete=False)], {}, Situation.NOTHING_LOST, 0),
    "chance words of the trade do not keep a text": (
        [copy("saved", 9, " ".join(reversed(WORDS))), copy("backup", 0, " ".join(WORDS) + " anchor bitts capstan davit eyelet", order="before")],
        {}, Situation.OVERWRITTEN, 1),
}  # fmt: skip


@pytest.mark.parametrize("rule", sorted(RULES))
def test_rules(rule: str) -> None:
    copies, facts, situation, best = RULES[rule]
    verdict, chosen = decide(copies, **facts)
    assert verdict.situation is situation
    assert verdict.best == best
    assert best is None or (chosen is not None and chosen.content.state is State.INTACT)
    assert verdict.why


HINTED: dict[str, tuple[list[Copy], Hints, int | None]] = {
    "told it was saved over": (
        [copy("saved", 9, BASE + " tide crane"), copy("backup", 0, MORE, order="before"), copy("autosave", 5, MORE + " mast")],
        Hints(happened=Situation.OVERWRITTEN), 2),
    "told it was saved over, copies before a time": (
        [copy("saved", 9, BASE), copy("autosave", 5, MORE + " mast"), copy("autosave", 2, MORE)],
        Hints(happened=Situation.OVERWRITTEN, older_than=NOON + timedelta(minutes=5)), 2),
    "told when it was saved over, and the wrong text went on": (
        [copy("saved", 30, "shopping milk matches bread"), copy("autosave", 5, MORE), copy("autosave", 40, "shopping milk matches bread butter")],
        Hints(happened=Situation.OVERWRITTEN, lost_at=NOON + timedelta(minutes=20)), 1),
    "older than all": ([copy("saved", 9, BASE, damaged=True), copy("autosave", 5, MORE)], Hints(older_than=NOON), None),
    "told it crashed, but it was only edited": (
        [copy("saved", 9, "shopping milk matches"), copy("backup", 0, MORE, order="before")], Hints(happened=Situation.CRASHED), 0),
}  # fmt: skip


@pytest.mark.parametrize("case", sorted(HINTED))
def test_hints(case: str) -> None:
    copies, hints, best = HINTED[case]
    verdict, _ = decide(copies, hints=hints)
    assert verdict.best == best
    if best is None:
        assert Why.LEFT_OUT in {reason.kind for reason in verdict.why}


def test_warnings_give_amounts_and_both_sides() -> None:
    verdict, _ = decide(RULES["poorer but newer, with words of its own"][0])
    (said,) = verdict.warnings
    assert (said.kind, said.less, said.count, said.unit) == (Caution.NEWER_IS_POORER, 2, 16, "words")
    verdict, _ = decide(RULES["a stale autosave with words of its own"][0])
    (said,) = verdict.warnings
    assert (said.kind, said.less, said.count) == (Caution.SAVED_WENT_ON, 2, 1)
    copies, facts, _, _ = RULES["a recorded change without a whole copy"]
    verdict, _ = decide(copies, **facts)
    assert [said.kind for said in verdict.warnings] == [Caution.LAST_WORDS_GONE]


def test_reasons_name_the_evidence_the_clock_and_the_runner_up() -> None:
    copies = [copy("saved", 0, BASE), copy("autosave", 9, MORE)]
    verdict, _ = decide(copies)
    assert [reason.kind for reason in verdict.why] == [
        Why.BELONGS, Why.NEWEST, Why.STATE, Why.SAVED_LACKS, Why.RUNNER_UP
    ]  # fmt: skip
    words, _, _ = Wording(assign_times(copies, CLOCK), verdict.situation, CLOCK).verdict(verdict)
    said = ("its name", "file's date", "intact", "3 words that the saved file", "the next best is the saved file")
    assert all(part in sentence for part, sentence in zip(said, words, strict=True))


@pytest.mark.parametrize("kinds", [Why, Caution, Step, About])
def test_there_are_words_for_all_that_can_be_said(kinds: type[StrEnum]) -> None:
    copies = assign_times([copy("saved", 0, BASE), copy("autosave", 9, MORE)], CLOCK)
    words = Wording(copies, Situation.CRASHED, CLOCK)
    about: dict[str, Any] = {"copy": 1, "other": 0, "count": 2, "when": NOON, "names": ("a\x1b", "b"), "text": "c"}
    for kind in kinds:
        if isinstance(kind, Why):
            said = words.reason(Reason(kind=kind, **about))
        elif isinstance(kind, Caution):
            said = words.caution(Warn(kind=kind, **about))
        elif isinstance(kind, Step):
            said = step(NextStep(kind=kind, **about))
        else:
            said = notice(Notice(kind=About(kind), names=("a\x1b", "b", "c"), count=2, when=NOON, text="c"))
        assert said and said.isprintable(), kind


def test_a_clock_that_stands_still_is_not_believed() -> None:
    """Two versions with one inner time: a template's, or of a program that does not keep it."""
    old = -5_000_000
    dated = assign_times([copy("saved", 0, BASE, inner=old), copy("autosave", 9, MORE, inner=old)], CLOCK)
    assert [c.written_from for c in dated] == ["file", "file"]
    dated = assign_times([copy("saved", 0, BASE, inner=-1), copy("autosave", 9, MORE, inner=8)], CLOCK)
    assert [c.written_from for c in dated] == ["content", "content"]


def test_clocks_that_disagree_are_said() -> None:
    (dated,) = assign_times([copy("saved", 60 * 24 * 30, BASE, inner=0)], CLOCK)
    assert dated.written_from == "content" and any("clocks disagree" in note for note in dated.notes)


@pytest.mark.parametrize(
    ("left", "right", "sign", "by"),
    [
        (copy("autosave", 0, "a1 b1", inner=9), copy("autosave", 5, "c1 d1", inner=1), 1, "content"),
        (copy("autosave", 0, "a1 b1", inner=1), copy("autosave", 5, "c1 d1", inner=1), -1, "file"),
        (copy("autosave", 0, "a1 b1", inner=1), copy("autosave", 5, "c1 d1"), -1, "file"),
        (copy("autosave", 5, "a1 b1"), copy("autosave", 5, "c1 d1"), 0, "nothing"),
        (copy("saved", 0, "a1 b1"), copy("backup", 5, "c1 d1", order="before"), 1, "it is made before a save"),
    ],
)
def test_which_is_newer(left: Copy, right: Copy, sign: int, by: str) -> None:
    assert newer(left, right) == (sign, by)
    assert newer(right, left)[0] == -sign


def test_equal_content_is_one_version_headed_by_the_saved_file() -> None:
    copies = assign_times(
        [copy("autosave", 0, BASE), copy("saved", 5, BASE), copy("backup", 2, MORE), copy("trash", 9, MORE)], CLOCK
    )
    assert same_versions(copies, 1) == {0: 1, 3: 2}


def stamped(kind: str, when: datetime, text: str, **clocks: datetime) -> Copy:
    return replace(copy(kind, 0, text), clocks={"file": when, **clocks})


@pytest.mark.parametrize(
    "odd",
    [datetime(1601, 1, 1), datetime(1970, 1, 1), datetime(1980, 1, 1), NOON.replace(tzinfo=None) + timedelta(days=90)],
)
def test_clocks_that_were_never_set_and_the_future_are_not_believed(odd: datetime) -> None:
    odd = odd.replace(tzinfo=UTC)
    found = assign_times([stamped("autosave", odd, MORE, content=NOON), stamped("saved", odd, BASE)], CLOCK, NOON)
    assert found[0].written == NOON and found[0].written_from == "content" and "file" not in found[0].clocks
    assert found[1].written is None and any("not believed" in note for note in found[1].notes)
    assert any(f"{odd:%Y-%m-%d}" in note for note in found[0].notes)


def test_file_times_in_steps_of_two_seconds_order_nothing() -> None:
    early = stamped("autosave", NOON + timedelta(seconds=10), "keel garboard frame")
    late = stamped("saved", NOON + timedelta(seconds=11, microseconds=500), "oak plank rivet")
    assert newer(early, late) == (0, "nothing")
    exact = stamped("autosave", NOON + timedelta(seconds=9, microseconds=7), "keel garboard frame")
    assert newer(exact, late) == (-1, "file")


def test_dates_that_copying_stamped_are_said() -> None:
    verdict, best = decide(
        [
            stamped(kind, NOON, text)
            for kind, text in (("saved", BASE), ("autosave", MORE), ("temporary", "oak tide mast"))
        ]
    )
    assert Caution.ONE_DATE in {said.kind for said in verdict.warnings}
    assert best is not None and best.kind is Kind.AUTOSAVE


def test_saves_and_editing_cycles_order_versions_where_clocks_lie() -> None:
    first, second = content("keel garboard frame"), content("oak plank rivet")
    marks = (("first-save", "A"), ("revisions", "A B")), (("first-save", "A"), ("revisions", "A B C"))
    one = replace(copy("saved", 9, ""), content=replace(first, glance=replace(first.glance, identity=marks[0])))
    two = replace(copy("autosave", 0, ""), content=replace(second, glance=replace(second.glance, identity=marks[1])))
    assert newer(two, one) == (1, "content") and newer(one, two) == (-1, "content")


def made(
    kind: str,
    minutes: int,
    format_name: str,
    tokens: str = "",
    *parts: str,
    pixel_hash: str | None = None,
    **amounts: int,
) -> Copy:
    """A copy of any format, by what its reader would tell."""
    sink = TextSink()
    sink.add(tokens)
    marks = tuple(("part", part) for part in parts)
    body = Content(
        Glance(format_name, identity=marks), State.INTACT, "whole", 900 + minutes, f"{kind}{minutes}", sink.words if tokens else None,
        sink.text_hash(), sink.tokens(), sink.lines(), pixel_hash, {**amounts, **({"words": sink.words} if tokens else {})},
    )  # fmt: skip
    return replace(copy(kind, minutes, BASE), content=body)


SAME: dict[str, tuple[Copy, Copy, bool]] = {
    # what "equal content" means: (one, the other, whether they are one version)
    "one format, the same text": (made("saved", 0, "docx", BASE), made("autosave", 9, "docx", BASE), True),
    "one format, one word more": (made("saved", 0, "docx", BASE * 40), made("autosave", 9, "docx", BASE * 40 + " tide"), False),
    "another format, nearly all words": (made("saved", 0, "docx", BASE * 40), made("autosave", 9, "odt", BASE * 40 + " tide"), True),
    "another format, a run of words of its own": (
        made("saved", 0, "docx", BASE * 60), made("autosave", 9, "odt", BASE * 60 + " tide crane berth mast spar"), False),
    "another format, fewer words alike": (
        made("saved", 0, "docx", f"{BASE} {BASE}"), made("autosave", 9, "odt", f"{BASE} tide {BASE}"), False),
    "the same text, another picture inside": (
        made("saved", 0, "docx", BASE, "1a-2000"), made("autosave", 9, "docx", BASE, "1a-2000", "2b-3000"), False),
    "no text, the same pixels": (made("saved", 0, "png", pixel_hash="x"), made("backup", 9, "bmp", pixel_hash="x"), True),
    "no text, other pixels": (made("saved", 0, "png", pixel_hash="x"), made("backup", 9, "png", pixel_hash="y"), False),
    "no text, other bytes": (made("saved", 0, "pdf"), made("backup", 9, "pdf"), False),
}  # fmt: skip


@pytest.mark.parametrize("case", sorted(SAME))
def test_what_equal_content_is(case: str) -> None:
    one, other, same = SAME[case]
    assert equal(one.content, other.content) is same and equal(other.content, one.content) is same
    assert same_versions(assign_times([one, other], CLOCK), 0) == ({1: 0} if same else {})


def test_a_picture_that_was_put_in_is_lost_work() -> None:
    verdict, best = decide([made("saved", 0, "docx", BASE), made("autosave", 9, "docx", BASE, "2b-3000")])
    assert verdict.situation is Situation.CRASHED and best is not None and best.kind is Kind.AUTOSAVE
    (lacks,) = [reason for reason in verdict.why if reason.kind is Why.SAVED_LACKS]
    assert (lacks.count, lacks.unit) == (1, "pictures or objects")


@pytest.mark.parametrize(
    ("saved", "newer_copy", "said"),
    [
        (
            made("saved", 0, "xlsx", BASE, cells=400),
            made("autosave", 9, "xlsx", BASE + " mast", cells=90),
            (90, 400, "filled cells"),
        ),
        (
            made("saved", 0, "pdf", fields=12),
            made("autosave", 9, "pdf", fields=3),
            (3, 12, "filled form fields"),
        ),
    ],
)
def test_poorer_but_newer_by_cells_and_form_fields(saved: Copy, newer_copy: Copy, said: object) -> None:
    verdict, best = decide([saved, newer_copy])
    assert best is not None and best.kind is Kind.AUTOSAVE
    assert [(each.less, each.count, each.unit) for each in verdict.warnings] == [said]


def test_candidates_are_strictly_before_the_limit() -> None:
    copies = [copy("saved", 9, MORE, damaged=True), copy("autosave", 5, MORE), copy("autosave", 4, BASE)]
    _, best = decide(copies, hints=Hints(older_than=NOON + timedelta(minutes=5)))
    assert best is not None and best.written == NOON + timedelta(minutes=4)
    verdict, best = decide(copies[:2], hints=Hints(older_than=NOON + timedelta(minutes=5)))
    assert best is None
    (left,) = [reason for reason in verdict.why if reason.kind is Why.LEFT_OUT]
    assert left.count == 1 and left.copy is not None and copies[left.copy].kind is Kind.AUTOSAVE
    assert verdict.next_steps[0].kind is Step.SEARCH_WITHOUT_LIMIT


def test_what_to_try_next_stands_in_order() -> None:
    facts = {
        "denied": ["/disk/home/ines/Backups"], "unreached": ["E:\\Yard"], "holders": ["Petra Lund"], "online": "https://quay.example/a.docx",
        "away": "its saved file is on a server (https://quay.example/a.docx): ask for access to it",
    }  # fmt: skip
    verdict, _ = decide([copy("autosave", 5, MORE, damaged=True)], hints=Hints(person="Ines"), **facts)
    assert [each.kind for each in verdict.next_steps] == [
        each for each in Step if each not in (Step.REPAIR, Step.SEARCH_WITHOUT_LIMIT)
    ]
    assert step(verdict.next_steps[0]) == "ask for the right to read /disk/home/ines/Backups"


def test_what_speaks_against_the_best_copy_is_said() -> None:
    doubtful = copy("autosave", 9, MORE)
    pieces = (
        evidence("recovery-list", "the list names it"),
        evidence("other-content", "no three words in a row are shared"),
    )
    verdict, _ = decide([copy("saved", 0, BASE), replace(doubtful, evidence=pieces)])
    assert (verdict.why[1].kind, verdict.why[1].text) == (Why.AGAINST, "no three words in a row are shared")


def test_an_open_document_and_an_autosave_that_could_not_be_told() -> None:
    verdict, _ = decide([copy("saved", 0, BASE)], locked=True, strays=["/disk/~ar1.xar"])
    assert verdict.situation is Situation.NOTHING_LOST
    assert [said.kind for said in verdict.warnings] == [Caution.STRAY_AUTOSAVE] and not verdict.warnings[0].is_certain


@pytest.mark.parametrize(
    ("local", "near", "expected"),
    [
        ("2026-07-12 16:38", "2026-07-12 14:38:20", "14:38"),  # summer time, two hours ahead
        ("2026-01-12 16:38", "2026-01-12 15:38:50", "15:38"),  # winter time
        ("2026-03-12 16:38", "2026-03-12 11:08:00", "11:08"),  # half an hour
        ("2026-03-12 16:38", "2026-03-09 11:08:00", "16:38"),  # no zone is three days away
        ("2026-03-12 16:38", None, "16:38"),
    ],
)
def test_inner_times_without_zone_take_it_from_the_file(local: str, near: str | None, expected: str) -> None:
    then = datetime.fromisoformat(near).replace(tzinfo=UTC) if near else None
    assert f"{to_utc(datetime.fromisoformat(local), then):%H:%M}" == expected
