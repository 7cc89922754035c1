#!/usr/bin/env python3
"""How much damage is caught: thousands of seeded mutations of real documents, by format; and false alarms on whole ones.

    bench/check.py [--seed N] [--each N] [--format NAME]

From the documents in tests/data (office suites, python-docx, openpyxl, XlsxWriter, python-pptx, odfpy, pandoc, Pillow, ffmpeg, ImageMagick,
ghostscript, reportlab): cut at every 1 %, ranges of 512 B
to 64 KiB zeroed, bits flipped, blocks swapped, parts of packages left out. A mutation that leaves the bytes as they were does not count. Each miss is shown to an
independent reader, where one is installed (Pillow, python-docx, openpyxl, python-pptx, py7zr, pypdf, SQLite): one that it also refuses is a
miss that matters.
"""

from __future__ import annotations

import argparse
import importlib
import io
import json
import random
import sys
import tarfile
import tempfile
import warnings
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path

from rustfern.formats import registry as formats

DATA = Path(__file__).resolve().parent.parent / "tests" / "data"
KINDS = ("cut", "zeros", "flip", "swap", "part")
SUMMED = frozenset({"png", "ogg", "flac", "gz", "svgz", "xz", "zip", "epub", "3mf", "docx", "dotx", "xlsx", "xlsm", "pptx", "odt", "ott",
                    "ods", "odp", "odg"})  # fmt: skip
"""Formats whose every part carries a sum: each miss in them is looked at."""


def documents() -> Iterator[tuple[str, bytes]]:
    """(name, bytes) of whole documents."""
    for archive in ("packages.tar.xz", "media.tar.xz", "office.tar.xz", "documents.tar.xz"):
        with tarfile.open(DATA / archive) as source:
            whole = {m.name: source.extractfile(m).read() for m in source.getmembers() if m.isfile()}  # type: ignore[union-attr]
        known = {row["path"]: row for row in json.loads(whole.pop("manifest.json", b"[]"))}
        for name, data in whole.items():
            if not known or known[name]["expect_state"] == ["intact"]:
                yield name.rpartition("/")[2], data


