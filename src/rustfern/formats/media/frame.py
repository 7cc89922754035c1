"""A frame of a film as a picture, for showing it, where a decoder is installed (the extra `films`). It is made in a process of its own, which is stopped when it
takes long.
"""

from __future__ import annotations

import importlib.util
import io
import sys
from typing import Any

from rustfern.formats.drawn_aside import drawn_aside

_MOST, _PATIENCE, _WIDTH = 192 << 20, 20, 640


def can_show() -> bool:
    """Whether there is a decoder of films."""
    return importlib.util.find_spec("av") is not None


def first_frame(data: bytes) -> bytes | None:
    """A frame near the beginning of a film as PNG; None without a decoder, where none can be made, or where it takes too long."""
    if len(data) > _MOST or not can_show():
        return None
    return drawn_aside("rustfern.formats.media.frame", data, _PATIENCE)


def main() -> None:
    """The process of its own: a film comes in, a picture goes out."""
    import av

    film: Any = av.open(io.BytesIO(sys.stdin.buffer.read()))
    with film:
        shown = next(film.decode(video=0)).to_image()
    shown.thumbnail((_WIDTH, _WIDTH))
    made = io.BytesIO()
    shown.save(made, "PNG")
    sys.stdout.buffer.write(made.getvalue())


if __name__ == "__main__":
    main()
