#!/usr/bin/env python3
"""What comes back of damaged documents: the mutations of bench/check.py, repaired; by format and kind of damage.

    bench/repair.py [--seed N] [--each N] [--format NAME] [--kind KIND] [--show]

Of each mutation that the check calls damaged: whether a file was written, whether it is whole by the check, which share of the healthy document's
words stands in it (a part of them is gone: what can be had is less than all), and how many words stand in it that the healthy document does not
have (marks left out). Errors other than a refusal are findings. The command itself is run on one sample of each format and kind:
its time as a multiple of the check's in turn, and its memory.
"""

from __future__ import annotations

import argparse
import io
import os
import random
import re
import sys
import tempfile
import traceback
from collections import Counter, defaultdict
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))
from check import documents, mutations
from common import peak_memory, rustfern

from rustfern.core.errors import Malformed
from rustfern.formats import registry as formats
from rustfern.formats.interface import Limits
from rustfern.formats.text_sink import words_of
from rustfern.repair.interface import Job
from rustfern.repair.registry import is_known, repairers

MARK = re.compile(r"\[[^\]]{3,90}\]")
LIMIT, MEMORY = 3.0, 200


def words(data: bytes, name: str) -> Counter[str]:
    """The words of a document, without those of marks."""
    content, pieces = formats.read_text(io.BytesIO(data), name, 1 << 30, Limits())
    del content
    return Counter(word for piece in pieces for word in words_of(MARK.sub(" ", piece.text)))


def repaired(data: bytes, name: str, found: str | None) -> tuple[str, bytes, str]:
    """(what came of it: intact, broken, refused or error; the bytes; the format or what was said)."""
    said = "no repairer"
    for format_name, mend in repairers(data[:4096], name, found):
        out = io.BytesIO()
        try:
            outcome = mend(Job(io.BytesIO(data), len(data), name, format_name), out)
        except Malformed as error:
            said = str(error)
            continue
        except Exception:
            return "error", b"", traceback.format_exc()
        made = out.getvalue()
        stem = name.rpartition(".")[0]
        verdict = formats.check(io.BytesIO(made), f"{stem}.{outcome.format}", digest=False)
        if str(verdict.state) == "intact":
            return "intact", made, outcome.format
        said = f"{verdict.state}: {verdict.reason}"
    return ("broken" if ":" in said and said.startswith(("damaged", "empty", "unread")) else "refused"), b"", said


def as_commands(samples: dict[str, bytes]) -> tuple[float, int]:
    """(how many times the time of `rustfern check` `rustfern repair` takes, the most memory of one in bytes)."""
    spent, most = {"check": 0.0, "repair": 0.0}, 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        env = {**os.environ, "XDG_STATE_HOME": str(folder / "state")}
        for number, (file, data) in enumerate(samples.items()):
            source = folder / file
            source.write_bytes(data)
            for command, more in (("check", []), ("repair", ["--to", str(folder / f"out{number}")])):
                seconds, memory, _ = peak_memory([rustfern(), command, str(source), *more], env)
                spent[command] += seconds
                most = max(most, memory) if command == "repair" else most
    return spent["repair"] / max(spent["check"], 0.001), most


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--each", type=int, default=3, help="how many of each random kind for each document")
    parser.add_argument("--cuts", type=int, default=10, help="how many of the cuts are tried")
    parser.add_argument("--format", action="append")
    parser.add_argument("--kind", action="append")
    parser.add_argument("--show", action="store_true", help="name each that is not whole, or has words of its own")
    asked = parser.parse_args()
    seed = random.Random(asked.seed)
    tables: dict[tuple[str, str], list[tuple[str, float, int]]] = defaultdict(list)
    samples: dict[str, bytes] = {}
    findings = 0
    for name, data in documents():
        form = name.rpartition(".")[2]
        if (asked.format and form not in asked.format) or not is_known(name, form):
            continue
        healthy = words(data, name)
        cuts = set(seed.sample(range(1, 100), asked.cuts))
        for number, (kind, what, hurt) in enumerate(mutations(name, data, seed, asked.each)):
            if (kind == "cut" and number + 1 not in cuts) or (asked.kind and kind not in asked.kind) or hurt == data:
                continue
            found = formats.check(io.BytesIO(hurt), name, digest=False, counted=False)
            if str(found.state) != "damaged":
                continue
            result, made, said = repaired(hurt, name, found.format)
            back = words(made, f"x.{said}") if result == "intact" else Counter[str]()
            share = sum((back & healthy).values()) / max(healthy.total(), 1) if healthy else 1.0
            foreign = sorted(back.keys() - healthy.keys())
            own = len(foreign)
            if (form, kind) not in tables:
                samples[f"{form}-{kind}.{form}"] = hurt
            tables[form, kind].append((result, share, own))
            findings += result == "error"
            if asked.show and (result != "intact" or own > 0):
                print(
                    f"  {name:<34} {kind:<6} {what:<18} {result:<8} words {share:.2f} own {own} {said.strip().splitlines()[-1][:110]} {chr(32).join(foreign[:12])}"
                )
            if result == "error" and asked.show:
                print(said)
    for (form, kind), rows in sorted(tables.items()):
        intact = sum(result == "intact" for result, *_ in rows)
        share = sum(share for _, share, _ in rows) / len(rows)
        own = sum(own for *_, own in rows) / len(rows)
        counts = ", ".join(
            f"{n} {each}" for each, n in Counter(result for result, *_ in rows).items() if each != "intact"
        )
        print(
            f"{form:<6} {kind:<6} {len(rows):>5} tried, {intact / len(rows):>6.1%} whole, words {share:.3f}, own {own:.2f}  {counts}"
        )
    ratio, memory = as_commands(samples)
    every = [row for rows in tables.values() for row in rows]
    print(
        f"{len(every)} damaged: {sum(result == 'intact' for result, *_ in every) / max(len(every), 1):.1%} written whole, words {sum(s for _, s, _ in every) / max(len(every), 1):.3f}, "
        f"{findings} errors; {ratio:.1f} times the check ({LIMIT:.0f} asked), {memory >> 20} MB at most ({MEMORY} asked)"
    )
    return 1 if findings else 0


if __name__ == "__main__":
    sys.exit(main())