def mutations(name: str, data: bytes, seed: random.Random, each: int) -> Iterator[tuple[str, str, bytes]]:
    """(kind, what was done, bytes)."""
    for percent in range(1, 100):
        yield "cut", f"{percent} %", data[: len(data) * percent // 100]
    for _ in range(each):
        length = min(512 << seed.randrange(8), max(len(data) // 2, 1))
        at = seed.randrange(max(len(data) - length, 1))
        yield "zeros", f"{length} at {at}", data[:at] + bytes(length) + data[at + length :]
        at = seed.randrange(len(data))
        yield "flip", f"{at}", data[:at] + bytes([data[at] ^ 1 << seed.randrange(8)]) + data[at + 1 :]
        if not name.endswith(".zip") and (left := without_a_part(data, seed)) is not None:
            yield "part", *left
        block = min(4096, len(data) // 4)
        if block:
            one, two = sorted(seed.sample(range(len(data) // block), 2))
            parts = [data[n : n + block] for n in range(0, len(data), block)]
            parts[one], parts[two] = parts[two], parts[one]
            yield "swap", f"{one} and {two} of {block}", b"".join(parts)


def without_a_part(data: bytes, seed: random.Random) -> tuple[str, bytes] | None:
    """A ZIP package made anew with one of its parts left out."""
    if data[:2] != b"PK":
        return None
    with zipfile.ZipFile(io.BytesIO(data)) as source:
        gone = seed.choice([name for name in source.namelist() if not name.endswith("/") and name != "mimetype"])
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as target:
            for member in source.infolist():
                if member.filename != gone:
                    target.writestr(
                        member, source.read(member), zipfile.ZIP_STORED if member.filename == "mimetype" else None
                    )
    return gone, out.getvalue()


def headers_only(data: bytes, hurt: bytes) -> bool:
    """Whether a mutation of a ZIP package changed nothing that its members hold: times, rights and comments carry no sum."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as one, zipfile.ZipFile(io.BytesIO(hurt)) as two:
            return one.namelist() == two.namelist() and all(one.read(name) == two.read(name) for name in one.namelist())
    except (zipfile.BadZipFile, OSError, ValueError, zlib.error, NotImplementedError, EOFError):
        return False


READERS = {
    "png": "pillow", "jpg": "pillow", "gif": "pillow", "tiff": "pillow", "bmp": "pillow", "webp": "pillow", "docx": "docx", "dotx": "docx",
    "xlsx": "openpyxl", "xlsm": "openpyxl", "pptx": "pptx", "7z": "py7zr", "sqlite": "sqlite3", "pdf": "pypdf",
}  # fmt: skip


def refused_elsewhere(form: str, data: bytes) -> str | None:
    """The independent reader that refuses the bytes too, None if none does, or none is installed."""
    name = READERS.get(form)
    if name is None:
        return None
    stream = io.BytesIO(data)
    try:
        if name == "sqlite3":
            import sqlite3

            with tempfile.NamedTemporaryFile(suffix=".sqlite") as file:
                Path(file.name).write_bytes(data)
                sound = sqlite3.connect(file.name).execute("pragma integrity_check").fetchall() == [("ok",)]
            return None if sound else name
        module = importlib.import_module("PIL.Image" if name == "pillow" else name)
    except ImportError:
        return None
    except Exception:  # any refusal counts
        return name
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error" if name == "pillow" else "ignore")
            if name == "pillow":
                module.open(stream).load()
            elif name == "docx":
                module.Document(stream)
            elif name == "openpyxl":
                module.load_workbook(stream)
            elif name == "pptx":
                module.Presentation(stream)
            elif name == "py7zr":
                with module.SevenZipFile(stream) as archive:
                    return name if archive.testzip() else None
            else:
                for page in module.PdfReader(stream, strict=True).pages:
                    page.extract_text()
    except Exception:  # any refusal counts
        return name
    return None


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=20261123)
    parser.add_argument("--each", type=int, default=12)
    parser.add_argument("--format")
    parser.add_argument("-v", action="store_true", help="every miss")
    given = parser.parse_args()
    seed = random.Random(given.seed)
    table: dict[str, dict[str, list[int]]] = {}
    alarms, matter = 0, 0
    for name, data in documents():
        whole = formats.check(io.BytesIO(data), name)
        if whole.format is None or (given.format and whole.format != given.format):
            continue
        if whole.state == "unreadable":
            print(f"not verified: {name} ({whole.reason})")
            continue
        if whole.state not in ("intact", "encrypted"):
            alarms += 1
            print(f"false alarm: {name} is called {whole.state} ({whole.reason})")
            continue
        rows = table.setdefault(whole.format, {kind: [0, 0] for kind in KINDS})
        for kind, what, hurt in mutations(name, data, seed, given.each):
            if hurt == data:
                continue
            found = formats.check(io.BytesIO(hurt), name)
            rows[kind][1] += 1
            rows[kind][0] += found.state not in ("intact", "encrypted")
            if found.state == "intact":
                if whole.format in SUMMED and data[:2] == b"PK" and headers_only(data, hurt):
                    rows[kind][0] += 1  # nothing of the document was hurt
                    continue
                serious = refused_elsewhere(whole.format, hurt)
                matter += serious is not None
                if given.v or serious or whole.format in SUMMED:
                    print(
                        f"missed: {name}, {kind} {what}: {found.reason[:80]}{f' ({serious} refuses it)' if serious else ''}"
                    )
    count = sum(all_ for rows in table.values() for _, all_ in rows.values())
    print(f"{count} mutations; a format's row: caught / made")
    print(f"{'format':8}" + "".join(f"{kind:>16}" for kind in KINDS))
    for name, rows in sorted(table.items()):
        print(f"{name:8}" + "".join(f"{f'{caught}/{all_}':>16}" for caught, all_ in rows.values()))
    print(f"false alarms on whole documents: {alarms}; misses that another reader refuses: {matter}")
    return 1 if alarms or matter else 0


if __name__ == "__main__":
    sys.exit(main())
