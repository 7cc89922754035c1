"""What shows that the pieces of a document belong together: sums, codes, and marks that stand where its own tables say.

Source: the sums and chains of each format as its reader cites them. A check that finds nothing wrong is no proof where the format has neither: other
sound in the middle of a recording, or other rows in a picture that is not packed, read as well.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from rustfern.formats.extents.interface import Bytes

_SUMMED = frozenset({
    "zip_packages.measure", "pictures.png", "pictures.jpeg", "pictures.gif", "media.ogg", "media.flac", "others.gzip", "others.xz", "others.bzip2",
    "others.sevenzip", "pdf.measure",
})  # fmt: skip
"""Formats of which a check that finds nothing wrong bears every piece out."""


_WEAK = frozenset({
    "compound.measure", "pictures.tiff", "pictures.bmp", "pictures.layered", "media.riff", "media.iff", "media.boxes", "media.mp3", "media.aac",
    "media.matroska", "media.asf", "media.flv", "others.sqlite", "others.tar", "others.eps_with_preview",
})  # fmt: skip
"""Formats that hold bytes of which nothing is checked."""


def is_weak(measure: str) -> bool:
    """Whether a document of this family may hold another's bytes, and its check finds nothing wrong."""
    return measure in _WEAK


_SAMPLED = frozenset({"pictures.tiff", "pictures.bmp", "pictures.layered", "media.riff", "media.iff"})
"""Formats whose sound or pixels may lie as they are."""
_CLUSTER, _MOST_LOOKED_AT = 4096, 64 << 20
_NOISE, _CALM, _MOST_STRANGE, _MANY_LETTERS = 7.93, 7.6, 0.6, 12


def strange_part(measure: str, data: Bytes) -> int | None:
    """Where in sound or pixels that lie as they are something else lies: noise (as packed bytes are), or text, while the rest is neither. None if nothing does.

    Of 4096 bytes of noise the entropy is about 7.955 bits; sound and pixels keep below that, as neighbours are alike.
    """
    if measure not in _SAMPLED:
        return None
    told: list[float] = []
    for at in range(0, min(len(data), _MOST_LOOKED_AT) // _CLUSTER * _CLUSTER, _CLUSTER):
        piece = np.frombuffer(data[at : at + _CLUSTER], np.uint8)
        counts = np.bincount(piece, minlength=256)
        if (
            at
            and int(counts[32:127].sum() + counts[9] + counts[10] + counts[13]) == len(piece)
            and int((counts > 0).sum()) > _MANY_LETTERS
        ):
            return at
        shares = counts[counts > 0] / len(piece)
        told.append(float(-(shares * np.log2(shares)).sum()))
    strange = [n for n, value in enumerate(told) if value >= _NOISE]
    if (
        strange
        and len(strange) <= _MOST_STRANGE * len(told)
        and float(np.median([v for v in told if v < _NOISE])) < _CALM
    ):
        return strange[0] * _CLUSTER
    return None


def proves(measure: str, data: Bytes, pieces: Sequence[int]) -> bool:
    """Whether a document that was found whole in pieces of these lengths (bytes) is shown to be all its own."""
    if len(pieces) < 2 or measure in _SUMMED:
        return True
    if measure != "compound.measure":
        return False
    from rustfern.formats.extents.compound import anchors

    at, marks = 0, anchors(data)
    for length in pieces:
        if not any(at <= mark < at + length for mark in marks):
            return False
        at += length
    return True
