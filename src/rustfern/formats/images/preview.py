"""A picture to look at: of an image file itself, or the small one that a document carries.

Source: OASIS OpenDocument 1.3 part 2, 3.7 (Thumbnails/thumbnail.png); ECMA-376 part 2, 9.1 and 10.1.4 (thumbnail of a package); OpenRaster
0.0.6 (mergedimage.png). Pillow opens nothing but the formats named here, and nothing larger than is said.
"""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, BinaryIO

from rustfern.core.errors import Malformed
from rustfern.formats.archives import zip as zips
from rustfern.formats.drawings.svg_render import draw, looks_drawn
from rustfern.formats.format_table import FORMATS
from rustfern.formats.interface import DEFAULT_LIMITS

if TYPE_CHECKING:
    from PIL.Image import Image

_OPENED = [*(info.pixels for info in FORMATS.values() if info.pixels), "PSD", "ICO", "PPM"]
_INSIDE = (
    "mergedimage.png", "preview.png", "Thumbnails/thumbnail.png", "docProps/thumbnail.jpeg", "docProps/thumbnail.jpg",
    "docProps/thumbnail.png", "Metadata/thumbnail.png", "previews/preview.png", "QuickLook/Thumbnail.jpg", "QuickLook/Thumbnail.png",
)  # fmt: skip
_DRAWN, _PAGES, _FILM = 8 << 20, 97 << 20, 193 << 20
_FILMS = frozenset({b"ftyp", b"moov", b"mdat", b"wide", b"\x1aE\xdf\xa3", b"RIFF"})
_MOST = 120_000_000
"""Pictures of more pixels are not opened for showing."""


def picture(stream: BinaryIO) -> tuple[Image, str] | None:
    """The picture, and where it is from (empty: it is the file's own); None if there is none that can be opened."""
    stream.seek(0)
    head = stream.read(4096)
    if head[:4] != b"PK\x03\x04":
        stream.seek(0)
        found = _open(stream)
        if found is None and head[:5] == b"%PDF-":
            from rustfern.formats.pages.pdf_render import first_page

            stream.seek(0)
            made = first_page(stream.read(_PAGES))
            return (shown, "") if made and (shown := _open(io.BytesIO(made))) else None
        if found is None and (head[4:8] in _FILMS or head[:4] in _FILMS):
            from rustfern.formats.media.frame import can_show, first_frame

            stream.seek(0)
            made = first_frame(stream.read(_FILM)) if can_show() else None
            return (shown, "") if made and (shown := _open(io.BytesIO(made))) else None
        if found is None and looks_drawn(head):
            stream.seek(0)
            made = draw(stream.read(_DRAWN))
            found = _open(io.BytesIO(made)) if made else None
        return (found, "") if found else None
    size = stream.seek(0, io.SEEK_END)
    try:
        archive = zips.Archive(stream, size, DEFAULT_LIMITS)
        for name in _INSIDE:
            if name not in archive.members:
                continue
            found = _open(io.BytesIO(archive.bytes_of(name)))
            # Some writers put a blank page there.
            if found and len(found.convert("L").getcolors(256) or ()) > 1:
                return found, name
    except Malformed:
        return None
    return None


def _open(stream: BinaryIO) -> Image | None:
    import warnings

    from PIL import Image, ImageFile, ImageOps

    from rustfern.formats.images.raster import heard

    before = ImageFile.LOAD_TRUNCATED_IMAGES
    # A damaged picture is shown as far as it goes; the verdict is not given here.
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    try:
        with warnings.catch_warnings(), heard():
            warnings.simplefilter("ignore")
            found = Image.open(stream, formats=_OPENED)
            if found.width * found.height > _MOST:
                return None
            found.load()
            return ImageOps.exif_transpose(found)
    except Exception:  # Pillow raises whatever a damaged picture leads it to
        return None
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = before
