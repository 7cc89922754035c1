#!/usr/bin/env python3
"""Matching and choosing on generated homes of known truth: bench/matching.py [--homes N] [--seeds even|odd] [--size N] [-v]

Prints precision and recall of matches, the share of right picks, wrong picks that were presented as sure, calibration, and
each by what happened. Every home is searched without any hint.
"""

from __future__ import annotations

import argparse
import multiprocessing
import shutil
import sys
import tempfile
import time
from collections import Counter, defaultdict
from pathlib import Path
from typing import Any

import homes

from rustfern.core.times import Clock
from rustfern.matching.evidence.weights import SURE
from rustfern.operations import scan, schema

Row = dict[str, Any]


def presented(document: Any, best: Any) -> float:
    """How sure a pick is presented: not at all where a warning says that it is not certain."""
    return best["confidence"] if best and not any("not certain" in each for each in document["warnings"]) else 0.0


def judge(disk: homes.Disk, answer: Any, root: str) -> tuple[list[Row], list[Row]]:
    """(one row for each lost document, one for each leftover with a known original)."""

    def here(path: str | None) -> str | None:
        return path[len(root) + 1 :] if path and path.startswith(root + "/") else path

    owner: dict[str, tuple[Any, float]] = {}
    by_original = {}
    for document in answer["documents"]:
        if document["original"]:
            by_original[here(document["original"])] = document
        for copy in [*document["copies"], *document["locks"]]:
            if copy.get("kind") != "saved":
                owner[str(here(copy["path"]))] = document, copy["confidence"]
    picks = []
    for truth in disk.truths:
        document = by_original.get(truth.original) if truth.original else None
        if document is None and truth.best:
            found = next((owner[path][0] for path in truth.best if path in owner), None)
            # Given to another document, it is not found; alone, it is what the person gets.
            document = found if found and (not truth.original or not found["original"]) else None
        row: Row = {
            "story": truth.story,
            "name": truth.name,
            "seed": disk.seed,
            "clock": disk.clock,
            "exists": bool(truth.best),
            "truth": truth,
        }
        if document is None:
            # A document without any copy that is left, or that lost nothing, need not be listed.
            quiet = not truth.best or truth.best == (truth.original,)
            row |= {"right": quiet, "sure": 0.0, "situation": "(none)", "situation_right": quiet, "picked": None}
        else:
            best = next((copy for copy in document["copies"] if copy["id"] == document["best"]), None)
            picked = here(best["path"]) if best else None
            row |= {
                "picked": picked, "right": picked in truth.best if truth.best else picked is None,
                "sure": presented(document, best),
                "situation": document["situation"],
                "situation_right": document["situation"] in truth.situations, "why": document["why"], "warnings": document["warnings"],
            }  # fmt: skip
        picks.append(row)
    known = {id(by_original.get(truth.original)) for truth in disk.truths}
    for document in answer["documents"]:
        best = next((copy for copy in document["copies"] if copy["id"] == document["best"]), None)
        path = here(best["path"]) if best else None
        if (
            id(document) in known
            or path not in disk.files
            or not document["original"]
            or here(document["original"]) == path
        ):
            continue
        if disk.links.get(path or "") != here(document["original"]) and not (best and best["kind"] == "trash"):
            picks.append({"story": "bystander", "name": document["name"], "seed": disk.seed, "clock": disk.clock, "exists": True, "picked": path,
                          "right": False, "sure": presented(document, best), "situation": document["situation"], "situation_right": False,
                          "truth": homes.Truth("bystander", document["name"], None, (), ()), "why": document["why"]})  # fmt: skip
    matches = []
    for path, original in disk.links.items():
        document, confidence = owner.get(path, (None, 0.0))
        given = None if document is None else here(document["original"])
        # A document of its own claims no original: right for a draft, not matched for all others.
        alone = given is None or given == path
        right = document is not None and (alone if not original else given == original)
        matched = document is not None and (right or not alone)
        matches.append(
            {
                "path": path,
                "original": original,
                "given": given,
                "matched": matched,
                "confidence": confidence,
                "right": right,
                "seed": disk.seed,
            }
        )
    # Leftovers that were given to documents although they belong to none of them.
    for path, (document, confidence) in owner.items():
        if (
            path not in disk.links
            and path in disk.files
            and here(document["original"]) != path
            and document["original"]
        ):
            matches.append(
                {
                    "path": path,
                    "original": "?",
                    "given": here(document["original"]),
                    "matched": True,
                    "confidence": confidence,
                    "right": False,
                    "seed": disk.seed,
                }
            )
    return picks, matches


