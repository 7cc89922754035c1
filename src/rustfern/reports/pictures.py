"""Pictures for people: written as a file, and two of them held against one another."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from rustfern.core.command_answers import PictureDifference
from rustfern.core.errors import WrongUsage
from rustfern.operations.targets import write_new

if TYPE_CHECKING:
    from PIL.Image import Image

_UNLIKE = 12
"""Colours that differ by less (of 255) are the same to the eye, as after packing anew."""
_GAP = 12


class Differing(msgspec.Struct, frozen=True):
    """How two pictures differ: their sizes, the share of differing pixels (0 to 1; None where the sizes differ), the box that holds all of
    those (left, upper, right, lower, in pixels), and a picture that shows it: both side by side, the box framed.
    """

    sizes: tuple[tuple[int, int], tuple[int, int]]
    share: float | None
    box: tuple[int, int, int, int] | None
    shown: Image

    def facts(self) -> PictureDifference:
        """What can be said in numbers."""
        box = list(self.box) if self.box is not None else None
        return PictureDifference(sizes=[list(size) for size in self.sizes], share=self.share, box=box)


def differing(left: Image, right: Image) -> Differing:
    """Compare two pictures pixel by pixel."""
    import numpy as np
    from PIL import Image, ImageDraw

    flat = [_flat(each) for each in (left, right)]
    share, box = None, None
    if flat[0].size == flat[1].size:
        apart = np.abs(np.asarray(flat[0], np.int16) - np.asarray(flat[1], np.int16)).max(axis=2) > _UNLIKE
        share = float(apart.mean())
        rows, columns = np.flatnonzero(apart.any(axis=1)), np.flatnonzero(apart.any(axis=0))
        if len(rows):
            box = int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1
    height = max(each.height for each in flat)
    shown = Image.new("RGB", (flat[0].width + _GAP + flat[1].width, height), "white")
    at = 0
    for each in flat:
        shown.paste(each, (at, 0))
        if box:
            wide = max(each.width // 100, 2)
            frame = (at + box[0] - wide, box[1] - wide, at + box[2] + wide, box[3] + wide)
            ImageDraw.Draw(shown).rectangle(frame, outline=(255, 90, 50), width=wide)
        at += each.width + _GAP
    return Differing((flat[0].size, flat[1].size), share, box, shown)


def _flat(picture: Image) -> Image:
    from PIL import Image

    coloured = picture.convert("RGBA")
    flat = Image.new("RGB", coloured.size, "white")
    flat.paste(coloured, mask=coloured.getchannel("A"))
    return flat


def write(picture: Image, target: str, roots: Sequence[str] = ()) -> None:
    """Write a picture as `.png`. Raises `WrongUsage` for another ending, or where it cannot be written."""
    if not target.lower().endswith(".png"):
        raise WrongUsage("a picture is written as .png", target, "Name it so: --picture copy.png")
    made = io.BytesIO()
    _flat(picture).save(made, "PNG")
    write_new(target, made.getvalue(), "picture", roots)
