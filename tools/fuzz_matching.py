#!/usr/bin/env python3
"""Structure-aware fuzzing of matching and choosing: tools/fuzz_matching.py [--mutations N] [--seed N]

Made-up homes of known, odd and impossible contents (tiny, empty, equal, enormous, contradictory) are indexed, compared, weighed, assigned,
chosen from and ranked. Nothing may be raised, every confidence must be a share, and what is chosen must be whole. Prints how many mutations
went through, and the seed of whatever broke.
"""

from __future__ import annotations

import argparse
import random
import sys
import time
from array import array
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from msgspec.structs import replace

if __name__ == "__main__":
    sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from rustfern.core.model import (
    Content,
    Copy,
    Document,
    Entry,
    Find,
    Glance,
    Hints,
    Home,
    Kind,
    Layout,
    Location,
    Order,
    Situation,
    State,
)
from rustfern.core.times import Clock
from rustfern.matching.evidence import assignment, by_content, by_identity, weights
from rustfern.matching.evidence import by_name as candidates
from rustfern.matching.evidence.by_name import Candidate
from rustfern.matching.evidence.similarity_index import Likeness
from rustfern.operations import schema
from rustfern.selection import choose, ranking

T0 = datetime(2026, 3, 12, 16, 40, tzinfo=UTC)
FORMATS = ("odt", "docx", "txt", "ods", "pdf", "jpg", "sqlite", None, "nobody-knows")
MARKS = (
    "document-id",
    "file-id",
    "first-save",
    "revisions",
    "made",
    "cycles",
    "worked",
    "part",
    "taken",
    "folder",
    "no-such-kind",
)
TIMES = (
    datetime.min.replace(tzinfo=UTC),
    datetime.max.replace(tzinfo=UTC),
    datetime(1601, 1, 1, tzinfo=UTC),
    datetime(1970, 1, 1, tzinfo=UTC),
)
NAMES = (
    "Hull survey.odt",
    "hull SURVEY.odt",
    "",
    ".",
    "..",
    "a" * 255,
    "Ümlaut.odt",
    "U\u0308mlaut.odt",
    "no\ud800pair.txt",
    "%2e%2e",
    "~$x",
    "x" * 3 + ".",
)
Made = tuple[Content, Content]


def _tokens(rng: random.Random) -> bytes:
    size = rng.choice((0, 0, 1, 2, 3, 4, 7, 30, 200, rng.randrange(3_000), 200_000 if rng.random() < 0.002 else 12))
    most = rng.choice((1, 3, 200, 2**32 - 1))
    return array("I", (rng.randrange(most) for _ in range(size))).tobytes()


def _identity(rng: random.Random) -> tuple[tuple[str, str], ...]:
    values = ("1", "2", "", "x" * 50, "9" * 5_000, "-1", "\u0663", " a b ", "a")
    return tuple((rng.choice(MARKS), rng.choice(values)) for _ in range(rng.choice((0, 0, 1, 3, 40))))


def time_of(rng: random.Random) -> datetime | None:
    """A time as disks and documents tell it: mostly sound, sometimes none, sometimes one that cannot be."""
    if rng.random() < 0.15:
        return None
    return rng.choice(TIMES) if rng.random() < 0.15 else T0 + timedelta(seconds=rng.randrange(-(10**7), 10**7))


