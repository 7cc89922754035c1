#!/usr/bin/env python3
"""Matching by content alone: 5,000 nameless copies against 20,000 documents, without any file: bench/matching_speed.py

Prints seconds and peak memory, how many copies found their document, and how the time grows with both numbers. The contents
are made before the clock starts; sketching, looking up, comparing and weighing are all timed.
"""

from __future__ import annotations

import random
import sys
import time
from datetime import UTC, datetime

from common import own_memory, row
from documents import Identity, Rows, edited, row_of

from rustfern.core.model import Content, Evidence, Glance, State
from rustfern.formats.text_sink import TextSink
from rustfern.matching.evidence import by_content, by_identity, weights
from rustfern.matching.evidence.similarity_index import Likeness

DOCUMENTS, COPIES = 20_000, 5_000
MADE = datetime(2026, 2, 2, 8, tzinfo=UTC)


def content(rows: Rows, ident: Identity) -> Content:
    """What reading a text with these rows to its end tells."""
    sink = TextSink()
    for each in rows:
        sink.add(" ".join(each))
    marks = (("first-save", ident.root), ("made", f"{ident.made} {ident.maker}"))
    return Content(
        Glance("docx", identity=marks),
        State.INTACT,
        "",
        0,
        None,
        sink.words,
        sink.text_hash(),
        sink.tokens(),
        sink.lines(),
    )


def disk(documents: int, copies: int) -> tuple[dict[str, Content], list[tuple[str, Content]]]:
    """Documents by key, a tenth of them from twenty templates, and (right key, copy) of random ones."""
    rng = random.Random(documents)
    person = Identity(MADE, "Ines Varga", "", "")
    templates = [tuple(row_of(rng, "docx") for _ in range(4)) for _ in range(20)]
    rows: dict[str, tuple[Rows, Identity]] = {}
    for number in range(documents):
        ident = Identity(MADE, person.maker, f"{rng.getrandbits(32):08X}", "")
        start: Rows = ()
        if number % 10 == 0:
            which = rng.randrange(20)
            start, ident = templates[which], Identity(MADE, person.maker, f"{which:08X}", "")
        rows[f"/d/{number}"] = (*start, *(row_of(rng, "docx") for _ in range(rng.randint(3, 12)))), ident
    chosen = rng.sample(sorted(rows), copies)
    made = [(key, content(edited(rng, rows[key][0], "docx", 3), rows[key][1])) for key in chosen]
    return {key: content(*each) for key, each in rows.items()}, made


def match(documents: dict[str, Content], copies: list[tuple[str, Content]]) -> tuple[float, int, int]:
    """Seconds, how many copies were given to their document, how many to another one."""
    started = time.perf_counter()
    index = Likeness()
    for key, each in documents.items():
        index.add(key, each)
    right = wrong = 0
    for truth, copy in copies:
        near = index.near(copy)
        shares = by_content.shared_among(copy, {key: [documents[key]] for key in near})
        found: list[tuple[str, list[Evidence]]] = []
        for key in near:
            pieces = []
            if tied := by_identity.shared_identity(copy, documents[key], index.carriers):
                pieces.append(tied)
            if share := shares.get(key, 0.0):
                pieces.append(weights.evidence("shared-content", "", share**1.5))
            if pieces:
                found.append((key, pieces))
        sure = weights.confidences([pieces for _, pieces in found])
        best = max(range(len(found)), key=lambda i: sure[i], default=None)
        if best is not None and sure[best] >= weights.THRESHOLD:
            right += found[best][0] == truth
            wrong += found[best][0] != truth
    return time.perf_counter() - started, right, wrong


def main() -> int:
    good, times = True, []
    for part in (4, 2, 1):
        documents, copies = disk(DOCUMENTS // part, COPIES // part)
        before = own_memory()
        # The best of three: another program on the machine is no part of the matching.
        took, right, wrong = min(match(documents, copies) for _ in range(3))
        times.append(took)
        print(
            f"{len(copies):5} copies, {len(documents):6} documents: {took:6.2f} s, {right / len(copies):.2%} found, {wrong} wrong, "
            f"{before >> 20} MB before, {own_memory() >> 20} MB after"
        )
    good &= row("5,000 copies against 20,000 documents", times[-1], 10, "s")
    good &= row("peak memory, contents included", own_memory() / 1e6, 500, "MB")
    good &= row("growth from a quarter to all (4 is linear)", times[-1] / times[0], 6)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
