"""What shows that the pieces of a document belong together: sums, codes, and marks that stand where its own tables say.

Source: the sums and chains of each format as its reader cites them. A check that finds nothing wrong is no proof where the format has neither: other
sound in the middle of a recording, or other rows in a picture that is not packed, read as well.
"""

from __future__ import annotations

from collections.abc import Sequence

from rustfern.formats.extents.interface import Bytes

_SUMMED = frozenset({
    "zip_packages.measure", "pictures.png", "pictures.jpeg", "pictures.gif", "media.ogg", "media.flac", "others.gzip", "others.xz", "others.bzip2",
    "others.sevenzip", "pdf.measure",
})  # fmt: skip
"""Formats of which a check that finds nothing wrong bears every piece out."""


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