def one(work: tuple[int, int | None]) -> tuple[list[Row], list[Row], float, int]:
    """Make one home, search it, judge the answer."""
    seed, size = work
    folder = Path(tempfile.mkdtemp(prefix="homes-"))
    try:
        disk = homes.make(seed, folder / "disk", size)
        started = time.perf_counter()
        answer = scan.scan([str(folder / "disk")], case=str(folder / "case.fern"))
        took = time.perf_counter() - started
        picks, matches = judge(disk, schema.plain(schema.answer(answer, Clock())), str(folder / "disk"))
        return picks, matches, took, disk.documents
    finally:
        shutil.rmtree(folder)


def share(rows: list[Row], key: str = "right") -> str:
    good = sum(bool(row[key]) for row in rows)
    return f"{good / len(rows):7.2%} ({good} of {len(rows)})" if rows else "   none"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--homes", type=int, default=100)
    parser.add_argument("--seeds", choices=("even", "odd"), default="odd", help="tune on even ones, report odd ones")
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--size", type=int, help="documents a home; without: 50 to 600")
    parser.add_argument("-v", "--verbose", action="store_true")
    asked = parser.parse_args()
    seeds = [2 * (asked.first + number) + (asked.seeds == "odd") for number in range(asked.homes)]
    picks: list[Row] = []
    matches: list[Row] = []
    seconds, documents = 0.0, 0
    with multiprocessing.Pool() as pool:
        for mine, theirs, took, count in pool.imap_unordered(one, [(seed, asked.size) for seed in seeds]):
            picks += mine
            matches += theirs
            seconds += took
            documents += count
    if asked.verbose:
        for row in sorted(picks, key=lambda row: (row["story"], row["seed"])):
            if not row["right"] or not row["situation_right"]:
                print(
                    f"{'WRONG PICK' if not row['right'] else 'situation '} seed {row['seed']} {row['clock']:<7} {row['story']:<15} {row['name']}: {row['situation']} {row['sure']:.2f}"
                )
                print(
                    f"    picked {row['picked']}; right: {row['truth'].best}; {row.get('why', '')} {row.get('warnings', '')}"[
                        :600
                    ]
                )
        for row in matches:
            if not row["right"]:
                print(
                    f"{'NOT MATCHED' if not row['matched'] else 'WRONG MATCH'} seed {row['seed']} {row['path']} -> {row['given']} ({row['confidence']:.2f}), right: {row['original']}"
                )
    made = [row for row in matches if row["matched"]]
    possible = [row for row in matches if row["original"] != "?"]
    there = [row for row in picks if row["exists"]]
    wrong_sure = [row for row in picks if not row["right"] and row["sure"] >= SURE]
    print(
        f"{len(seeds)} homes ({asked.seeds} seeds), {documents} documents, {len(picks)} lost, {seconds / len(seeds):.2f} s a search"
    )
    print(f"precision of matches   {share(made)}")
    print(f"recall of matches      {share(possible)}")
    print(f"right picks            {share(there)}  where an intact copy exists")
    print(f"nothing intact, said   {share([row for row in picks if not row['exists']])}")
    print(f"wrong picks as sure    {len(wrong_sure)}")
    print("calibration of matches (said → right):")
    steps: dict[float, list[Row]] = defaultdict(list)
    for row in made:
        steps[min(int(row["confidence"] * 20) / 20, 0.95)].append(row)
    for step in sorted(steps):
        mean = sum(row["confidence"] for row in steps[step]) / len(steps[step])
        print(f"    {mean:6.1%} → {share(steps[step])}")
    print("by what happened: right picks, right situations")
    for story in sorted({row["story"] for row in picks}):
        rows = [row for row in picks if row["story"] == story]
        seen = Counter(row["situation"] for row in rows if not row["situation_right"])
        print(f"    {story:<16} {share(rows)}  {share(rows, 'situation_right')} {dict(seen) or ''}")
    good = (
        not wrong_sure
        and sum(r["right"] for r in there) >= 0.99 * len(there)
        and sum(r["right"] for r in made) >= 0.995 * len(made)
    )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
