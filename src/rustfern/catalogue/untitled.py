"""Whether a name is what a program calls a text that was never saved."""

from __future__ import annotations

import os
import re

from rustfern.catalogue.words import UNTITLED

_UNTITLED = re.compile(
    rf"(?:{'|'.join(map(re.escape, sorted(UNTITLED, key=len, reverse=True)))})(?:[\s_\-.(]*\d{{1,4}}\)?)?"
)


def is_untitled(name: str) -> bool:
    """Whether a file name, with or without its ending, is what a program calls a text without a name: "Untitled-1", "Unbenannt 2.odt"."""
    folded = name.casefold().strip("#~. ")
    return any(_UNTITLED.fullmatch(each) for each in {folded, os.path.splitext(folded)[0]})
