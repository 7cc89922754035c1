#!/usr/bin/env python3
"""Pack folders or archives of captured homes as small test data: the documents, the places, a little clutter.

    tools/pack_homes.py CAPTURE... --to tests/data/homes

CAPTURE is a folder that holds `tree.tar.gz` and `truth.json`. Caches, thumbnails and the like are left out; times are kept,
owners are not. The same input gives the same bytes.
"""

from __future__ import annotations

import argparse
import gzip
import io
import json
import re
import tarfile
from pathlib import Path

LEAVE_OUT = re.compile(
    r"/(?:Cache_Data|Chrome|INetCache/IE|thumbcache|CrashDumps|UProof|OfficeFileCache|Floodgate|MruServiceCache|Caches|pack|gallery"
    r"|database|uno_packages|extensions|com\.apple\.[a-z]+/C|Explorer|Recent|Preferences/com)(?:/|$)"
    r"|NTUSER\.DAT|ntuser|\.regtrans-ms|UsrClass|_Rules\.xml|\.db$|/WebCache/|Temp/(?:TCD|is-|MSI|wct[0-5])|Library/Caches",
    re.IGNORECASE,
)
LARGE = 6_000
KEEP = (
    "document",
    "document_name",
    "loss",
    "best",
    "acceptable",
    "not_intact",
    "links",
    "guessed",
    "marker_unsaved",
    "made_by",
    "ask",
)


def pack(folder: Path, to: Path) -> None:
    truth = json.loads((folder / "truth.json").read_text())
    named = {truth.get("document"), truth.get("best"), *truth.get("acceptable", []), *truth.get("not_intact", [])}
    links = truth.get("links", [])
    named |= {link[key] for link in links for key in ("remnant", "original")} | set(truth.get("distractors", []))
    near = {name.rpartition("/")[0] for name in named if name}
    buffer = io.BytesIO()
    with tarfile.open(folder / "tree.tar.gz") as source, tarfile.open(fileobj=buffer, mode="w") as target:
        for member in sorted(source.getmembers(), key=lambda m: m.name):
            name = member.name.removeprefix("./")
            if not name or name == "." or (LEAVE_OUT.search("/" + name) and name not in named):
                continue
            clutter = name.rpartition("/")[0] not in near and name not in named
            if member.isfile() and clutter and member.size > LARGE and not name.endswith(".xcu"):
                continue
            if name.endswith(".pdf") and name not in named:
                continue
            member.name, member.uid, member.gid, member.uname, member.gname = name, 0, 0, "", ""
            member.pax_headers = {}
            target.addfile(member, source.extractfile(member) if member.isfile() else None)
    to.mkdir(parents=True, exist_ok=True)
    (to / f"{folder.name}.tar.gz").write_bytes(gzip.compress(buffer.getvalue(), 9, mtime=0))
    facts = {key: truth[key] for key in KEEP if key in truth}
    (to / f"{folder.name}.json").write_text(json.dumps(facts, indent=1, ensure_ascii=False) + "\n")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("captures", nargs="+", type=Path)
    parser.add_argument("--to", type=Path, required=True)
    given = parser.parse_args()
    for folder in given.captures:
        pack(folder, given.to)


main()
