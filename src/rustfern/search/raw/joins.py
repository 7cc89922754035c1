"""Each family of formats, and the ways in which one that breaks may go on; marked-up texts, which go on in text."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from rustfern.search.raw.join_media import film, flac, jpeg, ogg, png, sevenzip, tiff
from rustfern.search.raw.join_office import compound, package, pages
from rustfern.search.raw.join_ways import Cuts

if TYPE_CHECKING:
    from rustfern.search.raw.fragments import Trial

# --- texts ------------------------------------------------------------------------------------------------------------

_ROOT = re.compile(rb"<([A-Za-z_][\w.:-]*)")
_NOT_TEXT = re.compile(rb"[\x00-\x08\x0b\x0e-\x1a\x1c-\x1f\x7f]")


def structured(trial: Trial) -> Iterator[Cuts]:
    """Text goes on in text: a structure that closes where it should, and reads as well-formed, is one."""
    if not trial.begun.head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith((b"<", b"{", b"[")):
        return
    stop = trial.begun.reach.end
    places = trial.boundaries(max(stop - 2 * trial.cluster, 1), stop)
    root = _ROOT.search(trial.begun.head)
    close = b"</" + root[1] if root else b"}" if trial.begun.head.lstrip()[:1] == b"{" else b"]"
    for start, inner, data in trial.near.clusters(trial.cluster, trial.start % trial.cluster):
        if data[inner : inner + 1] in (b"\0", b"") or _NOT_TEXT.search(data, inner, inner + 64):
            continue
        found = _NOT_TEXT.search(data, inner)
        length = (found.start() if found else len(data)) - inner
        if data.find(close, inner, inner + length) < 0:
            continue
        for place in places:
            shift = start - trial.start - place
            if trial.fits(shift):
                yield [(place, shift)], place + length
        if trial.is_over:
            return


WAYS: dict[str, Callable[[Trial], Iterator[Cuts]]] = {
    "zip_packages.measure": package, "compound.measure": compound, "pdf.measure": pages, "pictures.png": png, "pictures.jpeg": jpeg,
    "pictures.tiff": tiff, "others.sevenzip": sevenzip, "media.boxes": film, "media.ogg": ogg, "media.flac": flac, "texts.text": structured,
}  # fmt: skip
"""Family → the ways in which one that breaks may go on."""
