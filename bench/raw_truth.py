"""How much a raw search brings back: disks without any record, made of real documents, of known truth.

Each disk holds documents in whole pieces, in two pieces around other documents or around bytes of nobody, partly overwritten, and decoys: the marks that
documents begin with, before noise. Printed: what came back with its exact bytes, by format and kind of loss, and what was called intact and is not.
"""

from __future__ import annotations

import argparse
import hashlib
import io
import json
import random
import subprocess
import sys
import tarfile
import tempfile
from collections import Counter, defaultdict
from pathlib import Path

from rustfern.formats.extents.registry import BEGINNINGS

DATA = Path(__file__).parent.parent / "tests" / "data"
CLUSTER = 4096
PACKS = ("documents", "media", "office", "packages", "looks")
LEFT_OUT = ("damaged", "longtail", "scan-pages")
"""Damaged ones, and ones that end with zeros that nothing in them speaks of."""
KINDS = ("whole", "whole", "whole", "whole", "two, around a document", "two, around noise", "overwritten")


def documents() -> list[tuple[str, bytes]]:
    """(name, bytes) of the whole documents of the tests."""
    found: dict[str, tuple[str, bytes]] = {}
    for pack in PACKS:
        with tarfile.open(DATA / f"{pack}.tar.xz") as tar:
            for member in tar:
                if (
                    member.isfile()
                    and not any(word in member.name for word in LEFT_OUT)
                    and (stream := tar.extractfile(member)) is not None
                ):
                    data = stream.read()
                    if len(data) >= 1024:
                        found.setdefault(hashlib.sha256(data).hexdigest(), (member.name, data))
    return sorted(found.values())


def varied(name: str, data: bytes, chance: random.Random) -> bytes:
    """Another document of the same make, where its format takes a change that no reader minds."""
    ending = name.rpartition(".")[2].lower()
    mark = f"{chance.randrange(16**12):012x}".encode()
    if ending == "png":
        import zlib

        chunk = b"tEXtComment\0" + mark
        body = (len(chunk) - 4).to_bytes(4, "big") + chunk + zlib.crc32(chunk).to_bytes(4, "big")
        return data[:33] + body + data[33:]
    if ending in ("jpg", "jpeg"):
        return data[:2] + b"\xff\xfe\x00\x0e" + mark + data[2:]
    if data[:4] == b"PK\x03\x04" and ending in ("docx", "xlsx", "pptx", "odt", "ods", "odp", "odg", "epub"):
        import zipfile

        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
            for info in old.infolist():
                new.writestr(info, old.read(info))
            new.comment = mark
        return out.getvalue()
    return data


class Layout:
    """A disk while it is laid out."""

    def __init__(self) -> None:
        self.out = bytearray()
        self.truth: list[dict[str, object]] = []

    def fill(self) -> None:
        """To the end of the cluster."""
        self.out += bytes(-len(self.out) % CLUSTER)

    def note(self, name: str, data: bytes, kind: str, places: list[tuple[int, int]]) -> None:
        """Remember what was laid."""
        self.truth.append(
            {
                "name": name,
                "sha256": hashlib.sha256(data).hexdigest(),
                "kind": kind,
                "places": places,
                "size": len(data),
            }
        )


