"""How a document was put together again, and what is lost of it, in words."""

from __future__ import annotations

from collections.abc import Sequence

from rustfern.core.paths import show_name
from rustfern.repair.interface import Loss, LossKind, Step

_COUNTED = {
    LossKind.PARAGRAPHS: ("paragraph", "paragraphs"),
    LossKind.WORDS: ("word", "words"),
    LossKind.CELLS: ("cell", "cells"),
    LossKind.ROWS: ("row", "rows"),
    LossKind.SLIDES: ("slide", "slides"),
    LossKind.PAGES: ("page", "pages"),
    LossKind.SHEETS: ("sheet", "sheets"),
    LossKind.PICTURES: ("picture", "pictures"),
    LossKind.OBJECTS: ("object", "objects"),
    LossKind.ENTRIES: ("entry", "entries"),
    LossKind.MESSAGES: ("message", "messages"),
    LossKind.MEMBERS: ("member", "members"),
    LossKind.LAYERS: ("layer", "layers"),
    LossKind.PARTS: ("part", "parts"),
    LossKind.BYTES: ("byte", "bytes"),
}


def method(steps: Sequence[Step]) -> str:
    """How it was put together, as one sentence part."""
    return "; ".join(str(step) for step in steps)


def loss(lost: Loss) -> str:
    """What is missing, where, and about how much."""
    where = f" in {show_name(lost.where)}" if lost.where else ""
    place = ""
    if lost.start >= 0:
        place = f" (from byte {lost.start:,} on)" if lost.end < 0 else f" (bytes {lost.start:,} to {lost.end:,})"
    if lost.kind is LossKind.CELL_TEXTS:
        return (
            f"{lost.count:,} of the texts that cells share{where}{place}"
            if lost.count
            else f"texts of cells{where}{place}"
        )
    if lost.kind is LossKind.STYLES:
        of_sheets = ": styles, so dates may show as plain numbers" if lost.where.startswith("xl/") else ": styles"
        return f"how it looks{of_sheets}{where}{place}"
    if lost.kind is LossKind.UNPROVEN:
        return f"nothing that is known{where}: its sum does not fit, so read it through"
    if lost.kind is LossKind.WRONG:
        return f"certainty{where}{place}: what follows a wrong bit may be wrong too, so compare it with other copies"
    if lost.kind is LossKind.TAKEN:
        return f"its own {show_name(lost.where)}: that of {show_name(lost.text)}, another version, stands in its place"
    if lost.kind is LossKind.FOREIGN:
        return f"certainty of {lost.count:,} words, which could not be found in the damaged file again: {show_name(lost.text)}"
    if lost.kind is LossKind.ROWS and lost.text:
        return f"rows{where} behind row {lost.text}, nobody knows how many"
    if lost.kind is LossKind.ORDER:
        return f"certainty of place: {lost.count:,} pictures were put in by their order{where}, so compare them with the text"
    if lost.kind is LossKind.NAMES:
        return f"the names of {lost.count:,} sheets or tables{where}"
    if lost.kind is LossKind.FORMAT:
        return f"its own format: what is left was written as {lost.where}"
    if lost.kind is LossKind.REST:
        return f"all{where}{place}"
    one, many = _COUNTED[lost.kind]
    if (
        lost.kind in (LossKind.PICTURES, LossKind.PARTS, LossKind.SHEETS, LossKind.SLIDES, LossKind.MEMBERS)
        and lost.count == 1
        and lost.where
    ):
        return f"the {one} {show_name(lost.where)}{place}"
    if lost.count == 1:
        return f"about one {one}{where}{place}"
    return (
        f"about {lost.count:,} {many}{where}{place}" if lost.count else f"{many}{where}, nobody knows how many{place}"
    )
