"""One strange file costs itself: matching, comparing, choosing and showing are isolated find by find, and hold on what cannot be."""

from __future__ import annotations

import importlib.util
import random
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Run, odt, write
from hypothesis import given, settings
from hypothesis import strategies as st

from rustfern.core.model import Content, Glance, State
from rustfern.core.remarks import Why
from rustfern.matching.content_comparison import Comparing
from rustfern.matching.copies import Copies
from rustfern.matching.evidence.similarity_index import Likeness
from rustfern.operations import scan
from rustfern.selection import choose, clocks

Rustfern = Callable[..., Run]
T0 = 1_790_000_000
_FUZZ = Path(__file__).parents[1] / "tools" / "fuzz_matching.py"


@pytest.fixture(scope="module")
def fuzz() -> object:
    spec = importlib.util.spec_from_file_location("fuzz_matching", _FUZZ)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@settings(max_examples=60)
@given(st.integers(0, 2**32))
def test_matching_and_choosing_hold_on_contents_that_cannot_be(fuzz: object, seed: int) -> None:
    assert fuzz.one(random.Random(seed)) >= 1  # type: ignore[attr-defined]


@given(st.integers(0, 60), st.lists(st.binary(max_size=12).map(lambda data: data[: len(data) // 4 * 4]), max_size=60))
def test_short_texts_are_sketched(count: int, texts: list[bytes]) -> None:
    likeness = Likeness()
    for number, tokens in enumerate([*texts, *([b""] * count)]):
        likeness.add(str(number), Content(Glance("odt"), State.INTACT, "", 1, str(number), tokens=tokens))
    asked = Content(Glance("odt"), State.INTACT, "", 1, "0", tokens=b"abcd")
    assert len(likeness.near(asked)) <= max(len(likeness), 40)


@pytest.fixture
def disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """More than forty known documents, all short, one of them saved over; a nameless autosave that holds little text."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    home = tmp_path / "disk/home/ines"
    for number in range(50):
        write(home / f"Documents/tide {number}.odt", odt(f"{number}"), T0 + 60)
        write(home / f"Documents/tide {number}.odt~", odt(f"{number} x"), T0)
    write(home / "Documents/berths.odt", odt("slipway closed"), T0 + 60)
    write(home / "Documents/berths.odt~", odt(*(f"berth {n} let to {n * 7} boats by the crane" for n in range(9))), T0)
    write(home / ".config/libreoffice/4/user/backup/lu8zq.tmp_0.odt", odt("ebb"), T0)
    return tmp_path / "disk"


@pytest.mark.parametrize("command", ["scan", "keep"])
def test_a_small_file_never_ends_a_search(disk: Path, rustfern: Rustfern, tmp_path: Path, command: str) -> None:
    run = rustfern(command, disk, "--json", *(["--to", tmp_path / "kept"] if command == "keep" else []))
    assert run.status == 0, run.err
    if command == "scan":
        assert [d["name"] for d in run.json["documents"] if d["situation"] == "overwritten"] == ["berths.odt"]


@pytest.mark.parametrize("error", [ValueError("odd"), MemoryError(), RecursionError(), KeyError("x"), AssertionError()])
@pytest.mark.parametrize("step", ["take_named", "take_unnamed", "compare", "choose", "show"])
def test_an_error_costs_one_find(disk: Path, monkeypatch: pytest.MonkeyPatch, step: str, error: Exception) -> None:
    def broken(inner: Callable[..., object]) -> Callable[..., object]:
        def call(*args: object, **kwargs: object) -> object:
            if "tide 7.odt" in str(args[-1] if step == "choose" else args[1:]):
                raise error
            return inner(*args, **kwargs)

        return call

    if step == "choose":
        monkeypatch.setattr(choose, "choose", lambda copies, facts, hints: _choose(copies, facts, hints, error))
    elif step == "show":
        monkeypatch.setattr(clocks, "later", broken(clocks.later))
    else:
        owner = Comparing if step == "compare" else Copies
        monkeypatch.setattr(owner, step, broken(getattr(owner, step)))
    answer = scan.scan([str(disk)])
    names = {document.name: document for document in answer.documents}
    assert names["berths.odt"].verdict.situation == "overwritten" and names["berths.odt"].verdict.best is not None
    listed = {copy.path for document in answer.documents for copy in document.copies}
    listed |= {copy.path for copy in answer.unmatched if hasattr(copy, "path")}
    assert str(disk / "home/ines/Documents/tide 7.odt~") in listed
    if step == "choose":
        assert names["tide 7.odt"].verdict.best is None and names["tide 7.odt"].verdict.why[0].kind is Why.NOT_JUDGED
    if step in ("take_named", "choose"):
        assert any("could not be judged" in problem.message for problem in answer.problems)


_choose_as_it_is = choose.choose


def _choose(copies: object, facts: object, hints: object, error: Exception) -> object:
    if "tide 7.odt" in str(facts):
        raise error
    return _choose_as_it_is(copies, facts, hints)  # type: ignore[arg-type]
