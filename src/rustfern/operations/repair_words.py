"""How a document was put together again, and what is lost of it, in words."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

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
    LossKind.FRAMES: ("picture", "pictures"),
    LossKind.SOUND: ("frame of sound", "frames of sound"),
}


def method(steps: Sequence[Step]) -> str:
    """How it was put together, as one sentence part."""
    return "; ".join(str(step) for step in steps)


def amounts(kept: Mapping[str, int]) -> list[str]:
    """How much of what is in a document, for people."""
    told = [f"{kept['width']:,} × {kept['height']:,} pixels"] if {"width", "height"} <= kept.keys() else []
    return told + [
        f"{count:,} {name if count != 1 else name.removesuffix('s')}"
        for name, count in kept.items()
        if count and not (told and name in ("width", "height"))
    ]


_SAID = {
    LossKind.STYLES: "how it looks: styles{where}{place}",
    LossKind.UNPROVEN: "certainty{where}: its sum does not fit, so read it through",
    LossKind.WRONG: "certainty{where}{place}: what follows a wrong bit may be wrong too, so compare it with other copies",
    LossKind.TAKEN: "its own {name}: that of {text}, another version, stands in its place",
    LossKind.FOREIGN: "certainty of {count:,} words, which could not be found in the damaged file again: {text}",
    LossKind.SIGNS: "signs in {count:,} places{where}, which refer to what is missing: … stands for them where they are text",
    LossKind.ORDER: "certainty of place: {count:,} pictures were put in by their order{where}, so compare them with the text",
    LossKind.NAMES: "the names of {count:,} sheets or tables{where}",
    LossKind.FORMAT: "its own format: what is left was written as {name}",
    LossKind.REST: "{rest}{where}{place}",
    LossKind.BLOCKS: "certainty of {count:,} pictures from {text} on: what they build on is gone, so they may show wrong blocks (--strict leaves them out)",
    LossKind.LARGE: "the picture itself: only the small one in its head is left",
    LossKind.AREA: "about {count:,} % of the picture",
    LossKind.SIZE: "certainty: its size was told by its rows",
    LossKind.COLOURS: "its own colours: others stand for them",
    LossKind.DETAIL: "sharpness: {count:,} of its layers of detail are whole",
    LossKind.HEAD: "its own head: size and codes were taken from the sample",
    LossKind.DEPTH: "certainty: whether the colours have 8 bits or 10, nothing in it tells: 8 were taken; if they drift, name a healthy recording with --like",
    LossKind.EDGE: "certainty: its size stood in the index, and the pictures tell only whole blocks: up to {count:,} rows and columns at the right and lower edge may be filling, or be hidden",
    LossKind.UNLIKE: "certainty: {text} does not fit this recording and was not used",
    LossKind.TRIED: "certainty: how its pictures are coded was found by trying, so colours may be too strong or too weak: compare, or name a healthy recording with --like",
    LossKind.STRENGTH: "certainty: how strongly its pictures are coded nothing in it tells, and the usual strength was taken: where they look washed out, harsh or smeared, name a healthy recording by the same camera with --like",
    LossKind.UNHEARD: "its sound ({text}): nothing in the bytes marks where such sound begins and ends",
    LossKind.PACE: "certainty: how fast it plays is a guess, as nothing in it tells: compare it with how long it was",
    LossKind.LIKE: "certainty: how it must be read was taken from {text}, so see whether it plays",
}
"""What is said of losses that are not counted things."""
_ONE = re.compile(r"\b1 (word|place|picture)s\b")
_NAMED = (LossKind.PICTURES, LossKind.PARTS, LossKind.SHEETS, LossKind.SLIDES, LossKind.MEMBERS)


def loss(lost: Loss) -> str:
    """What is missing, where, and about how much."""
    name = show_name(lost.where)
    where = f" in {name}" if lost.where else ""
    place = ""
    if lost.start >= 0:
        place = f" (from byte {lost.start:,} on)" if lost.end < 0 else f" (bytes {lost.start:,} to {lost.end:,})"
    if (said := _SAID.get(lost.kind)) is not None:
        told = said.format(
            where=where,
            place=place,
            name=name,
            text=show_name(lost.text),
            count=lost.count,
            rest="the rest" if place else "all",
        )
        dates = lost.kind is LossKind.STYLES and lost.where.startswith("xl/")
        told = _ONE.sub(lambda found: f"one {found[1]}", told)
        return f"{told}, so dates may show as plain numbers" if dates else told
    if lost.kind is LossKind.CELL_TEXTS:
        many = f"{lost.count:,} of the texts" if lost.count else "texts"
        return f"{many} that cells share{where}{place}"
    if lost.kind is LossKind.ROWS and lost.text:
        return f"rows{where} behind row {lost.text}, nobody knows how many"
    one, many = _COUNTED[lost.kind]
    if lost.text and lost.kind in (LossKind.FRAMES, LossKind.SOUND):
        place = f" (at {lost.text})"
    if lost.kind in _NAMED and lost.count == 1 and lost.where:
        return f"the {one} {name}{place}"
    if lost.count == 1:
        return f"about one {one}{where}{place}"
    return (
        f"about {lost.count:,} {many}{where}{place}" if lost.count else f"{many}{where}, nobody knows how many{place}"
    )
