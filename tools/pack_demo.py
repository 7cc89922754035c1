#!/usr/bin/env python3
"""Put the demo customer's disk together from the captured homes in tests/data/homes, as data of the package.

    tools/pack_demo.py        writes src/rustfern/demo/data/disk.tar.gz

Marlow Quay Boatyard: one Windows machine and two Linux machines, five people's homes. Times are those of the captures; the
same input gives the same bytes.
"""

from __future__ import annotations

import gzip
import io
import re
import tarfile
from pathlib import Path

HERE = Path(__file__).resolve().parent.parent
HOMES = HERE / "tests" / "data" / "homes"
TARGET = HERE / "src" / "rustfern" / "demo" / "data" / "disk.tar.gz"

# (captured home, machine on the demo disk, what is left out)
PARTS = (
    ("win-text-powercut-cfb", "office-pc", r"~WRA0002|Letter to the crane firm\.asd"),
    ("win-power-cut-zeros", "office-pc", r"/Temp/|/Recent/"),
    ("win-sheet-overwritten", "office-pc", r"/Temp/|Offcuts|CAFE2024"),
    ("win-text-never-saved", "office-pc", r"Document2|Presentation1|Book1"),
    ("office-writer-odt-crash", "slipway-pc2", r"Old/notes"),
    ("gedit-overwritten", "slipway-pc2", r"quote old"),
    ("trash-home", "slipway-pc2", r"berth list\.md~|oak|report|bergabe|slipway-morning|gone for good"),
    ("office-createbackup-overwritten", "slipway-pc2", r"Old/notes"),
    ("office-calc-xlsx-crash", "loft-laptop", r"Old/notes"),
)


def main() -> None:
    members: dict[str, tuple[tarfile.TarInfo, bytes]] = {}
    for case, machine, left_out in PARTS:
        with tarfile.open(HOMES / f"{case}.tar.gz") as source:
            for member in source.getmembers():
                if not member.isfile() or re.search(left_out, member.name):
                    continue
                stream = source.extractfile(member)
                assert stream is not None
                member.name = f"{machine}/{member.name}"
                member.mode = 0o644
                members.setdefault(member.name, (member, stream.read()))
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w", format=tarfile.PAX_FORMAT) as target:
        for name in sorted(members):
            info, data = members[name]
            fixed = tarfile.TarInfo(name)
            fixed.size, fixed.mtime, fixed.mode = len(data), int(info.mtime), 0o644
            target.addfile(fixed, io.BytesIO(data))
    TARGET.parent.mkdir(parents=True, exist_ok=True)
    TARGET.write_bytes(gzip.compress(buffer.getvalue(), 9, mtime=0))
    print(f"{TARGET.relative_to(HERE)}: {len(members)} files, {TARGET.stat().st_size} bytes")


main()
