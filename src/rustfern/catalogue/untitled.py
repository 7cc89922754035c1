"""Whether a name is what a program calls a text that was never saved."""

from __future__ import annotations

import os
import re

from rustfern.catalogue.words import PLAIN_UNTITLED, UNTITLED

_UNTITLED = re.compile(
    rf"(?:{'|'.join(map(re.escape, sorted(UNTITLED, key=len, reverse=True)))})(?:[\s_\-.(]*\d{{1,4}}\)?)?"
)


def is_untitled(name: str) -> bool:
    """Whether a file name, with or without its ending, is what a program calls a text without a name: "Untitled-1", "Unbenannt 2.odt"."""
    folded = name.casefold().strip("#~. ")
    return any(_UNTITLED.fullmatch(each) for each in {folded, os.path.splitext(folded)[0]})


_WORDS = "|".join(re.escape(word).replace(r"\ ", "[ _-]") for word in sorted(UNTITLED, key=len, reverse=True))
MENTIONS = re.compile(_WORDS)
"""Finds, in folded names, what may be one that a program made up."""
_NUMBERED = r"[ _.(-]*\d[\w-]{0,40}\)?"
_MADE_UP = re.compile(rf"({_WORDS})({_NUMBERED}|[ _.-][\w-]{{6,40}})?")


def is_untitled_working_file(name: str) -> bool:
    """Whether a program names its working file so while a text has no name, in a temporary folder: as `is_untitled`, with a process's number or
    random letters behind it. Words that stand for any document need a number.
    """
    stem = os.path.splitext(name.casefold().strip("#~. "))[0]
    found = _MADE_UP.fullmatch(stem)
    if found is None:
        return False
    return found[1] not in PLAIN_UNTITLED or re.fullmatch(_NUMBERED, found[2] or "") is not None
