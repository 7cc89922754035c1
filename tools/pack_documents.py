#!/usr/bin/env python3
"""Pack documents of known state as test data: tools/pack_documents.py FOLDER --to tests/data/documents.tar.xz [--largest BYTES]

FOLDER holds `manifest.json` (path, format, expect_state, extension_right …) and the files. Formats that are not verified to
their end are left out.
"""

from __future__ import annotations

import argparse
import io
import json
import lzma
import tarfile
from pathlib import Path

FORMATS = frozenset(
    ["docx", "odt", "ods", "odp", "odg", "xlsx", "pptx", "doc", "xls", "ppt", "txt", "zip", "epub", "fodt", "json"]
)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--to", type=Path, required=True)
    parser.add_argument("--largest", type=int, default=200_000)
    given = parser.parse_args()
    kept = []
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w") as target:
        for row in sorted(
            json.loads((given.folder / "manifest.json").read_text()), key=lambda row: row["path"].split("/")[-1]
        ):
            data = (given.folder / row["path"]).read_bytes()
            if row["format"] not in FORMATS or len(data) > given.largest:
                continue
            kept.append({key: row[key] for key in ("path", "format", "expect_state", "damage", "extension_right")})
            info = tarfile.TarInfo(row["path"])
            info.size = len(data)
            target.addfile(info, io.BytesIO(data))
        listing = json.dumps(kept, indent=1).encode()
        info = tarfile.TarInfo("manifest.json")
        info.size = len(listing)
        target.addfile(info, io.BytesIO(listing))
    given.to.write_bytes(lzma.compress(buffer.getvalue(), preset=9 | lzma.PRESET_EXTREME))
    print(f"{given.to}: {len(kept)} documents, {given.to.stat().st_size} bytes")


main()