def content(rng: random.Random) -> Content:
    """A content whose facts need not agree with each other."""
    tokens, lines = _tokens(rng), _tokens(rng)
    count = rng.choice((None, len(tokens) // 4, len(tokens) // 4, 0, 10**9))
    glance = Glance(
        rng.choice(FORMATS),
        rng.choice((None, "", "Survey")),
        None,
        time_of(rng),
        time_of(rng),
        None,
        None,
        _identity(rng),
    )
    text_hash = rng.choice((None, f"{hash(tokens) & 0xFFFF:x}", "same"))
    amounts = {rng.choice(("words", "cells", "fields")): rng.choice((0, 1, 10**12)) for _ in range(rng.randrange(3))}
    return Content(
        glance, rng.choice(tuple(State)), "made up", rng.choice((0, 1, 4_096, 2**63)), rng.choice((None, f"{hash(lines) & 0xFF:x}")), count, text_hash,
        tokens, lines, rng.choice((None, None, "pixels")), amounts,
    )  # fmt: skip


def mutate(rng: random.Random, base: Content) -> Content:
    """A version of a content: some words gone, doubled or new, some facts taken from elsewhere."""
    other = content(rng)
    tokens = array("I")
    tokens.frombytes(base.tokens)
    if tokens:
        start, end = sorted(rng.randrange(len(tokens) + 1) for _ in range(2))
        part = tokens[start:end]
        tokens = rng.choice((part, tokens + part, tokens[:start] + tokens[end:], tokens, array("I")))
    chosen = {
        name: getattr(other, name)
        for name in ("glance", "state", "sha256", "words", "text_hash", "lines", "pixel_hash", "amounts")
        if rng.random() < 0.3
    }
    return replace(base, tokens=tokens.tobytes(), **chosen)


def _copy(rng: random.Random, made: Content, number: int) -> Copy:
    path = f"/disk/home/ines/{number % 7}/{number}-{rng.choice(NAMES)}"
    entry = Entry(Location("/disk", path), made.size, time_of(rng))
    clocks = {
        name: moment
        for name in ("content", "record", "name", "file")
        if (moment := time_of(rng)) and rng.random() < 0.6
    }
    return Copy(
        entry, rng.choice(tuple(Kind)), "odf-suite-autosave", made, rng.choice((None, True, False)), clocks, rng.choice(tuple(Order)),
        rng.random() < 0.8, confidence=rng.random(), bases=tuple(rng.sample(("x", "/disk/y"), rng.randrange(3))),
    )  # fmt: skip


def _facts(rng: random.Random, copies: Sequence[Copy]) -> choose.Facts:
    saved = rng.choice((None, *(i for i, copy in enumerate(copies) if copy.kind is Kind.SAVED)))
    flags = (
        "locked",
        "listed",
        "never_saved",
        "changed",
        "trashed",
        "misplaced",
        "misnamed",
        "in_use",
        "resaved",
        "asked_for",
    )
    deleted = {i: T0 for i, copy in enumerate(copies) if copy.kind is Kind.TRASH and rng.random() < 0.5}
    listed = {
        name: ["/disk/x"] if rng.random() < 0.2 else []
        for name in ("denied", "elsewhere", "strays", "unreached", "holders")
    }
    return choose.Facts(
        rng.choice((None, "/disk/home/ines/Hull survey.odt")), saved, changed_since=time_of(rng), deleted=deleted, **listed,
        **{flag: rng.random() < 0.3 for flag in flags},
    )  # fmt: skip


def _hints(rng: random.Random) -> Hints:
    happened = rng.choice((None, *(each for each in Situation if each is not Situation.NOTHING_LOST)))
    return Hints(
        None, rng.choice((None, "hull", "")), happened, time_of(rng), time_of(rng), rng.choice((None, "text", "cad"))
    )


def _pair(rng: random.Random, likeness: Likeness, mine: Content, theirs: Content) -> None:
    """Everything that compares two contents."""
    found = by_content.difference(mine, theirs)
    assert min(found.only_left, found.only_right, found.common) >= 0 and 0 <= found.alike <= 1, found
    assert by_content.equal(mine, theirs) == by_content.equal(theirs, mine)
    assert all(0 <= share <= 1 for share in by_content.share_kept(mine, theirs))
    assert by_content.words_missing_from(mine, theirs) >= 0 and by_content.parts_missing_from(mine, theirs) >= 0
    assert by_content.nothing_shared(mine, theirs) in (True, False)
    assert by_identity.later(mine, theirs) == -by_identity.later(theirs, mine)
    if (tied := by_identity.shared_identity(mine, theirs, likeness.carriers)) is not None:
        assert tied.weight == tied.weight, tied


CLOCK = Clock(UTC)


def _chosen(rng: random.Random, made: Sequence[Content]) -> Document:
    """A document of these contents, chosen from and told for programs."""
    copies = choose.assign_times([_copy(rng, each, number) for number, each in enumerate(made)], CLOCK)
    facts, hints = _facts(rng, copies), _hints(rng)
    verdict = choose.choose(copies, facts, hints)
    if verdict.best is not None:
        state = copies[verdict.best].content.state
        assert state is State.INTACT or verdict.best == facts.saved or state is State.ENCRYPTED, (verdict, state)
    document = Document(
        f"key {rng.random()}", rng.choice(NAMES), "text", facts.original, facts.saved is not None, None, None, tuple(copies), (), (), verdict,
        choose.same_versions(copies, facts.saved), ids=tuple(f"1{contract_letters(i)}" for i in range(len(copies))),
    )  # fmt: skip
    schema.document(document, CLOCK)
    return document


def contract_letters(number: int) -> str:
    """Ids as a case gives them."""
    from rustfern.cases.case_file import letters

    return letters(number)


class _Names:
    """A name index of odd names."""

    def __init__(self, paths: Sequence[str]) -> None:
        self.paths = list(paths)

    def by_name(self, name: str, limit: int = 60) -> list[str]:
        return self.paths[:limit]

    def by_stem(self, stem: str, limit: int = 60) -> list[str]:
        return self.paths[:limit]

    def beside(self, folder: str, stem: str) -> list[str]:
        return self.paths


def _by_names(rng: random.Random) -> None:
    """Names as evidence."""
    home = Home("/disk/home/ines", Layout.LINUX, "ines", "/disk", "/disk")
    names = _Names([f"/disk/home/ines/{rng.choice(NAMES)}" for _ in range(rng.choice((0, 1, 70)))])
    keys = rng.sample(("name", "stem", "prefixed", "vstem", "dotext", "tail"), rng.randrange(4))
    fields = {key: rng.choice(NAMES) for key in keys}
    find = Find(
        Entry(Location("/disk", "/disk/home/ines/x"), 1, None),
        "odf-suite-autosave",
        "autosave",
        fields,
        rng.choice((home, None)),
    )
    for beside in (True, False):
        for item in candidates.for_copy(find, rng.choice(FORMATS), names, [home], ("Backup of ",), beside=beside):
            assert isinstance(item, Candidate)
    candidates.shown_stem(find, ())
    candidates.for_owner_lock(rng.choice(NAMES), "/disk/home/ines", rng.choice((None, 162, 165)), names.paths, ())


def one(rng: random.Random) -> int:
    """One made-up home through every step; how many mutations that were."""
    likeness = Likeness()
    known: dict[str, list[Content]] = {}
    same = content(rng)
    for number in range(rng.choice((0, 1, 3, 41, 60, 300 if rng.random() < 0.05 else 5))):
        first = rng.choice((same, content(rng)))
        known[f"/disk/{number}"] = [first, *(mutate(rng, first) for _ in range(rng.randrange(3)))]
        for each in known[f"/disk/{number}"]:
            likeness.add(f"/disk/{number}", each)
    done = sum(map(len, known.values()))
    for _ in range(rng.randrange(1, 8)):
        base = rng.choice([each for group in known.values() for each in group] or [same])
        mine = rng.choice((content(rng), mutate(rng, base), base))
        near = likeness.near(mine)
        assert len(set(near)) == len(near) and set(near) <= set(known), near
        shares = by_content.shared_among(mine, {key: known[key] for key in near})
        assert all(0 < share <= 1.000001 for share in shares.values()), shares
        for key in near[:3]:
            _pair(rng, likeness, mine, rng.choice(known[key]))
        done += 1
    pieces = [
        [
            [weights.evidence(rng.choice(tuple(weights.WEIGHTS)), "", rng.random()) for _ in range(rng.randrange(4))]
            for _ in range(3)
        ]
        for _ in range(rng.randrange(5))
    ]
    assert all(0 <= sure <= 1 for _, sure in assignment.assign(pieces))
    for row in pieces:
        assert all(0 <= share <= 1 for share in weights.confidences(row))
    _by_names(rng)
    documents = [
        _chosen(rng, [mutate(rng, same) for _ in range(rng.choice((0, 1, 2, 6, 30)))]) for _ in range(rng.randrange(4))
    ]
    assert len(ranking.rank(documents, _hints(rng))) == len(documents)
    return done + sum(len(document.copies) for document in documents)


def thousands(make: Callable[[int], Content]) -> None:
    """Thousands of copies of one document, and thousands of documents."""
    likeness = Likeness()
    made = [make(number) for number in range(3_000)]
    for number, each in enumerate(made):
        likeness.add(str(number), each)
    likeness.near(made[0])
    rng = random.Random(1)
    _chosen(rng, made)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--mutations", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=0)
    asked = parser.parse_args()
    began, done, broken, seed = time.monotonic(), 0, 0, asked.seed
    rng = random.Random(7)
    kinds: dict[str, Callable[[int], Content]] = {
        "tiny": lambda n: replace(content(rng), tokens=array("I", [n]).tobytes(), lines=b""),
        "empty": lambda n: replace(content(rng), tokens=b"", lines=b""),
        "equal": lambda n: Content(
            Glance("odt"), State.INTACT, "", 1, "same", 3, "same", array("I", [1, 2, 3]).tobytes()
        ),
        "different": lambda n: Content(
            Glance("odt"), State.INTACT, "", 1, str(n), 9, str(n), array("I", range(n, n + 9)).tobytes()
        ),
    }
    for name, make in kinds.items():
        start = time.monotonic()
        thousands(make)
        print(f"3,000 {name} contents: {time.monotonic() - start:.1f} s", flush=True)
    while done < asked.mutations:
        try:
            done += one(random.Random(seed))
        except Exception as error:
            broken += 1
            print(f"seed {seed}: {type(error).__name__}: {str(error)[:200]}", flush=True)
            if broken > 20:
                break
        seed += 1
    print(f"{done} mutations in {time.monotonic() - began:.0f} s, {broken} findings")
    return 1 if broken else 0


if __name__ == "__main__":
    sys.exit(main())
