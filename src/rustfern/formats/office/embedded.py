"""What both package families ask of their contents: are the pictures in them whole, is there anything in them at all."""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator

from rustfern.core.errors import Malformed, Refused
from rustfern.formats.interface import DEFAULT_LIMITS
from rustfern.formats.text_sink import TextSink

_PICTURES = (".png", ".jpg", ".jpeg", ".gif")
_MAX = 32 << 20
_OTHER = ("media/", "embeddings/", "charts/", "diagrams/", "pictures/", "object", "activex/", "ink/")


def check_member(chunks: Iterable[bytes], name: str, size: int) -> None:
    """Read a member that is no XML to its end; a picture is checked by its own format. Raises `Malformed`."""
    lower = name.casefold()
    # A thumbnail is no part of the work; its sum has been compared all the same.
    if not lower.endswith(_PICTURES) or "thumbnail" in lower or not 0 < size <= _MAX:
        for _ in chunks:
            pass
        return
    data = b"".join(chunks)
    try:
        check_picture(data)
    except Malformed as error:
        if not isinstance(error, Refused):
            raise Malformed(f"it opens, but the picture {name} in it is damaged: {error}") from error


def check_picture(data: bytes) -> None:
    from rustfern.formats.images import jpeg, png, raster

    stream, sink = io.BytesIO(data), TextSink()
    if data[:8] == b"\x89PNG\r\n\x1a\n":
        png.check(stream, len(data), "", sink, DEFAULT_LIMITS)
    elif data[:4] == b"GIF8":
        raster.check(stream, len(data), "", sink, DEFAULT_LIMITS)
    elif data[:3] == b"\xff\xd8\xff":
        jpeg.read(data, alone=False)
    elif not data.strip(b"\0"):
        raise Malformed("only zeros", 0)


def is_blank(format_name: str, sink: TextSink, drawn: int, names: Iterator[str] | Iterable[str]) -> bool:
    """Whether a text or a workbook is valid but holds nothing of anybody's: no words, no pictures, nothing drawn."""
    if sink.pieces or drawn or format_name[:3] not in ("doc", "odt", "dot", "ott", "xls", "ods", "xlt", "ots"):
        return False
    return not any(part in name.casefold() for name in names for part in _OTHER)


BLANK = "valid, but nothing is in it: a blank document"
