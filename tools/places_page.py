#!/usr/bin/env python3
"""Write what is made of the catalogue: docs/places.md, and the one file that is read fast: tools/places_page.py [--check]

With --check nothing is written; the exit status is 1 if they are not what the catalogue says.
"""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from rustfern.catalogue.loader import BUILT, build
from rustfern.catalogue.page import markdown

PAGE = Path(__file__).resolve().parent.parent / "docs" / "places.md"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--check", action="store_true")
    given = parser.parse_args()
    wanted = {
        Path(BUILT): json.dumps(build(), indent=1) + "\n",
        PAGE: markdown(),
    }
    stale = [path for path, text in wanted.items() if not path.exists() or path.read_text("utf-8") != text]
    if given.check:
        for path in stale:
            print(f"{path.name} is not what the catalogue says: run tools/places_page.py", file=sys.stderr)
        return 1 if stale else 0
    for path, text in wanted.items():
        path.write_text(text, "utf-8")
    return 0


sys.exit(main())