def between(chance: random.Random) -> bytes:
    """Bytes of nobody: zeros, noise, text, program code."""
    kind = chance.randrange(4)
    size = CLUSTER * chance.choice((1, 2, 3, 8, 40, 200))
    if kind == 0:
        return bytes(size)
    if kind == 1:
        return chance.randbytes(size)
    if kind == 2:
        return (b"the tide table of the quay is pinned beside the door\n" * (size // 53 + 1))[:size]
    with Path(sys.executable).open("rb") as stream:
        stream.seek(CLUSTER * chance.randrange(100))
        return stream.read(size).ljust(size, b"\0")


def lay(chance: random.Random, pool: list[tuple[str, bytes]], count: int, decoys: int) -> Layout:
    """One disk of so many documents."""
    made = Layout()
    made.out += bytes(64 * CLUSTER)
    chosen = [pool[n % len(pool)] for n in chance.sample(range(max(len(pool), count)), count)]
    todo = [(name, varied(name, data, chance)) for name, data in chosen]
    while todo:
        name, data = todo.pop()
        kind = chance.choice(KINDS)
        clusters = -(-len(data) // CLUSTER)
        start = len(made.out)
        if kind.startswith("two") and clusters >= 3:
            cut = CLUSTER * chance.randrange(1, clusters)
            made.out += data[:cut]
            if kind.endswith("document") and todo:
                other_name, other = todo.pop()
                at = len(made.out)
                made.out += other
                made.note(other_name, other, "whole", [(at, len(other))])
                made.fill()
            else:
                made.out += between(chance)
                made.fill()
            second = len(made.out)
            made.out += data[cut:]
            made.note(name, data, kind, [(start, cut), (second, len(data) - cut)])
        elif kind == "overwritten" and clusters >= 4:
            at = CLUSTER * chance.randrange(1, clusters - 1)
            size = CLUSTER * chance.randrange(1, clusters - at // CLUSTER)
            made.out += data[:at] + chance.randbytes(size) + data[at + size :]
            made.note(name, data, kind, [(start, len(data))])
        else:
            made.out += data
            made.note(name, data, "whole", [(start, len(data))])
        made.fill()
        if chance.random() < 0.4:
            made.out += between(chance)
            made.fill()
    for _ in range(decoys):
        each = chance.choice(BEGINNINGS)
        made.out += (chance.randbytes(each.at) + each.mark + chance.randbytes(512))[:512]
    made.fill()
    return made


def main() -> None:
    """Make disks, search each, print what came back."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--disks", type=int, default=10)
    parser.add_argument("--documents", type=int, default=200)
    parser.add_argument("--decoys", type=int, default=10_000, help="on each disk")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("-v", action="store_true", help="name each miss")
    asked = parser.parse_args()
    pool = documents()
    back: Counter[tuple[str, str]] = Counter()
    of: Counter[tuple[str, str]] = Counter()
    false = nested = 0
    for number in range(asked.disks):
        chance = random.Random(f"{asked.seed}/{number}")
        made = lay(chance, pool, asked.documents, asked.decoys)
        with tempfile.TemporaryDirectory() as folder:
            image = Path(folder) / "formatted.img"
            image.write_bytes(made.out)
            case = Path(folder) / "a.case"
            command = [sys.executable, "-m", "rustfern", "scan", str(image), "--raw", "--json", "--case", str(case)]
            done = subprocess.run(command, capture_output=True, check=False)
            answer = json.loads(done.stdout)
        copies = [copy for document in answer["documents"] for copy in document["copies"]]
        copies += [each for each in answer["unmatched"] if "state" in each]
        have = {copy["sha256"] for copy in copies}
        known = {row["sha256"] for row in made.truth}
        inside = defaultdict(list)
        for row in made.truth:
            for at, size in row["places"]:  # type: ignore[attr-defined]
                inside[row["kind"]].append((at, at + size))
        for row in made.truth:
            key = str(row["name"]).rpartition(".")[2].lower(), str(row["kind"])
            of[key] += 1
            back[key] += row["sha256"] in have
            if asked.v and row["sha256"] not in have and row["kind"] != "overwritten":
                print("  not back:", row["name"], row["kind"], row["size"], row["places"])
        for copy in copies:
            if copy["state"] == "intact" and copy["sha256"] not in known:
                at = copy["extents"][0][0]
                holder = next((row for row in made.truth if any(a <= at < a + n for a, n in row["places"])), None)  # type: ignore[attr-defined]
                if holder is not None and holder["kind"] == "overwritten" and at != holder["places"][0][0]:  # type: ignore[index]
                    nested += 1
                    continue
                false += 1
                print(
                    "  FALSE INTACT:",
                    copy["format"],
                    copy["path"].rpartition("/")[2],
                    copy["size"],
                    holder and (holder["name"], holder["kind"], holder["size"]),
                )
    for kind in sorted({kind for _, kind in of}):
        total, got = (
            sum(n for key, n in of.items() if key[1] == kind),
            sum(n for key, n in back.items() if key[1] == kind),
        )
        missed = {key[0]: n - back[key] for key, n in of.items() if key[1] == kind and n > back[key]}
        print(f"{kind:24} {got:5} of {total:5} exact ({got / total:.1%})  not back: {missed}")
    print(f"false intact {false}, left whole inside of overwritten ones {nested}, decoys {asked.disks * asked.decoys}")


if __name__ == "__main__":
    main()
