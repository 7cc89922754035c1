#!/usr/bin/env python3
"""Write docs/places.md from the catalogue: tools/places_page.py [--check]

With --check nothing is written; the exit status is 1 if the page is not what the catalogue says.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from rustfern.catalogue.page import markdown

PAGE = Path(__file__).resolve().parent.parent / "docs" / "places.md"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--check", action="store_true")
    given = parser.parse_args()
    text = markdown()
    if given.check:
        if PAGE.read_text("utf-8") != text:
            print("docs/places.md is not what the catalogue says: run tools/places_page.py", file=sys.stderr)
            return 1
        return 0
    PAGE.write_text(text, "utf-8")
    return 0


sys.exit(main())
